//! One certificate or login permits several simultaneous connections.

use crate::check::{Answer, Check, Fail, Need, Run, Verdict};
use crate::subject::Subject;
use crate::support::client_rules::{ClientRule, client_rule};
use crate::support::name_of;
use trevlin_analysis::map::EstateMap;
use trevlin_estate::area::{Area, Severity};
use trevlin_estate::baseline::Baseline;
use trevlin_model::policy::Most;
use trevlin_model::{CertificateRequirement, Setting, TunnelFamily};

/// The check.
pub(crate) const CHECK: Check = Check {
    id: "logins/duplicate-certificate-logins",
    area: Area::Logins,
    title: "One client certificate may connect several times",
    severity: Severity::Medium,
    why: "A certificate that several users share does not identify any of them, and revoking it locks out all. A stolen copy \
          goes unnoticed, since parallel sessions are expected.",
    fix: "Issue one certificate for each user and device, and remove `duplicate-cn`.",
    judged: "Fails where an OpenVPN server sets `duplicate-cn`; one level lower where user names come from a password login \
             (`username-as-common-name`). Without the option the server ends the earlier session.",
    references: &["openvpn(8), --duplicate-cn"],
    needs: &[Need::Services],
    run: Run::Map(run),
};

fn run(estate: &EstateMap, _: &Baseline) -> Vec<Answer> {
    let mut answers = Vec::new();
    for (at, device) in estate.devices.iter().enumerate() {
        let servers = device
            .facts
            .tunnels
            .iter()
            .filter(|one| one.family == TunnelFamily::OpenVpn && one.accepts_clients());
        for tunnel in servers {
            let said = tunnel
                .settings
                .iter()
                .find(|(name, _)| name == "duplicate-cn")
                .and_then(|(_, one)| one.origin());
            let verdict = match (said, tunnel.missing_configuration()) {
                (Some(origin), _) => {
                    let certificate = tunnel.proof.certificate.as_ref().and_then(Setting::origin);
                    let by_password = !tunnel.proof.passwords.is_empty();
                    let (severity, why) = if by_password {
                        (Severity::Low, "a password login still identifies each user")
                    } else {
                        (CHECK.severity, "only the certificate identifies the client")
                    };
                    Verdict::Fail(Fail {
                        rating: CHECK.rated_at(severity, why),
                        title: format!("{} permits parallel sessions with one certificate", name_of(tunnel))
                            .into(),
                        detail: "`duplicate-cn` is set.".into(),
                        evidence: [origin].into_iter().chain(certificate).collect(),
                    })
                }
                // Without certificates there is none to be shared.
                (None, Some(missing))
                    if missing.unsaid.is_some()
                        && tunnel.proof.certificate.as_ref().and_then(Setting::value)
                            == Some(&CertificateRequirement::NotAsked) =>
                {
                    Verdict::DoesNotApply
                }
                (None, Some(missing)) if missing.unsaid.is_some() => {
                    let about =
                        format!("whether {} permits parallel sessions with one certificate", name_of(tunnel));
                    match client_rule(tunnel, |policy| &policy.sessions_per_user, &about) {
                        ClientRule::Stated(Most(1), origin) => Verdict::pass(origin),
                        ClientRule::Native => Verdict::pass(tunnel.origin),
                        // Several sessions are a property of the users' limit, which has a check of its own.
                        ClientRule::Stated(..) => Verdict::DoesNotApply,
                        ClientRule::Open(ask) => ask,
                    }
                }
                (None, Some(missing)) => {
                    let ask = missing.question(&format!(
                        "whether {} permits parallel sessions with one certificate",
                        name_of(tunnel)
                    ));
                    Verdict::ask(ask, vec![missing.origin])
                }
                (None, None) => Verdict::pass_default(tunnel.origin, "openvpn(8), duplicate-cn"),
            };
            answers.push(Answer::new(at, Subject::tunnel(tunnel), verdict));
        }
    }
    answers
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::testing::run;

    #[test]
    fn cases() {
        for (lines, wanted) in [
            ("duplicate-cn", "fail medium d s.conf:7"),
            ("#duplicate-cn", "pass d"),
            ("duplicate-cn\nplugin openvpn-plugin-auth-pam.so login", "fail low d s.conf:7"),
            ("config more.conf", "ask d"),
            ("verb 3", "pass d"),
        ] {
            let text =
                format!("dev tun\nserver 10.8.0.0 255.255.255.0\nca c\ncert c\nkey k\ndh none\n{lines}\n");
            run(&CHECK, &[(lines, &[("d/s.conf", &text)], &[wanted])]);
        }
    }
}
