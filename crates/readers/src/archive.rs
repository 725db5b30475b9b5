//! Archives, as clients send them: what is in them, without a file of them touching the disk.
//!
//! Archives are as hostile as exports. No path leaves the archive, links are told and not followed, and sizes are bounded before
//! anything is kept: by the size of a file, of all files, their number, how much larger an archive may grow, and how deep one may lie
//! in another.
//!
//! Long because the bounds of hostile archives are kept in one place, whatever the container.

use std::collections::BTreeMap;
use std::io::{self, Cursor, Read};
use trevlin_model::{Limit, Limits, size};
use zeroize::Zeroizing;

/// What may always come out of an archive, however small it is.
const FREE: u64 = 1 << 20;

/// What was in archives.
#[derive(Debug, Default)]
pub struct Unpacked {
    /// Files by path, with `/` between its parts.
    pub files: BTreeMap<String, Zeroizing<Vec<u8>>>,
    /// Links by path, with where they lead, as written.
    pub links: BTreeMap<String, String>,
    /// What was left out, and why.
    pub left_out: Vec<(String, String)>,
    total: u64,
}

/// A form of archive, or of compression.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Form {
    Zip,
    Tar,
    Gzip,
    Xz,
    Zstd,
}

/// Endings that archives go by, the longest of each first.
const ENDINGS: [&str; 11] =
    [".tar.gz", ".tar.xz", ".tar.zst", ".tgz", ".txz", ".tzst", ".tar", ".zip", ".gz", ".xz", ".zst"];

/// The name of what is in an archive, from the archive's own; none where the name is no archive's.
#[must_use]
pub fn stem(name: &str) -> Option<&str> {
    let lower = name.to_ascii_lowercase();
    ENDINGS
        .iter()
        .find(|ending| lower.ends_with(*ending) && lower.len() > ending.len())
        .map(|ending| &name[..name.len() - ending.len()])
}

impl Form {
    /// By the first bytes (APPNOTE of ZIP 4.3.7; POSIX.1-2017, pax; RFC 1952, 2.3.1; the .xz format 2.1.1.1; RFC 8878, 3.1.1).
    fn of(bytes: &[u8]) -> Option<Self> {
        let begins = |magic: &[u8]| bytes.starts_with(magic);
        if begins(b"PK\x03\x04") || begins(b"PK\x05\x06") {
            Some(Self::Zip)
        } else if begins(b"\x1f\x8b") {
            Some(Self::Gzip)
        } else if begins(b"\xfd7zXZ\0") {
            Some(Self::Xz)
        } else if begins(b"\x28\xb5\x2f\xfd") {
            Some(Self::Zstd)
        } else if bytes.get(257..262) == Some(b"ustar") {
            Some(Self::Tar)
        } else {
            None
        }
    }
}

/// Opens an archive by name and content. A name without an archive's ending, or bytes that are none, are none.
#[must_use]
pub fn unpack(name: &str, bytes: &[u8], limits: &Limits) -> Option<Unpacked> {
    stem(name)?;
    Form::of(bytes)?;
    let mut found = Unpacked::default();
    found.open(name, &Place { beside: "", within: "" }, bytes, limits, limits.of(Limit::ArchiveDepth));
    Some(found)
}

/// Why something was not taken.
enum Refused {
    Larger,
    Ratio,
    Total,
    Broken(String),
}

impl Refused {
    fn words(&self, limits: &Limits) -> String {
        match self {
            Self::Larger => format!(
                "larger than {}, which no configuration is; {}",
                size(limits.get(Limit::FileBytes)),
                Limit::FileBytes.remedy()
            ),
            Self::Ratio => format!(
                "it unpacks to more than {} times its size, as an archive does that is made to fill memory; {}",
                limits.get(Limit::ArchiveRatio),
                Limit::ArchiveRatio.remedy()
            ),
            Self::Total => format!(
                "the archive holds more than {}; {}",
                size(limits.get(Limit::ArchiveBytes)),
                Limit::ArchiveBytes.remedy()
            ),
            Self::Broken(why) => format!("it cannot be unpacked ({why}); ask for it again"),
        }
    }
}

