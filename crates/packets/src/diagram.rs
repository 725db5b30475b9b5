//! Exact sets over several ordered fields, as interval decision diagrams.
//!
//! A diagram evaluates one field after the other. At each it divides the whole domain into intervals, and an interval leads to the diagram
//! for the remaining fields. Neighbours with the same successor are one interval, a field without effect is left out, and no two nodes are
//! the same: so every set has one diagram, equality is the equality of two numbers, and emptiness needs no search.
//!
//! The number of nodes is bounded. A set that would need more is [`OverBudget`], reported as "not decided": a hostile rule list costs no
//! more memory than the budget.

#![allow(clippy::disallowed_types, reason = "these tables are looked up in and never gone through")]

use foldhash::fast::RandomState;
use hashbrown::HashTable;
use std::collections::HashMap;
use std::hash::BuildHasher;

/// More nodes were needed than were allowed.
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error)]
#[error("the set needs more than the limit of {0} nodes")]
pub struct OverBudget(pub usize);

/// A set, by its diagram in the [`Diagrams`] that made it. Two sets of one `Diagrams` are equal where these are.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct Set(u32);

/// The set without anything in it.
pub const EMPTY: Set = Set(0);
/// The set of everything.
pub const FULL: Set = Set(1);

/// A node: its field, and the successor of each interval of values. The intervals are in order, each by its last value; the last one ends
/// with the field's domain.
#[derive(Debug)]
struct Node {
    field: u8,
    edges: Box<[(u128, Set)]>,
}

/// Operations on two sets.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
enum Operation {
    Union,
    Intersection,
    Difference,
}

impl Operation {
    /// The result where one side or both decide it without looking further.
    fn decided(self, a: Set, b: Set) -> Option<Set> {
        match (self, a, b) {
            (Self::Union, FULL, _) | (Self::Union, _, FULL) => Some(FULL),
            (Self::Union, EMPTY, one) | (Self::Union, one, EMPTY) => Some(one),
            (Self::Intersection, EMPTY, _) | (Self::Intersection, _, EMPTY) => Some(EMPTY),
            (Self::Intersection, FULL, one) | (Self::Intersection, one, FULL) => Some(one),
            (Self::Difference, EMPTY, _) | (Self::Difference, _, FULL) => Some(EMPTY),
            (Self::Difference, one, EMPTY) => Some(one),
            (Self::Union | Self::Intersection, a, b) if a == b => Some(a),
            (Self::Difference, a, b) if a == b => Some(EMPTY),
            _ => None,
        }
    }
}

/// The diagrams of all sets over one list of fields.
///
/// ```
/// use trevlin_packets::diagram::{Diagrams, EMPTY};
///
/// // Two fields: an address of eight bits and a port of four.
/// let mut sets = Diagrams::new(&[255, 15], 10_000);
/// let inside = sets.with(0, &[(16, 31)]).unwrap();
/// let web = sets.with(1, &[(8, 8)]).unwrap();
/// let both = sets.intersection(inside, web).unwrap();
/// assert!(sets.contains(both, &[20, 8]) && !sets.contains(both, &[20, 9]));
/// assert_eq!(sets.difference(both, inside), Ok(EMPTY));
/// ```
#[derive(Debug)]
pub struct Diagrams {
    /// The greatest value of each field.
    greatest: Vec<u128>,
    nodes: Vec<Node>,
    /// Sets by what their nodes are.
    known: HashTable<Set>,
    hasher: RandomState,
    made: HashMap<(Operation, Set, Set), Set, RandomState>,
    budget: usize,
    /// Edges that were gone through, and how many may be.
    walked: usize,
    most_walked: usize,
}

impl Diagrams {
    /// An empty store, over fields whose values go from 0 to these, in order of evaluation. At most `budget` nodes are created.
    #[must_use]
    pub fn new(greatest: &[u128], budget: usize) -> Self {
        let end =
            |field: usize| Node { field: u8::try_from(field).unwrap_or(u8::MAX), edges: Box::default() };
        Self {
            greatest: greatest.to_vec(),
            // The two ends have no edges; their field stands behind all others.
            nodes: vec![end(greatest.len()), end(greatest.len())],
            known: HashTable::new(),
            hasher: RandomState::default(),
            made: HashMap::default(),
            budget,
            walked: 0,
            most_walked: usize::MAX,
        }
    }

    /// The same, with a limit on the number of edges visited: nodes with many edges take longer.
    #[must_use]
    pub(crate) fn walking(self, most_walked: usize) -> Self {
        Self { most_walked, ..self }
    }

    /// How many edges were gone through.
    pub(crate) fn walked(&self) -> usize {
        self.walked
    }

