//! An export that was not read whole.

use crate::check::{Answer, Check, Run, Verdict};
use crate::subject::{Subject, SubjectKind};
use crate::support::line_of;
use std::collections::BTreeMap;
use trevlin_analysis::incomplete::{Incomplete, Why};
use trevlin_analysis::map::EstateMap;
use trevlin_estate::area::{Area, Severity};
use trevlin_estate::baseline::Baseline;

/// Lines that a question cites at most.
const CITED: usize = 4;

/// The check.
pub(crate) const CHECK: Check = Check {
    id: "upkeep/export-incomplete",
    area: Area::Upkeep,
    title: "Export incomplete",
    severity: Severity::Low,
    why: "A missing line may contain the setting that opens or protects the device. Findings of this export apply to the \
          part that was read.",
    fix: "Export the file again with the files it includes, and check the lines that were not understood: daemons often \
          reject or ignore mistyped lines.",
    judged: "Always an information request: for an included file that was not exported, settings in a database, an export that \
             ends in the middle of a line, lines that were not understood, and content beyond a limit.",
    references: &["NIST SP 800-115, 3.1"],
    needs: &[],
    run: Run::Map(run),
};

fn run(estate: &EstateMap, _: &Baseline) -> Vec<Answer> {
    let mut answers = Vec::new();
    for (device, one) in estate.devices.iter().enumerate() {
        let mut by_export: BTreeMap<_, Vec<&Incomplete>> = BTreeMap::new();
        for found in &estate.incomplete()[device] {
            by_export.entry(found.origin.export).or_default().push(found);
        }
        if by_export.is_empty() && !one.exports.is_empty() {
            answers.push(Answer::new(
                device,
                Subject::of(SubjectKind::Device),
                Verdict::pass(line_of(estate, device)),
            ));
        }
        for (export, found) in by_export {
            let path = estate.export(export).path();
            let mut reasons: Vec<String> = found.iter().map(|one| one.why.words()).collect();
            let mut wanted: Vec<String> = found.iter().map(|one| one.why.wanted()).collect();
            wanted.dedup();
            reasons.dedup();
            let ask = if found.iter().all(|one| matches!(one.why, Why::Missing(_))) {
                format!(
                    "Please provide {}: {path} includes {}, and no export contains {1}.",
                    wanted.join(", "),
                    if wanted.len() == 1 { "it" } else { "them" }
                )
            } else {
                format!(
                    "Please provide {}: {path} was not read completely, because {}.",
                    wanted.join(", "),
                    reasons.join("; ")
                )
            };
            let lines = found.iter().map(|one| one.origin).take(CITED).collect();
            let files = found.iter().filter_map(|one| match &one.why {
                Why::Missing(path) => Some(path.clone()),
                _ => None,
            });
            let verdict = Verdict::ask(ask, lines).unquoted().wanting_all(files);
            answers.push(Answer::new(device, Subject::of(SubjectKind::File).with(path), verdict));
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
        run(
            &CHECK,
            &[
                ("whole", &[("d/etc/ssh/sshd_config", "Port 22\nPermitRootLogin no\n")], &["pass d"]),
                ("a line is garbled", &[("d/etc/ssh/sshd_config", "Port 22\nPermitRo@@ no\n")], &["ask d"]),
                (
                    "it ends within a line",
                    &[("d/etc/ssh/sshd_config", "Port 22\nPermitRootLogin no")],
                    &["ask d"],
                ),
                (
                    "a file that is read in is missing",
                    &[("d/etc/ssh/sshd_config", "Include /etc/ssh/more.conf\nPermitRootLogin no\n")],
                    &["ask d"],
                ),
                (
                    "connections are in a database",
                    &[(
                        "d/etc/strongswan.conf",
                        "charon {\n plugins {\n  sql {\n   database = sqlite:///etc/ipsec.d/ipsec.db\n  }\n }\n}\n",
                    )],
                    &["ask d"],
                ),
                (
                    "braces close what ends without a line end",
                    &[("d/ip-addr.json", r#"[{"ifname":"eth1","addr_info":[]}]"#)],
                    &["pass d"],
                ),
            ],
        );
    }
}
