//! Goes through the statements of an export, and lets phrases take them.

use super::beginnings::Beginnings;
use super::beside::Beside;
use super::book::Phrasebook;
use super::grown::Place;
use super::hidden;
use super::index::Index;
use super::open::Landed;
use super::pattern::{Taken, Word};
use super::readings::Walked;
use super::results::{LONGEST, PhraseResult};
use super::sink::{DEPTH, Sink};
use super::target::{Plan, Target, Values};
use super::value::prefixes;
use smol_str::SmolStr;
use std::sync::Arc;
use trevlin_model::{Export, LineClass, Note, Origin, PossibleAddress};

/// Why a statement does not pass.
const IN_A_RULE: &str = "a pattern of `passes` that names no block does not hold within rules, names and lists; name the block, as in \
                         `rule {_name} > colour {_colour}`";

/// A statement that may contain others.
#[derive(Debug)]
pub(super) struct Frame<'a> {
    pub(super) words: Vec<Word<'a>>,
    pub(super) line: Origin,
    pub(super) number: u64,
    /// Results of level patterns, each computed once.
    pub(super) known: Vec<(usize, Option<Vec<Taken>>)>,
    /// Why no phrase took the statement itself.
    pub(super) nobody: Option<String>,
    /// A phrase for a statement within it that has a level for it.
    pub(super) holds: Option<usize>,
    /// Its number among the results.
    pub(super) told: usize,
    /// Entries of the rule base that it is the block of.
    pub(super) landed: Landed,
    /// Places of statements within it that no phrase took, and that have no block of their own.
    pub(super) open: Vec<Origin>,
    /// Rules within it of which nothing is known, by number.
    pub(super) unread: Vec<usize>,
    /// Statements within it that pass everywhere, each with its number among the results.
    pub(super) passed: Vec<(Origin, usize)>,
    /// Statements that no phrase took, itself included, with the names that their words may be; of an outermost one only.
    pub(super) unknown: Vec<(Origin, Vec<SmolStr>)>,
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
            unknown: Vec::new(),
        }
    }
}

/// Match of each level of a phrase: the depth of its statement, and the number of its result there.
pub(super) type ByLevel = Vec<(usize, usize)>;

/// Result for a statement, before messages are requested.
pub(super) enum Outcome {
    /// The phrase of this number took it.
    Phrase(usize),
    Passed,
    /// The same by a pattern that does not name the statements around it.
    PassedAnywhere,
    Nobody(String),
}

pub(super) struct Runner<'a, 'b> {
    pub(super) book: &'b Phrasebook,
    pub(super) export: &'a Export,
    pub(super) index: &'b Index<'b>,
    /// By phrase, what lands, and what does where the statement is denied.
    pub(super) lands: Vec<[Vec<(Target, Plan)>; 2]>,
    /// Words that parts of a rule base begin with.
    pub(super) rule_words: &'b Beginnings<'b>,
    pub(super) frames: Vec<Frame<'a>>,
    /// How many of these hold the statement at hand, with it.
    pub(super) active: usize,
    pub(super) candidates: Vec<usize>,
    pub(super) depth: usize,
    pub(super) number: u64,
    /// Statements that phrases depend on.
    pub(super) beside: Beside,
    pub(super) out: Walked,
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

/// Names that the words of a statement may be: each as it is, and as value tables have it.
fn names_of(book: &Phrasebook, words: &[Word<'_>]) -> Vec<SmolStr> {
    let mapped = |word: &str| {
        let values = book.maps.iter().filter_map(|map| map.words.get(word)?.text()).map(SmolStr::new);
        values.collect::<Vec<_>>()
    };
    words.iter().flat_map(|word| mapped(word.text).into_iter().chain([SmolStr::new(word.text)])).collect()
}

impl<'a> Runner<'a, '_> {
    /// Defaults according to the appliance's documentation, at an empty place before the first statement of the export.
    pub(super) fn always(&mut self) {
        let place = Place { number: 0, round: 0, line: self.export.origin(0..0), levels: &[] };
        self.out.sheet.land(&self.book.always, &Values::default(), &place, |_| ());
    }

    fn phrase_result(&self, number: usize) -> PhraseResult {
        let phrase = &self.book.phrases[number];
        PhraseResult::Phrase(phrase.line, Arc::clone(&phrase.says))
    }

    /// Another result for an earlier statement, by its number.
    fn correct(&mut self, number: usize, result: PhraseResult) {
        if let Some(one) = self.out.told.as_mut().and_then(|all| all.get_mut(number)) {
            one.1 = result;
        }
    }

    /// Ends the statements from a depth on: what they hold is complete.
    pub(super) fn close(&mut self, depth: usize) {
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
        let mut names = Vec::new();
        let mut unknown = std::mem::take(&mut frame.unknown);
        let alone = frame.nobody.is_some() && frame.holds.is_none();
        match (frame.nobody.take(), frame.holds) {
            // A statement that holds one that is understood, by a phrase with a level for it, is understood with it.
            (Some(_), Some(number)) => {
                let told = frame.told;
                self.out.classes.push((line, LineClass::Understood));
                self.correct(told, self.phrase_result(number));
            }
            (Some(text), None) => {
                open.push(line);
                names = names_of(self.book, &frame.words);
                begins = self.rule_words.of_statement(self.book, depth, &frame.words);
                self.out.masked.extend(hidden::places(self.export, outer, &frame.words));
                let texts: Vec<&str> = frame.words.iter().map(|word| word.text).collect();
                let nets = prefixes(&texts);
                self.out.possible.extend(nets.filter_map(|net| PossibleAddress::of(net, line)));
                self.out.notes.push(Note { origin: line, text });
            }
            (None, _) => {}
        }
        if begins.is_none() && !names.is_empty() {
            unknown.push((line, names));
        }
        match depth {
            // Nothing of the block is known, so it may be about translation.
            0 if alone => self.out.unknown.append(&mut unknown),
            0 => {}
            _ => self.frames[0].unknown.append(&mut unknown),
        }
        // What has no relevance elsewhere may be a condition of a rule.
        if !passed.is_empty() && !landed.is_empty() {
            for (place, told) in passed {
                open.push(place);
                self.out.notes.push(Note { origin: place, text: IN_A_RULE.to_owned() });
                self.correct(told, PhraseResult::Nobody(IN_A_RULE.to_owned()));
            }
        } else if let Some(outer) = depth.checked_sub(1) {
            self.frames[outer].passed.extend(passed);
        }
        if open.is_empty() {
            return;
        }
        if !landed.is_empty() {
            for (part, at) in landed {
                match self.out.sheet.leave_open(&part, at, line) {
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
}
