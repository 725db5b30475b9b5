//! Unknown settings: by a table, for formats whose readers look for known settings and ignore the rest.
//!
//! A misspelt setting has no effect, or stops the daemon; a setting of an unknown version may be decisive. Both are reported.

use crate::dynamic_dns::pieces;
use crate::reader::{LineRecorder, ReadContext, Reading};
use serde::Deserialize;
use std::collections::{BTreeMap, BTreeSet};
use std::ops::Range;
use trevlin_model::{Export, LineClass};

/// Notation of names in a file.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Deserialize)]
#[serde(rename_all = "lowercase")]
enum Form {
    /// The first word of a line.
    Words,
    /// Before an equals sign, several to a line.
    Pairs,
    /// Before an equals sign or a block in braces.
    Braces,
    /// Before a colon, in quotes; or as an element of XML.
    Json,
    /// Before an operator, several to a line (users(5)).
    Attributes,
}

#[derive(Debug, Deserialize)]
#[serde(deny_unknown_fields)]
struct Known {
    form: Form,
    /// Blocks in which names are free.
    #[serde(default)]
    open: BTreeSet<String>,
    /// A star at the end matches any suffix.
    names: BTreeSet<String>,
}

trevlin_model::table! {
    static KNOWN: BTreeMap<String, Known> = "../tables/known-settings.toml";
}

/// Whether a name is known, where a star at the end matches any suffix.
pub(crate) fn is_among(names: &BTreeSet<String>, name: &str) -> bool {
    let mut stars = names.iter().filter_map(|known| known.strip_suffix('*'));
    names.contains(name) || stars.any(|start| name.starts_with(start))
}

/// Longest name that is quoted.
const LONGEST: usize = 60;

/// Reports unknown settings of an export, where no other message refers to their lines.
pub(crate) fn tell(format: &str, export: &Export, around: &ReadContext<'_>, reading: &mut Reading) {
    // The names of policies are free, and what they hold is a language of its own.
    if format == "radius" && export.path().contains("policy.d/") {
        return;
    }
    let Some(known) = KNOWN.get(format) else { return };
    // A section may take after one of another file.
    let bases = match known.form {
        Form::Braces => {
            Some(around.once(|| Bases(around.exports.iter().flat_map(|one| bases(one.text())).collect())))
        }
        _ => None,
    };
    let mut last = 0;
    let none = BTreeSet::new();
    for place in unknown(known, export.text(), bases.as_ref().map_or(&none, |bases| &bases.0)) {
        let number = export.line_of(place.start as u32);
        let told = number == last || reading.ledger.class(number) == Some(LineClass::NotUnderstood);
        last = number;
        let name = &export.text()[place.clone()];
        if told || crate::serving::is_known(format, &name.to_ascii_lowercase()) {
            continue;
        }
        let origin = export.origin(place.clone());
        let mut book = LineRecorder::new(export, &mut reading.ledger, &mut reading.elsewhere);
        match name.len() > LONGEST {
            true => {
                book.not_understood(origin, "not a known setting; check its spelling, and review its effect")
            }
            false => book.not_understood(
                origin,
                format!("`{name}` is not a known setting; check its spelling, and review its effect"),
            ),
        }
    }
}

/// Positions of unknown names, in order.
fn unknown(known: &Known, text: &str, bases: &BTreeSet<String>) -> Vec<Range<usize>> {
    let mut found = Names { known, text, found: Vec::new() };
    match known.form {
        Form::Words => found.words(),
        Form::Pairs => found.pairs(),
        Form::Braces => found.braces(bases),
        Form::Json if text.trim_start().starts_with('<') => found.elements(),
        Form::Json => found.json(),
        Form::Attributes => found.attributes(),
    }
    found.found
}

struct Names<'a> {
    known: &'a Known,
    text: &'a str,
    found: Vec<Range<usize>>,
}

