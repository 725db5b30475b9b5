//! The rules that run are not those that are stored.

use crate::check::{Answer, Check, Fail, Need, Run, Verdict};
use crate::subject::{Subject, SubjectKind};
use std::collections::BTreeSet;
use trevlin_analysis::map::EstateMap;
use trevlin_estate::area::{Area, Severity};
use trevlin_estate::baseline::Baseline;
use trevlin_model::{Chain, ChainKind, ExportState, Filter, FilterFormat, Hook, Limit, Origin, Rule, Target};
use trevlin_packets::Space;
use trevlin_packets::diagram::Diagrams;
use trevlin_packets::outcomes::outcomes;

/// The check.
pub(crate) const CHECK: Check = Check {
    id: "upkeep/running-filter-differs",
    area: Area::Upkeep,
    title: "Running and stored filters differ",
    severity: Severity::Medium,
    why: "At the next restart the filter changes without any administrator action. Manual openings are in no file and no \
          review; manual blocks are lost.",
    fix: "Decide for each difference which side is intended. Store what is intended, and load it.",
    judged: "Compares each table that was exported both running and stored. Passes where both permit the same packets, \
             however they are written. Not judged where one of the two is incomplete.",
    references: &["NIST SP 800-128, 3.3", "iptables-save(8)", "nft(8)"],
    needs: &[Need::Filter],
    run: Run::Map(run),
};

/// How many times the nodes of a question about one rule a comparison may cost.
const NODES: usize = 3;
/// Lines that are named for each side.
const MOST_LINES: usize = 5;

fn run(estate: &EstateMap, _: &Baseline) -> Vec<Answer> {
    let mut answers = Vec::new();
    for (at, device) in estate.devices.iter().enumerate() {
        let of = |state: ExportState| device.facts.filters.iter().filter(move |one| one.state == state);
        for running in of(ExportState::Running) {
            let twin = |one: &&Filter| (one.families, &one.table) == (running.families, &running.table);
            let Some(stored) = of(ExportState::Stored).find(twin) else { continue };
            let subject = Subject::of(SubjectKind::Filter).with(&running.table).with(running.families);
            answers.push(Answer::new(at, subject, judge(estate, running, stored)));
        }
    }
    answers
}

/// Whether two chains permit the same packets; `None` where it is not known.
fn same_effect(estate: &EstateMap, running: (&Filter, &Chain), stored: (&Filter, &Chain)) -> Option<bool> {
    if running.1.kind == ChainKind::Nat {
        return None;
    }
    for family in running.0.families.each() {
        let space = Space::new(family, &[running.0, stored.0], &[]);
        let mut sets =
            Diagrams::new(&space.greatest(), NODES.saturating_mul(estate.limits.of(Limit::SetNodes)));
        let one = outcomes(&space, running.0, running.1, &mut sets).ok()?;
        let two = outcomes(&space, stored.0, stored.1, &mut sets).ok()?;
        if one != two {
            return Some(false);
        }
        // Parts that depend on conditions that are not analysed may differ all the same.
        if one.not_decided != trevlin_packets::diagram::EMPTY {
            return None;
        }
    }
    Some(true)
}

