//! The SSH server: its configuration for a connection (sshd_config(5)).

use crate::glob;
use crate::served::ClientLists;
use crate::written::Word;
use crate::{DefaultValue, Origin, Reference, Setting};
use ipnet::IpNet;
use serde::{Deserialize, Serialize};
use std::net::IpAddr;

/// The program whose defaults are known.
pub const OPENSSH: &str = "OpenSSH";

/// A keyword that is analysed.
#[derive(Debug, Clone)]
pub struct SshKeyword {
    /// Name in small letters.
    pub name: String,
    /// Whether the arguments of all its lines are joined; otherwise the first line wins.
    pub joins: bool,
    /// Defaults, one row for each range of versions; none where it is unset by default.
    pub defaults: Vec<DefaultValue<Vec<String>>>,
}

/// Criterion of a `Match` line.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case")]
pub enum SshCriterion {
    /// Every connection.
    All,
    /// Name of the user.
    User,
    /// A group of the user.
    Group,
    /// Name of the host it comes from.
    Host,
    /// Address it comes from.
    Address,
    /// Address it came to.
    LocalAddress,
    /// Port it came to.
    LocalPort,
    /// Routing domain.
    RoutingDomain,
}

/// One keyword with its values.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case", deny_unknown_fields)]
pub struct SshStatement {
    /// Name in small letters, aliases resolved.
    pub keyword: String,
    /// Values as the daemon would show them.
    pub values: Vec<String>,
    /// The line.
    pub origin: Origin,
}

/// Statements under one condition; without criteria they hold for every connection.
#[derive(Debug, Clone, Default, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case", deny_unknown_fields)]
pub struct SshBlock {
    /// All of these must hold.
    pub criteria: Vec<(SshCriterion, String)>,
    /// In order.
    pub statements: Vec<SshStatement>,
}

/// A connection to evaluate. Unknown fields match nothing, as with `sshd -T -C`.
#[derive(Debug, Clone, Default)]
pub struct SshConnection<'a> {
    /// User.
    pub user: Option<&'a str>,
    /// The user's groups.
    pub groups: &'a [String],
    /// Name of the host it comes from.
    pub host: Option<&'a str>,
    /// Address it comes from.
    pub address: Option<IpAddr>,
    /// Address it came to.
    pub local_address: Option<IpAddr>,
    /// Port it came to.
    pub local_port: Option<u16>,
}

/// A SSH server.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case", deny_unknown_fields)]
pub struct SshServer {
    /// The program. Only OpenSSH's own defaults apply where it states nothing.
    #[serde(with = "crate::written::openssh")]
    #[cfg_attr(feature = "schema", schemars(with = "Option<String>"))]
    pub program: Word,
    /// The main file's first statement, or its beginning.
    pub origin: Origin,
    /// Blocks in the order of evaluation, with included files in place.
    pub blocks: Vec<SshBlock>,
    /// Files that are read in and are not among the exports.
    pub missing: Vec<Reference>,
    /// Why the daemon would refuse to start, where it would.
    pub refused: Option<(String, Origin)>,
    /// Clients that its lists accept, such as `hosts.allow` and `hosts.deny`; none where no list limits them.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub lists: Option<ClientLists>,
    /// Analysed keywords, in order of name.
    #[serde(skip)]
    pub keywords: &'static [SshKeyword],
}

impl SshServer {
    /// The effective value for a connection. Statements behind a matching `Match` override those before any, and the first of several wins;
    /// a keyword that joins its lines joins those of all matching blocks.
    #[must_use]
    pub fn effective(&self, keyword: &str, connection: &SshConnection<'_>) -> Setting<Vec<String>> {
        let Ok(at) = self.keywords.binary_search_by(|one| one.name.as_str().cmp(keyword)) else {
            return Setting::Unknown { why: format!("`{keyword}` is not analysed") };
        };
        let known = &self.keywords[at];
        let matching = |block: &&SshBlock| !block.criteria.is_empty() && block.holds(connection);
        let conditional = self.blocks.iter().filter(matching).flat_map(|block| &block.statements);
        let global =
            self.blocks.iter().filter(|block| block.criteria.is_empty()).flat_map(|block| &block.statements);
        stated(conditional.filter(|one| one.keyword == keyword), known.joins)
            .or_else(|| stated(global.filter(|one| one.keyword == keyword), known.joins))
            .unwrap_or_else(|| match self.program {
                OPENSSH => Setting::Default(known.defaults.clone()),
                program => {
                    Setting::Unknown { why: format!("{program} does not show the value of `{keyword}`") }
                }
            })
    }

