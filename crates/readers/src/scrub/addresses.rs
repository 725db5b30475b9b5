//! Address mapping: networks keep their sizes and nesting, hosts keep their position in their network, and private, public and example
//! addresses remain so.
//!
//! Only the upper bits of a network change, each depending on the bits before it and the key, as in prefix-preserving mappings, so ranges
//! within a network keep their order: in 10.0.0.0/8 the second octet changes, in 172.16.0.0/12 its lower half, in public addresses the
//! first two octets, in IPv6 the bits up to the 48th. 192.168.0.0/16, which identifies no organisation, and every other special-purpose
//! block stay.

use std::cell::RefCell;
use std::collections::BTreeMap;
use std::net::{IpAddr, Ipv4Addr, Ipv6Addr};
use trevlin_model::secret::ScrubKey;

/// Maps addresses, and remembers what became of each.
#[derive(Debug)]
pub struct AddressMap {
    key: ScrubKey,
    done: RefCell<BTreeMap<IpAddr, IpAddr>>,
}

/// The nets for examples (RFC 5737), which take each other's place.
const EXAMPLES: [[u8; 3]; 3] = [[192, 0, 2], [198, 51, 100], [203, 0, 113]];

impl AddressMap {
    /// A map that cannot be reproduced without the key.
    #[must_use]
    pub fn new(key: ScrubKey) -> Self {
        Self { key, done: RefCell::default() }
    }

    /// The mapping of addresses so far.
    #[must_use]
    pub fn done(&self) -> BTreeMap<IpAddr, IpAddr> {
        self.done.borrow().clone()
    }

    /// The replacement of an address.
    #[must_use]
    pub fn map(&self, address: IpAddr) -> IpAddr {
        let mapped = match address {
            IpAddr::V4(address) => IpAddr::V4(self.v4(address)),
            IpAddr::V6(address) => IpAddr::V6(self.v6(address)),
        };
        if mapped != address {
            self.done.borrow_mut().insert(address, mapped);
        }
        mapped
    }

    fn v4(&self, address: Ipv4Addr) -> Ipv4Addr {
        let bits = u128::from(u32::from(address));
        let octets = address.octets();
        let flipped = |from: u32, to: u32| Ipv4Addr::from(self.flip(bits, 32, from, to) as u32);
        match octets {
            // A mask, and what no host has.
            [0 | 127 | 224..=255, ..]
            | [169, 254, ..]
            | [192, 168, ..]
            | [100, 64..=127, ..]
            | [198, 18 | 19, ..] => address,
            [192, 0, 0, _] | [192, 88, 99, _] => address,
            [10, ..] => flipped(8, 16),
            [172, 16..=31, ..] => flipped(12, 16),
            [a, b, c, host] if EXAMPLES.contains(&[a, b, c]) => {
                let at = EXAMPLES.iter().position(|one| *one == [a, b, c]).unwrap_or_default();
                let turn = 1 + self.key.bytes("examples", &[]).next().map_or(0, |one| usize::from(one % 2));
                let [a, b, c] = EXAMPLES[(at + turn) % 3];
                Ipv4Addr::new(a, b, c, host)
            }
            _ => {
                // Another public net; one with a meaning of its own is left at once, and the way there and back is the same.
                let mut mapped = flipped(0, 16);
                while !is_plain(mapped) {
                    mapped = Ipv4Addr::from(self.flip(u128::from(u32::from(mapped)), 32, 0, 16) as u32);
                }
                mapped
            }
        }
    }

    fn v6(&self, address: Ipv6Addr) -> Ipv6Addr {
        let bits = u128::from(address);
        let first = address.segments()[0];
        let from = match (first, address.segments()[1]) {
            (0x2001, 0x0db8) => 32,
            (0x2001, 0x0000..=0x01ff) | (0x2002, _) => return address,
            (0x2000..=0x3fff, _) => 3,
            (0xfc00..=0xfdff, _) => 8,
            _ => return address,
        };
        let mapped = Ipv6Addr::from(self.flip(bits, 128, from, 48));
        match mapped.segments() {
            // Out of space for the public into a block with a meaning of its own: such a net keeps its address.
            [0x2001, 0..=0x01ff | 0x0db8, ..] | [0x2002, ..] if from == 3 => address,
            _ => mapped,
        }
    }

