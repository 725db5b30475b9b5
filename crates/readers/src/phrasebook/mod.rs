//! Phrasebooks: our own form for describing an appliance's export without programming. A phrasebook states how to recognise the export, the
//! shape of its statements, and for each phrase the fields of the device sheet that receive its values.

mod beside;
mod book;
mod check;
mod columns;
mod date;
mod guide;
mod hidden;
mod land;
mod near;
mod open;
mod pattern;
mod rounds;
mod shape;
mod shelf;
mod syntax;
mod target;
pub(crate) mod targets;
#[cfg(test)]
mod tests;
mod value;
pub(crate) mod word;

pub use book::{BOOK, Phrasebook};
pub use guide::guide;
pub use shelf::Shelf;

use crate::reader::{LineRecorder, Reading, Recognition, TELLING_LINES};
use crate::sheet::node::Node;
use crate::sheet::write_node;
use beside::{Beside, Collector};
use book::{Level, Phrase};
use land::{Place, Sheet};
use open::{Beginnings, Block, Landed, Part};
use pattern::{Taken, Word};
use rayon::prelude::*;
use rounds::{Rounds, Run};
use shape::{DEPTH, Sink};
use std::collections::{BTreeMap, BTreeSet};
use std::ops::Range;
use std::sync::Arc;
use target::{Plan, Target, Values, apart};
use trevlin_model::secret::Masker;
use trevlin_model::{Export, Limit, LineClass, Note, Origin};
use value::Kind;

/// Result for a statement.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum PhraseResult {
    /// A phrase took it: its line in the phrasebook, and how it is written.
    Phrase(u32, Arc<str>),
    /// A statement without relevance.
    Passed,
    /// No phrase matches, or its values are invalid.
    Nobody(String),
}

/// An export as a phrasebook reads it, statement by statement.
#[derive(Debug, Default)]
pub struct Tried {
    /// Result for each statement, in the order of the export, with its line.
    pub statements: Vec<(Origin, PhraseResult)>,
    /// The sheet that comes out, secrets masked.
    pub sheet: String,
    /// Errors of the resulting sheet.
    pub notes: Vec<Note>,
    /// Facts, ledger, notes.
    pub reading: Reading,
}

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
        let walk = |(at, (book, export)): (usize, &(&Self, &Export))| {
            let first = !of_device[..at].iter().any(|(other, _)| std::ptr::eq(*other, *book));
            book.walk(export, false, shape::length(export), Walk { number: at as u64, defaults: first })
        };
        let walked: Vec<Walked> = of_device.par_iter().enumerate().map(walk).collect();
        let exports: Vec<&Export> = of_device.iter().map(|(_, export)| *export).collect();
        finished(&exports, walked).into_iter().map(|tried| tried.reading).collect()
    }

    /// The same, with what became of each statement.
    #[must_use]
    pub fn try_on(&self, export: &Export) -> Tried {
        self.run(export, true, shape::length(export))
    }

    /// The same for several exports of one device. The sheet and its errors are with the first.
    #[must_use]
    pub fn try_together(&self, exports: &[&Export]) -> Vec<Tried> {
        let walk = |(at, export): (usize, &&Export)| {
            self.walk(export, true, shape::length(export), Walk { number: at as u64, defaults: at == 0 })
        };
        let walked: Vec<Walked> = exports.par_iter().enumerate().map(walk).collect();
        finished(exports, walked)
    }

    /// `length`: number of lines that one thread processes. The result does not depend on it.
    fn run(&self, export: &Export, tells: bool, length: u32) -> Tried {
        let walked = self.walk(export, tells, length, Walk { number: 0, defaults: true });
        finished(&[export], vec![walked]).pop().unwrap_or_default()
    }

    /// Lets the phrases take the statements.
    fn walk(&self, export: &Export, tells: bool, length: u32, walk: Walk) -> Walked {
        let (index, rule_words) = (self.index(), Beginnings::of(self));
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
                all_open: false,
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

    /// Phrases by the first word of their last level, and by depth.
    fn index(&self) -> Index<'_> {
        let mut index = Index::default();
        for (number, phrase) in self.phrases.iter().enumerate() {
            let depth = if phrase.anywhere { None } else { Some(phrase.levels.len()) };
            let last = phrase.levels.last().and_then(|(level, _)| self.levels[*level].pattern.as_ref());
            let word = last.and_then(|pattern| pattern.first_word());
            index.by_word.entry(word).or_default().push((depth, number));
        }
        index
    }
}

