//! Finds the steps that a packet or a cube matches without comparing all: steps are indexed by their interfaces, and then by their most
//! selective address or port; for cubes, which match more than packets, mostly by both addresses.

use crate::cube::{Cube, Field, Point, Ranges, Region, Value, have_common, holds};
use crate::grid::{Grid, within};
use crate::program::Step;
use crate::signature::{CubeSignature, Cuts};
use rayon::prelude::*;
use std::collections::BTreeMap;
use std::ops::{ControlFlow, Range};

/// Fields that steps are kept by, the best first where two single out alike.
const KEYS: [Field; 4] =
    [Field::Destination, Field::Source, Field::DestinationPort, Field::OriginalDestination];

/// A region that comes to more blocks than this in a field is not kept by it.
const MOST_BLOCKS: usize = 256;

/// A list of steps longer than this is kept by another field as well.
const LONG: usize = 48;

/// How many steps are worth a thread.
const PARALLEL: usize = 1024;

/// Fields by which steps are grouped.
const GROUPED: [Field; 2] = [Field::Entering, Field::Leaving];

/// Maximum number of groups, those with the most steps: every packet and cube is compared with all of them.
const MOST_GROUPS: usize = 64;

/// Common restrictions of a group of steps: the ranges of the grouped fields, where they are restricted.
type Common = [Option<Ranges>; GROUPED.len()];

/// The steps of a program by what singles them out.
#[derive(Debug)]
pub(crate) struct Index {
    cuts: Cuts,
    /// Signatures of every step.
    sketches: Vec<CubeSignature>,
    /// Steps of the same interfaces, as those of a chain for one interface are.
    groups: Vec<(Common, Group)>,
    /// All others.
    rest: Group,
}

/// The steps of some interfaces.
#[derive(Debug)]
struct Group {
    all: Tree,
    /// For cubes: those that a grid keeps, and all others. Not where they are few, or where it keeps none.
    parted: Option<(Grid, Tree)>,
}

/// A packet, with where the steps are that hold for it.
pub(crate) struct LookedUp<'a> {
    /// The packet.
    pub(crate) point: &'a Point,
    /// Its sketch.
    pub(crate) signature: CubeSignature,
    /// Every step that holds for it is in one of them; each is in order.
    pub(crate) lists: Vec<&'a [u32]>,
}

/// Some steps by their addresses and ports.
#[derive(Debug)]
struct Tree {
    tables: Vec<Table>,
    /// Steps that nothing singles out.
    others: Vec<u32>,
    /// From the first step to behind the last.
    span: Range<u32>,
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
    Tree(Tree),
}

impl Index {
    /// The index of some steps over fields whose values go to these.
    pub(crate) fn of(steps: &[Step], greatest: &[Value]) -> Self {
        let mut groups: BTreeMap<Common, Vec<u32>> = BTreeMap::new();
        for (number, step) in (0..).zip(steps).filter(|(_, step)| !step.region.is_empty()) {
            groups.entry(in_common(&step.region)).or_default().push(number);
        }
        let mut groups: Vec<(Common, Vec<u32>)> = groups.into_iter().collect();
        groups.sort_by_key(|(_, numbers)| std::cmp::Reverse(numbers.len()));
        let apart = groups.iter().take(MOST_GROUPS).take_while(|(_, numbers)| numbers.len() > LONG).count();
        let mut rest: Vec<u32> =
            groups.split_off(apart).into_iter().flat_map(|(_, numbers)| numbers).collect();
        rest.sort_unstable();
        let cuts = Cuts::of(steps);
        let sketches: Vec<CubeSignature> =
            steps.par_iter().with_min_len(PARALLEL).map(|step| cuts.region(&step.region)).collect();
        let group = |numbers: &[u32]| {
            let tree = |numbers: &[u32]| Tree::by(&KEYS, steps, numbers, greatest);
            let parted = || {
                let parted = (numbers.len() > LONG).then(|| Grid::of(numbers, &sketches));
                let parted = parted.filter(|(_, others)| others.len() < numbers.len());
                parted.map(|(grid, others)| (grid, tree(&others)))
            };
            let (all, parted) = match numbers.len() {
                many if many > PARALLEL => rayon::join(|| tree(numbers), parted),
                _ => (tree(numbers), parted()),
            };
            Group { all, parted }
        };
        let groups = || groups.into_par_iter().map(|(common, numbers)| (common, group(&numbers))).collect();
        let (groups, rest) = rayon::join(groups, || group(&rest));
        Self { cuts, sketches, groups, rest }
    }

    /// Whether a step may hold for packets of a sketch. If not, it surely does not.
    pub(crate) fn may_meet(&self, signature: &CubeSignature, step: u32) -> bool {
        signature.may_meet(&self.sketches[step as usize])
    }

