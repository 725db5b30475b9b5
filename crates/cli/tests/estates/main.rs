//! Estates of several devices compared with the kernel: each is built of network namespaces, real packets are sent from untrusted networks,
//! from VPN clients, from internal hosts and from the devices themselves, and arrivals must match the result of `trevlin reach` for the
//! devices' own dumps.
//!
//! Run by `scripts/conformance.sh`; needs root. `TREVLIN_SHOW=1` prints what is not decided. Without `--ignored` nothing is done, as for other tests of that kind.

#![allow(
    clippy::unwrap_used,
    clippy::print_stdout,
    clippy::disallowed_methods,
    reason = "a test with a main of its own: it panics where something is wrong, prints, and has an agent that waits"
)]

#[path = "../../../packets/tests/kernel/agent.rs"]
mod agent;
#[path = "../../../packets/tests/kernel/agents.rs"]
mod agents;
mod build;
mod standard;
mod text;

use build::Built;
use std::collections::BTreeMap;
use std::fmt::Write;
use std::net::IpAddr;
use text::Estate;

const PORTS: [u16; 8] = [22, 53, 80, 443, 3389, 8080, 8443, 9000];
/// Packets sent in each estate, in each of its variants.
const PROBES: usize = 150;
const VARIANTS: u64 = 3;

fn main() {
    let arguments: Vec<String> = std::env::args().skip(1).collect();
    if arguments.first().is_some_and(|word| word == "agent") {
        agent::run(&arguments[1..]);
        return;
    }
    if arguments.iter().any(|word| word == "--list") {
        println!("estates_agree_with_the_kernel: test");
        return;
    }
    if !arguments.iter().any(|word| word == "--ignored" || word == "--include-ignored") {
        println!(
            "\nrunning 1 test\ntest estates_agree_with_the_kernel ... ignored, needs root, iptables and nft\n"
        );
        println!("test result: ok. 0 passed; 0 failed; 1 ignored");
        return;
    }
    if let Err(why) = build::possible() {
        // CI images may not allow namespaces; that has to be seen.
        println!("\n*** SKIPPED: estates were NOT held against the kernel: {why} ***\n");
        return;
    }
    let seed = std::env::var("TREVLIN_SEED").ok().and_then(|seed| seed.parse().ok()).unwrap_or(1);
    let only = std::env::var("TREVLIN_ESTATE").ok();
    let mut count = Count::default();
    for (name, text) in text::ESTATES {
        if only.as_ref().is_some_and(|only| !name.contains(only.as_str())) {
            continue;
        }
        for variant in 0..VARIANTS {
            let mut rng = Rng(seed * 1000 + variant * 77 + name.len() as u64);
            let estate = Estate { form: variant, ..Estate::parse(text, &mut rng) };
            let mut built = Built::new(&estate);
            count.estate(&format!("{name}, variant {variant}"), &estate, &mut built, &mut rng);
        }
    }
    count.finish();
}

/// A small generator of numbers, the same for a seed (xorshift).
pub(crate) struct Rng(u64);

impl Rng {
    pub(crate) fn below(&mut self, end: usize) -> usize {
        self.0 ^= (self.0 << 13) ^ 0x9e37_79b9;
        self.0 ^= self.0 >> 7;
        self.0 ^= self.0 << 17;
        (self.0 % end as u64) as usize
    }
}

/// A packet to send.
pub(crate) struct Probe {
    pub(crate) id: usize,
    /// The machine that sends it.
    pub(crate) from: usize,
    pub(crate) source: IpAddr,
    pub(crate) entering: Option<String>,
    pub(crate) destination: IpAddr,
    pub(crate) tcp: bool,
    pub(crate) source_port: u16,
    pub(crate) port: u16,
}

#[derive(Default)]
struct Count {
    estates: usize,
    probes: usize,
    delivered: usize,
    depends: usize,
    hops: BTreeMap<usize, usize>,
    wrong: Vec<String>,
}

impl Count {
    fn estate(&mut self, name: &str, estate: &Estate, built: &mut Built, rng: &mut Rng) {
        self.estates += 1;
        let folder = tempfile::tempdir().unwrap();
        built.export(estate, folder.path());
        let probes = probes(estate, rng);
        let arrived = built.send(&probes);
        let mut rows = String::from("from,entering,to,proto,port,sport\n");
        for probe in &probes {
            let protocol = if probe.tcp { "tcp" } else { "udp" };
            let entering = probe.entering.as_deref().unwrap_or_default();
            let Probe { source, destination, port, source_port, .. } = probe;
            writeln!(rows, "{source},{entering},{destination},{protocol},{port},{source_port}").unwrap();
        }
        let flows = folder.path().join("flows.csv");
        std::fs::write(&flows, rows).unwrap();
        let done = std::process::Command::new(env!("CARGO_BIN_EXE_trevlin"))
            .args(["reach", "--quiet", "--format", "json", "--flows"])
            .arg(&flows)
            .arg(folder.path().join("estate"))
            .output()
            .unwrap();
        assert!(done.status.success(), "{name}: {}", String::from_utf8_lossy(&done.stderr));
        let answers: Vec<serde_json::Value> = serde_json::from_slice(&done.stdout).unwrap();
        for (probe, answer) in probes.iter().zip(&answers) {
            self.compare(name, estate, probe, answer, arrived.get(&probe.id));
        }
    }

