//! Coverage of checks and controls, with the built program.

use crate::common::{demo, folder, run};
use std::collections::BTreeMap;
use std::fs;
use std::path::{Path, PathBuf};
use tempfile::TempDir;

const SS: &str = "Netid State Recv-Q Send-Q Local Address:Port Peer Address:Port Process\n";

/// Two systems of which everything is known: `edge` by hand, `files` as the script collects it.
fn estate() -> TempDir {
    let made = folder(&[
        (
            "trevlin.toml",
            "[device.edge]\nkind = \"router\"\noutside = [\"eth0\"]\n[scope]\nsystems = [\"edge\", \"files\"]\n",
        ),
        (
            "edge/running/ip-addr.json",
            r#"[{"ifname":"eth0","operstate":"UP","addr_info":[{"family":"inet","local":"192.0.2.18","prefixlen":29}]},
{"ifname":"eth1","operstate":"UP","addr_info":[{"family":"inet","local":"10.20.4.1","prefixlen":24}]}]"#,
        ),
        (
            "edge/running/ip-route.json",
            r#"[{"dst":"default","gateway":"192.0.2.17","dev":"eth0"},{"dst":"10.20.4.0/24","dev":"eth1"}]"#,
        ),
        (
            "edge/running/ss.txt",
            &format!("{SS}tcp LISTEN 0 9 10.20.4.1:22 0.0.0.0:* users:((\"sshd\",pid=6,fd=3))\n"),
        ),
        ("edge/running/nft.txt", NFT),
        ("edge/running/sysctl.txt", "net.ipv4.ip_forward = 1\nnet.ipv4.conf.all.rp_filter = 1\n"),
        (
            "edge/etc/ssh/sshd_config",
            "PermitRootLogin no\nPasswordAuthentication no\nKbdInteractiveAuthentication no\n",
        ),
        ("edge/etc/passwd", "root:x:0:0:root:/root:/bin/bash\noda:x:1000:1000:Oda:/home/oda:/bin/bash\n"),
        ("edge/etc/shadow", "root:*:19000:0:99999:7:::\noda:!:19000:0:99999:7:::\n"),
        ("edge/etc/sudoers", "root ALL=(ALL:ALL) ALL\n"),
        ("edge/etc/chrony/chrony.conf", "server 10.20.4.9 iburst\n"),
        ("edge/etc/rsyslog.conf", "*.* @@10.20.4.9:514\n"),
        ("files/collect.log", "roles: all\n"),
        ("files/etc/passwd", "root:x:0:0:root:/root:/bin/bash\n"),
        ("files/etc/shadow", "root:*:19000:0:99999:7:::\n"),
        ("files/etc/chrony/chrony.conf", "server 10.20.4.1 iburst\n"),
        ("files/etc/exports", "/srv/a 10.20.4.1(ro,sync,no_subtree_check,sec=krb5p)\n"),
        (
            "files/running/ip-addr.json",
            r#"[{"ifname":"eth0","operstate":"UP","addr_info":[{"family":"inet","local":"10.20.4.9","prefixlen":24}]}]"#,
        ),
        ("files/running/ip-route.json", r#"[{"dst":"default","gateway":"10.20.4.1","dev":"eth0"}]"#),
        (
            "files/running/nft.txt",
            "table inet f {\n chain input {\n  type filter hook input priority filter; policy drop;\n }\n}\n",
        ),
        ("files/running/sysctl.txt", "net.ipv4.conf.all.rp_filter = 1\n"),
    ]);
    seal(made.path());
    made
}

const NFT: &str = "table inet f {
 chain input {
  type filter hook input priority filter; policy drop;
  ct state established,related accept
  iifname \"eth1\" ip saddr 10.20.4.0/24 tcp dport 22 accept
 }
 chain forward {
  type filter hook forward priority filter; policy drop;
 }
}
";

/// Writes the checksums of an estate.
fn seal(at: &Path) {
    let _ = fs::remove_file(at.join("manifest.sha256"));
    let (_, errors, code) = run(&["survey", at.to_str().unwrap(), "--checksums"]);
    assert_eq!(code, 0, "{errors}");
}

/// Every catalogue.
const CATALOGUES: &str = "bsi-grundschutz-2023,cis-controls-v8,iec-62443-3-3,iso-27002-2022,nis2-2024-2690,nist-csf-2.0,nist-sp800-53-r5,pci-dss-4.0";

