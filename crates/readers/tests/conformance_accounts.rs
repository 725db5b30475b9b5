//! Keys and sudo rules against the programs that make and read them: ssh-keygen, visudo and cvtsudoers.
//! `scripts/conformance.sh` installs them and runs these tests, which are left out otherwise.

#![allow(clippy::unwrap_used, reason = "a test that cannot go on has failed")]

use std::process::Command;
use trevlin_model::{Export, ExportId};
use trevlin_readers::{ReadContext, Reading, recognise};

fn run(program: &str, arguments: &[&str]) -> String {
    let output = Command::new(program)
        .args(arguments)
        .output()
        .unwrap_or_else(|error| panic!("{program} cannot be run: {error}"));
    assert!(output.status.success(), "{program} {arguments:?}: {}", String::from_utf8_lossy(&output.stderr));
    String::from_utf8(output.stdout).unwrap()
}

fn read(path: &str, text: &str) -> Reading {
    let export = Export::new(ExportId(0), path, text.into());
    (recognise(&export).reader.expect("recognised").read)(&export, &ReadContext::of(vec![&export]))
}

#[test]
#[ignore = "needs ssh-keygen; run by scripts/conformance.sh"]
fn sizes_of_keys() {
    let folder = tempfile::tempdir().unwrap();
    for (kind, bits) in [
        ("rsa", "1024"),
        ("rsa", "2048"),
        ("rsa", "3071"),
        ("dsa", "1024"),
        ("ecdsa", "256"),
        ("ecdsa", "384"),
        ("ecdsa", "521"),
        ("ed25519", "256"),
    ] {
        let at = folder.path().join(format!("{kind}{bits}"));
        let at = at.to_str().unwrap();
        // Newer programs make no DSA keys any more.
        let made = Command::new("ssh-keygen")
            .args(["-q", "-t", kind, "-b", bits, "-N", "", "-f", at])
            .output()
            .unwrap();
        if !made.status.success() {
            assert_eq!(kind, "dsa", "{}", String::from_utf8_lossy(&made.stderr));
            continue;
        }
        let text = std::fs::read_to_string(format!("{at}.pub")).unwrap();
        let reading = read("d/root/.ssh/authorized_keys", &format!("from=\"10.4.0.9\" {text}"));
        // Bits, fingerprint, comment, kind.
        let told = run("ssh-keygen", &["-l", "-f", &format!("{at}.pub")]);
        let key = &reading.facts.ssh_keys[0];
        assert_eq!(key.key.bits.to_string(), told.split(' ').next().unwrap(), "{kind} {bits}");
        // The private keys, with and without a passphrase.
        let clear = read("d/id", &std::fs::read_to_string(at).unwrap());
        assert!(!clear.facts.private_keys[0].encrypted, "{kind}");
        run("ssh-keygen", &["-q", "-p", "-N", "a phrase for tests", "-f", at]);
        let protected = read("d/id", &std::fs::read_to_string(at).unwrap());
        assert!(protected.facts.private_keys[0].encrypted, "{kind}");
    }
}

const SUDOERS: &str = "\
Defaults\tenv_reset
User_Alias CREW = ann, bob : YARD = cid, %yard
Cmnd_Alias EVERY = ALL
Cmnd_Alias PACKAGES = /usr/bin/apt, /usr/bin/dpkg
root ALL=(ALL:ALL) ALL
%sudo\tALL=(ALL:ALL) NOPASSWD: ALL   # a comment, ALL=(ALL) PASSWD: ALL
CREW ALL=(ALL) NOPASSWD:SETENV: ALL
YARD ALL=(www-data) NOPASSWD: EVERY
dan ALL = NOPASSWD: /bin/ls, PASSWD: ALL
eve ALL = NOPASSWD: /bin/ls, \\
\tALL
fay ALL = NOPASSWD: PACKAGES
gil quay, yard = (ALL) ALL
hal, !ian ALL=(ALL) NOPASSWD: /bin/date
#1001 ALL=(ALL) ALL
\"joe smith\" ALL=(ALL) NOPASSWD: ALL
";

#[test]
#[ignore = "needs visudo and cvtsudoers; run by scripts/conformance.sh"]
fn sudo_rules() {
    let folder = tempfile::tempdir().unwrap();
    let at = folder.path().join("sudoers");
    std::fs::write(&at, SUDOERS).unwrap();
    let at = at.to_str().unwrap();
    run("visudo", &["-c", "-f", at]);
    let json: serde_json::Value =
        serde_json::from_str(&run("cvtsudoers", &["-e", "-f", "json", at])).unwrap();
    let mut theirs = Vec::new();
    for specification in json["User_Specs"].as_array().unwrap() {
        let who: Vec<String> = specification["User_List"]
            .as_array()
            .unwrap()
            .iter()
            .map(|one| {
                let name = |key: &str| one[key].as_str().map(str::to_owned);
                let group = name("usergroup").map(|group| format!("%{group}"));
                let number = one["userid"].as_u64().map(|number| format!("#{number}"));
                let bare = name("username").or(group).or(number).unwrap();
                if one["negated"] == true { format!("!{bare}") } else { bare }
            })
            .collect();
        let (mut all, mut asks) = (false, true);
        for commands in specification["Cmnd_Specs"].as_array().unwrap() {
            let every = commands["Commands"].as_array().unwrap().iter().any(|one| one["command"] == "ALL");
            if every {
                all = true;
                let options = commands["Options"].as_array();
                asks = !options.is_some_and(|all| all.iter().any(|one| one["authenticate"] == false));
            }
        }
        theirs.push((who, all, asks));
    }
    let ours: Vec<_> = read("d/etc/sudoers", SUDOERS)
        .facts
        .sudo_rules
        .into_iter()
        .map(|rule| (rule.who.to_vec(), rule.all_commands, !rule.all_commands || rule.asks_password))
        .collect();
    assert_eq!(ours, theirs);
}
