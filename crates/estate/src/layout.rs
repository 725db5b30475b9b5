//! Which folders are devices: one folder, one device.

use std::collections::{BTreeMap, BTreeSet};

/// A file below a folder given on the command line.
#[derive(Debug, Clone, Copy)]
pub struct Found<'a> {
    /// Path below that folder, with `/` between its parts.
    pub path: &'a str,
    /// Whether a reader takes it.
    pub recognised: bool,
}

/// Folders that only a device's own tree has.
const SYSTEM_FOLDERS: [&str; 4] = ["etc", "usr", "var", "root"];

/// The name of the estate file.
pub const ESTATE_FILE: &str = "trevlin.toml";

/// For each file the folder of its device, relative to the folder given (an empty string is that folder itself),
/// or `None` for a file that belongs to no device.
///
/// A given folder is one device if it contains recognisable files or a system folder such as `etc`, and no estate file; otherwise each
/// folder in it is a device, and a folder that only groups devices is searched.
#[must_use]
pub fn device_folders(files: &[Found<'_>]) -> Vec<Option<String>> {
    let mut tree = Tree::default();
    for file in files {
        tree.add(file);
    }
    let estate = files.iter().any(|file| file.path == ESTATE_FILE);
    let single = !estate && tree.looks_like_device("") && !tree.groups_devices("");
    // Files of one folder lie beside each other, and what was found for one of a device holds for the others.
    let mut last: Option<&str> = None;
    files
        .iter()
        .map(|file| {
            if single {
                return Some(String::new());
            }
            if let Some(last) = last.filter(|last| is_below(file.path, last)) {
                return Some(last.to_owned());
            }
            let (mut folder, mut rest) = ("", file.path);
            loop {
                let Some((_, below)) = rest.split_once('/') else {
                    // A file that lies beside the devices is a device of its own where it can be read.
                    return (file.recognised && folder.is_empty()).then(|| file.path.to_owned());
                };
                folder = &file.path[..file.path.len() - below.len() - 1];
                rest = below;
                if !tree.groups_devices(folder) || tree.looks_like_device(folder) {
                    last = Some(folder);
                    return Some(folder.to_owned());
                }
            }
        })
        .collect()
}

/// A folder that is read as one device, although its content indicates several.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct SeveralInOne<'a> {
    /// The folder, relative to the folder given.
    pub folder: String,
    /// Two folders in it that look like a device each, relative to it.
    pub devices: [&'a str; 2],
    /// The file next to them, because of which the folder is a device.
    pub beside: Option<&'a str>,
}

/// Folders that hold the trees of several systems, or one file in folder after folder, and are one device each by
/// [`device_folders`], whose answer `folders` is.
#[must_use]
pub fn several_in_one<'a>(files: &[Found<'a>], folders: &[Option<String>]) -> Vec<SeveralInOne<'a>> {
    /// The running and the stored configuration have one file name in two folders.
    const AS_OF_DEVICES: usize = 3;
    let mut by_folder: BTreeMap<&str, Vec<&Found<'a>>> = BTreeMap::new();
    for (file, folder) in files.iter().zip(folders) {
        // A file that is a device of its own is no folder.
        if let Some(folder) = folder.as_deref().filter(|folder| *folder != file.path) {
            by_folder.entry(folder).or_default().push(file);
        }
    }
    let mut told = Vec::new();
    'folders: for (folder, files) in by_folder {
        let (mut trees, mut beside) = (BTreeSet::new(), None);
        let mut same_file: BTreeMap<&str, BTreeSet<&str>> = BTreeMap::new();
        for file in files {
            let within = file.path[folder.len()..].trim_start_matches('/');
            match tree_of(within) {
                Some("") => continue 'folders,
                Some(tree) => _ = trees.insert(tree),
                None => {}
            }
            match within.split_once('/') {
                Some((first, rest)) if file.recognised => {
                    same_file.entry(rest).or_default().insert(first);
                }
                None if file.recognised => beside = beside.or(Some(within)),
                _ => {}
            }
        }
        let alike = same_file.into_values().find(|all| all.len() >= AS_OF_DEVICES);
        let mut devices = if trees.len() > 1 { trees } else { alike.unwrap_or_default() }.into_iter();
        if let (Some(first), Some(second)) = (devices.next(), devices.next()) {
            told.push(SeveralInOne { folder: folder.to_owned(), devices: [first, second], beside });
        }
    }
    told
}

#[derive(Default)]
struct Tree<'a> {
    /// Names of folders directly below each folder.
    folders: BTreeMap<&'a str, BTreeSet<&'a str>>,
    /// Folders that directly hold a file a reader takes.
    recognised: BTreeSet<&'a str>,
    /// For folders that hold systems' trees at any depth the first of those, and whether there are more.
    trees: BTreeMap<&'a str, (&'a str, bool)>,
    /// The folder of the last file.
    last: Option<&'a str>,
}

/// Whether a file is in a folder, or further down in it.
fn is_below(path: &str, folder: &str) -> bool {
    path.strip_prefix(folder).is_some_and(|rest| rest.starts_with('/'))
}

