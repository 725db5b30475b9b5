//! NIS: its servers' lists of clients and maps (ypserv.conf(5), ypserv(8)), and the servers of a client (yp.conf(5)).

use super::{first_line, found_server};
use crate::reader::{LineRecorder, ReadContext, Reader, Reading, Recognition};
use crate::serving;
use std::net::IpAddr;
use trevlin_model::login_source::{Admission, LoginServer, LoginSource, LoginSourceUse};
use trevlin_model::served::{
    AuthRequirement, Endpoint, PartKind, Served, ServedKind, ServiceResource, Sources, TransportSecurity,
};
use trevlin_model::{Export, Families, IpRange, IpRangeSet, Origin, Protocol, Setting};

/// The server.
pub(crate) const SERVER: Reader = Reader {
    name: "nis-server",
    title: "NIS server",
    manual: "ypserv.conf(5)",
    recognise: |export| match export.file_name() {
        "ypserv.conf" | "securenets" | "ypserv.securenets" => Recognition::Name,
        _ => Recognition::No,
    },
    read: read_server,
};

/// The servers of a client.
pub(crate) const CLIENT: Reader = Reader {
    name: "nis-client",
    title: "accounts of NIS",
    manual: "yp.conf(5)",
    recognise: |export| match export.file_name() {
        "yp.conf" => Recognition::Name,
        _ => Recognition::No,
    },
    read: |export, _: &ReadContext<'_>| read_client(export),
};

/// Options of the server's own file.
const OPTIONS: [&str; 8] =
    ["dns", "files", "slp", "slp_timeout", "trusted_master", "xfr_check_port", "securelevel", "bindresvport"];

/// Maps with the passwords of accounts: as they are made without settings, the first holds the hashes as well.
const PASSWORDS: [&str; 2] = ["passwd.byname", "shadow.byname"];

/// A rule about maps: `host : domain : map : security`.
struct Rule<'a> {
    host: &'a str,
    map: &'a str,
    permits: bool,
    origin: Origin,
}

fn rule(text: &str, origin: Origin) -> Option<Rule<'_>> {
    let fields: Vec<&str> = text.split('#').next()?.split(':').map(str::trim).collect();
    let [host, _, map, security] = fields[..] else { return None };
    let permits = match security.to_ascii_lowercase().as_str() {
        "none" | "port" => true,
        "deny" => false,
        _ => return None,
    };
    Some(Rule { host, map, permits, origin })
}

fn read_server(export: &Export, around: &ReadContext<'_>) -> Reading {
    let mut reading = Reading::of(export);
    let mut book = LineRecorder::new(export, &mut reading.ledger, &mut reading.elsewhere);
    if export.file_name() != "ypserv.conf" {
        for text in serving::entries(export) {
            let origin = export.origin_of(text);
            match client(text) {
                Some(_) => book.understood(origin),
                None => book.not_understood(origin, "expected `netmask network` or `host address`"),
            }
        }
        if around.find("/etc/ypserv.conf", export).is_none() {
            reading.facts.served.push(server(None, Some(export), around, export));
        }
        return reading;
    }
    for text in serving::entries(export) {
        let origin = export.origin_of(text);
        let option = text.split(':').next().unwrap_or_default().trim().to_ascii_lowercase();
        if OPTIONS.contains(&option.as_str()) || rule(text, origin).is_some() {
            book.understood(origin);
        } else {
            book.not_understood(origin, "expected `option: value` or `host : domain : map : security`");
        }
    }
    let nets = ["/var/yp/securenets", "/etc/ypserv.securenets"]
        .into_iter()
        .find_map(|path| around.find(path, export));
    reading.facts.served.push(server(Some(export), nets, around, export));
    reading
}

/// Clients of a line of `securenets`.
fn client(text: &str) -> Option<IpRange> {
    let words: Vec<&str> = text.split('#').next()?.split_whitespace().collect();
    match words[..] {
        ["host", address] => Some(IpRange::from(address.parse::<IpAddr>().ok()?)),
        [mask, network] => crate::addresses::range_or_prefix(&format!("{network}/{mask}")),
        [prefix] if prefix.contains(':') => crate::addresses::range_or_prefix(prefix),
        _ => None,
    }
}

