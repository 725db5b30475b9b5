//! A rule that no packet comes to.

use crate::check::{Answer, Check, Fail, Need, Run, Verdict};
use crate::rules::{Judged, REFERENCES, each_rule, each_translation, named};
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
             of the jumps to it, exclude each other; also for a jump to a chain without a rule for its packets. Translations \
             are judged in the same way. A deny after a permit is rules/deny-shadowed. Not judged where a part \
             of the chain is missing or an earlier condition is not analysed.",
    references: REFERENCES,
    needs: &[Need::Filter],
    run: Run::Analyses(run),
};

fn run(estate: &Analyses, _: &Baseline) -> Vec<Answer> {
    let mut answers = each_rule(estate, judge);
    answers.extend(each_translation(estate, judge));
    answers
}

fn judge(estate: &Analyses, judged: &Judged<'_>) -> Verdict {
    let Some((found, _)) = judged.found else { return Verdict::DoesNotApply };
    let by = match &found.status {
        RuleStatus::Alive if found.leads_to_nothing && jumped_to_elsewhere(judged) => {
            let to = match &judged.rule.target {
                Target::Jump(name) | Target::Goto(name) => name.as_str(),
                _ => "",
            };
            let lines = judged.review.filter.chains.iter().filter(|chain| chain.name == to);
            let lines = lines.map(|chain| chain.origin).collect();
            return fail(judged, &format!("no rule of chain {to} is for its packets"), lines);
        }
        RuleStatus::Alive => return Verdict::pass(judged.rule.origin),
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
    let permitted = found.escaped.is_some()
        || takers.iter().any(|taker| taker.target == Target::Accept && may_be_new(taker));
    if denies && permitted {
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

/// Whether other rules jump to the chain of a jump as well: where none does, its rules are reported one by one.
fn jumped_to_elsewhere(judged: &Judged<'_>) -> bool {
    let (Target::Jump(name) | Target::Goto(name)) = &judged.rule.target else { return false };
    let chain = judged.review.filter.chains.iter().find(|chain| chain.name == *name);
    chain.is_some_and(|chain| judged.review.jumps_to(chain).count() > 1)
}

fn fail(judged: &Judged<'_>, why: &str, others: Vec<Origin>) -> Verdict {
    let what = match &judged.rule.target {
        Target::Translate(_) => "Translation",
        Target::Jump(_) | Target::Goto(_) => "Jump",
        _ => "Rule",
    };
    Verdict::Fail(Fail {
        rating: CHECK.rated("its purpose is not achieved, and it exposes nothing"),
        title: format!("{what} of chain {} is shadowed", judged.chain.name).into(),
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
                "a jump to a chain without a rule for it",
                "-A INPUT -p tcp --dport 22 -j X\n-A INPUT -p tcp --dport 80 -j X\n-A X -p tcp --dport 80 -j ACCEPT",
                &["fail low d iptables-save.txt:5 iptables-save.txt:4"],
            ),
            (
                "returned before",
                "-A INPUT -j X\n-A INPUT -p tcp --dport 22 -j ACCEPT\n-A X -p tcp -j RETURN\n-A X -p tcp -j ACCEPT",
                &["fail low d iptables-save.txt:8 iptables-save.txt:7"],
            ),
        ] {
            assert_eq!(on_list(&CHECK, rules), wanted, "{what}");
        }
        let text = "*nat\n:PREROUTING ACCEPT [0:0]\n:POSTROUTING ACCEPT [0:0]\n\
                    -A PREROUTING -i eth0 -p tcp --dport 443 -j DNAT --to-destination 10.4.0.2\n\
                    -A PREROUTING -i eth0 -p tcp --dport 443 -j DNAT --to-destination 10.4.0.3\n\
                    -A POSTROUTING -s 10.4.0.0/24 -d 10.5.0.0/24 -j RETURN\n\
                    -A POSTROUTING -o eth0 -j MASQUERADE\n\
                    -A POSTROUTING -s 10.4.0.0/24 -o eth0 -j SNAT --to-source 192.0.2.7\nCOMMIT\n";
        let told = crate::testing::answers(&CHECK, &crate::testing::estate(&[("d/iptables-save.txt", text)]));
        let told: Vec<&str> = told.iter().map(String::as_str).filter(|one| one.starts_with("fail")).collect();
        assert_eq!(
            told,
            [
                "fail low d iptables-save.txt:5 iptables-save.txt:4",
                "fail low d iptables-save.txt:8 iptables-save.txt:6 iptables-save.txt:7",
            ]
        );
        // A chain of which a part is missing may decide anything.
        assert_eq!(on_list(&CHECK, "-A INPUT -j GONE\n-A INPUT -j DROP\n-A INPUT -j DROP"), [""; 0]);
    }
}
