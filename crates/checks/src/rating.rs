//! The severity of a finding, with the reasons that made it.

use trevlin_estate::area::Severity;
use trevlin_estate::prose::Prose;

/// A base severity and the reasons that moved or confirmed it. Severity and reason in outputs both derive from these, so they cannot
/// contradict each other.
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

    /// One level higher.
    #[must_use]
    pub fn raised(self, reason: impl Into<Prose>) -> Self {
        let severity = self.severity.raise();
        self.at(severity, reason)
    }

    /// One level lower.
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

    /// Its adjustments, in order.
    #[must_use]
    pub fn adjustments(&self) -> &[Adjustment] {
        &self.adjustments
    }

    /// How it came about: `base medium; raised: reachable from the Internet`. Several moves each name where they lead:
    /// `base low; raised to medium: …; raised to high: …`. Reasons that confirm the severity follow those that move it.
    #[must_use]
    pub fn sentence(&self) -> String {
        let moved = |one: &&Adjustment| one.from != one.to;
        let several = self.adjustments.iter().filter(moved).count() > 1;
        let mut parts = vec![format!("base {}", self.base.word())];
        for one in self.adjustments.iter().filter(moved) {
            let verb = if one.to > one.from { "raised" } else { "lowered" };
            let to = if several { format!(" to {}", one.to.word()) } else { String::new() };
            parts.push(format!("{verb}{to}: {}", one.reason));
        }
        let confirmed: Vec<String> = self
            .adjustments
            .iter()
            .filter(|one| one.from == one.to)
            .map(|one| one.reason.to_string())
            .collect();
        match (parts.len(), confirmed.is_empty()) {
            (_, true) => {}
            (1, false) => parts[0].push_str(&format!(": {}", confirmed.join(", "))),
            (_, false) => parts.push(format!("also considered: {}", confirmed.join(", "))),
        }
        parts.join("; ")
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_sentence_tells_every_move_and_no_other() {
        let base = || Rating::new(Severity::Medium);
        for (rating, severity, sentence) in [
            (base().because("a"), "medium", "base medium: a"),
            (base().because("a").because("b"), "medium", "base medium: a, b"),
            (base().raised("a"), "high", "base medium; raised: a"),
            (base().lowered("a").because("b"), "low", "base medium; lowered: a; also considered: b"),
            (base().because("a").raised("b"), "high", "base medium; raised: b; also considered: a"),
            (
                base().because("a").raised("b").raised("c"),
                "critical",
                "base medium; raised to high: b; raised to critical: c; also considered: a",
            ),
            (
                base().lowered("a").raised("b"),
                "medium",
                "base medium; lowered to low: a; raised to medium: b",
            ),
            (base().at(Severity::Medium, "a"), "medium", "base medium: a"),
            (base().at_most(Severity::High, "a"), "medium", "base medium: a"),
            (base().at_most(Severity::Info, "a"), "info", "base medium; lowered: a"),
            (Rating::new(Severity::Info).lowered("a"), "info", "base info: a"),
            (Rating::new(Severity::Critical).raised("a"), "critical", "base critical: a"),
        ] {
            assert_eq!((rating.severity().word(), rating.sentence().as_str()), (severity, sentence));
        }
    }
}
