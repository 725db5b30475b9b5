//! Archives as received from clients: their content, read in memory without writing files to disk.
//!
//! Archives are as hostile as exports. No path leaves the archive, links are reported and not followed, and sizes are bounded before
//! anything is kept: the size of a file, of all files, their number, the growth of an archive, and the nesting depth. Output is counted
//! whether it is kept or not, and for all nested archives together.

mod form;
mod sealed;
mod streams;

pub use sealed::{scrambled, sealed};

use form::Form;
use std::collections::{BTreeMap, BTreeSet};
use std::io::{Cursor, Read};
use streams::{Frames, Refused, Room, Stream, limited};
use trevlin_model::{Limit, Limits};
use zeroize::Zeroizing;

/// Bytes that any archive may expand to, however small it is.
const FREE: u64 = 1 << 20;

/// Content of archives.
#[derive(Debug, Default)]
pub struct Unpacked {
    /// Files by path, with `/` between its parts. The second name of a file (a hard link) is a file like the first.
    pub files: BTreeMap<String, Zeroizing<Vec<u8>>>,
    /// Symbolic links by path, with where they lead, as written.
    pub links: BTreeMap<String, String>,
    /// Parts left out, with the reason.
    pub left_out: Vec<(String, String)>,
    /// Messages already given, each once for a path.
    said: BTreeSet<String>,
    /// Archives in the one at hand, opened after it.
    inner: Vec<Inner>,
    /// Bytes that came out so far, kept or not.
    out: u64,
    /// Bytes of the outermost archive.
    packed: u64,
}

/// An archive in another.
#[derive(Debug)]
struct Inner {
    path: String,
    bytes: Zeroizing<Vec<u8>>,
    /// How many archives may still be opened, this one among them.
    depth: usize,
}

/// Endings that archives go by, the longest of each first.
const ENDINGS: [&str; 11] =
    [".tar.gz", ".tar.xz", ".tar.zst", ".tgz", ".txz", ".tzst", ".tar", ".zip", ".gz", ".xz", ".zst"];

/// The name of an archive's content, from the archive's own; none where the name is not that of an archive.
#[must_use]
pub fn stem(name: &str) -> Option<&str> {
    let lower = name.to_ascii_lowercase();
    ENDINGS
        .iter()
        .find(|ending| lower.ends_with(*ending) && lower.len() > ending.len())
        .map(|ending| &name[..name.len() - ending.len()])
}

/// Folders in which version control keeps former states, which are not in force.
const HISTORIES: [&str; 4] = [".git", ".svn", ".hg", ".bzr"];

/// Whether a folder holds what version control keeps, by its name.
#[must_use]
pub fn is_history(name: &str) -> bool {
    HISTORIES.contains(&name)
}

/// Message about such a folder.
pub const HISTORY: &str = "version control data; former versions are not read";

/// Message about an entry that is not a file.
pub const NO_FILE: &str = "neither a file nor a folder";

/// Opens an archive by name and content. A name without an archive's ending, or bytes that are none, are none.
#[must_use]
pub fn unpack(name: &str, bytes: &[u8], limits: &Limits) -> Option<Unpacked> {
    stem(name)?;
    Form::of(bytes)?;
    let mut found = Unpacked { packed: bytes.len() as u64, ..Unpacked::default() };
    found.open(name, &Place { beside: "", within: "" }, bytes, limits, limits.of(Limit::ArchiveDepth));
    while !found.inner.is_empty() {
        for Inner { path, bytes, depth } in std::mem::take(&mut found.inner) {
            let beside = path.rsplit_once('/').map_or("", |(folder, _)| folder);
            let within = stem(&path).filter(|stem| !found.holds(stem)).unwrap_or(&path);
            found.open(&path, &Place { beside, within }, &bytes, limits, depth);
        }
    }
    found.settle_clashes();
    Some(found)
}

/// A tar, and whether it is known already that the rest of it is not there.
struct Tar<'a> {
    bytes: &'a [u8],
    is_cut: bool,
}

/// Destination of an archive's content: a single compressed file goes next to it, the files of an archive into a folder of its name.
struct Place<'a> {
    beside: &'a str,
    within: &'a str,
}

