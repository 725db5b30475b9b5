//! Configuration of the OpenConnect server (ocserv(8)) and its list of passwords (ocpasswd(8)).
//!
//! `name = value` on a line; the last line of a single-valued name wins; an indented line is one more value of the name before it; a
//! section `[vhost:NAME]` begins another host's settings, which default to those of the first host.

mod auth;
pub(crate) mod passwords;

use crate::addresses;
use crate::reader::{LineRecorder, ReadContext, Reader, Reading, Recognition, TELLING_LINES};
use auth::Method;
use ipnet::{IpNet, Ipv4Net};
use serde::Deserialize;
use std::net::IpAddr;
use std::sync::Arc;
use trevlin_model::certificate::{CertificateFile, CertificateUse};
use trevlin_model::offer::Offer;
use trevlin_model::plan::{AddressPlan, FixedAddress};
use trevlin_model::secret::SecretKind;
use trevlin_model::ssh::matches;
use trevlin_model::{
    AlternativeLogin, CertificateRequirement, ClientAuthentication, Export, Family, IpRange, LineClass,
    Listener, MalformedAddress, Origin, Pool, Protocol, Revocation, Secret, SecretRecord, Setting, Tunnel,
    TunnelFamily, TunnelRole,
};

/// The reader.
pub(crate) const READER: Reader = Reader {
    name: "ocserv",
    title: "OpenConnect server configuration",
    manual: "ocserv(8)",
    recognise,
    read,
};

const DAEMON: &str = "ocserv";
const MANUAL: &str = "ocserv(8), FILES";

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
struct Keywords {
    judged: Vec<String>,
    passed_over: Vec<String>,
}

trevlin_model::table! { static KEYWORDS: Keywords = "../../tables/ocserv-keywords.toml"; }

/// Classification of a keyword; `None` for one that the daemon ignores.
fn class(name: &str) -> Option<LineClass> {
    let one_of = |names: &[String]| names.iter().any(|known| matches(name, known));
    if one_of(&KEYWORDS.judged) {
        Some(LineClass::Understood)
    } else if one_of(&KEYWORDS.passed_over) {
        Some(LineClass::Ignored)
    } else {
        None
    }
}

/// One value with its line.
#[derive(Debug, Clone)]
struct Said {
    name: String,
    value: String,
    origin: Origin,
    value_origin: Origin,
}

/// The settings of one host.
#[derive(Debug, Clone, Default)]
struct Host {
    name: Option<String>,
    said: Vec<Said>,
    /// Lines that the daemon refuses to start with.
    refused: Option<(String, Origin)>,
}

impl Host {
    fn all<'a>(&'a self, name: &'a str) -> impl DoubleEndedIterator<Item = &'a Said> {
        self.said.iter().filter(move |one| one.name == name)
    }

    fn last<'a>(&'a self, name: &'a str) -> Option<&'a Said> {
        self.all(name).next_back()
    }
}

fn recognise(export: &Export) -> Recognition {
    let names = || {
        let lines = export.lines().take(TELLING_LINES * 3).map(|line| line.text.trim());
        lines.filter(|text| !text.starts_with('#')).filter_map(|text| Some(text.split_once('=')?.0.trim()))
    };
    let has = |name: &str| names().any(|one| one == name);
    let telling =
        ["max-same-clients", "tls-priorities", "ipv4-network", "cert-user-oid", "rate-limit-ms", "udp-port"];
    if has("auth") && telling.iter().filter(|name| has(name)).count() >= 2 {
        Recognition::Content
    } else if export.file_name() == "ocserv.conf" {
        Recognition::Name
    } else {
        Recognition::No
    }
}

fn bare(value: &str) -> &str {
    value.strip_prefix('"').and_then(|rest| rest.strip_suffix('"')).unwrap_or(value)
}

fn read(export: &Export, around: &ReadContext<'_>) -> Reading {
    let mut reading = Reading::of(export);
    let mut book = LineRecorder::new(export, &mut reading.ledger, &mut reading.elsewhere);
    let mut hosts = vec![Host::default()];
    let mut before: Option<String> = None;
    for line in export.lines() {
        let text = line.text.trim();
        if text.is_empty() || text.starts_with(['#', ';']) {
            continue;
        }
        let origin = export.origin_of(text);
        if let Some(section) = text.strip_prefix('[').and_then(|rest| rest.split(']').next()) {
            book.understood(origin);
            let name = section.strip_prefix("vhost:").unwrap_or(section).to_owned();
            hosts.push(Host { name: Some(name), ..Host::default() });
            before = None;
            continue;
        }
        // A semicolon behind a blank begins a comment.
        let text = text.find(" ;").or_else(|| text.find("\t;")).map_or(text, |end| text[..end].trim_end());
        let (name, value) = match &before {
            Some(name) if line.text.starts_with([' ', '\t']) => (name.clone(), text),
            _ => match text.split_once('=').or_else(|| text.split_once(':')) {
                Some((name, value)) => (name.trim().to_owned(), value.trim()),
                None => {
                    book.not_understood(origin, "expected `name = value`");
                    continue;
                }
            },
        };
        match class(&name) {
            Some(class) => book.class(origin, class),
            None => book.not_understood(origin, "not a keyword of ocserv(8); the daemon ignores it"),
        }
        let said = Said {
            value: bare(value).to_owned(),
            origin,
            value_origin: export.origin_of(value),
            name: name.clone(),
        };
        before = Some(name);
        if let Some(host) = hosts.last_mut() {
            host.said.push(said);
        }
    }
    for number in 0..hosts.len() {
        take(export, around, &hosts, number, &mut reading);
    }
    reading
}

