//! Whether the paths of a phrasebook lead anywhere in a sheet.

use super::book::Targets;
use crate::sheet::take::nearest;
use serde::Deserialize;
use serde_json::value::RawValue;
use std::collections::BTreeMap;
use std::sync::{LazyLock, OnceLock};
use trevlin_model::Note;

/// The published schema of sheets, which a test compares with `sheet_schema`: generating it takes longer than reading a phrasebook.
static SCHEMA: LazyLock<Schema<'static>> = LazyLock::new(|| {
    serde_json::from_str(include_str!("../../../../docs/schema/device-sheet.json")).unwrap_or_default()
});

/// The part of a schema that states permitted fields (JSON Schema 2020-12).
#[derive(Debug, Default, Deserialize)]
#[serde(rename_all = "camelCase", default, bound(deserialize = "'de: 'a"))]
struct Schema<'a> {
    #[serde(rename = "$ref")]
    reference: Option<&'a str>,
    #[serde(rename = "type", deserialize_with = "one_type")]
    kind: Option<&'a str>,
    #[serde(rename = "$defs", borrow)]
    defs: BTreeMap<&'a str, &'a RawValue>,
    properties: BTreeMap<&'a str, Schema<'a>>,
    items: Option<Box<Schema<'a>>>,
    any_of: Vec<Schema<'a>>,
    one_of: Vec<Schema<'a>>,
    all_of: Vec<Schema<'a>>,
}

/// The type of a schema with one.
fn one_type<'de: 'a, 'a, D: serde::Deserializer<'de>>(from: D) -> Result<Option<&'a str>, D::Error> {
    let written: &'de RawValue = Deserialize::deserialize(from)?;
    Ok(serde_json::from_str(written.get()).ok())
}

/// The schemas that others refer to, each read when one does: a phrasebook comes by few of them.
static REFERRED_TO: LazyLock<BTreeMap<&'static str, OnceLock<Schema<'static>>>> =
    LazyLock::new(|| SCHEMA.defs.keys().map(|name| (*name, OnceLock::new())).collect());

fn referred_to(name: &str) -> Option<&'static Schema<'static>> {
    let written: &'static RawValue = SCHEMA.defs.get(name)?;
    let read = || serde_json::from_str(written.get()).unwrap_or_default();
    Some(REFERRED_TO.get(name)?.get_or_init(read))
}

/// Notes on paths that lead nowhere. Paths that begin with `$` are the phrasebook's own.
pub(super) fn targets(all: &Targets) -> Vec<Note> {
    let mut notes = Vec::new();
    for (origin, path, fields) in all {
        if path.first().is_some_and(|(key, _)| key.starts_with('$')) {
            continue;
        }
        let mut at: Vec<&Schema<'static>> = vec![&*SCHEMA];
        for (number, (key, list)) in path.iter().enumerate() {
            let known = properties(&at);
            let found: Vec<&Schema<'static>> =
                known.iter().filter(|(name, _)| name == key).map(|(_, value)| *value).collect();
            // A table whose keys are words of a program, such as the keywords of SSH.
            if known.is_empty() && flatten(&at).iter().any(|one| one.kind == Some("object")) {
                break;
            }
            if found.is_empty() {
                let names: Vec<&str> = known.iter().map(|(name, _)| *name).collect();
                let text = format!("`{key}` is not a key of a sheet at this place; {}", nearest(key, &names));
                notes.push(Note { origin: *origin, text });
                break;
            }
            at = found;
            if *list {
                let items: Vec<&Schema<'static>> =
                    flatten(&at).into_iter().filter_map(|one| one.items.as_deref()).collect();
                if items.is_empty() {
                    let text = format!("`{key}` is not a list, so brackets are not permitted");
                    notes.push(Note { origin: *origin, text });
                    break;
                }
                at = items;
            } else if number + 1 < path.len() && flatten(&at).iter().any(|one| one.items.is_some()) {
                let text =
                    format!("`{key}` is a list; `[]`, `[@1]` or `[name={{…}}]` selects one of its entries");
                notes.push(Note { origin: *origin, text });
                break;
            }
            if let Some((_, field)) = fields.iter().find(|(at, _)| *at == number) {
                let known = properties(&at);
                if !known.iter().any(|(name, _)| name == field) {
                    let names: Vec<&str> = known.iter().map(|(name, _)| *name).collect();
                    let text =
                        format!("`{field}` is not a key of entries of `{key}`; {}", nearest(field, &names));
                    notes.push(Note { origin: *origin, text });
                }
            }
        }
    }
    notes
}

/// Every alternative of a schema.
fn flatten<'a>(all: &[&'a Schema<'static>]) -> Vec<&'a Schema<'static>> {
    let mut found = Vec::new();
    let mut open: Vec<(&'a Schema<'static>, usize)> = all.iter().map(|one| (*one, 0)).collect();
    while let Some((one, depth)) = open.pop() {
        found.push(one);
        if depth > 8 {
            continue;
        }
        if let Some(name) = one.reference.and_then(|path| path.rsplit('/').next()) {
            open.extend(referred_to(name).map(|inner| (inner, depth + 1)));
        }
        for either in [&one.any_of, &one.one_of, &one.all_of] {
            open.extend(either.iter().map(|inner| (inner, depth + 1)));
        }
    }
    found
}

fn properties<'a>(all: &[&'a Schema<'static>]) -> Vec<(&'a str, &'a Schema<'static>)> {
    let mut found = Vec::new();
    for one in flatten(all) {
        found.extend(one.properties.iter().map(|(name, value)| (*name, value)));
    }
    found
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn every_schema_can_be_read() {
        assert!(!SCHEMA.properties.is_empty() && SCHEMA.defs.len() > 50);
        for (name, written) in &SCHEMA.defs {
            let read = serde_json::from_str::<Schema<'_>>(written.get());
            assert!(read.is_ok(), "{name}: {:?}", read.err());
        }
    }
}
