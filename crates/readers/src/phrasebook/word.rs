//! A word of a statement.

/// A word of a statement: its text without quotes, and its position in the export.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) struct Word<'a> {
    pub(super) text: &'a str,
    pub(super) start: u32,
    pub(super) end: u32,
    /// Whether it was in quotes.
    pub(super) quoted: bool,
}

impl<'a> Word<'a> {
    /// A word without quotes.
    pub(super) fn bare(text: &'a str, start: u32, end: u32) -> Self {
        Self { text, start, end, quoted: false }
    }
}
