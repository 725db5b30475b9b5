//! How much is told beside the output.

/// How much to tell while reading.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Verbosity {
    /// Nothing.
    Nothing,
    /// What was left out.
    Warnings,
    /// What each file was taken for as well.
    Everything,
}
