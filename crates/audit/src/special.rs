//! Addresses with a special meaning.

use ipnet::IpNet;
use serde::Deserialize;
use std::net::IpAddr;
use std::sync::LazyLock;

#[derive(Deserialize, Default)]
struct Table {
    block: Vec<Block>,
}

#[derive(Deserialize)]
struct Block {
    prefix: IpNet,
}

static TABLE: LazyLock<Table> =
    LazyLock::new(|| toml::from_str(include_str!("../tables/special-addresses.toml")).unwrap_or_default());

/// Whether an address can belong to a host on the internet.
pub(crate) fn is_public(address: IpAddr) -> bool {
    !TABLE.block.iter().any(|block| block.prefix.contains(&address))
}

#[cfg(test)]
mod tests {
    use super::*;

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
