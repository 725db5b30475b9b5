//! Sets of packets as unions of cubes: for each field that is restricted, the ranges its value may lie in.
//!
//! Rules are cubes, or few of them, so cubes are cheap where rules are compared with each other. The remainder after many rules is not, and
//! is kept as a [diagram](crate::diagram).

use crate::diagram::{Diagrams, EMPTY, FULL, OverBudget, Set};
use std::sync::Arc;

/// A value of a field, or an address of either IP version, as a number.
pub type Value = u128;

/// Ranges of values, both ends included, in order and apart from each other.
pub type Ranges = Arc<[(Value, Value)]>;

/// Fields of a packet, in the order in which diagrams evaluate them.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash)]
#[repr(u8)]
pub enum Field {
    /// Entering interface, by its number in the [`Space`](crate::Space).
    Entering,
    /// Leaving interface.
    Leaving,
    /// Transport protocol.
    Protocol,
    /// Destination address.
    Destination,
    /// Source address.
    Source,
    /// Destination port.
    DestinationPort,
    /// Source port.
    SourcePort,
    /// ICMP type and code: type in the upper eight bits.
    Icmp,
    /// TCP flags, FIN in bit 0 up to URG in bit 5.
    TcpFlags,
    /// Connection state: see [`state`].
    State,
    /// Whether the source of the connection is translated.
    SourceTranslated,
    /// Whether the destination of the connection is translated.
    DestinationTranslated,
    /// Whether the packet goes against the direction in which its connection was opened.
    Reply,
    /// Destination address before translation.
    OriginalDestination,
    /// Destination port before translation.
    OriginalDestinationPort,
    /// Whether it came out of IPsec.
    IpsecIn,
    /// Whether it will go into IPsec.
    IpsecOut,
    /// User who owns the socket; [`NOBODY`] where there is none.
    User,
    /// Group that owns the socket; [`NOBODY`] where there is none.
    Group,
}

/// How many fields there are.
pub const FIELDS: usize = 19;

/// Owner of a packet that is not from the device itself.
pub const NOBODY: Value = 1 << 32;

/// Values of [`Field::State`].
pub mod state {
    use super::Value;

    /// First packet of a connection.
    pub const NEW: Value = 0;
    /// Part of a known connection.
    pub const ESTABLISHED: Value = 1;
    /// Opened by a known connection.
    pub const RELATED: Value = 2;
    /// Part of no connection.
    pub const INVALID: Value = 3;
    /// Exempt from tracking.
    pub const UNTRACKED: Value = 4;
}

/// One packet, a value for each field.
pub type Point = [Value; FIELDS];

/// Ranges put in order and joined where they touch.
#[must_use]
pub fn ranges(mut all: Vec<(Value, Value)>) -> Ranges {
    if all.len() > 1 {
        all.sort_unstable();
        let mut joined: Vec<(Value, Value)> = Vec::with_capacity(all.len());
        for (first, last) in all {
            match joined.last_mut() {
                Some(before) if first <= before.1.saturating_add(1) => before.1 = before.1.max(last),
                _ => joined.push((first, last)),
            }
        }
        all = joined;
    }
    all.into()
}

/// Everything from 0 to the greatest value that is in none of the ranges.
#[must_use]
pub fn other_ranges(all: &Ranges, greatest: Value) -> Ranges {
    let mut rest = Vec::with_capacity(all.len() + 1);
    let mut next = Some(0);
    for (first, last) in all.iter() {
        if let Some(next) = next
            && next < *first
        {
            rest.push((next, *first - 1));
        }
        next = last.checked_add(1);
    }
    if let Some(next) = next
        && next <= greatest
    {
        rest.push((next, greatest));
    }
    rest.into()
}

/// The common part of two lists of ranges.
#[must_use]
pub fn common(a: &Ranges, b: &Ranges) -> Ranges {
    if let ([one], [other]) = (&**a, &**b) {
        let (first, last) = (one.0.max(other.0), one.1.min(other.1));
        // A range that lies in the other is that range: no need for another copy.
        return match (first, last) {
            _ if first > last => Arc::from([]),
            both if both == *one => a.clone(),
            both if both == *other => b.clone(),
            both => Arc::from([both]),
        };
    }
    let mut shared = Vec::new();
    let (mut left, mut right) = (0, 0);
    while let (Some(one), Some(other)) = (a.get(left), b.get(right)) {
        let (first, last) = (one.0.max(other.0), one.1.min(other.1));
        if first <= last {
            shared.push((first, last));
        }
        if one.1 <= other.1 { left += 1 } else { right += 1 }
    }
    shared.into()
}

