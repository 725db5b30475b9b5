//! Rules in the form that appliances show: one ordered list, between zones, with named addresses and services, and with forwards and
//! translations. They become tables of chains as in a native filter.

use super::lists::{Served, as_on_arrival};
use super::names::Names;
use super::rule::{Action, OrderedRule, Word, commented, end, made_of};
use super::rule_base::{Forwarding, Ordered, RuleList, Sees};
use super::sees::{Forwarded, about_arrival, forwarded};
use crate::making::{base, holds, known, open, rule, table, translated};
use rayon::prelude::*;
use std::collections::{BTreeMap, BTreeSet};
use trevlin_model::housekeeping::{ProtectionKind, SwitchedOff};
use trevlin_model::{
    AddressKind, ChainKind, Filter, Hook, Match, MatchKind, Note, Rule, Target, Translation, TranslationKind,
    Tunnel,
};

/// The zone of the device itself.
const DEVICE: &str = "device";

impl Ordered {
    /// A tunnel that the rule base names is an interface to it: the tunnel has that interface, unless another is stated.
    pub(crate) fn enter_by_tunnels(&mut self, tunnels: &mut [Tunnel]) {
        // There may be hundreds of thousands of rules.
        if tunnels.is_empty() {
            return;
        }
        let zones: BTreeSet<String> = self.zones.iter().map(|zone| zone.name.clone()).collect();
        let of_rules = self.rules.iter_mut().flat_map(|rule| rule.from.iter_mut().chain(&mut rule.to));
        let of_lists = self.lists.iter_mut().flat_map(|one| one.entering.iter_mut().chain(&mut one.leaving));
        let of_forwards = self.forwards.iter_mut().flat_map(|one| &mut one.from);
        let of_translations = self.translations.iter_mut().flat_map(|one| &mut one.to);
        let names = of_rules
            .chain(of_lists)
            .chain(of_forwards)
            .chain(of_translations)
            .filter(|(name, _)| !zones.contains(name.as_str()));
        let of_zones = self.zones.iter_mut().flat_map(|zone| &mut zone.interfaces);
        let mut by_name: BTreeMap<String, &mut Tunnel> =
            tunnels.iter_mut().map(|tunnel| (tunnel.name.to_ascii_lowercase(), tunnel)).collect();
        for (name, _) in names.chain(of_zones) {
            if let Some(tunnel) = by_name.get_mut(&name.to_ascii_lowercase()) {
                *name = tunnel.interface.get_or_insert_with(|| tunnel.name.clone()).as_str().into();
            }
        }
    }

    /// The tables of the rule base; undefined names are noted. `interfaces` are those of the device; `by_hand` whether names of services
    /// that are not defined have their usual meaning, as where an auditor wrote them. `places`: services that lists may limit.
    pub(crate) fn tables(
        &self,
        interfaces: &[&str],
        places: &[Served],
        by_hand: bool,
        notes: &mut Vec<Note>,
    ) -> Vec<Filter> {
        let mut names = Names::of(&self.zones, &self.address_names, &self.service_names, interfaces, by_hand);
        let mut tables = Vec::new();
        let has_lists = !self.lists.is_empty() || self.rules.iter().any(|rule| rule.list.is_some());
        let in_base = self.rules.iter().any(|rule| rule.list.is_none());
        // Where rules are in lists, interfaces without one have no rules.
        let states_default = self
            .list
            .as_ref()
            .is_some_and(|list| list.through.is_some() || list.to_device.is_some() || list.off || !has_lists);
        if in_base || states_default {
            tables.extend(self.filter(&mut names));
        }
        if has_lists {
            tables.extend(super::lists::table_of(self, places, &mut names));
        }
        if self.forwards.iter().any(|one| !one.off) || self.translations.iter().any(|one| !one.off) {
            tables.extend(self.translations(&mut names));
        }
        let (sets, found) = names.finish();
        notes.extend(found);
        if let Some(first) = tables.first_mut() {
            first.sets = sets;
        }
        tables
    }

    /// The rule base or its denying rules, where they are switched off.
    pub(crate) fn switched_off(&self) -> Vec<SwitchedOff> {
        let whole = self.list.iter().filter(|list| list.off).filter_map(|list| {
            let name = "rules".to_owned();
            Some(SwitchedOff {
                kind: ProtectionKind::Filter,
                name,
                within: None,
                note: list.note.clone(),
                origin: list.origin?,
            })
        });
        let denies = |rule: &&OrderedRule| rule.off && matches!(rule.action, Action::Deny | Action::Refuse);
        let rules = self.rules.iter().filter(denies).map(|rule| SwitchedOff {
            kind: ProtectionKind::DenyRule,
            name: rule.name.clone().unwrap_or_else(|| "without a name".to_owned()),
            within: None,
            note: rule.note.clone(),
            origin: rule.origin,
        });
        whole.chain(rules).collect()
    }

