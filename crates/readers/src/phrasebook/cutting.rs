//! Parts of a word.

use super::syntax::Cut;
use super::word::Word;

/// Cuts a word at fixed texts: captures by number, each from one place of the word to another. Each takes as little as fits.
pub(super) fn cut(cuts: &[Cut], word: &Word<'_>) -> Option<Vec<(usize, usize, usize)>> {
    let text = word.text;
    let mut at = 0;
    let mut found = Vec::new();
    for (number, one) in cuts.iter().enumerate() {
        let (capture, kind) = match one {
            Cut::Text(wanted) => {
                if !text.get(at..)?.starts_with(wanted.as_str()) {
                    return None;
                }
                at += wanted.len();
                continue;
            }
            Cut::Take(capture, kind) => (*capture, kind),
        };
        let fits = |to: usize| {
            let (from, to) = bare(text, at, to);
            let part = word.part(from, to);
            (from < to && kind.takes(&[part]) == Some(1)).then_some((from, to))
        };
        let (from, to, next) = match cuts.get(number + 1) {
            Some(Cut::Text(wanted)) => {
                // The last text is the end of the word.
                let ends = |to: usize| number + 2 < cuts.len() || to + wanted.len() == text.len();
                let mut places = text.get(at..)?.match_indices(wanted.as_str()).map(|(place, _)| at + place);
                places.find_map(|place| {
                    fits(place).filter(|_| ends(place)).map(|(from, to)| (from, to, place))
                })?
            }
            _ => fits(text.len()).map(|(from, to)| (from, to, text.len()))?,
        };
        found.push((capture, from, to));
        at = next;
    }
    (at == text.len()).then_some(found)
}

/// Part of a word without the quotes around it.
fn bare(text: &str, from: usize, to: usize) -> (usize, usize) {
    let part = text.get(from..to).unwrap_or_default().as_bytes();
    match part {
        [first @ (b'"' | b'\''), .., last] if first == last => (from + 1, to - 1),
        _ => (from, to),
    }
}
