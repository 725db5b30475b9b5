//! Words and signs of the shell command language (POSIX.1-2017, Shell Command Language, 2.2 to 2.7): quotes, values of names, redirections and
//! texts behind `<<`.

use std::ops::Range;
use trevlin_model::Export;

/// Sign in a word in the place of something that only a run shows.
pub(super) const UNKNOWN: char = '\u{0}';

/// Whether a text is for a shell whose language is read, by its first line.
pub(super) fn is_shell(export: &Export) -> bool {
    const SHELLS: [&str; 6] = ["sh", "bash", "dash", "ash", "ksh", "zsh"];
    let Some(line) = export.text().strip_prefix("#!").and_then(|rest| rest.lines().next()) else {
        // Without a first line of that kind it is the caller's shell.
        return !export.text().contains('\u{0}');
    };
    let mut words = line.split_whitespace().map(|word| word.rsplit('/').next().unwrap_or_default());
    words
        .find(|word| !matches!(*word, "env" | "busybox" | "rc.common"))
        .is_some_and(|word| SHELLS.contains(&word))
}

/// A piece of a word.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(super) enum Part {
    /// Plain text.
    Text {
        /// The text.
        text: String,
        /// Whether it was quoted.
        quoted: bool,
    },
    /// The value of a name, `$NAME`.
    Value {
        /// The name.
        name: String,
        /// The text where the name has no value, `${NAME:-text}`.
        otherwise: Option<String>,
        /// Whether blanks in the value end no word.
        quoted: bool,
    },
    /// Something that only a run shows: the output of a command, a calculation.
    Unknown,
}

/// A word before its values are put in.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(super) struct Word {
    /// Its pieces.
    pub(super) parts: Vec<Part>,
    /// Its place in the text.
    pub(super) span: Range<usize>,
}

impl Word {
    /// Its text, where it is plain and unquoted.
    pub(super) fn plain(&self) -> Option<&str> {
        match self.parts.as_slice() {
            [Part::Text { text, quoted: false }] => Some(text),
            _ => None,
        }
    }
}

/// A token.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(super) enum Token {
    /// A word.
    Word(Word),
    /// A sign between commands.
    Sign(&'static str),
    /// A redirection; its target is the next word.
    Redirection(&'static str),
    /// The end of a line.
    Line,
    /// The end of the text.
    End,
}

/// Signs between commands, longer ones first.
const SIGNS: [&str; 9] = ["&&", "||", ";;", "|&", ";", "|", "(", ")", "&"];

/// Redirections, longer ones first.
const REDIRECTIONS: [&str; 12] = ["<<<", "<<-", "&>>", "<<", "<&", "<>", "&>", ">>", ">|", ">&", "<", ">"];

/// Takes a text apart.
pub(super) struct Lexer<'a> {
    text: &'a str,
    at: usize,
    /// Ends of the texts behind `<<` that begin on the next line; whether tabs before them are left out.
    awaited: Vec<(String, bool)>,
    /// A word that must follow is such an end.
    end_follows: Option<bool>,
    /// Where a quotation mark or bracket begins that is not closed.
    pub(super) unclosed: Option<usize>,
}

impl<'a> Lexer<'a> {
    pub(super) fn new(text: &'a str) -> Self {
        Self { text, at: 0, awaited: Vec::new(), end_follows: None, unclosed: None }
    }

    /// Place of the next token.
    pub(super) fn at(&self) -> usize {
        self.at
    }

