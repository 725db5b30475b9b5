//! Internal networks have no return route to VPN clients.

use crate::check::{Addressee, Answer, Check, Fail, Need, Reason, Run, Verdict};
use crate::subject::{Subject, SubjectKind};
use crate::support::{StatePart, provide};
use std::net::IpAddr;
use trevlin_analysis::addresses::PoolOwner;
use trevlin_analysis::map::EstateMap;
use trevlin_estate::area::{Area, Severity};
use trevlin_estate::baseline::Baseline;
use trevlin_estate::special::{is_link_local, is_public};
use trevlin_model::{Device, IpRange, Origin, Pool, PoolPlacement, Route};
use trevlin_packets::Holds;
use trevlin_packets::hidden::{Leaving, hides_source};

/// The check.
pub(crate) const CHECK: Check = Check {
    id: "addresses/no-return-route",
    area: Area::Addresses,
    title: "No return route to the client pool",
    severity: Severity::Medium,
    why: "Internal hosts send replies to the gateway, which forwards unknown addresses to the Internet. VPN clients connect \
          and reach nothing, and replies with internal addresses leave the network. Such faults are often worked around by \
          opening more than needed.",
    fix: "Add a route for the pool on the gateway, with the internal address of the VPN server as next hop. Alternatively \
          translate VPN clients to the address of the server; internal logs then show that address only.",
    judged: "Judged for a VPN server whose default gateway is a device of the estate. Fails where no route of the gateway \
             other than the default route covers the pool, and the server does not translate its clients. Undetermined where \
             the routes of the gateway or the filters of the server were not exported, or where the gateway is private and \
             not in the estate. Pools inside a connected network are judged by another check.",
    references: &["RFC 1812, 5.2.4", "ip-route(8)", "iptables-extensions(8), MASQUERADE and SNAT"],
    needs: &[Need::Routes, Need::Services],
    run: Run::Map(run),
};

fn run(estate: &EstateMap, _: &Baseline) -> Vec<Answer> {
    let mut answers = Vec::new();
    for holder in &estate.plan().pools {
        let Some(pool) = &holder.pool else { continue };
        if let Some((range, origin)) = pool.allocations().first().copied() {
            let verdict = judge(estate, holder, pool, range, origin);
            answers.push(Answer::new(
                holder.device,
                Subject::of(SubjectKind::Addresses).with(&holder.name).with(range.family()),
                verdict,
            ));
        }
    }
    answers
}

fn judge(estate: &EstateMap, holder: &PoolOwner, pool: &Pool, range: IpRange, origin: Origin) -> Verdict {
    let device = &estate.devices[holder.device];
    // Proxy ARP for clients helps only where their addresses are part of a connected network.
    let bridged = pool.placement.value() == Some(&PoolPlacement::Bridged);
    if bridged || !pool.malformed.is_empty() || lies_in_connected(device, pool, range) {
        return Verdict::DoesNotApply;
    }
    let default = |route: &&Route| route.is_default() && route.family() == range.family();
    let Some((default, gateway)) =
        device.facts.routes.iter().filter(default).find_map(|route| Some((route, route.gateway?)))
    else {
        return Verdict::DoesNotApply;
    };
    let unless = match hides_clients(estate, holder.device, range, default) {
        Some(true) => return Verdict::pass_by([origin, default.origin], origin),
        Some(false) => None,
        None => Some((
            provide(estate, holder.device, &[StatePart::Filter]),
            format!("whether addresses of clients of {} are translated to its own", holder.name),
        )),
    };
    way_back(estate, holder, (default, gateway), range, origin, unless)
}

