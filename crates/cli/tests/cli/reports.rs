//! Reports and accepted findings, as the built program writes them.

use crate::common::{demo, folder, json, run, trevlin};
use std::fs;
use std::path::Path;
use tempfile::TempDir;

fn text(path: &Path) -> String {
    path.to_string_lossy().into_owned()
}

/// The demo in a folder of its own, whose estate file may be written to.
fn copy() -> TempDir {
    let folder = TempDir::new().unwrap();
    trevlin(&["demo", "--into", &text(folder.path())]).assert().success();
    folder
}

#[test]
fn every_form_holds_every_finding() {
    let folder = TempDir::new().unwrap();
    let to = text(&folder.path().join("handover"));
    let (out, err, code) =
        run(&["report", &text(&demo()), "--to", &to, "--format", "html,markdown,csv,sarif,json,oscal"]);
    assert_eq!((code, err.as_str(), out.lines().count()), (0, "", 6), "{out}");
    let read = |name: &str| fs::read_to_string(Path::new(&to).join(name)).unwrap();
    let audit = json(&demo(), &[]);
    let findings = audit["findings"].as_array().unwrap();
    assert_eq!(serde_json::from_str::<serde_json::Value>(&read("audit.json")).unwrap(), audit);
    let prints: Vec<&str> = findings.iter().map(|one| one["fingerprint"].as_str().unwrap()).collect();

    let csv = read("findings.csv");
    let mut rows = csv::Reader::from_reader(csv.as_bytes());
    let heads = rows.headers().unwrap().clone();
    let column = |name: &str| heads.iter().position(|head| head == name).unwrap();
    for (row, finding) in rows.records().map(Result::unwrap).zip(findings) {
        for name in ["severity", "check", "device", "fingerprint", "area"] {
            assert_eq!(row[column(name)], *finding[name].as_str().unwrap());
        }
        assert_eq!(row[column("line")], finding["evidence"][0]["line"].to_string());
    }

    let sarif: serde_json::Value = serde_json::from_str(&read("findings.sarif")).unwrap();
    let run = &sarif["runs"][0];
    let results = run["results"].as_array().unwrap();
    let told: Vec<&str> =
        results.iter().filter_map(|one| one["partialFingerprints"]["trevlin/1"].as_str()).collect();
    assert_eq!(told, prints);
    for (result, finding) in results.iter().zip(findings) {
        let rule = &run["tool"]["driver"]["rules"][result["ruleIndex"].as_u64().unwrap() as usize];
        assert_eq!((&rule["id"], &result["ruleId"]), (&finding["check"], &finding["check"]));
        let place = &result["locations"][0]["physicalLocation"];
        assert_eq!(place["region"]["startLine"], finding["evidence"][0]["line"]);
        let file = &run["artifacts"][place["artifactLocation"]["index"].as_u64().unwrap() as usize];
        assert_eq!(file["location"]["uri"], place["artifactLocation"]["uri"]);
    }
    let open = results.iter().filter(|one| one["kind"] == "open").count();
    assert_eq!(open, audit["open_questions"].as_array().unwrap().len());

    let oscal: serde_json::Value = serde_json::from_str(&read("assessment-results.json")).unwrap();
    let result = &oscal["assessment-results"]["results"][0];
    let is_objective =
        |one: &&serde_json::Value| one["target"]["target-id"].as_str().is_some_and(|id| id.ends_with("_obj"));
    let told = result["findings"].as_array().unwrap();
    let objectives: Vec<&serde_json::Value> = told.iter().filter(is_objective).collect();
    assert_eq!(told.len() - objectives.len(), findings.len());
    assert_eq!(result["risks"].as_array().unwrap().len(), findings.len());
    // The ids are those of the catalogue files.
    let known: std::collections::BTreeSet<String> = trevlin_audit::catalogues::all()
        .into_iter()
        .find(|one| one.name == "nist-sp800-53-r5")
        .unwrap()
        .controls
        .iter()
        .map(|one| one.id.to_lowercase())
        .collect();
    for one in result["reviewed-controls"]["control-selections"][0]["include-controls"].as_array().unwrap() {
        assert!(known.contains(one["control-id"].as_str().unwrap()), "{one}");
    }
    // Each reviewed control has an objective, and the observations that it refers to are there.
    let controls =
        result["reviewed-controls"]["control-selections"][0]["include-controls"].as_array().unwrap();
    assert!(!objectives.is_empty() && objectives.len() <= controls.len());
    let seen: std::collections::BTreeSet<&str> =
        result["observations"].as_array().unwrap().iter().filter_map(|one| one["uuid"].as_str()).collect();
    for one in objectives.iter().flat_map(|one| one["related-observations"].as_array().unwrap()) {
        assert!(seen.contains(one["observation-uuid"].as_str().unwrap()), "{one}");
    }
    // Only what had something to judge was reviewed.
    let selection = &result["reviewed-controls"]["control-selections"][0];
    let reviewed = selection["include-controls"].as_array().unwrap();
    assert!(reviewed.len() > 10 && selection["include-all"].is_null(), "{selection}");
    assert!(reviewed.contains(&serde_json::json!({ "control-id": "ac-17" })), "{selection}");
    let observed: Vec<&serde_json::Value> =
        result["observations"].as_array().unwrap().iter().map(|one| &one["uuid"]).collect();
    for finding in result["findings"].as_array().unwrap() {
        assert!(observed.contains(&&finding["related-observations"][0]["observation-uuid"]));
    }

    let (page, markdown) = (read("report.html"), read("report.md"));
    for (number, print) in prints.iter().enumerate() {
        assert!(page.contains(&format!("id=\"f{}\"", number + 1)) && page.contains(&print[..12]), "{print}");
        assert!(markdown.contains(&format!("fingerprint `{}`", &print[..12])), "{print}");
    }
    // Nothing is fetched from anywhere, and every place in the page that is led to is there.
    for outside in ["src=", "@import", "<link"] {
        assert!(!page.contains(outside), "{outside}");
    }
    assert!(page.split("url(").skip(1).all(|rest| rest.starts_with('#')));
    for part in page.split("href=\"#").skip(1) {
        let anchor = part.split('"').next().unwrap();
        assert!(page.contains(&format!("id=\"{anchor}\"")), "{anchor}");
    }
}

