//! The networks: a gate with four interfaces, and behind each a host with several addresses.

use crate::agents::Agents;
use crate::lists::{Kind, PORTS, Rng, RuleList};
use std::collections::BTreeMap;
use std::net::IpAddr;
use std::process::{Child, Command, Output, Stdio};

/// Interface of the gate, host behind it, addresses of the gate, addresses of the host; the first of the host's is on the link.
type Side = (&'static str, &'static str, &'static [&'static str], &'static [&'static str]);

/// The four sides.
pub(crate) const SIDES: [Side; 4] = [
    (
        "out0",
        "outside",
        &["203.0.113.1/24", "2001:db8:0:1::1/64"],
        &[
            "203.0.113.9/24",
            "198.51.100.7/32",
            "198.51.100.44/32",
            "192.0.2.80/32",
            "2001:db8:0:1::9/64",
            "2001:db8:99::7/128",
        ],
    ),
    (
        "in0",
        "inside",
        &["10.20.4.1/24", "2001:db8:0:4::1/64"],
        &["10.20.4.11/24", "10.20.4.20/24", "10.20.4.30/24", "2001:db8:0:4::11/64", "2001:db8:0:4::20/64"],
    ),
    (
        "in1",
        "second",
        &["10.20.6.1/24", "2001:db8:0:6::1/64"],
        &["10.20.6.20/24", "10.20.6.61/24", "2001:db8:0:6::20/64"],
    ),
    (
        "dial0",
        "dial",
        &["10.20.9.1/24", "2001:db8:0:9::1/64"],
        &["10.20.9.100/24", "10.20.9.200/24", "2001:db8:0:9::100/64"],
    ),
];

/// A packet to send.
#[derive(Debug, Clone)]
pub(crate) struct Probe {
    pub(crate) id: usize,
    pub(crate) side: usize,
    pub(crate) entering: &'static str,
    pub(crate) source: IpAddr,
    pub(crate) destination: IpAddr,
    pub(crate) tcp: bool,
    pub(crate) source_port: u16,
    pub(crate) port: u16,
}

/// The networks, taken down again in the end.
pub(crate) struct Net {
    prefix: String,
    agents: Agents,
    sent: usize,
}

fn run(program: &str, arguments: &[&str]) -> Output {
    Command::new(program).args(arguments).output().unwrap_or_else(|error| panic!("{program}: {error}"))
}

fn bare(address: &str) -> IpAddr {
    address.split('/').next().unwrap().parse().unwrap()
}

impl Net {
    /// Whether namespaces and the programs can be used.
    pub(crate) fn possible() -> Result<(), String> {
        for program in ["ip", "iptables-restore", "ip6tables-restore", "nft", "iptables-restore-translate"] {
            if Command::new(program).arg("--version").output().is_err() {
                return Err(format!("{program} is not installed"));
            }
        }
        let name = format!("trevlin-try-{}", std::process::id());
        let made = run("ip", &["netns", "add", &name]);
        run("ip", &["netns", "del", &name]);
        let why =
            || format!("no network namespace can be made: {}", String::from_utf8_lossy(&made.stderr).trim());
        if made.status.success() { Ok(()) } else { Err(why()) }
    }

    pub(crate) fn new() -> Self {
        let mut net =
            Self { prefix: format!("tv{}", std::process::id()), agents: Agents::default(), sent: 0 };
        net.ip(&["netns", "add", &net.name("gate")]);
        for (setting, value) in [
            ("ipv4/ip_forward", 1),
            ("ipv6/conf/all/forwarding", 1),
            ("ipv4/conf/all/rp_filter", 0),
            ("ipv4/conf/default/rp_filter", 0),
        ] {
            net.gate("sh", &["-c", &format!("echo {value} > /proc/sys/net/{setting}")]);
        }
        net.gate("ip", &["link", "set", "lo", "up"]);
        for (interface, host, gates, hosts) in SIDES {
            net.side(interface, host, gates, hosts);
        }
        let outside = bare(SIDES[0].3[0]).to_string();
        net.gate("ip", &["route", "add", "default", "via", &outside]);
        net.gate("ip", &["-6", "route", "add", "default", "via", "2001:db8:0:1::9"]);
        let own: Vec<&str> = SIDES.iter().flat_map(|side| side.2).copied().collect();
        net.start("gate", &own);
        for (_, host, _, hosts) in SIDES {
            net.start(host, hosts);
        }
        net
    }