impl<'a> Tree<'a> {
    fn add(&mut self, file: &Found<'a>) {
        let (folder, name) = file.path.rsplit_once('/').unwrap_or(("", file.path));
        if file.recognised && name != ESTATE_FILE {
            self.recognised.insert(folder);
        }
        // All but that is known from another file in the same folder.
        if self.last.replace(folder) == Some(folder) {
            return;
        }
        let (mut above, mut rest) = ("", file.path);
        while let Some((name, below)) = rest.split_once('/') {
            self.folders.entry(above).or_default().insert(name);
            above = &file.path[..file.path.len() - below.len() - 1];
            rest = below;
        }
        if let Some(tree) = tree_of(file.path).filter(|tree| !tree.is_empty()) {
            let above = tree.rmatch_indices('/').map(|(at, _)| &tree[..at]).chain([""]);
            for folder in above {
                let known = self.trees.entry(folder).or_insert((tree, false));
                known.1 |= known.0 != tree;
            }
        }
    }

    fn has_system_folder(&self, folder: &str) -> bool {
        self.folders.get(folder).is_some_and(|names| SYSTEM_FOLDERS.iter().any(|name| names.contains(name)))
    }

    fn looks_like_device(&self, folder: &str) -> bool {
        self.recognised.contains(folder) || self.has_system_folder(folder)
    }

    /// Whether devices' own trees lie directly below a folder, or several further down in one that is no device itself.
    fn groups_devices(&self, folder: &str) -> bool {
        let below =
            |name: &&str| if folder.is_empty() { (*name).to_owned() } else { format!("{folder}/{name}") };
        let directly = self
            .folders
            .get(folder)
            .is_some_and(|names| names.iter().any(|name| self.has_system_folder(&below(name))));
        directly || (!self.looks_like_device(folder) && self.trees.get(folder).is_some_and(|one| one.1))
    }
}

/// The folder of the system's tree that contains a file, the outermost of nested trees.
fn tree_of(path: &str) -> Option<&str> {
    let mut at = 0;
    for part in path.split('/') {
        if SYSTEM_FOLDERS.contains(&part) && at + part.len() < path.len() {
            return Some(path[..at].trim_end_matches('/'));
        }
        at += part.len() + 1;
    }
    None
}

#[cfg(test)]
mod tests {
    use super::*;

    fn folders(files: &[&str]) -> String {
        let files: Vec<_> = files
            .iter()
            .map(|path| Found { path: path.trim_end_matches('?'), recognised: !path.ends_with('?') })
            .collect();
        device_folders(&files).into_iter().map(|one| one.unwrap_or("-".into())).collect::<Vec<_>>().join(" ")
    }

    #[test]
    fn folders_become_devices() {
        for (files, wanted) in [
            (&["edge/etc/a", "nas/a"][..], "edge nas"),
            (&["etc/a", "running/b"], " "),
            (&["a", "b?"], " "),
            (&["trevlin.toml?", "edge/a", "stray", "note?"], "- edge stray -"),
            (&["harbour/edge/etc/a", "harbour/nas/etc/b", "yard/x/etc/a"], "harbour/edge harbour/nas yard/x"),
            (&["nas/running/a", "nas/openvpn/b", "edge/etc/c"], "nas nas edge"),
            (&["nas/a?"], "nas"),
            (
                &["harbour/first/edge/etc/a", "harbour/second/nas/var/b", "yard/x/etc/c"],
                "harbour/first/edge harbour/second/nas yard/x",
            ),
            (&["nas/export/rootfs/etc/a", "nas/export/running/b"], "nas nas"),
            (&["nas/list", "nas/one/etc/a", "nas/two/etc/b"], "nas nas nas"),
            (&["edge/etc/a", "stray"], "edge stray"),
        ] {
            assert_eq!(folders(files), wanted, "{files:?}");
        }
    }

    #[test]
    fn several_devices_in_one_are_seen() {
        for (files, wanted) in [
            (&["stray", "site/edge/etc/a", "site/nas/etc/b"][..], "site/edge site/nas stray"),
            (&["a/one.txt", "b/one.txt", "c/one.txt", "stray"], "a b stray"),
            (&["yard/list", "yard/a/etc/a", "yard/b/etc/b", "nas/a"], "a b list"),
            (&["harbour/first/edge/etc/a", "harbour/second/nas/var/b"], ""),
            (&["running/a", "saved/a", "list"], ""),
            (&["etc/a", "old/x/etc/a", "new/x/etc/a"], ""),
            (&["stray", "site/edge/etc/a", "site/edge/var/lib/inner/etc/a"], ""),
            (&["edge/etc/a", "nas/etc/b", "stray"], ""),
        ] {
            let files: Vec<_> = files.iter().map(|path| Found { path, recognised: true }).collect();
            let told = several_in_one(&files, &device_folders(&files));
            let words = |one: &SeveralInOne<'_>| {
                [one.devices[0], one.devices[1], one.beside.unwrap_or("-")].join(" ")
            };
            assert_eq!(told.iter().map(words).collect::<Vec<_>>().join(", "), wanted, "{files:?}");
        }
    }
}
