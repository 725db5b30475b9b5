//! An internal network uses a range common in home networks.

use crate::check::{Answer, Check, Fail, Need, Run, Verdict};
use crate::subject::{Subject, SubjectKind};
use trevlin_analysis::addresses::meaning::is_host_local;
use trevlin_analysis::addresses::{Allocation, AllocationKind};
use trevlin_analysis::map::EstateMap;
use trevlin_estate::area::{Area, Severity};
use trevlin_estate::baseline::Baseline;
use trevlin_estate::special::{CommonNetwork, common_at_home};
use trevlin_model::{IpRange, Origin};

/// The check.
pub(crate) const CHECK: Check = Check {
    id: "addresses/common-home-range",
    area: Area::Addresses,
    title: "Internal network in a range common at home",
    severity: Severity::Low,
    why: "A client whose home network uses the same addresses cannot reach the internal hosts, or reaches the wrong host, \
          since the local route takes precedence over the tunnel. A host in that home network can also impersonate the \
          internal server.",
    fix: "Number internal networks from a randomly chosen part of the private blocks. Until then, translate the network one \
          to one for VPN clients.",
    judged: "Fails where an IPv4 network that is routed to VPN clients, or connected to the VPN server, shares addresses \
             with defaults of home routers, telephones and container engines. Does not apply to devices without VPN clients.",
    references: &["RFC 1918, 5", "RFC 4193, 3.2.2 (random selection)"],
    needs: &[Need::Services],
    run: Run::Map(run),
};

fn run(estate: &EstateMap, _: &Baseline) -> Vec<Answer> {
    let plan = estate.plan();
    let mut answers = Vec::new();
    for (at, device) in estate.devices.iter().enumerate() {
        let inside = |allocation: &&Allocation| {
            allocation.kind == AllocationKind::Network
                && !is_host_local(&allocation.owner)
                && !faces_outside(estate, allocation)
        };
        let connected: Vec<(IpRange, Origin)> = plan
            .of_device(at)
            .iter()
            .filter(inside)
            .map(|allocation| (allocation.range, allocation.origin))
            .collect();
        for (name, addresses) in device.facts.plans().filter(|(_, plan)| !plan.pools.is_empty()) {
            // Routes pushed to clients other than all traffic are exact; otherwise clients may reach all networks of the server.
            let told: Vec<_> = addresses
                .sent_through
                .iter()
                .copied()
                .filter(|(range, _)| *range != IpRange::all(range.family()))
                .collect();
            let reached = if told.is_empty() { &connected } else { &told };
            let met: Vec<(IpRange, Origin, &CommonNetwork)> = reached
                .iter()
                .filter_map(|(range, origin)| {
                    // A wide network is a route to many, of which none need be that one.
                    let common = common_at_home().find(|common| {
                        let common = IpRange::from(common.prefix);
                        range.intersection(&common).is_some() && range.size() <= common.size() * 4
                    });
                    Some((*range, *origin, common?))
                })
                .collect();
            let verdict = if met.is_empty() {
                Verdict::pass_by(reached.iter().map(|(_, origin)| *origin), addresses.pools[0].origin)
            } else {
                fail(estate, name, addresses.pools[0].origin, &met)
            };
            answers.push(Answer::new(at, Subject::of(SubjectKind::Interface).with(name), verdict));
        }
    }
    answers
}

fn faces_outside(estate: &EstateMap, allocation: &Allocation) -> bool {
    estate.outside(allocation.device).iter().any(|one| one.certain && one.name == allocation.owner)
}

fn fail(estate: &EstateMap, name: &str, pool: Origin, met: &[(IpRange, Origin, &CommonNetwork)]) -> Verdict {
    let networks: Vec<_> = met.iter().map(|(range, _, _)| range.short()).collect();
    let told: Vec<_> = met
        .iter()
        .map(|(range, origin, common)| {
            format!(
                "{} ({}) overlaps {}, a common home network ({})",
                range.short(),
                estate.place(*origin),
                common.prefix,
                common.source
            )
        })
        .collect();
    let mut evidence: Vec<Origin> = met.iter().map(|(_, origin, _)| *origin).collect();
    evidence.push(pool);
    Verdict::Fail(Fail {
        rating: CHECK.rated("it affects clients whose own network has the same addresses"),
        title: format!("Clients of {name} reach {}, a common home network", networks.join(", ")).into(),
        detail: format!("{}.", told.join("; ")).into(),
        evidence,
    })
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::testing::run;

    #[test]
    fn cases() {
        let server = |more: &str| format!("dev tun\nserver 10.88.0.0 255.255.255.0\n{more}\n");
        let lan =
            |net: &str| format!(r#"[{{"ifname":"eth1","addr_info":[{{"local":"{net}","prefixlen":24}}]}}]"#);
        for (net, more, wanted) in [
            ("192.168.1.9", "", &["fail low d ip-addr.json:1 s.conf:2"][..]),
            ("10.20.4.9", "", &["pass d"]),
            ("192.168.1.9", "push \"route 10.20.6.0 255.255.255.0\"", &["pass d"]),
            ("10.20.4.9", "push \"route 192.168.0.0 255.255.255.0\"", &["fail low d s.conf:3 s.conf:2"]),
            ("192.168.1.9", "push \"redirect-gateway def1\"", &["fail low d ip-addr.json:1 s.conf:2"]),
            ("10.20.4.9", "push \"route 10.0.0.0 255.0.0.0\"", &["pass d"]),
            ("10.20.4.9", "push \"route 192.168.0.0 255.255.0.0\"", &["pass d"]),
        ] {
            let (text, json) = (server(more), lan(net));
            run(&CHECK, &[(more, &[("d/s.conf", &text), ("d/ip-addr.json", &json)], wanted)]);
        }
        run(&CHECK, &[("no callers", &[("d/ip-addr.json", &lan("192.168.1.9"))], &[])]);
    }
}
