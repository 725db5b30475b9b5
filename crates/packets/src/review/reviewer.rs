//! State of a review, and the decisions made for each step.
//!
//! Long because each decision uses the results of the others.

use super::{Escape, Left, Partly, RuleReview, RuleStatus, new_connections};
use crate::cube::{Cube, FIELDS, Field, Point, Region, Value};
use crate::diagram::{Diagrams, EMPTY, OverBudget, Set};
use crate::grid::within;
use crate::index::{Index, LookedUp};
use crate::program::{Action, Ending, Program, RuleId, Step, Waiting};
use crate::space::{Space, field};
use rayon::prelude::*;
use std::ops::{ControlFlow, Range};

/// Earlier steps that are taken away from one to prove that it never matches.
const MOST_BEFORE: usize = 6_000;
/// Number of steps subtracted from one to compute its remainder, or to decide whether it has an effect.
const MOST_NEAR: usize = 256;
/// How many cubes one node of a set diagram counts as.
const WORK_OF_NODE: usize = 4;
/// How many edges of set diagrams that are gone through count as one cube.
const EDGES_FOR_ONE: usize = 4;
/// How many cubes a cube counts as that is cut down to another and kept.
const WORK_OF_CUT: usize = 24;
/// Number of steps excluded by their signature that count as one cube.
const PASSED_FOR_ONE: usize = 16;
/// The share of the work limit that is divided equally among the rules at first. The remainder is used for those that need more.
const FIRST: usize = 4;
/// How many times as much a rule has to be given, for it to be looked at again.
const MORE: usize = 2;
/// Packets of a cube that are tried.
const TRIES: u64 = 12;
/// Number of cubes of a rule for which sample packets are tried before the exact computation.
const MOST_CUBES: usize = 50;

/// The remainder of a step after subtracting the steps before it.
struct Remainder {
    /// The remainder.
    set: Set,
    /// Steps that took a part, in order.
    takers: Vec<u32>,
}

/// Remaining work for one rule, in cubes; deterministic, so that results do not depend on the machine.
struct Work {
    left: usize,
    /// Whether it was too little.
    short: bool,
}

impl Work {
    /// Takes from it; `None` where that is more than is left.
    fn take(&mut self, cubes: usize) -> Option<()> {
        self.short |= cubes > self.left;
        self.left = self.left.saturating_sub(cubes);
        (!self.short).then_some(())
    }

    /// Lets something have a half of it.
    fn half<T>(&mut self, run: impl FnOnce(&mut Self) -> T) -> T {
        let mut half = Self { left: self.left / 2, short: false };
        let kept = self.left - half.left;
        let found = run(&mut half);
        self.left = kept + half.left;
        found
    }
}

/// The steps that overlap a region.
enum Meeting {
    /// All of them, in order.
    All(Vec<u32>),
    /// Some of too many.
    TooMany(Vec<u32>),
    /// Finding them costs too much.
    TooCostly,
}

impl Meeting {
    /// All of them, where they are not too many.
    fn all(self) -> Option<Vec<u32>> {
        match self {
            Self::All(steps) => Some(steps),
            Self::TooMany(_) | Self::TooCostly => None,
        }
    }
}

/// Everything that is at hand while the steps of a program are reviewed.
pub(super) struct RuleReviewer<'a> {
    greatest: [u128; FIELDS],
    nodes: usize,
    program: &'a Program,
    domain: Region,
    /// New connections that do not come from the device itself over its loopback.
    new: Region,
    /// New connections whose source lies behind the interface by which they enter.
    genuine: Region,
    index: Index,
}

impl<'a> RuleReviewer<'a> {
    pub(super) fn new(space: &Space, program: &'a Program, domain: Region, genuine: &Region) -> Self {
        let greatest = space.greatest();
        let elsewhere = Cube::of(Field::Entering, space.from_elsewhere());
        let elsewhere = Region { cubes: elsewhere.into_iter().collect(), exact: true };
        let new = new_connections().and(&elsewhere);
        let index = Index::of(&program.steps, &greatest);
        let genuine = new.and(genuine);
        Self { greatest, nodes: space.nodes(), program, domain, new, genuine, index }
    }

