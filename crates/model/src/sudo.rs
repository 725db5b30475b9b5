//! Rules for running commands as another user: sudoers(5).

use crate::Origin;
use crate::glob::{Signs, matches};
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
    /// Whether the user's own password is required, where its commands do not state it.
    #[serde(with = "crate::written::on_unless_off")]
    #[cfg_attr(feature = "schema", schemars(with = "bool"))]
    pub asks_password: bool,
    /// Whether it excludes every command (`!ALL`), which revokes what earlier rules grant.
    #[serde(default)]
    pub revokes_all: bool,
    /// Its commands, in order; may be left out where every command is granted.
    #[serde(default)]
    #[cfg_attr(feature = "schema", schemars(with = "Vec<SudoCommand>"))]
    pub commands: Arc<Vec<SudoCommand>>,
    /// The line.
    pub origin: Origin,
}

/// A command of a rule, with the tags that apply to it.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case", deny_unknown_fields)]
pub struct SudoCommand {
    /// The path, which may have wildcards; a folder with a closing slash for the programs in it; `ALL`, `sudoedit` or `list`.
    pub path: String,
    /// The permitted arguments, which may have wildcards; empty for none, left out for any.
    #[serde(default)]
    pub arguments: Option<String>,
    /// Whether the command is excluded (`!`).
    #[serde(default)]
    pub excluded: bool,
    /// Whether it may be run as root.
    #[serde(with = "crate::written::on_unless_off")]
    #[cfg_attr(feature = "schema", schemars(with = "bool"))]
    pub as_root: bool,
    /// Whether the user's own password is required, where the rule states it.
    #[serde(default, with = "crate::written::known_truth")]
    #[cfg_attr(feature = "schema", schemars(with = "Option<bool>"))]
    pub asks_password: Option<bool>,
    /// Whether the command is kept from starting other programs (`NOEXEC`), where the rule states it.
    #[serde(default, with = "crate::written::known_truth")]
    #[cfg_attr(feature = "schema", schemars(with = "Option<bool>"))]
    pub noexec: Option<bool>,
}

/// A default for users or commands, where rules state nothing else (sudoers(5), "Defaults"). Of several the last one counts.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case", deny_unknown_fields)]
pub struct SudoDefault {
    /// Users, `%groups`, `#numbers` and `ALL`; a leading `!` excludes.
    pub who: Arc<Vec<String>>,
    /// The commands it is about, in order; empty for all. A default for commands counts before one for users.
    #[serde(default)]
    pub commands: Arc<Vec<SudoCommand>>,
    /// The setting.
    pub setting: SudoSetting,
    /// Its value.
    #[serde(with = "crate::written::on_unless_off")]
    #[cfg_attr(feature = "schema", schemars(with = "bool"))]
    pub on: bool,
    /// The line.
    pub origin: Origin,
}

/// A setting that changes what rules grant.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case")]
pub enum SudoSetting {
    /// The user's own password is required; on unless stated.
    Authenticate,
    /// Commands are kept from starting other programs; off unless stated.
    Noexec,
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

impl SudoCommand {
    /// Whether it covers every command.
    #[must_use]
    pub fn is_all(&self) -> bool {
        self.path == "ALL"
    }

    /// Whether it covers one program, without wildcards and not a whole folder.
    #[must_use]
    pub fn is_one_program(&self) -> bool {
        !self.is_all() && !self.path.ends_with('/') && !self.path.contains(['*', '?', '['])
    }

    /// Whether it is about a command line: a program with its arguments, joined by blanks (sudoers(5), "Cmnd_List" and
    /// "Wildcards in command arguments": there a star matches blanks and slashes too).
    #[must_use]
    pub fn fits(&self, path: &str, arguments: &str) -> bool {
        if self.is_all() {
            return true;
        }
        self.fits_path(path)
            && self.arguments.as_deref().is_none_or(|wanted| fits_arguments(wanted, arguments))
    }

    /// Whether it is about a program, whatever its arguments. A program in `/bin` is the one in `/usr/bin`, as on all systems
    /// where the first is a link to the second.
    #[must_use]
    pub fn fits_path(&self, path: &str) -> bool {
        let (own, path) = (usual_path(&self.path), usual_path(path));
        if let Some(folder) = own.strip_suffix('/') {
            return path.rsplit_once('/').is_some_and(|(of, _)| of == folder);
        }
        if self.is_one_program() || self.is_all() {
            return own == path;
        }
        // A star does not match a slash here (fnmatch(3), FNM_PATHNAME).
        let (own, path): (Vec<_>, Vec<_>) = (own.split('/').collect(), path.split('/').collect());
        own.len() == path.len()
            && own.iter().zip(&path).all(|(pattern, part)| matches(part, pattern, Signs::Sets))
    }
}

/// Whether arguments are permitted. Regular expressions (`^…$`) other than `^.*$` match their own text alone.
fn fits_arguments(wanted: &str, arguments: &str) -> bool {
    match wanted {
        "^.*$" => true,
        "^.+$" => !arguments.is_empty(),
        _ => matches(arguments, wanted, Signs::Sets),
    }
}

/// A path under the name that it has on systems with merged folders of programs (file-hierarchy(7)).
fn usual_path(path: &str) -> String {
    match path
        .strip_prefix("/bin/")
        .map(|rest| ("bin", rest))
        .or(path.strip_prefix("/sbin/").map(|rest| ("sbin", rest)))
    {
        Some((folder, rest)) => format!("/usr/{folder}/{rest}"),
        None => path.to_owned(),
    }
}
