//! The estate: every device given in one run, put together from its exports.

mod changes;
mod containers;
mod datastores;
mod dial_in;
mod estate;
mod idle;
mod idle_programs;
mod input;
mod logins;
mod mixed;
mod outside;
mod profiles;
mod retired;
pub mod space;
mod unused;

pub use dial_in::DialIn;
pub use estate::{DeviceFile, DeviceId, Estate, ExportRecord, LeftOutFile};
pub use input::Input;
pub use outside::{OutsideInterface, OutsideReason};

use crate::baseline::{Baseline, BaselineRow};
use crate::config::ValidEstateFile;
use jiff::civil::Date;
use rayon::prelude::*;
use std::collections::{BTreeMap, BTreeSet};
use std::net::IpAddr;
use std::sync::Arc;
use trevlin_model::secret::Masker;
use trevlin_model::{
    Device, DeviceKind, ExportId, Facts, Family, Filter, FilterFormat, Gap, GapKind, Hook, Interface, Limits,
    Origin, Pool, Setting, Target, TranslationKind, TunnelFamily,
};

impl Estate {
    /// Assembles the estate. Inputs are in the order of their numbers.
    #[must_use]
    pub fn assemble(inputs: Vec<Input>, file: &ValidEstateFile) -> Self {
        Self::within(inputs, file, Limits::default())
    }

    /// The same within these limits. Everything that readers or this function leave out is reported.
    #[must_use]
    pub fn within(mut inputs: Vec<Input>, file: &ValidEstateFile, limits: Limits) -> Self {
        retired::set_aside(&mut inputs);
        datastores::set_aside(&mut inputs);
        unused::set_aside(&mut inputs);
        changes::set_aside(&mut inputs);
        let mut exports = Vec::with_capacity(inputs.len());
        let mut by_folder: BTreeMap<String, (Vec<ExportId>, Vec<Facts>)> = BTreeMap::new();
        let (mut cuts, mut faults) = (Vec::new(), Vec::new());
        for mut input in inputs {
            let left_out = input.ledger.cuts.iter().map(|cut| (cut.text.clone(), cut.origin));
            let whole = input.export.origin(0..0);
            let faults_of = input.ledger.faults.iter().map(|why| (why.clone(), whole));
            let gaps =
                left_out.chain(faults_of).map(|(text, origin)| Gap { kind: GapKind::LeftOut(text), origin });
            let gaps: Vec<Gap> = gaps.collect();
            input.ledger.gaps.extend(gaps);
            cuts.append(&mut input.ledger.cuts);
            let path = input.export.path();
            faults
                .extend(input.ledger.faults.drain(..).map(|why| LeftOutFile { path: path.to_owned(), why }));
            for filter in &mut input.facts.filters {
                cuts.extend(filter.cut(&limits));
            }
            let (ids, facts) = by_folder.entry(input.folder).or_default();
            ids.push(input.export.id());
            let described = input.facts.described;
            facts.push(*input.facts);
            exports.push(ExportRecord {
                export: input.export,
                format: input.format,
                described,
                ledger: input.ledger,
            });
        }
        let left_out = cuts
            .into_iter()
            .filter_map(|cut| {
                let record: &ExportRecord = exports.get(cut.origin.export.0 as usize)?;
                let line = record.export.line_of(cut.origin.start);
                Some(LeftOutFile { path: format!("{}:{line}", record.export.path()), why: cut.text })
            })
            .chain(faults)
            .collect();
        let contact = |folder: &String| file.device(folder).and_then(|entry| entry.contact.clone());
        // Facts of a device come together by themselves.
        let by_folder: Vec<_> = by_folder.into_iter().collect();
        let exports_of = &exports;
        let mut by_name: Vec<(Device, String)> = by_folder
            .into_par_iter()
            .map(|(folder, (exports, facts))| {
                let mut facts = Facts::joined(facts);
                let path_of = |origin: Origin| exports_of[origin.export.0 as usize].export.path();
                idle::set_aside(&mut facts, path_of);
                idle_programs::set_aside(&mut facts, path_of);
                profiles::set_aside(&mut facts, path_of);
                containers::settle(&mut facts);
                changes::carry_out(&mut facts);
                changes::publish(&mut facts);
                (device(folder.clone(), exports, facts, file), folder)
            })
            .collect();
        by_name.sort_by(|(a, _), (b, _)| (&a.name, &a.exports).cmp(&(&b.name, &b.exports)));
        let named =
            by_name.iter().filter_map(|(device, folder)| Some((device.name.clone(), contact(folder)?)));
        let contacts = named.collect();
        let whose = by_name
            .iter()
            .map(|(device, folder)| (folder.as_str(), device.name.as_str(), device.site.as_deref()));
        let device_baselines = Arc::new(file.baseline.device_baselines(whose.clone()));
        let unused_baselines = file.baseline.of_nobody(whose);
        let devices: Vec<Device> = by_name.into_iter().map(|(device, _)| device).collect();
        let places: Vec<_> =
            devices.iter().flat_map(|device| device.facts.masked_places.iter().copied()).collect();
        let held = devices.iter().flat_map(|device| device.facts.to_mask());
        let masker = Masker::beside(held, &places, &names(&devices));
        let mut estate = Self {
            exports,
            devices,
            organisation: file.organisation.clone(),
            networks: file.networks.clone(),
            administrator_groups: file.administrator_groups.clone(),
            report: file.report.clone(),
            scope: file.scope_of_names(),
            has_checksums: false,
            catalogue_files: Vec::new(),
            wanted: file.wanted,
            joined: file.joined.clone(),
            apart: file.apart.clone(),
            intents: file.intents.clone(),
            accepts: file.accepts.clone(),
            left_out,
            limits,
            answers: file.answers.clone(),
            contacts,
            device_baselines,
            unused_baselines,
            dial_in: BTreeMap::new(),
            outside: Vec::new(),
            by_address: BTreeMap::new(),
            forwards_to: BTreeMap::new(),
            masker,
            holders: Vec::new(),
        };
        estate.holders = vec![None; estate.exports.len()];
        for (at, device) in estate.devices.iter().enumerate() {
            for export in &device.exports {
                if let Some(holder) = estate.holders.get_mut(export.0 as usize) {
                    *holder = Some(at);
                }
            }
        }
        estate.index();
        dial_in::settle(&mut estate);
        for at in 0..estate.devices.len() {
            let listed = logins::of_pages(&estate, at, estate.devices[at].facts.logins.clone());
            let logins = logins::of(&estate, at).into_iter().chain(listed).collect();
            estate.devices[at].logins = logins;
        }
        estate.outside = outside::of(&estate);
        estate
    }

