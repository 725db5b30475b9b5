//! YAML as a tree of places: everything before a syntax error is kept.

use crate::reader::LineRecorder;
use saphyr_parser::{Event, Parser, Span};
use std::collections::BTreeMap;
use std::ops::Range;
use std::sync::Arc;
use trevlin_model::{Export, Limit, LineClass};

/// One value.
#[derive(Debug)]
pub(crate) enum Node {
    /// A text, a number, a truth value.
    Scalar(String, Range<usize>),
    /// A list.
    List(Vec<Node>),
    /// Keys, their places, and their values.
    Map(Vec<(String, Range<usize>, Node)>),
    /// One with an anchor, or an alias of it.
    Shared(Arc<Node>),
}

/// So many values may aliases stand for: a small text must not become a large one.
const MOST_ALIASED: usize = 20_000;

impl Node {
    /// How many values it has, those of aliases included.
    fn size(&self) -> usize {
        match self {
            Self::Scalar(..) => 1,
            Self::List(elements) => elements.iter().map(Self::size).fold(1, usize::saturating_add),
            Self::Map(entries) => {
                entries.iter().map(|(_, _, node)| node.size()).fold(1, usize::saturating_add)
            }
            Self::Shared(node) => node.size(),
        }
    }

    /// The value of a key of a map.
    pub(crate) fn get(&self, key: &str) -> Option<&Self> {
        match self {
            Self::Map(entries) => entries.iter().find(|(name, _, _)| name == key).map(|(_, _, node)| node),
            Self::Shared(node) => node.get(key),
            _ => None,
        }
    }

    /// The entries of a map; empty for other types.
    pub(crate) fn entries(&self) -> &[(String, Range<usize>, Self)] {
        match self {
            Self::Map(entries) => entries,
            Self::Shared(node) => node.entries(),
            _ => &[],
        }
    }

    /// The elements of a list; empty for other types.
    pub(crate) fn elements(&self) -> &[Self] {
        match self {
            Self::List(elements) => elements,
            Self::Shared(node) => node.elements(),
            _ => &[],
        }
    }

    /// The text of a scalar with its place.
    pub(crate) fn scalar(&self) -> Option<(&str, Range<usize>)> {
        match self {
            Self::Scalar(text, span) => Some((text, span.clone())),
            Self::Shared(node) => node.scalar(),
            _ => None,
        }
    }

    /// Whether a scalar means yes.
    pub(crate) fn is_true(&self) -> bool {
        self.scalar()
            .is_some_and(|(text, _)| matches!(text.to_ascii_lowercase().as_str(), "true" | "yes" | "on"))
    }
}

/// A level that is being read.
enum Open {
    List(Vec<Node>, usize),
    /// Entries so far, and a key whose value is still to come.
    Map(Vec<(String, Range<usize>, Node)>, Option<(String, Range<usize>)>, usize),
}

/// Values with an anchor, by its number, with their sizes.
#[derive(Default)]
struct Anchors {
    known: BTreeMap<usize, (Arc<Node>, usize)>,
    /// Values that aliases stand for so far.
    aliased: usize,
}

impl Anchors {
    /// Keeps a value under the number of its anchor; 0 is none.
    fn keep(&mut self, anchor: usize, node: Node) -> Node {
        if anchor == 0 {
            return node;
        }
        let size = node.size();
        let shared = Arc::new(node);
        self.known.insert(anchor, (Arc::clone(&shared), size));
        Node::Shared(shared)
    }

    /// The value of an alias; an empty text where it is unknown or too large.
    fn alias(&mut self, anchor: usize, place: Range<usize>) -> Node {
        match self.known.get(&anchor) {
            Some((node, size)) if self.aliased.saturating_add(*size) <= MOST_ALIASED => {
                self.aliased += size;
                Node::Shared(Arc::clone(node))
            }
            _ => Node::Scalar(String::new(), place),
        }
    }
}

/// Why and at which byte reading stopped.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Stopped {
    /// Invalid YAML at this position.
    Broken(usize),
    /// Lists and maps are nested deeper than the limit.
    TooDeep(usize),
}

/// The documents of a text, followed to a depth of `most`, and where reading stopped, if it did. Aliases share the value of their anchor.
pub(crate) fn documents(text: &str, most: usize) -> (Vec<Node>, Option<Stopped>) {
    let mut bytes: Vec<usize> = text.char_indices().map(|(at, _)| at).collect();
    bytes.push(text.len());
    let at = |index: usize| bytes.get(index).copied().unwrap_or(text.len());
    let place = |span: &Span| at(span.start.index())..at(span.end.index());
    let mut found = Vec::new();
    let mut open: Vec<Open> = Vec::new();
    let mut broken = None;
    let mut reached = 0;
    let mut anchors = Anchors::default();
    for event in Parser::new_from_str(text) {
        let (event, span) = match event {
            Ok(event) => event,
            Err(error) => {
                broken = Some(Stopped::Broken(at(error.marker().index())));
                break;
            }
        };
        reached = place(&span).start.max(reached);
        let value = match event {
            Event::SequenceStart(..) | Event::MappingStart(..) if open.len() >= most => {
                broken = Some(Stopped::TooDeep(reached));
                break;
            }
            Event::SequenceStart(anchor, ..) => {
                open.push(Open::List(Vec::new(), anchor));
                continue;
            }
            Event::MappingStart(anchor, ..) => {
                open.push(Open::Map(Vec::new(), None, anchor));
                continue;
            }
            Event::SequenceEnd | Event::MappingEnd => match open.pop() {
                Some(level) => closed(level, &mut anchors),
                None => continue,
            },
            Event::Scalar(value, _, anchor, _) => {
                anchors.keep(anchor, Node::Scalar(value.into_owned(), place(&span)))
            }
            Event::Alias(anchor) => anchors.alias(anchor, place(&span)),
            _ => continue,
        };
        put(&mut open, &mut found, value);
    }
    // Levels that a fault left open hold what stood before it.
    while let Some(level) = open.pop() {
        put(&mut open, &mut found, closed(level, &mut anchors));
    }
    (found, broken)
}

