//! A rule base in the form that appliances show: one ordered list, between zones, with named addresses and services, and with forwards and
//! translations.

use super::names::{AddressName, ServiceName, Zone};
use super::rule::{Action, OrderedRule, Word};
use serde::Deserialize;
use trevlin_model::{IpRange, Origin, PortRange};

/// How the list of rules is used as a whole.
#[derive(Debug, Clone, Default, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case", deny_unknown_fields)]
pub(crate) struct RuleList {
    /// Default action for forwarded traffic. Not known where it is not stated.
    pub(crate) through: Option<(Action, Origin)>,
    /// Default action for traffic to the device itself. Not known where it is not stated.
    pub(crate) to_device: Option<(Action, Origin)>,
    /// Whether rules without a destination zone also apply to traffic to the device itself.
    pub(crate) meets_device: Option<bool>,
    /// Whether replies to permitted connections are permitted without a rule.
    pub(crate) replies: Option<bool>,
    /// Whether forwarded connections are permitted without a rule.
    pub(crate) forwards_pass: Option<bool>,
    /// Which addresses the rules apply to, where destinations are translated.
    pub(crate) sees: Option<Sees>,
    /// Action at the end of a list of `lists`. Not known where it is not stated.
    pub(crate) lists_end: Option<(Action, Origin)>,
    /// Whether the rule base is switched off as a whole, so that all traffic passes.
    pub(crate) off: bool,
    /// Remark of the administrator.
    pub(crate) note: Option<String>,
    /// Where that is seen, for lines that have no better one.
    pub(crate) origin: Option<Origin>,
}

/// Addresses that rules apply to.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case")]
pub(crate) enum Sees {
    /// Those before the destination is translated: the public ones.
    Before,
    /// Those after it: the internal ones.
    After,
}

impl RuleList {
    /// That of a device without a rule base.
    pub(crate) fn absent(origin: Origin) -> Self {
        let accept = Some((Action::Allow, origin));
        Self {
            through: accept,
            to_device: accept,
            replies: Some(true),
            origin: Some(origin),
            ..Self::default()
        }
    }
}

/// A port forward: what arrives for an address of the device, or for one that it answers for, is sent on.
#[derive(Debug, Clone, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case", deny_unknown_fields)]
pub(crate) struct Forwarding {
    /// Name.
    pub(crate) name: Option<String>,
    /// Zones, interfaces and tunnels by which it enters.
    pub(crate) from: Vec<Word>,
    /// Permitted sources: addresses, prefixes, ranges, names. Any address where none is stated.
    pub(crate) sources: Vec<Word>,
    /// Public addresses. Every address of the device where none is stated.
    pub(crate) addresses: Vec<Word>,
    /// Services on the public side: `tcp 443`.
    pub(crate) services: Vec<Word>,
    /// Where it goes: an address.
    pub(crate) to: Word,
    /// Destination port. The same port where none is stated.
    pub(crate) to_port: Option<PortRange>,
    /// Remark of the administrator.
    pub(crate) note: Option<String>,
    /// Whether it is permitted without a rule. As in the rule base, where it is not stated.
    pub(crate) passes: Option<bool>,
    /// Whether it is switched off.
    pub(crate) off: bool,
    pub(crate) origin: Origin,
}

/// A translation of source addresses.
#[derive(Debug, Clone, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case", deny_unknown_fields)]
pub(crate) struct Hiding {
    /// Name.
    pub(crate) name: Option<String>,
    /// Zones, interfaces and tunnels by which it leaves.
    pub(crate) to: Vec<Word>,
    /// Source: addresses, prefixes, ranges, names.
    pub(crate) sources: Vec<Word>,
    /// Destination: addresses, prefixes, ranges, names.
    pub(crate) destinations: Vec<Word>,
    /// The new address. That of the outgoing interface where none is stated.
    pub(crate) address: Option<IpRange>,
    /// Whether it is an exemption: these connections keep their addresses.
    pub(crate) exempt: bool,
    /// Whether a part of it could not be read.
    #[serde(skip)]
    pub(crate) unread: bool,
    /// Remark of the administrator.
    pub(crate) note: Option<String>,
    /// Whether it is switched off.
    pub(crate) off: bool,
    pub(crate) origin: Origin,
}

/// Everything of the list.
#[derive(Debug, Default)]
pub(crate) struct Ordered {
    pub(crate) list: Option<RuleList>,
    pub(crate) zones: Vec<Zone>,
    pub(crate) address_names: Vec<AddressName>,
    pub(crate) service_names: Vec<ServiceName>,
    pub(crate) rules: Vec<OrderedRule>,
    pub(crate) lists: Vec<NamedList>,
    pub(crate) forwards: Vec<Forwarding>,
    pub(crate) translations: Vec<Hiding>,
}

/// A named list of rules: those of `rules` that name it in `list`. It judges what enters or leaves by the interfaces that it is attached
/// to; a list that is attached nowhere judges nothing.
#[derive(Debug, Clone, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case", deny_unknown_fields)]
pub(crate) struct NamedList {
    /// Name.
    pub(crate) name: String,
    /// Interfaces, zones and tunnels by which the packets enter that it judges.
    #[serde(rename = "in")]
    pub(crate) entering: Vec<Word>,
    /// Interfaces, zones and tunnels by which the packets leave that it judges.
    #[serde(rename = "out")]
    pub(crate) leaving: Vec<Word>,
    /// Services of the device whose clients it limits, by their names; `SSH` for that.
    pub(crate) services: Vec<Word>,
    /// Action for packets that no rule of it matches. As in `rule-list`, where it is not stated.
    pub(crate) end: Option<(Action, Origin)>,
    /// Whether replies to permitted connections pass it without a rule. As in `rule-list`, where it is not stated.
    pub(crate) replies: Option<bool>,
    /// Other uses of it, such as the clients of a service: it is then no list without a use.
    pub(crate) used_for: Vec<Word>,
    /// Whether only a part of its rules is stated.
    pub(crate) partly: bool,
    /// Whether it is switched off.
    pub(crate) off: bool,
    pub(crate) origin: Origin,
}
