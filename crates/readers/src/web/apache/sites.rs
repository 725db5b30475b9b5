//! Virtual hosts and the places where they are asked.

use super::main_server::Main;
use super::{Loader, pages};
use crate::angles::Directive;
use crate::serving::{self, truth};
use crate::tls;
use trevlin_model::offer::{AlgorithmRole, Offer, Offered};
use trevlin_model::served::{Carried, Endpoint, Served, ServedKind};
use trevlin_model::{Families, Origin, Protocol};

const UNITS: &[&str] = &["apache2", "httpd"];

/// Ports with their addresses that the server listens at.
struct Listen {
    host: Option<String>,
    port: u16,
    tls: bool,
    origin: Origin,
}

pub(super) fn servers(all: &[Directive<'_>], loader: &Loader<'_>) -> Vec<Served> {
    let listens: Vec<Listen> = all
        .iter()
        .filter(|one| one.name == "listen")
        .filter_map(|one| {
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
        })
        .collect();
    let main = Main::of(all);
    let hosts: Vec<&Directive<'_>> = main.each("virtualhost").collect();
    let mut found: Vec<Served> =
        hosts.iter().filter_map(|host| site(host.children(), Some(host), &main, &listens, loader)).collect();
    // What no virtual host takes is answered by the main server.
    let taken = |listen: &Listen| {
        hosts.iter().flat_map(|one| &one.words).any(|word| {
            let text = loader.value(word);
            let (host, port) = serving::host_and_port(&text);
            let port = port.is_none_or(|port| port == listen.port);
            port && (matches!(host, None | Some("_default_")) || host == listen.host.as_deref())
        })
    };
    let left: Vec<Listen> = listens
        .iter()
        .filter(|one| !taken(one))
        .map(|one| Listen { host: one.host.clone(), ..*one })
        .collect();
    if !left.is_empty() {
        found.extend(site(all, None, &main, &left, loader));
    }
    found
}

fn site(
    own: &[Directive<'_>],
    host: Option<&Directive<'_>>,
    main: &Main<'_, '_>,
    listens: &[Listen],
    loader: &Loader<'_>,
) -> Option<Served> {
    let last = |name: &str| own.iter().rev().find(|one| one.name == name).or_else(|| main.last(name));
    let engine = last("sslengine").filter(|one| truth(one.first()) == Some(true));
    let mut endpoints = Vec::new();
    for listen in listens {
        let carried = if engine.is_some() || (listen.tls && host.is_none()) {
            Carried::Encrypted
        } else {
            Carried::Plain
        };
        let at = |origin| Endpoint::everywhere(Protocol::TCP, listen.port, carried, origin);
        let Some(host) = host else {
            endpoints.extend(placed(at(listen.origin), listen.host.as_deref()));
            continue;
        };
        for word in &host.words {
            let text = loader.value(word);
            let (name, port) = serving::host_and_port(&text);
            if port.is_some_and(|port| port != listen.port) {
                continue;
            }
            let name = name.filter(|name| *name != "_default_");
            match (name, listen.host.as_deref()) {
                (Some(name), Some(listening)) if name != listening => {}
                (name, listening) => endpoints.extend(placed(at(listen.origin), name.or(listening))),
            }
        }
    }
    // A virtual host at a port where the server does not listen is never asked.
    if endpoints.is_empty() && host.is_some() && !listens.is_empty() {
        return None;
    }
    let origin =
        host.map_or_else(|| own.first().map_or(listens[0].origin, |_| listens[0].origin), |one| one.origin);
    if endpoints.is_empty() {
        // The lines with ports were not exported; the host names its own.
        let carried = if engine.is_some() { Carried::Encrypted } else { Carried::Plain };
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
        served.offers.push(offer(last("sslprotocol"), last("sslciphersuite"), engine.origin));
    }
    served.parts = pages::pages(own, host.is_some(), main, origin);
    Some(served)
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
