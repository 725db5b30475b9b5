//! Every case file with its facts, its ledger and its notes, against a stored snapshot.
//!
//! A case without a snapshot fails, as everywhere in the tests; look at the new one before it is accepted.

#![allow(clippy::unwrap_used, reason = "a test that cannot go on has failed")]

use std::fmt::Write;
use std::path::Path;
use trevlin_model::{Export, ExportId, LineClass};
use trevlin_readers::{Reading, Surroundings, decode, recognise};

/// The case files of a folder in order of name.
fn cases(folder: &str) -> Vec<Export> {
    let at = Path::new(env!("CARGO_MANIFEST_DIR")).join("tests/cases").join(folder);
    let list = |at: &Path| -> Vec<String> {
        let entries = std::fs::read_dir(at).unwrap();
        entries.map(|entry| entry.unwrap().file_name().into_string().unwrap()).collect()
    };
    // What files read in may stand one folder below.
    let below = |name: String| match at.join(&name).is_dir() {
        true => list(&at.join(&name)).into_iter().map(|inner| format!("{name}/{inner}")).collect(),
        false => vec![name],
    };
    let mut names: Vec<String> = list(&at).into_iter().flat_map(below).collect();
    names.sort();
    let read = |name: &String| decode(&std::fs::read(at.join(name)).unwrap()).unwrap();
    names
        .iter()
        .enumerate()
        .map(|(id, name)| Export::new(ExportId(id as u32), name.as_str(), read(name)))
        .collect()
}

fn page(export: &Export, format: &str, reading: &Reading) -> String {
    let mut page = format!("format: {format}\n\n");
    for line in export.lines() {
        let class = match reading.ledger.class(line.number) {
            Some(LineClass::Understood) => 'u',
            Some(LineClass::PassedOver) => '-',
            _ => '?',
        };
        writeln!(page, "{class} {:>3} {}", line.number, line.text).unwrap();
    }
    page.push('\n');
    for note in &reading.ledger.notes {
        writeln!(page, "note {}: {}", export.position(note.origin.start).line, note.text).unwrap();
    }
    page.push('\n');
    let facts = &reading.facts;
    let mut list = |name: &str, all: Vec<String>| {
        for one in all {
            writeln!(page, "{name}: {one}").unwrap();
        }
    };
    list("interface", facts.interfaces.iter().map(|one| format!("{one:?}")).collect());
    list("route", facts.routes.iter().map(|one| format!("{one:?}")).collect());
    list("stored interface", facts.stored_interfaces.iter().map(|one| format!("{one:?}")).collect());
    list("stored route", facts.stored_routes.iter().map(|one| format!("{one:?}")).collect());
    list("name server", facts.name_servers.iter().map(|one| format!("{one:?}")).collect());
    list("DHCP server", facts.dhcp_servers.iter().map(|one| format!("{one:#?}")).collect());
    list("mistyped", facts.malformed.iter().map(|one| format!("{one:?}")).collect());
    list("filter", facts.filters.iter().map(|one| format!("{one:#?}")).collect());
    list("forward", facts.forwards.iter().map(|one| format!("{one:?}")).collect());
    // What a program takes by itself is a table of its own, and would drown the rest.
    let tunnel = |one: &trevlin_model::Tunnel| {
        let mut one = one.clone();
        let mut defaults = 0;
        for offer in &mut one.offers {
            defaults += offer.algorithms.iter().filter(|one| one.default.is_some()).count();
            offer.algorithms.retain(|one| one.default.is_none());
        }
        format!("{one:#?}\n{defaults} algorithms by default")
    };
    list("tunnel", facts.tunnels.iter().map(tunnel).collect());
    list("ppp profile", facts.ppp_profiles.iter().map(|one| format!("{one:#?}")).collect());
    list("RADIUS client", facts.radius_clients.iter().map(|one| format!("{one:?}")).collect());
    list("RADIUS upstream", facts.radius_upstreams.iter().map(|one| format!("{one:?}")).collect());
    list("RADIUS entry", facts.radius_entries.iter().map(|one| format!("{one:?}")).collect());
    list("RADIUS site", facts.radius_sites.iter().map(|one| format!("{one:#?}")).collect());
    list("RADIUS security", facts.radius_security.iter().map(|one| format!("{one:?}")).collect());
    list("EAP", facts.eap_settings.iter().map(|one| format!("{one:?}")).collect());
    list("login", facts.logins.iter().map(|one| format!("{one:?}")).collect());
    list("pre-shared key", facts.pre_shared_keys.iter().map(|one| format!("{one:?}")).collect());
    list("credential", facts.credentials.iter().map(|one| format!("{one:?}")).collect());
    list("certificate", facts.certificates.iter().map(|one| format!("{one:#?}")).collect());
    list("private key", facts.private_keys.iter().map(|one| format!("{one:?}")).collect());
    list("not modelled", facts.not_modelled.iter().map(|one| format!("{one:?}")).collect());
    page
}

fn check(folder: &str) {
    let exports = cases(folder);
    for export in &exports {
        let around = Surroundings::of(exports.iter().collect());
        let Some(reader) = recognise(export).reader else {
            // Only a piece that another file reads in may pass for nothing.
            assert_eq!(export.path(), "included.inc");
            continue;
        };
        let reading = (reader.read)(export, &around);
        insta::assert_snapshot!(
            format!("{folder}-{}", export.path().replace('/', "-")),
            page(export, reader.name, &reading)
        );
    }
}

#[test]
fn iptables() {
    check("iptables");
}

#[test]
fn openvpn() {
    check("openvpn");
}

#[test]
fn tunnels() {
    check("tunnels");
}

#[test]
fn addresses() {
    check("addresses");
}

#[test]
fn dial_in() {
    check("dial-in");
}

#[test]
fn ocserv() {
    check("ocserv");
}

#[test]
fn pem() {
    check("pem");
}

#[test]
fn radius() {
    check("radius");
}

#[test]
fn ip_json() {
    check("ip-json");
}
