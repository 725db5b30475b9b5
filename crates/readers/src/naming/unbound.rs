//! `unbound.conf` (unbound.conf(5)): who may have names looked up, and from where the server is steered.

use super::recursion;
use crate::addresses;
use crate::reader::{LineRecorder, ReadContext, Reader, Reading, Recognition, TELLING_LINES};
use crate::serving::{self, is_known, truth};
use trevlin_model::served::{
    AuthRequirement, Endpoint, PartKind, Remark, Requirement, Served, ServedKind, ServiceResource, Sources,
    TransportSecurity,
};
use trevlin_model::{Export, IpRange, LineClass, Origin, Protocol, Setting};

/// The reader.
pub(crate) const READER: Reader =
    Reader { name: "unbound", title: "DNS server (Unbound)", manual: "unbound.conf(5)", recognise, read };

const CLAUSES: [&str; 15] = [
    "server:",
    "remote-control:",
    "forward-zone:",
    "stub-zone:",
    "auth-zone:",
    "view:",
    "python:",
    "dynlib:",
    "dnscrypt:",
    "cachedb:",
    "ipset:",
    "rpz:",
    "dnstap:",
    "ipsecmod:",
    "clause:",
];

fn recognise(export: &Export) -> Recognition {
    let mut clause = false;
    let mut tells = false;
    for line in export.lines().take(TELLING_LINES * 3) {
        let word = line.text.split_whitespace().next().unwrap_or_default();
        clause |= matches!(word, "server:" | "remote-control:" | "forward-zone:" | "stub-zone:");
        tells |= [
            "access-control:",
            "interface:",
            "do-ip4:",
            "forward-addr:",
            "control-enable:",
            "root-hints:",
            "auto-trust-anchor-file:",
            "num-threads:",
            "local-zone:",
        ]
        .contains(&word);
    }
    if clause && tells {
        Recognition::Content
    } else if export.path().contains("unbound") && export.file_name().ends_with(".conf") {
        Recognition::Name
    } else {
        Recognition::No
    }
}

/// Name and value; a value extends to the end of the line or to a comment, or is quoted.
fn statements(text: &str) -> Vec<(&str, &str)> {
    let text = text.trim();
    if text.starts_with('#') {
        return Vec::new();
    }
    let mut words: Vec<&str> = Vec::new();
    let mut rest = text;
    while let Some(start) = rest.find(|letter: char| !letter.is_whitespace()) {
        rest = &rest[start..];
        if rest.starts_with('#') {
            break;
        }
        let end = match rest.strip_prefix('"').and_then(|inner| inner.find('"')) {
            Some(end) => end + 2,
            None => rest.find(char::is_whitespace).unwrap_or(rest.len()),
        };
        words.push(&rest[..end]);
        rest = &rest[end..];
    }
    match words.as_slice() {
        [] => Vec::new(),
        // A clause and its first setting may share a line.
        [clause, name, ..] if CLAUSES.contains(clause) && name.ends_with(':') => {
            let value = words.get(2).map_or("", |first| from(text, first));
            vec![(*clause, ""), (*name, value)]
        }
        [name] => vec![(*name, "")],
        [name, first, ..] => vec![(*name, upto(text, first, words[words.len() - 1]))],
    }
}

fn from<'a>(text: &'a str, first: &str) -> &'a str {
    let at = first.as_ptr() as usize - text.as_ptr() as usize;
    text[at..].split(" #").next().unwrap_or_default().trim()
}

fn upto<'a>(text: &'a str, first: &str, last: &str) -> &'a str {
    let start = first.as_ptr() as usize - text.as_ptr() as usize;
    let end = last.as_ptr() as usize - text.as_ptr() as usize + last.len();
    text[start..end].trim_matches('"')
}

fn included<'a>(line: &str, named_in: &Export, around: &ReadContext<'a>) -> Vec<&'a Export> {
    // Most lines are looked at no further, so that they come first.
    if !line.trim_start().starts_with("include") || recognise(named_in) == Recognition::No {
        return Vec::new();
    }
    match statements(line).first() {
        Some(("include:" | "include-toplevel:", path)) => around.find_all(path, named_in),
        _ => Vec::new(),
    }
}

