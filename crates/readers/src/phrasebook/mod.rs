//! Phrasebooks: our own form for describing an appliance's export without programming. A phrasebook states how to recognise the export, the
//! shape of its statements, and for each phrase the fields of the device sheet that receive its values.

mod book;
mod check;
mod guide;
mod land;
mod pattern;
mod shape;
mod shelf;
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
use book::Level;
use land::{Place, Sheet};
use pattern::{Taken, Word};
use rayon::prelude::*;
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

    /// The same, with what became of each statement.
    #[must_use]
    pub fn try_on(&self, export: &Export) -> Tried {
        self.run(export, true, shape::length(export))
    }

    /// `length`: number of lines that one thread processes. The result does not depend on it.
    fn run(&self, export: &Export, tells: bool, length: u32) -> Tried {
        let (index, rule_words) = (self.index(), self.rule_words());
        let start = |piece: usize| Runner {
            book: self,
            export,
            index: &index,
            lands: self.phrases.iter().map(|one| [apart(&one.lands), apart(&one.denied)]).collect(),
            rule_words: &rule_words,
            frames: Vec::new(),
            candidates: Vec::new(),
            depth: 0,
            number: (piece as u64) << 32,
            sheet: Sheet::new(export.origin(0..0)),
            notes: Vec::new(),
            cuts: Vec::new(),
            classes: Vec::new(),
            masked: Vec::new(),
            told: tells.then(Vec::new),
            near_rules: Vec::new(),
        };
        let pieces = shape::pieces(self.shape, &self.comments, export, length);
        let run = |(number, piece): (usize, &Range<u32>)| {
            let mut runner = start(number);
            if number == 0 {
                runner.always();
            }
            shape::walk(self.shape, &self.comments, export, piece.clone(), &mut runner);
            runner
        };
        let runs: Vec<Runner<'_, '_>> = pieces.par_iter().enumerate().map(run).collect();
        let Runner { sheet, mut notes, cuts, classes, masked, told, near_rules, .. } =
            runs.into_iter().reduce(Runner::followed_by).unwrap_or_else(|| start(0));
        let mut reading = Reading::of(export);
        let mut book = LineRecorder::new(export, &mut reading.ledger, &mut reading.elsewhere);
        let facts = || {
            let top: Node = sheet.finish(&mut notes);
            let shown = tells.then(|| top.clone());
            (crate::sheet::facts(export, top), shown)
        };
        let lines = || classes.into_iter().for_each(|(origin, class)| book.class(origin, class));
        let (((mut found, unjoined), shown), ()) = rayon::join(facts, lines);
        cuts.into_iter().for_each(|at| book.cut(at, Limit::Nesting, "nested statements"));
        for note in notes {
            book.not_understood(note.origin, note.text);
        }
        for note in &found.notes {
            book.not_understood(note.origin, format!("the resulting sheet: {}", note.text));
        }
        // A statement that may be a rule, or a part of one, leaves the whole list undetermined.
        if !near_rules.is_empty() {
            let near = Near::of(near_rules);
            found.notes.retain(|note| !near.holds(note.origin));
            found.facts.filters.iter_mut().for_each(|filter| filter.complete = false);
        }
        *reading.facts = found.facts;
        reading.facts.masked_places.extend(masked);
        if tells {
            crate::announced::add(export, &mut reading.facts);
        }
        let sheet = shown.map(|top| {
            let facts = &reading.facts;
            let masker = Masker::new(facts.to_mask(), &facts.masked_places);
            write_node(&top, export, &|text| masker.mask(text))
        });
        found.notes.extend(unjoined);
        Tried {
            statements: told.unwrap_or_default(),
            sheet: sheet.unwrap_or_default(),
            notes: found.notes,
            reading,
        }
    }

    /// Words that statements begin with of which something lands among the rules.
    fn rule_words(&self) -> BTreeSet<&str> {
        let lands = |phrase: &&book::Phrase| {
            let mut all = phrase.lands.iter().chain(&phrase.denied);
            all.any(|(target, _)| target.is_below(&["rules", "forwards", "filters"]))
        };
        let outer = self.phrases.iter().filter(lands).filter_map(|phrase| phrase.levels.first());
        outer.filter_map(|(level, _)| self.levels[*level].pattern.as_ref()?.first_word()).collect()
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
}

/// Match of each level of a phrase: the depth of its statement, and the number of its result there.
type ByLevel = Vec<(usize, usize)>;

/// Result for a statement, before messages are requested.
enum Outcome {
    /// The phrase of this number took it.
    Phrase(usize),
    Passed,
    Nobody(String),
}

struct Runner<'a, 'b> {
    book: &'b Phrasebook,
    export: &'a Export,
    index: &'b Index<'b>,
    /// By phrase, what lands, and what does where the statement is denied.
    lands: Vec<[Vec<(Target, Plan)>; 2]>,
    /// Words that statements about rules begin with.
    rule_words: &'b BTreeSet<&'b str>,
    frames: Vec<Frame<'a>>,
    candidates: Vec<usize>,
    depth: usize,
    number: u64,
    sheet: Sheet,
    notes: Vec<Note>,
    cuts: Vec<Origin>,
    classes: Vec<(Origin, LineClass)>,
    masked: Vec<Origin>,
    told: Option<Vec<(Origin, PhraseResult)>>,
    /// Places of statements about rules that were not understood.
    near_rules: Vec<Origin>,
}

