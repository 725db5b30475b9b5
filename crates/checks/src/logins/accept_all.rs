//! Authentication accepts any user.

use crate::check::{Answer, Check, Fail, Need, Run, Verdict};
use crate::subject::{Subject, SubjectKind};
use trevlin_analysis::map::EstateMap;
use trevlin_estate::area::{Area, Severity};
use trevlin_estate::baseline::Baseline;
use trevlin_model::radius::RadiusEntry;
use trevlin_model::{LoginDaemon, Origin};

/// The check.
pub(crate) const CHECK: Check = Check {
    id: "logins/accept-all",
    area: Area::Logins,
    title: "Authentication accepts any user",
    severity: Severity::Critical,
    why: "A catch-all entry accepts any user name. Former, locked and unknown users log in as well, and the logs do not show \
          who connected.",
    fix: "Remove the entry, or bind it to a group that is looked up. End the user list with an entry that rejects all other \
          users.",
    judged: "Fails where a RADIUS users file accepts the name DEFAULT without a password; one level lower where the entry \
             checks further attributes of the request. Fails where a secrets file of a tunnel has one password for any name \
             (`*`). Passes for entries that follow a catch-all rejection, since they are never evaluated.",
    references: &["users(5)", "pppd(8), AUTHENTICATION"],
    needs: &[Need::Services],
    run: Run::Map(run),
};

fn run(estate: &EstateMap, _: &Baseline) -> Vec<Answer> {
    let mut answers = Vec::new();
    for (at, device) in estate.devices.iter().enumerate() {
        let mut closed: Option<Origin> = None;
        for entry in device.facts.radius_entries.iter().filter(|entry| entry.user == "DEFAULT") {
            if entry.accepts {
                let verdict = closed.map_or_else(|| accepts(entry), Verdict::pass);
                answers.push(Answer::new(at, Subject::of(SubjectKind::AnyUser), verdict));
            }
            if entry.rejects && !entry.conditional {
                closed.get_or_insert(entry.origin);
            }
        }
        // A line with no password is judged where it may be used; one that no server of the device reads opens nothing.
        let anybody = device.logins.iter().filter(|login| {
            let password = login.secret.as_ref().is_some_and(|held| !held.secret.is_empty());
            login.user == "*"
                && password
                && !matches!(login.daemon, Some(LoginDaemon::Radius | LoginDaemon::Ppp))
        });
        for login in anybody {
            let verdict = if login.certain {
                Verdict::Fail(Fail {
                    rating: CHECK.rated_at(Severity::High, "one password is still required"),
                    title: format!("{} accepts any user name with one password", login.service).into(),
                    detail: format!(
                        "The entry for `*` gives every user name the same password for {}.",
                        login.service
                    )
                    .into(),
                    evidence: vec![login.origin],
                })
            } else {
                let ask = format!(
                    "Please provide the options of the server that reads this list: an entry for `*` gives every user name \
                     one password, and {} may or may not use it.",
                    login.service
                );
                Verdict::ask(ask, vec![login.origin])
            };
            answers.push(Answer::new(at, Subject::of(SubjectKind::AnyUser).with(&login.service), verdict));
        }
    }
    answers
}

fn accepts(entry: &RadiusEntry) -> Verdict {
    let (severity, why) = if entry.conditional {
        (Severity::High, "the entry also checks request attributes, which clients can forge")
    } else {
        (CHECK.severity, "no authentication is required")
    };
    Verdict::Fail(Fail {
        rating: CHECK.rated_at(severity, why),
        title: "RADIUS server accepts any user".into(),
        detail: "An entry for DEFAULT sets `Auth-Type := Accept`.".into(),
        evidence: vec![entry.origin],
    })
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::testing::run;

    #[test]
    fn user_files() {
        for (text, wanted) in [
            ("DEFAULT Auth-Type := Accept\n", &["fail critical d users:1"][..]),
            ("DEFAULT Huntgroup-Name == \"x\", Auth-Type := Accept\n", &["fail high d users:1"]),
            ("DEFAULT Auth-Type := Reject\nDEFAULT Auth-Type := Accept\n", &["pass d"]),
            ("# DEFAULT Auth-Type := Accept\nann Cleartext-Password := \"x\"\n", &[]),
            ("ann Auth-Type := Accept\n", &[]),
        ] {
            run(&CHECK, &[(text, &[("d/raddb/users", text)], wanted)]);
        }
    }

    #[test]
    fn lists_of_tunnels() {
        const SERVER: (&str, &str) = ("d/pptpd.conf", "option /etc/ppp/options\nremoteip 10.4.0.9\n");
        for (options, secrets, wanted) in [
            ("name pptp\nrequire-mschap-v2\n", "* pptp sesame *\n", &["fail high d chap-secrets:1"][..]),
            ("require-mschap-v2\n", "* pptp sesame *\n", &["ask d"]),
            ("name pptp\nrequire-mschap-v2\n", "ann pptp sesame *\n", &[]),
            ("name pptp\nrequire-mschap-v2\n", "* other sesame *\n", &[]),
        ] {
            let files = [SERVER, ("d/ppp/options", options), ("d/chap-secrets", secrets)];
            run(&CHECK, &[(options, &files, wanted)]);
        }
    }
}