/// Where what is in an archive goes: a single compressed file stands beside it, an archive's files in a folder of its name.
struct Place<'a> {
    beside: &'a str,
    within: &'a str,
}

impl Unpacked {
    /// `depth`: how many archives may still be opened, this one among them.
    fn open(&mut self, name: &str, place: &Place<'_>, bytes: &[u8], limits: &Limits, depth: usize) {
        let room = self.room(bytes.len() as u64, limits);
        let unpacked = match Form::of(bytes) {
            None => return,
            Some(Form::Zip) => return self.zip(name, place.within, bytes, limits, depth),
            Some(Form::Tar) => return self.tar(name, place.within, bytes, limits, depth),
            Some(Form::Gzip) => limited(flate2::read::MultiGzDecoder::new(bytes), room, limits),
            Some(Form::Xz) => limited(lzma_rust2::XzReader::new(bytes, true), room, limits),
            Some(Form::Zstd) => ruzstd::decoding::StreamingDecoder::new(bytes)
                .map_err(|error| Refused::Broken(error.to_string()))
                .and_then(|reader| limited(reader, room, limits)),
        };
        match unpacked {
            Err(why) => self.refuse(name, &why, limits),
            // Compression around an archive is one archive.
            Ok(inner) if Form::of(&inner) == Some(Form::Tar) => {
                self.tar(name, place.within, &inner, limits, depth);
            }
            Ok(inner) => {
                let base = name.rsplit('/').next().unwrap_or(name);
                self.keep(joined(place.beside, stem(base).unwrap_or(base)), inner, limits, depth);
            }
        }
    }

    fn refuse(&mut self, path: &str, why: &Refused, limits: &Limits) {
        self.left_out.push((path.to_owned(), why.words(limits)));
    }

    /// How many bytes may come out of so many.
    fn room(&self, packed: u64, limits: &Limits) -> Room {
        let by_ratio = packed.saturating_mul(limits.get(Limit::ArchiveRatio)).max(FREE);
        let left = limits.get(Limit::ArchiveBytes).saturating_sub(self.total);
        Room { bytes: by_ratio.min(left), by_ratio: by_ratio < left }
    }

    fn zip(&mut self, name: &str, under: &str, bytes: &[u8], limits: &Limits, depth: usize) {
        let mut archive = match zip::ZipArchive::new(Cursor::new(bytes)) {
            Ok(archive) => archive,
            Err(error) => return self.refuse(name, &Refused::Broken(error.to_string()), limits),
        };
        let mut room = self.room(bytes.len() as u64, limits);
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
                            "encrypted, or packed in a way that is not read here; ask for a readable export"
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
            let Some(path) = safe(&written) else {
                self.left_out.push((joined(name, &written), OUTSIDE.to_owned()));
                continue;
            };
            let is_link = entry.unix_mode().is_some_and(|mode| mode & 0o170_000 == 0o120_000);
            match limited(entry, room, limits) {
                Err(why) => self.refuse(&joined(name, &written), &why, limits),
                Ok(bytes) if is_link => {
                    self.links.insert(joined(under, &path), String::from_utf8_lossy(&bytes).into_owned());
                }
                Ok(bytes) => {
                    room.bytes = room.bytes.saturating_sub(bytes.len() as u64);
                    self.keep(joined(under, &path), bytes, limits, depth);
                }
            }
        }
    }

    fn tar(&mut self, name: &str, under: &str, bytes: &[u8], limits: &Limits, depth: usize) {
        let mut archive = tar::Archive::new(bytes);
        let entries = match archive.entries() {
            Ok(entries) => entries,
            Err(error) => return self.refuse(name, &Refused::Broken(error.to_string()), limits),
        };
        for entry in entries {
            if self.is_full(name, limits) {
                return;
            }
            let entry = match entry {
                Ok(entry) => entry,
                // What follows cannot be found any more.
                Err(error) => return self.refuse(name, &Refused::Broken(error.to_string()), limits),
            };
            let written = String::from_utf8_lossy(&entry.path_bytes()).into_owned();
            let kind = entry.header().entry_type();
            if kind.is_dir() || kind.is_pax_global_extensions() || kind.is_pax_local_extensions() {
                continue;
            }
            let Some(path) = safe(&written) else {
                self.left_out.push((joined(name, &written), OUTSIDE.to_owned()));
                continue;
            };
            if kind.is_symlink() || kind.is_hard_link() {
                if let Some(target) = entry.link_name_bytes() {
                    let target = String::from_utf8_lossy(&target).into_owned();
                    // The second name of a file counts from the top of the archive.
                    let target = if kind.is_hard_link() { format!("/{target}") } else { target };
                    self.links.insert(joined(under, &path), target);
                }
                continue;
            }
            if !kind.is_file() && !kind.is_contiguous() && !kind.is_gnu_sparse() {
                self.left_out.push((joined(name, &written), "neither a file nor a folder".to_owned()));
                continue;
            }
            let room =
                Room { bytes: limits.get(Limit::ArchiveBytes).saturating_sub(self.total), by_ratio: false };
            match limited(entry, room, limits) {
                Err(why) => self.refuse(&joined(name, &written), &why, limits),
                Ok(bytes) => self.keep(joined(under, &path), bytes, limits, depth),
            }
        }
    }

    /// Says once that there are too many files.
    fn is_full(&mut self, name: &str, limits: &Limits) -> bool {
        let full = self.files.len() + self.links.len() >= limits.of(Limit::Files);
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
        self.total += bytes.len() as u64;
        if stem(&path).is_some() && Form::of(&bytes).is_some() {
            if depth <= 1 {
                let why = format!(
                    "an archive in {} others; unpack it and give what is in it, or {}",
                    limits.of(Limit::ArchiveDepth),
                    Limit::ArchiveDepth.remedy()
                );
                self.left_out.push((path, why));
                return;
            }
            let place = Place {
                beside: path.rsplit_once('/').map_or("", |(folder, _)| folder),
                within: stem(&path).unwrap_or(&path),
            };
            self.open(&path, &place, &bytes, limits, depth - 1);
            return;
        }
        self.files.insert(path, bytes);
    }
}

