//! Forward proxies: whose connections they make, with a login and without.

use super::{Daemon, hold, permits, reaches};
use crate::support::Dice;
use std::fmt::Write;
use trevlin_model::served::{AuthRequirement, Remark, Served, ServedKind};

/// Whether a client is served without a login, with one, and at a port that no server of pages has.
fn outcome(all: &[Served], client: &str, port: u16, what: &str) -> Option<String> {
    let mine: Vec<Served> =
        all.iter().filter(|one| one.kind == ServedKind::Proxies && one.refused.is_none()).cloned().collect();
    if !reaches(&mine, client, port) {
        return Some("none".into());
    }
    let parts = mine.iter().flat_map(|one| &one.parts).filter(|part| permits(part, client));
    let open = |part: &&trevlin_model::served::ServiceResource| {
        part.login.value() == Some(&AuthRequirement::Nothing)
    };
    let parts: Vec<_> = parts.collect();
    // A part may be connected anywhere as far as some of its clients are.
    if what == "elsewhere" && parts.iter().any(|part| part.remark(Remark::AnyTarget).is_some()) {
        return None;
    }
    Some(
        match what {
            "plain" => parts.iter().any(open),
            "login" => !parts.is_empty(),
            "elsewhere" => false,
            _ => return None,
        }
        .to_string(),
    )
}

fn squid(dice: &mut Dice) -> Vec<(&'static str, String)> {
    let mut text = String::from(
        "# generated\ncache deny all\npid_filename /run/squid.pid\naccess_log none\ncache_log /dev/null\nlogfile_rotate 0\nshutdown_lifetime 1 seconds\nvisible_hostname gate\npinger_enable off\nconnect_timeout 1 seconds\nforward_timeout 1 seconds\nforward_max_tries 1\nretry_on_error off\nerror_directory /usr/share/squid/errors/en\n",
    );
    for _ in 0..1 + dice.roll(2) {
        let line = *dice.pick(&[
            "3128",
            "10.20.4.40:3128",
            "8080 name=second",
            "127.0.0.1:3129",
            "[fd00:4::40]:8081",
            "0.0.0.0:8082",
        ]);
        if !text.contains(&format!("http_port {line}\n")) {
            writeln!(text, "http_port {line}").unwrap();
        }
    }
    text.push_str("auth_param basic program /usr/lib/squid/basic_ncsa_auth /etc/squid/passwords\nauth_param basic realm yard\n");
    text.push_str("acl SSL_ports port 443\nacl Safe_ports port 80 443 21 70 1025-65535\nacl lan src 10.4.0.0/16\nacl lan src fc00::/7\nacl yard src 10.4.9.0/255.255.255.0 192.0.2.7\n");
    text.push_str("acl few src 10.4.0.1-10.4.0.20\nacl known proxy_auth REQUIRED\nacl bad dstdomain -n .bad.example\nacl list src \"/etc/squid/clients\"\nacl one localport 3128\nacl named myportname second\nacl work time MTWHFAS 00:00-23:59\n");
    if dice.roll(2) == 0 {
        text.push_str("http_access deny !Safe_ports\n");
    }
    if dice.roll(2) == 0 {
        text.push_str("http_access deny CONNECT !SSL_ports\n");
    }
    for _ in 0..dice.roll(5) {
        let rule = *dice.pick(&[
            "allow localhost manager",
            "deny manager",
            "allow lan",
            "allow yard !bad",
            "deny bad",
            "allow few",
            "allow list",
            "deny yard",
            "allow known",
            "deny !known",
            "allow lan known",
            "allow one localhost",
            "deny one",
            "allow named lan",
            "deny to_localhost",
            "allow work yard",
            "deny !lan !yard",
            "allow CONNECT lan",
        ]);
        writeln!(text, "http_access {rule}").unwrap();
    }
    match dice.roll(4) {
        0 => text.push_str("http_access allow all\n"),
        1 => {}
        2 => text.push_str("include /etc/squid/conf.d/*.conf\n"),
        _ => text.push_str("http_access deny all\n"),
    }
    let mut files = vec![
        ("etc/squid/squid.conf", text),
        ("etc/squid/clients", "# ours\n198.51.100.0/24\n10.4.9.9\n".into()),
    ];
    files.push(("etc/squid/passwords", "ann:$apr1$5GCc6vLX$Y4XfYl5tN/hsYkEp1sWVv0\n".into()));
    files.push(("etc/squid/conf.d/own.conf", "http_access allow localhost\nhttp_access deny all\n".into()));
    files
}

