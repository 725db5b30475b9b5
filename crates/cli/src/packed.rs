//! Archives as the folders that were packed.

use crate::file::{File, LeftOut};
use crate::open;
use std::collections::BTreeMap;
use std::fs;
use std::path::{Path, PathBuf};
use std::sync::Arc;
use trevlin_model::{Limit, Limits};
use trevlin_readers::archive::{self, Unpacked};
use zeroize::Zeroizing;

/// The same for a file that was given by itself.
pub(crate) fn unpacked(
    at: &Path,
    path: &str,
    metadata: &fs::Metadata,
    limits: &Limits,
    left_out: &mut Vec<LeftOut>,
) -> Option<Vec<File>> {
    opened(at, &fs::canonicalize(at).ok()?, path, metadata, limits, left_out)
}

/// Content of an archive, recognised by name and content, as if it were the folder that was packed. `whole`: its path without links.
pub(crate) fn opened(
    at: &Path,
    whole: &Path,
    path: &str,
    metadata: &fs::Metadata,
    limits: &Limits,
    left_out: &mut Vec<LeftOut>,
) -> Option<Vec<File>> {
    archive::stem(path)?;
    if !metadata.is_file() || metadata.len() > limits.get(Limit::ArchiveBytes) {
        return None;
    }
    let bytes = open::read(whole, limits, Limit::ArchiveBytes).ok()?;
    let name = path.rsplit('/').next().unwrap_or(path);
    let unpacked = archive::unpack(name, &bytes, limits)?;
    Some(files_of(at, unpacked, archive::stem(name).unwrap_or(name), left_out))
}

/// The files of an archive, in order of path, and its links as those of a folder.
pub(crate) fn files_of(at: &Path, unpacked: Unpacked, stem: &str, left_out: &mut Vec<LeftOut>) -> Vec<File> {
    let Unpacked { files, links, left_out: refused, .. } = unpacked;
    left_out.extend(refused.into_iter().map(|(path, why)| LeftOut {
        at: inside(at, &path),
        path: None,
        why,
    }));
    let files: BTreeMap<String, Arc<Zeroizing<Vec<u8>>>> =
        files.into_iter().map(|(path, bytes)| (path, Arc::new(bytes))).collect();
    let of_archive = |(path, bytes): (String, Arc<Zeroizing<Vec<u8>>>)| {
        let (at, size) = (at.join(&path), bytes.len() as u64);
        File { bytes: Some(bytes), ..File::found(&at, path, size) }
    };
    let mut found = Vec::new();
    let targets = links.clone();
    for (path, target) in links {
        let mut parts = path.rsplit('/');
        let (name, folder) = (parts.next().unwrap_or_default(), parts.next().unwrap_or_default());
        if is_of_units(&path, folder) && name.contains('.') {
            found.push(File { leads_to: Some(target), ..File::found(&at.join(&path), path, 0) });
            continue;
        }
        match followed(&path, &target, &targets, &files) {
            Some(Target::File(bytes)) if folder.ends_with("-enabled") => {
                found.push(of_archive((path, bytes)));
            }
            // Its target is read at its own path.
            Some(_) => {}
            None => left_out.push(LeftOut {
                at: at.join(&path),
                path: None,
                why: "a link to a target outside the archive; please export the target as well".into(),
            }),
        }
    }
    found.extend(files.into_iter().map(of_archive));
    found.sort_by(|a, b| a.path.cmp(&b.path));
    bared(found, stem)
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

/// Target of a link in an archive.
enum Target {
    File(Arc<Zeroizing<Vec<u8>>>),
    Folder,
}

/// The end of a link, by way of other links, where it is in the archive. An absolute path is one of the device: it begins at the folder that
/// holds the copy of the device's root, the nearest around the link that has the target.
fn followed(
    path: &str,
    target: &str,
    links: &BTreeMap<String, String>,
    files: &BTreeMap<String, Arc<Zeroizing<Vec<u8>>>>,
) -> Option<Target> {
    /// The kernel follows no more links in a row (path_resolution(7)).
    const MOST: usize = 40;
    let is_folder = |path: &str| {
        let below = format!("{path}/");
        files.range(below.clone()..).next().is_some_and(|(found, _)| found.starts_with(&below))
    };
    let (mut path, mut target) = (path.to_owned(), target.to_owned());
    for _ in 0..MOST {
        let is_there = |at: &String| files.contains_key(at) || links.contains_key(at) || is_folder(at);
        let next = if target.starts_with('/') {
            let around = path.rmatch_indices('/').map(|(at, _)| &path[..at]).chain([""]);
            let places =
                around.filter_map(|folder| resolved(&format!("{folder}/x"), target.trim_start_matches('/')));
            places.map(|place| place.trim_start_matches('/').to_owned()).find(is_there)?
        } else {
            resolved(&path, &target).filter(is_there)?
        };
        if let Some(bytes) = files.get(&next) {
            return Some(Target::File(Arc::clone(bytes)));
        }
        match links.get(&next) {
            Some(further) => (path, target) = (next, further.clone()),
            None => return Some(Target::Folder),
        }
    }
    None
}

/// Target of a link in an archive, as a path of the archive; none where it leads out of it.
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

/// Whether a link in a folder is a systemd setting by its place: the start or mask of a unit (systemd.unit(5)).
pub(crate) fn is_of_units(path: &str, folder: &str) -> bool {
    folder.ends_with(".wants") || folder.ends_with(".requires") || path.contains("systemd/system/")
}
