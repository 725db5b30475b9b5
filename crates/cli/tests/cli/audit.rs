//! The audit command on files in a temporary folder: its contract, its choices, bad input, traps.

use crate::common::{demo, folder, json, run};
use std::collections::BTreeSet;
use std::fs;

const SERVER: &str =
    "dev tun\nserver 10.8.0.0 255.255.255.0\nverify-client-cert none\nmanagement-client-auth\n";

#[test]
fn the_json_is_as_documented() {
    let outcome = json(&demo(), &[]);
    let keys =
        |value: &serde_json::Value| value.as_object().unwrap().keys().cloned().collect::<BTreeSet<_>>();
    let set = |names: &[&str]| names.iter().map(|name| (*name).to_owned()).collect::<BTreeSet<_>>();
    assert_eq!(
        keys(&outcome),
        set(&[
            "schema",
            "as_of",
            "coverage",
            "devices",
            "findings",
            "incomplete",
            "open_questions",
            "summary"
        ])
    );
    let device = &outcome["devices"][0];
    assert_eq!(keys(device), set(&["name", "kind", "exports"]));
    assert_eq!(
        keys(&device["exports"][0]),
        set(&["path", "format", "lines", "understood", "not_understood"])
    );
    let finding = &outcome["findings"][0];
    let fields = [
        "check",
        "area",
        "severity",
        "device",
        "title",
        "detail",
        "why_this_severity",
        "evidence",
        "remedy",
        "references",
        "fingerprint",
        "status",
    ];
    assert_eq!(keys(finding), set(&fields));
    assert_eq!(keys(&finding["evidence"][0]), set(&["path", "line", "end_line", "excerpt"]));
    assert_eq!(
        keys(&outcome["open_questions"][0]),
        set(&["check", "area", "device", "question", "evidence"])
    );
    assert_eq!(keys(&outcome["summary"]), set(&["by_severity", "by_area", "tested"]));
    let tested = &outcome["summary"]["tested"];
    assert_eq!(
        keys(tested),
        set(&["checks", "failed", "undetermined", "passed", "not_applicable", "incomplete_systems"])
    );
    assert!(tested["passed"].as_u64() > tested["failed"].as_u64(), "{tested}");
    let prints: BTreeSet<_> =
        outcome["findings"].as_array().unwrap().iter().map(|one| one["fingerprint"].as_str()).collect();
    assert_eq!(prints.len(), outcome["findings"].as_array().unwrap().len(), "a fingerprint for each finding");
    let ranks = ["critical", "high", "medium", "low", "info"];
    let rank = |one: &serde_json::Value| ranks.iter().position(|word| one["severity"] == *word).unwrap();
    assert!(outcome["findings"].as_array().unwrap().windows(2).all(|pair| rank(&pair[0]) <= rank(&pair[1])));
}

#[test]
fn a_fingerprint_stays_when_lines_move() {
    let print = |text: &str| {
        let folder = folder(&[("d/server.conf", text)]);
        json(folder.path(), &["--area", "logins"])["findings"][0]["fingerprint"].as_str().unwrap().to_owned()
    };
    assert_eq!(print(SERVER), print(&format!("# one line more\n\n{SERVER}")));
}

