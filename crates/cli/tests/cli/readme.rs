//! The commands of README.md and of the manual, run; the output shown there is the real one.

use crate::common::{folder, trevlin};
use std::fs;
use std::path::{Path, PathBuf};

fn root() -> PathBuf {
    fs::canonicalize(Path::new(env!("CARGO_MANIFEST_DIR")).join("../..")).unwrap()
}

/// The words of a command: quotes hold blanks together.
fn words(command: &str) -> Vec<String> {
    let (mut all, mut word, mut quoted) = (Vec::new(), None::<String>, false);
    for letter in command.chars() {
        match letter {
            '"' => {
                quoted = !quoted;
                word.get_or_insert_default();
            }
            ' ' if !quoted => all.extend(word.take()),
            _ => word.get_or_insert_default().push(letter),
        }
    }
    all.extend(word);
    all
}

/// A page with each `console` block filled with what its commands print. `| head -n N` behind a command shows its first lines, `> FILE`
/// keeps them.
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
            let (shown, kept) = shown.split_once(" > ").map_or((shown, None), |(a, b)| (a, Some(b)));
            let arguments = words(shown.strip_prefix("$ trevlin ").expect(command));
            let arguments: Vec<&str> = arguments.iter().map(String::as_str).collect();
            let output = trevlin(&arguments).current_dir(at).output().unwrap();
            // Status 1 says what was found, and 2 that nothing could be done.
            let told = String::from_utf8_lossy(&output.stderr);
            assert!(output.status.code().is_some_and(|code| code < 2), "{command}: {told}");
            out.push_str(command);
            out.push('\n');
            let text = String::from_utf8(output.stdout).unwrap();
            match kept {
                Some(name) => fs::write(at.join(name), text).unwrap(),
                None => text.lines().take(most).for_each(|line| {
                    out.push_str(line);
                    out.push('\n');
                }),
            }
        }
        out.push_str("```\n");
    }
    out
}

/// Every page for readers, below the root.
fn pages() -> Vec<String> {
    let docs = fs::read_dir(root().join("docs")).unwrap().flatten();
    let docs = docs.map(|entry| format!("docs/{}", entry.file_name().to_string_lossy()));
    let mut all: Vec<String> = docs.filter(|name| name.ends_with(".md")).collect();
    all.extend(["README.md", "CHANGELOG.md", "CONTRIBUTING.md"].map(str::to_owned));
    all.sort();
    all
}

#[test]
fn the_output_shown_is_the_real_one() {
    let mut commands = 0;
    for page in pages() {
        let path = root().join(&page);
        let text = fs::read_to_string(&path).unwrap();
        // Files left by one page do not exist for the next.
        let folder = folder(&[]);
        trevlin(&["demo", "--into", "."]).current_dir(folder.path()).assert().success();
        std::os::unix::fs::symlink(root().join("docs/teach"), folder.path().join("teach")).unwrap();
        let fresh = text.contains("$ trevlin demo --into .\n");
        if fresh {
            ["before", "after"].iter().for_each(|one| fs::remove_dir_all(folder.path().join(one)).unwrap());
        }
        let filled = filled(&text, folder.path());
        commands += filled.matches("\n$ trevlin ").count();
        // A command that is shown otherwise would not be run.
        let ssh_login_paths = text.split("```sh\n").skip(1).filter_map(|block| block.split("```").next());
        assert!(ssh_login_paths.flat_map(str::lines).all(|line| !line.starts_with("trevlin ")), "{page}");
        // To bring the pages up to date: run the tests with TREVLIN_UPDATE_README=1 and look at the change.
        #[allow(clippy::disallowed_methods, reason = "a switch for the developer")]
        if std::env::var("TREVLIN_UPDATE_README").is_ok() {
            fs::write(&path, &filled).unwrap();
        } else {
            similar_asserts(&page, &text, &filled);
        }
    }
    assert!(commands > 40, "{commands}");
}

/// The text and the files of the walk are the same.
#[test]
fn the_walk_shows_its_own_files() {
    let docs = root().join("docs");
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

/// The estate file that the manual shows is one that is taken.
#[test]
fn the_estate_file_of_the_manual_is_valid() {
    for page in ["estate-file.md", "intents.md"] {
        let text = fs::read_to_string(root().join("docs").join(page)).unwrap();
        let block = text.split("```toml\n").nth(1).and_then(|block| block.split("```").next()).unwrap();
        trevlin_audit::ValidEstateFile::parse(block, &trevlin_audit::checks::known)
            .unwrap_or_else(|error| panic!("{page}: {error}"));
    }
}

fn similar_asserts(page: &str, text: &str, filled: &str) {
    for (number, (shown, real)) in text.lines().zip(filled.lines()).enumerate() {
        assert_eq!(shown, real, "{page}:{}", number + 1);
    }
    assert_eq!(text.lines().count(), filled.lines().count(), "{page}");
}

#[test]
fn every_picture_is_there_and_linked() {
    let text = fs::read_to_string(root().join("README.md")).unwrap();
    let mut pictures = 0;
    for entry in fs::read_dir(root().join("docs/screenshots")).unwrap() {
        let name = entry.unwrap().file_name().into_string().unwrap();
        assert!(text.contains(&format!("docs/screenshots/{name}")), "{name} is not linked");
        pictures += 1;
    }
    assert!((1..20).contains(&pictures), "{pictures}");
}

/// Links of a page to its own repository are valid.
#[test]
fn links_lead_somewhere() {
    let mut seen = 0;
    for page in pages().into_iter().chain(["docs/checks/README.md".to_owned()]) {
        let text = fs::read_to_string(root().join(&page)).unwrap();
        let from = root().join(&page);
        for link in text.split("](").skip(1).filter_map(|rest| rest.split(')').next()) {
            let (path, heading) = link.split_once('#').unwrap_or((link, ""));
            if path.contains("://") {
                continue;
            }
            let at = if path.is_empty() { from.clone() } else { from.parent().unwrap().join(path) };
            assert!(at.exists(), "{page}: {link}");
            if !heading.is_empty() {
                let there = fs::read_to_string(&at).unwrap().to_lowercase().replace(' ', "-");
                assert!(there.contains(&format!("#-{heading}\n")), "{page}: {link}");
            }
            seen += 1;
        }
    }
    assert!(seen > 60, "{seen}");
}
