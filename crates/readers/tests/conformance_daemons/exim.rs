//! Exim: where it listens, whom it accepts mail to other domains from, and whether it offers a login without TLS.

use super::{Daemon, hold, permits, reaches};
use crate::support::Dice;
use std::fmt::Write;
use trevlin_model::served::{AuthRequirement, PartKind, Requirement, Served};

/// Names and a folder that the program needs, and the question: a recipient elsewhere, from each client.
const ASK: &str = r#"
def smtp(client, port):
    """The replies to a greeting and to a recipient elsewhere; none where nobody listens."""
    try: s = connect(client, port)
    except OSError: return None
    s.settimeout(6); f = s.makefile("rb")
    def say_to(text):
        if text: s.sendall(text.encode() + b"\r\n")
        reply = []
        while True:
            line = f.readline()
            if not line: return reply
            reply.append(line.decode(errors="replace").strip())
            if line[3:4] != b"-": return reply
    try:
        first = say_to("")
        if not first or not first[0].startswith("220"): return [], ["refused"]
        hello = say_to("EHLO client.example")
        say_to("MAIL FROM:<ann@client.example>")
        return hello, say_to("RCPT TO:<bo@elsewhere.example>")
    except OSError: return [], ["gone"]
for port in (25, 587, 2525):
    for client in CLIENTS:
        got = smtp(client, port)
        say("relays %d %s" % (port, client), "none" if got is None else str(got[1][:1] != [] and got[1][0].startswith("250")).lower())
        if client == "10.4.0.9": say("login %d %s" % (port, client), "none" if got is None else str(any("AUTH" in line.upper() for line in got[0])).lower())
"#;

const NAMES: &str = "echo 'Debian-exim:x:998:998::/var/spool/exim4:/usr/sbin/nologin' >> /etc/passwd; echo 'Debian-exim:x:998:' >> /etc/group; echo gate.example > /etc/mailname; mkdir -p /run/spool; chown 998:998 /run/spool\n";

fn expected(all: &[Served], name: &str) -> Option<String> {
    let words: Vec<&str> = name.split(' ').collect();
    if !reaches(all, words[2], words[1].parse().ok()?) {
        return Some("none".into());
    }
    let one = all.first()?;
    Some(match words[0] {
        "relays" => {
            // What depends on a condition is a question.
            if !one.open.is_empty() {
                return None;
            }
            one.parts
                .iter()
                .any(|part| part.kind == PartKind::Relaying && permits(part, words[2]))
                .to_string()
        }
        _ => one
            .parts
            .iter()
            .filter(|part| part.kind == PartKind::Whole)
            .any(|part| {
                part.login.value() != Some(&AuthRequirement::Nothing)
                    && part.encryption.as_ref().and_then(|one| one.value()) != Some(&Requirement::Required)
            })
            .to_string(),
    })
}

