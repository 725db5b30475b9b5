//! Agents of monitoring: which hosts they answer, and whether they run commands.

use super::{Daemon, hold, permits, reaches};
use crate::support::Dice;
use std::fmt::Write;
use trevlin_model::served::{AuthRequirement, Remark, Served};

fn zabbix(dice: &mut Dice) -> Vec<(&'static str, String)> {
    let mut text =
        String::from("# generated\nLogType=console\nPidFile=/run/zabbix.pid\nAllowRoot=1\nHostname=gate\n");
    let server = *dice.pick(&[
        "127.0.0.1",
        "10.4.0.0/16",
        "0.0.0.0/0",
        "10.4.9.9,192.0.2.7",
        "::/0",
        "10.4.0.9, 127.0.0.1",
        "198.51.100.77/32,::1",
    ]);
    if dice.roll(10) != 0 {
        writeln!(text, "Server={server}").unwrap();
    }
    for (line, sides) in [
        ("ListenPort=10055", 4),
        ("ListenIP=10.20.4.40", 4),
        ("ListenIP=127.0.0.1,10.20.4.41", 4),
        ("ListenIP=0.0.0.0", 4),
        ("StartAgents=0\nServerActive=127.0.0.1", 9),
        ("TLSAccept=psk\nTLSPSKFile=/etc/zabbix/key\nTLSPSKIdentity=gate", 5),
        ("TLSAccept=unencrypted,psk\nTLSPSKFile=/etc/zabbix/key\nTLSPSKIdentity=gate", 5),
    ] {
        // A name that is given again keeps the agent from starting.
        let name = format!("\n{}=", line.split('=').next().unwrap());
        if dice.roll(sides) == 0 && (!text.contains(&name) || dice.roll(9) == 0) {
            writeln!(text, "{line}").unwrap();
        }
    }
    for _ in 0..dice.roll(3) {
        let line = *dice.pick(&[
            "AllowKey=system.run[*]",
            "DenyKey=system.run[*]",
            "AllowKey=system.run[id]",
            "DenyKey=vfs.file.*",
            "AllowKey=vfs.file.contents[/etc/hostname]",
            "DenyKey=*",
            "EnableRemoteCommands=1",
            "EnableRemoteCommands=0",
            "AllowKey=*",
        ]);
        writeln!(text, "{line}").unwrap();
    }
    let mut files = vec![(
        "etc/zabbix/key",
        "00112233445566778899aabbccddeeff00112233445566778899aabbccddeeff\n".to_owned(),
    )];
    if dice.roll(3) == 0 {
        text.push_str("Include=/etc/zabbix/zabbix_agentd.conf.d/*.conf\n");
        files.push((
            "etc/zabbix/zabbix_agentd.conf.d/own.conf",
            "AllowKey=system.run[*]\nUserParameter=own.word,echo 1\n".into(),
        ));
    }
    files.insert(0, ("etc/zabbix/zabbix_agentd.conf", text));
    files
}

#[test]
#[ignore = "needs zabbix_agentd and root"]
fn hosts_of_zabbix() {
    hold(&Daemon {
        format: "zabbix-agent",
        rounds: 20,
        files: zabbix,
        except: |_, _| false,
        start: "chmod 644 /etc/zabbix/key; zabbix_agentd -f -c /etc/zabbix/zabbix_agentd.conf > \"$1/log\" 2>&1 &\nready; grep -i 'cannot\\|error\\|invalid' \"$1/log\"",
        ask: r#"
def ask(client, port, key):
    text = key.encode(); return talk(client, port, b"ZBXD\x01" + struct.pack("<Q", len(text)) + text)
for port in (10050, 10055):
    for client in CLIENTS:
        got = ask(client, port, "agent.variant")
        say("answers %d %s" % (port, client), "none" if got is None else str(len(got) > 0).lower())
        got = ask(client, port, "system.run[id]")
        say("commands %d %s" % (port, client), "none" if got is None else str(b"uid=" in got).lower())
"#,
        expected: |all, name| {
            let words: Vec<&str> = name.split(' ').collect();
            let (port, client) = (words[1].parse().ok()?, words[2]);
            if all.iter().any(|one| one.refused.is_some()) || !reaches(all, client, port) {
                return Some("none".into());
            }
            let part = all.first()?.parts.first()?;
            let answered = permits(part, client) && part.login.value() == Some(&AuthRequirement::Nothing);
            Some(
                match words[0] {
                    "answers" => answered,
                    _ => answered && part.remark(Remark::Commands).is_some(),
                }
                .to_string(),
            )
        },
    });
}

