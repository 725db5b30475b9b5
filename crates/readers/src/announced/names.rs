//! Values of settings with a name that announces a secret.

use super::values;
use super::words::WORDS;
use crate::scrub::{comment, words_between};
use std::ops::Range;

/// Certainty with which a name announces a secret.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
enum Says {
    /// It may be: `key`, `pass` and `cookie` are names of other things too, and so the value has to look like a secret.
    Perhaps,
    /// It is.
    Plainly,
}

/// Signs that end a word.
const ENDS: [char; 21] = [
    '"', '\'', '`', '=', ':', ',', ';', '(', ')', '<', '>', '[', ']', '{', '}', '&', '?', '|', '!', '\\', '#',
];

/// Positions of values of such settings in a line.
pub(super) fn places(line: &str, after: &str) -> Vec<Range<usize>> {
    let words = words_between(line, &ENDS);
    let remark = comment(line);
    let mut found = Vec::new();
    for (number, word) in words.iter().enumerate() {
        let text = &line[word.clone()];
        let Some(says) = says(text) else { continue };
        let in_comment = remark.as_ref().is_some_and(|part| part.start <= word.start && word.end <= part.end);
        let before = line[..word.start].trim_end();
        // The rules of sudoers(5) have a tag of that name, and lines of PAM begin with one.
        if text == "PASSWD" || text == "NOPASSWD" {
            continue;
        }
        found.extend(value(line, after, word, number, says, in_comment, before));
    }
    found
}

/// The value that a name announces.
fn value(
    line: &str,
    after: &str,
    word: &Range<usize>,
    number: usize,
    says: Says,
    in_comment: bool,
    before: &str,
) -> Option<Range<usize>> {
    let rest = &line[word.end..];
    let gap = rest.len() - rest.trim_start_matches([' ', '\t', '"', '\'', '`', ']', '\\']).len();
    let sign = rest[gap..].chars().next();
    let closing_tag = before.ends_with("</");
    let assigned = match sign {
        Some('=' | ':') => true,
        Some('>') => before.ends_with('<') || before.contains('<'),
        _ => false,
    } && !closing_tag;
    if assigned {
        let signs = rest[gap..].len() - rest[gap..].trim_start_matches(['=', ':', '>', '+', ' ', '\t']).len();
        let from = word.end + gap + signs;
        // `::` is no sign of an assignment, but part of a name or of an address.
        if rest[gap..].starts_with("::") {
            return None;
        }
        let place = if line[from..].trim_end_matches(['\r', '|', '-', '\\']).trim().is_empty() {
            on_the_next_line(line, after, sign)?
        } else {
            extent(line, from, number == 0 || (number == 1 && before.is_empty()), sign == Some('>'))
        };
        let whole = if place.start >= line.len() {
            after.get(place.start - line.len()..place.end - line.len())?
        } else {
            &line[place.clone()]
        };
        // People go on after it.
        let judged = if in_comment { whole.split_whitespace().next().unwrap_or_default() } else { whole };
        let holds = match says {
            Says::Plainly => values::may_be_secret(judged),
            Says::Perhaps => values::looks_secret(whole),
        };
        return (holds && !names_a_block(line, &place)).then_some(place);
    }
    if !rest.starts_with([' ', '\t', '"', '\''])
        || says == Says::Perhaps && !before.ends_with("option") && !in_comment
    {
        return by_option(line, word, says);
    }
    let mut from = word.end + rest.len() - rest.trim_start_matches(['"', '\'']).trim_start().len();
    let mut said = false;
    if in_comment {
        for verb in ["is ", "was ", "ist ", "war "] {
            if line[from..].starts_with(verb) {
                said = true;
                from += verb.len();
            }
        }
    }
    if from >= line.len() {
        return None;
    }
    let place = extent(line, from, false, false);
    let whole = &line[place.clone()];
    // A directive's first value, an option's, or a word that is no plain one.
    let directive = !in_comment
        && (before.is_empty()
            || before.ends_with("option")
            || before.ends_with("set")
            || before.ends_with("--"));
    let quoted = line[..place.start].ends_with(['"', '\'']);
    let odd = whole.contains(|one: char| !one.is_lowercase() && !matches!(one, '-' | '_' | ',' | '.'));
    let likely = if in_comment {
        said || odd && values::is_odd(whole)
    } else {
        directive || (quoted && odd) || values::is_odd(whole)
    };
    // A prompt for a secret names it.
    let asks = whole.contains(' ') && whole.split(' ').any(says_plainly);
    let likely = likely && (says == Says::Plainly || !in_comment || values::looks_secret(whole));
    (likely
        && !asks
        && !whole.starts_with('[')
        && values::may_be_secret(whole)
        && !names_a_block(line, &place))
    .then_some(place)
}

