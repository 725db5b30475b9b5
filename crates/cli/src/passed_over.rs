//! Folders that are passed over: of version control, and file systems of the kernel that runs here.

use crate::file::LeftOut;
use std::collections::BTreeMap;
use std::fs;
use std::path::{Path, PathBuf};
use std::sync::{Arc, Mutex, PoisonError};
use trevlin_readers::archive::{HISTORY, is_history};

/// Folders of version control, and of the kernel, that were passed over.
#[derive(Debug, Default, Clone)]
pub(crate) struct Histories(Arc<Mutex<BTreeMap<PathBuf, &'static str>>>);

impl Histories {
    /// Whether an entry is such a folder, which is remembered.
    pub(crate) fn takes(&self, entry: &walkdir::DirEntry) -> bool {
        if !entry.file_type().is_dir() {
            return false;
        }
        let why = if entry.file_name().to_str().is_some_and(is_history) {
            HISTORY
        } else if is_of_kernel(entry) {
            KERNEL
        } else {
            return false;
        };
        self.0.lock().unwrap_or_else(PoisonError::into_inner).insert(entry.path().to_owned(), why);
        true
    }

    pub(crate) fn told(&self, below: impl Fn(&Path) -> String) -> Vec<LeftOut> {
        let found = std::mem::take(&mut *self.0.lock().unwrap_or_else(PoisonError::into_inner));
        let told = |(at, why): (PathBuf, &str)| LeftOut { path: Some(below(&at)), at, why: why.to_owned() };
        found.into_iter().map(told).collect()
    }
}

/// Reason for passing over a folder of the kernel.
const KERNEL: &str = "a file system of this machine's kernel, which is not the device's";

/// Whether a folder is a file system of the running kernel (proc(5), sysfs(5)): its files do not end, or take something to be read.
#[cfg(unix)]
fn is_of_kernel(entry: &walkdir::DirEntry) -> bool {
    use std::os::unix::fs::MetadataExt;
    if !matches!(entry.file_name().to_str(), Some("proc" | "sys" | "dev")) {
        return false;
    }
    let device = |at: &Path| fs::metadata(at).ok().map(|metadata| metadata.dev());
    let around = entry.path().parent().and_then(device);
    around.is_some() && device(entry.path()) != around
}

#[cfg(not(unix))]
fn is_of_kernel(_: &walkdir::DirEntry) -> bool {
    false
}
