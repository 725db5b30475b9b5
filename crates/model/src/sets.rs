//! Sets of addresses and of ports: ranges in order, apart from each other.

use crate::{Family, IpRange, PortRange};
use std::borrow::Borrow;
use std::collections::BTreeMap;
use std::fmt;
use std::net::{IpAddr, Ipv4Addr, Ipv6Addr};
use std::ops::Deref;

/// Operations on ranges, for both kinds of sets.
trait Ranged: Copy {
    /// Whether the two overlap or are adjacent.
    fn touches(&self, later: &Self) -> bool;
    /// Both as one, where they touch.
    fn with(&self, later: &Self) -> Self;
    /// The common part.
    fn shared(&self, other: &Self) -> Option<Self>;
    /// The part of this range that is not in the other, in order.
    fn left_of(&self, other: &Self) -> Vec<Self>;
    /// Whether all of this one comes before the other.
    fn ends_before(&self, other: &Self) -> bool;
}

impl Ranged for IpRange {
    fn touches(&self, later: &Self) -> bool {
        self.family() == later.family()
            && (self.last() >= later.first() || after(self.last()) == Some(later.first()))
    }

    fn with(&self, later: &Self) -> Self {
        Self::new(self.first(), self.last().max(later.last())).unwrap_or(*self)
    }

    fn shared(&self, other: &Self) -> Option<Self> {
        self.intersection(other)
    }

    fn left_of(&self, other: &Self) -> Vec<Self> {
        self.without(other)
    }

    fn ends_before(&self, other: &Self) -> bool {
        self.last() < other.first()
    }
}

/// The address behind this one.
fn after(address: IpAddr) -> Option<IpAddr> {
    match address {
        IpAddr::V4(v4) => v4.to_bits().checked_add(1).map(|bits| Ipv4Addr::from_bits(bits).into()),
        IpAddr::V6(v6) => v6.to_bits().checked_add(1).map(|bits| Ipv6Addr::from_bits(bits).into()),
    }
}

impl Ranged for PortRange {
    fn touches(&self, later: &Self) -> bool {
        u32::from(later.first) <= u32::from(self.last) + 1
    }

    fn with(&self, later: &Self) -> Self {
        Self { first: self.first, last: self.last.max(later.last) }
    }

    fn shared(&self, other: &Self) -> Option<Self> {
        let (first, last) = (self.first.max(other.first), self.last.min(other.last));
        (first <= last).then_some(Self { first, last })
    }

    fn ends_before(&self, other: &Self) -> bool {
        self.last < other.first
    }

    fn left_of(&self, other: &Self) -> Vec<Self> {
        if self.shared(other).is_none() {
            return vec![*self];
        }
        let before = other.first.checked_sub(1).filter(|last| *last >= self.first);
        let behind = other.last.checked_add(1).filter(|first| *first <= self.last);
        let before = before.map(|last| Self { first: self.first, last });
        before.into_iter().chain(behind.map(|first| Self { first, last: self.last })).collect()
    }
}

/// Ranges in any order as ranges in order, apart from each other.
fn apart<T: Ranged + Ord>(mut all: Vec<T>) -> Vec<T> {
    all.sort_unstable();
    let mut kept: Vec<T> = Vec::with_capacity(all.len());
    for one in all {
        match kept.last_mut() {
            Some(known) if known.touches(&one) => *known = known.with(&one),
            _ => kept.push(one),
        }
    }
    kept
}

/// The ranges of a sorted, disjoint list that overlap a given one.
fn meeting<'a, T: Ranged>(all: &'a [T], one: &'a T) -> impl Iterator<Item = &'a T> {
    let first = all.partition_point(|known| known.ends_before(one));
    all[first..].iter().take_while(|known| !one.ends_before(known))
}

fn shared<T: Ranged + Ord>(a: &[T], b: &[T]) -> Vec<T> {
    let b = apart(b.to_vec());
    apart(a.iter().flat_map(|one| meeting(&b, one).filter_map(|other| one.shared(other))).collect())
}

/// The parts of ranges that are not in others: the pieces of each in order, in the order of the ranges.
fn left<T: Ranged + Ord>(all: &[T], gone: &[T]) -> Vec<T> {
    let gone = apart(gone.to_vec());
    let mut left = Vec::with_capacity(all.len());
    for range in all {
        let mut rest = Some(*range);
        for one in meeting(&gone, range) {
            // The part before it remains, and the part after it may overlap the next.
            let Some(piece) = rest.take() else { break };
            let mut pieces = piece.left_of(one);
            let goes_on = pieces.last().is_some_and(|last| !last.ends_before(one));
            rest = if goes_on { pieces.pop() } else { None };
            left.extend(pieces);
        }
        left.extend(rest);
    }
    left
}

/// The parts of addresses that are not in others, in the order of the addresses.
pub(crate) fn addresses_without(all: &[IpRange], gone: &[IpRange]) -> Vec<IpRange> {
    left(all, gone)
}

