//! Small estates written as text, with all analyses, for tests.

use crate::context::Analyses;
use trevlin_estate::testing;
pub use trevlin_estate::testing::{BEHIND, GATE, certificate, is_read};

/// An estate from paths (`device/file`) and texts.
pub fn estate(files: &[(&str, &str)]) -> Analyses {
    estate_with(files, "")
}

/// The same with an estate file.
pub fn estate_with(files: &[(&str, &str)], estate_file: &str) -> Analyses {
    Analyses::of(testing::estate_with(files, estate_file))
}
