//! Postfix: where it takes mail, who may send to other domains without a login, and how passwords get to it.
//!
//! Format: postconf(5), master(5), smtpd(8), access(5).

mod restrictions;
mod settings;

use crate::iptables::services;
use crate::reader::{LineRecorder, ReadContext, Reader, Reading, Recognition};
use crate::serving::{self, is_known};
use crate::tls;
use restrictions::relaying;
use serde::Deserialize;
use settings::{Scope, Service, Written, main, master};
use std::collections::BTreeMap;
use std::net::IpAddr;
use trevlin_model::secret::SecretKind;
use trevlin_model::served::{
    AuthRequirement, Endpoint, PartKind, Requirement, Served, ServedKind, ServiceResource, Sources,
    TransportSecurity,
};
use trevlin_model::{Export, Families, LineClass, Origin, Protocol, Setting};

/// The reader.
pub(crate) const READER: Reader = Reader {
    name: "postfix",
    title: "mail server (Postfix)",
    manual: "postconf(5), master(5)",
    recognise: |export| match role(export) {
        Some(Role::Main | Role::Master) => Recognition::Content,
        Some(Role::Passwords | Role::Table) => Recognition::Name,
        None => Recognition::No,
    },
    read,
};

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
struct Defaults {
    /// Parameters that are judged and what they are without a line.
    usual: BTreeMap<String, String>,
    /// What differs where `compatibility_level` is below 1, and below 2.
    below_1: BTreeMap<String, String>,
    below_2: BTreeMap<String, String>,
}

trevlin_model::table! {
/// Defaults.
static DEFAULTS: Defaults = "../../../tables/postfix.toml"; }

#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Role {
    Main,
    Master,
    /// Logins at other servers.
    Passwords,
    /// Tables of addresses and clients.
    Table,
}

fn role(export: &Export) -> Option<Role> {
    let name = export.file_name();
    let folder = export.path().rsplit_once('/').map_or("", |(folder, _)| folder);
    let inside = folder.rsplit('/').next().is_some_and(|last| last.starts_with("postfix"));
    let starts = |signs: &[&str]| {
        export.lines().filter(|line| signs.iter().any(|sign| line.text.starts_with(sign))).count()
    };
    let main_signs = ["smtpd_", "mydestination", "mynetworks", "inet_interfaces", "myhostname", "relayhost"];
    match name {
        "main.cf" => return Some(Role::Main),
        "master.cf" => return Some(Role::Master),
        _ if inside && name.contains("passw") && !name.ends_with(".db") => return Some(Role::Passwords),
        _ if inside && !name.contains('.') => return Some(Role::Table),
        _ => {}
    }
    // Output of `postconf -n`.
    (name.contains("postconf") && starts(&main_signs) >= 2).then_some(Role::Main)
}

fn read(export: &Export, around: &ReadContext<'_>) -> Reading {
    let mut reading = Reading::of(export);
    reading.ledger.set(1, export.line_count(), LineClass::Ignored);
    let folder = export.path().rsplit_once('/').map_or("", |(folder, _)| folder);
    let beside = |wanted: Role| {
        around.exports.iter().copied().find(|one| {
            role(one) == Some(wanted)
                && one.path().rsplit_once('/').map_or("", |(folder, _)| folder) == folder
        })
    };
    match role(export) {
        Some(Role::Main) => {
            let (settings, strange) = main(export);
            let services = beside(Role::Master).map(|file| master(file).0);
            let mut book = LineRecorder::new(export, &mut reading.ledger, &mut reading.elsewhere);
            known_lines(&settings, &mut book);
            for origin in strange {
                book.not_understood(origin, "expected `name = value`");
            }
            unknown_restrictions(export, &settings, &mut book);
            reading.facts.served = served(&settings, services.as_deref(), export, around);
        }
        Some(Role::Master) => {
            let (services, strange) = master(export);
            let mut book = LineRecorder::new(export, &mut reading.ledger, &mut reading.elsewhere);
            for service in &services {
                if service.kind == "inet" && port(&service.name).is_none() {
                    book.not_understood(service.origin, "expected a port or its name in the first column");
                }
                book.class(service.origin, LineClass::Understood);
                known_lines(&service.overrides, &mut book);
                for word in &service.strange {
                    book.not_understood(
                        *word,
                        "expected `-o name=value` or `-v`, options of daemons of Postfix",
                    );
                }
            }
            for origin in strange {
                book.not_understood(origin, "expected the eight columns of master(5)");
            }
            if beside(Role::Main).is_none() && !services.is_empty() {
                let origin = services[0].origin;
                let mut found = served(&BTreeMap::new(), Some(&services), export, around);
                for one in &mut found {
                    one.parts.retain(|part| part.kind != PartKind::Relaying);
                    one.open.push((
                        "Please provide `main.cf` of Postfix: it decides who may send mail, and how.".into(),
                        origin,
                    ));
                }
                reading.facts.served = found;
            }
        }
        Some(Role::Passwords) => passwords(export, &mut reading),
        _ => {}
    }
    reading
}

