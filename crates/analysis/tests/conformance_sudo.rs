//! Rules of sudo against sudo itself: generated files, each asked with `sudo -l -U` which command lines users may run as root, and
//! run as these users to see whether a password is required. The same must follow from the rules that were read.
//! Needs root, sudo and mount namespaces; `scripts/conformance.sh` installs what is missing and runs this test.

#![allow(clippy::unwrap_used, reason = "a test that cannot go on has failed")]

use std::fmt::Write as _;
use std::fs;
use std::os::unix::fs::PermissionsExt;
use std::process::Command;
use trevlin_estate::delegations::Delegations;
use trevlin_estate::identities::People;
use trevlin_estate::testing::estate_with;

/// Numbers, the same in every run.
struct Seeded(u64);

impl Seeded {
    fn below(&mut self, limit: usize) -> usize {
        self.0 ^= self.0 << 13;
        self.0 ^= self.0 >> 7;
        self.0 ^= self.0 << 17;
        (self.0 % limit as u64) as usize
    }

    fn pick<'a>(&mut self, from: &[&'a str]) -> &'a str {
        from[self.below(from.len())]
    }
}

const PASSWD: &str = "root:x:0:0:root:/root:/bin/sh\nann:x:1701:1701::/tmp:/bin/sh\nbob:x:1702:1702::/tmp:/bin/sh\n\
    quay:x:1703:1703::/tmp:/usr/sbin/nologin\n";
const GROUP: &str = "root:x:0:\nann:x:1701:\nbob:x:1702:\nquay:x:1703:\ncrew:x:1800:ann,quay\n";
const USERS: [&str; 3] = ["ann", "bob", "quay"];

/// Command lines that are harmless when run.
const LINES: [(&str, &str); 9] = [
    ("/usr/bin/id", ""),
    ("/usr/bin/id", "-u"),
    ("/bin/id", "-u root"),
    ("/usr/bin/echo", ""),
    ("/usr/bin/echo", "quay"),
    ("/usr/bin/echo", "quay/north root"),
    ("/usr/bin/echo", "a,b"),
    ("/usr/bin/true", "x"),
    ("/usr/bin/uname", "-a"),
];

const WHO: [&str; 8] = ["ann", "%crew", "#1702", "ALL", "ALL, !bob", "CREW", "bob, quay", "%crew, !quay"];
const AS: [&str; 7] = ["", "(root)", "(ALL)", "(ALL:ALL)", "(bob)", "(:crew)", "(SYSTEM)"];
const TAGS: [&str; 6] = ["", "", "NOPASSWD: ", "PASSWD: ", "NOPASSWD:SETENV: ", "NOEXEC: "];
const COMMANDS: [&str; 18] = [
    "ALL",
    "ALL, !/usr/bin/id",
    "!ALL",
    "/usr/bin/id",
    "/usr/bin/id \"\"",
    "/usr/bin/id -u",
    "/bin/id -u *",
    "/usr/bin/",
    "/usr/bin/ec*",
    "/usr/bin/echo [a-q]*",
    "/usr/bin/echo *, !/usr/bin/echo *root*",
    "/usr/bin/echo a\\,b",
    "TOOLS",
    "!TOOLS",
    "/usr/bin/true x, PASSWD: /usr/bin/uname",
    "NOPASSWD: /usr/bin/uname, TOOLS",
    "/usr/bin/[!e]*",
    "sudoedit /etc/hosts, /usr/bin/uname -?",
];
const DEFAULTS: [&str; 7] = [
    "",
    "",
    "Defaults !authenticate\n",
    "Defaults:ann !authenticate\n",
    "Defaults:%crew !authenticate\nDefaults:quay authenticate\n",
    "Defaults!TOOLS !authenticate\n",
    "Defaults>root !authenticate\n",
];

