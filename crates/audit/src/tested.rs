//! Tested subjects of each check, by its answer.

use serde::{Deserialize, Serialize};
use std::ops::AddAssign;
use std::sync::Arc;
use trevlin_checks::check::{Held, HeldBy, Verdict};
use trevlin_estate::area::Area;

/// Subjects by answer.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct AnswerCounts {
    /// Subjects that are wrong, with those of accepted findings.
    pub failed: usize,
    /// Subjects that the exports do not decide.
    pub undetermined: usize,
    /// Subjects that are right.
    pub passed: usize,
    /// Subjects to which the check does not apply.
    pub not_applicable: usize,
}

impl AnswerCounts {
    pub(crate) fn add(&mut self, verdict: &Verdict) {
        *match verdict {
            Verdict::Fail(_) => &mut self.failed,
            Verdict::Undetermined(_) => &mut self.undetermined,
            Verdict::Pass(_) => &mut self.passed,
            Verdict::DoesNotApply => &mut self.not_applicable,
        } += 1;
    }

    /// Subjects that were judged: all but those to which the check does not apply.
    #[must_use]
    pub fn judged(&self) -> usize {
        self.failed + self.undetermined + self.passed
    }
}

impl AddAssign for AnswerCounts {
    fn add_assign(&mut self, other: Self) {
        self.failed += other.failed;
        self.undetermined += other.undetermined;
        self.passed += other.passed;
        self.not_applicable += other.not_applicable;
    }
}

/// Subjects of a check on a device, by answer.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Tested {
    /// The check.
    pub check: &'static str,
    /// Its area.
    pub area: Area,
    /// The device.
    pub device: Arc<str>,
    /// Its subjects there.
    pub counts: AnswerCounts,
    /// What makes those right that are, to be quoted on request.
    pub passes: Vec<Held>,
}

impl Tested {
    /// Counts a subject that was undetermined by an answer in the estate file, of this line.
    pub(crate) fn settle(&mut self, right: bool, line: usize) {
        self.counts.undetermined -= 1;
        if right {
            self.counts.passed += 1;
            self.passes.push(Held { line: None, more: Vec::new(), by: HeldBy::EstateFile(line) });
        } else {
            self.counts.failed += 1;
        }
    }
}

/// Everything that was tested, in numbers.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Serialize)]
pub struct TestedSummary {
    /// Checks that had a subject to judge.
    pub checks: usize,
    /// Their subjects.
    #[serde(flatten)]
    pub counts: AnswerCounts,
    /// Systems that lack an export that a check needs.
    pub incomplete_systems: usize,
}

/// The sum of rows, which are in order of checks.
pub(crate) fn sum(rows: &[Tested]) -> TestedSummary {
    let mut all = TestedSummary::default();
    for of_check in rows.chunk_by(|a, b| a.check == b.check) {
        let mut counts = AnswerCounts::default();
        of_check.iter().for_each(|row| counts += row.counts);
        all.checks += usize::from(counts.judged() > 0);
        all.counts += counts;
    }
    all
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_check_without_a_subject_was_not_tested() {
        let row = |check, device: &str, passed, not_applicable| Tested {
            check,
            area: Area::Rules,
            device: device.into(),
            counts: AnswerCounts { passed, not_applicable, ..AnswerCounts::default() },
            passes: Vec::new(),
        };
        let all = sum(&[row("a", "x", 2, 1), row("a", "y", 1, 0), row("b", "x", 0, 3)]);
        assert_eq!((all.checks, all.counts.passed, all.counts.not_applicable), (1, 3, 4));
        assert_eq!(sum(&[]), TestedSummary::default());
    }
}
