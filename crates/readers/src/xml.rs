//! XML that breaks off or is broken, read up to there.

use roxmltree::{Document, ParsingOptions};
use std::borrow::Cow;
use trevlin_model::{Export, Limits, Origin};

/// Complete XML of an export. For broken XML, the part before the error, with open elements closed.
#[derive(Debug)]
pub(crate) struct Source<'a> {
    export: &'a Export,
    text: Cow<'a, str>,
    /// The syntax error, if any, and the byte from which on nothing is read.
    pub(crate) broken: Option<(usize, String)>,
    /// Bytes up to the end of the last tag that is whole.
    kept: usize,
}

/// Number of attempts to parse the part before an error again: the reported error may come after the decisive one.
const TRIES: usize = 8;

impl<'a> Source<'a> {
    /// The XML of an export.
    pub(crate) fn of(export: &'a Export) -> Self {
        let whole = export.text();
        let Err(error) = parse(whole) else {
            return Self { export, text: Cow::Borrowed(whole), broken: None, kept: whole.len() };
        };
        let line = export.line(error.pos().row);
        let column = error.pos().col.saturating_sub(1) as usize;
        let start = line.map_or(whole.len(), |line| line.start as usize);
        let told = whole.len().min(start + line.map_or(0, |line| bytes(line.text, column)));
        let why = format!("this is not XML from here on ({error}); what precedes it was read");
        // Where the text breaks off, nothing else is wrong with it.
        let mut at = whole.len();
        for number in 0..TRIES {
            let Some(mended) = mended(&whole[..at]) else { break };
            if parse(&mended.1).is_ok() {
                let broken =
                    if mended.0 < whole.len() { mended.0 } else { whole.trim_end().len().saturating_sub(1) };
                return Self {
                    export,
                    text: Cow::Owned(mended.1),
                    broken: Some((broken, why)),
                    kept: mended.0,
                };
            }
            at = if number == 0 { told } else { mended.0.saturating_sub(1).min(at) };
            while !whole.is_char_boundary(at) {
                at -= 1;
            }
        }
        Self {
            export,
            text: Cow::Borrowed(""),
            broken: Some((0, format!("this is not XML: {error}"))),
            kept: 0,
        }
    }

    /// The document; none where nothing of it can be read. Entities of a document type could grow without end; none is read.
    pub(crate) fn document(&self) -> Option<Document<'_>> {
        parse(&self.text).ok()
    }

    /// How far it is followed.
    pub(crate) fn limits(&self) -> &Limits {
        self.export.limits()
    }

    /// The place in the export of a part of the document.
    pub(crate) fn origin(&self, part: std::ops::Range<usize>) -> Origin {
        let last = self.broken.as_ref().map_or(self.export.text().len(), |broken| broken.0);
        self.export.origin(part.start.min(last)..part.end.min(last))
    }

    /// The place in the export of the first tag of an element.
    pub(crate) fn opening(&self, part: std::ops::Range<usize>) -> Origin {
        let text = self.text.get(part.clone()).unwrap_or_default();
        self.origin(part.start..text.find('>').map_or(part.end, |end| part.start + end + 1))
    }

    /// Whether an element is complete.
    pub(crate) fn holds(&self, part: std::ops::Range<usize>) -> bool {
        part.end <= self.kept
    }

    /// From where on nothing is read, and why.
    pub(crate) fn fault(&self) -> Option<(Origin, &str)> {
        let (at, why) = self.broken.as_ref()?;
        Some((self.export.origin(*at..self.export.text().len()), why))
    }
}

fn parse(text: &str) -> Result<Document<'_>, roxmltree::Error> {
    Document::parse_with_options(text, ParsingOptions { allow_dtd: false, ..ParsingOptions::default() })
}

fn bytes(line: &str, characters: usize) -> usize {
    line.char_indices().nth(characters).map_or(line.len(), |(at, _)| at)
}

/// The text up to the last complete tag, with open elements closed; and its original length. None where no element was opened.
fn mended(text: &str) -> Option<(usize, String)> {
    let mut open: Vec<&str> = Vec::new();
    let (mut at, mut good) = (0, None);
    while let Some(found) = text.get(at..).and_then(|rest| rest.find('<')) {
        let start = at + found;
        let rest = &text[start..];
        let until = |end: &str| rest.find(end).map(|found| found + end.len());
        let length = if rest.starts_with("<!--") {
            until("-->")
        } else if rest.starts_with("<![CDATA[") {
            until("]]>")
        } else if rest.starts_with("<?") {
            until("?>")
        } else {
            tag(rest)
        };
        let Some(length) = length else { break };
        let inner = &rest[1..length - 1];
        at = start + length;
        if inner.starts_with(['!', '?']) {
            continue;
        }
        if let Some(name) = inner.strip_prefix('/') {
            if open.last() != Some(&name.trim()) {
                break;
            }
            open.pop();
        } else if !inner.ends_with('/') {
            open.push(inner.split(|sign: char| sign.is_whitespace()).next().unwrap_or_default());
        }
        good = Some(at);
        if open.is_empty() {
            break;
        }
    }
    // The stack of open elements changes with each complete tag, and at the last of them all can be closed.
    let end = good?;
    let close = open.iter().rev().map(|name| format!("</{name}>"));
    Some((end, text[..end].to_owned() + &close.collect::<String>()))
}

/// Bytes of a tag that begins here; none where it has no end.
fn tag(text: &str) -> Option<usize> {
    let mut quote = None;
    for (at, byte) in text.bytes().enumerate() {
        match (quote, byte) {
            (None, b'"' | b'\'') => quote = Some(byte),
            (None, b'>') => return Some(at + 1),
            (Some(open), _) if open == byte => quote = None,
            _ => {}
        }
    }
    None
}

#[cfg(test)]
mod tests {
    use super::*;
    use trevlin_model::ExportId;

    #[test]
    fn what_stands_before_a_fault_is_kept() {
        for (text, wanted, at) in [
            ("<a><b/></a>", "<a><b/></a>", None),
            ("<a><b x='1'/><c>te", "<a><b x='1'/><c></c></a>", Some(16)),
            ("<a><b x='1'/><c y=\"", "<a><b x='1'/></a>", Some(13)),
            (
                "<?xml version=\"1.0\"?>\n<a>\n<!-- <b> -->\n<b>\n",
                "<?xml version=\"1.0\"?>\n<a>\n<!-- <b> -->\n<b></b></a>",
                Some(42),
            ),
            ("<a><b></a></b><c/></a>", "<a><b></b></a>", Some(6)),
            ("<a><b>&nope;</b><c/></a>", "<a><b></b></a>", Some(6)),
            ("<a", "", Some(0)),
            ("text", "", Some(0)),
        ] {
            let export = Export::new(ExportId(0), "x", text.into());
            let source = Source::of(&export);
            assert_eq!(source.text, wanted, "{text}");
            assert_eq!(source.broken.as_ref().map(|broken| broken.0), at, "{text}");
            assert_eq!(source.document().is_some(), !wanted.is_empty(), "{text}");
        }
    }
}
