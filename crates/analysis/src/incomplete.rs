//! Parts of an estate that were not exported or read completely: results that depend on them are never certain.

use serde::Serialize;
use std::collections::BTreeSet;
use std::sync::Arc;
use trevlin_estate::assemble::Estate;
use trevlin_estate::evidence::place;
use trevlin_model::{GapKind, LineClass, Origin};

/// Format of links that enable units: the text of such an export is the target, without an end of line.
const LINKS: &str = "unit-link";

/// Something that is missing.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Incomplete {
    /// Number of the device.
    pub device: usize,
    /// Why.
    pub why: Why,
    /// The line that refers to it.
    pub origin: Origin,
}

/// Why something is missing.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord)]
pub enum Why {
    /// A file is read in that is not among the exports, by its path.
    Missing(String),
    /// The export ends in the middle of a line.
    EndsWithinLine,
    /// This number of lines was not understood.
    NotUnderstood(u32),
    /// A line holds characters that no encoding explains.
    Illegible,
    /// Left out because of a limit or an error, with the message.
    LeftOut(String),
    /// Settings are in a database, as a phrase.
    InDatabase(&'static str),
    /// Something decides about packets that is not followed, or not there: as a phrase.
    Packets(String),
}

impl Why {
    /// The requested information, as a grammatical object.
    #[must_use]
    pub fn wanted(&self) -> String {
        match self {
            Self::Missing(path) => format!("`{path}`"),
            Self::EndsWithinLine | Self::Illegible | Self::LeftOut(_) => "the whole file".to_owned(),
            Self::NotUnderstood(_) => "the meaning of the lines that were not understood".to_owned(),
            Self::InDatabase(what) => format!("the {what} that are in a database, as a device sheet"),
            Self::Packets(_) => "the remaining filter rules".to_owned(),
        }
    }

    /// The reason as a clause.
    #[must_use]
    pub fn words(&self) -> String {
        match self {
            Self::Missing(path) => format!("it includes `{path}`, which is not among the exports"),
            Self::EndsWithinLine => "it ends in the middle of a line".to_owned(),
            Self::Illegible => "a line contains unreadable characters".to_owned(),
            Self::NotUnderstood(1) => "a line was not understood".to_owned(),
            Self::NotUnderstood(count) => format!("{count} lines were not understood"),
            Self::LeftOut(why) => why.clone(),
            Self::InDatabase(what) => format!("the program takes {what} from a database"),
            Self::Packets(what) => format!("{what} may decide otherwise"),
        }
    }
}

/// The same for outputs.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub struct IncompleteRow {
    /// The device.
    pub device: String,
    /// The export.
    pub path: Arc<str>,
    /// Line, from 1.
    pub line: u32,
    /// The missing part, and the reason.
    pub what: String,
}

/// Incompletely read exports of a device. Files without a reader are not included: they are listed as not read.
#[must_use]
pub fn of_exports(estate: &Estate, device: usize) -> Vec<Incomplete> {
    let mut found = Vec::new();
    for id in &estate.devices[device].exports {
        let record = &estate.exports[id.0 as usize];
        if record.format.is_none() {
            continue;
        }
        let export = &record.export;
        let mut add = |why: Why, origin: Origin| {
            if !found.iter().any(|one: &Incomplete| one.why == why) {
                found.push(Incomplete { device, why, origin });
            }
        };
        for gap in &record.ledger.gaps {
            let why = match &gap.kind {
                GapKind::Missing(path) => Why::Missing(path.clone()),
                GapKind::LeftOut(text) => Why::LeftOut(text.clone()),
                GapKind::InDatabase(what) => Why::InDatabase(what),
            };
            add(why, gap.origin);
        }
        if record.ledger.count(LineClass::NotUnderstood) > 0 {
            // A malformed address is reported as such.
            let malformed = estate.devices[device].facts.malformed.iter();
            let malformed = malformed.filter(|one| one.origin.export == *id);
            let malformed: BTreeSet<u32> = malformed.map(|one| export.line_of(one.origin.start)).collect();
            let lost = |number: &u32| {
                record.ledger.class(*number) == Some(LineClass::NotUnderstood) && !malformed.contains(number)
            };
            let mut lines = (1..=export.line_count()).filter(lost);
            if let Some(line) = lines.next().and_then(|number| export.line(number)) {
                let why = Why::NotUnderstood(1 + lines.count() as u32);
                found.push(Incomplete { device, why, origin: export.origin_of(line.text) });
            }
        }
        if let Some(at) = export.text().find(char::REPLACEMENT_CHARACTER)
            && let Some(line) = export.line(export.line_of(at as u32))
        {
            found.push(Incomplete { device, why: Why::Illegible, origin: export.origin_of(line.text) });
        }
        // Text of a link is its target.
        if record.format != Some(LINKS) && export.breaks_off() {
            found.push(Incomplete { device, why: Why::EndsWithinLine, origin: export.last_line() });
        }
    }
    found
}

/// For outputs, with every secret masked.
#[must_use]
pub fn rows(estate: &Estate, found: &[Incomplete]) -> Vec<IncompleteRow> {
    let row = |one: &Incomplete| {
        let place = place(estate, one.origin);
        IncompleteRow {
            device: estate.devices[one.device].name.clone(),
            path: place.path,
            line: place.line,
            what: estate.masker().mask_sentence(&one.why.words()),
        }
    };
    found.iter().map(row).collect()
}
