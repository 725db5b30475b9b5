//! `ietf-interfaces` (RFC 8343), `ietf-ip` (RFC 8344), `ietf-routing` (RFC 8349), `ietf-system` (RFC 7317), `ietf-snmp` (RFC 7407),
//! `ietf-dhcpv6-server` (RFC 9243).

use super::filters::address;
use super::tree::{Item, Seen};
use crate::reader::Reading;
use crate::serving::hold;
use ipnet::IpNet;
use std::net::IpAddr;
use std::sync::Arc;
use trevlin_model::account::{HashScheme, ShadowEntry, StoredPassword};
use trevlin_model::dhcp::{DhcpServer, DhcpSubnet};
use trevlin_model::housekeeping::ClockKeeper;
use trevlin_model::radius::{RadiusAsker, RadiusTarget};
use trevlin_model::secret::SecretKind;
use trevlin_model::served::{
    AuthRequirement, Endpoint, PartKind, Requirement, Served, ServedKind, ServiceResource, Sources,
    TransportSecurity,
};
use trevlin_model::{
    Export, Interface, InterfaceAddress, IpRange, Login, LoginList, MalformedAddress, Note, Origin, Protocol,
    Route, Setting,
};

pub(super) struct Reader<'a> {
    pub(super) export: &'a Export,
    pub(super) reading: &'a mut Reading,
    pub(super) seen: &'a Seen,
    pub(super) notes: Vec<Note>,
}

