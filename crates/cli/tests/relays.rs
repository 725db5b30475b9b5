//! Relays compared with their programs: each runs in a network namespace between a client and a server, and the server must see the
//! connection, and the source, that `trevlin audit` states.
//!
//! Run by `scripts/conformance.sh`; needs root, haproxy, nginx with its stream module, socat, stunnel and systemd's proxy.

#![allow(
    clippy::unwrap_used,
    clippy::print_stdout,
    clippy::disallowed_methods,
    reason = "a test that runs programs"
)]

use std::io::{Read, Write};
use std::net::{TcpListener, TcpStream};
use std::os::unix::process::CommandExt;
use std::path::Path;
use std::process::{Child, Command, Stdio};
use std::time::{Duration, Instant};

const SERVER: u16 = 1883;
/// Variable with the task of an agent.
const TASK: &str = "TREVLIN_RELAY_AGENT";

/// A relay on the gate: the files that an auditor gets, and how the program is started with them.
struct Kind {
    name: &'static str,
    file: &'static str,
    text: &'static str,
    start: &'static [&'static str],
    tls: bool,
    keeps_source: bool,
}

const KINDS: [Kind; 6] = [
    Kind {
        name: "haproxy",
        file: "etc/haproxy/haproxy.cfg",
        text: "global\n maxconn 50\ndefaults\n mode tcp\n timeout connect 2s\n timeout client 5s\n timeout server 5s\n\
               frontend in\n bind :5432\n default_backend db\nbackend db\n server a 10.4.0.20:1883\n",
        start: &["haproxy", "-db", "-f", "FILE"],
        tls: false,
        keeps_source: false,
    },
    Kind {
        name: "haproxy with the PROXY protocol",
        file: "etc/haproxy/haproxy.cfg",
        text: "global\n maxconn 50\nlisten in\n mode tcp\n timeout connect 2s\n timeout client 5s\n timeout server 5s\n bind *:5432\n \
               server a 10.4.0.20:1883 send-proxy\n",
        start: &["haproxy", "-db", "-f", "FILE"],
        tls: false,
        keeps_source: true,
    },
    Kind {
        name: "nginx",
        file: "etc/nginx/nginx.conf",
        text: "load_module /usr/lib/nginx/modules/ngx_stream_module.so;\ndaemon off;\npid /dev/null;\nerror_log /dev/null;\n\
               events {}\nstream {\n upstream db { server 10.4.0.20:1883; }\n server {\n  listen 5432;\n  proxy_pass db;\n }\n}\n",
        start: &["nginx", "-c", "FILE"],
        tls: false,
        keeps_source: false,
    },
    Kind {
        name: "socat",
        file: "etc/systemd/system/db.service",
        text: "[Service]\nExecStart=/usr/bin/socat TCP4-LISTEN:5432,fork,reuseaddr TCP:10.4.0.20:1883\n",
        start: &["socat", "TCP4-LISTEN:5432,fork,reuseaddr", "TCP:10.4.0.20:1883"],
        tls: false,
        keeps_source: false,
    },
    Kind {
        name: "the proxy of systemd",
        file: "etc/systemd/system/db.service",
        text: "[Service]\nExecStart=/lib/systemd/systemd-socket-proxyd 10.4.0.20:1883\n",
        start: &[
            "systemd-socket-activate",
            "-l",
            "5432",
            "/lib/systemd/systemd-socket-proxyd",
            "10.4.0.20:1883",
        ],
        tls: false,
        keeps_source: false,
    },
    Kind {
        name: "stunnel",
        file: "etc/stunnel/db.conf",
        text: "foreground = yes\npid =\ncert = CERT\n[db]\naccept = 5432\nconnect = 10.4.0.20:1883\n",
        start: &["stunnel", "FILE"],
        tls: true,
        keeps_source: false,
    },
];

