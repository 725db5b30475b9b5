//! An address in use is part of a range that is assigned to other clients.

use crate::addresses::{by_holder, listed};
use crate::check::{Answer, Check, Fail, Need, Run, Verdict};
use crate::subject::{Subject, SubjectKind};
use crate::support::line_of;
use trevlin_analysis::addresses::told::told;
use trevlin_analysis::addresses::{Allocation, AllocationKind, Overlap, OverlapKind, PoolOwner};
use trevlin_analysis::map::EstateMap;
use trevlin_estate::area::{Area, Severity};
use trevlin_estate::baseline::Baseline;

/// The check.
pub(crate) const CHECK: Check = Check {
    id: "addresses/range-contains-used-address",
    area: Area::Addresses,
    title: "Assigned range contains an address in use",
    severity: Severity::Medium,
    why: "The range will eventually assign the address to another host while its owner uses it. Connections of both then \
          fail intermittently, logs name the wrong host, and access rules for the owner admit the other.",
    fix: "Exclude the address from the range: most servers support split ranges. Where one DHCP server assigns both, \
          configure the address as a reservation of that server.",
    judged: "Fails where a VPN pool or DHCP range contains a reservation or fixed address of another user, an interface \
             address of the estate, a DNS server that is pushed to clients, or a NAT address. One level lower where the \
             fixed addresses belong to the same tunnel. Passes for dynamically obtained addresses and for reservations of \
             the same server. Undetermined where a DHCP server and the other device may be at different sites.",
    references: &[
        "RFC 2131, 3.1 and 4.3.1",
        "dhcpd.conf(5), fixed-address",
        "openvpn(8), --ifconfig-push",
        "pppd(8), AUTHENTICATION",
    ],
    needs: &[Need::Addresses, Need::Services],
    run: Run::Map(run),
};

fn in_use(kind: AllocationKind) -> bool {
    use AllocationKind::{Address, FixedAddress, NameServer, OutsideAddress, Reservation, Translation};
    matches!(kind, Reservation | FixedAddress | Address | OutsideAddress | NameServer | Translation)
}

fn run(estate: &EstateMap, _: &Baseline) -> Vec<Answer> {
    let plan = estate.plan();
    let handed =
        |kind| matches!(kind, AllocationKind::Pool | AllocationKind::DhcpRange | AllocationKind::PoolNetwork);
    let found = by_holder(estate, |a, b| handed(a.kind) && in_use(b.kind));
    let mut answers = Vec::new();
    for (group, holder) in plan.pools.iter().enumerate() {
        let Some(overlaps) = found.get(&group) else {
            let own = plan.allocations.iter().find(|one| one.holder == Some(group) && handed(one.kind));
            answers.push(Answer::new(
                holder.device,
                Subject::of(SubjectKind::Addresses).with(&holder.name),
                Verdict::pass(own.map_or_else(|| line_of(estate, holder.device), |one| one.origin)),
            ));
            continue;
        };
        let (certain, unclear): (Vec<&Overlap>, Vec<&Overlap>) =
            overlaps.iter().copied().partition(|one| one.meaning == OverlapKind::Fault);
        let pairs = |all: &[&Overlap]| all.iter().map(|one| plan.pair(one)).collect::<Vec<_>>();
        let verdict = if certain.is_empty() {
            ask(estate, &pairs(&unclear))
        } else {
            fail(estate, holder, &pairs(&certain))
        };
        answers.push(Answer::new(
            holder.device,
            Subject::of(SubjectKind::Addresses).with(&holder.name),
            verdict,
        ));
    }
    answers
}

fn ask(estate: &EstateMap, pairs: &[(&Allocation, &Allocation)]) -> Verdict {
    let (range, used) = pairs[0];
    let more = if pairs.len() > 1 { format!(" (and {} more)", pairs.len() - 1) } else { String::new() };
    let question = format!(
        "Please state whether both devices are at one site: {}{more} would lie in {}. Add the site of each device to the \
         estate file (`site`).",
        told(estate, used),
        told(estate, range)
    );
    Verdict::ask(question, vec![range.origin, used.origin])
}

