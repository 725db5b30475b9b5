//! Every case file with its facts, its ledger and its notes, against a stored snapshot.
//!
//! A case without a snapshot fails, as everywhere in the tests; look at the new one before it is accepted.

#![allow(clippy::unwrap_used, reason = "a test that cannot go on has failed")]

mod support;

use std::fmt::Write;
use std::path::Path;
use support::files;
use trevlin_model::{Export, ExportId, Facts, LineClass};
use trevlin_readers::{READERS, ReadContext, Reading, decode, recognise};

/// The case files of a folder in order of name.
fn cases(folder: &str) -> Vec<Export> {
    let at = Path::new(env!("CARGO_MANIFEST_DIR")).join("tests/cases").join(folder);
    let list = |at: &Path| -> Vec<String> {
        let entries = std::fs::read_dir(at).unwrap();
        entries.map(|entry| entry.unwrap().file_name().into_string().unwrap()).collect()
    };
    // Included files may be one folder below.
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

/// All known facts, without empty fields: a new fact of a reader appears here.
fn sheet(facts: &Facts) -> String {
    let mut facts = facts.clone();
    let mut defaults = 0;
    // Defaults of a program are a table of their own, and would obscure the rest.
    for offer in facts.tunnels.iter_mut().flat_map(|tunnel| &mut tunnel.offers) {
        defaults += offer.algorithms.iter().filter(|one| one.default.is_some()).count();
        offer.algorithms.retain(|one| one.default.is_none());
    }
    let mut sheet = String::new();
    let printed = format!("{facts:#?}");
    for line in printed.lines().skip(1).filter(|line| *line != "}") {
        let empty = ["[]", "{}", "None", "false"].iter().any(|empty| line.ends_with(&format!(": {empty},")));
        // Inside a fact an absent value is information as well.
        if !(empty && line.starts_with("    ") && !line.starts_with("     ")) {
            writeln!(sheet, "{}", line.strip_prefix("    ").unwrap_or(line)).unwrap();
        }
    }
    if defaults > 0 {
        writeln!(sheet, "{defaults} algorithms by default").unwrap();
    }
    sheet
}

fn page(export: &Export, format: &str, reading: &Reading) -> String {
    let mut page = format!("format: {format}\n\n");
    for line in export.lines() {
        let class = match reading.ledger.class(line.number) {
            Some(LineClass::Understood) => 'u',
            Some(LineClass::Ignored) => '-',
            _ => '?',
        };
        writeln!(page, "{class} {:>3} {}", line.number, line.text).unwrap();
    }
    page.push('\n');
    for note in &reading.ledger.notes {
        writeln!(page, "note {}: {}", export.line_of(note.origin.start), note.text).unwrap();
    }
    page.push('\n');
    page.push_str(&sheet(&reading.facts));
    page
}

fn check(folder: &str) {
    let exports = cases(folder);
    for export in &exports {
        let around = ReadContext::of(exports.iter().collect());
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

/// `cases/formats` has a folder for each format, with files at their usual paths. Each contains a correct, a weak and an unknown statement.
#[test]
fn every_format() {
    let formats = Path::new(env!("CARGO_MANIFEST_DIR")).join("tests/cases/formats");
    let mut wrong = Vec::new();
    for reader in READERS {
        let (at, mut paths) = (formats.join(reader.name), Vec::new());
        if at.is_dir() {
            files(&at, &mut |file| {
                paths.push(file.strip_prefix(&at).unwrap().to_string_lossy().into_owned())
            });
        }
        if paths.is_empty() {
            wrong.push(format!("{}: there is no file of it in tests/cases/formats/{0}", reader.name));
        }
        let read = |path: &String| decode(&std::fs::read(at.join(path)).unwrap()).unwrap();
        let exports: Vec<Export> = paths
            .iter()
            .enumerate()
            .map(|(id, path)| Export::new(ExportId(id as u32), path.as_str(), read(path)))
            .collect();
        for export in &exports {
            let taken = recognise(export).reader;
            if taken.map(|taken| taken.name) != Some(reader.name) {
                let taken = taken.map_or("nothing", |taken| taken.name);
                wrong.push(format!("{}: {} is taken for {taken}", reader.name, export.path()));
                continue;
            }
            let reading = (reader.read)(export, &ReadContext::of(exports.iter().collect()));
            let last = export.path().rsplit('/').next().unwrap();
            insta::assert_snapshot!(
                format!("every-{}-{last}", reader.name),
                page(export, reader.name, &reading)
            );
        }
    }
    assert!(wrong.is_empty(), "{}", wrong.join("\n"));
}
