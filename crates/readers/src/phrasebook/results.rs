//! What becomes of the statements of an export.

use crate::reader::Reading;
use std::sync::Arc;
use trevlin_model::{Note, Origin};

/// Result for a statement.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum PhraseResult {
    /// A phrase took it: its line in the phrasebook, and how it is written.
    Phrase(u32, Arc<str>),
    /// A statement without relevance.
    Passed,
    /// No phrase matches, or its values are invalid.
    Nobody(String),
}

/// An export as a phrasebook reads it, statement by statement.
#[derive(Debug, Default)]
pub struct Tried {
    /// Result for each statement, in the order of the export, with its line.
    pub statements: Vec<(Origin, PhraseResult)>,
    /// The sheet that comes out, secrets masked.
    pub sheet: String,
    /// Errors of the resulting sheet.
    pub notes: Vec<Note>,
    /// Facts, ledger, notes.
    pub reading: Reading,
}

/// Maximum number of words in a statement: the memory of a pattern grows with them.
pub(super) const LONGEST: usize = 4000;