/// The tunnel of one host. Settings missing in a virtual host are those of the first host (ocserv(8), virtual hosts).
fn take(export: &Export, around: &ReadContext<'_>, hosts: &[Host], number: usize, reading: &mut Reading) {
    let mut host = hosts[number].clone();
    let stated: Vec<String> = host.said.iter().map(|one| one.name.clone()).collect();
    if number > 0 {
        host.said.extend(hosts[0].said.iter().filter(|one| !stated.contains(&one.name)).cloned());
    }
    for one in hosts[number].said.iter().filter(|one| one.name == "key-pin" || one.name == "srk-pin") {
        reading.facts.secrets.push(Arc::new(SecretRecord {
            secret: Secret::new(one.value.as_str()),
            kind: SecretKind::Passphrase,
            owner: format!("{} in {}", one.name, export.file_name()),
            origin: one.value_origin,
        }));
    }
    let Some(first) = hosts[number].said.first() else { return };
    let mut ways: Vec<(Vec<Method>, Vec<Said>)> = Vec::new();
    let mut book = LineRecorder::new(export, &mut reading.ledger, &mut reading.elsewhere);
    let mut methods = |said: &Said, refused: &mut Option<(String, Origin)>| match auth::method(&said.value) {
        Some(method) => Some(method),
        None => {
            let why = "the authentication method is not one of ocserv(8)";
            book.not_understood(said.origin, why);
            refused.get_or_insert((why.into(), said.origin));
            None
        }
    };
    let mut refused = host.refused.take();
    let main: Vec<Said> = host.all("auth").cloned().collect();
    let together: Vec<Method> = main.iter().filter_map(|said| methods(said, &mut refused)).collect();
    if main.is_empty() {
        refused.get_or_insert(("`auth` is not set".into(), first.origin));
    }
    ways.push((together, main));
    for said in host.all("enable-auth").cloned().collect::<Vec<_>>() {
        if let Some(method) = methods(&said, &mut refused) {
            ways.push((vec![method], vec![said]));
        }
    }
    let passwords =
        || ways.iter().flat_map(|way| way.0.iter().zip(&way.1)).filter(|(method, _)| method.asks_password());
    if let Some((_, second)) = passwords().nth(1) {
        refused.get_or_insert(("two password methods cannot be combined".into(), second.origin));
    }
    if host.last("ipv4-network").is_none() && host.last("ipv6-network").is_none() {
        refused.get_or_insert(("neither `ipv4-network` nor `ipv6-network` is set".into(), first.origin));
    }
    let main = &ways[0];
    let asks = |method: &Method| matches!(method, Method::Certificate);
    let certificate = match main.0.iter().position(asks) {
        Some(at) => Setting::Stated { value: CertificateRequirement::Required, origin: main.1[at].origin },
        None => match main.1.first() {
            Some(said) => Setting::Stated { value: CertificateRequirement::NotAsked, origin: said.origin },
            None => Setting::Unknown { why: "`auth` is not set".into() },
        },
    };
    let checks = |way: &(Vec<Method>, Vec<Said>)| {
        let pairs = way.0.iter().zip(&way.1);
        pairs.filter_map(|(method, said)| method.check(said.origin)).collect::<Vec<_>>()
    };
    let alternatives = ways[1..]
        .iter()
        .map(|way| AlternativeLogin {
            certificate: way.0.iter().any(asks),
            passwords: checks(way),
            origin: way.1[0].origin,
        })
        .collect();
    let name = match &host.name {
        Some(vhost) => format!("OpenConnect server ({vhost})"),
        None => format!("OpenConnect server ({})", export.file_name()),
    };
    let proof = ClientAuthentication {
        certificate: Some(certificate),
        passwords: checks(main),
        alternatives,
        shared_key: None,
        revocation: host.last("crl").map(|said| Revocation { strict: true, origin: said.origin }),
    };
    let origin = host.last("auth").map_or(first.origin, |said| said.origin);
    let mut addresses = plan(&host, &name);
    for file in of_clients(&host, export, around) {
        per_client(file, &name, &mut addresses, &mut reading.elsewhere);
    }
    reading.facts.tunnels.push(Tunnel {
        refused,
        listeners: listeners(&host),
        proof,
        offers: offers(&host, origin),
        addresses,
        certificates: certificates(&host),
        settings: host
            .said
            .iter()
            .filter(|one| class(&one.name) == Some(LineClass::Understood) && !one.name.ends_with("-pin"))
            .map(|one| (one.name.clone(), Setting::Stated { value: one.value.clone(), origin: one.origin }))
            .collect(),
        ..Tunnel::new(name, TunnelFamily::OpenConnect, TunnelRole::Server, origin)
    });
}

