//! Facts as a device sheet, which can be read back. Secrets are left out, and the places of the exports become remarks about where each
//! entry was seen.

use super::node::{self, Node};
use rayon::prelude::*;
use serde::Serialize;
use serde_json::{Map, Value};
use std::fmt::Write;
use trevlin_model::written::{ORIGIN, SECRET, SETTING};
use trevlin_model::{DeviceKind, Export, ExportId, Facts, Origin, each_section};

/// How wide a line may get before a table is taken apart.
const WIDE: usize = 110;

/// Statements of a sheet about the device as a whole, and the names of elements of the estate.
pub struct Head<'a> {
    /// Name of the device.
    pub device: &'a str,
    /// Kind.
    pub kind: DeviceKind,
    /// Whether all its settings are known: a sheet filled in by hand leaves open what it does not state.
    pub complete: bool,
    /// Paths of the files of the device that are at hand.
    pub files: &'a [String],
    /// Where an entry was seen, in words.
    pub seen: &'a dyn Fn(Origin) -> String,
    /// Path of the export that contains an entry, as files of the device name each other.
    pub file: &'a dyn Fn(Origin) -> String,
    /// Masks what must not leave.
    pub mask: &'a dyn Fn(&str) -> String,
}

impl std::fmt::Debug for Head<'_> {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.debug_struct("Head").field("device", &self.device).finish_non_exhaustive()
    }
}

/// Writes a device's facts as a sheet.
#[must_use]
pub fn write(facts: &Facts, head: &Head<'_>) -> String {
    let mut out = Writer { head, text: String::new() };
    let _ = writeln!(out.text, "sheet = {}", text(super::FORM));
    let _ = writeln!(out.text, "device = {}", text(head.device));
    if head.kind != DeviceKind::Unknown {
        let _ = writeln!(out.text, "kind = {}", text(head.kind.word()));
    }
    if head.complete {
        out.text.push_str("complete = true\n");
    }
    let files = Value::Array(head.files.iter().map(|path| Value::String(path.clone())).collect());
    line(&mut out.text, "files", &files);
    macro_rules! empty {
        ($($field:ident = $name:literal,)*) => {$(
            let exported = match $name {
                "interfaces" => facts.has_interfaces,
                "sockets" => facts.has_sockets,
                _ => false,
            };
            if exported && facts.$field.is_empty() {
                let _ = writeln!(out.text, "{} = []", $name);
            }
        )*};
    }
    each_section!(empty);
    macro_rules! sections {
        ($($field:ident = $name:literal,)*) => {$( out.section($name, &facts.$field); )*};
    }
    each_section!(sections);
    out.text
}

/// How many entries are worth a thread.
const PARALLEL: usize = 1024;

/// Writes a document in the form of a sheet unchanged.
pub(crate) fn write_node(top: &Node, exports: &[&Export], mask: &(dyn Fn(&str) -> String + Sync)) -> String {
    let seen = |origin: Origin| {
        let export = exports.iter().find(|export| export.id() == origin.export);
        export.map_or_else(String::new, |export| {
            format!("{}, line {}", export.file_name(), export.line_of(origin.start))
        })
    };
    let mut out = String::new();
    let _ = writeln!(out, "sheet = {}", text(super::FORM));
    let is_table = |node: &Node| !node.entries().is_empty();
    let (tables, plain): (Vec<_>, Vec<_>) =
        top.entries().iter().partition(|entry| entry.node.each().iter().any(is_table));
    for entry in plain {
        line(&mut out, &entry.key, &value(&entry.node, &mask));
    }
    for entry in tables {
        let bracket = if matches!(entry.node.value, node::Value::List(_)) { "[[" } else { "[" };
        let written = |some: &[Node]| {
            let mut out = String::new();
            for one in some {
                if let Value::Object(mut fields) = value(one, &mask) {
                    fields.insert("seen".into(), Value::String(seen(one.origin)));
                    table(&mut out, &entry.key, bracket, &fields);
                }
            }
            out
        };
        let pieces: Vec<String> = entry.node.each().par_chunks(PARALLEL).map(written).collect();
        pieces.iter().for_each(|piece| out.push_str(piece));
    }
    out
}

