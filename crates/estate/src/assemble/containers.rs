//! Containers of a device: those that run count where they are shown; ports that an engine publishes become the rules that it sets.
//!
//! An engine translates the destination of what arrives for a published port, and accepts it before the other rules for forwarded packets:
//! rules for the input of the host are not asked (docker-network-create(1); dockerd(8), `--iptables`; iptables(8)).

use ipnet::{IpNet, Ipv4Net};
use std::collections::{BTreeMap, BTreeSet};
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
    // A list of what an engine runs shows what of its files does.
    let shown: BTreeSet<EngineKind> = all.iter().filter(|one| runs(one)).map(|one| one.engine).collect();
    let mut kept: Vec<Container> =
        all.into_iter().filter(|one| runs(one) || !shown.contains(&one.engine)).collect();
    // What adds to a file comes after it, whatever the order of exports.
    kept.sort_by_key(|one| one.adds);
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
///
/// Podman has one network for all; Docker one for each project, and one for the containers of none.
fn address(containers: &mut [Container], engines: &[ContainerEngine]) {
    let docker = engines.iter().find(|engine| engine.kind == EngineKind::Docker);
    let mut free = networks(docker);
    let bridge = docker.and_then(|engine| match engine.bridge {
        Some(IpNet::V4(stated)) => Some(stated.trunc()),
        _ => None,
    });
    let bridge = bridge.or_else(|| free.next());
    let podman = Ipv4Net::new(Ipv4Addr::new(10, 88, 0, 0), 16).ok();
    let mut networks: BTreeMap<(EngineKind, Option<String>), (Option<Ipv4Net>, u32)> = BTreeMap::new();
    for container in containers.iter_mut() {
        if container.published.is_empty()
            || !container.addresses.is_empty()
            || !container.is_published_by_rules(engines)
        {
            continue;
        }
        let project = container.project.clone().filter(|_| container.engine == EngineKind::Docker);
        let (network, used) = networks.entry((container.engine, project.clone())).or_insert_with(|| {
            let network = match (container.engine, project) {
                (EngineKind::Docker, Some(_)) => free.next(),
                (EngineKind::Docker, None) => bridge,
                _ => podman,
            };
            (network, 1)
        });
        *used += 1;
        let address = network.map(|network| u32::from(network.network()).saturating_add(*used));
        container.addresses.extend(address.map(|address| IpAddr::V4(Ipv4Addr::from(address))));
    }
}

