//! A rule of sudo for single commands gives its users everything.

use crate::check::{Answer, Check, Fail, Need, Run, Verdict};
use crate::subject::{Subject, SubjectKind};
use serde::Deserialize;
use std::collections::{BTreeMap, BTreeSet};
use trevlin_analysis::map::EstateMap;
use trevlin_estate::area::{Area, Severity};
use trevlin_estate::baseline::Baseline;
use trevlin_estate::delegations::{Decision, Delegations, program};
use trevlin_estate::identities::People;
use trevlin_model::Device;
use trevlin_model::sudo::{SudoCommand, SudoRule};

/// The check.
pub(crate) const CHECK: Check = Check {
    id: "logins/sudo-escape",
    area: Area::Logins,
    title: "Limited sudo rule gives full root access",
    severity: Severity::Medium,
    why: "The rule is intended to permit one task. The permitted program can start others or write any file, so the user is root in \
          one step, and the limitation exists on paper only.",
    fix: "Permit a script with fixed arguments that only root may change, use `sudoedit` with full paths for files, and state \
          all arguments without wildcards. NOEXEC helps where the program does not write files itself.",
    judged: "Fails for a rule that lets a user run as root, without having every command anyway, a program of the table that \
             starts other programs or writes any file, with arguments that permit it; a program that the user can replace; or \
             all programs of a folder. One level higher where no password is required and the name is also a VPN login. The \
             last matching command decides, and exclusions, NOEXEC and fixed arguments are respected. Passes for other \
             programs and for arguments that permit no more than the task. The content of scripts is not judged.",
    references: &["sudoers(5), PREVENTING SHELL ESCAPES", "sudoers(5), SECURITY NOTES"],
    needs: &[Need::Accounts, Need::Sudo],
    run: Run::Map(run),
};

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
struct Table {
    escapes: Vec<Escape>,
}

/// How a program gives its user everything.
#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
struct Escape {
    programs: Vec<String>,
    arguments: Option<String>,
    #[serde(default)]
    leading: bool,
    #[serde(default)]
    noexec: bool,
    how: String,
    #[expect(dead_code, reason = "states where the row comes from")]
    source: String,
}

trevlin_model::table! { static ESCAPES: Table = "../../tables/sudo-escapes.toml"; }

/// Folders that every user may write to (file-hierarchy(7)).
const FOR_ALL: [&str; 3] = ["/tmp/", "/var/tmp/", "/dev/shm/"];

/// Folders whose programs are those of the system (file-hierarchy(7)).
const FOLDERS: [&str; 2] = ["/usr/bin/", "/usr/sbin/"];

fn run(estate: &EstateMap, _: &Baseline) -> Vec<Answer> {
    let dials_in: BTreeSet<&str> = super::remote_access_users(estate);
    let mut answers = Vec::new();
    for (at, device) in estate.devices.iter().enumerate() {
        if device.facts.sudo_rules.iter().all(|rule| rule.commands.is_empty()) {
            continue;
        }
        let people = People::of(device);
        let delegations = Delegations::of(&people);
        // The same command may be in several rules; the one that decides is judged.
        let mut verdicts: BTreeMap<Subject, Verdict> = BTreeMap::new();
        for rule in &device.facts.sudo_rules {
            for command in rule.commands.iter().filter(|one| one.as_root && !one.excluded && !one.is_all()) {
                let users = rule.who.iter().filter(|name| !name.starts_with('!') && *name != "root");
                let users = users.filter(|name| has_members(device, name));
                let ways: Vec<_> = match may_lead_on(device, command) {
                    true => users
                        .filter_map(|user| way(device, &delegations, user, rule, command))
                        .take(MOST_NAMED + 1)
                        .collect(),
                    false => Vec::new(),
                };
                let subject = Subject::of(SubjectKind::SudoRule).with(rule.who.join(" ")).with(&command.path);
                let verdict = verdicts
                    .entry(subject.with(command.arguments.as_deref().unwrap_or("*")))
                    .or_insert_with(|| Verdict::pass(rule.origin));
                if !ways.is_empty() {
                    *verdict = fail(command, &ways, &dials_in);
                }
            }
        }
        answers.extend(verdicts.into_iter().map(|(subject, verdict)| Answer::new(at, subject, verdict)));
    }
    answers
}

/// Number of users in a rule that are listed.
const MOST_NAMED: usize = 6;

