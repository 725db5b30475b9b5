//! A chain that nothing leads to.

use crate::check::{Answer, Check, Fail, Need, Run, Verdict};
use crate::rules::REFERENCES;
use crate::subject::{Subject, SubjectKind};
use std::collections::{BTreeMap, BTreeSet};
use trevlin_analysis::context::Analyses;
use trevlin_analysis::filter_review::{filters, leads_to};
use trevlin_estate::area::{Area, Severity};
use trevlin_estate::baseline::Baseline;
use trevlin_model::glob::{self, Signs};
use trevlin_model::{Chain, Filter, FilterFormat, Target};
use trevlin_packets::jumps::led_to;

/// The check.
pub(crate) const CHECK: Check = Check {
    id: "rules/unreachable-chain",
    area: Area::Rules,
    title: "Unreachable chain",
    severity: Severity::Low,
    why: "Its rules have no effect, although their authors rely on them. Often the line that referred to the chain was lost \
          in a change.",
    fix: "Establish the purpose of the chain. Attach it or jump to it where it belongs, or remove it.",
    judged: "Fails for each chain with rules that has no hook and that no effective rule refers to. Empty chains, NAT \
             tables and the helper chains of ufw are not judged.",
    references: REFERENCES,
    needs: &[Need::Filter],
    run: Run::Analyses(run),
};

fn run(estate: &Analyses, _: &Baseline) -> Vec<Answer> {
    let mut answers = Vec::new();
    for device in 0..estate.devices.len() {
        for review in estate.filter_reviews(device) {
            let elsewhere = reached_elsewhere(review.filter);
            for chain in inner(review.filter) {
                let reached = leads_to(&review, chain) || elsewhere.contains(chain.name.as_str());
                answers.push(answer(device, review.filter, chain, reached));
            }
        }
        // A table without a base chain is asked about no packet.
        let hooked = |filter: &&Filter| filter.chains.iter().any(|chain| chain.hook.is_some());
        for filter in estate.tables_in_force(device).into_iter().filter(|filter| !hooked(filter)) {
            answers.extend(inner(filter).map(|chain| answer(device, filter, chain, false)));
        }
    }
    answers
}

trevlin_model::table! {
/// Patterns of names by program.
static HELPERS: BTreeMap<String, Vec<String>> = "../../tables/helper-chains.toml"; }

/// Whether a program makes the chain for rules that may come, whether any uses it or not.
fn is_helper(name: &str) -> bool {
    HELPERS.values().flatten().any(|pattern| glob::matches(name, pattern, Signs::Plain))
}

/// Chains with rules that packets do not enter by themselves.
fn inner(filter: &Filter) -> impl Iterator<Item = &Chain> {
    let judged = |chain: &&Chain| chain.hook.is_none() && !chain.rules.is_empty() && !is_helper(&chain.name);
    filter.chains.iter().filter(judged)
}

fn answer(device: usize, filter: &Filter, chain: &Chain, reached: bool) -> Answer {
    let denies = chain.rules.iter().any(|rule| matches!(rule.target, Target::Drop | Target::Reject));
    let (severity, why) = if denies {
        (Severity::Medium, "it contains deny rules without effect")
    } else {
        (CHECK.severity, "it contains no deny rule")
    };
    let count = match chain.rules.len() {
        1 => "one rule".to_owned(),
        many => format!("{many} rules"),
    };
    let verdict = if reached {
        Verdict::pass(chain.origin)
    } else {
        Verdict::Fail(Fail {
            rating: CHECK.rated_at(severity, why),
            title: match filter.format {
                FilterFormat::Ordered => format!("List {} is not applied", chain.name).into(),
                _ => format!("Chain {} is unreachable", chain.name).into(),
            },
            detail: match filter.format {
                FilterFormat::Ordered => format!(
                    "The list {} contains {count}; it is attached to no interface in force, so it filters nothing.",
                    chain.name
                )
                .into(),
                _ => format!(
                    "Chain {} of table {} contains {count}, and no packet reaches it.",
                    chain.name, filter.table
                )
                .into(),
            },
            evidence: vec![chain.origin, chain.rules[0].origin],
        })
    };
    let subject = Subject::of(SubjectKind::Chain).with(&filter.table).with(filter.families).with(&chain.name);
    Answer::new(device, subject, verdict)
}

/// Chains that packets come to from base chains which do not filter, those that translate or mark.
fn reached_elsewhere(filter: &Filter) -> BTreeSet<&str> {
    let others = filter.chains.iter().filter(|chain| chain.hook.is_some() && !filters(filter, chain));
    led_to(filter, others.collect())
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::rules::on_list;

    #[test]
    fn cases() {
        for (what, rules, wanted) in [
            (
                "nothing leads there",
                "-A X -p tcp --dport 22 -j ACCEPT",
                &["fail low d iptables-save.txt:4 iptables-save.txt:5"][..],
            ),
            (
                "it would deny",
                "-A X -s 10.0.0.9 -j DROP",
                &["fail medium d iptables-save.txt:4 iptables-save.txt:5"],
            ),
            (
                "only itself leads there",
                "-N Y\n-A X -j Y\n-A Y -j DROP",
                &[
                    "fail low d iptables-save.txt:4 iptables-save.txt:6",
                    "fail medium d iptables-save.txt:5 iptables-save.txt:7",
                ],
            ),
            ("a jump", "-A INPUT -s 10.0.0.0/8 -j X\n-A X -j ACCEPT", &[]),
            ("empty", "", &[]),
            ("a helper of ufw", "-N ufw-skip-to-policy-forward\n-A ufw-skip-to-policy-forward -j DROP", &[]),
        ] {
            assert_eq!(on_list(&CHECK, rules), wanted, "{what}");
        }
        let table = "table inet guard {\n chain names {\n  tcp dport 23 drop\n }\n}\n";
        let base =
            "table inet f {\n chain input {\n  type filter hook input priority 0; policy drop;\n }\n}\n";
        let text = format!("{base}{table}");
        crate::testing::run(
            &CHECK,
            &[(
                "a table without a base chain",
                &[("d/nftables.conf", &text)],
                &["fail medium d nftables.conf:7 nftables.conf:8"],
            )],
        );
    }
}