fn certificates(host: &Host) -> Vec<CertificateFile> {
    let of = |name: &'static str, purpose: CertificateUse| {
        host.all(name).map(move |said| CertificateFile {
            purpose,
            path: Some(said.value.clone()),
            origin: said.origin,
        })
    };
    of("server-cert", CertificateUse::Own).chain(of("ca-cert", CertificateUse::Authority)).collect()
}

fn listeners(host: &Host) -> Vec<Listener> {
    let address = |name: &str| match host.last(name) {
        Some(said) => match said.value.parse::<IpAddr>() {
            Ok(address) if address.is_unspecified() => Setting::Stated { value: None, origin: said.origin },
            Ok(address) => Setting::Stated { value: Some(address), origin: said.origin },
            Err(_) => Setting::Unknown { why: format!("`{name}` is a host name") },
        },
        None => Setting::default_of(None, DAEMON, MANUAL),
    };
    let port = |name: &str, default: u16| match host.last(name) {
        Some(said) => match said.value.parse() {
            Ok(value) => Setting::Stated { value, origin: said.origin },
            Err(_) => Setting::Unknown { why: format!("`{name}` is not a port") },
        },
        None => Setting::default_of(default, DAEMON, MANUAL),
    };
    let mut found = vec![Listener {
        protocol: Protocol::TCP,
        address: address("listen-host"),
        port: port("tcp-port", 443),
    }];
    // No port for UDP, or 0, leaves it closed.
    if host.last("udp-port").is_some_and(|said| said.value != "0") {
        let name = if host.last("udp-listen-host").is_some() { "udp-listen-host" } else { "listen-host" };
        found.push(Listener { protocol: Protocol::UDP, address: address(name), port: port("udp-port", 443) });
    }
    found
}

/// Address plan: pools, routes pushed to clients (without a `route` all traffic), DNS servers, number of simultaneous clients.
fn plan(host: &Host, owner: &str) -> AddressPlan {
    let mut plan = AddressPlan { pools: pools(host, owner), ..AddressPlan::default() };
    let mut routed = false;
    for said in host.all("route") {
        routed = true;
        if said.value == "default" {
            plan.sent_through.extend(families(&plan.pools).map(|family| (IpRange::all(family), said.origin)));
        } else {
            let net = addresses::take(&said.value, said.origin, &mut plan.malformed, addresses::prefix);
            plan.sent_through.extend(net.map(|net| (net.into(), said.origin)));
        }
    }
    if !routed {
        let everything: Vec<_> = families(&plan.pools).map(IpRange::all).collect();
        let origins = plan.pools.iter().map(|pool| pool.origin);
        plan.sent_through = everything.into_iter().zip(origins).collect();
    }
    for keyword in ["dns", "ipv4-dns", "ipv6-dns"] {
        for said in host.all(keyword) {
            let server = addresses::take(&said.value, said.origin, &mut plan.malformed, addresses::single);
            plan.name_servers.extend(server.map(|server| (server, said.origin)));
        }
    }
    for said in host.all("no-route") {
        let net = addresses::take(&said.value, said.origin, &mut plan.malformed, addresses::prefix);
        plan.kept_out.extend(net.map(|net| (net.into(), said.origin)));
    }
    for keyword in ["nbns", "ipv4-nbns", "ipv6-nbns"] {
        let servers =
            host.all(keyword).map(|said| (format!("a NetBIOS name server, {}", said.value), said.origin));
        plan.netbios.extend(servers);
    }
    for keyword in ["split-dns", "default-domain"] {
        plan.domains.extend(host.all(keyword).map(|said| (said.value.clone(), said.origin)));
    }
    // 0 is no limit.
    let most = host.last("max-clients").and_then(|said| Some((said.value.parse().ok()?, said.origin)));
    plan.sessions = most.filter(|(count, _)| *count > 0);
    plan
}

