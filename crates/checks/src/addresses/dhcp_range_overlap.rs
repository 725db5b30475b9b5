//! A DHCP range overlaps another assigned range.

use crate::addresses::{by_holder, listed};
use crate::check::{Answer, Check, Fail, Need, Run, Verdict};
use crate::subject::{Subject, SubjectKind};
use crate::support::others_of_plan_pass;
use std::collections::{BTreeMap, BTreeSet};
use trevlin_analysis::addresses::{Allocation, AllocationKind, OverlapKind};
use trevlin_analysis::map::EstateMap;
use trevlin_estate::area::{Area, Severity};
use trevlin_estate::baseline::Baseline;

/// The check.
pub(crate) const CHECK: Check = Check {
    id: "addresses/dhcp-range-overlap",
    area: Area::Addresses,
    title: "DHCP range overlaps another allocation",
    severity: Severity::High,
    why: "The two servers do not know each other's leases, so a VPN client and an internal host may receive the same \
          address. Connections then fail intermittently, most often when the ranges fill up.",
    fix: "Assign the addresses from one server only, give VPN clients a network of their own, or end the DHCP range before \
          the pool begins. Two DHCP servers on one network need split ranges or a failover pair.",
    judged: "Fails where a DHCP range and a VPN pool, or the ranges of two DHCP servers, share an address, on one device or \
             on two. Passes for failover or high-availability pairs, for parts of one server, for servers at two sites, and for ranges of their own. \
             Undetermined where two DHCP servers may be at different sites.",
    references: &["RFC 2131, 3.1", "RFC 2131, 1.6 (unique addresses)"],
    needs: &[Need::Services],
    run: Run::Map(run),
};

/// Two overlapping ranges.
type Pair<'a> = (&'a Allocation, &'a Allocation);

fn run(estate: &EstateMap, _: &Baseline) -> Vec<Answer> {
    use AllocationKind::{DhcpRange, Pool, PoolNetwork};
    let plan = estate.plan();
    let found = by_holder(estate, |a, b| {
        matches!((a.kind, b.kind), (Pool | PoolNetwork | DhcpRange, DhcpRange)) && a.group != b.group
    });
    let mut answers = Vec::new();
    for (group, overlaps) in found {
        let holder = &plan.pools[group];
        // One finding for each two that meet.
        let mut others: BTreeMap<(Option<usize>, OverlapKind), Vec<Pair<'_>>> = BTreeMap::new();
        for overlap in overlaps {
            let (a, b) = plan.pair(overlap);
            others.entry((b.group, overlap.meaning)).or_default().push((a, b));
        }
        for ((_, meaning), pairs) in &others {
            let (a, b) = pairs[0];
            let name = |allocation: &Allocation| {
                format!("{} on {}", allocation.owner, estate.devices[allocation.device].name)
            };
            let other = if a.device == b.device { b.owner.clone() } else { name(b) };
            let shared = a.range.intersection(&b.range).map(|range| range.short()).unwrap_or_default();
            let allocations: Vec<&Allocation> = pairs.iter().flat_map(|(a, b)| [*a, *b]).collect();
            let (told, evidence) = listed(estate, &allocations);
            let why = if a.device == b.device {
                "both are on one device"
            } else {
                "they are on two devices, which do not see each other's leases"
            };
            let subject = Subject::of(SubjectKind::Addresses)
                .with(&holder.name)
                .with(&b.owner)
                .with(&estate.devices[b.device].name);
            if *meaning == OverlapKind::Unclear {
                let question = format!(
                    "Please state whether {} and {} serve the same network or two sites: both assign {shared}. Add the site \
                     of each device to the estate file (`site`).",
                    name(a),
                    name(b)
                );
                answers.push(Answer::new(holder.device, subject, Verdict::ask(question, evidence)));
                continue;
            }
            let verdict = Verdict::Fail(Fail {
                rating: CHECK.rated(why),
                title: format!("{} and {} both assign {shared}", a.owner, other).into(),
                detail: format!("Both ranges contain {shared}: {told}.").into(),
                evidence,
            });
            answers.push(Answer::new(holder.device, subject, verdict));
        }
    }
    let met: BTreeSet<usize> = plan
        .overlaps
        .iter()
        .map(|overlap| plan.pair(overlap))
        .filter(|(a, b)| a.group != b.group)
        .flat_map(|(a, b)| [a.device, b.device])
        .collect();
    others_of_plan_pass(estate, &mut answers, |one| one.kind == DhcpRange && !met.contains(&one.device));
    answers
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::testing::{BEHIND, GATE, run};

    const DNSMASQ: (&str, &str) = ("a/dnsmasq.conf", "dhcp-range=10.4.0.100,10.4.0.209\n");

    #[test]
    fn cases() {
        run(
            &CHECK,
            &[
                (
                    "a pool on another device",
                    &[DNSMASQ, ("b/pptpd.conf", "localip 10.4.0.1\nremoteip 10.4.0.200-225\n")],
                    &["fail high b pptpd.conf:2 dnsmasq.conf:1"],
                ),
                (
                    "next to each other",
                    &[DNSMASQ, ("b/pptpd.conf", "localip 10.4.0.1\nremoteip 10.4.0.210-225\n")],
                    &["pass a"],
                ),
                (
                    "two servers of one network",
                    &[
                        DNSMASQ,
                        GATE,
                        BEHIND,
                        (
                            "b/dhcpd.conf",
                            "subnet 10.4.0.0 netmask 255.255.255.0 { range 10.4.0.50 10.4.0.150; }\n",
                        ),
                    ],
                    &["fail high a dnsmasq.conf:1 dhcpd.conf:1"],
                ),
                (
                    "two servers, perhaps at two sites",
                    &[
                        DNSMASQ,
                        (
                            "b/dhcpd.conf",
                            "subnet 10.4.0.0 netmask 255.255.255.0 { range 10.4.0.50 10.4.0.150; }\n",
                        ),
                    ],
                    &["ask a"],
                ),
                (
                    "two sites with one address for their gateways",
                    &[
                        ("a/dnsmasq.conf", "dhcp-range=10.4.0.100,10.4.0.209\n"),
                        GATE,
                        ("b/ip-addr.json", GATE.1),
                        ("c/ip-route.json", BEHIND.1),
                        (
                            "c/dhcpd.conf",
                            "subnet 10.4.0.0 netmask 255.255.255.0 { range 10.4.0.50 10.4.0.150; }\n",
                        ),
                    ],
                    &["ask a"],
                ),
                (
                    "partners",
                    &[
                        DNSMASQ,
                        (
                            "b/dhcpd.conf",
                            "failover peer \"x\" { primary; }\nsubnet 10.4.0.0 netmask 255.255.255.0 { range 10.4.0.50 10.4.0.150; }\n",
                        ),
                    ],
                    &["pass a", "pass b"],
                ),
                (
                    "networks inside two hosts",
                    &[
                        ("a/default.conf", "interface=virbr0\ndhcp-range=192.168.122.2,192.168.122.254\n"),
                        ("b/default.conf", "interface=virbr0\ndhcp-range=192.168.122.2,192.168.122.254\n"),
                    ],
                    &["pass a", "pass b"],
                ),
                (
                    "two files of one server",
                    &[
                        ("a/dnsmasq.d/one", "dhcp-range=10.4.0.100,10.4.0.150\n"),
                        ("a/dnsmasq.d/two", "dhcp-range=10.4.0.140,10.4.0.190\n"),
                    ],
                    &["pass a"],
                ),
            ],
        );
    }
}
