//! The outcome of an audit: the basis of all outputs. All texts have every secret masked; names and comments are as hostile as the export
//! they come from.

mod quote;

use crate::accepted::AcceptanceEntry;
use crate::answers::AnswerEntry;
use crate::coverage::lacks::{self, Lacks};
pub use crate::finding::{DeviceSummary, ExportSummary, Finding, InformationRequest, NoteSummary, Status};
pub(crate) use crate::finding::{Prints, fingerprint};
use crate::tested::{AnswerCounts, Tested, TestedSummary};
use crate::{accepted, answers, tested};
use quote::{Texts, devices, finding, open_question};
use rayon::prelude::*;
use serde::Serialize;
use std::collections::{BTreeMap, BTreeSet};
use std::sync::Arc;
use tracing::{debug_span, trace_span};
use trevlin_analysis::context::Analyses;
use trevlin_analysis::incomplete::IncompleteRow;
use trevlin_analysis::lacking::rows_of_all;
use trevlin_checks::check::{Answer, Check, Held, Need, Run, Verdict};
use trevlin_checks::registry::{CHECKS, find};
use trevlin_estate::area::{Area, Severity};
use trevlin_estate::assemble::{DeviceId, LeftOutFile};
use trevlin_estate::baseline::Baseline;
use trevlin_estate::evidence::Evidence;

/// More rules than this make a packet filter a large one.
const LARGE_FILTER: usize = 2_000;

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
    /// Tested subjects; those of the selected devices, checks and areas where some were selected.
    pub tested: TestedSummary,
}

#[expect(clippy::trivially_copy_pass_by_ref, reason = "serde asks like this")]
fn is_none(count: &usize) -> bool {
    *count == 0
}

/// Result of an audit.
#[derive(Debug, Clone, Serialize)]
pub struct Outcome {
    /// The date for which validity was judged, as `2026-11-25`.
    pub as_of: String,
    /// Devices in order of name.
    pub devices: Vec<DeviceSummary>,
    /// Findings: the highest severity first, then by device, file and line. Each is boxed, so that sorting moves pointers only.
    pub findings: Vec<Box<Finding>>,
    /// Information requests, in the order of work.
    pub open_questions: Vec<InformationRequest>,
    /// Result of each acceptance entry.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub acceptances: Vec<AcceptanceEntry>,
    /// Result of each answer in the estate file.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub answers: Vec<AnswerEntry>,
    /// Files that could not be read, and are not covered by the results.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub left_out: Vec<LeftOutFile>,
    /// Incompletely read exports: results that depend on them are left open or become requests.
    pub incomplete: Vec<IncompleteRow>,
    /// Counts.
    pub summary: Summary,
    /// Subjects of each check on each device, in the order of the checks.
    #[serde(skip)]
    pub tested: Vec<Tested>,
    /// Checks that were run and are selected, in order.
    #[serde(skip)]
    pub checks: Vec<&'static str>,
    /// Exports that checks need and that a device lacks, by device.
    #[serde(skip)]
    pub lacking: Vec<(Arc<str>, Lacks)>,
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
    /// Only these checks, by id; none means all.
    pub checks: Vec<&'static str>,
}

impl Outcome {
    /// Every finding, in order.
    pub fn findings(&self) -> impl Iterator<Item = &Finding> {
        self.findings.iter().map(AsRef::as_ref)
    }

    /// Keeps the selected findings, and counts again. Information requests have no severity and are kept.
    #[must_use]
    pub fn select(mut self, selection: &Selection) -> Self {
        let area = |area: Area| selection.areas.is_empty() || selection.areas.contains(&area);
        let device =
            |name: &str| selection.devices.is_empty() || selection.devices.iter().any(|one| one == name);
        let check = |id: &str| selection.checks.is_empty() || selection.checks.contains(&id);
        self.findings.retain(|one| {
            area(one.area)
                && check(one.check)
                && one.devices.iter().any(|name| device(name))
                && selection.severity.is_none_or(|least| one.severity >= least)
        });
        self.open_questions.retain(|one| area(one.area) && check(one.check) && device(&one.device));
        self.devices.retain(|one| device(&one.name));
        self.tested.retain(|one| area(one.area) && check(one.check) && device(&one.device));
        let mut selected = CHECKS.iter().filter(|one| area(one.area) && check(one.id));
        self.checks.retain(|id| selected.any(|one| one.id == *id));
        self.lacking.retain(|(name, _)| device(name));
        self.summary = count(&self.findings, &self.tested, &self.checks, &self.lacking);
        self
    }
}

