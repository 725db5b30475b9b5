//! Sockets that systemd holds for a service: their units, and parts that change them (systemd.socket(5)).

use crate::reader::ReadContext;
use crate::serving;
use std::net::IpAddr;
use trevlin_model::served::{Endpoint, TransportSecurity};
use trevlin_model::{Export, Families, Origin, Protocol};

/// Where a socket unit listens: by its file in the exports or else by that of its package, with the parts that change it. An empty value
/// takes those before it away.
pub(crate) fn listening(around: &ReadContext<'_>, unit: &str, packaged: Vec<Endpoint>) -> Vec<Endpoint> {
    let own = format!("{unit}.socket");
    let folder = format!("/{unit}.socket.d/");
    let whole = around.exports.iter().find(|one| {
        one.file_name() == own && !one.text().trim().starts_with("/dev/null") && one.text().contains("Listen")
    });
    let mut places = match whole {
        Some(file) => take(file, Vec::new()),
        None => packaged,
    };
    for part in
        around.exports.iter().filter(|one| one.path().contains(&folder) && one.file_name().ends_with(".conf"))
    {
        places = take(part, places);
    }
    places
}

/// The places of a file on top of those before it.
fn take(export: &Export, mut places: Vec<Endpoint>) -> Vec<Endpoint> {
    for text in serving::entries(export) {
        let Some((name, value)) = text.split_once('=') else { continue };
        let protocol = match name.trim() {
            "ListenStream" => Protocol::TCP,
            "ListenDatagram" => Protocol::UDP,
            _ => continue,
        };
        match value.trim() {
            "" => places.retain(|place| place.protocol != protocol),
            value => places.extend(place(value, protocol, export.origin_of(text))),
        }
    }
    places
}

/// `PORT`, `ADDRESS:PORT` or `[ADDRESS]:PORT`; sockets of the machine are none.
pub(crate) fn place(text: &str, protocol: Protocol, origin: Origin) -> Option<Endpoint> {
    let at = |port| Endpoint::everywhere(protocol, port, TransportSecurity::Optional, origin);
    if let Ok(port) = text.parse() {
        return Some(at(port));
    }
    let (host, port) = serving::host_and_port(text);
    let address: IpAddr = host?.parse().ok()?;
    // All addresses of IPv6 take connections of both versions, unless the unit says otherwise (systemd.socket(5), BindIPv6Only).
    Some(match address {
        IpAddr::V6(address) if address.is_unspecified() => Endpoint { families: Families::Both, ..at(port?) },
        address => at(port?).at(address),
    })
}

/// Whether an export is a socket unit, or a part of one, that listens on a port.
pub(crate) fn listens(export: &Export) -> bool {
    let part = export.path().contains(".socket.d/") && export.file_name().ends_with(".conf");
    let states = |text: &str| {
        let value = text.strip_prefix("ListenStream=").or_else(|| text.strip_prefix("ListenDatagram="));
        value.is_some_and(|value| !value.trim().starts_with(['/', '@']))
    };
    (export.file_name().ends_with(".socket") || part) && serving::entries(export).any(states)
}
