//! The outcome of an audit: what outputs are made from. Everything in it is text on its way out, with every
//! secret masked; what stands in names and comments is still as hostile as the export it came from.

use crate::accepted;
use crate::answered::{self, AnswerEntry};
use crate::checks::CHECKS;
use crate::{
    Acceptance, AcceptanceEntry, Answer, Area, Check, Estate, Fail, LeftOutFile, Question, Severity, Verdict,
    Yardstick,
};
use rayon::prelude::*;
use serde::{Deserialize, Serialize};
use sha2::{Digest, Sha256};
use std::collections::{BTreeMap, BTreeSet};
use std::sync::{Arc, Mutex, PoisonError};
use trevlin_model::{ExportId, LineClass, Origin};

/// Most places one finding shows: beyond these more lines prove nothing more.
const MOST_EVIDENCE: usize = 8;

/// More rules than this make a packet filter a large one.
const LARGE_FILTER: usize = 2_000;

/// Most lines one place shows.
const MOST_EXCERPT_LINES: u32 = 5;

/// Longest excerpt line, in characters.
const LONGEST_EXCERPT_LINE: usize = 160;

/// Characters of a long line that are shown before the place it is cited for.
const SHOWN_BEFORE: usize = 24;

/// One export in the outcome.
#[derive(Debug, Clone, Serialize)]
pub struct ExportSummary {
    /// Path below the estate.
    pub path: Arc<str>,
    /// Format, or `unknown`.
    pub format: &'static str,
    /// Lines in all.
    pub lines: u32,
    /// Lines that became facts.
    pub understood: u32,
    /// Lines that did not and might matter.
    pub not_understood: u32,
    /// What the reader had to say.
    #[serde(skip)]
    pub notes: Vec<NoteSummary>,
}

/// A note of a reader.
#[derive(Debug, Clone)]
pub struct NoteSummary {
    /// Line, from 1.
    pub line: u32,
    /// What was found, what was expected, what to do.
    pub text: Arc<str>,
}

/// One device in the outcome.
#[derive(Debug, Clone, Serialize)]
pub struct DeviceSummary {
    /// Name.
    pub name: String,
    /// Kind.
    pub kind: &'static str,
    /// Its exports.
    pub exports: Vec<ExportSummary>,
}

/// A place that proves something.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub struct Evidence {
    /// Path below the estate.
    pub path: Arc<str>,
    /// First line, from 1.
    pub line: u32,
    /// Last line.
    pub end_line: u32,
    /// The lines, secrets masked, cut to a few.
    pub excerpt: Arc<str>,
}

/// Whether a finding stands.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Status {
    /// Nobody took responsibility for it, or nobody does any longer.
    Open,
    /// Somebody did, and still does.
    Accepted,
}

/// Something that is wrong.
#[derive(Debug, Clone, Serialize)]
pub struct Finding {
    /// Check.
    pub check: &'static str,
    /// Area.
    pub area: Area,
    /// Severity in its context.
    pub severity: Severity,
    /// Device of the first evidence.
    pub device: Arc<str>,
    /// A line for this case.
    pub title: Arc<str>,
    /// What was found.
    pub detail: Arc<str>,
    /// The context that made the severity.
    pub why_this_severity: Arc<str>,
    /// Places, the one to cite first.
    pub evidence: Vec<Evidence>,
    /// How to fix it.
    pub remedy: &'static str,
    /// Standards and manuals.
    pub references: &'static [&'static str],
    /// The same for the same fault from run to run, whatever line it moved to.
    pub fingerprint: String,
    /// Whether it stands.
    pub status: Status,
    /// Who took responsibility for it.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub acceptance: Option<Box<Acceptance>>,
    /// Why it matters.
    #[serde(skip)]
    pub why: &'static str,
    /// Every device it has evidence from.
    #[serde(skip)]
    pub devices: Vec<Arc<str>>,
}

/// Something the exports cannot tell.
#[derive(Debug, Clone, Serialize)]
pub struct OpenQuestion {
    /// Check.
    pub check: &'static str,
    /// Area.
    pub area: Area,
    /// Device.
    pub device: Arc<str>,
    /// What cannot be told, and what to ask for.
    pub question: Arc<str>,
    /// What makes one ask.
    pub evidence: Vec<Evidence>,
    /// What was judged, as in the fingerprint of a finding.
    #[serde(skip)]
    pub subject: String,
}

