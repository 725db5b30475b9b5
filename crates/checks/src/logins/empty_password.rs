//! An account has no password, or logins without one are permitted.

use crate::check::{Answer, Check, Fail, Need, Run, Verdict};
use crate::subject::{Subject, SubjectKind};
use std::cell::LazyCell;
use std::collections::BTreeMap;
use trevlin_analysis::authentication::{ShellCondition, conditions};
use trevlin_analysis::context::Analyses;
use trevlin_analysis::reachability_from::Reachability;
use trevlin_estate::area::{Area, Severity};
use trevlin_estate::baseline::Baseline;
use trevlin_estate::delegations::Delegations;
use trevlin_estate::identities::People;
use trevlin_model::account::{Account, ShadowEntry, StoredPassword};
use trevlin_model::radius::RadiusEntry;
use trevlin_model::ssh::{SshConnection, SshServer};
use trevlin_model::{Device, Origin};

/// The check.
pub(crate) const CHECK: Check = Check {
    id: "logins/empty-password",
    area: Area::Logins,
    title: "Account without a password",
    severity: Severity::Medium,
    why: "Any service that uses this account grants access by name alone. Other files decide which services do, so a \
          change there exposes the account without further notice.",
    fix: "Lock the account (`passwd -l NAME`) or set a password. Remove `nullok` and `PermitEmptyPasswords` from the \
          services that set them.",
    judged: "Fails where an account with a shell has an empty password field, and where a RADIUS users file accepts a name \
             with any password; one level higher where SSH permits empty passwords, for all connections or in a `Match` \
             block, and where the account is root or may become root by sudo. `PermitEmptyPasswords yes` alone is a separate finding where no such \
             account was exported: low where the passwords were, high where it is set for named users. Passes for locked \
             accounts and accounts without a \
             shell.",
    references: &["shadow(5)", "sshd_config(5), PermitEmptyPasswords", "pam_unix(8), nullok"],
    needs: &[Need::Accounts, Need::Services],
    run: Run::Analyses(run),
};

fn run(estate: &Analyses, _: &Baseline) -> Vec<Answer> {
    let mut answers = Vec::new();
    for (at, device) in estate.devices.iter().enumerate() {
        let people = People::of(device);
        let permissions = permissions(device);
        let permitted = |permission: &Permission<'_>, account: &Account| {
            permission.holds_for(&account.name, &people.groups_of(&account.name))
        };
        // Few devices have such an account.
        let delegations = LazyCell::new(|| Delegations::of(&people));
        let shadow = shadow(device);
        let mut usable = Vec::new();
        for account in &device.facts.accounts {
            let verdict = match empty_at(account, &shadow) {
                Some(origin) => {
                    usable.push(account);
                    let permission = permissions.iter().find(|one| permitted(one, account));
                    let root = root(&delegations, account);
                    fail(estate, at, account, origin, permission, root)
                }
                None => Verdict::pass(account.origin),
            };
            answers.push(Answer::new(at, Subject::of(SubjectKind::Account).with(&account.name), verdict));
        }
        answers.extend(
            named_radius(device)
                .map(|verdict| Answer::new(at, Subject::of(SubjectKind::RadiusUsers), verdict)),
        );
        let unseen = |one: &Account| one.has_shell() && matches!(one.password, StoredPassword::Elsewhere);
        let hidden = device.facts.shadow.is_empty() && device.facts.accounts.iter().any(unseen);
        if let Some(permission) = permissions.first().filter(|_| hidden) {
            let ask = "Please provide the names with an empty second field in `/etc/shadow`: SSH permits empty passwords.";
            answers.push(Answer::new(
                at,
                Subject::of(SubjectKind::Accounts),
                Verdict::ask(ask, vec![permission.origin]).wanting("/etc/shadow"),
            ));
        }
        for permission in &permissions {
            if !usable.iter().any(|account| permitted(permission, account)) {
                answers.push(switched_on(estate, at, permission));
            }
        }
    }
    answers
}

/// A line by which SSH accepts accounts without a password.
struct Permission<'a> {
    server: &'a SshServer,
    /// The condition that it depends on, where it does.
    condition: Option<ShellCondition>,
    origin: Origin,
}