/// Why a statement does not pass.
const IN_A_RULE: &str = "a pattern of `passes` that names no block does not hold within rules, names and lists; name the block, as in \
                         `rule {_name} > colour {_colour}`";

/// Maximum number of words in a statement: the memory of a pattern grows with them.
const LONGEST: usize = 4000;

/// Numbers of phrases by the first word of a statement, each with the required depth, if any.
#[derive(Debug, Default)]
struct Index<'a> {
    by_word: BTreeMap<Option<&'a str>, Vec<(Option<usize>, usize)>>,
}

impl Index<'_> {
    /// Those for a statement, in the order of the book.
    fn of(&self, depth: usize, word: &str, into: &mut Vec<usize>) {
        into.clear();
        for word in [Some(word), None] {
            let all = self.by_word.get(&word).into_iter().flatten();
            into.extend(all.filter(|one| one.0.is_none_or(|wanted| wanted == depth)).map(|one| one.1));
        }
        into.sort_unstable();
    }
}

/// Places, to ask whether one of them holds another.
struct Near {
    /// In order, each with the furthest end of those up to it.
    places: Vec<(u32, u32)>,
}

impl Near {
    fn of(mut places: Vec<Origin>) -> Self {
        places.sort_unstable();
        places.dedup();
        let mut furthest = 0;
        let reach = |place: Origin| {
            furthest = furthest.max(place.end);
            (place.start, furthest)
        };
        Self { places: places.into_iter().map(reach).collect() }
    }

    fn holds(&self, place: Origin) -> bool {
        let before = self.places.partition_point(|(start, _)| *start <= place.start);
        before > 0 && self.places[before - 1].1 >= place.end
    }
}

/// A statement that may contain others.
#[derive(Debug)]
struct Frame<'a> {
    words: Vec<Word<'a>>,
    line: Origin,
    number: u64,
    /// Results of level patterns, each computed once.
    known: Vec<(usize, Option<Vec<Taken>>)>,
    /// Why no phrase took the statement itself.
    nobody: Option<String>,
    /// A phrase for a statement within it that has a level for it.
    holds: Option<usize>,
    /// Its number among the results that are told.
    told: usize,
    /// Entries of the rule base that it is the block of.
    landed: Landed,
    /// Places of statements within it that no phrase took, and that have no block of their own.
    open: Vec<Origin>,
    /// Rules within it of which nothing is known, by number.
    unread: Vec<usize>,
    /// Statements within it that pass everywhere, each with its number among the results that are told.
    passed: Vec<(Origin, usize)>,
}

impl Frame<'_> {
    fn new(line: Origin) -> Self {
        Self {
            words: Vec::new(),
            line,
            number: 0,
            known: Vec::new(),
            nobody: None,
            holds: None,
            told: 0,
            landed: Landed::default(),
            open: Vec::new(),
            unread: Vec::new(),
            passed: Vec::new(),
        }
    }
}

/// Match of each level of a phrase: the depth of its statement, and the number of its result there.
type ByLevel = Vec<(usize, usize)>;

/// Result for a statement, before messages are requested.
enum Outcome {
    /// The phrase of this number took it.
    Phrase(usize),
    Passed,
    /// The same by a pattern that does not name the statements around it.
    PassedAnywhere,
    Nobody(String),
}

struct Runner<'a, 'b> {
    book: &'b Phrasebook,
    export: &'a Export,
    index: &'b Index<'b>,
    /// By phrase, what lands, and what does where the statement is denied.
    lands: Vec<[Vec<(Target, Plan)>; 2]>,
    /// Words that parts of a rule base begin with.
    rule_words: &'b Beginnings<'b>,
    frames: Vec<Frame<'a>>,
    /// How many of these hold the statement at hand, with it.
    active: usize,
    candidates: Vec<usize>,
    depth: usize,
    number: u64,
    /// Statements that phrases depend on.
    beside: Beside,
    out: Walked,
}

