//! Device sheets: our own form for settings that an appliance shows only on screen, filled in by hand, and the form in which all facts
//! about a device can be written. TOML, or JSON of the same structure.

mod briefly;
mod check;
#[cfg(feature = "schema")]
mod further;
mod guide;
mod joins;
mod keepers;
mod left_open;
mod lists;
mod login_entries;
mod marks;
mod named_addresses;
mod names;
pub(crate) mod node;
mod ordered;
mod permissions;
pub(crate) mod rule;
mod rule_base;
#[cfg(feature = "schema")]
mod schema;
mod sees;
mod service;
mod several;
mod short;
pub(crate) mod take;
mod usual;
mod words;
mod write;

pub use check::{Report, check};
#[cfg(feature = "schema")]
pub use further::further_keys;
pub use guide::guide;
#[cfg(feature = "schema")]
pub use schema::schema;
pub(crate) use write::write_node;
pub use write::{Head, write};

use crate::reader::{LineRecorder, ReadContext, Reader, Reading, Recognition, TELLING_LINES};
use left_open::{leave_open, of_no_interface};
use marks::{evidence, is_evidence, not_seen, shells};
use node::{Document, Entry, Node, Value};
use rayon::prelude::*;
use rule::OrderedRule;
use rule_base::{Hiding, Ordered, RuleList};
use serde::Deserialize;
use std::borrow::Cow;
use std::collections::BTreeSet;
use std::sync::Arc;
use trevlin_model::account::StoredPassword;
use trevlin_model::secret::SecretKind;
use trevlin_model::{
    Described, DeviceKind, Export, Facts, Limit, MalformedAddress, NotAnalysed, Note, Origin, SecretRecord,
    Setting, each_section,
};

/// Declaration of a device sheet.
pub const FORM: &str = "trevlin-sheet/2";
/// An earlier form, which is still read: version 2 adds keys, and reports names that refer to nothing.
pub(crate) const FORMER: &str = "trevlin-sheet/1";

/// Keys of a sheet that are about the device as a whole.
const HEAD: [&str; 5] = ["sheet", "device", "kind", "files", "complete"];
/// Section of secrets without another place in the sheet.
const SECRETS: &str = "secrets";
/// Sections about rules in order, as appliances show them.
const ORDERED: [&str; 8] =
    ["rule-list", "zones", "address-names", "service-names", "rules", "lists", "forwards", "translations"];
/// Sections whose entries state their file, because others refer to that file.
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
    // Keys of JSON may be in any order.
    let as_json = || {
        let (before, _) = export.text().split_once("\"trevlin-sheet/")?;
        let before = before.trim_end().strip_suffix(':')?.trim_end();
        (export.text().trim_start().starts_with('{') && before.ends_with("\"sheet\"")).then_some(())
    };
    if export.lines().take(TELLING_LINES).any(|line| says(line.text)) || as_json().is_some() {
        Recognition::Declared
    } else {
        Recognition::No
    }
}

fn read(export: &Export, _: &ReadContext<'_>) -> Reading {
    let mut reading = Reading::of(export);
    let document = document(export);
    let found = by_hand(export, document.top).0;
    let mut book = LineRecorder::new(export, &mut reading.ledger, &mut reading.elsewhere);
    for note in document.notes.into_iter().chain(found.notes) {
        book.not_understood(note.origin, note.text);
    }
    for origin in document.cuts {
        book.cut(origin, Limit::Nesting, "nested values");
    }
    for origin in found.understood {
        book.understood(origin);
    }
    *reading.facts = found.facts;
    reading
}

/// The document of an export.
fn document(export: &Export) -> Document {
    if export.text().trim_start().starts_with('{') { node::of_json(export) } else { node::of_toml(export) }
}

/// Content of a document in the form of a sheet.
#[derive(Debug, Default)]
pub(crate) struct Found {
    pub(crate) facts: Facts,
    pub(crate) notes: Vec<Note>,
    pub(crate) understood: Vec<Origin>,
    /// Values that were looked for and are on no screen of the device.
    pub(crate) not_seen: Vec<Origin>,
}

