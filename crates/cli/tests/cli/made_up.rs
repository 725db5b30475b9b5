//! Generated estates: their faults are known, and exactly these are found.

use crate::common::run;
use std::fs;
use tempfile::TempDir;
use xtask::estate::{Made, estate_file};
use xtask::{Difference, Expected, Maker};

/// Audits an estate and compares the findings with the expected ones.
fn found(folder: &TempDir, expected: &[Expected], more: &[&str]) -> String {
    let path = folder.path().to_string_lossy();
    let arguments = [&["audit", &*path, "--format", "json"], more].concat();
    let (out, errors, status) = run(&arguments);
    assert_eq!(status, 0, "{errors}");
    let expected = serde_json::to_vec(expected).expect("JSON");
    let difference = Difference::of(&expected, out.as_bytes()).expect("an audit");
    assert!(difference.is_none(), "{difference}");
    out
}

#[test]
fn each_fault_is_found_and_nothing_else() {
    let folder = TempDir::new().expect("a temporary folder");
    let made = Maker::new(1).expect("kinds of devices").every_fault().expect("devices");
    assert!(made.len() > 70, "{}", made.len());
    let written = made.into_iter().map(|one: Made| one.write(folder.path()).expect("written"));
    let expected = estate_file(folder.path(), written.collect()).expect("written");
    found(&folder, &expected, &[]);
}

#[test]
fn an_estate_of_a_seed_has_what_was_put_into_it_however_many_work_on_it() {
    let folder = TempDir::new().expect("a temporary folder");
    let maker = Maker::new(7).expect("kinds of devices");
    let expected = maker.write(60, folder.path()).expect("written");
    assert!(expected.len() > 60, "{}", expected.len());
    let alone = found(&folder, &expected, &["--jobs", "1"]);
    assert_eq!(alone, found(&folder, &expected, &["-j", "3"]));
    // The same seed gives the same estate.
    let again = TempDir::new().expect("a temporary folder");
    assert_eq!(maker.write(60, again.path()).expect("written"), expected);
    let text = |folder: &TempDir, name: &str| fs::read_to_string(folder.path().join(name)).expect("a file");
    assert_eq!(text(&folder, "trevlin.toml"), text(&again, "trevlin.toml"));
    assert_eq!(text(&folder, &expected[0].path), text(&again, &expected[0].path));
}

#[test]
fn no_work_can_be_done_by_nobody() {
    let (_, errors, status) = run(&["audit", ".", "--jobs", "0"]);
    assert_eq!(status, 2);
    assert!(errors.contains("--jobs <N>"), "{errors}");
}
