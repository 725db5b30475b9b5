//! Days as exports write them.

use super::word::Word;
use jiff::civil::Date;

/// Names of months by their first three letters (RFC 5322, 3.3).
const MONTHS: [&str; 12] =
    ["jan", "feb", "mar", "apr", "may", "jun", "jul", "aug", "sep", "oct", "nov", "dec"];

/// A day, and the number of words that it has: `2026-11-30`, also with a time behind it, `30.11.2026`, `2026/11/30`, `20261130`,
/// `30-Nov-2026`, `30 Nov 2026`, `Nov 30, 2026`, or seconds since 1970. Digits with slashes of which either may be the month are no
/// day: cut them as `{day}/{month}/{year}`.
pub(super) fn of(words: &[Word<'_>]) -> Option<(Date, usize)> {
    let first = words.first()?.text;
    if let Some(day) = one(first) {
        return Some((day, 1));
    }
    let [a, b, c] = words.get(..3)? else { return None };
    let year = number(c.text).filter(|_| c.text.len() == 4)?;
    let (day, month) = match month(a.text) {
        Some(month) => (number(b.text.trim_end_matches(','))?, month),
        None => (number(a.text.trim_end_matches('.'))?, month(b.text)?),
    };
    Some((date(year, month, day)?, 3))
}

fn one(text: &str) -> Option<Date> {
    let text = text.split_once(['T', 't']).map_or(text, |(day, _)| if day.len() >= 8 { day } else { text });
    if text.bytes().all(|byte| byte.is_ascii_digit()) {
        return match text.len() {
            8 => date(number(&text[..4])?, number(&text[4..6])?, number(&text[6..])?),
            10 => {
                let second = jiff::Timestamp::from_second(text.parse().ok()?).ok()?;
                Some(second.to_zoned(jiff::tz::TimeZone::UTC).date())
            }
            _ => None,
        };
    }
    let sign = text.chars().find(|letter| matches!(letter, '-' | '.' | '/'))?;
    let [a, b, c] = *text.split(sign).collect::<Vec<_>>() else { return None };
    if a.len() == 4 {
        return date(number(a)?, number(b)?, number(c)?);
    }
    if c.len() != 4 {
        return None;
    }
    if let Some(month) = month(b) {
        return date(number(c)?, month, number(a)?);
    }
    let (a, b, year) = (number(a)?, number(b)?, number(c)?);
    match sign {
        '.' => date(year, b, a),
        '/' if a > 12 || a == b => date(year, b, a),
        '/' if b > 12 => date(year, a, b),
        _ => None,
    }
}

fn number(text: &str) -> Option<i16> {
    text.bytes().all(|byte| byte.is_ascii_digit()).then(|| text.parse().ok())?
}

fn month(text: &str) -> Option<i16> {
    let short = text.get(..3)?.to_ascii_lowercase();
    let known = text.bytes().all(|byte| byte.is_ascii_alphabetic());
    MONTHS.iter().position(|one| known && *one == short).map(|at| at as i16 + 1)
}

fn date(year: i16, month: i16, day: i16) -> Option<Date> {
    Date::new(year, month.try_into().ok()?, day.try_into().ok()?).ok()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn days_as_exports_write_them() {
        for (text, wanted) in [
            ("2026-11-30", Some(("2026-11-30", 1))),
            ("2026-11-30T08:00:00Z", Some(("2026-11-30", 1))),
            ("30.11.2026 late", Some(("2026-11-30", 1))),
            ("2026/11/30", Some(("2026-11-30", 1))),
            ("20261130", Some(("2026-11-30", 1))),
            ("30-Nov-2026", Some(("2026-11-30", 1))),
            ("30 November 2026", Some(("2026-11-30", 3))),
            ("Nov 30, 2026 x", Some(("2026-11-30", 3))),
            ("1796774400", Some(("2026-12-09", 1))),
            ("30/11/2026", Some(("2026-11-30", 1))),
            ("11/30/2026", Some(("2026-11-30", 1))),
            ("03/04/2026", None),
            ("2026-13-01", None),
            ("never", None),
            ("4", None),
        ] {
            let words: Vec<Word<'_>> = text.split(' ').map(|word| Word::bare(word, 0, 0)).collect();
            let found = of(&words).map(|(day, number)| (day.to_string(), number));
            assert_eq!(found, wanted.map(|(day, number)| (day.to_owned(), number)), "{text}");
        }
    }
}
