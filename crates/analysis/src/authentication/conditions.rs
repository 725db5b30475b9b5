//! Conditions of an SSH server (`Match` blocks) under which the required authentication differs.

use crate::authentication::accounts::Passwords;
use ipnet::IpNet;
use std::net::IpAddr;
use trevlin_estate::identities::People;
use trevlin_model::ssh::{SshBlock, SshConnection, SshCriterion, SshServer};
use trevlin_model::{Device, IpRange, IpRangeSet, Origin};

/// Keywords that decide which methods a login requires.
pub const METHODS: [&str; 6] = [
    "authenticationmethods",
    "hostbasedauthentication",
    "kbdinteractiveauthentication",
    "passwordauthentication",
    "permitrootlogin",
    "pubkeyauthentication",
];

/// Names of one condition that are tried.
const MOST_NAMES: usize = 16;

/// A condition, with a connection that meets it.
#[derive(Debug, Clone)]
pub struct ShellCondition {
    user: Option<String>,
    groups: Vec<String>,
    host: Option<String>,
    address: Option<IpAddr>,
    local_address: Option<IpAddr>,
    local_port: Option<u16>,
    /// Whether it names a group.
    by_group: bool,
    /// Whether its user cannot log in whatever the method: excluded by name or group, or an account without a shell, for which no command
    /// is forced.
    pub barred: bool,
    /// The users it applies to; `None` where it depends on addresses and ports alone.
    pub who: Option<String>,
    /// Addresses and host names that it is about, as written.
    pub sources: Vec<String>,
    /// The same addresses as a set; `None` where it names none.
    pub addresses: Option<IpRangeSet>,
    /// The first statement under it with one of the keywords.
    pub origin: Origin,
}

impl ShellCondition {
    /// A connection that meets the condition.
    pub fn connection(&self) -> SshConnection<'_> {
        SshConnection {
            user: self.user.as_deref(),
            groups: &self.groups,
            host: self.host.as_deref(),
            address: self.address,
            local_address: self.local_address,
            local_port: self.local_port,
        }
    }

    /// The condition for one user, where it holds for that user.
    #[must_use]
    pub fn for_user(mut self, server: &SshServer, user: &str, groups: &[String]) -> Option<Self> {
        self.user = Some(user.to_owned());
        self.groups = groups.to_vec();
        let connection = self.connection();
        let holds = server.blocks.iter().any(|block| {
            block.statements.iter().any(|one| one.origin == self.origin) && block.holds(&connection)
        });
        holds.then_some(self)
    }

    /// The users and sources as a key: the names and addresses as written.
    #[must_use]
    pub fn key(&self) -> String {
        self.with_sources(self.who.as_deref().unwrap_or("users"))
    }

    /// The users and sources in words: "user ann from 10.4.0.0/24", "users on port 2222".
    #[must_use]
    pub fn words(&self) -> String {
        let who = match &self.who {
            Some(who) if self.by_group => who.clone(),
            Some(who) if who.contains([',', '*', '?']) => format!("users {who}"),
            Some(who) => format!("user {who}"),
            None => "users".to_owned(),
        };
        let at = self.local_address.map(|address| format!(" at {address}"));
        self.with_sources(&who) + &at.unwrap_or_default()
    }

    /// Users with the sources and the port.
    fn with_sources(&self, who: &str) -> String {
        let from = (!self.sources.is_empty()).then(|| format!(" from {}", self.sources.join(", ")));
        let port = self.local_port.map(|port| format!(" on port {port}"));
        format!("{who}{}{}", from.unwrap_or_default(), port.unwrap_or_default())
    }
}

/// Conditions with a statement of these keywords. Of several users that one names, one who may log in stands for all, and of several
/// addresses the first; a condition that no connection is found for is left out.
#[must_use]
pub fn conditions(device: &Device, server: &SshServer, keywords: &[&str]) -> Vec<ShellCondition> {
    let (people, passwords) = (People::of(device), Passwords::of(device));
    let blocks = server.blocks.iter().filter(|block| !block.criteria.is_empty());
    blocks
        .take(server.conditions_judged())
        .filter_map(|block| {
            let about = block.statements.iter().find(|one| keywords.contains(&one.keyword.as_str()));
            condition(&people, &passwords, server, block, about?.origin)
        })
        .collect()
}