/// Whether a name of a rule stands for any user: a group of the export without members does not.
fn has_members(device: &Device, user: &str) -> bool {
    let Some(name) = user.strip_prefix('%') else { return true };
    let group = device.facts.groups.iter().find(|group| group.name == name);
    group.is_none_or(|group| {
        !group.members.is_empty()
            || device.facts.accounts.iter().any(|account| account.gid == group.gid && account.uid != 0)
    })
}

/// How a user becomes root by a command of a rule.
struct Way<'a> {
    user: &'a str,
    how: String,
    decision: Decision<'a>,
}

/// Whether a command may lead to more for some user; most do not for any.
fn may_lead_on(device: &Device, command: &SudoCommand) -> bool {
    let name = program(&command.path);
    !command.is_one_program()
        || ESCAPES.escapes.iter().any(|escape| escape.is_of(name))
        || FOR_ALL.iter().any(|folder| command.path.starts_with(folder))
        || device
            .facts
            .accounts
            .iter()
            .any(|account| !account.home.is_empty() && command.path.starts_with(&account.home))
}

/// How a user becomes root by a command of a rule, where this rule is the one that permits it.
fn way<'a>(
    device: &Device,
    delegations: &Delegations<'a>,
    user: &'a str,
    rule: &SudoRule,
    command: &SudoCommand,
) -> Option<Way<'a>> {
    // A user who has everything under the same condition gains nothing.
    let everything = delegations.deciding_all(user).filter(|all| all.granted);
    let gains =
        |decision: &Decision<'_>| everything.is_none_or(|all| all.asks_password && !decision.asks_password);
    let decides = |path: &str, arguments: &str| {
        let own = |decision: &Decision<'_>| {
            decision.rule.origin == rule.origin && decision.command == Some(command)
        };
        delegations.deciding(user, path, arguments).filter(own).filter(gains)
    };
    if let Some(folder) = replaceable(device, user, command)
        && let Some(decision) = decides(&command.path, command.arguments.as_deref().unwrap_or_default())
    {
        let how = format!("the program is in {folder}, where the user can replace it");
        return Some(Way { user, how, decision });
    }
    for escape in &ESCAPES.escapes {
        let Some(arguments) = escape.arguments_within(command.arguments.as_deref()) else { continue };
        let decides =
            |path: &str| decides(path, &arguments).filter(|decision| !(escape.noexec && decision.noexec));
        if command.is_one_program() {
            if escape.is_of(program(&command.path))
                && let Some(decision) = decides(&command.path)
            {
                return Some(Way { user, how: escape.how.clone(), decision });
            }
            continue;
        }
        for path in escape.programs.iter().flat_map(|name| FOLDERS.map(|folder| format!("{folder}{name}"))) {
            if let Some(decision) = decides(&path) {
                let how = format!("`{path}` is among the programs; {}", escape.how);
                return Some(Way { user, how, decision });
            }
        }
    }
    None
}

/// The folder of a command in which the user can put another program under its name.
fn replaceable<'a>(device: &'a Device, user: &str, command: &SudoCommand) -> Option<&'a str> {
    let own = device
        .facts
        .accounts
        .iter()
        .find(|account| account.name == user)
        .map(|account| account.home.as_str());
    let own = own.filter(|home| home.trim_matches('/').contains('/') && *home != "/root");
    let within = |folder: &str| {
        command.path.strip_prefix(folder.trim_end_matches('/')).is_some_and(|rest| rest.starts_with('/'))
    };
    own.filter(|home| within(home)).or_else(|| FOR_ALL.iter().find(|folder| within(folder)).copied())
}

impl Escape {
    /// Whether it is about a program: under its own name, or with a version behind it.
    fn is_of(&self, name: &str) -> bool {
        let bare = name.trim_end_matches(|sign: char| sign.is_ascii_digit() || matches!(sign, '.' | '-'));
        self.programs.iter().any(|one| one == name || one == bare)
    }

    /// Arguments that a command permits and that lead to it; none where the command permits no such.
    fn arguments_within(&self, permitted: Option<&str>) -> Option<String> {
        let Some(permitted) = permitted else { return Some(self.arguments.clone().unwrap_or_default()) };
        match &self.arguments {
            None => Some(filled(permitted, "x")),
            Some(wanted) if matches!(permitted, "^.*$" | "^.+$") => Some(wanted.clone()),
            Some(wanted) if self.leading => {
                let verb = wanted.split(' ').next().unwrap_or(wanted);
                let stated = permitted == verb
                    || permitted.strip_prefix(verb).is_some_and(|rest| rest.starts_with(' '));
                (stated || permitted.starts_with('*')).then(|| match stated {
                    true => filled(permitted, "x"),
                    false => filled(permitted, wanted),
                })
            }
            Some(wanted) => {
                (permitted == wanted || permitted.contains('*')).then(|| filled(permitted, wanted))
            }
        }
    }
}

