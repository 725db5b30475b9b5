//! Super-servers and what they start, the mapper of RPC programs, and TFTP: where they listen, and which clients they answer.

use super::{Daemon, hold, listens, permits};
use crate::support::Dice;
use std::fmt::Write;
use trevlin_model::served::Served;

/// Lists for libwrap; none where the device has none.
fn lists(dice: &mut Dice, daemons: &[&str], files: &mut Vec<(&'static str, String)>) {
    // Daemons of Debian are built with libwrap.
    files.push(("etc/debian_version", "12\n".into()));
    if dice.roll(2) != 0 {
        files.push(("etc/hosts.allow", String::new()));
        files.push(("etc/hosts.deny", String::new()));
        return;
    }
    let daemon = *dice.pick(daemons);
    let hosts = *dice.pick(&[
        "10.4.",
        "10.4.0.9",
        "192.0.2.0/24 127.0.0.1",
        "ALL EXCEPT 10.4.9.9",
        "127.0.0.1 [::1]",
    ]);
    files.push(("etc/hosts.allow", format!("{daemon}: {hosts}\n")));
    files.push(("etc/hosts.deny", dice.pick(&["ALL: ALL\n", "ALL: 192.0.2.7\n", ""]).to_string()));
}

/// Whether a client is answered at a port of a protocol by one of the services.
fn answered(all: &[Served], protocol: u8, client: &str, port: u16) -> bool {
    let to = if client == "127.0.0.1" { client } else { "10.20.4.40" };
    all.iter().any(|one| {
        listens(std::slice::from_ref(one), protocol, to.parse().unwrap(), port)
            && one.parts.iter().any(|part| permits(part, client))
    })
}

fn xinetd(dice: &mut Dice) -> Vec<(&'static str, String)> {
    let hosts = [
        "10.4.0.0",
        "10.4.9.9",
        "10.4.{0,9}",
        "0.0.0.0",
        "0.0.0.0/0",
        "192.0.2.0/24 127.0.0.1",
        "10.4.0.0/16",
        "10.0.0.0",
        "198.51.100.77",
        "::1",
    ];
    let mut main = String::from("# generated\ndefaults\n{\n  log_type = FILE /dev/null\n");
    for (name, sides) in [("only_from", 5), ("no_access", 6)] {
        if dice.roll(sides) == 0 {
            writeln!(main, "  {name} = {}", dice.pick(&hosts)).unwrap();
        }
    }
    for (line, sides) in [("disabled = late", 4), ("enabled = early daytime", 7), ("bind = 10.20.4.40", 8)] {
        if dice.roll(sides) == 0 {
            writeln!(main, "  {line}").unwrap();
        }
    }
    main.push_str("}\nincludedir /etc/xinetd.d\n");
    let block = |name: &str, fixed: &str, dice: &mut Dice| {
        let mut text = format!("service {name}\n{{\n{fixed}");
        for (line, sides) in [
            ("disable = yes", 6),
            ("disable = no", 3),
            ("bind = 10.20.4.41", 6),
            ("interface = 127.0.0.1", 8),
            ("flags = IPv4", 4),
            ("flags = NOLIBWRAP", 5),
            ("flags = IPv6", 6),
        ] {
            let name = line.split(' ').next().unwrap();
            let other = if name == "bind" { "interface" } else { "bind" };
            if dice.roll(sides) == 0
                && !text.contains(&format!("  {name} "))
                && !text.contains(&format!("  {other} "))
            {
                writeln!(text, "  {line}").unwrap();
            }
        }
        for (name, sides) in [("only_from", 3), ("only_from", 5), ("no_access", 4)] {
            if dice.roll(sides) == 0 {
                writeln!(text, "  {name} {} {}", dice.pick(&["=", "=", "+=", "-="]), dice.pick(&hosts))
                    .unwrap();
            }
        }
        text.push_str("}\n");
        text
    };
    let own = "  socket_type = stream\n  protocol = tcp\n  wait = no\n  user = root\n  type = UNLISTED\n  server = /usr/bin/id\n";
    let early = block("early", &format!("{own}  port = 4001\n"), dice);
    let late = block("late", &format!("{own}  port = 4002\n  server_args = -u\n"), dice);
    let day = block(
        "daytime",
        "  type = INTERNAL\n  socket_type = stream\n  protocol = tcp\n  wait = no\n  user = root\n",
        dice,
    );
    let mut files = vec![
        ("etc/xinetd.conf", main),
        ("etc/xinetd.d/early", early),
        ("etc/xinetd.d/late", late),
        ("etc/xinetd.d/daytime", day),
        ("etc/xinetd.d/off.conf", "service off\n{\n  socket_type = stream\n  protocol = tcp\n  wait = no\n  user = root\n  type = UNLISTED\n  server = /usr/bin/id\n  port = 4009\n}\n".into()),
        ("etc/xinetd.d/chargen-udp", "service chargen\n{\n  type = INTERNAL\n  id = chargen-dgram\n  socket_type = dgram\n  protocol = udp\n  wait = yes\n  user = root\n}\n".into()),
    ];
    lists(dice, &["id", "ALL", "daytime", "early"], &mut files);
    files
}

#[test]
#[ignore = "needs xinetd and root"]
fn clients_of_xinetd() {
    hold(&Daemon {
        format: "xinetd",
        rounds: 40,
        files: xinetd,
        except: |_, _| false,
        start: "rm -rf /etc/xinetd.d/echo* /etc/xinetd.d/discard* /etc/xinetd.d/time* /etc/xinetd.d/serv* /etc/xinetd.d/chargen /etc/xinetd.d/daytime-udp\nxinetd -dontfork -f /etc/xinetd.conf > \"$1/log\" 2>&1 &\nready; tail -3 \"$1/log\"",
        ask: r#"
for port in (13, 4001, 4002):
    for client in CLIENTS:
        got = talk(client, port, "", wait=0.8)
        say("answers %d %s" % (port, client), str(bool(got)).lower())
"#,
        expected: |all, name| {
            let words: Vec<&str> = name.split(' ').collect();
            Some(answered(all, 6, words[2], words[1].parse().ok()?).to_string())
        },
    });
}

fn inetd(dice: &mut Dice) -> Vec<(&'static str, String)> {
    let mut text = String::from(
        "# generated\n#<off># telnet stream tcp nowait root /usr/sbin/tcpd /usr/sbin/in.telnetd\n",
    );
    let rows = [
        "4001 stream tcp nowait root /usr/bin/id id",
        "10.20.4.40:4002 stream tcp nowait root /usr/bin/id id -u",
        "127.0.0.1,10.20.4.41:4003 stream tcp nowait root /usr/bin/id id",
        "daytime stream tcp nowait root internal",
        "echo stream tcp4 nowait root internal",
        "time stream tcp6 nowait.100 root internal",
        "4004 stream tcp nowait root /usr/sbin/tcpd /usr/bin/id",
        "[::1]:4005 stream tcp6 nowait root /usr/bin/id id",
        "*:4006 stream tcp,rcvbuf=16384 nowait root:root /usr/bin/id id",
        "127.0.0.1:",
        "*:",
        "10.20.4.41:",
    ];
    let mut used = Vec::new();
    for _ in 0..3 + dice.roll(5) {
        let row = *dice.pick(&rows);
        if !used.contains(&row) {
            writeln!(text, "{row}").unwrap();
            used.push(row);
        }
    }
    let wraps = dice.roll(2) == 0;
    let mut files = vec![
        ("etc/inetd.conf", text),
        ("etc/default/openbsd-inetd", format!("OPTIONS=\"{}\"\n", if wraps { "-l" } else { "" })),
    ];
    lists(dice, &["id", "ALL"], &mut files);
    files
}

#[test]
#[ignore = "needs openbsd-inetd, tcpd and root"]
fn clients_of_inetd() {
    hold(&Daemon {
        format: "inetd",
        rounds: 30,
        files: inetd,
        except: |_, _| false,
        start: ". /etc/default/openbsd-inetd; \"${INETD:-/usr/sbin/inetd}\" -i $OPTIONS /etc/inetd.conf > \"$1/log\" 2>&1 &\nready; tail -3 \"$1/log\"",
        ask: r#"
for port in (13, 37, 4001, 4002, 4003, 4004, 4006):
    for client in CLIENTS:
        got = talk(client, port, "", wait=0.8)
        say("answers %d %s" % (port, client), str(bool(got)).lower())
"#,
        expected: |all, name| {
            let words: Vec<&str> = name.split(' ').collect();
            Some(answered(all, 6, words[2], words[1].parse().ok()?).to_string())
        },
    });
}

fn rpcbind(dice: &mut Dice) -> Vec<(&'static str, String)> {
    let options = *dice.pick(&["-w -f", "-f -h 10.20.4.40", "-f -i -h 10.20.4.41 -h fd00:4::40", "-f -l"]);
    let mut files = vec![(
        "etc/systemd/system/rpcbind.service",
        format!("[Service]\nEnvironment=OWN={options:?}\nExecStart=/sbin/rpcbind $OWN\n"),
    )];
    lists(dice, &["rpcbind", "ALL", "portmap"], &mut files);
    files
}

#[test]
#[ignore = "needs rpcbind and root"]
fn clients_of_rpcbind() {
    hold(&Daemon {
        format: "rpcbind",
        rounds: 20,
        files: rpcbind,
        except: |_, _| false,
        start: "mkdir -p /run/rpcbind; /sbin/rpcbind $(sed -n 's/^Environment=OWN=//p' \"$1/etc/systemd/system/rpcbind.service\" | tr -d '\"') > \"$1/log\" 2>&1 &\nready; tail -3 \"$1/log\"",
        ask: r#"
call = struct.pack(">LLLLLLLLLL", 7, 0, 2, 100000, 2, 4, 0, 0, 0, 0)
for client in CLIENTS:
    got = talk(client, 111, struct.pack(">L", 0x80000000 | len(call)) + call, wait=0.25, most=64)
    say("answers %s" % client, str(bool(got) and len(got) >= 28 and struct.unpack(">L", got[12:16])[0] == 0 and struct.unpack(">L", got[24:28])[0] == 0).lower())
"#,
        expected: |all, name| Some(answered(all, 6, name.split(' ').nth(1)?, 111).to_string()),
    });
}

fn tftpd(dice: &mut Dice) -> Vec<(&'static str, String)> {
    let address =
        *dice.pick(&[":69", "0.0.0.0:69", "10.20.4.40:69", "127.0.0.1:6969", "[::]:69", "10.20.4.41", ""]);
    let options = *dice.pick(&["--secure", "-s -c", "--secure --create", "-4 -s", "-s -v --permissive"]);
    let mut text = String::from("# generated\nTFTP_USERNAME=\"root\"\nTFTP_DIRECTORY=\"/run/tftp\"\n");
    if !address.is_empty() {
        writeln!(text, "TFTP_ADDRESS=\"{address}\"").unwrap();
    }
    writeln!(text, "TFTP_OPTIONS=\"{options}\"").unwrap();
    let mut files = vec![("etc/default/tftpd-hpa", text)];
    lists(dice, &["in.tftpd", "ALL"], &mut files);
    files
}

#[test]
#[ignore = "needs tftpd-hpa and root"]
fn clients_of_tftpd() {
    hold(&Daemon {
        format: "tftpd",
        rounds: 20,
        files: tftpd,
        except: |_, _| false,
        start: "mkdir -p /run/tftp; echo own > /run/tftp/own; chmod 777 /run/tftp; chmod 644 /run/tftp/own; . /etc/default/tftpd-hpa\nin.tftpd -L --user root ${TFTP_ADDRESS:+--address $TFTP_ADDRESS} $TFTP_OPTIONS $TFTP_DIRECTORY > \"$1/log\" 2>&1 &\nready; sleep 0.3; tail -3 \"$1/log\"",
        ask: r#"
def request(client, code, name):
    s = socket.socket(socket.AF_INET, socket.SOCK_DGRAM); s.settimeout(0.25); s.bind((client, 0))
    try:
        s.sendto(struct.pack(">H", code) + name.encode() + b"\0octet\0", (server_of(client), 69))
        return struct.unpack(">H", s.recv(2048)[:2])[0]
    except OSError: return 0
for client in CLIENTS:
    say("reads %s" % client, str(request(client, 1, "own") == 3).lower())
    say("writes %s" % client, str(request(client, 2, "new" + client) == 4).lower())
"#,
        expected: |all, name| {
            let (what, client) = name.split_once(' ')?;
            let near = answered(all, 17, client, 69);
            let part = all.first()?.parts.first()?;
            Some((near && (what == "reads" || part.writes.value() == Some(&true))).to_string())
        },
    });
}
