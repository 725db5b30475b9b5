//! Tests of checks with small estates.

#![allow(clippy::unwrap_used, reason = "a test that cannot go on has failed")]

use crate::check::{Answer, Check, Held, HeldBy, Verdict};
use std::fmt::Write;
use std::fs;
use std::path::Path;
use std::sync::{Mutex, PoisonError};
use trevlin_analysis::context::Analyses;
pub(crate) use trevlin_analysis::testing::{BEHIND, GATE, certificate, estate, estate_with, is_read};
use trevlin_estate::baseline::Baseline;

/// The date for which cases are judged.
const AS_OF: jiff::civil::Date = jiff::civil::date(2026, 11, 25);

/// Every answer of a check as a line: `fail high edge server.conf:3 gate.txt:1`, `pass`, `ask`, `none`; in order.
pub(crate) fn answers(check: &Check, estate: &Analyses) -> Vec<String> {
    answers_as_of(check, estate, AS_OF)
}

/// The same answers for another date of the audit.
pub(crate) fn answers_as_of(check: &Check, estate: &Analyses, as_of: jiff::civil::Date) -> Vec<String> {
    let said = Said::by(check, estate, as_of);
    // Nothing names the case: what it says does.
    as_written_down(check, &format!("= {:08x}", number(said.texts.bytes())), &said.texts);
    said.lines
}

/// Answers of a check about an estate.
struct Said {
    /// Every answer as a line.
    lines: Vec<String>,
    /// Keys from which the fingerprints of its findings are made, in order.
    keys: Vec<String>,
    /// Every finding and question in words.
    texts: String,
}

impl Said {
    fn by(check: &Check, estate: &Analyses, as_of: jiff::civil::Date) -> Self {
        let answers = check.answers(estate, &Baseline::on(as_of));
        Self {
            lines: answers.iter().map(|answer| line(estate, answer)).collect(),
            keys: answers.iter().map(|answer| format!("{:?}", answer.subject)).collect(),
            texts: texts(estate, answers),
        }
    }
}

fn line(estate: &Analyses, answer: &Answer) -> String {
    let place = |origin: &trevlin_model::Origin| {
        let export = estate.export(origin.export);
        format!("{}:{}", export.file_name(), export.line_of(origin.start))
    };
    let device = &estate.device(answer.device).name;
    match &answer.verdict {
        Verdict::Fail(fail) => {
            let places: Vec<_> = fail.evidence.iter().map(place).collect();
            format!("fail {} {device} {}", fail.rating.severity().word(), places.join(" "))
        }
        Verdict::Undetermined(_) => format!("ask {device}"),
        Verdict::Pass(_) => format!("pass {device}"),
        Verdict::DoesNotApply => format!("none {device}"),
    }
}

/// One case: a name, the files, and the answers expected.
pub(crate) type Case<'a> = (&'a str, &'a [(&'a str, &'a str)], &'a [&'a str]);

/// Runs a table of cases.
pub(crate) fn run(check: &Check, cases: &[Case<'_>]) {
    for (name, files, wanted) in cases {
        let told = || Said::by(check, &estate(files), AS_OF);
        let as_written = told();
        assert_eq!(as_written.lines, *wanted, "{name}");
        // Cases may share a name; that of their files is their own.
        let files_told = files.iter().flat_map(|(path, text)| path.bytes().chain(text.bytes()));
        let name: String = name.split_whitespace().collect::<Vec<_>>().join(" ").chars().take(80).collect();
        as_written_down(check, &format!("= {name} ({:08x})", number(files_told)), &as_written.texts);
        let reworded = trevlin_estate::prose::reword::with(7, told);
        assert_eq!(
            (reworded.lines, reworded.keys),
            (as_written.lines, as_written.keys),
            "{name}, in other words"
        );
    }
}

/// The texts of a case must equal those recorded in `texts/<area>/<check>.txt`, so that no sentence of a report changes unseen.
/// `TREVLIN_UPDATE_TEXTS=1` records them; where cases were removed, delete the file first.
fn as_written_down(check: &Check, head: &str, texts: &str) {
    static FILES: Mutex<()> = Mutex::new(());
    let at = Path::new(env!("CARGO_MANIFEST_DIR")).join("texts").join(format!("{}.txt", check.id));
    let guard = FILES.lock().unwrap_or_else(PoisonError::into_inner);
    let written = fs::read_to_string(&at).unwrap_or_default();
    let mut sections: Vec<&str> = written.split_inclusive("\n\n").collect();
    let known = sections.iter().position(|section| section.lines().next() == Some(head));
    let section = format!("{head}\n{texts}\n");
    if known.map_or(texts.is_empty(), |at| sections[at] == section) {
        return;
    }
    if std::env::var_os("TREVLIN_UPDATE_TEXTS").is_some() {
        match known {
            Some(at) => sections[at] = &section,
            None => sections.push(&section),
        }
        sections.sort_unstable();
        fs::create_dir_all(at.parent().unwrap()).unwrap();
        fs::write(&at, sections.concat()).unwrap();
        return;
    }
    drop(guard);
    let known = known.map_or("", |at| sections[at]);
    panic!("{}: {known:?} is written down, and this is told: {section:?}", at.display());
}

/// A number for a text, the same everywhere (FNV-1a, 32 bits).
fn number(bytes: impl Iterator<Item = u8>) -> u32 {
    bytes.fold(0x811c_9dc5, |hash, byte| (hash ^ u32::from(byte)).wrapping_mul(0x0100_0193))
}

/// What makes it right, as a line: `pass d: server.conf:3` or `pass d: server.conf:1, by default (openvpn(8))`.
fn held_text(estate: &Analyses, device: &str, held: &Held) -> String {
    let place = |origin: trevlin_model::Origin| {
        let export = estate.export(origin.export);
        format!("{}:{}", export.file_name(), export.line_of(origin.start))
    };
    let lines: Vec<String> = held.lines().map(place).collect();
    let by = match held.by {
        HeldBy::Lines => {
            assert!(!lines.is_empty(), "a pass without evidence");
            String::new()
        }
        HeldBy::Default(source) => format!(", by default ({source})"),
        HeldBy::Sources => ", by its sources".to_owned(),
        HeldBy::EstateFile(line) => format!("trevlin.toml:{line}"),
    };
    format!("pass {device}: {}{by}\n", lines.join(" "))
}

/// Every finding and question in words, a line for each sentence part that outputs show.
fn texts(estate: &Analyses, answers: Vec<Answer>) -> String {
    let mut out = String::new();
    for answer in answers {
        let device = &estate.device(answer.device).name;
        match answer.verdict {
            Verdict::Fail(fail) => {
                let (title, detail) = (fail.title.into_string(), fail.detail.into_string());
                let rated = fail.rating.sentence();
                writeln!(out, "{device}: {title}\n    {detail}\n    rated: {rated}").unwrap();
            }
            Verdict::Undetermined(question) => {
                let files = question.files.join(", ");
                let files = if files.is_empty() { files } else { format!("\n    files: {files}") };
                writeln!(out, "{device}? {}{files}", question.question.into_string()).unwrap();
            }
            Verdict::Pass(held) => out.push_str(&held_text(estate, device, &held)),
            Verdict::DoesNotApply => {}
        }
    }
    // An empty line would end the section.
    while out.contains("\n\n") {
        out = out.replace("\n\n", "\n");
    }
    out
}
