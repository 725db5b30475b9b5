//! Named lists of rules for what enters or leaves an interface, as routers have them.

use super::names::Names;
use super::rule::{Action, OrderedRule, Word, end, made_of};
use super::rule_base::Ordered;
use crate::making::{base, by_interface, holds, known, open, plain, rule, table};
use std::collections::BTreeMap;
use trevlin_model::{
    Chain, ChainKind, Facts, Filter, Hook, MatchKind, Origin, PortRange, Protocol, Rule, Target,
};

/// Services look at their clients after the filters do.
const SERVICES: i32 = 10;

/// A service of the device, where it answers.
pub(super) struct Served {
    name: String,
    protocol: Protocol,
    port: u16,
}

/// The services that lists may limit.
pub(super) fn places(facts: &Facts) -> Vec<Served> {
    let made = |name: &str, protocol, port| Served { name: name.to_owned(), protocol, port };
    let mut found = Vec::new();
    for one in &facts.served {
        found.extend(one.endpoints.iter().map(|place| made(&one.name, place.protocol, place.port)));
    }
    for one in &facts.ssh_servers {
        let connection = trevlin_model::ssh::SshConnection::default();
        found.push(made("SSH", Protocol::TCP, one.port(&connection)));
    }
    for one in &facts.tunnels {
        let ports = one.listeners.iter().filter_map(|place| Some((place.protocol, *place.port.value()?)));
        found.extend(ports.map(|(protocol, port)| made(&one.name, protocol, port)));
    }
    found
}

/// The lists, each a chain, and where they are attached.
pub(super) fn table_of(ordered: &Ordered, places: &[Served], names: &mut Names<'_>) -> Option<Filter> {
    let mut by_list: BTreeMap<&str, Vec<&OrderedRule>> = BTreeMap::new();
    for one in ordered.rules.iter().filter(|one| !one.off) {
        if let Some((name, _)) = &one.list {
            by_list.entry(name.as_str()).or_default().push(one);
        }
    }
    let first = ordered.lists.iter().map(|one| one.origin);
    let first = first.chain(by_list.values().map(|rules| rules[0].origin)).min()?;
    let usual = ordered.list.as_ref();
    let (mut arriving, mut leaving, mut at_services) = (Vec::new(), Vec::new(), Vec::new());
    let mut chains = Vec::new();
    for one in ordered.lists.iter().filter(|one| !one.off) {
        let rules = by_list.remove(one.name.as_str()).unwrap_or_default();
        let attached = !(one.entering.is_empty() && one.leaving.is_empty() && one.services.is_empty());
        let mut chain = chain_of(&one.name, &rules, names, one.origin);
        // Its names are used all the same.
        if !attached && !one.used_for.is_empty() {
            continue;
        }
        let replies = one.replies.or_else(|| usual.and_then(|list| list.replies));
        let mut of_replies = vec![known()];
        if replies.is_none() && attached {
            of_replies.push(open("it is not stated whether replies pass the lists without a rule"));
        }
        if replies != Some(false) {
            chain.rules.insert(0, rule(of_replies, Target::Accept, one.origin));
        }
        if one.partly {
            let name = format!("a part of the list {} is not known", one.name);
            chain.rules.insert(0, rule(Vec::new(), Target::NotAnalysed { name, ends: true }, one.origin));
        }
        closed(&mut chain, one.end.or_else(|| usual.and_then(|list| list.lists_end)), one.origin);
        chains.push(chain);
        let mut attach = |words: &[Word], entering: bool, to: &mut Vec<Rule>| {
            for word in words {
                let by = names.interfaces(&[word], entering);
                to.push(rule(by, Target::Jump(one.name.clone()), word.1));
            }
        };
        attach(&one.entering, true, &mut arriving);
        attach(&one.leaving, false, &mut leaving);
        for service in &one.services {
            let own = |place: &&Served| place.name.eq_ignore_ascii_case(&service.0);
            let mut known = false;
            for place in places.iter().filter(own) {
                known = true;
                let matches = vec![
                    holds(MatchKind::Protocol(place.protocol)),
                    holds(MatchKind::DestinationPorts(vec![PortRange {
                        first: place.port,
                        last: place.port,
                    }])),
                ];
                at_services.push(rule(matches, Target::Jump(one.name.clone()), service.1));
            }
            if !known {
                let all: Vec<&str> = places.iter().map(|place| place.name.as_str()).collect();
                let hint = super::take::nearest(&service.0, &all);
                names.note(service.1, format!("`{}` is not a service of the device; {hint}", service.0));
            }
        }
    }
    // Lists that are attached nowhere.
    for (name, rules) in by_list {
        let mut chain = chain_of(name, &rules, names, rules[0].origin);
        closed(&mut chain, usual.and_then(|list| list.lists_end), rules[0].origin);
        chains.push(chain);
    }
    let mut all = Vec::from(by_interface(arriving, leaving, first));
    if !at_services.is_empty() {
        all.push(base("services", (Hook::Input, SERVICES), ChainKind::Filter, at_services, first));
    }
    all.extend(chains);
    Some(table("access lists", all, first))
}

fn chain_of(name: &str, rules: &[&OrderedRule], names: &mut Names<'_>, origin: Origin) -> Chain {
    let made = rules.iter().map(|one| {
        let from: Vec<&Word> = one.from.iter().collect();
        let to: Vec<&Word> = one.to.iter().collect();
        let mut matches = names.interfaces(&from, true);
        matches.extend(names.interfaces(&to, false));
        matches.extend(names.conditions(one));
        made_of(one, matches)
    });
    plain(name, made.collect(), origin)
}

/// The action behind the last rule, unless that takes every packet that is left.
fn closed(chain: &mut Chain, action: Option<(Action, Origin)>, origin: Origin) {
    let takes_all = |last: &Rule| {
        last.matches.is_empty() && matches!(last.target, Target::Accept | Target::Drop | Target::Reject)
    };
    if chain.rules.last().is_some_and(takes_all) {
        return;
    }
    end(chain, action, origin);
    // A chain that jumps reach has no policy of its own.
    if let (Some(policy), Some((_, at))) = (chain.policy.take(), action) {
        chain.rules.push(rule(Vec::new(), policy, at));
        chain.origin = origin;
    }
}

/// Conditions on the destination as they were before it was translated.
pub(super) fn as_on_arrival(kind: &MatchKind) -> MatchKind {
    match kind {
        MatchKind::Destination(all) => MatchKind::OriginalDestination(all.clone()),
        MatchKind::DestinationPorts(all) => MatchKind::OriginalDestinationPorts(all.clone()),
        MatchKind::AnyOf(lists) => {
            let one = |one: &trevlin_model::Match| trevlin_model::Match {
                negated: one.negated,
                kind: as_on_arrival(&one.kind),
            };
            MatchKind::AnyOf(lists.iter().map(|list| list.iter().map(one).collect()).collect())
        }
        other => other.clone(),
    }
}
