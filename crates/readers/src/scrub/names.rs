//! Names under others: of people, devices, hosts and the organisation, the same in every file and path.

use std::collections::{BTreeMap, BTreeSet};

/// Shortest name that is replaced: shorter ones are words of every language and of every format.
const SHORTEST: usize = 3;

/// Names and their replacements.
#[derive(Debug, Default)]
pub struct NameMap {
    /// By the name in lower case.
    names: BTreeMap<String, String>,
    /// Lengths of those names in bytes, the longest first: a host goes before the domain it is in.
    lengths: Vec<usize>,
    /// The organisation's names in lower case, replaced or not.
    organisation: BTreeSet<String>,
}

/// The group of the organisation's names.
const ORGANISATION: &str = "org";

impl NameMap {
    /// Names by group, such as `user`, each replaced by the group and a number. `kept` are words with a general meaning. A stand-in that
    /// occurs in `texts` as a word is not used, since two names would become one.
    #[must_use]
    pub fn new<'a>(
        groups: &[(&str, BTreeSet<String>)],
        kept: &[&str],
        texts: impl Iterator<Item = &'a str>,
    ) -> Self {
        let taken = stand_ins(groups, texts);
        let mut names = BTreeMap::new();
        for (what, all) in groups {
            let mut number = 0;
            for name in all {
                let lower = name.to_lowercase();
                let plain = lower.chars().count() >= SHORTEST
                    && lower.chars().any(char::is_alphabetic)
                    && !kept.iter().any(|word| *word == lower);
                if plain && !names.contains_key(&lower) {
                    let free = (number + 1..).find(|one| !taken.contains(&format!("{what}{one}")));
                    number = free.unwrap_or(number);
                    names.insert(lower, format!("{what}{number}"));
                }
            }
        }
        let lengths: BTreeSet<usize> = names.keys().map(String::len).collect();
        let organisation = groups.iter().filter(|(what, _)| *what == ORGANISATION);
        let organisation = organisation.flat_map(|(_, all)| all).map(|name| name.to_lowercase()).collect();
        Self { names, lengths: lengths.into_iter().rev().collect(), organisation }
    }

    /// Names of the organisation that are still in a text: as part of a longer word, or too common or short to be replaced. Those
    /// shorter than a name that is replaced only count as words.
    #[must_use]
    pub fn left<'a>(&'a self, text: &str) -> Vec<&'a str> {
        if self.organisation.is_empty() {
            return Vec::new();
        }
        let lower = text.to_lowercase();
        let as_word = |name: &str| {
            lower.match_indices(name).any(|(at, _)| {
                !lower[..at].ends_with(char::is_alphanumeric)
                    && !lower[at + name.len()..].starts_with(char::is_alphanumeric)
            })
        };
        let is_left = |name: &&str| {
            if name.chars().count() < SHORTEST { as_word(name) } else { lower.contains(*name) }
        };
        self.organisation.iter().map(String::as_str).filter(|name| !name.is_empty()).filter(is_left).collect()
    }

    /// The mapping of names.
    #[must_use]
    pub fn done(&self) -> &BTreeMap<String, String> {
        &self.names
    }

    /// A copy of a text with every name replaced that occurs as a whole word, in any case.
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

/// Words of the texts that look like stand-ins of these groups.
fn stand_ins<'a>(
    groups: &[(&str, BTreeSet<String>)],
    texts: impl Iterator<Item = &'a str>,
) -> BTreeSet<String> {
    let words = texts.flat_map(|text| text.split(|letter: char| !letter.is_alphanumeric()));
    let looks_so = |word: &&str| {
        let of = word.trim_end_matches(|digit: char| digit.is_ascii_digit());
        of.len() < word.len() && groups.iter().any(|(what, _)| of.eq_ignore_ascii_case(what))
    };
    words.filter(looks_so).map(str::to_lowercase).collect()
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
            std::iter::empty(),
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

    #[test]
    fn a_stand_in_is_nobody_elses_name() {
        let set = |all: &[&str]| all.iter().map(|one| (*one).to_owned()).collect::<BTreeSet<_>>();
        let texts = ["hosts: device1, DEVICE3 and device", "/device2x/a"];
        let map = NameMap::new(&[("device", set(&["edge", "nas"]))], &[], texts.into_iter());
        assert_eq!(map.map_text("edge nas device1"), "device2 device4 device1");
    }

    #[test]
    fn what_is_left_of_the_organisation() {
        let set = |all: &[&str]| all.iter().map(|one| (*one).to_owned()).collect::<BTreeSet<_>>();
        let map = NameMap::new(&[("org", set(&["Veyholm", "VF", "web"]))], &["web"], std::iter::empty());
        for (text, wanted) in [
            ("veyholmvpn", "veyholm"),
            ("veyholm", ""),
            ("vf-gw", "vf"),
            ("vfx", ""),
            ("a web", "web"),
            ("nothing", ""),
        ] {
            assert_eq!(map.left(&map.map_text(text)).join(" "), wanted, "{text}");
        }
    }
}
