//! Patterns over the words of a statement. A match is found in time that grows with the length of pattern times statement, whatever
//! the pattern: no state is entered twice for one word.

use super::cutting::cut;
use super::syntax::{self, Cut, Piece, Repeats};
use super::value::{Captures, Kind};
pub(super) use crate::phrasebook::word::Word;
use std::collections::BTreeMap;

/// One step of a compiled pattern.
#[derive(Debug, Clone)]
pub(super) enum Step {
    /// This word.
    Word(String),
    /// A value, for this capture.
    Take(usize, Kind),
    /// A word of several parts.
    Inside(Vec<Cut>),
    /// A repetition of this group begins.
    Round(usize),
    /// The repetitions of this group end.
    Done(usize),
    /// Here first, there where that leads nowhere.
    Either(usize, usize),
    /// There.
    Go(usize),
    /// All words must be used up.
    End,
}

/// Words that a match took, in order.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum Taken {
    /// Words for a capture: the first, and the one behind the last.
    Words(usize, usize, usize),
    /// Part of a word, from one place in it to another.
    Part(usize, usize, usize, usize),
    /// A repetition of this group begins.
    Round(usize),
    /// The repetitions of this group end.
    Done(usize),
}

/// A repeated piece with captures.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(super) struct Group {
    /// The one around it.
    pub(super) outer: Option<usize>,
    pub(super) repeats: Repeats,
    /// Captures in it, with those of groups within it.
    pub(super) captures: Vec<usize>,
}

/// A pattern over one statement.
#[derive(Debug, Clone)]
pub(super) struct Pattern {
    pub(super) steps: Vec<Step>,
    /// Words that every statement that fits has before its first choice, each with its place. Most statements fail there, at no cost.
    leading: Vec<(usize, String)>,
    /// Repeated pieces, by number.
    pub(super) groups: Vec<Group>,
    /// Whether a statement must have exactly as many words as there are steps.
    straight: bool,
}

impl Pattern {
    /// Reads a pattern. Captures are numbered on from those that are known; `maps` are names of value maps.
    ///
    /// # Errors
    /// A description of the syntax error.
    pub(super) fn parse(
        text: &str,
        captures: &mut Captures,
        maps: &BTreeMap<String, usize>,
    ) -> Result<Self, String> {
        let pieces = syntax::parse(text, captures, maps)?;
        let straight = pieces.iter().all(|piece| match piece {
            Piece::Literal(_) | Piece::Inside(_) => true,
            Piece::Capture(_, kind) => kind.words() == Some(1),
            _ => false,
        });
        let mut built = Self { steps: Vec::new(), leading: Vec::new(), groups: Vec::new(), straight };
        built.compile(&pieces, None);
        built.steps.push(Step::End);
        built.leading = built.leading();
        Ok(built)
    }

    /// The word that every statement that fits has at a place, as far as that is fixed.
    pub(super) fn word_at(&self, place: usize) -> Option<&str> {
        self.leading.iter().find(|(at, _)| *at == place).map(|(_, word)| word.as_str())
    }

    /// Places of these words.
    pub(super) fn places(&self) -> impl Iterator<Item = usize> {
        self.leading.iter().map(|(at, _)| *at)
    }

    fn leading(&self) -> Vec<(usize, String)> {
        let (mut all, mut at) = (Vec::new(), 0);
        for step in &self.steps {
            match step {
                Step::Word(word) => all.push((at, word.clone())),
                Step::Inside(_) => {}
                Step::Take(_, kind) if kind.words() == Some(1) => {}
                // The first repetition is not optional.
                Step::Round(_) => continue,
                _ => break,
            }
            at += 1;
        }
        all
    }

