//! `xrdp.ini` and `sesman.ini`: a remote desktop by RDP, and who may log in to it (xrdp.ini(5), sesman.ini(5)).

use crate::ini::{self, Section};
use crate::reader::{LineRecorder, ReadContext, Reader, Reading, Recognition};
use crate::serving::{self, hold, truth};
use crate::tls;
use trevlin_model::offer::{AlgorithmRole, Offer, OfferPart, Offered, Spelling};
use trevlin_model::secret::SecretKind;
use trevlin_model::served::{
    AuthRequirement, Endpoint, PartKind, Remark, Requirement, Served, ServedKind, ServiceResource,
    ServiceWeakness, TransportSecurity,
};
use trevlin_model::{Export, LineClass, Origin, Protocol, Setting};

/// The reader.
pub(crate) const READER: Reader = Reader {
    name: "xrdp",
    title: "remote desktop (xrdp)",
    manual: "xrdp.ini(5)",
    recognise: |export| match export.file_name() {
        "xrdp.ini" | "sesman.ini" => Recognition::Name,
        "rsakeys.ini" if export.path().contains("xrdp/") => Recognition::Name,
        _ => Recognition::No,
    },
    read,
};

/// Settings that become facts.
const JUDGED: [&str; 13] = [
    "allowrootlogin",
    "alwaysgroupcheck",
    "crypt_level",
    "ip",
    "listenaddress",
    "listenport",
    "lib",
    "password",
    "port",
    "security_layer",
    "ssl_protocols",
    "terminalserverusers",
    "tls_ciphers",
];

fn read(export: &Export, around: &ReadContext<'_>) -> Reading {
    let mut reading = Reading::of(export);
    let sections = ini::sections(export, &['#', ';']);
    let mut book = LineRecorder::new(export, &mut reading.ledger, &mut reading.elsewhere);
    if export.file_name() == "rsakeys.ini" {
        for entry in sections.iter().flat_map(|section| &section.entries) {
            match entry.key.starts_with("p") {
                true => book.class(entry.origin, LineClass::Ignored),
                false => book.not_understood(entry.origin, "expected a key of xrdp-keygen(8), as `pub_exp=`"),
            }
            // The private half of the key that Standard RDP Security is set up with.
            if entry.key == "pri_exp" {
                reading.facts.masked_places.push(entry.origin);
            }
        }
        return reading;
    }
    // Sections of sessions and variables have names of their own.
    for section in &sections {
        let free =
            matches!(section.name, "SessionVariables" | "LoggingPerLogger" | "ChansrvLoggingPerLogger");
        for entry in &section.entries {
            match entry.key.to_ascii_lowercase().as_str() {
                _ if free => book.class(entry.origin, LineClass::Ignored),
                name if JUDGED.contains(&name) => book.understood(entry.origin),
                name if serving::is_known("xrdp", name) || name.starts_with("channel.") => {
                    book.class(entry.origin, LineClass::Ignored);
                }
                _ => book.not_understood(entry.origin, serving::unknown("xrdp.ini(5) and sesman.ini(5)")),
            }
        }
    }
    if export.file_name() != "xrdp.ini" {
        return reading;
    }
    for section in &sections {
        for entry in section.all("password").filter(|entry| !entry.value.starts_with("ask")) {
            let owner = format!("session {} of xrdp", section.name);
            hold(export, &mut reading.facts, entry.value, SecretKind::OwnPassword, &owner);
        }
    }
    let none = Section { name: "", origin: export.origin(0..0), comment: None, entries: Vec::new() };
    let globals = sections.iter().find(|one| one.name.eq_ignore_ascii_case("globals")).unwrap_or(&none);
    reading.facts.served.push(desktop(globals, export, around));
    reading
}

