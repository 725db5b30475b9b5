//! Coarse outlines of cubes, by which most disjoint cubes are recognised quickly.
//!
//! The values of a field are cut into as many spans as a number has bits, so that about as many ranges begin in each; a sketch
//! has the bits of the spans that a cube reaches into. Cubes whose sketches share no bit in some field share no packet.

use crate::cube::{Cube, Field, Point, Region, Value};
use crate::program::Step;

/// The fields that distinguish most rules.
const SKETCHED: [Field; 3] = [Field::Destination, Field::Source, Field::DestinationPort];

/// Into how many spans a field is cut.
pub(crate) const SPANS: usize = u128::BITS as usize;

/// For each sketched field, a bit for each span that is reached into.
#[derive(Debug, Clone, Copy)]
pub(crate) struct CubeSignature(pub(crate) [u128; SKETCHED.len()]);

impl CubeSignature {
    /// Whether the cubes of two signatures may overlap. If not, they certainly do not.
    #[inline]
    pub(crate) fn may_meet(&self, other: &Self) -> bool {
        let ([a, b, c], [d, e, f]) = (self.0, other.0);
        a & d != 0 && b & e != 0 && c & f != 0
    }

    /// The first spans of destinations and of sources that both have, where they may overlap.
    #[inline]
    pub(crate) fn first_shared(&self, other: &Self) -> Option<(usize, usize)> {
        let ([a, b, _], [d, e, _]) = (self.0, other.0);
        self.may_meet(other).then(|| ((a & d).trailing_zeros() as usize, (b & e).trailing_zeros() as usize))
    }
}

/// Where the spans of each sketched field begin, but the first; in order.
#[derive(Debug)]
pub(crate) struct Cuts([Vec<Value>; SKETCHED.len()]);

impl Cuts {
    /// Cuts that part what these steps hold for.
    pub(crate) fn of(steps: &[Step]) -> Self {
        Self(SKETCHED.map(|field| {
            let cubes = steps.iter().flat_map(|step| &step.region.cubes);
            let sides = cubes.filter_map(|cube| cube.side(field)).flat_map(|side| side.iter());
            let mut begins: Vec<Value> = sides.map(|(first, _)| *first).collect();
            begins.sort_unstable();
            let mut cuts: Vec<Value> =
                (1..SPANS).filter_map(|at| begins.get(at * begins.len() / SPANS).copied()).collect();
            cuts.dedup();
            cuts
        }))
    }

    /// The sketch of a cube.
    pub(crate) fn cube(&self, cube: &Cube) -> CubeSignature {
        self.signature(|field, cuts| match cube.side(field) {
            None => u128::MAX,
            Some(side) => side.iter().fold(0, |bits, (first, last)| bits | spans(cuts, *first, *last)),
        })
    }

    /// The sketch of one packet.
    pub(crate) fn point(&self, point: &Point) -> CubeSignature {
        self.signature(|field, cuts| {
            let value = point[field as usize];
            spans(cuts, value, value)
        })
    }

    fn signature(&self, bits: impl Fn(Field, &[Value]) -> u128) -> CubeSignature {
        CubeSignature(std::array::from_fn(|at| bits(SKETCHED[at], &self.0[at])))
    }

    /// The signature of all cubes of a region together.
    pub(crate) fn region(&self, region: &Region) -> CubeSignature {
        let mut all = CubeSignature([0; SKETCHED.len()]);
        for cube in &region.cubes {
            all.0.iter_mut().zip(self.cube(cube).0).for_each(|(all, one)| *all |= one);
        }
        all
    }
}

/// The bits of the spans that a range reaches into.
fn spans(cuts: &[Value], first: Value, last: Value) -> u128 {
    let span = |value: Value| cuts.partition_point(|cut| *cut <= value);
    u128::MAX << span(first) & u128::MAX >> (SPANS - 1 - span(last))
}
