//! The mapper of RPC programs to ports: `/etc/default/rpcbind`, `/etc/sysconfig/rpcbind`, own units and sockets (rpcbind(8)).

use super::options::{self, Form, Variables, Word, words_of};
use crate::files::hosts_access;
use crate::reader::{LineRecorder, ReadContext, Reader, Reading, Recognition};
use crate::serving;
use crate::upkeep::socket_units;
use trevlin_model::served::{
    AuthRequirement, Endpoint, PartKind, Served, ServedKind, ServiceResource, TransportSecurity,
};
use trevlin_model::{Export, Origin, Protocol, Setting};

/// The reader.
pub(crate) const READER: Reader = Reader {
    name: "rpcbind",
    title: "RPC port mapper",
    manual: "rpcbind(8)",
    recognise: |export| match export.path() {
        path if path.ends_with("default/rpcbind") || path.ends_with("sysconfig/rpcbind") => Recognition::Name,
        path if path.ends_with("/rpcbind.conf") => Recognition::Name,
        _ => Recognition::No,
    },
    read,
};

const FORM: Form = Form { letters: "adh:ilswrfL", long: &[], with_value: &[] };

fn read(export: &Export, around: &ReadContext<'_>) -> Reading {
    let mut reading = Reading::of(export);
    let mut book = LineRecorder::new(export, &mut reading.ledger, &mut reading.elsewhere);
    for text in serving::entries(export) {
        let origin = export.origin_of(text);
        match text.split_once('=').map_or("", |(name, _)| name.trim()) {
            "OPTIONS" | "RPCBIND_ARGS" | "RPCBIND_OPTIONS" => book.understood(origin),
            _ => book.not_understood(origin, "expected `OPTIONS=\"-w\"` or `RPCBIND_ARGS=\"\"`"),
        }
    }
    let variables = Variables::of(export);
    let list =
        ["OPTIONS", "RPCBIND_ARGS", "RPCBIND_OPTIONS"].into_iter().find_map(|name| variables.get(name));
    let (value, origin) = list.unwrap_or(("", export.origin(0..0)));
    // A value may take up the one before it, as `"${OPTIONS} -l"`.
    let before: Vec<&str> = match value.contains("${OPTIONS}") {
        true => serving::entries(export)
            .filter_map(|text| text.strip_prefix("OPTIONS=").map(serving::unquoted))
            .filter(|other| !other.contains("${OPTIONS}"))
            .last()
            .map(serving::words_of_statement)
            .unwrap_or_default(),
        false => Vec::new(),
    };
    let mut words = serving::words_of_statement(value);
    words.retain(|word| !word.starts_with('$'));
    words.splice(0..0, before);
    let given = options::options(&words_of(&words, origin), &FORM);
    for word in &given.unknown {
        book.not_understood(word.origin, format!("`{}` is no option of rpcbind(8)", word.text));
    }
    // systemd holds its sockets, so that addresses among its options decide nothing (rpcbind(8), -h).
    let places = socket_units::listening(around, "rpcbind", sockets_of(&[], export.origin(0..0)));
    let places =
        places.into_iter().map(|place| Endpoint { carried: TransportSecurity::Plain, ..place }).collect();
    reading.facts.served.push(served(places, export, around, origin));
    reading
}

/// Facts of a command that is started without sockets of systemd.
pub(super) fn started<'a>(
    words: &[Word<'a>],
    origin: Origin,
    export: &'a Export,
    around: &ReadContext<'a>,
    reading: &mut Reading,
) {
    let given = options::options(&words[1..], &FORM);
    let mut book = LineRecorder::new(export, &mut reading.ledger, &mut reading.elsewhere);
    for word in &given.unknown {
        book.not_understood(word.origin, format!("`{}` is no option of rpcbind(8)", word.text));
    }
    let hosts: Vec<(&str, Origin)> = given.of("h").map(|one| (one.value.as_ref(), one.origin)).collect();
    reading.facts.served.push(served(sockets_of(&hosts, origin), export, around, origin));
}

/// Port 111 of UDP at the addresses, and at those of the device itself; port 111 of TCP at every address.
pub(crate) fn sockets_of(hosts: &[(&str, Origin)], origin: Origin) -> Vec<Endpoint> {
    let at = |protocol, line| Endpoint::everywhere(protocol, 111, TransportSecurity::Plain, line);
    let mut places = vec![at(Protocol::TCP, origin)];
    if hosts.is_empty() {
        places.push(at(Protocol::UDP, origin));
        return places;
    }
    let own = hosts.iter().copied().chain([("127.0.0.1", origin), ("::1", origin)]);
    places.extend(own.filter_map(|(host, line)| Some(at(Protocol::UDP, line).at(host.parse().ok()?))));
    places
}

fn served(places: Vec<Endpoint>, export: &Export, around: &ReadContext<'_>, origin: Origin) -> Served {
    let mut served =
        Served::new(ServedKind::Other, "rpcbind", "RPC port mapper (rpcbind)", &["rpcbind"], origin);
    served.endpoints = places;
    let mut part = ServiceResource::new(PartKind::Whole, served.name.clone(), origin);
    part.login = Setting::default_of(AuthRequirement::Nothing, "rpcbind", "rpcbind(8)");
    served.parts.push(part);
    // With libwrap it consults the lists (rpcbind(8), -l).
    hosts_access::limit(std::slice::from_mut(&mut served), around, export, "rpcbind");
    served
}
