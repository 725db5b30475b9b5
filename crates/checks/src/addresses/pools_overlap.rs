//! Two pools assign the same addresses.

use crate::addresses::MOST_TOLD;
use crate::check::{Answer, Check, Fail, Need, Run, Verdict};
use crate::subject::{Subject, SubjectKind};
use crate::support::others_of_plan_pass;
use std::collections::{BTreeMap, BTreeSet};
use trevlin_analysis::addresses::{Allocation, shown_alike};
use trevlin_analysis::map::EstateMap;
use trevlin_estate::area::{Area, Severity};
use trevlin_estate::baseline::Baseline;
use trevlin_model::{IpRange, Origin};

/// The check.
pub(crate) const CHECK: Check = Check {
    id: "addresses/pools-overlap",
    area: Area::Addresses,
    title: "Client pools overlap",
    severity: Severity::High,
    why: "Two clients may receive the same address, and replies reach the wrong client or none. Logs no longer identify a \
          user, and an access rule for one VPN also admits clients of the other.",
    fix: "Give each tunnel a pool of its own. Change the one with fewer clients, with the routes and rules that name it.",
    judged: "Fails where two pools of the estate share an address, on one device or on two. Configurations that the daemon \
             rejects are left out. Undetermined where services of an appliance show the same range, and it is not stated \
             whether they share a pool. Passes for a device whose pools overlap no others.",
    references: &["RFC 1918, 3", "NIST SP 800-77 Rev. 1, 5.3"],
    needs: &[Need::Services],
    run: Run::Map(run),
};

fn run(estate: &EstateMap, _: &Baseline) -> Vec<Answer> {
    let plan = estate.plan();
    // A pool with a network of its own stands there with all of it.
    let mut allocations: Vec<&Allocation> =
        plan.allocations.iter().filter(|allocation| plan.stands_for_pool(allocation)).collect();
    allocations
        .sort_by_key(|allocation| (allocation.range.first(), allocation.range.last(), allocation.origin));
    let overlapping = groups(&allocations);
    let mut answers: Vec<Answer> = overlapping.iter().map(|group| fail(estate, group)).collect();
    answers.extend((0..estate.devices.len()).flat_map(|at| shared(estate, at)));
    let met: BTreeSet<usize> = overlapping.iter().flatten().map(|one| one.device).collect();
    others_of_plan_pass(estate, &mut answers, |one| plan.stands_for_pool(one) && !met.contains(&one.device));
    answers
}

/// Services of an appliance with the same range, which may have one pool or several.
fn shared(estate: &EstateMap, at: usize) -> Vec<Answer> {
    let device = &estate.devices[at];
    let Some(described) = estate.described(at) else { return Vec::new() };
    let mut alike: BTreeMap<Vec<IpRange>, Vec<(&str, Origin)>> = BTreeMap::new();
    for (name, plan) in device.facts.plans() {
        for pool in &plan.pools {
            if let Some(ranges) = shown_alike(device, pool) {
                alike.entry(ranges).or_default().push((name, pool.origin));
            }
        }
    }
    let ask = |(ranges, pools): (Vec<IpRange>, Vec<(&str, Origin)>)| {
        let names: Vec<&str> = pools.iter().map(|(name, _)| *name).collect();
        let [front @ .., last] = names.as_slice() else { return None };
        if front.iter().all(|name| name == last) {
            return None;
        }
        let all = format!("{} and {last}", front.join(", "));
        let range = ranges.first().map_or_else(String::new, |range| range.short());
        let about =
            format!("whether {all} share one pool of {range}, or have one each (`leases` in `pools`)");
        let lines = pools.iter().map(|(_, origin)| *origin).collect();
        let subject = Subject::of(SubjectKind::Addresses).with(all);
        Some(Answer::new(at, subject, Verdict::ask(described.request(&about), lines)))
    };
    alike.into_iter().filter_map(ask).collect()
}

/// Claims of different pools that hang together by shared addresses, each group in reading order. One sweep: a claim
/// that begins before the furthest end so far belongs to the group at hand.
fn groups<'a>(allocations: &[&'a Allocation]) -> Vec<Vec<&'a Allocation>> {
    let mut groups: Vec<Vec<&Allocation>> = Vec::new();
    let mut end = None;
    for &allocation in allocations {
        match (groups.last_mut(), end) {
            (Some(group), Some(last))
                if allocation.range.first() <= last
                    && group[0].range.family() == allocation.range.family() =>
            {
                group.push(allocation);
                end = Some(allocation.range.last().max(last));
            }
            _ => {
                groups.push(vec![allocation]);
                end = Some(allocation.range.last());
            }
        }
    }
    for group in &mut groups {
        group.sort_by_key(|allocation| allocation.origin);
    }
    groups.retain(|group| group.iter().any(|allocation| allocation.group != group[0].group));
    groups
}

