//! Texts of a report: the templates only lay it out.
//!
//! Long because one type has a field for everything that a template may use.

use super::layout::Layout;
use super::tested::TestedView;
use crate::alike::{self, Place};
use crate::counted;
use crate::requests::{Request, addressee, merged};
use crate::text::{answered, idle, said, short, stale};
use crate::top_findings::{self, few};
use crate::{picture, sanitize};
use indexmap::IndexMap;
use minijinja::Error;
use rayon::prelude::*;
use serde::Serialize;
use std::cmp::Reverse;
use std::collections::{BTreeMap, BTreeSet};
use trevlin_audit::coverage::{ControlSheet, Coverage};
use trevlin_audit::exposure::protection::Protection;
use trevlin_audit::logins::LoginPath;
use trevlin_audit::tables::addresses::Sheet;
use trevlin_audit::tables::exposure::ExposureSheet;
use trevlin_audit::tables::rules::RulesSheet;
use trevlin_audit::tables::services::ServedRow;
use trevlin_audit::tables::tunnels::TunnelRow;
use trevlin_audit::{
    Area, BaselineRow, DeviceSummary, ExportSummary, Finding, LeftOutFile, Outcome, Severity, Status,
};
use trevlin_audit::{LoginVerdict, ReportEntry};
use trevlin_model::DeviceKind;

/// Everything that a report is made from.
#[derive(Debug, Clone, Copy)]
pub struct Report<'a> {
    /// Title, client and the like, as the front page states them; the title may be missing.
    pub front: &'a ReportEntry,
    /// The name of the estate, for a title that is not stated.
    pub estate: &'a str,
    /// Results of the checks.
    pub outcome: &'a Outcome,
    /// Login paths.
    pub logins: &'a [LoginPath],
    /// Tunnels.
    pub tunnels: &'a [TunnelRow],
    /// Services of the devices.
    pub services: &'a [ServedRow],
    /// Rules of packet filters.
    pub rules: &'a RulesSheet,
    /// Services reachable from the Internet; none where no interface is known to face it.
    pub exposure: Option<&'a ExposureSheet>,
    /// The address plan.
    pub plan: &'a Sheet,
    /// The thresholds that were used.
    pub baseline: &'a [BaselineRow],
    /// Coverage.
    pub coverage: &'a Coverage,
    /// Controls of the catalogues that the report is to show.
    pub sheets: &'a [ControlSheet<'a>],
}

/// A report as words.
#[derive(Debug, Serialize)]
pub(super) struct View {
    title: String,
    /// Rows of the front page: name and value.
    front: Vec<[String; 2]>,
    classification: String,
    as_of: String,
    version: &'static str,
    /// The executive summary, in sentences.
    lead: Vec<String>,
    actions: Vec<Action>,
    good: Vec<String>,
    gaps: Vec<String>,
    severities: Vec<Count>,
    matrix: Vec<AreaCount>,
    devices: Vec<DeviceView>,
    areas: Vec<AreaView>,
    /// Laid out.
    accepted: String,
    stale: Vec<String>,
    questions: Vec<QuestionsView>,
    answers: Vec<[String; 2]>,
    tables: Vec<TableView>,
    unread: Vec<UnreadView>,
    unknown: Vec<String>,
    left_out: Vec<[String; 2]>,
    baseline: Vec<[String; 3]>,
    exposure_svg: Option<String>,
    plan_svg: Option<String>,
    tested: TestedView,
}

/// One of the most important actions: the remedy of a check with findings.
#[derive(Debug, Serialize)]
struct Action {
    severity: &'static str,
    title: &'static str,
    count: usize,
    devices: String,
    remedy: &'static str,
    /// The id of the check, as the anchor of its section.
    anchor: String,
}

#[derive(Debug, Serialize)]
struct Count {
    word: &'static str,
    count: usize,
}

#[derive(Debug, Serialize)]
struct AreaCount {
    word: &'static str,
    question: &'static str,
    /// By severity, the highest first.
    counts: Vec<usize>,
    total: usize,
}

#[derive(Debug, Serialize)]
struct DeviceView {
    name: String,
    kind: &'static str,
    exports: usize,
    lines: u32,
    understood: u32,
    not_understood: u32,
    findings: usize,
    worst: &'static str,
}

