//! Logins: permitted users, their list, and the required factors.

use crate::{Origin, SecretRecord};
use serde::{Deserialize, Serialize};
use std::sync::Arc;

/// From which list a login comes.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case")]
pub enum LoginList {
    /// A file on the device, by path.
    LocalFile(String),
}

/// Authentication factor of a client.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case")]
pub enum FactorKind {
    /// Something known: a password.
    Knowledge,
    /// Something held: a certificate's private key.
    Certificate,
    /// Something held: a key, a card, a token.
    Possession,
    /// A code that is good once.
    OneTimeCode,
}

impl FactorKind {
    /// The kind in a few words.
    #[must_use]
    pub fn words(self) -> &'static str {
        match self {
            Self::Knowledge => "password",
            Self::Certificate => "certificate",
            Self::Possession => "possession (key)",
            Self::OneTimeCode => "one-time code",
        }
    }
}

/// A daemon that keeps logins for all that ask it.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case")]
pub enum LoginDaemon {
    /// An IKE daemon, for EAP or XAuth.
    Ike,
    /// A RADIUS server.
    Radius,
    /// The link daemon, where no tunnel that uses it is known.
    Ppp,
    /// The device's own administration, in a browser or by a program.
    Administration,
    /// A web server, for its pages.
    Web,
    /// Another service of the device: files, mail, a database.
    Service,
    /// Shells of the device, by SSH or at its console.
    Shell,
}

/// The day from which an account is refused.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case", deny_unknown_fields)]
pub struct Expiry {
    /// Days since 1970-01-01 (shadow(5), account expiration date).
    pub day: i64,
    /// Where it is stated.
    pub origin: Origin,
}

impl Expiry {
    /// Whether it has passed on a day, in days since 1970-01-01.
    #[must_use]
    pub fn has_passed(self, day: i64) -> bool {
        self.day <= day
    }
}

/// One login path for one named user.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case", deny_unknown_fields)]
pub struct Login {
    /// User name; `*` matches any user.
    pub user: String,
    /// From which list.
    pub list: LoginList,
    /// To what, as the tunnel's name.
    pub service: String,
    /// The daemon that it is kept for as such, where it is not kept for one tunnel.
    pub daemon: Option<LoginDaemon>,
    /// Its password, where the export holds it.
    pub secret: Option<Arc<SecretRecord>>,
    /// Whether the login belongs to this service for certain; where the local name is not stated the server
    /// column of the list cannot be compared.
    #[serde(with = "crate::written::on_unless_off")]
    #[cfg_attr(feature = "schema", schemars(with = "bool"))]
    pub certain: bool,
    /// The day from which it is refused, where one is stated.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub expires: Option<Expiry>,
    /// Its line.
    pub origin: Origin,
}

impl Login {
    /// Whether it lets its user into a network, by a tunnel or by RADIUS; others open the device or one of its services.
    #[must_use]
    pub fn is_remote_access(&self) -> bool {
        match self.daemon {
            None | Some(LoginDaemon::Ike | LoginDaemon::Radius | LoginDaemon::Ppp) => true,
            Some(
                LoginDaemon::Administration | LoginDaemon::Web | LoginDaemon::Service | LoginDaemon::Shell,
            ) => false,
        }
    }

    /// Whether it is refused on a day, in days since 1970-01-01.
    #[must_use]
    pub fn has_expired(&self, day: i64) -> bool {
        self.expires.is_some_and(|expiry| expiry.has_passed(day))
    }
}
