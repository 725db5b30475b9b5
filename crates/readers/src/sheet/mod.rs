//! Device sheets: our own form for what an appliance shows only on screen, filled in by hand, and the form into which everything
//! that is known about a device can be written. TOML, or JSON of the same shape.

pub(crate) mod node;
pub(crate) mod take;
mod write;

pub use write::{Head, write};

use crate::forwards;
use crate::reader::{Bookkeeper, Reader, Reading, Recognition, Surroundings, TELLING_LINES};
use node::{Entry, Node, Value};
use std::sync::Arc;
use trevlin_model::account::StoredPassword;
use trevlin_model::secret::SecretKind;
use trevlin_model::{DeviceKind, Export, Facts, HeldSecret, Note, Origin, Setting, each_section};

/// What a sheet calls itself.
pub const FORM: &str = "trevlin-sheet/1";

/// Keys of a sheet that are about the device as a whole.
const HEAD: [&str; 4] = ["sheet", "device", "kind", "files"];
/// Sections whose entries say which file they come from, because others name that file.
const FROM_FILES: [&str; 5] = ["certificates", "private-keys", "ppp-profiles", "ppp-secrets", "logins"];

/// Reader for device sheets.
pub(crate) const READER: Reader =
    Reader { name: "sheet", title: "device sheet", manual: "docs/device-sheets.md", recognise, read };

fn recognise(export: &Export) -> Recognition {
    let says = |text: &str| {
        let rest = text.trim_start().trim_start_matches(['{', ' ']);
        let rest = rest.trim_start_matches('"').strip_prefix("sheet");
        rest.is_some_and(|rest| {
            rest.trim_start_matches('"')
                .trim_start()
                .trim_start_matches(['=', ':'])
                .trim_start()
                .starts_with("\"trevlin-sheet/")
        })
    };
    if export.lines().take(TELLING_LINES).any(|line| says(line.text)) {
        Recognition::Declared
    } else {
        Recognition::No
    }
}

fn read(export: &Export, _: &Surroundings<'_>) -> Reading {
    let mut reading = Reading::of(export);
    let (top, notes) = if export.text().trim_start().starts_with('{') {
        match node::of_json(export) {
            Ok(top) => (top, Vec::new()),
            Err(note) => (Node::table(export.origin(0..0)), vec![note]),
        }
    } else {
        node::of_toml(export)
    };
    let found = facts(export, top);
    let mut book = Bookkeeper::new(export, &mut reading.ledger, &mut reading.elsewhere);
    for note in notes.into_iter().chain(found.notes) {
        book.not_understood(note.origin, note.text);
    }
    for origin in found.understood {
        book.understood(origin);
    }
    reading.facts = found.facts;
    reading
}

/// What a document in the shape of a sheet says.
#[derive(Debug, Default)]
pub(crate) struct Found {
    pub(crate) facts: Facts,
    pub(crate) notes: Vec<Note>,
    pub(crate) understood: Vec<Origin>,
}

/// The facts of a document in the shape of a sheet.
pub(crate) fn facts(export: &Export, mut top: Node) -> Found {
    let mut found = Found::default();
    evidence(&mut top);
    let known = known_sections();
    for entry in top.entries() {
        if HEAD.contains(&entry.key.as_str()) {
            head(entry, &mut found);
        } else if known.contains(&entry.key.as_str()) {
            section(entry, &mut found);
        } else {
            let text =
                format!("`{}` is no section of a sheet; {}", entry.key, take::nearest(&entry.key, &known));
            found.notes.push(Note { origin: entry.key_origin, text });
        }
    }
    settle(export, &mut found.facts);
    found
}

fn known_sections() -> Vec<&'static str> {
    let mut known = HEAD.to_vec();
    macro_rules! names {
        ($($field:ident = $name:literal,)*) => { known.extend([$($name),*]); };
    }
    each_section!(names);
    known
}

/// Takes the words about where an entry was seen out of every table: they are evidence for people, who find them on the lines that
/// are shown.
fn evidence(node: &mut Node) {
    match &mut node.value {
        Value::Table(entries) => {
            entries.retain(|entry| entry.key != "seen" || entry.node.text().is_none());
            entries.iter_mut().for_each(|entry| evidence(&mut entry.node));
        }
        Value::List(all) => all.iter_mut().for_each(evidence),
        _ => {}
    }
}

