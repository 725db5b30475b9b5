//! Secrets that a text announces, whatever its format: by the name of a setting, in the address of a page, as an argument of a
//! program, as a hash or a key block, in a comment.
//!
//! Readers register the secrets they know; this layer searches every line of every export that is read, understood or not, so that secrets
//! in ignored lines are masked in outputs and replaced in copies as well.

mod names;
mod programs;
mod shapes;
mod values;
mod words;

use aho_corasick::AhoCorasick;
use std::ops::Range;
use std::sync::{Arc, LazyLock};
use trevlin_model::secret::SecretKind;
use trevlin_model::{Export, Facts, Secret, SecretRecord};

/// Something of this is in every line that announces a secret: in whatever capitals.
const SIGNS: [&str; 22] = [
    "pass",
    "pwd",
    "pw",
    "secret",
    "psk",
    "token",
    "key",
    "commun",
    "credential",
    "kennwort",
    "pin",
    "://",
    "$",
    "basic ",
    "bearer ",
    "{s",
    "{cr",
    "{md",
    "scram-",
    "masterauth",
    "cookie",
    "sql",
];

/// Words of which a line has at least one where it contains arguments of programs.
const PROGRAM_SIGNS: [&str; 8] =
    ["curl", "smb", "ldap", "snmp", "mosquitto_", "redis-cli", "ipmitool", "rad"];

static SEARCH: LazyLock<Option<AhoCorasick>> = LazyLock::new(|| {
    let signs = SIGNS.iter().chain(&PROGRAM_SIGNS).chain(&["rpcclient", "openssl", "-----begin"]);
    AhoCorasick::builder().ascii_case_insensitive(true).build(signs).ok()
});

/// Whether a variable of the environment holds a secret, by its name and its value.
pub(crate) fn is_secret_variable(name: &str, value: &str) -> bool {
    names::is_secret(name, value)
}

/// Positions of secrets that a text announces, in order, none within another. Values only, without the quotes around them.
#[must_use]
pub fn places(text: &str) -> Vec<Range<usize>> {
    let mut found = Vec::new();
    let mut at = 0;
    while let Some(hit) = next_sign(text, at) {
        let start = text[..hit].rfind('\n').map_or(0, |at| at + 1).max(at);
        let end = text[hit..].find('\n').map_or(text.len(), |end| hit + end);
        let line = &text[start..end];
        at = end + 1;
        if let Some(block) = shapes::key_block(text, start..end) {
            at = block.end;
            found.extend(shapes::lines_of(text, block));
            continue;
        }
        found.extend(
            in_line(line, &text[end..]).into_iter().map(|place| start + place.start..start + place.end),
        );
        if at >= text.len() {
            break;
        }
    }
    let key = |place: &Range<usize>| (place.start, std::cmp::Reverse(place.end));
    found.sort_by_key(key);
    let mut kept: Vec<Range<usize>> = Vec::with_capacity(found.len());
    for one in found {
        match kept.last_mut() {
            Some(last) if last.end >= one.end => {}
            Some(last) if last.end > one.start => last.end = one.end,
            _ => kept.push(one),
        }
    }
    kept
}

fn next_sign(text: &str, from: usize) -> Option<usize> {
    let rest = text.get(from..)?;
    match &*SEARCH {
        Some(search) => search.find(rest).map(|hit| from + hit.start()),
        None => (!rest.is_empty()).then_some(from),
    }
}

/// The same for one line; `after` is the text that follows it, for a value on the next line.
fn in_line(line: &str, after: &str) -> Vec<Range<usize>> {
    let mut found = names::places(line, after);
    found.extend(shapes::places(line));
    found.extend(programs::places(line));
    found
}

/// A text with the secrets that it announces left out: for names that people wrote into a comment.
#[must_use]
pub fn masked(text: &str) -> String {
    let mut out = String::with_capacity(text.len());
    let mut at = 0;
    for place in places(text) {
        out.push_str(&text[at..place.start]);
        out.push_str(trevlin_model::secret::MASK);
        at = place.end;
    }
    out.push_str(&text[at..]);
    out
}

/// Adds announced secrets of an export to its facts: values that are not ordinary words are masked everywhere, others in their place.
pub fn add(export: &Export, facts: &mut Facts) {
    for mut place in places(export.text()) {
        // How RFC 7317 marks a password that is no hash.
        if export.text()[place.clone()].starts_with("$0$") {
            place.start += 3;
        }
        let origin = export.origin(place.clone());
        let value = &export.text()[place];
        if values::is_told_apart(value) {
            facts.announced.push(Arc::new(SecretRecord {
                secret: Secret::new(value),
                kind: SecretKind::ServicePassword,
                owner: String::new(),
                origin,
            }));
        } else {
            facts.masked_places.push(origin);
        }
    }
}

#[cfg(test)]
mod tests;