const OUTSIDE: &str = "its path leads out of the archive";

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

/// How many bytes may still come out, and what it means when more do.
#[derive(Clone, Copy)]
struct Room {
    bytes: u64,
    by_ratio: bool,
}

/// All of a stream, unless it is too long. Only what is an archive itself may be longer than a file.
fn limited(mut reader: impl Read, room: Room, limits: &Limits) -> Result<Zeroizing<Vec<u8>>, Refused> {
    let mut bytes = Zeroizing::new(Vec::new());
    // Reads on to the one byte that is too much; whether there is one.
    let mut read = |bytes: &mut Vec<u8>, most: u64| -> Result<bool, Refused> {
        let left = most.saturating_sub(bytes.len() as u64) + 1;
        io::copy(&mut reader.by_ref().take(left), bytes)
            .map_err(|error| Refused::Broken(error.to_string()))?;
        Ok(bytes.len() as u64 > most)
    };
    let too_long = || if room.by_ratio { Refused::Ratio } else { Refused::Total };
    if room.bytes <= limits.get(Limit::FileBytes) {
        return if read(&mut bytes, room.bytes)? { Err(too_long()) } else { Ok(bytes) };
    }
    if !read(&mut bytes, limits.get(Limit::FileBytes))? {
        return Ok(bytes);
    }
    if Form::of(&bytes).is_none() {
        return Err(Refused::Larger);
    }
    if read(&mut bytes, room.bytes)? { Err(too_long()) } else { Ok(bytes) }
}

/// What a file says it is, where that is nothing to read: something encrypted, or a container, so that one asks for the right thing.
#[must_use]
pub fn sealed(bytes: &[u8]) -> Option<&'static str> {
    let begins = |magic: &[u8]| bytes.starts_with(magic);
    let known: [(&[u8], &str); 8] = [
        (b"Salted__", "encrypted (openssl enc)"),
        (b"age-encryption.org/", "encrypted (age)"),
        (b"-----BEGIN PGP MESSAGE-----", "encrypted (OpenPGP)"),
        (b"-----BEGIN AGE ENCRYPTED FILE-----", "encrypted (age)"),
        (b"LUKS\xba\xbe", "an encrypted disk"),
        (b"7z\xbc\xaf\x27\x1c", "a 7z archive"),
        (b"Rar!\x1a\x07", "a rar archive"),
        (b"SQLite format 3\0", "a database"),
    ];
    known.iter().find(|(magic, _)| begins(magic)).map(|(_, what)| *what)
}

