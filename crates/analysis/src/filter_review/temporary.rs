//! Comments that limit a statement to a time.

use aho_corasick::AhoCorasick;
use jiff::civil::Date;
use serde::Deserialize;
use std::collections::BTreeMap;
use std::sync::LazyLock;
use trevlin_model::Rule;

#[derive(Debug, Deserialize)]
#[serde(deny_unknown_fields)]
struct Words {
    /// Words that mark something as temporary by themselves.
    marks: Vec<String>,
    /// Words that mark a date behind them as an end, and nothing without one.
    ends: Vec<String>,
    /// Words between such a word and its date.
    between: Vec<String>,
    /// Words that mark a trial, which counts for rules alone.
    trials: Vec<String>,
    /// Names of the months by language.
    months: BTreeMap<String, Vec<String>>,
}

trevlin_model::table! {
/// Words of several languages.
static WORDS: Words = "../../tables/temporary-words.toml"; }

/// Finds any of the words, in one pass.
static ANY: LazyLock<Option<AhoCorasick>> =
    LazyLock::new(|| AhoCorasick::new(WORDS.marks.iter().chain(&WORDS.ends).chain(&WORDS.trials)).ok());

/// Temporal information in a comment.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Temporary {
    /// The word.
    pub word: &'static str,
    /// Whether the word marks a trial alone.
    pub trial: bool,
    /// The date it names; the last day of a month that is named without a day.
    pub date: Option<Date>,
    /// Whether the day is named.
    pub to_the_day: bool,
    /// Whether that has passed.
    pub passed: bool,
}

impl Temporary {
    /// The date as the comment names it: with or without a day.
    #[must_use]
    pub fn named(&self) -> Option<String> {
        let date = self.date?;
        Some(if self.to_the_day { date.to_string() } else { date.strftime("%Y-%m").to_string() })
    }

    /// The remark in words.
    #[must_use]
    pub fn text(&self) -> String {
        match (self.named(), self.passed) {
            (Some(date), true) => format!("its comment names {date}, which has passed"),
            (Some(date), false) => format!("its comment names {date}"),
            (None, _) => format!("its comment reads `{}`", self.word),
        }
    }
}

/// Whether a comment marks something as temporary. A date alone does not: it may be the date of creation.
#[must_use]
pub fn temporary(comment: &str, as_of: Date) -> Option<Temporary> {
    if comment.starts_with(Rule::GENERATED) {
        return None;
    }
    let lower = comment.to_lowercase();
    if ANY.as_ref().is_some_and(|any| !any.is_match(&lower)) {
        return None;
    }
    let whole = |word: &str| {
        lower.match_indices(word).any(|(at, _)| {
            let before = lower[..at].chars().next_back();
            let after = lower[at + word.len()..].chars().next();
            !before.is_some_and(char::is_alphanumeric) && !after.is_some_and(char::is_alphanumeric)
        })
    };
    let among = |words: &'static [String]| words.iter().map(String::as_str).find(|word| whole(word));
    let found = date(&lower, as_of);
    // Such a word may be a name as well, so the date is beside it.
    let ends = |word: &&'static str| {
        lower.match_indices(*word).any(|(at, _)| {
            let (before, behind) = (&lower[..at], &lower[at + word.len()..]);
            begins_with_date(behind, as_of) || date(last_words(before, 2), as_of).is_some()
        })
    };
    let end = || {
        let all = WORDS.ends.iter().map(String::as_str);
        all.filter(|word| whole(word)).find(ends)
    };
    let mark = among(&WORDS.marks).or_else(|| found.and_then(|_| end()));
    let (word, trial) = mark.map(|word| (word, false)).or_else(|| Some((among(&WORDS.trials)?, true)))?;
    let date = found.map(|(date, _)| date);
    Some(Temporary {
        word,
        trial,
        date,
        to_the_day: found.is_some_and(|(_, to_the_day)| to_the_day),
        passed: date.is_some_and(|date| date < as_of),
    })
}

/// Whether a text begins with a date, but for words such as `the end of`.
fn begins_with_date(text: &str, as_of: Date) -> bool {
    let between = |word: &&str| WORDS.between.iter().any(|one| one == word.trim_matches([':', ',', '\'']));
    let Some(first) = text.split_whitespace().find(|word| !between(word)) else { return false };
    // The word itself is a date, or the day or month of one.
    let begins = first.starts_with(|letter: char| letter.is_ascii_digit())
        || month_of(first.trim_matches(['.', ',', ':'])).is_some();
    begins && date(first_words(&text[offset(text, first)..], 3), as_of).is_some()
}

/// Where a piece of a text begins.
fn offset(text: &str, piece: &str) -> usize {
    (piece.as_ptr() as usize).saturating_sub(text.as_ptr() as usize)
}

/// The beginning of a text with this number of words.
fn first_words(text: &str, count: usize) -> &str {
    let last = text.split_whitespace().nth(count);
    last.map_or(text, |word| &text[..offset(text, word)])
}

/// The end of a text with this number of words.
fn last_words(text: &str, count: usize) -> &str {
    let words: Vec<&str> = text.split_whitespace().collect();
    let first = words.len().checked_sub(count).and_then(|at| words.get(at));
    first.map_or(text, |word| &text[offset(text, word)..])
}

/// The number of a month from 1, by its name in any of the languages: in full, or its first letters.
fn month_of(name: &str) -> Option<i8> {
    /// Letters of an abbreviation.
    const SHORT: std::ops::RangeInclusive<usize> = 3..=4;
    let letters = name.chars().count();
    /// Languages whose abbreviations are no words of others.
    const SHORTENED: [&str; 3] = ["de", "en", "nl"];
    let at = |(language, names): (&String, &Vec<String>)| {
        let shortened = SHORT.contains(&letters) && SHORTENED.contains(&language.as_str());
        names.iter().position(|full| full == name || shortened && full.starts_with(name))
    };
    Some(WORDS.months.iter().find_map(at)? as i8 + 1)
}

