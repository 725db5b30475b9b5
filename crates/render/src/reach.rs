//! Answers to who reaches what.

use crate::sanitize;
use anstyle::{AnsiColor, Style};
use serde::Serialize;
use std::io;
use trevlin_audit::reachability::ReachResult;
use trevlin_audit::reachability::{Reply, Verdict, word};

const BOLD: Style = Style::new().bold();
const DIM: Style = Style::new().dimmed();

/// The answer to one row of a file of flows.
#[derive(Debug, Clone, Serialize)]
pub struct FlowAnswer {
    /// The answer.
    #[serde(flatten)]
    pub reached: ReachResult,
    /// Why it could not be asked, where it could not.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub reason: Option<String>,
    /// The row's line in the file.
    pub line: u64,
    /// The expected verdict.
    #[serde(skip_serializing_if = "Option::is_none")]
    #[serde(serialize_with = "expected")]
    pub expect: Option<Verdict>,
    /// Whether it is so.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub as_expected: Option<bool>,
}

fn expected<S: serde::Serializer>(verdict: &Option<Verdict>, out: S) -> Result<S::Ok, S::Error> {
    verdict.map(word).serialize(out)
}

/// One answer as a JSON object.
///
/// # Errors
/// When writing fails.
pub fn reach_json(answer: &ReachResult, out: &mut dyn io::Write) -> io::Result<()> {
    crate::json::write(answer, out)
}

/// Many answers as a JSON array.
///
/// # Errors
/// When writing fails.
pub fn reach_all_json(answers: &[FlowAnswer], out: &mut dyn io::Write) -> io::Result<()> {
    crate::json::write(&answers, out)
}

fn style(verdict: Verdict) -> Style {
    match verdict {
        Verdict::Allowed => AnsiColor::Yellow.on_default().bold(),
        Verdict::Blocked => AnsiColor::Green.on_default().bold(),
        Verdict::Depends => AnsiColor::Magenta.on_default().bold(),
    }
}

/// Where it is delivered, in words.
fn delivered(answer: &ReachResult) -> Option<String> {
    if answer.answer == Reply::Lost {
        return Some("delivered; the answer is lost".to_owned());
    }
    let one = answer.delivered_to.as_ref()?;
    let device = one.device.as_ref().map(|name| format!(" ({name})")).unwrap_or_default();
    Some(sanitize(&format!("delivered to {} port {}{device}", one.address, one.port)).into_owned())
}

/// One answer as text: the verdict, then what decided, each with its line.
///
/// # Errors
/// When writing fails.
pub fn reach_text(answer: &ReachResult, width: usize, out: &mut dyn io::Write) -> io::Result<()> {
    let style = style(answer.verdict);
    let delivered = delivered(answer).map(|text| format!(", {text}")).unwrap_or_default();
    writeln!(out, "{style}{}{style:#}{delivered}", word(answer.verdict))?;
    let mut device = "";
    for (number, step) in answer.steps.iter().enumerate() {
        if step.device != device {
            device = &step.device;
            writeln!(out, "\n{BOLD}{}{BOLD:#}", sanitize(device))?;
        }
        writeln!(out, " {:>2}. {}", number + 1, sanitize(&step.text))?;
        let (Some(path), Some(line)) = (&step.path, step.line) else { continue };
        writeln!(out, "     {DIM}{}:{line}{DIM:#}", sanitize(path))?;
        for text in step.excerpt.iter().flat_map(|text| text.lines()).take(3) {
            let text: String = sanitize(text.trim()).chars().take(width.saturating_sub(7).max(40)).collect();
            writeln!(out, "       {text}")?;
        }
    }
    Ok(())
}

/// Many answers as text, a line each, with what decided where the answer is not the one expected.
///
/// # Errors
/// When writing fails.
pub fn reach_all_text(answers: &[FlowAnswer], width: usize, out: &mut dyn io::Write) -> io::Result<()> {
    for one in answers {
        let style = style(one.reached.verdict);
        let expected = match (one.as_expected, one.expect) {
            (Some(true), _) => Some("as expected".to_owned()),
            (Some(false), Some(expect)) => Some(format!("expected: {}", word(expect))),
            _ => None,
        };
        // What it depends on comes first.
        let open = one.reached.steps.first().filter(|_| one.reached.verdict == Verdict::Depends);
        let reason = one.reason.as_ref().or(open.map(|step| &step.text));
        let reason = reason.map(|why| sanitize(why).into_owned());
        let parts: Vec<String> = delivered(&one.reached).into_iter().chain(reason).chain(expected).collect();
        let verdict = word(one.reached.verdict);
        let text = parts.join(", ");
        writeln!(out, "line {:>4}  {style}{verdict:<7}{style:#}  {text}", one.line)?;
        if one.as_expected == Some(false) {
            for step in &one.reached.steps {
                let place = step.path.as_ref().zip(step.line).map(|(path, line)| format!(" {path}:{line}"));
                let text = format!("{}{}", step.text, place.unwrap_or_default());
                let text: String = sanitize(&text).chars().take(width.saturating_sub(13).max(40)).collect();
                writeln!(out, "           {DIM}- {text}{DIM:#}")?;
            }
        }
    }
    let wrong = answers.iter().filter(|one| one.as_expected == Some(false)).count();
    let asked = answers.iter().filter(|one| one.expect.is_some()).count();
    match (answers.len(), asked, wrong) {
        (all, 0, _) => writeln!(out, "{all} results"),
        (all, asked, 0) => writeln!(out, "{all} results, all {asked} expectations hold"),
        (all, asked, wrong) => writeln!(out, "{all} results, {wrong} of {asked} expectations do not hold"),
    }
}