impl<'a> Sink<'a> for Runner<'a, '_> {
    fn statement(&mut self, depth: usize, words: &[Word<'a>], line: Origin) {
        let depth = depth.min(DEPTH);
        while self.frames.len() <= depth {
            self.frames.push(Frame { words: Vec::new(), line, number: 0, known: Vec::new() });
        }
        self.number += 1;
        self.depth = depth;
        let frame = &mut self.frames[depth];
        frame.words.clear();
        frame.words.extend_from_slice(words);
        frame.line = line;
        frame.number = self.number;
        frame.known.clear();
        let outcome = if words.len() > LONGEST {
            Outcome::Nobody(format!("this statement has more than {LONGEST} words, the limit for a phrase"))
        } else {
            let mut candidates = std::mem::take(&mut self.candidates);
            let outcome = self.take(line, &mut candidates);
            self.candidates = candidates;
            outcome
        };
        match &outcome {
            Outcome::Phrase(_) => {
                // A statement that holds one that is understood is understood with it.
                for depth in 0..depth {
                    self.classes.push((self.frames[depth].line, LineClass::Understood));
                }
                self.classes.push((line, LineClass::Understood));
            }
            Outcome::Passed => {}
            Outcome::Nobody(why) => {
                let outermost = self.frames[0].words.first().map_or("", |word| word.text);
                if self.rule_words.contains(outermost) {
                    self.leave_open(line);
                }
                self.notes.push(Note { origin: line, text: why.clone() });
            }
        }
        if let Some(told) = &mut self.told {
            let took = match outcome {
                Outcome::Phrase(number) => {
                    let phrase = &self.book.phrases[number];
                    PhraseResult::Phrase(phrase.line, Arc::clone(&phrase.says))
                }
                Outcome::Passed => PhraseResult::Passed,
                Outcome::Nobody(why) => PhraseResult::Nobody(why),
            };
            told.push((line, took));
        }
    }

    fn cut(&mut self, at: Origin) {
        self.cuts.push(at);
        if let Some(told) = &mut self.told {
            told.push((at, PhraseResult::Nobody("this statement is nested deeper than is followed".into())));
        }
    }

    fn broken(&mut self, at: Origin, what: &str) {
        self.notes.push(Note { origin: at, text: what.to_owned() });
        if let Some(told) = &mut self.told {
            told.push((at, PhraseResult::Nobody(what.to_owned())));
        }
    }
}

impl<'a> Runner<'a, '_> {
    /// Adds the result of the piece that follows.
    fn followed_by(mut self, later: Self) -> Self {
        self.sheet.append(later.sheet);
        self.notes.extend(later.notes);
        self.cuts.extend(later.cuts);
        self.classes.extend(later.classes);
        self.masked.extend(later.masked);
        self.near_rules.extend(later.near_rules);
        if let (Some(told), Some(later)) = (&mut self.told, later.told) {
            told.extend(later);
        }
        self
    }

    /// Defaults according to the appliance's documentation, at the first line of the export.
    fn always(&mut self) {
        let first =
            self.export.line(1).map_or(self.export.origin(0..0), |line| self.export.origin_of(line.text));
        let place = Place { number: 0, line: first, levels: &[] };
        self.sheet.land(&self.book.always, &Values::default(), &place);
    }

    /// A rule with a part that was not understood may have another effect than the rest of it.
    fn leave_open(&mut self, line: Origin) {
        let outermost = &self.frames[0];
        let place = Place { number: self.number, line, levels: &[(outermost.number, outermost.line)] };
        self.sheet.leave_open(&place);
        self.near_rules.push(outermost.line);
        self.near_rules.push(line);
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
        let words = &self.frames[depth].words;
        let passes = |level: &Level| level.pattern.as_ref().is_none_or(|one| one.matches(words).is_some());
        if self.book.passes.iter().any(passes) {
            return Outcome::Passed;
        }
        Outcome::Nobody(nobody.unwrap_or_else(|| format!("no phrase of {} matches", self.book.name)))
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
            all.reverse();
            return Some((place, all));
        }
        None
    }

    fn land(&mut self, number: usize, taken: &ByLevel, line: Origin, negated: bool) -> Outcome {
        let book = self.book;
        let phrase = &book.phrases[number];
        let lands = &self.lands[number][usize::from(negated)];
        // Many statements are known and say nothing that lands.
        let plain = |(_, kind): &(String, Kind)| !matches!(kind, Kind::Secret | Kind::Mapped(_));
        if lands.is_empty() && phrase.kinds.iter().all(plain) {
            return Outcome::Phrase(number);
        }
        let mut values = Values::default();
        for ((depth, known), (_, first)) in taken.iter().zip(&phrase.levels) {
            let frame = &self.frames[*depth];
            for (capture, from, to) in frame.known[*known].1.iter().flatten() {
                let words = &frame.words[*from..*to];
                let (start, end) = (words[0].start, words[words.len() - 1].end);
                let origin = self.export.origin(start as usize..end as usize);
                let (_, kind) = &phrase.kinds[first + capture];
                if *kind == Kind::Secret {
                    self.masked.push(origin);
                }
                let text = self.export.text().get(start as usize..end as usize).unwrap_or_default();
                // A name that stands for a place before the value has no text of its own.
                let origin = if start == end { line } else { origin };
                match kind.value(words, text, origin, &book.maps) {
                    Ok(node) => values.add(first + capture, node),
                    Err(why) => return Outcome::Nobody(why),
                }
            }
        }
        let levels: Vec<(u64, Origin)> =
            taken.iter().map(|(depth, _)| (self.frames[*depth].number, self.frames[*depth].line)).collect();
        let place = Place { number: self.number, line, levels: &levels };
        self.sheet.land(lands, &values, &place);
        Outcome::Phrase(number)
    }
}