fn covered(at: &Path, more: &[&str]) -> Option<serde_json::Value> {
    let path = at.to_str().unwrap();
    let fixed = ["coverage", path, "--format", "json", "--as-of", "2026-11-25", "--quiet"];
    let arguments: Vec<&str> = fixed.iter().chain(more).copied().collect();
    let (out, _, code) = run(&arguments);
    (code == 0).then(|| serde_json::from_str(&out).unwrap())
}

/// States of all controls, by catalogue and id.
fn states(at: &Path, more: &[&str]) -> Option<BTreeMap<(String, String), String>> {
    let found = covered(at, &[&["--controls", CATALOGUES], more].concat())?;
    let mut all = BTreeMap::new();
    let text = |value: &serde_json::Value| value.as_str().unwrap().to_owned();
    for catalogue in found["catalogues"].as_array().unwrap() {
        for control in catalogue["controls"].as_array().unwrap() {
            all.insert((text(&catalogue["name"]), text(&control["id"])), text(&control["state"]));
        }
    }
    Some(all)
}

fn state(at: &Path, id: &str) -> String {
    states(at, &[])
        .unwrap()
        .into_iter()
        .find(|((name, one), _)| name == "iso-27002-2022" && one == id)
        .unwrap()
        .1
}

fn count(at: &Path, wanted: &str) -> usize {
    states(at, &[]).unwrap().values().filter(|state| *state == wanted).count()
}

#[test]
fn controls_are_met_where_everything_was_there() {
    let estate = estate();
    let at = estate.path();
    assert_eq!((state(at, "8.17"), state(at, "5.14")), ("met".to_owned(), "not-met".to_owned()));
    let found = covered(at, &["--controls", "iso-27002-2022", "--passes"]).unwrap();
    let controls = found["catalogues"][0]["controls"].as_array().unwrap();
    let clock = controls.iter().find(|one| one["id"] == "8.17").unwrap();
    assert_eq!((&clock["passed"], &clock["basis"]), (&2.into(), &"2 passed.".into()));
    assert_eq!(clock["checks"][0]["check"], "upkeep/no-time-source");
    let checks = found["checks"].as_array().unwrap();
    let check = checks.iter().find(|one| one["check"] == "upkeep/no-time-source").unwrap();
    let evidence = &check["systems"][1]["passes"][0]["evidence"][0];
    assert_eq!((&evidence["path"], &evidence["line"]), (&"files/etc/chrony/chrony.conf".into(), &1.into()));
}

#[test]
fn nothing_is_met_without_what_could_show_a_fault() {
    let met = |change: &dyn Fn(&Path)| {
        let estate = estate();
        change(estate.path());
        count(estate.path(), "met")
    };
    let estate_file = |at: &Path, text: &str| {
        let path = at.join("trevlin.toml");
        let old = fs::read_to_string(&path).unwrap();
        fs::write(path, old.replace("systems = [\"edge\", \"files\"]\n", text)).unwrap();
    };
    let all = met(&|_| {});
    assert!(all > 20, "{all}");
    /// A change of the estate, with its name.
    type Case<'a> = (&'a str, &'a dyn Fn(&Path));
    let cases: [Case<'_>; 9] = [
        ("no scope", &|at| fs::remove_file(at.join("trevlin.toml")).unwrap()),
        ("no checksums", &|at| fs::remove_file(at.join("manifest.sha256")).unwrap()),
        ("a system without exports", &|at| estate_file(at, "systems = [\"edge\", \"files\", \"attic\"]\n")),
        ("a system that is not in scope", &|at| estate_file(at, "systems = [\"edge\"]\n")),
        ("no system in scope", &|at| estate_file(at, "systems = []\n")),
        ("a file that was changed", &|at| {
            fs::write(at.join("edge/etc/passwd"), "root:x:0:0::/:/bin/sh\n").unwrap()
        }),
        ("a file that is missing", &|at| fs::remove_file(at.join("files/etc/exports")).unwrap()),
        ("a file without a checksum", &|at| fs::write(at.join("edge/etc/hosts"), "").unwrap()),
        ("a file of an unknown program", &|at| {
            fs::create_dir_all(at.join("edge/etc/strange")).unwrap();
            fs::write(at.join("edge/etc/strange/x.conf"), "Listen everywhere\n").unwrap();
            seal(at);
        }),
    ];
    for (what, change) in cases {
        assert_eq!(met(change), 0, "{what}");
    }
    // A collection that lost files is not whole.
    assert_eq!(
        met(&|at| {
            fs::write(at.join("files/collect.log"), "roles: all\nnot copied: etc/shadow\n").unwrap();
            seal(at);
        }),
        0
    );
    // Of one system that is out of scope only paths through it are not known.
    let out =
        met(&|at| estate_file(at, "systems = [\"edge\", \"files\"]\n[scope.out]\nattic = \"sealed\"\n"));
    assert!(out > 0 && out < all, "{out} of {all}");
    // An export that checks need.
    let without = met(&|at| {
        fs::remove_file(at.join("edge/etc/sudoers")).unwrap();
        seal(at);
    });
    assert!(without > 0 && without < all, "{without} of {all}");
}

