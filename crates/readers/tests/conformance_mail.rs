//! Generated configurations of Postfix: who may send mail to another domain, and how a login is offered, as the running server answers it.
//!
//! The server runs in namespaces of its own; it is told the address of the client by XCLIENT. Run by `scripts/conformance.sh`; needs
//! postfix, dovecot and root.

#![allow(
    clippy::unwrap_used,
    clippy::print_stdout,
    clippy::disallowed_methods,
    reason = "a test that runs programs"
)]

mod support;

use std::fmt::Write;
use std::fs;
use std::net::IpAddr;
use std::path::Path;
use std::process::Command;
use support::Dice;
use trevlin_model::served::{AuthRequirement, PartKind, Requirement, Served, TransportSecurity};
use trevlin_model::{Export, ExportId};
use trevlin_readers::{READERS, ReadContext};

/// Instances that are started, and services in each.
const INSTANCES: u64 = 8;
const SERVICES: usize = 6;
/// Clients that are asked for.
const CLIENTS: [&str; 6] = ["127.0.0.1", "10.4.0.9", "10.4.9.9", "192.0.2.7", "203.0.113.9", "198.51.100.77"];

/// What holds for all services: `main.cf`.
fn main_file(dice: &mut Dice) -> String {
    let mut text = String::from(
        "smtpd_authorized_xclient_hosts = 127.0.0.1\nmyhostname = mail.quay.example\nmydestination = quay.example\n\
         smtpd_peername_lookup = no\nalias_maps =\nalias_database =\nmaillog_file = /dev/stdout\ninet_protocols = ipv4\n\
         smtpd_sasl_type = dovecot\nsmtpd_sasl_path = private/auth\nsmtpd_restriction_classes = ours\n\
         ours = permit_mynetworks, reject\nsmtpd_tls_key_file = /etc/postfix/key.pem\nown_nets = 10.4.0.0/16\n",
    );
    let level = *dice.pick(&["0", "2", "3.6"]);
    writeln!(text, "compatibility_level = {level}").unwrap();
    let nets = *dice.pick(&[
        "127.0.0.0/8 10.4.0.0/16",
        "127.0.0.0/8, !10.4.9.0/24\n    # the yard\n    10.4.0.0/16, 192.0.2.7",
        "0.0.0.0/0",
        "/etc/postfix/nets",
        "$own_nets [::1]/128",
        "192.0.0.0/8",
    ]);
    writeln!(text, "mynetworks = {nets}").unwrap();
    if dice.roll(2) == 0 {
        text.push_str("smtpd_tls_cert_file = /etc/postfix/cert.pem\n");
    }
    if dice.roll(2) == 0 {
        writeln!(text, "smtpd_tls_security_level = {}", dice.pick(&["may", "none", "encrypt"])).unwrap();
    }
    if dice.roll(3) == 0 {
        text.push_str("smtpd_use_tls = yes\n");
    }
    if dice.roll(3) == 0 {
        text.push_str("smtpd_tls_auth_only = yes\n");
    }
    if dice.roll(2) == 0 {
        text.push_str("smtpd_sasl_auth_enable = yes\n");
    }
    lists(dice, |name, value| writeln!(text, "{name} = {value}").unwrap());
    text
}

/// Lists of restrictions.
fn lists(dice: &mut Dice, mut add: impl FnMut(&str, &str)) {
    if dice.roll(4) == 0 {
        let list = *dice.pick(&[
            "permit_mynetworks,reject",
            "permit_sasl_authenticated,reject",
            "ours",
            "permit_mynetworks",
        ]);
        add("smtpd_client_restrictions", list);
    }
    if dice.roll(5) == 0 {
        add(
            "smtpd_sender_restrictions",
            *dice.pick(&["reject_non_fqdn_sender", "check_sender_access,texthash:/etc/postfix/senders"]),
        );
    }
    if dice.roll(5) == 0 {
        add(
            "smtpd_helo_restrictions",
            *dice.pick(&["permit_mynetworks,reject_invalid_helo_hostname", "permit"]),
        );
    }
    if dice.roll(2) == 0 {
        let list = *dice.pick(&[
            "permit_mynetworks,reject_unauth_destination",
            "permit_sasl_authenticated,reject_unauth_destination",
            "permit",
            "",
            "permit_mynetworks,permit_sasl_authenticated,permit,reject",
            "check_client_access,cidr:/etc/postfix/clients,reject_unauth_destination",
            "check_sender_access,texthash:/etc/postfix/senders,permit_mynetworks,defer_unauth_destination",
            "warn_if_reject,reject_unauth_destination,permit_mynetworks,permit_auth_destination",
            "defer_if_permit,permit_mynetworks",
            "ours",
        ]);
        add("smtpd_relay_restrictions", list);
    }
    if dice.roll(2) == 0 {
        let list = *dice.pick(&[
            "permit_mynetworks,reject_unauth_destination",
            "check_client_access,texthash:/etc/postfix/names,permit_mynetworks,reject",
            "reject_unauth_destination",
            "permit_mynetworks,permit_sasl_authenticated,reject_non_fqdn_recipient",
            "check_sender_access,texthash:/etc/postfix/senders,reject_unauth_destination",
            "permit_auth_destination,permit_mynetworks,reject",
        ]);
        add("smtpd_recipient_restrictions", list);
    }
}

