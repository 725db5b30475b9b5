//! A certificate does not contain the names that clients connect to.

use crate::check::{Answer, Check, Fail, Need, Run, Verdict};
use crate::secrets::shown::{Bearer, bearers};
use trevlin_analysis::map::EstateMap;
use trevlin_estate::area::{Area, Severity};
use trevlin_estate::baseline::Baseline;
use trevlin_model::TunnelRole;

/// The check.
pub(crate) const CHECK: Check = Check {
    id: "secrets/certificate-name-mismatch",
    area: Area::Secrets,
    title: "Certificate does not match the server name",
    severity: Severity::Medium,
    why: "The name in a certificate proves to clients that they reached the right server. Where names differ, verification is \
          disabled or warnings are ignored, and any certificate is then accepted.",
    fix: "Reissue the certificate with every name that clients connect to among its subject alternative names, and enable \
          verification on clients.",
    judged: "The names that clients connect to are stated in the estate file (`server_names` of the device), and for web \
             sites in their own configuration. Fails where the server certificate contains none of them; a wildcard covers one label. Undetermined where the certificate was \
             not exported. VPN servers of devices without `server_names` are not judged.",
    references: &["RFC 6125, 6.4", "RFC 9525, 6.3", "NIST SP 800-52 Rev. 2, 3.2.2"],
    needs: &[Need::Services],
    run: Run::Map(run),
};

fn run(estate: &EstateMap, _: &Baseline) -> Vec<Answer> {
    let mut answers = Vec::new();
    for (at, device) in
        estate.devices.iter().enumerate().filter(|(_, device)| !device.server_names.is_empty())
    {
        let servers =
            device.facts.tunnels.iter().filter(|one| one.role == TunnelRole::Server && one.refused.is_none());
        for tunnel in servers {
            let bearer = Bearer::Tunnel(tunnel);
            answers.extend(
                judge(estate, at, &bearer, &device.server_names, Named::Device)
                    .map(|verdict| Answer::new(at, bearer.subject(), verdict)),
            );
        }
    }
    for (at, device) in estate.devices.iter().enumerate() {
        for bearer in bearers(device) {
            let Bearer::Service(served) = bearer else { continue };
            if !served.host_names.is_empty() {
                answers.extend(
                    judge(estate, at, &bearer, &served.host_names, Named::Service)
                        .map(|verdict| Answer::new(at, bearer.subject(), verdict)),
                );
            }
        }
    }
    answers
}

/// Where the names that clients connect to are stated.
#[derive(Clone, Copy)]
enum Named {
    /// In the estate file, for the device.
    Device,
    /// In the configuration of the service.
    Service,
}

fn judge(
    estate: &EstateMap,
    at: usize,
    bearer: &Bearer<'_>,
    server_names: &[String],
    named: Named,
) -> Option<Verdict> {
    let (one, origin) = match bearer.first(estate, at) {
        Ok(shown) => shown?,
        Err((path, origin)) => {
            let ask = format!(
                "Please provide the certificate `{path}`: it decides whether the name {} that clients of {} connect to is \
                 valid.",
                bearer.name(),
                server_names.join(", ")
            );
            return match named {
                Named::Device => Some(Verdict::ask(ask, vec![origin]).wanting(path)),
                // Another check requests it.
                Named::Service => None,
            };
        }
    };
    let missing: Vec<&String> =
        server_names.iter().filter(|name| !one.names.iter().any(|held| names(held, name))).collect();
    if missing.len() < server_names.len() || missing.is_empty() {
        return Some(Verdict::pass_by([one.origin, origin], origin));
    }
    let held =
        if one.names.is_empty() { "nothing".to_owned() } else { format!("`{}`", one.names.join("`, `")) };
    Some(Verdict::Fail(Fail {
        rating: CHECK.rated(match named {
            Named::Device => "the estate file states the names that clients connect to",
            Named::Service => "its configuration states the names that clients connect to",
        }),
        title: format!("Certificate of {} does not match the server name", bearer.name()).into(),
        detail: format!("Clients connect to {}; the certificate names {held}.", server_names.join(", "))
            .into(),
        evidence: vec![one.origin, origin],
    }))
}

/// Whether a name in a certificate matches a host name; `*` matches one whole label (RFC 6125, 6.4.3).
fn names(held: &str, server_names: &str) -> bool {
    let (held, server_names) =
        (held.trim_end_matches('.').to_lowercase(), server_names.trim_end_matches('.').to_lowercase());
    match held.strip_prefix("*.") {
        Some(rest) => {
            server_names.split_once('.').is_some_and(|(label, parent)| !label.is_empty() && parent == rest)
        }
        None => held == server_names,
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::testing::{answers, certificate as pem, estate_with};

    #[test]
    fn cases() {
        const SERVER: (&str, &str) = (
            "d/s.conf",
            "dev tun\nserver 10.8.0.0 255.255.255.0\nca ca.crt\ncert s.crt\nkey s.key\ndh none\n",
        );
        for (certificate, server_names, wanted) in [
            (Some("server"), "gate.example", "pass d"),
            (Some("server"), "198.51.100.7", "pass d"),
            (Some("server"), "GATE.example.", "pass d"),
            (Some("server"), "other.example", "fail medium d s.crt:3 s.conf:4"),
            (Some("wildcard"), "gate.yard.example", "pass d"),
            (Some("wildcard"), "yard.example", "fail medium d s.crt:1 s.conf:4"),
            (Some("wildcard"), "a.b.yard.example", "fail medium d s.crt:1 s.conf:4"),
            (None, "gate.example", "ask d"),
        ] {
            let mut files = vec![SERVER];
            files.extend(certificate.map(|name| ("d/s.crt", pem(name))));
            let estate = estate_with(&files, &format!("[device.d]\nserver_names = [\"{server_names}\"]\n"));
            assert_eq!(answers(&CHECK, &estate), [wanted], "{certificate:?} {server_names}");
            assert!(answers(&CHECK, &estate_with(&files, "")).is_empty());
        }
    }
}
