//! Remote desktops, consoles and printers: where they listen, and what they require.

use super::{Daemon, hold, permits, reaches};
use crate::support::Dice;
use std::fmt::Write;
use trevlin_model::served::{AuthRequirement, Requirement};

/// Commands of Python by which a client learns the logins that a VNC server offers (RFC 6143, 7.1.2).
const TYPES: &str = r#"
def types(client, port):
    """Numbers of the security types, those within VeNCrypt included; none where nobody listens, and an empty list where it is refused."""
    try: s = connect(client, port)
    except OSError: return None
    s.settimeout(2)
    try:
        if not s.recv(12).startswith(b"RFB"): return []
        s.sendall(b"RFB 003.008\n")
        n = s.recv(1)
        if not n or not n[0]: return []
        found = list(s.recv(n[0]))
        if 19 in found:
            s.sendall(b"\x13"); s.recv(2); s.sendall(b"\0\2"); s.recv(1)
            n = s.recv(1)[0]; data = b""
            while len(data) < 4 * n: data += s.recv(4 * n)
            found += list(struct.unpack(">%dL" % n, data))
        return found
    except OSError: return []
"#;

fn tiger(dice: &mut Dice) -> Vec<(&'static str, String)> {
    let mut command = String::from("/usr/bin/Xtigervnc :7");
    for (words, sides) in [
        ("-rfbport 5999", 3),
        ("-rfbport=5998", 6),
        ("-localhost", 4),
        ("-localhost=0", 6),
        ("-interface 10.20.4.40", 4),
        ("-SecurityTypes None", 4),
        ("-SecurityTypes VncAuth,TLSNone", 5),
        ("-SecurityTypes TLSPlain,TLSVnc -PlainUsers ann", 4),
        ("-securitytypes=Plain", 8),
        ("-UseIPv6=0", 5),
        ("-geometry 800x600", 2),
        ("-AlwaysShared", 4),
        ("-desktop gate", 4),
    ] {
        if dice.roll(sides) == 0 {
            write!(command, " {words}").unwrap();
        }
    }
    vec![("etc/systemd/system/screen.service", format!("[Service]\nUser=ann\nExecStart={command}\n"))]
}

#[test]
#[ignore = "needs Xtigervnc and root"]
fn logins_of_tigervnc() {
    hold(&Daemon {
        format: "tigervnc",
        rounds: 24,
        files: tiger,
        except: |_, _| false,
        start: "mount -t tmpfs tmpfs /tmp; mkdir -m 1777 /tmp/.X11-unix; export HOME=\"$1\" XAUTHORITY=\"$1/none\"; $(sed -n 's/^ExecStart=//p' \"$1/etc/systemd/system/screen.service\") -PasswordFile /etc/hostname -nolisten tcp > \"$1/log\" 2>&1 &\nready; sleep 0.3; tail -3 \"$1/log\"",
        ask: const_format(),
        expected: |all, name| {
            let port = name.split(' ').nth(1)?.parse().ok()?;
            if !reaches(all, "10.4.0.9", port) {
                return Some("none".into());
            }
            let part = all.first()?.parts.first()?;
            let secured = part.encryption.as_ref()?.value() == Some(&Requirement::Required);
            Some(match name.split(' ').next()? {
                "open" => (part.login.value() == Some(&AuthRequirement::Nothing)).to_string(),
                _ => secured.to_string(),
            })
        },
    });
}

/// The questions to TigerVNC.
fn const_format() -> &'static str {
    static TEXT: std::sync::LazyLock<String> = std::sync::LazyLock::new(|| {
        format!(
            "{TYPES}{}",
            r#"
for port in (5907, 5998, 5999):
    got = types("10.4.0.9", port)
    say("open %d" % port, "none" if got is None else str(any(one in got for one in (1, 257, 260))).lower())
    say("secured %d" % port, "none" if got is None else str(not any(one in got for one in (1, 2, 256))).lower())
"#
        )
    });
    &TEXT
}