impl Unpacked {
    /// `depth`: how many archives may still be opened, this one among them.
    fn open(&mut self, name: &str, place: &Place<'_>, bytes: &[u8], limits: &Limits, depth: usize) {
        let room = self.room(limits);
        let Stream { bytes: inner, refused } = match Form::of(bytes) {
            None => return,
            Some(Form::Zip) => return self.zip(name, place.within, bytes, limits, depth),
            Some(Form::Tar) => {
                return self.tar(name, place.within, Tar { bytes, is_cut: false }, limits, depth);
            }
            Some(Form::Gzip) => limited(flate2::read::MultiGzDecoder::new(bytes), None, room, limits),
            Some(Form::Xz) => limited(lzma_rust2::XzReader::new(bytes, true), None, room, limits),
            Some(Form::Zstd) => limited(Frames::of(bytes), None, room, limits),
        };
        // Compression around an archive is one archive. Files before a truncation are complete.
        if Form::of(&inner) == Some(Form::Tar) {
            if let Some(why) = &refused {
                self.refuse(name, why, limits);
            }
            return self.tar(
                name,
                place.within,
                Tar { bytes: &inner, is_cut: refused.is_some() },
                limits,
                depth,
            );
        }
        self.out += inner.len() as u64;
        match refused {
            Some(why) => self.refuse(name, &why, limits),
            None => {
                let base = name.rsplit('/').next().unwrap_or(name);
                let path = joined(place.beside, stem(base).unwrap_or(base));
                let path = if self.holds(&path) { joined(place.beside, base) } else { path };
                self.keep(path, inner, limits, depth);
            }
        }
    }

    fn refuse(&mut self, path: &str, why: &Refused, limits: &Limits) {
        self.left_out.push((path.to_owned(), why.words(limits)));
    }

    /// How many bytes may still come out.
    fn room(&self, limits: &Limits) -> Room {
        let by_ratio = self.packed.saturating_mul(limits.get(Limit::ArchiveRatio)).max(FREE);
        let most = limits.get(Limit::ArchiveBytes);
        Room { bytes: by_ratio.min(most).saturating_sub(self.out), by_ratio: by_ratio < most }
    }

    /// Whether a file or a folder of that path came out.
    fn holds(&self, path: &str) -> bool {
        let below = format!("{path}/");
        let within = |found: &String| found.starts_with(&below);
        self.files.contains_key(path)
            || self.links.contains_key(path)
            || self.files.range(below.clone()..).next().is_some_and(|(found, _)| within(found))
            || self.links.range(below.clone()..).next().is_some_and(|(found, _)| within(found))
    }

    fn zip(&mut self, name: &str, under: &str, bytes: &[u8], limits: &Limits, depth: usize) {
        let mut archive = match zip::ZipArchive::new(Cursor::new(bytes)) {
            Ok(archive) => archive,
            Err(error) => return self.refuse(name, &Refused::Broken(error.to_string()), limits),
        };
        match archive.has_overlapping_entries() {
            Ok(false) => {}
            Ok(true) => {
                let why =
                    "its entries overlap, as in an archive built to exhaust memory; please export it again";
                return self.left_out.push((name.to_owned(), why.to_owned()));
            }
            Err(error) => return self.refuse(name, &Refused::Broken(error.to_string()), limits),
        }
        for number in 0..archive.len() {
            if self.is_full(name, limits) {
                return;
            }
            let written = archive
                .name_for_index(number)
                .and_then(Result::ok)
                .map_or_else(|| "an entry without a name".to_owned(), |name| name.replace('\\', "/"));
            let entry = match archive.by_index(number) {
                Ok(entry) => entry,
                Err(error) => {
                    let why = match error {
                        zip::result::ZipError::UnsupportedArchive(_) => {
                            "encrypted, or compressed in an unsupported way; please provide a readable export"
                                .to_owned()
                        }
                        other => Refused::Broken(other.to_string()).words(limits),
                    };
                    self.left_out.push((joined(name, &written), why));
                    continue;
                }
            };
            if entry.is_dir() {
                continue;
            }
            let Some(path) = self.placed(name, &written) else { continue };
            let is_link = entry.unix_mode().is_some_and(|mode| mode & 0o170_000 == 0o120_000);
            let declared = entry.size();
            let room = self.room(limits);
            let Stream { bytes, refused } = limited(entry, Some(declared), room, limits);
            self.out += bytes.len() as u64;
            match refused {
                Some(why) => self.refuse(&joined(name, &written), &why, limits),
                None if is_link => {
                    self.links.insert(joined(under, &path), String::from_utf8_lossy(&bytes).into_owned());
                }
                None => self.keep(joined(under, &path), bytes, limits, depth),
            }
        }
    }