/// How many addresses ranges have together; those in several ranges are counted in each.
pub fn total_addresses(ranges: impl IntoIterator<Item = impl Borrow<IpRange>>) -> u128 {
    ranges.into_iter().fold(0, |sum, range| sum.saturating_add(range.borrow().size()))
}

/// How many ports ranges have together; those in several ranges are counted in each.
#[must_use]
pub fn total_ports(ranges: &[PortRange]) -> u32 {
    ranges.iter().map(|range| u32::from(range.last - range.first) + 1).sum()
}

macro_rules! set {
    ($(#[$doc:meta])* $name:ident of $range:ident) => {
        $(#[$doc])*
        #[derive(Clone, Default, PartialEq, Eq, PartialOrd, Ord)]
        pub struct $name(Vec<$range>);

        impl $name {
            /// The empty set.
            #[must_use]
            pub const fn new() -> Self {
                Self(Vec::new())
            }

            /// Everything that is in one of the two.
            #[must_use]
            pub fn union(&self, other: &[$range]) -> Self {
                self.0.iter().chain(other).copied().collect()
            }

            /// The common part of both.
            #[must_use]
            pub fn intersection(&self, other: &[$range]) -> Self {
                Self(shared(&self.0, other))
            }

            /// The part that is not in the other.
            #[must_use]
            pub fn without(&self, gone: &[$range]) -> Self {
                Self(left(&self.0, gone))
            }

            /// Whether all of another is in it.
            #[must_use]
            pub fn covers(&self, other: &[$range]) -> bool {
                left(other, &self.0).is_empty()
            }

            /// Its ranges.
            #[must_use]
            pub fn into_ranges(self) -> Vec<$range> {
                self.0
            }
        }

        impl fmt::Debug for $name {
            fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
                self.0.fmt(f)
            }
        }

        impl Deref for $name {
            type Target = [$range];

            fn deref(&self) -> &[$range] {
                &self.0
            }
        }

        impl From<Vec<$range>> for $name {
            fn from(all: Vec<$range>) -> Self {
                Self(apart(all))
            }
        }

        impl From<$range> for $name {
            fn from(one: $range) -> Self {
                Self(vec![one])
            }
        }

        impl FromIterator<$range> for $name {
            fn from_iter<I: IntoIterator<Item = $range>>(all: I) -> Self {
                Self(apart(all.into_iter().collect()))
            }
        }

        impl Extend<$range> for $name {
            fn extend<I: IntoIterator<Item = $range>>(&mut self, more: I) {
                let before = self.0.len();
                self.0.extend(more);
                if self.0.len() > before {
                    self.0 = apart(std::mem::take(&mut self.0));
                }
            }
        }

        impl<'a> Extend<&'a $range> for $name {
            fn extend<I: IntoIterator<Item = &'a $range>>(&mut self, more: I) {
                self.extend(more.into_iter().copied());
            }
        }

        impl IntoIterator for $name {
            type Item = $range;
            type IntoIter = std::vec::IntoIter<$range>;

            fn into_iter(self) -> Self::IntoIter {
                self.0.into_iter()
            }
        }

        impl<'a> IntoIterator for &'a $name {
            type Item = &'a $range;
            type IntoIter = std::slice::Iter<'a, $range>;

            fn into_iter(self) -> Self::IntoIter {
                self.0.iter()
            }
        }
    };
}

set! {
    /// A set of addresses of both IP versions, those of IPv4 first.
    IpRangeSet of IpRange
}

set! {
    /// A set of ports.
    PortSet of PortRange
}

/// Addresses allocated one range after the other, where the first range keeps an address. The cost of a range depends on its own size only.
#[derive(Debug, Clone, Default)]
pub struct Taken {
    /// Ranges apart from each other, by their first address.
    ranges: BTreeMap<IpAddr, IpRange>,
}

impl Taken {
    /// Its ranges that overlap another, in order.
    fn meeting(&self, range: &IpRange) -> Vec<IpRange> {
        let before = self.ranges.range(..range.first()).next_back().map(|(_, known)| *known);
        let within = self.ranges.range(range.first()..=range.last()).map(|(_, known)| *known);
        before.into_iter().filter(|known| known.last() >= range.first()).chain(within).collect()
    }

    /// The part of a range that is not covered yet, in order.
    #[must_use]
    pub fn left_of(&self, range: IpRange) -> Vec<IpRange> {
        left(&[range], &self.meeting(&range))
    }

    /// Takes a range; what of it was not taken before, in order.
    pub fn take(&mut self, range: IpRange) -> Vec<IpRange> {
        let known = self.meeting(&range);
        let new = left(&[range], &known);
        let mut whole = range;
        for one in &known {
            self.ranges.remove(&one.first());
            let (first, last) = (whole.first().min(one.first()), whole.last().max(one.last()));
            whole = IpRange::new(first, last).unwrap_or(whole);
        }
        self.ranges.insert(whole.first(), whole);
        new
    }
}