/// Counts of open findings.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize)]
pub struct Summary {
    /// By severity, every severity present.
    pub by_severity: BTreeMap<&'static str, usize>,
    /// By area, every area present.
    pub by_area: BTreeMap<&'static str, usize>,
    /// Findings that are accepted, which the other counts leave out.
    #[serde(skip_serializing_if = "is_none")]
    pub accepted: usize,
}

#[expect(clippy::trivially_copy_pass_by_ref, reason = "serde asks like this")]
fn is_none(count: &usize) -> bool {
    *count == 0
}

/// What an audit says.
#[derive(Debug, Clone, Serialize)]
pub struct Outcome {
    /// The date for which validity was judged, as `2026-11-25`.
    pub as_of: String,
    /// Devices in order of name.
    pub devices: Vec<DeviceSummary>,
    /// Findings: gravest first, then by device, file and line. Each by itself, so that putting them in order moves no more than
    /// where they are.
    pub findings: Vec<Box<Finding>>,
    /// Open questions, in the order of work.
    pub open_questions: Vec<OpenQuestion>,
    /// What became of each entry of accepted findings.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub acceptances: Vec<AcceptanceEntry>,
    /// What became of each answer of the estate file.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub answers: Vec<AnswerEntry>,
    /// What was given and could not be read: what it would have told is in nothing above.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub left_out: Vec<LeftOutFile>,
    /// Counts.
    pub summary: Summary,
}

/// Which findings and questions to keep.
#[derive(Debug, Clone, Default)]
pub struct Selection {
    /// Only these areas; none means all.
    pub areas: Vec<Area>,
    /// Only findings at or above this.
    pub severity: Option<Severity>,
    /// Only these devices; none means all.
    pub devices: Vec<String>,
}

impl Finding {
    /// The line that an auditor would cite.
    fn first_place(&self) -> Option<(&str, u32)> {
        self.evidence.first().map(|first| (&*first.path, first.line))
    }
}

impl Outcome {
    /// Every finding, in order.
    pub fn findings(&self) -> impl Iterator<Item = &Finding> {
        self.findings.iter().map(AsRef::as_ref)
    }

    /// Keeps what the selection names, and counts again. Open questions have no severity and stay.
    #[must_use]
    pub fn select(mut self, selection: &Selection) -> Self {
        let area = |area: Area| selection.areas.is_empty() || selection.areas.contains(&area);
        let device =
            |name: &str| selection.devices.is_empty() || selection.devices.iter().any(|one| one == name);
        self.findings.retain(|one| {
            area(one.area)
                && one.devices.iter().any(|name| device(name))
                && selection.severity.is_none_or(|least| one.severity >= least)
        });
        self.open_questions.retain(|one| area(one.area) && device(&one.device));
        self.devices.retain(|one| device(&one.name));
        self.summary = count(&self.findings);
        self
    }
}

/// Texts on their way out. Of very many findings few say what no other says: each text is held once.
#[derive(Default)]
struct Texts(Mutex<BTreeSet<Arc<str>>>);

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
    fn evidence(&self, estate: &Estate, origins: &[Origin]) -> Vec<Evidence> {
        let mut found = evidence(estate, origins);
        for one in &mut found {
            one.excerpt = self.hold(&one.excerpt);
        }
        found
    }
}

