//! A caller takes any certificate for the server's.

use super::{openvpn, stated_or_missing};
use crate::{Answer, Area, Check, Estate, Fail, Severity, Verdict, Yardstick};
use trevlin_model::{Tunnel, TunnelRole};

/// The check.
pub(crate) const CHECK: Check = Check {
    id: "tunnels/server-not-verified",
    area: Area::Tunnels,
    title: "A caller takes any certificate for the server's",
    severity: Severity::High,
    why: "Whoever holds a certificate of the same authority, every other caller among them, can answer in the server's place. The caller notices nothing, hands over the password, and sends everything to whoever answered.",
    fix: "State `remote-cert-tls server`, and better also `verify-x509-name` with the server's name. Both ends of newer versions may name each other's fingerprint.",
    judged: "Judged for OpenVPN callers that use certificates. Fails where nothing asks what the server's certificate is for, or whose it is. Passes with `remote-cert-tls`, `remote-cert-eku`, `remote-cert-ku`, `ns-cert-type`, `verify-x509-name`, `verify-hash`, `peer-fingerprint`, `tls-remote` or a script (`tls-verify`). Undetermined where a part of the configuration was not exported.",
    references: &["openvpn(8), --remote-cert-tls and --verify-x509-name", "RFC 5280, 4.2.1.12"],
    run,
};

/// Directives that ask what the server's certificate is for, or whose it is.
const ASKS: [&str; 9] = [
    "remote-cert-tls",
    "remote-cert-eku",
    "remote-cert-ku",
    "ns-cert-type",
    "verify-x509-name",
    "verify-hash",
    "peer-fingerprint",
    "tls-remote",
    "tls-verify",
];

fn run(estate: &Estate, _: &Yardstick) -> Vec<Answer> {
    openvpn(estate, |one| one.role == TunnelRole::Client && one.proof.shared_key.is_none(), judge)
}

fn judge(estate: &Estate, tunnel: &Tunnel) -> Verdict {
    if let Some(verdict) = stated_or_missing(tunnel, &ASKS, "asks whose certificate the server shows") {
        return verdict;
    }
    Verdict::Fail(Fail {
        severity: CHECK.severity,
        why_this_severity: "every holder of a certificate of that authority can answer".into(),
        title: format!("{} takes any certificate for the server's", tunnel.name),
        detail: format!(
            "Nothing in the configuration that calls at {} asks what the certificate is for or whose it is. In this file's language: `remote-cert-tls server`.",
            estate.place(tunnel.origin)
        ),
        evidence: vec![tunnel.origin],
    })
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::checks::testing::run;

    #[test]
    fn cases() {
        for (name, lines, wanted) in [
            ("nothing asks", "", &["fail high d t.conf:3"][..]),
            ("its purpose", "remote-cert-tls server", &["pass d"]),
            ("its name", "verify-x509-name gate.example name", &["pass d"]),
            ("in a comment", "#remote-cert-tls server", &["fail high d t.conf:3"]),
            ("in a part that is missing", "config other.conf", &["ask d"]),
        ] {
            let text = format!("client\ndev tun\nremote 192.0.2.9\nca c\ncert c\nkey k\n{lines}\n");
            run(&CHECK, &[(name, &[("d/t.conf", &text)], wanted)]);
        }
        let server = "dev tun\nserver 10.8.0.0 255.255.255.0\n";
        run(&CHECK, &[("a server", &[("d/s.conf", server)], &[])]);
    }
}
