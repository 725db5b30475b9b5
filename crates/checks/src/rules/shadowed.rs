//! A rule that no packet comes to.

use crate::check::{Answer, Check, Fail, Run, Verdict};
use crate::rules::{CONTROLS, Judged, REFERENCES, each_rule, named};
use trevlin_analysis::context::Analyses;
use trevlin_analysis::filter_review::may_be_new;
use trevlin_estate::area::{Area, Severity};
use trevlin_estate::baseline::Baseline;
use trevlin_model::{Origin, Target};
use trevlin_packets::review::RuleStatus;

/// The check.
pub(crate) const CHECK: Check = Check {
    id: "rules/shadowed",
    area: Area::Rules,
    title: "Shadowed rule",
    severity: Severity::Low,
    why: "The rule has no effect, although readers of the rule base rely on it. Shadowed rules are leftovers of hasty \
          changes, and make the next mistake more likely.",
    fix: "Establish the purpose of the rule. If earlier rules have the same effect, remove it; if they have the opposite \
          effect, move it before them.",
    judged: "Fails where earlier rules together match every packet that a rule matches, or where its conditions, with those \
             of the jumps to it, exclude each other. A deny after a permit is rules/deny-shadowed. Not judged where a part \
             of the chain is missing or an earlier condition is not analysed.",
    references: REFERENCES,
    controls: CONTROLS,
    run: Run::Analyses(run),
};

fn run(estate: &Analyses, _: &Baseline) -> Vec<Answer> {
    each_rule(estate, judge)
}

fn judge(estate: &Analyses, judged: &Judged<'_>) -> Verdict {
    let Some((found, _)) = judged.found else { return Verdict::DoesNotApply };
    let by = match &found.status {
        RuleStatus::Alive => return Verdict::Pass,
        RuleStatus::NotDecided | RuleStatus::TooCostly => return Verdict::DoesNotApply,
        RuleStatus::Impossible => {
            return fail(
                judged,
                "its conditions, with those of the jumps to it, exclude each other",
                Vec::new(),
            );
        }
        RuleStatus::Covered { by } => by,
    };
    let takers: Vec<_> = by.iter().filter_map(|id| judged.review.rule(*id)).collect();
    let denies = matches!(judged.rule.target, Target::Drop | Target::Reject);
    if denies && takers.iter().any(|taker| taker.target == Target::Accept && may_be_new(taker)) {
        return Verdict::DoesNotApply;
    }
    let mut lines: Vec<Origin> = takers.iter().filter(|one| may_be_new(one)).map(|one| one.origin).collect();
    if lines.is_empty() {
        lines = takers.iter().map(|one| one.origin).collect();
    }
    let places: Vec<String> = lines.iter().take(5).map(|origin| estate.place(*origin)).collect();
    let twin = takers.iter().any(|one| one.says_the_same(judged.rule));
    let how =
        if twin { "an earlier rule has the same effect" } else { "earlier rules match everything first" };
    fail(judged, &format!("{how}: {}", places.join(", ")), lines)
}

fn fail(judged: &Judged<'_>, why: &str, others: Vec<Origin>) -> Verdict {
    Verdict::Fail(Fail {
        rating: CHECK.rated("its purpose is not achieved, and it exposes nothing"),
        title: format!("Rule of chain {} is shadowed", judged.chain.name).into(),
        detail: format!("The rule `{}` has no effect: {why}.", named(judged.rule)).into(),
        evidence: std::iter::once(judged.rule.origin).chain(others).collect(),
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
                "covered by one",
                "-A INPUT -s 10.0.0.0/8 -j ACCEPT\n-A INPUT -s 10.1.0.0/16 -j ACCEPT",
                &["fail low d iptables-save.txt:6 iptables-save.txt:5"][..],
            ),
            (
                "covered by two together",
                "-A INPUT -s 10.0.0.0/9 -j ACCEPT\n-A INPUT -s 10.128.0.0/9 -j DROP\n-A INPUT -s 10.0.0.0/8 -j ACCEPT",
                &["fail low d iptables-save.txt:7 iptables-save.txt:5 iptables-save.txt:6"],
            ),
            (
                "says the same",
                "-A INPUT -p tcp --dport 22 -j ACCEPT\n-A INPUT -p tcp --dport 22 -j ACCEPT",
                &["fail low d iptables-save.txt:6 iptables-save.txt:5"],
            ),
            (
                "impossible behind its jump",
                "-A INPUT -i eth0 -j X\n-A X -i eth1 -j ACCEPT",
                &["fail low d iptables-save.txt:6"],
            ),
            ("half is left", "-A INPUT -s 10.0.0.0/9 -j ACCEPT\n-A INPUT -s 10.0.0.0/8 -j ACCEPT", &[]),
            ("an exception before", "-A INPUT -s 10.1.0.0/16 -j DROP\n-A INPUT -s 10.0.0.0/8 -j ACCEPT", &[]),
            (
                "the earlier one may not hold",
                "-A INPUT -m limit --limit 5/min -j ACCEPT\n-A INPUT -p tcp -j ACCEPT",
                &[],
            ),
            (
                "a deny is another check",
                "-A INPUT -s 10.0.0.0/8 -j ACCEPT\n-A INPUT -s 10.1.0.0/16 -j DROP",
                &[],
            ),
            (
                "returned before",
                "-A INPUT -j X\n-A INPUT -p tcp --dport 22 -j ACCEPT\n-A X -p tcp -j RETURN\n-A X -p tcp -j ACCEPT",
                &["fail low d iptables-save.txt:8 iptables-save.txt:7"],
            ),
        ] {
            assert_eq!(on_list(&CHECK, rules), wanted, "{what}");
        }
        // A chain of which a part is missing may decide anything.
        assert_eq!(on_list(&CHECK, "-A INPUT -j GONE\n-A INPUT -j DROP\n-A INPUT -j DROP"), [""; 0]);
    }
}
