//! Ranges of addresses of one family.

use ipnet::IpNet;
use serde::{Deserialize, Serialize};
use std::fmt;
use std::net::{IpAddr, Ipv4Addr, Ipv6Addr};

/// IP version.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case")]
pub enum Family {
    /// IP version 4.
    V4,
    /// IP version 6.
    V6,
}

impl Family {
    /// The family of an address.
    #[must_use]
    pub fn of(address: IpAddr) -> Self {
        if address.is_ipv4() { Self::V4 } else { Self::V6 }
    }
}

impl fmt::Display for Family {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(if *self == Self::V4 { "IPv4" } else { "IPv6" })
    }
}

/// Addresses from `first` to `last`, both included; both of one family and in order.
#[derive(Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub struct IpRange {
    first: IpAddr,
    last: IpAddr,
}

/// Why two addresses make no range.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum RangeError {
    /// One is IPv4, the other IPv6.
    MixedFamilies,
    /// The first comes after the last.
    Reversed,
}

impl IpRange {
    /// A range from two addresses.
    ///
    /// # Errors
    /// When the families differ or the order is reversed.
    #[inline]
    pub fn new(first: IpAddr, last: IpAddr) -> Result<Self, RangeError> {
        if Family::of(first) != Family::of(last) {
            Err(RangeError::MixedFamilies)
        } else if first > last {
            Err(RangeError::Reversed)
        } else {
            Ok(Self { first, last })
        }
    }

    /// Every address of a family.
    #[must_use]
    #[inline]
    pub fn all(family: Family) -> Self {
        match family {
            Family::V4 => Self { first: Ipv4Addr::UNSPECIFIED.into(), last: Ipv4Addr::BROADCAST.into() },
            Family::V6 => {
                Self { first: Ipv6Addr::UNSPECIFIED.into(), last: Ipv6Addr::from_bits(u128::MAX).into() }
            }
        }
    }

    /// First address.
    #[must_use]
    #[inline]
    pub fn first(&self) -> IpAddr {
        self.first
    }

    /// Last address.
    #[must_use]
    #[inline]
    pub fn last(&self) -> IpAddr {
        self.last
    }

    /// IP version of both ends.
    #[must_use]
    #[inline]
    pub fn family(&self) -> Family {
        Family::of(self.first)
    }

    /// Whether the range contains the address.
    #[must_use]
    #[inline]
    pub fn contains(&self, address: IpAddr) -> bool {
        Family::of(address) == self.family() && self.first <= address && address <= self.last
    }

    /// The common part of two ranges.
    #[must_use]
    #[inline]
    pub fn intersection(&self, other: &Self) -> Option<Self> {
        if self.family() != other.family() {
            return None;
        }
        Self::new(self.first.max(other.first), self.last.min(other.last)).ok()
    }

    /// Every other address of the family, as at most two ranges.
    #[must_use]
    #[inline]
    pub fn complement(&self) -> Vec<Self> {
        let all = Self::all(self.family());
        let before =
            bits(self.first).checked_sub(1).map(|last| Self { first: all.first, last: self.address(last) });
        let after = (self.last != all.last)
            .then(|| Self { first: self.address(bits(self.last) + 1), last: all.last });
        before.into_iter().chain(after).collect()
    }

    /// The part of the range that is not in another, as at most two ranges.
    #[must_use]
    #[inline]
    pub fn without(&self, other: &Self) -> Vec<Self> {
        if self.family() != other.family() {
            return vec![*self];
        }
        other.complement().iter().filter_map(|rest| self.intersection(rest)).collect()
    }

    /// The network that is exactly this range, where there is one.
    #[must_use]
    #[inline]
    pub fn network(&self) -> Option<IpNet> {
        let size = bits(self.last) ^ bits(self.first);
        // One below a power of two, and nothing of it in the first address.
        if size & size.wrapping_add(1) != 0 || bits(self.first) & size != 0 {
            return None;
        }
        let width = if self.family() == Family::V4 { 32 } else { 128 };
        IpNet::new(self.first, (width - (u128::BITS - size.leading_zeros())) as u8).ok()
    }

    /// Whether it holds all of another.
    #[must_use]
    #[inline]
    pub fn covers(&self, other: &Self) -> bool {
        self.intersection(other) == Some(*other)
    }

    /// The shortest way to write it: `10.4.0.9`, `10.4.0.0/24`, or `10.4.0.9-10.4.0.20`.
    #[must_use]
    #[inline]
    pub fn short(&self) -> String {
        match self.network() {
            Some(net) if self.first != self.last => net.to_string(),
            _ => self.to_string(),
        }
    }

