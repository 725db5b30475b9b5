//! Generated settings of fail2ban mean to the reader what `fail2ban-client -d` hands to its server.
//!
//! Run by `scripts/conformance.sh`; needs fail2ban.

#![allow(
    clippy::unwrap_used,
    clippy::print_stdout,
    clippy::disallowed_methods,
    reason = "a test that runs a program"
)]

mod support;

use std::fmt::Write;
use std::fs;
use std::path::Path;
use std::process::Command;
use support::Dice;
use trevlin_model::login_guard::Jail;
use trevlin_model::{Export, ExportId};
use trevlin_readers::{READERS, ReadContext};

const CONFIGURATIONS: u64 = 32;

/// Settings that the program hands to its server, one line for each jail: numbers in seconds, ports as numbers.
const SHOWN: &str = r#"
import ast, ipaddress, socket, sys
sys.path.insert(0, "/usr/lib/python3/dist-packages")
from fail2ban.server.mytime import MyTime
jails, broken = {}, []
def port(word):
    return int(word) if word.isdigit() else socket.getservbyname(word)
def ports(text):
    found = []
    for word in text.replace(" ", "").split(","):
        first, _, last = word.partition(":")
        found.append("%d-%d" % (port(first), port(last or first)))
    return found
for line in sys.stdin:
    if not line.startswith("["): continue
    v = ast.literal_eval(line)
    if v[0] == "add": jails[v[1]] = {"bans": [], "exempt": []}
    elif v[0] == "config-error": broken.append(v[1].split("'")[1])
    elif v[0] == "set" and v[2] == "maxretry": jails[v[1]]["attempts"] = v[3]
    elif v[0] == "set" and v[2] in ("findtime", "bantime"): jails[v[1]][v[2]] = int(MyTime.str2seconds(v[3]))
    elif v[0] == "set" and v[2] == "addignoreip":
        for word in v[3:]:
            try: jails[v[1]]["exempt"].append(str(ipaddress.ip_network(word, strict=False)))
            except ValueError: pass
    elif v[0] == "multi-set" and v[2] == "action":
        o = dict((x[0], x[1]) for x in v[4])
        start = o.get("actionstart", "") + o.get("actionban", "")
        if not any(word in start for word in ("iptables", "nft ", "ufw ", "ipset", "ip route", "firewall-cmd", "/etc/hosts.deny")): continue
        if "iptables" in start or "nft " in start or "ipset" in start:
            by_port = "dport" in start
            protocol = o["protocol"]
            jails[v[1]]["bans"].append("%s %s" % (protocol, ",".join(ports(o["port"])) if by_port else "*"))
        else: jails[v[1]]["bans"].append("all *")
for name in sorted(jails):
    j = jails[name]
    print(name, j.get("attempts"), j.get("findtime"), j.get("bantime"), ";".join(j["bans"]), ",".join(j["exempt"]))
for name in sorted(broken): print(name, "broken")
"#;

/// Lines of a section, in the forms that people write.
fn lines(dice: &mut Dice, text: &mut String) {
    for _ in 0..dice.roll(4) {
        let line = *dice.pick(&[
            "maxretry = 3",
            "maxretry=%(known/maxretry)s",
            "findtime  = 20m",
            "bantime = -1",
            "bantime: 1d 12h ; long enough",
            "ignoreip = 127.0.0.1/8 ::1\n           10.4.0.0/16, 192.0.2.7",
            "ignoreip = 0.0.0.0/0",
            "banaction = nftables-multiport",
            "banaction = ufw",
            "banaction = iptables[type=allports]",
            "banaction = iptables-ipset-proto6",
            "banaction_allports = nftables[type=allports]",
            "action = %(action_mw)s",
            "action = sendmail-whois[name=%(__name__)s, dest=root@localhost]",
            "action = %(action_allports)s",
            "action = iptables-multiport[name=x, port=\"http,https,8000:8010\", protocol=tcp]\n         route",
            "action = iptables[port=2222]",
            "action =",
            "port = ssh,2222",
            "port = 1194",
            "protocol = udp",
            "protocol = tcp,udp",
            "# port = 99",
            "destemail = ann@example.org",
        ]);
        // A name that occurs twice stops the program.
        let key = line.split(['=', ':']).next().unwrap_or_default().trim();
        let known = |written: &str| written.split(['=', ':']).next().unwrap_or_default().trim() == key;
        let section = text.rsplit_once("\n[").map_or("", |(_, section)| section);
        if !section.lines().any(known) || dice.roll(60) == 0 {
            writeln!(text, "{line}").unwrap();
        }
    }
}

/// A file of the system's own.
fn file(dice: &mut Dice, own: &str) -> String {
    let mut text = String::from("# Ours\n\n");
    if dice.roll(2) == 0 {
        text.push_str("[DEFAULT]\naction_allports = %(banaction_allports)s[protocol=\"%(protocol)s\", chain=\"%(chain)s\"]\n");
        lines(dice, &mut text);
        if dice.roll(6) == 0 {
            text.push_str("enabled = true\n");
        }
        text.push('\n');
    }
    for name in ["sshd", "dovecot", "postfix", "recidive", "pam-generic", "nginx-http-auth", own] {
        if dice.roll(3) == 0 {
            writeln!(text, "[{name}]").unwrap();
            if name == own {
                let filter = *dice.pick(&["sshd", "openvpn", "dropbear", "sshd[mode=aggressive]", "exim"]);
                writeln!(text, "filter = {filter}\nlogpath = /var/log/syslog").unwrap();
            }
            match dice.roll(4) {
                0 => text.push_str("enabled = false\n"),
                1 => text.push_str("Enabled: yes\n"),
                2 => text.push_str("enabled=on\n"),
                _ => {}
            }
            lines(dice, &mut text);
            text.push('\n');
        }
    }
    text
}

