//! Finds the files below the paths given on the command line: folders, archives and standard input end in the same list of files,
//! under the same limits.

use crate::file::{Below, File, LeftOut};
use crate::open::{explain, too_large};
use crate::packed::{files_of, is_of_units, opened, unpacked};
use crate::passed_over::Histories;
use rayon::prelude::*;
use std::collections::BTreeSet;
use std::fs;
use std::io;
use std::path::{Path, PathBuf};
use std::sync::Arc;
use trevlin_audit::ESTATE_FILE;
use trevlin_model::{Limit, Limits, size};
use trevlin_readers::archive::{self, NO_FILE};
use zeroize::Zeroizing;

/// Remaining allowance for the files of a run.
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

    /// Accounts for a file of this number of bytes, or returns the limit it exceeds.
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
            "more than {most} {}: neither this one nor later ones, in order of path, were read; {}",
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
    /// Paths that are present but not read: skipped files, and links to files read at their own place.
    pub(crate) unread: Vec<String>,
    /// Whether it is the `etc` of a device, with which the paths of its files then begin.
    pub(crate) etc: bool,
}

impl Root {
    /// Bytes of its files, as they were found.
    pub(crate) fn size(&self) -> u64 {
        self.files.iter().map(|file| file.size).sum()
    }
}

/// A path next to a missing one with a similar name.
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
            left_out.push(LeftOut { at: given.to_owned(), path: None, why: explain(&error) + &hint });
            return None;
        }
    };
    if !metadata.is_dir() {
        let path = given
            .file_name()
            .map_or_else(|| given.display().to_string(), |name| name.to_string_lossy().into_owned());
        if let Some(files) = unpacked(given, &path, &metadata, &limits, left_out) {
            let files = allowed(files, allowance, left_out);
            return Some(Root {
                given: given.to_owned(),
                folder: true,
                files,
                unread: Vec::new(),
                etc: false,
            });
        }
        let file = take(given, path, &metadata, &limits, left_out)?;
        let files = allowed(vec![file], allowance, left_out);
        return Some(Root { given: given.to_owned(), folder: false, files, unread: Vec::new(), etc: false });
    }
    let before = left_out.len();
    let mut root = walk_folder(given, allowance, left_out);
    root.unread.extend(left_out[before..].iter().filter_map(|one| one.path.clone()));
    if is_etc(&root) {
        let within = |path: &mut String| path.insert_str(0, "etc/");
        root.files.iter_mut().for_each(|file| within(&mut file.path));
        root.unread.iter_mut().for_each(within);
        left_out[before..].iter_mut().filter_map(|one| one.path.as_mut()).for_each(within);
        root.etc = true;
    }
    Some(root)
}

/// Whether a given folder is the `etc` of one device: its name is that, and it holds no estate file and no tree of another system.
fn is_etc(root: &Root) -> bool {
    let named =
        fs::canonicalize(&root.given).is_ok_and(|at| at.file_name().is_some_and(|name| name == "etc"));
    let of_several = |file: &File| {
        file.path == ESTATE_FILE || file.path.split('/').nth(1).is_some_and(|name| name == "etc")
    };
    named && !root.files.iter().any(of_several)
}

/// How many folders are looked through at once, and how far each: where a limit is reached so much more has been looked at, and no
/// more.
const FOLDERS_AT_ONCE: usize = 256;
const ENTRIES_AT_ONCE: usize = 512;

/// An entry below a folder, with its metadata, where it is neither a folder nor a link.
type Entry = walkdir::Result<(walkdir::DirEntry, Option<fs::Metadata>)>;

type Entries = Box<dyn Iterator<Item = Entry> + Send>;

/// The files of a folder in order of path.
fn walk_folder(given: &Path, allowance: &mut Allowance, left_out: &mut Vec<LeftOut>) -> Root {
    let limits = allowance.limits;
    let root = fs::canonicalize(given).unwrap_or_else(|_| given.to_owned());
    let folder = Arc::new(Below { given: given.to_owned(), root });
    let histories = Histories::default();
    let (mut files, mut unread) = (Vec::new(), Vec::new());
    // Where what is in archives goes.
    let mut taken = BTreeSet::new();
    let mut top = entries(given, 1, &histories);
    'all: loop {
        let some: Vec<Entry> = top.by_ref().take(FOLDERS_AT_ONCE).collect();
        if some.is_empty() {
            break;
        }
        let begun: Vec<Entries> =
            some.into_par_iter().map(|entry| with_all_below(entry, &histories)).collect();
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
                match telling_link(entry.path(), &path, &folder.root, &limits) {
                    Some(file) => files.push(file),
                    None => match link(entry.path(), &path, &folder.root) {
                        Some(one) => left_out.push(one),
                        None => unread.push(path),
                    },
                }
                continue;
            };
            let whole = folder.unlinked(entry.path());
            let found: Vec<File> = match opened(entry.path(), &whole, &path, &metadata, &limits, left_out) {
                Some(inside) => {
                    let stem = archive::stem(&path).filter(|stem| {
                        // Existing files keep their place.
                        !given.join(stem).exists() && !taken.contains(*stem)
                    });
                    let top = stem.unwrap_or(&path);
                    taken.insert(top.to_owned());
                    let placed = |file: File| File { path: format!("{top}/{}", file.path), ..file };
                    inside.into_iter().map(placed).collect()
                }
                None => take(entry.path(), path, &metadata, &limits, left_out).into_iter().collect(),
            };
            let count = found.len();
            let found = allowed(found, allowance, left_out);
            let full = found.len() < count;
            files.extend(found.into_iter().map(|file| File { below: Some(Arc::clone(&folder)), ..file }));
            if full {
                break 'all;
            }
        }
    }
    left_out.extend(histories.told(|at| below(given, at)));
    files.sort_by(|a, b| a.path.cmp(&b.path));
    Root { given: given.to_owned(), folder: true, files, unread, etc: false }
}

