//! The chains that the firewall loads, put together from zones and rules.

use super::{Compiler, Verdict, Zone};
use crate::making::{base, holds, known, plain, rule, translated};
use crate::uci::text::Section;
use trevlin_model::{
    Chain, ChainKind, ConnectionStates, Family, Hook, IpRange, Match, MatchKind, Origin, Rule, Target,
    Translation, TranslationKind,
};

impl Compiler<'_, '_> {
    pub(super) fn chains(&mut self, first: Origin) -> Vec<Chain> {
        let defaults = self.defaults.map_or(first, Section::whole);
        let drops_invalid = self.defaults.and_then(|section| section.is_on("drop_invalid")) == Some(true);
        let mut chains = Vec::new();
        for (name, hook) in [("input", Hook::Input), ("forward", Hook::Forward), ("output", Hook::Output)] {
            let (verdict, origin) = match self.defaults {
                Some(section) => self.policy(section, name),
                None => (Verdict::Drop, first),
            };
            let mut rules = Vec::new();
            match hook {
                Hook::Input => {
                    rules.push(rule(vec![holds(MatchKind::Entering("lo".into()))], Target::Accept, defaults))
                }
                Hook::Output => {
                    rules.push(rule(vec![holds(MatchKind::Leaving("lo".into()))], Target::Accept, defaults))
                }
                _ => {}
            }
            rules.push(rule(vec![known()], Target::Accept, defaults));
            if drops_invalid {
                let invalid = ConnectionStates { invalid: true, ..ConnectionStates::default() };
                rules.push(rule(vec![holds(MatchKind::States(invalid))], Target::Drop, defaults));
            }
            rules.extend(self.rules.remove(name).unwrap_or_default());
            for zone in &self.zones {
                let ends = if hook == Hook::Output { &zone.to } else { &zone.from };
                for end in ends {
                    rules.push(rule(
                        end.clone(),
                        Target::Jump(format!("{name}_{}", zone.name)),
                        zone.section.whole(),
                    ));
                }
            }
            // A policy of a chain cannot answer, so the last rule does.
            if verdict == Verdict::Reject {
                rules.push(rule(Vec::new(), Verdict::Reject.target(), origin));
            }
            let policy = if verdict == Verdict::Accept { Target::Accept } else { Target::Drop };
            chains.push(Chain {
                policy: Some(policy),
                ..base(name, (hook, 0), ChainKind::Filter, rules, origin)
            });
        }
        let zones = std::mem::take(&mut self.zones);
        for zone in &zones {
            self.zone_chains(zone, &mut chains);
        }
        self.translations(&zones, first, &mut chains);
        // The firewall always has this chain; where nothing is rejected, nothing is to be said of it.
        let rejects = |rule: &Rule| rule.target == Verdict::Reject.target();
        if chains.iter().flat_map(|chain| &chain.rules).any(rejects) {
            let reject = rule(Vec::new(), Target::Reject, defaults);
            chains.push(plain("handle_reject", vec![reject], defaults));
        }
        chains
    }

    pub(super) fn zone_chains(&mut self, zone: &Zone<'_>, chains: &mut Vec<Chain>) {
        let (name, whole) = (zone.name, zone.section.whole());
        let redirected = || zone.redirects.then(|| rule(vec![translated()], Target::Accept, whole));
        for (chain, (verdict, origin), side) in
            [("input", zone.input, "from"), ("output", zone.output, "to"), ("forward", zone.forward, "to")]
        {
            let own = format!("{chain}_{name}");
            let mut rules = self.rules.remove(&own).unwrap_or_default();
            if chain != "output" {
                rules.extend(redirected());
            }
            rules.push(rule(Vec::new(), Target::Jump(format!("{}_{side}_{name}", verdict.word())), origin));
            chains.push(plain(own, rules, whole));
        }
        let judged = |ends: &[Vec<Match>], verdict: Verdict, origin: Origin| -> Vec<Rule> {
            let one = |end: &Vec<Match>| Rule {
                logs: zone.logs && verdict != Verdict::Accept,
                ..rule(end.clone(), verdict.target(), origin)
            };
            ends.iter().map(one).collect()
        };
        let (verdict, origin) = zone.input;
        chains.push(plain(
            format!("{}_from_{name}", verdict.word()),
            judged(&zone.from, verdict, origin),
            origin,
        ));
        for verdict in &zone.wanted {
            let mut rules = Vec::new();
            if *verdict == Verdict::Accept
                && (zone.masks.is_some() || zone.masks_v6.is_some())
                && zone.section.is_on("masq_allow_invalid") != Some(true)
            {
                let invalid = ConnectionStates { invalid: true, ..ConnectionStates::default() };
                for end in &zone.to {
                    let mut matches = end.clone();
                    if zone.masks_v6.is_none() {
                        matches.push(holds(MatchKind::Version(Family::V4)));
                    }
                    matches.push(holds(MatchKind::States(invalid)));
                    rules.push(rule(matches, Target::Drop, whole));
                }
            }
            rules.extend(judged(&zone.to, *verdict, whole));
            chains.push(plain(format!("{}_to_{name}", verdict.word()), rules, whole));
        }
    }

    pub(super) fn translations(&mut self, zones: &[Zone<'_>], first: Origin, chains: &mut Vec<Chain>) {
        let mut arrival = self.rules.remove("dstnat").unwrap_or_default();
        let mut departure = self.rules.remove("srcnat").unwrap_or_default();
        let mut own = Vec::new();
        for zone in zones {
            let whole = zone.section.whole();
            let redirects = self.rules.remove(&format!("dstnat_{}", zone.name)).unwrap_or_default();
            if !redirects.is_empty() {
                let to = format!("dstnat_{}", zone.name);
                arrival
                    .extend(zone.from.iter().map(|end| rule(end.clone(), Target::Jump(to.clone()), whole)));
                own.push(plain(to, redirects, whole));
            }
            let mut hides = self.rules.remove(&format!("srcnat_{}", zone.name)).unwrap_or_default();
            for (on, family) in [(zone.masks, Family::V4), (zone.masks_v6, Family::V6)] {
                let Some(origin) = on else { continue };
                let mut matches = vec![holds(MatchKind::Version(family))];
                for (option, make) in [
                    ("masq_src", MatchKind::Source as fn(Vec<IpRange>) -> MatchKind),
                    ("masq_dest", MatchKind::Destination),
                ] {
                    matches.extend(self.addresses(zone.section, option, make).unwrap_or_default());
                }
                hides.push(rule(
                    matches,
                    Target::Translate(Translation::of(TranslationKind::Masquerade)),
                    origin,
                ));
            }
            if !hides.is_empty() {
                let to = format!("srcnat_{}", zone.name);
                departure
                    .extend(zone.to.iter().map(|end| rule(end.clone(), Target::Jump(to.clone()), whole)));
                own.push(plain(to, hides, whole));
            }
        }
        chains.push(base("dstnat", (Hook::Prerouting, -100), ChainKind::Nat, arrival, first));
        chains.push(base("srcnat", (Hook::Postrouting, 100), ChainKind::Nat, departure, first));
        chains.extend(own);
    }
}
