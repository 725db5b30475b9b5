//! Conditions in PAM stacks: which of their results can occur, for whom and from where (pam_succeed_if(8), pam_access(8)).

use std::cell::OnceCell;
use std::collections::{BTreeMap, BTreeSet};
use trevlin_estate::assemble::Estate;
use trevlin_estate::identities::People;
use trevlin_model::account::Account;
use trevlin_model::pam::{AccessRule, PamLine};
use trevlin_model::{Family, IpRange, IpRangeSet, Origin, Taken, glob};

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

/// Ranges that a list may permit apart from each other before it counts as permitting all.
const MOST_RANGES: usize = 50_000;

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

/// Evaluations of an account against a condition that are computed for one stack: beyond them either result counts as possible.
const MOST_EVALUATIONS: usize = 100_000;

/// Ranges and lines of a list that are named.
const SHOWN: usize = 4;

/// The conditions of one stack, with what several of its lines share.
pub(super) struct Conditions<'a> {
    estate: &'a Estate,
    device: usize,
    service: &'a str,
    people: OnceCell<People<'a>>,
    /// Accounts with a shell, where all users are accounts of the device.
    accounts: Vec<&'a Account>,
    users: Option<Users>,
    left: usize,
    /// Conditions of lists by the path of the list.
    lists: BTreeMap<&'a str, Condition>,
}

impl<'a> Conditions<'a> {
    /// Those of a service's stack. `local` is whether all users are accounts of the device.
    pub(super) fn of(estate: &'a Estate, device: usize, service: &'a str, local: bool) -> Self {
        let own = &estate.devices[device];
        let accounts = own.facts.accounts.iter().filter(|account| local && account.has_shell()).collect();
        Self {
            estate,
            device,
            service,
            people: OnceCell::new(),
            accounts,
            users: None,
            left: MOST_EVALUATIONS,
            lists: BTreeMap::new(),
        }
    }

