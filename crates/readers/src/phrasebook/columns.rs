//! Tables: exports that are one, and tables among the lines of others.

use super::level::Level;
use super::line_words;
use super::pattern::Word;
use super::sink::Sink;
use trevlin_model::{Export, Origin};

/// A table among the lines of an export. Its line of headings is a statement that says `name`; each line is a `row` in it, each cell
/// a statement in that, with its heading before it.
#[derive(Debug, Clone)]
pub(super) struct Table {
    pub(super) name: String,
    /// The line of headings.
    pub(super) begins: Level,
    /// The line behind the last row. An empty line ends every table.
    pub(super) ends: Option<Level>,
    /// Between cells; without it, cells begin where their headings do.
    pub(super) separator: Option<char>,
    /// Names in place of the headings.
    pub(super) columns: Vec<String>,
}

/// Tables of a phrasebook, with the one that the lines at hand are in.
pub(super) struct Tables<'a, 'b> {
    forms: &'b [Table],
    open: Option<Open<'a, 'b>>,
}

struct Open<'a, 'b> {
    form: &'b Table,
    /// Headings, each with the letter of its line that it begins at.
    columns: Vec<(&'a str, usize)>,
    depth: usize,
    indentation: usize,
}

impl<'a, 'b> Tables<'a, 'b> {
    pub(super) fn of(forms: &'b [Table]) -> Self {
        Self { forms, open: None }
    }

    /// Ends the table at hand.
    pub(super) fn end(&mut self) {
        self.open = None;
    }

    /// Whether a line is part of a table, or its heading; then its statements are taken. `depth` is that of the line.
    pub(super) fn line(
        &mut self,
        export: &'a Export,
        line: &'a str,
        depth: usize,
        sink: &mut dyn Sink<'a>,
    ) -> bool
    where
        'b: 'a,
    {
        if self.forms.is_empty() {
            return false;
        }
        let words = line_words::plain(export, line.trim());
        let fits = |level: &Level| level.pattern.as_ref().is_some_and(|one| one.matches(&words).is_some());
        if let Some(form) = self.forms.iter().find(|form| fits(&form.begins)) {
            let mut columns: Vec<(&str, usize)> = match form.separator {
                Some(sign) => pieces(line, sign).into_iter().map(|cell| (cell, 0)).collect(),
                None => headings(line),
            };
            for (column, name) in columns.iter_mut().zip(&form.columns) {
                column.0 = name;
            }
            if form.separator.is_some() {
                let further = form.columns.iter().skip(columns.len()).map(|name| (name.as_str(), 0));
                columns.extend(further.collect::<Vec<_>>());
            }
            let origin = export.origin_of(line.trim());
            sink.statement(depth, &[Word::bare(&form.name, origin.start, origin.start)], origin);
            self.open = Some(Open { form, columns, depth, indentation: indentation(line) });
            return true;
        }
        let Some(open) = &self.open else { return false };
        let leaves = open.depth > 0 && indentation(line) < open.indentation;
        let no_cells = open.form.separator.is_some_and(|sign| !line.contains(sign));
        if leaves || no_cells || open.form.ends.as_ref().is_some_and(fits) {
            self.open = None;
            return false;
        }
        // A line below the headings.
        if !line.contains(char::is_alphanumeric) {
            return true;
        }
        open.row(export, line, sink);
        true
    }
}

impl<'a> Open<'a, '_> {
    fn row(&self, export: &'a Export, line: &'a str, sink: &mut dyn Sink<'a>) {
        let origin = export.origin_of(line.trim());
        sink.statement(self.depth + 1, &[Word::bare("row", origin.start, origin.start)], origin);
        let cells = match self.form.separator {
            Some(sign) => Some(pieces(line, sign)),
            None => self.aligned(export, line),
        };
        let Some(cells) = cells.filter(|cells| cells.len() <= self.columns.len()) else {
            sink.broken(origin, "the cells of this row are not below the headings of the table");
            return;
        };
        for (cell, (name, _)) in cells.into_iter().zip(&self.columns).filter(|(cell, _)| !cell.is_empty()) {
            let at = export.origin_of(cell).start;
            let mut found = vec![Word::bare(name, at, at)];
            values(export, cell, &mut found);
            sink.statement(self.depth + 2, &found, origin);
        }
    }

    /// Cells below their headings, or as many as there are headings.
    fn aligned(&self, export: &'a Export, line: &'a str) -> Option<Vec<&'a str>> {
        let at = |letter: usize| line.char_indices().nth(letter).map_or(line.len(), |(at, _)| at);
        let mut starts: Vec<usize> = self.columns.iter().map(|(_, letter)| at(*letter)).collect();
        if let Some(first) = starts.first_mut() {
            *first = 0;
        }
        let between = |start: &usize| {
            *start == 0 || *start == line.len() || line[..*start].ends_with(char::is_whitespace)
        };
        if starts.iter().all(between) {
            let ends = starts.iter().skip(1).copied().chain([line.len()]);
            return Some(starts.iter().zip(ends).map(|(from, to)| line[*from..to].trim()).collect());
        }
        let wide: Vec<&str> = line.split("  ").map(str::trim).filter(|cell| !cell.is_empty()).collect();
        let narrow: Vec<&str> = line_words::plain(export, line).into_iter().map(|word| word.text).collect();
        [wide, narrow].into_iter().find(|cells| cells.len() == self.columns.len())
    }
}

