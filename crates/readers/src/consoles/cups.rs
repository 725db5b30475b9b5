//! `cupsd.conf`: printers, and the pages that administer them (cupsd.conf(5)).
//!
//! Access is that of the longest location that fits a path. The device itself is always admitted; other clients follow `Order`: with
//! `allow,deny` those on the list of permitted ones and not on the other, with `deny,allow` all but those denied and not permitted.

use crate::reader::{LineRecorder, ReadContext, Reader, Reading, Recognition};
use crate::serving::{self, unquoted};
use std::net::Ipv4Addr;
use trevlin_model::served::{
    AuthRequirement, Endpoint, PartKind, Remark, Requirement, Served, ServedKind, ServiceResource, Sources,
    TransportSecurity,
};
use trevlin_model::{Export, LineClass, Origin, Protocol, Setting};

/// The reader.
pub(crate) const READER: Reader = Reader {
    name: "cups",
    title: "print server (CUPS)",
    manual: "cupsd.conf(5)",
    recognise: |export| match export.file_name() {
        "cupsd.conf" => Recognition::Name,
        _ => Recognition::No,
    },
    read: |export, _: &ReadContext<'_>| read(export),
};

/// Directives that become facts.
const JUDGED: [&str; 15] = [
    "<limit",
    "<limitexcept",
    "<location",
    "<policy",
    "allow",
    "authtype",
    "defaultauthtype",
    "defaultencryption",
    "deny",
    "encryption",
    "listen",
    "order",
    "port",
    "require",
    "satisfy",
];
const LISTENERS: [&str; 4] = ["sslport", "ssllisten", "webinterface", "defaultpolicy"];

/// Access to a location, or to operations of a policy.
#[derive(Default)]
struct Access<'a> {
    name: &'a str,
    allow: Sources,
    deny: Sources,
    /// Whether clients on no list are refused.
    named_only: bool,
    login: Option<(&'a str, Origin)>,
    encryption: Option<(&'a str, Origin)>,
    lines: Vec<Origin>,
    origin: Option<Origin>,
}

impl Access<'_> {
    fn take<'a>(&mut self, name: &str, value: &'a str, origin: Origin) -> Option<(&'a str, Origin)> {
        let hosts = |list: &mut Sources| {
            let words: Vec<&str> = value.split_whitespace().collect();
            let words =
                words.strip_prefix(&["from"]).or_else(|| words.strip_prefix(&["From"])).unwrap_or(&words);
            for word in words.iter().flat_map(|word| word.split(',')).filter(|word| !word.is_empty()) {
                match word.to_ascii_lowercase().as_str() {
                    "none" => {}
                    // Addresses of the networks that the device is in.
                    "@local" => list.names.push("its own networks".into()),
                    _ if word.to_ascii_lowercase().starts_with("@if(") => {
                        list.names.push(format!("the network of {}", &word[4..].trim_end_matches(')')))
                    }
                    _ => serving::host(word.trim_matches(['[', ']']).trim_end_matches('*'), list),
                }
            }
        };
        match name {
            "allow" => hosts(&mut self.allow),
            "deny" => hosts(&mut self.deny),
            "order" => self.named_only = value.to_ascii_lowercase().starts_with("allow"),
            _ => return Some((value, origin)),
        }
        self.lines.push(origin);
        None
    }

    fn sources(&self) -> Sources {
        let (mut ranges, names) = if self.named_only {
            (self.allow.clone().without(&self.deny.ranges).ranges, self.allow.names.clone())
        } else {
            let mut all = Sources::everybody().without(&self.deny.ranges).without(&self.allow.ranges).ranges;
            all.extend(self.allow.ranges.iter().copied());
            (all, Vec::new())
        };
        for own in serving::loopback() {
            if !ranges.iter().any(|range| range.contains(own.first())) {
                ranges.push(own);
            }
        }
        Sources { ranges, names, origins: self.lines.clone() }
    }
}

