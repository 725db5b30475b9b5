//! Kind of device that an export belongs to.

use serde::{Deserialize, Serialize};

/// Kind of device.
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
    /// Not known.
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
