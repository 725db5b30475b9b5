//! A remote user may run any command as root without a password.

use crate::check::{Answer, Check, Fail, Need, Run, Verdict};
use crate::subject::{Subject, SubjectKind};
use std::collections::{BTreeMap, BTreeSet};
use std::sync::Arc;
use trevlin_analysis::map::EstateMap;
use trevlin_estate::area::{Area, Severity};
use trevlin_estate::baseline::Baseline;
use trevlin_estate::delegations::Delegations;
use trevlin_estate::identities;
use trevlin_model::account::Account;
use trevlin_model::pam::{PamAction, PamFacility, PamLine};
use trevlin_model::{Device, Origin};

/// The check.
pub(crate) const CHECK: Check = Check {
    id: "logins/sudo-without-password",
    area: Area::Logins,
    title: "sudo to root without a password",
    severity: Severity::Medium,
    why: "An attacker who takes over the account, by a stolen key or through a program that runs under it, is root at once. \
          The password prompt that would stop this is disabled.",
    fix: "Remove NOPASSWD, or limit it to the few commands that must run unattended. Remove `trust` from `pam_wheel` in the stack \
          of su.",
    judged: "Fails where the last matching rule for an account with a shell, or for one that the rule names, grants every \
             command as root without a password; \
             one level higher where the name is also a VPN login. Fails as well where the PAM stack of su trusts the members of a \
             group (`pam_wheel` with `trust`). Passes for rules that are limited to single commands, and \
             for root itself. Where no accounts were exported, the rule itself is judged.",
    references: &["sudoers(5), NOPASSWD", "pam_wheel(8), trust"],
    needs: &[Need::Accounts, Need::Sudo],
    run: Run::Map(run),
};

fn run(estate: &EstateMap, _: &Baseline) -> Vec<Answer> {
    let dials_in: BTreeSet<&str> = super::remote_access_users(estate);
    let mut answers = Vec::new();
    for (at, device) in estate.devices.iter().enumerate() {
        // An account without a shell can use a rule from the program that runs under it, where the rule names it.
        let direct = device.facts.sudo_rules.iter().filter(|rule| rule.who.len() <= MOST_NAMED);
        let direct: BTreeSet<&str> = direct.flat_map(|rule| rule.who.iter()).map(String::as_str).collect();
        let may_act =
            |one: &&Account| one.uid != 0 && (one.has_shell() || direct.contains(one.name.as_str()));
        let shells: Vec<_> = device.facts.accounts.iter().filter(may_act).collect();
        let people = identities::People::of(device);
        let delegations = Delegations::of(&people);
        for account in &shells {
            if let Some(decision) =
                delegations.deciding_all(&account.name).filter(|decision| decision.granted)
            {
                let lines = [decision.rule.origin].into_iter().chain(decision.password_default).collect();
                let known = dials_in.contains(account.name.as_str());
                let verdict = judge(&format!("`{}`", account.name), decision.asks_password, lines, known);
                answers.push(Answer::new(at, Subject::of(SubjectKind::Account).with(&account.name), verdict));
            }
        }
        let open = device
            .facts
            .sudo_rules
            .iter()
            .filter(|rule| rule.all_commands && rule.as_root && !rule.asks_password);
        let groups: BTreeSet<&str> = device.facts.groups.iter().map(|one| one.name.as_str()).collect();
        // A list that many rules share is looked at once.
        let mut shared = BTreeSet::new();
        let open = open.filter(|rule| rule.who.len() <= 1 || shared.insert(Arc::as_ptr(&rule.who)));
        for (rule, name) in open.flat_map(|rule| rule.who.iter().map(move |name| (rule, name))) {
            let known = |group: &str| groups.contains(group);
            if let Some(group) = name.strip_prefix('%').filter(|group| !shells.is_empty() && !known(group)) {
                let ask = format!(
                    "Please provide the output of `getent group {group}`: the group may run every command as root without a \
                     password."
                );
                answers.push(Answer::new(
                    at,
                    Subject::of(SubjectKind::SudoRule).with(name),
                    Verdict::ask(ask, vec![rule.origin]),
                ));
            }
        }
        answers.extend(
            trusted_by_su(device)
                .map(|verdict| Answer::new(at, Subject::of(SubjectKind::PamStack).with("su"), verdict)),
        );
        let is_sudoers =
            |one: &&trevlin_model::Reference| estate.format_of(one.origin.export) == Some("sudoers");
        for missing in device.facts.missing.iter().filter(is_sudoers) {
            let ask = missing.question("which accounts may run every command as root without a password");
            answers.push(Answer::new(
                at,
                Subject::of(SubjectKind::File).with(&missing.path),
                Verdict::ask(ask, vec![missing.origin]),
            ));
        }
        let mut known_lists = BTreeMap::new();
        if device.facts.accounts.is_empty() {
            for rule in device.facts.sudo_rules.iter().filter(|rule| rule.all_commands && rule.as_root) {
                // A list shared by many rules is not listed for each of them, and processed once.
                let who = || rule.who.iter().map(String::as_str).filter(|name| *name != "root");
                let shown: Vec<&str> = who().take(MOST_NAMED).collect();
                if !shown.is_empty() {
                    let (known, count) = *known_lists
                        .entry(Arc::as_ptr(&rule.who))
                        .or_insert_with(|| (who().any(|name| dials_in.contains(name)), who().count()));
                    let more = match count - shown.len() {
                        0 => String::new(),
                        more => format!(" and {more} more"),
                    };
                    answers.push(Answer::new(
                        at,
                        Subject::of(SubjectKind::SudoRule).with(shown.join(" ") + &more),
                        judge(
                            &format!("`{}`{more}", shown.join("`, `")),
                            rule.asks_password,
                            vec![rule.origin],
                            known,
                        ),
                    ));
                }
            }
        }
    }
    answers
}

