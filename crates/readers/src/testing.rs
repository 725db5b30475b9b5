//! Common parts of the readers' tests.

use crate::{ReadContext, Reading};
use trevlin_model::{Export, ExportId};

/// Result of a reader for the first of some files, each with its path, with the others as context.
pub(crate) fn first(read: fn(&Export, &ReadContext<'_>) -> Reading, files: &[(&str, &str)]) -> Reading {
    let exports: Vec<Export> = files
        .iter()
        .enumerate()
        .map(|(at, (path, text))| Export::new(ExportId(at as u32), *path, (*text).into()))
        .collect();
    read(&exports[0], &ReadContext::of(exports.iter().collect()))
}

/// Places, clients and logins of the services of some files below `d/`, the first of which is read: each as `program: places sources login`.
pub(crate) fn services(reader: &crate::reader::Reader, files: &[(&str, &str)]) -> String {
    use trevlin_model::served::{Remark, Served, ServiceResource, TransportSecurity};
    let exports: Vec<Export> = files
        .iter()
        .enumerate()
        .map(|(at, (path, text))| Export::new(ExportId(at as u32), format!("d/{path}"), (*text).into()))
        .collect();
    assert_eq!(crate::recognise(&exports[0]).reader.map(|one| one.name), Some(reader.name), "{files:?}");
    let reading = (reader.read)(&exports[0], &crate::ReadContext::of(exports.iter().collect()));
    assert!(reading.ledger.notes.is_empty(), "{files:?}: {:?}", reading.ledger.notes);
    let service = |one: &Served| {
        let place = |at: &trevlin_model::served::Endpoint| {
            let host = match (at.address, at.families, &at.interface) {
                (_, _, Some(name)) => name.clone(),
                (Some(own), ..) => own.to_string(),
                (None, trevlin_model::Families::Both, _) => "*".into(),
                (None, families, _) => families.to_string(),
            };
            let carried = match at.carried {
                TransportSecurity::Plain => "",
                TransportSecurity::Optional => "?",
                TransportSecurity::Encrypted => "!",
            };
            let kind = if at.protocol == trevlin_model::Protocol::UDP { "udp " } else { "" };
            format!("{kind}{host}:{}{carried}", at.port)
        };
        let part = |part: &ServiceResource| {
            let login = part.login.value().map_or("unknown", |one| one.words());
            let writes = if part.writes.value() == Some(&true) { " writes" } else { "" };
            let clear = if part.remark(Remark::ClearPassword).is_some() { " clear" } else { "" };
            format!("{} {login}{writes}{clear}", part.sources.words())
        };
        let mut told: Vec<String> = one.endpoints.iter().map(place).collect();
        told.push(one.parts.iter().map(part).collect::<Vec<_>>().join(", "));
        told.extend(one.refused.iter().map(|(why, _)| format!("refused: {why}")));
        told.join(" ")
    };
    reading.facts.served.iter().map(service).collect::<Vec<_>>().join("; ")
}