fn tiger_files(dice: &mut Dice) -> Vec<(&'static str, String)> {
    let settings = |dice: &mut Dice, most: usize| {
        let mut text = String::from("# read by tigervncserver\n");
        for (line, sides) in [
            ("$localhost = \"no\";", 2),
            ("$localhost = 'yes';", 5),
            ("$SecurityTypes = \"VncAuth,TLSVnc\";", 4),
            ("$SecurityTypes = \"TLSVnc\";", 4),
            ("$SecurityTypes = \"TLSVnc,VncAuth,TLSNone\";", 6),
            ("$SecurityTypes = 'None';", 6),
            ("$geometry = \"800x600\";", 2),
        ] {
            if dice.roll(most) == 0 && dice.roll(sides) == 0 {
                writeln!(text, "{line}").unwrap();
            }
        }
        text.push_str("1;\n");
        text
    };
    vec![
        ("etc/tigervnc/vncserver.users", ":7=ann\n".into()),
        ("etc/tigervnc/vncserver-config-defaults", settings(dice, 1)),
        ("home/ann/.vnc/tigervnc.conf", settings(dice, 2)),
        ("etc/tigervnc/vncserver-config-mandatory", settings(dice, 3)),
    ]
}

#[test]
#[ignore = "needs tigervncserver and root"]
fn files_of_tigervnc() {
    hold(&Daemon {
        format: "tigervnc-files",
        rounds: 20,
        files: tiger_files,
        except: |_, _| false,
        start: "mount -t tmpfs tmpfs /tmp; mkdir -m 1777 /tmp/.X11-unix; export USER=ann HOME=\"$1/home/ann\" XAUTHORITY=/tmp/none; head -c 8 /dev/urandom > \"$HOME/.vnc/passwd\"; chmod 600 \"$HOME/.vnc/passwd\"\ntigervncserver :7 -fg -xstartup /bin/cat > \"$1/log\" 2>&1 < <(sleep 60) &\nfor n in $(seq 60); do [ -n \"$(ss -Hlnt)\" ] && break; sleep 0.1; kill -0 $! 2>/dev/null || break; done; sleep 0.2; tail -3 \"$1/log\"",
        ask: const_format(),
        expected: |all, name| {
            let port = name.split(' ').nth(1)?.parse().ok()?;
            if !reaches(all, "10.4.0.9", port) {
                return Some("none".into());
            }
            let part = all.first()?.parts.first()?;
            let secured = part.encryption.as_ref()?.value() == Some(&Requirement::Required);
            Some(match name.split(' ').next()? {
                "open" => (part.login.value() == Some(&AuthRequirement::Nothing)).to_string(),
                _ => secured.to_string(),
            })
        },
    });
}

fn x11vnc(dice: &mut Dice) -> Vec<(&'static str, String)> {
    let mut command = String::from("/usr/bin/x11vnc -display :8 -forever -shared");
    for (words, sides) in [
        ("-rfbport 5999", 3),
        ("-localhost", 5),
        ("-listen 10.20.4.40", 4),
        ("-passwd Anker7", 3),
        ("-passwdfile /etc/vnc.pw", 5),
        ("-nopw", 3),
        ("-noipv6", 3),
        ("-no6", 6),
        ("-rfbportv6 5997", 6),
        ("-allow 10.4.0.9,127.0.0.1", 4),
        ("-allow 10.4.", 6),
        ("-viewonly", 5),
        ("-noxdamage", 3),
    ] {
        if dice.roll(sides) == 0 && !(words.starts_with("-allow") && command.contains("-allow")) {
            write!(command, " {words}").unwrap();
        }
    }
    vec![
        ("etc/systemd/system/x11vnc.service", format!("[Service]\nExecStart={command}\n")),
        ("etc/vnc.pw", "Anker7\n".into()),
    ]
}

#[test]
#[ignore = "needs x11vnc, Xvfb and root"]
fn logins_of_x11vnc() {
    static TEXT: std::sync::LazyLock<String> = std::sync::LazyLock::new(|| {
        format!(
            "{TYPES}{}",
            r#"
for port in (5900, 5999):
    for client in CLIENTS:
        got = types(client, port)
        say("greets %d %s" % (port, client), "none" if got is None else str(bool(got)).lower())
        if got: say("open %d %s" % (port, client), str(1 in got).lower())
"#
        )
    });
    hold(&Daemon {
        format: "x11vnc",
        rounds: 24,
        files: x11vnc,
        except: |_, _| false,
        start: "mount -t tmpfs tmpfs /tmp; mkdir -m 1777 /tmp/.X11-unix; export HOME=\"$1\" XAUTHORITY=\"$1/none\"; Xvfb :8 -screen 0 320x200x24 -nolisten tcp -ac > /dev/null 2>&1 &\nfor n in $(seq 60); do [ -S /tmp/.X11-unix/X8 ] && break; sleep 0.1; done\n$(sed -n 's/^ExecStart=//p' \"$1/etc/systemd/system/x11vnc.service\") > \"$1/log\" 2>&1 &\nready; sleep 0.5; tail -3 \"$1/log\"",
        ask: &TEXT,
        expected: |all, name| {
            let words: Vec<&str> = name.split(' ').collect();
            if !reaches(all, words[2], words[1].parse().ok()?) {
                return Some("none".into());
            }
            let part = all.first()?.parts.first()?;
            Some(match words[0] {
                "greets" => permits(part, words[2]).to_string(),
                _ => (part.login.value() == Some(&AuthRequirement::Nothing)).to_string(),
            })
        },
    });
}

