//! Users of an estate: administrators, and names shared by several persons.

use crate::assemble::Estate;
use serde::Deserialize;
use std::collections::{BTreeMap, BTreeSet};
use std::sync::Arc;
use trevlin_model::account::Account;
use trevlin_model::sudo::SudoRule;
use trevlin_model::{Device, Login, LoginDaemon, Origin};

/// Groups whose members may act as root on systems that have them (adduser(8), wheel in pam_wheel(8)).
const ADMINISTRATORS: [&str; 3] = ["admin", "sudo", "wheel"];

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
struct Generic {
    words: BTreeSet<String>,
}

trevlin_model::table! { static GENERIC: Generic = "../tables/generic-names.toml"; }
trevlin_model::table! { static PRIVILEGED: Generic = "../tables/administrator-groups.toml"; }

/// Whether members of a group or holders of a role administer systems: by the words of its name, or because the estate file names it.
#[must_use]
pub fn is_privileged(estate: &Estate, group: &str) -> bool {
    let lower = group.to_lowercase();
    estate.administrator_groups.iter().any(|one| one.to_lowercase() == lower)
        || lower.split(|letter: char| !letter.is_alphabetic()).any(|part| PRIVILEGED.words.contains(part))
}

/// Whether a name belongs to a role or a place, not to a person. Names of persons and their property, by kind: `org` for the
/// organisation's, `device`, `person` for logins and accounts of persons. Names of roles, and of accounts on every system, are left out.
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

/// Accounts, groups and rules of a device, to be asked about many names.
pub struct People<'a> {
    device: &'a Device,
    accounts: BTreeMap<&'a str, &'a Account>,
    /// Groups by the names of their members, and by their numbers.
    by_member: BTreeMap<&'a str, Vec<usize>>,
    by_number: BTreeMap<u32, Vec<usize>>,
    /// User lists of rules that permit everything as root, the list of the last rule first.
    lists: Vec<WhoList<'a>>,
    /// Lists by the names in them.
    naming: BTreeMap<Who<'a>, Vec<usize>>,
}

/// One list, which several rules may share.
struct WhoList<'a> {
    /// The last rule that has it.
    rule: usize,
    /// Last position of each name, and whether it is excluded there: the last one wins.
    last: BTreeMap<Who<'a>, (usize, bool)>,
}

/// A name in a user list (sudoers(5), User_List).
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub(crate) enum Who<'a> {
    All,
    Name(&'a str),
    Group(&'a str),
    Number(u32),
}

impl<'a> People<'a> {
    /// Those of a device.
    #[must_use]
    pub fn of(device: &'a Device) -> Self {
        let facts = &device.facts;
        let mut made = Self {
            device,
            accounts: BTreeMap::new(),
            by_member: BTreeMap::new(),
            by_number: BTreeMap::new(),
            lists: Vec::new(),
            naming: BTreeMap::new(),
        };
        // The first of a name is the one that counts.
        for account in facts.accounts.iter().rev() {
            made.accounts.insert(&account.name, account);
        }
        for (at, group) in facts.groups.iter().enumerate() {
            made.by_number.entry(group.gid).or_default().push(at);
            for member in &group.members {
                made.by_member.entry(member).or_default().push(at);
            }
        }
        let rules = facts.sudo_rules.iter().enumerate().rev();
        let mut seen = BTreeSet::new();
        for (rule, said) in rules.filter(|(_, rule)| (rule.all_commands || rule.revokes_all) && rule.as_root)
        {
            if !seen.insert(Arc::as_ptr(&said.who)) {
                continue;
            }
            let last = Who::last_of(&said.who);
            for who in last.keys() {
                made.naming.entry(*who).or_default().push(made.lists.len());
            }
            made.lists.push(WhoList { rule, last });
        }
        made
    }

    /// Groups of an account, by name: those that list it, and its first.
    #[must_use]
    pub fn groups_of(&self, name: &str) -> Vec<String> {
        self.groups(name).into_iter().map(|at| self.device.facts.groups[at].name.clone()).collect()
    }

    pub(crate) fn device(&self) -> &'a Device {
        self.device
    }

    /// Names by which a rule may mean a user: a name, `%group`, `#number` or `ALL`, as in a rule.
    pub(crate) fn identities<'b>(&'b self, user: &'b str) -> Vec<Who<'b>> {
        let user = Who::of(user);
        let mut own = vec![Who::All];
        match user {
            Who::Name(name) => {
                own.extend([
                    user,
                    Who::Number(self.accounts.get(name).map_or(u32::MAX, |account| account.uid)),
                ]);
                own.extend(
                    self.groups(name).into_iter().map(|at| Who::Group(&self.device.facts.groups[at].name)),
                );
            }
            Who::Group(_) | Who::Number(_) => own.push(user),
            Who::All => {}
        }
        own
    }

    fn groups(&self, name: &str) -> BTreeSet<usize> {
        let listed = self.by_member.get(name).into_iter().flatten();
        let own = self.accounts.get(name).and_then(|account| self.by_number.get(&account.gid));
        listed.chain(own.into_iter().flatten()).copied().collect()
    }

    /// The rule that grants an account everything as root: the last matching one (sudoers(5), SUDOERS FILE FORMAT), unless it
    /// revokes that.
    #[must_use]
    pub fn sudo_rule(&self, name: &str) -> Option<&'a SudoRule> {
        let own = self.identities(name);
        let is_about = |list: &usize| Who::is_named(&own, &self.lists[*list].last);
        let by_name = own
            .iter()
            .filter(|who| **who != Who::All)
            .flat_map(|who| self.naming.get(who).into_iter().flatten());
        let by_name = by_name.copied().filter(|list| is_about(list)).min();
        // Lists of all users are examined from the last one, up to the one that was found.
        let of_all = self.naming.get(&Who::All).into_iter().flatten().copied();
        let of_all = of_all.take_while(|list| by_name.is_none_or(|known| *list < known)).find(is_about);
        let list = of_all.or(by_name)?;
        Some(&self.device.facts.sudo_rules[self.lists[list].rule]).filter(|rule| !rule.revokes_all)
    }

    /// Administrators of the device, by name, with the line for each.
    #[must_use]
    pub fn administrators(&self) -> BTreeMap<String, Origin> {
        let facts = &self.device.facts;
        let mut found = BTreeMap::new();
        for account in facts.accounts.iter().filter(|account| account.has_shell()) {
            if account.uid == 0 {
                found.insert(account.name.clone(), account.origin);
            } else if let Some(rule) = self.sudo_rule(&account.name) {
                found.insert(account.name.clone(), rule.origin);
            } else if facts.sudo_rules.is_empty() {
                // Without the rules the group decides.
                let groups = self.groups(&account.name).into_iter().map(|at| &facts.groups[at]);
                let group = groups.into_iter().find(|group| ADMINISTRATORS.contains(&group.name.as_str()));
                found.extend(group.map(|group| (account.name.clone(), group.origin)));
            }
        }
        let administration = |login: &&Login| login.daemon == Some(LoginDaemon::Administration);
        for login in facts.logins.iter().filter(administration) {
            found.entry(login.user.clone()).or_insert(login.origin);
        }
        // A list that many rules share is looked at once.
        let mut shared = BTreeSet::new();
        for rule in facts.sudo_rules.iter().filter(|rule| rule.all_commands && rule.as_root) {
            if rule.who.len() > 1 && !shared.insert(Arc::as_ptr(&rule.who)) {
                continue;
            }
            for name in rule.who.iter().filter(|name| !name.starts_with(['%', '#', '!']) && *name != "ALL") {
                found.entry(name.clone()).or_insert(rule.origin);
            }
        }
        found
    }
}