    fn name(&self, host: &str) -> String {
        format!("{}-{host}", self.prefix)
    }

    fn ip(&self, arguments: &[&str]) {
        let done = run("ip", arguments);
        assert!(done.status.success(), "ip {arguments:?}: {}", String::from_utf8_lossy(&done.stderr));
    }

    fn within(&self, host: &str, program: &str, arguments: &[&str]) -> Output {
        let name = self.name(host);
        let all: Vec<&str> =
            ["netns", "exec", &name, program].into_iter().chain(arguments.iter().copied()).collect();
        run("ip", &all)
    }

    fn gate(&self, program: &str, arguments: &[&str]) -> String {
        let done = self.within("gate", program, arguments);
        assert!(done.status.success(), "{program} {arguments:?}: {}", String::from_utf8_lossy(&done.stderr));
        String::from_utf8(done.stdout).unwrap()
    }

    /// Hardware addresses of the gate and of the host on its side.
    fn macs(&self, host: &str) -> (String, String) {
        let number = SIDES.iter().position(|side| side.1 == host).unwrap_or(0);
        (format!("02:00:5e:00:53:{number:02x}"), format!("02:00:5e:00:54:{number:02x}"))
    }

    fn side(&self, interface: &str, host: &str, gates: &[&str], hosts: &[&str]) {
        let (gate, name) = (self.name("gate"), self.name(host));
        self.ip(&["netns", "add", &name]);
        let (mac, other) = self.macs(host);
        self.ip(&[
            "link", "add", interface, "address", &mac, "netns", &gate, "type", "veth", "peer", "name",
            "eth0", "address", &other, "netns", &name,
        ]);
        for (place, device, addresses) in [("gate", interface, gates), (host, "eth0", hosts)] {
            for address in addresses {
                let mut words = vec!["address", "add", *address, "dev", device];
                if address.contains("::") {
                    words.push("nodad");
                }
                let done = self.within(place, "ip", &words);
                assert!(done.status.success(), "{}", String::from_utf8_lossy(&done.stderr));
            }
            self.within(place, "ip", &["link", "set", device, "up"]);
            self.within(place, "ip", &["link", "set", "lo", "up"]);
        }
        // Hosts know each other, so that no rule keeps them from asking for each other.
        let (mac, other) = self.macs(host);
        for (place, device, addresses, mac) in [("gate", interface, hosts, other), (host, "eth0", gates, mac)]
        {
            for address in addresses {
                let address = bare(address).to_string();
                self.within(
                    place,
                    "ip",
                    &["neigh", "replace", &address, "lladdr", &mac, "dev", device, "nud", "permanent"],
                );
            }
        }
        let (v4, v6) = (bare(gates[0]).to_string(), bare(gates[1]).to_string());
        self.within(host, "ip", &["route", "add", "default", "via", &v4]);
        self.within(host, "ip", &["-6", "route", "add", "default", "via", &v6]);
    }

    fn start(&mut self, host: &str, addresses: &[&str]) {
        let namespace = self.name(host);
        self.agents.start(&namespace, &PORTS, addresses.iter().map(|one| bare(one)));
    }

    /// Loads a rule list into the gateway, and nothing else. A line that the program rejects, as one of both IP versions, is removed from
    /// the list.
    pub(crate) fn load(&self, list: &mut RuleList) {
        self.gate("nft", &["flush", "ruleset"]);
        for (program, text) in &mut list.parts {
            for refused in 0.. {
                let file = tempfile::NamedTempFile::new().unwrap();
                std::fs::write(file.path(), &text).unwrap();
                let path = file.path().to_string_lossy();
                let arguments: Vec<&str> = if *program == "nft" { vec!["-f", &path] } else { vec![&path] };
                let done = self.within("gate", program, &arguments);
                if done.status.success() {
                    break;
                }
                let told = String::from_utf8_lossy(&done.stderr).into_owned();
                let line = told.split(':').nth(1).and_then(|one| one.parse::<usize>().ok());
                let line = line.filter(|_| *program == "nft" && refused < 12);
                let line = line.unwrap_or_else(|| panic!("{told}\n{text}"));
                *text = text
                    .lines()
                    .enumerate()
                    .filter(|(at, _)| at + 1 != line)
                    .map(|(_, one)| format!("{one}\n"))
                    .collect();
            }
        }
    }

