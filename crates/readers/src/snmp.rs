//! `snmpd.conf` (snmpd.conf(5)): who reads or changes a device's values.

use crate::files::hosts_access;
use crate::reader::{LineRecorder, ReadContext, Reader, Reading, Recognition};
use crate::serving::{self, hold, is_known, words};
use crate::telling::SNMP as TELLING;
use std::collections::{BTreeMap, BTreeSet};
use trevlin_model::offer::{AlgorithmRole, Offer, OfferPart, Offered, Spelling};
use trevlin_model::secret::SecretKind;
use trevlin_model::served::{
    AuthRequirement, Endpoint, PartKind, Requirement, Served, ServedKind, ServiceResource, Sources,
    TransportSecurity,
};
use trevlin_model::{Export, Facts, Families, LineClass, Origin, Protocol, Setting};

/// The reader.
pub(crate) const READER: Reader =
    Reader { name: "snmpd", title: "SNMP agent (Net-SNMP)", manual: "snmpd.conf(5)", recognise, read };

fn recognise(export: &Export) -> Recognition {
    let tells = |text: &str| {
        let word = text.split_whitespace().next().unwrap_or_default().to_ascii_lowercase();
        TELLING.contains(&word.as_str())
    };
    let stated = export.lines().any(|line| tells(line.text));
    if stated {
        Recognition::Content
    } else if export.file_name() == "snmpd.conf" || export.path().contains("snmpd.conf.d/") {
        Recognition::Name
    } else {
        Recognition::No
    }
}

/// Files that a line reads in (snmp_config(5), includeFile, includeDir).
fn included<'a>(line: &str, named_in: &Export, around: &ReadContext<'a>) -> Vec<&'a Export> {
    let mut words = line.split_whitespace();
    let keyword = words.next().unwrap_or_default();
    let Some(path) = words.next() else { return Vec::new() };
    if keyword.eq_ignore_ascii_case("includefile") {
        around.find_all(path, named_in)
    } else if keyword.eq_ignore_ascii_case("includedir") {
        around.find_all(&format!("{}/*.conf", path.trim_end_matches('/')), named_in)
    } else {
        Vec::new()
    }
}

/// A file that `snmpd.conf` of the same device reads in: by a line, as its folder, or the file that keeps users.
fn is_part(export: &Export, around: &ReadContext<'_>) -> bool {
    let main = |one: &&&Export| one.file_name() == "snmpd.conf" && !one.path().contains("var/lib/");
    let aside = export.path().contains("snmpd.conf.d/") || export.path().contains("var/lib/");
    let folder = aside && around.exports.iter().any(|one| main(&one) && one.path() != export.path());
    folder || around.reads_in(export, included)
}

#[derive(Default)]
struct State {
    parts: Vec<ServiceResource>,
    endpoints: Vec<Endpoint>,
    algorithms: Vec<Offered>,
    /// Security names by their communities: source and line.
    names: BTreeMap<String, Vec<(Sources, Origin)>>,
    groups: Vec<(String, String, String, Origin)>,
    access: Vec<Access>,
    /// Information that no export contains.
    open: Vec<(String, Origin)>,
    first: Option<Origin>,
}

struct Access {
    group: String,
    model: String,
    level: String,
    writes: bool,
    origin: Origin,
}

fn read(export: &Export, around: &ReadContext<'_>) -> Reading {
    let mut reading = Reading::of(export);
    let mut state = State::default();
    lines(export, around, &mut state, &mut reading);
    if is_part(export, around) {
        return reading;
    }
    for other in around.exports.iter().filter(|one| one.path() != export.path() && is_part(one, around)) {
        // Their secrets and their ledger are reported with themselves.
        let mut aside = Reading::of(other);
        lines(other, around, &mut state, &mut aside);
    }
    let origin = state.first.unwrap_or_else(|| export.origin(0..0));
    let mut served = Served::new(ServedKind::Monitoring, "SNMP agent", "SNMP agent", &["snmpd"], origin);
    served.endpoints = if state.endpoints.is_empty() {
        // By itself, and for a transport without a version, it listens by IPv4 (snmpd(8), LISTENING ADDRESSES).
        let all = Endpoint::everywhere(Protocol::UDP, 161, TransportSecurity::Optional, origin);
        vec![Endpoint { families: Families::V4, ..all }]
    } else {
        std::mem::take(&mut state.endpoints)
    };
    served.open = std::mem::take(&mut state.open);
    served.parts = std::mem::take(&mut state.parts);
    served.parts.extend(views(&state));
    if !state.algorithms.is_empty() {
        let origin = state.algorithms[0].origin;
        served.offers.push(Offer {
            part: OfferPart::Data,
            spelling: Spelling::NetSnmp,
            algorithms: state.algorithms,
            own_order: false,
            open: None,
            origin,
        });
    }
    hosts_access::limit(std::slice::from_mut(&mut served), around, export, "snmpd");
    reading.facts.served.push(served);
    reading
}

