//! The package `network`: interfaces, their devices and addresses, routes, and the tunnels of WireGuard (OpenWrt, netifd).

use super::text::{self, Package, Said, Section};
use crate::addresses;
use crate::network::wireguard;
use crate::reader::Reader;
use crate::reader::{LineRecorder, ReadContext, Reading};
use ipnet::IpNet;
use std::collections::BTreeMap;
use std::net::IpAddr;
use std::sync::Arc;
use trevlin_model::plan::AddressPlan;
use trevlin_model::secret::SecretKind;
use trevlin_model::{
    Export, Interface, InterfaceAddress, IpRange, Origin, Pool, Route, Tunnel, TunnelFamily, TunnelRole,
};

/// Network data that other packages use.
#[derive(Debug, Default)]
pub(super) struct Networks {
    /// Those of the file that is read, which hold before those of the device's other files.
    own: ByName,
    elsewhere: Arc<Elsewhere>,
}

/// Devices and networks of interfaces, by name.
type ByName = BTreeMap<String, (Vec<String>, Vec<IpNet>)>;

/// Interfaces of all files of a device: computed once for each device.
#[derive(Debug, Default)]
struct Elsewhere(ByName);

/// Protocols whose device name consists of protocol and interface.
const NAMED_BY_PROTOCOL: [&str; 14] = [
    "pppoe", "pppoa", "ppp", "pptp", "l2tp", "3g", "6in4", "6to4", "6rd", "dslite", "map", "gre4", "gretap",
    "vti",
];

impl Networks {
    /// Devices and addresses of networks, which may be defined in a package of another file.
    pub(super) fn of(own: &[Package], around: &ReadContext<'_>, reader: &Reader) -> Self {
        let elsewhere = around.once(|| {
            let all = around.of_format(reader).map(|(one, _)| one);
            let with_some =
                all.filter(|one| !crate::copies::is_copy(one) && one.text().contains("interface"));
            Elsewhere(by_name(&with_some.flat_map(|one| text::parse(one).packages).collect::<Vec<_>>()))
        });
        Self { own: by_name(own), elsewhere }
    }

    /// Whether their definitions were not exported.
    pub(super) fn are_missing(&self) -> bool {
        self.own.is_empty() && self.elsewhere.0.is_empty()
    }

    fn get(&self, name: &str) -> Option<&(Vec<String>, Vec<IpNet>)> {
        self.own.get(name).or_else(|| self.elsewhere.0.get(name))
    }

    /// Devices of an interface; an alias has those of the interface that it names.
    pub(super) fn devices(&self, name: &str) -> Vec<String> {
        let mut found = self.get(name).map(|one| one.0.clone()).unwrap_or_default();
        for _ in 0..8 {
            let Some(alias) = found.iter().position(|device| device.starts_with('@')) else { break };
            let other = found.remove(alias);
            found.extend(self.get(&other[1..]).map(|one| one.0.clone()).unwrap_or_default());
        }
        found.retain(|device| !device.starts_with('@'));
        found
    }

    /// Networks of an interface.
    pub(super) fn subnets(&self, name: &str) -> Vec<IpRange> {
        let nets = self.get(name).map(|one| one.1.as_slice()).unwrap_or_default();
        nets.iter().map(|net| IpRange::from(net.trunc())).collect()
    }

    /// The interface's first network.
    pub(super) fn network(&self, name: &str) -> Option<IpNet> {
        self.get(name)?.1.iter().find(|net| net.addr().is_ipv4()).copied()
    }
}

fn by_name(packages: &[Package]) -> ByName {
    let mut found = ByName::new();
    for section in
        packages.iter().filter(|package| package.name == "network").flat_map(|one| one.of("interface"))
    {
        if let Some(name) = &section.name {
            let nets = addresses_of(section).into_iter().filter_map(|(net, _)| net).collect();
            found.insert(name.clone(), (devices(section), nets));
        }
    }
    found
}

fn devices(section: &Section) -> Vec<String> {
    let (Some(name), protocol) = (&section.name, section.text("proto").unwrap_or("none")) else {
        return Vec::new();
    };
    if NAMED_BY_PROTOCOL.contains(&protocol) {
        return vec![format!("{protocol}-{name}")];
    }
    if matches!(protocol, "wireguard" | "vxlan" | "wwan" | "qmi" | "ncm" | "mbim") {
        return vec![if protocol == "wireguard" || protocol == "vxlan" {
            name.clone()
        } else {
            "wwan0".into()
        }];
    }
    if section.text("type") == Some("bridge") {
        return vec![format!("br-{name}")];
    }
    let stated = section.all("device").chain(section.all("ifname")).map(|(word, _)| word.to_owned());
    let mut found: Vec<String> = stated.collect();
    found.dedup();
    found
}