    fn filter(&self, names: &mut Names<'_>) -> Option<Filter> {
        let usual = RuleList::default();
        let list = self.list.as_ref().unwrap_or(&usual);
        let origin = list.origin.or_else(|| self.rules.first().map(|rule| rule.origin))?;
        let mut through =
            base("through the device", (Hook::Forward, 0), ChainKind::Filter, Vec::new(), origin);
        let mut inward = base("to the device", (Hook::Input, 0), ChainKind::Filter, Vec::new(), origin);
        let mut outward = base("from the device", (Hook::Output, 0), ChainKind::Filter, Vec::new(), origin);
        if list.replies == Some(true) {
            for chain in [&mut through, &mut inward, &mut outward] {
                chain.rules.push(rule(vec![known()], Target::Accept, origin));
            }
        }
        for forward in self.forwards.iter().filter(|one| !one.off) {
            through.rules.extend(passing(forward, forward.passes.or(list.forwards_pass), names));
        }
        // There may be hundreds of thousands.
        let on: Vec<&OrderedRule> = self.rules.iter().filter(|one| !one.off && one.list.is_none()).collect();
        let forwarded = forwarded(&self.forwards);
        let part = |rules: &[&OrderedRule]| {
            let (through, inward, outward) = (Vec::new(), Vec::new(), Vec::new());
            let mut part = Placed {
                list,
                sees: list.sees,
                forwarded: &forwarded,
                names: names.apart(),
                through,
                inward,
                outward,
            };
            rules.iter().for_each(|one| part.add(one));
            part
        };
        let parts: Vec<Placed<'_, '_>> = on.par_chunks(RULES).map(part).collect();
        for part in parts {
            through.rules.extend(part.through);
            inward.rules.extend(part.inward);
            outward.rules.extend(part.outward);
            names.join(part.names);
        }
        if list.off {
            for chain in [&mut through, &mut inward, &mut outward] {
                chain.rules.clear();
            }
            end(&mut through, Some((Action::Allow, origin)), origin);
            end(&mut inward, Some((Action::Allow, origin)), origin);
            return Some(table("rules", vec![inward, through], origin));
        }
        end(&mut through, list.through, origin);
        end(&mut inward, list.to_device, origin);
        let mut chains = vec![inward, through];
        if outward.rules.iter().any(|rule| rule.origin != origin || list.replies != Some(true)) {
            chains.push(outward);
        }
        Some(table("rules", chains, origin))
    }

    fn translations(&self, names: &mut Names<'_>) -> Option<Filter> {
        let first = self
            .forwards
            .iter()
            .map(|one| one.origin)
            .chain(self.translations.iter().map(|one| one.origin))
            .min()?;
        let mut arrival = base("on arrival", (Hook::Prerouting, -100), ChainKind::Nat, Vec::new(), first);
        let mut departure = base("on departure", (Hook::Postrouting, 100), ChainKind::Nat, Vec::new(), first);
        for one in self.forwards.iter().filter(|one| !one.off) {
            let Some(to) = names.target(&one.to) else { continue };
            let mut matches = names.interfaces(&one.from.iter().collect::<Vec<_>>(), true);
            matches.extend(names.addresses(&one.sources, &MatchKind::Source, false));
            if one.addresses.is_empty() {
                matches
                    .push(holds(MatchKind::AddressIs { destination: true, kinds: vec![AddressKind::Local] }));
            }
            matches.extend(names.addresses(&one.addresses, &MatchKind::Destination, false));
            matches.extend(names.services(&one.services));
            let how = Translation {
                addresses: Some(to),
                ports: one.to_port,
                ..Translation::of(TranslationKind::Destination)
            };
            let mut made = rule(matches, Target::Translate(how), one.origin);
            made.comment = commented(one.name.as_ref(), one.note.as_ref());
            arrival.rules.push(made);
        }
        for one in self.translations.iter().filter(|one| !one.off) {
            let mut matches = names.interfaces(&one.to.iter().collect::<Vec<_>>(), false);
            matches.extend(names.addresses(&one.sources, &MatchKind::Source, false));
            matches.extend(names.addresses(&one.destinations, &MatchKind::Destination, false));
            let target = match one.address {
                _ if one.unread => {
                    Target::NotAnalysed { name: "a translation that was not understood".into(), ends: true }
                }
                // What is accepted here is not translated by a later one.
                _ if one.exempt => Target::Accept,
                Some(address) => Target::Translate(Translation {
                    addresses: Some(address),
                    ..Translation::of(TranslationKind::Source)
                }),
                None => Target::Translate(Translation::of(TranslationKind::Masquerade)),
            };
            let mut made = rule(matches, target, one.origin);
            made.comment = commented(one.name.as_ref(), one.note.as_ref());
            departure.rules.push(made);
        }
        Some(table("translations", vec![arrival, departure], first))
    }
}

