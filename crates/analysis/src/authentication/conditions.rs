//! Conditions of an SSH server under which the required authentication differs.

use ipnet::IpNet;
use std::net::IpAddr;
use trevlin_model::Origin;
use trevlin_model::ssh::{SshConnection, SshCriterion, SshServer};

/// Keywords that affect logins.
const ABOUT_LOGINS: [&str; 5] = [
    "authenticationmethods",
    "kbdinteractiveauthentication",
    "passwordauthentication",
    "permitrootlogin",
    "pubkeyauthentication",
];

/// A condition, with a connection that meets it.
#[derive(Debug, Clone)]
pub struct ShellCondition {
    user: Option<String>,
    groups: Vec<String>,
    address: Option<IpAddr>,
    /// The users it applies to; `None` where it depends on addresses alone.
    pub who: Option<String>,
    /// Addresses that it is about, as written.
    pub sources: Vec<String>,
    /// The first statement under it that is about logins.
    pub origin: Origin,
}

impl ShellCondition {
    /// A connection that meets the condition.
    pub fn connection(&self) -> SshConnection<'_> {
        SshConnection {
            user: self.user.as_deref(),
            groups: &self.groups,
            address: self.address,
            ..SshConnection::default()
        }
    }
}

/// Conditions by name, group and address that affect logins. One by name is evaluated for the first name in it, one by address for the
/// first address; other conditions cannot be evaluated.
pub fn conditions(server: &SshServer) -> Vec<ShellCondition> {
    let first = |pattern: &String| pattern.split(',').next().unwrap_or(pattern).to_owned();
    let mut found = Vec::new();
    for block in
        server.blocks.iter().filter(|block| !block.criteria.is_empty()).take(server.conditions_judged())
    {
        let about = block.statements.iter().find(|one| ABOUT_LOGINS.contains(&one.keyword.as_str()));
        let Some(statement) = about else { continue };
        let of = |wanted: SshCriterion| {
            block.criteria.iter().find(|(criterion, _)| *criterion == wanted).map(|(_, pattern)| pattern)
        };
        let (user, group, address) =
            (of(SshCriterion::User), of(SshCriterion::Group), of(SshCriterion::Address));
        let names: Vec<&str> = [user, group].into_iter().flatten().map(String::as_str).collect();
        let who = names.join(", ");
        let who = if group.is_some() { format!("group {who}") } else { who };
        let condition = ShellCondition {
            user: user.map(first),
            groups: group.map(first).into_iter().collect(),
            address: address.and_then(|sources| sources.split(',').find_map(sample)),
            who: (!who.is_empty()).then_some(who),
            sources: address
                .map(|sources| sources.split(',').map(str::to_owned).collect())
                .unwrap_or_default(),
            origin: statement.origin,
        };
        if block.holds(&condition.connection()) {
            found.push(condition);
        }
    }
    found
}

/// An address that matches a pattern.
fn sample(pattern: &str) -> Option<IpAddr> {
    pattern.parse().ok().or_else(|| pattern.parse::<IpNet>().ok().map(|net| net.network()))
}
