//! Memcached by its options: `/etc/memcached.conf`, one in each line, `/etc/sysconfig/memcached`, and own units (memcached(1)).

use super::options::{self, Form, Options, Variables, Word, words_of};
use crate::reader::{LineRecorder, ReadContext, Reader, Reading, Recognition};
use crate::serving;
use trevlin_model::served::{
    AuthRequirement, Endpoint, PartKind, Requirement, Served, ServedKind, ServiceResource, TransportSecurity,
};
use trevlin_model::{Export, LineClass, Origin, Protocol, Setting};

/// The reader.
pub(crate) const READER: Reader = Reader {
    name: "memcached",
    title: "cache (Memcached)",
    manual: "memcached(1)",
    recognise: |export| match export.file_name() {
        "memcached.conf" => Recognition::Name,
        "memcached" if export.path().ends_with("sysconfig/memcached") => Recognition::Name,
        _ => Recognition::No,
    },
    read,
};

/// Options of version 1.6 (memcached(1)).
const FORM: Form = Form {
    letters: "a:Ap:s:U:m:Mc:khiVrvdl:u:P:f:n:t:D:LR:CB:b:SI:FXWY:e:Zo:N:",
    long: &[
        ("unix-mask", Some('a')),
        ("enable-shutdown", Some('A')),
        ("port", Some('p')),
        ("unix-socket", Some('s')),
        ("udp-port", Some('U')),
        ("memory-limit", Some('m')),
        ("disable-evictions", Some('M')),
        ("conn-limit", Some('c')),
        ("lock-memory", Some('k')),
        ("help", Some('h')),
        ("license", Some('i')),
        ("version", Some('V')),
        ("enable-coredumps", Some('r')),
        ("verbose", Some('v')),
        ("daemon", Some('d')),
        ("listen", Some('l')),
        ("user", Some('u')),
        ("pidfile", Some('P')),
        ("slab-growth-factor", Some('f')),
        ("slab-min-size", Some('n')),
        ("threads", Some('t')),
        ("enable-largepages", Some('L')),
        ("max-reqs-per-event", Some('R')),
        ("disable-cas", Some('C')),
        ("listen-backlog", Some('b')),
        ("protocol", Some('B')),
        ("max-item-size", Some('I')),
        ("enable-sasl", Some('S')),
        ("disable-flush-all", Some('F')),
        ("disable-dumping", Some('X')),
        ("disable-watch", Some('W')),
        ("auth-file", Some('Y')),
        ("memory-file", Some('e')),
        ("enable-ssl", Some('Z')),
        ("extended", Some('o')),
        ("napi-ids", Some('N')),
    ],
    with_value: &[],
};

/// Variables of its start on Fedora and its descendants.
const VARIABLES: [&str; 5] = ["PORT", "USER", "MAXCONN", "CACHESIZE", "OPTIONS"];

fn read(export: &Export, around: &ReadContext<'_>) -> Reading {
    let mut reading = Reading::of(export);
    let mut words = Vec::new();
    let mut book = LineRecorder::new(export, &mut reading.ledger, &mut reading.elsewhere);
    if export.file_name() == "memcached" {
        for text in serving::entries(export) {
            let origin = export.origin_of(text);
            match text.split_once('=').map_or("", |(name, _)| name.trim()) {
                "PORT" | "OPTIONS" => book.understood(origin),
                name if VARIABLES.contains(&name) => book.class(origin, LineClass::Ignored),
                _ => book
                    .not_understood(origin, "expected a variable of its unit, as `OPTIONS=\"-l 127.0.0.1\"`"),
            }
        }
        let variables = Variables::of(export);
        let line = export.origin(0..0);
        words = variables.replace(&["-p${PORT}", "$OPTIONS"], line);
        words.retain(|word| word.text != "-p");
    } else {
        for line in export.lines() {
            // The start script takes what stands before a hash, and leaves out lines without an option (start-memcached).
            let text = line.text.split('#').next().unwrap_or_default().trim();
            if text.is_empty() {
                continue;
            }
            let origin = export.origin_of(text);
            if text.starts_with("-d") || text.starts_with("-h") || text.starts_with("logfile") {
                book.class(origin, LineClass::Ignored);
            } else if text.starts_with('-') {
                book.understood(origin);
                words.extend(words_of(&serving::words_of_statement(text), origin));
            } else {
                book.not_understood(origin, "expected an option of memcached(1), as `-l 127.0.0.1`");
            }
        }
    }
    let given = options::options(&words, &FORM);
    for word in &given.unknown {
        book.not_understood(word.origin, format!("`{}` is no option of memcached(1)", word.text));
    }
    // A unit of the administrator takes the place of the one that starts it with this file.
    if own_unit(around) {
        return reading;
    }
    let origin = given.all.first().map_or_else(|| export.origin(0..0), |one| one.origin);
    reading.facts.served.extend(served(&given, origin));
    reading
}

