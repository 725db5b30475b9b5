//! How near a statement comes to a pattern, and statements that fit one.

use super::cutting::cut;
use super::pattern::{Pattern, Step, Word};
use super::syntax::Cut;
use super::value::Kind;

/// How many words of a statement are compared to say whether it resembles another.
const TELLING: usize = 4;
/// Number of samples of a pattern.
const SAMPLES: usize = 64;

impl Pattern {
    /// Statements that fit: the shortest path through the pattern, and others that vary one choice or capture each. Empty where there are
    /// parts of words, for which there are no samples.
    pub(super) fn samples(&self) -> Vec<Vec<String>> {
        let mut found: Vec<Vec<String>> = Vec::new();
        let mut open = vec![(0, Vec::new(), 0, 0)];
        while let Some((step, words, vary, rounds)) = open.pop() {
            // Some of them would not show whether all fit.
            if found.len() >= SAMPLES || words.len() > SAMPLES {
                return Vec::new();
            }
            match &self.steps[step] {
                Step::End => found.push(words),
                Step::Inside(_) => return Vec::new(),
                Step::Go(there) => open.push((*there, words, vary, rounds)),
                Step::Done(_) | Step::Round(_) => open.push((step + 1, words, vary, rounds)),
                Step::Either(first, second) => {
                    // A repetition goes back.
                    if *first > step || rounds < 1 {
                        open.push((*first, words.clone(), vary, rounds + usize::from(*first < step)));
                    }
                    open.push((*second, words, vary, rounds));
                }
                Step::Word(word) => {
                    let words = words.into_iter().chain([word.clone()]).collect();
                    open.push((step + 1, words, vary, rounds));
                }
                Step::Take(_, kind) => {
                    for (number, sample) in kind.samples().into_iter().enumerate().rev() {
                        // One capture varies at a time.
                        if number == 0 || vary == 0 {
                            let words = words.iter().cloned().chain(sample).collect();
                            open.push((step + 1, words, vary.max(number), rounds));
                        }
                    }
                }
            }
        }
        found
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
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::collections::BTreeMap;

    fn words(text: &str) -> Vec<Word<'_>> {
        text.split(' ').map(|text| Word::bare(text, 0, 0)).collect()
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
}
