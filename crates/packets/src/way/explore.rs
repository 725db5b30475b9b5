//! Whole sets of packets on their way: one packet is followed, with all that go the same way as it, until none is left.

use super::packet::Packet;
use super::shape::numbers;
use super::{Answer, Delivery, Flow, Net, Start, Verdict, answer};
use crate::cube::{Ranges, Value, ranges};
use crate::diagram::{Diagrams, FULL, OverBudget, Set};
use crate::space::{address, number};
use crate::trace::{Of, SENT, Trace};
use trevlin_model::{Family, IpRange, PortRange};

/// How many times the nodes of a question about one rule a question about a whole estate may cost.
const NODES: usize = 7;

/// Sent packets: every combination of values in these ranges.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Sent {
    /// IP version.
    pub family: Family,
    /// Transport protocol.
    pub protocol: u8,
    /// Destination addresses.
    pub destinations: Vec<IpRange>,
    /// Source addresses.
    pub sources: Vec<IpRange>,
    /// Destination ports; of no meaning for a protocol without.
    pub ports: Vec<PortRange>,
    /// Source ports.
    pub source_ports: Vec<PortRange>,
}

/// Packets that all go the same way.
#[derive(Debug, Clone)]
pub struct TrafficClass {
    /// As they are sent.
    pub sent: Sent,
    /// Its result. Addresses and ports in it are those of one packet.
    pub answer: Answer,
    /// Where one of them is delivered, or may be where it depends.
    pub delivery: Option<Delivery>,
    /// Where they are delivered, or may be, after translation, and to which ports. Empty where they are not.
    pub delivered: (Vec<IpRange>, Vec<PortRange>),
}

/// Results for a set of packets.
#[derive(Debug, Clone, Default)]
pub struct Cells {
    /// Together all requested packets. Two may overlap, with the same result for the common packets.
    pub cells: Vec<TrafficClass>,
    /// Whether something is left that was not followed, because there would have been too much.
    pub cut: bool,
}

impl Net<'_> {
    /// Exact results for every packet of a set. At most `most` cells are created.
    #[must_use]
    pub fn explore(&self, start: Start<'_>, sent: &Sent, most: usize) -> Cells {
        let mut cells = Cells::default();
        cells.cut = self.gather(start, sent, most, &mut cells.cells).unwrap_or(true);
        cells
    }

    /// Adds the cells. Whether any are left out.
    fn gather(
        &self,
        start: Start<'_>,
        sent: &Sent,
        most: usize,
        cells: &mut Vec<TrafficClass>,
    ) -> Result<bool, OverBudget> {
        let last = number(IpRange::all(sent.family).last());
        let mut sets = Diagrams::new(&[last, last, 65535, 65535], NODES.saturating_mul(self.nodes));
        let whole = sides(sent);
        let mut left = set(&mut sets, &whole)?;
        while let Some(point) = sets.witness(left) {
            if cells.len() >= most {
                return Ok(true);
            }
            let trace = Trace::within(whole.clone());
            cells.push(self.one(start, sent, &point, &trace));
            let alike = set(&mut sets, &trace.sides())?;
            let rest = sets.difference(left, alike)?;
            // A packet always goes the same way as itself: anything else would be a fault of ours, and must not go on for ever.
            if rest == left {
                return Ok(true);
            }
            left = rest;
        }
        Ok(false)
    }

    /// One packet, by its values in the order of [`SENT`], and all that go the same way.
    fn one(&self, start: Start<'_>, sent: &Sent, point: &[Value], trace: &Trace) -> TrafficClass {
        let port = |at: usize| u16::try_from(point[at]).unwrap_or_default();
        let flow = Flow {
            entering: "",
            destination: address(point[0], sent.family),
            source: address(point[1], sent.family),
            protocol: sent.protocol,
            port: port(2),
            source_port: port(3),
        };
        let packet = Packet::first(&flow, &|field| SENT.contains(&field));
        let ends = self.follow(start, packet, Some(trace));
        // Where it came through, addresses and ports that were not translated are those that were sent.
        let through = ends.iter().find(|end| end.verdict == Verdict::Allowed);
        let tuple = through.map(|end| end.packet.tuple());
        let delivery = through.and_then(|end| end.delivered.clone());
        let answer = answer(ends);
        let sides = trace.sides();
        let become_of = |at: usize| {
            let (value, of) = tuple?.0[at];
            Some(match of {
                Of::Fixed => ranges(vec![(value, value)]),
                Of::Sent(field, shift) => {
                    let side = &sides[SENT.iter().position(|one| *one == field)?];
                    let moved = |value: &Value| value.wrapping_add(shift);
                    ranges(side.iter().map(|(first, last)| (moved(first), moved(last))).collect())
                }
            })
        };
        let delivered = (become_of(2), become_of(3));
        TrafficClass {
            sent: Sent {
                destinations: addresses(&sides[0], sent.family),
                sources: addresses(&sides[1], sent.family),
                ports: ports(&sides[2]),
                source_ports: ports(&sides[3]),
                ..sent.clone()
            },
            answer,
            delivery,
            delivered: (
                delivered.0.map(|all| addresses(&all, sent.family)).unwrap_or_default(),
                delivered.1.map(|all| ports(&all)).unwrap_or_default(),
            ),
        }
    }
}

/// The ranges of the sent packets, in the order of [`SENT`].
fn sides(sent: &Sent) -> [Ranges; SENT.len()] {
    let port = |all: &[PortRange]| {
        ranges(all.iter().map(|one| (Value::from(one.first), Value::from(one.last))).collect())
    };
    [
        ranges(numbers(&sent.destinations, sent.family)),
        ranges(numbers(&sent.sources, sent.family)),
        port(&sent.ports),
        port(&sent.source_ports),
    ]
}

/// The packets of all ranges. Nothing where one of them is empty.
fn set(sets: &mut Diagrams, sides: &[Ranges; SENT.len()]) -> Result<Set, OverBudget> {
    sides.iter().enumerate().rev().try_fold(FULL, |all, (field, side)| sets.under(field, side, all))
}

fn addresses(all: &Ranges, family: Family) -> Vec<IpRange> {
    let range =
        |(first, last): &(Value, Value)| IpRange::new(address(*first, family), address(*last, family)).ok();
    all.iter().filter_map(range).collect()
}

fn ports(all: &Ranges) -> Vec<PortRange> {
    let port = |value: &Value| u16::try_from(*value).unwrap_or(u16::MAX);
    all.iter().map(|(first, last)| PortRange { first: port(first), last: port(last) }).collect()
}
