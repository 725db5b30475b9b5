//! Statements of rsyslog's language, cut as its own scanner cuts them (`grammar/lexer.l` and `grammar/grammar.y` of rsyslog 8): several may
//! be on a line, and one may go over several.

use std::ops::Range;

/// Kind of a piece.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum Kind {
    /// `$Name value`, to the end of the line.
    Directive,
    /// `name(…)`: an object with its parameters.
    Object,
    /// A selector or a property filter: what follows is its action or its block.
    Filter,
    /// An expression of `if`, `set` and others, with its keyword.
    Expression,
    /// A keyword, a brace, `&`.
    Word,
    /// An action in the old notation, to the end of the line.
    Action,
    /// The name of a user to write to, or nothing that is known.
    Bare,
    /// Nothing that the scanner knows.
    Unknown,
}

/// Objects (grammar/lexer.l).
const OBJECTS: [&str; 16] = [
    "action",
    "constant",
    "dyn_stats",
    "global",
    "include",
    "input",
    "lookup_table",
    "main_queue",
    "module",
    "parser",
    "percentile_stats",
    "property",
    "ratelimit",
    "ruleset",
    "template",
    "timezone",
];

/// The pieces of a configuration, in order.
pub(super) fn pieces(text: &str) -> Vec<(Kind, Range<usize>)> {
    let mut scanner = Scanner { text, at: 0, fresh: true };
    let mut found = Vec::new();
    while let Some(piece) = scanner.next() {
        found.push(piece);
    }
    found
}

struct Scanner<'a> {
    text: &'a str,
    at: usize,
    /// Whether nothing but blanks is before it on its line.
    fresh: bool,
}

impl<'a> Scanner<'a> {
    fn rest(&self) -> &'a str {
        &self.text[self.at..]
    }

    /// Skips blanks and comments.
    fn skip(&mut self) {
        loop {
            let rest = self.rest();
            let blank = rest.len() - rest.trim_start().len();
            self.fresh |= rest[..blank].contains('\n');
            self.at += blank;
            let rest = self.rest();
            if rest.starts_with('#') {
                self.at += rest.find('\n').unwrap_or(rest.len());
            } else if rest.starts_with("/*") {
                self.at += rest.find("*/").map_or(rest.len(), |end| end + 2);
            } else if let Some(end) = line_continues(rest) {
                // A selector goes on there.
                self.at += end;
                self.fresh = true;
            } else {
                return;
            }
        }
    }

    fn next(&mut self) -> Option<(Kind, Range<usize>)> {
        self.skip();
        let (start, rest) = (self.at, self.rest());
        let first = rest.chars().next()?;
        let fresh = std::mem::replace(&mut self.fresh, false);
        let (kind, length) = self.piece(first, rest, fresh);
        let trimmed = rest[..length].trim_end().len();
        self.at += length.max(first.len_utf8());
        self.fresh = rest[..length].ends_with('\n');
        Some((kind, start..start + trimmed.max(first.len_utf8())))
    }

    fn piece(&self, first: char, rest: &'a str, fresh: bool) -> (Kind, usize) {
        if matches!(first, '{' | '}' | '&') {
            return (Kind::Word, 1);
        }
        if first == '$' && rest[1..].starts_with(|one: char| one.is_ascii_alphabetic()) {
            return (Kind::Directive, to_line_end(rest));
        }
        if fresh && let Some(length) = selector(rest).or_else(|| property_filter(rest)) {
            return (Kind::Filter, length);
        }
        let word: &str = &rest
            [..rest.find(|one: char| !(one.is_ascii_alphanumeric() || one == '_')).unwrap_or(rest.len())];
        let lower = word.to_ascii_lowercase();
        if OBJECTS.contains(&lower.as_str()) && rest[word.len()..].trim_start().starts_with('(') {
            return (Kind::Object, bracketed(rest));
        }
        match lower.as_str() {
            "if" | "foreach" => return (Kind::Expression, expression(rest, word.len())),
            "set" | "unset" | "reset" | "call_indirect" => return (Kind::Expression, statement(rest)),
            "reload_lookup_table" => return (Kind::Object, bracketed(rest)),
            "call" => return (Kind::Expression, call(rest)),
            "stop" | "else" | "continue" => return (Kind::Word, word.len()),
            _ => {}
        }
        let users = rest
            .find(|one: char| !(one.is_ascii_alphanumeric() || "_-+,;".contains(one)))
            .unwrap_or(rest.len());
        match first {
            '~' if rest[1..].trim_start_matches([' ', '\t', '\r']).starts_with(['\n', '}'])
                || rest.len() == 1 =>
            {
                (Kind::Word, 1)
            }
            '*' => (Kind::Bare, 1),
            ':' if output_module(rest) => (Kind::Action, to_line_end(rest)),
            '/' | '|' | '.' | '-' | '@' | '^' | '?' | '~' | '>' => (Kind::Action, to_line_end(rest)),
            _ if users > 0 => (Kind::Bare, users),
            _ => (Kind::Unknown, to_line_end(rest)),
        }
    }
}

