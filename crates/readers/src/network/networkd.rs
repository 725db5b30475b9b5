//! `.network` and `.netdev` files of systemd-networkd (systemd.network(5), systemd.netdev(5)).

use super::wireguard::{Peer, finish, listed, name, secret, take};
use super::{interface, route, stated, tell_mistyped};
use crate::addresses;
use crate::encapsulation::encapsulation;
use crate::ini::{Section, sections};
use crate::reader::{LineRecorder, ReadContext, Reader, Reading, Recognition};
use crate::serving::{host_and_port, is_known};
use std::collections::{BTreeMap, BTreeSet};
use std::net::{IpAddr, Ipv4Addr};
use trevlin_model::dhcp::{DhcpServer, DhcpSubnet, Reservation};
use trevlin_model::plan::AddressPlan;
use trevlin_model::secret::SecretKind;
use trevlin_model::{Export, Interface, InterfaceAddress, IpRange, LineClass, MalformedAddress};

/// The reader.
pub(crate) const READER: Reader = Reader {
    name: "networkd",
    title: "interfaces at boot (systemd-networkd)",
    manual: "systemd.network(5), systemd.netdev(5)",
    recognise,
    read,
};

trevlin_model::table! {
/// Keys of the sections that become facts, by section.
static SECTIONS: BTreeMap<String, BTreeSet<String>> = "../../tables/networkd-keys.toml"; }

/// Kinds of devices with two configured ends (systemd.netdev(5), Kind).
const LINKS: [&str; 10] =
    ["tun", "wireguard", "gre", "ip6gre", "ipip", "sit", "vti", "vti6", "ip6tnl", "xfrm"];

fn recognise(export: &Export) -> Recognition {
    let name = export.file_name();
    let has = |heading: &str| export.lines().any(|line| line.text.trim() == heading);
    let telling = (has("[Match]") && (has("[Network]") || has("[Address]")))
        || (has("[NetDev]") && export.text().contains("Kind"));
    if telling {
        Recognition::Content
    } else if name.ends_with(".network") || name.ends_with(".netdev") {
        Recognition::Name
    } else {
        Recognition::No
    }
}

/// Sections without relevance for any check (systemd.network(5), systemd.netdev(5), systemd.link(5)).
const OTHERS: [&str; 89] = [
    "Address",
    "BFIFO",
    "BandMultiQueueing",
    "BareUDP",
    "BatmanAdvanced",
    "Bond",
    "Bridge",
    "BridgeFDB",
    "BridgeMDB",
    "BridgeVLAN",
    "CAKE",
    "CAN",
    "ClassfulMultiQueueing",
    "ControlledDelay",
    "DHCPPrefixDelegation",
    "DHCPServer",
    "DHCPServerStaticLease",
    "DHCPv4",
    "DHCPv6",
    "DHCPv6PrefixDelegation",
    "DeficitRoundRobinScheduler",
    "DeficitRoundRobinSchedulerClass",
    "EnergyEfficientEthernet",
    "EnhancedTransmissionSelection",
    "FairQueueing",
    "FairQueueingControlledDelay",
    "FlowQueuePIE",
    "FooOverUDP",
    "GENEVE",
    "GenericRandomEarlyDetection",
    "HSR",
    "HeavyHitterFilter",
    "HierarchyTokenBucket",
    "HierarchyTokenBucketClass",
    "IPVLAN",
    "IPVTAP",
    "IPoIB",
    "IPv6AcceptRA",
    "IPv6AddressLabel",
    "IPv6PREF64Prefix",
    "IPv6Prefix",
    "IPv6PrefixDelegation",
    "IPv6RoutePrefix",
    "IPv6SendRA",
    "L2TP",
    "L2TPSession",
    "LLDP",
    "Link",
    "MACVLAN",
    "MACVTAP",
    "MACsec",
    "MACsecReceiveAssociation",
    "MACsecReceiveChannel",
    "MACsecTransmitAssociation",
    "Match",
    "MobileNetwork",
    "ModemManager",
    "Neighbor",
    "NetDev",
    "Network",
    "NetworkEmulator",
    "NextHop",
    "PFIFO",
    "PFIFOFast",
    "PFIFOHeadDrop",
    "PIE",
    "Peer",
    "QDisc",
    "QuickFairQueueing",
    "QuickFairQueueingClass",
    "Route",
    "RoutingPolicyRule",
    "SR-IOV",
    "StochasticFairBlue",
    "StochasticFairnessQueueing",
    "Tap",
    "TokenBucketFilter",
    "TrafficControlQueueingDiscipline",
    "TrivialLinkEqualizer",
    "Tun",
    "Tunnel",
    "VLAN",
    "VRF",
    "VXCAN",
    "VXLAN",
    "WLAN",
    "WireGuard",
    "WireGuardPeer",
    "Xfrm",
];