fn judge(estate: &EstateMap, running: &Filter, stored: &Filter) -> Verdict {
    if !running.complete || !stored.complete {
        return Verdict::DoesNotApply;
    }
    if stored.format == FilterFormat::Firewalld {
        return by_effect(estate, running, stored);
    }
    let pair =
        |chain: &&Chain| stored.chains.iter().find(|one| one.hook == chain.hook && one.name == chain.name);
    let hooked: Vec<(&Chain, Option<&Chain>)> =
        running.chains.iter().filter(|one| one.hook.is_some()).map(|one| (one, pair(&one))).collect();
    let same = hooked.iter().all(|(one, other)| {
        other.is_some_and(|other| same_effect(estate, (running, one), (stored, other)) == Some(true))
    });
    if same && !hooked.is_empty() {
        return Verdict::pass_lines(vec![running.origin, stored.origin]);
    }
    let only_running = missing(running, stored);
    let only_stored = missing(stored, running);
    let policies: Vec<Origin> = hooked
        .iter()
        .filter_map(|(one, other)| {
            other.filter(|other| other.policy != one.policy).map(|other| [one.origin, other.origin])
        })
        .flatten()
        .collect();
    if only_running.is_empty() && only_stored.is_empty() && policies.is_empty() {
        return Verdict::pass_lines(vec![running.origin, stored.origin]);
    }
    let opens = only_running.iter().any(|rule| matches!(rule.target, Target::Accept | Target::Translate(_)));
    let severity = if opens || !policies.is_empty() { CHECK.severity } else { Severity::Low };
    let why = if opens {
        "a running rule that is not stored opens access"
    } else {
        "no unstored rule opens access"
    };
    let mut parts = Vec::new();
    if !only_running.is_empty() {
        parts.push(format!("running but not stored: {}", places(estate, &only_running)));
    }
    if !only_stored.is_empty() {
        parts.push(format!("stored but not running: {}", places(estate, &only_stored)));
    }
    if !policies.is_empty() {
        parts.push("a default policy differs".to_owned());
    }
    let lines = |rules: &[&Rule]| rules.iter().take(MOST_LINES).map(|rule| rule.origin).collect::<Vec<_>>();
    let evidence = lines(&only_running).into_iter().chain(lines(&only_stored)).chain(policies);
    let mut evidence: Vec<Origin> = evidence.collect();
    // Both files are named, whichever side the difference is on.
    evidence.extend([running.origin, stored.origin]);
    Verdict::Fail(Fail {
        rating: CHECK.rated_at(severity, why),
        title: format!("Running and stored rules of table {} differ for {}", running.table, running.families)
            .into(),
        detail: format!("Differences: {}.", parts.join("; ")).into(),
        evidence,
    })
}

fn places(estate: &EstateMap, rules: &[&Rule]) -> String {
    let named: Vec<String> = rules.iter().take(MOST_LINES).map(|rule| estate.place(rule.origin)).collect();
    let more = rules.len().saturating_sub(MOST_LINES);
    if more > 0 { format!("{} and {more} more", named.join(", ")) } else { named.join(", ") }
}

/// Compares filters in two languages, as zones and the rules loaded for them: by the effect of the chains that filter.
fn by_effect(estate: &EstateMap, running: &Filter, stored: &Filter) -> Verdict {
    let mut sure = true;
    for chain in running.chains.iter().filter(|chain| matches!(chain.hook, Some(Hook::Input | Hook::Forward)))
    {
        let Some(other) = stored.chains.iter().find(|one| one.hook == chain.hook && one.kind == chain.kind)
        else {
            continue;
        };
        match same_effect(estate, (running, chain), (stored, other)) {
            Some(true) => {}
            None => sure = false,
            Some(false) => {
                return Verdict::Fail(Fail {
                    rating: CHECK.rated("the permitted traffic differs"),
                    title: format!("Running and stored rules of table {} differ", running.table).into(),
                    detail: format!(
                        "Chain {} permits different packets than the stored zones and policies; runtime changes are lost at \
                         the next restart.",
                        chain.name
                    ).into(),
                    evidence: vec![chain.origin, stored.origin],
                });
            }
        }
    }
    if sure { Verdict::pass_lines(vec![running.origin, stored.origin]) } else { Verdict::DoesNotApply }
}

