//! Remarks for auditors about a rule.

use crate::context::Analyses;
use crate::filter_review::{Described, FilterReview, describe};
use jiff::civil::Date;
use serde::Serialize;
use trevlin_model::{Limit, MatchKind, Origin, Rule, Target};
use trevlin_packets::Space;
use trevlin_packets::breadth::Breadth;
use trevlin_packets::program::RuleId;
use trevlin_packets::review::{RuleReview, RuleStatus};

/// Kind of remark.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Serialize)]
#[serde(rename_all = "kebab-case")]
pub enum RemarkKind {
    /// No packet can match its conditions.
    Impossible,
    /// Earlier rules take everything.
    NeverMatched,
    /// A deny that comes after an accept of the same.
    DenyTooLate,
    /// It is equal to an earlier rule.
    Duplicate,
    /// Without it nothing would change.
    ChangesNothing,
    /// An earlier rule with the opposite verdict takes a part of it.
    PartlyTaken,
    /// It is the general rule behind exceptions.
    AfterExceptions,
    /// It lets everything through.
    AcceptsEverything,
    /// It lets every service through.
    EveryService,
    /// Its comment marks it as temporary.
    Temporary,
    /// It was never met since counting began.
    NeverCounted,
    /// It has no comment.
    NoComment,
    /// One of its conditions is not analysed.
    NotAnalysed,
    /// No chain that packets come to leads here.
    NotReached,
}

/// A remark.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Remark {
    /// Its kind.
    pub kind: RemarkKind,
    /// The remark.
    pub text: String,
    /// Other rules it refers to.
    pub others: Vec<Origin>,
}

/// Results about one rule.
#[derive(Debug)]
pub struct Told {
    /// Its description in words.
    pub described: Described,
    /// Breadth of the new connections that it permits; none where it permits none, or only connections within the device.
    pub breadth: Option<Breadth>,
    /// The remarks, the weightiest first.
    pub remarks: Vec<Remark>,
}

/// Results about one rule.
pub fn of_rule(
    estate: &Analyses,
    review: &FilterReview<'_>,
    id: RuleId,
    rule: &Rule,
    found: Option<&RuleReview>,
    counted: bool,
    as_of: Date,
) -> Told {
    let described = describe(rule);
    let mut remarks = Vec::new();
    match found {
        None => remarks.push(Remark {
            kind: RemarkKind::NotReached,
            text: "no active chain leads here".into(),
            others: Vec::new(),
        }),
        Some(found) => status(review, id, rule, found, &mut remarks),
    }
    let within = within_device(estate, review.device, rule);
    if within {
        remarks.retain(|one| one.kind != RemarkKind::ChangesNothing);
    }
    let breadth = let_through(review.spaces, rule).filter(|_| !within);
    if found.is_some_and(|found| found.status == RuleStatus::Alive) && !within_one_network(rule) {
        remarks.extend(breadth.and_then(|breadth| broad(breadth, &described)));
    }
    if let Some(temporary) = temporary(rule.comment.as_deref().unwrap_or_default(), as_of) {
        remarks.push(Remark { kind: RemarkKind::Temporary, text: temporary.text(), others: Vec::new() });
    }
    if rule.comment.is_none()
        && matches!(rule.target, Target::Accept | Target::Drop | Target::Reject)
        && !within
    {
        let text = "no comment states its purpose".to_owned();
        remarks.push(Remark { kind: RemarkKind::NoComment, text, others: Vec::new() });
    }
    if counted && rule.packets == Some(0) {
        let text = "packet counter is zero".to_owned();
        remarks.push(Remark { kind: RemarkKind::NeverCounted, text, others: Vec::new() });
    }
    if found.is_some_and(|found| !found.exact) {
        let text = "condition not analysed".to_owned();
        remarks.push(Remark { kind: RemarkKind::NotAnalysed, text, others: Vec::new() });
    }
    Told { described, breadth, remarks }
}

fn origins(review: &FilterReview<'_>, ids: &[RuleId]) -> Vec<Origin> {
    ids.iter().filter_map(|id| review.rule(*id)).map(|rule| rule.origin).collect()
}