/// The networks of IPv4 that Docker makes, in their order: each pool is used up before the next (dockerd(8), `--default-address-pool`;
/// without one 172.17.0.0 to 172.31.0.0 in networks of 16 bits, and 192.168.0.0/16 in those of 20).
fn networks(engine: Option<&ContainerEngine>) -> impl Iterator<Item = Ipv4Net> {
    let usual = || {
        let large = (17..32).map(|second| (Ipv4Addr::new(172, second, 0, 0), 16, 16));
        large.chain([(Ipv4Addr::new(192, 168, 0, 0), 16, 20)])
    };
    let stated = engine.map_or(&[][..], |engine| &engine.pools).iter().filter_map(|pool| match pool.base {
        IpNet::V4(base) => Some((base.network(), base.prefix_len(), pool.size)),
        IpNet::V6(_) => None,
    });
    let mut pools: Vec<(Ipv4Addr, u8, u8)> = stated.collect();
    if pools.is_empty() {
        pools.extend(usual());
    }
    pools.into_iter().flat_map(|(base, length, size)| {
        Ipv4Net::new(base, length).ok().and_then(|base| base.subnets(size).ok()).into_iter().flatten()
    })
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
    let comment = Some(Rule::OF_A_PROGRAM.to_owned());
    Rule { matches, target, logs: false, comment, packets: None, origin, looked_up_at: None }
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

#[cfg(test)]
mod tests {
    use super::*;
    use trevlin_model::ExportId;
    use trevlin_model::container::NetworkPool;
    use trevlin_model::{Protocol, Setting};

    const ORIGIN: Origin = Origin { export: ExportId(0), start: 0, end: 1 };

    fn engine(pools: &[(&str, u8)], bridge: Option<&str>) -> ContainerEngine {
        let stated = |value: bool| Setting::Stated { value, origin: ORIGIN };
        ContainerEngine {
            kind: EngineKind::Docker,
            sets_rules: stated(true),
            default_address: None,
            containers_meet: stated(true),
            remaps_users: stated(false),
            pools: pools
                .iter()
                .map(|(base, size)| NetworkPool { base: base.parse().unwrap(), size: *size })
                .collect(),
            bridge: bridge.map(|text| text.parse().unwrap()),
            plain_registries: Vec::new(),
            origin: ORIGIN,
        }
    }

    fn container(name: &str, project: Option<&str>, engine: EngineKind, port: u16) -> Container {
        Container {
            name: name.into(),
            project: project.map(str::to_owned),
            image: None,
            engine,
            state: ExportState::Stored,
            published: vec![PublishedPort {
                protocol: Protocol::TCP,
                address: None,
                ports: PortRange { first: port, last: port },
                inner: port,
                origin: ORIGIN,
            }],
            addresses: Vec::new(),
            rights: Vec::new(),
            user: None,
            remapped: false,
            adds: false,
            origin: ORIGIN,
        }
    }

    /// The networks that dockerd 20.10 gave to new networks with these settings.
    #[test]
    fn networks_come_from_the_pools_in_their_order() {
        for (pools, bridge, wanted) in [
            (&[][..], None, "172.17.0.2 172.18.0.2 172.19.0.2 172.20.0.2"),
            (
                &[("10.80.0.0/23", 24), ("10.90.0.0/16", 20)][..],
                None,
                "10.80.0.2 10.80.1.2 10.90.0.2 10.90.16.2",
            ),
            (
                &[("10.80.0.0/23", 24), ("10.90.0.0/16", 20)][..],
                Some("10.5.0.1/24"),
                "10.5.0.2 10.80.0.2 10.80.1.2 10.90.0.2",
            ),
            (
                &[("10.80.0.0/25", 26), ("fd00:1::/48", 64), ("172.30.0.0/16", 16)][..],
                None,
                "10.80.0.2 10.80.0.66 172.30.0.2 -",
            ),
        ] {
            let mut all = vec![container("single", None, EngineKind::Docker, 80)];
            all.extend(["a", "b", "c"].map(|name| container("web", Some(name), EngineKind::Docker, 81)));
            address(&mut all, &[engine(pools, bridge)]);
            let told = all.iter().map(|one| one.addresses.first().map_or("-".to_owned(), IpAddr::to_string));
            assert_eq!(told.collect::<Vec<_>>().join(" "), wanted, "{pools:?}");
        }
    }

    #[test]
    fn what_adds_to_a_file_comes_second() {
        let added = Container {
            adds: true,
            image: Some("web:test".into()),
            ..container("web", Some("tickets"), EngineKind::Docker, 8443)
        };
        let first = Container {
            image: Some("web:1".into()),
            ..container("web", Some("tickets"), EngineKind::Docker, 8080)
        };
        let mut facts = Facts { containers: vec![added, first], ..Facts::default() };
        settle(&mut facts);
        let [one] = &facts.containers[..] else { panic!("{:?}", facts.containers) };
        let ports: Vec<u16> = one.published.iter().map(|port| port.inner).collect();
        assert_eq!((one.image.as_deref(), ports), (Some("web:test"), vec![8080, 8443]));
    }

    #[test]
    fn what_an_engine_runs_says_nothing_of_another() {
        let runs =
            Container { state: ExportState::Running, ..container("web", None, EngineKind::Docker, 80) };
        let mut facts = Facts {
            containers: vec![
                container("old", Some("tickets"), EngineKind::Docker, 81),
                runs,
                container("desk", None, EngineKind::Podman, 82),
            ],
            ..Facts::default()
        };
        settle(&mut facts);
        let names: Vec<&str> = facts.containers.iter().map(|one| one.name.as_str()).collect();
        assert_eq!(names, ["web", "desk"]);
    }
}
