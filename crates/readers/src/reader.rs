//! The interface of readers.

use crate::growth;
use crate::places;
use aho_corasick::packed;
use std::any::{Any, TypeId};
use std::collections::{BTreeMap, BTreeSet};
use std::sync::{Arc, LazyLock, Mutex, OnceLock, PoisonError};
use trevlin_model::ipsec::IkeDaemon;
use trevlin_model::{
    Export, ExportId, Facts, Gap, GapKind, Ledger, Limit, LineClass, Note, Origin, Truncation, find_path,
    find_paths,
};

/// How sure a reader is that an export is of its format.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub enum Recognition {
    /// It is not.
    No,
    /// By the file's name.
    Name,
    /// By the content.
    Content,
    /// The content names its format.
    Declared,
}

/// Lines at the start of an export by which it is recognised.
pub(crate) const TELLING_LINES: usize = 400;

/// A reader for one format.
#[derive(Debug)]
pub struct Reader {
    /// Name of the format, as outputs show it.
    pub name: &'static str,
    /// Name of the format, as a phrase.
    pub title: &'static str,
    /// Where the format is documented.
    pub manual: &'static str,
    /// Whether an export is of this format.
    pub recognise: fn(&Export) -> Recognition,
    /// Facts of an export. Other exports of the same device are available for included files.
    pub read: fn(&Export, &ReadContext<'_>) -> Reading,
}

/// The reader for an export, and others that claim it with the same right.
#[derive(Debug, Default, Clone)]
pub struct Recognised {
    /// Who reads it.
    pub reader: Option<&'static Reader>,
    /// Who could have.
    pub also: Vec<&'static Reader>,
    /// Whether the export names its format itself.
    pub declared: bool,
}

/// Result of reading an export.
#[derive(Debug, Default)]
pub struct Reading {
    /// Facts.
    pub facts: Box<Facts>,
    /// Classification of each line.
    pub ledger: Ledger,
    /// Classification of lines in other exports that this one includes.
    pub elsewhere: Vec<(Origin, LineClass)>,
    /// Whether the file only waits to be enabled, so that nothing in it is in force or missing.
    pub waits: bool,
}

impl Reading {
    /// A reading with nothing in it yet.
    #[must_use]
    pub fn of(export: &Export) -> Self {
        Self {
            facts: Box::default(),
            ledger: Ledger::new(export.line_count()),
            elsewhere: Vec::new(),
            waits: false,
        }
    }
}

/// Numbers of exports that are of a reader's format, and how sure that is, by the reader's name.
type ByReader = BTreeMap<&'static str, Arc<Vec<(usize, Recognition)>>>;

/// Results computed by readers from all files of a device, by type, and whether the budget was exceeded.
type WorkedOut = BTreeMap<TypeId, (Arc<dyn Any + Send + Sync>, bool)>;

/// The other exports of the device.
#[derive(Debug, Default, Clone)]
pub struct ReadContext<'a> {
    /// All exports of the device, the one being read among them.
    pub exports: Vec<&'a Export>,
    /// The IKE daemon that reads the files, where it is stated: two daemons have files of the same name.
    pub ike_daemon: Option<IkeDaemon>,
    /// Paths of files beside the exports that are not read: unreadable ones, and links that are not followed.
    unread: Vec<String>,
    /// Exports that every reader was asked about, and that are of no format.
    of_no_format: BTreeSet<ExportId>,
    /// Paths of exports that others include, by the function that finds them: computed once for each format.
    read_in: Arc<Mutex<BTreeMap<usize, Arc<BTreeSet<String>>>>>,
    /// Numbers of exports by the last part of their paths.
    by_name: Arc<OnceLock<BTreeMap<String, Vec<usize>>>>,
    /// Exports of each reader's format: a device has many files, and many readers need all of their own.
    recognised: Arc<Mutex<ByReader>>,
    /// Words that tell, of each export.
    signs: Arc<OnceLock<Vec<Option<crate::format_hints::Found>>>>,
    /// Numbers of the lines of each export that may contain an include directive.
    including: Arc<OnceLock<Vec<Vec<u32>>>>,
    /// Results of patterns with wildcards: a device may have many files that use the same pattern.
    patterns: Arc<Mutex<BTreeMap<String, Arc<Vec<usize>>>>>,
    /// Results computed by readers from all files of the device, by type.
    worked_out: Arc<Mutex<WorkedOut>>,
}

