//! Commands into tables: the ruleset that is in force once all of them were carried out.

use super::expr::{Base, Command, Data, Element, Expr, Place, RuleText, Statement, TableName, Verdict};
use super::matches::{Held, Sets, addresses, among, conditions, ports};
use std::collections::BTreeMap;
use trevlin_model::{
    Chain, ChainKind, ExportState, Families, Family, Filter, FilterFormat, Hook, IpRange, Match, MatchKind,
    NamedSet, NotModelled, Origin, Protocol, Rule, Target, Translation, TranslationKind,
};

/// What came of the commands.
pub(super) struct Built {
    pub(super) filters: Vec<Filter>,
    pub(super) not_modelled: Vec<NotModelled>,
    /// Places with something to say about them.
    pub(super) notes: Vec<(Origin, String)>,
}

#[derive(Default)]
struct Table {
    origin: Option<Origin>,
    dormant: bool,
    chains: Vec<(String, ChainText)>,
    sets: Vec<(String, SetText)>,
}

struct ChainText {
    base: Option<Base>,
    origin: Origin,
    rules: Vec<RuleText>,
    /// A rule was put at a place that the file does not tell.
    out_of_order: bool,
}

#[derive(Default)]
struct SetText {
    dynamic: bool,
    elements: Vec<Element>,
    origin: Option<Origin>,
}

impl Table {
    fn chain(&mut self, name: &str) -> Option<&mut ChainText> {
        self.chains.iter_mut().find(|(one, _)| one == name).map(|(_, chain)| chain)
    }

    fn set(&mut self, name: &str) -> &mut SetText {
        let at = self.sets.iter().position(|(one, _)| one == name).unwrap_or_else(|| {
            self.sets.push((name.to_owned(), SetText::default()));
            self.sets.len() - 1
        });
        &mut self.sets[at].1
    }
}

/// Carries out the commands.
pub(super) fn build(commands: Vec<Command>, state: ExportState) -> Built {
    let mut order: Vec<TableName> = Vec::new();
    let mut tables: BTreeMap<TableName, Table> = BTreeMap::new();
    let mut built = Built { filters: Vec::new(), not_modelled: Vec::new(), notes: Vec::new() };
    for command in commands {
        carry_out(command, &mut order, &mut tables, &mut built);
    }
    for name in order {
        if let Some(table) = tables.remove(&name) {
            finish(&name, table, state, &mut built);
        }
    }
    built
}

fn carry_out(
    command: Command,
    order: &mut Vec<TableName>,
    tables: &mut BTreeMap<TableName, Table>,
    built: &mut Built,
) {
    match command {
        Command::FlushRuleset => {
            order.clear();
            tables.clear();
        }
        Command::Table(name, origin) => {
            if !order.contains(&name) {
                order.push(name.clone());
            }
            tables.entry(name).or_default().origin.get_or_insert(origin);
        }
        Command::Dormant(name) => tables.entry(name).or_default().dormant = true,
        Command::DeleteTable(name) => {
            order.retain(|one| *one != name);
            tables.remove(&name);
        }
        Command::FlushTable(name) => {
            if let Some(table) = tables.get_mut(&name) {
                table.chains.iter_mut().for_each(|(_, chain)| chain.rules.clear());
            }
        }
        Command::Chain { table, name, base, origin } => {
            if !order.contains(&table) {
                order.push(table.clone());
            }
            let table = tables.entry(table).or_default();
            table.origin.get_or_insert(origin);
            match table.chain(&name) {
                // A chain may be opened again; it is hooked once.
                Some(known) => {
                    if base.is_some() {
                        (known.base, known.origin) = (base, origin);
                    }
                }
                None => {
                    let chain = ChainText { base, origin, rules: Vec::new(), out_of_order: false };
                    table.chains.push((name, chain));
                }
            }
        }
        Command::Policy { table, chain, policy, origin } => {
            if let Some(chain) = tables.get_mut(&table).and_then(|table| table.chain(&chain)) {
                match &mut chain.base {
                    Some(base) => (base.policy, chain.origin) = (Some(policy), origin),
                    None => {
                        let text = "only a chain that is hooked has a policy, and this one is not hooked before this line";
                        built.notes.push((origin, text.into()));
                    }
                }
            }
        }
        Command::FlushChain(table, chain) => {
            if let Some(chain) = tables.get_mut(&table).and_then(|table| table.chain(&chain)) {
                chain.rules.clear();
            }
        }
        Command::DeleteChain(table, chain) => {
            if let Some(table) = tables.get_mut(&table) {
                table.chains.retain(|(name, _)| *name != chain);
            }
        }
        Command::Rule { table, chain, place, rule } => {
            let origin = rule.origin;
            match tables.get_mut(&table).and_then(|table| table.chain(&chain)) {
                Some(chain) => match place {
                    Place::Start => chain.rules.insert(0, rule),
                    place => {
                        chain.out_of_order |= place == Place::Elsewhere;
                        chain.rules.push(rule);
                    }
                },
                None => built.notes.push((
                    origin,
                    format!("chain {chain} of table {} is not declared before this rule", table.name),
                )),
            }
        }
        Command::Set { table, name, dynamic, elements, origin } => {
            let set = tables.entry(table).or_default().set(&name);
            set.dynamic |= dynamic;
            set.elements.extend(elements);
            set.origin.get_or_insert(origin);
        }
        Command::Elements { table, set, elements } => {
            tables.entry(table).or_default().set(&set).elements.extend(elements);
        }
        Command::DeleteElements { table, set, elements } => {
            let set = tables.entry(table).or_default().set(&set);
            set.elements.retain(|one| !elements.contains(&one.key));
        }
    }
}

