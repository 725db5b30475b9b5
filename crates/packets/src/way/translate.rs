//! Effect of a translation on a packet.

use super::packet::{Known, Packet};
use super::step::StepKind;
use super::{MOST_CHOICES, Way};
use crate::cube::{Field, Value, other_ranges, ranges};
use crate::space::number;
use crate::trace::{Of, same};
use std::net::IpAddr;
use trevlin_model::{Family, Hook, IpRange, Origin, Translation, TranslationKind};

impl Way<'_> {
    /// Possible results of a translation of a packet.
    pub(super) fn translate(
        &self,
        packet: Packet,
        how: &Translation,
        origin: Origin,
        hook: Hook,
    ) -> Vec<Packet> {
        let to_destination = match how.kind {
            TranslationKind::Destination | TranslationKind::Redirect => true,
            TranslationKind::Source | TranslationKind::Masquerade => false,
            TranslationKind::NetworkMap => matches!(hook, Hook::Prerouting | Hook::Output),
        };
        let (field, port, flag) = if to_destination {
            (Field::Destination, Field::DestinationPort, Field::DestinationTranslated)
        } else {
            (Field::Source, Field::SourcePort, Field::SourceTranslated)
        };
        let old = packet.known(field);
        let fixed = |all: Vec<Value>| all.into_iter().map(|one| (one, Of::Fixed)).collect::<Vec<Known>>();
        let addresses = match how.kind {
            TranslationKind::Redirect => self.own_of(packet.at(Field::Entering)).map(fixed),
            TranslationKind::Masquerade => self.own_of(packet.at(Field::Leaving)).map(fixed),
            TranslationKind::NetworkMap => how.addresses.map(|range| vec![self.mapped(old, &range)]),
            _ => match how.addresses {
                None => Some(vec![old]),
                Some(range) if range.size() <= MOST_CHOICES => {
                    Some(fixed((number(range.first())..=number(range.last())).collect()))
                }
                Some(_) => None,
            },
        };
        let Some(addresses) = addresses else {
            let mut packet = packet;
            packet.doubt(StepKind::TranslationOpen, Some(origin));
            packet.set(flag, 1);
            packet.settle(to_destination);
            // The choice is not followed: both ends are possible.
            let mut blocked = packet.clone();
            blocked.set(field, 0);
            return vec![packet, blocked];
        };
        let ports = self.new_ports(packet.known(port), how);
        let choices = addresses.len() * ports.len() > 1;
        let mut all = Vec::new();
        for new in addresses {
            for new_port in &ports {
                let mut one = packet.clone();
                one.put(field, new);
                one.put(port, *new_port);
                // A translation to the same value counts as none (nf_nat_core.c), but no later rule is evaluated.
                let kept = same(self.trace, old, new) && same(self.trace, packet.known(port), *new_port);
                one.set(flag, (!kept).into());
                one.settle(to_destination);
                if choices {
                    one.doubt(StepKind::TranslationChoice, Some(origin));
                }
                let changed = Some(new_port.0).filter(|new| *new != 0 && *new != packet.at(port));
                let kind = StepKind::Translated {
                    destination: to_destination,
                    address: self.address(new.0),
                    port: changed.and_then(|new| u16::try_from(new).ok()),
                };
                one.note(kind, Some(origin));
                all.push(one);
            }
        }
        all
    }

    /// The address of the device on an interface: the first that others use.
    fn own_of(&self, interface: Value) -> Option<Vec<Value>> {
        let name = self.space.interface_name(interface)?;
        let interface = self.host.interfaces.iter().find(|one| one.name == name)?;
        let addresses = interface.addresses.iter().map(|one| one.net.addr());
        let link_local = |address: &IpAddr| match address {
            IpAddr::V6(v6) => v6.is_unicast_link_local(),
            IpAddr::V4(_) => false,
        };
        let first = addresses.filter(|one| Family::of(*one) == self.family).find(|one| !link_local(one))?;
        Some(vec![number(first)])
    }

    /// An address in the place of a network of the same size that it has in its own.
    fn mapped(&self, (old, of): Known, range: &IpRange) -> Known {
        let host = number(range.last()) - number(range.first());
        let new = number(range.first()) | (old & host);
        // The whole of its own network is mapped with it.
        self.narrow(of, &ranges(vec![(old & !host, old | host)]));
        (new, shifted(of, new.wrapping_sub(old)))
    }

    /// The ports that a translation may choose. A port in the range is kept (net/netfilter/nf_nat_core.c).
    fn new_ports(&self, (old, of): Known, how: &Translation) -> Vec<Known> {
        let Some(ports) = how.ports else { return vec![(old, of)] };
        let (first, last) = (Value::from(ports.first), Value::from(ports.last));
        let choices = || vec![(first, Of::Fixed), (last, Of::Fixed)];
        let (low, high) = match how.shifted_from.map(Value::from) {
            Some(base) => (base, base + (last - first)),
            None if first == last => return vec![(first, Of::Fixed)],
            None => (first, last),
        };
        let held = ranges(vec![(low, high)]);
        if low <= old && old <= high {
            self.narrow(of, &held);
            let new = first + (old - low);
            return vec![(new, shifted(of, new.wrapping_sub(old)))];
        }
        self.narrow(of, &other_ranges(&held, Value::from(u16::MAX)));
        choices()
    }
}

fn shifted(of: Of, by: Value) -> Of {
    match of {
        Of::Fixed => Of::Fixed,
        Of::Sent(field, shift) => Of::Sent(field, shift.wrapping_add(by)),
    }
}