fn status(review: &FilterReview<'_>, id: RuleId, rule: &Rule, found: &RuleReview, remarks: &mut Vec<Remark>) {
    let mut push = |kind, text: String, others| remarks.push(Remark { kind, text, others });
    match &found.status {
        RuleStatus::Impossible => push(
            RemarkKind::Impossible,
            "its conditions, with those of the jump that leads here, exclude each other".into(),
            Vec::new(),
        ),
        RuleStatus::NotDecided => {
            push(RemarkKind::NotAnalysed, "not decided: a part of the chain is missing".into(), Vec::new())
        }
        RuleStatus::TooCostly => push(
            RemarkKind::NotAnalysed,
            format!("not decided: work limit reached; {}", Limit::SetNodes.remedy()),
            Vec::new(),
        ),
        RuleStatus::Covered { by } => {
            let takers: Vec<&Rule> = by.iter().filter_map(|id| review.rule(*id)).collect();
            let same = by.iter().find(|one| {
                one.chain == id.chain && review.rule(**one).is_some_and(|other| other.says_the_same(rule))
            });
            let accepted = takers.iter().any(|taker| taker.target == Target::Accept && may_be_new(taker));
            let late =
                found.escaped.is_some() || matches!(rule.target, Target::Drop | Target::Reject) && accepted;
            let (kind, text) = match (same, late) {
                (Some(_), _) => (RemarkKind::Duplicate, "duplicates an earlier rule"),
                (None, true) if !accepted => {
                    (RemarkKind::DenyTooLate, "shadowed: earlier rules return what it denies")
                }
                (None, true) => (RemarkKind::DenyTooLate, "shadowed: earlier rules accept what it denies"),
                (None, false) => (RemarkKind::NeverMatched, "shadowed: earlier rules match everything first"),
            };
            let others = match same {
                Some(one) => origins(review, &[*one]),
                // Nearly every list accepts known connections first; what matters is who takes the new ones.
                None => {
                    let new: Vec<RuleId> =
                        by.iter().copied().filter(|one| review.rule(*one).is_some_and(may_be_new)).collect();
                    origins(review, if new.is_empty() { by } else { &new })
                }
            };
            push(kind, text.into(), others);
        }
        RuleStatus::Alive => {
            if let Some(by) = &found.changes_nothing
                && !rule.matches.is_empty()
            {
                let text = if by.is_empty() {
                    "redundant: the default policy has the same effect"
                } else {
                    "redundant: later rules have the same effect"
                };
                push(RemarkKind::ChangesNothing, text.into(), origins(review, by));
            }
            let (exceptions, parts): (Vec<_>, Vec<_>) = found.partly.iter().partition(|one| one.exception);
            if !parts.is_empty() {
                let ids: Vec<RuleId> = parts.iter().map(|one| one.by).collect();
                let text = match found.escaped {
                    _ if rule.target == Target::Accept => "an earlier rule denies a part of it",
                    Some(_) => "earlier rules accept all of it that is not forged",
                    None => "an earlier rule accepts a part of it",
                };
                push(RemarkKind::PartlyTaken, text.into(), origins(review, &ids));
            }
            // That the last rule of a chain is behind all others needs no word.
            if !exceptions.is_empty() && !rule.matches.is_empty() {
                let ids: Vec<RuleId> = exceptions.iter().map(|one| one.by).collect();
                push(RemarkKind::AfterExceptions, "follows its exceptions".into(), origins(review, &ids));
            }
        }
    }
}

/// Whether a rule may hold for the first packet of a connection.
pub fn may_be_new(rule: &Rule) -> bool {
    rule.matches.iter().all(|one| match &one.kind {
        MatchKind::States(states) => states.new != one.negated,
        _ => true,
    })
}

/// As many services as every port of one protocol.
pub const EVERY_SERVICE: f64 = 16.0;

/// Whether a rule lets new connections through, and how broadly.
pub fn let_through(spaces: &[Space], rule: &Rule) -> Option<Breadth> {
    if rule.target != Target::Accept {
        return None;
    }
    let all = spaces.iter().filter_map(|space| Breadth::of(space, &rule.matches));
    all.max_by(|a, b| a.all.total_cmp(&b.all))
}

