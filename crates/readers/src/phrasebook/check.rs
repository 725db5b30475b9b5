//! Whether the paths of a phrasebook lead anywhere in a sheet.

use super::book::Targets;
use crate::sheet::take::nearest;
use serde::Deserialize;
use std::collections::BTreeMap;
use std::sync::LazyLock;
use trevlin_model::Note;

/// The published schema of sheets, which a test holds against [`crate::sheet_schema`]: making it anew takes longer than reading a
/// phrasebook.
static SCHEMA: LazyLock<Schema> = LazyLock::new(|| {
    serde_json::from_str(include_str!("../../../../docs/schema/device-sheet.json")).unwrap_or_default()
});

/// As much of a schema as says what may stand where (JSON Schema 2020-12).
#[derive(Debug, Default, Deserialize)]
#[serde(rename_all = "camelCase", default)]
struct Schema {
    #[serde(rename = "$ref")]
    reference: Option<&'static str>,
    #[serde(rename = "$defs")]
    defs: BTreeMap<&'static str, Schema>,
    properties: BTreeMap<&'static str, Schema>,
    items: Option<Box<Schema>>,
    any_of: Vec<Schema>,
    one_of: Vec<Schema>,
    all_of: Vec<Schema>,
}

/// Notes on paths that lead nowhere. Paths that begin with `$` are the phrasebook's own.
pub(super) fn targets(all: &Targets) -> Vec<Note> {
    let mut notes = Vec::new();
    for (origin, path, fields) in all {
        if path.first().is_some_and(|(key, _)| key.starts_with('$')) {
            continue;
        }
        let mut at: Vec<&Schema> = vec![&*SCHEMA];
        for (number, (key, list)) in path.iter().enumerate() {
            let known = properties(&at);
            let found: Vec<&Schema> =
                known.iter().filter(|(name, _)| name == key).map(|(_, value)| *value).collect();
            if found.is_empty() {
                let names: Vec<&str> = known.iter().map(|(name, _)| *name).collect();
                let text = format!("`{key}` is nothing that a sheet has here; {}", nearest(key, &names));
                notes.push(Note { origin: *origin, text });
                break;
            }
            at = found;
            if *list {
                let items: Vec<&Schema> =
                    flatten(&at).into_iter().filter_map(|one| one.items.as_deref()).collect();
                if items.is_empty() {
                    let text = format!("`{key}` is no list, so no brackets stand behind it");
                    notes.push(Note { origin: *origin, text });
                    break;
                }
                at = items;
            } else if number + 1 < path.len() && flatten(&at).iter().any(|one| one.items.is_some()) {
                let text = format!(
                    "`{key}` is a list; `[]`, `[@1]` or `[name={{…}}]` says which of its entries is meant"
                );
                notes.push(Note { origin: *origin, text });
                break;
            }
            if let Some((_, field)) = fields.iter().find(|(at, _)| *at == number) {
                let known = properties(&at);
                if !known.iter().any(|(name, _)| name == field) {
                    let names: Vec<&str> = known.iter().map(|(name, _)| *name).collect();
                    let text = format!(
                        "`{field}` is nothing that entries of `{key}` have; {}",
                        nearest(field, &names)
                    );
                    notes.push(Note { origin: *origin, text });
                }
            }
        }
    }
    notes
}

/// Every schema that a schema may stand for.
fn flatten<'a>(all: &[&'a Schema]) -> Vec<&'a Schema> {
    let mut found = Vec::new();
    let mut open: Vec<(&'a Schema, usize)> = all.iter().map(|one| (*one, 0)).collect();
    while let Some((one, depth)) = open.pop() {
        found.push(one);
        if depth > 8 {
            continue;
        }
        if let Some(name) = one.reference.and_then(|path| path.rsplit('/').next()) {
            open.extend(SCHEMA.defs.get(name).map(|inner| (inner, depth + 1)));
        }
        for either in [&one.any_of, &one.one_of, &one.all_of] {
            open.extend(either.iter().map(|inner| (inner, depth + 1)));
        }
    }
    found
}

fn properties<'a>(all: &[&'a Schema]) -> Vec<(&'a str, &'a Schema)> {
    let mut found = Vec::new();
    for one in flatten(all) {
        found.extend(one.properties.iter().map(|(name, value)| (*name, value)));
    }
    found
}
