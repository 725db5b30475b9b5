//! What a report shows, as words: the templates only lay it out.
//!
//! Long because one type with a field for everything that a template may ask for.

use super::layout::Layout;
use crate::text::{answered, counted, idle, merged, said, short, stale};
use crate::top_findings::{self, few};
use crate::{picture, sanitize};
use minijinja::Error;
use rayon::prelude::*;
use serde::Serialize;
use std::collections::BTreeMap;
use trevlin_audit::LoginVerdict;
use trevlin_audit::exposure::protection::Protection;
use trevlin_audit::logins::LoginPath;
use trevlin_audit::tables::addresses::Sheet;
use trevlin_audit::tables::exposure::ExposureSheet;
use trevlin_audit::tables::rules::RulesSheet;
use trevlin_audit::tables::services::ServedRow;
use trevlin_audit::tables::tunnels::TunnelRow;
use trevlin_audit::{
    Area, BaselineRow, DeviceSummary, Evidence, ExportSummary, Finding, Outcome, Severity, Status,
};
use trevlin_model::DeviceKind;

/// Everything that a report is made from.
#[derive(Debug, Clone, Copy)]
pub struct Report<'a> {
    /// Whose estate it is.
    pub title: &'a str,
    /// What the checks say.
    pub outcome: &'a Outcome,
    /// Ways to log in.
    pub logins: &'a [LoginPath],
    /// Tunnels.
    pub tunnels: &'a [TunnelRow],
    /// What devices serve.
    pub services: &'a [ServedRow],
    /// Rules of packet filters.
    pub rules: &'a RulesSheet,
    /// What the outside reaches; none where nothing tells where the outside is.
    pub exposure: Option<&'a ExposureSheet>,
    /// The address plan.
    pub plan: &'a Sheet,
    /// The thresholds that were used.
    pub baseline: &'a [BaselineRow],
}

/// A report as words.
#[derive(Debug, Serialize)]
pub(super) struct View {
    title: String,
    as_of: String,
    version: &'static str,
    /// What was looked at and what stands out, in sentences.
    lead: Vec<String>,
    top_findings: Vec<Grave>,
    severities: Vec<Count>,
    matrix: Vec<AreaCount>,
    devices: Vec<DeviceView>,
    areas: Vec<AreaView>,
    /// Laid out.
    accepted: String,
    stale: Vec<String>,
    questions: Vec<QuestionView>,
    answers: Vec<[String; 2]>,
    tables: Vec<TableView>,
    unread: Vec<UnreadView>,
    unknown: Vec<String>,
    left_out: Vec<[String; 2]>,
    baseline: Vec<[String; 3]>,
    exposure_svg: Option<String>,
    plan_svg: Option<String>,
}

/// Findings of one check that stand out.
#[derive(Debug, Serialize)]
struct Grave {
    severity: &'static str,
    title: &'static str,
    count: usize,
    devices: String,
    first: usize,
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
    /// By severity, the gravest first.
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
    findings: String,
}

#[derive(Debug, Serialize)]
struct FindingView {
    number: usize,
    severity: &'static str,
    area: &'static str,
    device: String,
    title: String,
    detail: String,
    rated: String,
    places: Vec<PlaceView>,
    why: &'static str,
    remedy: &'static str,
    references: String,
    /// The finding that tells why and how to fix it, where one before this does.
    told_in: Option<usize>,
    check: &'static str,
    fingerprint: String,
    /// Who answers for it.
    by: Option<String>,
    /// Whether that has passed.
    expired: bool,
}

#[derive(Debug, Serialize)]
struct PlaceView {
    path: String,
    lines: Vec<(u32, String)>,
}