    /// How many nodes there are.
    #[must_use]
    pub fn len(&self) -> usize {
        self.nodes.len()
    }

    /// Whether nothing was made yet.
    #[must_use]
    pub fn is_empty(&self) -> bool {
        self.nodes.len() == 2
    }

    fn field(&self, set: Set) -> u8 {
        self.nodes[set.0 as usize].field
    }

    /// The node with these edges, in its one form.
    fn node(&mut self, field: u8, mut edges: Vec<(u128, Set)>) -> Result<Set, OverBudget> {
        edges.dedup_by(|after, before| {
            let alike = before.1 == after.1;
            if alike {
                before.0 = after.0;
            }
            alike
        });
        // A field without effect is not evaluated.
        if let [(_, only)] = edges.as_slice() {
            return Ok(*only);
        }
        let hash = self.hasher.hash_one((field, edges.as_slice()));
        let nodes = &self.nodes;
        let same = |set: &Set| {
            let node = &nodes[set.0 as usize];
            node.field == field && *node.edges == *edges
        };
        if let Some(known) = self.known.find(hash, same) {
            return Ok(*known);
        }
        let number = u32::try_from(self.nodes.len()).ok().filter(|_| self.nodes.len() < self.budget);
        let set = Set(number.ok_or(OverBudget(self.budget))?);
        self.nodes.push(Node { field, edges: edges.into() });
        let (nodes, hasher) = (&self.nodes, &self.hasher);
        self.known.insert_unique(hash, set, |set| {
            let node = &nodes[set.0 as usize];
            hasher.hash_one((node.field, &*node.edges))
        });
        Ok(set)
    }

    /// All packets with a value of a field in one of these ranges, both ends included. They may be in any order and overlap; values outside
    /// the field's domain are ignored.
    ///
    /// # Errors
    /// When the budget is used up.
    pub fn with(&mut self, field: usize, ranges: &[(u128, u128)]) -> Result<Set, OverBudget> {
        let greatest = self.greatest[field];
        let mut sorted: Vec<(u128, u128)> =
            ranges.iter().filter(|(first, last)| first <= last && *first <= greatest).copied().collect();
        sorted.sort_unstable();
        let mut edges: Vec<(u128, Set)> = Vec::new();
        let mut next = 0;
        let mut ended = false;
        for (first, last) in sorted {
            let last = last.min(greatest);
            if ended || last < next {
                continue;
            }
            if first > next {
                edges.push((first - 1, EMPTY));
            }
            edges.push((last, FULL));
            match last.checked_add(1) {
                Some(after) if last < greatest => next = after,
                _ => ended = true,
            }
        }
        if !ended {
            edges.push((greatest, EMPTY));
        }
        self.node(u8::try_from(field).unwrap_or(u8::MAX), edges)
    }

    /// All packets with a value of a field in one of these ranges which are in a set that depends on later fields only. The ranges are
    /// sorted and disjoint.
    ///
    /// # Errors
    /// When the budget is used up.
    pub(crate) fn under(
        &mut self,
        field: usize,
        ranges: &[(u128, u128)],
        set: Set,
    ) -> Result<Set, OverBudget> {
        let greatest = self.greatest[field];
        let mut edges: Vec<(u128, Set)> = Vec::with_capacity(2 * ranges.len() + 1);
        let mut next = Some(0);
        for (first, last) in ranges.iter().filter(|(first, _)| *first <= greatest) {
            if next.is_some_and(|next| next < *first) {
                edges.push((first - 1, EMPTY));
            }
            edges.push(((*last).min(greatest), set));
            next = last.checked_add(1);
        }
        if next.is_some_and(|next| next <= greatest) {
            edges.push((greatest, EMPTY));
        }
        self.node(u8::try_from(field).unwrap_or(u8::MAX), edges)
    }

    /// The union.
    ///
    /// # Errors
    /// When the budget is used up.
    pub fn union(&mut self, a: Set, b: Set) -> Result<Set, OverBudget> {
        // One order for both, so that each pair is computed once.
        self.apply(Operation::Union, a.min(b), a.max(b))
    }

    /// The intersection.
    ///
    /// # Errors
    /// When the budget is used up.
    pub fn intersection(&mut self, a: Set, b: Set) -> Result<Set, OverBudget> {
        self.apply(Operation::Intersection, a.min(b), a.max(b))
    }

    /// The first without the second.
    ///
    /// # Errors
    /// When the budget is used up.
    pub fn difference(&mut self, a: Set, b: Set) -> Result<Set, OverBudget> {
        self.apply(Operation::Difference, a, b)
    }

    /// The complement.
    ///
    /// # Errors
    /// When the budget is used up.
    pub fn complement(&mut self, a: Set) -> Result<Set, OverBudget> {
        self.difference(FULL, a)
    }

