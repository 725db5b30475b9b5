//! What the tests of readers share.

use crate::{ReadContext, Reading};
use trevlin_model::{Export, ExportId};

/// What a reader makes of the first of some files, each with its path, with the others beside it.
pub(crate) fn first(read: fn(&Export, &ReadContext<'_>) -> Reading, files: &[(&str, &str)]) -> Reading {
    let exports: Vec<Export> = files
        .iter()
        .enumerate()
        .map(|(at, (path, text))| Export::new(ExportId(at as u32), *path, (*text).into()))
        .collect();
    read(&exports[0], &ReadContext::of(exports.iter().collect()))
}
