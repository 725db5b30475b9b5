//! JSON of the `ip` command: `ip -j addr show`, `ip -j -d link show` and `ip -j route show`, pretty or not, one document or several.
//!
//! Format: ip(8) `-json`; ip-address(8), ip-route(8). Fields that Trevlin does not use are passed over.

mod address;
mod link;
mod route;

pub(crate) use address::READER as ADDRESSES;
pub(crate) use link::READER as LINKS;
pub(crate) use route::READER as ROUTES;

use crate::reader::{Bookkeeper, Recognition};
use serde::de::{DeserializeSeed, Deserializer, SeqAccess, Visitor};
use serde_json::value::RawValue;
use trevlin_model::{Export, LineClass, Origin};

/// What the parser found wrong, with the place.
struct Broken {
    offset: usize,
    text: String,
}

/// The elements of every array in a text, each as the slice that holds it, and what stopped the reading.
/// What stands before the fault is kept.
fn elements(text: &str) -> (Vec<&RawValue>, Option<Broken>) {
    let mut found = Vec::new();
    let mut at = 0;
    while !text[at..].trim().is_empty() {
        let rest = &text[at..];
        let mut stream = serde_json::Deserializer::from_str(rest).into_iter::<&RawValue>();
        match stream.next() {
            Some(Ok(whole)) => {
                let inner =
                    Elements(&mut found).deserialize(&mut serde_json::Deserializer::from_str(whole.get()));
                if inner.is_err() {
                    return (found, Some(Broken { offset: at, text: "expected a JSON array".into() }));
                }
                at += stream.byte_offset();
            }
            Some(Err(_)) | None => {
                // The array is broken somewhere: take the elements before the fault.
                let mut parser = serde_json::Deserializer::from_str(rest);
                let error = Elements(&mut found).deserialize(&mut parser).err();
                let (line, column) = error.as_ref().map_or((1, 1), |error| (error.line(), error.column()));
                let before: usize =
                    rest.split_inclusive('\n').take(line.saturating_sub(1)).map(str::len).sum();
                let text = if error.is_some_and(|error| error.is_eof()) {
                    "the JSON breaks off here; what stands before it was read, export it again".into()
                } else {
                    "the JSON is broken here; what stands before it was read".into()
                };
                let offset =
                    at + (before + column.saturating_sub(1)).min(rest.trim_end().len().saturating_sub(1));
                return (found, Some(Broken { offset, text }));
            }
        }
    }
    (found, None)
}

/// Pushes the elements of an array, so that those before a fault are kept.
struct Elements<'l, 'de>(&'l mut Vec<&'de RawValue>);

impl<'de> DeserializeSeed<'de> for Elements<'_, 'de> {
    type Value = ();

    fn deserialize<D: Deserializer<'de>>(self, deserializer: D) -> Result<(), D::Error> {
        deserializer.deserialize_seq(self)
    }
}

impl<'de> Visitor<'de> for Elements<'_, 'de> {
    type Value = ();

    fn expecting(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str("an array")
    }

    fn visit_seq<A: SeqAccess<'de>>(self, mut sequence: A) -> Result<(), A::Error> {
        while let Some(element) = sequence.next_element()? {
            self.0.push(element);
        }
        Ok(())
    }
}

/// Content is told by the names of fields near the start.
fn recognise(export: &Export, fields: [&str; 2], names: [&str; 2]) -> Recognition {
    let text = export.text().trim_start();
    let mut end = text.len().min(8192);
    while !text.is_char_boundary(end) {
        end -= 1;
    }
    let head = &text[..end];
    if head.starts_with('[') && fields.iter().all(|field| head.contains(field)) {
        return Recognition::Content;
    }
    let name = export.file_name();
    let named = name.ends_with(".json") && names.iter().any(|part| name.contains(part));
    if named && head.starts_with('[') { Recognition::Name } else { Recognition::No }
}

/// Marks the whole text understood, then what was broken.
fn settle(export: &Export, book: &mut Bookkeeper<'_>, broken: Option<Broken>) {
    let end = broken.as_ref().map_or(export.text().len(), |broken| broken.offset);
    book.class(export.origin(0..end.max(1)), LineClass::Understood);
    if let Some(broken) = broken {
        let rest = export.origin(broken.offset..export.text().len());
        book.class(rest, LineClass::NotUnderstood);
        book.note(export.origin(broken.offset..broken.offset), broken.text);
    }
}

/// The place of a slice of the text that holds a JSON string, without its quotes.
fn inside_quotes(export: &Export, raw: &RawValue) -> Origin {
    export.origin_of(raw.get().trim_matches('"'))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn elements_before_a_fault_are_kept() {
        for (text, count, at) in [
            ("[{\"a\":1},{}]\n[{}]\n", 3, None),
            ("[]", 0, None),
            ("", 0, None),
            ("[{\"a\":1},\n{\"b\":", 1, Some(14)),
            ("[{\"a\":1},\n{\"b\" 2}]\n", 1, Some(15)),
            ("{\"a\":1}", 0, Some(0)),
        ] {
            let (found, broken) = elements(text);
            assert_eq!(found.len(), count, "{text}");
            assert_eq!(broken.map(|broken| broken.offset), at, "{text}");
        }
    }
}