struct Line<'a> {
    clause: &'a str,
    name: String,
    value: &'a str,
    origin: Origin,
}

fn load<'a>(
    export: &'a Export,
    around: &ReadContext<'a>,
    clause: &'a str,
    files: &mut Vec<&'a str>,
    lines: &mut Vec<Line<'a>>,
    book: &mut LineRecorder<'_>,
) -> &'a str {
    let mut clause = clause;
    for line in export.lines() {
        for (name, value) in statements(line.text) {
            let origin = export.origin_of(line.text.trim());
            if CLAUSES.contains(&name) {
                book.understood(origin);
                clause = name;
                continue;
            }
            let Some(plain) = name.strip_suffix(':').map(str::to_ascii_lowercase) else {
                book.not_understood(origin, "expected `name: value`; the server refuses to start");
                continue;
            };
            if plain.starts_with("include") {
                book.understood(origin);
                let found = around.find_all(value, export);
                if found.is_empty() && !value.contains(['*', '?']) {
                    book.note(origin, crate::reader::missing_note(value));
                }
                for other in found {
                    if !files.contains(&other.path()) {
                        files.push(other.path());
                        clause = load(other, around, clause, files, lines, book);
                    }
                }
                continue;
            }
            if plain == "access-control" && !is_permission(value) {
                book.not_understood(
                    origin,
                    "expected a network and an action such as `allow` or `refuse`; the server refuses to start",
                );
            } else if JUDGED.contains(&plain.as_str()) {
                book.understood(origin);
            } else if is_known("unbound", &plain) {
                book.class(origin, LineClass::Ignored);
            } else {
                book.not_understood(origin, serving::unknown("unbound.conf(5); the server refuses to start"));
            }
            lines.push(Line { clause, name: plain, value, origin });
        }
    }
    clause
}

/// Whether a value is a network with one of the actions (unbound.conf(5), access-control).
fn is_permission(value: &str) -> bool {
    const ACTIONS: [&str; 9] = [
        "allow",
        "allow_cookie",
        "allow_setrd",
        "allow_snoop",
        "always_refuse",
        "deny",
        "deny_non_local",
        "refuse",
        "refuse_non_local",
    ];
    let mut words = value.split_whitespace();
    let (network, action) = (words.next(), words.next().map(|word| word.trim_matches(['"', '\''])));
    network.is_some_and(|net| {
        addresses::prefix(net.trim_matches(['"', '\''])).is_some() || net.parse::<std::net::IpAddr>().is_ok()
    }) && action.is_some_and(|action| ACTIONS.contains(&action))
}

const JUDGED: [&str; 11] = [
    "interface",
    "ip-address",
    "port",
    "access-control",
    "control-enable",
    "control-interface",
    "control-port",
    "control-use-cert",
    "interface-automatic",
    "tls-port",
    "do-udp",
];

fn read(export: &Export, around: &ReadContext<'_>) -> Reading {
    let mut reading = Reading::of(export);
    let mut book = LineRecorder::new(export, &mut reading.ledger, &mut reading.elsewhere);
    let mut lines = Vec::new();
    load(export, around, "server:", &mut vec![export.path()], &mut lines, &mut book);
    // Without the main file the first of the folder stands for the server.
    let main = around
        .of_format(&READER)
        .map(|(one, _)| one.path())
        .min_by_key(|path| (!path.ends_with("unbound.conf"), path.len(), *path));
    if around.reads_in(export, included) || main.is_some_and(|main| main != export.path()) {
        return reading;
    }
    let origin = lines.first().map_or_else(|| export.origin(0..0), |one| one.origin);
    reading.facts.served.extend(served(&lines, origin));
    reading
}

