//! An administrator's name opens a tunnel.

use crate::check::{Answer, Check, Fail, Need, Run, Verdict};
use crate::subject::{Subject, SubjectKind};
use crate::support::{ask_for_list, service_of};
use trevlin_analysis::authentication::tunnels;
use trevlin_analysis::map::EstateMap;
use trevlin_estate::area::{Area, Severity};
use trevlin_estate::baseline::Baseline;
use trevlin_estate::identities;
use trevlin_estate::identities::is_privileged;

use std::collections::{BTreeMap, BTreeSet};
use trevlin_model::grant::Grantee;
use trevlin_model::{Device, Origin, Setting};

/// The check.
pub(crate) const CHECK: Check = Check {
    id: "logins/administrator-remote-access",
    area: Area::Logins,
    title: "Administrator account may use remote access",
    severity: Severity::Medium,
    why: "VPN accounts are used from laptops, hotels and homes. An attacker who takes over an account that also administers \
          servers gains full control in a single step.",
    fix: "Give administrators a separate account for daily work and VPN access. Restrict the administrative account to \
          internal hosts, and require two factors wherever it is used remotely.",
    judged: "Fails where a named VPN login, or a login in the users file of a RADIUS server, is also the name of an \
             administrator of a device in the estate: UID 0, an unrestricted sudo rule, or membership of an administrative \
             group. Users are matched by name only. Fails as well for a permission of a device sheet whose group or role \
             administers systems by its name, by its rights, or according to the estate file (`[logins] \
             administrator_groups`). Shell logins of the device itself are not judged.",
    references: &[],
    needs: &[Need::Accounts, Need::Services, Need::Ssh],
    run: Run::Map(run),
};

fn run(estate: &EstateMap, _: &Baseline) -> Vec<Answer> {
    let mut administrators: BTreeMap<String, (Origin, &Device)> = BTreeMap::new();
    for device in &estate.devices {
        for (name, origin) in identities::People::of(device).administrators() {
            administrators.entry(name).or_insert((origin, device));
        }
    }
    let mut answers = Vec::new();
    for (at, device) in estate.devices.iter().enumerate() {
        if !administrators.is_empty() {
            for (tunnel, path, origin) in tunnels::lists_not_exported(estate, at) {
                let subject = Subject::of(SubjectKind::File).with(path);
                let otherwise = format!(
                    "Please provide the login names in `{path}`: they decide whether administrators may use {tunnel}."
                );
                let verdict = ask_for_list(estate, at, (tunnel, path, origin), otherwise);
                answers.push(Answer::new(at, subject, verdict));
            }
        }
        answers.extend(by_permission(estate, at));
        for login in device.logins.iter().filter(|login| login.is_remote_access()) {
            let verdict = match administrators.get_key_value(&login.user) {
                Some((name, (origin, where_))) => Verdict::Fail(Fail {
                    rating: CHECK.rated_at(
                        if name == "root" { Severity::High } else { CHECK.severity },
                        format!("the same name administers {}", where_.name),
                    ),
                    title: format!(
                        "Administrator `{name}` may use remote access; the account administers {}",
                        where_.name
                    )
                    .into(),
                    detail: format!(
                        "`{name}` is a login for {} on {} and has full administrative rights on {}.",
                        login.service, device.name, where_.name
                    )
                    .into(),
                    evidence: vec![login.origin, *origin],
                }),
                None => Verdict::pass(login.origin),
            };
            answers.push(Answer::new(
                at,
                Subject::of(SubjectKind::Login).with(&login.user).with(&login.service),
                verdict,
            ));
        }
    }
    answers
}

