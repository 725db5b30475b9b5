//! The review of rules against a plain walk of every packet of a small world.

#![no_main]

#[path = "../../crates/packets/tests/small_world/mod.rs"]
mod small_world;

use std::net::IpAddr;
use trevlin_model::{
    Chain, ChainKind, ConnectionStates, ExportId, ExportState, Families, Filter, FilterFormat, Hook, IpRange,
    Match, MatchKind, Origin, PortRange, Protocol, Rule, Target,
};

const PLACE: Origin = Origin { export: ExportId(0), start: 0, end: 1 };

/// Choices out of bytes; zero once they have run out.
struct Choices<'a>(std::slice::Iter<'a, u8>);

impl Choices<'_> {
    fn of(&mut self, count: u8) -> u8 {
        self.0.next().copied().unwrap_or_default() % count
    }

    fn condition(&mut self, inner: bool) -> Match {
        let address = |base: [u8; 2], last| IpAddr::from([10, base[1], base[0], last]);
        let kind = match self.of(if inner { 7 } else { 6 }) {
            0 => MatchKind::Entering(["eth0", "eth1", "eth+"][usize::from(self.of(3))].into()),
            1 => {
                let (a, b) = (self.of(4), self.of(4));
                let range = IpRange::new(address([0, 0], a.min(b)), address([0, 0], a.max(b)));
                MatchKind::Source(vec![range.expect("in order")])
            }
            2 => MatchKind::Destination(vec![IpRange::from(address([0, 1], self.of(2)))]),
            3 => MatchKind::Protocol(if self.of(2) == 0 { Protocol::TCP } else { Protocol::UDP }),
            4 => {
                let count = 1 + self.of(2);
                let one = |port: u8| PortRange { first: port.into(), last: port.into() };
                MatchKind::DestinationPorts((0..count).map(|_| one(1 + self.of(3))).collect())
            }
            5 => {
                let new = self.of(2) == 0;
                MatchKind::States(ConnectionStates { new, established: !new, ..ConnectionStates::default() })
            }
            _ => {
                let lists = 1 + self.of(2);
                let list = |choices: &mut Self| {
                    let count = 1 + choices.of(2);
                    (0..count).map(|_| choices.condition(false)).collect()
                };
                MatchKind::AnyOf((0..lists).map(|_| list(self)).collect())
            }
        };
        Match { negated: self.of(5) == 0, kind }
    }

    fn rule(&mut self, later: &[&str]) -> Rule {
        let count = self.of(4);
        let matches = (0..count).map(|_| self.condition(true)).collect();
        let jump = |choices: &mut Self| later[usize::from(choices.of(later.len() as u8))].to_owned();
        let target = match self.of(if later.is_empty() { 6 } else { 8 }) {
            0 | 1 => Target::Accept,
            2 | 3 => Target::Drop,
            4 => Target::Return,
            5 => Target::Log,
            6 => Target::Jump(jump(self)),
            _ => Target::Goto(jump(self)),
        };
        let logs = target == Target::Log;
        Rule { matches, target, logs, comment: None, packets: None, origin: PLACE, looked_up_at: None }
    }

    fn chain(&mut self, name: &str, later: &[&str]) -> Chain {
        let hook = (name == "INPUT").then_some(Hook::Input);
        let policy = hook.map(|_| if self.of(2) == 0 { Target::Accept } else { Target::Drop });
        let count = self.of(8);
        let rules = (0..count).map(|_| self.rule(later)).collect();
        Chain { name: name.into(), hook, priority: 0, kind: ChainKind::Filter, policy, rules, origin: PLACE }
    }
}

libfuzzer_sys::fuzz_target!(|data: &[u8]| {
    let mut choices = Choices(data.iter());
    let chains =
        vec![choices.chain("INPUT", &["a", "b"]), choices.chain("a", &["b"]), choices.chain("b", &[])];
    let filter = Filter {
        families: Families::V4,
        format: FilterFormat::Iptables,
        table: "filter".into(),
        state: ExportState::Running,
        chains,
        sets: Vec::new(),
        complete: true,
        gaps_placed: false,
        additions: false,
        origin: PLACE,
    };
    if let Err(why) = small_world::check(&filter) {
        panic!("{why}\n{filter:#?}");
    }
});
