//! What users may run by sudo besides everything: the rules for single commands, and which of them decides.

use crate::identities::{People, Who};
use std::collections::BTreeMap;
use std::sync::Arc;
use trevlin_model::Origin;
use trevlin_model::sudo::{SudoCommand, SudoDefault, SudoRule, SudoSetting};

/// A command of a rule, in its place: the number of the rule, and of the command in it; [`WHOLE`] for the rule itself.
type Place = (usize, usize);

/// The number of a rule without commands that is about all of them, as a sheet may state it.
const WHOLE: usize = usize::MAX;

/// What decides about a command line of a user.
#[derive(Debug, Clone, Copy)]
pub struct Decision<'a> {
    /// The rule.
    pub rule: &'a SudoRule,
    /// Its command that fits last; none for a rule that states none and is about all.
    pub command: Option<&'a SudoCommand>,
    /// Whether it is granted, not excluded.
    pub granted: bool,
    /// Whether the user's own password is required.
    pub asks_password: bool,
    /// Whether the command is kept from starting other programs.
    pub noexec: bool,
    /// The line of a default that decides about the password, where the rule does not state it.
    pub password_default: Option<Origin>,
}

/// Commands of the rules of a device, to be examined for many users.
pub struct Delegations<'a> {
    people: &'a People<'a>,
    rules: &'a [SudoRule],
    /// Defaults for commands, in order.
    of_commands: Vec<&'a SudoDefault>,
    /// Defaults for users, in order.
    defaults: Vec<DefaultList<'a>>,
    /// Defaults by the names in them.
    defaults_naming: BTreeMap<Who<'a>, Vec<usize>>,
    /// Commands by the user list of their rules.
    lists: Vec<CommandList<'a>>,
    /// User lists by the names in them.
    naming: BTreeMap<Who<'a>, Vec<usize>>,
}

/// Commands of all rules with one user list.
struct CommandList<'a> {
    /// Last position of each name, and whether it is excluded there.
    last: BTreeMap<Who<'a>, (usize, bool)>,
    /// The last one about every command.
    everything: Option<Place>,
    /// Those about one program, by its name without the folder, in order.
    programs: BTreeMap<&'a str, Vec<Place>>,
    /// Those about many programs, in order.
    wildcards: Vec<Place>,
}

/// A default, and whom it is about.
struct DefaultList<'a> {
    default: &'a SudoDefault,
    last: BTreeMap<Who<'a>, (usize, bool)>,
}

impl<'a> Delegations<'a> {
    /// Those of a device.
    #[must_use]
    pub fn of(people: &'a People<'a>) -> Self {
        let rules = &people.device().facts.sudo_rules[..];
        let mut made = Self {
            people,
            rules,
            of_commands: Vec::new(),
            defaults: Vec::new(),
            defaults_naming: BTreeMap::new(),
            lists: Vec::new(),
            naming: BTreeMap::new(),
        };
        let (of_users, of_commands): (Vec<_>, Vec<_>) =
            people.device().facts.sudo_defaults.iter().partition(|default| default.commands.is_empty());
        made.of_commands = of_commands;
        for default in of_users {
            let last = Who::last_of(&default.who);
            for who in last.keys() {
                made.defaults_naming.entry(*who).or_default().push(made.defaults.len());
            }
            made.defaults.push(DefaultList { default, last });
        }
        let mut known = BTreeMap::new();
        for (number, rule) in rules.iter().enumerate() {
            let list = *known.entry(Arc::as_ptr(&rule.who)).or_insert_with(|| {
                let last = Who::last_of(&rule.who);
                for who in last.keys() {
                    made.naming.entry(*who).or_default().push(made.lists.len());
                }
                made.lists.push(CommandList {
                    last,
                    everything: None,
                    programs: BTreeMap::new(),
                    wildcards: Vec::new(),
                });
                made.lists.len() - 1
            });
            let list = &mut made.lists[list];
            if rule.commands.is_empty() && rule.as_root && (rule.all_commands || rule.revokes_all) {
                list.everything = Some((number, WHOLE));
            }
            for (at, command) in rule.commands.iter().enumerate().filter(|(_, command)| command.as_root) {
                if command.is_all() {
                    list.everything = Some((number, at));
                } else if command.is_one_program() {
                    list.programs.entry(program(&command.path)).or_default().push((number, at));
                } else {
                    list.wildcards.push((number, at));
                }
            }
        }
        made
    }

