//! A login belongs to a role or a place, not to a person.

use crate::check::{Answer, Check, Fail, Need, Run, Verdict};
use crate::subject::{Subject, SubjectKind};
use std::collections::BTreeMap;
use trevlin_analysis::map::EstateMap;
use trevlin_estate::area::{Area, Severity};
use trevlin_estate::baseline::Baseline;
use trevlin_estate::identities;
use trevlin_model::account::StoredPassword;
use trevlin_model::{Login, LoginDaemon, Origin};

/// The check.
pub(crate) const CHECK: Check = Check {
    id: "logins/shared-account",
    area: Area::Logins,
    title: "Shared or generic account",
    severity: Severity::Medium,
    why: "The password of a shared account is known to several people and is rarely changed when one leaves. Log entries \
          cannot be attributed to a person.",
    fix: "Give every user a personal account. For devices, use a certificate and restrict access to the one service needed.",
    judged: "Fails where a part of a login name is on a list of generic names, for VPN, RADIUS and administration logins, and \
             low for logins to services and for accounts with a shell and a password. Passes for service accounts (no shell or no valid password).",
    references: &["ISO/IEC 27002:2022, 5.16"],
    needs: &[Need::Accounts, Need::Services],
    run: Run::Map(run),
};

/// Severity by what a login opens, and its reason.
type Opens = (Severity, &'static str);

/// An account of the system.
const SHELL: Opens = (Severity::Low, "it grants a shell, not VPN access");

fn opens(login: &Login) -> Opens {
    match login.daemon {
        None | Some(LoginDaemon::Ike | LoginDaemon::Ppp) => (CHECK.severity, "it grants VPN access"),
        Some(LoginDaemon::Radius) => (CHECK.severity, "it grants network access"),
        Some(LoginDaemon::Administration) => (CHECK.severity, "it grants administration of the device"),
        Some(LoginDaemon::Web) => (Severity::Low, "it grants access to pages of a web server"),
        Some(LoginDaemon::Service) => (Severity::Low, "it grants access to a service of the device"),
        Some(LoginDaemon::Shell) => SHELL,
    }
}

fn run(estate: &EstateMap, _: &Baseline) -> Vec<Answer> {
    let mut answers = Vec::new();
    for (at, device) in estate.devices.iter().enumerate() {
        let mut logins: BTreeMap<(&str, &str), (Origin, Opens)> = BTreeMap::new();
        for login in device.logins.iter().filter(|login| login.user != "*") {
            logins.entry((&login.user, &login.service)).or_insert((login.origin, opens(login)));
        }
        for account in device.facts.accounts.iter().filter(|one| one.has_shell() && one.uid != 0) {
            let shadow = device.facts.shadow.iter().find(|one| one.name == account.name);
            let password = shadow.map_or(&account.password, |entry| &entry.password);
            if matches!(password, StoredPassword::Hash { .. } | StoredPassword::Empty) {
                logins.entry((&account.name, "shells")).or_insert((account.origin, SHELL));
            }
        }
        if device.facts.shadow.is_empty() {
            let hidden = device.facts.accounts.iter().filter(|one| {
                one.has_shell() && one.uid != 0 && matches!(one.password, StoredPassword::Elsewhere)
            });
            for account in hidden.filter(|one| identities::is_generic(&one.name)) {
                let ask = format!(
                    "Please state whether account `{}` has a password, and who knows it: its name is generic, and \
                     `/etc/shadow` is not among the exports.",
                    account.name
                );
                answers.push(Answer::new(
                    at,
                    Subject::of(SubjectKind::Account).with(&account.name),
                    Verdict::ask(ask, vec![account.origin]),
                ));
            }
        }
        for ((name, service), (origin, (severity, what))) in logins {
            let verdict = if identities::is_generic(name) {
                Verdict::Fail(Fail {
                    rating: CHECK.rated_at(severity, what),
                    title: format!("Account `{name}` is generic, not personal").into(),
                    detail: format!(
                        "Login `{name}` for {service} on {} is not bound to one person.",
                        device.name
                    )
                    .into(),
                    evidence: vec![origin],
                })
            } else {
                Verdict::pass(origin)
            };
            answers.push(Answer::new(at, Subject::of(SubjectKind::Login).with(name).with(service), verdict));
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
        for (name, path, text, wanted) in [
            (
                "a kiosk",
                "d/ipsec.secrets",
                "kiosk-north : EAP \"x\"\n",
                &["fail medium d ipsec.secrets:1"][..],
            ),
            ("a person", "d/ipsec.secrets", "astrid : EAP \"x\"\n", &["pass d"]),
            ("in comments", "d/ipsec.secrets", "# guest : EAP \"x\"\nann : EAP \"y\"\n", &["pass d"]),
            (
                "an account",
                "d/etc/passwd",
                "guest:$6$a$b:1000:1000::/home/guest:/bin/bash\n",
                &["fail low d passwd:1"],
            ),
            ("no shell", "d/etc/passwd", "backup:$6$a$b:34:34::/var/backups:/usr/sbin/nologin\n", &[]),
            ("no password fits", "d/etc/passwd", "backup:*:34:34::/var/backups:/bin/sh\n", &[]),
            (
                "its hash was not exported",
                "d/etc/passwd",
                "guest:x:1000:1000::/home/guest:/bin/bash\n",
                &["ask d"],
            ),
        ] {
            run(&CHECK, &[(name, &[(path, text)], wanted)]);
        }
    }
}
