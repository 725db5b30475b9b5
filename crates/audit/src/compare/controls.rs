//! Controls that came to hold, or ceased to.

use crate::coverage::{Coverage, State};
use crate::tested::AnswerCounts;
use serde::{Deserialize, Serialize};
use trevlin_checks::catalogues::{Catalogue, Control};

/// Subjects of the checks, as a saved result contains them.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct SeenCoverage {
    /// Whether nothing that could show a fault was missing, and every check and system was selected.
    pub complete: bool,
    /// Checks that had a subject, or could not judge some system.
    pub checks: Vec<SeenCheck>,
}

/// A check over all systems in scope.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct SeenCheck {
    /// Its id.
    pub check: String,
    /// Subjects by answer.
    #[serde(flatten)]
    pub counts: AnswerCounts,
    /// Systems that it could not judge, or not as a whole.
    pub systems_not_judged: usize,
}

/// A control whose state changed.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub struct ControlChange {
    /// Title of its catalogue.
    pub catalogue: String,
    /// Its id.
    pub control: String,
    /// The requirement.
    pub requirement: String,
    /// State before.
    pub old: State,
    /// State now.
    pub new: State,
    /// Subjects that failed before.
    pub old_failed: usize,
    /// Subjects that fail now.
    pub new_failed: usize,
}

impl ControlChange {
    /// Whether it is met now and was not, or is no longer not met.
    #[must_use]
    pub fn is_better(&self) -> bool {
        self.new == State::Met || (self.old == State::NotMet && self.new != State::NotMet)
    }
}

impl From<&Coverage> for SeenCoverage {
    fn from(coverage: &Coverage) -> Self {
        let told = coverage.checks.iter().filter(|one| one.counts.judged() > 0 || one.not_judged > 0);
        let check = |one: &crate::coverage::CheckCoverage| SeenCheck {
            check: one.check.id.to_owned(),
            counts: one.counts,
            systems_not_judged: one.not_judged,
        };
        Self { complete: coverage.complete && coverage.whole, checks: told.map(check).collect() }
    }
}

impl SeenCoverage {
    fn state(&self, control: &Control) -> (State, usize) {
        let (mut counts, mut not_judged) = (AnswerCounts::default(), 0);
        for one in self.checks.iter().filter(|one| control.checks.contains(&one.check)) {
            counts += one.counts;
            not_judged += one.systems_not_judged;
        }
        (State::of(counts, not_judged, self.complete), counts.failed)
    }

    /// Controls of a catalogue whose state is another in a later audit.
    #[must_use]
    pub fn changes(&self, later: &Self, catalogue: &Catalogue) -> Vec<ControlChange> {
        let change = |control: &Control| {
            let ((old, old_failed), (new, new_failed)) = (self.state(control), later.state(control));
            (old != new).then(|| ControlChange {
                catalogue: catalogue.title.clone(),
                control: control.id.clone(),
                requirement: control.says.clone(),
                old,
                new,
                old_failed,
                new_failed,
            })
        };
        catalogue.controls.iter().filter_map(change).collect()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn seen(failed: usize, passed: usize, not_judged: usize, complete: bool) -> SeenCoverage {
        let counts = AnswerCounts { failed, passed, ..AnswerCounts::default() };
        let check = "upkeep/no-time-source".to_owned();
        SeenCoverage { complete, checks: vec![SeenCheck { check, counts, systems_not_judged: not_judged }] }
    }

    #[test]
    fn states_follow_the_subjects() {
        let catalogue =
            crate::catalogues::all().into_iter().find(|one| one.name == "iso-27002-2022").unwrap();
        let clock = |old: &SeenCoverage, new: &SeenCoverage| {
            let all = old.changes(new, catalogue);
            all.into_iter().find(|one| one.control == "8.17").map(|one| (one.old, one.new, one.is_better()))
        };
        let bad = seen(1, 2, 0, true);
        let good = seen(0, 3, 0, true);
        assert_eq!(clock(&bad, &good), Some((State::NotMet, State::Met, true)));
        assert_eq!(clock(&good, &bad), Some((State::Met, State::NotMet, false)));
        assert_eq!(clock(&good, &good), None);
        assert_eq!(clock(&good, &seen(0, 3, 1, true)), Some((State::Met, State::PartlyJudged, false)));
        assert_eq!(clock(&bad, &seen(0, 3, 0, false)), Some((State::NotMet, State::PartlyJudged, true)));
        assert_eq!(clock(&good, &SeenCoverage::default()), Some((State::Met, State::NotJudged, false)));
    }
}
