//! The demo estate: its results, no leaks, and identical runs.

use crate::common::{demo, json, run, trevlin};
use std::collections::BTreeSet;
use std::fs;
use std::path::{Path, PathBuf};
use tempfile::TempDir;

fn files(folder: &Path, found: &mut Vec<PathBuf>) {
    for entry in fs::read_dir(folder).unwrap() {
        let path = entry.unwrap().path();
        if path.is_dir() { files(&path, found) } else { found.push(path) }
    }
}

/// Every secret of the demo, read without Trevlin's own readers: third columns, second lines of password files and
/// the lines of key blocks. Commented-out lines hold secrets too.
fn secrets() -> BTreeSet<String> {
    let mut all = Vec::new();
    files(&demo(), &mut all);
    let mut found = BTreeSet::new();
    for path in all {
        let text = fs::read_to_string(&path).unwrap();
        let name = path.file_name().unwrap().to_string_lossy().into_owned();
        if name.ends_with("-secrets") {
            found.extend(text.lines().filter_map(third_column));
        } else if name.ends_with(".pass") {
            found.extend(text.lines().nth(1).map(String::from));
        }
        if name == "shadow" {
            let hashes =
                text.lines().filter_map(|line| line.split(':').nth(1)).filter(|field| field.starts_with('$'));
            found.extend(hashes.map(str::to_owned));
        }
        if name == "clients.conf" {
            let values = text.lines().filter_map(|line| line.trim().strip_prefix("secret = "));
            found.extend(values.map(|value| value.trim_matches('"').to_owned()));
        }
        if name.ends_with(".netdev") || name == "wg0.conf" {
            let keys = text.lines().filter_map(|line| line.split_once('='));
            let secret = keys.filter(|(key, _)| matches!(key.trim(), "PrivateKey" | "PresharedKey"));
            found.extend(secret.map(|(_, value)| value.trim().to_owned()));
        }
        if name == "swanctl.conf" {
            let values = text.lines().filter_map(|line| line.trim().strip_prefix("secret = "));
            found.extend(values.map(|value| value.trim_matches('"').to_owned()));
        }
        if name == "ipsec.secrets" {
            let values = text.lines().filter_map(|line| line.split_once(" : PSK "));
            found.extend(values.map(|(_, value)| value.trim_matches('"').to_owned()));
        }
        if name == "servers" {
            let values = text.lines().filter(|line| !line.starts_with('#'));
            found.extend(values.filter_map(|line| line.split_whitespace().nth(1)).map(str::to_owned));
        }
        if name == "authorize" {
            let values = text.lines().filter_map(|line| line.split_once("-Password := \""));
            found.extend(values.filter_map(|(_, value)| Some(value.split_once('"')?.0.to_owned())));
        }
        let mut block = false;
        for line in text.lines() {
            // Certificates are public.
            let opens = line.starts_with("-----BEGIN") && !line.contains("CERTIFICATE");
            block = (block || opens) && !line.starts_with("-----END");
            if block && !line.starts_with('-') {
                found.insert(line.to_owned());
            }
        }
    }
    found
}

/// The third word of a line with simple quotes; a leading `#` is skipped.
fn third_column(line: &str) -> Option<String> {
    let mut words = Vec::new();
    let mut rest = line.trim_start_matches('#').trim();
    while !rest.is_empty() {
        let quote = rest.chars().next().filter(|letter| matches!(letter, '"' | '\''));
        let (word, after) = match quote {
            Some(quote) => rest[1..].split_once(quote)?,
            None => rest.split_once([' ', '\t']).unwrap_or((rest, "")),
        };
        words.push(word.to_owned());
        rest = after.trim_start();
    }
    // A comment that is no disabled line is left out.
    let disabled = !line.starts_with('#') || words.get(1).is_some_and(|server| server == "pptp");
    words.into_iter().nth(2).filter(|_| disabled)
}