#[test]
fn traps() {
    const LAN: &str =
        r#"[{"ifname":"eth0","flags":["UP"],"addr_info":[{"local":"10.4.0.5","prefixlen":24}]}]"#;
    const POOL: &str = "option /etc/ppp/options\nremoteip 10.5.0.9-20\n";
    const OPTIONS: &str = "name gate\nrequire-mschap-v2\n";
    // Near misses that must not be found.
    for (name, files, check) in [
        (
            "PPTP in comments",
            &[("d/etc/pptpd.conf", "#option /o\n# remoteip 10.4.0.9-20\n")][..],
            "tunnels/pptp",
        ),
        (
            "a list used only for translation",
            &[
                ("d/ip-addr.json", LAN),
                (
                    "d/rules.v4",
                    "*nat\n-A POSTROUTING -s 10.4.0.0/24 -j SNAT --to-source 10.4.0.9-10.4.0.20\nCOMMIT\n",
                ),
            ],
            "addresses/",
        ),
        (
            "a disabled user line",
            &[
                ("d/etc/pptpd.conf", POOL),
                ("d/etc/ppp/options", OPTIONS),
                ("d/etc/ppp/chap-secrets", "#ann gate password *\nbob gate vK3!pw9-Zr7_qTx2mL *\n"),
            ],
            "secrets/weak",
        ),
        (
            "a user who may use no address",
            &[
                ("d/etc/pptpd.conf", POOL),
                ("d/etc/ppp/options", OPTIONS),
                ("d/etc/ppp/chap-secrets", "ann gate password -\n"),
            ],
            "secrets/weak-login-password",
        ),
        (
            "a later line overrides",
            &[("d/s.conf", &format!("{SERVER}verify-client-cert require\n"))],
            "logins/client-certificate-not-required",
        ),
        (
            "the first line wins",
            &[("d/etc/pptpd.conf", "remoteip 10.5.0.9-20\nremoteip 10.4.0.9-20\n"), ("d/ip-addr.json", LAN)],
            "addresses/",
        ),
        (
            "an interface that only looks like the Internet",
            &[
                ("d/ip-addr.json", LAN),
                ("d/ip-route.json", r#"[{"dst":"default","gateway":"10.4.0.1","dev":"eth0","flags":[]}]"#),
                ("d/iptables-save.txt", "*filter\n:INPUT ACCEPT [0:0]\nCOMMIT\n"),
            ],
            "exposure/",
        ),
    ] {
        let folder = folder(files);
        let outcome = json(folder.path(), &[]);
        let found: Vec<_> = outcome["findings"]
            .as_array()
            .unwrap()
            .iter()
            .map(|one| one["check"].as_str().unwrap())
            .collect();
        assert!(found.iter().all(|one| !one.starts_with(check)), "{name}: {found:?}");
    }
}

#[test]
fn selections() {
    let demo = demo();
    let all = json(&demo, &[]);
    let count = |outcome: &serde_json::Value| outcome["findings"].as_array().unwrap().len();
    for (arguments, field, value) in [
        (&["--area", "secrets"][..], "area", "secrets"),
        (&["--severity", "critical"], "severity", "critical"),
    ] {
        let some = json(&demo, arguments);
        let findings = some["findings"].as_array().unwrap();
        assert!(!findings.is_empty() && count(&some) < count(&all), "{arguments:?}");
        assert!(findings.iter().all(|one| one[field] == value), "{arguments:?}");
        let summed: u64 =
            some["summary"]["by_severity"].as_object().unwrap().values().filter_map(|one| one.as_u64()).sum();
        assert_eq!(summed, findings.len() as u64, "the summary counts what is shown");
    }
}

#[test]
fn a_device_is_shown_with_what_it_has_a_part_in() {
    let demo = demo();
    for name in ["dial-in", "quay-storage"] {
        let some = json(&demo, &["--device", name]);
        let findings = some["findings"].as_array().unwrap();
        let own = |finding: &serde_json::Value| {
            finding["evidence"]
                .as_array()
                .unwrap()
                .iter()
                .any(|place| place["path"].as_str().unwrap().starts_with(name))
        };
        assert!(findings.iter().all(own), "{name}");
        assert!(
            findings.iter().any(|one| one["check"] == "addresses/pools-overlap"),
            "{name}: it overlaps with the other"
        );
        assert_eq!(some["devices"].as_array().unwrap().len(), 1, "{name}");
    }
}

#[test]
fn exit_status() {
    let medium = folder(&[("d/s.conf", SERVER)]);
    let medium = medium.path().to_str().unwrap();
    let nothing = folder(&[("d/c.conf", "client\ndev tun\nremote 192.0.2.9\nremote-cert-tls server\n")]);
    let nothing = nothing.path().to_str().unwrap();
    for (arguments, status) in [
        (&["audit", medium][..], 0),
        (&["audit", medium, "--fail-on", "medium"], 1),
        (&["audit", medium, "--fail-on", "high"], 0),
        (&["audit", medium, "--fail-on", "low", "--severity", "high"], 0),
        (&["audit", nothing, "--fail-on", "info"], 0),
        (&["audit", "/no/such/folder"], 2),
        (&["audit"], 2),
        (&["audit", medium, "--area", "weather"], 2),
        (&["audit", medium, "--device", "nobody"], 2),
        (&["checks"], 0),
        (&["checks", "tunnels/nothing"], 2),
    ] {
        assert_eq!(run(arguments).2, status, "{arguments:?}");
    }
}

#[test]
fn the_date_of_the_audit_is_an_argument_and_is_named() {
    let folder = folder(&[("d/c.pem", include_str!("../../../readers/tests/cases/pem/ends-soon.pem"))]);
    let at = folder.path().to_str().unwrap();
    for (date, wanted) in [("2026-06-01", None), ("2026-12-01", Some("low")), ("2026-12-24", Some("medium"))]
    {
        let outcome = json(folder.path(), &["--as-of", date]);
        assert_eq!(outcome["as_of"], date);
        let found = outcome["findings"].as_array().unwrap();
        let expired = found.iter().find(|one| one["check"] == "secrets/certificate-expired");
        assert_eq!(expired.map(|one| one["severity"].as_str().unwrap()), wanted, "{date}");
        assert!(run(&["audit", at, "--as-of", date]).0.contains(&format!("judged as of {date}")));
    }
    // Without the argument it is today, and the output says which day that was.
    let output = crate::common::trevlin(&["audit", at]).env_remove("TREVLIN_AS_OF").output().unwrap();
    let text = String::from_utf8(output.stdout).unwrap();
    let said: String = text.split("judged as of ").nth(1).unwrap().chars().take(10).collect();
    let year: u32 = said.split('-').next().unwrap().parse().unwrap();
    assert!(year >= 2026, "{said}");
    assert_eq!(run(&["audit", at, "--as-of", "soon"]).2, 2);
}

#[test]
fn mistakes_are_met_with_a_suggestion() {
    let folder = folder(&[("harbour-edge/s.conf", SERVER)]);
    let at = folder.path().to_str().unwrap();
    for (arguments, part) in [
        (&["audit", at, "--device", "harbor-edge"][..], "Did you mean harbour-edge?"),
        (&["audit", at, "--area", "login"], "did you mean logins?"),
        (&["audit", at, "--fail-on", "hihg"], "did you mean high?"),
        (&["checks", "tunnels/pptp-answer"], "Did you mean tunnels/pptp"),
    ] {
        let (_, err, _) = run(arguments);
        assert!(err.contains(part), "{arguments:?}: {err}");
    }
}

#[test]
fn bad_input_is_named_and_the_rest_is_audited() {
    let folder = folder(&[
        ("good/s.conf", SERVER),
        ("bad/note.txt", "nothing to see\n"),
        ("odd/trunc.rules", "*filter\n:INPUT DROP [0:0]\n-A INP"),
    ]);
    fs::write(folder.path().join("bad/backup.bin"), b"\x7fELF\0\0\0\x01").unwrap();
    std::os::unix::fs::symlink("/no/such/file", folder.path().join("bad/iptables-save.txt")).unwrap();
    std::os::unix::fs::symlink("/etc/hostname", folder.path().join("bad/hostname")).unwrap();
    let (out, err, status) = run(&["audit", folder.path().to_str().unwrap()]);
    assert_eq!(status, 0);
    assert!(out.contains("good: OpenVPN server (s.conf) requires no client certificate"), "{out}");
    assert!(out.contains("odd/trunc.rules"), "{out}");
    assert!(out.contains("it ends in the middle of a line"), "{out}");
    assert!(out.contains("bad/note.txt  unsupported format: 1 of 1 lines"), "{out}");
    for part in [
        "bad/backup.bin: a binary file",
        "bad/iptables-save.txt: a broken link",
        "bad/hostname: a link that points outside",
    ] {
        assert!(err.contains(part), "{part}: {err}");
    }
}

#[test]
fn absolute_links_are_those_of_the_device() {
    let site = "server {\nlisten 80;\nserver_name a.example;\nlocation /admin { root /x; }\n}\n";
    let folder = folder(&[
        ("web/etc/nginx/nginx.conf", "events {}\nhttp {\ninclude /etc/nginx/sites-enabled/*;\n}\n"),
        ("web/etc/nginx/sites-available/a", site),
        ("other/root/etc/nginx/nginx.conf", "events {}\nhttp {\ninclude /etc/nginx/sites-enabled/*;\n}\n"),
        ("other/root/etc/nginx/sites-available/a", site),
    ]);
    let link = |target: &str, at: &str| {
        let at = folder.path().join(at);
        fs::create_dir_all(at.parent().unwrap()).unwrap();
        std::os::unix::fs::symlink(target, at).unwrap();
    };
    link("/etc/nginx/sites-available/a", "web/etc/nginx/sites-enabled/a");
    link("/etc/nginx/sites-available/b", "other/root/etc/nginx/sites-enabled/b");
    link("a", "other/root/etc/nginx/sites-available/b");
    // A file that the reading machine has is none of the device.
    link("/etc/hostname", "web/etc/nginx/sites-enabled/c");
    let (out, err, status) = run(&["services", folder.path().to_str().unwrap()]);
    assert_eq!(status, 0, "{err}");
    assert_eq!(out.matches("web site a.example").count(), 2, "{out}");
    assert!(err.contains("web/etc/nginx/sites-enabled/c: a link that points outside"), "{err}");
    assert_eq!(err.matches("sites-enabled").count(), 1, "{err}");
}

#[test]
fn etc_itself_may_be_given_and_many_links_are_one_line() {
    let site = "server {\nlisten 80;\nserver_name a.example;\nlocation /admin { root /x; }\n}\n";
    let folder = folder(&[
        ("etc/nginx/nginx.conf", "events {}\nhttp {\ninclude /etc/nginx/sites-enabled/*;\n}\n"),
        ("etc/nginx/sites-available/a", site),
        ("etc/hostname", "web\n"),
    ]);
    let link = |target: &str, at: &str| {
        let at = folder.path().join(at);
        fs::create_dir_all(at.parent().unwrap()).unwrap();
        std::os::unix::fs::symlink(target, at).unwrap();
    };
    link("/etc/nginx/sites-available/a", "etc/nginx/sites-enabled/a");
    for number in 0..9 {
        link("/usr/bin/env", &format!("etc/alternatives/tool-{number}"));
        link("/usr/bin/env", &format!("etc/own/tool-{number}"));
    }
    let etc = folder.path().join("etc");
    let (out, err, status) = run(&["services", etc.to_str().unwrap()]);
    assert_eq!(status, 0, "{err}");
    assert!(out.contains("web site a.example"), "{out}");
    assert_eq!(err.matches("a link that points outside").count(), 1, "{err}");
    assert!(err.contains("etc/own: 9 files: a link"), "{err}");
    let (_, err, _) = run(&["services", "-v", etc.to_str().unwrap()]);
    assert_eq!(err.matches("a link that points outside").count(), 18, "{err}");
    let (out, _, _) = run(&["audit", etc.to_str().unwrap()]);
    assert!(out.contains("etc/own: 9 files: a link"), "{out}");
}

#[test]
fn services_of_files_in_no_format_are_not_said_to_be_none() {
    let folder = folder(&[
        ("d/etc/courier/imapd", "ADDRESS=0\nPORT=143\n"),
        ("d/etc/hosts.allow", "# none\n"),
        ("d/etc/passwd", "ann:x:1000:1000::/home/ann:/bin/sh\n"),
    ]);
    let path = folder.path().to_str().unwrap();
    let (out, _, _) = run(&["services", path]);
    assert!(out.contains("services that they configure are not listed: d/etc/courier/imapd"), "{out}");
    let (out, _, _) = run(&["services", "--format", "json", path]);
    assert!(out.contains("\"path\": \"d/etc/courier/imapd\""), "{out}");
}

#[test]
fn a_file_that_may_not_be_read_is_named() {
    use std::os::unix::fs::PermissionsExt;
    let folder = folder(&[("good/s.conf", SERVER), ("bad/s.conf", SERVER)]);
    let bad = folder.path().join("bad/s.conf");
    fs::set_permissions(&bad, fs::Permissions::from_mode(0o000)).unwrap();
    let readable = fs::read(&bad).is_ok();
    let (out, err, status) = run(&["audit", folder.path().to_str().unwrap()]);
    assert_eq!(status, 0);
    assert!(out.contains("good: OpenVPN server"), "{out}");
    // Root reads this file as well.
    if !readable {
        assert!(err.contains("bad/s.conf: it may not be read by you"), "{err}");
    }
}

#[test]
fn nothing_to_audit_is_said() {
    let empty = folder(&[]);
    let unknown = folder(&[("d/letter.txt", "Dear auditor,\n")]);
    let mixed = folder(&[("d/s.conf", SERVER)]);
    let at = |folder: &tempfile::TempDir| folder.path().to_str().unwrap().to_owned();
    for (paths, status, part) in [
        (vec![at(&empty)], 2, "nothing to audit: no file in"),
        (vec![at(&unknown)], 2, ", none has a supported format. Supported are:"),
        (vec!["/no/such".into()], 2, "there is no such file or folder"),
        (vec!["/no/such".into(), at(&mixed)], 0, "/no/such: there is no such file or folder"),
        (vec!["/no/such".into(), at(&mixed), "-q".into()], 0, "/no/such: there is no such file or folder"),
    ] {
        let arguments: Vec<&str> = ["audit"].into_iter().chain(paths.iter().map(String::as_str)).collect();
        let (_, err, code) = run(&arguments);
        assert_eq!(code, status, "{paths:?}: {err}");
        assert!(err.contains(part), "{paths:?}: {err}");
    }
}

#[test]
fn an_estate_file_names_devices_and_stops_the_run_when_wrong() {
    let files = |text| folder(&[("trevlin.toml", text), ("fw/s.conf", SERVER)]);
    let good = files("[device.fw]\nname = \"gate\"\nkind = \"firewall\"\n");
    let outcome = json(good.path(), &[]);
    assert_eq!(
        (&outcome["devices"][0]["name"], &outcome["devices"][0]["kind"]),
        (&"gate".into(), &"firewall".into())
    );
    let bad = files("[device.fw]\nkind = \"toaster\"\n");
    let (_, err, status) = run(&["audit", bad.path().to_str().unwrap()]);
    assert_eq!(status, 2);
    assert!(err.contains("trevlin.toml") && err.contains("line 2") && err.contains("toaster"), "{err}");
}

#[test]
fn folders_files_and_several_paths() {
    let folder = folder(&[
        ("a/etc/openvpn/s.conf", SERVER),
        ("b/s.conf", SERVER),
        ("c/b/s.conf", SERVER),
        ("x/b/s.conf", SERVER),
    ]);
    let at = |path: &str| folder.path().join(path).to_str().unwrap().to_owned();
    for (paths, devices, places) in [
        (vec![at("")], "a b c x", "a/etc/openvpn/s.conf b/s.conf c/b/s.conf x/b/s.conf"),
        (vec![at("a")], "a", "etc/openvpn/s.conf"),
        (vec![at("a/etc/openvpn/s.conf")], "a", "s.conf"),
        (vec![at("b/s.conf")], "b", "s.conf"),
        (vec![at("a"), at("b")], "a b", "a/etc/openvpn/s.conf b/s.conf"),
        (vec![at("b"), at("b")], "b", "s.conf"),
        (vec![at("b"), at("b/s.conf")], "b", "b/s.conf"),
        (vec![at("c/b"), at("x/b")], "c/b x/b", "c/b/s.conf x/b/s.conf"),
        (vec![at("x/b/s.conf"), at("c/b/s.conf")], "c/b x/b", "c/b/s.conf x/b/s.conf"),
    ] {
        let arguments: Vec<&str> =
            ["audit", "--format", "json"].into_iter().chain(paths.iter().map(String::as_str)).collect();
        let outcome: serde_json::Value = serde_json::from_str(&run(&arguments).0).unwrap();
        let names: Vec<_> =
            outcome["devices"].as_array().unwrap().iter().map(|one| one["name"].as_str().unwrap()).collect();
        let exports =
            outcome["devices"].as_array().unwrap().iter().flat_map(|one| one["exports"].as_array().unwrap());
        let found: Vec<_> = exports.map(|one| one["path"].as_str().unwrap()).collect();
        assert_eq!((names.join(" ").as_str(), found.join(" ").as_str()), (devices, places), "{paths:?}");
    }
}

#[test]
fn names_from_exports_cannot_act_on_a_terminal() {
    let text = "# \u{1b}]0;owned\u{7}\n\u{1b}[2Jann * password *\n";
    let folder = folder(&[("d/etc/ppp/chap-secrets", text)]);
    let at = folder.path().to_str().unwrap();
    for arguments in [&["audit", at][..], &["audit", at, "-q"], &["audit", at, "--format", "json"]] {
        let (out, err, _) = run(arguments);
        assert!(!out.contains('\u{1b}') && !err.contains('\u{1b}'), "{arguments:?}: {out:?}");
        assert!(out.contains("ann"), "{arguments:?}");
    }
}

#[test]
fn colour_only_where_wanted() {
    let demo = demo();
    let demo = demo.to_str().unwrap();
    for (arguments, coloured) in [
        (&["audit", demo][..], false),
        (&["audit", demo, "--color", "always"], true),
        (&["audit", demo, "--color", "never"], false),
    ] {
        assert_eq!(run(arguments).0.contains('\u{1b}'), coloured, "{arguments:?}");
    }
}

#[test]
fn verbose_says_what_each_file_was_taken_for() {
    let folder = folder(&[("d/s.conf", SERVER), ("d/letter.txt", "Dear auditor,\n")]);
    let (_, err, _) = run(&["audit", folder.path().to_str().unwrap(), "-v"]);
    assert!(err.contains("d/s.conf: OpenVPN configuration (openvpn), device d"), "{err}");
    assert!(err.contains("d/letter.txt: unsupported format"), "{err}");
}

#[test]
fn files_read_by_another_are_not_called_unknown() {
    let folder = folder(&[
        ("d/s.conf", "dev tun\nserver 10.8.0.0 255.255.255.0\nconfig more.inc\n"),
        ("d/more.inc", "topology subnet\nverb 3\nwobble 3\n"),
    ]);
    let outcome = json(folder.path(), &[]);
    let more = &outcome["devices"][0]["exports"][0];
    assert_eq!((more["path"].as_str(), more["format"].as_str()), (Some("d/more.inc"), Some("openvpn")));
    assert_eq!((more["understood"].as_u64(), more["not_understood"].as_u64()), (Some(2), Some(1)));
}
