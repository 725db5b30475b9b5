//! State of the controls of a catalogue.

use super::{CheckCoverage, Coverage, SystemCoverage};
use crate::tested::AnswerCounts;
use serde::{Deserialize, Serialize};
use std::collections::BTreeMap;
use trevlin_checks::catalogues::{Catalogue, Control};

/// State of the part of a control that a configuration can show.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum State {
    /// A subject failed.
    NotMet,
    /// Something is right, and something could not be judged.
    PartlyJudged,
    /// Nothing was judged.
    NotJudged,
    /// Everything was judged, and is right.
    Met,
}

impl State {
    /// Every state, those that require work first.
    pub const ALL: [Self; 4] = [Self::NotMet, Self::PartlyJudged, Self::NotJudged, Self::Met];

    /// In words.
    #[must_use]
    pub fn words(self) -> &'static str {
        match self {
            Self::NotMet => "not met",
            Self::PartlyJudged => "partly judged",
            Self::NotJudged => "not judged",
            Self::Met => "met",
        }
    }

    /// From counts of subjects, the number of systems that were not judged or not as a whole, and whether nothing else is missing that
    /// could show a fault.
    #[must_use]
    pub fn of(counts: AnswerCounts, not_judged: usize, complete: bool) -> Self {
        match counts {
            AnswerCounts { failed: 1.., .. } => Self::NotMet,
            AnswerCounts { passed: 0, .. } => Self::NotJudged,
            AnswerCounts { undetermined: 0, .. } if not_judged == 0 && complete => Self::Met,
            _ => Self::PartlyJudged,
        }
    }
}

/// A check of a control.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize)]
pub struct CheckState {
    /// Its id.
    pub check: &'static str,
    /// Its state.
    pub state: State,
}

/// A control on one system.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize)]
pub struct ControlSystem {
    /// The number of the system.
    #[serde(skip)]
    pub system: usize,
    /// Subjects by answer.
    #[serde(flatten)]
    pub counts: AnswerCounts,
    /// Whether all that its checks need was there.
    pub judged: bool,
    /// Its state.
    pub state: State,
}

/// A control, over all systems in scope.
#[derive(Debug, Clone)]
pub struct ControlRow<'a> {
    /// The control.
    pub control: &'a Control,
    /// Its state.
    pub state: State,
    /// Subjects by answer.
    pub counts: AnswerCounts,
    /// Failed subjects whose finding is accepted.
    pub accepted: usize,
    /// Systems that were not judged, or not as a whole.
    pub not_judged: usize,
    /// Whether paths lead through further systems that were not exported, or lack an export.
    pub paths_unknown: bool,
    /// Its checks.
    pub checks: Vec<CheckState>,
    /// The same by system, for those in scope.
    pub systems: Vec<ControlSystem>,
}

/// The controls of a catalogue.
#[derive(Debug, Clone)]
pub struct ControlSheet<'a> {
    /// The catalogue.
    pub catalogue: &'a Catalogue,
    /// Its controls, in its order.
    pub rows: Vec<ControlRow<'a>>,
}

impl ControlSheet<'_> {
    /// Controls of which a configuration shows a part.
    pub fn visible(&self) -> impl Iterator<Item = &ControlRow<'_>> {
        self.rows.iter().filter(|row| row.control.is_visible())
    }

    /// Number of these controls in a state.
    #[must_use]
    pub fn count(&self, state: State) -> usize {
        self.visible().filter(|row| row.state == state).count()
    }

    /// Number of controls of which no configuration shows a part.
    #[must_use]
    pub fn invisible(&self) -> usize {
        self.rows.len() - self.visible().count()
    }
}

impl Coverage {
    /// The controls of a catalogue.
    #[must_use]
    pub fn controls<'a>(&self, catalogue: &'a Catalogue) -> ControlSheet<'a> {
        let by_id: BTreeMap<&str, usize> =
            self.checks.iter().enumerate().map(|(at, one)| (one.check.id, at)).collect();
        let row = |control: &'a Control| self.control(control, &by_id);
        ControlSheet { catalogue, rows: catalogue.controls.iter().map(row).collect() }
    }

    fn control<'a>(&self, control: &'a Control, by_id: &BTreeMap<&str, usize>) -> ControlRow<'a> {
        let checks: Vec<_> = control
            .checks
            .iter()
            .filter_map(|id| by_id.get(id.as_str()))
            .map(|at| &self.checks[*at])
            .collect();
        let (mut counts, mut accepted) = (AnswerCounts::default(), 0);
        let mut by_system = vec![AnswerCounts::default(); self.systems.len()];
        let mut paths_unknown = false;
        for check in &checks {
            counts += check.counts;
            accepted += check.accepted;
            for row in &check.rows {
                by_system[row.system] += row.counts;
            }
            paths_unknown |= check.not_judged > self.not_judged_by(check.check).count();
        }
        let judged = |one: &SystemCoverage| checks.iter().all(|check| one.is_judged_by(check.check));
        let mut systems = Vec::new();
        for (system, one) in self.systems.iter().enumerate().filter(|(_, one)| one.counts_in()) {
            let (judged, counts) = (judged(one), by_system[system]);
            let state = State::of(counts, usize::from(!judged), one.is_complete());
            systems.push(ControlSystem { system, counts, judged, state });
        }
        let not_judged = systems.iter().filter(|one| !one.judged).count();
        // Checks that were not selected were not run.
        let all = checks.len() == control.checks.len();
        let state = State::of(counts, not_judged + usize::from(paths_unknown), self.complete && all);
        let state_of = |one: &CheckCoverage| State::of(one.counts, one.not_judged, self.complete);
        let checks =
            checks.into_iter().map(|one| CheckState { check: one.check.id, state: state_of(one) }).collect();
        ControlRow { control, state, counts, accepted, not_judged, paths_unknown, checks, systems }
    }
}
