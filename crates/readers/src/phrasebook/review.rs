//! Phrases that an author may not mean as they are written: each is valid, and has an effect other than the expected one, or none.

use super::book::{Phrase, Phrasebook};
use super::shape::Shape;
use super::target::Plan;
use super::value::{Captures, Kind};
use super::word::Word;
use trevlin_model::{Export, Note};

impl Phrasebook {
    /// Warnings about phrases, at their lines.
    #[must_use]
    pub fn review(&self, export: &Export) -> Vec<Note> {
        let mut found: Vec<(u32, String)> = Vec::new();
        for (number, phrase) in self.phrases.iter().enumerate() {
            found.extend(self.never_fits(phrase).map(|why| (phrase.line, why)));
            found.extend(self.swallowed(number).map(|why| (phrase.line, why)));
            found.extend(fixed_texts(phrase).map(|why| (phrase.line, why)));
        }
        for table in &self.tables {
            let named = |phrase: &Phrase| {
                let levels =
                    phrase.levels.iter().filter_map(|(level, _)| self.levels[*level].pattern.as_ref());
                levels.into_iter().any(|pattern| pattern.matches(&[Word::bare(&table.name, 0, 0)]).is_some())
            };
            if !self.phrases.iter().any(named) {
                found.push((1, format!("no phrase names the table `{}`", table.name)));
            }
        }
        for map in &self.maps {
            if Kind::is_type(&map.name) {
                found.push((
                    1,
                    format!("the table `[values.{0}]` hides the capture type `{0}`; rename it", map.name),
                ));
            }
        }
        found.sort();
        let place =
            |line: u32| export.line(line).map_or(export.origin(0..0), |line| export.origin_of(line.text));
        found.into_iter().map(|(line, text)| Note { origin: place(line), text }).collect::<Vec<Note>>()
    }

    /// Why no statement of this shape fits a phrase.
    fn never_fits(&self, phrase: &Phrase) -> Option<String> {
        let levels = phrase.levels.len();
        let tables = !self.tables.is_empty();
        let most = match self.shape {
            Shape::Lines => 1,
            Shape::Sections | Shape::Csv => 2,
            Shape::Indented | Shape::Braces | Shape::Json | Shape::Xml => return self.comment(phrase),
        };
        // A table has rows, and these have cells.
        if levels > most + if tables { 2 } else { 0 } {
            let word = self.shape.word();
            return Some(format!(
                "statements of the shape `{word}` are not nested so deep, so this phrase fits none"
            ));
        }
        self.comment(phrase)
    }

    /// A phrase that begins as comments do.
    fn comment(&self, phrase: &Phrase) -> Option<String> {
        let (last, _) = phrase.levels.last()?;
        let first = self.levels[*last].pattern.as_ref()?.word_at(0)?;
        let sign = self.comments.iter().find(|sign| first.starts_with(sign.as_str()))?;
        Some(format!("lines that begin with `{sign}` are comments, so this phrase fits none"))
    }

    /// The earlier phrase that takes every statement of a later one.
    fn swallowed(&self, number: usize) -> Option<String> {
        let phrase = &self.phrases[number];
        let samples = self.samples(phrase)?;
        let takes = |earlier: &&Phrase| {
            let of_all = earlier.anywhere && earlier.levels.len() <= phrase.levels.len();
            let as_deep =
                earlier.levels.len() == phrase.levels.len() && (earlier.anywhere || !phrase.anywhere);
            let unconditional =
                earlier.beside.is_empty() && earlier.kinds.iter().all(|(_, kind)| !kind.may_fail());
            (of_all || as_deep) && unconditional && samples.iter().all(|sample| self.fits(earlier, sample))
        };
        let earlier = self.phrases[..number].iter().find(takes)?;
        Some(format!(
            "the phrase on line {} takes all of its statements first, so it never applies",
            earlier.line
        ))
    }

    fn fits(&self, phrase: &Phrase, sample: &[Vec<String>]) -> bool {
        let own = &sample[sample.len() - phrase.levels.len()..];
        phrase.levels.iter().zip(own).all(|((level, _), words)| {
            let words: Vec<Word<'_>> = words.iter().map(|word| Word::bare(word, 0, 0)).collect();
            self.levels[*level].pattern.as_ref().is_none_or(|pattern| pattern.matches(&words).is_some())
        })
    }

