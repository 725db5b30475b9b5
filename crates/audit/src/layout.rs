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
/// The folder given is one device if it holds recognisable files or a system folder such as `etc` itself, and no
/// estate file; else each folder in it is a device, and a folder that only groups devices is looked into.
#[must_use]
pub fn device_folders(files: &[Found<'_>]) -> Vec<Option<String>> {
    let mut tree = Tree::default();
    for file in files {
        tree.add(file);
    }
    let estate = files.iter().any(|file| file.path == ESTATE_FILE);
    let single = !estate && tree.looks_like_device("") && !tree.groups_devices("");
    files
        .iter()
        .map(|file| {
            if single {
                return Some(String::new());
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
                    return Some(folder.to_owned());
                }
            }
        })
        .collect()
}

#[derive(Default)]
struct Tree<'a> {
    /// Names of folders directly below each folder.
    folders: BTreeMap<&'a str, BTreeSet<&'a str>>,
    /// Folders that directly hold a file a reader takes.
    recognised: BTreeSet<&'a str>,
}

impl<'a> Tree<'a> {
    fn add(&mut self, file: &Found<'a>) {
        let mut folder = "";
        let mut rest = file.path;
        while let Some((name, below)) = rest.split_once('/') {
            self.folders.entry(folder).or_default().insert(name);
            folder = &file.path[..file.path.len() - below.len() - 1];
            rest = below;
        }
        if file.recognised && rest != ESTATE_FILE {
            self.recognised.insert(folder);
        }
    }

    fn has_system_folder(&self, folder: &str) -> bool {
        self.folders.get(folder).is_some_and(|names| SYSTEM_FOLDERS.iter().any(|name| names.contains(name)))
    }

    fn looks_like_device(&self, folder: &str) -> bool {
        self.recognised.contains(folder) || self.has_system_folder(folder)
    }

    /// Whether devices' own trees lie directly below a folder.
    fn groups_devices(&self, folder: &str) -> bool {
        let below =
            |name: &&str| if folder.is_empty() { (*name).to_owned() } else { format!("{folder}/{name}") };
        self.folders
            .get(folder)
            .is_some_and(|names| names.iter().any(|name| self.has_system_folder(&below(name))))
    }
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
            (&["edge/etc/a", "stray"], "edge stray"),
        ] {
            assert_eq!(folders(files), wanted, "{files:?}");
        }
    }
}
