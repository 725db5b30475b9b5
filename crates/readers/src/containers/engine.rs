//! `daemon.json`, and the options of dockerd: where the engine takes commands, and what it does with published ports.
//!
//! Format: dockerd(8), "Daemon configuration file".

use crate::json::{self, Json};
use crate::reader::{LineRecorder, ReadContext, Reader, Reading, Recognition};
use crate::serving::is_known;
use trevlin_model::container::{ContainerEngine, EngineKind, NetworkPool};
use trevlin_model::served::{
    AuthRequirement, Endpoint, PartKind, Remark, Served, ServedKind, ServiceResource, TransportSecurity,
};
use trevlin_model::{DefaultValue, Export, LineClass, Origin, Protocol, Setting};

/// The reader.
pub(crate) const READER: Reader = Reader {
    name: "docker-daemon",
    title: "settings of a container engine (Docker)",
    manual: "dockerd(8)",
    recognise: |export| {
        let in_place = export.file_name() == "daemon.json"
            && (export.path().contains("docker/") || !export.path().contains('/'));
        if in_place { Recognition::Name } else { Recognition::No }
    },
    read,
};

/// Keys that decide nothing that is judged are in the table of known ones (dockerd(8)).
const PROGRAM: &str = "dockerd";

fn read(export: &Export, _: &ReadContext<'_>) -> Reading {
    let mut reading = Reading::of(export);
    let mut book = LineRecorder::new(export, &mut reading.ledger, &mut reading.elsewhere);
    let (top, broken) = json::parse(export);
    book.class(export.origin(0..export.text().len().max(1)), LineClass::Understood);
    if let Some(broken) = broken {
        book.not_understood(
            export.origin(broken.offset..export.text().len()),
            broken.words("the engine does not start with it"),
        );
    }
    top.tell_cuts(&mut book);
    for (key, value) in top.members() {
        if !is_known(PROGRAM, key) {
            book.not_understood(value.origin, "expected a key of dockerd(8)");
        }
    }
    let origin = Origin { end: top.origin.start + 1, ..top.origin };
    let default = |value: bool| {
        Setting::Default(vec![DefaultValue {
            value,
            daemon: "dockerd",
            versions: "all",
            source: "dockerd(8)",
        }])
    };
    let truth = |key: &str, otherwise: bool| match top.get(key) {
        Some(one) if one.is_true() || one.is_false() => {
            Setting::Stated { value: one.is_true(), origin: one.origin }
        }
        _ => default(otherwise),
    };
    let remaps = match top.get("userns-remap").and_then(|one| Some((one.text_of()?, one.origin))) {
        Some((name, origin)) => Setting::Stated { value: !name.is_empty(), origin },
        None => default(false),
    };
    let pools = top.list("default-address-pools").iter().filter_map(|one| {
        let size = one.number("size").and_then(|size| u8::try_from(size).ok())?;
        Some(NetworkPool { base: one.text("base")?.parse().ok()?, size })
    });
    let registries = top.list("insecure-registries").iter();
    reading.facts.engines.push(ContainerEngine {
        kind: EngineKind::Docker,
        sets_rules: truth("iptables", true),
        default_address: top
            .get("ip")
            .and_then(|one| Some((one.text_of()?.parse().ok()?, one.origin)))
            .filter(|(address, _): &(std::net::IpAddr, _)| !address.is_unspecified()),
        containers_meet: truth("icc", true),
        remaps_users: remaps,
        pools: pools.collect(),
        bridge: top.text("bip").and_then(|text| text.parse().ok()),
        plain_registries: registries.filter_map(|one| Some((one.text_of()?, one.origin))).collect(),
        origin,
    });
    let verifies = top.get("tlsverify").filter(|one| one.is_true()).map(|one| one.origin);
    let tls = verifies.or(top.get("tls").filter(|one| one.is_true()).map(|one| one.origin));
    let hosts: Vec<(String, Origin)> =
        top.list("hosts").iter().filter_map(|one: &Json<'_>| Some((one.text_of()?, one.origin))).collect();
    reading.facts.served.extend(served(&hosts, tls, verifies));
    reading
}

/// The engine's own service, where it takes commands by TCP.
pub(crate) fn served(
    hosts: &[(String, Origin)],
    tls: Option<Origin>,
    verifies: Option<Origin>,
) -> Option<Served> {
    let places: Vec<Endpoint> = hosts.iter().filter_map(|(host, origin)| place(host, tls, *origin)).collect();
    let origin = places.first()?.origin;
    let mut served = Served::new(ServedKind::Containers, "dockerd", "container engine", &["docker"], origin);
    served.endpoints = places;
    let mut part = ServiceResource::new(PartKind::Whole, "container engine", origin);
    part.login = match verifies {
        Some(origin) => Setting::Stated { value: AuthRequirement::Certificate, origin },
        None => Setting::Stated { value: AuthRequirement::Nothing, origin: tls.unwrap_or(origin) },
    };
    part.writes = Setting::Stated { value: true, origin };
    part.remarks.push((Remark::Administration, origin));
    served.parts.push(part);
    Some(served)
}

/// `tcp://192.0.2.9:2375`; sockets of the machine are of no other.
fn place(host: &str, tls: Option<Origin>, origin: Origin) -> Option<Endpoint> {
    let rest = host.strip_prefix("tcp://")?.trim_end_matches('/');
    let (address, port) = match rest.rsplit_once(':') {
        Some((address, port)) if port.parse::<u16>().is_ok() => (address, port.parse().ok()?),
        _ => (rest, if tls.is_some() { 2376 } else { 2375 }),
    };
    let carried = if tls.is_some() { TransportSecurity::Encrypted } else { TransportSecurity::Plain };
    let everywhere = Endpoint::everywhere(Protocol::TCP, port, carried, origin);
    let address = address.trim_matches(['[', ']']);
    match address.parse() {
        Ok(address) => Some(everywhere.at(address)),
        // Without an address it is that of the machine itself (dockerd(8), --host).
        Err(_) if address.is_empty() || address == "localhost" => {
            Some(everywhere.at(std::net::IpAddr::from([127, 0, 0, 1])))
        }
        Err(_) => Some(everywhere),
    }
}

/// The engine's service by the words of its command: `-H`, `--host`, `--tlsverify`.
pub(crate) fn by_command(words: &[&str], origin: Origin) -> Option<Served> {
    let mut hosts = Vec::new();
    let (mut tls, mut verifies) = (None, None);
    let mut words = words.iter().copied().skip(1);
    while let Some(word) = words.next() {
        let value = word.strip_prefix("--host=").or_else(|| word.strip_prefix("-H=")).map(str::to_owned);
        let value = match (value, word) {
            (Some(value), _) => Some(value),
            (None, "-H" | "--host") => words.next().map(str::to_owned),
            (None, "--tls" | "--tls=true") => {
                tls = Some(origin);
                None
            }
            (None, "--tlsverify" | "--tlsverify=true") => {
                (tls, verifies) = (Some(origin), Some(origin));
                None
            }
            _ => word.strip_prefix("-H").filter(|rest| !rest.is_empty()).map(str::to_owned),
        };
        hosts.extend(value.map(|host| (host, origin)));
    }
    served(&hosts, tls, verifies)
}

#[cfg(test)]
mod tests {
    use super::*;
    use trevlin_model::ExportId;

    fn of(text: &str) -> Reading {
        let export = Export::new(ExportId(0), "d/etc/docker/daemon.json", text.into());
        read(&export, &ReadContext::default())
    }

    #[test]
    fn places_and_logins() {
        for (text, wanted) in [
            (r#"{"hosts":["unix:///var/run/docker.sock"]}"#, None),
            (r#"{"hosts":["tcp://0.0.0.0:2375","unix://"]}"#, Some("None 2375 Plain Nothing")),
            (
                r#"{"hosts":["tcp://10.4.0.9:2376"],"tls":true}"#,
                Some("Some(10.4.0.9) 2376 Encrypted Nothing"),
            ),
            (
                r#"{"hosts":["tcp://10.4.0.9"],"tlsverify":true}"#,
                Some("Some(10.4.0.9) 2376 Encrypted Certificate"),
            ),
            (r#"{"hosts":["tcp://:2375"]}"#, Some("Some(127.0.0.1) 2375 Plain Nothing")),
        ] {
            let reading = of(text);
            let told = reading.facts.served.first().map(|one| {
                let place = &one.endpoints[0];
                let login = one.parts[0].login.value().copied().unwrap();
                format!("{:?} {} {:?} {login:?}", place.address, place.port, place.carried)
            });
            assert_eq!(told.as_deref(), wanted, "{text}");
        }
        let command = ["/usr/bin/dockerd", "-H", "fd://", "-H", "tcp://0.0.0.0:2375"];
        let origin = Origin { export: ExportId(0), start: 0, end: 1 };
        assert_eq!(by_command(&command, origin).unwrap().endpoints[0].port, 2375);
        assert!(by_command(&["/usr/bin/dockerd", "-H", "fd://"], origin).is_none());
    }

    #[test]
    fn settings() {
        let reading = of(
            r#"{"iptables":false,"icc":false,"userns-remap":"default","insecure-registries":["r.example:5000"],"wrong":1}"#,
        );
        let engine = &reading.facts.engines[0];
        assert_eq!(engine.sets_rules.value(), Some(&false));
        assert_eq!(engine.containers_meet.value(), Some(&false));
        assert_eq!((engine.remaps_users.value(), engine.plain_registries.len()), (Some(&true), 1));
        assert_eq!(reading.ledger.notes.len(), 1);
    }
}
