//! Checks of the area `tunnels`.

pub(super) mod client_to_client;
pub(super) mod compression;
pub(super) mod exclusions_too_wide;
pub(super) mod ike_aggressive_mode;
pub(super) mod ikev1;
pub(super) mod internal_dns_not_pushed;
pub(super) mod l2tp_without_ipsec;
pub(super) mod legacy_protocol_enabled;
pub(super) mod local_lan_access;
pub(super) mod netbios;
pub(super) mod no_control_channel_key;
pub(super) mod no_dead_peer_detection;
pub(super) mod no_dns_domain;
pub(super) mod peer_addresses_overlap;
pub(super) mod peer_addresses_too_broad;
pub(super) mod policy_bypasses_tunnel;
pub(super) mod ppp_encryption_optional;
pub(super) mod pptp;
pub(super) mod public_dns_pushed;
pub(super) mod relay_bypasses_filter;
pub(super) mod server_certificate_not_verified;
pub(super) mod several_legacy_protocols;
pub(super) mod site_mismatch;
pub(super) mod split_tunnel_policy;
pub(super) mod static_key;
pub(super) mod unencrypted_encapsulation;
pub(super) mod unused_client_kind;

use crate::check::{Answer, Verdict};
use crate::subject::Subject;
use crate::support::name_of;
use trevlin_analysis::map::EstateMap;
use trevlin_model::ipsec::IpsecConnection;
use trevlin_model::{Origin, PppProfile, Tunnel, TunnelFamily};

/// Judges the OpenVPN tunnels of a kind that the daemon would start.
pub(super) fn openvpn(
    estate: &EstateMap,
    of_interest: impl Fn(&Tunnel) -> bool,
    judge: impl Fn(&EstateMap, &Tunnel) -> Verdict,
) -> Vec<Answer> {
    let mut answers = Vec::new();
    for (at, device) in estate.devices.iter().enumerate() {
        for tunnel in
            device.facts.with_profiles().filter(|one| one.family == TunnelFamily::OpenVpn && of_interest(one))
        {
            answers.push(Answer::new(at, Subject::tunnel(tunnel), judge(estate, tunnel)));
        }
    }
    answers
}

/// Judges the connections of IKE and IPsec that the daemon would load.
pub(super) fn ipsec(
    estate: &EstateMap,
    judge: impl Fn(&EstateMap, usize, &Tunnel, &IpsecConnection) -> Verdict,
) -> Vec<Answer> {
    let mut answers = Vec::new();
    for (at, device) in estate.devices.iter().enumerate() {
        for tunnel in device.facts.running() {
            if let Some(connection) = &tunnel.ipsec {
                answers.push(Answer::new(at, Subject::tunnel(tunnel), judge(estate, at, tunnel, connection)));
            }
        }
    }
    answers
}

/// Judges servers whose own configuration pushes routes and DNS servers to clients: OpenVPN, OpenConnect and IPsec.
fn told(estate: &EstateMap, judge: impl Fn(&EstateMap, usize, &Tunnel) -> Verdict) -> Vec<Answer> {
    let tells = |one: &&Tunnel| {
        matches!(
            one.family,
            TunnelFamily::OpenVpn | TunnelFamily::Tls | TunnelFamily::OpenConnect | TunnelFamily::Ipsec
        ) && one.accepts_clients()
    };
    let mut answers = Vec::new();
    for (at, device) in estate.devices.iter().enumerate() {
        for tunnel in device.facts.tunnels.iter().filter(tells) {
            answers.push(Answer::new(at, Subject::tunnel(tunnel), judge(estate, at, tunnel)));
        }
    }
    answers
}

/// Servers that accept clients, each with the options of pppd for it: the lines of both push settings to clients.
fn with_options(estate: &EstateMap) -> impl Iterator<Item = (usize, &Tunnel, Option<&PppProfile>)> {
    estate.devices.iter().enumerate().flat_map(move |(at, device)| {
        let tunnels = device.facts.tunnels.iter().enumerate().filter(|(_, one)| one.accepts_clients());
        tunnels.map(move |(number, one)| (at, one, estate.dial_in(at, number).map(|told| &told.profile)))
    })
}

/// The results, as one sentence, and their lines.
pub(super) fn listed(found: &[(String, Origin)]) -> (String, Vec<Origin>) {
    let texts: Vec<&str> = found.iter().map(|(text, _)| text.as_str()).collect();
    (format!("{}.", texts.join("; ")), found.iter().map(|(_, origin)| *origin).collect())
}

/// The answer where one of these directives is stated, or may be in a part that was not exported; `None` where they are certainly missing.
/// `what` ends a sentence that begins with "whether NAME".
fn stated_or_missing(tunnel: &Tunnel, directives: &[&str], what: &str) -> Option<Verdict> {
    if let Some(setting) = directives.iter().find_map(|name| tunnel.setting(name)) {
        return Some(Verdict::pass_setting(setting, tunnel.origin));
    }
    let missing = tunnel.missing_configuration()?;
    Some(Verdict::ask_reference(missing, &format!("whether {} {what}", name_of(tunnel))))
}
