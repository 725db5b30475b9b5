//! What a tunnel does with addresses beyond its listeners: pools, fixed addresses, networks behind it.

use crate::offer::Offer;
use crate::{IpRange, MalformedAddress, Origin, Pool, Setting};

/// A range and the place that states it.
pub type Placed = (IpRange, Origin);

/// An address kept for one caller.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct FixedAddress {
    /// Whose it is, as the configuration names it.
    pub who: String,
    /// The address, or the addresses.
    pub range: IpRange,
    /// Where it is stated.
    pub origin: Origin,
}

/// The address side of one tunnel.
#[derive(Debug, Clone, Default)]
pub struct AddressPlan {
    /// What callers are given in turn.
    pub pools: Vec<Pool>,
    /// What is kept for one caller each.
    pub fixed: Vec<FixedAddress>,
    /// Networks at the other end, reached through the tunnel (routes, traffic selectors, allowed addresses).
    pub remote: Vec<Placed>,
    /// What callers are told to send through the tunnel; every address of a family is a full tunnel.
    pub sent_through: Vec<Placed>,
    /// Name servers that callers are told.
    pub name_servers: Vec<Placed>,
    /// How many callers may be connected at a time, where it is stated.
    pub sessions: Option<(u32, Origin)>,
    /// Pieces outside the pools that should be addresses and are none.
    pub malformed: Vec<MalformedAddress>,
}

/// Protocol of a tunnel that is read in part.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum PlanFamily {
    /// A connection of IKE and IPsec.
    Ipsec,
    /// The layer two tunnelling protocol, RFC 2661.
    L2tp,
    /// WireGuard.
    WireGuard,
}

impl PlanFamily {
    /// The protocol's name as people write it.
    #[must_use]
    pub fn name(self) -> &'static str {
        match self {
            Self::Ipsec => "IPsec",
            Self::L2tp => "L2TP",
            Self::WireGuard => "WireGuard",
        }
    }
}

/// The address side of a tunnel whose other settings are not read yet.
#[derive(Debug, Clone)]
pub struct TunnelPlan {
    /// Name within the device.
    pub name: String,
    /// Protocol.
    pub family: PlanFamily,
    /// The interface that is this device's end, where its addresses stand apart from the tunnel.
    pub interface: Option<String>,
    /// What may be agreed on, by part.
    pub offers: Vec<Offer>,
    /// Settings read that checks judge.
    pub settings: Vec<(String, Setting<String>)>,
    /// The addresses.
    pub plan: AddressPlan,
    /// The line to point at.
    pub origin: Origin,
}

impl TunnelPlan {
    /// A setting that is stated, by its key, with its line; of several the last one.
    #[must_use]
    pub fn stated(&self, key: &str) -> Option<(&str, Origin)> {
        let (_, setting) = self.settings.iter().rev().find(|(known, _)| known == key)?;
        setting.stated().map(|(value, origin)| (value.as_str(), origin))
    }
}