impl Reader<'_> {
    fn malformed(&mut self, text: &str, origin: Origin) {
        let why = crate::addresses::what_is_wrong(text);
        self.notes.push(Note { origin, text: why.clone() });
        self.reading.facts.malformed.push(MalformedAddress { why, origin });
    }

    pub(super) fn interfaces(&mut self, root: &Item) {
        self.reading.facts.has_interfaces = true;
        for one in root.all("interface") {
            let Some((name, origin)) = one.leaf("name", self.seen) else { continue };
            let kind = one.identity("type", self.seen).map_or("", |(kind, _)| kind);
            let up = one.is_true("enabled", self.seen).map(|(on, _)| on);
            let mut addresses = Vec::new();
            for (version, length) in [("ipv4", 32), ("ipv6", 128)] {
                for held in one.each(&[version, "address"]) {
                    let Some((text, at)) = held.leaf("ip", self.seen) else { continue };
                    let prefix = held.leaf("prefix-length", self.seen).map(|(text, _)| text.parse::<u8>());
                    let mask =
                        held.leaf("netmask", self.seen).and_then(|(text, _)| text.parse::<IpAddr>().ok());
                    let net = address(text).and_then(|ip| match (prefix, mask) {
                        (Some(Ok(prefix)), _) => IpNet::new(ip, prefix).ok(),
                        (None, Some(mask)) => IpNet::with_netmask(ip, mask).ok(),
                        (None, None) => IpNet::new(ip, length).ok(),
                        (Some(Err(_)), _) => None,
                    });
                    let by = held.identity("origin", self.seen).map_or("", |(word, _)| word);
                    match net {
                        Some(net) => addresses.push(InterfaceAddress {
                            net,
                            peer: None,
                            dynamic: by == "dhcp",
                            origin: at,
                        }),
                        None => self.malformed(text, at),
                    }
                }
            }
            self.reading.facts.interfaces.push(Interface {
                name: name.to_owned(),
                loopback: kind == "softwareLoopback",
                point_to_point: matches!(kind, "ppp" | "tunnel"),
                up,
                addresses,
                asks: None,
                origin,
            });
        }
    }

    pub(super) fn routing(&mut self, root: &Item) {
        let protocols = root.each(&["control-plane-protocols", "control-plane-protocol"]);
        let mut routes: Vec<&Item> = Vec::new();
        for one in protocols {
            for version in ["ipv4", "ipv6"] {
                routes.extend(one.each(&["static-routes", version, "route"]));
            }
        }
        let stated = !routes.is_empty();
        let ribs = root.each(&["ribs", "rib", "routes", "route"]);
        if !stated {
            routes.extend(ribs);
        }
        for one in routes {
            let Some((text, origin)) = one.leaf("destination-prefix", self.seen) else { continue };
            let Ok(destination) = text.parse::<IpNet>() else {
                self.malformed(text, origin);
                continue;
            };
            let hops = one.each(&["next-hop"]);
            let hops = hops.into_iter().flat_map(|hop| {
                let list = hop.each(&["next-hop-list", "next-hop"]);
                if list.is_empty() { vec![hop] } else { list }
            });
            for hop in hops {
                let gateway = hop.leaf("next-hop-address", self.seen).and_then(|(text, _)| address(text));
                let interface = hop.leaf("outgoing-interface", self.seen).map(|(name, _)| name.to_owned());
                let special = hop.identity("special-next-hop", self.seen).map_or("", |(word, _)| word);
                let forwards = !matches!(special, "blackhole" | "unreachable" | "prohibit");
                self.reading.facts.routes.push(Route {
                    destination: destination.trunc(),
                    gateway,
                    interface,
                    preference: None,
                    forwards,
                    origin,
                });
            }
        }
    }

    pub(super) fn system(&mut self, root: &Item) {
        // Many devices have the same host name; the folder distinguishes them.
        root.leaf("hostname", self.seen);
        if let Some(ntp) = root.get("ntp") {
            let off = ntp.is_true("enabled", self.seen).is_some_and(|(on, _)| !on);
            let mut keeper = ClockKeeper {
                program: "ietf-system",
                sources: Vec::new(),
                open: Vec::new(),
                origin: ntp.origin,
            };
            for server in ntp.all("server").filter(|_| !off) {
                server.leaf("name", self.seen);
                let at = server.get("udp").and_then(|udp| udp.leaf("address", self.seen));
                keeper.sources.extend(at.map(|(text, origin)| (text.to_owned(), origin)));
            }
            self.reading.facts.clock_keepers.push(keeper);
        }
        for server in root.each(&["dns-resolver", "server", "udp-and-tcp"]) {
            let found =
                server.leaf("address", self.seen).and_then(|(text, origin)| Some((address(text)?, origin)));
            self.reading.facts.name_servers.extend(found.map(|(ip, origin)| (IpRange::from(ip), origin)));
        }
        for server in root.each(&["radius", "server"]) {
            let Some(udp) = server.get("udp") else { continue };
            let Some((text, origin)) = udp.leaf("address", self.seen) else { continue };
            server.leaf("name", self.seen);
            let secret = udp.get("shared-secret").and_then(|leaf| {
                self.seen.borrow_mut().push(leaf.origin);
                hold(
                    self.export,
                    &mut self.reading.facts,
                    self.export.text_at(leaf.value),
                    SecretKind::RadiusSecret,
                    text,
                )
            });
            self.reading.facts.radius_targets.push(RadiusTarget {
                asked_by: RadiusAsker::Library,
                server: text.to_owned(),
                address: address(text),
                secret,
                origin,
            });
        }
        for order in root.each(&["authentication", "user-authentication-order"]) {
            self.seen.borrow_mut().push(order.origin);
        }
        for user in root.each(&["authentication", "user"]) {
            self.user(user);
        }
    }

    /// A user: a clear-text password after `$0$`, otherwise a hash (RFC 7317, crypt-hash).
    fn user(&mut self, user: &Item) {
        let Some((name, origin)) = user.leaf("name", self.seen) else { return };
        let Some(leaf) = user.get("password") else { return };
        self.seen.borrow_mut().push(leaf.origin);
        let place = self.export.text_at(leaf.value);
        let text = leaf.text.as_deref().unwrap_or_default();
        if let Some(clear) = text.strip_prefix("$0$") {
            let at = place.find(clear).map_or(place, |at| &place[at..at + clear.len()]);
            let secret = hold(self.export, &mut self.reading.facts, at, SecretKind::LoginPassword, name);
            self.reading.facts.logins.push(Login {
                user: name.to_owned(),
                list: LoginList::LocalFile(self.export.path().to_owned()),
                daemon: None,
                service: "the system".into(),
                secret,
                certain: true,
                expires: None,
                origin,
            });
            return;
        }
        let held = hold(self.export, &mut self.reading.facts, place, SecretKind::PasswordHash, name);
        let password = match held {
            Some(held) => StoredPassword::Hash { scheme: HashScheme::of(text), held: Arc::clone(&held) },
            None => StoredPassword::Empty,
        };
        self.reading.facts.shadow.push(ShadowEntry {
            name: name.to_owned(),
            password,
            expires: None,
            origin,
        });
    }

    pub(super) fn snmp(&mut self, root: &Item) {
        let engine = root.get("engine");
        if engine.and_then(|one| one.is_true("enabled", self.seen)).is_some_and(|(on, _)| !on) {
            return;
        }
        let mut served = Served::new(ServedKind::Monitoring, "ietf-snmp", "SNMP agent", &[], root.origin);
        for listen in root.each(&["engine", "listen", "udp"]) {
            let port = listen.leaf("port", self.seen).and_then(|(text, _)| text.parse().ok()).unwrap_or(161);
            let place = Endpoint::everywhere(Protocol::UDP, port, TransportSecurity::Optional, listen.origin);
            let at = listen.leaf("ip", self.seen).and_then(|(text, _)| address(text));
            served.endpoints.push(at.map_or_else(|| place.clone(), |at| place.clone().at(at)));
        }
        if served.endpoints.is_empty() {
            served.endpoints.push(Endpoint::everywhere(
                Protocol::UDP,
                161,
                TransportSecurity::Optional,
                root.origin,
            ));
        }
        for community in root.all("community") {
            let (index, origin) = community.leaf("index", self.seen).unwrap_or(("", community.origin));
            let name = community.leaf("security-name", self.seen).map_or(index, |(name, _)| name).to_owned();
            if let Some(leaf) = community.get("text-name").or_else(|| community.get("binary-name")) {
                self.seen.borrow_mut().push(leaf.origin);
                let place = self.export.text_at(leaf.value);
                hold(self.export, &mut self.reading.facts, place, SecretKind::Community, &name);
            }
            let mut part = ServiceResource::new(PartKind::Community, name.as_str(), origin);
            part.login = Setting::Stated { value: AuthRequirement::Community, origin };
            part.writes = Setting::Stated { value: writes(root, &name, self.seen), origin };
            part.encryption = Some(Setting::Stated { value: Requirement::Never, origin });
            part.sources = sources(root, community, self.seen);
            served.parts.push(part);
        }
        for user in root.each(&["usm", "local", "user"]) {
            let Some((name, origin)) = user.leaf("name", self.seen) else { continue };
            let mut part = ServiceResource::new(PartKind::User, name, origin);
            let (signs, encrypts) = (user.get("auth"), user.get("priv"));
            let asked = if signs.is_some() { AuthRequirement::Proof } else { AuthRequirement::Nothing };
            part.login = Setting::Stated { value: asked, origin };
            let demand = if encrypts.is_some() { Requirement::Required } else { Requirement::Never };
            part.encryption = Some(Setting::Stated { value: demand, origin });
            part.writes = Setting::Stated { value: writes(root, name, self.seen), origin };
            for key in [signs, encrypts].into_iter().flatten().flat_map(|one| &one.children) {
                if let Some(leaf) = key.get("key") {
                    self.seen.borrow_mut().push(leaf.origin);
                    let place = self.export.text_at(leaf.value);
                    hold(self.export, &mut self.reading.facts, place, SecretKind::SharedKey, name);
                }
            }
            served.parts.push(part);
        }
        self.reading.facts.served.push(served);
    }

    pub(super) fn dhcp(&mut self, root: &Item) {
        let mut server = DhcpServer::new("ietf-dhcpv6-server", self.export.file_name(), root.origin);
        for range in root.each(&["allocation-ranges", "allocation-range"]) {
            let network =
                range.leaf("network-prefix", self.seen).and_then(|(text, _)| text.parse::<IpNet>().ok());
            let mut subnet = DhcpSubnet::new(network, range.origin);
            for pool in range.each(&["address-pools", "address-pool"]) {
                let ends = [pool.leaf("start-address", self.seen), pool.leaf("end-address", self.seen)];
                if let [Some((first, origin)), Some((last, _))] = ends
                    && let (Some(first), Some(last)) = (address(first), address(last))
                    && let Ok(range) = IpRange::new(first, last)
                {
                    subnet.ranges.push((range, origin));
                }
            }
            server.subnets.push(subnet);
        }
        if !server.subnets.is_empty() {
            self.reading.facts.dhcp_servers.push(server);
        }
    }
}

/// Whether a name may change values: a group that it is in has a view to write.
fn writes(root: &Item, name: &str, seen: &Seen) -> bool {
    root.each(&["vacm", "group"]).into_iter().any(|group| {
        let member = group
            .all("member")
            .any(|one| one.leaf("security-name", seen).is_some_and(|(text, _)| text == name));
        member && group.all("access").any(|one| one.leaf("write-view", seen).is_some())
    })
}

/// From where a community may be used: targets with its tag (RFC 7407, community/target-tag).
fn sources(root: &Item, community: &Item, seen: &Seen) -> Sources {
    let Some((tag, origin)) = community.leaf("target-tag", seen) else { return Sources::everybody() };
    let mut found = Sources { origins: vec![origin], ..Sources::default() };
    for target in root.all("target") {
        let tagged = target.all("tag").any(|one| one.text.as_deref() == Some(tag));
        if let Some((text, _)) = target.get("udp").filter(|_| tagged).and_then(|udp| udp.leaf("ip", seen)) {
            crate::serving::host(text, &mut found);
        }
    }
    found
}
