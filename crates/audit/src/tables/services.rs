//! Services of devices, as outputs show them, with every secret masked.

use rayon::prelude::*;
use serde::Serialize;
use std::net::IpAddr;
use trevlin_analysis::context::Analyses;
use trevlin_analysis::exposure::{Exposure, protection::protection_evidence};
use trevlin_analysis::services::{Encrypted, Known, ProtocolPorts, Service, What, sites_at};
use trevlin_analysis::verdicts::LoginFactor;
use trevlin_analysis::ways::some_ranges;
use trevlin_estate::evidence::{Evidence, place};
use trevlin_model::served::{AuthRequirement, PartKind, Remark, Requirement, Served, ServiceResource};
use trevlin_model::{Device, Families, PortRange, Setting};

/// Where a service listens.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub struct PlaceRow {
    /// Protocol and port, such as `tcp 443`.
    pub endpoint: ProtocolPorts,
    /// Address; none for every one.
    pub address: Option<IpAddr>,
    /// IP versions, where it is every address.
    pub versions: Vec<&'static str>,
    /// Interface, where it is bound to one.
    pub interface: Option<String>,
}

/// One resource of a service.
#[derive(Debug, Clone, Serialize)]
pub struct PartRow {
    /// `share`, `export`, `page` and so on.
    pub kind: &'static str,
    /// Name; that of a community is its number, as the word is a secret.
    pub name: String,
    /// Folder or device behind it.
    pub path: Option<String>,
    /// Who may use it by address: `everybody`, or the first few ranges and names.
    pub sources: String,
    /// Whether only the device itself, or no client, is permitted.
    #[serde(skip)]
    pub near: bool,
    /// Whether its name shows who has access.
    #[serde(skip)]
    pub named_for_user: bool,
    /// Whether it is the service as a whole.
    #[serde(skip)]
    pub whole: bool,
    /// Required authentication.
    #[serde(skip)]
    pub login: Option<AuthRequirement>,
    /// Permitted users by name; empty where none is named.
    pub users: Vec<String>,
    /// Weakest authentication accepted; none where it is not known.
    pub asks: Option<&'static str>,
    /// Whether they may change it; none where that is not known.
    pub writes: Option<bool>,
    /// Whether the content is encrypted by the part's own settings: `never`, `offered`, `required`.
    pub encryption: Option<&'static str>,
    /// Whether messages are signed.
    pub signing: Option<&'static str>,
    /// Further remarks.
    pub remarks: Vec<&'static str>,
    /// Its line.
    pub evidence: Evidence,
}

/// Something that a device serves.
#[derive(Debug, Clone, Serialize)]
pub struct ServedRow {
    /// The device.
    pub device: String,
    /// Kind of device.
    pub device_kind: &'static str,
    /// Name.
    pub name: String,
    /// Purpose.
    pub kind: &'static str,
    /// How it is known.
    pub known: Known,
    /// Where it listens.
    pub places: Vec<PlaceRow>,
    /// Whether only the device itself reaches it.
    pub local: bool,
    /// Whether it is encrypted.
    pub encrypted: Option<Encrypted>,
    /// Factors that it requires; none where they are not known.
    pub factors: Option<Vec<LoginFactor>>,
    /// Internet sources that reach it: empty, `any`, or ranges.
    pub outside: Vec<String>,
    /// Whether any Internet address reaches it.
    #[serde(skip)]
    pub everybody: bool,
    /// Tunnels whose clients reach it.
    pub clients: Vec<String>,
    /// Whether its reachability depends on a condition that is not analysed.
    pub uncertain: bool,
    /// Its resources.
    pub parts: Vec<PartRow>,
    /// Information that the exports do not contain.
    pub open: Vec<String>,
    /// Lines that state it.
    pub evidence: Vec<Evidence>,
}

/// Every service of the devices named, or of all, by device; those that listen at several places once.
#[must_use]
pub fn sheet(estate: &Analyses, devices: &[String]) -> Vec<ServedRow> {
    let internet = estate.internet();
    let of_device = |(at, device): (usize, &Device)| -> Vec<ServedRow> {
        if !devices.is_empty() && !devices.contains(&device.name) {
            return Vec::new();
        }
        let mut own: Vec<(What, ServedRow)> = Vec::new();
        for (number, service) in internet.services[at].iter().enumerate() {
            let (place, name) = (place_of(service), masked(estate, &service.name));
            let same = |(what, row): &&mut (What, ServedRow)| {
                row.name == name
                    && (*what == service.what && *what != What::Socket || row.places.contains(&place))
            };
            match own.iter_mut().find(same) {
                Some((_, row)) => {
                    if !row.places.contains(&place) {
                        row.places.push(place);
                    }
                    row.local &= service.is_local();
                    row.known = worse(row.known, service.known);
                    reached(estate, at, number, row);
                }
                None => {
                    let mut row = row(estate, at, service, place);
                    reached(estate, at, number, &mut row);
                    own.push((service.what, row));
                }
            }
        }
        own.into_iter().map(|(_, row)| row).collect()
    };
    estate.devices.par_iter().enumerate().flat_map_iter(of_device).collect()
}

/// The state to show, from two places of one service.
fn worse(one: Known, other: Known) -> Known {
    if one == Known::Both || other == Known::Both { Known::Both } else { one.max(other) }
}