/// Entries below a folder, in order of path, requested one by one.
fn entries(folder: &Path, depth: usize, histories: &Histories) -> Entries {
    let known = |entry: walkdir::DirEntry| {
        let asked = !is_folder(&entry) && !entry.path_is_symlink();
        let metadata = if asked { Some(entry.metadata()?) } else { None };
        Ok((entry, metadata))
    };
    let histories = histories.clone();
    let all = walkdir::WalkDir::new(folder)
        .sort_by_file_name()
        .min_depth(1)
        .max_depth(depth)
        .into_iter()
        .filter_entry(move |entry| !histories.takes(entry));
    Box::new(all.map(move |entry| entry.and_then(known)))
}

fn is_folder(entry: &walkdir::DirEntry) -> bool {
    entry.file_type().is_dir()
}

/// An entry, or all entries below it, with the first already read.
fn with_all_below(entry: Entry, histories: &Histories) -> Entries {
    match &entry {
        Ok((folder, _)) if is_folder(folder) => {
            let mut all = entries(folder.path(), usize::MAX, histories);
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
            left_out.push(LeftOut { at: file.at, path: Some(file.path), why: allowance.words(limit) });
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

/// A link that is a setting in itself: a unit that systemd starts or must not start (systemd.unit(5)), a site or module that a web server
/// has enabled. For the first only its target is relevant, which need not exist; the second is read in its place, as long as it stays
/// within the folder.
fn telling_link(at: &Path, path: &str, root: &Path, limits: &Limits) -> Option<File> {
    let mut parts = path.rsplit('/');
    let name = parts.next().unwrap_or_default();
    let folder = parts.next().unwrap_or_default();
    if is_of_units(path, folder) && name.contains('.') {
        let leads_to = fs::read_link(at).ok()?.to_string_lossy().into_owned();
        return Some(File { leads_to: Some(leads_to), ..File::found(at, path.to_owned(), 0) });
    }
    if !folder.ends_with("-enabled") {
        return None;
    }
    let target = target_within(at, root)?;
    let metadata = fs::metadata(&target).ok()?;
    take(&target, path.to_owned(), &metadata, limits, &mut Vec::new())
}

/// The target of a link, where it is within the folder. An absolute path is one of the device: it begins at the folder that holds the copy
/// of the device's root, the nearest around the link that has the target. The machine that reads is never looked at.
fn target_within(at: &Path, root: &Path) -> Option<PathBuf> {
    /// The kernel follows no more links in a row (path_resolution(7)).
    const MOST: usize = 40;
    let mut at = fs::canonicalize(at.parent()?).ok()?.join(at.file_name()?);
    for _ in 0..MOST {
        let Ok(target) = fs::read_link(&at) else {
            return fs::canonicalize(&at).ok().filter(|target| target.starts_with(root));
        };
        let folder = at.parent()?;
        at = match target.strip_prefix("/") {
            Ok(below) if !target.starts_with(root) => {
                let around = folder.ancestors().take_while(|one| one.starts_with(root));
                // Where `etc` itself was given, the root of the device is beside it.
                let own = root.file_name().and_then(|name| below.strip_prefix(name).ok());
                let places = around.map(|one| one.join(below)).chain(own.map(|rest| root.join(rest)));
                places.into_iter().find(|place: &PathBuf| fs::symlink_metadata(place).is_ok())?
            }
            _ => folder.join(&target),
        };
    }
    None
}

fn unreadable(given: &Path, error: &walkdir::Error) -> LeftOut {
    let why = error.io_error().map_or_else(|| error.to_string(), explain);
    let at = error.path().unwrap_or(given);
    LeftOut { at: at.to_owned(), path: Some(below(given, at)), why }
}

/// A link is not followed: its target is read at its own path, or is not part of the given paths.
fn link(at: &Path, path: &str, root: &Path) -> Option<LeftOut> {
    if target_within(at, root).is_some() {
        return None;
    }
    let why = match fs::canonicalize(at) {
        Ok(_) => {
            "a link that points outside the given folder; copy the target to its place if it belongs to the device"
        }
        Err(_) => "a broken link; please export its target",
    };
    Some(LeftOut { at: at.to_owned(), path: Some(path.to_owned()), why: why.into() })
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
        return Some(File::found(at, path, metadata.len()));
    };
    left_out.push(LeftOut { at: at.to_owned(), path: Some(path), why });
    None
}

/// Standard input: one file, or an archive of an estate.
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
        Ok(count) => {
            // Recognised by content, whatever its form.
            if let Some(inside) = archive::unpack("input.tar", &bytes, limits) {
                let files = files_of(&given, inside, "input", left_out);
                return Some(Root { given, folder: true, files, unread: Vec::new(), etc: false });
            }
            let file = File { bytes: Some(Arc::new(bytes)), ..File::found(&given, "input".into(), count) };
            return Some(Root { given, folder: false, files: vec![file], unread: Vec::new(), etc: false });
        }
    };
    left_out.push(LeftOut { at: given, path: None, why });
    None
}

