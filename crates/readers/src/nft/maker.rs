//! Makes rules of the model from statements, and keeps which sets they name.

use super::build::Table;
use super::expr::{Data, Expr, Pair, RuleText, Statement, Verdict};
use super::matches::{Held, Sets, addresses, among, conditions, ports};
use std::collections::BTreeMap;
use trevlin_model::{
    Family, IpRange, Match, MatchKind, NamedSet, Origin, Protocol, Residual, Rule, Target, Translation,
    TranslationKind,
};

/// Makes rules, and keeps which sets they name.
pub(super) struct Maker {
    sets: Sets,
    used: BTreeMap<String, Vec<Origin>>,
    filled: Vec<String>,
}

impl Maker {
    pub(super) fn new(table: &Table) -> Self {
        // The content of a set that rules fill is not in the file, whatever its flags.
        let statements =
            || table.chains.iter().flat_map(|(_, chain)| &chain.rules).flat_map(|rule| &rule.statements);
        let filled: Vec<String> = statements()
            .filter_map(|one| match one {
                Statement::Fills(name) => Some(name.clone()),
                _ => None,
            })
            .collect();
        let mut sets = Sets::new();
        for (name, set) in &table.sets {
            let mut held =
                Held { keys: Vec::new(), pairs: Vec::new(), dynamic: set.dynamic || filled.contains(name) };
            for element in &set.elements {
                match &element.data {
                    Some(data) => held.pairs.push((element.key.clone(), data.clone(), element.origin)),
                    None => held.keys.push(element.key.clone()),
                }
            }
            sets.insert(name.clone(), held);
        }
        Self { sets, used: BTreeMap::new(), filled }
    }

    fn name_sets(&mut self, expr: &Expr, origin: Origin) {
        match expr {
            Expr::Named(name) => self.used.entry(name.clone()).or_default().push(origin),
            Expr::Lookup(key, data) | Expr::And(key, data) => {
                self.name_sets(key, origin);
                self.name_sets(data, origin);
            }
            Expr::Set(all) | Expr::Concat(all) => all.iter().for_each(|one| self.name_sets(one, origin)),
            _ => {}
        }
    }

    pub(super) fn named_sets(&self, table: &Table) -> Vec<NamedSet> {
        let mut all: Vec<NamedSet> = Vec::new();
        for (name, set) in &table.sets {
            let Some(origin) = set.origin else { continue };
            all.push(NamedSet {
                name: name.clone(),
                filled_by_rules: set.dynamic || self.filled.contains(name),
                elements: set.elements.len(),
                ranges: set
                    .elements
                    .iter()
                    .filter_map(|one| Some((widest(&one.key)?, one.origin?)))
                    .collect(),
                present: true,
                used_at: self.used.get(name).cloned().unwrap_or_default(),
                origin,
            });
        }
        for (name, used_at) in &self.used {
            if !all.iter().any(|set| set.name == *name)
                && let Some(origin) = used_at.first().copied()
            {
                let used_at = used_at.clone();
                let name = name.clone();
                all.push(NamedSet {
                    name,
                    filled_by_rules: false,
                    elements: 0,
                    ranges: Vec::new(),
                    present: false,
                    used_at,
                    origin,
                });
            }
        }
        all
    }

    /// A rule as one or, where it maps values to verdicts, as one for each of them. A part that was not understood may have any effect.
    pub(super) fn rules(&mut self, text: &RuleText) -> Vec<Rule> {
        let mut rules = self.rules_of(text);
        if !text.whole {
            for rule in &mut rules {
                rule.target = Target::not_understood();
            }
        }
        rules
    }

