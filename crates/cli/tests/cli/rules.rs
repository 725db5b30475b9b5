//! The rules command.

use crate::common::{demo, folder, run};
use std::collections::BTreeSet;

#[test]
fn the_demo_is_as_it_was() {
    let demo = demo();
    let (out, err, status) = run(&["rules", demo.to_str().unwrap(), "--device", "harbour-edge"]);
    assert_eq!((status, err.as_str()), (0, ""));
    assert!(out.lines().all(|line| line.chars().count() <= 140));
    // The order slip, the forgotten opening, the version without a filter.
    for part in
        ["shadowed: earlier", "2026-05-12", "default policy: INPUT and FORWARD accept", "list known-scanners"]
    {
        assert!(out.contains(part), "{part}: {out}");
    }
    insta::assert_snapshot!(out);
}

#[test]
fn rows_for_other_programs() {
    let list = "table inet t {\n chain c {\n type filter hook forward priority 0; policy drop;\n\
                ct state vmap { established : accept, invalid : drop }\n\
                ip saddr 10.0.0.0/8 tcp dport 443 log accept comment \"web\"\n\
                ip saddr 10.1.0.0/16 tcp dport { 443 } drop\n }\n chain lost {\n drop\n }\n}\n";
    let files = folder(&[("d/nft.txt", list)]);
    let path = files.path().to_str().unwrap();
    let (out, _, status) = run(&["rules", path, "--format", "json"]);
    assert_eq!(status, 0);
    let json: serde_json::Value = serde_json::from_str(&out).unwrap();
    assert_eq!(json["schema"], "trevlin-rules/1");
    let chains = json["filters"][0]["chains"].as_array().unwrap();
    let rules = chains[0]["rules"].as_array().unwrap();
    let verdicts: Vec<&str> = rules.iter().map(|rule| rule["verdict"].as_str().unwrap()).collect();
    assert_eq!(verdicts, ["effective", "effective", "effective", "shadowed"]);
    assert_eq!(rules[3]["covered_by"], serde_json::json!(["d/nft.txt:4", "d/nft.txt:5"]));
    assert_eq!((rules[2]["sources"].as_f64(), rules[2]["services"].as_f64()), (Some(24.0), Some(0.0)));
    assert_eq!(chains[1]["rules"][0]["verdict"], "unreachable");
    let (csv, _, _) = run(&["rules", path, "--format", "csv"]);
    let columns: BTreeSet<usize> = csv.lines().take(1).map(|line| line.split(',').count()).collect();
    assert_eq!((columns, csv.lines().count()), (BTreeSet::from([17]), 6));
}

#[test]
fn names_from_exports_are_neutralised() {
    let list = "*filter\n:INPUT DROP [0:0]\n:=cmd\u{1b}[31m - [0:0]\n-A INPUT -j =cmd\u{1b}[31m\n-A =cmd\u{1b}[31m -j DROP\nCOMMIT\n";
    let files = folder(&[("d/iptables-save.txt", list)]);
    let path = files.path().to_str().unwrap();
    for format in ["text", "json", "csv"] {
        let (out, _, status) = run(&["rules", path, "--format", format]);
        assert_eq!(status, 0);
        assert!(!out.contains('\u{1b}'), "{format}: {out:?}");
        assert!(format != "csv" || out.contains(",'=cmd"), "{out}");
    }
}

#[test]
fn nothing_to_review() {
    let files = folder(&[("d/etc/pptpd.conf", "remoteip 10.4.0.9\n")]);
    let path = files.path().to_str().unwrap();
    assert_eq!(run(&["rules", path]).0, "no packet filter was found in these exports\n");
    // A list that only selects for translation is no filter.
    let files = folder(&[(
        "d/iptables-save.txt",
        "*nat\n:POSTROUTING ACCEPT [0:0]\n-A POSTROUTING -s 10.0.0.0/8 -j MASQUERADE\n-A POSTROUTING -s 10.1.0.0/16 -j MASQUERADE\nCOMMIT\n",
    )]);
    let shown = run(&["rules", files.path().to_str().unwrap()]).0;
    assert!(
        shown.starts_with("no packet filter was found in these exports\n\nAddress translation\n"),
        "{shown}"
    );
    assert!(shown.contains("10.1.0.0/16"), "{shown}");
}

#[test]
fn many_checks_ask_for_the_review_of_a_long_list() {
    // The review is made by several threads while several checks wait for it.
    let rules: String = (0..1500)
        .map(|number| {
            format!(
                "-A FORWARD -s 10.{}.{}.0/24 -d 10.9.9.{} -p tcp --dport {} -j ACCEPT\n",
                number % 50,
                number % 97,
                number % 200,
                number % 40 + 1
            )
        })
        .collect();
    let list = format!("*filter\n:INPUT DROP [0:0]\n:FORWARD DROP [0:0]\n{rules}COMMIT\n");
    let files = folder(&[("a/iptables-save.txt", list.as_str()), ("b/iptables-save.txt", list.as_str())]);
    let (out, _, status) = run(&["audit", files.path().to_str().unwrap(), "--area", "rules", "-q"]);
    assert_eq!(status, 0);
    // Lists of this length repeat themselves.
    assert!(out.lines().all(|line| line.contains("shadowed")), "{out}");
}