#[derive(Debug, Serialize)]
struct AreaView {
    word: &'static str,
    question: &'static str,
    /// Laid out.
    checks: String,
}

/// The findings of one check, with their common text.
#[derive(Debug, Serialize)]
struct CheckView {
    id: &'static str,
    anchor: String,
    title: &'static str,
    /// The highest of them.
    severity: &'static str,
    count: usize,
    devices: String,
    why: &'static str,
    judged: &'static str,
    remedy: &'static str,
    references: String,
    findings: Vec<FindingView>,
}

#[derive(Debug, Serialize)]
struct FindingView {
    number: usize,
    severity: &'static str,
    device: String,
    title: String,
    detail: String,
    rated: String,
    places: Vec<PlaceView>,
    fingerprint: String,
    /// Owner of the accepted risk.
    by: Option<String>,
    /// Whether the acceptance has expired.
    expired: bool,
}

#[derive(Debug, Serialize)]
struct PlaceView {
    path: String,
    /// Number, text, and whether it is the line to cite.
    lines: Vec<(u32, String, bool)>,
}

/// The requests to one administrator.
#[derive(Debug, Serialize)]
struct QuestionsView {
    addressee: String,
    items: Vec<QuestionView>,
}

#[derive(Debug, Serialize)]
struct QuestionView {
    text: String,
    place: String,
    checks: String,
}

#[derive(Debug, Serialize)]
struct TableView {
    id: &'static str,
    title: &'static str,
    about: &'static str,
    /// Laid out.
    groups: String,
}

/// A table before it is laid out.
struct Table {
    id: &'static str,
    title: &'static str,
    about: &'static str,
    heads: Vec<&'static str>,
    groups: Vec<Group>,
}

impl Table {
    fn laid(self, layout: &Layout) -> Result<TableView, Error> {
        let groups = layout.groups(self.title, &self.heads, &self.groups)?;
        Ok(TableView { id: self.id, title: self.title, about: self.about, groups })
    }
}

#[derive(Debug, Serialize)]
struct Group {
    name: String,
    rows: Vec<Vec<String>>,
}

#[derive(Debug, Serialize)]
struct UnreadView {
    path: String,
    format: String,
    lines: u32,
    not_understood: u32,
    notes: Vec<(u32, String)>,
}

fn plain(text: &str) -> String {
    sanitize(text).into_owned()
}

/// Files of no known format are mostly not intended as exports.
fn is_known(export: &&ExportSummary) -> bool {
    export.format != "unknown"
}

/// Files of no known format that may configure something.
fn is_unsupported(export: &&ExportSummary) -> bool {
    !is_known(export) && export.not_understood > 0
}

/// Actions in the executive summary.
const ACTIONS: usize = 5;
/// Number of devices named for a check.
const NAMED: usize = 4;