fn hook(word: &str) -> Option<Hook> {
    Some(match word {
        "prerouting" => Hook::Prerouting,
        "input" => Hook::Input,
        "forward" => Hook::Forward,
        "output" => Hook::Output,
        "postrouting" => Hook::Postrouting,
        _ => return None,
    })
}

/// A table as the model has it.
fn finish(name: &TableName, table: Table, state: ExportState, built: &mut Built) {
    let Some(origin) = table.origin else { return };
    let families = match name.family.as_str() {
        "ip" => Families::V4,
        "ip6" => Families::V6,
        "inet" => Families::Both,
        other => {
            let hooked =
                table.chains.iter().any(|(_, chain)| chain.base.is_some() && !chain.rules.is_empty());
            let what = format!("an nftables table of the family {other}");
            built.notes.push((
                origin,
                format!("{what} is not followed; it may drop packets before or beside the rest"),
            ));
            // Address resolution has no bearing on who reaches whom.
            let filters_packets = hooked && other != "arp";
            built.not_modelled.push(NotModelled { what, filters_packets, apart: true, origin });
            return;
        }
    };
    if table.dormant {
        built.notes.push((origin, format!("table {} is dormant: its rules are out of force", name.name)));
        return;
    }
    let mut maker = Maker::new(&table);
    let mut complete = true;
    let mut chains = Vec::new();
    for (chain_name, text) in &table.chains {
        complete &= !text.out_of_order && text.rules.iter().all(|rule| rule.whole);
        let base = text.base.as_ref();
        let hooked = base.and_then(|base| hook(&base.hook));
        if let Some(base) = base.filter(|_| hooked.is_none()) {
            let what = format!("a chain on the hook {}", base.hook);
            built.notes.push((
                text.origin,
                format!("{what} is not followed; it may drop packets before all others"),
            ));
            built.not_modelled.push(NotModelled {
                what,
                filters_packets: true,
                apart: true,
                origin: text.origin,
            });
        }
        chains.push(Chain {
            name: chain_name.clone(),
            hook: hooked,
            priority: base.map_or(0, |base| base.priority),
            kind: match base.map(|base| base.kind.as_str()) {
                Some("nat") => ChainKind::Nat,
                Some("route") => ChainKind::Route,
                _ => ChainKind::Filter,
            },
            policy: base.map(|base| {
                if base.policy.as_deref() == Some("drop") { Target::Drop } else { Target::Accept }
            }),
            rules: text.rules.iter().flat_map(|rule| maker.rules(rule)).collect(),
            origin: text.origin,
        });
    }
    let sets = maker.named_sets(&table);
    for missing in sets.iter().filter(|set| !set.present) {
        built.notes.push((
            missing.origin,
            format!("set {} is not in this ruleset; what is in it is not known", missing.name),
        ));
    }
    for rule in chains.iter().flat_map(|chain| &chain.rules) {
        if let Target::Jump(to) | Target::Goto(to) = &rule.target
            && !chains.iter().any(|chain| chain.name == *to)
        {
            complete = false;
            built.notes.push((
                rule.origin,
                format!("chain {to} is not in this ruleset; what happens in it is not known"),
            ));
        }
    }
    built.filters.push(Filter {
        families,
        format: FilterFormat::Nftables,
        table: name.name.clone(),
        state,
        chains,
        sets,
        complete,
        origin,
    });
}

/// Makes rules, and keeps which sets they name.
struct Maker {
    sets: Sets,
    used: BTreeMap<String, Vec<Origin>>,
    filled: Vec<String>,
}

impl Maker {
    fn new(table: &Table) -> Self {
        // A set that any rule fills cannot be told from the file, whatever its flags say.
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
                    Some(data) => held.pairs.push((element.key.clone(), data.clone())),
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

    fn named_sets(&self, table: &Table) -> Vec<NamedSet> {
        let mut all: Vec<NamedSet> = Vec::new();
        for (name, set) in &table.sets {
            let Some(origin) = set.origin else { continue };
            all.push(NamedSet {
                name: name.clone(),
                filled_by_rules: set.dynamic || self.filled.contains(name),
                elements: set.elements.len(),
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
                    present: false,
                    used_at,
                    origin,
                });
            }
        }
        all
    }

