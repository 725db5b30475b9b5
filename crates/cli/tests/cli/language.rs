//! The language of everything that a client, an auditor or a contributor reads: the words of `language.toml` occur in no output, no
//! help text, no page, no check and no documentation comment.

use crate::common::{demo, run};
use std::collections::BTreeSet;
use std::fmt::Write;
use std::fs;
use std::path::{Path, PathBuf};
use tempfile::TempDir;
use xtask::Maker;
use xtask::estate::estate_file;

struct Table {
    avoid: Vec<Avoid>,
}

/// Words to avoid, with what to write instead.
struct Avoid {
    words: Vec<String>,
    instead: String,
}

fn table() -> Table {
    let table: toml::Table = include_str!("language.toml").parse().unwrap();
    let text = |value: &toml::Value| value.as_str().unwrap().to_owned();
    let entry = |value: &toml::Value| Avoid {
        words: value["words"].as_array().unwrap().iter().map(text).collect(),
        instead: text(&value["instead"]),
    };
    Table { avoid: table["avoid"].as_array().unwrap().iter().map(entry).collect() }
}

/// A text as words in small letters, each with whether it begins a sentence: after a mark, or at the start of a line with a capital
/// letter (a line may continue a sentence). Text in backticks counts as one word that matches nothing.
fn words(text: &str) -> Vec<(String, bool)> {
    let mut found = Vec::new();
    let (mut word, mut begins, mut line, mut ticked) = (String::new(), false, true, false);
    for letter in text.chars().chain([' ']) {
        if letter == '`' {
            ticked = !ticked;
            if ticked {
                found.push(("`".to_owned(), false));
                (begins, line) = (false, false);
            }
        } else if ticked {
        } else if letter.is_alphanumeric() || matches!(letter, '\'' | '-' | '_' | '/' | '=') {
            begins |= line && word.is_empty() && letter.is_uppercase();
            line &= !word.is_empty() || !letter.is_alphanumeric();
            word.extend(letter.to_lowercase());
        } else {
            if !word.is_empty() {
                found.push((std::mem::take(&mut word), begins));
                begins = false;
            }
            if matches!(letter, '.' | '!' | '?' | ':' | ';' | '•' | '|') {
                begins = true;
            }
        }
    }
    found
}

/// The words of the table in a text, with their alternatives; those in `excused` are names of the estate.
fn hits(table: &Table, text: &str, excused: &str) -> Vec<String> {
    let text = words(text);
    let mut found = Vec::new();
    for one in &table.avoid {
        for phrase in &one.words {
            let start = phrase.starts_with("^ ");
            let phrase = phrase.trim_start_matches("^ ");
            let wanted: Vec<&str> = phrase.split(' ').collect();
            let hit = text.windows(wanted.len()).any(|part| {
                part.iter().zip(&wanted).all(|((word, _), wanted)| word == wanted) && (!start || part[0].1)
            });
            if hit && !excused.contains(phrase) {
                found.push(format!("`{phrase}` (instead: {})", one.instead));
            }
        }
    }
    found
}

/// The lines of a text with words of the table.
fn wrong(table: &Table, name: &str, text: &str, excused: &str) -> String {
    let mut out = String::new();
    for (number, line) in (1..).zip(text.lines()) {
        for hit in hits(table, line, excused) {
            writeln!(out, "{name}:{number}: {}: {hit}", line.trim()).unwrap();
        }
    }
    out
}

/// Every file below a folder.
fn files(folder: &Path) -> Vec<PathBuf> {
    let mut found = Vec::new();
    for entry in fs::read_dir(folder).unwrap() {
        let path = entry.unwrap().path();
        if path.is_dir() { found.extend(files(&path)) } else { found.push(path) }
    }
    found.sort();
    found
}

/// Content and names of the files of an estate, in small letters: outputs repeat these names.
fn said(folder: &Path) -> String {
    let text = |path: &PathBuf| {
        let text = String::from_utf8_lossy(&fs::read(path).unwrap()).to_lowercase();
        format!("{}\n{text}\n", path.strip_prefix(folder).unwrap().display().to_string().to_lowercase())
    };
    files(folder).iter().map(text).collect()
}

