//! How the exports were handed over: checksums, logs of collections, and what was not read.

use crate::checksums::ManifestRow;
use serde::Serialize;
use std::collections::BTreeMap;
use trevlin_analysis::context::Analyses;
use trevlin_model::LineClass;

/// Name of the log of a collection, in the folder of its device.
pub const COLLECTION_LOG: &str = "collect.log";

/// Content of the log of a collection.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub(super) struct Collected {
    /// Roles whose files were collected; none where all were.
    pub(super) roles: Vec<String>,
    /// Lines about files that are on the machine and were not copied.
    pub(super) lost: Vec<String>,
}

impl Collected {
    /// Reads a log; none where it does not name the roles.
    fn read(text: &str) -> Option<Self> {
        let mut lines = text.lines();
        // Read: the log that the script wrote on the machine.
        let roles = lines.next()?.strip_prefix("roles: ")?;
        let lost = |line: &&str| {
            ["not run as root", "not copied: ", "larger than "].iter().any(|start| line.starts_with(start))
        };
        Some(Self {
            roles: roles.split_whitespace().filter(|role| *role != "all").map(str::to_owned).collect(),
            lost: lines.filter(lost).map(str::to_owned).collect(),
        })
    }

    /// Whether the files of a role were collected.
    pub(super) fn has(&self, role: &str) -> bool {
        self.is_whole() || self.roles.iter().any(|one| one == role)
    }

    /// Whether the files of all roles were.
    pub(super) fn is_whole(&self) -> bool {
        self.roles.is_empty()
    }
}

/// How the exports were handed over.
#[derive(Debug, Clone, Default)]
pub struct Received {
    /// Exports compared with their checksums.
    pub checksums: Vec<ManifestRow>,
    /// Files of no format that is read and that may configure something, by device.
    pub unsupported: BTreeMap<String, Vec<String>>,
}

impl Received {
    /// How the exports of an estate were handed over. `considered`: whether a path is one that readers know to configure nothing.
    #[must_use]
    pub fn of(estate: &Analyses, checksums: Vec<ManifestRow>, considered: impl Fn(&str) -> bool) -> Self {
        let mut unsupported: BTreeMap<String, Vec<String>> = BTreeMap::new();
        for device in &estate.devices {
            for id in &device.exports {
                let record = &estate.exports[id.0 as usize];
                let path = record.export.path();
                // What has no bearing has no line that was not understood.
                let unknown = record.format.is_none() && record.ledger.count(LineClass::NotUnderstood) > 0;
                if unknown && !considered(path) {
                    unsupported.entry(device.name.clone()).or_default().push(path.to_owned());
                }
            }
        }
        Self { checksums, unsupported }
    }
}

/// The log of the collection of a device.
pub(super) fn collected(estate: &Analyses, at: usize) -> Option<Collected> {
    let mut exports = estate.devices[at].exports.iter().map(|id| estate.export(*id));
    Collected::read(exports.find(|export| export.file_name() == COLLECTION_LOG)?.text())
}

/// Kind of gap.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Serialize)]
#[serde(rename_all = "kebab-case")]
pub enum GapKind {
    /// The system is in scope and was not exported.
    NoExport,
    /// No file of checksums lists its exports.
    NoChecksums,
    /// Files differ from their checksums.
    Changed,
    /// Files that have a checksum are missing.
    Missing,
    /// Files have no checksum.
    Added,
    /// The file of checksums has invalid lines.
    Malformed,
    /// Files are on the machine and were not collected.
    NotCollected,
    /// Files were not read because of a limit or an error.
    NotRead,
    /// Files have a format that is not read.
    Unsupported,
    /// Lines were not understood.
    NotUnderstood,
}

/// Why the exports of a system are not all that could show a fault.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub struct Gap {
    /// Kind.
    pub kind: GapKind,
    /// Files or lines, where it is about some.
    pub files: Vec<String>,
}

impl Gap {
    pub(super) fn of(kind: GapKind, files: Vec<String>) -> Self {
        Self { kind, files }
    }

    /// Whether a fault may be hidden by it. What depends on a line that was not understood is an open request of its own.
    #[must_use]
    pub fn decides(&self) -> bool {
        self.kind != GapKind::NotUnderstood
    }
}

impl GapKind {
    /// Every kind.
    pub const ALL: [Self; 10] = [
        Self::NoExport,
        Self::NoChecksums,
        Self::Changed,
        Self::Missing,
        Self::Added,
        Self::Malformed,
        Self::NotCollected,
        Self::NotRead,
        Self::Unsupported,
        Self::NotUnderstood,
    ];

    /// In words, as a phrase.
    #[must_use]
    pub fn words(self) -> &'static str {
        match self {
            Self::NoExport => "in scope and not exported",
            Self::NoChecksums => "exports not listed by a file of checksums",
            Self::Changed => "files changed since the checksums",
            Self::Missing => "files missing that have a checksum",
            Self::Added => "files without a checksum",
            Self::Malformed => "invalid lines in the file of checksums",
            Self::NotCollected => "files not collected from the machine",
            Self::NotRead => "files not read",
            Self::Unsupported => "files of unsupported formats",
            Self::NotUnderstood => "lines not understood",
        }
    }
}