#[test]
#[ignore = "needs squid and root"]
fn clients_of_squid() {
    hold(&Daemon {
        format: "squid",
        rounds: 20,
        files: squid,
        except: |_, _| false,
        start: "printf 'ann:%s\\n' \"$(openssl passwd -apr1 Anker7)\" > /etc/squid/passwords; chmod 644 /etc/squid/passwords\nsquid -N -f /etc/squid/squid.conf > \"$1/log\" 2>&1 &\nready; tail -3 \"$1/log\"",
        ask: r#"
login = "Proxy-Authorization: Basic %s\r\n" % base64.b64encode(b"ann:Anker7").decode()
def status(client, port, request, target, more=""):
    got = talk(client, port, "%s %s HTTP/1.1\r\nHost: h.example\r\nConnection: close\r\n%s\r\n" % (request, target, more), wait=2)
    if got is None: return None
    head = got.split(b"\r\n")[0].split()
    return int(head[1]) if len(head) > 1 else 0
for port in (3128, 3129, 8080, 8082):
    for client in CLIENTS:
        def served(more):
            # A refusal of the proxy is 403 or 407; a request that it makes fails in another way.
            found = [status(client, port, "GET", "http://192.0.2.250/", more), status(client, port, "CONNECT", "192.0.2.250:443", more)]
            return "none" if None in found else str(any(one not in (403, 407, 0) for one in found)).lower()
        say("plain %d %s" % (port, client), served(""))
        say("login %d %s" % (port, client), served(login))
        one = status(client, port, "CONNECT", "192.0.2.250:22")
        say("elsewhere %d %s" % (port, client), "none" if one is None else str(one not in (403, 407, 0)).lower())
"#,
        expected: |all, name| {
            let mut words = name.split(' ');
            let (what, port, client) = (words.next()?, words.next()?.parse().ok()?, words.next()?);
            // Only the proxy's whole is read, not each of its ports, where rules name ports.
            outcome(all, client, port, what)
        },
    });
}

fn dante(dice: &mut Dice) -> Vec<(&'static str, String)> {
    let mut text = String::from("# generated\nlogoutput: stderr\ntimeout.connect: 1\n");
    for _ in 0..1 + dice.roll(2) {
        let line =
            *dice.pick(&["10.20.4.40 port = 1080", "0.0.0.0 port = 1081", "127.0.0.1", "lan port = 1082"]);
        if !text.contains(line) {
            writeln!(text, "internal: {line}").unwrap();
        }
    }
    text.push_str("external: 10.20.4.41\n");
    let methods = *dice.pick(&["none", "username", "none username", "username none"]);
    writeln!(text, "socksmethod: {methods}\nuser.privileged: root\nuser.unprivileged: nobody").unwrap();
    for _ in 0..1 + dice.roll(2) {
        let from = *dice.pick(&["0.0.0.0/0", "10.4.0.0/16", "10.4.9.0/24", "0/0", "192.0.2.7/32"]);
        let kind = if dice.roll(4) == 0 { "block" } else { "pass" };
        match dice.roll(2) {
            0 => writeln!(text, "client {kind} {{\n    from: {from} to: 0/0\n    log: error # connect\n}}")
                .unwrap(),
            _ => writeln!(text, "client {kind} {{ from: {from} port 1-65535 to: 0.0.0.0/0 }}").unwrap(),
        }
    }
    for _ in 0..1 + dice.roll(3) {
        let from = *dice.pick(&["0.0.0.0/0", "10.4.0.0/16", "10.4.9.0/24", "0/0"]);
        let to = *dice.pick(&[
            "0.0.0.0/0",
            "0.0.0.0/0 port = 443",
            "192.168.9.0/24",
            "0/0",
            "0.0.0.0/0 port 1 - 1023",
            "0.0.0.0/0 port ge 80",
        ]);
        let kind = if dice.roll(4) == 0 { "block" } else { "pass" };
        write!(text, "socks {kind} {{\n    from: {from} to: {to}\n").unwrap();
        if dice.roll(3) == 0 {
            writeln!(text, "    command: {}", dice.pick(&["connect", "bind udpassociate", "connect bind"]))
                .unwrap();
        }
        if dice.roll(4) == 0 {
            writeln!(text, "    protocol: {}", dice.pick(&["tcp", "udp", "tcp udp"])).unwrap();
        }
        if dice.roll(3) == 0 {
            let method =
                if methods.contains("username") { *dice.pick(&["username", methods]) } else { "none" };
            writeln!(text, "    socksmethod: {method}").unwrap();
        }
        text.push_str("}\n");
    }
    vec![("etc/danted.conf", text)]
}

