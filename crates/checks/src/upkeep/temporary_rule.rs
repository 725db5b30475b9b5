//! A rule marked as temporary by its comment.

use crate::check::{Answer, Check, Fail, Need, Run, Verdict};
use crate::subject::{Subject, SubjectKind};
use std::collections::{BTreeMap, BTreeSet};
use trevlin_analysis::context::Analyses;
use trevlin_analysis::exposure::ForwardOutcome;
use trevlin_analysis::filter_review::temporary;
use trevlin_estate::area::{Area, Severity};
use trevlin_estate::baseline::Baseline;
use trevlin_model::{Origin, Rule, Target, TranslationKind};
use trevlin_packets::review::RuleStatus;

/// The check.
pub(crate) const CHECK: Check = Check {
    id: "upkeep/temporary-rule",
    area: Area::Upkeep,
    title: "Temporary rule still active",
    severity: Severity::Medium,
    why: "Temporary openings for contractors or tests are made in haste and without usual care. Without an owner for their \
          removal they stay, and are later forgotten.",
    fix: "Establish who still needs it. Remove it, or turn it into a regular rule with a narrow scope and an owner.",
    judged: "Fails where the comment of an effective rule contains a word such as temporary, test or until: high where it \
             permits traffic and its date has passed, low where the date is in the future or where no connection \
             passes by it. A date alone does not count, since it may be the creation date. `--as-of` sets the reference date.",
    references: &["NIST SP 800-41 Rev. 1, 5.2.2"],
    needs: &[Need::Filter],
    run: Run::Analyses(run),
};

fn run(estate: &Analyses, baseline: &Baseline) -> Vec<Answer> {
    let mut answers = Vec::new();
    for device in 0..estate.devices.len() {
        let closed = idle_lines(estate, device);
        // A forward and the rule that lets it through are one opening, and have one comment.
        let mut by_comment: BTreeMap<&str, Vec<&Rule>> = BTreeMap::new();
        for rule in estate
            .tables_in_force(device)
            .iter()
            .flat_map(|table| &table.chains)
            .flat_map(|chain| &chain.rules)
        {
            if let Some(comment) = rule.comment.as_deref() {
                by_comment.entry(comment).or_default().push(rule);
            }
        }
        for (comment, rules) in by_comment {
            answers.push(Answer::new(
                device,
                Subject::of(SubjectKind::Rule).with(comment),
                judge(comment, &rules, &closed, baseline),
            ));
        }
    }
    answers
}

/// Lines that open nothing: port forwards that connections from the Internet match, and by which none is delivered, and rules that no
/// packet comes to.
fn idle_lines(estate: &Analyses, device: usize) -> BTreeSet<Origin> {
    let reviews = estate.filter_reviews(device);
    let never = |status: &RuleStatus| matches!(status, RuleStatus::Covered { .. } | RuleStatus::Impossible);
    let dead = reviews.iter().flat_map(|review| {
        review
            .each()
            .filter(|(.., found)| found.is_some_and(|(one, _)| never(&one.status)))
            .map(|(_, _, rule, _)| rule.origin)
    });
    let results = || estate.internet().outside.forwards.iter().filter(|one| one.device == device);
    let blocked =
        |outcome: &ForwardOutcome| matches!(outcome, ForwardOutcome::BlockedLater | ForwardOutcome::Lost);
    let open: BTreeSet<Origin> =
        results().filter(|one| !blocked(&one.outcome)).map(|one| one.origin).collect();
    dead.chain(results().map(|one| one.origin).filter(|origin| !open.contains(origin))).collect()
}

fn opens(rule: &Rule) -> bool {
    match &rule.target {
        Target::Accept => true,
        Target::Translate(how) => {
            matches!(how.kind, TranslationKind::Destination | TranslationKind::Redirect)
        }
        _ => false,
    }
}

