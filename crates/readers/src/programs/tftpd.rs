//! The TFTP server of H. Peter Anvin: `/etc/default/tftpd-hpa`, own units, and lines of a super-server (tftpd(8)).

use super::options::{self, Form, Options, Variables, Word, words_of};
use crate::files::hosts_access;
use crate::reader::{LineRecorder, ReadContext, Reader, Reading, Recognition};
use crate::serving;
use trevlin_model::served::{
    AuthRequirement, Endpoint, PartKind, Requirement, Served, ServedKind, ServiceResource, TransportSecurity,
};
use trevlin_model::{Export, Families, LineClass, Origin, Protocol, Setting};

/// The reader.
pub(crate) const READER: Reader = Reader {
    name: "tftpd",
    title: "TFTP server",
    manual: "tftpd(8)",
    recognise: |export| match export.file_name() {
        "tftpd-hpa" if export.path().contains("default/") => Recognition::Name,
        _ => Recognition::No,
    },
    read,
};

const FORM: Form = Form {
    letters: "46cspvVlLa:B:u:U:r:t:T:R:m:P:",
    long: &[
        ("ipv4", Some('4')),
        ("ipv6", Some('6')),
        ("create", Some('c')),
        ("secure", Some('s')),
        ("permissive", Some('p')),
        ("verbose", Some('v')),
        ("version", Some('V')),
        ("listen", Some('l')),
        ("foreground", Some('L')),
        ("address", Some('a')),
        ("blocksize", Some('B')),
        ("user", Some('u')),
        ("umask", Some('U')),
        ("refuse", Some('r')),
        ("timeout", Some('t')),
        ("retransmit", Some('T')),
        ("port-range", Some('R')),
        ("map-file", Some('m')),
        ("map-steps", None),
        ("pidfile", Some('P')),
        ("verbosity", None),
    ],
    with_value: &["verbosity", "map-steps"],
};

fn read(export: &Export, around: &ReadContext<'_>) -> Reading {
    let mut reading = Reading::of(export);
    let mut book = LineRecorder::new(export, &mut reading.ledger, &mut reading.elsewhere);
    for text in serving::entries(export) {
        let origin = export.origin_of(text);
        match text.split_once('=').map_or("", |(name, _)| name.trim()) {
            "TFTP_ADDRESS" | "TFTP_OPTIONS" | "TFTP_DIRECTORY" => book.understood(origin),
            "TFTP_USERNAME" | "RUN_DAEMON" => book.class(origin, LineClass::Ignored),
            _ => book
                .not_understood(origin, "expected a variable of its start script, as `TFTP_ADDRESS=\":69\"`"),
        }
    }
    let variables = Variables::of(export);
    let start = export.origin(0..0);
    let (address, line) = variables.get("TFTP_ADDRESS").unwrap_or(("", start));
    let (options, at) = variables.get("TFTP_OPTIONS").unwrap_or(("", start));
    let mut words = vec!["--listen"];
    words.extend(serving::words_of_statement(options));
    let mut words = words_of(&words, at);
    if !address.is_empty() {
        words.extend(words_of(&["--address", address], line));
    }
    if let Some((folder, line)) = variables.get("TFTP_DIRECTORY") {
        words.extend(words_of(&[folder], line));
    }
    let given = options::options(&words, &FORM);
    for word in &given.unknown {
        book.not_understood(word.origin, format!("`{}` is no option of tftpd(8)", word.text));
    }
    reading.facts.served.push(served(&given, alone(&given, start), export, around, start));
    reading
}

/// Facts of a command.
pub(super) fn started<'a>(
    words: &[Word<'a>],
    origin: Origin,
    export: &'a Export,
    around: &ReadContext<'a>,
    reading: &mut Reading,
) {
    let given = options::options(&words[1..], &FORM);
    // Without the option another program takes the requests for it.
    if given.line("l").or_else(|| given.line("L")).is_some() {
        reading.facts.served.push(served(&given, alone(&given, origin), export, around, origin));
    }
}

/// The server behind a super-server, which listens for it.
pub(crate) fn behind(
    words: &[Word<'_>],
    place: Endpoint,
    export: &Export,
    around: &ReadContext<'_>,
    origin: Origin,
) -> Served {
    served(&options::options(words, &FORM), place, export, around, origin)
}

/// Where it listens by itself.
fn alone(given: &Options<'_>, origin: Origin) -> Endpoint {
    let (text, line) = given.last("a").unwrap_or(("", origin));
    let (host, port) = serving::host_and_port(text);
    let mut place = Endpoint::everywhere(Protocol::UDP, port.unwrap_or(69), TransportSecurity::Plain, line);
    place.families = match (given.line("4"), given.line("6")) {
        (Some(_), None) => Families::V4,
        (None, Some(_)) => Families::V6,
        _ => Families::Both,
    };
    match host.and_then(|host| host.parse().ok()) {
        // All addresses of IPv6 take requests of both versions.
        Some(std::net::IpAddr::V6(address)) if address.is_unspecified() => place,
        Some(address) => place.at(address),
        None if host == Some("localhost") => place.at([127, 0, 0, 1].into()),
        None => place,
    }
}

fn served(
    given: &Options<'_>,
    place: Endpoint,
    export: &Export,
    around: &ReadContext<'_>,
    origin: Origin,
) -> Served {
    let mut served =
        Served::new(ServedKind::Transfers, "tftpd-hpa", "TFTP server", &["tftpd-hpa", "tftp"], origin);
    served.endpoints.push(place);
    let folder = given.rest.first();
    let line = folder.map_or(origin, |word| word.origin);
    let name = folder.map_or("", |word| word.text.as_ref());
    let mut part = ServiceResource::new(PartKind::Folder, name, line);
    part.path = folder.map(|word| word.text.clone().into_owned());
    part.login = Setting::default_of(AuthRequirement::Nothing, "tftpd", "RFC 1350");
    part.encryption = Some(Setting::default_of(Requirement::Never, "tftpd", "RFC 1350"));
    part.writes = match given.line("c") {
        Some(origin) => Setting::Stated { value: true, origin },
        None => Setting::default_of(false, "tftpd", "tftpd(8), --create"),
    };
    served.parts.push(part);
    // With libwrap it consults the lists (tftpd(8), "Security").
    hosts_access::limit(std::slice::from_mut(&mut served), around, export, "in.tftpd");
    served
}