/// Permissions for groups and roles of administrators.
fn by_permission(estate: &EstateMap, at: usize) -> Vec<Answer> {
    let device = &estate.devices[at];
    let remote: BTreeSet<&str> = device
        .facts
        .tunnels
        .iter()
        .filter(|tunnel| tunnel.accepts_clients())
        .map(|tunnel| tunnel.name.as_str())
        .collect();
    let mut answers = Vec::new();
    for one in device.facts.permissions.iter().filter(|one| !one.off && remote.contains(&*one.service)) {
        let (Grantee::Group(name) | Grantee::Role(name)) = &one.who else { continue };
        let by_rights = one.administrates.as_ref().and_then(Setting::stated).filter(|(on, _)| **on);
        let verdict = if is_privileged(estate, name) || by_rights.is_some() {
            let kind = if matches!(one.who, Grantee::Role(_)) { "role" } else { "group" };
            let why = match by_rights {
                Some(_) => "the rights of its members include administration",
                None => "its members administer systems, by its name",
            };
            Verdict::Fail(Fail {
                rating: CHECK.rated(why),
                title: format!("Administrators (the {kind} `{name}`) may use {}", service_of(device, &one.service)).into(),
                detail: format!(
                    "The permission for {} is for the {kind} `{name}`. A stolen login of one of its members gives access to \
                     the network and administrative rights at once.",
                    service_of(device, &one.service)
                )
                .into(),
                evidence: [one.origin].into_iter().chain(by_rights.map(|(_, origin)| origin)).collect(),
            })
        } else {
            Verdict::pass(one.origin)
        };
        answers.push(Answer::new(
            at,
            Subject::of(SubjectKind::Permission).with(&one.service).with(name),
            verdict,
        ));
    }
    answers
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::testing::run;

    #[test]
    fn cases() {
        const LIST: (&str, &str) = ("d/etc/ipsec.secrets", "ann : EAP \"x\"\n");
        const ACCOUNT: (&str, &str) = ("e/etc/passwd", "ann:x:1000:1000::/home/ann:/bin/bash\n");
        for (name, more, wanted) in [
            ("no rights", vec![ACCOUNT], "pass d"),
            (
                "in the group",
                vec![ACCOUNT, ("e/etc/group", "sudo:x:27:ann\n")],
                "fail medium d ipsec.secrets:1 group:1",
            ),
            (
                "by a rule",
                vec![ACCOUNT, ("e/etc/sudoers", "Defaults env_reset\nann ALL=(ALL) ALL\n")],
                "fail medium d ipsec.secrets:1 sudoers:2",
            ),
            (
                "a rule for one command",
                vec![ACCOUNT, ("e/etc/sudoers", "Defaults env_reset\nann ALL=(ALL) /bin/ls\n")],
                "pass d",
            ),
            (
                "the group counts for nothing where the rules do not name it",
                vec![
                    ACCOUNT,
                    ("e/etc/group", "sudo:x:27:ann\n"),
                    ("e/etc/sudoers", "Defaults env_reset\nbob ALL=(ALL) ALL\n"),
                ],
                "pass d",
            ),
            (
                "a rule in comments",
                vec![ACCOUNT, ("e/etc/sudoers", "Defaults env_reset\n#ann ALL=(ALL) ALL\n")],
                "pass d",
            ),
        ] {
            let files: Vec<_> = [LIST].into_iter().chain(more).collect();
            run(&CHECK, &[(name, &files, &[wanted])]);
        }
    }

    #[test]
    fn a_list_that_was_not_exported_is_a_question() {
        let server = (
            "d/etc/ocserv/ocserv.conf",
            "ipv4-network = 10.9.0.0/24\nauth = plain[passwd=/etc/ocserv/ocpasswd]\n",
        );
        let rules = ("d/etc/sudoers", "Defaults env_reset\nann ALL=(ALL) ALL\n");
        let list = ("d/etc/ocserv/ocpasswd", "bob:*:$5$a$b\n");
        run(
            &CHECK,
            &[
                ("not exported", &[server, rules], &["ask d"]),
                ("exported", &[server, rules, list], &["pass d"]),
            ],
        );
    }
}