fn shown(folder: &Path) -> Vec<String> {
    let client =
        Command::new("fail2ban-client").args(["-c", &folder.display().to_string(), "-d"]).output().unwrap();
    let dump = folder.join("dump");
    fs::write(&dump, &client.stdout).unwrap();
    let told =
        Command::new("python3").args(["-c", SHOWN]).stdin(fs::File::open(&dump).unwrap()).output().unwrap();
    assert!(
        told.status.success(),
        "{}\n{}",
        String::from_utf8_lossy(&told.stderr),
        String::from_utf8_lossy(&client.stderr)
    );
    String::from_utf8(told.stdout).unwrap().lines().map(str::to_owned).collect()
}

fn told(jail: &Jail) -> String {
    if jail.fault.is_some() {
        return format!("{} broken", jail.name);
    }
    let bans = jail.bans.iter().map(|ban| {
        let names: Vec<String> = ban.protocols.iter().map(|one| one.name()).collect();
        let protocols =
            if names.is_empty() { "all".to_owned() } else { names.join(",").to_ascii_lowercase() };
        let ports: Vec<String> =
            ban.ports.iter().map(|range| format!("{}-{}", range.first, range.last)).collect();
        let ports = if ports.is_empty() { "*".to_owned() } else { ports.join(",") };
        format!("{protocols} {ports}")
    });
    let number = |value: Option<i64>| value.map_or("None".to_owned(), |number| number.to_string());
    let exempt = jail.exempt.iter().map(|(net, _)| net.trunc().to_string());
    format!(
        "{} {} {} {} {} {}",
        jail.name,
        number(jail.attempts.map(i64::from)),
        number(jail.within),
        number(jail.banned_for),
        bans.collect::<Vec<_>>().join(";"),
        exempt.collect::<Vec<_>>().join(",")
    )
}

#[test]
#[ignore = "needs fail2ban; run by scripts/conformance.sh"]
fn jails_are_those_of_the_program() {
    let reader = READERS.iter().find(|reader| reader.name == "fail2ban").unwrap();
    let (mut jails, mut banning, mut refused) = (0, 0, 0);
    for seed in 1..=CONFIGURATIONS {
        let mut dice = Dice::new(seed);
        let folder = tempfile::tempdir().unwrap();
        let place = folder.path().join("fail2ban");
        let copied = Command::new("cp").args(["-r", "/etc/fail2ban"]).arg(&place).status().unwrap();
        assert!(copied.success());
        let own = |dice: &mut Dice| file(dice, "vpn");
        for name in ["jail.local", "jail.d/a.conf", "jail.d/b.local"] {
            if dice.roll(3) != 0 {
                fs::write(place.join(name), own(&mut dice)).unwrap();
            }
        }
        if dice.roll(4) == 0 {
            fs::write(place.join("paths-overrides.local"), "[DEFAULT]\nbantime = 7m\n").unwrap();
        }
        let theirs = shown(&place);
        let mut files = Vec::new();
        for below in ["", "jail.d", "filter.d", "action.d"] {
            for entry in fs::read_dir(place.join(below)).unwrap() {
                let path = entry.unwrap().path();
                if let Ok(text) = fs::read_to_string(&path) {
                    let named = path.strip_prefix(folder.path()).unwrap().display().to_string();
                    files.push((named, text));
                }
            }
        }
        let exports: Vec<Export> = files
            .into_iter()
            .zip(0..)
            .map(|((path, text), at)| Export::new(ExportId(at), format!("d/etc/{path}"), text))
            .collect();
        let around = ReadContext::of(exports.iter().collect());
        let mut guards = Vec::new();
        for export in &exports {
            guards.extend((reader.read)(export, &around).facts.login_guards.clone());
        }
        let [guard] = &guards[..] else { panic!("{} guards", guards.len()) };
        let mut ours: Vec<String> = guard.jails.iter().map(told).collect();
        ours.sort_by_key(|line| (line.ends_with("broken"), line.clone()));
        let mut theirs = theirs;
        theirs.sort_by_key(|line| (line.ends_with("broken"), line.clone()));
        // The program does not start with a name that occurs twice.
        if theirs.is_empty() && !ours.is_empty() {
            assert!(ours.iter().all(|line| line.ends_with("broken")), "seed {seed}\n{ours:?}");
            refused += 1;
            continue;
        }
        let all: Vec<&str> = exports
            .iter()
            .filter(|export| export.path().contains("jail.local") || export.path().contains("jail.d/"))
            .map(Export::text)
            .collect();
        assert_eq!(ours, theirs, "seed {seed}\n{}", all.join("\n-----\n"));
        jails += ours.len();
        banning += guard.jails.iter().filter(|jail| !jail.bans.is_empty()).count();
    }
    assert!(jails > 60 && banning > 40 && refused > 0, "{jails} {banning} {refused}");
    println!("{CONFIGURATIONS} configurations, {jails} jails alike, {banning} of them ban");
}
