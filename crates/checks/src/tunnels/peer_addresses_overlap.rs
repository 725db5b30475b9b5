//! Two peers of one tunnel are allowed the same addresses.

use crate::check::{Answer, Check, Fail, Need, Run, Verdict};
use crate::subject::Subject;
use crate::support::name_of;
use trevlin_analysis::map::EstateMap;
use trevlin_estate::area::{Area, Severity};
use trevlin_estate::baseline::Baseline;
use trevlin_model::{IpRange, Origin, Tunnel, TunnelFamily};

/// The check.
pub(crate) const CHECK: Check = Check {
    id: "tunnels/peer-addresses-overlap",
    area: Area::Tunnels,
    title: "Peers with overlapping allowed addresses",
    severity: Severity::Medium,
    why: "An address belongs to one peer of a WireGuard interface: if two peers have the same one, the later line silently \
          takes it from the earlier. That peer cannot send, or receives traffic of another after a reordering.",
    fix: "Assign each address to one peer only.",
    judged: "Fails where two peers of an interface have the same range; one level lower where one range lies within the \
             other, since the more specific one then wins. The same single address for two clients is \
             `addresses/duplicate-reservation`.",
    references: &["wg(8), AllowedIPs"],
    needs: &[Need::Services],
    run: Run::Map(run),
};

fn run(estate: &EstateMap, _: &Baseline) -> Vec<Answer> {
    let mut answers = Vec::new();
    for (at, device) in estate.devices.iter().enumerate() {
        for tunnel in device.facts.running().filter(|one| one.family == TunnelFamily::WireGuard) {
            answers.push(Answer::new(at, Subject::tunnel(tunnel), judge(tunnel)));
        }
    }
    answers
}

/// A range of a peer: the range, the peer's number, and the line.
type Allowed = (IpRange, usize, Origin);

/// Pairs of different peers with overlapping ranges: each peer's range is compared with the widest one open before it.
fn meeting(tunnel: &Tunnel) -> Vec<(Allowed, Allowed)> {
    let mut all: Vec<Allowed> = Vec::new();
    for (number, peer) in tunnel.peers.iter().enumerate() {
        all.extend(peer.allowed.iter().map(|(range, origin)| (*range, number, *origin)));
    }
    // Prefixes are nested or apart, so those around a range are the ones still open in order of their first address.
    all.sort_by_key(|(range, number, _)| (range.first(), std::cmp::Reverse(range.last()), *number));
    let mut open: Vec<Allowed> = Vec::new();
    let mut found = Vec::new();
    for one in all {
        open.retain(|around| around.0.family() == one.0.family() && around.0.last() >= one.0.first());
        if let Some(around) = open.iter().rev().find(|around| around.1 != one.1 && around.0.covers(&one.0)) {
            found.push((*around, one));
        }
        open.push(one);
    }
    found
}

fn judge(tunnel: &Tunnel) -> Verdict {
    if tunnel.peers.len() < 2 {
        return Verdict::DoesNotApply;
    }
    let mut found = meeting(tunnel);
    // One address of two clients is a duplicate reservation, which another check reports.
    let calls = |allowed: &Allowed| tunnel.peers[allowed.1].endpoint.is_none();
    found.retain(|(around, one)| around.0 != one.0 || one.0.size() > 1 || !calls(around) || !calls(one));
    // Everything on one peer and networks on others is how a way out beside sites is set up.
    found.retain(|(around, one)| {
        around.0 == one.0 || around.0.size() < IpRange::all(around.0.family()).size() / 2
    });
    found.sort_by_key(|(around, one)| around.0 != one.0);
    let Some((around, one)) = found.first() else {
        return Verdict::pass_by(tunnel.peers.iter().map(|peer| peer.origin), tunnel.origin);
    };
    let same = around.0 == one.0;
    let who = |allowed: &Allowed| tunnel.peers[allowed.1].who.as_str();
    let (earlier, later) = if around.1 < one.1 { (around, one) } else { (one, around) };
    let detail = if same {
        format!(
            "{} is an allowed address of both {} and {}; the later line wins.",
            one.0.short(),
            who(earlier),
            who(later)
        )
    } else {
        format!("{} of {} lies within {} of {}.", one.0.short(), who(one), around.0.short(), who(around))
    };
    let more = found.len() - 1;
    let more = match more {
        0 => String::new(),
        1 => " One more pair overlaps.".to_owned(),
        more => format!(" {more} more pairs overlap."),
    };
    Verdict::Fail(Fail {
        rating: CHECK.rated_at(
            if same { CHECK.severity } else { Severity::Low },
            if same { "one of the two cannot send" } else { "the more specific range wins for its part" },
        ),
        title: format!("Peers of {} have overlapping allowed addresses", name_of(tunnel)).into(),
        detail: format!("{detail}{more}").into(),
        evidence: vec![later.2, earlier.2],
    })
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::testing::run;

    #[test]
    fn cases() {
        for (name, first, second, wanted) in [
            ("apart", "10.9.0.2/32", "10.9.0.3/32", "pass d"),
            ("the same", "10.5.0.0/24", "10.5.0.0/24", "fail medium d wg0.conf:9 wg0.conf:6"),
            ("one inside the other", "10.5.0.0/16", "10.5.9.0/24", "fail low d wg0.conf:9 wg0.conf:6"),
            ("a way out", "0.0.0.0/0", "10.5.9.0/24", "pass d"),
            ("two versions", "0.0.0.0/0", "::/0", "pass d"),
            ("one address of two callers", "10.9.0.2/32", "10.9.0.2/32", "pass d"),
            (
                "among others",
                "10.9.0.2/32, 10.5.0.0/24",
                "10.9.0.4/32, 10.5.0.0/24",
                "fail medium d wg0.conf:9 wg0.conf:6",
            ),
        ] {
            let text = format!(
                "[Interface]\nPrivateKey = k\nAddress = 10.9.0.1/24\n[Peer]\nPublicKey = a\nAllowedIPs = {first}\n[Peer]\nPublicKey = b\nAllowedIPs = {second}\n"
            );
            run(&CHECK, &[(name, &[("d/wg0.conf", &text)], &[wanted])]);
        }
    }
}
