//! `inetd.conf`: one service in each line (inetd(8)).

use super::{Started, port};
use crate::iptables::protocol;
use crate::programs::options::{file_name, words_of};
use crate::reader::{LineRecorder, ReadContext, Reader, Reading, Recognition};
use crate::serving;
use std::net::IpAddr;
use trevlin_model::served::Sources;
use trevlin_model::{Export, Families, LineClass};

/// The reader.
pub(crate) const READER: Reader = Reader {
    name: "inetd",
    title: "services of a super-server (inetd)",
    manual: "inetd(8)",
    recognise: |export| {
        let folder = export.path().contains("/inetd.conf.d/") || export.path().contains("/inetd.d/");
        match export.file_name() {
            "inetd.conf" => Recognition::Name,
            _ if folder => Recognition::Name,
            _ => Recognition::No,
        }
    },
    read,
};

/// Whether the super-server itself looks into `hosts.allow` (inetd(8), -l).
fn wraps(export: &Export, around: &ReadContext<'_>) -> bool {
    ["/etc/default/openbsd-inetd", "/etc/default/inetd", "/etc/sysconfig/inetd"].iter().any(|path| {
        around.find(path, export).is_some_and(|file| {
            serving::entries(file).any(|text| {
                let value = text.split_once('=').map_or("", |(_, value)| serving::unquoted(value.trim()));
                value.split_whitespace().any(|word| word.starts_with('-') && word.contains('l'))
            })
        })
    })
}

/// Addresses before a service, and the rest; `*` means every address.
fn hosts(text: &str) -> (Option<Vec<IpAddr>>, &str) {
    let split = match text.rfind("]:") {
        Some(at) => Some((&text[..=at], &text[at + 2..])),
        None => text.split_once(':'),
    };
    let Some((hosts, rest)) = split else { return (None, text) };
    let addresses = hosts.split(',').filter_map(|host| host.trim_matches(['[', ']']).parse().ok());
    (Some(addresses.collect()), rest)
}

fn read(export: &Export, around: &ReadContext<'_>) -> Reading {
    let mut reading = Reading::of(export);
    let wraps = wraps(export, around);
    let mut remembered: Vec<IpAddr> = Vec::new();
    for text in serving::entries(export) {
        let origin = export.origin_of(text);
        let mut book = LineRecorder::new(export, &mut reading.ledger, &mut reading.elsewhere);
        let words: Vec<&str> = text.split_whitespace().collect();
        if let [only] = words.as_slice()
            && let Some(host) = only.strip_suffix(':')
        {
            book.understood(origin);
            remembered = hosts(&format!("{host}:x")).0.unwrap_or_default();
            continue;
        }
        let [service, kind, transport, wait, _, program, rest @ ..] = words.as_slice() else {
            book.not_understood(
                origin,
                "expected `service type protocol wait|nowait user program arguments`",
            );
            continue;
        };
        let known = matches!(*kind, "stream" | "dgram" | "raw" | "rdm" | "seqpacket")
            && ["wait", "nowait"].contains(&wait.split(['.', ':']).next().unwrap_or_default());
        if !known {
            book.not_understood(origin, "expected `stream` or `dgram`, a protocol, and `wait` or `nowait`");
            continue;
        }
        let transport = transport.split(',').next().unwrap_or_default();
        if transport == "unix" || transport.starts_with("rpc/") {
            book.class(origin, LineClass::Ignored);
            continue;
        }
        let families = match transport.trim_start_matches(|one: char| one.is_ascii_alphabetic()) {
            "4" => Families::V4,
            "6" => Families::V6,
            _ => Families::Both,
        };
        let name = transport.trim_end_matches(['4', '6']);
        let (own, service) = hosts(service);
        let (Some(protocol), Some(port)) = (protocol(name), port(service)) else {
            book.not_understood(origin, format!("the port of `{service}` is not known; write its number"));
            continue;
        };
        book.understood(origin);
        // The first argument is the program's own name; a wrapper starts the program that it names.
        let wrapped = file_name(program) == "tcpd";
        let mut words = rest.to_vec();
        let listed = words.first().map(|word| file_name(word));
        match (*program, words.first_mut()) {
            ("internal", _) => words.clear(),
            (_, Some(first)) if !wrapped => *first = program,
            (_, None) => words.push(program),
            _ => {}
        }
        let started = Started {
            program: "inetd",
            units: &["inetd", "openbsd-inetd", "inetutils-inetd"],
            name: service,
            protocol,
            families,
            addresses: own.unwrap_or_else(|| remembered.clone()),
            port,
            words: words_of(&words, origin),
            sources: Sources::everybody(),
            listed: listed.filter(|_| wrapped || wraps && *program != "internal"),
            origin,
        };
        if let Some(served) = started.served(export, around) {
            super::add(served, &mut reading);
        }
    }
    reading
}
