//! firewalld: zones, policies and services as XML, and `firewalld.conf`. All of a device's files together become the tables that
//! firewalld would load.
//!
//! Format: firewalld.zone(5), firewalld.policy(5), firewalld.service(5), firewalld.richlanguage(5), firewalld.conf(5).

mod build;
mod config;
mod elements;
mod kind;

use crate::reader::{Reader, Reading, Recognition, Surroundings};
use kind::{FileKind, kind};
use trevlin_model::{Export, LineClass, NotModelled, Note};

/// The reader.
pub(crate) const READER: Reader = Reader {
    name: "firewalld",
    title: "zones, policies and services of firewalld",
    manual: "firewalld.zone(5), firewalld.policy(5), firewalld.service(5), firewalld.conf(5)",
    recognise,
    read,
};

fn recognise(export: &Export) -> Recognition {
    match kind(export) {
        Some(FileKind::Settings) => Recognition::Name,
        Some(_) => Recognition::Content,
        None => Recognition::No,
    }
}

fn read(export: &Export, around: &Surroundings<'_>) -> Reading {
    let mut reading = Reading::of(export);
    let mut files: Vec<&Export> = around.exports.iter().copied().filter(|one| kind(one).is_some()).collect();
    if !files.iter().any(|one| one.path() == export.path()) {
        files = vec![export];
    }
    files.sort_by_key(|one| one.path());
    let mut config = config::Config::of(&files);
    // A file in its folders that cannot be told for what it is may have been a zone.
    let strange = around.exports.iter().filter(|one| {
        one.path().contains("firewalld/") && one.file_name().ends_with(".xml") && kind(one).is_none()
    });
    for one in strange {
        config
            .notes
            .push((one.origin(0..0), "expected a zone, a policy, a service or a list of firewalld".into()));
    }
    for (origin, class) in &config.classes {
        if origin.export == export.id() {
            let last = origin.end.max(origin.start + 1) - 1;
            reading.ledger.set(export.line_of(origin.start), export.line_of(last), *class);
        }
    }
    // The tables are handed over once, with the first file that has a part in them.
    let first = files.iter().find(|one| matches!(kind(one), Some(FileKind::Zone | FileKind::Policy)));
    let built = first.is_some_and(|one| one.path() == export.path()).then(|| build::build(&config));
    for origin in config.direct.iter().filter(|origin| origin.export == export.id()) {
        reading.facts.not_modelled.push(NotModelled::beside(
            "a list of rules that firewalld hands to the kernel as they are",
            *origin,
        ));
    }
    let notes = config.notes.into_iter().chain(built.iter().flat_map(|built| built.notes.clone()));
    for (origin, text) in notes {
        if origin.export == export.id() {
            reading.ledger.set(
                export.line_of(origin.start),
                export.line_of(origin.start),
                LineClass::NotUnderstood,
            );
            reading.ledger.notes.push(Note { origin, text });
        }
    }
    reading.facts.filters = built.into_iter().flat_map(|built| built.filters).collect();
    reading.facts.forwards = reading.facts.filters.iter().flat_map(crate::forwards::of).collect();
    reading
}

#[cfg(test)]
mod tests;
