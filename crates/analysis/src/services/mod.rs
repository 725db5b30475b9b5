//! Services of each device: as configured, as observed by its sockets, or both.
//!
//! Long because files and sockets are matched, service by service.

mod ports;

pub use ports::{Encrypted, KnownPort, PortKind, known_port, prepare};

pub use trevlin_packets::way::has_ports;

use crate::management::ManagementPort;
use serde::{Serialize, Serializer};
use std::collections::BTreeMap;
use std::fmt;
use std::net::IpAddr;
use std::sync::Arc;
use trevlin_estate::assemble::Estate;
use trevlin_model::container::Container;
use trevlin_model::dhcp::DhcpServer;
use trevlin_model::housekeeping::off_unit;
use trevlin_model::listen::PortMapper;
use trevlin_model::relay::Relay;
use trevlin_model::served::{Remark, Served, ServedKind};
use trevlin_model::ssh::{SshConnection, SshServer};
use trevlin_model::{Device, Families, Family, Listener, Origin, PortRange, Tunnel, TunnelFamily};
use trevlin_model::{IdleConfiguration, IdleProgram};

const TCP: u8 = 6;
const UDP: u8 = 17;
const GRE: u8 = 47;

/// Kind of a service, where its configuration states it.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum What {
    /// A SSH server, by its number.
    Shell(usize),
    /// A tunnel, by its number.
    Tunnel(usize),
    /// The management port of a tunnel, by the tunnel's number.
    TunnelManagement(usize),
    /// A RADIUS server.
    Radius,
    /// A DHCP server, by its number.
    Dhcp(usize),
    /// A service that opens ports on request, by its number.
    PortMapper(usize),
    /// A service with its files, by its number; sites of one server at one port are one, and this is the first of them.
    Served(usize, ServedKind),
    /// A relay without a service of its own, by its number.
    Relay(usize),
    /// Something of which only the socket is known.
    Socket,
    /// A published port of a container, by the container's number.
    Container(usize),
    /// A program that its unit does not start, by its number.
    Idle(usize),
}

/// How it is known.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Serialize)]
#[serde(rename_all = "lowercase")]
pub enum Known {
    /// In the configuration; no socket list was exported.
    Configured,
    /// A socket was seen; no file that was exported explains it.
    Observed,
    /// Both.
    Both,
    /// In the configuration, without a matching socket.
    Absent,
    /// In the configuration, with a disabled unit.
    Disabled,
}

/// Something that a device serves.
#[derive(Debug, Clone)]
pub struct Service {
    /// Name for people.
    pub name: String,
    /// Kind.
    pub what: What,
    /// Number of the transport protocol.
    pub protocol: u8,
    /// Address it is bound to; `None` for every one.
    pub address: Option<IpAddr>,
    /// IP versions.
    pub families: Families,
    /// Interface it is bound to, where it is.
    pub interface: Option<String>,
    /// Port; 0 for a protocol without.
    pub port: u16,
    /// How it is known.
    pub known: Known,
    /// The line of its configuration.
    pub configured: Option<Origin>,
    /// The line of its socket.
    pub observed: Option<Origin>,
    /// Services that its program offers at this address and port, by number among the device's services.
    pub sites: Arc<[usize]>,
    /// Whether all that it serves is the administration of the device.
    pub administers: bool,
}

