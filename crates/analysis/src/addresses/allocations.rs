//! Gathers every claim on addresses from the facts.

use crate::addresses::meaning::is_host_local;
use serde::Serialize;
use std::collections::BTreeMap;
use trevlin_estate::assemble::Estate;
use trevlin_estate::special::is_link_local;
use trevlin_model::{
    AllowedAddresses, Device, ExportState, Hook, Interface, IpRange, Origin, Pool, Target, TranslationKind,
};

/// Kind of allocation.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Serialize)]
#[serde(rename_all = "kebab-case")]
pub enum AllocationKind {
    /// The network of an interface, with the hosts that live there.
    Network,
    /// The network of a tunnel's or dial-up link's own interface.
    Link,
    /// The device's own address on an internal interface.
    Address,
    /// The device's own address on an interface that faces an untrusted network, or one on which it accepts port forwards.
    OutsideAddress,
    /// A route to another network.
    Route,
    /// A network behind the other end of a tunnel.
    Remote,
    /// The network reserved for a tunnel's clients.
    PoolNetwork,
    /// Dynamic addresses of a tunnel's clients.
    Pool,
    /// A range that a DHCP server assigns.
    DhcpRange,
    /// An address a DHCP server keeps for one client.
    Reservation,
    /// An address reserved for one client of a tunnel.
    FixedAddress,
    /// Addresses that others are translated to.
    Translation,
    /// A name server.
    NameServer,
}

impl AllocationKind {
    /// How many kinds there are.
    pub const COUNT: usize = 13;

    /// How outputs call it.
    #[must_use]
    pub fn words(self) -> &'static str {
        match self {
            Self::Network => "network",
            Self::Link => "tunnel link",
            Self::Address => "interface",
            Self::OutsideAddress => "public address",
            Self::Route => "route",
            Self::Remote => "remote network",
            Self::PoolNetwork => "pool network",
            Self::Pool => "pool",
            Self::DhcpRange => "DHCP range",
            Self::Reservation => "reservation",
            Self::FixedAddress => "fixed address",
            Self::Translation => "NAT address",
            Self::NameServer => "DNS server",
        }
    }
}

/// One claim on addresses.
#[derive(Debug, Clone)]
pub struct Allocation {
    /// The addresses.
    pub range: IpRange,
    /// Kind.
    pub kind: AllocationKind,
    /// Device, by its number in the estate.
    pub device: usize,
    /// The owner, as a phrase ("eth0", "OpenVPN server (desks.conf)").
    pub owner: String,
    /// Whose an address is that is kept for one.
    pub who: Option<String>,
    /// Number of the pool or the DHCP server that states it.
    pub holder: Option<usize>,
    /// Number of the first of those that assign together with it; allocations of one group are not compared.
    pub group: Option<usize>,
    /// Whether it was obtained by DHCP, so that a DHCP server has a lease for it.
    pub dynamic: bool,
    /// Whether its network is internal to one host.
    pub host_local: bool,
    /// Where it is stated.
    pub origin: Origin,
}

/// A pool or a DHCP server, with what hands it out.
#[derive(Debug, Clone)]
pub struct PoolOwner {
    /// Device, by its number in the estate.
    pub device: usize,
    /// Name within the device.
    pub name: String,
    /// The pool; `None` for a DHCP server.
    pub pool: Option<Pool>,
    /// Whether an address reserved for one client is excluded from dynamic assignment.
    pub keeps_reserved: bool,
    /// Whether the server excludes its own address from the range.
    pub keeps_own: bool,
    /// Whether a partner assigns the same range by arrangement (failover).
    pub partner: bool,
}

/// What makes two pools of an appliance the same, where it is not stated that they are, or are not.
#[must_use]
pub fn shown_alike(device: &Device, pool: &Pool) -> Option<Vec<IpRange>> {
    device.facts.described?;
    let ranges: Vec<IpRange> = pool.ranges.iter().map(|(range, _)| *range).collect();
    (pool.leases.is_none() && !ranges.is_empty()).then_some(ranges)
}

/// Every claim, in order of device, and the pools that they name.
pub(super) fn of(estate: &Estate) -> (Vec<Allocation>, Vec<PoolOwner>) {
    let mut gathered = Gathered { device: 0, allocations: Vec::new(), pools: Vec::new() };
    for (at, device) in estate.devices.iter().enumerate() {
        gathered.device = at;
        gathered.interfaces(estate, device);
        gathered.routes(device);
        gathered.translations(device);
        gathered.tunnels(device);
        gathered.dhcp(device);
        gathered.clients(device);
        for (server, origin) in &device.facts.name_servers {
            gathered.name_server(*server, "its own resolver", *origin);
        }
    }
    gathered.allocations.shrink_to_fit();
    (gathered.allocations, gathered.pools)
}

