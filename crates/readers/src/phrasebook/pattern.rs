//! Patterns over the words of a statement. A match is found in time that grows with the length of pattern times statement, whatever
//! the pattern: no state is entered twice for one word.

use super::cutting::cut;
use super::syntax::{self, Cut, Piece, Repeats};
use super::value::{Captures, Kind};
pub(super) use crate::phrasebook::word::Word;
use std::collections::BTreeMap;

/// One step of a compiled pattern.
#[derive(Debug, Clone)]
enum Step {
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
    steps: Vec<Step>,
    /// Repeated pieces, by number.
    pub(super) groups: Vec<Group>,
    /// Whether a statement must have exactly as many words as there are steps.
    straight: bool,
}

/// How many words of a statement are compared to say whether it resembles another.
const TELLING: usize = 4;

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
        let mut built = Self { steps: Vec::new(), groups: Vec::new(), straight };
        built.compile(&pieces, None);
        built.steps.push(Step::End);
        Ok(built)
    }

    /// The word that every statement that fits begins with, where there is one.
    pub(super) fn first_word(&self) -> Option<&str> {
        if let Some(Step::Word(word)) = self.steps.first() { Some(word) } else { None }
    }

    /// Captured values, where the whole statement matches.
    pub(super) fn matches(&self, words: &[Word<'_>]) -> Option<Vec<Taken>> {
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
        // Words first: most statements fail there.
        let fits = |(at, word): (usize, &Word<'_>)| match &self.steps[at] {
            Step::Word(wanted) => word.text == wanted,
            _ => true,
        };
        if !words.iter().enumerate().all(fits) {
            return None;
        }
        let mut taken = Vec::new();
        for (at, step) in self.steps[..words.len()].iter().enumerate() {
            step.takes(words, at, &mut taken)?;
        }
        Some(taken)
    }

    /// How many words of a statement fit before one does not, and what is expected in its place.
    pub(super) fn fits_up_to(&self, words: &[Word<'_>]) -> (usize, Vec<String>) {
        let mut seen = vec![false; self.steps.len() * (words.len() + 1)];
        let (mut open, mut furthest) = (vec![(0, 0)], 0);
        let mut expected: Vec<String> = Vec::new();
        while let Some((step, at)) = open.pop() {
            if std::mem::replace(&mut seen[step * (words.len() + 1) + at], true) {
                continue;
            }
            if at > furthest {
                furthest = at;
                expected.clear();
            }
            match &self.steps[step] {
                Step::End if at == furthest => expected.push("the end of the statement".to_owned()),
                Step::End => {}
                Step::Either(first, second) => open.extend([(*first, at), (*second, at)]),
                Step::Go(there) => open.push((*there, at)),
                one => match one.takes(words, at, &mut Vec::new()) {
                    Some(number) => open.push((step + 1, at + number)),
                    None if at == furthest => expected.extend(one.in_words()),
                    None => {}
                },
            }
        }
        expected.sort();
        expected.dedup();
        (furthest, expected)
    }

    /// Whether a statement begins as those that fit: with a fixed word, or a value that few other words are. `known` states for the number
    /// of a value map whether it has a word.
    pub(super) fn resembles(&self, words: &[Word<'_>], known: &dyn Fn(usize, &str) -> bool) -> bool {
        let mut open = vec![(0, 0)];
        let mut seen = Vec::new();
        while let Some((step, at)) = open.pop() {
            if seen.contains(&(step, at)) {
                continue;
            }
            seen.push((step, at));
            let fits = |kind: &Kind| kind.takes(&words[at..]);
            match &self.steps[step] {
                Step::End => return true,
                Step::Either(first, second) => open.extend([(*first, at), (*second, at)]),
                Step::Go(there) => open.push((*there, at)),
                Step::Round(_) | Step::Done(_) => open.push((step + 1, at)),
                _ if at >= words.len() || at >= TELLING => return true,
                Step::Word(word) => {
                    if words[at].text == word {
                        return true;
                    }
                }
                Step::Inside(cuts) => {
                    let begins = |text: &String| words[at].text.starts_with(text.as_str());
                    match cuts.first() {
                        Some(Cut::Text(text)) if begins(text) => return true,
                        Some(Cut::Take(..)) if cut(cuts, &words[at]).is_some() => return true,
                        _ => {}
                    }
                }
                Step::Take(_, Kind::Mapped(map)) => {
                    if known(*map, words[at].text) {
                        return true;
                    }
                }
                // Any word may be one of these.
                Step::Take(_, Kind::Word | Kind::Secret | Kind::List) => open.push((step + 1, at + 1)),
                Step::Take(_, kind) => {
                    if fits(kind).is_some() {
                        return true;
                    }
                }
            }
        }
        false
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
    /// What it takes, for people.
    fn in_words(&self) -> Option<String> {
        Some(match self {
            Self::Word(word) => format!("`{word}`"),
            Self::Take(_, kind) => kind.in_words(),
            Self::Inside(cuts) => {
                let text = |one: &Cut| match one {
                    Cut::Text(text) => text.clone(),
                    Cut::Take(_, kind) => format!("{{{}}}", kind.in_words()),
                };
                format!("`{}`", cuts.iter().map(text).collect::<String>())
            }
            _ => return None,
        })
    }

    /// How many words it takes, with what it captures.
    fn takes(&self, words: &[Word<'_>], at: usize, taken: &mut Vec<Taken>) -> Option<usize> {
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
    fn statements_that_begin_alike() {
        let map = BTreeMap::from([("does".to_owned(), 0)]);
        for (pattern, text, wanted) in [
            ("rule {n} {x}", "rule 7", true),
            ("rule {n} {x}", "ruler 7", false),
            ("rule.{n:number}.to {x}", "rule.7.from a", true),
            ("rule.{n:number}.to {x}", "rules.7", false),
            ("{n:number} {x}", "12 reflect", true),
            ("{n:number} {x}", "flour coarse", false),
            ("{x} permits {y}", "a permits b until c", true),
            ("{x} permits {y}", "a grinds b", false),
            ("{do:does} {x}", "let b c", true),
            ("{do:does} {x}", "flour coarse", false),
            ("[{n:number}] (let | hold) {x}", "hold a b c", true),
            ("[{n:number}] (let | hold) {x}", "7 a b", true),
            ("[{n:number}] (let | hold) {x}", "flour coarse", false),
        ] {
            let read = Pattern::parse(pattern, &mut Vec::new(), &map).unwrap();
            assert_eq!(read.resembles(&words(text), &|_, word| word == "let"), wanted, "{pattern}: {text}");
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
