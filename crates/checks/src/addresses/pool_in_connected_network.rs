//! A client pool is part of a network of the device's own interfaces.

use crate::addresses::{by_holder, malformed_pools};
use crate::check::{Answer, Check, Fail, Need, Run, Verdict};
use crate::subject::{Subject, SubjectKind};
use crate::support::{StatePart, provide};
use trevlin_analysis::addresses::{Allocation, AllocationKind};
use trevlin_analysis::map::EstateMap;
use trevlin_estate::area::{Area, Severity};
use trevlin_estate::baseline::Baseline;
use trevlin_model::{Pool, PoolPlacement, Setting};

/// The check.
pub(crate) const CHECK: Check = Check {
    id: "addresses/pool-in-connected-network",
    area: Area::Addresses,
    title: "Client pool inside a connected network",
    severity: Severity::High,
    why: "VPN clients cannot be distinguished from internal hosts. Filters, logs and address lists for the internal network \
          apply to them as well, and manual or DHCP assignments can produce duplicate addresses. Without proxy ARP, replies \
          do not return to clients.",
    fix: "Give VPN clients a network of their own that overlaps nothing in the estate, route it to the VPN server, and write \
          access rules for it.",
    judged: "Fails where a pool shares addresses with an interface network of the same or another device of the estate, \
             other than that of the tunnel itself. One level lower where it is intended: proxy ARP or a bridge. Undetermined \
             where no interfaces were exported, an interface obtains its address dynamically, or the pool is malformed.",
    references: &["RFC 1918, 3", "RFC 1027 (proxy ARP)", "NIST SP 800-77 Rev. 1, 5.3"],
    needs: &[Need::Addresses, Need::Services],
    run: Run::Map(run),
};

fn run(estate: &EstateMap, _: &Baseline) -> Vec<Answer> {
    let plan = estate.plan();
    let found = by_holder(estate, |a, b| {
        matches!(
            (a.kind, b.kind),
            (AllocationKind::Pool | AllocationKind::PoolNetwork, AllocationKind::Network)
        )
    });
    let mut answers = Vec::new();
    for (device, name, bad) in malformed_pools(estate) {
        let question = format!(
            "Please state the intended pool of {name} and the range in use: the configured range is malformed ({}).",
            bad.why
        );
        answers.push(Answer::new(
            device,
            Subject::of(SubjectKind::Addresses).with(name),
            Verdict::ask(question, vec![bad.origin]),
        ));
    }
    for (group, holder) in plan.pools.iter().enumerate() {
        let Some(pool) = &holder.pool else { continue };
        let device = &estate.devices[holder.device];
        let answer = |verdict| {
            Answer::new(holder.device, Subject::of(SubjectKind::Addresses).with(&holder.name), verdict)
        };
        if !pool.malformed.is_empty() {
            continue;
        }
        let Some((_, first)) = pool.allocations().first().copied() else { continue };
        // Of several pieces of a pool in one network the first is reported.
        let mut overlaps = found.get(&group).cloned().unwrap_or_default();
        overlaps.sort_by_key(|one| (plan.allocations[one.b].origin, plan.allocations[one.a].origin));
        overlaps.dedup_by_key(|one| one.b);
        for overlap in &overlaps {
            let (a, b) = plan.pair(overlap);
            let subject = Subject::of(SubjectKind::Addresses).with(&holder.name).with(b.range).with(&b.owner);
            answers.push(Answer::new(holder.device, subject, fail(estate, pool, a, b)));
        }
        if overlaps.iter().any(|one| plan.allocations[one.b].device == holder.device) {
            continue;
        }
        let asks =
            device.facts.interfaces.iter().find_map(|one| one.asks.filter(|_| one.addresses.is_empty()));
        if !device.facts.has_interfaces || asks.is_some() {
            let why = if asks.is_some() { "; one interface obtains its address dynamically" } else { "" };
            let question = format!(
                "{}: it decides whether the pool of {} lies inside a connected network{why}.",
                provide(estate, holder.device, &[StatePart::Addresses]),
                holder.name
            );
            answers.push(answer(Verdict::ask(question, [first].into_iter().chain(asks).collect())));
        } else if overlaps.is_empty() {
            answers.push(answer(Verdict::pass(first)));
        }
    }
    answers
}

