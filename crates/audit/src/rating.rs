//! The severity of a finding, with the reasons that made it.

use crate::Severity;

/// A severity as a base and what moved it, each with its reason: what is shown as severity and what is shown as its reason
/// both follow from these, so that the two cannot differ.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Rating {
    base: Severity,
    severity: Severity,
    /// Reasons that leave it where it is, in order.
    context: Vec<String>,
    /// What moved it, in order.
    adjustments: Vec<Adjustment>,
}

/// Something that moved a severity.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Adjustment {
    /// From where.
    pub from: Severity,
    /// To where.
    pub to: Severity,
    /// Why, as a phrase.
    pub reason: String,
}

impl Rating {
    /// The severity of a check where no context bears on it.
    #[must_use]
    pub fn new(base: Severity) -> Self {
        Self { base, severity: base, context: Vec::new(), adjustments: Vec::new() }
    }

    /// A reason that confirms the severity.
    #[must_use]
    pub fn because(mut self, reason: impl Into<String>) -> Self {
        self.context.push(reason.into());
        self
    }

    /// Another severity, for a reason. Where it is the same, the reason confirms it.
    #[must_use]
    pub fn at(mut self, severity: Severity, reason: impl Into<String>) -> Self {
        let reason = reason.into();
        if severity == self.severity {
            return self.because(reason);
        }
        self.adjustments.push(Adjustment { from: self.severity, to: severity, reason });
        self.severity = severity;
        self
    }

    /// A step more severe.
    #[must_use]
    pub fn raised(self, reason: impl Into<String>) -> Self {
        let severity = self.severity.raise();
        self.at(severity, reason)
    }

    /// A step less severe.
    #[must_use]
    pub fn lowered(self, reason: impl Into<String>) -> Self {
        let severity = self.severity.lower();
        self.at(severity, reason)
    }

    /// No more severe than this.
    #[must_use]
    pub fn at_most(self, severity: Severity, reason: impl Into<String>) -> Self {
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

    /// What moved it, in order.
    #[must_use]
    pub fn adjustments(&self) -> &[Adjustment] {
        &self.adjustments
    }

    /// How it came about, as a phrase.
    #[must_use]
    pub fn sentence(&self) -> String {
        let moves = |one: &Adjustment, told: &mut String| {
            let verb = if one.to > one.from { "raised" } else { "lowered" };
            told.push_str(&format!("{verb} from {}: {}", one.from.word(), one.reason));
        };
        if self.adjustments.is_empty() {
            return format!("as the check rates it: {}", self.context.join(", and "));
        }
        let mut told = String::new();
        for one in &self.adjustments {
            if !told.is_empty() {
                told.push_str("; ");
            }
            moves(one, &mut told);
        }
        self.context.iter().for_each(|reason| told.push_str(&format!(", and {reason}")));
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
            (base().lowered("a").raised("b"), "medium", "lowered from medium: a; raised from low: b"),
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
