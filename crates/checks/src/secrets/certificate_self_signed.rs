//! A server uses a self-signed or wildcard certificate.

use crate::check::{Answer, Check, Control, Fail, Run, Verdict};
use crate::subject::Subject;
use trevlin_analysis::crypto::certificates::of_tunnel;
use trevlin_analysis::map::EstateMap;
use trevlin_estate::area::{Area, Severity};
use trevlin_estate::baseline::Baseline;
use trevlin_model::certificate::CertificateUse;
use trevlin_model::{Tunnel, TunnelRole};

/// The check.
pub(crate) const CHECK: Check = Check {
    id: "secrets/certificate-self-signed",
    area: Area::Secrets,
    title: "Self-signed or wildcard server certificate",
    severity: Severity::Low,
    why: "A self-signed certificate is not verified by any CA, so clients must be configured with it or accept any. A \
          wildcard certificate is valid for every host of the domain: its key, stolen from the weakest host, impersonates \
          all.",
    fix: "Use a certificate of a CA that clients trust, for exactly the names they connect to.",
    judged: "Fails where the certificate of a VPN server is self-signed and not a CA, or contains a wildcard. Passes where \
             peers are pinned by fingerprint (`peer-fingerprint`). Undetermined where it was not exported.",
    references: &["RFC 5280, 3.2", "RFC 6125, 7.2"],
    controls: &[Control::grundschutz("NET.3.3.A9")],
    run: Run::Map(run),
};

fn run(estate: &EstateMap, _: &Baseline) -> Vec<Answer> {
    let mut answers = Vec::new();
    for (at, device) in estate.devices.iter().enumerate() {
        for tunnel in device.facts.tunnels.iter().filter(|one| one.accepts_clients()) {
            if tunnel.role == TunnelRole::Server {
                answers.extend(
                    judge(estate, at, tunnel)
                        .map(|verdict| Answer::new(at, Subject::tunnel(tunnel), verdict)),
                );
            }
        }
    }
    answers
}

fn judge(estate: &EstateMap, at: usize, tunnel: &Tunnel) -> Option<Verdict> {
    let shown = match of_tunnel(estate, at, tunnel, CertificateUse::Own) {
        Ok(shown) => shown,
        Err((path, origin)) => {
            let ask = format!(
                "Please provide the certificate of {}, `{path}`, without its private key: its validity, key and names decide \
                 several findings.",
                tunnel.name
            );
            return Some(Verdict::ask(ask, vec![origin]).wanting(path));
        }
    };
    let (one, origin) = *shown.first()?;
    let pinned = tunnel.settings.iter().any(|(name, _)| name == "peer-fingerprint");
    let (title, why, detail) = if one.self_signed && !one.is_authority && !pinned {
        (
            format!("Certificate of {} is self-signed", tunnel.name),
            "clients cannot distinguish it from any other self-signed certificate",
            format!("`{}` is its own issuer and not a CA.", one.subject),
        )
    } else if let Some(wildcard) = one.names.iter().find(|name| name.starts_with('*')) {
        (
            format!("Certificate of {} is a wildcard certificate", tunnel.name),
            "its key is valid for more than this server",
            format!("Its names include `{wildcard}`."),
        )
    } else {
        return Some(Verdict::Pass);
    };
    Some(Verdict::Fail(Fail {
        rating: CHECK.rated(why),
        title: title.into(),
        detail: detail.into(),
        evidence: vec![one.origin, origin],
    }))
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::testing::{certificate as pem, run};

    #[test]
    fn cases() {
        const TEXT: &str =
            "dev tun\nserver 10.8.0.0 255.255.255.0\nca ca.crt\ncert s.crt\nkey s.key\ndh none\n";
        let inline = format!(
            "dev tun\nserver 10.8.0.0 255.255.255.0\nca ca.crt\n<cert>\n{}</cert>\nkey s.key\ndh none\n",
            pem("self-signed")
        );
        let pinned = format!("{TEXT}peer-fingerprint AA:BB\n");
        for (name, text, certificate, wanted) in [
            ("signed", TEXT, Some("server"), "pass d"),
            ("signed itself", TEXT, Some("self-signed"), "fail low d s.crt:1 s.conf:4"),
            ("in the file", &inline, None, "fail low d s.conf:5 s.conf:4"),
            ("pinned", &pinned, Some("self-signed"), "pass d"),
            ("wildcard", TEXT, Some("wildcard"), "fail low d s.crt:1 s.conf:4"),
            ("not exported", TEXT, None, "ask d"),
        ] {
            let mut files = vec![("d/s.conf", text)];
            files.extend(certificate.map(|name| ("d/s.crt", pem(name))));
            run(&CHECK, &[(name, &files, &[wanted])]);
        }
        run(&CHECK, &[("a certificate nobody shows", &[("d/s.crt", pem("self-signed"))], &[])]);
    }
}