/// Addresses of an interface: with their prefix lengths, or with a separate mask.
fn addresses_of(section: &Section) -> Vec<(Option<IpNet>, Said)> {
    let mask = section.text("netmask").and_then(|mask| mask.parse::<IpAddr>().ok());
    let v4 = section.all("ipaddr").map(|(word, said)| {
        let net = word.parse::<IpNet>().ok().or_else(|| {
            let address: IpAddr = word.parse().ok()?;
            match mask {
                Some(mask) => IpNet::with_netmask(address, mask).ok(),
                None => Some(IpNet::from(address)),
            }
        });
        (net, said.clone())
    });
    let v6 = section.all("ip6addr").chain(section.all("addresses")).map(|(word, said)| {
        let net = crate::addresses::net_of(word);
        (net, said.clone())
    });
    v4.chain(v6).collect()
}

/// Reads the package.
pub(super) fn read(package: &Package, export: &Export, reading: &mut Reading, networks: &Networks) {
    let mut told: Vec<(Origin, String)> = Vec::new();
    for section in &package.sections {
        match section.kind.as_str() {
            "interface" => interface(section, networks, reading, &mut told),
            "route" | "route6" => reading.facts.stored_routes.extend(route(section, networks, &mut told)),
            "globals" | "device" | "switch" | "switch_vlan" | "switch_port" | "bridge-vlan" | "alias"
            | "rule" | "rule6" => {}
            kind if kind.starts_with("wireguard_") => {}
            _ => told.push((
                section.origin,
                "not a known section of the network package; please review it by hand".into(),
            )),
        }
    }
    for section in package.of("interface").filter(|one| one.text("proto") == Some("wireguard")) {
        wireguard_tunnel(section, package, export, reading);
    }
    for section in package.of("interface") {
        plain_tunnel(section, reading);
        if let (Some(said), Some(name)) = (section.get("password"), &section.name) {
            let text = export.text_at(said.value);
            crate::serving::hold(export, &mut reading.facts, text, SecretKind::OwnPassword, name);
        }
    }
    let mut book = LineRecorder::new(export, &mut reading.ledger, &mut reading.elsewhere);
    for (origin, text) in told {
        book.not_understood(origin, text);
    }
}

fn interface(
    section: &Section,
    networks: &Networks,
    reading: &mut Reading,
    told: &mut Vec<(Origin, String)>,
) {
    let Some(name) = &section.name else { return };
    if section.is_on("disabled") == Some(true) || section.is_on("enabled") == Some(false) {
        return;
    }
    let protocol = section.text("proto").unwrap_or("none");
    let mut addresses = Vec::new();
    for (net, said) in addresses_of(section) {
        match net {
            Some(net) => {
                addresses.push(InterfaceAddress { net, peer: None, dynamic: false, origin: said.line })
            }
            None => {
                let why = addresses::what_is_wrong(&said.text);
                reading
                    .facts
                    .malformed
                    .push(trevlin_model::MalformedAddress { why: why.clone(), origin: said.line });
                told.push((said.line, why));
            }
        }
    }
    let asks = matches!(
        protocol,
        "dhcp" | "dhcpv6" | "pppoe" | "pppoa" | "ppp" | "pptp" | "l2tp" | "3g" | "qmi" | "ncm" | "mbim"
    );
    let line = section.get("proto").map_or(section.origin, |said| said.line);
    for device in networks.devices(name) {
        let known = reading.facts.stored_interfaces.iter_mut().find(|one| one.name == device);
        let one = Interface {
            loopback: device == "lo",
            name: device,
            point_to_point: matches!(protocol, "wireguard" | "pppoe" | "pppoa" | "pptp" | "l2tp"),
            up: None,
            addresses: addresses.clone(),
            asks: asks.then_some(line),
            origin: section.whole(),
        };
        match known {
            // Two interfaces of one device: its addresses are those of both.
            Some(known) => {
                known.addresses.extend(one.addresses);
                known.asks = known.asks.or(one.asks);
            }
            None => reading.facts.stored_interfaces.push(one),
        }
    }
    let device = networks.devices(name).into_iter().next();
    for option in ["gateway", "ip6gw"] {
        let Some(said) = section.get(option) else { continue };
        match said.text.parse::<IpAddr>() {
            Ok(gateway) => {
                reading.facts.stored_routes.extend(default_route(gateway, device.clone(), said.line))
            }
            Err(_) => told.push((said.line, addresses::what_is_wrong(&said.text))),
        }
    }
    for (word, said) in section.all("dns") {
        reading.facts.name_servers.extend(addresses::single(word).map(|range| (range, said.line)));
    }
}

