//! Instance data of YANG as one tree, whether it was JSON (RFC 7951) or XML (RFC 7950): modules in place of prefixes and namespaces,
//! and what wraps it taken off (NETCONF, RFC 6241; instance data sets, RFC 9195).

use crate::json::{self, Json};
use crate::reader::LineRecorder;
use crate::xml::Source;
use std::cell::RefCell;
use trevlin_model::{Export, Limit, LineClass, Origin};

/// A node of data.
#[derive(Debug)]
pub(super) struct Item {
    /// The module that it belongs to.
    pub(super) module: String,
    /// Name.
    pub(super) name: String,
    /// Its text, where it is a leaf.
    pub(super) text: Option<String>,
    /// Its place: the whole of a leaf, the beginning of anything else.
    pub(super) origin: Origin,
    /// Place of its text.
    pub(super) value: Origin,
    pub(super) children: Vec<Item>,
}

/// Names that were requested, so that the rest can be reported.
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

    /// The text of a leaf; records that it was requested.
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

    /// Whether a leaf is `true`, or is present and empty.
    pub(super) fn is_true(&self, name: &str, seen: &Seen) -> Option<(bool, Origin)> {
        let one = self.get(name)?;
        seen.borrow_mut().push(one.origin);
        Some((one.text.as_deref().is_none_or(|text| text == "true" || text.is_empty()), one.origin))
    }
}

/// Roots by module: the data of an export, and whether a part of it is missing.
pub(super) fn parse(export: &Export, book: &mut LineRecorder<'_>) -> (Vec<Item>, bool) {
    if export.text().trim_start().starts_with('<') {
        return xml(export, book);
    }
    let (top, broken) = json::parse(export);
    if let Some(broken) = broken {
        book.not_understood(export.origin(broken.offset..export.text().len()), broken.words(""));
    }
    let cut = top.tell_cuts(book);
    let mut found = Vec::new();
    members(&top, "", book, &mut found);
    (unwrapped(found), broken.is_some() || cut)
}

fn members(one: &Json<'_>, module: &str, book: &mut LineRecorder<'_>, into: &mut Vec<Item>) {
    let mut all: Vec<(&str, &Json<'_>)> = one.members().collect();
    all.sort_by_key(|(_, value)| value.origin);
    for (name, value) in all {
        // Annotations (RFC 7952) are irrelevant here.
        if name.starts_with('@') {
            continue;
        }
        let (module, name) = name.split_once(':').unwrap_or((module, name));
        let values =
            if value.slice.starts_with('[') { value.elements() } else { std::slice::from_ref(value) };
        for value in values {
            if !value.is_whole() && is_record(name) {
                book.class(value.origin, LineClass::NotUnderstood);
                continue;
            }
            into.push(item(value, module, name, book));
        }
    }
}

fn item(value: &Json<'_>, module: &str, name: &str, book: &mut LineRecorder<'_>) -> Item {
    let mut children = Vec::new();
    members(value, module, book, &mut children);
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

fn xml(export: &Export, book: &mut LineRecorder<'_>) -> (Vec<Item>, bool) {
    let source = Source::of(export);
    if let Some((rest, why)) = source.fault() {
        book.not_understood(rest, why);
    }
    let root = source.document().map(|document| element(&source, document.root_element(), 0, book));
    (unwrapped(root.into_iter().collect()), source.broken.is_some())
}

/// Whether the missing part of an incomplete entry would change its meaning: a rule without its conditions matches everything.
fn is_record(name: &str) -> bool {
    matches!(name, "ace" | "mapping-entry")
}

/// The module of a namespace: its last part, as the modules of the IETF have it.
fn module(namespace: Option<&str>) -> String {
    namespace.and_then(|text| text.rsplit(':').next()).unwrap_or_default().to_owned()
}

fn element(
    source: &Source<'_>,
    node: roxmltree::Node<'_, '_>,
    depth: usize,
    book: &mut LineRecorder<'_>,
) -> Item {
    let range = node.range();
    let inner = node.children().filter(roxmltree::Node::is_element);
    let whole =
        |one: &roxmltree::Node<'_, '_>| source.holds(one.range()) || !is_record(one.tag_name().name());
    for lost in inner.clone().filter(|one| !whole(one)) {
        book.class(source.origin(lost.range()), LineClass::NotUnderstood);
    }
    let inner = inner.filter(whole);
    let children: Vec<Item> = if depth < source.limits().of(Limit::Nesting) {
        inner.map(|child| element(source, child, depth + 1, book)).collect()
    } else {
        if inner.count() > 0 {
            book.cut(source.origin(range.clone()), Limit::Nesting, "nested elements");
        }
        Vec::new()
    };
    let text = children.is_empty().then(|| node.text().unwrap_or_default().trim().to_owned());
    let origin = if text.is_some() { source.origin(range.clone()) } else { source.opening(range.clone()) };
    let inner = node.first_child().filter(|child| child.is_text());
    let value = inner.map_or(origin, |inner| source.origin(inner.range()));
    Item {
        module: module(node.tag_name().namespace()),
        name: node.tag_name().name().to_owned(),
        text,
        origin,
        value,
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
