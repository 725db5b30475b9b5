//! Areas and severities.

use serde::{Deserialize, Serialize};

/// The areas of findings, in the order of the work.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Serialize)]
#[serde(rename_all = "lowercase")]
pub enum Area {
    /// Who may come in, from which list, with how many factors.
    Logins,
    /// Strength, defaults, reuse and keeping of shared keys and passwords.
    Secrets,
    /// Pools handed to callers and how they sit among other networks.
    Addresses,
    /// Which tunnel protocols answer, and how.
    Tunnels,
    /// Algorithms.
    Ciphers,
    /// What the outside can reach.
    Exposure,
    /// What the packet filters let through.
    Rules,
    /// Temporary exceptions, dangling references, logging, clock.
    Upkeep,
}

impl Area {
    /// All areas in order.
    pub const ALL: [Self; 8] = [
        Self::Logins,
        Self::Secrets,
        Self::Addresses,
        Self::Tunnels,
        Self::Ciphers,
        Self::Exposure,
        Self::Rules,
        Self::Upkeep,
    ];

    /// The word used in outputs and in check names.
    #[must_use]
    pub fn word(self) -> &'static str {
        match self {
            Self::Logins => "logins",
            Self::Secrets => "secrets",
            Self::Addresses => "addresses",
            Self::Tunnels => "tunnels",
            Self::Ciphers => "ciphers",
            Self::Exposure => "exposure",
            Self::Rules => "rules",
            Self::Upkeep => "upkeep",
        }
    }

    /// The area for a word.
    #[must_use]
    pub fn from_word(word: &str) -> Option<Self> {
        Self::ALL.into_iter().find(|area| area.word() == word)
    }

    /// What the area asks, as a line for people.
    #[must_use]
    pub fn question(self) -> &'static str {
        match self {
            Self::Logins => "who may come in, from which list, with how many factors",
            Self::Secrets => "how strong keys and passwords are, and where they are used again",
            Self::Addresses => "the pools handed to callers, and how they sit among other networks",
            Self::Tunnels => "which protocols answer callers, and what they route",
            Self::Ciphers => "which algorithms may be negotiated",
            Self::Exposure => "what the outside can reach",
            Self::Rules => "what the packet filters let through",
            Self::Upkeep => "what was left behind, and what could not be judged",
        }
    }
}

/// Qualitative ratings as CVSS names them (CVSS v3.1, section 5), from the mildest on.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Severity {
    /// Worth knowing.
    Info,
    /// To be mended in passing.
    Low,
    /// To be mended.
    Medium,
    /// To be mended soon.
    High,
    /// To be mended now.
    Critical,
}

impl Severity {
    /// All severities, the gravest first.
    pub const ALL: [Self; 5] = [Self::Critical, Self::High, Self::Medium, Self::Low, Self::Info];

    /// The word used in outputs.
    #[must_use]
    pub fn word(self) -> &'static str {
        match self {
            Self::Critical => "critical",
            Self::High => "high",
            Self::Medium => "medium",
            Self::Low => "low",
            Self::Info => "info",
        }
    }

    /// One step milder; the mildest stays.
    #[must_use]
    pub fn lower(self) -> Self {
        match self {
            Self::Critical => Self::High,
            Self::High => Self::Medium,
            Self::Medium => Self::Low,
            Self::Low | Self::Info => Self::Info,
        }
    }

    /// One step graver; the gravest stays.
    #[must_use]
    pub fn raise(self) -> Self {
        match self {
            Self::Info => Self::Low,
            Self::Low => Self::Medium,
            Self::Medium => Self::High,
            Self::High | Self::Critical => Self::Critical,
        }
    }

    /// The severity for a word.
    #[must_use]
    pub fn from_word(word: &str) -> Option<Self> {
        Self::ALL.into_iter().find(|severity| severity.word() == word)
    }
}
