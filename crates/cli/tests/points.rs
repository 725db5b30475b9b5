//! Points that an auditor sees on the screens of an appliance: each as a small sheet with the finding, request or row that must come of
//! it, and with the same in native files where there is such a form.

#![allow(clippy::unwrap_used, reason = "a test that cannot go on has failed")]

use serde::Deserialize;
use std::collections::BTreeMap;
use std::fmt::Write;
use std::fs;
use std::path::Path;
use std::process::Command;

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
struct Base {
    sheet: String,
    /// The same in native files, for every point that uses the part and has a native form.
    #[serde(default)]
    files: BTreeMap<String, String>,
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
struct Points {
    point: Vec<Point>,
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
struct Point {
    /// As an auditor would tell it.
    say: String,
    /// Parts shared with other points.
    #[serde(default)]
    uses: Vec<String>,
    #[serde(default)]
    sheet: String,
    /// Statements about the device, before every section.
    #[serde(default)]
    head: String,
    /// The estate file.
    #[serde(default)]
    estate: String,
    /// Findings: a severity or none, the check or the beginning of its id, and a part of the title or none.
    #[serde(default)]
    finds: Vec<String>,
    /// Checks without a finding.
    #[serde(default)]
    never: Vec<String>,
    /// Parts of requests.
    #[serde(default)]
    asks: Vec<String>,
    /// Parts of requests that must not be raised.
    #[serde(default)]
    not_asks: Vec<String>,
    /// Parts of the output of other commands.
    #[serde(default)]
    rows: BTreeMap<String, String>,
    /// From, to, protocol, port and verdict, with a part of the answer or none.
    #[serde(default)]
    reach: Vec<String>,
    /// Further devices, each by its sheet.
    #[serde(default)]
    also: BTreeMap<String, String>,
    /// The same in native files, with the findings of the sheet.
    #[serde(default)]
    files: BTreeMap<String, String>,
}

fn trevlin(arguments: &[&str], at: &Path) -> String {
    let output = Command::new(env!("CARGO_BIN_EXE_trevlin"))
        .args(arguments)
        .current_dir(at)
        .env("NO_COLOR", "1")
        .env("COLUMNS", "400")
        .output()
        .unwrap();
    String::from_utf8(output.stdout).unwrap()
}

fn audit(at: &Path) -> serde_json::Value {
    let text = trevlin(&["audit", ".", "--as-of", "2026-11-30", "--format", "json"], at);
    serde_json::from_str(&text).unwrap()
}

fn text<'a>(value: &'a serde_json::Value, key: &str) -> &'a str {
    value[key].as_str().unwrap_or_default()
}

/// Whether a finding is the one that a point expects.
fn fits(finding: &serde_json::Value, wanted: &str) -> bool {
    let (head, title) = wanted.split_once(" | ").unwrap_or((wanted, ""));
    let (severity, check) = head.split_once(' ').unwrap_or(("", head));
    (severity.is_empty() || text(finding, "severity") == severity)
        && text(finding, "check").starts_with(check)
        && text(finding, "title").contains(title)
}

/// Faults in the answer to a point.
fn faults(point: &Point, bases: &BTreeMap<String, Base>) -> String {
    let mut told = String::new();
    let folder = tempfile::tempdir().unwrap();
    let root = folder.path();
    let mut sheet = "sheet = \"trevlin-sheet/2\"\nkind = \"firewall\"\n".to_owned();
    sheet.push_str(&point.head);
    for name in &point.uses {
        sheet.push_str(&bases[name].sheet);
    }
    sheet.push_str(&point.sheet);
    fs::create_dir_all(root.join("d")).unwrap();
    fs::write(root.join("d/sheet.toml"), &sheet).unwrap();
    if !point.estate.is_empty() {
        fs::write(root.join("trevlin.toml"), &point.estate).unwrap();
    }
    for (name, text) in &point.also {
        fs::create_dir_all(root.join(name)).unwrap();
        fs::write(root.join(name).join("sheet.toml"), format!("sheet = \"trevlin-sheet/2\"\n{text}"))
            .unwrap();
    }
    let slip = point.finds.iter().any(|one| one.contains("malformed"));
    for name in point.also.keys().map(String::as_str).chain(["d"]) {
        let check = trevlin(&["sheet", "check", &format!("{name}/sheet.toml")], root);
        if check.contains("ERRORS") && !slip {
            writeln!(told, "the sheet: {}", check.split("NOT ANSWERED").next().unwrap().trim()).unwrap();
        }
    }
    let outcome = audit(root);
    findings(&outcome, point, "sheet", &mut told);
    let asked: Vec<&str> =
        outcome["open_questions"].as_array().unwrap().iter().map(|one| text(one, "question")).collect();
    for wanted in &point.asks {
        if !asked.iter().any(|one| one.contains(wanted.as_str())) {
            writeln!(told, "not asked: {wanted}; asked: {asked:#?}").unwrap();
        }
    }
    for wrong in &point.not_asks {
        for one in asked.iter().filter(|one| one.contains(wrong.as_str())) {
            writeln!(told, "asked: {one}").unwrap();
        }
    }
    for (command, part) in &point.rows {
        // Tables of text wrap their cells.
        let shown = match command.as_str() {
            "rules" => trevlin(&["rules", "."], root),
            "audit --full" => trevlin(&["audit", ".", "--full"], root),
            _ => trevlin(&[command, ".", "--format", "json"], root),
        };
        if !shown.contains(part.as_str()) {
            writeln!(told, "`{command}` does not show {part}:\n{shown}").unwrap();
        }
    }
    reached(root, point, &mut told);
    if !point.files.is_empty() {
        let native = tempfile::tempdir().unwrap();
        let shared = point.uses.iter().flat_map(|name| &bases[name].files);
        for (path, content) in shared.chain(&point.files) {
            let path = native.path().join(path);
            fs::create_dir_all(path.parent().unwrap()).unwrap();
            fs::write(path, content).unwrap();
        }
        if !point.estate.is_empty() {
            fs::write(native.path().join("trevlin.toml"), &point.estate).unwrap();
        }
        findings(&audit(native.path()), point, "native files", &mut told);
        reached(native.path(), point, &mut told);
    }
    told
}

