//! What a reader is.

use std::collections::{BTreeMap, BTreeSet};
use std::sync::{Arc, Mutex, PoisonError};
use trevlin_model::ipsec::IkeDaemon;
use trevlin_model::{Export, Facts, Ledger, LineClass, Note, Origin, find_path, find_paths};

/// How sure a reader is that an export is of its format.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub enum Recognition {
    /// It is not.
    No,
    /// The file's name says so.
    Name,
    /// The content says so.
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
    /// What it is, as a phrase.
    pub title: &'static str,
    /// Where the format is documented.
    pub manual: &'static str,
    /// Whether an export is of this format.
    pub recognise: fn(&Export) -> Recognition,
    /// Facts of an export. Other exports of the same device are at hand for what the format includes.
    pub read: fn(&Export, &Surroundings<'_>) -> Reading,
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

/// What a reader makes of an export.
#[derive(Debug, Default)]
pub struct Reading {
    /// Facts.
    pub facts: Facts,
    /// What became of each line.
    pub ledger: Ledger,
    /// What became of places in other exports that this one reads in.
    pub elsewhere: Vec<(Origin, LineClass)>,
}

impl Reading {
    /// A reading with nothing in it yet.
    #[must_use]
    pub fn of(export: &Export) -> Self {
        Self { facts: Facts::default(), ledger: Ledger::new(export.line_count()), elsewhere: Vec::new() }
    }
}

/// The other exports of the device.
#[derive(Debug, Default, Clone)]
pub struct Surroundings<'a> {
    /// All exports of the device, the one being read among them.
    pub exports: Vec<&'a Export>,
    /// Whose files for IKE these are, where somebody said so: two daemons have files of one name.
    pub ike_daemon: Option<IkeDaemon>,
    /// Paths of exports that others read in, by the function that finds them: worked out once for each format.
    read_in: Arc<Mutex<BTreeMap<usize, Arc<BTreeSet<String>>>>>,
}

impl<'a> Surroundings<'a> {
    /// The other exports, with nothing said about them.
    #[must_use]
    pub fn of(exports: Vec<&'a Export>) -> Self {
        Self::with_ike_daemon(exports, None)
    }

    /// The other exports, and whose files for IKE they are.
    #[must_use]
    pub fn with_ike_daemon(exports: Vec<&'a Export>, ike_daemon: Option<IkeDaemon>) -> Self {
        Self { exports, ike_daemon, read_in: Arc::default() }
    }
}

impl<'a> Surroundings<'a> {
    /// The export that a path in `named_in` means.
    #[must_use]
    pub fn find(&self, path: &str, named_in: &Export) -> Option<&'a Export> {
        let paths: Vec<_> = self.exports.iter().map(|export| export.path()).collect();
        find_path(path, named_in.path(), &paths).map(|at| self.exports[at])
    }

    /// The exports that a path with wildcards in `named_in` means, in order of path.
    #[must_use]
    pub fn find_all(&self, pattern: &str, named_in: &Export) -> Vec<&'a Export> {
        let paths: Vec<_> = self.exports.iter().map(|export| export.path()).collect();
        find_paths(pattern, named_in.path(), &paths).into_iter().map(|at| self.exports[at]).collect()
    }

    /// Whether a program's own file of one of these names is among the exports, so that this one is part of it where it is read in,
    /// and of nobody's where it is not.
    pub(crate) fn has_main(&self, names: &[&str], export: &Export) -> bool {
        let main = |one: &&&Export| names.contains(&one.file_name()) && one.path() != export.path();
        !names.contains(&export.file_name()) && self.exports.iter().any(|one| main(&one))
    }

    /// What is to be said of an include that is read as a file of its own: nothing, unless it names one file that was not
    /// exported.
    pub(crate) fn missing_include(&self, path: &str, named_in: &Export) -> Option<String> {
        let missing = !path.contains(['*', '?', '[']) && self.find(path, named_in).is_none();
        missing.then(|| missing_note(path))
    }

    /// Whether another export of the device reads this one in; `included` gives what one line of an export reads in.
    pub(crate) fn reads_in(
        &self,
        export: &Export,
        included: fn(&str, &Export, &Surroundings<'a>) -> Vec<&'a Export>,
    ) -> bool {
        // A device has many files, and each asks; so what is read in by any of them is looked for once.
        let mut known = self.read_in.lock().unwrap_or_else(PoisonError::into_inner);
        let paths = known.entry(included as usize).or_insert_with(|| {
            let mut paths = BTreeSet::new();
            for other in &self.exports {
                let found = other.lines().flat_map(|line| included(line.text, other, self));
                paths.extend(
                    found.map(|one| one.path()).filter(|path| *path != other.path()).map(str::to_owned),
                );
            }
            Arc::new(paths)
        });
        paths.contains(export.path())
    }
}

/// What is noted at a line that reads in a file that was not exported.
pub(crate) fn missing_note(path: &str) -> String {
    format!("`{path}` is not among the exports; what it states is missing here")
}

/// What is asked about a file that was not exported.
pub(crate) fn missing_question(path: &str) -> String {
    format!("`{path}` is not among the exports; ask for it")
}

/// Sets ledger lines by origin and collects notes: the one thing every reader does for each statement.
pub(crate) struct Bookkeeper<'a> {
    export: &'a Export,
    ledger: &'a mut Ledger,
    elsewhere: &'a mut Vec<(Origin, LineClass)>,
}

impl<'a> Bookkeeper<'a> {
    pub(crate) fn new(
        export: &'a Export,
        ledger: &'a mut Ledger,
        elsewhere: &'a mut Vec<(Origin, LineClass)>,
    ) -> Self {
        Self { export, ledger, elsewhere }
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

    /// The statement was not understood; `text` says what was found, what was expected and what to do.
    pub(crate) fn not_understood(&mut self, origin: Origin, text: impl Into<String>) {
        self.class(origin, LineClass::NotUnderstood);
        self.note(origin, text);
    }

    /// The statement was understood with a reservation.
    pub(crate) fn note(&mut self, origin: Origin, text: impl Into<String>) {
        if origin.export == self.export.id() {
            self.ledger.notes.push(Note { origin, text: text.into() });
        }
    }
}