impl Service {
    /// Entry of the port table for its port.
    #[must_use]
    pub fn port_known(&self) -> Option<&'static KnownPort> {
        known_port(self.protocol, self.port)
    }

    /// Purpose: by its configuration, otherwise by its port.
    #[must_use]
    pub fn kind(&self) -> PortKind {
        let by_port = || self.port_known().map_or(PortKind::Other, |known| known.kind);
        match self.what {
            What::Shell(_) => PortKind::Shell,
            What::Tunnel(_) => PortKind::Tunnel,
            What::TunnelManagement(_) => PortKind::Management,
            What::Radius => PortKind::Login,
            What::Dhcp(_) => PortKind::Addresses,
            What::PortMapper(_) => PortKind::Mapping,
            What::Served(..) if self.administers => PortKind::Management,
            What::Served(_, kind) => match kind {
                ServedKind::Shares
                | ServedKind::Exports
                | ServedKind::Modules
                | ServedKind::Transfers
                | ServedKind::Disks => PortKind::Files,
                ServedKind::Monitoring => PortKind::Management,
                ServedKind::Pages | ServedKind::Relays => match self.port_known().map(|known| known.kind) {
                    // A relay is what it hands on to, and pages of some ports are those of a device.
                    Some(kind) if kind != PortKind::Web => kind,
                    _ => PortKind::Web,
                },
                ServedKind::Databases | ServedKind::Cache => PortKind::Database,
                ServedKind::Broker => PortKind::Messages,
                ServedKind::Names => PortKind::Names,
                ServedKind::Time => PortKind::Time,
                ServedKind::Logs => PortKind::Monitoring,
                ServedKind::RemoteDesktop => PortKind::Desktop,
                ServedKind::Telnet => PortKind::Shell,
                ServedKind::Containers => PortKind::Management,
                ServedKind::Mail => PortKind::Mail,
                ServedKind::Directory => PortKind::Login,
                ServedKind::Proxies => PortKind::Web,
                ServedKind::Agents => PortKind::Monitoring,
                ServedKind::Other => by_port(),
            },
            What::Relay(_) => PortKind::Tunnel,
            What::Socket | What::Container(_) | What::Idle(_) => by_port(),
        }
    }

    /// Whether only the device itself reaches it.
    #[must_use]
    pub fn is_local(&self) -> bool {
        self.address.is_some_and(|address| address.is_loopback()) || self.interface.as_deref() == Some("lo")
    }

    /// Whether a packet to this address of the device comes to it.
    #[must_use]
    pub fn answers_at(&self, address: IpAddr) -> bool {
        self.address.map_or_else(|| self.families.has(Family::of(address)), |own| own == address)
    }

    /// The line to cite first: its configuration, otherwise its socket.
    #[must_use]
    pub fn origin(&self) -> Option<Origin> {
        self.configured.or(self.observed)
    }

    /// Lines that state it.
    #[must_use]
    pub fn origins(&self) -> Vec<Origin> {
        self.configured.into_iter().chain(self.observed).collect()
    }

    /// `tcp 443`, or the name of a protocol without ports.
    #[must_use]
    pub fn endpoint(&self) -> String {
        endpoint(self.protocol, PortRange { first: self.port, last: self.port })
    }
}

/// A protocol with ports; one without has none.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub struct ProtocolPorts {
    /// Number of the protocol.
    pub protocol: u8,
    /// Ports.
    pub ports: PortRange,
}

impl ProtocolPorts {
    /// Whether it is every port of the protocol.
    #[must_use]
    pub fn is_every_port(self) -> bool {
        trevlin_packets::way::has_ports(self.protocol) && (self.ports.first, self.ports.last) == (0, u16::MAX)
    }

    /// The protocol's name.
    #[must_use]
    pub fn protocol_name(self) -> String {
        trevlin_model::Protocol(Some(self.protocol)).name()
    }
}

impl fmt::Display for ProtocolPorts {
    fn fmt(&self, out: &mut fmt::Formatter<'_>) -> fmt::Result {
        out.write_str(&endpoint(self.protocol, self.ports))
    }
}

impl Serialize for ProtocolPorts {
    fn serialize<S: Serializer>(&self, out: S) -> Result<S::Ok, S::Error> {
        out.collect_str(self)
    }
}

/// A protocol with ports, in words.
#[must_use]
pub fn endpoint(protocol: u8, ports: PortRange) -> String {
    let name = trevlin_model::Protocol(Some(protocol)).name();
    if trevlin_packets::way::has_ports(protocol) { format!("{name} {ports}") } else { name }
}

/// The line that shows that a service is disabled: none of its units is enabled, and one is known not to be.
pub fn switched_off(device: &Device, served: &Served) -> Option<Origin> {
    switched_off_units(device, |name| served.units.contains(&name))
}

/// The line that shows that none of the units with a name is enabled, and one is known not to be.
pub fn switched_off_units(device: &Device, of_it: impl Fn(&str) -> bool) -> Option<Origin> {
    off_unit(&device.facts.units, of_it).map(|unit| unit.origin)
}

