//! The severity of a finding, with the reasons that made it.

use trevlin_estate::area::Severity;
use trevlin_estate::prose::Prose;

/// A severity as a base and the reasons that moved or confirmed it: what is shown as severity and what is shown as its reason
/// both follow from these, so that the two cannot differ.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Rating {
    base: Severity,
    severity: Severity,
    adjustments: Vec<Adjustment>,
}

/// Something that bears on a severity. It moves it, or confirms it where it is.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Adjustment {
    /// From where.
    pub from: Severity,
    /// To where.
    pub to: Severity,
    /// Why, as a phrase.
    pub reason: Prose,
}

impl Rating {
    /// The severity of a check where no context bears on it.
    #[must_use]
    pub fn new(base: Severity) -> Self {
        Self { base, severity: base, adjustments: Vec::new() }
    }

    /// A reason that confirms the severity.
    #[must_use]
    pub fn because(self, reason: impl Into<Prose>) -> Self {
        let severity = self.severity;
        self.at(severity, reason)
    }

    /// Another severity, for a reason. Where it is the same, the reason confirms it.
    #[must_use]
    pub fn at(mut self, severity: Severity, reason: impl Into<Prose>) -> Self {
        self.adjustments.push(Adjustment { from: self.severity, to: severity, reason: reason.into() });
        self.severity = severity;
        self
    }

    /// A step more severe.
    #[must_use]
    pub fn raised(self, reason: impl Into<Prose>) -> Self {
        let severity = self.severity.raise();
        self.at(severity, reason)
    }

    /// A step less severe.
    #[must_use]
    pub fn lowered(self, reason: impl Into<Prose>) -> Self {
        let severity = self.severity.lower();
        self.at(severity, reason)
    }

    /// No more severe than this.
    #[must_use]
    pub fn at_most(self, severity: Severity, reason: impl Into<Prose>) -> Self {
        let severity = self.severity.min(severity);
        self.at(severity, reason)
    }

    /// The severity that all of it comes to.
    #[must_use]
    pub fn severity(&self) -> Severity {
        self.severity
    }

    /// The check's own severity.
    #[must_use]
    pub fn base(&self) -> Severity {
        self.base
    }

    /// What bears on it, in order.
    #[must_use]
    pub fn adjustments(&self) -> &[Adjustment] {
        &self.adjustments
    }

    /// How it came about, as a phrase.
    #[must_use]
    pub fn sentence(&self) -> String {
        let moves: Vec<&Adjustment> = self.adjustments.iter().filter(|one| one.from != one.to).collect();
        let verb = |one: &Adjustment| {
            let verb = if one.to > one.from { "raised" } else { "lowered" };
            // What it came to stands before the sentence, unless another move follows.
            match moves.len() {
                1 => format!("{verb} from {}: ", one.from.word()),
                _ => format!("{verb} from {} to {}: ", one.from.word(), one.to.word()),
            }
        };
        let confirmed = || "as the check rates it: ".to_owned();
        // One move, or none, goes before all reasons; of several each goes before its own.
        let mut told = match moves.as_slice() {
            [] => confirmed(),
            [only] => verb(only),
            _ => String::new(),
        };
        for (at, one) in self.adjustments.iter().enumerate() {
            let own = moves.len() > 1 && one.from != one.to;
            match (at, own) {
                (0, true) => told.push_str(&verb(one)),
                (0, false) if moves.len() > 1 => told.push_str(&confirmed()),
                (0, false) => {}
                (_, true) => told.push_str(&format!("; {}", verb(one))),
                (_, false) => told.push_str(", and "),
            }
            told.push_str(&one.reason.to_string());
        }
        told
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_sentence_tells_every_move_and_no_other() {
        let base = || Rating::new(Severity::Medium);
        for (rating, severity, sentence) in [
            (base().because("a"), "medium", "as the check rates it: a"),
            (base().because("a").because("b"), "medium", "as the check rates it: a, and b"),
            (base().raised("a"), "high", "raised from medium: a"),
            (base().lowered("a").because("b"), "low", "lowered from medium: a, and b"),
            (base().because("a").raised("b"), "high", "raised from medium: a, and b"),
            (
                base().because("a").raised("b").raised("c"),
                "critical",
                "as the check rates it: a; raised from medium to high: b; raised from high to critical: c",
            ),
            (
                base().lowered("a").raised("b"),
                "medium",
                "lowered from medium to low: a; raised from low to medium: b",
            ),
            (base().at(Severity::Medium, "a"), "medium", "as the check rates it: a"),
            (base().at_most(Severity::High, "a"), "medium", "as the check rates it: a"),
            (base().at_most(Severity::Info, "a"), "info", "lowered from medium: a"),
            (Rating::new(Severity::Info).lowered("a"), "info", "as the check rates it: a"),
            (Rating::new(Severity::Critical).raised("a"), "critical", "as the check rates it: a"),
        ] {
            assert_eq!((rating.severity().word(), rating.sentence().as_str()), (severity, sentence));
        }
    }
}
