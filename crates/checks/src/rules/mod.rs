//! Checks of the area `rules`.

pub(super) mod accept_not_logged;
pub(super) mod any_service;
pub(super) mod deny_shadowed;
pub(super) mod double_translation;
pub(super) mod guest_network_inside;
pub(super) mod icmp_redirects;
pub(super) mod ineffective_restriction;
pub(super) mod input_accepts_by_default;
mod intended;
pub(super) mod intent_exceeded;
pub(super) mod intent_missing;
pub(super) mod interface_without_list;
pub(super) mod nfs_export_broad;
pub(super) mod no_forward_filter;
pub(super) mod no_source_validation;
pub(super) mod one_ip_version_unfiltered;
pub(super) mod permit_any_any;
pub(super) mod reach;
pub(super) mod shadowed;
pub(super) mod site_tunnel_unfiltered;
pub(super) mod source_port_trusted;
pub(super) mod unreachable_chain;
pub(super) mod unused_filter;
pub(super) mod vpn_reaches_management;
pub(super) mod vpn_relay;
pub(super) mod vpn_unrestricted;

#[cfg(test)]
use crate::check::Check;
use crate::check::{Answer, Verdict};
use crate::subject::{Subject, SubjectKind};
use crate::support::each_device;
use std::collections::{BTreeMap, BTreeSet};
use trevlin_analysis::context::Analyses;
use trevlin_analysis::filter_review::programs::ProgramRules;
use trevlin_analysis::filter_review::{Described, FilterReview, Reviewed, describe};
use trevlin_model::{Chain, Hook, Match, MatchKind, Rule};

/// A rule under review.
#[derive(Clone, Copy)]
pub(crate) struct Judged<'a> {
    pub(crate) device: usize,
    pub(crate) review: &'a FilterReview<'a>,
    pub(crate) chain: &'a Chain,
    pub(crate) rule: &'a Rule,
    pub(crate) found: Option<&'a Reviewed>,
}

impl Judged<'_> {
    /// The subject, the same in every run: the chain, and the conditions and action of the rule.
    pub(super) fn subject(&self) -> Subject {
        Subject::of(SubjectKind::Rule)
            .with(&self.review.filter.table)
            .with(self.review.filter.families)
            .with(&self.chain.name)
            .with(written(self.rule))
    }
}

/// Conditions and action of a rule, in the notation of written facts.
fn written(rule: &Rule) -> String {
    serde_json::to_string(&(&rule.matches, &rule.target)).unwrap_or_default()
}

