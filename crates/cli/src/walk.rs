//! Finds the files below the paths given on the command line.

use std::fs;
use std::io;
use std::path::{Path, PathBuf};

/// Largest file that is read, in bytes. Configurations are far smaller; logs and images are not.
pub(crate) const LARGEST_FILE: u64 = 64 << 20;

/// A file to read.
#[derive(Debug)]
pub(crate) struct File {
    /// Where it lies.
    pub(crate) at: PathBuf,
    /// Path below the path given, with `/` between its parts.
    pub(crate) path: String,
    /// Where it leads, for a link that is itself what a service goes by: its text then is this.
    pub(crate) leads_to: Option<String>,
}

/// One path given on the command line, and the files below it.
#[derive(Debug)]
pub(crate) struct Root {
    /// As given.
    pub(crate) given: PathBuf,
    /// Whether it is a folder.
    pub(crate) folder: bool,
    /// Its files in order of path.
    pub(crate) files: Vec<File>,
}

/// What could not be taken, and why.
#[derive(Debug, PartialEq, Eq)]
pub(crate) struct LeftOut {
    /// Where it lies.
    pub(crate) at: PathBuf,
    /// Why, and what to do.
    pub(crate) why: String,
}

/// What an input or output error means for somebody who gave a path.
pub(crate) fn explain(error: &io::Error) -> String {
    match error.kind() {
        io::ErrorKind::NotFound => "there is no such file or folder; check the path".into(),
        io::ErrorKind::PermissionDenied => {
            "it may not be read by you; change its permissions or run as its owner".into()
        }
        _ => error.to_string(),
    }
}

/// Walks one path.
pub(crate) fn walk(given: &Path, left_out: &mut Vec<LeftOut>) -> Option<Root> {
    let metadata = match fs::metadata(given) {
        Ok(metadata) => metadata,
        Err(error) => {
            left_out.push(LeftOut { at: given.to_owned(), why: explain(&error) });
            return None;
        }
    };
    if !metadata.is_dir() {
        let path = given
            .file_name()
            .map_or_else(|| given.display().to_string(), |name| name.to_string_lossy().into_owned());
        return take(given, path, &metadata, left_out).map(|file| Root {
            given: given.to_owned(),
            folder: false,
            files: vec![file],
        });
    }
    let root = fs::canonicalize(given).unwrap_or_else(|_| given.to_owned());
    let mut walker = ignore::WalkBuilder::new(given);
    walker.standard_filters(false).follow_links(false).sort_by_file_name(std::ffi::OsStr::cmp);
    walker.filter_entry(|entry| entry.file_name() != ".git");
    let mut files = Vec::new();
    for entry in walker.build() {
        let entry = match entry {
            Ok(entry) => entry,
            Err(error) => {
                left_out.push(unreadable(given, &error));
                continue;
            }
        };
        if entry.depth() == 0 || entry.file_type().is_some_and(|kind| kind.is_dir()) {
            continue;
        }
        if entry.file_type().is_some_and(|kind| kind.is_symlink()) {
            match telling_link(entry.path(), below(given, entry.path()), &root) {
                Some(file) => files.push(file),
                None => left_out.extend(link(entry.path(), &root)),
            }
            continue;
        }
        let path = below(given, entry.path());
        match entry.metadata() {
            Ok(metadata) => files.extend(take(entry.path(), path, &metadata, left_out)),
            Err(error) => left_out.push(LeftOut { at: entry.path().to_owned(), why: error.to_string() }),
        }
    }
    files.sort_by(|a, b| a.path.cmp(&b.path));
    Some(Root { given: given.to_owned(), folder: true, files })
}

/// The path below the one given, with `/` between its parts.
fn below(given: &Path, at: &Path) -> String {
    let below = at.strip_prefix(given).unwrap_or(at);
    below.components().map(|part| part.as_os_str().to_string_lossy()).collect::<Vec<_>>().join("/")
}

/// A link that says something by being there: a unit that systemd starts or may not start (systemd.unit(5)), a site or module that
/// a web server has enabled. Of the first kind only where it leads is of use, and that need not exist; the second is read in its
/// place, as long as it stays within the folder.
fn telling_link(at: &Path, path: String, root: &Path) -> Option<File> {
    let mut parts = path.rsplit('/');
    let name = parts.next().unwrap_or_default();
    let folder = parts.next().unwrap_or_default();
    let of_units =
        folder.ends_with(".wants") || folder.ends_with(".requires") || path.contains("systemd/system/");
    if of_units && name.contains('.') {
        let leads_to = fs::read_link(at).ok()?.to_string_lossy().into_owned();
        return Some(File { at: at.to_owned(), path, leads_to: Some(leads_to) });
    }
    if !folder.ends_with("-enabled") {
        return None;
    }
    let target = fs::canonicalize(at).ok().filter(|target| target.starts_with(root))?;
    let metadata = fs::metadata(&target).ok().filter(|one| one.is_file() && one.len() <= LARGEST_FILE)?;
    take(&target, path, &metadata, &mut Vec::new())
}

fn unreadable(given: &Path, error: &ignore::Error) -> LeftOut {
    let mut inner = error;
    let mut at = given.to_owned();
    loop {
        inner = match inner {
            ignore::Error::WithPath { path, err } => {
                at.clone_from(path);
                err
            }
            ignore::Error::WithDepth { err, .. } | ignore::Error::WithLineNumber { err, .. } => err,
            ignore::Error::Io(error) => return LeftOut { at, why: explain(error) },
            other => return LeftOut { at, why: other.to_string() },
        };
    }
}

/// A link is not followed: what it leads to is read in its own place, or lies outside of what was given.
fn link(at: &Path, root: &Path) -> Option<LeftOut> {
    let why = match fs::canonicalize(at) {
        Ok(target) if target.starts_with(root) => return None,
        Ok(_) => {
            "a link that leads out of the folder given; copy the file in its place if it belongs to the device"
        }
        Err(_) => "a link to something that is not there; export the file it should lead to",
    };
    Some(LeftOut { at: at.to_owned(), why: why.into() })
}

fn take(at: &Path, path: String, metadata: &fs::Metadata, left_out: &mut Vec<LeftOut>) -> Option<File> {
    let why = if !metadata.is_file() {
        "neither a file nor a folder".to_owned()
    } else if metadata.len() > LARGEST_FILE {
        format!(
            "larger than {} MiB, which no configuration is; leave it out or cut it down",
            LARGEST_FILE >> 20
        )
    } else {
        return Some(File { at: at.to_owned(), path, leads_to: None });
    };
    left_out.push(LeftOut { at: at.to_owned(), why });
    None
}
