//! The text of a pattern: its pieces, and how they are written.

use super::value::{Captures, Kind};
use std::collections::BTreeMap;

/// Elements of a pattern.
#[derive(Debug, Clone, PartialEq)]
pub(super) enum Piece {
    Literal(String),
    Capture(usize, Kind),
    /// A word that is cut at fixed texts.
    Inside(Vec<Cut>),
    Optional(Vec<Piece>),
    /// One or more times. Each repetition of a group in round brackets lands by itself.
    Repeated(Vec<Piece>, Repeats),
    /// A group in round brackets, with its alternatives.
    Choice(Vec<Vec<Piece>>),
}

/// Kind of a repeated piece.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum Repeats {
    /// A capture: its values are a list.
    Value,
    /// A group.
    Group,
}

/// Part of a word.
#[derive(Debug, Clone, PartialEq)]
pub(super) enum Cut {
    Text(String),
    Take(usize, Kind),
}

/// Maximum nesting of brackets.
const DEPTH: usize = 8;
/// How many pieces a pattern may have.
const PIECES: usize = 400;

/// Reads the text of a pattern. Captures are numbered on from those that are known; `maps` are names of value maps.
///
/// # Errors
/// A description of the syntax error.
pub(super) fn parse(
    text: &str,
    captures: &mut Captures,
    maps: &BTreeMap<String, usize>,
) -> Result<Vec<Piece>, String> {
    let tokens = tokens(text)?;
    if tokens.len() > PIECES {
        return Err(format!("this pattern has more than {PIECES} pieces"));
    }
    let pieces = Parser { tokens: &tokens, at: 0, captures, maps }.sequence(0, &[])?;
    if pieces.is_empty() {
        return Err("this pattern is empty".into());
    }
    if nullable(&pieces) {
        return Err(
            "this pattern matches a statement without words; at least one word must be fixed or captured"
                .into(),
        );
    }
    Ok(pieces)
}

fn nullable(pieces: &[Piece]) -> bool {
    pieces.iter().all(|piece| match piece {
        Piece::Optional(_) => true,
        Piece::Repeated(inner, _) => nullable(inner),
        Piece::Choice(all) => all.iter().any(|one| nullable(one)),
        _ => false,
    })
}

/// Pieces of a pattern's text.
#[derive(Debug, Clone, PartialEq)]
enum Token {
    Word(String),
    Capture(String),
    /// Several of these without blanks between them: parts of one word.
    Inside(Vec<Token>),
    Open(char),
    Close(char),
    Bar,
    More,
}

fn tokens(text: &str) -> Result<Vec<Token>, String> {
    let mut found: Vec<Token> = Vec::new();
    let mut rest = text.trim_start();
    // Whether a blank, or a sign of the pattern, stands before what follows.
    let mut apart = true;
    while let Some(first) = rest.chars().next() {
        let mut length = first.len_utf8();
        let mut part = None;
        match first {
            _ if rest.starts_with("...") => {
                found.push(Token::More);
                length = 3;
            }
            '{' => {
                let end = rest.find('}').ok_or("`{` is not closed by `}`")?;
                part = Some(Token::Capture(rest[1..end].trim().to_owned()));
                length = end + 1;
            }
            '[' | '(' => found.push(Token::Open(first)),
            ']' | ')' => found.push(Token::Close(first)),
            '|' => found.push(Token::Bar),
            '"' => {
                let end = rest[1..].find('"').ok_or("a quote is not closed")? + 1;
                part = Some(Token::Word(rest[1..end].to_owned()));
                length = end + 1;
            }
            _ => {
                let ends = |letter: char| letter.is_whitespace() || "{}[]()|\"".contains(letter);
                length = rest.find(ends).unwrap_or(rest.len());
                if length == 0 {
                    return Err("`}` without `{`".into());
                }
                // A comma behind a word separates words, as in a statement.
                let word = match rest[length..].chars().next() {
                    Some(next) if !next.is_whitespace() => &rest[..length],
                    _ => rest[..length].trim_end_matches(','),
                };
                if !word.is_empty() {
                    part = Some(Token::Word(word.to_owned()));
                }
            }
        }
        let is_part = part.is_some();
        if let Some(part) = part {
            let before = if apart { None } else { found.pop() };
            found.push(match before {
                Some(Token::Inside(mut all)) => {
                    all.push(part);
                    Token::Inside(all)
                }
                Some(one) => Token::Inside(vec![one, part]),
                None => part,
            });
        }
        let after = rest[length..].trim_start();
        apart = !is_part || after.len() < rest.len() - length;
        rest = after;
    }
    Ok(found)
}

