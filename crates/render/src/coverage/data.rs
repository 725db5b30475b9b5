//! Coverage as JSON and CSV.

use super::{CoverageView, justification, proof};
use crate::addresses::no_formula;
use crate::sanitize;
use serde::Serialize;
use std::io;
use trevlin_audit::coverage::{
    CheckCoverage, CheckRow, CheckState, ControlRow, ControlSheet, ControlSystem, Coverage, Gap,
    PassEvidence, Standing, State, SystemCoverage,
};
use trevlin_audit::{AnswerCounts, Need, Scope};

#[derive(Serialize)]
struct Document<'a> {
    schema: &'static str,
    as_of: &'a str,
    #[serde(skip_serializing_if = "Option::is_none")]
    scope: Option<&'a Scope>,
    summary: Summary,
    open: &'a [String],
    systems: Vec<System<'a>>,
    checks: Vec<CheckView<'a>>,
    catalogues: Vec<CatalogueView<'a>>,
}

#[derive(Serialize)]
struct Summary {
    systems: usize,
    checks: usize,
    #[serde(flatten)]
    counts: AnswerCounts,
}

#[derive(Serialize)]
struct System<'a> {
    name: &'a str,
    standing: Standing,
    #[serde(skip_serializing_if = "Option::is_none")]
    reason: Option<&'a str>,
    #[serde(flatten)]
    counts: AnswerCounts,
    checks_not_judged: usize,
    gaps: &'a [Gap],
    lacks: Vec<Need>,
}

#[derive(Serialize)]
struct CheckView<'a> {
    check: &'static str,
    title: &'static str,
    area: &'static str,
    #[serde(flatten)]
    counts: AnswerCounts,
    accepted: usize,
    systems_not_judged: usize,
    needs: &'static [Need],
    systems: Vec<RowView<'a>>,
}

#[derive(Serialize)]
struct RowView<'a> {
    system: &'a str,
    #[serde(flatten)]
    counts: AnswerCounts,
    #[serde(skip_serializing_if = "<[_]>::is_empty")]
    passes: &'a [PassEvidence],
}

#[derive(Serialize)]
struct CatalogueView<'a> {
    name: &'a str,
    title: &'a str,
    met: usize,
    not_met: usize,
    partly_judged: usize,
    not_judged: usize,
    not_visible: usize,
    #[serde(skip_serializing_if = "Vec::is_empty")]
    controls: Vec<ControlView<'a>>,
}

#[derive(Serialize)]
struct ControlView<'a> {
    id: &'a str,
    requirement: &'a str,
    judged_part: &'a str,
    state: State,
    #[serde(flatten)]
    counts: AnswerCounts,
    accepted: usize,
    systems_not_judged: usize,
    paths_unknown: bool,
    basis: String,
    checks: &'a [CheckState],
    systems: Vec<ControlSystemView<'a>>,
}

#[derive(Serialize)]
struct ControlSystemView<'a> {
    system: &'a str,
    #[serde(flatten)]
    row: &'a ControlSystem,
}

/// The coverage as one JSON object, schema `trevlin-coverage/1`.
///
/// # Errors
/// When writing fails.
pub fn coverage_json(view: &CoverageView<'_>, out: &mut dyn io::Write) -> io::Result<()> {
    let coverage = view.coverage;
    let document = Document {
        schema: "trevlin-coverage/1",
        as_of: &coverage.as_of,
        scope: coverage.scope.as_ref(),
        summary: Summary {
            systems: coverage.in_scope().count(),
            checks: coverage.checks.len(),
            counts: coverage.counts(),
        },
        open: &coverage.open,
        systems: coverage.systems.iter().map(system).collect(),
        checks: coverage.checks.iter().map(|one| check(coverage, one)).collect(),
        catalogues: view.sheets.iter().map(|sheet| catalogue(view, sheet)).collect(),
    };
    crate::json::write(&document, out)
}

fn system(one: &SystemCoverage) -> System<'_> {
    System {
        name: &one.name,
        standing: one.standing,
        reason: one.reason.as_deref(),
        counts: one.counts,
        checks_not_judged: one.not_judged,
        gaps: &one.gaps,
        lacks: one.lacks.iter().collect(),
    }
}

fn check<'a>(coverage: &'a Coverage, one: &'a CheckCoverage) -> CheckView<'a> {
    let row = |row: &'a CheckRow| RowView {
        system: &coverage.systems[row.system].name,
        counts: row.counts,
        passes: &row.quoted,
    };
    CheckView {
        check: one.check.id,
        title: one.check.title,
        area: one.check.area.word(),
        counts: one.counts,
        accepted: one.accepted,
        systems_not_judged: one.not_judged,
        needs: one.check.needs,
        systems: one.rows.iter().map(row).collect(),
    }
}

fn catalogue<'a>(view: &CoverageView<'a>, sheet: &'a ControlSheet<'a>) -> CatalogueView<'a> {
    let coverage = view.coverage;
    let controls = if view.of_controls { sheet.rows.as_slice() } else { &[] };
    CatalogueView {
        name: &sheet.catalogue.name,
        title: &sheet.catalogue.title,
        met: sheet.count(State::Met),
        not_met: sheet.count(State::NotMet),
        partly_judged: sheet.count(State::PartlyJudged),
        not_judged: sheet.count(State::NotJudged),
        not_visible: sheet.invisible(),
        controls: controls.iter().map(|row| control(coverage, row)).collect(),
    }
}

