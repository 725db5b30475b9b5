//! Public keys of the SSH: those that let people in, and those that servers show (sshd(8), AUTHORIZED_KEYS FILE
//! FORMAT; RFC 4253, 6.6).

use crate::Origin;
use crate::certificate::PublicKey;
use serde::{Deserialize, Serialize};

/// Purpose of a public key.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case")]
pub enum SshKeyUse {
    /// The holder of its private key may log in.
    Authorized,
    /// The holder of a certificate that it signed may log in.
    Authority,
    /// The server shows it.
    Host,
}

/// A public key.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case", deny_unknown_fields)]
pub struct SshKey {
    /// Purpose.
    pub purpose: SshKeyUse,
    /// The user it belongs to, where the file's path shows it.
    pub user: Option<String>,
    /// Kind, as written: `ssh-ed25519`.
    pub kind: String,
    /// The key's algorithm and size.
    pub key: PublicKey,
    /// Addresses that it may be used from (`from=`), where it is limited to some.
    pub from: Option<String>,
    /// Whether it runs one command only (`command=`).
    pub limited: bool,
    /// The comment behind the key.
    pub comment: String,
    /// The line.
    pub origin: Origin,
}
