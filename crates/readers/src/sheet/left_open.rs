//! Settings that a sheet filled in by hand leaves open, and the ports that follow from standards.

use trevlin_model::policy::Demand;
use trevlin_model::ssh::OPENSSH;
use trevlin_model::{
    Described, Facts, Listener, Protocol, Reference, Setting, Tunnel, TunnelFamily, TunnelRole,
};

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
            tunnel.listeners = usual_listeners(tunnel);
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
fn usual_listeners(tunnel: &Tunnel) -> Vec<Listener> {
    const IKE: Usual = (Protocol::UDP, &[500, 4500], "IKE", "RFC 7296, 2");
    const PPTP: Usual = (Protocol::TCP, &[1723], "PPTP", "RFC 2637, 1.3");
    const L2TP: Usual = (Protocol::UDP, &[1701], "L2TP", "RFC 2661, 8.1");
    let inside = tunnel.rule(|policy| &policy.inside_ipsec).and_then(Setting::stated);
    let usual: &[Usual] = match (tunnel.family, inside) {
        (TunnelFamily::Ipsec, _) => &[IKE],
        (TunnelFamily::Pptp, _) => &[PPTP],
        // Clients begin with IKE where IPsec protects L2TP (RFC 3193, 3).
        (TunnelFamily::L2tp, Some((Demand::Required | Demand::Optional, _))) => &[L2TP, IKE],
        (TunnelFamily::L2tp, _) => &[L2TP],
        _ => &[],
    };
    let listener = |protocol, port: u16, name, source| Listener {
        protocol,
        address: Setting::default_of(None, name, source),
        port: Setting::default_of(port, name, source),
    };
    usual
        .iter()
        .flat_map(|(protocol, ports, name, source)| {
            ports.iter().map(|port| listener(*protocol, *port, name, source))
        })
        .collect()
}

/// Protocol, ports, name and source.
type Usual = (Protocol, &'static [u16], &'static str, &'static str);