    /// What decides whether a user may run a command line as root: the last one that fits (sudoers(5),
    /// SUDOERS FILE FORMAT). The user is a name, `%group`, `#number` or `ALL`, as in a rule; none where no command fits.
    #[must_use]
    pub fn deciding(&self, user: &str, path: &str, arguments: &str) -> Option<Decision<'a>> {
        let fits = |place: &&Place| self.rules[place.0].commands[place.1].fits(path, arguments);
        let of_list = |list: &CommandList<'_>| {
            let of_program =
                list.programs.get(program(path)).and_then(|places| places.iter().rev().find(fits));
            [list.everything, of_program.copied(), list.wildcards.iter().rev().find(fits).copied()]
                .into_iter()
                .flatten()
                .max()
        };
        let own = self.people.identities(user);
        self.lists_about(&own)
            .into_iter()
            .filter_map(|list| of_list(&self.lists[list]))
            .max()
            .map(|place| self.at(place, &own, path, arguments))
    }

    /// What decides whether a user may run every command as root.
    #[must_use]
    pub fn deciding_all(&self, user: &str) -> Option<Decision<'a>> {
        let own = self.people.identities(user);
        let everything = self.lists_about(&own).into_iter().filter_map(|list| self.lists[list].everything);
        // No command has this name: what is stated for all commands alone fits it.
        everything.max().map(|place| self.at(place, &own, "", ""))
    }

    fn at(&self, (number, at): Place, own: &[Who<'_>], path: &str, arguments: &str) -> Decision<'a> {
        let rule = &self.rules[number];
        let command = rule.commands.get(at);
        let default = |setting| self.default(setting, own, path, arguments);
        let password = default(SudoSetting::Authenticate);
        let stated = command.map_or(Some(rule.asks_password), |command| command.asks_password);
        let noexec = command.and_then(|command| command.noexec);
        Decision {
            rule,
            command,
            granted: command.map_or(rule.all_commands, |command| !command.excluded),
            asks_password: stated.unwrap_or_else(|| password.is_none_or(|default| default.on)),
            noexec: noexec.unwrap_or_else(|| default(SudoSetting::Noexec).is_some_and(|default| default.on)),
            password_default: password.filter(|_| stated.is_none()).map(|default| default.origin),
        }
    }

    /// The default of a setting that counts: the last for the command, or else the last for the user.
    fn default(
        &self,
        setting: SudoSetting,
        own: &[Who<'_>],
        path: &str,
        arguments: &str,
    ) -> Option<&'a SudoDefault> {
        let fits = |default: &&&SudoDefault| {
            let last = default.commands.iter().rev().find(|command| command.fits(path, arguments));
            default.setting == setting && last.is_some_and(|command| !command.excluded)
        };
        if let Some(default) = self.of_commands.iter().rev().find(fits) {
            return Some(default);
        }
        let lists = |who| self.defaults_naming.get(who).into_iter().flatten().rev();
        let is_about = |list: &&usize| {
            let DefaultList { default, last } = &self.defaults[**list];
            default.setting == setting && Who::is_named(own, last)
        };
        own.iter().filter_map(|who| lists(who).find(is_about)).max().map(|list| self.defaults[*list].default)
    }

    fn lists_about(&self, own: &[Who<'_>]) -> Vec<usize> {
        let mut lists: Vec<usize> =
            own.iter().flat_map(|who| self.naming.get(who).into_iter().flatten()).copied().collect();
        lists.sort_unstable();
        lists.dedup();
        lists.retain(|list| Who::is_named(own, &self.lists[*list].last));
        lists
    }
}

/// The name of a program without its folder.
#[must_use]
pub fn program(path: &str) -> &str {
    path.rsplit_once('/').map_or(path, |(_, name)| name)
}
