//! `trevlin phrasebook`, and devices that are read through one.

use crate::common::{demo, folder, run, trevlin};
use std::fs;
use std::path::Path;

const BOOK: &str = "phrasebook = \"trevlin-phrasebook/1\"\nname = \"a gate\"\nshape = \"lines\"\n[recognise]\nlines = [\"gatekeeper {_v}\"]\n\
                    [[phrase]]\nsays = \"port {name} holds {net:prefix}\"\n\
                    lands = { \"interfaces[name={name}].addresses[].net\" = \"{net}\" }\n\
                    [[phrase]]\nsays = \"key {key:secret}\"\n\
                    lands = { \"secrets[]\" = { kind = \"token\", of = \"the gate\", secret = \"{key}\" } }\n";

#[test]
fn what_is_wrong_is_told_by_line() {
    let wrong = "phrasebook = \"trevlin-phrasebook/2\"\nname = \"a gate\"\nshape = \"line\"\ncoments = [\"#\"]\n\
                 [recognise]\nlines = [\"[gate]\"]\n[values.unused]\na = \"b\"\n\
                 [[phrase]]\nsays = \"port {name} holds {net:prefx}\"\n\
                 [[phrase]]\nsays = \"port {name} [holds\"\n\
                 [[phrase]]\nsays = \"rule {n} > does {what}\"\nlands = { \"ruls[@1].action\" = \"{what}\", \"rules[@3].name\" = \"{n}\" }\n\
                 [[phrase]]\nsays = \"rule {m} of {who}\"\nlands = { \"rules[@1].frm[]\" = \"{m}\", \"rules[@1].name\" = \"{nam}\" }\n";
    let kept = folder(&[("book.toml", wrong)]);
    let output = trevlin(&["phrasebook", "check", "book.toml"]).current_dir(kept.path()).output().unwrap();
    assert_eq!(output.status.code(), Some(1));
    insta::assert_snapshot!(String::from_utf8(output.stdout).unwrap());
}

#[test]
fn every_shape_begins_with_a_book_that_is_right() {
    for shape in ["lines", "indented", "braces", "sections", "csv", "json", "xml"] {
        let (book, _, status) = run(&["phrasebook", "new", "--shape", shape]);
        assert_eq!(status, 0);
        let kept = folder(&[("book.toml", &book)]);
        let path = kept.path().join("book.toml");
        let (told, _, status) = run(&["phrasebook", "check", path.to_str().unwrap()]);
        assert_eq!(status, 0, "{shape}: {told}");
    }
}

#[test]
fn trying_shows_what_took_each_line() {
    let export = "gatekeeper 4\nport alpha holds 192.0.2.18/29\nport beta holds 10.4.0.300/24\nkey Sesame-9-open\ncolour red\n";
    let kept = folder(&[("book.toml", BOOK), ("gate/config.txt", export)]);
    let tried = |more: &[&str]| {
        let arguments = [&["phrasebook", "try", "book.toml", "gate/config.txt"], more].concat();
        let output = trevlin(&arguments).current_dir(kept.path()).output().unwrap();
        assert_eq!(output.status.code(), Some(1));
        String::from_utf8(output.stdout).unwrap()
    };
    let all = tried(&[]);
    assert!(!all.contains("Sesame") && !tried(&["--show", "sheet"]).contains("Sesame"));
    insta::assert_snapshot!(all);
    let untaken = tried(&["--show", "untaken"]);
    assert!(untaken.contains("colour red") && !untaken.contains("alpha"), "{untaken}");
}

#[test]
fn books_of_the_estate_and_of_the_user_are_used() {
    let export = "gatekeeper 4\nport alpha holds 192.0.2.18/29\n";
    let with = |files: &[(&str, &str)], config: bool| {
        let kept = folder(files);
        let mut command = trevlin(&["audit", "estate", "--format", "json"]);
        command
            .current_dir(kept.path())
            .env_remove("XDG_CONFIG_HOME")
            .env("HOME", kept.path().join("nobody"));
        if config {
            command.env("XDG_CONFIG_HOME", kept.path().join("config"));
        }
        let output = command.output().unwrap();
        String::from_utf8(output.stdout).unwrap()
    };
    let device = ("estate/gate/config.txt", export);
    assert!(with(&[device, ("estate/phrasebooks/gate.toml", BOOK)], false).contains("\"a gate\""));
    assert!(with(&[device, ("config/trevlin/phrasebooks/gate.toml", BOOK)], true).contains("\"a gate\""));
    assert!(!with(&[device, ("elsewhere/gate.toml", BOOK)], false).contains("\"a gate\""));
}