    /// Turns bits `from..to`, counted from the first of `length`, each by the bits before it.
    fn flip(&self, bits: u128, length: u32, from: u32, to: u32) -> u128 {
        let mut out = bits;
        for at in from..to {
            let before = if at == 0 { 0 } else { bits >> (length - at) };
            let seed = [&[length as u8, at as u8][..], &before.to_be_bytes()].concat();
            if self.key.bytes("address", &seed).next().is_some_and(|byte| byte & 1 == 1) {
                out ^= 1 << (length - 1 - at);
            }
        }
        out
    }

    /// A copy of a text with every address mapped, also where only the beginning of one is written (`10.20.`), in names of reverse
    /// zones, and of hardware addresses the part that its maker numbers.
    #[must_use]
    pub fn map_text(&self, text: &str) -> String {
        let mut out = String::with_capacity(text.len());
        let mut at = 0;
        while at < text.len() {
            let rest = &text[at..];
            let joined = text[..at].ends_with(|letter: char| letter.is_alphanumeric() || letter == '_');
            let length =
                rest.len() - rest.trim_start_matches(|one: char| one.is_ascii_hexdigit() || one == ':').len();
            let dotted =
                rest.len() - rest.trim_start_matches(|one: char| one.is_ascii_digit() || one == '.').len();
            let both = rest.len()
                - rest
                    .trim_start_matches(|one: char| one.is_ascii_hexdigit() || matches!(one, ':' | '.'))
                    .len();
            let taken = if joined {
                None
            } else if rest[..length].matches(':').count() >= 2 {
                self.colons(rest, length, both)
            } else if dotted > 0 && rest[..dotted].contains('.') {
                self.dots(rest, dotted)
            } else {
                None
            };
            if let Some((mapped, used)) = taken {
                out.push_str(&mapped);
                at += used;
                continue;
            }
            // Any kind of address ends with its word.
            let word =
                rest.len() - rest.trim_start_matches(|one: char| one.is_alphanumeric() || one == '_').len();
            let step = if word > 0 { word } else { rest.chars().next().map_or(1, char::len_utf8) };
            out.push_str(&rest[..step]);
            at += step;
        }
        out
    }

    /// An address of IPv6, or of hardware.
    fn colons(&self, rest: &str, length: usize, both: usize) -> Option<(String, usize)> {
        for length in [both, length] {
            let text = rest[..length].trim_end_matches('.');
            for text in [text, text.strip_suffix(':').unwrap_or(text)] {
                if let Ok(address) = text.parse::<Ipv6Addr>() {
                    let mapped = self.map(IpAddr::V6(address));
                    let stated = u128::from(address);
                    let mask = prefix(&rest[text.len()..])
                        .filter(|bits| *bits < 128)
                        .map_or(u128::MAX, |bits| !(u128::MAX >> bits));
                    let mapped = match mapped {
                        IpAddr::V6(mapped) if stated & !mask == 0 => {
                            IpAddr::V6(Ipv6Addr::from(u128::from(mapped) & mask))
                        }
                        mapped => mapped,
                    };
                    // How it was written stays where it stays.
                    let shown =
                        if mapped == IpAddr::V6(address) { text.to_owned() } else { mapped.to_string() };
                    return Some((shown, text.len()));
                }
            }
        }
        let text = &rest[..length];
        let parts: Vec<&str> = text.split(':').collect();
        if parts.len() != 6
            || parts.iter().any(|part| part.len() != 2)
            || text == "ff:ff:ff:ff:ff:ff"
            || text == "00:00:00:00:00:00"
        {
            return None;
        }
        let lower = text.to_ascii_lowercase();
        let own: Vec<String> =
            self.key.bytes("hardware", lower.as_bytes()).take(3).map(|byte| format!("{byte:02x}")).collect();
        let own = own.join(":");
        let own = if text == lower { own } else { own.to_uppercase() };
        Some((format!("{}:{own}", parts[..3].join(":")), length))
    }