fn lines(export: &Export, around: &ReadContext<'_>, state: &mut State, reading: &mut Reading) {
    for line in export.lines() {
        let text = line.text.trim();
        let words = words(text);
        let Some((keyword, rest)) = words.split_first() else { continue };
        let origin = export.origin_of(text);
        let mut book = LineRecorder::new(export, &mut reading.ledger, &mut reading.elsewhere);
        let keyword = keyword.to_ascii_lowercase();
        let needed = match keyword.as_str() {
            "rocommunity" | "rwcommunity" | "rocommunity6" | "rwcommunity6" | "rouser" | "rwuser"
            | "createuser" | "agentaddress" | "trapcommunity" => 1,
            "com2sec" | "com2sec6" | "group" => 3,
            "access" => 8,
            "usmuser" | "trapsink" | "trap2sink" | "informsink" => 1,
            "includefile" if !rest.is_empty() => {
                book.understood(origin);
                state.first.get_or_insert(origin);
                if included(text, export, around).is_empty() {
                    let text = crate::reader::missing_note(rest[0]);
                    book.note(origin, text.clone());
                    state.open.push((text, origin));
                }
                continue;
            }
            "includedir" if !rest.is_empty() => {
                book.understood(origin);
                continue;
            }
            other if is_known("snmpd", other) => {
                book.class(origin, LineClass::Ignored);
                continue;
            }
            _ => {
                book.not_understood(origin, serving::unknown("snmpd.conf(5)"));
                continue;
            }
        };
        if rest.len() < needed {
            book.not_understood(
                origin,
                format!("expected {needed} words or more after `{keyword}`; the agent ignores the line"),
            );
            reading.facts.masked_places.push(origin);
            continue;
        }
        book.understood(origin);
        state.first.get_or_insert(origin);
        statement(export, &keyword, rest, origin, state, &mut reading.facts);
    }
}

fn statement(
    export: &Export,
    keyword: &str,
    rest: &[&str],
    origin: Origin,
    state: &mut State,
    facts: &mut Facts,
) {
    match keyword {
        "rocommunity" | "rwcommunity" | "rocommunity6" | "rwcommunity6" => {
            let access = if keyword.starts_with("rw") { "read-write access" } else { "read-only access" };
            hold(export, facts, rest[0], SecretKind::Community, access);
            let mut sources = source(rest.get(1).copied().unwrap_or("default"), origin);
            let six = keyword.ends_with('6');
            sources.ranges.retain(|range| (range.family() == trevlin_model::Family::V6) == six);
            state.parts.push(community(sources, keyword.starts_with("rw"), state.parts.len(), origin));
        }
        "com2sec" | "com2sec6" => {
            // A context may stand first: `-Cn NAME`.
            let rest = if rest[0] == "-Cn" { rest.get(2..).unwrap_or_default() } else { rest };
            if let [name, from, secret, ..] = rest {
                hold(export, facts, secret, SecretKind::Community, name);
                state.names.entry((*name).to_owned()).or_default().push((source(from, origin), origin));
            }
        }
        "group" => state.groups.push((rest[0].into(), rest[1].to_ascii_lowercase(), rest[2].into(), origin)),
        "access" => state.access.push(Access {
            group: rest[0].into(),
            model: rest[2].to_ascii_lowercase(),
            level: rest[3].to_ascii_lowercase(),
            writes: !rest[6].eq_ignore_ascii_case("none"),
            origin,
        }),
        "rouser" | "rwuser" => {
            let rest = if rest[0] == "-s" { rest.get(2..).unwrap_or_default() } else { rest };
            let Some(name) = rest.first() else { return };
            let level = rest.get(1).map_or("auth", |word| *word).to_ascii_lowercase();
            state.parts.push(user(name, &level, keyword == "rwuser", origin));
        }
        "createuser" => create_user(export, rest, origin, state, facts),
        "usmuser" => facts.masked_places.push(origin),
        "trapcommunity" => {
            hold(export, facts, rest[0], SecretKind::TrapCommunity, "notifications");
        }
        "trapsink" | "trap2sink" | "informsink" => {
            if let Some(secret) = rest.get(1) {
                hold(export, facts, secret, SecretKind::TrapCommunity, "notifications");
            }
        }
        "agentaddress" => {
            for word in rest.iter().flat_map(|word| word.split(',')).filter(|word| !word.is_empty()) {
                state.endpoints.extend(endpoint(word, origin));
            }
        }
        _ => {}
    }
}

