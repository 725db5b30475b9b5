//! Checks and their answers.

use crate::catalogues::citations;
pub use crate::need::Need;
use crate::rating::Rating;
use crate::subject::Subject;
use serde::{Serialize, Serializer};
use std::fmt;
use trevlin_analysis::context::Analyses;
use trevlin_analysis::map::EstateMap;
use trevlin_estate::area::{Area, Severity};
use trevlin_estate::assemble::DeviceId;
use trevlin_estate::baseline::Baseline;
use trevlin_estate::prose::Prose;
use trevlin_model::{Origin, Reference, Setting};

/// A check: everything that is known about it, and the function that judges. Help, pages and outputs are made
/// from this one value.
#[derive(Debug)]
pub struct Check {
    /// `area/name-in-words`. Never changes its meaning.
    pub id: &'static str,
    /// Area.
    pub area: Area,
    /// Title.
    pub title: &'static str,
    /// Severity where no context raises or lowers it.
    pub severity: Severity,
    /// Why it matters: sentences an auditor can paste into a report.
    pub why: &'static str,
    /// How to fix it.
    pub fix: &'static str,
    /// Conditions under which it fails, passes or remains undetermined, for the check's page.
    pub judged: &'static str,
    /// Standards and manuals.
    pub references: &'static [&'static str],
    /// Exports of a device without which it cannot judge the device; none where any export will do.
    pub needs: &'static [Need],
    /// Judges an estate.
    pub run: Run,
}

/// Everything that a check refers to: standards and manuals, then controls.
#[derive(Debug, Clone, Copy)]
pub struct Cited {
    references: &'static [&'static str],
    check: &'static str,
}

impl Cited {
    /// These standards and manuals, and the controls of a check, by its id.
    #[must_use]
    pub const fn new(references: &'static [&'static str], check: &'static str) -> Self {
        Self { references, check }
    }

    /// Each as words.
    pub fn words(self) -> impl Iterator<Item = &'static str> {
        self.references.iter().chain(citations(self.check)).copied()
    }
}

impl fmt::Display for Cited {
    /// In one line, with semicolons between them.
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        for (at, one) in self.words().enumerate() {
            let before = if at == 0 { "" } else { "; " };
            write!(f, "{before}{one}")?;
        }
        Ok(())
    }
}

impl Serialize for Cited {
    fn serialize<S: Serializer>(&self, out: S) -> Result<S::Ok, S::Error> {
        out.collect_seq(self.words())
    }
}

/// The function of a check, by its input: one that receives the topology and addresses alone does not wait for reachability and reviews.
#[derive(Debug, Clone, Copy)]
pub enum Run {
    /// Uses facts, topology and addresses.
    Map(fn(&EstateMap, &Baseline) -> Vec<Answer>),
    /// Uses reachability, or filter reviews, as well.
    Analyses(fn(&Analyses, &Baseline) -> Vec<Answer>),
}

/// A check's answer for one subject.
#[derive(Debug, Clone)]
pub struct Answer {
    /// The subject's device.
    pub device: DeviceId,
    /// Subject of the answer.
    pub subject: Subject,
    /// The answer.
    pub verdict: Verdict,
}

/// Lines of a pass that are kept: the others are like them.
const MOST_LINES: usize = 8;

/// The four answers.
#[derive(Debug, Clone)]
pub enum Verdict {
    /// It is wrong.
    Fail(Fail),
    /// It is right, by these lines.
    Pass(Held),
    /// Not known from the exports.
    Undetermined(Question),
    /// There is nothing of the kind to judge here.
    DoesNotApply,
}

/// What makes it right: lines, a documented default, or the estate file. Most answers are of this kind, so one line takes no allocation.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Held {
    /// The line to cite: the setting in force or, where nothing is stated, the object.
    pub line: Option<Origin>,
    /// Further lines that belong to it.
    pub more: Vec<Origin>,
    /// What decides beside the lines.
    pub by: HeldBy,
}

