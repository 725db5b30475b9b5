//! Common parts of several checks.

pub(crate) mod client_rules;
pub(crate) mod directories;
pub(crate) mod ike;
pub(crate) mod login_guards;
pub(crate) mod openings;
pub(crate) mod rated;
pub(crate) mod relays;
pub(crate) mod serving;

use crate::check::{Answer, Reason, Verdict};
use crate::subject::{Subject, SubjectKind};
use rayon::prelude::*;
use std::collections::{BTreeMap, BTreeSet};
use trevlin_analysis::addresses::Allocation;
use trevlin_analysis::map::EstateMap;
use trevlin_analysis::reachability::FILTER_NOT_EXPORTED;
use trevlin_estate::prose::capitalized;
use trevlin_model::{Described, Device, Filter, Hook, Origin, Tunnel};
use trevlin_packets::way::{Step, StepKind};

/// Devices that one core is given at a time: few, so that none is left with many while the others wait.
const AT_A_TIME: usize = 16;

/// Applies a function to each device, on every core; the answers are in order of devices.
pub(crate) fn each_device(
    estate: &EstateMap,
    ask: impl Fn(usize) -> Vec<Answer> + Sync + Send,
) -> Vec<Answer> {
    (0..estate.devices.len()).into_par_iter().with_max_len(AT_A_TIME).flat_map_iter(ask).collect()
}

/// Adds a pass for every device that has something to judge, by its lines, and no other answer.
pub(crate) fn others_pass(answers: &mut Vec<Answer>, judged: BTreeMap<usize, Vec<Origin>>) {
    let answered: BTreeSet<usize> = answers.iter().map(|one| one.device.0).collect();
    let others = judged.into_iter().filter(|(at, lines)| !answered.contains(at) && !lines.is_empty());
    answers
        .extend(others.map(|(at, lines)| {
            Answer::new(at, Subject::of(SubjectKind::Device), Verdict::pass_lines(lines))
        }));
}

/// The same for devices with tunnels for clients.
pub(crate) fn others_with_clients_pass(estate: &EstateMap, answers: &mut Vec<Answer>) {
    let tunnels = |device: &Device| -> Vec<Origin> {
        device.facts.tunnels.iter().filter(|one| one.accepts_clients()).map(|one| one.origin).collect()
    };
    let judged = estate.devices.iter().enumerate().map(|(at, device)| (at, tunnels(device)));
    others_pass(answers, judged.collect());
}

/// The same for allocations of addresses.
pub(crate) fn others_of_plan_pass(
    estate: &EstateMap,
    answers: &mut Vec<Answer>,
    judged: impl Fn(&Allocation) -> bool,
) {
    let mut lines: BTreeMap<usize, Vec<Origin>> = BTreeMap::new();
    for one in estate.plan().allocations.iter().filter(|one| judged(one)) {
        lines.entry(one.device).or_default().push(one.origin);
    }
    others_pass(answers, lines);
}

/// A line to cite for a device as a whole: that of an interface that faces the Internet, otherwise the beginning of its first export.
pub(crate) fn line_of(estate: &EstateMap, at: usize) -> Origin {
    let outside = estate.outside(at).iter().find_map(|one| one.origin);
    let begins = || {
        let first = estate.devices[at].exports.first().copied().unwrap_or(trevlin_model::ExportId(0));
        estate.export(first).origin(0..0)
    };
    outside.unwrap_or_else(begins)
}

/// A line to cite for the packet filter of a device: the policy or the beginning of its first filter.
pub(crate) fn filter_of(estate: &EstateMap, at: usize) -> Origin {
    let filters = &estate.devices[at].facts.filters;
    // A dump begins with tables that translate or mark.
    let decides = |filter: &&Filter| {
        let hooks = [Some(Hook::Input), Some(Hook::Forward)];
        filter.table != "mangle" && filter.chains.iter().any(|chain| hooks.contains(&chain.hook))
    };
    let filter = filters.iter().find(decides).or_else(|| filters.first());
    filter.map_or_else(|| line_of(estate, at), |filter| filter.origin)
}

/// A part of a device's state.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum StatePart {
    Addresses,
    Routes,
    Filter,
    Sockets,
}

