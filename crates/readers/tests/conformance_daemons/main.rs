//! Generated configurations of small services: where each listens, and what it answers to clients at several addresses, as the running
//! program shows it.
//!
//! Every program runs in namespaces of its own, with the addresses of its clients on the loopback interface. Run by
//! `scripts/conformance.sh`; needs the programs, python3 and root.

#![allow(
    clippy::unwrap_used,
    clippy::print_stdout,
    clippy::disallowed_methods,
    reason = "a test that runs programs"
)]

#[path = "../support/mod.rs"]
mod support;

mod agents;
mod desktops;
mod exim;
mod lists;
mod proxies;
mod stores;
mod supers;
mod tickets;

use std::collections::BTreeMap;
use std::fs;
use std::net::IpAddr;
use std::path::Path;
use std::process::Command;
use support::Dice;
use trevlin_model::served::{Served, ServiceResource};
use trevlin_model::{Export, ExportId};
use trevlin_readers::{ReadContext, recognise};

/// Addresses of the server, and of its clients.
const SERVER: [&str; 5] = ["127.0.0.1", "::1", "10.20.4.40", "10.20.4.41", "fd00:4::40"];
const CLIENTS: [&str; 5] = ["127.0.0.1", "10.4.0.9", "10.4.9.9", "192.0.2.7", "198.51.100.77"];