    fn rest(&self) -> &'a str {
        &self.text[self.at..]
    }

    fn peek(&self) -> Option<char> {
        self.rest().chars().next()
    }

    /// The next token.
    pub(super) fn next(&mut self) -> Token {
        loop {
            let rest = self.rest();
            if rest.starts_with("\\\r\n") {
                self.at += 3;
            } else if rest.starts_with("\\\n") {
                self.at += 2;
            } else if rest.starts_with([' ', '\t', '\r']) {
                self.at += 1;
            } else if rest.starts_with('#') {
                self.at += rest.find('\n').unwrap_or(rest.len());
            } else {
                break;
            }
        }
        let rest = self.rest();
        if rest.is_empty() {
            return Token::End;
        }
        if rest.starts_with('\n') {
            self.at += 1;
            self.pass_texts();
            return Token::Line;
        }
        // The number of a file descriptor belongs to the redirection behind it.
        let digits = rest.bytes().take_while(u8::is_ascii_digit).count();
        if digits > 0 && rest[digits..].starts_with(['<', '>']) {
            self.at += digits;
        }
        if let Some(sign) = REDIRECTIONS.into_iter().find(|sign| self.rest().starts_with(sign)) {
            self.at += sign.len();
            self.end_follows = match sign {
                "<<" => Some(false),
                "<<-" => Some(true),
                _ => None,
            };
            return Token::Redirection(sign);
        }
        if let Some(sign) = SIGNS.into_iter().find(|sign| self.rest().starts_with(sign)) {
            self.at += sign.len();
            return Token::Sign(sign);
        }
        let word = self.word();
        if let Some(tabs) = self.end_follows.take() {
            let text = |part: &Part| match part {
                Part::Text { text, .. } => text.clone(),
                Part::Value { name, .. } => format!("${name}"),
                Part::Unknown => String::new(),
            };
            self.awaited.push((word.parts.iter().map(text).collect(), tabs));
        }
        Token::Word(word)
    }

    /// Passes over the texts behind `<<`.
    fn pass_texts(&mut self) {
        let begun = self.at;
        for (end, tabs) in std::mem::take(&mut self.awaited) {
            loop {
                let rest = self.rest();
                if rest.is_empty() {
                    self.unclosed = self.unclosed.or(Some(begun));
                    return;
                }
                let line = rest.split_inclusive('\n').next().unwrap_or_default();
                self.at += line.len();
                let line = line.trim_end_matches(['\n', '\r']);
                if (if tabs { line.trim_start_matches('\t') } else { line }) == end {
                    break;
                }
            }
        }
    }

    fn word(&mut self) -> Word {
        let start = self.at;
        let mut parts = Vec::new();
        let mut text = String::new();
        let end_text = |text: &mut String, parts: &mut Vec<Part>| {
            if !text.is_empty() {
                parts.push(Part::Text { text: std::mem::take(text), quoted: false });
            }
        };
        while let Some(sign) = self.peek() {
            match sign {
                ' ' | '\t' | '\r' | '\n' | ';' | '&' | '|' | '(' | ')' | '<' | '>' => break,
                '\\' => {
                    self.at += 1;
                    if let Some(escaped) = self.peek() {
                        self.at += escaped.len_utf8();
                        if escaped != '\n' {
                            end_text(&mut text, &mut parts);
                            parts.push(Part::Text { text: escaped.to_string(), quoted: true });
                        }
                    }
                }
                '\'' => {
                    end_text(&mut text, &mut parts);
                    let inside = &self.text[self.at + 1..];
                    let length = inside.find('\'').unwrap_or_else(|| {
                        self.unclosed = self.unclosed.or(Some(start));
                        inside.len()
                    });
                    parts.push(Part::Text { text: inside[..length].to_owned(), quoted: true });
                    self.at = (self.at + length + 2).min(self.text.len());
                }
                '"' => {
                    end_text(&mut text, &mut parts);
                    self.at += 1;
                    self.quotation(&mut parts);
                }
                '$' | '`' => {
                    end_text(&mut text, &mut parts);
                    let part = self.value(false);
                    parts.push(part);
                }
                plain => {
                    text.push(plain);
                    self.at += plain.len_utf8();
                }
            }
        }
        end_text(&mut text, &mut parts);
        // Nothing else stops in front of a sign that it does not take.
        if self.at == start {
            self.at += self.peek().map_or(0, char::len_utf8);
        }
        Word { parts, span: start..self.at }
    }

    /// Text between double quotes, the first of which was taken.
    fn quotation(&mut self, parts: &mut Vec<Part>) {
        let mut text = String::new();
        let (before, begun) = (parts.len(), self.at);
        loop {
            match self.peek() {
                None => {
                    self.unclosed = self.unclosed.or(Some(begun));
                    break;
                }
                Some('"') => {
                    self.at += 1;
                    break;
                }
                Some('\\') => {
                    self.at += 1;
                    match self.peek() {
                        Some('\n') => self.at += 1,
                        Some(escaped) => {
                            if !['$', '`', '"', '\\'].contains(&escaped) {
                                text.push('\\');
                            }
                            text.push(escaped);
                            self.at += escaped.len_utf8();
                        }
                        None => {}
                    }
                }
                Some('$' | '`') => {
                    if !text.is_empty() {
                        parts.push(Part::Text { text: std::mem::take(&mut text), quoted: true });
                    }
                    let part = self.value(true);
                    parts.push(part);
                }
                Some(plain) => {
                    text.push(plain);
                    self.at += plain.len_utf8();
                }
            }
        }
        if !text.is_empty() || parts.len() == before {
            parts.push(Part::Text { text, quoted: true });
        }
    }

    /// What begins with `$` or a backtick.
    fn value(&mut self, quoted: bool) -> Part {
        let rest = self.rest();
        if let Some(inside) = rest.strip_prefix('`') {
            let end = inside.find('`').map_or(rest.len(), |end| end + 2);
            if end == rest.len() && !inside.contains('`') {
                self.unclosed = self.unclosed.or(Some(self.at));
            }
            self.at += end;
            return Part::Unknown;
        }
        let behind = &rest[1..];
        if behind.starts_with('(') {
            self.at += 1;
            self.pass_brackets('(', ')');
            return Part::Unknown;
        }
        if let Some(inside) = behind.strip_prefix('{') {
            let start = self.at;
            self.at += 1;
            self.pass_brackets('{', '}');
            let inside = &inside[..(self.at - start).saturating_sub(3).min(inside.len())];
            return braced(inside, quoted);
        }
        let length = match behind.chars().next() {
            Some(first) if first.is_ascii_alphabetic() || first == '_' => {
                behind.bytes().take_while(|one| one.is_ascii_alphanumeric() || *one == b'_').count()
            }
            Some(first) if first.is_ascii_digit() || "@*#?$!-".contains(first) => 1,
            _ => {
                self.at += 1;
                return Part::Text { text: "$".to_owned(), quoted };
            }
        };
        self.at += 1 + length;
        Part::Value { name: behind[..length].to_owned(), otherwise: None, quoted }
    }

    /// Passes over brackets and everything in them; the first one is at hand.
    fn pass_brackets(&mut self, open: char, close: char) {
        let (mut depth, mut quote) = (0usize, None);
        let mut signs = self.rest().char_indices();
        while let Some((at, sign)) = signs.next() {
            match (quote, sign) {
                (Some('\''), one) if one != '\'' => {}
                (_, '\\') => {
                    signs.next();
                }
                (Some(mark), one) if one == mark => quote = None,
                (Some(_), _) => {}
                (None, '\'' | '"') => quote = Some(sign),
                (None, one) if one == open => depth += 1,
                (None, one) if one == close => {
                    depth -= 1;
                    if depth == 0 {
                        self.at += at + close.len_utf8();
                        return;
                    }
                }
                (None, _) => {}
            }
        }
        self.unclosed = self.unclosed.or(Some(self.at));
        self.at = self.text.len();
    }
}

/// `${NAME}`, `${NAME:-text}` and `${NAME:=text}`; the other forms change the value.
fn braced(inside: &str, quoted: bool) -> Part {
    let length = inside.bytes().take_while(|one| one.is_ascii_alphanumeric() || *one == b'_').count();
    let (name, more) = inside.split_at(length);
    let plain = |text: &&str| !text.contains(['$', '`', '"', '\'', '\\', '{']);
    let otherwise =
        ["-", ":-", ":=", "="].iter().rev().find_map(|sign| more.strip_prefix(sign)).filter(plain);
    match (name.is_empty(), more.is_empty(), otherwise) {
        (false, true, _) => Part::Value { name: name.to_owned(), otherwise: None, quoted },
        (false, false, Some(text)) => {
            Part::Value { name: name.to_owned(), otherwise: Some(text.to_owned()), quoted }
        }
        _ => Part::Unknown,
    }
}
