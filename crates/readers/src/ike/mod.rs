//! Connections of IKE and IPsec: strongSwan's two formats and Libreswan's.

mod conn;
pub(crate) mod ipsec_conf;
mod plugins;
mod proposals;
mod secrets;
mod settings;
pub(crate) mod strongswan_conf;
pub(crate) mod swanctl;

use crate::addresses;
use crate::reader::{LineRecorder, Reading};
use std::net::{IpAddr, Ipv4Addr};
use trevlin_model::certificate::{CertificateFile, CertificateUse};
use trevlin_model::ipsec::{AuthRound, ChildMode, IkeProof, IpsecConnection, Selectors};
use trevlin_model::offer::Offer;
use trevlin_model::plan::AddressPlan;
use trevlin_model::{
    CertificateRequirement, IpRange, Listener, MalformedAddress, Origin, PasswordCheck, PasswordSource, Pool,
    Protocol, Setting, Tunnel, TunnelFamily, TunnelRole,
};

/// A pool of virtual addresses from a prefix or a range. The first and last address of an IPv4 prefix are not assigned (strongSwan leaves
/// out the network and the broadcast address).
fn pool(name: &str, text: &str, origin: Origin) -> Pool {
    let mut pool = Pool::new(name, origin);
    // A plug-in may answer ARP for clients on internal networks; the loaded plug-ins are configured elsewhere.
    pool.placement =
        Setting::Unknown { why: "strongswan.conf decides whether the farp plug-in is loaded".into() };
    let Some(range) = addresses::take(text, origin, &mut pool.malformed, addresses::range_or_prefix) else {
        return pool;
    };
    let prefix = text.contains('/').then(|| range.network()).flatten();
    pool.network = prefix.filter(|net| net.prefix_len() < net.max_prefix_len());
    let inner = match (prefix, range.first(), range.last()) {
        (Some(net), IpAddr::V4(first), IpAddr::V4(last)) if net.prefix_len() < 31 => {
            let ends = (first.to_bits() + 1, last.to_bits() - 1);
            IpRange::new(Ipv4Addr::from_bits(ends.0).into(), Ipv4Addr::from_bits(ends.1).into()).ok()
        }
        _ => Some(range),
    };
    pool.ranges.extend(inner.map(|range| (range, origin)));
    pool
}

/// Traffic selectors of one end: networks, or words for addresses known only once the tunnel is up.
fn selectors(stated: Option<(&str, Origin)>, malformed: &mut Vec<MalformedAddress>) -> Selectors {
    let mut found = Selectors::default();
    let Some((text, origin)) = stated else {
        found.texts.push("dynamic".into());
        return found;
    };
    found.origin = Some(origin);
    // Libreswan has lists in braces as well, with blanks in between.
    let text = text.trim_matches(['{', '}']);
    for piece in text.split([',', ' ']).map(str::trim).filter(|piece| !piece.is_empty()) {
        // `[protocol/port]` may follow.
        let (bare, rest) = piece.find('[').map_or((piece, ""), |at| piece.split_at(at));
        let bare = bare.trim();
        if bare.is_empty()
            || bare == "dynamic"
            || ["%", "vhost:", "vnet:"].iter().any(|lead| bare.starts_with(lead))
        {
            let word = if bare.is_empty() || bare == "%dynamic" { "dynamic" } else { bare };
            found.texts.push(format!("{word}{rest}"));
            continue;
        }
        if let Some(range) = addresses::take(bare, origin, malformed, addresses::range_or_prefix) {
            found.networks.push((range, origin));
            found.texts.push(format!("{}{rest}", selector(&range)));
        }
    }
    found
}

/// A range as the daemon lists it: a prefix where it is one.
fn selector(range: &IpRange) -> String {
    match range.network() {
        Some(net) => net.to_string(),
        None => format!("{}..{}", range.first(), range.last()),
    }
}

/// A length of time in seconds: a number, or one with `s`, `m`, `h`, `d` or `w` behind it; Libreswan takes parts of hours.
fn seconds(text: &str) -> Option<u64> {
    let text = text.trim();
    let digits = text.trim_end_matches(|letter: char| letter.is_ascii_alphabetic());
    let unit: u64 = match text[digits.len()..].trim() {
        "" | "s" => 1,
        "m" => 60,
        "h" => 60 * 60,
        "d" => 24 * 60 * 60,
        "w" => 7 * 24 * 60 * 60,
        _ => return None,
    };
    let (whole, part) = digits.trim().split_once('.').unwrap_or((digits.trim(), ""));
    let part = part.trim_end_matches('0');
    let parts = if part.is_empty() { 0 } else { part.parse::<u64>().ok()?.checked_mul(unit)? };
    let tenths = 10u64.checked_pow(u32::try_from(part.len()).ok()?)?;
    whole.parse::<u64>().ok()?.checked_mul(unit)?.checked_add(parts / tenths)
}

