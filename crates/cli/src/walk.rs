//! Finds the files below the paths given on the command line.
//!
//! Long because folders, archives and standard input end in the same list of files, under the same limits.

use rayon::prelude::*;
use std::collections::BTreeMap;
use std::fs;
use std::io;
use std::path::{Path, PathBuf};
use std::sync::Arc;
use trevlin_model::{Limit, Limits, size};
use trevlin_readers::archive::{self, Unpacked};
use zeroize::Zeroizing;

/// A file to read.
#[derive(Debug)]
pub(crate) struct File {
    /// Where it lies.
    pub(crate) at: PathBuf,
    /// Path below the path given, with `/` between its parts.
    pub(crate) path: String,
    /// Where it leads, for a link that is itself what a service goes by: its text then is this.
    pub(crate) leads_to: Option<String>,
    /// Bytes in it when it was found.
    pub(crate) size: u64,
    /// What is in it, where it lies in an archive or came by standard input.
    pub(crate) bytes: Option<Arc<Zeroizing<Vec<u8>>>>,
}

impl File {
    /// Its bytes. A file that grew since it was found is read as far as a file may be.
    ///
    /// # Errors
    /// When it cannot be read, or is no file any more.
    pub(crate) fn read(&self, limits: &Limits) -> Result<Zeroizing<Vec<u8>>, String> {
        match &self.bytes {
            Some(bytes) => Ok(Zeroizing::clone(bytes)),
            None => read_file(&self.at, limits, Limit::FileBytes),
        }
    }
}

/// The bytes of a file. A pipe or a device that took its place is not read.
pub(crate) fn read_file(at: &Path, limits: &Limits, limit: Limit) -> Result<Zeroizing<Vec<u8>>, String> {
    let most = limits.get(limit);
    let there = fs::metadata(at).map_err(|error| explain(&error))?;
    if !there.is_file() {
        return Err(NO_FILE.into());
    }
    let file = fs::File::open(at).map_err(|error| explain(&error))?;
    let mut bytes =
        Zeroizing::new(Vec::with_capacity(usize::try_from(there.len().min(most)).unwrap_or_default()));
    io::Read::read_to_end(&mut io::Read::take(file, most + 1), &mut bytes)
        .map_err(|error| explain(&error))?;
    if bytes.len() as u64 > most {
        return Err(too_large(limits, limit));
    }
    Ok(bytes)
}

const NO_FILE: &str = "neither a file nor a folder";

fn too_large(limits: &Limits, limit: Limit) -> String {
    let which = if limit == Limit::FileBytes { ", which no configuration is" } else { "" };
    format!(
        "larger than {}{which}; leave it out or cut it down, or {}",
        size(limits.get(limit)),
        limit.remedy()
    )
}

/// What may still be taken of the files of a run.
#[derive(Debug)]
pub(crate) struct Allowance {
    /// How much is read.
    pub(crate) limits: Limits,
    files: u64,
    bytes: u64,
}

impl Allowance {
    /// All that is allowed.
    pub(crate) fn of(limits: Limits) -> Self {
        Self { limits, files: 0, bytes: 0 }
    }

    /// Takes a file of so many bytes, or says which limit that is beyond.
    fn take(&mut self, bytes: u64) -> Result<(), Limit> {
        self.files += 1;
        self.bytes = self.bytes.saturating_add(bytes);
        if self.files > self.limits.get(Limit::Files) {
            return Err(Limit::Files);
        }
        if self.bytes > self.limits.get(Limit::TotalBytes) {
            return Err(Limit::TotalBytes);
        }
        Ok(())
    }