fn tree() -> PathBuf {
    Path::new(env!("CARGO_MANIFEST_DIR")).join("../..")
}

/// Every command that reads an estate, and every form for people.
fn outputs(folder: &Path) -> Vec<(String, String)> {
    let path = folder.to_str().unwrap();
    let commands: [&[&str]; 17] = [
        &["survey", path],
        &["audit", path],
        &["audit", path, "--full"],
        &["audit", path, "--quiet"],
        &["logins", path],
        &["tunnels", path],
        &["tunnels", path, "--detail", ""],
        &["addresses", path],
        &["addresses", path, "--free", "20"],
        &["rules", path],
        &["exposure", path],
        &["services", path],
        &["questions", path],
        &["coverage", path, "--passes"],
        &["coverage", path, "--controls", "nist-csf-2.0", "--format", "markdown"],
        &["report", path, "--to", "-", "--format", "markdown"],
        &["baseline", path],
    ];
    commands
        .iter()
        .map(|command| {
            let (out, errors, _) = run(command);
            (format!("trevlin {}", command.join(" ")), format!("{out}\n{errors}"))
        })
        .collect()
}

fn of_estate(table: &Table, folder: &Path) -> String {
    let excused = said(folder);
    outputs(folder).iter().map(|(name, text)| wrong(table, name, text, &excused)).collect()
}

#[test]
fn outputs_on_the_demo() {
    let table = table();
    let mut found = of_estate(&table, &demo());
    let both = tree().join("demo");
    let excused = said(&both);
    let (before, after) = (both.join("before"), both.join("after"));
    let (before, after) = (before.to_str().unwrap(), after.to_str().unwrap());
    for command in [
        &["compare", before, after, "--all"][..],
        &["reach", before, "--intents"],
        &["reach", before, "--from", "WireGuard wg0"],
        &["sheet", "show", before, "--device", "harbour-edge"],
        &["exposure", before, "--from", "booking"],
        &["audit", after, "--full"],
        &["questions", after],
    ] {
        let (out, errors, _) = run(command);
        found += &wrong(&table, &command.join(" "), &format!("{out}\n{errors}"), &excused);
    }
    for kind in ["firewall", "router", "server", "storage"] {
        found += &wrong(&table, "sheet new", &run(&["sheet", "new", "--kind", kind]).0, "");
    }
    for shape in ["lines", "indented", "braces", "sections", "csv", "json", "xml"] {
        found += &wrong(&table, "phrasebook new", &run(&["phrasebook", "new", "--shape", shape]).0, "");
    }
    assert!(found.is_empty(), "{found}");
}

#[test]
fn outputs_on_an_estate_with_every_fault() {
    let folder = TempDir::new().unwrap();
    let made = Maker::new(1).unwrap().every_fault().unwrap();
    let written = made.into_iter().map(|one| one.write(folder.path()).unwrap());
    estate_file(folder.path(), written.collect()).unwrap();
    let found = of_estate(&table(), folder.path());
    assert!(found.is_empty(), "{found}");
}

/// Further estates, where a folder of them is named in `TREVLIN_ESTATES`.
#[test]
fn outputs_on_further_estates() {
    let Some(folder) = std::env::var_os("TREVLIN_ESTATES") else { return };
    let table = table();
    let mut found = String::new();
    for entry in fs::read_dir(folder).unwrap() {
        let path = entry.unwrap().path();
        if path.is_dir() {
            found += &of_estate(&table, &path);
        }
    }
    assert!(found.is_empty(), "{found}");
}

#[test]
fn help_of_every_command() {
    let table = table();
    let mut found = String::new();
    for page in files(&tree().join("docs/man")) {
        let text =
            fs::read_to_string(&page).unwrap().replace("\\-", "-").replace("\\fB", "`").replace("\\fR", "`");
        found += &wrong(&table, &page.display().to_string(), &text, "");
    }
    assert!(found.is_empty(), "{found}");
}

