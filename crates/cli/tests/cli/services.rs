//! The services command, and the effect of links on services.

use crate::common::{demo, folder, json, run};

fn sheet(path: &std::path::Path, more: &[&str]) -> Vec<serde_json::Value> {
    let path = path.to_str().unwrap();
    let arguments: Vec<&str> =
        ["services", path, "--format", "json"].into_iter().chain(more.iter().copied()).collect();
    let (out, err, status) = run(&arguments);
    assert_eq!((status, err.as_str()), (0, ""), "{out}");
    let whole: serde_json::Value = serde_json::from_str(&out).unwrap();
    assert_eq!(whole["schema"], "trevlin-services/1");
    whole["services"].as_array().unwrap().clone()
}

#[test]
fn the_demo_is_as_it_was() {
    let demo = demo();
    let (out, err, status) = run(&["services", demo.to_str().unwrap()]);
    assert_eq!((status, err.as_str()), (0, ""));
    assert!(out.lines().all(|line| line.chars().count() <= 110), "it reads at 110 columns");
    insta::assert_snapshot!(out);
    let rows = sheet(&demo, &["--device", "quay-storage"]);
    assert!(rows.iter().all(|row| row["device"] == "quay-storage"));
    let shares = rows.iter().find(|row| row["name"] == "SMB server (Samba)").unwrap();
    let named = |name: &str| {
        let parts = shares["parts"].as_array().unwrap();
        parts.iter().find(|part| part["name"] == name).cloned()
    };
    // Disabled resources are left out; a share that restricts the server's open access requires a login.
    assert!(named("old-scans").is_none());
    assert_eq!(named("recordings").unwrap()["asks"], "nothing");
    assert_eq!(named("plans").unwrap()["encryption"], "required");
    let off = rows.iter().find(|row| row["known"] == "disabled").unwrap();
    assert_eq!(off["name"], "FTP server (vsftpd)");
}

#[test]
fn every_width_and_nothing_at_all() {
    let files = folder(&[
        ("d/etc/pptpd.conf", "remoteip 10.4.0.9-20\n"),
        ("e/etc/passwd", "ann:x:1000:1000::/home/ann:/bin/sh\n"),
    ]);
    let (out, _, _) = run(&["services", files.path().to_str().unwrap(), "--device", "e"]);
    assert_eq!(out, "no service was found in the exports that were read\n");
    let (_, err, status) = run(&["services", files.path().to_str().unwrap(), "--device", "f"]);
    assert_eq!(status, 2);
    assert!(err.contains("there is no device f; known are: d, e."), "{err}");
}

#[test]
fn names_in_exports_do_nothing_to_the_terminal() {
    let files = folder(&[(
        "d/etc/samba/smb.conf",
        "[global]\nworkgroup = x\n[a\u{1b}[31m\u{202e}b]\npath = /a\nguest ok = yes\n",
    )]);
    let (out, _, _) = run(&["services", files.path().to_str().unwrap()]);
    assert!(!out.contains('\u{1b}') && !out.contains('\u{202e}'), "{out:?}");
}

#[cfg(unix)]
#[test]
fn links_say_what_is_enabled_and_what_is_masked() {
    use std::os::unix::fs::symlink;
    let files = folder(&[
        ("d/etc/nginx/nginx.conf", "events {}\nhttp {\n include /etc/nginx/sites-enabled/*;\n}\n"),
        ("d/etc/nginx/sites-available/a", "server {\n listen 80;\n server_name a.example;\n}\n"),
        (
            "d/etc/nginx/sites-available/b",
            "server {\n listen 81;\n server_name b.example;\n autoindex on;\n}\n",
        ),
        ("d/etc/samba/smb.conf", "[global]\nworkgroup = X\n[s]\npath = /s\nguest ok = yes\nread only = no\n"),
    ]);
    let device = files.path().join("d");
    std::fs::create_dir_all(device.join("etc/nginx/sites-enabled")).unwrap();
    std::fs::create_dir_all(device.join("etc/systemd/system/multi-user.target.wants")).unwrap();
    symlink("../sites-available/a", device.join("etc/nginx/sites-enabled/a")).unwrap();
    symlink(
        "/lib/systemd/system/nginx.service",
        device.join("etc/systemd/system/multi-user.target.wants/nginx.service"),
    )
    .unwrap();
    symlink("/dev/null", device.join("etc/systemd/system/smbd.service")).unwrap();
    let rows = sheet(files.path(), &[]);
    let known: Vec<(String, String)> = rows
        .iter()
        .map(|row| (row["name"].as_str().unwrap().to_owned(), row["known"].as_str().unwrap().to_owned()))
        .collect();
    assert_eq!(
        known,
        [
            ("web site a.example (nginx)".to_owned(), "configured".to_owned()),
            ("SMB server (Samba)".to_owned(), "disabled".to_owned()),
        ]
    );
    // Nothing of the site that is not enabled, and the share no more than low.
    let audit = json(files.path(), &[]);
    let found = audit["findings"].as_array().unwrap();
    assert!(found.iter().all(|one| one["check"] != "exposure/directory-listing"));
    let share = found.iter().find(|one| one["check"] == "logins/share-unauthenticated").unwrap();
    assert_eq!(share["severity"], "low");
}
