//! Answered information requests: they are settled, and an answer that confirms a weakness becomes a finding with the answer as its
//! evidence.

use crate::finding::{Finding, InformationRequest, Prints, Status, fingerprint};
use crate::tested::Tested;
use serde::Serialize;
use trevlin_estate::config::GivenAnswer;
use trevlin_estate::evidence::Evidence;
use trevlin_estate::layout::ESTATE_FILE;

/// Result of an answer in the estate file.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub struct AnswerEntry {
    /// Its line in the estate file, from 1.
    pub line: usize,
    /// The check that raises the request.
    pub check: &'static str,
    /// The device that it is limited to.
    pub device: Option<String>,
    /// The answer.
    pub answer: String,
    /// Whether that is as it should be.
    pub right: bool,
    /// Source of the answer.
    pub by: String,
    /// When, as `2026-11-20`.
    pub on: String,
    /// The requests that it settles, each with its device. Empty where no request matches, or no longer does.
    pub settles: Vec<String>,
}

/// Removes answered requests, and counts their subjects by the answers. An answer that confirms a weakness adds a finding. The first matching
/// answer counts.
pub(crate) fn apply(
    answers: &[GivenAnswer],
    questions: &mut Vec<InformationRequest>,
    tested: &mut [Tested],
    found: &mut dyn FnMut(Finding),
    seen: &mut Prints,
    mask: &dyn Fn(&str) -> String,
) -> Vec<AnswerEntry> {
    let mut entries: Vec<AnswerEntry> = answers
        .iter()
        .map(|one| AnswerEntry {
            line: one.line,
            check: one.check,
            device: one.device.clone(),
            answer: mask(&one.answer),
            right: one.right,
            by: one.by.clone(),
            on: one.on.to_string(),
            settles: Vec::new(),
        })
        .collect();
    questions.retain(|question| {
        let Some((one, entry)) = answers.iter().zip(&mut entries).find(|(one, _)| fits(one, question)) else {
            return true;
        };
        entry.settles.push(format!("{}: {}", question.device, question.question));
        let of = |row: &&mut Tested| row.check == question.check && row.device == question.device;
        if let Some(row) = tested.iter_mut().find(of).filter(|row| row.counts.undetermined > 0) {
            row.settle(one.right, one.line);
        }
        if !one.right {
            finding(entry, question, seen).into_iter().for_each(&mut *found);
        }
        false
    });
    entries
}

fn fits(one: &GivenAnswer, question: &InformationRequest) -> bool {
    // By what it is about, never by how it is put: a question may be put otherwise tomorrow.
    let about = |named: &String| {
        let named = named.to_lowercase();
        let is_in = |text: &str| text.to_lowercase().contains(&named);
        let of_files = question.files.iter().any(|file| is_in(file));
        let of_lines = question.evidence.iter().any(|one| is_in(&one.path) || is_in(&one.excerpt));
        of_files || of_lines || question.about.1.names().any(is_in)
    };
    one.check == question.check
        && one.device.as_ref().is_none_or(|device| **device == *question.device)
        && one.about.as_ref().is_none_or(about)
}

fn finding(one: &AnswerEntry, question: &InformationRequest, seen: &mut Prints) -> Option<Finding> {
    let check = trevlin_checks::registry::find(one.check)?;
    let rating = check.rated("the exports contain no further information");
    let said = Evidence {
        path: ESTATE_FILE.into(),
        line: one.line as u32,
        end_line: one.line as u32,
        excerpt: format!("{} ({}, {})", one.answer, one.by, one.on).into(),
    };
    Some(Finding {
        check: check.id,
        area: check.area,
        severity: rating.severity(),
        device: question.device.clone(),
        title: check.title.into(),
        detail: format!(
            "{} stated on {}: {}. The request was: {}",
            one.by, one.on, one.answer, question.question
        )
        .into(),
        why_this_severity: rating.sentence().into(),
        evidence: question.evidence.iter().cloned().chain([said]).collect(),
        remedy: check.fix,
        references: check.cited(),
        // The same as if a file had proved it.
        fingerprint: fingerprint(check.id, &question.device, &question.about.1, seen),
        status: Status::Open,
        acceptance: None,
        why: check.why,
        devices: vec![question.device.clone()],
        about: Some(question.about.clone()),
    })
}