/// A text that a pattern matches: its last star stands for other text, the others and all further wildcards for one letter.
fn filled(pattern: &str, last: &str) -> String {
    let star = pattern.rfind('*');
    let mut found = String::new();
    let mut signs = pattern.char_indices();
    while let Some((at, sign)) = signs.next() {
        match sign {
            '*' if Some(at) == star => found.push_str(last),
            '*' | '?' => found.push('x'),
            '[' => {
                let set: String =
                    signs.by_ref().map(|(_, sign)| sign).take_while(|sign| *sign != ']').collect();
                found.push(
                    set.trim_start_matches(['!', '^'])
                        .chars()
                        .next()
                        .filter(|_| !set.starts_with(['!', '^']))
                        .unwrap_or('x'),
                );
            }
            other => found.push(other),
        }
    }
    found
}

fn fail(command: &SudoCommand, ways: &[Way<'_>], dials_in: &BTreeSet<&str>) -> Verdict {
    let Way { how, decision, .. } = &ways[0];
    let remote = ways.iter().find(|way| dials_in.contains(way.user));
    let rating = match remote {
        Some(way) if !decision.asks_password => CHECK.rated_at(
            Severity::High,
            format!("no password is required, and `{}` is also a VPN login", way.user),
        ),
        _ if decision.asks_password => CHECK.rated("the user's own password is required"),
        _ => CHECK.rated("no password is required"),
    };
    let shown =
        ways.iter().take(MOST_NAMED).map(|way| format!("`{}`", way.user)).collect::<Vec<_>>().join(", ");
    let more = if ways.len() > MOST_NAMED { " and others" } else { "" };
    let programs = match command.is_one_program() {
        true => format!("`{}`", command.path),
        false => format!("programs of `{}`", command.path),
    };
    let password = if decision.asks_password { "with the user's own password" } else { "without a password" };
    let arguments = match command.arguments.as_deref() {
        None => "any arguments are permitted".to_owned(),
        Some("") => "no arguments are permitted".to_owned(),
        Some(arguments) => format!("the permitted arguments are `{arguments}`"),
    };
    let noexec = if decision.noexec { " NOEXEC does not prevent this." } else { "" };
    let mut evidence = vec![decision.rule.origin];
    evidence.extend(decision.password_default.filter(|_| !decision.asks_password));
    Verdict::Fail(Fail {
        rating,
        title: format!("{shown}{more} may become root through {programs}").into(),
        detail: format!(
            "{shown}{more} may run {programs} as root {password}; {arguments}. This gives full root access: {how}.{noexec}"
        )
        .into(),
        evidence,
    })
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::testing::run;

    const USERS: (&str, &str) =
        ("d/etc/passwd", "ann:x:1000:1000::/home/ann:/bin/bash\nbob:x:1001:1001::/home/bob:/bin/sh\n");

    #[test]
    fn cases() {
        for (rules, wanted) in [
            ("ann ALL=(root) NOPASSWD: /usr/bin/vim /etc/hosts", &["fail medium d sudoers:2"][..]),
            ("ann ALL=(root) /usr/bin/less /var/log/syslog", &["fail medium d sudoers:2"]),
            ("ann ALL=(root) NOEXEC: /usr/bin/less /var/log/syslog", &["pass d"]),
            ("ann ALL=(root) NOEXEC: /usr/bin/vim /etc/hosts", &["fail medium d sudoers:2"]),
            ("Defaults noexec\nann ALL=(root) /usr/bin/less", &["pass d"]),
            (
                "Cmnd_Alias PAGERS = /usr/bin/less, /bin/more\nDefaults!PAGERS noexec\nann ALL = PAGERS",
                &["pass d", "pass d"],
            ),
            ("ann ALL=(root) /usr/bin/find", &["fail medium d sudoers:2"]),
            ("ann ALL=(root) /usr/bin/find /srv -name *.log", &["fail medium d sudoers:2"]),
            ("ann ALL=(root) /usr/bin/find /srv -newer /srv/mark", &["pass d"]),
            ("ann ALL=(root) /usr/bin/find \"\"", &["pass d"]),
            ("ann ALL=(root) NOPASSWD: /usr/bin/tar -czf /srv/copy.tgz *", &["fail medium d sudoers:2"]),
            ("ann ALL=(root) /usr/bin/systemctl", &["fail medium d sudoers:2"]),
            ("ann ALL=(root) /usr/bin/systemctl restart *", &["pass d"]),
            ("ann ALL=(root) /usr/bin/systemctl edit quay.service", &["fail medium d sudoers:2"]),
            ("ann ALL=(root) /usr/bin/python3.11 /opt/quay/report.py", &["pass d"]),
            ("ann ALL=(root) /usr/bin/python3.11 /opt/quay/*.py", &["fail medium d sudoers:2"]),
            ("ann ALL=(root) /usr/bin/passwd [A-Za-z]*", &["fail medium d sudoers:2"]),
            ("ann ALL=(root) /usr/bin/passwd [A-Za-z]*, !/usr/bin/passwd *root*", &["pass d"]),
            ("ann ALL=(root) /usr/bin/", &["fail medium d sudoers:2"]),
            ("ann ALL=(root) /usr/bin/ap*", &["fail medium d sudoers:2"]),
            ("ann ALL=(root) NOPASSWD: /home/ann/bin/restart", &["fail medium d sudoers:2"]),
            ("ann ALL=(root) NOPASSWD: /home/bob/bin/restart", &["pass d"]),
            ("ann ALL=(root) NOPASSWD: /usr/local/sbin/restart", &["pass d"]),
            ("ann ALL=(root) sudoedit /etc/hosts", &["pass d"]),
            ("ann ALL=(root) sudoedit /etc/sudoers", &["fail medium d sudoers:2"]),
            // As another user, or taken back.
            ("ann ALL=(www-data) NOPASSWD: /usr/bin/vim", &[]),
            ("ann ALL=(root) /usr/bin/vim\nann ALL=(root) !ALL", &["pass d"]),
            ("ann ALL=(root) /usr/bin/vim\nann ALL=(root) !/bin/vim", &["pass d"]),
            ("ann ALL=(root) !/usr/bin/vim\nann ALL=(root) /usr/bin/vim", &["fail medium d sudoers:3"]),
            // Whoever has everything gains nothing, unless the password is what is missing.
            ("ann ALL=(ALL) ALL\nann ALL=(root) /usr/bin/vim", &["pass d"]),
            ("ann ALL=(ALL) ALL\nann ALL=(root) NOPASSWD: /usr/bin/vim", &["fail medium d sudoers:3"]),
            ("ann ALL=(ALL) ALL, !/usr/bin/vim", &[]),
            ("%crew ALL=(root) /usr/bin/vim", &["fail medium d sudoers:2"]),
            ("#ann ALL=(root) /usr/bin/vim", &[]),
        ] {
            let text = format!("Defaults env_reset\n{rules}\n");
            run(&CHECK, &[(rules, &[("d/etc/sudoers", &text), USERS], wanted)]);
        }
        let rule =
            ("d/etc/sudoers", "Defaults env_reset\n%crew ALL=(root) NOPASSWD: /usr/bin/vim, /bin/date\n");
        let list = ("e/ipsec.secrets", "ann : EAP \"x\"\n");
        let own = ("d/etc/sudoers", "Defaults env_reset\nann ALL=(root) NOPASSWD: /usr/bin/vim\n");
        run(
            &CHECK,
            &[
                ("dials in", &[own, USERS, list], &["fail high d sudoers:2"]),
                ("no accounts were exported", &[rule], &["pass d", "fail medium d sudoers:2"]),
                (
                    "a group without members",
                    &[rule, USERS, ("d/etc/group", "crew:x:30:\n")],
                    &["pass d", "pass d"],
                ),
            ],
        );
    }

    /// Every row is about some program, and one that its own arguments lead to.
    #[test]
    fn every_row_of_the_table_is_met() {
        for escape in &ESCAPES.escapes {
            for name in &escape.programs {
                let text = format!("Defaults env_reset\nann ALL=(root) NOPASSWD: /usr/bin/{name}\n");
                let estate = crate::testing::estate(&[("d/etc/sudoers", &text), USERS]);
                let found = CHECK.answers(&estate, &Baseline::on(jiff::civil::date(2026, 11, 25)));
                assert!(matches!(found[..], [Answer { verdict: Verdict::Fail(_), .. }]), "{name}");
            }
        }
    }
}
