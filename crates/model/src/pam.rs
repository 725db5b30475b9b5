//! Stacks of authentication modules (pam.d(5)).

use crate::Origin;
use crate::served::Sources;
use serde::{Deserialize, Serialize};

/// Facility of a line.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case")]
pub enum PamFacility {
    /// Proving who one is.
    Auth,
    /// Whether the account may be used now.
    Account,
    /// Changing the password.
    Password,
    /// Session setup and cleanup.
    Session,
}

/// Effect of a module's result on the stack.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case")]
pub enum PamAction {
    /// Counts for success, and the stack goes on.
    Ok,
    /// Counts for success, and the stack ends unless something failed before.
    Done,
    /// Counts as failure, and the stack goes on.
    Bad,
    /// Counts as failure, and the stack ends.
    Die,
    /// Counts for nothing.
    Ignore,
    /// Discards the results so far.
    Reset,
    /// Skips this number of lines.
    Jump(u32),
}

/// The control of a line.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case", rename_all_fields = "kebab-case")]
pub enum PamControl {
    /// Effects of the module's results.
    Actions {
        /// On success.
        success: PamAction,
        /// On failure (`auth_err`), and on every result that is not named in `others`.
        failure: PamAction,
        /// On further results by name (pam.conf(5): `ignore`, `user_unknown`, `authinfo_unavail` …), where their effect is another.
        #[serde(default, skip_serializing_if = "Vec::is_empty")]
        others: Vec<(String, PamAction)>,
    },
    /// Includes the lines of another service.
    Include(String),
    /// The same, but ending that stack does not end this one.
    Substack(String),
}

impl PamControl {
    /// The effect of a result; none for lines that take over another service.
    #[must_use]
    pub fn action(&self, result: &str) -> Option<PamAction> {
        let Self::Actions { success, failure, others } = self else { return None };
        Some(match result {
            "success" => *success,
            _ => others.iter().find(|(name, _)| name == result).map_or(*failure, |(_, action)| *action),
        })
    }
}

/// One line.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case", deny_unknown_fields)]
pub struct PamLine {
    /// Its facility; `None` for `@include`, which includes all four.
    pub facility: Option<PamFacility>,
    /// Control.
    pub control: PamControl,
    /// File name of the module, without folder and ending; empty for lines that take over another service.
    pub module: String,
    /// Its arguments.
    pub arguments: Vec<String>,
    /// The line.
    pub origin: Origin,
}

/// One service's file.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case", deny_unknown_fields)]
pub struct PamService {
    /// Name: that of its file.
    pub name: String,
    /// Lines in order.
    pub lines: Vec<PamLine>,
    /// The file's beginning.
    pub origin: Origin,
}

/// A line of the list of who may log in from where (access.conf(5)); the first that fits a login decides.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case", deny_unknown_fields)]
pub struct AccessRule {
    /// Whether it permits the login.
    pub permits: bool,
    /// Users, `(groups)` and `@netgroups`; `ALL` for any user.
    pub users: Vec<String>,
    /// Those among them that it does not mean.
    pub except: Vec<String>,
    /// Where the login comes from over the network; terminals are left out.
    pub from: Sources,
    /// The line.
    pub origin: Origin,
}

impl AccessRule {
    /// Whether it means every user.
    #[must_use]
    pub fn means_everybody(&self) -> bool {
        self.except.is_empty() && self.users.iter().any(|user| user == "ALL")
    }
}
