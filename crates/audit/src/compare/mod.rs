//! Comparison of two audits: resolved, new and unverified findings.
//!
//! A missing finding is resolved only where its device and its file were read again; otherwise it is reported as not verified.

mod controls;
mod pairing;
mod snapshot;

pub use controls::{ControlChange, SeenCheck, SeenCoverage};
pub use snapshot::{Exposed, SeenDevice, SeenEvidence, SeenFinding, SeenQuestion, Snapshot};

use crate::run::Status;
use pairing::{Match, pair};
use serde::Serialize;
use std::collections::{BTreeMap, BTreeSet};
use trevlin_checks::catalogues::Catalogue;
use trevlin_estate::area::Severity;

/// A finding of both audits that is not as it was.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub struct ChangedFinding {
    /// As it is now.
    pub finding: SeenFinding,
    /// As it was.
    pub was: SeenFinding,
    /// Changes, as phrases.
    pub how: Vec<String>,
    /// Whether that is for the worse.
    pub worse: bool,
}

/// A missing finding that was not verified.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub struct UnseenFinding {
    /// As it was.
    pub finding: SeenFinding,
    /// The missing device or file.
    pub missing: String,
}

/// How many open findings of a severity there were and are.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize)]
pub struct SeverityCount {
    /// Severity.
    pub severity: Severity,
    /// Before.
    pub old: usize,
    /// Now.
    pub new: usize,
}

/// A device that has another name.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub struct Renamed {
    /// Before.
    pub old: String,
    /// Now.
    pub new: String,
}

/// A service whose protection is not as it was.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub struct ChangedExposure {
    /// The exposed service.
    pub what: String,
    /// How it stood.
    pub old: String,
    /// Its present state.
    pub new: String,
    /// Whether that is for the worse.
    pub worse: bool,
}

/// Changes of the exposure to the Internet.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub struct ExposureChange {
    /// Reached now, and not before.
    pub came: Vec<Exposed>,
    /// Reached before, and no longer.
    pub went: Vec<Exposed>,
    /// Reached then and now, protected otherwise.
    pub changed: Vec<ChangedExposure>,
    /// How much is reached as before.
    pub still: usize,
}

/// Changes of an estate.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub struct Comparison {
    /// The date of the first audit.
    pub old_as_of: String,
    /// The date of the second one.
    pub new_as_of: String,
    /// Devices that came.
    pub came: Vec<String>,
    /// Devices that went.
    pub went: Vec<String>,
    /// Devices that have another name.
    pub renamed: Vec<Renamed>,
    /// Open findings by severity, the highest first.
    pub severities: Vec<SeverityCount>,
    /// Missing findings whose device and file were read again.
    pub fixed: Vec<SeenFinding>,
    /// Findings that are gone with their device or file.
    pub unseen: Vec<UnseenFinding>,
    /// Findings that were not there.
    pub new: Vec<SeenFinding>,
    /// Findings that are not as they were.
    pub changed: Vec<ChangedFinding>,
    /// Findings that moved to another file, or to a device of another name.
    pub moved: Vec<ChangedFinding>,
    /// Findings that are as they were.
    pub still: Vec<SeenFinding>,
    /// Information requests that were answered.
    pub answered: Vec<SeenQuestion>,
    /// New information requests.
    pub asked: Vec<SeenQuestion>,
    /// Number of information requests that remain.
    pub still_asked: usize,
    /// Exposure to the Internet; none where one of the two is a saved result, which does not contain it.
    pub exposure: Option<ExposureChange>,
    /// Controls whose state changed; none where one of the two is a result without tested subjects.
    pub controls: Option<Vec<ControlChange>>,
}

impl Comparison {
    /// Whether the estate became worse, at or above a severity: a finding that is new, more severe or open again, or a service that was not
    /// exposed or better protected before.
    #[must_use]
    pub fn is_worse(&self, least: Severity) -> bool {
        let open = |one: &SeenFinding| one.status == Status::Open && one.severity >= least;
        self.new.iter().any(open)
            || self.changed.iter().chain(&self.moved).any(|one| one.worse && open(&one.finding))
            || self
                .exposure
                .as_ref()
                .is_some_and(|all| !all.came.is_empty() || all.changed.iter().any(|one| one.worse))
    }
}

