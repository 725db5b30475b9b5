//! One export as its reader left it.

use trevlin_model::{Export, Facts, Ledger};

/// One export as read.
#[derive(Debug)]
pub struct Input {
    /// The export. Its number is its place among all inputs.
    pub export: Export,
    /// The folder of its device.
    pub folder: String,
    /// Name of the format, where a reader took it.
    pub format: Option<&'static str>,
    /// Its facts.
    pub facts: Box<Facts>,
    /// Classification of its lines.
    pub ledger: Ledger,
}
