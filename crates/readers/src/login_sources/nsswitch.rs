//! The list of name services (nsswitch.conf(5)).

use crate::reader::{LineRecorder, ReadContext, Reader, Reading, Recognition};
use crate::serving;
use trevlin_model::Export;
use trevlin_model::login_source::NameService;

/// The reader.
pub(crate) const READER: Reader = Reader {
    name: "nsswitch",
    title: "list of name services",
    manual: "nsswitch.conf(5)",
    recognise: |export| match export.file_name() {
        "nsswitch.conf" => Recognition::Name,
        _ => Recognition::No,
    },
    read: |export, _: &ReadContext<'_>| read(export),
};

fn read(export: &Export) -> Reading {
    let mut reading = Reading::of(export);
    let mut book = LineRecorder::new(export, &mut reading.ledger, &mut reading.elsewhere);
    for text in serving::entries(export) {
        let origin = export.origin_of(text);
        let Some((database, rest)) = text.split_once(':') else {
            book.not_understood(origin, "expected `database: system system`");
            continue;
        };
        book.understood(origin);
        reading.facts.name_services.push(NameService {
            database: database.trim().to_owned(),
            systems: systems(rest),
            origin,
        });
    }
    reading
}

/// Systems without the actions on results, which are in brackets between them. The library takes words behind a `#` for names as well.
fn systems(text: &str) -> Vec<String> {
    let mut found = Vec::new();
    let mut rest = text;
    while !rest.is_empty() {
        let (before, after) = rest.split_once('[').unwrap_or((rest, ""));
        found.extend(before.split_whitespace().filter(|word| !word.starts_with('#')).map(str::to_owned));
        rest = after.split_once(']').map_or("", |(_, after)| after);
    }
    found
}
