//! Steps by where their destinations and sources lie: a grid of cells, one for each pair of spans of a sketch.

use crate::signature::{CubeSignature, SPANS};
use std::ops::{ControlFlow, Range};

/// A step that reaches into more cells than this is not kept here.
const MOST_CELLS: usize = 128;

/// Nor is one that reaches into more than this part of the rows or of the columns: its other address singles it out better.
const MOST_LINES: usize = 4;

/// Nor one in a cell with more steps than this: they differ in another field.
const MOST_IN_CELL: u32 = 192;

/// Some steps by the spans that their destinations and sources reach into.
#[derive(Debug)]
pub(crate) struct Grid {
    /// All of them, in order.
    steps: Vec<u32>,
    /// Two to the power of this are the spans of a sketch that are one row or one column.
    joined: u32,
    /// Where the steps of each cell begin in `held`, row by row, and where those of the last end.
    begins: Vec<u32>,
    /// Steps by cell, in order within it.
    held: Vec<u32>,
}

impl Grid {
    /// A grid of some steps, handed over in order, and those that are better kept otherwise.
    pub(crate) fn of(steps: &[u32], sketches: &[CubeSignature]) -> (Self, Vec<u32>) {
        // About as many cells as steps, so that few share one and most hold some.
        let side = steps.len().isqrt().next_power_of_two().min(SPANS);
        let joined = (SPANS / side).ilog2();
        let across = |step: &u32| {
            let [destination, source, _] = sketches[*step as usize].0;
            (lines(destination, joined), lines(source, joined))
        };
        let cells = |step: &u32| {
            let (rows, columns) = across(step);
            rows.flat_map(move |row| columns.clone().map(move |column| row * side + column))
        };
        let (mut steps, mut others): (Vec<u32>, Vec<u32>) = steps.iter().partition(|step| {
            let (rows, columns) = across(step);
            let (rows, columns) = (rows.count(), columns.count());
            rows * columns <= MOST_CELLS && rows.max(columns) * MOST_LINES <= side
        });
        let mut many = vec![0; side * side];
        steps.iter().flat_map(cells).for_each(|cell| many[cell] += 1);
        steps.retain(|step| {
            let fits = cells(step).all(|cell| many[cell] <= MOST_IN_CELL);
            if !fits {
                others.push(*step);
            }
            fits
        });
        others.sort_unstable();
        // Counted first, so that every step can be put where it belongs.
        let mut begins = vec![0; side * side + 1];
        for cell in steps.iter().flat_map(cells) {
            begins[cell + 1] += 1;
        }
        for cell in 0..side * side {
            begins[cell + 1] += begins[cell];
        }
        let mut next = begins.clone();
        let mut held = vec![0; begins[side * side] as usize];
        for step in &steps {
            for cell in cells(step) {
                held[next[cell] as usize] = *step;
                next[cell] += 1;
            }
        }
        (Self { steps, joined, begins, held }, others)
    }

    fn cell(&self, row: usize, column: usize) -> &[u32] {
        let at = row * (SPANS >> self.joined) + column;
        &self.held[self.begins[at] as usize..self.begins[at + 1] as usize]
    }

    /// Passes on the steps of a span that may overlap the signature's cube, each once, and nothing for each non-overlapping one, until it
    /// is stopped.
    pub(crate) fn near(
        &self,
        signature: &CubeSignature,
        sketches: &[CubeSignature],
        span: &Range<u32>,
        found: &mut impl FnMut(Option<u32>) -> ControlFlow<()>,
    ) -> ControlFlow<()> {
        let [rows, columns, _] = signature.0.map(|bits| lines(bits, self.joined));
        let cells = rows.clone().count() * columns.clone().count();
        let all = self.begins.len() - 1;
        // To ask every step is less than to ask many cells, of which most hold none, or steps that are in several.
        if cells * (all + self.held.len()) >= self.steps.len() * all {
            return within(&self.steps, span)
                .try_for_each(|step| found(signature.may_meet(&sketches[step as usize]).then_some(step)));
        }
        for row in rows {
            for column in columns.clone() {
                within(self.cell(row, column), span).try_for_each(|step| {
                    // Where they share several cells, it is the first that counts.
                    let first = signature.first_shared(&sketches[step as usize]);
                    let here = first.is_some_and(|(destination, source)| {
                        (destination >> self.joined, source >> self.joined) == (row, column)
                    });
                    found(here.then_some(step))
                })?;
            }
        }
        ControlFlow::Continue(())
    }
}

/// The rows or columns of some bits of a signature, with this number joined to one.
fn lines(mut bits: u128, joined: u32) -> impl Iterator<Item = usize> + Clone {
    let one = u128::MAX >> (SPANS - (1 << joined));
    std::iter::from_fn(move || {
        let line = (bits != 0).then(|| bits.trailing_zeros() >> joined)?;
        bits &= !(one << (line << joined));
        Some(line as usize)
    })
}

/// The steps of a list that lie in a span.
pub(crate) fn within(list: &[u32], span: &Range<u32>) -> impl Iterator<Item = u32> {
    let from = match list {
        // Most lists are short, and most spans begin before them: no need to search.
        [first, ..] if *first < span.start => list.partition_point(|one| *one < span.start),
        _ => 0,
    };
    list[from..].iter().copied().take_while(|one| *one < span.end)
}