/// The front page: entries of the estate file, overridden by options; names of the estate take no effect as markup.
#[test]
fn the_front_page() {
    let estate = folder(&[
        ("gate/pptpd.conf", "localip 10.4.0.1\nremoteip 10.4.0.10-20\n"),
        (
            "trevlin.toml",
            "[report]\nclient = \"Yard <b>Works</b>\"\nperiod = \"May 2026\"\nclassification = \"Restricted\"\nversion = \"1.0\"\n",
        ),
    ]);
    let path = text(estate.path());
    for (format, rows) in [
        (
            "html",
            ["<dd>May 2026</dd>", "<dd>Secret</dd>", "Yard &lt;b&gt;Works&lt;", "<h1>Perimeter audit</h1>"],
        ),
        ("markdown", ["May 2026", "Secret", "Works", "# Perimeter audit"]),
    ] {
        let (out, err, code) = run(&[
            "report",
            &path,
            "--to",
            "-",
            "--format",
            format,
            "--classification",
            "Secret",
            "--title",
            "Perimeter audit",
        ]);
        assert_eq!(code, 0, "{err}");
        for row in rows {
            assert!(out.contains(row), "{row}: {}", &out[..out.len().min(9000)]);
        }
        assert!(!out.contains("Restricted") && !out.contains("<b>Works"), "{format}");
    }
}