    fn tar(&mut self, name: &str, under: &str, tar: Tar<'_>, limits: &Limits, depth: usize) {
        let Tar { bytes, is_cut } = tar;
        let mut archive = tar::Archive::new(bytes);
        // Archives that were joined have an end within.
        archive.set_ignore_zeros(true);
        let entries = match archive.entries() {
            Ok(entries) => entries,
            Err(error) => return self.refuse(name, &Refused::Broken(error.to_string()), limits),
        };
        for entry in entries {
            if self.is_full(name, limits) {
                return;
            }
            let mut entry = match entry {
                Ok(entry) => entry,
                // The rest cannot be located any more.
                Err(_) if is_cut => return,
                Err(error) => return self.refuse(name, &Refused::Broken(error.to_string()), limits),
            };
            let written = String::from_utf8_lossy(&entry.path_bytes()).into_owned();
            let kind = entry.header().entry_type();
            if kind.is_dir() || kind.is_pax_global_extensions() || kind.is_pax_local_extensions() {
                continue;
            }
            let Some(path) = self.placed(name, &written) else { continue };
            if kind.is_symlink() {
                if let Some(target) = entry.link_name_bytes() {
                    let target = String::from_utf8_lossy(&target).into_owned();
                    self.links.insert(joined(under, &path), target);
                }
                continue;
            }
            if kind.is_hard_link() {
                let target =
                    entry.link_name_bytes().map(|target| String::from_utf8_lossy(&target).into_owned());
                self.second_name(name, under, (&written, &path), target.as_deref(), limits);
                continue;
            }
            if !kind.is_file() && !kind.is_contiguous() && !kind.is_gnu_sparse() {
                self.left_out.push((joined(name, &written), NO_FILE.to_owned()));
                continue;
            }
            if is_packed_without_holes(&mut entry) {
                let why = "sparse format that is not supported; please provide a plain archive";
                self.left_out.push((joined(name, &written), why.to_owned()));
                continue;
            }
            let declared = entry.size();
            let Stream { bytes, mut refused } = limited(entry, Some(declared), self.room(limits), limits);
            self.out += bytes.len() as u64;
            if refused.is_none() && bytes.len() as u64 != declared {
                if is_cut {
                    return;
                }
                refused = Some(Refused::Broken("it is truncated".to_owned()));
            }
            match refused {
                Some(why) => self.refuse(&joined(name, &written), &why, limits),
                None => self.keep(joined(under, &path), bytes, limits, depth),
            }
        }
        // Two blocks of zeros (POSIX.1-2017, pax, "ustar Interchange Format").
        if !is_cut && bytes.iter().rev().take_while(|byte| **byte == 0).count() < 1024 {
            let why = "it has no end mark, so files may be missing; please export it again";
            self.left_out.push((name.to_owned(), why.to_owned()));
        }
    }

    /// The second name of a file that came before (POSIX.1-2017, pax, typeflag 1). Its target counts from the top of the archive.
    fn second_name(
        &mut self,
        name: &str,
        under: &str,
        (written, path): (&str, &str),
        target: Option<&str>,
        limits: &Limits,
    ) {
        let first = target.and_then(safe).and_then(|target| self.files.get(&joined(under, &target)).cloned());
        let Some(bytes) = first else {
            let why = "a hard link to a file that is not in the archive; please provide the file itself";
            return self.left_out.push((joined(name, written), why.to_owned()));
        };
        let room = self.room(limits);
        if bytes.len() as u64 > room.bytes {
            let why = if room.by_ratio { Refused::Ratio } else { Refused::Total };
            return self.refuse(&joined(name, written), &why, limits);
        }
        self.out += bytes.len() as u64;
        self.insert(joined(under, path), bytes);
    }

