//! Open findings by check, the highest severity first.

use std::cmp::Reverse;
use trevlin_audit::{Finding, Outcome, Severity, Status};

/// The open findings of one check.
pub(crate) struct Group<'a> {
    /// The one with the highest severity.
    pub(crate) first: &'a Finding,
    /// All of them, in order.
    pub(crate) all: Vec<&'a Finding>,
}

impl<'a> Group<'a> {
    /// The devices that they are on, in order, each once.
    pub(crate) fn devices(&self) -> Vec<&'a str> {
        let mut devices: Vec<&str> = Vec::new();
        for one in &self.all {
            if !devices.contains(&&*one.device) {
                devices.push(&one.device);
            }
        }
        devices
    }
}

/// Open findings at or above a severity, by check: higher severities first, and among equals the check with more findings.
pub(crate) fn top_findings(outcome: &Outcome, least: Severity) -> Vec<Group<'_>> {
    let mut groups: Vec<Group<'_>> = Vec::new();
    for one in outcome.findings().filter(|one| one.status == Status::Open && one.severity >= least) {
        match groups.iter_mut().find(|group| group.first.check == one.check) {
            Some(group) => group.all.push(one),
            None => groups.push(Group { first: one, all: vec![one] }),
        }
    }
    groups.sort_by_key(|group| (Reverse(group.first.severity), Reverse(group.all.len())));
    groups
}

/// Some names in a sentence: the first few, and how many more.
pub(crate) fn few<T: AsRef<str>>(names: &[T], most: usize) -> String {
    let mut told: Vec<String> = names.iter().take(most).map(|name| name.as_ref().to_owned()).collect();
    if names.len() > most {
        told.push(format!("{} more", names.len() - most));
    }
    match told.as_slice() {
        [] => String::new(),
        [one] => one.clone(),
        [rest @ .., last] => format!("{} and {last}", rest.join(", ")),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn names_in_a_sentence() {
        for (names, told) in [
            (&[][..], ""),
            (&["a"], "a"),
            (&["a", "b"], "a and b"),
            (&["a", "b", "c"], "a, b and 1 more"),
            (&["a", "b", "c", "d"], "a, b and 2 more"),
        ] {
            assert_eq!(few(names, 2), told);
        }
    }
}
