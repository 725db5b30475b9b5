//! Open questions as a list to send: by whom to ask, and by device.

use crate::addresses::no_formula;
use crate::report::{markdown, ticked_markdown};
use crate::sanitize;
use crate::text::merged;
use std::collections::BTreeMap;
use std::io;
use trevlin_audit::{DeviceSummary, Outcome};
use trevlin_model::DeviceKind;

/// A question to somebody.
struct Row {
    addressee: String,
    device: String,
    question: String,
    place: String,
    checks: String,
}

/// In order of whom to ask, then of the device, then of the work. `contacts` says whom to ask about a device.
fn rows(outcome: &Outcome, contacts: &BTreeMap<String, String>) -> Vec<Row> {
    let kind = |name: &str| {
        let device = outcome.devices.iter().find(|one: &&DeviceSummary| one.name == name);
        device.map(|one| one.kind).filter(|kind| *kind != DeviceKind::Unknown)
    };
    let addressee = |device: &str| match contacts.get(device) {
        Some(contact) => contact.clone(),
        None => match kind(device) {
            Some(kind) => format!("whoever runs the {} {device}", kind.word()),
            None => format!("whoever runs the {device}"),
        },
    };
    let mut rows: Vec<Row> = merged(&outcome.open_questions)
        .into_iter()
        .map(|(one, checks)| Row {
            addressee: addressee(&one.device),
            device: one.device.to_string(),
            question: one.question.to_string(),
            place: one.evidence.first().map(|at| format!("{}:{}", at.path, at.line)).unwrap_or_default(),
            checks: checks.join(", "),
        })
        .collect();
    // Those with a name come first.
    let unnamed = |row: &Row| !contacts.contains_key(&row.device);
    rows.sort_by(|a, b| (unnamed(a), &a.addressee, &a.device).cmp(&(unnamed(b), &b.addressee, &b.device)));
    rows
}

/// The questions as Markdown, each with a box to tick off and the line that raises it.
///
/// # Errors
/// When writing fails.
pub fn questions_markdown(
    outcome: &Outcome,
    contacts: &BTreeMap<String, String>,
    out: &mut dyn io::Write,
) -> io::Result<()> {
    let rows = rows(outcome, contacts);
    writeln!(out, "# Open questions\n")?;
    if rows.is_empty() {
        return writeln!(out, "The exports leave nothing open, as of {}.", outcome.as_of);
    }
    writeln!(
        out,
        "What the exports cannot tell, as of {}. Please answer with the file, the line or the page that shows it.",
        outcome.as_of
    )?;
    for asked in rows.chunk_by(|a, b| a.addressee == b.addressee) {
        writeln!(out, "\n## To {}", markdown(&sanitize(&asked[0].addressee)))?;
        for device in asked.chunk_by(|a, b| a.device == b.device) {
            writeln!(out, "\n### {}\n", markdown(&sanitize(&device[0].device)))?;
            for row in device {
                let place = if row.place.is_empty() {
                    String::new()
                } else {
                    format!(" (`{}`)", row.place.replace('`', "'"))
                };
                writeln!(out, "- [ ] {}{}", ticked_markdown(&sanitize(&row.question)), sanitize(&place))?;
            }
        }
    }
    Ok(())
}

/// The questions as CSV (RFC 4180), with room for answers.
///
/// # Errors
/// When writing fails.
pub fn questions_csv(
    outcome: &Outcome,
    contacts: &BTreeMap<String, String>,
    out: &mut dyn io::Write,
) -> io::Result<()> {
    let mut writer = csv::Writer::from_writer(out);
    writer.write_record([
        "to",
        "device",
        "question",
        "asked_because_of",
        "checks",
        "answer",
        "answered_by",
        "answered_on",
    ])?;
    for row in rows(outcome, contacts) {
        let cells = [&row.addressee, &row.device, &row.question, &row.place, &row.checks];
        let cells = cells.map(|cell| no_formula(&sanitize(cell)));
        writer.write_record(cells.iter().map(String::as_str).chain(["", "", ""]))?;
    }
    writer.flush()
}