fn xrdp(dice: &mut Dice) -> Vec<(&'static str, String)> {
    let mut text = String::from("[Globals]\nini_version=1\nfork=true\n");
    let port = *dice.pick(&[
        "3389",
        "3390",
        "tcp://:3389",
        "tcp://.:3389",
        "tcp://10.20.4.40:3389",
        "tcp6://:3389",
        "3389",
    ]);
    writeln!(text, "port={port}").unwrap();
    for (line, sides) in [
        ("security_layer=tls", 3),
        ("security_layer=rdp", 3),
        ("security_layer=negotiate", 3),
        ("crypt_level=high", 2),
        ("crypt_level=low", 4),
        ("crypt_level=none", 5),
        ("crypt_level=fips", 6),
        ("ssl_protocols=TLSv1.2, TLSv1.3", 2),
        ("tls_ciphers=HIGH", 4),
        ("certificate=", 3),
    ] {
        let name = format!("\n{}=", line.split('=').next().unwrap());
        if dice.roll(sides) == 0 && !text.contains(&name) {
            writeln!(text, "{line}").unwrap();
        }
    }
    text.push_str("[Logging]\nLogFile=/dev/null\nLogLevel=INFO\nEnableSyslog=false\n[Channels]\nrdpdr=true\n[Xorg]\nname=Xorg\nlib=libxup.so\nusername=ask\npassword=ask\nip=127.0.0.1\nport=-1\n");
    vec![("etc/xrdp/xrdp.ini", text)]
}

#[test]
#[ignore = "needs xrdp and root"]
fn layers_of_xrdp() {
    hold(&Daemon {
        format: "xrdp",
        rounds: 24,
        files: xrdp,
        except: |_, _| false,
        start: "mkdir -p /run/xrdp; xrdp --nodaemon -c /etc/xrdp/xrdp.ini > \"$1/log\" 2>&1 &\nready; tail -3 \"$1/log\"",
        ask: r#"
def ask(port, wanted):
    """The protocol that the server chooses: none where nobody listens, refused, or its number (MS-RDPBCGR 2.2.1.2)."""
    body = struct.pack("<BBHL", 1, 0, 8, wanted)
    x224 = struct.pack(">BBHHB", 6 + len(body), 0xe0, 0, 0, 0) + body
    got = talk("10.4.0.9", port, struct.pack(">BBH", 3, 0, 4 + len(x224)) + x224, wait=1)
    if got is None: return "none"
    if len(got) < 19: return "refused" if len(got) < 11 else "0"
    return "refused" if got[11] == 3 else str(struct.unpack("<L", got[15:19])[0])
for port in (3389, 3390):
    say("bare %d" % port, ask(port, 0))
    say("tls %d" % port, ask(port, 1))
"#,
        expected: |all, name| {
            let port = name.split(' ').nth(1)?.parse().ok()?;
            if !reaches(all, "10.4.0.9", port) {
                return Some("none".into());
            }
            let one = all.first()?;
            let own = one
                .offers
                .iter()
                .flat_map(|offer| &offer.algorithms)
                .any(|one| matches!(&*one.name, "rc4" | "3des"));
            let plain = one.parts.first()?.encryption.as_ref()?.value() == Some(&Requirement::Never);
            match name.split(' ').next()? {
                "bare" => Some(if own || plain { "0".into() } else { "refused".into() }),
                _ => None,
            }
        },
    });
}

