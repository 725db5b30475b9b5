//! Words of a rule line: separated by blanks, with double quotes and backslash escapes (iptables-save(8) writes comments and strings that
//! way).

use std::borrow::Cow;

/// One word.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) struct Token<'a> {
    /// Its text with quotes and backslashes resolved.
    pub(crate) text: Cow<'a, str>,
    /// Whether it was quoted, so that it cannot be an option.
    pub(crate) quoted: bool,
}

impl Token<'_> {
    /// Whether it opens something new, rather than being a value.
    pub(super) fn is_option(&self) -> bool {
        !self.quoted && (self.text == "!" || (self.text.len() > 1 && self.text.starts_with('-')))
    }
}

/// Splits a line. `Err` describes the syntax error.
pub(super) fn split(line: &str) -> Result<Vec<Token<'_>>, String> {
    let mut tokens = Vec::new();
    let mut rest = line.trim_start();
    while !rest.is_empty() {
        if let Some(inside) = rest.strip_prefix('"') {
            let mut text = String::new();
            let mut chars = inside.char_indices();
            let end = loop {
                match chars.next() {
                    Some((at, '"')) => break at + 1,
                    Some((_, '\\')) => text.extend(chars.next().map(|(_, escaped)| escaped)),
                    Some((_, plain)) => text.push(plain),
                    None => return Err("a quotation mark is not closed".into()),
                }
            };
            tokens.push(Token { text: Cow::Owned(text), quoted: true });
            rest = inside[end..].trim_start();
        } else {
            let end = rest.find(char::is_whitespace).unwrap_or(rest.len());
            tokens.push(Token { text: Cow::Borrowed(&rest[..end]), quoted: false });
            rest = rest[end..].trim_start();
        }
    }
    Ok(tokens)
}
