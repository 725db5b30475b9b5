//! Settings of the kernel.

use crate::{ExportState, Origin};
use serde::{Deserialize, Serialize};

/// One setting of the kernel, as sysctl(8) names it.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case", deny_unknown_fields)]
pub struct KernelSetting {
    /// Name with dots, such as `net.ipv4.ip_forward`. Dots in an interface name are written as slashes.
    pub name: String,
    /// Value as written.
    pub value: String,
    /// Stored or running.
    #[serde(with = "crate::written::stored")]
    #[cfg_attr(feature = "schema", schemars(with = "Option<ExportState>"))]
    pub state: ExportState,
    /// Whether a command of a script sets it, after the files were read.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub by_command: bool,
    /// Its line.
    pub origin: Origin,
}