/// Whether the gateway has a return route. `unless` is requested in place of a failure, where it could explain the missing route.
fn way_back(
    estate: &EstateMap,
    holder: &PoolOwner,
    (default, gateway): (&Route, IpAddr),
    range: IpRange,
    origin: Origin,
    unless: Option<(String, String)>,
) -> Verdict {
    let name = &holder.name;
    let Some(at) = estate.holders(gateway).iter().copied().find(|at| *at != holder.device) else {
        if is_public(gateway) || is_link_local(gateway) {
            // The server is the gateway itself.
            return Verdict::pass_by([origin, default.origin], origin);
        }
        let question = format!(
            "Please provide the routes of {gateway}, the gateway of {}: they decide whether replies return to clients of \
             {name}.",
            estate.devices[holder.device].name
        );
        return Verdict::ask(question, vec![origin, default.origin]);
    };
    let front = &estate.devices[at];
    if front.facts.routes.is_empty() {
        let question = format!(
            "{}: it decides whether replies return to clients of {name}.",
            provide(estate, at, &[StatePart::Routes])
        );
        return Verdict::ask(question, vec![origin, default.origin]).addressed_to(Addressee::Device(at));
    }
    let knows = front.facts.routes.iter().find(|route| {
        route.forwards
            && route.destination.prefix_len() > 0
            && IpRange::from(route.destination).covers(&range)
    });
    let mut connected = front.facts.interfaces.iter().flat_map(|one| &one.addresses);
    let line = knows.map(|route| route.origin).or_else(|| {
        let near = connected.find(|address| IpRange::from(address.net.trunc()).covers(&range))?;
        Some(near.origin)
    });
    if let Some(line) = line {
        return Verdict::pass_by([line, origin], origin);
    }
    if let Some((beginning, reason)) = unless {
        return Verdict::provide(beginning, Reason::decides(reason), vec![origin]);
    }
    let way = front.facts.routes.iter().find(|route| route.is_default() && route.family() == range.family());
    let shown = way.or(front.facts.routes.first()).map_or(default.origin, |route| route.origin);
    let instead = match way {
        Some(_) => format!("sends replies along its default route ({})", estate.place(shown)),
        None => format!("has no route for them (its routes begin at {})", estate.place(shown)),
    };
    Verdict::Fail(Fail {
        rating: CHECK
            .rated("the server does not translate its clients, so replies are addressed to the pool"),
        title: format!("{} has no return route to {}, the client pool of {name}", front.name, range.short())
            .into(),
        detail: format!(
            "Clients of {name} receive addresses of {} ({}); the internal gateway {} {instead}.",
            range.short(),
            estate.place(origin),
            front.name
        )
        .into(),
        evidence: vec![origin, shown],
    })
}

/// Whether the pool is a piece of a network that the server is connected to, other than the tunnel's own link.
fn lies_in_connected(device: &Device, pool: &Pool, range: IpRange) -> bool {
    let links = |net: IpRange| pool.network.is_some_and(|own| IpRange::from(own) == net);
    device
        .facts
        .interfaces
        .iter()
        .filter(|one| !one.point_to_point)
        .flat_map(|one| &one.addresses)
        .map(|address| IpRange::from(address.net.trunc()))
        .any(|net| net.covers(&range) && !links(net))
}

