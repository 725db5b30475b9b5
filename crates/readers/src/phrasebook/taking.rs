//! Which phrase takes a statement, and where its values land.

use super::book::Phrase;
use super::escapes;
use super::grown::Place;
use super::level::Level;
use super::near;
use super::open::{Block, Part};
use super::pattern::{Taken, Word};
use super::rounds::{Rounds, Run};
use super::runner::{ByLevel, Outcome, Runner};
use super::target::Values;
use super::value::Kind;
use trevlin_model::Origin;

impl<'a> Runner<'a, '_> {
    pub(super) fn take(&mut self, line: Origin, candidates: &mut Vec<usize>) -> Outcome {
        let depth = self.depth;
        let Some(first) = self.frames[depth].words.first().map(|word| word.text) else {
            return Outcome::Passed;
        };
        self.index.candidates(depth + 1, &self.frames[depth].words, candidates);
        let mut nobody = None;
        if let Some(took) = self.take_by(candidates, line, false, &mut nobody) {
            return took;
        }
        if self.book.negation.iter().any(|word| word == first) && self.frames[depth].words.len() > 1 {
            let negation = self.frames[depth].words.remove(0);
            self.frames[depth].known.clear();
            self.index.candidates(depth + 1, &self.frames[depth].words, candidates);
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
            let around: Vec<&[Word<'_>]> =
                self.frames[..=depth].iter().map(|frame| &frame.words[..]).collect();
            near::nearest(self.book, &around)
        };
        let told = nobody.or_else(nearest);
        Outcome::Nobody(told.unwrap_or_else(|| format!("no phrase of {} matches", self.book.name)))
    }

    /// Whether a statement is without relevance.
    pub(super) fn passes(&self, first: &str) -> Option<Outcome> {
        let depth = self.depth;
        let words = &self.frames[depth].words;
        let negated = words.len() > 1 && self.book.negation.iter().any(|word| word == first);
        let fits = |level: &Level, words: &[Word<'_>]| {
            level.pattern.as_ref().is_none_or(|one| one.matches(words).is_some())
        };
        let mut anywhere = false;
        for pass in &self.book.passes {
            let Some((own, around)) = pass.levels.split_last() else { continue };
            if !(fits(own, words) || negated && fits(own, &words[1..])) {
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
                let mut filled: Vec<usize> = Vec::new();
                self.out.sheet.land(&lands[run.range.clone()], values, &place, |target| {
                    in_rule |= target.section() == Some("rules");
                    let own = |block: &Block| lands[block.target].0.first() == target.first();
                    filled.extend(blocks.iter().position(own).filter(|at| !filled.contains(at)));
                });
                for block in filled.into_iter().map(|at| &blocks[at]) {
                    let at = match block.part {
                        Part::Whole => Some(0),
                        _ => lands[block.target]
                            .0
                            .first()
                            .and_then(|first| self.out.sheet.entry_of(first, values, &place)),
                    };
                    if let (Some(at), Some((depth, _))) = (at, taken.get(block.level)) {
                        self.frames[*depth].landed.add(block.part.clone(), at);
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
                let mut node = kind.value(words, text, origin, &self.book.maps)?;
                escapes::resolve(self.book.shape, &mut node);
                if let Some(rounds) = &mut rounds {
                    rounds.add(first + capture, node.clone());
                }
                values.add(first + capture, node);
            }
        }
        Ok(values)
    }
}
