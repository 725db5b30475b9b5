//! What a translation makes of a packet.

use super::{MOST_CHOICES, Packet, Way};
use crate::cube::{Field, Value};
use crate::space::number;
use std::net::IpAddr;
use trevlin_model::{Family, Hook, IpRange, Origin, Translation, TranslationKind};

impl Way<'_> {
    /// What a packet may become by a translation.
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
        let old = packet.at(field);
        let addresses = match how.kind {
            TranslationKind::Redirect => self.own_of(packet.at(Field::Entering)),
            TranslationKind::Masquerade => self.own_of(packet.at(Field::Leaving)),
            TranslationKind::NetworkMap => how.addresses.map(|range| vec![mapped(old, &range)]),
            _ => match how.addresses {
                None => Some(vec![old]),
                Some(range) if range.size() <= MOST_CHOICES => {
                    Some((number(range.first())..=number(range.last())).collect())
                }
                Some(_) => None,
            },
        };
        let Some(addresses) = addresses else {
            let mut packet = packet;
            packet.doubt("which address this translation chooses", Some(origin));
            packet.set(flag, 1);
            // Whatever it chooses is not followed: both ends are possible.
            let mut blocked = packet.clone();
            blocked.set(field, 0);
            return vec![packet, blocked];
        };
        let ports = new_ports(packet.at(port), how);
        let choices = addresses.len() * ports.len() > 1;
        let mut all = Vec::new();
        for new in addresses {
            for new_port in &ports {
                let mut one = packet.clone();
                one.set(field, new);
                one.set(port, *new_port);
                one.set(flag, 1);
                if choices {
                    one.doubt("which address or port this translation chooses", Some(origin));
                }
                let (what, address) = if to_destination { ("destination", new) } else { ("source", new) };
                let at = if *new_port == 0 || *new_port == packet.at(port) {
                    self.address(address).to_string()
                } else {
                    format!("{} port {new_port}", self.address(address))
                };
                one.note(format!("its {what} becomes {at}"), Some(origin));
                all.push(one);
            }
        }
        all
    }

    /// The address that stands for the device on an interface: the first that others reach it by.
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
}

/// An address in the place of a network of the same size that it has in its own.
fn mapped(old: Value, range: &IpRange) -> Value {
    let host = number(range.last()) - number(range.first());
    number(range.first()) | (old & host)
}

/// The ports that a translation may choose. A port that lies in the range is kept (net/netfilter/nf_nat_core.c).
fn new_ports(old: Value, how: &Translation) -> Vec<Value> {
    let Some(ports) = how.ports else { return vec![old] };
    let (first, last) = (Value::from(ports.first), Value::from(ports.last));
    if let Some(base) = how.shifted_from.map(Value::from) {
        return match old.checked_sub(base).map(|offset| first + offset).filter(|new| *new <= last) {
            Some(new) => vec![new],
            None => vec![first, last],
        };
    }
    if first == last || (first <= old && old <= last) {
        return vec![old.clamp(first, last)];
    }
    vec![first, last]
}
