//! Phrasebooks to begin with, one for each shape.

use super::BOOK;

/// Introduction of every guide.
const INTRODUCTION: &str = include_str!("guide/introduction.toml");
const END: &str = include_str!("guide/end.toml");

/// An example of each shape: the export it reads, and phrases for it.
const EXAMPLES: [(&str, &str); 7] = [
    ("lines", include_str!("guide/lines.toml")),
    ("indented", include_str!("guide/indented.toml")),
    ("braces", include_str!("guide/braces.toml")),
    ("sections", include_str!("guide/sections.toml")),
    ("csv", include_str!("guide/csv.toml")),
    ("json", include_str!("guide/json.toml")),
    ("xml", include_str!("guide/xml.toml")),
];

/// A phrasebook to begin with, for exports of a shape.
#[must_use]
pub fn guide(shape: &str) -> String {
    let example = EXAMPLES.iter().find(|(word, _)| *word == shape).map_or(EXAMPLES[0].1, |one| one.1);
    format!("{INTRODUCTION}\nphrasebook = \"{BOOK}\"\n{example}{END}")
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::{PhraseResult, Phrasebook};
    use trevlin_model::{Export, ExportId};

    /// The example export in a guide's comments, after its heading.
    fn example(text: &str) -> String {
        let lines = text.lines().skip_while(|line| !line.starts_with("# An export that it reads")).skip(1);
        let lines = lines.take_while(|line| line.starts_with("#   "));
        lines.map(|line| line[4..].to_owned() + "\n").collect()
    }

    #[test]
    fn every_guide_reads_its_own_example() {
        for (shape, _) in EXAMPLES {
            let book = Export::new(ExportId(0), "book.toml", guide(shape));
            let (read, notes) = Phrasebook::read(&book);
            assert!(notes.is_empty(), "{shape}: {notes:?}");
            let export = Export::new(ExportId(0), "gate.txt", example(&guide(shape)));
            assert!(read.recognises(&export) != crate::Recognition::No, "{shape}");
            let tried = read.try_on(&export);
            let untaken: Vec<_> =
                tried.statements.iter().filter(|(_, took)| matches!(took, PhraseResult::Nobody(_))).collect();
            assert!(untaken.is_empty() && tried.notes.is_empty(), "{shape}: {untaken:?} {:?}", tried.notes);
            let facts = &tried.reading.facts;
            assert_eq!(facts.interfaces.len(), 2, "{shape}");
            let rules = facts.filters.iter().flat_map(|filter| &filter.chains).map(|chain| chain.rules.len());
            assert!(rules.sum::<usize>() >= 2, "{shape}");
        }
    }
}