/// The facts of a document in the shape of a sheet, and names in it that refer to none of its entries: where the device has further
/// exports, the entry may be in one of them.
pub(crate) fn facts(export: &Export, top: Node) -> (Found, Vec<Note>) {
    let (mut found, _) = whole(export, top, Described::Export);
    let mut unjoined = Vec::new();
    joins::apply(&mut found.facts, &mut unjoined);
    (found, unjoined)
}

/// The facts of a sheet, whose names refer to its entries, with the rule base as written.
fn by_hand(export: &Export, top: Node) -> (Found, Ordered) {
    let (mut found, ordered) = whole(export, top, Described::Sheet);
    if found.facts.described.is_some() {
        joins::apply(&mut found.facts, &mut found.notes);
    }
    (found, ordered)
}

/// The facts of a document whose names are not joined, with the rule base as written.
fn whole(export: &Export, mut top: Node, described: Described) -> (Found, Ordered) {
    let mut found = Found::default();
    if let Value::Table(entries) = &mut top.value {
        entries.retain(|entry| !is_evidence(entry));
        // Those of rules are taken out where rules are read, side by side.
        entries.iter_mut().filter(|entry| &*entry.key != "rules").for_each(|entry| evidence(&mut entry.node));
    }
    not_seen(&mut top, &mut found.not_seen);
    let hashes = login_entries::prepare(&mut top, &mut found.understood);
    named_addresses::expand(&mut top);
    short::expand(&mut top);
    shells(&mut top);
    let complete = top.get("complete").is_some_and(|node| node.value == Value::Truth(true));
    let known = known_sections();
    let mut ordered = Ordered::default();
    let Value::Table(entries) = top.value else { return (found, ordered) };
    for entry in entries {
        if HEAD.contains(&&*entry.key) {
            head(&entry, &mut found);
        } else if found.not_seen.contains(&entry.node.origin) {
            found.understood.push(entry.node.origin);
            keepers::not_seen(&entry, &mut found.facts);
        } else if &*entry.key == SECRETS {
            secrets(&entry, &mut found);
        } else if ORDERED.contains(&&*entry.key) {
            ordered_section(entry, &mut ordered, &mut found);
        } else if known.contains(&&*entry.key) {
            if keepers::states_none(&entry, &mut found.facts) {
                found.understood.push(entry.node.origin);
            }
            if &*entry.key == "interfaces" {
                found.facts.possible_addresses.extend(of_no_interface(&entry.node));
            }
            section(&entry, &mut found);
        } else {
            let text =
                format!("`{}` is not a section of a sheet; {}", entry.key, take::nearest(&entry.key, &known));
            found.notes.push(Note { origin: entry.key_origin, text });
        }
    }
    ordered.enter_by_tunnels(&mut found.facts.tunnels);
    let own = found.facts.interfaces.iter().chain(&found.facts.stored_interfaces);
    let mut interfaces: Vec<String> = own.map(|one| one.name.clone()).collect();
    interfaces.extend(found.facts.tunnels.iter().filter_map(|tunnel| tunnel.interface.clone()));
    let interfaces: Vec<&str> = interfaces.iter().map(String::as_str).collect();
    let places = lists::places(&found.facts);
    let by_hand = described == Described::Sheet;
    found.facts.filters.extend(ordered.tables(&interfaces, &places, by_hand, &mut found.notes));
    let limits = permissions::table(&found.facts, &ordered);
    found.facts.filters.extend(limits);
    found.facts.switched_off.extend(ordered.switched_off());
    settle(export, &mut found.facts, &hashes);
    if !complete {
        leave_open(&mut found.facts, described);
        found.facts.described = Some(described);
    }
    (found, ordered)
}

fn known_sections() -> Vec<&'static str> {
    let mut known = [&HEAD[..], &ORDERED[..], &[SECRETS]].concat();
    macro_rules! names {
        ($($field:ident = $name:literal,)*) => { known.extend([$($name),*]); };
    }
    each_section!(names);
    known
}

/// A secret of a service: a community string, a Wi-Fi passphrase, a token.
#[derive(Debug, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case", deny_unknown_fields)]
pub(crate) struct SheetSecret {
    /// Purpose.
    kind: SecretKind,
    /// Whose it is.
    of: String,
    /// The secret itself.
    secret: SecretRecord,
}