fn cups(dice: &mut Dice) -> Vec<(&'static str, String)> {
    let mut text = String::from("# generated\nLogLevel warn\nServerAlias *\n");
    let listeners =
        ["Port 631", "Listen *:631", "Listen 10.20.4.40:631", "Listen localhost:631", "Listen 0.0.0.0:6310"];
    writeln!(text, "{}", dice.pick(&listeners)).unwrap();
    text.push_str("Listen /run/cups/cups.sock\n");
    for (line, sides) in [
        ("WebInterface Yes", 2),
        ("WebInterface No", 9),
        ("DefaultAuthType Basic", 2),
        ("DefaultEncryption Never", 4),
        ("DefaultEncryption IfRequested", 5),
        ("Browsing Off", 2),
    ] {
        let name = format!("\n{} ", line.split(' ').next().unwrap());
        if dice.roll(sides) == 0 && !text.contains(&name) {
            writeln!(text, "{line}").unwrap();
        }
    }
    for path in ["/", "/admin", "/admin/conf", "/printers"] {
        if dice.roll(5) == 0 {
            continue;
        }
        writeln!(text, "<Location {path}>").unwrap();
        for (line, sides) in [
            ("Order allow,deny", 2),
            ("Order deny,allow", 3),
            ("Allow from 10.4.", 3),
            ("Allow 10.4.0.9", 4),
            ("Allow all", 4),
            ("Allow @LOCAL", 4),
            ("Deny from 10.4.9.9", 4),
            ("Deny all", 6),
            ("Allow from 192.0.2.0/24", 4),
            ("AuthType Basic\n  Require user @SYSTEM", 4),
            ("AuthType Default\n  Require valid-user", 6),
            ("AuthType None", 9),
        ] {
            let name = line.split(' ').next().unwrap();
            if dice.roll(sides) == 0
                && (matches!(name, "Allow" | "Deny")
                    || !text.rsplit("<Location").next().unwrap().contains(name))
            {
                writeln!(text, "  {line}").unwrap();
            }
        }
        text.push_str("</Location>\n");
    }
    text.push_str("<Policy default>\n  <Limit CUPS-Add-Modify-Printer CUPS-Delete-Printer>\n    AuthType Default\n    Require user @SYSTEM\n    Order deny,allow\n  </Limit>\n  <Limit All>\n    Order deny,allow\n  </Limit>\n</Policy>\n");
    vec![("etc/cups/cupsd.conf", text)]
}

#[test]
#[ignore = "needs cupsd and root"]
fn clients_of_cups() {
    hold(&Daemon {
        format: "cups",
        rounds: 30,
        files: cups,
        except: |_, _| false,
        start: "mkdir -p /run/cups; cupsd -f -c /etc/cups/cupsd.conf > \"$1/log\" 2>&1 &\nready; sleep 0.3; tail -3 \"$1/log\"",
        ask: r#"
for port in (631, 6310):
    for client in CLIENTS:
        for path in ("/", "/admin", "/printers"):
            got = talk(client, port, "GET %s HTTP/1.1\r\nHost: %s:%d\r\n\r\n" % (path, server_of(client), port), wait=0.25)
            code = (got or b"").split(b"\r\n")[0].split()
            code = code[1].decode() if len(code) > 1 else ""
            say("%d %s %s" % (port, client, path), "none" if got is None else {"200": "open", "404": "open", "401": "login", "426": "login", "403": "refused"}.get(code, code))
"#,
        expected: |all, name| {
            let words: Vec<&str> = name.split(' ').collect();
            let (client, path) = (words[1], words[2]);
            if !reaches(all, client, words[0].parse().ok()?) {
                return Some("none".into());
            }
            let fits = |one: &&trevlin_model::served::ServiceResource| {
                path == one.name || path.starts_with(&format!("{}/", one.name.trim_end_matches('/')))
            };
            let part = all.first()?.parts.iter().filter(fits).max_by_key(|part| part.name.len());
            let Some(part) = part else {
                return Some(if client == "127.0.0.1" { "open".into() } else { "refused".into() });
            };
            // Addresses of the device's own networks are known by its interfaces; and pages without a web interface are none.
            if !part.sources.names.is_empty() {
                return None;
            }
            if !permits(part, client) {
                return Some("refused".into());
            }
            let stated = part.login.origin().is_some_and(|line| line.start > part.origin.start);
            let login =
                part.login.value() == Some(&AuthRequirement::Password) && (path != "/admin" || stated);
            let administers = part.remark(trevlin_model::served::Remark::Administration).is_some();
            if administers {
                return None;
            }
            Some(if login { "login".into() } else { "open".into() })
        },
    });
}