struct Gathered {
    device: usize,
    allocations: Vec<Allocation>,
    pools: Vec<PoolOwner>,
}

/// Whether an interface is a tunnel end by its name, where no dump of the running state shows it.
pub(super) fn is_tunnel_name(name: &str) -> bool {
    ["tun", "wg", "ppp"].iter().any(|kind| {
        name.strip_prefix(kind).is_some_and(|rest| rest.starts_with(|next: char| next.is_ascii_digit()))
    })
}

impl Gathered {
    fn allocation(
        &mut self,
        kind: AllocationKind,
        range: IpRange,
        owner: &str,
        origin: Origin,
    ) -> &mut Allocation {
        let owner = owner.to_owned();
        let at = self.allocations.len();
        let device = self.device;
        self.allocations.push(Allocation {
            range,
            kind,
            device,
            owner,
            who: None,
            holder: None,
            group: None,
            dynamic: false,
            host_local: false,
            origin,
        });
        &mut self.allocations[at]
    }

    fn name_server(&mut self, server: IpRange, owner: &str, origin: Origin) {
        // The local resolver has a loopback address.
        if !server.first().is_loopback() {
            self.allocation(AllocationKind::NameServer, server, owner, origin);
        }
    }

    fn interfaces(&mut self, estate: &Estate, device: &Device) {
        let at = self.device;
        let outside = |interface: &Interface| {
            estate.outside(at).iter().any(|one| one.certain && one.name == interface.name)
        };
        for interface in device.facts.interfaces.iter().filter(|one| !one.loopback && one.up != Some(false)) {
            let own =
                if outside(interface) { AllocationKind::OutsideAddress } else { AllocationKind::Address };
            let link = interface.point_to_point || is_tunnel_name(&interface.name);
            for address in &interface.addresses {
                let ip = address.net.addr();
                if is_link_local(ip) || ip.is_loopback() {
                    continue;
                }
                let kind = if link { AllocationKind::Link } else { AllocationKind::Network };
                if address.net.prefix_len() < address.net.max_prefix_len() {
                    self.allocation(kind, address.net.trunc().into(), &interface.name, address.origin);
                }
                // The address of a tunnel's own end is the tunnel's affair.
                if !link {
                    self.allocation(own, ip.into(), &interface.name, address.origin).dynamic =
                        address.dynamic;
                }
            }
        }
    }

    fn routes(&mut self, device: &Device) {
        for route in &device.facts.routes {
            // Connected networks are claims already; the default route claims nothing.
            if !route.forwards || route.gateway.is_none() || route.destination.prefix_len() == 0 {
                continue;
            }
            let owner =
                format!("by {}", route.gateway.map(|gateway| gateway.to_string()).unwrap_or_default());
            self.allocation(AllocationKind::Route, route.destination.into(), &owner, route.origin);
        }
    }

    fn translations(&mut self, device: &Device) {
        let runs = device.facts.filters.iter().any(|filter| filter.state == ExportState::Running);
        let of_interest = |state: ExportState| state == ExportState::Running || !runs;
        for filter in device.facts.filters.iter().filter(|filter| of_interest(filter.state)) {
            for (chain, rule) in
                filter.chains.iter().flat_map(|chain| chain.rules.iter().map(move |rule| (chain, rule)))
            {
                // A network map on the way in changes the destination of a packet, not its source.
                if let Target::Translate(how) = &rule.target
                    && (how.kind == TranslationKind::Source
                        || (how.kind == TranslationKind::NetworkMap && chain.hook == Some(Hook::Postrouting)))
                    && let Some(range) = how.addresses
                {
                    self.allocation(AllocationKind::Translation, range, "address translation", rule.origin);
                }
            }
        }
        for forward in device.facts.forwards.iter().filter(|forward| of_interest(forward.state)) {
            for range in &forward.arriving_at {
                self.allocation(AllocationKind::OutsideAddress, *range, "port forward", forward.origin);
            }
        }
    }

