//! Small estates written down as text, for the tests of checks.

use crate::{Analyses, Check, Estate, Input, ValidEstateFile, Verdict, Yardstick};
use trevlin_model::{Export, ExportId, LineClass};
use trevlin_readers::{Reading, Surroundings, recognise};

/// Device `a` has the address 10.4.0.1, and device `b` sends what it does not know there: they share a network.
pub(crate) const GATE: (&str, &str) =
    ("a/ip-addr.json", r#"[{"ifname":"eth1","addr_info":[{"local":"10.4.0.1","prefixlen":24}]}]"#);
pub(crate) const BEHIND: (&str, &str) =
    ("b/ip-route.json", r#"[{"dst":"default","gateway":"10.4.0.1","flags":[]}]"#);

/// An estate from paths (`device/file`) and texts.
pub(crate) fn estate(files: &[(&str, &str)]) -> Analyses {
    estate_with(files, "")
}

/// The same with an estate file.
pub(crate) fn estate_with(files: &[(&str, &str)], estate_file: &str) -> Analyses {
    let exports: Vec<Export> = files
        .iter()
        .enumerate()
        .map(|(at, (path, text))| Export::new(ExportId(at as u32), *path, (*text).to_owned()))
        .collect();
    let folder = |path: &str| path.split('/').next().unwrap().to_owned();
    let readings: Vec<_> = exports
        .iter()
        .map(|export| {
            let own = folder(export.path());
            let around = Surroundings::of(exports.iter().filter(|one| folder(one.path()) == own).collect());
            let reader = recognise(export).reader;
            let reading = reader.map_or_else(
                || {
                    let mut reading = Reading::of(export);
                    reading.ledger.set(1, export.line_count(), LineClass::NotUnderstood);
                    reading
                },
                |reader| (reader.read)(export, &around),
            );
            (reader.map(|reader| reader.name), reading)
        })
        .collect();
    let inputs = exports.into_iter().zip(readings).map(|(export, (format, reading))| Input {
        folder: folder(export.path()),
        export,
        format,
        facts: reading.facts,
        ledger: reading.ledger,
    });
    Analyses::of(Estate::assemble(
        inputs.collect(),
        &ValidEstateFile::parse(estate_file, &super::known).unwrap(),
    ))
}

/// Every answer of a check as a line: `fail high edge server.conf:3 gate.txt:1`, `pass`, `ask`, `none`; in order.
pub(crate) fn answers(check: &Check, estate: &Analyses) -> Vec<String> {
    answers_as_of(check, estate, jiff::civil::date(2026, 11, 25))
}

/// A certificate or key of the readers' cases.
pub(crate) fn certificate(name: &str) -> &'static str {
    macro_rules! cases {
        ($($known:literal)*) => {
            match name {
                $($known => include_str!(concat!("../../../readers/tests/cases/pem/", $known, ".pem")),)*
                other => panic!("there is no case {other}"),
            }
        };
    }
    cases!("authority" "edwards" "ends-soon" "expired" "foreign-authority" "key" "key-openssh" "key-openssh-protected"
        "key-protected" "key-traditional-protected" "not-yet" "old-authority" "self-signed" "server" "short-key"
        "signed-with-pss-over-sha1" "signed-with-sha1" "wildcard")
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
            let device = &estate.devices[answer.device].name;
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
        assert_eq!(crate::prose::reword::with(7, told), as_written, "{name}, in other words");
    }
}

/// What the fingerprints of a check's findings are made from, in order.
fn keys(check: &Check, estate: &Analyses) -> Vec<String> {
    let answers = check.answers(estate, &Yardstick::on(jiff::civil::date(2026, 11, 25)));
    answers.iter().map(|answer| format!("{:?}", answer.subject)).collect()
}