fn read(export: &Export, _: &ReadContext<'_>) -> Reading {
    let mut reading = Reading::of(export);
    let all = sections(export, &['#', ';']);
    let mut book = LineRecorder::new(export, &mut reading.ledger, &mut reading.elsewhere);
    for section in &all {
        let keys = SECTIONS.get(section.name);
        let class = if keys.is_some() { LineClass::Understood } else { LineClass::Ignored };
        // Keys with this prefix are for other programs (systemd.syntax(7)).
        let known = keys.is_some() || OTHERS.contains(&section.name) || section.name.starts_with("X-");
        if !section.name.is_empty() && !known {
            book.not_understood(
                section.origin,
                "no section that networkd is known to have; it ignores what stands in it",
            );
        } else if !section.name.is_empty() {
            book.class(section.origin, class);
        }
        for entry in &section.entries {
            if section.name.is_empty() || !entry.has_value {
                book.not_understood(
                    entry.origin,
                    "not a known section of networkd, which ignores its content",
                );
            } else if !known {
                // Said of the section.
                book.class(entry.origin, LineClass::NotUnderstood);
            } else if keys.is_some_and(|keys| !keys.contains(entry.key))
                && is_known("networkd", &format!("{}.{}", section.name, entry.key))
            {
                book.class(entry.origin, LineClass::Ignored);
            } else if keys.is_some_and(|keys| !keys.contains(entry.key)) {
                let why = format!("not a key of [{}]; the daemon ignores this line", section.name);
                book.not_understood(entry.origin, why);
            } else {
                book.class(entry.origin, class);
            }
        }
    }
    if all.iter().any(|section| section.name == "NetDev") {
        device(export, &all, &mut reading);
    } else {
        network(export, &all, &mut reading);
    }
    tell_mistyped(export, reading)
}

fn in_all<'s, 'a>(all: &'s [Section<'a>], section: &'s str, key: &'s str) -> Vec<&'s crate::ini::Entry<'a>> {
    all.iter().filter(|one| one.name == section).flat_map(|one| one.all(key)).collect()
}

