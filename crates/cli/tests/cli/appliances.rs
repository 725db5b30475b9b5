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

/// A phrasebook without each of its phrases in turn, with the one that is missing.
fn without_each(text: &str) -> Vec<(String, String)> {
    let pieces: Vec<&str> = text.split("[[phrase]]").collect();
    let lacking = |missing: usize| {
        let piece = pieces[missing];
        // What follows the last phrase stays.
        let mut tables = piece.match_indices("\n[").map(|(at, _)| at + 1);
        let rest = tables.find(|at| !piece[*at..].starts_with("[phrase")).map_or("", |at| &piece[at..]);
        let of_piece = |(at, piece): (usize, &&str)| match at {
            0 => (*piece).to_owned(),
            at if at == missing => rest.to_owned(),
            _ => format!("[[phrase]]{piece}"),
        };
        (piece.trim().to_owned(), pieces.iter().enumerate().map(of_piece).collect())
    };
    (1..pieces.len()).map(lacking).collect()
}

/// Verdicts that become firmer, or more open, where a phrase of a book is missing.
fn firmer(files: &[(String, String)], book: &str, flows: &str) -> (Vec<String>, Vec<String>) {
    let estate = |text: &str| {
        let all: Vec<(&str, &str)> = files
            .iter()
            .map(|(path, own)| (path.as_str(), if path == book { text } else { own.as_str() }))
            .collect();
        folder(&all)
    };
    let (_, text) = files.iter().find(|(path, _)| path == book).unwrap();
    let whole = verdicts(estate(text).path(), flows);
    let compared = |(phrase, text): &(String, String)| {
        let kept = estate(text);
        let (told, ..) = run(&["phrasebook", "check", kept.path().join(book).to_str().unwrap()]);
        assert!(!told.contains("TOML"), "without {phrase}: {told}");
        let pairs = whole.iter().zip(verdicts(kept.path(), flows)).enumerate();
        let worse = pairs.filter(|(_, (before, after))| {
            after == "allowed" && *before != "allowed" || after == "blocked" && *before == "depends"
        });
        let told = worse.map(|(row, (before, after))| {
            format!("row {}: {before} became {after} without\n{phrase}", row + 2)
        });
        told.collect::<Vec<_>>()
    };
    let wrong = without_each(text).par_iter().flat_map_iter(compared).collect();
    (whole, wrong)
}

/// The text files of a folder, by their path in it.
fn texts(folder: &Path) -> Vec<(String, String)> {
    let files = walkdir::WalkDir::new(folder).sort_by_file_name().into_iter().map(Result::unwrap);
    let text = |path: &Path| {
        let name = path.strip_prefix(folder).unwrap().to_str().unwrap().to_owned();
        Some((name, std::fs::read_to_string(path).ok()?))
    };
    files.filter(|entry| entry.file_type().is_file()).filter_map(|entry| text(entry.path())).collect()
}

/// Without any one phrase nothing that was not certain is certain, and nothing that was blocked is allowed: a statement that is not
/// understood leaves open what it may be about.
#[test]
fn a_missing_phrase_makes_nothing_certain() {
    let mut known = std::collections::BTreeSet::new();
    for (path, _) in appliances() {
        let files = texts(&path.join("estate"));
        let (book, _) = files.iter().find(|(name, _)| name.starts_with("phrasebooks/")).unwrap();
        let (whole, wrong) = firmer(&files, book, path.join("flows.csv").to_str().unwrap());
        assert!(wrong.is_empty(), "{}:\n{}", path.display(), wrong.join("\n"));
        known.extend(whole);
    }
    for verdict in ["allowed", "blocked"] {
        assert!(known.contains(verdict), "{known:?}");
    }
}