impl<'a> Names<'a> {
    /// Takes a name down that is not known.
    fn name(&mut self, name: &str) {
        if !name.is_empty() && !is_among(&self.known.names, name) {
            let start = name.as_ptr() as usize - self.text.as_ptr() as usize;
            self.found.push(start..start + name.len());
        }
    }

    /// Lines with something on them, without those that go on with the one before.
    fn lines(&self) -> impl Iterator<Item = &'a str> + use<'a> {
        let mut goes_on = false;
        self.text.lines().map(str::trim).filter(move |line| {
            let part = std::mem::replace(&mut goes_on, line.ends_with('\\'));
            !part && !line.is_empty() && !line.starts_with(['#', ';'])
        })
    }

    fn words(&mut self) {
        if self.text.trim_start().starts_with('<') {
            return;
        }
        for line in self.lines().filter(|line| !line.starts_with(['[', '{', '}'])) {
            let end = line.find(|one: char| one.is_whitespace() || one == '=');
            self.name(&line[..end.unwrap_or(line.len())]);
        }
    }

    fn pairs(&mut self) {
        for line in self.lines() {
            for piece in pieces(line.split(" #").next().unwrap_or_default()) {
                if let Some((name, _)) = piece.split_once('=') {
                    self.name(name.trim());
                }
            }
        }
    }

    fn attributes(&mut self) {
        for line in self.lines().filter(|line| !line.starts_with('$')) {
            for piece in outside_quotes(line, ',') {
                let operator = |one: char| matches!(one, '=' | ':' | '!' | '+' | '<' | '>' | '"');
                let Some(end) = piece.find(operator).filter(|end| !piece[*end..].starts_with('"')) else {
                    continue;
                };
                // A list may stand before the attribute.
                let rest =
                    piece[end..].strip_prefix(':').filter(|rest| rest.starts_with(char::is_alphabetic));
                let before = match rest {
                    Some(rest) => &rest[..rest.find(operator).unwrap_or(rest.len())],
                    None => &piece[..end],
                };
                let name = before.split_whitespace().next_back().unwrap_or_default();
                let name = name.trim_start_matches(['-', '&']);
                self.name(name.split(['[', '.', '@']).next().unwrap_or_default());
            }
        }
    }

    fn elements(&mut self) {
        let text = self.text;
        for (at, _) in text.match_indices('<') {
            let rest = &text[at + 1..];
            if !rest.starts_with(|one: char| one.is_alphabetic() || one == '_') {
                continue;
            }
            let end =
                rest.find(|one: char| one.is_whitespace() || matches!(one, '>' | '/')).unwrap_or(rest.len());
            let name = &rest[..end];
            self.name(name.rsplit(':').next().unwrap_or(name));
        }
    }

    fn json(&mut self) {
        let (text, bytes) = (self.text, self.text.as_bytes());
        // Whether names are free in each block that is open, and where the next one would be.
        let (mut blocks, mut next) = (Vec::<bool>::new(), false);
        let mut at = 0;
        while at < bytes.len() {
            let rest = &text[at..];
            if let Some(length) = comment(rest) {
                at += length;
                continue;
            }
            match bytes[at] {
                b'"' => {
                    let length = quoted(rest);
                    let free = blocks.last().copied().unwrap_or(false);
                    if rest[length..].trim_start().starts_with(':') {
                        let whole = rest[..length].trim_matches('"');
                        let name = whole.rsplit(':').next().unwrap_or(whole);
                        if !free {
                            self.name(name);
                        }
                        next = free || self.known.open.contains(name);
                    }
                    at += length;
                    continue;
                }
                b'{' | b'[' => {
                    blocks.push(std::mem::take(&mut next) || blocks.last().copied().unwrap_or(false))
                }
                b'}' | b']' => _ = blocks.pop(),
                b',' => next = false,
                _ => {}
            }
            at += text[at..].chars().next().map_or(1, char::len_utf8);
        }
    }

