//! JSON as a tree of slices, so that each value has its place in the export; truncated JSON is read up to the error.

use crate::reader::LineRecorder;
use serde_json::value::RawValue;
use std::borrow::Cow;
use std::collections::BTreeMap;
use trevlin_model::{Export, Limit, LineClass, Origin};

/// Complete JSON of an export. For broken JSON, the part before the error, with open brackets closed.
#[derive(Debug)]
pub(crate) struct Source<'a> {
    export: &'a Export,
    text: Cow<'a, str>,
    /// The first error, if any.
    pub(crate) broken: Option<Broken>,
}

/// Where JSON is broken.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) struct Broken {
    /// The byte from which on nothing is read.
    pub(crate) offset: usize,
    /// Bytes up to the end of the last value that is whole.
    kept: usize,
    /// Whether the text ends there.
    pub(crate) ends: bool,
}

impl<'a> Source<'a> {
    /// The JSON of an export: one document or several, one behind the other.
    pub(crate) fn of(export: &'a Export) -> Self {
        Self::of_text(export, Cow::Borrowed(export.text()))
    }

    /// The same for a text in which every byte is at its position in the export.
    pub(crate) fn of_text(export: &'a Export, text: Cow<'a, str>) -> Self {
        let mut documents = serde_json::Deserializer::from_str(&text).into_iter::<serde::de::IgnoredAny>();
        if documents.all(|one| one.is_ok()) {
            return Self { export, text, broken: None };
        }
        let (mended, broken) = mended(&text);
        Self { export, text: Cow::Owned(mended), broken: Some(broken) }
    }

    /// The text.
    pub(crate) fn text(&self) -> &str {
        &self.text
    }

    /// The place in the export of a slice of the text.
    pub(crate) fn origin(&self, slice: &str) -> Origin {
        let start = (slice.as_ptr() as usize).wrapping_sub(self.text.as_ptr() as usize);
        let last = self.broken.map_or(self.export.text().len(), |broken| broken.offset);
        if start > self.text.len() {
            return self.export.origin(0..0);
        }
        self.export.origin(start.min(last)..(start + slice.len()).min(last))
    }

    /// Whether a slice of the text is complete.
    pub(crate) fn holds(&self, slice: &str) -> bool {
        let end =
            (slice.as_ptr() as usize).wrapping_sub(self.text.as_ptr() as usize).saturating_add(slice.len());
        self.broken.is_none_or(|broken| end <= broken.kept)
    }

    /// Marks everything up to the error as understood, and reports the rest.
    pub(crate) fn settle(&self, book: &mut LineRecorder<'_>, consequence: &str) {
        let end = self.broken.map_or(self.export.text().len(), |broken| broken.offset);
        book.class(self.export.origin(0..end.max(1)), LineClass::Understood);
        if let Some(broken) = self.broken {
            book.class(self.export.origin(broken.offset..self.export.text().len()), LineClass::NotUnderstood);
            book.note(self.export.origin(broken.offset..broken.offset), broken.words(consequence));
        }
    }
}

impl Broken {
    /// For people, with what follows for the program whose file it is.
    pub(crate) fn words(self, consequence: &str) -> String {
        let what = if self.ends { "the JSON is truncated here" } else { "the JSON is invalid here" };
        let remedy = if self.ends { "; please export it again" } else { "" };
        let comma = if consequence.is_empty() { "" } else { ", " };
        format!("{what}; what precedes it was read{comma}{consequence}{remedy}")
    }
}

/// Next element that the JSON grammar permits.
#[derive(Clone, Copy, PartialEq, Eq)]
enum Next {
    Value,
    ValueOrEnd,
    Key,
    KeyOrEnd,
    Colon,
    CommaOrEnd,
}