/// Length of a backslash at the end of a line, with the end.
fn line_continues(rest: &str) -> Option<usize> {
    let after = rest.strip_prefix('\\')?;
    let line = &after[..after.find('\n')?];
    line.trim().is_empty().then_some(1 + line.len() + 1)
}

/// Length up to the end of the line; a backslash at its end takes in the next.
fn to_line_end(rest: &str) -> usize {
    let mut at = 0;
    for line in rest.split_inclusive('\n') {
        at += line.len();
        if !line.trim_end().ends_with('\\') {
            break;
        }
    }
    at
}

/// `mail,cron.*;auth.info`, without blanks.
fn selector(rest: &str) -> Option<usize> {
    let is_name = |one: char| one.is_ascii_alphanumeric() || one == '*';
    let name = rest.find(|one: char| !is_name(one))?;
    let is_more = |one: char| one.is_ascii_alphanumeric() || ",!=;.*_".contains(one);
    let length = rest.find(|one: char| !is_more(one)).unwrap_or(rest.len());
    (name > 0 && rest[name..].starts_with(['.', ',']) && rest[..length].contains('.')).then_some(length)
}

/// `:msg, !contains, "text"`.
fn property_filter(rest: &str) -> Option<usize> {
    let (head, text) = rest.strip_prefix(':')?.split_once('"')?;
    let parts: Vec<&str> = head.split(',').map(str::trim).collect();
    let [property, operation, ""] = parts.as_slice() else { return None };
    let word = |text: &str, more: &str| {
        !text.is_empty() && text.chars().all(|one| one.is_ascii_alphanumeric() || more.contains(one))
    };
    if !word(property.trim_start_matches('$'), "-!._") || !word(operation.trim_start_matches('!'), "_") {
        return None;
    }
    Some(1 + head.len() + 1 + quoted(text, '"'))
}

/// `:omrelp:…`: the name of a module between colons.
fn output_module(rest: &str) -> bool {
    rest[1..]
        .split_once(':')
        .is_some_and(|(name, _)| !name.is_empty() && name.chars().all(|one| one.is_ascii_alphanumeric()))
}

/// Length of a quoted text behind its first quote, with the last; a backslash takes the next.
fn quoted(text: &str, quote: char) -> usize {
    let mut escaped = false;
    for (at, one) in text.char_indices() {
        if escaped {
            escaped = false;
        } else if one == '\\' {
            escaped = true;
        } else if one == quote {
            return at + 1;
        }
    }
    text.len()
}

/// Walks over a text outside of quotes and comments: the length up to the first place where `ends` says so, with what it says.
fn walk(text: &str, mut ends: impl FnMut(usize, char) -> Option<usize>) -> usize {
    let mut at = 0;
    while let Some(one) = text[at..].chars().next() {
        match one {
            '"' | '\'' | '`' => at += 1 + quoted(&text[at + 1..], one),
            '#' => at += text[at..].find('\n').unwrap_or(text.len() - at),
            '/' if text[at..].starts_with("/*") => {
                at += text[at..].find("*/").map_or(text.len() - at, |end| end + 2);
            }
            _ => {
                if let Some(more) = ends(at, one) {
                    return at + more;
                }
                at += one.len_utf8();
            }
        }
    }
    text.len()
}

