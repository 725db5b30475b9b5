//! Collected exports, compared with the checksums that were made of them on the machine (sha256sum(1)).

use crate::file::File;
use crate::labels::{Label, labels};
use crate::limits;
use crate::walk::{self, Allowance, Root};
use anyhow::{anyhow, bail};
use rayon::prelude::*;
use sha2::{Digest, Sha256};
use std::collections::{BTreeMap, BTreeSet};
use std::path::{Path, PathBuf};
use std::sync::{Mutex, PoisonError};
use trevlin_audit::{Catalogue, ESTATE_FILE, ManifestRow};
use trevlin_readers::collecting::MANIFEST;

/// Digits of a checksum.
const DIGITS: usize = 64;

/// Results of standard input, which can be read once.
static INPUT_ROWS: Mutex<Vec<ManifestRow>> = Mutex::new(Vec::new());

/// Compares standard input with its checksums, while it is at hand.
pub(crate) fn keep_input(root: &Root) {
    *INPUT_ROWS.lock().unwrap_or_else(PoisonError::into_inner) = of_root(root);
}

/// Every file of checksums below the paths, with what differs from it.
pub(crate) fn verify(paths: &[PathBuf]) -> Vec<ManifestRow> {
    let (input, paths): (Vec<_>, Vec<&PathBuf>) =
        paths.iter().partition(|path| path.as_os_str() == walk::INPUT);
    let mut found = if input.is_empty() {
        Vec::new()
    } else {
        INPUT_ROWS.lock().unwrap_or_else(PoisonError::into_inner).clone()
    };
    let mut allowance = Allowance::of(limits::in_force());
    let mut left_out = Vec::new();
    let roots: Vec<Root> =
        paths.into_iter().filter_map(|path| walk::walk(path, &mut allowance, &mut left_out)).collect();
    let of_root = |(root, label): (&Root, Label)| {
        let mut rows = of_root(root);
        rows.iter_mut().for_each(|row| row.path.insert_str(0, &label.prefix));
        rows
    };
    found.extend(roots.iter().zip(labels(&roots)).flat_map(of_root));
    found
}

fn of_root(root: &Root) -> Vec<ManifestRow> {
    let ends = |path: &str| path == MANIFEST || path.ends_with(&format!("/{MANIFEST}"));
    root.files.iter().filter(|file| ends(&file.path)).filter_map(|file| held_against(file, root)).collect()
}

/// A line of checksums: the checksum in lower case, and the path.
fn checksum(line: &str) -> Option<(String, &str)> {
    let (sum, path) = line.split_at_checked(DIGITS)?;
    let path = path.strip_prefix([' ', '\t'])?.trim_start_matches([' ', '*']);
    let path = path.strip_prefix("./").unwrap_or(path);
    (sum.bytes().all(|byte| byte.is_ascii_hexdigit()) && !path.is_empty())
        .then(|| (sum.to_ascii_lowercase(), path))
}

/// A file, compared with its checksum.
enum Compared {
    Same,
    Changed,
    Added,
    /// One of the auditor's own, without a checksum.
    Own,
}

