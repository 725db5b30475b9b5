//! Something about packets that the sheet, the phrasebook or the standard model leaves open.

use crate::check::{Answer, Check, Need, Reason, Run, Verdict};
use crate::subject::{Subject, SubjectKind};
use std::collections::BTreeMap;
use trevlin_analysis::map::EstateMap;
use trevlin_estate::area::{Area, Severity};
use trevlin_estate::baseline::Baseline;
use trevlin_model::{FilterFormat, Match, MatchKind, Origin, ResidualKind, Target};

/// The check.
pub(crate) const CHECK: Check = Check {
    id: "upkeep/filter-incomplete",
    area: Area::Upkeep,
    title: "Filter behaviour not fully stated",
    severity: Severity::Low,
    why: "Device sheets, phrasebooks and standard models contain what was written down. If the default action, the handling \
          of replies or the meaning of a name is missing, the rule base may permit more or less than it appears to.",
    fix: "Find the behaviour in the device or its documentation, and add it to `rule-list` of the sheet, or under `[always]` \
          of the phrasebook.",
    judged: "Always an information request: missing behaviour is never assumed, and connections that depend on it are \
             undetermined (`depends`).",
    references: &["RFC 8519, 1", "NIST SP 800-41 Rev. 1, 4.1"],
    needs: &[Need::Filter],
    run: Run::Map(run),
};

fn run(estate: &EstateMap, _: &Baseline) -> Vec<Answer> {
    let mut answers = Vec::new();
    for (at, device) in estate.devices.iter().enumerate() {
        for filter in device.facts.filters.iter().filter(|filter| filter.format == FilterFormat::Ordered) {
            let mut open: BTreeMap<&str, Vec<Origin>> = BTreeMap::new();
            for rule in filter.chains.iter().flat_map(|chain| &chain.rules) {
                let of_target = match &rule.target {
                    Target::NotAnalysed { name, .. } => Some(name.as_str()),
                    _ => None,
                };
                for what in rule.matches.iter().flat_map(residuals).chain(of_target) {
                    let lines = open.entry(what).or_default();
                    if !lines.contains(&rule.origin) {
                        lines.push(rule.origin);
                    }
                }
            }
            if open.is_empty() {
                answers.push(Answer::new(
                    at,
                    Subject::of(SubjectKind::Filter).with(&filter.table),
                    Verdict::pass(filter.origin),
                ));
            }
            for (what, lines) in open {
                let beginning =
                    format!("Please state the following about the {} of {}", filter.table, device.name);
                answers.push(Answer::new(
                    at,
                    Subject::of(SubjectKind::Filter).with(&filter.table).with(what),
                    Verdict::provide(beginning, Reason::because(what), lines),
                ));
            }
        }
    }
    answers
}

/// The unknown part of a condition.
fn residuals(one: &Match) -> Vec<&str> {
    match &one.kind {
        // Who is admitted by such a rule, and after what, is known.
        MatchKind::NotAnalysed(what)
            if matches!(what.kind, ResidualKind::Users | ResidualKind::Inspection) =>
        {
            Vec::new()
        }
        MatchKind::NotAnalysed(what) => vec![what.text.as_str()],
        MatchKind::AnyOf(lists) | MatchKind::ReversePath { ways: lists, .. } => {
            lists.iter().flatten().flat_map(residuals).collect()
        }
        _ => Vec::new(),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::testing::run;

    #[test]
    fn cases() {
        let sheet = |list: &str, rule: &str| {
            format!(
                "sheet = \"trevlin-sheet/1\"\n[[interfaces]]\nname = \"a\"\n{list}[[rules]]\nfrom = \"a\"\nto = \"device\"\n{rule}action = \"allow\"\n"
            )
        };
        let whole = "[rule-list]\nthrough = \"deny\"\nto-device = \"deny\"\n";
        for (name, text, wanted) in [
            ("all is said", sheet(whole, ""), &["pass d"][..]),
            ("the end is not", sheet("", ""), &["ask d"]),
            ("what a name stands for is not", sheet(whole, "sources = \"crew\"\n"), &["ask d"]),
            ("for some users", sheet(whole, "users = \"group crew\"\ninspection = \"antivirus\"\n"), &["pass d"]),
            ("a part cannot be read", sheet(whole, "surces = \"10.4.0.9\"\n"), &["ask d"]),
            ("a native filter is another's to ask about", "table inet f {\n chain c {\n  type filter hook input priority 0;\n  meta mark 7 accept\n }\n}\n".into(), &[]),
        ] {
            let path = if text.starts_with("sheet") { "d/sheet.toml" } else { "d/nftables.conf" };
            run(&CHECK, &[(name, &[(path, text.as_str())], wanted)]);
        }
        let list = r#"{"ietf-access-control-list:acls": {"acl": [{"name": "l", "aces": {"ace": [{"name": "all", "actions": {"forwarding": "accept"}}]}}],
 "attachment-points": {"interface": [{"interface-id": "a", "ingress": {"acl-sets": {"acl-set": [{"name": "l"}]}}}]}}}"#;
        run(&CHECK, &[("replies are for the device to say", &[("d/data.json", list)], &["ask d"])]);
    }
}
