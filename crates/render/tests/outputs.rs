//! Outcomes made by hand, rendered: hostile text, narrow terminals, long lists.

use std::collections::BTreeMap;
use trevlin_audit::AnswerCounts;
use trevlin_audit::coverage::{
    CheckCoverage, CheckRow, Coverage, Gap, GapKind, Lacks, PassEvidence, Standing, SystemCoverage,
};
use trevlin_audit::tables::addresses::Sheet;
use trevlin_audit::tables::rules::RulesSheet;
use trevlin_audit::{
    Area, Cited, DeviceSummary, Evidence, ExportSummary, Finding, InformationRequest, NoteSummary, Outcome,
    ReportEntry, Severity, Status, Summary, TestedSummary,
};
use trevlin_render::{
    CoverageView, Csv, Detail, Json, Oscal, Renderer, Report, Sarif, Text, coverage_csv, coverage_json,
    coverage_markdown, coverage_text, html, markdown_report,
};
use unicode_width::UnicodeWidthStr;

fn finding(severity: Severity, device: &str, title: &str, places: &[(&str, u32, &str)]) -> Finding {
    let place = |(path, line, excerpt): &(&str, u32, &str)| Evidence {
        path: (*path).into(),
        line: *line,
        end_line: *line,
        excerpt: (*excerpt).into(),
    };
    Finding {
        about: None,
        check: "logins/single-factor-vpn",
        area: Area::Logins,
        severity,
        device: device.into(),
        title: title.into(),
        detail:
            "Found in a place, and told in a sentence that is long enough to be wrapped on a narrow terminal."
                .into(),
        why_this_severity: "as the check rates it: so it is".into(),
        evidence: places.iter().map(place).collect(),
        remedy: "Mend it.",
        references: Cited::new(&["RFC 1", "RFC 2"], ""),
        fingerprint: "00".into(),
        status: Status::Open,
        acceptance: None,
        why: "Because.",
        devices: vec![device.into()],
    }
}

fn outcome(findings: Vec<Finding>) -> Outcome {
    let notes = (1..=9).map(|line| NoteSummary { line, text: format!("note {line}").into() }).collect();
    let export = ExportSummary {
        path: "edge/odd.conf".into(),
        format: "openvpn",
        lines: 20,
        understood: 11,
        not_understood: 9,
        notes,
    };
    let question = InformationRequest {
        check: "exposure/no-input-filter",
        area: Area::Exposure,
        device: "edge".into(),
        parts: None,
        question: "Please provide its packet filter.".into(),
        evidence: Vec::new(),
        estate_wide: false,
        files: Vec::new(),
        about: (0.into(), trevlin_audit::Subject::ssh()),
    };
    Outcome {
        as_of: "2026-11-25".into(),
        devices: vec![DeviceSummary {
            name: "edge".into(),
            kind: trevlin_model::DeviceKind::Router,
            exports: vec![export],
        }],
        summary: Summary {
            by_severity: BTreeMap::from([("high", findings.len())]),
            by_area: BTreeMap::from([("logins", findings.len())]),
            accepted: 0,
            tested: TestedSummary::default(),
        },
        tested: Vec::new(),
        checks: Vec::new(),
        lacking: Vec::new(),
        findings: findings.into_iter().map(Box::new).collect(),
        open_questions: vec![question],
        answers: Vec::new(),
        left_out: Vec::new(),
        incomplete: Vec::new(),
        acceptances: Vec::new(),
    }
}

fn text(outcome: &Outcome, width: usize, detail: Detail) -> String {
    let mut out = Vec::new();
    Text { width, detail, again: "trevlin audit ." }.render(outcome, &mut out).expect("written");
    let styled = String::from_utf8(out).expect("UTF-8");
    // Styles are sequences of their own; what is left must be harmless.
    let mut plain = String::new();
    let mut rest = styled.as_str();
    while let Some((before, after)) = rest.split_once("\u{1b}[") {
        plain.push_str(before);
        rest = after.split_once('m').map_or("", |(_, after)| after);
    }
    plain + rest
}

