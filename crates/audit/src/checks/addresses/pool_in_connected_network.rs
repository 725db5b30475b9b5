//! A pool of callers' addresses lies inside a network of the device's own interfaces.

use crate::{Answer, Area, Check, Estate, Fail, Severity, Verdict, Yardstick};
use trevlin_model::{
    Device, Interface, InterfaceAddress, IpRange, Origin, Pool, PoolPlacement, Setting, Tunnel,
};

/// The check.
pub(crate) const CHECK: Check = Check {
    id: "addresses/pool-in-connected-network",
    area: Area::Addresses,
    title: "A pool lies inside a connected network",
    severity: Severity::High,
    why: "Callers who get addresses of an inside network cannot be told from the hosts that live there. Filters, logs \
          and address lists that mean the inside mean the callers too, and two hosts end up with one address as soon as \
          somebody inside is given it by hand or by DHCP. Without proxy ARP the inside does not even find the way back.",
    fix: "Give callers a network of their own that collides with nothing in the estate, route it to the tunnel server, \
          and write access rules for it.",
    judged: "Fails where a pool shares addresses with the network of an interface on the same device, other than the \
             tunnel's own. Milder where the design intends it: proxy ARP or a bridge. Undetermined where no interfaces \
             were exported, or the pool is mistyped.",
    references: &["RFC 1918, 3", "RFC 1027 (proxy ARP)", "NIST SP 800-77 Rev. 1, 5.3"],
    run,
};

fn run(estate: &Estate, _: &Yardstick) -> Vec<Answer> {
    let mut answers = Vec::new();
    for (at, device) in estate.devices.iter().enumerate() {
        for (tunnel, pool) in device
            .facts
            .tunnels
            .iter()
            .flat_map(|tunnel| tunnel.addresses.pools.iter().map(move |pool| (tunnel, pool)))
        {
            if let Some(bad) = pool.malformed.first() {
                let question = format!(
                    "the pool of {} is mistyped ({}), so where it lies cannot be told; ask what was meant and what is in use",
                    tunnel.name, bad.why
                );
                answers.push(Answer::new(at, tunnel.name.clone(), Verdict::ask(question, vec![bad.origin])));
            } else if tunnel.refused.is_none() {
                answers.extend(judge(estate, at, device, tunnel, pool));
            }
        }
    }
    answers
}

fn judge(estate: &Estate, at: usize, device: &Device, tunnel: &Tunnel, pool: &Pool) -> Vec<Answer> {
    let claims = pool.claims();
    let Some((_, first)) = claims.first().copied() else { return Vec::new() };
    if !device.facts.has_interfaces {
        let question = format!(
            "whether the pool of {} lies inside a network of {} cannot be told without its interfaces; ask for `ip -j addr show`",
            tunnel.name, device.name
        );
        return vec![Answer::new(at, tunnel.name.clone(), Verdict::ask(question, vec![first]))];
    }
    let mut answers = Vec::new();
    for interface in device.facts.interfaces.iter().filter(|one| !is_own(one, pool)) {
        for address in &interface.addresses {
            let network = IpRange::from(address.net);
            let shared = claims
                .iter()
                .find_map(|(range, origin)| Some((range.intersection(&network)?, *range, *origin)));
            if let Some(shared) = shared {
                let subject = format!("{} in {} of {}", tunnel.name, address.net.trunc(), interface.name);
                answers.push(Answer::new(
                    at,
                    subject,
                    fail(estate, pool, tunnel, interface, address, shared),
                ));
            }
        }
    }
    if answers.is_empty() {
        answers.push(Answer::new(at, tunnel.name.clone(), Verdict::Pass));
    }
    answers
}

/// Whether an interface is the tunnel's own end, or no network with other hosts in it.
fn is_own(interface: &Interface, pool: &Pool) -> bool {
    if interface.loopback || interface.point_to_point || interface.up == Some(false) {
        return true;
    }
    let owns = interface.addresses.iter().any(|address| pool.server_addresses.contains(&address.net.addr()));
    // The daemon's own device: its network is the one set aside for the tunnel.
    owns && pool
        .network
        .is_some_and(|net| interface.addresses.iter().any(|address| address.net.trunc() == net.trunc()))
}