/// The verdict on a stack of su that lets a group in without a password (pam_wheel(8), trust).
fn trusted_by_su(device: &Device) -> Option<Verdict> {
    let services = device.facts.pam_services.iter().filter(|one| matches!(one.name.as_str(), "su" | "su-l"));
    let trusts = |line: &&PamLine| {
        let has = |word: &str| line.arguments.iter().any(|one| one == word);
        line.facility == Some(PamFacility::Auth)
            && line.module == "pam_wheel"
            && has("trust")
            && !has("deny")
            && line.control.action("success") == Some(PamAction::Done)
    };
    let line = services.flat_map(|one| &one.lines).find(trusts)?;
    let facts = &device.facts;
    let known = |name: &str| facts.groups.iter().any(|group| group.name == name);
    let named = line.arguments.iter().find_map(|one| one.strip_prefix("group="));
    // Without a group of this name it is the group with number 0.
    let group = named.unwrap_or(if facts.groups.is_empty() || known("wheel") { "wheel" } else { "root" });
    if facts.groups.is_empty() {
        let ask = format!(
            "Please provide the output of `getent group {group}`: its members become root with su and without a password."
        );
        return Some(Verdict::ask(ask, vec![line.origin]));
    }
    let people = identities::People::of(device);
    let is_member =
        |one: &&Account| one.uid != 0 && people.groups_of(&one.name).iter().any(|own| own == group);
    let mut members: Vec<String> =
        facts.accounts.iter().filter(is_member).map(|one| format!("`{}`", one.name)).collect();
    if members.is_empty() {
        let own = facts.groups.iter().filter(|one| one.name == group).flat_map(|one| &one.members);
        members = own.filter(|name| *name != "root").map(|name| format!("`{name}`")).collect();
    }
    if members.is_empty() {
        return Some(Verdict::pass(line.origin));
    }
    members.truncate(MOST_NAMED);
    Some(Verdict::Fail(Fail {
        rating: CHECK.rated("an account of the group must be taken over first"),
        title: format!("Members of `{group}` become root with su and without a password").into(),
        detail: format!("`pam_wheel` with `trust` requires no password of them: {}.", members.join(", "))
            .into(),
        evidence: [line.origin]
            .into_iter()
            .chain(facts.groups.iter().filter(|one| one.name == group).map(|one| one.origin))
            .collect(),
    }))
}

/// Number of names in a rule that are listed.
const MOST_NAMED: usize = 32;

