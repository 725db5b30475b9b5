//! One input file as text, and the one place where bytes become lines and columns.

use crate::Limits;
use crate::wiped::WipedText;
use serde::{Deserialize, Serialize};
use std::ops::Range;
use std::sync::{Arc, LazyLock};

/// Number of an export within one run; exports are numbered in the order of their paths.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct ExportId(pub u32);

/// Place of a fact: an export and a byte span in its decoded text (`start` inclusive, `end` exclusive).
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub struct Origin {
    /// The export that states the fact.
    pub export: ExportId,
    /// First byte of the statement.
    pub start: u32,
    /// First byte after the statement.
    pub end: u32,
}

/// A place a person can go to: line and column, both counted from 1; the column counts characters.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Position {
    /// Line, from 1.
    pub line: u32,
    /// Column in characters, from 1.
    pub column: u32,
}

/// Whether an export shows what applies at boot or what runs.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case")]
pub enum ExportState {
    /// A file that the device reads when it starts.
    Stored,
    /// A dump of the running system.
    Running,
}

/// One line of an export, without its line end.
#[derive(Debug, Clone, Copy)]
pub struct Line<'a> {
    /// Number, from 1.
    pub number: u32,
    /// Byte offset of its first character.
    pub start: u32,
    /// Its text, without `\n` or `\r\n`.
    pub text: &'a str,
}

impl Line<'_> {
    /// Byte offset of the first byte after the text.
    #[must_use]
    pub fn end(&self) -> u32 {
        self.start + self.text.len() as u32
    }
}

/// One input file: its path as the auditor sees it, and its text.
///
/// The text is wiped on drop, because an export holds secrets.
pub struct Export {
    id: ExportId,
    path: Arc<str>,
    text: WipedText,
    line_starts: Vec<u32>,
    limits: Arc<Limits>,
    /// How many lines it had, where its text was wiped.
    forgotten: Option<u32>,
}

/// The default limits, shared by all exports.
static DEFAULT_LIMITS: LazyLock<Arc<Limits>> = LazyLock::new(Arc::default);

impl std::fmt::Debug for Export {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.debug_struct("Export").field("id", &self.id).field("path", &self.path).finish_non_exhaustive()
    }
}

impl Export {
    /// Takes decoded text. Texts are cut at 4 GiB minus one byte, far above the limit of the walker.
    #[must_use]
    pub fn new(id: ExportId, path: impl Into<Arc<str>>, text: String) -> Self {
        let text = WipedText::of(text);
        // Counted first, since there are as many as lines in all exports.
        let mut line_starts = Vec::with_capacity(memchr::memchr_iter(b'\n', text.as_bytes()).count() + 1);
        line_starts.push(0);
        line_starts.extend(memchr::memchr_iter(b'\n', text.as_bytes()).map(|at| at as u32 + 1));
        Self {
            id,
            path: path.into(),
            text,
            line_starts,
            limits: Arc::clone(&DEFAULT_LIMITS),
            forgotten: None,
        }
    }

    /// The same, to be followed as far as these limits go.
    #[must_use]
    pub fn within(mut self, limits: impl Into<Arc<Limits>>) -> Self {
        self.limits = limits.into();
        self
    }

    /// How far it is followed.
    #[must_use]
    pub fn limits(&self) -> &Limits {
        &self.limits
    }

    /// The same, for an export that is to be followed as far.
    #[must_use]
    pub fn shared_limits(&self) -> Arc<Limits> {
        Arc::clone(&self.limits)
    }

    /// The number given to it in this run.
    #[must_use]
    #[inline]
    pub fn id(&self) -> ExportId {
        self.id
    }

    /// Gives it another number. Only for who numbers exports, before anything points into them.
    pub fn renumber(&mut self, id: ExportId) {
        self.id = id;
    }

    /// Path relative to the estate, with `/` between its parts.
    #[must_use]
    #[inline]
    pub fn path(&self) -> &str {
        &self.path
    }

    /// The same, to be held by what outlives a look at it.
    #[must_use]
    pub fn shared_path(&self) -> Arc<str> {
        Arc::clone(&self.path)
    }