fn secrets(entry: &Entry, found: &mut Found) {
    for node in entry.node.each() {
        let Some(one) = take::take::<SheetSecret>(node, &mut found.notes) else { continue };
        found.understood.push(node.origin);
        if !one.secret.secret.is_withheld() {
            let held = SecretRecord { kind: one.kind, owner: one.of, ..one.secret };
            found.facts.secrets.push(Arc::new(held));
        }
    }
}

/// Reads one of the sections about rules in order.
fn ordered_section(entry: Entry, ordered: &mut Ordered, found: &mut Found) {
    let nodes = entry.node.each();
    macro_rules! into {
        ($list:expr) => {
            for node in nodes {
                if let Some(one) = take::take(node, &mut found.notes) {
                    $list.push(one);
                    found.understood.push(node.origin);
                }
            }
        };
    }
    match &*entry.key {
        // There is no rule base: all traffic passes.
        "rule-list" if matches!(&entry.node.value, Value::List(all) if all.is_empty()) => {
            ordered.list = Some(RuleList::absent(entry.node.origin));
            found.understood.push(entry.node.origin);
        }
        "rule-list" => {
            if let Some(one) = take::take(&entry.node, &mut found.notes) {
                ordered.list = Some(one);
                found.understood.push(entry.node.origin);
            }
        }
        "zones" => into!(ordered.zones),
        "address-names" => into!(ordered.address_names),
        "service-names" => into!(ordered.service_names),
        "rules" => {
            // There may be hundreds of thousands.
            let nodes = match entry.node.value {
                Value::List(all) => all,
                _ => vec![entry.node],
            };
            let (mut rules, notes): (Vec<_>, Vec<_>) =
                nodes.into_par_iter().with_min_len(256).map(ordered_rule).unzip();
            found.understood.extend(rules.iter().map(|rule| rule.origin));
            found.notes.extend(notes.into_iter().flatten());
            ordered.rules.append(&mut rules);
        }
        "lists" => into!(ordered.lists),
        "forwards" => into!(ordered.forwards),
        "translations" => {
            for node in nodes {
                let known = found.notes.len();
                if let Some(one) = take::take::<Hiding>(node, &mut found.notes) {
                    // The rest of a translation may be for other connections than the whole of it.
                    ordered.translations.push(Hiding { unread: found.notes.len() > known, ..one });
                    found.understood.push(node.origin);
                }
            }
        }
        _ => {}
    }
}

/// Reads a rule; a placeholder for an unreadable one leaves the following rules undetermined.
fn ordered_rule(mut node: Node) -> (OrderedRule, Vec<Note>) {
    evidence(&mut node);
    let mut notes = Vec::new();
    let unread = || {
        let list = node.get("list").and_then(|list| Some((list.text()?.into(), list.origin)));
        let off = node.get("off").is_some_and(|off| off.value == Value::Truth(true));
        OrderedRule { list, off, ..OrderedRule::unread(node.origin) }
    };
    let mut rule = take::take(&node, &mut notes).unwrap_or_else(unread);
    // The rest of a rule may permit more than the whole of it.
    if !notes.is_empty() {
        rule.also.push(("a part of it could not be read".into(), node.origin));
    }
    (rule, notes)
}

fn head(entry: &Entry, found: &mut Found) {
    let text = entry.node.text().unwrap_or_default();
    let is_text = |node: &Node| node.text().is_some();
    let wrong = match &*entry.key {
        "files" if entry.node.each().iter().all(is_text) => {
            let paths = entry.node.each().iter();
            found
                .facts
                .files
                .extend(paths.map(|one| (one.origin, one.text().unwrap_or_default().to_owned())));
            None
        }
        "files" => Some("expected a list of paths".to_owned()),
        "sheet" if text != FORM && text != FORMER => {
            Some(format!("this version supports sheets of the form `{FORM}`"))
        }
        "kind" => {
            found.facts.said_kind = DeviceKind::from_word(text);
            let wrong = found.facts.said_kind.is_none();
            wrong.then(|| "expected one of: firewall, router, server, storage".to_owned())
        }
        "device" if !text.trim().is_empty() => {
            found.facts.said_name = Some(text.trim().to_owned());
            None
        }
        "device" => Some("expected the device's name".to_owned()),
        "complete" if !matches!(entry.node.value, Value::Truth(_)) => {
            Some("expected true or false".to_owned())
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
            match &*entry.key {
                $($name => {
                    for node in entry.node.each() {
                        let before = found.notes.len();
                        let whole = bare(of_file(node, &mut found.facts));
                        if let Some(one) = take::take(&whole, &mut found.notes) {
                            found.facts.$field.push(one);
                            found.understood.push(node.origin);
                            nested(node, &mut found.understood);
                        }
                        malformed(node, before, found);
                        if $name == "filters" && found.notes.len() > before {
                            found.facts.not_analysed.push(unread_filter(node.origin));
                        }
                    }
                })*
                _ => {}
            }
        };
    }
    each_section!(sections);
    found.facts.has_interfaces |= &*entry.key == "interfaces";
    found.facts.has_sockets |= &*entry.key == "sockets";
}