/// The same for the phrasebooks of the demo: an appliance that translates addresses and has a tunnel, a router whose lists are of
/// ports, and a storage appliance.
#[test]
fn nor_does_one_of_the_demo() {
    let all = texts(&crate::common::demo());
    for (book, devices, rows) in [
        (
            "sluice-keeper.toml",
            &["south-gate/", "harbour-edge/", "quay-storage/"][..],
            "10.20.20.5,,10.20.4.20,tcp,22\n10.20.20.5,,10.20.4.20,tcp,443\n10.20.20.5,,192.0.2.18,tcp,443\n\
             10.20.21.5,,192.0.2.18,tcp,443\n10.20.21.5,,10.20.4.20,tcp,5432\n10.20.21.5,,10.20.20.20,tcp,9100\n\
             10.20.22.20,,10.20.20.5,tcp,22\noutside,,203.0.113.18,tcp,8443\n198.51.100.200,,203.0.113.18,tcp,22\n\
             outside,,203.0.113.18,tcp,3390\n",
        ),
        (
            "islelink.toml",
            &["island-link/", "harbour-edge/", "quay-storage/"],
            "outside,,198.51.100.90,tcp,23\noutside,,198.51.100.90,tcp,80\noutside,,10.20.24.30,tcp,445\n\
             10.20.24.30,,10.20.24.1,tcp,80\n10.20.24.30,,10.20.25.1,tcp,23\n10.20.24.30,,10.20.25.9,tcp,22\n\
             10.20.25.9,,10.20.24.30,tcp,22\n10.20.24.30,,10.20.4.20,tcp,443\n10.20.4.20,,10.20.24.30,tcp,3389\n\
             10.20.25.9,,10.20.4.20,tcp,443\n10.20.24.30,,192.0.2.18,tcp,443\n10.20.25.9,,10.20.25.1,udp,161\n",
        ),
        (
            "vault.toml",
            &["camera-vault/", "harbour-edge/", "quay-storage/"],
            "10.20.4.20,,10.20.4.31,tcp,445\n10.20.4.20,,10.20.4.31,tcp,80\n10.20.6.9,,10.20.6.30,tcp,2049\n\
             10.20.4.20,,10.20.4.31,tcp,2049\n10.20.6.9,,10.20.4.31,tcp,22\n10.20.6.9,,10.20.4.20,tcp,22\n\
             outside,,10.20.4.31,tcp,445\n",
        ),
    ] {
        let rows = format!("from,entering,to,proto,port\n{rows}");
        let kept = folder(&[("flows.csv", &rows)]);
        let book = format!("phrasebooks/{book}");
        let of_device = |name: &str| {
            devices.iter().any(|part| name.starts_with(part)) || name == book || name == "trevlin.toml"
        };
        let files: Vec<(String, String)> = all.iter().filter(|(name, _)| of_device(name)).cloned().collect();
        let (whole, wrong) = firmer(&files, &book, kept.path().join("flows.csv").to_str().unwrap());
        assert!(
            whole.iter().any(|one| one == "blocked") && whole.iter().any(|one| one == "allowed"),
            "{book}: {whole:?}"
        );
        assert!(wrong.is_empty(), "{book}:\n{}", wrong.join("\n"));
    }
}

/// A program may write JSON on one line, and letters as escapes.
#[test]
fn json_on_one_line_has_the_same_findings() {
    let path = Path::new(env!("CARGO_MANIFEST_DIR")).join("tests/appliances/granary/estate");
    let findings = |files: &[(String, String)]| {
        let all: Vec<(&str, &str)> =
            files.iter().map(|(path, text)| (path.as_str(), text.as_str())).collect();
        let kept = folder(&all);
        let (told, ..) = run(&["audit", kept.path().to_str().unwrap(), "--quiet"]);
        // Without the line, which is another one.
        let mut titles: Vec<String> = told
            .lines()
            .filter_map(|line| Some(line.split_once(".json:")?.1.split_once("  ")?.1.to_owned()))
            .collect();
        titles.sort();
        titles
    };
    let mut files = texts(&path);
    let before = findings(&files);
    assert!(before.len() > 20, "{before:?}");
    let (_, text) = files.iter_mut().find(|(name, _)| name.ends_with(".json")).unwrap();
    let value: serde_json::Value = serde_json::from_str(text).unwrap();
    *text = value.to_string().replace("\"harvest\"", r#""h\u00e4rvest""#);
    let wanted: Vec<String> = before.iter().map(|title| title.replace("harvest", "härvest")).collect();
    assert_eq!(findings(&files), wanted);
}

/// A phrasebook that is for none of the files is named, since its appliance would be missing.
#[test]
fn a_phrasebook_without_an_export_is_reported() {
    let path = Path::new(env!("CARGO_MANIFEST_DIR")).join("tests/appliances/granary/estate");
    let mut files = texts(&path);
    let (_, text) = files.iter_mut().find(|(name, _)| name.ends_with(".json")).unwrap();
    *text = text.replace("edition", "issue");
    let all: Vec<(&str, &str)> = files.iter().map(|(path, text)| (path.as_str(), text.as_str())).collect();
    let kept = folder(&all);
    let (_, told, status) = run(&["audit", kept.path().to_str().unwrap()]);
    assert!(status != 0 && told.contains("recognises no file of the estate"), "{told}");
}

/// A phrasebook up to its first phrase, with one that fits nothing.
fn without_phrases(book: &str) -> String {
    let text = std::fs::read_to_string(book).unwrap();
    let (head, _) = text.split_once("[[phrase]]").unwrap();
    let head = head.split("\n[values").next().unwrap();
    format!("{head}\n[[phrase]]\nsays = \"nothing of this kind\"\n")
}