/// An argument of a long option (`--password x`).
fn by_option(line: &str, word: &Range<usize>, says: Says) -> Option<Range<usize>> {
    let text = &line[word.clone()];
    if says != Says::Plainly || !text.starts_with("--") || !line[word.end..].starts_with(' ') {
        return None;
    }
    let place = extent(line, word.end + 1, false, false);
    values::may_be_secret(&line[place.clone()]).then_some(place)
}

/// Whether the text there names a block or is a call, as in `key "name" {` and `password() {`.
fn names_a_block(line: &str, place: &Range<usize>) -> bool {
    let rest = line.get(place.end..).unwrap_or_default();
    rest.trim_start_matches(['"', '\'']).trim_start().starts_with(['{', '('])
}

/// Where a value ends that begins at `from`: at the closing quote, at the next blank, or, where the whole rest of the line is the value,
/// at the end of the line.
fn extent(line: &str, from: usize, to_the_end: bool, tagged: bool) -> Range<usize> {
    let rest = &line[from..];
    let skipped = if rest.starts_with("\\\"") { 1 } else { 0 };
    let rest = &rest[skipped..];
    let from = from + skipped;
    if let Some(quote) = rest.chars().next().filter(|one| matches!(one, '"' | '\'' | '`')) {
        let mut escaped = skipped == 1;
        let inner = &rest[1..];
        for (at, letter) in inner.char_indices() {
            if letter == quote && (!escaped || skipped == 1) {
                let end = if skipped == 1 { inner[..at].trim_end_matches('\\').len() } else { at };
                return from + 1..from + 1 + end;
            }
            escaped = letter == '\\' && !escaped;
        }
        return from + 1..from + 1 + inner.trim_end().len();
    }
    if tagged {
        return from..from + rest.find('<').unwrap_or(rest.trim_end().len());
    }
    // A list in brackets has its values in quotes or not; without a sign before it, it is none.
    if let Some(inner) = rest.strip_prefix('[').filter(|_| line[..from].trim_end().ends_with(['=', ':'])) {
        return from + 1..from + 1 + inner.find([']', '\r']).unwrap_or(inner.len());
    }
    let ends =
        |letter: char| letter.is_whitespace() || matches!(letter, '"' | '\'' | '`' | ';' | '<' | '>' | ')');
    let word = rest.find(ends).unwrap_or(rest.len());
    let word = rest[..word].trim_end_matches([',', ']', '}']).len();
    if to_the_end && !rest.contains(['=', '"', '\'']) {
        let end =
            [" #", "\t#", " ;", "\t;"].iter().filter_map(|sign| rest.find(sign)).min().unwrap_or(rest.len());
        // The end of a block is no part of it.
        let value = rest[..end].trim_end_matches([';', ',', ' ', '\t', '\r', '}']);
        return from..from + value.len().max(word);
    }
    // In a query string the next parameter follows.
    let word = rest[..word].find('&').filter(|_| line[..from].contains("://")).unwrap_or(word);
    from..from + word
}

