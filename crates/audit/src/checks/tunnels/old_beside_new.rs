//! An old protocol was left on beside the new one.

use crate::l2tp::carries_l2tp;
use crate::{Answer, Area, Check, Estate, Fail, Severity, Verdict, Yardstick};
use std::collections::BTreeSet;
use trevlin_model::ipsec::IkeVersions;
use trevlin_model::{Device, Origin, Tunnel, TunnelFamily};

/// The check.
pub(crate) const CHECK: Check = Check {
    id: "tunnels/old-beside-new",
    area: Area::Tunnels,
    title: "An old protocol was left on beside the new one",
    severity: Severity::Medium,
    why: "The new tunnel protects nobody while the old one answers: an attacker calls the old one. It was to stay \"until everybody has moved\", and nobody \
          looks whether anybody still uses it.",
    fix: "Look in the log who still comes in by the old one, move them, and switch it off.",
    judged: "Fails for servers of PPTP, of L2TP, and of IPsec with version 1 of IKE alone, where a server of OpenVPN, WireGuard, OpenConnect or version 2 of IKE \
             has the same callers: the same names, or pools in the same network, or the same device.",
    references: &["NIST SP 800-77 Rev. 1", "RFC 9395, 3", "BSI NET.3.3"],
    run,
};

fn run(estate: &Estate, _: &Yardstick) -> Vec<Answer> {
    let mut answers = Vec::new();
    for (at, device) in estate.devices.iter().enumerate() {
        for tunnel in device.facts.tunnels.iter().filter(|one| one.answers_callers() && is_old(one)) {
            answers.push(Answer::new(at, tunnel.name.clone(), judge(estate, at, tunnel)));
        }
    }
    answers
}

fn only(tunnel: &Tunnel, wanted: IkeVersions) -> bool {
    tunnel.ipsec.as_ref().is_some_and(|one| one.versions.value() == Some(&wanted))
}

fn is_old(tunnel: &Tunnel) -> bool {
    matches!(tunnel.family, TunnelFamily::Pptp | TunnelFamily::L2tp) || only(tunnel, IkeVersions::First)
}

fn is_new(tunnel: &Tunnel) -> bool {
    let kind =
        matches!(tunnel.family, TunnelFamily::OpenVpn | TunnelFamily::WireGuard | TunnelFamily::OpenConnect);
    // A connection that only carries L2TP is no new way in.
    let carries = carries_l2tp(tunnel);
    kind || (tunnel.ipsec.is_some() && !only(tunnel, IkeVersions::First) && !carries)
}

/// Names of callers: from the lists of logins that it asks, and from addresses kept for one caller each.
fn callers<'a>(device: &'a Device, tunnel: &'a Tunnel) -> BTreeSet<&'a str> {
    let logins =
        device.logins.iter().filter(|login| login.service == tunnel.name).map(|login| login.user.as_str());
    let fixed = tunnel.addresses.fixed.iter().map(|one| one.who.as_str());
    logins.chain(fixed).filter(|name| *name != "*").collect()
}

/// How two servers have the same callers, in words.
fn shared(estate: &Estate, old: (usize, &Tunnel), new: (usize, &Tunnel)) -> Option<String> {
    let of = |(at, tunnel): (usize, &Tunnel)| -> BTreeSet<String> {
        callers(&estate.devices[at], tunnel).into_iter().map(str::to_owned).collect()
    };
    let both: Vec<String> = of(old).intersection(&of(new)).cloned().collect();
    if !both.is_empty() {
        let shown: Vec<_> = both.iter().take(4).map(|name| format!("`{name}`")).collect();
        let more = both.len() - shown.len();
        let more = if more == 0 { String::new() } else { format!(" and {more} more") };
        return Some(format!("{}{more} can come in by either", shown.join(", ")));
    }
    let pools = |tunnel: &Tunnel| -> Vec<_> {
        tunnel.addresses.pools.iter().flat_map(|pool| &pool.ranges).map(|(range, _)| *range).collect()
    };
    // A pool inside another, or both inside a network that the old one's device is in.
    let networks = estate.devices[old.0]
        .facts
        .interfaces
        .iter()
        .flat_map(|one| &one.addresses)
        .map(|one| one.net.trunc());
    let same = networks.into_iter().find(|net| {
        let within = |tunnel: &Tunnel| {
            pools(tunnel).iter().any(|range| trevlin_model::IpRange::from(*net).covers(range))
        };
        net.prefix_len() < net.max_prefix_len() && within(old.1) && within(new.1)
    });
    if let Some(net) = same {
        return Some(format!("callers of either get addresses in {net}"));
    }
    (old.0 == new.0).then(|| "both answer on the same device".to_owned())
}

