//! What checks say, as text: lines of exports quoted, and every secret masked.

use super::{DeviceSummary, Evidence, ExportSummary, Finding, NoteSummary, OpenQuestion, Status};
use crate::{Analyses, Check, Estate, Fail, Question, Subject};
use std::collections::BTreeSet;
use std::sync::{Arc, Mutex, PoisonError};
use trevlin_model::{ExportId, LineClass, Origin};

/// Most places one finding shows: beyond these more lines prove nothing more.
const MOST_EVIDENCE: usize = 8;

/// Most lines one place shows.
const MOST_EXCERPT_LINES: u32 = 5;

/// Longest excerpt line, in characters.
const LONGEST_EXCERPT_LINE: usize = 160;

/// Characters of a long line that are shown before the place it is cited for.
const SHOWN_BEFORE: usize = 24;

/// Texts on their way out. Of very many findings few say what no other says: each text is held once.
#[derive(Default)]
pub(super) struct Texts(Mutex<BTreeSet<Arc<str>>>);

impl Texts {
    fn hold(&self, text: &str) -> Arc<str> {
        // Whoever panicked beside this left the set as it was.
        let mut held = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        if let Some(known) = held.get(text) {
            return Arc::clone(known);
        }
        let text: Arc<str> = text.into();
        held.insert(Arc::clone(&text));
        text
    }

    /// Places as text, each line once.
    fn evidence(&self, estate: &Analyses, origins: &[Origin]) -> Vec<Evidence> {
        let mut found = evidence(estate, origins);
        for one in &mut found {
            one.excerpt = self.hold(&one.excerpt);
        }
        found
    }
}

/// A finding from what a check says is wrong.
pub(super) fn finding(
    estate: &Analyses,
    texts: &Texts,
    check: &'static Check,
    device: &str,
    fail: Fail,
    fingerprint: String,
    about: (usize, Subject),
) -> Finding {
    let mask = |text: &str| texts.hold(&estate.masker().mask(text));
    // The line that is cited first says whose finding it is.
    let holder = fail.evidence.first().and_then(|origin| estate.holder(origin.export));
    let device = holder.map_or(device, |at| estate.devices[at].name.as_str());
    Finding {
        check: check.id,
        area: check.area,
        severity: fail.rating.severity(),
        device: texts.hold(device),
        title: mask(&fail.title.into_string()),
        detail: mask(&fail.detail.into_string()),
        why_this_severity: mask(&fail.rating.sentence()),
        evidence: texts.evidence(estate, &fail.evidence),
        remedy: check.fix,
        references: check.references,
        fingerprint,
        status: Status::Open,
        acceptance: None,
        why: check.why,
        devices: devices_of(estate, texts, device, &fail.evidence),
        about: Some(about),
    }
}

/// The devices that the evidence comes from; at least the finding's own.
fn devices_of(estate: &Analyses, texts: &Texts, own: &str, evidence: &[Origin]) -> Vec<Arc<str>> {
    let holders = evidence.iter().filter_map(|origin| estate.holder(origin.export));
    let names: BTreeSet<&str> = holders.map(|at| estate.devices[at].name.as_str()).chain([own]).collect();
    names.into_iter().map(|name| texts.hold(name)).collect()
}

/// A question from what a check asks.
pub(super) fn open_question(
    estate: &Analyses,
    texts: &Texts,
    check: &'static Check,
    device: &str,
    about: (usize, Subject),
    question: Question,
) -> OpenQuestion {
    OpenQuestion {
        check: check.id,
        area: check.area,
        device: texts.hold(device),
        question: texts.hold(&estate.masker().mask(&question.question.into_string())),
        evidence: texts.evidence(estate, &question.evidence),
        files: question.files,
        about,
    }
}

/// Places as text, each line once.
pub(crate) fn evidence(estate: &Estate, origins: &[Origin]) -> Vec<Evidence> {
    // Most have one place.
    let mut found: Vec<Evidence> = Vec::with_capacity(origins.len().min(1));
    let mut told: Vec<(ExportId, u32)> = Vec::new();
    for origin in origins {
        let line = (origin.export, estate.export(origin.export).position(origin.start).line);
        if found.len() == MOST_EVIDENCE {
            break;
        }
        if !told.contains(&line) {
            told.push(line);
            found.push(place(estate, *origin));
        }
    }
    found.shrink_to_fit();
    found
}

/// One place as text.
pub(crate) fn place(estate: &Estate, origin: Origin) -> Evidence {
    let export = estate.export(origin.export);
    let start = export.position(origin.start);
    let end = export.position(origin.end.max(origin.start + 1) - 1);
    let last = end.line.max(start.line);
    // The inside of a certificate or a key says nothing to a reader.
    let encoded =
        export.line(start.line).is_some_and(|line| line.text.trim_start().starts_with("-----BEGIN "));
    let shown = if encoded { start.line } else { last.min(start.line + MOST_EXCERPT_LINES - 1) };
    let mut lines = Vec::new();
    for number in start.line..=shown {
        let Some(line) = export.line(number) else { break };
        let place = export.origin_of(line.text);
        let masked = estate.masker().mask_at(line.text, place);
        // How far into the masked line the place lies: what stands before it, masked alike.
        let before = line.text.get(..(origin.start.saturating_sub(line.start)) as usize).unwrap_or_default();
        let column = estate.masker().mask_at(before, place).chars().count();
        lines.push(window(&masked, if number == start.line { column } else { 0 }));
    }
    if shown < last {
        lines.push("…".into());
    }
    lines.dedup();
    Evidence {
        path: export.shared_path(),
        line: start.line,
        end_line: last,
        excerpt: lines.join("\n").into(),
    }
}

/// The part of a long line around a column; it is cut only after masking, so no cut can lay a secret bare.
fn window(line: &str, column: usize) -> String {
    let length = line.chars().count();
    if length <= LONGEST_EXCERPT_LINE {
        return line.to_owned();
    }
    let from = column.saturating_sub(SHOWN_BEFORE).min(length - LONGEST_EXCERPT_LINE);
    let part: String = line.chars().skip(from).take(LONGEST_EXCERPT_LINE).collect();
    let (left, right) =
        (if from > 0 { "… " } else { "" }, if from + LONGEST_EXCERPT_LINE < length { " …" } else { "" });
    format!("{left}{part}{right}")
}

/// Every device with its exports and what readers had to say of them.
pub(super) fn devices(estate: &Analyses, texts: &Texts) -> Vec<DeviceSummary> {
    let summary = |device: &trevlin_model::Device| DeviceSummary {
        name: device.name.clone(),
        kind: device.kind.word(),
        exports: device.exports.iter().map(|id| export(estate, texts, id.0 as usize)).collect(),
    };
    estate.devices.iter().map(summary).collect()
}

fn export(estate: &Analyses, texts: &Texts, at: usize) -> ExportSummary {
    let record = &estate.exports[at];
    let mut notes: Vec<NoteSummary> = record
        .ledger
        .notes
        .iter()
        .map(|note| NoteSummary {
            line: record.export.position(note.origin.start).line,
            text: texts.hold(&estate.masker().mask(&note.text)),
        })
        .collect();
    notes.sort_by_key(|note| note.line);
    ExportSummary {
        path: record.export.shared_path(),
        format: record.format.unwrap_or("unknown"),
        lines: record.export.line_count(),
        understood: record.ledger.count(LineClass::Understood),
        not_understood: record.ledger.count(LineClass::NotUnderstood),
        notes,
    }
}