/// Whether an exported unit of its name starts the program with options of its own.
fn own_unit(around: &ReadContext<'_>) -> bool {
    around.exports.iter().filter(|one| one.file_name() == "memcached.service").any(|unit| {
        unit.lines().any(|line| {
            let command = line.text.trim().strip_prefix("ExecStart=").unwrap_or_default();
            let mut words = command.split_whitespace();
            options::file_name(words.next().unwrap_or_default()) == "memcached"
                && !words.any(|word| word.starts_with('$'))
        })
    })
}

/// Facts of a command.
pub(super) fn started<'a>(
    words: &[Word<'a>],
    origin: Origin,
    export: &'a Export,
    _: &ReadContext<'a>,
    reading: &mut Reading,
) {
    let given = options::options(&words[1..], &FORM);
    let mut book = LineRecorder::new(export, &mut reading.ledger, &mut reading.elsewhere);
    for word in given.unknown.iter().filter(|word| word.origin.export == export.id()) {
        book.not_understood(word.origin, format!("`{}` is no option of memcached(1)", word.text));
    }
    reading.facts.served.extend(served(&given, origin));
}

fn served(given: &Options<'_>, origin: Origin) -> Option<Served> {
    // A socket of the machine takes the place of ports.
    if given.last("s").is_some() {
        return None;
    }
    let mut served = Served::new(ServedKind::Cache, "Memcached", "cache (Memcached)", &["memcached"], origin);
    let tls = given.line("Z");
    let carried = if tls.is_some() { TransportSecurity::Encrypted } else { TransportSecurity::Plain };
    let tcp = given.number("p").unwrap_or((11211, origin));
    // UDP is off by default since version 1.5.6 (release notes).
    let udp = given.number("U").unwrap_or((0, origin));
    // A list that is a part of those before it is passed over.
    let (mut lists, mut before) = (Vec::new(), String::new());
    for list in given.of("l").filter(|list| !list.value.is_empty()) {
        if !before.contains(list.value.as_ref()) {
            before = format!("{before},{}", list.value);
            lists.push(list);
        }
    }
    for (protocol, (port, line)) in [(Protocol::TCP, tcp), (Protocol::UDP, udp)] {
        if port == 0 {
            continue;
        }
        if lists.is_empty() {
            served.endpoints.push(Endpoint::everywhere(protocol, port, carried, line));
        }
        for list in &lists {
            for host in list.value.split([',', ';', ' ']).filter(|host| !host.is_empty()) {
                let (host, bare) = host.strip_prefix("notls:").map_or((host, false), |host| (host, true));
                let carried = if bare { TransportSecurity::Plain } else { carried };
                let (address, own) = serving::host_and_port(host);
                let place = Endpoint::everywhere(protocol, own.unwrap_or(port), carried, list.origin);
                served.endpoints.extend(placed(place, address));
            }
        }
    }
    if served.endpoints.is_empty() {
        return None;
    }
    let line = served.endpoints[0].origin;
    let mut part = ServiceResource::new(PartKind::Whole, served.name.clone(), line);
    part.writes = Setting::Stated { value: true, origin: line };
    part.login = match given.line("S").or_else(|| given.line("Y")) {
        Some(origin) => Setting::Stated { value: AuthRequirement::Password, origin },
        None => Setting::default_of(AuthRequirement::Nothing, "Memcached", "memcached(1), -S"),
    };
    part.encryption = Some(match tls {
        Some(origin) => Setting::Stated { value: Requirement::Required, origin },
        None => Setting::default_of(Requirement::Never, "Memcached", "memcached(1), -Z"),
    });
    if tls.is_none()
        && let Some(line) = part.login.origin()
    {
        part.remarks.push((trevlin_model::served::Remark::ClearPassword, line));
    }
    served.parts.push(part);
    served.refused = refused(given, &served.endpoints, udp);
    Some(served)
}

/// Why it would not start.
fn refused(given: &Options<'_>, places: &[Endpoint], udp: (u16, Origin)) -> Option<(String, Origin)> {
    if let (Some(_), true) = (given.line("Y"), udp.0 != 0) {
        return Some(("it takes no requests by UDP while a file of users is set".into(), udp.1));
    }
    let same = |one: &Endpoint, two: &Endpoint| {
        one.protocol == two.protocol
            && one.port == two.port
            && one.families.each().any(|family| two.families.has(family))
            && (one.address.is_none() || two.address.is_none() || one.address == two.address)
    };
    places.iter().enumerate().find_map(|(at, one)| {
        let other = places[..at].iter().find(|two| same(one, two))?;
        Some(("two of its addresses are the same".into(), one.origin.max(other.origin)))
    })
}

/// A place at a host: `localhost` is the device itself in both IP versions, and another name any address.
fn placed(place: Endpoint, host: Option<&str>) -> Vec<Endpoint> {
    match host {
        None => vec![place],
        Some("localhost") => ["127.0.0.1", "::1"]
            .iter()
            .filter_map(|address| Some(place.clone().at(address.parse().ok()?)))
            .collect(),
        Some(host) => match host.parse() {
            Ok(address) => vec![place.at(address)],
            Err(_) => vec![place],
        },
    }
}