fn served(lines: &[Line<'_>], origin: Origin) -> Vec<Served> {
    let all = |clause: &'static str, name: &'static str| {
        lines.iter().filter(move |one| one.clause == clause && one.name == name)
    };
    let last = |clause, name| all(clause, name).next_back();
    let mut served = Served::new(ServedKind::Names, "Unbound", "DNS server (Unbound)", &["unbound"], origin);
    let port = last("server:", "port")
        .and_then(|one| Some((one.value.parse().ok()?, one.origin)))
        .unwrap_or((53, origin));
    let stated: Vec<&Line<'_>> = lines
        .iter()
        .filter(|one| one.clause == "server:" && matches!(one.name.as_str(), "interface" | "ip-address"))
        .collect();
    let automatic = last("server:", "interface-automatic").filter(|one| truth(one.value) == Some(true));
    served.endpoints = match (automatic, stated.is_empty()) {
        (Some(line), _) => both(port.0, None, line.origin),
        // By itself it answers the device alone.
        (None, true) => {
            let mut found = both(port.0, Some("127.0.0.1"), origin);
            found.extend(both(port.0, Some("::1"), origin));
            found
        }
        (None, false) => stated
            .iter()
            .flat_map(|one| {
                let (host, own) = one.value.split_once('@').unwrap_or((one.value, ""));
                both(own.parse().unwrap_or(port.0), Some(host), one.origin)
            })
            .collect(),
    };
    served.parts.extend(lookups(all("server:", "access-control"), origin));
    let mut found = vec![served];
    found.extend(control(lines, origin));
    found
}

fn both(port: u16, host: Option<&str>, origin: Origin) -> Vec<Endpoint> {
    [Protocol::UDP, Protocol::TCP]
        .map(|protocol| {
            let at = Endpoint::everywhere(protocol, port, TransportSecurity::Plain, origin);
            match host.map(|host| (host, host.parse())) {
                None => at,
                Some((_, Ok(address))) => at.at(address),
                // The name of an interface.
                Some((name, Err(_))) => Endpoint { interface: Some(name.to_owned()), ..at },
            }
        })
        .into()
}

/// The smallest network that fits decides; by itself the device alone is answered (unbound.conf(5), access-control).
fn lookups<'s, 'a: 's>(lines: impl Iterator<Item = &'s Line<'a>>, origin: Origin) -> Option<ServiceResource> {
    let mut rules: Vec<(IpRange, bool, Origin)> = lines
        .filter_map(|one| {
            let (net, action) = one.value.split_once(char::is_whitespace)?;
            let allows = action.trim().starts_with("allow");
            Some((addresses::prefix(net)?.into(), allows, one.origin))
        })
        .collect();
    rules.sort_by_key(|(range, ..)| range.size());
    let mut left = Sources::everybody();
    let mut found = Sources::default();
    for (range, allows, line) in &rules {
        let meant = Sources::of(vec![*range], Vec::new());
        if *allows {
            found.ranges.extend(left.and(&meant).ranges);
            found.origins.push(*line);
        }
        left = left.without(&[*range]);
    }
    let near = Sources::of(serving::loopback().to_vec(), Vec::new());
    found.ranges.extend(left.and(&near).ranges);
    let line = found.origins.first().copied().unwrap_or(origin);
    (!found.is_nobody()).then(|| recursion(found, line))
}

