//! Coverage: subjects of each check by answer and system, what was not judged, and the state of controls.
//!
//! A control is met only where everything that could show the contrary was there to be read: the estate file names the systems in scope, the
//! exports of each are as their file of checksums lists them, and every export that a check of the control needs is among them. Otherwise
//! a file taken away would turn a fault into a pass.

mod controls;
pub(crate) mod lacks;
mod received;
#[cfg(test)]
mod tests;

pub use controls::{CheckState, ControlRow, ControlSheet, ControlSystem, State};
pub use lacks::Lacks;
pub use received::{COLLECTION_LOG, Gap, GapKind, Received};

use crate::finding::Status;
use crate::run::Outcome;
use crate::tested::AnswerCounts;
use rayon::prelude::*;
use serde::Serialize;
use std::collections::{BTreeMap, BTreeSet};
use std::sync::Arc;
use trevlin_analysis::context::Analyses;
use trevlin_checks::check::{Check, Held, HeldBy, Need, Run};
use trevlin_checks::registry::CHECKS;
use trevlin_estate::config::Scope;
use trevlin_estate::evidence::{Evidence, evidence};
use trevlin_model::Origin;

/// Relation of a system to the scope.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize)]
#[serde(rename_all = "kebab-case")]
pub enum Standing {
    /// In scope.
    InScope,
    /// Exported, and neither in nor out of the scope that is stated; counted as in scope.
    NotListed,
    /// Out of scope: not counted.
    OutOfScope,
}

/// A system: a device, or a name of the scope without exports.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct SystemCoverage {
    /// Name.
    pub name: Arc<str>,
    /// Its relation to the scope.
    pub standing: Standing,
    /// Why it is out of scope.
    pub reason: Option<String>,
    /// Why its exports are not all that could show a fault.
    pub gaps: Vec<Gap>,
    /// Exports that checks need and that it lacks.
    pub lacks: Lacks,
    /// Subjects of every check, by answer.
    pub counts: AnswerCounts,
    /// Checks that could not judge it, or not all of it.
    pub not_judged: usize,
}

/// A check over all systems in scope.
#[derive(Debug, Clone)]
pub struct CheckCoverage {
    /// The check.
    pub check: &'static Check,
    /// Subjects by answer.
    pub counts: AnswerCounts,
    /// Failed subjects whose finding is accepted.
    pub accepted: usize,
    /// Systems that it could not judge, or not as a whole.
    pub not_judged: usize,
    /// Its subjects on each system, by the system's number; systems without a subject are left out.
    pub rows: Vec<CheckRow>,
}

/// Subjects of a check on a system.
#[derive(Debug, Clone)]
pub struct CheckRow {
    /// The number of the system.
    pub system: usize,
    /// Subjects by answer.
    pub counts: AnswerCounts,
    /// What makes those right that are.
    pub passes: Vec<Held>,
    /// The same with quoted lines, where they were requested.
    pub quoted: Vec<PassEvidence>,
}

/// Coverage of an audit.
#[derive(Debug, Clone)]
pub struct Coverage {
    /// The date of the audit.
    pub as_of: String,
    /// Its scope, where the estate file states one.
    pub scope: Option<Scope>,
    /// Systems: devices in order of name, then those in scope without exports, then those out of scope without exports.
    pub systems: Vec<SystemCoverage>,
    /// Every check that is selected.
    pub checks: Vec<CheckCoverage>,
    /// Why no control can be met, as sentences; none where the scope is closed.
    pub open: Vec<String>,
    /// Whether nothing that could show a fault is missing: the scope is closed, and the exports of each system in it are complete.
    pub complete: bool,
    /// Whether every check and every system is selected: others may have failed.
    pub whole: bool,
}

/// What makes a subject right, for readers.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub struct PassEvidence {
    /// Lines, the one to cite first.
    pub evidence: Vec<Evidence>,
    /// The document of a default that decides.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub default: Option<&'static str>,
    /// A line of the estate file that decides, from 1.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub estate_file_line: Option<usize>,
    /// Whether it is right because few sources are permitted, or the device itself alone.
    #[serde(skip_serializing_if = "is_false")]
    pub limited: bool,
}

#[expect(clippy::trivially_copy_pass_by_ref, reason = "serde asks like this")]
fn is_false(value: &bool) -> bool {
    !*value
}

