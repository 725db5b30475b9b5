//! Rules for running commands as another user: sudoers(5).

use crate::Origin;
use serde::{Deserialize, Serialize};
use std::sync::Arc;

/// One rule, aliases resolved.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case", deny_unknown_fields)]
pub struct SudoRule {
    /// Users, `%groups`, `#numbers` and `ALL`; a leading `!` excludes.
    pub who: Arc<Vec<String>>,
    /// Whether it grants every command.
    pub all_commands: bool,
    /// Whether it permits acting as root (no list of names, `ALL` or `root`).
    pub as_root: bool,
    /// Whether the user's own password is required.
    #[serde(with = "crate::written::on_unless_off")]
    #[cfg_attr(feature = "schema", schemars(with = "bool"))]
    pub asks_password: bool,
    /// The line.
    pub origin: Origin,
}

impl SudoRule {
    /// Whether it is about a user with these groups; of names that match the last decides.
    #[must_use]
    pub fn is_about(&self, user: &str, uid: u32, groups: &[String]) -> bool {
        let fits = |name: &str| {
            name == "ALL"
                || name == user
                || name.strip_prefix('%').is_some_and(|group| groups.iter().any(|one| one == group))
                || name.strip_prefix('#').is_some_and(|number| number.parse() == Ok(uid))
        };
        self.who.iter().fold(false, |so_far, name| match name.strip_prefix('!') {
            Some(name) if fits(name) => false,
            None if fits(name) => true,
            _ => so_far,
        })
    }
}
