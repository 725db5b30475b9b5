//! Words of a statement that no phrase takes, and that may be secrets: with a new phrasebook all secrets of an export are in such statements.

use super::word::Word;
use trevlin_model::{Export, Origin};

/// What is part of a word that announces a secret.
const PARTS: [&str; 9] =
    ["secret", "pass", "psk", "token", "credential", "communit", "key", "kennwort", "private"];
/// Words that announce one.
const WORDS: [&str; 5] = ["word", "pin", "code", "hash", "auth"];

/// Places that are masked: everything behind a word that announces a secret, on its line or as the name of the block around it, and
/// whatever is in quotes.
pub(super) fn places(export: &Export, outer: Option<&[Word<'_>]>, words: &[Word<'_>]) -> Vec<Origin> {
    let mut announced = matches!(outer, Some([name]) if announces(name.text));
    let mut found = Vec::new();
    for word in words {
        let text = word.text;
        // `password=abc` announces and has it.
        let sign = text.find(['=', ':']).filter(|at| at + 1 < text.len() && announces(&text[..*at]));
        let quote = text.find(['"', '\'']).filter(|_| text.ends_with(['"', '\'']));
        let from = if announced || word.quoted { Some(0) } else { sign.map(|at| at + 1).or(quote) };
        if let Some(from) = from.filter(|_| word.start < word.end) {
            found.push(export.origin(word.start as usize + from..word.end as usize));
        }
        announced |= sign.is_none() && announces(text);
    }
    found
}

fn announces(word: &str) -> bool {
    let word = word.to_ascii_lowercase();
    WORDS.contains(&word.as_str()) || PARTS.iter().any(|part| word.contains(part))
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::phrasebook::shape;
    use trevlin_model::ExportId;

    #[test]
    fn secrets_of_statements_that_are_not_understood() {
        for (text, wanted) in [
            ("miller greta word Stone-1887", &["Stone-1887"][..]),
            ("peer yard Secret-Key abc def", &["abc", "def"]),
            ("label \"north quay\" blue", &["north quay"]),
            ("flour coarse", &[]),
            ("user=ann password=Stone-1887 name=\"the mill\"", &["Stone-1887", "\"the mill\""]),
            ("psk:a:b", &["a:b"]),
        ] {
            let export = Export::new(ExportId(0), "x", text.into());
            let words = shape::plain(&export, export.text());
            let found = places(&export, None, &words);
            let shown: Vec<&str> =
                found.iter().map(|one| &export.text()[one.start as usize..one.end as usize]).collect();
            assert_eq!(shown, wanted, "{text}");
        }
    }
}