    /// As deep as there are fields.
    fn apply(&mut self, operation: Operation, a: Set, b: Set) -> Result<Set, OverBudget> {
        if let Some(decided) = operation.decided(a, b) {
            return Ok(decided);
        }
        if let Some(made) = self.made.get(&(operation, a, b)) {
            return Ok(*made);
        }
        let field = self.field(a).min(self.field(b));
        let both = self.edges(a, field) + self.edges(b, field);
        self.walked = self.walked.saturating_add(both);
        if self.walked > self.most_walked {
            return Err(OverBudget(self.budget));
        }
        let mut edges = Vec::with_capacity(both);
        let (mut left, mut right) = (0, 0);
        // Both cover the whole domain, so they end together.
        while let (Some((last, one)), Some((other_last, other))) =
            (self.edge(a, field, left), self.edge(b, field, right))
        {
            let to = self.apply(operation, one, other)?;
            edges.push((last.min(other_last), to));
            left += usize::from(last <= other_last);
            right += usize::from(other_last <= last);
        }
        let set = self.node(field, edges)?;
        // The cache is an optimisation, and not worth more entries than nodes.
        if self.made.len() < self.budget {
            self.made.insert((operation, a, b), set);
        }
        Ok(set)
    }

    /// Number of edges of a set for a field; one where it does not depend on the field.
    fn edges(&self, set: Set, field: u8) -> usize {
        let node = &self.nodes[set.0 as usize];
        if node.field == field { node.edges.len() } else { 1 }
    }

    /// One of those edges.
    fn edge(&self, set: Set, field: u8, at: usize) -> Option<(u128, Set)> {
        let node = &self.nodes[set.0 as usize];
        if node.field == field {
            node.edges.get(at).copied()
        } else {
            (at == 0).then(|| (self.greatest[usize::from(field)], set))
        }
    }

    /// Whether a point, with a value for each field, is in a set.
    #[must_use]
    pub fn contains(&self, set: Set, point: &[u128]) -> bool {
        let mut at = set;
        while at != EMPTY && at != FULL {
            let node = &self.nodes[at.0 as usize];
            let value = point[usize::from(node.field)];
            let edge = node.edges.partition_point(|(last, _)| *last < value);
            match node.edges.get(edge) {
                Some((_, to)) => at = *to,
                None => return false,
            }
        }
        at == FULL
    }

    /// A point of a set, the least one field by field; `None` for the empty set.
    #[must_use]
    pub fn witness(&self, set: Set) -> Option<Vec<u128>> {
        if set == EMPTY {
            return None;
        }
        let mut point = vec![0; self.greatest.len()];
        let mut at = set;
        while at != FULL {
            let node = &self.nodes[at.0 as usize];
            // Every node but the empty one leads to something.
            let edge = node.edges.iter().position(|(_, to)| *to != EMPTY)?;
            point[usize::from(node.field)] = if edge == 0 { 0 } else { node.edges[edge - 1].0 + 1 };
            at = node.edges[edge].1;
        }
        Some(point)
    }

    /// How many points a set has, as a power of two; `None` for the empty set. Rounded as floating-point numbers are.
    #[must_use]
    pub fn log2_size(&self, set: Set) -> Option<f64> {
        let mut known: HashMap<Set, f64, RandomState> = HashMap::default();
        let size = self.share(set, &mut known);
        // The share of everything, times everything.
        let all: f64 = self.greatest.iter().map(|greatest| (*greatest as f64 + 1.0).log2()).sum();
        (size > 0.0).then(|| size.log2() + all)
    }