/// Whether rules on the way out translate the source of VPN clients. `None` where no filter of that version was exported, or a ruleset that
/// is not read, or a condition that is not analysed, may do it.
fn hides_clients(estate: &EstateMap, device: usize, range: IpRange, by: &Route) -> Option<bool> {
    let tables = estate.tables(device, range.family());
    let facts = &estate.devices[device].facts;
    let leaving = Leaving { sources: range, interface: by.interface.as_deref() };
    let unread = facts.not_analysed.iter().any(|one| one.filters_packets);
    match hides_source(&tables, &facts.interfaces, &leaving) {
        Holds::Yes => Some(true),
        Holds::Perhaps => None,
        Holds::No => (!tables.is_empty() && !unread).then_some(false),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::testing::run;

    const SERVER: (&str, &str) = ("a/s.conf", "dev tun\nserver 10.88.0.0 255.255.255.0\n");
    const OWN: (&str, &str) =
        ("a/ip-addr.json", r#"[{"ifname":"eth0","addr_info":[{"local":"10.4.0.9","prefixlen":24}]}]"#);
    const OWN_ROUTES: (&str, &str) =
        ("a/ip-route.json", r#"[{"dst":"default","gateway":"10.4.0.1","dev":"eth0","flags":[]}]"#);
    const FILTER: (&str, &str) = ("a/iptables-save.txt", "*filter\n:FORWARD ACCEPT [0:0]\nCOMMIT\n");
    const GATE: (&str, &str) =
        ("g/ip-addr.json", r#"[{"ifname":"eth1","addr_info":[{"local":"10.4.0.1","prefixlen":24}]}]"#);

    #[test]
    fn cases() {
        let knows = |to: &str| {
            format!(
                "[{{\"dst\":\"default\",\"gateway\":\"192.0.2.1\",\"dev\":\"eth0\",\"flags\":[]}},\n{{\"dst\":\"{to}\",\"gateway\":\"10.4.0.9\",\"dev\":\"eth1\",\"flags\":[]}}]"
            )
        };
        let (lost, found, wider) = (knows("10.99.0.0/24"), knows("10.88.0.0/24"), knows("10.0.0.0/8"));
        let hides =
            "*nat\n:POSTROUTING ACCEPT [0:0]\n-A POSTROUTING -s 10.88.0.0/24 -o eth0 -j MASQUERADE\nCOMMIT\n";
        let hides_others =
            "*nat\n:POSTROUTING ACCEPT [0:0]\n-A POSTROUTING -s 10.77.0.0/24 -o eth0 -j MASQUERADE\nCOMMIT\n";
        let hides_elsewhere =
            "*nat\n:POSTROUTING ACCEPT [0:0]\n-A POSTROUTING -s 10.88.0.0/24 -o eth7 -j MASQUERADE\nCOMMIT\n";
        let by_chain = "*nat\n:POSTROUTING ACCEPT [0:0]\n:OUT - [0:0]\n-A POSTROUTING -o eth0 -j OUT\n\
                        -A OUT -s 10.88.0.0/16 -j SNAT --to-source 10.4.0.9\nCOMMIT\n";
        let others_by_chain = "*nat\n:POSTROUTING ACCEPT [0:0]\n:OUT - [0:0]\n-A POSTROUTING -o eth0 -j OUT\n\
                               -A OUT -s 10.77.0.0/16 -j MASQUERADE\nCOMMIT\n";
        let exempt = "*nat\n:POSTROUTING ACCEPT [0:0]\n-A POSTROUTING -s 10.88.0.0/24 -j ACCEPT\n\
                      -A POSTROUTING -o eth0 -j MASQUERADE\nCOMMIT\n";
        let perhaps = "*nat\n:POSTROUTING ACCEPT [0:0]\n-A POSTROUTING -o eth0 -m unheard --of 1 -j MASQUERADE\nCOMMIT\n";
        for (name, routes, filter, wanted) in [
            ("lost", lost.as_str(), FILTER.1, &["fail medium a s.conf:2 ip-route.json:1"][..]),
            ("known", &found, FILTER.1, &["pass a"]),
            ("within a wider one", &wider, FILTER.1, &["pass a"]),
            ("callers are translated", &lost, hides, &["pass a"]),
            ("others are translated", &lost, hides_others, &["fail medium a s.conf:2 ip-route.json:1"]),
            ("elsewhere", &lost, hides_elsewhere, &["fail medium a s.conf:2 ip-route.json:1"]),
            ("a chain translates them", &lost, by_chain, &["pass a"]),
            (
                "a chain translates others",
                &lost,
                others_by_chain,
                &["fail medium a s.conf:2 ip-route.json:1"],
            ),
            ("exempted before", &lost, exempt, &["fail medium a s.conf:2 ip-route.json:1"]),
            ("perhaps", &lost, perhaps, &["ask a"]),
        ] {
            let files = [SERVER, OWN, OWN_ROUTES, (FILTER.0, filter), GATE, ("g/ip-route.json", routes)];
            run(&CHECK, &[(name, &files, wanted)]);
        }
        run(
            &CHECK,
            &[
                (
                    "filters are missing",
                    &[SERVER, OWN, OWN_ROUTES, GATE, ("g/ip-route.json", &lost)],
                    &["ask a"],
                ),
                ("routes of the gateway are missing", &[SERVER, OWN, OWN_ROUTES, FILTER, GATE], &["ask a"]),
                ("the gateway is missing", &[SERVER, OWN, OWN_ROUTES, FILTER], &["ask a"]),
                (
                    "the server is the gateway",
                    &[
                        SERVER,
                        OWN,
                        FILTER,
                        (
                            "a/ip-route.json",
                            r#"[{"dst":"default","gateway":"192.0.2.1","dev":"eth0","flags":[]}]"#,
                        ),
                    ],
                    &["pass a"],
                ),
                (
                    "a piece of the inside",
                    &[
                        ("a/s.conf", "dev tun\nserver 10.4.0.208 255.255.255.240\n"),
                        OWN,
                        OWN_ROUTES,
                        FILTER,
                        GATE,
                    ],
                    &["none a"],
                ),
            ],
        );
    }
}