    /// Destination of an entry, unless it leads out of the archive or its place shows that it is not a configuration; both are reported.
    fn placed(&mut self, name: &str, written: &str) -> Option<String> {
        let Some(path) = safe(written) else {
            self.left_out.push((joined(name, written), OUTSIDE.to_owned()));
            return None;
        };
        let parts: Vec<&str> = path.split('/').collect();
        if let Some(at) = parts[..parts.len() - 1].iter().position(|part| is_history(part)) {
            self.say_once(joined(name, &parts[..=at].join("/")), HISTORY);
            return None;
        }
        Some(path)
    }

    /// Reports once that there are too many files.
    fn is_full(&mut self, name: &str, limits: &Limits) -> bool {
        let full = self.files.len() + self.links.len() + self.left_out.len() >= limits.of(Limit::Files);
        if full {
            let why = format!(
                "it holds more than {} files; the rest is left out; {}",
                limits.of(Limit::Files),
                Limit::Files.remedy()
            );
            self.left_out.push((name.to_owned(), why));
        }
        full
    }

    fn keep(&mut self, path: String, bytes: Zeroizing<Vec<u8>>, limits: &Limits, depth: usize) {
        if stem(&path).is_none() || Form::of(&bytes).is_none() {
            return self.insert(path, bytes);
        }
        if depth <= 1 {
            let why = format!(
                "an archive nested in {} others; unpack it and read its content, or {}",
                limits.of(Limit::ArchiveDepth),
                Limit::ArchiveDepth.remedy()
            );
            self.left_out.push((path, why));
            return;
        }
        self.inner.push(Inner { path, bytes, depth: depth - 1 });
    }

    /// The last of several with one path is the one that unpacking leaves.
    fn insert(&mut self, path: String, bytes: Zeroizing<Vec<u8>>) {
        let before = self.files.insert(path.clone(), bytes);
        if before.is_some() {
            self.say_once(path, "it is in the archive more than once; the last one is read");
        }
    }

    fn say_once(&mut self, path: String, why: &str) {
        if self.said.insert(path.clone()) {
            self.left_out.push((path, why.to_owned()));
        }
    }

    /// A path that is both a file and a folder can only be one of them.
    fn settle_clashes(&mut self) {
        let is_folder = |path: &String| {
            let below = format!("{path}/");
            self.files.range(below.clone()..).next().is_some_and(|(found, _)| found.starts_with(&below))
        };
        let both: Vec<String> = self.files.keys().filter(|path| is_folder(path)).cloned().collect();
        for path in both {
            self.files.remove(&path);
            let why = "a file of this name is in the archive beside a folder of the same; the folder is read";
            self.left_out.push((path, why.to_owned()));
        }
    }
}

/// Whether a sparse file is stored in the archive without its holes, as pax headers describe.
fn is_packed_without_holes(entry: &mut tar::Entry<'_, impl Read>) -> bool {
    let extensions = entry.pax_extensions().ok().flatten();
    extensions.is_some_and(|mut all| {
        all.any(|one| one.is_ok_and(|one| one.key_bytes().starts_with(b"GNU.sparse.")))
    })
}

const OUTSIDE: &str = "its path leads outside the archive";

fn joined(under: &str, path: &str) -> String {
    if under.is_empty() { path.to_owned() } else { format!("{under}/{path}") }
}

/// A path that stays within the archive; none where it does not.
fn safe(path: &str) -> Option<String> {
    if path.starts_with('/') || path.contains('\0') || path.get(1..2) == Some(":") {
        return None;
    }
    let parts: Vec<&str> = path.split('/').filter(|part| !part.is_empty() && *part != ".").collect();
    (!parts.is_empty() && !parts.contains(&"..")).then(|| parts.join("/"))
}

#[cfg(test)]
mod tests;
