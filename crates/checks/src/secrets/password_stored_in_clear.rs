//! A list keeps passwords as they are.

use crate::check::{Answer, Check, Control, Fail, Run, Verdict};
use crate::subject::{Subject, SubjectKind};
use std::collections::BTreeMap;
use trevlin_analysis::map::EstateMap;
use trevlin_estate::area::{Area, Severity};
use trevlin_estate::baseline::Baseline;
use trevlin_model::secret::SecretKind;
use trevlin_model::{LoginList, Origin, Setting};

/// The check.
pub(crate) const CHECK: Check = Check {
    id: "secrets/password-stored-in-clear",
    area: Area::Secrets,
    title: "Passwords stored in clear text",
    severity: Severity::Low,
    why: "Whoever sees the file, a backup or this export has every password in it, without guessing anything. People use the same \
          ones elsewhere.",
    fix: "Keep hashes where the protocol allows it (PAP inside TLS, certificates), and a list in one place only. Where MS-CHAP or CHAP \
          need the password itself, protect the file and its backups, and let a machine make the passwords.",
    judged: "Fails for each list with a usable login whose password stands there as it is. Lists of hashes pass. The person's own \
             mistake is another check's; this one is about how the list is kept.",
    references: &["NIST SP 800-63B, 5.1.1.2", "RFC 2759, 1"],
    controls: &[Control::grundschutz("CON.1.A4")],
    run: Run::Map(run),
};

fn run(estate: &EstateMap, _: &Baseline) -> Vec<Answer> {
    let mut answers = Vec::new();
    for (at, device) in estate.devices.iter().enumerate() {
        let mut lists: BTreeMap<&str, Vec<(bool, Origin)>> = BTreeMap::new();
        for login in &device.logins {
            let LoginList::LocalFile(path) = &login.list;
            if let Some(held) = &login.secret {
                let clear = held.kind == SecretKind::LoginPassword && !held.secret.is_withheld();
                lists.entry(path).or_default().push((clear, login.origin));
            }
        }
        for one in &device.facts.credentials {
            if let Setting::Unknown { why } = &one.secret {
                let ask = format!(
                    "how the password of {} is kept does not show here: {why}; ask how that file is protected",
                    one.client
                );
                answers.push(Answer::new(
                    at,
                    Subject::of(SubjectKind::Login).with(&one.client),
                    Verdict::ask(ask, vec![one.origin]),
                ));
            }
        }
        for (path, logins) in lists {
            let clear: Vec<Origin> =
                logins.iter().filter(|(clear, _)| *clear).map(|(_, origin)| *origin).collect();
            let verdict = match clear.first() {
                None => Verdict::Pass,
                Some(first) => Verdict::Fail(Fail {
                    rating: CHECK.rated("the file has to be seen first"),
                    title: match clear.len() {
                        1 => "one password is kept as it is".to_owned(),
                        count => format!("{count} passwords are kept as they are"),
                    }
                    .into(),
                    detail: "Nothing has to be guessed by whoever sees the list.".into(),
                    evidence: vec![*first],
                }),
            };
            answers.push(Answer::new(at, Subject::of(SubjectKind::File).with(path), verdict));
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
        for (text, wanted) in [
            (
                "ann Cleartext-Password := \"x\"\nbob Cleartext-Password := \"y\"\n",
                &["fail low d users:1"][..],
            ),
            ("ann Crypt-Password := \"$6$a$b\"\n", &["pass d"]),
            ("ann Crypt-Password := \"$6$a$b\"\nbob Cleartext-Password := \"y\"\n", &["fail low d users:2"]),
            ("ann Cleartext-Password := \"x\", Auth-Type := Reject\n", &[]),
            ("# ann Cleartext-Password := \"x\"\nbob Auth-Type := Reject\n", &[]),
        ] {
            run(&CHECK, &[(text, &[("d/raddb/users", text)], wanted)]);
        }
    }

    #[test]
    fn a_password_kept_elsewhere_is_a_question() {
        run(&CHECK, &[("elsewhere", &[("d/chap-secrets", "ann pptp @/etc/ppp/gone *\n")], &["ask d"])]);
    }
}
