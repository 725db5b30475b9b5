//! Intended access is blocked.

use crate::check::{Answer, Check, Fail, Need, Run, Verdict};
use crate::rules::intended::{MOST_TOLD, place, ports};
use crate::subject::{Subject, SubjectKind};
use trevlin_analysis::context::Analyses;
use trevlin_analysis::ways::some_ranges;
use trevlin_estate::area::{Area, Severity};
use trevlin_estate::baseline::Baseline;

/// The check.
pub(crate) const CHECK: Check = Check {
    id: "rules/intent-missing",
    area: Area::Rules,
    title: "Intended access is blocked",
    severity: Severity::Low,
    why: "Users cannot do their work, or the intent is outdated. Users who are blocked look for other paths.",
    fix: "Find the line that blocks it and permit the intended access, or remove the intent.",
    judged: "Fails for each intent with some address and port that is blocked from some source, with the line that blocks \
             it. Passes where all of it is permitted. An intent that names nothing in the estate leads to an information \
             request.",
    references: &["NIST SP 800-41 Rev. 1, 4 and 5.2"],
    needs: &[Need::Addresses, Need::Filter, Need::Routes],
    run: Run::Analyses(run),
};

fn run(estate: &Analyses, _: &Baseline) -> Vec<Answer> {
    let mut answers = Vec::new();
    for held in estate.evaluated_intents() {
        let intent = &estate.intents[held.intent];
        let subject = Subject::of(SubjectKind::Intent).with(&intent.from).with(intent.to.join(" "));
        let at = place(estate, &intent.from);
        if let Some(problem) = &held.problem {
            let question = format!(
                "Please correct the intent in line {} of trevlin.toml, which could not be evaluated: {problem}.",
                intent.line
            );
            answers.push(Answer::new(at, subject, Verdict::ask(question, Vec::new())));
            continue;
        }
        let Some(first) = held.missing.first() else {
            answers.push(Answer::new(at, subject, Verdict::pass_intended(intent.line)));
            continue;
        };
        let parts: Vec<String> = held
            .missing
            .iter()
            .take(MOST_TOLD)
            .map(|one| format!("{} at {}", ports(one.protocol, &one.ports), some_ranges(&one.addresses)))
            .collect();
        let stopped = first.steps.iter().rev().find(|step| step.origin.is_some());
        let device = stopped.map_or(at, |step| step.device);
        let verdict = Verdict::Fail(Fail {
            rating: CHECK.rated("no unintended access results"),
            title: format!("{} lacks intended access (trevlin.toml, line {})", intent.from, intent.line)
                .into(),
            detail: format!("Blocked: {}.", parts.join("; ")).into(),
            evidence: held
                .missing
                .iter()
                .filter_map(|one| one.steps.iter().rev().find_map(|step| step.origin))
                .collect(),
        });
        answers.push(Answer::new(device, subject, verdict));
    }
    answers
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::rules::reach::testing::on_gate_with;

    #[test]
    fn cases() {
        let intent =
            "[[intent]]\nfrom = \"WireGuard wg0\"\nto = \"10.4.0.20\"\nservices = \"tcp 443\"\nonly = true\n";
        for (rules, file, wanted) in [
            ("-A FORWARD -i wg0 -d 10.4.0.20 -p tcp --dport 443 -j ACCEPT\n", intent, "pass gate"),
            (
                "-A FORWARD -i wg0 -d 10.4.0.20 -p tcp --dport 80 -j ACCEPT\n",
                intent,
                "fail low gate iptables-save.txt:3",
            ),
            ("", "[[intent]]\nfrom = \"missing\"\nto = \"10.4.0.20\"\n", "ask gate"),
        ] {
            assert_eq!(on_gate_with(&CHECK, rules, &[], file), [wanted], "{rules}");
        }
    }
}
