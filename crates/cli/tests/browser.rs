//! Reports of a hostile estate in a browser: nothing of the estate runs. Run by `scripts/conformance.sh`, which installs the browser.

#![allow(clippy::unwrap_used, reason = "a test that cannot go on has failed")]

use std::fs;
use std::path::Path;
use std::process::Command;

/// Trace of an executed script of the estate.
const MARK: &str = "data-ran";

/// Names and comments that would run if they became part of the page.
const HOSTILE: [&str; 7] = [
    "<script>document.documentElement.setAttribute('data-ran','1')</script>",
    "</td></table><img src=x onerror=document.documentElement.setAttribute('data-ran','2')>",
    "'><svg onload=document.documentElement.setAttribute(`data-ran`,3)>",
    "</script><script>document.documentElement.setAttribute('data-ran','4')</script>",
    "[a](javascript:document.documentElement.setAttribute('data-ran','5'))",
    "{{ 7*7 }}{% raw %}<b onmouseover=alert(1)>",
    "</style></title><iframe srcdoc=<script>parent.document.documentElement.setAttribute('data-ran','6')</script>>",
];

/// The page after all scripts have run.
fn rendered(page: &Path) -> String {
    let output = Command::new("chromium")
        .args(["--headless", "--no-sandbox", "--disable-gpu", "--virtual-time-budget=3000", "--dump-dom"])
        .arg(format!("file://{}", page.display()))
        .output()
        .unwrap();
    String::from_utf8_lossy(&output.stdout).into_owned()
}

fn estate(below: &Path) {
    let write = |path: &str, text: String| {
        let at = below.join(path);
        fs::create_dir_all(at.parent().unwrap()).unwrap();
        fs::write(at, text).unwrap();
    };
    let mut rules = String::from("*filter\n:INPUT ACCEPT [0:0]\n");
    let mut users = String::new();
    let mut shares = String::from("[global]\nmap to guest = bad user\n");
    for (number, text) in HOSTILE.iter().enumerate() {
        let quoted = text.replace('"', "'");
        rules += &format!(
            "-A INPUT -p tcp -m tcp --dport {} -m comment --comment \"TEMP {quoted} until 12 May\" -j ACCEPT\n",
            8000 + number
        );
        users += &format!("\"{quoted}\" pptp summer2026 *\n");
        shares +=
            &format!("[share{number}]\ncomment = {text}\npath = /{text}\nguest ok = yes\nread only = no\n");
        write(
            &format!("dev{number}/etc/snmp/snmpd.conf"),
            format!("rocommunity public\nsysLocation {text}\nfrobnicate {text}\n"),
        );
    }
    write("gate/running/iptables-save.txt", rules + "COMMIT\n");
    write("gate/etc/ppp/chap-secrets", users);
    write("gate/etc/pptpd.conf", "remoteip 10.4.0.9-20\n".into());
    write("gate/etc/samba/smb.conf", shares);
    let names: Vec<String> = HOSTILE
        .iter()
        .enumerate()
        .map(|(number, text)| {
            let text = text.replace('"', "'");
            format!("[device.dev{number}]\nname = \"{text}\"\ncontact = \"{text}\"\n")
        })
        .collect();
    let answer = format!(
        "organisation = \"{0}\"\n{1}[[accept]]\ncheck = \"secrets/weak-login-password\"\nowner = \"{0}\"\nreason = \"{0}\"\nuntil = 2099-01-01\n",
        HOSTILE[0],
        names.concat()
    );
    write("trevlin.toml", answer);
}

#[test]
#[ignore = "needs the browser; scripts/conformance.sh runs it"]
fn nothing_of_an_estate_runs() {
    let work = tempfile::tempdir().unwrap();
    // That the mark is seen where a script does run.
    let control = work.path().join("control.html");
    fs::write(&control, format!("<!DOCTYPE html><title>a</title><p>{}", HOSTILE[1])).unwrap();
    assert!(rendered(&control).contains(MARK), "the browser runs what stands in a page");

    estate(&work.path().join("estate"));
    let page = work.path().join("report.html");
    let output = Command::new(env!("CARGO_BIN_EXE_trevlin"))
        .arg("report")
        .arg(work.path().join("estate"))
        .arg("--to")
        .arg(&page)
        .output()
        .unwrap();
    assert!(output.status.success(), "{}", String::from_utf8_lossy(&output.stderr));
    let shown = rendered(&page);
    assert!(
        shown.contains("class=\"scripted\"") || shown.contains("scripted"),
        "the report's own script ran"
    );
    let root =
        shown.split_once("<html").and_then(|(_, rest)| rest.split_once('>')).map(|(root, _)| root).unwrap();
    assert!(!root.contains(MARK), "{root}");
    // Each is there to be read, as text.
    for text in HOSTILE.iter().filter(|text| text.starts_with('<')) {
        let name: String = text[1..].chars().take_while(|one| one.is_alphanumeric() || *one == '/').collect();
        assert!(shown.contains(&format!("&lt;{name}")), "{text}");
    }
    for element in ["<img", "<iframe", "<svg onload"] {
        assert!(!shown.contains(element), "{element}");
    }
    assert_eq!(shown.matches("<script").count(), 1);
}