/// Runs the checks and gathers what they say.
pub(crate) fn assemble(estate: &Estate, yardstick: &Yardstick) -> Outcome {
    let texts = Texts::default();
    let said = ask_all(estate, yardstick, &texts);
    let mut findings = Vec::with_capacity(said.iter().map(|one| one.findings.len()).sum());
    let mut open_questions = Vec::with_capacity(said.iter().map(|one| one.questions.len()).sum());
    let mut seen = Prints::new();
    for mut one in said {
        findings.append(&mut one.findings);
        open_questions.append(&mut one.questions);
        seen.append(&mut one.seen);
    }
    let mut add = |finding| findings.push(Box::new(finding));
    let mask = |text: &str| estate.masker().mask(text);
    let answers = answered::apply(&estate.answers, &mut open_questions, &mut add, &mut seen, &mask);
    // Where nothing else tells two apart, the fingerprint does: an order that needs no memory beside them.
    findings.sort_unstable_by(|a, b| {
        let by_device = b.severity.cmp(&a.severity).then_with(|| a.device.cmp(&b.device));
        let by_place = by_device.then_with(|| a.first_place().cmp(&b.first_place()));
        let by_title = by_place.then_with(|| (a.check, &a.title).cmp(&(b.check, &b.title)));
        by_title.then_with(|| (&a.detail, &a.fingerprint).cmp(&(&b.detail, &b.fingerprint)))
    });
    open_questions.sort_by(|a, b| (a.area, &a.device, a.check).cmp(&(b.area, &b.device, b.check)));
    let acceptances = accepted::apply(&estate.accepts, &mut findings, yardstick.as_of);
    let summary = count(&findings);
    Outcome {
        as_of: yardstick.as_of.to_string(),
        devices: devices(estate, &texts),
        findings,
        open_questions,
        acceptances,
        answers,
        left_out: estate.left_out.iter().cloned().chain(estate.too_costly()).collect(),
        summary,
    }
}

/// What one check finds wrong and asks.
#[derive(Default)]
struct Said {
    #[expect(clippy::vec_box, reason = "putting very many in order is to move no more than where they are")]
    findings: Vec<Box<Finding>>,
    questions: Vec<OpenQuestion>,
    /// Kept where an answer may become a finding.
    seen: Prints,
}

/// What every check finds wrong or asks, in the order of the checks, whoever was first: they know nothing of each other.
fn ask_all(estate: &Estate, yardstick: &Yardstick, texts: &Texts) -> Vec<Said> {
    // Reviewing a large filter takes much memory for a while: no two are reviewed beside each other, nor beside anything else.
    let large = |device: &usize| {
        let chains = estate.devices[*device].facts.filters.iter().flat_map(|filter| &filter.chains);
        chains.map(|chain| chain.rules.len()).sum::<usize>() > LARGE_FILTER
    };
    let (large, others): (Vec<usize>, Vec<usize>) = (0..estate.devices.len()).partition(large);
    for device in large {
        estate.rule_reviews(device);
    }
    // What several checks ask for is made once, beside those that ask for none of it and take long over secrets.
    let prepare = || {
        others.into_par_iter().for_each(|device| {
            estate.rule_reviews(device);
        });
        estate.views();
        estate.inner_views();
    };
    let alone = |check: &Check| {
        matches!(check.area, Area::Addresses | Area::Ciphers | Area::Secrets)
            && !crate::checks::NEED_VIEWS.contains(&check.id)
    };
    let run = |wanted: bool| -> Vec<Option<Said>> {
        let ask = |check: &&'static Check| {
            (alone(check) == wanted).then(|| said(estate, texts, check, (check.run)(estate, yardstick)))
        };
        CHECKS.par_iter().map(ask).collect()
    };
    let ((), first) = rayon::join(prepare, || run(true));
    let second = run(false);
    first.into_iter().zip(second).map(|(first, second)| first.or(second).unwrap_or_default()).collect()
}

/// What is wrong or asked among the answers of a check, quoted. What is right fills no memory: of very many devices it is nearly
/// everything.
fn said(estate: &Estate, texts: &Texts, check: &'static Check, answers: Vec<Answer>) -> Said {
    let mut said = Said::default();
    let mut fails = Vec::new();
    for answer in answers {
        let device = estate.devices[answer.device].name.as_str();
        match answer.verdict {
            Verdict::Fail(fail) => {
                fails.push((device, fail, fingerprint(check.id, device, &answer.subject, &mut said.seen)));
            }
            Verdict::Undetermined(question) => {
                said.questions.push(open_question(estate, texts, check, device, answer.subject, question));
            }
            Verdict::Pass | Verdict::DoesNotApply => {}
        }
    }
    // Quoting and masking lines is most of the work, and each finding's is its own.
    let quoted = fails
        .into_par_iter()
        .map(|(device, fail, print)| Box::new(finding(estate, texts, check, device, fail, print)));
    said.findings = quoted.collect();
    said.questions.shrink_to_fit();
    if estate.answers.is_empty() {
        said.seen.clear();
    }
    said
}

