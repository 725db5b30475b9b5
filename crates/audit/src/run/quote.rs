//! Answers of checks as text: lines of exports quoted, and every secret masked.

use crate::finding::RequestParts;
use crate::run::{DeviceSummary, ExportSummary, Finding, InformationRequest, NoteSummary, Status};
use std::collections::BTreeSet;
use std::sync::{Arc, Mutex, PoisonError};
use trevlin_analysis::context::Analyses;
use trevlin_checks::check::{Addressee, Check, Fail, Question, Reason};
use trevlin_checks::subject::Subject;
use trevlin_estate::assemble::DeviceId;
use trevlin_estate::evidence::{Evidence, evidence};
use trevlin_estate::prose::{Prose, capitalized, sentence, uppercase};
use trevlin_model::{Device, LineClass, Origin};

/// Texts of outputs. Most of very many findings share their texts: each is stored once.
#[derive(Default)]
pub(super) struct Texts(Mutex<BTreeSet<Arc<str>>>);

impl Texts {
    pub(super) fn hold(&self, text: &str) -> Arc<str> {
        // A panic elsewhere leaves the set intact.
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

/// A finding from the failure of a check.
pub(super) fn finding(
    estate: &Analyses,
    texts: &Texts,
    check: &'static Check,
    device: &str,
    fail: Fail,
    fingerprint: String,
    about: (DeviceId, Subject),
) -> Finding {
    let mask = |text: &str| texts.hold(&estate.masker().mask_sentence(text));
    // The line that is cited first says whose finding it is.
    let holder = fail.evidence.first().and_then(|origin| estate.holder(origin.export));
    let device = holder.map_or(device, |at| estate.devices[at].name.as_str());
    Finding {
        check: check.id,
        area: check.area,
        severity: fail.rating.severity(),
        device: texts.hold(device),
        title: mask(&headline(estate.device(about.0), &fail.title.into_string())),
        detail: mask(&sentence(&fail.detail.into_string())),
        why_this_severity: mask(&fail.rating.sentence()),
        evidence: texts.evidence(estate, &fail.evidence),
        remedy: check.fix,
        references: check.cited(),
        fingerprint,
        status: Status::Open,
        acceptance: None,
        why: check.why,
        devices: devices_of(estate, texts, device, &fail.evidence),
        about: Some(about),
    }
}

/// A title with a capital first letter. A name of a tunnel or service that is in small letters is preceded by its kind.
fn headline(device: &Device, title: &str) -> String {
    // Most titles begin with a capital; long lists of services are looked through for the others only.
    if !title.starts_with(char::is_lowercase) {
        return capitalized(title);
    }
    let begins_with = |name: &str| {
        !name.is_empty() && title.strip_prefix(name).is_some_and(|rest| rest.starts_with([' ', ',', ':']))
    };
    // A name that begins with a common word gets a capital, like any sentence.
    let proper = |name: &str| capitalized(name) == name;
    let facts = &device.facts;
    let tunnel = facts.tunnels.iter().find(|one| begins_with(&one.name)).filter(|one| proper(&one.name));
    let tunnel = tunnel.map(|one| (&one.name, one.kind_name()));
    let service = facts.served.iter().find(|one| begins_with(&one.name) && one.name != one.program);
    let service = service.filter(|one| proper(&one.name));
    match tunnel.or_else(|| service.map(|one| (&one.name, one.kind.words().to_owned()))) {
        Some((name, kind)) if !name.starts_with(&kind) => uppercase(&format!("{kind} {title}")),
        _ => capitalized(title),
    }
}

/// The devices that the evidence comes from; at least the finding's own.
fn devices_of(estate: &Analyses, texts: &Texts, own: &str, evidence: &[Origin]) -> Vec<Arc<str>> {
    let holders = evidence.iter().filter_map(|origin| estate.holder(origin.export));
    let names: BTreeSet<&str> = holders.map(|at| estate.devices[at].name.as_str()).chain([own]).collect();
    names.into_iter().map(|name| texts.hold(name)).collect()
}

/// A request from a check's question.
pub(super) fn open_question(
    estate: &Analyses,
    texts: &Texts,
    check: &'static Check,
    device: &str,
    about: (DeviceId, Subject),
    question: Question,
) -> InformationRequest {
    let mut evidence = texts.evidence(estate, &question.evidence);
    if !question.quoted {
        evidence.iter_mut().for_each(|one| one.excerpt = texts.hold("…"));
    }
    let addressee = match question.addressee {
        Addressee::Device(at) => estate.devices[at].name.as_str(),
        Addressee::Subject | Addressee::Estate => device,
    };
    InformationRequest {
        check: check.id,
        area: check.area,
        device: texts.hold(addressee),
        estate_wide: question.addressee == Addressee::Estate,
        question: texts.hold(&estate.masker().mask_sentence(&sentence(&question.question.into_string()))),
        parts: question.parts.map(|(beginning, reason)| {
            let (decides, reason) = match reason {
                Reason::Decides(clause) => (true, clause),
                Reason::Because(clause) => (false, clause),
            };
            let held = |text: Prose| texts.hold(&estate.masker().mask_sentence(&text.into_string()));
            RequestParts { beginning: held(beginning), reason: held(reason), decides }
        }),
        evidence,
        files: question.files,
        about,
    }
}

/// Every device with its exports and the messages of the readers.
pub(super) fn devices(estate: &Analyses, texts: &Texts) -> Vec<DeviceSummary> {
    let summary = |device: &trevlin_model::Device| DeviceSummary {
        name: device.name.clone(),
        kind: device.kind,
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
            line: record.export.line_of(note.origin.start),
            text: texts.hold(&estate.masker().mask_sentence(&note.text)),
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
