//! Comparison of intents with the effective access: missing access, and access beyond intents.

use crate::map::EstateMap;
use crate::reachability::{
    From, NetworkModel, NoPlace, QueryError, To, TrafficSource, all_traffic_sources, internet_entry_points,
};
use rayon::prelude::*;
use std::collections::BTreeMap;
use std::net::IpAddr;
use trevlin_estate::config::Intent;
use trevlin_model::{Family, IpRange, IpRangeSet, Origin, PortRange, PortSet};
use trevlin_packets::way::{Egress, Sent, Step, TrafficClass, Verdict};

/// Intended access that is blocked.
#[derive(Debug, Clone)]
pub struct Missing {
    /// Number of the transport protocol.
    pub protocol: u8,
    /// Addresses.
    pub addresses: IpRangeSet,
    /// Ports.
    pub ports: PortSet,
    /// The blocking steps of one connection.
    pub steps: Vec<Step>,
}

/// Access beyond the intents.
#[derive(Debug, Clone)]
pub struct Excess {
    /// Number of the transport protocol.
    pub protocol: u8,
    /// The device that it leads to, or the last one on the way.
    pub device: usize,
    /// The next hop after that device; none for traffic to the device itself.
    pub gone: Option<Egress>,
    /// Addresses.
    pub addresses: IpRangeSet,
    /// Ports.
    pub ports: PortSet,
    /// Whether it is certain; otherwise a condition that is not analysed decides.
    pub certain: bool,
    /// Rules that let it through.
    pub rules: Vec<Origin>,
}

/// Evaluation of one intent.
#[derive(Debug, Clone)]
pub struct IntentEvaluation {
    /// The intent, by its number in the estate file.
    pub intent: usize,
    /// Reason why it could not be evaluated.
    pub problem: Option<String>,
    /// Access that is missing.
    pub missing: Vec<Missing>,
    /// Access beyond the intents of the same source, reported with the first intent with `only`.
    pub excess: Vec<Excess>,
}

/// Whether an access from a source is intended, by the source's name in intents.
#[must_use]
pub fn is_meant(estate: &EstateMap, from: &str, address: IpAddr, protocol: u8, port: u16) -> bool {
    estate.intents.iter().filter(|intent| intent.from == from).any(|intent| {
        let there = targets(estate, intent).is_ok_and(|(all, _)| all.iter().any(|one| one.contains(address)));
        there && services(intent).iter().any(|(number, ports)| *number == protocol && ports.contains(port))
    })
}

/// Holds every intent of the estate file.
#[must_use]
pub fn hold(ground: &NetworkModel<'_>) -> Vec<IntentEvaluation> {
    let estate = ground.estate();
    let mut told: Vec<&str> = Vec::new();
    let tasks: Vec<(usize, bool)> = estate
        .intents
        .iter()
        .enumerate()
        .map(|(number, intent)| {
            let first = intent.only && !told.contains(&intent.from.as_str());
            if first {
                told.push(&intent.from);
            }
            (number, first)
        })
        .collect();
    tasks.par_iter().with_max_len(1).map(|(number, excess)| hold_one(ground, *number, *excess)).collect()
}