    fn words(&self, limit: Limit) -> String {
        let most = self.limits.get(limit);
        let most = if limit.row().bytes { size(most) } else { most.to_string() };
        format!(
            "more than {most} {}: neither this one nor what comes later in order of path was read; {}",
            if limit.row().bytes { "in all files of the run" } else { limit.row().what },
            limit.remedy()
        )
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

impl Root {
    /// Bytes of its files, as they were found.
    pub(crate) fn size(&self) -> u64 {
        self.files.iter().map(|file| file.size).sum()
    }
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

/// What lies beside a path that is not there, and is called nearly so.
fn near(given: &Path) -> Option<PathBuf> {
    let name = given.file_name()?.to_string_lossy().to_lowercase();
    let folder = given.parent().filter(|folder| !folder.as_os_str().is_empty());
    let score = |entry: fs::DirEntry| {
        let other = entry.file_name().to_string_lossy().to_lowercase();
        (strsim::jaro_winkler(&name, &other), entry.file_name())
    };
    let beside = fs::read_dir(folder.unwrap_or(Path::new("."))).ok()?.flatten().map(score);
    let (score, best) = beside.max_by(|(a, _), (b, _)| a.total_cmp(b))?;
    (score > 0.85).then(|| folder.map_or_else(|| PathBuf::from(&best), |folder| folder.join(&best)))
}

/// Walks one path.
pub(crate) fn walk(given: &Path, allowance: &mut Allowance, left_out: &mut Vec<LeftOut>) -> Option<Root> {
    let limits = allowance.limits;
    if given == Path::new(INPUT) {
        return input(&limits, left_out)
            .map(|root| Root { files: allowed(root.files, allowance, left_out), ..root });
    }
    let metadata = match fs::metadata(given) {
        Ok(metadata) => metadata,
        Err(error) => {
            let near = if error.kind() == io::ErrorKind::NotFound { near(given) } else { None };
            let hint = near.map(|near| format!("; did you mean {}?", near.display())).unwrap_or_default();
            left_out.push(LeftOut { at: given.to_owned(), why: explain(&error) + &hint });
            return None;
        }
    };
    if !metadata.is_dir() {
        let path = given
            .file_name()
            .map_or_else(|| given.display().to_string(), |name| name.to_string_lossy().into_owned());
        if let Some(files) = opened(given, &path, &metadata, &limits, left_out) {
            let files = allowed(files, allowance, left_out);
            return Some(Root { given: given.to_owned(), folder: true, files });
        }
        let file = take(given, path, &metadata, &limits, left_out)?;
        let files = allowed(vec![file], allowance, left_out);
        return Some(Root { given: given.to_owned(), folder: false, files });
    }
    let files = walk_folder(given, allowance, left_out);
    Some(Root { given: given.to_owned(), folder: true, files })
}

/// How many folders are looked through at once, and how far each: where a limit is reached so much more has been looked at, and no
/// more.
const FOLDERS_AT_ONCE: usize = 256;
const ENTRIES_AT_ONCE: usize = 512;

/// Something below a folder, with what is known of it without opening it, where it is neither a folder nor a link.
type Entry = walkdir::Result<(walkdir::DirEntry, Option<fs::Metadata>)>;

type Entries = Box<dyn Iterator<Item = Entry> + Send>;

/// The files of a folder in order of path.
fn walk_folder(given: &Path, allowance: &mut Allowance, left_out: &mut Vec<LeftOut>) -> Vec<File> {
    let limits = allowance.limits;
    let root = fs::canonicalize(given).unwrap_or_else(|_| given.to_owned());
    let mut files = Vec::new();
    let mut top = entries(given, 1);
    'all: loop {
        let some: Vec<Entry> = top.by_ref().take(FOLDERS_AT_ONCE).collect();
        if some.is_empty() {
            break;
        }
        let begun: Vec<Entries> = some.into_par_iter().map(with_all_below).collect();
        for entry in begun.into_iter().flatten() {
            let (entry, metadata) = match entry {
                Ok((entry, _)) if is_folder(&entry) => continue,
                Ok(entry) => entry,
                Err(error) => {
                    left_out.push(unreadable(given, &error));
                    continue;
                }
            };
            let path = below(given, entry.path());
            let Some(metadata) = metadata else {
                match telling_link(entry.path(), path, &root, &limits) {
                    Some(file) => files.push(file),
                    None => left_out.extend(link(entry.path(), &root)),
                }
                continue;
            };
            let found: Vec<File> = match opened(entry.path(), &path, &metadata, &limits, left_out) {
                Some(inside) => {
                    let folder = archive::stem(&path).unwrap_or(&path);
                    let placed = |file: File| File { path: format!("{folder}/{}", file.path), ..file };
                    inside.into_iter().map(placed).collect()
                }
                None => take(entry.path(), path, &metadata, &limits, left_out).into_iter().collect(),
            };
            let count = found.len();
            let found = allowed(found, allowance, left_out);
            let full = found.len() < count;
            files.extend(found);
            if full {
                break 'all;
            }
        }
    }
    files.sort_by(|a, b| a.path.cmp(&b.path));
    files
}

/// What lies below a folder, in order of path, and is asked for one by one.
fn entries(folder: &Path, depth: usize) -> Entries {
    let known = |entry: walkdir::DirEntry| {
        let asked = !is_folder(&entry) && !entry.path_is_symlink();
        let metadata = if asked { Some(entry.metadata()?) } else { None };
        Ok((entry, metadata))
    };
    let all = walkdir::WalkDir::new(folder)
        .sort_by_file_name()
        .min_depth(1)
        .max_depth(depth)
        .into_iter()
        .filter_entry(|entry| entry.file_name() != ".git");
    Box::new(all.map(move |entry| entry.and_then(known)))
}

fn is_folder(entry: &walkdir::DirEntry) -> bool {
    entry.file_type().is_dir()
}

/// An entry, or what lies below it, the first of it at hand already.
fn with_all_below(entry: Entry) -> Entries {
    match &entry {
        Ok((folder, _)) if is_folder(folder) => {
            let mut all = entries(folder.path(), usize::MAX);
            let first: Vec<Entry> = all.by_ref().take(ENTRIES_AT_ONCE).collect();
            Box::new(first.into_iter().chain(all))
        }
        _ => Box::new(std::iter::once(entry)),
    }
}

/// As many of the files as may still be taken, in order of path. The first that may not is named for all.
fn allowed(files: Vec<File>, allowance: &mut Allowance, left_out: &mut Vec<LeftOut>) -> Vec<File> {
    let mut taken = Vec::with_capacity(files.len());
    for file in files {
        if let Err(limit) = allowance.take(file.size) {
            left_out.push(LeftOut { at: file.at, why: allowance.words(limit) });
            break;
        }
        taken.push(file);
    }
    taken
}

/// The path below the one given, with `/` between its parts.
fn below(given: &Path, at: &Path) -> String {
    let below = at.strip_prefix(given).unwrap_or(at);
    below.components().map(|part| part.as_os_str().to_string_lossy()).collect::<Vec<_>>().join("/")
}

/// A link that says something by being there: a unit that systemd starts or may not start (systemd.unit(5)), a site or module that
/// a web server has enabled. Of the first kind only where it leads is of use, and that need not exist; the second is read in its
/// place, as long as it stays within the folder.
fn telling_link(at: &Path, path: String, root: &Path, limits: &Limits) -> Option<File> {
    let mut parts = path.rsplit('/');
    let name = parts.next().unwrap_or_default();
    let folder = parts.next().unwrap_or_default();
    if is_of_units(&path, folder) && name.contains('.') {
        let leads_to = fs::read_link(at).ok()?.to_string_lossy().into_owned();
        return Some(File { at: at.to_owned(), path, leads_to: Some(leads_to), size: 0, bytes: None });
    }
    if !folder.ends_with("-enabled") {
        return None;
    }
    let target = fs::canonicalize(at).ok().filter(|target| target.starts_with(root))?;
    let metadata = fs::metadata(&target).ok()?;
    take(&target, path, &metadata, limits, &mut Vec::new())
}

fn is_of_units(path: &str, folder: &str) -> bool {
    folder.ends_with(".wants") || folder.ends_with(".requires") || path.contains("systemd/system/")
}

fn unreadable(given: &Path, error: &walkdir::Error) -> LeftOut {
    let why = error.io_error().map_or_else(|| error.to_string(), explain);
    LeftOut { at: error.path().unwrap_or(given).to_owned(), why }
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

fn take(
    at: &Path,
    path: String,
    metadata: &fs::Metadata,
    limits: &Limits,
    left_out: &mut Vec<LeftOut>,
) -> Option<File> {
    let why = if !metadata.is_file() {
        NO_FILE.to_owned()
    } else if metadata.len() > limits.get(Limit::FileBytes) {
        // An archive that is opened may be larger than a file that is read.
        let is_archive = archive::stem(&path).is_some() && metadata.len() > limits.get(Limit::ArchiveBytes);
        too_large(limits, if is_archive { Limit::ArchiveBytes } else { Limit::FileBytes })
    } else {
        return Some(File { at: at.to_owned(), path, leads_to: None, size: metadata.len(), bytes: None });
    };
    left_out.push(LeftOut { at: at.to_owned(), why });
    None
}

/// What came by standard input: one file, or an archive of an estate.
fn input(limits: &Limits, left_out: &mut Vec<LeftOut>) -> Option<Root> {
    let largest = limits.get(Limit::ArchiveBytes);
    let given = PathBuf::from(INPUT);
    let mut bytes = Zeroizing::new(Vec::new());
    let mut most = io::Read::take(io::stdin().lock(), largest + 1);
    let why = match io::copy(&mut most, &mut *bytes) {
        Err(error) => explain(&error),
        Ok(count) if count > largest => {
            format!("standard input is larger than {}; {}", size(largest), Limit::ArchiveBytes.remedy())
        }
        Ok(_) => {
            // Whatever form it is of, its content tells.
            if let Some(unpacked) = archive::unpack("input.tar", &bytes, limits) {
                let files = bared(files_of(&given, unpacked, left_out), "input");
                return Some(Root { given, folder: true, files });
            }
            let file = File {
                at: given.clone(),
                path: "input".into(),
                leads_to: None,
                size: bytes.len() as u64,
                bytes: Some(Arc::new(bytes)),
            };
            return Some(Root { given, folder: false, files: vec![file] });
        }
    };
    left_out.push(LeftOut { at: given, why });
    None
}

/// What is in a file, where it is an archive by name and content, as if it were the folder that was packed.
fn opened(
    at: &Path,
    path: &str,
    metadata: &fs::Metadata,
    limits: &Limits,
    left_out: &mut Vec<LeftOut>,
) -> Option<Vec<File>> {
    archive::stem(path)?;
    if !metadata.is_file() || metadata.len() > limits.get(Limit::ArchiveBytes) {
        return None;
    }
    let bytes = read_file(at, limits, Limit::ArchiveBytes).ok()?;
    let name = path.rsplit('/').next().unwrap_or(path);
    let unpacked = archive::unpack(name, &bytes, limits)?;
    Some(bared(files_of(at, unpacked, left_out), archive::stem(name).unwrap_or(name)))
}

/// The files of an archive, in order of path, and its links as those of a folder.
fn files_of(at: &Path, unpacked: Unpacked, left_out: &mut Vec<LeftOut>) -> Vec<File> {
    let Unpacked { files, links, left_out: refused, .. } = unpacked;
    left_out.extend(refused.into_iter().map(|(path, why)| LeftOut { at: inside(at, &path), why }));
    let files: BTreeMap<String, Arc<Zeroizing<Vec<u8>>>> =
        files.into_iter().map(|(path, bytes)| (path, Arc::new(bytes))).collect();
    let of_archive = |(path, bytes): (String, Arc<Zeroizing<Vec<u8>>>)| {
        let (at, size) = (at.join(&path), bytes.len() as u64);
        File { at, path, leads_to: None, size, bytes: Some(bytes) }
    };
    let mut found = Vec::new();
    for (path, target) in links {
        let mut parts = path.rsplit('/');
        let (name, folder) = (parts.next().unwrap_or_default(), parts.next().unwrap_or_default());
        if is_of_units(&path, folder) && name.contains('.') {
            found.push(File { at: at.join(&path), path, leads_to: Some(target), size: 0, bytes: None });
            continue;
        }
        match resolved(&path, &target).and_then(|to| files.get(&to)) {
            Some(bytes) if folder.ends_with("-enabled") => {
                found.push(of_archive((path, Arc::clone(bytes))));
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
    found.extend(files.into_iter().map(of_archive));
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

#[cfg(test)]
mod tests {
    #![allow(clippy::unwrap_used, reason = "a test that cannot go on has failed")]

    use super::*;

    #[test]
    fn files_that_change_after_they_were_found() {
        let folder = tempfile::TempDir::new().unwrap();
        let limits = Limits::default().with("file-bytes=100").unwrap();
        for name in ["grows", "vanishes", "turns", "stays"] {
            fs::write(folder.path().join(name), "text\n").unwrap();
        }
        let mut left_out = Vec::new();
        let root = walk(folder.path(), &mut Allowance::of(limits), &mut left_out).unwrap();
        assert_eq!((root.files.len(), left_out.len()), (4, 0));
        fs::write(folder.path().join("grows"), "x".repeat(200)).unwrap();
        for name in ["vanishes", "turns"] {
            fs::remove_file(folder.path().join(name)).unwrap();
        }
        fs::create_dir(folder.path().join("turns")).unwrap();
        let told: Vec<String> = root
            .files
            .iter()
            .map(|file| match file.read(&limits) {
                Ok(bytes) => format!("{}: {} bytes", file.path, bytes.len()),
                Err(why) => format!("{}: {why}", file.path),
            })
            .collect();
        for (line, wanted) in told.iter().zip([
            "grows: larger than 100 bytes",
            "stays: 5 bytes",
            "turns: neither a file nor a folder",
            "vanishes: there is no such file or folder",
        ]) {
            assert!(line.starts_with(wanted), "{line}");
        }
    }
}
