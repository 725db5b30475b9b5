//! Place of a device in a generated estate, and its unique numbers.

use crate::dice::Dice;
use base64::Engine;
use base64::engine::general_purpose::STANDARD;
use std::net::Ipv4Addr;

/// Devices of one site: a gateway and those behind it.
pub const OF_A_SITE: u64 = 5;

/// Sites that there are addresses for.
pub const SITES: u64 = 98_304;

const PLAIN: &[u8] = b"abcdefghijkmnopqrstuvwxyzABCDEFGHJKLMNPQRSTUVWXYZ23456789";
const HASH: &[u8] = b"abcdefghijklmnopqrstuvwxyzABCDEFGHIJKLMNOPQRSTUVWXYZ0123456789./";

/// A device's number and what follows from it.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Place {
    /// The estate's seed.
    pub seed: u64,
    /// The device's number, from 0.
    pub number: u64,
}

impl Place {
    /// Its site's number.
    #[must_use]
    pub fn site(self) -> u64 {
        self.number / OF_A_SITE
    }

    /// An address of a site, of 128: 32 of its network, 32 for VPN clients of the gateway, and 16 for VPN clients of each device behind it.
    /// Ranges common in home networks come first and are not used.
    #[must_use]
    pub fn address_at(site: u64, host: u64) -> Ipv4Addr {
        Ipv4Addr::from_bits(Ipv4Addr::new(10, 64, 0, 0).to_bits() + ((site % SITES) * 128 + host) as u32)
    }

    /// An address of its own site.
    #[must_use]
    pub fn address(self, host: u64) -> Ipv4Addr {
        Self::address_at(self.site(), host)
    }

    /// An address of its client pool, of 16.
    #[must_use]
    pub fn pooled(self, host: u64) -> Ipv4Addr {
        match self.number % OF_A_SITE {
            0 => self.address(32 + host),
            behind => self.address(48 + behind * 16 + host),
        }
    }

    /// Its own address in its site's network: the gateway has the first.
    #[must_use]
    pub fn own(self) -> Ipv4Addr {
        self.address(1 + self.number % OF_A_SITE)
    }

    /// An address of its Internet line, of four: the second is its own, the first the carrier's. Carriers number their lines from a block
    /// of their own (RFC 6598).
    #[must_use]
    pub fn line(self, host: u64) -> Ipv4Addr {
        Ipv4Addr::from_bits(
            Ipv4Addr::new(100, 64, 0, 0).to_bits() + ((self.site() % SITES) * 4 + host) as u32,
        )
    }

    /// Its site's network of the sixth version, without the part for hosts.
    #[must_use]
    pub fn v6(self) -> String {
        format!("2001:db8:{:x}:{:x}", self.site() >> 16, self.site() & 0xffff)
    }

    fn dice(self, label: &str) -> Dice {
        Dice::named(self.seed, self.number, label)
    }

    /// A secret that cannot be guessed.
    #[must_use]
    pub fn secret(self, label: &str) -> String {
        self.dice(label).text(PLAIN, 28)
    }

    /// Text in the form of a salted digest of a password.
    #[must_use]
    pub fn hash(self, label: &str) -> String {
        let mut dice = self.dice(label);
        format!("$6${}${}", dice.text(HASH, 12), dice.text(HASH, 86))
    }

    /// Text in the form of a key of 32 bytes, in Base64.
    #[must_use]
    pub fn key(self, label: &str) -> String {
        STANDARD.encode(self.dice(label).bytes(32))
    }

    /// Text in the form of an Ed25519 key in `authorized_keys`.
    #[must_use]
    pub fn shell_key(self, label: &str) -> String {
        let mut blob = vec![0, 0, 0, 11];
        blob.extend(b"ssh-ed25519");
        blob.extend([0, 0, 0, 32]);
        blob.extend(self.dice(label).bytes(32));
        format!("ssh-ed25519 {}", STANDARD.encode(blob))
    }

    /// Hexadecimal digits.
    #[must_use]
    pub fn hex(self, label: &str, length: usize) -> String {
        self.dice(label).text(b"0123456789abcdef", length)
    }
}
