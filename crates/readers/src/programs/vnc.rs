//! Screens by VNC: the servers of TigerVNC and x11vnc by their options, and TigerVNC's list of users (Xvnc(1), vncserver(1), x11vnc(1),
//! RFC 6143).

use super::options::{self, Options, Word, words_of};
use crate::distribution::Distribution;
use crate::reader::{LineRecorder, ReadContext, Reader, Reading, Recognition};
use crate::serving::{self, hold};
use std::borrow::Cow;
use std::net::{IpAddr, Ipv4Addr, Ipv6Addr};
use trevlin_model::secret::SecretKind;
use trevlin_model::served::{
    AuthRequirement, Endpoint, PartKind, Remark, Requirement, Served, ServedKind, ServiceResource, Sources,
    TransportSecurity,
};
use trevlin_model::{Export, Families, LineClass, Origin, Protocol, Setting};

/// The reader of TigerVNC's files.
pub(crate) const READER: Reader = Reader {
    name: "tigervnc",
    title: "remote desktop (TigerVNC)",
    manual: "tigervnc.conf(5)",
    recognise: |export| {
        let path = export.path();
        match export.file_name() {
            "vncserver.users" | "vncserver-config-defaults" | "vncserver-config-mandatory" => {
                Recognition::Name
            }
            "tigervnc.conf" => Recognition::Name,
            "config" if path.ends_with(".vnc/config") || path.ends_with("tigervnc/config") => {
                Recognition::Name
            }
            _ => Recognition::No,
        }
    },
    read,
};

/// Settings that decide who connects.
const JUDGED: [&str; 6] =
    ["interface", "localhost", "plainusers", "rfbport", "securitytypes", "alwaysshared"];

/// One setting of a file in the notation of Perl, or of names alone: `$localhost = "no";`, `localhost=no`, `localhost`.
fn setting(text: &str) -> (String, &str) {
    let text = text.trim_start_matches('$').trim_end_matches(';').trim();
    let (name, value) = text.split_once('=').unwrap_or((text, ""));
    (name.trim().to_ascii_lowercase(), serving::unquoted(value.trim()))
}

fn read(export: &Export, around: &ReadContext<'_>) -> Reading {
    let mut reading = Reading::of(export);
    let mut book = LineRecorder::new(export, &mut reading.ledger, &mut reading.elsewhere);
    if export.file_name() != "vncserver.users" {
        for text in serving::entries(export).filter(|text| *text != "1;") {
            let origin = export.origin_of(text);
            match setting(text).0.as_str() {
                name if JUDGED.contains(&name) => book.understood(origin),
                name if serving::is_known("tigervnc", name) => book.class(origin, LineClass::Ignored),
                _ => book.not_understood(origin, serving::unknown("tigervnc.conf(5)")),
            }
        }
        return reading;
    }
    let wrapped = is_debian(around, export);
    for text in serving::entries(export) {
        let origin = export.origin_of(text);
        let row = text.split_once('=').filter(|(display, user)| {
            !user.trim().is_empty()
                && display.trim().strip_prefix(':').is_some_and(|number| number.parse::<u16>().is_ok())
        });
        let Some((_, user)) = row.map(|(display, user)| (display, user.trim())) else {
            book.not_understood(origin, "expected a display and a user, as `:2=ann`");
            continue;
        };
        book.understood(origin);
        let mut words: Vec<(String, String, Origin)> = Vec::new();
        let folders = [format!("/home/{user}/.vnc"), format!("/home/{user}/.config/tigervnc")];
        let own = folders
            .iter()
            .flat_map(|folder| ["tigervnc.conf", "config"].map(|name| format!("{folder}/{name}")));
        let files = std::iter::once("/etc/tigervnc/vncserver-config-defaults".to_owned())
            .chain(own)
            .chain(["/etc/tigervnc/vncserver-config-mandatory".to_owned()]);
        for file in files.filter_map(|path| around.find(&path, export)) {
            for text in serving::entries(file) {
                let (name, value) = setting(text);
                if JUDGED.contains(&name.as_str()) && value != "undef" {
                    words.push((name, value.to_owned(), file.origin_of(text)));
                }
            }
        }
        let mut given = Options::default();
        given.all.extend(words.into_iter().map(|(name, value, origin)| options::Given {
            name,
            value: value.into(),
            origin,
        }));
        given.rest.extend(words_of(&[text.split('=').next().unwrap_or_default().trim()], origin));
        let mut served = tiger(&given, origin, wrapped);
        served.name = format!("VNC server of {user}");
        for part in &mut served.parts {
            part.name.clone_from(&served.name);
            if part.users.is_empty() {
                part.users.push(user.to_owned());
            }
        }
        reading.facts.served.push(served);
    }
    reading
}

