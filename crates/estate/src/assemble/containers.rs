//! Containers of a device: those that run count where they are shown; ports that an engine publishes become the rules that it sets.
//!
//! An engine translates the destination of what arrives for a published port, and accepts it before the other rules for forwarded packets:
//! rules for the input of the host are not asked (docker-network-create(1); dockerd(8), `--iptables`; iptables(8)).

use std::collections::BTreeMap;
use std::net::{IpAddr, Ipv4Addr};
use trevlin_model::container::{Container, ContainerEngine, EngineKind, PublishedPort};
use trevlin_model::{
    AddressKind, CommandMoment, ExportState, Facts, Family, FilterChange, IpRange, Match, MatchKind, Origin,
    PortRange, Rule, TableChange, Target, Translation, TranslationKind,
};

/// Leaves the containers in force, and gives those that publish a port an address where the exports show none.
pub(super) fn settle(facts: &mut Facts) {
    let all = std::mem::take(&mut facts.containers);
    let runs = |one: &Container| one.state == ExportState::Running;
    // A list of what runs shows what of the files does.
    let any = all.iter().any(runs);
    let kept: Vec<Container> = all.into_iter().filter(|one| !any || runs(one)).collect();
    facts.containers = joined(kept);
    let remapped = facts.engines.iter().any(|engine| engine.remaps_users.value() == Some(&true));
    for container in facts.containers.iter_mut().filter(|one| one.engine == EngineKind::Docker) {
        container.remapped |= remapped;
        if let Some((address, _)) = facts.engines.iter().find_map(|engine| engine.default_address) {
            for port in container.published.iter_mut().filter(|port| port.address.is_none()) {
                port.address = Some(address);
            }
        }
    }
    address(&mut facts.containers, &facts.engines);
}

/// Containers of the same service in the file and in the one that is added to it: the latter's ports and rights come to those of the
/// first (compose-spec, 13-merge).
fn joined(containers: Vec<Container>) -> Vec<Container> {
    let mut found: Vec<Container> = Vec::with_capacity(containers.len());
    let mut known: BTreeMap<(Option<String>, String), usize> = BTreeMap::new();
    for one in containers {
        let key = (one.project.clone(), one.name.clone());
        match known.get(&key).map(|at| &mut found[*at]).filter(|_| one.state == ExportState::Stored) {
            Some(first) if first.state == ExportState::Stored => {
                let more = one.published.into_iter().filter(|port| {
                    !first.published.iter().any(|own| {
                        (own.protocol, own.ports, own.inner) == (port.protocol, port.ports, port.inner)
                    })
                });
                let more: Vec<_> = more.collect();
                first.published.extend(more);
                first.rights.extend(one.rights);
                first.image = one.image.or(first.image.take());
            }
            _ => {
                known.insert(key, found.len());
                found.push(one);
            }
        }
    }
    found
}

/// Gives containers without an address the first free ones of the engine's own networks: the one of the host is the first of each.
fn address(containers: &mut [Container], engines: &[ContainerEngine]) {
    let stated = engines.iter().flat_map(|engine| &engine.pools).find_map(|pool| match pool.network() {
        IpAddr::V4(first) => Some(u32::from(first)),
        IpAddr::V6(_) => None,
    });
    let mut networks: BTreeMap<Option<String>, (u32, u32)> = BTreeMap::new();
    for container in containers.iter_mut() {
        if container.published.is_empty()
            || !container.addresses.is_empty()
            || !container.is_published_by_rules(engines)
        {
            continue;
        }
        // Podman has one network for all; Docker one for each project, from 172.18.0.0/16 on (dockerd(8), default-address-pool).
        let key = container.project.clone().filter(|_| container.engine == EngineKind::Docker);
        let number = networks.len() as u32;
        let (network, used) = networks.entry(key).or_insert_with(|| {
            let first = match (container.engine, stated) {
                (EngineKind::Docker, Some(first)) => first,
                (EngineKind::Docker, None) => u32::from(Ipv4Addr::new(172, 18, 0, 0)),
                _ => u32::from(Ipv4Addr::new(10, 88, 0, 0)),
            };
            (first.saturating_add(number << 16), 1)
        });
        *used += 1;
        container.addresses.push(IpAddr::V4(Ipv4Addr::from(network.saturating_add(*used))));
    }
}