/// Files of an estate, relative to it.
fn files(at: &Path) -> Vec<PathBuf> {
    let mut found = Vec::new();
    let mut folders = vec![at.to_owned()];
    while let Some(folder) = folders.pop() {
        for entry in fs::read_dir(folder).unwrap() {
            let path = entry.unwrap().path();
            if path.is_dir() {
                folders.push(path);
            } else {
                found.push(path.strip_prefix(at).unwrap().to_owned());
            }
        }
    }
    found.sort();
    found
}

/// Numbers that look random and are the same in every run.
struct Numbers(u64);

impl Numbers {
    fn below(&mut self, end: usize) -> usize {
        self.0 = self.0.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1_442_695_040_888_963_407);
        (self.0 >> 33) as usize % end
    }
}

/// Takes files away: one, several, or all of a device.
fn taken(all: &[PathBuf], round: usize, numbers: &mut Numbers) -> Vec<PathBuf> {
    match round % 4 {
        3 => {
            let folder = all[numbers.below(all.len())].components().next().unwrap().as_os_str().to_owned();
            all.iter().filter(|path| path.starts_with(&folder)).cloned().collect()
        }
        2 => (0..1 + numbers.below(all.len() / 3)).map(|_| all[numbers.below(all.len())].clone()).collect(),
        _ => vec![all[numbers.below(all.len())].clone()],
    }
}

/// Taking a file away never turns a fault, or something that was not judged, into a control that is met.
#[test]
fn files_that_are_taken_away_never_make_a_control_met() {
    let sealed = estate();
    let demo = demo();
    let after = demo.parent().unwrap().join("after");
    for (of, rounds) in [(sealed.path(), 48), (after.as_path(), 6), (demo.as_path(), 4)] {
        let before = states(of, &[]).unwrap();
        let all = files(of);
        let mut numbers = Numbers(7);
        for round in 0..rounds {
            let gone = taken(&all, round, &mut numbers);
            let copy = tempfile::tempdir().unwrap();
            for path in all.iter().filter(|path| !gone.contains(path)) {
                let to = copy.path().join(path);
                fs::create_dir_all(to.parent().unwrap()).unwrap();
                fs::copy(of.join(path), to).unwrap();
            }
            // Where nothing is left there is nothing to state.
            let Some(now) = states(copy.path(), &[]) else { continue };
            for (control, state) in &before {
                let was_open = matches!(state.as_str(), "not-met" | "partly-judged");
                assert!(!(was_open && now[control] == "met"), "{control:?} without {gone:?}");
            }
        }
    }
}