    /// The effective value for a connection where a line states it, with the line.
    #[must_use]
    pub fn stated(&self, keyword: &str, connection: &SshConnection<'_>) -> Option<(Vec<String>, Origin)> {
        match self.effective(keyword, connection) {
            Setting::Stated { value, origin } => Some((value, origin)),
            _ => None,
        }
    }

    /// Whether a keyword is `yes` for a connection, or may be where its default depends on the version.
    #[must_use]
    pub fn may_be_on(&self, keyword: &str, connection: &SshConnection<'_>) -> bool {
        let setting = self.effective(keyword, connection);
        setting.possible().any(|value| value.first().is_some_and(|word| word == "yes"))
    }

    /// Later lines that set another value for a keyword without effect, because the first line wins (sshd_config(5)): the first of them.
    #[must_use]
    pub fn without_effect(&self, keyword: &str) -> Vec<Origin> {
        /// Lines that are listed.
        const SHOWN: usize = 3;
        let joins = self.keywords.iter().any(|known| known.name == keyword && known.joins);
        let global = self.blocks.iter().filter(|block| block.criteria.is_empty());
        let mut statements = global.flat_map(|block| &block.statements).filter(|one| one.keyword == keyword);
        let Some(first) = statements.next().filter(|_| !joins) else { return Vec::new() };
        statements.filter(|one| one.values != first.values).map(|one| one.origin).take(SHOWN).collect()
    }

    /// How many of its conditional blocks are tried out, each against all: of very many not all are.
    #[must_use]
    pub fn conditions_judged(&self) -> usize {
        /// Blocks that are tried out whatever there is.
        const LEAST: usize = 64;
        /// Pairs of blocks that are looked at in all.
        const PAIRS: usize = 2_000_000;
        LEAST.max(PAIRS / self.blocks.len().max(1))
    }

    /// A file that is read in by name and that no export holds, so that settings judged here may be others in truth.
    /// A pattern may fit no file at all.
    #[must_use]
    pub fn missing_configuration(&self) -> Option<&Reference> {
        self.missing.iter().find(|one| !one.path.contains('*'))
    }

    /// The line that keeps a user out by name or group, whatever they show: DenyUsers, AllowUsers, DenyGroups and
    /// AllowGroups in this order (sshd_config(5), AllowUsers). A host behind an `@` is taken to fit.
    #[must_use]
    pub fn excluded_by(&self, user: &str, groups: &[String]) -> Option<Origin> {
        let connection = SshConnection { user: Some(user), groups, ..SshConnection::default() };
        let stated = |keyword: &str| self.stated(keyword, &connection);
        let is_user = |pattern: &String| matches(user, pattern.split('@').next().unwrap_or(pattern));
        let is_group = |pattern: &String| groups.iter().any(|group| matches(group, pattern));
        // With a host in it a denial is about some of the places only.
        let denied = stated("denyusers")
            .filter(|(all, _)| all.iter().any(|one| !one.contains('@') && is_user(one)))
            .or_else(|| stated("allowusers").filter(|(all, _)| !all.iter().any(is_user)))
            .or_else(|| stated("denygroups").filter(|(all, _)| all.iter().any(is_group)))
            .or_else(|| stated("allowgroups").filter(|(all, _)| !all.iter().any(is_group)));
        denied.map(|(_, origin)| origin)
    }

    /// The port that a connection came to, or the first that it listens on.
    #[must_use]
    pub fn port(&self, connection: &SshConnection<'_>) -> u16 {
        let first =
            || self.effective("port", connection).possible().find_map(|ports| ports.first()?.parse().ok());
        connection.local_port.or_else(first).unwrap_or(22)
    }
}

fn stated<'a>(
    mut statements: impl Iterator<Item = &'a SshStatement>,
    joins: bool,
) -> Option<Setting<Vec<String>>> {
    let first = statements.next()?;
    let mut value = first.values.clone();
    if joins {
        value.extend(statements.flat_map(|one| one.values.iter().cloned()));
    }
    Some(Setting::Stated { value, origin: first.origin })
}