/// The port of a service: a number or a name, behind an address or not.
fn port(name: &str) -> Option<u16> {
    let port = name.rsplit_once(':').map_or(name, |(_, port)| port);
    port.parse().ok().or_else(|| services().get(port).copied())
}

/// Reports words in lists of restrictions that are none (postconf(5)): the server rejects all mail with them.
fn unknown_restrictions(export: &Export, settings: &BTreeMap<String, Written>, book: &mut LineRecorder<'_>) {
    let classes = settings.get("smtpd_restriction_classes").map_or("", |(text, _)| text.as_str());
    for line in settings::logical(export) {
        let first = line.pieces.first().copied().unwrap_or_default();
        let Some((name, value)) = first.split_once('=') else { continue };
        if !restrictions::LISTS.contains(&name.trim()) {
            continue;
        }
        let pieces = std::iter::once(value).chain(line.pieces.iter().skip(1).copied());
        let words = pieces.flat_map(|piece| piece.split([' ', ',', '\t'])).filter(|word| !word.is_empty());
        for word in words {
            let lower = word.to_ascii_lowercase();
            let known = ["permit", "reject", "defer", "check_", "warn_if_reject", "sleep"];
            // Arguments are tables, places, names and numbers.
            let argument = word.contains([':', '/', '.', '$', '=', '{', '}']) || word.parse::<u32>().is_ok();
            let class = classes.split([' ', ',']).any(|class| class == word);
            if !argument && !class && !known.iter().any(|start| lower.starts_with(start)) {
                let origin = export.origin_of(word);
                book.not_understood(
                    origin,
                    "expected a restriction of postconf(5): the server accepts no mail with this word",
                );
            }
        }
    }
}

/// Records the lines of settings.
fn known_lines(settings: &BTreeMap<String, Written>, book: &mut LineRecorder<'_>) {
    let named = |name: &str| {
        let forms = [format!("${name}"), format!("${{{name}"), format!("$({name}")];
        settings
            .values()
            .any(|(text, _)| text == name || forms.iter().any(|form| text.contains(form.as_str())))
    };
    for (name, (value, origin)) in settings {
        let class = settings
            .get("smtpd_restriction_classes")
            .is_some_and(|(classes, _)| classes.split([' ', ',']).any(|class| class == name));
        // Settings of one transport, and of tables, are named after it.
        let of_transport = name.ends_with("_limit")
            || name.ends_with("_delay")
            || name.ends_with("_time_limit")
            || name.contains("_destination_")
            || name.contains("_table_");
        if name.contains(char::is_whitespace) {
            book.not_understood(*origin, "expected `name = value`");
        } else if DEFAULTS.usual.contains_key(name) || class || named(name) {
            book.class(*origin, LineClass::Understood);
        } else if is_known("postfix", &name.to_ascii_lowercase()) || of_transport || name.starts_with("mua_")
        {
            book.class(*origin, LineClass::Ignored);
        } else if !value.is_empty() || !name.is_empty() {
            book.not_understood(*origin, serving::unknown("postconf(5)"));
        }
    }
}

/// `[host]:587 user:password`
fn passwords(export: &Export, reading: &mut Reading) {
    for line in export.lines() {
        let text = line.text.trim();
        if text.is_empty() || text.starts_with('#') {
            continue;
        }
        let mut book = LineRecorder::new(export, &mut reading.ledger, &mut reading.elsewhere);
        let login = text.split_whitespace().nth(1).and_then(|login| login.split_once(':'));
        let Some((user, password)) = login else {
            book.not_understood(export.origin_of(text), "expected `server user:password`");
            continue;
        };
        book.understood(export.origin_of(text));
        let owner = format!("{user} at {}", text.split_whitespace().next().unwrap_or_default());
        serving::hold(export, &mut reading.facts, password, SecretKind::OwnPassword, &owner);
    }
}

/// `compatibility_level`, as far as defaults depend on it: its first number (postconf(5)).
fn level(settings: &BTreeMap<String, Written>) -> u32 {
    settings
        .get("compatibility_level")
        .and_then(|(text, _)| text.split('.').next()?.trim().parse().ok())
        .unwrap_or_default()
}

