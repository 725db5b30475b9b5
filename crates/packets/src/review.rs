//! What each rule of a base chain is first to decide, and what follows from it: rules that never match, rules that change
//! nothing, and rules of which an earlier one with the opposite verdict takes a part.
//!
//! A rule is alive as soon as one packet is found that no earlier rule takes, and most rules show one at once. Only where none
//! is found are the earlier rules that meet it taken away from it, exactly.

use crate::cube::{Cube, FIELDS, Field, Point, Region, ranges, state};
use crate::diagram::{Diagrams, EMPTY, OverBudget, Set};
use crate::index::Index;
use crate::program::{Action, Ending, Program, RuleId, Step, Waiting, at_hook};
use crate::space::{Space, field};
use rayon::prelude::*;
use std::collections::BTreeMap;
use trevlin_model::{Chain, Filter, Hook};

/// Earlier steps that are taken away from one to prove that it never matches.
const MOST_BEFORE: usize = 6_000;
/// Steps that are taken away from one to tell what is left of it, or whether it changes anything.
const MOST_NEAR: usize = 256;
/// Steps that are looked at over a whole chain: each rule has its part of them, so that a list of very many broad rules ends too.
const WORK: usize = 600_000_000;
/// Packets of a cube that are tried.
const TRIES: u64 = 12;

/// Whether packets come to a rule and are decided there.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Standing {
    /// Some do.
    Alive,
    /// Its conditions, or those of the jump that leads to it, hold for no packet.
    Impossible,
    /// Earlier rules take everything it holds for.
    Covered {
        /// Those, in order; each takes a part that none before it takes.
        by: Vec<RuleId>,
    },
    /// A part of the chain is missing, or a condition before it is not modelled.
    NotDecided,
    /// Telling would have cost too much.
    TooCostly,
}

/// What is known of one rule at one base chain.
#[derive(Debug, Clone, PartialEq)]
pub struct RuleReview {
    /// Whether it ever decides.
    pub standing: Standing,
    /// Whether all its conditions are modelled.
    pub exact: bool,
    /// How much of the new connections it holds for it is first to decide. `None` where it holds for no new connections, or
    /// where telling would have cost too much.
    pub left: Option<Left>,
    /// Earlier rules with the opposite verdict that take a part of it.
    pub partly: Vec<Partly>,
    /// Where it changes nothing: the later rules that decide the same for what it takes, empty where the policy does.
    pub changes_nothing: Option<Vec<RuleId>>,
}

/// How much earlier rules leave to one.
#[derive(Debug, Clone, Copy, PartialEq, PartialOrd)]
pub enum Left {
    /// Nothing.
    Nothing,
    /// This share of it; a share that differs from 1 by less than numbers can tell is shown as 1.
    Part(f64),
    /// All of it.
    All,
}

/// An earlier rule with the opposite verdict that takes a part of a later one.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Partly {
    /// The earlier rule.
    pub by: RuleId,
    /// Whether everything it takes lies in the later one: an exception, as one writes it before the general rule.
    pub exception: bool,
}

/// The review of one base chain.
#[derive(Debug)]
pub struct ChainReview {
    /// Number of the chain in its table.
    pub chain: usize,
    /// Its hook.
    pub hook: Hook,
    /// What was found for each rule that packets of this hook can come to.
    pub rules: BTreeMap<RuleId, RuleReview>,
    /// Whether all of the chain could be followed.
    pub whole: bool,
}

/// Reviews a base chain.
#[must_use]
pub fn review(space: &Space, filter: &Filter, chain: &Chain) -> ChainReview {
    let program = Program::of(space, filter, chain);
    let hook = chain.hook.unwrap_or(Hook::Forward);
    let desk = Desk::new(space, &program, at_hook(space, hook));
    let numbers: Vec<u32> = (0..program.steps.len() as u32).collect();
    // A chain of which a part is missing may decide anything before a rule: none is said to be dead there.
    let steps: Vec<Option<(RuleId, RuleReview)>> =
        numbers.par_iter().map(|number| Some((desk.step(*number).rule?, desk.review(*number)))).collect();
    let mut rules: BTreeMap<RuleId, RuleReview> = BTreeMap::new();
    for (id, one) in steps.into_iter().flatten() {
        match rules.get_mut(&id) {
            Some(known) => known.join(one),
            None => {
                rules.insert(id, one);
            }
        }
    }
    let at = filter.chains.iter().position(|one| std::ptr::eq(one, chain)).unwrap_or(0);
    ChainReview { chain: at, hook, rules, whole: program.whole }
}

