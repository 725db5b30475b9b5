//! A rule whose words say that it was meant for a time.

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
    why: "Openings for a contractor, a test or a weekend are made in a hurry and without the care that lasting ones get. Nobody owns \
          their end, so they stay. Years later they are the way in that nobody remembers.",
    fix: "Ask who needs it still. Take it out, or make it a rule like the others, narrowed to what is needed, with an owner.",
    judged: "Fails where the comment of a rule in force has a word such as temporary, test or until: high where it opens something and \
             the date it names has passed, low where that date is still to come. A date alone says nothing: it may be the day the \
             rule was made. Which date is today's is said by --as-of.",
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
        (Some(date), true, true) => (Severity::High, format!("it opens something, and {date} has passed")),
        (Some(date), true, false) => (CHECK.severity, format!("{date} has passed")),
        (Some(date), false, _) => (Severity::Low, format!("{date} is still to come")),
        (None, _, true) => (CHECK.severity, "it opens something, and names no date".to_owned()),
        (None, _, false) => (Severity::Low, "it opens nothing".to_owned()),
    };
    let evidence: Vec<Origin> = rules.iter().map(|rule| rule.origin).collect();
    let count =
        if rules.len() == 1 { "A rule says".to_owned() } else { format!("{} rules say", rules.len()) };
    Verdict::Fail(Fail {
        rating: CHECK.rated_at(severity, why),
        title: format!("A temporary rule is in force: {comment}").into(),
        detail: format!(
            "{count} \"{comment}\", and {}.",
            if rules.len() == 1 { "is in force" } else { "are in force" }
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