/// `master.cf` with services at ports from 2500 on.
fn master_file(dice: &mut Dice) -> String {
    let mut text = String::new();
    for at in 0..SERVICES {
        writeln!(text, "{} inet n - n - - smtpd", 2500 + at).unwrap();
        if dice.roll(3) == 0 {
            writeln!(text, "  -o smtpd_tls_security_level={}", dice.pick(&["encrypt", "may", "none"]))
                .unwrap();
        }
        if dice.roll(3) == 0 {
            writeln!(text, "  -o smtpd_sasl_auth_enable={}", dice.pick(&["yes", "no"])).unwrap();
        }
        if dice.roll(5) == 0 {
            writeln!(text, "  -o {{ mynetworks = 127.0.0.0/8 198.51.100.0/24 }}").unwrap();
        }
        lists(dice, |name, value| writeln!(text, "  -o {name}={value}").unwrap());
    }
    text
}

const TABLES: [(&str, &str); 4] = [
    ("nets", "127.0.0.0/8\n10.4.0.0/16 # ours\n"),
    ("clients", "192.0.2.0/24 OK\n10.4.9.0/24 REJECT\n10.4.0.0/16 permit\n"),
    ("senders", "partner.example OK\n"),
    ("names", "198.51.100 OK\n203.0.113.9 REJECT\n"),
];

const RUN: &str = r#"
set -e
ip link set lo up
chown -R root:root "$1/postfix"
mount --bind "$1/postfix" /etc/postfix
mkdir -p "$1/spool" "$1/dovecot"
mount --bind "$1/spool" /var/spool/postfix
timeout 60 postfix check > "$1/log" 2>&1 || true
cat > "$1/dovecot.conf" <<C
protocols =
base_dir = $1/dovecot
log_path = $1/dovecot.log
ssl = no
disable_plaintext_auth = no
auth_mechanisms = plain login
passdb {
  driver = static
  args = password=x
}
userdb {
  driver = static
  args = uid=65534 gid=65534 home=/tmp
}
service auth {
  unix_listener /var/spool/postfix/private/auth {
    mode = 0666
  }
}
C
dovecot -c "$1/dovecot.conf" > /dev/null 2>&1
timeout 60 postfix start-fg >> "$1/log" 2>&1 &
for n in $(seq 50); do sleep 0.1; (echo > /dev/tcp/127.0.0.1/2500) 2>/dev/null && break; done
python3 "$1/ask.py"
postfix stop > /dev/null 2>&1 || true
"#;

const ASK: &str = r#"
import socket, sys
CLIENTS = "@CLIENTS@".split()
def talk(port, lines):
    s = socket.create_connection(("127.0.0.1", port), 4); f = s.makefile("rb")
    def reply():
        out = []
        while True:
            l = f.readline().decode(errors="replace").rstrip(); out.append(l)
            if len(l) < 4 or l[3] != "-": return out
    found = [reply()]
    for line in lines:
        if not found[-1][-1]: break
        s.sendall((line + "\r\n").encode()); found.append(reply())
    s.close()
    return found
for port in range(2500, 2500 + @SERVICES@):
    try: hello = talk(port, ["EHLO x.example"])[-1]
    except OSError: hello = [""]
    if not hello[-1]:
        # It does not start with these settings.
        print(port, "refused")
        continue
    words = [l[4:].split() for l in hello if l[:3] == "250"]
    # It may be offered without a certificate.
    tls = any(w[:1] == ["STARTTLS"] for w in words) and talk(port, ["EHLO x.example", "STARTTLS"])[-1][-1].startswith("220")
    auth = any(w[:1] == ["AUTH"] for w in words)
    first = talk(port, ["EHLO x.example", "MAIL FROM:<ann@partner.example>"])[-1][-1]
    forced = first.startswith("530")
    if forced and not tls:
        print(port, "refused")
        continue
    line = [str(port), "tls" if tls else "-", "forced" if forced else "-", "auth" if auth else "-"]
    for client in CLIENTS:
        all = talk(port, ["EHLO x.example", "XCLIENT ADDR=%s NAME=[UNAVAILABLE]" % client, "EHLO x.example",
                          "MAIL FROM:<ann@partner.example>", "RCPT TO:<x@foreign.example>"])
        line.append("yes" if len(all) == 6 and all[-1][-1].startswith("2") else "no")
    print(" ".join(line))
"#;

fn answers(folder: &Path) -> Vec<String> {
    let ask = ASK.replace("@CLIENTS@", &CLIENTS.join(" ")).replace("@SERVICES@", &SERVICES.to_string());
    fs::write(folder.join("ask.py"), ask).unwrap();
    let done = Command::new("timeout")
        .args(["90", "unshare", "-n", "-m", "-p", "--fork", "--kill-child", "--mount-proc"])
        .args(["bash", "-c", RUN, "run", &folder.display().to_string()])
        .output()
        .unwrap();
    let log = fs::read_to_string(folder.join("log")).unwrap_or_default();
    let own = fs::read_to_string(folder.join("dovecot.log")).unwrap_or_default();
    assert!(done.status.success(), "{}\n{log}\n{own}", String::from_utf8_lossy(&done.stderr));
    String::from_utf8(done.stdout).unwrap().lines().map(str::to_owned).collect()
}