    fn people(&self) -> &People<'a> {
        self.people.get_or_init(|| People::of(&self.estate.devices[self.device]))
    }

    /// The condition that a line states; none for a module of another kind.
    pub(super) fn stated_by(&mut self, line: &'a PamLine) -> Option<Condition> {
        if !MODULES.contains(&line.module.as_str()) {
            return None;
        }
        let stated = |met: String, failed: String| Condition::stated(line, true, true, met, failed);
        Some(match line.module.as_str() {
            "pam_access" => self.access(line),
            "pam_succeed_if" => {
                let (success, failure) = self.succeed_if(line);
                let text = asked(&line.arguments).join(" ");
                Condition::stated(line, success, failure, format!("`{text}`"), format!("not `{text}`"))
            }
            "pam_localuser" => {
                stated("the account is in `/etc/passwd`".into(), "the account is not in `/etc/passwd`".into())
            }
            _ => {
                let text = [&[line.module.clone()][..], &line.arguments].concat().join(" ");
                stated(format!("`{text}` succeeds"), format!("`{text}` fails"))
            }
        })
    }

    /// The condition of a list of who may log in from where (access.conf(5)): a login that no line means is permitted.
    fn access(&mut self, line: &'a PamLine) -> Condition {
        let path = line.arguments.iter().find_map(|one| one.strip_prefix("accessfile="));
        let path = path.unwrap_or("/etc/security/access.conf");
        if let Some(known) = self.lists.get(path) {
            let lines = [line.origin].into_iter().chain(known.met.lines.iter().skip(1).copied()).collect();
            return Condition { met: PamCondition { lines, ..known.met.clone() }, ..known.clone() };
        }
        let name = path.rsplit('/').next().unwrap_or(path);
        let (met, failed) = (format!("`{name}` permits the login"), format!("`{name}` refuses the login"));
        let mut condition = Condition::stated(line, true, true, met, failed);
        match self.estate.find(self.device, path, line.origin.export) {
            None => condition.met.missing = Some(path.to_owned()),
            Some(file) => {
                let facts = &self.estate.devices[self.device].facts;
                let rules: Vec<&AccessRule> = facts
                    .access_rules
                    .iter()
                    .filter(|rule| self.estate.stands_in(self.device, rule.origin, file))
                    .collect();
                if self.users.is_none() && !self.accounts.is_empty() && !facts.groups.is_empty() {
                    self.users = Some(Users::of(self.people(), &self.accounts));
                }
                condition.limit(Permitted::by(&rules, self.users.as_ref()));
            }
        }
        self.lists.insert(path, condition.clone());
        condition
    }

    /// Whether a condition can be met, and whether it can fail, for the accounts that the exports show.
    fn succeed_if(&mut self, line: &PamLine) -> (bool, bool) {
        let by_caller = line.arguments.iter().any(|word| word == "use_uid");
        let Some(left) = self.left.checked_sub(self.accounts.len()).filter(|_| !by_caller) else {
            return (true, true);
        };
        if self.accounts.is_empty() {
            return (true, true);
        }
        self.left = left;
        let words = asked(&line.arguments);
        let (mut success, mut failure) = (false, false);
        for account in &self.accounts {
            let mut parts = words.chunks(3).map(|part| match part {
                [field, sign, value] => holds(self.people(), account, self.service, field, sign, value),
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
}

impl Condition {
    /// Limits it to what a list permits.
    fn limit(&mut self, permitted: Permitted) {
        self.success = permitted.any();
        self.failure = permitted.may_refuse;
        if !permitted.who.is_empty() {
            self.met.words.push_str(&format!(" for `{}`", permitted.who.join("`, `")));
        }
        if let Some(addresses) = &permitted.addresses {
            let ranges: Vec<String> = addresses.iter().take(SHOWN).map(IpRange::short).collect();
            let more = match addresses.len().saturating_sub(SHOWN) {
                0 => String::new(),
                more => format!(" and {more} more"),
            };
            self.met.words.push_str(&format!(" from {}{more}", ranges.join(", ")));
        }
        self.met.addresses = permitted.addresses;
        self.met.lines.extend(permitted.lines.into_iter().take(SHOWN));
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
    fn of(people: &People<'_>, accounts: &[&Account]) -> Self {
        // A name without brackets may be that of a group as well (access.conf(5)).
        let names =
            accounts.iter().flat_map(|one| people.groups_of(&one.name).into_iter().chain([one.name.clone()]));
        Self(names.collect())
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
        let (mut taken, mut granted) = (Taken::default(), Vec::new());
        let (mut named, mut may_refuse, mut lines) = (false, false, Vec::new());
        let (mut who, mut others): (Vec<String>, bool) = (Vec::new(), false);
        for rule in rules.iter().filter(|rule| users.is_none_or(|users| users.may_be_meant(rule))) {
            // What a rule for some users leaves, a later one may mean.
            let everybody = rule.means_everybody();
            let mut of = |range: &IpRange| if everybody { taken.take(*range) } else { taken.left_of(*range) };
            let new: Vec<IpRange> = rule.from.ranges.iter().flat_map(&mut of).collect();
            let names = !rule.from.names.is_empty();
            if new.is_empty() && !names {
                continue;
            }
            if !rule.permits {
                may_refuse = true;
                continue;
            }
            named |= names;
            lines.push(rule.origin);
            others |= everybody || rule.users.iter().any(|user| user == "ALL");
            if who.len() < MOST_NAMED {
                who.extend(rule.users.iter().filter(|user| !who.contains(user)).cloned().collect::<Vec<_>>());
            }
            granted.extend(new);
            if granted.len() > MOST_RANGES {
                granted = whole.to_vec();
            }
        }
        let left: Vec<IpRange> = whole.iter().flat_map(|range| taken.left_of(*range)).collect();
        others |= !left.is_empty();
        granted.extend(left);
        let granted: IpRangeSet = granted.into_iter().collect();
        who.truncate(if others { 0 } else { MOST_NAMED });
        let everywhere = granted.covers(&whole);
        may_refuse |= !everywhere || !others;
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
