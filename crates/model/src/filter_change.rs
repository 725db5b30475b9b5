//! Tables of iptables as commands build them, one after the other: in a file for `iptables-restore`, or in a script (iptables(8),
//! iptables-restore(8)).

use crate::{
    Chain, ChainKind, ExportState, Families, Family, Filter, FilterFormat, Hook, NamedSet, Origin, Rule,
    Target,
};
use serde::{Deserialize, Serialize};
use std::collections::BTreeMap;

/// What one command does to a table (iptables(8), COMMANDS).
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case", rename_all_fields = "kebab-case")]
pub enum TableChange {
    /// `-A`: a rule at the end of a chain.
    Append {
        /// The chain.
        chain: String,
        /// The rule.
        rule: Rule,
    },
    /// `-I`: a rule at a place of a chain.
    Insert {
        /// The chain.
        chain: String,
        /// The place, the first one being 1.
        place: usize,
        /// The rule.
        rule: Rule,
    },
    /// `-R`: a rule in the place of another.
    Replace {
        /// The chain.
        chain: String,
        /// The place, the first one being 1.
        place: usize,
        /// The rule.
        rule: Rule,
    },
    /// `-D` with a rule: the first such rule goes.
    Delete {
        /// The chain.
        chain: String,
        /// The rule.
        rule: Rule,
    },
    /// `-D` with a number: the rule at this place goes.
    DeleteAt {
        /// The chain.
        chain: String,
        /// The place, the first one being 1.
        place: usize,
    },
    /// `-P`: the target at the end of a built-in chain.
    Policy {
        /// The chain.
        chain: String,
        /// The target.
        policy: Target,
    },
    /// `-N`: a chain.
    NewChain {
        /// The chain.
        chain: String,
    },
    /// `-F`: the rules of a chain, or of all, go.
    Flush {
        /// The chain; `None` for all of the table.
        chain: Option<String>,
    },
}

impl TableChange {
    /// Whether it only adds: run once more, it takes nothing away.
    #[must_use]
    pub fn adds(&self) -> bool {
        matches!(self, Self::Append { .. } | Self::Insert { .. } | Self::NewChain { .. })
    }

    /// Whether it states what a whole table or the end of a chain is, whatever was there before.
    #[must_use]
    pub fn settles(&self) -> bool {
        matches!(self, Self::Policy { .. } | Self::Flush { chain: None })
    }
}

/// When a command runs, in the order in which a start comes to them.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case")]
pub enum CommandMoment {
    /// An interface comes up (interfaces(5), wg-quick(8), pppd(8)).
    Interface,
    /// The machine starts (rc.local, scripts of init, `@reboot` of crontab(5)).
    Boot,
    /// By the clock (crontab(5)).
    Clock,
}

/// A command that changes a packet filter when it is run by a script, by the clock or with an interface.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case", deny_unknown_fields)]
pub struct FilterChange {
    /// IP version of the table.
    pub family: Family,
    /// Table name, such as `filter` or `nat`.
    pub table: String,
    /// When it runs.
    pub moment: CommandMoment,
    /// What it does.
    pub change: TableChange,
    /// Named sets that its rule uses.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub sets: Vec<NamedSet>,
    /// The command.
    pub origin: Origin,
}

/// The hook a built-in chain sits on.
#[must_use]
pub fn built_in_hook(chain: &str) -> Option<Hook> {
    Some(match chain {
        "PREROUTING" => Hook::Prerouting,
        "INPUT" => Hook::Input,
        "FORWARD" => Hook::Forward,
        "OUTPUT" => Hook::Output,
        "POSTROUTING" => Hook::Postrouting,
        _ => return None,
    })
}

/// Order in which the kernel evaluates the built-in chains of a table, and their hooks (the priorities that nft(8) names; source
/// translation comes after filtering, destination translation before routing).
fn place(table: &str, hook: Option<Hook>) -> (i32, ChainKind) {
    let source = matches!(hook, Some(Hook::Postrouting | Hook::Input));
    match (table, hook) {
        ("raw", _) => (-300, ChainKind::Filter),
        ("mangle", Some(Hook::Output)) => (-150, ChainKind::Route),
        ("mangle", _) => (-150, ChainKind::Filter),
        ("nat", Some(_)) => (if source { 100 } else { -100 }, ChainKind::Nat),
        ("nat", None) => (0, ChainKind::Nat),
        ("security", _) => (50, ChainKind::Filter),
        _ => (0, ChainKind::Filter),
    }
}

