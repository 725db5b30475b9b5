//! Peers of WireGuard, as far as only WireGuard has them (wg(8)).

use crate::Origin;
use crate::plan::Placed;
use serde::{Deserialize, Serialize};

/// The other end of a WireGuard tunnel.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case", deny_unknown_fields)]
pub struct WireGuardPeer {
    /// Its name: a comment, or the beginning of its public key.
    pub who: String,
    /// Its public key, as written.
    pub public_key: Option<String>,
    /// Its endpoint, as written; `None` for a client.
    pub endpoint: Option<String>,
    /// Addresses taken from it and sent to it.
    pub allowed: Vec<Placed>,
    /// The additional pre-shared key (protection from quantum computers).
    pub shared_key: Option<Origin>,
    /// Seconds between packets that keep the way open, where that is on.
    pub keepalive: Option<u32>,
    /// Whether the kernel routes these addresses into the tunnel: by the scripts that set it up (wg-quick(8), Table; UCI,
    /// `route_allowed_ips`; systemd.netdev(5), RouteTable).
    #[serde(with = "crate::written::on_unless_off")]
    #[cfg_attr(feature = "schema", schemars(with = "bool"))]
    pub routed: bool,
    /// The line to point at.
    pub origin: Origin,
}
