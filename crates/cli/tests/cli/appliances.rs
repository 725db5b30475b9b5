//! Invented appliances, each with a phrasebook: every fact that was written down about one comes out, and no secret does.

use crate::common::{folder, run};
use rayon::prelude::*;
use serde::Deserialize;
use std::path::{Path, PathBuf};

#[derive(Deserialize)]
struct Appliance {
    secrets: Vec<String>,
    fact: Vec<Fact>,
}

#[derive(Deserialize)]
struct Fact {
    says: String,
    run: String,
    has: Vec<String>,
    #[serde(default)]
    lacks: Vec<String>,
}

fn appliances() -> Vec<(PathBuf, Appliance)> {
    let root = Path::new(env!("CARGO_MANIFEST_DIR")).join("tests/appliances");
    let mut found: Vec<PathBuf> = root.read_dir().unwrap().map(|one| one.unwrap().path()).collect();
    found.sort();
    let read = |path: PathBuf| {
        let facts = std::fs::read_to_string(path.join("facts.toml")).unwrap();
        (path, toml::from_str(&facts).unwrap())
    };
    found.into_iter().map(read).collect()
}

/// The phrasebook of an appliance, and its exports.
fn parts(path: &Path) -> (PathBuf, Vec<PathBuf>) {
    let estate = path.join("estate");
    let all = |folder: &Path| {
        let mut found: Vec<PathBuf> = folder.read_dir().unwrap().map(|one| one.unwrap().path()).collect();
        found.sort();
        found
    };
    let book = all(&estate.join("phrasebooks")).remove(0);
    let device = all(&estate).into_iter().find(|one| !one.ends_with("phrasebooks")).unwrap();
    (book, all(&device))
}

#[test]
fn every_fact_comes_out() {
    for (path, appliance) in appliances() {
        let estate = path.join("estate");
        assert!(appliance.fact.len() >= 15, "{}", path.display());
        for fact in &appliance.fact {
            let mut arguments: Vec<&str> = fact.run.split(' ').collect();
            arguments.insert(1, estate.to_str().unwrap());
            let (told, ..) = run(&arguments);
            for wanted in &fact.has {
                assert!(
                    told.contains(wanted),
                    "{}: {}: `{wanted}` is missing\n{told}",
                    path.display(),
                    fact.says
                );
            }
            for unwanted in &fact.lacks {
                assert!(!told.contains(unwanted), "{}: {}: `{unwanted}`\n{told}", path.display(), fact.says);
            }
        }
    }
}

#[test]
fn every_statement_is_taken_and_no_secret_is_shown() {
    for (path, appliance) in appliances() {
        let (book, exports) = parts(&path);
        let book = book.to_str().unwrap();
        let (told, _, status) = run(&["phrasebook", "check", book]);
        assert_eq!(status, 0, "{told}");
        let mut arguments = vec!["phrasebook", "try", book];
        arguments.extend(exports.iter().map(|export| export.to_str().unwrap()));
        let (told, _, status) = run(&arguments);
        assert_eq!(status, 0, "{told}");
        // A phrasebook that understands nothing shows no secret either.
        let kept = folder(&[("book.toml", &without_phrases(book))]);
        let bare = kept.path().join("book.toml");
        arguments[2] = bare.to_str().unwrap();
        let (untaken, ..) = run(&arguments);
        assert!(untaken.contains(" unmatched"), "{untaken}");
        let scrubbed = [scrubbed(&path.join("estate")), scrubbed(&with_book(&bare, &exports))];
        for secret in &appliance.secrets {
            for text in [&told, &untaken, &scrubbed[0], &scrubbed[1]] {
                assert!(!text.contains(secret.as_str()), "{}: {secret} is shown\n{text}", path.display());
            }
        }
    }
}

/// A folder beside a phrasebook with exports and that phrasebook.
fn with_book(book: &Path, exports: &[std::path::PathBuf]) -> std::path::PathBuf {
    let estate = book.parent().unwrap().join("estate");
    std::fs::create_dir_all(estate.join("phrasebooks")).unwrap();
    std::fs::create_dir_all(estate.join("device")).unwrap();
    std::fs::copy(book, estate.join("phrasebooks/book.toml")).unwrap();
    for export in exports {
        std::fs::copy(export, estate.join("device").join(export.file_name().unwrap())).unwrap();
    }
    estate
}

