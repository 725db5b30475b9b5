//! Copies for passing on, as the built program makes them.

use crate::common::{demo, folder, json, run};
use crate::leaks;
use base64::Engine;
use base64::engine::general_purpose::STANDARD;
use std::collections::BTreeMap;
use std::fs;
use std::path::{Path, PathBuf};
use tempfile::TempDir;

fn text(path: &Path) -> String {
    path.to_string_lossy().into_owned()
}

/// A scrubbed copy of a folder, and the output of the program.
fn copy(of: &Path, more: &[&str]) -> (TempDir, String) {
    let into = TempDir::new().unwrap();
    let (of, to) = (text(of), text(into.path()));
    let arguments: Vec<&str> =
        ["scrub", &of, "--into", &to].into_iter().chain(more.iter().copied()).collect();
    let (out, err, code) = run(&arguments);
    assert_eq!(code, 0, "{err}");
    (into, out)
}

/// Every file below a folder, by path.
fn files(below: &Path) -> BTreeMap<PathBuf, String> {
    let mut found = BTreeMap::new();
    let mut folders = vec![below.to_owned()];
    while let Some(folder) = folders.pop() {
        for entry in fs::read_dir(folder).unwrap() {
            let at = entry.unwrap().path();
            match at.is_dir() {
                true => folders.push(at),
                false => {
                    let text = fs::read_to_string(&at).unwrap();
                    found.insert(at.strip_prefix(below).unwrap().to_owned(), text);
                }
            }
        }
    }
    found
}

/// How often each check found something of each severity, but for how hard secrets are to guess.
fn findings(of: &Path) -> BTreeMap<(String, String), usize> {
    let mut found = BTreeMap::new();
    for one in json(of, &[])["findings"].as_array().unwrap() {
        let word = |key: &str| one[key].as_str().unwrap().to_owned();
        let of_grade =
            word("check").starts_with("secrets/weak-") && word("check") != "secrets/weak-password-hash";
        if !of_grade {
            *found.entry((word("check"), word("severity"))).or_default() += 1;
        }
    }
    found
}

#[test]
fn no_secret_of_any_format_remains() {
    let (files_made, secrets) = leaks::canaries();
    let files_made: Vec<(&str, &str)> =
        files_made.iter().map(|(path, text)| (path.as_str(), text.as_str())).collect();
    let estate = folder(&files_made);
    for more in [&["--with-unread"][..], &["--with-unread", "--addresses", "--names"]] {
        let (into, said) = copy(estate.path(), more);
        let mut all: Vec<(PathBuf, String)> = files(into.path()).into_iter().collect();
        assert_eq!(all.len(), files_made.len());
        all.push((PathBuf::from("what is said"), said));
        let mut left = Vec::new();
        for secret in &secrets {
            let hex: String = secret.bytes().map(|byte| format!("{byte:02x}")).collect();
            for form in [secret.clone(), hex.to_uppercase(), hex, STANDARD.encode(secret)] {
                for (path, text) in &all {
                    let lines = text.lines().filter(|line| line.contains(&form));
                    left.extend(lines.map(|line| format!("{}: {line}", path.display())));
                }
            }
        }
        assert!(left.is_empty(), "{}", left.join("\n"));
        if more.len() == 1 {
            let (copied, own) = (findings(into.path()), findings(estate.path()));
            let differs: Vec<_> =
                own.iter().filter(|(what, count)| copied.get(what) != Some(count)).collect();
            assert!(differs.is_empty() && copied.len() == own.len(), "{differs:?}");
        }
    }
}

#[test]
fn the_copy_of_the_demo_audits_to_the_same() {
    let (into, said) = copy(&demo(), &[]);
    assert_eq!(findings(into.path()), findings(&demo()));
    assert!(said.contains("north-terminal/etc/xl2tpd/xl2tpd.conf:6: ip range = 10.20.10.200.225"), "{said}");
    let all = files(into.path());
    for secret in ["oldskipper99", "ferry1234", "m4Rl1n-spike*Vat7", "Veyholm-2026", "tidal Wax9", "public\n"]
    {
        assert!(all.values().all(|text| !text.contains(secret)), "{secret}");
    }
    // Reuse stays visible, and what is no secret is as it was.
    let clients = &all[Path::new("aaa/etc/freeradius/3.0/clients.conf")];
    let stand_in = clients.lines().find(|line| line.contains("secret = scrubbed-")).unwrap();
    let stand_in = stand_in.rsplit(' ').next().unwrap();
    assert_eq!(all.values().map(|text| text.matches(stand_in).count()).sum::<usize>(), 4);
    for same in ["harbour-edge/running/iptables-save.txt", "booking/etc/ssh/sshd_config", "trevlin.toml"] {
        assert_eq!(all[Path::new(same)], fs::read_to_string(demo().join(same)).unwrap());
    }
}