    /// The address of this family for a number.
    fn address(&self, bits: u128) -> IpAddr {
        match self.family() {
            Family::V4 => Ipv4Addr::from_bits(bits as u32).into(),
            Family::V6 => Ipv6Addr::from_bits(bits).into(),
        }
    }

    /// How many addresses it has; the whole IPv6 space counts as `u128::MAX`.
    #[must_use]
    #[inline]
    pub fn size(&self) -> u128 {
        (bits(self.last) - bits(self.first)).saturating_add(1)
    }
}

/// The number of an address; IPv4 addresses are their 32 bits.
fn bits(address: IpAddr) -> u128 {
    match address {
        IpAddr::V4(v4) => u128::from(v4.to_bits()),
        IpAddr::V6(v6) => v6.to_bits(),
    }
}

impl From<IpAddr> for IpRange {
    fn from(address: IpAddr) -> Self {
        Self { first: address, last: address }
    }
}

impl From<IpNet> for IpRange {
    fn from(net: IpNet) -> Self {
        Self { first: net.network(), last: net.broadcast() }
    }
}

impl fmt::Display for IpRange {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        if self.first == self.last {
            write!(f, "{}", self.first)
        } else {
            write!(f, "{}-{}", self.first, self.last)
        }
    }
}

impl fmt::Debug for IpRange {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        fmt::Display::fmt(self, f)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn range(first: u8, last: u8) -> Option<IpRange> {
        IpRange::new(Ipv4Addr::new(10, 0, 0, first).into(), Ipv4Addr::new(10, 0, 0, last).into()).ok()
    }

    proptest! {
        #[test]
        fn an_intersection_holds_what_both_hold(a in 0u8..40, b in 0u8..40, c in 0u8..40, d in 0u8..40) {
            let (Some(x), Some(y)) = (range(a.min(b), a.max(b)), range(c.min(d), c.max(d))) else { unreachable!() };
            for n in 0..40 {
                let address = IpAddr::from(Ipv4Addr::new(10, 0, 0, n));
                let both = x.contains(address) && y.contains(address);
                prop_assert_eq!(x.intersection(&y).is_some_and(|shared| shared.contains(address)), both);
            }
        }
    }

    #[test]
    fn ranges_that_are_none() {
        assert_eq!(IpRange::new([10, 0, 0, 9].into(), [10, 0, 0, 3].into()), Err(RangeError::Reversed));
        assert_eq!(
            IpRange::new([10, 0, 0, 9].into(), Ipv6Addr::LOCALHOST.into()),
            Err(RangeError::MixedFamilies)
        );
    }

    #[test]
    fn complements() {
        for (range, wanted) in [
            (range(0, 255).unwrap(), "[0.0.0.0-9.255.255.255, 10.0.1.0-255.255.255.255]"),
            (IpRange::from(IpAddr::from([0, 0, 0, 0])), "[0.0.0.1-255.255.255.255]"),
            (IpRange::all(Family::V6), "[]"),
        ] {
            assert_eq!(format!("{:?}", range.complement()), wanted);
        }
    }

    #[test]
    fn the_shortest_way_to_write_it() {
        for (first, last, wanted) in [
            ("10.0.0.0", "10.0.0.255", "10.0.0.0/24"),
            ("10.0.0.9", "10.0.0.9", "10.0.0.9"),
            ("10.0.0.1", "10.0.0.2", "10.0.0.1-10.0.0.2"),
            ("10.0.0.128", "10.0.1.127", "10.0.0.128-10.0.1.127"),
            ("0.0.0.0", "255.255.255.255", "0.0.0.0/0"),
            ("::", "ffff:ffff:ffff:ffff:ffff:ffff:ffff:ffff", "::/0"),
            ("2001:db8::", "2001:db8::ffff", "2001:db8::/112"),
        ] {
            let range = IpRange::new(first.parse().unwrap(), last.parse().unwrap()).unwrap();
            assert_eq!(range.short(), wanted);
        }
    }

    #[test]
    fn sizes() {
        assert_eq!(IpRange::from("10.0.0.0/24".parse::<IpNet>().unwrap()).size(), 256);
        assert_eq!(IpRange::all(Family::V6).size(), u128::MAX);
        assert_eq!(IpRange::all(Family::V4).to_string(), "0.0.0.0-255.255.255.255");
    }
}