fn nrpe(dice: &mut Dice) -> Vec<(&'static str, String)> {
    let mut text = String::from(
        "# generated\nlog_facility=daemon\npid_file=/run/nrpe.pid\nnrpe_user=nagios\nnrpe_group=nagios\ncommand[own]=/bin/echo own $ARG1$\n",
    );
    let hosts = *dice.pick(&[
        "127.0.0.1,::1",
        "10.4.0.0/16",
        "0.0.0.0/0",
        "10.4.9.9, 192.0.2.7",
        "10.4.0.9,198.51.100.0/24",
    ]);
    if dice.roll(5) != 0 {
        writeln!(text, "allowed_hosts={hosts}").unwrap();
    }
    for (line, sides) in [
        ("server_port=5667", 3),
        ("server_address=10.20.4.40", 3),
        ("server_address=127.0.0.1", 5),
        ("dont_blame_nrpe=1", 2),
        ("dont_blame_nrpe=0", 4),
        ("allow_bash_command_substitution=1", 4),
    ] {
        if dice.roll(sides) == 0 {
            writeln!(text, "{line}").unwrap();
        }
    }
    let mut files = Vec::new();
    if dice.roll(3) == 0 {
        text.push_str("include_dir=/etc/nagios/nrpe.d/\n");
        files.push(("etc/nagios/nrpe.d/own.cfg", "allowed_hosts=127.0.0.1,10.4.9.9\n".into()));
    }
    files.insert(0, ("etc/nagios/nrpe.cfg", text));
    files.push((
        "etc/default/nagios-nrpe-server",
        format!("NRPE_OPTS=\"{}\"\n", dice.pick(&["-n", "-n", ""])),
    ));
    files
}

#[test]
#[ignore = "needs nrpe and root"]
fn hosts_of_nrpe() {
    hold(&Daemon {
        format: "nrpe",
        rounds: 20,
        files: nrpe,
        except: |_, _| false,
        start: ". /etc/default/nagios-nrpe-server; nrpe -c /etc/nagios/nrpe.cfg -f $NRPE_OPTS > \"$1/log\" 2>&1 &\nready; tail -2 \"$1/log\"",
        ask: r#"
import subprocess, zlib
def packet(command):
    body = command.encode().ljust(1024, b"\0") + b"\0\0"
    whole = struct.pack(">hhLh", 2, 1, 0, 0) + body
    return struct.pack(">hhLh", 2, 1, zlib.crc32(whole), 0) + body
bare = "-n" in open("/etc/default/nagios-nrpe-server").read()
for port in (5666, 5667):
    for client in CLIENTS:
        if bare:
            got = talk(client, port, packet("own"))
            say("answers %d %s" % (port, client), "none" if got is None else str(b"own" in got).lower())
            got = talk(client, port, packet("own!more"))
            say("commands %d %s" % (port, client), "none" if got is None else str(b"own more" in got).lower())
        else:
            got = talk(client, port, packet("own"))
            if got: say("answers %d %s" % (port, client), "true")
"#,
        expected: |all, name| {
            let words: Vec<&str> = name.split(' ').collect();
            let (port, client) = (words[1].parse().ok()?, words[2]);
            if !reaches(all, client, port) {
                return Some("none".into());
            }
            let part = all.first()?.parts.first()?;
            let answered = permits(part, client);
            Some(
                match words[0] {
                    "answers" => answered,
                    _ => answered && part.remark(Remark::Commands).is_some(),
                }
                .to_string(),
            )
        },
    });
}

