//! Phrasebooks: our own form for describing an appliance's export without programming. A phrasebook states how to recognise the export, the
//! shape of its statements, and for each phrase the fields of the device sheet that receive its values.

mod beginnings;
mod beside;
mod book;
mod check;
mod columns;
mod cutting;
mod date;
mod escapes;
mod grown;
mod guide;
mod hidden;
mod index;
mod land;
mod level;
mod likeness;
mod line_words;
mod near;
mod open;
mod pattern;
mod propose;
mod readings;
mod results;
mod review;
mod rounds;
mod runner;
mod settle;
mod shape;
mod shelf;
mod sink;
mod syntax;
mod taking;
mod target;
pub(crate) mod targets;
#[cfg(test)]
mod tests;
mod value;
pub(crate) mod word;

pub use book::{BOOK, Phrasebook};
pub use guide::guide;
pub use propose::proposed;
pub use results::{PhraseResult, Tried};
pub use shelf::Shelf;

use crate::reader::{Reading, Recognition, TELLING_LINES};
use beginnings::Beginnings;
use beside::{Beside, Collector};
use index::Index;
use land::Sheet;
use rayon::prelude::*;
use readings::{Walked, finished};
use runner::Runner;
use std::ops::Range;
use target::apart;
use trevlin_model::Export;

impl Phrasebook {
    /// Facts of an export.
    #[must_use]
    pub fn read_export(&self, export: &Export) -> Reading {
        self.run(export, false, shape::length(export)).reading
    }

    /// Facts of the exports of one device, each with its phrasebook: names that one of them defines are known to all. The facts are with
    /// the first.
    #[must_use]
    pub fn read_together(of_device: &[(&Self, &Export)]) -> Vec<Reading> {
        Self::together(of_device, false).into_iter().map(|tried| tried.reading).collect()
    }

    /// The same, with what became of each statement.
    #[must_use]
    pub fn try_on(&self, export: &Export) -> Tried {
        self.run(export, true, shape::length(export))
    }

    /// The same for several exports of one device. The sheet and its errors are with the first.
    #[must_use]
    pub fn try_together(&self, exports: &[&Export]) -> Vec<Tried> {
        let of_device: Vec<(&Self, &Export)> = exports.iter().map(|export| (self, *export)).collect();
        Self::together(&of_device, true)
    }

    /// Results for the exports of one device. Defaults of a phrasebook land once, with the first of its exports.
    fn together(of_device: &[(&Self, &Export)], tells: bool) -> Vec<Tried> {
        let walk = |(at, (book, export)): (usize, &(&Self, &Export))| {
            let first = !of_device[..at].iter().any(|(other, _)| std::ptr::eq(*other, *book));
            book.walk(export, tells, shape::length(export), Walk { number: at as u64, defaults: first })
        };
        let walked: Vec<Walked> = of_device.par_iter().enumerate().map(walk).collect();
        let exports: Vec<&Export> = of_device.iter().map(|(_, export)| *export).collect();
        finished(&exports, walked)
    }

    /// `length`: number of lines that one thread processes. The result does not depend on it.
    fn run(&self, export: &Export, tells: bool, length: u32) -> Tried {
        let walked = self.walk(export, tells, length, Walk { number: 0, defaults: true });
        finished(&[export], vec![walked]).pop().unwrap_or_default()
    }

    /// Lets the phrases take the statements.
    fn walk(&self, export: &Export, tells: bool, length: u32, walk: Walk) -> Walked {
        let (index, rule_words) = (Index::of(self), Beginnings::of(self));
        let start = |piece: usize| Runner {
            book: self,
            export,
            index: &index,
            lands: self.phrases.iter().map(|one| [apart(&one.lands), apart(&one.denied)]).collect(),
            rule_words: &rule_words,
            frames: Vec::new(),
            active: 0,
            candidates: Vec::new(),
            depth: 0,
            number: walk.number << 48 | (piece as u64) << 32,
            beside: Beside::default(),
            out: Walked {
                sheet: Sheet::new(export.origin(0..0)),
                notes: Vec::new(),
                cuts: Vec::new(),
                classes: Vec::new(),
                masked: Vec::new(),
                told: tells.then(Vec::new),
                near_rules: Vec::new(),
                possible: Vec::new(),
                all_open: false,
                unknown: Vec::new(),
            },
        };
        let pieces = shape::pieces(self.shape, &self.comments, &self.tables, export, length);
        let run = |(number, piece): (usize, &Range<u32>)| {
            let mut runner = start(number);
            if number == 0 && walk.defaults {
                runner.always();
            }
            if !self.conditions.is_empty() {
                let mut collector = Collector::of(self, runner.number);
                shape::walk(self.shape, &self.comments, &self.tables, export, piece.clone(), &mut collector);
                runner.beside = collector.found();
            }
            shape::walk(self.shape, &self.comments, &self.tables, export, piece.clone(), &mut runner);
            runner.close(0);
            runner.out
        };
        let runs: Vec<Walked> = pieces.par_iter().enumerate().map(run).collect();
        runs.into_iter().reduce(Walked::followed_by).unwrap_or_else(|| start(0).out)
    }
}

/// How an export is gone through.
#[derive(Debug, Clone, Copy)]
struct Walk {
    /// Its number among those of the device.
    number: u64,
    /// Whether what the documentation states lands as well.
    defaults: bool,
}