/// A `.network` file.
fn network(export: &Export, all: &[Section<'_>], reading: &mut Reading) {
    let matched = in_all(all, "Match", "Name");
    let file = export.file_name().trim_end_matches(".network");
    let name = matched.last().map_or(file, |entry| entry.value);
    let origin = matched
        .last()
        .map_or_else(|| all.last().map_or(export.origin(0..0), |one| one.origin), |entry| entry.origin);
    let mut one = interface(name, origin);
    let malformed = &mut reading.facts.malformed;
    for section in ["Network", "Address"] {
        for entry in in_all(all, section, "Address") {
            one.addresses.extend(stated(entry.value, entry.origin, malformed));
        }
    }
    // The unspecified address requests a free range at run time (systemd.network(5), Address).
    let assigned =
        one.addresses.iter().find(|address| address.net.addr().is_unspecified()).map(|one| one.origin);
    one.addresses.retain(|address| !address.net.addr().is_unspecified());
    for entry in in_all(all, "Network", "DHCP") {
        let asks = matches!(
            entry.value.to_ascii_lowercase().as_str(),
            "yes" | "true" | "on" | "1" | "both" | "ipv4" | "v4"
        );
        one.asks = asks.then_some(entry.origin);
    }
    one.asks = one.asks.or(assigned);
    for entry in in_all(all, "Network", "Gateway") {
        if !entry.value.starts_with('_') {
            reading.facts.stored_routes.extend(route(
                "default",
                Some(entry.value),
                name,
                entry.origin,
                malformed,
            ));
        }
    }
    for section in all.iter().filter(|one| one.name == "Route") {
        let gateway =
            section.last("Gateway").map(|entry| entry.value).filter(|value| !value.starts_with('_'));
        let to = section.last("Destination");
        let Some(origin) = to.or(section.last("Gateway")).map(|entry| entry.origin) else { continue };
        let to = to.map_or("default", |entry| entry.value);
        reading.facts.stored_routes.extend(route(to, gateway, name, origin, malformed));
    }
    for entry in in_all(all, "Network", "DNS") {
        for text in entry.value.split_whitespace() {
            // A port, an interface and a name may follow the address.
            let bare = bare_server(text);
            let known = addresses::take(bare, entry.origin, malformed, addresses::single);
            reading.facts.name_servers.extend(known.map(|server| (server, entry.origin)));
        }
    }
    let served = all.iter().find(|one| one.name == "DHCPServer");
    let on = in_all(all, "Network", "DHCPServer")
        .last()
        .map(|entry| (entry.origin, matches!(entry.value, "yes" | "true" | "on" | "1")));
    if let Some((origin, true)) = on {
        let server = DhcpServer {
            keeps_reserved: true,
            keeps_own: true,
            ..DhcpServer::new("systemd-networkd", export.file_name(), origin)
        };
        let server = handed_out(server, served, all, &one, malformed);
        reading.facts.dhcp_servers.push(server);
    }
    reading.facts.stored_interfaces.push(one);
}

/// The address of a name server without its port, interface and name: `[2001:db8::1]:853%eth0#ns.example` (systemd.network(5), DNS).
fn bare_server(text: &str) -> &str {
    let bare = text.split(['#', '%']).next().unwrap_or(text);
    host_and_port(bare).0.unwrap_or(bare)
}

/// The pool of the built-in DHCP server: by default everything from the first address behind the network's own to the
/// one before its broadcast address (systemd.network(5), PoolOffset).
fn handed_out(
    mut server: DhcpServer,
    section: Option<&Section<'_>>,
    all: &[Section<'_>],
    own: &Interface,
    malformed: &mut Vec<MalformedAddress>,
) -> DhcpServer {
    let v4 = |address: &&InterfaceAddress| address.net.addr().is_ipv4();
    let number = |key: &str| {
        let entry = section.and_then(|one| one.last(key))?;
        Some((entry.value.parse::<u32>().ok().filter(|number| *number > 0)?, entry.origin))
    };
    if let Some(address) = own.addresses.iter().find(v4)
        && let (IpAddr::V4(base), IpAddr::V4(broadcast)) = (address.net.network(), address.net.broadcast())
    {
        let (offset, size) = (number("PoolOffset"), number("PoolSize"));
        let origin = size.or(offset).map_or(server.origin, |(_, origin)| origin);
        let first = base.to_bits().saturating_add(offset.map_or(1, |(offset, _)| offset));
        let last = broadcast.to_bits().saturating_sub(1);
        let last = size.map_or(last, |(size, _)| last.min(first.saturating_add(size - 1)));
        let mut subnet = DhcpSubnet::new(Some(address.net.trunc()), origin);
        let ends = (Ipv4Addr::from_bits(first), Ipv4Addr::from_bits(last));
        subnet.ranges.extend(IpRange::new(ends.0.into(), ends.1.into()).map(|range| (range, origin)));
        if let Some(section) = section {
            for entry in section.all("DNS") {
                for text in entry.value.split_whitespace().filter(|text| !text.starts_with('_')) {
                    let known =
                        addresses::take(bare_server(text), entry.origin, malformed, addresses::single);
                    subnet.name_servers.extend(known.map(|server| (server, entry.origin)));
                }
            }
        }
        server.subnets.push(subnet);
    }
    for section in all.iter().filter(|one| one.name == "DHCPServerStaticLease") {
        let Some(entry) = section.last("Address") else { continue };
        let who = section.last("MACAddress").map_or("a client", |entry| entry.value).to_owned();
        let address = addresses::take(entry.value, entry.origin, malformed, addresses::single);
        server.reservations.extend(address.map(|address| Reservation { who, address, origin: entry.origin }));
    }
    server
}

/// A `.netdev` file.
fn device(export: &Export, all: &[Section<'_>], reading: &mut Reading) {
    let last =
        |section: &str, key: &str| in_all(all, section, key).last().map(|entry| (entry.value, entry.origin));
    let Some((device, origin)) = last("NetDev", "Name") else { return };
    let kind = last("NetDev", "Kind").map(|(kind, _)| kind).unwrap_or_default();
    if LINKS.contains(&kind) {
        // Its addresses are in a `.network` file; that it is a tunnel link is known here only.
        let mut one = interface(device, origin);
        one.point_to_point = true;
        reading.facts.stored_interfaces.push(one);
    }
    if kind != "wireguard" {
        let ends = |key: &str| last("Tunnel", key).or_else(|| last("VXLAN", key)).map(|(text, _)| text);
        let remote = ends("Remote").or_else(|| ends("Group"));
        reading.facts.tunnels.extend(encapsulation(kind, device, ends("Local"), remote, origin));
        return;
    }
    if let Some((key, _)) = last("WireGuard", "PrivateKey") {
        let owner = format!("WireGuard {device}");
        reading.facts.secrets.extend(secret(export, key, SecretKind::PrivateKey, &owner));
    }
    let mut plan = AddressPlan::default();
    let mut peers = Vec::new();
    for section in all.iter().filter(|one| one.name == "WireGuardPeer") {
        let key = section.last("PublicKey").map(|entry| entry.value);
        let mut allowed = Vec::new();
        for entry in section.all("AllowedIPs") {
            allowed.extend(listed(export, entry.value));
        }
        let peer = Peer {
            who: name(section.comment, key),
            called: section.last("Endpoint").is_some(),
            allowed,
            public_key: key.map(str::to_owned),
            endpoint: section.last("Endpoint").map(|entry| entry.value.to_owned()),
            shared_key: section.last("PresharedKey").map(|entry| entry.origin),
            keepalive: section.last("PersistentKeepalive").and_then(|entry| entry.value.parse().ok()),
            routed: section
                .last("RouteTable")
                .map(|entry| entry.value)
                .or_else(|| last("WireGuard", "RouteTable").map(|(text, _)| text))
                .is_some_and(|table| matches!(table, "main" | "254")),
            origin: section.origin,
        };
        if let Some(entry) = section.last("PresharedKey") {
            reading.facts.secrets.extend(secret(export, entry.value, SecretKind::SharedKey, &peer.who));
        }
        take(&peer, &mut plan, &mut peers);
    }
    let port = last("WireGuard", "ListenPort").and_then(|(text, origin)| Some((text.parse().ok()?, origin)));
    finish(reading, device, plan, peers, port, origin);
}

#[cfg(test)]
mod tests {
    use super::*;
    use trevlin_model::ExportId;

    fn read_text(path: &str, text: &str) -> Reading {
        let export = Export::new(ExportId(0), path, text.into());
        assert_eq!(recognise(&export), Recognition::Content);
        read(&export, &ReadContext::default())
    }

    #[test]
    fn an_interface_that_serves() {
        let reading = read_text(
            "d/etc/systemd/network/20-lan.network",
            "[Match]\nName=eth1\n[Network]\nAddress=10.4.0.1/24\nDNS=10.4.0.53 10.4.0.54#ns.example\nDHCPServer=yes\n\
             [Address]\nAddress=2001:db8:4::1/64\n[Route]\nDestination=10.7.0.0/16\nGateway=10.4.0.2\n[Route]\nGateway=10.4.0.254\n\
             [DHCPServer]\nPoolOffset=50\nPoolSize=100\nDNS=_server_address\n[DHCPServerStaticLease]\nMACAddress=02:00:5e:10:00:20\nAddress=10.4.0.60\nwobble\nAddres=10.4.0.61\n",
        );
        let one = &reading.facts.stored_interfaces[0];
        assert_eq!((one.name.as_str(), one.addresses.len(), one.asks), ("eth1", 2, None));
        let routes: Vec<_> =
            reading.facts.stored_routes.iter().map(|one| one.destination.to_string()).collect();
        assert_eq!(routes, ["10.7.0.0/16", "0.0.0.0/0"]);
        let server = &reading.facts.dhcp_servers[0];
        assert_eq!(server.subnets[0].ranges[0].0.to_string(), "10.4.0.50-10.4.0.149");
        assert_eq!(server.reservations[0].who, "02:00:5e:10:00:20");
        assert_eq!(reading.facts.name_servers.len(), 2);
        assert_eq!(reading.ledger.count(LineClass::NotUnderstood), 2);
    }

    #[test]
    fn the_whole_network_is_the_default_pool() {
        let reading = read_text(
            "x.network",
            "[Match]\nName=eth1\n[Network]\nAddress=10.4.0.1/24\nDHCPServer=yes\nDHCP=no\n",
        );
        let server = &reading.facts.dhcp_servers[0];
        assert_eq!(server.subnets[0].ranges[0].0.to_string(), "10.4.0.1-10.4.0.254");
        assert!(
            read_text("x.network", "[Match]\nName=e*\n[Network]\nDHCP=ipv4\n").facts.stored_interfaces[0]
                .asks
                .is_some()
        );
        // A range that is found at run time is none here.
        let free =
            read_text("x.network", "[Match]\nName=e1\n[Network]\nAddress=0.0.0.0/28\nDHCPServer=yes\n");
        let interface = &free.facts.stored_interfaces[0];
        assert!(interface.addresses.is_empty() && interface.asks.is_some());
        assert!(free.facts.dhcp_servers[0].subnets.is_empty() && free.facts.malformed.is_empty());
    }

    #[test]
    fn a_tunnel_device() {
        let reading = read_text(
            "d/etc/systemd/network/wg0.netdev",
            "[NetDev]\nName=wg0\nKind=wireguard\n[WireGuard]\nPrivateKey=S0Secret=\n[WireGuardPeer]\nPublicKey=AAAABBBBCC=\nAllowedIPs=10.9.0.2/32,10.5.0.0/24\n",
        );
        let plan = &reading.facts.tunnels[0].addresses;
        assert_eq!((plan.fixed.len(), plan.remote.len(), reading.facts.secrets.len()), (1, 1, 1));
        assert!(reading.facts.stored_interfaces[0].point_to_point);
    }
}