struct Parser<'a> {
    tokens: &'a [Token],
    at: usize,
    captures: &'a mut Captures,
    maps: &'a BTreeMap<String, usize>,
}

impl Parser<'_> {
    fn sequence(&mut self, depth: usize, ends: &[Token]) -> Result<Vec<Piece>, String> {
        if depth > DEPTH {
            return Err(format!("brackets are nested deeper than {DEPTH} levels"));
        }
        let mut pieces: Vec<Piece> = Vec::new();
        while let Some(token) = self.tokens.get(self.at) {
            if ends.contains(token) {
                return Ok(pieces);
            }
            self.at += 1;
            let piece = match token {
                Token::Word(word) => Piece::Literal(word.clone()),
                Token::Capture(text) => {
                    let (number, kind) = self.capture(text)?;
                    Piece::Capture(number, kind)
                }
                Token::Inside(parts) => self.inside(parts)?,
                Token::Open('[') => {
                    let mut all = self.choice(depth, ']')?;
                    Piece::Optional(if all.len() == 1 {
                        all.swap_remove(0)
                    } else {
                        vec![Piece::Choice(all)]
                    })
                }
                Token::Open(_) => Piece::Choice(self.choice(depth, ')')?),
                Token::More => {
                    let last = pieces.pop().ok_or("`...` has nothing before it to repeat")?;
                    let repeats = match last {
                        Piece::Literal(_) => {
                            return Err("`...` repeats a capture or a group in round brackets".into());
                        }
                        Piece::Choice(_) => Repeats::Group,
                        _ => Repeats::Value,
                    };
                    if nullable(std::slice::from_ref(&last)) {
                        return Err("`...` would repeat an empty match".into());
                    }
                    Piece::Repeated(vec![last], repeats)
                }
                Token::Close(sign) => return Err(format!("`{sign}` closes nothing")),
                Token::Bar => return Err("`|` separates alternatives in brackets".into()),
            };
            pieces.push(piece);
        }
        match ends.first() {
            Some(_) => Err("a bracket is not closed".into()),
            None => Ok(pieces),
        }
    }

    /// Content of brackets, up to the closing one.
    fn choice(&mut self, depth: usize, close: char) -> Result<Vec<Vec<Piece>>, String> {
        let mut all = Vec::new();
        loop {
            let one = self.sequence(depth + 1, &[Token::Close(close), Token::Bar])?;
            if one.is_empty() {
                return Err("nothing is between these brackets or bars".into());
            }
            all.push(one);
            let end = self.tokens.get(self.at).cloned();
            self.at += 1;
            if end != Some(Token::Bar) {
                return Ok(all);
            }
        }
    }

    /// A word of several parts.
    fn inside(&mut self, parts: &[Token]) -> Result<Piece, String> {
        let mut cuts: Vec<Cut> = Vec::new();
        for part in parts {
            match (part, cuts.last_mut()) {
                (Token::Word(text), Some(Cut::Text(before))) => before.push_str(text),
                (Token::Word(text), _) => cuts.push(Cut::Text(text.clone())),
                (Token::Capture(text), Some(Cut::Take(..))) => {
                    return Err(format!(
                        "`{{{text}}}` follows another capture without a blank; a text between the two shows where the first ends"
                    ));
                }
                (Token::Capture(text), _) => {
                    let (number, kind) = self.capture(text)?;
                    if kind.words() != Some(1) {
                        return Err(format!(
                            "`{{{text}}}` takes more than one word, so it cannot be part of one"
                        ));
                    }
                    cuts.push(Cut::Take(number, kind));
                }
                _ => {}
            }
        }
        Ok(match cuts.as_slice() {
            [Cut::Text(text)] => Piece::Literal(text.clone()),
            _ => Piece::Inside(cuts),
        })
    }

    fn capture(&mut self, text: &str) -> Result<(usize, Kind), String> {
        let (name, kind) =
            text.split_once(':').map_or((text, "word"), |(name, kind)| (name.trim(), kind.trim()));
        if name.is_empty()
            || !name.chars().all(|letter| letter.is_alphanumeric() || letter == '-' || letter == '_')
        {
            return Err(format!("`{{{text}}}`: a capture has a name of letters, digits, `-` and `_`"));
        }
        let kind = Kind::parse(kind, self.maps).map_err(|why| format!("`{{{text}}}`: {why}"))?;
        if let Some(at) = self.captures.iter().position(|(known, _)| known == name) {
            if self.captures[at].1 != kind {
                return Err(format!("`{name}` is captured twice, with different types"));
            }
            return Ok((at, kind));
        }
        self.captures.push((name.to_owned(), kind.clone()));
        Ok((self.captures.len() - 1, kind))
    }
}
