//! Conditions in PAM stacks: which of their results can occur, for whom and from where (pam_succeed_if(8), pam_access(8)).

use std::collections::BTreeSet;
use trevlin_estate::assemble::Estate;
use trevlin_estate::identities::People;
use trevlin_model::account::Account;
use trevlin_model::pam::{AccessRule, PamLine};
use trevlin_model::{Device, Family, IpRange, IpRangeSet, Origin, glob};

/// A condition under which a path through a stack is open.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct PamCondition {
    /// In words, behind "where": "`user ingroup crew`", "`access.conf` permits the login from 10.20.4.0/24".
    pub words: String,
    /// Addresses from which it can be met; `None` where it is not about addresses.
    pub addresses: Option<IpRangeSet>,
    /// Lines that state it.
    pub lines: Vec<Origin>,
    /// The file that states it, where that one was not exported.
    pub missing: Option<String>,
}

/// Results of a module that is a condition, and its words.
#[derive(Debug, Clone)]
pub(super) struct Condition {
    /// Whether it can be met.
    pub(super) success: bool,
    /// Whether it can fail.
    pub(super) failure: bool,
    met: PamCondition,
    failed: String,
}

/// Users and groups of a list that are named.
const MOST_NAMED: usize = 8;

/// Modules whose result depends on the login and proves nothing.
const MODULES: [&str; 11] = [
    "pam_access",
    "pam_listfile",
    "pam_localuser",
    "pam_rhosts",
    "pam_securetty",
    "pam_shells",
    "pam_succeed_if",
    "pam_time",
    "pam_timestamp",
    "pam_usertype",
    "pam_wheel",
];

impl Condition {
    /// The condition that a line states; none for a module of another kind. `local` is whether all users are accounts of the device.
    pub(super) fn of(
        estate: &Estate,
        device: usize,
        service: &str,
        line: &PamLine,
        local: bool,
    ) -> Option<Self> {
        if !MODULES.contains(&line.module.as_str()) {
            return None;
        }
        let facts = &estate.devices[device];
        match line.module.as_str() {
            "pam_access" => Some(access(estate, device, line, local)),
            "pam_succeed_if" => {
                let (success, failure) = succeed_if(facts, service, line, local);
                let text = asked(&line.arguments).join(" ");
                Some(Self::stated(line, success, failure, format!("`{text}`"), format!("not `{text}`")))
            }
            "pam_localuser" => {
                let (met, failed) =
                    ("the account is in `/etc/passwd`", "the account is not in `/etc/passwd`");
                Some(Self::stated(line, true, true, met.into(), failed.into()))
            }
            _ => {
                let text = [&[line.module.clone()][..], &line.arguments].concat().join(" ");
                Some(Self::stated(line, true, true, format!("`{text}` succeeds"), format!("`{text}` fails")))
            }
        }
    }

    /// What an answer to it says.
    pub(super) fn answered(&self, met: bool) -> PamCondition {
        match met {
            true => self.met.clone(),
            false => PamCondition { words: self.failed.clone(), addresses: None, ..self.met.clone() },
        }
    }

    fn stated(line: &PamLine, success: bool, failure: bool, met: String, failed: String) -> Self {
        let met = PamCondition { words: met, addresses: None, lines: vec![line.origin], missing: None };
        Self { success, failure, met, failed }
    }
}

/// The condition of a list of who may log in from where (access.conf(5)): a login that no line means is permitted.
fn access(estate: &Estate, device: usize, line: &PamLine, local: bool) -> Condition {
    let path = line.arguments.iter().find_map(|one| one.strip_prefix("accessfile="));
    let path = path.unwrap_or("/etc/security/access.conf");
    let name = path.rsplit('/').next().unwrap_or(path);
    let (met, failed) = (format!("`{name}` permits the login"), format!("`{name}` refuses the login"));
    let Some(file) = estate.find(device, path, line.origin.export) else {
        let mut condition = Condition::stated(line, true, true, met, failed);
        condition.met.missing = Some(path.to_owned());
        return condition;
    };
    let all = &estate.devices[device].facts.access_rules;
    let rules: Vec<&AccessRule> =
        all.iter().filter(|rule| estate.stands_in(device, rule.origin, file)).collect();
    let facts = &estate.devices[device].facts;
    let known = local && !facts.accounts.is_empty() && !facts.groups.is_empty();
    let users = known.then(|| Users::of(&estate.devices[device]));
    let permitted = Permitted::by(&rules, users.as_ref());
    let mut condition = Condition::stated(line, permitted.any(), permitted.may_refuse, met, failed);
    if !permitted.who.is_empty() {
        condition.met.words.push_str(&format!(" for `{}`", permitted.who.join("`, `")));
    }
    if permitted.addresses.is_some() {
        let ranges: Vec<String> = permitted.addresses.iter().flatten().map(IpRange::short).collect();
        condition.met.words.push_str(&format!(" from {}", ranges.join(", ")));
    }
    condition.met.addresses = permitted.addresses;
    condition.met.lines.extend(permitted.lines);
    condition
}

/// Logins over the network that a list permits.
struct Permitted {
    /// The addresses, where it is limited to some.
    addresses: Option<IpRangeSet>,
    /// Whether a host name is permitted as well.
    named: bool,
    /// Whether a login may be refused.
    may_refuse: bool,
    /// Users and groups that it permits by name, where it permits no others.
    who: Vec<String>,
    /// Lines that permit.
    lines: Vec<Origin>,
}

/// Names that a list may mean: accounts with a shell, and their groups.
struct Users(BTreeSet<String>);

