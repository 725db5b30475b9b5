//! Two pools hand out the same addresses.

use crate::{Answer, Area, Check, Estate, Fail, Severity, Verdict, Yardstick};
use trevlin_model::{IpRange, Origin};

/// The check.
pub(crate) const CHECK: Check = Check {
    id: "addresses/pools-overlap",
    area: Area::Addresses,
    title: "Two pools hand out the same addresses",
    severity: Severity::High,
    why: "Two callers can hold one address at the same time, and replies reach the wrong one or neither. Logs that name \
          an address no longer name a person, and an access rule written for the callers of one tunnel lets in those of \
          the other. Across devices no single screen shows it.",
    fix: "Give each tunnel a pool of its own. Change the one with fewer callers, and with it the routes and rules that \
          name it.",
    judged: "Fails where two pools of the estate share an address, on one device or on two. Pools of configurations with \
             which the daemon would not start are left out.",
    references: &["RFC 1918, 3", "NIST SP 800-77 Rev. 1, 5.3"],
    run,
};

/// One range that a pool lays claim to.
#[derive(Clone)]
struct Claim<'a> {
    range: IpRange,
    origin: Origin,
    device: usize,
    tunnel: &'a str,
    /// Number of the pool, so that its own pieces are not held against each other.
    pool: usize,
}

fn run(estate: &Estate, _: &Yardstick) -> Vec<Answer> {
    let mut claims = Vec::new();
    let mut answers = Vec::new();
    let mut pools = 0;
    for (device, one) in estate.devices.iter().enumerate() {
        for tunnel in one.facts.tunnels.iter().filter(|tunnel| tunnel.refused.is_none()) {
            for pool in &tunnel.pools {
                claims.extend(pool.claims().into_iter().map(|(range, origin)| Claim {
                    range,
                    origin,
                    device,
                    tunnel: &tunnel.name,
                    pool: pools,
                }));
                pools += 1;
            }
        }
    }
    claims.sort_by_key(|claim| (claim.range.first(), claim.range.last(), claim.origin));
    let mut told = std::collections::BTreeSet::new();
    let mut open: Vec<&Claim<'_>> = Vec::new();
    for claim in &claims {
        open.retain(|earlier| {
            earlier.range.last() >= claim.range.first() && earlier.range.family() == claim.range.family()
        });
        for earlier in &open {
            let pair = (earlier.pool.min(claim.pool), earlier.pool.max(claim.pool));
            if earlier.pool != claim.pool && told.insert(pair) {
                answers.push(fail(estate, earlier, claim));
            }
        }
        open.push(claim);
    }
    answers
}

fn fail(estate: &Estate, a: &Claim<'_>, b: &Claim<'_>) -> Answer {
    // The later one in reading order is cited second.
    let (a, b) = if a.origin <= b.origin { (a, b) } else { (b, a) };
    let shared = a.range.intersection(&b.range).unwrap_or(a.range);
    let name = |claim: &Claim<'_>| format!("{} on {}", claim.tunnel, estate.devices[claim.device].name);
    let (place_a, place_b) = (estate.place(a.origin), estate.place(b.origin));
    let why = if a.device == b.device {
        "both are handed out by one device"
    } else {
        "they are handed out by two devices, which cannot see each other's leases"
    };
    Answer::new(
        a.device,
        format!("{} / {}", name(a), name(b)),
        Verdict::Fail(Fail {
            severity: Severity::High,
            why_this_severity: why.into(),
            title: format!("{} and {} both hand out {shared}", name(a), name(b)),
            detail: format!(
                "{} hands out {} ({place_a}), {} hands out {} ({place_b}); they share {shared}.",
                name(a),
                a.range,
                name(b),
                b.range
            ),
            evidence: vec![a.origin, b.origin],
        }),
    )
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::checks::testing::run;

    #[test]
    fn cases() {
        run(
            &CHECK,
            &[
                (
                    "two devices",
                    &[
                        ("a/s.conf", "dev tun\nserver 10.8.0.0 255.255.255.0\n"),
                        ("b/pptpd.conf", "remoteip 10.8.0.200-225\n"),
                    ],
                    &["fail high a s.conf:2 pptpd.conf:1"],
                ),
                (
                    "one device",
                    &[
                        ("a/s.conf", "dev tun\nserver 10.8.0.0 255.255.255.0\n"),
                        ("a/t.conf", "dev tun\nproto tcp\nserver 10.8.0.0 255.255.255.0\n"),
                    ],
                    &["fail high a s.conf:2 t.conf:3"],
                ),
                (
                    "next to each other",
                    &[
                        ("a/s.conf", "dev tun\nserver 10.8.0.0 255.255.255.0\n"),
                        ("b/pptpd.conf", "remoteip 10.8.1.0-9\n"),
                    ],
                    &[],
                ),
                ("one pool in pieces", &[("b/pptpd.conf", "remoteip 10.8.1.0-9,10.8.1.5\n")], &[]),
                (
                    "IPv6",
                    &[
                        ("a/s.conf", "dev tun\nserver-ipv6 2001:db8:8::/64\n"),
                        ("b/s.conf", "dev tun\nserver-ipv6 2001:db8:8:0:1::/80\n"),
                    ],
                    &["fail high a s.conf:2 s.conf:2"],
                ),
                (
                    "the daemon would refuse one",
                    &[
                        ("a/s.conf", "dev tun\nserver 10.8.0.0 255.255.255.0\n"),
                        ("b/s.conf", "dev tun\nserver 10.8.0.0 255.255.255.0\nverify-client-cert none\n"),
                    ],
                    &[],
                ),
                (
                    "a client's line is no pool",
                    &[
                        ("a/pptpd.conf", "remoteip 10.8.0.200-225\n"),
                        ("a/chap-secrets", "ann * sesame 10.8.0.201\n"),
                        (
                            "b/rules.v4",
                            "*nat\n-A POSTROUTING -j SNAT --to-source 10.8.0.200-10.8.0.225\nCOMMIT\n",
                        ),
                    ],
                    &[],
                ),
            ],
        );
    }
}