/// How an export is gone through.
#[derive(Debug, Clone, Copy)]
struct Walk {
    /// Its number among those of the device.
    number: u64,
    /// Whether what the documentation states lands as well.
    defaults: bool,
}

/// What the phrases took of an export.
struct Walked {
    sheet: Sheet,
    notes: Vec<Note>,
    cuts: Vec<Origin>,
    classes: Vec<(Origin, LineClass)>,
    masked: Vec<Origin>,
    told: Option<Vec<(Origin, PhraseResult)>>,
    /// Places of parts of a rule base that were not understood.
    near_rules: Vec<Origin>,
    /// Whether these leave the whole rule base open.
    all_open: bool,
}

impl Walked {
    /// Adds the result of the piece that follows.
    fn followed_by(mut self, later: Self) -> Self {
        self.sheet.append(later.sheet);
        self.notes.extend(later.notes);
        self.cuts.extend(later.cuts);
        self.classes.extend(later.classes);
        self.masked.extend(later.masked);
        self.near_rules.extend(later.near_rules);
        self.all_open |= later.all_open;
        if let (Some(told), Some(later)) = (&mut self.told, later.told) {
            told.extend(later);
        }
        self
    }
}

/// Results of one export by statement: classes of lines, what is nested too deep, what is masked, and what became of each.
type Rest = (Vec<(Origin, LineClass)>, Vec<Origin>, Vec<Origin>, Option<Vec<(Origin, PhraseResult)>>);

/// The readings of the exports of a device, in their order.
fn finished(exports: &[&Export], walked: Vec<Walked>) -> Vec<Tried> {
    let Some(first) = exports.first() else { return Vec::new() };
    let tells = walked.iter().any(|one| one.told.is_some());
    let all_open = walked.iter().any(|one| one.all_open);
    let mut sheet = Sheet::new(first.origin(0..0));
    let (mut notes, mut near_rules, mut rest) = (Vec::new(), Vec::new(), Vec::new());
    for one in walked {
        sheet.append(one.sheet);
        notes.extend(one.notes);
        near_rules.extend(one.near_rules);
        rest.push((one.classes, one.cuts, one.masked, one.told));
    }
    let facts = || {
        let top: Node = sheet.finish(&mut notes);
        let shown = tells.then(|| top.clone());
        (crate::sheet::facts(first, top), shown)
    };
    let ledgers = || {
        let one = |(export, (classes, cuts, masked, told)): (&&Export, Rest)| {
            let mut reading = Reading::of(export);
            let mut book = LineRecorder::new(export, &mut reading.ledger, &mut reading.elsewhere);
            classes.into_iter().for_each(|(origin, class)| book.class(origin, class));
            cuts.into_iter().for_each(|at| book.cut(at, Limit::Nesting, "nested statements"));
            (Tried { statements: told.unwrap_or_default(), reading, ..Tried::default() }, masked)
        };
        exports.iter().zip(rest).map(one).collect::<Vec<_>>()
    };
    let (((mut found, unjoined), shown), read) = rayon::join(facts, ledgers);
    // What is left open is reported with the statement that was not understood.
    if !near_rules.is_empty() {
        let near = Near::of(near_rules);
        found.notes.retain(|note| !near.holds(note.origin));
    }
    if all_open {
        found.facts.filters.iter_mut().for_each(|filter| filter.complete = false);
    }
    let mut facts = Some(found.facts);
    let of_sheet = found.notes;
    let mut all: Vec<Tried> = Vec::new();
    for (export, (mut one, masked)) in exports.iter().zip(read) {
        let reading = &mut one.reading;
        let mut book = LineRecorder::new(export, &mut reading.ledger, &mut reading.elsewhere);
        let own = |note: &&Note| note.origin.export == export.id();
        for note in notes.iter().filter(own) {
            book.not_understood(note.origin, note.text.clone());
        }
        for note in of_sheet.iter().filter(own) {
            book.not_understood(note.origin, format!("the resulting sheet: {}", note.text));
        }
        if let Some(facts) = facts.take() {
            *reading.facts = facts;
        }
        reading.facts.masked_places.extend(masked);
        all.push(one);
    }
    if let Some(mut top) = shown {
        for (one, export) in all.iter_mut().zip(exports) {
            crate::announced::add(export, &mut one.reading.facts);
        }
        let facts = || all.iter().map(|one| &one.reading.facts);
        let places: Vec<Origin> = facts().flat_map(|facts| facts.masked_places.iter().copied()).collect();
        let masker = Masker::new(facts().flat_map(|facts| facts.to_mask()), &places);
        // A secret that is an ordinary word is masked where it is one, and nowhere else.
        let places: BTreeSet<Origin> = places.into_iter().collect();
        hidden::hide(&mut top, &places);
        let sheet = write_node(&top, exports, &|text| masker.mask(text));
        if let Some(one) = all.first_mut() {
            one.sheet = sheet;
            one.notes = of_sheet.into_iter().chain(unjoined).collect();
        }
    }
    all
}