fn served(
    settings: &BTreeMap<String, Written>,
    services: Option<&[Service]>,
    export: &Export,
    around: &ReadContext<'_>,
) -> Vec<Served> {
    let mut defaults = DEFAULTS.usual.clone();
    let level = level(settings);
    if level < 2 {
        defaults.extend(DEFAULTS.below_2.clone());
    }
    if level < 1 {
        defaults.extend(DEFAULTS.below_1.clone());
    }
    let first = settings.values().map(|(_, origin)| *origin).min_by_key(|origin| origin.start);
    let top = first.unwrap_or_else(|| export.origin(0..0));
    // Without `master.cf` it is the one of the package, with the usual port alone.
    let usual = [Service {
        name: "smtp".into(),
        kind: "inet".into(),
        command: "smtpd".into(),
        overrides: BTreeMap::new(),
        strange: Vec::new(),
        origin: top,
    }];
    let all = services.unwrap_or(&usual);
    let mut found = Vec::new();
    for service in all.iter().filter(|service| service.kind == "inet") {
        let program = service.command.as_str();
        // The first looks at clients and hands those that it lets in to the second.
        let judged = match program {
            "smtpd" => service,
            "postscreen" => match all.iter().find(|one| one.kind == "pass" && one.command == "smtpd") {
                Some(behind) => behind,
                None => continue,
            },
            _ => continue,
        };
        let scope = Scope { main: settings, overrides: Some(&judged.overrides), defaults: &defaults };
        found.extend(one(service, &scope, export, around));
    }
    found
}

/// One service of `master.cf`.
fn one(service: &Service, scope: &Scope<'_>, export: &Export, around: &ReadContext<'_>) -> Option<Served> {
    let (host, port) = service
        .name
        .rsplit_once(':')
        .map_or((None, service.name.as_str()), |(host, port)| (Some(host), port));
    let port: u16 = port.parse().ok().or_else(|| services().get(port).copied())?;
    let carried = carried(scope);
    let origin = carried.1.unwrap_or(service.origin);
    let name = match service.name.as_str() {
        "smtp" | "25" => "SMTP server (Postfix)".to_owned(),
        other => format!("SMTP server (Postfix, {other})"),
    };
    let mut served =
        Served::new(ServedKind::Mail, "Postfix", name.clone(), &["postfix", "postfix@-"], service.origin)
            .labelled(service.name.clone());
    served.endpoints = places(scope, host, port, carried.0, origin);
    let login = login(scope, &name, service, (carried.0, carried.1));
    let relay = relaying(scope, export, around);
    if carried.2 {
        let why = "TLS is required and there is no certificate for it, so that it accepts no mail";
        served.refused = Some((why.to_owned(), origin));
    } else if relay.refuses {
        let why = "no list of restrictions holds mail for other domains back, so that it accepts no mail";
        served.refused = Some((why.to_owned(), relay.lines.first().copied().unwrap_or(service.origin)));
    }
    for (question, line) in relay.open {
        served.open.push((question, line));
    }
    let line = relay.lines.first().copied().unwrap_or(service.origin);
    let mut part = ServiceResource::new(PartKind::Relaying, "mail to other domains", line);
    part.sources = Sources { ranges: relay.ranges, names: relay.names, origins: relay.lines };
    part.login = if part.sources.is_nobody() {
        Setting::Stated { value: AuthRequirement::Refused, origin: line }
    } else {
        Setting::Stated { value: AuthRequirement::Address, origin: line }
    };
    served.parts.push(part);
    served.parts.extend(login);
    served.offers.extend(offer(scope, carried.0));
    Some(served)
}

/// How connections are carried: `smtpd_tls_wrappermode`, `smtpd_tls_security_level` and its older names (postconf(5)), where there is a
/// certificate. The last says that TLS is required without one, so that no client gets in.
fn carried(scope: &Scope<'_>) -> (TransportSecurity, Option<Origin>, bool) {
    let (wrapped, at) = scope.is_on("smtpd_tls_wrappermode");
    let (level, level_at) = scope.get("smtpd_tls_security_level");
    let (enforced, enforced_at) = scope.is_on("smtpd_enforce_tls");
    let (used, used_at) = scope.is_on("smtpd_use_tls");
    let has = |name: &str| !scope.get(name).0.is_empty();
    let certified =
        ["smtpd_tls_cert_file", "smtpd_tls_chain_files", "smtpd_tls_eccert_file", "smtpd_tls_dcert_file"]
            .into_iter()
            .any(has);
    let wanted = match level.as_str() {
        "encrypt" => (TransportSecurity::Encrypted, level_at),
        "may" => (TransportSecurity::Optional, level_at),
        "" if enforced => (TransportSecurity::Encrypted, enforced_at),
        "" if used || wrapped => (TransportSecurity::Optional, used_at),
        _ => (TransportSecurity::Plain, level_at),
    };
    match wanted.0 {
        TransportSecurity::Plain => (wanted.0, wanted.1, false),
        // STARTTLS is then offered, and refused where it is called.
        _ if !certified => {
            (TransportSecurity::Plain, wanted.1, wrapped || wanted.0 == TransportSecurity::Encrypted)
        }
        _ if wrapped => (TransportSecurity::Encrypted, at, false),
        _ => (wanted.0, wanted.1, false),
    }
}

