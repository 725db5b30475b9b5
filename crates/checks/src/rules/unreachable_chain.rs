//! A chain that nothing leads to.

use crate::check::{Answer, Check, Fail, Run, Verdict};
use crate::rules::{CONTROLS, REFERENCES};
use crate::subject::{Subject, SubjectKind};
use std::collections::BTreeSet;
use trevlin_analysis::context::Analyses;
use trevlin_analysis::filter_review::{filters, leads_to};
use trevlin_estate::area::{Area, Severity};
use trevlin_estate::baseline::Baseline;
use trevlin_model::Filter;
use trevlin_packets::jumps::led_to;

/// The check.
pub(crate) const CHECK: Check = Check {
    id: "rules/unreachable-chain",
    area: Area::Rules,
    title: "Unreachable chain",
    severity: Severity::Low,
    why: "Its rules stand in the list and do nothing. Somebody wrote them, and believes that they protect something. Often the one \
          line that leads to them was lost in a change.",
    fix: "Find out what the chain was for. Hook it or jump to it from where it belongs, or take it out.",
    judged: "Fails for each chain that has rules, is not hooked, and to which no rule leads that packets can come to. Empty chains and \
             tables that only translate are not judged.",
    references: REFERENCES,
    controls: CONTROLS,
    run: Run::Analyses(run),
};

fn run(estate: &Analyses, _: &Baseline) -> Vec<Answer> {
    let mut answers = Vec::new();
    for device in 0..estate.devices.len() {
        for review in estate.filter_reviews(device) {
            let elsewhere = reached_elsewhere(review.filter);
            for chain in
                review.filter.chains.iter().filter(|chain| chain.hook.is_none() && !chain.rules.is_empty())
            {
                let reached = leads_to(&review, chain) || elsewhere.contains(chain.name.as_str());
                let denies = chain.rules.iter().any(|rule| {
                    matches!(rule.target, trevlin_model::Target::Drop | trevlin_model::Target::Reject)
                });
                let (severity, why) = if denies {
                    (Severity::Medium, "it holds rules that deny, and they deny nothing")
                } else {
                    (CHECK.severity, "it holds no rule that denies")
                };
                let verdict = if reached {
                    Verdict::Pass
                } else {
                    Verdict::Fail(Fail {
                        rating: CHECK.rated_at(severity, why),
                        title: format!("Nothing leads to chain {}", chain.name).into(),
                        detail: format!(
                            "Chain {} of table {} has {}, and no packet ever comes there.",
                            chain.name,
                            review.filter.table,
                            if chain.rules.len() == 1 {
                                "a rule".to_owned()
                            } else {
                                format!("{} rules", chain.rules.len())
                            }
                        )
                        .into(),
                        evidence: vec![chain.origin, chain.rules[0].origin],
                    })
                };
                let subject = Subject::of(SubjectKind::Chain)
                    .with(&review.filter.table)
                    .with(review.filter.families)
                    .with(&chain.name);
                answers.push(Answer::new(device, subject, verdict));
            }
        }
    }
    answers
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
        ] {
            assert_eq!(on_list(&CHECK, rules), wanted, "{what}");
        }
    }
}
