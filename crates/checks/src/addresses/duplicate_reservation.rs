//! One address is kept for two.

use crate::addresses::listed;
use crate::check::{Answer, Check, Fail, Need, Run, Verdict};
use crate::subject::{Subject, SubjectKind};
use crate::support::others_of_plan_pass;
use std::collections::BTreeMap;
use trevlin_analysis::addresses::{Allocation, AllocationKind};
use trevlin_analysis::map::EstateMap;
use trevlin_estate::area::{Area, Severity};
use trevlin_estate::baseline::Baseline;
use trevlin_model::IpRange;

/// The check.
pub(crate) const CHECK: Check = Check {
    id: "addresses/duplicate-reservation",
    area: Area::Addresses,
    title: "Address reserved twice",
    severity: Severity::Medium,
    why: "Access rules and logs identify a user or host by its fixed address. If two share it, the second takes over the \
          connections and the access rights of the first.",
    fix: "Establish which of the two uses the address, and assign the other a new one.",
    judged: "Fails where the fixed address of a VPN user is also that of another user, or is reserved for another host by a \
             DHCP server. The same name in two lists counts as one user. Passes for a device with reservations of which none is \
             given twice.",
    references: &[
        "RFC 2131, 3.1",
        "openvpn(8), --ifconfig-push",
        "pppd(8), AUTHENTICATION",
        "wg(8), AllowedIPs",
    ],
    needs: &[Need::Services],
    run: Run::Map(run),
};

fn run(estate: &EstateMap, _: &Baseline) -> Vec<Answer> {
    let plan = estate.plan();
    let mut kept: BTreeMap<IpRange, Vec<&Allocation>> = BTreeMap::new();
    for overlap in &plan.overlaps {
        let (a, b) = plan.pair(overlap);
        if a.kind == AllocationKind::FixedAddress
            && matches!(b.kind, AllocationKind::FixedAddress | AllocationKind::Reservation)
        {
            kept.entry(overlap.shared).or_default().extend([a, b]);
        }
    }
    let mut answers = Vec::new();
    for (range, allocations) in kept {
        let first = allocations[0];
        let (told, evidence) = listed(estate, &allocations);
        let mut names: Vec<&str> =
            allocations.iter().filter_map(|allocation| allocation.who.as_deref()).collect();
        names.sort_unstable();
        names.dedup();
        let apart = allocations.iter().any(|allocation| allocation.device != first.device);
        let why = if apart { "the two lists are on two devices" } else { "both lists are on one device" };
        let verdict = Verdict::Fail(Fail {
            rating: CHECK.rated(why),
            title: format!("{} is reserved for {}", range.short(), names.join(" and for ")).into(),
            detail: format!("It is assigned twice: {told}.").into(),
            evidence,
        });
        answers.push(Answer::new(
            first.device,
            Subject::of(SubjectKind::Addresses).with(range).with(names.join(" ")),
            verdict,
        ));
    }
    others_of_plan_pass(estate, &mut answers, |one| {
        matches!(one.kind, AllocationKind::FixedAddress | AllocationKind::Reservation)
    });
    answers
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::testing::run;

    #[test]
    fn cases() {
        let ann = ("a/chap-secrets", "ann * sesame 10.4.0.9\n");
        run(
            &CHECK,
            &[
                (
                    "two callers",
                    &[("a/chap-secrets", "ann * sesame 10.4.0.9\nbob * other 10.4.0.9\n")],
                    &["fail medium a chap-secrets:1 chap-secrets:2"],
                ),
                (
                    "one person in two lists",
                    &[ann, ("a/pap-secrets", "ann * sesame 10.4.0.9\n")],
                    &["pass a"],
                ),
                (
                    "a reservation",
                    &[ann, ("b/dnsmasq.conf", "dhcp-host=lamp,10.4.0.9\n")],
                    &["fail medium a chap-secrets:1 dnsmasq.conf:1", "pass b"],
                ),
                (
                    "two peers",
                    &[(
                        "w/wg0.conf",
                        "[Interface]\nPrivateKey=k\n# ann\n[Peer]\nAllowedIPs=10.9.0.2/32\n# bob\n[Peer]\nAllowedIPs=10.9.0.2/32\n",
                    )],
                    &["fail medium w wg0.conf:5 wg0.conf:8"],
                ),
                (
                    "a limit is no address",
                    &[("a/chap-secrets", "ann * sesame 10.4.0.0/24\nbob * other 10.4.0.0/24\n")],
                    &[],
                ),
            ],
        );
    }
}