/// How far in a line begins. A tab reaches to the next multiple of eight.
pub(super) fn indentation(line: &str) -> usize {
    let blanks = line.chars().take_while(|sign| sign.is_whitespace());
    blanks.fold(0, |width, sign| if sign == '\t' { width / 8 * 8 + 8 } else { width + 1 })
}

/// Cells between signs, which may stand at both ends as well.
fn pieces(line: &str, sign: char) -> Vec<&str> {
    let inner = line.trim();
    let framed = inner.strip_prefix(sign).and_then(|rest| rest.strip_suffix(sign));
    let mut found = rows(framed.unwrap_or(inner), sign);
    if found.is_empty() { Vec::new() } else { found.swap_remove(0) }
}

/// Headings of a line, with the letters that they begin at: between two blanks where there are any, otherwise word by word.
fn headings(line: &str) -> Vec<(&str, usize)> {
    let wide = line.trim().contains("  ") || line.trim().contains('\t');
    let mut found = Vec::new();
    let (mut start, mut blanks) = (None, 0);
    let letter = |at: usize| line[..at].chars().count();
    for (at, sign) in line.char_indices().chain([(line.len(), '\n')]) {
        if !sign.is_whitespace() {
            start.get_or_insert(at);
            blanks = 0;
            continue;
        }
        blanks += if sign == ' ' { 1 } else { 2 };
        if let Some(from) = start.filter(|_| blanks > 1 || !wide) {
            found.push((line[from..at].trim(), letter(from)));
            start = None;
        }
    }
    found
}

/// The most frequent sign between the headings of a line.
pub(super) fn separator(head: &str) -> char {
    let counts = [',', ';', '\t', '|'].map(|sign| (head.matches(sign).count(), sign));
    counts.into_iter().rev().max_by_key(|(count, _)| *count).map_or(',', |one| one.1)
}

/// A table with a line of headings: each line is a `row`, each cell a statement in it.
pub(super) fn csv<'a>(comments: &[String], export: &'a Export, sink: &mut dyn Sink<'a>) {
    let is_head = |line: &&str| !line_words::is_comment(line.trim(), comments);
    let Some(head) = export.lines().map(|line| line.text).find(is_head) else { return };
    let text = &export.text()[export.origin_of(head).start as usize..];
    let mut rows = rows(text, separator(head)).into_iter();
    let Some(headings) = rows.next() else { return };
    let place = |cell: &str| export.origin_of(cell);
    for row in rows.filter(|row| row.iter().any(|cell| !cell.is_empty())) {
        let (first, last) = (row.first().copied().unwrap_or(""), row.last().copied().unwrap_or(""));
        if line_words::is_comment(first, comments) && !first.is_empty() {
            continue;
        }
        let line = Origin { end: place(last).end.max(place(first).start + 1), ..place(first) };
        let heading = Word::bare("row", line.start, line.start);
        sink.statement(0, &[heading], line);
        for (cell, name) in row.iter().zip(&headings).filter(|(cell, _)| !cell.is_empty()) {
            let mut found = vec![Word::bare(name, place(cell).start, place(cell).start)];
            values(export, cell, &mut found);
            sink.statement(1, &found, line);
        }
        if row.len() > headings.len() {
            sink.broken(line, "this row has more cells than there are headings");
        }
    }
}

/// The words of a cell. Semicolons separate its values as commas do.
fn values<'a>(export: &'a Export, cell: &'a str, into: &mut Vec<Word<'a>>) {
    line_words::words(export, cell, &[], into);
    for word in into.iter_mut().filter(|word| !word.quoted && word.text.len() > 1) {
        *word = word.part(0, word.text.trim_end_matches(';').len());
    }
}

/// Cells by row. A quoted cell may contain separators and line ends (RFC 4180); doubled quotes inside stay doubled.
fn rows(text: &str, separator: char) -> Vec<Vec<&str>> {
    let mut rows = vec![Vec::new()];
    let (mut start, mut quoted) = (0, false);
    let cell = |from: usize, to: usize| {
        let cell = text[from..to].trim();
        cell.strip_prefix('"').and_then(|rest| rest.strip_suffix('"')).unwrap_or(cell).trim()
    };
    for (at, letter) in text.char_indices() {
        match letter {
            '"' => quoted = !quoted,
            _ if quoted => {}
            '\n' => {
                if let Some(row) = rows.last_mut() {
                    row.push(cell(start, at));
                }
                rows.push(Vec::new());
                start = at + 1;
            }
            _ if letter == separator => {
                if let Some(row) = rows.last_mut() {
                    row.push(cell(start, at));
                }
                start = at + letter.len_utf8();
            }
            _ => {}
        }
    }
    if start < text.len()
        && let Some(row) = rows.last_mut()
    {
        row.push(cell(start, text.len()));
    }
    rows
}