/// The beginning of a request for parts of a device's state, the same in every check, so that requests can be joined. An appliance has
/// no such commands.
pub(crate) fn provide(estate: &EstateMap, at: usize, parts: &[StatePart]) -> String {
    let name = &estate.devices[at].name;
    let described = estate.described(at);
    let words = |part: &StatePart| {
        let (command, page, section) = match part {
            StatePart::Addresses => {
                ("`ip -j addr show`", "the interfaces with their addresses", " (`interfaces`)")
            }
            StatePart::Routes => ("`ip -j route show`", "the routes", " (`routes`)"),
            StatePart::Filter => (
                "`nft list ruleset`, or `iptables-save` and `ip6tables-save`,",
                "the access rules",
                " (`rules` and `rule-list`)",
            ),
            StatePart::Sockets => ("`ss -tulpn`", "the services", " (`services`)"),
        };
        match described {
            None => command.to_owned(),
            Some(Described::Sheet) => format!("{page}{section}"),
            Some(Described::Export) => page.to_owned(),
        }
    };
    let parts: Vec<String> = parts.iter().map(words).collect();
    let all = match parts.as_slice() {
        [front @ .., last] if !front.is_empty() => format!("{} and {last}", front.join(", ")),
        parts => parts.concat(),
    };
    match described {
        None => format!("Please provide {all} of {name}"),
        Some(Described::Sheet) => format!("Please state {all} in the device sheet of {name}"),
        Some(Described::Export) => format!("Please show {all} of {name}, in an export or on screen"),
    }
}

/// A request for the packet filter that decides the steps of a path, where one was not exported; `what` is what it decides.
pub(crate) fn filter_decides(estate: &EstateMap, steps: &[Step], what: String) -> Option<Verdict> {
    let step = steps
        .iter()
        .find(|step| matches!(&step.kind, StepKind::NotWhole(lack) if lack == FILTER_NOT_EXPORTED))?;
    estate.devices.get(step.device)?;
    Some(Verdict::provide(
        provide(estate, step.device, &[StatePart::Filter]),
        Reason::decides(what),
        step.origin.into_iter().collect(),
    ))
}

/// The name of a tunnel within a sentence: a single word in small letters follows its kind, `OpenVPN server vpn`.
pub(crate) fn name_of(tunnel: &Tunnel) -> String {
    let name = &tunnel.name;
    let bare = name.starts_with(char::is_lowercase) && capitalized(name) == *name && !name.contains(' ');
    if bare { format!("{} {name}", tunnel.kind_name()) } else { name.clone() }
}

/// The name of a tunnel with an article, unless it is a proper name: `the PPTP server`, `the remote access`, `IKEv2`.
pub(crate) fn the(tunnel: &Tunnel) -> String {
    with_article("the", tunnel)
}

/// The same at the beginning of a sentence.
pub(crate) fn opening(tunnel: &Tunnel) -> String {
    with_article("The", tunnel)
}

fn with_article(article: &str, tunnel: &Tunnel) -> String {
    let name = name_of(tunnel);
    let common =
        name.starts_with(char::is_lowercase) || [" server", " tunnel"].iter().any(|kind| name.contains(kind));
    if common { format!("{article} {name}") } else { name }
}

/// The request for the accounts of a service of an appliance, the same in every check. Nothing for a device with files of its own.
pub(crate) fn accounts_of(estate: &EstateMap, at: usize, service: &str) -> Option<String> {
    Some(estate.described(at)?.request(&format!("the accounts of {service} (`logins`)")))
}

/// The request for a list of logins that was not exported, of a tunnel by its name, its path and the line that names it; `otherwise` is
/// that of a device with files of its own.
pub(crate) fn ask_for_list(
    estate: &EstateMap,
    at: usize,
    (tunnel, path, origin): (&str, &str, Origin),
    otherwise: String,
) -> Verdict {
    match accounts_of(estate, at, &service_of(&estate.devices[at], tunnel)) {
        Some(ask) => Verdict::ask(ask, vec![origin]),
        None => Verdict::ask(otherwise, vec![origin]).wanting(path),
    }
}

/// The name of a service within a sentence: that of a tunnel as in [`name_of`].
pub(crate) fn service_of(device: &Device, name: &str) -> String {
    let tunnel = device.facts.tunnels.iter().find(|tunnel| tunnel.name == name);
    tunnel.map_or_else(|| name.to_owned(), name_of)
}

/// Lines without repetitions, in order.
pub(crate) fn each_once(lines: impl IntoIterator<Item = Origin>) -> Vec<Origin> {
    let mut seen = BTreeSet::new();
    lines.into_iter().filter(|line| seen.insert((line.export, line.start))).collect()
}

/// The remark about later lines of an SSH server that set another value, where there are any (sshd_config(5): the first one wins).
pub(crate) fn without_effect(lines: &[Origin]) -> &'static str {
    if lines.is_empty() {
        ""
    } else {
        " Later lines that set another value have no effect, as the first one wins (cited)."
    }
}

/// A few of many names, with the number of the others.
pub(crate) fn some_names(all: &[String]) -> String {
    const MOST: usize = 6;
    match all.len().saturating_sub(MOST) {
        0 => all.join(", "),
        rest => format!("{} and {rest} more", all[..MOST].join(", ")),
    }
}
