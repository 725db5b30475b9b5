//! A device: everything its exports say together.

pub use crate::kind::DeviceKind;
use crate::plan::Sends;
use crate::{ExportId, Facts, Login};

/// One firewall, router, server or storage appliance.
#[derive(Debug, Clone)]
pub struct Device {
    /// Name: its folder's, unless the estate file says otherwise.
    pub name: String,
    /// Kind.
    pub kind: DeviceKind,
    /// The exports it was put together from, in order of path.
    pub exports: Vec<ExportId>,
    /// Facts of all exports, joined.
    pub facts: Facts,
    /// Logins worked out from the facts.
    pub logins: Vec<Login>,
    /// The site where the estate file says it stands.
    pub site: Option<String>,
    /// What the estate file says its callers are to send through their tunnel.
    pub wanted_sends: Option<Sends>,
    /// Names and addresses by which the estate file says clients dial it.
    pub server_names: Vec<String>,
    /// Interfaces that the estate file says face the outside.
    pub stated_outside: Vec<String>,
}