impl RuleReview {
    /// A rule that is reached in several ways: it is alive where it is alive in one, and what is said of it holds in all.
    pub fn join(&mut self, other: Self) {
        // Where it holds for nothing there is nothing to say of it.
        if other.standing == Standing::Impossible {
            return;
        }
        if self.standing == Standing::Impossible {
            *self = other;
            return;
        }
        self.exact &= other.exact;
        self.left = self.left.zip(other.left).map(|(a, b)| if a > b { a } else { b });
        self.partly.retain(|one| other.partly.contains(one));
        self.changes_nothing = match (self.changes_nothing.take(), other.changes_nothing) {
            (Some(mut a), Some(b)) => {
                a.extend(b.into_iter().filter(|one| !a.contains(one)).collect::<Vec<_>>());
                Some(a)
            }
            _ => None,
        };
        self.standing = match (std::mem::replace(&mut self.standing, Standing::Alive), other.standing) {
            (Standing::Alive, _) | (_, Standing::Alive) => Standing::Alive,
            (Standing::NotDecided, _) | (_, Standing::NotDecided) => Standing::NotDecided,
            (Standing::TooCostly, _) | (_, Standing::TooCostly) => Standing::TooCostly,
            (Standing::Covered { mut by }, Standing::Covered { by: more }) => {
                by.extend(more);
                by.sort_unstable();
                by.dedup();
                Standing::Covered { by }
            }
            // Both ways were gone through above.
            (other, Standing::Impossible) | (Standing::Impossible, other) => other,
        };
    }
}

/// What was found when the steps before one were taken away from it.
struct Remainder {
    /// What is left.
    set: Set,
    /// Steps that took a part, in order.
    takers: Vec<u32>,
}

/// Everything that is at hand while the steps of a program are reviewed.
struct Desk<'a> {
    greatest: [u128; FIELDS],
    nodes: usize,
    program: &'a Program,
    domain: Region,
    /// New connections that do not come from the device itself over its loopback.
    new: Region,
    index: Index,
}

impl<'a> Desk<'a> {
    fn new(space: &Space, program: &'a Program, domain: Region) -> Self {
        let greatest = space.greatest();
        let elsewhere = Cube::of(Field::Entering, space.from_elsewhere());
        let elsewhere = Region { cubes: elsewhere.into_iter().collect(), exact: true };
        let new = new_connections().and(&elsewhere);
        let index = Index::of(&program.steps, &greatest);
        Self { greatest, nodes: space.nodes(), program, domain, new, index }
    }