fn value(node: &Node, mask: &impl Fn(&str) -> String) -> Value {
    match &node.value {
        node::Value::Text(text) => Value::String(mask(text)),
        node::Value::Number(number) => Value::from(*number),
        node::Value::Fraction(number) => Value::from(*number),
        node::Value::Truth(truth) => Value::Bool(*truth),
        node::Value::List(all) => Value::Array(all.iter().map(|one| value(one, mask)).collect()),
        node::Value::Table(entries) => Value::Object(
            entries.iter().map(|entry| (entry.key.to_string(), value(&entry.node, mask))).collect(),
        ),
    }
}

struct Writer<'a> {
    head: &'a Head<'a>,
    text: String,
}

/// A value with the marks taken out, and the place that was in it.
fn clean(value: Value, mask: &dyn Fn(&str) -> String) -> Option<Value> {
    match value {
        Value::Null | Value::Bool(false) => None,
        Value::Bool(true) | Value::Number(_) => Some(value),
        Value::String(text) => Some(Value::String(mask(&text))),
        Value::Array(all) if all.is_empty() => None,
        // Places alone say only that there is something.
        Value::Array(all) if all.iter().all(|one| place(one).is_some()) => Some(Value::Bool(true)),
        // A value and its place.
        Value::Array(mut all) if all.len() == 2 && place(&all[1]).is_some() => {
            Some(stated(clean_kept(all.swap_remove(0), mask)))
        }
        Value::Array(all) => Some(Value::Array(all.into_iter().map(|one| clean_kept(one, mask)).collect())),
        Value::Object(map) => object(map, mask),
    }
}

/// A value that counts even where it is empty: an element of a list.
fn clean_kept(value: Value, mask: &dyn Fn(&str) -> String) -> Value {
    match value {
        Value::Null => Value::Array(Vec::new()),
        Value::Bool(false) => value,
        Value::Array(all) if all.is_empty() => Value::Array(all),
        other => clean(other, mask).unwrap_or_else(|| Value::Object(Map::new())),
    }
}

/// A setting that is off is written as a word, since a plain `false` counts as not stated.
fn stated(value: Value) -> Value {
    if value == Value::Bool(false) { Value::String("no".into()) } else { value }
}

fn object(mut map: Map<String, Value>, mask: &dyn Fn(&str) -> String) -> Option<Value> {
    if map.contains_key(ORIGIN) {
        return Some(Value::Bool(true));
    }
    if map.contains_key(SECRET) {
        return Some(single("withheld", Value::Bool(true)));
    }
    if let Some(value) = map.remove(SETTING) {
        return Some(match value {
            Value::Null => single("none", Value::Bool(true)),
            value => stated(clean_kept(value, mask)),
        });
    }
    map.retain(|key, value| !key.ends_with("origin") || place(value).is_none());
    if let Some(Value::Array(rows)) = map.get_mut("defaults") {
        let each = std::mem::take(rows).into_iter().map(|row| match row {
            Value::Object(mut row) => {
                let value = row.remove("value").map_or(Value::Null, |value| match value {
                    Value::Null => single("none", Value::Bool(true)),
                    value => stated(clean_kept(value, mask)),
                });
                row.insert("value".into(), value);
                Value::Object(row)
            }
            other => other,
        });
        let rows = each.collect();
        return Some(single("defaults", Value::Array(rows)));
    }
    let cleaned: Map<String, Value> =
        map.into_iter().filter_map(|(key, value)| Some((key, clean(value, mask)?))).collect();
    (!cleaned.is_empty()).then_some(Value::Object(cleaned))
}

fn single(key: &str, value: Value) -> Value {
    Value::Object(Map::from_iter([(key.to_owned(), value)]))
}

/// The place that a marker represents.
fn place(value: &Value) -> Option<Origin> {
    let numbers = value.as_object()?.get(ORIGIN)?.as_array()?;
    let number = |at: usize| u32::try_from(numbers.get(at)?.as_u64()?).ok();
    Some(Origin { export: ExportId(number(0)?), start: number(1)?, end: number(2)? })
}

impl Writer<'_> {
    fn section<T: Serialize>(&mut self, name: &str, entries: &[T]) {
        for entry in entries {
            // Every type of the model can be written; others have no place in a sheet.
            let Ok(value) = serde_json::to_value(entry) else { continue };
            let origin = match &value {
                Value::Object(map) => map.get("origin").and_then(place),
                Value::Array(pair) => pair.get(1).and_then(place),
                _ => None,
            };
            let Some(cleaned) = clean(value, self.head.mask) else { continue };
            let mut fields = match cleaned {
                Value::Object(map) => map,
                other => Map::from_iter([("is".to_owned(), other)]),
            };
            if let Some(origin) = origin {
                if super::FROM_FILES.contains(&name) {
                    fields.insert("file".into(), Value::String((self.head.file)(origin)));
                }
                fields.insert("seen".into(), Value::String((self.head.seen)(origin)));
            }
            table(&mut self.text, name, "[[", &fields);
        }
    }
}