fn judge(comment: &str, rules: &[&Rule], closed: &BTreeSet<Origin>, baseline: &Baseline) -> Verdict {
    let Some(found) = temporary(comment, baseline.as_of) else {
        return Verdict::pass_lines(rules.iter().map(|rule| rule.origin).collect());
    };
    let opening: Vec<&&Rule> = rules.iter().filter(|rule| opens(rule)).collect();
    let open = opening.iter().any(|rule| !closed.contains(&rule.origin));
    let (severity, why) = match (found.named(), found.passed, open) {
        _ if !opening.is_empty() && !open => {
            (Severity::Low, "no connection from the Internet passes by it at present".to_owned())
        }
        (Some(date), true, true) => (Severity::High, format!("it permits traffic, and {date} has passed")),
        (Some(date), true, false) => (CHECK.severity, format!("{date} has passed")),
        (Some(date), false, _) => (Severity::Low, format!("{date} is in the future")),
        (None, _, true) => (CHECK.severity, "it permits traffic, and has no end date".to_owned()),
        (None, _, false) => (Severity::Low, "it permits no traffic".to_owned()),
    };
    let evidence: Vec<Origin> = rules.iter().map(|rule| rule.origin).collect();
    let count = if rules.len() == 1 {
        "One rule has the comment".to_owned()
    } else {
        format!("{} rules have the comment", rules.len())
    };
    Verdict::Fail(Fail {
        rating: CHECK.rated_at(severity, why),
        title: format!("Temporary rule in effect: {comment}").into(),
        detail: format!(
            "{count} \"{comment}\", and {}.",
            if rules.len() == 1 { "is in effect" } else { "are in effect" }
        )
        .into(),
        evidence,
    })
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::testing::{answers_as_of, estate};

    #[test]
    fn cases() {
        for (comment, target, wanted) in [
            ("TEMP, remove after 12 May", "ACCEPT", "fail high d iptables-save.txt:3"),
            ("temporary until 2027-01-01", "ACCEPT", "fail low d iptables-save.txt:3"),
            ("for now", "ACCEPT", "fail medium d iptables-save.txt:3"),
            ("test", "DROP", "fail low d iptables-save.txt:3"),
            ("until 2026-01-01", "DROP", "fail medium d iptables-save.txt:3"),
            ("made 2020-01-01", "ACCEPT", "pass d"),
            ("temperature sensors", "ACCEPT", "pass d"),
        ] {
            let text = format!(
                "*filter\n:INPUT DROP [0:0]\n-A INPUT -s 10.0.0.9 -m comment --comment \"{comment}\" -j {target}\nCOMMIT\n"
            );
            let estate = estate(&[("d/iptables-save.txt", &text)]);
            let told = answers_as_of(&CHECK, &estate, jiff::civil::date(2026, 11, 25));
            assert_eq!(told, [wanted], "{comment}");
        }
        let addresses = (
            "d/ip-addr.json",
            r#"[{"ifname":"eth0","addr_info":[{"local":"192.0.2.9","prefixlen":24}]},{"ifname":"eth1","addr_info":[{"local":"10.4.0.1","prefixlen":24}]}]"#,
        );
        let route =
            ("d/ip-route.json", r#"[{"dst":"default","gateway":"192.0.2.1","dev":"eth0","flags":[]}]"#);
        let forward = "-A PREROUTING -i eth0 -p tcp --dport 3390 -m comment --comment \"until 2026-01-01\" -j DNAT --to-destination 10.4.0.9";
        for (what, rules, wanted) in [
            (
                "a forward that the filter blocks",
                format!("*nat\n:PREROUTING ACCEPT [0:0]\n{forward}\nCOMMIT\n*filter\n:FORWARD DROP [0:0]\nCOMMIT\n"),
                "fail low d iptables-save.txt:3",
            ),
            (
                "a forward that passes",
                format!("*nat\n:PREROUTING ACCEPT [0:0]\n{forward}\nCOMMIT\n*filter\n:FORWARD ACCEPT [0:0]\nCOMMIT\n"),
                "fail high d iptables-save.txt:3",
            ),
            (
                "a permit behind a deny of the same",
                "*filter\n:INPUT DROP [0:0]\n-A INPUT -s 10.0.0.0/8 -j DROP\n-A INPUT -s 10.0.0.9 -m comment --comment \"until 2026-01-01\" -j ACCEPT\nCOMMIT\n".to_owned(),
                "fail low d iptables-save.txt:4",
            ),
        ] {
            let estate = estate(&[addresses, route, ("d/iptables-save.txt", &rules)]);
            let told = answers_as_of(&CHECK, &estate, jiff::civil::date(2026, 11, 25));
            assert_eq!(told, [wanted], "{what}");
        }
        let plain = estate(&[("d/iptables-save.txt", "*filter\n-A INPUT -j DROP\nCOMMIT\n")]);
        assert!(answers_as_of(&CHECK, &plain, jiff::civil::date(2026, 11, 25)).is_empty());
    }
}
