//! Handling of new connections that no rule matches: default accept, whether by policy, by a last rule or by a chain that is jumped to.

use crate::cube::{Cube, Field, NOBODY, Ranges, Value, common, other_ranges, ranges, state};
use crate::program::{Action, Ending, Program, Step, base_chains};
use crate::space::{NO_INTERFACE, Space, number};
use std::net::IpAddr;
use trevlin_model::{
    Chain, ChainKind, Family, Filter, FilterFormat, Hook, Interface, InterfaceAddress, IpRange, MatchKind,
    Origin, Protocol,
};

/// Where the packets are going.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Way {
    /// To the device itself.
    ToDevice,
    /// Forwarded traffic.
    Through,
}

/// First packets of connections: entering by this interface, with this protocol, from any address, to any port or one, and without any
/// property that a rule matches specifically.
#[derive(Debug, Clone, Copy)]
pub struct DefaultTraffic<'a> {
    /// Where they are going.
    pub way: Way,
    /// Interface they enter by.
    pub entering: &'a str,
    /// IP version.
    pub family: Family,
    /// Transport protocol.
    pub protocol: Protocol,
    /// Destination port; every port where none is given.
    pub port: Option<u16>,
    /// Addresses of the device that they may be sent to; empty where not known.
    pub own_addresses: &'a [IpAddr],
}

/// Handling.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum DefaultAction {
    /// Accepted.
    Accepted,
    /// Dropped or rejected.
    Blocked,
    /// A condition that is not analysed decides.
    Depends,
}

/// The answer, with the lines that decided: jumps first, the deciding rule or policy last.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Verdict {
    /// Handling.
    pub outcome: DefaultAction,
    /// The deciding lines. Empty where there is no chain.
    pub decided_by: Vec<Origin>,
}

/// Handling of the traffic by the tables of its IP version, in the kernel's order: per hook by priority; a drop is final, an accept ends
/// its own chain only. Translation is not followed.
#[must_use]
pub fn action_of_default(tables: &[&Filter], traffic: &DefaultTraffic<'_>) -> Verdict {
    let hooks: &[Hook] = match traffic.way {
        Way::ToDevice => &[Hook::Prerouting, Hook::Input],
        Way::Through => &[Hook::Prerouting, Hook::Forward, Hook::Postrouting],
    };
    let tables: Vec<&Filter> =
        tables.iter().copied().filter(|table| table.families.has(traffic.family)).collect();
    let mut last = Verdict { outcome: DefaultAction::Accepted, decided_by: Vec::new() };
    let Some(line) = tables.first().map(|table| table.origin) else { return last };
    let class = Class::of(&tables, traffic, line);
    for hook in hooks {
        let chains = base_chains(&tables, traffic.family, *hook);
        for (filter, chain) in chains.into_iter().filter(|(_, chain)| chain.kind != ChainKind::Nat) {
            let verdict = class.base_chain(filter, chain, *hook);
            match verdict.outcome {
                DefaultAction::Blocked => return verdict,
                DefaultAction::Depends => last = verdict,
                // The chain that filters is the one to point at where everything accepts.
                DefaultAction::Accepted
                    if last.outcome == DefaultAction::Accepted
                        && (!matches!(hook, Hook::Prerouting | Hook::Postrouting)
                            || filter.format == FilterFormat::Ordered)
                        && (chain.priority == 0 || last.decided_by.is_empty()) =>
                {
                    last = verdict;
                }
                DefaultAction::Accepted => {}
            }
        }
    }
    last
}

/// Packets of the class, field by field.
struct Class {
    space: Space,
    entering: Ranges,
    protocol: Value,
    port: Option<Value>,
    destination: Ranges,
    way: Way,
}

/// A port range that excludes at most one in this number of ports counts as all ports.
const PORTS_IN_ONE: Value = 64;

