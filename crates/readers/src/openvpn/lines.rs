//! Lines of a configuration file: words, quotes, comments and inline blocks.
//!
//! Blanks separate words; `#` and `;` at the start of a word begin a comment; double quotes allow escapes with a backslash, single quotes
//! are literal; a backslash may precede a blank, a double quote and a backslash only (openvpn(8), `--config`).

use super::directives;
use std::ops::Range;
use trevlin_model::{Export, Origin};

/// A directive with its arguments.
#[derive(Debug)]
pub(super) struct Directive<'a> {
    /// Name, without leading dashes or angle brackets.
    pub(super) name: String,
    /// Arguments with quotes and escapes resolved, and the position of each.
    pub(super) args: Vec<(String, Range<usize>)>,
    /// The content of an inline block.
    pub(super) inline: Option<&'a str>,
    /// Whether `setenv opt` precedes it, so that versions without the directive ignore it.
    pub(super) optional: bool,
    /// The line, or all lines of an inline block.
    pub(super) origin: Origin,
}

impl Directive<'_> {
    /// An argument, counted from 0.
    pub(super) fn arg(&self, at: usize) -> Option<&str> {
        self.args.get(at).map(|(text, _)| text.as_str())
    }

    /// All arguments with a blank between them.
    pub(super) fn joined(&self) -> String {
        self.args.iter().map(|(text, _)| text.as_str()).collect::<Vec<_>>().join(" ")
    }
}

/// Splits a file. Places with syntax errors come second, each with its error.
pub(super) fn split(export: &Export) -> (Vec<Directive<'_>>, Vec<(Origin, String)>) {
    let (mut found, mut problems) = (Vec::new(), Vec::new());
    let mut lines = export.lines();
    while let Some(line) = lines.next() {
        let whole = export.origin_of(line.text.trim());
        let mut words = match words(line.text) {
            Ok(words) => words,
            Err(why) => {
                problems.push((whole, why.to_owned()));
                continue;
            }
        };
        for (_, span) in &mut words {
            *span = span.start + line.start as usize..span.end + line.start as usize;
        }
        let mut words = words.into_iter();
        let Some((first, _)) = words.next() else { continue };
        let mut args: Vec<_> = words.collect();
        let tag = first.strip_prefix('<').and_then(|rest| rest.strip_suffix('>')).filter(|_| args.is_empty());
        if let Some(name) = tag {
            let close = format!("</{name}>");
            let start = line.end() as usize + 1;
            let (mut end, mut closed) = (export.text().len(), None);
            for inner in lines.by_ref() {
                if inner.text.trim_start().starts_with(&close) {
                    (end, closed) = (inner.start as usize, Some(inner.end()));
                    break;
                }
            }
            let origin = Origin { end: closed.unwrap_or(end as u32), ..whole };
            match closed {
                None => problems.push((
                    origin,
                    format!(
                        "`{close}` is missing: the rest of the file becomes its content, and \
                                                        the daemon refuses to start"
                    ),
                )),
                Some(_) if !directives::inline(name) => {
                    problems.push((origin, "no inline file of this name is permitted here".into()))
                }
                Some(_) => {}
            }
            let inline = export.text().get(start.min(end)..end);
            found.push(Directive {
                name: name.to_owned(),
                args: Vec::new(),
                inline,
                optional: false,
                origin,
            });
            continue;
        }
        let mut name = first.strip_prefix("--").unwrap_or(&first).to_owned();
        let optional =
            name == "setenv" && args.first().is_some_and(|(first, _)| first == "opt") && args.len() > 1;
        if optional {
            name = args.remove(1).0;
            args.remove(0);
        }
        found.push(Directive { name, args, inline: None, optional, origin: whole });
    }
    (found, problems)
}

type Words = Vec<(String, Range<usize>)>;

/// Words of a line with their places in it.
fn words(line: &str) -> Result<Words, &'static str> {
    #[derive(PartialEq)]
    enum State {
        Between,
        Plain,
        Double,
        Single,
    }
    let mut found = Words::new();
    let (mut state, mut word, mut start) = (State::Between, String::new(), 0);
    let mut chars = line.char_indices();
    while let Some((at, mut letter)) = chars.next() {
        let mut escaped = false;
        if letter == '\\' && state != State::Single {
            match chars.next() {
                Some((_, next)) if next == '\\' || next == '"' || next.is_whitespace() => {
                    (letter, escaped) = (next, true)
                }
                _ => {
                    return Err(
                        "a backslash precedes a character other than a space, a quotation mark or a backslash",
                    );
                }
            }
        }
        if state == State::Between {
            start = at;
            match letter {
                _ if letter.is_whitespace() && !escaped => continue,
                '#' | ';' if !escaped => break,
                '"' if !escaped => {
                    state = State::Double;
                    continue;
                }
                '\'' if !escaped => {
                    state = State::Single;
                    continue;
                }
                _ => state = State::Plain,
            }
        }
        let ends = match state {
            State::Plain => letter.is_whitespace() && !escaped,
            State::Double => letter == '"' && !escaped,
            State::Single => letter == '\'',
            State::Between => false,
        };
        if ends {
            let end = if state == State::Plain { at } else { at + 1 };
            found.push((std::mem::take(&mut word), start..end));
            state = State::Between;
        } else {
            word.push(letter);
        }
    }
    match state {
        State::Between => {}
        State::Plain => found.push((word, start..line.trim_end().len())),
        State::Double | State::Single => return Err("a quotation mark is not closed"),
    }
    Ok(found)
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;
    use trevlin_model::ExportId;

    #[test]
    fn words_as_the_daemon_takes_them() {
        for (line, wanted) in [
            ("port 1194 # x", Ok(vec!["port", "1194"])),
            ("; port 1194", Ok(vec![])),
            ("push \"route 10.4.0.0 255.255.0.0\"", Ok(vec!["push", "route 10.4.0.0 255.255.0.0"])),
            ("ca 'my ca.crt';x", Ok(vec!["ca", "my ca.crt"])),
            ("ca my\\ ca.crt", Ok(vec!["ca", "my ca.crt"])),
            ("ca a#b", Ok(vec!["ca", "a#b"])),
            ("ca \"a\\\"b\"", Ok(vec!["ca", "a\"b"])),
            ("ca c:\\x", Err(())),
            ("ca \"open", Err(())),
            ("ca ''", Ok(vec!["ca", ""])),
        ] {
            let told = words(line)
                .map(|words| words.into_iter().map(|word| word.0).collect::<Vec<_>>())
                .map_err(|_| ());
            assert_eq!(told, wanted.map(|all| all.into_iter().map(String::from).collect()), "{line}");
        }
    }

    #[test]
    fn blocks_and_their_ends() {
        let export =
            Export::new(ExportId(0), "x", "dev tun\n<ca>\nport 9\n  </ca>\nport 1\n<key>\nabc\n".into());
        let (found, problems) = split(&export);
        let told: Vec<_> = found.iter().map(|one| (one.name.as_str(), one.inline)).collect();
        assert_eq!(told, [("dev", None), ("ca", Some("port 9\n")), ("port", None), ("key", Some("abc\n"))]);
        assert_eq!(export.position(problems[0].0.start).line, 6);
    }

    proptest! {
        #[test]
        fn any_text_is_split(text in "[a-c\\\\\"'#;<>/\n\rü ]{0,60}") {
            let export = Export::new(ExportId(0), "x", text);
            let (found, _) = split(&export);
            for directive in found {
                for (_, span) in directive.args {
                    prop_assert!(export.text().get(span).is_some());
                }
            }
        }
    }
}
