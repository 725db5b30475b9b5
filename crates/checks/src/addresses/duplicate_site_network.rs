//! Two sites use the same network.

use crate::addresses::{is_private_network, listed};
use crate::check::{Answer, Check, Fail, Need, Run, Verdict};
use crate::subject::{Subject, SubjectKind};
use crate::support::others_of_plan_pass;
use std::collections::{BTreeMap, BTreeSet};
use trevlin_analysis::addresses::meaning::is_host_local;
use trevlin_analysis::addresses::{Allocation, AllocationKind};
use trevlin_analysis::map::EstateMap;
use trevlin_estate::area::{Area, Severity};
use trevlin_estate::baseline::Baseline;
use trevlin_estate::special::{Space, space_of};
use trevlin_model::IpRange;

/// The check.
pub(crate) const CHECK: Check = Check {
    id: "addresses/duplicate-site-network",
    area: Area::Addresses,
    title: "Same network used at two sites",
    severity: Severity::Medium,
    why: "Once the two sites are connected, an address identifies two hosts. Rules and logs that name the network apply to \
          both sites, and a host at one site can pass for a host of the other. Without a tunnel, the overlap prevents \
          connecting the sites at short notice.",
    fix: "Renumber the smaller site. If the sites must be connected first, translate one of the networks one to one.",
    judged: "Judged for devices with a site in the estate file (`site`). Fails where private interface networks of two sites \
             share addresses; one level higher where a tunnel of one site routes to such a network. Where no sites are \
             named, two devices with the same address in one network lead to an information request. Networks inside one \
             host, and virtual addresses of one site, are left out. Passes for a device with \
             networks that no other device has.",
    references: &["RFC 1918, 5"],
    needs: &[Need::Addresses],
    run: Run::Map(run),
};

fn run(estate: &EstateMap, _: &Baseline) -> Vec<Answer> {
    let plan = estate.plan();
    let mut networks: Vec<&Allocation> =
        plan.allocations.iter().filter(|allocation| is_private_network(allocation)).collect();
    networks.sort_by_key(|allocation| (allocation.range.first(), allocation.range.last(), allocation.origin));
    let mut answers = Vec::new();
    for group in chains(&networks) {
        answers.extend(sites(estate, &group));
    }
    answers.extend(same_address(estate));
    // A network that several devices have is one of them all, or of several sites.
    let mut by_range: BTreeMap<IpRange, BTreeSet<usize>> = BTreeMap::new();
    for one in &networks {
        by_range.entry(one.range).or_default().insert(one.device);
    }
    let met: BTreeSet<usize> = by_range.into_values().filter(|devices| devices.len() > 1).flatten().collect();
    others_of_plan_pass(estate, &mut answers, |one| {
        is_private_network(one) && estate.devices[one.device].site.is_some() && !met.contains(&one.device)
    });
    answers
}

/// Networks that hang together by shared addresses.
fn chains<'a>(networks: &[&'a Allocation]) -> Vec<Vec<&'a Allocation>> {
    let mut found: Vec<(IpRange, Vec<&Allocation>)> = Vec::new();
    for &allocation in networks {
        match found.last_mut() {
            Some((reach, group)) if reach.intersection(&allocation.range).is_some() => {
                let last = reach.last().max(allocation.range.last());
                *reach = IpRange::new(reach.first(), last).unwrap_or(*reach);
                group.push(allocation);
            }
            _ => found.push((allocation.range, vec![allocation])),
        }
    }
    found.into_iter().map(|(_, group)| group).collect()
}

/// Compares the first network of each site in a group.
fn sites(estate: &EstateMap, group: &[&Allocation]) -> Option<Answer> {
    let mut by_site: BTreeMap<&str, &Allocation> = BTreeMap::new();
    for allocation in group {
        if let Some(site) = &estate.devices[allocation.device].site {
            by_site.entry(site).or_insert(allocation);
        }
    }
    let allocations: Vec<&Allocation> = by_site.values().copied().collect();
    let meets = |allocation: &&Allocation| {
        allocations.iter().any(|other| {
            !std::ptr::eq(*other, *allocation) && other.range.intersection(&allocation.range).is_some()
        })
    };
    let mut allocations: Vec<&Allocation> =
        allocations.iter().copied().filter(|allocation| meets(allocation)).collect();
    allocations.sort_by_key(|allocation| allocation.origin);
    let [first, second, ..] = allocations.as_slice() else { return None };
    let names: Vec<&str> = by_site
        .iter()
        .filter(|(_, allocation)| allocations.iter().any(|one| std::ptr::eq(*one, **allocation)))
        .map(|(site, _)| *site)
        .collect();
    let joined = tunnel_to(estate, &allocations);
    let (told, mut evidence) = listed(estate, &allocations);
    let (severity, why, also) = match joined {
        Some(tunnel) => {
            evidence.push(tunnel.origin);
            let also =
                format!(" {} routes to such a network ({}).", tunnel.owner, estate.place(tunnel.origin));
            (Severity::High, "a tunnel connects the sites", also)
        }
        None => (CHECK.severity, "no tunnel between the sites is among the exports", String::new()),
    };
    let shared = first.range.intersection(&second.range).unwrap_or(first.range).short();
    Some(Answer::new(
        first.device,
        Subject::of(SubjectKind::Addresses).with(&shared).with(names.join(" ")),
        Verdict::Fail(Fail {
            rating: CHECK.rated_at(severity, why),
            title: format!("{shared} is used at {}", names.join(" and at ")).into(),
            detail: format!("Both sites use it: {told}.{also}").into(),
            evidence,
        }),
    ))
}

