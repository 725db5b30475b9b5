//! How the settings of an appliance are known: it has no files or commands of an open system that could be requested.

use serde::{Deserialize, Serialize};

/// The form in which the settings of an appliance are described.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case")]
pub enum Described {
    /// A device sheet filled in by hand: what it lacks can be added to it.
    Sheet,
    /// An export in words of its own, or in a standard model: what it lacks is on a screen or in another export.
    Export,
}

impl Described {
    /// Why a setting is not known.
    #[must_use]
    pub fn silent(self) -> &'static str {
        match self {
            Self::Sheet => "the sheet does not state it",
            Self::Export => "the export does not state it",
        }
    }

    /// The request for information; `about` continues a sentence, as "whether NAME requires it". It may end with the key of a sheet in
    /// parentheses, which other descriptions do not have.
    #[must_use]
    pub fn request(self, about: &str) -> String {
        match self {
            Self::Sheet => format!("Please state in the device sheet {about}."),
            Self::Export => {
                let about = about.rsplit_once(" (`").map_or(about, |(front, _)| front);
                format!("Please show {about}, in an export or on screen.")
            }
        }
    }
}
