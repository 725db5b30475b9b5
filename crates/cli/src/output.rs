//! Files that are written: whole or not at all.

use anyhow::Context;
use std::fs;
use std::io::Write;
use std::path::{Path, PathBuf};

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

/// The folder of an estate that a folder lies in, or would once it is made.
pub(crate) fn among<'a>(folder: &Path, estates: &'a [PathBuf]) -> Option<&'a PathBuf> {
    let non_empty =
        |path: &Path| if path.as_os_str().is_empty() { PathBuf::from(".") } else { path.to_owned() };
    // The nearest folder that is there says where it will lie.
    let there = folder.ancestors().find_map(|one| fs::canonicalize(non_empty(one)).ok())?;
    let within = |path: &&PathBuf| {
        fs::canonicalize(path).is_ok_and(|estate| estate.is_dir() && there.starts_with(estate))
    };
    estates.iter().find(within)
}
