//! A legacy protocol is enabled beside its replacement.

use crate::check::{Answer, Check, Fail, Need, Run, Verdict};
use crate::subject::Subject;
use crate::support::{name_of, others_with_clients_pass};
use std::collections::{BTreeMap, BTreeSet};
use std::net::IpAddr;
use trevlin_analysis::context::Analyses;
use trevlin_analysis::l2tp::carries_l2tp;
use trevlin_estate::area::{Area, Severity};
use trevlin_estate::baseline::Baseline;
use trevlin_model::ipsec::IkeVersions;
use trevlin_model::{Device, IpRange, Tunnel, TunnelFamily};

/// The check.
pub(crate) const CHECK: Check = Check {
    id: "tunnels/legacy-protocol-enabled",
    area: Area::Tunnels,
    title: "Legacy protocol enabled beside its replacement",
    severity: Severity::Medium,
    why: "The new VPN adds no protection while the old protocol is enabled, since an attacker uses the weaker one. Migration \
          periods often never end.",
    fix: "Find remaining users in the log, migrate them, and disable the legacy protocol.",
    judged: "Fails for PPTP, L2TP and IKEv1-only servers where an OpenVPN, WireGuard, OpenConnect or IKEv2 server has the \
             same users: the same names, pools in the same network, or the same device. Passes for a device with \
             newer servers alone.",
    references: &["NIST SP 800-77 Rev. 1", "RFC 9395, 3"],
    needs: &[Need::Services],
    run: Run::Analyses(run),
};

fn run(estate: &Analyses, _: &Baseline) -> Vec<Answer> {
    let new = New::of(estate);
    let mut answers = Vec::new();
    for (at, device) in estate.devices.iter().enumerate() {
        for tunnel in device.facts.tunnels.iter().filter(|one| one.accepts_clients() && is_old(one)) {
            answers.push(Answer::new(at, Subject::tunnel(tunnel), judge(estate, &new, at, tunnel)));
        }
    }
    others_with_clients_pass(estate, &mut answers);
    answers
}

/// A server by its device and the tunnel's place there.
type Server = (usize, usize);

/// The newer servers of the estate, by the properties they may share with an older one.
struct New<'a> {
    by_caller: BTreeMap<&'a str, BTreeSet<Server>>,
    by_pool: BTreeMap<IpAddr, Vec<(IpRange, Server)>>,
    by_device: BTreeMap<usize, Server>,
}

impl<'a> New<'a> {
    fn of(estate: &'a Analyses) -> Self {
        let mut all =
            Self { by_caller: BTreeMap::new(), by_pool: BTreeMap::new(), by_device: BTreeMap::new() };
        for (at, device) in estate.devices.iter().enumerate() {
            for (number, tunnel) in device.facts.tunnels.iter().enumerate() {
                if !tunnel.accepts_clients() || !is_new(tunnel) {
                    continue;
                }
                let server = (at, number);
                all.by_device.entry(at).or_insert(server);
                for name in clients(device, tunnel) {
                    all.by_caller.entry(name).or_default().insert(server);
                }
                for range in ranges(tunnel) {
                    all.by_pool.entry(range.first()).or_default().push((range, server));
                }
            }
        }
        all
    }
}

fn only(tunnel: &Tunnel, wanted: IkeVersions) -> bool {
    tunnel.ipsec.as_ref().is_some_and(|one| one.versions.value() == Some(&wanted))
}

pub(super) fn is_old(tunnel: &Tunnel) -> bool {
    matches!(tunnel.family, TunnelFamily::Pptp | TunnelFamily::L2tp) || only(tunnel, IkeVersions::First)
}

fn is_new(tunnel: &Tunnel) -> bool {
    let kind = matches!(
        tunnel.family,
        TunnelFamily::OpenVpn | TunnelFamily::WireGuard | TunnelFamily::OpenConnect | TunnelFamily::Tls
    );
    // A connection that only carries L2TP is no new login path.
    let carries = carries_l2tp(tunnel);
    kind || (tunnel.ipsec.is_some() && !only(tunnel, IkeVersions::First) && !carries)
}

