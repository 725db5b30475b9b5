//! A base chain as one list of steps: the steps of a chain that is jumped to replace the jump, under the jump's own conditions, and every
//! step leads forward. So the path of a packet is a walk down the list.

use crate::cube::{Cube, Field, Region, ranges, state};
use crate::diagram::{Diagrams, EMPTY, OverBudget, Set};
use crate::space::{NO_INTERFACE, Space};
use rayon::prelude::*;
use std::collections::BTreeMap;
use trevlin_model::{Chain, Family, Filter, Hook, Match, MatchKind, ResidualKind, Rule, Target};

/// How deep jumps are followed. The kernel allows 16 of them at a time (nft(8)); iptables allows more and refuses circles.
const DEPTH: usize = 64;

/// How many steps a base chain may come to, beyond a few for each rule. A chain that is jumped to from many places counts each
/// time.
const MOST_STEPS: usize = 100_000;

/// A rule of a table, by the number of its chain and its own.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct RuleId {
    /// Number of its chain in the table.
    pub chain: u32,
    /// Number in the chain.
    pub rule: u32,
}

/// Effect of a step on matching packets.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Action {
    /// Ends their way through the base chain.
    End(Ending),
    /// Sends them on to a later step.
    Skip(u32),
    /// Writes a log line, marks them, or jumps to steps that follow: they go on.
    Pass {
        /// Whether the packet is changed in a way that later conditions may depend on, which is not analysed.
        marks: bool,
    },
}

/// How a way through a base chain ends.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub enum Ending {
    /// Accepted.
    Accept,
    /// Dropped without a word.
    Drop,
    /// Dropped with an answer.
    Reject,
    /// In a manner that is not analysed.
    NotAnalysed,
}

/// A step.
#[derive(Debug, Clone)]
pub struct Step {
    /// The matching packets, among those that pass the jumps before it.
    pub region: Region,
    /// Its action.
    pub action: Action,
    /// The rule it comes from; none for what only closes a chain that was gone to.
    pub rule: Option<RuleId>,
    /// Whether a log line is written.
    pub logs: bool,
    /// Whether all conditions of the rule itself are analysed, independent of the jumps before it.
    pub own_exact: bool,
    /// Whether a condition that is not analysed selects some senders, payloads or packets, here or at a jump before it.
    pub singles_out: bool,
    /// For a jump, the first step after the chain that it leads to; 0 elsewhere.
    pub inner_end: u32,
}

/// A base chain, straightened.
#[derive(Debug)]
pub struct Program {
    /// Its steps.
    pub steps: Vec<Step>,
    /// How it ends for what no step ends for.
    pub policy: Ending,
    /// Whether it is complete: not with too many steps, or where a jump has no target or is recursive.
    pub whole: bool,
}

/// Properties of packets at a hook.
#[must_use]
pub fn at_hook(space: &Space, hook: Hook) -> Region {
    let none = || ranges(vec![(NO_INTERFACE, NO_INTERFACE)]);
    let (entering, leaving) = match hook {
        Hook::Prerouting | Hook::Input => (space.any_interface(), none()),
        Hook::Forward => (space.any_interface(), space.any_interface()),
        Hook::Output => (none(), space.any_interface()),
        // Forwarded traffic keeps its incoming interface; the device's own traffic has none.
        Hook::Postrouting => (ranges(vec![(0, space.greatest()[0])]), space.any_interface()),
    };
    let sides = [(Field::Entering, entering), (Field::Leaving, leaving)];
    let mut cube = Cube::all();
    for (field, held) in sides {
        cube = Cube::of(field, held).and_then(|one| cube.and(&one)).unwrap_or(cube);
    }
    // A packet against the direction of its connection is of a known one.
    let replies = Cube::of(Field::Reply, ranges(vec![(1, 1)]))
        .zip(Cube::of(Field::State, ranges(vec![(state::ESTABLISHED, state::RELATED)])))
        .and_then(|(reply, known)| reply.and(&known)?.and(&cube));
    let forward = Cube::of(Field::Reply, ranges(vec![(0, 0)])).and_then(|one| one.and(&cube));
    Region { cubes: forward.into_iter().chain(replies).collect(), exact: true }
}

