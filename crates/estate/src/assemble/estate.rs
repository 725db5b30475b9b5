//! The estate: devices with their exports, and the content of the estate file.

use crate::baseline::DeviceBaselines;
use crate::config::{Accept, GivenAnswer, Intent, InterfacePair, ReportEntry, Scope, Wanted};
use ipnet::IpNet;
use rayon::prelude::*;
use serde::Serialize;
use std::collections::BTreeMap;
use std::net::IpAddr;
use std::path::Path;
use std::sync::Arc;
use trevlin_model::secret::Masker;
use trevlin_model::{
    Described, Device, Export, ExportId, ExportState, Family, Filter, Ledger, Limits, Origin, PortForward,
    Protocol, find_path,
};
use trevlin_model::{PasswordSource, PppProfile, Reference};

/// A file of a device: an export, or one named as the source of a sheet's entries.
#[derive(Debug, Clone, Copy)]
pub struct DeviceFile<'a> {
    /// Path below the device's folder.
    pub path: &'a str,
    pub(crate) export: Option<ExportId>,
}

/// One export once its facts went to its device.
#[derive(Debug)]
pub struct ExportRecord {
    /// The export.
    pub export: Export,
    /// Name of the format, where a reader took it.
    pub format: Option<&'static str>,
    /// How it describes an appliance, where it does.
    pub described: Option<Described>,
    /// Classification of its lines.
    pub ledger: Ledger,
}

/// Something that was given and could not be read.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub struct LeftOutFile {
    /// Path.
    pub path: String,
    /// Why it was left out, and what to do.
    pub why: String,
}

impl LeftOutFile {
    /// The same, with many files of one reason as one entry: the folder that all of them are in, and their number.
    #[must_use]
    pub fn grouped(all: &[Self]) -> Vec<Self> {
        const SEVERAL: usize = 4;
        let mut groups: Vec<(&str, Vec<&Path>)> = Vec::new();
        for one in all {
            let path = Path::new(&one.path);
            match groups.iter_mut().find(|(why, _)| *why == one.why) {
                Some((_, paths)) => paths.push(path),
                None => groups.push((&one.why, vec![path])),
            }
        }
        let mut found = Vec::new();
        for (why, paths) in groups {
            let why = why.to_owned();
            if paths.len() < SEVERAL {
                found.extend(
                    paths.iter().map(|path| Self { path: path.display().to_string(), why: why.clone() }),
                );
            } else {
                let path = format!("{}: {} files", common(&paths).display(), paths.len());
                found.push(Self { path, why });
            }
        }
        found
    }
}

/// The folder that all of these paths are in, directly or below it.
fn common<'p>(paths: &[&'p Path]) -> &'p Path {
    let first = paths.first().and_then(|path| path.parent()).unwrap_or(Path::new(""));
    first.ancestors().find(|folder| paths.iter().all(|one| one.starts_with(folder))).unwrap_or(first)
}

/// A device of an estate.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct DeviceId(pub usize);

impl From<usize> for DeviceId {
    fn from(at: usize) -> Self {
        Self(at)
    }
}

/// Everything given in one run.
#[derive(Debug)]
pub struct Estate {
    /// Exports by number.
    pub exports: Vec<ExportRecord>,
    /// Devices in order of name.
    pub devices: Vec<Device>,
    /// Names of the organisation.
    pub organisation: Vec<String>,
    /// The front page of a report, as far as the estate file states it.
    pub report: ReportEntry,
    /// Scope of the audit, where the estate file states one; devices by their names.
    pub scope: Option<Scope>,
    /// Whether a file of checksums came with the exports.
    pub has_checksums: bool,
    /// Catalogues of controls that came with the exports, by path, as text.
    pub catalogue_files: Vec<(String, String)>,
    /// Public address space of its own, as far as the estate file names it.
    pub networks: Vec<IpNet>,
    /// Groups whose members administer systems according to the estate file.
    pub administrator_groups: Vec<String>,
    /// Requirements of the estate file for every tunnel.
    pub wanted: Wanted,
    /// Interfaces that share a network according to the estate file.
    pub joined: Vec<InterfacePair>,
    /// Those that do not.
    pub apart: Vec<InterfacePair>,
    /// Intended access.
    pub intents: Vec<Intent>,
    /// Accepted findings.
    pub accepts: Vec<Accept>,
    /// Files that could not be read.
    pub left_out: Vec<LeftOutFile>,
    /// How far it is followed.
    pub limits: Limits,
    /// Answers to information requests.
    pub answers: Vec<GivenAnswer>,
    /// Contact for a device, by its name.
    pub contacts: BTreeMap<String, String>,
    /// Entries of the estate file with thresholds for devices that do not exist, with their places.
    pub unused_baselines: Vec<String>,
    pub(crate) device_baselines: Arc<DeviceBaselines>,
    /// Options of pppd for each PPP tunnel, by device and tunnel.
    pub(crate) dial_in: BTreeMap<(usize, usize), DialIn>,
    /// Interfaces that face an untrusted network, by device.
    pub(crate) outside: Vec<Vec<OutsideInterface>>,
    /// Devices by the addresses of their interfaces.
    pub(crate) by_address: BTreeMap<IpAddr, Vec<usize>>,
    /// Port forwards (device, number) that lead to each device.
    pub(crate) forwards_to: BTreeMap<usize, Vec<(u32, u32)>>,
    pub(crate) masker: Masker,
    /// Which device an export is of, by its number.
    pub(crate) holders: Vec<Option<usize>>,
}

