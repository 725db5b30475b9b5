//! Files that set up interfaces at boot.

pub(crate) mod ifupdown;
pub(crate) mod netplan;
pub(crate) mod networkd;
pub(crate) mod wireguard;

use crate::addresses;
use crate::reader::{LineRecorder, Reading};
use ipnet::IpNet;
use std::borrow::Cow;
use std::net::IpAddr;
use trevlin_model::{Export, Interface, InterfaceAddress, MalformedAddress, Origin, Route};

/// An interface with nothing stated yet.
fn interface(name: &str, origin: Origin) -> Interface {
    Interface {
        name: name.to_owned(),
        loopback: name == "lo",
        point_to_point: false,
        up: None,
        addresses: Vec::new(),
        asks: None,
        origin,
    }
}

/// A command that adds a route.
pub(crate) struct RouteCommand<'w> {
    /// Where to.
    pub(crate) to: Cow<'w, str>,
    /// The next hop.
    pub(crate) via: Option<&'w str>,
    /// The interface.
    pub(crate) dev: Option<&'w str>,
    /// Whether it is for a table of its own.
    pub(crate) apart: bool,
}

impl<'w> RouteCommand<'w> {
    /// `ip route add NET via GATEWAY dev NAME` (ip-route(8)) and `route add -net NET netmask MASK gw GATEWAY` (route(8)), by their words.
    pub(crate) fn of(words: &[&'w str]) -> Option<Self> {
        let after = |wanted: &[&str]| {
            words.iter().position(|word| wanted.contains(word)).and_then(|at| words.get(at + 1).copied())
        };
        let plain: Vec<&str> = words.iter().copied().filter(|word| !matches!(*word, "-4" | "-6")).collect();
        let to = match plain.as_slice() {
            ["ip", "route" | "r" | "ro", "add" | "replace" | "append", to, ..] => Cow::Borrowed(*to),
            ["route", "add", "-net", to, ..] => match after(&["netmask"]) {
                Some(mask) => Cow::Owned(format!("{to}/{mask}")),
                None => Cow::Borrowed(*to),
            },
            ["route", "add", "-host", to, ..] | ["route", "add", to @ "default", ..] => Cow::Borrowed(*to),
            _ => return None,
        };
        Some(Self {
            to,
            via: after(&["via", "gw"]),
            dev: after(&["dev"]),
            apart: after(&["table"]).is_some(),
        })
    }
}

/// `address/length`; host bits are kept.
fn stated(text: &str, origin: Origin, malformed: &mut Vec<MalformedAddress>) -> Option<InterfaceAddress> {
    let net = addresses::take(text, origin, malformed, |text| match text.split_once('/') {
        Some(_) => text.parse::<IpNet>().ok(),
        None => text.parse::<IpAddr>().ok().map(IpNet::from),
    })?;
    Some(InterfaceAddress { net, peer: None, dynamic: false, origin })
}

/// A route to `to` by `via`, leaving by an interface. `default` is every address of the gateway's version.
fn route(
    to: &str,
    via: Option<&str>,
    interface: &str,
    origin: Origin,
    malformed: &mut Vec<MalformedAddress>,
) -> Option<Route> {
    route_by(to, via, Some(interface), origin, malformed)
}

/// The same where the interface may follow from the gateway.
pub(crate) fn route_by(
    to: &str,
    via: Option<&str>,
    interface: Option<&str>,
    origin: Origin,
    malformed: &mut Vec<MalformedAddress>,
) -> Option<Route> {
    let gateway: Option<IpAddr> = match via {
        Some(text) => Some(addresses::take(text, origin, malformed, |text| text.parse().ok())?),
        None => None,
    };
    let destination = match to {
        "default" => {
            let any = if gateway.is_some_and(|one| one.is_ipv6()) { "::/0" } else { "0.0.0.0/0" };
            any.parse().ok()?
        }
        text => addresses::take(text, origin, malformed, addresses::prefix)?,
    };
    Some(Route {
        destination,
        gateway,
        interface: interface.map(str::to_owned),
        preference: None,
        forwards: true,
        origin,
    })
}

/// Marks the lines of what should be an address and is none.
fn tell_mistyped(export: &Export, mut reading: Reading) -> Reading {
    let mut book = LineRecorder::new(export, &mut reading.ledger, &mut reading.elsewhere);
    for bad in &reading.facts.malformed {
        book.not_understood(bad.origin, bad.why.clone());
    }
    reading
}
