//! Collected exports, compared with the checksums that were made of them on the machine (sha256sum(1)).

use crate::file::File;
use crate::limits;
use crate::walk::{self, Allowance, Root};
use rayon::prelude::*;
use sha2::{Digest, Sha256};
use std::collections::{BTreeMap, BTreeSet};
use std::path::PathBuf;
use trevlin_audit::coverage::ManifestRow;
use trevlin_readers::collecting::MANIFEST;

/// Digits of a checksum.
const DIGITS: usize = 64;

/// Every file of checksums below the paths, with what differs from it.
pub(crate) fn verify(paths: &[PathBuf]) -> Vec<ManifestRow> {
    let mut allowance = Allowance::of(limits::in_force());
    let mut left_out = Vec::new();
    let roots: Vec<Root> =
        paths.iter().filter_map(|path| walk::walk(path, &mut allowance, &mut left_out)).collect();
    roots.iter().flat_map(of_root).collect()
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
    let judged: Vec<(&String, Option<bool>)> = files
        .par_iter()
        .map(|(path, file)| {
            let found = file.read(&limits).map(|bytes| hex(&bytes));
            let same = match (sums.get(path.as_str()), found) {
                (Some(sum), Ok(found)) => Some(found == *sum),
                (Some(_), Err(_)) => Some(false),
                // A link has no checksum of its own, and the content of the file that it leads to.
                (None, Ok(found)) => known.contains(&found).then_some(true),
                (None, Err(_)) => None,
            };
            (path, same)
        })
        .collect();
    for (path, same) in judged {
        match same {
            Some(true) => row.same += 1,
            Some(false) => row.changed.push(path.clone()),
            None => row.added.push(path.clone()),
        }
    }
    // Files that are present and not read, such as a binary, are not missing.
    let unread = root.unread.iter().filter_map(|path| below(path));
    let present: BTreeSet<String> = files.iter().map(|(path, _)| path.clone()).chain(unread).collect();
    row.missing =
        sums.keys().filter(|path| !present.contains(**path)).map(|path| (*path).to_owned()).collect();
    Some(row)
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
