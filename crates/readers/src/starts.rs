//! Files passed to a daemon at start, in its unit or in `/etc/default` (systemd.exec(5), systemd.service(5)): those missing from the
//! exports are reported like included files.

use crate::reader::{ReadContext, Reader};
use serde::Deserialize;
use std::collections::{BTreeMap, BTreeSet};
use trevlin_model::{Export, Line, Origin};

/// How a daemon receives the names of its files.
#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
struct Start {
    programs: Vec<String>,
    options: Vec<String>,
    #[serde(default)]
    variables: Vec<String>,
}

trevlin_model::table! {
    /// Options with files, by format.
    static STARTS: BTreeMap<String, Start> = "../tables/starts.toml";
}

/// A file that a daemon is started with.
pub(crate) struct Named {
    /// Its path.
    pub(crate) path: String,
    /// The line that names it.
    pub(crate) origin: Origin,
    /// Whether no export is that file.
    pub(crate) missing: bool,
}

/// Files that the daemon of a format is started with, each once. They are reported with the first export of the format.
pub(crate) fn named(reader: &Reader, export: &Export, around: &ReadContext<'_>) -> Vec<Named> {
    let Some(start) = STARTS.get(reader.name) else { return Vec::new() };
    if around.of_format(reader).map(|(one, _)| one.id()).min() != Some(export.id()) {
        return Vec::new();
    }
    let mut told = BTreeSet::new();
    let mut found = Vec::new();
    for one in &around.exports {
        let Some(kind) = Kind::of(one, start) else { continue };
        for line in one.lines() {
            for path in kind.paths(&line, start) {
                if told.insert(path.clone()) {
                    let missing = !there(&path, export, around);
                    found.push(Named { path, origin: one.origin_of(line.text.trim()), missing });
                }
            }
        }
    }
    found
}

/// Whether an export is the file, or is in the folder.
fn there(path: &str, export: &Export, around: &ReadContext<'_>) -> bool {
    let folder = path.trim_end_matches('/');
    around.find(path, export).is_some() || !around.find_all(&format!("{folder}/*"), export).is_empty()
}

/// Sources for the start of a daemon.
enum Kind {
    /// A unit, or a part of one.
    Unit,
    /// Variables for its start.
    Variables,
}

impl Kind {
    fn of(export: &Export, start: &Start) -> Option<Self> {
        let path = export.path();
        let name = export.file_name();
        let part = name.ends_with(".conf") && path.contains(".service.d/");
        if name.ends_with(".service") || part {
            return Some(Self::Unit);
        }
        let folder = path.rsplit('/').nth(1);
        let own =
            start.programs.iter().any(|program| program.trim_end_matches('d') == name.trim_end_matches('d'));
        (matches!(folder, Some("default" | "sysconfig")) && own).then_some(Self::Variables)
    }

    /// Whole paths that a line hands to the daemon.
    fn paths(&self, line: &Line<'_>, start: &Start) -> Vec<String> {
        let Some((name, value)) = line.text.trim().split_once('=') else { return Vec::new() };
        let name = name.trim().trim_start_matches("export ").trim();
        let value = value.trim().trim_matches(['"', '\'']);
        let mut words = value.split_whitespace().map(|word| word.trim_matches(['"', '\'']));
        match self {
            Self::Unit => {
                // Signs before the program say how it is run.
                let program = words.next().unwrap_or_default().trim_start_matches(['-', '@', '+', '!', ':']);
                let program = program.rsplit('/').next().unwrap_or_default();
                if name != "ExecStart" || !start.programs.iter().any(|known| known == program) {
                    return Vec::new();
                }
            }
            Self::Variables if name.starts_with('#') => return Vec::new(),
            Self::Variables => {
                if start.variables.iter().any(|known| known == name) {
                    return Some(value).filter(|path| is_path(path)).map(str::to_owned).into_iter().collect();
                }
            }
        }
        let words: Vec<&str> = words.collect();
        let mut found = Vec::new();
        for (at, word) in words.iter().enumerate() {
            for option in &start.options {
                let path = match word.strip_prefix(option.as_str()) {
                    Some("") => words.get(at + 1).copied(),
                    Some(rest) if option.starts_with("--") => rest.strip_prefix('='),
                    Some(rest) => Some(rest),
                    None => None,
                };
                found.extend(path.filter(|path| is_path(path)).map(str::to_owned));
            }
        }
        found
    }
}

/// Whether a word is the whole path of a file that could be exported, and none that is put together at the start.
fn is_path(word: &str) -> bool {
    word.starts_with('/') && !word.contains(['$', '%']) && word != "/dev/null"
}

#[cfg(test)]
mod tests {
    use super::*;
    use trevlin_model::ExportId;

    #[test]
    fn what_a_daemon_is_started_with_is_missed() {
        let main = "frontend a\n bind :80\n";
        for (path, text, wanted) in [
            ("etc/default/haproxy", "CONFIG=\"/etc/haproxy/other.cfg\"\n", &["/etc/haproxy/other.cfg"][..]),
            ("etc/default/haproxy", "#CONFIG=\"/etc/haproxy/other.cfg\"\n", &[]),
            (
                "etc/default/haproxy",
                "EXTRAOPTS=\"-f /etc/haproxy/conf.d -S /run/x\"\n",
                &["/etc/haproxy/conf.d"],
            ),
            ("etc/default/haproxy", "CONFIG=/etc/haproxy/haproxy.cfg\nEXTRAOPTS=\"-f/etc/haproxy\"\n", &[]),
            (
                "etc/systemd/system/haproxy.service",
                "[Service]\nExecStart=/usr/sbin/haproxy -Ws -f $CONFIG -f /srv/web.cfg -p /run/h.pid\n",
                &["/srv/web.cfg"],
            ),
            (
                "etc/systemd/system/haproxy.service.d/a.conf",
                "[Service]\nExecStart=\nExecStart=-/usr/sbin/haproxy -f /srv/web.cfg\n",
                &["/srv/web.cfg"],
            ),
            ("etc/systemd/system/other.service", "[Service]\nExecStart=/usr/bin/tool -f /srv/web.cfg\n", &[]),
            ("etc/default/other", "EXTRAOPTS=\"-f /etc/haproxy/conf.d\"\n", &[]),
        ] {
            let export = Export::new(ExportId(0), "d/etc/haproxy/haproxy.cfg", main.into());
            let other = Export::new(ExportId(1), format!("d/{path}"), text.into());
            let around = ReadContext::of(vec![&export, &other]);
            let reader = crate::READERS.iter().find(|reader| reader.name == "haproxy").unwrap();
            let found = named(reader, &export, &around);
            assert!(found.iter().all(|one| one.origin.export == other.id()));
            let found: Vec<String> =
                found.into_iter().filter(|one| one.missing).map(|one| one.path).collect();
            assert_eq!(found, wanted, "{path}: {text}");
        }
    }

    #[test]
    fn formats_are_known() {
        for format in STARTS.keys() {
            assert!(crate::READERS.iter().any(|reader| reader.name == *format), "{format}");
        }
    }
}
