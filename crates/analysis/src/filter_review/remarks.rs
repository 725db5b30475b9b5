//! Remarks for auditors about a rule.

use crate::context::Analyses;
use crate::filter_review::{Described, FilterReview, describe, temporary};
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
    if found.is_some_and(|found| !found.exact) && limits(rule).is_none() {
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

/// What limits the connections of a permitting rule besides its packets: users, or an inspection of the content; as a phrase. `None` where
/// nothing does, or where a condition that is not analysed decides as well.
#[must_use]
pub fn limits(rule: &Rule) -> Option<String> {
    let residuals = rule.matches.iter().filter(|one| matches!(one.kind, MatchKind::NotAnalysed(_)));
    let all: Vec<&str> = residuals.map(|one| Some(one.limit()?.text.as_str())).collect::<Option<_>>()?;
    (rule.target == Target::Accept && !all.is_empty()).then(|| all.join(", and "))
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