impl View {
    /// Everything but findings and tables as words, and these laid out already.
    pub(super) fn of(report: &Report<'_>, layout: &Layout) -> Result<Self, Error> {
        let outcome = report.outcome;
        let mut number = 0;
        let mut by_area = Vec::new();
        for area in Area::ALL {
            let of = |one: &&Finding| one.area == area && one.status == Status::Open;
            let checks = by_check(outcome.findings().filter(of), &mut number);
            if !checks.is_empty() {
                by_area.push((area, checks));
            }
        }
        let accepted = outcome.findings().filter(|one| one.status == Status::Accepted);
        let accepted = by_check(accepted, &mut number);
        let laid = |checks: &[Numbered<'_>]| {
            let internet: Vec<CheckView> = checks.par_iter().map(Numbered::view).collect();
            layout.findings(&internet)
        };
        let area = |(area, checks): (Area, Vec<Numbered<'_>>)| {
            let checks = laid(&checks)?;
            Ok(AreaView { word: area.word(), question: area.question(), checks })
        };
        let areas = || by_area.into_iter().map(area).collect::<Result<Vec<_>, Error>>();
        let tables: [fn(&Report<'_>) -> Table; 4] = [logins, tunnels, services, rules];
        let tables = || {
            let laid = tables.into_par_iter().map(|table| table(report).laid(layout));
            laid.collect::<Result<Vec<_>, Error>>()
        };
        let exposure_svg = || {
            let known = report.exposure.filter(|one| !one.starts.is_empty());
            (known.map(picture::exposure_svg), unread(outcome))
        };
        let plan_svg = || {
            let svg = (!report.plan.allocations.is_empty()).then(|| picture::addresses_svg(report.plan));
            (svg, questions(outcome))
        };
        let ((areas, tables), ((exposure_svg, unread), (plan_svg, questions))) =
            rayon::join(|| rayon::join(areas, tables), || rayon::join(exposure_svg, plan_svg));
        Ok(Self {
            title: plain(report.front.title.as_deref().unwrap_or(&format!("Audit of {}", report.estate))),
            front: front(report),
            classification: plain(report.front.classification.as_deref().unwrap_or_default()),
            as_of: outcome.as_of.clone(),
            version: env!("CARGO_PKG_VERSION"),
            lead: lead(report),
            actions: actions(outcome),
            good: good(report),
            gaps: gaps(report),
            severities: severities(outcome),
            matrix: matrix(outcome),
            devices: devices(outcome),
            areas: areas?,
            accepted: laid(&accepted)?,
            stale: outcome
                .acceptances
                .iter()
                .filter_map(stale)
                .chain(outcome.answers.iter().filter_map(idle))
                .map(|text| plain(&text))
                .collect(),
            questions,
            answers: answers(outcome),
            tables: tables?.into_iter().filter(|table| !table.groups.is_empty()).collect(),
            unread,
            left_out: LeftOutFile::grouped(&outcome.left_out)
                .iter()
                .map(|one| [plain(&one.path), plain(&one.why)])
                .collect(),
            unknown: exports(outcome).filter(is_unsupported).map(|one| plain(&one.path)).collect(),
            baseline: report
                .baseline
                .iter()
                .map(|row| {
                    let whose = row.device.as_ref().map(|device| format!(", on {}", plain(device)));
                    let about = format!("{}{}", row.about, whose.unwrap_or_default());
                    [about, row.value.clone(), plain(&row.source)]
                })
                .collect(),
            exposure_svg,
            plan_svg,
            tested: TestedView::of(report.coverage, report.sheets),
        })
    }
}

/// Rows of the front page: the stated entries, and the date.
fn front(report: &Report<'_>) -> Vec<[String; 2]> {
    let front = report.front;
    let devices = counted(report.outcome.devices.len(), "device");
    let scope = front.scope.clone().unwrap_or_else(|| format!("Exported configurations of {devices}"));
    let stated = report.coverage.scope.as_ref();
    let period = front.period.clone().or_else(|| stated?.period());
    let rows = [
        ("Client", front.client.clone()),
        ("Scope", Some(scope)),
        ("Period", period),
        ("Reference date", Some(report.outcome.as_of.clone())),
        ("Author", front.author.clone()),
        ("Version", front.version.clone()),
        ("Classification", front.classification.clone()),
    ];
    rows.into_iter().filter_map(|(name, value)| Some([name.to_owned(), plain(&value?)])).collect()
}

/// The findings of one check, with the number of the first.
struct Numbered<'a> {
    first: usize,
    findings: Vec<&'a Finding>,
}

/// Findings by check: those with higher severities first, and of equal ones those with more findings.
fn by_check<'a>(findings: impl Iterator<Item = &'a Finding>, number: &mut usize) -> Vec<Numbered<'a>> {
    let mut checks: IndexMap<&str, Vec<&Finding>> = IndexMap::new();
    for one in findings {
        checks.entry(one.check).or_default().push(one);
    }
    let mut checks: Vec<Vec<&Finding>> = checks.into_values().collect();
    let top = |all: &[&Finding]| all.iter().map(|one| one.severity).max();
    checks.sort_by_key(|all| (Reverse(top(all)), Reverse(all.len())));
    let numbered = checks.into_iter().map(|findings| {
        let first = *number + 1;
        *number += findings.len();
        Numbered { first, findings }
    });
    numbered.collect()
}

/// A check's id as an anchor.
fn anchor(id: &str) -> String {
    id.replace('/', "-")
}