/// Whether two lists of ranges share a value.
pub(crate) fn have_common(a: &Ranges, b: &Ranges) -> bool {
    let (mut left, mut right) = (0, 0);
    while let (Some(one), Some(other)) = (a.get(left), b.get(right)) {
        if one.0.max(other.0) <= one.1.min(other.1) {
            return true;
        }
        if one.1 <= other.1 { left += 1 } else { right += 1 }
    }
    false
}

fn within(inner: &Ranges, outer: &Ranges) -> bool {
    inner.iter().all(|(first, last)| {
        let at = outer.partition_point(|range| range.1 < *first);
        outer.get(at).is_some_and(|range| range.0 <= *first && *last <= range.1)
    })
}

/// Whether one of the ranges contains a value.
#[must_use]
pub fn holds(all: &Ranges, value: Value) -> bool {
    let at = all.partition_point(|range| range.1 < value);
    all.get(at).is_some_and(|range| range.0 <= value)
}

/// The packets whose restricted fields all lie in their ranges. Never empty: what would be is not made.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct Cube {
    /// By field, in order.
    sides: Vec<(Field, Ranges)>,
}

impl Cube {
    /// Every packet.
    #[must_use]
    pub fn all() -> Self {
        Self::default()
    }

    /// The packets with a value of one field in the ranges; `None` where there are no ranges.
    #[must_use]
    pub fn of(field: Field, ranges: Ranges) -> Option<Self> {
        (!ranges.is_empty()).then(|| Self { sides: vec![(field, ranges)] })
    }

    /// The fields that are restricted, with their ranges.
    pub fn sides(&self) -> impl Iterator<Item = (Field, &Ranges)> {
        self.sides.iter().map(|(field, ranges)| (*field, ranges))
    }

    /// The ranges of a field, where it is restricted.
    #[must_use]
    pub fn side(&self, field: Field) -> Option<&Ranges> {
        self.sides.iter().find(|(one, _)| *one == field).map(|(_, ranges)| ranges)
    }

    /// The common part of two cubes.
    #[must_use]
    pub fn and(&self, other: &Self) -> Option<Self> {
        let mut sides = Vec::with_capacity(self.sides.len() + other.sides.len());
        let (mut left, mut right) = (self.sides.iter().peekable(), other.sides.iter().peekable());
        loop {
            let side = match (left.peek(), right.peek()) {
                (Some(a), Some(b)) if a.0 == b.0 => {
                    let shared = common(&a.1, &b.1);
                    if shared.is_empty() {
                        return None;
                    }
                    let side = (a.0, shared);
                    left.next();
                    right.next();
                    side
                }
                (Some(a), Some(b)) if a.0 < b.0 => left.next()?.clone(),
                (Some(_), None) => left.next()?.clone(),
                (_, Some(_)) => right.next()?.clone(),
                (None, None) => return Some(Self { sides }),
            };
            sides.push(side);
        }
    }

    /// Whether two cubes share a packet.
    #[must_use]
    pub fn meets(&self, other: &Self) -> bool {
        let mut theirs = other.sides.iter().peekable();
        for (field, ours) in &self.sides {
            while theirs.next_if(|(one, _)| one < field).is_some() {}
            if let Some((_, ranges)) = theirs.next_if(|(one, _)| one == field)
                && !have_common(ours, ranges)
            {
                return false;
            }
        }
        true
    }

    /// Whether every packet of another cube is in this one.
    #[must_use]
    pub fn covers(&self, other: &Self) -> bool {
        self.sides.iter().all(|(field, ours)| other.side(*field).is_some_and(|theirs| within(theirs, ours)))
    }

    /// Whether a packet is in it.
    #[must_use]
    pub fn contains(&self, point: &Point) -> bool {
        self.sides.iter().all(|(field, ranges)| holds(ranges, point[*field as usize]))
    }

    /// The cube as a diagram.
    ///
    /// # Errors
    /// When the budget is used up.
    pub fn diagram(&self, sets: &mut Diagrams) -> Result<Set, OverBudget> {
        let mut set = FULL;
        // From the last field to the first, each leads to what is already made.
        for (field, ranges) in self.sides.iter().rev() {
            set = sets.under(*field as usize, ranges, set)?;
        }
        Ok(set)
    }
}

