//! Verdicts compared with the kernel: a gateway between four networks, in network namespaces, with rule lists loaded by the real
//! `iptables-restore` and `nft`. Real TCP and UDP packets are sent near the borders of the rules, and arrivals must match the engine's
//! result, which is computed from the dumps of the gateway's own programs.
//!
//! Run by `scripts/conformance.sh`; needs root. Without `--ignored` nothing is done, as for other tests of that kind.

#![allow(
    clippy::unwrap_used,
    clippy::print_stdout,
    clippy::disallowed_methods,
    reason = "a test with a main of its own: it panics where something is wrong, prints, and has an agent that waits"
)]

mod agent;
mod agents;
mod lists;
mod net;
mod zones;

use lists::{Kind, RuleList};
use net::{Net, Probe};
use std::collections::BTreeMap;
use std::net::IpAddr;
use trevlin_model::{ChainKind, Export, ExportId, ExportState, Facts, Family, Filter};
use trevlin_packets::Space;
use trevlin_packets::diagram::Diagrams;
use trevlin_packets::outcomes::outcomes;
use trevlin_packets::way::{Flow, Host, Verdict, Walker};
use trevlin_readers::{ReadContext, Reading, recognise};

fn main() {
    let arguments: Vec<String> = std::env::args().skip(1).collect();
    if arguments.first().is_some_and(|word| word == "agent") {
        agent::run(&arguments[1..]);
        return;
    }
    if arguments.iter().any(|word| word == "--list") {
        println!("verdicts_agree_with_the_kernel: test");
        return;
    }
    if !arguments.iter().any(|word| word == "--ignored" || word == "--include-ignored") {
        println!(
            "\nrunning 1 test\ntest verdicts_agree_with_the_kernel ... ignored, needs root, iptables and nft\n"
        );
        println!("test result: ok. 0 passed; 0 failed; 1 ignored");
        return;
    }
    if let Err(why) = Net::possible() {
        // CI images may not allow namespaces; that has to be seen.
        println!("\n*** SKIPPED: verdicts were NOT held against the kernel: {why} ***\n");
        return;
    }
    let seeds = std::env::var("TREVLIN_SEED").ok().and_then(|seed| seed.parse().ok());
    let mut lists = lists::all(seeds.unwrap_or(1));
    println!("\nrunning {} rule lists against the kernel", lists.len());
    let mut net = Net::new();
    let mut count = Count::default();
    for (number, list) in lists.iter_mut().enumerate() {
        count.list(&mut net, number, list);
    }
    for (v6, list) in lists::translatable(seeds.unwrap_or(1)) {
        count.same_translated(&net, v6, &list);
    }
    match zones::compare(&net) {
        Some((chains, wrong)) => {
            println!("{chains} chains of zones and policies held against firewalld");
            count.wrong.extend(wrong);
        }
        None => {
            println!("\n*** SKIPPED: zones were NOT held against firewalld: it could not be started ***\n")
        }
    }
    count.finish(lists.len());
}

/// Totals of all probes.
#[derive(Default)]
struct Count {
    probes: usize,
    depends: usize,
    residual_probes: usize,
    residual_depends: usize,
    delivered: usize,
    wrong: Vec<String>,
    forms: usize,
    translated: usize,
}

fn read(name: &str, text: &str) -> Reading {
    let export = Export::new(ExportId(0), name, text.into());
    let reader = recognise(&export).reader.unwrap_or_else(|| panic!("{name} is recognised:\n{text}"));
    let reading = (reader.read)(&export, &ReadContext::default());
    let notes: Vec<_> = reading.ledger.notes.iter().map(|note| note.text.as_str()).collect();
    assert!(notes.is_empty(), "{name}: {notes:?}\n{text}");
    reading
}

impl Count {
    fn list(&mut self, net: &mut Net, number: usize, list: &mut RuleList) {
        net.load(list);
        let mut facts = Facts::default();
        for (name, text) in net.dumps(list.kind) {
            facts.absorb(*read(&name, &text).facts);
        }
        let mut tables: Vec<&Filter> = facts.filters.iter().collect();
        if list.kind == Kind::Nft {
            self.same_in_both_forms(number, list, &tables);
            tables.retain(|table| table.state == ExportState::Running);
            tables.truncate(tables.len() / 2);
        }
        let host = Host {
            lacks: Vec::new(),
            every_address: false,
            tables,
            interfaces: &facts.interfaces,
            routes: &facts.routes,
            implied_routes: Vec::new(),
            forwards: [Some((true, None)), Some((true, None))],
            source_checks: Vec::new(),
            clients: Vec::new(),
        };
        let walker = Walker::new(host);
        let probes = net.probes(number, list.seed);
        let arrived = net.send(&probes);
        for probe in &probes {
            self.probe(&walker, number, list, probe, &arrived);
        }
    }