    fn braces(&mut self, bases: &BTreeSet<String>) {
        let text = self.text;
        let mut blocks: Vec<bool> = Vec::new();
        let mut words: Vec<&str> = Vec::new();
        let mut at = 0;
        while let Some(one) = text[at..].chars().next() {
            let rest = &text[at..];
            match one {
                '#' => at += rest.find('\n').unwrap_or(rest.len()),
                '\n' | ';' => {
                    words.clear();
                    at += 1;
                }
                '"' | '\'' => at += quoted(rest),
                '(' => at += nested(rest, '(', ')'),
                '{' => {
                    let name = words.first().copied().unwrap_or_default();
                    if !blocks.last().copied().unwrap_or(bases.contains(name)) {
                        self.name(name);
                    }
                    blocks.push(self.known.open.contains(name));
                    words.clear();
                    at += 1;
                }
                '}' => {
                    blocks.pop();
                    words.clear();
                    at += 1;
                }
                '=' => {
                    // `:=` and `+=` with a blank before them.
                    words.pop_if(|one| matches!(*one, ":" | "+" | "-"));
                    if let [name] = words[..]
                        && !blocks.last().copied().unwrap_or(false)
                    {
                        self.name(name.trim_end_matches(['+', ':']));
                    }
                    words.clear();
                    at += 1 + value(&rest[1..]);
                }
                _ if one.is_whitespace() => at += one.len_utf8(),
                _ => {
                    let ends = |one: char| {
                        one.is_whitespace() || matches!(one, '=' | '{' | '}' | '#' | ';' | '(' | '"')
                    };
                    let end = rest.find(ends).unwrap_or(rest.len()).max(one.len_utf8());
                    // Substitutions: `${confdir}`, `%{User-Name}`.
                    let put_in = rest[..end].ends_with(['$', '%']) && rest[end..].starts_with('{');
                    let end = if put_in { end + nested(&rest[end..], '{', '}') } else { end };
                    words.push(&rest[..end]);
                    at += end;
                }
            }
        }
    }
}

/// Sections that others of the device take after.
struct Bases(BTreeSet<String>);

/// Sections that others take after: `name : base, base {` (strongswan.conf(5), REFERENCING OTHER SECTIONS).
fn bases(text: &str) -> BTreeSet<String> {
    let lines = text.lines().filter_map(|line| line.split('#').next());
    let heads = lines
        .flat_map(|line| line.match_indices('{').map(|(at, _)| line[..at].rsplit('{').next().unwrap_or("")));
    let behind = heads.filter_map(|head| head.split_once(':'));
    let named = behind.flat_map(|(_, bases)| bases.split(','));
    named
        .filter_map(|base| base.trim().split('.').next())
        .filter(|base| !base.is_empty())
        .map(str::to_owned)
        .collect()
}

/// How long a comment is that begins a text; none where none does.
fn comment(text: &str) -> Option<usize> {
    let until = |end: &str| text.find(end).map_or(text.len(), |at| at + end.len());
    match text.as_bytes() {
        [b'#', ..] | [b'/', b'/', ..] => Some(text.find('\n').unwrap_or(text.len())),
        [b'/', b'*', ..] => Some(until("*/")),
        [b'<', b'?', ..] => Some(until("?>")),
        _ => None,
    }
}

/// How long a text in quotes is that begins with the quote: to its end, or that of the line.
fn quoted(text: &str) -> usize {
    let quote = text.chars().next().unwrap_or('"');
    let mut escaped = false;
    for (at, one) in text.char_indices().skip(1) {
        match one {
            _ if escaped => escaped = false,
            '\\' => escaped = true,
            '\n' => return at,
            _ if one == quote => return at + 1,
            _ => {}
        }
    }
    text.len()
}

