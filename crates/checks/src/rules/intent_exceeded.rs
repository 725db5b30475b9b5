//! Access exceeds the intents.

use crate::check::{Answer, Check, Fail, Need, Run, Verdict};
use crate::rules::intended::{MOST_TOLD, place, ports};
use crate::subject::{Subject, SubjectKind};
use trevlin_analysis::context::Analyses;
use trevlin_analysis::ways::some_ranges;
use trevlin_estate::area::{Area, Severity};
use trevlin_estate::baseline::Baseline;
use trevlin_packets::way::Egress;

/// The check.
pub(crate) const CHECK: Check = Check {
    id: "rules/intent-exceeded",
    area: Area::Rules,
    title: "Access exceeds intent",
    severity: Severity::Medium,
    why: "A documented intent has an owner. Access beyond it was not decided, is not monitored, and is found by intruders.",
    fix: "Narrow the rules to the intent. Where the access is needed, add it to the intents with an owner.",
    judged: "Fails for each source of an intent with `only`: all access from it beyond its intents, reported as networks and \
             ports with the rules that permit it. Passes where there is none. Undetermined where a condition not analysed \
             decides.",
    references: &["NIST SP 800-41 Rev. 1, 4 and 5.2"],
    needs: &[Need::Addresses, Need::Filter, Need::Routes],
    run: Run::Analyses(run),
};

fn run(estate: &Analyses, _: &Baseline) -> Vec<Answer> {
    let mut answers = Vec::new();
    for held in estate.evaluated_intents() {
        let intent = &estate.intents[held.intent];
        let subject = Subject::of(SubjectKind::Intent).with(&intent.from).with(intent.to.join(" "));
        if !intent.only || held.problem.is_some() {
            continue;
        }
        let certain: Vec<_> = held.excess.iter().filter(|one| one.certain).collect();
        let Some(first) = certain.first() else {
            let verdict = match held.excess.first() {
                None => Verdict::pass_intended(intent.line),
                Some(one) => Verdict::ask(
                    format!(
                        "Please state whether {} has access beyond its intents: a condition not analysed decides.",
                        intent.from
                    ),
                    one.rules.clone(),
                ),
            };
            answers.push(Answer::new(place(estate, &intent.from), subject, verdict));
            continue;
        };
        let parts: Vec<String> = certain
            .iter()
            .take(MOST_TOLD)
            .map(|one| {
                let to = match one.gone {
                    Some(Egress::Outside) => "the Internet".to_owned(),
                    _ => some_ranges(&one.addresses),
                };
                let by: Vec<String> = one.rules.iter().map(|origin| estate.place(*origin)).collect();
                let by = if by.is_empty() {
                    String::new()
                } else {
                    format!(", permitted by {}", by.join(" and "))
                };
                format!("{} on {to}{by}", ports(one.protocol, &one.ports))
            })
            .collect();
        let rest = certain.len().saturating_sub(MOST_TOLD);
        let more = if rest > 0 { format!("; and {rest} more") } else { String::new() };
        let mut evidence: Vec<_> = certain.iter().flat_map(|one| one.rules.iter().copied()).collect();
        let mut seen = std::collections::BTreeSet::new();
        evidence.retain(|origin| seen.insert(*origin));
        let verdict = Verdict::Fail(Fail {
            rating: CHECK.rated("the estate file documents the intent as complete"),
            title: format!(
                "Access from {} exceeds the intent (trevlin.toml, line {})",
                intent.from, intent.line
            )
            .into(),
            detail: format!("Access beyond the intent: {}{more}.", parts.join("; ")).into(),
            evidence,
        });
        answers.push(Answer::new(first.device, subject, verdict));
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
                "-A FORWARD -i wg0 -d 10.4.0.20 -p tcp -j ACCEPT\n",
                intent,
                "fail medium gate iptables-save.txt:5",
            ),
            ("-A FORWARD -i wg0 -m mark --mark 1 -j ACCEPT\n", intent, "ask gate"),
        ] {
            assert_eq!(on_gate_with(&CHECK, rules, &[], file), [wanted], "{rules}");
        }
    }
}