    /// Indexes addresses and the targets of port forwards.
    fn index(&mut self) {
        for (at, device) in self.devices.iter().enumerate() {
            for address in device.facts.interfaces.iter().flat_map(|one| &one.addresses) {
                self.by_address.entry(address.net.addr()).or_default().push(at);
            }
        }
        for (at, device) in self.devices.iter().enumerate() {
            for (number, forward) in device.facts.forwards.iter().enumerate() {
                let Some(range) = forward.to.addresses else { continue };
                for target in
                    self.by_address.range(range.first()..=range.last()).flat_map(|(_, devices)| devices)
                {
                    if *target != at {
                        self.forwards_to.entry(*target).or_default().push((at as u32, number as u32));
                    }
                }
            }
        }
    }

    /// The baseline for its checks on a date.
    #[must_use]
    pub fn baseline(&self, as_of: Date) -> Baseline {
        Baseline::new(as_of, Arc::clone(&self.device_baselines))
    }

    /// The thresholds in force, then for each device those that differ there.
    #[must_use]
    pub fn baseline_rows(&self) -> Vec<BaselineRow> {
        self.device_baselines.rows(self.devices.iter().map(|device| device.name.as_str()))
    }
}

fn device(folder: String, exports: Vec<ExportId>, mut facts: Facts, file: &ValidEstateFile) -> Device {
    let entry = file.device(&folder).cloned().unwrap_or_default();
    facts.interfaces = merge(std::mem::take(&mut facts.interfaces));
    facts.stored_interfaces = merge(std::mem::take(&mut facts.stored_interfaces));
    logins::settle_ike(&mut facts);
    // One interface as files have it and as it runs, or as two files have it, is one tunnel.
    let mut seen: BTreeSet<(TunnelFamily, String)> = BTreeSet::new();
    facts.tunnels.retain(|one| {
        one.interface.as_ref().is_none_or(|interface| seen.insert((one.family, interface.clone())))
    });
    once(&mut facts.filters);
    // A forward in a table that was exported twice counts once.
    let rules: BTreeSet<Origin> = facts
        .filters
        .iter()
        .flat_map(|filter| &filter.chains)
        .flat_map(|chain| &chain.rules)
        .map(|rule| rule.origin)
        .collect();
    facts.forwards.retain(|forward| rules.contains(&forward.origin));
    stand_in(&mut facts);
    find_ways(&mut facts);
    lend_networks(&mut facts);
    turn_sides(&mut facts);
    let kind = entry.kind.or(facts.said_kind).unwrap_or_else(|| kind(&facts));
    let name = entry.name.or_else(|| facts.said_name.clone()).unwrap_or(folder);
    let stated_outside = entry.outside.unwrap_or_default();
    let site = entry.site;
    let wanted_sends = entry.sends.or(file.wanted.sends);
    let server_names = entry.server_names;
    Device {
        name,
        kind,
        exports,
        facts,
        logins: Vec::new(),
        server_names,
        wanted_sends,
        site,
        stated_outside,
    }
}