/// A program, and how it is asked.
struct Daemon {
    /// Format of its main file.
    format: &'static str,
    /// Configurations that are started.
    rounds: u64,
    /// Files of one configuration, by path from the root folder.
    files: fn(&mut Dice) -> Vec<(&'static str, String)>,
    /// Addresses of the server that are not compared.
    except: fn(&[(&'static str, String)], &str) -> bool,
    /// Commands that start it, in a shell in which `$1` is a folder.
    start: &'static str,
    /// Commands of Python that ask it: `say(name, value)` writes an answer down.
    ask: &'static str,
    /// The answer that the files lead to, by its name.
    expected: fn(&[Served], &str) -> Option<String>,
}

const RUN: &str = r#"
ip link set lo up
ip link add lan type veth peer name far
ip link set lan up; ip link set far up
for address in 10.20.4.40/24 10.20.4.41/24 fd00:4::40/64; do ip address add $address dev lan nodad 2>/dev/null || ip address add $address dev lan; done
for address in 10.4.0.9 10.4.9.9 192.0.2.7 198.51.100.77; do ip address add $address/32 dev lo; done
mkdir -p "$1/etc" "$1/run" "$1/var"
chmod 755 "$1"
mkdir "$1/upper" "$1/work"
cp -r "$1/etc/." "$1/upper/"
mount -t overlay overlay -o "lowerdir=/etc,upperdir=$1/upper,workdir=$1/work" /etc
mount -t tmpfs tmpfs /run
chmod 1777 /run
# Until the program that was started last listens, or has ended.
ready() { for n in $(seq 80); do sleep 0.05; [ -n "$(ss -Hlntu)" ] && break; kill -0 $! 2>/dev/null || break; done; sleep 0.15; }
@START@
ss -Hlntu | sed 's/^/socket /'
timeout 60 python3 "$1/ask.py"
"#;

const ASK: &str = r#"
import base64, os, socket, ssl, struct, sys, time
CLIENTS = "@CLIENTS@".split()
def say(name, value): print("answer\t%s\t%s" % (name, value), flush=True)
def server_of(client): return client if client == "127.0.0.1" else "10.20.4.40"
def connect(client, port, kind=socket.SOCK_STREAM, to=None):
    s = socket.socket(socket.AF_INET, kind); s.settimeout(4); s.bind((client, 0)); s.connect((to or server_of(client), port)); return s
def talk(client, port, text, most=4096, wait=0.7, to=None):
    """Reply to a text; none where nobody listens."""
    try: s = connect(client, port, to=to)
    except OSError: return None
    s.settimeout(wait); got = b""
    try:
        if text: s.sendall(text if isinstance(text, bytes) else text.encode())
        while len(got) < most:
            piece = s.recv(most)
            if not piece: break
            got += piece
    except OSError: pass
    s.close(); return got
@ASK@
"#;

/// Whether one of the services listens at an address.
fn listens(all: &[Served], protocol: u8, address: IpAddr, port: u16) -> bool {
    all.iter().filter(|one| one.refused.is_none()).flat_map(|one| &one.endpoints).any(|place| {
        let lan = address.to_string().starts_with("10.20.") || address.to_string().starts_with("fd00");
        place.protocol.0 == Some(protocol)
            && place.port == port
            && place.interface.as_deref().is_none_or(|name| (name == "lan") == lan)
            && place
                .address
                .map_or(place.families.has(trevlin_model::Family::of(address)), |own| own == address)
    })
}

/// The part that permits an address the most.
fn permits(part: &ServiceResource, client: &str) -> bool {
    part.sources.contains(client.parse().unwrap())
}

/// Whether a client reaches a port of TCP, by where the server listens.
fn reaches(all: &[Served], client: &str, port: u16) -> bool {
    let to = if client == "127.0.0.1" { client } else { "10.20.4.40" };
    listens(all, 6, to.parse().unwrap(), port)
}

/// Places where a namespace listens, by protocol, address and port.
fn sockets(output: &str) -> Vec<(u8, String, u16)> {
    let socket = |line: &str| {
        let words: Vec<&str> = line.strip_prefix("socket ")?.split_whitespace().collect();
        let protocol = if words[0] == "tcp" { 6 } else { 17 };
        let (host, port) = words[4].rsplit_once(':')?;
        let host = host.trim_matches(['[', ']']).split('%').next()?.to_owned();
        Some((protocol, host, port.parse().ok()?))
    };
    output.lines().filter_map(socket).collect()
}

fn is_open(found: &[(u8, String, u16)], protocol: u8, address: IpAddr, port: u16) -> bool {
    found.iter().any(|(known, host, at)| {
        let here = match host.as_str() {
            "*" => true,
            "0.0.0.0" => address.is_ipv4(),
            "::" => address.is_ipv6(),
            host => host.parse() == Ok(address),
        };
        (*known, *at) == (protocol, port) && here
    })
}

fn facts(files: &[(&str, String)]) -> Vec<Served> {
    let exports: Vec<Export> = files
        .iter()
        .enumerate()
        .map(|(at, (path, text))| Export::new(ExportId(at as u32), format!("d/{path}"), text.clone()))
        .collect();
    let around = ReadContext::of(exports.iter().collect());
    let mut found = Vec::new();
    for export in &exports {
        let Some(reader) = recognise(export).reader else { continue };
        let reading = (reader.read)(export, &around);
        let notes: Vec<&str> = reading.ledger.notes.iter().map(|note| note.text.as_str()).collect();
        assert!(notes.is_empty(), "{}: {notes:?}\n{}", export.path(), export.text());
        found.extend(reading.facts.served);
    }
    found
}

/// Starts configurations of a program and compares.
fn hold(daemon: &Daemon) {
    let (mut wrong, mut answers, mut places, mut idle, mut rejected) = (Vec::new(), 0, 0, 0, 0);
    let seed: u64 = std::env::var("SEED").ok().and_then(|text| text.parse().ok()).unwrap_or(0);
    for round in 0..daemon.rounds {
        let mut dice = Dice::new(1 + seed * 1000 + round);
        let files = (daemon.files)(&mut dice);
        let all = facts(&files);
        let folder = Path::new(env!("CARGO_TARGET_TMPDIR")).join(format!("daemon-{}", daemon.format));
        let _ = fs::remove_dir_all(&folder);
        for (path, text) in &files {
            let at = folder.join(path);
            fs::create_dir_all(at.parent().unwrap()).unwrap();
            fs::write(at, text).unwrap();
        }
        fs::write(folder.join("run.sh"), RUN.replace("@START@", daemon.start)).unwrap();
        let ask = ASK.replace("@CLIENTS@", &CLIENTS.join(" ")).replace("@ASK@", daemon.ask);
        fs::write(folder.join("ask.py"), ask).unwrap();
        let output = Command::new("unshare")
            .args(["--net", "--mount", "--pid", "--fork", "--kill-child", "timeout", "90", "bash"])
            .args([folder.join("run.sh"), folder.clone()])
            .output()
            .unwrap();
        let output =
            format!("{}{}", String::from_utf8_lossy(&output.stdout), String::from_utf8_lossy(&output.stderr));
        let found = sockets(&output);
        let refused = all.iter().any(|one| one.refused.is_some());
        if found.is_empty() {
            idle += 1;
            // A configuration that the program rejects leads to nothing that could be compared.
            let words = output.to_ascii_lowercase();
            if ["error", "invalid", "fatal"].iter().any(|word| words.contains(word)) {
                rejected += 1;
                continue;
            }
        }
        let mut ports: Vec<(u8, u16)> = found.iter().map(|(protocol, _, port)| (*protocol, *port)).collect();
        ports.extend(
            all.iter().flat_map(|one| &one.endpoints).map(|place| (place.protocol.0.unwrap(), place.port)),
        );
        // Ports of UDP that the kernel chose are those of clients.
        ports.retain(|(protocol, port)| *protocol == 6 || *port < 32768);
        ports.sort_unstable();
        ports.dedup();
        let mut told = Vec::new();
        for (protocol, port) in ports {
            for address in SERVER.into_iter().filter(|address| !(daemon.except)(&files, address)) {
                let at = address.parse().unwrap();
                let (really, read) =
                    (is_open(&found, protocol, at, port), !refused && listens(&all, protocol, at, port));
                places += 1;
                if really != read {
                    told.push(format!("{protocol}/{port} at {address}: open {really}, read {read}"));
                }
            }
        }
        let answered: BTreeMap<&str, &str> =
            output.lines().filter_map(|line| line.strip_prefix("answer\t")?.split_once('\t')).collect();
        for (name, really) in answered {
            let Some(read) = (daemon.expected)(&all, name) else { continue };
            answers += 1;
            if read != really {
                told.push(format!("{name}: {really}, read {read}"));
            }
        }
        if !told.is_empty() {
            let texts: Vec<String> = files.iter().map(|(path, text)| format!("--- {path}\n{text}")).collect();
            let noise: Vec<&str> = output.lines().filter(|line| !line.starts_with("answer")).collect();
            wrong.push(format!(
                "round {round}:\n{}\n{}\n{}\n",
                told.join("\n"),
                texts.join("\n"),
                noise[noise.len().saturating_sub(25)..].join("\n")
            ));
        }
    }
    println!(
        "{}: {} configurations, {idle} not started ({rejected} rejected), {places} places, {answers} answers",
        daemon.format, daemon.rounds
    );
    let most = std::env::var("SHOW").ok().and_then(|text| text.parse().ok()).unwrap_or(3);
    let shown: Vec<&String> = wrong.iter().take(most).collect();
    assert!(
        wrong.is_empty(),
        "{} of {} differ\n{}",
        wrong.len(),
        daemon.rounds,
        shown.iter().map(|one| one.as_str()).collect::<Vec<_>>().join("\n")
    );
    assert!(answers > 0 || daemon.ask.is_empty(), "nothing was answered");
    assert!(rejected * 2 < daemon.rounds, "most were rejected");
}
