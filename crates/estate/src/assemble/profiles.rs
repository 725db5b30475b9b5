//! Profiles of clients that are kept on the server they connect to: files made for other machines, which nothing starts here.

use std::collections::BTreeMap;
use trevlin_model::{ExportId, Facts, IdleReason, IdleTunnel, Origin, Tunnel, TunnelFamily, TunnelRole};

/// Sets aside the profiles of the clients of a device's own tunnels.
pub(super) fn set_aside<'a>(facts: &mut Facts, path_of: impl Fn(Origin) -> &'a str) {
    let serves = |family: TunnelFamily| {
        facts.tunnels.iter().any(|one| one.family == family && one.role != TunnelRole::Client)
    };
    // Only beside a tunnel that accepts peers they matter.
    let keys: BTreeMap<ExportId, String> = if facts.tunnels.iter().any(accepts_peers) {
        facts.wireguard_keys().map(|(public, record)| (record.origin.export, public)).collect()
    } else {
        BTreeMap::new()
    };
    let found: Vec<bool> = facts
        .tunnels
        .iter()
        .map(|tunnel| match tunnel.family {
            TunnelFamily::WireGuard => is_wireguard_profile(facts, tunnel, &keys, &path_of),
            TunnelFamily::OpenVpn => {
                tunnel.role == TunnelRole::Client
                    && serves(TunnelFamily::OpenVpn)
                    && is_unread(path_of(tunnel.origin), &["openvpn", "client"])
            }
            _ => false,
        })
        .collect();
    if !found.contains(&true) {
        return;
    }
    let tunnels = std::mem::take(&mut facts.tunnels);
    for (tunnel, profile) in tunnels.into_iter().zip(found) {
        let up = |name: &String| facts.interfaces_run && facts.interfaces.iter().any(|one| one.name == *name);
        if !profile || tunnel.interface.as_ref().is_some_and(up) {
            facts.tunnels.push(tunnel);
            continue;
        }
        let own = |one: &trevlin_model::Interface| one.origin.export == tunnel.origin.export;
        facts.stored_interfaces.retain(|one| !own(one));
        facts.interfaces.retain(|one| !own(one));
        facts.filter_changes.retain(|one| one.origin.export != tunnel.origin.export);
        facts.idle_tunnels.push(IdleTunnel { tunnel, why: IdleReason::Profile });
    }
}

/// Whether a tunnel of WireGuard has a peer that calls it.
fn accepts_peers(tunnel: &Tunnel) -> bool {
    tunnel.family == TunnelFamily::WireGuard && tunnel.peers.iter().any(|peer| peer.endpoint.is_none())
}

/// Whether a file of WireGuard is that of a client of another tunnel of the device: its key is one that a tunnel here expects of a peer,
/// the key it expects is that of a tunnel here, or no program reads the file where it is.
fn is_wireguard_profile<'a>(
    facts: &Facts,
    tunnel: &Tunnel,
    keys: &BTreeMap<ExportId, String>,
    path_of: &impl Fn(Origin) -> &'a str,
) -> bool {
    let calls = !tunnel.peers.is_empty() && tunnel.peers.iter().all(|peer| peer.endpoint.is_some());
    let others: Vec<&Tunnel> = facts
        .tunnels
        .iter()
        .filter(|one| one.family == TunnelFamily::WireGuard && one.origin.export != tunnel.origin.export)
        .collect();
    if !calls || !others.iter().any(|one| accepts_peers(one)) {
        return false;
    }
    let expects = |one: &Tunnel, key: Option<&String>| {
        key.is_some_and(|key| one.peers.iter().any(|peer| peer.public_key.as_deref() == Some(key)))
    };
    let own_key = keys.get(&tunnel.origin.export);
    let known_here =
        others.iter().any(|one| expects(one, own_key) || expects(tunnel, keys.get(&one.origin.export)));
    known_here || is_unread(path_of(tunnel.origin), &["wireguard"])
}