fn own(dice: &mut Dice) -> Vec<(&'static str, String)> {
    let mut text = String::from(
        "# generated\nLOCAL = 10.4.0.0/16\nprimary_hostname = gate.example\nspool_directory = /run/spool\nlog_file_path = /run/spool/%slog\nkeep_environment =\nhost_lookup =\nrfc1413_query_timeout = 0s\n",
    );
    for (line, sides) in [
        ("local_interfaces = 127.0.0.1 : 10.20.4.40", 4),
        ("local_interfaces = <; 127.0.0.1 ; ::1", 6),
        ("local_interfaces = <; 10.20.4.40 ; [10.20.4.41]:2525", 6),
        ("daemon_smtp_ports = 25 : 587", 3),
        ("daemon_smtp_ports = 2525", 6),
        ("disable_ipv6 = true", 4),
        ("tls_advertise_hosts =", 3),
    ] {
        let name = format!("\n{} ", line.split(' ').next().unwrap());
        if dice.roll(sides) == 0 && !text.contains(&name) {
            writeln!(text, "{line}").unwrap();
        }
    }
    let from = *dice.pick(&[
        "LOCAL : 127.0.0.1",
        "127.0.0.1",
        "*",
        "!10.4.9.9 : 10.4.0.0/16",
        "<; 192.0.2.0/24 ; 127.0.0.1",
        "10.4.0.9 : ::1 : +others",
        "!10.4.9.9",
    ]);
    writeln!(text, "hostlist others = 198.51.100.0/24").unwrap();
    writeln!(text, "hostlist relay_from_hosts = {}", from.replace("::1", "::::1")).unwrap();
    writeln!(
        text,
        "domainlist local_domains = @ : gate.example\ndomainlist relay_to_domains = {}",
        dice.pick(&["", "quay.example : *.quay.example", "*", "!quay.example"])
    )
    .unwrap();
    text.push_str("acl_smtp_rcpt = check\n");
    if dice.roll(8) == 0 {
        text = text.replace("acl_smtp_rcpt = check\n", "");
    }
    text.push_str("begin acl\ncheck:\n");
    let rules = [
        "accept hosts = :",
        "accept hosts = +relay_from_hosts\n  control = submission",
        "accept\n  authenticated = *",
        "deny hosts = 10.4.9.9",
        "deny message = no\n  domains = !+local_domains : !+relay_to_domains\n  !hosts = +relay_from_hosts",
        "deny local_parts = ^.*[@%!] : ^\\\\.",
        "accept domains = +local_domains",
        "accept domains = +relay_to_domains",
        "require message = relay not permitted\n  domains = +local_domains : +relay_to_domains",
        "require hosts = +relay_from_hosts",
        "warn hosts = *",
        "accept condition = false",
        "accept senders = *@client.example",
        "deny condition = ${if eq{$sender_helo_name}{bad.example}}",
        "accept condition = ${if eq{$sender_host_address}{10.4.0.9}}",
        "accept",
        "drop hosts = ! 10.0.0.0/8 : 192.0.2.7",
    ];
    for _ in 0..2 + dice.roll(5) {
        writeln!(text, "{}", dice.pick(&rules)).unwrap();
    }
    text.push_str("begin routers\nall:\n  driver = accept\n  transport = away\nbegin transports\naway:\n  driver = appendfile\n  file = /dev/null\n");
    if dice.roll(2) == 0 {
        text.push_str("begin authenticators\nplain:\n  driver = plaintext\n  public_name = PLAIN\n  server_prompts = :\n  server_condition = ${if eq{$auth3}{Anker7}}\n");
        if dice.roll(2) == 0 {
            text.push_str("  server_advertise_condition = ${if def:tls_in_cipher}\n");
        }
    }
    vec![("etc/exim4/exim4.conf", text)]
}

#[test]
#[ignore = "needs exim and root"]
fn relaying_of_exim() {
    hold(&Daemon {
        format: "exim",
        rounds: 40,
        files: own,
        except: |_, _| false,
        start: const_start(&[
            "\"${EXIM:-}/usr/sbin/exim4\" -C /etc/exim4/exim4.conf -bdf -oP /run/exim.pid > \"$1/log\" 2>&1 &\nready; tail -3 \"$1/log\"",
        ]),
        ask: ASK,
        expected,
    });
}

/// Commands behind those that make the program's names.
fn const_start(parts: &[&str]) -> &'static str {
    Box::leak(format!("{NAMES}{}", parts.concat()).into_boxed_str())
}

