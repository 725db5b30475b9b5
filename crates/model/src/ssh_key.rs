//! Public keys of the SSH: those that let people in, and those that servers show (sshd(8), AUTHORIZED_KEYS FILE
//! FORMAT; RFC 4253, 6.6).

use crate::Origin;
use crate::certificate::PublicKey;
use serde::{Deserialize, Serialize};

/// What a public key is there for.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case")]
pub enum SshKeyUse {
    /// Whoever holds its private key comes in.
    Authorized,
    /// Whoever holds a certificate that it signed comes in.
    Authority,
    /// The server shows it.
    Host,
}

/// A public key.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case", deny_unknown_fields)]
pub struct SshKey {
    /// What it is there for.
    pub purpose: SshKeyUse,
    /// Whom it lets in, as far as the file's place tells.
    pub user: Option<String>,
    /// Kind, as written: `ssh-ed25519`.
    pub kind: String,
    /// The key's algorithm and size.
    pub key: PublicKey,
    /// Addresses that it may be used from (`from=`), where it is limited to some.
    pub from: Option<String>,
    /// Whether it runs one command only (`command=`, `restrict`).
    pub limited: bool,
    /// What stands behind the key, for people.
    pub comment: String,
    /// The line.
    pub origin: Origin,
}