    fn step(&self, number: u32) -> &'a Step {
        &self.program.steps[number as usize]
    }

    fn review(&self, number: u32) -> RuleReview {
        let step = self.step(number);
        let mut review = RuleReview {
            standing: Standing::Alive,
            exact: step.region.exact,
            left: None,
            partly: Vec::new(),
            changes_nothing: None,
        };
        let region = step.region.and(&self.domain);
        if region.is_empty() {
            review.standing = if self.program.whole { Standing::Impossible } else { Standing::NotDecided };
            return review;
        }
        let mut witness = region.cubes.iter().find_map(|cube| self.witness(cube, number));
        if witness.is_none() {
            let mut sets = Diagrams::new(&self.greatest, self.nodes);
            review.standing = match self.remainder(&mut sets, &region, number, MOST_BEFORE) {
                Some(Remainder { set: EMPTY, takers }) if self.program.whole => {
                    let mut by: Vec<RuleId> = takers.iter().filter_map(|one| self.step(*one).rule).collect();
                    by.sort_unstable();
                    by.dedup();
                    review.left = Some(Left::Nothing);
                    Standing::Covered { by }
                }
                Some(Remainder { set, .. }) if set != EMPTY => {
                    witness = sets.witness(set).and_then(|point| point.try_into().ok());
                    Standing::Alive
                }
                None if self.program.whole => Standing::TooCostly,
                _ => Standing::NotDecided,
            };
        }
        if review.standing == Standing::Alive {
            self.what_is_left(number, &region, &mut review);
            if let Some(witness) = &witness {
                review.changes_nothing = self.changes_nothing(number, &region, witness);
            }
        }
        review
    }

    /// A packet of a cube that no earlier step takes.
    fn witness(&self, cube: &Cube, number: u32) -> Option<Point> {
        (0..TRIES).map(|seed| self.sample(cube, seed)).find(|point| !self.taken_before(point, number))
    }

    /// A packet of a cube: at first the least of each field, then the greatest, then others. The same every time.
    fn sample(&self, cube: &Cube, seed: u64) -> Point {
        let mut mix = seed.wrapping_mul(0x9e37_79b9_7f4a_7c15) | 1;
        let mut next = || {
            mix ^= mix << 13;
            mix ^= mix >> 7;
            mix ^= mix << 17;
            u128::from(mix) << 64 | u128::from(mix.wrapping_mul(0x2545_f491_4f6c_dd1d))
        };
        std::array::from_fn(|at| {
            let (which, place) = (next(), next());
            let whole = [(0, self.greatest[at])];
            let side = cube.side(field(at)).map_or(&whole[..], |side| side);
            // New connections of hosts elsewhere are what most rules are about.
            let usual = matches!(field(at), Field::State | Field::Reply | Field::TcpFlags) && seed % 4 != 3;
            match seed {
                _ if usual => side[0].0,
                0 => side[0].0,
                1 => side[side.len() - 1].1,
                _ => {
                    let (first, last) = side[(which % side.len() as u128) as usize];
                    match (last - first).checked_add(1) {
                        Some(size) => first + place % size,
                        None => place,
                    }
                }
            }
        })
    }

    /// Whether a packet never comes to a step, or may as well not.
    fn taken_before(&self, point: &Point, number: u32) -> bool {
        let mut lists = Vec::new();
        self.index.lists(point, &mut lists);
        let mut at = 0;
        while let Some(found) = self.next_for(&lists, point, at..number) {
            match self.step(found).action {
                Action::End(_) => return true,
                Action::Skip(to) if to > number => return true,
                Action::Skip(to) => at = to,
                Action::Pass { .. } => at = found + 1,
            }
        }
        false
    }

    /// The next step of a span, of those in some lists, that surely holds for a packet and decides where it goes.
    fn next_for(&self, lists: &[&[u32]], point: &Point, span: std::ops::Range<u32>) -> Option<u32> {
        let mut best = span.end;
        for list in lists {
            let from = list.partition_point(|one| *one < span.start);
            for one in &list[from..] {
                if *one >= best {
                    break;
                }
                let step = self.step(*one);
                let decides = !matches!(step.action, Action::Pass { .. });
                if decides && step.region.exact && step.region.contains(point) {
                    best = *one;
                    break;
                }
            }
        }
        (best < span.end).then_some(best)
    }

    /// The steps of a span that meet a region; `None` where there are too many.
    fn meeting(&self, region: &Region, span: std::ops::Range<u32>, most: usize) -> Option<Vec<u32>> {
        let mut found = Vec::new();
        let mut looked_at = (40 * most).min(WORK / self.program.steps.len().max(1));
        for cube in &region.cubes {
            // Most of what the index gives for a broad cube does not meet it in the other fields.
            let near = self.index.meeting(cube, span.clone(), looked_at)?;
            looked_at -= near.len().min(looked_at);
            found.extend(near.into_iter().filter(|one| self.step(*one).region.meets(cube)));
            if found.len() > most {
                return None;
            }
        }
        found.sort_unstable();
        found.dedup();
        Some(found)
    }

    /// What the steps before one leave of a region. `None` where that costs too much.
    fn remainder(&self, sets: &mut Diagrams, region: &Region, number: u32, most: usize) -> Option<Remainder> {
        let near = self.meeting(region, 0..number, most)?;
        self.take_away(sets, region, number, &near).ok()
    }

    fn take_away(
        &self,
        sets: &mut Diagrams,
        region: &Region,
        number: u32,
        near: &[u32],
    ) -> Result<Remainder, OverBudget> {
        let mut left = region.diagram(sets)?;
        let mut takers = Vec::new();
        // Packets that wait for the step they were sent on to.
        let mut waiting = Waiting::default();
        for one in near {
            left = waiting.joined(*one, left, sets)?;
            if left == EMPTY && waiting.is_empty() {
                break;
            }
            let step = self.step(*one);
            let skips_to = match step.action {
                Action::Pass { .. } => continue,
                Action::End(_) => None,
                Action::Skip(to) => Some(to).filter(|to| *to <= number),
            };
            if skips_to.is_none() && !step.region.exact {
                continue;
            }
            let here = step.region.diagram(sets)?;
            let taken = sets.intersection(left, here)?;
            if taken == EMPTY {
                continue;
            }
            match skips_to {
                Some(to) => {
                    waiting.send(to, taken, sets)?;
                }
                None => takers.push(*one),
            }
            if step.region.exact {
                left = sets.difference(left, here)?;
            }
        }
        left = waiting.joined(u32::MAX, left, sets)?;
        Ok(Remainder { set: left, takers })
    }

    /// How much of the new connections a step holds for is left to it, and which opposite rules took the rest.
    fn what_is_left(&self, number: u32, region: &Region, review: &mut RuleReview) {
        let new = region.and(&self.new);
        if new.is_empty() {
            return;
        }
        let mut sets = Diagrams::new(&self.greatest, self.nodes);
        let Some(Remainder { set, takers }) = self.remainder(&mut sets, &new, number, MOST_NEAR) else {
            return;
        };
        let Ok(whole) = new.diagram(&mut sets) else { return };
        review.left = Some(match (sets.log2_size(set), sets.log2_size(whole)) {
            _ if set == whole => Left::All,
            (Some(left), Some(whole)) => Left::Part((left - whole).exp2().min(1.0)),
            _ => Left::Nothing,
        });
        let Action::End(ours) = self.step(number).action else { return };
        for taker in takers {
            let Action::End(theirs) = self.step(taker).action else { continue };
            let Some(by) = self.step(taker).rule else { continue };
            let opposite = (ours == Ending::Accept) != (theirs == Ending::Accept);
            if opposite && theirs != Ending::NotModelled && !review.partly.iter().any(|one| one.by == by) {
                let earlier = self.step(taker).region.and(&self.domain).and(&self.new);
                let exception = earlier.cubes.iter().all(|cube| new.cubes.iter().any(|one| one.covers(cube)));
                review.partly.push(Partly { by, exception });
            }
        }
    }

    /// Whether a step could be left out: later ones, or the policy, decide the same for everything that it takes, and no log
    /// line is gained or lost.
    fn changes_nothing(&self, number: u32, region: &Region, witness: &Point) -> Option<Vec<RuleId>> {
        let step = self.step(number);
        let Action::End(ours) = step.action else { return None };
        if ours == Ending::NotModelled || step.logs || !step.region.exact || !self.program.whole {
            return None;
        }
        // Most rules show at once that they matter: what becomes of the one packet without them.
        let end = self.program.steps.len() as u32;
        let mut at = number + 1;
        let mut lists = Vec::new();
        self.index.lists(witness, &mut lists);
        let met = loop {
            match self.next_for(&lists, witness, at..end).map(|one| (one, self.step(one).action)) {
                None => break self.program.policy,
                // The same rule where its chain is jumped to again would be gone as well.
                Some((one, _)) if self.step(one).rule == step.rule => at = one + 1,
                Some((_, Action::End(ending))) => break ending,
                Some((_, Action::Skip(to))) => at = to,
                Some((one, Action::Pass { .. })) => at = one + 1,
            }
        };
        if met != ours {
            return None;
        }
        let mut sets = Diagrams::new(&self.greatest, self.nodes);
        let taken = self.remainder(&mut sets, region, number, MOST_NEAR)?.set;
        let mut later = self.meeting(region, number + 1..end, MOST_NEAR)?;
        later.retain(|one| self.step(*one).rule != step.rule);
        self.same_later(&mut sets, taken, ours, &later).ok().flatten()
    }

    fn same_later(
        &self,
        sets: &mut Diagrams,
        taken: Set,
        ours: Ending,
        later: &[u32],
    ) -> Result<Option<Vec<RuleId>>, OverBudget> {
        let mut left = taken;
        let mut by = Vec::new();
        let mut waiting = Waiting::default();
        for one in later {
            left = waiting.joined(*one, left, sets)?;
            if left == EMPTY && waiting.is_empty() {
                break;
            }
            let step = self.step(*one);
            let here = step.region.diagram(sets)?;
            let met = sets.intersection(left, here)?;
            if met == EMPTY {
                continue;
            }
            if step.logs {
                return Ok(None);
            }
            match step.action {
                Action::Pass { marks: false } => continue,
                Action::End(ending) if ending == ours && step.region.exact => by.extend(step.rule),
                // One that may or may not hold ends the same, so it makes no difference.
                Action::End(ending) if ending == ours => continue,
                Action::Skip(to) => {
                    waiting.send(to, met, sets)?;
                }
                Action::End(_) | Action::Pass { .. } => return Ok(None),
            }
            if step.region.exact {
                left = sets.difference(left, here)?;
            }
        }
        left = waiting.joined(u32::MAX, left, sets)?;
        Ok((left == EMPTY || self.program.policy == ours).then_some(by))
    }
}

/// First packets of connections, as hosts send them.
#[must_use]
pub fn new_connections() -> Region {
    let new = Cube::of(Field::State, ranges(vec![(state::NEW, state::NEW)]));
    let forward = Cube::of(Field::Reply, ranges(vec![(0, 0)]));
    let cube = new.zip(forward).and_then(|(new, forward)| new.and(&forward));
    Region { cubes: cube.into_iter().collect(), exact: true }
}
