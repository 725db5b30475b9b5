//! IPv4 traffic of clients uses the tunnel, and IPv6 bypasses it.

use crate::addresses::cover;
use crate::check::{Answer, Check, Fail, Need, Run, Verdict};
use crate::subject::Subject;
use ipnet::IpNet;
use trevlin_analysis::map::EstateMap;
use trevlin_estate::area::{Area, Severity};
use trevlin_estate::baseline::Baseline;
use trevlin_model::plan::AddressPlan;
use trevlin_model::{Family, IpRange};

/// The check.
pub(crate) const CHECK: Check = Check {
    id: "addresses/ipv6-bypasses-tunnel",
    area: Area::Addresses,
    title: "IPv6 bypasses a full IPv4 tunnel",
    severity: Severity::Medium,
    why: "A full tunnel protects traffic from the local network and subjects it to the filters of the organisation. A \
          client with IPv6 at its location connects to IPv6 servers directly, outside the tunnel and unfiltered.",
    fix: "Route IPv6 through the tunnel as well and assign IPv6 addresses to clients, or block IPv6 on clients while the \
          tunnel is up.",
    judged: "Fails where clients, or the device itself as a client, route all of IPv4 through the tunnel, but not all IPv6 \
             in use (2000::/3), and IPv6 is not blocked. Does not apply to split tunnels.",
    references: &["RFC 7359 (IPv6 leakage from VPNs)", "openvpn(8), --redirect-gateway and --block-ipv6"],
    needs: &[Need::Services],
    run: Run::Map(run),
};

/// Global unicast, all of IPv6 that is in use (RFC 4291, 2.4).
fn global() -> IpRange {
    "2000::/3".parse::<IpNet>().map_or(IpRange::all(Family::V6), IpRange::from)
}

fn run(estate: &EstateMap, _: &Baseline) -> Vec<Answer> {
    let mut answers = Vec::new();
    for (at, device) in estate.devices.iter().enumerate() {
        let plans = device.facts.with_profiles().map(|tunnel| (tunnel.name.as_str(), &tunnel.addresses));
        for (name, plan) in plans.filter(|(_, plan)| !plan.sent_through.is_empty()) {
            answers.push(Answer::new(at, Subject::tunnel_named(name), judge(estate, name, plan)));
        }
    }
    answers
}

fn judge(estate: &EstateMap, name: &str, plan: &AddressPlan) -> Verdict {
    let sent = || plan.sent_through.iter().map(|(range, _)| *range);
    if !cover(sent(), IpRange::all(Family::V4)) {
        return Verdict::DoesNotApply;
    }
    if cover(sent(), global()) {
        return Verdict::pass_lines(plan.sent_through.iter().map(|(_, origin)| *origin).collect());
    }
    let v4 = plan.sent_through.iter().filter(|(range, _)| range.family() == Family::V4);
    // The widest line is the one that makes it a full tunnel.
    let Some((_, origin)) = v4.max_by_key(|(range, _)| range.size()) else { return Verdict::DoesNotApply };
    let given =
        plan.pools.iter().flat_map(|pool| &pool.ranges).any(|(range, _)| range.family() == Family::V6);
    let also = if given { ", although clients receive IPv6 addresses" } else { "" };
    Verdict::Fail(Fail {
        rating: CHECK.rated("it affects every client with IPv6 at its location"),
        title: format!("{name} tunnels all of IPv4, while IPv6 bypasses the tunnel").into(),
        detail: format!(
            "All of IPv4 is routed through the tunnel ({}), and IPv6 is neither routed nor blocked{also}.",
            estate.place(*origin)
        )
        .into(),
        evidence: vec![*origin],
    })
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::testing::run;

    #[test]
    fn cases() {
        for (more, wanted) in [
            ("push \"redirect-gateway def1\"", &["fail medium d s.conf:3"][..]),
            ("push \"redirect-gateway def1 ipv6\"", &["pass d"]),
            ("push \"redirect-gateway def1\"\npush \"block-ipv6\"", &["pass d"]),
            ("push \"redirect-gateway def1\"\npush \"route-ipv6 2000::/3\"", &["pass d"]),
            ("push \"route 10.4.0.0 255.255.255.0\"", &["none d"]),
            ("push \"redirect-gateway !ipv4 ipv6\"", &["none d"]),
            ("", &[]),
        ] {
            let text = format!("dev tun\nserver 10.88.0.0 255.255.255.0\n{more}\n");
            run(&CHECK, &[(more, &[("d/s.conf", &text)], wanted)]);
        }
        let child = |more: &str| {
            format!(
                "connections {{\nout {{\nremote_addrs = 192.0.2.9\nchildren {{\nall {{\nremote_ts = 0.0.0.0/0\n{more}}}\n}}\n}}\n}}\n"
            )
        };
        run(
            &CHECK,
            &[
                (
                    "two halves",
                    &[(
                        "d/wg0.conf",
                        "[Interface]\nPrivateKey=k\n[Peer]\nEndpoint=192.0.2.9:1\nAllowedIPs=0.0.0.0/1, 128.0.0.0/1\n",
                    )],
                    &["fail medium d wg0.conf:5"],
                ),
                (
                    "everything",
                    &[(
                        "d/wg0.conf",
                        "[Interface]\nPrivateKey=k\n[Peer]\nEndpoint=192.0.2.9:1\nAllowedIPs=0.0.0.0/0\n",
                    )],
                    &["fail medium d wg0.conf:5"],
                ),
                (
                    "without routes into the tunnel",
                    &[(
                        "d/etc/wireguard/wg0.conf",
                        "[Interface]\nPrivateKey=k\nTable=off\n[Peer]\nEndpoint=192.0.2.9:1\nAllowedIPs=0.0.0.0/0\n",
                    )],
                    &[],
                ),
                (
                    "routed by an interface",
                    &[("d/swanctl.conf", &child("if_id_out = 5\nif_id_in = 5\n"))],
                    &[],
                ),
                ("the ends alone", &[("d/swanctl.conf", &child("mode = transport\n"))], &[]),
                ("by its selectors", &[("d/swanctl.conf", &child(""))], &["fail medium d swanctl.conf:6"]),
                (
                    "without a route everything",
                    &[("d/ocserv.conf", "auth = plain[passwd=a]\nipv4-network = 10.9.0.0/24\n")],
                    &["fail medium d ocserv.conf:2"],
                ),
                (
                    "both versions",
                    &[(
                        "d/ocserv.conf",
                        "auth = plain[passwd=a]\nipv4-network = 10.9.0.0/24\nipv6-network = 2001:db8:9::/64\n",
                    )],
                    &["pass d"],
                ),
            ],
        );
    }
}
