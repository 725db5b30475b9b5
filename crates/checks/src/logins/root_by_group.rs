//! Members of a group that makes them root.

use crate::check::{Answer, Check, Fail, Need, Run, Verdict};
use crate::subject::{Subject, SubjectKind};
use std::collections::BTreeMap;
use trevlin_analysis::authentication::Passwords;
use trevlin_analysis::map::EstateMap;
use trevlin_estate::area::{Area, Severity};
use trevlin_estate::baseline::Baseline;
use trevlin_estate::identities::People;
use trevlin_model::Origin;

/// The check.
pub(crate) const CHECK: Check = Check {
    id: "logins/root-by-group",
    area: Area::Logins,
    title: "Root rights by membership of a group",
    severity: Severity::Medium,
    why: "Members of these groups become root without a password and without a line in the log of sudo: a container with the \
          disk of the host takes one command. Reviews of administrators look at sudo and overlook them.",
    fix: "Remove the members, and give them sudo rules or rootless containers. Treat those who remain as administrators, with a \
          second factor.",
    judged: "Fails for each group of a container engine (docker, lxd, incus-admin), of raw disks (disk) and of password hashes \
             (shadow) with members who may log in and are no administrators by sudo. Passes where all members are \
             administrators, or the group has no member.",
    references: &["docker(1)", "group(5)", "NIST SP 800-190, 4.5.1"],
    needs: &[Need::Accounts, Need::Sudo],
    run: Run::Map(run),
};

/// Groups, with what their members do to become root.
const GROUPS: [(&str, &str); 5] = [
    ("docker", "members command the container engine, which runs as root"),
    ("lxd", "members command the container engine, which runs as root"),
    ("incus-admin", "members command the container engine, which runs as root"),
    ("disk", "members read and write the disks past all permissions"),
    ("shadow", "members read the password hashes of all accounts"),
];

fn run(estate: &EstateMap, _: &Baseline) -> Vec<Answer> {
    let mut answers = Vec::new();
    for (at, device) in estate.devices.iter().enumerate() {
        let groups = device.facts.groups.iter().filter_map(|group| {
            let (_, how) = GROUPS.iter().find(|(name, _)| *name == group.name)?;
            Some((group, *how))
        });
        let groups: Vec<_> = groups.collect();
        if groups.is_empty() {
            continue;
        }
        let people = People::of(device);
        let administrators = people.administrators();
        let passwords = Passwords::of(device);
        let mut members: BTreeMap<String, Vec<(&str, Origin)>> = BTreeMap::new();
        for account in device.facts.accounts.iter().filter(|one| one.uid != 0 && one.has_shell()) {
            for group in people.groups_of(&account.name) {
                members.entry(group).or_default().push((&account.name, account.origin));
            }
        }
        for (group, how) in groups {
            let subject = Subject::of(SubjectKind::Group).with(&group.name);
            let all = members.get(&group.name).map_or(&[][..], Vec::as_slice);
            let others: Vec<&(&str, Origin)> = all
                .iter()
                .filter(|(name, _)| !administrators.contains_key(*name) && passwords.may_use(name))
                .collect();
            if others.is_empty() {
                answers.push(Answer::new(at, subject, Verdict::pass(group.origin)));
                continue;
            }
            let names: Vec<String> = others.iter().map(|(name, _)| format!("`{name}`")).collect();
            let shown = shown(&names);
            let be = if names.len() == 1 { "has" } else { "have" };
            answers.push(Answer::new(
                at,
                subject,
                Verdict::Fail(Fail {
                    rating: CHECK.rated(how),
                    title: format!("{shown} {be} root rights by the group `{}`", group.name).into(),
                    detail: format!(
                        "Members of the group `{}` who are no administrators by sudo: {shown}; {how}.",
                        group.name
                    )
                    .into(),
                    evidence: std::iter::once(group.origin)
                        .chain(others.iter().map(|(_, origin)| *origin))
                        .collect(),
                }),
            ));
        }
    }
    answers
}

/// Names in a row, the first few of many.
fn shown(names: &[String]) -> String {
    const MOST: usize = 5;
    let first = names.iter().take(MOST).cloned().collect::<Vec<_>>().join(", ");
    match names.len().saturating_sub(MOST) {
        0 => first,
        more => format!("{first} and {more} more"),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::testing::run;

    #[test]
    fn cases() {
        const ACCOUNTS: &str = "root:x:0:0::/root:/bin/bash\nann:x:1000:1000::/home/ann:/bin/bash\nben:x:1001:1001::/home/ben:/bin/bash\n\
                                job:x:998:998::/srv:/usr/sbin/nologin\n";
        let passwd = ("d/etc/passwd", ACCOUNTS);
        run(
            &CHECK,
            &[
                (
                    "a member without sudo",
                    &[passwd, ("d/etc/group", "sudo:x:27:ann\ndocker:x:997:ann,ben,job\n")],
                    &["fail medium d group:2 passwd:3"],
                ),
                (
                    "by the primary group",
                    &[
                        ("d/etc/passwd", "ben:x:1001:997::/home/ben:/bin/bash\n"),
                        ("d/etc/group", "docker:x:997:\n"),
                    ],
                    &["fail medium d group:1 passwd:1"],
                ),
                (
                    "administrators alone",
                    &[passwd, ("d/etc/group", "sudo:x:27:ann\ndocker:x:997:ann\n")],
                    &["pass d"],
                ),
                ("no members", &[passwd, ("d/etc/group", "docker:x:997:\n")], &["pass d"]),
                ("another group", &[passwd, ("d/etc/group", "crew:x:997:ben\n")], &[]),
                (
                    "locked",
                    &[
                        passwd,
                        ("d/etc/group", "docker:x:997:ben\n"),
                        ("d/etc/shadow", "ann:*:1:0:9:7:::\nben:!:1:0:9:7:::\n"),
                    ],
                    &["pass d"],
                ),
            ],
        );
    }
}