/// The port by which the server is steered.
fn control(lines: &[Line<'_>], origin: Origin) -> Option<Served> {
    let last =
        |name: &str| lines.iter().rev().find(|one| one.clause == "remote-control:" && one.name == name);
    let on = last("control-enable").filter(|one| truth(one.value) == Some(true))?;
    let port = last("control-port").and_then(|one| one.value.parse().ok()).unwrap_or(8953);
    let places: Vec<&Line<'_>> = lines
        .iter()
        .filter(|one| one.clause == "remote-control:" && one.name == "control-interface")
        .collect();
    let no_certificate = last("control-use-cert").filter(|one| truth(one.value) == Some(false));
    let mut served = Served::new(
        ServedKind::Names,
        "Unbound",
        "control interface of the DNS server (Unbound)",
        &["unbound"],
        on.origin,
    );
    let carried =
        if no_certificate.is_some() { TransportSecurity::Plain } else { TransportSecurity::Encrypted };
    let mut at = |host: &str, line: Origin| {
        let all = Endpoint::everywhere(Protocol::TCP, port, carried, line);
        if !host.starts_with('/') {
            served
                .endpoints
                .push(host.parse().map_or_else(|_| all.clone(), |address| all.clone().at(address)));
        }
    };
    if places.is_empty() {
        at("127.0.0.1", origin);
        at("::1", origin);
    }
    places.iter().for_each(|one| at(one.value, one.origin));
    if served.endpoints.is_empty() {
        return None;
    }
    let mut part = ServiceResource::new(PartKind::Whole, "control interface of the DNS server", on.origin);
    part.login = match no_certificate {
        Some(one) => Setting::Stated { value: AuthRequirement::Nothing, origin: one.origin },
        None => {
            Setting::default_of(AuthRequirement::Certificate, "Unbound", "unbound.conf(5), control-use-cert")
        }
    };
    part.writes = Setting::Stated { value: true, origin: on.origin };
    let demand = if no_certificate.is_some() { Requirement::Never } else { Requirement::Required };
    part.encryption = Some(Setting::Stated { value: demand, origin: on.origin });
    part.remarks.push((Remark::Administration, on.origin));
    served.parts.push(part);
    Some(served)
}

#[cfg(test)]
mod tests {
    use super::*;
    use trevlin_model::ExportId;

    fn of(text: &str) -> Reading {
        let export = Export::new(ExportId(0), "d/etc/unbound/unbound.conf", text.into());
        read(&export, &ReadContext::of(vec![&export]))
    }

    #[test]
    fn actions_that_the_server_refuses() {
        for (line, wanted) in [
            ("access-control: 10.0.0.0/8 alow", 1),
            ("access-control: 10.0.0.0/8", 1),
            ("access-control: 10.0.0.0/8 allow_snoop", 0),
            ("access-control: ::1 allow", 0),
        ] {
            let text = format!("server:\n  {line}\n");
            let export = Export::new(trevlin_model::ExportId(0), "d/etc/unbound/unbound.conf", text);
            let reading = read(&export, &ReadContext::of(vec![&export]));
            assert_eq!(reading.ledger.notes.len(), wanted, "{line}: {:?}", reading.ledger.notes);
        }
    }

    #[test]
    fn who_may_and_where() {
        for (text, wanted) in [
            ("server:\n  verbosity: 1\n", "Some(127.0.0.1)/53 Some(::1)/53: 127.0.0.0/8, ::1"),
            ("server:\n interface: 0.0.0.0\n access-control: 0.0.0.0/0 allow\n", "None/53: any address"),
            (
                "server:\n interface: 10.4.0.9@5353 # near\n access-control: 10.4.0.0/16 allow\n access-control: 10.4.9.0/24 refuse\n",
                "Some(10.4.0.9)/5353: 10.4.0.0-10.4.8.255, 10.4.10.0-10.4.255.255",
            ),
            (
                "server: interface: eth1\naccess-control: 127.0.0.0/8 refuse\naccess-control: ::1 deny\n",
                "None%eth1/53",
            ),
        ] {
            let reading = of(text);
            let served = &reading.facts.served[0];
            let udp = served.endpoints.iter().filter(|one| one.protocol == Protocol::UDP);
            let places: Vec<String> = udp
                .map(|one| {
                    format!(
                        "{:?}{}/{}",
                        one.address,
                        one.interface.as_ref().map(|name| format!("%{name}")).unwrap_or_default(),
                        one.port
                    )
                })
                .collect();
            let who =
                served.parts.first().map(|part| format!(": {}", part.sources.words())).unwrap_or_default();
            assert_eq!(format!("{}{who}", places.join(" ")), wanted, "{text}");
            assert!(reading.ledger.notes.is_empty(), "{text}: {:?}", reading.ledger.notes);
        }
    }

    #[test]
    fn the_port_of_control() {
        for (text, wanted) in [
            ("control-enable: yes", Some("Some(127.0.0.1) Certificate")),
            ("control-enable: yes\ncontrol-interface: 0.0.0.0\ncontrol-use-cert: no", Some("None Nothing")),
            ("control-enable: yes\ncontrol-interface: /run/x", None),
            ("control-enable: no", None),
        ] {
            let reading = of(&format!("server:\nport: 53\nremote-control:\n{text}\n"));
            let told = reading.facts.served.get(1).map(|one| {
                format!("{:?} {:?}", one.endpoints[0].address, one.parts[0].login.value().unwrap())
            });
            assert_eq!(told.as_deref(), wanted, "{text}");
        }
        assert_eq!(of("server:\ncolour: red\nbare\ninclude: /x.conf\n").ledger.notes.len(), 3);
    }
}