/// One table in two dumps is one table: the same ruleset as text and as JSON, and a table of iptables that nft prints as well.
fn once(filters: &mut Vec<Filter>) {
    let twin = |one: &Filter, other: &Filter| {
        let same = (one.state, one.families, &one.table) == (other.state, other.families, &other.table);
        let built_in = |name: &str| !name.is_empty() && name.bytes().all(|byte| byte.is_ascii_uppercase());
        let of_iptables = other.format == FilterFormat::Iptables
            && one.format == FilterFormat::Nftables
            && one.chains.iter().filter(|chain| chain.hook.is_some()).all(|chain| built_in(&chain.name));
        same && (of_iptables || (one.format == other.format && one.says_the_same(other)))
    };
    let mut kept: Vec<Filter> = Vec::with_capacity(filters.len());
    // Those of iptables first, since they are the ones that stay.
    let mut all = std::mem::take(filters);
    all.sort_by_key(|one| one.format);
    for one in all {
        if !kept.iter().any(|known| twin(&one, known)) {
            kept.push(one);
        }
    }
    *filters = kept;
}

/// Where no running state was exported, the boot configuration is judged in its place. Files that name only the loopback interface do not
/// describe the other interfaces.
fn stand_in(facts: &mut Facts) {
    let says = |one: &Interface| !one.loopback && (!one.addresses.is_empty() || one.asks.is_some());
    facts.interfaces_run = facts.has_interfaces;
    if !facts.has_interfaces && facts.stored_interfaces.iter().any(says) {
        facts.interfaces.clone_from(&facts.stored_interfaces);
        facts.has_interfaces = true;
    }
    // A dump of one IP version says nothing of the other.
    for family in [Family::V4, Family::V6] {
        if !facts.routes.iter().any(|route| route.family() == family) {
            let stored = facts.stored_routes.iter().filter(|route| route.family() == family);
            facts.routes.extend(stored.cloned());
        }
    }
}

/// Sets the interface of a route that names only a gateway: the one whose network contains it.
fn find_ways(facts: &mut Facts) {
    let interfaces = &facts.interfaces;
    for route in facts.routes.iter_mut().filter(|route| route.interface.is_none()) {
        let Some(gateway) = route.gateway else { continue };
        let holds = |one: &&Interface| one.addresses.iter().any(|address| address.net.contains(&gateway));
        route.interface = interfaces.iter().find(holds).map(|one| one.name.clone());
    }
}

/// For a tunnel with fixed client addresses whose own address is in another file, adds that address's network.
fn lend_networks(facts: &mut Facts) {
    let without =
        |one: &&mut trevlin_model::Tunnel| one.addresses.pools.is_empty() && !one.addresses.fixed.is_empty();
    for tunnel in facts.tunnels.iter_mut().filter(without) {
        let own = facts.interfaces.iter().find(|one| tunnel.interface.as_ref() == Some(&one.name));
        let pools = own.into_iter().flat_map(|one| &one.addresses);
        tunnel.addresses.pools = pools.map(|address| Pool::around(tunnel.name.as_str(), address)).collect();
    }
}

