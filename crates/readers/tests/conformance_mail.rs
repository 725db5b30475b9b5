//! Generated configurations of Postfix: who may send mail to another domain, and how a login is offered, as the running server answers it;
//! and of Dovecot: where it listens, and whether it takes a password without TLS.
//!
//! The servers run in namespaces of their own; Postfix takes the address of the client from XCLIENT. Run by `scripts/conformance.sh`; needs
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
/// Clients.
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
        let list =
            *dice.pick(&["reject_non_fqdn_sender", "check_sender_access,texthash:/etc/postfix/senders"]);
        add("smtpd_sender_restrictions", list);
    }
    if dice.roll(5) == 0 {
        let list = *dice.pick(&["permit_mynetworks,reject_invalid_helo_hostname", "permit"]);
        add("smtpd_helo_restrictions", list);
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
    in_namespace(RUN, folder)
}

/// The lines that a script prints in namespaces of its own; what it starts ends with it.
fn in_namespace(script: &str, folder: &Path) -> Vec<String> {
    let done = Command::new("timeout")
        .args(["90", "unshare", "-n", "-m", "-p", "--fork", "--kill-child", "--mount-proc"])
        .args(["bash", "-c", script, "run", &folder.display().to_string()])
        .output()
        .unwrap();
    let log = fs::read_to_string(folder.join("log")).unwrap_or_default();
    assert!(done.status.success(), "{}\n{log}", String::from_utf8_lossy(&done.stderr));
    String::from_utf8(done.stdout).unwrap().lines().map(str::to_owned).collect()
}