/// Names of the devices of findings, the first few.
fn devices_of(findings: &[&Finding]) -> String {
    let mut names: Vec<String> = Vec::new();
    for one in findings {
        let name = plain(&one.device);
        if !names.contains(&name) {
            names.push(name);
        }
    }
    few(&names, NAMED)
}

impl Numbered<'_> {
    fn view(&self) -> CheckView {
        let first = self.findings[0];
        let check = trevlin_audit::checks::find(first.check);
        let top = self.findings.iter().map(|one| one.severity).max().unwrap_or(first.severity);
        CheckView {
            id: first.check,
            anchor: anchor(first.check),
            title: check.map_or(first.check, |check| check.title),
            severity: top.word(),
            count: self.findings.len(),
            devices: devices_of(&self.findings),
            why: first.why,
            judged: check.map_or("", |check| check.judged),
            remedy: first.remedy,
            references: first.references.to_string(),
            findings: (self.first..).zip(&self.findings).map(|(number, one)| finding(number, one)).collect(),
        }
    }
}

fn finding(number: usize, one: &Finding) -> FindingView {
    let acceptance = one.acceptance.as_deref();
    FindingView {
        number,
        severity: one.severity.word(),
        device: plain(&one.device),
        title: plain(&one.title),
        detail: plain(&one.detail),
        rated: plain(&one.why_this_severity),
        places: alike::places(&one.evidence).iter().map(|file| places(file)).collect(),
        fingerprint: short(&one.fingerprint).to_owned(),
        by: acceptance.map(|one| plain(&answered(one))),
        expired: acceptance.is_some_and(|one| one.expired),
    }
}

/// Lines of one file; one that two places hold is shown once.
fn places(all: &[Place<'_>]) -> PlaceView {
    let mut lines: Vec<(u32, String, bool)> = Vec::new();
    for place in all {
        for (number, text) in (place.line.line..).zip(place.line.excerpt.lines()) {
            if lines.last().is_none_or(|(last, ..)| *last < number) {
                lines.push((number, plain(text.trim_end()), place.cited));
            }
        }
    }
    PlaceView { path: all.first().map(|one| plain(&one.line.path)).unwrap_or_default(), lines }
}

fn exports(outcome: &Outcome) -> impl Iterator<Item = &ExportSummary> {
    outcome.devices.iter().flat_map(|device| &device.exports)
}

fn lead(report: &Report<'_>) -> Vec<String> {
    let outcome = report.outcome;
    let mut kinds: BTreeMap<DeviceKind, usize> = BTreeMap::new();
    for device in &outcome.devices {
        *kinds.entry(device.kind).or_default() += 1;
    }
    let unknown = kinds.remove(&DeviceKind::Unknown).unwrap_or(0);
    // Storage is no word for one of several.
    let several = |kind, count| match (kind, count) {
        (DeviceKind::Storage, 2..) => format!("{count} storage appliances"),
        (kind, count) => counted(count, kind.word()),
    };
    let mut of: Vec<String> = kinds.iter().map(|(kind, count)| several(*kind, *count)).collect();
    if unknown > 0 {
        of.push(format!("{unknown} of unknown kind"));
    }
    let known: Vec<&ExportSummary> = exports(outcome).filter(is_known).collect();
    let lines: u64 = known.iter().map(|one| u64::from(one.lines)).sum();
    let missed: u64 = known.iter().map(|one| u64::from(one.not_understood)).sum();
    let mut told = vec![format!(
        "{} audited: {}. {} with {lines} lines {} read; {} not understood.",
        match outcome.devices.len() {
            1 => "One device was".to_owned(),
            count => format!("{count} devices were"),
        },
        few(&of, usize::MAX),
        counted(known.len(), "export"),
        if known.len() == 1 { "was" } else { "were" },
        match missed {
            0 => "none was".to_owned(),
            1 => "one was".to_owned(),
            _ => format!("{missed} were"),
        },
    )];
    let open = outcome.findings.len() - outcome.summary.accepted;
    let by: Vec<String> = severities(outcome)
        .iter()
        .filter(|one| one.count > 0)
        .map(|one| format!("{} {}", one.count, one.word))
        .collect();
    told.push(match open {
        0 => "No finding is open.".to_owned(),
        1 => format!("One finding is open, of {} severity.", severest(outcome)),
        _ => format!("{open} findings are open: {}.", few(&by, usize::MAX)),
    });
    if outcome.summary.accepted > 0 {
        told.push(match outcome.summary.accepted {
            1 => "One further finding is accepted.".to_owned(),
            count => format!("{count} further findings are accepted."),
        });
    }
    told.extend(reached(report.exposure));
    let guessable = report
        .logins
        .iter()
        .filter(|row| matches!(row.verdict, LoginVerdict::Nothing | LoginVerdict::OneFactor))
        .count();
    if !report.logins.is_empty() {
        told.push(format!(
            "{guessable} of {} {} a single factor or none.",
            counted(report.logins.len(), "login path"),
            if guessable == 1 { "accepts" } else { "accept" }
        ));
    }
    if !report.plan.overlaps.is_empty() {
        told.push(format!(
            "Address allocations overlap in {}.",
            counted(report.plan.overlaps.len(), "place")
        ));
    }
    told
}

/// The word of the highest severity of an open finding.
fn severest(outcome: &Outcome) -> &'static str {
    severities(outcome).into_iter().find(|one| one.count > 0).map_or("no", |one| one.word)
}

