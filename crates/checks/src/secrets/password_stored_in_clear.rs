//! A list keeps passwords as they are.

use crate::check::{Answer, Check, Fail, Need, Run, Verdict};
use crate::subject::{Subject, SubjectKind};
use std::collections::{BTreeMap, BTreeSet};
use trevlin_analysis::map::EstateMap;
use trevlin_estate::area::{Area, Severity};
use trevlin_estate::baseline::Baseline;
use trevlin_model::secret::SecretKind;
use trevlin_model::{Login, LoginDaemon, LoginList, Origin, Setting};

/// The check.
pub(crate) const CHECK: Check = Check {
    id: "secrets/password-stored-in-clear",
    area: Area::Secrets,
    title: "Passwords stored in clear text",
    severity: Severity::Low,
    why: "Anyone who reads the file, a backup or this export obtains every password in it. Users often reuse them elsewhere.",
    fix: "Store hashes where the protocol permits it (PAP inside TLS, certificates), in one place only. Where MS-CHAP or \
          CHAP need clear text, protect the file and its backups and use generated passwords.",
    judged: "Fails for each list with an active account whose password is in clear text, one level higher where the accounts \
             administer the device. Passes for lists of hashes. The strength of each password is judged by another check.",
    references: &["NIST SP 800-63B, 5.1.1.2", "RFC 2759, 1"],
    needs: &[Need::SavedLogins, Need::Services],
    run: Run::Map(run),
};

fn run(estate: &EstateMap, baseline: &Baseline) -> Vec<Answer> {
    let mut answers = Vec::new();
    for (at, device) in estate.devices.iter().enumerate() {
        let mut lists: BTreeMap<&str, Vec<(Option<Origin>, Origin)>> = BTreeMap::new();
        let live = |login: &&Login| !login.has_expired(baseline.day());
        let mut administer = BTreeSet::new();
        for login in device.logins.iter().filter(live) {
            if login.daemon == Some(LoginDaemon::Administration) {
                let LoginList::LocalFile(path) = &login.list;
                administer.insert(path.as_str());
            }
            let LoginList::LocalFile(path) = &login.list;
            if let Some(held) = &login.secret {
                let clear = held.kind == SecretKind::LoginPassword && !held.secret.is_withheld();
                lists.entry(path).or_default().push((clear.then_some(held.origin), login.origin));
            }
        }
        for one in &device.facts.credentials {
            if let Setting::Unknown { why } = &one.secret {
                let ask = format!(
                    "Please state how the file with the password of {} is protected: its storage is not visible here ({why}).",
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
            // One password may be for several services.
            let clear: BTreeSet<Origin> = logins.iter().filter_map(|(clear, _)| *clear).collect();
            let first = logins.iter().find_map(|(clear, login)| clear.map(|_| login));
            let verdict = match first {
                None => Verdict::pass_lines(logins.iter().take(1).map(|(_, login)| *login).collect()),
                Some(first) => Verdict::Fail(Fail {
                    rating: if administer.contains(path) {
                        CHECK.rating().raised("the accounts administer the device")
                    } else {
                        CHECK.rated("an attacker must read the file first")
                    },
                    title: match clear.len() {
                        1 => "One password is stored in clear text".to_owned(),
                        count => format!("{count} passwords are stored in clear text"),
                    }
                    .into(),
                    detail: "Every reader of the list obtains the passwords.".into(),
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
    fn a_password_for_two_services_is_one() {
        let sheet = "sheet = \"trevlin-sheet/2\"\n[[logins]]\nuser = \"press\"\nlist = \"people\"\n\
                     service = [\"pages\", \"files\"]\nsecret = \"abc\"\n";
        run(&CHECK, &[("two services", &[("d/sheet.toml", sheet)], &["fail low d sheet.toml:2"])]);
    }

    #[test]
    fn a_password_kept_elsewhere_is_a_question() {
        run(&CHECK, &[("elsewhere", &[("d/chap-secrets", "ann pptp @/etc/ppp/gone *\n")], &["ask d"])]);
    }
}