impl Estate {
    /// How an appliance is described, which has no commands and files of an open system; nothing for a device with an export of one.
    #[must_use]
    pub fn described(&self, at: usize) -> Option<Described> {
        let described = self.devices[at].facts.described?;
        let records = self.devices[at].exports.iter().map(|id| &self.exports[id.0 as usize]);
        let mut read = records.filter(|record| record.format.is_some());
        read.all(|record| record.described.is_some()).then_some(described)
    }

    /// Whether a device is an appliance without commands and files of an open system.
    #[must_use]
    pub fn is_appliance(&self, at: usize) -> bool {
        self.described(at).is_some()
    }

    /// A device by its number.
    #[must_use]
    pub fn device(&self, id: DeviceId) -> &Device {
        &self.devices[id.0]
    }

    /// Whether an address belongs to another device of the estate.
    #[must_use]
    pub fn is_of_another(&self, device: usize, address: IpAddr) -> bool {
        self.by_address.get(&address).is_some_and(|holders| holders.iter().any(|holder| *holder != device))
    }

    /// Devices that have an address.
    #[must_use]
    pub fn holders(&self, address: IpAddr) -> &[usize] {
        self.by_address.get(&address).map_or(&[], Vec::as_slice)
    }

    /// Port forwards of other devices that lead to an address of this one, in order of device.
    pub fn forwards_to(&self, device: usize) -> impl Iterator<Item = (&Device, &PortForward)> {
        self.forwards_to.get(&device).into_iter().flatten().map(|(front, number)| {
            let front = &self.devices[*front as usize];
            (front, &front.facts.forwards[*number as usize])
        })
    }

    /// Port forwards of other devices that lead one of these packets here: the running ones, the stored twins behind
    /// them; a forward that is only stored, where a dump of what runs was exported too, is not in force.
    #[must_use]
    pub fn forwards_of_port(
        &self,
        device: usize,
        protocol: Protocol,
        port: u16,
    ) -> Vec<(&Device, &PortForward)> {
        let of_this_port = |forward: &PortForward| {
            let same = forward.protocol.0.is_none() || forward.protocol == protocol;
            // An unchanged port arrives as the requested one.
            let leads = match forward.to.ports {
                Some(ports) => ports.contains(port),
                None => forward.ports.is_empty() || forward.ports.iter().any(|ports| ports.contains(port)),
            };
            same && leads
        };
        let mut found: Vec<_> =
            self.forwards_to(device).filter(|(_, forward)| of_this_port(forward)).collect();
        found.sort_by_key(|(_, forward)| forward.state == ExportState::Stored);
        let runs =
            |device: &Device| device.facts.filters.iter().any(|filter| filter.state == ExportState::Running);
        match found.first() {
            Some((front, first)) if first.state == ExportState::Stored && runs(front) => Vec::new(),
            _ => found,
        }
    }

    /// Takes it apart on every core: texts and secrets are wiped byte by byte, and of a large estate there are many.
    pub fn wipe(self) {
        let Self { exports, devices, .. } = self;
        rayon::join(|| exports.into_par_iter().for_each(drop), || devices.into_par_iter().for_each(drop));
    }

    /// The export with this number.
    #[must_use]
    pub fn export(&self, id: ExportId) -> &Export {
        &self.exports[id.0 as usize].export
    }