/// Rules of the gate for incoming and outgoing connections, and of the server.
const FILTERS: [[&str; 3]; 6] = [
    ["tcp dport 5432 accept", "accept", "accept"],
    ["ip saddr 198.51.100.2 tcp dport 5432 accept", "accept", "accept"],
    ["tcp dport 22 accept", "accept", "accept"],
    ["tcp dport 5432 accept", "oifname \"in0\" tcp dport 1883 drop", "accept"],
    ["tcp dport 5432 accept", "accept", "ip saddr 10.4.0.1 tcp dport 1883 accept"],
    ["tcp dport 5432 accept", "accept", "ip saddr 198.51.100.0/24 tcp dport 1883 accept"],
];

/// What runs inside of the namespaces; a test only so that this program can start itself there.
#[test]
#[ignore = "an agent of the other test"]
fn agent() {
    match std::env::var(TASK).as_deref() {
        Ok("serve") => {
            let all = TcpListener::bind(("0.0.0.0", SERVER)).unwrap();
            println!("ready");
            loop {
                let (mut one, peer) = all.accept().unwrap();
                one.set_read_timeout(Some(Duration::from_secs(2))).unwrap();
                let mut head = [0; 64];
                let got = one.read(&mut head).unwrap_or(0);
                let head = String::from_utf8_lossy(&head[..got]).into_owned();
                // The PROXY protocol names the client in its second word behind the family.
                let told = head.strip_prefix("PROXY TCP4 ").and_then(|rest| rest.split(' ').next());
                let source = told.map_or_else(|| peer.ip().to_string(), str::to_owned);
                let _ = one.write_all(format!("from {source}\n").as_bytes());
            }
        }
        Ok("call") => {
            let address = "198.51.100.1:5432".parse().unwrap();
            let mut one = TcpStream::connect_timeout(&address, Duration::from_millis(400)).unwrap();
            one.set_read_timeout(Some(Duration::from_millis(700))).unwrap();
            one.write_all(b"hello\n").unwrap();
            let mut text = String::new();
            let _ = one.read_to_string(&mut text);
            println!("{text}");
        }
        _ => {}
    }
}

struct Net(Vec<String>);

impl Net {
    fn new() -> Option<Self> {
        let names: Vec<String> =
            ["client", "gate", "server"].map(|name| format!("tr{}{name}", std::process::id())).to_vec();
        let net = Self(names);
        for name in &net.0 {
            if !quiet(Command::new("ip").args(["netns", "add", name])) {
                return None;
            }
        }
        let [client, gate, server] = [&net.0[0], &net.0[1], &net.0[2]];
        let lines = [
            format!("link add out0 netns {gate} type veth peer name e0 netns {client}"),
            format!("link add in0 netns {gate} type veth peer name e0 netns {server}"),
            format!("-n {client} addr add 198.51.100.2/24 dev e0"),
            format!("-n {gate} addr add 198.51.100.1/24 dev out0"),
            format!("-n {gate} addr add 10.4.0.1/24 dev in0"),
            format!("-n {server} addr add 10.4.0.20/24 dev e0"),
            format!("-n {client} link set e0 up"),
            format!("-n {gate} link set out0 up"),
            format!("-n {gate} link set in0 up"),
            format!("-n {server} link set e0 up"),
            format!("-n {server} route add default via 10.4.0.1"),
        ];
        for line in lines {
            assert!(quiet(Command::new("ip").args(line.split(' '))), "{line}");
        }
        Some(net)
    }

    fn within(&self, at: usize, words: &[&str]) -> Command {
        let mut command = Command::new("ip");
        command.args(["netns", "exec", &self.0[at]]).args(words);
        command
    }

    fn agent(&self, at: usize, task: &str) -> Command {
        let own = std::env::current_exe().unwrap();
        let mut command =
            self.within(at, &[own.to_str().unwrap(), "--exact", "agent", "--ignored", "--nocapture"]);
        command.env(TASK, task).stdin(Stdio::null()).stderr(Stdio::null());
        command
    }

    fn load(&self, at: usize, text: &str) {
        let mut child = self.within(at, &["nft", "-f", "-"]).stdin(Stdio::piped()).spawn().unwrap();
        child.stdin.take().unwrap().write_all(format!("flush ruleset\n{text}").as_bytes()).unwrap();
        assert!(child.wait().unwrap().success(), "{text}");
    }

