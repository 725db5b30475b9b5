//! Comparison of two audits with the built program.

use crate::common::{demo, folder, run};
use std::fs;
use std::path::Path;
use tempfile::TempDir;

fn after() -> String {
    Path::new(env!("CARGO_MANIFEST_DIR")).join("../../demo/after").to_string_lossy().into_owned()
}

fn before() -> String {
    demo().to_string_lossy().into_owned()
}

fn json(old: &str, new: &str) -> (serde_json::Value, i32) {
    let (out, err, code) = run(&["compare", old, new, "--format", "json"]);
    (serde_json::from_str(&out).unwrap_or_else(|_| panic!("{err}")), code)
}

fn count(found: &serde_json::Value, key: &str) -> usize {
    found[key].as_array().unwrap().len()
}

#[test]
fn the_demo_tells_its_story_in_under_a_screen() {
    let (out, err, code) = run(&["compare", &before(), &after()]);
    assert_eq!((code, err.as_str()), (1, ""));
    assert!(out.lines().count() <= 42, "{out}");
    assert!(out.lines().all(|line| line.chars().count() <= 100), "{out}");
    for part in [
        "critical 13 -> 1",
        "Temporary rule in effect: TEMP portal for the cra",
        "now accepted: GRE north",
        "protected now, weak before: south-gate: gangway crews at tcp 8444",
        "newly reachable: web site storage.veyholm.example (nginx) at tcp 8444",
        "the file dial-in/etc/pptpd.conf is missing from the new exports: PPTP server is",
        "6 x Weak login password",
    ] {
        assert!(out.contains(part), "{part}: {out}");
    }
    let (whole, _, _) = run(&["compare", &before(), &after(), "--all"]);
    assert!(
        whole.contains("no longer reachable: PPTP server at gre, tcp 1723 on dial-in (unprotected)"),
        "{whole}"
    );
    assert!(whole.lines().count() > out.lines().count() && !whole.contains("  and "), "{whole}");
}

#[test]
fn every_finding_has_one_fate() {
    let (found, _) = json(&before(), &after());
    assert_eq!(found["schema"], "trevlin-compare/1");
    let audit = |path: &str| -> usize {
        let (out, _, _) = run(&["audit", path, "--format", "json"]);
        let audit: serde_json::Value = serde_json::from_str(&out).unwrap();
        audit["findings"].as_array().unwrap().len()
    };
    let kept = count(&found, "changed") + count(&found, "moved") + count(&found, "still");
    assert_eq!(audit(&before()), count(&found, "fixed") + count(&found, "unseen") + kept);
    assert_eq!(audit(&after()), count(&found, "new") + kept);
}

#[test]
fn saved_results_say_the_same_of_findings() {
    let saved = TempDir::new().unwrap();
    let file = |name: &str| saved.path().join(name).to_string_lossy().into_owned();
    for (path, name) in [(before(), "old.json"), (after(), "new.json")] {
        let (out, _, _) = run(&["audit", &path, "--format", "json"]);
        fs::write(file(name), out).unwrap();
    }
    let (mut of_estates, _) = json(&before(), &after());
    let (mut of_files, _) = json(&file("old.json"), &file("new.json"));
    assert!(of_files["exposure"].take().is_null() && of_estates["exposure"].take().is_object());
    assert_eq!(of_files, of_estates);
    let (same, _, code) = run(&["compare", &file("old.json"), &before()]);
    assert!(code == 0 && same.contains("Exposure is not compared"), "{same}");
    assert!(!same.contains("FIXED") && !same.contains("NEW"), "{same}");

    let (out, _, _) = run(&["audit", &before(), "--format", "json"]);
    fs::write(file("half.json"), &out[..out.len() / 2]).unwrap();
    fs::write(file("other.json"), "{\"schema\": \"trevlin-rules/1\"}").unwrap();
    fs::write(file("empty.json"), "{\"schema\": \"trevlin-audit/1\"}").unwrap();
    for (name, part) in [
        ("half.json", "nothing to audit"),
        ("other.json", "has the schema trevlin-rules/1"),
        ("empty.json", "is not a complete trevlin-audit/1"),
        ("none.json", "nothing to audit"),
    ] {
        let (_, err, code) = run(&["compare", &file(name), &before()]);
        assert!(code == 2 && err.contains(part), "{name}: {err}");
    }
}

#[test]
fn what_is_worse_sets_the_exit_status() {
    let weak = folder(&[("gate/etc/snmp/snmpd.conf", "rocommunity public\n")]);
    let good = folder(&[("gate/etc/snmp/snmpd.conf", "rouser ann priv\n")]);
    let path = |one: &TempDir| one.path().to_string_lossy().into_owned();
    for (old, new, more, wanted) in [
        (&good, &weak, &[][..], 1),
        (&weak, &good, &[], 0),
        (&weak, &weak, &[], 0),
        (&good, &weak, &["--fail-on", "critical"], 0),
        (&good, &weak, &["--fail-on", "high"], 1),
    ] {
        let (old, new) = (path(old), path(new));
        let arguments: Vec<&str> = ["compare", &old, &new].into_iter().chain(more.iter().copied()).collect();
        let (out, _, code) = run(&arguments);
        assert_eq!(code, wanted, "{out}");
    }
}

#[test]
fn names_of_an_export_take_no_effect() {
    let hostile = "rocommunity public\nsysLocation x\n";
    let name = "a|b<script>alert(1)</script>";
    let file = format!("[device.gate]\nname = \"{name}\\u001b[31m\"\n");
    let old = folder(&[("gate/etc/snmp/snmpd.conf", "rouser ann priv\n")]);
    let new = folder(&[("gate/etc/snmp/snmpd.conf", hostile), ("trevlin.toml", &file)]);
    let (old, new) = (old.path().to_str().unwrap(), new.path().to_str().unwrap());
    for format in ["text", "json", "markdown"] {
        let (out, _, _) = run(&["compare", old, new, "--format", format]);
        assert!(!out.contains('\u{1b}') && out.contains("1b"), "{format}: {out}");
        assert!(format != "markdown" || (!out.contains("<script>") && !out.contains("a|b")), "{out}");
    }
}