/// How often what has a fingerprint was found before, by what is in the fingerprint.
pub(crate) type Prints = BTreeMap<[u8; 32], u32>;

/// A fingerprint from what was judged, not from where it stands. A second finding with the same subject gets a
/// number, so that each is its own.
pub(crate) fn fingerprint(check: &str, device: &str, subject: &str, seen: &mut Prints) -> String {
    let key = format!("{check}\n{device}\n{subject}");
    let first: [u8; 32] = Sha256::digest(key.as_bytes()).into();
    let times = seen.entry(first).and_modify(|times| *times += 1).or_insert(0);
    let print = if *times == 0 { first } else { Sha256::digest(format!("{key}\n{times}").as_bytes()).into() };
    print.iter().take(16).fold(String::with_capacity(32), |text, byte| text + &format!("{byte:02x}"))
}

fn finding(
    estate: &Estate,
    texts: &Texts,
    check: &'static Check,
    device: &str,
    fail: Fail,
    fingerprint: String,
) -> Finding {
    let mask = |text: &str| texts.hold(&estate.masker().mask(text));
    // The line that is cited first says whose finding it is.
    let holder = fail.evidence.first().and_then(|origin| estate.holder(origin.export));
    let device = holder.map_or(device, |at| estate.devices[at].name.as_str());
    Finding {
        check: check.id,
        area: check.area,
        severity: fail.severity,
        device: texts.hold(device),
        title: mask(&fail.title),
        detail: mask(&fail.detail),
        why_this_severity: mask(&rated(check.severity, fail.severity, &fail.why_this_severity)),
        evidence: texts.evidence(estate, &fail.evidence),
        remedy: check.fix,
        references: check.references,
        fingerprint,
        status: Status::Open,
        acceptance: None,
        why: check.why,
        devices: devices_of(estate, texts, device, &fail.evidence),
    }
}

/// The devices that the evidence comes from; at least the finding's own.
fn devices_of(estate: &Estate, texts: &Texts, own: &str, evidence: &[Origin]) -> Vec<Arc<str>> {
    let holders = evidence.iter().filter_map(|origin| estate.holder(origin.export));
    let names: BTreeSet<&str> = holders.map(|at| estate.devices[at].name.as_str()).chain([own]).collect();
    names.into_iter().map(|name| texts.hold(name)).collect()
}

/// How the severity in this context compares with the check's own, and why.
fn rated(base: Severity, here: Severity, why: &str) -> String {
    match here.cmp(&base) {
        std::cmp::Ordering::Equal => format!("as the check rates it: {why}"),
        std::cmp::Ordering::Greater => format!("raised from {}: {why}", base.word()),
        std::cmp::Ordering::Less => format!("lowered from {}: {why}", base.word()),
    }
}

fn open_question(
    estate: &Estate,
    texts: &Texts,
    check: &'static Check,
    device: &str,
    subject: String,
    question: Question,
) -> OpenQuestion {
    OpenQuestion {
        check: check.id,
        area: check.area,
        device: texts.hold(device),
        question: texts.hold(&estate.masker().mask(&question.question)),
        evidence: texts.evidence(estate, &question.evidence),
        subject,
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

fn devices(estate: &Estate, texts: &Texts) -> Vec<DeviceSummary> {
    let summary = |device: &trevlin_model::Device| DeviceSummary {
        name: device.name.clone(),
        kind: device.kind.word(),
        exports: device.exports.iter().map(|id| export(estate, texts, id.0 as usize)).collect(),
    };
    estate.devices.iter().map(summary).collect()
}

fn export(estate: &Estate, texts: &Texts, at: usize) -> ExportSummary {
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

fn count(findings: &[Box<Finding>]) -> Summary {
    let mut summary = Summary::default();
    summary.by_severity.extend(Severity::ALL.map(|severity| (severity.word(), 0)));
    summary.by_area.extend(Area::ALL.map(|area| (area.word(), 0)));
    for finding in findings {
        if finding.status == Status::Accepted {
            summary.accepted += 1;
            continue;
        }
        *summary.by_severity.entry(finding.severity.word()).or_default() += 1;
        *summary.by_area.entry(finding.area.word()).or_default() += 1;
    }
    summary
}
