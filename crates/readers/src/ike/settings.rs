//! The files of strongSwan's own format (strongswan.conf(5)): nested sections in braces, `key = value` lines, sections that
//! refer to others, and files that are read in.

use crate::reader::{LineRecorder, Open, ReadContext};
use indexmap::{IndexMap, IndexSet};
use trevlin_model::{Export, Limit, LineClass, Origin};

/// How deep references to sections are followed.
const DEPTH: usize = 100;

/// A section, as one file has it.
#[derive(Debug, Default)]
pub(super) struct Section<'a> {
    /// Sections it refers to, by their whole names.
    references: Vec<Vec<&'a str>>,
    values: IndexMap<&'a str, Value<'a>>,
    sections: IndexMap<&'a str, Section<'a>>,
    /// The line that opens it.
    origin: Option<Origin>,
}

/// A `key = value` line.
#[derive(Debug, Clone)]
pub(super) struct Value<'a> {
    pub(super) key: &'a str,
    pub(super) text: String,
    pub(super) origin: Origin,
    /// The value itself.
    pub(super) place: Origin,
}

/// A token of the text.
#[derive(Debug, PartialEq, Eq)]
enum Token<'a> {
    Word(&'a str, usize),
    Quoted(&'a str, usize),
    Sign(char, usize),
    NewLine,
}

/// The tokens of one line. A `#` begins a comment outside of quotes.
fn tokens<'a>(text: &'a str, start: usize, found: &mut Vec<Token<'a>>) {
    let mut at = 0;
    let bytes = text.as_bytes();
    while at < bytes.len() {
        match bytes[at] {
            b'#' => break,
            b' ' | b'\t' | b'\r' => at += 1,
            sign @ (b'{' | b'}' | b'=' | b':' | b',') => {
                found.push(Token::Sign(char::from(sign), start + at));
                at += 1;
            }
            b'"' => {
                let rest = &text[at + 1..];
                let mut end = rest.len();
                let mut escaped = false;
                for (position, byte) in rest.bytes().enumerate() {
                    match byte {
                        _ if escaped => escaped = false,
                        b'\\' => escaped = true,
                        b'"' => {
                            end = position;
                            break;
                        }
                        _ => {}
                    }
                }
                found.push(Token::Quoted(&rest[..end], start + at + 1));
                at += end + 2;
            }
            _ => {
                let signs = |byte: &u8| {
                    matches!(byte, b' ' | b'\t' | b'\r' | b'{' | b'}' | b'=' | b':' | b',' | b'#' | b'"')
                };
                let end = bytes[at..].iter().position(signs).map_or(bytes.len(), |length| at + length);
                found.push(Token::Word(&text[at..end], start + at));
                at = end;
            }
        }
    }
    found.push(Token::NewLine);
}

/// The text of a value: everything up to the end of the line, a comment or a brace.
fn value_text(text: &str) -> (&str, usize) {
    let end = text.find(['#', '}', '\n', '\r']).unwrap_or(text.len());
    (text[..end].trim_end(), end)
}

/// Content of files one after the other, each with the files that it includes. The reader classifies their lines afterwards; lines that do
/// not match the syntax are reported here.
pub(super) fn parse<'a>(
    exports: &[&'a Export],
    around: &ReadContext<'a>,
    book: &mut LineRecorder<'_>,
) -> Section<'a> {
    let mut root = Section::default();
    for export in exports {
        Parser { around, open: vec![export.path()] }.file(export, &mut root, book);
    }
    root
}

struct Parser<'s, 'a> {
    around: &'s ReadContext<'a>,
    open: Vec<&'a str>,
}