fn fail(estate: &EstateMap, group: &[&Allocation]) -> Answer {
    // The finding belongs to the device of the first.
    let name = |allocation: &Allocation| match estate.devices.get(allocation.device) {
        Some(device) if allocation.device != group[0].device => {
            format!("{} on {}", allocation.owner, device.name)
        }
        _ => allocation.owner.clone(),
    };
    let mut told: Vec<_> = group
        .iter()
        .take(MOST_TOLD)
        .map(|allocation| {
            format!(
                "{} assigns {} ({})",
                name(allocation),
                allocation.range.short(),
                estate.place(allocation.origin)
            )
        })
        .collect();
    if group.len() > MOST_TOLD {
        told.push(format!("{} more", group.len() - MOST_TOLD));
    }
    let first = group[0];
    let others: Vec<_> = group.iter().filter(|allocation| allocation.group != first.group).collect();
    let pools: BTreeSet<_> = group.iter().map(|allocation| allocation.group).collect();
    let shared = others.iter().find_map(|other| first.range.intersection(&other.range));
    let title = match (pools.len(), shared) {
        (2, Some(shared)) => {
            format!("{} and {} both assign {}", first.owner, name(others[0]), shared.short())
        }
        (count, _) => {
            format!(
                "{count} client pools overlap, beginning with those of {} and {}",
                first.owner,
                name(others[0])
            )
        }
    };
    let why = if others.iter().all(|other| other.device == first.device) {
        "one device assigns all of them"
    } else {
        "they are assigned by devices that do not see each other's leases"
    };
    let names: BTreeSet<_> = group.iter().map(|allocation| name(allocation)).collect();
    Answer::new(
        first.device,
        Subject::of(SubjectKind::Addresses).with(names.into_iter().collect::<Vec<_>>().join(" ")),
        Verdict::Fail(Fail {
            rating: CHECK.rated(why),
            title: title.into(),
            detail: format!("{}.", told.join("; ")).into(),
            evidence: group.iter().map(|allocation| allocation.origin).collect(),
        }),
    )
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::testing::run;

    #[test]
    fn cases() {
        run(
            &CHECK,
            &[
                (
                    "two connections of one pool",
                    &[
                        (
                            "a/etc/swanctl/swanctl.conf",
                            "connections {\n a {\n  pools = p\n  children {\n   a {\n   }\n  }\n }\n b {\n  pools = p\n  children {\n   b {\n   }\n  }\n }\n}\npools {\n p {\n  addrs = 10.8.0.0/24\n }\n}\n",
                        ),
                        (
                            "b/etc/ipsec.conf",
                            "conn a\n\tauto=add\n\trightsourceip=10.9.0.0/24\nconn b\n\tauto=add\n\trightsourceip=10.9.0.0/24\n",
                        ),
                    ],
                    &["pass a", "pass b"],
                ),
                (
                    "two pools of one daemon",
                    &[(
                        "a/etc/swanctl/swanctl.conf",
                        "connections {\n a {\n  pools = p\n }\n b {\n  pools = q\n }\n}\npools {\n p {\n  addrs = 10.8.0.0/24\n }\n q {\n  addrs = 10.8.0.0/25\n }\n}\n",
                    )],
                    &["fail high a swanctl.conf:11 swanctl.conf:14"],
                ),
                (
                    "two devices",
                    &[
                        ("a/s.conf", "dev tun\nserver 10.8.0.0 255.255.255.0\n"),
                        ("b/pptpd.conf", "remoteip 10.8.0.200-225\n"),
                    ],
                    &["fail high a s.conf:2 pptpd.conf:1"],
                ),
                (
                    "one device",
                    &[
                        ("a/s.conf", "dev tun\nserver 10.8.0.0 255.255.255.0\n"),
                        ("a/t.conf", "dev tun\nproto tcp\nserver 10.8.0.0 255.255.255.0\n"),
                    ],
                    &["fail high a s.conf:2 t.conf:3"],
                ),
                (
                    "next to each other",
                    &[
                        ("a/s.conf", "dev tun\nserver 10.8.0.0 255.255.255.0\n"),
                        ("b/pptpd.conf", "remoteip 10.8.1.0-9\n"),
                    ],
                    &["pass a", "pass b"],
                ),
                (
                    "three that hang together",
                    &[
                        ("a/pptpd.conf", "remoteip 10.8.0.1-9,10.8.0.50-59\n"),
                        ("b/pptpd.conf", "remoteip 10.8.0.5-20\n"),
                        ("c/pptpd.conf", "remoteip 10.8.0.15-30\n"),
                    ],
                    &["fail high a pptpd.conf:1 pptpd.conf:1 pptpd.conf:1"],
                ),
                ("one pool in pieces", &[("b/pptpd.conf", "remoteip 10.8.1.0-9,10.8.1.5\n")], &["pass b"]),
                (
                    "IPv6",
                    &[
                        ("a/s.conf", "dev tun\nserver-ipv6 2001:db8:8::/64\n"),
                        ("b/s.conf", "dev tun\nserver-ipv6 2001:db8:8:0:1::/80\n"),
                    ],
                    &["fail high a s.conf:2 s.conf:2"],
                ),
                (
                    "the daemon would refuse one",
                    &[
                        ("a/s.conf", "dev tun\nserver 10.8.0.0 255.255.255.0\n"),
                        ("b/s.conf", "dev tun\nserver 10.8.0.0 255.255.255.0\nverify-client-cert none\n"),
                    ],
                    &["pass a"],
                ),
                (
                    "a client's line is no pool",
                    &[
                        ("a/pptpd.conf", "remoteip 10.8.0.200-225\n"),
                        ("a/chap-secrets", "ann * sesame 10.8.0.201\n"),
                        (
                            "b/rules.v4",
                            "*nat\n-A POSTROUTING -j SNAT --to-source 10.8.0.200-10.8.0.225\nCOMMIT\n",
                        ),
                    ],
                    &["pass a"],
                ),
            ],
        );
    }
}
