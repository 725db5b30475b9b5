//! A fixed address lies outside the networks of its server.

use crate::check::{Answer, Check, Fail, Need, Run, Verdict};
use crate::subject::{Subject, SubjectKind};
use trevlin_analysis::addresses::AllocationKind;
use trevlin_analysis::map::EstateMap;
use trevlin_estate::area::{Area, Severity};
use trevlin_estate::baseline::Baseline;
use trevlin_model::{Family, IpRange, Origin, TunnelFamily};

/// The check.
pub(crate) const CHECK: Check = Check {
    id: "addresses/reservation-outside-network",
    area: Area::Addresses,
    title: "Fixed address outside its network",
    severity: Severity::Medium,
    why: "The host or user never receives the address, or receives it without a route back. Rules that permit or limit this \
          address do not apply to the host they were written for.",
    fix: "Correct the address, or move the entry to the server of the network it belongs to. Check the rules that name it.",
    judged: "Fails for each reservation of a DHCP server that lies in no network of the device and in no subnet of its \
             server, and for each fixed address of an OpenVPN or OpenConnect user outside the networks of the tunnel and its \
             routes. Passes inside. Not judged where the networks are not in the exports.",
    references: &["RFC 2131, 4.3.1", "openvpn(8), --ifconfig-push", "dnsmasq(8), --dhcp-host"],
    needs: &[Need::Addresses, Need::Services],
    run: Run::Map(run),
};

fn run(estate: &EstateMap, _: &Baseline) -> Vec<Answer> {
    let mut answers = Vec::new();
    let plan = estate.plan();
    for allocation in plan.allocations.iter().filter(|one| one.kind == AllocationKind::Reservation) {
        let facts = &estate.devices[allocation.device].facts;
        let connected = facts.interfaces.iter().filter(|one| !one.loopback).flat_map(|one| &one.addresses);
        let mut networks: Vec<(IpRange, Origin)> =
            connected.map(|one| (IpRange::from(one.net.trunc()), one.origin)).collect();
        let subnets = facts.dhcp_servers.iter().flat_map(|server| &server.subnets);
        networks.extend(subnets.filter_map(|one| Some((one.network?.into(), one.origin))));
        let who = allocation.who.clone().unwrap_or_else(|| allocation.owner.clone());
        let verdict = judge(&who, allocation.range, allocation.origin, &networks);
        let subject = Subject::of(SubjectKind::Addresses).with(allocation.range).with(&who);
        answers.extend(verdict.map(|verdict| Answer::new(allocation.device, subject, verdict)));
    }
    for (at, device) in estate.devices.iter().enumerate() {
        let inner =
            |family| matches!(family, TunnelFamily::OpenVpn | TunnelFamily::OpenConnect | TunnelFamily::Tls);
        for tunnel in device.facts.running().filter(|one| inner(one.family)) {
            let plan = &tunnel.addresses;
            let pools = plan.pools.iter().filter_map(|pool| Some((pool.network?.into(), pool.origin)));
            let mut networks: Vec<(IpRange, Origin)> = pools.collect();
            if networks.is_empty() {
                continue;
            }
            networks.extend(plan.remote.iter().copied());
            for fixed in &plan.fixed {
                let subject = Subject::of(SubjectKind::Addresses).with(fixed.range).with(&fixed.who);
                let verdict = judge(&fixed.who, fixed.range, fixed.origin, &networks);
                answers.extend(verdict.map(|verdict| Answer::new(at, subject, verdict)));
            }
        }
    }
    answers
}

fn judge(who: &str, range: IpRange, origin: Origin, networks: &[(IpRange, Origin)]) -> Option<Verdict> {
    // IPv6 hosts are often named by the last part of their address alone.
    let mut of_family = networks.iter().filter(|(net, _)| net.family() == range.family()).peekable();
    let (_, nearest) = **of_family.peek().filter(|_| range.family() == Family::V4)?;
    let inside = of_family.any(|(net, _)| net.covers(&range));
    if inside {
        return Some(Verdict::pass(origin));
    }
    let mut all: Vec<String> = networks
        .iter()
        .filter(|(net, _)| net.family() == range.family())
        .map(|(net, _)| net.network().map_or_else(|| net.short(), |net| net.to_string()))
        .collect();
    all.dedup();
    let more = all.len().saturating_sub(4);
    all.truncate(4);
    let more = if more > 0 { format!(" and {more} more") } else { String::new() };
    Some(Verdict::Fail(Fail {
        rating: CHECK.rated("the host cannot be reached at this address"),
        title: format!("Fixed address {} of {who} is in no network of its server", range.short()).into(),
        detail: format!("The networks are {}{more}.", all.join(", ")).into(),
        evidence: vec![origin, nearest],
    }))
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::testing::run;

    #[test]
    fn cases() {
        const LAN: (&str, &str) =
            ("d/ip-addr.json", r#"[{"ifname":"eth0","addr_info":[{"local":"10.4.0.1","prefixlen":24}]}]"#);
        let kept = |address: &str| {
            format!(
                "interface=eth0\ndhcp-range=10.4.0.50,10.4.0.99,1h\ndhcp-host=02:00:5e:10:00:01,pump,{address}\n"
            )
        };
        let [inside, outside] = [kept("10.4.0.20"), kept("10.5.0.20")];
        const SERVER: (&str, &str) = (
            "d/etc/openvpn/server/crew.conf",
            "dev tun\ntopology subnet\nserver 10.9.0.0 255.255.255.240\nclient-config-dir /etc/openvpn/ccd\n",
        );
        let fixed = |address: &str| format!("ifconfig-push {address} 255.255.255.240\n");
        let [own, foreign] = [fixed("10.9.0.9"), fixed("10.9.0.22")];
        const CCD: &str = "d/etc/openvpn/ccd/ann";
        const HOSTS: &str = "d/etc/dnsmasq.conf";
        run(
            &CHECK,
            &[
                ("inside", &[LAN, (HOSTS, &inside)], &["pass d"]),
                (
                    "of another network",
                    &[LAN, (HOSTS, &outside)],
                    &["fail medium d dnsmasq.conf:3 ip-addr.json:1"],
                ),
                ("networks not exported", &[(HOSTS, &outside)], &[]),
                ("a user's address", &[SERVER, (CCD, &own)], &["pass d"]),
                (
                    "a user's mistyped address",
                    &[SERVER, (CCD, &foreign)],
                    &["fail medium d ann:1 crew.conf:3"],
                ),
            ],
        );
    }
}
