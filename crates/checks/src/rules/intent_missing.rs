//! Access that is meant does not come through.

use crate::check::{Answer, Check, Control, Fail, Run, Verdict};
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
    why: "Somebody is kept from work, or the intent is older than the network. Where people cannot get through the \
          right way they find another one.",
    fix: "Find the line that stops it and open it for what is meant, or take the intent out.",
    judged: "Fails for each intent of which some address and port is stopped from some source, with the line that \
             stops it. Passes where all of it comes through. An intent that names nothing in the estate is a \
             question.",
    references: &["NIST SP 800-41 Rev. 1, 4 and 5.2"],
    controls: &[Control::sp800_53("AC-4"), Control::sp800_53("AC-6"), Control::grundschutz("NET.3.2.A2")],
    run: Run::Analyses(run),
};

fn run(estate: &Analyses, _: &Baseline) -> Vec<Answer> {
    let mut answers = Vec::new();
    for held in estate.held_intents() {
        let intent = &estate.intents[held.intent];
        let subject = Subject::of(SubjectKind::Intent).with(&intent.from).with(intent.to.join(" "));
        let at = place(estate, &intent.from);
        if let Some(problem) = &held.problem {
            let question = format!(
                "the intent in line {} of trevlin.toml could not be held against anything: {problem}",
                intent.line
            );
            answers.push(Answer::new(at, subject, Verdict::ask(question, Vec::new())));
            continue;
        }
        let Some(first) = held.missing.first() else {
            answers.push(Answer::new(at, subject, Verdict::Pass));
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
            rating: CHECK.rated("nobody is let in who should not be"),
            title: format!(
                "{} does not reach all that is meant (trevlin.toml, line {})",
                intent.from, intent.line
            )
            .into(),
            detail: format!("What does not come through: {}.", parts.join("; ")).into(),
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
            ("", "[[intent]]\nfrom = \"nobody\"\nto = \"10.4.0.20\"\n", "ask gate"),
        ] {
            assert_eq!(on_gate_with(&CHECK, rules, &[], file), [wanted], "{rules}");
        }
    }
}
