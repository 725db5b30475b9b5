//! One file, read as an export.

use crate::file::File;
use crate::{limits, open};
use anyhow::anyhow;
use std::fs;
use std::path::Path;
use trevlin_model::{Export, ExportId, Limit, Limits};
use trevlin_readers::archive::{scrambled, sealed};
use trevlin_readers::decode_whole;

pub(crate) fn read(file: &File, limits: &Limits) -> Result<String, String> {
    let mut bytes = file.read(limits)?;
    let ask = |what| format!("{what}; please provide a readable export");
    if let Some(what) = sealed(&bytes) {
        return Err(ask(what));
    }
    decode_whole(&mut bytes).map_err(|error| {
        scrambled(&bytes).map_or_else(|| format!("{error}; export it as text, or leave it out"), ask)
    })
}

/// One file by itself as an export.
///
/// # Errors
/// When it cannot be read, or is no text.
pub(crate) fn export(at: &Path) -> anyhow::Result<Export> {
    let limits = limits::in_force();
    let mut bytes = fs::canonicalize(at)
        .map_err(|error| open::explain(&error))
        .and_then(|whole| open::read(&whole, &limits, Limit::FileBytes))
        .map_err(|why| anyhow!("{} cannot be read: {why}", at.display()))?;
    let text = decode_whole(&mut bytes).map_err(|error| anyhow!("{}: {error}", at.display()))?;
    Ok(Export::new(ExportId(0), at.to_string_lossy(), text).within(limits))
}