fn debian(dice: &mut Dice) -> Vec<(&'static str, String)> {
    // What the kind `local` accepts it does not deliver, so that its replies tell nothing.
    let kind = *dice.pick(&["internet", "smarthost", "satellite"]);
    let interfaces =
        *dice.pick(&["127.0.0.1 ; ::1", "", "10.20.4.40;127.0.0.1", "127.0.0.1.587 : 10.20.4.40"]);
    let nets =
        *dice.pick(&["", "10.4.0.0/16", "192.0.2.0/24;10.4.0.9", "0.0.0.0/0", "10.4.9.9 : 198.51.100.0/24"]);
    // Recipients elsewhere are found good by DNS, which is not here.
    let domains = *dice.pick(if kind == "local" {
        &["", "quay.example", "*"]
    } else {
        &["", "quay.example", "!quay.example : !*"]
    });
    let split = dice.roll(2) == 0;
    let mut files = vec![
        (
            "etc/exim4/update-exim4.conf.conf",
            format!(
                "# generated\ndc_eximconfig_configtype='{kind}'\ndc_other_hostnames='gate.example'\ndc_local_interfaces='{interfaces}'\n\
                 dc_readhost=''\ndc_relay_domains='{domains}'\ndc_minimaldns='false'\ndc_relay_nets='{nets}'\ndc_smarthost='mail.example'\n\
                 CFILEMODE='644'\ndc_use_split_config='{split}'\ndc_hide_mailname=''\ndc_mailname_in_oh='true'\ndc_localdelivery='mail_spool'\n"
            ),
        ),
        (
            "etc/default/exim4",
            format!(
                "QUEUERUNNER='combined'\nQUEUEINTERVAL='30m'\nSMTPLISTENEROPTIONS='{}'\n",
                dice.pick(&["", "", "-oX 587:25", "-oX 2525"])
            ),
        ),
    ];
    if !split && dice.roll(3) == 0 {
        files.push((
            "etc/exim4/exim4.conf.localmacros",
            "MAIN_TLS_ENABLE = yes\nMAIN_RELAY_NETS = 10.4.9.9\n".into(),
        ));
    }
    // The packaged files are read where they are exported, and stand for themselves where they are not.
    if let Some(root) = std::env::var_os("EXIM").filter(|_| dice.roll(2) == 0) {
        let root = std::path::PathBuf::from(root).join("etc/exim4");
        if split {
            for folder in ["main", "acl", "auth", "router", "transport"] {
                let mut all: Vec<_> =
                    std::fs::read_dir(root.join("conf.d").join(folder)).unwrap().flatten().collect();
                all.sort_by_key(std::fs::DirEntry::file_name);
                for one in all {
                    let path = format!("etc/exim4/conf.d/{folder}/{}", one.file_name().to_string_lossy());
                    files.push((
                        Box::leak(path.into_boxed_str()),
                        std::fs::read_to_string(one.path()).unwrap(),
                    ));
                }
            }
        } else {
            files.push((
                "etc/exim4/exim4.conf.template",
                std::fs::read_to_string(root.join("exim4.conf.template")).unwrap(),
            ));
        }
    }
    files
}

#[test]
#[ignore = "needs exim, EXIM and root"]
fn settings_of_debian() {
    hold(&Daemon {
        format: "exim-debian",
        rounds: 24,
        files: debian,
        except: |_, _| false,
        start: const_start(&[
            "mkdir -p /etc/exim4; for one in conf.d exim4.conf.template; do [ -e /etc/exim4/$one ] && [ -e \"$1/etc/exim4/conf.d/retry\" ] || cp -rn \"$EXIM/etc/exim4/$one\" /etc/exim4/; done\n",
            "mount -t tmpfs tmpfs /var/lib; mkdir -p /var/lib/exim4; mkdir -p /var/spool/exim4; mount -t tmpfs tmpfs /var/spool; mkdir -p /var/spool/exim4/input; chown -R 998:998 /var/spool/exim4; mount -t tmpfs tmpfs /var/log; mkdir -p /var/log/exim4; chown 998:998 /var/log/exim4\n",
            "sed \"s#/usr/sbin/exim4#$EXIM/usr/sbin/exim4#g; s#/usr/lib/exim4/exim4#$EXIM/usr/sbin/exim4#g\" \"$EXIM/usr/sbin/update-exim4.conf\" > /run/update; bash /run/update -o /var/lib/exim4/config.autogenerated > \"$1/made\" 2>&1; tail -2 \"$1/made\"\n",
            ". /etc/default/exim4; \"$EXIM/usr/sbin/exim4\" -C /var/lib/exim4/config.autogenerated -bdf -q30m $SMTPLISTENEROPTIONS -oP /run/exim.pid > \"$1/log\" 2>&1 &\nready; tail -3 \"$1/log\"",
        ]),
        ask: ASK,
        expected,
    });
}
