//! A relay forwards connections past the packet filter.

use crate::check::{Answer, Check, Fail, Need, Run, Verdict};
use crate::subject::Subject;
use crate::support::name_of;
use crate::tunnels::listed;
use std::net::IpAddr;
use trevlin_analysis::map::EstateMap;
use trevlin_estate::area::{Area, Severity};
use trevlin_estate::baseline::Baseline;
use trevlin_model::ssh::{SshConnection, SshServer};
use trevlin_model::{Origin, Setting, Tunnel, TunnelFamily, TunnelRole};

/// The check.
pub(crate) const CHECK: Check = Check {
    id: "tunnels/relay-bypasses-filter",
    area: Area::Tunnels,
    title: "Relay bypasses the packet filter",
    severity: Severity::Medium,
    why: "A packet filter sees the connection to the relay and not the one behind it: access to the relay is access to its \
          target. Relays are set up for one purpose and remain.",
    fix: "Replace the relay by a VPN with authentication, or require a certificate (`verifyChain = yes` with `CAfile`). For \
          SSH set `GatewayPorts no` and `PermitTunnel no`.",
    judged: "Fails for stunnel relays that forward connections of other hosts without requiring a certificate, for SSH \
             servers whose users may open ports to any address or create a network interface, and for SSH clients that open \
             a remote port leading back here. Passes for relays to the device itself, and with certificates.",
    references: &[
        "stunnel(8), verifyChain",
        "sshd_config(5), GatewayPorts and PermitTunnel",
        "NIST SP 800-46 Rev. 2, 2.2",
    ],
    needs: &[Need::Filter, Need::Services],
    run: Run::Map(run),
};

fn run(estate: &EstateMap, _: &Baseline) -> Vec<Answer> {
    let mut answers = Vec::new();
    for (at, device) in estate.devices.iter().enumerate() {
        let relays = |one: &&Tunnel| one.family == TunnelFamily::TlsRelay && one.role == TunnelRole::Server;
        for tunnel in device.facts.running().filter(relays) {
            answers.push(Answer::new(at, Subject::tunnel(tunnel), of_relay(tunnel)));
        }
        for tunnel in device.facts.running().filter(|one| one.family == TunnelFamily::SshForward) {
            answers.push(Answer::new(at, Subject::tunnel(tunnel), of_caller(tunnel)));
        }
        for server in device.facts.ssh_servers.iter().filter(|server| server.refused.is_none()) {
            answers.push(Answer::new(at, Subject::ssh(), ssh_login_paths(server)));
        }
    }
    answers
}

/// The host that a relay forwards to; `None` for the device itself.
fn elsewhere(tunnel: &Tunnel) -> Option<(&str, Origin)> {
    let (target, origin) = tunnel.stated("connect")?;
    let (host, _) = target.rsplit_once(':')?;
    let host = host.trim_matches(['[', ']']);
    let itself = host == "localhost" || host.parse::<IpAddr>().is_ok_and(|address| address.is_loopback());
    (!itself && !host.is_empty()).then_some((target, origin))
}

fn of_relay(tunnel: &Tunnel) -> Verdict {
    let Some((target, origin)) = elsewhere(tunnel).filter(|_| tunnel.accepts_clients()) else {
        return Verdict::pass_by(tunnel.stated("connect").map(|(_, origin)| origin), tunnel.origin);
    };
    if tunnel.requires_certificate() || tunnel.proof.shared_key.is_some() {
        let certificate = tunnel.proof.certificate.as_ref().and_then(Setting::origin);
        return Verdict::pass_by(certificate.or(tunnel.proof.shared_key), tunnel.origin);
    }
    let accept = tunnel.stated("accept").map(|(_, origin)| origin);
    Verdict::Fail(Fail {
        rating: CHECK.rated("no authentication is required"),
        title: format!("{} relays any client to {target}", name_of(tunnel)).into(),
        detail: format!(
            "It accepts connections from other hosts and forwards them to {target}; no certificate is required."
        ).into(),
        evidence: [origin].into_iter().chain(accept).collect(),
    })
}