#[test]
fn catalogues_of_the_estate_and_of_files() {
    let estate = estate();
    let at = estate.path().to_str().unwrap();
    let own = "catalogue = \"trevlin-controls/1\"\nname = \"harbour\"\ntitle = \"Harbour rules\"\npublisher = \"Veyholm\"\n\
               [[control]]\nid = \"H1\"\nsays = \"Clocks are set.\"\nshows = \"time sources\"\nchecks = [\"upkeep/no-time-source\"]\n\
               [[control]]\nid = \"H2\"\nsays = \"Doors are locked.\"\nshows = \"nothing\"\n";
    fs::create_dir(estate.path().join("controls")).unwrap();
    fs::write(estate.path().join("controls/harbour.toml"), own).unwrap();
    let (out, errors, code) = run(&["coverage", at, "--controls", "harbour"]);
    assert_eq!((code, errors.as_str()), (0, ""));
    for part in ["Harbour rules", "Clocks are set.", "0 not judged, 1 met; 1 further control is not visible"]
    {
        assert!(out.contains(part), "{part}: {out}");
    }
    let elsewhere = tempfile::tempdir().unwrap();
    let file = elsewhere.path().join("x.toml");
    fs::write(&file, own.replace("harbour", "other")).unwrap();
    let (out, _, code) =
        run(&["coverage", at, "--controls", file.to_str().unwrap(), "--format", "csv", "--passes"]);
    let rows: Vec<&str> = out.lines().collect();
    assert!(
        code == 0 && rows[0].starts_with("catalogue,control,requirement,judged_part,applicable,state,"),
        "{out}"
    );
    assert!(
        rows[1].starts_with("Harbour rules,H1,Clocks are set.,time sources,yes,met,0,0,2,0,0,2 passed.,"),
        "{out}"
    );
    assert!(rows[1].ends_with("edge/etc/chrony/chrony.conf:1  server 10.20.4.9 iburst; files/etc/chrony/chrony.conf:1  server 10.20.4.1 iburst"), "{out}");
    assert!(rows[2].contains(",not visible in configurations,not judged,"), "{out}");
    // What is wrong is told with its line, and the others are used.
    fs::write(estate.path().join("controls/harbour.toml"), own.replace("no-time-source", "no-time-sources"))
        .unwrap();
    let (_, errors, code) = run(&["coverage", at]);
    assert!(
        code == 0 && errors.contains("controls/harbour.toml:9: there is no check `upkeep/no-time-sources`"),
        "{errors}"
    );
    let (_, errors, code) = run(&["coverage", at, "--controls", "iso-27002"]);
    assert!(code == 2 && errors.contains("Did you mean iso-27002-2022?"), "{errors}");
}

#[test]
fn forms_and_selection() {
    let demo = demo();
    let at = demo.to_str().unwrap();
    let (text, _, code) = run(&["coverage", at, "--as-of", "2026-11-25"]);
    assert_eq!(code, 0);
    for part in [
        "Scope: 2026-11-02 to 2026-11-13; 15 systems in scope.",
        "Out of scope: ticket-office (operated by a payment provider).",
        "Exports that checks need and systems lack",
        "listening sockets (`ss -tulpn`)",
    ] {
        assert!(text.contains(part), "{part}: {text}");
    }
    let (one, _, _) = run(&["coverage", at, "--device", "booking", "--passes", "--as-of", "2026-11-25"]);
    assert!(one.contains("on 1 system,") && one.contains("booking: booking/etc/passwd:1"), "{one}");
    assert!(!one.contains("yard-gate"), "{one}");
    let (_, errors, code) = run(&["coverage", at, "--device", "bokking"]);
    assert!(code == 2 && errors.contains("Did you mean booking?"), "{errors}");
    let (csv, _, _) = run(&["coverage", at, "--format", "csv", "--as-of", "2026-11-25"]);
    assert!(csv.starts_with(
        "area,check,title,system,failed,undetermined,passed,not_applicable,judged,lacks,passes\n"
    ));
    let (markdown, _, _) = run(&["coverage", at, "--format", "markdown", "--controls", "nist-csf-2.0"]);
    assert!(
        markdown.starts_with("# Coverage of the audit\n") && markdown.contains("| control | requirement |")
    );
    // The numbers are those of the audit.
    let found = covered(&demo, &[]).unwrap();
    let audit = crate::common::json(&demo, &[]);
    for key in ["failed", "undetermined", "passed"] {
        assert_eq!(found["summary"][key], audit["summary"]["tested"][key], "{key}");
    }
}

#[test]
fn checksums_of_the_demo_are_those_of_its_files() {
    let demo = demo();
    for at in [demo.clone(), demo.parent().unwrap().join("after")] {
        let (out, _, _) = run(&["survey", at.to_str().unwrap(), "--format", "json"]);
        let told: serde_json::Value = serde_json::from_str(&out).unwrap();
        let row = &told["manifests"][0];
        for key in ["changed", "missing", "added", "malformed"] {
            assert_eq!(
                row[key],
                serde_json::json!([]),
                "{key}: remove demo/*/manifest.sha256, then `trevlin survey --checksums`"
            );
        }
    }
}