impl Class {
    /// `line` is the interface for IPv6 link-local addresses.
    fn of(tables: &[&Filter], traffic: &DefaultTraffic<'_>, line: Origin) -> Self {
        let family = traffic.family;
        let of_family = traffic.own_addresses.iter().copied().filter(|one| Family::of(*one) == family);
        let mut own: Vec<IpAddr> = of_family.collect();
        // Where its addresses are not known, one that no rule names stands for them.
        if own.is_empty() {
            own.extend(unnamed(tables, family));
        }
        let addresses = own.iter().map(|address| InterfaceAddress {
            net: (*address).into(),
            peer: None,
            dynamic: false,
            origin: line,
        });
        let interface = Interface {
            name: traffic.entering.to_owned(),
            addresses: addresses.collect(),
            up: None,
            asks: None,
            loopback: false,
            point_to_point: false,
            origin: line,
        };
        let space = Space::new(family, tables, &[interface]);
        let own = ranges(own.iter().map(|one| (number(*one), number(*one))).collect());
        let destination = match traffic.way {
            Way::ToDevice => own,
            Way::Through => other_ranges(&own, space.last_address()),
        };
        let entering = space.interface(traffic.entering);
        let protocol = traffic.protocol.0.map_or(0, Value::from);
        Self {
            space,
            entering: ranges(vec![(entering, entering)]),
            protocol,
            port: traffic.port.map(Value::from),
            destination,
            way: traffic.way,
        }
    }

    fn base_chain(&self, filter: &Filter, chain: &Chain, hook: Hook) -> Verdict {
        let program = Program::of(&self.space, filter, chain);
        let line = |step: &Step| {
            let id = step.rule?;
            let chain = filter.chains.get(id.chain as usize)?;
            chain.rules.get(id.rule as usize).map(|rule| rule.origin)
        };
        // Fates that a rule which may or may not hold for all would bring, and its line.
        let mut possible: Vec<(Option<DefaultAction>, Option<Origin>)> = Vec::new();
        // Jumps that lead here: where each chain ends, and the line of the jump.
        let mut jumps: Vec<(usize, Option<Origin>)> = Vec::new();
        // Until where a jump leads that may or may not be made.
        let mut doubtful: Option<usize> = None;
        let mut decided = None;
        let mut at = 0;
        while let Some(step) = program.steps.get(at) {
            let here = at;
            at += 1;
            doubtful = doubtful.filter(|end| here < *end);
            jumps.retain(|(end, _)| here < *end);
            if !self.is_covered(step, hook) || step.singles_out {
                // A chain that only some packets jump to does not concern default traffic.
                if let Action::Pass { .. } = step.action {
                    at = at.max(step.inner_end as usize);
                }
                continue;
            }
            let certain = step.own_exact;
            let open = doubtful.is_some() || !certain;
            match step.action {
                Action::Pass { .. } if step.inner_end as usize > at => {
                    jumps.push((step.inner_end as usize, line(step)));
                    if !certain && doubtful.is_none() {
                        doubtful = Some(step.inner_end as usize);
                    }
                }
                Action::Pass { .. } => {}
                Action::End(Ending::NotAnalysed) => possible.push((None, line(step))),
                Action::End(ending) if open => {
                    possible.push((Some(outcome(ending)), line(step)));
                    if certain && let Some(end) = doubtful {
                        at = end;
                    }
                }
                Action::End(ending) => {
                    let lines = jumps.iter().map(|(_, line)| *line).chain([line(step)]);
                    decided = Some((outcome(ending), lines.flatten().collect::<Vec<_>>()));
                    break;
                }
                Action::Skip(to) if certain => at = to as usize,
                // The rest of this chain may or may not be evaluated.
                Action::Skip(_) => possible.push((None, line(step))),
            }
        }
        let (outcome, decided_by) = decided.unwrap_or_else(|| {
            let blocks = matches!(program.policy, Ending::Drop | Ending::Reject);
            (if blocks { DefaultAction::Blocked } else { DefaultAction::Accepted }, vec![chain.origin])
        });
        match possible.into_iter().find(|(possible, _)| *possible != Some(outcome)) {
            Some((_, line)) => {
                Verdict { outcome: DefaultAction::Depends, decided_by: line.into_iter().collect() }
            }
            None => Verdict { outcome, decided_by },
        }
    }

