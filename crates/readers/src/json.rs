//! JSON as a tree of slices, so that each value knows its place in the export.

use serde_json::value::RawValue;
use std::borrow::Cow;
use std::collections::BTreeMap;
use trevlin_model::{Export, Origin};

/// How deep values are followed; what nests deeper is left out.
const DEPTH: usize = 32;

/// One value.
#[derive(Debug)]
pub(crate) struct Json<'a> {
    /// Its text, quotes and brackets included.
    pub(crate) slice: &'a str,
    /// Its place.
    pub(crate) origin: Origin,
    members: BTreeMap<Cow<'a, str>, Self>,
    elements: Vec<Self>,
}

/// The document of an export.
///
/// # Errors
/// With the line where it is broken.
pub(crate) fn parse(export: &Export) -> Result<Json<'_>, Origin> {
    match serde_json::from_str::<&RawValue>(export.text().trim()) {
        Ok(raw) => Ok(value(export, raw.get(), 0)),
        Err(error) => {
            let line = u32::try_from(error.line()).unwrap_or(1).max(1);
            Err(export.line(line).map_or_else(|| export.origin(0..0), |line| export.origin_of(line.text)))
        }
    }
}

fn value<'a>(export: &Export, slice: &'a str, depth: usize) -> Json<'a> {
    let mut one =
        Json { slice, origin: export.origin_of(slice), members: BTreeMap::new(), elements: Vec::new() };
    if depth >= DEPTH {
        return one;
    }
    if slice.starts_with('{') {
        let members: BTreeMap<Cow<'a, str>, &'a RawValue> = serde_json::from_str(slice).unwrap_or_default();
        one.members =
            members.into_iter().map(|(key, raw)| (key, value(export, raw.get(), depth + 1))).collect();
    } else if slice.starts_with('[') {
        let elements: Vec<&'a RawValue> = serde_json::from_str(slice).unwrap_or_default();
        one.elements = elements.into_iter().map(|raw| value(export, raw.get(), depth + 1)).collect();
    }
    one
}

impl<'a> Json<'a> {
    /// The members of an object, in order of name.
    pub(crate) fn members(&self) -> impl Iterator<Item = (&str, &Self)> {
        self.members.iter().map(|(name, value)| (name.as_ref(), value))
    }

    /// The elements of an array.
    pub(crate) fn elements(&self) -> &[Self] {
        &self.elements
    }

    /// A member of an object.
    pub(crate) fn get(&self, name: &str) -> Option<&Self> {
        self.members.get(name)
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
        let top = parse(&export).unwrap();
        let inner = &top.list("a")[1];
        assert_eq!((inner.text("b").as_deref(), inner.origin.start), (Some("cd"), 10));
        assert!(top.get("e").unwrap().is_true() && top.list("a")[0].number_of() == Some(1));
    }

    #[test]
    fn broken_and_deep_ones_end() {
        let export = |text: String| Export::new(ExportId(0), "x", text);
        assert_eq!(parse(&export("{\n\"a\": ]".into())).unwrap_err().start, 2);
        assert!(parse(&export(format!("{}{}", "[".repeat(60), "]".repeat(60)))).is_ok());
        assert!(parse(&export("[".repeat(100_000))).is_err());
    }
}
