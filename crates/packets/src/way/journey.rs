//! A packet's way from device to device, and back.

use super::packet::{Crossing, Leg, Packet, Tuple};
use super::route::Routed;
use super::shape::{Egress, Next, Place};
use super::step::{Step, StepKind};
use super::{Delivery, Ended, Lack, MOST_WAYS, Net, Start, TCP, Verdict, Way};
use crate::cube::{Field, ranges};
use crate::space::NO_INTERFACE;
use crate::trace::{Trace, same};
use std::collections::VecDeque;
use std::net::IpAddr;
use trevlin_model::{Family, Hook, Origin};

/// How many devices a packet is followed through (a packet's time to live is of this order).
const MOST_DEVICES: usize = 64;

/// Where a packet is about to come to.
#[derive(Debug, Clone)]
enum Spot {
    /// To a device, by an interface.
    Enters(Place, bool),
    /// It is sent by a device; where its routes do not tell, by this interface.
    SentBy(usize, Option<String>),
}

/// A packet that ended its leg somewhere: delivered to a device, or away from all.
struct Arrival {
    packet: Packet,
    delivery: Delivery,
}

/// Outgoing interface of a packet, and its next hop.
#[derive(Debug, Clone)]
struct Out {
    interface: String,
    gateway: Option<IpAddr>,
    /// Origin of the first packet, where no other path is known.
    back: Option<Place>,
}

/// Results of one leg.
#[derive(Default)]
struct Ways {
    arrived: Vec<Arrival>,
    stopped: Vec<Ended>,
}