fn reached(exposure: Option<&ExposureSheet>) -> Option<String> {
    let sheet = exposure.filter(|one| !one.starts.is_empty())?;
    let count =
        |protection: Protection| sheet.reached.iter().filter(|one| one.protection == protection).count();
    let parts = [
        (Protection::Unprotected, "unprotected"),
        (Protection::Weak, "weak"),
        (Protection::Undetermined, "undetermined"),
        (Protection::Protected, "protected"),
        (Protection::Limited, "limited to some sources"),
    ];
    let told: Vec<String> = parts
        .into_iter()
        .filter(|(protection, _)| count(*protection) > 0)
        .map(|(protection, how)| format!("{} {how}", count(protection)))
        .collect();
    Some(match sheet.reached.len() {
        0 => "No known service is reachable from the Internet.".to_owned(),
        1 => format!("One service is reachable from the Internet: {}.", few(&told, usize::MAX)),
        all => format!("{all} services are reachable from the Internet: {}.", few(&told, usize::MAX)),
    })
}

/// The most important actions: remedies of the checks with the highest severities.
fn actions(outcome: &Outcome) -> Vec<Action> {
    let one = |group: top_findings::Group<'_>| {
        let check = group.first.check;
        Action {
            severity: group.first.severity.word(),
            title: trevlin_audit::checks::find(check).map_or("", |check| check.title),
            count: group.all.len(),
            devices: devices_of(&group.all),
            remedy: group.first.remedy,
            anchor: anchor(check),
        }
    };
    top_findings::top_findings(outcome, Severity::Medium).into_iter().take(ACTIONS).map(one).collect()
}

/// Properties that the exports show to be in order.
fn good(report: &Report<'_>) -> Vec<String> {
    let outcome = report.outcome;
    let mut good = Vec::new();
    let counts = report.coverage.counts();
    if counts.passed > 0 {
        good.push(format!("{} of {} tested subjects are in order.", counts.passed, counts.judged()));
    }
    let severe = |one: &&Finding| one.status == Status::Open && one.severity >= Severity::High;
    let affected: BTreeSet<&str> = outcome.findings().filter(severe).map(|one| &*one.device).collect();
    let sound: Vec<String> = outcome
        .devices
        .iter()
        .filter(|one| !affected.contains(one.name.as_str()))
        .map(|one| plain(&one.name))
        .collect();
    if !sound.is_empty() {
        let verb = if sound.len() == 1 { "has" } else { "have" };
        good.push(format!("{} {verb} no finding of high or critical severity.", few(&sound, NAMED)));
    }
    let areas: Vec<&str> = Area::ALL
        .into_iter()
        .filter(|area| !outcome.findings().filter(severe).any(|one| one.area == *area))
        .map(Area::word)
        .collect();
    if !areas.is_empty() {
        let noun = if areas.len() == 1 { "area" } else { "areas" };
        good.push(format!(
            "No finding of high or critical severity in the {noun} {}.",
            few(&areas, usize::MAX)
        ));
    }
    let strong = report.logins.iter().filter(|row| row.verdict == LoginVerdict::TwoFactors).count();
    if strong > 0 {
        let all = report.logins.len();
        good.push(format!("{strong} of {all} login paths require two factors."));
    }
    if let Some(sheet) = report.exposure.filter(|one| !one.starts.is_empty()) {
        let of = |wanted| sheet.reached.iter().filter(|one| one.protection == wanted).count();
        let protected = of(Protection::Protected);
        if protected > 0 {
            let all = sheet.reached.len();
            good.push(format!(
                "{protected} of {all} services reachable from the Internet are encrypted and require a login that cannot be guessed."
            ));
        }
    }
    good
}

