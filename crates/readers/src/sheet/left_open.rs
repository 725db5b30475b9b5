//! Settings that a sheet filled in by hand leaves open, and the ports that follow from standards.

use super::node::Node;
use trevlin_model::policy::Demand;
use trevlin_model::ssh::OPENSSH;
use trevlin_model::{
    Described, Facts, Listener, PossibleAddress, Protocol, Reference, Setting, Tunnel, TunnelFamily,
    TunnelRole,
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
        if tunnel.role != TunnelRole::Client {
            usual_listeners(tunnel);
        }
        let by_tls =
            matches!(tunnel.family, TunnelFamily::OpenVpn | TunnelFamily::OpenConnect | TunnelFamily::Tls);
        if by_tls && tunnel.proof.certificate.is_none() {
            let why = described.silent().to_owned();
            tunnel.proof.certificate = Some(Setting::Unknown { why });
        }
    }
}

/// Adds where a protocol answers by its standard, unless that is stated.
fn usual_listeners(tunnel: &mut Tunnel) {
    let usual: Option<Usual> = match tunnel.family {
        TunnelFamily::Ipsec => Some(IKE),
        TunnelFamily::Pptp => Some((Protocol::TCP, &[1723], "PPTP", "RFC 2637, 1.3")),
        TunnelFamily::L2tp => Some((Protocol::UDP, &[1701], "L2TP", "RFC 2661, 8.1")),
        _ => None,
    };
    let mut added: Vec<Listener> = Vec::new();
    if tunnel.listeners.is_empty() {
        added.extend(usual.into_iter().flat_map(listeners));
    }
    // Clients begin with IKE where IPsec protects L2TP (RFC 3193, 3).
    let inside = tunnel.rule(|policy| &policy.inside_ipsec).and_then(Setting::value);
    if tunnel.family == TunnelFamily::L2tp && inside.is_some_and(|one| *one != Demand::Off) {
        let stated = |new: &Listener| tunnel.listeners.iter().any(|one| one.port.value() == new.port.value());
        added.extend(listeners(IKE).filter(|new| !stated(new)));
    }
    tunnel.listeners.append(&mut added);
}

/// Protocol, ports, name and source.
type Usual = (Protocol, &'static [u16], &'static str, &'static str);

const IKE: Usual = (Protocol::UDP, &[500, 4500], "IKE", "RFC 7296, 2");

fn listeners((protocol, ports, name, source): Usual) -> impl Iterator<Item = Listener> {
    ports.iter().map(move |port| Listener {
        protocol,
        address: Setting::default_of(None, name, source),
        port: Setting::default_of(*port, name, source),
    })
}

/// Addresses of interfaces without a name, which are none of the device's interfaces.
pub(super) fn of_no_interface(interfaces: &Node) -> Vec<PossibleAddress> {
    let unnamed = interfaces.each().iter().filter(|one| one.get("name").is_none());
    let addresses = unnamed.filter_map(|one| one.get("addresses")).flat_map(Node::each);
    let net = |one: &Node| one.get("net").unwrap_or(one).text()?.parse().ok();
    addresses.filter_map(|one| PossibleAddress::of(net(one)?, one.origin)).collect()
}