    /// Statements that fit a phrase, level by level, with different words for its captures; none where a level fits any statement.
    fn samples(&self, phrase: &Phrase) -> Option<Vec<Vec<Vec<String>>>> {
        let mut all: Vec<Vec<Vec<String>>> = vec![Vec::new()];
        for (level, _) in &phrase.levels {
            let of_level = self.levels[*level].pattern.as_ref()?.samples();
            if of_level.is_empty() {
                return None;
            }
            // One level varies at a time: the others have their first sample.
            let before = all.clone();
            for one in &mut all {
                one.push(of_level[0].clone());
            }
            for further in &of_level[1..] {
                let mut one = before[0].clone();
                one.push(further.clone());
                all.push(one);
            }
        }
        Some(all)
    }
}

/// A value that is the name of a capture without its braces.
fn fixed_texts(phrase: &Phrase) -> Option<String> {
    let lands = phrase.lands.iter().chain(&phrase.denied);
    let name = lands.into_iter().find_map(|(_, plan)| named(plan, &phrase.kinds))?;
    Some(format!("the value `{name}` is a fixed text; the captured value is `{{{name}}}`"))
}

fn named<'a>(plan: &Plan, captures: &'a Captures) -> Option<&'a str> {
    match plan {
        Plan::Fixed(node) => {
            let text = node.text()?;
            captures.iter().map(|(name, _)| name.as_str()).find(|name| *name == text && name.len() > 1)
        }
        Plan::List(all) | Plan::Join(all) => all.iter().find_map(|one| named(one, captures)),
        Plan::Table(entries) => entries.iter().find_map(|(_, one)| named(one, captures)),
        _ => None,
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::phrasebook::BOOK;
    use trevlin_model::ExportId;

    #[test]
    fn phrases_that_are_not_as_they_seem() {
        for (shape, more, phrases, wanted) in [
            (
                "lines",
                "",
                &["port {_n} open", "port {_m:number} open"][..],
                &["takes all of its statements first"][..],
            ),
            ("lines", "", &["port {_m:number} open", "port {_n} open"], &[]),
            ("lines", "", &["[no] port {_n}...", "port a b [c]"], &["takes all of its statements first"]),
            ("lines", "", &["port {_n:speed}", "port a"], &[]),
            ("lines", "", &["port {_n:speed}", "port a > b"], &["not nested so deep"]),
            ("indented", "comments = ['#']", &["port {_n:speed}", "port {_a} > '# b'"], &["are comments"]),
            (
                "indented",
                "",
                &["** > b {_x}", "port {_n:speed} > b c"],
                &["takes all of its statements first"],
            ),
            ("indented", "", &["port {_n:speed} > b c", "** > b {_x}"], &[]),
        ] {
            let mut text = format!(
                "phrasebook = \"{BOOK}\"\nname = \"x\"\nshape = \"{shape}\"\n{more}\nrecognise = {{ file = '*' }}\n"
            );
            for says in phrases {
                text.push_str(&format!("[[phrase]]\nsays = {:?}\n", says.replace('\'', "\"")));
            }
            text.push_str("[values.speed]\nslow = 'x'\n");
            let export = Export::new(ExportId(0), "book.toml", text);
            let (book, _) = Phrasebook::read(&export);
            let told: Vec<String> = book.review(&export).into_iter().map(|note| note.text).collect();
            assert_eq!(told.len(), wanted.len(), "{phrases:?}: {told:?}");
            for (told, wanted) in told.iter().zip(wanted) {
                assert!(told.contains(wanted), "{phrases:?}: {told}");
            }
        }
    }

    #[test]
    fn values_without_braces_and_hidden_types() {
        let text = format!(
            "phrasebook = \"{BOOK}\"\nname = \"x\"\nshape = \"lines\"\nrecognise = {{ file = '*' }}\n[values.port]\na = 'b'\n\
             [[table]]\nname = 'members'\nbegins = 'Name'\n\
             [[phrase]]\nsays = 'user {{name}} {{p:port}}'\nlands = {{ 'logins[].user' = 'name', 'logins[].list' = '{{p}}' }}\n"
        );
        let export = Export::new(ExportId(0), "book.toml", text);
        let (book, _) = Phrasebook::read(&export);
        let told: Vec<String> = book.review(&export).into_iter().map(|note| note.text).collect();
        for wanted in [
            "hides the capture type `port`",
            "no phrase names the table `members`",
            "the value `name` is a fixed text",
        ] {
            assert!(told.iter().any(|text| text.contains(wanted)), "{wanted}: {told:?}");
        }
    }
}
