//! Clients send a private network into the tunnel to which the device has no way.

use crate::check::{Answer, Check, Fail, Need, Run, Verdict};
use crate::subject::Subject;
use crate::support::name_of;
use std::collections::BTreeSet;
use std::net::IpAddr;
use trevlin_analysis::context::Analyses;
use trevlin_estate::area::{Area, Severity};
use trevlin_estate::assemble::OutsideInterface;
use trevlin_estate::baseline::Baseline;
use trevlin_estate::special::{Space, is_public, space_of};
use trevlin_model::plan::Placed;
use trevlin_model::{Device, IpRange, Tunnel};

/// The check.
pub(crate) const CHECK: Check = Check {
    id: "addresses/pushed-network-absent",
    area: Area::Addresses,
    title: "Network pushed to clients does not exist behind the device",
    severity: Severity::Low,
    why: "The network is mistyped or no longer in use. Clients lose access to hosts with these addresses in their own \
          networks, and the device sends the packets to its provider, with internal names and logins in them.",
    fix: "Correct the network, or remove it from the list. Let the device drop packets for private networks that it has no \
          route to.",
    judged: "Judged where the interfaces and routes of the device are known and its default route leaves by an interface with a public \
             address. Fails for a private network of a split tunnel that no interface, route, pool or other tunnel of the device \
             covers or touches, and in which no device of the estate has an address.",
    references: &["RFC 1918, 3", "NIST SP 800-41 Rev. 1, 4.1.1"],
    needs: &[Need::Routes, Need::Services],
    run: Run::Analyses(run),
};

fn run(estate: &Analyses, _: &Baseline) -> Vec<Answer> {
    let all = estate.devices.iter().flat_map(|one| &one.facts.interfaces).flat_map(|one| &one.addresses);
    let addresses: BTreeSet<IpAddr> = all.map(|one| one.net.addr()).collect();
    let mut answers = Vec::new();
    for (at, device) in estate.devices.iter().enumerate() {
        if !leads_outside(estate, at) {
            continue;
        }
        let ways = ways(device);
        for tunnel in device.facts.tunnels.iter().filter(|one| one.accepts_clients()) {
            if !tunnel.addresses.sent_through.is_empty() {
                answers.push(Answer::new(
                    at,
                    Subject::tunnel(tunnel),
                    judge(&addresses, device, &ways, tunnel),
                ));
            }
        }
    }
    answers
}

/// Whether all that the device has no other route for leaves to an untrusted network.
fn leads_outside(estate: &Analyses, at: usize) -> bool {
    let facts = &estate.devices[at].facts;
    let outside = estate.outside(at);
    // Behind a router with a private address there may be further networks.
    let public = |one: &OutsideInterface| one.addresses.iter().any(|address| is_public(*address));
    let faces = |name: &str| outside.iter().any(|one| one.name == name && public(one));
    let mut default = facts.routes.iter().filter(|route| route.is_default()).peekable();
    facts.has_interfaces
        && default.peek().is_some()
        && default.all(|route| route.interface.as_deref().is_some_and(faces))
}

/// Networks that the device has a way to.
fn ways(device: &Device) -> Vec<IpRange> {
    let facts = &device.facts;
    let connected = facts.interfaces.iter().flat_map(|one| &one.addresses).map(|one| one.net.trunc().into());
    let routed =
        facts.routes.iter().filter(|route| !route.is_default()).map(|route| route.destination.into());
    let tunnels = facts.tunnels.iter().flat_map(|tunnel| {
        let plan = &tunnel.addresses;
        let pools = plan.pools.iter().flat_map(|pool| pool.allocations()).map(|(range, _)| range);
        let peers = tunnel.peers.iter().flat_map(|peer| &peer.allowed).map(|(range, _)| *range);
        let remote = plan.remote.iter().map(|(range, _)| *range);
        pools.chain(peers).chain(remote).collect::<Vec<_>>()
    });
    let all: Vec<IpRange> = connected.chain(routed).chain(tunnels).collect();
    all.into_iter().filter(|range| range.size() < IpRange::all(range.family()).size() / 2).collect()
}

