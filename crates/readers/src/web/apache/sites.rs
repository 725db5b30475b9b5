//! Virtual hosts and the places where they are asked.

use super::main_server::Main;
use super::{Loader, pages};
use crate::angles::Directive;
use crate::relaying;
use crate::serving::{self, truth};
use crate::tls;
use crate::web::shown;
use std::collections::{BTreeMap, BTreeSet};
use trevlin_model::offer::{AlgorithmRole, Offer, Offered};
use trevlin_model::relay::Relay;
use trevlin_model::served::{Endpoint, Served, ServedKind, TransportSecurity};
use trevlin_model::{Families, Origin, Protocol};

const UNITS: &[&str] = &["apache2", "httpd"];

/// Ports with their addresses that the server listens at.
struct Listen {
    host: Option<String>,
    port: u16,
    tls: bool,
    origin: Origin,
}

/// Everywhere the server listens.
#[derive(Default)]
struct Listens {
    all: Vec<Listen>,
    by_port: BTreeMap<u16, Vec<usize>>,
}

impl Listens {
    fn of(all: impl Iterator<Item = Listen>) -> Self {
        let mut listens = Self::default();
        for (at, one) in all.enumerate() {
            listens.by_port.entry(one.port).or_default().push(at);
            listens.all.push(one);
        }
        listens
    }
}

