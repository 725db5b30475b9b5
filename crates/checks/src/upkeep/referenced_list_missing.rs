//! A rule that names a list which is not there.

use crate::check::{Answer, Check, Need, Run, Verdict};
use crate::subject::{Subject, SubjectKind};
use trevlin_analysis::context::Analyses;
use trevlin_estate::area::{Area, Severity};
use trevlin_estate::baseline::Baseline;
use trevlin_model::FilterFormat;

/// The check.
pub(crate) const CHECK: Check = Check {
    id: "upkeep/referenced-list-missing",
    area: Area::Upkeep,
    title: "Referenced list not in the export",
    severity: Severity::Low,
    why: "The effect of a rule depends on the list that it refers to. Without the list, the rule cannot be judged.",
    fix: "Export the list with the filter.",
    judged: "Always an information request: a running filter cannot refer to a list that does not exist, so the export is \
             incomplete.",
    references: &["ipset(8)", "nft(8), SETS"],
    needs: &[Need::Filter],
    run: Run::Analyses(run),
};

fn run(estate: &Analyses, _: &Baseline) -> Vec<Answer> {
    let mut answers = Vec::new();
    for (device, one) in estate.devices.iter().enumerate() {
        for review in estate.filter_reviews(device) {
            for set in &review.filter.sets {
                let command = match review.filter.format {
                    FilterFormat::Iptables => "`ipset save`",
                    FilterFormat::Nftables | FilterFormat::Firewalld => "`nft list ruleset`",
                    FilterFormat::Ordered => "the list",
                };
                let verdict = if set.present {
                    Verdict::pass(set.origin)
                } else {
                    Verdict::ask(
                        format!(
                            "Please provide {command} of {0}: its rules refer to the list {1}, which was not exported.",
                            one.name, set.name
                        ),
                        set.used_at.clone(),
                    )
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
        let plain = "*filter\n:INPUT DROP [0:0]\n-A INPUT -s 10.0.0.1 -j DROP\nCOMMIT\n";
        run(
            &CHECK,
            &[
                ("missing", &[("d/iptables-save.txt", list)], &["ask d"]),
                (
                    "there",
                    &[("d/iptables-save.txt", list), ("d/ipset-save.txt", "create bad hash:ip\n")],
                    &["pass d"],
                ),
                ("no list is named", &[("d/iptables-save.txt", plain)], &[]),
            ],
        );
    }
}
