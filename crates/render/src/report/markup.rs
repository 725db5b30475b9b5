//! Text into the marks of HTML and Markdown.

use minijinja::{AutoEscape, Error, HtmlEscape, Output, State, Value};

/// Markup in names and comments of exports has no effect in the output.
pub(super) fn format(out: &mut Output<'_>, state: &State<'_, '_>, value: &Value) -> Result<(), Error> {
    if value.is_safe() {
        return minijinja::escape_formatter(out, state, value);
    }
    let failed = |_| Error::new(minijinja::ErrorKind::WriteFailure, "the output could not be written");
    let text = if value.is_undefined() || value.is_none() { String::new() } else { value.to_string() };
    match state.auto_escape() {
        AutoEscape::Html => write!(out, "{}", HtmlEscape(&text)).map_err(failed),
        _ => out.write_str(&markdown(&text)).map_err(failed),
    }
}

/// Text that Markdown takes for nothing but text (CommonMark 0.31, 2.4: a backslash before a sign of ASCII takes its meaning away).
pub(crate) fn markdown(text: &str) -> String {
    let mut out = String::with_capacity(text.len() + 8);
    for (at, letter) in text.char_indices() {
        match letter {
            '\n' | '\r' => out.push(' '),
            // An address that stands by itself is made a link (GFM 0.29, 6.9).
            ':' if text[at..].starts_with("://") => out.push_str("\\:"),
            '.' if text[..at].len() >= 3 && text.as_bytes()[at - 3..at].eq_ignore_ascii_case(b"www") => {
                out.push_str("\\.");
            }
            '<' => out.push_str("&lt;"),
            '>' => out.push_str("&gt;"),
            '&' => out.push_str("&amp;"),
            // Dots, colons and the like mean something at the beginning of a line only, where nothing of an export stands.
            '\\' | '`' | '*' | '_' | '[' | ']' | '|' | '~' | '#' | '$' | '!' | '@' => {
                out.push('\\');
                out.push(letter);
            }
            _ => out.push(letter),
        }
    }
    out
}

/// The same for strings of OSCAL that hold marks, which has some of its own: above, below, quoted, and values to be put in (OSCAL's
/// documentation, "Markup line" and "Markup multiline").
pub(super) fn oscal(text: &str) -> String {
    ticked_as(text, |part| beyond_markdown(&markdown(part)))
}

fn beyond_markdown(text: &str) -> String {
    let mut out = String::with_capacity(text.len());
    for letter in text.chars() {
        if matches!(letter, '^' | '{' | '}' | '"') {
            out.push('\\');
        }
        out.push(letter);
    }
    out
}

/// Braces of a message of SARIF, in plain text and in Markdown (SARIF 3.11.5).
pub(super) fn braces(text: &str) -> String {
    text.replace('{', "{{").replace('}', "}}")
}

/// A message of SARIF: braces hold the place of arguments, and a text in brackets with a target behind it is a link (SARIF 3.11.5,
/// 3.11.6).
pub(super) fn sarif(text: &str) -> String {
    let text = braces(&crate::sanitize(text));
    let last = text.rfind("](").unwrap_or(0);
    let mut out = String::with_capacity(text.len());
    for (at, letter) in text.char_indices() {
        match letter {
            '[' if at < last => out.push_str("\\["),
            ']' if text[at..].starts_with("](") => out.push_str("\\]"),
            _ => out.push(letter),
        }
    }
    out
}

/// Sentences contain names in backticks: these become code, and all other text stays text.
pub(super) fn ticked(state: &State<'_, '_>, text: &str) -> Value {
    Value::from_safe_string(match state.auto_escape() {
        AutoEscape::Html => in_ticks(
            text,
            |part| HtmlEscape(part).to_string(),
            |part| format!("<code>{}</code>", HtmlEscape(part)),
        ),
        _ => ticked_markdown(text),
    })
}

/// The same in Markdown.
pub(crate) fn ticked_markdown(text: &str) -> String {
    ticked_as(text, markdown)
}

