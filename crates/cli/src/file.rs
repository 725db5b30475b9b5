//! A file to read, and what could not be taken.

use crate::open::{self, explain};
use std::fs;
use std::path::{Path, PathBuf};
use std::sync::Arc;
use trevlin_audit::LeftOutFile;
use trevlin_model::{Limit, Limits};
use zeroize::Zeroizing;

/// A file to read.
#[derive(Debug)]
pub(crate) struct File {
    /// Path.
    pub(crate) at: PathBuf,
    /// Path below the path given, with `/` between its parts.
    pub(crate) path: String,
    /// Target of a link that is itself a setting: its text is the target.
    pub(crate) leads_to: Option<String>,
    /// The given folder that contains it, where it was found in one.
    pub(crate) below: Option<Arc<Below>>,
    /// Bytes in it when it was found.
    pub(crate) size: u64,
    /// Content, where the file is in an archive or came by standard input.
    pub(crate) bytes: Option<Arc<Zeroizing<Vec<u8>>>>,
}

/// A folder given.
#[derive(Debug)]
pub(crate) struct Below {
    pub(crate) given: PathBuf,
    /// The same by a path without links.
    pub(crate) root: PathBuf,
}

impl Below {
    /// Path of a file below it without links, as long as no link replaces a folder on the path.
    pub(crate) fn unlinked(&self, at: &Path) -> PathBuf {
        at.strip_prefix(&self.given).map_or_else(|_| at.to_owned(), |rest| self.root.join(rest))
    }
}

impl File {
    /// A file to be read at its own path.
    pub(crate) fn found(at: &Path, path: String, size: u64) -> Self {
        Self { at: at.to_owned(), path, leads_to: None, below: None, size, bytes: None }
    }

    /// Its bytes. A file that grew since it was found is read as far as a file may be.
    ///
    /// # Errors
    /// When it cannot be read, or is no file any more.
    pub(crate) fn read(&self, limits: &Limits) -> Result<Zeroizing<Vec<u8>>, String> {
        match &self.bytes {
            Some(bytes) => Ok(Zeroizing::clone(bytes)),
            None => open::read(&self.unlinked()?, limits, Limit::FileBytes),
        }
    }

    /// Path without links.
    fn unlinked(&self) -> Result<PathBuf, String> {
        match &self.below {
            Some(below) => Ok(below.unlinked(&self.at)),
            None => fs::canonicalize(&self.at).map_err(|error| explain(&error)),
        }
    }
}

/// A skipped file, with the reason.
#[derive(Debug, PartialEq, Eq)]
pub(crate) struct LeftOut {
    /// Path.
    pub(crate) at: PathBuf,
    /// Path below the path given, as that of a file; none where it is no file of a device.
    pub(crate) path: Option<String>,
    /// Why, and what to do.
    pub(crate) why: String,
}

impl LeftOut {
    /// The same for the estate.
    pub(crate) fn told(&self) -> LeftOutFile {
        LeftOutFile { path: self.at.to_string_lossy().into_owned(), why: self.why.clone() }
    }
}