#[test]
fn a_rule_that_is_not_understood_leaves_the_rest_open() {
    let (book, _, _) = run(&["phrasebook", "new", "--shape", "indented"]);
    let head = "gatekeeper release 4\nport alpha\n  holds 192.0.2.18 255.255.255.248\nport beta\n  holds 10.20.4.1 255.255.255.0\n";
    let verdict = |rules: &str| {
        let kept = folder(&[
            ("phrasebooks/gate.toml", &book),
            ("gate/config.txt", &format!("{head}{rules}rest stop\n")),
        ]);
        let at = kept.path().to_str().unwrap();
        let (text, ..) =
            run(&["reach", at, "--from", "outside", "--to", "192.0.2.18", "--proto", "tcp", "--port", "22"]);
        text.lines().next().unwrap_or_default().to_owned()
    };
    let open = "gate in\n  way alpha device\n  what tcp 22\n  pass\n";
    assert!(verdict("gate other\n  way beta alpha\n  pass\n").starts_with("blocked"));
    assert!(verdict(open).starts_with("allowed"));
    assert!(verdict(&open.replace("  pass", "  hours 8-17\n  pass")).starts_with("depends"));
    assert!(verdict("gate in\n  way alpha device\n  wave\n").starts_with("depends"));
    assert!(verdict(&format!("gate first\n  way alpha device\n  no pass\n{open}")).starts_with("blocked"));
}

#[test]
fn the_books_of_the_demo_take_every_line() {
    for (book, export) in [
        ("sluice-keeper", "south-gate/sluice-list.txt"),
        ("islelink", "island-link/settings.txt"),
        ("vault", "camera-vault/vault.xml"),
    ] {
        let book = demo().join(format!("phrasebooks/{book}.toml"));
        let export = demo().join(export);
        let (book, export) = (book.to_str().unwrap(), export.to_str().unwrap());
        assert_eq!(run(&["phrasebook", "check", book]).2, 0, "{book}");
        let (told, ..) = run(&["phrasebook", "try", book, export, "--show", "untaken"]);
        assert!(told.contains(", 0 unmatched"), "{told}");
    }
}

/// Names and values of a hostile export and a hostile book come out neutralised.
#[test]
fn escapes_do_not_reach_the_terminal() {
    let export = "gatekeeper 4\nport \u{1b}[31malpha holds 192.0.2.18/29\n\u{1b}]0;title\u{7} x\u{202e}y\n";
    let book = BOOK.replace("a gate", "a \\u001b[2J gate");
    let kept = folder(&[("book.toml", &book), ("gate/config.txt", export)]);
    for show in ["all", "untaken"] {
        let output = trevlin(&["phrasebook", "try", "book.toml", "gate/config.txt", "--show", show])
            .current_dir(kept.path())
            .output()
            .unwrap();
        let text = [output.stdout, output.stderr].concat();
        assert!(!text.contains(&0x1b) && !text.contains(&7), "{show}");
        assert!(!String::from_utf8(text).unwrap().contains('\u{202e}'), "{show}");
    }
    let listed = fs::read_dir(kept.path()).unwrap().count();
    assert_eq!(listed, 2, "nothing is written beside them");
}

/// The text of the first block of a kind, with its place.
fn block(text: &str, kind: &str) -> (usize, usize) {
    let fence = format!("```{kind}\n");
    let start = text.find(&fence).unwrap_or_else(|| panic!("no {kind} in {text}")) + fence.len();
    (start, start + text[start..].find("```").unwrap())
}