/// `default` is every address; otherwise a host, a network or a name.
fn source(word: &str, origin: Origin) -> Sources {
    let mut found = Sources::default();
    serving::host(if word == "default" { "*" } else { word }, &mut found);
    if !found.is_everybody() {
        found.origins.push(origin);
    }
    found
}

fn community(sources: Sources, writes: bool, number: usize, origin: Origin) -> ServiceResource {
    // The word itself is a secret, so they go by number.
    let mut part = ServiceResource::new(PartKind::Community, (number + 1).to_string(), origin);
    part.sources = sources;
    part.login = Setting::Stated { value: AuthRequirement::Community, origin };
    part.writes = Setting::Stated { value: writes, origin };
    part.encryption = Some(Setting::Stated { value: Requirement::Never, origin });
    part
}

fn user(name: &str, level: &str, writes: bool, origin: Origin) -> ServiceResource {
    let mut part = ServiceResource::new(PartKind::User, name, origin);
    let (asked, demand) = match level {
        "noauth" | "noauthnopriv" => (AuthRequirement::Nothing, Requirement::Never),
        "priv" | "authpriv" => (AuthRequirement::Proof, Requirement::Required),
        _ => (AuthRequirement::Proof, Requirement::Offered),
    };
    part.login = Setting::Stated { value: asked, origin };
    part.writes = Setting::Stated { value: writes, origin };
    part.encryption = Some(Setting::Stated { value: demand, origin });
    part
}

fn create_user(export: &Export, rest: &[&str], origin: Origin, state: &mut State, facts: &mut Facts) {
    let rest = if rest[0] == "-e" { rest.get(2..).unwrap_or_default() } else { rest };
    let Some((name, rest)) = rest.split_first() else { return };
    for word in rest {
        let upper = word.to_ascii_uppercase();
        let role = match upper.as_str() {
            "MD5" | "SHA" | "SHA-224" | "SHA-256" | "SHA-384" | "SHA-512" => AlgorithmRole::Integrity,
            "DES" | "AES" | "AES128" | "AES-128" | "AES192" | "AES-192" | "AES256" | "AES-256" => {
                AlgorithmRole::Encryption
            }
            "-L" | "-M" => continue,
            _ => {
                hold(export, facts, word, SecretKind::Passphrase, name);
                continue;
            }
        };
        state.algorithms.push(Offered {
            name: upper,
            role: Some(role),
            versions: None,
            suite: state.algorithms.len(),
            origin,
            default: None,
        });
    }
}

