//! `upsd.conf`, `upsd.users` and `upsmon.conf`: who may see the state of an uninterruptible power supply, and who may switch it.
//!
//! Formats: upsd.conf(5), upsd.users(5), upsmon.conf(5), nut.conf(5).

use crate::ini;
use crate::keyed::{self, Form, by_blank};
use crate::reader::{LineRecorder, ReadContext, Reader, Reading, Recognition};
use crate::serving::{self, hold, unquoted};
use trevlin_model::secret::SecretKind;
use trevlin_model::served::{
    AuthRequirement, Endpoint, PartKind, Remark, Requirement, Served, ServedKind, ServiceResource,
    TransportSecurity,
};
use trevlin_model::{Export, LineClass, Origin, Protocol, Setting};

/// The reader of the server's settings.
pub(crate) const READER: Reader = Reader {
    name: "upsd",
    title: "power supply server (NUT)",
    manual: "upsd.conf(5)",
    recognise: |export| match export.file_name() {
        "upsd.conf" | "nut.conf" => Recognition::Name,
        _ => Recognition::No,
    },
    read,
};

/// The reader of its users.
pub(crate) const USERS: Reader = Reader {
    name: "upsd-users",
    title: "users of a power supply server (NUT)",
    manual: "upsd.users(5)",
    recognise: |export| match export.file_name() {
        "upsd.users" => Recognition::Name,
        _ => Recognition::No,
    },
    read: |export, _| read_users(export),
};

/// The reader of the settings of its client.
pub(crate) const CLIENT: Reader = Reader {
    name: "upsmon",
    title: "client of a power supply server (NUT)",
    manual: "upsmon.conf(5)",
    recognise: |export| match export.file_name() {
        "upsmon.conf" => Recognition::Name,
        _ => Recognition::No,
    },
    read: |export, around| {
        let mut reading = Reading::of(export);
        for entry in keyed::load(export, &CLIENT_FORM, around, &mut reading).of("MONITOR") {
            // System, power value, user, password, type.
            let words: Vec<&str> = entry.value.split_whitespace().collect();
            if let [_, _, user, word, ..] = words.as_slice() {
                hold(export, &mut reading.facts, word, SecretKind::OwnPassword, unquoted(user));
            }
        }
        reading
    },
};

const CLIENT_FORM: Form = Form {
    program: "upsmon",
    manual: "upsmon.conf(5)",
    judged: &["monitor"],
    split: by_blank,
    included: None,
};

const FORM: Form = Form {
    program: "upsd",
    manual: "upsd.conf(5)",
    judged: &["certfile", "certpath", "listen"],
    split: by_blank,
    included: None,
};

const UNITS: &[&str] = &["nut-server"];

/// Variables of nut.conf(5) besides the mode.
const OPTIONS: [&str; 12] = [
    "ALLOW_NOT_ALL_LISTENERS",
    "ALLOW_NO_DEVICE",
    "NUT_ALTPIDPATH",
    "NUT_CONFPATH",
    "NUT_DEBUG_LEVEL",
    "NUT_DEBUG_PID",
    "NUT_PIDPATH",
    "NUT_QUIET_INIT_SSL",
    "NUT_STATEPATH",
    "POWEROFF_WAIT",
    "UPSD_OPTIONS",
    "UPSMON_OPTIONS",
];

