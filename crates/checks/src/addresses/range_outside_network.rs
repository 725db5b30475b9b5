//! A range leaves its network, or holds addresses that are for no host.

use crate::check::{Answer, Check, Fail, Need, Run, Verdict};
use crate::subject::{Subject, SubjectKind};
use std::collections::BTreeMap;
use std::net::IpAddr;
use trevlin_analysis::addresses::{Allocation, AllocationKind, PoolOwner};
use trevlin_analysis::map::EstateMap;
use trevlin_estate::area::{Area, Severity};
use trevlin_estate::baseline::Baseline;
use trevlin_model::{IpRange, Origin};

/// The check.
pub(crate) const CHECK: Check = Check {
    id: "addresses/range-outside-network",
    area: Area::Addresses,
    title: "Range outside its network, or with unusable addresses",
    severity: Severity::Medium,
    why: "A client that receives an address outside the network, the network or broadcast address, or the address of the \
          server or gateway has no connectivity or disrupts others. The fault affects few clients and is hard to find.",
    fix: "End the range before the broadcast address, begin it after the network address and after those of server and \
          gateway, and keep it inside its network.",
    judged: "Fails where a pool or DHCP range exceeds the network configured with it, or contains the network or broadcast \
             address, the tunnel address of the server, or a gateway used by clients or by the device. Networks of 31 and 32 \
             bits have no such addresses. Passes for ranges that the program computes itself.",
    references: &["RFC 1122, 3.2.1.3", "RFC 3021", "RFC 2131, 3.1"],
    needs: &[Need::Addresses, Need::Services],
    run: Run::Map(run),
};

/// The error of a range, and the line that shows it.
struct Fault {
    severity: Severity,
    what: String,
    evidence: Vec<Origin>,
}

fn run(estate: &EstateMap, _: &Baseline) -> Vec<Answer> {
    let plan = estate.plan();
    let served = Served::of(estate);
    let mut answers = Vec::new();
    for allocation in plan
        .allocations
        .iter()
        .filter(|allocation| matches!(allocation.kind, AllocationKind::Pool | AllocationKind::DhcpRange))
    {
        let Some(holder) = plan.owner(allocation) else { continue };
        let device = &estate.devices[allocation.device];
        let faults = faults(estate, &served, holder, allocation);
        let subject = Subject::of(SubjectKind::Addresses).with(allocation.range).with(&allocation.owner);
        let verdict = match faults.iter().map(|fault| fault.severity).max() {
            None => Verdict::pass(allocation.origin),
            Some(severity) => {
                let what: Vec<&str> = faults.iter().map(|fault| fault.what.as_str()).collect();
                let mut evidence = vec![allocation.origin];
                evidence.extend(
                    faults.iter().flat_map(|fault| &fault.evidence).filter(|one| **one != allocation.origin),
                );
                Verdict::Fail(Fail {
                    rating: CHECK.rated_at(
                        severity,
                        if severity == Severity::Low {
                            "only the client with that one address is affected"
                        } else {
                            "other hosts lose connectivity as well, or clients have none"
                        },
                    ),
                    title: format!(
                        "{} of {} {}",
                        allocation.range.short(),
                        allocation.owner,
                        what.join(", and ")
                    )
                    .into(),
                    detail: format!(
                        "{} is assigned by {} on {} ({}) and {}.",
                        allocation.range.short(),
                        allocation.owner,
                        device.name,
                        estate.place(allocation.origin),
                        what.join(", and ")
                    )
                    .into(),
                    evidence,
                })
            }
        };
        answers.push(Answer::new(allocation.device, subject, verdict));
    }
    answers
}

/// Settings of DHCP servers besides their ranges.
struct Served {
    /// The network of a range, by device and place.
    networks: BTreeMap<(usize, Origin, IpRange), Vec<(IpRange, Origin)>>,
    /// Routers sent to clients, by device.
    routers: Vec<Vec<(IpAddr, Origin)>>,
}

impl Served {
    fn of(estate: &EstateMap) -> Self {
        let mut served = Self { networks: BTreeMap::new(), routers: Vec::new() };
        for (at, device) in estate.devices.iter().enumerate() {
            let mut routers = Vec::new();
            for subnet in device.facts.dhcp_servers.iter().flat_map(|server| &server.subnets) {
                routers.extend(subnet.routers.iter().map(|(router, origin)| (router.first(), *origin)));
                let Some(network) = subnet.network else { continue };
                for (range, origin) in &subnet.ranges {
                    let known = served.networks.entry((at, *origin, *range)).or_default();
                    known.push((network.into(), subnet.origin));
                }
            }
            served.routers.push(routers);
        }
        served
    }
}

