//! A tunnel without encryption crosses an untrusted network.

use crate::check::{Answer, Check, Fail, Need, Run, Verdict};
use crate::subject::Subject;
use crate::support::name_of;
use std::net::IpAddr;
use trevlin_analysis::map::EstateMap;
use trevlin_estate::area::{Area, Severity};
use trevlin_estate::baseline::Baseline;
use trevlin_estate::special::is_public;
use trevlin_model::ipsec::IpsecConnection;
use trevlin_model::{Device, Tunnel};

/// The check.
pub(crate) const CHECK: Check = Check {
    id: "tunnels/unencrypted-encapsulation",
    area: Area::Tunnels,
    title: "Unencrypted tunnel across an untrusted network",
    severity: Severity::High,
    why: "GRE, IPIP and VXLAN encapsulate packets without encryption, and accept any packet with the right addresses. Any \
          network on the path can read the traffic, and spoofed packets reach internal networks.",
    fix: "Protect it with IPsec in transport mode between the two addresses, or replace it by an encrypted tunnel.",
    judged: "Fails for interfaces of these kinds with a public remote address, unless an IPsec connection of the device \
             protects them, and for OpenVPN without TLS and without a key. Passes where such a connection exists. Does not apply to \
             private remote addresses.",
    references: &["RFC 2784, 6", "RFC 2003, 6", "RFC 7348, 7", "NIST SP 800-77 Rev. 1"],
    needs: &[Need::Services],
    run: Run::Map(run),
};

fn run(estate: &EstateMap, _: &Baseline) -> Vec<Answer> {
    let mut answers = Vec::new();
    for (at, device) in estate.devices.iter().enumerate() {
        for tunnel in device.facts.running().filter(|one| one.encrypts_nothing()) {
            answers.push(Answer::new(at, Subject::tunnel(tunnel), judge(estate, device, tunnel)));
        }
    }
    answers
}

/// Whether a connection encapsulates traffic to an address: by its other end, or by the networks of a child.
fn wraps(connection: &IpsecConnection, remote: IpAddr) -> bool {
    let ends = connection.remote_addresses.iter().any(|(text, _)| text.parse() == Ok(remote));
    connection.children.iter().filter(|child| child.wraps()).any(|child| {
        let reached = child.remote.networks.iter().any(|(range, _)| range.contains(remote));
        // Without a selector of its own a child is for the addresses of the ends.
        reached || (ends && child.remote.networks.is_empty())
    })
}

/// A tunnel of a program that encrypts as a rule, without TLS and without a key.
fn without_keys(tunnel: &Tunnel) -> Verdict {
    let remote = tunnel.stated("remote").or_else(|| tunnel.stated("float"));
    Verdict::Fail(Fail {
        rating: CHECK.rated("neither TLS nor a key is configured, so packets are neither encrypted nor authenticated"),
        title: format!("{} has neither encryption nor authentication", name_of(tunnel)).into(),
        detail: "No `tls-server`, `tls-client` or `secret` is set: the program sends packets as they are and accepts those of anyone."
            .into(),
        evidence: vec![remote.map_or(tunnel.origin, |(_, origin)| origin)],
    })
}

fn judge(estate: &EstateMap, device: &Device, tunnel: &Tunnel) -> Verdict {
    if !tunnel.family.encrypts_nothing() {
        return without_keys(tunnel);
    }
    let Some((remote, origin)) = tunnel.stated("remote") else { return Verdict::DoesNotApply };
    let Ok(remote) = remote.parse::<IpAddr>() else { return Verdict::DoesNotApply };
    if !is_public(remote) {
        return Verdict::DoesNotApply;
    }
    let around =
        device.facts.running().find(|one| one.ipsec.as_ref().is_some_and(|ipsec| wraps(ipsec, remote)));
    if let Some(around) = around {
        return Verdict::pass_by([around.origin, origin], origin);
    }
    let held = estate.holders(remote).first().map(|at| estate.devices[*at].name.as_str());
    let whose = held.map_or(String::new(), |name| format!(", which is {name}"));
    Verdict::Fail(Fail {
        rating: CHECK
            .rated("the remote address is public, and no IPsec connection to it is among the exports"),
        title: format!("{} crosses an untrusted network unencrypted", name_of(tunnel)).into(),
        detail: format!("Its remote end is {remote}{whose}; {} has no encryption.", tunnel.family.name())
            .into(),
        evidence: vec![origin],
    })
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::testing::run;

    #[test]
    fn cases() {
        let link = |kind: &str, remote: &str| {
            format!(
                "[{{\"ifname\":\"t1\",\"qdisc\":\"noqueue\",\"linkinfo\":{{\"info_kind\":\"{kind}\",\"info_data\":{{\"remote\":\"{remote}\",\"local\":\"192.0.2.1\"}}}}}}]"
            )
        };
        let (gre, inner, any) = (link("gre", "198.51.100.9"), link("gre", "10.4.0.9"), link("gre", "any"));
        let around = "connections {\n c {\n  remote_addrs = 198.51.100.9\n  children {\n   n { mode = transport }\n  }\n }\n}\n";
        let other = "connections {\n c {\n  remote_addrs = 198.51.100.7\n  children {\n   n { remote_ts = 10.7.0.0/16 }\n  }\n }\n}\n";
        let at = "d/ip-link.json";
        run(
            &CHECK,
            &[
                ("in the open", &[(at, &gre)], &["fail high d ip-link.json:1"]),
                ("inside IPsec", &[(at, &gre), ("d/swanctl.conf", around)], &["pass d"]),
                (
                    "beside IPsec to somebody else",
                    &[(at, &gre), ("d/swanctl.conf", other)],
                    &["fail high d ip-link.json:1"],
                ),
                ("inside", &[(at, &inner)], &["none d"]),
                ("without another end", &[(at, &any)], &[]),
                (
                    "OpenVPN without keys",
                    &[(
                        "d/etc/openvpn/server/plain.conf",
                        "dev tun\nifconfig 10.9.0.1 10.9.0.2\nport 1195\nremote 198.51.100.7\n",
                    )],
                    &["fail high d plain.conf:4"],
                ),
                (
                    "OpenVPN with a key",
                    &[(
                        "d/etc/openvpn/server/key.conf",
                        "dev tun\nifconfig 10.9.0.1 10.9.0.2\nremote 198.51.100.7\nsecret k\n",
                    )],
                    &[],
                ),
                (
                    "at boot",
                    &[(
                        "d/t.netdev",
                        "[NetDev]\nName=t1\nKind=ipip\n[Tunnel]\nLocal=192.0.2.1\nRemote=198.51.100.9\n",
                    )],
                    &["fail high d t.netdev:2"],
                ),
            ],
        );
    }
}
