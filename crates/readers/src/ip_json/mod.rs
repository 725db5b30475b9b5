//! JSON of the `ip` command: `ip -j addr show`, `ip -j -d link show` and `ip -j route show`, pretty or not, one document or several.
//!
//! Format: ip(8) `-json`; ip-address(8), ip-route(8). Fields that Trevlin does not use are passed over.

pub(crate) mod address;
pub(crate) mod link;
pub(crate) mod route;

use crate::json::Source;
use crate::reader::{LineRecorder, Recognition};
use serde::de::{DeserializeSeed, Deserializer, SeqAccess, Visitor};
use serde_json::value::RawValue;
use trevlin_model::{Export, LineClass, Origin};

/// The elements of every array in a text, each as the slice that holds it, and a document that is no array.
fn elements<'s>(source: &'s Source<'_>) -> (Vec<&'s RawValue>, Option<Origin>) {
    let mut found = Vec::new();
    let documents = serde_json::Deserializer::from_str(source.text()).into_iter::<&RawValue>();
    for whole in documents.map_while(Result::ok) {
        if Elements(&mut found).deserialize(&mut serde_json::Deserializer::from_str(whole.get())).is_err() {
            return (found, Some(source.origin(whole.get())));
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

/// Recognises the content by the names of fields near the start.
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

/// Complete entries: the missing part of an incomplete route may be its destination.
fn whole<'s>(source: &Source<'_>, all: Vec<&'s RawValue>, book: &mut LineRecorder<'_>) -> Vec<&'s RawValue> {
    let (kept, lost): (Vec<_>, Vec<_>) = all.into_iter().partition(|raw| source.holds(raw.get()));
    lost.into_iter().for_each(|raw| book.class(source.origin(raw.get()), LineClass::NotUnderstood));
    kept
}

/// Marks the whole text as understood, then the broken parts.
fn settle(source: &Source<'_>, book: &mut LineRecorder<'_>, no_array: Option<Origin>) {
    source.settle(book, "");
    if let Some(origin) = no_array {
        book.not_understood(origin, "expected a JSON array");
    }
}

/// The place of a slice of the text that holds a JSON string, without its quotes.
fn inside_quotes(source: &Source<'_>, raw: &RawValue) -> Origin {
    source.origin(raw.get().trim_matches('"'))
}

#[cfg(test)]
mod tests {
    use super::*;
    use trevlin_model::ExportId;

    #[test]
    fn elements_before_a_fault_are_kept() {
        for (text, count, at) in [
            ("[{\"a\":1},{}]\n[{}]\n", 3, None),
            ("[]", 0, None),
            ("", 0, None),
            ("[{\"a\":1},\n{\"b\":", 2, Some(11)),
            ("[{\"a\":1},\n{\"b\" 2}]\n", 2, Some(11)),
            ("{\"a\":1}", 0, Some(0)),
        ] {
            let export = Export::new(ExportId(0), "x", text.into());
            let source = Source::of(&export);
            let (found, no_array) = elements(&source);
            assert_eq!(found.len(), count, "{text}");
            let broken = source.broken.map(|broken| broken.offset as u32);
            assert_eq!(broken.or(no_array.map(|origin| origin.start)), at, "{text}");
        }
    }
}