    /// The groups whose grouped fields may match.
    fn groups(&self, may_hold: impl Fn(Field, &Ranges) -> bool) -> impl Iterator<Item = &Group> {
        let fits = move |common: &Common| {
            let mut sides = GROUPED.iter().zip(common);
            sides.all(|(field, ranges)| ranges.as_ref().is_none_or(|ranges| may_hold(*field, ranges)))
        };
        let groups = self.groups.iter().filter(move |(common, _)| fits(common)).map(|(_, group)| group);
        std::iter::once(&self.rest).chain(groups)
    }

    /// Looks a packet up.
    pub(crate) fn look_up<'a>(&'a self, point: &'a Point) -> LookedUp<'a> {
        let signature = self.cuts.point(point);
        let mut lists = Vec::new();
        for group in self.groups(|field, ranges| holds(ranges, point[field as usize])) {
            group.all.lists(point, &mut lists);
        }
        LookedUp { point, signature, lists }
    }

    /// Whether two cubes may match the same steps.
    pub(crate) fn alike(one: &Cube, other: &Cube) -> bool {
        GROUPED.iter().chain(&KEYS).all(|field| one.side(*field) == other.side(*field))
    }

    /// Passes on the steps of a span that may overlap a cube, in any order, some of them several times, and nothing for each
    /// non-overlapping one, until it is stopped.
    pub(crate) fn near(
        &self,
        cube: &Cube,
        span: &Range<u32>,
        found: &mut impl FnMut(Option<u32>) -> ControlFlow<()>,
    ) -> ControlFlow<()> {
        let signature = self.cuts.cube(cube);
        let meets = |field, ours: &Ranges| cube.side(field).is_none_or(|theirs| have_common(ours, theirs));
        for group in self.groups(meets) {
            let tree = match &group.parted {
                Some((grid, others)) => {
                    grid.near(&signature, &self.sketches, span, found)?;
                    others
                }
                None => &group.all,
            };
            tree.near(cube, span, &mut |step| found(self.may_meet(&signature, step).then_some(step)))?;
        }
        ControlFlow::Continue(())
    }
}

