//! `trevlin sheet`, and devices that are known by a sheet.

use crate::common::{demo, folder, run};
use serde_json::Value;
use std::collections::BTreeMap;
use std::fs;
use std::path::Path;

fn stdout(arguments: &[&str]) -> String {
    run(arguments).0
}

fn json(arguments: &[&str]) -> Value {
    let text = stdout(&[arguments, &["--format", "json"]].concat());
    serde_json::from_str(&text).unwrap_or_else(|error| panic!("{arguments:?}: {error}\n{text}"))
}

/// The demo with every device as a sheet.
fn demo_as_sheets(into: &Path) -> Vec<String> {
    let demo = demo();
    fs::copy(demo.join("trevlin.toml"), into.join("trevlin.toml")).unwrap();
    let audited = json(&["audit", demo.to_str().unwrap()]);
    let devices = audited["devices"].as_array().unwrap().iter();
    let names: Vec<String> = devices.map(|device| device["name"].as_str().unwrap().to_owned()).collect();
    for name in &names {
        fs::create_dir(into.join(name)).unwrap();
        let sheet = stdout(&["sheet", "show", demo.to_str().unwrap(), "--device", name]);
        fs::write(into.join(name).join("sheet.toml"), sheet).unwrap();
    }
    names
}

/// An output without the places of its statements.
fn without_places(value: &mut Value) {
    const PLACES: [&str; 8] =
        ["path", "line", "end_line", "excerpt", "evidence", "exports", "place", "fingerprint"];
    match value {
        Value::Object(map) => {
            map.retain(|key, _| !PLACES.contains(&key.as_str()));
            map.values_mut().for_each(without_places);
        }
        Value::Array(all) => all.iter_mut().for_each(without_places),
        _ => {}
    }
}

/// Findings by content, without secrets: a sheet contains none.
fn findings(audited: &Value) -> BTreeMap<String, usize> {
    let mut found = BTreeMap::new();
    for one in audited["findings"].as_array().unwrap() {
        if one["area"] != "secrets" {
            let told = format!("{} {} {} {}", one["check"], one["device"], one["severity"], one["title"]);
            *found.entry(told).or_default() += 1;
        }
    }
    found
}

fn questions(audited: &Value) -> Vec<String> {
    let asked = audited["open_questions"].as_array().unwrap().iter();
    let asked = asked.filter(|one| one["area"] != "secrets");
    // What is requested of an appliance is for its sheet, once it has one.
    let words = [
        ("Please show ", "Please state "),
        (" (`rules` and `rule-list`)", ""),
        (" (`signing` in `parts`)", ""),
        (" (`logins`)", ""),
        (" in the device sheet", ""),
        (", in an export or on screen", ""),
    ];
    asked
        .map(|one| format!("{} {} {}", one["check"], one["device"], one["question"]))
        .map(|text| words.iter().fold(text, |text, (from, to)| text.replace(from, to)))
        .collect()
}

#[test]
fn a_device_as_a_sheet_is_the_same_device() {
    let folder = tempfile::tempdir().unwrap();
    demo_as_sheets(folder.path());
    let (files, sheets) = (demo(), folder.path());
    let (files, sheets) = (files.to_str().unwrap(), sheets.to_str().unwrap());
    let (before, after) = (json(&["audit", files]), json(&["audit", sheets]));
    assert!(findings(&before).len() > 100);
    assert_eq!(findings(&before), findings(&after));
    assert_eq!(questions(&before), questions(&after));
    for command in [
        &["exposure"][..],
        &["services"],
        &["reach", "--intents"],
        &["reach", "--from", "outside"],
        &["reach", "--from", "outside", "--to", "192.0.2.18", "--proto", "tcp", "--port", "443"],
    ] {
        let asked = |path: &str| {
            let mut answer = json(&[&[command[0], path], &command[1..]].concat());
            without_places(&mut answer);
            serde_json::to_string_pretty(&answer).unwrap()
        };
        similar_asserts(&asked(files), &asked(sheets), command);
    }
}

fn similar_asserts(one: &str, other: &str, command: &[&str]) {
    let differing: Vec<_> = one.lines().zip(other.lines()).filter(|(a, b)| a != b).take(5).collect();
    assert!(differing.is_empty() && one.len() == other.len(), "{command:?}: {differing:#?}");
}

/// Asserts that a file of the project is as it is made now, or writes it anew.
fn is_kept(path: &Path, made: &str) {
    if std::env::var_os("TREVLIN_UPDATE_README").is_some() {
        fs::write(path, made).unwrap();
    }
    assert_eq!(
        fs::read_to_string(path).unwrap(),
        made,
        "run the test with TREVLIN_UPDATE_README=1 and commit the file"
    );
}