/// The longest beginning of a text after which everything can be closed, with what closes it; and where the text is broken.
fn mended(text: &str) -> (String, Broken) {
    let bytes = text.as_bytes();
    let mut open: Vec<u8> = Vec::new();
    let mut next = Next::Value;
    // The stack of open brackets changes only at complete values and opening brackets, where it can be closed.
    let (mut good, mut at) = (0, 0);
    let is_whole = |slice: &str| serde_json::from_str::<serde::de::IgnoredAny>(slice).is_ok();
    while at < bytes.len() {
        let byte = bytes[at];
        if byte.is_ascii_whitespace() {
            at += 1;
            continue;
        }
        let value = matches!(next, Next::Value | Next::ValueOrEnd);
        match byte {
            b'{' | b'[' if value => {
                open.push(byte);
                next = if byte == b'{' { Next::KeyOrEnd } else { Next::ValueOrEnd };
                at += 1;
                good = at;
                continue;
            }
            b'}' if matches!(next, Next::KeyOrEnd | Next::CommaOrEnd) && open.last() == Some(&b'{') => {
                at += 1
            }
            b']' if matches!(next, Next::ValueOrEnd | Next::CommaOrEnd) && open.last() == Some(&b'[') => {
                at += 1
            }
            b',' if next == Next::CommaOrEnd && !open.is_empty() => {
                next = if open.last() == Some(&b'{') { Next::Key } else { Next::Value };
                at += 1;
                continue;
            }
            b':' if next == Next::Colon => {
                next = Next::Value;
                at += 1;
                continue;
            }
            _ => {
                let length = scalar(&bytes[at..]);
                let is_key = matches!(next, Next::Key | Next::KeyOrEnd) && byte == b'"';
                // A word or a number that ends with the text may go on.
                let may_go_on = at + length == bytes.len() && byte != b'"';
                let fits = (value || is_key) && !may_go_on && text.get(at..at + length).is_some_and(is_whole);
                if !fits {
                    break;
                }
                at += length;
                if is_key {
                    next = Next::Colon;
                    continue;
                }
                good = at;
                next = if open.is_empty() { Next::Value } else { Next::CommaOrEnd };
                continue;
            }
        }
        open.pop();
        good = at;
        next = if open.is_empty() { Next::Value } else { Next::CommaOrEnd };
    }
    let close = open.iter().rev().map(|one| if *one == b'{' { '}' } else { ']' });
    let mended = text[..good].chars().chain(close).collect();
    let ends = text[at.min(text.len())..].trim().is_empty() || runs_out(&bytes[at.min(bytes.len())..]);
    // Incomplete values belong to the part that is not read.
    let offset =
        good + text[good..].len() - text[good..].trim_start_matches([' ', '\t', '\r', '\n', ',']).len();
    let offset = if offset < text.len() { offset } else { text.trim_end().len().saturating_sub(1) };
    (mended, Broken { offset, kept: good, ends })
}

/// Bytes of a string, a number or a word that begins here.
fn scalar(bytes: &[u8]) -> usize {
    if bytes.first() != Some(&b'"') {
        let ends = |byte: &u8| byte.is_ascii_whitespace() || b",:[]{}\"".contains(byte);
        return bytes.iter().position(ends).unwrap_or(bytes.len());
    }
    let mut at = 1;
    while at < bytes.len() && bytes[at] != b'"' {
        at += if bytes[at] == b'\\' { 2 } else { 1 };
    }
    (at + 1).min(bytes.len())
}

/// Whether a string, a number or a word that begins here has no end.
fn runs_out(bytes: &[u8]) -> bool {
    scalar(bytes) == bytes.len() && !(bytes.len() > 1 && bytes.ends_with(b"\""))
}

/// One value.
#[derive(Debug)]
pub(crate) struct Json<'a> {
    /// Its text, quotes and brackets included.
    pub(crate) slice: &'a str,
    /// Its place.
    pub(crate) origin: Origin,
    members: BTreeMap<String, Self>,
    elements: Vec<Self>,
    /// Whether it is nested too deeply to be followed.
    cut: bool,
    whole: bool,
}

/// The document of an export, as far as it can be read, and where it is broken.
pub(crate) fn parse(export: &Export) -> (Json<'_>, Option<Broken>) {
    let source = Source::of(export);
    let mut documents = serde_json::Deserializer::from_str(source.text()).into_iter::<&RawValue>();
    let raw = documents.next().and_then(Result::ok).map_or("", RawValue::get);
    let end = documents.byte_offset();
    let one = value(&source, raw, 0);
    // Exactly one document is expected.
    let more = raw.is_empty() || !source.text()[end..].trim().is_empty();
    let begins = source.text()[end..].len() - source.text()[end..].trim_start().len() + end;
    (
        one,
        source.broken.or(more.then_some(Broken {
            offset: begins.min(export.text().len()),
            kept: end,
            ends: raw.is_empty(),
        })),
    )
}

/// The documents of an export, one behind the other, as far as they can be read, and where they are broken.
pub(crate) fn parse_all(export: &Export) -> (Vec<Json<'_>>, Option<Broken>) {
    let source = Source::of(export);
    let documents = serde_json::Deserializer::from_str(source.text()).into_iter::<&RawValue>();
    let found = documents.map_while(Result::ok).map(|raw| value(&source, raw.get(), 0)).collect();
    (found, source.broken)
}

fn value<'a>(source: &Source<'a>, raw: &str, depth: usize) -> Json<'a> {
    let origin = source.origin(raw);
    let slice = source.export.text_at(origin);
    let mut one = Json {
        slice,
        origin,
        members: BTreeMap::new(),
        elements: Vec::new(),
        cut: false,
        whole: source.holds(raw),
    };
    if depth >= source.export.limits().of(Limit::Nesting) {
        one.cut = raw.starts_with(['{', '[']) && raw.len() > 2;
        return one;
    }
    if raw.starts_with('{') {
        let members: BTreeMap<Cow<'_, str>, &RawValue> = serde_json::from_str(raw).unwrap_or_default();
        let member =
            |(key, raw): (Cow<'_, str>, &RawValue)| (key.into_owned(), value(source, raw.get(), depth + 1));
        one.members = members.into_iter().map(member).collect();
    } else if raw.starts_with('[') {
        let elements: Vec<&RawValue> = serde_json::from_str(raw).unwrap_or_default();
        one.elements = elements.into_iter().map(|raw| value(source, raw.get(), depth + 1)).collect();
    }
    one
}