#[test]
fn other_addresses_and_names_leave_the_findings() {
    let keys = TempDir::new().unwrap();
    let key = text(&keys.path().join("key.json"));
    let more = ["--addresses", "--names", "--key", &key];
    let (first, said) = copy(&demo(), &more);
    assert_eq!(findings(first.path()), findings(&demo()));
    assert!(said.contains("Certificates, which contain names and are unchanged"), "{said}");
    let all = files(first.path());
    for (path, text) in all.iter().filter(|(path, _)| path.extension().is_none_or(|ending| ending != "pem")) {
        for known in ["10.20.4.", "203.0.113.64", "veyholm", "Veyholm", "astrid", "harbour-edge"] {
            let held = text.contains(known) || path.to_string_lossy().contains(known);
            assert!(!held, "{known} in {}", path.display());
        }
    }
    let kept: serde_json::Value = serde_json::from_str(&fs::read_to_string(&key).unwrap()).unwrap();
    assert_eq!(kept["schema"], "trevlin-scrub-key/1");
    assert!(kept["names"]["veyholm"].is_string() && kept["addresses"]["10.20.4.20"].is_string());
    assert!(!kept.to_string().contains("ferry1234"));
    // The same key makes the same copy, another one another.
    let (again, _) = copy(&demo(), &more);
    assert_eq!(files(again.path()), all);
    let (other, _) = copy(&demo(), &["--addresses", "--names"]);
    assert_ne!(files(other.path()), all);
}

#[test]
fn what_nobody_understands_is_listed_and_left_out() {
    let estate = folder(&[
        (
            "gate/etc/snmp/snmpd.conf",
            "rocommunity sesame-7\nfrobnicate secret=Lantern-9\n# old password: hunter2\n",
        ),
        ("gate/notes.txt", "the key is Moorhen-4711\n"),
    ]);
    let (into, said) = copy(estate.path(), &[]);
    assert!(said.contains("gate/etc/snmp/snmpd.conf:2: frobnicate secret=scrubbed-"), "{said}");
    assert!(
        said.contains("Not copied, in unsupported formats (--with-unread copies them)")
            && said.contains("gate/notes.txt"),
        "{said}"
    );
    let all = files(into.path());
    assert_eq!(all.len(), 1);
    assert!(all.values().all(|text| !text.contains("hunter2") && !text.contains("Lantern")), "{all:?}");
    let (into, said) = copy(estate.path(), &["--with-unread"]);
    assert!(said.contains("notes.txt:1: the key is scrubbed-"), "{said}");
    assert!(!files(into.path())[Path::new("gate/notes.txt")].contains("Moorhen"));
}

#[test]
fn where_a_copy_may_not_go() {
    let estate = folder(&[("gate/etc/snmp/snmpd.conf", "rocommunity sesame\n")]);
    let of = text(estate.path());
    let full = folder(&[("here", "x")]);
    let elsewhere = TempDir::new().unwrap();
    let at = |name: &str| text(&elsewhere.path().join(name));
    fs::write(elsewhere.path().join("no-key.json"), "{}").unwrap();
    for (into, more, part) in [
        (text(&estate.path().join("copy")), vec![], "which is copied"),
        (text(full.path()), vec![], "already exists; name another folder, or use --force to write into it"),
        (
            at("copy"),
            vec!["--key".to_owned(), at("copy/key.json")],
            "the key file would be part of the copy; keep it elsewhere",
        ),
        (
            at("copy"),
            vec!["--key".to_owned(), at("no-key.json")],
            "is not a key file of `trevlin scrub`; name another file to create one",
        ),
        (
            at("copy"),
            vec!["--key".to_owned(), text(&estate.path().join("gate/key.json"))],
            "the next run would read the key",
        ),
    ] {
        let arguments: Vec<&str> =
            ["scrub", &of, "--into", &into].into_iter().chain(more.iter().map(String::as_str)).collect();
        let (_, err, code) = run(&arguments);
        assert!(code == 2 && err.contains(part), "{part}: {err}");
    }
    assert!(!elsewhere.path().join("copy").exists());
}