#[test]
fn no_output_holds_a_secret() {
    let secrets = secrets();
    assert!(secrets.len() > 20, "the demo holds secrets to look for: {}", secrets.len());
    let demo = demo();
    let demo = demo.to_str().unwrap();
    for arguments in [
        &["audit", demo][..],
        &["audit", demo, "-v"],
        &["audit", demo, "-q"],
        &["audit", demo, "--color", "always"],
        &["audit", demo, "--format", "json"],
        &["logins", demo],
        &["logins", demo, "--format", "json"],
        &["tunnels", demo],
        &["tunnels", demo, "--detail", "e"],
        &["tunnels", demo, "--format", "json"],
        &["rules", demo],
        &["rules", demo, "--format", "json"],
        &["rules", demo, "--format", "csv"],
        &["addresses", demo],
        &["addresses", demo, "--format", "json"],
        &["addresses", demo, "--format", "csv"],
        &["demo"],
        &["checks", "secrets/weak-login-password"],
    ] {
        let (out, err, _) = run(arguments);
        for secret in &secrets {
            assert!(!out.contains(secret.as_str()) && !err.contains(secret.as_str()), "{arguments:?}");
        }
    }
}

#[test]
fn five_areas_with_evidence() {
    let outcome = json(&demo(), &[]);
    assert_eq!(outcome["schema"], "trevlin-audit/1");
    let mut areas = BTreeSet::new();
    for finding in outcome["findings"].as_array().unwrap() {
        areas.insert(finding["area"].as_str().unwrap().to_owned());
        let first = &finding["evidence"][0];
        let text = fs::read_to_string(demo().join(first["path"].as_str().unwrap())).unwrap();
        let line = first["line"].as_u64().unwrap() as usize;
        assert!(line >= 1 && line <= text.lines().count(), "{finding}");
    }
    let wanted = ["addresses", "exposure", "logins", "rules", "secrets", "tunnels", "upkeep"];
    assert!(wanted.iter().all(|area| areas.contains(*area)), "{areas:?}");
}

#[test]
fn two_runs_are_alike_byte_for_byte() {
    let demo = demo();
    let demo = demo.to_str().unwrap();
    for arguments in [&["audit", demo, "--format", "json"][..], &["audit", demo, "-v"]] {
        assert_eq!(run(arguments), run(arguments), "{arguments:?}");
    }
}

#[test]
fn the_text_is_as_it_was() {
    // Commands are printed with the given path.
    let output = trevlin(&["audit", "before"]).current_dir(demo().parent().unwrap()).output().unwrap();
    insta::assert_snapshot!(String::from_utf8(output.stdout).unwrap());
}

#[test]
fn the_demo_is_in_the_program() {
    let (out, err, status) = run(&["demo"]);
    assert_eq!((status, err.as_str()), (0, ""));
    let folder =
        out.lines().find_map(|line| line.strip_prefix("The demo estate is in ")).expect("says where it is");
    let again = run(&["audit", folder]).0;
    assert!(out.starts_with(&again), "the demo shows what its audit shows");
    fs::remove_dir_all(Path::new(folder).parent().unwrap()).unwrap();
}

#[test]
fn written_where_it_is_told_and_never_over_something() {
    let folder = TempDir::new().unwrap();
    let into = folder.path().join("estate");
    let into = into.to_str().unwrap();
    let (out, _, status) = run(&["demo", "--into", into]);
    assert_eq!(status, 0);
    assert!(out.contains("trevlin audit"), "{out}");
    let (mut here, mut there) = (Vec::new(), Vec::new());
    files(&demo(), &mut here);
    files(&Path::new(into).join("before"), &mut there);
    assert_eq!(here.len(), there.len());
    fs::write(Path::new(into).join("before/trevlin.toml"), "# mine\n").unwrap();
    let (_, err, status) = run(&["demo", "--into", into]);
    assert_eq!(status, 2);
    assert!(err.contains("--force"), "{err}");
    assert_eq!(fs::read_to_string(Path::new(into).join("before/trevlin.toml")).unwrap(), "# mine\n");
    trevlin(&["demo", "--into", into, "--force"]).assert().success();
}
