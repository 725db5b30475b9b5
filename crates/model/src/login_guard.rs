//! Programs that ban addresses after failed logins, and the settings of the module that locks accounts.

use crate::{Origin, PortRange, Protocol};
use ipnet::IpNet;
use serde::{Deserialize, Serialize};

/// A program that watches logs and bans the addresses from which logins fail.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case", deny_unknown_fields)]
pub struct LoginGuard {
    /// Its name.
    pub program: String,
    /// What it watches.
    #[serde(default)]
    pub jails: Vec<Jail>,
    /// Services that it could watch and that a line switches off, each with that line.
    #[serde(default)]
    pub switched_off: Vec<(String, Origin)>,
    /// The line to point at.
    pub origin: Origin,
}

/// One watched service, with what happens to an address after too many failures.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case", deny_unknown_fields)]
pub struct Jail {
    /// Its name.
    pub name: String,
    /// The name of the patterns by which it finds failures.
    pub filter: String,
    /// Failures after which an address is banned.
    pub attempts: Option<u32>,
    /// Seconds in which they have to occur.
    pub within: Option<i64>,
    /// Seconds of the ban; negative for ever.
    pub banned_for: Option<i64>,
    /// What an address is banned from; nothing where its actions only report.
    #[serde(default)]
    pub bans: Vec<Ban>,
    /// Networks whose addresses are never banned, with the line.
    #[serde(default)]
    #[cfg_attr(feature = "schema", schemars(with = "Vec<(String, Origin)>"))]
    pub exempt: Vec<(IpNet, Origin)>,
    /// Why the program would not start it, with the line.
    #[serde(default)]
    pub fault: Option<(String, Origin)>,
    /// The line that switches it on.
    pub origin: Origin,
}

/// Services that a banned address does not reach any more.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case", deny_unknown_fields)]
pub struct Ban {
    /// Transport protocols; every one where none is named.
    #[serde(default)]
    pub protocols: Vec<Protocol>,
    /// Ports; every one where none is named.
    #[serde(default)]
    pub ports: Vec<PortRange>,
    /// The line.
    pub origin: Origin,
}

impl Jail {
    /// The ban that a port is among, if any.
    #[must_use]
    pub fn ban_of(&self, protocol: Protocol, port: u16) -> Option<&Ban> {
        self.bans.iter().find(|ban| {
            (ban.protocols.is_empty() || ban.protocols.contains(&protocol))
                && (ban.ports.is_empty() || ban.ports.iter().any(|range| range.contains(port)))
        })
    }
}

/// Settings of `pam_faillock` in its own file (faillock.conf(5)).
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case", deny_unknown_fields)]
pub struct LockoutSettings {
    /// Failures after which an account is locked; 0 for never.
    pub attempts: Option<(u32, Origin)>,
    /// The line to point at.
    pub origin: Origin,
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::ExportId;

    #[test]
    fn bans_of_ports() {
        let origin = Origin { export: ExportId(0), start: 0, end: 1 };
        let ban = |protocols: &[Protocol], ports: &[u16]| Ban {
            protocols: protocols.to_vec(),
            ports: ports.iter().map(|port| PortRange { first: *port, last: *port + 9 }).collect(),
            origin,
        };
        let jail = |ban: Ban| Jail {
            name: "ssh".into(),
            filter: "sshd".into(),
            attempts: None,
            within: None,
            banned_for: None,
            bans: vec![ban],
            exempt: Vec::new(),
            fault: None,
            origin,
        };
        for (ban, tcp_25, udp_1200) in [
            (ban(&[], &[]), true, true),
            (ban(&[Protocol::TCP], &[]), true, false),
            (ban(&[Protocol::TCP], &[20, 1200]), true, false),
            (ban(&[], &[1195]), false, true),
            (ban(&[], &[2222]), false, false),
        ] {
            let jail = jail(ban);
            let found =
                (jail.ban_of(Protocol::TCP, 25).is_some(), jail.ban_of(Protocol::UDP, 1200).is_some());
            assert_eq!(found, (tcp_25, udp_1200), "{jail:?}");
        }
    }
}
