//! The baseline, as the built program judges by it.

use crate::common::{demo, folder, json, run};

const TOKEN: &str = "Qm7xVt2Kp9Lz";
const STATED: &str = "[device.edge]\nsite = \"yard\"\n[baseline]\nservice_secret_length = 10\n\
                      [baseline.site.yard]\nbase = \"strict\"\n[baseline.device.store]\nservice_secret_length = 13\n";

#[test]
fn a_device_and_a_place_are_judged_by_their_own() {
    let secret = format!("rocommunity {TOKEN}\n");
    let files = [
        ("edge/etc/snmp/snmpd.conf", secret.as_str()),
        ("store/etc/snmp/snmpd.conf", secret.as_str()),
        ("plain/etc/snmp/snmpd.conf", secret.as_str()),
        ("trevlin.toml", STATED),
    ];
    let estate = folder(&files);
    let found = json(estate.path(), &[]);
    let weak: Vec<&str> = found["findings"]
        .as_array()
        .unwrap()
        .iter()
        .filter(|one| one["check"] == "secrets/weak-service-secret")
        .map(|one| one["device"].as_str().unwrap())
        .collect();
    assert_eq!(weak, ["edge", "store"]);

    let path = estate.path().to_str().unwrap();
    let (out, _, code) = run(&["baseline", path, "--format", "json"]);
    let told: serde_json::Value = serde_json::from_str(&out).unwrap();
    let rows: Vec<(&str, &str, &str)> = told["baseline"]
        .as_array()
        .unwrap()
        .iter()
        .filter(|row| row["key"] == "service_secret_length")
        .map(|row| {
            let text = |key: &str| row[key].as_str().unwrap_or("-");
            (text("device"), text("value"), text("source"))
        })
        .collect();
    assert_eq!((code, &told["schema"]), (0, &"trevlin-baseline/1".into()));
    assert_eq!(
        rows,
        [
            ("-", "10 characters", "trevlin.toml, line 4"),
            ("edge", "15 characters", "strict; as for a single-factor password"),
            ("store", "13 characters", "trevlin.toml, line 8, device store"),
        ]
    );
}

#[test]
fn another_one_for_a_purpose_finds_more_or_less() {
    let count = |args: &[&str]| json(&demo(), args)["findings"].as_array().unwrap().len();
    let (strict, usual, legacy) =
        (count(&["--baseline", "strict"]), count(&[]), count(&["--baseline", "legacy-site"]));
    assert!(strict > usual && usual > legacy, "{strict} {usual} {legacy}");
    assert_eq!(usual, count(&["--baseline", "default"]));
}

#[test]
fn what_is_there_is_shown_and_what_is_not_is_told() {
    let (out, _, code) = run(&["baseline"]);
    assert_eq!(code, 0);
    for part in ["key_strength", "112 bits", "NIST SP 800-131A", "legacy-site"] {
        assert!(out.contains(part), "{part}: {out}");
    }
    let estate = folder(&[
        ("edge/etc/snmp/snmpd.conf", "rocommunity a\n"),
        ("trevlin.toml", "[baseline.device.egde]\nkey_strength = 128\n"),
    ]);
    let (_, err, _) = run(&["baseline", estate.path().to_str().unwrap()]);
    assert!(err.contains("line 1: there is no device `egde`"), "{err}");
    for (args, part) in [
        (&["baseline", "--base", "strickt"][..], "did you mean `strict`?"),
        (
            &["audit", demo().to_str().unwrap(), "--baseline", "none"],
            "known are default, strict, legacy-site",
        ),
    ] {
        let (_, err, code) = run(args);
        assert!(code == 2 && err.contains(part), "{err}");
    }
}
