//! The exports received: devices, formats, the share of each export that was understood, missing exports, and assumed Internet interfaces.

use crate::checksums::ManifestRow;
use crate::run::{DeviceSummary, Outcome};
use ipnet::IpNet;
use serde::Serialize;
use std::collections::{BTreeMap, BTreeSet};
use trevlin_analysis::context::Analyses;
use trevlin_estate::assemble::{LeftOutFile, OutsideReason};
use trevlin_estate::evidence::{Evidence, place};
use trevlin_estate::special::is_public;
use trevlin_model::{DeviceKind, Family, LineClass, Reference};

/// A format with how many files are of it.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub struct FormatCount {
    /// Name of the format.
    pub format: String,
    /// Files.
    pub files: usize,
}

/// An interface that faces an untrusted network.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub struct OutsideRow {
    /// Interface.
    pub interface: String,
    /// Its addresses.
    pub addresses: Vec<String>,
    /// The reason for it.
    pub why: &'static str,
    /// Whether that is certain.
    pub certain: bool,
}

/// A file that is referred to and not there.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub struct MissingFile {
    /// As written.
    pub path: String,
    /// Whether it may contain settings, so that the lines that were read are not all.
    pub configuration: bool,
    /// Where it is referred to.
    pub evidence: Vec<Evidence>,
}

/// A device.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub struct SurveyedDevice {
    /// Name.
    pub name: String,
    /// Kind.
    pub kind: DeviceKind,
    /// Formats of its exports, the most frequent first.
    pub formats: Vec<FormatCount>,
    /// Lines of files of known formats.
    pub lines: u32,
    /// Lines that became facts.
    pub understood: u32,
    /// Lines that are known and have no bearing; blank lines and comments too.
    pub passed_over: u32,
    /// Lines that are not known.
    pub not_understood: u32,
    /// Files of no format that is read here.
    pub unknown: Vec<String>,
    /// Number of files that configure no service, login or filter.
    pub no_bearing: usize,
    /// Assumed Internet interfaces.
    pub outside: Vec<OutsideRow>,
    /// Files that are referred to and not there.
    pub missing: Vec<MissingFile>,
    /// Exports that nearly every device can provide and this one lacks, as phrases, each with the command.
    pub lacks: Vec<&'static str>,
}

/// The exports received.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub struct Survey {
    /// Devices in order of name.
    pub devices: Vec<SurveyedDevice>,
    /// Public networks of Internet interfaces: the organisation's own, as far as the exports show.
    pub networks: Vec<String>,
    /// Files that could not be read.
    pub left_out: Vec<LeftOutFile>,
    /// Number of information requests.
    pub open_questions: usize,
    /// Collected exports, compared with their checksums.
    pub manifests: Vec<ManifestRow>,
}

/// The exports received. The outcome is that of the audit of the same estate.
#[must_use]
pub fn survey(estate: &Analyses, outcome: &Outcome) -> Survey {
    let mut networks = BTreeSet::new();
    let devices = outcome
        .devices
        .iter()
        .enumerate()
        .map(|(at, summary)| {
            let outside = outside(estate, at, &mut networks);
            SurveyedDevice {
                outside,
                missing: missing(estate, outcome, at),
                lacks: lacks(estate, at),
                ..read(estate, at, summary)
            }
        })
        .collect();
    let networks = networks.into_iter().map(|net: IpNet| net.to_string()).collect();
    Survey {
        devices,
        networks,
        left_out: outcome.left_out.clone(),
        open_questions: outcome.open_questions.len(),
        manifests: Vec::new(),
    }
}

