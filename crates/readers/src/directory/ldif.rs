//! LDIF (RFC 2849): entries of a directory as text.

use base64::Engine as _;
use base64::engine::general_purpose::STANDARD;
use std::ops::Range;
use trevlin_model::{Export, Origin};

/// A value with its place in a file. Folded lines are one value, and Base64 is decoded.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub(crate) struct Placed {
    /// The value.
    pub(crate) text: String,
    /// Where pieces of the value begin: in the value, and in the file.
    pieces: Vec<(usize, usize)>,
    /// Where the value ends in the file.
    end: usize,
    /// Whether the file has it in Base64: pieces of it have no place of their own.
    encoded: bool,
}

impl Placed {
    /// A value as it is in the file from `start` on.
    pub(crate) fn plain(text: &str, start: usize) -> Self {
        Self { text: text.to_owned(), pieces: vec![(0, start)], end: start + text.len(), encoded: false }
    }

    /// The place of a part of the value.
    pub(crate) fn place(&self, part: Range<usize>) -> Range<usize> {
        let whole = self.pieces.first().map_or(self.end, |piece| piece.1)..self.end;
        if self.encoded || part.start >= part.end {
            return whole;
        }
        let at = |offset: usize| {
            let piece = self.pieces.iter().rev().find(|piece| piece.0 <= offset);
            piece.map_or(whole.start, |(value, file)| file + (offset - value))
        };
        at(part.start)..at(part.end - 1) + 1
    }
}

/// An attribute of an entry.
#[derive(Debug, Clone)]
pub(crate) struct Attribute {
    /// Name in small letters, without options.
    pub(crate) name: String,
    /// Value.
    pub(crate) value: Placed,
    /// Its line, with those that continue it.
    pub(crate) origin: Origin,
}

/// An entry.
#[derive(Debug, Clone)]
pub(crate) struct Entry {
    /// Distinguished name.
    pub(crate) dn: String,
    /// Attributes in their order.
    pub(crate) attributes: Vec<Attribute>,
    /// The line with its name.
    pub(crate) origin: Origin,
}

/// Entries of a file, and the lines that are none.
pub(crate) fn entries(export: &Export) -> (Vec<Entry>, Vec<Origin>) {
    let (mut found, mut strange) = (Vec::<Entry>::new(), Vec::new());
    let mut open = false;
    for lines in logical(export) {
        let first = lines[0];
        if first.trim().is_empty() {
            open = false;
            continue;
        }
        let last = lines[lines.len() - 1];
        let begin = export.origin_of(first);
        let origin = Origin { end: export.origin_of(last.trim_end()).end.max(begin.start), ..begin };
        match attribute(export, &lines, origin) {
            Some(one) if one.name == "dn" => {
                found.push(Entry { dn: one.value.text, attributes: Vec::new(), origin });
                open = true;
            }
            Some(one) if open => {
                if let Some(entry) = found.last_mut() {
                    entry.attributes.push(one);
                }
            }
            // `version: 1` before the first entry; `result:` behind the last of a search.
            Some(one) if matches!(one.name.as_str(), "version" | "search" | "result") => {}
            _ => strange.push(origin),
        }
    }
    (found, strange)
}

/// Lines with those that continue them: those that begin with a space (RFC 2849, note 2). Comments are left out.
fn logical(export: &Export) -> Vec<Vec<&str>> {
    let mut found: Vec<Vec<&str>> = Vec::new();
    let mut comment = false;
    for line in export.lines() {
        if line.text.starts_with(' ') {
            match found.last_mut() {
                _ if comment => {}
                Some(last) if !last[0].trim().is_empty() => last.push(line.text),
                _ => found.push(vec![line.text]),
            }
            continue;
        }
        comment = line.text.starts_with('#');
        if !comment {
            found.push(vec![line.text]);
        }
    }
    found
}

/// `name: value`, `name:: Base64`, `name:< place`.
fn attribute(export: &Export, lines: &[&str], origin: Origin) -> Option<Attribute> {
    let (name, rest) = lines[0].split_once(':')?;
    if name.is_empty() || name.contains(char::is_whitespace) {
        return None;
    }
    let encoded = rest.starts_with(':');
    let first = rest.trim_start_matches([':', '<']).trim_start_matches(' ');
    let offset = |text: &str| export.origin_of(text).start as usize;
    let (mut text, mut pieces) = (String::new(), Vec::new());
    let rest = lines[1..].iter().map(|line| &line[1..]);
    for piece in std::iter::once(first).chain(rest) {
        let piece = piece.trim_end_matches('\r');
        if !piece.is_empty() {
            pieces.push((text.len(), offset(piece)));
            text.push_str(piece);
        }
    }
    if encoded {
        let decoded = STANDARD.decode(text.trim()).ok()?;
        text = String::from_utf8(decoded).ok()?;
    }
    let name = name.split(';').next().unwrap_or_default().to_ascii_lowercase();
    Some(Attribute { name, value: Placed { text, pieces, end: origin.end as usize, encoded }, origin })
}

#[cfg(test)]
mod tests {
    use super::*;
    use trevlin_model::ExportId;

    #[test]
    fn values_and_their_places() {
        let text = "version: 1\n\n# a\n comment\ndn: cn=a,dc=quay,\n dc=example\ncn: a\ndescription: one tw\n o three\nrootPW:: e1NTSEF9\nodd\n\ndn: dc=b\n\nnot here: 1\n";
        let export = Export::new(ExportId(0), "x.ldif", text.into());
        let (found, strange) = entries(&export);
        let told: Vec<String> = found
            .iter()
            .map(|entry| {
                let all = entry.attributes.iter().map(|one| format!("{}={}", one.name, one.value.text));
                format!("{} {}", entry.dn, all.collect::<Vec<_>>().join(" "))
            })
            .collect();
        assert_eq!(told, ["cn=a,dc=quay,dc=example cn=a description=one two three rootpw={SSHA}", "dc=b "]);
        let lines: Vec<&str> =
            strange.iter().map(|origin| &text[origin.start as usize..origin.end as usize]).collect();
        assert_eq!(lines, ["odd", "not here: 1"]);
        let folded = &found[0].attributes[1].value;
        let place = |value: &Placed, part: Range<usize>| text[value.place(part)].to_owned();
        assert_eq!(place(folded, 4..7), "tw\n o");
        assert_eq!(place(folded, 8..13), "three");
        assert_eq!(place(&found[0].attributes[2].value, 0..3), "e1NTSEF9");
    }
}