/// Whether the path of a file shows its folder, and that is not one from which a program reads configurations by itself. Folders are those
/// of openvpn@.service, openvpn-client@.service and wg-quick(8).
fn is_unread(path: &str, read: &[&str]) -> bool {
    let mut folders = path.rsplit('/').skip(1);
    let folder = folders.next().unwrap_or_default();
    let below: Vec<&str> = folders.collect();
    let shown = below.iter().any(|one| matches!(*one, "etc" | "root" | "home" | "srv" | "opt" | "var"))
        || matches!(folder, "root" | "home" | "srv" | "opt" | "etc");
    path.ends_with(".ovpn") || (shown && !read.contains(&folder))
}

#[cfg(test)]
mod tests {
    use crate::testing::estate;

    // Keys of RFC 7748, 6.1.
    const SERVER: &str = "[Interface]\nAddress = 10.9.0.1/24\nListenPort = 51820\nPrivateKey = XasIfmJKikt54X+Lg4AO5m87sSkmGLb9HC+LJ/+I4Os=\n\n\
                          [Peer]\nPublicKey = hSDwCYkwp1R0i33ctD73Wg2/Og0mOBr066SpjqqbTmo=\nAllowedIPs = 10.9.0.7/32\n";
    const CLIENT: &str = "[Interface]\nPrivateKey = dwdtCnMYpX08FsFyUbJmRd9ML4frwJkqsXf7pR25LCo=\nAddress = 10.9.0.7/32\n\n\
                          [Peer]\nPublicKey = 3p7bfXt9wbTTW2HC7OQ1Nz+DQ8hbeGdNrfx+FG+IK08=\nEndpoint = 192.0.2.9:51820\n\
                          AllowedIPs = 0.0.0.0/0\n";

    #[test]
    fn profiles_are_not_tunnels_of_the_server() {
        let away = CLIENT.replace(
            "3p7bfXt9wbTTW2HC7OQ1Nz+DQ8hbeGdNrfx+FG+IK08=",
            "YWFhYWFhYWFhYWFhYWFhYWFhYWFhYWFhYWFhYWFhYWE=",
        );
        let away = away.replace(
            "dwdtCnMYpX08FsFyUbJmRd9ML4frwJkqsXf7pR25LCo=",
            "YmJiYmJiYmJiYmJiYmJiYmJiYmJiYmJiYmJiYmJiYmI=",
        );
        let server =
            "port 1194\ndev tun0\nserver 10.20.10.0 255.255.255.0\nca ca.crt\ncert s.crt\nkey s.key\n";
        let client = "client\ndev tun\nremote vpn.example.org\nca ca.crt\n";
        for (what, files, running) in [
            (
                "by its key",
                &[("d/etc/wireguard/wg0.conf", SERVER), ("d/etc/wireguard/desk.conf", CLIENT)][..],
                1,
            ),
            ("in no folder", &[("d/wg0.conf", SERVER), ("d/desk.conf", CLIENT)], 1),
            (
                "another uplink",
                &[("d/etc/wireguard/wg0.conf", SERVER), ("d/etc/wireguard/up.conf", &away)],
                2,
            ),
            (
                "by its folder",
                &[("d/etc/wireguard/wg0.conf", SERVER), ("d/etc/wireguard/clients/up.conf", &away)],
                1,
            ),
            ("without a server", &[("d/etc/wireguard/desk.conf", CLIENT)], 1),
            ("OpenVPN", &[("d/etc/openvpn/server/s.conf", server), ("d/root/ines.ovpn", client)], 1),
            (
                "a client that is started",
                &[("d/etc/openvpn/server/s.conf", server), ("d/etc/openvpn/client/up.conf", client)],
                2,
            ),
            ("a client alone", &[("d/root/ines.ovpn", client)], 1),
        ] {
            let estate = estate(files);
            assert_eq!(estate.devices[0].facts.tunnels.len(), running, "{what}");
            assert_eq!(estate.devices[0].facts.idle_tunnels.len(), files.len() - running, "{what}");
        }
    }
}
