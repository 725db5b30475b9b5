//! Files that set up interfaces at boot.

pub(crate) mod ifupdown;
pub(crate) mod netplan;
pub(crate) mod networkd;
pub(crate) mod wireguard;

use crate::addresses;
use crate::reader::{LineRecorder, Reading};
use ipnet::IpNet;
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