/// Views granted to each principal: community strings by their security names, users by theirs.
fn views(state: &State) -> Vec<ServiceResource> {
    let mut found: Vec<ServiceResource> = Vec::new();
    // Group members and granted views count once, however often they are stated.
    let mut groups: BTreeMap<&str, BTreeMap<(&str, &str), usize>> = BTreeMap::new();
    for (number, (group, model, name, _)) in state.groups.iter().enumerate() {
        groups.entry(group).or_default().entry((model, name)).or_insert(number);
    }
    let (mut given, mut taken) = (BTreeSet::new(), BTreeSet::new());
    for access in &state.access {
        if !given.insert((&access.group, &access.model, &access.level, access.writes)) {
            continue;
        }
        let mut members: Vec<_> = groups.get(access.group.as_str()).into_iter().flatten().collect();
        members.sort_by_key(|(_, number)| **number);
        for ((model, name), _) in members {
            if access.model != "any" && access.model != *model {
                continue;
            }
            if *model == "usm" {
                found.push(user(name, &access.level, access.writes, access.origin));
                continue;
            }
            for (sources, origin) in state.names.get(*name).into_iter().flatten() {
                // Both versions of the protocol by one community are one thing.
                if taken.insert((*origin, access.writes)) {
                    let number = state.parts.len() + found.len();
                    let mut part = community(sources.clone(), access.writes, number, *origin);
                    part.sources.origins.push(access.origin);
                    found.push(part);
                }
            }
        }
    }
    found
}