    /// An address of IPv4, the beginning of one, or one with a number too many.
    fn dots(&self, rest: &str, length: usize) -> Option<(String, usize)> {
        let text = rest[..length].trim_end_matches('.');
        let numbers: Vec<u8> = text.split('.').map(|part| part.parse().ok()).collect::<Option<_>>()?;
        let zone = rest[text.len()..].to_ascii_lowercase().starts_with(".in-addr.arpa");
        let cut = length > text.len() && !rest[length..].starts_with(|one: char| one.is_alphanumeric());
        let written = |octets: &[u8]| octets.iter().map(u8::to_string).collect::<Vec<_>>().join(".");
        let whole = |numbers: &[u8]| {
            let mut octets = [0; 4];
            octets[..numbers.len().min(4)].copy_from_slice(&numbers[..numbers.len().min(4)]);
            self.map(IpAddr::V4(octets.into()))
        };
        let bits = prefix(&rest[text.len()..]);
        let IpAddr::V4(mapped) = (match numbers.len() {
            2..=4 if zone => whole(&numbers.iter().rev().copied().collect::<Vec<_>>()),
            4 | 5 => whole(&numbers),
            2 | 3 if cut => whole(&numbers),
            _ => return None,
        }) else {
            return None;
        };
        // In a wide network only the bits that identify it change.
        let mask = bits.filter(|bits| *bits < 32).map_or(u32::MAX, |bits| !(u32::MAX >> bits));
        let mut stated = [0; 4];
        stated[..numbers.len().min(4)].copy_from_slice(&numbers[..numbers.len().min(4)]);
        let network = u32::from_be_bytes(stated) & !mask == 0;
        let mapped = if network { Ipv4Addr::from(u32::from(mapped) & mask) } else { mapped };
        let mut octets = mapped.octets().to_vec();
        octets.truncate(numbers.len());
        if zone {
            octets.reverse();
        }
        octets.extend(numbers.iter().skip(4));
        Some((written(&octets), text.len()))
    }
}

/// The length of a prefix that follows an address: `/8`, or a mask after blanks.
fn prefix(rest: &str) -> Option<u32> {
    if let Some(rest) = rest.strip_prefix('/')
        && let Some(bits) =
            rest.split(|one: char| !one.is_ascii_digit()).next().and_then(|bits| bits.parse().ok())
    {
        return Some(bits);
    }
    let rest = rest.strip_prefix('/').unwrap_or(rest);
    let word = rest.trim_start_matches([' ', '\t', ',']).trim_start_matches("netmask ");
    let word = word.split(|one: char| !(one.is_ascii_digit() || one == '.')).next()?;
    let mask = u32::from(word.parse::<Ipv4Addr>().ok()?);
    (mask.leading_ones() + mask.trailing_zeros() == 32 && mask != 0).then(|| mask.leading_ones())
}

