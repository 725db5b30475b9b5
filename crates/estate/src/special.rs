//! Addresses with a special meaning.

use ipnet::IpNet;
use serde::Deserialize;
use std::net::IpAddr;
use trevlin_model::{Family, IpRange};

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
struct Table {
    block: Vec<Block>,
}

/// A block with a meaning of its own.
#[derive(Debug, Deserialize)]
pub struct Block {
    prefix: IpNet,
    /// Purpose.
    pub name: String,
    /// Where that is laid down.
    pub source: String,
    /// Whether no host beyond a provider's or a laboratory's network has an address of it, so that internal use causes no conflict.
    #[serde(default)]
    pub inner_use: bool,
}

/// Kind of address space.
#[derive(Debug, Clone, Copy)]
pub enum Space {
    /// Blocks for private use by any organisation.
    Private,
    /// Assigned public address space.
    Public,
    /// A block with another meaning.
    Special(&'static Block),
    /// It crosses the border between two of these.
    Mixed,
}

/// Whether a range is in space that is neither for private use nor the organisation's own.
pub fn is_foreign(range: IpRange, own: &[IpRange]) -> bool {
    match space_of(range) {
        Space::Private => false,
        Space::Public => !own.iter().any(|net| net.covers(&range)),
        Space::Special(_) | Space::Mixed => true,
    }
}

/// Names of the blocks for private use.
const PRIVATE: [&str; 2] = ["private use", "unique local"];

/// The address space of a range.
pub fn space_of(range: IpRange) -> Space {
    let touches = |block: &&Block| IpRange::from(block.prefix).intersection(&range).is_some();
    let Some(block) = TABLE.block.iter().find(touches) else { return Space::Public };
    if IpRange::from(block.prefix).intersection(&range) != Some(range) {
        return Space::Mixed;
    }
    if PRIVATE.contains(&block.name.as_str()) { Space::Private } else { Space::Special(block) }
}

trevlin_model::table! { static TABLE: Table = "../tables/special-addresses.toml"; }

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
struct CommonTable {
    network: Vec<CommonNetwork>,
}

/// A range common in home networks.
#[derive(Debug, Deserialize)]
pub struct CommonNetwork {
    /// The network.
    pub prefix: IpNet,
    /// Where that is to be seen.
    pub source: String,
}

trevlin_model::table! { static COMMON: CommonTable = "../tables/common-home-networks.toml"; }

/// Ranges common in home networks.
pub fn common_at_home() -> impl Iterator<Item = &'static CommonNetwork> {
    COMMON.network.iter()
}

/// Whether an address holds on one link only (RFC 3927, RFC 4291).
pub fn is_link_local(address: IpAddr) -> bool {
    match address {
        IpAddr::V4(v4) => v4.is_link_local(),
        IpAddr::V6(v6) => v6.is_unicast_link_local(),
    }
}

/// Whether an address can belong to a host on the internet.
pub fn is_public(address: IpAddr) -> bool {
    !TABLE.block.iter().any(|block| block.prefix.contains(&address))
}

/// Blocks that the internet does not carry.
pub fn not_public() -> Vec<IpRange> {
    TABLE.block.iter().map(|block| IpRange::from(block.prefix)).collect()
}

/// Addresses that hosts on the internet may have, as ranges.
pub fn public_ranges() -> Vec<IpRange> {
    let mut all = vec![IpRange::all(Family::V4), IpRange::all(Family::V6)];
    for block in &TABLE.block {
        all = all.iter().flat_map(|one| one.without(&IpRange::from(block.prefix))).collect();
    }
    all
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn networks_of_homes_are_private() {
        let known: Vec<IpNet> = common_at_home().map(|one| one.prefix).collect();
        assert!(known.contains(&"192.168.1.0/24".parse().unwrap()), "{known:?}");
        for net in known {
            assert!(matches!(space_of(net.into()), Space::Private), "{net}");
        }
    }

    #[test]
    fn public_and_not() {
        for (address, public) in [
            ("192.0.2.9", true),
            ("2001:db8::9", true),
            ("10.4.0.1", false),
            ("172.31.0.1", false),
            ("172.32.0.1", true),
            ("100.64.0.1", false),
            ("fd00::1", false),
            ("fe80::1", false),
            ("127.0.0.1", false),
        ] {
            assert_eq!(is_public(address.parse().unwrap()), public, "{address}");
        }
    }
}