fn fail(estate: &EstateMap, holder: &PoolOwner, pairs: &[(&Allocation, &Allocation)]) -> Verdict {
    let used: Vec<&Allocation> = pairs.iter().map(|(_, used)| *used).collect();
    let mut ranges: Vec<&Allocation> = pairs.iter().map(|(range, _)| *range).collect();
    ranges.dedup_by_key(|allocation| allocation.origin);
    // A tunnel's own fixed addresses: its users, who come one by one.
    let own = |used: &&Allocation| used.kind == AllocationKind::FixedAddress && used.device == holder.device;
    let strangers = used.iter().filter(|used| !own(used)).count();
    let (severity, why) = if strangers == 0 {
        (Severity::Low, "only clients of the same device are affected")
    } else if used.iter().any(|used| used.device != holder.device) {
        (CHECK.severity, "they are configured on devices that do not know of each other")
    } else {
        (CHECK.severity, "both are configured on one device")
    };
    let (used_told, used_places) = listed(estate, &used);
    let (ranges_told, mut evidence) = listed(estate, &ranges);
    evidence.extend(used_places.iter().copied());
    let device = &estate.devices[holder.device].name;
    let title = match used_places.as_slice() {
        [_] => {
            let one = used[0];
            let whose = match (&one.who, one.kind) {
                (Some(who), _) => format!("which is reserved for {who}"),
                (None, AllocationKind::NameServer) => "the address of a DNS server".to_owned(),
                (None, AllocationKind::Translation) => "which is a NAT address".to_owned(),
                (None, _) => format!("the address of {} on {}", one.owner, estate.devices[one.device].name),
            };
            format!("{} on {device} assigns {}, {whose}", holder.name, one.range.short())
        }
        all => format!("{} on {device} assigns {} addresses in use", holder.name, all.len()),
    };
    let verb = if used_places.len() == 1 { "lies in" } else { "lie in" };
    Verdict::Fail(Fail {
        rating: CHECK.rated_at(severity, why),
        title: title.into(),
        detail: format!("{used_told} {verb} {ranges_told}.").into(),
        evidence,
    })
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::testing::{BEHIND, GATE, run};

    const DNSMASQ: (&str, &str) =
        ("a/dnsmasq.conf", "dhcp-range=10.4.0.100,10.4.0.199\ndhcp-host=lamp,10.4.0.120\n");
    const POOL: (&str, &str) = ("b/pptpd.conf", "localip 10.4.0.1\nremoteip 10.4.0.200-225\n");

    #[test]
    fn cases() {
        run(
            &CHECK,
            &[
                (
                    "a caller's fixed address in a DHCP range",
                    &[DNSMASQ, GATE, BEHIND, ("b/chap-secrets", "ann pptp sesame 10.4.0.150\n")],
                    &["fail medium a dnsmasq.conf:1 chap-secrets:1"],
                ),
                (
                    "perhaps at another site",
                    &[DNSMASQ, ("b/chap-secrets", "ann pptp sesame 10.4.0.150\n")],
                    &["ask a"],
                ),
                ("the server's own reservation", &[DNSMASQ], &["pass a"]),
                (
                    "a reservation that its server does not keep",
                    &[(
                        "a/dhcpd.conf",
                        "subnet 10.4.0.0 netmask 255.255.255.0 { range 10.4.0.9 10.4.0.99; }\nhost l { fixed-address 10.4.0.20; }\n",
                    )],
                    &["fail medium a dhcpd.conf:1 dhcpd.conf:2"],
                ),
                (
                    "another server's reservation in a pool",
                    &[("a/dnsmasq.conf", "dhcp-host=lamp,10.4.0.205\n"), POOL],
                    &["pass a", "fail medium b pptpd.conf:2 dnsmasq.conf:1"],
                ),
                (
                    "a caller of its own",
                    &[POOL, ("b/chap-secrets", "ann pptp sesame 10.4.0.205\n")],
                    &["fail low b pptpd.conf:2 chap-secrets:1"],
                ),
                (
                    "a host",
                    &[
                        POOL,
                        (
                            "c/ip-addr.json",
                            r#"[{"ifname":"eth0","addr_info":[{"local":"10.4.0.210","prefixlen":24}]}]"#,
                        ),
                    ],
                    &["fail medium b pptpd.conf:2 ip-addr.json:1"],
                ),
                (
                    "a host that asked for its address",
                    &[
                        DNSMASQ,
                        (
                            "c/ip-addr.json",
                            r#"[{"ifname":"eth0","addr_info":[{"local":"10.4.0.110","prefixlen":24,"dynamic":true}]}]"#,
                        ),
                    ],
                    &["pass a"],
                ),
                (
                    "a name server that others are told",
                    &[
                        POOL,
                        (
                            "d/s.conf",
                            "dev tun\nserver 10.8.0.0 255.255.255.0\npush \"dhcp-option DNS 10.4.0.221\"\n",
                        ),
                    ],
                    &["fail medium b pptpd.conf:2 s.conf:3", "pass d"],
                ),
                (
                    "addresses that others are translated to",
                    &[
                        POOL,
                        (
                            "d/rules.v4",
                            "*nat\n-A POSTROUTING -j SNAT --to-source 10.4.0.220-10.4.0.230\nCOMMIT\n",
                        ),
                    ],
                    &["fail medium b pptpd.conf:2 rules.v4:2"],
                ),
                (
                    "an address that is only refused",
                    &[POOL, ("b/chap-secrets", "ann pptp sesame 10.4.0.20\n")],
                    &["pass b"],
                ),
                (
                    "a tunnel's own end",
                    &[
                        ("d/s.conf", "dev tun\nserver 10.8.0.0 255.255.255.0\n"),
                        (
                            "d/ip-addr.json",
                            r#"[{"ifname":"tun0","flags":["POINTOPOINT"],"addr_info":[{"local":"10.8.0.1","prefixlen":24}]}]"#,
                        ),
                    ],
                    &["pass d"],
                ),
            ],
        );
    }
}
