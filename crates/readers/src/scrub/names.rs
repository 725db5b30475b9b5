//! Names under others: of people, devices, hosts and the organisation, the same in every file and path.

use std::collections::{BTreeMap, BTreeSet};

/// Shortest name that is replaced: shorter ones are words of every language and of every format.
const SHORTEST: usize = 3;

/// Names with what stands for each.
#[derive(Debug, Default)]
pub struct NameMap {
    /// By the name in lower case.
    names: BTreeMap<String, String>,
    /// Lengths of those names in bytes, the longest first: a host goes before the domain it is in.
    lengths: Vec<usize>,
}

impl NameMap {
    /// Names by what they are, such as `user`, each replaced by that and a number. `kept` are words that mean the same everywhere.
    #[must_use]
    pub fn new(groups: &[(&str, BTreeSet<String>)], kept: &[&str]) -> Self {
        let mut names = BTreeMap::new();
        for (what, all) in groups {
            let mut number = 0;
            for name in all {
                let lower = name.to_lowercase();
                let plain = lower.chars().count() >= SHORTEST
                    && lower.chars().any(char::is_alphabetic)
                    && !kept.iter().any(|word| *word == lower);
                if plain && !names.contains_key(&lower) {
                    number += 1;
                    names.insert(lower, format!("{what}{number}"));
                }
            }
        }
        let lengths: BTreeSet<usize> = names.keys().map(String::len).collect();
        Self { names, lengths: lengths.into_iter().rev().collect() }
    }

    /// What became of which name.
    #[must_use]
    pub fn done(&self) -> &BTreeMap<String, String> {
        &self.names
    }

    /// A copy of a text with every name replaced that stands as a whole word, in whatever case.
    #[must_use]
    pub fn map_text(&self, text: &str) -> String {
        let mut out = String::with_capacity(text.len());
        let mut at = 0;
        while at < text.len() {
            let begins = !text[..at].ends_with(char::is_alphanumeric);
            let fits = |length: &usize| {
                let candidate = text.get(at..at + length)?;
                let ends = !text[at + length..].starts_with(char::is_alphanumeric);
                ends.then(|| self.names.get(&candidate.to_lowercase())).flatten().map(|name| (name, *length))
            };
            if let Some((name, length)) = self.lengths.iter().filter(|_| begins).find_map(fits) {
                out.push_str(name);
                at += length;
                continue;
            }
            let Some(letter) = text[at..].chars().next() else { break };
            out.push(letter);
            at += letter.len_utf8();
        }
        out
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn whole_words_in_any_case() {
        let set = |all: &[&str]| all.iter().map(|one| (*one).to_owned()).collect::<BTreeSet<_>>();
        let map = NameMap::new(
            &[("org", set(&["Veyholm", "Veyholm Ferry Line"])), ("user", set(&["astrid", "root", "al"]))],
            &["root"],
        );
        for (text, wanted) in [
            ("Veyholm Ferry Line, veyholm-rw, VEYHOLM", "org2, org1-rw, org1"),
            ("edge.veyholm.example", "edge.org1.example"),
            ("astrid ASTRID astrids root al", "user1 user1 astrids root al"),
            ("", ""),
        ] {
            assert_eq!(map.map_text(text), wanted);
        }
    }
}