/// Runs every check over an estate.
#[must_use]
pub fn audit(estate: &Analyses, baseline: &Baseline) -> Outcome {
    audit_areas(estate, baseline, &Area::ALL)
}

/// Runs the checks of some areas over an estate, and collects the results.
#[must_use]
pub fn audit_areas(estate: &Analyses, baseline: &Baseline, areas: &[Area]) -> Outcome {
    let texts = Texts::default();
    let _timed = debug_span!("checks").entered();
    let said = ask_all(estate, baseline, &texts, areas);
    let mut findings = Vec::with_capacity(said.iter().map(|one| one.findings.len()).sum());
    let mut open_questions = Vec::with_capacity(said.iter().map(|one| one.questions.len()).sum());
    let mut seen = Prints::new();
    let mut tested = Vec::new();
    for mut one in said {
        tested.append(&mut one.tested);
        findings.append(&mut one.findings);
        open_questions.append(&mut one.questions);
        seen.append(&mut one.seen);
    }
    asked_once(&mut open_questions);
    let mut add = |finding| findings.push(Box::new(finding));
    let mask = |text: &str| estate.masker().mask(text);
    let answers =
        answers::apply(&estate.answers, &mut open_questions, &mut tested, &mut add, &mut seen, &mask);
    // Where two findings are otherwise equal, the fingerprint decides, so that sorting needs no further memory.
    findings.sort_unstable_by(|a, b| {
        let by_device = b.severity.cmp(&a.severity).then_with(|| a.device.cmp(&b.device));
        let by_place = by_device.then_with(|| a.first_place().cmp(&b.first_place()));
        let by_title = by_place.then_with(|| (a.check, &a.title).cmp(&(b.check, &b.title)));
        by_title.then_with(|| (&a.detail, &a.fingerprint).cmp(&(&b.detail, &b.fingerprint)))
    });
    open_questions.sort_by(|a, b| (a.area, &a.device, a.check).cmp(&(b.area, &b.device, b.check)));
    let acceptances = accepted::apply(&estate.accepts, &mut findings, baseline.as_of);
    let checks: Vec<&str> =
        CHECKS.iter().filter(|check| areas.contains(&check.area)).map(|check| check.id).collect();
    let lacks = lacks::of_all(estate).into_iter();
    let lacking = estate.devices.iter().zip(lacks).map(|(device, lacks)| (texts.hold(&device.name), lacks));
    let lacking: Vec<(Arc<str>, Lacks)> = lacking.collect();
    let summary = count(&findings, &tested, &checks, &lacking);
    Outcome {
        as_of: baseline.as_of.to_string(),
        devices: devices(estate, &texts),
        findings,
        open_questions,
        acceptances,
        answers,
        left_out: estate.left_out.iter().cloned().chain(estate.too_costly()).collect(),
        incomplete: rows_of_all(estate),
        summary,
        tested,
        checks,
        lacking,
    }
}

/// Removes requests about a whole export where every cited line has a request of its own.
fn asked_once(questions: &mut Vec<InformationRequest>) {
    const WHOLE: &str = "upkeep/export-incomplete";
    let place = |one: &Evidence| (Arc::clone(&one.path), one.line);
    let others: BTreeSet<(Arc<str>, u32)> = questions
        .iter()
        .filter(|one| one.check != WHOLE)
        .flat_map(|one| one.evidence.iter().map(place))
        .collect();
    questions
        .retain(|one| one.check != WHOLE || !one.evidence.iter().all(|cited| others.contains(&place(cited))));
}

/// Findings and requests of one check.
#[derive(Default)]
struct Said {
    #[expect(clippy::vec_box, reason = "putting very many in order is to move no more than where they are")]
    findings: Vec<Box<Finding>>,
    questions: Vec<InformationRequest>,
    tested: Vec<Tested>,
    /// Kept where an answer may become a finding.
    seen: Prints,
}

