//! Client certificates of an external CA are accepted.

use crate::check::{Answer, Check, Fail, Need, Run, Verdict};
use crate::subject::Subject;
use crate::support::name_of;
use trevlin_analysis::crypto::certificates::{of_tunnel, trusts_a_folder};
use trevlin_analysis::map::EstateMap;
use trevlin_estate::area::{Area, Severity};
use trevlin_estate::baseline::Baseline;
use trevlin_model::certificate::CertificateUse;
use trevlin_model::{CertificateRequirement, Setting, Tunnel, TunnelRole};

/// The check.
pub(crate) const CHECK: Check = Check {
    id: "logins/external-client-ca",
    area: Area::Logins,
    title: "Client certificates of an external CA are accepted",
    severity: Severity::High,
    why: "A client certificate grants access because of the CA that signed it. A public CA issues certificates to anyone, \
          and a CA of another organisation issues them without your control.",
    fix: "Sign client certificates with a CA of your own, trust that CA alone, and maintain a revocation list.",
    judged: "Fails where a tunnel trusts the public CA store of the system, or a bundle like it. Where the estate file names \
             the organisation, a CA certificate of another organisation leads to an information request. Fails for a CA that a device sheet states to \
             issue to the public. An IPsec connection that names no CA trusts every one in the folder of the daemon. Undetermined where \
             the file was not exported, unless its path identifies it.",
    references: &["RFC 5280, 6.1", "NIST SP 800-52 Rev. 2, 3.5"],
    needs: &[Need::Services],
    run: Run::Map(run),
};

/// Paths of the store of public authorities (update-ca-certificates(8), update-ca-trust(8)).
const STORES: [&str; 5] = [
    "/etc/ssl/certs/ca-certificates.crt",
    "/etc/ssl/certs/ca-bundle.crt",
    "/etc/ssl/cert.pem",
    "/etc/pki/tls/certs/ca-bundle.crt",
    "/etc/pki/ca-trust/extracted/pem/tls-ca-bundle.pem",
];