fn held_against(manifest: &File, root: &Root) -> Option<ManifestRow> {
    let limits = limits::in_force();
    let bytes = manifest.read(&limits).ok()?;
    let text = String::from_utf8_lossy(&bytes);
    let folder = manifest.path.strip_suffix(MANIFEST).unwrap_or_default();
    let mut row = ManifestRow { path: manifest.path.clone(), ..ManifestRow::default() };
    let mut sums: BTreeMap<&str, String> = BTreeMap::new();
    for (number, line) in text.lines().enumerate().filter(|(_, line)| !line.trim().is_empty()) {
        match checksum(line) {
            Some((sum, path)) => {
                sums.insert(path, sum);
            }
            None => row.malformed.push(number + 1),
        }
    }
    let below = |path: &str| path.strip_prefix(folder).map(str::to_owned);
    let known: BTreeSet<String> = sums.values().cloned().collect();
    let files: Vec<(String, &File)> = root
        .files
        .iter()
        .filter(|file| file.path != manifest.path && file.leads_to.is_none())
        .filter_map(|file| Some((below(&file.path)?, file)))
        .collect();
    let judged: Vec<(&String, Compared)> = files
        .par_iter()
        .map(|(path, file)| {
            let found = file.read(&limits);
            let state = match (sums.get(path.as_str()), found) {
                (Some(sum), Ok(found)) if hex(&found) == *sum => Compared::Same,
                (Some(_), _) => Compared::Changed,
                (None, Ok(found)) if !is_export(&file.path, &found) => Compared::Own,
                // A link has no checksum of its own, and the content of the file that it leads to.
                (None, Ok(found)) if known.contains(&hex(&found)) => Compared::Same,
                (None, _) => Compared::Added,
            };
            (path, state)
        })
        .collect();
    for (path, state) in judged {
        match state {
            Compared::Same => row.same += 1,
            Compared::Changed => row.changed.push(path.clone()),
            Compared::Added => row.added.push(path.clone()),
            Compared::Own => {}
        }
    }
    // Files that are present and not read, such as a binary, are not missing.
    let unread = root.unread.iter().filter_map(|path| below(path));
    let present: BTreeSet<String> = files.iter().map(|(path, _)| path.clone()).chain(unread).collect();
    row.missing =
        sums.keys().filter(|path| !present.contains(**path)).map(|path| (*path).to_owned()).collect();
    Some(row)
}

/// Whether a file is an export, rather than one of the auditor's own: the estate file, a phrasebook or a catalogue.
fn is_export(path: &str, bytes: &[u8]) -> bool {
    let toml = path.ends_with(".toml").then(|| String::from_utf8_lossy(bytes));
    let own = |text: &str| text.contains(trevlin_readers::BOOK) || Catalogue::is_one(text);
    path != ESTATE_FILE && path != MANIFEST && !toml.is_some_and(|text| own(&text))
}

/// Checksums of every file below a folder, but for those that are the auditor's own: the estate file, phrasebooks and catalogues.
///
/// # Errors
/// When a file cannot be read.
pub(crate) fn of_files(folder: &Path) -> anyhow::Result<String> {
    let limits = limits::in_force();
    let mut allowance = Allowance::of(limits);
    let mut left_out = Vec::new();
    let Some(root) = walk::walk(folder, &mut allowance, &mut left_out) else {
        bail!("{} cannot be read", folder.display());
    };
    let files: Vec<&File> = root.files.iter().filter(|file| file.leads_to.is_none()).collect();
    let line = |file: &&File| -> anyhow::Result<Option<String>> {
        let bytes = file.read(&limits).map_err(|why| anyhow!("{}: {why}", file.at.display()))?;
        Ok(is_export(&file.path, &bytes).then(|| format!("{}  ./{}\n", hex(&bytes), file.path)))
    };
    let lines: Vec<Option<String>> = files.par_iter().map(line).collect::<anyhow::Result<_>>()?;
    let mut lines: Vec<String> = lines.into_iter().flatten().collect();
    lines.sort_by(|a, b| a[DIGITS..].cmp(&b[DIGITS..]));
    Ok(lines.concat())
}

fn hex(bytes: &[u8]) -> String {
    Sha256::digest(bytes).iter().map(|byte| format!("{byte:02x}")).collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn lines_of_checksums() {
        let sum = "0a".repeat(32);
        for (line, wanted) in [
            (format!("{sum}  ./etc/hosts"), Some("etc/hosts")),
            (format!("{sum} *etc/a b"), Some("etc/a b")),
            // As BSD prints with -r.
            (format!("{sum} ./etc/x"), Some("etc/x")),
            (format!("{}  x", sum.to_uppercase()), Some("x")),
            (sum.clone(), None),
            ("zz  etc/hosts".to_owned(), None),
            (format!("{}é  x", &sum[1..]), None),
        ] {
            assert_eq!(checksum(&line).map(|(_, path)| path), wanted, "{line}");
        }
    }
}