    /// Whether something listens on the relay's port of the gate, after a while.
    fn listens(&self, patience: Duration) -> bool {
        let until = Instant::now() + patience;
        loop {
            let seen = self.within(1, &["ss", "-Hltn", "sport = :5432"]).output().unwrap();
            if !seen.stdout.is_empty() {
                return true;
            }
            if Instant::now() >= until {
                return false;
            }
            std::thread::sleep(Duration::from_millis(30));
        }
    }
}

impl Drop for Net {
    fn drop(&mut self) {
        for name in &self.0 {
            quiet(Command::new("ip").args(["netns", "del", name]));
        }
    }
}

/// A program, the first of its group, that is stopped in the end.
struct Running(Child);

impl Drop for Running {
    fn drop(&mut self) {
        // With its workers, which are of the same group.
        quiet(Command::new("kill").args(["-KILL", "--", &format!("-{}", self.0.id())]));
        let _ = self.0.wait();
    }
}

fn quiet(command: &mut Command) -> bool {
    command.stdout(Stdio::null()).stderr(Stdio::null()).status().is_ok_and(|status| status.success())
}

/// A filter with one rule beside the usual ones.
fn table(input: &str, output: &str, drops: bool) -> String {
    let policy = if drops { "drop" } else { "accept" };
    format!(
        "table inet filter {{\n\tchain input {{\n\t\ttype filter hook input priority 0; policy {policy};\n\t\tct state established,related accept\n\t\t\
         iif \"lo\" accept\n\t\t{input}\n\t}}\n\tchain forward {{\n\t\ttype filter hook forward priority 0; policy drop;\n\t}}\n\tchain output {{\n\t\t\
         type filter hook output priority 0; policy accept;\n\t\t{output}\n\t}}\n}}\n"
    )
}

fn write(folder: &Path, name: &str, text: &str) {
    let path = folder.join(name);
    std::fs::create_dir_all(path.parent().unwrap()).unwrap();
    std::fs::write(path, text).unwrap();
}

/// The source that the server saw, where the client's connection got there.
fn connects(net: &Net, tls: bool) -> Option<String> {
    let done = if tls {
        let mut child = net
            .within(0, &["timeout", "1", "openssl", "s_client", "-quiet", "-connect", "198.51.100.1:5432"])
            .stdin(Stdio::piped())
            .stdout(Stdio::piped())
            .stderr(Stdio::null())
            .spawn()
            .unwrap();
        let _ = child.stdin.as_mut().unwrap().write_all(b"hello\n");
        child.wait_with_output().unwrap()
    } else {
        net.agent(0, "call").output().unwrap()
    };
    let text = String::from_utf8_lossy(&done.stdout).into_owned();
    text.lines().find_map(|line| Some(line.split("from ").nth(1)?.trim().to_owned()))
}

/// The audit's statement: whether the server is reached through the relay, and by which source it sees a connection.
fn stated(folder: &Path) -> Option<Option<String>> {
    let done = Command::new(env!("CARGO_BIN_EXE_trevlin"))
        .args(["audit", "--quiet", "--format", "json"])
        .arg(folder)
        .output()
        .unwrap();
    let outcome: serde_json::Value = serde_json::from_slice(&done.stdout).unwrap();
    let all = outcome["findings"].as_array().unwrap();
    let of = |check: &str| all.iter().find(|one| one["check"] == check);
    of("exposure/relayed-service")?;
    let source = of("exposure/relay-voids-source-limit").map(|one| {
        let detail = one["detail"].as_str().unwrap();
        detail.split("connects from ").nth(1).unwrap().split([',', ' ']).next().unwrap().to_owned()
    });
    Some(source)
}

