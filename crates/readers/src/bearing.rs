//! Files that are no configurations of a format of ours, whatever their names and lines look like.

use crate::reader::{Reader, Reading, by_name};
use aho_corasick::AhoCorasick;
use serde::Deserialize;
use std::sync::LazyLock;
use trevlin_model::{Export, LineClass};

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
struct Table {
    /// Folders whose files configure other things than services: rotation of logs, profiles of confinement, documentation.
    folders: Vec<String>,
    /// Ends of paths.
    files: Vec<String>,
    /// Parts of paths of files that have none where no reader knows them.
    unless_read: Vec<String>,
    /// Beginnings of the names of such files.
    names: Vec<String>,
    /// Ends of the names of such files.
    endings: Vec<String>,
}

/// Paths that have no bearing.
struct Paths {
    folders: AhoCorasick,
    unless_read: AhoCorasick,
    table: Table,
}

static PATHS: LazyLock<Option<Paths>> = LazyLock::new(|| {
    let table: Table = toml::from_str(include_str!("../tables/no-bearing.toml")).ok()?;
    let folders = AhoCorasick::new(&table.folders).ok()?;
    Some(Paths { folders, unless_read: AhoCorasick::new(&table.unless_read).ok()?, table })
});

/// Whether the path of a file shows that it configures no service, login or filter: it is counted and not listed.
pub(crate) fn is_elsewhere(export: &Export) -> bool {
    bears_nothing(export.path())
}

/// The same for a file that was not read, such as a link.
#[must_use]
pub fn bears_nothing(path: &str) -> bool {
    // The folder given may be the root of the device, or its `etc`.
    let path = &format!("/{}", path.trim_start_matches('/'));
    PATHS.as_ref().is_some_and(|paths| {
        paths.folders.is_match(path) || paths.table.files.iter().any(|file| path.ends_with(file.as_str()))
    })
}

/// Programs that scripts are for.
const INTERPRETERS: [&str; 19] = [
    "ash", "awk", "bash", "dash", "env", "expect", "gawk", "ksh", "lua", "node", "perl", "php", "python",
    "rc", "ruby", "sed", "sh", "tclsh", "zsh",
];

/// Whether a text is a script, a manual page or a page of HTML, by its first line: `#!/bin/sh`, `.TH …`, `<!DOCTYPE html>`. Rulesets may begin
/// with `#!/usr/sbin/nft -f`.
pub(crate) fn is_program_or_page(export: &Export) -> bool {
    if export.file_name().starts_with("README") {
        return true;
    }
    let first = export.lines().map(|line| line.text.trim()).find(|text| !text.is_empty()).unwrap_or_default();
    if let Some(script) = first.strip_prefix("#!") {
        let path = script.split_whitespace().next().unwrap_or_default();
        let name = path.rsplit('/').next().unwrap_or_default();
        let bare = name.trim_end_matches(|one: char| one.is_ascii_digit() || one == '.');
        return INTERPRETERS.contains(&bare);
    }
    let lower = first.get(..first.len().min(16)).unwrap_or_default().to_ascii_lowercase();
    [".\\\"", "'\\\"", ".th ", ".dd ", "<!doctype html", "<html"].iter().any(|start| lower.starts_with(start))
}

/// Whether a file that no reader knows has no bearing: documentation, units of packages, and texts that are comments alone.
#[must_use]
pub fn is_idle(export: &Export) -> bool {
    let (path, name) = (export.path(), export.file_name());
    let by_path = PATHS.as_ref().is_some_and(|paths| {
        paths.unless_read.is_match(path)
            || paths.table.names.iter().any(|one| name.starts_with(one.as_str()))
            || paths.table.endings.iter().any(|one| name.ends_with(one.as_str()))
    });
    let is_comment = |text: &str| text.is_empty() || text.starts_with(['#', ';']) || text.starts_with("//");
    let page = is_program_or_page(export) && !export.text().trim_start().starts_with("#!");
    by_path || page || is_elsewhere(export) || export.lines().all(|line| is_comment(line.text.trim()))
}

/// Formats whose signs are certain: a module of a standard model, a block with a label of its own.
const CERTAIN: [&str; 3] = ["pem", "sheet", "yang"];