/// Rules of one table that the other does not have in the chain of that name.
fn missing<'a>(of: &'a Filter, from: &Filter) -> Vec<&'a Rule> {
    let mut found = Vec::new();
    for chain in &of.chains {
        let others = from.chain(&chain.name).map_or(&[][..], |other| &other.rules);
        let mut taken: BTreeSet<usize> = BTreeSet::new();
        for rule in &chain.rules {
            let twin = (0..others.len()).find(|at| !taken.contains(at) && others[*at].says_the_same(rule));
            match twin {
                Some(at) => {
                    taken.insert(at);
                }
                None => found.push(rule),
            }
        }
    }
    found
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::testing::run;

    #[test]
    fn cases() {
        let list = |rules: &str| format!("*filter\n:INPUT DROP [0:0]\n{rules}COMMIT\n");
        let one = list("-A INPUT -p tcp --dport 22 -j ACCEPT\n");
        let two = list("-A INPUT -p tcp --dport 22 -j ACCEPT\n-A INPUT -p tcp --dport 80 -j ACCEPT\n");
        let turned = list("-A INPUT -p tcp --dport 80 -j ACCEPT\n-A INPUT -p tcp --dport 22 -j ACCEPT\n");
        let denies = list("-A INPUT -p tcp --dport 22 -j ACCEPT\n-A INPUT -s 10.0.0.9 -j REJECT\n");
        let broken = one.replace("COMMIT\n", "");
        let nft = "table inet t {\n chain c {\n type filter hook input priority 0; policy drop;\n tcp dport { 22, 80 } accept\n }\n}\n";
        let same = "table inet t {\n chain c {\n type filter hook input priority 0; policy drop;\n tcp dport 22 accept\n tcp dport 80 accept\n }\n}\n";
        let zones = "<zone target=\"DROP\"><port port=\"22\" protocol=\"tcp\"/></zone>";
        let zone_table = |more: &str| {
            format!(
                "table inet firewalld {{\n chain filter_INPUT {{\n type filter hook input priority filter + 10; policy accept;\n \
                 ct state established,related accept\n ct status dnat accept\n iifname lo accept\n ct state invalid drop\n \
                 icmpv6 type {{ nd-neighbor-advert, nd-neighbor-solicit, nd-router-advert, nd-redirect }} accept\n \
                 tcp dport 22 accept\n {more}\n drop\n }}\n}}\n"
            )
        };
        // As an administrator writes it, and as the kernel lists it.
        const WRITTEN: &str = "meta l4proto icmpv6 icmpv6 type { nd-router-advert, echo-request } accept\n \
                               ip saddr { 10.5.0.0/24, 10.4.0.0/24 } tcp dport { 443, 22 } ct state new limit rate 5/minute burst 9 packets accept";
        const LISTED: &str = "icmpv6 type { echo-request, nd-router-advert } accept\n \
                              ip saddr { 10.4.0.0/24, 10.5.0.0/24 } tcp dport { 22, 443 } ct state new limit rate 5/minute burst 9 packets accept";
        let limited = |rules: &str| {
            format!(
                "table inet t {{\n chain c {{\n type filter hook input priority 0; policy drop;\n {rules}\n }}\n}}\n"
            )
        };
        let (loaded, opened) = (zone_table(""), zone_table("tcp dport 80 accept"));
        let (running, stored) = ("d/iptables-save.txt", "d/etc/iptables/rules.v4");
        run(
            &CHECK,
            &[
                (
                    "opened by hand",
                    &[(running, &two), (stored, &one)],
                    &["fail medium d iptables-save.txt:4 iptables-save.txt:1 rules.v4:1"],
                ),
                (
                    "never loaded",
                    &[(running, &one), (stored, &two)],
                    &["fail low d rules.v4:4 iptables-save.txt:1 rules.v4:1"],
                ),
                (
                    "a deny that does not last",
                    &[(running, &denies), (stored, &one)],
                    &["fail low d iptables-save.txt:4 iptables-save.txt:1 rules.v4:1"],
                ),
                (
                    "another order that makes no difference",
                    &[(running, &two), (stored, &turned)],
                    &["pass d"],
                ),
                ("the same", &[(running, &one), (stored, &one)], &["pass d"]),
                ("not whole", &[(running, &broken), (stored, &two)], &["none d"]),
                (
                    "written differently, with a rate limit",
                    &[("d/nft.txt", &limited(LISTED)), ("d/etc/nftables.conf", &limited(WRITTEN))],
                    &["pass d"],
                ),
                ("written differently", &[("d/nft.txt", nft), ("d/etc/nftables.conf", same)], &["pass d"]),
                (
                    "zones, opened at run time",
                    &[("d/nft.txt", &opened), ("d/etc/firewalld/zones/public.xml", zones)],
                    &["fail medium d nft.txt:3 public.xml:1"],
                ),
                (
                    "zones, as loaded",
                    &[("d/nft.txt", &loaded), ("d/etc/firewalld/zones/public.xml", zones)],
                    &["pass d"],
                ),
                ("only what runs", &[(running, &one)], &[]),
            ],
        );
    }
}
