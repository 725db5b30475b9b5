//! Names of the paths given on the command line, and of the devices below them.

use crate::walk::Root;
use std::collections::BTreeSet;
use std::fs;
use std::path::{Path, PathBuf};

/// Name of the files of one given path.
pub(crate) struct Label {
    /// Prefix of the path of each file.
    pub(crate) prefix: String,
    /// The device that they belong to, where the path given is not a folder of devices.
    pub(crate) device: String,
}

/// Files that an earlier path holds already are not read again.
pub(crate) fn drop_repeated_files(roots: &mut [Root]) {
    if roots.len() < 2 {
        return;
    }
    let mut seen = BTreeSet::new();
    for root in roots {
        // A link to a site that is enabled and the site itself are two files.
        let key = |file: &crate::file::File, at: PathBuf| {
            (at, file.path.contains("-enabled/"), file.leads_to.is_some())
        };
        root.files.retain(|file| fs::canonicalize(&file.at).map_or(true, |at| seen.insert(key(file, at))));
    }
}

/// Names for the given paths: none for the files of a single path; otherwise the last part of each, with as many parts before it as needed
/// to distinguish it.
pub(crate) fn labels(roots: &[Root]) -> Vec<Label> {
    let whole: Vec<PathBuf> = roots
        .iter()
        .map(|root| fs::canonicalize(&root.given).unwrap_or_else(|_| root.given.clone()))
        .collect();
    // What an `etc` configures is the system around it.
    let whole: Vec<PathBuf> = roots
        .iter()
        .zip(whole)
        .map(|(root, whole)| {
            let around = whole.parent().filter(|around| root.etc && around.file_name().is_some());
            around.map(Path::to_owned).unwrap_or(whole)
        })
        .collect();
    let holders: Vec<PathBuf> = roots
        .iter()
        .zip(&whole)
        .map(|(root, whole)| if root.folder { whole.clone() } else { device_folder(whole) })
        .collect();
    roots
        .iter()
        .zip(&whole)
        .zip(&holders)
        .map(|((root, at), holder)| Label {
            prefix: prefix(root, at, roots, &whole),
            device: short(holder, &holders),
        })
        .collect()
}

/// Prefix of the paths of the files of one given path.
fn prefix(root: &Root, at: &Path, roots: &[Root], whole: &[PathBuf]) -> String {
    if roots.len() == 1 {
        return String::new();
    }
    if root.folder {
        return format!("{}/", short(at, whole));
    }
    // Files keep their bare names as long as these tell them apart; else so much of their path that they do.
    let name = short(at, whole);
    name.rfind('/').map_or(String::new(), |end| name[..=end].to_owned())
}

/// The last parts of a path, as few as none of the others (but itself) ends in.
fn short(path: &Path, all: &[PathBuf]) -> String {
    let parts = |path: &Path| -> Vec<String> {
        path.components()
            .map(|part| part.as_os_str().to_string_lossy().into_owned())
            .filter(|part| part != "/")
            .collect()
    };
    let own = parts(path);
    let others: Vec<_> = all.iter().filter(|other| *other != path).map(|other| parts(other)).collect();
    let count =
        (1..=own.len()).find(|count| !others.iter().any(|other| other.ends_with(&own[own.len() - count..])));
    match count.unwrap_or(own.len()) {
        0 => "device".into(),
        count => own[own.len() - count..].join("/"),
    }
}

/// The folder of the device that a single file belongs to: the one that contains its `etc`, otherwise its own, so that several files of one
/// folder are one device.
fn device_folder(file: &Path) -> PathBuf {
    let parent = file.parent().unwrap_or(file);
    let etc = parent.ancestors().find(|folder| folder.file_name().is_some_and(|name| name == "etc"));
    let holder = etc.and_then(Path::parent).filter(|folder| folder.file_name().is_some());
    holder.unwrap_or(parent).to_owned()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn names_are_as_short_as_they_can_be() {
        let all: Vec<PathBuf> = ["/a/edge", "/b/edge", "/c/nas", "/edge", "/"].map(PathBuf::from).into();
        let names: Vec<_> = all.iter().map(|path| short(path, &all)).collect();
        assert_eq!(names, ["a/edge", "b/edge", "nas", "edge", "device"]);
    }

    #[test]
    fn files_belong_to_the_folder_that_holds_their_etc() {
        for (file, folder) in [
            ("/x/edge/etc/ppp/options", "/x/edge"),
            ("/x/edge/a.conf", "/x/edge"),
            ("/etc/pptpd.conf", "/etc"),
        ] {
            assert_eq!(device_folder(Path::new(file)), Path::new(folder));
        }
    }
}
