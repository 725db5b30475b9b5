//! Estates as network namespaces: one for each machine, and one whose bridges are the networks.

use crate::agents::Agents;
use crate::text::Estate;
use crate::{PORTS, Probe};
use std::collections::BTreeMap;
use std::net::IpAddr;
use std::path::Path;
use std::process::{Command, Output};

/// An estate that is up, taken down again in the end.
pub(crate) struct Built {
    prefix: String,
    names: Vec<String>,
    agents: Agents,
    /// Configurations of tunnels, with the machine and the name of the tunnel.
    configurations: Vec<(String, String, String)>,
    /// Folders of the machines that are configured by their files alone.
    etc: BTreeMap<String, tempfile::TempDir>,
}

fn run(program: &str, arguments: &[&str]) -> Output {
    Command::new(program).args(arguments).output().unwrap_or_else(|error| panic!("{program}: {error}"))
}

/// Whether namespaces and the programs can be used.
pub(crate) fn possible() -> Result<(), String> {
    for program in ["ip", "iptables-restore", "ip6tables-restore", "nft", "wg", "wireguard-go", "ufw"] {
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

impl Built {
    pub(crate) fn new(estate: &Estate) -> Self {
        let mut built = Self {
            prefix: format!("te{}", std::process::id()),
            names: Vec::new(),
            agents: Agents::default(),
            configurations: Vec::new(),
            etc: BTreeMap::new(),
        };
        built.add("switch");
        for (number, _) in estate.networks().iter().enumerate() {
            built.within("switch", &["ip", "link", "add", &format!("n{number}"), "type", "bridge"]);
            built.within("switch", &["ip", "link", "set", &format!("n{number}"), "up"]);
        }
        for machine in &estate.machines {
            built.add(&machine.name);
            for setting in [
                "net.ipv4.ip_forward=1",
                "net.ipv6.conf.all.forwarding=1",
                "net.ipv4.conf.all.rp_filter=0",
                "net.ipv4.conf.default.rp_filter=0",
                "net.ipv6.conf.all.accept_dad=0",
                "net.ipv6.conf.default.accept_dad=0",
                "net.ipv4.conf.all.send_redirects=0",
                "net.ipv4.conf.default.send_redirects=0",
                "net.ipv4.conf.all.accept_redirects=0",
                "net.ipv4.icmp_ratelimit=0",
            ] {
                let (name, value) = setting.split_once('=').unwrap();
                let path = format!("/proc/sys/{}", name.replace('.', "/"));
                built.within(&machine.name, &["sh", "-c", &format!("echo {value} > {path}")]);
            }
            built.within(&machine.name, &["ip", "link", "set", "lo", "up"]);
            for interface in &machine.interfaces {
                built.plug(estate, &machine.name, interface);
            }
        }
        for (name, words) in &estate.routes {
            let mut command = vec!["ip"];
            command.extend(words.iter().any(|word| word.contains("::")).then_some("-6"));
            command.extend(["route", "add"]);
            command.extend(words.iter().map(String::as_str));
            built.within(name, &command);
        }
        for (name, _, text) in estate.rules.iter().filter(|(_, program, _)| program == "ufw") {
            let folder = built.ufw(estate, name, text);
            built.etc.insert(name.clone(), folder);
        }
        for (name, program, text) in estate.rules.iter().filter(|(_, program, _)| program != "ufw") {
            let file = tempfile::NamedTempFile::new().unwrap();
            std::fs::write(file.path(), text).unwrap();
            let path = file.path().to_string_lossy().into_owned();
            match program.as_str() {
                "nft" => built.within(name, &["nft", "-f", &path]),
                program => built.within(name, &[&format!("{program}-restore"), &path]),
            };
        }
        built.tunnels(estate);
        for machine in &estate.machines {
            let namespace = built.name(&machine.name);
            built.agents.start(&namespace, &PORTS, machine.addresses());
        }
        built
    }

    fn name(&self, machine: &str) -> String {
        format!("{}-{machine}", self.prefix)
    }

    fn add(&mut self, machine: &str) {
        let name = self.name(machine);
        let done = run("ip", &["netns", "add", &name]);
        assert!(done.status.success(), "{}", String::from_utf8_lossy(&done.stderr));
        self.names.push(name);
    }

    fn within(&self, machine: &str, words: &[&str]) -> String {
        let name = self.name(machine);
        let all: Vec<&str> = ["netns", "exec", &name].into_iter().chain(words.iter().copied()).collect();
        let done = run("ip", &all);
        assert!(done.status.success(), "{machine} {words:?}: {}", String::from_utf8_lossy(&done.stderr));
        String::from_utf8(done.stdout).unwrap()
    }

    /// Configures a machine by the commands of ufw, beside which are rules for its own files behind `before` or `nat`, and starts its
    /// filter. Returns the folder with the files of the machine, its interfaces among them.
    fn ufw(&self, estate: &Estate, name: &str, text: &str) -> tempfile::TempDir {
        let folder = tempfile::tempdir().unwrap();
        let etc = folder.path().join("etc");
        for below in ["default", "network"] {
            std::fs::create_dir_all(etc.join(below)).unwrap();
        }
        run("cp", &["-r", "/etc/ufw", &etc.to_string_lossy()]);
        run("cp", &["/etc/default/ufw", &etc.join("default").to_string_lossy()]);
        let of = |kind: &str| -> String {
            let lines = text.lines().filter_map(|line| line.strip_prefix(kind));
            lines.map(|line| format!("{line}\n")).collect()
        };
        let before = etc.join("ufw/before.rules");
        let shipped = std::fs::read_to_string(&before).unwrap();
        let own = shipped.replace("# don't delete the 'COMMIT'", &format!("{}# the 'COMMIT'", of("before ")));
        std::fs::write(&before, format!("*nat\n{}COMMIT\n{own}", of("nat "))).unwrap();
        let kernel = etc.join("ufw/sysctl.conf");
        let shipped = std::fs::read_to_string(&kernel).unwrap();
        std::fs::write(&kernel, format!("{shipped}net/ipv4/ip_forward=1\nnet/ipv6/conf/all/forwarding=1\n"))
            .unwrap();
        let mut script = format!(
            "set -e\nmount --bind {0}/ufw /etc/ufw\nmount --bind {0}/default/ufw /etc/default/ufw\n",
            etc.display()
        );
        for line in text.lines().filter(|line| !line.starts_with("before ") && !line.starts_with("nat ")) {
            script.push_str(&format!("ufw {line}\n"));
        }
        script.push_str("ufw --force enable\n");
        self.within(name, &["unshare", "-m", "bash", "-c", &script]);
        let machine = estate.machines.iter().find(|one| one.name == name).unwrap();
        let mut interfaces = String::from("auto lo\niface lo inet loopback\n");
        for one in &machine.interfaces {
            for address in &one.addresses {
                let kind = if address.contains(':') { "inet6" } else { "inet" };
                interfaces.push_str(&format!(
                    "auto {0}\niface {0} {kind} static\n    address {address}\n",
                    one.name
                ));
                let network: ipnet::IpNet = address.parse().unwrap();
                let within = |gateway: &str| network.contains(&gateway.parse::<IpAddr>().unwrap());
                let routes = estate.routes.iter().filter(|(of, _)| of == name);
                let gateway = routes.filter_map(|(_, words)| match words.as_slice() {
                    [first, _, gateway] if first == "default" && within(gateway) => Some(gateway),
                    _ => None,
                });
                interfaces.extend(gateway.map(|gateway| format!("    gateway {gateway}\n")));
            }
        }
        std::fs::write(etc.join("network/interfaces"), interfaces).unwrap();
        folder
    }

    /// Brings up the tunnels of WireGuard, with the program that serves where the kernel has no module for it.
    fn tunnels(&mut self, estate: &Estate) {
        let keys: BTreeMap<&String, (String, String)> =
            estate.tunnels.iter().map(|(name, ..)| (name, self.keys(name))).collect();
        for (name, tunnel, text) in &estate.tunnels {
            let mut text = text.replace("PRIVATE", &keys[name].0);
            for (other, (_, public)) in &keys {
                text = text.replace(&format!("PUBLIC:{other}"), public);
            }
            let folder = tempfile::tempdir().unwrap();
            let path = folder.path().join(format!("{tunnel}.conf"));
            std::fs::write(&path, &text).unwrap();
            self.within(
                name,
                &[
                    "env",
                    "WG_QUICK_USERSPACE_IMPLEMENTATION=wireguard-go",
                    "wg-quick",
                    "up",
                    &path.to_string_lossy(),
                ],
            );
            self.configurations.push((name.clone(), tunnel.clone(), text));
        }
        self.shake_hands();
    }

    /// Waits for the handshakes of the tunnels: a program that serves one may lose what is sent before.
    fn shake_hands(&self) {
        for (machine, tunnel, text) in &self.configurations {
            let first = text.lines().find_map(|line| line.strip_prefix("AllowedIPs = "));
            let peer = first.and_then(|list| list.split(['/', ',']).next()).unwrap();
            for _ in 0..20 {
                self.within(machine, &["bash", "-c", &format!("echo > /dev/udp/{peer}/9 || true")]);
                std::thread::sleep(std::time::Duration::from_millis(150));
                let times = self.within(machine, &["wg", "show", tunnel, "latest-handshakes"]);
                if times.split_whitespace().nth(1).is_some_and(|time| time != "0") {
                    break;
                }
            }
        }
    }

    /// A private key and its public one.
    fn keys(&self, machine: &str) -> (String, String) {
        let private = self.within(machine, &["wg", "genkey"]).trim().to_owned();
        let public = self.within(machine, &["sh", "-c", &format!("echo {private} | wg pubkey")]);
        (private, public.trim().to_owned())
    }

    fn plug(&self, estate: &Estate, machine: &str, interface: &crate::text::Interface) {
        let number = estate.networks().iter().position(|one| *one == interface.network).unwrap();
        let port = format!("{machine}-{}", interface.name);
        let (own, switch) = (self.name(machine), self.name("switch"));
        let done = run(
            "ip",
            &[
                "link",
                "add",
                &interface.name,
                "netns",
                &own,
                "type",
                "veth",
                "peer",
                "name",
                &port,
                "netns",
                &switch,
            ],
        );
        assert!(done.status.success(), "{}", String::from_utf8_lossy(&done.stderr));
        self.within("switch", &["ip", "link", "set", &port, "master", &format!("n{number}"), "up"]);
        for address in &interface.addresses {
            let mut words = vec!["ip", "address", "add", address, "dev", &interface.name];
            words.extend(address.contains("::").then_some("nodad"));
            self.within(machine, &words);
        }
        self.within(machine, &["ip", "link", "set", &interface.name, "up"]);
    }

    /// Exports of the devices, as an auditor would receive them.
    pub(crate) fn export(&self, estate: &Estate, folder: &Path) {
        for machine in estate.machines.iter().filter(|one| one.exported) {
            let at = folder.join("estate").join(&machine.name);
            std::fs::create_dir_all(&at).unwrap();
            if let Some(files) = self.etc.get(&machine.name) {
                let from = files.path().join("etc");
                let done = run("cp", &["-r", &from.to_string_lossy(), &at.to_string_lossy()]);
                assert!(done.status.success(), "{}", String::from_utf8_lossy(&done.stderr));
                continue;
            }
            let write = |name: &str, text: String| std::fs::write(at.join(name), text).unwrap();
            write("ip-addr.json", self.within(&machine.name, &["ip", "-j", "addr", "show"]));
            let tunnels: Vec<_> =
                self.configurations.iter().filter(|(name, ..)| *name == machine.name).collect();
            for (_, tunnel, text) in &tunnels {
                std::fs::create_dir_all(at.join("etc/wireguard")).unwrap();
                write(&format!("etc/wireguard/{tunnel}.conf"), text.clone());
            }
            // In one form what the configurations imply has to do.
            if tunnels.is_empty() || estate.form != 1 {
                write("ip-route.json", self.within(&machine.name, &["ip", "-j", "route", "show"]));
                write("ip-6-route.json", self.within(&machine.name, &["ip", "-j", "-6", "route", "show"]));
            }
            if let Some((_, document)) = estate.documents.iter().find(|(name, _)| *name == machine.name) {
                write("running-config.json", document.clone());
                continue;
            }
            if !estate.rules.iter().any(|(name, ..)| *name == machine.name) {
                write("nft.txt", self.within(&machine.name, &["nft", "list", "ruleset"]));
            }
            // An administrator exports both versions of IP.
            let of_machine = || estate.rules.iter().filter(|(name, ..)| *name == machine.name);
            if estate.form != 1 && of_machine().any(|(_, program, _)| program == "iptables") {
                write("ip6tables-save.txt", self.within(&machine.name, &["ip6tables-save"]));
            }
            for (_, program, _) in estate.rules.iter().filter(|(name, _, _)| *name == machine.name) {
                match (program.as_str(), estate.form) {
                    // What nft loaded, as text or as JSON; what iptables loaded, as it or as nft prints it.
                    ("nft", 2) => {
                        write("nft.json", self.within(&machine.name, &["nft", "-j", "list", "ruleset"]))
                    }
                    ("nft", _) | (_, 1) => {
                        write("nft.txt", self.within(&machine.name, &["nft", "list", "ruleset"]))
                    }
                    (program, _) => {
                        write(
                            &format!("{program}-save.txt"),
                            self.within(&machine.name, &[&format!("{program}-save")]),
                        );
                    }
                }
            }
        }
        if let Some(file) = &estate.file {
            std::fs::write(folder.join("estate/trevlin.toml"), file).unwrap();
        }
    }

    /// Sends, and reports the arrivals.
    pub(crate) fn send(&mut self, probes: &[Probe]) -> BTreeMap<usize, (IpAddr, u16)> {
        let mut arrived = BTreeMap::new();
        // A few at a time, so that hosts resolving each other's hardware addresses lose nothing.
        for some in probes.chunks(40) {
            for probe in some {
                let protocol = if probe.tcp { "tcp" } else { "udp" };
                let Probe { id, source, source_port, destination, port, .. } = probe;
                let line = format!("{id} {protocol} {source} {source_port} {destination} {port}");
                self.agents.tell(probe.from, &line);
            }
            arrived.extend(self.agents.go());
        }
        arrived
    }
}

impl Drop for Built {
    fn drop(&mut self) {
        self.agents.stop();
        // Where a program serves the tunnel, it ends with its interface.
        for (machine, tunnel, _) in &self.configurations {
            run("ip", &["-n", &self.name(machine), "link", "del", tunnel]);
        }
        for name in &self.names {
            run("ip", &["netns", "del", name]);
        }
    }
}
