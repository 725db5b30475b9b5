//! A rule that lets everything through.

use crate::check::{Answer, Check, Fail, Need, Run, Verdict};
use crate::rules::{Judged, REFERENCES, each_rule};
use trevlin_analysis::context::Analyses;
use trevlin_analysis::filter_review::{describe, hook_word, within_device};
use trevlin_estate::area::{Area, Severity};
use trevlin_estate::baseline::Baseline;
use trevlin_model::{Hook, Target};
use trevlin_packets::review::RuleStatus;

/// The check.
pub(crate) const CHECK: Check = Check {
    id: "rules/permit-any-any",
    area: Area::Rules,
    title: "Any-to-any permit rule",
    severity: Severity::High,
    why: "The rule permits everything that no earlier rule denies, so the rest of the rule base has no effect. Such rules \
          are often added for troubleshooting and forgotten. Services that were never considered are exposed as well.",
    fix: "Remove it and permit the required traffic by separate rules. A logging rule before the final deny shows what is \
          required.",
    judged: "Fails where a permit for input or forwarded traffic has no condition except the IP version, applies to new \
             connections, and is effective. An accepting default policy towards the Internet is exposure/no-input-filter.",
    references: REFERENCES,
    needs: &[Need::Filter],
    run: Run::Analyses(run),
};

fn run(estate: &Analyses, _: &Baseline) -> Vec<Answer> {
    each_rule(estate, judge)
}

fn judge(estate: &Analyses, judged: &Judged<'_>) -> Verdict {
    let Some((found, hooks)) = judged.found else { return Verdict::DoesNotApply };
    let hook = hooks.iter().find(|hook| matches!(hook, Hook::Input | Hook::Forward));
    let (Some(hook), true) = (hook, judged.rule.target == Target::Accept) else {
        return Verdict::DoesNotApply;
    };
    if within_device(estate, judged.device, judged.rule) {
        return Verdict::DoesNotApply;
    }
    // Words are made of few rules.
    if judged.chain.hook.is_none() || found.status != RuleStatus::Alive {
        return Verdict::pass(judged.rule.origin);
    }
    if !describe(judged.rule).open.is_whole() {
        return Verdict::pass(judged.rule.origin);
    }
    Verdict::Fail(Fail {
        rating: CHECK.rated("it has no condition"),
        title: format!("Chain {} permits any to any", judged.chain.name).into(),
        detail: format!(
            "The {} filter permits every new connection that reaches this rule, from any source to any destination and \
             service.",
            hook_word(*hook)
        ).into(),
        evidence: vec![judged.rule.origin, judged.chain.origin],
    })
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::rules::on_list;

    #[test]
    fn cases() {
        for (what, rules, wanted) in [
            (
                "everything",
                "-A FORWARD -j ACCEPT",
                &["fail high d iptables-save.txt:5 iptables-save.txt:3"][..],
            ),
            (
                "everything new",
                "-A INPUT -m conntrack --ctstate NEW -j ACCEPT",
                &["fail high d iptables-save.txt:5 iptables-save.txt:2"],
            ),
            ("known connections", "-A INPUT -m conntrack --ctstate ESTABLISHED -j ACCEPT", &[]),
            ("the device itself", "-A INPUT -i lo -j ACCEPT", &[]),
            ("one interface", "-A FORWARD -i eth1 -j ACCEPT", &[]),
            ("one protocol", "-A FORWARD -p icmp -j ACCEPT", &[]),
            ("in a chain behind a condition", "-A INPUT -s 10.0.0.9 -j X\n-A X -j ACCEPT", &[]),
            ("never met", "-A FORWARD -j DROP\n-A FORWARD -j ACCEPT", &[]),
        ] {
            assert_eq!(on_list(&CHECK, rules), wanted, "{what}");
        }
    }
}