#[cfg(test)]
mod tests {
    #![allow(clippy::unwrap_used, reason = "a test that cannot go on has failed")]

    use super::*;

    #[test]
    fn files_that_change_after_they_were_found() {
        let folder = tempfile::TempDir::new().unwrap();
        let elsewhere = tempfile::TempDir::new().unwrap();
        fs::write(elsewhere.path().join("secret"), "outside\n").unwrap();
        let limits = Limits::default().with("file-bytes=100").unwrap();
        let all = ["grows", "stays", "turns", "vanishes", "way/secret", "x-links"];
        fs::create_dir(folder.path().join("way")).unwrap();
        for name in all {
            fs::write(folder.path().join(name), "text\n").unwrap();
        }
        let mut left_out = Vec::new();
        let root = walk(folder.path(), &mut Allowance::of(limits), &mut left_out).unwrap();
        assert_eq!((root.files.len(), left_out.len()), (all.len(), 0));
        fs::write(folder.path().join("grows"), "x".repeat(200)).unwrap();
        for name in ["vanishes", "turns", "x-links", "way/secret"] {
            fs::remove_file(folder.path().join(name)).unwrap();
        }
        fs::create_dir(folder.path().join("turns")).unwrap();
        #[cfg(unix)]
        {
            std::os::unix::fs::symlink(elsewhere.path().join("secret"), folder.path().join("x-links"))
                .unwrap();
            // A folder on the way is a link now, and what it leads to has a file of the name.
            fs::remove_dir(folder.path().join("way")).unwrap();
            std::os::unix::fs::symlink(elsewhere.path(), folder.path().join("way")).unwrap();
        }
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
            "way/secret: it was replaced by a link",
            "x-links: it was replaced by a link",
        ]) {
            assert!(line.starts_with(wanted), "{line}");
        }
    }

    #[cfg(target_os = "linux")]
    #[test]
    fn a_pipe_that_took_the_place_of_a_file_is_not_waited_for() {
        let folder = tempfile::TempDir::new().unwrap();
        let at = folder.path().join("a");
        fs::write(&at, "text\n").unwrap();
        let limits = Limits::default();
        let root = walk(folder.path(), &mut Allowance::of(limits), &mut Vec::new()).unwrap();
        fs::remove_file(&at).unwrap();
        rustix::fs::mkfifoat(rustix::fs::CWD, &at, rustix::fs::Mode::RUSR).unwrap();
        assert_eq!(root.files[0].read(&limits).unwrap_err(), NO_FILE);
    }

    #[test]
    fn former_states_and_clashes_of_archives() {
        let folder = tempfile::TempDir::new().unwrap();
        let at = |path: &str| folder.path().join(path);
        for path in ["edge/.git/objects/a", "edge/etc/.svn/b", "edge/etc/c", "both/etc/d"] {
            fs::create_dir_all(at(path).parent().unwrap()).unwrap();
            fs::write(at(path), "text\n").unwrap();
        }
        // An empty archive is one, and so is what a second has of the same name.
        let mut tar = vec![0u8; 512];
        tar[..5].copy_from_slice(b"etc/e");
        tar[124..136].copy_from_slice(b"00000000000\0");
        tar[257..263].copy_from_slice(b"ustar\0");
        let sum: u32 = tar.iter().map(|byte| u32::from(*byte)).sum::<u32>() + 8 * 32;
        tar[148..156].copy_from_slice(format!("{sum:06o}\0 ").as_bytes());
        tar.resize(512 * 3, 0);
        for name in ["both.tar", "one.tar", "one.tgz"] {
            fs::write(at(name), &tar).unwrap();
        }
        let mut left_out = Vec::new();
        let root = walk(folder.path(), &mut Allowance::of(Limits::default()), &mut left_out).unwrap();
        let paths: Vec<&str> = root.files.iter().map(|file| file.path.as_str()).collect();
        assert_eq!(paths, ["both.tar/etc/e", "both/etc/d", "edge/etc/c", "one.tgz/etc/e", "one/etc/e"]);
        let told: Vec<String> = left_out.iter().map(|one| below(folder.path(), &one.at)).collect();
        assert_eq!(told, ["edge/.git", "edge/etc/.svn"]);
        assert!(left_out.iter().all(|one| one.why == trevlin_readers::archive::HISTORY));
    }
}
