//! Escapes in texts of JSON (RFC 8259, 7) and XML (XML 1.0, 4.1 and 4.6): values are taken without them.

use super::shape::Shape;
use crate::sheet::node::{Node, Value};
use std::borrow::Cow;

/// Resolves the escapes of a captured value.
pub(super) fn resolve(shape: Shape, node: &mut Node) {
    let resolved: fn(&str) -> Cow<'_, str> = match shape {
        Shape::Json => json,
        Shape::Xml => xml,
        _ => return,
    };
    match &mut node.value {
        Value::Text(text) => {
            if let Cow::Owned(plain) = resolved(text) {
                *text = plain.into();
            }
        }
        Value::List(all) => all.iter_mut().for_each(|one| resolve(shape, one)),
        _ => {}
    }
}

/// The text of a string without its quotes; as it is where it is no such text.
fn json(text: &str) -> Cow<'_, str> {
    if !text.contains('\\') {
        return Cow::Borrowed(text);
    }
    serde_json::from_str::<String>(&format!("\"{text}\"")).map_or(Cow::Borrowed(text), Cow::Owned)
}

/// References to characters, by number or by one of the five names that need no declaration.
fn xml(text: &str) -> Cow<'_, str> {
    if !text.contains('&') {
        return Cow::Borrowed(text);
    }
    let mut out = String::with_capacity(text.len());
    let mut rest = text;
    while let Some(at) = rest.find('&') {
        out.push_str(&rest[..at]);
        let reference = &rest[at + 1..];
        let found = reference.find(';').and_then(|end| Some((character(&reference[..end])?, end)));
        match found {
            Some((letter, end)) => {
                out.push(letter);
                rest = &reference[end + 1..];
            }
            None => {
                out.push('&');
                rest = reference;
            }
        }
    }
    out.push_str(rest);
    Cow::Owned(out)
}

fn character(name: &str) -> Option<char> {
    Some(match name {
        "lt" => '<',
        "gt" => '>',
        "amp" => '&',
        "quot" => '"',
        "apos" => '\'',
        _ => {
            let number = name.strip_prefix('#')?;
            let number = match number.strip_prefix('x') {
                Some(digits) => u32::from_str_radix(digits, 16).ok()?,
                None => number.parse().ok()?,
            };
            char::from_u32(number)?
        }
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn values_are_taken_without_escapes() {
        for (resolved, text, wanted) in [
            (json as fn(&str) -> Cow<'_, str>, "north quay", "north quay"),
            (json, r#"Stone\"1887\u00e9\\"#, "Stone\"1887é\\"),
            (json, r"\ud83d\ude80", "🚀"),
            (json, r"odd \q", r"odd \q"),
            (xml, "a &amp; b &lt;c&gt; &quot;d&quot; &apos;e&apos;", "a & b <c> \"d\" 'e'"),
            (xml, "&#233;&#xE9; &unknown; & &#xD800;", "éé &unknown; & &#xD800;"),
        ] {
            assert_eq!(resolved(text), wanted);
        }
    }
}