#[test]
fn hostile_names_and_lines_are_shown_as_codes() {
    let evil = "a\u{1b}]0;x\u{7}\u{202e}\u{9b}2J\nHIGH  faked line";
    let outcome = outcome(vec![finding(Severity::High, evil, evil, &[(evil, 3, evil)])]);
    for detail in [Detail::Lines, Detail::Full, Detail::All] {
        let shown = text(&outcome, 100, detail);
        assert!(!shown.contains(['\u{1b}', '\u{7}', '\u{202e}', '\u{9b}']), "{detail:?}: {shown:?}");
        assert!(!shown.lines().any(|line| line.starts_with("HIGH  faked")), "{detail:?}");
        assert!(shown.contains("\\u{1b}"), "{detail:?}");
    }
    let mut json = Vec::new();
    Json::default().render(&outcome, &mut json).expect("written");
    let parsed: serde_json::Value = serde_json::from_slice(&json).expect("JSON");
    assert_eq!(parsed["findings"][0]["title"], evil);
    assert!(json.iter().all(|byte| *byte >= 0x20 || *byte == b'\n'));
}

#[test]
fn no_line_is_wider_than_the_terminal() {
    let long = "dial-in/etc/ppp/chap-secrets";
    let excerpt = "an excerpt that goes on and on and on, with ü and 漢字, far beyond the width of anything that is narrow";
    let title = "a title of some length, so that it has to be wrapped";
    let outcome = outcome(vec![finding(Severity::Critical, "edge", title, &[(long, 7, excerpt)])]);
    for width in [40, 60, 80, 100, 200] {
        for line in text(&outcome, width, Detail::Full).lines() {
            assert!(line.width() <= width, "{width}: {line}");
        }
    }
}

#[test]
fn places_in_one_file_stand_together_and_reasons_are_told_once() {
    let places = [("edge/a", 4, "four"), ("edge/a", 9, "nine"), ("edge/b", 1, "one\ntwo")];
    let outcome = outcome(vec![
        finding(Severity::High, "edge", "first", &places),
        finding(Severity::Low, "edge", "second", &[]),
    ]);
    let shown = text(&outcome, 100, Detail::Full);
    for part in [
        "    edge/a:4, 9\n  ▸     4 │ four\n        9 │ nine\n    edge/b:1\n        1 │ one\n        2 │ two",
        "HIGH      edge: first",
        "LOW       edge: second",
        "risk and remedy as above",
        "? edge: Please provide its packet filter.",
        "edge/odd.conf  openvpn: 9 of 20 lines",
        "and 3 more; -v shows all",
        "2 findings: 2 high",
        "1 information request\n",
    ] {
        assert!(shown.contains(part), "{part:?} in\n{shown}");
    }
    assert_eq!(shown.matches("Because.").count(), 1);
    assert!(text(&outcome, 100, Detail::All).contains("note 9"));
}

#[test]
fn one_line_a_finding() {
    let outcome = outcome(vec![
        finding(Severity::High, "edge", "first", &[("edge/a", 4, "x")]),
        finding(Severity::Info, "gate", "second", &[("edge/a", 4, "x")]),
        finding(Severity::Info, "gate", "third", &[]),
    ]);
    let shown = text(&outcome, 100, Detail::Lines);
    assert_eq!(shown, "high      edge/a:4  first\ninfo      edge/a:4  gate: second\ninfo      gate: third\n");
}

#[test]
fn nothing_found_is_said() {
    let mut nothing = outcome(Vec::new());
    nothing.open_questions.clear();
    nothing.devices.clear();
    let shown = text(&nothing, 80, Detail::Full);
    assert!(shown.contains("no open findings") && shown.contains("0 information requests"), "{shown}");
    assert!(!shown.contains("NOT UNDERSTOOD") && !shown.contains("INFORMATION REQUESTS"), "{shown}");
}

/// Coverage of one system, with this name in all of its texts.
fn covered(name: &str) -> Coverage {
    let check = trevlin_audit::checks::find("upkeep/no-time-source").expect("a check");
    let counts = AnswerCounts { passed: 1, ..AnswerCounts::default() };
    let place = Evidence { path: name.into(), line: 3, end_line: 3, excerpt: name.into() };
    let quoted =
        PassEvidence { evidence: vec![place], default: None, estate_file_line: None, limited: false };
    let system = SystemCoverage {
        name: name.into(),
        standing: Standing::InScope,
        reason: None,
        gaps: vec![Gap { kind: GapKind::Unsupported, files: vec![name.to_owned()] }],
        lacks: Lacks::all(),
        counts,
        not_judged: 1,
    };
    let row = CheckRow { system: 0, counts, passes: Vec::new(), quoted: vec![quoted] };
    Coverage {
        as_of: "2026-11-25".into(),
        scope: None,
        systems: vec![system],
        checks: vec![CheckCoverage { check, counts, accepted: 0, not_judged: 1, rows: vec![row] }],
        open: vec![format!("Exported systems are neither in scope nor out of scope: {name}.")],
        complete: false,
        whole: true,
    }
}