    /// `nft list ruleset` and its JSON are equivalent.
    fn same_in_both_forms(&mut self, number: usize, list: &RuleList, tables: &[&Filter]) {
        let (text, json) = tables.split_at(tables.len() / 2);
        let same = text.len() == json.len() && text.iter().zip(json).all(|(a, b)| a.says_the_same(b));
        self.forms += 1;
        if !same {
            self.wrong
                .push(format!("list {number}: text and JSON differ\n{}\n{text:#?}\n{json:#?}", list.text()));
        }
    }

    /// A list and what `iptables-restore-translate` makes of it have the same sets.
    fn same_translated(&mut self, net: &Net, v6: bool, list: &str) {
        let family = if v6 { Family::V6 } else { Family::V4 };
        let text = net.translated(v6, list);
        let ours = read(if v6 { "rules.v6" } else { "rules.v4" }, list).facts;
        let facts = read("translated.nft", &text).facts;
        for table in &ours.filters {
            let theirs = facts.filters.iter().find(|one| one.table == table.table);
            let theirs = theirs.unwrap_or_else(|| panic!("{} is translated:\n{text}", table.table));
            let space = Space::new(family, &[table, theirs], &[]);
            for chain in table.chains.iter().filter(|chain| chain.kind == ChainKind::Filter) {
                let Some(hook) = chain.hook else { continue };
                let twin =
                    theirs.chains.iter().find(|one| one.hook == Some(hook)).expect("the chain is translated");
                let mut sets = Diagrams::new(&space.greatest(), 2_000_000);
                let one = outcomes(&space, table, chain, &mut sets).unwrap();
                let two = outcomes(&space, theirs, twin, &mut sets).unwrap();
                self.translated += 1;
                if one != two {
                    self.wrong.push(format!(
                        "chain {} of table {} is not what its translation is\n{list}\n{text}",
                        chain.name, table.table
                    ));
                }
            }
        }
    }

    fn probe(
        &mut self,
        walker: &Walker<'_>,
        number: usize,
        list: &RuleList,
        probe: &Probe,
        arrived: &BTreeMap<usize, (IpAddr, u16)>,
    ) {
        let flow = Flow {
            entering: probe.entering,
            source: probe.source,
            destination: probe.destination,
            protocol: if probe.tcp { 6 } else { 17 },
            source_port: probe.source_port,
            port: probe.port,
        };
        let answer = walker.ask(&flow);
        // An answer that need not come back through the gate is another matter.
        if answer.delivered.as_ref().is_some_and(|one| one.leaving.as_deref() == Some(probe.entering)) {
            return;
        }
        let found = arrived.get(&probe.id);
        self.probes += 1;
        if list.residual {
            self.residual_probes += 1;
        }
        let agrees = match answer.verdict {
            Verdict::Depends => {
                self.depends += usize::from(!list.residual);
                self.residual_depends += usize::from(list.residual);
                true
            }
            Verdict::Blocked => found.is_none(),
            Verdict::Allowed => {
                self.delivered += 1;
                found == answer.delivered.as_ref().map(|one| (one.address, one.port)).as_ref()
            }
        };
        if !agrees {
            let steps: Vec<_> = answer.steps.iter().map(|step| step.kind.to_string()).collect();
            self.wrong.push(format!(
                "list {number}: {flow:?}\n  engine: {:?} {:?} {steps:?}\n  kernel: {found:?}\n{}",
                answer.verdict,
                answer.delivered,
                list.text()
            ));
        }
    }

    fn finish(self, lists: usize) {
        let (probes, residual) = (self.probes, self.residual_probes);
        println!(
            "{lists} lists ({} read in two forms, {} chains held against their translation), {probes} probes, {} delivered; depends: {} of {} outside the residual lists, \
             {} of {residual} in them",
            self.forms,
            self.translated,
            self.delivered,
            self.depends,
            probes - residual,
            self.residual_depends
        );
        for one in self.wrong.iter().skip(3) {
            println!("{}", one.lines().take(3).collect::<Vec<_>>().join("\n"));
        }
        for one in self.wrong.iter().take(1) {
            println!("\n{one}");
        }
        assert!(self.wrong.is_empty(), "{} of {probes} probes disagree", self.wrong.len());
        assert!(lists >= 60 && probes > 50 * lists, "too few lists or probes");
        assert!(self.delivered * 10 > probes && self.delivered * 10 < 9 * probes, "the lists are lopsided");
        assert!(self.depends * 50 < probes - residual, "too much hangs on what is not modelled");
        println!(
            "test verdicts_agree_with_the_kernel ... ok\n\ntest result: ok. 1 passed; 0 failed; 0 ignored"
        );
    }
}