    /// The whole decoded text.
    #[must_use]
    #[inline]
    pub fn text(&self) -> &str {
        &self.text
    }

    /// Wipes the text of an export without security relevance: in a large estate most bytes are lists and logs in no known format. The
    /// number of lines is kept; each is empty.
    pub fn forget_text(&mut self) {
        self.forgotten = Some(self.line_count());
        self.text.wipe();
        self.line_starts = vec![0];
    }

    /// The text at a place of this export; empty when the place is not in it.
    #[must_use]
    pub fn text_at(&self, place: Origin) -> &str {
        self.text.get(place.start as usize..place.end as usize).unwrap_or_default()
    }

    /// The last part of the path.
    #[must_use]
    #[inline]
    pub fn file_name(&self) -> &str {
        self.path.rsplit('/').next().unwrap_or(&self.path)
    }

    /// An origin in this export.
    #[must_use]
    #[inline]
    pub fn origin(&self, span: Range<usize>) -> Origin {
        Origin { export: self.id, start: span.start as u32, end: span.end as u32 }
    }

    /// The origin of a piece of text borrowed from [`Export::text`].
    ///
    /// Readers slice the text and never copy, so the place of a slice is the place of the fact.
    /// A slice from elsewhere gives the first byte of the export.
    #[must_use]
    #[inline]
    pub fn origin_of(&self, part: &str) -> Origin {
        let base = self.text.as_ptr() as usize;
        let at = part.as_ptr() as usize;
        if at >= base && at + part.len() <= base + self.text.len() {
            self.origin(at - base..at - base + part.len())
        } else {
            self.origin(0..0)
        }
    }

    /// Line and column of a byte offset; an offset past the end gives the last place.
    #[must_use]
    #[inline]
    pub fn position(&self, offset: u32) -> Position {
        let mut offset = (offset as usize).min(self.text.len());
        while !self.text.is_char_boundary(offset) {
            offset -= 1;
        }
        let line = self.line_starts.partition_point(|start| *start as usize <= offset);
        let start = self.line_starts[line - 1] as usize;
        Position { line: line as u32, column: self.text[start..offset].chars().count() as u32 + 1 }
    }

    /// The line of a byte offset, counted from 1: as [`Export::position`], without looking at the line itself.
    #[must_use]
    #[inline]
    pub fn line_of(&self, offset: u32) -> u32 {
        let offset = (offset as usize).min(self.text.len());
        self.line_starts.partition_point(|start| *start as usize <= offset) as u32
    }

    /// First and last line of a place in this export, from 1.
    #[must_use]
    pub fn lines_of(&self, origin: Origin) -> (u32, u32) {
        let last = origin.end.max(origin.start + 1) - 1;
        let first = self.line_starts.partition_point(|start| *start <= origin.start);
        // Most places lie within one line.
        let rest = self.line_starts.get(first..).unwrap_or_default();
        let more = if rest.first().is_none_or(|next| *next > last) {
            0
        } else {
            rest.partition_point(|start| *start <= last)
        };
        (first as u32, (first + more) as u32)
    }

