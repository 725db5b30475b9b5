//! The parts of a device that decide about packets, assembled for the packet engine.

use crate::map::EstateMap;
use crate::topology::{RemoteClients, interface_of};
use trevlin_model::kernel::KernelSetting;
use trevlin_model::{
    Device, ExportId, ExportState, Family, FilterFormat, IpRange, Origin, Route, TunnelFamily,
};
use trevlin_packets::way::{Host, Lack, SourceCheck};

/// The lack of a packet filter that was not exported.
pub const FILTER_NOT_EXPORTED: &str = "the packet filter, which was not exported,";

impl EstateMap {
    /// A device for the packet engine.
    #[must_use]
    pub fn host(&self, at: usize) -> Host<'_> {
        let device = &self.devices[at];
        let forwarding = |names: [&str; 2]| {
            let settings = names.iter().filter_map(|name| self.kernel_setting(device, name));
            // The two names of one switch: the one that was set last counts, and a dump shows the same for both.
            let setting =
                settings.max_by_key(|one| (one.state == ExportState::Running, one.by_command, one.origin))?;
            Some((setting.value != "0", Some(setting.origin)))
        };
        Host {
            tables: self.tables_in_force(at),
            interfaces: &device.facts.interfaces,
            routes: &device.facts.routes,
            implied_routes: self.implied_routes(at),
            forwards: [
                forwarding(["net.ipv4.ip_forward", "net.ipv4.conf.all.forwarding"]),
                forwarding(["net.ipv6.conf.all.forwarding", "net.ipv6.conf.all.forwarding"]),
            ],
            source_checks: self.source_checks(device),
            clients: self.dialled_routes(at).into_iter().chain(self.container_routes(at)).collect(),
            lacks: self.lacks(at),
            every_address: false,
        }
    }

    /// Routes to containers that publish ports, in networks that exist inside the device.
    fn container_routes(&self, at: usize) -> impl Iterator<Item = (IpRange, String, Origin)> + '_ {
        let containers = self.devices[at].facts.containers.iter().filter(|one| !one.published.is_empty());
        containers.flat_map(|one| {
            let interface = format!("the network of container {}", one.title());
            one.addresses.iter().map(move |address| (IpRange::from(*address), interface.clone(), one.origin))
        })
    }

    /// Missing or unanalysed parts of a device that affect packets.
    #[must_use]
    pub fn lacks(&self, at: usize) -> Vec<Lack> {
        let tables = self.tables_in_force(at);
        let broken = tables.iter().filter(|table| !table.complete && !table.gaps_placed).map(|table| Lack {
            what: format!("the missing part of table {}", table.table),
            only_blocks: false,
            family: None,
            origin: table.origin,
        });
        let beside =
            self.devices[at].facts.not_analysed.iter().filter(|one| one.filters_packets && one.apart);
        let beside = beside.map(|one| Lack {
            what: one.what.clone(),
            only_blocks: one.only_blocks,
            family: None,
            origin: one.origin,
        });
        broken.chain(beside).chain(self.unexported_filters(at)).collect()
    }

    /// The packet filter of a device that faces an untrusted network, where no export shows whether it has one, for each IP version. A
    /// host inside seldom has one.
    fn unexported_filters(&self, at: usize) -> impl Iterator<Item = Lack> + '_ {
        let facing = self.outside(at).first().and_then(|one| one.origin);
        let lacking = move |family: &Family| {
            self.tables(at, *family).iter().all(|one| one.additions) && !self.shows_filter(at, *family)
        };
        facing.into_iter().filter_map(move |origin| {
            let families: Vec<Family> = [Family::V4, Family::V6].into_iter().filter(lacking).collect();
            let family = match families.as_slice() {
                [] => return None,
                [only] => Some(*only),
                _ => None,
            };
            Some(Lack { what: FILTER_NOT_EXPORTED.to_owned(), only_blocks: true, family, origin })
        })
    }

    /// Whether an export shows the packet filter of a device for an IP version, though it may be empty: a dump of iptables shows one, and
    /// every other format both.
    #[must_use]
    pub fn shows_filter(&self, at: usize, family: Family) -> bool {
        let device = &self.devices[at];
        // A dump without any table shows that there is none.
        let empty = |id: &ExportId| {
            let v6 = self.export(*id).file_name().contains("ip6");
            match self.format_of(*id) {
                Some("nftables") => true,
                Some("iptables-save") => v6 == (family == Family::V6),
                _ => false,
            }
        };
        let shows = |filter: &trevlin_model::Filter| {
            !filter.additions && (filter.format != FilterFormat::Iptables || filter.families.has(family))
        };
        device.facts.filters.iter().any(shows) || device.exports.iter().any(empty)
    }

    /// Routes to VPN clients that exist only while they are connected: those that pppd and similar daemons add, and those of a tunnel that
    /// was down when the interfaces were exported. Such a tunnel takes no traffic from the networks that are up, but for a part of one: its
    /// network is then the longer prefix.
    fn dialled_routes(&self, at: usize) -> Vec<(IpRange, String, Origin)> {
        let facts = &self.devices[at].facts;
        let interfaces = &facts.interfaces;
        let connected: Vec<IpRange> = interfaces
            .iter()
            .flat_map(|one| &one.addresses)
            .map(|address| IpRange::from(address.net.trunc()))
            .collect();
        let routed = |one: &RemoteClients, range: &IpRange| {
            let made_for_each = matches!(
                one.family,
                TunnelFamily::Pptp
                    | TunnelFamily::L2tp
                    | TunnelFamily::OpenConnect
                    | TunnelFamily::Tls
                    | TunnelFamily::Ipsec
            );
            let absent = || !interfaces.iter().any(|interface| interface.name == one.interface);
            let tunnel = facts.tunnels.iter().find(|tunnel| tunnel.name == one.tunnel);
            let networks = || {
                let pools = tunnel.into_iter().flat_map(|tunnel| &tunnel.addresses.pools);
                pools.filter_map(|pool| pool.network).map(|net| IpRange::from(net.trunc()))
            };
            let own = || networks().find(|net| net.covers(range));
            // How an appliance reaches clients without a network of their own is not shown; that it does is certain.
            let by_appliance = || facts.described.is_some() && networks().next().is_none();
            let longer = |net: &IpRange| own().is_some_and(|own| own != *net && net.covers(&own));
            let mut alike = connected.iter().filter(|net| net.intersection(range).is_some());
            made_for_each || (absent() && (by_appliance() || alike.all(longer)))
        };
        let mut found = Vec::new();
        for one in self.shape().clients_at(at) {
            let ranges = one.ranges.iter().filter(|range| routed(one, range));
            found.extend(ranges.map(|range| (*range, one.interface.clone(), one.origin)));
        }
        found
    }

    /// Routes that the daemons of tunnels add for the networks behind them, for an IP version of which no running routes were exported.
    /// Everything is two halves, so that it is no default route of the device.
    fn implied_routes(&self, at: usize) -> Vec<Route> {
        let facts = &self.devices[at].facts;
        let mut found = Vec::new();
        for tunnel in facts.running() {
            let Some(interface) = interface_of(self, at, tunnel) else { continue };
            let there = facts.interfaces.iter().find(|one| one.name == interface);
            if there.map_or(facts.interfaces_run, |one| one.up == Some(false)) {
                continue;
            }
            let ranges: Vec<(IpRange, Origin)> = match tunnel.family {
                TunnelFamily::WireGuard => tunnel
                    .peers
                    .iter()
                    .filter(|peer| peer.routed)
                    .flat_map(|peer| peer.allowed.clone())
                    .collect(),
                TunnelFamily::OpenVpn => tunnel.addresses.remote.clone(),
                _ => Vec::new(),
            };
            for (range, origin) in ranges {
                let halves =
                    if range == IpRange::all(range.family()) { halves(range.family()) } else { vec![range] };
                found.extend(halves.iter().filter_map(IpRange::network).map(|destination| Route {
                    destination,
                    gateway: None,
                    interface: Some(interface.clone()),
                    preference: None,
                    forwards: true,
                    origin,
                }));
            }
        }
        let dumped =
            |family| facts.interfaces_run && facts.routes.iter().any(|route| route.family() == family);
        found.retain(|route| !dumped(route.family()));
        found
    }

    /// A kernel setting: its running value where that was exported, otherwise that of the files, of which the last one read counts
    /// (sysctl.d(5): by the name of the file; `sysctl.conf` is read as `99-sysctl.conf`), and a command of a script after them.
    #[must_use]
    pub fn kernel_setting<'a>(&self, device: &'a Device, name: &str) -> Option<&'a KernelSetting> {
        let fits = |pattern: &str| match pattern.split_once('*') {
            None => pattern == name,
            Some((before, after)) => {
                name.len() >= before.len() + after.len() && name.starts_with(before) && name.ends_with(after)
            }
        };
        let order = |one: &&KernelSetting| {
            let file = self.export(one.origin.export).file_name();
            let file = if file == "sysctl.conf" { "99-sysctl.conf" } else { file };
            // A pattern gives way to a name, wherever it stands.
            (
                one.state == ExportState::Running,
                one.by_command,
                !one.name.contains('*'),
                file.to_owned(),
                one.origin,
            )
        };
        device.facts.kernel.iter().filter(|one| fits(&one.name)).max_by_key(order)
    }

    /// The source check of each interface: the stricter of the common and its own setting (kernel documentation, ip-sysctl, `rp_filter`).
    fn source_checks(&self, device: &Device) -> Vec<(String, SourceCheck, Origin)> {
        let value = |of: &str| -> Option<(u8, Origin)> {
            let setting = self.kernel_setting(device, &format!("net.ipv4.conf.{of}.rp_filter"))?;
            Some((setting.value.parse().ok()?, setting.origin))
        };
        let all = value("all");
        let mut checks = Vec::new();
        for interface in &device.facts.interfaces {
            let own = value(&interface.name.replace('.', "/")).or_else(|| value("default"));
            let Some((level, origin)) = all.into_iter().chain(own).max_by_key(|(level, _)| *level) else {
                continue;
            };
            let check = match level {
                1 => SourceCheck::Strict,
                2 => SourceCheck::Loose,
                _ => SourceCheck::Off,
            };
            checks.push((interface.name.clone(), check, origin));
        }
        checks
    }
}

/// Both halves of an IP version.
fn halves(family: Family) -> Vec<IpRange> {
    let texts = match family {
        Family::V4 => ["0.0.0.0/1", "128.0.0.0/1"],
        Family::V6 => ["::/1", "8000::/1"],
    };
    texts.iter().filter_map(|text| Some(IpRange::from(text.parse::<ipnet::IpNet>().ok()?))).collect()
}