/// Files that are the same on both ends name one side left and the other right: the local end is the one whose address the device has
/// (ipsec.conf(5)). The readers assume left; where only right is an address of the device, the sides are exchanged, except where a side
/// assigns addresses and is therefore known.
fn turn_sides(facts: &mut Facts) {
    let own: BTreeSet<IpAddr> =
        facts.interfaces.iter().flat_map(|one| &one.addresses).map(|one| one.net.addr()).collect();
    for tunnel in &mut facts.tunnels {
        let Some(connection) = tunnel.ipsec.as_mut().filter(|one| one.sides_by_address) else { continue };
        let has = |side: &[(String, Origin)]| {
            side.iter().any(|(text, _)| text.parse().is_ok_and(|address| own.contains(&address)))
        };
        let hands_out = !tunnel.addresses.pools.is_empty() || !tunnel.addresses.fixed.is_empty();
        if hands_out || has(&connection.local_addresses) || !has(&connection.remote_addresses) {
            continue;
        }
        connection.turn();
        let networks = connection.children.iter().flat_map(|child| &child.remote.networks);
        tunnel.addresses.remote = networks.copied().collect();
        let bound = connection.local_addresses.iter().find_map(|(text, origin)| {
            let value = Some(text.parse::<IpAddr>().ok()?);
            Some(Setting::Stated { value, origin: *origin })
        });
        for listener in &mut tunnel.listeners {
            listener.address = bound.clone().unwrap_or_else(|| listener.address.clone());
        }
    }
}

/// One interface from several dumps.
fn merge(interfaces: Vec<Interface>) -> Vec<Interface> {
    let mut merged: Vec<Interface> = Vec::new();
    for one in interfaces {
        match merged.iter_mut().find(|known| known.name == one.name) {
            Some(known) => {
                for address in one.addresses {
                    if !known.addresses.iter().any(|held| held.net == address.net) {
                        known.addresses.push(address);
                    }
                }
                known.up = known.up.or(one.up);
                known.asks = known.asks.or(one.asks);
                known.point_to_point |= one.point_to_point;
            }
            None => merged.push(one),
        }
    }
    merged
}

/// The kind as far as the facts show it: translation for others, or several networks with rules for what passes between them,
/// make a firewall; several networks without anything served make a router; an answering tunnel makes a server.
fn kind(facts: &Facts) -> DeviceKind {
    let networks = facts
        .interfaces
        .iter()
        .filter(|one| !one.loopback && !one.point_to_point && !one.addresses.is_empty())
        .count();
    let chains = || facts.filters.iter().flat_map(|filter| &filter.chains);
    let translates = chains()
        .flat_map(|chain| &chain.rules)
        .any(|rule| matches!(&rule.target, Target::Translate(how) if how.kind != TranslationKind::Redirect));
    // A host with one network that translates for its own tunnels serves them; a dialled uplink is a second network.
    let dialled = |name: &String| {
        facts.interfaces.iter().any(|one| one.point_to_point && one.name == *name)
            && facts.tunnels.iter().all(|tunnel| tunnel.interface.as_ref() != Some(name))
    };
    let uplink = facts.routes.iter().filter(|route| route.is_default());
    let has_one_network = facts.has_interfaces
        && networks == 1
        && !uplink.into_iter().filter_map(|route| route.interface.as_ref()).any(dialled);
    let serves = !facts.tunnels.is_empty() || !facts.served.is_empty() || !facts.credentials.is_empty();
    let passes = chains().any(|chain| chain.hook == Some(Hook::Forward) && !chain.rules.is_empty());
    if (translates && !(has_one_network && serves)) || (networks > 1 && passes) {
        DeviceKind::Firewall
    } else if !facts.tunnels.is_empty() || !facts.credentials.is_empty() {
        DeviceKind::Server
    } else if networks > 1 {
        DeviceKind::Router
    } else {
        DeviceKind::Unknown
    }
}

/// Those of a list in order of device that are of one.
#[must_use]
pub fn of_device<T>(all: &[T], device: usize, whose: impl Fn(&T) -> usize) -> &[T] {
    let from = all.partition_point(|one| whose(one) < device);
    let of_it = all[from..].partition_point(|one| whose(one) == device);
    &all[from..from + of_it]
}

/// Names that outputs show in clear, and their words.
fn names(devices: &[Device]) -> BTreeSet<&str> {
    let mut found = BTreeSet::new();
    for device in devices {
        let facts = &device.facts;
        let all = std::iter::once(&device.name)
            .chain(facts.interfaces.iter().map(|one| &one.name))
            .chain(facts.tunnels.iter().map(|one| &one.name))
            .chain(facts.served.iter().map(|one| &one.name))
            .chain(facts.logins.iter().map(|one| &one.user))
            .chain(facts.accounts.iter().map(|one| &one.name))
            .chain(facts.groups.iter().map(|one| &one.name));
        for name in all {
            found.insert(name.as_str());
            found
                .extend(name.split(|letter: char| !letter.is_alphanumeric()).filter(|word| !word.is_empty()));
        }
    }
    found
}

#[cfg(test)]
mod tests;
