//! A packet on its way, and what each device that it crossed remembers of it.

use super::step::{Step, StepKind};
use super::{ACK, Flow, SYN, SYN_ACK, TCP, has_ports};
use crate::cube::{FIELDS, Field, NOBODY, Point, Value, state};
use crate::space::{NO_INTERFACE, number};
use crate::trace::Of;
use std::ops::{Deref, DerefMut};
use std::rc::Rc;
use trevlin_model::{Family, Origin};

/// A value with where it is from.
pub(super) type Known = (Value, Of);

/// Addresses and ports, in the order of [`Tuple::FIELDS`].
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) struct Tuple(pub(super) [Known; 4]);

impl Tuple {
    pub(super) const FIELDS: [Field; 4] =
        [Field::Source, Field::SourcePort, Field::Destination, Field::DestinationPort];

    /// The tuple of what goes the other way.
    pub(super) fn reversed(self) -> Self {
        let [source, source_port, destination, port] = self.0;
        Self([destination, port, source, source_port])
    }
}

/// Fields with values from the sent packet.
const FROM_SENT: [Field; 6] = [
    Field::Source,
    Field::SourcePort,
    Field::Destination,
    Field::DestinationPort,
    Field::OriginalDestination,
    Field::OriginalDestinationPort,
];

/// Where the values of a packet are from.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
struct Origins([Of; FROM_SENT.len()]);

impl Origins {
    fn place(field: Field) -> Option<usize> {
        FROM_SENT.iter().position(|one| *one == field)
    }

    fn of(&self, field: Field) -> Of {
        Self::place(field).map_or(Of::Fixed, |at| self.0[at])
    }

    fn put(&mut self, field: Field, of: Of) {
        match Self::place(field) {
            Some(at) => self.0[at] = of,
            None => debug_assert_eq!(of, Of::Fixed, "{field:?}"),
        }
    }
}

/// Which packet of a connection is followed.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum Leg {
    /// The first.
    First,
    /// The answer to it.
    Answer,
    /// The one that answers the answer.
    Third,
}

/// State that a device keeps of a connection whose first packet it accepted.
#[derive(Debug, Clone)]
pub(super) struct Crossing {
    pub(super) device: usize,
    /// Interface by which it came, none where the device itself sent it.
    pub(super) entered_by: Option<String>,
    /// Interface by which it left, none where it was for the device itself.
    pub(super) left_by: Option<String>,
    pub(super) entered: Tuple,
    pub(super) left: Tuple,
    /// The packet as it left, with what rules see of it.
    point: Point,
    of: Origins,
    /// Whether the answer passed here as well.
    pub(super) answered: bool,
}

impl Crossing {
    fn untracked(&self) -> bool {
        self.point[Field::State as usize] == state::UNTRACKED
    }
}

/// Number of reported conditions that are not analysed: more do not make a result clearer.
const MOST_DOUBTS: usize = 64;

/// A packet on its way. It is handed on often, and is large.
#[derive(Debug, Clone)]
pub(super) struct Packet(Box<PacketState>);

impl Deref for Packet {
    type Target = PacketState;

    fn deref(&self) -> &PacketState {
        &self.0
    }
}

impl DerefMut for Packet {
    fn deref_mut(&mut self) -> &mut PacketState {
        &mut self.0
    }
}

/// State of a packet on its path.
#[derive(Debug, Clone)]
pub(super) struct PacketState {
    pub(super) family: Family,
    pub(super) point: Point,
    of: Origins,
    /// Destination and its port before translation, for what follows a first packet.
    pub(super) wire: Option<[Known; 2]>,
    pub(super) trail: Vec<Step>,
    /// Rules that may or may not have held, and other things that are not known; the first of them, where there are very many.
    pub(super) doubts: Rc<Vec<Step>>,
    /// The device where it is.
    pub(super) device: usize,
    pub(super) crossings: Vec<Rc<Crossing>>,
    /// Where it has been on this leg.
    pub(super) visited: Vec<(usize, Value)>,
    /// The crossing that this leg's packet belongs to, at this device.
    pub(super) belongs_to: Option<usize>,
    /// As it came to this device.
    pub(super) came: Tuple,
    pub(super) came_by: Option<String>,
    /// Whether source and destination have been translated here, possibly to the same value.
    settled: [bool; 2],
}

