//! `timesyncd.conf` (timesyncd.conf(5)): which clocks a device follows.

use crate::ini::sections;
use crate::reader::{LineRecorder, ReadContext, Reader, Reading, Recognition};
use trevlin_model::housekeeping::ClockKeeper;
use trevlin_model::{Export, LineClass};

/// The reader.
pub(crate) const READER: Reader = Reader {
    name: "timesyncd",
    title: "time synchronisation (systemd-timesyncd)",
    manual: "timesyncd.conf(5)",
    recognise: |export| {
        let named = export.file_name() == "timesyncd.conf" || export.path().contains("timesyncd.conf.d/");
        if named { Recognition::Content } else { Recognition::No }
    },
    read,
};

fn read(export: &Export, _: &ReadContext<'_>) -> Reading {
    let mut reading = Reading::of(export);
    let mut book = LineRecorder::new(export, &mut reading.ledger, &mut reading.elsewhere);
    let mut keeper = ClockKeeper {
        program: "systemd-timesyncd",
        sources: Vec::new(),
        open: Vec::new(),
        origin: export.origin(0..export.text().lines().next().map_or(0, str::len)),
    };
    for section in sections(export, &['#', ';']) {
        for entry in &section.entries {
            match entry.key {
                "NTP" | "FallbackNTP" => {
                    book.understood(entry.origin);
                    keeper
                        .sources
                        .extend(entry.value.split_whitespace().map(|name| (name.to_owned(), entry.origin)));
                }
                "RootDistanceMaxSec" | "PollIntervalMinSec" | "PollIntervalMaxSec" | "ConnectionRetrySec"
                | "SaveIntervalSec" => {
                    book.class(entry.origin, LineClass::Ignored);
                }
                _ => book.not_understood(entry.origin, "not a setting of timesyncd.conf(5); it is ignored"),
            }
        }
    }
    if keeper.sources.is_empty() {
        // Compiled-in servers, and those from DHCP, are in no file.
        let question = "please provide the output of `timedatectl timesync-status`, since no server is set, so a built-in one or \
                        one named by DHCP is used";
        keeper.open.push((question.into(), keeper.origin));
    }
    reading.facts.clock_keepers.push(keeper);
    reading
}

#[cfg(test)]
mod tests {
    use super::*;
    use trevlin_model::ExportId;

    #[test]
    fn servers() {
        for (text, sources, open, notes) in [
            ("[Time]\nNTP=a.example b.example\n", 2, 0, 0),
            ("[Time]\n#NTP=\nFallbackNTP=a.example\n", 1, 0, 0),
            ("[Time]\nColour=red\n", 0, 1, 1),
        ] {
            let export = Export::new(ExportId(0), "d/etc/systemd/timesyncd.conf", text.into());
            let reading = read(&export, &ReadContext::default());
            let one = &reading.facts.clock_keepers[0];
            assert_eq!(
                (one.sources.len(), one.open.len(), reading.ledger.notes.len()),
                (sources, open, notes),
                "{text}"
            );
        }
    }
}
