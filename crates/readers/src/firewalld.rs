//! firewalld: zones, policies and services as XML, and `firewalld.conf`. All of a device's files together become the tables that
//! firewalld would load.
//!
//! Format: firewalld.zone(5), firewalld.policy(5), firewalld.service(5), firewalld.richlanguage(5), firewalld.conf(5).

mod build;
mod config;
mod elements;
mod kind;

use crate::reader::{ReadContext, Reader, Reading, Recognition};
use kind::{FileKind, kind};
use std::collections::BTreeMap;
use std::sync::Arc;
use trevlin_model::{Export, ExportId, Filter, LineClass, NotAnalysed, Note, Origin};

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

/// Whether a file is one that comes with the program.
fn is_shipped(export: &Export) -> bool {
    export.path().contains("lib/firewalld/")
}

/// Content of all files of a device together, with the file of each part.
#[derive(Default)]
struct Together {
    /// The file with which the tables are handed over: the first that has a part in them.
    first: Option<ExportId>,
    filters: Vec<Filter>,
    of_file: BTreeMap<ExportId, OfFile>,
}

#[derive(Default)]
struct OfFile {
    classes: Vec<(Origin, LineClass)>,
    notes: Vec<(Origin, String)>,
    direct: Vec<Origin>,
}

impl Together {
    fn of(exports: &[&Export]) -> Self {
        let mut files: Vec<&Export> = exports.iter().copied().filter(|one| kind(one).is_some()).collect();
        // A file below `/etc` stands for the shipped one of its name (firewalld(1), DIRECTORIES).
        files.sort_by_key(|one| (!is_shipped(one), one.path()));
        let mut config = config::Config::of(&files);
        // A file in its folders of an unknown kind may be a zone.
        let strange = exports.iter().filter(|one| {
            one.path().contains("firewalld/") && one.file_name().ends_with(".xml") && kind(one).is_none()
        });
        let expected = "expected a zone, a policy, a service or a list of firewalld";
        config.notes.extend(strange.map(|one| (one.origin(0..0), expected.to_owned())));
        let mut together = Self::default();
        let parts =
            || files.iter().filter(|one| matches!(kind(one), Some(FileKind::Zone | FileKind::Policy)));
        let first = parts().find(|one| !is_shipped(one)).or_else(|| parts().next());
        if let Some(first) = first {
            let built = build::build(&config);
            together.first = Some(first.id());
            together.filters = built.filters;
            config.notes.extend(built.notes);
        }
        let of_file = &mut together.of_file;
        for (origin, class) in config.classes {
            of_file.entry(origin.export).or_default().classes.push((origin, class));
        }
        for (origin, text) in config.notes {
            of_file.entry(origin.export).or_default().notes.push((origin, text));
        }
        for origin in config.direct {
            of_file.entry(origin.export).or_default().direct.push(origin);
        }
        together
    }
}

fn read(export: &Export, around: &ReadContext<'_>) -> Reading {
    let mut reading = Reading::of(export);
    let beside = around.exports.iter().any(|one| one.id() == export.id());
    let together = if beside {
        around.once(|| Together::of(&around.exports))
    } else {
        Arc::new(Together::of(&[export]))
    };
    if let Some(own) = together.of_file.get(&export.id()) {
        for (origin, class) in &own.classes {
            let last = origin.end.max(origin.start + 1) - 1;
            reading.ledger.set(export.line_of(origin.start), export.line_of(last), *class);
        }
        for origin in &own.direct {
            reading.facts.not_analysed.push(NotAnalysed::beside(
                "firewalld direct rules, which are passed to the kernel unchanged",
                *origin,
            ));
        }
        for (origin, text) in &own.notes {
            let line = export.line_of(origin.start);
            reading.ledger.set(line, line, LineClass::NotUnderstood);
            reading.ledger.notes.push(Note { origin: *origin, text: text.clone() });
        }
    }
    if together.first == Some(export.id()) {
        reading.facts.filters = together.filters.clone();
    }
    reading.facts.forwards = reading.facts.filters.iter().flat_map(trevlin_model::forwards::of).collect();
    reading
}

#[cfg(test)]
mod tests;