/// Where it listens: its own host, otherwise `inet_interfaces`, of the versions of `inet_protocols`.
fn places(
    scope: &Scope<'_>,
    host: Option<&str>,
    port: u16,
    carried: TransportSecurity,
    origin: Origin,
) -> Vec<Endpoint> {
    let (protocols, _) = scope.get("inet_protocols");
    let has = |word: &str| protocols.split([' ', ',']).any(|one| one == word || one == "all");
    let families = match (has("ipv4"), has("ipv6")) {
        (true, false) => Families::V4,
        (false, true) => Families::V6,
        _ => Families::Both,
    };
    let everywhere = Endpoint { families, ..Endpoint::everywhere(Protocol::TCP, port, carried, origin) };
    let (interfaces, at) = scope.get("inet_interfaces");
    let text = host.unwrap_or(&interfaces);
    let line = if host.is_some() { origin } else { at.unwrap_or(origin) };
    let mut found = Vec::new();
    for word in text.split([' ', ',']).filter(|word| !word.is_empty()) {
        let bare = word.trim_matches(['[', ']']);
        match (bare, bare.parse::<IpAddr>()) {
            (_, Ok(address)) => found.push(Endpoint { origin: line, ..everywhere.clone().at(address) }),
            ("loopback-only" | "localhost", _) => {
                found.push(Endpoint { origin: line, ..everywhere.clone().at([127, 0, 0, 1].into()) });
            }
            // Every address, or one that only its name shows.
            _ => return vec![everywhere],
        }
    }
    if found.is_empty() { vec![everywhere] } else { found }
}

/// The login of a service, where it offers one: with what protection the password comes.
fn login(
    scope: &Scope<'_>,
    name: &str,
    service: &Service,
    carried: (TransportSecurity, Option<Origin>),
) -> Option<ServiceResource> {
    let (on, at) = scope.is_on("smtpd_sasl_auth_enable");
    if !on {
        return None;
    }
    let (only, only_at) = scope.is_on("smtpd_tls_auth_only");
    // Without TLS it then offers none.
    if only && carried.0 == TransportSecurity::Plain {
        return None;
    }
    let line = at.unwrap_or(service.origin);
    let mut part = ServiceResource::new(PartKind::Whole, name, line);
    let (options, options_at) = scope.get("smtpd_sasl_security_options");
    let words = || options.split([' ', ',']);
    part.login = if words().any(|word| word == "noplaintext") && carried.0 != TransportSecurity::Encrypted {
        Setting::Stated { value: AuthRequirement::Proof, origin: options_at.unwrap_or(line) }
    } else if options_at.is_some() && !words().any(|word| word == "noanonymous") {
        Setting::Stated { value: AuthRequirement::Nothing, origin: options_at.unwrap_or(line) }
    } else {
        Setting::Stated { value: AuthRequirement::Password, origin: line }
    };
    part.writes = Setting::Stated { value: true, origin: line };
    part.encryption = Some(match (only, carried.0) {
        (true, _) => Setting::Stated { value: Requirement::Required, origin: only_at.unwrap_or(line) },
        (_, TransportSecurity::Encrypted) => Setting::Stated { value: Requirement::Required, origin: line },
        (_, TransportSecurity::Optional) => {
            Setting::Stated { value: Requirement::Offered, origin: only_at.or(carried.1).unwrap_or(line) }
        }
        (_, TransportSecurity::Plain) => Setting::Stated { value: Requirement::Never, origin: line },
    });
    Some(part)
}

/// Versions and ciphers, where lines state them and TLS is required: where it is not, an old version is better than none (RFC 7435).
fn offer(scope: &Scope<'_>, carried: TransportSecurity) -> Option<trevlin_model::offer::Offer> {
    if carried != TransportSecurity::Encrypted {
        return None;
    }
    let (versions, Some(at)) = scope.get("smtpd_tls_mandatory_protocols") else { return None };
    let words: Vec<&str> = versions.split([' ', ',', ':']).filter(|word| !word.is_empty()).collect();
    Some(tls::listed_by_exclusion(None, &words, at))
}

#[cfg(test)]
mod tests;