/// Whether hosts other than the device may reach a service: it is not disabled, and not limited to the device.
#[must_use]
pub fn is_met(device: &Device, served: &Served) -> bool {
    !served.is_local() && switched_off(device, served).is_none()
}

/// Services of a device, in order of protocol and port.
#[must_use]
pub fn services(estate: &Estate, at: usize) -> Vec<Service> {
    let device = &estate.devices[at];
    let mut all = Vec::new();
    for (number, server) in device.facts.ssh_servers.iter().enumerate() {
        all.extend(shell(What::Shell(number), server));
    }
    for (number, tunnel) in device.facts.tunnels.iter().enumerate().filter(|(_, one)| one.refused.is_none()) {
        all.extend(of_tunnel(number, tunnel));
    }
    if let Some(site) = device.facts.radius_sites.first() {
        all.extend(of_radius(What::Radius, site.origin));
    }
    for (number, server) in device.facts.dhcp_servers.iter().enumerate() {
        all.extend(of_dhcp(What::Dhcp(number), server));
    }
    for (number, mapper) in device.facts.port_mappers.iter().enumerate() {
        all.extend(of_mapper(What::PortMapper(number), mapper));
    }
    for (number, idle) in device.facts.idle_programs.iter().enumerate() {
        all.extend(of_idle(What::Idle(number), idle));
    }
    all.extend(of_files(device));
    for (number, container) in device.facts.containers.iter().enumerate() {
        all.extend(of_container(device, number, container));
    }
    let relays = of_relays(device, &all);
    all.extend(relays);
    observe(device, &mut all);
    all.sort_by(|a, b| {
        (a.protocol, a.port, a.address, &a.name).cmp(&(b.protocol, b.port, b.address, &b.name))
    });
    all
}

fn configured(name: &str, what: What, protocol: u8, origin: Origin) -> Service {
    Service {
        name: name.to_owned(),
        what,
        protocol,
        address: None,
        families: Families::Both,
        interface: None,
        port: 0,
        known: Known::Configured,
        configured: Some(origin),
        observed: None,
        sites: Arc::default(),
        administers: false,
    }
}

/// All sites that the program of a configured service offers at the same address and port.
#[must_use]
pub fn sites_at<'a>(device: &'a Device, service: &Service) -> Vec<&'a Served> {
    service.sites.iter().map(|number| &device.facts.served[*number]).collect()
}

/// Whether a service only redirects to HTTPS: every site at its address and port redirects all requests.
#[must_use]
pub fn only_redirects(device: &Device, service: &Service) -> bool {
    let redirects = |one: &&Served| {
        one.parts.iter().any(|part| part.remark(Remark::Redirect).is_some() && part.name == "/")
    };
    let sites = sites_at(device, service);
    !sites.is_empty() && sites.iter().all(redirects)
}

/// Whether the units of a relay are disabled.
pub(crate) fn is_off(device: &Device, relay: &Relay) -> bool {
    switched_off_units(device, |name| relay.units.iter().any(|unit| unit == name)).is_some()
}

/// Places of relays where no other service listens.
fn of_relays(device: &Device, all: &[Service]) -> Vec<Service> {
    let mut found: Vec<Service> = Vec::new();
    for (number, relay) in device.facts.relays.iter().enumerate() {
        let off = is_off(device, relay);
        for place in &relay.endpoints {
            let protocol = place.protocol.0.unwrap_or(TCP);
            let same = |one: &Service| {
                (one.protocol, one.port, one.address) == (protocol, place.port, place.address)
            };
            if all.iter().chain(&found).any(same) {
                continue;
            }
            let one = configured(&relay.name, What::Relay(number), protocol, place.origin);
            found.push(Service {
                address: place.address,
                families: place.families,
                interface: place.interface.clone(),
                port: place.port,
                known: if off { Known::Disabled } else { Known::Configured },
                ..one
            });
        }
    }
    found
}

