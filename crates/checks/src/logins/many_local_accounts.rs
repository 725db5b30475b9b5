//! A list of logins on the device itself has grown long.

use crate::check::{Answer, Check, Fail, Need, Run, Verdict};
use crate::subject::{Subject, SubjectKind};
use crate::support::ask_for_list;
use std::collections::{BTreeMap, BTreeSet};
use trevlin_analysis::authentication::tunnels;
use trevlin_analysis::map::EstateMap;
use trevlin_estate::area::{Area, Severity};
use trevlin_estate::baseline::Baseline;
use trevlin_model::{LoginDaemon, LoginList, Origin};

/// The check.
pub(crate) const CHECK: Check = Check {
    id: "logins/many-local-accounts",
    area: Area::Logins,
    title: "Many local accounts instead of a central directory",
    severity: Severity::Low,
    why: "Local account lists are not linked to personnel changes. Each device has its own list without password expiry, and \
          disabling a user means finding every list.",
    fix: "Authenticate against RADIUS or a directory, and keep one local emergency account.",
    judged: "Fails where a local list has more accounts than the baseline allows (10) and the device uses no RADIUS server. \
             Passes for the users file of a RADIUS server.",
    references: &[],
    needs: &[Need::Accounts, Need::Services],
    run: Run::Map(run),
};

fn run(estate: &EstateMap, baseline: &Baseline) -> Vec<Answer> {
    let mut answers = Vec::new();
    for (at, device) in estate.devices.iter().enumerate() {
        let mut lists: BTreeMap<&str, (BTreeSet<&str>, Origin)> = BTreeMap::new();
        for login in device.logins.iter().filter(|login| login.daemon != Some(LoginDaemon::Radius)) {
            let LoginList::LocalFile(path) = &login.list;
            lists.entry(path).or_insert_with(|| (BTreeSet::new(), login.origin)).0.insert(&login.user);
        }
        for (tunnel, path, origin) in tunnels::lists_not_exported(estate, at) {
            let subject = Subject::of(SubjectKind::File).with(path);
            let otherwise = format!(
                "Please provide `{path}`, or the number and names of its entries: it lists the logins of {tunnel}."
            );
            let verdict = ask_for_list(estate, at, (tunnel, path, origin), otherwise);
            answers.push(Answer::new(at, subject, verdict));
        }
        let allowed = baseline.at(at).local_logins;
        for (path, (users, origin)) in lists {
            let verdict = if users.len() as u64 <= allowed || !device.facts.radius_targets.is_empty() {
                Verdict::pass(origin)
            } else {
                Verdict::Fail(Fail {
                    rating: CHECK.rated("no RADIUS server is configured"),
                    title: format!("Local list of {} accounts instead of a central directory", users.len())
                        .into(),
                    detail: format!("The baseline allows {allowed} without an AAA server.").into(),
                    evidence: vec![origin],
                })
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
        let list = |count: usize| {
            (0..count).map(|number| format!("p{number} : EAP \"x{number}\"\n")).collect::<String>()
        };
        let (short, long) = (list(10), list(11));
        let twice = long.replace("p10 ", "p9 ");
        const RADIUS: (&str, &str) = ("d/etc/pam_radius_auth.conf", "10.4.0.9 sesame 3\n");
        let users: String =
            (0..11).map(|number| format!("p{number} Cleartext-Password := \"x\"\n")).collect();
        run(
            &CHECK,
            &[
                ("short", &[("d/ipsec.secrets", &short)], &["pass d"]),
                ("long", &[("d/ipsec.secrets", &long)], &["fail low d ipsec.secrets:1"]),
                ("one of them twice", &[("d/ipsec.secrets", &twice)], &["pass d"]),
                ("with a RADIUS server", &[("d/ipsec.secrets", &long), RADIUS], &["pass d"]),
                ("the RADIUS server's own", &[("d/raddb/users", &users)], &[]),
            ],
        );
    }

    #[test]
    fn a_list_that_was_not_exported_is_a_question() {
        let server = (
            "d/etc/ocserv/ocserv.conf",
            "ipv4-network = 10.9.0.0/24\nauth = plain[passwd=/etc/ocserv/ocpasswd]\n",
        );
        let list = ("d/etc/ocserv/ocpasswd", "ann:*:$5$a$b\n");
        run(&CHECK, &[("not exported", &[server], &["ask d"]), ("exported", &[server, list], &["pass d"])]);
    }
}