    fn rules_of(&mut self, text: &RuleText) -> Vec<Rule> {
        let mut draft = Draft { matches: Vec::new(), logs: false, packets: None, target: Target::Continue };
        // The last one before what was not understood may have been longer.
        let taken = text.statements.len() - usize::from(!text.whole && !text.statements.is_empty());
        for statement in &text.statements[..taken] {
            match statement {
                Statement::Match(left, op, right) => {
                    self.name_sets(left, text.origin);
                    self.name_sets(right, text.origin);
                    draft.matches.extend(conditions(left, *op, right, &self.sets));
                }
                Statement::Perhaps(words) => {
                    draft.matches.push(Match {
                        negated: false,
                        kind: MatchKind::NotAnalysed(Residual::as_written(words.clone())),
                    });
                }
                Statement::Counter(packets) => draft.packets = *packets,
                Statement::Log => draft.logs = true,
                Statement::Marks(name) => {
                    draft.target = Target::NotAnalysed { name: name.clone(), ends: false }
                }
                Statement::Nothing | Statement::Comment(_) => {}
                Statement::Fills(name) => self.used.entry(name.clone()).or_default().push(text.origin),
                Statement::Verdict(verdict) => {
                    if let Some(target) = target(verdict) {
                        return vec![draft.rule(text, Vec::new(), target)];
                    }
                }
                Statement::Reject(with) => {
                    // An answer by one protocol is for packets of it, and the program leaves out the condition that says so.
                    let kind = match with.as_deref() {
                        Some("icmp") => Some(MatchKind::Version(Family::V4)),
                        Some("icmpv6") => Some(MatchKind::Version(Family::V6)),
                        Some("tcp") => Some(MatchKind::Protocol(Protocol::TCP)),
                        _ => None,
                    };
                    let more = kind.map(|kind| Match { negated: false, kind }).into_iter().collect();
                    return vec![draft.rule(text, more, Target::Reject)];
                }
                Statement::Takes(name) => {
                    let target = Target::NotAnalysed { name: name.clone(), ends: true };
                    return vec![draft.rule(text, Vec::new(), target)];
                }
                Statement::VerdictMap(key, data) => {
                    self.name_sets(data, text.origin);
                    return self.verdicts(&draft, text, key, data);
                }
                Statement::Translate { kind, address, port, prefix } => {
                    for part in address.iter().chain(port) {
                        self.name_sets(part, text.origin);
                    }
                    return self.translations(&draft, text, (kind, address.as_ref(), port.as_ref(), *prefix));
                }
            }
        }
        // Conditions alone do nothing: where one of them is not understood, the rest was lost with it.
        let conditions = text.statements.iter().all(|one| matches!(one, Statement::Match(..)));
        let open = draft.matches.iter().any(|one| matches!(one.kind, MatchKind::NotAnalysed(_)));
        if conditions && open && draft.target == Target::Continue {
            draft.target = Target::not_understood();
        }
        let target = std::mem::replace(&mut draft.target, Target::Continue);
        let logs_only = target == Target::Continue && draft.logs;
        vec![draft.rule(text, Vec::new(), if logs_only { Target::Log } else { target })]
    }

    /// The elements of a map, and whether all of them are known.
    fn pairs(&self, data: &Expr) -> Option<Vec<Pair>> {
        match data {
            Expr::Pairs(pairs) => {
                Some(pairs.iter().map(|(key, data, _)| (key.clone(), data.clone(), None)).collect())
            }
            Expr::Set(keys) if keys.is_empty() => Some(Vec::new()),
            Expr::Named(name) => {
                let held = self.sets.get(name).filter(|held| !held.dynamic)?;
                Some(held.pairs.clone())
            }
            _ => None,
        }
    }

    /// The conditions that a key is each element of a map. An element `*` is whatever no other is.
    fn alternatives(&self, key: &Expr, pairs: Vec<Pair>) -> Option<Vec<Alternative>> {
        let any = |one: &Expr| matches!(one, Expr::Text(word) if word == "*");
        let named: Vec<Expr> = pairs.iter().map(|(one, ..)| one.clone()).filter(|one| !any(one)).collect();
        let headers = conditions(key, super::expr::Op::Unequal, &Expr::Set(Vec::new()), &self.sets);
        let headers: Vec<Match> = headers
            .into_iter()
            .filter(|one| matches!(one.kind, MatchKind::Version(_) | MatchKind::Protocol(_)))
            .collect();
        let mut all = Vec::new();
        for (one, data, origin) in pairs {
            let held = if any(&one) {
                among(key, &named, true)?
            } else {
                among(key, std::slice::from_ref(&one), false)?
            };
            all.push((headers.iter().cloned().chain(held).collect(), data, origin));
        }
        // Remaining values come last.
        all.sort_by_key(|(matches, ..): &Alternative| matches.last().is_some_and(|one| one.negated));
        Some(all)
    }

    fn verdicts(&self, draft: &Draft, text: &RuleText, key: &Expr, data: &Expr) -> Vec<Rule> {
        let pairs = self.pairs(data).and_then(|pairs| self.alternatives(key, pairs));
        let Some(pairs) = pairs else {
            // Which packets are in the map is not known, nor what becomes of those that are.
            let name = format!("{} vmap", key.words());
            let perhaps =
                Match { negated: false, kind: MatchKind::NotAnalysed(Residual::described(name.clone())) };
            return vec![draft.rule(text, vec![perhaps], Target::NotAnalysed { name, ends: true })];
        };
        pairs
            .into_iter()
            .filter_map(|(matches, data, origin)| {
                let Data::Verdict(verdict) = data else { return None };
                Some(of_element(
                    draft.rule(text, matches, target(&verdict).unwrap_or(Target::Continue)),
                    origin,
                ))
            })
            .collect()
    }

