//! Commands into tables: the ruleset that is in force once all of them were carried out.

use super::expr::{Command, Place, TableName};
use super::maker::Maker;
pub(super) use crate::nft::table::{ChainText, Table};
use std::collections::BTreeMap;
use trevlin_model::{
    Chain, ChainKind, ExportState, Families, Filter, FilterFormat, Hook, NotAnalysed, Origin, Target,
};

/// Result of the commands.
pub(super) struct Built {
    pub(super) filters: Vec<Filter>,
    pub(super) not_analysed: Vec<NotAnalysed>,
    /// Places with a message.
    pub(super) notes: Vec<(Origin, String)>,
}

/// Carries out the commands.
pub(super) fn build(commands: Vec<Command>, state: ExportState) -> Built {
    let mut order: Vec<TableName> = Vec::new();
    let mut tables: BTreeMap<TableName, Table> = BTreeMap::new();
    let mut built = Built { filters: Vec::new(), not_analysed: Vec::new(), notes: Vec::new() };
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
                table.chains.values_mut().for_each(|chain| chain.rules.clear());
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
                    table.chains.insert(name, chain);
                }
            }
        }
        Command::Policy { table, chain, policy, origin } => {
            if let Some(chain) = tables.get_mut(&table).and_then(|table| table.chain(&chain)) {
                match &mut chain.base {
                    Some(base) => (base.policy, chain.origin) = (Some(policy), origin),
                    None => {
                        let text =
                            "only a base chain has a policy, and this one has no hook before this line";
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
                table.chains.shift_remove(&chain);
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
                format!("{what} is not followed; it may drop packets before or beside the other rules"),
            ));
            // Address resolution has no bearing on who reaches whom.
            let filters_packets = hooked && other != "arp";
            built.not_analysed.push(NotAnalysed {
                what,
                may_serve: None,
                filters_packets,
                apart: true,
                only_blocks: true,
                origin,
            });
            return;
        }
    };
    if table.dormant {
        built.notes.push((origin, format!("table {} is dormant: its rules are not active", name.name)));
        return;
    }
    let mut maker = Maker::new(&table);
    let (mut complete, mut ordered) = (true, true);
    let mut chains = Vec::new();
    for (chain_name, text) in &table.chains {
        ordered &= !text.out_of_order;
        complete &= !text.out_of_order && text.rules.iter().all(|rule| rule.whole);
        let base = text.base.as_ref();
        let hooked = base.and_then(|base| hook(&base.hook));
        if let Some(base) = base.filter(|_| hooked.is_none()) {
            let what = format!("a chain on the hook {}", base.hook);
            built.notes.push((
                text.origin,
                format!("{what} is not followed; it may drop packets before all others"),
            ));
            built.not_analysed.push(NotAnalysed {
                what,
                may_serve: None,
                filters_packets: true,
                apart: true,
                only_blocks: true,
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
            format!("set {} is not in this ruleset; its content is not known", missing.name),
        ));
    }
    for rule in chains.iter().flat_map(|chain| &chain.rules) {
        if let Target::Jump(to) | Target::Goto(to) = &rule.target
            && !table.chains.contains_key(to)
        {
            complete = false;
            built
                .notes
                .push((rule.origin, format!("chain {to} is not in this ruleset; its effect is not known")));
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
        gaps_placed: ordered,
        additions: false,
        origin,
    });
}