fn read(export: &Export, around: &ReadContext<'_>) -> Reading {
    let mut reading = Reading::of(export);
    if export.file_name() == "nut.conf" {
        let mut book = LineRecorder::new(export, &mut reading.ledger, &mut reading.elsewhere);
        for text in serving::entries(export) {
            let origin = export.origin_of(text);
            match text.split_once('=').map(|(name, _)| name.trim_start_matches("export ").trim()) {
                Some("MODE") => book.understood(origin),
                Some(name) if OPTIONS.contains(&name) => book.class(origin, LineClass::Ignored),
                _ => book.not_understood(origin, "expected `NAME=value`; see nut.conf(5)"),
            }
        }
        return reading;
    }
    let entries = keyed::load(export, &FORM, around, &mut reading);
    // The server is started in two modes only (nut.conf(5), MODE).
    let mode = around.find("/etc/nut/nut.conf", export).and_then(|file| {
        serving::entries(file)
            .filter_map(|line| line.strip_prefix("MODE="))
            .last()
            .map(|mode| unquoted(mode.trim()))
    });
    if mode.is_some_and(|mode| !matches!(mode, "standalone" | "netserver")) {
        return reading;
    }
    let origin = entries.origin(export);
    let mut served =
        Served::new(ServedKind::Agents, "NUT", "monitoring agent for power supplies (NUT)", UNITS, origin);
    let tls = entries.last("CERTFILE").or_else(|| entries.last("CERTPATH"));
    let carried = if tls.is_some() { TransportSecurity::Optional } else { TransportSecurity::Plain };
    for entry in entries.of("LISTEN") {
        let mut words = entry.value.split_whitespace().map(unquoted);
        let host = words.next().unwrap_or_default();
        let port = words.next().and_then(|port| port.parse().ok()).unwrap_or(3493);
        let place = Endpoint::everywhere(Protocol::TCP, port, carried, entry.origin);
        match (host, host.parse()) {
            ("localhost", _) => served.endpoints.push(place.at([127, 0, 0, 1].into())),
            // One socket of IPv6 takes connections of both versions.
            ("::", _) => served.endpoints.push(place),
            (_, Ok(address)) => served.endpoints.push(place.at(address)),
            _ => served.endpoints.push(place),
        }
    }
    if served.endpoints.is_empty() {
        let place = Endpoint::everywhere(Protocol::TCP, 3493, carried, origin);
        served.endpoints.push(place.clone().at([127, 0, 0, 1].into()));
        served.endpoints.push(place.at(std::net::Ipv6Addr::LOCALHOST.into()));
    }
    let line = tls.map_or(origin, |one| one.1);
    let encryption = match tls {
        Some(_) => Setting::Stated { value: Requirement::Offered, origin: line },
        None => Setting::default_of(Requirement::Never, "upsd", "upsd.conf(5), CERTFILE"),
    };
    let mut part = ServiceResource::new(PartKind::Whole, served.name.clone(), origin);
    part.login = Setting::default_of(AuthRequirement::Nothing, "upsd", "upsd.users(5)");
    part.encryption = Some(encryption.clone());
    served.parts.push(part);
    for user in around.find("/etc/nut/upsd.users", export).map(users).unwrap_or_default() {
        let mut part = ServiceResource::new(PartKind::User, user.name, user.origin);
        part.login = Setting::Stated { value: AuthRequirement::Password, origin: user.origin };
        part.encryption = Some(encryption.clone());
        part.users = vec![user.name.to_owned()];
        if let Some(line) = user.switches {
            part.writes = Setting::Stated { value: true, origin: line };
            part.remarks.push((Remark::Commands, line));
        }
        served.parts.push(part);
    }
    reading.facts.served.push(served);
    reading
}

struct User<'a> {
    name: &'a str,
    /// The line by which it may change settings, run commands or shut systems down.
    switches: Option<Origin>,
    origin: Origin,
}

fn users(export: &Export) -> Vec<User<'_>> {
    let sections = ini::sections(export, &['#']);
    sections
        .into_iter()
        .filter(|section| section.last("password").is_some())
        .map(|section| {
            let switches = section.entries.iter().find(|entry| {
                matches!(entry.key.to_ascii_lowercase().as_str(), "actions" | "instcmds")
                    || entry.key.to_ascii_lowercase().starts_with("upsmon")
            });
            User {
                name: section.name,
                switches: switches.map(|entry| entry.origin),
                origin: section.last("password").map_or(section.origin, |entry| entry.origin),
            }
        })
        .collect()
}

fn read_users(export: &Export) -> Reading {
    let mut reading = Reading::of(export);
    let mut user = "";
    for text in serving::entries(export) {
        let origin = export.origin_of(text);
        let mut book = LineRecorder::new(export, &mut reading.ledger, &mut reading.elsewhere);
        if let Some(name) = text.strip_prefix('[').and_then(|text| text.split(']').next()) {
            book.understood(origin);
            user = name;
            continue;
        }
        let (name, value) =
            text.split_once('=').map_or((text, ""), |(name, value)| (name.trim(), value.trim()));
        match name.split_whitespace().next().unwrap_or_default() {
            "actions" | "instcmds" | "upsmon" => book.understood(origin),
            "password" => {
                book.understood(origin);
                hold(export, &mut reading.facts, value, SecretKind::ServicePassword, user);
            }
            "allowfrom" => book.class(origin, LineClass::Ignored),
            _ => book.not_understood(origin, serving::unknown("upsd.users(5)")),
        }
    }
    reading
}