#[test]
#[ignore = "needs danted and root"]
fn clients_of_dante() {
    hold(&Daemon {
        format: "danted",
        rounds: 20,
        files: dante,
        except: |_, _| false,
        start: "useradd -M ann 2>/dev/null; echo ann:Anker7 | chpasswd; danted -f /etc/danted.conf > \"$1/log\" 2>&1 &\nready; tail -3 \"$1/log\"",
        ask: r#"
def socks(client, port, to_port, user):
    try: s = connect(client, port)
    except OSError: return None
    s.settimeout(5)
    try:
        s.sendall(b"\x05\x02\x00\x02" if user else b"\x05\x01\x00")
        got = s.recv(2)
        if len(got) < 2 or got[1] == 255: return False
        if got[1] == 2:
            s.sendall(b"\x01\x03ann\x06Anker7"); got = s.recv(2)
            if len(got) < 2 or got[1] != 0: return False
        s.sendall(b"\x05\x01\x00\x01" + socket.inet_aton("203.0.113.7") + struct.pack(">H", to_port))
        got = s.recv(10)
        # 2: not permitted by the rules.
        return len(got) > 1 and got[1] != 2
    except OSError: return False
    finally: s.close()
for port in (1080, 1081, 1082):
    for client in CLIENTS:
        word = lambda found: "none" if found is None else str(found).lower()
        say("plain %d %s" % (port, client), word(socks(client, port, 443, False)))
        say("login %d %s" % (port, client), word(socks(client, port, 443, True)))
        say("elsewhere %d %s" % (port, client), word(socks(client, port, 22, False)))
"#,
        expected: |all, name| {
            let mut words = name.split(' ');
            let (what, port, client) = (words.next()?, words.next()?.parse().ok()?, words.next()?);
            outcome(all, client, port, what)
        },
    });
}

fn turnserver(dice: &mut Dice) -> Vec<(&'static str, String)> {
    let mut text = String::from(
        "# generated\nlog-file=stdout\nsimple-log\npidfile=/run/turn.pid\nrelay-ip=10.20.4.41\n",
    );
    for (line, sides) in [
        ("listening-port=3480", 3),
        ("listening-ip=10.20.4.40", 2),
        ("listening-ip=10.20.4.41", 3),
        ("listening-ip=127.0.0.1", 3),
        ("no-auth", 3),
        ("lt-cred-mech", 3),
        ("use-auth-secret", 4),
        ("static-auth-secret=Anker7-Mole-9", 4),
        ("user=ann:Anker7", 3),
        ("realm=yard.example", 2),
        ("no-tcp", 4),
        ("no-udp", 4),
        ("no-tls", 3),
        ("no-dtls", 3),
        ("stun-only", 8),
        ("cli-password=Anker7", 3),
        ("cli-port=5777", 3),
        ("no-cli", 3),
        ("cert=/etc/turn.pem\npkey=/etc/turn.key", 2),
        ("no-multicast-peers", 2),
        ("fingerprint", 2),
        ("denied-peer-ip=10.0.0.0-10.255.255.255", 3),
        ("no-rfc5780", 2),
    ] {
        if dice.roll(sides) == 0 {
            writeln!(text, "{line}").unwrap();
        }
    }
    // With several addresses it opens further ports, and how many a host has is not in its file.
    if !text.contains("listening-ip") && !text.contains("no-rfc5780") {
        text.push_str("no-rfc5780\n");
    }
    vec![("etc/turnserver.conf", text)]
}

#[test]
#[ignore = "needs turnserver and root"]
fn clients_of_coturn() {
    hold(&Daemon {
        format: "turnserver",
        rounds: 20,
        files: turnserver,
        // Without addresses of its own it listens at those of interfaces other than the loopback.
        except: |files, address| {
            matches!(address, "127.0.0.1" | "::1") && !files[0].1.contains("listening-ip")
        },
        start: "openssl req -x509 -newkey rsa:2048 -nodes -subj /CN=t -days 9 -keyout /etc/turn.key -out /etc/turn.pem 2>/dev/null; chmod 644 /etc/turn.key\n(cd /; turnserver -c /etc/turnserver.conf > \"$1/log\" 2>&1) &\nready; sleep 0.3; grep -i error \"$1/log\"",
        ask: r#"
def allocate(client, port, kind):
    request = struct.pack(">HHI", 3, 8, 0x2112A442) + os.urandom(12) + struct.pack(">HHI", 0x19, 4, 17 << 24)
    try:
        s = connect(client, port, kind); s.settimeout(1.5); s.sendall(request); got = s.recv(1500)
    except OSError: return None
    kind = struct.unpack(">H", got[:2])[0] if len(got) > 1 else 0
    return kind == 0x103
for port in (3478, 3480):
    for client in CLIENTS[:2]:
        for name, kind in (("tcp", socket.SOCK_STREAM), ("udp", socket.SOCK_DGRAM)):
            found = allocate(client, port, kind)
            say("allocate %s %d %s" % (name, port, client), "none" if found is None else str(found).lower())
"#,
        expected: |all, name| {
            let words: Vec<&str> = name.split(' ').collect();
            let protocol = if words[1] == "tcp" { 6 } else { 17 };
            let to = if words[3] == "127.0.0.1" { words[3] } else { "10.20.4.40" };
            let proxies: Vec<Served> =
                all.iter().filter(|one| one.kind == ServedKind::Proxies).cloned().collect();
            if !super::listens(&proxies, protocol, to.parse().ok()?, words[2].parse().ok()?) {
                return Some("none".into());
            }
            // Without relaying the request has no answer.
            let part = proxies.first()?.parts.first();
            Some(part.map_or("none".into(), |part| part.asks_nothing().to_string()))
        },
    });
}