#[test]
#[ignore = "needs root, network namespaces and the relays"]
fn relays_hand_on_as_stated() {
    let Some(net) = Net::new() else {
        println!(
            "\n*** SKIPPED: relays were NOT held against their programs: no network namespace can be made ***\n"
        );
        return;
    };
    let folder = tempfile::tempdir().unwrap();
    let certificate = folder.path().join("own.pem");
    let made = Command::new("openssl")
        .args([
            "req",
            "-x509",
            "-newkey",
            "rsa:2048",
            "-nodes",
            "-subj",
            "/CN=gate.example",
            "-days",
            "9",
            "-keyout",
        ])
        .arg(&certificate)
        .arg("-out")
        .arg(folder.path().join("cert.pem"))
        .stderr(Stdio::null())
        .status()
        .unwrap();
    assert!(made.success());
    let both = ["own.pem", "cert.pem"]
        .map(|name| std::fs::read_to_string(folder.path().join(name)).unwrap())
        .concat();
    std::fs::write(&certificate, both).unwrap();
    let mut server = net.agent(2, "serve");
    let mut server = Running(server.process_group(0).stdout(Stdio::piped()).spawn().unwrap());
    let mut ready = [0; 512];
    let mut text = String::new();
    while !text.contains("ready") {
        let got = server.0.stdout.as_mut().unwrap().read(&mut ready).unwrap();
        assert!(got > 0);
        text.push_str(&String::from_utf8_lossy(&ready[..got]));
    }
    let mut reached = 0;
    for kind in &KINDS {
        net.load(1, "");
        assert!(!net.listens(Duration::ZERO), "before {} another program listens", kind.name);
        let own = kind.text.replace("CERT", certificate.to_str().unwrap());
        let file = folder.path().join("run.conf");
        std::fs::write(&file, &own).unwrap();
        let words: Vec<&str> = kind
            .start
            .iter()
            .map(|word| if *word == "FILE" { file.to_str().unwrap() } else { word })
            .collect();
        let mut program = net.within(1, &words);
        program.stdin(Stdio::null()).stdout(Stdio::null()).stderr(Stdio::null()).process_group(0);
        let _running = Running(program.spawn().unwrap());
        assert!(net.listens(Duration::from_secs(5)), "{} does not start", kind.name);
        for [input, output, behind] in FILTERS {
            let estate = tempfile::tempdir().unwrap();
            let (gate, other) = (table(input, output, true), table(behind, "accept", behind != "accept"));
            net.load(1, &gate);
            net.load(2, &other);
            for (at, name) in [(1, "gate"), (2, "server")] {
                let dump = |words: &[&str]| {
                    String::from_utf8(net.within(at, words).output().unwrap().stdout).unwrap()
                };
                write(estate.path(), &format!("{name}/ip-addr.json"), &dump(&["ip", "-j", "addr"]));
                write(estate.path(), &format!("{name}/nft.txt"), &dump(&["nft", "list", "ruleset"]));
            }
            let routes =
                String::from_utf8(net.within(2, &["ip", "-j", "route"]).output().unwrap().stdout).unwrap();
            write(estate.path(), "server/ip-route.json", &routes);
            write(
                estate.path(),
                "gate/ip-route.json",
                "[{\"dst\":\"default\",\"gateway\":\"198.51.100.254\",\"dev\":\"out0\",\"flags\":[]}]",
            );
            write(estate.path(), &format!("gate/{}", kind.file), &own);
            if kind.file.ends_with("db.service") {
                write(estate.path(), "gate/etc/systemd/system/db.socket", "[Socket]\nListenStream=5432\n");
            }
            // A list that trusts the relay's network, to see by which source it is judged.
            let trusting = "port = 1883\n[plans]\npath = /srv\nhosts allow = 10.4.0.0/24\n";
            write(estate.path(), "server/etc/rsyncd.conf", trusting);
            let (real, told) = (connects(&net, kind.tls), stated(estate.path()));
            let at = format!("{}: {input} / {output} / {behind}", kind.name);
            assert_eq!(real.is_some(), told.is_some(), "{at}: {real:?}");
            reached += usize::from(real.is_some());
            if let Some(source) = &real {
                // Where the server sees the client, its list keeps it off.
                let wanted = (!kind.keeps_source).then(|| source.clone());
                assert_eq!(told, Some(wanted), "{at}");
            }
        }
    }
    println!(
        "{} relays with {} filters each: {reached} connections reach the server, all as stated",
        KINDS.len(),
        FILTERS.len()
    );
    assert!(reached >= 2 * KINDS.len());
}