/// Keeps what should be an address and is none: it never becomes another silently.
fn malformed(node: &Node, before: usize, found: &mut Found) {
    for note in &mut found.notes[before..] {
        let at = note.origin;
        let is_like_one = |text: &&str| {
            text.contains(['.', ':'])
                && text.bytes().all(|byte| byte.is_ascii_hexdigit() || b".:/-".contains(&byte))
        };
        let told = note.text.split('`').nth(1);
        let wrong = told.into_iter().chain(node.find(at).and_then(Node::text)).find(is_like_one);
        if let Some(text) = wrong {
            let why = crate::addresses::what_is_wrong(text);
            note.text.clone_from(&why);
            found.facts.malformed.push(MalformedAddress { why, origin: at });
        }
    }
}

/// A filter of which something could not be read decides about packets in a way that is not known.
fn unread_filter(origin: Origin) -> NotAnalysed {
    let what = "a packet filter of which a part could not be read".into();
    NotAnalysed { what, may_serve: None, filters_packets: true, apart: false, only_blocks: false, origin }
}

/// Takes out of an entry from which file of the device it comes: other entries name that file.
fn of_file<'a>(node: &'a Node, facts: &mut Facts) -> Cow<'a, Node> {
    let Some(path) = node.get("file").and_then(Node::text) else { return Cow::Borrowed(node) };
    facts.files.push((node.origin, path.to_owned()));
    let mut rest = node.clone();
    rest.remove(&[node::Step::Key("file".into())]);
    Cow::Owned(rest)
}

/// An entry with a single value may be a table of its own, with the place where it was seen.
fn bare(node: Cow<'_, Node>) -> Cow<'_, Node> {
    match node.entries() {
        [only] if &*only.key == "is" => Cow::Owned(Node { origin: node.origin, ..only.node.clone() }),
        _ => node,
    }
}

/// Places of the tables inside an entry with headings of their own.
fn nested(node: &Node, into: &mut Vec<Origin>) {
    for entry in node.entries() {
        for one in entry.node.each() {
            into.push(one.origin);
            nested(one, into);
        }
    }
}

/// Completes the entries: purpose of secrets, forwards, names of settings.
fn settle(export: &Export, facts: &mut Facts, hashes: &BTreeSet<Origin>) {
    for server in &mut facts.ssh_servers {
        server.keywords = crate::sshd::keywords();
    }
    for tunnel in &mut facts.tunnels {
        let behind =
            tunnel.ipsec.iter().flat_map(|one| &one.children).flat_map(|child| &child.remote.networks);
        if tunnel.addresses.remote.is_empty() {
            tunnel.addresses.remote = behind.copied().collect();
        }
    }
    facts.forwards = facts.filters.iter().flat_map(trevlin_model::forwards::of).collect();
    let mut held = Vec::new();
    let mut keep = |secret: &mut Arc<SecretRecord>, kind: SecretKind, owner: &str| {
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
        let kind = |secret: &SecretRecord| {
            let hash = hashes.contains(&secret.origin) || secret.secret.is_crypt_hash();
            if hash { SecretKind::PasswordHash } else { SecretKind::LoginPassword }
        };
        one.secret.iter_mut().for_each(|secret| keep(secret, kind(secret), &one.user));
    }
    for one in &mut facts.private_keys {
        keep(&mut one.held, SecretKind::PrivateKey, own);
    }
    facts.secrets.extend(held);
}