    fn translations(
        &self,
        draft: &Draft,
        text: &RuleText,
        (kind, address, port, prefix): (&str, Option<&Expr>, Option<&Expr>, bool),
    ) -> Vec<Rule> {
        let kind = match kind {
            "dnat" if prefix => TranslationKind::NetworkMap,
            "snat" if prefix => TranslationKind::NetworkMap,
            "dnat" => TranslationKind::Destination,
            "snat" => TranslationKind::Source,
            "redirect" => TranslationKind::Redirect,
            _ => TranslationKind::Masquerade,
        };
        let plain = |address: Option<&Expr>, port: Option<&Expr>| -> Option<Target> {
            let (address, port) = match address {
                Some(Expr::Concat(parts)) => match parts.as_slice() {
                    [address, port] => (Some(address), Some(port)),
                    _ => return None,
                },
                other => (other, port),
            };
            let mut translation = Translation::of(kind);
            if let Some(address) = address {
                translation.addresses = Some(addresses(address)?);
            }
            if let Some(port) = port {
                translation.ports = Some(ports(port)?);
            }
            Some(Target::Translate(translation))
        };
        let unknown = || {
            let name = "a translation".to_owned();
            let perhaps =
                Match { negated: false, kind: MatchKind::NotAnalysed(Residual::described(name.clone())) };
            vec![draft.rule(text, vec![perhaps], Target::NotAnalysed { name, ends: true })]
        };
        // A rule for each element of a map, made from its value.
        let mapped = |key: &Expr, data: &Expr, make: &dyn Fn(&Expr) -> Option<Target>| -> Option<Vec<Rule>> {
            let pairs = self.alternatives(key, self.pairs(data)?)?;
            let one = |(matches, data, origin): Alternative| match data {
                Data::Value(value) => Some(of_element(draft.rule(text, matches, make(&value)?), origin)),
                Data::Verdict(_) => None,
            };
            pairs.into_iter().map(one).collect()
        };
        match (address, port) {
            (Some(Expr::Lookup(key, data)), port) => {
                mapped(key, data, &|value| plain(Some(value), port)).unwrap_or_else(unknown)
            }
            (address, Some(Expr::Lookup(key, data))) => {
                mapped(key, data, &|value| plain(address, Some(value))).unwrap_or_else(unknown)
            }
            (address, port) => match plain(address, port) {
                Some(target) => vec![draft.rule(text, Vec::new(), target)],
                None => unknown(),
            },
        }
    }
}

/// Its conditions, its value and its place.
type Alternative = (Vec<Match>, Data, Option<Origin>);

/// A rule that an element of a map makes: its line is that of the element.
fn of_element(rule: Rule, element: Option<Origin>) -> Rule {
    match element.filter(|origin| *origin != rule.origin) {
        Some(origin) => Rule { looked_up_at: Some(rule.origin), origin, ..rule },
        None => rule,
    }
}

/// The widest range of addresses in an element.
fn widest(key: &Expr) -> Option<IpRange> {
    match key {
        Expr::Concat(parts) => parts.iter().filter_map(addresses).max_by_key(IpRange::size),
        one => addresses(one),
    }
}

/// A rule before its verdict is known.
struct Draft {
    matches: Vec<Match>,
    logs: bool,
    packets: Option<u64>,
    target: Target,
}

impl Draft {
    fn rule(&self, text: &RuleText, more: Vec<Match>, target: Target) -> Rule {
        let mut matches: Vec<Match> = self.matches.clone();
        matches.extend(more);
        // Each field brings the condition that its header is there; once is enough.
        let mut kept: Vec<Match> = Vec::with_capacity(matches.len());
        for one in matches {
            if !kept.contains(&one) {
                kept.push(one);
            }
        }
        // A translation of the source or destination applies to one IP version.
        if let Target::Translate(Translation { addresses: Some(range), .. }) = &target {
            let version = Match { negated: false, kind: MatchKind::Version(IpRange::family(range)) };
            if !kept.contains(&version) {
                kept.push(version);
            }
        }
        Rule {
            matches: kept,
            target,
            logs: self.logs,
            comment: text.comment.clone(),
            packets: self.packets,
            origin: text.origin,
            looked_up_at: None,
        }
    }
}

fn target(verdict: &Verdict) -> Option<Target> {
    Some(match verdict {
        Verdict::Accept => Target::Accept,
        Verdict::Drop => Target::Drop,
        Verdict::Return => Target::Return,
        Verdict::Jump(name) => Target::Jump(name.clone()),
        Verdict::Goto(name) => Target::Goto(name.clone()),
        Verdict::Continue => return None,
    })
}
