//! Exports, compared with their checksums.

use serde::Serialize;

/// A collected export, compared with the checksums that were made of it on the machine.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize)]
pub struct ManifestRow {
    /// Path of the file with the checksums.
    pub path: String,
    /// Number of files that are as they were collected.
    pub same: usize,
    /// Files that differ from their checksums.
    pub changed: Vec<String>,
    /// Files that have a checksum and are not there.
    pub missing: Vec<String>,
    /// Files that are there without a checksum.
    pub added: Vec<String>,
    /// Lines that are no checksums, from 1.
    pub malformed: Vec<usize>,
}