#[test]
fn every_page() {
    let table = table();
    let demo = said(&tree().join("demo"));
    let mut pages: Vec<PathBuf> =
        ["README.md", "CHANGELOG.md", "CONTRIBUTING.md"].iter().map(|name| tree().join(name)).collect();
    pages.extend(
        files(&tree().join("docs"))
            .into_iter()
            .filter(|path| path.extension().is_some_and(|one| one == "md")),
    );
    let mut found = String::new();
    for page in pages {
        let name = page.strip_prefix(tree()).unwrap().display().to_string();
        let mut fenced = false;
        for (number, line) in (1..).zip(fs::read_to_string(&page).unwrap().lines()) {
            fenced ^= line.starts_with("```");
            // Outputs repeat names of the demo.
            let excused = if fenced { demo.as_str() } else { "" };
            found += &wrong(&table, &format!("{name}:{number}"), line, excused);
        }
    }
    assert!(found.is_empty(), "{found}");
}

/// Every title, detail, severity and request that the cases of the checks bring about.
#[test]
fn every_text_of_every_check() {
    let table = table();
    let mut found = String::new();
    for page in files(&tree().join("crates/checks/texts")) {
        let name = page.display().to_string();
        let text = fs::read_to_string(&page).unwrap();
        let lines: Vec<&str> = text.lines().filter(|line| !line.starts_with("= ")).collect();
        found += &wrong(&table, &name, &lines.join("\n"), "");
    }
    assert!(found.is_empty(), "{found}");
}

/// Documentation comments of all crates, each paragraph as one line.
#[test]
fn every_documentation_comment() {
    let table = table();
    let mut found = String::new();
    for file in files(&tree().join("crates")).into_iter().chain(files(&tree().join("fuzz/src"))) {
        if file.extension().is_none_or(|one| one != "rs") {
            continue;
        }
        let name = file.strip_prefix(tree()).unwrap().display().to_string();
        let text = fs::read_to_string(&file).unwrap();
        let mut paragraph = String::new();
        let mut begins = 0;
        for (number, line) in (1..).zip(text.lines().chain([""])) {
            let comment = line.trim_start();
            let comment = comment.strip_prefix("///").or_else(|| comment.strip_prefix("//!")).map(str::trim);
            if let Some(comment) = comment.filter(|comment| !comment.is_empty()) {
                if paragraph.is_empty() {
                    begins = number;
                }
                paragraph.extend([comment, " "]);
            } else if !paragraph.is_empty() {
                found += &wrong(&table, &format!("{name}:{begins}"), &paragraph, "");
                paragraph.clear();
            }
        }
    }
    assert!(found.is_empty(), "{found}");
}

/// The first letters of the words of a title, by which words of one family are the same.
fn stems(text: &str) -> BTreeSet<String> {
    let words = text.split(|letter: char| !letter.is_alphanumeric());
    words.filter(|word| word.len() > 2).map(|word| word.to_lowercase().chars().take(4).collect()).collect()
}

/// A title names its subject: by words of its check's title, or by a name of the device's files.
#[test]
fn titles_name_their_subject() {
    let folder = TempDir::new().unwrap();
    let made = Maker::new(1).unwrap().every_fault().unwrap();
    let written = made.into_iter().map(|one| one.write(folder.path()).unwrap());
    estate_file(folder.path(), written.collect()).unwrap();
    let (titles, _, _) = run(&["checks"]);
    let title_of = |check: &str| {
        let line = titles.lines().find(|line| line.starts_with(&format!("{check} "))).unwrap();
        line[check.len()..].trim().split_once(' ').unwrap().1.trim().to_owned()
    };
    for estate in [folder.path(), &demo()] {
        let outcome = crate::common::json(estate, &[]);
        let names = stems(&said(estate));
        for one in outcome["findings"].as_array().unwrap() {
            let (title, check) = (one["title"].as_str().unwrap(), one["check"].as_str().unwrap());
            let words = stems(title);
            let about = !words.is_disjoint(&stems(&title_of(check))) || !words.is_disjoint(&names);
            assert!(about && title.len() > 12, "{check}: {title}");
            assert!(!title.ends_with('.'), "{check}: {title}");
            assert!(title.chars().count() <= 120, "{check}: {title}");
            assert!(
                !title.starts_with(char::is_lowercase)
                    || names.contains(
                        &stems(title.split(' ').next().unwrap()).into_iter().next().unwrap_or_default()
                    ),
                "{check}: {title}"
            );
        }
    }
}