#[derive(Debug, Serialize)]
struct QuestionView {
    device: String,
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

/// Files of no known format are mostly what nobody meant to hand over.
fn is_known(export: &&ExportSummary) -> bool {
    export.format != "unknown"
}

/// The gravest that are named on the first page.
const GRAVEST: usize = 8;
/// Devices that are named beside one of them.
const NAMED: usize = 4;

impl View {
    /// Everything but findings and tables as words, and these laid out already.
    pub(super) fn of(report: &Report<'_>, layout: &Layout) -> Result<Self, Error> {
        let outcome = report.outcome;
        let mut numbers = Numbers::default();
        let mut by_area = Vec::new();
        for area in Area::ALL {
            let of = |one: &&Finding| one.area == area && one.status == Status::Open;
            let findings: Vec<_> = outcome.findings().filter(of).map(|one| numbers.number(one)).collect();
            if !findings.is_empty() {
                by_area.push((area, findings));
            }
        }
        let accepted = outcome.findings().filter(|one| one.status == Status::Accepted);
        let accepted: Vec<_> = accepted.map(|one| numbers.number(one)).collect();
        let laid = |numbered: &[Numbered<'_>]| {
            let views: Vec<FindingView> = numbered.par_iter().map(Numbered::view).collect();
            layout.findings(&views)
        };
        let area = |(area, findings): (Area, Vec<Numbered<'_>>)| {
            let findings = laid(&findings)?;
            Ok(AreaView { word: area.word(), question: area.question(), findings })
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
            title: plain(report.title),
            as_of: outcome.as_of.clone(),
            version: env!("CARGO_PKG_VERSION"),
            lead: lead(report),
            top_findings: top_findings(outcome, &numbers),
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
            left_out: outcome.left_out.iter().map(|one| [plain(&one.path), plain(&one.why)]).collect(),
            unknown: exports(outcome).filter(|one| !is_known(one)).map(|one| plain(&one.path)).collect(),
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
        })
    }
}

/// Numbers of findings, in the order in which they are told.
#[derive(Debug, Default)]
struct Numbers {
    count: usize,
    first_of: BTreeMap<&'static str, usize>,
}

impl Numbers {
    fn number<'a>(&mut self, finding: &'a Finding) -> Numbered<'a> {
        self.count += 1;
        let first = *self.first_of.entry(finding.check).or_insert(self.count);
        Numbered { number: self.count, first, finding }
    }
}

/// A finding with its number, and that of the first of its check.
struct Numbered<'a> {
    number: usize,
    first: usize,
    finding: &'a Finding,
}

impl Numbered<'_> {
    fn view(&self) -> FindingView {
        let (one, acceptance) = (self.finding, self.finding.acceptance.as_deref());
        FindingView {
            number: self.number,
            severity: one.severity.word(),
            area: one.area.word(),
            device: plain(&one.device),
            title: plain(&one.title),
            detail: plain(&one.detail),
            rated: plain(&one.why_this_severity),
            places: one.evidence.chunk_by(|a, b| a.path == b.path).map(places).collect(),
            why: one.why,
            remedy: one.remedy,
            references: one.references.to_string(),
            told_in: (self.first != self.number).then_some(self.first),
            check: one.check,
            fingerprint: short(&one.fingerprint).to_owned(),
            by: acceptance.map(|one| plain(&answered(one))),
            expired: acceptance.is_some_and(|one| one.expired),
        }
    }
}

fn places(all: &[Evidence]) -> PlaceView {
    let lines = |place: &Evidence| -> Vec<(u32, String)> {
        (place.line..).zip(place.excerpt.lines().map(|line| plain(line.trim_end()))).collect()
    };
    PlaceView {
        path: all.first().map(|one| plain(&one.path)).unwrap_or_default(),
        lines: all.iter().flat_map(lines).collect(),
    }
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
        of.push(format!("{unknown} of no stated kind"));
    }
    let known: Vec<&ExportSummary> = exports(outcome).filter(is_known).collect();
    let lines: u64 = known.iter().map(|one| u64::from(one.lines)).sum();
    let missed: u64 = known.iter().map(|one| u64::from(one.not_understood)).sum();
    let mut told = vec![format!(
        "{} looked at: {}. {} with {lines} lines {} read, of which {} not understood.",
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
        _ => format!(
            "{} open: {}.",
            if open == 1 { "One finding is".to_owned() } else { format!("{open} findings are") },
            few(&by, usize::MAX)
        ),
    });
    if outcome.summary.accepted > 0 {
        told.push(match outcome.summary.accepted {
            1 => "For one more somebody answers.".to_owned(),
            count => format!("For {count} more somebody answers."),
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
            "Of {} to log in {} for no more than one factor.",
            counted(report.logins.len(), "way"),
            if guessable == 1 { "one asks".to_owned() } else { format!("{guessable} ask") }
        ));
    }
    if !report.plan.overlaps.is_empty() {
        told.push(format!("Claims to addresses meet in {}.", counted(report.plan.overlaps.len(), "place")));
    }
    let questions = merged(&outcome.open_questions).len();
    if questions > 0 {
        told.push(format!(
            "{} for somebody to answer.",
            match questions {
                1 => "One question is left".to_owned(),
                _ => format!("{questions} questions are left"),
            }
        ));
    }
    told
}

