//! The commands of README.md, run; the output shown there is the real one.

use crate::common::{demo, folder, trevlin};
use std::fs;
use std::path::Path;

/// The README with each `console` block filled with what its command prints.
fn filled(text: &str, at: &Path) -> String {
    let mut out = String::new();
    let mut lines = text.lines();
    while let Some(line) = lines.next() {
        out.push_str(line);
        out.push('\n');
        if line != "```console" {
            continue;
        }
        let command = lines.next().unwrap();
        let arguments: Vec<&str> = command.strip_prefix("$ trevlin ").expect(command).split(' ').collect();
        let output = trevlin(&arguments).current_dir(at).output().unwrap();
        assert!(output.status.success(), "{command}");
        out.push_str(command);
        out.push('\n');
        out.push_str(&String::from_utf8(output.stdout).unwrap());
        for skipped in lines.by_ref() {
            if skipped == "```" {
                out.push_str("```\n");
                break;
            }
        }
    }
    out
}

#[test]
fn the_output_shown_is_the_real_one() {
    let readme = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../README.md");
    let text = fs::read_to_string(&readme).unwrap();
    let folder = folder(&[]);
    std::os::unix::fs::symlink(fs::canonicalize(demo()).unwrap(), folder.path().join("before")).unwrap();
    let filled = filled(&text, folder.path());
    assert!(filled.matches("$ trevlin ").count() >= 3, "the tour has its commands");
    // To bring the README up to date: run the tests with TREVLIN_UPDATE_README=1 and look at the change.
    #[allow(clippy::disallowed_methods, reason = "a switch for the developer")]
    if std::env::var("TREVLIN_UPDATE_README").is_ok() {
        fs::write(&readme, &filled).unwrap();
    } else {
        similar_asserts(&text, &filled);
    }
}

fn similar_asserts(text: &str, filled: &str) {
    for (number, (shown, real)) in text.lines().zip(filled.lines()).enumerate() {
        assert_eq!(shown, real, "README.md:{}", number + 1);
    }
    assert_eq!(text.lines().count(), filled.lines().count());
}

#[test]
fn every_picture_is_there_and_linked() {
    let root = Path::new(env!("CARGO_MANIFEST_DIR")).join("../..");
    let text = fs::read_to_string(root.join("README.md")).unwrap();
    let mut pictures = 0;
    for entry in fs::read_dir(root.join("docs/screenshots")).unwrap() {
        let name = entry.unwrap().file_name().into_string().unwrap();
        assert!(text.contains(&format!("docs/screenshots/{name}")), "{name} is not linked");
        pictures += 1;
    }
    assert_eq!(text.matches("docs/screenshots/").count(), pictures);
}
