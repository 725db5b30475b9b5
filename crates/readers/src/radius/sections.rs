//! Sections and items of FreeRADIUS's files: `kind name { item = value … }` (radiusd.conf(5), unlang(5)).

use crate::reader::LineRecorder;
use std::sync::Arc;
use trevlin_model::secret::SecretKind;
use trevlin_model::{Export, Limit, LineClass, Origin, Secret, SecretRecord};

/// One item of a section: `name = value`.
pub(super) struct Item<'a> {
    pub(super) name: &'a str,
    pub(super) value: &'a str,
    /// The value as written, including quotes.
    pub(super) value_origin: Origin,
    pub(super) origin: Origin,
}

impl Item<'_> {
    /// Whether the value is a variable or an attribute of a request.
    pub(super) fn is_elsewhere(&self) -> bool {
        self.value.contains("${") || self.value.contains("%{")
    }

    /// The value as a secret.
    pub(super) fn hold(&self, kind: SecretKind, owner: &str) -> Arc<SecretRecord> {
        Arc::new(SecretRecord {
            secret: Secret::new(self.value.replace("\\\"", "\"")),
            kind,
            owner: owner.to_owned(),
            origin: self.value_origin,
        })
    }

    /// `Some` for a word that means yes or no.
    pub(super) fn truth(&self) -> Option<bool> {
        match self.value {
            "yes" | "true" | "on" | "1" => Some(true),
            "no" | "false" | "off" | "0" => Some(false),
            _ => None,
        }
    }
}

/// A section.
pub(super) struct Section<'a> {
    pub(super) kind: &'a str,
    pub(super) name: &'a str,
    pub(super) items: Vec<Item<'a>>,
    /// Lines that are a name alone: modules to run.
    pub(super) words: Vec<(&'a str, Origin)>,
    pub(super) sections: Vec<Section<'a>>,
    pub(super) origin: Origin,
}

impl<'a> Section<'a> {
    fn of(kind: &'a str, name: &'a str, origin: Origin) -> Self {
        Self { kind, name, items: Vec::new(), words: Vec::new(), sections: Vec::new(), origin }
    }

    /// The last item with this name.
    pub(super) fn item(&self, name: &str) -> Option<&Item<'a>> {
        self.items.iter().rev().find(|item| item.name == name)
    }

    pub(super) fn sections_of<'s>(&'s self, kind: &'s str) -> impl Iterator<Item = &'s Section<'a>> {
        self.sections.iter().filter(move |section| section.kind == kind)
    }
}

/// Reads a file into a section without a name. Lines are ignored unless a reader uses them; syntax errors are reported.
pub(super) fn parse<'a>(export: &'a Export, book: &mut LineRecorder<'_>) -> Section<'a> {
    let start = export.origin(0..0);
    let mut open: Vec<Section<'a>> = vec![Section::of("", "", start)];
    let mut lines = export.lines();
    while let Some(line) = lines.next() {
        let mut rest = line.text;
        // A backslash at the end takes in the next line.
        while rest.ends_with('\\') && !rest.trim_start().starts_with('#') {
            let Some(next) = lines.next() else { break };
            let whole = export.origin_of(rest).start as usize..export.origin_of(next.text).end as usize;
            rest = &export.text()[whole];
        }
        // A line may close one section and open or fill the next.
        while let Some((piece, after)) = next_piece(rest) {
            rest = after;
            let origin = export.origin_of(piece);
            book.class(origin, LineClass::Ignored);
            if piece == "}" {
                if open.len() == 1 {
                    book.not_understood(origin, "`}` closes nothing");
                } else {
                    close(&mut open);
                }
            } else if let Some(head) = piece.strip_suffix('{') {
                let (kind, name) = head.trim().split_once([' ', '\t']).unwrap_or((head.trim(), ""));
                open.push(Section::of(kind, bare(name.trim()), origin));
                if open.len() > export.limits().of(Limit::Nesting) {
                    let rest = export.origin(origin.start as usize..export.text().len());
                    book.cut(rest, Limit::Nesting, "nested sections");
                    while open.len() > 1 {
                        close(&mut open);
                    }
                    return open.remove(0);
                }
            } else if let Some(section) = open.last_mut() {
                match item(export, piece, origin) {
                    Some(item) => section.items.push(item),
                    None => section.words.push((piece, origin)),
                }
            }
        }
    }
    while open.len() > 1 {
        let last = &open[open.len() - 1];
        let text = format!("section `{}` is not closed by `}}`; please export the complete file", last.kind);
        book.note(last.origin, text);
        close(&mut open);
    }
    open.remove(0)
}

fn close<'a>(open: &mut Vec<Section<'a>>) {
    if let Some(done) = open.pop()
        && let Some(around) = open.last_mut()
    {
        around.sections.push(done);
    }
}

/// The next piece of a line: what opens a section, what closes one, or an item; comments end the line.
fn next_piece(rest: &str) -> Option<(&str, &str)> {
    let rest = rest.trim_start_matches([' ', '\t', ';', ',']);
    if rest.is_empty() || rest.starts_with('#') {
        return None;
    }
    if let Some(after) = rest.strip_prefix('}') {
        return Some((&rest[..1], after));
    }
    // Conditions hold expressions with braces of their own; the last one on the line opens the section.
    if ["if", "elsif", "else", "switch", "case"]
        .iter()
        .any(|word| rest.strip_prefix(word).is_some_and(|after| after.starts_with([' ', '\t', '(', '{'])))
        && let Some(end) = rest.rfind('{')
    {
        return Some((&rest[..=end], &rest[end + 1..]));
    }
    let (mut quote, mut escaped, mut before) = (None, false, ' ');
    let mut expansions = 0u32;
    for (at, letter) in rest.char_indices() {
        match (quote, letter) {
            _ if escaped => escaped = false,
            (Some(_), '\\') => escaped = true,
            (Some(open), _) if open == letter => quote = None,
            (Some(_), _) => {}
            (None, '"' | '\'') => quote = Some(letter),
            // `${…}` and `%{…}` are expansions.
            (None, '{') if matches!(before, '$' | '%') => expansions += 1,
            (None, '}') if expansions > 0 => expansions -= 1,
            (None, '{') => return Some((&rest[..=at], &rest[at + 1..])),
            (None, '#' | '}') => return Some((rest[..at].trim_end(), &rest[at..])),
            _ => {}
        }
        before = letter;
    }
    Some((rest.trim_end(), ""))
}

fn item<'a>(export: &Export, piece: &'a str, origin: Origin) -> Option<Item<'a>> {
    let (name, value) = piece.split_once('=')?;
    let value = value.trim_start_matches('=').trim();
    Some(Item { name: name.trim(), value: bare(value), value_origin: export.origin_of(value), origin })
}

/// A value without the quotes around it.
pub(super) fn bare(value: &str) -> &str {
    let within = ['"', '\''].iter().find_map(|quote| value.strip_prefix(*quote)?.strip_suffix(*quote));
    within.unwrap_or(value)
}
