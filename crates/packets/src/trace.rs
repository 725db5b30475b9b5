//! Dependencies of one packet's path: the other packets for which every decision would have been the same.
//!
//! A packet is followed, and each evaluated condition and selected route narrows the ranges of the sent values. The result is a box of
//! packets with the same path. By continuing with a packet out of all boxes until none is left, whole sets are followed exactly by the code
//! that follows one packet.

use crate::cube::{Field, Point, Ranges, Value, common, holds, other_ranges, ranges};
use crate::space::{Holds, Space, needs_connection, ports};
use std::cell::RefCell;
use trevlin_model::{Match, MatchKind};

/// Where a value of a packet is from.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Of {
    /// Constant, independent of the sent values.
    Fixed,
    /// A value of the packet as it was sent, with this added (and wrapped around).
    Sent(Field, Value),
}

/// Fields of the packet as sent that may vary.
pub(crate) const SENT: [Field; 4] =
    [Field::Destination, Field::Source, Field::DestinationPort, Field::SourcePort];

/// The box so far, by the fields of [`SENT`]. Exclusions are collected and subtracted at the end, since every rule of a long list adds one.
#[derive(Debug)]
pub(crate) struct Trace {
    within: RefCell<[Ranges; SENT.len()]>,
    without: RefCell<[Vec<(Value, Value)>; SENT.len()]>,
}

impl Trace {
    /// A box of packets to begin with.
    pub(crate) fn within(sides: [Ranges; SENT.len()]) -> Self {
        Self { within: RefCell::new(sides), without: RefCell::default() }
    }

    /// The remaining ranges.
    pub(crate) fn sides(&self) -> [Ranges; SENT.len()] {
        let mut sides = self.within.borrow().clone();
        for (side, without) in sides.iter_mut().zip(self.without.borrow().iter()) {
            if !without.is_empty() {
                *side = common(side, &other_ranges(&ranges(without.clone()), Value::MAX));
            }
        }
        sides
    }

    /// Only packets whose value of the same derivation is in these ranges.
    pub(crate) fn narrow(&self, of: Of, to: &Ranges) {
        let Some((at, shift)) = place(of) else { return };
        let mut sides = self.within.borrow_mut();
        let side = &mut sides[at];
        *side = if shift == 0 { common(side, to) } else { common(side, &shifted_back(side, shift, to)) };
    }

    /// Only packets whose value of the same derivation is in none of these ranges.
    pub(crate) fn leave_out(&self, of: Of, held: &Ranges) {
        let Some((at, shift)) = place(of) else { return };
        let mut without = self.without.borrow_mut();
        if shift == 0 {
            without[at].extend_from_slice(held);
        } else {
            without[at].extend_from_slice(&shifted_back(&self.within.borrow()[at], shift, held));
        }
    }
}

/// The number of the sent field of a value, and the added offset.
fn place(of: Of) -> Option<(usize, Value)> {
    let Of::Sent(field, shift) = of else { return None };
    Some((SENT.iter().position(|one| *one == field)?, shift))
}

/// The sent values that are translated to these ranges. The shifted values lie in one block that does not wrap.
fn shifted_back(side: &Ranges, shift: Value, to: &Ranges) -> Ranges {
    let (Some(first), Some(last)) = (side.first(), side.last()) else { return side.clone() };
    let (low, high) = (first.0.wrapping_add(shift), last.1.wrapping_add(shift));
    let clipped = to.iter().map(|(first, last)| (*first.max(&low), *last.min(&high)));
    ranges(
        clipped
            .filter(|(first, last)| first <= last)
            .map(|(first, last)| (first.wrapping_sub(shift), last.wrapping_sub(shift)))
            .collect(),
    )
}

/// Whether two values are the same, and for which packets that is so.
pub(crate) fn same(trace: Option<&Trace>, (one, of): (Value, Of), (other, other_of): (Value, Of)) -> bool {
    let same = one == other;
    let Some(trace) = trace.filter(|_| of != other_of) else { return same };
    let only = |value| ranges(vec![(value, value)]);
    match (of, other_of) {
        (Of::Sent(..), Of::Fixed) if same => trace.narrow(of, &only(other)),
        (Of::Fixed, Of::Sent(..)) if same => trace.narrow(other_of, &only(one)),
        (Of::Sent(..), Of::Fixed) => trace.narrow(of, &other_ranges(&only(other), Value::MAX)),
        (Of::Fixed, Of::Sent(..)) => trace.narrow(other_of, &other_ranges(&only(one), Value::MAX)),
        // Both vary, each by itself: nothing but this very packet is known.
        _ => {
            trace.narrow(of, &only(one));
            trace.narrow(other_of, &only(other));
        }
    }
    same
}