impl Program {
    /// The base chain of a table, straightened.
    #[must_use]
    pub fn of(space: &Space, filter: &Filter, chain: &Chain) -> Self {
        let numbers: BTreeMap<&str, usize> =
            filter.chains.iter().enumerate().rev().map(|(at, chain)| (chain.name.as_str(), at)).collect();
        let rules: usize = filter.chains.iter().map(|chain| chain.rules.len()).sum();
        let mut builder = Builder {
            space,
            filter,
            numbers,
            steps: Vec::new(),
            most: MOST_STEPS + 4 * rules,
            whole: true,
            open: Vec::new(),
            picked: false,
        };
        // The same name leads to the same number; a chain that is hooked itself is found by its place.
        let at = filter.chains.iter().position(|one| std::ptr::eq(one, chain)).unwrap_or(0);
        builder.chain(at, &Region::all());
        let policy = ending(chain.policy.as_ref().unwrap_or(&Target::Accept)).unwrap_or(Ending::Accept);
        Self { steps: builder.steps, policy, whole: builder.whole }
    }
}

/// The base chains of a hook that judge an IP version, in the order in which they are asked.
#[must_use]
pub(crate) fn base_chains<'a>(
    tables: &[&'a Filter],
    family: Family,
    hook: Hook,
) -> Vec<(&'a Filter, &'a Chain)> {
    let tables = tables.iter().filter(|table| table.families.has(family));
    let mut chains: Vec<(&Filter, &Chain)> = tables
        .flat_map(|table| table.chains.iter().map(move |chain| (*table, chain)))
        .filter(|(_, chain)| chain.hook == Some(hook))
        .collect();
    chains.sort_by_key(|(_, chain)| chain.priority);
    chains
}

/// How a target ends a packet's way; `None` where it does not.
#[must_use]
pub fn ending(target: &Target) -> Option<Ending> {
    match target {
        // A translation is made in chains for it and ends the way through them.
        Target::Accept | Target::Translate(_) => Some(Ending::Accept),
        Target::Drop => Some(Ending::Drop),
        Target::Reject => Some(Ending::Reject),
        Target::NotAnalysed { ends: true, .. } => Some(Ending::NotAnalysed),
        _ => None,
    }
}

/// Whether a rule blocks packets alone that no ordinary connection begins with: with an extension header, or of senders that have sent too
/// many before. A rule that accepts such packets is another matter, since a sender can make them.
pub(crate) fn blocks_others(filter: &Filter, rule: &Rule) -> bool {
    let of_others = |one: &Match| {
        matches!(&one.kind, MatchKind::NotAnalysed(residual)
            if !one.negated && matches!(residual.kind, ResidualKind::ExtensionHeader | ResidualKind::Excess))
    };
    rule.matches.iter().any(of_others)
        && match &rule.target {
            Target::Drop | Target::Reject => true,
            // A chain that writes to the log and blocks.
            Target::Jump(name) | Target::Goto(name) => filter.chain(name).is_some_and(|chain| {
                let ends = |rule: &Rule| matches!(rule.target, Target::Drop | Target::Reject);
                chain.rules.iter().any(ends)
                    && chain
                        .rules
                        .iter()
                        .all(|rule| ends(rule) || matches!(rule.target, Target::Log | Target::Continue))
            }),
            _ => false,
        }
}

/// Whether a condition that is not analysed selects some senders, payloads or packets.
fn picks_out(one: &Match) -> bool {
    match &one.kind {
        MatchKind::NotAnalysed(residual) => {
            !one.negated
                && matches!(
                    residual.kind,
                    ResidualKind::Selective | ResidualKind::ExtensionHeader | ResidualKind::Excess
                )
        }
        _ => false,
    }
}

/// How many rules of a chain are worth several threads.
const PARALLEL: usize = 1024;

/// Packets that were sent on, by the step where they go on.
#[derive(Debug, Default)]
pub(crate) struct Waiting(BTreeMap<u32, Set>);

impl Waiting {
    /// Sends packets on to a step.
    pub(crate) fn send(&mut self, to: u32, packets: Set, sets: &mut Diagrams) -> Result<(), OverBudget> {
        let known = self.0.get(&to).copied().unwrap_or(EMPTY);
        self.0.insert(to, sets.union(known, packets)?);
        Ok(())
    }

