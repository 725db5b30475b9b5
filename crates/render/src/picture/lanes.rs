//! Places items in a row without overlap.

/// Horizontal extent of an item.
#[derive(Debug, Clone, Copy, PartialEq)]
pub(super) struct Extent {
    /// Left end.
    pub(super) from: f64,
    /// Right end.
    pub(super) to: f64,
}

/// Space that stays free between two items.
const GAP: f64 = 6.0;

/// The lane of each item, from 0, and how many lanes there are. Each goes into the first lane where nothing is in its way.
pub(super) fn place(items: &[Extent]) -> (Vec<usize>, usize) {
    let mut lanes: Vec<Vec<Extent>> = Vec::new();
    let mut placed = Vec::with_capacity(items.len());
    for item in items {
        let free = |lane: &Vec<Extent>| {
            lane.iter().all(|other| item.to + GAP <= other.from || other.to + GAP <= item.from)
        };
        let at = lanes.iter().position(free).unwrap_or_else(|| {
            lanes.push(Vec::new());
            lanes.len() - 1
        });
        lanes[at].push(*item);
        placed.push(at);
    }
    (placed, lanes.len())
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    proptest! {
        #[test]
        fn nothing_lies_over_another(items in prop::collection::vec((0.0f64..900.0, 1.0f64..200.0), 0..30)) {
            let items: Vec<_> = items.iter().map(|(from, size)| Extent { from: *from, to: from + size }).collect();
            let (placed, lanes) = place(&items);
            for (a, one) in items.iter().enumerate() {
                prop_assert!(placed[a] < lanes);
                for (b, other) in items.iter().enumerate().skip(a + 1) {
                    prop_assert!(placed[a] != placed[b] || one.to <= other.from || other.to <= one.from);
                }
            }
        }
    }
}
