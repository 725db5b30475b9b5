//! Which ranges share addresses: one pass over them in order.

use trevlin_model::IpRange;

/// Calls `visit` once for every two overlapping ranges of comparable kinds, with their numbers (the one that begins first comes first; of
/// two with the same beginning the one with the lower number) and their common part.
///
/// Ranges are sorted once. A range stays among the open ones of its kind until one begins behind its end, and a new range
/// is held only against open ones of the kinds it is of interest to. The cost is that of sorting and of the pairs that
/// are found.
pub fn overlaps<const KINDS: usize>(
    ranges: &[(IpRange, usize)],
    of_interest: [[bool; KINDS]; KINDS],
    mut visit: impl FnMut(usize, usize, IpRange),
) {
    let mut order: Vec<usize> = (0..ranges.len()).collect();
    order.sort_unstable_by_key(|at| (ranges[*at].0.first(), *at));
    let mut open: [Vec<usize>; KINDS] = std::array::from_fn(|_| Vec::new());
    for at in order {
        let (range, kind) = ranges[at];
        for (other, interesting) in of_interest[kind].iter().enumerate() {
            if !interesting {
                continue;
            }
            // IPv4 sorts before IPv6, so a range of the other version never comes back.
            open[other].retain(|known| match ranges[*known].0.intersection(&range) {
                Some(shared) => {
                    visit(*known, at, shared);
                    true
                }
                None => false,
            });
        }
        if of_interest.iter().any(|row| row[kind]) {
            open[kind].push(at);
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;
    use std::collections::BTreeSet;
    use std::net::{IpAddr, Ipv4Addr, Ipv6Addr};

    const KINDS: usize = 3;

    fn address(six: bool, at: u8) -> IpAddr {
        if six {
            Ipv6Addr::new(0x2001, 0xdb8, 0, 0, 0, 0, 0, at.into()).into()
        } else {
            Ipv4Addr::new(10, 0, 0, at).into()
        }
    }

    fn allocations() -> impl Strategy<Value = Vec<(IpRange, usize)>> {
        let one = (any::<bool>(), 0u8..40, 0u8..40, 0..KINDS).prop_map(|(six, a, b, kind)| {
            let (first, last) = (address(six, a.min(b)), address(six, a.max(b)));
            (IpRange::new(first, last).unwrap(), kind)
        });
        prop::collection::vec(one, 0..24)
    }

    proptest! {
        #[test]
        fn the_sweep_finds_what_holding_each_against_each_finds(
            allocations in allocations(),
            wanted in prop::array::uniform3(prop::array::uniform3(any::<bool>())),
        ) {
            // Interest is mutual.
            let mut interest = wanted;
            for (a, row) in wanted.iter().enumerate() {
                for (b, cell) in row.iter().enumerate() {
                    interest[a][b] |= wanted[b][a] || *cell;
                    interest[b][a] |= interest[a][b];
                }
            }
            let mut found = Vec::new();
            overlaps(&allocations, interest, |a, b, shared| found.push((a.min(b), a.max(b), shared)));
            let told: BTreeSet<_> = found.iter().copied().collect();
            prop_assert_eq!(told.len(), found.len(), "no pair twice");
            let mut brute = BTreeSet::new();
            for (a, (one, kind)) in allocations.iter().enumerate() {
                for (b, (other, other_kind)) in allocations.iter().enumerate().skip(a + 1) {
                    if interest[*kind][*other_kind] {
                        brute.extend(one.intersection(other).map(|shared| (a, b, shared)));
                    }
                }
            }
            prop_assert_eq!(told, brute);
        }
    }
}
