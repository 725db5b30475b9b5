//! Files of statements that end with `;` and blocks in braces (nginx.conf, named.conf).

use crate::reader::LineRecorder;
use trevlin_model::{Export, Limit, LineClass, Origin};

/// Which signs begin a comment besides `#`.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Comments {
    /// None.
    Hash,
    /// `//` and `/* */` as well.
    HashAndSlashes,
}

/// A statement: words, and the block behind them where there is one.
#[derive(Debug, Clone)]
pub(crate) struct Statement<'a> {
    /// Words without their quotes, each a slice of the text.
    pub(crate) words: Vec<&'a str>,
    /// From its first word to its last.
    pub(crate) origin: Origin,
    /// Content of its block.
    pub(crate) block: Option<Vec<Self>>,
}

impl<'a> Statement<'a> {
    /// The first word.
    pub(crate) fn name(&self) -> &'a str {
        self.words.first().copied().unwrap_or_default()
    }

    /// The second word.
    pub(crate) fn value(&self) -> &'a str {
        self.words.get(1).copied().unwrap_or_default()
    }

    /// Arguments after the name.
    pub(crate) fn arguments(&self) -> &[&'a str] {
        self.words.get(1..).unwrap_or_default()
    }

    /// Content of its block; empty where it has none.
    pub(crate) fn children(&self) -> &[Self] {
        self.block.as_deref().unwrap_or_default()
    }

    /// The last statement of a name in its block.
    pub(crate) fn last(&self, name: &str) -> Option<&Self> {
        self.children().iter().rev().find(|one| one.name() == name)
    }
}

enum Token<'a> {
    Word(&'a str),
    End,
    Open,
    Close,
}

/// The statements of a text that is a slice of an export. Unclosed blocks end with the text.
pub(crate) fn statements<'a>(
    export: &'a Export,
    text: &'a str,
    comments: Comments,
    book: &mut LineRecorder<'_>,
) -> Vec<Statement<'a>> {
    let mut stack: Vec<Statement<'a>> = Vec::new();
    let mut top = Vec::new();
    let mut words: Vec<&'a str> = Vec::new();
    let mut at = 0;
    let mut skipped = 0_usize;
    while let Some((token, place)) = next(text, &mut at, comments) {
        match token {
            Token::Word(word) => words.push(word),
            Token::End => {
                if let Some(one) = statement(export, std::mem::take(&mut words), None) {
                    if skipped > 0 {
                        book.class(one.origin, LineClass::NotUnderstood);
                    } else {
                        push(&mut stack, &mut top, one);
                    }
                }
            }
            Token::Open => {
                let taken = std::mem::take(&mut words);
                let nameless = taken.is_empty();
                let mut one = statement(export, taken, Some(Vec::new())).unwrap_or(Statement {
                    words: Vec::new(),
                    origin: export.origin_of(&text[place..=place]),
                    block: Some(Vec::new()),
                });
                // A block without a name is a list within a list.
                if nameless {
                    one.words.push("");
                }
                if stack.len() >= export.limits().of(Limit::Nesting) {
                    if skipped == 0 {
                        book.cut(one.origin, Limit::Nesting, "nested blocks");
                    } else {
                        book.class(one.origin, LineClass::NotUnderstood);
                    }
                    skipped += 1;
                    continue;
                }
                stack.push(one);
            }
            Token::Close => {
                if let Some(one) = statement(export, std::mem::take(&mut words), None) {
                    book.not_understood(one.origin, "expected `;` behind it; the program refuses to start");
                    push(&mut stack, &mut top, one);
                }
                if skipped > 0 {
                    skipped -= 1;
                } else if let Some(done) = stack.pop() {
                    push(&mut stack, &mut top, done);
                } else {
                    let origin = export.origin_of(&text[place..=place]);
                    book.not_understood(
                        origin,
                        "nothing is open that this `}` closes; the program refuses to start",
                    );
                }
            }
        }
    }
    if let Some(one) = statement(export, words, None) {
        book.not_understood(one.origin, "expected `;` behind it; the file breaks off here");
        push(&mut stack, &mut top, one);
    }
    if let Some(open) = stack.last() {
        book.not_understood(open.origin, "its block is never closed; the program refuses to start");
    }
    while let Some(done) = stack.pop() {
        push(&mut stack, &mut top, done);
    }
    top
}

