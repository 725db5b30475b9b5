//! Which finding of one audit is which of the other.

use crate::compare::{SeenFinding, Snapshot};
use std::collections::{BTreeMap, BTreeSet};

/// How a finding was found again.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum Match {
    /// By its fingerprint.
    Same,
    /// The same check found the same lines elsewhere.
    Elsewhere,
}

/// For each finding of the first audit its place in the second one, and which of the second were taken.
pub(super) struct Paired {
    pub(super) old: Vec<Option<(usize, Match)>>,
    pub(super) new: Vec<bool>,
}

/// The lines that prove it.
fn lines(one: &SeenFinding) -> &str {
    one.evidence.first().map_or("", |first| first.excerpt.as_str())
}

pub(super) fn pair(old: &[SeenFinding], new: &[SeenFinding], renamed: &BTreeMap<String, String>) -> Paired {
    let mut found = Paired { old: vec![None; old.len()], new: vec![false; new.len()] };
    let by_print: BTreeMap<&str, usize> =
        new.iter().enumerate().map(|(at, one)| (one.fingerprint.as_str(), at)).collect();
    for (was, one) in old.iter().enumerate() {
        if let Some(at) = by_print.get(one.fingerprint.as_str()).filter(|at| !found.new[**at]) {
            found.take(was, *at, Match::Same);
        }
    }
    let device = |one: &SeenFinding| renamed.get(&one.device).unwrap_or(&one.device).clone();
    // The rest of each check, by what it has to have in common.
    let mut rest: BTreeMap<(&str, String), Vec<usize>> = BTreeMap::new();
    for (at, one) in new.iter().enumerate().filter(|(at, _)| !found.new[*at]) {
        rest.entry((&one.check, one.device.clone())).or_default().push(at);
    }
    // A merely similar finding may be another fault, in which case one is fixed and the other new.
    for (was, one) in old.iter().enumerate().filter(|(_, one)| !lines(one).is_empty()) {
        if found.old[was].is_some() {
            continue;
        }
        let Some(all) = rest.get(&(one.check.as_str(), device(one))) else { continue };
        let fits = |at: &&usize| !found.new[**at] && lines(&new[**at]) == lines(one);
        // Of several, the equal one.
        let best =
            all.iter().filter(fits).max_by_key(|at| (new[**at].title == one.title, std::cmp::Reverse(**at)));
        if let Some(at) = best.copied() {
            found.take(was, at, Match::Elsewhere);
        }
    }
    found
}

impl Paired {
    fn take(&mut self, old: usize, new: usize, how: Match) {
        self.old[old] = Some((new, how));
        self.new[new] = true;
    }
}

/// Renamed devices: most findings of the old one recur on the new one.
pub(super) fn renamed(
    old: &Snapshot,
    new: &Snapshot,
    went: &[String],
    came: &[String],
) -> BTreeMap<String, String> {
    let found = |all: &Snapshot, name: &str| -> BTreeSet<(String, String)> {
        let of_device = all.findings.iter().filter(|one| one.device == name);
        of_device.map(|one| (one.check.clone(), lines(one).to_owned())).collect()
    };
    let mut taken = BTreeSet::new();
    let mut renamed = BTreeMap::new();
    for name in went {
        let before = found(old, name);
        let share = |other: &&String| before.intersection(&found(new, other)).count();
        let best =
            came.iter().filter(|other| !taken.contains(*other)).max_by_key(|other| (share(other), *other));
        if let Some(other) = best.filter(|other| before.len() >= 2 && share(other) * 2 > before.len()) {
            taken.insert(other.clone());
            renamed.insert(name.clone(), other.clone());
        }
    }
    renamed
}
