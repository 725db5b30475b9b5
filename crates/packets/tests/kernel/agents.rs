//! The agents, as the test uses them: one in each namespace, which receives commands and reports arrivals.

use std::collections::BTreeMap;
use std::io::{BufRead, BufReader, Write};
use std::net::IpAddr;
use std::process::{Child, ChildStdin, Command, Stdio};
use std::sync::mpsc::{Receiver, channel};
use std::time::Duration;

const PATIENCE: Duration = Duration::from_secs(20);

struct Agent {
    child: Child,
    to: ChildStdin,
    from: Receiver<String>,
}

/// Agents by number, stopped in the end.
#[derive(Default)]
pub(crate) struct Agents(Vec<Agent>);

impl Agents {
    /// Starts one in a namespace: the test program itself, with other arguments.
    pub(crate) fn start(
        &mut self,
        namespace: &str,
        ports: &[u16],
        addresses: impl IntoIterator<Item = IpAddr>,
    ) {
        let ports: Vec<String> = ports.iter().map(u16::to_string).collect();
        let mut child = Command::new("ip")
            .args(["netns", "exec", namespace])
            .arg(std::env::current_exe().unwrap())
            .args(["agent", &ports.join(",")])
            .args(addresses.into_iter().map(|one| one.to_string()))
            .stdin(Stdio::piped())
            .stdout(Stdio::piped())
            .spawn()
            .unwrap();
        let (sender, from) = channel();
        let out = BufReader::new(child.stdout.take().unwrap());
        std::thread::spawn(move || {
            for line in out.lines().map_while(Result::ok) {
                if sender.send(line).is_err() {
                    return;
                }
            }
        });
        let ready = from.recv_timeout(PATIENCE).expect("an agent starts");
        assert_eq!(ready, "ready");
        self.0.push(Agent { to: child.stdin.take().unwrap(), child, from });
    }

    /// Queues a packet: `NUMBER tcp|udp SOURCE SPORT DESTINATION PORT`.
    pub(crate) fn tell(&mut self, number: usize, line: &str) {
        writeln!(self.0[number].to, "{line}").unwrap();
    }

    /// Lets all send, and returns the arrivals.
    pub(crate) fn go(&mut self) -> BTreeMap<usize, (IpAddr, u16)> {
        for agent in &mut self.0 {
            writeln!(agent.to, "go").unwrap();
            agent.to.flush().unwrap();
        }
        let mut arrived = BTreeMap::new();
        let mut take = |line: String| {
            let words: Vec<&str> = line.split(' ').collect();
            if let [number, address, port] = words.as_slice() {
                arrived.insert(number.parse().unwrap(), (address.parse().unwrap(), port.parse().unwrap()));
            }
        };
        for agent in &self.0 {
            loop {
                let line = agent.from.recv_timeout(PATIENCE).expect("an agent answers");
                if line == "done" {
                    break;
                }
                take(line);
            }
        }
        // Reports of one agent that arrived after another finished.
        std::thread::sleep(Duration::from_millis(20));
        for agent in &self.0 {
            while let Ok(line) = agent.from.try_recv() {
                take(line);
            }
        }
        arrived
    }

    /// Stops all.
    pub(crate) fn stop(&mut self) {
        for agent in &mut self.0 {
            let _ = agent.child.kill();
            let _ = agent.child.wait();
        }
    }
}