fn run(estate: &EstateMap, _: &Baseline) -> Vec<Answer> {
    let mut answers = Vec::new();
    for (at, device) in estate.devices.iter().enumerate() {
        for tunnel in device.facts.tunnels.iter().filter(|one| one.accepts_clients()) {
            let asks = tunnel.proof.certificate.as_ref().and_then(Setting::value);
            let asks = asks.is_some_and(|demand| *demand != CertificateRequirement::NotAsked);
            if asks && tunnel.role == TunnelRole::Server {
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
    let named = tunnel.certificates_for(CertificateUse::Authority).next();
    if named.is_none() && !trusts_a_folder(tunnel) {
        return None;
    }
    let store = named.filter(|file| file.path.as_deref().is_some_and(|path| STORES.contains(&path)));
    let fail = |detail: String, evidence| {
        Verdict::Fail(Fail {
            rating: CHECK.rated("any public certificate grants access"),
            title: format!("{} accepts certificates of any public CA", name_of(tunnel)).into(),
            detail: detail.into(),
            evidence,
        })
    };
    if let Some(named) = store {
        let path = named.path.as_deref().unwrap_or_default();
        return Some(fail(format!("`{path}` is the public CA store of the system."), vec![named.origin]));
    }
    let found = match of_tunnel(estate, at, tunnel, CertificateUse::Authority) {
        Ok(found) => found,
        Err((path, origin)) => {
            let ask = format!(
                "Please provide the certificate in `{path}`: it is the CA that {} trusts for clients.",
                name_of(tunnel)
            );
            return Some(Verdict::ask(ask, vec![origin]).wanting(path));
        }
    };
    let public = found.iter().filter(|(one, _)| one.in_trust_store).count();
    if let Some((one, origin)) = found.iter().find(|(one, _)| one.in_trust_store) {
        return Some(fail(
            format!("The file holds {public} CA certificates, as a public CA store does."),
            vec![*origin, one.origin],
        ));
    }
    if let Some((one, origin)) = found.iter().find(|(one, _)| one.public) {
        return Some(fail(
            format!("The CA `{}` issues certificates to the public.", one.subject),
            vec![*origin, one.origin],
        ));
    }
    let foreign = found.iter().find(|(one, _)| {
        one.organisation.as_ref().is_some_and(|organisation| {
            !estate.organisation.is_empty() && !is_ours(organisation, &estate.organisation)
        })
    });
    if let Some((one, origin)) = foreign {
        let ask = format!(
            "Please state which organisation operates the CA `{}` of {}, and to whom it issues certificates: {} trusts it \
             for clients, and the estate file names {}.",
            one.subject,
            one.organisation.as_deref().unwrap_or_default(),
            name_of(tunnel),
            estate.organisation[0]
        );
        return Some(Verdict::ask(ask, vec![*origin, one.origin]));
    }
    Some(match (found.is_empty(), named) {
        (false, _) => Verdict::pass_by(found.iter().map(|(_, origin)| *origin), tunnel.origin),
        (true, Some(_)) => Verdict::DoesNotApply,
        (true, None) => {
            let ask = format!(
                "Please provide the CA certificates in `/etc/swanctl/x509ca` or `/etc/ipsec.d/cacerts`: {} names no CA, so \
                 each of them may sign its clients.",
                name_of(tunnel)
            );
            Verdict::ask(ask, vec![tunnel.origin])
        }
    })
}

/// Whether an organisation's name shares a word with ours.
fn is_ours(organisation: &str, ours: &[String]) -> bool {
    let words = |text: &str| -> Vec<String> {
        let parts = text.split(|letter: char| !letter.is_alphanumeric());
        parts.filter(|word| word.chars().count() >= 3).map(str::to_lowercase).collect()
    };
    let theirs = words(organisation);
    ours.iter().flat_map(|name| words(name)).any(|word| theirs.contains(&word))
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::testing::{answers, certificate as pem, estate_with, run};

    fn server(ca: &str) -> String {
        format!("dev tun\nserver 10.8.0.0 255.255.255.0\nca {ca}\ncert s.crt\nkey s.key\ndh none\n")
    }

    #[test]
    fn cases() {
        let own = [("d/s.conf", server("ca.crt")), ("d/ca.crt", pem("authority").to_owned())];
        let own: Vec<_> = own.iter().map(|(path, text)| (*path, text.as_str())).collect();
        run(&CHECK, &[("own", &own, &["pass d"]), ("not exported", &own[..1], &["ask d"])]);
        for (organisation, wanted) in [("Example Yard", "pass d"), ("Another", "ask d")] {
            let estate = estate_with(&own, &format!("organisation = \"{organisation}\""));
            assert_eq!(answers(&CHECK, &estate), [wanted]);
        }
        let store = server("/etc/ssl/certs/ca-certificates.crt");
        run(&CHECK, &[("the system's store", &[("d/s.conf", &store)], &["fail high d s.conf:3"])]);
        // A connection that names no authority trusts all in the daemon's folder, one that pins a certificate none.
        let connection =
            |line: &str| format!("conn c\n\tauto=add\n\tright=%any\n\trightsourceip=10.9.0.0/24\n{line}");
        for (name, line, ca, wanted) in [
            ("the daemon's folder", "", Some(pem("authority")), &["pass d"][..]),
            ("not exported", "", None, &["ask d"]),
            ("pinned", "\trightcert=c.pem\n", None, &[]),
        ] {
            let text = connection(line);
            let mut files = vec![("d/etc/ipsec.conf", text.as_str())];
            files.extend(ca.map(|ca| ("d/etc/ipsec.d/cacerts/ca.pem", ca)));
            run(&CHECK, &[(name, &files, wanted)]);
        }
        let bundle = pem("authority").repeat(14);
        run(
            &CHECK,
            &[(
                "a bundle",
                &[("d/s.conf", &server("all.pem")), ("d/all.pem", &bundle)],
                &["fail high d s.conf:3 all.pem:1"],
            )],
        );
        let not_asked = server("/etc/ssl/certs/ca-certificates.crt")
            + "verify-client-cert none\nplugin openvpn-plugin-auth-pam.so login\n";
        run(&CHECK, &[("no certificate is asked for", &[("d/s.conf", &not_asked)], &[])]);
    }
}