fn reached(root: &Path, point: &Point, told: &mut String) {
    for one in &point.reach {
        let words: Vec<&str> = one.splitn(6, ' ').collect();
        let [from, to, protocol, port, verdict] = words[..5] else { panic!("{one}") };
        let shown =
            trevlin(&["reach", ".", "--from", from, "--to", to, "--proto", protocol, "--port", port], root);
        if !shown.starts_with(verdict) || !words.get(5).is_none_or(|part| shown.contains(part)) {
            writeln!(told, "expected {one}:\n{shown}").unwrap();
        }
    }
}

fn findings(outcome: &serde_json::Value, point: &Point, form: &str, told: &mut String) {
    let found = outcome["findings"].as_array().unwrap();
    for wanted in &point.finds {
        // Severities of native files may differ with what else is known there.
        let head = wanted.split(" | ").next().unwrap();
        let bare = if form == "sheet" { wanted } else { head.rsplit(' ').next().unwrap() };
        if !found.iter().any(|one| fits(one, bare)) {
            let all: Vec<String> = found
                .iter()
                .map(|one| {
                    format!("{} {} | {}", text(one, "severity"), text(one, "check"), text(one, "title"))
                })
                .collect();
            writeln!(told, "{form}: no finding {wanted}; found: {all:#?}").unwrap();
        }
    }
    for wrong in &point.never {
        for one in found.iter().filter(|one| text(one, "check") == wrong) {
            writeln!(told, "{form}: found {wrong}: {}", text(one, "title")).unwrap();
        }
    }
}

#[test]
fn every_point_is_stated() {
    let folder = Path::new(env!("CARGO_MANIFEST_DIR")).join("tests/points");
    let read = |path: &Path| fs::read_to_string(path).unwrap();
    let bases: BTreeMap<String, Base> = toml::from_str(&read(&folder.join("bases.toml"))).unwrap();
    let mut paths: Vec<_> = fs::read_dir(&folder).unwrap().map(|entry| entry.unwrap().path()).collect();
    paths.sort();
    let mut points = Vec::new();
    for path in paths.iter().filter(|path| !path.ends_with("bases.toml")) {
        let all: Points =
            toml::from_str(&read(path)).unwrap_or_else(|error| panic!("{}: {error}", path.display()));
        points.extend(all.point);
    }
    assert!(points.iter().all(|one| {
        let states = [&one.finds, &one.never, &one.asks, &one.reach].iter().any(|list| !list.is_empty());
        states || !one.rows.is_empty()
    }));
    let wrong: Vec<String> = std::thread::scope(|scope| {
        let (points, bases) = (&points, &bases);
        let runs: Vec<_> = (0..4)
            .map(|first| {
                scope.spawn(move || {
                    let own = points.iter().skip(first).step_by(4);
                    own.map(|point| (point, faults(point, bases)))
                        .filter(|(_, told)| !told.is_empty())
                        .map(|(point, told)| format!("== {}\n{told}", point.say))
                        .collect::<Vec<_>>()
                })
            })
            .collect();
        runs.into_iter().flat_map(|run| run.join().unwrap()).collect()
    });
    assert!(wrong.is_empty(), "{} of {} points:\n{}", wrong.len(), points.len(), wrong.join("\n"));
}
