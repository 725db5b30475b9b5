//! Amount of messages besides the output.

/// How much to tell while reading.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Verbosity {
    /// Nothing.
    Nothing,
    /// Skipped input.
    Warnings,
    /// The format of each file as well.
    Everything,
}
