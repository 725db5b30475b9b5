//! People of an estate: who administers what, and which names stand for several of them.

use crate::assemble::Estate;
use serde::Deserialize;
use std::collections::{BTreeMap, BTreeSet};
use std::sync::Arc;
use trevlin_model::sudo::SudoRule;
use trevlin_model::{Device, Origin};

/// Groups whose members may act as the superuser on the systems that have them (adduser(8), wheel in pam_wheel(8)).
const ADMINISTRATORS: [&str; 3] = ["admin", "sudo", "wheel"];

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
struct Generic {
    words: BTreeSet<String>,
}

trevlin_model::table! { static GENERIC: Generic = "../tables/generic-names.toml"; }

/// Whether a name stands for a role or a place, not for a person.
/// Names of people and of what is theirs, by what they are: `org` for the organisation's, `device`, `person` for logins and accounts of
/// persons. Names that stand for a role, or that every system has, are left out.
#[must_use]
pub fn names(estate: &Estate) -> Vec<(&'static str, BTreeSet<String>)> {
    let mut users = BTreeSet::new();
    for device in &estate.devices {
        users.extend(device.logins.iter().map(|login| login.user.clone()));
        users.extend(
            device
                .facts
                .accounts
                .iter()
                .filter(|one| (1000..60_000).contains(&one.uid))
                .map(|one| one.name.clone()),
        );
    }
    users.retain(|name| !is_generic(name));
    let devices: BTreeSet<String> = estate.devices.iter().map(|device| device.name.clone()).collect();
    vec![("org", estate.organisation.iter().cloned().collect()), ("device", devices), ("person", users)]
}

/// Whether a name is of a role, not of a person.
#[must_use]
pub fn is_generic(name: &str) -> bool {
    let lower = name.to_lowercase();
    lower.split(|letter: char| !letter.is_alphabetic()).any(|part| GENERIC.words.contains(part))
}

/// Groups of an account, by name: those that list it, and its first.
pub fn groups_of(device: &Device, name: &str) -> Vec<String> {
    let account = device.facts.accounts.iter().find(|account| account.name == name);
    let is_first = |gid: u32| account.is_some_and(|account| account.gid == gid);
    let holds = |group: &&trevlin_model::account::UserGroup| {
        is_first(group.gid) || group.members.iter().any(|member| member == name)
    };
    device.facts.groups.iter().filter(holds).map(|group| group.name.clone()).collect()
}

/// Groups of the superuser: those of its account, and the one that has its name where nothing was exported.
pub fn root_groups(device: &Device) -> Vec<String> {
    let groups = groups_of(device, "root");
    if groups.is_empty() { vec!["root".to_owned()] } else { groups }
}

/// The rule that decides whether an account may do everything as the superuser: of those about it the last one wins
/// (sudoers(5), SUDOERS FILE FORMAT).
pub fn sudo_rule<'a>(device: &'a Device, name: &str) -> Option<&'a SudoRule> {
    let uid =
        device.facts.accounts.iter().find(|account| account.name == name).map_or(u32::MAX, |one| one.uid);
    let groups = groups_of(device, name);
    let about = |rule: &&SudoRule| rule.all_commands && rule.as_root && rule.is_about(name, uid, &groups);
    device.facts.sudo_rules.iter().rfind(about)
}

/// Who administers a device, by name, with the line that says so.
pub fn administrators(device: &Device) -> BTreeMap<String, Origin> {
    let mut found = BTreeMap::new();
    for account in device.facts.accounts.iter().filter(|account| account.has_shell()) {
        if account.uid == 0 {
            found.insert(account.name.clone(), account.origin);
        } else if let Some(rule) = sudo_rule(device, &account.name) {
            found.insert(account.name.clone(), rule.origin);
        } else if device.facts.sudo_rules.is_empty() {
            // Without the rules the group is what tells.
            let group = device.facts.groups.iter().find(|group| {
                ADMINISTRATORS.contains(&group.name.as_str())
                    && (group.gid == account.gid || group.members.contains(&account.name))
            });
            found.extend(group.map(|group| (account.name.clone(), group.origin)));
        }
    }
    // A list that many rules share is looked at once.
    let mut shared = BTreeSet::new();
    for rule in device.facts.sudo_rules.iter().filter(|rule| rule.all_commands && rule.as_root) {
        if rule.who.len() > 1 && !shared.insert(Arc::as_ptr(&rule.who)) {
            continue;
        }
        for name in rule.who.iter().filter(|name| !name.starts_with(['%', '#', '!']) && *name != "ALL") {
            found.entry(name.clone()).or_insert(rule.origin);
        }
    }
    found
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn names_of_roles() {
        for (name, generic) in [
            ("kiosk-north", true),
            ("Guest2", true),
            ("vpn_user", true),
            ("astrid", false),
            ("testa.rossi", false),
            ("bjarne holt", false),
            ("administrator", true),
        ] {
            assert_eq!(is_generic(name), generic, "{name}");
        }
    }

    #[test]
    fn administrators_are_those_who_may_do_everything() {
        let accounts = "root:x:0:0::/root:/bin/bash\ntoor:x:0:5::/:/bin/sh\nann:x:1000:27::/:/bin/bash\n\
                        bob:x:1001:1001::/:/bin/bash\ncid:x:1002:1002::/:/usr/sbin/nologin\ndan:x:1003:1003::/:/bin/bash\n";
        let groups = "sudo:x:27:bob,cid\nusers:x:1003:dan\n";
        for (sudoers, wanted) in [
            // Without the rules the group tells: who has it as his first one, and who is named in it; without a shell, neither.
            ("", &["ann", "bob", "root", "toor"][..]),
            ("dan ALL=(ALL) ALL\n", &["dan", "root", "toor"]),
            ("%sudo ALL=(ALL) ALL\n", &["ann", "bob", "root", "toor"]),
            ("%users ALL=(ALL) ALL\n", &["dan", "root", "toor"]),
            // One command, or as somebody else than root, is not everything.
            ("dan ALL=(ALL) /usr/bin/id\n", &["root", "toor"]),
            ("dan ALL=(ann) ALL\n", &["root", "toor"]),
        ] {
            let mut files = vec![("d/etc/passwd", accounts), ("d/etc/group", groups)];
            if !sudoers.is_empty() {
                files.push(("d/etc/sudoers", sudoers));
            }
            let estate = crate::testing::estate(&files);
            let found: Vec<String> = administrators(&estate.devices[0]).into_keys().collect();
            assert_eq!(found, wanted, "{sudoers}");
        }
    }
}