fn read(estate: &Analyses, at: usize, summary: &DeviceSummary) -> SurveyedDevice {
    let device = &estate.devices[at];
    let mut formats: BTreeMap<&str, usize> = BTreeMap::new();
    let (mut unknown, mut no_bearing) = (Vec::new(), 0);
    let mut counts = [0u32; 4];
    for export in &device.exports {
        let record = &estate.exports[export.0 as usize];
        let Some(format) = record.format else {
            if record.ledger.count(LineClass::NotUnderstood) == 0 {
                no_bearing += 1;
            } else {
                unknown.push(record.export.path().to_owned());
            }
            continue;
        };
        *formats.entry(format).or_default() += 1;
        counts[0] += record.export.line_count();
        for (count, class) in
            counts[1..].iter_mut().zip([LineClass::Understood, LineClass::Ignored, LineClass::NotUnderstood])
        {
            *count += record.ledger.count(class);
        }
    }
    let mut formats: Vec<FormatCount> =
        formats.into_iter().map(|(format, files)| FormatCount { format: format.to_owned(), files }).collect();
    formats.sort_by(|a, b| (b.files, &a.format).cmp(&(a.files, &b.format)));
    let [lines, understood, passed_over, not_understood] = counts;
    SurveyedDevice {
        name: summary.name.clone(),
        kind: summary.kind,
        formats,
        lines,
        understood,
        passed_over,
        not_understood,
        unknown,
        no_bearing,
        outside: Vec::new(),
        missing: Vec::new(),
        lacks: Vec::new(),
    }
}

fn outside(estate: &Analyses, at: usize, networks: &mut BTreeSet<IpNet>) -> Vec<OutsideRow> {
    let facts = &estate.devices[at].facts;
    estate
        .outside(at)
        .iter()
        .map(|one| {
            let nets = facts.interfaces.iter().filter(|known| known.name == one.name);
            let nets = nets.flat_map(|known| &known.addresses).map(|address| address.net);
            networks.extend(nets.filter(|net| one.certain && is_public(net.addr())).map(|net| net.trunc()));
            OutsideRow {
                interface: one.name.clone(),
                addresses: one.addresses.iter().map(ToString::to_string).collect(),
                why: match one.reason {
                    OutsideReason::Stated => "stated in the estate file",
                    OutsideReason::DefaultRoute(_) => "the default route uses it",
                    OutsideReason::PublicAddress(_) => "it has a public address",
                    OutsideReason::Hides(_) => "outgoing connections are translated to its address",
                },
                certain: one.certain,
            }
        })
        .collect()
}

/// Files that some line refers to. Where no reader keeps the reference, the question about it names the file.
fn missing(estate: &Analyses, outcome: &Outcome, at: usize) -> Vec<MissingFile> {
    let device = &estate.devices[at];
    let of_tunnels = device.facts.tunnels.iter().flat_map(|tunnel| &tunnel.missing);
    let mut found: BTreeMap<String, MissingFile> = BTreeMap::new();
    let mut add = |path: &str, configuration: bool, evidence: Option<Evidence>| {
        let one = found.entry(path.to_owned()).or_insert_with(|| MissingFile {
            path: path.to_owned(),
            configuration: false,
            evidence: Vec::new(),
        });
        one.configuration |= configuration;
        one.evidence.extend(evidence.filter(|place| !one.evidence.contains(place)));
    };
    let is_file = |one: &&Reference| one.unsaid.is_none() && !one.path.is_empty();
    for one in device.facts.missing.iter().chain(of_tunnels).filter(is_file) {
        add(&one.path, one.configuration, Some(place(estate, one.origin)));
    }
    for one in outcome.open_questions.iter().filter(|one| *one.device == *device.name) {
        for path in one.files.iter().filter(|path| path.starts_with('/')) {
            add(path, false, one.evidence.first().cloned());
        }
    }
    found.into_values().collect()
}

fn lacks(estate: &Analyses, at: usize) -> Vec<&'static str> {
    let device = &estate.devices[at];
    let mut found = Vec::new();
    if !device.facts.has_interfaces {
        found.push("addresses of its interfaces (`ip -j addr show`)");
    }
    if device.facts.routes.is_empty() {
        found.push("routes (`ip -j route show table all`)");
    }
    if !estate.shows_filter(at, Family::V4) && device.kind != DeviceKind::Storage {
        found.push("packet filter (`nft list ruleset`, or `iptables-save` and `ip6tables-save`)");
    }
    if !device.facts.has_sockets {
        found.push("listening sockets (`ss -tulpn`)");
    }
    found
}