    /// Which part of everything a set is.
    fn share(&self, set: Set, known: &mut HashMap<Set, f64, RandomState>) -> f64 {
        match set {
            EMPTY => return 0.0,
            FULL => return 1.0,
            _ => {}
        }
        if let Some(found) = known.get(&set) {
            return *found;
        }
        let node = &self.nodes[set.0 as usize];
        let whole = self.greatest[usize::from(node.field)] as f64 + 1.0;
        let mut sum = 0.0;
        let mut first = 0u128;
        for (last, to) in &node.edges {
            sum += ((last - first) as f64 + 1.0) / whole * self.share(*to, known);
            first = last.saturating_add(1);
        }
        known.insert(set, sum);
        sum
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    /// Three small fields, so that every point can be tried.
    const GREATEST: [u128; 3] = [6, 4, 5];

    fn points() -> impl Iterator<Item = [u128; 3]> {
        (0..=GREATEST[0])
            .flat_map(|a| (0..=GREATEST[1]).flat_map(move |b| (0..=GREATEST[2]).map(move |c| [a, b, c])))
    }

    /// A box: a range of each field.
    type Boxed = [(u128, u128); 3];

    fn boxed() -> impl Strategy<Value = Boxed> {
        let range = |greatest: u128| (0..=greatest, 0..=greatest).prop_map(|(a, b)| (a.min(b), a.max(b)));
        [range(GREATEST[0]).boxed(), range(GREATEST[1]).boxed(), range(GREATEST[2]).boxed()]
    }

    fn of(sets: &mut Diagrams, boxes: &[Boxed]) -> Set {
        let mut all = EMPTY;
        for one in boxes {
            let mut set = FULL;
            for (field, range) in one.iter().enumerate() {
                let with = sets.with(field, &[*range]).unwrap();
                set = sets.intersection(set, with).unwrap();
            }
            all = sets.union(all, set).unwrap();
        }
        all
    }

    fn holds(boxes: &[Boxed], point: &[u128; 3]) -> bool {
        let inside =
            |one: &Boxed| one.iter().zip(point).all(|((first, last), value)| first <= value && value <= last);
        boxes.iter().any(inside)
    }

    proptest! {
        #[test]
        fn every_operation_is_that_of_the_points(
            ours in prop::collection::vec(boxed(), 0..7),
            theirs in prop::collection::vec(boxed(), 0..7),
        ) {
            let mut sets = Diagrams::new(&GREATEST, 100_000);
            let (a, b) = (of(&mut sets, &ours), of(&mut sets, &theirs));
            let union = sets.union(a, b).unwrap();
            let both = sets.intersection(a, b).unwrap();
            let without = sets.difference(a, b).unwrap();
            let other = sets.complement(a).unwrap();
            let mut count = 0u32;
            for point in points() {
                let (one, two) = (holds(&ours, &point), holds(&theirs, &point));
                prop_assert_eq!(sets.contains(a, &point), one);
                prop_assert_eq!(sets.contains(union, &point), one || two);
                prop_assert_eq!(sets.contains(both, &point), one && two);
                prop_assert_eq!(sets.contains(without, &point), one && !two);
                prop_assert_eq!(sets.contains(other, &point), !one);
                count += u32::from(one);
            }
            // One set has one form, whatever it was made from.
            let mut turned = ours.clone();
            turned.reverse();
            prop_assert_eq!(of(&mut sets, &turned), a);
            let back = sets.complement(other).unwrap();
            prop_assert_eq!(back, a);
            let parts = sets.union(without, both).unwrap();
            prop_assert_eq!(parts, a);
            // Emptiness, a witness, and the size.
            prop_assert_eq!(a == EMPTY, count == 0);
            match sets.witness(a) {
                Some(point) => prop_assert!(sets.contains(a, &point)),
                None => prop_assert_eq!(count, 0),
            }
            if let Some(size) = sets.log2_size(a) {
                prop_assert!((size - f64::from(count).log2()).abs() < 1e-9, "{} {}", size, count);
            }
        }
    }

    #[test]
    fn ranges_in_any_order() {
        let mut sets = Diagrams::new(&[u128::MAX, 15], 100);
        for (ranges, inside, outside) in [
            (&[(5, 9), (1, 2), (8, 12)][..], &[1, 5, 9, 12][..], &[0, 3, 13, u128::MAX][..]),
            (&[(0, u128::MAX)], &[0, u128::MAX], &[]),
            (&[(7, u128::MAX)], &[7, u128::MAX], &[6]),
            (&[(9, 3)], &[], &[3, 9]),
            (&[], &[], &[0, u128::MAX]),
        ] {
            let set = sets.with(0, ranges).unwrap();
            assert!(inside.iter().all(|value| sets.contains(set, &[*value, 3])), "{ranges:?}");
            assert!(outside.iter().all(|value| !sets.contains(set, &[*value, 3])), "{ranges:?}");
        }
        assert_eq!(sets.with(1, &[(20, 30)]), Ok(EMPTY));
        assert_eq!(sets.with(1, &[(0, 30)]), Ok(FULL));
    }

    #[test]
    fn a_budget_is_kept() {
        let mut sets = Diagrams::new(&[255, 255], 40);
        let mut all = Ok(EMPTY);
        for value in 0..200 {
            all = all.and_then(|all| {
                let (one, two) = (sets.with(0, &[(value, value)])?, sets.with(1, &[(value, value)])?);
                let both = sets.intersection(one, two)?;
                sets.union(all, both)
            });
        }
        assert_eq!(all, Err(OverBudget(40)));
        assert!(sets.len() <= 40 && !sets.is_empty());
        // Earlier results remain valid.
        let known = sets.with(0, &[(0, 0)]).unwrap();
        assert!(sets.contains(known, &[0, 9]));
    }
}