pub(super) fn servers(all: &[Directive<'_>], loader: &Loader<'_>) -> Vec<(Served, Vec<Relay>)> {
    let listening = all.iter().filter(|one| one.name == "listen").filter_map(|one| {
        let text = loader.value(one.first());
        let (host, port) = match text.parse() {
            Ok(port) => (None, port),
            Err(_) => {
                let (host, port) = serving::host_and_port(&text);
                (host.map(str::to_owned), port?)
            }
        };
        let tls = one.words.get(1).is_some_and(|word| word.eq_ignore_ascii_case("https"));
        Some(Listen { host, port, tls, origin: one.origin })
    });
    // Where a place is named twice, the server listens there once.
    let mut places = BTreeSet::new();
    let listens = Listens::of(listening.filter(|one| places.insert((one.host.clone(), one.port))));
    let main = Main::of(all);
    let hosts: Vec<&Directive<'_>> = main.each("virtualhost").collect();
    let mut found: Vec<(Served, Vec<Relay>)> =
        hosts.iter().filter_map(|host| site(host.children(), Some(host), &main, &listens, loader)).collect();
    // Requests without a matching virtual host are answered by the main server.
    let mut named: BTreeSet<(Option<u16>, Option<String>)> = BTreeSet::new();
    for word in hosts.iter().flat_map(|one| &one.words) {
        let text = loader.value(word);
        let (host, port) = serving::host_and_port(&text);
        named.insert((port, host.filter(|name| *name != "_default_").map(str::to_owned)));
    }
    let taken = |listen: &Listen| {
        let ports = [None, Some(listen.port)];
        ports
            .iter()
            .any(|port| [&None, &listen.host].iter().any(|host| named.contains(&(*port, (*host).clone()))))
    };
    let left = Listens::of(
        listens.all.iter().filter(|one| !taken(one)).map(|one| Listen { host: one.host.clone(), ..*one }),
    );
    if !left.all.is_empty() {
        found.extend(site(all, None, &main, &left, loader));
    }
    found
}

fn site(
    own: &[Directive<'_>],
    host: Option<&Directive<'_>>,
    main: &Main<'_, '_>,
    listens: &Listens,
    loader: &Loader<'_>,
) -> Option<(Served, Vec<Relay>)> {
    let last = |name: &str| own.iter().rev().find(|one| one.name == name).or_else(|| main.last(name));
    let engine = last("sslengine").filter(|one| truth(one.first()) == Some(true));
    let mut endpoints = Vec::new();
    for (listen, name) in meeting(host, listens, loader) {
        let carried = if engine.is_some() || (listen.tls && host.is_none()) {
            TransportSecurity::Encrypted
        } else {
            TransportSecurity::Plain
        };
        // A host for every port is at each of them.
        if !crate::growth::may_grow(size_of::<Endpoint>()) {
            break;
        }
        let at = Endpoint::everywhere(Protocol::TCP, listen.port, carried, listen.origin);
        endpoints.extend(placed(at, name.as_deref().or(listen.host.as_deref())));
    }
    // A virtual host at a port where the server does not listen is never asked.
    if endpoints.is_empty() && host.is_some() && !listens.all.is_empty() {
        return None;
    }
    let origin = host.map_or_else(|| listens.all[0].origin, |one| one.origin);
    if endpoints.is_empty() {
        // The lines with ports were not exported; the host names its own.
        let carried = if engine.is_some() { TransportSecurity::Encrypted } else { TransportSecurity::Plain };
        for word in host.iter().flat_map(|one| &one.words) {
            let text = loader.value(word);
            let (name, port) = serving::host_and_port(&text);
            let at = Endpoint::everywhere(Protocol::TCP, port.unwrap_or(80), carried, origin);
            endpoints.extend(placed(at, name.filter(|name| *name != "_default_")));
        }
    }
    let name = own.iter().rev().find(|one| one.name == "servername").map(|one| one.first());
    let title = match name {
        Some(name) => format!("web site {name} (Apache)"),
        None => format!("web site at {} (Apache)", endpoints.first().map_or(80, |one| one.port)),
    };
    let mut served =
        Served::new(ServedKind::Pages, "Apache", title, UNITS, origin).labelled(name.unwrap_or_default());
    served.endpoints = endpoints;
    if let Some(engine) = engine {
        let own_order = last("sslhonorcipherorder").is_some_and(|one| one.first().eq_ignore_ascii_case("on"));
        let offer = offer(last("sslprotocol"), last("sslciphersuite"), engine.origin);
        served.offers.push(Offer { own_order, ..offer });
        let certificate = |one: &Directive<'_>| shown(&loader.value(one.first()), one.origin);
        served.certificates.extend(last("sslcertificatefile").map(certificate));
        let names = own.iter().filter(|one| matches!(one.name.as_str(), "servername" | "serveralias"));
        let plain = |name: &String| name.contains('.') && !name.contains(['*', '?']);
        served.host_names = names
            .flat_map(|one| &one.words)
            .map(|word| {
                let text = loader.value(word);
                let text = text.split_once("://").map_or(&*text, |(_, rest)| rest);
                text.split(':').next().unwrap_or_default().to_owned()
            })
            .filter(plain)
            .collect();
    }
    let (parts, relays) = pages::pages(own, host.is_some(), main, origin);
    served.parts = parts;
    let relays = relaying::placed(relays, &served);
    Some((served, relays))
}

/// Where the server listens for a virtual host, with the name or address that the host has there; all places for the main server.
fn meeting<'l>(
    host: Option<&Directive<'_>>,
    listens: &'l Listens,
    loader: &Loader<'_>,
) -> Vec<(&'l Listen, Option<String>)> {
    let Some(host) = host else { return listens.all.iter().map(|one| (one, None)).collect() };
    let mut by_port: BTreeMap<Option<u16>, BTreeSet<Option<String>>> = BTreeMap::new();
    for word in &host.words {
        let text = loader.value(word);
        let (name, port) = serving::host_and_port(&text);
        let name = name.filter(|name| *name != "_default_").map(str::to_owned);
        by_port.entry(port).or_default().insert(name);
    }
    // Hosts and places may be many: those of other ports are skipped, and a host for every port counts against the budget.
    let near: Vec<usize> = if by_port.contains_key(&None) {
        if crate::growth::may_grow(listens.all.len()) { (0..listens.all.len()).collect() } else { Vec::new() }
    } else {
        let mut near: Vec<usize> = by_port
            .keys()
            .flatten()
            .filter_map(|port| listens.by_port.get(port))
            .flatten()
            .copied()
            .collect();
        near.sort_unstable();
        near
    };
    let mut found = Vec::new();
    for listen in near.into_iter().map(|at| &listens.all[at]) {
        for name in [None, Some(listen.port)].iter().filter_map(|port| by_port.get(port)).flatten() {
            if name.is_none() || listen.host.is_none() || *name == listen.host {
                found.push((listen, name.clone()));
            }
        }
    }
    found
}

fn placed(at: Endpoint, host: Option<&str>) -> Option<Endpoint> {
    match host {
        None => Some(at),
        Some("0.0.0.0") => Some(Endpoint { families: Families::V4, ..at }),
        // The library takes IPv4 at this address as well, as distributions build it.
        Some("::") => Some(at),
        Some("localhost") => Some(at.at([127, 0, 0, 1].into())),
        Some(host) => Some(host.parse().map_or_else(|_| at.clone(), |address| at.clone().at(address))),
    }
}

fn offer(protocols: Option<&Directive<'_>>, ciphers: Option<&Directive<'_>>, origin: Origin) -> Offer {
    let ciphers = ciphers.map(|one| {
        // A version may stand before the list.
        (one.words.last().copied().unwrap_or_default(), one.origin)
    });
    if let Some(one) = protocols {
        let versions: Vec<(&str, Origin)> = one.words.iter().map(|word| (*word, one.origin)).collect();
        return tls::listed(ciphers, &versions, one.origin);
    }
    let mut offer = tls::listed(ciphers, &[], origin);
    offer.algorithms.extend(["TLSv1", "TLSv1.1", "TLSv1.2", "TLSv1.3"].map(|name| Offered {
        name: name.to_owned(),
        role: Some(AlgorithmRole::Protocol),
        versions: None,
        suite: 0,
        origin,
        default: Some("mod_ssl, SSLProtocol: all -SSLv3"),
    }));
    offer
}