/// Published ports of a container where a socket of the engine takes them: all where it sets no rules; otherwise those of IPv6, which a rule
/// for a container without an address of that version does not translate (dockerd(8), --userland-proxy).
fn of_container(device: &Device, number: usize, container: &Container) -> Vec<Service> {
    const MOST: u16 = 64;
    let by_rules = container.is_published_by_rules(&device.facts.engines);
    let has = |family: Family| container.addresses.iter().any(|address| Family::of(*address) == family);
    let families = match (by_rules, has(Family::V6)) {
        (true, true) => return Vec::new(),
        (true, false) => Families::V6,
        (false, _) => Families::Both,
    };
    let published = container.published.iter().filter(|port| {
        let own = port.address.map(|address| Families::from(Family::of(address)));
        own.is_none_or(|own| families == Families::Both || own == families)
    });
    let each = published.flat_map(|port| {
        let last = port.ports.last.min(port.ports.first.saturating_add(MOST));
        (port.ports.first..=last).map(move |outer| (port, outer))
    });
    each.map(|(port, outer)| {
        let protocol = port.protocol.0.unwrap_or(TCP);
        let inner = port.inner.saturating_add(outer - port.ports.first);
        let name = match known_port(protocol, inner) {
            Some(known) => format!("{} (container {})", known.name, container.title()),
            None => format!("container {}", container.title()),
        };
        let one = configured(&name, What::Container(number), protocol, port.origin);
        Service { address: port.address, families, port: outer, ..one }
    })
    .collect()
}

