//! The words of a line.

use super::word::Word;
use trevlin_model::Export;

/// The words of a text. Quotes hold words together and do not belong to them; a comma behind a word separates it from the next. Signs of
/// `apart` are words of their own.
pub(super) fn words<'a>(export: &'a Export, text: &'a str, apart: &[char], into: &mut Vec<Word<'a>>) {
    let start = export.origin_of(text).start;
    let bytes = text.as_bytes();
    let mut at = 0;
    let word = |from: usize, to: usize, quoted: bool| Word {
        text: &text[from..to],
        start: start + from as u32,
        end: start + to as u32,
        quoted,
    };
    let is_apart = |byte: u8| byte.is_ascii() && apart.contains(&char::from(byte));
    while at < bytes.len() {
        match bytes[at] {
            byte if byte.is_ascii_whitespace() => at += 1,
            quote @ (b'"' | b'\'') => {
                let from = at + 1;
                match memchr::memchr(quote, &bytes[from..]) {
                    Some(length) => {
                        into.push(word(from, from + length, true));
                        at = from + length + 1;
                    }
                    None => {
                        into.push(word(at, bytes.len(), false));
                        at = bytes.len();
                    }
                }
            }
            byte if is_apart(byte) => {
                into.push(word(at, at + 1, false));
                at += 1;
            }
            _ => {
                let to = end_of_word(bytes, at, &is_apart);
                let commas = bytes[at..to].iter().rev().take_while(|byte| **byte == b',').count();
                if at < to - commas {
                    into.push(word(at, to - commas, false));
                }
                at = to;
            }
        }
    }
}

/// Where a word ends. Quotes behind a sign of assignment hold it together: `name="north quay"`.
fn end_of_word(bytes: &[u8], from: usize, is_apart: &impl Fn(u8) -> bool) -> usize {
    let mut at = from;
    while at < bytes.len() {
        match bytes[at] {
            byte if byte.is_ascii_whitespace() || is_apart(byte) => break,
            quote @ (b'"' | b'\'') if matches!(bytes[at - 1], b'=' | b':') => {
                match memchr::memchr(quote, &bytes[at + 1..]) {
                    Some(length) => at += length + 2,
                    None => at += 1,
                }
            }
            _ => at += 1,
        }
    }
    at
}

/// The words of a line as written.
pub(super) fn plain<'a>(export: &'a Export, text: &'a str) -> Vec<Word<'a>> {
    let mut found = Vec::new();
    words(export, text, &[], &mut found);
    found
}

/// The words of a line that begins a statement, without the signs of a block.
pub(super) fn opening<'a>(export: &'a Export, text: &'a str) -> Vec<Word<'a>> {
    let mut found = Vec::new();
    words(export, text, &SIGNS, &mut found);
    let signs = found.iter().rev().take_while(|word| is_sign(word)).count();
    found.truncate(found.len() - signs);
    found
}

/// Signs of blocks, and of the ends of statements.
pub(super) const SIGNS: [char; 3] = ['{', '}', ';'];

pub(super) fn is_sign(word: &Word<'_>) -> bool {
    !word.quoted && matches!(word.text, "{" | "}" | ";")
}

pub(super) fn is_comment(text: &str, comments: &[String]) -> bool {
    text.is_empty() || comments.iter().any(|sign| text.starts_with(sign.as_str()))
}
