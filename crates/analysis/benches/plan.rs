//! The address plan of large estates: the sweep alone, and everything from facts to overlaps.

use std::net::Ipv4Addr;
use trevlin_analysis::addresses::sweep::overlaps;
use trevlin_analysis::context::Analyses;
use trevlin_estate::assemble::{Estate, Input};
use trevlin_estate::config::ValidEstateFile;
use trevlin_model::dhcp::{DhcpServer, DhcpSubnet, Reservation};
use trevlin_model::{Export, ExportId, Facts, IpRange, Ledger, Origin};

fn main() {
    divan::main();
}

/// Numbers that look random and are the same in every run (xorshift).
struct Dice(u64);

impl Dice {
    fn roll(&mut self, sides: u32) -> u32 {
        self.0 ^= self.0 << 13;
        self.0 ^= self.0 >> 7;
        self.0 ^= self.0 << 17;
        (self.0 % u64::from(sides)) as u32
    }
}

fn range(first: u32, size: u32) -> IpRange {
    IpRange::new(Ipv4Addr::from_bits(first).into(), Ipv4Addr::from_bits(first + size - 1).into())
        .unwrap_or_else(|_| IpRange::from(std::net::IpAddr::from(Ipv4Addr::from_bits(first))))
}

/// A network for every hundred claims, a range in each, the rest single addresses; some of them where others are.
fn allocations(count: u32) -> Vec<(IpRange, usize)> {
    let mut dice = Dice(0x5eed);
    let base = Ipv4Addr::new(10, 0, 0, 0).to_bits();
    (0..count)
        .map(|at| {
            let network = base + (at / 100) * 256;
            match at % 100 {
                0 => (range(network, 256), 0),
                1 => (range(network + 100, 80), 1),
                _ => (range(network + dice.roll(256), 1), 2),
            }
        })
        .collect()
}

#[divan::bench(args = [10_000, 100_000, 1_000_000], sample_count = 5)]
fn sweep(bencher: divan::Bencher<'_, '_>, count: u32) {
    let allocations = allocations(count);
    // Ranges against each other and against single addresses.
    let interest = [[false, true, false], [true, true, true], [false, true, false]];
    bencher.bench(|| {
        let mut found = 0u32;
        overlaps(&allocations, interest, |_, _, _| found += 1);
        found
    });
}

/// Devices that serve one network each, with a hundred allocations, for a given total number of allocations.
fn estate(count: u32) -> Analyses {
    let mut dice = Dice(0x5eed);
    let base = Ipv4Addr::new(10, 0, 0, 0).to_bits();
    let inputs = (0..count / 100).map(|at| {
        let network = base + at * 256;
        let origin = Origin { export: ExportId(at), start: 0, end: 0 };
        let mut server = DhcpServer::new("dnsmasq", "lan.conf", origin);
        let mut subnet = DhcpSubnet::new(None, origin);
        subnet.ranges.push((range(network + 100, 80), origin));
        server.subnets.push(subnet);
        server.reservations = (0..99)
            .map(|_| Reservation {
                who: "a client".into(),
                address: range(network + dice.roll(256), 1),
                origin,
            })
            .collect();
        Input {
            export: Export::new(ExportId(at), format!("d{at}/lan.conf"), "x\n".into()),
            folder: format!("d{at}"),
            format: Some("dnsmasq"),
            facts: Box::new(Facts { dhcp_servers: vec![server], ..Facts::default() }),
            ledger: Ledger::new(1),
        }
    });
    Analyses::of(Estate::assemble(inputs.collect(), &ValidEstateFile::default()))
}

#[divan::bench(args = [10_000, 100_000, 1_000_000], sample_count = 5)]
fn whole_plan(bencher: divan::Bencher<'_, '_>, count: u32) {
    bencher.with_inputs(|| estate(count)).bench_values(|estate| estate.plan().allocations.len());
}