#[cfg(unix)]
#[test]
fn an_interrupted_copy_is_none() {
    let estate = folder(&[]);
    for device in 0..60 {
        for file in ["etc/snmp/snmpd.conf", "etc/ssh/sshd_config", "etc/motd.conf"] {
            let at = estate.path().join(format!("d{device}/{file}"));
            std::fs::create_dir_all(at.parent().unwrap()).unwrap();
            std::fs::write(at, "rocommunity tide-and-gull\nPort 22\nPermitRootLogin yes\n").unwrap();
        }
    }
    let work = tempfile::TempDir::new().unwrap();
    let mut whole = 0;
    for wait in (0..400).step_by(20) {
        let into = work.path().join(format!("copy{wait}"));
        let program = assert_cmd::cargo::cargo_bin("trevlin");
        let mut child = std::process::Command::new(program)
            .args(["scrub", "--into"])
            .args([&into, &estate.path().to_owned()])
            .stdout(std::process::Stdio::null())
            .spawn()
            .unwrap();
        std::thread::sleep(std::time::Duration::from_millis(wait));
        let _ = child.kill();
        child.wait().unwrap();
        // There under its name, it is all there.
        if into.exists() {
            whole += 1;
            for device in 0..60 {
                assert!(into.join(format!("d{device}/etc/ssh/sshd_config")).is_file());
            }
        }
    }
    let named = std::fs::read_dir(work.path())
        .unwrap()
        .map(|entry| entry.unwrap().file_name().into_string().unwrap());
    let others: Vec<String> = named.filter(|name| !name.starts_with("copy")).collect();
    assert!(others.iter().all(|name| name.starts_with(".trevlin-unfinished-")), "{others:?}");
    assert!(whole < 20, "none was interrupted");
}

#[cfg(unix)]
#[test]
fn nothing_is_written_through_a_link() {
    use std::os::unix::fs::symlink;
    let work = tempfile::TempDir::new().unwrap();
    let outside = work.path().join("outside");
    std::fs::create_dir(&outside).unwrap();
    let estate = folder(&[("gate/etc/snmp/snmpd.conf", "rocommunity tide-and-gull\n")]);
    let copy = work.path().join("copy");
    std::fs::create_dir_all(copy.join("gate")).unwrap();
    symlink(&outside, copy.join("gate/etc")).unwrap();
    let path = |at: &std::path::Path| at.to_string_lossy().into_owned();
    let (_, err, code) = run(&["scrub", &path(estate.path()), "--into", &path(&copy), "--force"]);
    assert!(code == 2 && err.contains("is a link, and is not written through"), "{err}");
    assert!(std::fs::read_dir(&outside).unwrap().next().is_none());
}

#[test]
fn two_files_do_not_become_one() {
    // Names that differ in capitals have one stand-in, and a device is called as a stand-in is.
    let estate = folder(&[
        ("trevlin.toml", "organisation = [\"Skerry\"]\n"),
        ("Edge/etc/snmp/snmpd.conf", "rocommunity first-word\nsysName of-one\n"),
        ("edge/etc/snmp/snmpd.conf", "rocommunity second-word\nsysName of-two\n"),
        ("device1/etc/snmp/snmpd.conf", "rocommunity third-word\nsysName of-three\n"),
        ("quay/etc/snmp/snmpd.conf", "rocommunity fourth-word\nsysName skerrynet\n"),
    ]);
    let (made, said) = copy(estate.path(), &["--names"]);
    let all = files(made.path());
    assert_eq!(all.len(), 5, "{all:?}");
    for own in ["of-one", "of-two", "of-three"] {
        assert_eq!(all.values().filter(|text| text.contains(own)).count(), 1, "{own}");
    }
    assert!(said.contains("Renamed, because two files would have the same name:\n"), "{said}");
    assert!(said.contains("belongs to another organisation"), "{said}");
    let left = said
        .split("Remaining names of the organisation; replace them before sharing the copy")
        .nth(1)
        .unwrap();
    assert!(left.contains("etc/snmp/snmpd.conf:2: skerry\n"), "{said}");
}

