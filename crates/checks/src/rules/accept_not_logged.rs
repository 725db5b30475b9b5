//! A rule lets new connections in and writes no log line.

use crate::check::{Answer, Check, Fail, Need, Run, Verdict};
use crate::rules::{Judged, each_rule, named};
use trevlin_analysis::context::Analyses;
use trevlin_analysis::filter_review::{may_be_new, within_device};
use trevlin_estate::area::{Area, Severity};
use trevlin_estate::baseline::Baseline;
use trevlin_model::{Hook, Match, MatchKind, ResidualKind, Rule, Target};
use trevlin_packets::review::RuleStatus;

/// The check.
pub(crate) const CHECK: Check = Check {
    id: "rules/accept-not-logged",
    area: Area::Rules,
    title: "Permit rule without logging",
    severity: Severity::Low,
    why: "An investigation needs to know who connected, and when. A filter that logs only denied traffic records failed \
          attempts alone. The estate file requires these log entries.",
    fix: "Log the first packet of permitted connections, before the rule or with it, with a rate limit that the log can \
          sustain.",
    judged: "Judged only where the estate file requires it (`[rules] accepts_logged`). Fails for each permit of new input or \
             forwarded connections that neither logs nor directly follows a rule that logs the same traffic. Traffic of the \
             device with itself is not judged.",
    references: &["NIST SP 800-41 Rev. 1, 5.2.2", "NIST SP 800-92, 3.1"],
    needs: &[Need::Filter],
    run: Run::Analyses(run),
};

fn run(estate: &Analyses, _: &Baseline) -> Vec<Answer> {
    if !estate.wanted.accepts_logged {
        return Vec::new();
    }
    each_rule(estate, judge)
}

/// Whether a rule logs all traffic that another matches: it logs, and has no further condition.
fn logs_for(log: &Rule, rule: &Rule) -> bool {
    // A log line that is written only now and then is still one: the limit keeps the log from running over.
    let limit = |one: &Match| matches!(&one.kind, MatchKind::NotAnalysed(residual) if residual.kind == ResidualKind::RateLimit);
    log.logs && log.matches.iter().all(|one| limit(one) || rule.matches.contains(one))
}

fn judge(estate: &Analyses, judged: &Judged<'_>) -> Verdict {
    let Some((found, hooks)) = judged.found else { return Verdict::DoesNotApply };
    let rule = judged.rule;
    if rule.target != Target::Accept
        || !may_be_new(rule)
        || !hooks.iter().any(|hook| matches!(hook, Hook::Input | Hook::Forward))
        || found.status != RuleStatus::Alive
        || within_device(estate, judged.device, rule)
    {
        return Verdict::DoesNotApply;
    }
    let at = judged.chain.rules.iter().position(|one| std::ptr::eq(one, rule)).unwrap_or(0);
    if rule.logs || judged.chain.rules[..at].iter().any(|before| logs_for(before, rule)) {
        return Verdict::pass(judged.rule.origin);
    }
    Verdict::Fail(Fail {
        rating: CHECK.rated("the estate file requires it"),
        title: format!("Permit rule of chain {} has no logging", judged.chain.name).into(),
        detail: format!("The rule `{}` permits new connections without a log entry.", named(rule)).into(),
        evidence: vec![rule.origin],
    })
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::rules::filter_files;
    use crate::testing::{answers, estate_with};

    #[test]
    fn cases() {
        let wanted = "[rules]\naccepts_logged = true\n";
        let https = "-A INPUT -p tcp -m tcp --dport 443 -j ACCEPT";
        for (what, rules, file, told) in [
            ("not logged", https.to_owned(), wanted, &["fail low d iptables-save.txt:5"][..]),
            ("nobody asks", https.to_owned(), "", &[]),
            (
                "logged before",
                format!("-A INPUT -p tcp -m tcp --dport 443 -j LOG\n{https}"),
                wanted,
                &["pass d"],
            ),
            (
                "logged now and then",
                format!("-A INPUT -p tcp -m limit --limit 1/s -j LOG\n{https}"),
                wanted,
                &["pass d"],
            ),
            (
                "logged for others",
                format!("-A INPUT -s 10.0.0.9 -j LOG\n{https}"),
                wanted,
                &["fail low d iptables-save.txt:6"],
            ),
            ("known connections", "-A INPUT -m state --state ESTABLISHED -j ACCEPT".to_owned(), wanted, &[]),
            ("the device itself", "-A INPUT -i lo -j ACCEPT".to_owned(), wanted, &[]),
        ] {
            let list = filter_files(&rules);
            let estate = estate_with(&[("d/iptables-save.txt", list.as_str())], file);
            assert_eq!(answers(&CHECK, &estate), told, "{what}");
        }
        let nft = "table inet t {\n chain c {\n type filter hook input priority 0; policy drop;\n tcp dport 443 log accept\n }\n}\n";
        assert_eq!(answers(&CHECK, &estate_with(&[("d/nft.txt", nft)], wanted)), ["pass d"]);
    }
}
