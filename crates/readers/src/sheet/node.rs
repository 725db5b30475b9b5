//! A document as a tree of values with their places: TOML, JSON, or the result of a phrasebook.

use crate::json::{self, Json};
use smol_str::{SmolStr, ToSmolStr};
use std::sync::Arc;
use toml::Spanned;
use toml::de::{DeArray, DeTable, DeValue};
use trevlin_model::{Export, Limit, Note, Origin};

/// A document as it was read.
#[derive(Debug)]
pub(crate) struct Document {
    /// Its values.
    pub(crate) top: Node,
    /// Syntax errors.
    pub(crate) notes: Vec<Note>,
    /// Values that nest deeper than they are followed, and were not read.
    pub(crate) cuts: Vec<Origin>,
}

impl Document {
    /// Its values, and all messages about its form for the author of such a document.
    pub(crate) fn told(mut self, what: &str) -> (Node, Vec<Note>) {
        self.notes.extend(self.cuts.first().map(|origin| Note {
            origin: *origin,
            text: format!("values are nested deeper than any of a {what}; remove them"),
        }));
        (self.top, self.notes)
    }
}

/// A value and its place.
#[derive(Debug, Clone, PartialEq)]
pub(crate) struct Node {
    /// Its place; for a table from its heading to the last value directly in it.
    pub(crate) origin: Origin,
    /// The value.
    pub(crate) value: Value,
}

/// Type and content of a value.
#[derive(Debug, Clone, PartialEq)]
pub(crate) enum Value {
    /// A text.
    Text(SmolStr),
    /// A whole number.
    Number(i64),
    /// Another number.
    Fraction(f64),
    /// Yes or no.
    Truth(bool),
    /// Several values.
    List(Vec<Node>),
    /// Named values, in the order of the document.
    Table(Vec<Entry>),
}

/// A named value of a table.
#[derive(Debug, Clone, PartialEq)]
pub(crate) struct Entry {
    /// Name.
    pub(crate) key: Arc<str>,
    /// Place of the name.
    pub(crate) key_origin: Origin,
    /// Value.
    pub(crate) node: Node,
}

impl Entry {
    /// A value that follows from another place of the sheet.
    pub(crate) fn new(key: &str, origin: Origin, value: Value) -> Self {
        Self { key: key.into(), key_origin: origin, node: Node { origin, value } }
    }
}

impl Node {
    /// A table with nothing in it.
    pub(crate) fn table(origin: Origin) -> Self {
        Self { origin, value: Value::Table(Vec::new()) }
    }

    /// A value of a table.
    pub(crate) fn get(&self, key: &str) -> Option<&Self> {
        self.entries().iter().find(|entry| &*entry.key == key).map(|entry| &entry.node)
    }

    /// The named values of a table; empty for other types.
    pub(crate) fn entries(&self) -> &[Entry] {
        if let Value::Table(entries) = &self.value { entries } else { &[] }
    }

    /// Its text, where it is one.
    pub(crate) fn text(&self) -> Option<&str> {
        if let Value::Text(text) = &self.value { Some(text) } else { None }
    }

    /// The values of a list; a value that is none is a list of itself.
    pub(crate) fn each(&self) -> &[Self] {
        if let Value::List(all) = &self.value { all } else { std::slice::from_ref(self) }
    }

    /// The same, to be changed.
    pub(super) fn each_mut(&mut self) -> &mut [Self] {
        if !matches!(self.value, Value::List(_)) {
            return std::slice::from_mut(self);
        }
        let Value::List(all) = &mut self.value else { return &mut [] };
        all
    }

    /// Runs for the value at a path of keys, in every entry of the lists on the way.
    pub(super) fn at(&mut self, path: &[&str], run: &mut dyn FnMut(&mut Self)) {
        let Some((first, rest)) = path.split_first() else { return run(self) };
        for one in self.each_mut() {
            let Value::Table(entries) = &mut one.value else { continue };
            if let Some(entry) = entries.iter_mut().find(|entry| &*entry.key == *first) {
                entry.node.at(rest, run);
            }
        }
    }

    /// Adds a value to a table that has none with the key.
    pub(super) fn fill(&mut self, key: &str, origin: Origin, value: Value) {
        let Value::Table(entries) = &mut self.value else { return };
        if !entries.iter().any(|entry| &*entry.key == key) {
            entries.push(Entry::new(key, origin, value));
        }
    }

