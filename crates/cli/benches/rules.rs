//! Growth of the rule review with the list: `cargo bench --bench rules`. Lists are generated from a seed and imitate real ones: nested
//! prefixes, common ports, objects that many rules share, chains by interface, a default deny. Each size runs in a process of its own, so
//! that its peak memory can be measured.

#![allow(
    clippy::unwrap_used,
    clippy::print_stdout,
    clippy::disallowed_methods,
    reason = "a benchmark measures and prints"
)]

use std::fmt::Write;
use std::time::Instant;
use trevlin_audit::tables::rules;
use trevlin_audit::{Analyses, Estate, Input, ValidEstateFile};
use trevlin_model::{Export, ExportId};
use trevlin_packets::review::RuleStatus;
use trevlin_readers::{ReadContext, recognise};

const SIZES: [usize; 5] = [1_000, 3_000, 10_000, 30_000, 100_000];

/// Numbers from a seed.
struct Rng(u64);

impl Rng {
    fn below(&mut self, end: usize) -> usize {
        self.0 ^= self.0 << 13;
        self.0 ^= self.0 >> 7;
        self.0 ^= self.0 << 17;
        (self.0.wrapping_mul(0x2545_f491_4f6c_dd1d) >> 33) as usize % end
    }
}

/// A network of the organisation: a site, a network of it, a part of that, a host.
fn network(rng: &mut Rng) -> String {
    let (site, net, host) = (rng.below(60), rng.below(40), rng.below(250) + 1);
    match rng.below(10) {
        0 => format!("10.{site}.0.0/16"),
        1..=3 => format!("10.{site}.{net}.0/24"),
        4 => format!("10.{site}.{net}.{}/28", host & 0xf0),
        5 => format!("198.51.100.{host}"),
        _ => format!("10.{site}.{net}.{host}"),
    }
}

const PORTS: [&str; 16] = [
    "22", "25", "53", "80", "123", "161", "389", "443", "445", "514", "1433", "3306", "3389", "5432", "8080",
    "8443",
];

const ZONES: [&str; 6] = ["eth1", "eth2", "eth3", "eth4", "wg0", "tun0"];

fn port(rng: &mut Rng) -> String {
    match rng.below(12) {
        0 => {
            let first = 1024 + rng.below(200) * 100;
            format!("{first}:{}", first + 99)
        }
        1 => format!("{}", 1024 + rng.below(8000)),
        _ => PORTS[rng.below(PORTS.len())].to_owned(),
    }
}

fn iptables(count: usize) -> String {
    let mut rng = Rng(0x5eed_5eed);
    let mut text = String::from("*filter\n:INPUT DROP [0:0]\n:FORWARD DROP [0:0]\n:OUTPUT ACCEPT [0:0]\n");
    for zone in ZONES {
        writeln!(text, ":from-{zone} - [0:0]").unwrap();
    }
    text.push_str("-A FORWARD -m conntrack --ctstate RELATED,ESTABLISHED -j ACCEPT\n-A FORWARD -m conntrack --ctstate INVALID -j DROP\n");
    for zone in ZONES {
        writeln!(text, "-A FORWARD -i {zone} -j from-{zone}").unwrap();
    }
    text.push_str("-A FORWARD -j DROP\n");
    for _ in 0..count {
        let zone = ZONES[rng.below(ZONES.len())];
        let protocol = if rng.below(5) == 0 { "udp" } else { "tcp" };
        let target = if rng.below(6) == 0 { "DROP" } else { "ACCEPT" };
        let (source, destination, port) = (network(&mut rng), network(&mut rng), port(&mut rng));
        let service = match rng.below(8) {
            0 => String::new(),
            1 => format!(" -p {protocol}"),
            2 => {
                let more = PORTS[rng.below(PORTS.len())];
                format!(" -p {protocol} -m multiport --dports {port},{more}")
            }
            _ => format!(" -p {protocol} -m {protocol} --dport {port}"),
        };
        writeln!(text, "-A from-{zone} -s {source} -d {destination}{service} -j {target}").unwrap();
    }
    text.push_str("COMMIT\n");
    text
}