/// Applies a check to every rule of every filter. Identical rules of one chain are distinguished by number.
pub(super) fn each_rule(
    estate: &Analyses,
    judge: impl Fn(&Analyses, &Judged<'_>) -> Verdict + Sync + Send,
) -> Vec<Answer> {
    each_rule_with(estate, reviews_of_filters, |estate, judged| vec![(None, judge(estate, judged))])
}

/// The same for every translation.
pub(super) fn each_translation(
    estate: &Analyses,
    judge: impl Fn(&Analyses, &Judged<'_>) -> Verdict + Sync + Send,
) -> Vec<Answer> {
    let translations = |estate: &Analyses, device: usize, take: &mut dyn FnMut(&FilterReview<'_>)| {
        for cache in estate.translation_reviews(device) {
            take(&cache.of(device, &estate.devices[device].facts.filters));
        }
    };
    each_rule_with(estate, translations, |estate, judged| vec![(None, judge(estate, judged))])
}

fn reviews_of_filters(estate: &Analyses, device: usize, take: &mut dyn FnMut(&FilterReview<'_>)) {
    estate.filter_reviews(device).iter().for_each(take);
}

/// Applies a check to every rule, and to one of a chain that is jumped to once for each way that leads there, under the conditions of the
/// jumps: a shared chain may permit from one network traffic that it must not permit from another.
pub(crate) fn each_way(
    estate: &Analyses,
    judge: impl Fn(&Analyses, &Judged<'_>) -> Verdict + Sync + Send,
) -> Vec<Answer> {
    each_rule_with(estate, reviews_of_filters, |estate, judged| {
        let ways = if judged.chain.hook.is_some() { Vec::new() } else { judged.review.ways_to(judged.chain) };
        if ways.is_empty() {
            return vec![(None, judge(estate, judged))];
        }
        let mut found: Vec<(Option<Subject>, Verdict)> = Vec::new();
        let mut rest = Verdict::DoesNotApply;
        for way in ways {
            let mut matches: Vec<Match> = way.matches.into_iter().cloned().collect();
            for one in &judged.rule.matches {
                if !matches.contains(one) {
                    matches.push(one.clone());
                }
            }
            let rule = Rule { matches, ..judged.rule.clone() };
            let judged = Judged { rule: &rule, ..*judged };
            match judge(estate, &judged) {
                Verdict::Fail(mut fail) => {
                    // The jump is the line that makes the way, but for one that a program sets by itself.
                    let place = if way.last.is_generated_jump() { fail.evidence.len() } else { 0 };
                    fail.evidence.insert(place, way.last.origin);
                    let subject = Some(judged.subject());
                    if !found.iter().any(|(known, _)| *known == subject) {
                        found.push((subject, Verdict::Fail(fail)));
                    }
                }
                held @ Verdict::Pass(_) => rest = held,
                _ => {}
            }
        }
        if found.is_empty() {
            found.push((None, rest));
        } else if found.len() == 1 {
            found[0].0 = None;
        }
        found
    })
}

/// The same for checks that give several answers for a rule, each with its subject where that is not the rule alone.
fn each_rule_with(
    estate: &Analyses,
    reviews: impl Fn(&Analyses, usize, &mut dyn FnMut(&FilterReview<'_>)) + Sync + Send,
    judge: impl Fn(&Analyses, &Judged<'_>) -> Vec<(Option<Subject>, Verdict)> + Sync + Send,
) -> Vec<Answer> {
    each_device(estate, |device| {
        let mut answers: Vec<Answer> = Vec::new();
        reviews(estate, device, &mut |review| {
            // Most rules pass, so their texts are built only once there is a failing one.
            let mut passed: Vec<Judged<'_>> = Vec::new();
            let mut seen: BTreeMap<Subject, usize> = BTreeMap::new();
            // Published ports are judged as such, not as rules that a person wrote.
            let programs = ProgramRules::of(review.filter);
            let written = review.each().filter(|(_, chain, rule, _)| !programs.has(chain, rule));
            for (_, chain, rule, found) in written {
                let judged = Judged { device, review, chain, rule, found };
                for (subject, verdict) in judge(estate, &judged) {
                    match verdict {
                        Verdict::DoesNotApply => {}
                        held @ Verdict::Pass(_) => {
                            passed.push(judged);
                            answers.push(Answer::new(device, Subject::of(SubjectKind::Rule), held));
                        }
                        verdict => {
                            for one in passed.drain(..) {
                                *seen.entry(one.subject()).or_default() += 1;
                            }
                            let mut subject = subject.unwrap_or_else(|| judged.subject());
                            let count = seen.entry(subject.clone()).or_default();
                            *count += 1;
                            if *count > 1 {
                                subject = subject.with(*count);
                            }
                            answers.push(Answer::new(device, subject, verdict));
                        }
                    }
                }
            }
        });
        answers
    })
}

/// The words by which a finding names a rule: `the rule drop, eth2 10.20.6.0/24 to eth0`.
pub(crate) fn named(rule: &Rule) -> String {
    let words = describe(rule);
    let service = if words.open.service { "any service".to_owned() } else { words.service };
    let more = if words.more.is_empty() { String::new() } else { format!(" ({})", words.more) };
    format!("{} {service} from {} to {}{more}", words.action, words.from, words.to)
}

/// Sources of a rule within a sentence.
pub(crate) fn source(words: &Described) -> String {
    if words.open.source { "any source".to_owned() } else { words.from.clone() }
}

/// Destinations of a rule within a sentence, from the hooks that its packets pass.
pub(crate) fn destination(words: &Described, hooks: &BTreeSet<Hook>) -> String {
    match (words.open.destination, hooks.contains(&Hook::Forward)) {
        (false, _) => words.to.clone(),
        (true, false) => "the device".to_owned(),
        (true, true) => "any destination".to_owned(),
    }
}

/// The interface by which a rule's packets enter, where it names one.
pub(crate) fn entering(rule: &Rule) -> Option<String> {
    only(&rule.matches, |kind| match kind {
        MatchKind::Entering(name) => Some(name),
        _ => None,
    })
}

/// The interface by which they leave, where it names one.
pub(crate) fn leaving(rule: &Rule) -> Option<String> {
    only(&rule.matches, |kind| match kind {
        MatchKind::Leaving(name) => Some(name),
        _ => None,
    })
}

fn only(matches: &[Match], of: impl Fn(&MatchKind) -> Option<&String>) -> Option<String> {
    matches.iter().filter(|one| !one.negated).find_map(|one| of(&one.kind)).cloned()
}

/// References of most of these checks.
pub(super) const REFERENCES: &[&str] = &["NIST SP 800-41 Rev. 1, 4.1 and 5.2"];

/// A list with these rules, the first in line 5.
#[cfg(test)]
pub(super) fn filter_files(rules: &str) -> String {
    format!("*filter\n:INPUT DROP [0:0]\n:FORWARD DROP [0:0]\n:X - [0:0]\n{rules}\nCOMMIT\n")
}

/// Runs a check on one list, for tests.
#[cfg(test)]
pub(super) fn on_list(check: &Check, rules: &str) -> Vec<String> {
    let text = filter_files(rules);
    super::testing::answers(check, &super::testing::estate(&[("d/iptables-save.txt", &text)]))
        .into_iter()
        // Read: what a test was told.
        .filter(|one| one != "pass d")
        .collect()
}