    /// Its type, for messages.
    pub(crate) fn kind(&self) -> &'static str {
        match self.value {
            Value::Text(_) => "a text",
            Value::Number(_) | Value::Fraction(_) => "a number",
            Value::Truth(_) => "true or false",
            Value::List(_) => "a list",
            Value::Table(_) => "a table",
        }
    }

    /// The value at a path.
    pub(crate) fn find(&self, at: Origin) -> Option<&Self> {
        if self.origin == at {
            return Some(self);
        }
        match &self.value {
            Value::Table(entries) => entries.iter().find_map(|entry| entry.node.find(at)),
            Value::List(all) => all.iter().find_map(|one| one.find(at)),
            _ => None,
        }
    }

    /// Removes the value at the end of a path, and returns whether there was one. A single value counts as a list of one.
    pub(crate) fn remove(&mut self, path: &[Step]) -> bool {
        let [first, rest @ ..] = path else { return false };
        match (&mut self.value, first) {
            (Value::Table(entries), Step::Key(key)) => {
                let Some(at) = entries.iter().position(|entry| entry.key == *key) else { return false };
                let inner = &mut entries[at].node;
                let itself =
                    rest.is_empty() || (rest == [Step::Index(0)] && !matches!(inner.value, Value::List(_)));
                if itself {
                    entries.remove(at);
                    return true;
                }
                inner.remove(rest)
            }
            (Value::List(all), Step::Index(at)) if *at < all.len() => {
                if rest.is_empty() {
                    all.remove(*at);
                    return true;
                }
                all[*at].remove(rest)
            }
            (_, Step::Index(0)) => self.remove(rest),
            _ => false,
        }
    }
}

/// A step into a value.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) enum Step {
    /// Into a table.
    Key(Arc<str>),
    /// Into a list.
    Index(usize),
}

/// A TOML document. Everything readable is read.
pub(crate) fn of_toml(export: &Export) -> Document {
    let (table, errors) = DeTable::parse_recoverable(export.text());
    let note = |error: toml::de::Error| {
        let span = error.span().unwrap_or(0..0);
        Note {
            origin: export.origin(span),
            text: format!("this is not TOML: {}", error.message().trim_end()),
        }
    };
    let notes = errors.into_iter().map(note).collect();
    let mut toml = Toml { export, cuts: Vec::new() };
    let top = toml.table(table.get_ref(), export.origin(0..0), 0);
    Document { top, notes, cuts: toml.cuts }
}

struct Toml<'a> {
    export: &'a Export,
    cuts: Vec<Origin>,
}

impl Toml<'_> {
    fn table(&mut self, table: &DeTable<'_>, origin: Origin, depth: usize) -> Node {
        let mut entries: Vec<Entry> = Vec::new();
        let mut whole = origin;
        for (key, value) in table {
            let key_origin = self.export.origin(key.span());
            let node = self.value(value, depth + 1);
            if !matches!(node.value, Value::Table(_) | Value::List(_)) || is_inline(self.export, &node) {
                whole.end = whole.end.max(node.origin.end);
            }
            entries.push(Entry { key: key.get_ref().as_ref().into(), key_origin, node });
        }
        entries.sort_by_key(|entry| entry.key_origin);
        Node { origin: whole, value: Value::Table(entries) }
    }

    fn value(&mut self, value: &Spanned<DeValue<'_>>, depth: usize) -> Node {
        let origin = self.export.origin(value.span());
        let plain = |value| Node { origin, value };
        match value.get_ref() {
            DeValue::String(text) => plain(Value::Text(text.to_smolstr())),
            DeValue::Boolean(truth) => plain(Value::Truth(*truth)),
            DeValue::Integer(number) => {
                let digits = number.as_str();
                plain(match i64::from_str_radix(digits, number.radix()) {
                    Ok(number) => Value::Number(number),
                    Err(_) => Value::Text(digits.into()),
                })
            }
            DeValue::Float(number) => plain(match number.as_str().parse() {
                Ok(number) => Value::Fraction(number),
                Err(_) => Value::Text(number.as_str().into()),
            }),
            DeValue::Datetime(moment) => plain(Value::Text(moment.to_smolstr())),
            DeValue::Array(_) | DeValue::Table(_) if depth >= self.export.limits().of(Limit::Nesting) => {
                self.cuts.push(origin);
                plain(Value::List(Vec::new()))
            }
            DeValue::Array(all) => self.list(all, origin, depth),
            DeValue::Table(table) => self.table(table, origin, depth),
        }
    }

    fn list(&mut self, all: &DeArray<'_>, origin: Origin, depth: usize) -> Node {
        Node { origin, value: Value::List(all.iter().map(|one| self.value(one, depth + 1)).collect()) }
    }
}

/// Whether a table or list is written in brackets after its key, and not under a heading of its own.
fn is_inline(export: &Export, node: &Node) -> bool {
    let text = export.text().get(node.origin.start as usize..).unwrap_or_default();
    text.starts_with('{') || (text.starts_with('[') && !starts_line(export, node.origin.start))
}

fn starts_line(export: &Export, at: u32) -> bool {
    let before = export.text().get(..at as usize).unwrap_or_default();
    before.rsplit('\n').next().is_none_or(|line| line.trim().is_empty())
}

/// A JSON document. Everything before a syntax error is read.
pub(crate) fn of_json(export: &Export) -> Document {
    let (top, broken) = json::parse(export);
    let mut notes = Vec::new();
    if let Some(broken) = broken {
        let origin = export.origin(broken.offset..export.text().len());
        notes.push(Note { origin, text: broken.words("") });
    }
    Document { top: of_value(export, &top), notes, cuts: top.cuts() }
}