fn judge(who: &str, asks_password: bool, evidence: Vec<Origin>, dials_in: bool) -> Verdict {
    if asks_password {
        return Verdict::pass_lines(evidence);
    }
    let (severity, why) = if dials_in {
        (Severity::High, "the same name is a VPN login")
    } else {
        (CHECK.severity, "the account must be taken over first")
    };
    Verdict::Fail(Fail {
        rating: CHECK.rated_at(severity, why),
        title: format!("{who} may use sudo to root without a password").into(),
        detail: "The last matching rule grants every command as root and requires no password.".into(),
        evidence,
    })
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::testing::run;

    #[test]
    fn groups_that_su_trusts() {
        const PASSWD: (&str, &str) =
            ("d/etc/passwd", "root:x:0:0::/root:/bin/sh\nann:x:1000:1000::/home/ann:/bin/bash\n");
        let with = |line: &str, group: &'static str| {
            (format!("auth sufficient pam_rootok.so\n{line}auth required pam_unix.so\n"), group)
        };
        for (name, (stack, group), wanted) in [
            (
                "trusted",
                with("auth sufficient pam_wheel.so trust use_uid\n", "wheel:x:10:ann\n"),
                &["fail medium d su:2 group:1"][..],
            ),
            (
                "another group",
                with("auth sufficient pam_wheel.so trust group=crew\n", "crew:x:10:ann\n"),
                &["fail medium d su:2 group:1"],
            ),
            ("nobody in it", with("auth sufficient pam_wheel.so trust\n", "wheel:x:10:\n"), &["pass d"]),
            (
                "no group of that name",
                with("auth sufficient pam_wheel.so trust\n", "root:x:0:ann\n"),
                &["fail medium d su:2 group:1"],
            ),
            ("groups not exported", with("auth sufficient pam_wheel.so trust\n", ""), &["ask d"]),
            ("a limit alone", with("auth required pam_wheel.so\n", "wheel:x:10:ann\n"), &[]),
            ("in a comment", with("# auth sufficient pam_wheel.so trust\n", "wheel:x:10:ann\n"), &[]),
            (
                "kept off",
                with("auth sufficient pam_wheel.so trust deny group=crew\n", "crew:x:10:ann\n"),
                &[],
            ),
        ] {
            let mut files = vec![PASSWD, ("d/etc/pam.d/su", stack.as_str())];
            if !group.is_empty() {
                files.push(("d/etc/group", group));
            }
            run(&CHECK, &[(name, &files, wanted)]);
        }
    }

    #[test]
    fn cases() {
        const ANN: (&str, &str) = (
            "d/etc/passwd",
            "ann:x:1000:1000::/home/ann:/bin/bash\nweb:x:33:33::/var/www:/usr/sbin/nologin\n",
        );
        const LIST: (&str, &str) = ("e/ipsec.secrets", "ann : EAP \"x\"\n");
        for (rules, wanted) in [
            ("ann ALL=(ALL) NOPASSWD: ALL", &["fail medium d sudoers:2"][..]),
            ("ann ALL=(ALL) ALL", &["pass d"]),
            ("ann ALL=(ALL) NOPASSWD: /usr/bin/apt", &[]),
            ("ann ALL=(ALL) NOPASSWD: ALL\nann ALL=(ALL) PASSWD: ALL", &["pass d"]),
            ("ann ALL=(www-data) NOPASSWD: ALL", &[]),
            ("ann ALL=(ALL) NOPASSWD: ALL\nann ALL=(ALL) !ALL", &[]),
            ("web ALL=(ALL) NOPASSWD: ALL", &["fail medium d sudoers:2"]),
            ("ALL ALL=(ALL) ALL\nDefaults:ALL !authenticate", &["fail medium d sudoers:2 sudoers:3"]),
            ("Defaults:bob !authenticate\nann ALL=(ALL) ALL", &["pass d"]),
            ("Defaults:ann !authenticate\nALL ALL=(ALL) ALL", &["fail medium d sudoers:3 sudoers:2"]),
            ("#ann ALL=(ALL) NOPASSWD: ALL", &[]),
            ("bob ALL=(ALL) NOPASSWD: ALL", &[]),
            ("@include /etc/sudoers.crew", &["ask d"]),
            ("@includedir /etc/sudoers.d", &[]),
            ("%crew ALL=(ALL) NOPASSWD: ALL", &["ask d"]),
        ] {
            let text = format!("Defaults env_reset\n{rules}\n");
            run(&CHECK, &[(rules, &[("d/etc/sudoers", &text), ANN], wanted)]);
        }
        let rule = ("d/etc/sudoers", "Defaults env_reset\nann ALL=(ALL) NOPASSWD: ALL\n");
        run(
            &CHECK,
            &[
                ("dials in", &[rule, ANN, LIST], &["fail high d sudoers:2"]),
                ("no accounts were exported", &[rule], &["fail medium d sudoers:2"]),
            ],
        );
    }
}