    /// A rule as one or, where it maps values to verdicts, as one for each of them.
    fn rules(&mut self, text: &RuleText) -> Vec<Rule> {
        let mut draft = Draft { matches: Vec::new(), logs: false, packets: None, target: Target::Continue };
        for statement in &text.statements {
            match statement {
                Statement::Match(left, op, right) => {
                    self.name_sets(left, text.origin);
                    self.name_sets(right, text.origin);
                    draft.matches.extend(conditions(left, *op, right, &self.sets));
                }
                Statement::Perhaps(words) => {
                    draft.matches.push(Match { negated: false, kind: MatchKind::NotModelled(words.clone()) });
                }
                Statement::Counter(packets) => draft.packets = *packets,
                Statement::Log => draft.logs = true,
                Statement::Marks(name) => {
                    draft.target = Target::NotModelled { name: name.clone(), ends: false }
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
                    let target = Target::NotModelled { name: name.clone(), ends: true };
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
        if !text.whole {
            // What was not understood may have been the verdict.
            draft.target = Target::NotModelled { name: "not understood".into(), ends: true };
        }
        let target = std::mem::replace(&mut draft.target, Target::Continue);
        let logs_only = target == Target::Continue && draft.logs;
        vec![draft.rule(text, Vec::new(), if logs_only { Target::Log } else { target })]
    }

    /// The elements of a map, and whether all of them are known.
    fn pairs(&self, data: &Expr) -> Option<Vec<(Expr, Data)>> {
        match data {
            Expr::Pairs(pairs) => Some(pairs.clone()),
            Expr::Set(keys) if keys.is_empty() => Some(Vec::new()),
            Expr::Named(name) => {
                let held = self.sets.get(name).filter(|held| !held.dynamic)?;
                Some(held.pairs.clone())
            }
            _ => None,
        }
    }

    /// The conditions that a key is each element of a map. An element `*` is whatever no other is.
    fn alternatives(&self, key: &Expr, pairs: Vec<(Expr, Data)>) -> Option<Vec<(Vec<Match>, Data)>> {
        let any = |one: &Expr| matches!(one, Expr::Text(word) if word == "*");
        let named: Vec<Expr> = pairs.iter().map(|(one, _)| one.clone()).filter(|one| !any(one)).collect();
        let headers = conditions(key, super::expr::Op::Unequal, &Expr::Set(Vec::new()), &self.sets);
        let headers: Vec<Match> = headers
            .into_iter()
            .filter(|one| matches!(one.kind, MatchKind::Version(_) | MatchKind::Protocol(_)))
            .collect();
        let mut all = Vec::new();
        for (one, data) in pairs {
            let held = if any(&one) {
                among(key, &named, true)?
            } else {
                among(key, std::slice::from_ref(&one), false)?
            };
            all.push((headers.iter().cloned().chain(held).collect(), data));
        }
        // What is left over comes last, whatever its place.
        all.sort_by_key(|(matches, _): &(Vec<Match>, Data)| matches.last().is_some_and(|one| one.negated));
        Some(all)
    }

    fn verdicts(&self, draft: &Draft, text: &RuleText, key: &Expr, data: &Expr) -> Vec<Rule> {
        let pairs = self.pairs(data).and_then(|pairs| self.alternatives(key, pairs));
        let Some(pairs) = pairs else {
            let name = format!("{} vmap", key.words());
            return vec![draft.rule(text, Vec::new(), Target::NotModelled { name, ends: true })];
        };
        pairs
            .into_iter()
            .filter_map(|(matches, data)| {
                let Data::Verdict(verdict) = data else { return None };
                Some(draft.rule(text, matches, target(&verdict).unwrap_or(Target::Continue)))
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
            let mut rule = draft.rule(text, Vec::new(), Target::Translate(Translation::of(kind)));
            rule.target = Target::NotModelled { name: "a translation".into(), ends: true };
            vec![rule]
        };
        match (address, port) {
            (Some(Expr::Lookup(key, data)), port) => {
                let Some(pairs) = self.pairs(data).and_then(|pairs| self.alternatives(key, pairs)) else {
                    return unknown();
                };
                let rules: Option<Vec<Rule>> = pairs
                    .into_iter()
                    .map(|(matches, data)| {
                        let Data::Value(value) = data else { return None };
                        Some(draft.rule(text, matches, plain(Some(&value), port)?))
                    })
                    .collect();
                rules.unwrap_or_else(unknown)
            }
            (address, Some(Expr::Lookup(key, data))) => {
                let Some(pairs) = self.pairs(data).and_then(|pairs| self.alternatives(key, pairs)) else {
                    return unknown();
                };
                let rules: Option<Vec<Rule>> = pairs
                    .into_iter()
                    .map(|(matches, data)| {
                        let Data::Value(value) = data else { return None };
                        Some(draft.rule(text, matches, plain(address, Some(&value))?))
                    })
                    .collect();
                rules.unwrap_or_else(unknown)
            }
            (address, port) => match plain(address, port) {
                Some(target) => vec![draft.rule(text, Vec::new(), target)],
                None => unknown(),
            },
        }
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
        // A translation of the source or destination speaks of one IP version.
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
