//! Survey, and answers to information requests, with the built program.

use crate::common::{demo, folder, json, run};
use std::fs;
use tempfile::TempDir;

const EDGE: &str = r#"[{"ifname":"eth0","addr_info":[{"local":"192.0.2.9","prefixlen":24}]},
{"ifname":"eth1","addr_info":[{"local":"10.4.0.1","prefixlen":24}]}]"#;
const ROUTES: &str = r#"[{"dst":"default","gateway":"192.0.2.1","dev":"eth0","flags":[]}]"#;
const CLIENT: &str = "client\ndev tun\nremote 198.51.100.9\nauth-user-pass /etc/openvpn/up.txt\n";

fn estate() -> TempDir {
    folder(&[
        ("edge/running/ip-addr.json", EDGE),
        ("edge/running/ip-route.json", ROUTES),
        ("edge/etc/openvpn/client.conf", CLIENT),
        ("edge/notes.txt", "who knows\n"),
        ("inner/etc/snmp/snmpd.conf", "rocommunity sesame\nfrobnicate all\n"),
    ])
}

fn path(of: &TempDir) -> String {
    of.path().to_string_lossy().into_owned()
}

#[test]
fn what_was_handed_over() {
    let estate = estate();
    let (out, _, code) = run(&["survey", &path(&estate), "--format", "json"]);
    let told: serde_json::Value = serde_json::from_str(&out).unwrap();
    assert_eq!((code, &told["schema"]), (0, &"trevlin-survey/1".into()));
    let (edge, inner) = (&told["devices"][0], &told["devices"][1]);
    assert_eq!((&edge["name"], &inner["name"]), (&"edge".into(), &"inner".into()));
    assert_eq!(edge["outside"][0]["interface"], "eth0");
    assert_eq!(
        (&edge["outside"][0]["certain"], &told["networks"][0]),
        (&true.into(), &"192.0.2.0/24".into())
    );
    assert_eq!(edge["unknown"][0], "edge/notes.txt");
    assert_eq!(edge["missing"][0]["path"], "/etc/openvpn/up.txt");
    assert_eq!(edge["missing"][0]["evidence"][0]["line"], 4);
    assert_eq!(
        (&inner["lines"], &inner["understood"], &inner["not_understood"]),
        (&2.into(), &1.into(), &1.into())
    );
    assert!(inner["lacks"].to_string().contains("ip -j addr show"));

    let (out, _, _) = run(&["survey", &path(&estate)]);
    for part in [
        "2 devices, 5 files",
        "edge: /etc/openvpn/up.txt  edge/etc/openvpn/client.conf:4",
        "all but 1",
        "edge/notes.txt",
    ] {
        assert!(out.contains(part), "{part}: {out}");
    }
    let (out, _, code) = run(&["survey", demo().to_str().unwrap()]);
    assert!(code == 0 && out.contains("north-terminal: possibly eth0 (10.20.10.5)"), "{out}");
}

#[test]
fn a_first_estate_file_changes_nothing() {
    let estate = estate();
    let before = json(estate.path(), &[]);
    let (out, err, code) = run(&["survey", &path(&estate), "--write"]);
    assert!(code == 0 && out.contains("trevlin.toml was created"), "{out}{err}");
    let text = fs::read_to_string(estate.path().join("trevlin.toml")).unwrap();
    for part in ["[device.edge]", "outside = [\"eth0\"]", "#networks = [\"192.0.2.0/24\"]"] {
        assert!(text.contains(part), "{part}: {text}");
    }
    let after = json(estate.path(), &[]);
    assert_eq!((&after["findings"], &after["summary"]), (&before["findings"], &before["summary"]));
    // An existing estate file is kept.
    let (_, err, code) = run(&["survey", &path(&estate), "--write"]);
    assert!(code == 2 && err.contains("already exists and was not changed"), "{err}");
    let file = format!("{}/inner/etc/snmp/snmpd.conf", path(&estate));
    let (_, err, code) = run(&["survey", &file, "--write"]);
    assert!(code == 2 && err.contains("is not a folder; --write creates"), "{err}");
}