    /// Starts a program on the gate, with its output thrown away.
    pub(crate) fn spawn(
        &self,
        program: &str,
        arguments: &[&str],
        environment: &[(&str, &str)],
    ) -> std::io::Result<Child> {
        Command::new("ip")
            .args(["netns", "exec", &self.name("gate"), program])
            .args(arguments)
            .envs(environment.iter().copied())
            .stdout(Stdio::null())
            .stderr(Stdio::null())
            .spawn()
    }

    /// Takes every rule out of the gate.
    pub(crate) fn flush(&self) {
        self.gate("nft", &["flush", "ruleset"]);
    }

    /// The rules of the gate.
    pub(crate) fn ruleset(&self) -> String {
        self.gate("nft", &["list", "ruleset"])
    }

    /// The loaded rules, as JSON.
    pub(crate) fn ruleset_json(&self) -> String {
        self.gate("nft", &["-j", "list", "ruleset"])
    }

    /// A list in the language of nftables.
    pub(crate) fn translated(&self, v6: bool, text: &str) -> String {
        let program = if v6 { "ip6tables-restore-translate" } else { "iptables-restore-translate" };
        let file = tempfile::NamedTempFile::new().unwrap();
        std::fs::write(file.path(), text).unwrap();
        self.gate(program, &["-f", &file.path().to_string_lossy()])
    }

    /// Exports of the gateway, as an auditor would receive them.
    pub(crate) fn dumps(&self, kind: Kind) -> Vec<(String, String)> {
        let mut dumps = vec![
            ("ip-addr.json", self.gate("ip", &["-j", "addr", "show"])),
            ("ip-route.json", self.gate("ip", &["-j", "route", "show"])),
            ("ip-6-route.json", self.gate("ip", &["-j", "-6", "route", "show"])),
        ];
        match kind {
            Kind::Iptables => {
                dumps.push(("iptables-save.txt", self.gate("iptables-save", &["-c"])));
                dumps.push(("ip6tables-save.txt", self.gate("ip6tables-save", &["-c"])));
            }
            Kind::Nft => {
                dumps.push(("nft.txt", self.gate("nft", &["list", "ruleset"])));
                dumps.push(("nft.json", self.gate("nft", &["-j", "list", "ruleset"])));
            }
        }
        dumps.into_iter().map(|(name, text)| (name.to_owned(), text)).collect()
    }

    /// Packets near the borders of the rules: between the hosts, and to the gate.
    pub(crate) fn probes(&mut self, list: usize, seed: u64) -> Vec<Probe> {
        let mut rng = Rng::new(seed ^ 0x5bd1_e995);
        let mut probes = Vec::new();
        while probes.len() < 90 {
            let side = rng.below(SIDES.len());
            let (entering, _, _, own) = SIDES[side];
            let source = bare(own[rng.below(own.len())]);
            let to_gate = rng.below(3) == 0;
            let other = SIDES[rng.below(SIDES.len())];
            // Most translations are for traffic to the public address.
            let destination = match rng.below(4) {
                0 => bare(SIDES[0].2[rng.below(2)]),
                _ => {
                    let all = if to_gate { other.2 } else { other.3 };
                    bare(all[rng.below(all.len())])
                }
            };
            if source.is_ipv4() != destination.is_ipv4()
                || (!to_gate && own.iter().any(|one| bare(one) == destination))
            {
                continue;
            }
            // Each list and probe has a port of its own, so that no connection of before is met again.
            let source_port = 20_000 + ((list * 97 + probes.len()) % 40_000) as u16;
            let (tcp, port) = (rng.below(2) == 0, *rng.pick(&PORTS));
            self.sent += 1;
            probes.push(Probe { id: self.sent, side, entering, source, destination, tcp, source_port, port });
        }
        probes
    }

    /// Sends, and returns the arrivals.
    pub(crate) fn send(&mut self, probes: &[Probe]) -> BTreeMap<usize, (IpAddr, u16)> {
        for probe in probes {
            let protocol = if probe.tcp { "tcp" } else { "udp" };
            let Probe { id, source, source_port, destination, port, .. } = probe;
            let line = format!("{id} {protocol} {source} {source_port} {destination} {port}");
            self.agents.tell(probe.side + 1, &line);
        }
        self.agents.go()
    }
}

impl Drop for Net {
    fn drop(&mut self) {
        self.agents.stop();
        for host in ["gate"].into_iter().chain(SIDES.map(|side| side.1)) {
            run("ip", &["netns", "del", &self.name(host)]);
        }
    }
}