    /// The line with this number, if there is one.
    #[must_use]
    #[inline]
    pub fn line(&self, number: u32) -> Option<Line<'_>> {
        let index = number.checked_sub(1)? as usize;
        let start = *self.line_starts.get(index)? as usize;
        let end = self.line_starts.get(index + 1).map_or(self.text.len(), |next| *next as usize - 1);
        let text = &self.text[start..end];
        Some(Line { number, start: start as u32, text: text.strip_suffix('\r').unwrap_or(text) })
    }

    /// All lines in order. A line end at the very end of the text does not start another line.
    #[inline]
    pub fn lines(&self) -> impl Iterator<Item = Line<'_>> {
        (1..=self.line_count()).filter_map(|number| self.line(number))
    }

    /// Place of its last line; of its beginning where it has none.
    #[must_use]
    pub fn last_line(&self) -> Origin {
        self.line(self.line_count()).map_or(self.origin(0..0), |line| self.origin_of(line.text))
    }

    /// Whether it ends with a line end, as what programs write does; one that is cut off seldom ends there.
    #[must_use]
    pub fn ends_with_line(&self) -> bool {
        self.text.is_empty() || self.text.ends_with('\n') || self.forgotten.is_some()
    }

    /// Whether it seems to be cut off: it ends in the middle of a line, and not with what closes a document.
    #[must_use]
    pub fn breaks_off(&self) -> bool {
        let end = self.text.trim_end_matches([' ', '\t']);
        !self.ends_with_line()
            && !end.is_empty()
            && (!end.ends_with(['}', ']', '>']) || is_heading(end.rsplit('\n').next().unwrap_or_default()))
            && !end.ends_with("COMMIT")
            && !end.ends_with("-----")
    }

    /// How many lines there are; a text without its last line end counts that line too.
    #[must_use]
    #[inline]
    pub fn line_count(&self) -> u32 {
        let starts = self.line_starts.len() as u32;
        if let Some(forgotten) = self.forgotten {
            return forgotten;
        }
        if self.text.is_empty() || self.text.ends_with('\n') { starts - 1 } else { starts }
    }
}

/// Whether a line opens a section, `[name]`, of which something is to follow; a list of JSON is none.
fn is_heading(line: &str) -> bool {
    let name = line.trim().strip_prefix('[').and_then(|rest| rest.strip_suffix(']'));
    name.is_some_and(|name| {
        name.starts_with(char::is_alphabetic) && !name.contains(['"', ',', '{', '[', ':'])
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    fn export(text: &str) -> Export {
        Export::new(ExportId(3), "a/b.conf", text.into())
    }

    #[test]
    fn offsets_become_lines_and_columns() {
        let crlf = export("één\r\ntwo\nthree");
        for (offset, line, column) in
            [(0, 1, 1), (2, 1, 2), (5, 1, 4), (7, 2, 1), (11, 3, 1), (16, 3, 6), (99, 3, 6)]
        {
            assert_eq!(crlf.position(offset), Position { line, column }, "offset {offset}");
        }
        assert_eq!(crlf.position(1), Position { line: 1, column: 1 }, "inside a character is its start");
    }

    #[test]
    fn lines_leave_out_their_ends() {
        for (text, wanted) in
            [("", vec![]), ("\n", vec![""]), ("a\r\nb", vec!["a", "b"]), ("a\n\nb\n", vec!["a", "", "b"])]
        {
            let export = export(text);
            assert_eq!(export.lines().map(|line| line.text).collect::<Vec<_>>(), wanted, "{text:?}");
            assert_eq!(export.line_count() as usize, wanted.len(), "{text:?}");
        }
    }

    #[test]
    fn a_place_has_a_first_and_a_last_line() {
        let export = export("one\ntwo\n\nfour");
        for (start, end, wanted) in
            [(0, 0, (1, 1)), (0, 3, (1, 1)), (0, 4, (1, 1)), (2, 5, (1, 2)), (8, 13, (3, 4)), (9, 99, (4, 4))]
        {
            assert_eq!(export.lines_of(export.origin(start..end)), wanted, "{start}..{end}");
        }
    }

    #[test]
    fn a_text_that_is_forgotten_is_counted_still() {
        let mut export = export("one\ntwo\nthree");
        export.forget_text();
        assert_eq!((export.text(), export.line_count()), ("", 3));
        assert_eq!(export.position(5), Position { line: 1, column: 1 });
        assert_eq!(export.lines().map(|line| line.text).collect::<String>(), "");
    }

    #[test]
    fn a_slice_knows_its_place() {
        let export = export("one\ntwo\n");
        let two = export.line(2).unwrap().text;
        assert_eq!(export.origin_of(two), Origin { export: ExportId(3), start: 4, end: 7 });
        assert_eq!(export.origin_of("elsewhere").end, 0);
    }

    #[test]
    fn debug_shows_no_text() {
        assert!(!format!("{:?}", export("hunter2")).contains("hunter2"));
    }
}