impl Users {
    fn of(device: &Device) -> Self {
        let people = People::of(device);
        let accounts = device.facts.accounts.iter().filter(|account| account.has_shell());
        // A name without brackets may be that of a group as well (access.conf(5)).
        Self(
            accounts
                .flat_map(|one| people.groups_of(&one.name).into_iter().chain([one.name.clone()]))
                .collect(),
        )
    }

    /// Whether a rule means an account. Netgroups, and users of a host, are not known.
    fn may_be_meant(&self, rule: &AccessRule) -> bool {
        let may = |name: &String| {
            let bare = name.trim_start_matches('(').trim_end_matches(')');
            name == "ALL" || name.contains('@') || self.0.contains(bare)
        };
        rule.users.iter().any(may)
    }
}

impl Permitted {
    fn by(rules: &[&AccessRule], users: Option<&Users>) -> Self {
        let whole: IpRangeSet = [IpRange::all(Family::V4), IpRange::all(Family::V6)].into_iter().collect();
        let (mut left, mut granted) = (whole.clone(), IpRangeSet::default());
        let (mut named, mut may_refuse, mut lines) = (false, false, Vec::new());
        let mut who: Vec<String> = Vec::new();
        let mut others = false;
        for rule in rules.iter().filter(|rule| users.is_none_or(|users| users.may_be_meant(rule))) {
            let from: IpRangeSet = rule.from.ranges.iter().copied().collect();
            let new = left.intersection(&from);
            let names = !rule.from.names.is_empty();
            if new.is_empty() && !names {
                continue;
            }
            if rule.permits {
                granted = granted.union(&new);
                named |= names;
                lines.push(rule.origin);
                others |= rule.users.iter().any(|user| user == "ALL");
                who.extend(rule.users.iter().cloned());
            } else {
                may_refuse = true;
            }
            if rule.means_everybody() {
                left = left.without(&new);
            }
        }
        others |= !left.is_empty();
        granted = granted.union(&left);
        who.dedup();
        who.truncate(if others { 0 } else { MOST_NAMED });
        may_refuse |= !others;
        let everywhere = granted.covers(&whole);
        may_refuse |= !everywhere;
        Self { addresses: (!everywhere && !named).then_some(granted), named, may_refuse, who, lines }
    }

    fn any(&self) -> bool {
        self.named || self.addresses.as_ref().is_none_or(|addresses| !addresses.is_empty())
    }
}

/// Comparisons of a line, without options of the module.
fn asked(arguments: &[String]) -> Vec<&str> {
    const OPTIONS: [&str; 6] = ["debug", "use_uid", "quiet", "quiet_fail", "quiet_success", "audit"];
    arguments.iter().map(String::as_str).filter(|word| !OPTIONS.contains(word)).collect()
}

/// Whether the condition can be met, and whether it can fail, for the accounts that the exports show.
fn succeed_if(device: &Device, service: &str, line: &PamLine, local: bool) -> (bool, bool) {
    let accounts = device.facts.accounts.iter().filter(|account| account.has_shell());
    let by_caller = line.arguments.iter().any(|word| word == "use_uid");
    if !local || by_caller || device.facts.accounts.is_empty() {
        return (true, true);
    }
    let people = People::of(device);
    let words = asked(&line.arguments);
    let (mut success, mut failure) = (false, false);
    for account in accounts {
        let mut parts = words.chunks(3).map(|part| match part {
            [field, sign, value] => holds(&people, account, service, field, sign, value),
            _ => None,
        });
        let whole = parts.try_fold(Some(true), |sum, part| match part {
            Some(false) => Err(()),
            Some(true) => Ok(sum),
            None => Ok(None),
        });
        success |= whole.is_ok();
        failure |= whole != Ok(Some(true));
    }
    (success, failure)
}

/// Whether a comparison holds for an account; none where it is about something else.
fn holds(
    people: &People<'_>,
    account: &Account,
    service: &str,
    field: &str,
    sign: &str,
    value: &str,
) -> Option<bool> {
    let is_in_group = || {
        let own = people.groups_of(&account.name);
        // Without the groups of the device nothing is known about membership.
        (!own.is_empty()).then(|| value.split(':').any(|group| own.iter().any(|one| one == group)))
    };
    let text = match field {
        "user" => account.name.as_str(),
        "shell" => account.shell.as_str(),
        "home" => account.home.as_str(),
        "service" => service,
        _ => "",
    };
    let number = match field {
        "uid" => Some(account.uid),
        "gid" => Some(account.gid),
        _ => None,
    };
    match (sign, number) {
        ("ingroup", _) => is_in_group(),
        ("notingroup", _) => is_in_group().map(|is| !is),
        (sign, Some(number)) => {
            let value: u32 = value.parse().ok()?;
            Some(match sign {
                "<" | "lt" => number < value,
                "<=" | "le" => number <= value,
                "eq" | "=" => number == value,
                ">=" | "ge" => number >= value,
                ">" | "gt" => number > value,
                "ne" | "!=" => number != value,
                "in" | "notin" => return None,
                _ => return None,
            })
        }
        _ if text.is_empty() => None,
        ("=", _) => Some(text == value),
        ("!=", _) => Some(text != value),
        ("=~", _) => Some(glob::matches(text, value, glob::Signs::Sets)),
        ("!~", _) => Some(!glob::matches(text, value, glob::Signs::Sets)),
        ("in", _) => Some(value.split(':').any(|one| one == text)),
        ("notin", _) => Some(!value.split(':').any(|one| one == text)),
        _ => None,
    }
}

/// Several conditions as one, behind "where".
#[must_use]
pub fn sentence(conditions: &[PamCondition]) -> String {
    conditions.iter().map(|one| one.words.as_str()).collect::<Vec<_>>().join(" and ")
}
