//! Marks of a sheet that are no facts: where an entry was seen, values that are on no screen, and settings in a table of their own.

use super::node::{Entry, Node, Value};
use super::take;
use trevlin_model::Origin;

/// Takes the words about where an entry was seen out of every table: they are evidence for people, who find them on the lines that
/// are shown.
pub(super) fn evidence(node: &mut Node) {
    match &mut node.value {
        Value::Table(entries) => {
            entries.retain(|entry| !is_evidence(entry));
            entries.iter_mut().for_each(|entry| evidence(&mut entry.node));
        }
        Value::List(all) => all.iter_mut().for_each(evidence),
        _ => {}
    }
}

/// How a sheet states that something was looked for and is on no screen.
const NOT_SEEN_WORDS: [&str; 2] = ["not seen", "not seen on any screen"];

/// Marks values that were looked for and are on no screen, so that they differ from those that are off and from silence.
pub(super) fn not_seen(node: &mut Node, found: &mut Vec<Origin>) {
    match &mut node.value {
        Value::Table(entries) => entries.iter_mut().for_each(|entry| not_seen(&mut entry.node, found)),
        Value::List(all) => all.iter_mut().for_each(|one| not_seen(one, found)),
        Value::Text(text) if NOT_SEEN_WORDS.iter().any(|word| text.trim().eq_ignore_ascii_case(word)) => {
            found.push(node.origin);
            let why = Entry::new("unknown", node.origin, Value::Text(take::NOT_SEEN.into()));
            node.value = Value::Table(vec![why]);
        }
        _ => {}
    }
}

pub(super) fn is_evidence(entry: &Entry) -> bool {
    &*entry.key == "seen" && entry.node.text().is_some()
}

/// SSH servers may state their settings as a table, in place of a list of statements.
pub(super) fn shells(top: &mut Node) {
    let Value::Table(entries) = &mut top.value else { return };
    let Some(section) = entries.iter_mut().find(|entry| &*entry.key == "ssh-servers") else { return };
    let servers = match &mut section.node.value {
        Value::List(all) => all.as_mut_slice(),
        _ => std::slice::from_mut(&mut section.node),
    };
    for server in servers {
        let Value::Table(fields) = &mut server.value else { continue };
        let Some(at) = fields.iter().position(|entry| &*entry.key == "settings") else { continue };
        let settings = fields.remove(at);
        let statement = |entry: &Entry| {
            let keyword =
                Entry::new("keyword", entry.key_origin, Value::Text(entry.key.to_ascii_lowercase().into()));
            let values = Value::List(entry.node.each().to_vec());
            let values = Entry {
                node: Node { origin: entry.node.origin, value: values },
                ..Entry::new("values", entry.node.origin, Value::Truth(true))
            };
            Node { origin: entry.node.origin, value: Value::Table(vec![keyword, values]) }
        };
        let all = settings.node.entries().iter().map(statement).collect();
        let block = Value::Table(vec![Entry::new("statements", settings.key_origin, Value::List(all))]);
        let block = Node { origin: settings.node.origin, value: block };
        fields.push(Entry::new("blocks", settings.key_origin, Value::List(vec![block])));
    }
}
