//! Logins as screens show them: switched off, or with the hash of a password.

use super::node::{Node, Value};
use std::collections::BTreeSet;
use std::sync::Arc;
use trevlin_model::Origin;

/// Yes or no, as a value or in a word.
fn truth(node: &Node) -> Option<bool> {
    match &node.value {
        Value::Truth(truth) => Some(*truth),
        Value::Text(text) => crate::serving::truth(text),
        _ => None,
    }
}

/// Brings logins into the form of facts: those that are switched off are none, and a hash is a secret of its kind. Returns the places of
/// hashes.
pub(super) fn prepare(top: &mut Node, understood: &mut Vec<Origin>) -> BTreeSet<Origin> {
    let mut hashes = BTreeSet::new();
    let Value::Table(sections) = &mut top.value else { return hashes };
    let logins = sections.iter_mut().filter(|section| &*section.key == "logins");
    for section in logins {
        if let Value::List(all) = &mut section.node.value {
            all.retain(|one| {
                let off = one.get("off").is_some_and(|off| truth(off) == Some(true));
                if off {
                    understood.push(one.origin);
                }
                !off
            });
        }
        for one in section.node.each_mut() {
            let Value::Table(entries) = &mut one.value else { continue };
            entries.retain(|entry| &*entry.key != "off" || truth(&entry.node).is_none());
            let has_secret = entries.iter().any(|entry| &*entry.key == "secret");
            for entry in entries.iter_mut().filter(|entry| &*entry.key == "hash" && !has_secret) {
                entry.key = Arc::from("secret");
                hashes.insert(entry.node.origin);
            }
        }
    }
    hashes
}