/// What decides that something is right.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum HeldBy {
    /// The lines.
    Lines,
    /// A default of the program, by the document that states it; the line is that of the object.
    Default(&'static str),
    /// A line of the estate file, from 1.
    EstateFile(usize),
    /// The sources that are permitted are few, or the device itself.
    Sources,
}

impl Held {
    /// Its lines, the one to cite first.
    pub fn lines(&self) -> impl Iterator<Item = Origin> {
        self.line.into_iter().chain(self.more.iter().copied())
    }
}

/// The weakness.
#[derive(Debug, Clone)]
pub struct Fail {
    /// Severity in this context, and what made it.
    pub rating: Rating,
    /// A line for this very case.
    pub title: Prose,
    /// Description, in a sentence or two.
    pub detail: Prose,
    /// Places, the one to cite first.
    pub evidence: Vec<Origin>,
}

/// Addressee of an information request.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Addressee {
    /// The administrator of the subject's device.
    Subject,
    /// The administrator of another device, by its number.
    Device(usize),
    /// The administrators of several devices: the request concerns the estate as a whole.
    Estate,
}

/// Information that is missing for an answer.
#[derive(Debug, Clone)]
pub struct Question {
    /// The request: what to provide, and why it is needed.
    pub question: Prose,
    /// The same in parts, where several checks request one thing: its beginning (`Please provide X`), and the reason.
    pub parts: Option<(Prose, Reason)>,
    /// Lines that raise the request.
    pub evidence: Vec<Origin>,
    /// Files that would answer it and are not among the exports, by the paths under which the device has them.
    pub files: Vec<String>,
    /// Who can answer it.
    pub addressee: Addressee,
    /// Whether its lines are quoted: not those that were not understood.
    pub quoted: bool,
}

/// The reason of a request, as it follows its beginning.
#[derive(Debug, Clone)]
pub enum Reason {
    /// A clause after "it decides": `whether clients of X are relayed to the Internet`.
    Decides(Prose),
    /// A main clause: `no packet filter was exported`.
    Because(Prose),
}

impl Reason {
    /// A clause after "it decides".
    pub fn decides(text: impl Into<Prose>) -> Self {
        Self::Decides(text.into())
    }

    /// A main clause.
    pub fn because(text: impl Into<Prose>) -> Self {
        Self::Because(text.into())
    }
}

impl Check {
    /// Everything that it refers to.
    #[must_use]
    pub fn cited(&self) -> Cited {
        Cited::new(self.references, self.id)
    }

    /// Its answers about an estate.
    #[must_use]
    pub fn answers(&self, analyses: &Analyses, baseline: &Baseline) -> Vec<Answer> {
        match self.run {
            Run::Map(run) => run(analyses.map(), baseline),
            Run::Analyses(run) => run(analyses, baseline),
        }
    }

    /// Its severity, for context to move.
    pub fn rating(&self) -> Rating {
        Rating::new(self.severity)
    }

    /// Its severity, with a reason that confirms it.
    pub fn rated(&self, reason: impl Into<Prose>) -> Rating {
        self.rating().because(reason)
    }

    /// The severity of this case, with the reason.
    pub fn rated_at(&self, severity: Severity, reason: impl Into<Prose>) -> Rating {
        self.rating().at(severity, reason)
    }
}

impl Answer {
    /// An answer for a subject.
    pub fn new(device: impl Into<DeviceId>, subject: Subject, verdict: Verdict) -> Self {
        Self { device: device.into(), subject, verdict }
    }
}

impl Verdict {
    /// It is right by one line.
    pub fn pass(line: Origin) -> Self {
        Self::Pass(Held { line: Some(line), more: Vec::new(), by: HeldBy::Lines })
    }