fn masked(estate: &Analyses, text: &str) -> String {
    estate.masker().mask(text)
}

fn place_of(service: &Service) -> PlaceRow {
    let versions = match (service.address, service.families) {
        (Some(_), _) => Vec::new(),
        (None, Families::V4) => vec!["IPv4"],
        (None, Families::V6) => vec!["IPv6"],
        (None, Families::Both) => vec!["IPv4", "IPv6"],
    };
    PlaceRow {
        endpoint: ProtocolPorts {
            protocol: service.protocol,
            ports: PortRange { first: service.port, last: service.port },
        },
        address: service.address,
        versions,
        interface: service.interface.clone(),
    }
}

fn row(estate: &Analyses, at: usize, service: &Service, place: PlaceRow) -> ServedRow {
    let device = &estate.devices[at];
    let protection = protection_evidence(estate, at, service);
    let sites = sites_at(device, service);
    let several = sites.len() > 1;
    let mut parts = Vec::new();
    for site in &sites {
        parts.extend(site.parts.iter().map(|part| part_row(estate, site, part, several)));
    }
    ServedRow {
        device: device.name.clone(),
        device_kind: device.kind.word(),
        name: masked(estate, &service.name),
        kind: service.kind().words(),
        known: service.known,
        places: vec![place],
        local: service.is_local(),
        encrypted: protection.encrypted,
        factors: protection.factors,
        outside: Vec::new(),
        everybody: false,
        clients: Vec::new(),
        uncertain: false,
        parts,
        open: sites.iter().flat_map(|one| &one.open).map(|(text, _)| masked(estate, text)).collect(),
        evidence: service
            .origins()
            .into_iter()
            .map(|origin| trevlin_estate::evidence::place(estate, origin))
            .collect(),
    }
}

fn part_row(estate: &Analyses, site: &Served, part: &ServiceResource, several: bool) -> PartRow {
    // With several sites at one place, each resource names its site.
    let name = match (several, part.kind) {
        (true, PartKind::Page) => {
            let port = site.endpoints.first().map_or(80, |one| one.port);
            let site = site.label.clone().unwrap_or_else(|| format!("at {port}"));
            format!("{site}{}", part.name)
        }
        _ => part.name.clone(),
    };
    let demand = |setting: &Option<Setting<Requirement>>| match setting.as_ref()?.value()? {
        Requirement::Never => Some("never"),
        Requirement::Offered => Some("offered"),
        Requirement::Required => Some("required"),
    };
    PartRow {
        kind: part.kind.words(),
        name: masked(estate, &name),
        path: part.path.as_ref().map(|path| masked(estate, path)),
        sources: masked(estate, &part.sources.words()),
        near: part.sources.is_local() || part.sources.is_nobody(),
        named_for_user: match part.users.as_slice() {
            [one] => *one == part.name || part.kind == PartKind::Rule,
            _ => false,
        },
        whole: part.kind == PartKind::Whole,
        login: part.login.value().copied(),
        users: part.users.iter().map(|user| masked(estate, user)).collect(),
        asks: part.login.value().map(|asked: &AuthRequirement| asked.words()),
        writes: part.writes.value().copied(),
        encryption: demand(&part.encryption),
        signing: demand(&part.signing),
        remarks: part.remarks.iter().filter_map(|(remark, _)| words(*remark)).collect(),
        evidence: place(estate, part.origin),
    }
}

/// A remark in words; those that other columns show are left out.
fn words(remark: Remark) -> Option<&'static str> {
    Some(match remark {
        Remark::RootKept => "runs as root",
        Remark::AnyPort => "any source port",
        Remark::Listing => "directory listing",
        Remark::LeavesFolder => "leads out of its folder",
        Remark::Status => "status page",
        Remark::Administration => "administration",
        Remark::HandedOn => "forwarded",
        Remark::Redirect => "redirects to TLS",
        Remark::RedirectSometimes => "redirects partly to TLS",
        Remark::AnyInitiator => "any host",
        Remark::OneSided => "only the client is authenticated",
        Remark::ClearPassword => "password in clear text",
        Remark::Md5Password => "MD5 password",
        Remark::Commands => "accepts commands",
        Remark::AnyTarget => "to any port",
        Remark::Recursion => return None,
    })
}

/// Notes from where the views reach a service.
fn reached(estate: &Analyses, device: usize, number: usize, row: &mut ServedRow) {
    let mine = |exposure: &Exposure| -> Vec<(bool, bool, String)> {
        let all = exposure.reached_of(device).filter(|one| one.service == number);
        all.map(|one| (one.everybody, one.certain, some_ranges(&one.sources))).collect()
    };
    for (everybody, certain, ranges) in mine(&estate.internet().outside) {
        row.uncertain |= !certain;
        if everybody {
            row.outside = vec!["any".to_owned()];
            row.everybody = true;
        } else if !row.everybody && !row.outside.contains(&ranges) {
            row.outside.push(ranges);
        }
    }
    for (number, exposure) in estate.internal().coming_to(device) {
        let tunnel = &estate.shape().clients[number].tunnel;
        if !mine(exposure).is_empty() && !row.clients.contains(tunnel) {
            row.clients.push(tunnel.clone());
        }
    }
}
