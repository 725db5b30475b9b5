//! Authentication factors, as far as the exports show them.

use crate::authentication::pam_conditions::PamCondition;
use std::collections::BTreeSet;
use trevlin_model::{FactorKind, Origin};

/// Factors that a login path requires, as far as the exports show. A part that was not exported never makes them stronger: it is asked
/// about beside them.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Factors {
    /// Kinds that are required; at least these, where something is undecided.
    pub kinds: BTreeSet<FactorKind>,
    /// Lines that require them.
    pub lines: Vec<Origin>,
    /// Lines of modules that verify a further factor and that this path does not need.
    pub bypassed: Vec<Origin>,
    /// Conditions under which a login requires no more than these; none where every login is that weak.
    pub conditions: Vec<PamCondition>,
    /// The part that may require more and was not exported.
    pub undecided: Option<Undecided>,
}

/// A part without exports that decides about the factors: a PAM stack, a RADIUS server, a directory, a script.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Undecided {
    /// The beginning of the request: "Please provide `/etc/pam.d/x`, with the files it includes". It decides about the factors.
    pub ask: String,
    /// Lines that lead there.
    pub evidence: Vec<Origin>,
    /// The file that would tell, where that is one that is not among the exports.
    pub file: Option<String>,
}

impl Factors {
    /// Factors that are known.
    #[must_use]
    pub fn known(kinds: BTreeSet<FactorKind>, lines: Vec<Origin>) -> Self {
        Self { kinds, lines, bypassed: Vec::new(), conditions: Vec::new(), undecided: None }
    }

    /// Factors that another part decides about.
    #[must_use]
    pub fn undecided(undecided: Undecided) -> Self {
        Self { undecided: Some(undecided), ..Self::known(BTreeSet::new(), Vec::new()) }
    }

    /// A PAM stack in which no path grants access: how users log in is not in the exports.
    #[must_use]
    pub fn no_path(service: &str, asked_at: Origin) -> Self {
        let ask = format!(
            "Please state how users log in through the PAM stack of `{service}`, in which no path grants access"
        );
        Self::undecided(Undecided { ask, evidence: vec![asked_at], file: None })
    }

    /// The kinds, where nothing is undecided.
    #[must_use]
    pub fn decided(&self) -> Option<&BTreeSet<FactorKind>> {
        Some(&self.kinds).filter(|_| self.undecided.is_none())
    }

    /// Whether a path is certainly open to one factor or none.
    #[must_use]
    pub fn is_single(&self) -> bool {
        self.undecided.is_none() && self.kinds.len() < 2
    }

    /// Rank among login paths, the weakest first: no factor, a password, an undecided requirement, a factor that cannot be guessed, several.
    #[must_use]
    pub fn weakness(&self) -> (usize, u8, bool) {
        let open = self.undecided.is_some();
        match self.kinds.len() {
            0 if open => (1, 1, open),
            0 => (0, 0, open),
            1 if self.kinds.contains(&FactorKind::Knowledge) => (1, 0, open),
            1 => (1, 2, open),
            // Of two strong paths the undecided one is asked about.
            count => (count, 0, !open),
        }
    }
}

#[cfg(test)]
pub(in crate::authentication) mod tests {
    use super::*;

    /// Kinds of factors, with a question mark where something is undecided.
    pub(in crate::authentication) fn kinds(factors: &Factors) -> String {
        let mut words: Vec<String> = factors.kinds.iter().map(|kind| format!("{kind:?}")).collect();
        words.extend(factors.undecided.as_ref().map(|_| "?".to_owned()));
        words.join("+")
    }
}