impl<'a> Sink<'a> for Runner<'a, '_> {
    fn statement(&mut self, depth: usize, words: &[Word<'a>], line: Origin) {
        let depth = depth.min(DEPTH);
        self.close(depth);
        // A block without words of its own holds what is in it.
        while self.active <= depth {
            if self.frames.len() == self.active {
                self.frames.push(Frame::new(line));
            }
            self.number += 1;
            let frame = &mut self.frames[self.active];
            frame.words.clear();
            frame.known.clear();
            (frame.line, frame.number, frame.nobody, frame.holds) = (line, self.number, None, None);
            self.active += 1;
        }
        self.depth = depth;
        let frame = &mut self.frames[depth];
        frame.words.extend_from_slice(words);
        let outcome = if words.len() > LONGEST {
            Outcome::Nobody(format!("this statement has more than {LONGEST} words, the limit for a phrase"))
        } else {
            let mut candidates = std::mem::take(&mut self.candidates);
            let outcome = self.take(line, &mut candidates);
            self.candidates = candidates;
            outcome
        };
        let told = self.out.told.as_ref().map_or(0, Vec::len);
        let took = match outcome {
            Outcome::Phrase(number) => {
                self.out.classes.push((line, LineClass::Understood));
                self.phrase_result(number)
            }
            Outcome::Passed => PhraseResult::Passed,
            Outcome::PassedAnywhere => {
                if let Some(outer) = depth.checked_sub(1) {
                    self.frames[outer].passed.push((line, told));
                }
                PhraseResult::Passed
            }
            Outcome::Nobody(why) => {
                let frame = &mut self.frames[depth];
                (frame.nobody, frame.told) = (Some(why.clone()), told);
                PhraseResult::Nobody(why)
            }
        };
        if let Some(all) = &mut self.out.told {
            all.push((line, took));
        }
    }

    fn cut(&mut self, at: Origin) {
        self.out.cuts.push(at);
        if let Some(told) = &mut self.out.told {
            told.push((at, PhraseResult::Nobody("this statement is nested deeper than is followed".into())));
        }
    }

    fn broken(&mut self, at: Origin, what: &str) {
        self.out.notes.push(Note { origin: at, text: what.to_owned() });
        if let Some(told) = &mut self.out.told {
            told.push((at, PhraseResult::Nobody(what.to_owned())));
        }
    }
}

impl<'a> Runner<'a, '_> {
    /// Defaults according to the appliance's documentation, at the first line of the export.
    fn always(&mut self) {
        let first =
            self.export.line(1).map_or(self.export.origin(0..0), |line| self.export.origin_of(line.text));
        let place = Place { number: 0, round: 0, line: first, levels: &[] };
        self.out.sheet.land(&self.book.always, &Values::default(), &place, |_| ());
    }

    fn phrase_result(&self, number: usize) -> PhraseResult {
        let phrase = &self.book.phrases[number];
        PhraseResult::Phrase(phrase.line, Arc::clone(&phrase.says))
    }

    /// Ends the statements from a depth on: what they hold is complete.
    fn close(&mut self, depth: usize) {
        while self.active > depth {
            self.active -= 1;
            self.close_one(self.active);
        }
    }