/// Holds two audits against each other, and the controls of some catalogues.
#[must_use]
pub fn compare(old: Snapshot, new: Snapshot, catalogues: &[Catalogue]) -> Comparison {
    let severities = Severity::ALL.map(|severity| SeverityCount {
        severity,
        old: old.open(severity),
        new: new.open(severity),
    });
    let devices = |one: &Snapshot| -> BTreeSet<String> {
        one.devices.iter().map(|device| device.name.clone()).collect()
    };
    let (before, now) = (devices(&old), devices(&new));
    let went: Vec<String> = before.difference(&now).cloned().collect();
    let came: Vec<String> = now.difference(&before).cloned().collect();
    let renamed = pairing::renamed(&old, &new, &went, &came);
    let files: BTreeSet<&str> =
        new.devices.iter().flat_map(|device| &device.exports).map(|export| export.path.as_str()).collect();
    let paired = pair(&old.findings, &new.findings, &renamed);

    let mut found = Comparison {
        old_as_of: old.as_of.clone(),
        new_as_of: new.as_of.clone(),
        came: came.iter().filter(|name| !renamed.values().any(|one| one == *name)).cloned().collect(),
        went: went.iter().filter(|name| !renamed.contains_key(*name)).cloned().collect(),
        renamed: Vec::new(),
        severities: severities.to_vec(),
        fixed: Vec::new(),
        unseen: Vec::new(),
        new: Vec::new(),
        changed: Vec::new(),
        moved: Vec::new(),
        still: Vec::new(),
        answered: Vec::new(),
        asked: Vec::new(),
        still_asked: 0,
        exposure: None,
        controls: None,
    };
    for (was, paired) in old.findings.iter().zip(&paired.old) {
        match paired {
            Some((at, how)) => found.add(was, &new.findings[*at], *how),
            None => {
                let name = renamed.get(&was.device).unwrap_or(&was.device);
                let missing = match was.evidence.first() {
                    _ if !now.contains(name) => Some(format!("the device {name}")),
                    Some(first)
                        if !renamed.contains_key(&was.device) && !files.contains(first.path.as_str()) =>
                    {
                        Some(format!("the file {}", first.path))
                    }
                    _ => None,
                };
                match missing {
                    Some(missing) => found.unseen.push(UnseenFinding { finding: was.clone(), missing }),
                    None => found.fixed.push(was.clone()),
                }
            }
        }
    }
    let fresh = new.findings.iter().zip(&paired.new).filter(|(_, taken)| !**taken);
    found.new = fresh.map(|(one, _)| one.clone()).collect();
    found.questions(&old, &new, &renamed);
    found.exposure = old.exposed.as_ref().zip(new.exposed.as_ref()).map(|(a, b)| exposure(a, b, &renamed));
    found.controls = old
        .coverage
        .as_ref()
        .zip(new.coverage.as_ref())
        .map(|(old, new)| catalogues.iter().flat_map(|catalogue| old.changes(new, catalogue)).collect());
    found.renamed = renamed.into_iter().map(|(old, new)| Renamed { old, new }).collect();
    found
}

impl Comparison {
    fn add(&mut self, was: &SeenFinding, is: &SeenFinding, how: Match) {
        let mut all = Vec::new();
        let mut worse = false;
        if was.severity != is.severity {
            worse |= is.severity > was.severity;
            all.push(format!("previously {}", was.severity.word()));
        }
        if was.status != is.status {
            worse |= is.status == Status::Open;
            all.push(match is.status {
                Status::Accepted => "now accepted".to_owned(),
                Status::Open => "no longer accepted".to_owned(),
            });
        }
        if was.title != is.title && how != Match::Elsewhere {
            all.push(format!("previously `{}`", was.title));
        }
        let place = |one: &SeenFinding| one.evidence.first().map(|first| first.path.clone());
        let elsewhere = how == Match::Elsewhere || place(was) != place(is) || was.device != is.device;
        if elsewhere && let Some(first) = was.evidence.first() {
            all.push(format!("previously at {}:{}", first.path, first.line));
        }
        let changed = || ChangedFinding { finding: is.clone(), was: was.clone(), how: all.clone(), worse };
        match (elsewhere, all.len()) {
            (false, 0) => self.still.push(is.clone()),
            (true, 0 | 1) => self.moved.push(changed()),
            _ => self.changed.push(changed()),
        }
    }

    fn questions(&mut self, old: &Snapshot, new: &Snapshot, renamed: &BTreeMap<String, String>) {
        let key = |one: &SeenQuestion| {
            let device = renamed.get(&one.device).unwrap_or(&one.device).clone();
            (one.check.clone(), device, one.question.clone())
        };
        let before: BTreeSet<_> = old.questions.iter().map(key).collect();
        let now: BTreeSet<_> = new.questions.iter().map(key).collect();
        self.answered = old.questions.iter().filter(|one| !now.contains(&key(one))).cloned().collect();
        self.asked = new.questions.iter().filter(|one| !before.contains(&key(one))).cloned().collect();
        self.still_asked = before.intersection(&now).count();
    }
}

fn exposure(old: &[Exposed], new: &[Exposed], renamed: &BTreeMap<String, String>) -> ExposureChange {
    let by_key = |all: &[Exposed], names: bool| -> BTreeMap<(String, String), Exposed> {
        let mut found: BTreeMap<(String, String), Exposed> = BTreeMap::new();
        for one in all {
            let device = if names { renamed.get(&one.device) } else { None }.unwrap_or(&one.device);
            // One that is reached in several ways stands as the worst of them.
            found
                .entry((device.clone(), one.what.clone()))
                .and_modify(|known| {
                    if one.rank < known.rank {
                        *known = one.clone();
                    }
                })
                .or_insert_with(|| one.clone());
        }
        found
    };
    let (before, now) = (by_key(old, true), by_key(new, false));
    let mut found = ExposureChange { came: Vec::new(), went: Vec::new(), changed: Vec::new(), still: 0 };
    for (key, was) in &before {
        match now.get(key) {
            None => found.went.push(was.clone()),
            Some(is) if is.protection != was.protection => found.changed.push(ChangedExposure {
                what: format!("{}: {}", is.device, is.what),
                old: was.protection.clone(),
                new: is.protection.clone(),
                worse: is.rank < was.rank,
            }),
            Some(_) => found.still += 1,
        }
    }
    found.came =
        now.iter().filter(|(key, _)| !before.contains_key(*key)).map(|(_, one)| one.clone()).collect();
    for all in [&mut found.came, &mut found.went] {
        all.sort_by(|a, b| (a.rank, &a.device, &a.what).cmp(&(b.rank, &b.device, &b.what)));
    }
    found
}

#[cfg(test)]
mod tests;