    /// Those who are on their way, with those who go on at a step or before it.
    pub(crate) fn joined(&mut self, at: u32, mut left: Set, sets: &mut Diagrams) -> Result<Set, OverBudget> {
        while let Some(entry) = self.0.first_entry().filter(|entry| *entry.key() <= at) {
            left = sets.union(left, entry.remove())?;
        }
        Ok(left)
    }

    /// Whether the queue is empty.
    pub(crate) fn is_empty(&self) -> bool {
        self.0.is_empty()
    }
}

struct Builder<'a> {
    space: &'a Space,
    filter: &'a Filter,
    numbers: BTreeMap<&'a str, usize>,
    steps: Vec<Step>,
    most: usize,
    whole: bool,
    /// Chains on the way here.
    open: Vec<usize>,
    /// Whether a jump on the path is only for packets that a condition which is not analysed selects.
    picked: bool,
}

impl Builder<'_> {
    /// The steps of a chain, for packets of a region.
    fn chain(&mut self, number: usize, outer: &Region) {
        self.open.push(number);
        let rules = &self.filter.chains[number].rules;
        let space = self.space;
        let region_of = |rule: &Rule| {
            let own = space.region(&rule.matches);
            (outer.and(&own), own.exact)
        };
        // A chain may have hundreds of thousands of rules.
        let together = rules.len() > PARALLEL;
        let mut regions =
            if together { rules.par_iter().map(region_of).collect() } else { Vec::new() }.into_iter();
        let mut returns: Vec<usize> = Vec::new();
        for (at, rule) in rules.iter().enumerate() {
            if self.steps.len() >= self.most {
                self.whole = false;
                break;
            }
            let id = RuleId { chain: number as u32, rule: at as u32 };
            let (region, exact) = regions.next().unwrap_or_else(|| region_of(rule));
            if let Some(step) = self.rule(rule, id, region, exact) {
                returns.push(step);
            }
        }
        let end = self.steps.len() as u32;
        for step in returns {
            self.steps[step].action = Action::Skip(end);
        }
        self.open.pop();
    }

    /// The steps of a rule. A step that sends packets to the end of the chain is given back, since the end is not known yet.
    fn rule(&mut self, rule: &Rule, id: RuleId, region: Region, own_exact: bool) -> Option<usize> {
        let here = self.steps.len();
        let logs = rule.logs;
        let singles_out = self.picked || rule.matches.iter().any(picks_out);
        let step = |region, action, rule: Option<RuleId>| Step {
            region,
            action,
            rule,
            logs: logs && rule.is_some(),
            own_exact,
            singles_out,
            inner_end: 0,
        };
        if blocks_others(self.filter, rule) {
            self.steps.push(step(region, Action::Pass { marks: false }, Some(id)));
            return None;
        }
        if let Some(ending) = ending(&rule.target) {
            self.steps.push(step(region, Action::End(ending), Some(id)));
            return None;
        }
        match &rule.target {
            Target::Return => {
                self.steps.push(step(region, Action::Skip(0), Some(id)));
                Some(here)
            }
            Target::Jump(name) | Target::Goto(name) => {
                let goes = matches!(rule.target, Target::Goto(_));
                let pass = Action::Pass { marks: false };
                let next = self.numbers.get(name.as_str()).copied();
                match next.filter(|next| !self.open.contains(next) && self.open.len() < DEPTH) {
                    Some(next) => {
                        self.steps.push(step(region.clone(), pass, Some(id)));
                        if !region.is_empty() {
                            let before = std::mem::replace(&mut self.picked, singles_out);
                            self.chain(next, &region);
                            self.picked = before;
                        }
                        self.steps[here].inner_end = self.steps.len() as u32;
                        if goes {
                            self.steps.push(step(region, Action::Skip(0), None));
                            return Some(self.steps.len() - 1);
                        }
                    }
                    None => {
                        self.whole = false;
                        self.steps.push(step(region, Action::End(Ending::NotAnalysed), Some(id)));
                    }
                }
                None
            }
            other => {
                let marks = matches!(other, Target::NotAnalysed { .. });
                self.steps.push(step(region, Action::Pass { marks }, Some(id)));
                None
            }
        }
    }
}