fn of_value(export: &Export, one: &Json<'_>) -> Node {
    let value = match one.slice.as_bytes().first() {
        Some(b'{') => {
            let mut entries: Vec<Entry> =
                one.members().map(|(key, value)| member(export, key, value)).collect();
            entries.sort_by_key(|entry| entry.node.origin);
            Value::Table(entries)
        }
        Some(b'[') => Value::List(one.elements().iter().map(|one| of_value(export, one)).collect()),
        Some(b'"') => Value::Text(one.text_of().unwrap_or_default().into()),
        _ if one.is_true() || one.is_false() => Value::Truth(one.is_true()),
        _ => match (one.number_of(), one.slice.parse()) {
            (Some(number), _) => Value::Number(number),
            (None, Ok(number)) => Value::Fraction(number),
            // `null` says as much as nothing.
            _ => Value::List(Vec::new()),
        },
    };
    Node { origin: one.origin, value }
}

/// A member of an object. The position of its name is searched for before the value, on whose line it nearly always is.
fn member(export: &Export, key: &str, value: &Json<'_>) -> Entry {
    let before = export.text().get(..value.origin.start as usize).unwrap_or_default();
    let quoted = before.trim_end().strip_suffix(':').map(str::trim_end).unwrap_or_default();
    let start = quoted.len().saturating_sub(key.len() + 2);
    let start = (start..=quoted.len()).find(|at| quoted.is_char_boundary(*at)).unwrap_or(quoted.len());
    let key_origin = export.origin(start..quoted.len());
    Entry { key: key.into(), key_origin, node: of_value(export, value) }
}

#[cfg(test)]
mod tests {
    use super::*;
    use trevlin_model::ExportId;

    fn export(text: &str) -> Export {
        Export::new(ExportId(0), "x", text.into())
    }

    #[test]
    fn tables_reach_to_their_last_value() {
        let text =
            "a = 1\n[[r]]\nname = \"x\"\nat = { b = [1,\n 2] }\n[[r.m]]\nq = true\n[[r]]\nname = \"y\"\n";
        let export = export(text);
        let Document { top, notes, .. } = of_toml(&export);
        assert!(notes.is_empty());
        let rows = top.get("r").unwrap().each();
        let shown = |node: &Node| &text[node.origin.start as usize..node.origin.end as usize];
        assert_eq!(shown(&rows[0]), "[[r]]\nname = \"x\"\nat = { b = [1,\n 2] }");
        assert_eq!(shown(&rows[0].get("m").unwrap().each()[0]), "[[r.m]]\nq = true");
        assert_eq!(rows[1].get("name").and_then(Node::text), Some("y"));
    }

    #[test]
    fn broken_documents_keep_what_can_be_read() {
        let broken = export("a = \nb = 2\nb = 3\n[x\nc = 4\n");
        let Document { top, notes, .. } = of_toml(&broken);
        assert_eq!(top.get("b").unwrap().value, Value::Number(2));
        assert!(notes.len() >= 3, "{notes:?}");
        assert_eq!(of_json(&export("{\"a\": ")).notes.len(), 1);
    }

    #[test]
    fn what_nests_too_deep_is_left_out_and_said() {
        let nested = |depth: usize| format!("{}1{}", "[".repeat(depth), "]".repeat(depth));
        for (depth, cuts) in [(30, 0), (40, 1)] {
            let toml = export(&format!("a = 2\nb = {}\nc = 3\n", nested(depth)));
            let json = export(&format!("{{\"a\": 2, \"b\": {}, \"c\": 3}}", nested(depth)));
            for document in [of_toml(&toml), of_json(&json)] {
                assert_eq!((document.notes.len(), document.cuts.len()), (0, cuts), "{depth}");
                assert_eq!(document.top.get("c").map(|one| &one.value), Some(&Value::Number(3)));
            }
        }
    }

    #[test]
    fn json_is_the_same_tree() {
        let export = export("{\"a\": [1, {\"b\": \"c\"}], \"d\": true, \"e\": 1.5, \"f\": null}");
        let Document { top, notes, .. } = of_json(&export);
        assert!(notes.is_empty());
        assert_eq!(top.get("a").unwrap().each()[1].get("b").and_then(Node::text), Some("c"));
        assert_eq!(top.entries()[0].key_origin, export.origin(1..4));
        assert_eq!(top.get("d").unwrap().value, Value::Truth(true));
        assert_eq!(top.get("e").unwrap().value, Value::Fraction(1.5));
        assert!(top.get("f").unwrap().each().is_empty());
    }

    #[test]
    fn what_lies_at_a_path_is_taken_out() {
        let export = export("a = { b = 1, c = [2, 3] }\n");
        let mut top = of_toml(&export).top;
        let (a, b, c) = (Step::Key("a".into()), Step::Key("b".into()), Step::Key("c".into()));
        assert!(
            top.remove(&[a.clone(), c.clone(), Step::Index(0)])
                && !top.remove(&[a.clone(), c, Step::Index(7)])
        );
        assert!(top.remove(&[a.clone(), b.clone(), Step::Index(0)]) && !top.remove(&[a, b]));
        assert_eq!(top.get("a").unwrap().get("c").unwrap().each().len(), 1);
    }
}
