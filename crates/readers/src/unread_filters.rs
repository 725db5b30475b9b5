//! Programs that load a packet filter from files of their own which are not read: their presence leaves open what passes, until the rules in
//! force are exported.
//!
//! Format: shorewall(8), ferm(1), firehol.conf(5), pf.conf(5).

use crate::reader::{LineRecorder, ReadContext, Reader, Reading, Recognition};
use crate::{iptables, nft};
use serde::Deserialize;
use trevlin_model::{Export, LineClass, NotAnalysed};

/// The reader.
pub(crate) const READER: Reader = Reader {
    name: "unread-filter",
    title: "configuration of a packet filter whose rules in force decide",
    manual: "shorewall(8), ferm(1), firehol.conf(5), pf.conf(5)",
    recognise: |export| if program(export.path()).is_some() { Recognition::Name } else { Recognition::No },
    read,
};

#[derive(Debug, Deserialize)]
#[serde(deny_unknown_fields)]
struct Programs {
    program: Vec<Program>,
}

#[derive(Debug, Deserialize)]
#[serde(deny_unknown_fields)]
struct Program {
    /// Its name.
    name: String,
    /// Folders and files of its configuration.
    paths: Vec<String>,
    /// Where it keeps the rules that it made of them, in a format that is read.
    #[serde(default)]
    compiled: Vec<String>,
    /// Settings that keep the filter from being loaded, with their values.
    #[serde(default)]
    off: Vec<(String, String)>,
    /// Files with such settings, beside its own.
    #[serde(default)]
    settings: Vec<String>,
}

trevlin_model::table! {
/// The programs.
static PROGRAMS: Programs = "../tables/unread-filters.toml"; }

/// Whether a path, which begins with a slash, lies in a folder or ends with a file.
fn holds(place: &str, path: &str) -> bool {
    if place.ends_with('/') { path.contains(place) } else { path.ends_with(place) }
}

/// The program whose configuration a path is of.
fn program(path: &str) -> Option<&'static Program> {
    let path = format!("/{path}");
    PROGRAMS.program.iter().find(|one| one.paths.iter().any(|place| holds(place, &path)))
}

impl Program {
    /// Whether a setting keeps it from being loaded.
    fn is_off(&self, around: &ReadContext<'_>) -> bool {
        let own = |export: &&&Export| {
            let path = format!("/{}", export.path());
            self.paths.iter().chain(&self.settings).any(|place| holds(place, &path))
        };
        let off = |line: &str| {
            let Some((name, value)) = line.split_once('=') else { return false };
            let value = value.split('#').next().unwrap_or_default().trim().trim_matches(['"', '\'']);
            self.off.iter().any(|(key, no)| key == name.trim() && value.eq_ignore_ascii_case(no))
        };
        around.exports.iter().filter(own).any(|export| export.lines().any(|line| off(line.text)))
    }

    /// Whether the rules in force are among the exports: a dump, or what the program made of its files.
    fn is_shown(&self, around: &ReadContext<'_>) -> bool {
        let rules = around.of_format(&iptables::READER).chain(around.of_format(&nft::READER));
        rules.map(|(export, _)| format!("/{}", export.path())).any(|path| {
            !path.contains("/etc/") || self.compiled.iter().any(|folder| path.contains(folder.as_str()))
        })
    }
}

fn read(export: &Export, around: &ReadContext<'_>) -> Reading {
    let mut reading = Reading::of(export);
    let Some(own) = program(export.path()) else { return reading };
    if own.is_off(around) {
        reading.waits = true;
        return reading;
    }
    if own.is_shown(around) {
        let text = format!(
            "the rules in force are among the exports, and count in place of the files of {}",
            own.name
        );
        reading.ledger.put_aside(export.origin(0..0), text);
        return reading;
    }
    let mut book = LineRecorder::new(export, &mut reading.ledger, &mut reading.elsewhere);
    let is_statement = |text: &str| !text.is_empty() && !text.starts_with(['#', '?']);
    let mut statements = export.lines().filter(|line| is_statement(line.text.trim())).peekable();
    let first = statements.peek().map_or(export.origin(0..0), |line| export.origin_of(line.text.trim()));
    for line in statements {
        book.class(export.origin_of(line.text.trim()), LineClass::NotUnderstood);
    }
    let lead = around.exports.iter().filter(|one| program(one.path()).is_some_and(|of| of.name == own.name));
    if lead.map(|one| one.path()).min().is_none_or(|path| path == export.path()) {
        book.note(
            first,
            format!(
                "the files of {} are not read: please provide the rules in force (`iptables-save` and `ip6tables-save`, or \
                 `nft list ruleset`)",
                own.name
            ),
        );
        reading
            .facts
            .not_analysed
            .push(NotAnalysed::beside(format!("a packet filter of {}", own.name), first));
    }
    reading
}

#[cfg(test)]
mod tests {
    use super::*;
    use trevlin_model::ExportId;

    fn facts(files: &[(&str, &str)]) -> Vec<String> {
        let exports: Vec<Export> = files
            .iter()
            .zip(0..)
            .map(|((path, text), id)| Export::new(ExportId(id), *path, (*text).to_owned()))
            .collect();
        let around = ReadContext::of(exports.iter().collect());
        let mut found = Vec::new();
        for export in exports.iter().filter(|one| program(one.path()).is_some()) {
            let reading = read(export, &around);
            found.extend(reading.facts.not_analysed.into_iter().map(|one| one.what));
            found.extend(reading.waits.then(|| "waits".to_owned()));
        }
        found
    }

    #[test]
    fn what_is_not_read_is_stated() {
        const RULES: (&str, &str) = ("d/etc/shorewall/rules", "SSH(ACCEPT) net $FW\n");
        const FERM: (&str, &str) = ("d/etc/ferm/ferm.conf", "table filter { chain INPUT policy DROP; }\n");
        const DUMP: &str = "*filter\n:INPUT DROP [0:0]\nCOMMIT\n";
        for (files, wanted) in [
            (
                &[RULES, ("d/etc/shorewall/policy", "all all REJECT\n")][..],
                &["a packet filter of Shorewall"][..],
            ),
            (&[RULES, ("d/etc/shorewall/shorewall.conf", "STARTUP_ENABLED=No\n")], &["waits", "waits"]),
            (&[RULES, ("d/iptables-save.txt", DUMP)], &[]),
            (&[RULES, ("d/etc/iptables/rules.v4", DUMP)], &["a packet filter of Shorewall"]),
            (&[RULES, ("d/var/lib/shorewall/rules.v4", DUMP)], &[]),
            (&[FERM], &["a packet filter of ferm"]),
            (&[FERM, ("d/etc/default/ferm", "ENABLED=\"no\"\n")], &["waits"]),
            (&[("d/etc/pf.conf", "block in all\n")], &["a packet filter of pf"]),
        ] {
            assert_eq!(facts(files), wanted, "{files:?}");
        }
    }
}
