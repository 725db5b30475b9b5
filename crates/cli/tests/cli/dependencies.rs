//! Dependencies of the program: documented, from one registry, under permitted licences, and no more versions than known.

use serde_json::Value;
use std::collections::{BTreeMap, BTreeSet};
use std::fs;
use std::path::{Path, PathBuf};
use std::process::Command;

fn top() -> PathBuf {
    Path::new(env!("CARGO_MANIFEST_DIR")).join("../..")
}

/// All packages of the build on this system, according to Cargo; nothing is fetched.
fn metadata() -> Value {
    let host = String::from_utf8(Command::new("rustc").arg("-vV").output().unwrap().stdout).unwrap();
    let host = host.lines().find_map(|line| line.strip_prefix("host: ")).unwrap().to_owned();
    let output = Command::new(env!("CARGO"))
        .args(["metadata", "--format-version", "1", "--locked", "--offline", "--filter-platform", &host])
        .current_dir(top())
        .output()
        .unwrap();
    assert!(output.status.success(), "{}", String::from_utf8_lossy(&output.stderr));
    serde_json::from_slice(&output.stdout).unwrap()
}

fn text(one: &Value, key: &str) -> String {
    one[key].as_str().unwrap_or_default().to_owned()
}

/// The part of the document under a heading.
fn part(heading: &str) -> String {
    let document = fs::read_to_string(top().join("docs/dependencies.md")).unwrap();
    let from = document.find(&format!("## {heading}\n")).unwrap();
    let rest = &document[from + 3..];
    rest[..rest.find("\n## ").unwrap_or(rest.len())].to_owned()
}

/// Names in the first column of a table, each with a reason in the next.
fn rows(heading: &str) -> BTreeSet<String> {
    let named = |line: &str| {
        let cells: Vec<&str> = line.trim_matches('|').split('|').map(str::trim).collect();
        assert!(cells.len() == 2 && cells[1].len() > 4, "no reason: {line}");
        cells[0].to_owned()
    };
    part(heading).lines().filter(|line| line.starts_with("| ")).skip(2).map(named).collect()
}

#[test]
fn each_has_a_reason() {
    let metadata = metadata();
    let ours: Vec<&str> =
        metadata["workspace_members"].as_array().unwrap().iter().filter_map(Value::as_str).collect();
    let mut wanted: BTreeMap<bool, BTreeSet<String>> = BTreeMap::new();
    for package in metadata["packages"].as_array().unwrap() {
        if !ours.contains(&package["id"].as_str().unwrap()) {
            continue;
        }
        for one in package["dependencies"].as_array().unwrap().iter().filter(|one| one["path"].is_null()) {
            // Optional dependencies behind a feature are not built for the program, which enables none.
            let beside = one["kind"] == "dev" || one["optional"] == true;
            wanted.entry(beside).or_default().insert(text(one, "name"));
        }
    }
    let in_program = wanted.remove(&false).unwrap();
    let for_tests: BTreeSet<String> =
        wanted.remove(&true).unwrap().difference(&in_program).cloned().collect();
    assert_eq!(rows("In the program"), in_program);
    assert_eq!(rows("For tests and measuring"), for_tests);
}

#[test]
fn licences_sources_and_versions_are_known() {
    let metadata = metadata();
    let allowed = part("Licences");
    let allowed: BTreeSet<&str> = allowed.split('`').skip(1).step_by(2).collect();
    let mut versions: BTreeMap<String, usize> = BTreeMap::new();
    for package in metadata["packages"].as_array().unwrap() {
        let (name, licence, source) =
            (text(package, "name"), text(package, "license"), text(package, "source"));
        assert!(source.is_empty() || source.starts_with("registry+"), "{name} comes from {source}");
        // Of licences joined with OR one must be permitted, and of those joined with AND all.
        let plain = licence.replace('/', " OR ").replace("  ", " ");
        let fits = plain.split(" AND ").all(|all| {
            all.trim_matches(['(', ')', ' '])
                .split(" OR ")
                .any(|one| allowed.contains(one.trim_matches(['(', ')', ' '])))
        });
        assert!(fits, "{name} is under `{licence}`");
        *versions.entry(name).or_default() += 1;
    }
    let twice: Vec<String> =
        versions.into_iter().filter(|(_, count)| *count > 1).map(|(name, _)| name).collect();
    let known = part("Packages in two versions");
    let known = known.rsplit("\n\n").next().unwrap().replace('\n', " ");
    let known: Vec<String> = known.split(',').map(|name| name.trim().to_owned()).collect();
    assert_eq!(twice, known);
}

#[test]
fn no_crate_of_ours_may_be_unsafe() {
    let whole = fs::read_to_string(top().join("Cargo.toml")).unwrap();
    assert!(whole.contains("unsafe_code = \"forbid\""));
    for entry in fs::read_dir(top().join("crates")).unwrap() {
        let manifest = fs::read_to_string(entry.unwrap().path().join("Cargo.toml")).unwrap();
        assert!(manifest.contains("[lints]\nworkspace = true"), "{manifest}");
    }
}

/// The dependencies in docs/architecture.md are those of the manifests.
#[test]
fn the_picture_of_the_crates_is_true() {
    let root = Path::new(env!("CARGO_MANIFEST_DIR")).join("../..");
    let page = fs::read_to_string(root.join("docs/architecture.md")).unwrap();
    let table = page.split("| crate | knows |").nth(1).unwrap();
    let mut seen = BTreeSet::new();
    for row in table.lines().skip(2).take_while(|line| line.starts_with('|')) {
        let mut cells = row.trim_matches('|').split('|').map(|cell| cell.replace('`', "").trim().to_owned());
        let (name, knows) = (cells.next().unwrap(), cells.next().unwrap());
        let said: BTreeSet<String> =
            knows.split(", ").filter(|one| *one != "-").map(|one| format!("trevlin-{one}")).collect();
        let manifest = fs::read_to_string(root.join(format!("crates/{name}/Cargo.toml"))).unwrap();
        let manifest: toml::Table = manifest.parse().unwrap();
        let own = manifest.get("dependencies").and_then(toml::Value::as_table).unwrap();
        // Code behind a feature is for the tests of other crates.
        let built = own.iter().filter(|(_, how)| how.get("optional").is_none());
        let own: BTreeSet<String> =
            built.map(|(one, _)| one.clone()).filter(|one| one.starts_with("trevlin-")).collect();
        assert_eq!(said, own, "{name}");
        let above: BTreeSet<String> = seen.iter().map(|one| format!("trevlin-{one}")).collect();
        assert!(own.is_subset(&above), "{name} knows a crate that does not stand above it: {own:?}");
        seen.insert(name);
    }
    let crates = fs::read_dir(root.join("crates")).unwrap().map(|one| one.unwrap().file_name());
    let all: BTreeSet<String> = crates.map(|one| one.to_string_lossy().into_owned()).collect();
    seen.insert("xtask".to_owned());
    assert_eq!(seen, all);
}
