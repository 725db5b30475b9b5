//! `turnserver.conf`: a TURN server relays for its clients, also to addresses of the internal network (RFC 8656).
//!
//! Format: turnserver(1), and the comments of the file that ships with coturn.

use crate::keyed::{self, Entries, Form};
use crate::reader::{ReadContext, Reader, Reading, Recognition};
use crate::serving::{hold, truth};
use std::net::IpAddr;
use trevlin_model::secret::SecretKind;
use trevlin_model::served::{
    AuthRequirement, Endpoint, PartKind, Remark, Served, ServedKind, ServiceResource, Sources,
    TransportSecurity,
};
use trevlin_model::{Export, Origin, Protocol, Setting};

/// The reader.
pub(crate) const READER: Reader = Reader {
    name: "turnserver",
    title: "TURN server (coturn)",
    manual: "turnserver(1)",
    recognise: |export| match export.file_name() {
        "turnserver.conf" => Recognition::Name,
        _ => Recognition::No,
    },
    read: |export, around| read(export, around),
};

const FORM: Form = Form {
    program: "turnserver",
    manual: "turnserver(1)",
    judged: &[
        "allow-loopback-peers",
        "allowed-peer-ip",
        "alt-listening-port",
        "alt-tls-listening-port",
        "cert",
        "cli-ip",
        "cli-password",
        "cli-port",
        "denied-peer-ip",
        "listening-ip",
        "listening-port",
        "lt-cred-mech",
        "no-auth",
        "no-cli",
        "no-dtls",
        "no-rfc5780",
        "no-tcp",
        "no-tls",
        "no-udp",
        "pkey",
        "static-auth-secret",
        "stun-only",
        "tls-listening-port",
        "use-auth-secret",
        "user",
    ],
    split,
    included: None,
};

/// A name, and a value behind a blank or an equals sign.
fn split(text: &str) -> (&str, &str) {
    text.split_once(|letter: char| letter == '=' || letter.is_whitespace())
        .map_or((text, ""), |(name, value)| (name, value.trim()))
}

fn read(export: &Export, around: &ReadContext<'_>) -> Reading {
    let mut reading = Reading::of(export);
    let entries = keyed::load(export, &FORM, around, &mut reading);
    for entry in &entries.all {
        let (kind, value, owner) = match entry.name {
            "static-auth-secret" => (SecretKind::ServicePassword, entry.value, "TURN server"),
            "cli-password" if !entry.value.starts_with("$5$") => {
                (SecretKind::ServicePassword, entry.value, "command line of the TURN server")
            }
            "pkey-pwd" | "secret-key-file" => continue,
            "user" => match entry.value.split_once(':') {
                // A key in place of the password is its MD5 with the name (turnadmin(1), -k).
                Some((user, word)) if !word.starts_with("0x") => (SecretKind::ServicePassword, word, user),
                _ => continue,
            },
            _ => continue,
        };
        hold(export, &mut reading.facts, value, kind, owner);
    }
    for entry in entries.of("user").filter(|entry| entry.value.contains(":0x")) {
        reading.facts.masked_places.push(entry.origin);
    }
    let flag = |name: &str| {
        entries
            .last(name)
            .filter(|(value, _)| value.is_empty() || truth(value) != Some(false))
            .map(|one| one.1)
    };
    let origin = entries.origin(export);
    let relay = relay(&entries, &flag, origin);
    if !relay.endpoints.is_empty() {
        reading.facts.served.push(relay);
    }
    reading.facts.served.extend(command_line(&entries, &flag));
    reading
}