/// The outcome as a report, for people.
fn report(
    outcome: &Outcome,
    lay_out: fn(&Report<'_>) -> Result<String, trevlin_render::ReportError>,
) -> String {
    let (plan, rules) = (
        Sheet { allocations: vec![], overlaps: vec![], malformed: vec![] },
        RulesSheet { filters: vec![], translations: vec![], incomplete: vec![] },
    );
    let front = ReportEntry { client: Some("<i>Ferry</i>".into()), ..ReportEntry::default() };
    // Its system has the name of the first device that a finding is of.
    let name = outcome.findings().next().map_or("edge", |one| &*one.device);
    let coverage = covered(name);
    let sheet = coverage.controls(trevlin_audit::catalogues::all()[3]);
    let report = Report {
        front: &front,
        estate: "<b>Veyholm</b> & co",
        outcome,
        logins: &[],
        tunnels: &[],
        services: &[],
        rules: &rules,
        exposure: None,
        plan: &plan,
        baseline: &[],
        coverage: &coverage,
        sheets: &[sheet],
    };
    lay_out(&report).expect("laid out")
}

#[test]
fn hostile_names_take_no_effect_in_reports() {
    let evils = [
        "<script>alert(1)</script>",
        "\"><img src=x onerror=alert(1)>",
        "' onmouseover='alert(1)",
        "`</code><script>x</script>`",
        "[a](javascript:alert(1))",
        "| a | b |\n# heading\n```\n<b>",
        "a\u{202e}\u{1b}[2J\u{7}",
        "{{ one.title }}{% raw %}",
    ];
    for evil in evils {
        let outcome =
            outcome(vec![finding(Severity::High, evil, evil, &[(evil, 3, evil), (evil, 4, "```")])]);
        let page = report(&outcome, html);
        // One script and no picture of ours, and none of theirs.
        assert_eq!(page.matches("<script").count(), 1, "{evil}");
        assert!(!page.contains("<img") && !page.contains("<b>"), "{evil}");
        assert!(!page.contains("' onmouseover='") && !page.contains("\"><img"), "{evil}");
        assert!(!page.contains(['\u{202e}', '\u{1b}', '\u{7}']), "{evil}");
        let text = report(&outcome, markdown_report);
        assert!(!text.contains(['\u{202e}', '\u{1b}', '\u{7}']), "{evil}");
        assert!(!text.lines().any(|line| line.starts_with("# heading")), "{evil}: {text}");
        // Outside of code nothing of HTML and no link is left.
        let mut fence: Option<String> = None;
        for line in text.lines() {
            let ticks: String = line.chars().take_while(|letter| *letter == '`').collect();
            match &fence {
                Some(open) if line == open => fence = None,
                Some(_) => {}
                None if ticks.len() > 2 && line.len() == ticks.len() => fence = Some(ticks),
                None if line.contains('`') => {}
                None => assert!(!line.contains('<') && !line.contains("[a](java"), "{evil}: {line}"),
            }
        }
        assert!(fence.is_none(), "{evil}");
    }
}

#[test]
fn spreadsheets_take_nothing_for_a_formula() {
    for evil in ["=cmd|' /C calc'!A0", "+1", "-1+1", "@SUM(A1)", "\t=1", "\r=1"] {
        let outcome = outcome(vec![finding(Severity::High, evil, evil, &[(evil, 3, evil)])]);
        let mut out = Vec::new();
        Csv.render(&outcome, &mut out).expect("written");
        let mut rows = csv::Reader::from_reader(out.as_slice());
        let row = rows.records().next().expect("a row").expect("of CSV");
        let harmless = |row: &csv::StringRecord| {
            for cell in row {
                assert!(!cell.starts_with(['=', '+', '-', '@', '\t', '\r']), "{evil:?}: {cell:?}");
            }
        };
        harmless(&row);
        let coverage = covered(evil);
        let sheets = [coverage.controls(trevlin_audit::catalogues::all()[3])];
        for of_controls in [false, true] {
            let view = CoverageView { coverage: &coverage, sheets: &sheets, of_controls, passes: true };
            let mut out = Vec::new();
            coverage_csv(&view, &mut out).expect("written");
            csv::Reader::from_reader(out.as_slice())
                .records()
                .for_each(|row| harmless(&row.expect("of CSV")));
        }
    }
}

#[test]
fn hostile_names_take_no_effect_in_the_coverage() {
    let evil = "a\u{1b}]0;x\u{7}\u{202e}<script>|`";
    let coverage = covered(evil);
    let sheets = [coverage.controls(trevlin_audit::catalogues::all()[3])];
    for of_controls in [false, true] {
        let view = CoverageView { coverage: &coverage, sheets: &sheets, of_controls, passes: true };
        let mut text = Vec::new();
        coverage_text(&view, true, 80, &mut text).expect("written");
        let text = String::from_utf8(text).expect("UTF-8");
        assert!(!text.contains(['\u{7}', '\u{202e}']) && !text.contains("\u{1b}]"), "{text:?}");
        assert!(text.contains("\\u{1b}"), "{text}");
        let mut markdown = Vec::new();
        coverage_markdown(&view, &mut markdown).expect("written");
        let markdown = String::from_utf8(markdown).expect("UTF-8");
        assert!(
            !markdown.contains(['\u{7}', '\u{202e}', '\u{1b}']) && !markdown.contains("<script"),
            "{markdown}"
        );
        let mut json = Vec::new();
        coverage_json(&view, &mut json).expect("written");
        let parsed: serde_json::Value = serde_json::from_slice(&json).expect("JSON");
        assert_eq!(parsed["systems"][0]["name"], evil);
    }
    // In SARIF and OSCAL a pass has its line.
    let outcome = outcome(Vec::new());
    let mut sarif = Vec::new();
    Sarif { coverage: Some(&coverage) }.render(&outcome, &mut sarif).expect("written");
    let sarif: serde_json::Value = serde_json::from_slice(&sarif).expect("JSON");
    let pass = &sarif["runs"][0]["results"][1];
    let line = &pass["locations"][0]["physicalLocation"]["region"]["startLine"];
    assert_eq!((&pass["kind"], &pass["level"], line), (&"pass".into(), &"none".into(), &3.into()));
    let mut oscal = Vec::new();
    Oscal { coverage: Some(&coverage) }.render(&outcome, &mut oscal).expect("written");
    let oscal: serde_json::Value = serde_json::from_slice(&oscal).expect("JSON");
    let objective = &oscal["assessment-results"]["results"][0]["findings"][0];
    assert_eq!(objective["target"]["target-id"], "sc-45_obj");
    assert_eq!(objective["target"]["status"]["state"], "not-satisfied");
    assert_eq!(objective["target"]["status"]["reason"], "other");
}

#[test]
fn what_is_accepted_is_so_in_every_form() {
    let mut accepted = finding(Severity::High, "edge", "a door", &[("edge/a", 3, "open")]);
    let acceptance = trevlin_audit::Acceptance {
        owner: "Astrid".into(),
        reason: "until spring".into(),
        until: "2027-03-31".into(),
        expired: false,
    };
    accepted.status = Status::Accepted;
    accepted.acceptance = Some(Box::new(acceptance.clone()));
    let mut expired = finding(Severity::Low, "edge", "a window", &[("edge/a", 4, "open")]);
    expired.acceptance = Some(Box::new(trevlin_audit::Acceptance { expired: true, ..acceptance }));
    let mut outcome = outcome(vec![accepted, expired]);
    outcome.summary.accepted = 1;
    let json = |renderer: &dyn Renderer| -> serde_json::Value {
        let mut out = Vec::new();
        renderer.render(&outcome, &mut out).expect("written");
        serde_json::from_slice(&out).expect("JSON")
    };
    let sarif = json(&Sarif::default());
    let results = &sarif["runs"][0]["results"];
    assert_eq!(results[0]["suppressions"][0]["status"], "accepted");
    assert_eq!(results[1]["suppressions"][0]["status"], "rejected");
    assert_eq!(results[2]["kind"], "open");
    let oscal = json(&Oscal::default());
    let risks = &oscal["assessment-results"]["results"][0]["risks"];
    assert_eq!((&risks[0]["status"], &risks[1]["status"]), (&"deviation-approved".into(), &"open".into()));
    let page = report(&outcome, html);
    assert!(
        page.contains("Accepted by Astrid until 2027-03-31: until spring") && page.contains("; expired.")
    );
    assert!(page.contains("One further finding is accepted."));
}
