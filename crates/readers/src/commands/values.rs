//! Values of words, and conditions that follow from them (POSIX.1-2017, Shell Command Language, 2.6; test(1)).

use super::programs::is_read;
use super::script::Node;
use super::shell::{Part, UNKNOWN, Word};
use std::collections::BTreeMap;

/// Names with their values; `None` where only a run shows it.
#[derive(Debug, Clone, Default)]
pub(super) struct Values(pub(super) BTreeMap<String, Option<String>>);

/// Programs whose success is a condition, not to be expected.
const TESTS: [&str; 9] = ["[", "[[", "test", "grep", "egrep", "fgrep", "pgrep", "pidof", "ip"];

/// Whether a pattern of `case` fits a value, where both are known.
pub(super) fn fits(pattern: Option<&str>, value: Option<&str>) -> Option<bool> {
    match (pattern, value) {
        (Some("*"), _) => Some(true),
        (Some(pattern), Some(value)) if !pattern.contains(['*', '?', '[']) => Some(pattern == value),
        _ => None,
    }
}

impl Values {
    /// Words that a word becomes; blanks in values that are not quoted end words.
    pub(super) fn words(&self, word: &Word) -> Vec<String> {
        let (mut found, mut open, mut begun) = (Vec::new(), String::new(), false);
        for part in &word.parts {
            match part {
                Part::Text { text, .. } => {
                    open.push_str(text);
                    begun = true;
                }
                Part::Unknown => {
                    open.push(UNKNOWN);
                    begun = true;
                }
                Part::Value { name, otherwise, quoted } => {
                    let value = self.0.get(name).and_then(Option::as_deref).or(otherwise.as_deref());
                    match value {
                        None => {
                            open.push(UNKNOWN);
                            begun = true;
                        }
                        Some(value) if *quoted => {
                            open.push_str(value);
                            begun = true;
                        }
                        Some(value) => {
                            let mut pieces = value.split([' ', '\t', '\n']);
                            open.push_str(pieces.next().unwrap_or_default());
                            for piece in pieces {
                                if !open.is_empty() {
                                    found.push(std::mem::take(&mut open));
                                }
                                open.push_str(piece);
                            }
                            begun |= !open.is_empty();
                        }
                    }
                }
            }
        }
        if !open.is_empty() || (begun && found.is_empty()) {
            found.push(open);
        }
        found
    }

    /// The text of a word, where it is known.
    pub(super) fn text(&self, word: &Word) -> Option<String> {
        let words = self.words(word);
        let text = words.join(" ");
        (!text.contains(UNKNOWN)).then_some(text)
    }

    /// Whether a command is one that a script expects to succeed.
    pub(super) fn is_expected(&self, node: &Node) -> bool {
        let Node::Simple(one) = node else { return false };
        let program = one.words.first().and_then(|word| self.text(word)).unwrap_or_default();
        let program = program.rsplit('/').next().unwrap_or_default();
        !program.is_empty() && !TESTS.contains(&program)
    }
}

/// `[ … ]`, where it compares known values, or tests for files that exist.
pub(super) fn test(words: &[String], exported: impl Fn(&str) -> bool) -> Option<bool> {
    let inside: Vec<&str> =
        words[1..].iter().map(String::as_str).filter(|word| !matches!(*word, "]" | "]]")).collect();
    let (negated, inside) = match inside.as_slice() {
        ["!", rest @ ..] => (true, rest),
        rest => (false, rest),
    };
    if inside.iter().any(|word| word.contains(UNKNOWN)) {
        return None;
    }
    let held = match inside {
        ["-n", value] => !value.is_empty(),
        ["-z", value] => value.is_empty(),
        ["-x" | "-e" | "-f" | "-r" | "-s" | "-w", path] => {
            let there = is_read(path) || path.starts_with("/proc/sys/") || exported(path);
            return there.then_some(!negated);
        }
        [a, "=" | "==", b] => a == b,
        [a, "!=", b] => a != b,
        _ => return None,
    };
    Some(held != negated)
}