impl PassEvidence {
    /// Quotes what makes a subject right, secrets masked.
    #[must_use]
    pub fn of(estate: &Analyses, held: &Held) -> Self {
        let lines: Vec<Origin> = held.lines().collect();
        let (default, estate_file_line) = match held.by {
            HeldBy::Lines | HeldBy::Sources => (None, None),
            HeldBy::Default(source) => (Some(source), None),
            HeldBy::EstateFile(line) => (None, Some(line)),
        };
        let limited = held.by == HeldBy::Sources;
        Self { evidence: evidence(estate, &lines), default, estate_file_line, limited }
    }
}

impl SystemCoverage {
    /// Whether it counts.
    #[must_use]
    pub fn counts_in(&self) -> bool {
        self.standing != Standing::OutOfScope
    }

    /// Whether a check could judge all of it that was exported.
    #[must_use]
    pub fn is_judged_by(&self, check: &Check) -> bool {
        !self.is_absent() && !self.lacks.any_of(check.needs)
    }

    /// Whether it is in scope without an export.
    #[must_use]
    pub fn is_absent(&self) -> bool {
        self.gaps.iter().any(|gap| gap.kind == GapKind::NoExport)
    }

    /// Whether everything that was exported of it is there and was read.
    #[must_use]
    pub fn is_complete(&self) -> bool {
        !self.gaps.iter().any(Gap::decides)
    }
}

/// The coverage of an audit: its outcome, how the exports were handed over, and the devices to look at, all where there are none.
#[must_use]
pub fn coverage(estate: &Analyses, outcome: &Outcome, received: &Received, devices: &[String]) -> Coverage {
    let wanted = |name: &str| devices.is_empty() || devices.iter().any(|one| one == name);
    let all = systems(estate, received);
    let open = open(estate, received, &all);
    let complete = open.is_empty() && all.iter().all(|one| !one.counts_in() || one.is_complete());
    let mut systems = all.clone();
    systems.retain(|one| wanted(&one.name));
    let numbers: BTreeMap<Arc<str>, usize> =
        systems.iter().enumerate().map(|(at, one)| (Arc::clone(&one.name), at)).collect();
    let accepted = accepted(outcome, &numbers, &systems);
    let away = absent_out_of_scope(estate).count();
    let ids: BTreeSet<&str> = outcome.checks.iter().copied().collect();
    let mut tested = outcome.tested.as_slice();
    let mut checks = Vec::new();
    for check in CHECKS.iter().copied() {
        let count = tested.iter().take_while(|row| row.check == check.id).count();
        let (of_check, rest) = tested.split_at(count);
        tested = rest;
        if !ids.contains(check.id) {
            continue;
        }
        let mut found = CheckCoverage {
            check,
            counts: AnswerCounts::default(),
            accepted: accepted.get(check.id).copied().unwrap_or_default(),
            not_judged: 0,
            rows: Vec::with_capacity(of_check.len()),
        };
        // Paths lead through other systems, also through those that were not exported.
        let (looked_at, away) = if follows_paths(check) { (&all, away) } else { (&systems, 0) };
        let lacking = looked_at.iter().filter(|one| one.counts_in() && !one.is_judged_by(check));
        found.not_judged = lacking.count() + away;
        for row in of_check {
            let Some(&system) = numbers.get(&*row.device) else { continue };
            if systems[system].counts_in() {
                found.counts += row.counts;
            }
            systems[system].counts += row.counts;
            found.rows.push(CheckRow {
                system,
                counts: row.counts,
                passes: row.passes.clone(),
                quoted: Vec::new(),
            });
        }
        checks.push(found);
    }
    for one in &mut systems {
        one.not_judged = checks.iter().filter(|found| !one.is_judged_by(found.check)).count();
    }
    let whole = checks.len() == CHECKS.len() && systems.len() == all.len();
    let (as_of, scope) = (outcome.as_of.clone(), estate.scope.clone());
    Coverage { as_of, scope, systems, checks, open, complete, whole }
}

impl Coverage {
    /// Quotes what makes subjects right, for so many subjects of each check and system.
    pub fn quote(&mut self, estate: &Analyses, most: usize) {
        let rows = self.checks.par_iter_mut().flat_map(|check| &mut check.rows);
        rows.for_each(|row| {
            row.quoted = row.passes.iter().take(most).map(|held| PassEvidence::of(estate, held)).collect();
        });
    }

    /// Systems in scope.
    pub fn in_scope(&self) -> impl Iterator<Item = &SystemCoverage> {
        self.systems.iter().filter(|one| one.counts_in())
    }