/// The same of what was read.
fn told(served: &Served) -> String {
    let at = &served.endpoints[0];
    if served.refused.is_some() {
        return format!("{} refused", at.port);
    }
    let login = served.parts.iter().find(|part| part.kind == PartKind::Whole);
    let relay = served.parts.iter().find(|part| part.kind == PartKind::Relaying).unwrap();
    let (tls, forced) = match at.carried {
        TransportSecurity::Plain => ("-", "-"),
        TransportSecurity::Optional => ("tls", "-"),
        TransportSecurity::Encrypted => ("tls", "forced"),
    };
    let needs = |part: &&trevlin_model::served::ServiceResource| {
        part.encryption.as_ref().and_then(|one| one.possible().next()) == Some(&Requirement::Required)
    };
    // Before TLS no login is offered where it is required.
    let auth = if login.as_ref().is_some_and(|part| !needs(part)) { "auth" } else { "-" };
    assert!(login.is_none_or(|part| part.login.value() == Some(&AuthRequirement::Password)));
    let mut line = vec![at.port.to_string(), tls.to_owned(), forced.to_owned(), auth.to_owned()];
    for client in CLIENTS {
        let address: IpAddr = client.parse().unwrap();
        let may = relay.sources.contains(address) && forced == "-";
        line.push(if may { "yes" } else { "no" }.to_owned());
    }
    line.join(" ")
}

#[test]
#[ignore = "needs postfix, dovecot and root; run by scripts/conformance.sh"]
fn services_answer_as_they_are_read() {
    let reader = READERS.iter().find(|reader| reader.name == "postfix").unwrap();
    let (mut services, mut relayed, mut logins) = (0, 0, 0);
    for seed in 1..=INSTANCES {
        let mut dice = Dice::new(seed);
        let (main, master) = (main_file(&mut dice), master_file(&mut dice));
        let folder = tempfile::tempdir().unwrap();
        let place = folder.path().join("postfix");
        let copied = Command::new("cp").args(["-r", "/etc/postfix"]).arg(&place).status().unwrap();
        assert!(copied.success());
        let made = Command::new("openssl")
            .args([
                "req",
                "-x509",
                "-newkey",
                "rsa:2048",
                "-nodes",
                "-subj",
                "/CN=mail.quay.example",
                "-days",
                "9",
            ])
            .args(["-keyout", &place.join("key.pem").display().to_string()])
            .args(["-out", &place.join("cert.pem").display().to_string()])
            .output()
            .unwrap();
        assert!(made.status.success());
        fs::write(place.join("main.cf"), &main).unwrap();
        let packaged = fs::read_to_string("/etc/postfix/master.cf").unwrap();
        // What is not a service of the network stays, without its own roots.
        let others: String = packaged
            .lines()
            .filter(|line| {
                line.split_whitespace().nth(1).is_some_and(|kind| kind.starts_with("unix"))
                    && !line.starts_with('#')
            })
            .filter(|line| !line.contains("pipe"))
            .fold(String::new(), |mut all, line| {
                let words: Vec<&str> = line.split_whitespace().collect();
                let mut words: Vec<&str> = words.clone();
                words[4] = "n";
                writeln!(all, "{}", words.join(" ")).unwrap();
                all
            });
        let log = "postlog unix-dgram n - n - 1 postlogd\n";
        let log = if others.contains("postlogd") { "" } else { log };
        fs::write(place.join("master.cf"), format!("{master}{others}{log}")).unwrap();
        for (name, text) in TABLES {
            fs::write(place.join(name), text).unwrap();
        }
        let theirs = answers(folder.path());
        let mut exports = vec![
            Export::new(ExportId(0), "d/etc/postfix/main.cf", main.clone()),
            Export::new(ExportId(1), "d/etc/postfix/master.cf", master.clone()),
        ];
        for ((name, text), at) in TABLES.iter().zip(2..) {
            exports.push(Export::new(ExportId(at), format!("d/etc/postfix/{name}"), (*text).to_owned()));
        }
        let around = ReadContext::of(exports.iter().collect());
        let reading = (reader.read)(&exports[0], &around);
        let ours: Vec<String> = reading.facts.served.iter().map(told).collect();
        if ours != theirs {
            println!("{}", fs::read_to_string(folder.path().join("log")).unwrap());
        }
        assert_eq!(ours, theirs, "seed {seed}\n{main}\n{master}");
        services += ours.len();
        relayed += ours.iter().map(|line| line.matches(" yes").count()).sum::<usize>();
        logins += ours.iter().filter(|line| line.contains(" auth")).count();
    }
    assert!(services > 40 && relayed > 40 && logins > 4, "{services} {relayed} {logins}");
    println!("{services} services, {relayed} permitted clients, {logins} logins without TLS alike");
}