fn head(entry: &Entry, found: &mut Found) {
    let text = entry.node.text().unwrap_or_default();
    let is_text = |node: &Node| node.text().is_some();
    let wrong = match entry.key.as_str() {
        "files" if entry.node.each().iter().all(is_text) => {
            let paths = entry.node.each().iter();
            found
                .facts
                .files
                .extend(paths.map(|one| (one.origin, one.text().unwrap_or_default().to_owned())));
            None
        }
        "files" => Some("expected a list of paths".to_owned()),
        "sheet" if text != FORM => Some(format!("this version reads sheets of the form `{FORM}`")),
        "kind" if DeviceKind::from_word(text).is_none() => {
            Some("expected one of: firewall, router, server, storage".to_owned())
        }
        _ => None,
    };
    match wrong {
        Some(text) => found.notes.push(Note { origin: entry.node.origin, text }),
        None => found.understood.push(entry.node.origin),
    }
}

fn section(entry: &Entry, found: &mut Found) {
    macro_rules! sections {
        ($($field:ident = $name:literal,)*) => {
            match entry.key.as_str() {
                $($name => {
                    for node in entry.node.each() {
                        let whole = bare(&of_file(node, &mut found.facts));
                        if let Some(one) = take::take(&whole, &mut found.notes) {
                            found.facts.$field.push(one);
                            found.understood.push(node.origin);
                            nested(node, &mut found.understood);
                        }
                    }
                })*
                _ => {}
            }
        };
    }
    each_section!(sections);
    found.facts.has_interfaces |= entry.key == "interfaces";
    found.facts.has_sockets |= entry.key == "sockets";
}

/// Takes out of an entry from which file of the device it comes: other entries name that file.
fn of_file(node: &Node, facts: &mut Facts) -> Node {
    let mut rest = node.clone();
    if let Value::Table(entries) = &mut rest.value
        && let Some(at) = entries.iter().position(|entry| entry.key == "file" && entry.node.text().is_some())
    {
        let path = entries.remove(at).node.text().unwrap_or_default().to_owned();
        facts.files.push((node.origin, path));
    }
    rest
}

/// An entry that is a single value may stand in a table of its own, beside where it was seen.
fn bare(node: &Node) -> Node {
    match node.entries() {
        [only] if only.key == "is" => Node { origin: node.origin, ..only.node.clone() },
        _ => node.clone(),
    }
}

/// Places of the tables inside an entry, which have headings of their own.
fn nested(node: &Node, into: &mut Vec<Origin>) {
    for entry in node.entries() {
        for one in entry.node.each() {
            into.push(one.origin);
            nested(one, into);
        }
    }
}

/// What follows from the entries: what secrets are for, forwards, names of settings.
fn settle(export: &Export, facts: &mut Facts) {
    for server in &mut facts.ssh_servers {
        server.keywords = crate::sshd::keywords();
    }
    facts.forwards = facts.filters.iter().flat_map(forwards::of).collect();
    let mut held = Vec::new();
    let mut keep = |secret: &mut Arc<HeldSecret>, kind: SecretKind, owner: &str| {
        if let Some(inner) = Arc::get_mut(secret) {
            (inner.kind, inner.owner) = (kind, owner.to_owned());
        }
        if !secret.secret.is_withheld() {
            held.push(Arc::clone(secret));
        }
    };
    let own = export.file_name();
    for one in &mut facts.accounts {
        if let StoredPassword::Hash { held, .. } = &mut one.password {
            keep(held, SecretKind::PasswordHash, &one.name);
        }
    }
    for one in &mut facts.shadow {
        if let StoredPassword::Hash { held, .. } = &mut one.password {
            keep(held, SecretKind::PasswordHash, &one.name);
        }
    }
    for one in &mut facts.radius_clients {
        one.secret.iter_mut().for_each(|secret| keep(secret, SecretKind::RadiusSecret, &one.name));
    }
    for one in &mut facts.radius_upstreams {
        one.secret.iter_mut().for_each(|secret| keep(secret, SecretKind::RadiusSecret, &one.name));
    }
    for one in &mut facts.radius_targets {
        one.secret.iter_mut().for_each(|secret| keep(secret, SecretKind::RadiusSecret, &one.server));
    }
    for one in &mut facts.credentials {
        if let Setting::Stated { value: Some(secret), .. } = &mut one.secret {
            keep(secret, SecretKind::LoginPassword, &one.client);
        }
    }
    for one in &mut facts.pre_shared_keys {
        let whom = one.whom();
        keep(&mut one.held, SecretKind::PreSharedKey, &whom);
    }
    for one in &mut facts.logins {
        one.secret.iter_mut().for_each(|secret| keep(secret, SecretKind::LoginPassword, &one.user));
    }
    for one in &mut facts.private_keys {
        keep(&mut one.held, SecretKind::PrivateKey, own);
    }
    facts.secrets.extend(held);
}