impl Permission<'_> {
    fn holds_for(&self, user: &str, groups: &[String]) -> bool {
        self.condition.as_ref().is_none_or(|one| one.clone().for_user(self.server, user, groups).is_some())
    }

    fn reachability<'e>(&'e self, estate: &'e Analyses, at: usize) -> Reachability<'e> {
        Reachability::of_ssh(estate, at, self.server, self.condition.as_ref())
    }
}

/// Every such line, for all connections and under conditions, where passwords are accepted at all.
fn permissions(device: &Device) -> Vec<Permission<'_>> {
    let mut found = Vec::new();
    for server in device.facts.ssh_servers.iter().filter(|server| server.refused.is_none()) {
        let permitted = |connection: &SshConnection<'_>| {
            let on = |keyword: &str| server.may_be_on(keyword, connection);
            let taken = on("passwordauthentication") || (on("kbdinteractiveauthentication") && on("usepam"));
            let (value, origin) = server.stated("permitemptypasswords", connection)?;
            Some(origin).filter(|_| taken && value.first().is_some_and(|word| word == "yes"))
        };
        if let Some(origin) = permitted(&SshConnection::default()) {
            found.push(Permission { server, condition: None, origin });
            continue;
        }
        for condition in conditions(device, server, &["permitemptypasswords"]) {
            if let Some(origin) = permitted(&condition.connection()) {
                found.push(Permission { server, condition: Some(condition), origin });
            }
        }
    }
    found
}

/// A permission that no exported account without a password makes use of.
fn switched_on(estate: &Analyses, at: usize, permission: &Permission<'_>) -> Answer {
    let seen = !estate.devices[at].facts.shadow.is_empty();
    let named = permission.condition.as_ref().and_then(|one| one.who.clone());
    let (severity, why) = match (seen, &named) {
        (true, _) => (Severity::Low, "no account without a password is among the exports"),
        (false, Some(_)) => (Severity::High, "it is set for named users, whose passwords were not exported"),
        (false, None) => (CHECK.severity, "the passwords of the accounts were not exported"),
    };
    let from = permission.reachability(estate, at);
    let mut rating = CHECK.rated_at(severity, why);
    if let Some(phrase) = from.phrase(estate).filter(|_| !seen) {
        rating = rating.because(phrase);
    }
    let (subject, whom, when) = match &permission.condition {
        Some(condition) => {
            let words = condition.words();
            (Subject::ssh().with(condition.key()), format!(" of {words}"), " that the condition covers")
        }
        None => (Subject::ssh(), String::new(), ""),
    };
    let verdict = Verdict::Fail(Fail {
        rating,
        title: format!("SSH permits empty passwords{whom}").into(),
        detail: format!(
            "`PermitEmptyPasswords yes` takes effect for the first account{when} without a password."
        )
        .into(),
        evidence: [permission.origin]
            .into_iter()
            .chain(from.evidence().into_iter().filter(|_| !seen))
            .collect(),
    });
    Answer::new(at, subject, verdict)
}

/// Names that a RADIUS server accepts with any password. Entries for any user are covered by another check.
fn named_radius(device: &Device) -> Option<Verdict> {
    let named = |one: &&RadiusEntry| one.user != "DEFAULT" && !one.rejects;
    let entries = || device.facts.radius_entries.iter().filter(named);
    let any = entries().next()?;
    let accepted: Vec<&RadiusEntry> = entries().filter(|one| one.accepts).collect();
    let Some(first) = accepted.first() else { return Some(Verdict::pass(any.origin)) };
    let plain = accepted.iter().any(|one| !one.conditional);
    let who = match accepted.len() {
        1 => format!("`{}`", first.user),
        more => format!("{more} names, among them `{}`,", first.user),
    };
    Some(Verdict::Fail(Fail {
        rating: if plain {
            CHECK.rating().raised("the RADIUS server requires a user name only")
        } else {
            CHECK.rated("beside the name, only request attributes are checked, which clients can forge")
        },
        title: format!("RADIUS server accepts {who} without a password").into(),
        detail: "The entry sets `Auth-Type := Accept`, so the password is not checked.".into(),
        evidence: accepted.iter().take(5).map(|one| one.origin).collect(),
    }))
}