fn read(export: &Export) -> Reading {
    let mut reading = Reading::of(export);
    let mut places: Vec<Endpoint> = Vec::new();
    let mut locations: Vec<Access<'_>> = Vec::new();
    // Operations that change printers, in a policy.
    let mut steering: Option<(&str, Origin)> = None;
    let (mut open, mut limits) = (Vec::<String>::new(), false);
    let mut encryption: Option<(&str, Origin)> = None;
    let mut web = None;
    for text in serving::entries(export) {
        let origin = export.origin_of(text);
        let (name, value) =
            text.split_once(char::is_whitespace).map_or((text, ""), |(name, value)| (name, value.trim()));
        let small = name.to_ascii_lowercase();
        let mut book = LineRecorder::new(export, &mut reading.ledger, &mut reading.elsewhere);
        match small.as_str() {
            "</location>" | "</policy>" | "</limit>" | "</limitexcept>" => {
                open.pop();
                limits &= small != "</limit>";
                book.class(origin, LineClass::Ignored);
                continue;
            }
            small if JUDGED.contains(&small) || LISTENERS.contains(&small) => book.understood(origin),
            small if serving::is_known("cups", small) => book.class(origin, LineClass::Ignored),
            _ => book.not_understood(origin, serving::unknown("cupsd.conf(5)")),
        }
        let inside = open.last().map(String::as_str);
        match (small.as_str(), inside) {
            ("<location", _) => {
                let path = unquoted(value.trim_end_matches('>').trim());
                locations.push(Access { name: path, origin: Some(origin), ..Access::default() });
                open.push("location".into());
            }
            ("<policy", _) => open.push("policy".into()),
            ("<limit" | "<limitexcept", _) => {
                limits = value.to_ascii_lowercase().contains("cups-add-modify-printer");
                open.push("limit".into());
            }
            ("authtype", Some("limit")) if limits => steering = Some((value, origin)),
            (_, Some("location")) => {
                if let Some(access) = locations.last_mut()
                    && let Some(other) = access.take(&small, value, origin)
                {
                    match small.as_str() {
                        "authtype" => access.login = Some(other),
                        "encryption" => access.encryption = Some(other),
                        _ => {}
                    }
                }
            }
            ("defaultencryption", _) => encryption = Some((value, origin)),
            ("webinterface", _) => web = serving::truth(value),
            ("listen" | "port", None) => places.extend(place(value, TransportSecurity::Optional, origin)),
            ("ssllisten" | "sslport", None) => {
                places.extend(place(value, TransportSecurity::Encrypted, origin))
            }
            _ => {}
        }
    }
    if places.is_empty() {
        return reading;
    }
    let origin = places[0].origin;
    let mut served =
        Served::new(ServedKind::Pages, "CUPS", "print server (CUPS)", &["cups", "cups.socket"], origin);
    let never = encryption.filter(|one| one.0.eq_ignore_ascii_case("never"));
    if never.is_some() {
        for place in &mut places {
            place.carried = place.carried.max(TransportSecurity::Plain);
        }
    }
    served.endpoints = places;
    for access in &locations {
        let administers = access.name == "/admin" || access.name.starts_with("/admin/");
        if administers && web == Some(false) {
            continue;
        }
        let line = access.origin.unwrap_or(origin);
        let mut part = ServiceResource::new(PartKind::Page, access.name, line);
        part.sources = access.sources();
        let stated = access.login.or(steering.filter(|_| administers));
        part.login = match stated {
            Some((kind, origin)) if kind.eq_ignore_ascii_case("none") => {
                Setting::Stated { value: AuthRequirement::Nothing, origin }
            }
            Some((kind, origin)) if kind.eq_ignore_ascii_case("negotiate") => {
                Setting::Stated { value: AuthRequirement::Proof, origin }
            }
            Some((_, origin)) => Setting::Stated { value: AuthRequirement::Password, origin },
            None => Setting::Stated { value: AuthRequirement::Nothing, origin: line },
        };
        part.writes = Setting::Stated { value: administers, origin: line };
        if administers {
            part.remarks.push((Remark::Administration, line));
        }
        // Logins from other hosts require encryption unless the file says otherwise (cupsd.conf(5), DefaultEncryption).
        let (secured, at) = access.encryption.or(encryption).unwrap_or(("required", line));
        let requirement = match secured.to_ascii_lowercase().as_str() {
            "never" => Requirement::Never,
            "ifrequested" => Requirement::Offered,
            _ => Requirement::Required,
        };
        if requirement != Requirement::Required && part.login.value() == Some(&AuthRequirement::Password) {
            part.remarks.push((Remark::ClearPassword, at));
        }
        part.encryption = Some(Setting::Stated { value: requirement, origin: at });
        served.parts.push(part);
    }
    reading.facts.served.push(served);
    reading
}

/// `631`, `*:631`, `localhost:631`, `10.4.0.9`, `[::1]:631`; sockets of the machine are of no other.
fn place(text: &str, carried: TransportSecurity, line: Origin) -> Vec<Endpoint> {
    let at = |port| Endpoint::everywhere(Protocol::TCP, port, carried, line);
    if text.starts_with('/') {
        return Vec::new();
    }
    if let Ok(port) = text.parse() {
        return vec![at(port)];
    }
    let (host, port) = serving::host_and_port(text);
    let place = at(port.unwrap_or(631));
    match host.map(|host| host.trim_matches(['[', ']'])) {
        None => vec![place],
        Some("localhost") => {
            vec![place.clone().at(Ipv4Addr::LOCALHOST.into()), place.at(std::net::Ipv6Addr::LOCALHOST.into())]
        }
        Some(host) => vec![host.parse().map_or(place.clone(), |address| place.at(address))],
    }
}
