//! A device: everything its exports say together.

use crate::plan::Sends;
use crate::{ExportId, Facts, Login};
use serde::{Deserialize, Serialize};

/// What sort of device it is.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case")]
pub enum DeviceKind {
    /// Filters between networks.
    Firewall,
    /// Joins networks.
    Router,
    /// Serves.
    Server,
    /// Keeps files.
    Storage,
    /// Nothing tells.
    Unknown,
}

impl DeviceKind {
    /// The word used in outputs and in the estate file.
    #[must_use]
    pub fn word(self) -> &'static str {
        match self {
            Self::Firewall => "firewall",
            Self::Router => "router",
            Self::Server => "server",
            Self::Storage => "storage",
            Self::Unknown => "unknown",
        }
    }

    /// The kind for a word of the estate file.
    #[must_use]
    pub fn from_word(word: &str) -> Option<Self> {
        [Self::Firewall, Self::Router, Self::Server, Self::Storage]
            .into_iter()
            .find(|kind| kind.word() == word)
    }
}

/// One firewall, router, server or storage appliance.
#[derive(Debug, Clone)]
pub struct Device {
    /// Name: its folder's, unless the estate file says otherwise.
    pub name: String,
    /// Kind.
    pub kind: DeviceKind,
    /// The exports it was put together from, in order of path.
    pub exports: Vec<ExportId>,
    /// Facts of all exports, joined.
    pub facts: Facts,
    /// Logins worked out from the facts.
    pub logins: Vec<Login>,
    /// The site where the estate file says it stands.
    pub site: Option<String>,
    /// What the estate file says its callers are to send through their tunnel.
    pub wanted_sends: Option<Sends>,
    /// Names and addresses by which the estate file says clients dial it.
    pub dialled: Vec<String>,
    /// Interfaces that the estate file says face the outside.
    pub stated_outside: Vec<String>,
}
