//! The example files that Debian's packages of strongSwan, FreeRADIUS and Samba ship, as they are and with their commented settings switched
//! on: every connection that accepts users has a login path, and no secret of them is in an output or in a scrubbed copy.
//! Run by `scripts/conformance.sh`, which installs the packages.

#![allow(clippy::unwrap_used, reason = "a test that cannot go on has failed")]

use serde_json::Value;
use std::collections::BTreeSet;
use std::fs;
use std::path::{Path, PathBuf};
use std::process::Command;

/// Folders and files of the packages, by the device that they become.
const SHIPPED: [(&str, &str); 8] = [
    ("ike", "/etc/swanctl"),
    ("ike", "/etc/ipsec.conf"),
    ("ike", "/etc/ipsec.secrets"),
    ("ike", "/etc/strongswan.conf"),
    ("ike", "/etc/strongswan.d"),
    ("radius", "/etc/freeradius"),
    ("samba", "/usr/share/samba/smb.conf"),
    ("samba", "/usr/share/doc/samba/examples"),
];

/// Every file below a path.
fn files(at: &Path) -> Vec<PathBuf> {
    if at.is_dir() {
        let entries = fs::read_dir(at).unwrap().map(|entry| entry.unwrap().path());
        return entries.flat_map(|entry| files(&entry)).collect();
    }
    if at.is_file() { vec![at.to_owned()] } else { Vec::new() }
}

/// The text with commented settings and sections as statements, and placeholders of names filled in.
fn switched_on(text: &str) -> String {
    let mut found = String::new();
    for line in text.lines() {
        let inner = line.trim_start();
        let bare = inner.strip_prefix('#').map_or(inner, |rest| rest.strip_prefix(' ').unwrap_or(rest));
        let name = |text: &str| {
            !text.is_empty()
                && text.bytes().all(|byte| byte.is_ascii_alphanumeric() || b"_-<>. ".contains(&byte))
        };
        let section = bare.trim_end().strip_suffix('{').is_some_and(|head| name(head.trim()));
        let setting = bare
            .split_once('=')
            .is_some_and(|(key, _)| name(key.trim()) && key.split_whitespace().count() == 1);
        let statement = section || setting || bare.trim() == "}" || bare.starts_with("conn ");
        let line = if statement { bare } else { line };
        found.push_str(&line.replace("<conn>", "crew").replace("<child>", "all").replace("<suffix>", "-1"));
        found.push('\n');
    }
    found
}

/// Values of settings whose name says that they are secret, as long as that is not a word of the language.
fn secrets(text: &str) -> BTreeSet<String> {
    let mut found = BTreeSet::new();
    for line in text.lines() {
        let line = line.trim().trim_start_matches('#').trim();
        let Some((key, value)) = line.split_once('=') else { continue };
        let secret = ["secret", "password", "private_key_password", "certificate_password"];
        let value = value.trim().trim_matches(['"', '\'']);
        let plain = value.len() >= 6 && value.bytes().all(|byte| byte.is_ascii_alphanumeric());
        // These values are words of the comments around them as well.
        if secret.contains(&key.trim()) && plain && !["whatever", "password", "radsec"].contains(&value) {
            found.insert(value.to_owned());
        }
    }
    found
}

fn trevlin(arguments: &[&str]) -> String {
    let output = Command::new(env!("CARGO_BIN_EXE_trevlin")).args(arguments).output().unwrap();
    assert!(
        matches!(output.status.code(), Some(0 | 1)),
        "{arguments:?}: {}",
        String::from_utf8_lossy(&output.stderr)
    );
    String::from_utf8(output.stdout).unwrap()
}

fn json(arguments: &[&str]) -> Value {
    serde_json::from_str(&trevlin(arguments)).unwrap()
}

#[test]
#[ignore = "needs the packages; run by scripts/conformance.sh"]
fn logins_and_secrets_of_shipped_examples() {
    for switch in [false, true] {
        let folder = tempfile::tempdir().unwrap();
        let estate = folder.path().join("estate");
        let (mut copied, mut held) = (0, BTreeSet::new());
        for (device, from) in SHIPPED {
            for file in files(Path::new(from)) {
                let Ok(text) = fs::read_to_string(&file) else { continue };
                // Documentation is no configuration, switched on or not.
                if file
                    .extension()
                    .is_some_and(|one| ["rst", "md", "pl", "sql"].iter().any(|kind| one == *kind))
                {
                    continue;
                }
                let to = estate.join(device).join(file.strip_prefix("/").unwrap());
                fs::create_dir_all(to.parent().unwrap()).unwrap();
                let text = if switch { switched_on(&text) } else { text };
                held.extend(secrets(&text));
                fs::write(to, text).unwrap();
                copied += 1;
            }
        }
        assert!(copied > 100, "the packages are not installed: {copied} files");
        assert!(held.len() > 3, "{held:?}");
        let at = estate.to_str().unwrap();
        let (tunnels, logins) =
            (json(&["tunnels", at, "--format", "json"]), json(&["logins", at, "--format", "json"]));
        let paths: BTreeSet<(&str, &str)> = logins["logins"]
            .as_array()
            .unwrap()
            .iter()
            .map(|row| (row["device"].as_str().unwrap(), row["service"].as_str().unwrap()))
            .collect();
        let dial_in: Vec<(&str, &str)> = tunnels["tunnels"]
            .as_array()
            .unwrap()
            .iter()
            .filter(|row| row["role"] == "accepts clients")
            .map(|row| (row["device"].as_str().unwrap(), row["name"].as_str().unwrap()))
            .collect();
        for one in &dial_in {
            assert!(paths.contains(one), "{one:?} has no login path: {paths:?}");
        }
        assert!(!switch || !dial_in.is_empty(), "the template of swanctl.conf accepts clients");
        let copy = folder.path().join("copy");
        trevlin(&["scrub", "--into", copy.to_str().unwrap(), at]);
        let mut outputs =
            vec![trevlin(&["audit", at, "--full"]), trevlin(&["audit", at, "--format", "json"])];
        outputs.extend(files(&copy).iter().filter_map(|file| fs::read_to_string(file).ok()));
        for secret in &held {
            assert!(outputs.iter().all(|text| !text.contains(secret.as_str())), "{secret} is in an output");
        }
        println!(
            "switched on: {switch}; {copied} files, {} tunnels, {} of them accept clients, {} login paths, {} secrets, none left",
            tunnels["tunnels"].as_array().unwrap().len(),
            dial_in.len(),
            paths.len(),
            held.len()
        );
    }
}