impl<'a> ReadContext<'a> {
    /// The other exports, without further information.
    #[must_use]
    pub fn of(exports: Vec<&'a Export>) -> Self {
        Self::with_ike_daemon(exports, None)
    }

    /// The other exports, and whose files for IKE they are.
    #[must_use]
    pub fn with_ike_daemon(exports: Vec<&'a Export>, ike_daemon: Option<IkeDaemon>) -> Self {
        Self { exports, ike_daemon, ..Self::default() }
    }

    /// The same, where it is known which exports are of no format: readers that look for others of theirs leave these out.
    #[must_use]
    pub fn of_no_format(self, of_no_format: BTreeSet<ExportId>) -> Self {
        Self { of_no_format, ..self }
    }

    /// The same, with the paths of files that are not read.
    #[must_use]
    pub fn with_unread(self, unread: Vec<String>) -> Self {
        Self { unread, ..self }
    }
}

impl<'a> ReadContext<'a> {
    /// Numbers of the exports with this last part of their paths, in order.
    fn named(&self, name: &str) -> &[usize] {
        let by_name = self.by_name.get_or_init(|| {
            let mut by_name: BTreeMap<String, Vec<usize>> = BTreeMap::new();
            for (at, export) in self.exports.iter().enumerate() {
                by_name.entry(export.file_name().to_owned()).or_default().push(at);
            }
            by_name
        });
        by_name.get(name).map_or(&[], Vec::as_slice)
    }