impl SshBlock {
    /// Whether all criteria hold for a connection.
    #[must_use]
    pub fn holds(&self, connection: &SshConnection<'_>) -> bool {
        self.criteria.iter().all(|(criterion, pattern)| holds(*criterion, pattern, connection))
    }
}

fn holds(criterion: SshCriterion, pattern: &str, connection: &SshConnection<'_>) -> bool {
    match criterion {
        SshCriterion::All => true,
        SshCriterion::User => connection.user.is_some_and(|user| in_list(user, pattern)),
        SshCriterion::Group => {
            // A negated group that the user has excludes it, whatever else matches.
            let any = |pattern: &str| connection.groups.iter().any(|group| matches(group, pattern));
            let (denied, wanted): (Vec<_>, Vec<_>) = pattern.split(',').partition(|one| one.starts_with('!'));
            !denied.iter().any(|one| any(&one[1..])) && wanted.iter().any(|one| any(one))
        }
        SshCriterion::Host => {
            connection.host.is_some_and(|host| in_list(&host.to_lowercase(), &pattern.to_lowercase()))
        }
        SshCriterion::Address => connection.address.is_some_and(|address| address_in_list(address, pattern)),
        SshCriterion::LocalAddress => {
            connection.local_address.is_some_and(|address| address_in_list(address, pattern))
        }
        SshCriterion::LocalPort => connection.local_port.is_some_and(|port| pattern.parse() == Ok(port)),
        SshCriterion::RoutingDomain => false,
    }
}

/// Whether a text fits a pattern with `*` and `?` (ssh_config(5), PATTERNS).
#[must_use]
pub fn matches(text: &str, pattern: &str) -> bool {
    glob::matches(text, pattern, glob::Signs::Plain)
}

/// Whether a text fits a list of patterns: one must fit, and none that is negated may (ssh_config(5), PATTERNS).
#[must_use]
pub fn in_list(text: &str, list: &str) -> bool {
    // Most lists are one name.
    if !list.bytes().any(|one| matches!(one, b',' | b'*' | b'?' | b'!')) {
        return text == list;
    }
    let mut found = false;
    for pattern in list.split(',') {
        match pattern.strip_prefix('!') {
            Some(negated) if matches(text, negated) => return false,
            None if matches(text, pattern) => found = true,
            _ => {}
        }
    }
    found
}

/// The same for addresses, where a pattern may also be a prefix.
fn address_in_list(address: IpAddr, list: &str) -> bool {
    let mut found = false;
    for pattern in list.split(',') {
        let (negated, pattern) = pattern.strip_prefix('!').map_or((false, pattern), |rest| (true, rest));
        let fits = match pattern.parse::<IpNet>() {
            Ok(net) => net.contains(&address),
            Err(_) => pattern.parse() == Ok(address) || matches(&address.to_string(), pattern),
        };
        match (fits, negated) {
            (true, true) => return false,
            (true, false) => found = true,
            _ => {}
        }
    }
    found
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn patterns() {
        for (text, pattern, fits) in [
            ("ann", "ann", true),
            ("ann", "a*", true),
            ("ann", "?nn", true),
            ("ann", "a*n*", true),
            ("ann", "*x*", false),
            ("", "*", true),
            ("ann", "an", false),
            ("aXbXc", "a*X*c", true),
        ] {
            assert_eq!(matches(text, pattern), fits, "{text} {pattern}");
        }
        for (text, list, fits) in [
            ("ann", "bob,ann", true),
            ("ann", "*,!ann", false),
            ("ann", "!bob", false),
            ("ann", "!bob,*", true),
        ] {
            assert_eq!(in_list(text, list), fits, "{text} {list}");
        }
    }

    #[test]
    fn addresses() {
        let address = "192.0.2.9".parse().unwrap();
        for (list, fits) in [
            ("192.0.2.0/24", true),
            ("!192.0.2.9,192.0.2.0/24", false),
            ("192.0.2.*", true),
            ("10.0.0.0/8,2001:db8::/32", false),
        ] {
            assert_eq!(address_in_list(address, list), fits, "{list}");
        }
    }
}
