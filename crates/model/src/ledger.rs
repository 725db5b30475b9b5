//! The ledger of lines: understood, ignored, and not understood ones.

use crate::{Limit, Origin};

/// Classification of a line.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub enum LineClass {
    /// It became facts.
    Understood,
    /// Known, and without bearing on what Trevlin judges; also blank lines and comments.
    Ignored,
    /// Not known, or known and wrong. Never silent.
    NotUnderstood,
}

/// Something to tell about a place in an export. The text must hold no secret.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Note {
    /// Where.
    pub origin: Origin,
    /// The problem, the expected content, and the remedy.
    pub text: String,
}

/// Lines of one export by what became of them.
#[derive(Debug, Clone, Default)]
pub struct Ledger {
    classes: Vec<LineClass>,
    /// One note for each place that was not understood, or that was understood with a reservation.
    pub notes: Vec<Note>,
    /// Parts left out because of a limit, with the first places of each limit.
    pub cuts: Vec<Truncation>,
    /// Why the whole export was not read, where a reader failed.
    pub faults: Vec<String>,
    /// Missing parts.
    pub gaps: Vec<Gap>,
    /// Whether nothing of the export is in force: no program reads it, or what runs is in another.
    pub aside: bool,
}

/// A missing part, so that everything that depends on it is not known.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Gap {
    /// The missing part.
    pub kind: GapKind,
    /// The line that refers to it.
    pub origin: Origin,
}

/// Kinds of missing parts.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum GapKind {
    /// A file that is read in here and is not among the exports, by its path.
    Missing(String),
    /// Left out because of a limit or an error, with the message.
    LeftOut(String),
    /// Settings that the program takes from a database, as a phrase ("connections").
    InDatabase(&'static str),
}

/// A place from which on something was not read, since it is beyond a limit.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Truncation {
    /// Which limit.
    pub limit: Limit,
    /// Where.
    pub origin: Origin,
    /// The part left out, and the remedy.
    pub text: String,
}

impl Ledger {
    /// A ledger for an export with this number of lines, all classified as ignored at first.
    #[must_use]
    pub fn new(lines: u32) -> Self {
        Self {
            classes: vec![LineClass::Ignored; lines as usize],
            notes: Vec::new(),
            cuts: Vec::new(),
            faults: Vec::new(),
            gaps: Vec::new(),
            aside: false,
        }
    }

    /// Records that the rest is left out from here on. A limit that is reached repeatedly is recorded for the first places only; returns
    /// whether this is one of them.
    pub fn cut(&mut self, cut: Truncation) -> bool {
        const MOST: usize = 4;
        let first = self.cuts.iter().filter(|known| known.limit == cut.limit).count() < MOST;
        if first {
            self.cuts.push(cut);
        }
        first
    }

    /// Records that nothing of the export is in force, and why, at its beginning.
    pub fn put_aside(&mut self, origin: Origin, why: impl Into<String>) {
        self.aside = true;
        self.notes.push(Note { origin, text: why.into() });
    }

    /// Sets the class of the lines `first..=last` (from 1). "Not understood" is never replaced.
    pub fn set(&mut self, first: u32, last: u32, class: LineClass) {
        let from = (first.max(1) - 1) as usize;
        let to = (last as usize).min(self.classes.len());
        for entry in self.classes.get_mut(from..to).unwrap_or_default() {
            if *entry != LineClass::NotUnderstood {
                *entry = class;
            }
        }
    }

    /// How many lines have this class.
    #[must_use]
    pub fn count(&self, class: LineClass) -> u32 {
        self.classes.iter().filter(|entry| **entry == class).count() as u32
    }

    /// The class of a line (from 1).
    #[must_use]
    pub fn class(&self, line: u32) -> Option<LineClass> {
        self.classes.get(line.checked_sub(1)? as usize).copied()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn not_understood_stays() {
        let mut ledger = Ledger::new(3);
        ledger.set(2, 9, LineClass::NotUnderstood);
        ledger.set(1, 3, LineClass::Understood);
        assert_eq!(ledger.count(LineClass::Understood), 1);
        assert_eq!(ledger.count(LineClass::NotUnderstood), 2);
        assert_eq!(ledger.class(4), None);
        ledger.set(8, 9, LineClass::Understood);
    }
}
