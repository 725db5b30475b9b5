//! The demo estate, compiled into the program.

use crate::output;
use anyhow::{Context, bail};
use include_dir::{Dir, DirEntry, include_dir};
use std::fs;
use std::path::{Path, PathBuf};

static DEMO: Dir<'_> = include_dir!("$CARGO_MANIFEST_DIR/../../demo");

/// A new temporary folder that outlives the process.
///
/// # Errors
/// When it cannot be made.
pub(crate) fn temporary() -> anyhow::Result<PathBuf> {
    let folder = tempfile::Builder::new()
        .prefix("trevlin-demo-")
        .tempdir()
        .context("no temporary folder could be made")?;
    Ok(folder.keep())
}

/// Writes the demo estate into a folder and returns the estate's own folder, `before`.
///
/// # Errors
/// When something is there already and may not be overwritten, or writing fails.
pub(crate) fn write(into: &Path, force: bool) -> anyhow::Result<PathBuf> {
    let before = into.join("before");
    if !force && before.exists() {
        bail!("{} is there already; name another folder, or give --force to overwrite it", before.display());
    }
    write_dir(&DEMO, into)?;
    Ok(before)
}

fn write_dir(dir: &Dir<'_>, into: &Path) -> anyhow::Result<()> {
    let context = |path: &Path| format!("{} cannot be written", path.display());
    for entry in dir.entries() {
        let at = into.join(entry.path());
        match entry {
            DirEntry::Dir(dir) => write_dir(dir, into)?,
            DirEntry::File(file) => {
                let folder = output::folder(&at);
                fs::create_dir_all(folder).with_context(|| context(folder))?;
                output::replace(&at, file.contents())?;
            }
        }
    }
    Ok(())
}
