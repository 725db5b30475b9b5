//! A rule marked as temporary by its comment.

use crate::check::{Answer, Check, Control, Fail, Run, Verdict};
use crate::subject::{Subject, SubjectKind};
use std::collections::BTreeMap;
use trevlin_analysis::filter_review::temporary;
use trevlin_analysis::map::EstateMap;
use trevlin_estate::area::{Area, Severity};
use trevlin_estate::baseline::Baseline;
use trevlin_model::{Origin, Rule, Target, TranslationKind};

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
             permits traffic and its date has passed, low where the date is in the future. A date alone does not count, \
             since it may be the creation date. `--as-of` sets the reference date.",
    references: &["NIST SP 800-41 Rev. 1, 5.2.2"],
    controls: &[Control::grundschutz("NET.3.2.A9"), Control::grundschutz("OPS.1.1.3.A1")],
    run: Run::Map(run),
};

fn run(estate: &EstateMap, baseline: &Baseline) -> Vec<Answer> {
    let mut answers = Vec::new();
    for device in 0..estate.devices.len() {
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
                judge(comment, &rules, baseline),
            ));
        }
    }
    answers
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

fn judge(comment: &str, rules: &[&Rule], baseline: &Baseline) -> Verdict {
    let Some(found) = temporary(comment, baseline.as_of) else { return Verdict::Pass };
    let open = rules.iter().any(|rule| opens(rule));
    let (severity, why) = match (found.date, found.passed, open) {
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
        let plain = estate(&[("d/iptables-save.txt", "*filter\n-A INPUT -j DROP\nCOMMIT\n")]);
        assert!(answers_as_of(&CHECK, &plain, jiff::civil::date(2026, 11, 25)).is_empty());
    }
}