#[test]
fn where_a_report_goes() {
    let estate = folder(&[("box/etc/pptpd.conf", "localip 10.4.0.1\nremoteip 10.4.0.10-20\n")]);
    let (path, out) = (text(estate.path()), TempDir::new().unwrap());
    let at = |name: &str| text(&out.path().join(name));
    let (_, err, code) = run(&["report", &path, "--to", &at("a.html")]);
    assert_eq!((code, err.as_str()), (0, ""));
    assert!(fs::read_to_string(at("a.html")).unwrap().starts_with("<!DOCTYPE html>"));
    let (_, err, code) = run(&["report", &path, "--to", &at("a.html")]);
    assert!(code == 2 && err.contains("already exists; use --force to overwrite it"), "{err}");
    assert_eq!(run(&["report", &path, "--to", &at("a.html"), "--force"]).2, 0);
    let (_, err, code) = run(&["report", &path, "--to", &at("a.docx")]);
    assert!(
        code == 2
            && err.contains("is not a report format; use .html, .md, .csv, .sarif or .json, or set --format"),
        "{err}"
    );
    let inside = text(&estate.path().join("report.html"));
    let (_, err, code) = run(&["report", &path, "--to", &inside]);
    assert!(
        code == 2 && err.contains("the next run would read the report") && !Path::new(&inside).exists(),
        "{err}"
    );
    let (shown, _, code) = run(&["report", &path, "--to", "-"]);
    assert!(code == 0 && shown.starts_with("# Audit of "), "{shown}");
    assert_eq!(run(&["report", &path, "--to", "-", "--format", "csv,html"]).2, 2);
    assert!(run(&["report", &path, "--to", &at("more/"), "--format", "csv"]).0.contains("findings.csv"));
}

#[test]
fn somebody_answers_for_a_finding() {
    let folder = copy();
    let before = folder.path().join("before");
    let (path, file) = (text(&before), before.join("trevlin.toml"));
    let stated = fs::read_to_string(&file).unwrap();
    let audit = json(&before, &[]);
    let finding =
        audit["findings"].as_array().unwrap().iter().find(|one| one["severity"] == "critical").unwrap();
    let (print, check) = (finding["fingerprint"].as_str().unwrap(), finding["check"].as_str().unwrap());
    let accept = |until: &str, print: &str| {
        run(&[
            "accept",
            print,
            &path,
            "--owner",
            "Astrid \"A\" Holm",
            "--reason",
            "replaced",
            "--until",
            until,
        ])
    };
    for (until, print, told) in [
        ("2026-11-24", print, "2026-11-24 has passed"),
        ("2027-03-31", "00000000", "no finding of this estate has a fingerprint that begins with `"),
        ("2027-03-31", "abc", "` is not a fingerprint; expected at least"),
    ] {
        let (_, err, code) = accept(until, print);
        assert!(code == 2 && err.contains(told), "{err}");
    }
    assert_eq!(fs::read_to_string(&file).unwrap(), stated);
    let (out, err, code) = accept("2027-03-31", &print[..10]);
    assert_eq!((code, err.as_str()), (0, ""));
    assert!(out.contains("until 2027-03-31"), "{out}");
    let written = fs::read_to_string(&file).unwrap();
    assert!(written.starts_with(&stated) && written.contains(&format!("# {check}: ")), "{written}");
    let (_, err, code) = accept("2027-03-31", print);
    assert!(code == 2 && err.contains("` is already accepted by"), "{err}");

    // It is shown as accepted and counted apart, on the last day too.
    let (one, none) = (serde_json::json!(1), serde_json::Value::Null);
    for (as_of, status, accepted) in
        [("2026-11-25", "accepted", &one), ("2027-03-31", "accepted", &one), ("2027-04-01", "open", &none)]
    {
        let audit = json(&before, &["--as-of", as_of]);
        let one =
            audit["findings"].as_array().unwrap().iter().find(|one| one["fingerprint"] == print).unwrap();
        assert_eq!((&one["status"], &audit["summary"]["accepted"]), (&status.into(), accepted), "{as_of}");
        assert_eq!(one["acceptance"]["owner"], "Astrid \"A\" Holm");
    }
    let shown = |as_of: &str| {
        let (shown, _, _) = run(&["audit", &path, "--full", "--as-of", as_of]);
        shown.split_whitespace().collect::<Vec<_>>().join(" ")
    };
    let told = shown("2026-11-25");
    assert!(told.contains("ACCEPTED") && told.contains("Holm until 2027-03-31: replaced"), "{told}");
    let told = shown("2027-04-01");
    assert!(
        told.contains("again: Astrid") && told.contains("expired on 2027-03-31; 1 finding open again"),
        "{told}"
    );
}