/// Services by their files. Sites of one server at one port are one service.
fn of_files(device: &Device) -> Vec<Service> {
    let mut at_place: BTreeMap<(&str, u16, Option<IpAddr>), Vec<usize>> = BTreeMap::new();
    for (number, served) in device.facts.served.iter().enumerate() {
        for place in &served.endpoints {
            let numbers = at_place.entry((served.program, place.port, place.address)).or_default();
            if numbers.last() != Some(&number) {
                numbers.push(number);
            }
        }
    }
    let at_place: BTreeMap<_, Arc<[usize]>> =
        at_place.into_iter().map(|(place, numbers)| (place, Arc::from(numbers))).collect();
    let administer = |numbers: &[usize]| {
        let mut parts = numbers
            .iter()
            .flat_map(|number| &device.facts.served[*number].parts)
            .filter(|part| {
                part.remark(Remark::Redirect).is_none() || part.remark(Remark::Administration).is_some()
            })
            .peekable();
        parts.peek().is_some() && parts.all(|part| part.remark(Remark::Administration).is_some())
    };
    let administers: BTreeMap<_, bool> =
        at_place.iter().map(|(place, numbers)| (*place, administer(numbers))).collect();
    let mut all: Vec<(Service, &'static str, usize)> = Vec::new();
    let mut known: BTreeMap<_, usize> = BTreeMap::new();
    for (number, served) in device.facts.served.iter().enumerate().filter(|(_, one)| one.refused.is_none()) {
        let off = switched_off(device, served).is_some();
        for place in &served.endpoints {
            let protocol = place.protocol.0.unwrap_or(TCP);
            let one = configured(&served.name, What::Served(number, served.kind), protocol, place.origin);
            let service = Service {
                address: place.address,
                families: place.families,
                interface: place.interface.clone(),
                port: place.port,
                known: if off { Known::Disabled } else { Known::Configured },
                sites: Arc::clone(&at_place[&(served.program, place.port, place.address)]),
                administers: administers[&(served.program, place.port, place.address)],
                ..one
            };
            let key = (served.program, service.protocol, service.address, &place.interface, service.port);
            match known.get(&key).map(|at| &mut all[*at]) {
                Some((known, _, count)) => {
                    if known.families != service.families {
                        known.families = Families::Both;
                    }
                    *count += usize::from(known.what != service.what);
                }
                None => {
                    known.insert(key, all.len());
                    all.push((service, served.program, 0));
                }
            }
        }
    }
    let named = |(mut service, program, more): (Service, &str, usize)| {
        if more > 0 {
            let noun = match service.what {
                What::Served(_, kind) => kind.plural(),
                _ => "services",
            };
            service.name = format!("{} {noun} ({program})", more + 1);
        }
        service
    };
    all.into_iter().map(named).collect()
}

/// Where a RADIUS server listens (RFC 2865, 3; RFC 2866, 3).
fn of_radius(what: What, origin: Origin) -> Vec<Service> {
    [1812, 1813].map(|port| Service { port, ..configured("RADIUS server", what, UDP, origin) }).into()
}

fn of_dhcp(what: What, server: &DhcpServer) -> Vec<Service> {
    let service = Service {
        port: 67,
        families: Family::V4.into(),
        ..configured(&server.name, what, UDP, server.origin)
    };
    if server.interfaces.is_empty() {
        return vec![service];
    }
    let at = |name: &String| Service { interface: Some(name.clone()), ..service.clone() };
    server.interfaces.iter().map(at).collect()
}

fn of_mapper(what: What, mapper: &PortMapper) -> Vec<Service> {
    let service =
        |port| Service { port, ..configured("UPnP/NAT-PMP port mapping", what, UDP, mapper.origin) };
    let upnp = mapper.upnp.then(|| service(1900));
    let nat_pmp = mapper.nat_pmp.then(|| service(5351));
    let page = mapper.port.map(|(port, _)| Service { protocol: TCP, ..service(port) });
    upnp.into_iter().chain(nat_pmp).chain(page).collect()
}

/// Where a program that is not started would listen.
fn of_idle(what: What, idle: &IdleProgram) -> Vec<Service> {
    let mut all = match &idle.configured {
        IdleConfiguration::Ssh(server) => shell(what, server),
        IdleConfiguration::Dhcp(server) => of_dhcp(what, server),
        IdleConfiguration::Radius(origin) => of_radius(what, *origin),
        IdleConfiguration::PortMapper(mapper) => of_mapper(what, mapper),
        IdleConfiguration::DynamicName(_)
        | IdleConfiguration::Log(_)
        | IdleConfiguration::Clock(_)
        | IdleConfiguration::Radio(_) => Vec::new(),
    };
    all.iter_mut().for_each(|one| one.known = Known::Disabled);
    all
}

/// Where a SSH server listens (sshd_config(5), ListenAddress, Port, AddressFamily).
fn shell(what: What, server: &SshServer) -> Vec<Service> {
    if server.refused.is_some() {
        return Vec::new();
    }
    let everybody = SshConnection::default();
    let values = |keyword: &str| -> Vec<(String, Option<Origin>)> {
        let setting = server.effective(keyword, &everybody);
        let origin = setting.origin();
        setting.possible().next().into_iter().flatten().map(|one| (one.clone(), origin)).collect()
    };
    let families = match values("addressfamily").first().map(|(word, _)| word.as_str()) {
        Some("inet") => Families::V4,
        Some("inet6") => Families::V6,
        _ => Families::Both,
    };
    let mut ports: Vec<(u16, Option<Origin>)> =
        values("port").into_iter().filter_map(|(port, origin)| Some((port.parse().ok()?, origin))).collect();
    if ports.is_empty() {
        ports.push((22, None));
    }
    let base = |port: u16, origin: Option<Origin>| Service {
        port,
        families,
        ..configured("SSH", what, TCP, origin.unwrap_or(server.origin))
    };
    let mut all = Vec::new();
    for (text, origin) in values("listenaddress") {
        let (host, port) = address_and_port(&text);
        let Ok(address) = host.parse::<IpAddr>() else { continue };
        let families = if address.is_unspecified() { Family::of(address).into() } else { families };
        let address = (!address.is_unspecified()).then_some(address);
        let stated: Vec<u16> =
            port.map_or_else(|| ports.iter().map(|(port, _)| *port).collect(), |port| vec![port]);
        all.extend(stated.into_iter().map(|port| Service { address, families, ..base(port, origin) }));
    }
    if all.is_empty() {
        all.extend(ports.into_iter().map(|(port, origin)| base(port, origin)));
    }
    all
}

/// `address`, `address:port` or `[address]:port`.
fn address_and_port(text: &str) -> (&str, Option<u16>) {
    if let Some((host, port)) = text.strip_prefix('[').and_then(|rest| rest.split_once(']')) {
        return (host, port.strip_prefix(':').and_then(|port| port.parse().ok()));
    }
    match text.rsplit_once(':') {
        Some((host, port)) if !host.contains(':') => (host, port.parse().ok()),
        _ => (text, None),
    }
}

fn of_tunnel(number: usize, tunnel: &Tunnel) -> Vec<Service> {
    let mut all = Vec::new();
    let bound = |listener: &Listener| {
        let address = listener.address.value().copied().flatten();
        // An address of no digits stands for every one of its version.
        match address {
            Some(any) if any.is_unspecified() => (None, Family::of(any).into()),
            other => (other, Families::Both),
        }
    };
    for listener in &tunnel.listeners {
        let (address, families) = bound(listener);
        let origin = listener.port.origin().or(listener.address.origin()).unwrap_or(tunnel.origin);
        let Some(port) = listener.port.possible().next().copied() else { continue };
        let protocol = listener.protocol.0.unwrap_or(UDP);
        let one = configured(&tunnel.name, What::Tunnel(number), protocol, origin);
        all.push(Service { address, families, port, ..one });
        // The calls themselves come in packets of their own protocol (RFC 2637, 4).
        if tunnel.family == TunnelFamily::Pptp {
            let one = configured(&tunnel.name, What::Tunnel(number), GRE, origin);
            all.push(Service { address, families, ..one });
        }
    }
    if let Some(port) = ManagementPort::of(tunnel).filter(|port| !port.is_socket())
        && let Ok(number_of) = port.port.parse()
    {
        let local = port.is_local() == Some(true);
        let address = local.then(|| IpAddr::from([127, 0, 0, 1])).or_else(|| port.address());
        let name = format!("management interface of {}", tunnel.name);
        let one = configured(&name, What::TunnelManagement(number), TCP, port.origin);
        all.push(Service { address, port: number_of, ..one });
    }
    all
}

/// Compares the configuration with the observed sockets.
fn observe(device: &Device, all: &mut Vec<Service>) {
    if !device.facts.has_sockets {
        return;
    }
    let mut explained = vec![false; device.facts.sockets.len()];
    for service in all.iter_mut() {
        // Protocols without ports have no socket.
        if service.protocol == GRE {
            continue;
        }
        let wanted = service.clone();
        let fits = |socket: &trevlin_model::listen::Socket| {
            let service = &wanted;
            socket.protocol.0 == Some(service.protocol)
                && socket.port == service.port
                && (service.address.is_none()
                    || socket.address.is_none()
                    || service.address == socket.address)
                && (socket.families.each().any(|family| service.families.has(family)))
                && bound_alike(device, service, socket)
        };
        // The absence of a socket of the kernel shows nothing.
        if service.known != Known::Disabled && !in_kernel(device, service) {
            service.known = Known::Absent;
        }
        for (number, socket) in device.facts.sockets.iter().enumerate().filter(|(_, socket)| fits(socket)) {
            explained[number] = true;
            service.known = Known::Both;
            service.observed = service.observed.or(Some(socket.origin));
        }
    }
    for (socket, _) in device.facts.sockets.iter().zip(&explained).filter(|(_, explained)| !**explained) {
        let protocol = socket.protocol.0.unwrap_or(TCP);
        let known = known_port(protocol, socket.port).map(|known| known.name.clone());
        let name = match (&socket.program, known) {
            (Some(program), Some(known)) if known.eq_ignore_ascii_case(program) => known,
            (Some(program), Some(known)) => format!("{known} ({program})"),
            (Some(program), None) => program.clone(),
            (None, Some(known)) => known,
            (None, None) => "unknown service".to_owned(),
        };
        all.push(Service {
            name,
            what: What::Socket,
            protocol,
            address: socket.address,
            families: socket.families,
            interface: socket.interface.clone(),
            port: socket.port,
            known: Known::Observed,
            configured: None,
            observed: Some(socket.origin),
            sites: Arc::default(),
            administers: false,
        });
    }
}

/// Whether a socket may belong to a service that is bound to an interface: it is bound to the interface as well, or to one of its
/// addresses. DHCP and DNS daemons listen on all interfaces and ignore requests from others (dnsmasq(8), --interface).
fn bound_alike(device: &Device, service: &Service, socket: &trevlin_model::listen::Socket) -> bool {
    let Some(name) = service.interface.as_ref() else { return true };
    let drops = matches!(service.what, What::Dhcp(_) | What::Served(_, ServedKind::Names));
    let own = device.facts.interfaces.iter().filter(|one| one.name == *name).flat_map(|one| &one.addresses);
    drops
        || socket.interface.as_ref() == Some(name)
        || socket.address.is_some_and(|address| own.map(|one| one.net.addr()).any(|one| one == address))
}

/// Whether packets of a service are taken by the kernel, where `ss` may show no socket: WireGuard's and L2TP's.
fn in_kernel(device: &Device, service: &Service) -> bool {
    match service.what {
        What::Tunnel(number) => {
            matches!(device.facts.tunnels[number].family, TunnelFamily::WireGuard | TunnelFamily::L2tp)
        }
        _ => false,
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::testing::estate;

    fn told(files: &[(&str, &str)]) -> Vec<String> {
        let all = services(&estate(files), 0);
        let line = |one: Service| {
            let address = one.address.map_or(format!("any {}", one.families), |address| address.to_string());
            let interface = one.interface.map(|name| format!("%{name}")).unwrap_or_default();
            format!("{} {address}{interface} {} {:?}", one.protocol, one.port, one.known)
        };
        all.into_iter().map(line).collect()
    }

    #[test]
    fn sockets_of_the_kernel_belong_to_its_tunnels() {
        let tunnel = (
            "d/etc/wireguard/wg0.conf",
            "[Interface]\nAddress = 10.4.3.1/24\nListenPort = 51820\n[Peer]\nAllowedIPs = 10.4.3.2/32\n",
        );
        let shown =
            ("d/ss.txt", "udp UNCONN 0 0 0.0.0.0:51820 0.0.0.0:*\nudp UNCONN 0 0 [::]:51820 [::]:*\n");
        let others = ("d/ss.txt", "udp UNCONN 0 0 127.0.0.1:53 0.0.0.0:* users:((\"x\",pid=1,fd=3))\n");
        for (files, wanted) in [
            (&[tunnel, shown][..], &["17 any IPv4 and IPv6 51820 Both"][..]),
            (&[tunnel, others], &["17 127.0.0.1 53 Observed", "17 any IPv4 and IPv6 51820 Configured"]),
        ] {
            assert_eq!(told(files), wanted);
        }
    }

    #[test]
    fn configured_observed_and_both() {
        const SHELL: (&str, &str) = ("d/etc/ssh/sshd_config", "Port 22\nListenAddress 10.4.0.9\n");
        const SEEN: &str = "tcp LISTEN 0 9 10.4.0.9:22 0.0.0.0:*\ntcp LISTEN 0 9 *:80 *:* users:((\"httpd\",pid=1,fd=4))\n\
                            udp UNCONN 0 0 127.0.0.1:323 0.0.0.0:*\n";
        for (files, wanted) in [
            (&[SHELL][..], &["6 10.4.0.9 22 Configured"][..]),
            (
                &[SHELL, ("d/ss.txt", SEEN)],
                &["6 10.4.0.9 22 Both", "6 any IPv4 and IPv6 80 Observed", "17 127.0.0.1 323 Observed"],
            ),
            (
                &[SHELL, ("d/ss.txt", "tcp LISTEN 0 9 127.0.0.1:22 0.0.0.0:*\n")],
                &["6 10.4.0.9 22 Absent", "6 127.0.0.1 22 Observed"],
            ),
            (
                &[("d/etc/ssh/sshd_config", "Port 2222\nPort 22\nAddressFamily inet\n")],
                &["6 any IPv4 22 Configured", "6 any IPv4 2222 Configured"],
            ),
            (
                &[("d/etc/ssh/sshd_config", "ListenAddress [2001:db8::9]:2022\nListenAddress 0.0.0.0\n")],
                &["6 any IPv4 22 Configured", "6 2001:db8::9 2022 Configured"],
            ),
            (
                &[("d/etc/pptpd.conf", "remoteip 10.4.0.10-20\nlisten 192.0.2.9\n")],
                &["6 192.0.2.9 1723 Configured", "47 192.0.2.9 0 Configured"],
            ),
            (
                &[("d/etc/miniupnpd/miniupnpd.conf", "listening_ip=eth1\nenable_natpmp=yes\nport=5000\n")],
                &[
                    "6 any IPv4 and IPv6 5000 Configured",
                    "17 any IPv4 and IPv6 1900 Configured",
                    "17 any IPv4 and IPv6 5351 Configured",
                ],
            ),
        ] {
            assert_eq!(told(files), wanted);
        }
    }
}
