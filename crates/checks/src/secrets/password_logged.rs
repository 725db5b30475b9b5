//! Passwords are written to a log.

use crate::check::{Answer, Check, Fail, Need, Run, Verdict};
use crate::subject::{Subject, SubjectKind};
use crate::support::line_of;
use trevlin_analysis::map::EstateMap;
use trevlin_estate::area::{Area, Severity};
use trevlin_estate::baseline::Baseline;

/// The check.
pub(crate) const CHECK: Check = Check {
    id: "secrets/password-logged",
    area: Area::Secrets,
    title: "Passwords written to the log",
    severity: Severity::High,
    why: "Logs are copied, archived and widely readable. A rejected password is usually a mistyped correct one, or that of \
          another service. Readers of the log can use the accounts.",
    fix: "Set `auth_badpass` and `auth_goodpass` to no, delete the logged passwords, and have them changed.",
    judged: "Fails where the log settings of a RADIUS server record passwords. The default does not.",
    references: &["radiusd.conf(5), log", "OWASP ASVS 4.0.3, 7.1.1"],
    needs: &[Need::SavedLogins],
    run: Run::Map(run),
};

fn run(estate: &EstateMap, _: &Baseline) -> Vec<Answer> {
    let mut answers = Vec::new();
    for (at, device) in estate.devices.iter().enumerate() {
        let serves = device.facts.radius_clients.first();
        if let Some(client) = serves.filter(|_| !device.facts.radius_security.iter().any(|one| one.tells_log))
        {
            let ask = "Please provide the section `log` of `radiusd.conf`: it decides whether the RADIUS server logs \
                       passwords.";
            answers.push(Answer::new(
                at,
                Subject::of(SubjectKind::RadiusServer),
                Verdict::ask(ask, vec![client.origin]),
            ));
        }
        for security in device.facts.radius_security.iter().filter(|one| one.tells_log) {
            let lines = &security.logged_passwords;
            let verdict = if lines.is_empty() {
                match security.passwords_not_logged.as_slice() {
                    [] => Verdict::pass_default(
                        line_of(estate, at),
                        "radiusd.conf, log: auth_badpass, auth_goodpass",
                    ),
                    lines => Verdict::pass_lines(lines.to_vec()),
                }
            } else {
                Verdict::Fail(Fail {
                    rating: CHECK.rated("readers of the log can use the accounts"),
                    title: "RADIUS server writes passwords to its log".into(),
                    detail: "The log contains passwords as entered.".into(),
                    evidence: lines.clone(),
                })
            };
            answers.push(Answer::new(at, Subject::of(SubjectKind::RadiusServer), verdict));
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
            ("auth_badpass = yes", "fail high d radiusd.conf:2"),
            ("auth_goodpass = yes", "fail high d radiusd.conf:2"),
            ("auth_badpass = no", "pass d"),
            ("# auth_badpass = yes", "pass d"),
        ] {
            let text = format!("log {{\n\t{lines}\n}}\nsecurity {{\n\treject_delay = 1\n}}\n");
            run(&CHECK, &[(lines, &[("d/radiusd.conf", &text)], &[wanted])]);
        }
    }

    #[test]
    fn settings_that_were_not_exported_are_a_question() {
        const CLIENT: (&str, &str) =
            ("d/clients.conf", "client gate {\n ipaddr = 10.4.0.9\n secret = x\n}\n");
        const LOG: (&str, &str) =
            ("d/radiusd.conf", "log {\n auth = no\n}\nsecurity {\n reject_delay = 1\n}\n");
        run(&CHECK, &[("not exported", &[CLIENT], &["ask d"]), ("exported", &[CLIENT, LOG], &["pass d"])]);
    }
}
