//! An address list that no rule names.

use crate::check::{Answer, Check, Fail, Need, Run, Verdict};
use crate::rating::Rating;
use crate::rules::REFERENCES;
use crate::subject::{Subject, SubjectKind};
use trevlin_analysis::context::Analyses;
use trevlin_estate::area::{Area, Severity};
use trevlin_estate::baseline::Baseline;
use trevlin_model::NamedSet;

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
             device, refers to; more than twenty of one table are one finding. Empty lists and lists that rules fill are not \
             judged.",
    references: REFERENCES,
    needs: &[Need::Filter],
    run: Run::Analyses(run),
};

/// Lists of one table above which they are one finding: an export of thousands of stored addresses must not hide the others.
const MOST: usize = 20;

fn run(estate: &Analyses, _: &Baseline) -> Vec<Answer> {
    let mut answers = Vec::new();
    for device in 0..estate.devices.len() {
        for review in estate.filter_reviews(device) {
            let of_table =
                || Subject::of(SubjectKind::NamedSet).with(&review.filter.table).with(review.filter.families);
            let mut unused = Vec::new();
            for set in review.filter.sets.iter().filter(|set| set.present) {
                let verdict = match (set.used_at.is_empty(), set.elements, set.filled_by_rules) {
                    (false, _, _) => Verdict::pass_by(set.used_at.iter().take(1).copied(), set.origin),
                    (true, 0, _) | (true, _, true) => Verdict::DoesNotApply,
                    (true, _, false) => {
                        unused.push(set);
                        continue;
                    }
                };
                answers.push(Answer::new(device, of_table().with(&set.name), verdict));
            }
            if unused.len() > MOST {
                answers.push(Answer::new(device, of_table(), together(&unused)));
                continue;
            }
            answers.extend(unused.into_iter().map(|set| {
                let verdict = Verdict::Fail(Fail {
                    rating: rating(),
                    title: format!("List {} is defined but not applied", set.name).into(),
                    detail: format!("Entries in {}: {}; no rule refers to it.", set.name, set.elements)
                        .into(),
                    evidence: vec![set.origin],
                });
                Answer::new(device, of_table().with(&set.name), verdict)
            }));
        }
    }
    answers
}

fn rating() -> Rating {
    CHECK.rated("its purpose is not achieved")
}

/// Many lists of one table as one finding.
fn together(unused: &[&NamedSet]) -> Verdict {
    let names: Vec<&str> = unused.iter().take(3).map(|set| set.name.as_str()).collect();
    Verdict::Fail(Fail {
        rating: rating(),
        title: format!("{} lists are defined but not applied", unused.len()).into(),
        detail: format!("No rule refers to {} and {} more.", names.join(", "), unused.len() - names.len())
            .into(),
        evidence: unused.iter().take(MOST).map(|set| set.origin).collect(),
    })
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
        let sets: String = (0..=MOST)
            .map(|number| format!("set s{number} {{ type ipv4_addr; elements = {{ 10.0.0.{number} }}; }}\n"))
            .collect();
        let many = format!(
            "table inet t {{\n{sets}chain c {{ type filter hook input priority 0; policy drop; accept; }}\n}}\n"
        );
        let lines: String = (2..MOST + 2).map(|line| format!(" nft.txt:{line}")).collect();
        let wanted = format!("fail low d{lines}");
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
                ("many are one finding", &[("d/nft.txt", &many)], &[wanted.as_str()]),
                ("not exported", &[("d/iptables-save.txt", list)], &[]),
            ],
        );
    }
}