/// All files of an estate after `scrub`, but for its phrasebooks.
fn scrubbed(estate: &Path) -> String {
    let into = tempfile::tempdir().unwrap();
    let target = into.path().join("copy");
    let (told, errors, status) =
        run(&["scrub", estate.to_str().unwrap(), "--into", target.to_str().unwrap()]);
    assert_eq!(status, 0, "{told} {errors}");
    let files = walkdir::WalkDir::new(&target).into_iter().map(Result::unwrap);
    let texts: Vec<String> = files
        .filter(|entry| entry.file_type().is_file())
        .map(|entry| std::fs::read_to_string(entry.path()).unwrap())
        .collect();
    assert!(!texts.is_empty(), "{told} {errors}");
    texts.concat()
}

/// Verdicts of connections between these places, in a fixed order.
fn verdicts(estate: &Path, flows: &str) -> Vec<String> {
    let (told, errors, _) = run(&["reach", estate.to_str().unwrap(), "--flows", flows, "--format", "json"]);
    let rows: serde_json::Value =
        serde_json::from_str(&told).unwrap_or_else(|why| panic!("{why}: {told} {errors}"));
    let rows = rows.as_array().unwrap_or_else(|| panic!("{rows}"));
    rows.iter().map(|row| row["verdict"].as_str().unwrap_or("error").to_owned()).collect()
}

/// Without any one phrase nothing that was not certain is certain, and nothing that was blocked is allowed: a statement that is not
/// understood leaves open what it may be about.
#[test]
fn a_missing_phrase_makes_nothing_certain() {
    let mut known = std::collections::BTreeSet::new();
    for (path, _) in appliances() {
        let flows = path.join("flows.csv");
        let flows = flows.to_str().unwrap();
        let (book, exports) = parts(&path);
        let text = std::fs::read_to_string(&book).unwrap();
        let whole = verdicts(&path.join("estate"), flows);
        known.extend(whole.iter().cloned());
        let device = exports[0].parent().unwrap().file_name().unwrap().to_str().unwrap();
        let contents: Vec<(String, String)> = exports
            .iter()
            .map(|export| {
                let name = export.file_name().unwrap().to_str().unwrap();
                (format!("{device}/{name}"), std::fs::read_to_string(export).unwrap())
            })
            .collect();
        let pieces: Vec<&str> = text.split("[[phrase]]").collect();
        let wrong = std::sync::Mutex::new(Vec::new());
        let lack = |missing: usize| {
            // What follows the last phrase stays.
            let rest =
                pieces[missing].split_once("\n[").map_or(String::new(), |(_, rest)| format!("[{rest}"));
            let without: String = pieces
                .iter()
                .enumerate()
                .map(|(at, piece)| match at {
                    0 => (*piece).to_owned(),
                    at if at == missing => rest.clone(),
                    _ => format!("[[phrase]]{piece}"),
                })
                .collect();
            let mut files = vec![("phrasebooks/book.toml", without.as_str())];
            files.extend(contents.iter().map(|(path, text)| (path.as_str(), text.as_str())));
            let kept = folder(&files);
            for (flow, (before, after)) in whole.iter().zip(verdicts(kept.path(), flows)).enumerate() {
                let firmer =
                    after == "allowed" && before != "allowed" || after == "blocked" && before == "depends";
                if firmer {
                    let row = flow + 2;
                    wrong
                        .lock()
                        .unwrap()
                        .push(format!("row {row}: {before} became {after} without{}", pieces[missing]));
                }
            }
        };
        (1..pieces.len()).into_par_iter().for_each(lack);
        let wrong = wrong.into_inner().unwrap();
        assert!(wrong.is_empty(), "{}:\n{}", path.display(), wrong.join("\n"));
    }
    for verdict in ["allowed", "blocked"] {
        assert!(known.contains(verdict), "{known:?}");
    }
}

/// A phrasebook up to its first phrase, with one that fits nothing.
fn without_phrases(book: &str) -> String {
    let text = std::fs::read_to_string(book).unwrap();
    let (head, _) = text.split_once("[[phrase]]").unwrap();
    let head = head.split("\n[values").next().unwrap();
    format!("{head}\n[[phrase]]\nsays = \"nothing of this kind\"\n")
}
