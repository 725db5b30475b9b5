//! The phrase that a statement nearly fits, and what does not fit.

use super::book::Phrasebook;
use super::hidden;
use super::level::Level;
use super::pattern::Word;

/// Why no phrase fits, with the nearest one. `around`: the words of the statements around one, outermost first, and its own.
pub(super) fn nearest(book: &Phrasebook, around: &[&[Word<'_>]]) -> Option<String> {
    let depth = around.len();
    let mut best: Option<((usize, usize), String)> = None;
    for phrase in &book.phrases {
        let levels = phrase.levels.len();
        if levels > depth || (levels < depth && !phrase.anywhere) {
            continue;
        }
        let own = &around[depth - levels..];
        let fits = |level: &Level, words: &[Word<'_>]| match &level.pattern {
            Some(pattern) if pattern.matches(words).is_some() => Fit::Whole,
            Some(pattern) => Fit::UpTo(pattern.fits_up_to(words).0),
            None => Fit::Any,
        };
        let each: Vec<Fit> = phrase
            .levels
            .iter()
            .zip(own)
            .map(|((level, _), words)| fits(&book.levels[*level], words))
            .collect();
        // Phrases of other blocks are not near.
        if each[..levels - 1].contains(&Fit::UpTo(0)) {
            continue;
        }
        let whole = each.iter().filter(|one| **one == Fit::Whole).count();
        // The word that a phrase begins with must be there for it to be near.
        let words = match each.last() {
            Some(Fit::UpTo(0)) | None => continue,
            Some(Fit::UpTo(words)) => *words,
            Some(Fit::Whole | Fit::Any) => own.last().map_or(0, |words| words.len()),
        };
        let score = (whole, words);
        if best.as_ref().is_some_and(|(known, _)| *known >= score) {
            continue;
        }
        let failed = each.iter().zip(own).position(|(one, _)| matches!(one, Fit::UpTo(_)));
        let line = phrase.line;
        let why = match failed {
            None => format!("what `where` or `unless` of the phrase on line {line} states is not so"),
            Some(at) => {
                let pattern = book.levels[phrase.levels[at].0].pattern.as_ref();
                let (up_to, mut expected) = pattern.map(|one| one.fits_up_to(own[at])).unwrap_or_default();
                expected.truncate(MOST);
                let hidden =
                    || hidden::may_be_secret(at.checked_sub(1).map(|outer| own[outer]), own[at], up_to);
                let block = if at + 1 < levels { ", in the statement around it" } else { "" };
                let what = match own[at].get(up_to) {
                    Some(word) if !hidden() => format!("`{}` does not fit", word.text),
                    Some(_) => format!("word {} does not fit", up_to + 1),
                    None => "it ends too early for".to_owned(),
                };
                format!("{what} the phrase on line {line}{block}; expected {}", expected.join(" or "))
            }
        };
        best = Some((score, why));
    }
    best.map(|(_, text)| text)
}

/// How many expected words are listed.
const MOST: usize = 4;

#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Fit {
    Whole,
    /// So many words.
    UpTo(usize),
    /// The pattern fits every statement.
    Any,
}