fn faults(estate: &EstateMap, served: &Served, holder: &PoolOwner, allocation: &Allocation) -> Vec<Fault> {
    let device = &estate.devices[allocation.device];
    let mut found = Vec::new();
    let range = allocation.range;
    let mut fault =
        |severity, what: String, evidence: Vec<Origin>| found.push(Fault { severity, what, evidence });
    // Networks that the range belongs to, with their lines.
    let mut networks: Vec<(IpRange, Origin)> = Vec::new();
    let mut gateways: Vec<(IpAddr, Origin)> = Vec::new();
    match &holder.pool {
        Some(pool) => {
            // Blocks of four addresses hold network and broadcast addresses by design (OpenVPN, net30).
            if pool.per_client.value() != Some(&1) {
                return found;
            }
            let own = pool.network.map(|net| (IpRange::from(net), pool.origin));
            // One that the program computes has the line of its network.
            let stated_apart = estate.is_appliance(allocation.device) || allocation.origin != pool.origin;
            networks.extend(own.filter(|_| stated_apart));
            if own.is_none() {
                let connected = device.facts.interfaces.iter().flat_map(|one| &one.addresses);
                let connected = connected.map(|address| (IpRange::from(address.net.trunc()), address.origin));
                networks.extend(connected.filter(|(net, _)| net.covers(&range)));
            }
            for server in pool.server_addresses.iter().filter(|server| range.contains(**server)) {
                fault(
                    Severity::Medium,
                    format!("contains {server}, the tunnel address of the server"),
                    Vec::new(),
                );
            }
            let routes = device.facts.routes.iter().filter(|route| route.is_default());
            gateways.extend(routes.filter_map(|route| Some((route.gateway?, route.origin))));
        }
        None => {
            let own = served.networks.get(&(allocation.device, allocation.origin, range));
            networks.extend(own.into_iter().flatten());
            gateways.clone_from(&served.routers[allocation.device]);
        }
    }
    networks.dedup();
    for (network, origin) in networks {
        if !network.covers(&range) {
            fault(
                Severity::Medium,
                format!("exceeds its network {} ({})", network.short(), estate.place(origin)),
                vec![origin],
            );
            continue;
        }
        // IPv6 has no broadcast address, and two addresses are a link without one.
        let (IpAddr::V4(_), true) = (network.first(), network.size() > 2) else { continue };
        for (end, what) in [(network.first(), "network address"), (network.last(), "broadcast address")] {
            if range.contains(end) {
                let what =
                    format!("contains {end}, the {what} of {} ({})", network.short(), estate.place(origin));
                fault(Severity::Low, what, vec![origin]);
            }
        }
    }
    gateways.sort_unstable();
    gateways.dedup_by_key(|(gateway, _)| *gateway);
    for (gateway, origin) in gateways {
        // A gateway that is a device of the estate is reported as an address in use.
        if range.contains(gateway) && estate.holders(gateway).is_empty() {
            let what = format!("contains {gateway}, the gateway ({})", estate.place(origin));
            fault(Severity::Medium, what, vec![origin]);
        }
    }
    found
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::testing::run;

    const LAN: (&str, &str) =
        ("d/ip-addr.json", r#"[{"ifname":"eth0","addr_info":[{"local":"10.4.0.5","prefixlen":24}]}]"#);

    #[test]
    fn cases() {
        run(
            &CHECK,
            &[
                (
                    "beyond its network",
                    &[(
                        "d/dhcpd.conf",
                        "subnet 10.4.0.0 netmask 255.255.255.0 {\n range 10.4.0.200 10.4.1.9;\n}\n",
                    )],
                    &["fail medium d dhcpd.conf:2 dhcpd.conf:1"],
                ),
                (
                    "the broadcast address",
                    &[("d/pptpd.conf", "localip 10.4.0.5\nremoteip 10.4.0.200-255\n"), LAN],
                    &["fail low d pptpd.conf:2 ip-addr.json:1"],
                ),
                (
                    "up to it",
                    &[("d/pptpd.conf", "localip 10.4.0.5\nremoteip 10.4.0.200-254\n"), LAN],
                    &["pass d"],
                ),
                (
                    "the server's own end",
                    &[("d/pptpd.conf", "localip 10.5.0.5\nremoteip 10.5.0.1-9\n"), LAN],
                    &["fail medium d pptpd.conf:2"],
                ),
                (
                    "the gateway",
                    &[(
                        "d/dnsmasq.conf",
                        "dhcp-range=10.4.0.1,10.4.0.99,255.255.255.0\ndhcp-option=3,10.4.0.1\n",
                    )],
                    &["fail medium d dnsmasq.conf:1 dnsmasq.conf:2"],
                ),
                (
                    "a pool stated apart",
                    &[(
                        "d/s.conf",
                        "dev tun\nmode server\ntls-server\ntopology subnet\nifconfig 10.8.0.1 255.255.255.0\nifconfig-pool 10.8.0.200 10.8.1.20\n",
                    )],
                    &["pass d"],
                ),
                (
                    "a pool beside its network",
                    &[(
                        "d/s.conf",
                        "dev tun\ntopology subnet\nserver 10.8.0.0 255.255.255.0 nopool\nifconfig-pool 10.8.0.200 10.8.1.20\n",
                    )],
                    &["fail medium d s.conf:4 s.conf:3"],
                ),
                (
                    "what the program works out",
                    &[("d/s.conf", "dev tun\nserver 10.8.0.0 255.255.255.248\ntopology net30\n")],
                    &["pass d"],
                ),
            ],
        );
    }
}