fn monit(dice: &mut Dice) -> Vec<(&'static str, String)> {
    let mut text = String::from(
        "# generated\nset daemon 120\nset log /dev/null\nset idfile /run/monit.id\nset statefile /run/monit.state\nset pidfile /run/monit.pid\n",
    );
    let mut httpd = String::from("set httpd port 2812");
    match dice.roll(4) {
        0 => httpd.push_str(" and use address 10.20.4.40"),
        1 => httpd.push_str(" and\n   use address localhost  # only here"),
        _ => {}
    }
    httpd.push('\n');
    let mut allowed = 0;
    for (line, sides) in [
        ("allow localhost", 2),
        ("allow 10.4.0.0/16", 2),
        ("allow 10.4.9.9", 3),
        ("allow 0.0.0.0/0.0.0.0", 6),
        ("allow ann:Anker7", 2),
        ("allow \"bob\":\"other 9\" read-only", 4),
        ("allow cleartext /etc/monit/words", 5),
    ] {
        if dice.roll(sides) == 0 {
            writeln!(httpd, "    {line}").unwrap();
            allowed += 1;
        }
    }
    if allowed == 0 {
        httpd.push_str("    allow ann:Anker7\n");
    }
    let mut files = vec![("etc/monit/words", "cat:Anker9\n".to_owned())];
    if dice.roll(3) == 0 {
        text.push_str("include /etc/monit/conf.d/*\n");
        files.push(("etc/monit/conf.d/httpd", httpd));
    } else {
        text.push_str(&httpd);
    }
    text.push_str("check system gate\n    if loadavg (5min) > 4 then alert\n");
    files.insert(0, ("etc/monit/monitrc", text));
    files
}

#[test]
#[ignore = "needs monit and root"]
fn clients_of_monit() {
    hold(&Daemon {
        format: "monit",
        rounds: 20,
        files: monit,
        except: |_, _| false,
        start: "chmod 700 /etc/monit/monitrc; chown root /etc/monit/monitrc; monit -I -c /etc/monit/monitrc > \"$1/log\" 2>&1 &\nready; tail -3 \"$1/log\"",
        ask: r#"
for client in CLIENTS:
    for name, more in (("plain", ""), ("login", "Authorization: Basic %s\r\n" % base64.b64encode(b"ann:Anker7").decode())):
        got = talk(client, 2812, "GET / HTTP/1.0\r\n%s\r\n" % more)
        head = (got or b"").split(b"\r\n")[0].split()
        say("%s %s" % (name, client), "none" if got is None else str(len(head) > 1 and head[1] == b"200").lower())
        if name == "plain": say("asks %s" % client, "none" if got is None else str(len(head) > 1 and head[1] == b"401").lower())
"#,
        expected: |all, name| {
            let (what, client) = name.split_once(' ')?;
            if !reaches(all, client, 2812) {
                return Some("none".into());
            }
            let part = all.first()?.parts.first()?;
            let near = permits(part, client);
            let open = part.login.value() == Some(&AuthRequirement::Nothing);
            Some(
                match what {
                    "plain" => near && open,
                    "asks" => near && !open,
                    _ => return None,
                }
                .to_string(),
            )
        },
    });
}

fn upsd(dice: &mut Dice) -> Vec<(&'static str, String)> {
    let mut text = String::from("# generated\nALLOW_NO_DEVICE true\nMAXAGE 15\nSTATEPATH /run/nut\n");
    for (line, sides) in [
        ("LISTEN 127.0.0.1 3493", 3),
        ("LISTEN 10.20.4.40", 3),
        ("LISTEN 0.0.0.0 3494", 4),
        ("LISTEN :: 3495", 4),
        ("LISTEN \"10.20.4.41\" 3496", 4),
    ] {
        if dice.roll(sides) == 0 {
            writeln!(text, "{line}").unwrap();
        }
    }
    let mode = *dice.pick(&["standalone", "netserver", "netserver", "netclient", "none"]);
    vec![
        ("etc/nut/upsd.conf", text),
        ("etc/nut/nut.conf", format!("# generated\nMODE={mode}\n")),
        ("etc/nut/ups.conf", "maxretry = 3\n".into()),
        (
            "etc/nut/upsd.users",
            "[ann]\n  password = Anker7\n  actions = SET\n  instcmds = ALL\n[bob]\n  password = Mole9\n"
                .into(),
        ),
    ]
}

#[test]
#[ignore = "needs upsd and root"]
fn places_of_upsd() {
    hold(&Daemon {
        format: "upsd",
        rounds: 20,
        files: upsd,
        except: |_, _| false,
        start: "mkdir -p /run/nut; chown nut /run/nut 2>/dev/null; chmod 644 /etc/nut/*; grep -q 'MODE=standalone\\|MODE=netserver' /etc/nut/nut.conf && upsd -F -u root > \"$1/log\" 2>&1 &\nready; tail -3 \"$1/log\"",
        ask: r#"
got = talk("127.0.0.1", 3493, "LIST UPS\n", wait=0.4)
say("reads", "none" if got is None else str(b"LIST UPS" in got).lower())
"#,
        expected: |all: &[Served], _| {
            Some(if reaches(all, "127.0.0.1", 3493) { "true".into() } else { "none".into() })
        },
    });
}
