//! Files that their program does not read: by their name in its folder, because no pattern of its configuration takes them in, or because they
//! are a printed form of files that are among the exports themselves.

use crate::includes;
use crate::reader::{ReadContext, Reader, Reading};
use serde::Deserialize;
use std::collections::BTreeMap;
use trevlin_model::glob::{self, Signs};
use trevlin_model::{Export, find_paths};

#[derive(Debug, Deserialize)]
#[serde(deny_unknown_fields)]
struct Names {
    /// Patterns of names that are read.
    read: Vec<String>,
    /// Patterns of those among them that are not.
    #[serde(default)]
    not: Vec<String>,
}

trevlin_model::table! {
/// Names by folder.
static NAMES: BTreeMap<String, Names> = "../tables/live-names.toml"; }

/// Reads an export with the others of its device at hand: what its program does not read is marked as put aside.
#[must_use]
pub fn read(reader: &Reader, export: &Export, around: &ReadContext<'_>) -> Reading {
    let mut reading = includes::read(reader, export, around);
    if let Some(why) = not_read(reader, export, around).filter(|_| !reading.waits) {
        reading.ledger.gaps.clear();
        let text = format!("not in force: {why}; only the secrets of the file were taken");
        reading.ledger.put_aside(export.origin(0..0), text);
    }
    reading
}