impl<'a> Who<'a> {
    /// The last position of each name of a list, and whether it is excluded there.
    pub(crate) fn last_of(names: &'a [String]) -> BTreeMap<Self, (usize, bool)> {
        let mut last = BTreeMap::new();
        for (place, name) in names.iter().enumerate() {
            let (name, excluded) = name.strip_prefix('!').map_or((name.as_str(), false), |name| (name, true));
            last.insert(Who::of(name), (place, excluded));
        }
        last
    }

    /// Whether a list is about one who has these identities: the last that it names decides.
    pub(crate) fn is_named(own: &[Who<'_>], last: &BTreeMap<Who<'_>, (usize, bool)>) -> bool {
        let named = own.iter().filter_map(|who| last.get(who));
        named.max_by_key(|(place, _)| *place).is_some_and(|(_, excluded)| !excluded)
    }

    fn of(name: &'a str) -> Self {
        let number = || name.strip_prefix('#')?.parse().ok().map(Self::Number);
        match name {
            "ALL" => Self::All,
            _ => match name.strip_prefix('%') {
                Some(group) => Self::Group(group),
                None => number().unwrap_or(Self::Name(name)),
            },
        }
    }
}

/// Groups of root: those of its account, and `root` where no groups were exported.
pub fn root_groups(device: &Device) -> Vec<String> {
    let groups = People::of(device).groups_of("root");
    if groups.is_empty() { vec!["root".to_owned()] } else { groups }
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
            // Without the rules group membership decides: the primary group and the members; without a shell, neither.
            ("", &["ann", "bob", "root", "toor"][..]),
            ("dan ALL=(ALL) ALL\n", &["dan", "root", "toor"]),
            ("%sudo ALL=(ALL) ALL\n", &["ann", "bob", "root", "toor"]),
            ("%users ALL=(ALL) ALL\n", &["dan", "root", "toor"]),
            // One command, or a command as another user than root, is not full access.
            ("dan ALL=(ALL) /usr/bin/id\n", &["root", "toor"]),
            ("dan ALL=(ann) ALL\n", &["root", "toor"]),
        ] {
            let mut files = vec![("d/etc/passwd", accounts), ("d/etc/group", groups)];
            if !sudoers.is_empty() {
                files.push(("d/etc/sudoers", sudoers));
            }
            let estate = crate::testing::estate(&files);
            let found: Vec<String> = People::of(&estate.devices[0]).administrators().into_keys().collect();
            assert_eq!(found, wanted, "{sudoers}");
        }
    }
}