    pub(super) fn step(&self, number: u32) -> &'a Step {
        &self.program.steps[number as usize]
    }

    /// Results of every step of a rule, by its number, within a common work limit.
    pub(super) fn share_out(&self, mut work: usize) -> impl Iterator<Item = (u32, RuleReview)> {
        let mut found: Vec<Option<RuleReview>> = Vec::new();
        found.resize_with(self.program.steps.len(), || None);
        let mut open: Vec<u32> =
            (0..self.program.steps.len() as u32).filter(|number| self.step(*number).rule.is_some()).collect();
        let mut share = work / FIRST / open.len().max(1);
        loop {
            let reviews: Vec<(RuleReview, Work)> = open
                .par_iter()
                .map(|number| self.review(*number, Work { left: share, short: false }))
                .collect();
            let mut short = Vec::new();
            for (number, (review, rest)) in open.into_iter().zip(reviews) {
                work = work.saturating_sub(share - rest.left);
                if rest.short {
                    short.push(number);
                }
                found[number as usize] = Some(review);
            }
            let next = work / short.len().max(1);
            if short.is_empty() || next < MORE * share {
                return (0..).zip(found).filter_map(|(number, review)| Some((number, review?)));
            }
            (open, share) = (short, next);
        }
    }

    /// Results of a step within a work limit, and the remaining work.
    fn review(&self, number: u32, mut work: Work) -> (RuleReview, Work) {
        let step = self.step(number);
        let mut review = RuleReview {
            status: RuleStatus::Alive,
            exact: step.region.exact,
            left: None,
            partly: Vec::new(),
            escaped: None,
            leads_to_nothing: self.leads_to_nothing(number),
            changes_nothing: None,
        };
        // For a chain that could not be analysed the only result is that packets reach it.
        let told = |status| if self.program.whole { status } else { RuleStatus::NotDecided };
        if work.take(WORK_OF_CUT * step.region.cubes.len()).is_none() {
            review.status = told(RuleStatus::TooCostly);
            return (review, work);
        }
        let region = step.region.and(&self.domain);
        if region.is_empty() {
            review.status = told(RuleStatus::Impossible);
            return (review, work);
        }
        let mut witness = work.half(|work| self.witness(&region, number, work));
        if witness.is_none() {
            let mut sets = self.sets(&work);
            let before = self.meeting(&region, 0..number, MOST_BEFORE, &mut work).all();
            let remainder =
                before.and_then(|before| self.remainder(&mut sets, &region, number, &before, &mut work));
            review.status = match remainder {
                Some(Remainder { set: EMPTY, takers }) if self.program.whole => {
                    let mut by: Vec<RuleId> = takers.iter().filter_map(|one| self.step(*one).rule).collect();
                    by.sort_unstable();
                    by.dedup();
                    review.left = Some(Left::Nothing);
                    review.escaped = self.accepted_after_all(number, &region, &mut work);
                    RuleStatus::Covered { by }
                }
                Some(Remainder { set, .. }) if set != EMPTY => {
                    witness = sets.witness(set).and_then(|point| point.try_into().ok());
                    RuleStatus::Alive
                }
                None => told(RuleStatus::TooCostly),
                Some(_) => RuleStatus::NotDecided,
            };
        }
        if review.status == RuleStatus::Alive {
            let before = self.meeting(&region, 0..number, MOST_NEAR, &mut work);
            self.what_is_left(number, &region, &before, &mut work, &mut review);
            if !review.partly.is_empty() {
                review.escaped = self.forged_left(number, &region, &before, &mut work);
            }
            if let Some((witness, before)) = witness.zip(before.all()) {
                review.changes_nothing = self.changes_nothing(number, &region, &witness, &before, &mut work);
            }
        }
        (review, work)
    }

    /// A packet of a region that no earlier step takes. `None` where none of the samples is one, or sampling exceeds the limit: one may
    /// still exist.
    fn witness(&self, region: &Region, number: u32, work: &mut Work) -> Option<Point> {
        for cube in region.cubes.iter().take(MOST_CUBES) {
            for seed in 0..TRIES {
                let point = self.sample(cube, seed);
                if !self.taken_before(&point, number, work)? {
                    return Some(point);
                }
            }
        }
        None
    }

    /// A packet of a cube: at first the least of each field, then the greatest, then others. The same every time.
    fn sample(&self, cube: &Cube, seed: u64) -> Point {
        let mut mix = seed.wrapping_mul(0x9e37_79b9_7f4a_7c15) | 1;
        let mut next = || {
            mix ^= mix << 13;
            mix ^= mix >> 7;
            mix ^= mix << 17;
            mix
        };
        std::array::from_fn(|at| {
            let whole = [(0, self.greatest[at])];
            let side = cube.side(field(at)).map_or(&whole[..], |side| side);
            // New connections of hosts elsewhere are what most rules are about.
            let usual = matches!(field(at), Field::State | Field::Reply | Field::TcpFlags) && seed % 4 != 3;
            match seed {
                _ if usual => side[0].0,
                0 => side[0].0,
                1 => side[side.len() - 1].1,
                _ => {
                    let (first, last) = side[(next() % side.len() as u64) as usize];
                    first + below(last - first, next())
                }
            }
        })
    }

    /// Whether a packet never comes to a step, or may as well not. `None` where telling costs too much.
    fn taken_before(&self, point: &Point, number: u32, work: &mut Work) -> Option<bool> {
        let looked_up = self.index.look_up(point);
        // That costs as well.
        work.take(FIELDS + looked_up.lists.len())?;
        let mut at = 0;
        while let Some(found) = self.next_for(&looked_up, at..number, true, work)? {
            match self.step(found).action {
                Action::End(_) => return Some(true),
                Action::Skip(to) if to > number => return Some(true),
                Action::Skip(to) => at = to,
                Action::Pass { .. } => at = found + 1,
            }
        }
        Some(false)
    }

    /// The next step of a span that holds for a packet, or may where `surely` is not required, and decides where it goes. `None` where
    /// finding it costs too much.
    fn next_for(
        &self,
        packet: &LookedUp<'_>,
        span: Range<u32>,
        surely: bool,
        work: &mut Work,
    ) -> Option<Option<u32>> {
        let mut best = span.end;
        for list in &packet.lists {
            for one in within(list, &(span.start..best)) {
                let may_hold = self.index.may_meet(&packet.signature, one);
                let step = self.step(one);
                work.take(if may_hold { step.region.cubes.len() } else { 1 })?;
                if !may_hold {
                    continue;
                }
                let decides = !matches!(step.action, Action::Pass { .. });
                if decides && (step.region.exact || !surely) && step.region.contains(packet.point) {
                    best = one;
                    break;
                }
            }
        }
        Some((best < span.end).then_some(best))
    }

    /// No sets yet, of as many nodes as the work that is left allows.
    fn sets(&self, work: &Work) -> Diagrams {
        Diagrams::new(&self.greatest, self.nodes.min(work.left / WORK_OF_NODE))
            .walking(work.left.saturating_mul(EDGES_FOR_ONE))
    }

    /// Result of set operations, with their work deducted. Sets that exceed the node budget for lack of work count as not decided.
    fn paid<T>(&self, sets: &Diagrams, found: Result<T, OverBudget>, work: &mut Work) -> Option<T> {
        work.short |= found.is_err() && sets.len() < self.nodes;
        let cost = WORK_OF_NODE * sets.len() + sets.walked() / EDGES_FOR_ONE;
        work.left = work.left.saturating_sub(cost);
        found.ok()
    }

    /// The steps of a span that overlap a region, if there are at most this number.
    fn meeting(&self, region: &Region, span: Range<u32>, most: usize, work: &mut Work) -> Meeting {
        let mut found = Vec::new();
        let mut room = most;
        let mut passed = 0;
        // Often they differ in nothing but the state of connections.
        for cubes in region.cubes.chunk_by(Index::alike) {
            let stopped = self.index.near(&cubes[0], &span, &mut |number| {
                let near = number.map(|number| (number, &self.step(number).region));
                let cost = match near {
                    Some((_, region)) => region.cubes.len(),
                    None => {
                        passed += 1;
                        usize::from(passed % PASSED_FOR_ONE == 0)
                    }
                };
                if work.take(cost).is_none() {
                    return ControlFlow::Break(());
                }
                if let Some((number, region)) = near
                    && cubes.iter().any(|cube| region.meets(cube))
                {
                    found.push(number);
                    if found.len() > room {
                        // The same step is met in several places.
                        found.sort_unstable();
                        found.dedup();
                        if found.len() > most {
                            return ControlFlow::Break(());
                        }
                        room = found.len() + most;
                    }
                }
                ControlFlow::Continue(())
            });
            if stopped.is_break() {
                return if work.short { Meeting::TooCostly } else { Meeting::TooMany(found) };
            }
        }
        found.sort_unstable();
        found.dedup();
        if found.len() > most { Meeting::TooMany(found) } else { Meeting::All(found) }
    }

    /// The remainder of a region after the overlapping steps before it. `None` where that exceeds the limit.
    fn remainder(
        &self,
        sets: &mut Diagrams,
        region: &Region,
        number: u32,
        before: &[u32],
        work: &mut Work,
    ) -> Option<Remainder> {
        let left = self.take_away(sets, region, number, before);
        self.paid(sets, left, work)
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

    /// Share of a step's new connections that is left to it, and the opposite rules that took the rest. Known overlapping steps before it
    /// are passed in.
    fn what_is_left(
        &self,
        number: u32,
        region: &Region,
        before: &Meeting,
        work: &mut Work,
        review: &mut RuleReview,
    ) {
        if work.take(WORK_OF_CUT * region.cubes.len()).is_none() {
            return;
        }
        let new = region.and(&self.new);
        if new.is_empty() {
            return;
        }
        let meets = |one: &&u32| new.cubes.iter().any(|cube| self.step(**one).region.meets(cube));
        let near: Vec<u32> = match before {
            Meeting::All(before) => before.iter().filter(meets).copied().collect(),
            Meeting::TooMany(some) if some.iter().filter(meets).count() > MOST_NEAR => return,
            // Those that meet the new connections alone may be few enough.
            Meeting::TooMany(_) | Meeting::TooCostly => {
                match self.meeting(&new, 0..number, MOST_NEAR, work).all() {
                    Some(near) => near,
                    None => return,
                }
            }
        };
        // Most rules are the first to hold for anything they hold for.
        if near.is_empty() {
            review.left = Some(Left::All);
            return;
        }
        let mut sets = self.sets(work);
        let Some(Remainder { set, takers }) = self.remainder(&mut sets, &new, number, &near, work) else {
            return;
        };
        let Ok(whole) = new.diagram(&mut sets) else { return };
        review.left = Some(if set == whole {
            Left::All
        } else {
            match (sets.log2_size(set), sets.log2_size(whole)) {
                (Some(left), Some(whole)) => Left::Part((left - whole).exp2().min(1.0)),
                _ => Left::Nothing,
            }
        });
        let Action::End(ours) = self.step(number).action else { return };
        for taker in takers {
            let Action::End(theirs) = self.step(taker).action else { continue };
            let Some(by) = self.step(taker).rule else { continue };
            let opposite = (ours == Ending::Accept) != (theirs == Ending::Accept);
            if opposite && theirs != Ending::NotAnalysed && !review.partly.iter().any(|one| one.by == by) {
                let earlier = self.step(taker).region.and(&self.domain).and(&self.new);
                let exception = earlier.cubes.iter().all(|cube| new.cubes.iter().any(|one| one.covers(cube)));
                review.partly.push(Partly { by, exception });
            }
        }
    }

    /// For a deny to which no packet comes: whether a new connection that it names is accepted, by samples.
    fn accepted_after_all(&self, number: u32, region: &Region, work: &mut Work) -> Option<Escape> {
        self.denies(number)?;
        for cube in region.and(&self.new).cubes.iter().take(MOST_CUBES) {
            for seed in 0..TRIES {
                let point = self.sample(cube, seed);
                if self.ending_of(&point, work)? == Ending::Accept {
                    return Some(Escape::AcceptedLater);
                }
            }
        }
        None
    }

    /// For a deny of which earlier steps take a part: whether they take every genuine connection that it names.
    fn forged_left(&self, number: u32, region: &Region, before: &Meeting, work: &mut Work) -> Option<Escape> {
        self.denies(number)?;
        let Meeting::All(before) = before else { return None };
        work.take(WORK_OF_CUT * region.cubes.len())?;
        let genuine = region.and(&self.genuine);
        if genuine.is_empty() {
            return None;
        }
        let mut sets = self.sets(work);
        let left = self.remainder(&mut sets, &genuine, number, before, work)?.set;
        (left == EMPTY).then_some(Escape::ForgedLeft)
    }

    /// Whether the chain that a jump leads to decides, and nothing for its packets.
    fn leads_to_nothing(&self, number: u32) -> bool {
        let inner = number as usize + 1..self.step(number).inner_end.max(number + 1) as usize;
        let mut deciding = self.program.steps[inner].iter().filter(|step| {
            let acts = matches!(step.action, Action::End(_) | Action::Pass { marks: true });
            step.rule.is_some() && (acts || step.logs)
        });
        let mut any = false;
        let idle = deciding.all(|step| {
            any = true;
            step.region.and(&self.domain).is_empty()
        });
        any && idle && self.program.whole
    }

    fn denies(&self, number: u32) -> Option<()> {
        matches!(self.step(number).action, Action::End(Ending::Drop | Ending::Reject)).then_some(())
    }

    /// What becomes of a packet. `None` where finding it costs too much.
    fn ending_of(&self, point: &Point, work: &mut Work) -> Option<Ending> {
        let packet = self.index.look_up(point);
        work.take(FIELDS + packet.lists.len())?;
        let end = self.program.steps.len() as u32;
        let mut at = 0;
        loop {
            let Some(one) = self.next_for(&packet, at..end, false, work)? else {
                return Some(self.program.policy);
            };
            match self.step(one).action {
                _ if !self.step(one).region.exact => return Some(Ending::NotAnalysed),
                Action::End(ending) => return Some(ending),
                Action::Skip(to) => at = to,
                Action::Pass { .. } => at = one + 1,
            }
        }
    }

    /// Whether a step could be removed: later ones, or the policy, decide the same for everything it takes, and logging does not change.
    /// The overlapping steps before it are known.
    fn changes_nothing(
        &self,
        number: u32,
        region: &Region,
        witness: &Point,
        before: &[u32],
        work: &mut Work,
    ) -> Option<Vec<RuleId>> {
        let step = self.step(number);
        let Action::End(ours) = step.action else { return None };
        if ours == Ending::NotAnalysed || step.logs || !step.region.exact || !self.program.whole {
            return None;
        }
        // Most rules show at once that they matter: what becomes of the one packet without them.
        let end = self.program.steps.len() as u32;
        let mut at = number + 1;
        let witness = self.index.look_up(witness);
        let met = loop {
            match self.next_for(&witness, at..end, true, work)?.map(|one| (one, self.step(one).action)) {
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
        let mut sets = self.sets(work);
        let taken = self.remainder(&mut sets, region, number, before, work)?.set;
        let mut later = self.meeting(region, number + 1..end, MOST_NEAR, work).all()?;
        later.retain(|one| self.step(*one).rule != step.rule);
        let same = self.same_later(&mut sets, taken, ours, &later);
        self.paid(&sets, same, work).flatten()
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

/// A number up to another, from one that is any.
fn below(last: Value, any: u64) -> Value {
    match u64::try_from(last) {
        Ok(u64::MAX) => Value::from(any),
        Ok(last) => Value::from(any % (last + 1)),
        // Wider than the number: its bits count for the upper half as well, cut to what there is.
        Err(_) => {
            (Value::from(any) << 64 | Value::from(any.rotate_left(32)))
                & (Value::MAX >> (last.leading_zeros() + 1))
        }
    }
}