fn fail(
    estate: &Estate,
    pool: &Pool,
    tunnel: &Tunnel,
    interface: &Interface,
    address: &InterfaceAddress,
    (shared, range, origin): (IpRange, IpRange, Origin),
) -> Verdict {
    let mut evidence = vec![origin, address.origin];
    let (severity, why) = match pool.placement.value() {
        Some(PoolPlacement::ProxyArp) => {
            evidence.extend(pool.placement.origin());
            (
                Severity::Medium,
                "proxy ARP shows that it is meant, so callers work; they still pass for inside hosts",
            )
        }
        Some(PoolPlacement::Bridged) => (
            Severity::Medium,
            "the tunnel is bridged to the inside, which is meant; callers are inside hosts in everything",
        ),
        Some(PoolPlacement::Routed) => {
            (Severity::High, "nothing answers for the callers inside, so replies get lost as well")
        }
        None => {
            (Severity::High, "whether the server answers for its callers inside (proxy ARP) is not known")
        }
    };
    let source = match (pool.from_default, &pool.placement) {
        (Some(source), _) => format!(" No pool is stated; this is the daemon's default ({source})."),
        (None, Setting::Unknown { why }) => format!(" Not known: {why}."),
        _ => String::new(),
    };
    let network = address.net.trunc();
    let part = if shared == range { format!("{range} lies") } else { format!("{shared} of {range} lies") };
    Verdict::Fail(Fail {
        severity,
        why_this_severity: why.into(),
        title: format!("the callers' pool {range} reaches into {network}, the network of {}", interface.name),
        detail: format!(
            "The pool of {} ({}): {part} inside {network}, which {} is connected to ({}).{source}",
            tunnel.name,
            estate.place(origin),
            interface.name,
            estate.place(address.origin),
        ),
        evidence,
    })
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::checks::testing::run;

    const LAN: &str = r#"[{"ifname":"eth0","flags":["UP"],"addr_info":[{"local":"10.4.0.5","prefixlen":24}]},
{"ifname":"tun0","flags":["UP","POINTOPOINT"],"addr_info":[{"local":"10.8.0.1","prefixlen":24}]},
{"ifname":"tap0","flags":["UP"],"addr_info":[{"local":"10.9.0.1","prefixlen":24}]},
{"ifname":"eth9","flags":[],"addr_info":[{"local":"10.7.0.1","prefixlen":24}]}]"#;
    const OPTIONS: (&str, &str) = ("d/etc/ppp/options", "require-mschap-v2\n");

    #[test]
    fn cases() {
        run(
            &CHECK,
            &[
                (
                    "fails",
                    &[("d/etc/pptpd.conf", "remoteip 10.4.0.200-225\n"), OPTIONS, ("d/ip-addr.json", LAN)],
                    &["fail high d pptpd.conf:1 ip-addr.json:1"],
                ),
                (
                    "proxy ARP is a design with a price",
                    &[
                        ("d/etc/pptpd.conf", "localip 10.4.0.5\nremoteip 10.4.0.200-225\n"),
                        ("d/etc/ppp/options", "proxyarp\nrequire-mschap-v2\n"),
                        ("d/ip-addr.json", LAN),
                    ],
                    &["fail medium d pptpd.conf:2 ip-addr.json:1 options:1"],
                ),
                (
                    "a bridge",
                    &[
                        ("d/s.conf", "dev tap\nserver-bridge 10.4.0.5 255.255.255.0 10.4.0.99 10.4.0.120\n"),
                        ("d/ip-addr.json", LAN),
                    ],
                    &["fail medium d s.conf:2 ip-addr.json:1"],
                ),
                (
                    "part of it",
                    &[("d/s.conf", "dev tun\nserver 10.4.0.0 255.255.0.0\n"), ("d/ip-addr.json", LAN)],
                    &["fail high d s.conf:2 ip-addr.json:1"],
                ),
                (
                    "passes",
                    &[("d/etc/pptpd.conf", "remoteip 10.5.0.200-225\n"), OPTIONS, ("d/ip-addr.json", LAN)],
                    &["pass d"],
                ),
                (
                    "the tunnel's own device",
                    &[("d/s.conf", "dev tun\nserver 10.8.0.0 255.255.255.0\n"), ("d/ip-addr.json", LAN)],
                    &["pass d"],
                ),
                (
                    "its own tap device",
                    &[("d/s.conf", "dev tap\nserver 10.9.0.0 255.255.255.0\n"), ("d/ip-addr.json", LAN)],
                    &["pass d"],
                ),
                (
                    "an interface that is off",
                    &[("d/s.conf", "dev tun\nserver 10.7.0.0 255.255.255.0\n"), ("d/ip-addr.json", LAN)],
                    &["pass d"],
                ),
                ("no interfaces", &[("d/s.conf", "dev tun\nserver 10.8.0.0 255.255.255.0\n")], &["ask d"]),
                (
                    "a mistyped range",
                    &[("d/etc/pptpd.conf", "remoteip 10.4.0.200.5-9\n"), ("d/ip-addr.json", LAN)],
                    &["ask d"],
                ),
                (
                    "addresses used only for translation",
                    &[
                        (
                            "d/rules.v4",
                            "*nat\n-A POSTROUTING -s 10.4.0.0/24 -j SNAT --to-source 10.4.0.200-10.4.0.225\nCOMMIT\n",
                        ),
                        ("d/ip-addr.json", LAN),
                    ],
                    &[],
                ),
                (
                    "a later line overrides an earlier one",
                    &[
                        (
                            "d/s.conf",
                            "dev tun\nserver 10.4.0.0 255.255.255.0\nserver 10.8.0.0 255.255.255.0\n",
                        ),
                        ("d/ip-addr.json", LAN),
                    ],
                    &["pass d"],
                ),
            ],
        );
    }
}