/// Marks everything up to where reading stopped as understood, and reports the rest; `rejects` says who rejects the file, as a clause.
pub(crate) fn settle(export: &Export, broken: Option<Stopped>, book: &mut LineRecorder<'_>, rejects: &str) {
    let end = match broken {
        Some(Stopped::Broken(at) | Stopped::TooDeep(at)) => at,
        None => export.text().len(),
    };
    book.class(export.origin(0..end.max(1)), LineClass::Understood);
    let Some(why) = broken else { return };
    let mut at = end.min(export.text().len().saturating_sub(1));
    while !export.text().is_char_boundary(at) {
        at -= 1;
    }
    let rest = export.origin(at..export.text().len());
    book.class(rest, LineClass::NotUnderstood);
    match why {
        Stopped::TooDeep(_) => book.cut(rest, Limit::Nesting, "nested lists and maps"),
        Stopped::Broken(_) => book.note(
            export.origin(at..at),
            format!("the YAML is invalid here; what precedes it was read, {rejects}"),
        ),
    }
}

fn closed(level: Open, anchors: &mut Anchors) -> Node {
    match level {
        Open::List(elements, anchor) => anchors.keep(anchor, Node::List(elements)),
        Open::Map(entries, _, anchor) => anchors.keep(anchor, Node::Map(entries)),
    }
}

fn put(open: &mut [Open], found: &mut Vec<Node>, value: Node) {
    match open.last_mut() {
        None => found.push(value),
        Some(Open::List(elements, _)) => elements.push(value),
        Some(Open::Map(entries, key, _)) => match (key.take(), value) {
            (Some((name, span)), value) => entries.push((name, span, value)),
            (None, Node::Scalar(text, span)) => *key = Some((text, span)),
            (None, Node::Shared(node)) if node.scalar().is_some() => {
                *key = node.scalar().map(|(text, span)| (text.to_owned(), span));
            }
            // A key that is no text has no meaning in the formats that are read here.
            (None, _) => *key = Some((String::new(), 0..0)),
        },
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    #[test]
    fn places_are_bytes() {
        let text = "# ü\na:\n  - \"ö x\"\n  - {b: c}\n";
        let (found, broken) = documents(text, 32);
        assert_eq!(broken, None);
        let list = found[0].get("a").unwrap().elements();
        let (value, span) = list[0].scalar().unwrap();
        assert_eq!((value, &text[span]), ("ö x", "\"ö x\""));
        let (value, span) = list[1].get("b").unwrap().scalar().unwrap();
        assert_eq!((value, &text[span]), ("c", "c"));
    }

    #[test]
    fn aliases_share_and_do_not_grow() {
        let (found, _) = documents("a: &x {b: [1, 2]}\nc: *x\nd: {<<: *x, e: &y 5}\nf: *y\n", 32);
        let at = |path: &[&str]| path.iter().try_fold(&found[0], |node, key| node.get(key));
        assert_eq!(at(&["c", "b"]).unwrap().elements().len(), 2);
        assert_eq!(at(&["d", "<<", "b"]).unwrap().elements()[1].scalar().unwrap().0, "2");
        assert_eq!(at(&["f"]).unwrap().scalar().unwrap().0, "5");
        let mut text = String::from("l0: &l0 [x, x, x, x, x, x, x, x, x, x]\n");
        for level in 1..12 {
            let before = format!("*l{}, ", level - 1).repeat(10);
            text.push_str(&format!("l{level}: &l{level} [{before}x]\n"));
        }
        assert!(documents(&text, 32).0[0].size() < 2 * MOST_ALIASED);
    }

    #[test]
    fn what_stands_before_a_fault_is_kept() {
        let (found, broken) = documents("a: 1\nb: [2, 3\nc: }\n", 32);
        assert_eq!(found[0].get("a").unwrap().scalar().unwrap().0, "1");
        assert!(matches!(broken, Some(Stopped::Broken(_))));
        let deep = format!("{}{}", "[".repeat(60), "]".repeat(60));
        assert_eq!(documents(&deep, 32).1, Some(Stopped::TooDeep(32)));
    }

    proptest! {
        #[test]
        fn any_text_is_read(text in "[a-c:\\-\\[\\]{}#&*!|>'\"\n ü]{0,60}") {
            let (found, broken) = documents(&text, 32);
            let stops = broken.map(|(Stopped::Broken(at) | Stopped::TooDeep(at))| at);
            prop_assert!(stops.is_none_or(|at| at <= text.len()));
            for node in &found {
                if let Some((_, span)) = node.scalar() {
                    prop_assert!(text.get(span).is_some());
                }
            }
        }
    }
}
