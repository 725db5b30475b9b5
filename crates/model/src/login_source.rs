//! Systems elsewhere that a host takes accounts from, or proves passwords by: directories, Kerberos, NIS.

use crate::offer::Offer;
use crate::served::TransportSecurity;
use crate::{Origin, Setting};
use serde::{Deserialize, Serialize};

/// A system by which a program of the host finds accounts and proves their passwords.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case", deny_unknown_fields)]
pub struct LoginSource {
    /// The program.
    pub program: String,
    /// Name for people, as in "domain quay.example of SSSD".
    pub name: String,
    /// Its own name in its file; none where it has none.
    pub label: Option<String>,
    /// Its use for the host.
    pub gives: LoginSourceUse,
    /// The word for it in the list of name services (nsswitch.conf(5)); none where accounts do not come from it.
    pub name_service: Option<String>,
    /// Servers, in order.
    pub servers: Vec<LoginServer>,
    /// Proofs of identity that the servers have to give.
    pub proofs: Vec<ServerProof>,
    /// Which of its accounts may log in.
    pub admits: Setting<Admission>,
    /// Encryption that may be agreed on, where the program's own settings name it.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub offers: Vec<Offer>,
    /// The line with a password by which the program itself logs in.
    pub own_password: Option<Origin>,
    /// Information that the exports do not contain, with the line that raises the request.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub open: Vec<(String, Origin)>,
    /// Why the program would not start, where that is known.
    pub refused: Option<(String, Origin)>,
    /// The line to point at.
    pub origin: Origin,
}

impl LoginSource {
    /// One without servers that demands no proof and admits every account.
    #[must_use]
    pub fn new(
        program: &str,
        name: impl Into<String>,
        gives: LoginSourceUse,
        admits: Setting<Admission>,
        origin: Origin,
    ) -> Self {
        Self {
            program: program.to_owned(),
            name: name.into(),
            label: None,
            gives,
            name_service: None,
            servers: Vec::new(),
            proofs: Vec::new(),
            admits,
            offers: Vec::new(),
            own_password: None,
            open: Vec::new(),
            refused: None,
            origin,
        }
    }
}

/// Use of a system elsewhere for a host.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case")]
pub enum LoginSourceUse {
    /// Accounts with their groups, and the proof of their passwords.
    AccountsAndPasswords,
    /// Accounts with their groups; passwords are proved by another system.
    Accounts,
    /// The proof of passwords alone.
    Passwords,
    /// Entries for programs of users; no user logs in by it.
    Lookups,
}

/// A server, and what travels to it.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case", deny_unknown_fields)]
pub struct LoginServer {
    /// Name or address, as written; empty where it is found by DNS or by a broadcast.
    pub host: String,
    /// Its port, where it is stated.
    pub port: Option<u16>,
    /// Whether accounts and groups are encrypted on their way; none where it does not serve them.
    pub accounts: Option<TransportSecurity>,
    /// Whether passwords of users are; none where none is sent to it.
    pub passwords: Option<TransportSecurity>,
    /// The line that names it.
    pub origin: Origin,
    /// The line that decides about the encryption; that of the server where none does.
    pub decided_origin: Origin,
}

impl LoginServer {
    /// Whether it is on the device itself.
    #[must_use]
    pub fn is_local(&self) -> bool {
        self.host == "localhost"
            || self.host.starts_with('/')
            || self.host.parse().is_ok_and(|address: std::net::IpAddr| address.is_loopback())
    }
}

/// A proof of identity that a server has to give, or need not.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case", deny_unknown_fields)]
pub struct ServerProof {
    /// Its kind.
    pub kind: ServerProofKind,
    /// Whether it is demanded.
    pub demanded: Setting<bool>,
}

/// How a server proves its identity.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case")]
pub enum ServerProofKind {
    /// By a certificate of TLS.
    Certificate,
    /// By a ticket that only the host's own key opens (RFC 4120, 3.1.5).
    Ticket,
}

/// Which accounts of a system elsewhere may log in.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case")]
pub enum Admission {
    /// Every account.
    Everybody,
    /// Users and groups by name.
    Named(Vec<String>),
    /// Accounts that meet a condition, as written.
    Condition(String),
    /// Those that rules on the server admit.
    ByServer,
    /// None.
    Nobody,
}

/// A line of the list of name services: the systems that entries of one kind come from, in their order (nsswitch.conf(5)).
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case", deny_unknown_fields)]
pub struct NameService {
    /// Kind of the entries, such as `passwd`.
    pub database: String,
    /// Systems, in their order.
    pub systems: Vec<String>,
    /// The line.
    pub origin: Origin,
}