fn fail(estate: &EstateMap, pool: &Pool, a: &Allocation, b: &Allocation) -> Verdict {
    let mut evidence = vec![a.origin, b.origin];
    let own = a.device == b.device;
    let (severity, why) = match pool.placement.value() {
        Some(PoolPlacement::ProxyArp) => {
            evidence.extend(pool.placement.origin());
            (
                Severity::Medium,
                "proxy ARP shows that it is intended, so clients have connectivity; they still appear as internal hosts",
            )
        }
        Some(PoolPlacement::Bridged) => (
            Severity::Medium,
            "the tunnel is bridged to the internal network by design; clients are internal hosts in every respect",
        ),
        Some(PoolPlacement::Routed) if !own => (
            Severity::High,
            "the network is connected to another device, which never forwards replies to the VPN server",
        ),
        Some(PoolPlacement::Routed) => {
            (Severity::High, "without proxy ARP, replies to clients are lost as well")
        }
        None => (Severity::High, "the exports do not show whether the server uses proxy ARP for its clients"),
    };
    let source = match (pool.from_default, &pool.placement) {
        (Some(source), _) => format!(" No pool is configured; this is the default of the daemon ({source})."),
        (None, Setting::Unknown { why }) => format!(" Not known: {why}."),
        _ => String::new(),
    };
    let network = b.range.short();
    let shared = a.range.intersection(&b.range).unwrap_or(a.range);
    let part = if shared == a.range {
        format!("{} lies", a.range.short())
    } else {
        format!("{} of {} lies", shared.short(), a.range.short())
    };
    let whose =
        if own { b.owner.clone() } else { format!("{} on {}", b.owner, estate.devices[b.device].name) };
    Verdict::Fail(Fail {
        rating: CHECK.rated_at(severity, why),
        title: format!("Client pool {} overlaps {network}, the network of {whose}", a.range.short()).into(),
        detail: format!(
            "The pool of {} ({}): {part} inside {network}, which is connected to {whose} ({}).{source}",
            a.owner,
            estate.place(a.origin),
            estate.place(b.origin),
        )
        .into(),
        evidence,
    })
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::testing::run;

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
                (
                    "a network of another device",
                    &[
                        ("d/s.conf", "dev tun\nserver 10.4.0.0 255.255.255.0\n"),
                        (
                            "d/ip-addr.json",
                            r#"[{"ifname":"eth0","addr_info":[{"local":"192.0.2.9","prefixlen":24}]}]"#,
                        ),
                        ("e/ip-addr.json", LAN),
                    ],
                    &["fail high d s.conf:2 ip-addr.json:1"],
                ),
                (
                    "a network of another device, while the tunnel is up",
                    &[
                        ("d/s.conf", "dev tun\nserver 10.4.0.0 255.255.255.0\n"),
                        (
                            "d/ip-addr.json",
                            r#"[{"ifname":"eth0","addr_info":[{"local":"192.0.2.9","prefixlen":24}]},
{"ifname":"tun0","flags":["POINTOPOINT","UP"],"addr_info":[{"local":"10.4.0.1","prefixlen":24}]}]"#,
                        ),
                        ("e/ip-addr.json", LAN),
                    ],
                    &["fail high d s.conf:2 ip-addr.json:1"],
                ),
                (
                    "a network inside another host",
                    &[
                        ("d/s.conf", "dev tun\nserver 172.17.0.0 255.255.255.0\n"),
                        ("d/ip-addr.json", LAN),
                        (
                            "e/ip-addr.json",
                            r#"[{"ifname":"docker0","addr_info":[{"local":"172.17.0.1","prefixlen":16}]}]"#,
                        ),
                    ],
                    &["pass d"],
                ),
                (
                    "files that apply at boot stand in",
                    &[
                        ("d/s.conf", "dev tun\nserver 10.4.0.0 255.255.255.0\n"),
                        ("d/interfaces", "iface eth0 inet static\n  address 10.4.0.9/24\n"),
                    ],
                    &["fail high d s.conf:2 interfaces:2"],
                ),
                (
                    "an interface that asks for its address",
                    &[
                        ("d/s.conf", "dev tun\nserver 10.8.0.0 255.255.255.0\n"),
                        ("d/interfaces", "iface eth0 inet dhcp\n"),
                    ],
                    &["ask d"],
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
