//! The outcome as one JSON object, schema `trevlin-audit/1`.

use crate::Renderer;
use crate::neutral::is_active;
use serde::Serialize;
use std::io;
use trevlin_audit::Outcome;

/// JSON.
#[derive(Debug, Clone, Copy, Default)]
pub struct Json;

#[derive(Serialize)]
struct Document<'a> {
    schema: &'static str,
    #[serde(flatten)]
    outcome: &'a Outcome,
}

impl Renderer for Json {
    fn render(&self, outcome: &Outcome, out: &mut dyn io::Write) -> io::Result<()> {
        write(&Document { schema: "trevlin-audit/1", outcome }, out)
    }
}

/// Writes a document, with everything that could act on a terminal escaped.
pub(crate) fn write(document: &impl Serialize, out: &mut dyn io::Write) -> io::Result<()> {
    let text = serde_json::to_string_pretty(document)?;
    out.write_all(escape(&text).as_bytes())?;
    out.write_all(b"\n")
}

/// Writes characters that act on a terminal as escapes. Outside of strings JSON has none but blanks and line ends.
fn escape(json: &str) -> String {
    let mut out = String::with_capacity(json.len());
    for letter in json.chars() {
        if letter != '\n' && is_active(letter) {
            let mut units = [0; 2];
            for unit in letter.encode_utf16(&mut units) {
                out.push_str(&format!("\\u{unit:04x}"));
            }
        } else {
            out.push(letter);
        }
    }
    out
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn escapes_stay_readable_for_parsers() {
        let text = "a\u{9b}b\u{202e}c\u{1b}ü\u{e0001}";
        let escaped = escape(&serde_json::to_string(text).unwrap());
        assert!(!escaped.contains(is_active));
        assert_eq!(serde_json::from_str::<String>(&escaped).unwrap(), text);
    }
}