fn push<'a>(stack: &mut [Statement<'a>], top: &mut Vec<Statement<'a>>, one: Statement<'a>) {
    match stack.last_mut().and_then(|open| open.block.as_mut()) {
        Some(block) => block.push(one),
        None => top.push(one),
    }
}

fn statement<'a>(
    export: &Export,
    words: Vec<&'a str>,
    block: Option<Vec<Statement<'a>>>,
) -> Option<Statement<'a>> {
    let (first, last) = (export.origin_of(words.first()?), export.origin_of(words.last()?));
    Some(Statement { words, origin: Origin { end: last.end, ..first }, block })
}

fn next<'a>(text: &'a str, at: &mut usize, comments: Comments) -> Option<(Token<'a>, usize)> {
    let bytes = text.as_bytes();
    loop {
        let rest = &text[*at..];
        let skipped = rest.len() - rest.trim_start().len();
        *at += skipped;
        let rest = &text[*at..];
        let slashes = comments == Comments::HashAndSlashes;
        if rest.starts_with('#') || (slashes && rest.starts_with("//")) {
            *at += rest.find('\n').unwrap_or(rest.len());
        } else if slashes && rest.starts_with("/*") {
            *at += rest.find("*/").map_or(rest.len(), |end| end + 2);
        } else {
            break;
        }
    }
    let start = *at;
    let first = *bytes.get(start)?;
    let token = match first {
        b';' => Token::End,
        b'{' => Token::Open,
        b'}' => Token::Close,
        quote @ (b'"' | b'\'') => {
            let mut end = start + 1;
            while end < bytes.len() && bytes[end] != quote {
                end += if bytes[end] == b'\\' { 2 } else { 1 };
            }
            let end = end.min(bytes.len());
            *at = (end + 1).min(bytes.len());
            return Some((Token::Word(text.get(start + 1..end).unwrap_or_default()), start));
        }
        _ => {
            let mut end = start;
            while end < bytes.len() {
                match bytes[end] {
                    // `${name}` is part of a word.
                    b'{' if end > start && bytes[end - 1] == b'$' => {
                        end = text[end..].find('}').map_or(bytes.len(), |close| end + close);
                    }
                    b';' | b'{' | b'}' => break,
                    byte if byte.is_ascii_whitespace() => break,
                    b'\\' => end += 1,
                    _ => {}
                }
                end += 1;
            }
            let mut end = end.min(bytes.len());
            while !text.is_char_boundary(end) {
                end += 1;
            }
            *at = end;
            return Some((Token::Word(&text[start..end]), start));
        }
    };
    *at = start + 1;
    Some((token, start))
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::reader::Reading;
    use trevlin_model::ExportId;

    fn told(all: &[Statement<'_>]) -> String {
        let one = |one: &Statement<'_>| match &one.block {
            Some(block) => format!("{}({})", one.words.join("|"), told(block)),
            None => one.words.join("|"),
        };
        all.iter().map(one).collect::<Vec<_>>().join("; ")
    }

    fn of(text: &str) -> (String, usize) {
        let export = Export::new(ExportId(0), "f", text.into());
        let mut reading = Reading::of(&export);
        let mut book = LineRecorder::new(&export, &mut reading.ledger, &mut reading.elsewhere);
        let all = statements(&export, export.text(), Comments::HashAndSlashes, &mut book);
        (told(&all), reading.ledger.notes.len())
    }

    #[test]
    fn trees() {
        for (text, wanted, notes) in [
            ("a b 'c d';\n# x;\ne { f g; /* h; */ i; }\n", "a|b|c d; e(f|g; i)", 0),
            ("a ${b}c; // d;\n\"q;\\\"\" {}\n", "a|${b}c; q;\\\"()", 0),
            ("acl { { 10/8; }; ! any; };", "acl((10/8); !|any)", 0),
            ("a { b }\n", "a(b)", 1),
            ("a; }\nb", "a; b", 2),
            ("a {\n", "a()", 1),
            ("a \"é", "a|é", 1),
        ] {
            assert_eq!(of(text), (wanted.to_owned(), notes), "{text}");
        }
    }

    #[test]
    fn deep_nesting_ends() {
        assert_eq!(of(&"a {".repeat(50_000)).1, 2);
    }
}