/// Lines of shadow(5) by name; the first of a name counts.
fn shadow(device: &Device) -> BTreeMap<&str, &ShadowEntry> {
    device.facts.shadow.iter().rev().map(|one| (one.name.as_str(), one)).collect()
}

/// How an account is root.
enum Root {
    /// By its number.
    Itself,
    /// By a rule of sudo for every command; its line.
    BySudo(Origin),
}

/// How an account is root, if it is: the empty password is good for sudo as well (pam_unix(8), nullok).
fn root(delegations: &Delegations<'_>, account: &Account) -> Option<Root> {
    if account.uid == 0 {
        return Some(Root::Itself);
    }
    let decision = delegations.deciding_all(&account.name).filter(|decision| decision.granted)?;
    Some(Root::BySudo(decision.rule.origin))
}

/// Where the password of an account with a shell is empty.
fn empty_at(account: &Account, shadow: &BTreeMap<&str, &ShadowEntry>) -> Option<Origin> {
    match account.password {
        _ if !account.has_shell() => None,
        StoredPassword::Empty => Some(account.origin),
        StoredPassword::Elsewhere => {
            let entry = shadow.get(account.name.as_str())?;
            matches!(entry.password, StoredPassword::Empty).then_some(entry.origin)
        }
        _ => None,
    }
}

