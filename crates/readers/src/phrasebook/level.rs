//! The levels of a phrase: a pattern for a statement, and for each that is around it.

use super::pattern::Pattern;
use super::value::Captures;
use std::collections::BTreeMap;

/// A pattern of one level, and the names of its captures.
#[derive(Debug, Clone)]
pub(super) struct Level {
    /// As written.
    pub(super) text: String,
    /// `None` where any statement fits.
    pub(super) pattern: Option<Pattern>,
    pub(super) captures: Captures,
}

/// Reads a level.
///
/// # Errors
/// A description of the syntax error.
pub(super) fn level(text: &str, maps: &BTreeMap<String, usize>) -> Result<Level, String> {
    let mut captures = Vec::new();
    if text.trim() == "*" {
        return Ok(Level { text: text.into(), pattern: None, captures });
    }
    let pattern = Pattern::parse(text, &mut captures, maps)?;
    Ok(Level { text: text.into(), pattern: Some(pattern), captures })
}

/// The levels of a phrase, and whether any others may be around them.
pub(super) fn apart(text: &str) -> (bool, Vec<&str>) {
    let mut parts = levels(text);
    let anywhere = parts.first() == Some(&"**");
    if anywhere {
        parts.remove(0);
    }
    (anywhere, parts)
}

/// The levels of a phrase: the texts between `>` signs that are words of their own.
fn levels(text: &str) -> Vec<&str> {
    let mut found = Vec::new();
    let (mut start, mut quoted) = (0, false);
    let bytes = text.as_bytes();
    let blank = |at: Option<usize>| at.and_then(|at| bytes.get(at)).is_none_or(u8::is_ascii_whitespace);
    for (at, byte) in bytes.iter().enumerate() {
        match byte {
            b'"' => quoted = !quoted,
            b'>' if !quoted && blank(at.checked_sub(1)) && blank(Some(at + 1)) => {
                found.push(text[start..at].trim());
                start = at + 1;
            }
            _ => {}
        }
    }
    found.push(text[start..].trim());
    found
}
