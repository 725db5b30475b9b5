//! The chapters of a report on passed tests and on controls.

use super::markup::capitalized;
use crate::coverage::{few, gaps, justification, lacking, of_area, proof, scope_words, states, totals};
use crate::sanitize;
use serde::Serialize;
use trevlin_audit::Area;
use trevlin_audit::coverage::{CheckCoverage, ControlRow, ControlSheet, Coverage, State, SystemCoverage};

/// Coverage, as words.
#[derive(Debug, Serialize)]
pub(super) struct TestedView {
    totals: String,
    scope: Vec<String>,
    areas: Vec<TestedArea>,
    open: Vec<String>,
    /// Reasons with the systems they are about, and their title.
    reasons: Vec<(&'static str, Vec<[String; 2]>)>,
    catalogues: Vec<CatalogueView>,
}

#[derive(Debug, Serialize)]
struct TestedArea {
    word: String,
    rows: Vec<TestedRow>,
}

#[derive(Debug, Serialize)]
struct TestedRow {
    title: &'static str,
    passed: usize,
    failed: usize,
    undetermined: usize,
    /// Systems with subjects that pass.
    systems: String,
    /// The first of what proves them.
    proof: String,
}

#[derive(Debug, Serialize)]
struct CatalogueView {
    name: String,
    title: String,
    counts: String,
    /// Names of the columns of systems; none where there are too many.
    systems: Vec<String>,
    rows: Vec<ControlView>,
}

#[derive(Debug, Serialize)]
struct ControlView {
    id: String,
    says: String,
    shows: String,
    state: &'static str,
    /// The state as a name for styles.
    class: &'static str,
    basis: String,
    /// The sign of each system, its name for styles, and its words.
    cells: Vec<(&'static str, &'static str, &'static str)>,
}

/// Most systems that a matrix has a column for.
const COLUMNS: usize = 16;

/// Systems that are named for a check before the others are counted.
const NAMED: usize = 3;

/// Files of a system that are named for a gap.
const SHOWN_FILES: usize = 4;

/// Systems that are named for a gap.
const SHOWN_SYSTEMS: usize = 20;

fn plain(text: &str) -> String {
    sanitize(text).into_owned()
}

impl TestedView {
    pub(super) fn of(coverage: &Coverage, sheets: &[ControlSheet<'_>]) -> Self {
        let area = |area: Area| {
            let rows: Vec<TestedRow> = of_area(coverage, area)
                .filter(|one| one.counts.passed > 0)
                .map(|one| row(coverage, one))
                .collect();
            (!rows.is_empty()).then(|| TestedArea { word: capitalized(area.word()), rows })
        };
        let named = |all: Vec<crate::coverage::Reason>| -> Vec<[String; 2]> {
            all.iter().map(|one| [plain(&one.words), plain(&few(&one.systems, SHOWN_SYSTEMS))]).collect()
        };
        let reasons = [
            ("Exports that checks need and systems lack", named(lacking(coverage))),
            ("Exports that may not be complete", named(gaps(coverage, SHOWN_FILES))),
        ];
        Self {
            totals: totals(coverage),
            scope: scope_words(coverage).iter().map(|words| plain(words)).collect(),
            areas: Area::ALL.into_iter().filter_map(area).collect(),
            open: coverage.open.iter().map(|words| plain(words)).collect(),
            reasons: reasons.into_iter().filter(|(_, all)| !all.is_empty()).collect(),
            catalogues: sheets.iter().map(|sheet| catalogue(coverage, sheet)).collect(),
        }
    }
}

fn row(coverage: &Coverage, one: &CheckCoverage) -> TestedRow {
    let passing =
        || one.rows.iter().filter(|row| row.counts.passed > 0 && coverage.systems[row.system].counts_in());
    let names: Vec<String> = passing().map(|row| plain(&coverage.systems[row.system].name)).collect();
    let first = passing().find_map(|row| row.quoted.first());
    TestedRow {
        title: one.check.title,
        passed: one.counts.passed,
        failed: one.counts.failed,
        undetermined: one.counts.undetermined,
        systems: few(&names, NAMED),
        proof: first.map(|one| plain(&proof(one))).unwrap_or_default(),
    }
}

fn catalogue(coverage: &Coverage, sheet: &ControlSheet<'_>) -> CatalogueView {
    let systems: Vec<&SystemCoverage> = coverage.in_scope().collect();
    let shown = systems.len() <= COLUMNS;
    CatalogueView {
        name: plain(&sheet.catalogue.name),
        title: plain(&sheet.catalogue.title),
        counts: states(sheet),
        systems: systems.iter().filter(|_| shown).map(|one| plain(&one.name)).collect(),
        rows: sheet.visible().map(|row| control(coverage, row, shown)).collect(),
    }
}

fn control(coverage: &Coverage, row: &ControlRow<'_>, shown: bool) -> ControlView {
    let cell = |state: State| (sign(state), class(state), state.words());
    ControlView {
        id: plain(&row.control.id),
        says: plain(&row.control.says),
        shows: plain(&row.control.shows),
        state: row.state.words(),
        class: class(row.state),
        basis: plain(&justification(row, coverage)),
        cells: row.systems.iter().filter(|_| shown).map(|one| cell(one.state)).collect(),
    }
}

/// A sign that differs without colours.
fn sign(state: State) -> &'static str {
    match state {
        State::Met => "✓",
        State::NotMet => "✗",
        State::PartlyJudged => "◐",
        State::NotJudged => "–",
    }
}

fn class(state: State) -> &'static str {
    match state {
        State::Met => "met",
        State::NotMet => "not-met",
        State::PartlyJudged => "partly",
        State::NotJudged => "unjudged",
    }
}
