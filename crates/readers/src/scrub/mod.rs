//! Masking for copies that are passed on, besides known secrets: commented-out statements, words that may be secrets, and replacement of
//! addresses and names.

mod addresses;
mod names;

pub use addresses::AddressMap;
pub use names::NameMap;

use std::ops::Range;

/// The text with its comment signs blanked, with unchanged length: commented-out statements are read as active ones, at the same place.
#[must_use]
pub fn uncommented(text: &str) -> String {
    let mut out = String::with_capacity(text.len());
    for line in text.split_inclusive('\n') {
        let blanks = line.len() - line.trim_start_matches([' ', '\t']).len();
        let rest = &line[blanks..];
        let signs = rest.len() - rest.trim_start_matches(['#', ';']).len();
        let signs = if signs == 0 && rest.starts_with("//") { 2 } else { signs };
        out.push_str(&line[..blanks]);
        out.push_str(&" ".repeat(signs));
        out.push_str(&rest[signs..]);
    }
    for (open, close) in [("<!--", "-->"), ("/*", "*/")] {
        out = out.replace(open, &" ".repeat(open.len())).replace(close, &" ".repeat(close.len()));
    }
    out
}

/// Whether a line is a comment only.
#[must_use]
pub fn is_comment(line: &str) -> bool {
    let line = line.trim_start();
    line.starts_with(['#', ';', '!']) || line.starts_with("//") || line.starts_with("<!--")
}

/// The free text of a line: a comment, also after a statement, and the comment text that packet filter statements carry.
#[must_use]
pub fn comment(line: &str) -> Option<Range<usize>> {
    if is_comment(line) {
        return Some(0..line.len());
    }
    for sign in ["comment \"", "comment '", "comment ", "description \"", "remark "] {
        let Some(at) = line.find(sign) else { continue };
        let start = at + sign.len();
        let end = match sign.chars().last() {
            Some(quote @ ('"' | '\'')) => line[start..].find(quote),
            _ => line[start..].find(char::is_whitespace),
        };
        return Some(start..end.map_or(line.len(), |end| start + end));
    }
    let signs = [" #", "\t#", " //", "\t//", "<!--"];
    signs.iter().filter_map(|sign| line.find(sign)).min().map(|at| at..line.len())
}

/// Whether a comment is a sentence, or part of one, and not a statement that was commented out: most of it is words.
#[must_use]
pub fn is_prose(line: &str) -> bool {
    let words: Vec<&str> =
        line.split_whitespace().map(|word| word.trim_start_matches(['#', ';', '/', '!'])).collect();
    let words: Vec<&str> = words.into_iter().filter(|word| !word.is_empty()).collect();
    let plain = |word: &&&str| {
        word.chars().all(|letter| letter.is_alphabetic() || matches!(letter, '\'' | ',' | '.' | ';' | '-'))
    };
    words.len() >= 4 && words.iter().filter(plain).count() * 10 >= words.len() * 8
}

/// Words that a secret follows.
const TELLING: [&str; 17] = [
    "password",
    "passwd",
    "passphrase",
    "passcode",
    "pass",
    "pw",
    "pwd",
    "secret",
    "psk",
    "pin",
    "token",
    "apikey",
    "key",
    "community",
    "credential",
    "credentials",
    "kennwort",
];

/// Minimum length of a word that is considered a secret by its characters alone.
const RANDOM: usize = 16;

/// Positions of words in a line that may be secrets: after a characteristic keyword, or with the appearance of generated values.
#[must_use]
pub fn suspects(line: &str) -> Vec<Range<usize>> {
    let words = words(line);
    let mut found = Vec::new();
    for (at, word) in words.iter().enumerate() {
        let text = &line[word.clone()];
        let mut parts = text.split(|letter: char| !letter.is_alphanumeric());
        let telling = parts.next_back().is_some_and(is_telling);
        // `password = value`, `password: value`, `password is value`, `password value`.
        let mut next = at + 1;
        let between = |to: usize| line[word.end..words[to].start].contains(['=', ':']);
        let mut said = false;
        while telling
            && next < words.len()
            && matches!(&line[words[next].clone()], "is" | "was" | "ist" | "the")
        {
            said = true;
            next += 1;
        }
        if telling && next < words.len() {
            let value = &line[words[next].clone()];
            let odd = value.contains(|letter: char| !letter.is_ascii_lowercase());
            if value.len() >= 3 && (said || between(next) || odd) {
                found.push(words[next].clone());
            }
        }
        // The target of an assignment is a name.
        let rest = line[word.end..].trim_start();
        let assigned =
            rest.starts_with(['=', ':']) && !rest.trim_matches(['=', ':', ' ', '\t', '\r', '\n']).is_empty();
        if looks_random(text)
            || (looks_chosen(text) && at > 0 && !assigned)
            || (looks_chosen(text) && words.len() == 1)
        {
            found.push(word.clone());
        }
    }
    found.sort_by_key(|range| (range.start, range.end));
    found.dedup();
    found
}

/// Words between blanks, quotes, and signs that assign.
fn words(line: &str) -> Vec<Range<usize>> {
    words_between(line, &['"', '\'', '=', ':', ',', ';', '(', ')', '<', '>'])
}