/// A certificate with its key, in a folder.
fn certificate(folder: &Path) {
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
        .args(["-keyout", &folder.join("key.pem").display().to_string()])
        .args(["-out", &folder.join("cert.pem").display().to_string()])
        .output()
        .unwrap();
    assert!(made.status.success());
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
        certificate(&place);
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

const MAILBOXES: u64 = 24;

/// Settings of Dovecot, in two files.
fn mailboxes(dice: &mut Dice) -> (String, String) {
    let mut main = String::from("!include_try /usr/share/dovecot/protocols.d/*.none\n");
    writeln!(main, "protocols = {}", dice.pick(&["imap", "imap pop3", "\"imap pop3 sieve\"", "pop3"]))
        .unwrap();
    if dice.roll(3) == 0 {
        writeln!(main, "listen = {}", dice.pick(&["127.0.0.1", "*", "127.0.0.1, 127.0.0.3"])).unwrap();
    }
    main.push_str("!include conf.d/*.conf\n");
    if dice.roll(3) == 0 {
        writeln!(main, "ssl = {} # at last", dice.pick(&["yes", "no", "required"])).unwrap();
    }
    let mut part = String::from("ssl_cert = <cert.pem\nssl_key = <key.pem\n");
    if dice.roll(2) == 0 {
        writeln!(part, "disable_plaintext_auth={}", dice.pick(&["yes", "no", "no"])).unwrap();
    }
    if dice.roll(2) == 0 {
        writeln!(part, "ssl = {}", dice.pick(&["yes", "no", "required"])).unwrap();
    }
    if dice.roll(2) == 0 {
        let list = dice.pick(&["plain login", "cram-md5", "plain cram-md5", "anonymous"]);
        writeln!(part, "auth_mechanisms = {list}").unwrap();
    }
    if dice.roll(2) == 0 {
        let listener = *dice.pick(&[
            "inet_listener imap {\n    port = 0\n  }",
            "inet_listener imaps {\n    port = 9993\n    ssl = yes\n  }",
            "inet_listener more {\n    port = 1143\n  }",
            "inet_listener imap {\n    address = 127.0.0.1\n  }",
        ]);
        writeln!(part, "service imap-login {{\n  {listener}\n}}").unwrap();
    }
    (main, part)
}

const RUN_MAILBOXES: &str = r#"
set -e
ip link set lo up
cd "$1/dovecot"
cat > last.conf <<C
base_dir = $1/run
log_path = $1/log
mail_location = maildir:/tmp/none
passdb {
  driver = static
  args = password=x
}
userdb {
  driver = static
  args = uid=65534 gid=65534 home=/tmp
}
C
cat dovecot.conf last.conf > whole.conf
chmod 755 "$1"
dovecot -c "$1/dovecot/whole.conf" > "$1/started" 2>&1
sleep 0.7
python3 "$1/ask.py"
"#;

const ASK_MAILBOXES: &str = r#"
import base64, socket, ssl
for port in (110, 143, 993, 995, 1143, 4190, 9993):
    found = set()
    for host in ("127.0.0.1", "127.0.0.3"):
        # From another address of the same machine, which is no local connection.
        try: s = socket.create_connection((host, port), 3, ("127.0.0.9", 0))
        except OSError: continue
        s.settimeout(5)
        wrapped = False
        if port in (993, 995, 9993):
            context = ssl._create_unverified_context()
            try: s = context.wrap_socket(s); wrapped = True
            except (OSError, ssl.SSLError):
                s.close(); s = socket.create_connection((host, port), 3, ("127.0.0.9", 0)); s.settimeout(5)
        f = s.makefile("rb")
        def say(line): s.sendall((line + "\r\n").encode())
        def until(*ends):
            text = ""
            while True:
                l = f.readline().decode(errors="replace")
                text += l
                if not l or any(l.startswith(e) for e in ends): return text
        word = base64.b64encode(b"\0ann\0x").decode()
        try:
            if port in (110, 995):
                until("+OK"); say("CAPA"); caps = until(".", "-ERR")
                say("AUTH PLAIN " + word); told = until("+OK", "-ERR", "+ ")
                plain = told.startswith("+OK"); tls = "STLS" in caps
            elif port == 4190:
                caps = until("OK", "NO", "BYE"); say('AUTHENTICATE "PLAIN" "%s"' % word); told = until("OK", "NO", "BYE")
                plain = told.startswith("OK"); tls = "STARTTLS" in caps
            else:
                until("* OK", "* BYE"); say("a CAPABILITY"); caps = until("a "); say("b AUTHENTICATE PLAIN " + word)
                told = until("b ", "+ "); plain = told.splitlines()[-1].startswith("b OK"); tls = "STARTTLS" in caps
        except OSError: continue
        found.add("%s %s %s" % (port, "wrapped" if wrapped else "tls" if tls else "-", "plain" if plain else "-"))
    for line in sorted(found): print(line)
"#;

#[test]
#[ignore = "needs dovecot and root; run by scripts/conformance.sh"]
fn mailboxes_take_passwords_as_they_are_read() {
    let reader = READERS.iter().find(|reader| reader.name == "dovecot").unwrap();
    let (mut places, mut open) = (0, 0);
    for seed in 1..=MAILBOXES {
        let mut dice = Dice::new(seed);
        let (main, part) = mailboxes(&mut dice);
        let folder = tempfile::tempdir().unwrap();
        let place = folder.path().join("dovecot");
        fs::create_dir_all(place.join("conf.d")).unwrap();
        fs::create_dir_all(folder.path().join("run")).unwrap();
        certificate(&place);
        for name in ["cert.pem", "key.pem"] {
            fs::copy(place.join(name), place.join("conf.d").join(name)).unwrap();
        }
        fs::write(place.join("dovecot.conf"), &main).unwrap();
        fs::write(place.join("conf.d/10.conf"), &part).unwrap();
        fs::write(folder.path().join("ask.py"), ASK_MAILBOXES).unwrap();
        let theirs = in_namespace(RUN_MAILBOXES, folder.path());
        let exports = [
            Export::new(ExportId(0), "d/etc/dovecot/dovecot.conf", main.clone()),
            Export::new(ExportId(1), "d/etc/dovecot/conf.d/10.conf", part.clone()),
        ];
        let around = ReadContext::of(exports.iter().collect());
        let reading = (reader.read)(&exports[0], &around);
        let mut ours = std::collections::BTreeSet::new();
        for served in &reading.facts.served {
            let login = served.parts.first();
            for at in &served.endpoints {
                let carried = match at.carried {
                    TransportSecurity::Plain => "-",
                    TransportSecurity::Optional => "tls",
                    TransportSecurity::Encrypted => "wrapped",
                };
                let required = login.is_some_and(|part| {
                    part.encryption.as_ref().and_then(|one| one.possible().next())
                        == Some(&Requirement::Required)
                });
                let by_password =
                    login.is_some_and(|part| part.login.value() == Some(&AuthRequirement::Password));
                let plain = by_password && (carried == "wrapped" || !required);
                ours.insert((
                    at.port,
                    format!("{} {carried} {}", at.port, if plain { "plain" } else { "-" }),
                ));
                open += usize::from(plain && carried != "wrapped");
            }
        }
        let ours: Vec<String> = ours.into_iter().map(|(_, line)| line).collect();
        if ours != theirs {
            println!("{}", fs::read_to_string(folder.path().join("log")).unwrap_or_default());
        }
        assert_eq!(ours, theirs, "seed {seed}\n{main}\n{part}");
        places += ours.len();
    }
    assert!(places > 40 && open > 5, "{places} {open}");
    println!("{MAILBOXES} configurations, {places} places, {open} with passwords without TLS alike");
}
