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

    /// A part of it, by places in its text. A name that stands for a place has no places of its own.
    pub(super) fn part(&self, from: usize, to: usize) -> Self {
        let text = self.text.get(from..to).unwrap_or_default();
        if self.start == self.end {
            return Self { text, ..*self };
        }
        Self { text, start: self.start + from as u32, end: self.start + to as u32, quoted: self.quoted }
    }
}
