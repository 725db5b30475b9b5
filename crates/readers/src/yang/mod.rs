//! Instance data of the standard data models of the IETF, as JSON or XML, bare or wrapped. Names are matched by module; prefixes are
//! arbitrary.

mod device;
mod filters;
mod keys;
#[cfg(test)]
mod tests;
mod tree;

use crate::reader::{LineRecorder, ReadContext, Reader, Reading, Recognition, TELLING_LINES};
use std::cell::RefCell;
use tree::Item;
use trevlin_model::{Described, Export, LineClass, NotAnalysed, Origin, datastore_state};

/// The reader.
pub(crate) const READER: Reader = Reader {
    name: "yang",
    title: "data of standard models (YANG, as JSON or XML)",
    manual: "RFC 7950, RFC 7951, RFC 9195",
    recognise,
    read,
};

/// Modules whose data become facts.
const MODULES: [&str; 14] = [
    "ietf-interfaces",
    "ietf-ip",
    "ietf-routing",
    "ietf-access-control-list",
    "ietf-nat",
    "ietf-system",
    "ietf-snmp",
    "ietf-key-chain",
    "ietf-i2nsf-ike",
    "ietf-truststore",
    "ietf-keystore",
    "ietf-ssh-server",
    "ietf-tls-server",
    "ietf-dhcpv6-server",
];

fn recognise(export: &Export) -> Recognition {
    let text = export.text().trim_start();
    let telling = |line: &str| {
        let json =
            line.contains("\"ietf-") && MODULES.iter().any(|module| line.contains(&format!("\"{module}:")));
        let xml = line.contains("urn:ietf:params:xml:ns:yang:ietf-");
        let wrapped = line.contains("urn:ietf:params:xml:ns:netconf:base:1.0")
            || line.contains("ietf-yang-instance-data");
        json || xml || wrapped
    };
    if text.starts_with(['{', '<']) && export.lines().take(TELLING_LINES).any(|line| telling(line.text)) {
        Recognition::Content
    } else {
        Recognition::No
    }
}

fn read(export: &Export, _: &ReadContext<'_>) -> Reading {
    let mut reading = Reading::of(export);
    reading.facts.described = Some(Described::Export);
    let mut book = LineRecorder::new(export, &mut reading.ledger, &mut reading.elsewhere);
    let (roots, broken) = tree::parse(export, &mut book);
    let seen = RefCell::new(Vec::new());
    let mut unknown: Vec<(Origin, String)> = Vec::new();
    let mut reader = device::Reader { export, reading: &mut reading, seen: &seen, notes: Vec::new() };
    for root in &roots {
        match (root.module.as_str(), root.name.as_str()) {
            ("ietf-interfaces", "interfaces") => reader.interfaces(root),
            ("ietf-routing", "routing") => reader.routing(root),
            ("ietf-access-control-list", "acls") => {
                let mut filter = filters::lists(root, &seen, &mut reader.notes);
                // Entries that were lost may have decided anything.
                filter.complete &= !broken;
                filter.state = datastore_state(export);
                reader.reading.facts.filters.push(filter);
            }
            ("ietf-nat", "nat") => {
                if let Some(mut filter) = filters::translations(root, &seen, &mut reader.notes) {
                    filter.state = datastore_state(export);
                    reader.reading.facts.forwards.extend(trevlin_model::forwards::of(&filter));
                    reader.reading.facts.filters.push(filter);
                }
            }
            ("ietf-system", "system") => reader.system(root),
            ("ietf-snmp", "snmp") => reader.snmp(root),
            ("ietf-key-chain", "key-chains") => reader.key_chains(root),
            ("ietf-i2nsf-ike", "ipsec-ike") => reader.ike(root),
            ("ietf-keystore", "keystore") => reader.keystore(root),
            ("ietf-dhcpv6-server", "dhcpv6-server") => reader.dhcp(root),
            // Endorsed content contains no secret, and its certificates are signed messages that are not decoded here.
            ("ietf-truststore", _) => {}
            // State of the system that says nothing of how it is set up.
            ("ietf-system" | "ietf-interfaces" | "ietf-routing", _) => {}
            _ => {
                reader.unknown(root);
                let why = format!(
                    "the module `{}` is not supported; please review `{}` by hand",
                    root.module, root.name
                );
                unknown.push((whole(root), why));
            }
        }
        reader.servers(root);
    }
    if broken {
        reader
            .reading
            .facts
            .not_analysed
            .push(NotAnalysed::beside("the part of this export after its truncation", export.origin(0..0)));
    }
    let notes = std::mem::take(&mut reader.notes);
    let mut book = LineRecorder::new(export, &mut reading.ledger, &mut reading.elsewhere);
    for (origin, why) in unknown {
        book.not_understood(origin, why);
    }
    for note in notes {
        book.not_understood(note.origin, note.text);
    }
    for origin in seen.into_inner() {
        book.class(origin, LineClass::Understood);
    }
    reading
}

/// A subtree from its beginning to its last leaf.
fn whole(item: &Item) -> Origin {
    let end = item.children.iter().map(|child| whole(child).end).max().unwrap_or(item.origin.end);
    Origin { end: end.max(item.origin.end), ..item.origin }
}
