//! `named.conf` (named.conf(5)): permitted clients of recursion, zones and zone transfers.
//!
//! Long because views, zones and the lists they refer to are evaluated together, as the server does.

use super::recursion;
use crate::addresses;
use crate::braces::{Comments, Statement, statements};
use crate::reader::{LineRecorder, Open, ReadContext, Reader, Reading, Recognition, TELLING_LINES};
use crate::serving::{self, hold, is_known, truth};
use std::collections::BTreeMap;
use trevlin_model::secret::SecretKind;
use trevlin_model::served::{
    AuthRequirement, Endpoint, PartKind, Remark, Served, ServedKind, ServiceResource, ServiceWeakness,
    Sources, TransportSecurity,
};
use trevlin_model::{DefaultValue, Export, Families, LineClass, Origin, Protocol, Setting};

/// The reader.
pub(crate) const READER: Reader =
    Reader { name: "named", title: "DNS server (BIND)", manual: "named.conf(5)", recognise, read };

/// How deep lists that name others are followed.
const DEPTH: usize = 16;

/// Represents lists nested further: sources that are not known.
const FURTHER: &str = "nested lists beyond the limit";

fn recognise(export: &Export) -> Recognition {
    let tells = export.lines().take(TELLING_LINES).any(|line| {
        let text = line.text.trim_start();
        let first = text.split_whitespace().next().unwrap_or_default();
        (matches!(first, "zone" | "view" | "key" | "acl") && text.contains('"') && text.contains('{'))
            || ["recursion ", "allow-recursion", "allow-transfer", "listen-on-v6", "dnssec-validation "]
                .iter()
                .any(|one| text.starts_with(one))
    });
    let named = export.file_name().starts_with("named.conf")
        || (export.path().contains("bind/")
            && export.file_name().starts_with("named")
            && export.file_name().contains(".conf"));
    match (tells, named) {
        (true, _) => Recognition::Content,
        (false, true) => Recognition::Name,
        _ => Recognition::No,
    }
}

fn included<'a>(line: &str, named_in: &Export, around: &ReadContext<'a>) -> Vec<&'a Export> {
    let mut words = line.split_whitespace();
    match words.next() {
        Some("include") => words
            .next()
            .map_or_else(Vec::new, |path| around.find_all(path.trim_matches([';', '"']), named_in)),
        _ => Vec::new(),
    }
}

struct World<'a> {
    around: &'a ReadContext<'a>,
    open: Vec<(String, Origin)>,
}

impl<'a> World<'a> {
    fn tree(
        &mut self,
        export: &'a Export,
        files: &mut Vec<&'a str>,
        book: &mut LineRecorder<'_>,
    ) -> Vec<Statement<'a>> {
        let own = statements(export, export.text(), Comments::HashAndSlashes, book);
        let mut found = Vec::new();
        for one in own {
            if one.name() != "include" {
                found.push(one);
                continue;
            }
            book.understood(one.origin);
            let others = self.around.find_all(one.value(), export);
            if others.is_empty() {
                let keys = one.value().ends_with(".key")
                    || one.value().contains("default-zones")
                    || one.value().contains("rfc1918");
                if !keys {
                    let text = crate::reader::missing_note(one.value());
                    book.note(one.origin, text.clone());
                    self.open.push((text, one.origin));
                }
            }
            for other in others {
                if !book.may_read_in(one.origin, other, Open::of(files, other), usize::MAX) {
                    continue;
                }
                files.push(other.path());
                found.extend(self.tree(other, files, book));
            }
        }
        found
    }
}

const JUDGED: [&str; 15] = [
    "options",
    "view",
    "zone",
    "acl",
    "key",
    "secret",
    "algorithm",
    "listen-on",
    "listen-on-v6",
    "recursion",
    "allow-recursion",
    "allow-query",
    "allow-query-cache",
    "allow-transfer",
    "controls",
];