/// Each of the common shapes gives the sheet that the page shows.
#[test]
fn common_shapes_give_their_sheets() {
    let path = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../docs/common-shapes.md");
    let page = std::fs::read_to_string(&path).unwrap();
    let mut filled = String::new();
    for (number, section) in page.split_inclusive("\n## ").enumerate() {
        if number == 0 {
            filled.push_str(section);
            continue;
        }
        let (export, phrases) = (block(section, "text"), block(section, "toml"));
        let rest = &section[phrases.1..];
        let sheet = block(rest, "toml");
        let book = format!(
            "phrasebook = \"trevlin-phrasebook/1\"\nname = \"a shape\"\n{}\n[recognise]\nfile = \"*\"\n",
            &section[phrases.0..phrases.1]
        );
        let kept = folder(&[("book.toml", &book), ("export.txt", &section[export.0..export.1])]);
        let run = |arguments: &[&str]| {
            let output = trevlin(arguments).current_dir(kept.path()).output().unwrap();
            String::from_utf8(output.stdout).unwrap()
        };
        let checked = run(&["phrasebook", "check", "book.toml"]);
        assert_eq!(checked, "book.toml: no errors\n", "{section}");
        let untaken = run(&["phrasebook", "try", "book.toml", "export.txt", "--show", "untaken"]);
        assert!(untaken.contains(" 0 unmatched"), "{untaken}\n{section}");
        let told = run(&["phrasebook", "try", "book.toml", "export.txt", "--show", "sheet"]);
        let lines: Vec<&str> = told
            .lines()
            .skip(1)
            .filter(|line| !line.starts_with("seen = "))
            .skip_while(|line| line.is_empty())
            .collect();
        filled.push_str(&section[..phrases.1]);
        filled.push_str(&rest[..sheet.0]);
        filled.push_str(&lines.join("\n"));
        filled.push('\n');
        filled.push_str(&rest[sheet.1..]);
    }
    // To bring the page up to date: run the tests with TREVLIN_UPDATE_README=1 and look at the change.
    #[allow(clippy::disallowed_methods, reason = "a switch for the developer")]
    if std::env::var("TREVLIN_UPDATE_README").is_ok() {
        std::fs::write(&path, &filled).unwrap();
    } else {
        assert_eq!(page, filled);
    }
}

#[test]
fn an_export_gives_a_skeleton() {
    let export = "gatekeeper 4\nport alpha holds 192.0.2.18/29\nport beta holds 10.4.0.3/24\nport gamma holds 10.5.0.3/24\n\
                  user ann word Quay-1927\nuser bo word Pier-1931\n";
    let kept = folder(&[("config.txt", export)]);
    let run = |arguments: &[&str]| {
        let output = trevlin(arguments).current_dir(kept.path()).output().unwrap();
        (String::from_utf8(output.stdout).unwrap(), output.status.code())
    };
    let (book, _) = run(&["phrasebook", "new", "--from", "config.txt"]);
    assert!(!book.contains("Quay-1927") && !book.contains("Pier-1931"), "{book}");
    for wanted in [
        "#says = 'port {name} holds {prefix:prefix}'",
        "#says = 'user {name} word {secret:secret}'",
        "# 3 times, first on line 2",
    ] {
        assert!(book.contains(wanted), "{wanted}\n{book}");
    }
    // With the marks removed it is a phrasebook that reads its export.
    let edited = book
        .replace("#[[phrase]]", "[[phrase]]")
        .replace("#says", "says")
        .replace("#lands", "lands")
        .replace('{', "{_")
        .replace("{_ }", "{ }");
    let kept = folder(&[("config.txt", export), ("book.toml", &edited)]);
    let output =
        trevlin(&["phrasebook", "try", "book.toml", "config.txt"]).current_dir(kept.path()).output().unwrap();
    let told = String::from_utf8(output.stdout).unwrap();
    assert!(told.contains("6 statements: 6 matched"), "{told}\n{edited}");
}

#[test]
fn coverage_lists_topics_and_requests() {
    let book = format!("{BOOK}[always]\nkind = \"router\"\n");
    let kept =
        folder(&[("book.toml", &book), ("config.txt", "gatekeeper 4\nport alpha holds 192.0.2.18/29\n")]);
    let output = trevlin(&["phrasebook", "coverage", "book.toml", "config.txt"])
        .current_dir(kept.path())
        .output()
        .unwrap();
    let told = String::from_utf8(output.stdout).unwrap();
    insta::assert_snapshot!("coverage_lists_topics_and_requests", told);
}
