//! Instance data of YANG as one tree, whether it was JSON (RFC 7951) or XML (RFC 7950): modules in place of prefixes and namespaces,
//! and what wraps it taken off (NETCONF, RFC 6241; instance data sets, RFC 9195).

use crate::json::{self, Json};
use std::cell::RefCell;
use trevlin_model::{Export, Origin};

/// How deep data is followed.
const DEPTH: usize = 32;

/// A node of data.
#[derive(Debug)]
pub(super) struct Item {
    /// The module that it belongs to.
    pub(super) module: String,
    /// Name.
    pub(super) name: String,
    /// Its text, where it is a leaf.
    pub(super) text: Option<String>,
    /// Where it stands: a leaf whole, anything else by its beginning.
    pub(super) origin: Origin,
    /// Where its text stands.
    pub(super) value: Origin,
    pub(super) children: Vec<Item>,
}

/// What was asked for, so that the rest can be told.
pub(super) type Seen = RefCell<Vec<Origin>>;

impl Item {
    /// Children with this name, whatever module they come from.
    pub(super) fn all<'a>(&'a self, name: &'a str) -> impl Iterator<Item = &'a Item> {
        self.children.iter().filter(move |one| one.name == name)
    }

    /// The first of them.
    pub(super) fn get(&self, name: &str) -> Option<&Item> {
        self.children.iter().find(|one| one.name == name)
    }

    /// The node at the end of a path of names.
    pub(super) fn at(&self, path: &[&str]) -> Option<&Item> {
        path.iter().try_fold(self, |one, name| one.get(name))
    }

    /// Every node at the end of a path, list entries one by one.
    pub(super) fn each<'a>(&'a self, path: &[&'a str]) -> Vec<&'a Item> {
        let mut found = vec![self];
        for name in path {
            found = found.into_iter().flat_map(|one| one.all(name)).collect();
        }
        found
    }

    /// The text of a leaf, and that it was asked for.
    pub(super) fn leaf<'a>(&'a self, name: &str, seen: &Seen) -> Option<(&'a str, Origin)> {
        let one = self.get(name)?;
        seen.borrow_mut().push(one.origin);
        Some((one.text.as_deref()?, one.origin))
    }

    /// The text of a leaf that is an identity, without the name of its module.
    pub(super) fn identity<'a>(&'a self, name: &str, seen: &Seen) -> Option<(&'a str, Origin)> {
        let (text, origin) = self.leaf(name, seen)?;
        Some((text.rsplit(':').next().unwrap_or(text), origin))
    }

    /// Whether a leaf says `true`, or stands there empty.
    pub(super) fn is_true(&self, name: &str, seen: &Seen) -> Option<(bool, Origin)> {
        let one = self.get(name)?;
        seen.borrow_mut().push(one.origin);
        Some((one.text.as_deref().is_none_or(|text| text == "true" || text.is_empty()), one.origin))
    }
}

/// Roots by module: the data of an export.
///
/// # Errors
/// Where and why it cannot be read.
pub(super) fn parse(export: &Export) -> Result<Vec<Item>, (Origin, String)> {
    if export.text().trim_start().starts_with('<') {
        return xml(export);
    }
    let top = json::parse(export)
        .map_err(|at| (at, "this is not JSON; from here on nothing can be read".to_owned()))?;
    let mut found = Vec::new();
    members(&top, "", 0, &mut found);
    Ok(unwrapped(found))
}

fn members(one: &Json<'_>, module: &str, depth: usize, into: &mut Vec<Item>) {
    if depth >= DEPTH {
        return;
    }
    let mut all: Vec<(&str, &Json<'_>)> = one.members().collect();
    all.sort_by_key(|(_, value)| value.origin);
    for (name, value) in all {
        // Annotations (RFC 7952) say nothing that is asked for here.
        if name.starts_with('@') {
            continue;
        }
        let (module, name) = name.split_once(':').unwrap_or((module, name));
        let values =
            if value.slice.starts_with('[') { value.elements() } else { std::slice::from_ref(value) };
        for value in values {
            into.push(item(value, module, name, depth));
        }
    }
}

fn item(value: &Json<'_>, module: &str, name: &str, depth: usize) -> Item {
    let mut children = Vec::new();
    members(value, module, depth + 1, &mut children);
    let text = match value.slice.as_bytes().first() {
        Some(b'{' | b'[') => None,
        Some(b'"') => value.text_of(),
        // An empty leaf is `[null]`.
        _ if value.slice == "null" => Some(String::new()),
        _ => Some(value.slice.to_owned()),
    };
    let start = value.origin.start;
    let origin = match text {
        Some(_) => value.origin,
        None => Origin { end: start + 1, ..value.origin },
    };
    Item { module: module.to_owned(), name: name.to_owned(), text, origin, value: value.origin, children }
}

fn xml(export: &Export) -> Result<Vec<Item>, (Origin, String)> {
    let options = roxmltree::ParsingOptions { allow_dtd: false, ..roxmltree::ParsingOptions::default() };
    let document = roxmltree::Document::parse_with_options(export.text(), options).map_err(|error| {
        let line = export.line(error.pos().row);
        let at = line.map_or(export.origin(0..0), |line| export.origin_of(line.text));
        (at, format!("this is not XML: {error}"))
    })?;
    Ok(unwrapped(vec![element(export, document.root_element(), 0)]))
}

/// The module of a namespace: its last part, as the modules of the IETF have it.
fn module(namespace: Option<&str>) -> String {
    namespace.and_then(|text| text.rsplit(':').next()).unwrap_or_default().to_owned()
}

fn element(export: &Export, node: roxmltree::Node<'_, '_>, depth: usize) -> Item {
    let range = node.range();
    let slice = export.text().get(range.clone()).unwrap_or_default();
    let children: Vec<Item> = if depth >= DEPTH {
        Vec::new()
    } else {
        node.children()
            .filter(roxmltree::Node::is_element)
            .map(|child| element(export, child, depth + 1))
            .collect()
    };
    let text = children.is_empty().then(|| node.text().unwrap_or_default().trim().to_owned());
    let end = match &text {
        Some(_) => range.end,
        None => slice.find('>').map_or(range.end, |at| range.start + at + 1),
    };
    let inner = node.first_child().filter(|child| child.is_text());
    let value = inner.map_or(range.start..end, |inner| inner.range());
    Item {
        module: module(node.tag_name().namespace()),
        name: node.tag_name().name().to_owned(),
        text,
        origin: export.origin(range.start..end),
        value: export.origin(value),
        children,
    }
}

/// Names of what only wraps data.
const WRAPS: [&str; 7] =
    ["rpc-reply", "data", "config", "instance-data-set", "content-data", "edit-config", "rpc"];

/// The data itself.
fn unwrapped(mut roots: Vec<Item>) -> Vec<Item> {
    for _ in 0..8 {
        if !roots.iter().any(|one| WRAPS.contains(&one.name.as_str()) && !one.children.is_empty()) {
            break;
        }
        roots = roots
            .into_iter()
            .flat_map(|one| if WRAPS.contains(&one.name.as_str()) { one.children } else { vec![one] })
            .collect();
    }
    // Leaves that tell about a set, its name and revision, are no data.
    roots.retain(|one| !one.children.is_empty() || one.module.starts_with("ietf-"));
    roots.retain(|one| one.module != "ietf-yang-instance-data");
    roots
}