impl Packet {
    /// The first packet of a connection, before it enters a device. `varies` lists the values that may differ.
    pub(super) fn first(flow: &Flow<'_>, varies: &dyn Fn(Field) -> bool) -> Self {
        let mut point: Point = [0; FIELDS];
        let mut of = Origins([Of::Fixed; FROM_SENT.len()]);
        let mut set = |field: Field, value: Value| {
            point[field as usize] = value;
            if varies(field) {
                of.put(field, Of::Sent(field, 0));
            }
        };
        set(Field::Source, number(flow.source));
        set(Field::Destination, number(flow.destination));
        set(Field::Protocol, flow.protocol.into());
        if has_ports(flow.protocol) {
            set(Field::SourcePort, flow.source_port.into());
            set(Field::DestinationPort, flow.port.into());
        } else if matches!(flow.protocol, 1 | 58) {
            // A request for an echo (RFC 792, RFC 4443).
            point[Field::Icmp as usize] = if flow.protocol == 1 { 8 << 8 } else { 128 << 8 };
        }
        let nothing = (0, Of::Fixed);
        let mut packet = Self(Box::new(PacketState {
            family: Family::of(flow.destination),
            point,
            of,
            wire: None,
            trail: Vec::new(),
            doubts: Rc::default(),
            device: 0,
            crossings: Vec::new(),
            visited: Vec::new(),
            belongs_to: None,
            came: Tuple([nothing; 4]),
            came_by: None,
            settled: [false; 2],
        }));
        packet.came = packet.tuple();
        packet
    }

    pub(super) fn at(&self, field: Field) -> Value {
        self.point[field as usize]
    }

    pub(super) fn known(&self, field: Field) -> Known {
        (self.point[field as usize], self.of.of(field))
    }

    pub(super) fn set(&mut self, field: Field, value: Value) {
        self.put(field, (value, Of::Fixed));
    }

    pub(super) fn put(&mut self, field: Field, (value, of): Known) {
        self.point[field as usize] = value;
        self.of.put(field, of);
    }

    /// Where a value is from.
    pub(super) fn of(&self, field: Field) -> Of {
        self.of.of(field)
    }

    /// Whether rules see the same of another, and it is from the same.
    pub(super) fn is_like(&self, other: &Self) -> bool {
        self.point == other.point && self.of == other.of
    }

    pub(super) fn tuple(&self) -> Tuple {
        Tuple(Tuple::FIELDS.map(|field| self.known(field)))
    }

    pub(super) fn put_tuple(&mut self, tuple: Tuple) {
        for (field, known) in Tuple::FIELDS.into_iter().zip(tuple.0) {
            self.put(field, known);
        }
    }

    /// Records the translation of the destination, or the source.
    pub(super) fn settle(&mut self, destination: bool) {
        self.settled[usize::from(destination)] = true;
    }

    /// Whether the destination, or the source, has been translated here.
    pub(super) fn is_settled(&self, destination: bool) -> bool {
        self.settled[usize::from(destination)]
    }

    pub(super) fn note(&mut self, kind: StepKind, origin: Option<Origin>) {
        let step = Step { device: self.device, kind, origin };
        self.trail.push(step);
    }

    pub(super) fn doubt(&mut self, kind: StepKind, origin: Option<Origin>) {
        let step = Step { device: self.device, kind, origin };
        self.doubt_step(step);
    }

    fn doubt_step(&mut self, step: Step) {
        if self.doubts.len() < MOST_DOUBTS && !self.doubts.contains(&step) {
            Rc::make_mut(&mut self.doubts).push(step);
        }
    }

    /// Takes the doubts of another as well.
    pub(super) fn doubt_as(&mut self, other: &Self) {
        if !Rc::ptr_eq(&self.doubts, &other.doubts) {
            other.doubts.iter().for_each(|step| self.doubt_step(step.clone()));
        }
    }