/// Why the program does not read a file, as a phrase; none where it does.
fn not_read(reader: &Reader, export: &Export, around: &ReadContext<'_>) -> Option<&'static str> {
    // What another file names is read by way of it.
    let named = || {
        around
            .exports
            .iter()
            .any(|other| other.id() != export.id() && other.text().contains(export.file_name()))
    };
    if by_name(export.path()) && !named() {
        return Some("the program does not read files of this name in its folder");
    }
    if is_printed(reader.name, export)
        && around.exports.iter().any(|other| other.id() != export.id() && is_source(reader.name, other))
    {
        return Some("the files that it was printed from are among the exports");
    }
    missed_by_patterns(export, around).then_some("the configuration includes other names of its folder alone")
}

/// Whether the name of a file is none that the program reads in this folder.
fn by_name(path: &str) -> bool {
    let Some((folder, name)) = path.rsplit_once('/') else { return false };
    let folder = format!("/{folder}/");
    let matches =
        |patterns: &[String]| patterns.iter().any(|pattern| glob::matches(name, pattern, Signs::Sets));
    NAMES
        .iter()
        .find(|(end, _)| folder.ends_with(end.as_str()))
        .is_some_and(|(_, names)| !matches(&names.read) || matches(&names.not))
}

/// Whether an export is what a program prints of all its files: `nginx -T`, `testparm -s`.
fn is_printed(format: &str, export: &Export) -> bool {
    let mut first = export.lines().map(|line| line.text.trim()).filter(|text| !text.is_empty()).take(8);
    match format {
        "nginx" => first.any(|text| text.starts_with("# configuration file /")),
        "smb" => {
            first.any(|text| text.starts_with("Load smb config files from") || text == "# Global parameters")
        }
        _ => false,
    }
}

/// Whether an export is the main file of a program.
fn is_source(format: &str, export: &Export) -> bool {
    match format {
        "nginx" => export.file_name() == "nginx.conf",
        "smb" => export.file_name() == "smb.conf",
        _ => false,
    }
}

/// Whether other files include some of its folder by patterns, and none includes it.
fn missed_by_patterns(export: &Export, around: &ReadContext<'_>) -> bool {
    let Some((folder, name)) = export.path().rsplit_once('/') else { return false };
    // Parts that are meant to be included one by one, of which packages bring several along (Dovecot).
    if name.ends_with(".ext") {
        return false;
    }
    let mut others = false;
    for (pattern, file) in &around.once(|| includes::patterns(around)).0 {
        let Some((place, name)) = pattern.rsplit_once('/') else { continue };
        let place = place.trim_start_matches('/');
        // A relative pattern begins at the file's own folder, or at one around it (Apache's ServerRoot).
        let begins = |around: &str| pattern.starts_with('/') || file.starts_with(around);
        let is_its = folder
            .strip_suffix(place)
            .is_some_and(|rest| (rest.is_empty() || rest.ends_with('/')) && begins(rest));
        if !is_its || place.is_empty() || file == export.path() {
            continue;
        }
        if !find_paths(pattern, file, &[export.path()]).is_empty() {
            return false;
        }
        // A file that is included by its own name is no pattern's.
        others |= name.contains(['*', '?', '[']);
    }
    others
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::READERS;
    use trevlin_model::ExportId;

    /// Whether the first file is read, with the others beside it.
    fn is_read(format: &str, files: &[(&str, &str)]) -> bool {
        let exports: Vec<Export> = files
            .iter()
            .enumerate()
            .map(|(at, (path, text))| Export::new(ExportId(at as u32), *path, (*text).to_owned()))
            .collect();
        let reader = READERS.iter().find(|one| one.name == format).expect("a format");
        not_read(reader, &exports[0], &ReadContext::of(exports.iter().collect())).is_none()
    }

    #[test]
    fn names_in_folders() {
        for (path, format, wanted) in [
            ("d/etc/exports.d/a.exports", "exports", true),
            ("d/etc/exports.d/README", "exports", false),
            ("d/etc/sudoers.d/kran", "sudoers", true),
            ("d/etc/sudoers.d/kran.off", "sudoers", false),
            ("d/etc/wireguard/wg0.conf", "wireguard", true),
            ("d/etc/wireguard/peer.template", "wireguard", false),
            ("d/peer.template", "wireguard", true),
            ("d/etc/netplan/50.yml", "netplan", false),
        ] {
            assert_eq!(is_read(format, &[(path, "x\n")]), wanted, "{path}");
        }
    }

    #[test]
    fn patterns_of_the_configuration() {
        let main = ("d/etc/ssh/sshd_config", "Include /etc/ssh/sshd_config.d/*.conf\n");
        for (path, wanted) in [
            ("d/etc/ssh/sshd_config.d/10-own.conf", true),
            ("d/etc/ssh/sshd_config.d/old", false),
            ("d/etc/ssh/sshd_config.old-host", true),
            ("d/other/old", true),
        ] {
            assert_eq!(is_read("sshd", &[(path, "Port 22\n"), main]), wanted, "{path}");
        }
        let site = ("d/etc/nginx/sites-enabled/a.bak", "server {\n listen 80;\n}\n");
        let all = ("d/etc/nginx/nginx.conf", "http {\n include /etc/nginx/sites-enabled/*;\n}\n");
        assert!(is_read("nginx", &[site, all]));
        let some = ("d/etc/nginx/nginx.conf", "http {\n include sites-enabled/*.conf;\n}\n");
        assert!(!is_read("nginx", &[site, some]));
        let named = (
            "d/etc/nginx/nginx.conf",
            "http {\n include sites-enabled/*.conf;\n include sites-enabled/a.bak;\n}\n",
        );
        assert!(is_read("nginx", &[site, named]));
        // The folder of another program has the same name.
        let apache = ("d/etc/apache2/apache2.conf", "IncludeOptional sites-enabled/*.conf\n");
        let radius = ("d/etc/freeradius/3.0/sites-enabled/default", "server default {\n}\n");
        assert!(is_read("radius", &[radius, apache]));
    }

    #[test]
    fn printed_forms_beside_their_files() {
        let printed = ("d/nginx-T.txt", "# configuration file /etc/nginx/nginx.conf:\nhttp {\n}\n");
        assert!(is_read("nginx", &[printed]));
        assert!(!is_read("nginx", &[printed, ("d/etc/nginx/nginx.conf", "http {\n}\n")]));
        let shares = ("d/testparm.txt", "# Global parameters\n[global]\n\tworkgroup = QUAY\n");
        assert!(is_read("smb", &[shares]));
        assert!(!is_read("smb", &[shares, ("d/etc/samba/smb.conf", "[global]\nworkgroup = QUAY\n")]));
    }
}