    fn close_one(&mut self, depth: usize) {
        let (outer, inner) = self.frames.split_at_mut(depth);
        let Some(frame) = inner.first_mut() else { return };
        let outer = outer.last().map(|frame| &frame.words[..]);
        let (line, mut open) = (frame.line, std::mem::take(&mut frame.open));
        let landed = frame.landed.take();
        let unread = std::mem::take(&mut frame.unread);
        let passed = std::mem::take(&mut frame.passed);
        if !unread.is_empty() {
            self.out.sheet.in_the_list_of(&unread, line);
        }
        let mut begins = None;
        match (frame.nobody.take(), frame.holds) {
            // A statement that holds one that is understood, by a phrase with a level for it, is understood with it.
            (Some(_), Some(number)) => {
                let told = frame.told;
                self.out.classes.push((line, LineClass::Understood));
                let result = self.phrase_result(number);
                if let Some(one) = self.out.told.as_mut().and_then(|all| all.get_mut(told)) {
                    one.1 = result;
                }
            }
            (Some(text), None) => {
                open.push(line);
                begins = self.rule_words.of_statement(self.book, depth, &frame.words);
                self.out.masked.extend(hidden::places(self.export, outer, &frame.words));
                self.out.notes.push(Note { origin: line, text });
            }
            (None, _) => {}
        }
        // What has no relevance elsewhere may be a condition of a rule.
        if !passed.is_empty() && !landed.is_empty() {
            for (place, told) in passed {
                open.push(place);
                self.out.notes.push(Note { origin: place, text: IN_A_RULE.to_owned() });
                if let Some(one) = self.out.told.as_mut().and_then(|all| all.get_mut(told)) {
                    one.1 = PhraseResult::Nobody(IN_A_RULE.to_owned());
                }
            }
        } else if let Some(outer) = depth.checked_sub(1) {
            self.frames[outer].passed.extend(passed);
        }
        if open.is_empty() {
            return;
        }
        if !landed.is_empty() {
            for (part, at) in landed {
                match self.out.sheet.leave_open(part, at, line) {
                    Some(place) => self.out.near_rules.push(place),
                    None => self.out.all_open = true,
                }
            }
            self.out.near_rules.extend(open);
        } else if let Some(begins) = begins {
            if begins.rule {
                let number = self.out.sheet.unread(line);
                if let Some(outer) = depth.checked_sub(1) {
                    self.frames[outer].unread.extend(number);
                }
            }
            self.out.all_open |= begins.whole;
            self.out.near_rules.extend(open);
        } else if let Some(outer) = depth.checked_sub(1) {
            self.frames[outer].open.extend(open);
        }
    }

    fn take(&mut self, line: Origin, candidates: &mut Vec<usize>) -> Outcome {
        let depth = self.depth;
        let Some(first) = self.frames[depth].words.first().map(|word| word.text) else {
            return Outcome::Passed;
        };
        self.index.of(depth + 1, first, candidates);
        let mut nobody = None;
        if let Some(took) = self.take_by(candidates, line, false, &mut nobody) {
            return took;
        }
        if self.book.negation.iter().any(|word| word == first) && self.frames[depth].words.len() > 1 {
            let negation = self.frames[depth].words.remove(0);
            self.frames[depth].known.clear();
            let second = self.frames[depth].words[0].text;
            self.index.of(depth + 1, second, candidates);
            let took = self.take_by(candidates, line, true, &mut nobody);
            self.frames[depth].words.insert(0, negation);
            self.frames[depth].known.clear();
            if let Some(took) = took {
                return took;
            }
        }
        if let Some(passed) = self.passes(first) {
            return passed;
        }
        let nearest = || {
            // Only where it is shown: it examines every phrase.
            self.out.told.as_ref()?;
            let words = self.frames[..=depth].iter().map(|frame| &frame.words[..]).collect();
            near::nearest(self.book, &near::Around { words })
        };
        let told = nobody.or_else(nearest);
        Outcome::Nobody(told.unwrap_or_else(|| format!("no phrase of {} matches", self.book.name)))
    }

