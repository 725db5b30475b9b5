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
    /// Logins derived from the facts.
    pub logins: Vec<Login>,
    /// The site where the estate file says it stands.
    pub site: Option<String>,
    /// Traffic that VPN clients should send through the tunnel, according to the estate file.
    pub wanted_sends: Option<Sends>,
    /// Names and addresses that clients connect to, according to the estate file.
    pub server_names: Vec<String>,
    /// Interfaces that face an untrusted network, according to the estate file.
    pub stated_outside: Vec<String>,
}