/// Subjects that could not be judged.
fn gaps(report: &Report<'_>) -> Vec<String> {
    let outcome = report.outcome;
    let mut gaps = Vec::new();
    match merged(&outcome.open_questions).len() {
        0 => {}
        1 => gaps.push("One information request is open; its answer may change findings.".to_owned()),
        count => {
            gaps.push(format!("{count} information requests are open; their answers may change findings."))
        }
    }
    let missed: u64 = exports(outcome).filter(is_known).map(|one| u64::from(one.not_understood)).sum();
    match missed {
        0 => {}
        1 => gaps.push("One line of the exports was not understood.".to_owned()),
        count => gaps.push(format!("{count} lines of the exports were not understood.")),
    }
    let unknown = exports(outcome).filter(is_unsupported).count();
    match unknown {
        0 => {}
        1 => gaps.push("One file has an unsupported format.".to_owned()),
        count => gaps.push(format!("{count} files have unsupported formats.")),
    }
    match outcome.left_out.len() {
        0 => {}
        1 => gaps.push("One file or folder was not read.".to_owned()),
        count => gaps.push(format!("{count} files or folders were not read.")),
    }
    if report.exposure.is_none_or(|one| one.starts.is_empty()) {
        gaps.push("No interface is known to face the Internet, so exposure was not judged.".to_owned());
    }
    gaps
}

/// The highest first.
fn by_severity() -> impl Iterator<Item = Severity> {
    let mut all = Severity::ALL;
    all.sort_by_key(|one| std::cmp::Reverse(*one));
    all.into_iter()
}

fn severities(outcome: &Outcome) -> Vec<Count> {
    let count = |one: Severity| outcome.summary.by_severity.get(one.word()).copied().unwrap_or_default();
    by_severity().map(|one| Count { word: one.word(), count: count(one) }).collect()
}

fn matrix(outcome: &Outcome) -> Vec<AreaCount> {
    let row = |area: Area| {
        let of = |severity: Severity| {
            let counts =
                |one: &&Finding| one.area == area && one.severity == severity && one.status == Status::Open;
            outcome.findings().filter(counts).count()
        };
        let counts: Vec<usize> = by_severity().map(of).collect();
        AreaCount { word: area.word(), question: area.question(), total: counts.iter().sum(), counts }
    };
    Area::ALL.into_iter().map(row).collect()
}

fn devices(outcome: &Outcome) -> Vec<DeviceView> {
    let mut open: BTreeMap<&str, (usize, Severity)> = BTreeMap::new();
    for one in outcome.findings().filter(|one| one.status == Status::Open) {
        let (count, worst) = open.entry(&one.device).or_insert((0, one.severity));
        (*count, *worst) = (*count + 1, one.severity.max(*worst));
    }
    outcome.devices.iter().map(|one| device(one, open.get(one.name.as_str()).copied())).collect()
}

/// A device with the number of its open findings, and their highest severity.
fn device(one: &DeviceSummary, open: Option<(usize, Severity)>) -> DeviceView {
    let known: Vec<&ExportSummary> = one.exports.iter().filter(is_known).collect();
    DeviceView {
        name: plain(&one.name),
        kind: one.kind.word(),
        exports: known.len(),
        lines: known.iter().map(|one| one.lines).sum(),
        understood: known.iter().map(|one| one.understood).sum(),
        not_understood: known.iter().map(|one| one.not_understood).sum(),
        findings: open.map_or(0, |(count, _)| count),
        worst: open.map_or("", |(_, worst)| worst.word()),
    }
}

