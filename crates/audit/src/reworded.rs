//! Texts decide nothing: with every title, detail, request and step reworded, an audit of the demo has the same result.

use crate::tables::{intents, tunnels};
use serde_json::Value;
use std::fs;
use std::path::{Path, PathBuf};
use trevlin_analysis::context::Analyses;
use trevlin_analysis::reachability;
use trevlin_analysis::testing::estate_with;
use trevlin_estate::baseline::Baseline;
use trevlin_estate::prose::reword;

/// Files of a folder, by their path below it.
fn files(folder: &Path) -> Vec<(String, String)> {
    let mut open: Vec<PathBuf> = vec![folder.to_owned()];
    let mut found = Vec::new();
    while let Some(one) = open.pop() {
        for entry in fs::read_dir(&one).unwrap().map(Result::unwrap) {
            let path = entry.path();
            if path.is_dir() {
                open.push(path);
            } else if let Ok(text) = fs::read_to_string(&path) {
                found.push((path.strip_prefix(folder).unwrap().to_string_lossy().into_owned(), text));
            }
        }
    }
    found.sort();
    found
}

/// Results of an audit without texts: verdicts, severities, evidence, fingerprints.
fn said(files: &[(&str, &str)], estate_file: &str) -> Vec<String> {
    let estate: Analyses = estate_with(files, estate_file);
    let baseline = Baseline::on(jiff::civil::date(2026, 11, 25));
    let outcome = crate::audit(&estate, &baseline);
    let mut all: Vec<String> = outcome
        .findings()
        .map(|one| {
            let (severity, status) = (one.severity.word(), &one.status);
            format!("{} {severity} {} {status:?} {:?}", one.check, one.fingerprint, one.evidence)
        })
        .collect();
    all.extend(
        outcome
            .open_questions
            .iter()
            .map(|one| format!("{} {:?} {:?} {:?}", one.check, one.about, one.files, one.evidence)),
    );
    let mut tables = serde_json::json!([
        intents::sheet(&estate),
        tunnels::tunnels(&estate, &baseline, &outcome),
        crate::tables::exposure::sheet(
            &estate,
            &estate.internet().services,
            &estate.internet().outside,
            "outside"
        ),
    ]);
    without_texts(&mut tables);
    all.push(tables.to_string());
    let flow = |port| reachability::Question {
        from: reachability::From::Outside,
        entering: None,
        to: "192.0.2.18".into(),
        protocol: reachability::Transport::Tcp,
        port,
        source_port: None,
    };
    for port in [22, 443, 1723] {
        let reached = reachability::reach(&estate, &flow(port)).unwrap();
        let lines = reached.steps.iter().map(|one| format!("{} {:?}:{:?}", one.device, one.path, one.line));
        all.push(format!("{:?} {:?}", reached.verdict, lines.collect::<Vec<_>>()));
    }
    all.sort();
    all
}

/// Takes the fields out that are sentences.
fn without_texts(value: &mut Value) {
    match value {
        Value::Object(fields) => {
            for name in ["text", "title", "detail", "why"] {
                fields.remove(name);
            }
            fields.values_mut().for_each(without_texts);
        }
        Value::Array(all) => all.iter_mut().for_each(without_texts),
        _ => {}
    }
}

#[test]
fn an_audit_says_the_same_in_any_words() {
    let folder = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../demo/before");
    let all = files(&folder);
    let (own, exports): (Vec<_>, Vec<_>) = all
        .iter()
        .map(|(path, text)| (path.as_str(), text.as_str()))
        .partition(|(path, _)| !path.contains('/'));
    let estate_file = own.iter().find(|(path, _)| *path == "trevlin.toml").unwrap().1;
    let as_written = said(&exports, estate_file);
    assert!(as_written.len() > 150, "{}", as_written.len());
    assert_ne!(
        reword::with(1, || trevlin_estate::prose::Prose::from("as written").into_string()),
        "as written"
    );
    for seed in [1, 2, 3] {
        let reworded = reword::with(seed, || said(&exports, estate_file));
        for (one, other) in as_written.iter().zip(&reworded) {
            assert_eq!(one, other, "seed {seed}");
        }
        assert_eq!(as_written.len(), reworded.len());
    }
}
