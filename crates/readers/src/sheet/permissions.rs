//! Networks that permissions open to the clients of a tunnel: a limit beside the rule base, in every appliance that has them.

use super::rule_base::Ordered;
use crate::making;
use trevlin_model::grant::ServicePermission;
use trevlin_model::{ChainKind, Facts, Filter, Hook, IpRange, Match, MatchKind, Target, Tunnel};

/// The table with the limits, where the sheet has a rule base: each tunnel all of whose permissions name networks reaches these alone.
pub(super) fn table(facts: &Facts, ordered: &Ordered) -> Option<Filter> {
    // The traffic that the device permits is not known without a rule base.
    if ordered.rules.is_empty() && ordered.list.is_none() {
        return None;
    }
    let mut rules = Vec::new();
    for tunnel in &facts.tunnels {
        let own: Vec<&ServicePermission> =
            facts.permissions.iter().filter(|one| one.service == tunnel.name && !one.off).collect();
        let Some(first) = own.first() else { continue };
        let clients = clients(tunnel);
        if clients.is_empty() || own.iter().any(|one| one.networks.is_empty()) {
            continue;
        }
        let opened: Vec<IpRange> =
            own.iter().flat_map(|one| &one.networks).map(|(range, _)| *range).collect();
        let elsewhere = Match { negated: true, kind: MatchKind::Destination(opened) };
        let matches = vec![making::holds(MatchKind::Source(clients)), elsewhere];
        let mut made = making::rule(matches, Target::Drop, first.origin);
        made.comment = Some(format!("permissions of {}", tunnel.name));
        rules.push(made);
    }
    let origin = rules.first()?.origin;
    // Behind the rule base, which may refuse more.
    let chain = making::base("permissions", (Hook::Forward, 10), ChainKind::Filter, rules, origin);
    Some(making::table("permissions", vec![chain], origin))
}

/// Addresses of the clients of a tunnel.
fn clients(tunnel: &Tunnel) -> Vec<IpRange> {
    let plan = &tunnel.addresses;
    let pools = plan.pools.iter().flat_map(|pool| pool.allocations()).map(|(range, _)| range);
    pools.chain(plan.fixed.iter().map(|one| one.range)).collect()
}
