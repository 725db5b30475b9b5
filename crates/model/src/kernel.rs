//! Settings of the kernel.

use crate::{ExportState, Origin};

/// One setting of the kernel, as sysctl(8) names it.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct KernelSetting {
    /// Name with dots, such as `net.ipv4.ip_forward`. A part that stands for an interface keeps its own dots as slashes.
    pub name: String,
    /// Value as written.
    pub value: String,
    /// Stored or running.
    pub state: ExportState,
    /// Its line.
    pub origin: Origin,
}