/// So many lines that are not understood show that one sign was a coincidence, where they are this many times as many as the others.
const LEAST: u32 = 4;
const TIMES: u32 = 2;

/// Whether the reading of a file agrees with the sign by which it was recognised: in prose, and in other languages, one line may look like
/// the format, and nearly all others are not understood. A name of the format is a second sign; a reading that a limit cut short shows
/// nothing.
#[must_use]
pub fn coheres(reader: &Reader, export: &Export, reading: &Reading, declared: bool) -> bool {
    let lost = reading.ledger.count(LineClass::NotUnderstood);
    let known = reading.ledger.count(LineClass::Understood);
    let strange = lost >= LEAST && lost > known.saturating_mul(TIMES);
    let cut = !reading.ledger.cuts.is_empty();
    !strange || cut || declared || CERTAIN.contains(&reader.name) || by_name(reader, export)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::reader::ReadContext;
    use crate::recognise;
    use trevlin_model::ExportId;

    /// Whether a file has a reader that understands it.
    fn taken(path: &str, text: &str) -> Option<&'static str> {
        let export = Export::new(ExportId(0), path, text.to_owned());
        let found = recognise(&export);
        let reader = found.reader?;
        let reading = (reader.read)(&export, &ReadContext::of(vec![&export]));
        coheres(reader, &export, &reading, found.declared).then_some(reader.name)
    }

    #[test]
    fn paths_without_bearing() {
        let of = |path: &str| is_elsewhere(&Export::new(ExportId(0), path, String::new()));
        for path in [
            "d/etc/init.d/ssh",
            "d/etc/logrotate.d/nginx",
            "d/manifest.sha256",
            "a/d/etc/fstab",
            "d/etc/rc3.d/S01x",
        ] {
            assert!(of(path), "{path}");
        }
        let idle = |path: &str, text: &str| is_idle(&Export::new(ExportId(0), path, text.to_owned()));
        assert!(idle("d/etc/x/README", "text\n") && idle("d/etc/pam.conf", "# none\n\n; none\n"));
        assert!(
            idle("d/lib/systemd/system/x.service", "[Service]\n") && !idle("d/etc/x.conf", "# one\nx = 1\n")
        );
        for path in [
            "d/etc/ssh/sshd_config",
            "d/etc/cron.conf",
            "d/etc/fail2ban/jail.conf",
            "d/services",
            "d/etc/rc.local",
        ] {
            assert!(!of(path), "{path}");
        }
    }

    #[test]
    fn one_sign_is_not_enough() {
        let prose = "Changes of this version\n\nThe server now accepts a view for clients:\n\n\
                     options { recursion yes; };\n\nIt was asked for by many.\nSee the manual for more.\nThanks to all.\n\
                     Known faults are listed below.\n";
        let zone = "options { directory \"/var\"; recursion yes; };\nzone \"a.example\" { type master; file \"a\"; };\n";
        let jail = "[Definition]\nfailregex = ^x$\nignoreregex =\n_daemon = vsftpd\n";
        let script = "local cfg = {}\ncfg.user = \"admin\"\npassword=\"y\"\nreturn cfg\nend\n";
        let users = "ines Cleartext-Password := \"Sesame-9\"\n    Framed-IP-Address = 10.4.0.9\nDEFAULT Auth-Type := Reject\n";
        for (path, text, wanted) in [
            ("d/kept.txt", zone, Some("named")),
            ("d/notes.txt", prose, None),
            // Its name is a second sign, and its lines are reported.
            ("d/etc/bind/named.conf", prose, Some("named")),
            ("d/etc/fail2ban/filter.d/vsftpd.conf", jail, None),
            ("d/root/x.lua", script, None),
            ("d/root/nat.txt", "#!/bin/sh\n*filter\n:INPUT DROP [0:0]\nCOMMIT\n", None),
            ("d/rules.nft", "#!/usr/sbin/nft -f\ntable ip t {\n}\n", Some("nftables")),
            ("d/named.conf.5", ".TH NAMED.CONF 5\nzone \"a\" {\n", None),
            ("d/named.conf.txt", "<!DOCTYPE html>\nzone \"a\" {\n", None),
            ("d/kept.txt", users, Some("radius-users")),
        ] {
            assert_eq!(taken(path, text), wanted, "{path}");
        }
    }
}