    /// Whether a statement is without relevance.
    fn passes(&self, first: &str) -> Option<Outcome> {
        let depth = self.depth;
        let words = &self.frames[depth].words;
        let negated = words.len() > 1 && self.book.negation.iter().any(|word| word == first);
        let fits = |level: &Level, words: &[Word<'_>]| {
            level.pattern.as_ref().is_none_or(|one| one.matches(words).is_some())
        };
        let mut anywhere = false;
        for pass in &self.book.passes {
            let Some((own, around)) = pass.levels.split_last() else { continue };
            if !fits(own, words) && !(negated && fits(own, &words[1..])) {
                continue;
            }
            if around.is_empty() && !pass.anywhere {
                anywhere = true;
                continue;
            }
            let Some(outer) = depth.checked_sub(around.len()).filter(|outer| *outer == 0 || pass.anywhere)
            else {
                continue;
            };
            if around.iter().zip(&self.frames[outer..depth]).all(|(level, frame)| fits(level, &frame.words)) {
                return Some(Outcome::Passed);
            }
        }
        anywhere.then_some(if depth == 0 { Outcome::Passed } else { Outcome::PassedAnywhere })
    }

    /// The first matching phrase with valid values; `nobody` explains why a matching one was rejected.
    fn take_by(
        &mut self,
        candidates: &[usize],
        line: Origin,
        negated: bool,
        nobody: &mut Option<String>,
    ) -> Option<Outcome> {
        let mut rest = candidates;
        while let Some((at, taken)) = self.first_of(rest) {
            match self.land(rest[at], &taken, line, negated) {
                Outcome::Nobody(why) => {
                    nobody.get_or_insert(why);
                }
                took => return Some(took),
            }
            rest = &rest[at + 1..];
        }
        None
    }

