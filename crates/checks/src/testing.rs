//! Checks held against small estates.

use crate::check::{Check, Verdict};
use trevlin_analysis::context::Analyses;
pub(crate) use trevlin_analysis::testing::{BEHIND, GATE, certificate, estate, estate_with};
use trevlin_estate::baseline::Yardstick;

/// Every answer of a check as a line: `fail high edge server.conf:3 gate.txt:1`, `pass`, `ask`, `none`; in order.
pub(crate) fn answers(check: &Check, estate: &Analyses) -> Vec<String> {
    answers_as_of(check, estate, jiff::civil::date(2026, 11, 25))
}

/// The same answers for another date of the audit.
pub(crate) fn answers_as_of(check: &Check, estate: &Analyses, as_of: jiff::civil::Date) -> Vec<String> {
    let place = |origin: &trevlin_model::Origin| {
        let export = estate.export(origin.export);
        format!("{}:{}", export.file_name(), export.position(origin.start).line)
    };
    check
        .answers(estate, &Yardstick::on(as_of))
        .iter()
        .map(|answer| {
            let device = &estate.device(answer.device).name;
            match &answer.verdict {
                Verdict::Fail(fail) => {
                    let places: Vec<_> = fail.evidence.iter().map(place).collect();
                    format!("fail {} {device} {}", fail.rating.severity().word(), places.join(" "))
                }
                Verdict::Undetermined(_) => format!("ask {device}"),
                Verdict::Pass => format!("pass {device}"),
                Verdict::DoesNotApply => format!("none {device}"),
            }
        })
        .collect()
}

/// One case: a name, the files, and the answers expected.
pub(crate) type Case<'a> = (&'a str, &'a [(&'a str, &'a str)], &'a [&'a str]);

/// Runs a table of cases.
pub(crate) fn run(check: &Check, cases: &[Case<'_>]) {
    for (name, files, wanted) in cases {
        let told = || {
            let estate = estate(files);
            (answers(check, &estate), keys(check, &estate))
        };
        let as_written = told();
        assert_eq!(as_written.0, *wanted, "{name}");
        assert_eq!(trevlin_estate::prose::reword::with(7, told), as_written, "{name}, in other words");
    }
}

/// What the fingerprints of a check's findings are made from, in order.
fn keys(check: &Check, estate: &Analyses) -> Vec<String> {
    let answers = check.answers(estate, &Yardstick::on(jiff::civil::date(2026, 11, 25)));
    answers.iter().map(|answer| format!("{:?}", answer.subject)).collect()
}
