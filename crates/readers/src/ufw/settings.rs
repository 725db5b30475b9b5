//! `/etc/default/ufw` and `/etc/ufw/ufw.conf`: assignments of the shell, which the start script reads in this order (ufw-framework(8)).

use crate::reader::LineRecorder;
use crate::serving::unquoted;
use trevlin_model::{Export, Origin};

/// What happens to packets that no rule decides.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum Policy {
    Accept,
    Drop,
    Reject,
}

impl Policy {
    /// By the word of the settings.
    fn of(word: &str) -> Option<Self> {
        Some(match word {
            "ACCEPT" => Self::Accept,
            "DROP" => Self::Drop,
            "REJECT" => Self::Reject,
            _ => return None,
        })
    }

    /// By the word of the status report. It shows `disabled` for a machine that forwards nothing (ufw(8), `status`).
    pub(super) fn of_report(word: &str) -> Option<Self> {
        Some(match word {
            "allow" => Self::Accept,
            "deny" | "disabled" => Self::Drop,
            "reject" => Self::Reject,
            _ => return None,
        })
    }
}

/// The chains that the program fills.
pub(super) const DIRECTIONS: [&str; 3] = ["input", "output", "forward"];

/// Settings, each with its line.
#[derive(Debug, Default)]
pub(super) struct Settings {
    /// Whether the filter is loaded at the start.
    pub(super) enabled: Option<(bool, Origin)>,
    /// Whether rules for IPv6 are loaded.
    pub(super) ipv6: Option<(bool, Origin)>,
    /// Policies of the directions, in their order.
    pub(super) policies: [Option<(Policy, Origin)>; 3],
    /// The file of kernel settings that is applied at the start.
    pub(super) kernel: Option<(String, Origin)>,
}

impl Settings {
    /// Reads a file of assignments.
    pub(super) fn read(&mut self, export: &Export, book: &mut LineRecorder<'_>) {
        for line in export.lines() {
            let text = line.text.trim();
            if text.is_empty() || text.starts_with('#') {
                continue;
            }
            let origin = export.origin_of(text);
            let assigned = text.split_once('=').filter(|(name, _)| {
                !name.is_empty() && name.bytes().all(|one| one.is_ascii_alphanumeric() || one == b'_')
            });
            match assigned {
                Some((name, value)) => match self.set(name, plain(value), origin) {
                    Ok(()) => book.understood(origin),
                    Err(expected) => book.not_understood(origin, format!("expected {expected}")),
                },
                None => book.not_understood(origin, "expected a setting, as `NAME=value`"),
            }
        }
    }

    fn set(&mut self, name: &str, value: &str, origin: Origin) -> Result<(), &'static str> {
        let yes = matches!(value, "yes" | "YES");
        let policy = || Policy::of(value).ok_or("ACCEPT, DROP or REJECT");
        match name {
            "ENABLED" => self.enabled = Some((yes, origin)),
            "IPV6" => self.ipv6 = Some((yes, origin)),
            "DEFAULT_INPUT_POLICY" => self.policies[0] = Some((policy()?, origin)),
            "DEFAULT_OUTPUT_POLICY" => self.policies[1] = Some((policy()?, origin)),
            "DEFAULT_FORWARD_POLICY" => self.policies[2] = Some((policy()?, origin)),
            "IPT_SYSCTL" => self.kernel = Some((value.to_owned(), origin)),
            // The rules that these make are in the files of rules, or are helpers of the kernel.
            "LOGLEVEL" | "DEFAULT_APPLICATION_POLICY" | "MANAGE_BUILTINS" | "IPT_MODULES" => {}
            _ => return Err("a setting of ufw"),
        }
        Ok(())
    }
}

/// A value without its quotation marks, and without a remark behind it.
fn plain(value: &str) -> &str {
    let value = value.trim();
    match value.bytes().next() {
        Some(b'"' | b'\'') => unquoted(value.split(" #").next().unwrap_or(value).trim_end()),
        _ => value.split_whitespace().next().unwrap_or_default(),
    }
}
