//! The last chapter of the questions: sections and keys of the schema that no question has, with their form and their meaning.

use serde_json::{Map, Value};
use std::collections::{BTreeMap, BTreeSet};
use std::fmt::Write as _;

/// Deepest level of keys that are listed one by one.
const DEEPEST: usize = 3;
/// So many values of a choice are listed.
const MOST_VALUES: usize = 8;

const HEAD: &str = "\
# 10. EVERYTHING ELSE: sections and keys that the questions above do not have
#
# Most appliances show none of them. A key joins its block above; a section is a block of its own, `[[name]]`, with one
# line `key = value` for each key. A key with dots is one of a table within.
";

/// The chapter, from the schema of a sheet and the other chapters.
#[must_use]
pub fn further_keys(schema: &Value, chapters: &str) -> String {
    let asked = asked(chapters);
    let mut text = HEAD.to_owned();
    let Some(sections) = schema["properties"].as_object() else { return text };
    let walk = Walk { definitions: &schema["$defs"] };
    for (name, section) in sections {
        if ["sheet", "device", "kind"].contains(&name.as_str()) {
            continue;
        }
        let known = asked.get(name.as_str());
        let Some(entry) = walk.object(section) else {
            if known.is_none() {
                let _ = writeln!(text, "#\n# {name} ({}): {}", walk.form(section), described(section));
            }
            continue;
        };
        let keys = walk.unasked(&entry, known);
        let (open, close) = if walk.is_list(section) { ("[[", "]]") } else { ("[", "]") };
        block(&mut text, &format!("{open}{name}{close}"), keys);
        // Parts of an entry that have questions of their own.
        for part in asked.keys().filter_map(|key| key.strip_prefix(&format!("{name}."))) {
            let Some(table) = walk.within(&entry, part) else { continue };
            let keys = walk.unasked(&table, asked.get(format!("{name}.{part}").as_str()));
            block(&mut text, &format!("[[{name}.{part}]]"), keys);
        }
    }
    text
}

/// Keys of the questions in the chapters, by section.
fn asked(chapters: &str) -> BTreeMap<&str, BTreeSet<&str>> {
    let mut found: BTreeMap<&str, BTreeSet<&str>> = BTreeMap::new();
    let mut section = "";
    for line in chapters.lines() {
        let Some(rest) = line.strip_prefix('#') else { continue };
        if let Some(heading) = rest.strip_prefix('[') {
            let name = heading.trim_start_matches('[').trim_end_matches(']');
            let list = heading.starts_with('[') && name.contains('.');
            section = if list { name } else { name.split('.').next().unwrap_or_default() };
            let whole = name.split('.').next().unwrap_or_default();
            found.entry(whole).or_default().extend(name.split('.').skip(1));
            found.entry(section).or_default();
        } else if !rest.starts_with(' ') && rest.contains(" = ") {
            // Names before an equals sign, those within tables as well.
            for before in rest.split('=') {
                let name = before
                    .trim_end()
                    .rsplit(|one: char| !(one.is_ascii_alphanumeric() || one == '-' || one == '.'));
                for part in name.take(1).flat_map(|name| name.split('.')) {
                    found.entry(section).or_default().insert(part);
                }
            }
        }
    }
    found
}

/// A block with its keys, where it has any.
fn block(text: &mut String, heading: &str, keys: Vec<(String, String)>) {
    if keys.is_empty() {
        return;
    }
    let _ = writeln!(text, "#\n# {heading}");
    for (key, about) in keys {
        written(text, &key, &about);
    }
}

fn described(schema: &Value) -> String {
    // What a type has no value for, a sheet leaves out.
    schema["description"].as_str().unwrap_or_default().replace('\n', " ").replace("`None`", "left out")
}

/// A key with its meaning, on lines of a usual length.
fn written(text: &mut String, key: &str, about: &str) {
    const WIDTH: usize = 110;
    let mut line = format!("#   `{key}`");
    for word in about.split_whitespace() {
        if line.chars().count() + word.chars().count() >= WIDTH {
            text.push_str(&line);
            text.push('\n');
            line = "#      ".to_owned();
        }
        line.push(' ');
        line.push_str(word);
    }
    text.push_str(line.trim_end());
    text.push('\n');
}

struct Walk<'a> {
    definitions: &'a Value,
}

