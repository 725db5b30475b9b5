//! How the chains of a table lead to each other: which jumps lead to a chain, which chains some lead to, and under which
//! conditions packets come to a chain.

use crate::program::RuleId;
use std::collections::{BTreeMap, BTreeSet};
use trevlin_model::{Chain, Filter, Hook, Match, Rule, Target};

/// How many ways to a chain are looked at, how long they may be, and how many rules are followed on the way: a list may jump about
/// without ever coming from a hook.
const MOST_WAYS: usize = 64;
const LONGEST_WAY: usize = 8;
const MOST_STEPS: usize = 4_096;

/// Jumps of a table, by the chain that they lead to.
#[derive(Debug, Clone, Default)]
pub struct Jumps(BTreeMap<String, Vec<RuleId>>);

/// A way by which packets come to a chain.
#[derive(Debug, Clone)]
pub struct WayTo<'a> {
    /// All conditions on it.
    pub matches: Vec<&'a Match>,
    /// The rule that leads to the chain.
    pub last: &'a Rule,
}

/// The chain that a rule sends packets to.
fn target(rule: &Rule) -> Option<&str> {
    match &rule.target {
        Target::Jump(name) | Target::Goto(name) => Some(name),
        _ => None,
    }
}

/// Chains that some lead to by jumps, over whatever others; those themselves only where a jump leads back to them.
#[must_use]
pub fn led_to<'a>(filter: &'a Filter, from: Vec<&'a Chain>) -> BTreeSet<&'a str> {
    let names = filter.by_name();
    let (mut open, mut seen) = (from, BTreeSet::new());
    while let Some(chain) = open.pop() {
        for name in chain.rules.iter().filter_map(target) {
            if seen.insert(name) {
                open.extend(names.get(name));
            }
        }
    }
    seen
}

/// Whether a chain, or one that it leads to, drops or rejects anything.
#[must_use]
pub fn blocks_anything(filter: &Filter, chain: &Chain) -> bool {
    let blocks =
        |chain: &Chain| chain.rules.iter().any(|rule| matches!(rule.target, Target::Drop | Target::Reject));
    let names = filter.by_name();
    blocks(chain)
        || led_to(filter, vec![chain]).iter().filter_map(|name| names.get(name)).any(|chain| blocks(chain))
}

/// Whether packets that enter a table may be dropped or rejected by it.
#[must_use]
pub fn table_blocks(filter: &Filter) -> bool {
    filter.chains.iter().filter(|chain| chain.hook.is_some()).any(|chain| {
        matches!(chain.policy, Some(Target::Drop | Target::Reject)) || blocks_anything(filter, chain)
    })
}

impl Jumps {
    /// The jumps of a table.
    #[must_use]
    pub fn of(filter: &Filter) -> Self {
        let mut found: BTreeMap<String, Vec<RuleId>> = BTreeMap::new();
        for (at, chain) in filter.chains.iter().enumerate() {
            for (number, rule) in chain.rules.iter().enumerate() {
                if let Some(name) = target(rule) {
                    let id = RuleId { chain: at as u32, rule: number as u32 };
                    found.entry(name.to_owned()).or_default().push(id);
                }
            }
        }
        Self(found)
    }

    /// Every rule that jumps to a chain, with its own chain, in the order of the file.
    pub fn to<'a>(
        &'a self,
        filter: &'a Filter,
        chain: &Chain,
    ) -> impl Iterator<Item = (RuleId, &'a Chain, &'a Rule)> + use<'a> {
        let ids = self.0.get(&chain.name).into_iter().flatten();
        ids.filter_map(|id| {
            let outer = filter.chains.get(id.chain as usize)?;
            Some((*id, outer, outer.rules.get(id.rule as usize)?))
        })
    }

    /// Paths by which traffic to or through a device reaches a chain, the first of very many.
    #[must_use]
    pub fn ways<'a>(&'a self, filter: &'a Filter, chain: &Chain) -> Vec<WayTo<'a>> {
        let mut found = self.ways_within(filter, chain, 0, &mut { MOST_STEPS });
        found.truncate(MOST_WAYS);
        found
    }

    fn ways_within<'a>(
        &'a self,
        filter: &'a Filter,
        chain: &Chain,
        depth: usize,
        steps: &mut usize,
    ) -> Vec<WayTo<'a>> {
        let mut found: Vec<WayTo<'a>> = Vec::new();
        if depth > LONGEST_WAY {
            return found;
        }
        for (_, outer, rule) in self.to(filter, chain) {
            if found.len() >= MOST_WAYS || *steps == 0 {
                break;
            }
            *steps -= 1;
            let own = || rule.matches.iter();
            match outer.hook {
                Some(Hook::Input | Hook::Forward) => {
                    found.push(WayTo { matches: own().collect(), last: rule });
                }
                Some(_) => {}
                None => {
                    let ways = self.ways_within(filter, outer, depth + 1, steps);
                    found.extend(ways.into_iter().map(|mut way| {
                        way.matches.extend(own());
                        WayTo { last: rule, ..way }
                    }));
                }
            }
        }
        found
    }
}
