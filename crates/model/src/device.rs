//! A device: the content of all its exports.

pub use crate::kind::DeviceKind;
use crate::plan::Sends;
use crate::{ExportId, Facts, Login};

/// One firewall, router, server or storage appliance.
#[derive(Debug, Clone)]
pub struct Device {
    /// Name: that of its folder, unless the estate file states another.
    pub name: String,
    /// Kind.
    pub kind: DeviceKind,
    /// The exports it was put together from, in order of path.
    pub exports: Vec<ExportId>,
    /// Facts of all exports, joined.
    pub facts: Facts,
    /// Logins derived from the facts.
    pub logins: Vec<Login>,
    /// Site of the device according to the estate file.
    pub site: Option<String>,
    /// Traffic that VPN clients should send through the tunnel, according to the estate file.
    pub wanted_sends: Option<Sends>,
    /// Names and addresses that clients connect to, according to the estate file.
    pub server_names: Vec<String>,
    /// Interfaces that face an untrusted network, according to the estate file.
    pub stated_outside: Vec<String>,
}