fn judge(estate: &Estate, at: usize, old: &Tunnel) -> Verdict {
    let mut found: Option<(String, &Tunnel, Origin, &Device)> = None;
    for (other, device) in estate.devices.iter().enumerate() {
        for new in device.facts.tunnels.iter().filter(|one| one.answers_callers() && is_new(one)) {
            let Some(how) = shared(estate, (at, old), (other, new)) else { continue };
            // Names that come in by either say most.
            if found.is_none()
                || how.starts_with('`') && found.as_ref().is_some_and(|(known, ..)| !known.starts_with('`'))
            {
                found = Some((how, new, new.origin, device));
            }
        }
    }
    let Some((how, new, origin, device)) = found else { return Verdict::DoesNotApply };
    Verdict::Fail(Fail {
        severity: CHECK.severity,
        why_this_severity: "an attacker calls the weaker one".into(),
        title: format!("{} is still on beside {} on {}", old.name, new.name, device.name),
        detail: format!("{} answers beside {} ({}): {how}.", old.name, new.name, estate.place(origin)),
        evidence: vec![old.origin, origin],
    })
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::checks::testing::run;

    const OLD: (&str, &str) = ("a/etc/pptpd.conf", "option /etc/ppp/o\nremoteip 10.4.0.200-220\n");
    const OPTIONS: (&str, &str) = ("a/etc/ppp/o", "require-mschap-v2\n");
    const LIST: (&str, &str) = ("a/etc/ppp/chap-secrets", "ann * sesame *\nbob * other *\n");

    #[test]
    fn cases() {
        let new = "dev tun\nserver 10.8.0.0 255.255.255.0\nclient-config-dir ccd\n";
        let inside = "dev tun\nserver 10.4.0.128 255.255.255.192\n";
        let wireguard = "[Interface]\nPrivateKey = k\nAddress = 10.9.0.1/24\nListenPort = 51820\n# bob\n[Peer]\nPublicKey = a\nAllowedIPs = 10.9.0.2/32\n";
        let net = "[{\"ifname\":\"eth1\",\"addr_info\":[{\"local\":\"10.4.0.1\",\"prefixlen\":24}]}]";
        let old_ike = "conn c\n\tauto=add\n\tkeyexchange=ikev1\n\trightsourceip=10.9.3.0/24\n";
        let new_ike = "conn c\n\tauto=add\n\tkeyexchange=ikev2\n\trightsourceip=10.9.3.0/24\n";
        run(
            &CHECK,
            &[
                (
                    "on one device",
                    &[OLD, OPTIONS, LIST, ("a/s.conf", new)],
                    &["fail medium a pptpd.conf:2 s.conf:2"],
                ),
                (
                    "the same names",
                    &[OLD, OPTIONS, LIST, ("b/wg0.conf", wireguard)],
                    &["fail medium a pptpd.conf:2 wg0.conf:1"],
                ),
                (
                    "one network",
                    &[OLD, OPTIONS, ("a/ip-addr.json", net), ("b/s.conf", inside)],
                    &["fail medium a pptpd.conf:2 s.conf:2"],
                ),
                ("other callers", &[OLD, OPTIONS, LIST, ("b/s.conf", new)], &["none a"]),
                ("alone", &[OLD, OPTIONS, LIST], &["none a"]),
                (
                    "switched off",
                    &[("a/etc/pptpd.conf", "#remoteip 10.4.0.200-220\n"), ("a/s.conf", new)],
                    &[],
                ),
                (
                    "two versions of IKE",
                    &[("a/ipsec.conf", old_ike), ("a/s.conf", new)],
                    &["fail medium a ipsec.conf:1 s.conf:2"],
                ),
                ("the new one alone", &[("a/ipsec.conf", new_ike), ("a/s.conf", new)], &[]),
            ],
        );
    }
}
