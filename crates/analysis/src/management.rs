//! The management port of an OpenVPN daemon (openvpn(8), --management): one reading for the table and for the check.

use std::net::IpAddr;
use trevlin_model::{Origin, Setting, Tunnel, TunnelFamily};

/// A management port.
pub struct ManagementPort<'a> {
    address: &'a str,
    /// Port as written.
    pub port: &'a str,
    /// Whether a file with a password is named.
    pub password: bool,
    /// The line.
    pub origin: Origin,
}

impl<'a> ManagementPort<'a> {
    /// The port on which a tunnel's daemon listens for its manager; `None` where it calls the manager itself.
    pub fn of(tunnel: &'a Tunnel) -> Option<Self> {
        if tunnel.family != TunnelFamily::OpenVpn || tunnel.setting("management-client").is_some() {
            return None;
        }
        let Setting::Stated { value, origin } = tunnel.setting("management")? else { return None };
        let mut words = value.split(' ');
        let (address, port) = (words.next().unwrap_or_default(), words.next().unwrap_or_default());
        let password = words.next().is_some_and(|path| !path.is_empty());
        Some(Self { address, port, password, origin: *origin })
    }

    /// The address it is bound to, where one is written.
    pub fn address(&self) -> Option<IpAddr> {
        self.address.parse().ok().filter(|address: &IpAddr| !address.is_unspecified())
    }

    /// Whether it is a socket in the file system.
    pub fn is_socket(&self) -> bool {
        self.port == "unix"
    }

    /// Whether only the device itself reaches it; `None` where a name is used in place of the address.
    pub fn is_local(&self) -> Option<bool> {
        match self.address {
            "localhost" => Some(true),
            // The daemon takes the address its tunnel has inside.
            "tunnel" => Some(false),
            address => address.parse::<IpAddr>().ok().map(|address| address.is_loopback()),
        }
    }
}
