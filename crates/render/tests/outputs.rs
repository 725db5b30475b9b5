//! Outcomes made by hand, rendered: hostile text, narrow terminals, long lists.

use std::collections::BTreeMap;
use trevlin_audit::{
    Area, DeviceSummary, Evidence, ExportSummary, Finding, NoteSummary, OpenQuestion, Outcome, Severity,
    Status, Summary,
};
use trevlin_render::{Detail, Json, Renderer, Text};
use unicode_width::UnicodeWidthStr;

fn finding(severity: Severity, device: &str, title: &str, places: &[(&str, u32, &str)]) -> Finding {
    let place = |(path, line, excerpt): &(&str, u32, &str)| Evidence {
        path: (*path).into(),
        line: *line,
        end_line: *line,
        excerpt: (*excerpt).into(),
    };
    Finding {
        check: "logins/single-factor-tunnel",
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
        references: &["RFC 1", "RFC 2"],
        fingerprint: "00".into(),
        status: Status::Open,
        why: "Because.",
        devices: vec![device.into()],
    }
}

fn outcome(findings: Vec<Finding>) -> Outcome {
    let notes = (1..=9).map(|line| NoteSummary { line, text: format!("note {line}") }).collect();
    let export = ExportSummary {
        path: "edge/odd.conf".into(),
        format: "openvpn",
        lines: 20,
        understood: 11,
        not_understood: 9,
        notes,
    };
    let question = OpenQuestion {
        check: "exposure/outside-unfiltered",
        area: Area::Exposure,
        device: "edge".into(),
        question: "what is in front of it; ask for its filter".into(),
        evidence: Vec::new(),
    };
    Outcome {
        as_of: "2026-11-25".into(),
        devices: vec![DeviceSummary { name: "edge".into(), kind: "router", exports: vec![export] }],
        summary: Summary {
            by_severity: BTreeMap::from([("high", findings.len())]),
            by_area: BTreeMap::from([("logins", findings.len())]),
        },
        findings,
        open_questions: vec![question],
    }
}

fn text(outcome: &Outcome, width: usize, detail: Detail) -> String {
    let mut out = Vec::new();
    Text { width, detail }.render(outcome, &mut out).expect("written");
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
    Json.render(&outcome, &mut json).expect("written");
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
        "▸ edge/a:4, 9\n        4 │ four\n        9 │ nine\n    edge/b:1\n        1 │ one\n        2 │ two",
        "HIGH      edge: first",
        "LOW       edge: second",
        "why and fix are told above",
        "? edge: what is in front of it",
        "edge/odd.conf  openvpn: 9 of 20 lines",
        "and 3 more; -v shows all",
        "2 findings: 2 high",
        "1 open question\n",
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
    assert!(shown.contains("no findings") && shown.contains("0 open questions"), "{shown}");
    assert!(!shown.contains("NOT UNDERSTOOD") && !shown.contains("OPEN QUESTIONS"), "{shown}");
}
