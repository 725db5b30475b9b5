//! Blocks of addresses: what hangs together is one strip.

use ipnet::IpNet;
use std::cmp::Reverse;
use std::collections::BTreeMap;
use std::net::{IpAddr, Ipv4Addr, Ipv6Addr};
use trevlin_audit::addresses::AllocationKind;
use trevlin_audit::tables::addresses::{Row, Sheet};

/// One strip of the picture.
#[derive(Debug)]
pub(super) struct Block {
    /// The network it shows.
    pub(super) net: IpNet,
    /// Length of its prefix.
    pub(super) length: u8,
    /// Rows of the sheet in it.
    pub(super) rows: Vec<usize>,
    /// Overlaps of the sheet in it.
    pub(super) overlaps: Vec<usize>,
}

/// The number of an address.
pub(super) fn bits(address: IpAddr) -> u128 {
    match address {
        IpAddr::V4(v4) => u128::from(v4.to_bits()),
        IpAddr::V6(v6) => v6.to_bits(),
    }
}

impl Block {
    /// Whether it holds nothing but one device's own addresses, so that there is nothing to draw.
    pub(super) fn is_plain(&self, sheet: &Sheet) -> bool {
        use AllocationKind::{Address, NameServer, Network, OutsideAddress, Translation};
        let mut rows = self.rows.iter().map(|row| &sheet.allocations[*row]);
        let device = rows.clone().next().map(|row| &row.device);
        self.overlaps.is_empty()
            && rows.all(|row| {
                matches!(row.kind, Network | Address | OutsideAddress | NameServer | Translation)
                    && Some(&row.device) == device
            })
    }

    /// Position of an address in it, from 0 to 1.
    pub(super) fn position(&self, address: IpAddr) -> f64 {
        let (first, last) = (bits(self.net.network()), bits(self.net.broadcast()));
        let size = (last - first) as f64 + 1.0;
        bits(address).saturating_sub(first) as f64 / size
    }

    /// The address at a place from 0 to 1; the last one at 1.
    pub(super) fn at(&self, place: f64) -> IpAddr {
        let (first, last) = (bits(self.net.network()), bits(self.net.broadcast()));
        let offset = (((last - first) as f64 + 1.0) * place) as u128;
        let number = first + offset.min(last - first);
        match self.net {
            IpNet::V4(_) => Ipv4Addr::from_bits(number as u32).into(),
            IpNet::V6(_) => Ipv6Addr::from_bits(number).into(),
        }
    }
}

/// Whether a claim is so wide that it would join strips that have nothing to do with each other.
fn is_wide(row: &Row) -> bool {
    let size = bits(row.last) - bits(row.first);
    match row.first {
        IpAddr::V4(_) => size >= 1 << 16,
        IpAddr::V6(_) => size >= 1 << 80,
    }
}

/// The strips, those with faults first, then by address. Wide routes are left to the text.
pub(super) fn blocks(sheet: &Sheet) -> Vec<Block> {
    let mut order: Vec<usize> = (0..sheet.allocations.len())
        .filter(|at| {
            let row = &sheet.allocations[*at];
            !(is_wide(row) && matches!(row.kind, AllocationKind::Route | AllocationKind::Remote))
        })
        .collect();
    order.sort_by_key(|at| (sheet.allocations[*at].first, Reverse(sheet.allocations[*at].last)));
    let mut found: Vec<(IpAddr, IpAddr, Vec<usize>)> = Vec::new();
    for at in order {
        let row = &sheet.allocations[at];
        match found.last_mut() {
            Some((first, last, rows)) if row.first <= *last && first.is_ipv4() == row.first.is_ipv4() => {
                *last = (*last).max(row.last);
                rows.push(at);
            }
            _ => found.push((row.first, row.last, vec![at])),
        }
    }
    let mut blocks: Vec<Block> =
        found.into_iter().filter_map(|(first, last, rows)| block(first, last, rows)).collect();
    // Two claims that meet lie in one block.
    let mut block_of = BTreeMap::new();
    for (number, block) in blocks.iter().enumerate() {
        block_of.extend(block.rows.iter().map(|row| (*row, number)));
    }
    for (number, overlap) in sheet.overlaps.iter().enumerate() {
        if let [Some(one), Some(other)] = overlap.rows.map(|row| block_of.get(&row))
            && one == other
        {
            blocks[*one].overlaps.push(number);
        }
    }
    let faulty = |block: &Block| block.overlaps.is_empty();
    blocks.sort_by_key(|block| (faulty(block), block.net.network(), block.length));
    blocks
}

/// The smallest network that holds a range.
fn around(first: IpAddr, last: IpAddr) -> Option<IpNet> {
    let differ = bits(first) ^ bits(last);
    let (full, least) = if first.is_ipv4() { (32, 29) } else { (128, 124) };
    let length = full - (u128::BITS - differ.leading_zeros()).min(full);
    Some(IpNet::new(first, length.min(least) as u8).ok()?.trunc())
}

fn block(first: IpAddr, last: IpAddr, rows: Vec<usize>) -> Option<Block> {
    let net = around(first, last)?;
    Some(Block { net, length: net.prefix_len(), rows, overlaps: Vec::new() })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn places_in_a_block() {
        for (first, last, wanted) in [
            ("10.4.0.200", "10.4.0.225", "10.4.0.192/26"),
            ("10.4.0.9", "10.4.0.9", "10.4.0.8/29"),
            ("10.4.0.0", "10.4.1.255", "10.4.0.0/23"),
            ("2001:db8::1", "2001:db8::1", "2001:db8::/124"),
            ("0.0.0.0", "255.255.255.255", "0.0.0.0/0"),
        ] {
            let net = around(first.parse().unwrap(), last.parse().unwrap()).unwrap();
            assert_eq!(net.to_string(), wanted);
            let block = Block { net, length: net.prefix_len(), rows: Vec::new(), overlaps: Vec::new() };
            assert!(block.position(net.network()) == 0.0 && block.position(net.broadcast()) < 1.0);
            assert_eq!((block.at(0.0), block.at(1.0)), (net.network(), net.broadcast()));
        }
    }
}
