//! A client accepts any server certificate.

use crate::check::{Answer, Check, Fail, Need, Run, Verdict};
use crate::subject::Subject;
use crate::support::name_of;
use crate::tunnels::{openvpn, stated_or_missing};
use trevlin_analysis::map::EstateMap;
use trevlin_estate::area::{Area, Severity};
use trevlin_estate::baseline::Baseline;
use trevlin_model::ipsec::{AuthRound, IkeProof, IpsecConnection};
use trevlin_model::{Reference, Setting, Tunnel, TunnelFamily, TunnelRole};

/// The check.
pub(crate) const CHECK: Check = Check {
    id: "tunnels/server-certificate-not-verified",
    area: Area::Tunnels,
    title: "Client does not verify the server certificate",
    severity: Severity::High,
    why: "Any holder of a certificate of the same CA, including every other client, can impersonate the server. The client \
          then sends its password and all traffic to the attacker.",
    fix: "Require a server certificate (`remote-cert-tls server`), and preferably the name of the server in it \
          (`verify-x509-name`). Newer versions can also pin fingerprints.",
    judged: "Judged for OpenVPN clients with certificates. Fails where neither the purpose nor the name of the server \
             certificate is verified. Passes with `remote-cert-tls`, `remote-cert-eku`, `remote-cert-ku`, `ns-cert-type`, \
             `verify-x509-name`, `verify-hash`, `peer-fingerprint`, `tls-remote` or a `tls-verify` script. Undetermined \
             where a part of the configuration was not exported. Fails as well for stunnel clients that verify no \
             certificate or no name, and for IPsec connections to a fixed address without a remote identity or certificate.",
    references: &["openvpn(8), --remote-cert-tls and --verify-x509-name", "RFC 5280, 4.2.1.12"],
    needs: &[Need::Services],
    run: Run::Map(run),
};

/// Directives that verify the purpose or the subject of the server's certificate.
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

fn run(estate: &EstateMap, _: &Baseline) -> Vec<Answer> {
    let mut answers =
        openvpn(estate, |one| one.role == TunnelRole::Client && one.proof.shared_key.is_none(), judge);
    for (at, device) in estate.devices.iter().enumerate() {
        for tunnel in device.facts.with_profiles() {
            let verdict = match (&tunnel.ipsec, tunnel.family, tunnel.role) {
                (Some(connection), ..) if calls(connection) => of_connection(tunnel, connection),
                (_, TunnelFamily::TlsRelay, TunnelRole::Client) => of_relay(tunnel),
                _ => continue,
            };
            answers.push(Answer::new(at, Subject::tunnel(tunnel), verdict));
        }
    }
    answers.sort_by_key(|answer| answer.device);
    answers
}

/// Whether this end calls a certain other end, which has to prove itself by a certificate.
fn calls(connection: &IpsecConnection) -> bool {
    let by_certificate =
        |round: &AuthRound| round.proof.possible().any(|proof| *proof == IkeProof::PublicKey);
    connection.names_the_other_end()
        && connection.negotiates()
        && connection.remote.iter().any(by_certificate)
}

/// Without an identity any certificate of an authority that the daemon trusts is taken (swanctl.conf(5), `id`).
fn of_connection(tunnel: &Tunnel, connection: &IpsecConnection) -> Verdict {
    if connection.remote.iter().any(|round| !round.anybody() || round.narrowed.is_some()) {
        let lines = connection.remote.iter().filter_map(|round| Some(round.identity.as_ref()?.1));
        return Verdict::pass_by(lines, tunnel.origin);
    }
    if let Some(missing) = Reference::left_open(&tunnel.missing) {
        let about = format!("which identity {} requires of the peer", name_of(tunnel));
        return Verdict::ask_reference(missing, &about);
    }
    let called = connection.remote_addresses.first().map(|(_, origin)| *origin);
    Verdict::Fail(Fail {
        rating: CHECK.rated_at(Severity::Medium, "an attacker needs a certificate of a trusted CA, and a position on the path"),
        title: format!("{} accepts any certificate of the peer", name_of(tunnel)).into(),
        detail: "Neither an identity nor a certificate of the peer is set. Setting: `id = gate.example` in the section \
                 `remote`.".into(),
        evidence: called.into_iter().chain([tunnel.origin]).collect(),
    })
}

