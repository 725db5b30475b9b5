//! The review of every packet filter of the estate: the traffic that each rule permits, whether it is effective, and remarks for auditors.

mod genuine;
pub mod programs;
pub mod remarks;
mod temporary;
mod words;

pub use remarks::{
    EVERY_SERVICE, Remark, RemarkKind, let_through, limits, may_be_new, within_device, within_one_network,
};
pub use temporary::{Temporary, temporary};

pub use words::{Described, describe, hook_word};

use std::collections::{BTreeMap, BTreeSet};
use trevlin_estate::assemble::Estate;
use trevlin_model::{Chain, ChainKind, Filter, FilterFormat, Hook, Limit, Rule, Target};
use trevlin_packets::Space;
use trevlin_packets::jumps::{Jumps, WayTo, blocks_anything};
use trevlin_packets::program::RuleId;
use trevlin_packets::review::{ChainReview, RuleReview, RuleStatus, review, work_of};

/// Result for a rule, and the hooks from which packets reach it.
pub type Reviewed = (RuleReview, BTreeSet<Hook>);

/// The review of one table that filters.
#[derive(Debug)]
pub struct FilterReview<'a> {
    /// Number of its device.
    pub device: usize,
    /// The table.
    pub filter: &'a Filter,
    /// Rules that packets of a hook can reach, with the results and the hooks.
    pub rules: &'a BTreeMap<RuleId, Reviewed>,
    /// The spaces of its packets, one for each IP version that it judges.
    pub spaces: &'a [Space],
    jumps: &'a Jumps,
    /// Whether all of it could be followed.
    pub whole: bool,
}

/// The stored parts of a review, for later requests.
#[derive(Debug)]
pub struct FilterReviewCache {
    /// Number of the table among those of its device.
    filter: usize,
    rules: BTreeMap<RuleId, Reviewed>,
    spaces: Vec<Space>,
    /// Rules that jump to a chain, by its name.
    jumps: Jumps,
    whole: bool,
}

impl FilterReviewCache {
    /// The review, with the table that it is about.
    pub fn of<'a>(&'a self, device: usize, filters: &'a [Filter]) -> FilterReview<'a> {
        FilterReview {
            device,
            filter: &filters[self.filter],
            rules: &self.rules,
            spaces: &self.spaces,
            jumps: &self.jumps,
            whole: self.whole,
        }
    }

    /// Number of the table among those of its device.
    pub fn filter(&self) -> usize {
        self.filter
    }

    /// Status of each rule that packets reach.
    pub fn statuses(&self) -> impl Iterator<Item = &RuleStatus> {
        self.rules.values().map(|(review, _)| &review.status)
    }
}

impl FilterReview<'_> {
    /// The rule with this number.
    #[must_use]
    pub fn rule(&self, id: RuleId) -> Option<&Rule> {
        self.filter.chains.get(id.chain as usize)?.rules.get(id.rule as usize)
    }

    /// Every rule that jumps to a chain, with its own chain, in the order of the file.
    pub fn jumps_to(&self, chain: &Chain) -> impl Iterator<Item = (RuleId, &Chain, &Rule)> {
        self.jumps.to(self.filter, chain)
    }

    /// Paths by which traffic to or through the device reaches a chain.
    pub fn ways_to(&self, chain: &Chain) -> Vec<WayTo<'_>> {
        self.jumps.ways(self.filter, chain)
    }

    /// Every rule of the table in the order of the file, with the result where packets can reach it.
    pub fn each(&self) -> impl Iterator<Item = (RuleId, &Chain, &Rule, Option<&Reviewed>)> {
        self.filter.chains.iter().enumerate().flat_map(move |(at, chain)| {
            chain.rules.iter().enumerate().map(move |(number, rule)| {
                let id = RuleId { chain: at as u32, rule: number as u32 };
                (id, chain, rule, self.rules.get(&id))
            })
        })
    }
}

/// Whether a base chain filters. One that only translates or marks packets selects traffic, and filter checks do not apply to it.
#[must_use]
pub fn filters(filter: &Filter, chain: &Chain) -> bool {
    if chain.hook.is_none() || chain.kind == ChainKind::Nat {
        return false;
    }
    // Tables for filtering (iptables(8); firewall4 of OpenWrt; the rule base of a sheet), whatever they permit.
    if matches!(&*filter.table, "filter" | "fw4" | "rules")
        || matches!(chain.policy, Some(Target::Drop | Target::Reject))
    {
        return true;
    }
    blocks_anything(filter, chain)
}