impl<'a> Json<'a> {
    /// The members of an object, in order of name.
    pub(crate) fn members(&self) -> impl Iterator<Item = (&str, &Self)> {
        self.members.iter().map(|(name, value)| (name.as_str(), value))
    }

    /// The elements of an array.
    pub(crate) fn elements(&self) -> &[Self] {
        &self.elements
    }

    /// A member of an object.
    pub(crate) fn get(&self, name: &str) -> Option<&Self> {
        self.members.get(name)
    }

    /// Whether it is complete.
    pub(crate) fn is_whole(&self) -> bool {
        self.whole
    }

    /// Places in it that are nested deeper than values are followed.
    pub(crate) fn cuts(&self) -> Vec<Origin> {
        let within = self.members.values().chain(&self.elements);
        self.cut.then_some(self.origin).into_iter().chain(within.flat_map(Self::cuts)).collect()
    }

    /// Reports content nested deeper than values are followed, and returns whether there is any.
    pub(crate) fn tell_cuts(&self, book: &mut LineRecorder<'_>) -> bool {
        let cuts = self.cuts();
        cuts.iter().for_each(|origin| book.cut(*origin, Limit::Nesting, "nested values"));
        !cuts.is_empty()
    }

    /// The elements of a member that is an array.
    pub(crate) fn list(&self, name: &str) -> &[Self] {
        self.get(name).map_or(&[], |one| one.elements.as_slice())
    }

    /// The text of a member that is a string.
    pub(crate) fn text(&self, name: &str) -> Option<String> {
        self.get(name)?.text_of()
    }

    /// The number of a member that is one.
    pub(crate) fn number(&self, name: &str) -> Option<i64> {
        self.get(name)?.number_of()
    }

    /// The text of a string.
    pub(crate) fn text_of(&self) -> Option<String> {
        serde_json::from_str(self.slice).ok()
    }

    /// The value of a number.
    pub(crate) fn number_of(&self) -> Option<i64> {
        self.slice.parse().ok()
    }

    /// Whether it is the word `true`.
    pub(crate) fn is_true(&self) -> bool {
        self.slice == "true"
    }

    /// Whether it is the word `false`.
    pub(crate) fn is_false(&self) -> bool {
        self.slice == "false"
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use trevlin_model::ExportId;

    #[test]
    fn values_know_their_place() {
        let export =
            Export::new(ExportId(0), "x", "{\"a\": [1, {\"b\": \"c\\u0064\"}], \"e\": true}\n".into());
        let (top, broken) = parse(&export);
        assert_eq!(broken, None);
        let inner = &top.list("a")[1];
        assert_eq!((inner.text("b").as_deref(), inner.origin.start), (Some("cd"), 10));
        assert!(top.get("e").unwrap().is_true() && top.list("a")[0].number_of() == Some(1));
    }

    #[test]
    fn broken_and_deep_ones_end() {
        let export = |text: String| Export::new(ExportId(0), "x", text);
        let deep = export(format!("{}{}", "[".repeat(60), "]".repeat(60)));
        assert_eq!(parse(&deep).0.cuts(), [deep.origin(32..88)]);
        assert!(parse(&export("[".repeat(100_000))).1.is_some());
    }

    #[test]
    fn what_stands_before_a_fault_is_kept() {
        for (text, wanted, offset, ends) in [
            ("{\"a\": [1, 2", "{\"a\": [1]}", 9, true),
            ("{\"a\": [1, \"b", "{\"a\": [1]}", 9, true),
            ("{\"a\": {\"b\": tru", "{\"a\": {}}", 7, true),
            ("{\"a\": 1, \"b\" 2, \"c\": 3}", "{\"a\": 1}", 7, false),
            ("[{\"a\": 1},", "[{\"a\": 1}]", 9, true),
            ("[1, ], 2]", "[1]", 2, false),
            ("{\n\"a\": ]", "{}", 2, false),
            ("[1]\n[2, x]", "[1]\n[2]", 6, false),
            ("]", "", 0, false),
            ("\"a", "", 0, true),
        ] {
            let export = Export::new(ExportId(0), "x", text.into());
            let source = Source::of(&export);
            let broken = source.broken.unwrap();
            assert_eq!((source.text(), broken.ends), (wanted, ends), "{text}");
            assert!(broken.offset >= offset && broken.offset <= offset + 2, "{text}: {}", broken.offset);
        }
    }

    #[test]
    fn places_of_what_is_mended_lie_in_the_export() {
        let export = Export::new(ExportId(0), "x", "{\"a\": {\"b\": \"c\", \"d".into());
        let (top, broken) = parse(&export);
        let inner = top.get("a").unwrap();
        assert_eq!(inner.text("b").as_deref(), Some("c"));
        assert!(inner.origin.end as usize <= export.text().len() && broken.unwrap().ends);
    }
}