/// Folders that are part of a device's tree rather than above it.
const WITHIN: [&str; 7] = ["etc", "usr", "var", "root", "home", "opt", "running"];

/// The folder that all exports of a device lie in, with a slash at its end; empty for the folder given.
fn folder_of(estate: &Analyses, at: usize) -> String {
    let mut paths = estate.devices[at].exports.iter().map(|id| estate.export(*id).path());
    let folder = |path: &str| path.rfind('/').map_or(0, |end| end + 1);
    let Some(first) = paths.next() else { return String::new() };
    let mut common = &first[..folder(first)];
    for path in paths {
        let same = common.bytes().zip(path.bytes()).take_while(|(a, b)| a == b).count();
        common = &common[..folder(&common[..same])];
    }
    let mut end = 0;
    for part in common.split_inclusive('/') {
        if WITHIN.contains(&part.trim_end_matches('/')) {
            break;
        }
        end += part.len();
    }
    common[..end].to_owned()
}

/// The folder of a file of checksums, with a slash at its end.
fn folder_of_row(row: &ManifestRow) -> &str {
    row.path.rfind('/').map_or("", |end| &row.path[..=end])
}

/// Gaps of each device.
pub(super) fn gaps(estate: &Analyses, received: &Received) -> Vec<Vec<Gap>> {
    (0..estate.devices.len()).map(|at| of(estate, received, at)).collect()
}

fn of(estate: &Analyses, received: &Received, at: usize) -> Vec<Gap> {
    let device = &estate.devices[at];
    let folder = folder_of(estate, at);
    let mut found: BTreeMap<GapKind, Vec<String>> = BTreeMap::new();
    let covering: Vec<&ManifestRow> =
        received.checksums.iter().filter(|row| folder.starts_with(folder_of_row(row))).collect();
    if covering.is_empty() {
        found.insert(GapKind::NoChecksums, Vec::new());
    }
    for row in covering {
        let above = folder_of_row(row);
        let lists = [
            (GapKind::Changed, &row.changed),
            (GapKind::Missing, &row.missing),
            (GapKind::Added, &row.added),
        ];
        for (kind, files) in lists {
            let own = files.iter().map(|file| format!("{above}{file}"));
            // Another file of checksums below is no export.
            let is_export = |file: &String| received.checksums.iter().all(|other| other.path != *file);
            let own = own.filter(|file| file.starts_with(&folder) && is_export(file));
            let own: Vec<String> = own.collect();
            if !own.is_empty() {
                found.entry(kind).or_default().extend(own);
            }
        }
        if !row.malformed.is_empty() {
            found.entry(GapKind::Malformed).or_default();
        }
    }
    let lost = collected(estate, at).map(|log| log.lost).unwrap_or_default();
    if !lost.is_empty() {
        found.insert(GapKind::NotCollected, lost);
    }
    let left_out: Vec<String> = estate
        .left_out
        .iter()
        .filter(|one| is_of(&one.path, &folder, &device.name))
        .map(|one| one.path.clone())
        .collect();
    if !left_out.is_empty() {
        found.insert(GapKind::NotRead, left_out);
    }
    if let Some(files) = received.unsupported.get(&device.name) {
        found.insert(GapKind::Unsupported, files.clone());
    }
    let lines: Vec<String> = device
        .exports
        .iter()
        .map(|id| &estate.exports[id.0 as usize])
        .filter(|record| record.format.is_some() && record.ledger.count(LineClass::NotUnderstood) > 0)
        .map(|record| record.export.path().to_owned())
        .collect();
    if !lines.is_empty() {
        found.insert(GapKind::NotUnderstood, lines);
    }
    found.into_iter().map(|(kind, files)| Gap { kind, files }).collect()
}

/// Whether a file that was left out, by its path on this machine, is of a device.
fn is_of(path: &str, folder: &str, name: &str) -> bool {
    let path = path.replace('\\', "/");
    let folder = folder.trim_end_matches('/');
    let named = if folder.is_empty() { name } else { folder };
    path.contains(&format!("/{named}/")) || path.starts_with(&format!("{named}/"))
}

impl Received {
    /// Files that have a checksum, are missing, and are of no device that is there.
    pub(super) fn lost_elsewhere(&self, estate: &Analyses) -> Vec<String> {
        let folders: Vec<String> = (0..estate.devices.len()).map(|at| folder_of(estate, at)).collect();
        let mut found = Vec::new();
        for row in &self.checksums {
            let above = folder_of_row(row);
            let lost = row.missing.iter().map(|file| format!("{above}{file}"));
            found.extend(lost.filter(|file| !folders.iter().any(|folder| file.starts_with(folder.as_str()))));
        }
        found
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn logs() {
        let read = Collected::read(
            "roles: base web\nfailed: nft list ruleset\nnot copied: etc/shadow\nprivate key left out: etc/x\nlarger than 4096 KiB: etc/y\n",
        )
        .unwrap();
        assert!(read.has("web") && !read.has("data") && !read.is_whole());
        assert_eq!(read.lost, ["not copied: etc/shadow", "larger than 4096 KiB: etc/y"]);
        assert!(Collected::read("roles: all\n").unwrap().has("data"));
        assert_eq!(Collected::read("failed: nft list ruleset\n"), None);
        assert_eq!(Collected::read(""), None);
    }
}
