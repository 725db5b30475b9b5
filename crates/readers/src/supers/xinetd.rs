//! `xinetd.conf` and the files of its folder (xinetd.conf(5)).
//!
//! Addresses of `only_from` and `no_access` match by their length: the longer one decides, and at the same length a client is refused.

use super::{Started, port};
use crate::iptables::protocol;
use crate::programs::options::{file_name, words_of};
use crate::reader::{LineRecorder, ReadContext, Reader, Reading, Recognition, missing_note};
use crate::serving;
use ipnet::IpNet;
use std::net::IpAddr;
use trevlin_model::relay::Relay;
use trevlin_model::served::Sources;
use trevlin_model::{Export, Families, IpRange, LineClass, Origin, Protocol};

/// The reader.
pub(crate) const READER: Reader = Reader {
    name: "xinetd",
    title: "services of a super-server (xinetd)",
    manual: "xinetd.conf(5)",
    recognise: |export| match export.path() {
        path if path.contains("/xinetd.d/") => Recognition::Name,
        path if path == "xinetd.conf" || path.ends_with("/xinetd.conf") => Recognition::Name,
        _ => Recognition::No,
    },
    read,
};

/// Attributes that become facts.
const JUDGED: [&str; 19] = [
    "bind",
    "disable",
    "disabled",
    "enabled",
    "flags",
    "id",
    "include",
    "includedir",
    "interface",
    "libwrap",
    "no_access",
    "only_from",
    "port",
    "protocol",
    "redirect",
    "server",
    "server_args",
    "socket_type",
    "type",
];

/// Attributes that decide nothing that is judged.
const KNOWN: [&str; 33] = [
    "access_times",
    "banner",
    "banner_fail",
    "banner_success",
    "cps",
    "deny_time",
    "env",
    "group",
    "groups",
    "instances",
    "log_on_failure",
    "log_on_success",
    "log_type",
    "max_load",
    "mdns",
    "nice",
    "passenv",
    "per_source",
    "rlimit_as",
    "rlimit_cpu",
    "rlimit_data",
    "rlimit_files",
    "rlimit_rss",
    "rlimit_stack",
    "rpc_number",
    "rpc_version",
    "umask",
    "user",
    "v6only",
    "wait",
    "nonconverter",
    "socket_backlog",
    "enable",
];

/// How a value is set: whole, or added to or taken from a list.
#[derive(Clone, Copy, PartialEq, Eq)]
enum Sign {
    Set,
    Add,
    Take,
}

/// One attribute with its values.
struct Attribute<'a> {
    name: &'a str,
    sign: Sign,
    values: Vec<&'a str>,
    origin: Origin,
}

/// A block; that of defaults has no name.
struct Block<'a> {
    name: Option<&'a str>,
    attributes: Vec<Attribute<'a>>,
    origin: Origin,
}

impl<'a> Block<'a> {
    fn last(&self, name: &str) -> Option<&Attribute<'a>> {
        self.attributes.iter().rev().find(|one| one.name == name)
    }

    fn has(&self, name: &str, value: &str) -> bool {
        self.attributes
            .iter()
            .any(|one| one.name == name && one.values.iter().any(|own| own.eq_ignore_ascii_case(value)))
    }
}

/// Content of a file.
#[derive(Default)]
struct Content<'a> {
    blocks: Vec<Block<'a>>,
    /// Files and folders that it reads in.
    included: Vec<(&'a str, &'a str, Origin)>,
    /// Lines of another form.
    strange: Vec<Origin>,
    /// Lines with attributes, and whether each is known.
    lines: Vec<(Origin, &'a str)>,
}

