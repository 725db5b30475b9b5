//! How callers reach an L2TP server: only from inside IPsec, or in the open.

use crate::Estate;
use trevlin_model::{
    CertificateDemand, ChainKind, Family, Hook, MatchKind, Origin, Protocol, Rule, Setting, Target, Tunnel,
};

/// The port of L2TP (RFC 2661, 8.1).
const PORT: u16 = 1701;

/// How callers come in.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Way {
    /// Only the device itself, or only from inside IPsec.
    Protected,
    /// A rule takes packets without IPsec.
    Open(Origin),
    /// No rule about the port was exported.
    Unknown,
}

/// The port that a server answers on.
pub(crate) fn port(tunnel: &Tunnel) -> u16 {
    tunnel.listeners.first().and_then(|one| one.port.value().copied()).unwrap_or(PORT)
}

/// The connection of the device that protects a server's port.
pub(crate) fn around<'a>(estate: &'a Estate, at: usize, tunnel: &Tunnel) -> Option<&'a Tunnel> {
    let port = port(tunnel);
    estate.devices[at]
        .facts
        .running()
        .find(|one| one.ipsec.as_ref().is_some_and(|ipsec| ipsec.carries_udp(port)))
}

/// The same, where it asks for a certificate.
pub(crate) fn certificate_around<'a>(estate: &'a Estate, at: usize, tunnel: &Tunnel) -> Option<&'a Tunnel> {
    around(estate, at, tunnel).filter(|one| {
        one.proof.certificate.as_ref().and_then(Setting::value) == Some(&CertificateDemand::Required)
    })
}

/// Whether a connection is only there for L2TP to pass through.
pub(crate) fn carries_l2tp(tunnel: &Tunnel) -> bool {
    tunnel.ipsec.as_ref().is_some_and(|one| one.carries_udp(PORT))
}

/// How callers reach a server, by the packet filter of its device.
pub(crate) fn way(estate: &Estate, at: usize, tunnel: &Tunnel) -> Way {
    if !tunnel.answers_callers() {
        return Way::Protected;
    }
    let port = port(tunnel);
    let tables = estate.tables(at, Family::V4);
    let chains =
        || tables.iter().flat_map(|table| &table.chains).filter(|chain| chain.kind == ChainKind::Filter);
    let rules: Vec<&Rule> =
        chains().flat_map(|chain| &chain.rules).filter(|rule| takes(rule, port)).collect();
    if let Some(open) = rules.iter().find(|rule| !from_ipsec(rule)) {
        return Way::Open(open.origin);
    }
    let drops = chains().any(|chain| {
        chain.hook == Some(Hook::Input)
            && (chain.policy == Some(Target::Drop)
                || chain.rules.last().is_some_and(|rule| {
                    rule.matches.is_empty() && matches!(rule.target, Target::Drop | Target::Reject)
                }))
    });
    if !rules.is_empty() && drops { Way::Protected } else { Way::Unknown }
}

/// Whether a rule is about this port by name, and lets it in.
fn takes(rule: &Rule, port: u16) -> bool {
    let udp = |one: &MatchKind| matches!(one, MatchKind::Protocol(protocol) if *protocol == Protocol::UDP);
    let ports = |one: &MatchKind| match one {
        MatchKind::DestinationPorts(ports) | MatchKind::EitherPorts(ports) => {
            ports.iter().any(|range| range.contains(port))
        }
        _ => false,
    };
    let holds = |wanted: &dyn Fn(&MatchKind) -> bool| {
        rule.matches.iter().any(|one| !one.negated && wanted(&one.kind))
    };
    rule.target == Target::Accept && holds(&udp) && holds(&ports)
}

/// Whether a rule holds only for packets that came out of IPsec.
fn from_ipsec(rule: &Rule) -> bool {
    rule.matches.iter().any(|one| !one.negated && one.kind == MatchKind::Ipsec { leaving: false })
}