fn cockpit(dice: &mut Dice) -> Vec<(&'static str, String)> {
    let mut text = String::from("# generated\n[WebService]\n");
    for (line, sides) in [
        ("AllowUnencrypted = true", 3),
        ("AllowUnencrypted=false", 4),
        ("LoginTitle = gate", 2),
        ("MaxStartups = 5", 3),
        ("Origins = https://gate.example:9090", 3),
    ] {
        let name = line.split([' ', '=']).next().unwrap();
        if dice.roll(sides) == 0 && !text.contains(name) {
            writeln!(text, "{line}").unwrap();
        }
    }
    text.push_str("[Session]\nIdleTimeout=15\n");
    let mut files = vec![("etc/cockpit/cockpit.conf", text)];
    if dice.roll(2) == 0 {
        let listen = *dice.pick(&["9443", "10.20.4.40:9443", "127.0.0.1:9090"]);
        files.push((
            "etc/systemd/system/cockpit.socket.d/listen.conf",
            format!("[Socket]\nListenStream=\nListenStream={listen}\n"),
        ));
    }
    files
}

#[test]
#[ignore = "needs cockpit-ws, systemd-socket-activate and root"]
fn pages_of_cockpit() {
    hold(&Daemon {
        format: "cockpit",
        rounds: 20,
        files: cockpit,
        except: |_, _| false,
        start: "listen=$(sed -n 's/^ListenStream=//p' \"$1/etc/systemd/system/cockpit.socket.d/listen.conf\" 2>/dev/null | tail -1)\n/usr/lib/cockpit/cockpit-certificate-ensure > /dev/null 2>&1; mkdir -p /run/cockpit; export RUNTIME_DIRECTORY=/run/cockpit XDG_RUNTIME_DIR=/run; systemd-socket-activate -l \"${listen:-9090}\" /usr/lib/cockpit/cockpit-ws > \"$1/log\" 2>&1 &\nready; tail -3 \"$1/log\"",
        ask: r#"
for port in (9090, 9443):
    got = talk("10.4.0.9", port, "GET / HTTP/1.1\r\nHost: gate.example\r\n\r\n", wait=3, most=64)
    code = (got or b"").split(b"\r\n")[0].split()
    say("plain %d" % port, "none" if got is None else str(len(code) > 1 and code[1] == b"200").lower())
"#,
        expected: |all, name| {
            let port = name.split(' ').nth(1)?.parse().ok()?;
            if !reaches(all, "10.4.0.9", port) {
                return Some("none".into());
            }
            let part = all.first()?.parts.first()?;
            Some((part.encryption.as_ref()?.value() != Some(&Requirement::Required)).to_string())
        },
    });
}

fn avahi(dice: &mut Dice) -> Vec<(&'static str, String)> {
    let mut text = String::from("# generated\n[server]\nenable-dbus=no\nhost-name=gate\n");
    for (line, sides) in [
        ("use-ipv4=no", 4),
        ("use-ipv6=no", 3),
        ("use-ipv6=yes", 3),
        ("allow-interfaces=lan", 3),
        ("allow-point-to-point=no", 3),
        ("ratelimit-burst=1000", 2),
    ] {
        let name = format!("\n{}=", line.split('=').next().unwrap());
        if dice.roll(sides) == 0 && !text.contains(&name) {
            writeln!(text, "{line}").unwrap();
        }
    }
    text.push_str("[publish]\npublish-hinfo=no\n[reflector]\n");
    if dice.roll(3) == 0 {
        text.push_str("enable-reflector=yes\n");
    }
    vec![("etc/avahi/avahi-daemon.conf", text)]
}

#[test]
#[ignore = "needs avahi-daemon and root"]
fn places_of_avahi() {
    hold(&Daemon {
        format: "avahi",
        rounds: 20,
        files: avahi,
        // It drops what comes by other interfaces after the socket.
        except: |files, address| {
            files[0].1.contains("allow-interfaces")
                && !address.starts_with("10.")
                && !address.starts_with("fd")
        },
        start: "avahi-daemon -f /etc/avahi/avahi-daemon.conf --no-drop-root --no-chroot --no-rlimits > \"$1/log\" 2>&1 &\nready; sleep 0.3; tail -3 \"$1/log\"",
        ask: "",
        expected: |_, _| None,
    });
}