    fn tunnels(&mut self, device: &Device) {
        let mut stores: BTreeMap<&str, usize> = BTreeMap::new();
        let mut alike: BTreeMap<Vec<IpRange>, usize> = BTreeMap::new();
        for (name, plan) in device.facts.plans() {
            for pool in &plan.pools {
                let own = self.pools.len();
                // Pools with one store of leases are one.
                let store = pool.leases.as_deref().map(|leases| *stores.entry(leases).or_insert(own));
                // An appliance shows one pool at each of its services.
                let store = store.or_else(|| {
                    let ranges = shown_alike(device, pool)?;
                    Some(*alike.entry(ranges).or_insert(own))
                });
                let group = Some(store.unwrap_or(own));
                self.pools.push(PoolOwner {
                    device: self.device,
                    name: name.to_owned(),
                    pool: Some(pool.clone()),
                    keeps_reserved: false,
                    keeps_own: false,
                    partner: false,
                });
                if let Some(network) = pool.network {
                    let allocation =
                        self.allocation(AllocationKind::PoolNetwork, network.into(), name, pool.origin);
                    (allocation.holder, allocation.group) = (Some(own), group);
                }
                for (range, origin) in &pool.ranges {
                    let allocation = self.allocation(AllocationKind::Pool, *range, name, *origin);
                    (allocation.holder, allocation.group) = (Some(own), group);
                }
            }
            for (range, origin) in &plan.remote {
                if range.size() > 1 && *range != IpRange::all(range.family()) {
                    self.allocation(AllocationKind::Remote, *range, name, *origin);
                }
            }
            for (range, origin) in &plan.sent_through {
                // Everything is no claim on anything.
                if range.network().is_none_or(|net| net.prefix_len() > 3) {
                    let owner = format!("pushed to clients of {name}");
                    self.allocation(AllocationKind::Route, *range, &owner, *origin);
                }
            }
            for fixed in &plan.fixed {
                self.allocation(AllocationKind::FixedAddress, fixed.range, name, fixed.origin).who =
                    Some(fixed.who.clone());
            }
            for (server, origin) in &plan.name_servers {
                self.name_server(*server, name, *origin);
            }
        }
    }

    fn dhcp(&mut self, device: &Device) {
        let mut groups: BTreeMap<&str, usize> = BTreeMap::new();
        for server in &device.facts.dhcp_servers {
            // Files of one program on one device make one server.
            let next = self.pools.len();
            let at = *groups.entry(server.daemon).or_insert(next);
            if at == next {
                self.pools.push(PoolOwner {
                    device: self.device,
                    name: server.name.clone(),
                    pool: None,
                    keeps_reserved: server.keeps_reserved,
                    keeps_own: server.keeps_own,
                    partner: false,
                });
            }
            self.pools[at].partner |= server.partner.is_some();
            let group = Some(at);
            let host_local =
                !server.interfaces.is_empty() && server.interfaces.iter().all(|one| is_host_local(one));
            for subnet in &server.subnets {
                for (range, origin) in &subnet.ranges {
                    let allocation =
                        self.allocation(AllocationKind::DhcpRange, *range, &server.name, *origin);
                    (allocation.holder, allocation.group) = (group, group);
                    allocation.host_local = host_local;
                }
                for (name_server, origin) in &subnet.name_servers {
                    self.name_server(*name_server, &server.name, *origin);
                }
            }
            for one in &server.reservations {
                let allocation =
                    self.allocation(AllocationKind::Reservation, one.address, &server.name, one.origin);
                allocation.who = Some(one.who.clone());
                (allocation.holder, allocation.group) = (group, group);
                allocation.host_local = host_local;
            }
        }
    }

    /// Address columns and option files of pppd.
    fn clients(&mut self, device: &Device) {
        for credential in &device.facts.credentials {
            let AllowedAddresses::Listed(listed) = &credential.addresses else { continue };
            // A longer range is a limit, not an address that is kept.
            for (range, origin) in listed.iter().filter(|(range, _)| range.size() == 1) {
                let owner = credential.path.rsplit('/').next().unwrap_or(&credential.path);
                self.allocation(AllocationKind::FixedAddress, *range, owner, *origin).who =
                    Some(credential.client.clone());
            }
        }
        for entry in device.facts.radius_entries.iter().filter(|entry| !entry.rejects) {
            for (address, origin) in &entry.addresses {
                self.allocation(AllocationKind::FixedAddress, (*address).into(), "RADIUS users", *origin)
                    .who = Some(entry.user.clone());
            }
        }
        for profile in &device.facts.ppp_profiles {
            let owner = profile.path.rsplit('/').next().unwrap_or(&profile.path);
            for (server, origin) in &profile.name_servers {
                self.name_server(*server, owner, *origin);
            }
            if let Some((range, origin)) = profile.remote_address {
                self.allocation(AllocationKind::FixedAddress, range, owner, origin).who =
                    Some("remote end of the link".into());
            }
        }
    }
}
