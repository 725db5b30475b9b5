//! A packet's way through the base chains of a hook.

use super::packet::Packet;
use super::step::StepKind;
use super::{DEPTH, End, Ended, MOST_WAYS, TRACKED, TRANSLATED, Verdict, Way};
use crate::cube::{Field, state};
use crate::program::{Ending, base_chains, blocks_others, ending};
use crate::space::Holds;
use crate::trace::Of;
use trevlin_model::{Chain, ChainKind, Filter, Hook, Match, Residual, ResidualKind, Rule, Target};

impl<'a> Way<'a> {
    /// The part of a packet set that leaves a hook; paths that end there are added to the others.
    pub(super) fn hook(&self, hook: Hook, packet: Packet, ends: &mut Vec<Ended>) -> Vec<Packet> {
        let mut packets = vec![packet];
        for (filter, chain) in base_chains(&self.host.tables, self.family, hook) {
            let mut next: Vec<Packet> = Vec::new();
            for packet in packets {
                let translates = chain.kind == ChainKind::Nat;
                if translates && !self.may_translate(hook, &packet) {
                    next.push(packet);
                    continue;
                }
                self.base_chain(filter, chain, hook, packet, &mut next, ends);
            }
            // Ways that became one again are followed once.
            let mut kept: Vec<Packet> = Vec::new();
            for one in next {
                match kept.iter_mut().find(|known| known.is_like(&one)) {
                    Some(known) => known.doubt_as(&one),
                    None => kept.push(one),
                }
            }
            if kept.len() + ends.len() > MOST_WAYS {
                let mut one = kept.swap_remove(0);
                one.doubt(StepKind::TooManyWays, None);
                ends.push(one.ended(Verdict::Depends, None));
                return Vec::new();
            }
            packets = kept;
        }
        packets
    }

    /// Chains for translation see only the first packet of a connection, and only until one of them translated it.
    fn may_translate(&self, hook: Hook, packet: &Packet) -> bool {
        let destination = matches!(hook, Hook::Prerouting | Hook::Output);
        packet.at(Field::State) == state::NEW && !packet.is_settled(destination)
    }