    /// Turns the packet into one that arrives at a device, or that the device sends, before its rules. `crossing` is the device's
    /// connection state.
    pub(super) fn arrives(
        &mut self,
        device: usize,
        (entering, name): (Value, Option<&str>),
        leg: Leg,
        crossing: Option<usize>,
        ipsec: bool,
    ) {
        self.device = device;
        self.came = self.tuple();
        self.came_by = name.map(str::to_owned);
        self.wire = None;
        self.settled = [false; 2];
        self.belongs_to = crossing;
        match (leg, crossing.map(|at| self.crossings[at].clone())) {
            (Leg::Answer, Some(crossing)) => self.answers(&crossing),
            (Leg::Third, Some(crossing)) => self.follows(&crossing),
            _ => {
                for field in [
                    Field::SourceTranslated,
                    Field::DestinationTranslated,
                    Field::Reply,
                    Field::IpsecOut,
                    Field::TcpFlags,
                ] {
                    self.set(field, 0);
                }
                self.set(Field::User, NOBODY);
                self.set(Field::Group, NOBODY);
                self.put(Field::OriginalDestination, self.known(Field::Destination));
                self.put(Field::OriginalDestinationPort, self.known(Field::DestinationPort));
                // Without the first packet an answer begins nothing that could be; a packet from the middle of a connection
                // does (nf_conntrack_proto_tcp.c, sysctl nf_conntrack_tcp_loose).
                self.set(Field::State, if leg == Leg::Answer { state::INVALID } else { state::NEW });
            }
        }
        if self.at(Field::Protocol) == TCP.into() {
            self.set(
                Field::TcpFlags,
                match leg {
                    Leg::First => SYN,
                    Leg::Answer => SYN_ACK,
                    Leg::Third => ACK,
                },
            );
        }
        self.set(Field::Entering, entering);
        self.set(Field::Leaving, NO_INTERFACE);
        self.set(Field::IpsecIn, ipsec.into());
    }

    /// The answer to a packet that left here.
    fn answers(&mut self, crossing: &Crossing) {
        (self.point, self.of) = (crossing.point, crossing.of);
        let [_, _, destination, port] = crossing.left.0;
        // It goes to where the first came from as it left; and that is turned back where translation has its place.
        self.wire = Some([crossing.left.0[0], crossing.left.0[1]]);
        self.put(Field::Destination, crossing.entered.0[0]);
        self.put(Field::DestinationPort, crossing.entered.0[1]);
        self.put(Field::Source, destination);
        self.put(Field::SourcePort, port);
        if crossing.untracked() {
            // For an untracked first packet nothing is stored, so its reply belongs to no connection, unless it is exempt as well.
            self.set(Field::State, state::INVALID);
        } else {
            self.set(Field::State, state::ESTABLISHED);
            self.set(Field::Reply, 1);
        }
    }

    /// The packet that follows the answer.
    fn follows(&mut self, crossing: &Crossing) {
        (self.point, self.of) = (crossing.point, crossing.of);
        self.wire = Some([crossing.entered.0[2], crossing.entered.0[3]]);
        // As it came, before its source was translated on leaving.
        self.put(Field::Source, crossing.entered.0[0]);
        self.put(Field::SourcePort, crossing.entered.0[1]);
        let known = !crossing.untracked();
        self.set(
            Field::State,
            match known {
                true if crossing.answered => state::ESTABLISHED,
                // A host does not acknowledge what it did not send (nf_conntrack_proto_tcp.c, state SYN_SENT).
                true => state::INVALID,
                false => state::NEW,
            },
        );
        if known && !crossing.answered {
            self.wire = None;
            self.put_tuple(crossing.entered);
        }
    }

    /// Actions of a device after sending or delivering the packet.
    pub(super) fn leaves(&mut self, leg: Leg, left_by: Option<&str>) {
        match (leg, self.belongs_to) {
            (Leg::First, _) => {
                let crossing = Crossing {
                    device: self.device,
                    entered_by: self.came_by.clone(),
                    left_by: left_by.map(str::to_owned),
                    entered: self.came,
                    left: self.tuple(),
                    point: self.point,
                    of: self.of,
                    answered: false,
                };
                self.crossings.push(Rc::new(crossing));
            }
            (Leg::Answer, Some(at)) => {
                let mut crossing = (*self.crossings[at]).clone();
                crossing.answered = true;
                if !crossing.untracked() {
                    self.put_tuple(crossing.entered.reversed());
                }
                self.crossings[at] = Rc::new(crossing);
            }
            (Leg::Third, Some(at)) if self.wire.is_some() => {
                let left = self.crossings[at].left;
                if !self.crossings[at].untracked() {
                    self.put_tuple(left);
                }
            }
            _ => {}
        }
    }
}