fn fail(
    estate: &Analyses,
    at: usize,
    account: &Account,
    origin: Origin,
    permitted: Option<&Permission<'_>>,
    root: Option<Root>,
) -> Verdict {
    let reachability_from =
        permitted.map_or(Reachability::NotKnown, |permission| permission.reachability(estate, at));
    let (severity, why) = match (permitted, &root) {
        (Some(_), _) if matches!(reachability_from, Reachability::Everybody(_)) => {
            (Severity::Critical, "SSH accepts the account without a password")
        }
        (Some(_), Some(Root::Itself)) => (Severity::Critical, "SSH accepts the account, and it is root"),
        (Some(_), Some(Root::BySudo(_))) => {
            (Severity::Critical, "SSH accepts the account, and sudo makes it root")
        }
        (Some(_), _) => (Severity::High, "SSH accepts the account without a password"),
        (None, Some(Root::BySudo(_))) => (
            Severity::High,
            "sudo makes it root; SSH rejects the account as far as exported, the console and other services may accept it",
        ),
        (None, Some(Root::Itself)) => (
            Severity::High,
            "it is root; SSH rejects the account as far as exported, the console and other services may accept it",
        ),
        (None, _) => (
            CHECK.severity,
            "SSH rejects the account as far as exported; the console and other services may accept it",
        ),
    };
    let mut rating = CHECK.rated_at(severity, why);
    if let Some(from) = reachability_from.phrase(estate) {
        rating = rating.because(from);
    }
    Verdict::Fail(Fail {
        rating,
        title: format!("Account `{}` has no password", account.name).into(),
        detail: format!(
            "The password field of `{}` is empty, and its shell is {}.",
            account.name, account.shell
        )
        .into(),
        evidence: [origin, account.origin]
            .into_iter()
            .chain(root.and_then(|root| match root {
                Root::BySudo(line) => Some(line),
                Root::Itself => None,
            }))
            .chain(permitted.map(|permission| permission.origin))
            .chain(reachability_from.evidence())
            .collect(),
    })
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::testing::run;

    #[test]
    fn an_account_that_sudo_makes_root() {
        const KIOSK: (&str, &str) = ("d/etc/passwd", "kiosk::1001:1001::/home/kiosk:/bin/sh\n");
        for (rules, wanted) in [
            ("kiosk ALL=(ALL) ALL", "fail high d passwd:1 passwd:1 sudoers:2"),
            ("kiosk ALL=(ALL) /bin/date", "fail medium d passwd:1 passwd:1"),
            ("kiosk ALL=(ALL) ALL\nkiosk ALL=(ALL) !ALL", "fail medium d passwd:1 passwd:1"),
            ("# kiosk ALL=(ALL) ALL", "fail medium d passwd:1 passwd:1"),
        ] {
            let text = format!("Defaults env_reset\n{rules}\n");
            run(&CHECK, &[(rules, &[KIOSK, ("d/etc/sudoers", &text)], &[wanted])]);
        }
    }

    #[test]
    fn cases() {
        let passwd = |field: &str, shell: &str| format!("kiosk:{field}:1001:1001::/home/kiosk:{shell}\n");
        for (name, field, shell, shadow, ssh, wanted) in [
            ("empty", "", "/bin/bash", "", "", "fail medium d passwd:1 passwd:1"),
            (
                "empty in shadow",
                "x",
                "/bin/bash",
                "kiosk::1:0:9:7:::\n",
                "",
                "fail medium d shadow:1 passwd:1",
            ),
            (
                "and let in",
                "x",
                "/bin/bash",
                "kiosk::1:0:9:7:::\n",
                "PermitEmptyPasswords yes\n",
                "fail high d shadow:1 passwd:1 sshd_config:1",
            ),
            ("locked", "x", "/bin/bash", "kiosk:!:1:0:9:7:::\n", "", "pass d"),
            ("no shell", "", "/usr/sbin/nologin", "", "", "pass d"),
            ("another's line", "x", "/bin/bash", "other::1:0:9:7:::\n", "", "pass d"),
        ] {
            let passwd = passwd(field, shell);
            let mut files = vec![("d/etc/passwd", passwd.as_str()), ("d/etc/shadow", shadow)];
            files.extend((!ssh.is_empty()).then_some(("d/etc/ssh/sshd_config", ssh)));
            run(&CHECK, &[(name, &files, &[wanted])]);
        }
        let permits = |line: &str, wanted: &[&str]| {
            let text = format!("MaxAuthTries 3\n{line}\n");
            run(&CHECK, &[(line, &[("d/etc/ssh/sshd_config", &text)], wanted)]);
        };
        permits("PermitEmptyPasswords yes", &["fail medium d sshd_config:2"]);
        permits("Match User kiosk\nPermitEmptyPasswords yes", &["fail high d sshd_config:3"]);
        permits("PasswordAuthentication no\nMatch User kiosk\nPermitEmptyPasswords yes", &[]);
        permits(
            "PasswordAuthentication no\nMatch User kiosk\nPasswordAuthentication yes\nPermitEmptyPasswords yes",
            &["fail high d sshd_config:5"],
        );
        permits("Match User kiosk\n#PermitEmptyPasswords yes", &[]);
        permits("#PermitEmptyPasswords yes", &[]);
        permits("PermitEmptyPasswords no", &[]);
    }

    #[test]
    fn names_that_a_radius_server_accepts() {
        const PLAIN: &str = "astrid Cleartext-Password := \"x\"\nnight Auth-Type := Accept\n";
        const BOUND: &str = "02005e100001 NAS-Port-Type == Ethernet, Auth-Type := Accept\n";
        let list = |text: &'static str| ("d/mods-config/files/authorize", text);
        run(
            &CHECK,
            &[
                ("by name alone", &[list(PLAIN)], &["fail high d authorize:2"]),
                ("with more of the request", &[list(BOUND)], &["fail medium d authorize:1"]),
                ("everybody is another's", &[list("DEFAULT Auth-Type := Accept\n")], &[]),
                ("a password", &[list("astrid Cleartext-Password := \"x\"\n")], &["pass d"]),
                ("turned away", &[list("lame Auth-Type := Reject\n")], &[]),
            ],
        );
    }

    #[test]
    fn hashes_that_were_not_exported_are_a_question_where_it_matters() {
        const ACCOUNTS: (&str, &str) = ("d/etc/passwd", "ann:x:1000:1000::/home/ann:/bin/bash\n");
        let ssh = |line: &'static str| ("d/etc/ssh/sshd_config", line);
        run(
            &CHECK,
            &[
                (
                    "permitted",
                    &[ACCOUNTS, ssh("PermitEmptyPasswords yes\n")],
                    &["pass d", "ask d", "fail medium d sshd_config:1"],
                ),
                ("not permitted", &[ACCOUNTS, ssh("MaxAuthTries 3\n")], &["pass d"]),
            ],
        );
    }
}
