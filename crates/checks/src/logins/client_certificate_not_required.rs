//! A TLS-based VPN server accepts clients without a client certificate.

use crate::check::{Answer, Check, Fail, Need, Run, Verdict};
use crate::subject::Subject;
use crate::support::name_of;
use crate::support::rated::rated_by_tunnel;
use trevlin_analysis::authentication::of_tls_based;
use trevlin_analysis::context::Analyses;
use trevlin_analysis::map::EstateMap;
use trevlin_estate::area::{Area, Severity};
use trevlin_estate::baseline::Baseline;
use trevlin_model::{CertificateRequirement, PasswordSource, Setting, Tunnel, TunnelRole};

/// The check.
pub(crate) const CHECK: Check = Check {
    id: "logins/client-certificate-not-required",
    area: Area::Logins,
    title: "VPN server does not require client certificates",
    severity: Severity::Medium,
    why: "Without a client certificate, a password alone grants access. It can be guessed, phished or bought, is not bound \
          to a managed device, and cannot be revoked when a device is lost.",
    fix: "Require client certificates (`verify-client-cert require`), issue one to each client, and keep the password as the \
          second factor.",
    judged: "Fails where the server does not require a client certificate, or accepts clients without one; one level lower where only \
             internal networks reach it. Passes where \
             nothing is stated, since the default requires one, and where two other factors are required. Undetermined where \
             a part of the configuration was not exported.",
    references: &["NIST SP 800-113, 4.2", "openvpn(8), --verify-client-cert"],
    needs: &[Need::Services],
    run: Run::Analyses(run),
};

fn run(estate: &Analyses, _: &Baseline) -> Vec<Answer> {
    let mut answers = Vec::new();
    for (at, device) in estate.devices.iter().enumerate() {
        for tunnel in device.facts.tunnels.iter().filter(|tunnel| tunnel.role == TunnelRole::Server) {
            if let Some(certificate) = &tunnel.proof.certificate {
                answers.push(Answer::new(
                    at,
                    Subject::tunnel(tunnel),
                    rated_by_tunnel(estate, at, tunnel, judge(estate, at, tunnel, certificate)),
                ));
            }
        }
    }
    answers
}

fn judge(
    estate: &EstateMap,
    at: usize,
    tunnel: &Tunnel,
    certificate: &Setting<CertificateRequirement>,
) -> Verdict {
    let device = &estate.devices[at].name;
    if !tunnel.accepts_clients() {
        return Verdict::DoesNotApply;
    }
    let missing = tunnel.missing_configuration();
    let (demand, origin) = match (certificate.value(), certificate.origin(), missing) {
        // A file included later may change it.
        (_, stated, Some(missing)) if missing.unsaid.is_none() || stated.is_none() => {
            return Verdict::ask_reference(
                missing,
                &format!("whether {} requires a client certificate", name_of(tunnel)),
            );
        }
        (Some(demand), Some(origin), _) => (*demand, origin),
        (Some(_), None, _) => return Verdict::pass_setting(certificate, tunnel.origin),
        (None, ..) => {
            return Verdict::ask(
                format!(
                    "Please state whether {} requires a client certificate: the exports do not show it.",
                    name_of(tunnel)
                ),
                vec![tunnel.origin],
            );
        }
    };
    let text = match demand {
        CertificateRequirement::Required => return Verdict::pass(origin),
        CertificateRequirement::Optional => "accepts clients without a certificate",
        CertificateRequirement::NotAsked => "requires no client certificate",
    };
    // A password and a code are two factors without one.
    if of_tls_based(estate, at, tunnel).is_some_and(|kinds| kinds.len() > 1) {
        let asked = tunnel.proof.passwords.iter().map(|check| check.origin);
        return Verdict::pass_by(asked, tunnel.origin);
    }
    Verdict::Fail(Fail {
        rating: CHECK.rated("a password is still required"),
        title: format!("{} {text}", name_of(tunnel)).into(),
        detail: format!(
            "{} on {device} {text}; only {} grants access.",
            name_of(tunnel),
            tunnel.proof.passwords.first().map_or("a password", |check| decider(&check.source)),
        )
        .into(),
        evidence: [origin, tunnel.origin]
            .into_iter()
            .chain(tunnel.proof.passwords.iter().map(|check| check.origin))
            .collect(),
    })
}

/// Who decides about a password, in a few words.
fn decider(source: &PasswordSource) -> &'static str {
    match source {
        PasswordSource::LocalList(_) | PasswordSource::LocalListAndCode(_) => "a password from a local list",
        PasswordSource::OwnSecrets => "a password that the daemon keeps",
        PasswordSource::Pam(_) => "PAM",
        PasswordSource::Radius => "a RADIUS server",
        PasswordSource::Directory => "a directory",
        PasswordSource::Script => "a script",
        PasswordSource::PlugIn(_) => "a plug-in",
        PasswordSource::IdentityProvider => "an identity provider",
        PasswordSource::Management => "the management program",
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::testing::run;

    #[test]
    fn cases() {
        for (directives, wanted) in [
            (
                "verify-client-cert none\nplugin /x/openvpn-plugin-auth-pam.so vpn\n",
                "fail medium d s.conf:3 s.conf:2 s.conf:4",
            ),
            (
                "verify-client-cert optional\nauth-user-pass-verify /x via-env\n",
                "fail medium d s.conf:3 s.conf:2 s.conf:4",
            ),
            (
                "client-cert-not-required\nauth-user-pass-verify /x via-env\n",
                "fail medium d s.conf:3 s.conf:2 s.conf:4",
            ),
            ("", "pass d"),
            ("verify-client-cert require\n", "pass d"),
            ("# verify-client-cert none\n", "pass d"),
            ("verify-client-cert none\nverify-client-cert\nmanagement-client-auth\n", "pass d"),
            ("verify-client-cert none\n", "none d"),
            ("local 127.0.0.1\nverify-client-cert none\nmanagement-client-auth\n", "none d"),
            ("config gone.conf\n", "ask d"),
        ] {
            let text = format!("dev tun\nserver 10.8.0.0 255.255.255.0\n{directives}");
            run(&CHECK, &[(directives, &[("d/s.conf", &text)], &[wanted])]);
        }
        run(&CHECK, &[("a client", &[("d/c.conf", "client\ndev tun\nremote 192.0.2.9\n")], &[])]);
    }

    #[test]
    fn two_other_factors_need_none() {
        let text = |otp: &str| format!("ipv4-network = 10.9.0.0/24\nauth = plain[passwd=a{otp}]\n");
        for (otp, wanted) in
            [(",otp=b", "pass d"), ("", "fail medium d ocserv.conf:2 ocserv.conf:2 ocserv.conf:2")]
        {
            run(&CHECK, &[(otp, &[("d/ocserv.conf", &text(otp))], &[wanted])]);
        }
    }
}
