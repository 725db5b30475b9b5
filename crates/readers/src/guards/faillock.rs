//! Settings of `pam_faillock`.
//!
//! Format: faillock.conf(5).

use crate::reader::{LineRecorder, ReadContext, Reader, Reading, Recognition};
use trevlin_model::Export;
use trevlin_model::login_guard::LockoutSettings;

/// The reader.
pub(crate) const READER: Reader = Reader {
    name: "faillock",
    title: "settings of `pam_faillock`",
    manual: "faillock.conf(5)",
    recognise: |export| {
        if export.file_name() == "faillock.conf" { Recognition::Name } else { Recognition::No }
    },
    read,
};

/// Its settings.
const SETTINGS: [&str; 12] = [
    "admin_group",
    "audit",
    "conf",
    "deny",
    "dir",
    "even_deny_root",
    "fail_interval",
    "local_users_only",
    "no_log_info",
    "nodelay",
    "root_unlock_time",
    "silent",
];

fn read(export: &Export, _: &ReadContext<'_>) -> Reading {
    let mut reading = Reading::of(export);
    let mut book = LineRecorder::new(export, &mut reading.ledger, &mut reading.elsewhere);
    let mut attempts = None;
    let mut first = None;
    for line in export.lines() {
        let text = line.text.split('#').next().unwrap_or_default().trim();
        if text.is_empty() {
            continue;
        }
        let origin = export.origin_of(text);
        first.get_or_insert(origin);
        let (key, value) = text.split_once('=').map_or((text, ""), |(key, value)| (key.trim(), value.trim()));
        match key {
            "deny" => match value.parse() {
                Ok(number) => {
                    attempts = Some((number, origin));
                    book.understood(origin);
                }
                Err(_) => book.not_understood(origin, "expected a number of failed logins"),
            },
            "unlock_time" => book.understood(origin),
            key if SETTINGS.contains(&key) => book.understood(origin),
            _ => book.not_understood(origin, crate::serving::unknown("faillock.conf(5)")),
        }
    }
    let origin = first.unwrap_or_else(|| export.origin(0..0));
    reading.facts.lockout_settings.push(LockoutSettings { attempts, origin });
    reading
}

#[cfg(test)]
mod tests {
    use super::*;
    use trevlin_model::ExportId;

    #[test]
    fn settings() {
        for (text, wanted, notes) in [
            ("# deny = 3\n", None, 0),
            ("deny = 0 # none\naudit\nunlock_time=never\n", Some(0), 0),
            ("deny=5\ndenny=1\n", Some(5), 1),
            ("deny = many\n", None, 1),
        ] {
            let export = Export::new(ExportId(0), "d/etc/security/faillock.conf", text.into());
            let reading = read(&export, &ReadContext::default());
            let attempts = reading.facts.lockout_settings[0].attempts.map(|(number, _)| number);
            assert_eq!((attempts, reading.ledger.notes.len()), (wanted, notes), "{text}");
        }
    }
}
