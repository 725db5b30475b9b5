//! The outcome as one JSON object, schema `trevlin-audit/1`.

use crate::Renderer;
use crate::sanitize::is_active;
use serde::Serialize;
use serde_json::Serializer;
use serde_json::ser::{Formatter, PrettyFormatter};
use std::io;
use trevlin_audit::Outcome;
use trevlin_audit::compare::SeenCoverage;
use trevlin_audit::coverage::Coverage;

/// JSON.
#[derive(Debug, Clone, Copy, Default)]
pub struct Json<'a> {
    /// Coverage, which comparisons of controls are made from.
    pub coverage: Option<&'a Coverage>,
}

#[derive(Serialize)]
struct Document<'a> {
    schema: &'static str,
    #[serde(flatten)]
    outcome: &'a Outcome,
    #[serde(skip_serializing_if = "Option::is_none")]
    coverage: Option<SeenCoverage>,
}

impl Renderer for Json<'_> {
    fn render(&self, outcome: &Outcome, out: &mut dyn io::Write) -> io::Result<()> {
        let coverage = self.coverage.map(SeenCoverage::from);
        write(&Document { schema: "trevlin-audit/1", outcome, coverage }, out)
    }
}

/// Writes a document with all terminal control characters escaped. The output is streamed, since an estate may have many findings.
pub(crate) fn write(document: &impl Serialize, out: &mut dyn io::Write) -> io::Result<()> {
    document.serialize(&mut Serializer::with_formatter(&mut *out, Neutral::default()))?;
    out.write_all(b"\n")
}

/// Writes JSON as people read it, and characters that act on a terminal as escapes.
#[derive(Default)]
struct Neutral<'a>(PrettyFormatter<'a>);

/// The formatting of brackets is delegated to the pretty printer.
macro_rules! as_the_pretty_one {
    ($($name:ident($($argument:ident: $kind:ty)?)),+) => {
        $(fn $name<W: ?Sized + io::Write>(&mut self, writer: &mut W $(, $argument: $kind)?) -> io::Result<()> {
            self.0.$name(writer $(, $argument)?)
        })+
    };
}

impl Formatter for Neutral<'_> {
    as_the_pretty_one!(
        begin_array(),
        end_array(),
        begin_array_value(first: bool),
        end_array_value(),
        begin_object(),
        end_object(),
        begin_object_key(first: bool),
        begin_object_value(),
        end_object_value()
    );

    fn write_string_fragment<W: ?Sized + io::Write>(&mut self, writer: &mut W, text: &str) -> io::Result<()> {
        let mut rest = text;
        while let Some((at, letter)) = rest.char_indices().find(|(_, letter)| is_active(*letter)) {
            writer.write_all(&rest.as_bytes()[..at])?;
            for unit in letter.encode_utf16(&mut [0; 2]) {
                write!(writer, "\\u{unit:04x}")?;
            }
            rest = &rest[at + letter.len_utf8()..];
        }
        writer.write_all(rest.as_bytes())
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn escapes_stay_readable_for_parsers() {
        let text = "a\u{9b}b\u{202e}c\u{1b}ü\u{e0001}";
        let mut out = Vec::new();
        write(&serde_json::json!({ text: [text, 1, {}] }), &mut out).unwrap();
        let escaped = String::from_utf8(out).unwrap();
        assert!(!escaped.contains(|letter| letter != '\n' && is_active(letter)));
        assert_eq!(serde_json::from_str::<serde_json::Value>(&escaped).unwrap()[text][0], text);
        let plain = serde_json::json!({ "a": [1, {}, []], "b": { "c": "d\n" } });
        let mut out = Vec::new();
        write(&plain, &mut out).unwrap();
        assert_eq!(String::from_utf8(out).unwrap(), serde_json::to_string_pretty(&plain).unwrap() + "\n");
    }
}
