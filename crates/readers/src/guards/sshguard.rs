//! sshguard: it watches logs and blocks the addresses from which attacks come, for every service.
//!
//! Format: sshguard(8), sshguard.conf.sample of its package.

use crate::addresses;
use crate::reader::{LineRecorder, ReadContext, Reader, Reading, Recognition};
use ipnet::IpNet;
use trevlin_model::login_guard::{Ban, Jail, LoginGuard};
use trevlin_model::{Export, Origin};

/// The reader.
pub(crate) const READER: Reader = Reader {
    name: "sshguard",
    title: "settings of sshguard",
    manual: "sshguard(8)",
    recognise: |export| {
        let named = export.file_name() == "sshguard.conf" || is_list(export);
        if named { Recognition::Name } else { Recognition::No }
    },
    read,
};

/// Its settings, and the failures that most attacks count.
const SETTINGS: [&str; 11] = [
    "BACKEND",
    "BLACKLIST_FILE",
    "BLOCK_TIME",
    "DETECTION_TIME",
    "FILES",
    "IPV4_SUBNET",
    "IPV6_SUBNET",
    "LOGREADER",
    "PID_FILE",
    "THRESHOLD",
    "WHITELIST_FILE",
];
const SCORE: u32 = 10;

/// The file of addresses that are never blocked, in its usual place.
fn is_list(export: &Export) -> bool {
    export.path().ends_with("sshguard/whitelist")
}

fn everything(origin: Origin) -> Ban {
    Ban { protocols: Vec::new(), ports: Vec::new(), origin }
}

fn read(export: &Export, around: &ReadContext<'_>) -> Reading {
    let mut reading = Reading::of(export);
    let mut book = LineRecorder::new(export, &mut reading.ledger, &mut reading.elsewhere);
    if is_list(export) {
        for line in export.lines() {
            let text = line.text.trim();
            match addresses::net_of(text) {
                _ if text.is_empty() || text.starts_with('#') => {}
                Some(_) => book.understood(export.origin_of(text)),
                // A name of a host.
                None if !text.contains(char::is_whitespace) => book.understood(export.origin_of(text)),
                None => {
                    book.not_understood(export.origin_of(text), "expected an address, a network or a name")
                }
            }
        }
        return reading;
    }
    let mut found: Vec<(&str, &str, Origin)> = Vec::new();
    for line in export.lines() {
        let text = line.text.trim();
        if text.is_empty() || text.starts_with('#') {
            continue;
        }
        let origin = export.origin_of(text);
        let assigned = text.strip_prefix("export ").unwrap_or(text).split_once('=');
        match assigned {
            Some((key, value)) if SETTINGS.contains(&key) => {
                book.understood(origin);
                found.push((key, value.trim().trim_matches(['"', '\'']), origin));
            }
            _ => book.not_understood(origin, "expected a setting of sshguard, as `NAME=value`"),
        }
    }
    let value = |key: &str| found.iter().rev().find(|(known, value, _)| *known == key && !value.is_empty());
    let number = |key: &str| value(key).and_then(|(_, value, _)| value.parse::<i64>().ok());
    let origin = found.first().map_or(export.origin(0..0), |(.., origin)| *origin);
    let exempt = value("WHITELIST_FILE").map(|(_, file, origin)| exempt(file, *origin, export, around));
    let mut fault = None;
    if value("BACKEND").is_none() {
        fault = Some(("`BACKEND` is not set, and the program does not start without it".to_owned(), origin));
    } else if value("FILES").is_none() && value("LOGREADER").is_none() {
        fault = Some(("neither `FILES` nor `LOGREADER` names a log".to_owned(), origin));
    }
    let attempts = number("THRESHOLD").unwrap_or(30).max(0) as u32;
    let jail = Jail {
        name: "sshguard".into(),
        filter: "sshguard".into(),
        attempts: Some(attempts.div_ceil(SCORE).max(1)),
        within: Some(number("DETECTION_TIME").unwrap_or(1800)),
        banned_for: Some(number("BLOCK_TIME").unwrap_or(120)),
        bans: value("BACKEND").into_iter().map(|(.., origin)| everything(*origin)).collect(),
        exempt: exempt.unwrap_or_default(),
        fault,
        origin: value("BACKEND").map_or(origin, |(.., origin)| *origin),
    };
    reading.facts.login_guards.push(LoginGuard {
        program: "sshguard".into(),
        jails: vec![jail],
        switched_off: Vec::new(),
        origin,
    });
    reading
}

/// The networks of a list, or of a file with one in each line.
fn exempt(list: &str, named_at: Origin, export: &Export, around: &ReadContext<'_>) -> Vec<(IpNet, Origin)> {
    match around.find(list, export) {
        Some(file) => file
            .lines()
            .filter_map(|line| Some((addresses::net_of(line.text.trim())?, file.origin_of(line.text.trim()))))
            .collect(),
        None => list.split(':').filter_map(|word| Some((addresses::net_of(word)?, named_at))).collect(),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use trevlin_model::ExportId;

    #[test]
    fn settings() {
        let of = |text: &str| {
            let list = Export::new(
                ExportId(1),
                "d/etc/sshguard/whitelist",
                "# ours\n10.0.0.0/8\n0.0.0.0/0\n".into(),
            );
            let export = Export::new(ExportId(0), "d/etc/sshguard/sshguard.conf", text.into());
            let reading = read(&export, &ReadContext::of(vec![&export, &list]));
            let jail = reading.facts.login_guards[0].jails[0].clone();
            (jail.attempts, jail.exempt.len(), jail.fault.is_some(), reading.ledger.notes.len())
        };
        for (text, wanted) in [
            ("BACKEND=\"/x\"\nLOGREADER=\"journalctl\"\nTHRESHOLD=40\n", (Some(4), 0, false, 0)),
            ("BACKEND=\"/x\"\nFILES=a\nWHITELIST_FILE=/etc/sshguard/whitelist\n", (Some(3), 2, false, 0)),
            ("#BACKEND=\"/x\"\nFILES=a\nwhat\n", (Some(3), 0, true, 1)),
            ("BACKEND=\"/x\"\n", (Some(3), 0, true, 0)),
        ] {
            assert_eq!(of(text), wanted, "{text}");
        }
    }
}