/// Length of the text between a sign and its closing counterpart, on one line.
fn nested(text: &str, open: char, close: char) -> usize {
    let (mut depth, mut at) = (0usize, 0);
    while let Some(one) = text[at..].chars().next() {
        match one {
            '\n' => return at,
            '"' => {
                at += quoted(&text[at..]);
                continue;
            }
            _ if one == open => depth += 1,
            _ if one == close => depth -= 1,
            _ => {}
        }
        at += one.len_utf8();
        if depth == 0 {
            return at;
        }
    }
    text.len()
}

/// How long a value is: to the end of its line, or to where its block closes on it. A list in braces is one.
fn value(text: &str) -> usize {
    let start = text.len() - text.trim_start_matches([' ', '\t', '~', '=', '*']).len();
    if text[start..].starts_with('{') {
        let list = text[start..].find('}').map_or(text.len(), |end| start + end + 1);
        return list;
    }
    let mut at = start;
    while let Some(one) = text[at..].chars().next() {
        match one {
            '\n' | '}' | ';' => return at,
            '"' | '\'' => at += quoted(&text[at..]),
            '$' | '%' if text[at + 1..].starts_with('{') => at += 1 + nested(&text[at + 1..], '{', '}'),
            '#' if text[..at].ends_with(char::is_whitespace) => return at,
            _ => at += one.len_utf8(),
        }
    }
    text.len()
}

/// Parts of a line separated by a sign outside of quotes.
fn outside_quotes(line: &str, sign: char) -> Vec<&str> {
    let (mut parts, mut start, mut at) = (Vec::new(), 0, 0);
    while let Some(one) = line[at..].chars().next() {
        if one == '"' {
            at += quoted(&line[at..]);
            continue;
        }
        if one == sign {
            parts.push(&line[start..at]);
            start = at + one.len_utf8();
        }
        at += one.len_utf8();
    }
    parts.push(&line[start..]);
    parts
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn names_that_nobody_knows_are_found_in_every_form() {
        for (form, text, wanted) in [
            (Form::Words, "a 1\nx 2\n#x\n[x]\n a \\\n x\nab-c=3\nx=4\n", "x x"),
            (Form::Words, "<x>\n", ""),
            (Form::Pairs, "a=1, x='y=2' \\\n  a=2 x\n# x=1\nx=3\n", "x x"),
            (Form::Braces, "a {\n  x = 1 # x = 2\n  a = \"}\" x2 = 3\n}\nx { a = 1 }\n", "x x"),
            (Form::Braces, "a { free { y = 1\n z { x = 1 } } x = ${y}}\n", "x x"),
            (Form::Braces, "a = %{a:-%{b}}\na = { \"b\", \"c\" }\na == 1\na += 2\nx := 3\n", "x"),
            (Form::Braces, "if (&a == \"}\") {\n x = 1\n}\n", "if x"),
            (Form::Braces, "base { a = 1 }\nfree { y : base { x = 1 } }\n", "x"),
            (Form::Json, "{\"a\": {\"x\": \"x\"}, \"m:a\": [\"x\", {\"m:x\": 1}]}", "x x"),
            (Form::Json, "{\"free\": {\"y\": {\"z\": 1}}, /* \"x\": */ \"x\": 1 // \"x\": 2\n}", "x"),
            (Form::Json, "<m:a><a b=\"1\"/><x>1</x></m:a>", "x"),
            (Form::Attributes, "ann a == 1, x := 2\n\ta = \"x = 1, y\",\n\treply:x += 2\n# x = 1\n", "x x"),
        ] {
            let set = |all: &[&str]| all.iter().map(|one| (*one).to_owned()).collect::<BTreeSet<_>>();
            let known = Known { form, open: set(&["free"]), names: set(&["a", "ab-*", "free"]) };
            let found: Vec<&str> =
                unknown(&known, text, &bases(text)).into_iter().map(|place| &text[place]).collect();
            assert_eq!(found.join(" "), wanted, "{form:?}: {text}");
        }
    }

    #[test]
    fn formats_of_the_table_are_read() {
        for format in KNOWN.keys() {
            assert!(crate::READERS.iter().any(|reader| reader.name == format), "{format}");
        }
    }
}