fn nftables(count: usize) -> String {
    let mut rng = Rng(0x5eed_5eed);
    let mut text = String::from("table inet filter {\n");
    // Objects that many rules share.
    let objects = (count / 50).clamp(10, 400);
    for object in 0..objects {
        let entries: Vec<String> = (0..2 + rng.below(8)).map(|_| network(&mut rng)).collect();
        writeln!(
            text,
            "set o{object} {{\ntype ipv4_addr\nflags interval\nauto-merge\nelements = {{ {} }}\n}}",
            entries.join(", ")
        )
        .unwrap();
    }
    text.push_str("chain forward {\ntype filter hook forward priority filter; policy drop;\nct state vmap { established : accept, related : accept, invalid : drop }\n");
    for zone in ZONES {
        writeln!(text, "iifname \"{zone}\" jump from-{zone}").unwrap();
    }
    text.push_str("}\n");
    let mut chains = vec![String::new(); ZONES.len()];
    for _ in 0..count {
        let chain = rng.below(ZONES.len());
        let protocol = if rng.below(5) == 0 { "udp" } else { "tcp" };
        let target = if rng.below(6) == 0 { "drop" } else { "accept" };
        let side = |rng: &mut Rng| {
            if rng.below(3) == 0 { format!("@o{}", rng.below(objects)) } else { network(rng) }
        };
        let (source, destination, port) = (side(&mut rng), side(&mut rng), port(&mut rng).replace(':', "-"));
        let service = match rng.below(8) {
            0 => String::new(),
            1 => format!(" meta l4proto {protocol}"),
            _ => format!(" {protocol} dport {port}"),
        };
        writeln!(chains[chain], "ip saddr {source} ip daddr {destination}{service} {target}").unwrap();
    }
    for (zone, rules) in ZONES.iter().zip(chains) {
        write!(text, "chain from-{zone} {{\n{rules}}}\n").unwrap();
    }
    text.push_str("}\n");
    text
}

fn one(format: &str, count: usize) {
    let (name, text) = match format {
        "iptables" => ("d/iptables-save.txt", iptables(count)),
        _ => ("d/nft.txt", nftables(count)),
    };
    let export = Export::new(ExportId(0), name, text);
    let begun = Instant::now();
    let reader = recognise(&export).reader.unwrap();
    let reading = (reader.read)(&export, &ReadContext::default());
    let read = begun.elapsed();
    assert_eq!(reading.ledger.notes.len(), 0, "{:?}", reading.ledger.notes.first());
    let input = Input {
        export,
        folder: "d".into(),
        format: Some(reader.name),
        facts: reading.facts,
        ledger: reading.ledger,
    };
    let estate = Analyses::of(Estate::assemble(vec![input], &ValidEstateFile::default()));
    let begun = Instant::now();
    let found = estate.filter_reviews(0);
    let review = begun.elapsed();
    let statuses = found.iter().flat_map(|one| one.rules.values()).map(|(one, _)| &one.status);
    let (mut dead, mut unsure, mut all) = (0, 0, 0);
    for status in statuses {
        all += 1;
        dead += usize::from(matches!(status, RuleStatus::Covered { .. }));
        unsure += usize::from(matches!(status, RuleStatus::NotDecided | RuleStatus::TooCostly));
    }
    let begun = Instant::now();
    let sheet = rules::sheet(&estate, &[], jiff::civil::date(2026, 11, 25));
    let rows = begun.elapsed();
    assert!(sheet.filters.iter().map(|one| one.summary.rules).sum::<usize>() >= count);
    let status = std::fs::read_to_string("/proc/self/status").unwrap_or_default();
    let peak = status.lines().find_map(|line| line.strip_prefix("VmHWM:")).unwrap_or("").trim().to_owned();
    println!(
        "{format:<9} {all:>7} rules  read {:>6} ms  review {:>7} ms  rows {:>6} ms  {dead:>6} never met  {unsure} not decided  peak {peak}",
        read.as_millis(),
        review.as_millis(),
        rows.as_millis()
    );
}

fn main() {
    let arguments: Vec<String> = std::env::args().skip(1).filter(|word| !word.starts_with("--")).collect();
    if let [format, count] = arguments.as_slice() {
        one(format, count.parse().unwrap());
        return;
    }
    for format in ["iptables", "nftables"] {
        for count in SIZES {
            let me = std::env::current_exe().unwrap();
            let done = std::process::Command::new(me).args([format, &count.to_string()]).status().unwrap();
            assert!(done.success());
        }
    }
}