fn server(
    rules: Option<&Export>,
    nets: Option<&Export>,
    around: &ReadContext<'_>,
    export: &Export,
) -> Served {
    let origin = first_line(export);
    let mut served = Served::new(ServedKind::Directory, "ypserv", "NIS server", &["ypserv"], origin);
    served.endpoints = places(around, export);
    let mut clients = match nets {
        None => Sources::everybody(),
        Some(nets) => {
            let mut found = Sources::default();
            for text in serving::entries(nets) {
                found.ranges.extend(client(text));
                found.origins.push(nets.origin_of(text));
            }
            found
        }
    };
    if clients.is_everybody() {
        clients.origins.truncate(1);
    }
    let lines: Vec<Rule<'_>> = rules
        .into_iter()
        .flat_map(|rules| serving::entries(rules).filter_map(|text| rule(text, rules.origin_of(text))))
        .collect();
    let mut part = ServiceResource::new(PartKind::Entries, "the maps", origin);
    part.login = Setting::default_of(AuthRequirement::Nothing, "ypserv", "ypserv(8), securenets");
    let [accounts, shadow] = PASSWORDS.map(|map| permitted(&lines, map).and(&clients));
    part.sources = accounts.clone();
    served.parts.push(part.clone());
    let all: IpRangeSet = accounts.ranges.iter().chain(&shadow.ranges).copied().collect();
    // Without the list of clients it is not known who they are.
    if nets.is_some() && !(accounts.is_nobody() && shadow.is_nobody()) {
        part.kind = PartKind::PasswordHashes;
        part.sources = Sources::of(all.into_ranges(), accounts.origins);
        served.parts.push(part);
    }
    if nets.is_none() {
        served.parts[0].login = Setting::Unknown { why: "which clients the server answers".into() };
        let ask = "please provide `/var/yp/securenets`, which states the clients that it answers";
        served.open.push((ask.to_owned(), origin));
    }
    served
}

/// Clients that the rules permit to read a map: the first that fits decides, and without one all may.
fn permitted(rules: &[Rule<'_>], map: &str) -> Sources {
    let own = rules.iter().filter(|rule| rule.map == "*" || rule.map == map);
    let mut found =
        serving::first_match(own.map(|rule| (rule.permits, hosts(rule.host), rule.origin)), false);
    found.ranges = found.ranges.into_iter().collect::<IpRangeSet>().into_ranges();
    if found.ranges.len() == Sources::everybody().ranges.len() && found.is_everybody() {
        found.origins.clear();
    }
    found
}

/// The hosts of a rule: a star, an address, its beginning, or a network with its mask. Rules mean IPv4 alone.
fn hosts(text: &str) -> Sources {
    let mut found = Sources::default();
    match text {
        "*" => found.ranges.push(IpRange::all(trevlin_model::Family::V4)),
        text => serving::host(text, &mut found),
    }
    found
}

/// The port that is stated among the options of the server's start, otherwise the mapper of RPC programs gives it any.
fn places(around: &ReadContext<'_>, export: &Export) -> Vec<Endpoint> {
    let stated = || {
        let defaults = ["/etc/default/nis", "/etc/sysconfig/network", "/etc/default/ypserv"];
        let file = defaults.into_iter().find_map(|path| around.find(path, export))?;
        let text = serving::entries(file).find(|text| {
            let name = text.split('=').next().unwrap_or_default().trim();
            matches!(name, "YPSERVARGS" | "YPSERV_ARGS")
        })?;
        let mut words = serving::unquoted(text.split_once('=')?.1.trim()).split_whitespace();
        let word = words.find(|word| word.starts_with("-p") || word.starts_with("--port"))?;
        let number = match word.strip_prefix("--port=").or_else(|| word.strip_prefix("-p")) {
            Some(number) if !number.is_empty() => number,
            _ => words.next()?,
        };
        Some((number.parse().ok()?, file.origin_of(text)))
    };
    let Some((port, origin)) = stated() else { return Vec::new() };
    let everywhere = |protocol, port| Endpoint::everywhere(protocol, port, TransportSecurity::Plain, origin);
    // The first socket is for IPv4 alone, and the one for IPv6, which takes IPv4 as well, has the next port.
    let both = |protocol| {
        let first = Endpoint { families: Families::V4, ..everywhere(protocol, port) };
        [Some(first), port.checked_add(1).map(|next| everywhere(protocol, next))].into_iter().flatten()
    };
    both(Protocol::UDP).chain(both(Protocol::TCP)).collect()
}

fn read_client(export: &Export) -> Reading {
    let mut reading = Reading::of(export);
    let mut servers: Vec<LoginServer> = Vec::new();
    for text in serving::entries(export) {
        let mut book = LineRecorder::new(export, &mut reading.ledger, &mut reading.elsewhere);
        let origin = export.origin_of(text);
        let words: Vec<&str> = text.split_whitespace().collect();
        let found = found_server(TransportSecurity::Plain, origin);
        match words[..] {
            ["domain", _, "server", host, ..] | ["ypserver", host, ..] => {
                servers.push(LoginServer { host: host.to_owned(), ..found });
                book.understood(origin);
            }
            ["domain", _, "broadcast", ..] | ["broadcast", ..] => {
                servers.push(found);
                book.understood(origin);
            }
            _ => book
                .not_understood(origin, "expected `domain NAME server HOST`, `ypserver HOST` or `broadcast`"),
        }
    }
    if let Some(first) = servers.first() {
        let everybody = Setting::default_of(Admission::Everybody, "ypbind", "yp.conf(5)");
        let gives = LoginSourceUse::AccountsAndPasswords;
        let mut source = LoginSource::new("ypbind", "NIS", gives, everybody, first.origin);
        source.name_service = Some("nis".to_owned());
        source.servers = servers;
        reading.facts.login_sources.push(source);
    }
    reading
}