/// Whether the wrapper of Debian starts the servers: it limits them to the device itself unless they are protected (tigervncserver(1)).
fn is_debian(around: &ReadContext<'_>, export: &Export) -> bool {
    let file = |path: &str| around.find(path, export);
    match file("/etc/tigervnc/vncserver-config-mandatory")
        .or_else(|| file("/etc/tigervnc/vncserver-config-defaults"))
    {
        Some(file) => file.text().contains("tigervncserver"),
        None => Distribution::of(around, export).is_debian(),
    }
}

/// Facts of a command.
pub(super) fn started<'a>(
    words: &[Word<'a>],
    origin: Origin,
    export: &'a Export,
    around: &ReadContext<'a>,
    reading: &mut Reading,
) {
    let program = options::file_name(&words[0].text).to_owned();
    if program == "x11vnc" {
        let given = options::whole_words(&words[1..], |name| X11VNC_WITH_VALUE.contains(&name));
        for (name, kind) in [("passwd", "VNC"), ("viewpasswd", "VNC, view only")] {
            for one in given.of(name).filter(|one| one.origin.export == export.id()) {
                if let Cow::Borrowed(written) = &one.value {
                    hold(export, &mut reading.facts, written, SecretKind::ServicePassword, kind);
                }
            }
        }
        reading.facts.served.extend(x11vnc(&given, origin));
        return;
    }
    let script = program.ends_with("vncserver") && !program.starts_with(['x', 'X']);
    let wrapped = program == "tigervncserver" || script && is_debian(around, export);
    let given = options::whole_words(&words[1..], |name| {
        TIGER_WITH_VALUE.contains(&name) || script && name == "localhost"
    });
    if given.line("kill").is_some() || given.line("list").is_some() || given.line("inetd").is_some() {
        return;
    }
    reading.facts.served.push(tiger(&given, origin, wrapped));
}