impl<'a> Parser<'_, 'a> {
    fn file(&mut self, export: &'a Export, root: &mut Section<'a>, book: &mut LineRecorder<'_>) {
        let mut found = Vec::new();
        for line in export.lines() {
            let start = export.origin_of(line.text).start as usize;
            // A value runs to the end of its line, whatever signs it has.
            tokens(line.text, start, &mut found);
        }
        let mut at = 0;
        self.settings(export, &found, &mut at, root, 0, book);
    }

    /// Settings up to the closing brace of their section, or the end of the file.
    fn settings(
        &mut self,
        export: &'a Export,
        tokens: &[Token<'a>],
        at: &mut usize,
        section: &mut Section<'a>,
        depth: usize,
        book: &mut LineRecorder<'_>,
    ) {
        while let Some(token) = tokens.get(*at) {
            *at += 1;
            match token {
                Token::NewLine => {}
                Token::Sign('}', place) => {
                    book.class(export.origin(*place..*place + 1), LineClass::Understood);
                    if depth > 0 {
                        return;
                    }
                    book.not_understood(
                        export.origin(*place..*place + 1),
                        "a closing brace without its opening one",
                    );
                }
                Token::Word("include", place) if !matches!(tokens.get(*at), Some(Token::Sign('=', _))) => {
                    self.include(export, *place, tokens, at, section, book);
                }
                Token::Word(name, place) => {
                    let origin = export.origin(*place..*place + name.len());
                    match tokens.get(*at) {
                        Some(Token::Sign('=', sign)) => {
                            let value = Self::value(export, *sign + 1, name, *place, tokens, at);
                            // The later one counts, and stands where it stands.
                            section.values.shift_remove(name);
                            section.values.insert(name, value);
                        }
                        _ => {
                            let Some(references) = Self::heading(tokens, at) else {
                                book.not_understood(origin, "expected `key = value` or `section {`");
                                Self::skip_line(tokens, at);
                                continue;
                            };
                            book.class(origin, LineClass::Understood);
                            if depth >= export.limits().of(Limit::Nesting) {
                                let rest = export.origin(*place..export.text().len());
                                book.cut(rest, Limit::Nesting, "nested sections");
                                *at = tokens.len();
                                return;
                            }
                            // A section that is there already is added to.
                            let new = || Section { origin: Some(origin), ..Section::default() };
                            let inner = section.sections.entry(name).or_insert_with(new);
                            inner.references.extend(references);
                            self.settings(export, tokens, at, inner, depth + 1, book);
                        }
                    }
                }
                Token::Quoted(text, place) => {
                    book.not_understood(
                        export.origin(*place..*place + text.len()),
                        "expected `key = value` or `section {`",
                    );
                    Self::skip_line(tokens, at);
                }
                Token::Sign(_, place) => {
                    book.not_understood(
                        export.origin(*place..*place + 1),
                        "expected `key = value` or `section {`",
                    );
                    Self::skip_line(tokens, at);
                }
            }
        }
    }

    fn skip_line(tokens: &[Token<'a>], at: &mut usize) {
        while tokens.get(*at).is_some_and(|token| *token != Token::NewLine) {
            *at += 1;
        }
    }

    /// The value after an equals sign at `start`; moves behind the pieces that it is made of.
    fn value(
        export: &'a Export,
        start: usize,
        key: &'a str,
        key_place: usize,
        tokens: &[Token<'a>],
        at: &mut usize,
    ) -> Value<'a> {
        *at += 1;
        if let Some(Token::Quoted(text, place)) = tokens.get(*at) {
            *at += 1;
            // The closing quotation mark may be missing.
            let end = place + text.len();
            let whole = (end + 1).min(export.text().len());
            let text = text.replace("\\\"", "\"").replace("\\\\", "\\");
            return Value {
                key,
                text,
                origin: export.origin(key_place..whole),
                place: export.origin(*place..end),
            };
        }
        let rest = export.text().get(start..).unwrap_or_default();
        let lead = rest.len() - rest.trim_start_matches([' ', '\t']).len();
        let (text, _) = value_text(&rest[lead..]);
        let (first, end) = (start + lead, start + lead + text.len());
        // Parts of the value are skipped.
        while let Some(token) = tokens.get(*at) {
            match token {
                Token::Word(_, place) | Token::Quoted(_, place) | Token::Sign(_, place) if *place < end => {
                    *at += 1
                }
                _ => break,
            }
        }
        let place = export.origin(first..end);
        Value { key, text: text.to_owned(), origin: export.origin(key_place..end.max(start)), place }
    }

    /// Text between a section's name and its opening brace; `None` where there is no brace.
    fn heading(tokens: &[Token<'a>], at: &mut usize) -> Option<Vec<Vec<&'a str>>> {
        let mut references = Vec::new();
        let mut ahead = *at;
        if matches!(tokens.get(ahead), Some(Token::Sign(':', _))) {
            ahead += 1;
            while let Some(Token::Word(name, _) | Token::Quoted(name, _)) = tokens.get(ahead) {
                references.push(name.split('.').collect());
                ahead += 1;
                if matches!(tokens.get(ahead), Some(Token::Sign(',', _))) {
                    ahead += 1;
                }
            }
        }
        while tokens.get(ahead) == Some(&Token::NewLine) {
            ahead += 1;
        }
        match tokens.get(ahead) {
            Some(Token::Sign('{', _)) => {
                *at = ahead + 1;
                Some(references)
            }
            _ => None,
        }
    }

    fn include(
        &mut self,
        export: &'a Export,
        place: usize,
        tokens: &[Token<'a>],
        at: &mut usize,
        section: &mut Section<'a>,
        book: &mut LineRecorder<'_>,
    ) {
        let rest = export.text().get(place + "include".len()..).unwrap_or_default();
        let (line, _) = value_text(rest);
        let path = line.trim().trim_matches('"');
        Self::skip_line(tokens, at);
        let origin = export.origin(place..place + "include".len() + line.len());
        book.class(origin, LineClass::Understood);
        if let Some(why) = self.around.missing_include(path, export) {
            book.note(origin, why);
        }
        for other in self.around.find_all(path, export) {
            if !book.may_read_in(origin, other, Open::of(&self.open, other), usize::MAX) {
                continue;
            }
            self.open.push(other.path());
            self.file(other, section, book);
            self.open.pop();
        }
    }
}

/// The exports that a line of a file reads in.
pub(super) fn read_in<'a>(line: &str, file: &Export, around: &ReadContext<'a>) -> Vec<&'a Export> {
    let Some(path) = line.trim().strip_prefix("include ") else { return Vec::new() };
    let path = path.split('#').next().unwrap_or_default().trim();
    around.find_all(path.trim_matches('"'), file)
}

/// A section with everything it inherits: the pieces of it, those that decide first.
#[derive(Debug, Clone)]
pub(super) struct View<'s, 'a> {
    root: &'s Section<'a>,
    pieces: Vec<&'s Section<'a>>,
}

impl<'s, 'a> View<'s, 'a> {
    /// The whole file.
    pub(super) fn of(root: &'s Section<'a>) -> Self {
        Self { root, pieces: vec![root] }
    }

    /// The effective value of a key; an empty one selects the default, as if nothing were stated.
    pub(super) fn get(&self, key: &str) -> Option<&'s Value<'a>> {
        let found = self.pieces.iter().find_map(|piece| piece.values.get(key))?;
        (!found.text.is_empty()).then_some(found)
    }

    /// Every key with the value that holds for it, in order.
    pub(super) fn values(&self) -> Vec<&'s Value<'a>> {
        let mut found: IndexMap<&str, &Value<'a>> = IndexMap::new();
        for value in self.pieces.iter().flat_map(|piece| piece.values.values()) {
            found.entry(value.key).or_insert(value);
        }
        found.into_values().filter(|one| !one.text.is_empty()).collect()
    }

    /// A section of it by name, with its own inheritance and that of the sections it inherits from.
    pub(super) fn section(&self, name: &str) -> Option<Self> {
        let mut pieces = Vec::new();
        for piece in &self.pieces {
            if let Some(found) = piece.sections.get(name) {
                self.expand(found, &mut pieces, 0);
            }
        }
        (!pieces.is_empty()).then_some(Self { root: self.root, pieces })
    }

    /// Adds a section and those it refers to.
    fn expand(&self, section: &'s Section<'a>, pieces: &mut Vec<&'s Section<'a>>, depth: usize) {
        if depth > DEPTH || pieces.iter().any(|known| std::ptr::eq(*known, section)) {
            return;
        }
        pieces.push(section);
        for path in &section.references {
            if let Some(found) = by_path(self.root, path) {
                self.expand(found, pieces, depth + 1);
            }
        }
    }

    /// Names of its sections, in order; those it inherits follow its own.
    pub(super) fn names(&self) -> Vec<&'a str> {
        let names = self.pieces.iter().flat_map(|piece| piece.sections.keys().copied());
        names.collect::<IndexSet<&str>>().into_iter().collect()
    }

    /// The line that opens it.
    pub(super) fn origin(&self) -> Option<Origin> {
        self.pieces.iter().find_map(|piece| piece.origin)
    }

    /// References that lead nowhere, with the line of the section that has them.
    pub(super) fn lost_references(&self) -> Vec<(String, Origin)> {
        let mut found = Vec::new();
        Self::lost(self.root, self, &mut found, 0);
        found
    }

    fn lost(section: &Section<'a>, view: &Self, found: &mut Vec<(String, Origin)>, depth: usize) {
        for path in &section.references {
            if let (None, Some(origin)) = (by_path(view.root, path), section.origin) {
                found.push((path.join("."), origin));
            }
        }
        for inner in section.sections.values().filter(|_| depth < DEPTH) {
            Self::lost(inner, view, found, depth + 1);
        }
    }
}

/// The section of a whole name, as the files have it.
fn by_path<'s, 'a>(root: &'s Section<'a>, path: &[&'a str]) -> Option<&'s Section<'a>> {
    path.iter().try_fold(root, |section, name| section.sections.get(name))
}

/// Calls `tell` for every value of a file with the names of its sections.
pub(super) fn each_value<'a>(root: &Section<'a>, tell: &mut impl FnMut(&[&'a str], &Value<'a>)) {
    fn walk<'a>(
        section: &Section<'a>,
        within: &mut Vec<&'a str>,
        tell: &mut impl FnMut(&[&'a str], &Value<'a>),
    ) {
        section.values.values().for_each(|value| tell(within, value));
        for (name, inner) in &section.sections {
            within.push(name);
            walk(inner, within, tell);
            within.pop();
        }
    }
    walk(root, &mut Vec::new(), tell);
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::reader::Reading;
    use trevlin_model::ExportId;

    /// The values that hold, as `section.key=text`.
    fn held(view: &View<'_, '_>, name: &str, told: &mut Vec<String>) {
        told.extend(view.values().iter().map(|one| format!("{name}{}={}", one.key, one.text)));
        for inner in view.names() {
            held(&view.section(inner).unwrap(), &format!("{name}{inner}."), told);
        }
    }

    fn of(text: &str) -> (String, usize) {
        let export = Export::new(ExportId(0), "d/swanctl.conf", text.into());
        let mut reading = Reading::of(&export);
        let mut book = LineRecorder::new(&export, &mut reading.ledger, &mut reading.elsewhere);
        let around = ReadContext::of(vec![&export]);
        let root = parse(&[&export], &around, &mut book);
        let mut told = Vec::new();
        held(&View::of(&root), "", &mut told);
        (told.join(" "), reading.ledger.notes.len())
    }

    #[test]
    fn what_holds() {
        for (text, wanted) in [
            ("a = 1\nb { c = 2 } # x = 3\n", "a=1 b.c=2"),
            ("b\n{\n c = 2\n}\nb { d = 3\n c = 4 }\n", "b.d=3 b.c=4"),
            ("a = \"x # \\\"y\\\" }\" \nb = p, q/r:s = t # no\n", "a=x # \"y\" } b=p, q/r:s = t"),
            (
                "base { x = 1\n y = 1\n in { z = 1 } }\nown : base { y = 2 }\n",
                "base.x=1 base.y=1 base.in.z=1 own.y=2 own.x=1 own.in.z=1",
            ),
            ("base { x = 1 }\nown : base { x = \n}\n", "base.x=1"),
            ("a { b { x = 1 } }\nc : a.b, a { }\n", "a.b.x=1 c.x=1 c.b.x=1"),
            ("a { in { x = 1 } }\nb : a { in { x = 2\n y = 3 } }\n", "a.in.x=1 b.in.x=2 b.in.y=3"),
            ("a : b { }\nb : a { x = 1 }\n", "a.x=1 b.x=1"),
        ] {
            assert_eq!(of(text), (wanted.to_owned(), 0), "{text}");
        }
    }

    #[test]
    fn what_is_no_line() {
        for text in ["a { b\n c = 1 }\n", "}\na = 1\n", "\"x\"\n", "= 2\n"] {
            assert_eq!(of(text).1, 1, "{text}");
        }
        let deep = "a {\n".repeat(100);
        assert_eq!(of(&deep).1, 1);
        // A circle of references ends at the depth limit.
        let export = Export::new(ExportId(0), "d/x", "a : a { a : a { x = 1 } }\n".into());
        let mut reading = Reading::of(&export);
        let mut book = LineRecorder::new(&export, &mut reading.ledger, &mut reading.elsewhere);
        let root = parse(&[&export], &ReadContext::default(), &mut book);
        let mut view = View::of(&root);
        for _ in 0..50 {
            view = view.section("a").unwrap();
        }
        assert!(view.get("x").is_some());
    }
}
