//! Files with one setting in each line, and with other files read in at their place.

use crate::reader::{LineRecorder, Open, ReadContext, Reading, missing_note};
use crate::serving;
use trevlin_model::{Export, LineClass, Origin};

/// Exports that a line reads in.
pub(crate) type Included = for<'a> fn(&str, &Export, &ReadContext<'a>) -> Vec<&'a Export>;

/// Notation of a program's file.
pub(crate) struct Form {
    /// Name in the table of known settings.
    pub(crate) program: &'static str,
    /// Manual for messages.
    pub(crate) manual: &'static str,
    /// Settings that become facts, in small letters.
    pub(crate) judged: &'static [&'static str],
    /// Name and value of a line without blanks at its ends.
    pub(crate) split: fn(&str) -> (&str, &str),
    /// Exports that a line reads in; none for programs without includes.
    pub(crate) included: Option<Included>,
}

/// One setting.
#[derive(Debug, Clone)]
pub(crate) struct Entry<'a> {
    /// Name as written.
    pub(crate) name: &'a str,
    /// Value as written.
    pub(crate) value: &'a str,
    /// Its file.
    pub(crate) export: &'a Export,
    /// The line.
    pub(crate) origin: Origin,
}

/// Settings in order, those of included files at the place of the include.
#[derive(Debug, Clone, Default)]
pub(crate) struct Entries<'a> {
    /// Each setting.
    pub(crate) all: Vec<Entry<'a>>,
    /// Files that are named and were not exported.
    pub(crate) open: Vec<(String, Origin)>,
}

impl<'a> Entries<'a> {
    /// Settings of a name, whatever its capitals.
    pub(crate) fn of<'s>(&'s self, name: &'s str) -> impl DoubleEndedIterator<Item = &'s Entry<'a>> {
        self.all.iter().filter(move |entry| entry.name.eq_ignore_ascii_case(name))
    }

    /// The last value of a name.
    pub(crate) fn last(&self, name: &str) -> Option<(&'a str, Origin)> {
        self.of(name).next_back().map(|entry| (entry.value, entry.origin))
    }

    /// The last number of a name.
    pub(crate) fn number(&self, name: &str) -> Option<(u16, Origin)> {
        self.last(name).and_then(|(value, origin)| Some((value.parse().ok()?, origin)))
    }

    /// The first line; that of the export where there is none.
    pub(crate) fn origin(&self, export: &Export) -> Origin {
        self.all.first().map_or_else(|| export.origin(0..0), |entry| entry.origin)
    }
}

/// A name before the first blank, and the rest.
pub(crate) fn by_blank(text: &str) -> (&str, &str) {
    text.split_once(char::is_whitespace).map_or((text, ""), |(name, value)| (name, value.trim()))
}

/// A name before the first equals sign, and the rest.
pub(crate) fn by_equals(text: &str) -> (&str, &str) {
    text.split_once('=').map_or((text, ""), |(name, value)| (name.trim(), value.trim()))
}

/// Settings of an export. Its own lines are classified; those of included files are left to their own reading.
pub(crate) fn load<'a>(
    export: &'a Export,
    form: &Form,
    around: &ReadContext<'a>,
    reading: &mut Reading,
) -> Entries<'a> {
    let mut found = Entries::default();
    let mut book = LineRecorder::new(export, &mut reading.ledger, &mut reading.elsewhere);
    take(export, form, around, &mut vec![export.path()], &mut book, &mut found);
    found
}

fn take<'a>(
    export: &'a Export,
    form: &Form,
    around: &ReadContext<'a>,
    open: &mut Vec<&'a str>,
    book: &mut LineRecorder<'_>,
    found: &mut Entries<'a>,
) {
    const MOST: usize = 16;
    let own = open.len() == 1;
    for text in serving::entries(export) {
        let origin = export.origin_of(text);
        let (name, value) = (form.split)(text);
        let small = name.to_ascii_lowercase();
        if own {
            match small.as_str() {
                small if form.judged.contains(&small) => book.understood(origin),
                small if serving::is_known(form.program, small) => book.class(origin, LineClass::Ignored),
                _ => book.not_understood(origin, serving::unknown(form.manual)),
            }
        }
        found.all.push(Entry { name, value, export, origin });
        let Some(included) = form.included.filter(|_| small.starts_with("include")) else { continue };
        let others = included(text, export, around);
        if others.is_empty() && !value.contains(['*', '?', '[']) {
            found.open.push((missing_note(serving::unquoted(value)), origin));
        }
        for other in others {
            if book.may_read_in(origin, other, Open::of(open, other), MOST) {
                open.push(other.path());
                take(other, form, around, open, book, found);
                open.pop();
            }
        }
    }
}