    /// Whether a statement has the words before the first choice. Most do not.
    fn begins(&self, words: &[Word<'_>]) -> bool {
        let has = |(at, word): &(usize, String)| words.get(*at).is_some_and(|found| found.text == word);
        self.leading.iter().all(has)
    }

    /// Captured values, where the whole statement matches.
    pub(super) fn matches(&self, words: &[Word<'_>]) -> Option<Vec<Taken>> {
        if !self.begins(words) {
            return None;
        }
        if self.straight {
            return self.straight(words);
        }
        let mut seen = vec![false; self.steps.len() * (words.len() + 1)];
        let mut taken: Vec<Taken> = Vec::new();
        let mut open = vec![(0, 0, 0)];
        while let Some((mut step, mut at, length)) = open.pop() {
            taken.truncate(length);
            loop {
                let state = step * (words.len() + 1) + at;
                if std::mem::replace(&mut seen[state], true) {
                    break;
                }
                match &self.steps[step] {
                    Step::End if at == words.len() => return Some(taken),
                    Step::End => break,
                    Step::Either(first, second) => {
                        open.push((*second, at, taken.len()));
                        step = *first;
                    }
                    Step::Go(there) => step = *there,
                    Step::Round(group) => {
                        taken.push(Taken::Round(*group));
                        step += 1;
                    }
                    Step::Done(group) => {
                        taken.push(Taken::Done(*group));
                        step += 1;
                    }
                    one => match one.takes(words, at, &mut taken) {
                        Some(number) => {
                            at += number;
                            step += 1;
                        }
                        None => break,
                    },
                }
            }
        }
        None
    }

    /// The same without choices: one step a word.
    fn straight(&self, words: &[Word<'_>]) -> Option<Vec<Taken>> {
        if words.len() + 1 != self.steps.len() {
            return None;
        }
        let mut taken = Vec::new();
        for (at, step) in self.steps[..words.len()].iter().enumerate() {
            step.takes(words, at, &mut taken)?;
        }
        Some(taken)
    }

    fn compile(&mut self, pieces: &[Piece], outer: Option<usize>) {
        for piece in pieces {
            match piece {
                Piece::Literal(word) => self.steps.push(Step::Word(word.clone())),
                Piece::Capture(number, kind) => {
                    self.captured(*number, outer);
                    self.steps.push(Step::Take(*number, kind.clone()));
                }
                Piece::Inside(cuts) => {
                    for one in cuts {
                        if let Cut::Take(number, _) = one {
                            self.captured(*number, outer);
                        }
                    }
                    self.steps.push(Step::Inside(cuts.clone()));
                }
                Piece::Optional(inner) => {
                    let split = self.steps.len();
                    self.steps.push(Step::Go(0));
                    self.compile(inner, outer);
                    self.steps[split] = Step::Either(split + 1, self.steps.len());
                }
                Piece::Repeated(inner, repeats) => {
                    let group = self.groups.len();
                    self.groups.push(Group { outer, repeats: *repeats, captures: Vec::new() });
                    let start = self.steps.len();
                    self.steps.push(Step::Round(group));
                    self.compile(inner, Some(group));
                    let split = self.steps.len();
                    self.steps.push(Step::Either(start, split + 1));
                    self.steps.push(Step::Done(group));
                }
                Piece::Choice(all) => self.choice(all, outer),
            }
        }
    }

    fn choice(&mut self, all: &[Vec<Piece>], outer: Option<usize>) {
        let mut exits = Vec::new();
        for (number, one) in all.iter().enumerate() {
            let split = self.steps.len();
            let last = number + 1 == all.len();
            if !last {
                self.steps.push(Step::Go(0));
            }
            self.compile(one, outer);
            if !last {
                exits.push(self.steps.len());
                self.steps.push(Step::Go(0));
                self.steps[split] = Step::Either(split + 1, self.steps.len());
            }
        }
        let end = self.steps.len();
        for exit in exits {
            self.steps[exit] = Step::Go(end);
        }
    }

    /// Notes that a capture is in a group, and in those around it.
    fn captured(&mut self, number: usize, mut group: Option<usize>) {
        while let Some(at) = group {
            let one = &mut self.groups[at];
            if !one.captures.contains(&number) {
                one.captures.push(number);
            }
            group = one.outer;
        }
    }
}

impl Step {
    /// How many words it takes, with what it captures.
    pub(super) fn takes(&self, words: &[Word<'_>], at: usize, taken: &mut Vec<Taken>) -> Option<usize> {
        match self {
            Self::Word(word) => words.get(at).filter(|found| found.text == word).map(|_| 1),
            Self::Take(capture, kind) => {
                let number = kind.takes(&words[at..])?;
                taken.push(Taken::Words(*capture, at, at + number));
                Some(number)
            }
            Self::Inside(cuts) => {
                let parts = cut(cuts, words.get(at)?)?;
                taken.extend(parts.into_iter().map(|(capture, from, to)| Taken::Part(capture, at, from, to)));
                Some(1)
            }
            _ => Some(0),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn words(text: &str) -> Vec<Word<'_>> {
        text.split(' ').filter(|word| !word.is_empty()).map(|text| Word::bare(text, 0, 0)).collect()
    }

    fn matched(pattern: &str, text: &str) -> Option<Vec<String>> {
        let mut captures = Vec::new();
        let pattern = Pattern::parse(pattern, &mut captures, &BTreeMap::new()).unwrap();
        let words = words(text);
        let taken = pattern.matches(&words)?;
        let told = |one: &Taken| match *one {
            Taken::Words(capture, from, to) => {
                let texts: Vec<&str> = words[from..to].iter().map(|word| word.text).collect();
                Some(format!("{}={}", captures[capture].0, texts.join(" ")))
            }
            Taken::Part(capture, at, from, to) => {
                Some(format!("{}={}", captures[capture].0, &words[at].text[from..to]))
            }
            Taken::Round(_) | Taken::Done(_) => None,
        };
        Some(taken.iter().filter_map(told).collect())
    }

    #[test]
    fn statements_fit_or_do_not() {
        for (pattern, text, wanted) in [
            ("port {p:port} open", "port 443 open", Some(vec!["p=443"])),
            ("port {p:port} open", "port 70000 open", None),
            ("port {p:port}", "port 443 open", None),
            ("pass {a} [to {b}] [log]", "pass x to y log", Some(vec!["a=x", "b=y"])),
            ("pass {a} [to {b}] [log]", "pass x log", Some(vec!["a=x"])),
            ("pass {a} [to {b}] [log]", "pass x log to y", None),
            ("members {m}...", "members a b c", Some(vec!["m=a", "m=b", "m=c"])),
            ("(allow | let {w} by) {a}", "let x by y", Some(vec!["w=x", "a=y"])),
            ("(allow | let {w} by) {a}", "allow y", Some(vec!["a=y"])),
            ("([or] {a:number})...", "1 or 2 3", Some(vec!["a=1", "a=2", "a=3"])),
            ("say {t:rest}", "say a b c", Some(vec!["t=a b c"])),
            ("net {n:masked}", "net 10.4.0.0 255.255.255.0", Some(vec!["n=10.4.0.0 255.255.255.0"])),
            ("\"[a]\" {x}", "[a] b", Some(vec!["x=b"])),
            ("{a}/{b}/{c}", "aes256/sha256/group14", Some(vec!["a=aes256", "b=sha256", "c=group14"])),
            ("{a}/{b}", "aes256", None),
            ("{a}/{b}", "/sha256", None),
            ("wire.{n:number}.to {x}", "wire.12.to b", Some(vec!["n=12", "x=b"])),
            ("wire.{n:number}.to {x}", "wire.one.to b", None),
            ("name={x} end", "name=\"b\" end", Some(vec!["x=b"])),
            ("<{x}>", "<a>b>", Some(vec!["x=a>b"])),
            ("{u}@{d}", "a@b@c", Some(vec!["u=a", "d=b@c"])),
            ("{n:number}-{x}", "a-1-b", None),
            (
                "({p:tcp,udp}/{n:ports} | {x})...",
                "tcp/22 dns udp/53,54",
                Some(vec!["p=tcp", "n=22", "x=dns", "p=udp", "n=53,54"]),
            ),
        ] {
            let wanted = wanted.map(|all| all.into_iter().map(str::to_owned).collect::<Vec<_>>());
            assert_eq!(matched(pattern, text), wanted, "{pattern}: {text}");
        }
    }

    #[test]
    fn wrong_patterns_say_why() {
        for (pattern, part) in [
            ("", "empty"),
            ("{a", "closed"),
            ("[a", "closed"),
            ("a ]", "closes nothing"),
            (
                "[a]",
                "this pattern matches a statement without words; at least one word must be fixed or captured",
            ),
            ("a ...", "`...` repeats a capture or a group in round brackets"),
            ("[{a}]... b", "`...` would repeat an empty match"),
            ("{a:wrd}", "`word`"),
            ("{a:port} {a:word}", "twice"),
            ("a | b", "alternatives"),
            ("()", "nothing is between these brackets or bars"),
            ("{b c}", "name of letters"),
            ("{b}{c}", "shows where the first ends"),
            ("x/{b:rest}", "more than one word"),
        ] {
            let error = Pattern::parse(pattern, &mut Vec::new(), &BTreeMap::new()).unwrap_err();
            assert!(error.contains(part), "{pattern}: {error}");
        }
    }

    #[test]
    fn no_pattern_runs_for_ever() {
        let nested = "((([x] {a})... [y])... [z])... end";
        let mut captures = Vec::new();
        let pattern = Pattern::parse(nested, &mut captures, &BTreeMap::new()).unwrap();
        let text = "a ".repeat(5000);
        assert!(pattern.matches(&words(&text)).is_none());
    }
}