/// How many rules the tables in force on a device have.
#[must_use]
pub fn count_rules(estate: &Estate, device: usize) -> usize {
    rules_in(&estate.tables_in_force(device))
}

fn rules_in(tables: &[&Filter]) -> usize {
    tables.iter().flat_map(|table| &table.chains).map(|chain| chain.rules.len()).sum()
}

/// Whether a base chain translates addresses or ports.
#[must_use]
pub fn translates(_: &Filter, chain: &Chain) -> bool {
    chain.hook.is_some() && chain.kind == ChainKind::Nat
}

/// Reviews base chains of the tables in force on a device, those that [`filters`] or those that [`translates`], as one of the devices
/// that share the work of a run by their rules.
pub fn review_device(
    estate: &Estate,
    device: usize,
    of_all: usize,
    wanted: fn(&Filter, &Chain) -> bool,
) -> Vec<FilterReviewCache> {
    let tables = estate.tables_in_force(device);
    let facts = &estate.devices[device].facts;
    let judged: Vec<(usize, &Filter, Vec<&Chain>)> = facts
        .filters
        .iter()
        .enumerate()
        .filter(|(_, filter)| tables.iter().any(|one| std::ptr::eq(*one, *filter)))
        .map(|(number, filter)| {
            (number, filter, filter.chains.iter().filter(|chain| wanted(filter, chain)).collect::<Vec<_>>())
        })
        .filter(|(.., chains)| !chains.is_empty())
        .collect();
    let reviews: usize =
        judged.iter().map(|(_, filter, chains)| filter.families.each().count() * chains.len()).sum();
    let nodes = estate.limits.of(Limit::SetNodes);
    let work = work_of(nodes, rules_in(&tables), of_all) / reviews.max(1);
    let mut found = Vec::new();
    for (number, filter, chains) in judged {
        let mut one = FilterReviewCache {
            filter: number,
            rules: BTreeMap::new(),
            spaces: Vec::new(),
            jumps: Jumps::of(filter),
            whole: filter.complete,
        };
        for family in filter.families.each() {
            let of_family: Vec<&Filter> =
                tables.iter().copied().filter(|table| table.families.has(family)).collect();
            let space = Space::new(family, &of_family, &facts.interfaces).costing(nodes);
            let genuine = genuine::genuine_sources(&space, facts);
            for chain in &chains {
                let found = review(&space, filter, chain, &genuine, work);
                let judged = hooks_of(filter, found.hook);
                take(&mut one, found, judged);
            }
            one.spaces.push(space);
        }
        found.push(one);
    }
    found
}

/// The hooks whose packets a base chain judges. The lists of an interface of an appliance judge what arrives there, for the device itself
/// and for what it passes on.
fn hooks_of(filter: &Filter, hook: Hook) -> &'static [Hook] {
    match hook {
        Hook::Prerouting if filter.format == FilterFormat::Ordered => &[Hook::Input, Hook::Forward],
        Hook::Prerouting => &[Hook::Prerouting],
        Hook::Input => &[Hook::Input],
        Hook::Forward => &[Hook::Forward],
        Hook::Output => &[Hook::Output],
        Hook::Postrouting => &[Hook::Postrouting],
    }
}

/// Whether a base chain judges the packets of a hook.
#[must_use]
pub fn judges(filter: &Filter, chain: &Chain, hook: Hook) -> bool {
    chain.hook.is_some_and(|own| hooks_of(filter, own).contains(&hook))
}

fn take(to: &mut FilterReviewCache, found: ChainReview, judged: &[Hook]) {
    to.whole &= found.whole;
    for (id, one) in found.rules {
        match to.rules.get_mut(&id) {
            Some((known, hooks)) => {
                known.join(one);
                hooks.extend(judged);
            }
            None => {
                to.rules.insert(id, (one, judged.iter().copied().collect()));
            }
        }
    }
}

/// Whether a rule that is reached jumps to a chain.
pub fn leads_to(review: &FilterReview<'_>, chain: &Chain) -> bool {
    review.jumps_to(chain).any(|(id, ..)| review.rules.contains_key(&id))
}
