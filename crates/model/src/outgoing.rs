//! Data that a device sends elsewhere by itself.

use crate::Origin;
use crate::served::TransportSecurity;
use serde::{Deserialize, Serialize};

/// A copy of its data that a device sends to another system: a replication, or a backup to a remote destination.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case", deny_unknown_fields)]
pub struct OutgoingCopy {
    /// Name of the task, such as `nightly`.
    pub name: String,
    /// Destination: an address or a name.
    pub to: String,
    /// Its port, where it is stated.
    pub port: Option<u16>,
    /// Whether the data is encrypted on its way.
    pub carried: TransportSecurity,
    /// Whether it is switched off.
    pub off: bool,
    /// The line.
    pub origin: Origin,
}
