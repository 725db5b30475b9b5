//! Copies that no daemon reads.

use trevlin_model::Export;

/// Suffixes of copies that editors, administrators and package managers leave beside the file that a daemon reads.
pub(crate) const COPIES: [&str; 14] = [
    "~",
    ".bak",
    ".backup",
    ".old",
    ".orig",
    ".save",
    ".sample",
    ".example",
    ".disabled",
    ".dpkg-dist",
    ".dpkg-old",
    ".dpkg-new",
    ".rpmnew",
    ".rpmsave",
];

/// Whether a file is a copy that no daemon reads, by its name.
#[must_use]
pub fn is_copy(export: &Export) -> bool {
    let name = export.file_name().to_ascii_lowercase();
    COPIES.iter().any(|ending| name.ends_with(ending))
}
