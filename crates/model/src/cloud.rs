//! Access to a device through a relay of its vendor or of another provider: the device keeps a connection to it, and clients reach the
//! device there, past every rule about incoming connections.

use crate::policy::Demand;
use crate::{Origin, Setting};
use serde::{Deserialize, Serialize};

/// A relay of a provider by which a device, or a service of it, is reached.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case", deny_unknown_fields)]
pub struct CloudRelay {
    /// Name on the screen, such as `remote support`.
    pub name: String,
    /// Operator of the relay, such as `the vendor`.
    pub provider: Option<String>,
    /// Services that it opens, by their names; `administration` for that of the device. Empty where the screen does not show it.
    pub opens: Vec<String>,
    /// Whether the login at the provider requires a second factor.
    pub one_time_code: Option<Setting<Demand>>,
    /// Whether it is switched off.
    pub off: bool,
    /// Remark of the administrator.
    pub note: Option<(String, Origin)>,
    /// The line.
    pub origin: Origin,
}