/// The changes that the engines make in the packet filter for the ports that they publish.
pub(super) fn changes(facts: &Facts) -> Vec<FilterChange> {
    let mut found = Vec::new();
    let mut docker = None;
    for container in facts.containers.iter().filter(|one| one.is_published_by_rules(&facts.engines)) {
        for port in &container.published {
            for address in &container.addresses {
                found.extend(published(port, *address));
                docker = docker.or((container.engine == EngineKind::Docker).then_some(port.origin));
            }
        }
    }
    // The administrator's own rules come before those of the engine, where the files of the device have their chain.
    let own = |family: Family| {
        facts.filters.iter().any(|filter| {
            filter.families.has(family) && filter.table == "filter" && filter.chain(ADMINISTRATORS).is_some()
        })
    };
    for family in [Family::V4, Family::V6] {
        if let Some(origin) = docker.filter(|_| own(family)) {
            let jump = rule(Vec::new(), Target::Jump(ADMINISTRATORS.into()), origin);
            found.push(change(
                family,
                "filter",
                TableChange::Insert { chain: "FORWARD".into(), place: 1, rule: jump },
                origin,
            ));
        }
    }
    found
}

/// The chain of Docker for rules of the administrator.
const ADMINISTRATORS: &str = "DOCKER-USER";

fn change(family: Family, table: &str, change: TableChange, origin: Origin) -> FilterChange {
    FilterChange {
        family,
        table: table.into(),
        moment: CommandMoment::Boot,
        change,
        sets: Vec::new(),
        origin,
    }
}

fn rule(matches: Vec<Match>, target: Target, origin: Origin) -> Rule {
    Rule { matches, target, logs: false, comment: None, packets: None, origin, looked_up_at: None }
}

fn holds(kind: MatchKind) -> Match {
    Match { negated: false, kind }
}

/// The translation of one port, and the rules that accept what it translates and what the container sends.
fn published(port: &PublishedPort, address: IpAddr) -> Vec<FilterChange> {
    let family = Family::of(address);
    if port.address.is_some_and(|own| Family::of(own) != family) {
        return Vec::new();
    }
    let origin = port.origin;
    let length = port.ports.last - port.ports.first;
    let inner = PortRange { first: port.inner, last: port.inner.saturating_add(length) };
    let arriving = match port.address {
        Some(own) => MatchKind::Destination(vec![IpRange::from(own)]),
        None => MatchKind::AddressIs { destination: true, kinds: vec![AddressKind::Local] },
    };
    let translation = Translation {
        addresses: Some(IpRange::from(address)),
        ports: Some(inner),
        shifted_from: (length > 0).then_some(port.ports.first),
        ..Translation::of(TranslationKind::Destination)
    };
    let ports = |range: PortRange| holds(MatchKind::DestinationPorts(vec![range]));
    let protocol = || holds(MatchKind::Protocol(port.protocol));
    let translates =
        rule(vec![protocol(), holds(arriving), ports(port.ports)], Target::Translate(translation), origin);
    let to = holds(MatchKind::Destination(vec![IpRange::from(address)]));
    let accepts = rule(vec![protocol(), to, ports(inner)], Target::Accept, origin);
    // What comes from its networks is accepted as well, answers among it.
    let from = holds(MatchKind::Source(vec![IpRange::from(address)]));
    let leaves = rule(vec![from], Target::Accept, origin);
    let first = |rule: Rule| TableChange::Insert { chain: "FORWARD".into(), place: 1, rule };
    vec![
        change(family, "nat", TableChange::Append { chain: "PREROUTING".into(), rule: translates }, origin),
        change(family, "filter", first(leaves), origin),
        change(family, "filter", first(accepts), origin),
    ]
}
