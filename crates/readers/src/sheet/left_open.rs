//! Settings that a sheet filled in by hand leaves open, and the ports that follow from standards.

use trevlin_model::ssh::OPENSSH;
use trevlin_model::{Described, Facts, Listener, Protocol, Reference, Setting, TunnelFamily, TunnelRole};

/// Settings of a tunnel that the description of an appliance does not state may still be configured; a sheet written from files states
/// all of them.
pub(super) fn leave_open(facts: &mut Facts, described: Described) {
    for server in facts.ssh_servers.iter_mut().filter(|one| one.program != OPENSSH) {
        server.missing.push(Reference::unsaid(described, server.origin));
    }
    for tunnel in &mut facts.tunnels {
        // A sheet that was written from another description has what that one leaves open.
        if Reference::left_open(&tunnel.missing).is_none() {
            tunnel.missing.push(Reference::unsaid(described, tunnel.origin));
        }
        if tunnel.listeners.is_empty() && tunnel.role != TunnelRole::Client {
            tunnel.listeners = usual_listeners(tunnel.family);
        }
        let by_tls =
            matches!(tunnel.family, TunnelFamily::OpenVpn | TunnelFamily::OpenConnect | TunnelFamily::Tls);
        if by_tls && tunnel.proof.certificate.is_none() {
            let why = described.silent().to_owned();
            tunnel.proof.certificate = Some(Setting::Unknown { why });
        }
    }
}

/// Where a protocol answers by its standard.
fn usual_listeners(family: TunnelFamily) -> Vec<Listener> {
    let (protocol, ports, name, source): (_, &[u16], _, _) = match family {
        TunnelFamily::Ipsec => (Protocol::UDP, &[500, 4500], "IKE", "RFC 7296, 2"),
        TunnelFamily::Pptp => (Protocol::TCP, &[1723], "PPTP", "RFC 2637, 1.3"),
        TunnelFamily::L2tp => (Protocol::UDP, &[1701], "L2TP", "RFC 2661, 8.1"),
        _ => return Vec::new(),
    };
    ports
        .iter()
        .map(|port| Listener {
            protocol,
            address: Setting::default_of(None, name, source),
            port: Setting::default_of(*port, name, source),
        })
        .collect()
}