/// The server behind a super-server, which listens for it.
pub(crate) fn behind(words: &[Word<'_>], place: Endpoint, origin: Origin) -> Served {
    let given = options::whole_words(words, |name| TIGER_WITH_VALUE.contains(&name));
    let mut served = tiger(&given, origin, false);
    let carried = served.endpoints.first().map_or(place.carried, |one| one.carried);
    served.endpoints = vec![Endpoint { carried, ..place }];
    served
}

/// Options of TigerVNC's servers that take a value (Xvnc(1), vncserver(1)).
const TIGER_WITH_VALUE: [&str; 30] = [
    "acceptcuttext",
    "comparefb",
    "depth",
    "desktop",
    "display",
    "fp",
    "geometry",
    "gnutlspriority",
    "interface",
    "maxprocessortime",
    "name",
    "pamservice",
    "password",
    "passwordfile",
    "passwd",
    "pixelformat",
    "plainusers",
    "rfbauth",
    "rfbport",
    "rfbunixmode",
    "rfbunixpath",
    "rfbwait",
    "securitytypes",
    "session",
    "useipv4",
    "useipv6",
    "x509cert",
    "x509key",
    "xstartup",
    "auth",
];

/// A server of TigerVNC. Its wrapper limits it to the device itself unless every login is encrypted and there is one (vncserver(1)).
fn tiger(given: &Options<'_>, origin: Origin, wrapped: bool) -> Served {
    let display = given.rest.iter().find_map(|word| word.text.strip_prefix(':')?.parse::<u16>().ok());
    let usual = 5900_u16.saturating_add(display.unwrap_or(if wrapped { 1 } else { 0 }));
    let port = given.number("rfbport").filter(|one| one.0 != 0).unwrap_or((usual, origin));
    let stated = given.last("securitytypes").filter(|one| !one.0.is_empty());
    let types =
        |text: &str| -> Vec<String> { text.split(',').map(|one| one.trim().to_ascii_lowercase()).collect() };
    let off = |text: &str| matches!(text.to_ascii_lowercase().as_str(), "0" | "no" | "false" | "off");
    let local = given.last("localhost");
    let encrypts = |one: &String| one.starts_with("tls") || one.starts_with("x509");
    let chosen = stated.map(|one| types(one.0));
    let near = match local {
        Some((text, line)) => (!off(text)).then_some(line),
        None if !wrapped => None,
        None => {
            let safe = chosen
                .as_ref()
                .is_some_and(|all| all.iter().any(encrypts) && !all.iter().any(|one| one.ends_with("none")));
            (!safe).then_some(origin)
        }
    };
    let types = chosen.unwrap_or_else(|| match (wrapped, near) {
        (true, Some(_)) => vec!["vncauth".into()],
        _ => vec!["tlsvnc".into(), "vncauth".into()],
    });
    let line = stated.map_or(origin, |one| one.1);
    let secured = types.iter().filter(|one| encrypts(one)).count();
    let carried = match secured {
        0 => TransportSecurity::Plain,
        some if some == types.len() => TransportSecurity::Encrypted,
        _ => TransportSecurity::Optional,
    };
    let login = types.iter().map(|one| match one.as_str() {
        one if one.ends_with("none") => AuthRequirement::Nothing,
        one if one.ends_with("plain") => AuthRequirement::Password,
        _ => AuthRequirement::Proof,
    });
    let refused = wrapped
        && near.is_none()
        && types.iter().any(|one| one.ends_with("none"))
        && given.line("i-know-this-is-insecure").is_none();
    let mut served = Served::new(
        ServedKind::RemoteDesktop,
        "TigerVNC",
        "VNC server",
        &["tigervncserver@", "vncserver@"],
        origin,
    );
    let mut place = Endpoint::everywhere(Protocol::TCP, port.0, carried, port.1);
    place.families = match (given.last("useipv4"), given.last("useipv6")) {
        (Some((text, _)), _) if off(text) => Families::V6,
        (_, Some((text, _))) if off(text) => Families::V4,
        _ => Families::Both,
    };
    served.endpoints =
        match (near, given.last("interface").and_then(|one| Some((one.0.parse::<IpAddr>().ok()?, one.1)))) {
            (Some(line), _) => ["127.0.0.1", "::1"]
                .iter()
                .filter_map(|one| one.parse::<IpAddr>().ok())
                .filter(|one| place.families.has(trevlin_model::Family::of(*one)))
                .map(|address| Endpoint { origin: line, ..place.clone().at(address) })
                .collect(),
            (None, Some((address, line))) => vec![Endpoint { origin: line, ..place.at(address) }],
            (None, None) => vec![place],
        };
    let mut part = screen(&served, line);
    if let Some(least) = login.min() {
        part.login = Setting::Stated { value: least, origin: line };
    }
    if stated.is_none() {
        part.login = Setting::default_of(AuthRequirement::Proof, "TigerVNC", "Xvnc(1), SecurityTypes");
    }
    if let Some((users, _)) = given.last("plainusers")
        && types.iter().all(|one| one.ends_with("plain"))
    {
        part.users =
            users.split(',').map(|one| one.trim().to_owned()).filter(|one| !one.is_empty()).collect();
    }
    if types.iter().any(|one| one == "plain") {
        part.remarks.push((Remark::ClearPassword, line));
    }
    part.encryption = Some(Setting::Stated {
        value: match carried {
            TransportSecurity::Plain => Requirement::Never,
            TransportSecurity::Optional => Requirement::Offered,
            TransportSecurity::Encrypted => Requirement::Required,
        },
        origin: line,
    });
    served.parts.push(part);
    if refused {
        served.refused = Some(("no login beyond the device itself is refused by its wrapper".into(), line));
    }
    served
}

fn screen(served: &Served, origin: Origin) -> ServiceResource {
    let mut part = ServiceResource::new(PartKind::Whole, served.name.clone(), origin);
    part.writes = Setting::Stated { value: true, origin };
    part.remarks.push((Remark::Administration, origin));
    part
}

/// Options of x11vnc that take a value (x11vnc(1)).
const X11VNC_WITH_VALUE: [&str; 60] = [
    "accept",
    "afteraccept",
    "allow",
    "allowedcmds",
    "auth",
    "autoport",
    "blackout",
    "buttonmap",
    "clip",
    "connect",
    "cursor_drag",
    "defer",
    "desktop",
    "dhparams",
    "display",
    "enc",
    "env",
    "flag",
    "geometry",
    "gone",
    "httpdir",
    "httpport",
    "https",
    "id",
    "input",
    "listen",
    "listen6",
    "listenv6",
    "logfile",
    "n",
    "ncache",
    "o",
    "passwd",
    "passwdfile",
    "ping",
    "pipeinput",
    "prog",
    "proxy",
    "rawfb",
    "rc",
    "readtimeout",
    "redirect",
    "reflect",
    "remap",
    "rfbauth",
    "rfbport",
    "rfbportv6",
    "rfbversion",
    "rfbwait",
    "rotate",
    "scale",
    "sid",
    "skip_keycodes",
    "sslcertfile",
    "ssldir",
    "sslkeyfile",
    "sslverify",
    "users",
    "viewpasswd",
    "wait",
];

fn x11vnc(given: &Options<'_>, origin: Origin) -> Option<Served> {
    let mut served = Served::new(ServedKind::RemoteDesktop, "x11vnc", "VNC server", &["x11vnc"], origin);
    if given.line("inetd").is_some() || given.line("connect_or_exit").is_some() {
        return None;
    }
    let port = given.number("rfbport").or_else(|| given.number("autoport")).unwrap_or((5900, origin));
    let only = given.line("sslonly");
    let tls = ["ssl", "stunnel", "vencrypt", "anontls"].iter().find_map(|name| given.line(name)).or(only);
    let carried = match tls {
        Some(_) => TransportSecurity::Encrypted,
        None => TransportSecurity::Plain,
    };
    let near = given.line("localhost");
    let at = |port: u16, line: Origin, families: Families| Endpoint {
        families,
        ..Endpoint::everywhere(Protocol::TCP, port, carried, line)
    };
    let bound = |name: &str| given.last(name).and_then(|one| Some((one.0.parse::<IpAddr>().ok()?, one.1)));
    let four = at(port.0, port.1, Families::V4);
    served.endpoints.push(match (near, given.last("listen")) {
        (Some(line), _) => Endpoint { origin: line, ..four.at(Ipv4Addr::LOCALHOST.into()) },
        (None, Some(("localhost", line))) => Endpoint { origin: line, ..four.at(Ipv4Addr::LOCALHOST.into()) },
        (None, Some((_, line))) => {
            let four = Endpoint { origin: line, ..four };
            bound("listen").map_or(four.clone(), |(address, _)| four.at(address))
        }
        (None, None) => four,
    });
    // Its library listens by IPv6 at a port of its own, which the other options neither change nor close; beside it the program does so
    // itself where that port is another.
    let stated = given.number("rfbport").is_some();
    let library = given.number("rfbportv6").filter(|_| stated).unwrap_or((5900, origin));
    let own = given.line("no6").or_else(|| given.line("noipv6")).is_none();
    if own && (near.is_some() || library.0 != port.0) {
        let six = at(port.0, port.1, Families::V6);
        served.endpoints.push(match (near, bound("listen6")) {
            (Some(line), _) => Endpoint { origin: line, ..six.at(Ipv6Addr::LOCALHOST.into()) },
            (None, Some((address, line))) => Endpoint { origin: line, ..six.at(address) },
            (None, None) => six,
        });
    }
    if near.is_none() {
        let six = at(library.0, library.1, Families::V6);
        served.endpoints.push(
            bound("listenv6")
                .map_or(six.clone(), |(address, line)| Endpoint { origin: line, ..six.at(address) }),
        );
    }
    served.endpoints.retain(|place| place.port != 0);
    let mut part = screen(&served, origin);
    if let Some(line) = given.line("viewonly") {
        part.writes = Setting::Stated { value: false, origin: line };
    }
    let words = ["rfbauth", "passwd", "passwdfile", "usepw", "svc", "xdmsvc"]
        .iter()
        .find_map(|name| given.line(name));
    let accounts = ["unixpw", "unixpw_nis", "unixpw_cmd"].iter().find_map(|name| given.line(name));
    part.login = match (accounts, words) {
        (Some(origin), _) => Setting::Stated { value: AuthRequirement::Password, origin },
        (None, Some(origin)) => Setting::Stated { value: AuthRequirement::Proof, origin },
        (None, None) => match given.line("nopw") {
            Some(origin) => Setting::Stated { value: AuthRequirement::Nothing, origin },
            None => Setting::default_of(AuthRequirement::Nothing, "x11vnc", "x11vnc(1), -nopw"),
        },
    };
    if let Some((list, line)) = given.last("allow")
        && !list.contains('/')
    {
        let mut sources = Sources { origins: vec![line], ..Sources::default() };
        for host in list.split(',').map(str::trim).filter(|host| !host.is_empty()) {
            serving::host(host, &mut sources);
        }
        part.sources = sources;
    } else if let Some(line) = given.line("localhost") {
        part.sources = Sources::of(serving::loopback().to_vec(), vec![line]);
    }
    part.encryption = Some(match tls {
        Some(origin) => Setting::Stated { value: Requirement::Required, origin },
        None => Setting::default_of(Requirement::Never, "x11vnc", "x11vnc(1), -ssl"),
    });
    served.parts.push(part);
    let pairs = [
        ("rfbauth", "passwd"),
        ("rfbauth", "viewpasswd"),
        ("rfbauth", "passwdfile"),
        ("passwdfile", "passwd"),
        ("passwdfile", "viewpasswd"),
    ];
    served.refused = pairs.iter().find_map(|(one, two)| {
        let line = given.line(one).filter(|_| given.line(two).is_some())?;
        Some((format!("`-{one}` and `-{two}` exclude each other"), line))
    });
    Some(served)
}