/// Every key of the schema is among the questions: the last chapter has the keys that the others lack.
#[test]
fn the_last_chapter_of_the_questions_has_every_other_key() {
    let guide = Path::new(env!("CARGO_MANIFEST_DIR")).join("../readers/src/sheet/guide");
    let path = guide.join("10-everything-else.toml");
    let mut chapters: Vec<_> = fs::read_dir(&guide).unwrap().map(|entry| entry.unwrap().path()).collect();
    chapters.retain(|chapter| *chapter != path);
    chapters.sort();
    let chapters: String = chapters.iter().map(|chapter| fs::read_to_string(chapter).unwrap()).collect();
    let made = trevlin_readers::further_keys(&trevlin_readers::sheet_schema(), &chapters);
    is_kept(&path, &made);
    for wanted in ["# [[radius-clients]]", "#   `options-file`", "# [[filter-changes]]"] {
        assert!(made.contains(wanted), "{wanted}");
    }
    assert!(!made.contains("#   `user`") || chapters.contains("#user"), "what is asked above is not listed");
}

#[test]
fn sheets_fit_the_published_schema() {
    let path = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../docs/schema/device-sheet.json");
    let made = serde_json::to_string_pretty(&trevlin_readers::sheet_schema()).unwrap() + "\n";
    is_kept(&path, &made);
    let schema: Value = serde_json::from_str(&made).unwrap();
    let validator = jsonschema::draft202012::new(&schema).unwrap();
    let fits = |text: &str, name: &str| {
        let sheet: Value = toml::from_str(text).unwrap_or_else(|error| panic!("{name}: {error}"));
        let wrong: Vec<String> = validator
            .iter_errors(&sheet)
            .map(|error| {
                format!(
                    "{} at {}",
                    error.to_string().chars().take(300).collect::<String>(),
                    error.instance_path
                )
            })
            .collect();
        assert!(wrong.is_empty(), "{name}: {wrong:#?}");
    };
    let folder = tempfile::tempdir().unwrap();
    for name in demo_as_sheets(folder.path()) {
        fits(&fs::read_to_string(folder.path().join(&name).join("sheet.toml")).unwrap(), &name);
    }
    for kind in ["firewall", "router", "server", "storage"] {
        fits(&filled_in(kind), kind);
    }
    let strange: Value =
        toml::from_str("sheet = \"trevlin-sheet/1\"\n[[interfaces]]\nnam = \"x\"\n").unwrap();
    assert!(!validator.is_valid(&strange));
}

/// The guide for a kind of device with every example answer enabled.
fn filled_in(kind: &str) -> String {
    let answered = |line: &str| match line.strip_prefix('#') {
        Some(rest) if !rest.starts_with(' ') => rest.to_owned(),
        _ => line.to_owned(),
    };
    stdout(&["sheet", "new", "--kind", kind]).lines().map(|line| answered(line) + "\n").collect()
}

#[test]
fn a_sheet_is_checked_by_line() {
    let folder = tempfile::tempdir().unwrap();
    let sheet = folder.path().join("gate.toml");
    fs::write(
        &sheet,
        "sheet = \"trevlin-sheet/1\"\ndevice = \"gate\"\nkind = \"firewal\"\n[[interfaces]]\nname = \"port 1\"\n\
         addresses = [{ net = \"192.0.2.30/28\" }]\n[[interfaces]]\nname = \"port 2\"\n\
         addresses = [{ net = \"192.0.2.30/28\" }, { net = \"10.30.4.300/24\" }]\n[[routes]]\n\
         destination = \"0.0.0.0/0\"\ngateway = \"192.0.2.99\"\n[[rules]]\nfrom = \"port 1\"\nto = \"devise\"\n\
         servises = \"tcp 22\"\naction = \"allow\"\n[unknown]\n",
    )
    .unwrap();
    let (told, _, status) = run(&["sheet", "check", sheet.to_str().unwrap()]);
    assert_eq!(status, 1);
    insta::assert_snapshot!(told);
    fs::write(&sheet, filled_in("firewall")).unwrap();
    assert_eq!(run(&["sheet", "check", sheet.to_str().unwrap()]).2, 0);
}

