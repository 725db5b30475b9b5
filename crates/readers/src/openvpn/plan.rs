//! Address plan of a tunnel besides its pools: routes into it, options pushed to clients, addresses reserved for one client (openvpn(8):
//! `--route`, `--push`, `--ifconfig-push`, `--iroute`, `--max-clients`).

use super::config::Config;
use super::lines::{Directive, split};
use crate::addresses;
use std::net::IpAddr;
use trevlin_model::plan::{AddressPlan, FixedAddress};
use trevlin_model::{Export, Family, IpRange, MalformedAddress, Origin};

/// Keywords for an address that the daemon determines at run time.
const WORKED_OUT: [&str; 3] = ["vpn_gateway", "net_gateway", "remote_host"];

/// Everything but the pools. `per_client` are the files of `client-config-dir`.
pub(super) fn of(config: &Config, per_client: &[&Export]) -> AddressPlan {
    let mut plan = AddressPlan::default();
    let pulls = config.client.is_some() || config.settings.iter().any(|(name, _)| name == "pull");
    for (name, setting) in &config.settings {
        let Some((value, origin)) = setting.stated() else { continue };
        let words: Vec<&str> = value.split_whitespace().collect();
        match (name.as_str(), words.as_slice()) {
            // A client's own route around the tunnel keeps a network out of it, as one that is pushed.
            ("route" | "route-ipv6", args) if pulls && args.contains(&"net_gateway") => {
                push(name, args, origin, &mut plan);
            }
            ("route" | "route-ipv6", args) => {
                if let Some(range) = route(name, args, origin, &mut plan.malformed) {
                    plan.remote.push((range, origin));
                }
            }
            ("redirect-gateway" | "block-ipv6", args) => push(name, args, origin, &mut plan),
            ("push", [pushed, args @ ..]) => push(pushed, args, origin, &mut plan),
            ("max-clients", [count]) => plan.sessions = count.parse().ok().map(|count| (count, origin)),
            _ => {}
        }
    }
    for export in per_client {
        let (directives, _) = split(export);
        for directive in &directives {
            client(directive, export, &mut plan);
        }
    }
    plan
}

/// The network of a route that leads into the tunnel; `None` for one that leads around it, and for names.
fn route(
    name: &str,
    args: &[&str],
    origin: Origin,
    malformed: &mut Vec<MalformedAddress>,
) -> Option<IpRange> {
    let (network, mask, gateway) = match (name, args) {
        ("route-ipv6", [prefix, rest @ ..]) => (*prefix, None, rest.first()),
        (_, [network, rest @ ..]) => (*network, rest.first(), rest.get(1)),
        _ => return None,
    };
    if gateway.is_some_and(|gateway| *gateway == "net_gateway" || gateway.parse::<IpAddr>().is_ok())
        || WORKED_OUT.contains(&network)
    {
        return None;
    }
    let family = if name == "route" { Family::V4 } else { Family::V6 };
    let text = match mask.filter(|mask| **mask != "default") {
        Some(mask) => format!("{network}/{mask}"),
        None => network.to_owned(),
    };
    let parse = |text: &str| addresses::network(text, family);
    // A name with a mask is a name.
    let whole = if addresses::is_name(network) { network } else { text.as_str() };
    addresses::take(whole, origin, malformed, parse).map(IpRange::from)
}

/// Options pushed to clients.
fn push(pushed: &str, args: &[&str], origin: Origin, plan: &mut AddressPlan) {
    let pushed = pushed.trim_matches(['"', '\'']);
    match pushed {
        "route" | "route-ipv6" => {
            // By way of the gateway that was there before, a network is kept out of the tunnel.
            let around = if pushed == "route" { args.get(2) } else { args.get(1) } == Some(&"net_gateway");
            let into: Vec<&str> = args.iter().copied().filter(|word| *word != "net_gateway").collect();
            let range = route(pushed, if around { &into } else { args }, origin, &mut plan.malformed);
            let list = if around { &mut plan.kept_out } else { &mut plan.sent_through };
            list.extend(range.map(|range| (range, origin)));
        }
        "redirect-gateway" => {
            if !args.contains(&"!ipv4") {
                plan.sent_through.push((IpRange::all(Family::V4), origin));
            }
            if args.contains(&"ipv6") {
                plan.sent_through.push((IpRange::all(Family::V6), origin));
            }
        }
        "dns" => {
            if let ["server", _, "address", servers @ ..] = args {
                for server in servers {
                    let server = addresses::take(server, origin, &mut plan.malformed, addresses::single);
                    plan.name_servers.extend(server.map(|server| (server, origin)));
                }
            } else if let ["search-domains", domains @ ..] = args {
                plan.domains.extend(domains.iter().map(|domain| ((*domain).to_owned(), origin)));
            }
        }
        // IPv6 goes nowhere then, so it does not go around either.
        "block-ipv6" => plan.sent_through.push((IpRange::all(Family::V6), origin)),
        "dhcp-option" => {
            match args {
                ["DNS" | "DNS6", server, ..] => {
                    let server = addresses::take(server, origin, &mut plan.malformed, addresses::single);
                    plan.name_servers.extend(server.map(|server| (server, origin)));
                }
                ["DOMAIN" | "DOMAIN-SEARCH" | "ADAPTER_DOMAIN_SUFFIX", domain, ..] => {
                    plan.domains.push(((*domain).to_owned(), origin));
                }
                ["WINS", server, ..] => {
                    plan.netbios.push((format!("a NetBIOS name server, {server}"), origin))
                }
                ["NBDD", server, ..] => {
                    plan.netbios.push((format!("a NetBIOS datagram server, {server}"), origin))
                }
                // Kinds 2, 4 and 8 ask name servers or send packets to all (RFC 2132, 8.7).
                ["NBT", kind, ..] => plan.netbios.push((format!("NetBIOS node type {kind}"), origin)),
                _ => {}
            }
        }
        _ => {}
    }
}

/// One line of a client's own file.
fn client(directive: &Directive<'_>, export: &Export, plan: &mut AddressPlan) {
    let origin = directive.origin;
    let args: Vec<&str> = directive.args.iter().map(|(text, _)| text.as_str()).collect();
    match (directive.name.as_str(), args.as_slice()) {
        ("ifconfig-push" | "ifconfig-ipv6-push", [address, ..]) => {
            let address = address.split('/').next().unwrap_or(address);
            let fixed = addresses::take(address, origin, &mut plan.malformed, addresses::single);
            plan.fixed.extend(fixed.map(|range| FixedAddress {
                who: export.file_name().to_owned(),
                range,
                origin,
            }));
        }
        ("iroute" | "iroute-ipv6", args) => {
            let name = if directive.name == "iroute" { "route" } else { "route-ipv6" };
            let range = route(name, args, origin, &mut plan.malformed);
            plan.remote.extend(range.map(|range| (range, origin)));
        }
        _ => {}
    }
}