impl IpRangeSet {
    /// Whether an address is in it.
    #[must_use]
    pub fn contains(&self, address: IpAddr) -> bool {
        self.0.iter().any(|range| range.contains(address))
    }

    /// The part of an IP version.
    #[must_use]
    pub fn of_family(&self, family: Family) -> Self {
        Self(self.0.iter().filter(|range| range.family() == family).copied().collect())
    }
}

impl PortSet {
    /// Whether a port is in it.
    #[must_use]
    pub fn contains(&self, port: u16) -> bool {
        self.0.iter().any(|range| range.contains(port))
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;
    use std::collections::BTreeSet;

    /// A few small numbers as ports at the ends of their space and as addresses around the ends of theirs.
    fn port(number: u16) -> u16 {
        if number < 16 { number } else { u16::MAX - 31 + number }
    }

    fn address(number: u16) -> IpAddr {
        match number {
            0..8 => Ipv4Addr::from_bits(u32::from(number)).into(),
            8..16 => Ipv4Addr::from_bits(u32::MAX - 15 + u32::from(number)).into(),
            16..24 => Ipv6Addr::from_bits(u128::from(number) - 16).into(),
            _ => Ipv6Addr::from_bits(u128::MAX - 31 + u128::from(number)).into(),
        }
    }

    type Pairs = Vec<(u16, u16)>;

    fn pairs() -> impl Strategy<Value = Pairs> {
        prop::collection::vec((0_u16..32, 0_u16..32), 0..6)
            .prop_map(|all| all.into_iter().map(|(a, b)| (a.min(b), a.max(b))).collect())
    }

    fn ports(all: &Pairs) -> PortSet {
        all.iter().map(|(first, last)| PortRange { first: port(*first), last: port(*last) }).collect()
    }

    /// Ranges over both versions are none.
    fn addresses(all: &Pairs) -> IpRangeSet {
        all.iter().filter_map(|(first, last)| IpRange::new(address(*first), address(*last)).ok()).collect()
    }

    fn numbers(held: impl Fn(u16) -> bool) -> BTreeSet<u16> {
        (0..32).filter(|number| held(*number)).collect()
    }

    proptest! {
        #[test]
        fn sets_are_those_of_their_elements(a in pairs(), b in pairs()) {
            let (p, q) = (ports(&a), ports(&b));
            let of = |set: &PortSet| numbers(|number| set.contains(port(number)));
            let (x, y) = (of(&p), of(&q));
            prop_assert_eq!(of(&p.union(&q)), &x | &y);
            prop_assert_eq!(of(&p.intersection(&q)), &x & &y);
            prop_assert_eq!(of(&p.without(&q)), &x - &y);
            let (p, q) = (addresses(&a), addresses(&b));
            let of = |set: &IpRangeSet| numbers(|number| set.contains(address(number)));
            let (x, y) = (of(&p), of(&q));
            prop_assert_eq!(of(&p.union(&q)), &x | &y);
            prop_assert_eq!(of(&p.intersection(&q)), &x & &y);
            prop_assert_eq!(of(&p.without(&q)), &x - &y);
            // Between the low numbers and the high ones lies more, which the sample does not see.
            prop_assert_eq!(p.covers(&q), q.without(&p).is_empty());
            prop_assert!(p.union(&q).covers(&p) && p.covers(&p.intersection(&q)));
        }

        #[test]
        fn ranges_are_in_order_and_apart(a in pairs(), b in pairs()) {
            for set in [addresses(&a).union(&addresses(&b)), addresses(&a).without(&addresses(&b))] {
                for pair in set.windows(2) {
                    prop_assert!(pair[0] < pair[1] && pair[0].intersection(&pair[1]).is_none());
                }
                prop_assert_eq!(IpRangeSet::from(set.to_vec()), set);
            }
            let mut grown = ports(&a);
            grown.extend(ports(&b));
            prop_assert_eq!(grown, ports(&a).union(&ports(&b)));
        }
    }

    #[test]
    fn neighbours_are_one() {
        let range =
            |first: &str, last: &str| IpRange::new(first.parse().unwrap(), last.parse().unwrap()).unwrap();
        let set: IpRangeSet =
            [range("10.4.0.128", "10.4.0.255"), range("::", "::1"), range("10.4.0.0", "10.4.0.127")]
                .into_iter()
                .collect();
        assert_eq!(&*set, [range("10.4.0.0", "10.4.0.255"), range("::", "::1")]);
        let whole: IpRangeSet =
            [range("::", "::1"), range("0.0.0.0", "255.255.255.255")].into_iter().collect();
        assert_eq!(whole.len(), 2, "the last of one version is no neighbour of the first of the other");
        let ports: PortSet =
            [(5, 9), (0, 4), (11, 11)].map(|(first, last)| PortRange { first, last }).into_iter().collect();
        assert_eq!(&*ports, [(0, 9), (11, 11)].map(|(first, last)| PortRange { first, last }));
    }
}