    /// It is right by several lines, the one to cite first.
    pub fn pass_lines(lines: Vec<Origin>) -> Self {
        let mut more: Vec<Origin> = Vec::new();
        let mut lines = lines.into_iter();
        let line = lines.next();
        for one in lines {
            if Some(one) != line && !more.contains(&one) && more.len() < MOST_LINES {
                more.push(one);
            }
        }
        Self::Pass(Held { line, more, by: HeldBy::Lines })
    }

    /// The same; where there are none, by the line of the object.
    pub fn pass_by(lines: impl IntoIterator<Item = Origin>, object: Origin) -> Self {
        let mut lines = lines.into_iter().peekable();
        match lines.peek() {
            Some(_) => Self::pass_lines(lines.take(MOST_LINES).collect()),
            None => Self::pass(object),
        }
    }

    /// It is right by a default, which a document states.
    pub fn pass_default(object: Origin, source: &'static str) -> Self {
        Self::Pass(Held { line: Some(object), more: Vec::new(), by: HeldBy::Default(source) })
    }

    /// It is right by a setting: its line, or the source of its default.
    pub fn pass_setting<T>(setting: &Setting<T>, object: Origin) -> Self {
        match setting {
            Setting::Stated { origin, .. } => Self::pass(*origin),
            Setting::Default(rows) => match rows.first() {
                Some(row) => Self::pass_default(object, row.source),
                None => Self::pass(object),
            },
            Setting::Unknown { .. } => Self::pass(object),
        }
    }

    /// The same, decided by something beside its lines.
    pub fn by(mut self, by: HeldBy) -> Self {
        if let Self::Pass(held) = &mut self {
            held.by = by;
        }
        self
    }

    /// It is right by a line of the estate file.
    pub fn pass_intended(line: usize) -> Self {
        Self::Pass(Held { line: None, more: Vec::new(), by: HeldBy::EstateFile(line) })
    }

    /// The question about something that may be settled where a reference leads; `about` continues a sentence.
    pub fn ask_reference(missing: &Reference, about: &str) -> Self {
        let asked = Self::ask(missing.question(about), vec![missing.origin]);
        if missing.unsaid.is_some() { asked } else { asked.wanting(&missing.path) }
    }

    /// The same where a file would answer it that is not among the exports.
    pub fn wanting(mut self, path: impl Into<String>) -> Self {
        if let Self::Undetermined(question) = &mut self {
            question.files.push(path.into());
        }
        self
    }

    /// The same, for none or one.
    pub fn wanting_all(self, paths: impl IntoIterator<Item = impl Into<String>>) -> Self {
        paths.into_iter().fold(self, Self::wanting)
    }

    /// Shorthand for an undetermined answer.
    pub fn ask(question: impl Into<Prose>, evidence: Vec<Origin>) -> Self {
        Self::Undetermined(Question {
            question: question.into(),
            parts: None,
            evidence,
            files: Vec::new(),
            addressee: Addressee::Subject,
            quoted: true,
        })
    }

    /// An undetermined answer that requests one thing, for which other checks may have further reasons.
    pub fn provide(beginning: impl Into<Prose>, reason: Reason, evidence: Vec<Origin>) -> Self {
        let beginning = beginning.into();
        let question = match &reason {
            Reason::Decides(clause) => format!("{beginning}: it decides {clause}."),
            Reason::Because(clause) => format!("{beginning}: {clause}."),
        };
        let mut asked = Self::ask(question, evidence);
        if let Self::Undetermined(question) = &mut asked {
            question.parts = Some((beginning, reason));
        }
        asked
    }

    /// The same, addressed to the administrator of another device, or of all.
    pub fn addressed_to(mut self, addressee: Addressee) -> Self {
        if let Self::Undetermined(question) = &mut self {
            question.addressee = addressee;
        }
        self
    }

    /// The same without quoting its lines: a line that was not understood may contain anything, including a secret.
    pub fn unquoted(mut self) -> Self {
        if let Self::Undetermined(question) = &mut self {
            question.quoted = false;
        }
        self
    }
}