    /// Systems in scope that a check could not judge, or not as a whole.
    pub fn not_judged_by<'a>(&'a self, check: &'a Check) -> impl Iterator<Item = &'a SystemCoverage> {
        self.in_scope().filter(move |one| !one.is_judged_by(check))
    }

    /// Subjects of all checks on the systems in scope, by answer.
    #[must_use]
    pub fn counts(&self) -> AnswerCounts {
        let mut counts = AnswerCounts::default();
        self.checks.iter().for_each(|one| counts += one.counts);
        counts
    }
}

/// Whether a check follows connections through the devices of the estate.
fn follows_paths(check: &Check) -> bool {
    matches!(check.run, Run::Analyses(_)) && check.needs.contains(&Need::Filter)
}

/// Systems out of scope that were not exported.
fn absent_out_of_scope(estate: &Analyses) -> impl Iterator<Item = &str> {
    let out = estate.scope.iter().flat_map(|scope| scope.out.keys());
    out.filter(|name| !estate.devices.iter().any(|device| device.name == **name)).map(String::as_str)
}

/// Accepted findings of each check on systems that count.
fn accepted(
    outcome: &Outcome,
    numbers: &BTreeMap<Arc<str>, usize>,
    systems: &[SystemCoverage],
) -> BTreeMap<&'static str, usize> {
    let mut found = BTreeMap::new();
    for one in outcome.findings().filter(|one| one.status == Status::Accepted) {
        if numbers.get(&*one.device).is_some_and(|at| systems[*at].counts_in()) {
            *found.entry(one.check).or_default() += 1;
        }
    }
    found
}

fn systems(estate: &Analyses, received: &Received) -> Vec<SystemCoverage> {
    let scope = estate.scope.as_ref();
    let bare = |name: &str, standing: Standing, reason: Option<String>| SystemCoverage {
        name: name.into(),
        standing,
        reason,
        gaps: Vec::new(),
        lacks: Lacks::default(),
        counts: AnswerCounts::default(),
        not_judged: 0,
    };
    let lacks = lacks::of_all(estate);
    let mut gaps = received::gaps(estate, received);
    let mut systems: Vec<SystemCoverage> = Vec::new();
    for (at, device) in estate.devices.iter().enumerate() {
        let listed = |scope: &Scope| match scope.out.get(&device.name) {
            Some(reason) => (Standing::OutOfScope, Some(reason.clone())),
            None if scope.systems.contains(&device.name) => (Standing::InScope, None),
            None => (Standing::NotListed, None),
        };
        let (standing, reason) = scope.map_or((Standing::InScope, None), listed);
        let mut one = bare(&device.name, standing, reason);
        (one.gaps, one.lacks) = (std::mem::take(&mut gaps[at]), lacks[at]);
        systems.push(one);
    }
    if let Some(scope) = scope {
        for name in &scope.systems {
            if !systems.iter().any(|one| *one.name == **name) {
                let mut one = bare(name, Standing::InScope, None);
                one.gaps.push(Gap::of(GapKind::NoExport, Vec::new()));
                one.lacks = Lacks::all();
                systems.push(one);
            }
        }
        for name in absent_out_of_scope(estate) {
            systems.push(bare(name, Standing::OutOfScope, scope.out.get(name).cloned()));
        }
    }
    systems
}

/// Why no control can be met.
fn open(estate: &Analyses, received: &Received, systems: &[SystemCoverage]) -> Vec<String> {
    let mut found = Vec::new();
    match &estate.scope {
        None => found.push(
            "The estate file does not state which systems are in scope ([scope] in trevlin.toml), so a system that was not exported \
             cannot be noticed."
                .to_owned(),
        ),
        Some(scope) if scope.systems.is_empty() => {
            found.push("The scope names no system ([scope] in trevlin.toml, `systems`).".to_owned());
        }
        Some(_) => {}
    }
    let unlisted: Vec<&str> =
        systems.iter().filter(|one| one.standing == Standing::NotListed).map(|one| &*one.name).collect();
    if !unlisted.is_empty() {
        found.push(format!(
            "Exported systems are neither in scope nor out of scope: {}.",
            unlisted.join(", ")
        ));
    }
    let lost = received.lost_elsewhere(estate);
    if !lost.is_empty() {
        found.push(format!("Files that have a checksum are missing: {}.", lost.join(", ")));
    }
    found
}
