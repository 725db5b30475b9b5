//! The way of a new connection that no rule singles out.

use crate::conditions::{Holds, all};
use crate::program::base_chains;
use std::net::IpAddr;
use trevlin_model::{Chain, ChainKind, Family, Filter, Hook, Origin, Protocol, Rule, Target};

/// How deep jumps are followed; the kernel refuses loops, an export may hold one.
const DEPTH: usize = 64;

/// Where the packets are going.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Way {
    /// To the device itself.
    ToDevice,
    /// Through it, to somebody else.
    Through,
}

/// First packets of connections: entering here, with this protocol, from anywhere, to any port, and of no kind
/// that a rule singles out by address, port, or anything else that only part of them has.
#[derive(Debug, Clone, Copy)]
pub struct Rest<'a> {
    /// Where they are going.
    pub way: Way,
    /// Interface they enter by.
    pub entering: &'a str,
    /// IP version.
    pub family: Family,
    /// Transport protocol.
    pub protocol: Protocol,
    /// Addresses of the device that they may be sent to; empty where not known.
    pub own_addresses: &'a [IpAddr],
}

/// What becomes of them.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Fate {
    /// Let through.
    Accepted,
    /// Dropped or rejected.
    Blocked,
    /// A rule that is not modelled decides.
    Depends,
}

/// The answer, with the lines that decided: jumps first, the deciding rule or policy last.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Verdict {
    /// What becomes of them.
    pub fate: Fate,
    /// The lines. Empty where no chain is there to ask.
    pub decided_by: Vec<Origin>,
}

/// What becomes of the rest in the tables that judge its IP version, asked in the kernel's order: per hook by priority; a
/// block is final, an acceptance only ends its own chain. Translation is not followed.
#[must_use]
pub fn fate_of_rest(tables: &[&Filter], rest: &Rest<'_>) -> Verdict {
    let hooks: &[Hook] = match rest.way {
        Way::ToDevice => &[Hook::Prerouting, Hook::Input],
        Way::Through => &[Hook::Prerouting, Hook::Forward, Hook::Postrouting],
    };
    let mut last = Verdict { fate: Fate::Accepted, decided_by: Vec::new() };
    for hook in hooks {
        let chains = base_chains(tables, rest.family, *hook);
        for (filter, chain) in chains.into_iter().filter(|(_, chain)| chain.kind != ChainKind::Nat) {
            let verdict = base_chain(filter, chain, rest);
            match verdict.fate {
                Fate::Blocked => return verdict,
                Fate::Depends => last = verdict,
                // The chain that filters is the one to point at where everything accepts.
                Fate::Accepted
                    if last.fate == Fate::Accepted
                        && !matches!(hook, Hook::Prerouting | Hook::Postrouting)
                        && (chain.priority == 0 || last.decided_by.is_empty()) =>
                {
                    last = verdict;
                }
                Fate::Accepted => {}
            }
        }
    }
    last
}

/// Decisions seen on the way through one base chain.
#[derive(Default)]
struct Walk {
    /// Fates that a rule which may or may not hold for all would bring, and its line.
    possible: Vec<(Option<Fate>, Origin)>,
}

/// How a chain ended.
enum End {
    Decided(Fate, Vec<Origin>),
    Returned,
}

fn base_chain(filter: &Filter, chain: &Chain, rest: &Rest<'_>) -> Verdict {
    let mut walk = Walk::default();
    let (fate, decided_by) = match walk.chain(filter, chain, rest, 0) {
        End::Decided(fate, lines) => (fate, lines),
        End::Returned => {
            let blocks = matches!(chain.policy, Some(Target::Drop | Target::Reject));
            (if blocks { Fate::Blocked } else { Fate::Accepted }, vec![chain.origin])
        }
    };
    match walk.possible.into_iter().find(|(possible, _)| *possible != Some(fate)) {
        Some((_, line)) => Verdict { fate: Fate::Depends, decided_by: vec![line] },
        None => Verdict { fate, decided_by },
    }
}

impl Walk {
    fn chain(&mut self, filter: &Filter, chain: &Chain, rest: &Rest<'_>, depth: usize) -> End {
        for rule in &chain.rules {
            let holds = all(&rule.matches, rest);
            if matches!(holds, Holds::Never | Holds::Some) {
                continue;
            }
            let end = self.target(filter, rule, rest, depth);
            match (holds, end) {
                (Holds::Unknown, Some(End::Decided(fate, _))) => {
                    self.possible.push((Some(fate), rule.origin))
                }
                // A return that may or may not happen: what follows in this chain may or may not be asked.
                (Holds::Unknown, Some(End::Returned)) => self.possible.push((None, rule.origin)),
                (_, Some(end)) => return end,
                (_, None) => {}
            }
        }
        End::Returned
    }

    /// What a rule's target does; `None` where the walk goes on behind it.
    fn target(&mut self, filter: &Filter, rule: &Rule, rest: &Rest<'_>, depth: usize) -> Option<End> {
        let here = vec![rule.origin];
        match &rule.target {
            Target::Accept => Some(End::Decided(Fate::Accepted, here)),
            Target::Drop | Target::Reject => Some(End::Decided(Fate::Blocked, here)),
            Target::Return => Some(End::Returned),
            Target::Log
            | Target::Continue
            | Target::Translate(_)
            | Target::NotModelled { ends: false, .. } => None,
            Target::NotModelled { ends: true, .. } => {
                self.possible.push((None, rule.origin));
                None
            }
            Target::Jump(name) | Target::Goto(name) => {
                let Some(next) = filter.chain(name).filter(|_| depth < DEPTH) else {
                    self.possible.push((None, rule.origin));
                    return None;
                };
                match self.chain(filter, next, rest, depth + 1) {
                    End::Decided(fate, lines) => {
                        Some(End::Decided(fate, here.into_iter().chain(lines).collect()))
                    }
                    End::Returned if matches!(rule.target, Target::Goto(_)) => Some(End::Returned),
                    End::Returned => None,
                }
            }
        }
    }
}
