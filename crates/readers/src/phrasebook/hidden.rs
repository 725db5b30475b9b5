//! Words of a statement that no phrase takes, and that may be secrets: with a new phrasebook all secrets of an export are in such statements.

use super::word::Word;
use crate::sheet::node::{Node, Value};
use std::collections::BTreeSet;
use trevlin_model::secret::MASK;
use trevlin_model::{Export, Origin};

/// Parts of words that announce a secret.
const PARTS: [&str; 7] = ["secret", "psk", "token", "credential", "communit", "kennwort", "private"];
/// Beginnings of pieces of such words.
const BEGINNINGS: [&str; 4] = ["passw", "passp", "passc", "passk"];
/// Endings of pieces of such words.
const ENDINGS: [&str; 3] = ["pass", "key", "keys"];
/// Words that announce one.
const WORDS: [&str; 5] = ["word", "pin", "code", "hash", "auth"];

/// Places that are masked: everything behind a word that announces a secret, on its line or as the name of the block around it, and
/// whatever is in quotes.
pub(super) fn places(export: &Export, outer: Option<&[Word<'_>]>, words: &[Word<'_>]) -> Vec<Origin> {
    let from = beginnings(outer, words);
    let place = |(word, from): (&Word<'_>, Option<usize>)| {
        let from = from.filter(|_| word.start < word.end)?;
        Some(export.origin(word.start as usize + from..word.end as usize))
    };
    words.iter().zip(from).filter_map(place).collect()
}

/// Whether a word, by its number, may have a secret in it.
pub(super) fn may_be_secret(outer: Option<&[Word<'_>]>, words: &[Word<'_>], at: usize) -> bool {
    beginnings(outer, words).get(at).copied().flatten().is_some()
}

/// For each word, where in it a secret may begin.
fn beginnings(outer: Option<&[Word<'_>]>, words: &[Word<'_>]) -> Vec<Option<usize>> {
    let mut announced = matches!(outer, Some([name]) if announces(name.text));
    let begins = |word: &Word<'_>| {
        let text = word.text;
        // `password=abc` announces and has it.
        let sign = text.find(['=', ':']).filter(|at| at + 1 < text.len() && announces(&text[..*at]));
        let quote = text.find(['"', '\'']).filter(|_| text.ends_with(['"', '\'']));
        let from = if announced || word.quoted { Some(0) } else { sign.map(|at| at + 1).or(quote) };
        announced |= sign.is_none() && announces(text);
        from
    };
    words.iter().map(begins).collect()
}

/// Masks the values of a sheet that were captured at these places.
pub(super) fn hide(node: &mut Node, places: &BTreeSet<Origin>) {
    match &mut node.value {
        Value::Table(entries) => entries.iter_mut().for_each(|entry| hide(&mut entry.node, places)),
        Value::List(all) => all.iter_mut().for_each(|one| hide(one, places)),
        Value::Text(text) if places.contains(&node.origin) => *text = MASK.into(),
        _ => {}
    }
}

fn announces(word: &str) -> bool {
    let word = word.to_ascii_lowercase();
    let mut pieces = word.split(|letter: char| !letter.is_alphanumeric());
    WORDS.contains(&word.as_str())
        || PARTS.iter().any(|part| word.contains(part))
        || pieces.any(|piece| {
            BEGINNINGS.iter().any(|start| piece.starts_with(start))
                || ENDINGS.iter().any(|end| piece.ends_with(end))
        })
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::phrasebook::line_words;
    use trevlin_model::ExportId;

    #[test]
    fn secrets_of_statements_that_are_not_understood() {
        for (text, wanted) in [
            ("miller greta word Stone-1887", &["Stone-1887"][..]),
            ("peer yard Secret-Key abc def", &["abc", "def"]),
            ("label \"north quay\" blue", &["north quay"]),
            ("flour coarse", &[]),
            ("passage 4 keyboard blue", &[]),
            ("user-password abc", &["abc"]),
            ("presharedkey abc", &["abc"]),
            ("user=ann password=Stone-1887 name=\"the mill\"", &["Stone-1887", "\"the mill\""]),
            ("psk:a:b", &["a:b"]),
        ] {
            let export = Export::new(ExportId(0), "x", text.into());
            let words = line_words::plain(&export, export.text());
            let found = places(&export, None, &words);
            let shown: Vec<&str> =
                found.iter().map(|one| &export.text()[one.start as usize..one.end as usize]).collect();
            assert_eq!(shown, wanted, "{text}");
        }
    }
}
