//! Lines of Exim's configuration: continued lines, macros, conditions and includes (Exim specification, 6, "The Exim run time
//! configuration file").

use crate::growth;
use crate::reader::{LineRecorder, Open, ReadContext, missing_note};
use trevlin_model::{Export, LineClass, Origin};

/// A logical line with its macros replaced.
#[derive(Debug, Clone)]
pub(super) struct Line {
    /// Text without the blanks around it.
    pub(super) text: String,
    /// The line, with those that continue it.
    pub(super) origin: Origin,
    /// Lines that state its macros.
    pub(super) stated: Vec<Origin>,
}

/// A macro and the text in its place.
#[derive(Debug, Clone)]
pub(super) struct Macro {
    name: String,
    text: String,
    /// The line that states the text, where it is no constant.
    origin: Option<Origin>,
}

impl Macro {
    /// A macro of a name.
    pub(super) fn new(name: impl Into<String>, text: impl Into<String>) -> Self {
        Self { name: name.into(), text: text.into(), origin: None }
    }

    /// The same, stated by a line.
    pub(super) fn stated(self, origin: Option<Origin>) -> Self {
        Self { origin, ..self }
    }
}

/// Lines of several files in their order.
#[derive(Default)]
pub(super) struct Lines {
    /// Each line in force.
    pub(super) all: Vec<Line>,
    /// Files that are named and were not exported.
    pub(super) open: Vec<(String, Origin)>,
    macros: Vec<Macro>,
    /// Macros that are set where the file has a mark for them, unless they are set already.
    seeds: Vec<Macro>,
}

/// The mark in Debian's files at which the settings of `update-exim4.conf.conf` become macros (update-exim4.conf(8)).
const MARK: &str = "UPEX4CmacrosUPEX4C";

/// Characters of one line after its macros were replaced.
const MOST: usize = 1 << 14;

impl Lines {
    /// Nothing yet, with macros that the mark sets.
    pub(super) fn with(seeds: Vec<Macro>) -> Self {
        Self { seeds, ..Self::default() }
    }

    /// Adds a text that stands for files of a package, at one place. The macros of the mark are set before it.
    pub(super) fn add_packaged(&mut self, text: &str, origin: Origin) {
        self.seed();
        let line = |line: &str| {
            let (text, stated) = self.replaced(line);
            Line { text, origin, stated }
        };
        let lines: Vec<Line> = text.lines().map(line).collect();
        self.all.extend(lines);
    }

    /// Sets the macros of the mark, unless they are set already.
    fn seed(&mut self) {
        for seed in std::mem::take(&mut self.seeds) {
            if !self.macros.iter().any(|one| one.name == seed.name) {
                self.macros.push(seed);
            }
        }
    }

    /// Adds the lines of a file.
    pub(super) fn add<'a>(
        &mut self,
        export: &'a Export,
        around: &ReadContext<'a>,
        book: &mut LineRecorder<'_>,
    ) {
        self.take(export, around, &mut vec![export.path()], book);
    }

    fn take<'a>(
        &mut self,
        export: &'a Export,
        around: &ReadContext<'a>,
        open: &mut Vec<&'a str>,
        book: &mut LineRecorder<'_>,
    ) {
        // Whether each open condition holds, and whether one of its branches did.
        let mut conditions: Vec<(bool, bool)> = Vec::new();
        for text in logical(export) {
            let origin = export.origin_of(text);
            let joined = joined(text);
            let mut words = joined.split_whitespace();
            let first = words.next().unwrap_or_default();
            let rest = || joined[first.len()..].trim();
            let holds = conditions.iter().all(|one| one.0);
            match first {
                ".ifdef" | ".ifndef" => {
                    let on = self.is_set(rest()) == (first == ".ifdef");
                    conditions.push((on, on));
                }
                ".elifdef" | ".elifndef" => {
                    let on = self.is_set(rest()) == (first == ".elifdef");
                    if let Some(last) = conditions.last_mut() {
                        *last = (on && !last.1, on || last.1);
                    }
                }
                ".else" => {
                    if let Some(last) = conditions.last_mut() {
                        *last = (!last.1, true);
                    }
                }
                ".endif" => {
                    conditions.pop();
                }
                ".include" | ".include_if_exists" if holds => {
                    let (path, _) = self.replaced(rest());
                    match around.find(&path, export) {
                        Some(other) if book.may_read_in(origin, other, Open::of(open, other), 16) => {
                            open.push(other.path());
                            self.take(other, around, open, book);
                            open.pop();
                        }
                        None if first == ".include" => self.open.push((missing_note(&path), origin)),
                        _ => {}
                    }
                }
                _ if !holds => {}
                _ => match definition(&joined) {
                    Some((name, _, _)) if name == MARK => self.seed(),
                    Some((name, value, again)) => {
                        let (text, _) = self.replaced(value);
                        match self.macros.iter_mut().find(|one| one.name == name) {
                            Some(one) if again => (one.text, one.origin) = (text, Some(origin)),
                            _ => self.macros.push(Macro::new(name, text).stated(Some(origin))),
                        }
                    }
                    None => {
                        let (text, stated) = self.replaced(&joined);
                        self.all.push(Line { text, origin, stated });
                    }
                },
            }
        }
    }

    /// Whether a text names a macro.
    fn is_set(&self, text: &str) -> bool {
        let is_word = |one: char| one.is_ascii_alphanumeric() || one == '_';
        text.split(|one: char| !is_word(one)).any(|word| self.macros.iter().any(|one| one.name == word))
    }

    /// A text with each macro replaced, in the order of their definition, and the lines that state these.
    fn replaced(&self, text: &str) -> (String, Vec<Origin>) {
        let (mut text, mut stated) = (text.to_owned(), Vec::new());
        if !text.contains(|one: char| one.is_ascii_uppercase()) {
            return (text, stated);
        }
        for one in &self.macros {
            let times = text.matches(one.name.as_str()).count();
            if times > 0
                && text.len() + times * one.text.len() < MOST
                && growth::may_grow(times * one.text.len())
            {
                text = text.replace(one.name.as_str(), &one.text);
                stated.extend(one.origin);
            }
        }
        (text, stated)
    }
}

