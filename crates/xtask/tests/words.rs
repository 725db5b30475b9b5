//! Nothing is decided by words that the program itself makes: texts for people are made at the end and never read back.
//!
//! Texts that the core crates compare with words are texts of exports, whose words contain no blanks as a rule. So a text with a blank that
//! is searched for, split at or compared is suspect: either it is one of our own sentences, or a comment names the export it belongs to.

use std::fs;
use std::path::{Path, PathBuf};

/// Crates in which things are decided.
const DECIDING: [&str; 6] = ["packets", "estate", "analysis", "checks", "audit", "render"];

/// Functions that search a text or compare it with another.
const LOOKS: [&str; 16] = [
    ".contains(",
    ".starts_with(",
    ".ends_with(",
    ".strip_prefix(",
    ".strip_suffix(",
    ".split(",
    ".split_once(",
    ".rsplit(",
    ".rsplit_once(",
    ".find(",
    ".rfind(",
    ".matches(",
    ".trim_start_matches(",
    ".trim_end_matches(",
    "== ",
    "!= ",
];

/// Marks comparisons with the text of an export, or another foreign text.
const MARK: &str = "// Read:";

/// Every file below a folder.
fn files(folder: &Path) -> Vec<PathBuf> {
    let mut found = Vec::new();
    for entry in fs::read_dir(folder).expect("a folder") {
        let path = entry.expect("an entry").path();
        if path.is_dir() {
            found.extend(files(&path));
        } else if path.extension().is_some_and(|one| one == "rs") {
            found.push(path);
        }
    }
    found.sort();
    found
}

/// The text in quotes with which something begins, if it does.
fn quoted(rest: &str) -> Option<&str> {
    let inside = rest.trim_start_matches(['&', ' ']).strip_prefix('"')?;
    inside.split('"').next()
}

/// Whether a text contains words: two of them, or a blank at an end.
fn has_words(text: &str) -> bool {
    let blank_at_end = text.len() > 1 && (text.starts_with(' ') || text.ends_with(' '));
    let letters = text.bytes().any(|one| one.is_ascii_alphabetic());
    letters && (blank_at_end || text.trim().contains(' '))
}

/// Places in a program where something is decided by words.
fn decisions(text: &str) -> Vec<(usize, String)> {
    let program = text.split("#[cfg(test)]\nmod tests {").next().unwrap_or_default();
    let mut found = Vec::new();
    let mut before = "";
    for (number, line) in program.lines().enumerate() {
        let marked = line.contains(MARK) || before.trim_start().starts_with(MARK);
        let looked =
            LOOKS.iter().flat_map(|look| line.match_indices(look).map(|(at, _)| &line[at + look.len()..]));
        let words = looked.filter_map(quoted).any(has_words);
        if words && !marked && !line.trim_start().starts_with("//") {
            found.push((number + 1, line.trim().to_owned()));
        }
        before = line;
    }
    found
}

#[test]
fn nothing_is_decided_by_words_of_our_own() {
    let mut told = Vec::new();
    for name in DECIDING {
        let source = Path::new(env!("CARGO_MANIFEST_DIR")).join("..").join(name).join("src");
        for path in files(&source).iter().filter(|path| !path.to_string_lossy().ends_with("tests.rs")) {
            let text = fs::read_to_string(path).expect("a file");
            told.extend(
                decisions(&text).into_iter().map(|(line, code)| format!("{}:{line}: {code}", path.display())),
            );
        }
    }
    assert!(
        told.is_empty(),
        "decided by words; use a type, or say with `{MARK}` whose text it is: {told:#?}"
    );
}

#[test]
fn what_counts_as_words() {
    for (line, wanted) in [
        ("if step.text.contains(\" is reached by \") {", 1),
        ("let one = title.strip_prefix(\"lowered from \")?;", 1),
        ("if verdict == \"no finding\" {", 1),
        ("if word == \"accept\" {", 0),
        ("text.split(\", \")", 0),
        ("let a = line.starts_with(\"conn \"); // Read: the line of an export.", 0),
        ("// Read: the line of an export.\nlet a = line.starts_with(\"conn \");", 0),
        ("/// whether `.contains(\" accepts \")`", 0),
    ] {
        assert_eq!(decisions(line).len(), wanted, "{line}");
    }
}