/// Code between backticks, unless it is empty; other text as formatted by `plain`.
fn ticked_as(text: &str, plain: impl Fn(&str) -> String) -> String {
    in_ticks(text, &plain, |part| if part.trim().is_empty() { plain(part) } else { code(part).to_string() })
}

fn in_ticks(text: &str, plain: impl Fn(&str) -> String, code: impl Fn(&str) -> String) -> String {
    let parts: Vec<&str> = text.split('`').collect();
    // An unpaired backtick: which one is not known.
    if parts.len().is_multiple_of(2) {
        return plain(text);
    }
    parts.iter().enumerate().map(|(at, part)| if at % 2 == 0 { plain(part) } else { code(part) }).collect()
}

/// Text as inline code (CommonMark 0.31, 6.1): delimiters longer than any inside.
pub(super) fn code(text: &str) -> Value {
    let mark = "`".repeat(longest(text) + 1);
    let blank = if text.starts_with('`') || text.ends_with('`') { " " } else { "" };
    let text = text.replace(['\n', '\r'], " ");
    // In a table a bar ends the cell, in code too.
    let text = text.replace('|', "\\|");
    Value::from_safe_string(format!("{mark}{blank}{text}{blank}{mark}"))
}

/// A word with a capital, as it begins a heading.
pub(crate) fn capitalized(word: &str) -> String {
    let mut letters = word.chars();
    letters.next().map_or_else(String::new, |first| first.to_uppercase().chain(letters).collect())
}

/// The fence for a block of code with these lines, each with its number before it (CommonMark 0.31, 4.5).
pub(super) fn fence(lines: Vec<Value>) -> Result<Value, Error> {
    let mut most = 2;
    for line in lines {
        most = most.max(longest(&line.get_item_by_index(1)?.to_string()));
    }
    Ok(Value::from_safe_string("`".repeat(most + 1)))
}

/// The longest run of backticks.
fn longest(text: &str) -> usize {
    text.split(|letter| letter != '`').map(str::len).max().unwrap_or(0)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn markdown_takes_names_for_nothing_but_text() {
        for (text, wanted) in [
            ("plain text, 10.4.0.1/24", "plain text, 10.4.0.1/24"),
            ("<script>", "&lt;script&gt;"),
            ("[a](javascript:b)", "\\[a\\](javascript:b)"),
            ("a|b*c_d`e", "a\\|b\\*c\\_d\\`e"),
            ("one\n# two", "one \\# two"),
            ("https://a.example/x", "https\\://a.example/x"),
            ("www.a.example WWW.b", "www\\.a.example WWW\\.b"),
            ("a@b.example", "a\\@b.example"),
            ("é: 10.4.0.1:80", "é: 10.4.0.1:80"),
        ] {
            assert_eq!(markdown(text), wanted);
        }
        for (text, wanted) in [
            (
                "x^2^ {{ insert: param, a }} \"q\" ~s~",
                "x\\^2\\^ \\{\\{ insert: param, a \\}\\} \\\"q\\\" \\~s\\~",
            ),
            ("says `a_{b}` of c_d", "says `a_{b}` of c\\_d"),
            ("one tick ` and <b>", "one tick \\` and &lt;b&gt;"),
        ] {
            assert_eq!(oscal(text), wanted);
        }
        for (text, wanted) in [
            ("community [secret] of {0}", "community [secret] of {{0}}"),
            ("see [this](https://a.example) [that]", "see \\[this\\](https://a.example) [that]"),
            ("\u{1b}[2J", "\\u{{1b}}[2J"),
        ] {
            assert_eq!(sarif(text), wanted);
        }
        assert_eq!(code("a `b` c").to_string(), "``a `b` c``");
        assert_eq!(code("`").to_string(), "`` ` ``");
        assert_eq!(fence(vec![Value::from_serialize((7, "```` x"))]).unwrap().to_string(), "`````");
    }
}
