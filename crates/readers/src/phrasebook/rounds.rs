//! Repeated groups: each repetition lands by itself, with the values that stand outside.

use super::pattern::Group;
use super::syntax::Repeats;
use super::target::{Pick, Plan, Target, Values};
use crate::sheet::node::Node;
use std::ops::Range;

/// Landings that happen together, once for each combination of the repetitions of their axes.
#[derive(Debug, Clone)]
pub(super) struct Run {
    /// Numbers of the landings.
    pub(super) range: Range<usize>,
    axes: Vec<Axis>,
}

impl Run {
    /// Whether it happens more than once.
    pub(super) fn repeats(&self) -> bool {
        !self.axes.is_empty()
    }
}

/// Captures that are taken together, repetition by repetition.
#[derive(Debug, Clone, PartialEq, Eq)]
struct Axis {
    captures: Vec<usize>,
    groups: Vec<usize>,
    /// Whether it repeats values only: then it makes no new entries.
    of_values: bool,
}

/// How many combinations of repetitions one statement may have.
const MOST: usize = 4096;

/// Paths, each with its value.
type Landings = Vec<(Target, Plan)>;

/// Sorts landings by the repetitions that they belong to. `groups` are those of a phrase, over all its levels.
pub(super) fn runs(lands: &mut Landings, groups: &[Group]) -> Vec<Run> {
    if groups.is_empty() {
        return vec![Run { range: 0..lands.len(), axes: Vec::new() }];
    }
    let mut by_axes: Vec<(Vec<Axis>, Landings)> = Vec::new();
    let used: Vec<Vec<usize>> = lands.iter().map(|(target, plan)| repeated(target, plan, groups)).collect();
    for (target, plan) in lands.iter() {
        // What lands in one new entry does so together.
        let mut captures: Vec<usize> = Vec::new();
        for ((other, _), used) in lands.iter().zip(&used) {
            let same = std::ptr::eq(other, target)
                || target.new_entry().is_some_and(|entry| other.new_entry() == Some(entry));
            let of_group = |capture: &&usize| {
                groups.iter().any(|one| one.repeats == Repeats::Group && one.captures.contains(capture))
            };
            if std::ptr::eq(other, target) {
                captures.extend(used);
            } else if same {
                captures.extend(used.iter().filter(of_group));
            }
        }
        let axes = axes(captures, groups);
        match by_axes.iter_mut().find(|(known, _)| *known == axes) {
            Some((_, all)) => all.push((target.clone(), plan.clone())),
            None => by_axes.push((axes, vec![(target.clone(), plan.clone())])),
        }
    }
    lands.clear();
    let run = |(axes, all): (Vec<Axis>, Landings)| {
        let start = lands.len();
        lands.extend(all);
        Run { range: start..lands.len(), axes }
    };
    by_axes.into_iter().map(run).collect()
}

/// Captures of a landing that it takes repetition by repetition. Repeated values without a group are a list, unless they are part of
/// a text or select an entry.
fn repeated(target: &Target, plan: &Plan, groups: &[Group]) -> Vec<usize> {
    let (mut selects, mut lands) = (Vec::new(), Vec::new());
    target.used(&mut selects);
    plan.used(&mut lands);
    let adds = matches!(target.0.last(), Some((_, Pick::New)));
    let is_text = |plan: &Plan| matches!(plan, Plan::Text(_) | Plan::Join(_));
    let part_of_text = adds
        && match plan {
            Plan::List(all) => all.iter().any(is_text),
            one => is_text(one),
        };
    let is = |capture: usize, by_value: bool| {
        groups
            .iter()
            .any(|group| group.captures.contains(&capture) && (by_value || group.repeats == Repeats::Group))
    };
    let selects = selects.into_iter().filter(|capture| is(*capture, true));
    selects.chain(lands.into_iter().filter(|capture| is(*capture, part_of_text))).collect()
}

/// Captures with a group in common belong together.
fn axes(mut captures: Vec<usize>, groups: &[Group]) -> Vec<Axis> {
    captures.sort_unstable();
    captures.dedup();
    let mut found: Vec<Axis> = Vec::new();
    for capture in captures {
        let own = groups.iter().enumerate().filter(|(_, group)| group.captures.contains(&capture));
        let mut axis = Axis {
            captures: vec![capture],
            of_values: own.clone().all(|(_, group)| group.repeats == Repeats::Value),
            groups: own.map(|(number, _)| number).collect(),
        };
        let (shared, apart): (Vec<Axis>, Vec<Axis>) = std::mem::take(&mut found)
            .into_iter()
            .partition(|one| one.groups.iter().any(|group| axis.groups.contains(group)));
        for one in shared {
            axis.captures.extend(one.captures);
            axis.groups.extend(one.groups);
            axis.of_values &= one.of_values;
        }
        axis.captures.sort_unstable();
        axis.groups.sort_unstable();
        axis.groups.dedup();
        found = apart;
        found.push(axis);
    }
    // Those that make entries first: repetitions of values come within them.
    found.sort_by_key(|axis| axis.of_values);
    found
}