/// Findings and requests of every check, in the order of the checks, independent of which finished first.
fn ask_all(estate: &Analyses, baseline: &Baseline, texts: &Texts, areas: &[Area]) -> Vec<Said> {
    // Reviewing a large filter takes much memory for a while: no two are reviewed beside each other, nor beside anything else.
    let large = |device: &usize| {
        let chains = estate.devices[*device].facts.filters.iter().flat_map(|filter| &filter.chains);
        chains.map(|chain| chain.rules.len()).sum::<usize>() > LARGE_FILTER
    };
    let (large, others): (Vec<usize>, Vec<usize>) = (0..estate.devices.len()).partition(large);
    for device in large {
        estate.rule_reviews(device);
    }
    // Shared analyses are computed once, in parallel to checks that do not use them and take long over secrets.
    let prepare = || {
        debug_span!("reviews of packet filters").in_scope(|| {
            others.into_par_iter().with_max_len(1).for_each(|device| {
                estate.rule_reviews(device);
            })
        });
        estate.internet();
        estate.internal();
    };
    let alone = |check: &Check| matches!(check.run, Run::Map(_));
    let run = |wanted: bool| -> Vec<Option<Said>> {
        let ask = |check: &&'static Check| {
            (alone(check) == wanted).then(|| {
                let _timed = trace_span!("check", id = check.id).entered();
                said(estate, texts, check, check.answers(estate, baseline))
            })
        };
        CHECKS.par_iter().with_max_len(1).filter(|check| areas.contains(&check.area)).map(ask).collect()
    };
    let ((), first) = rayon::join(prepare, || run(true));
    let second = run(false);
    first.into_iter().zip(second).map(|(first, second)| first.or(second).unwrap_or_default()).collect()
}

/// Findings and requests among the answers of a check, quoted. Passes are counted, and their
/// evidence is kept as it is: with many devices they are nearly everything.
fn said(estate: &Analyses, texts: &Texts, check: &'static Check, answers: Vec<Answer>) -> Said {
    let mut said = Said::default();
    let mut fails = Vec::new();
    let mut tested: BTreeMap<DeviceId, (AnswerCounts, Vec<Held>)> = BTreeMap::new();
    for answer in answers {
        let (counts, passes) = tested.entry(answer.device).or_default();
        counts.add(&answer.verdict);
        let device = estate.device(answer.device).name.as_str();
        match answer.verdict {
            Verdict::Fail(fail) => {
                let print = fingerprint(check.id, device, &answer.subject, &mut said.seen);
                fails.push((device, fail, print, (answer.device, answer.subject)));
            }
            Verdict::Undetermined(question) => {
                let about = (answer.device, answer.subject);
                said.questions.push(open_question(estate, texts, check, device, about, question));
            }
            Verdict::Pass(held) => passes.push(held),
            Verdict::DoesNotApply => {}
        }
    }
    // Quoting and masking lines is most of the work, and each finding's is its own.
    let quoted = fails.into_par_iter().map(|(device, fail, print, about)| {
        Box::new(finding(estate, texts, check, device, fail, print, about))
    });
    said.findings = quoted.collect();
    said.questions.shrink_to_fit();
    let row = |(device, (counts, passes))| Tested {
        check: check.id,
        area: check.area,
        device: texts.hold(&estate.device(device).name),
        counts,
        passes,
    };
    said.tested = tested.into_iter().map(row).collect();
    if estate.answers.is_empty() {
        said.seen.clear();
    }
    said
}

fn count(
    findings: &[Box<Finding>],
    tested: &[Tested],
    checks: &[&str],
    lacking: &[(Arc<str>, Lacks)],
) -> Summary {
    let mut summary = Summary { tested: tested::sum(tested), ..Summary::default() };
    let needs: BTreeSet<Need> =
        checks.iter().filter_map(|id| find(id)).flat_map(|check| check.needs).copied().collect();
    let incomplete = lacking.iter().filter(|(_, lacks)| lacks.iter().any(|need| needs.contains(&need)));
    summary.tested.incomplete_systems = incomplete.count();
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
