//! `influxdb.conf` of InfluxDB 1: a database of measurements (its configuration guide).

use crate::ini::{self, Entry};
use crate::reader::{LineRecorder, ReadContext, Reader, Reading, Recognition};
use crate::serving::{self, hold, truth, unquoted};
use trevlin_model::secret::SecretKind;
use trevlin_model::served::{
    AuthRequirement, Endpoint, PartKind, Remark, Requirement, Served, ServedKind, ServiceResource,
    TransportSecurity,
};
use trevlin_model::{Export, LineClass, Origin, Protocol, Setting};

/// The reader.
pub(crate) const READER: Reader = Reader {
    name: "influxdb",
    title: "database (InfluxDB 1)",
    manual: "the configuration guide of InfluxDB 1",
    recognise: |export| match export.file_name() {
        "influxdb.conf" => Recognition::Name,
        _ => Recognition::No,
    },
    read: |export, _: &ReadContext<'_>| read(export),
};

const JUDGED: [&str; 8] = [
    "auth-enabled",
    "bind-address",
    "enabled",
    "https-enabled",
    "ping-auth-enabled",
    "protocol",
    "shared-secret",
    "pprof-auth-enabled",
];

/// The value without quotes and the comment behind it.
fn bare<'a>(entry: &Entry<'a>) -> &'a str {
    let value = entry.value;
    match value.strip_prefix('"').and_then(|rest| rest.split_once('"')) {
        Some((inner, _)) => inner,
        None => unquoted(ini::before_comment(value, &['#'])),
    }
}

fn read(export: &Export) -> Reading {
    let mut reading = Reading::of(export);
    let sections = ini::sections(export, &['#']);
    let mut book = LineRecorder::new(export, &mut reading.ledger, &mut reading.elsewhere);
    let mut inside = false;
    for entry in sections.iter().flat_map(|section| &section.entries) {
        // Lists may go on over several lines.
        if inside || !entry.has_value {
            book.class(entry.origin, LineClass::Ignored);
            inside = !export.text_at(entry.origin).contains(']') && inside;
            continue;
        }
        match entry.key {
            name if JUDGED.contains(&name) => book.understood(entry.origin),
            name if serving::is_known("influxdb", name) => book.class(entry.origin, LineClass::Ignored),
            _ => book.not_understood(entry.origin, serving::unknown("InfluxDB 1")),
        }
        inside = entry.value.starts_with('[') && !entry.value.contains(']');
    }
    let origin = export.origin(0..0);
    for section in &sections {
        let name = section.name.trim_start_matches('[');
        if let Some(entry) = section.last("shared-secret") {
            let value = bare(entry);
            hold(export, &mut reading.facts, value, SecretKind::ServicePassword, "tokens of InfluxDB");
        }
        let get = |key: &str| section.last(key).map(|entry| (bare(entry), entry.origin));
        let on = |key: &str| get(key).filter(|one| truth(one.0) == Some(true)).map(|one| one.1);
        match name {
            // Backups and restores, of every database; the port takes no login (configuration guide, bind-address).
            "" => {
                let (place, line) = get("bind-address").unwrap_or(("127.0.0.1:8088", origin));
                reading.facts.served.extend(input(
                    ServedKind::Databases,
                    "backups of a database (InfluxDB)",
                    place,
                    Protocol::TCP,
                    line,
                ));
            }
            "http" => {}
            "graphite" | "collectd" | "opentsdb" | "udp" => {
                let Some(line) = on("enabled") else { continue };
                let (usual, protocol) = match name {
                    "graphite" => (
                        ":2003",
                        if get("protocol").is_some_and(|one| one.0 == "udp") {
                            Protocol::UDP
                        } else {
                            Protocol::TCP
                        },
                    ),
                    "collectd" => (":25826", Protocol::UDP),
                    "opentsdb" => (":4242", Protocol::TCP),
                    _ => (":8089", Protocol::UDP),
                };
                let (place, line) =
                    get("bind-address").filter(|one| !one.0.is_empty()).unwrap_or((usual, line));
                reading.facts.served.extend(input(
                    ServedKind::Other,
                    &format!("measurements by {name} (InfluxDB)"),
                    place,
                    protocol,
                    line,
                ));
            }
            _ => {}
        }
    }
    let http = sections.iter().find(|section| section.name == "http");
    let get = |key: &str| http.and_then(|one| one.last(key)).map(|entry| (bare(entry), entry.origin));
    reading.facts.served.extend(database(&get, http.map_or(origin, |one| one.origin)));
    reading
}

fn database<'a>(get: &dyn Fn(&str) -> Option<(&'a str, Origin)>, origin: Origin) -> Option<Served> {
    let is = |key: &str, wanted: bool| get(key).filter(|one| truth(one.0) == Some(wanted)).map(|one| one.1);
    if is("enabled", false).is_some() {
        return None;
    }
    let tls = is("https-enabled", true);
    let carried = if tls.is_some() { TransportSecurity::Encrypted } else { TransportSecurity::Plain };
    let mut served =
        Served::new(ServedKind::Databases, "InfluxDB", "database (InfluxDB)", &["influxdb"], origin);
    let (place, line) = get("bind-address").filter(|one| !one.0.is_empty()).unwrap_or((":8086", origin));
    served.endpoints.extend(at(place, Protocol::TCP, carried, line));
    let mut part = ServiceResource::new(PartKind::Whole, served.name.clone(), line);
    part.writes = Setting::Stated { value: true, origin: line };
    part.login = match (is("auth-enabled", true), is("auth-enabled", false)) {
        (Some(origin), _) => Setting::Stated { value: AuthRequirement::Password, origin },
        (None, Some(origin)) => Setting::Stated { value: AuthRequirement::Nothing, origin },
        (None, None) => Setting::default_of(AuthRequirement::Nothing, "InfluxDB 1", "auth-enabled"),
    };
    part.encryption = Some(match tls {
        Some(origin) => Setting::Stated { value: Requirement::Required, origin },
        None => Setting::default_of(Requirement::Never, "InfluxDB 1", "https-enabled"),
    });
    if tls.is_none()
        && let Some(line) = is("auth-enabled", true)
    {
        part.remarks.push((Remark::ClearPassword, line));
    }
    served.parts.push(part);
    Some(served)
}

/// A further input without a login.
fn input(kind: ServedKind, name: &str, place: &str, protocol: Protocol, line: Origin) -> Option<Served> {
    let mut served = Served::new(kind, "InfluxDB", name, &["influxdb"], line);
    served.endpoints.push(at(place, protocol, TransportSecurity::Plain, line)?);
    let mut part = ServiceResource::new(PartKind::Whole, name, line);
    part.login = Setting::default_of(AuthRequirement::Nothing, "InfluxDB 1", "bind-address");
    part.writes = Setting::Stated { value: kind == ServedKind::Databases, origin: line };
    part.encryption = Some(Setting::default_of(Requirement::Never, "InfluxDB 1", "bind-address"));
    served.parts.push(part);
    Some(served)
}

/// `:8086`, `10.4.0.9:8086`, `localhost:8086`.
fn at(text: &str, protocol: Protocol, carried: TransportSecurity, line: Origin) -> Option<Endpoint> {
    let (host, port) = serving::host_and_port(text);
    let place = Endpoint::everywhere(protocol, port?, carried, line);
    Some(match host {
        Some("localhost") => place.at([127, 0, 0, 1].into()),
        // All addresses of one IP version are those of both (net.Listen of Go).
        Some("0.0.0.0" | "::") | None => place,
        Some(host) => host.parse().map_or(place.clone(), |address| place.at(address)),
    })
}
