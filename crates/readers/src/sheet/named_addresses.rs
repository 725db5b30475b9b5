//! Names of addresses outside of rules: a pool, a route or the clients of a service may be stated by one.

use super::node::{Node, Value};
use std::collections::BTreeMap;
use trevlin_model::IpRange;

/// Keys whose values are addresses.
const KEYS: [&str; 19] = [
    "address",
    "addresses",
    "allowed",
    "destination",
    "fixed",
    "gateway",
    "hosts",
    "kept-out",
    "name-servers",
    "net",
    "network",
    "networks",
    "pools",
    "range",
    "ranges",
    "remote",
    "routers",
    "sent-through",
    "sources",
];

/// Sections whose names of addresses are resolved with the rules.
const OF_RULES: [&str; 5] = ["rules", "address-names", "forwards", "translations", "zones"];

/// How deep names are nested.
const DEPTH: usize = 16;

/// Puts the addresses of a name in its place.
pub(super) fn expand(top: &mut Node) {
    let defined: BTreeMap<String, Vec<Node>> = top
        .get("address-names")
        .map_or(&[][..], Node::each)
        .iter()
        .filter_map(|one| {
            let members = one.get("addresses").map_or(&[][..], Node::each);
            Some((one.get("name")?.text()?.to_owned(), members.to_vec()))
        })
        .collect();
    if defined.is_empty() {
        return;
    }
    let Value::Table(sections) = &mut top.value else { return };
    for section in sections.iter_mut().filter(|section| !OF_RULES.contains(&&*section.key)) {
        let mut open = vec![&mut section.node];
        while let Some(node) = open.pop() {
            match &mut node.value {
                Value::Table(entries) => {
                    for entry in entries {
                        if KEYS.contains(&&*entry.key) {
                            named(&mut entry.node, &defined);
                        }
                        open.push(&mut entry.node);
                    }
                }
                Value::List(all) => open.extend(all),
                _ => {}
            }
        }
    }
}

/// A value, or the values of a list, with names resolved.
fn named(node: &mut Node, defined: &BTreeMap<String, Vec<Node>>) {
    let meaning = |one: &Node| {
        let text = one.text().filter(|text| text.parse::<IpRange>().is_err())?;
        let mut found = Vec::new();
        members(defined.get(text)?, defined, DEPTH, &mut found);
        found.iter_mut().for_each(|member| member.origin = one.origin);
        (!found.is_empty()).then_some(found)
    };
    match &mut node.value {
        Value::List(all) => {
            let spread = |one: Node| meaning(&one).unwrap_or_else(|| vec![one]);
            *all = std::mem::take(all).into_iter().flat_map(spread).collect();
        }
        Value::Text(_) => {
            if let Some(mut found) = meaning(node) {
                node.value = match found.len() {
                    1 => found.swap_remove(0).value,
                    _ => Value::List(found),
                };
            }
        }
        _ => {}
    }
}

fn members(all: &[Node], defined: &BTreeMap<String, Vec<Node>>, depth: usize, into: &mut Vec<Node>) {
    for one in all {
        let inner = one.text().and_then(|text| defined.get(text)).filter(|_| depth > 0);
        match inner {
            Some(inner) => members(inner, defined, depth - 1, into),
            None => into.push(one.clone()),
        }
        // A name that leads back to itself multiplies; what is wrong with it is said where rules use it.
        if into.len() > MOST {
            return;
        }
    }
}

/// How many addresses a name may stand for.
const MOST: usize = 10_000;