/// The reason for a condition's result: the value of a field is in these ranges, or in none of them.
#[derive(Debug)]
pub(crate) struct Reason {
    pub(crate) field: Field,
    pub(crate) held: Ranges,
    pub(crate) inside: bool,
}

type Because = Vec<Reason>;

impl Space {
    /// Like [`Space::all_hold`], with the reason: within the ranges every packet that is equal in the other fields gets the same result.
    /// `varies` lists the fields that may differ; others need no ranges.
    pub(crate) fn all_hold_because(
        &self,
        matches: &[Match],
        point: &Point,
        varies: &dyn Fn(Field) -> bool,
    ) -> (Holds, Because) {
        let mut all = Holds::Yes;
        let mut failing: Option<&Match> = None;
        for one in matches {
            let holds = self.one_holds(one, point);
            all = all.min(holds);
            if holds == Holds::No {
                // One reason is enough, and one that nothing can change is the best.
                if !may_vary(one, varies) {
                    return (Holds::No, Because::new());
                }
                failing = failing.or(Some(one));
            }
        }
        let asked = |one: &&Match| failing.is_none_or(|failing| std::ptr::eq(*one, failing));
        let because = matches.iter().filter(asked).flat_map(|one| self.one_because(one, point, varies));
        (all, because.collect())
    }

    fn one_because(&self, one: &Match, point: &Point, varies: &dyn Fn(Field) -> bool) -> Because {
        let mut why = Because::new();
        let mut say = |field: Field, held: Ranges| {
            if varies(field) {
                let inside = holds_at(&held, point, field);
                why.push(Reason { field, held, inside });
            }
        };
        match &one.kind {
            // No connection, no answer: and that does not vary.
            kind if needs_connection(kind) && self.unconnected(point) => {}
            MatchKind::EitherPorts(all) => {
                let held = ports(all);
                let by = [Field::SourcePort, Field::DestinationPort];
                match by.into_iter().find(|field| holds_at(&held, point, *field)) {
                    Some(field) => say(field, held),
                    None => by.into_iter().for_each(|field| say(field, held.clone())),
                }
            }
            MatchKind::AnyOf(alternatives) | MatchKind::ReversePath { ways: alternatives, .. } => {
                return self.any_because(alternatives, point, varies);
            }
            kind => {
                if may_vary(one, varies)
                    && let Some((field, held)) = self.field_of(kind)
                {
                    say(field, held);
                }
            }
        }
        why
    }

    fn any_because(
        &self,
        alternatives: &[Vec<Match>],
        point: &Point,
        varies: &dyn Fn(Field) -> bool,
    ) -> Because {
        let mut all = Because::new();
        for alternative in alternatives {
            let (holds, why) = self.all_hold_because(alternative, point, varies);
            if holds == Holds::Yes {
                return why;
            }
            all.extend(why);
        }
        all
    }
}

/// Whether another packet may get another answer from a condition.
fn may_vary(one: &Match, varies: &dyn Fn(Field) -> bool) -> bool {
    let field = match &one.kind {
        MatchKind::Source(_) => Field::Source,
        MatchKind::Destination(_) => Field::Destination,
        MatchKind::AddressIs { destination, .. } if *destination => Field::Destination,
        MatchKind::AddressIs { .. } => Field::Source,
        MatchKind::OriginalDestination(_) => Field::OriginalDestination,
        MatchKind::OriginalDestinationPorts(_) => Field::OriginalDestinationPort,
        MatchKind::SourcePorts(_) => Field::SourcePort,
        MatchKind::DestinationPorts(_) => Field::DestinationPort,
        MatchKind::EitherPorts(_) | MatchKind::AnyOf(_) | MatchKind::ReversePath { .. } => return true,
        // Interfaces, protocols, states and what else a device sees of a packet are the same for all.
        _ => return false,
    };
    varies(field)
}

fn holds_at(held: &Ranges, point: &Point, field: Field) -> bool {
    holds(held, point[field as usize])
}