/// Adds the tunnel that a connection makes to the facts. `plan` holds its pools, fixed addresses and name servers.
fn finish(
    reading: &mut Reading,
    book_notes: &mut Vec<MalformedAddress>,
    connection: IpsecConnection,
    offers: Vec<Offer>,
    mut plan: AddressPlan,
    asks_for_address: bool,
    origin: Origin,
) {
    let clients = !plan.pools.is_empty() || !plan.fixed.is_empty();
    let everything = |range: &IpRange| *range == IpRange::all(range.family());
    let tunnels = connection
        .children
        .iter()
        .filter(|child| child.mode.possible().all(|mode| *mode == ChildMode::Tunnel));
    for child in tunnels {
        let (list, side) =
            if clients { (&mut plan.sent_through, &child.local) } else { (&mut plan.remote, &child.remote) };
        // Where an interface decides, every address is no statement.
        let meant = |range: &IpRange| child.by_interface_origin.is_none() || !everything(range);
        list.extend(side.networks.iter().copied().filter(|(range, _)| meant(range)));
    }
    // A client that sends everything has no network behind the other end.
    if !clients && (asks_for_address || plan.remote.iter().any(|(range, _)| everything(range))) {
        plan.sent_through.append(&mut plan.remote);
    }
    book_notes.extend(plan.pools.iter().flat_map(|one| &one.malformed).chain(&plan.malformed).cloned());
    // Bypass and drop policies are no tunnels.
    let negotiates = connection.negotiates();
    let role = if !negotiates {
        TunnelRole::PointToPoint
    } else if clients {
        TunnelRole::Server
    } else if asks_for_address {
        TunnelRole::Client
    } else if connection.names_the_other_end() {
        TunnelRole::PointToPoint
    } else if connection.remote.iter().any(AuthRound::is_login)
        || connection.remote.iter().all(AuthRound::admits_several)
    {
        // Users who log in from any address, or several peers under one pattern, are remote access.
        TunnelRole::Server
    } else {
        TunnelRole::PointToPoint
    };
    let mut tunnel =
        Tunnel::new(format!("IPsec connection {}", connection.name), TunnelFamily::Ipsec, role, origin);
    if role != TunnelRole::Client && negotiates {
        tunnel.listeners = listeners(&connection);
    }
    prove(&mut tunnel, &connection);
    // Nothing is agreed on where nothing is wrapped.
    tunnel.offers = if negotiates { offers } else { Vec::new() };
    tunnel.addresses = plan;
    tunnel.ipsec = Some(Box::new(connection));
    reading.facts.tunnels.push(tunnel);
}

/// UDP ports 500 and, across translation, 4500 (RFC 7296, 2 and 2.23).
fn listeners(connection: &IpsecConnection) -> Vec<Listener> {
    let bound = connection.local_addresses.iter().find_map(|(text, origin)| {
        text.parse::<IpAddr>()
            .ok()
            .filter(|address| !address.is_unspecified())
            .map(|address| (address, *origin))
    });
    let address = match bound {
        Some((address, origin)) => Setting::Stated { value: Some(address), origin },
        None => Setting::default_of(
            None,
            connection.daemon.name(),
            "swanctl.conf(5), local_addrs; ipsec.conf(5), left",
        ),
    };
    [500, 4500]
        .into_iter()
        .map(|port| Listener {
            protocol: Protocol::UDP,
            address: address.clone(),
            port: Setting::default_of(port, connection.daemon.name(), "RFC 7296, 2"),
        })
        .collect()
}

/// Authentication of the other end, in the terms of every tunnel.
fn prove(tunnel: &mut Tunnel, connection: &IpsecConnection) {
    for round in &connection.remote {
        let origin = round.proof.origin().unwrap_or(tunnel.origin);
        match round.proof.possible().next() {
            Some(IkeProof::PublicKey) => {
                tunnel.proof.certificate =
                    Some(round.proof.clone().map(|_| CertificateRequirement::Required));
            }
            Some(IkeProof::SharedKey) => tunnel.proof.shared_key = Some(origin),
            Some(IkeProof::Eap(method)) => {
                let source = match method.as_str() {
                    "tls" => {
                        let value = CertificateRequirement::Required;
                        tunnel.proof.certificate = Some(Setting::Stated { value, origin });
                        continue;
                    }
                    "radius" => PasswordSource::Radius,
                    "mschapv2" | "md5" | "gtc" => PasswordSource::OwnSecrets,
                    // The method, and so the factor, is negotiated with the client.
                    _ => PasswordSource::PlugIn("EAP".into()),
                };
                tunnel.proof.passwords.push(PasswordCheck { source, optional: false, origin });
            }
            Some(IkeProof::Xauth(by)) => {
                let source = match by.as_str() {
                    "radius" | "eap" | "eap-radius" => PasswordSource::Radius,
                    "pam" => PasswordSource::Pam("ipsec".into()),
                    "file" => PasswordSource::LocalList("/etc/ipsec.d/passwd".into()),
                    _ => PasswordSource::OwnSecrets,
                };
                // A method that always succeeds requires nothing.
                if by != "noauth" && by != "alwaysok" {
                    tunnel.proof.passwords.push(PasswordCheck { source, optional: false, origin });
                }
            }
            Some(IkeProof::Nothing | IkeProof::Anything) | None => {}
        }
    }
}

/// A certificate's file as the daemon finds it: a bare name is searched for in a folder of its own.
fn certificate_file(purpose: CertificateUse, name: &str, folder: &str, origin: Origin) -> CertificateFile {
    let path = if name.starts_with('/') { name.to_owned() } else { format!("{folder}/{name}") };
    CertificateFile { purpose, path: Some(path), origin }
}

/// Reports malformed addresses at their lines.
fn tell(malformed: Vec<MalformedAddress>, book: &mut LineRecorder<'_>) {
    for bad in malformed {
        book.not_understood(bad.origin, bad.why);
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn lengths_of_time() {
        for (text, wanted) in [
            ("4h", Some(14_400)),
            ("90", Some(90)),
            ("30s", Some(30)),
            ("1d", Some(86_400)),
            ("soon", None),
            ("1.5h", Some(5_400)),
            ("8.0h", Some(28_800)),
            ("1.h", Some(3_600)),
            ("h", None),
            ("99999999999999999999d", None),
            ("0", Some(0)),
        ] {
            assert_eq!(seconds(text), wanted, "{text}");
        }
    }
}