fn default_route(gateway: IpAddr, interface: Option<String>, origin: Origin) -> Option<Route> {
    let destination = if gateway.is_ipv4() { "0.0.0.0/0" } else { "::/0" }.parse().ok()?;
    Some(Route { destination, gateway: Some(gateway), interface, preference: None, forwards: true, origin })
}

fn route(section: &Section, networks: &Networks, told: &mut Vec<(Origin, String)>) -> Option<Route> {
    if section.is_on("disabled") == Some(true) {
        return None;
    }
    let said = section.get("target")?;
    let address = said.text.parse::<IpNet>().ok().or_else(|| {
        let address: IpAddr = said.text.parse().ok()?;
        match section.text("netmask") {
            Some(mask) => IpNet::with_netmask(address, mask.parse().ok()?).ok(),
            None => Some(IpNet::from(address)),
        }
    });
    let Some(destination) = address else {
        told.push((said.line, addresses::what_is_wrong(&said.text)));
        return None;
    };
    let gateway = section.text("gateway").and_then(|text| text.parse().ok());
    let interface = section.text("interface").and_then(|name| networks.devices(name).into_iter().next());
    let forwards = !matches!(section.text("type"), Some("blackhole" | "unreachable" | "prohibit"));
    Some(Route {
        destination: destination.trunc(),
        gateway,
        interface,
        preference: None,
        forwards,
        origin: section.whole(),
    })
}

fn wireguard_tunnel(section: &Section, package: &Package, export: &Export, reading: &mut Reading) {
    let Some(name) = &section.name else { return };
    if section.is_on("disabled") == Some(true) {
        return;
    }
    let text = |said: &Said| export.text_at(said.value);
    let kind = format!("wireguard_{name}");
    if let Some(said) = section.get("private_key") {
        crate::serving::hold(export, &mut reading.facts, text(said), SecretKind::PrivateKey, name);
    }
    let mut plan = AddressPlan::default();
    let mut peers = Vec::new();
    for peer in package.of(&kind).filter(|peer| peer.is_on("disabled") != Some(true)) {
        let shared = peer.get("preshared_key");
        if let Some(said) = shared {
            crate::serving::hold(export, &mut reading.facts, text(said), SecretKind::SharedKey, name);
        }
        let public_key = peer.text("public_key").map(str::to_owned);
        let endpoint = peer.text("endpoint_host").map(|host| match peer.text("endpoint_port") {
            Some(port) => format!("{host}:{port}"),
            None => host.to_owned(),
        });
        let allowed: Vec<(&str, Origin)> =
            peer.all("allowed_ips").map(|(word, said)| (word, said.line)).collect();
        let one = wireguard::Peer {
            who: wireguard::name(peer.text("description"), public_key.as_deref()),
            called: endpoint.is_some(),
            allowed,
            public_key,
            endpoint,
            shared_key: shared.map(|said| said.line),
            keepalive: peer.text("persistent_keepalive").and_then(|text| text.parse().ok()),
            routed: peer.is_on("route_allowed_ips") == Some(true),
            origin: peer.whole(),
        };
        wireguard::take(&one, &mut plan, &mut peers);
    }
    let owner = format!("WireGuard {name}");
    let own = addresses_of(section).into_iter().filter_map(|(net, said)| Some((net?, said.line)));
    for (net, origin) in own {
        let address = InterfaceAddress { net, peer: None, dynamic: false, origin };
        plan.pools.push(Pool::around(owner.as_str(), &address));
    }
    plan.pools.retain(|pool| pool.network.is_some());
    let port = section.get("listen_port").and_then(|said| Some((said.text.parse().ok()?, said.line)));
    wireguard::finish(reading, name, plan, peers, port, section.whole());
}

/// Tunnels that encrypt nothing.
fn plain_tunnel(section: &Section, reading: &mut Reading) {
    let Some(name) = &section.name else { return };
    let family = match section.text("proto") {
        Some("gre" | "gretap" | "grev6" | "grev6tap") => TunnelFamily::Gre,
        Some("ipip" | "6in4" | "6to4" | "6rd" | "ipip6" | "dslite") => TunnelFamily::IpInIp,
        Some("vxlan" | "vxlan6") => TunnelFamily::Vxlan,
        _ => return,
    };
    let title = format!("{} {name}", family.name());
    let mut tunnel = Tunnel::new(title, family, TunnelRole::PointToPoint, section.whole());
    tunnel.interface = Some(name.clone());
    let settings = [("peeraddr", "remote"), ("ipaddr", "local")];
    for (option, setting) in settings {
        if let Some(said) = section.get(option) {
            let value = trevlin_model::Setting::Stated { value: said.text.clone(), origin: said.line };
            tunnel.settings.push((setting.to_owned(), value));
        }
    }
    reading.facts.tunnels.push(tunnel);
}