fn judge(addresses: &BTreeSet<IpAddr>, device: &Device, ways: &[IpRange], tunnel: &Tunnel) -> Verdict {
    let known = |range: &IpRange| {
        let own = |net: &IpRange| net.intersection(range).is_some();
        ways.iter().any(own) || addresses.range(range.first()..=range.last()).next().is_some()
    };
    let absent: Vec<&Placed> = tunnel
        .addresses
        .sent_through
        .iter()
        .filter(|(range, _)| matches!(space_of(*range), Space::Private) && !known(range))
        .collect();
    let Some((first, _)) = absent.first() else {
        let sent = tunnel.addresses.sent_through.iter().map(|(_, origin)| *origin);
        return Verdict::pass_by(sent, tunnel.origin);
    };
    let more = absent.len() - 1;
    let more = if more == 0 { String::new() } else { format!(" and {more} more") };
    Verdict::Fail(Fail {
        rating: CHECK.rated("packets for it leave to the provider"),
        title: format!(
            "{}{more}, pushed to clients of {}, is not behind {}",
            first.short(),
            name_of(tunnel),
            device.name
        )
        .into(),
        detail:
            "No interface, route or tunnel of the device leads to it, and no device of the estate is in it."
                .into(),
        evidence: absent.iter().map(|(_, origin)| *origin).collect(),
    })
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::testing::run;

    #[test]
    fn cases() {
        const ADDRESSES: (&str, &str) = (
            "d/ip-addr.json",
            r#"[{"ifname":"eth0","addr_info":[{"local":"198.51.100.9","prefixlen":29}]},
                {"ifname":"eth1","addr_info":[{"local":"10.4.0.1","prefixlen":24}]}]"#,
        );
        const ROUTES: (&str, &str) = (
            "d/ip-route.json",
            r#"[{"dst":"default","gateway":"198.51.100.10","dev":"eth0"},
                {"dst":"10.6.0.0/24","gateway":"10.4.0.9","dev":"eth1"}]"#,
        );
        const INSIDE: (&str, &str) =
            ("d/ip-route.json", r#"[{"dst":"default","gateway":"10.4.0.254","dev":"eth1"}]"#);
        for (line, routes, wanted) in [
            ("push \"route 10.4.0.0 255.255.255.0\"", ROUTES, &["pass d"][..]),
            ("push \"route 10.6.0.0 255.255.255.0\"", ROUTES, &["pass d"]),
            // A wider one has what is there.
            ("push \"route 10.4.0.0 255.255.0.0\"", ROUTES, &["pass d"]),
            ("push \"route 10.40.0.0 255.255.255.0\"", ROUTES, &["fail low d s.conf:3"]),
            ("push \"route 203.0.113.0 255.255.255.0\"", ROUTES, &["pass d"]),
            ("push \"redirect-gateway def1\"", ROUTES, &["pass d"]),
            ("#push \"route 10.40.0.0 255.255.255.0\"", ROUTES, &[]),
            // It may be behind that router.
            ("push \"route 10.40.0.0 255.255.255.0\"", INSIDE, &[]),
        ] {
            let text = format!("dev tun\nserver 10.8.0.0 255.255.255.0\n{line}\n");
            run(
                &CHECK,
                &[(&format!("{line} {}", routes.1), &[ADDRESSES, routes, ("d/s.conf", &text)], wanted)],
            );
        }
        let text = "dev tun\nserver 10.8.0.0 255.255.255.0\npush \"route 10.40.0.0 255.255.255.0\"\n";
        let other =
            ("e/ip-addr.json", r#"[{"ifname":"eth0","addr_info":[{"local":"10.40.0.7","prefixlen":24}]}]"#);
        run(
            &CHECK,
            &[("another device is there", &[ADDRESSES, ROUTES, ("d/s.conf", text), other], &["pass d"])],
        );
    }
}
