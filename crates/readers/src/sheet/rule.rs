//! One rule of a list in a sheet.

use crate::making;
use serde::Deserialize;
use smol_str::SmolStr;
use trevlin_model::{Chain, Match, Origin, PortRange, Rule, Target};

/// Action of a rule.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case")]
pub(crate) enum Action {
    /// Let it pass.
    Allow,
    /// Drop it silently.
    Deny,
    /// Drop it and answer.
    Refuse,
    /// The rule could not be read, so that nothing behind it is certain.
    #[serde(skip)]
    Unread,
}

impl Action {
    pub(crate) fn target(self) -> Target {
        match self {
            Self::Allow => Target::Accept,
            Self::Deny => Target::Drop,
            Self::Refuse => Target::Reject,
            Self::Unread => Target::NotAnalysed { name: "a rule that could not be read".into(), ends: true },
        }
    }
}

/// A text and its line.
pub(crate) type Word = (SmolStr, Origin);

/// One rule of the list. All stated fields must match; unset fields match any value.
#[derive(Debug, Clone, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case", deny_unknown_fields)]
pub(crate) struct OrderedRule {
    /// Name or comment.
    pub(crate) name: Option<String>,
    /// Incoming zones, interfaces and tunnels; `device` for traffic of the device itself.
    pub(crate) from: Vec<Word>,
    /// Outgoing zones, interfaces and tunnels; `device` for traffic to the device itself.
    pub(crate) to: Vec<Word>,
    /// Source: addresses, prefixes, ranges, names.
    pub(crate) sources: Vec<Word>,
    /// Everything but these.
    pub(crate) sources_except: Vec<Word>,
    /// Destination: addresses, prefixes, ranges, names.
    pub(crate) destinations: Vec<Word>,
    /// Everything but these.
    pub(crate) destinations_except: Vec<Word>,
    /// Services: `tcp 443`, `udp 500-510`, `icmp 8`, `esp`, `any`, names.
    pub(crate) services: Vec<Word>,
    /// Source ports.
    pub(crate) source_ports: Vec<PortRange>,
    /// Whether it is only for packets of connections that are known, such as replies.
    pub(crate) established: bool,
    /// Action.
    pub(crate) action: Action,
    /// Whether it writes to the log.
    pub(crate) logs: bool,
    /// Whether it is switched off.
    pub(crate) off: bool,
    /// How often it was met, where the device counts.
    pub(crate) packets: Option<u64>,
    /// Users, groups and roles that it is for: `user astrid`, `group staff`, `role pilots`. Of an accepting rule they narrow who is
    /// admitted.
    pub(crate) users: Vec<Word>,
    /// Inspections that the content must pass: antivirus, an application filter, categories of web sites.
    pub(crate) inspection: Vec<Word>,
    /// Remark of the administrator.
    pub(crate) note: Option<String>,
    /// The list that it belongs to, by its name in `lists`. Without it, it belongs to the rule base of the device.
    pub(crate) list: Option<Word>,
    /// Conditions that have no field here (a time of day, a user, an application), in the appliance's words.
    pub(crate) also: Vec<Word>,
    pub(crate) origin: Origin,
}

impl OrderedRule {
    /// Represents a rule that could not be read.
    pub(crate) fn unread(origin: Origin) -> Self {
        Self {
            name: None,
            from: Vec::new(),
            to: Vec::new(),
            sources: Vec::new(),
            sources_except: Vec::new(),
            destinations: Vec::new(),
            destinations_except: Vec::new(),
            services: Vec::new(),
            source_ports: Vec::new(),
            established: false,
            list: None,
            action: Action::Unread,
            logs: false,
            off: false,
            packets: None,
            users: Vec::new(),
            inspection: Vec::new(),
            note: None,
            also: Vec::new(),
            origin,
        }
    }
}

/// A rule with these conditions.
pub(super) fn made_of(one: &OrderedRule, matches: Vec<Match>) -> Rule {
    Rule {
        matches,
        target: one.action.target(),
        logs: one.logs,
        comment: commented(one.name.as_ref(), one.note.as_ref()),
        packets: one.packets,
        origin: one.origin,
        looked_up_at: None,
    }
}

/// The comment of a rule: its name, and the remark of the administrator.
pub(super) fn commented(name: Option<&String>, note: Option<&String>) -> Option<String> {
    match (name, note) {
        (Some(name), Some(note)) => Some(format!("{name}: {note}")),
        (one, other) => one.or(other).cloned(),
    }
}

/// Default action at the end of the rule base.
pub(super) fn end(chain: &mut Chain, action: Option<(Action, Origin)>, origin: Origin) {
    match action {
        Some((action, at)) => {
            chain.policy = Some(action.target());
            chain.origin = at;
        }
        None => {
            chain.policy = Some(Target::Drop);
            let name = "the default action is not stated".to_owned();
            chain.rules.push(making::rule(Vec::new(), Target::NotAnalysed { name, ends: true }, origin));
        }
    }
}