    /// The format an export was read as, where a reader took it.
    #[must_use]
    pub fn format_of(&self, id: ExportId) -> Option<&'static str> {
        self.exports[id.0 as usize].format
    }

    /// The path of an origin, with its line: `dial-in/etc/pptpd.conf:12`.
    #[must_use]
    pub fn place(&self, origin: Origin) -> String {
        let export = self.export(origin.export);
        format!("{}:{}", export.path(), export.line_of(origin.start))
    }

    /// Options of pppd for a PPP tunnel.
    #[must_use]
    pub fn dial_in(&self, device: usize, tunnel: usize) -> Option<&DialIn> {
        self.dial_in.get(&(device, tunnel))
    }

    /// Interfaces of a device that face an untrusted network, certainly or probably.
    #[must_use]
    pub fn outside(&self, device: usize) -> &[OutsideInterface] {
        &self.outside[device]
    }

    /// Number of the device that an export is of.
    pub fn holder(&self, export: ExportId) -> Option<usize> {
        self.holders.get(export.0 as usize).copied().flatten()
    }

    /// Masks every secret of the estate in a text on its way out.
    #[must_use]
    pub fn masker(&self) -> &Masker {
        &self.masker
    }

    /// The filter tables of one IP version to judge: the running ones where any were exported, otherwise the stored.
    #[must_use]
    pub fn tables(&self, device: usize, family: Family) -> Vec<&Filter> {
        let all =
            || self.devices[device].facts.filters.iter().filter(move |filter| filter.families.has(family));
        let running: Vec<_> = all().filter(|filter| filter.state == ExportState::Running).collect();
        if running.is_empty() { all().collect() } else { running }
    }

    /// The tables in force on a device: for each IP version the running ones where any were exported, otherwise the stored.
    #[must_use]
    pub fn tables_in_force(&self, device: usize) -> Vec<&Filter> {
        let mut tables = self.tables(device, Family::V4);
        for table in self.tables(device, Family::V6) {
            if !tables.iter().any(|known| std::ptr::eq(*known, table)) {
                tables.push(table);
            }
        }
        tables
    }

    /// The file of a device that a path in one of its files means.
    pub fn find(&self, device: usize, path: &str, named_in: ExportId) -> Option<DeviceFile<'_>> {
        let device = &self.devices[device];
        let exports = device.exports.iter().map(|id| self.export(*id));
        let mut files: Vec<DeviceFile<'_>> =
            exports.map(|export| DeviceFile { path: export.path(), export: Some(export.id()) }).collect();
        for (_, path) in &device.facts.files {
            if !files.iter().any(|file| file.path == path) {
                files.push(DeviceFile { path, export: None });
            }
        }
        let paths: Vec<_> = files.iter().map(|file| file.path).collect();
        find_path(path, self.export(named_in).path(), &paths).map(|at| files[at])
    }

    /// Whether a place is in a file of a device.
    pub fn stands_in(&self, device: usize, origin: Origin, file: DeviceFile<'_>) -> bool {
        if file.export.is_some() {
            return file.export == Some(origin.export);
        }
        let mut parts = self.devices[device].facts.files.iter();
        parts.any(|(part, path)| {
            path == file.path
                && part.export == origin.export
                && part.start <= origin.start
                && origin.end <= part.end
        })
    }
}

/// Options of pppd for the clients of one tunnel: `/etc/ppp/options`, then the file that the tunnel server names.
#[derive(Debug)]
pub struct DialIn {
    /// All options joined, the later overriding the earlier.
    pub profile: PppProfile,
    /// Files that belong to it and are not among the exports.
    pub missing: Vec<Reference>,
    /// Service that authenticates clients in place of the secrets files, with the line.
    pub elsewhere: Vec<(PasswordSource, Origin)>,
}

impl DialIn {
    /// Whether the required methods (or any, where none is named) include one.
    #[must_use]
    pub fn may_ask(&self, methods: &[&str]) -> bool {
        self.profile.require.is_empty()
            || self.profile.require.iter().any(|(method, _)| methods.contains(method))
    }
}

/// Reason to assume that an interface faces an untrusted network.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum OutsideReason {
    /// Stated in the estate file.
    Stated,
    /// The default route leaves by it, towards a next hop that is no device of the estate.
    DefaultRoute(Origin),
    /// It has a public address, and no default route is more conclusive.
    PublicAddress(Origin),
    /// Source translation is applied to traffic leaving by it, and nothing else is known.
    Hides(Origin),
}

/// An interface that faces an untrusted network.
#[derive(Debug, Clone)]
pub struct OutsideInterface {
    /// Name.
    pub name: String,
    /// Why.
    pub reason: OutsideReason,
    /// Whether it is certain. A private address with an unknown next hop may be on an internal network.
    pub certain: bool,
    /// Place of the interface; `None` where only the estate file names it.
    pub origin: Option<Origin>,
    /// Its addresses.
    pub addresses: Vec<IpAddr>,
}