    /// The export that a path in `named_in` means.
    #[must_use]
    pub fn find(&self, path: &str, named_in: &Export) -> Option<&'a Export> {
        // Any match of a path ends like the path.
        let candidates = self.named(path.rsplit('/').next()?);
        let paths: Vec<_> = candidates.iter().map(|at| self.exports[*at].path()).collect();
        find_path(path, named_in.path(), &paths).map(|at| self.exports[candidates[at]])
    }

    /// The exports that a path with wildcards in `named_in` means, in order of path.
    #[must_use]
    pub fn find_all(&self, pattern: &str, named_in: &Export) -> Vec<&'a Export> {
        if !pattern.contains(['*', '?', '[']) {
            return self.find(pattern, named_in).into_iter().collect();
        }
        // The matches of an absolute pattern do not depend on its place.
        let folder = named_in.path().rsplit_once('/').map_or("", |(folder, _)| folder);
        let place = if pattern.starts_with('/') { "" } else { folder };
        let key = format!("{place}\n{pattern}");
        let known = self.patterns.lock().unwrap_or_else(PoisonError::into_inner).get(&key).cloned();
        let found = known.unwrap_or_else(|| {
            let paths: Vec<_> = self.exports.iter().map(|export| export.path()).collect();
            let found = Arc::new(find_paths(pattern, named_in.path(), &paths));
            let mut patterns = self.patterns.lock().unwrap_or_else(PoisonError::into_inner);
            patterns.insert(key, Arc::clone(&found));
            found
        });
        found.iter().map(|at| self.exports[*at]).collect()
    }

    /// Whether a path exists but is not read.
    pub(crate) fn has_unread(&self) -> bool {
        !self.unread.is_empty()
    }

    /// Paths that are not read and match a path in `named_in`, with wildcards or without.
    pub(crate) fn find_unread(&self, pattern: &str, named_in: &Export) -> Vec<&str> {
        if self.unread.is_empty() {
            return Vec::new();
        }
        let paths: Vec<&str> = self.unread.iter().map(String::as_str).collect();
        find_paths(pattern, named_in.path(), &paths).into_iter().map(|at| paths[at]).collect()
    }

    /// The exports that are of a reader's format, each with how sure that is.
    pub(crate) fn of_format(&self, reader: &Reader) -> impl Iterator<Item = (&'a Export, Recognition)> {
        let known = self.recognised.lock().unwrap_or_else(PoisonError::into_inner).get(reader.name).cloned();
        let found = known.unwrap_or_else(|| {
            let looked_through = |one: &&Export| {
                (!self.of_no_format.contains(&one.id())).then(|| crate::format_hints::Found::of(one))
            };
            let signs = self.signs.get_or_init(|| self.exports.iter().map(looked_through).collect());
            let of = |(at, (export, signs)): (usize, (&&Export, &Option<crate::format_hints::Found>))| {
                let signs = signs.as_ref()?;
                let may_be = signs.may_be(reader.name) || by_name(reader, export);
                let recognised = if may_be { recognise(reader, export) } else { Recognition::No };
                (recognised != Recognition::No).then_some((at, recognised))
            };
            let found: Arc<Vec<_>> =
                Arc::new(self.exports.iter().zip(signs).enumerate().filter_map(of).collect());
            let mut recognised = self.recognised.lock().unwrap_or_else(PoisonError::into_inner);
            recognised.insert(reader.name, Arc::clone(&found));
            found
        });
        (0..found.len()).map(move |at| (self.exports[found[at].0], found[at].1))
    }

    /// A result computed from all files of the device, whichever of them is read: computed once for each device, identified by its type.
    pub(crate) fn once<T: Any + Send + Sync>(&self, work_out: impl FnOnce() -> T) -> Arc<T> {
        let of_type = TypeId::of::<T>();
        let lock = || self.worked_out.lock().unwrap_or_else(PoisonError::into_inner);
        let known = lock().get(&of_type).cloned();
        let known = known.and_then(|(known, exceeded)| Some((known.downcast().ok()?, exceeded)));
        let (made, exceeded) = known.unwrap_or_else(|| {
            // Outside of the lock: the computation may need other results.
            let (made, exceeded) = growth::within_all(&self.exports, work_out);
            let made = Arc::new(made);
            lock().insert(of_type, (Arc::<T>::clone(&made), exceeded));
            (made, exceeded)
        });
        if exceeded {
            growth::was_exceeded();
        }
        made
    }

    /// Lines that may include a file: those with one of the keywords that formats have for it. They are few, and every format selects its
    /// own among them.
    pub(crate) fn including(&self) -> &[Vec<u32>] {
        self.including.get_or_init(|| {
            let of = |export: &&Export| {
                let places = words_of_including(export.text()).into_iter();
                let mut lines: Vec<u32> = places.map(|place| export.line_of(place as u32)).collect();
                lines.dedup();
                lines
            };
            self.exports.iter().map(of).collect()
        })
    }

    /// Whether a program's main file with one of these names is among the exports, so that this file is in force only where it is included.
    pub(crate) fn has_main(&self, names: &[&str], export: &Export) -> bool {
        let main = |name: &&str| self.named(name).iter().any(|at| self.exports[*at].path() != export.path());
        !names.contains(&export.file_name()) && names.iter().any(main)
    }

    /// The message about an include that is read as a file of its own: none, unless it names one file that was not exported.
    pub(crate) fn missing_include(&self, path: &str, named_in: &Export) -> Option<String> {
        let missing = !path.contains(['*', '?', '[']) && self.find(path, named_in).is_none();
        missing.then(|| missing_note(path))
    }

    /// Whether another export of the device reads this one in; `included` gives what one line of an export reads in.
    pub(crate) fn reads_in(
        &self,
        export: &Export,
        included: fn(&str, &Export, &ReadContext<'a>) -> Vec<&'a Export>,
    ) -> bool {
        // Each of a device's many files needs it, so included files are searched for once.
        let mut known = self.read_in.lock().unwrap_or_else(PoisonError::into_inner);
        let paths = known.entry(included as usize).or_insert_with(|| {
            let mut paths = BTreeSet::new();
            for (other, lines) in self.exports.iter().zip(self.including()) {
                let lines = lines.iter().filter_map(|number| other.line(*number));
                let found = lines.flat_map(|line| included(line.text, other, self));
                paths.extend(
                    found.map(|one| one.path()).filter(|path| *path != other.path()).map(str::to_owned),
                );
            }
            Arc::new(paths)
        });
        paths.contains(export.path())
    }
}

