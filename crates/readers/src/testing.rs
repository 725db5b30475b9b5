//! Common parts of the readers' tests.

use crate::{ReadContext, Reading};
use trevlin_model::{Export, ExportId};

/// Result of a reader for the first of some files, each with its path, with the others as context.
pub(crate) fn first(read: fn(&Export, &ReadContext<'_>) -> Reading, files: &[(&str, &str)]) -> Reading {
    let exports: Vec<Export> = files
        .iter()
        .enumerate()
        .map(|(at, (path, text))| Export::new(ExportId(at as u32), *path, (*text).into()))
        .collect();
    read(&exports[0], &ReadContext::of(exports.iter().collect()))
}
