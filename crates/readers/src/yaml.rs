//! YAML as a tree of places: everything before a syntax error is kept.

use saphyr_parser::{Event, Parser, Span};
use std::ops::Range;

/// One value.
#[derive(Debug)]
pub(crate) enum Node {
    /// A text, a number, a truth value.
    Scalar(String, Range<usize>),
    /// A list.
    List(Vec<Node>),
    /// Keys, their places, and their values.
    Map(Vec<(String, Range<usize>, Node)>),
}

impl Node {
    /// The value of a key of a map.
    pub(crate) fn get(&self, key: &str) -> Option<&Self> {
        match self {
            Self::Map(entries) => entries.iter().find(|(name, _, _)| name == key).map(|(_, _, node)| node),
            _ => None,
        }
    }

    /// The entries of a map; empty for other types.
    pub(crate) fn entries(&self) -> &[(String, Range<usize>, Self)] {
        match self {
            Self::Map(entries) => entries,
            _ => &[],
        }
    }

    /// The elements of a list; empty for other types.
    pub(crate) fn elements(&self) -> &[Self] {
        match self {
            Self::List(elements) => elements,
            _ => &[],
        }
    }

    /// The text of a scalar with its place.
    pub(crate) fn scalar(&self) -> Option<(&str, Range<usize>)> {
        match self {
            Self::Scalar(text, span) => Some((text, span.clone())),
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
    List(Vec<Node>),
    /// Entries so far, and a key whose value is still to come.
    Map(Vec<(String, Range<usize>, Node)>, Option<(String, Range<usize>)>),
}

/// Why and at which byte reading stopped.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Stopped {
    /// Invalid YAML at this position.
    Broken(usize),
    /// Lists and maps are nested deeper than the limit.
    TooDeep(usize),
}

/// The documents of a text, followed to a depth of `most`, and where reading stopped, if it did. Aliases are not expanded, so that a small
/// text cannot become a large one.
pub(crate) fn documents(text: &str, most: usize) -> (Vec<Node>, Option<Stopped>) {
    let mut bytes: Vec<usize> = text.char_indices().map(|(at, _)| at).collect();
    bytes.push(text.len());
    let at = |index: usize| bytes.get(index).copied().unwrap_or(text.len());
    let place = |span: &Span| at(span.start.index())..at(span.end.index());
    let mut found = Vec::new();
    let mut open: Vec<Open> = Vec::new();
    let mut broken = None;
    let mut reached = 0;
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
            Event::SequenceStart(..) => {
                open.push(Open::List(Vec::new()));
                continue;
            }
            Event::MappingStart(..) => {
                open.push(Open::Map(Vec::new(), None));
                continue;
            }
            Event::SequenceEnd | Event::MappingEnd => match open.pop() {
                Some(level) => closed(level),
                None => continue,
            },
            Event::Scalar(value, ..) => Node::Scalar(value.into_owned(), place(&span)),
            Event::Alias(_) => Node::Scalar(String::new(), place(&span)),
            _ => continue,
        };
        put(&mut open, &mut found, value);
    }
    // Levels that a fault left open hold what stood before it.
    while let Some(level) = open.pop() {
        put(&mut open, &mut found, closed(level));
    }
    (found, broken)
}

fn closed(level: Open) -> Node {
    match level {
        Open::List(elements) => Node::List(elements),
        Open::Map(entries, _) => Node::Map(entries),
    }
}

fn put(open: &mut [Open], found: &mut Vec<Node>, value: Node) {
    match open.last_mut() {
        None => found.push(value),
        Some(Open::List(elements)) => elements.push(value),
        Some(Open::Map(entries, key)) => match (key.take(), value) {
            (Some((name, span)), value) => entries.push((name, span, value)),
            (None, Node::Scalar(text, span)) => *key = Some((text, span)),
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