/// A relay in client mode verifies no certificate by default (stunnel(8), verifyChain).
fn of_relay(tunnel: &Tunnel) -> Verdict {
    let required = tunnel.requires_certificate();
    let yes = |key: &str| tunnel.stated(key).is_some_and(|(value, _)| value.eq_ignore_ascii_case("yes"));
    let named = ["checkHost", "checkIP", "checkEmail"].iter().any(|key| tunnel.setting(key).is_some());
    if tunnel.proof.shared_key.is_some() || (required && (named || yes("verifyPeer"))) {
        let certificate = tunnel.proof.certificate.as_ref().and_then(Setting::origin);
        return Verdict::pass_by(certificate.or(tunnel.proof.shared_key), tunnel.origin);
    }
    if let Some(missing) = Reference::left_open(&tunnel.missing) {
        let about =
            format!("whether {} verifies the certificate and the name of the server", name_of(tunnel));
        return Verdict::ask_reference(missing, &about);
    }
    let origin = tunnel.stated("connect").map_or(tunnel.origin, |(_, origin)| origin);
    let (severity, why, detail) = if required {
        (
            Severity::Medium,
            "an attacker needs a certificate of the same CA",
            "The certificate chain is verified, and the name is not. Setting: `checkHost = …`.",
        )
    } else {
        (
            CHECK.severity,
            "any host on the path can impersonate the server",
            "No certificate is verified. Setting: `verifyChain = yes`, `CAfile = …` and `checkHost = …`.",
        )
    };
    Verdict::Fail(Fail {
        rating: CHECK.rated_at(severity, why),
        title: format!("{} does not verify the server certificate", name_of(tunnel)).into(),
        detail: detail.into(),
        evidence: vec![origin],
    })
}

fn judge(estate: &EstateMap, tunnel: &Tunnel) -> Verdict {
    if let Some(verdict) = stated_or_missing(tunnel, &ASKS, "verifies the name in the server certificate") {
        return verdict;
    }
    Verdict::Fail(Fail {
        rating: CHECK.rated("any holder of a certificate of that CA can impersonate the server"),
        title: format!("{} does not verify the server certificate", name_of(tunnel)).into(),
        detail: format!(
            "Nothing in the configuration ({}) verifies the purpose or the name of the certificate. Setting: \
             `remote-cert-tls server`.",
            estate.place(tunnel.origin)
        )
        .into(),
        evidence: vec![tunnel.origin],
    })
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::testing::run;

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
        for (name, lines, wanted) in [
            ("nothing checked", "", &["fail high d stunnel.conf:4"][..]),
            ("the chain alone", "verifyChain = yes", &["fail medium d stunnel.conf:4"]),
            ("whose it is", "verifyChain = yes\ncheckHost = gate.example", &["pass d"]),
            ("the very certificate", "verifyPeer = yes", &["pass d"]),
            ("an old level", "verify = 1", &["fail high d stunnel.conf:4"]),
        ] {
            let text =
                format!("[a]\nclient = yes\naccept = 127.0.0.1:80\nconnect = gate.example:443\n{lines}\n");
            run(&CHECK, &[(name, &[("d/stunnel.conf", &text)], wanted)]);
        }
        let of = |remote: &str| {
            format!(
                "connections {{\n c {{\n  remote_addrs = 198.51.100.9\n  remote {{ {remote} }}\n }}\n}}\n"
            )
        };
        for (name, remote, wanted) in [
            ("anybody", "auth = pubkey", &["fail medium d swanctl.conf:3 swanctl.conf:2"][..]),
            ("by name", "id = gate.example", &["pass d"]),
            ("by certificate", "certs = gate.pem", &["pass d"]),
            ("by key", "auth = psk", &[]),
        ] {
            run(&CHECK, &[(name, &[("d/swanctl.conf", &of(remote))], wanted)]);
        }
    }
}
