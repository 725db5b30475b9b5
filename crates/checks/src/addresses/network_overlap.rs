//! Networks of two interfaces share addresses without being one network.

use crate::addresses::{is_private_network, listed};
use crate::check::{Answer, Check, Fail, Need, Run, Verdict};
use crate::subject::{Subject, SubjectKind};
use crate::support::others_of_plan_pass;
use std::collections::BTreeSet;
use trevlin_analysis::addresses::Allocation;
use trevlin_analysis::map::EstateMap;
use trevlin_estate::area::{Area, Severity};
use trevlin_estate::baseline::Baseline;

/// The check.
pub(crate) const CHECK: Check = Check {
    id: "addresses/network-overlap",
    area: Area::Addresses,
    title: "Networks of different size overlap",
    severity: Severity::Low,
    why: "The shared addresses belong to two networks. Traffic for them goes to the more specific one, hosts of the other are \
          unreachable, and rules that name one network apply to hosts of both. Often two sites were numbered alike, or one \
          device has a wrong prefix length.",
    fix: "Renumber one of the networks, or correct the prefix length.",
    judged: "Fails where two interfaces of one device have networks that share addresses, and where private networks of two \
             devices overlap without being equal; medium where a tunnel joins the two devices or they are one. Devices with \
             different sites in the estate file are judged by addresses/duplicate-site-network. Networks inside one host \
             and links of tunnels are left out. Passes for a device whose networks overlap no others.",
    references: &["RFC 1918, 5", "RFC 4632, 3.1"],
    needs: &[Need::Addresses],
    run: Run::Map(run),
};

fn run(estate: &EstateMap, _: &Baseline) -> Vec<Answer> {
    let mut networks: Vec<&Allocation> =
        estate.plan().allocations.iter().filter(|one| is_private_network(one)).collect();
    networks.sort_by_key(|one| (one.range.first(), std::cmp::Reverse(one.range.last()), one.origin));
    let joined: BTreeSet<[usize; 2]> = estate
        .shape()
        .joined
        .iter()
        .flat_map(|link| {
            let [a, b] = [link.ends[0].device, link.ends[1].device];
            [[a, b], [b, a]]
        })
        .collect();
    let (mut answers, mut clashing) = (Vec::new(), BTreeSet::new());
    for (at, outer) in networks.iter().enumerate() {
        // Those that begin within it follow it.
        let within = networks[at + 1..].iter().take_while(|one| outer.range.contains(one.range.first()));
        let meeting: Vec<&Allocation> =
            within.copied().filter(|inner| clashes(estate, outer, inner)).collect();
        if !meeting.is_empty() {
            clashing.extend(meeting.iter().chain([outer]).map(|one| one.device));
        }
        answers.extend(judge(estate, &joined, outer, &meeting));
    }
    others_of_plan_pass(estate, &mut answers, |one| {
        is_private_network(one) && !clashing.contains(&one.device)
    });
    answers
}

/// Whether two networks share addresses and are not one network.
fn clashes(estate: &EstateMap, outer: &Allocation, inner: &Allocation) -> bool {
    if outer.device == inner.device {
        return outer.owner != inner.owner && outer.origin != inner.origin;
    }
    let site = |one: &Allocation| estate.devices[one.device].site.as_ref();
    let told_apart = site(outer).is_some() && site(inner).is_some() && site(outer) != site(inner);
    outer.range != inner.range && !told_apart
}

fn judge(
    estate: &EstateMap,
    joined: &BTreeSet<[usize; 2]>,
    outer: &Allocation,
    meeting: &[&Allocation],
) -> Option<Answer> {
    /// How many networks one finding names.
    const NAMED: usize = 3;
    let grade = |inner: &&Allocation| match (
        outer.device == inner.device,
        joined.contains(&[outer.device, inner.device]),
    ) {
        (true, _) => (Severity::Medium, "one device has both networks"),
        (_, true) => (Severity::Medium, "a tunnel joins the two devices"),
        _ => (CHECK.severity, "no tunnel between the two devices is among the exports"),
    };
    let (severity, why) = meeting.iter().map(grade).max_by_key(|(severity, _)| *severity)?;
    // The gravest come first.
    let mut named: Vec<&Allocation> = meeting.to_vec();
    named.sort_by_key(|inner| std::cmp::Reverse(grade(inner).0));
    named.truncate(NAMED);
    let name = |one: &Allocation| format!("{} of {}", one.owner, estate.devices[one.device].name);
    let inner = named.first()?;
    let more = match meeting.len() - 1 {
        0 => String::new(),
        many => format!(", as {many} more do"),
    };
    let all: Vec<&Allocation> = named.iter().copied().chain([outer]).collect();
    let (told, evidence) = listed(estate, &all);
    Some(Answer::new(
        inner.device,
        Subject::of(SubjectKind::Addresses)
            .with(inner.range)
            .with(&inner.owner)
            .with(outer.range)
            .with(&outer.owner),
        Verdict::Fail(Fail {
            rating: CHECK.rated_at(severity, why),
            title: format!(
                "{} ({}) overlaps {} ({}){more}",
                inner.range.short(),
                name(inner),
                outer.range.short(),
                name(outer)
            )
            .into(),
            detail: format!("The networks share addresses: {told}.").into(),
            evidence,
        }),
    ))
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::testing::{answers, estate_with, run};

    fn addresses(all: &[&str]) -> String {
        let one = |(at, address): (usize, &&str)| {
            let (address, length) = address.split_once('/').unwrap();
            format!(r#"{{"ifname":"eth{at}","addr_info":[{{"local":"{address}","prefixlen":{length}}}]}}"#)
        };
        let all: Vec<String> = all.iter().enumerate().map(one).collect();
        format!("[{}]", all.join(",\n"))
    }

    #[test]
    fn cases() {
        let [whole, half, other, both] = [
            addresses(&["10.4.0.1/24"]),
            addresses(&["10.4.0.129/25"]),
            addresses(&["10.4.0.2/24"]),
            addresses(&["10.4.0.1/24", "10.4.0.129/25"]),
        ];
        const A: &str = "a/ip-addr.json";
        const B: &str = "b/ip-addr.json";
        run(
            &CHECK,
            &[
                (
                    "unequal on two devices",
                    &[(A, &whole), (B, &half)],
                    &["fail low b ip-addr.json:1 ip-addr.json:1"],
                ),
                ("one network", &[(A, &whole), (B, &other)], &["pass a", "pass b"]),
                ("two of one device", &[(A, &both)], &["fail medium a ip-addr.json:2 ip-addr.json:1"]),
            ],
        );
        let sites = "[device.a]\nsite = \"quay\"\n[device.b]\nsite = \"yard\"\n";
        assert_eq!(answers(&CHECK, &estate_with(&[(A, &whole), (B, &half)], sites)), ["pass a", "pass b"]);
    }
}
