//! A server uses a self-signed or wildcard certificate.

use crate::check::{Answer, Check, Fail, Need, Run, Verdict};
use crate::secrets::shown::{Bearer, each_bearer};
use trevlin_analysis::map::EstateMap;
use trevlin_estate::area::{Area, Severity};
use trevlin_estate::baseline::Baseline;

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
    judged: "Fails where the certificate of a VPN server or a web site is self-signed and not a CA, or contains a wildcard. Passes where \
             peers are pinned by fingerprint (`peer-fingerprint`). Undetermined where it was not exported.",
    references: &["RFC 5280, 3.2", "RFC 6125, 7.2"],
    needs: &[Need::Services],
    run: Run::Map(run),
};

fn run(estate: &EstateMap, _: &Baseline) -> Vec<Answer> {
    each_bearer(estate, judge)
}

fn judge(estate: &EstateMap, at: usize, bearer: &Bearer<'_>) -> Option<Verdict> {
    let name = bearer.name();
    let (one, origin) = match bearer.first(estate, at) {
        Ok(shown) => shown?,
        Err((path, origin)) => {
            let ask = format!(
                "Please provide the certificate of {name}, `{path}`, without its private key: its validity, key and names \
                 decide several findings."
            );
            return Some(Verdict::ask(ask, vec![origin]).wanting(path));
        }
    };
    let pinned = match bearer {
        Bearer::Tunnel(tunnel) => tunnel.settings.iter().any(|(name, _)| name == "peer-fingerprint"),
        Bearer::Service(_) => false,
    };
    let (title, why, detail) = if one.self_signed && !one.is_authority && !pinned {
        (
            format!("Certificate of {name} is self-signed"),
            "clients cannot distinguish it from any other self-signed certificate",
            format!("`{}` is its own issuer and not a CA.", one.subject),
        )
    } else if let Some(wildcard) = one.names.iter().find(|name| name.starts_with('*')) {
        (
            format!("Certificate of {name} is a wildcard certificate"),
            "its key is valid for more than this server",
            format!("Its names include `{wildcard}`."),
        )
    } else {
        return Some(Verdict::pass_by([one.origin, origin], origin));
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
