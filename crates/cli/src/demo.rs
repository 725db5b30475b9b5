//! The demo estate, compiled into the program.

use crate::output::{self, NewFolder};
use anyhow::{Context, bail};
use include_dir::{Dir, DirEntry, include_dir};
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
        .context("no temporary folder could be created")?;
    Ok(folder.keep())
}

/// Writes the demo estate into a folder, all of it or nothing, and returns the estate's own folder, `before`.
///
/// # Errors
/// When a file exists already and may not be overwritten, or writing fails.
pub(crate) fn write(into: &Path, force: bool) -> anyhow::Result<PathBuf> {
    let before = into.join("before");
    if !force && before.exists() {
        bail!("{} already exists; name another folder, or use --force to overwrite it", before.display());
    }
    let mut all = NewFolder::begin(into)?;
    write_dir(&DEMO, &mut all)?;
    all.finish()?;
    Ok(before)
}

fn write_dir(dir: &Dir<'_>, all: &mut NewFolder) -> anyhow::Result<()> {
    for entry in dir.entries() {
        match entry {
            DirEntry::Dir(dir) => write_dir(dir, all)?,
            DirEntry::File(file) => output::fill(&all.place(file.path())?, file.contents())?,
        }
    }
    Ok(())
}
