//! Pages that are made from the program itself: checks, formats, completions. To bring them up to date, run the tests with
//! TREVLIN_UPDATE_README=1 and look at the change.

use crate::common::run;
use std::collections::BTreeMap;
use std::fs;
use std::path::{Path, PathBuf};
use trevlin_audit::checks::CHECKS;
use trevlin_readers::READERS;

fn docs() -> PathBuf {
    Path::new(env!("CARGO_MANIFEST_DIR")).join("../../docs")
}

/// Files below a folder, by path.
fn files(folder: &Path) -> BTreeMap<String, String> {
    let mut found = BTreeMap::new();
    let mut open = vec![folder.to_owned()];
    while let Some(one) = open.pop() {
        for entry in fs::read_dir(&one).into_iter().flatten().flatten() {
            let path = entry.path();
            if path.is_dir() {
                open.push(path);
            } else {
                let name = path.strip_prefix(folder).unwrap().to_string_lossy().into_owned();
                found.insert(name, fs::read_to_string(&path).unwrap());
            }
        }
    }
    found
}

#[test]
fn every_check_has_its_page() {
    let mut wanted: BTreeMap<String, String> =
        CHECKS.iter().map(|check| (format!("{}.md", check.id), trevlin_render::check_page(check))).collect();
    wanted.insert("README.md".into(), trevlin_render::check_index(CHECKS));
    let folder = docs().join("checks");
    if std::env::var_os("TREVLIN_UPDATE_README").is_some() {
        let _ = fs::remove_dir_all(&folder);
        for (name, text) in &wanted {
            let at = folder.join(name);
            fs::create_dir_all(at.parent().unwrap()).unwrap();
            fs::write(at, text).unwrap();
        }
    }
    assert!(files(&folder) == wanted, "docs/checks is stale: run the tests with TREVLIN_UPDATE_README=1");
}

/// The page and the command have the same content, except for the layout.
#[test]
fn the_command_shows_what_stands_in_the_page() {
    let plain = |text: &str| -> Vec<String> {
        text.split_whitespace().map(|word| word.trim_matches(['#', '*', '`']).to_lowercase()).collect()
    };
    for check in CHECKS {
        let (shown, _, status) = run(&["checks", check.id]);
        assert_eq!(status, 0);
        let (shown, page) = (plain(&shown).join(" "), plain(&trevlin_render::check_page(check)).join(" "));
        for part in [check.title, check.why, check.judged, check.fix] {
            let part = plain(part).join(" ");
            assert!(shown.contains(&part), "{}: {part}", check.id);
            assert!(page.contains(&part), "{}: {part}", check.id);
        }
    }
}

#[test]
fn every_format_has_its_row() {
    let text = fs::read_to_string(docs().join("formats.md")).unwrap();
    let named: Vec<&str> = text
        .lines()
        .filter_map(|line| line.strip_prefix("| `"))
        .filter_map(|line| line.split(" | ").next())
        .flat_map(|names| names.split(", "))
        .map(|name| name.trim_matches('`'))
        .collect();
    let mut sorted = named.clone();
    sorted.sort_unstable();
    let readers: Vec<&str> = READERS.iter().map(|reader| reader.name).collect();
    let missing: Vec<_> = readers.iter().filter(|one| !sorted.contains(one)).collect();
    assert!(missing.is_empty(), "docs/formats.md has no row of {missing:?}");
    assert_eq!(sorted, readers);
    let readme = fs::read_to_string(docs().join("../README.md")).unwrap();
    assert!(readme.contains(&format!("[{} formats]", readers.len())));
}

#[test]
fn shells_learn_every_command() {
    for (shell, mark) in
        [("bash", "complete -F _trevlin"), ("zsh", "#compdef trevlin"), ("fish", "complete -c trevlin")]
    {
        let (script, errors, status) = run(&["completions", shell]);
        assert_eq!((errors.as_str(), status), ("", 0));
        assert!(script.contains(mark), "{shell}");
        for word in ["audit", "phrasebook", "fail-on"] {
            assert!(script.contains(word), "{shell}: {word}");
        }
    }
    assert!(run(&["completions", "zhs"]).1.contains("zsh"));
}

#[test]
fn the_version_names_what_was_built() {
    let (version, _, status) = run(&["--version"]);
    assert_eq!(status, 0);
    let rest = version.trim().strip_prefix(concat!("trevlin ", env!("CARGO_PKG_VERSION"))).unwrap();
    let commit = rest.trim().trim_start_matches('(').trim_end_matches(')');
    // Source without a history has no commit.
    assert!(
        commit.is_empty() || (commit.len() == 12 && commit.bytes().all(|byte| byte.is_ascii_hexdigit())),
        "{version}"
    );
    assert_eq!(commit.is_empty(), !docs().join("../.git").exists(), "{version}");
}

/// Every command has examples.
#[test]
fn every_command_has_examples() {
    let (help, _, _) = run(&["--help"]);
    let block = help.split("Commands:\n").nth(1).and_then(|rest| rest.split("\n\n").next()).unwrap();
    let names =
        block.lines().filter_map(|line| line.strip_prefix("  ").filter(|rest| !rest.starts_with(' ')));
    let mut seen = 0;
    for name in names.filter_map(|line| line.split(' ').next()).filter(|name| *name != "help") {
        let inner: &[&str] = match name {
            "sheet" => &["new", "check", "show"],
            "phrasebook" => &["new", "check", "try"],
            _ => &[""],
        };
        for one in inner {
            let arguments: Vec<&str> =
                [name, one, "--help"].into_iter().filter(|word| !word.is_empty()).collect();
            let help = run(&arguments).0;
            assert!(help.contains("Example"), "{arguments:?}: {help}");
            assert!(help.contains(&format!("\n  trevlin {name}")), "{arguments:?}");
            seen += 1;
        }
    }
    assert!(seen > 20, "{seen}");
}
