//! The packets that each rule of a base chain is the first to decide, and its consequences: shadowed rules, rules without effect, and rules
//! that an earlier one with the opposite verdict partly overrides.
//!
//! A rule is effective as soon as one packet is found that no earlier rule takes, and most rules show one at once. Only where none is found
//! are the overlapping earlier rules subtracted exactly.

mod reviewer;
mod status;

use crate::cube::Region;
use crate::program::{Program, RuleId, at_hook};
use crate::space::Space;
use reviewer::RuleReviewer;
pub use status::{Escape, Left, Partly, RuleReview, RuleStatus, new_connections};
use std::collections::BTreeMap;
use trevlin_model::{Chain, Filter, Hook};

/// Cubes that all reviews of a run may look at, for each node of a set diagram that one question may cost.
const WORK_PER_NODE: usize = 2_000;

/// Number of nodes per additional cube for a rule, independent of other rules. With the default that is more than twice the need of real
/// filters.
const NODES_PER_WORK: usize = 60;

/// The work limit for some of the rules of a run, in compared cubes: their share of the total, and a minimum for each of them. Few rules
/// with very many steps use no more than their share, and others are not affected.
#[must_use]
pub fn work_of(nodes: usize, rules: usize, of_all: usize) -> usize {
    let all = nodes as u128 * rules as u128;
    let part = all.saturating_mul(WORK_PER_NODE as u128) / of_all.max(1) as u128;
    let own = all / NODES_PER_WORK as u128;
    usize::try_from(part.saturating_add(own)).unwrap_or(usize::MAX)
}

/// The review of one base chain.
#[derive(Debug)]
pub struct ChainReview {
    /// Number of the chain in its table.
    pub chain: usize,
    /// Its hook.
    pub hook: Hook,
    /// Results for each rule that packets of this hook can reach.
    pub rules: BTreeMap<RuleId, RuleReview>,
    /// Whether all of the chain could be followed.
    pub whole: bool,
}

/// Reviews a base chain within a work limit, in compared cubes; results beyond it are left open, the same on every machine. `genuine`
/// holds the packets whose source lies behind the interface by which they enter.
#[must_use]
pub fn review(space: &Space, filter: &Filter, chain: &Chain, genuine: &Region, work: usize) -> ChainReview {
    let program = Program::of(space, filter, chain);
    let hook = chain.hook.unwrap_or(Hook::Forward);
    let reviewer = RuleReviewer::new(space, &program, at_hook(space, hook), genuine);
    let mut rules: BTreeMap<RuleId, RuleReview> = BTreeMap::new();
    for (number, one) in reviewer.share_out(work) {
        let Some(id) = reviewer.step(number).rule else { continue };
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

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_work_of_a_run_is_shared_by_rules() {
        let nodes = 60_000;
        let alone = work_of(nodes, 40, 40);
        assert_eq!(alone, 120_000_000 + 40_000);
        // However many filters there are, together they cost what one may, and a little for each rule.
        let each = work_of(nodes, 40, 40 * 500);
        assert_eq!(each * 500, 120_000_000 + 40 * 500 * 1_000);
        assert_eq!((work_of(nodes, 0, 0), work_of(usize::MAX, usize::MAX, 1)), (0, usize::MAX));
    }
}