/// `[transport:][address:]port`, `[transport:]address` (snmpd(8), LISTENING ADDRESSES).
fn endpoint(word: &str, origin: Origin) -> Option<Endpoint> {
    let lower = word.to_ascii_lowercase();
    let mut rest = lower.as_str();
    let mut protocol = Protocol::UDP;
    let mut six = false;
    let mut carried = TransportSecurity::Optional;
    for (name, is, version) in [
        ("udp6:", Protocol::UDP, true),
        ("udpipv6:", Protocol::UDP, true),
        ("udpv6:", Protocol::UDP, true),
        ("udp:", Protocol::UDP, false),
        ("tcp6:", Protocol::TCP, true),
        ("tcp:", Protocol::TCP, false),
        ("dtlsudp:", Protocol::UDP, false),
        ("tlstcp:", Protocol::TCP, false),
    ] {
        if let Some(after) = rest.strip_prefix(name) {
            if name.contains("tls") {
                carried = TransportSecurity::Encrypted;
            }
            (protocol, six, rest) = (is, version, after);
            break;
        }
    }
    if rest.starts_with("unix:") || rest.starts_with('/') {
        return None;
    }
    let default = if carried == TransportSecurity::Encrypted { 10161 } else { 161 };
    let all = Endpoint::everywhere(protocol, default, carried, origin);
    let all = Endpoint { families: if six { Families::V6 } else { Families::V4 }, ..all };
    if let Ok(port) = rest.parse::<u16>() {
        return Some(Endpoint { port, ..all });
    }
    let (host, port) = serving::host_and_port(rest);
    let all = Endpoint { port: port.unwrap_or(default), ..all };
    let host = host.map(|host| if host == "localhost" { "127.0.0.1" } else { host });
    match host {
        None => Some(all),
        Some(host) => host.parse().ok().map(|address| all.at(address)),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use trevlin_model::ExportId;

    fn of(text: &str) -> Reading {
        let export = Export::new(ExportId(0), "d/etc/snmp/snmpd.conf", text.into());
        read(&export, &ReadContext::of(vec![&export]))
    }

    fn told(text: &str) -> Vec<String> {
        let reading = of(text);
        let line = |part: &ServiceResource| {
            format!(
                "{} {} {} {:?} {} {:?}",
                part.kind.words(),
                part.name,
                part.sources.words(),
                part.login.value().unwrap(),
                if part.is_written() { "rw" } else { "ro" },
                part.encryption.as_ref().and_then(|one| one.value()).unwrap()
            )
        };
        reading.facts.served[0].parts.iter().map(line).collect()
    }

    #[test]
    fn files_that_are_read_in() {
        const MAIN: (&str, &str) =
            ("d/etc/snmp/snmpd.conf", "rouser ann\nincludeFile site.conf\nincludeDir /etc/snmp/more\n");
        const SITE: (&str, &str) = ("d/etc/snmp/site.conf", "rocommunity Qx81vv\n");
        const MORE: (&str, &str) = ("d/etc/snmp/more/a.conf", "rocommunity Vx82qq\n");
        for (files, parts, open) in [
            (&[MAIN, SITE, MORE][..], 3, 0),
            (&[MAIN, SITE], 2, 0),
            (&[MAIN, MORE], 2, 1),
            (&[MAIN], 1, 1),
            // Included files define no agent of their own.
            (&[SITE, MAIN], 0, 0),
            (&[MORE, MAIN], 0, 0),
            (&[SITE], 1, 0),
        ] {
            let reading = crate::testing::first(read, files);
            let served = reading.facts.served.first();
            let told = served.map_or((0, 0), |one| (one.parts.len(), one.open.len()));
            assert_eq!(told, (parts, open), "{files:?}");
        }
    }

    #[test]
    fn who_reads_and_who_writes() {
        for (text, wanted) in [
            ("rocommunity public\n", &["community 1 any address Community ro Never"][..]),
            ("rwcommunity quay 10.4.0.0/24\n", &["community 1 10.4.0.0/24 Community rw Never"]),
            ("rocommunity quay localhost\n", &["community 1 127.0.0.0/8 Community ro Never"]),
            ("rocommunity6 quay\n", &["community 1 any address Community ro Never"]),
            (
                "rouser ann\nrwuser bob priv\nrouser eve noauth\n",
                &[
                    "user ann any address Proof ro Offered",
                    "user bob any address Proof rw Required",
                    "user eve any address Nothing ro Never",
                ],
            ),
            (
                "com2sec near 10.4.0.9 quay\ncom2sec far default quay2\ngroup G v1 near\ngroup G v2c near\ngroup W v2c far\n\
                 view all included .1\naccess G \"\" any noauth exact all none none\naccess W \"\" any noauth exact all all none\n",
                &["community 1 10.4.0.9 Community ro Never", "community 2 any address Community rw Never"],
            ),
            (
                "group U usm ann\naccess U \"\" usm priv exact all all none\n",
                &["user ann any address Proof rw Required"],
            ),
            // Nothing leads from the name to any value.
            ("com2sec far default quay\n", &[]),
            ("# rocommunity public\nsyslocation quay\n", &[]),
        ] {
            assert_eq!(told(text), wanted, "{text}");
            assert!(of(text).ledger.notes.is_empty(), "{text}");
        }
    }

    #[test]
    fn places() {
        for (text, wanted) in [
            ("rocommunity x\n", "udp None 161"),
            ("agentAddress udp:127.0.0.1:161,udp6:[::1]:161\n", "udp Some(127.0.0.1) 161, udp Some(::1) 161"),
            ("agentaddress 1161\n", "udp None 1161"),
            ("agentaddress tcp:10.4.0.9:161\n", "tcp Some(10.4.0.9) 161"),
            ("agentaddress 127.0.0.1,[::1]\n", "udp Some(127.0.0.1) 161, udp Some(::1) 161"),
            ("agentaddress unix:/run/x,udp:161\n", "udp None 161"),
        ] {
            let reading = of(text);
            let all: Vec<String> = reading.facts.served[0]
                .endpoints
                .iter()
                .map(|one| format!("{} {:?} {}", one.protocol.name(), one.address, one.port))
                .collect();
            assert_eq!(all.join(", "), wanted, "{text}");
        }
    }

    #[test]
    fn secrets_are_held_and_algorithms_known() {
        let reading =
            of("rocommunity Sesame\ncreateUser ann MD5 \"Open Sesame 9\" DES\ncolour red\nrocommunity\n");
        assert_eq!((reading.facts.secrets.len(), reading.ledger.notes.len()), (2, 2));
        assert!(!format!("{reading:?}").contains("Sesame"));
        let names: Vec<&str> =
            reading.facts.served[0].offers[0].algorithms.iter().map(|one| one.name.as_str()).collect();
        assert_eq!(names, ["MD5", "DES"]);
    }

    #[test]
    fn users_kept_apart_belong_to_the_agent() {
        let main = Export::new(ExportId(0), "d/etc/snmp/snmpd.conf", "rouser ann\n".into());
        let kept =
            Export::new(ExportId(1), "d/var/lib/snmp/snmpd.conf", "createUser ann SHA x1x2x3x4 AES\n".into());
        let around = ReadContext::of(vec![&main, &kept]);
        let reading = read(&main, &around);
        assert_eq!((reading.facts.served[0].offers.len(), reading.facts.secrets.len()), (1, 0));
        let aside = read(&kept, &around);
        assert_eq!((aside.facts.served.len(), aside.facts.secrets.len()), (0, 1));
    }
}