/// A union of cubes.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Region {
    /// The cubes; they may share packets.
    pub cubes: Vec<Cube>,
    /// Whether it is exactly these packets. Otherwise it is some of them: a condition is not analysed.
    pub exact: bool,
}

/// With how many cubes a region is still worked with.
const MOST_CUBES: usize = 4096;

impl Region {
    /// Every packet.
    #[must_use]
    pub fn all() -> Self {
        Self { cubes: vec![Cube::all()], exact: true }
    }

    /// No packet.
    #[must_use]
    pub fn nothing() -> Self {
        Self { cubes: Vec::new(), exact: true }
    }

    /// Whether there is no packet in it.
    #[must_use]
    pub fn is_empty(&self) -> bool {
        self.cubes.is_empty()
    }

    /// The common part of two regions. With too many cubes it is a part of the first.
    #[must_use]
    pub fn and(&self, other: &Self) -> Self {
        if self.cubes.len() * other.cubes.len() > MOST_CUBES {
            return Self { cubes: self.cubes.clone(), exact: false };
        }
        let cubes = self.cubes.iter().flat_map(|a| other.cubes.iter().filter_map(|b| a.and(b))).collect();
        Self { cubes, exact: self.exact && other.exact }
    }

    /// Whether they share a packet.
    #[must_use]
    pub fn meets(&self, cube: &Cube) -> bool {
        self.cubes.iter().any(|one| one.meets(cube))
    }

    /// Whether a packet is in one of the cubes.
    #[must_use]
    pub fn contains(&self, point: &Point) -> bool {
        self.cubes.iter().any(|cube| cube.contains(point))
    }

    /// The region as a diagram.
    ///
    /// # Errors
    /// When the budget is used up.
    pub fn diagram(&self, sets: &mut Diagrams) -> Result<Set, OverBudget> {
        let mut all = EMPTY;
        for cube in &self.cubes {
            let one = cube.diagram(sets)?;
            all = sets.union(all, one)?;
        }
        Ok(all)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn some_ranges() -> impl Strategy<Value = Ranges> {
        prop::collection::vec((0u128..20, 0u128..20), 0..4)
            .prop_map(|all| ranges(all.into_iter().map(|(a, b)| (a.min(b), a.max(b))).collect()))
    }

    fn cube() -> impl Strategy<Value = Option<Cube>> {
        let side = |field| {
            (any::<bool>(), some_ranges())
                .prop_map(move |(any, ranges)| if any { Some(Cube::all()) } else { Cube::of(field, ranges) })
        };
        (side(Field::Entering), side(Field::Destination), side(Field::State))
            .prop_map(|(a, b, c)| a?.and(&b?)?.and(&c?))
    }

    fn points() -> impl Iterator<Item = Point> {
        (0..21u128).flat_map(|a| {
            (0..21u128).flat_map(move |b| {
                (0..21u128).map(move |c| {
                    let mut point = [0; FIELDS];
                    (point[0], point[3], point[9]) = (a, b, c);
                    point
                })
            })
        })
    }

    proptest! {
        #![proptest_config(ProptestConfig::with_cases(64))]

        #[test]
        fn cubes_are_what_their_packets_are(a in cube(), b in cube()) {
            let inside = |cube: &Option<Cube>, point: &Point| cube.as_ref().is_some_and(|one| one.contains(point));
            let both = a.as_ref().zip(b.as_ref()).and_then(|(a, b)| a.and(b));
            let (mut meet, mut cover) = (false, true);
            for point in points() {
                let (one, two) = (inside(&a, &point), inside(&b, &point));
                prop_assert_eq!(inside(&both, &point), one && two);
                meet |= one && two;
                cover &= one || !two;
            }
            if let (Some(a), Some(b)) = (&a, &b) {
                prop_assert_eq!(a.meets(b), meet);
                // Values beyond those tried here are in no range, but in a field that is not restricted.
                prop_assert!(!a.covers(b) || cover);
            }
        }

        #[test]
        fn other_ranges_are_the_others(all in some_ranges()) {
            let others = other_ranges(&all, 25);
            for value in 0..=25 {
                prop_assert_ne!(holds(&all, value), holds(&others, value));
            }
            prop_assert_eq!(other_ranges(&others, 25), all);
        }
    }
}