/// A key and its value; a long list has a line for each of its values.
fn line(out: &mut String, key: &str, value: &Value) {
    if !value.is_array() {
        let _ = write!(out, "{key} = ");
        inline(out, value);
        out.push('\n');
        return;
    }
    let start = out.len();
    let _ = write!(out, "{key} = ");
    inline(out, value);
    match value {
        Value::Array(all) if out.len() - start > WIDE => {
            out.truncate(start);
            let _ = writeln!(out, "{key} = [");
            for one in all {
                out.push_str("  ");
                inline(out, one);
                out.push_str(",\n");
            }
            out.push_str("]\n");
        }
        _ => out.push('\n'),
    }
}

/// A table under a heading of its own: first what fits on a line, then what needs headings.
fn table(out: &mut String, name: &str, bracket: &str, fields: &Map<String, Value>) {
    let close = if bracket == "[[" { "]]" } else { "]" };
    let _ = write!(out, "\n{bracket}{name}{close}\n");
    let mut large = Vec::new();
    let mut ordered: Vec<_> = fields.iter().collect();
    ordered.sort_by_key(|(key, _)| LEADING.iter().position(|one| one == key).unwrap_or(LEADING.len()));
    for (key, value) in ordered {
        match value {
            Value::Array(all) if all.iter().all(Value::is_object) && is_wide(key, value) => {
                large.push((key, value))
            }
            Value::Object(_) if is_wide(key, value) => large.push((key, value)),
            _ => line(out, key, value),
        }
    }
    for (key, value) in large {
        let name = format!("{name}.{key}");
        match value {
            Value::Object(map) => table(out, &name, "[", map),
            Value::Array(all) => {
                for map in all.iter().filter_map(Value::as_object) {
                    table(out, &name, "[[", map);
                }
            }
            _ => {}
        }
    }
}

/// The name of an entry comes first, then where it was seen.
const LEADING: [&str; 5] = ["name", "kind", "family", "role", "seen"];

fn is_wide(key: &str, value: &Value) -> bool {
    let mut text = String::new();
    inline(&mut text, value);
    key.len() + 3 + text.len() > WIDE
}

/// A text in quotes. Signs that steer a terminal, or the direction of writing, are written as numbers.
fn quote(out: &mut String, value: &str) {
    out.push('"');
    if value.bytes().all(|byte| matches!(byte, b' '..=b'~') && !matches!(byte, b'"' | b'\\')) {
        out.push_str(value);
        out.push('"');
        return;
    }
    for sign in value.chars() {
        match sign {
            '"' | '\\' => out.extend(['\\', sign]),
            '\n' => out.push_str("\\n"),
            '\t' => out.push_str("\\t"),
            '\u{ad}'
            | '\u{61c}'
            | '\u{200b}'..='\u{200f}'
            | '\u{2028}'..='\u{202e}'
            | '\u{2060}'..='\u{206f}'
            | '\u{feff}' => {
                let _ = write!(out, "\\u{:04X}", u32::from(sign));
            }
            '\u{e0000}'..='\u{e007f}' => {
                let _ = write!(out, "\\U{:08X}", u32::from(sign));
            }
            sign if sign.is_control() => {
                let _ = write!(out, "\\u{:04X}", u32::from(sign));
            }
            sign => out.push(sign),
        }
    }
    out.push('"');
}

fn text(value: &str) -> String {
    let mut out = String::with_capacity(value.len() + 2);
    quote(&mut out, value);
    out
}

/// A value on one line.
fn inline(out: &mut String, value: &Value) {
    match value {
        Value::String(value) => quote(out, value),
        Value::Array(all) => {
            out.push('[');
            for (at, one) in all.iter().enumerate() {
                if at > 0 {
                    out.push_str(", ");
                }
                inline(out, one);
            }
            out.push(']');
        }
        Value::Object(map) if map.is_empty() => out.push_str("{}"),
        Value::Object(map) => {
            out.push_str("{ ");
            for (at, (key, value)) in map.iter().enumerate() {
                let _ = write!(out, "{}{key} = ", if at > 0 { ", " } else { "" });
                inline(out, value);
            }
            out.push_str(" }");
        }
        other => {
            let _ = write!(out, "{other}");
        }
    }
}
