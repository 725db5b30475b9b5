//! The finished sheet: everything in its place, with copied values.

use super::grown::{Field, Grown, Key};
use crate::sheet::node::{Entry, Node, Value};
use rayon::prelude::*;
use std::sync::Arc;
use trevlin_model::Note;

/// Whether values are copied into it.
pub(super) fn has_copies(one: &Grown) -> bool {
    match one {
        Grown::Leaf(_) => false,
        Grown::Copy(..) | Grown::Join(..) => true,
        Grown::Table(table) => table.fields.iter().any(|field| has_copies(&field.value)),
        Grown::List(list) => list.items.iter().any(has_copies),
    }
}

/// How many entries are worth a thread.
const PARALLEL: usize = 1024;

/// The finished sheet where nothing is copied: everything moves to its place.
pub(super) fn moved(one: Grown) -> Option<Node> {
    match one {
        Grown::Leaf(node) => Some(node),
        Grown::Copy(..) | Grown::Join(..) => None,
        Grown::Table(table) => {
            let entry = |field: Field| {
                Some(Entry { key: field.key, key_origin: field.origin, node: moved(field.value)? })
            };
            let entries = table.fields.into_iter().filter_map(entry).collect();
            Some(Node { origin: table.origin, value: Value::Table(entries) })
        }
        Grown::List(list) => {
            // Rules may be hundreds of thousands; most lists have one entry.
            let items: Vec<Node> = if list.items.len() > PARALLEL {
                list.items.into_par_iter().with_min_len(PARALLEL).filter_map(moved).collect()
            } else {
                list.items.into_iter().filter_map(moved).collect()
            };
            let origin = list.origin.or_else(|| items.first().map(|one| one.origin))?;
            Some(Node { origin, value: Value::List(items) })
        }
    }
}

/// Maximum nesting of copies.
const COPIES: usize = 8;

/// The finished sheet with copies in place. Missing ones are noted.
pub(super) fn settle(one: &Grown, whole: &Grown, notes: &mut Vec<Note>, copies: usize) -> Option<Node> {
    match one {
        Grown::Leaf(node) => Some(node.clone()),
        Grown::Table(table) => {
            let entry = |field: &Field| {
                let node = settle(&field.value, whole, notes, copies)?;
                Some(Entry { key: Arc::clone(&field.key), key_origin: field.origin, node })
            };
            let entries = table.fields.iter().filter_map(entry).collect();
            Some(Node { origin: table.origin, value: Value::Table(entries) })
        }
        Grown::List(list) => {
            let items: Vec<Node> =
                list.items.iter().filter_map(|item| settle(item, whole, notes, copies)).collect();
            let origin = list.origin.or_else(|| items.first().map(|one| one.origin))?;
            Some(Node { origin, value: Value::List(items) })
        }
        Grown::Join(parts, at) => {
            let mut text = String::new();
            for part in parts {
                if let Some(node) = settle(part, whole, notes, copies) {
                    super::target::words(&node, &mut text);
                }
            }
            Some(Node { origin: *at, value: Value::Text(text.trim().into()) })
        }
        Grown::Copy(path, at) => {
            let found = follow(whole, path);
            let text = match found {
                _ if copies >= COPIES => "this name refers to itself",
                Some(found) => return settle(found, whole, notes, copies + 1),
                None => "this name is not defined in this export",
            };
            notes.push(Note { origin: *at, text: text.into() });
            // It stands for something that is not known, and never for nothing.
            let name = path.iter().rev().find_map(|(_, pick)| match pick {
                Some(Key::Field(name) | Key::Called(name)) => Some(name.clone()),
                _ => None,
            });
            let text = name.unwrap_or_else(|| "a name that is not defined".into());
            Some(Node { origin: *at, value: Value::Text(text) })
        }
    }
}

fn follow<'a>(whole: &'a Grown, path: &[(Arc<str>, Option<Key>)]) -> Option<&'a Grown> {
    let mut at = whole;
    for (key, pick) in path {
        let Grown::Table(table) = at else { return None };
        at = &table.fields.iter().find(|field| field.key == *key)?.value;
        if let Some(pick) = pick {
            let Grown::List(list) = at else { return None };
            at = list.items.get(list.find(pick)?)?;
        }
    }
    Some(at)
}
