//! Findings as CSV (RFC 4180), one row each.

use crate::{Renderer, sanitize};
use std::io;
use trevlin_audit::{Evidence, Finding, Outcome, Status};

/// CSV. Cells that a spreadsheet would take for a formula are kept from it by an apostrophe.
#[derive(Debug, Clone, Copy, Default)]
pub struct Csv;

const HEADS: [&str; 21] = [
    "severity",
    "status",
    "area",
    "check",
    "device",
    "title",
    "detail",
    "why_this_severity",
    "path",
    "line",
    "end_line",
    "excerpt",
    "other_places",
    "why",
    "remedy",
    "references",
    "owner",
    "reason",
    "until",
    "expired",
    "fingerprint",
];

impl Renderer for Csv {
    fn render(&self, outcome: &Outcome, out: &mut dyn io::Write) -> io::Result<()> {
        let mut writer = csv::Writer::from_writer(out);
        writer.write_record(HEADS)?;
        for finding in outcome.findings() {
            writer.write_record(cells(finding).map(|cell| crate::addresses::no_formula(&lines(&cell))))?;
        }
        writer.flush()
    }
}

fn cells(one: &Finding) -> [String; HEADS.len()] {
    let first = one.evidence.first();
    let others: Vec<String> = one.evidence.iter().skip(1).map(place).collect();
    let acceptance = one.acceptance.as_deref();
    let status = match one.status {
        Status::Open => "open",
        Status::Accepted => "accepted",
    };
    [
        one.severity.word().to_owned(),
        status.to_owned(),
        one.area.word().to_owned(),
        one.check.to_owned(),
        one.device.to_string(),
        one.title.to_string(),
        one.detail.to_string(),
        one.why_this_severity.to_string(),
        first.map(|place| place.path.to_string()).unwrap_or_default(),
        first.map(|place| place.line.to_string()).unwrap_or_default(),
        first.map(|place| place.end_line.to_string()).unwrap_or_default(),
        first.map(|place| place.excerpt.to_string()).unwrap_or_default(),
        others.join("; "),
        one.why.to_owned(),
        one.remedy.to_owned(),
        one.references.to_string(),
        acceptance.map(|one| one.owner.clone()).unwrap_or_default(),
        acceptance.map(|one| one.reason.clone()).unwrap_or_default(),
        acceptance.map(|one| one.until.clone()).unwrap_or_default(),
        acceptance.map(|one| if one.expired { "yes" } else { "no" }.to_owned()).unwrap_or_default(),
        one.fingerprint.clone(),
    ]
}

/// Harmless text that keeps its lines: an excerpt may have several.
fn lines(cell: &str) -> String {
    cell.lines().map(sanitize).collect::<Vec<_>>().join("\n")
}

fn place(one: &Evidence) -> String {
    format!("{}:{}", one.path, one.line)
}
