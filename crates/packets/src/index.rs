//! Finds the steps that a packet or a cube meets without asking every one: steps are kept by the address or port that singles
//! them out best.

use crate::cube::{Cube, Field, Point, Ranges, Region, Value};
use crate::program::Step;
use std::collections::BTreeMap;

/// Fields that steps are kept by, the best first where two single out alike.
const KEYS: [Field; 4] =
    [Field::Destination, Field::Source, Field::DestinationPort, Field::OriginalDestination];

/// A region that comes to more blocks than this in a field is not kept by it.
const MOST_BLOCKS: usize = 256;

/// The steps of a program by what singles them out.
#[derive(Debug)]
pub(crate) struct Index {
    tables: Vec<Table>,
    /// Steps that nothing singles out.
    others: Vec<u32>,
}

/// Steps by blocks of one field: a block is all values that begin with the same bits.
#[derive(Debug)]
struct Table {
    field: Field,
    width: u32,
    /// By the first value of a block and its number of leading bits.
    blocks: BTreeMap<(Value, u32), Vec<u32>>,
    /// Which numbers of leading bits occur.
    lengths: Vec<u32>,
}

impl Index {
    /// The index of some steps over fields whose values go to these.
    pub(crate) fn of(steps: &[Step], greatest: &[Value]) -> Self {
        let mut tables: Vec<Table> = KEYS
            .iter()
            .map(|field| Table {
                field: *field,
                width: Value::BITS - greatest[*field as usize].leading_zeros(),
                blocks: BTreeMap::new(),
                lengths: Vec::new(),
            })
            .collect();
        let mut others = Vec::new();
        for (number, step) in steps.iter().enumerate() {
            let number = number as u32;
            if step.region.is_empty() {
                continue;
            }
            match best(&step.region, &tables) {
                Some((table, blocks)) => {
                    for block in blocks {
                        let held = tables[table].blocks.entry(block).or_default();
                        if held.last() != Some(&number) {
                            held.push(number);
                        }
                    }
                }
                None => others.push(number),
            }
        }
        for table in &mut tables {
            table.lengths = table.blocks.keys().map(|(_, length)| *length).collect();
            table.lengths.sort_unstable();
            table.lengths.dedup();
        }
        Self { tables, others }
    }

    /// The lists in which every step that holds for a packet is found; each is in order.
    pub(crate) fn lists(&self, point: &Point) -> impl Iterator<Item = &[u32]> {
        let found = self.tables.iter().flat_map(move |table| {
            let value = point[table.field as usize];
            table.lengths.iter().filter_map(move |length| {
                table.blocks.get(&(block_of(value, *length, table.width), *length)).map(Vec::as_slice)
            })
        });
        found.chain([self.others.as_slice()])
    }

    /// The steps of a span that may meet a cube, in order; `None` where there are more than `most`.
    pub(crate) fn meeting(&self, cube: &Cube, span: std::ops::Range<u32>, most: usize) -> Option<Vec<u32>> {
        let mut found: Vec<u32> = Vec::new();
        let mut take = |list: &[u32]| {
            let from = list.partition_point(|one| *one < span.start);
            found.extend(list[from..].iter().take_while(|one| **one < span.end));
            found.len() <= most
        };
        if !take(&self.others) {
            return None;
        }
        for table in &self.tables {
            for (first, last) in cube.side(table.field).map_or(&[(0, Value::MAX)][..], |side| side) {
                for list in table.within(*first, *last).chain(table.around(*first)) {
                    if !take(list) {
                        return None;
                    }
                }
            }
        }
        found.sort_unstable();
        found.dedup();
        Some(found)
    }
}

impl Table {
    /// Lists of the blocks that begin in a range.
    fn within(&self, first: Value, last: Value) -> impl Iterator<Item = &[u32]> {
        self.blocks.range((first, 0)..=(last, u32::MAX)).map(|(_, list)| list.as_slice())
    }

    /// Lists of the blocks that begin before a value and hold it.
    fn around(&self, value: Value) -> impl Iterator<Item = &[u32]> {
        let blocks = self.lengths.iter().map(move |length| (block_of(value, *length, self.width), *length));
        blocks
            .filter(move |(start, _)| *start < value)
            .filter_map(|block| self.blocks.get(&block).map(Vec::as_slice))
    }
}

/// The first value of the block of so many leading bits that a value lies in.
fn block_of(value: Value, length: u32, width: u32) -> Value {
    let low = width - length;
    if low >= Value::BITS { 0 } else { value >> low << low }
}

/// By which table a region is kept, with its blocks there.
fn best(region: &Region, tables: &[Table]) -> Option<(usize, Vec<(Value, u32)>)> {
    let mut found: Option<(f64, usize)> = None;
    for (at, table) in tables.iter().enumerate() {
        let whole = 2f64.powi(table.width as i32);
        let share = |ranges: &Ranges| {
            ranges.iter().map(|(first, last)| (last - first) as f64 + 1.0).sum::<f64>() / whole
        };
        let widest =
            region.cubes.iter().map(|cube| cube.side(table.field).map_or(1.0, share)).fold(0.0, f64::max);
        // Fine blocks of a wide field single out better than the one port that many rules name.
        if widest < 0.3 && found.is_none_or(|(best, _)| widest < best) {
            found = Some((widest, at));
        }
    }
    let (_, at) = found?;
    let mut blocks = Vec::new();
    for cube in &region.cubes {
        for (first, last) in cube.side(tables[at].field)?.iter() {
            cut(*first, *last, tables[at].width, &mut blocks);
            if blocks.len() > MOST_BLOCKS {
                return None;
            }
        }
    }
    blocks.sort_unstable();
    blocks.dedup();
    Some((at, blocks))
}

/// Cuts a range into blocks.
fn cut(mut first: Value, last: Value, width: u32, blocks: &mut Vec<(Value, u32)>) {
    loop {
        // The greatest block that begins here and ends in the range.
        let mut low = first.trailing_zeros().min(width);
        while low > 0 && (last - first) < (1u128.checked_shl(low).map_or(Value::MAX, |size| size - 1)) {
            low -= 1;
        }
        blocks.push((first, width - low));
        let end = first + (1u128.checked_shl(low).map_or(Value::MAX, |size| size - 1));
        if end >= last {
            return;
        }
        first = end + 1;
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    proptest! {
        #[test]
        fn blocks_are_the_range(a in 0u128..300, b in 0u128..300) {
            let (first, last) = (a.min(b).min(255), a.max(b).min(255));
            let mut blocks = Vec::new();
            cut(first, last, 8, &mut blocks);
            for value in 0..256u128 {
                let held = blocks.iter().filter(|(start, length)| block_of(value, *length, 8) == *start).count();
                prop_assert_eq!(held, usize::from(first <= value && value <= last), "{}", value);
            }
        }
    }

    #[test]
    fn the_whole_of_the_widest_field_is_one_block() {
        let mut blocks = Vec::new();
        cut(0, Value::MAX, 128, &mut blocks);
        assert_eq!(blocks, [(0, 0)]);
        assert_eq!(block_of(Value::MAX, 0, 128), 0);
    }
}
