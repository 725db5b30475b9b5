//! A peer that calls may use any address.

use crate::check::{Answer, Check, Fail, Need, Run, Verdict};
use crate::subject::Subject;
use crate::support::name_of;
use crate::tunnels::listed;
use trevlin_analysis::map::EstateMap;
use trevlin_estate::area::{Area, Severity};
use trevlin_estate::baseline::Baseline;
use trevlin_model::wireguard::WireGuardPeer;
use trevlin_model::{IpRange, Origin, Tunnel, TunnelFamily};

/// The check.
pub(crate) const CHECK: Check = Check {
    id: "tunnels/peer-addresses-too-broad",
    area: Area::Tunnels,
    title: "Peer may use addresses beyond its own",
    severity: Severity::Medium,
    why: "In WireGuard the allowed addresses of a peer alone identify the sender of a packet. A peer with a whole network \
          can use any source address in it, including that of the server, and receives traffic for others.",
    fix: "Assign each client its own address (`AllowedIPs = 10.9.0.7/32`), and each site the networks behind it.",
    judged: "Fails for peers without an endpoint that may use any address, or a range that contains the address of this end. \
             Passes for networks behind a peer.",
    references: &["wg(8), AllowedIPs"],
    needs: &[Need::Services],
    run: Run::Map(run),
};

fn run(estate: &EstateMap, _: &Baseline) -> Vec<Answer> {
    let mut answers = Vec::new();
    for (at, device) in estate.devices.iter().enumerate() {
        for tunnel in device.facts.running().filter(|one| one.family == TunnelFamily::WireGuard) {
            let own =
                |interface: &trevlin_model::Interface| tunnel.interface.as_ref() == Some(&interface.name);
            let all = device.facts.interfaces.iter().chain(&device.facts.stored_interfaces);
            let addresses: Vec<_> =
                all.filter(|one| own(one)).flat_map(|one| &one.addresses).map(|one| one.net.addr()).collect();
            answers.push(Answer::new(at, Subject::tunnel(tunnel), judge(tunnel, &addresses)));
        }
    }
    answers
}

fn judge(tunnel: &Tunnel, own: &[std::net::IpAddr]) -> Verdict {
    let clients: Vec<&WireGuardPeer> = tunnel.peers.iter().filter(|peer| peer.endpoint.is_none()).collect();
    if clients.is_empty() {
        return Verdict::DoesNotApply;
    }
    let half = |range: &IpRange| range.size() >= IpRange::all(range.family()).size() / 2;
    let wide =
        |range: &IpRange| half(range) || (range.size() > 1 && own.iter().any(|one| range.contains(*one)));
    let found: Vec<(String, Origin)> = clients
        .iter()
        .flat_map(|peer| peer.allowed.iter().map(move |(range, origin)| (peer, range, *origin)))
        .filter(|(_, range, _)| wide(range))
        .map(|(peer, range, origin)| (format!("Peer `{}` may use {}", peer.who, range.short()), origin))
        .collect();
    if found.is_empty() {
        let lines = clients.iter().flat_map(|peer| peer.allowed.iter().map(|(_, origin)| *origin));
        return Verdict::pass_by(lines, tunnel.origin);
    }
    let (detail, evidence) = listed(&found);
    Verdict::Fail(Fail {
        rating: CHECK.rated("an attacker must control a client or its key"),
        title: format!("A peer of {} may use addresses beyond its own", name_of(tunnel)).into(),
        detail: detail.into(),
        evidence,
    })
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::testing::run;

    #[test]
    fn cases() {
        for (name, peer, wanted) in [
            ("its own address", "AllowedIPs = 10.9.0.2/32", "pass d"),
            ("a network behind it", "AllowedIPs = 10.9.0.2/32, 10.5.0.0/24", "pass d"),
            ("everything", "AllowedIPs = 0.0.0.0/0", "fail medium d wg0.conf:6"),
            ("this end's network", "AllowedIPs = 10.9.0.0/24", "fail medium d wg0.conf:6"),
            ("in a comment", "#AllowedIPs = 0.0.0.0/0\nAllowedIPs = 10.9.0.2/32", "pass d"),
            ("one that is called", "Endpoint = 192.0.2.9:51820\nAllowedIPs = 0.0.0.0/0", "none d"),
        ] {
            let text = format!(
                "[Interface]\nPrivateKey = k\nAddress = 10.9.0.1/24\n[Peer]\nPublicKey = a\n{peer}\n"
            );
            run(&CHECK, &[(name, &[("d/wg0.conf", &text)], &[wanted])]);
        }
    }
}