fn control<'a>(coverage: &'a Coverage, row: &'a ControlRow<'a>) -> ControlView<'a> {
    let system =
        |one: &'a ControlSystem| ControlSystemView { system: &coverage.systems[one.system].name, row: one };
    ControlView {
        id: &row.control.id,
        requirement: &row.control.says,
        judged_part: &row.control.shows,
        state: row.state,
        counts: row.counts,
        accepted: row.accepted,
        systems_not_judged: row.not_judged,
        paths_unknown: row.paths_unknown,
        basis: justification(row, coverage),
        checks: &row.checks,
        systems: row.systems.iter().map(system).collect(),
    }
}

/// The coverage as CSV (RFC 4180): one row for each check and system or, where controls were requested, for each control: a statement of
/// applicability.
///
/// # Errors
/// When writing fails.
pub fn coverage_csv(view: &CoverageView<'_>, out: &mut dyn io::Write) -> io::Result<()> {
    let mut writer = csv::Writer::from_writer(out);
    let mut write = |cells: &[String]| -> io::Result<()> {
        writer.write_record(cells.iter().map(|cell| no_formula(&sanitize(cell)))).map_err(io::Error::other)
    };
    if view.of_controls {
        write(&CONTROL_HEADS.map(str::to_owned))?;
        for sheet in view.sheets {
            for row in &sheet.rows {
                write(&control_cells(view, sheet, row))?;
            }
        }
    } else {
        write(&CHECK_HEADS.map(str::to_owned))?;
        for one in &view.coverage.checks {
            check_rows(view, one, &mut write)?;
        }
    }
    writer.flush()
}

const CHECK_HEADS: [&str; 11] = [
    "area",
    "check",
    "title",
    "system",
    "failed",
    "undetermined",
    "passed",
    "not_applicable",
    "judged",
    "lacks",
    "passes",
];

fn check_rows(
    view: &CoverageView<'_>,
    one: &CheckCoverage,
    write: &mut impl FnMut(&[String]) -> io::Result<()>,
) -> io::Result<()> {
    let mut rows = one.rows.iter().peekable();
    for (number, system) in view.coverage.systems.iter().enumerate().filter(|(_, one)| one.counts_in()) {
        while rows.next_if(|row| row.system < number).is_some() {}
        let row = rows.next_if(|row| row.system == number);
        let counts = row.map(|row| row.counts).unwrap_or_default();
        let whole = system.is_judged_by(one.check) && system.is_complete();
        // Neither a subject nor anything that could have one.
        if row.is_none() && system.is_judged_by(one.check) {
            continue;
        }
        let lacks = one.check.needs.iter().filter(|need| system.lacks.has(**need));
        let mut lacks: Vec<String> = lacks.map(|need| need.short().to_owned()).collect();
        lacks.extend(system.gaps.iter().filter(|gap| gap.decides()).map(|gap| gap.kind.words().to_owned()));
        let passes: Vec<String> = row.iter().flat_map(|row| &row.quoted).map(proof).collect();
        write(&[
            one.check.area.word().to_owned(),
            one.check.id.to_owned(),
            one.check.title.to_owned(),
            system.name.to_string(),
            counts.failed.to_string(),
            counts.undetermined.to_string(),
            counts.passed.to_string(),
            counts.not_applicable.to_string(),
            if whole { "yes" } else { "not as a whole" }.to_owned(),
            lacks.join("; "),
            passes.join("; "),
        ])?;
    }
    Ok(())
}

const CONTROL_HEADS: [&str; 15] = [
    "catalogue",
    "control",
    "requirement",
    "judged_part",
    "applicable",
    "state",
    "failed",
    "undetermined",
    "passed",
    "accepted",
    "systems_not_judged",
    "basis",
    "checks",
    "systems",
    "evidence",
];

fn control_cells(view: &CoverageView<'_>, sheet: &ControlSheet<'_>, row: &ControlRow<'_>) -> Vec<String> {
    let coverage = view.coverage;
    let systems = row.systems.iter().filter(|one| one.counts.judged() > 0);
    let systems: Vec<&str> = systems.map(|one| &*coverage.systems[one.system].name).collect();
    let checks: Vec<&str> = row.checks.iter().map(|one| one.check).collect();
    // Whether it applies is the organisation's decision; exports show where it has something to apply to.
    let applicable = match (row.counts.judged(), row.not_judged) {
        (1.., _) => "yes",
        (0, _) if !row.control.is_visible() => "not visible in configurations",
        (0, 0) => "no subject in the exports",
        (0, _) => "not known",
    };
    let evidence = if view.passes { evidence_of(coverage, row) } else { Vec::new() };
    vec![
        sheet.catalogue.title.clone(),
        row.control.id.clone(),
        row.control.says.clone(),
        row.control.shows.clone(),
        applicable.to_owned(),
        row.state.words().to_owned(),
        row.counts.failed.to_string(),
        row.counts.undetermined.to_string(),
        row.counts.passed.to_string(),
        row.accepted.to_string(),
        row.not_judged.to_string(),
        justification(row, coverage),
        checks.join("; "),
        systems.join("; "),
        evidence.join("; "),
    ]
}

/// What makes subjects of a control's checks right: the first of each check and system.
pub(crate) fn evidence_of(coverage: &Coverage, row: &ControlRow<'_>) -> Vec<String> {
    let of = |one: &&CheckCoverage| row.checks.iter().any(|check| check.check == one.check.id);
    let rows = coverage.checks.iter().filter(of).flat_map(|one| &one.rows);
    let quoted = rows.filter(|row| coverage.systems[row.system].counts_in());
    quoted.filter_map(|row| row.quoted.first()).map(proof).collect()
}
