//! `avahi-daemon.conf`: names by multicast DNS, and whether requests pass between networks (avahi-daemon.conf(5), RFC 6762).

use crate::ini;
use crate::reader::{LineRecorder, ReadContext, Reader, Reading, Recognition};
use crate::serving::{self, truth};
use trevlin_model::served::{
    AuthRequirement, Endpoint, PartKind, Served, ServedKind, ServiceResource, TransportSecurity,
};
use trevlin_model::{Export, Families, LineClass, Protocol, Setting};

/// The reader.
pub(crate) const READER: Reader = Reader {
    name: "avahi",
    title: "names by multicast (Avahi)",
    manual: "avahi-daemon.conf(5)",
    recognise: |export| match export.file_name() {
        "avahi-daemon.conf" => Recognition::Name,
        _ => Recognition::No,
    },
    read: |export, _: &ReadContext<'_>| read(export),
};

const JUDGED: [&str; 5] = ["allow-interfaces", "enable-reflector", "reflect-ipv", "use-ipv4", "use-ipv6"];

fn read(export: &Export) -> Reading {
    let mut reading = Reading::of(export);
    let sections = ini::sections(export, &['#', ';']);
    let mut book = LineRecorder::new(export, &mut reading.ledger, &mut reading.elsewhere);
    for entry in sections.iter().flat_map(|section| &section.entries) {
        match entry.key {
            name if JUDGED.contains(&name) => book.understood(entry.origin),
            name if serving::is_known("avahi", name) => book.class(entry.origin, LineClass::Ignored),
            _ => book.not_understood(entry.origin, serving::unknown("avahi-daemon.conf(5)")),
        }
    }
    let get = |section: &str, key: &str| {
        let own = sections.iter().rev().filter(|one| one.name == section);
        own.filter_map(|one| one.last(key)).map(|one| (one.value, one.origin)).next()
    };
    let origin = export.origin(0..0);
    let mut served = Served::new(
        ServedKind::Other,
        "Avahi",
        "names by multicast DNS (Avahi)",
        &["avahi-daemon", "avahi-daemon.socket"],
        origin,
    );
    let off = |key: &str| get("server", key).is_some_and(|one| truth(one.0) == Some(false));
    let families = match (off("use-ipv4"), off("use-ipv6")) {
        (true, true) => return reading,
        (true, false) => Families::V6,
        (false, true) => Families::V4,
        (false, false) => Families::Both,
    };
    let place =
        Endpoint { families, ..Endpoint::everywhere(Protocol::UDP, 5353, TransportSecurity::Plain, origin) };
    served.endpoints = match get("server", "allow-interfaces") {
        Some((list, line)) => list
            .split(',')
            .map(str::trim)
            .filter(|name| !name.is_empty())
            .map(|name| Endpoint { interface: Some(name.to_owned()), origin: line, ..place.clone() })
            .collect(),
        None => vec![place],
    };
    let mut part = ServiceResource::new(PartKind::Whole, served.name.clone(), origin);
    part.login = Setting::default_of(AuthRequirement::Nothing, "Avahi", "RFC 6762");
    served.parts.push(part);
    reading.facts.served.push(served);
    reading
}