#[test]
fn what_a_sheet_leaves_open_is_asked_and_not_guessed() {
    let rules = "[[interfaces]]\nname = \"out\"\naddresses = [{ net = \"192.0.2.30/28\" }]\n[[interfaces]]\nname = \"in\"\n\
                 addresses = [{ net = \"10.30.4.1/24\" }]\n[[routes]]\ndestination = \"0.0.0.0/0\"\ngateway = \"192.0.2.17\"\n\
                 interface = \"out\"\n[[rules]]\nfrom = \"in\"\nto = \"out\"\naction = \"allow\"\n";
    let reach = |more: &str, to: &str, port: &str| {
        let text = format!("sheet = \"trevlin-sheet/1\"\n{rules}{more}");
        let kept = folder(&[("gate/sheet.toml", &text)]);
        let asked = [
            "reach",
            kept.path().to_str().unwrap(),
            "--from",
            "outside",
            "--to",
            to,
            "--proto",
            "tcp",
            "--port",
            port,
        ];
        json(&asked)["verdict"].as_str().unwrap().to_owned()
    };
    let list = "[rule-list]\nthrough = \"deny\"\nto-device = \"deny\"\nmeets-device = false\nforwards-pass = false\n";
    let forward =
        "[[forwards]]\nfrom = \"out\"\nservices = \"tcp 8443\"\nto = \"10.30.4.9\"\nto-port = 443\n";
    for (name, more, to, port, wanted) in [
        ("the end is not said", "", "10.30.4.9", "80", "depends"),
        ("the end is said", list, "10.30.4.9", "80", "blocked"),
        ("no rule lets a forward pass", &format!("{list}{forward}"), "192.0.2.30", "8443", "blocked"),
        (
            "forwards pass",
            &format!("{}{forward}", list.replace("forwards-pass = false", "forwards-pass = true")),
            "192.0.2.30",
            "8443",
            "allowed",
        ),
        (
            "whether they pass is not said",
            &format!("{}{forward}", list.replace("forwards-pass = false\n", "")),
            "192.0.2.30",
            "8443",
            "depends",
        ),
        (
            "a rule that cannot be read",
            &format!("[[rules]]\nfrom = \"out\"\naction = \"alow\"\n{list}"),
            "10.30.4.9",
            "80",
            "depends",
        ),
        (
            "a name that leads nowhere",
            &format!("[[rules]]\nfrom = \"out\"\ndestinations = \"camras\"\naction = \"allow\"\n{list}"),
            "10.30.4.9",
            "80",
            "depends",
        ),
        (
            "a name that leads back to itself",
            &format!(
                "[[rules]]\nfrom = \"out\"\ndestinations = \"a\"\naction = \"allow\"\n{list}\
                 [[address-names]]\nname = \"a\"\naddresses = [\"b\"]\n[[address-names]]\nname = \"b\"\naddresses = [\"a\"]\n"
            ),
            "10.30.4.9",
            "80",
            "depends",
        ),
        (
            "names of names",
            &format!(
                "[[rules]]\nfrom = \"out\"\ndestinations = \"a\"\nservices = \"pages\"\naction = \"allow\"\n{list}\
                 [[address-names]]\nname = \"a\"\naddresses = [\"b\"]\n[[address-names]]\nname = \"b\"\n\
                 addresses = [\"10.30.4.0-10.30.4.20\"]\n[[service-names]]\nname = \"pages\"\nservices = [\"tcp 80,443\"]\n"
            ),
            "10.30.4.9",
            "80",
            "allowed",
        ),
    ] {
        assert_eq!(reach(more, to, port), wanted, "{name}");
    }
}

#[test]
fn json_says_the_same_as_toml() {
    let text = filled_in("firewall");
    let sheet: Value = toml::from_str(&text).unwrap();
    let as_json = serde_json::to_string_pretty(&sheet).unwrap();
    let answers = |name: &str, text: &str| {
        let kept = folder(&[(name, text)]);
        let mut audited = json(&["audit", kept.path().to_str().unwrap()]);
        without_places(&mut audited);
        // Findings of one severity are in order of their places.
        if let Some(findings) = audited["findings"].as_array_mut() {
            findings.sort_by_key(|one| (one["check"].to_string(), one["title"].to_string()));
            for one in findings.iter_mut() {
                let detail = one["detail"].as_str().unwrap();
                let begin = detail.split(" (gate/").next().unwrap();
                one["detail"] = begin.into();
            }
        }
        audited
    };
    assert_eq!(answers("gate/sheet.toml", &text), answers("gate/sheet.json", &as_json));
}

#[test]
fn an_unknown_device_is_named() {
    let demo = demo();
    let (_, told, status) = run(&["sheet", "show", demo.to_str().unwrap()]);
    assert_eq!(status, 2);
    assert!(told.contains("--device"));
}

/// The interview of the manual with its answers: the printed text, and the resulting sheet.
#[test]
fn the_interview_of_the_manual() {
    let page = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../docs/interview.md");
    let page = fs::read_to_string(page).unwrap();
    let transcript = page.split("--interactive gate.toml\n").nth(1).unwrap().split("```").next().unwrap();
    let (mut answers, mut wanted) = (String::new(), String::new());
    for line in transcript.lines() {
        let end = if line.starts_with("    ") && line.contains("(such as ") {
            line.rfind("): ").map(|at| at + 3)
        } else if line.contains("/Enter/q]: ")
            || line.contains("[y/Enter]: ")
            || line.starts_with("Name of the device: ")
        {
            line.find(": ").map(|at| at + 2)
        } else {
            None
        };
        match end {
            Some(end) => {
                answers.push_str(&line[end..]);
                answers.push('\n');
                wanted.push_str(&line[..end]);
            }
            None => {
                wanted.push_str(line);
                wanted.push('\n');
            }
        }
    }
    let folder = tempfile::tempdir().unwrap();
    let output = assert_cmd::Command::cargo_bin("trevlin")
        .unwrap()
        .args(["sheet", "new", "--kind", "firewall", "--interactive", "gate.toml"])
        .current_dir(folder.path())
        .write_stdin(answers)
        .output()
        .unwrap();
    assert_eq!(String::from_utf8(output.stdout).unwrap(), wanted);
    let sheet = folder.path().join("gate.toml");
    let (told, _, status) = run(&["sheet", "check", sheet.to_str().unwrap()]);
    assert_eq!(status, 0);
    let shown = page.split("$ trevlin sheet check gate.toml\n").nth(1).unwrap().split("```").next().unwrap();
    assert_eq!(told, shown);
}
