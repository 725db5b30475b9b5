//! Common parts of checks on keys for IKE.

use crate::check::{Answer, Verdict};
use crate::subject::{Subject, SubjectKind};
use trevlin_analysis::map::EstateMap;

/// A question for each file of keys that another reads in and that is not among the exports.
pub(crate) fn keys_not_exported(estate: &EstateMap, at: usize) -> Vec<Answer> {
    let device = &estate.devices[at];
    let is_secrets = |origin: trevlin_model::Origin| estate.format_of(origin.export) == Some("ipsec-secrets");
    let missing = device.facts.missing.iter().filter(|one| is_secrets(one.origin));
    missing
        .map(|one| {
            let ask = format!(
                "Please provide `{}`: it may hold further IKE keys, whose peers, length and origin decide their strength.",
                one.path
            );
            Answer::new(at, Subject::of(SubjectKind::File).with(&one.path), Verdict::ask(ask, vec![one.origin]).wanting(&one.path))
        })
        .collect()
}

/// Tests that a check requests a missing file of keys that is included by name, and no pattern.
#[cfg(test)]
pub(crate) fn asks_for_missing_files(check: &crate::check::Check) {
    let answers = |line| {
        let files = [("d/etc/ipsec.secrets", line)];
        crate::testing::answers(check, &crate::testing::estate(&files))
    };
    assert_eq!(answers("include /etc/ipsec.d/more.secrets\nann : EAP \"x\"\n"), ["ask d"]);
    assert!(answers("include /etc/ipsec.d/*.secrets\nann : EAP \"x\"\n").is_empty());
}