/// The files for single users and groups, and those for all who have none (ocserv(8), config-per-user).
fn of_clients<'a>(host: &Host, export: &Export, around: &ReadContext<'a>) -> Vec<&'a Export> {
    let mut found = Vec::new();
    for keyword in ["config-per-user", "config-per-group"] {
        if let Some(said) = host.last(keyword) {
            found.extend(around.find_all(&format!("{}/*", said.value.trim_end_matches('/')), export));
        }
    }
    for keyword in ["default-user-config", "default-group-config"] {
        found.extend(host.last(keyword).and_then(|said| around.find(&said.value, export)));
    }
    found
}

/// Settings of a file about client addresses.
fn per_client(export: &Export, owner: &str, plan: &mut AddressPlan, book: &mut Vec<(Origin, LineClass)>) {
    let mut own = Host::default();
    for line in export.lines() {
        let text = line.text.trim();
        if text.is_empty() || text.starts_with('#') {
            continue;
        }
        let origin = export.origin_of(text);
        let Some((name, value)) = text.split_once('=') else {
            book.push((origin, LineClass::NotUnderstood));
            continue;
        };
        let (name, value) = (name.trim(), value.trim());
        book.push((origin, class(name).unwrap_or(LineClass::NotUnderstood)));
        own.said.push(Said {
            name: name.to_owned(),
            value: bare(value).to_owned(),
            origin,
            value_origin: export.origin_of(value),
        });
    }
    for said in own.all("explicit-ipv4").chain(own.all("explicit-ipv6")) {
        let address = said.value.split('/').next().unwrap_or_default();
        let fixed = addresses::take(address, said.origin, &mut plan.malformed, addresses::single);
        let who = export.file_name().to_owned();
        plan.fixed.extend(fixed.map(|range| FixedAddress { who, range, origin: said.origin }));
    }
    let mut of_these = self::plan(&own, owner);
    // Without a network of their own these clients use the server's.
    let routed = own.last("route").is_some();
    plan.pools.append(&mut of_these.pools);
    if routed {
        plan.sent_through.append(&mut of_these.sent_through);
    }
    plan.kept_out.append(&mut of_these.kept_out);
    plan.name_servers.append(&mut of_these.name_servers);
    plan.netbios.append(&mut of_these.netbios);
    plan.domains.append(&mut of_these.domains);
    plan.malformed.append(&mut of_these.malformed);
}

/// TLS parameters that may be negotiated: the priority string that is stated, or the library's default.
fn offers(host: &Host, origin: Origin) -> Vec<Offer> {
    vec![match host.last("tls-priorities") {
        Some(said) => crate::tls::gnutls(&said.value, said.origin),
        None => crate::tls::gnutls("NORMAL", origin),
    }]
}

/// IP versions of assigned addresses, in order of the pools.
fn families(pools: &[Pool]) -> impl Iterator<Item = Family> + use<'_> {
    pools.iter().filter_map(|pool| pool.ranges.first()).map(|(range, _)| range.family())
}

fn pools(host: &Host, owner: &str) -> Vec<Pool> {
    let mut found = Vec::new();
    for keyword in ["ipv4-network", "ipv6-network"] {
        let Some(said) = host.last(keyword) else { continue };
        let mask =
            host.last("ipv4-netmask").filter(|_| keyword == "ipv4-network" && !said.value.contains('/'));
        let net: Option<IpNet> = match mask {
            Some(mask) => addresses::v4_with_mask(&said.value, &mask.value).map(IpNet::from),
            None => said.value.parse::<IpNet>().ok(),
        };
        let mut pool = Pool::new(owner, said.origin);
        match net {
            Some(net) => {
                let net = net.trunc();
                pool.network = Some(net);
                // The daemon keeps the first address for its own end.
                let (first, last) = match net {
                    IpNet::V4(net) => ends_v4(net),
                    IpNet::V6(net) => (net.network().into(), net.broadcast().into()),
                };
                pool.server_addresses.push(net.hosts().next().unwrap_or(first));
                pool.ranges.extend(IpRange::new(first, last).map(|range| (range, said.origin)));
            }
            None => {
                let why = addresses::what_is_wrong(&said.value);
                pool.malformed.push(MalformedAddress { why, origin: said.origin });
            }
        }
        found.push(pool);
    }
    found
}

/// Addresses of an IPv4 network available to clients: without its ends and the daemon's own address.
fn ends_v4(net: Ipv4Net) -> (IpAddr, IpAddr) {
    let (low, high) = (net.network().to_bits(), net.broadcast().to_bits());
    if high - low < 4 {
        return (net.network().into(), net.broadcast().into());
    }
    (std::net::Ipv4Addr::from_bits(low + 2).into(), std::net::Ipv4Addr::from_bits(high - 1).into())
}

#[cfg(test)]
mod tests;
