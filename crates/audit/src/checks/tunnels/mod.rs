//! Checks of the area `tunnels`.

pub(super) mod callers_talk;
pub(super) mod compression;
pub(super) mod control_channel_open;
pub(super) mod dial_in_unencrypted;
pub(super) mod ikev1_answers;
pub(super) mod l2tp_in_the_open;
pub(super) mod pptp_answers;
pub(super) mod server_not_verified;
pub(super) mod static_key;

use crate::{Answer, Estate, Verdict};
use trevlin_model::ipsec::{Child, ChildMode, IpsecConnection};
use trevlin_model::{Tunnel, TunnelFamily};

/// Judges the OpenVPN tunnels of a kind that the daemon would start.
pub(super) fn openvpn(
    estate: &Estate,
    of_interest: impl Fn(&Tunnel) -> bool,
    judge: impl Fn(&Estate, &Tunnel) -> Verdict,
) -> Vec<Answer> {
    let mut answers = Vec::new();
    for (at, device) in estate.devices.iter().enumerate() {
        let tunnels = device.facts.tunnels.iter();
        for tunnel in tunnels
            .filter(|one| one.family == TunnelFamily::OpenVpn && one.refused.is_none() && of_interest(one))
        {
            answers.push(Answer::new(at, tunnel.name.clone(), judge(estate, tunnel)));
        }
    }
    answers
}

/// Judges the connections of IKE and IPsec that the daemon would load.
pub(super) fn ipsec(
    estate: &Estate,
    judge: impl Fn(&Estate, usize, &Tunnel, &IpsecConnection) -> Verdict,
) -> Vec<Answer> {
    let mut answers = Vec::new();
    for (at, device) in estate.devices.iter().enumerate() {
        for tunnel in device.facts.running() {
            if let Some(connection) = &tunnel.ipsec {
                answers.push(Answer::new(at, tunnel.name.clone(), judge(estate, at, tunnel, connection)));
            }
        }
    }
    answers
}

/// Whether a connection wraps packets at all, or only says which of them pass or are dropped.
pub(super) fn negotiates(connection: &IpsecConnection) -> bool {
    let shunt = |child: &Child| matches!(child.mode.value(), Some(ChildMode::Pass | ChildMode::Drop));
    connection.children.is_empty() || !connection.children.iter().all(shunt)
}

/// The answer where one of these directives is stated, or may stand in a part that was not exported; `None` where they
/// are missing for certain. `what` ends a sentence that begins with "whether NAME".
fn stated_or_missing(tunnel: &Tunnel, directives: &[&str], what: &str) -> Option<Verdict> {
    if directives.iter().any(|name| tunnel.setting(name).is_some()) {
        return Some(Verdict::Pass);
    }
    let missing = tunnel.missing_configuration()?;
    let question = format!(
        "whether {} {what} may stand in `{}`, which is not among the exports; ask for it",
        tunnel.name, missing.path
    );
    Some(Verdict::ask(question, vec![missing.origin]))
}
