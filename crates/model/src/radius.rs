//! RADIUS servers: who may ask them (RFC 2865).

use crate::{HeldSecret, IpRange, Origin, Setting};
use std::sync::Arc;

/// Whether requests must be signed (`Message-Authenticator`, RFC 3579, 3.2).
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum MessageAuthenticator {
    /// Requests without it are dropped.
    Required,
    /// From the first that had it on.
    Learned,
    /// Not required.
    NotRequired,
}

/// One client of a RADIUS server: a device that asks about callers.
#[derive(Debug, Clone)]
pub struct RadiusClient {
    /// Name.
    pub name: String,
    /// Where it may ask from; `None` for a name that no export resolves.
    pub from: Option<IpRange>,
    /// The shared secret.
    pub secret: Option<Arc<HeldSecret>>,
    /// Whether requests must be signed.
    pub message_authenticator: Setting<MessageAuthenticator>,
    /// Where its address stands, or the line that opens it.
    pub address_origin: Origin,
    /// The line that opens it.
    pub origin: Origin,
}

impl RadiusClient {
    /// Whether only the server itself can be meant.
    #[must_use]
    pub fn is_local(&self) -> bool {
        self.from.is_some_and(|range| range.first().is_loopback() && range.last().is_loopback())
    }
}
