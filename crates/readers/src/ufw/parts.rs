//! Files of rules: what they are, and what the package brings.

use serde::Deserialize;
use std::collections::BTreeMap;
use trevlin_model::{Export, Family};

/// Profiles by name, with their ports as written.
pub(super) type Profiles = BTreeMap<String, String>;

/// Rules that the package loads, and ports of profiles.
#[derive(Debug, Deserialize)]
#[serde(deny_unknown_fields)]
pub(super) struct Shipped {
    pub(super) before: Vec<String>,
    pub(super) before6: Vec<String>,
    pub(super) profiles: Profiles,
}

trevlin_model::table! { static SHIPPED: Shipped = "../../tables/ufw.toml"; }

pub(super) fn shipped() -> &'static Shipped {
    &SHIPPED
}

/// Files of rules, in the order in which they are loaded.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub(super) enum Part {
    /// Rules before those of the command.
    Before,
    /// Rules behind them.
    After,
    /// Rules of the command.
    User,
}

/// The order of the start script.
pub(super) const PARTS: [Part; 3] = [Part::Before, Part::After, Part::User];

impl Part {
    /// Name of the file.
    pub(super) fn file(self, family: Family) -> &'static str {
        match (self, family) {
            (Self::Before, Family::V4) => "before.rules",
            (Self::Before, Family::V6) => "before6.rules",
            (Self::After, Family::V4) => "after.rules",
            (Self::After, Family::V6) => "after6.rules",
            (Self::User, Family::V4) => "user.rules",
            (Self::User, Family::V6) => "user6.rules",
        }
    }

    pub(super) fn each() -> impl Iterator<Item = (Self, Family)> {
        PARTS.into_iter().flat_map(|part| [(part, Family::V4), (part, Family::V6)])
    }
}

/// Lines at the start of a file within which it shows what it is.
pub(super) const HEAD: usize = 60;

/// Whether a file is one of rules that the program loads: it declares the program's chains, and unlike a dump none of the kernel's own in
/// the table of the filter.
pub(crate) fn is_part(export: &Export) -> bool {
    part(export).is_some()
}

pub(super) fn part(export: &Export) -> Option<(Part, Family)> {
    let mut found = None;
    let mut filter = false;
    for line in export.lines().take(HEAD) {
        let text = line.text.trim();
        if let Some(table) = text.strip_prefix('*') {
            filter = table == "filter";
        }
        let Some(chain) = text.strip_prefix(':').and_then(|rest| rest.split_whitespace().next()) else {
            continue;
        };
        if filter && ["INPUT", "FORWARD", "OUTPUT"].contains(&chain) {
            return None;
        }
        let Some(rest) = chain.strip_prefix("ufw") else { continue };
        let (family, rest) = match rest.strip_prefix('6') {
            Some(rest) => (Family::V6, rest),
            None => (Family::V4, rest),
        };
        // Additions to the last file may declare chains of the others too.
        let part = match rest {
            "-before-input" => Part::Before,
            "-after-input" => Part::After,
            "-user-input" => Part::User,
            _ => continue,
        };
        found = found.or(Some((part, family)));
    }
    found
}