impl Net<'_> {
    /// A connection's packets, from where they start until each way ended.
    pub(super) fn follow(&self, start: Start<'_>, packet: Packet, trace: Option<&Trace>) -> Vec<Ended> {
        let first = self.leg(Leg::First, spot(start), packet, start, trace);
        let mut ends = first.stopped;
        for arrival in first.arrived {
            self.reply(arrival, start, trace, &mut ends);
        }
        ends
    }

    /// For TCP the answer to a first packet that was delivered, and the packet that answers it: without both no connection
    /// comes about.
    fn reply(&self, arrival: Arrival, start: Start<'_>, trace: Option<&Trace>, ends: &mut Vec<Ended>) {
        let Arrival { packet, delivery } = arrival;
        if packet.at(Field::Protocol) != TCP.into() {
            ends.push(packet.ended(Verdict::Allowed, Some(delivery)));
            return;
        }
        let told = packet.trail.len();
        let mut answer = packet.clone();
        answer.visited.clear();
        answer.put_tuple(answer.tuple().reversed());
        let from = match (&delivery.gone, packet.crossings.last()) {
            (None, last) => Spot::SentBy(delivery.device, last.and_then(|one| one.entered_by.clone())),
            // The receiver replies through the router of its network, or to the device it received the packet from.
            (Some(gone), _) => {
                let interface = delivery.leaving.clone().unwrap_or_default();
                let came_from = Place { device: delivery.device, interface };
                let (value, of) = answer.known(Field::Destination);
                let to = crate::space::address(value, packet.family);
                let sent = self.shape.sent_by_host(&came_from, to).filter(|_| *gone == Egress::Host);
                let place = sent.map_or(came_from, |(place, alike)| {
                    if let Some(trace) = trace {
                        trace.narrow(of, &alike);
                    }
                    place
                });
                Spot::Enters(place, false)
            }
        };
        let back = self.leg(Leg::Answer, from, answer, start, trace);
        let mut lost: Vec<(StepKind, Ended)> =
            back.stopped.into_iter().map(|one| (StepKind::AnswerLost, one)).collect();
        let sent = packet.crossings.first().map(|one| one.entered);
        for mut one in back.arrived {
            let mut third = packet.clone();
            third.visited.clear();
            third.doubts = std::mem::take(&mut one.packet.doubts);
            third.crossings = std::mem::take(&mut one.packet.crossings);
            if let Some(sent) = sent {
                third.put_tuple(sent);
            }
            let on = self.leg(Leg::Third, spot(start), third, start, trace);
            lost.extend(on.stopped.into_iter().map(|one| (StepKind::FollowUpLost, one)));
            for mut done in on.arrived {
                // Rules that permit later packets are rarely worth a line; rules that block them are.
                done.packet.trail.truncate(told);
                ends.push(done.packet.ended(Verdict::Allowed, Some(delivery.clone())));
            }
        }
        for (kind, mut one) in lost {
            let device = delivery.device;
            one.packet.trail.insert(told, Step { device, kind, origin: None });
            ends.push(one);
        }
    }

    /// One packet from where it sets out.
    fn leg(&self, leg: Leg, from: Spot, packet: Packet, start: Start<'_>, trace: Option<&Trace>) -> Ways {
        let mut found = Ways::default();
        let mut waiting = VecDeque::from([(from, packet)]);
        while let Some((spot, mut packet)) = waiting.pop_front() {
            if waiting.len() + found.arrived.len() + found.stopped.len() > MOST_WAYS {
                packet.doubt(StepKind::TooManyWays, None);
                found.stopped.push(packet.ended(Verdict::Depends, None));
                break;
            }
            self.cross(leg, spot, packet, start, trace, &mut found, &mut waiting);
        }
        found
    }

    /// A packet at one device.
    #[allow(clippy::too_many_arguments, reason = "what one leg carries along")]
    fn cross(
        &self,
        leg: Leg,
        spot: Spot,
        mut packet: Packet,
        start: Start<'_>,
        trace: Option<&Trace>,
        found: &mut Ways,
        waiting: &mut VecDeque<(Spot, Packet)>,
    ) {
        let (device, name, ipsec) = match &spot {
            Spot::Enters(place, ipsec) => (place.device, Some(place.interface.as_str()), *ipsec),
            Spot::SentBy(device, _) => (*device, None, false),
        };
        let way = self.way(device, packet.family, trace);
        let entering = name.map_or(NO_INTERFACE, |name| way.space.interface(name));
        packet.device = device;
        if packet.visited.contains(&(device, entering)) || packet.visited.len() >= MOST_DEVICES {
            packet.note(StepKind::Circle, None);
            found.stopped.push(packet.ended(Verdict::Blocked, None));
            return;
        }
        packet.visited.push((device, entering));
        if let Some(name) = name.filter(|_| leg == Leg::First && !packet.crossings.is_empty()) {
            packet.note(StepKind::Enters(name.to_owned()), None);
        }
        let crossing = remembered(&way, leg, device, &packet);
        packet.arrives(device, (entering, name), leg, crossing, ipsec);
        let version = packet.family;
        let concerns = |lack: &&Lack| lack.family.is_none_or(|family| family == version);
        for lack in way.host.lacks.iter().filter(concerns) {
            packet.doubt(StepKind::NotWhole(lack.what.clone()), Some(lack.origin));
            let verdict = if lack.only_blocks { Verdict::Blocked } else { Verdict::Depends };
            found.stopped.push(packet.clone().ended(verdict, None));
        }
        let arrived = match name {
            Some(_) => way.hook(Hook::Prerouting, packet, &mut found.stopped),
            None => vec![packet],
        };
        for packet in arrived {
            let went = self.routed(&way, leg, &spot, packet, &mut found.stopped);
            for (mut packet, out) in went {
                let Some(out) = out else {
                    packet.leaves(leg, None);
                    let delivery = self.delivery(&way, &packet, None, None);
                    self.arrived_at(leg, start, way.trace, packet, delivery, found);
                    continue;
                };
                packet.leaves(leg, Some(&out.interface));
                self.on(&way, leg, start, packet, out, found, waiting);
            }
        }
    }

    /// Routing at a device, and the hooks behind it. Without an exit the packet is for the device itself.
    fn routed(
        &self,
        way: &Way<'_>,
        leg: Leg,
        spot: &Spot,
        mut packet: Packet,
        ends: &mut Vec<Ended>,
    ) -> Vec<(Packet, Option<Out>)> {
        let destination = way.address(packet.at(Field::Destination));
        let sends = matches!(spot, Spot::SentBy(..));
        let checked = leg == Leg::First || !self.shape.is_alone();
        if !sends
            && checked
            && let Some(why) = way.refused_source(&packet)
        {
            packet.note(why.0, why.1);
            ends.push(packet.ended(Verdict::Blocked, None));
            return Vec::new();
        }
        let back = (leg == Leg::Answer).then(|| self.way_back(spot, &packet)).flatten();
        let routed = match (&back, self.shape.is_alone()) {
            (Some(out), true) => Routed::Out(out.interface.clone(), None, None),
            _ => way.routed(packet.known(Field::Destination)),
        };
        // Without further knowledge the reply goes back to where the first packet came from.
        let out = match (routed, back) {
            (Routed::Local, _) => None,
            (Routed::Unknown(_), Some(back)) => Some(back),
            (Routed::Unknown(why), None) => {
                packet.doubt(StepKind::RouteUnknown(destination, why), None);
                ends.push(packet.ended(Verdict::Depends, None));
                return Vec::new();
            }
            (Routed::Nowhere(why, origin), _) => {
                packet.note(StepKind::NoRoute(destination, why), origin);
                ends.push(packet.ended(Verdict::Blocked, None));
                return Vec::new();
            }
            (Routed::Out(interface, gateway, origin), _) => {
                let routed = StepKind::Routed { destination, interface: interface.clone() };
                packet.note(routed, origin);
                Some(Out { interface, gateway, back: None })
            }
        };
        let Some(out) = out else {
            if sends {
                return vec![(packet, None)];
            }
            packet.note(StepKind::Local(destination), None);
            let inside = way.hook(Hook::Input, packet, ends);
            return inside.into_iter().map(|packet| (packet, None)).collect();
        };
        if !sends
            && leg != Leg::Answer
            && let Some((false, origin)) = way.host.forwards[usize::from(way.family == Family::V6)]
        {
            packet.note(StepKind::NotForwarding(way.family), origin);
            ends.push(packet.ended(Verdict::Blocked, None));
            return Vec::new();
        }
        packet.set(Field::Leaving, way.space.interface(&out.interface));
        let wrapped = self.wrapped(way, &packet).is_some();
        packet.set(Field::IpsecOut, wrapped.into());
        let through = if sends { Hook::Output } else { Hook::Forward };
        let mut left = Vec::new();
        for mut packet in way.hook(through, packet, ends) {
            let mut out = out.clone();
            // Traffic of the device is routed again after destination translation (nft(8), type `nat`, hook `output`).
            if sends && leg == Leg::First && way.address(packet.at(Field::Destination)) != destination {
                match way.routed(packet.known(Field::Destination)) {
                    Routed::Out(interface, gateway, _) => out = Out { interface, gateway, back: None },
                    _ => {
                        packet.doubt(StepKind::OwnTranslated, None);
                        ends.push(packet.ended(Verdict::Depends, None));
                        continue;
                    }
                }
                packet.set(Field::Leaving, way.space.interface(&out.interface));
            }
            for packet in way.hook(Hook::Postrouting, packet, ends) {
                left.push((packet, Some(out.clone())));
            }
        }
        left
    }

    /// Back to where the first packet came from.
    fn way_back(&self, spot: &Spot, packet: &Packet) -> Option<Out> {
        let at = packet.belongs_to?;
        let crossing = &packet.crossings[at];
        let interface = match spot {
            Spot::SentBy(_, Some(interface)) => interface.clone(),
            _ => crossing.entered_by.clone()?,
        };
        let before = at.checked_sub(1).map(|at| &packet.crossings[at]);
        let back = before
            .and_then(|one| one.left_by.clone().map(|interface| Place { device: one.device, interface }));
        Some(Out { interface, gateway: None, back })
    }

    /// The policy of a device that applies to the unencrypted packet.
    fn wrapped(&self, way: &Way<'_>, packet: &Packet) -> Option<(Option<Place>, Origin)> {
        let (source, destination) = (packet.known(Field::Source), packet.known(Field::Destination));
        for policy in self.shape.policies(packet.device) {
            let mut fits = true;
            for ((value, of), all) in [(source, &policy.local), (destination, &policy.remote)] {
                let held = match all.as_slice() {
                    [] => ranges(vec![(0, way.space.last_address())]),
                    all => ranges(super::shape::numbers(all, way.family)),
                };
                let inside = crate::cube::holds(&held, value);
                let same = if inside { held } else { super::shape::rest(held.to_vec(), way.family) };
                way.narrow(of, &same);
                fits &= inside;
                if !fits {
                    break;
                }
            }
            if fits {
                return Some((policy.to.clone(), policy.origin));
            }
        }
        None
    }

    /// A packet that left a device, on to where it comes next.
    #[allow(clippy::too_many_arguments, reason = "what one leg carries along")]
    fn on(
        &self,
        way: &Way<'_>,
        leg: Leg,
        start: Start<'_>,
        mut packet: Packet,
        out: Out,
        found: &mut Ways,
        waiting: &mut VecDeque<(Spot, Packet)>,
    ) {
        let place = Place { device: packet.device, interface: out.interface };
        if self.shape.is_alone() {
            let delivery = self.delivery(way, &packet, Some(place.interface), Some(Egress::Host));
            self.arrived_at(leg, start, way.trace, packet, delivery, found);
            return;
        }
        let (destination, source) = (packet.known(Field::Destination), packet.known(Field::Source));
        // Back out through the entry interface, by a next hop there: it reaches the sender, whichever Internet host that is.
        if leg == Leg::Answer
            && out.gateway.is_some()
            && out.back.is_none()
            && self.is_outside_entrance(start, &place)
        {
            let (carried, alike) = self.shape.carries(way.address(destination.0));
            if carried && self.wrapped(way, &packet).is_none() {
                way.narrow(destination.1, &alike);
                self.came_home(way, packet, start, place, found);
                return;
            }
        }
        let next = match (self.wrapped(way, &packet), out.back) {
            (Some((to, origin)), _) => {
                packet.note(StepKind::IntoIpsec, Some(origin));
                to.map_or(Next::Egress(Egress::Beyond), |place| Next::Device(place, true))
            }
            (None, Some(back)) => Next::Device(back, false),
            (None, None) => {
                let aim = (way.address(destination.0), way.address(source.0));
                let (next, only_to, only_from) = self.shape.next(&place, out.gateway, aim.0, aim.1);
                only_to.into_iter().for_each(|only| way.narrow(destination.1, &only));
                only_from.into_iter().for_each(|only| way.narrow(source.1, &only));
                next
            }
        };
        match next {
            Next::Refused(why) => {
                packet.note(StepKind::Refused(why), None);
                found.stopped.push(packet.ended(Verdict::Blocked, None));
            }
            Next::Device(to, _) if leg == Leg::Answer && self.is_home(start, &place, &packet, Some(&to)) => {
                self.came_home(way, packet, start, place, found);
            }
            Next::Device(to, ipsec) => waiting.push_back((Spot::Enters(to, ipsec), packet)),
            Next::Egress(_) if leg == Leg::Answer => {
                if self.is_home(start, &place, &packet, None) {
                    self.came_home(way, packet, start, place, found);
                } else {
                    packet.note(StepKind::AnswerElsewhere, None);
                    found.stopped.push(packet.ended(Verdict::Blocked, None));
                }
            }
            Next::Egress(gone) => {
                let delivery = self.delivery(way, &packet, Some(place.interface), Some(gone));
                self.arrived_at(leg, start, way.trace, packet, delivery, found);
            }
        }
    }

    /// Whether this is the interface by which the first packet entered from an untrusted network.
    fn is_outside_entrance(&self, start: Start<'_>, place: &Place) -> bool {
        let entered = matches!(start, Start::Entering { device, interface, .. } if device == place.device && interface == place.interface);
        entered && self.shape.is_outside(place)
    }

    /// Whether a reply that leaves here returns to the sender: by the interface of the first packet, on the same network, or by an Internet
    /// interface if it came from there.
    fn is_home(&self, start: Start<'_>, place: &Place, packet: &Packet, to: Option<&Place>) -> bool {
        let Start::Entering { device, interface, .. } = start else { return false };
        let entered = Place { device, interface: interface.to_owned() };
        let same_network =
            self.shape.segment(place).is_some_and(|one| self.shape.segment(&entered) == Some(one));
        let both_outside = self.shape.is_outside(place) && self.shape.is_outside(&entered);
        let there = *place == entered || same_network || both_outside;
        // To a device only where that is who asked: the first packet did not come from it, and so its address did.
        there
            && to.is_none_or(|to| {
                let asked = packet.crossings.first().map(|one| one.entered.0[0]);
                let address = asked.map(|one| self.way(place.device, packet.family, None).address(one.0));
                let segment = self.shape.segment(place);
                address.zip(segment).is_some_and(|(address, segment)| {
                    self.shape.holder(segment, address) == Some(to)
                        && packet.at(Field::Destination) == asked.map_or(0, |one| one.0)
                })
            })
    }

    /// An answer came to who asked: it has to come from where was asked.
    fn came_home(&self, way: &Way<'_>, packet: Packet, start: Start<'_>, place: Place, found: &mut Ways) {
        let delivery = self.delivery(way, &packet, Some(place.interface), Some(Egress::Host));
        self.arrived_at(Leg::Answer, start, way.trace, packet, delivery, found);
    }

    fn arrived_at(
        &self,
        leg: Leg,
        start: Start<'_>,
        trace: Option<&Trace>,
        mut packet: Packet,
        delivery: Delivery,
        found: &mut Ways,
    ) {
        if leg != Leg::Answer || self.shape.is_alone() {
            found.arrived.push(Arrival { packet, delivery });
            return;
        }
        if delivery.gone.is_none() && start != Start::Device(delivery.device) {
            packet.note(StepKind::AnswerToDevice, None);
            found.stopped.push(packet.ended(Verdict::Blocked, None));
            return;
        }
        let asked = packet.crossings.first().map(|one| one.entered.reversed());
        if delivery.gone.is_some() && asked.is_some_and(|asked| !alike(trace, asked, packet.tuple())) {
            packet.note(StepKind::AnswerFromElsewhere, None);
            found.stopped.push(packet.ended(Verdict::Blocked, None));
            return;
        }
        found.arrived.push(Arrival { packet, delivery });
    }

    fn delivery(
        &self,
        way: &Way<'_>,
        packet: &Packet,
        leaving: Option<String>,
        gone: Option<Egress>,
    ) -> Delivery {
        let port = u16::try_from(packet.at(Field::DestinationPort)).unwrap_or_default();
        Delivery {
            device: packet.device,
            address: way.address(packet.at(Field::Destination)),
            port,
            leaving,
            gone,
            entered: packet.came_by.clone(),
        }
    }
}

fn spot(start: Start<'_>) -> Spot {
    match start {
        Start::Entering { device, interface, ipsec } => {
            Spot::Enters(Place { device, interface: interface.to_owned() }, ipsec)
        }
        Start::Device(device) => Spot::SentBy(device, None),
    }
}

/// The crossing of this device that a later packet belongs to.
fn remembered(way: &Way<'_>, leg: Leg, device: usize, packet: &Packet) -> Option<usize> {
    let tuple = packet.tuple();
    let of_it = |one: &Crossing| {
        one.device == device
            && match leg {
                Leg::First => false,
                Leg::Answer => alike(way.trace, one.left.reversed(), tuple),
                Leg::Third => alike(way.trace, one.entered, tuple),
            }
    };
    packet.crossings.iter().rposition(|one| of_it(one))
}

/// Whether two tuples are the same, and which packets that holds for.
fn alike(trace: Option<&Trace>, a: Tuple, b: Tuple) -> bool {
    a.0.into_iter().zip(b.0).all(|(one, other)| same(trace, one, other))
}
