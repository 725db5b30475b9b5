//! Files that are written: whole or not at all.

use anyhow::Context;
use std::fs;
use std::io::Write;
use std::path::Path;

/// The folder that a file lies in.
pub(crate) fn folder(of: &Path) -> &Path {
    of.parent().filter(|folder| !folder.as_os_str().is_empty()).unwrap_or(Path::new("."))
}

/// Writes a file in one step: who reads it meanwhile sees the old one or the new one. What was there keeps its permissions.
///
/// # Errors
/// When it cannot be written.
pub(crate) fn replace(at: &Path, bytes: &[u8]) -> anyhow::Result<()> {
    let context = || format!("{} cannot be written", at.display());
    let mut file = tempfile::NamedTempFile::new_in(folder(at)).with_context(context)?;
    file.write_all(bytes).with_context(context)?;
    if let Ok(known) = fs::metadata(at) {
        fs::set_permissions(file.path(), known.permissions()).with_context(context)?;
    }
    file.persist(at).with_context(context)?;
    Ok(())
}