/// Length of `name(…)`.
fn bracketed(rest: &str) -> usize {
    let mut depth = 0usize;
    walk(rest, |_, one| match one {
        '(' => {
            depth += 1;
            None
        }
        ')' => {
            depth = depth.saturating_sub(1);
            (depth == 0).then_some(1)
        }
        _ => None,
    })
}

/// Length of `if … then` or `foreach … do`.
fn expression(rest: &str, keyword: usize) -> usize {
    let mut last = ' ';
    walk(rest, |at, one| {
        let before = std::mem::replace(&mut last, one);
        let begins = !before.is_ascii_alphanumeric() && before != '_' && before != '!' && before != '.';
        let ends = ["then", "do"].into_iter().find(|word| {
            rest.get(at..at + word.len()).is_some_and(|text| text.eq_ignore_ascii_case(word))
                && !rest[at + word.len()..].starts_with(|one: char| one.is_ascii_alphanumeric() || one == '_')
        });
        ends.filter(|_| at >= keyword && begins).map(str::len)
    })
}

/// Length of `set $.x = …;`.
fn statement(rest: &str) -> usize {
    walk(rest, |_, one| (one == ';').then_some(1))
}

/// Length of `call name`.
fn call(rest: &str) -> usize {
    let blank = 4 + rest[4..].len() - rest[4..].trim_start().len();
    let name = rest[blank..].find(|one: char| !(one.is_ascii_alphanumeric() || "_-.".contains(one)));
    blank + name.unwrap_or(rest.len() - blank)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn statements_are_cut() {
        use Kind::*;
        for (text, wanted) in [
            (
                "$ModLoad imuxsock # local\n*.* @h\n",
                vec![(Directive, "$ModLoad imuxsock # local"), (Filter, "*.*"), (Action, "@h")],
            ),
            (
                "mail,cron.*;auth.!=info -/var/log/x\n",
                vec![(Filter, "mail,cron.*;auth.!=info"), (Action, "-/var/log/x")],
            ),
            (
                ":msg, !contains, \"a \\\" b\" ~\n& stop\n",
                vec![(Filter, ":msg, !contains, \"a \\\" b\""), (Word, "~"), (Word, "&"), (Word, "stop")],
            ),
            (
                "if $msg contains 'then' and\n  $x == 1 then {\n @@a:514;T\n action(type=\"omfwd\" # c )\n target=\"b\") stop\n}\n",
                vec![
                    (Expression, "if $msg contains 'then' and\n  $x == 1 then"),
                    (Word, "{"),
                    (Action, "@@a:514;T"),
                    (Object, "action(type=\"omfwd\" # c )\n target=\"b\")"),
                    (Word, "stop"),
                    (Word, "}"),
                ],
            ),
            (
                "*.* action(type=\"a\") action(type=\"b\")\n",
                vec![(Filter, "*.*"), (Object, "action(type=\"a\")"), (Object, "action(type=\"b\")")],
            ),
            (
                "template(name=\"x\" type=\"list\") {\n constant(value=\"(\")\n property(name=\"msg\")\n}\n",
                vec![
                    (Object, "template(name=\"x\" type=\"list\")"),
                    (Word, "{"),
                    (Object, "constant(value=\"(\")"),
                    (Object, "property(name=\"msg\")"),
                    (Word, "}"),
                ],
            ),
            (
                "*.info;\\\n  mail.none /var/log/m\n",
                vec![(Filter, "*.info;"), (Filter, "mail.none"), (Action, "/var/log/m")],
            ),
            (
                "set $.x = \"a;b\";\ncall out-2\nelse\n",
                vec![(Expression, "set $.x = \"a;b\";"), (Expression, "call out-2"), (Word, "else")],
            ),
            (
                "*.emerg :omusrmsg:*\n*.alert root,olga\n",
                vec![(Filter, "*.emerg"), (Action, ":omusrmsg:*"), (Filter, "*.alert"), (Bare, "root,olga")],
            ),
            ("/* *.* @h */ *.* ?T\n", vec![(Filter, "*.*"), (Action, "?T")]),
            ("%% no\n", vec![(Unknown, "%% no")]),
        ] {
            let found: Vec<_> = pieces(text).into_iter().map(|(kind, range)| (kind, &text[range])).collect();
            assert_eq!(found, wanted, "{text}");
        }
    }
}
