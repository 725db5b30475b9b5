//! Files of directives, one a line, with sections `<Name arguments>` to `</Name>` (httpd.conf, proftpd.conf).

use crate::reader::LineRecorder;
use trevlin_model::{Export, Limit, Origin};

/// A directive, or a section with its content.
#[derive(Debug, Clone)]
pub(crate) struct Directive<'a> {
    /// Name in small letters.
    pub(crate) name: String,
    /// Arguments without their quotes.
    pub(crate) words: Vec<&'a str>,
    /// The line; the heading for a section.
    pub(crate) origin: Origin,
    /// Its content, where it is a section.
    pub(crate) inside: Option<Vec<Self>>,
}

impl<'a> Directive<'a> {
    /// The first argument.
    pub(crate) fn first(&self) -> &'a str {
        self.words.first().copied().unwrap_or_default()
    }

    /// Content of the section; empty for a directive.
    pub(crate) fn children(&self) -> &[Self] {
        self.inside.as_deref().unwrap_or_default()
    }
}

/// The directives of a file as a tree. A section that is closed wrongly ends where its parent does.
pub(crate) fn directives<'a>(export: &'a Export, book: &mut LineRecorder<'_>) -> Vec<Directive<'a>> {
    let mut stack: Vec<Directive<'a>> = Vec::new();
    let mut top: Vec<Directive<'a>> = Vec::new();
    for (text, origin) in logical_lines(export) {
        if let Some(name) = text.strip_prefix("</") {
            let name = name.trim_end_matches('>').trim().to_ascii_lowercase();
            match stack.iter().rposition(|open| open.name == name) {
                Some(at) => {
                    if at + 1 < stack.len() {
                        book.not_understood(
                            origin,
                            format!(
                                "`<{}>` is still open here; the program refuses to start",
                                stack[stack.len() - 1].name
                            ),
                        );
                    }
                    while stack.len() > at {
                        close(&mut stack, &mut top);
                    }
                }
                None => {
                    book.not_understood(origin, "nothing of this name is open; the program refuses to start")
                }
            }
            continue;
        }
        if let Some(heading) = text.strip_prefix('<') {
            let mut words = words(heading.trim_end().trim_end_matches('>'));
            let name = if words.is_empty() { "" } else { words.remove(0) };
            if stack.len() >= export.limits().of(Limit::Nesting) {
                book.cut(origin, Limit::Nesting, "sections in each other");
                continue;
            }
            stack.push(Directive {
                name: name.to_ascii_lowercase(),
                words,
                origin,
                inside: Some(Vec::new()),
            });
            continue;
        }
        let mut words = words(text);
        if words.is_empty() {
            continue;
        }
        let name = words.remove(0).to_ascii_lowercase();
        let directive = Directive { name, words, origin, inside: None };
        match stack.last_mut().and_then(|open| open.inside.as_mut()) {
            Some(inside) => inside.push(directive),
            None => top.push(directive),
        }
    }
    if let Some(open) = stack.last() {
        book.not_understood(
            open.origin,
            format!("`<{}>` is never closed; the program refuses to start", open.name),
        );
    }
    while !stack.is_empty() {
        close(&mut stack, &mut top);
    }
    top
}

fn close<'a>(stack: &mut Vec<Directive<'a>>, top: &mut Vec<Directive<'a>>) {
    let Some(done) = stack.pop() else { return };
    match stack.last_mut().and_then(|open| open.inside.as_mut()) {
        Some(inside) => inside.push(done),
        None => top.push(done),
    }
}

/// Lines without comments and blanks around; a backslash at the end joins the next.
fn logical_lines(export: &Export) -> Vec<(&str, Origin)> {
    let text = export.text();
    let mut found = Vec::new();
    let mut at = 0;
    while at < text.len() {
        let mut from = at;
        let end = loop {
            let line = text[from..].find('\n').map_or(text.len(), |one| from + one);
            if line < text.len() && text[at..line].trim_end_matches('\r').ends_with('\\') {
                from = line + 1;
            } else {
                break line;
            }
        };
        let line = text[at..end].trim();
        if !line.is_empty() && !line.starts_with('#') {
            found.push((line, export.origin_of(line)));
        }
        at = end + 1;
    }
    found
}

/// Words; quotes of either kind hold one together.
fn words(text: &str) -> Vec<&str> {
    let mut found = Vec::new();
    let joint = |letter: char| letter.is_whitespace() || letter == '\\';
    let mut rest = text.trim_start_matches(joint);
    while !rest.is_empty() {
        let quote = rest.chars().next().filter(|one| matches!(one, '"' | '\''));
        let (word, after) = match quote.and_then(|quote| Some((quote, rest[1..].find(quote)?))) {
            Some((_, end)) => (&rest[1..=end], &rest[end + 2..]),
            None => {
                let end = rest.find(char::is_whitespace).unwrap_or(rest.len());
                (&rest[..end], &rest[end..])
            }
        };
        found.push(word);
        rest = after.trim_start_matches(|letter: char| letter.is_whitespace());
        // A backslash before a line end is no word.
        while rest.starts_with("\\\n") || rest.starts_with("\\\r\n") {
            rest = rest[1..].trim_start();
        }
    }
    found
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::reader::Reading;
    use trevlin_model::ExportId;

    fn told(all: &[Directive<'_>]) -> String {
        let one = |one: &Directive<'_>| match &one.inside {
            Some(inside) => format!("<{} {}>({})", one.name, one.words.join("|"), told(inside)),
            None => format!("{} {}", one.name, one.words.join("|")),
        };
        all.iter().map(one).collect::<Vec<_>>().join("; ")
    }

    #[test]
    fn trees() {
        for (text, wanted, notes) in [
            ("A b \"c d\"\n# x\n<S *:80>\n  T on\n</S>\n", "a b|c d; <s *:80>(t on)", 0),
            ("A b \\\n  c\n", "a b|c", 0),
            ("<S>\n<T>\nA b\n</S>\nB\n", "<s >(<t >(a b)); b ", 1),
            ("</S>\nB x\n<S>\n", "b x; <s >()", 2),
        ] {
            let export = Export::new(ExportId(0), "f", text.into());
            let mut reading = Reading::of(&export);
            let mut book = LineRecorder::new(&export, &mut reading.ledger, &mut reading.elsewhere);
            assert_eq!(told(&directives(&export, &mut book)), wanted, "{text}");
            assert_eq!(reading.ledger.notes.len(), notes, "{text}");
        }
    }

    #[test]
    fn deep_nesting_ends() {
        let text = "<S>\n".repeat(10_000);
        let export = Export::new(ExportId(0), "f", text);
        let mut reading = Reading::of(&export);
        let mut book = LineRecorder::new(&export, &mut reading.ledger, &mut reading.elsewhere);
        assert_eq!(directives(&export, &mut book).len(), 1);
    }
}
