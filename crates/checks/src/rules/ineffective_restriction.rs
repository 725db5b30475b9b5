//! A rule restricts its addresses by a condition that restricts little or nothing.

use crate::check::{Answer, Check, Fail, Need, Run, Verdict};
use crate::rules::{Judged, REFERENCES, each_rule, entering, leaving, named};
use std::collections::BTreeMap;
use trevlin_analysis::context::Analyses;
use trevlin_analysis::filter_review::{let_through, within_device};
use trevlin_estate::area::{Area, Severity};
use trevlin_estate::baseline::Baseline;
use trevlin_model::{Family, Hook, IpRange, IpRangeSet, MatchKind, NamedSet, Origin};
use trevlin_packets::review::RuleStatus;

/// The check.
pub(crate) const CHECK: Check = Check {
    id: "rules/ineffective-restriction",
    area: Area::Rules,
    title: "Restriction of addresses without effect",
    severity: Severity::Medium,
    why: "The rule looks limited, and reviewers pass over it. In fact it permits every address: by two halves of the address \
          space, by an element that is far wider than the others, or because the rule \
          permits all but one network where it should permit one.",
    fix: "Name the permitted hosts or networks. Remove the wide element, or replace the negation by the list of permitted \
          sources.",
    judged: "Fails for each effective permit whose list of addresses covers at least half of the address space, whose list \
             has an element of 65,536 addresses or more among single hosts and small networks, or whose sources are all \
             but one network. Passes for outgoing traffic to the Internet, and for lists without such elements.",
    references: REFERENCES,
    needs: &[Need::Filter],
    run: Run::Analyses(run),
};

/// As many addresses are a wide element.
const WIDE: u128 = 1 << 16;
/// No more addresses are a narrow element.
const NARROW: u128 = 1 << 8;

fn run(estate: &Analyses, _: &Baseline) -> Vec<Answer> {
    let sets = sets_by_rule(estate);
    each_rule(estate, |estate, judged| {
        judge(estate, judged, sets.get(&judged.rule.origin).copied().flatten())
    })
}

/// The only named list of each rule that refers to one; none where it refers to several.
fn sets_by_rule(estate: &Analyses) -> BTreeMap<Origin, Option<&NamedSet>> {
    let mut found: BTreeMap<Origin, Option<&NamedSet>> = BTreeMap::new();
    for device in 0..estate.devices.len() {
        for review in estate.filter_reviews(device) {
            let filter = review.filter;
            for set in &filter.sets {
                for rule in &set.used_at {
                    let known = found.entry(*rule).or_insert(Some(set));
                    // A table of both versions of IP is reviewed for each.
                    if known.is_some_and(|known| known.origin != set.origin || known.name != set.name) {
                        *known = None;
                    }
                }
            }
        }
    }
    found
}

fn judge(estate: &Analyses, judged: &Judged<'_>, set: Option<&NamedSet>) -> Verdict {
    let Some((found, hooks)) = judged.found else { return Verdict::DoesNotApply };
    let mut restricted = judged.rule.matches.iter().any(|one| {
        matches!(one.kind, MatchKind::Source(_) | MatchKind::Destination(_) | MatchKind::AnyOf(_))
    });
    restricted &= hooks.iter().any(|hook| matches!(hook, Hook::Input | Hook::Forward));
    if !restricted || within_device(estate, judged.device, judged.rule) {
        return Verdict::DoesNotApply;
    }
    if found.status != RuleStatus::Alive || let_through(judged.review.spaces, judged.rule).is_none() {
        return Verdict::pass(judged.rule.origin);
    }
    let certain =
        |name: &String| estate.outside(judged.device).iter().any(|one| one.certain && one.name == *name);
    if leaving(judged.rule).as_ref().is_some_and(certain) {
        return Verdict::pass(judged.rule.origin);
    }
    let Some((what, lines)) =
        by_negation(judged).or_else(|| by_cover(judged, set)).or_else(|| by_element(set?))
    else {
        return Verdict::pass(judged.rule.origin);
    };
    let (severity, why) = match entering(judged.rule).as_ref().is_some_and(certain) {
        true => (Severity::High, "it permits traffic from the Internet"),
        false => (CHECK.severity, "it is not known to permit traffic from the Internet"),
    };
    Verdict::Fail(Fail {
        rating: CHECK.rated_at(severity, why),
        title: format!("Restriction without effect in chain {}: {what}", judged.chain.name).into(),
        detail: format!(
            "The rule `{}` of chain {} looks limited: {what}.",
            named(judged.rule),
            judged.chain.name
        )
        .into(),
        evidence: std::iter::once(judged.rule.origin).chain(lines).collect(),
    })
}