fn content(export: &Export) -> Content<'_> {
    let mut found = Content::default();
    let mut open = false;
    for text in serving::entries(export) {
        let origin = export.origin_of(text);
        let mut words = text.split_whitespace();
        let first = words.next().unwrap_or_default();
        match first.trim_end_matches('{') {
            "" => open = true,
            "}" => open = false,
            "service" if !open => {
                found.blocks.push(Block {
                    name: words.next().map(|name| name.trim_end_matches('{')),
                    attributes: Vec::new(),
                    origin,
                });
                open = text.ends_with('{');
                found.lines.push((origin, "id"));
            }
            "defaults" if !open => {
                found.blocks.push(Block { name: None, attributes: Vec::new(), origin });
                open = text.ends_with('{');
                found.lines.push((origin, "id"));
            }
            "include" | "includedir" if !open => {
                let path = words.next().unwrap_or_default();
                found.included.push((
                    if first == "include" { "include" } else { "includedir" },
                    path,
                    origin,
                ));
                found.lines.push((origin, "include"));
            }
            _ if open => {
                let (name, sign, values) = match text.split_once('=') {
                    Some((name, values)) => match name.trim_end().chars().last() {
                        Some('+') => (name.trim_end().trim_end_matches('+'), Sign::Add, values),
                        Some('-') => (name.trim_end().trim_end_matches('-'), Sign::Take, values),
                        _ => (name, Sign::Set, values),
                    },
                    None => {
                        found.strange.push(origin);
                        continue;
                    }
                };
                let name = name.trim();
                found.lines.push((origin, name));
                if let Some(block) = found.blocks.last_mut() {
                    let values = values.split_whitespace().collect();
                    block.attributes.push(Attribute { name, sign, values, origin });
                }
            }
            _ => found.strange.push(origin),
        }
    }
    found
}

fn read(export: &Export, around: &ReadContext<'_>) -> Reading {
    let mut reading = Reading::of(export);
    let own = content(export);
    let mut book = LineRecorder::new(export, &mut reading.ledger, &mut reading.elsewhere);
    for origin in &own.strange {
        book.not_understood(*origin, "expected `attribute = value`, or `service NAME` with a block");
    }
    for (origin, name) in &own.lines {
        if JUDGED.contains(name) {
            book.understood(*origin);
        } else if KNOWN.contains(name) {
            book.class(*origin, LineClass::Ignored);
        } else {
            book.not_understood(*origin, serving::unknown("xinetd.conf(5)"));
        }
    }
    for (kind, path, origin) in &own.included {
        if *kind == "include" && around.find(path, export).is_none() {
            book.note(*origin, missing_note(path));
        }
    }
    // A file of the folder is in force where the main one reads the folder in, and by its name (xinetd.conf(5), includedir).
    let main = around.find("/etc/xinetd.conf", export).filter(|main| main.path() != export.path());
    let other = main.map(content);
    let named = |one: &Content<'_>| {
        let folder = export.path().rsplit_once('/').map_or("", |(folder, _)| folder);
        one.included.iter().any(|(kind, path, _)| match *kind {
            "include" => export.path().ends_with(path.trim_start_matches('/')),
            _ => {
                folder.ends_with(path.trim_matches('/'))
                    && !export.file_name().contains('.')
                    && !export.file_name().ends_with('~')
            }
        })
    };
    if other.as_ref().is_some_and(|main| !named(main)) {
        return reading;
    }
    let defaults = other.as_ref().unwrap_or(&own).blocks.iter().find(|block| block.name.is_none());
    for block in &own.blocks {
        let Some(name) = block.name else { continue };
        let id = block.last("id").and_then(|one| one.values.first()).copied().unwrap_or(name);
        if is_off(block, id, defaults) {
            continue;
        }
        service(block, name, id, defaults, export, around, &mut reading);
    }
    reading
}

/// Whether a service is not started (xinetd.conf(5), disable, enabled, disabled).
fn is_off(block: &Block<'_>, id: &str, defaults: Option<&Block<'_>>) -> bool {
    let listed = |name: &str| {
        let lists: Vec<_> =
            defaults.iter().flat_map(|one| &one.attributes).filter(|one| one.name == name).collect();
        (!lists.is_empty()).then(|| lists.iter().any(|one| one.values.contains(&id)))
    };
    block.has("disable", "yes")
        || block.has("flags", "DISABLE")
        || listed("disabled") == Some(true)
        || listed("enabled") == Some(false)
}