/// How many rules are placed in their chains by one thread.
const RULES: usize = 4096;

/// Rules by the chains that they belong to.
struct Placed<'l, 'a> {
    list: &'l RuleList,
    sees: Option<Sees>,
    forwarded: &'l [Forwarded],
    names: Names<'a>,
    through: Vec<Rule>,
    inward: Vec<Rule>,
    outward: Vec<Rule>,
}

impl Placed<'_, '_> {
    fn add(&mut self, one: &OrderedRule) {
        if one.action == Action::Unread {
            // It may have been about anything.
            let made = rule(self.names.conditions(one), one.action.target(), one.origin);
            self.through.push(made.clone());
            self.inward.push(made);
            return;
        }
        let (from_device, from): (Vec<&Word>, Vec<&Word>) =
            one.from.iter().partition(|word| word.0 == DEVICE);
        let (to_device, to): (Vec<&Word>, Vec<&Word>) = one.to.iter().partition(|word| word.0 == DEVICE);
        let stated = self.names.conditions(one);
        // What is for the device itself is not translated.
        let on_arrival = |one: &Match| Match { negated: one.negated, kind: as_on_arrival(&one.kind) };
        let before: Vec<Match> = stated.iter().map(on_arrival).collect();
        let common = if self.sees == Some(Sees::Before) { &before } else { &stated };
        let made = |more: Vec<Match>| made_of(one, more.into_iter().chain(common.iter().cloned()).collect());
        let own = |more: Vec<Match>| made_of(one, more.into_iter().chain(stated.iter().cloned()).collect());
        if !from_device.is_empty() {
            self.outward.push(own(self.names.interfaces(&to, false)));
        }
        if from.is_empty() && !one.from.is_empty() {
            return;
        }
        let entering = self.names.interfaces(&from, true);
        if !to_device.is_empty() {
            self.inward.push(own(entering.clone()));
        }
        if !to.is_empty() || one.to.is_empty() {
            let mut both = entering.clone();
            both.extend(self.names.interfaces(&to, false));
            if self.sees.is_none() && about_arrival(&stated, self.forwarded) {
                let unsaid = "it is not stated whether rules apply to addresses before or after translation";
                let mut other = both.clone();
                other.extend([translated(), open(unsaid)]);
                other.extend(before.iter().cloned());
                self.through.push(made_of(one, other));
            }
            self.through.push(made(both));
        }
        if one.to.is_empty() && self.list.meets_device != Some(false) {
            let mut conditions = entering;
            if self.list.meets_device.is_none() {
                let unsaid =
                    "it is not stated whether rules without a destination zone apply to the device itself";
                conditions.push(open(unsaid));
            }
            self.inward.push(own(conditions));
        }
    }
}

/// The rule that permits the traffic of a forward.
fn passing(forward: &Forwarding, passes: Option<bool>, names: &mut Names<'_>) -> Option<Rule> {
    if passes == Some(false) {
        return None;
    }
    let to = names.target(&forward.to)?;
    let mut matches = names.interfaces(&forward.from.iter().collect::<Vec<_>>(), true);
    matches.push(translated());
    matches.extend(names.addresses(&forward.sources, &MatchKind::Source, false));
    matches.push(holds(MatchKind::Destination(vec![to])));
    matches.extend(match forward.to_port {
        Some(ports) => names.services_at(&forward.services, ports),
        None => names.services(&forward.services),
    });
    if passes.is_none() {
        let unsaid = "it is not stated whether forwarded traffic passes without a rule of its own";
        matches.push(open(unsaid));
    }
    let mut made = rule(matches, Target::Accept, forward.origin);
    made.comment = commented(forward.name.as_ref(), forward.note.as_ref());
    Some(made)
}