/// Forwards of an SSH client: a port that it opens at the other end leads back in, past every filter on the path (ssh_config(5),
/// RemoteForward); one that it opens locally for any address leads there.
fn of_caller(tunnel: &Tunnel) -> Verdict {
    let host = tunnel.stated("remote").map_or("", |(host, _)| host);
    let open = tunnel.stated("gatewayports").is_some_and(|(value, _)| value == "yes");
    let mut found: Vec<(String, Origin)> = Vec::new();
    for (name, setting) in &tunnel.settings {
        let Some((value, origin)) = setting.stated() else { continue };
        let (listen, target) = value.split_once(' ').unwrap_or((value, "any destination"));
        let everybody =
            open || listen.starts_with("*:") || listen.starts_with("0.0.0.0:") || listen.starts_with("[::]:");
        match name.as_str() {
            "remoteforward" => {
                found.push((format!("a port that it opens at {host} leads back to {target}"), origin))
            }
            "localforward" | "dynamicforward" if everybody => {
                found.push((
                    format!("a port that it opens to any address here leads to {target} through {host}"),
                    origin,
                ));
            }
            "tunnel" if value != "no" => {
                found.push((format!("it connects this device and {host} by a network interface"), origin))
            }
            _ => {}
        }
    }
    if found.is_empty() {
        return Verdict::pass(tunnel.origin);
    }
    let (detail, evidence) = listed(&found);
    Verdict::Fail(Fail {
        rating: CHECK.rated("no packet filter on the path applies"),
        title: format!("{} bypasses the packet filters", name_of(tunnel)).into(),
        detail: detail.into(),
        evidence,
    })
}

/// Whether users may open ports to any address, or create a network interface (sshd_config(5)).
fn ssh_login_paths(server: &SshServer) -> Verdict {
    let connection = SshConnection::default();
    let stated = |keyword: &str| {
        let setting = server.effective(keyword, &connection);
        let (values, origin) = setting.stated()?;
        Some((values.first()?.clone(), origin))
    };
    let mut found: Vec<(String, Origin)> = Vec::new();
    let forwards =
        stated("allowtcpforwarding").is_none_or(|(value, _)| !matches!(value.as_str(), "no" | "local"));
    if let Some((value, origin)) = stated("gatewayports").filter(|(value, _)| forwards && value != "no") {
        found.push((format!("`GatewayPorts {value}` permits users to open ports to any address"), origin));
    }
    if let Some((value, origin)) = stated("permittunnel").filter(|(value, _)| value != "no") {
        found.push((format!("`PermitTunnel {value}` permits users to create a network interface"), origin));
    }
    if found.is_empty() {
        let lines =
            ["gatewayports", "permittunnel"].into_iter().filter_map(|keyword| Some(stated(keyword)?.1));
        return match lines.collect::<Vec<_>>() {
            lines if lines.is_empty() => {
                Verdict::pass_default(server.origin, "sshd_config(5), GatewayPorts and PermitTunnel")
            }
            lines => Verdict::pass_lines(lines),
        };
    }
    let (detail, evidence) = listed(&found);
    Verdict::Fail(Fail {
        rating: CHECK.rated("an attacker must be able to log in"),
        title: "SSH users can relay traffic past the packet filter".into(),
        detail: detail.into(),
        evidence,
    })
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::testing::run;

    #[test]
    fn cases() {
        for (name, lines, wanted) in [
            (
                "to another host",
                "accept = 443\nconnect = 10.4.0.9:80",
                "fail medium d stunnel.conf:3 stunnel.conf:2",
            ),
            ("to itself", "accept = 443\nconnect = 127.0.0.1:80", "pass d"),
            ("to a port of its own", "accept = 443\nconnect = 80", "pass d"),
            (
                "with certificates",
                "accept = 443\nconnect = 10.4.0.9:80\nverifyChain = yes\nCAfile = c.pem",
                "pass d",
            ),
            ("from itself", "accept = 127.0.0.1:443\nconnect = 10.4.0.9:80", "pass d"),
            (
                "certificates in a comment",
                "accept = 443\nconnect = 10.4.0.9:80\n;verifyChain = yes",
                "fail medium d stunnel.conf:3 stunnel.conf:2",
            ),
        ] {
            run(&CHECK, &[(name, &[("d/stunnel.conf", &format!("[a]\n{lines}\n"))], &[wanted])]);
        }
        for (lines, wanted) in [
            ("PermitRootLogin no", "pass d"),
            ("GatewayPorts yes", "fail medium d sshd_config:2"),
            (
                "GatewayPorts clientspecified\nPermitTunnel point-to-point",
                "fail medium d sshd_config:2 sshd_config:3",
            ),
            ("GatewayPorts yes\nAllowTcpForwarding no", "pass d"),
            ("PermitTunnel no\nPermitTunnel yes", "pass d"),
            ("#PermitTunnel yes", "pass d"),
        ] {
            run(&CHECK, &[(lines, &[("d/etc/ssh/sshd_config", &format!("Port 22\n{lines}\n"))], &[wanted])]);
        }
        for (lines, wanted) in [
            ("RemoteForward 8080 10.4.0.9:80", &["fail medium d config:2"][..]),
            ("LocalForward 9000 10.4.0.9:80", &["pass d"]),
            ("LocalForward *:9000 10.4.0.9:80", &["fail medium d config:2"]),
            ("Tunnel yes", &["fail medium d config:2"]),
            ("#RemoteForward 8080 10.4.0.9:80", &[]),
        ] {
            run(&CHECK, &[(lines, &[("d/root/.ssh/config", &format!("Host quay\n{lines}\n"))], wanted)]);
        }
    }
}