#[test]
fn what_is_accepted_does_not_fail_a_run() {
    let pptp = "localip 10.4.0.1\nremoteip 10.4.0.10-20\n";
    let entry = |check: &str| {
        format!(
            "[[accept]]\ncheck = \"{check}\"\ndevice = \"box\"\nowner = \"A\"\nreason = \"b\"\nuntil = 2099-01-01\n"
        )
    };
    let plain = folder(&[("box/etc/pptpd.conf", pptp)]);
    let audit = json(plain.path(), &[]);
    let checks: std::collections::BTreeSet<&str> =
        audit["findings"].as_array().unwrap().iter().map(|one| one["check"].as_str().unwrap()).collect();
    let all: String =
        checks.iter().map(|check| entry(check)).collect::<String>() + &entry("rules/any-service");
    let accepted = folder(&[("box/etc/pptpd.conf", pptp), ("trevlin.toml", &all)]);
    for (folder, code) in [(&plain, 1), (&accepted, 0)] {
        assert_eq!(run(&["audit", &text(folder.path()), "--fail-on", "info"]).2, code);
    }
    let audit = json(accepted.path(), &[]);
    assert_eq!(audit["summary"]["accepted"], audit["findings"].as_array().unwrap().len());
    let entries = audit["acceptances"].as_array().unwrap();
    assert_eq!(entries.iter().filter(|one| one["findings"] == 0).count(), 1);
    let (shown, _, _) = run(&["audit", &text(accepted.path())]);
    assert!(shown.contains("rules/any-service on box matches no finding"), "{shown}");
}

#[test]
fn questions_are_sent_to_those_who_can_answer() {
    let shell = "Port 22\nInclude /etc/ssh/more.conf\n";
    let estate = folder(&[
        ("edge/etc/ssh/sshd_config", shell),
        ("yard/etc/ssh/sshd_config", shell),
        ("trevlin.toml", "[device.yard]\ncontact = \"Oda *Lind*\"\nkind = \"server\"\n"),
    ]);
    let path = text(estate.path());
    let audit = json(estate.path(), &[]);
    let of = |device: &str| {
        audit["open_questions"].as_array().unwrap().iter().filter(|one| one["device"] == device).count()
    };
    assert!(of("edge") > 0 && of("yard") > 0, "{audit}");
    let (list, err, code) = run(&["questions", &path]);
    assert_eq!((code, err.as_str()), (0, ""));
    let (named, unnamed) = (
        list.find("## Oda \\*Lind\\*, administrator of yard").unwrap(),
        list.find("## Administrator of edge").unwrap(),
    );
    assert!(unnamed < named, "{list}");
    assert!(list.contains("(`edge/etc/ssh/sshd_config:2`)"), "{list}");
    let (list, _, _) = run(&["questions", &path, "--format", "csv", "--device", "yard"]);
    let mut rows = csv::Reader::from_reader(list.as_bytes());
    let rows: Vec<csv::StringRecord> = rows.records().map(Result::unwrap).collect();
    assert!(
        !rows.is_empty()
            && rows.iter().all(|row| row[0].starts_with("Oda *Lind*, administrator of yard")
                && row[1] == *"yard"
                && row.len() == 8)
    );
    let calm = folder(&[("box/etc/pptpd.conf", "localip 10.4.0.1\n")]);
    let (list, _, code) = run(&["questions", &text(calm.path()), "--area", "upkeep"]);
    assert!(code == 0 && list.contains("whether logs leave box"), "{list}");
    let (list, _, code) = run(&["questions", &text(calm.path()), "--area", "rules"]);
    assert!(code == 0 && list.contains("No information is missing"), "{list}");
}