/// What bytes seem to be that are no text: without any pattern, every byte about as often as any other, they are encrypted or packed.
#[must_use]
pub fn scrambled(bytes: &[u8]) -> Option<&'static str> {
    let sample = bytes.get(..bytes.len().min(64 << 10))?;
    if sample.len() < 1024 {
        return None;
    }
    let mut counts = [0u32; 256];
    sample.iter().for_each(|byte| counts[usize::from(*byte)] += 1);
    let total = sample.len() as f64;
    let entropy: f64 = counts
        .iter()
        .filter(|count| **count > 0)
        .map(|count| f64::from(*count) / total)
        .map(|share| -share * share.log2())
        .sum();
    (entropy > 7.8).then_some("encrypted or packed in a form of its maker's own")
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::io::Write;

    type Files<'a> = &'a [(&'a str, &'a [u8])];

    fn tar_of(files: Files<'_>) -> Vec<u8> {
        let mut builder = tar::Builder::new(Vec::new());
        for (path, bytes) in files {
            let mut header = tar::Header::new_gnu();
            header.set_size(bytes.len() as u64);
            header.set_mode(0o644);
            // As written, whatever it is.
            let name = &mut header.as_gnu_mut().unwrap().name;
            name[..path.len()].copy_from_slice(path.as_bytes());
            header.set_cksum();
            builder.append(&header, *bytes).unwrap();
        }
        builder.into_inner().unwrap()
    }

    fn zip_of(files: Files<'_>) -> Vec<u8> {
        let mut writer = zip::ZipWriter::new(Cursor::new(Vec::new()));
        for (path, bytes) in files {
            writer.start_file(*path, zip::write::SimpleFileOptions::default()).unwrap();
            writer.write_all(bytes).unwrap();
        }
        writer.finish().unwrap().into_inner()
    }

    fn gzip(bytes: &[u8]) -> Vec<u8> {
        let mut writer = flate2::write::GzEncoder::new(Vec::new(), flate2::Compression::default());
        writer.write_all(bytes).unwrap();
        writer.finish().unwrap()
    }

    fn zstd(bytes: &[u8]) -> Vec<u8> {
        ruzstd::encoding::compress_to_vec(bytes, ruzstd::encoding::CompressionLevel::Fastest)
    }

    fn xz(bytes: &[u8]) -> Vec<u8> {
        let mut writer =
            lzma_rust2::XzWriter::new(Vec::new(), lzma_rust2::XzOptions::with_preset(1)).unwrap();
        writer.write_all(bytes).unwrap();
        writer.finish().unwrap()
    }

    /// Paths, and what was left out.
    fn told(name: &str, bytes: &[u8], limits: &Limits) -> Vec<String> {
        let found = unpack(name, bytes, limits).unwrap();
        let files = found.files.iter().map(|(path, bytes)| format!("{path} {}", bytes.len()));
        let links = found.links.iter().map(|(path, to)| format!("{path} -> {to}"));
        files.chain(links).chain(found.left_out.iter().map(|(path, why)| format!("{path}: {why}"))).collect()
    }

    #[test]
    fn every_form_is_opened() {
        let files: Files<'_> = &[("edge/etc/a", b"one"), ("./edge/b", b"three")];
        let (zip, tar) = (zip_of(files), tar_of(files));
        let wanted = ["edge/b 5", "edge/etc/a 3"];
        for (name, bytes) in [
            ("a.zip", zip.clone()),
            ("a.tar", tar.clone()),
            ("a.tar.gz", gzip(&tar)),
            ("a.tgz", gzip(&tar)),
            ("a.tar.xz", xz(&tar)),
            ("A.TAR.ZST", zstd(&tar)),
        ] {
            assert_eq!(told(name, &bytes, &Limits::default()), wanted, "{name}");
        }
        assert_eq!(told("edge.conf.gz", &gzip(b"text"), &Limits::default()), ["edge.conf 4"]);
        for (name, bytes) in [("a.zip", &b"no archive"[..]), ("a.docx", &zip), ("a.tar", &tar[..100])] {
            assert!(unpack(name, bytes, &Limits::default()).is_none(), "{name}");
        }
    }

    #[test]
    fn one_within_another() {
        let inner = gzip(&tar_of(&[("etc/a", b"one")]));
        let middle = zip_of(&[("edge.tar.gz", &inner), ("logs/b.txt.gz", &gzip(b"text"))]);
        let limits = Limits::default();
        assert_eq!(told("all.zip", &middle, &limits), ["edge/etc/a 3", "logs/b.txt 4"]);
        let outer = tar_of(&[("all.zip", &middle)]);
        let lines = told("outer.tar", &outer, &limits);
        assert!(lines.iter().all(|line| line.contains("an archive in 2 others")), "{lines:?}");
    }

    #[test]
    fn what_would_do_harm_is_left_out() {
        let limits = ["file-bytes=4M", "archive-bytes=16M", "files=3"];
        let limits = limits.iter().fold(Limits::default(), |all, said| all.with(said).unwrap());
        let zeros = vec![0u8; 8 << 20];
        for (name, bytes, wanted) in [
            (
                "a.tar",
                tar_of(&[("../x", b"a"), ("/etc/y", b"a"), ("b/../z", b"a")]),
                "leads out of the archive",
            ),
            ("a.zip", zip_of(&[("..\\x", b"a")]), "leads out of the archive"),
            ("a.gz", gzip(&zeros), "more than 200 times its size"),
            ("a.zip", zip_of(&[("zeros", &zeros)]), "more than 200 times its size"),
            ("a.tar", tar_of(&[("zeros", &zeros)]), "larger than 4 MiB"),
            ("a.tar", tar_of(&[("a", b"1"), ("b", b"1"), ("c", b"1"), ("d", b"1")]), "more than 3 files"),
            ("a.tar.gz", gzip(&tar_of(&[("a", b"1")]))[..60].to_vec(), "cannot be unpacked"),
            ("a.zip", zip_of(&[("a", b"1")])[..40].to_vec(), "cannot be unpacked"),
        ] {
            let lines = told(name, &bytes, &limits);
            assert!(lines.iter().any(|line| line.contains(wanted)), "{wanted}: {lines:?}");
        }
    }

    #[test]
    fn links_are_told_and_not_followed() {
        let mut builder = tar::Builder::new(Vec::new());
        for (path, target, kind) in [
            ("a/sites-enabled/x", "../sites-available/x", tar::EntryType::Symlink),
            ("a/out", "/etc/passwd", tar::EntryType::Symlink),
            ("a/hard", "a/file", tar::EntryType::Link),
            ("a/fifo", "x", tar::EntryType::Fifo),
        ] {
            let mut header = tar::Header::new_gnu();
            header.set_entry_type(kind);
            header.set_size(0);
            builder.append_link(&mut header, path, target).unwrap();
        }
        let lines = told("a.tar", &builder.into_inner().unwrap(), &Limits::default());
        assert_eq!(
            lines,
            [
                "a/hard -> /a/file",
                "a/out -> /etc/passwd",
                "a/sites-enabled/x -> ../sites-available/x",
                "a.tar/a/fifo: neither a file nor a folder",
            ]
        );
    }

    #[test]
    fn what_is_sealed() {
        let noise: Vec<u8> =
            trevlin_model::secret::ScrubKey::new([7; 32]).bytes("noise", b"").take(4096).collect();
        for (bytes, wanted) in [
            (&b"Salted__abcdef"[..], Some("openssl")),
            (b"-----BEGIN PGP MESSAGE-----\n", Some("OpenPGP")),
            (&noise, Some("maker's own")),
            (b"plain text", None),
            (&[0; 4096], None),
        ] {
            let told = sealed(bytes).or_else(|| scrambled(bytes));
            assert_eq!(told.is_some(), wanted.is_some());
            assert!(told.unwrap_or_default().contains(wanted.unwrap_or_default()));
        }
    }
}
