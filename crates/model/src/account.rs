//! Accounts of a system: passwd(5), shadow(5), group(5).

pub use crate::hash::{HashCost, HashScheme};
use crate::login::Expiry;
use crate::{Origin, SecretRecord};
use serde::{Deserialize, Serialize};
use std::sync::Arc;

/// The password field of an account.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case", rename_all_fields = "kebab-case")]
pub enum StoredPassword {
    /// Empty: no password is required where that is permitted.
    Empty,
    /// Disabled password; other login methods may be enabled.
    Locked,
    /// Stored in the shadow file.
    Elsewhere,
    /// A hash.
    Hash {
        /// How it was made.
        scheme: HashScheme,
        /// The hash itself.
        held: Arc<SecretRecord>,
    },
}

/// One line of passwd(5).
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case", deny_unknown_fields)]
pub struct Account {
    /// Name.
    pub name: String,
    /// User id; 0 is root, whatever the name.
    pub uid: u32,
    /// Number of its first group.
    pub gid: u32,
    /// Home folder, where it is known.
    #[serde(
        deserialize_with = "crate::written::zero_unless_said::deserialize",
        skip_serializing_if = "String::is_empty"
    )]
    #[cfg_attr(feature = "schema", schemars(with = "Option<String>"))]
    pub home: String,
    /// Login shell; empty means `/bin/sh`.
    pub shell: String,
    /// Password field.
    pub password: StoredPassword,
    /// The line.
    pub origin: Origin,
}

impl Account {
    /// In the place of a shell that a sheet does not state: whether the account may log in over SSH is then a question of its own.
    pub const SHELL_NOT_STATED: &str = "not stated";

    /// Whether the account permits an interactive shell (shells that refuse: nologin(8), false(1)).
    #[must_use]
    pub fn has_shell(&self) -> bool {
        let shell = self.shell.rsplit('/').next().unwrap_or_default();
        !matches!(
            shell,
            Self::SHELL_NOT_STATED | "nologin" | "false" | "sync" | "shutdown" | "halt" | "git-shell"
        )
    }
}

/// One line of shadow(5).
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case", deny_unknown_fields)]
pub struct ShadowEntry {
    /// Name.
    pub name: String,
    /// Password field.
    pub password: StoredPassword,
    /// The day from which the account is refused, where one is stated.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub expires: Option<Expiry>,
    /// The line.
    pub origin: Origin,
}

impl ShadowEntry {
    /// Whether the account is refused on a day, in days since 1970-01-01.
    #[must_use]
    pub fn has_expired(&self, day: i64) -> bool {
        self.expires.is_some_and(|expiry| expiry.has_passed(day))
    }
}

/// One line of group(5).
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case", deny_unknown_fields)]
pub struct UserGroup {
    /// Name.
    pub name: String,
    /// Number; 0 where none is stated.
    #[serde(deserialize_with = "crate::written::zero_unless_said::deserialize")]
    #[cfg_attr(feature = "schema", schemars(with = "Option<u32>"))]
    pub gid: u32,
    /// Whether it is a role of an appliance, whose holders have certain rights.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub role: bool,
    /// Members by name, besides accounts that have it as their first group.
    pub members: Vec<String>,
    /// The line.
    pub origin: Origin,
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn schemes() {
        for (hash, scheme, weak) in [
            ("$6$salt$abc", HashScheme::Sha512, false),
            ("$y$j9T$abc$def", HashScheme::Yescrypt, false),
            ("$2b$12$abc", HashScheme::Bcrypt, false),
            ("$1$salt$abc", HashScheme::Md5, true),
            ("$3$$abc", HashScheme::Nt, true),
            ("abJnggxhB/yWI", HashScheme::Des, true),
            ("_J9..rasmBYk8", HashScheme::ExtendedDes, true),
            ("{SHA}abc", HashScheme::PlainSha1, true),
            ("{ssha}abc", HashScheme::SaltedSha1, true),
            ("{SMD5}abc", HashScheme::PlainMd5, true),
            ("{SSHA512}abc", HashScheme::PlainSha2, true),
            ("{CRYPT}$6$salt$abc", HashScheme::Sha512, false),
            ("{CRYPT}abJnggxhB/yWI", HashScheme::Des, true),
            ("{ARGON2}$argon2id$v=19$m=65536$abc", HashScheme::Argon2, false),
            ("{SASL}ann@quay.example", HashScheme::Other, false),
            ("$zz$a", HashScheme::Other, false),
            ("plain", HashScheme::Other, false),
        ] {
            assert_eq!((HashScheme::of(hash), HashScheme::of(hash).is_weak()), (scheme, weak), "{hash}");
        }
    }
}