#[test]
fn an_answer_settles_a_question() {
    let estate = estate();
    let asked = json(estate.path(), &[]);
    let open = |outcome: &serde_json::Value, check: &str| {
        let all = outcome["open_questions"].as_array().unwrap();
        all.iter().filter(|one| one["check"] == check).count()
    };
    assert_eq!(open(&asked, "exposure/no-input-filter"), 1);
    let answer = |right: bool, device: &str| {
        format!(
            "[[answer]]\ncheck = \"exposure/no-input-filter\"\ndevice = \"{device}\"\nanswer = \"it follows `nobody` | <b>, not sesame\"\n\
             right = {right}\nby = \"Oda Lind\"\non = 2026-11-20\n"
        )
    };
    let file = estate.path().join("trevlin.toml");
    fs::write(&file, answer(true, "edge")).unwrap();
    let settled = json(estate.path(), &[]);
    assert_eq!(open(&settled, "exposure/no-input-filter"), 0);
    // No finding comes or goes, and the subject counts as passed.
    for counts in ["by_severity", "by_area"] {
        assert_eq!(settled["summary"][counts], asked["summary"][counts]);
    }
    let tested = |of: &serde_json::Value, key: &str| of["summary"]["tested"][key].as_u64().unwrap();
    assert_eq!(tested(&settled, "passed"), tested(&asked, "passed") + 1);
    assert_eq!(tested(&settled, "undetermined") + 1, tested(&asked, "undetermined"));
    assert_eq!(
        (&settled["answers"][0]["by"], &settled["answers"][0]["on"]),
        (&"Oda Lind".into(), &"2026-11-20".into())
    );
    let (out, _, _) = run(&["audit", &path(&estate)]);
    assert!(out.contains("ANSWERED") && out.contains("(Oda Lind, 2026-11-20): no finding"), "{out}");
    assert!(!out.contains("sesame"), "{out}");
    for (format, part) in [("html", "&lt;b&gt;"), ("markdown", "- [x] ")] {
        let (out, _, _) = run(&["report", &path(&estate), "--to", "-", "--format", format]);
        assert!(out.contains("Oda Lind, 2026-11-20") && out.contains(part), "{out}");
        assert!(!out.contains("<b>") && !out.contains("sesame"), "{out}");
    }

    // It may be limited to what a question is about, by its name.
    for (about, left) in [("eth0", 0), ("ip-addr.json", 0), ("eth7", 1)] {
        fs::write(&file, answer(true, "edge") + &format!("about = \"{about}\"\n")).unwrap();
        assert_eq!(open(&json(estate.path(), &[]), "exposure/no-input-filter"), left, "{about}");
    }

    // An answer that confirms a weakness becomes a finding with the answer as its evidence.
    fs::write(&file, answer(false, "edge")).unwrap();
    let wrong = json(estate.path(), &[]);
    let all = wrong["findings"].as_array().unwrap();
    let one = all.iter().find(|one| one["check"] == "exposure/no-input-filter").unwrap();
    let last = one["evidence"].as_array().unwrap().last().unwrap();
    assert_eq!(
        (&one["device"], &last["path"], &last["line"]),
        (&"edge".into(), &"trevlin.toml".into(), &1.into())
    );
    assert!(last["excerpt"].as_str().unwrap().contains("Oda Lind"));
    assert_eq!(all.len(), asked["findings"].as_array().unwrap().len() + 1);

    fs::write(&file, answer(true, "gate")).unwrap();
    let (out, _, _) = run(&["audit", &path(&estate)]);
    assert!(
        out.contains("line 1: exposure/no-input-filter on gate has no request that this answers"),
        "{out}"
    );
}

#[test]
fn a_file_beside_several_devices_is_told_to_make_them_one() {
    let shell = "Port 22\nPermitRootLogin no\n";
    let stray = ("strays.json", EDGE);
    let devices = [("harbour/edge/etc/ssh/sshd_config", shell), ("harbour/files/etc/ssh/sshd_config", shell)];
    let told = |files: &[(&str, &str)]| {
        let estate = folder(files);
        let (out, told, code) = run(&["survey", &path(&estate)]);
        assert_eq!(code, 0, "{told}");
        (out, told)
    };
    let (out, warned) = told(&[stray, devices[0], devices[1]]);
    assert!(out.contains("1 device, 3 files"), "{out}");
    let hint = "because strays.json is at its top; harbour/edge and harbour/files appear to be two";
    assert!(warned.contains(hint), "{warned}");
    // The hint resolves the problem.
    let (out, warned) = told(&[stray, devices[0], devices[1], ("trevlin.toml", "")]);
    assert!(
        out.contains("3 devices, 3 files")
            && !warned.contains("appear to be two. If so, create an estate file ("),
        "{out}{warned}"
    );
    let (out, warned) = told(&devices);
    assert!(out.contains("2 devices, 2 files") && warned.is_empty(), "{out}{warned}");
}