/// Whether it lies in ordinary space, and every address of its /16 as well.
fn is_plain(address: Ipv4Addr) -> bool {
    !matches!(
        address.octets(),
        [0 | 10 | 127 | 224..=255, ..]
            | [172, 16..=31, ..]
            | [169, 254, ..]
            | [192, 0 | 88 | 168, ..]
            | [100, 64..=127, ..]
            | [198, 18 | 19 | 51, ..]
            | [203, 0, ..]
    )
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn map(seed: u8) -> AddressMap {
        AddressMap::new(ScrubKey::new([seed; 32]))
    }

    #[test]
    fn what_stays_and_what_does_not() {
        let map = map(3);
        for text in [
            "mask 255.255.255.0 and 0.0.0.255, 0.0.0.0/0, 127.0.0.1, 192.168.1.1, 224.0.0.251",
            "version 1.8.9 of 06:10:11, oid 1.3.6.1.4.1.2021, ff02::1, fe80::1, ::/0, ::1",
            "Mon Nov  2 06:10:11 2026 v1.2.3.4x a1.2.3.4",
            "[0:0] [918273:612884011] name:10 ff:ff:ff:ff:ff:ff",
        ] {
            assert_eq!(map.map_text(text), text);
        }
        let text = "10.20.4.9/24 203.0.113.7-203.0.113.9 2001:db8:20:4::1/64 [2001:db8:20:4::1]:443 02:00:5e:10:00:61";
        let mapped = map.map_text(text);
        for part in ["10.20.", "203.0.113.7", "2001:db8:20:", "10:00:61"] {
            assert!(!mapped.contains(part), "{mapped}");
        }
        for part in [".4.9/24", ".7-", ":4::1/64", "]:443", "02:00:5e:", "10."] {
            assert!(mapped.contains(part), "{mapped}");
        }
    }

    #[test]
    fn wide_networks_stay_as_wide() {
        let map = map(3);
        let second = map.map_text("10.20.4.9").split('.').nth(1).unwrap().to_owned();
        for (text, wanted) in [
            ("10.0.0.0/8 10.0.0.0 255.0.0.0", "10.0.0.0/8 10.0.0.0 255.0.0.0".to_owned()),
            ("10.0.0.0 netmask 255.0.0.0", "10.0.0.0 netmask 255.0.0.0".to_owned()),
            ("10.20.0.0/16", format!("10.{second}.0.0/16")),
            ("10.20.4.9/8", format!("10.{second}.4.9/8")),
            ("fd00::/8 172.16.0.0/12", "fd00::/8 172.16.0.0/12".to_owned()),
        ] {
            assert_eq!(map.map_text(text), wanted);
        }
    }

    #[test]
    fn pieces_of_addresses_go_with_the_whole() {
        let map = map(3);
        let second = map.map_text("10.20.4.9").split('.').nth(1).unwrap().to_owned();
        for (text, wanted) in [
            ("127. 10.20.\n", format!("127. 10.{second}.\n")),
            ("10.20.4.200-225", format!("10.{second}.4.200-225")),
            ("10.20.10.200.225", format!("10.{second}.10.200.225")),
            ("4.20.10.in-addr.arpa", format!("4.{second}.10.in-addr.arpa")),
            ("at 10.20.4.9.", format!("at 10.{second}.4.9.")),
        ] {
            assert_eq!(map.map_text(text), wanted);
        }
    }

    proptest! {
        #[test]
        fn networks_keep_their_sizes_and_neighbours(a: u32, b: u32, seed: u8) {
            let map = map(seed);
            let (x, y) = (map.v4(a.into()), map.v4(b.into()));
            prop_assert_eq!(a == b, x == y);
            // Within a /16 nothing moves, and private stays private.
            prop_assert_eq!(u32::from(x) & 0xffff, if EXAMPLES.contains(&[x.octets()[0], x.octets()[1], x.octets()[2]]) { u32::from(x) & 0xffff } else { a & 0xffff });
            prop_assert_eq!(Ipv4Addr::from(a).is_private(), x.is_private());
            let inside = |bits: u32| (bits >> 8) | (10 << 24);
            let (x, y) = (map.v4(inside(a).into()), map.v4(inside(b).into()));
            prop_assert_eq!((inside(a) ^ inside(b)).leading_zeros(), (u32::from(x) ^ u32::from(y)).leading_zeros());
        }

        #[test]
        fn so_do_those_of_the_sixth_version(a: u128, b: u128, seed: u8) {
            let map = map(seed);
            let ula = |bits: u128| Ipv6Addr::from((bits >> 8) | (0xfd << 120));
            let (x, y) = (map.v6(ula(a)), map.v6(ula(b)));
            prop_assert_eq!((u128::from(ula(a)) ^ u128::from(ula(b))).leading_zeros(), (u128::from(x) ^ u128::from(y)).leading_zeros());
            prop_assert_eq!(x.segments()[0] >> 8, 0xfd);
        }

        #[test]
        fn any_text_is_taken(text: String) {
            prop_assert_eq!(map(1).map_text(&text).lines().count(), text.lines().count());
        }
    }
}