    fn base_chain(
        &self,
        filter: &'a Filter,
        chain: &'a Chain,
        hook: Hook,
        packet: Packet,
        next: &mut Vec<Packet>,
        ends: &mut Vec<Ended>,
    ) {
        let [destination, port] = [Field::Destination, Field::DestinationPort].map(|one| packet.known(one));
        let state_before = packet.at(Field::State);
        let mut asked = packet;
        // Packets of a known connection are translated like its first packet, at the place of translation.
        let wire = asked.wire.filter(|_| {
            state_before != state::NEW && hook == Hook::Prerouting && chain.priority < TRANSLATED
        });
        if let Some([address, port]) = wire {
            asked.put(Field::Destination, address);
            asked.put(Field::DestinationPort, port);
        }
        if chain.priority < TRACKED && state_before != state::UNTRACKED {
            // A packet that is not known to belong to a connection yet counts as of none.
            asked.set(Field::State, state::INVALID);
        }
        let mut found: Vec<(End<'a>, Packet)> = Vec::new();
        if let Some(mut back) = self.chain(filter, chain, asked, 0, &mut found) {
            let policy = chain.policy.as_ref().and_then(ending).unwrap_or(Ending::Accept);
            // That a chain without a say lets everything pass is not worth a line.
            if policy != Ending::Accept || (chain.kind == ChainKind::Filter && chain.priority == 0) {
                back.note(StepKind::Policy(chain.name.clone(), policy), Some(chain.origin));
            }
            found.push((End::Policy, back));
        }
        for (end, mut one) in found {
            if wire.is_some() {
                one.put(Field::Destination, destination);
                one.put(Field::DestinationPort, port);
            }
            if one.at(Field::State) == state::INVALID && chain.priority < TRACKED {
                one.set(Field::State, state_before);
            }
            let ending = match end {
                End::Policy => chain.policy.as_ref().and_then(ending).unwrap_or(Ending::Accept),
                End::Of(ending) => ending,
                End::Translated(translation, origin) => {
                    next.extend(self.translate(one, translation, origin, hook));
                    continue;
                }
            };
            match ending {
                Ending::Accept => next.push(one),
                Ending::Drop | Ending::Reject => ends.push(one.ended(Verdict::Blocked, None)),
                Ending::NotAnalysed => ends.push(one.ended(Verdict::Depends, None)),
            }
        }
    }

    /// Whether a rule's conditions hold for a packet.
    fn all_hold(&self, rule: &Rule, packet: &Packet) -> Holds {
        let Some(trace) = self.trace else {
            return self.space.all_hold(&rule.matches, &packet.point);
        };
        let of = |field: Field| packet.of(field);
        let (holds, because) =
            self.space.all_hold_because(&rule.matches, &packet.point, &|field| of(field) != Of::Fixed);
        for reason in &because {
            if reason.inside {
                trace.narrow(of(reason.field), &reason.held);
            } else {
                trace.leave_out(of(reason.field), &reason.held);
            }
        }
        holds
    }

    /// A packet's way through a chain. Gives it back where it may come to the end of the chain.
    fn chain(
        &self,
        filter: &'a Filter,
        chain: &'a Chain,
        mut packet: Packet,
        depth: usize,
        found: &mut Vec<(End<'a>, Packet)>,
    ) -> Option<Packet> {
        // Where a rule may have sent it back, with what it had met until then.
        let mut returned: Option<Packet> = None;
        for rule in &chain.rules {
            let mut holds = self.all_hold(rule, &packet);
            if holds == Holds::No || (holds == Holds::Perhaps && blocks_others(filter, rule)) {
                continue;
            }
            if holds == Holds::Perhaps
                && let Some(limit) = admitting(rule)
                && self.all_hold(&limit.rule, &packet) == Holds::Yes
            {
                // Some connections meet the limit, and are accepted.
                packet.note(StepKind::Admitted { limit: limit.words, users: limit.users }, Some(rule.origin));
                holds = Holds::Yes;
            }
            if holds == Holds::Yes {
                match self.target(filter, chain, rule, packet, depth, found) {
                    Went::On(one) | Went::Returned(one) => packet = one,
                    Went::Ended => return returned,
                    Went::Back(back) => return returned.or(Some(back)),
                }
                continue;
            }
            packet.doubt(StepKind::RuleUnknown(chain.name.clone()), Some(rule.origin));
            if let Went::Back(back) = self.target(filter, chain, rule, packet.clone(), depth, found) {
                returned = returned.or(Some(back));
            }
        }
        returned.or(Some(packet))
    }

    fn target(
        &self,
        filter: &'a Filter,
        chain: &Chain,
        rule: &'a Rule,
        mut packet: Packet,
        depth: usize,
        found: &mut Vec<(End<'a>, Packet)>,
    ) -> Went {
        if let Some(line) = rule.looked_up_at {
            let name = chain.name.clone();
            let same = line.export == rule.origin.export;
            packet.note(if same { StepKind::LookedUp(name) } else { StepKind::Included(name) }, Some(line));
        }
        match (&rule.target, ending(&rule.target)) {
            (Target::Translate(_), _) | (_, None) => {}
            (Target::NotAnalysed { name, .. }, _) => {
                packet.doubt(StepKind::TargetUnknown(name.clone()), Some(rule.origin));
            }
            (_, Some(ending)) => {
                packet.note(StepKind::Ruled(chain.name.clone(), ending), Some(rule.origin));
            }
        }
        if let Target::Translate(translation) = &rule.target {
            found.push((End::Translated(translation, rule.origin), packet));
            return Went::Ended;
        }
        if let Some(ending) = ending(&rule.target) {
            end(found, ending, packet);
            return Went::Ended;
        }
        match &rule.target {
            Target::Return => Went::Back(packet),
            Target::Jump(name) | Target::Goto(name) => {
                let Some(next) = filter.chain(name).filter(|_| depth < DEPTH) else {
                    packet.doubt(StepKind::ChainMissing(name.clone()), Some(rule.origin));
                    end(found, Ending::NotAnalysed, packet);
                    return Went::Ended;
                };
                let told = packet.trail.len();
                let always = rule.is_generated_jump();
                let jumps = StepKind::Jumps { chain: chain.name.clone(), to: name.clone(), always };
                packet.note(jumps, Some(rule.origin));
                match self.chain(filter, next, packet, depth + 1, found) {
                    None => Went::Ended,
                    Some(mut back) => {
                        // A chain that did not decide has no part in the answer.
                        back.trail.truncate(told);
                        if matches!(rule.target, Target::Goto(_)) {
                            Went::Back(back)
                        } else {
                            Went::Returned(back)
                        }
                    }
                }
            }
            Target::NotAnalysed { name, .. } if name == "NOTRACK" => {
                packet.set(Field::State, state::UNTRACKED);
                Went::On(packet)
            }
            _ => Went::On(packet),
        }
    }
}

/// Ends a packet's path through a base chain. Equal ends at the same place are merged: a list of very many undetermined rules has as many
/// ends.
fn end(found: &mut Vec<(End<'_>, Packet)>, ending: Ending, packet: Packet) {
    let known = found
        .iter_mut()
        .find(|(end, known)| matches!(end, End::Of(known) if *known == ending) && known.is_like(&packet));
    match known {
        Some((_, known)) => known.doubt_as(&packet),
        None => found.push((End::Of(ending), packet)),
    }
}

/// An accepting rule for some users or after an inspection.
struct Admitting {
    /// The same without the limit.
    rule: Rule,
    /// The limit, as a phrase.
    words: String,
    /// Whether it names users.
    users: bool,
}

/// The limit of an accepting rule to some users or to inspected content, where it has one.
fn admitting(rule: &Rule) -> Option<Admitting> {
    if rule.target != Target::Accept {
        return None;
    }
    let limits: Vec<&Residual> = rule.matches.iter().filter_map(Match::limit).collect();
    (!limits.is_empty()).then(|| Admitting {
        rule: Rule {
            matches: rule.matches.iter().filter(|one| one.limit().is_none()).cloned().collect(),
            ..rule.clone()
        },
        words: limits.iter().map(|one| one.text.as_str()).collect::<Vec<_>>().join(", and "),
        users: limits.iter().any(|one| one.kind == ResidualKind::Users),
    })
}

/// Where a rule sent a packet.
enum Went {
    /// On to the next rule, perhaps changed.
    On(Packet),
    /// Its way through the base chain ended.
    Ended,
    /// To the end of this chain.
    Back(Packet),
    /// Into another chain and back, with doubts it may have met there.
    Returned(Packet),
}
