//! An address list that no rule names.

use crate::check::{Answer, Check, Fail, Run, Verdict};
use crate::rules::{CONTROLS, REFERENCES};
use crate::subject::{Subject, SubjectKind};
use trevlin_analysis::context::Analyses;
use trevlin_estate::area::{Area, Severity};
use trevlin_estate::baseline::Baseline;

/// The check.
pub(crate) const CHECK: Check = Check {
    id: "rules/unused-filter",
    area: Area::Rules,
    title: "Filter list defined but not applied",
    severity: Severity::Low,
    why: "An address list has no effect unless a rule refers to it. Its maintainers rely on it to block or permit traffic. \
          The rule may have been lost in a change.",
    fix: "Establish the purpose of the list. Add the rule that applies it, or remove the list.",
    judged: "Fails for each named list with entries that no rule of its table, or for stored lists of the filter of its \
             device, refers to. Empty lists and lists that rules fill are not judged.",
    references: REFERENCES,
    controls: CONTROLS,
    run: Run::Analyses(run),
};

fn run(estate: &Analyses, _: &Baseline) -> Vec<Answer> {
    let mut answers = Vec::new();
    for device in 0..estate.devices.len() {
        for review in estate.filter_reviews(device) {
            for set in review.filter.sets.iter().filter(|set| set.present) {
                let verdict = match (set.used_at.is_empty(), set.elements, set.filled_by_rules) {
                    (false, _, _) => Verdict::Pass,
                    (true, 0, _) | (true, _, true) => Verdict::DoesNotApply,
                    (true, entries, false) => Verdict::Fail(Fail {
                        rating: CHECK.rated("its purpose is not achieved"),
                        title: format!("List {} is defined but not applied", set.name).into(),
                        detail: format!("Entries in {}: {entries}; no rule refers to it.", set.name).into(),
                        evidence: vec![set.origin],
                    }),
                };
                let subject = Subject::of(SubjectKind::NamedSet)
                    .with(&review.filter.table)
                    .with(review.filter.families)
                    .with(&set.name);
                answers.push(Answer::new(device, subject, verdict));
            }
        }
    }
    answers
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::testing::run;

    #[test]
    fn cases() {
        let list = "*filter\n:INPUT DROP [0:0]\n-A INPUT -m set --match-set bad src -j DROP\nCOMMIT\n";
        let nft = |set: &str, rule: &str| {
            format!(
                "table inet t {{\n set bad {{\n type ipv4_addr\n {set}\n }}\n chain c {{\n type filter hook input priority 0; policy drop;\n {rule}\n }}\n}}\n"
            )
        };
        let unused = nft("elements = { 10.0.0.1 }", "accept");
        let used = nft("elements = { 10.0.0.1 }", "ip saddr @bad drop");
        let filled = nft("flags dynamic\n elements = { 10.0.0.1 }", "accept");
        let empty = nft("flags interval", "accept");
        run(
            &CHECK,
            &[
                (
                    "saved and not named",
                    &[
                        ("d/iptables-save.txt", list),
                        ("d/ipset-save.txt", "create bad hash:ip\ncreate old hash:ip\nadd old 10.0.0.1\n"),
                    ],
                    &["pass d", "fail low d ipset-save.txt:2"],
                ),
                ("nftables", &[("d/nft.txt", &unused)], &["fail low d nft.txt:2"]),
                ("named", &[("d/nft.txt", &used)], &["pass d"]),
                ("filled by rules", &[("d/nft.txt", &filled)], &["none d"]),
                ("empty", &[("d/nft.txt", &empty)], &["none d"]),
                ("not exported", &[("d/iptables-save.txt", list)], &[]),
            ],
        );
    }
}