fn service<'a>(
    block: &Block<'a>,
    name: &'a str,
    id: &'a str,
    defaults: Option<&Block<'a>>,
    export: &'a Export,
    around: &ReadContext<'a>,
    reading: &mut Reading,
) {
    let first = |name: &str| block.last(name).and_then(|one| Some((*one.values.first()?, one.origin)));
    let origin = block.origin;
    if block.has("type", "RPC") || block.has("type", "TCPMUX") || block.has("type", "TCPMUXPLUS") {
        return;
    }
    let stream = first("socket_type").is_none_or(|one| one.0 == "stream");
    let usual = if stream { Protocol::TCP } else { Protocol::UDP };
    let transport = first("protocol").and_then(|one| protocol(one.0)).unwrap_or(usual);
    let mut book = LineRecorder::new(export, &mut reading.ledger, &mut reading.elsewhere);
    let Some(port) = first("port").map_or_else(|| port(name), |one| one.0.parse().ok()) else {
        book.not_understood(origin, format!("the port of `{name}` is not known; write `port = NUMBER`"));
        return;
    };
    let bound = first("bind").or_else(|| first("interface")).or_else(|| {
        defaults
            .and_then(|one| one.last("bind").or_else(|| one.last("interface")))
            .and_then(|one| Some((*one.values.first()?, one.origin)))
    });
    let address: Option<IpAddr> = bound.and_then(|one| one.0.parse().ok());
    let families = match (block.has("flags", "IPv4"), block.has("flags", "IPv6")) {
        (true, false) => Families::V4,
        _ => Families::Both,
    };
    let mut words: Vec<&str> = first("server").into_iter().map(|one| one.0).collect();
    let arguments = block.last("server_args").map(|one| one.values.clone()).unwrap_or_default();
    let named = block.has("flags", "NAMEINARGS");
    if named && words.first().is_some_and(|word| file_name(word) == "tcpd") {
        words = arguments;
    } else {
        words.extend(arguments.into_iter().skip(usize::from(named)));
    }
    let internal = block.has("type", "INTERNAL") || block.has("flags", "SENSOR");
    if internal {
        words.clear();
    }
    let redirect = block.last("redirect").filter(|one| one.values.len() == 2);
    let listed = match (first("libwrap"), redirect.is_some(), internal) {
        _ if block.has("flags", "NOLIBWRAP") => None,
        (Some((name, _)), ..) => Some(name),
        (None, true, _) => Some(name),
        (None, _, true) => Some(id),
        (None, ..) => words.first().map(|word| file_name(word)),
    };
    let started = Started {
        program: "xinetd",
        units: &["xinetd"],
        name,
        protocol: transport,
        families,
        addresses: address.filter(|one| !one.is_unspecified()).into_iter().collect(),
        port,
        words: words_of(&words, origin),
        sources: sources(block, defaults),
        listed,
        origin,
    };
    if let Some(onward) = redirect
        && let Ok(to) = onward.values[1].parse()
    {
        let mut relay =
            Relay::new("xinetd", format!("relay of xinetd ({name})"), (onward.values[0], to), onward.origin);
        relay.units.push("xinetd".into());
        relay.endpoints =
            started.places().into_iter().map(trevlin_model::served::Endpoint::as_relay).collect();
        relay.sources = started.sources;
        reading.facts.relays.push(relay);
        return;
    }
    if let Some(served) = started.served(export, around) {
        super::add(served, reading);
    }
}

