//! Words of pppd's files (pppd(8), "OPTIONS FILES" and "AUTHENTICATION"): separated by blanks and line ends, with single or double quotes,
//! C-like escapes after a backslash (inside quotes too), a backslash before a line end joining lines, and `#` outside quotes starting a
//! comment, even directly after a word.

use std::ops::Range;
use zeroize::Zeroizing;

/// One word. It may be a secret, so it is wiped.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(super) struct Word {
    /// The word with quotes and escapes resolved.
    pub(super) text: Zeroizing<String>,
    /// Its position, quotes included.
    pub(super) span: Range<usize>,
    /// Whether a line end precedes it: in secrets files a new entry begins here.
    pub(super) starts_line: bool,
    /// Whether a quotation mark was still open at the end of the file.
    pub(super) unclosed: bool,
}

struct Scanner<'a> {
    text: &'a str,
    at: usize,
}

impl Word {
    /// The word as ordinary text, for values that are not secret.
    pub(super) fn plain(&self) -> String {
        self.text.as_str().to_owned()
    }
}

impl Scanner<'_> {
    fn peek(&self) -> Option<char> {
        self.text[self.at..].chars().next()
    }

    fn bump(&mut self) -> Option<char> {
        let next = self.peek()?;
        self.at += next.len_utf8();
        Some(next)
    }

    /// Skips blanks and comments. Returns whether a line end was among them.
    fn skip(&mut self) -> bool {
        let mut line_end = false;
        while let Some(next) = self.peek() {
            match next {
                '\n' => line_end = true,
                '#' => {
                    let rest = &self.text[self.at..];
                    self.at += rest.find('\n').unwrap_or(rest.len());
                    continue;
                }
                '\\' if self.text[self.at + 1..].starts_with('\n') => self.at += 1,
                '\\' if self.text[self.at + 1..].starts_with("\r\n") => self.at += 2,
                _ if next.is_ascii_whitespace() || next == '\u{b}' => {}
                _ => break,
            }
            self.bump();
        }
        line_end
    }

    /// The character that an escape sequence represents; `None` where it joins lines or ends the file.
    fn escape(&mut self) -> Option<char> {
        let letter = self.bump()?;
        Some(match letter {
            '\n' => return None,
            'a' => '\u{7}',
            'b' => '\u{8}',
            'f' => '\u{c}',
            'n' => '\n',
            'r' => '\r',
            's' => ' ',
            't' => '\t',
            '0'..='7' => {
                let mut value = letter.to_digit(8)?;
                for _ in 0..2 {
                    let Some(digit) = self.peek().and_then(|next| next.to_digit(8)) else { break };
                    value = value * 8 + digit;
                    self.bump();
                }
                char::from((value & 0xff) as u8)
            }
            'x' => {
                let mut value = 0;
                for _ in 0..2 {
                    let Some(digit) = self.peek().and_then(|next| next.to_digit(16)) else { break };
                    value = value * 16 + digit;
                    self.bump();
                }
                char::from(value as u8)
            }
            other => other,
        })
    }

    fn word(&mut self, starts_line: bool) -> Word {
        let start = self.at;
        let mut text = String::new();
        let mut quote = None;
        while let Some(next) = self.peek() {
            match (quote, next) {
                (_, '\\') => {
                    self.bump();
                    text.extend(self.escape());
                    continue;
                }
                (Some(open), _) if open == next => quote = None,
                (None, '"' | '\'') => quote = Some(next),
                (None, '#') => break,
                (None, _) if next.is_ascii_whitespace() || next == '\u{b}' => break,
                _ => text.push(next),
            }
            self.bump();
        }
        Word { text: Zeroizing::new(text), span: start..self.at, starts_line, unclosed: quote.is_some() }
    }
}

/// All words of a file.
pub(super) fn words(text: &str) -> Vec<Word> {
    let mut scanner = Scanner { text, at: 0 };
    let mut words = Vec::new();
    loop {
        let line_end = scanner.skip();
        if scanner.peek().is_none() {
            return words;
        }
        let starts_line = line_end || words.is_empty();
        words.push(scanner.word(starts_line));
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    #[test]
    fn words_as_pppd_takes_them() {
        for (text, wanted) in [
            ("a b\tc\n", "|a b c"),
            ("# all\n  a # b\nc", "|a |c"),
            ("\"a b\" 'c\"d'", "|a b c\"d"),
            ("pass#word", "|pass"),
            ("'pass#word'", "|pass#word"),
            ("a\\ b \\\nc", "|a b c"),
            ("a\\\nb", "|ab"),
            ("\\x41\\101\\s.", "|AA ."),
            ("\"open", "|open"),
            ("", ""),
        ] {
            let told: Vec<_> = words(text)
                .iter()
                .map(|word| format!("{}{}", if word.starts_line { "|" } else { "" }, word.text.as_str()))
                .collect();
            assert_eq!(told.join(" "), wanted, "{text:?}");
        }
        assert!(words("\"open")[0].unclosed);
        assert_eq!(words("  'a b'x\n")[0].span, 2..8);
    }

    proptest! {
        #[test]
        fn any_text_is_split_and_spans_are_in_order(text in "[a-c \\\\\"'#\n\rüx0-9]{0,40}") {
            let mut end = 0;
            for word in words(&text) {
                prop_assert!(word.span.start >= end && text.get(word.span.clone()).is_some());
                end = word.span.end;
            }
        }
    }
}