/// Settled requests, with their answers.
fn answers(outcome: &Outcome) -> Vec<[String; 2]> {
    let settled =
        outcome.answers.iter().flat_map(|one| one.settles.iter().map(move |question| (question, one)));
    settled.map(|(question, one)| [plain(question), plain(&said(one))]).collect()
}

fn questions(outcome: &Outcome) -> Vec<QuestionsView> {
    let mut sections: IndexMap<String, Vec<QuestionView>> = IndexMap::new();
    let mut all = merged(&outcome.open_questions);
    all.sort_by(|a, b| {
        let key = |one: &Request<'_>| (one.first.estate_wide, one.first.device.clone());
        key(a).cmp(&key(b))
    });
    for one in all {
        sections.entry(plain(addressee(one.first))).or_default().push(QuestionView {
            text: plain(&one.text),
            place: one
                .first
                .evidence
                .first()
                .map(|at| plain(&format!("{}:{}", at.path, at.line)))
                .unwrap_or_default(),
            checks: one.checks.join(", "),
        });
    }
    sections.into_iter().map(|(addressee, items)| QuestionsView { addressee, items }).collect()
}

/// Rows by device.
fn grouped(rows: impl IntoIterator<Item = (String, Vec<String>)>) -> Vec<Group> {
    let mut groups: Vec<Group> = Vec::new();
    for (name, row) in rows {
        let (name, row) = (plain(&name), row.iter().map(|cell| plain(cell)).collect());
        match groups.last_mut().filter(|group| group.name == name) {
            Some(group) => group.rows.push(row),
            None => groups.push(Group { name, rows: vec![row] }),
        }
    }
    groups
}

fn logins(report: &Report<'_>) -> Table {
    Table {
        id: "logins-table",
        title: "Login paths",
        about: "Service, users, identity source, factors, reachability, limits and verdict.",
        heads: crate::logins::HEADS.to_vec(),
        groups: grouped(
            report.logins.iter().map(|row| (row.device.clone(), crate::logins::cells(row).to_vec())),
        ),
    }
}

fn tunnels(report: &Report<'_>) -> Table {
    Table {
        id: "tunnels-table",
        title: "Tunnels",
        about: "Peers, authentication, weakest algorithm offered, routes and pools.",
        heads: crate::tunnels::HEADS.to_vec(),
        groups: grouped(
            report.tunnels.iter().map(|row| (row.device.clone(), crate::tunnels::cells(row).to_vec())),
        ),
    }
}

fn services(report: &Report<'_>) -> Table {
    let cells = |row: &ServedRow| {
        let (at, protected, reached) = crate::services::told(row);
        (row.device.clone(), vec![row.name.clone(), at, protected, reached, row.open.join("; ")])
    };
    Table {
        id: "services-table",
        title: "Services",
        about: "Listeners, protection, permitted sources and reachability.",
        heads: vec!["service", "where", "protection", "reachable from", "not known"],
        groups: grouped(report.services.iter().map(cells)),
    }
}

fn rules(report: &Report<'_>) -> Table {
    let mut rows = Vec::new();
    for filter in &report.rules.filters {
        for chain in &filter.chains {
            let name = format!("{}: {}, {} ({})", filter.device, filter.table, chain.name, filter.path);
            rows.extend(
                chain.rules.iter().map(|row| (name.clone(), crate::rules::cells(row, &filter.path).to_vec())),
            );
        }
    }
    Table {
        id: "rules-table",
        title: "Packet filter rules",
        about: "By device, table and chain, in order: breadth, effective share and assessment.",
        heads: crate::rules::HEADS.to_vec(),
        groups: grouped(rows),
    }
}

fn unread(outcome: &Outcome) -> Vec<UnreadView> {
    let told = |one: &&ExportSummary| is_known(one) && (one.not_understood > 0 || !one.notes.is_empty());
    let view = |one: &ExportSummary| UnreadView {
        path: plain(&one.path),
        format: plain(one.format),
        lines: one.lines,
        not_understood: one.not_understood,
        notes: one.notes.iter().map(|note| (note.line, plain(&note.text))).collect(),
    };
    exports(outcome).filter(told).map(view).collect()
}
