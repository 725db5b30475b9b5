//! Damaged exports: no panic, and everything before the damage is read as if there were none.

mod support;

use std::collections::BTreeSet;
use support::{Dice, Seed, damage, seeds};
use trevlin_model::{Export, ExportId, LineClass};
use trevlin_readers::{READERS, ReadContext, Reader, Reading, decode, recognise};

fn export(seed: &Seed, text: String) -> Export {
    Export::new(ExportId(0), format!("{}/{}", seed.device, seed.path), text)
}

fn read(reader: &Reader, export: &Export) -> Reading {
    (reader.read)(export, &ReadContext::of(vec![export]))
}

/// Facts of a reading that lie wholly before a byte: the kind of each, and where it begins. Further content of a fact may depend on later
/// lines.
fn facts_before(reading: &Reading, cut: u32) -> BTreeSet<String> {
    let printed = format!("{:#?}", reading.facts);
    let mut found = BTreeSet::new();
    let (mut field, mut kind) = (String::new(), String::new());
    let (mut first, mut last) = (None, 0);
    for line in printed.lines() {
        let (depth, text) = (line.len() - line.trim_start().len(), line.trim());
        if depth == 4 {
            field = text.trim_end_matches(" [").to_owned();
            continue;
        }
        if depth == 8 && kind.is_empty() {
            kind = text.to_owned();
        }
        let number = |name: &str| text.strip_prefix(name)?.trim_end_matches(',').parse::<u32>().ok();
        first = first.or_else(|| number("start: "));
        last = last.max(number("end: ").unwrap_or_default());
        // A fact ends with the bracket that stands as deep as its beginning.
        if depth == 8 && text.starts_with(['}', ')']) {
            if last > 0 && last <= cut {
                found.insert(format!("{field} {kind} at {}", first.unwrap_or_default()));
            }
            (kind, first, last) = (String::new(), None, 0);
        }
    }
    found
}

/// Formats in which a statement depends on lines after it, with the reason: there the statement at the damage may be lost, and none before
/// it.
const HANGS_ON_WHAT_COMES: [(&str, &str); 20] = [
    ("hostapd", "settings are of the network that stands above them"),
    ("ip-route", "a route without its gateway leads elsewhere"),
    ("ipsec-conf", "a connection is loaded where `auto` says so, which stands last"),
    ("iscsi-target", "who has to log in may stand in what is missing"),
    ("networkd", "an interface is made once its kind is known"),
    ("pem", "a key is one once it is whole"),
    ("radius", "a realm is one once its pool is known"),
    ("postfix", "an option is of the service that stands above it"),
    ("slapd", "a line that begins with a blank is of the value above it"),
    ("sheet", "a login is one once its list is known"),
    ("strongswan-conf", "a secret is one once its server is known"),
    ("compose", "a service is one with its keys"),
    ("firewalld", "a rule without its conditions holds for everything"),
    ("ifupdown", "a line belongs to the stanza that stands above it"),
    ("netplan", "a route without its gateway leads elsewhere"),
    ("ocserv", "a server is one once somebody can log in"),
    ("stunnel", "a port is of the service that its section names"),
    ("wireguard", "a key is of the peer that its section names"),
    ("uci", "a zone is where the device of its network is"),
    ("yang", "an entry without its conditions holds for everything"),
];

#[test]
fn every_format_is_damaged() {
    let named: BTreeSet<&str> = seeds()
        .iter()
        .filter_map(|seed| recognise(&export(seed, decode(&seed.bytes).ok()?)).reader)
        .map(|reader| reader.name)
        .collect();
    // A link names a unit by its target; it has no text.
    let read = READERS.iter().map(|reader| reader.name).filter(|name| *name != "unit-link");
    let missing: Vec<&str> = read.filter(|name| !named.contains(name)).collect();
    assert!(missing.is_empty(), "no export of the tests is of {missing:?}");
}

#[test]
fn what_stands_before_the_damage_is_still_there() {
    let mut lost = Vec::new();
    for seed in seeds() {
        let Ok(text) = decode(&seed.bytes) else { continue };
        let whole = export(&seed, text.clone());
        let Some(reader) = recognise(&whole).reader else { continue };
        let before = read(reader, &whole);
        let lines = whole.line_count();
        let step = (lines / 10).max(1);
        for line in (2..=lines).step_by(step as usize) {
            let at = whole.line(line).expect("a line");
            let (cut, rest) = text.split_at(at.start as usize);
            let (this, next) = rest.split_once('\n').unwrap_or((rest, ""));
            let was = facts_before(&before, at.start);
            for (how, damaged) in [
                ("broken off", cut.to_owned()),
                ("without its line", format!("{cut}{next}")),
                ("with its line twice", format!("{cut}{this}\n{rest}")),
                ("with garbage", format!("{cut}\u{1}\u{fffd}{{[\"'<\n{rest}")),
            ] {
                let after = read(reader, &export(&seed, damaged));
                let passed = |number: &u32| {
                    let (was, is) = (before.ledger.class(*number), after.ledger.class(*number));
                    was == Some(LineClass::Understood) && is == Some(LineClass::Ignored)
                };
                let lines: Vec<u32> = (1..line).filter(passed).collect();
                let is = facts_before(&after, u32::MAX);
                let facts: Vec<&String> = was.difference(&is).collect();
                let places: BTreeSet<&str> =
                    facts.iter().filter_map(|fact| fact.rsplit(' ').next()).collect();
                let hangs = HANGS_ON_WHAT_COMES.iter().any(|(name, _)| *name == reader.name);
                let allowed = usize::from(hangs);
                if lines.len() > allowed || places.len() > allowed {
                    lost.push(format!(
                        "{} ({}) {how} at {line}: lines {lines:?} silently lost, facts {facts:?}",
                        seed.path, reader.name
                    ));
                }
            }
        }
    }
    assert!(
        lost.is_empty(),
        "{} cases, the first of them:\n{}",
        lost.len(),
        lost[..lost.len().min(40)].join("\n")
    );
}

#[test]
fn nothing_panics_over_what_is_damaged() {
    let seeds = seeds();
    let mut dice = Dice::new(2026);
    for seed in &seeds {
        for _ in 0..40 {
            let mut bytes = seed.bytes.clone();
            for _ in 0..1 + dice.roll(4) {
                damage(&mut bytes, &seeds, &mut dice);
            }
            let Ok(text) = decode(&bytes) else { continue };
            let export = export(seed, text);
            if let Some(reader) = recognise(&export).reader {
                let reading = read(reader, &export);
                let classes = [LineClass::Understood, LineClass::Ignored, LineClass::NotUnderstood];
                let lines: u32 = classes.iter().map(|class| reading.ledger.count(*class)).sum();
                assert_eq!(lines, export.line_count(), "{}", seed.path);
            }
        }
    }
}
