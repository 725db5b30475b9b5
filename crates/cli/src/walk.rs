//! Finds the files below the paths given on the command line.

use std::collections::BTreeMap;
use std::fs;
use std::io;
use std::path::{Path, PathBuf};
use std::sync::Arc;
use trevlin_readers::archive::{self, ArchiveLimits, Unpacked};
use zeroize::Zeroizing;

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
    /// What is in it, where it lies in an archive or came by standard input.
    pub(crate) bytes: Option<Arc<Zeroizing<Vec<u8>>>>,
}

impl File {
    /// Its bytes.
    ///
    /// # Errors
    /// When it cannot be read.
    pub(crate) fn read(&self) -> io::Result<Arc<Zeroizing<Vec<u8>>>> {
        match &self.bytes {
            Some(bytes) => Ok(Arc::clone(bytes)),
            None => Ok(Arc::new(Zeroizing::new(fs::read(&self.at)?))),
        }
    }
}

/// Standard input, as a path.
pub(crate) const INPUT: &str = "-";

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
    if given == Path::new(INPUT) {
        return input(left_out);
    }
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
        if let Some(files) = opened(given, &path, &metadata, left_out) {
            return Some(Root { given: given.to_owned(), folder: true, files });
        }
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
            Ok(metadata) => match opened(entry.path(), &path, &metadata, left_out) {
                Some(inside) => {
                    let folder = archive::stem(&path).unwrap_or(&path);
                    let placed = |file: File| File { path: format!("{folder}/{}", file.path), ..file };
                    files.extend(inside.into_iter().map(placed));
                }
                None => files.extend(take(entry.path(), path, &metadata, left_out)),
            },
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
    if is_of_units(&path, folder) && name.contains('.') {
        let leads_to = fs::read_link(at).ok()?.to_string_lossy().into_owned();
        return Some(File { at: at.to_owned(), path, leads_to: Some(leads_to), bytes: None });
    }
    if !folder.ends_with("-enabled") {
        return None;
    }
    let target = fs::canonicalize(at).ok().filter(|target| target.starts_with(root))?;
    let metadata = fs::metadata(&target).ok().filter(|one| one.is_file() && one.len() <= LARGEST_FILE)?;
    take(&target, path, &metadata, &mut Vec::new())
}

fn is_of_units(path: &str, folder: &str) -> bool {
    folder.ends_with(".wants") || folder.ends_with(".requires") || path.contains("systemd/system/")
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
        return Some(File { at: at.to_owned(), path, leads_to: None, bytes: None });
    };
    left_out.push(LeftOut { at: at.to_owned(), why });
    None
}

/// Most that is read of an archive and by standard input.
const LARGEST_ARCHIVE: u64 = 512 << 20;

/// What came by standard input: one file, or an archive of an estate.
fn input(left_out: &mut Vec<LeftOut>) -> Option<Root> {
    let given = PathBuf::from(INPUT);
    let mut bytes = Zeroizing::new(Vec::new());
    let mut most = io::Read::take(io::stdin().lock(), LARGEST_ARCHIVE + 1);
    let why = match io::copy(&mut most, &mut *bytes) {
        Err(error) => explain(&error),
        Ok(count) if count > LARGEST_ARCHIVE => {
            format!("standard input is larger than {} MiB; give a file or a folder", LARGEST_ARCHIVE >> 20)
        }
        Ok(_) => {
            // Whatever form it is of, its content tells.
            if let Some(unpacked) = archive::unpack("input.tar", &bytes, &ArchiveLimits::default()) {
                let files = bared(files_of(&given, unpacked, left_out), "input");
                return Some(Root { given, folder: true, files });
            }
            let file = File {
                at: given.clone(),
                path: "input".into(),
                leads_to: None,
                bytes: Some(Arc::new(bytes)),
            };
            return Some(Root { given, folder: false, files: vec![file] });
        }
    };
    left_out.push(LeftOut { at: given, why });
    None
}

