//! The outcome as text for a terminal, grouped by area in the order of the work.

mod page;
mod short;

use crate::Renderer;
pub use page::Detail;
pub(crate) use page::style;
use page::{BOLD, DIM, PATH, Page, WIDEST_PROSE, mark, place_and_title};
pub(crate) use page::{answered, fitted, idle, said, short, stale};
use rayon::prelude::*;
use std::collections::BTreeSet;
use std::io;
use trevlin_audit::{Area, Outcome};

/// Styled text; styles are removed on output where they are not wanted.
#[derive(Debug, Clone, Copy)]
pub struct Text<'a> {
    /// Columns to fill, at least 40.
    pub width: usize,
    /// Amount of detail.
    pub detail: Detail,
    /// The command that made the outcome, to name what shows more: `trevlin audit exports`.
    pub again: &'a str,
}

impl Renderer for Text<'_> {
    fn render(&self, outcome: &Outcome, out: &mut dyn io::Write) -> io::Result<()> {
        let mut page = Page {
            text: String::new(),
            width: self.width.clamp(40, WIDEST_PROSE),
            wide: self.width.max(40),
            detail: self.detail,
            again: self.again,
            explained: BTreeSet::new(),
        };
        // Writing to a string does not fail.
        let _ = page.outcome(outcome);
        out.write_all(page.text.as_bytes())
    }
}

impl Page<'_> {
    pub(crate) fn outcome(&mut self, outcome: &Outcome) -> std::fmt::Result {
        if self.detail == Detail::Lines {
            return self.lines(outcome);
        }
        crate::incomplete::told(&outcome.incomplete, self.detail == Detail::All, &mut self.text)?;
        if self.detail == Detail::Short && short::is_long(outcome) {
            return self.short(outcome);
        }
        // A check belongs to one area, so an earlier explanation is in the same one.
        let areas: Vec<String> =
            Area::ALL.into_par_iter().map(|area| self.area(outcome, area)).collect::<Result<_, _>>()?;
        self.text.extend(areas);
        self.accepted(outcome)?;
        self.questions(outcome)?;
        self.answers(outcome)?;
        self.not_understood(outcome)?;
        self.left_out(outcome)?;
        self.summary(outcome)
    }
}