/// Values of a list: those of the block, on top of the defaults where it has none or adds to them.
fn list<'b, 'a>(
    block: &'b Block<'a>,
    defaults: Option<&'b Block<'a>>,
    name: &str,
) -> Option<(Vec<&'a str>, Vec<Origin>)> {
    let of = |block: &'b Block<'a>| -> Vec<&'b Attribute<'a>> {
        block.attributes.iter().filter(|one| one.name == name).collect()
    };
    let own = of(block);
    let inherits = own.iter().all(|one| one.sign != Sign::Set);
    let mut all = if inherits { defaults.map(of).unwrap_or_default() } else { Vec::new() };
    all.extend(own);
    if all.is_empty() {
        return None;
    }
    let (mut values, mut lines) = (Vec::new(), Vec::new());
    for one in all {
        lines.push(one.origin);
        match one.sign {
            Sign::Take => {
                // The same network may be written in another way.
                let gone: Vec<IpNet> = one.values.iter().flat_map(|value| networks(value)).collect();
                values.retain(|value: &&str| {
                    let own = networks(value);
                    !one.values.contains(value)
                        && (own.is_empty() || own.iter().any(|net| !gone.contains(net)))
                });
            }
            _ => values.extend(one.values.iter().copied()),
        }
    }
    Some((values, lines))
}

/// Networks of a list of hosts, and names.
fn hosts(values: &[&str]) -> (Vec<IpNet>, Vec<String>) {
    let (mut nets, mut names) = (Vec::new(), Vec::new());
    for value in values {
        let found = networks(value);
        if found.is_empty() {
            names.push((*value).to_owned());
        }
        nets.extend(found);
    }
    (nets, names)
}

/// Networks of one value: zeros at its end are any number, and braces hold several last numbers.
fn networks(value: &str) -> Vec<IpNet> {
    if let Ok(net) = value.parse::<IpNet>() {
        return vec![net.trunc()];
    }
    if let Some((before, list)) = value.strip_suffix('}').and_then(|value| value.split_once('{')) {
        let parts = list.split(',').map(|last| format!("{before}{}", last.trim()));
        return parts.filter_map(|text| beginning(&text)).collect();
    }
    match value.parse::<IpAddr>() {
        Ok(IpAddr::V4(address)) => {
            let octets = address.octets();
            let kept = octets.iter().rposition(|one| *one != 0).map_or(0, |at| at + 1);
            IpNet::new(address.into(), kept as u8 * 8).into_iter().collect()
        }
        Ok(address) => vec![address.into()],
        Err(_) => Vec::new(),
    }
}

/// `10.4.9`: the network of an address's first numbers.
fn beginning(text: &str) -> Option<IpNet> {
    let parts: Vec<u8> = text.split('.').map(str::parse).collect::<Result<_, _>>().ok()?;
    let mut octets = [0; 4];
    octets.get_mut(..parts.len())?.copy_from_slice(&parts);
    IpNet::new(IpAddr::from(octets), parts.len() as u8 * 8).ok()
}

/// Clients that a service accepts.
fn sources(block: &Block<'_>, defaults: Option<&Block<'_>>) -> Sources {
    let only = list(block, defaults, "only_from");
    let without = list(block, defaults, "no_access");
    let mut found = Sources::default();
    found.origins.extend(only.iter().chain(&without).flat_map(|one| one.1.iter().copied()));
    let lists = only.is_some();
    let (only, names) = only.map(|one| hosts(&one.0)).unwrap_or_default();
    let (without, _) = without.map(|one| hosts(&one.0)).unwrap_or_default();
    // From the longest to the shortest, refusals first.
    let mut rules: Vec<(bool, IpNet)> = only.into_iter().map(|net| (true, net)).collect();
    rules.extend(without.into_iter().map(|net| (false, net)));
    rules.sort_by_key(|(permits, net)| (std::cmp::Reverse(net.prefix_len()), *permits));
    let rules = rules.into_iter().map(|(permits, net)| {
        let sources = Sources::of(vec![IpRange::from(net)], Vec::new());
        (permits, sources, block.origin)
    });
    let admitted = serving::first_match(rules, lists);
    found.ranges = admitted.ranges;
    found.names = names;
    found
}