    fn compare(
        &mut self,
        name: &str,
        estate: &Estate,
        probe: &Probe,
        answer: &serde_json::Value,
        found: Option<&(IpAddr, u16)>,
    ) {
        self.probes += 1;
        let said = answer["delivered_to"]["address"].as_str().map(|address| {
            (address.parse().unwrap(), answer["delivered_to"]["port"].as_u64().unwrap() as u16)
        });
        let agrees = match answer["verdict"].as_str().unwrap() {
            "allowed" => {
                self.delivered += 1;
                found == said.as_ref()
            }
            "blocked" => found.is_none(),
            _ => {
                self.depends += 1;
                if std::env::var_os("TREVLIN_SHOW").is_some() {
                    println!(
                        "{name}: {:?} depends, kernel {found:?}: {}",
                        (probe.source, probe.destination, probe.tcp, probe.port),
                        answer["steps"]
                    );
                }
                true
            }
        };
        let steps = answer["steps"].as_array().unwrap();
        let mut devices: Vec<&str> = steps.iter().filter_map(|step| step["device"].as_str()).collect();
        devices.dedup();
        *self.hops.entry(devices.len()).or_default() += 1;
        if !agrees {
            let Probe { source, destination, port, source_port, tcp, entering, .. } = probe;
            let who = &estate.machines[probe.from].name;
            let told: Vec<String> = steps
                .iter()
                .map(|step| format!("    {}: {} ({})", step["device"], step["text"], step["excerpt"]))
                .collect();
            self.wrong.push(format!(
                "{name}: {who} {source}:{source_port} > {destination}:{port} tcp {tcp} by {entering:?}\n  \
                 said: {} {said:?}\n  kernel: {found:?}\n{}",
                answer["verdict"],
                told.join("\n")
            ));
        }
    }

    fn finish(self) {
        println!(
            "{} estates, {} probes, {} delivered, {} depend; devices on the way: {:?}",
            self.estates, self.probes, self.delivered, self.depends, self.hops
        );
        for one in self.wrong.iter().take(6) {
            println!("\n{one}");
        }
        assert!(self.wrong.is_empty(), "{} of {} probes disagree", self.wrong.len(), self.probes);
        assert!(
            self.delivered * 8 > self.probes && self.depends * 50 < self.probes,
            "the estates are lopsided"
        );
        println!(
            "test estates_agree_with_the_kernel ... ok\n\ntest result: ok. 1 passed; 0 failed; 0 ignored"
        );
    }
}

/// Packets from every machine to addresses of every other.
fn probes(estate: &Estate, rng: &mut Rng) -> Vec<Probe> {
    let mut probes = Vec::new();
    for tries in 0..PROBES * 40 {
        if probes.len() == PROBES {
            break;
        }
        // Most come from hosts, and most from untrusted networks.
        let from = match rng.below(3) {
            0 => rng.below(estate.machines.len()),
            _ => {
                let hosts: Vec<usize> =
                    (0..estate.machines.len()).filter(|at| !estate.machines[*at].exported).collect();
                hosts[rng.below(hosts.len())]
            }
        };
        let sender = &estate.machines[from];
        let own = sender.addresses();
        let source = own[rng.below(own.len())];
        let to = &estate.machines[rng.below(estate.machines.len())];
        let aims = to.addresses();
        let destination = aims[rng.below(aims.len())];
        // A host with several addresses of one version sends from the requested one; a device from its first choice.
        let same_machine = own.contains(&destination);
        let twice = estate.machines.iter().filter(|one| one.addresses().contains(&source)).count() > 1;
        if source.is_ipv4() != destination.is_ipv4() || same_machine || twice {
            continue;
        }
        let id = probes.len() + 1;
        let source_port = 20_000 + (tries % 40_000) as u16;
        let entering = sender.enters.clone();
        let (tcp, port) = (rng.below(3) != 0, PORTS[rng.below(PORTS.len())]);
        probes.push(Probe { id, from, source, entering, destination, tcp, source_port, port });
    }
    probes
}