/// A tunnel of one of these devices' sites to a network that shares addresses with theirs.
fn tunnel_to<'a>(estate: &'a EstateMap, allocations: &[&Allocation]) -> Option<&'a Allocation> {
    let sites: BTreeSet<_> =
        allocations.iter().filter_map(|allocation| estate.devices[allocation.device].site.as_ref()).collect();
    estate.plan().allocations.iter().find(|one| {
        one.kind == AllocationKind::Remote
            && estate.devices[one.device].site.as_ref().is_some_and(|site| sites.contains(site))
            && allocations.iter().any(|allocation| {
                allocation.range.intersection(&one.range).is_some()
                    && one.range.size() <= allocation.range.size() * 256
            })
    })
}

/// Devices without a site that have one address in one network: two sites, or two that take turns.
fn same_address(estate: &EstateMap) -> Vec<Answer> {
    let mut holders: BTreeMap<IpRange, Vec<&Allocation>> = BTreeMap::new();
    for allocation in &estate.plan().allocations {
        if allocation.kind == AllocationKind::Address
            && estate.devices[allocation.device].site.is_none()
            && !is_host_local(&allocation.owner)
            && matches!(space_of(allocation.range), Space::Private)
        {
            holders.entry(allocation.range).or_default().push(allocation);
        }
    }
    let mut answers = Vec::new();
    // Two sites with the same plan have many addresses in common; one question is enough for two devices.
    let mut asked = BTreeSet::new();
    for (range, allocations) in holders {
        let first = allocations[0];
        let Some(second) = allocations.iter().find(|allocation| allocation.device != first.device) else {
            continue;
        };
        if !asked.insert((first.device, second.device)) {
            continue;
        }
        let (one, other) = (&estate.devices[first.device].name, &estate.devices[second.device].name);
        let question = format!(
            "Please state whether {one} and {other} share the address {} as a virtual address, or are at two sites with the \
             same network. Add the site of each device to the estate file (`site`).",
            range.short()
        );
        let verdict = Verdict::ask(question, vec![first.origin, second.origin]);
        answers.push(Answer::new(
            first.device,
            Subject::of(SubjectKind::Addresses).with(range).with(other),
            verdict,
        ));
    }
    answers
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::testing::{answers, estate_with};

    #[test]
    fn cases() {
        let lan =
            |own: &str| format!(r#"[{{"ifname":"eth1","addr_info":[{{"local":"{own}","prefixlen":24}}]}}]"#);
        const SITES: &str = "[device.a]\nsite = \"harbour\"\n[device.b]\nsite = \"yard\"\n";
        const ONE: &str = "[device.a]\nsite = \"harbour\"\n[device.b]\nsite = \"harbour\"\n";
        let tunnel = ("a/ipsec.conf", "conn yard\n\tauto=start\n\trightsubnet=10.4.0.0/24\n");
        let (first, second, other) = (lan("10.4.0.1"), lan("10.4.0.2"), lan("10.5.0.1"));
        let pair = |text: &'static str, two: &str| (text, two.to_owned());
        for (name, file, two, more, wanted) in [
            ("two sites", SITES, &second, None, &["fail medium a ip-addr.json:1 ip-addr.json:1"][..]),
            (
                "joined",
                SITES,
                &second,
                Some(tunnel),
                &["fail high a ip-addr.json:1 ip-addr.json:1 ipsec.conf:3"],
            ),
            ("one site", ONE, &second, None, &[]),
            ("two networks", SITES, &other, None, &["pass a", "pass b"]),
            ("nobody says", "", &second, None, &[]),
            ("nobody says, and one address", "", &first, None, &["ask a"]),
        ] {
            let mut files = vec![("a/ip-addr.json", first.as_str()), ("b/ip-addr.json", two.as_str())];
            files.extend(more);
            assert_eq!(answers(&CHECK, &estate_with(&files, file)), wanted, "{name}");
        }
        let _ = pair;
        let inner = r#"[{"ifname":"docker0","addr_info":[{"local":"172.17.0.1","prefixlen":16}]}]"#;
        let files = [("a/ip-addr.json", inner), ("b/ip-addr.json", inner)];
        assert_eq!(answers(&CHECK, &estate_with(&files, SITES)), Vec::<String>::new(), "inside one host");
        assert_eq!(answers(&CHECK, &estate_with(&files, "")), Vec::<String>::new(), "inside one host");
    }
}