    /// The first phrase that fits the statement and those around it, with what each level took.
    fn first_of(&mut self, candidates: &[usize]) -> Option<(usize, ByLevel)> {
        let book = self.book;
        'phrases: for (place, number) in candidates.iter().enumerate() {
            let phrase = &book.phrases[*number];
            let Some(outer) = (self.depth + 1).checked_sub(phrase.levels.len()) else { continue };
            let mut all = Vec::with_capacity(phrase.levels.len());
            // The innermost first: it is the most specific.
            for (at, (level, _)) in phrase.levels.iter().enumerate().rev() {
                let frame = &mut self.frames[outer + at];
                let known = frame.known.iter().position(|(one, _)| one == level);
                let known = known.unwrap_or_else(|| {
                    let taken = match &book.levels[*level].pattern {
                        Some(pattern) => pattern.matches(&frame.words),
                        None => Some(Vec::new()),
                    };
                    frame.known.push((*level, taken));
                    frame.known.len() - 1
                });
                if frame.known[known].1.is_none() {
                    continue 'phrases;
                }
                all.push((outer + at, known));
            }
            let around = || self.frames[outer..self.depth].iter().map(|frame| frame.number);
            let beside =
                |(condition, wanted): &(usize, bool)| self.beside.holds(*condition, around()) == *wanted;
            if !phrase.beside.iter().all(beside) {
                continue;
            }
            all.reverse();
            return Some((place, all));
        }
        None
    }

    /// Notes for the statements around one that a phrase takes that it has a level for each of them.
    fn hold(&mut self, number: usize, taken: &ByLevel) {
        let outer = taken.len().saturating_sub(1);
        for (depth, _) in &taken[..outer] {
            self.frames[*depth].holds.get_or_insert(number);
        }
    }

    fn land(&mut self, number: usize, taken: &ByLevel, line: Origin, negated: bool) -> Outcome {
        let book = self.book;
        let phrase = &book.phrases[number];
        let lands = &self.lands[number][usize::from(negated)];
        // Many statements are known and say nothing that lands.
        let plain = |(_, kind): &(String, Kind)| !matches!(kind, Kind::Secret | Kind::Mapped(_));
        if lands.is_empty() && phrase.kinds.iter().all(plain) {
            self.hold(number, taken);
            return Outcome::Phrase(number);
        }
        let negated = usize::from(negated);
        let mut rounds = phrase.runs[negated].iter().any(Run::repeats).then(Rounds::default);
        let mut masked = std::mem::take(&mut self.out.masked);
        let values = self.values(phrase, taken, line, &mut masked, rounds.as_mut());
        self.out.masked = masked;
        let (mut values, rounds) = match values {
            Ok(values) => (values, rounds.unwrap_or_default()),
            Err(why) => return Outcome::Nobody(why),
        };
        let levels: Vec<(u64, Origin)> =
            taken.iter().map(|(depth, _)| (self.frames[*depth].number, self.frames[*depth].line)).collect();
        let (mut in_rule, mut failed) = (false, None);
        for run in &phrase.runs[negated] {
            let land = |values: &Values, round: u64| {
                let place = Place { number: self.number, round, line, levels: &levels };
                let blocks = &phrase.blocks[negated];
                let mut filled = 0u32;
                self.out.sheet.land(&lands[run.range.clone()], values, &place, |target| {
                    in_rule |= target.section() == Some("rules");
                    // Few phrases land in more than one part of a rule base, and none in thirty.
                    let own = |block: &Block| lands[block.target].0.first() == target.first();
                    filled |= blocks.iter().position(own).map_or(0, |at| 1 << at.min(31));
                });
                for (_, block) in blocks.iter().enumerate().filter(|(at, _)| filled & (1 << at.min(&31)) != 0)
                {
                    let at = match block.part {
                        Part::Whole => Some(0),
                        _ => lands[block.target]
                            .0
                            .first()
                            .and_then(|first| self.out.sheet.entry_of(first, values, &place)),
                    };
                    if let (Some(at), Some((depth, _))) = (at, taken.get(block.level)) {
                        self.frames[*depth].landed.add(block.part, at);
                    }
                }
            };
            if let Err(why) = rounds.each(run, &mut values, land) {
                failed = Some(why);
            }
        }
        // A statement of a rule of which nothing lands, for want of a value, leaves the rule out.
        let rule = phrase.blocks[negated].iter().any(|block| block.part == Part::Rule);
        if rule && !in_rule {
            failed.get_or_insert_with(|| {
                "nothing of this rule lands, because values that it needs are not in the statement".to_owned()
            });
        }
        if let Some(why) = failed {
            return Outcome::Nobody(why);
        }
        self.hold(number, taken);
        Outcome::Phrase(number)
    }

    /// Values of the captures of a match, and what each repetition took.
    fn values(
        &self,
        phrase: &Phrase,
        taken: &ByLevel,
        line: Origin,
        masked: &mut Vec<Origin>,
        mut rounds: Option<&mut Rounds>,
    ) -> Result<Values, String> {
        let mut values = Values::default();
        for (at, ((depth, known), (_, first))) in taken.iter().zip(&phrase.levels).enumerate() {
            let frame = &self.frames[*depth];
            for one in frame.known[*known].1.iter().flatten() {
                let cut;
                let (capture, words) = match *one {
                    Taken::Round(group) => {
                        rounds.iter_mut().for_each(|rounds| rounds.begin(phrase.groups[at] + group));
                        continue;
                    }
                    Taken::Done(group) => {
                        rounds.iter_mut().for_each(|rounds| rounds.done(phrase.groups[at] + group));
                        continue;
                    }
                    Taken::Words(capture, from, to) => (capture, &frame.words[from..to]),
                    Taken::Part(capture, word, from, to) => {
                        cut = [frame.words[word].part(from, to)];
                        (capture, &cut[..])
                    }
                };
                let (start, end) = (words[0].start, words[words.len() - 1].end);
                let origin = self.export.origin(start as usize..end as usize);
                let (_, kind) = &phrase.kinds[first + capture];
                if *kind == Kind::Secret {
                    masked.push(origin);
                }
                let text = self.export.text().get(start as usize..end as usize).unwrap_or_default();
                // A name that stands for a place before the value has no text of its own. What a statement around this one has is stated
                // here, but for secrets, which are masked where they are.
                let inner = at + 1 == taken.len() || *kind == Kind::Secret;
                let origin = if start == end || !inner { line } else { origin };
                let node = kind.value(words, text, origin, &self.book.maps)?;
                if let Some(rounds) = &mut rounds {
                    rounds.add(first + capture, node.clone());
                }
                values.add(first + capture, node);
            }
        }
        Ok(values)
    }
}
