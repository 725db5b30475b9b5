//! Information requests as a list to send: one section for each device, addressed to its administrator, and one for the estate.

use crate::addresses::no_formula;
use crate::report::{markdown, ticked_markdown};
use crate::requests::{Request, merged};
use crate::sanitize;
use std::collections::BTreeMap;
use std::io;
use trevlin_audit::{DeviceSummary, Outcome};
use trevlin_model::DeviceKind;

/// A request to one administrator.
struct Row {
    /// The section it belongs to: the device, or all of them.
    addressee: String,
    /// The device; none where it concerns several.
    device: Option<String>,
    question: String,
    place: String,
    checks: String,
}

/// In order of devices, with those of the whole estate last. `contacts` names the administrators of devices.
fn rows(outcome: &Outcome, contacts: &BTreeMap<String, String>) -> Vec<Row> {
    let kind = |name: &str| {
        let device = outcome.devices.iter().find(|one: &&DeviceSummary| one.name == name);
        device.map(|one| one.kind).filter(|kind| *kind != DeviceKind::Unknown)
    };
    let addressee = |device: &str| {
        let of = match kind(device) {
            Some(kind) => format!("{device} ({})", kind.word()),
            None => device.to_owned(),
        };
        match contacts.get(device) {
            Some(contact) => format!("{contact}, administrator of {of}"),
            None => format!("Administrator of {of}"),
        }
    };
    let mut rows: Vec<Row> = merged(&outcome.open_questions)
        .into_iter()
        .map(|Request { first: one, text, checks }| Row {
            addressee: if one.estate_wide { "All administrators".to_owned() } else { addressee(&one.device) },
            device: (!one.estate_wide).then(|| one.device.to_string()),
            question: text,
            place: one.evidence.first().map(|at| format!("{}:{}", at.path, at.line)).unwrap_or_default(),
            checks: checks.join(", "),
        })
        .collect();
    rows.sort_by(|a, b| (a.device.is_none(), &a.device).cmp(&(b.device.is_none(), &b.device)));
    rows
}

/// The requests as Markdown, each with a box to tick off and the line that raises it.
///
/// # Errors
/// When writing fails.
pub fn questions_markdown(
    outcome: &Outcome,
    contacts: &BTreeMap<String, String>,
    out: &mut dyn io::Write,
) -> io::Result<()> {
    let rows = rows(outcome, contacts);
    writeln!(out, "# Information requests\n")?;
    if rows.is_empty() {
        return writeln!(out, "No information is missing, as of {}.", outcome.as_of);
    }
    writeln!(
        out,
        "Information that the exports do not contain, as of {}. Please answer each request with the file, the command output \
         or the page that shows it. The line that raises a request is given in brackets.",
        outcome.as_of
    )?;
    for asked in rows.chunk_by(|a, b| a.addressee == b.addressee) {
        writeln!(out, "\n## {}\n", markdown(&sanitize(&asked[0].addressee)))?;
        for row in asked {
            let place = if row.place.is_empty() {
                String::new()
            } else {
                format!(" (`{}`)", row.place.replace('`', "'"))
            };
            writeln!(out, "- [ ] {}{}", ticked_markdown(&sanitize(&row.question)), sanitize(&place))?;
        }
    }
    Ok(())
}

/// The requests as CSV (RFC 4180), with columns for the answers.
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
        "addressee",
        "device",
        "request",
        "raised_by",
        "checks",
        "answer",
        "answered_by",
        "answered_on",
    ])?;
    for row in rows(outcome, contacts) {
        let device = row.device.unwrap_or_default();
        let cells = [&row.addressee, &device, &row.question, &row.place, &row.checks];
        let cells = cells.map(|cell| no_formula(&sanitize(cell)));
        writer.write_record(cells.iter().map(String::as_str).chain(["", "", ""]))?;
    }
    writer.flush()
}
