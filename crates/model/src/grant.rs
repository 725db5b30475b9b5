//! Permissions to use a service: who, which service, with which rights.

use crate::plan::Placed;
use crate::{Origin, Setting};
use serde::{Deserialize, Serialize};

/// Holder of a permission.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case")]
pub enum Grantee {
    /// Every account that can log in.
    AllUsers,
    /// Members of a group, of the device or of a directory.
    Group(String),
    /// Holders of a role of the device.
    Role(String),
    /// One account.
    User(String),
}

impl Grantee {
    /// The grantee as it follows a verb: `the group staff`.
    #[must_use]
    pub fn words(&self) -> String {
        match self {
            Self::AllUsers => "every account".into(),
            Self::Group(name) => format!("the group `{name}`"),
            Self::Role(name) => format!("the role `{name}`"),
            Self::User(name) => format!("`{name}`"),
        }
    }

    /// The name, where it has one.
    #[must_use]
    pub fn name(&self) -> Option<&str> {
        match self {
            Self::AllUsers => None,
            Self::Group(name) | Self::Role(name) | Self::User(name) => Some(name),
        }
    }
}

/// A permission to use a service, as a policy of an appliance states it.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case", deny_unknown_fields)]
pub struct ServicePermission {
    /// Its holder.
    pub who: Grantee,
    /// The tunnel or service, by its name; `SSH`, or `administration`.
    pub service: String,
    /// Name of the rights on the screen, such as `full access`.
    pub rights: Option<(String, Origin)>,
    /// Whether these rights include administration of the device.
    pub administrates: Option<Setting<bool>>,
    /// Networks that it opens; empty where no limit is stated.
    pub networks: Vec<Placed>,
    /// Networks that its holders send through the tunnel, where they differ from those of the tunnel.
    pub sent_through: Vec<Placed>,
    /// Addresses from which it holds; empty for any.
    pub sources: Vec<Placed>,
    /// Whether it is switched off.
    pub off: bool,
    /// Remark of the administrator.
    pub note: Option<(String, Origin)>,
    /// The line.
    pub origin: Origin,
}