impl Walk<'_> {
    /// The definition behind a reference.
    fn resolved<'s>(&'s self, schema: &'s Value) -> &'s Value {
        let name = schema["$ref"].as_str().and_then(|path| path.rsplit('/').next());
        name.map_or(schema, |name| &self.definitions[name])
    }

    fn alternatives<'s>(&'s self, schema: &'s Value) -> Vec<&'s Value> {
        let schema = self.resolved(schema);
        let each = schema["anyOf"].as_array().or_else(|| schema["oneOf"].as_array());
        match each {
            Some(each) => each.iter().flat_map(|one| self.alternatives(one)).collect(),
            None => vec![schema],
        }
    }

    /// The table that a section or a key holds, or that its list is of.
    fn object(&self, schema: &Value) -> Option<Map<String, Value>> {
        let mut all = self.alternatives(schema);
        let lists: Vec<&Value> =
            all.iter().filter(|one| one["type"] == "array").map(|one| &one["items"]).collect();
        all.extend(lists.into_iter().flat_map(|items| self.alternatives(items)));
        // A value with its place, a default and a value that is not known are ways of writing, not tables.
        let ways = ["is", "defaults", "unknown", "withheld", "value"];
        let tables = all.iter().filter_map(|one| one["properties"].as_object());
        let mut tables = tables.filter(|keys| !keys.keys().all(|key| ways.contains(&key.as_str())));
        let mut found = tables.next()?.clone();
        tables.for_each(|more| found.extend(more.clone()));
        Some(found)
    }

    fn is_list(&self, schema: &Value) -> bool {
        self.alternatives(schema).iter().any(|one| one["type"] == "array")
    }

    /// The keys of a table that no question has.
    fn unasked(&self, table: &Map<String, Value>, known: Option<&BTreeSet<&str>>) -> Vec<(String, String)> {
        let mut keys = Vec::new();
        self.keys(table, "", &mut keys);
        keys.retain(|(key, _)| {
            !known.is_some_and(|known| known.contains(key.rsplit('.').next().unwrap_or(key)))
        });
        keys
    }

    /// The table that a key with dots leads to.
    fn within(&self, table: &Map<String, Value>, path: &str) -> Option<Map<String, Value>> {
        let mut table = table.clone();
        for key in path.split('.') {
            table = self.object(table.get(key)?)?;
        }
        Some(table)
    }

    /// Keys of a table with their form and meaning.
    fn keys(&self, table: &Map<String, Value>, before: &str, found: &mut Vec<(String, String)>) {
        for (key, schema) in table {
            if key == "seen" {
                continue;
            }
            let path = format!("{before}{key}");
            let inner = self.object(schema).filter(|_| !self.is_list(schema));
            match inner {
                Some(inner) if path.split('.').count() < DEEPEST => {
                    self.keys(&inner, &format!("{path}."), found);
                }
                _ => {
                    let about = described(schema);
                    found.push((path, format!("({}): {about}", self.form(schema))));
                }
            }
        }
    }

    /// The form of a value in words.
    fn form(&self, schema: &Value) -> String {
        let mut words: Vec<String> = Vec::new();
        let name = schema["$ref"].as_str().and_then(|path| path.rsplit('/').next());
        let short = name.filter(|name| name.starts_with(|one: char| one.is_ascii_lowercase()));
        if let Some(short) = short {
            return short.to_owned();
        }
        for one in self.alternatives(schema) {
            let word = if let Some(items) = one.get("items") {
                match self.object(items) {
                    Some(table) => {
                        let keys: Vec<&str> =
                            table.keys().map(String::as_str).filter(|key| *key != "seen").collect();
                        format!("list of tables with {}", keys.join(", "))
                    }
                    None => format!("list of {}", self.form(items)),
                }
            } else if let Some(value) = one["const"].as_str() {
                value.to_owned()
            } else if let Some(values) = one["enum"].as_array() {
                values.iter().filter_map(Value::as_str).collect::<Vec<_>>().join(", ")
            } else if one["properties"].is_object() {
                continue;
            } else {
                let kind = one["type"].as_str().or_else(|| {
                    one["type"].as_array()?.iter().filter_map(Value::as_str).find(|kind| *kind != "null")
                });
                match kind {
                    Some("string") => "text".to_owned(),
                    Some("integer" | "number") => "number".to_owned(),
                    // It is written as yes and no as well.
                    Some("boolean") => "yes, no".to_owned(),
                    Some("object") => "table".to_owned(),
                    _ => continue,
                }
            };
            if !words.contains(&word) {
                words.push(word);
            }
        }
        if words.len() > MOST_VALUES {
            words.truncate(MOST_VALUES);
            words.push("…".to_owned());
        }
        if words.is_empty() { "table".to_owned() } else { words.join(", ") }
    }
}