/// `NAME = text`, or `NAME == text` for a new one.
fn definition(text: &str) -> Option<(&str, &str, bool)> {
    if !text.starts_with(|one: char| one.is_ascii_uppercase()) {
        return None;
    }
    let end = text.find(|one: char| !(one.is_ascii_alphanumeric() || one == '_'))?;
    let rest = text[end..].trim_start().strip_prefix('=')?;
    let again = rest.strip_prefix('=');
    Some((&text[..end], again.unwrap_or(rest).trim(), again.is_some()))
}

/// Lines with those that a backslash at their end joins to them, without comments.
pub(super) fn logical(export: &Export) -> Vec<&str> {
    let text = export.text();
    let (mut found, mut start, mut at, mut continued) = (Vec::new(), 0, 0, false);
    for line in text.split_inclusive('\n') {
        at += line.len();
        // A comment between continued lines does not end them.
        let comment = line.trim_start().starts_with('#');
        if continued && comment {
            continue;
        }
        if !comment && line.trim_end().ends_with('\\') {
            continued = true;
            continue;
        }
        continued = false;
        let whole = text[start..at].trim();
        if !whole.is_empty() && !whole.starts_with('#') {
            found.push(whole);
        }
        start = at;
    }
    let rest = text[start..].trim();
    if !rest.is_empty() && !rest.starts_with('#') {
        found.push(rest);
    }
    found
}

/// The text of a logical line in one.
fn joined(text: &str) -> String {
    if !text.contains('\n') {
        return text.to_owned();
    }
    let lines = text.lines().filter(|line| !line.trim_start().starts_with('#'));
    lines.map(|line| line.trim().trim_end_matches('\\')).collect()
}

/// The items of a list: colons separate them, and two mean one; another sign may stand at its beginning (Exim specification, 6.20).
pub(super) fn list(text: &str) -> Vec<String> {
    let text = text.trim();
    if let Some(rest) = text.strip_prefix('<') {
        let mut letters = rest.chars();
        let sign = letters.next().unwrap_or(':');
        return letters.as_str().split(sign).map(|item| item.trim().to_owned()).collect();
    }
    let (mut found, mut item) = (Vec::new(), String::new());
    let mut letters = text.chars().peekable();
    while let Some(letter) = letters.next() {
        if letter != ':' {
            item.push(letter);
        } else if letters.peek() == Some(&':') {
            letters.next();
            item.push(':');
        } else {
            found.push(std::mem::take(&mut item).trim().to_owned());
        }
    }
    let item = item.trim().to_owned();
    if !item.is_empty() {
        found.push(item);
    }
    found
}

/// The class of a line that is not in force, or steers which are.
pub(super) const STEERING: LineClass = LineClass::Ignored;