/// All sources but one network.
fn by_negation(judged: &Judged<'_>) -> Option<(String, Vec<Origin>)> {
    let others =
        judged.rule.matches.iter().any(|one| matches!(one.kind, MatchKind::Source(_)) && !one.negated);
    let negated = judged.rule.matches.iter().filter(|one| one.negated).find_map(|one| match &one.kind {
        MatchKind::Source(all) => Some(all),
        _ => None,
    })?;
    let family = negated.first()?.family();
    (!others && size(negated) < half(family)).then(|| {
        let all: Vec<String> = negated.iter().take(4).map(IpRange::short).collect();
        (format!("every source except {} is permitted", all.join(", ")), Vec::new())
    })
}

/// A list that covers the address space.
fn by_cover(judged: &Judged<'_>, set: Option<&NamedSet>) -> Option<(String, Vec<Origin>)> {
    judged.rule.matches.iter().filter(|one| !one.negated).find_map(|one| {
        let (side, all) = match &one.kind {
            MatchKind::Source(all) => ("source", all),
            MatchKind::Destination(all) => ("destination", all),
            _ => return None,
        };
        let family = all.first()?.family();
        // `0.0.0.0/0` alone is another word for any.
        let whole = |range: &IpRange| *range == IpRange::all(range.family());
        if size(all) < half(family) || (set.is_none() && all.iter().any(whole)) {
            return None;
        }
        let name = set.map_or_else(|| "its list".to_owned(), |set| format!("the list {}", set.name));
        let wide = |(range, _): &&(IpRange, Origin)| range.size() >= WIDE;
        let lines = set.into_iter().flat_map(|set| set.ranges.iter().filter(wide).map(|(_, origin)| *origin));
        Some((format!("{name} covers nearly every {side} address"), lines.collect()))
    })
}

/// An element that is far wider than the others of its list.
fn by_element(set: &NamedSet) -> Option<(String, Vec<Origin>)> {
    let (range, origin) = set.ranges.iter().max_by_key(|(range, _)| range.size())?;
    let narrow = set.ranges.iter().filter(|(range, _)| range.size() <= NARROW).count();
    let telling = set.ranges.len() >= 3 && narrow + 1 == set.ranges.len() && range.family() == Family::V4;
    (telling && range.size() >= WIDE).then(|| {
        (
            format!("the element {} of the list {} is far wider than the others", range.short(), set.name),
            vec![*origin],
        )
    })
}

fn size(all: &[IpRange]) -> u128 {
    let mut set = IpRangeSet::new();
    set.extend(all);
    trevlin_model::total_addresses(&*set)
}

fn half(family: Family) -> u128 {
    IpRange::all(family).size() / 2
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::testing::run;

    #[test]
    fn cases() {
        let text = |sets: &str, rule: &str| {
            format!(
                "table inet f {{\n{sets}\n chain input {{\n  type filter hook input priority 0; policy drop;\n  {rule}\n }}\n}}\n"
            )
        };
        let set = |elements: &str| {
            format!(" set s {{\n  type ipv4_addr\n  flags interval\n  elements = {{ {elements} }}\n }}")
        };
        let by = "ip saddr @s tcp dport 104 accept";
        let cases = [
            (
                "two halves",
                text(&set("198.51.100.4, 0.0.0.0/1,\n128.0.0.0/1"), by),
                &["fail medium d nftables.conf:10 nftables.conf:5 nftables.conf:6"][..],
            ),
            (
                "a wide one among hosts",
                text(&set("198.51.100.4, 198.51.100.5,\n10.0.0.0/8"), by),
                &["fail medium d nftables.conf:10 nftables.conf:6"],
            ),
            (
                "networks",
                text(&set("10.4.0.0/24, 10.5.0.0/24,\n10.6.0.0/16"), by),
                &["fail medium d nftables.conf:10 nftables.conf:6"],
            ),
            ("a list of sites", text(&set("10.4.0.0/16, 10.5.0.0/16,\n10.6.0.0/16"), by), &["pass d"]),
            ("hosts", text(&set("198.51.100.4,\n198.51.100.5"), by), &["pass d"]),
            (
                "all but one",
                text("", "ip saddr != 10.4.9.0/24 tcp dport 8042 accept"),
                &["fail medium d nftables.conf:5"],
            ),
            (
                "all but one are kept out",
                text("", "ip saddr != 10.4.9.0/24 tcp dport 8042 drop"),
                &["pass d"],
            ),
            (
                "some of one network",
                text("", "ip saddr 10.4.0.0/16 ip saddr != 10.4.9.0/24 accept"),
                &["pass d"],
            ),
        ];
        let files: Vec<[(&str, &str); 1]> =
            cases.iter().map(|(_, text, _)| [("d/nftables.conf", text.as_str())]).collect();
        let all: Vec<_> =
            cases.iter().zip(&files).map(|((name, _, wanted), files)| (*name, &files[..], *wanted)).collect();
        run(&CHECK, &all);
    }
}