/// Names of clients: from the login lists it uses, and from addresses reserved for one client each.
pub(super) fn clients<'a>(device: &'a Device, tunnel: &'a Tunnel) -> BTreeSet<&'a str> {
    let logins =
        device.logins.iter().filter(|login| login.service == tunnel.name).map(|login| login.user.as_str());
    let fixed = tunnel.addresses.fixed.iter().map(|one| one.who.as_str());
    logins.chain(fixed).filter(|name| *name != "*").collect()
}

pub(super) fn ranges(tunnel: &Tunnel) -> impl Iterator<Item = IpRange> {
    tunnel.addresses.pools.iter().flat_map(|pool| &pool.ranges).map(|(range, _)| *range)
}

/// A newer server with the same clients, and the evidence, in words. Names accepted by both are the strongest evidence, then addresses in
/// one network, then location on one device.
fn beside(estate: &Analyses, new: &New<'_>, at: usize, old: &Tunnel) -> Option<(Server, String)> {
    let device = &estate.devices[at];
    let mut shared: BTreeMap<Server, Vec<&str>> = BTreeMap::new();
    for name in clients(device, old) {
        for server in new.by_caller.get(name).into_iter().flatten() {
            shared.entry(*server).or_default().push(name);
        }
    }
    // Of several the one with most of them, and of those the first.
    if let Some((server, names)) = shared.iter().rev().max_by_key(|(_, names)| names.len()) {
        let shown: Vec<_> = names.iter().take(4).map(|name| format!("`{name}`")).collect();
        let more = names.len() - shown.len();
        let more = if more == 0 { String::new() } else { format!(" and {more} more") };
        return Some((*server, format!("{}{more} may use either", shown.join(", "))));
    }
    for net in device.facts.interfaces.iter().flat_map(|one| &one.addresses).map(|one| one.net.trunc()) {
        let whole = IpRange::from(net);
        if whole.size() < 2 || !ranges(old).any(|range| whole.covers(&range)) {
            continue;
        }
        let inside = new.by_pool.range(whole.first()..=whole.last()).flat_map(|(_, pools)| pools);
        if let Some((_, server)) = inside.into_iter().find(|(range, _)| whole.covers(range)) {
            return Some((*server, format!("clients of both receive addresses in {net}")));
        }
    }
    new.by_device.get(&at).map(|server| (*server, "both run on the same device".to_owned()))
}

fn judge(estate: &Analyses, new: &New<'_>, at: usize, old: &Tunnel) -> Verdict {
    let Some(((other, number), how)) = beside(estate, new, at, old) else { return Verdict::DoesNotApply };
    let device = &estate.devices[other];
    let new = &device.facts.tunnels[number];
    Verdict::Fail(Fail {
        rating: CHECK.rated("an attacker uses the weaker one"),
        title: format!("{} is enabled beside {}", name_of(old), name_of(new)).into(),
        detail: format!(
            "{} is enabled beside {} ({}): {how}.",
            name_of(old),
            name_of(new),
            estate.place(new.origin)
        )
        .into(),
        evidence: vec![old.origin, new.origin],
    })
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::testing::run;

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
                    &["fail medium a pptpd.conf:2 wg0.conf:1", "pass b"],
                ),
                (
                    "one network",
                    &[OLD, OPTIONS, ("a/ip-addr.json", net), ("b/s.conf", inside)],
                    &["fail medium a pptpd.conf:2 s.conf:2", "pass b"],
                ),
                ("other callers", &[OLD, OPTIONS, LIST, ("b/s.conf", new)], &["none a", "pass b"]),
                ("alone", &[OLD, OPTIONS, LIST], &["none a"]),
                (
                    "switched off",
                    &[("a/etc/pptpd.conf", "#remoteip 10.4.0.200-220\n"), ("a/s.conf", new)],
                    &["pass a"],
                ),
                (
                    "two versions of IKE",
                    &[("a/ipsec.conf", old_ike), ("a/s.conf", new)],
                    &["fail medium a ipsec.conf:1 s.conf:2"],
                ),
                ("the new one alone", &[("a/ipsec.conf", new_ike), ("a/s.conf", new)], &["pass a"]),
            ],
        );
    }
}
