//! Areas and severities.

use serde::{Deserialize, Serialize};
use strum::{EnumString, IntoStaticStr};

/// The areas of findings, in the order of the work.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Serialize, EnumString, IntoStaticStr)]
#[strum(serialize_all = "lowercase")]
#[serde(rename_all = "lowercase")]
pub enum Area {
    /// Permitted users, their list, and the number of factors.
    Logins,
    /// Strength, defaults, reuse and keeping of shared keys and passwords.
    Secrets,
    /// Client pools, and their relation to other networks.
    Addresses,
    /// Which tunnel protocols answer, and how.
    Tunnels,
    /// Algorithms.
    Ciphers,
    /// Services reachable from the Internet.
    Exposure,
    /// Traffic that the packet filters permit.
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
        self.into()
    }

    /// The area for a word.
    #[must_use]
    pub fn from_word(word: &str) -> Option<Self> {
        word.parse().ok()
    }

    /// Scope of the area, as a phrase.
    #[must_use]
    pub fn question(self) -> &'static str {
        match self {
            Self::Logins => "who may log in, against which directory, with how many factors",
            Self::Secrets => "strength and reuse of keys and passwords",
            Self::Addresses => "client pools, and their overlaps with other networks",
            Self::Tunnels => "protocols offered to remote access and sites, and the networks they route",
            Self::Ciphers => "algorithms that may be negotiated",
            Self::Exposure => "services reachable from the Internet",
            Self::Rules => "traffic that the packet filters permit",
            Self::Upkeep => "leftovers, logging, time, and gaps in the exports",
        }
    }
}

/// Qualitative ratings as CVSS names them (CVSS v3.1, section 5), from the mildest on.
#[derive(
    Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize, EnumString, IntoStaticStr,
)]
#[strum(serialize_all = "lowercase")]
#[serde(rename_all = "lowercase")]
pub enum Severity {
    /// Worth knowing.
    Info,
    /// Fix at the next opportunity.
    Low,
    /// Fix.
    Medium,
    /// Fix soon.
    High,
    /// Fix immediately.
    Critical,
}

impl Severity {
    /// All severities, the highest first.
    pub const ALL: [Self; 5] = [Self::Critical, Self::High, Self::Medium, Self::Low, Self::Info];

    /// The word used in outputs.
    #[must_use]
    pub fn word(self) -> &'static str {
        self.into()
    }

    /// One level lower; the lowest stays.
    #[must_use]
    pub fn lower(self) -> Self {
        match self {
            Self::Critical => Self::High,
            Self::High => Self::Medium,
            Self::Medium => Self::Low,
            Self::Low | Self::Info => Self::Info,
        }
    }

    /// One level higher; the highest stays.
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
        word.parse().ok()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn words_stand_for_areas_and_severities() {
        let words = Area::ALL.map(Area::word);
        assert_eq!(
            words,
            ["logins", "secrets", "addresses", "tunnels", "ciphers", "exposure", "rules", "upkeep"]
        );
        for area in Area::ALL {
            assert_eq!(Area::from_word(area.word()), Some(area));
            assert!(area.question().len() > 10);
        }
        let words = Severity::ALL.map(Severity::word);
        assert_eq!(words, ["critical", "high", "medium", "low", "info"]);
        for pair in Severity::ALL.windows(2) {
            assert!(pair[0] > pair[1]);
            assert_eq!((pair[0].lower(), pair[1].raise()), (pair[1], pair[0]));
            assert_eq!(Severity::from_word(pair[0].word()), Some(pair[0]));
        }
        assert_eq!(
            (Severity::Info.lower(), Severity::Critical.raise()),
            (Severity::Info, Severity::Critical)
        );
        assert_eq!((Area::from_word("doors"), Severity::from_word("High")), (None, None));
    }
}