/// Reason why an intent cannot be evaluated.
#[derive(Debug, thiserror::Error)]
enum IntentError {
    #[error(transparent)]
    Place(#[from] NoPlace),
    #[error(transparent)]
    Question(#[from] QueryError),
    #[error("its packets take more paths than are followed; name a smaller network")]
    TooManyWays,
}

fn hold_one(ground: &NetworkModel<'_>, number: usize, excess: bool) -> IntentEvaluation {
    let estate = ground.estate();
    let intent = &estate.intents[number];
    let mut held =
        IntentEvaluation { intent: number, problem: None, missing: Vec::new(), excess: Vec::new() };
    let outcome = missing(ground, intent).and_then(|missing| {
        held.missing = missing;
        if excess {
            held.excess = beyond(ground, &intent.from)?;
        }
        Ok(())
    });
    held.problem = outcome.err().map(|why| why.to_string());
    held
}

fn starts(estate: &EstateMap, from: &str) -> Result<Vec<(TrafficSource, Vec<IpRange>)>, IntentError> {
    let from = From::parse(from)?;
    if from == From::Outside {
        return Ok(internet_entry_points(estate));
    }
    Ok(all_traffic_sources(estate, &from)?)
}

/// Services that an intent names; every one where it names none.
fn services(intent: &Intent) -> Vec<(u8, PortRange)> {
    let every = PortRange { first: 0, last: 65535 };
    if intent.services.is_empty() { vec![(6, every), (17, every)] } else { intent.services.clone() }
}

fn targets(estate: &EstateMap, intent: &Intent) -> Result<(Vec<IpRange>, bool), IntentError> {
    let mut ranges = Vec::new();
    let mut outside = false;
    for word in &intent.to {
        match To::parse(estate, word)? {
            To::Outside => outside = true,
            To::Addresses(all) | To::Device(_, all) => ranges.extend(all),
        }
    }
    Ok((ranges, outside))
}

fn explore(
    ground: &NetworkModel<'_>,
    from: &str,
    aims: &[IpRange],
    services: &[(u8, PortRange)],
) -> Result<Vec<TrafficClass>, IntentError> {
    let estate = ground.estate();
    let net = ground.net();
    let mut cells = Vec::new();
    for (traffic_source, reachable) in starts(estate, from)? {
        for family in [Family::V4, Family::V6] {
            for (protocol, ports) in services {
                let both =
                    aims.iter().flat_map(|aim| reachable.iter().filter_map(|one| one.intersection(aim)));
                let destinations: Vec<IpRange> = both.filter(|range| range.family() == family).collect();
                let sources: Vec<IpRange> =
                    traffic_source.sources.iter().filter(|range| range.family() == family).copied().collect();
                if destinations.is_empty() || sources.is_empty() {
                    continue;
                }
                let source_ports = vec![crate::reachability::OWN_CHOICE];
                let sent = Sent {
                    family,
                    protocol: *protocol,
                    destinations,
                    sources,
                    ports: vec![*ports],
                    source_ports,
                };
                let explored = net.explore(traffic_source.start(), &sent, ground.most_cells());
                if explored.cut {
                    return Err(IntentError::TooManyWays);
                }
                cells.extend(explored.cells);
            }
        }
    }
    Ok(cells)
}

/// The part of an intent that is blocked.
fn missing(ground: &NetworkModel<'_>, intent: &Intent) -> Result<Vec<Missing>, IntentError> {
    let estate = ground.estate();
    let (mut aims, _) = targets(estate, intent)?;
    // A network stands for its hosts: not for what stands between it and others, unless that is named.
    for device in &estate.devices {
        let links: Vec<_> =
            device.facts.interfaces.iter().filter(|one| !one.loopback && one.up != Some(false)).collect();
        if links.len() < 2 {
            continue;
        }
        for address in links.iter().flat_map(|one| &one.addresses) {
            let own = IpRange::from(address.net.addr());
            aims = aims
                .iter()
                .flat_map(|aim| if *aim == own { vec![*aim] } else { aim.without(&own) })
                .collect();
        }
    }
    let cells = explore(ground, &intent.from, &aims, &services(intent))?;
    let mut all: Vec<Missing> = Vec::new();
    for cell in cells.into_iter().filter(|cell| cell.answer.verdict == Verdict::Blocked) {
        let last = |steps: &[Step]| steps.last().map(|step| (step.device, step.origin, step.kind.clone()));
        let ports = PortSet::from(cell.sent.ports);
        let same = all.iter_mut().find(|one| {
            one.protocol == cell.sent.protocol
                && one.ports == ports
                && last(&one.steps) == last(&cell.answer.steps)
        });
        match same {
            Some(known) => known.addresses.extend(&cell.sent.destinations),
            None => all.push(Missing {
                protocol: cell.sent.protocol,
                addresses: cell.sent.destinations.into(),
                ports,
                steps: cell.answer.steps,
            }),
        }
    }
    Ok(all)
}

/// Addresses with ports.
type Rectangle = (IpRangeSet, PortSet);

/// The part of a rectangle that is not in another.
fn without(
    (addresses, ports): Rectangle,
    (other, other_ports): (&[IpRange], &[PortRange]),
) -> Vec<Rectangle> {
    let (inside, outside) = (addresses.intersection(other), addresses.without(other));
    let left = ports.without(other_ports);
    let all = [(outside, ports), (inside, left)];
    all.into_iter().filter(|(addresses, ports)| !addresses.is_empty() && !ports.is_empty()).collect()
}

/// Traffic that one intent describes.
struct Meant {
    ranges: Vec<IpRange>,
    /// Whether untrusted networks are included.
    outside: bool,
    services: Vec<(u8, PortRange)>,
}

/// Permitted traffic from a source beyond all intents of that source.
fn beyond(ground: &NetworkModel<'_>, from: &str) -> Result<Vec<Excess>, IntentError> {
    let estate = ground.estate();
    let every = PortRange { first: 0, last: 65535 };
    let everywhere = [IpRange::all(Family::V4), IpRange::all(Family::V6)];
    let cells = explore(ground, from, &everywhere, &[(6, every), (17, every)])?;
    let mut meant: Vec<Meant> = Vec::new();
    for intent in estate.intents.iter().filter(|one| one.from == from) {
        let (ranges, outside) = targets(estate, intent)?;
        meant.push(Meant { ranges, outside, services: services(intent) });
    }
    type Key = (u8, usize, Option<Egress>, bool, Vec<Origin>, PortSet);
    let mut by_ports: BTreeMap<Key, IpRangeSet> = BTreeMap::new();
    for cell in cells.iter().filter(|cell| cell.answer.verdict != Verdict::Blocked) {
        let Some(delivery) = &cell.delivery else { continue };
        let mut left: Vec<Rectangle> = {
            let (addresses, ports) = cell.delivered.clone();
            vec![(addresses.into(), ports.into())]
        };
        for Meant { ranges, outside, services } in &meant {
            let all: &[IpRange] =
                if *outside && delivery.gone == Some(Egress::Outside) { &everywhere } else { ranges };
            let ports: Vec<PortRange> = services
                .iter()
                .filter(|(protocol, _)| *protocol == cell.sent.protocol)
                .map(|(_, ports)| *ports)
                .collect();
            left = left.into_iter().flat_map(|one| without(one, (all, &ports))).collect();
        }
        let certain = cell.answer.verdict == Verdict::Allowed;
        let accepts = cell.answer.steps.iter().filter(|step| step.kind.accepts());
        let rules: Vec<Origin> = accepts.filter_map(|step| step.origin).collect();
        for (addresses, ports) in left {
            let key = (cell.sent.protocol, delivery.device, delivery.gone, certain, rules.clone(), ports);
            let known = by_ports.entry(key).or_default();
            known.extend(&addresses);
        }
    }
    // And what is the same for several ports is one.
    let mut all: Vec<Excess> = Vec::new();
    for ((protocol, device, gone, certain, rules, ports), addresses) in by_ports {
        let same = all.iter_mut().find(|one| {
            (one.protocol, one.device, one.gone, one.certain) == (protocol, device, gone, certain)
                && one.rules == rules
                && one.addresses == addresses
        });
        match same {
            Some(known) => known.ports.extend(&ports),
            None => all.push(Excess { protocol, device, gone, addresses, ports, certain, rules }),
        }
    }
    Ok(all)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::testing::estate_with;

    fn range(text: &str) -> IpRange {
        text.parse::<ipnet::IpNet>().unwrap().into()
    }

    #[test]
    fn what_is_left_of_a_rectangle() {
        let port = |first, last| PortRange { first, last };
        let whole: Rectangle = (range("10.0.0.0/30").into(), port(0, 100).into());
        let left = without(whole.clone(), (&[range("10.0.0.2/32")], &[port(22, 22)]));
        assert_eq!(format!("{:?}", left[0].0), "[10.0.0.0-10.0.0.1, 10.0.0.3]");
        assert_eq!(left[1], (range("10.0.0.2/32").into(), vec![port(0, 21), port(23, 100)].into()));
        assert!(without(whole.clone(), (&[range("10.0.0.0/24")], &[port(0, 65535)])).is_empty());
        assert_eq!(without(whole.clone(), (&[range("10.1.0.0/24")], &[port(0, 65535)])), [whole]);
    }

    #[test]
    fn missing_and_excess() {
        const GATE: (&str, &str) = (
            "gate/ip-addr.json",
            r#"[{"ifname":"eth1","addr_info":[{"local":"10.4.0.1","prefixlen":24}]},{"ifname":"wg0","flags":["POINTOPOINT","UP"],"addr_info":[{"local":"10.9.0.1","prefixlen":24}]}]"#,
        );
        const ROUTES: (&str, &str) = (
            "gate/ip-route.json",
            r#"[{"dst":"10.9.0.0/24","dev":"wg0","flags":[]},{"dst":"10.4.0.0/24","dev":"eth1","flags":[]}]"#,
        );
        const WIREGUARD: (&str, &str) = (
            "gate/wg0.conf",
            "[Interface]\nPrivateKey = yAnz5TF+lXXJte14tji3zlMNq+hd2rYUIgJBgB3fBmk=\nListenPort = 51820\nAddress = 10.9.0.1/24\n[Peer]\n\
             PublicKey = xTIBA5rboUvnH4htodjb6e697QjLERt1NAB4mZqp8Dg=\nAllowedIPs = 10.9.0.7/32\n",
        );
        let rules = "*filter\n:INPUT DROP [0:0]\n:FORWARD DROP [0:0]\n-A FORWARD -m state --state ESTABLISHED -j ACCEPT\n\
                     -A FORWARD -i wg0 -d 10.4.0.16/28 -p tcp --dport 443 -j ACCEPT\n\
                     -A FORWARD -i wg0 -d 10.4.0.99 -p tcp --dport 22 -j ACCEPT\nCOMMIT\n";
        let file = "[[intent]]\nfrom = \"WireGuard wg0\"\nto = [\"10.4.0.16/29\", \"10.4.0.40\"]\nservices = \"tcp 443\"\nonly = true\n\
                    [[intent]]\nfrom = \"nobody\"\nto = \"10.4.0.1\"\n";
        let estate = estate_with(&[GATE, ROUTES, WIREGUARD, ("gate/iptables-save.txt", rules)], file);
        let ground = NetworkModel::of(&estate);
        let held = hold(&ground);
        let missing: Vec<String> =
            held[0].missing.iter().map(|one| format!("{:?} {:?}", one.addresses, one.ports)).collect();
        assert_eq!(missing, ["[10.4.0.40] [PortRange { first: 443, last: 443 }]"]);
        let excess: Vec<String> = held[0]
            .excess
            .iter()
            .map(|one| {
                let lines: Vec<u32> =
                    one.rules.iter().map(|at| estate.export(at.export).line_of(at.start)).collect();
                format!("{:?} {} {lines:?}", one.addresses, one.ports[0])
            })
            .collect();
        assert_eq!(excess, ["[10.4.0.24-10.4.0.31] 443 [5]", "[10.4.0.99] 22 [6]"]);
        assert!(held[1].problem.as_ref().unwrap().contains("nothing is named nobody"));
    }
}