fn relay(entries: &Entries<'_>, flag: &dyn Fn(&str) -> Option<Origin>, origin: Origin) -> Served {
    let mut served = Served::new(ServedKind::Proxies, "coturn", "TURN server (coturn)", &["coturn"], origin);
    let port = entries.number("listening-port").filter(|one| one.0 != 0).unwrap_or((3478, origin));
    let tls_port = entries.number("tls-listening-port").filter(|one| one.0 != 0).unwrap_or((5349, origin));
    // Without a certificate there is no TLS; other ports accept it too.
    let tls = entries.last("cert").is_some() && entries.last("pkey").is_some();
    let (tcp, udp) = (flag("no-tcp").is_none(), flag("no-udp").is_none());
    let (over_tcp, over_udp) = (tls && flag("no-tls").is_none(), tls && flag("no-dtls").is_none());
    let mut places = Vec::new();
    for (on, protocol, (port, line), carried) in [
        (tcp, Protocol::TCP, port, TransportSecurity::Plain),
        (udp, Protocol::UDP, port, TransportSecurity::Plain),
        (over_tcp, Protocol::TCP, tls_port, TransportSecurity::Encrypted),
        (over_udp, Protocol::UDP, tls_port, TransportSecurity::Encrypted),
    ] {
        if on {
            places.push(Endpoint::everywhere(protocol, port, carried, line));
        }
    }
    let hosts: Vec<(IpAddr, Origin)> =
        entries.of("listening-ip").filter_map(|one| Some((one.value.parse().ok()?, one.origin))).collect();
    // With two addresses of a version it answers at a second port as well (RFC 5780), which is the next one.
    let several = hosts
        .iter()
        .any(|(one, _)| hosts.iter().filter(|(other, _)| one.is_ipv4() == other.is_ipv4()).count() > 1);
    if several && flag("no-rfc5780").is_none() {
        let second = |place: &Endpoint| {
            let name = if place.carried == TransportSecurity::Plain {
                "alt-listening-port"
            } else {
                "alt-tls-listening-port"
            };
            let (port, origin) = entries
                .number(name)
                .filter(|one| one.0 != 0)
                .unwrap_or((place.port.wrapping_add(1), place.origin));
            Endpoint { port, origin, ..place.clone() }
        };
        let more: Vec<Endpoint> = places.iter().map(second).collect();
        places.extend(more);
    }
    for place in places {
        if hosts.is_empty() {
            served.endpoints.push(place);
        } else {
            let at = |(host, line): &(IpAddr, Origin)| Endpoint { origin: *line, ..place.clone().at(*host) };
            served.endpoints.extend(hosts.iter().map(at));
        }
    }
    if flag("stun-only").is_some() {
        return served;
    }
    let database = ["psql-userdb", "mysql-userdb", "redis-userdb", "mongo-userdb"];
    let login = ["lt-cred-mech", "use-auth-secret", "static-auth-secret"].into_iter().find_map(flag);
    // Accounts alone require a login where nothing says otherwise.
    let accounts = || {
        let user = entries.of("user").next().map(|one| one.origin);
        user.or_else(|| database.into_iter().find_map(|name| entries.last(name)).map(|one| one.1))
    };
    let login = login.or_else(|| accounts().filter(|_| flag("no-auth").is_none()));
    let requirement = match (flag("no-auth"), login) {
        // A mechanism that is named is required, with `no-auth` or without.
        (_, Some(line)) => (AuthRequirement::Proof, line),
        (Some(line), None) => (AuthRequirement::Nothing, line),
        (None, None) => (AuthRequirement::Nothing, origin),
    };
    let mut part = ServiceResource::new(PartKind::Relaying, "", origin);
    part.login = Setting::Stated { value: requirement.0, origin: requirement.1 };
    part.sources = Sources::everybody();
    part.remarks.push((Remark::AnyTarget, requirement.1));
    served.parts.push(part);
    served
}

/// The command line for administrators; without a password it is off.
fn command_line(entries: &Entries<'_>, flag: &dyn Fn(&str) -> Option<Origin>) -> Option<Served> {
    let (_, line) =
        entries.last("cli-password").filter(|one| !one.0.is_empty() && flag("no-cli").is_none())?;
    let name = "command line of the TURN server (coturn)";
    let mut served = Served::new(ServedKind::Telnet, "coturn", name, &["coturn"], line);
    let port = entries.number("cli-port").unwrap_or((5766, line));
    let host = entries.last("cli-ip").and_then(|(text, _)| text.parse().ok());
    let place = Endpoint::everywhere(Protocol::TCP, port.0, TransportSecurity::Plain, line);
    served.endpoints.push(place.at(host.unwrap_or([127, 0, 0, 1].into())));
    let mut part = ServiceResource::new(PartKind::Whole, name, line);
    part.login = Setting::Stated { value: AuthRequirement::Password, origin: line };
    part.writes = Setting::Stated { value: true, origin: line };
    part.remarks.push((Remark::Administration, line));
    served.parts.push(part);
    Some(served)
}