fn reached(exposure: Option<&ExposureSheet>) -> Option<String> {
    let sheet = exposure.filter(|one| !one.starts.is_empty())?;
    let count =
        |protection: Protection| sheet.reached.iter().filter(|one| one.protection == protection).count();
    let parts = [
        (Protection::Unprotected, "with nothing fit to protect them"),
        (Protection::Weak, "protected by one factor that can be guessed"),
        (Protection::Undetermined, "of which it is not clear how they are protected"),
        (Protection::Protected, "encrypted and asking for what cannot be guessed"),
        (Protection::Limited, "for some callers only"),
    ];
    let told: Vec<String> = parts
        .into_iter()
        .filter(|(protection, _)| count(*protection) > 0)
        .map(|(protection, how)| format!("{} {how}", count(protection)))
        .collect();
    Some(match sheet.reached.len() {
        0 => "No service that is known is reached from outside.".to_owned(),
        1 => format!("One service is reached from outside: {}.", few(&told, usize::MAX)),
        all => format!("{all} services are reached from outside: {}.", few(&told, usize::MAX)),
    })
}

/// The checks with the gravest open findings.
fn top_findings(outcome: &Outcome, numbers: &Numbers) -> Vec<Grave> {
    let one = |group: top_findings::Group<'_>| {
        let devices: Vec<String> = group.devices().into_iter().map(plain).collect();
        let check = group.first.check;
        Grave {
            severity: group.first.severity.word(),
            title: trevlin_audit::checks::find(check).map_or("", |check| check.title),
            count: group.all.len(),
            devices: few(&devices, NAMED),
            first: numbers.first_of.get(check).copied().unwrap_or_default(),
        }
    };
    top_findings::top_findings(outcome, Severity::High).into_iter().take(GRAVEST).map(one).collect()
}

/// The gravest first.
fn by_gravity() -> impl Iterator<Item = Severity> {
    let mut all = Severity::ALL;
    all.sort_by_key(|one| std::cmp::Reverse(*one));
    all.into_iter()
}

fn severities(outcome: &Outcome) -> Vec<Count> {
    let count = |one: Severity| outcome.summary.by_severity.get(one.word()).copied().unwrap_or_default();
    by_gravity().map(|one| Count { word: one.word(), count: count(one) }).collect()
}

fn matrix(outcome: &Outcome) -> Vec<AreaCount> {
    let row = |area: Area| {
        let of = |severity: Severity| {
            let counts =
                |one: &&Finding| one.area == area && one.severity == severity && one.status == Status::Open;
            outcome.findings().filter(counts).count()
        };
        let counts: Vec<usize> = by_gravity().map(of).collect();
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

/// A device with how many findings are open on it, and the gravest of them.
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

/// Questions that are settled, with what was said.
fn answers(outcome: &Outcome) -> Vec<[String; 2]> {
    let settled =
        outcome.answers.iter().flat_map(|one| one.settles.iter().map(move |question| (question, one)));
    settled.map(|(question, one)| [plain(question), plain(&said(one))]).collect()
}

fn questions(outcome: &Outcome) -> Vec<QuestionView> {
    let view = |(one, checks): (&trevlin_audit::OpenQuestion, Vec<&str>)| QuestionView {
        device: plain(&one.device),
        text: plain(&one.question),
        place: one.evidence.first().map(|at| plain(&format!("{}:{}", at.path, at.line))).unwrap_or_default(),
        checks: checks.join(", "),
    };
    merged(&outcome.open_questions).into_iter().map(view).collect()
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
        title: "All ways to log in",
        about: "To what, who, from which list, with which factors.",
        heads: crate::logins::HEADS.to_vec(),
        groups: grouped(
            report.logins.iter().map(|row| (row.device.clone(), crate::logins::cells(row).to_vec())),
        ),
    }
}

fn tunnels(report: &Report<'_>) -> Table {
    Table {
        id: "tunnels-table",
        title: "All tunnels",
        about: "Protocol, who comes in, the weakest algorithm that may be used, what goes through.",
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
        title: "All services",
        about: "What listens where, how it is protected, and who reaches it.",
        heads: vec!["service", "where", "protection", "reached by", "not known"],
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
        title: "All rules of packet filters",
        about: "By device, table and chain, in order: what each lets through, and what is left of it behind those before.",
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