/// A value on the line after its name, as JSON and XML may have it and as YAML has blocks; counted from the line.
fn on_the_next_line(line: &str, after: &str, sign: Option<char>) -> Option<Range<usize>> {
    let next = after.strip_prefix('\n')?;
    let blanks = next.len() - next.trim_start_matches([' ', '\t']).len();
    let end = next.find('\n').unwrap_or(next.len());
    if blanks >= end {
        return None;
    }
    let value = next[blanks..end].trim_end();
    let start = line.len() + 1 + blanks;
    let block = line.trim_end().ends_with(['|', '>'])
        || line.trim_end().ends_with("|-")
        || line.trim_end().ends_with(">-");
    match value.chars().next()? {
        quote @ ('"' | '\'') => {
            let inner = value[1..].rfind(quote)?;
            Some(start + 1..start + 1 + inner)
        }
        _ if sign == Some('>') && !value.starts_with('<') => {
            Some(start..start + value.find('<').unwrap_or(value.len()))
        }
        _ if block => Some(start..start + value.len()),
        _ => None,
    }
}

fn says_plainly(word: &str) -> bool {
    says(word) == Some(Says::Plainly)
}

/// Whether a setting with a name and a value holds a secret, where it is certain that they are a name and its value: a weak one too.
pub(super) fn is_secret(name: &str, value: &str) -> bool {
    match says(name) {
        Some(Says::Plainly) => {
            let switch =
                ["true", "false", "yes", "no", "on", "off"].contains(&value.to_ascii_lowercase().as_str());
            !value.is_empty() && !switch && !value.starts_with(['/', '$']) && !value.starts_with("./")
        }
        Some(Says::Perhaps) => values::looks_secret(value),
        None => false,
    }
}

/// The kind of value that a name announces.
fn says(name: &str) -> Option<Says> {
    let lower = name.trim_start_matches(['-', '$', '@']).to_ascii_lowercase();
    if lower.is_empty() || lower.len() > 64 || WORDS.no_secret.contains(&lower) || lower.contains('/') {
        return None;
    }
    let parts = parts(name);
    let last = parts.last()?.as_str();
    let stem = last.trim_end_matches(|one: char| one.is_ascii_digit());
    let before = parts.len().checked_sub(2).map(|at| parts[at].as_str());
    if matches!(stem, "pass" | "cookie") && parts.len() == 1 {
        return Some(Says::Perhaps);
    }
    if stem == "key" {
        let kind = before.is_some_and(|one| {
            WORDS.key_kinds.contains(one.trim_end_matches(|one: char| one.is_ascii_digit()))
        });
        return match (kind, parts.len()) {
            (true, _) => Some(Says::Plainly),
            (false, 1) => Some(Says::Perhaps),
            _ => None,
        };
    }
    if WORDS.words.contains(stem) || stem.ends_with("community") || stem.ends_with("community6") {
        return Some(Says::Plainly);
    }
    // Names of the hash or the value of such a setting.
    if matches!(stem, "hash" | "value" | "string")
        && before.is_some_and(|one| WORDS.words.contains(one) || one == "key")
    {
        return Some(Says::Plainly);
    }
    WORDS.endings.iter().any(|ending| stem.ends_with(ending.as_str())).then_some(Says::Plainly)
}

/// The parts of a name in small letters: between signs, and where a capital follows a small letter.
fn parts(name: &str) -> Vec<String> {
    let mut parts = vec![String::new()];
    let mut small = false;
    for letter in name.chars() {
        let joins = letter.is_alphanumeric();
        let opens = !joins || (small && letter.is_uppercase());
        if opens && parts.last().is_some_and(|one| !one.is_empty()) {
            parts.push(String::new());
        }
        if joins && let Some(part) = parts.last_mut() {
            part.extend(letter.to_lowercase());
        }
        small = letter.is_lowercase();
    }
    parts.retain(|one| !one.is_empty());
    parts
}