    /// Whether a step holds for the whole class, but for what rules single out.
    fn is_covered(&self, step: &Step, hook: Hook) -> bool {
        step.region.cubes.iter().any(|cube| self.is_in(cube, hook))
    }

    fn is_in(&self, cube: &Cube, hook: Hook) -> bool {
        cube.sides().all(|(field, held)| {
            let whole = || ranges(vec![(0, self.space.greatest_of(field))]);
            let most = |class: &Ranges, of: Value| size(&common(class, held)) > size(class) / of * (of - 1);
            let value = |one: Value| crate::cube::holds(held, one);
            match field {
                Field::Entering if matches!(hook, Hook::Output) => value(NO_INTERFACE),
                Field::Entering => common(&self.entering, held) == self.entering,
                // By an interface that nothing names.
                Field::Leaving => match self.way {
                    Way::Through if !matches!(hook, Hook::Prerouting) => {
                        value(self.space.greatest_of(Field::Leaving))
                    }
                    _ => value(NO_INTERFACE),
                },
                Field::Protocol => value(self.protocol),
                Field::Destination if self.way == Way::ToDevice => {
                    common(&self.destination, held) == self.destination
                }
                Field::Destination => most(&self.destination, 2),
                Field::Source | Field::OriginalDestination => most(&whole(), 2),
                Field::DestinationPort | Field::OriginalDestinationPort if self.port.is_some() => {
                    self.port.is_some_and(value)
                }
                Field::DestinationPort | Field::SourcePort | Field::OriginalDestinationPort => {
                    most(&whole(), PORTS_IN_ONE)
                }
                // The first packet of a connection, from another host, unencrypted (RFC 9293, 3.5).
                Field::TcpFlags => value(if self.protocol == 6 { 0b10 } else { 0 }),
                Field::State => value(state::NEW),
                Field::User | Field::Group => value(NOBODY),
                Field::Icmp
                | Field::SourceTranslated
                | Field::DestinationTranslated
                | Field::Reply
                | Field::IpsecIn
                | Field::IpsecOut => value(0),
            }
        })
    }
}

fn outcome(ending: Ending) -> DefaultAction {
    match ending {
        Ending::Accept => DefaultAction::Accepted,
        Ending::Drop | Ending::Reject => DefaultAction::Blocked,
        Ending::NotAnalysed => DefaultAction::Depends,
    }
}

fn size(all: &Ranges) -> Value {
    all.iter().fold(0, |sum: Value, (first, last)| sum.saturating_add((last - first).saturating_add(1)))
}

/// An address that no rule names.
fn unnamed(tables: &[&Filter], family: Family) -> Option<IpAddr> {
    let rules = tables.iter().flat_map(|table| &table.chains).flat_map(|chain| &chain.rules);
    let mut named: Vec<IpRange> = Vec::new();
    for one in rules.flat_map(|rule| &rule.matches) {
        if let MatchKind::Destination(all) | MatchKind::OriginalDestination(all) = &one.kind {
            named.extend(all.iter().filter(|range| range.size() < IpRange::all(family).size() / 2));
        }
    }
    let candidates = (1u8..=250).map(|last| match family {
        Family::V4 => IpAddr::from([203, 0, 113, last]),
        Family::V6 => IpAddr::from([0x2001, 0xdb8, 0xffff, 0, 0, 0, 0, u16::from(last)]),
    });
    let mut candidates = candidates.peekable();
    let first = candidates.peek().copied();
    candidates.find(|one| !named.iter().any(|range| range.contains(*one))).or(first)
}