/// A file of rules.
fn rules(seeded: &mut Seeded) -> String {
    let mut text = "User_Alias CREW = ann, %crew\nRunas_Alias SYSTEM = root, bob\nCmnd_Alias MORE = /usr/bin/true : TOOLS = /usr/bin/id, MORE\n"
        .to_owned();
    text.push_str(seeded.pick(&DEFAULTS));
    for _ in 0..=seeded.below(3) {
        let (who, whom) = (seeded.pick(&WHO), seeded.pick(&AS));
        let (tags, commands) = (seeded.pick(&TAGS), seeded.pick(&COMMANDS));
        writeln!(text, "{who} ALL = {whom} {tags}{commands}").unwrap();
    }
    text
}

#[test]
#[ignore = "needs root and sudo; run by scripts/conformance.sh"]
fn generated_rules() {
    const FILES: usize = 80;
    let folder = tempfile::tempdir().unwrap();
    let at = |name: &str| folder.path().join(name).to_str().unwrap().to_owned();
    let write = |name: &str, text: &str, mode| {
        fs::write(at(name), text).unwrap();
        fs::set_permissions(at(name), fs::Permissions::from_mode(mode)).unwrap();
    };
    fs::set_permissions(folder.path(), fs::Permissions::from_mode(0o755)).unwrap();
    let shadow: String = PASSWD
        .lines()
        .map(|line| format!("{}:*:19000:0:99999:7:::\n", line.split(':').next().unwrap()))
        .collect();
    write("passwd", PASSWD, 0o644);
    write("group", GROUP, 0o644);
    write("shadow", &shadow, 0o600);
    let mut seeded = Seeded(0x005e_ed5e_ed5e);
    let files: Vec<String> = (0..FILES).map(|_| rules(&mut seeded)).collect();
    let mut script = format!(
        "set -e\nmount --bind {} /etc/passwd\nmount --bind {} /etc/group\nmount --bind {} /etc/shadow\n",
        at("passwd"),
        at("group"),
        at("shadow")
    );
    for (number, text) in files.iter().enumerate() {
        write(&format!("rules{number}"), text, 0o440);
        writeln!(script, "mount --bind {} /etc/sudoers\nvisudo -c -q", at(&format!("rules{number}")))
            .unwrap();
        for user in USERS {
            for (path, arguments) in LINES {
                writeln!(
                    script,
                    "if sudo -n -l -U {user} -u root {path} {arguments} >/dev/null 2>&1; then \
                     if setpriv --reuid={user} --regid={user} --init-groups sudo -k -n -u root {path} {arguments} >/dev/null 2>&1; \
                     then echo free; else echo password; fi; else echo no; fi"
                )
                .unwrap();
            }
        }
        script.push_str("umount /etc/sudoers\n");
    }
    write("script", &script, 0o600);
    let output = Command::new("unshare").args(["-m", "sh", &at("script")]).output().unwrap();
    assert!(output.status.success(), "{}", String::from_utf8_lossy(&output.stderr));
    let theirs = String::from_utf8(output.stdout).unwrap();
    let mut theirs = theirs.lines();
    let mut seen = std::collections::BTreeMap::new();
    for text in &files {
        let estate =
            estate_with(&[("d/etc/sudoers", text), ("d/etc/passwd", PASSWD), ("d/etc/group", GROUP)], "");
        let people = People::of(&estate.devices[0]);
        let delegations = Delegations::of(&people);
        for user in USERS {
            for (path, arguments) in LINES {
                let ours = match delegations.deciding(user, path, arguments) {
                    Some(decision) if decision.granted && decision.asks_password => "password",
                    Some(decision) if decision.granted => "free",
                    _ => "no",
                };
                let theirs = theirs.next().unwrap();
                assert_eq!(ours, theirs, "{user} {path} {arguments}\n{text}");
                *seen.entry(theirs).or_insert(0) += 1;
            }
        }
    }
    println!("{FILES} files of rules: {seen:?}");
    assert_eq!(seen.len(), 3, "every outcome occurs: {seen:?}");
}
