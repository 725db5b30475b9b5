//! One certificate or login lets in several callers at once.

use crate::check::{Answer, Check, Control, Fail, Run, Verdict};
use crate::subject::Subject;
use trevlin_analysis::map::EstateMap;
use trevlin_estate::area::{Area, Severity};
use trevlin_estate::baseline::Baseline;
use trevlin_model::{Setting, TunnelFamily};

/// The check.
pub(crate) const CHECK: Check = Check {
    id: "logins/duplicate-certificate-logins",
    area: Area::Logins,
    title: "One client certificate may connect several times",
    severity: Severity::Medium,
    why: "Where one certificate serves for many, nobody knows who came in, and it cannot be revoked for one of them without \
          locking out all. A copy that somebody made is never noticed, since two callers with one name are expected.",
    fix: "Give every caller, and every device of theirs, a certificate of its own and take `duplicate-cn` out.",
    judged: "Fails where an OpenVPN server states `duplicate-cn`; milder where names come from a password list \
             (`username-as-common-name`), since each caller then still has a login. Without it the server ends the earlier session.",
    references: &["openvpn(8), --duplicate-cn"],
    controls: &[Control::sp800_53("IA-4"), Control::grundschutz("ORP.4.A3")],
    run: Run::Map(run),
};

fn run(estate: &EstateMap, _: &Baseline) -> Vec<Answer> {
    let mut answers = Vec::new();
    for (at, device) in estate.devices.iter().enumerate() {
        let servers = device
            .facts
            .tunnels
            .iter()
            .filter(|one| one.family == TunnelFamily::OpenVpn && one.answers_callers());
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
                        (Severity::Low, "a password is asked for besides, so that each caller has a login")
                    } else {
                        (CHECK.severity, "the certificate is all that tells callers apart")
                    };
                    Verdict::Fail(Fail {
                        rating: CHECK.rated_at(severity, why),
                        title: format!("{} takes one certificate many times over", tunnel.name).into(),
                        detail: "`duplicate-cn` is stated.".into(),
                        evidence: [origin].into_iter().chain(certificate).collect(),
                    })
                }
                (None, Some(missing)) => {
                    let ask = missing
                        .question(&format!("whether {} takes one certificate many times over", tunnel.name));
                    Verdict::ask(ask, vec![missing.origin])
                }
                (None, None) => Verdict::Pass,
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
