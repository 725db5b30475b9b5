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

/// A list of steps longer than this is kept by another field as well.
const LONG: usize = 48;

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
    blocks: BTreeMap<(Value, u32), Block>,
    /// Which numbers of leading bits occur.
    lengths: Vec<u32>,
}

/// The steps of one block.
#[derive(Debug)]
enum Block {
    /// Few of them, in order.
    List(Vec<u32>),
    /// Many, by another field.
    Index(Index),
}

impl Index {
    /// The index of some steps over fields whose values go to these.
    pub(crate) fn of(steps: &[Step], greatest: &[Value]) -> Self {
        let numbers: Vec<u32> =
            (0..steps.len() as u32).filter(|number| !steps[*number as usize].region.is_empty()).collect();
        Self::by(&KEYS, steps, &numbers, greatest)
    }

    fn by(keys: &[Field], steps: &[Step], numbers: &[u32], greatest: &[Value]) -> Self {
        let mut found: Vec<BTreeMap<(Value, u32), Vec<u32>>> = keys.iter().map(|_| BTreeMap::new()).collect();
        let widths: Vec<u32> =
            keys.iter().map(|field| Value::BITS - greatest[*field as usize].leading_zeros()).collect();
        let mut others = Vec::new();
        for number in numbers {
            match best(&steps[*number as usize].region, keys, &widths) {
                Some((key, blocks)) => {
                    for block in blocks {
                        found[key].entry(block).or_default().push(*number);
                    }
                }
                None => others.push(*number),
            }
        }
        let tables = keys.iter().zip(found).zip(widths).map(|((field, found), width)| {
            let mut lengths: Vec<u32> = found.keys().map(|(_, length)| *length).collect();
            lengths.sort_unstable();
            lengths.dedup();
            let rest: Vec<Field> = keys.iter().copied().filter(|one| one != field).collect();
            let block = |list: Vec<u32>| {
                if list.len() > LONG && !rest.is_empty() {
                    Block::Index(Self::by(&rest, steps, &list, greatest))
                } else {
                    Block::List(list)
                }
            };
            let blocks = found.into_iter().map(|(key, list)| (key, block(list))).collect();
            Table { field: *field, width, blocks, lengths }
        });
        Self { tables: tables.collect(), others }
    }

    /// Finds the lists in which every step that holds for a packet is; each is in order.
    pub(crate) fn lists<'a>(&'a self, point: &Point, to: &mut Vec<&'a [u32]>) {
        if !self.others.is_empty() {
            to.push(&self.others);
        }
        for table in &self.tables {
            let value = point[table.field as usize];
            for length in &table.lengths {
                match table.blocks.get(&(block_of(value, *length, table.width), *length)) {
                    Some(Block::List(list)) => to.push(list),
                    Some(Block::Index(inner)) => inner.lists(point, to),
                    None => {}
                }
            }
        }
    }

    /// The steps of a span that may meet a cube, in order; `None` where there are more than `most`.
    pub(crate) fn meeting(&self, cube: &Cube, span: std::ops::Range<u32>, most: usize) -> Option<Vec<u32>> {
        let mut found: Vec<u32> = Vec::new();
        self.gather(cube, &span, most, &mut found)?;
        found.sort_unstable();
        found.dedup();
        Some(found)
    }

    fn gather(
        &self,
        cube: &Cube,
        span: &std::ops::Range<u32>,
        most: usize,
        found: &mut Vec<u32>,
    ) -> Option<()> {
        let take = |list: &[u32], found: &mut Vec<u32>| {
            // Most lists are short, and most spans begin before them: no need to search.
            let from = match list {
                [] => return Some(()),
                [first, ..] if *first >= span.start => 0,
                list => list.partition_point(|one| *one < span.start),
            };
            let room = (most + 1).saturating_sub(found.len());
            found.extend(list[from..].iter().take_while(|one| **one < span.end).take(room));
            (found.len() <= most).then_some(())
        };
        take(&self.others, found)?;
        for table in &self.tables {
            for (first, last) in cube.side(table.field).map_or(&[(0, Value::MAX)][..], |side| side) {
                for block in table.within(*first, *last).chain(table.around(*first)) {
                    match block {
                        Block::List(list) => take(list, found)?,
                        Block::Index(inner) => inner.gather(cube, span, most, found)?,
                    }
                }
            }
        }
        Some(())
    }
}

impl Table {
    /// The blocks that begin in a range.
    fn within(&self, first: Value, last: Value) -> impl Iterator<Item = &Block> {
        self.blocks.range((first, 0)..=(last, u32::MAX)).map(|(_, block)| block)
    }

    /// The blocks that begin before a value and hold it.
    fn around(&self, value: Value) -> impl Iterator<Item = &Block> {
        let blocks = self.lengths.iter().map(move |length| (block_of(value, *length, self.width), *length));
        blocks.filter(move |(start, _)| *start < value).filter_map(|block| self.blocks.get(&block))
    }
}

/// The first value of the block of so many leading bits that a value lies in.
fn block_of(value: Value, length: u32, width: u32) -> Value {
    let low = width - length;
    if low >= Value::BITS { 0 } else { value >> low << low }
}

/// By which of some fields a region is kept, with its blocks there.
fn best(region: &Region, keys: &[Field], widths: &[u32]) -> Option<(usize, Vec<(Value, u32)>)> {
    let mut found: Option<(f64, usize)> = None;
    for (at, (field, width)) in keys.iter().zip(widths).enumerate() {
        let whole = 2f64.powi(*width as i32);
        let share = |ranges: &Ranges| {
            ranges.iter().map(|(first, last)| (last - first) as f64 + 1.0).sum::<f64>() / whole
        };
        let widest = region.cubes.iter().map(|cube| cube.side(*field).map_or(1.0, share)).fold(0.0, f64::max);
        if widest < 0.3 && found.is_none_or(|(best, _)| widest < best) {
            found = Some((widest, at));
        }
    }
    let (_, at) = found?;
    let mut blocks = Vec::new();
    for cube in &region.cubes {
        for (first, last) in cube.side(keys[at])?.iter() {
            cut(*first, *last, widths[at], &mut blocks);
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
