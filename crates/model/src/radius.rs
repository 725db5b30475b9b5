//! RADIUS servers: who may ask them (RFC 2865).

use crate::offer::Offer;
use crate::{IpRange, Origin, SecretRecord, Setting, TunnelFamily};
use serde::{Deserialize, Serialize};
use std::net::IpAddr;
use std::sync::Arc;

/// Whether requests must be signed (`Message-Authenticator`, RFC 3579, 3.2).
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case")]
pub enum MessageAuthenticator {
    /// Requests without it are dropped.
    Required,
    /// From the first that had it on.
    Learned,
    /// Not required.
    NotRequired,
}

/// One client of a RADIUS server: a device that sends authentication requests.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case", deny_unknown_fields)]
pub struct RadiusClient {
    /// Name.
    pub name: String,
    /// Where it may ask from; `None` for a name that no export resolves.
    pub from: Option<IpRange>,
    /// The shared secret.
    pub secret: Option<Arc<SecretRecord>>,
    /// Whether requests use TLS (RFC 6614).
    pub tls: bool,
    /// Whether requests must be signed.
    pub message_authenticator: Setting<MessageAuthenticator>,
    /// Place of its address, or the first line of its section.
    pub address_origin: Origin,
    /// The line that opens it.
    pub origin: Origin,
}

impl RadiusClient {
    /// Whether it can only be the server itself.
    #[must_use]
    pub fn is_local(&self) -> bool {
        self.from.is_some_and(|range| range.first().is_loopback() && range.last().is_loopback())
    }
}

/// A server that requests are handed on to (proxy.conf).
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case", deny_unknown_fields)]
pub struct RadiusUpstream {
    /// Name of its section.
    pub name: String,
    /// Name or address as written.
    pub server: String,
    /// Its address, where one is written.
    pub address: Option<IpAddr>,
    /// Whether requests use TLS.
    pub tls: bool,
    /// The shared secret.
    pub secret: Option<Arc<SecretRecord>>,
    /// Realms whose requests are proxied; `DEFAULT` and `NULL` match requests without a known realm.
    pub realms: Vec<String>,
    /// The line that opens it.
    pub origin: Origin,
}

/// A RADIUS server that a service of the device uses.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case", deny_unknown_fields)]
pub struct RadiusTarget {
    /// The service that uses it, as far as the file shows.
    pub asked_by: RadiusAsker,
    /// Name or address as written.
    pub server: String,
    /// Its address, where one is written.
    pub address: Option<IpAddr>,
    /// The shared secret, where the file holds it.
    pub secret: Option<Arc<SecretRecord>>,
    /// The line.
    pub origin: Origin,
}

/// Kinds of services that use a RADIUS server.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case")]
pub enum RadiusAsker {
    /// `pam_radius_auth`.
    Pam,
    /// The radiusclient library: pppd's plug-in, ocserv.
    Library,
    /// OpenVPN's plug-in.
    #[serde(rename = "openvpn")]
    OpenVpn,
    /// The IKE daemon's plug-in.
    Ike,
}

impl RadiusAsker {
    /// The kind for a tunnel family.
    #[must_use]
    pub fn of_tunnel(family: TunnelFamily) -> Self {
        match family {
            TunnelFamily::OpenVpn => Self::OpenVpn,
            TunnelFamily::Ipsec => Self::Ike,
            _ => Self::Library,
        }
    }
}

/// One entry of a user file (users(5)).
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case", deny_unknown_fields)]
pub struct RadiusEntry {
    /// User; `DEFAULT` matches any user.
    pub user: String,
    /// Whether it accepts without authentication (`Auth-Type := Accept`).
    pub accepts: bool,
    /// Whether it rejects.
    pub rejects: bool,
    /// Whether it looks at more of the request than the name.
    pub conditional: bool,
    /// Whether it has a password.
    pub has_password: bool,
    /// Limits it sets: attribute and value.
    pub limits: Vec<(String, String)>,
    /// Addresses that its user gets (RFC 2865, 5.8; RFC 6911, 3.1).
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub addresses: Vec<(IpAddr, Origin)>,
    /// The line.
    pub origin: Origin,
}

/// One thing a virtual server runs for a request.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case", deny_unknown_fields)]
pub struct RadiusStep {
    /// Name of the module.
    pub module: String,
    /// The line.
    pub origin: Origin,
}

/// A virtual server: the modules that decide about a request.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case", deny_unknown_fields)]
pub struct RadiusSite {
    /// Name.
    pub name: String,
    /// Modules of `authorize`, which look up users.
    pub authorize: Vec<RadiusStep>,
    /// Modules of `authenticate`, which verify credentials.
    pub authenticate: Vec<RadiusStep>,
    /// Modules of `post-auth`, which may still reject the user.
    pub post_auth: Vec<RadiusStep>,
    /// The line that opens it.
    pub origin: Origin,
}

/// Settings of the EAP module.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case", deny_unknown_fields)]
pub struct EapSettings {
    /// The method offered first.
    pub default_method: Option<(String, Origin)>,
    /// Methods that are set up.
    pub methods: Vec<(String, Origin)>,
    /// Versions of TLS, and ciphers, that methods with TLS accept: one offer for each set of such settings.
    pub offers: Vec<Offer>,
    /// The line that opens it.
    pub origin: Origin,
}

/// Settings of the server as a whole (radiusd.conf).
#[derive(Debug, Clone, Default, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case", deny_unknown_fields)]
pub struct RadiusSecurity {
    /// Whether the file has the section about the log.
    pub tells_log: bool,
    /// Whether requests must contain Message-Authenticator, for clients without a setting of their own (from 3.2.5 and 3.0.27).
    pub message_authenticator: Option<(MessageAuthenticator, Origin)>,
    /// Whether the file has the section about security.
    pub tells_security: bool,
    /// Lines that have passwords written to the log.
    pub logged_passwords: Vec<Origin>,
    /// Lines that keep passwords out of the log.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub passwords_not_logged: Vec<Origin>,
    /// Seconds before a refusal is sent, which slows guessing.
    pub reject_delay: Option<(f64, Origin)>,
}
