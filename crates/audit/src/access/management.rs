//! Management ports of tunnel servers.

use super::{Access, ServiceKind, from};
use crate::Estate;
use std::net::IpAddr;
use trevlin_model::{FactorKind, Protocol, Setting, TunnelFamily};

/// The row of an OpenVPN server's management port, where it has one.
pub(super) fn row(estate: &Estate, at: usize, number: usize) -> Option<Access> {
    let device = &estate.devices[at];
    let tunnel = &device.facts.tunnels[number];
    if tunnel.family != TunnelFamily::OpenVpn
        || tunnel.settings.iter().any(|(name, _)| name == "management-client")
    {
        return None;
    }
    let said = tunnel.settings.iter().rev().find(|(name, _)| name == "management")?;
    let Setting::Stated { value, origin } = &said.1 else { return None };
    let words: Vec<&str> = value.split(' ').collect();
    let (address, port) = (words.first().copied()?, words.get(1).copied()?);
    let itself =
        address == "localhost" || address.parse::<IpAddr>().is_ok_and(|address| address.is_loopback());
    let password = words.len() > 2;
    let reached = from(estate, at, Protocol::TCP, port.parse().ok());
    let (who, place) = match (port, itself) {
        ("unix", _) => ("who may open the socket", "itself only"),
        (_, true) => ("any program", "itself only"),
        (_, false) => ("anybody", reached.as_str()),
    };
    let (factors, verdict) =
        if password { (vec![FactorKind::Knowledge.words()], "one factor") } else { (Vec::new(), "none") };
    Some(Access {
        device: device.name.clone(),
        kind: ServiceKind::Management,
        service: format!("management of {}", tunnel.name),
        who: who.into(),
        administrators: Vec::new(),
        list: if password { "password file" } else { "none" }.into(),
        factors,
        from: place.into(),
        sources: Vec::new(),
        limits: Vec::new(),
        verdict,
        evidence: crate::outcome::evidence(estate, &[*origin]),
    })
}