/// Whether a rule is only for loopback traffic: the first line of nearly every filter, which exposes nothing.
pub fn within_device(estate: &Analyses, device: usize, rule: &Rule) -> bool {
    let loopback = |name: &str| {
        let known = estate.devices[device].facts.interfaces.iter().find(|one| one.name == name);
        known.map_or(name == "lo", |one| one.loopback)
    };
    rule.matches.iter().any(|one| match &one.kind {
        MatchKind::Entering(name) | MatchKind::Leaving(name) => !one.negated && loopback(name),
        _ => false,
    })
}

/// Whether a rule is for traffic that leaves by the interface it entered by, as between the ports of a bridge.
#[must_use]
pub fn within_one_network(rule: &Rule) -> bool {
    let named = |leaving: bool| {
        rule.matches.iter().filter(|one| !one.negated).find_map(|one| match &one.kind {
            MatchKind::Entering(name) if !leaving => Some(name),
            MatchKind::Leaving(name) if leaving => Some(name),
            _ => None,
        })
    };
    named(false).is_some() && named(false) == named(true)
}

fn broad(breadth: Breadth, described: &Described) -> Option<Remark> {
    if breadth.services < EVERY_SERVICE {
        return None;
    }
    let everything = described.open.is_whole() && described.more.is_empty();
    let (kind, text) = if everything {
        (RemarkKind::AcceptsEverything, "permits all traffic")
    } else {
        (RemarkKind::EveryService, "permits any service")
    };
    Some(Remark { kind, text: text.into(), others: Vec::new() })
}

/// Words that mark a rule as temporary.
const WORDS: [&str; 17] = [
    "temp",
    "tmp",
    "temporary",
    "temporarily",
    "provisional",
    "for now",
    "until",
    "till",
    "remove",
    "delete after",
    "test",
    "testing",
    "trial",
    "workaround",
    "quick fix",
    "expires",
    "expire",
];

/// Temporal information in a comment.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Temporary {
    /// The word.
    pub word: Option<&'static str>,
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
            (None, _) => format!("its comment reads `{}`", self.word.unwrap_or_default()),
        }
    }
}

/// Whether a comment marks a rule as temporary. A date alone does not: it may be the date of creation.
pub fn temporary(comment: &str, as_of: Date) -> Option<Temporary> {
    if comment.starts_with(Rule::GENERATED) {
        return None;
    }
    let lower = comment.to_lowercase();
    let whole = |word: &str| {
        lower.match_indices(word).any(|(at, _)| {
            let before = lower[..at].chars().next_back();
            let after = lower[at + word.len()..].chars().next();
            !before.is_some_and(char::is_alphanumeric) && !after.is_some_and(char::is_alphanumeric)
        })
    };
    let word = WORDS.iter().copied().find(|word| whole(word))?;
    let found = date(&lower, as_of);
    let date = found.map(|(date, _)| date);
    Some(Temporary {
        word: Some(word),
        date,
        to_the_day: found.is_some_and(|(_, to_the_day)| to_the_day),
        passed: date.is_some_and(|date| date < as_of),
    })
}

const MONTHS: [&str; 12] =
    ["jan", "feb", "mar", "apr", "may", "jun", "jul", "aug", "sep", "oct", "nov", "dec"];

/// The first date that a text names: `2026-05-12`, `12.05.2026`, `12 May`, `May 12, 2026`, `end of May`. Without a year it is
/// the one nearest to the date of the audit that is not far ahead of it. With whether it names the day.
fn date(text: &str, as_of: Date) -> Option<(Date, bool)> {
    let words: Vec<&str> = text
        .split(|letter: char| !(letter.is_alphanumeric() || "-./".contains(letter)))
        .filter(|word| !word.is_empty())
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
    let name = words.first()?.trim_matches('.');
    let month = MONTHS.iter().position(|one| {
        name.starts_with(one)
            && (name.len() == 3
                || ["uary", "ruary", "ch", "il", "e", "y", "ust", "t", "tember", "ober", "ember"]
                    .contains(&&name[3..]))
    })? as i8
        + 1;
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