fn account(all: &[Statement<'_>], depth: usize, book: &mut LineRecorder<'_>) {
    for one in all {
        let name = one.name();
        if JUDGED.contains(&name) {
            book.understood(one.origin);
        } else if is_known("named", name) || name.is_empty() {
            book.class(one.origin, LineClass::Ignored);
        } else {
            book.not_understood(one.origin, serving::unknown("named.conf(5); the server refuses to start"));
        }
        if matches!(name, "options" | "view" | "zone" | "key") && depth < 3 {
            account(one.children(), depth + 1, book);
        }
    }
}

fn read(export: &Export, around: &ReadContext<'_>) -> Reading {
    let mut reading = Reading::of(export);
    let mut book = LineRecorder::new(export, &mut reading.ledger, &mut reading.elsewhere);
    let mut world = World { around, open: Vec::new() };
    let tree = world.tree(export, &mut vec![export.path()], &mut book);
    account(&tree, 0, &mut book);
    // What the server checks over the whole file (named-checkconf(8)).
    let options = tree.iter().filter(|one| one.name() == "options").skip(1);
    for one in options {
        book.not_understood(one.origin, "`options` is defined a second time; the server refuses to start");
    }
    if tree.iter().any(|one| one.name() == "view") {
        for one in tree.iter().filter(|one| one.name() == "zone") {
            book.not_understood(
                one.origin,
                "beside views every zone must be in one; the server refuses to start",
            );
        }
    }
    keys(export, &tree, &mut reading);
    if around.has_main(&["named.conf"], export) {
        // Files that the main file does not include are not in force.
        if !around.reads_in(export, included) {
            reading.ledger = Reading::of(export).ledger;
        }
        return reading;
    }
    let nothing = Vec::new();
    let options = tree.iter().rev().find(|one| one.name() == "options");
    let lists = Lists::of(&tree);
    let origin = options.or(tree.first()).map_or_else(|| export.origin(0..0), |one| one.origin);
    let mut served = Served::new(ServedKind::Names, "BIND", "DNS server (BIND)", &["named", "bind9"], origin);
    served.open = world.open;
    let settings = options.map_or(&nothing, |one| one.block.as_ref().unwrap_or(&nothing));
    served.endpoints = endpoints(settings, &lists, origin);
    let views: Vec<&Statement<'_>> = tree.iter().filter(|one| one.name() == "view").collect();
    if views.is_empty() {
        served.parts.extend(lookups(&[settings], &lists, origin));
        zones(&tree, &[settings], &lists, &mut served.parts);
    }
    // The first view whose clients fit is the one that answers.
    let mut left = Sources::everybody();
    for view in views {
        let own = view.children();
        let clients = view
            .last("match-clients")
            .map_or_else(Sources::everybody, |one| lists.sources(one.children(), one.origin));
        let here = left.and(&clients);
        left = left.without(&clients.ranges);
        let mut parts = Vec::new();
        parts.extend(lookups(&[settings, own], &lists, view.origin));
        zones(own, &[settings, own], &lists, &mut parts);
        for mut part in parts {
            part.sources = part.sources.and(&here);
            if !part.sources.is_nobody() {
                served.parts.push(part);
            }
        }
    }
    served.weaknesses = weak_keys(&tree);
    reading.facts.served.push(served);
    reading
}

/// Keys with HMAC-MD5, each once.
fn weak_keys(tree: &[Statement<'_>]) -> Vec<(ServiceWeakness, Origin)> {
    let keys = tree.iter().filter(|one| one.name() == "key");
    let weak = keys.filter_map(|key| {
        let algorithm = key.last("algorithm")?;
        algorithm.value().to_ascii_lowercase().starts_with("hmac-md5").then_some(algorithm.origin)
    });
    weak.map(|line| (ServiceWeakness::Md5Keys, line)).collect()
}

fn keys(export: &Export, tree: &[Statement<'_>], reading: &mut Reading) {
    for key in tree.iter().filter(|one| one.name() == "key") {
        let secret = key.last("secret").map(|one| one.value()).filter(|_| key.origin.export == export.id());
        if let Some(secret) = secret {
            hold(
                export,
                &mut reading.facts,
                secret,
                SecretKind::SharedKey,
                &format!("DNS key {}", key.value()),
            );
        }
    }
}

/// Lists of addresses by name.
struct Lists<'s, 'a>(BTreeMap<&'a str, &'s [Statement<'a>]>);

impl<'s, 'a> Lists<'s, 'a> {
    fn of(tree: &'s [Statement<'a>]) -> Self {
        Self(tree.iter().filter(|one| one.name() == "acl").map(|one| (one.value(), one.children())).collect())
    }

    /// The first matching element decides; addresses without a match are excluded.
    fn sources(&self, elements: &[Statement<'a>], origin: Origin) -> Sources {
        let mut found = self.collect(elements, 0);
        if !found.is_everybody() {
            found.origins.push(origin);
        }
        found
    }

    fn collect(&self, elements: &[Statement<'a>], depth: usize) -> Sources {
        let mut left = Sources::everybody();
        let mut found = Sources::default();
        for one in elements {
            if !crate::growth::may_grow(left.ranges.len() * size_of::<trevlin_model::IpRange>()) {
                found.names.push(FURTHER.into());
                break;
            }
            let mut words = one.words.as_slice();
            let negated = words.first().is_some_and(|word| word.starts_with('!'));
            if words.first() == Some(&"!") {
                words = &words[1..];
            }
            let word = words.first().map_or("", |word| word.trim_start_matches('!'));
            let meant = if one.block.is_some() {
                if depth < DEPTH {
                    self.collect(one.children(), depth + 1)
                } else {
                    Sources { names: vec![FURTHER.into()], ..Sources::default() }
                }
            } else {
                self.named(word, words, depth)
            };
            if !negated {
                found.ranges.extend(left.and(&Sources { names: Vec::new(), ..meant.clone() }).ranges);
                found.names.extend(meant.names);
            }
            left = left.without(&meant.ranges);
        }
        found
    }

    fn named(&self, word: &str, words: &[&'a str], depth: usize) -> Sources {
        let mut found = Sources::default();
        match word {
            "any" => found = Sources::everybody(),
            "none" | "" => {}
            "localhost" => found.ranges.extend(serving::loopback()),
            "localnets" => found.names.push("its connected networks".into()),
            "key" => {
                found.names.push(format!("holders of the key {}", words.get(1).copied().unwrap_or_default()))
            }
            _ => match (self.0.get(word), addresses::prefix(word)) {
                (Some(list), _) if depth < DEPTH => found = self.collect(list, depth + 1),
                (_, Some(net)) => found.ranges.push(net.into()),
                _ => found.names.push(word.to_owned()),
            },
        }
        found
    }
}

/// The last statement of a name in the innermost block that has one.
fn inherited<'s, 'a>(blocks: &[&'s [Statement<'a>]], name: &str) -> Option<&'s Statement<'a>> {
    blocks.iter().rev().find_map(|block| block.iter().rev().find(|one| one.name() == name))
}

/// Clients whose recursive queries are answered: `allow-recursion`, otherwise `allow-query-cache`, otherwise `allow-query`, otherwise
/// attached networks.
fn lookups(blocks: &[&[Statement<'_>]], lists: &Lists<'_, '_>, origin: Origin) -> Option<ServiceResource> {
    if inherited(blocks, "recursion").is_some_and(|one| truth(one.value()) == Some(false)) {
        return None;
    }
    let stated = ["allow-recursion", "allow-query-cache", "allow-query"]
        .into_iter()
        .find_map(|name| inherited(blocks, name));
    let (sources, line) = match stated {
        Some(one) => (lists.sources(one.children(), one.origin), one.origin),
        None => {
            let names = vec!["its connected networks".to_owned()];
            let line = inherited(blocks, "recursion").map_or(origin, |one| one.origin);
            (Sources { ranges: serving::loopback().to_vec(), names, origins: vec![line] }, line)
        }
    };
    (!sources.is_nobody()).then(|| recursion(sources, line))
}

/// Clients whose queries for hosted zones are answered: a resource for each statement that limits them, and one where none does.
fn answers(zones: &[(&str, Option<&Statement<'_>>, Origin)], lists: &Lists<'_, '_>) -> Vec<ServiceResource> {
    let mut groups: Vec<(Option<&Statement<'_>>, Origin, Vec<&str>)> = Vec::new();
    for (zone, stated, origin) in zones {
        let of_line = |one: Option<&Statement<'_>>| one.map(|one| one.origin);
        match groups.iter_mut().find(|(said, ..)| of_line(*said) == of_line(*stated)) {
            Some((_, _, names)) => names.push(zone),
            None => groups.push((*stated, *origin, vec![zone])),
        }
    }
    let part = |(stated, origin, names): (Option<&Statement<'_>>, Origin, Vec<&str>)| {
        let name = match names.as_slice() {
            [name] => format!("zone {name}"),
            names => format!("{} zones", names.len()),
        };
        let mut part = ServiceResource::new(PartKind::Whole, name, stated.map_or(origin, |one| one.origin))
            .labelled(names.join(" "));
        part.sources =
            stated.map_or_else(Sources::everybody, |one| lists.sources(one.children(), one.origin));
        part.login = Setting::Stated { value: AuthRequirement::Nothing, origin: part.origin };
        part
    };
    groups.into_iter().map(part).filter(|part| !part.sources.is_nobody()).collect()
}

/// Hosted zones: clients that may query, transfer or update them.
fn zones(
    tree: &[Statement<'_>],
    outer: &[&[Statement<'_>]],
    lists: &Lists<'_, '_>,
    parts: &mut Vec<ServiceResource>,
) {
    let mut kept = Vec::new();
    for zone in tree.iter().filter(|one| one.name() == "zone") {
        let kind = zone.last("type").map_or("", |one| one.value());
        // Default zones for unassigned addresses are irrelevant (RFC 6303).
        let empty = zone.value() == "localhost"
            || zone.value().ends_with("127.in-addr.arpa")
            || matches!(zone.value(), "0.in-addr.arpa" | "255.in-addr.arpa")
            || zone.last("file").is_some_and(|one| one.value().ends_with("db.empty"));
        if empty || !matches!(kind, "master" | "primary" | "slave" | "secondary") {
            continue;
        }
        let mut blocks = outer.to_vec();
        blocks.push(zone.children());
        kept.push((zone.value(), inherited(&blocks, "allow-query"), zone.origin));
        let transfer = inherited(&blocks, "allow-transfer");
        let sources =
            transfer.map_or_else(Sources::everybody, |one| lists.sources(one.children(), one.origin));
        let update =
            zone.last("allow-update").map(|one| (lists.sources(one.children(), one.origin), one.origin));
        let line = transfer.map_or(zone.origin, |one| one.origin);
        let mut part =
            ServiceResource::new(PartKind::Whole, format!("transfer of zone {}", zone.value()), line)
                .labelled(zone.value());
        part.sources = sources;
        part.login = match transfer {
            Some(one) => Setting::Stated { value: AuthRequirement::Nothing, origin: one.origin },
            None => Setting::Default(
                [(AuthRequirement::Nothing, "before 9.20"), (AuthRequirement::Refused, "9.20 and later")]
                    .map(|(value, versions)| DefaultValue {
                        value,
                        daemon: "BIND",
                        versions,
                        source: "named.conf(5), allow-transfer",
                    })
                    .into(),
            ),
        };
        part.remarks.push((Remark::Listing, line));
        if !part.sources.is_nobody() {
            parts.push(part);
        }
        if let Some((sources, line)) = update.filter(|one| !one.0.ranges.is_empty()) {
            let mut part = ServiceResource::new(
                PartKind::Whole,
                format!("dynamic updates of zone {}", zone.value()),
                line,
            )
            .labelled(zone.value());
            part.sources = sources;
            part.login = Setting::Stated { value: AuthRequirement::Address, origin: line };
            part.writes = Setting::Stated { value: true, origin: line };
            parts.push(part);
        }
    }
    parts.extend(answers(&kept, lists));
}

/// `listen-on port N { addresses; }`; by itself every address of both versions.
fn endpoints(settings: &[Statement<'_>], lists: &Lists<'_, '_>, origin: Origin) -> Vec<Endpoint> {
    let mut found = Vec::new();
    for (name, families) in [("listen-on", Families::V4), ("listen-on-v6", Families::V6)] {
        let stated: Vec<&Statement<'_>> = settings.iter().filter(|one| one.name() == name).collect();
        let mut at = |port: u16, address: Option<std::net::IpAddr>, line: Origin| {
            for protocol in [Protocol::UDP, Protocol::TCP] {
                let all = Endpoint {
                    families,
                    ..Endpoint::everywhere(protocol, port, TransportSecurity::Plain, line)
                };
                found.push(match address {
                    Some(address) => all.at(address),
                    None => all,
                });
            }
        };
        if stated.is_empty() {
            at(53, None, origin);
        }
        for one in stated {
            let port = one
                .words
                .iter()
                .position(|word| *word == "port")
                .and_then(|at| one.words.get(at + 1)?.parse().ok());
            let sources = lists.sources(one.children(), one.origin);
            if sources.is_everybody() || !sources.names.is_empty() {
                at(port.unwrap_or(53), None, one.origin);
                continue;
            }
            for range in sources.ranges.iter().filter(|range| families.has(range.family())) {
                let host = if range.first().is_loopback() && range.family() == trevlin_model::Family::V4 {
                    [127, 0, 0, 1].into()
                } else {
                    range.first()
                };
                at(port.unwrap_or(53), Some(host), one.origin);
            }
        }
    }
    found
}

#[cfg(test)]
mod tests {
    use super::*;
    use trevlin_model::ExportId;

    fn of(text: &str) -> Reading {
        let export = Export::new(ExportId(0), "d/etc/bind/named.conf", text.into());
        read(&export, &ReadContext::of(vec![&export]))
    }

    #[test]
    fn what_the_server_checks_over_the_whole_file() {
        for (text, wanted) in [
            ("options { recursion no; };\noptions { recursion yes; };\n", 1),
            (
                "view \"a\" { zone \"x.example\" { type primary; }; };\nzone \"y.example\" { type primary; };\n",
                1,
            ),
            ("options { recursion no; };\nzone \"y.example\" { type primary; };\n", 0),
        ] {
            let export = Export::new(trevlin_model::ExportId(0), "d/etc/bind/named.conf", text.to_owned());
            let reading = read(&export, &ReadContext::of(vec![&export]));
            assert_eq!(reading.ledger.notes.len(), wanted, "{text}: {:?}", reading.ledger.notes);
        }
    }

    #[test]
    fn who_may() {
        for (text, wanted) in [
            ("options { };\n", &["recursion for clients: its connected networks"][..]),
            ("options { recursion no; };\n", &[]),
            ("options { allow-recursion { any; }; };\n", &["recursion for clients: any address"]),
            ("options { allow-query { any; }; };\n", &["recursion for clients: any address"]),
            (
                "options { allow-query { any; }; allow-recursion { 10.4.0.0/16; }; };\n",
                &["recursion for clients: 10.4.0.0/16"],
            ),
            (
                "acl near { ! 10.4.9.0/24; 10.4.0.0/16; };\noptions { allow-recursion { near; }; };\n",
                &["recursion for clients: 10.4.0.0-10.4.8.255, 10.4.10.0-10.4.255.255"],
            ),
            (
                "acl \"a\" { \"b\"; };\nacl \"b\" { \"a\"; };\noptions { allow-recursion { a; }; };\n",
                &["recursion for clients: a"],
            ),
            (
                "options { recursion no; allow-transfer { none; }; };\nzone \"yard.example\" { type master; file \"x\"; };\n",
                &["zone yard.example: any address"],
            ),
            (
                "options { recursion no; allow-transfer { none; }; allow-query { 10.4.0.0/16; }; };\nzone \"a\" { type \
                 primary; };\nzone \"b\" { type primary; };\nzone \"c\" { type primary; allow-query { none; }; };\n",
                &["2 zones: 10.4.0.0/16"],
            ),
            (
                "options { recursion no; };\nzone \"yard.example\" { type primary; file \"x\"; };\n",
                &["transfer of zone yard.example: any address", "zone yard.example: any address"],
            ),
            (
                "options { recursion no; };\nzone \"y\" { type primary; allow-transfer { key k; }; allow-update { 10.4.0.9; }; };\n",
                &[
                    "transfer of zone y: holders of the key k",
                    "dynamic updates of zone y: 10.4.0.9",
                    "zone y: any address",
                ],
            ),
            (
                "view near { match-clients { 10.4.0.0/16; }; recursion yes; allow-recursion { any; }; };\nview far { recursion no; };\n",
                &["recursion for clients: 10.4.0.0/16"],
            ),
        ] {
            let reading = of(text);
            let line = |part: &ServiceResource| format!("{}: {}", part.name, part.sources.words());
            assert_eq!(reading.facts.served[0].parts.iter().map(line).collect::<Vec<_>>(), wanted, "{text}");
            assert!(reading.ledger.notes.is_empty(), "{text}: {:?}", reading.ledger.notes);
        }
    }

    #[test]
    fn places_secrets_and_mistakes() {
        for (text, wanted) in [
            ("", "V4 None 53, V6 None 53"),
            ("listen-on { 127.0.0.1; }; listen-on-v6 { none; };", "V4 Some(127.0.0.1) 53"),
            (
                "listen-on port 5353 { 10.4.0.9; }; listen-on-v6 { any; };",
                "V4 Some(10.4.0.9) 5353, V6 None 53",
            ),
        ] {
            let reading = of(&format!("options {{ {text} }};\n"));
            let udp = reading.facts.served[0].endpoints.iter().filter(|one| one.protocol == Protocol::UDP);
            let told: Vec<String> =
                udp.map(|one| format!("{:?} {:?} {}", one.families, one.address, one.port)).collect();
            assert_eq!(told.join(", "), wanted, "{text}");
        }
        let reading = of(
            "key \"k\" { algorithm hmac-sha256; secret \"U2VzYW1lOTk=\"; };\ncolour red;\ninclude \"/etc/bind/more\";\n",
        );
        assert_eq!((reading.facts.secrets.len(), reading.ledger.notes.len()), (1, 2));
        assert!(!format!("{reading:?}").contains("U2VzYW1lOTk"));
    }
}
