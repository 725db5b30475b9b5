//! What each rule of a base chain is first to decide, and what follows from it: rules that never match, rules that change
//! nothing, and rules of which an earlier one with the opposite verdict takes a part.
//!
//! A rule is alive as soon as one packet is found that no earlier rule takes, and most rules show one at once. Only where none
//! is found are the earlier rules that meet it taken away from it, exactly.

mod desk;
mod standing;

use crate::program::{Program, RuleId, at_hook};
use crate::space::Space;
use desk::Desk;
pub use standing::{Left, Partly, RuleReview, Standing, new_connections};
use std::collections::BTreeMap;
use trevlin_model::{Chain, Filter, Hook};

/// Cubes that are looked at over all reviews of a device, for each node of a set diagram that one question may cost.
const WORK_PER_NODE: usize = 3_000;

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

/// Reviews a base chain. The work that may be spent on a device is shared by so many reviews; what cannot be told with this one's
/// share is left open, the same way on every machine.
#[must_use]
pub fn review(space: &Space, filter: &Filter, chain: &Chain, among: usize) -> ChainReview {
    let program = Program::of(space, filter, chain);
    let hook = chain.hook.unwrap_or(Hook::Forward);
    let desk = Desk::new(space, &program, at_hook(space, hook));
    let work = space.nodes().saturating_mul(WORK_PER_NODE) / among.max(1);
    let mut rules: BTreeMap<RuleId, RuleReview> = BTreeMap::new();
    for (number, one) in desk.share_out(work) {
        let Some(id) = desk.step(number).rule else { continue };
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