#[cfg(unix)]
#[test]
fn a_run_that_is_told_to_end_leaves_nothing_behind() {
    use std::os::unix::process::ExitStatusExt;
    let estate = folder(&[]);
    for device in 0..400 {
        let at = estate.path().join(format!("d{device}/etc/snmp/snmpd.conf"));
        fs::create_dir_all(at.parent().unwrap()).unwrap();
        fs::write(at, "rocommunity tide-and-gull\nsysName of-a-gate\n").unwrap();
    }
    let work = TempDir::new().unwrap();
    let of = |path: &Path| -> Vec<String> {
        let all = fs::read_dir(path).unwrap();
        all.map(|entry| entry.unwrap().file_name().to_string_lossy().into_owned()).collect()
    };
    let mut ended = 0;
    for signal in ["INT", "TERM", "HUP"].into_iter().cycle().take(60) {
        let into = work.path().join("copy");
        let mut child = std::process::Command::new(assert_cmd::cargo::cargo_bin("trevlin"))
            .args(["scrub", "--into"])
            .args([&into, &estate.path().to_owned()])
            .stdout(std::process::Stdio::null())
            .spawn()
            .unwrap();
        // As soon as something is begun.
        let status = loop {
            if !of(work.path()).is_empty() {
                let id = child.id().to_string();
                std::process::Command::new("kill").args(["-s", signal, &id]).status().unwrap();
                break child.wait().unwrap();
            }
            if let Some(status) = child.try_wait().unwrap() {
                break status;
            }
        };
        let left = of(work.path());
        if status.signal().is_some() {
            ended += 1;
            // The signal may arrive after the end of the work.
            assert!(left.is_empty() || left == ["copy"], "{signal}: {left:?}");
        }
        if into.exists() {
            assert_eq!(of(&into).len(), 400);
            fs::remove_dir_all(into).unwrap();
        }
    }
    assert!(ended > 10, "{ended} of 60 were told in time");
}

#[cfg(unix)]
#[test]
fn where_there_is_no_room_nothing_is_left() {
    let estate = folder(&[("gate/etc/snmp/snmpd.conf", "rocommunity sesame\nagentaddress udp:161\n")]);
    fs::write(
        estate.path().join("gate/etc/snmp/snmpd.conf"),
        "rocommunity sesame\n".to_owned() + &"# of no use\n".repeat(900),
    )
    .unwrap();
    let demo = text(&demo());
    let work = TempDir::new().unwrap();
    let at = |name: &str| text(&work.path().join(name));
    let (copy, report, plan, into) = (at("copy"), at("report.html"), at("plan.svg"), at("demo"));
    let (full, gate) = (at("full"), text(estate.path()));
    fs::create_dir_all(work.path().join("full/gate")).unwrap();
    fs::write(work.path().join("full/gate/mine"), "stays\n").unwrap();
    let program = assert_cmd::cargo::cargo_bin("trevlin");
    for arguments in [
        vec!["scrub", &gate, "--into", &copy],
        vec!["scrub", &gate, "--into", &full, "--force"],
        vec!["report", &demo, "--to", &report],
        vec!["addresses", &demo, "--picture", &plan],
        vec!["demo", "--into", &into],
    ] {
        // Files may have 4 KiB and no more, as on a disk that is full.
        let output = std::process::Command::new("sh")
            .args(["-c", "trap '' XFSZ; ulimit -f 8; exec \"$0\" \"$@\""])
            .arg(&program)
            .args(&arguments)
            .output()
            .unwrap();
        let err = String::from_utf8_lossy(&output.stderr);
        assert_eq!(output.status.code(), Some(2), "{arguments:?}: {err}");
        assert!(err.contains("cannot be written") && !err.contains("panicked"), "{err}");
    }
    assert_eq!(files(work.path()).into_keys().collect::<Vec<_>>(), [Path::new("full/gate/mine")]);
    // Standard output that takes nothing.
    let whole = fs::OpenOptions::new().write(true).open("/dev/full").unwrap();
    let output = std::process::Command::new(&program).args(["audit", &demo]).stdout(whole).output().unwrap();
    assert_eq!(output.status.code(), Some(2));
    assert!(String::from_utf8_lossy(&output.stderr).contains("No space left"), "{output:?}");
}