/// Positions of the keywords for including a file, in any case.
///
/// Searches for three letters of each that are rarely adjacent, in every case they occur in: searching a few short patterns is many times
/// faster than searching words in any case.
fn words_of_including(text: &str) -> Vec<usize> {
    /// Each word, and the three letters of it that begin at the third.
    const WORDS: [(&str, [u8; 3]); 2] = [("include", *b"clu"), ("config", *b"nfi")];
    static SEARCH: LazyLock<Option<packed::Searcher>> = LazyLock::new(|| {
        let cased = |letters: [u8; 3]| {
            (0..8u8).map(move |capitals| -> [u8; 3] {
                std::array::from_fn(|at| {
                    if capitals >> at & 1 == 1 { letters[at].to_ascii_uppercase() } else { letters[at] }
                })
            })
        };
        packed::Searcher::new(WORDS.iter().flat_map(|(_, letters)| cased(*letters)))
    });
    let begins = |word: &str, place: usize| {
        let found = text.as_bytes().get(place..place + word.len());
        found.is_some_and(|found| found.eq_ignore_ascii_case(word.as_bytes()))
    };
    let stands = |place: &usize| WORDS.iter().any(|(word, _)| begins(word, *place));
    match &*SEARCH {
        Some(search) => {
            let hits = search.find_iter(text);
            hits.filter_map(|hit| hit.start().checked_sub(2)).filter(stands).collect()
        }
        // The fast search is not available on every processor.
        None => (0..text.len()).filter(stands).collect(),
    }
}

/// The note at a line that includes a file that was not exported.
pub(crate) fn missing_note(path: &str) -> String {
    format!("please provide `{path}`, which is included and not among the exports")
}

/// Sets ledger lines by origin and collects notes: the one thing every reader does for each statement.
pub(crate) struct LineRecorder<'a> {
    export: &'a Export,
    ledger: &'a mut Ledger,
    elsewhere: &'a mut Vec<(Origin, LineClass)>,
    /// Files read in so far, how often in all, and their bytes.
    read_in: (BTreeMap<ExportId, usize>, usize, usize),
}

/// How many files one export may read in, each time counted: a few lines that name a file with such lines, and so on, would never end.
const MOST_READ_IN: usize = 20_000;
/// How many times its own bytes, and those of the files that it reads in, each counted once, may be read in.
const TIMES_READ_IN: usize = 4;
/// Bytes that may be read in besides: a snippet that small files share is read in often.
const FREE_READ_IN: usize = 1 << 20;

/// State of reading when a file includes another.
#[derive(Debug, Clone, Copy)]
pub(crate) struct Open {
    /// Whether the other is open already.
    pub(crate) again: bool,
    /// How many files are open, the first among them.
    pub(crate) depth: usize,
}

impl Open {
    /// By the paths of the files that are open.
    pub(crate) fn of<P: AsRef<str>>(open: &[P], other: &Export) -> Self {
        Self { again: open.iter().any(|path| path.as_ref() == other.path()), depth: open.len() }
    }
}

impl<'a> LineRecorder<'a> {
    pub(crate) fn new(
        export: &'a Export,
        ledger: &'a mut Ledger,
        elsewhere: &'a mut Vec<(Origin, LineClass)>,
    ) -> Self {
        Self { export, ledger, elsewhere, read_in: (BTreeMap::new(), 0, 0) }
    }

    /// Puts the lines of an origin into a class. Places in other exports are kept apart.
    pub(crate) fn class(&mut self, origin: Origin, class: LineClass) {
        if origin.export == self.export.id() {
            let (first, last) = self.export.lines_of(origin);
            self.ledger.set(first, last, class);
        } else {
            self.elsewhere.push((origin, class));
        }
    }

    /// The statement became facts.
    pub(crate) fn understood(&mut self, origin: Origin) {
        self.class(origin, LineClass::Understood);
    }

    /// Whether a line of this export was already reported as not understood.
    pub(crate) fn is_told(&self, origin: Origin) -> bool {
        origin.export == self.export.id()
            && self.ledger.class(self.export.line_of(origin.start)) == Some(LineClass::NotUnderstood)
    }

    /// The statement was not understood; `text` states the problem, the expected content and the remedy.
    pub(crate) fn not_understood(&mut self, origin: Origin, text: impl Into<String>) {
        self.class(origin, LineClass::NotUnderstood);
        self.note(origin, text);
    }