/// Positions of words between blanks and punctuation.
pub(crate) fn words_between(line: &str, signs: &[char]) -> Vec<Range<usize>> {
    let mut found = Vec::new();
    let mut start = None;
    for (at, letter) in line.char_indices().chain([(line.len(), ' ')]) {
        match (start, letter.is_whitespace() || signs.contains(&letter)) {
            (None, false) => start = Some(at),
            (Some(from), true) => {
                found.push(from..at);
                start = None;
            }
            _ => {}
        }
    }
    found
}

fn is_telling(word: &str) -> bool {
    let lower = word.to_ascii_lowercase();
    let endings = ["password", "passwd", "passphrase", "secret", "token", "psk"];
    TELLING.contains(&lower.as_str())
        || endings.iter().any(|ending| lower.ends_with(ending))
        || word.ends_with("Key")
}

/// Minimum length of a word of mixed letters and digits that is considered a secret.
const CHOSEN: usize = 8;

/// Whether it mixes capitals, small letters and digits, as password policies require, and is neither a path nor a network name.
fn looks_chosen(word: &str) -> bool {
    let has = |test: fn(char) -> bool| word.contains(test);
    word.len() >= CHOSEN
        && has(|one| one.is_ascii_digit())
        && has(|one| one.is_ascii_uppercase())
        && has(|one| one.is_ascii_lowercase())
        && !word.starts_with(['/', '<', '[', '{'])
        && word.matches('/').count() < 2
        && !word.contains("://")
}

fn looks_random(word: &str) -> bool {
    let count = |test: fn(char) -> bool| word.chars().filter(|letter| test(*letter)).count();
    let (digits, upper, lower) = (
        count(|one| one.is_ascii_digit()),
        count(|one| one.is_ascii_uppercase()),
        count(|one| one.is_ascii_lowercase()),
    );
    let plain =
        word.chars().all(|one| one.is_ascii_alphanumeric() || matches!(one, '+' | '/' | '=' | '_' | '-'));
    let kinds = [digits, upper, lower].iter().filter(|count| **count >= 2).count();
    let of_hex = word.chars().all(|one| one.is_ascii_hexdigit()) && digits > 2 && upper + lower > 2;
    plain
        && word.len() >= RANDOM
        && !word.starts_with('/')
        && word.matches('/').count() < 3
        && (kinds == 3 || of_hex)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn comment_signs_are_blanked_in_place() {
        for (text, wanted) in [
            ("#gunnar pptp x *\n", " gunnar pptp x *\n"),
            ("\t; password = x\nb\n", "\t  password = x\nb\n"),
            ("// a\n<!-- b -->\n", "   a\n     b    \n"),
            ("a # b\n", "a # b\n"),
            ("", ""),
        ] {
            assert_eq!(uncommented(text), wanted);
            assert_eq!(uncommented(text).len(), text.len());
        }
    }

    #[test]
    fn where_people_say_what_they_like() {
        for (line, wanted) in [
            ("# all of it", "# all of it"),
            ("a = b # behind it", " # behind it"),
            ("-A INPUT --comment \"in quotes\" -j DROP", "in quotes"),
            ("-A INPUT --comment word -j DROP", "word"),
            ("ip saddr a accept comment \"x y\"", "x y"),
            ("see https://a.example/#b", "-"),
            ("a = b", "-"),
        ] {
            assert_eq!(comment(line).map_or("-", |part| &line[part]), wanted, "{line}");
        }
    }

    #[test]
    fn sentences_and_statements() {
        for (line, prose) in [
            ("# our own way out to the yard's gate, nobody comes in with it", true),
            ("# Secrets for authentication using CHAP", true),
            ("#gunnar         pptp        oldskipper99                  *", false),
            ("#ann pptp sesame *", false),
            ("#ann pptp sesame", false),
            ("; password = \"x y\"", false),
        ] {
            assert_eq!(is_prose(line), prose, "{line}");
        }
    }

    #[test]
    fn words_that_may_be_secrets() {
        for (line, wanted) in [
            ("# old password: hunter2", &["hunter2"][..]),
            ("; the password is lantern for now", &["lantern"]),
            ("# change the password every month", &[]),
            ("frobnicate secret=Sesame-7", &["Sesame-7"]),
            ("wpa-psk \"Tide 7\"", &["Tide"]),
            ("# token Qm7xVt2Kp9LzRb4w here", &["Qm7xVt2Kp9LzRb4w"]),
            ("# see /etc/ssl/private/Some2Key9Path7x", &[]),
            ("device 10.20.30.40 at 2001:db8:1:2::3456", &[]),
            ("monkey: banana", &[]),
            ("#PresharedKey = abcd", &["abcd"]),
            ("#old pptp Q7+di+7rzp..ur *", &["Q7+di+7rzp..ur"]),
            ("// Q7VtiLCy", &["Q7VtiLCy"]),
            ("# UTdIcDZwTEZURis3LWs=", &["UTdIcDZwTEZURis3LWs"]),
            ("IPv6AcceptRA=no", &[]),
            ("IPv6AcceptRA no", &[]),
            ("", &[]),
        ] {
            let found: Vec<&str> = suspects(line).into_iter().map(|range| &line[range]).collect();
            assert_eq!(found, wanted, "{line}");
        }
    }
}
