//! Ranges put together.

use trevlin_model::{IpRange, PortRange};

/// Two lists of ranges as one, in order and apart from each other.
pub fn joined(a: &[IpRange], b: &[IpRange]) -> Vec<IpRange> {
    let mut all: Vec<IpRange> = a.iter().chain(b).copied().collect();
    all.sort_unstable();
    let mut kept: Vec<IpRange> = Vec::with_capacity(all.len());
    for one in all {
        let known = kept.last().copied().filter(|known| {
            known.family() == one.family() && (known.last() >= one.first() || next_to(known, &one))
        });
        match known {
            Some(known) => {
                let last = known.last().max(one.last());
                if let (Some(place), Ok(wider)) = (kept.last_mut(), IpRange::new(known.first(), last)) {
                    *place = wider;
                }
            }
            None => kept.push(one),
        }
    }
    kept
}

/// Whether a range begins right behind another.
pub fn next_to(one: &IpRange, other: &IpRange) -> bool {
    trevlin_packets::number(one.last()).checked_add(1) == Some(trevlin_packets::number(other.first()))
}

/// Two lists of ports as one, in order and apart from each other.
pub fn joined_ports(a: &[PortRange], b: &[PortRange]) -> Vec<PortRange> {
    let mut all: Vec<PortRange> = a.iter().chain(b).copied().collect();
    all.sort_unstable();
    let mut kept: Vec<PortRange> = Vec::with_capacity(all.len());
    for one in all {
        match kept.last_mut() {
            Some(known) if u32::from(one.first) <= u32::from(known.last) + 1 => {
                known.last = known.last.max(one.last)
            }
            _ => kept.push(one),
        }
    }
    kept
}