/// A table of iptables while commands build it.
#[derive(Debug)]
pub struct IptablesTable {
    /// The table so far.
    pub filter: Filter,
    by_name: BTreeMap<String, usize>,
}

impl IptablesTable {
    /// An empty table.
    #[must_use]
    pub fn new(table: &str, family: Family, state: ExportState, origin: Origin) -> Self {
        let filter = Filter {
            families: Families::from(family),
            format: FilterFormat::Iptables,
            table: table.into(),
            state,
            chains: Vec::new(),
            sets: Vec::new(),
            complete: false,
            gaps_placed: false,
            additions: false,
            origin,
        };
        Self { filter, by_name: BTreeMap::new() }
    }

    /// A table with its rules, for further commands.
    #[must_use]
    pub fn of(filter: Filter) -> Self {
        let by_name = filter.chains.iter().enumerate().map(|(at, chain)| (chain.name.clone(), at)).collect();
        Self { filter, by_name }
    }

    /// Number of a chain, where it was declared or used.
    #[must_use]
    pub fn known(&self, name: &str) -> Option<usize> {
        self.by_name.get(name).copied()
    }

    /// The chain with this name, made where it is missing: built-in chains exist without being declared.
    pub fn chain(&mut self, name: &str, origin: Origin) -> &mut Chain {
        let at = *self.by_name.entry(name.to_owned()).or_insert_with(|| {
            let hook = built_in_hook(name);
            let policy = hook.map(|_| Target::Accept);
            let (priority, kind) = place(&self.filter.table, hook);
            let rules = Vec::new();
            self.filter.chains.push(Chain { name: name.into(), hook, priority, kind, policy, rules, origin });
            self.filter.chains.len() - 1
        });
        &mut self.filter.chains[at]
    }

    /// The rules of a chain with a place among them; `more` for a place behind the last.
    fn rules_at(
        &mut self,
        chain: &str,
        place: usize,
        more: usize,
        origin: Origin,
    ) -> Result<&mut Vec<Rule>, String> {
        let rules = &mut self.chain(chain, origin).rules;
        if place == 0 || place > rules.len() + more {
            return Err(format!(
                "there is no place {place} in chain {chain}, which has {} rules here",
                rules.len()
            ));
        }
        Ok(rules)
    }

    /// Carries out a command.
    ///
    /// # Errors
    ///
    /// Describes why the program would refuse it: an undeclared chain, a place or a rule that is not there.
    pub fn change(&mut self, change: TableChange, origin: Origin) -> Result<(), String> {
        match change {
            TableChange::Append { chain, rule } => {
                // The program rejects a rule for an undeclared chain; built-in chains exist always.
                if built_in_hook(&chain).is_none() && !self.by_name.contains_key(&chain) {
                    return Err(format!("chain {chain} was not declared before this line"));
                }
                self.chain(&chain, origin).rules.push(rule);
            }
            TableChange::Insert { chain, place, rule } => {
                self.rules_at(&chain, place, 1, origin)?.insert(place - 1, rule);
            }
            TableChange::Replace { chain, place, rule } => {
                self.rules_at(&chain, place, 0, origin)?[place - 1] = rule;
            }
            TableChange::DeleteAt { chain, place } => {
                self.rules_at(&chain, place, 0, origin)?.remove(place - 1);
            }
            TableChange::Delete { chain, rule } => {
                let rules = &mut self.chain(&chain, origin).rules;
                let found =
                    rules.iter().position(|one| one.matches == rule.matches && one.target == rule.target);
                rules.remove(found.ok_or_else(|| format!("chain {chain} has no such rule to delete"))?);
            }
            TableChange::Policy { chain, policy } => {
                let chain = self.chain(&chain, origin);
                (chain.policy, chain.origin) = (Some(policy), origin);
            }
            TableChange::NewChain { chain } => {
                self.chain(&chain, origin);
            }
            TableChange::Flush { chain: Some(chain) } => self.chain(&chain, origin).rules.clear(),
            TableChange::Flush { chain: None } => {
                self.filter.chains.iter_mut().for_each(|chain| chain.rules.clear());
            }
        }
        Ok(())
    }
}
