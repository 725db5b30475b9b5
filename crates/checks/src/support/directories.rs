//! Rights in directories: judged one by one, and otherwise held by the rules of the entries.

use crate::check::{Answer, Verdict};
use crate::subject::Subject;
use crate::support::serving::{ServiceCase, of_kinds};
use trevlin_analysis::context::Analyses;
use trevlin_model::served::{AuthRequirement, PartKind, ServedKind, ServiceResource};

/// One answer for each wanted right of a directory that listens beyond its device. Where no rule grants one, the rules of the entries are
/// the evidence, unless a file of rules is missing.
pub(crate) fn each_right(
    estate: &Analyses,
    wanted: impl Fn(&ServiceResource) -> bool,
    judge: impl Fn(ServiceCase<'_>, &ServiceResource) -> Verdict,
) -> Vec<Answer> {
    let mut answers = Vec::new();
    for one in of_kinds(estate, &[ServedKind::Directory]).filter(|one| !one.served.is_local()) {
        let before = answers.len();
        for part in one.served.parts.iter().filter(|part| wanted(part)) {
            let subject = Subject::part(one.served, part).limited_to(&part.sources);
            answers.push(Answer::new(one.device, subject, judge(one, part)));
        }
        let granted = answers.len() > before;
        let entries = one.served.parts.iter().find(|part| part.kind == PartKind::Entries);
        if let Some(entries) = entries.filter(|_| !granted) {
            let holds = Verdict::pass_lines(vec![one.served.origin, entries.origin]);
            answers.push(Answer::new(one.device, Subject::served(one.served), one.open().unwrap_or(holds)));
        }
    }
    answers
}

/// The clients that have a right, in words.
pub(crate) fn holders(part: &ServiceResource) -> &str {
    if part.login.value() == Some(&AuthRequirement::Nothing) {
        return "clients without a login";
    }
    part.users.first().map_or("any user", String::as_str)
}