fn condition(
    people: &People<'_>,
    passwords: &Passwords<'_>,
    server: &SshServer,
    block: &SshBlock,
    origin: Origin,
) -> Option<ShellCondition> {
    let of = |wanted: SshCriterion| {
        block.criteria.iter().find(|(criterion, _)| *criterion == wanted).map(|(_, pattern)| pattern.as_str())
    };
    let (user, group) = (of(SshCriterion::User), of(SshCriterion::Group));
    let names: Vec<&str> = [user, group].into_iter().flatten().collect();
    let who = names.join(", ");
    let who = if group.is_some() { format!("group {who}") } else { who };
    let address = of(SshCriterion::Address);
    let sources = [address, of(SshCriterion::Host)].into_iter().flatten();
    let sources: Vec<String> = sources.flat_map(|list| list.split(',')).map(str::to_owned).collect();
    let named = |list: &str| {
        let permitted = |name: &&str| server.excluded_by(name, &people.groups_of(name)).is_none();
        let usable = wanted(list).take(MOST_NAMES).find(|name| passwords.may_use(name) && permitted(name));
        usable.or_else(|| wanted(list).next()).map(str::to_owned)
    };
    let mut found = ShellCondition {
        user: user.and_then(named),
        groups: group.and_then(|list| wanted(list).next()).map(str::to_owned).into_iter().collect(),
        host: of(SshCriterion::Host).and_then(|list| wanted(list).next()).map(str::to_owned),
        address: address.and_then(|list| wanted(list).find_map(sample)),
        local_address: of(SshCriterion::LocalAddress).and_then(|list| wanted(list).find_map(sample)),
        local_port: of(SshCriterion::LocalPort).and_then(|port| port.parse().ok()),
        by_group: group.is_some(),
        barred: false,
        who: (!who.is_empty()).then_some(who),
        sources,
        addresses: address.map(ranges),
        origin,
    };
    if !block.holds(&found.connection()) {
        return None;
    }
    found.barred = found.user.as_ref().is_some_and(|user| {
        let forced = server.stated("forcecommand", &found.connection()).is_some();
        server.excluded_by(user, &people.groups_of(user)).is_some() || (!passwords.has_shell(user) && !forced)
    });
    Some(found)
}

/// The patterns of a list that are not negated.
fn wanted(list: &str) -> impl Iterator<Item = &str> {
    list.split(',').filter(|pattern| !pattern.starts_with('!'))
}

/// An address that matches a pattern.
fn sample(pattern: &str) -> Option<IpAddr> {
    pattern.parse().ok().or_else(|| Some(net(pattern)?.network()))
}

/// A prefix, or a pattern of whole parts such as `192.0.2.*`.
fn net(pattern: &str) -> Option<IpNet> {
    if let Ok(net) = pattern.parse() {
        return Some(net);
    }
    let whole = pattern.trim_end_matches(".*");
    let parts = whole.split('.').count();
    let missing = 4usize.checked_sub(parts).filter(|missing| *missing > 0 && whole.len() < pattern.len())?;
    format!("{whole}{}/{}", ".0".repeat(missing), parts * 8).parse().ok()
}

/// Addresses that a list of patterns matches.
fn ranges(list: &str) -> IpRangeSet {
    let of = |pattern: &str| -> Option<IpRange> {
        match pattern.parse::<IpAddr>() {
            Ok(address) => Some(IpRange::from(IpNet::from(address))),
            Err(_) => net(pattern).map(IpRange::from),
        }
    };
    let (negated, wanted): (Vec<&str>, Vec<&str>) = list.split(',').partition(|one| one.starts_with('!'));
    let set = |patterns: Vec<&str>| -> IpRangeSet { patterns.into_iter().filter_map(of).collect() };
    set(wanted).without(&set(negated.into_iter().map(|one| &one[1..]).collect()))
}