fn desktop(globals: &Section<'_>, export: &Export, around: &ReadContext<'_>) -> Served {
    let get =
        |name: &str| globals.last(name).map(|one| (one.value, one.origin)).filter(|one| !one.0.is_empty());
    let origin = globals.origin;
    let mut served =
        Served::new(ServedKind::RemoteDesktop, "xrdp", "remote desktop (xrdp)", &["xrdp"], origin);
    let layer = get("security_layer").map_or(("negotiate", origin), |one| one);
    let level = get("crypt_level").map_or(("high", origin), |one| one);
    let carried = match (layer.0.to_ascii_lowercase().as_str(), level.0.to_ascii_lowercase().as_str()) {
        ("tls", _) => TransportSecurity::Encrypted,
        (_, "none") => TransportSecurity::Plain,
        // Without TLS the protocol encrypts by itself.
        _ => TransportSecurity::Encrypted,
    };
    let (ports, line) = get("port").unwrap_or(("3389", origin));
    served.endpoints = ports.split([',', ' ']).flat_map(|one| places(one.trim(), carried, line)).collect();
    if !layer.0.eq_ignore_ascii_case("rdp") {
        let versions: Vec<(&str, Origin)> = get("ssl_protocols")
            .map(|(list, at)| {
                list.split(',').map(|one| (one.trim(), at)).filter(|one| !one.0.is_empty()).collect()
            })
            .unwrap_or_default();
        let offer = tls::listed(get("tls_ciphers"), &versions, layer.1);
        served.offers.extend(Some(offer).filter(|offer| !offer.algorithms.is_empty()));
    }
    // Standard RDP Security uses RC4, or Triple DES at the level `fips` (xrdp.ini(5), crypt_level).
    if !layer.0.eq_ignore_ascii_case("tls") && !level.0.eq_ignore_ascii_case("none") {
        let name = if level.0.eq_ignore_ascii_case("fips") { "3des" } else { "rc4" };
        let line = if get("crypt_level").is_some() { level.1 } else { layer.1 };
        let default = get("security_layer").is_none().then_some("xrdp.ini(5), security_layer");
        let cipher = Offered {
            name: name.into(),
            role: Some(AlgorithmRole::Encryption),
            versions: None,
            suite: 0,
            origin: line,
            default,
        };
        served.offers.push(Offer {
            part: OfferPart::Data,
            spelling: Spelling::Trade,
            algorithms: vec![cipher],
            own_order: false,
            open: None,
            origin: line,
        });
    }
    let mut part = ServiceResource::new(PartKind::Whole, served.name.clone(), line);
    part.writes = Setting::Stated { value: true, origin: line };
    part.remarks.push((Remark::Administration, line));
    part.login = Setting::default_of(AuthRequirement::Password, "xrdp", "sesman.ini(5)");
    part.encryption = Some(Setting::Stated {
        value: if carried == TransportSecurity::Plain { Requirement::Never } else { Requirement::Required },
        origin: layer.1,
    });
    if carried == TransportSecurity::Plain {
        part.remarks.push((Remark::ClearPassword, level.1));
    }
    if let Some(sessions) = around.find("/etc/xrdp/sesman.ini", export) {
        let sections = ini::sections(sessions, &['#', ';']);
        let security = sections.iter().find(|one| one.name.eq_ignore_ascii_case("security"));
        let last = |name: &str| security.and_then(|one| one.last(name)).map(|one| (one.value, one.origin));
        // Root may log in unless the file says otherwise (sesman.ini(5), AllowRootLogin).
        if let Some((_, line)) = last("AllowRootLogin").filter(|one| truth(one.0) == Some(true)) {
            served.weaknesses.push((ServiceWeakness::RootLogin, line));
        }
        let always = last("AlwaysGroupCheck").is_some_and(|one| truth(one.0) == Some(true));
        if let Some((group, _)) = last("TerminalServerUsers").filter(|one| always && !one.0.is_empty()) {
            part.users.push(format!("@{group}"));
        }
    }
    served.parts.push(part);
    served
}

/// `3389`, `tcp://:3389`, `tcp://.:3389` for the device itself, `tcp://10.4.0.9:3389`, `tcp6://{::1}:3389` (xrdp.ini, port).
fn places(text: &str, carried: TransportSecurity, line: Origin) -> Vec<Endpoint> {
    let at = |port| Endpoint::everywhere(Protocol::TCP, port, carried, line);
    if let Ok(port) = text.parse() {
        return vec![at(port)];
    }
    let Some((scheme, rest)) = text.split_once("://") else { return Vec::new() };
    let Some((host, port)) = rest.rsplit_once(':').and_then(|(host, port)| Some((host, port.parse().ok()?)))
    else {
        return Vec::new();
    };
    let mut place = at(port);
    match scheme {
        "tcp" | "tcp4" => place.families = trevlin_model::Families::V4,
        // All addresses of IPv6 take connections of both versions.
        "tcp6" => {}
        _ => return Vec::new(),
    }
    match (scheme, host.trim_matches(['{', '}', '[', ']'])) {
        ("tcp6", ".") => vec![place.at(std::net::Ipv6Addr::LOCALHOST.into())],
        (_, ".") => vec![place.at(std::net::Ipv4Addr::LOCALHOST.into())],
        (_, host) => vec![host.parse().map_or(place.clone(), |address| place.at(address))],
    }
}