    /// Records that the content from here on is beyond a limit and was not read; `what` names it, as the beginning of a sentence.
    pub(crate) fn cut(&mut self, origin: Origin, limit: Limit, what: &str) {
        self.class(origin, LineClass::NotUnderstood);
        let text = format!("{what}: more than {} {}", self.export.limits().get(limit), limit.row().what);
        // Lines included from another export are classified here too: no other reader followed them this far.
        if self.ledger.cut(Truncation { limit, origin, text: format!("{text}; {}", limit.remedy()) }) {
            self.note(origin, format!("{text}; what exceeds it was not read"));
        }
    }

    /// Whether an included file is read at this place: not recursively, not deeper than `most` or the limit, and not without end where
    /// files include others repeatedly. Skipped includes are reported.
    pub(crate) fn may_read_in(&mut self, origin: Origin, other: &Export, open: Open, most: usize) -> bool {
        self.may_read_in_part(origin, other, open, most, other.text().len())
    }

    /// The same for a part of an export that contains several files: this number of bytes of it.
    pub(crate) fn may_read_in_part(
        &mut self,
        origin: Origin,
        other: &Export,
        open: Open,
        most: usize,
        size: usize,
    ) -> bool {
        let path = other.path();
        if open.again {
            self.note(origin, format!("`{path}` includes itself; it was read once"));
            return false;
        }
        let most = most.min(self.export.limits().of(Limit::Includes));
        if open.depth > most {
            self.cut(origin, Limit::Includes, &format!("`{path}` was not included"));
            return false;
        }
        let (once, times, bytes) = &mut self.read_in;
        if once.insert(other.id(), size).is_none() {
            growth::gain(self.export, size);
        }
        *times += 1;
        *bytes += size;
        let most = FREE_READ_IN + TIMES_READ_IN * (self.export.text().len() + once.values().sum::<usize>());
        if *times > MOST_READ_IN || *bytes > most {
            self.cut(
                origin,
                Limit::Includes,
                "includes are repeated too often; the remaining ones were not read",
            );
            return false;
        }
        true
    }

    /// A script that runs at this place is not among the exports.
    pub(crate) fn missing(&mut self, origin: Origin, path: &str) {
        self.note(origin, format!("please provide `{path}`, which is run here and is not among the exports"));
        self.ledger.gaps.push(Gap { kind: GapKind::Missing(path.to_owned()), origin });
    }

    /// The statement was understood with a reservation.
    pub(crate) fn note(&mut self, origin: Origin, text: impl Into<String>) {
        if origin.export == self.export.id() {
            self.ledger.notes.push(Note { origin, text: text.into() });
        }
    }
}

/// How a reader recognises an export, by its content, its name and its place together. Most readers answer no, and then the place matters
/// no more.
pub(crate) fn recognise(reader: &Reader, export: &Export) -> Recognition {
    match (reader.recognise)(export) {
        Recognition::No => Recognition::No,
        found if places::may_be(reader.name, export.path()) => found,
        _ => Recognition::No,
    }
}

/// Whether a reader accepts files with the name of an export, whatever they contain.
pub(crate) fn by_name(reader: &Reader, export: &Export) -> bool {
    let name_alone = Export::new(export.id(), export.shared_path(), String::new());
    recognise(reader, &name_alone) != Recognition::No
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn words_of_including_are_found_in_whatever_capitals() {
        for (text, wanted) in [
            ("include", vec![0]),
            ("a Include b\nINCLUDE c iNcLuDe", vec![2, 12, 22]),
            ("config\tClu nfi CONFIG include_dir reconFig", vec![0, 15, 22, 36]),
            ("clude nfig onfig onclude inclu confi ünclude ëonfig", vec![]),
            ("inconfig confinclude", vec![2, 13]),
            ("", vec![]),
        ] {
            assert_eq!(words_of_including(text), wanted, "{text}");
            let long = format!("{}{text}", "x".repeat(64));
            let moved: Vec<_> = wanted.iter().map(|place| place + 64).collect();
            assert_eq!(words_of_including(&long), moved, "{long}");
        }
    }
}
