//! `journald.conf` (journald.conf(5)) and `journal-upload.conf` (journal-upload.conf(5)): what systemd's journal keeps and sends.

use crate::ini::sections;
use crate::reader::{LineRecorder, ReadContext, Reader, Reading, Recognition};
use trevlin_model::housekeeping::{LogKeeper, LogTarget};
use trevlin_model::served::TransportSecurity;
use trevlin_model::{Export, LineClass};

/// The reader.
pub(crate) const READER: Reader = Reader {
    name: "journald",
    title: "logging (systemd journal)",
    manual: "journald.conf(5), journal-upload.conf(5)",
    recognise: |export| {
        let path = export.path();
        let named = matches!(export.file_name(), "journald.conf" | "journal-upload.conf")
            || path.contains("journald.conf.d/")
            || path.contains("journal-upload.conf.d/");
        if named { Recognition::Content } else { Recognition::No }
    },
    read,
};

const KNOWN: [&str; 32] = [
    "Storage",
    "Compress",
    "Seal",
    "SplitMode",
    "SyncIntervalSec",
    "RateLimitIntervalSec",
    "RateLimitBurst",
    "SystemMaxUse",
    "SystemKeepFree",
    "SystemMaxFileSize",
    "SystemMaxFiles",
    "RuntimeMaxUse",
    "RuntimeKeepFree",
    "RuntimeMaxFileSize",
    "RuntimeMaxFiles",
    "MaxRetentionSec",
    "MaxFileSec",
    "ForwardToSyslog",
    "ForwardToKMsg",
    "ForwardToConsole",
    "ForwardToWall",
    "TTYPath",
    "MaxLevelStore",
    "MaxLevelSyslog",
    "MaxLevelKMsg",
    "MaxLevelConsole",
    "MaxLevelWall",
    "LineMax",
    "ReadKMsg",
    "Audit",
    "ServerKeyFile",
    "NetworkTimeoutSec",
];

fn read(export: &Export, _: &ReadContext<'_>) -> Reading {
    let mut reading = Reading::of(export);
    let mut book = LineRecorder::new(export, &mut reading.ledger, &mut reading.elsewhere);
    let mut keeper = LogKeeper {
        program: "systemd-journald",
        targets: Vec::new(),
        open: Vec::new(),
        origin: export.origin(0..export.text().lines().next().map_or(0, str::len)),
    };
    for section in sections(export, &['#', ';']) {
        for entry in &section.entries {
            match entry.key {
                // Older versions send over the network by this one only.
                "URL" => {
                    book.understood(entry.origin);
                    let carried = if entry.value.starts_with("http://") {
                        TransportSecurity::Plain
                    } else {
                        TransportSecurity::Encrypted
                    };
                    keeper.targets.push(LogTarget {
                        host: entry.value.to_owned(),
                        carried,
                        reliable: true,
                        origin: entry.origin,
                    });
                }
                "ForwardToSocket" => {
                    book.understood(entry.origin);
                    keeper.targets.push(LogTarget {
                        host: entry.value.to_owned(),
                        carried: TransportSecurity::Plain,
                        reliable: false,
                        origin: entry.origin,
                    });
                }
                "ServerCertificateFile" | "TrustedCertificateFile" => {
                    book.class(entry.origin, LineClass::Ignored)
                }
                key if KNOWN.contains(&key) => book.class(entry.origin, LineClass::Ignored),
                _ => book.not_understood(
                    entry.origin,
                    "not a setting of journald.conf(5) or journal-upload.conf(5); it is ignored",
                ),
            }
        }
    }
    reading.facts.log_keepers.push(keeper);
    reading
}

#[cfg(test)]
mod tests {
    use super::*;
    use trevlin_model::ExportId;

    #[test]
    fn targets() {
        for (text, wanted, notes) in [
            ("[Journal]\nStorage=persistent\n", None, 0),
            ("[Upload]\nURL=http://10.4.0.9:19532\n", Some(TransportSecurity::Plain), 0),
            ("[Upload]\nURL=https://log.example\nColour=red\n", Some(TransportSecurity::Encrypted), 1),
        ] {
            let export = Export::new(ExportId(0), "d/etc/systemd/journal-upload.conf", text.into());
            let reading = read(&export, &ReadContext::default());
            assert_eq!(reading.facts.log_keepers[0].targets.first().map(|one| one.carried), wanted, "{text}");
            assert_eq!(reading.ledger.notes.len(), notes, "{text}");
        }
    }
}