/// Values of the repetitions of a match.
#[derive(Debug, Default)]
pub(super) struct Rounds {
    all: Vec<Round>,
    open: Vec<usize>,
    outside: Vec<(usize, Node)>,
}

#[derive(Debug)]
struct Round {
    group: usize,
    outer: Option<usize>,
    values: Vec<(usize, Node)>,
}

impl Rounds {
    /// A repetition of a group begins; an earlier one of the same group ends.
    pub(super) fn begin(&mut self, group: usize) {
        self.done(group);
        self.all.push(Round { group, outer: self.open.last().copied(), values: Vec::new() });
        self.open.push(self.all.len() - 1);
    }

    /// The repetitions of a group end, with those in it.
    pub(super) fn done(&mut self, group: usize) {
        if let Some(at) = self.open.iter().position(|round| self.all[*round].group == group) {
            self.open.truncate(at);
        }
    }

    /// Adds a captured value.
    pub(super) fn add(&mut self, capture: usize, node: Node) {
        match self.open.last() {
            Some(round) => self.all[*round].values.push((capture, node)),
            None => self.outside.push((capture, node)),
        }
    }

    /// Goes through the combinations of a run: sets the values of its captures, and counts those that make entries.
    ///
    /// # Errors
    /// When there are too many.
    pub(super) fn each(
        &self,
        run: &Run,
        values: &mut Values,
        mut land: impl FnMut(&Values, u64),
    ) -> Result<(), String> {
        if run.axes.is_empty() {
            land(values, 0);
            return Ok(());
        }
        let by_axis: Vec<Vec<Vec<(usize, &Node)>>> = run.axes.iter().map(|axis| self.along(axis)).collect();
        let number = by_axis.iter().try_fold(1usize, |all, one| all.checked_mul(one.len()));
        let number = number.filter(|number| *number <= MOST).ok_or_else(|| {
            format!(
                "this statement has more than {MOST} combinations of repeated values, the limit for a phrase"
            )
        })?;
        let of_values = run.axes.iter().zip(&by_axis).filter(|(axis, _)| axis.of_values);
        let within: usize = of_values.map(|(_, rounds)| rounds.len()).product();
        let saved: Vec<(usize, Option<Node>)> = run
            .axes
            .iter()
            .flat_map(|axis| &axis.captures)
            .map(|capture| (*capture, values.take(*capture)))
            .collect();
        for count in 0..number {
            let mut rest = count;
            for (axis, rounds) in run.axes.iter().zip(&by_axis).rev() {
                for capture in &axis.captures {
                    values.take(*capture);
                }
                for (capture, node) in &rounds[rest % rounds.len()] {
                    values.add(*capture, (*node).clone());
                }
                rest /= rounds.len();
            }
            land(values, (count / within) as u64);
        }
        for (capture, node) in saved {
            values.take(capture);
            if let Some(node) = node {
                values.add(capture, node);
            }
        }
        Ok(())
    }

    /// Values of an axis: first those outside of its groups, then one repetition after the other, the innermost each with those around it.
    fn along(&self, axis: &Axis) -> Vec<Vec<(usize, &Node)>> {
        let wanted = |(capture, _): &&(usize, Node)| axis.captures.contains(capture);
        let mut found = Vec::new();
        let outside: Vec<(usize, &Node)> =
            self.outside.iter().filter(wanted).map(|(capture, node)| (*capture, node)).collect();
        if !outside.is_empty() {
            found.push(outside);
        }
        let counts = |round: usize| axis.groups.contains(&self.all[round].group);
        let around: Vec<bool> = {
            let mut around = vec![false; self.all.len()];
            for round in (0..self.all.len()).filter(|round| counts(*round)) {
                let mut outer = self.all[round].outer;
                while let Some(at) = outer.filter(|at| !around[*at]) {
                    around[at] = true;
                    outer = self.all[at].outer;
                }
            }
            around
        };
        for round in (0..self.all.len()).filter(|round| counts(*round) && !around[*round]) {
            let mut values = Vec::new();
            let mut at = Some(round);
            while let Some(one) = at.map(|at| &self.all[at]) {
                values.extend(one.values.iter().filter(wanted).map(|(capture, node)| (*capture, node)));
                at = one.outer;
            }
            found.push(values);
        }
        // Nothing was taken: what needs none of it lands all the same.
        if found.is_empty() {
            found.push(Vec::new());
        }
        found
    }
}