/// The first date that a text names: `2026-05-12`, `12.05.2026`, `12 May`, `May 12, 2026`, `end of May`. Without a year it is
/// the one nearest to the date of the audit that is not far ahead of it. With whether it names the day.
fn date(text: &str, as_of: Date) -> Option<(Date, bool)> {
    let words: Vec<&str> = text
        .split(|letter: char| !(letter.is_alphanumeric() || "-./".contains(letter)))
        .filter(|word| !word.is_empty() && !["de", "del", "di", "of"].contains(word))
        .collect();
    for (at, word) in words.iter().enumerate() {
        let parts: Vec<i16> = word
            .trim_matches(['.', '-', '/'])
            .split(['-', '.', '/'])
            .map_while(|part| part.parse().ok())
            .collect();
        let found = match parts.as_slice() {
            [year, month, day] if *year > 999 => {
                Date::new(*year, *month as i8, *day as i8).ok().map(|date| (date, true))
            }
            // Day first, as in most of the world; where that is no date, month first.
            [day, month, year] if *year > 999 => Date::new(*year, *month as i8, *day as i8)
                .or_else(|_| Date::new(*year, *day as i8, *month as i8))
                .ok()
                .map(|date| (date, true)),
            [year, month] | [month, year] if *year > 999 => {
                Date::new(*year, *month as i8, 1).ok().map(|date| (date.last_of_month(), false))
            }
            _ => month(words.get(at..).unwrap_or_default(), words[..at].last().copied(), as_of),
        };
        if found.is_some() {
            return found;
        }
    }
    None
}

/// A date with the month's name first in `words`, and perhaps a day before it.
fn month(words: &[&str], before: Option<&str>, as_of: Date) -> Option<(Date, bool)> {
    let month = month_of(words.first()?.trim_matches('.'))?;
    let number = |word: &str| -> Option<i16> {
        let word = word.trim_matches('.');
        let ordinal = ["st", "nd", "rd", "th"].iter().find_map(|ending| word.strip_suffix(ending));
        ordinal.unwrap_or(word).parse().ok()
    };
    let day = before.and_then(number).filter(|day| (1..=31).contains(day));
    let next: Vec<i16> = words[1..].iter().take(2).map_while(|word| number(word)).collect();
    let (day, year) = match (day, next.as_slice()) {
        (Some(day), [year, ..]) if *year > 999 => (Some(day), Some(*year)),
        (Some(day), _) => (Some(day), None),
        (None, [day, year, ..]) if *day <= 31 && *year > 999 => (Some(*day), Some(*year)),
        (None, [year, ..]) if *year > 999 => (None, Some(*year)),
        (None, [day, ..]) if (1..=31).contains(day) => (Some(*day), None),
        (None, _) => (None, None),
    };
    let of_year = |year: i16| match day {
        Some(day) => Date::new(year, month, day as i8).ok(),
        None => Date::new(year, month, 1).ok().map(Date::last_of_month),
    };
    let found = match year {
        Some(year) => of_year(year)?,
        None => {
            let this = of_year(as_of.year())?;
            let ahead = this.since(as_of).map_or(0, |span| span.get_days());
            // A date half a year or more ahead refers to the last year.
            if ahead > 182 { of_year(as_of.year() - 1)? } else { this }
        }
    };
    Some((found, day.is_some()))
}

#[cfg(test)]
mod tests {
    use super::*;
    use jiff::civil::date as day;

    #[test]
    fn comments_that_speak_of_time() {
        let as_of = day(2026, 11, 25);
        for (comment, wanted) in [
            ("TEMP portal, remove after 12 May", Some("its comment names 2026-05-12, which has passed")),
            ("temporary until 2027-01-31", Some("its comment names 2027-01-31")),
            ("until 31.12.2025", Some("its comment names 2025-12-31, which has passed")),
            ("till May 3rd, 2026", Some("its comment names 2026-05-03, which has passed")),
            ("until end of December", Some("its comment names 2026-12")),
            ("remove in august", Some("its comment names 2026-08, which has passed")),
            ("remove after 2026-03", Some("its comment names 2026-03, which has passed")),
            ("temporary, 12/2026", Some("its comment names 2026-12")),
            ("for now", Some("its comment reads `for now`")),
            ("befristet bis 31. März 2026", Some("its comment names 2026-03-31, which has passed")),
            ("jusqu'au 3 février 2027", Some("its comment names 2027-02-03")),
            ("provvisorio, fino al 2026-06-30", Some("its comment names 2026-06-30, which has passed")),
            (
                "acceso temporal hasta el 1 de agosto de 2026",
                Some("its comment names 2026-08-01, which has passed"),
            ),
            ("tijdelijk tot 5 mei", Some("its comment names 2026-05-05, which has passed")),
            ("bis auf Weiteres", None),
            ("Till Brandt, since 2024-03-01", None),
            ("till printers", None),
            ("till-2 register, installed 2025-01-05", None),
            ("desk tot 7 of Entro since 2025", None),
            ("till 2026-01-05", Some("its comment names 2026-01-05, which has passed")),
            ("till the end of May 2026", Some("its comment names 2026-05, which has passed")),
            ("2026-05-01 löschen", Some("its comment names 2026-05-01, which has passed")),
            ("Port 80 bis 90", None),
            ("made 2024-03-01 for the desks", None),
            ("temperature sensors", None),
            ("generated from zone test", None),
            ("the contest", None),
            ("", None),
        ] {
            assert_eq!(temporary(comment, as_of).map(|one| one.text()).as_deref(), wanted, "{comment}");
        }
    }
}
