//! The commands of README.md, run; the output shown there is the real one.

use crate::common::{demo, folder, trevlin};
use std::fs;
use std::path::Path;

/// A page with each `console` block filled with what its commands print. `| head -n N` behind a command shows its first lines.
fn filled(text: &str, at: &Path) -> String {
    let mut out = String::new();
    let mut lines = text.lines();
    while let Some(line) = lines.next() {
        out.push_str(line);
        out.push('\n');
        if line != "```console" {
            continue;
        }
        for command in
            lines.by_ref().take_while(|line| *line != "```").filter(|line| line.starts_with("$ trevlin "))
        {
            let (shown, most) = match command.split_once(" | head -n ") {
                Some((shown, most)) => (shown, most.parse().unwrap()),
                None => (command, usize::MAX),
            };
            let arguments: Vec<&str> = shown.strip_prefix("$ trevlin ").expect(command).split(' ').collect();
            let output = trevlin(&arguments).current_dir(at).output().unwrap();
            // Status 1 says what was found, and 2 that nothing could be done.
            assert!(output.status.code().is_some_and(|code| code < 2), "{command}");
            out.push_str(command);
            out.push('\n');
            let text = String::from_utf8(output.stdout).unwrap();
            for line in text.lines().take(most) {
                out.push_str(line);
                out.push('\n');
            }
        }
        out.push_str("```\n");
    }
    out
}

/// Pages whose commands are run.
const PAGES: [&str; 3] = ["README.md", "docs/teach-an-appliance.md", "docs/device-sheets.md"];

#[test]
fn the_output_shown_is_the_real_one() {
    let root = fs::canonicalize(Path::new(env!("CARGO_MANIFEST_DIR")).join("../..")).unwrap();
    let folder = folder(&[]);
    std::os::unix::fs::symlink(fs::canonicalize(demo()).unwrap(), folder.path().join("before")).unwrap();
    std::os::unix::fs::symlink(root.join("demo/after"), folder.path().join("after")).unwrap();
    std::os::unix::fs::symlink(root.join("docs/teach"), folder.path().join("teach")).unwrap();
    for page in PAGES {
        let path = root.join(page);
        let text = fs::read_to_string(&path).unwrap();
        let filled = filled(&text, folder.path());
        assert!(filled.matches("$ trevlin ").count() >= 3, "{page} has its commands");
        // To bring the pages up to date: run the tests with TREVLIN_UPDATE_README=1 and look at the change.
        #[allow(clippy::disallowed_methods, reason = "a switch for the developer")]
        if std::env::var("TREVLIN_UPDATE_README").is_ok() {
            fs::write(&path, &filled).unwrap();
        } else {
            similar_asserts(page, &text, &filled);
        }
    }
}

/// The text and the files of the walk are the same.
#[test]
fn the_walk_shows_its_own_files() {
    let docs = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../docs");
    let page = fs::read_to_string(docs.join("teach-an-appliance.md")).unwrap();
    let export = fs::read_to_string(docs.join("teach/estate/mill-gate/settings.txt")).unwrap();
    assert!(page.contains(&format!("```\n{export}```\n")));
    let book = fs::read_to_string(docs.join("teach/estate/phrasebooks/millrace.toml")).unwrap();
    for block in page.split("```toml\n").skip(1) {
        for piece in block.split("```").next().unwrap().split("\n\n") {
            assert!(book.contains(piece.trim()), "{piece}");
        }
    }
}

fn similar_asserts(page: &str, text: &str, filled: &str) {
    for (number, (shown, real)) in text.lines().zip(filled.lines()).enumerate() {
        assert_eq!(shown, real, "{page}:{}", number + 1);
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