impl Tree {
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
                    Block::Tree(Self::by(&rest, steps, &list, greatest))
                } else {
                    Block::List(list)
                }
            };
            let blocks = found.into_iter().map(|(key, list)| (key, block(list))).collect();
            Table { field: *field, width, blocks, lengths }
        });
        let span = numbers.first().copied().unwrap_or(0)..numbers.last().map_or(0, |last| last + 1);
        Self { tables: tables.collect(), others, span }
    }

    fn lists<'a>(&'a self, point: &Point, to: &mut Vec<&'a [u32]>) {
        if !self.others.is_empty() {
            to.push(&self.others);
        }
        for table in &self.tables {
            let value = point[table.field as usize];
            for length in &table.lengths {
                match table.blocks.get(&(block_of(value, *length, table.width), *length)) {
                    Some(Block::List(list)) => to.push(list),
                    Some(Block::Tree(inner)) => inner.lists(point, to),
                    None => {}
                }
            }
        }
    }

    fn near(
        &self,
        cube: &Cube,
        span: &Range<u32>,
        found: &mut impl FnMut(u32) -> ControlFlow<()>,
    ) -> ControlFlow<()> {
        if self.span.end <= span.start || span.end <= self.span.start {
            return ControlFlow::Continue(());
        }
        within(&self.others, span).try_for_each(&mut *found)?;
        for table in &self.tables {
            for (first, last) in cube.side(table.field).map_or(&[(0, Value::MAX)][..], |side| side) {
                for block in table.within(*first, *last).chain(table.around(*first)) {
                    match block {
                        Block::List(list) => within(list, span).try_for_each(&mut *found)?,
                        Block::Tree(inner) => inner.near(cube, span, found)?,
                    }
                }
            }
        }
        ControlFlow::Continue(())
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

/// The ranges of the grouped fields of a region, where they are the same in all its cubes.
fn in_common(region: &Region) -> Common {
    GROUPED.map(|field| {
        let mut sides = region.cubes.iter().map(|cube| cube.side(field));
        let first = sides.next()??;
        sides.all(|side| side == Some(first)).then(|| first.clone())
    })
}

/// The first value of the block that contains a value, with this number of leading bits.
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
    use crate::cube::{FIELDS, ranges};
    use crate::program::{Action, Ending};
    use proptest::prelude::*;

    /// The greatest value of the fields in these tests; of two bytes, so that there are networks in networks.
    const GREATEST: Value = 0xffff;

    /// A network, some of them wide, or a few hosts.
    fn addresses() -> impl Strategy<Value = Ranges> {
        let network = (0..=GREATEST, prop::sample::select(vec![0u32, 0, 4, 8, 8, 12, 15]))
            .prop_map(|(value, low)| (value >> low << low, value >> low << low | ((1 << low) - 1)));
        prop::collection::vec(network, 1..4).prop_map(ranges)
    }

    /// A cube of addresses and ports of one interface or of any; not all of them are restricted in every field.
    fn cube() -> impl Strategy<Value = Cube> {
        let side = |field, values: BoxedStrategy<Ranges>| {
            let restricted = values.prop_map(move |all| Cube::of(field, all).expect("some"));
            prop_oneof![1 => Just(Cube::all()), 6 => restricted]
        };
        let one = |end: Value| (0..end).prop_map(|value| ranges(vec![(value, value)])).boxed();
        let sides = (
            side(Field::Entering, one(3)),
            side(Field::Destination, addresses().boxed()),
            side(Field::Source, addresses().boxed()),
            side(Field::DestinationPort, one(40)),
        );
        sides.prop_filter_map("a cube", |(a, b, c, d)| a.and(&b)?.and(&c)?.and(&d))
    }

    fn steps() -> impl Strategy<Value = Vec<Step>> {
        let region = prop_oneof![
            12 => cube().prop_map(|cube| vec![cube]),
            2 => prop::collection::vec(cube(), 2..4),
            1 => Just(Vec::new()),
        ];
        let step = region.prop_map(|cubes| Step {
            region: Region { cubes, exact: true },
            action: Action::End(Ending::Drop),
            rule: None,
            logs: false,
            own_exact: true,
            singles_out: false,
            inner_end: 0,
        });
        // Few enough for one list, or enough for groups, grids of many cells and trees in trees.
        prop_oneof![prop::collection::vec(step.clone(), 0..40), prop::collection::vec(step, 300..700)]
    }

    /// The index of some steps, and all of them in one tree, as those are that no grid keeps.
    fn index_and_tree(steps: &[Step]) -> (Index, Tree) {
        let greatest = [GREATEST; FIELDS];
        let numbers: Vec<u32> =
            (0..).zip(steps).filter(|(_, step)| !step.region.is_empty()).map(|(number, _)| number).collect();
        (Index::of(steps, &greatest), Tree::by(&KEYS, steps, &numbers, &greatest))
    }

    proptest! {
        #![proptest_config(ProptestConfig::with_cases(40))]

        #[test]
        fn every_step_that_meets_a_cube_is_found(
            steps in steps(),
            cubes in prop::collection::vec(cube(), 8),
            span in (0u32..700, 0u32..700),
        ) {
            let (index, tree) = index_and_tree(&steps);
            let span = span.0.min(span.1)..span.0.max(span.1);
            for cube in &cubes {
                let mut found = std::collections::BTreeSet::new();
                let whole = index.near(cube, &span, &mut |number| {
                    found.extend(number);
                    ControlFlow::Continue(())
                });
                prop_assert!(whole.is_continue());
                let mut in_tree = std::collections::BTreeSet::new();
                let whole = tree.near(cube, &span, &mut |number| {
                    in_tree.insert(number);
                    ControlFlow::Continue(())
                });
                prop_assert!(whole.is_continue());
                prop_assert!(found.union(&in_tree).all(|number| span.contains(number)));
                let meets = |number: &u32| steps.get(*number as usize).is_some_and(|step| step.region.meets(cube));
                for number in span.clone().filter(meets) {
                    prop_assert!(found.contains(&number) && in_tree.contains(&number), "{} {:?}", number, cube);
                }
            }
        }

        #[test]
        fn every_step_that_holds_for_a_packet_is_in_a_list(steps in steps(), around in prop::collection::vec(cube(), 8)) {
            let (index, tree) = index_and_tree(&steps);
            // Packets at the corners of steps, and of cubes that have nothing to do with them.
            for cube in steps.iter().flat_map(|step| &step.region.cubes).take(60).chain(&around) {
                for last in [false, true] {
                    let end = |side: &Ranges| if last { side[side.len() - 1].1 } else { side[0].0 };
                    let point: Point =
                        std::array::from_fn(|at| cube.side(crate::space::field(at)).map_or(7, end));
                    let packet = index.look_up(&point);
                    let mut in_tree = Vec::new();
                    tree.lists(&point, &mut in_tree);
                    prop_assert!(packet.lists.iter().chain(&in_tree).all(|list| list.is_sorted()));
                    for (number, _) in (0..).zip(&steps).filter(|(_, step)| step.region.contains(&point)) {
                        let is_in = |lists: &[&[u32]]| lists.iter().any(|list| list.contains(&number));
                        prop_assert!(is_in(&packet.lists) && is_in(&in_tree), "{} {:?}", number, point);
                        prop_assert!(index.may_meet(&packet.signature, number));
                    }
                }
            }
        }
    }

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
