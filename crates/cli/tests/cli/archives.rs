//! Archives and standard input, as the built program reads them.

use crate::common::{demo, folder, json, run, trevlin};
use std::fs;
use std::path::Path;
use std::process::Command;
use tempfile::TempDir;

fn text(path: &Path) -> String {
    path.to_string_lossy().into_owned()
}

fn tar(arguments: &[&str], at: &Path) {
    let status = Command::new("tar").args(arguments).current_dir(at).status().unwrap();
    assert!(status.success());
}

/// The demo as one archive, and as a folder of one archive for each device.
fn packed() -> (TempDir, String, String) {
    let work = TempDir::new().unwrap();
    let top = fs::canonicalize(demo()).unwrap();
    let whole = text(&work.path().join("before.tar.gz"));
    tar(&["-czf", &whole, "before"], top.parent().unwrap());
    let estate = work.path().join("estate");
    fs::create_dir(&estate).unwrap();
    for entry in fs::read_dir(&top).unwrap().map(Result::unwrap) {
        let name = entry.file_name().to_string_lossy().into_owned();
        if entry.path().is_dir() && name != "phrasebooks" {
            tar(&["-cf", &text(&estate.join(format!("{name}.tar"))), &name], &top);
        }
    }
    tar(&["-cf", &text(&estate.join("phrasebooks.tar")), "phrasebooks"], &top);
    for beside in ["trevlin.toml", "manifest.sha256"] {
        fs::copy(top.join(beside), estate.join(beside)).unwrap();
    }
    (work, whole, text(&estate))
}

#[test]
fn an_archive_says_the_same_as_the_folder_in_it() {
    let (_work, whole, estate) = packed();
    let wanted = json(&demo(), &[]);
    assert_eq!(json(Path::new(&whole), &[]), wanted);
    assert_eq!(json(Path::new(&estate), &[]), wanted);
    let output =
        trevlin(&["audit", "-", "--format", "json"]).write_stdin(fs::read(&whole).unwrap()).output().unwrap();
    assert_eq!(serde_json::from_slice::<serde_json::Value>(&output.stdout).unwrap(), wanted);
}

#[test]
fn standard_input_may_be_one_file() {
    let output = trevlin(&["audit", "-", "-q"])
        .write_stdin("rocommunity public\nagentaddress udp:161\n")
        .output()
        .unwrap();
    let out = String::from_utf8(output.stdout).unwrap();
    assert!(out.contains("community"), "{out}{}", String::from_utf8_lossy(&output.stderr));
}

#[test]
fn what_an_archive_may_not_do_is_told() {
    let estate = folder(&[("gate/etc/snmp/snmpd.conf", "rocommunity public\n")]);
    let gate = estate.path().join("gate");
    fs::write(gate.join("zeros"), vec![0u8; 300 << 20]).unwrap();
    tar(&["-czf", "bomb.tar.gz", "zeros"], &gate);
    fs::remove_file(gate.join("zeros")).unwrap();
    fs::write(gate.join("sealed.bak"), b"Salted__\x01\x02\x03abcdefgh").unwrap();
    fs::write(gate.join("broken.zip"), b"PK\x03\x04 and nothing").unwrap();
    fs::create_dir(gate.join("deep")).unwrap();
    fs::write(gate.join("deep/escape"), "secret escape\n").unwrap();
    tar(&["-cPf", "out.tar", "--transform", "s,^deep/,../../../,", "deep/escape"], &gate);
    let (out, err, code) = run(&["audit", &text(estate.path()), "-v"]);
    assert_eq!(code, 0);
    for part in [
        "bomb.tar.gz: it unpacks to more than 200 times its size",
        "sealed.bak: encrypted (openssl enc); please provide a readable export",
        "broken.zip: it cannot be unpacked",
        "its path leads outside the archive",
    ] {
        assert!(err.contains(part), "{part}: {err}");
    }
    assert!(out.contains("community"), "what could be read is judged: {out}");
    assert!(!estate.path().parent().unwrap().join("escape").exists());
    // Nothing partial passes for whole.
    let left_out = json(estate.path(), &[])["left_out"].as_array().unwrap().len();
    // The bomb twice: the file in it is larger than one may be.
    assert_eq!(left_out, 5);
    for arguments in [
        &["audit", &text(estate.path())][..],
        &["survey", &text(estate.path())],
        &["report", &text(estate.path()), "--to", "-", "--format", "html"],
        &["report", &text(estate.path()), "--to", "-", "--format", "markdown"],
    ] {
        let (out, _, _) = run(arguments);
        assert!(out.contains("sealed.bak") && out.contains("200 times its size"), "{out}");
    }
}