/// What is in a file, where it is an archive by name and content, as if it were the folder that was packed.
fn opened(at: &Path, path: &str, metadata: &fs::Metadata, left_out: &mut Vec<LeftOut>) -> Option<Vec<File>> {
    archive::stem(path)?;
    if !metadata.is_file() || metadata.len() > LARGEST_ARCHIVE {
        return None;
    }
    let bytes = Zeroizing::new(fs::read(at).ok()?);
    let name = path.rsplit('/').next().unwrap_or(path);
    let unpacked = archive::unpack(name, &bytes, &ArchiveLimits::default())?;
    Some(bared(files_of(at, unpacked, left_out), archive::stem(name).unwrap_or(name)))
}

/// The files of an archive, in order of path, and its links as those of a folder.
fn files_of(at: &Path, unpacked: Unpacked, left_out: &mut Vec<LeftOut>) -> Vec<File> {
    let Unpacked { files, links, left_out: refused, .. } = unpacked;
    left_out.extend(refused.into_iter().map(|(path, why)| LeftOut { at: inside(at, &path), why }));
    let files: BTreeMap<String, Arc<Zeroizing<Vec<u8>>>> =
        files.into_iter().map(|(path, bytes)| (path, Arc::new(bytes))).collect();
    let mut found = Vec::new();
    for (path, target) in links {
        let mut parts = path.rsplit('/');
        let (name, folder) = (parts.next().unwrap_or_default(), parts.next().unwrap_or_default());
        if is_of_units(&path, folder) && name.contains('.') {
            found.push(File { at: at.join(&path), path, leads_to: Some(target), bytes: None });
            continue;
        }
        match resolved(&path, &target).and_then(|to| files.get(&to)) {
            Some(bytes) if folder.ends_with("-enabled") => {
                found.push(File { at: at.join(&path), path, leads_to: None, bytes: Some(Arc::clone(bytes)) });
            }
            // What it leads to is read in its own place.
            Some(_) => {}
            None => left_out.push(LeftOut {
                at: at.join(&path),
                why: "a link to something that is not in the archive; export the file it should lead to"
                    .into(),
            }),
        }
    }
    let file = |(path, bytes)| File { at: at.join(&path), path, leads_to: None, bytes: Some(bytes) };
    found.extend(files.into_iter().map(file));
    found.sort_by(|a, b| a.path.cmp(&b.path));
    found
}

/// A path in an archive, whose own name the archive's messages begin with.
fn inside(at: &Path, path: &str) -> PathBuf {
    let name = at.file_name().map(|name| name.to_string_lossy().into_owned()).unwrap_or_default();
    match path.strip_prefix(name.as_str()) {
        Some("") => at.to_owned(),
        Some(rest) if !name.is_empty() => at.join(rest.trim_start_matches('/')),
        _ => at.join(path),
    }
}

/// Where a link in an archive leads to, as a path of the archive; none where that is outside of it.
fn resolved(path: &str, target: &str) -> Option<String> {
    let mut parts: Vec<&str> = if target.starts_with('/') { Vec::new() } else { path.split('/').collect() };
    parts.pop();
    for part in target.split('/').filter(|part| !part.is_empty() && *part != ".") {
        if part == ".." {
            parts.pop()?;
        } else {
            parts.push(part);
        }
    }
    Some(parts.join("/"))
}

/// Without the folder that all lie in, where it has the archive's own name or is the top of an estate.
fn bared(mut files: Vec<File>, stem: &str) -> Vec<File> {
    let Some((top, _)) = files.first().and_then(|file| file.path.split_once('/')) else { return files };
    let top = format!("{top}/");
    let alone = files.iter().all(|file| file.path.starts_with(&top));
    let estate = files.iter().any(|file| file.path == format!("{top}{}", trevlin_audit::ESTATE_FILE));
    if alone && (estate || top.trim_end_matches('/') == stem) {
        files.iter_mut().for_each(|file| file.path = file.path[top.len()..].to_owned());
    }
    files
}
