//! Rules about recipients, as Exim evaluates them in their order (Exim specification, 44, "Access control lists"): for mail to a domain that
//! is none of the server's own, from a client without a login.
//!
//! A sender chooses its address, the recipient and the name it greets with: a rule that permits by them permits, and one that refuses by
//! them does not hold it back.

use super::text::{Line, list};
use crate::addresses;
use std::collections::BTreeMap;
use trevlin_model::served::Sources;
use trevlin_model::{IpRange, Origin};

/// Lists by their names, of domains and of hosts.
pub(super) type Lists = BTreeMap<(Kind, String), List>;

/// A named list: its text, and the lines that state it.
pub(super) struct List {
    pub(super) text: String,
    pub(super) lines: Vec<Origin>,
}

/// Kind of a named list.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub(super) enum Kind {
    Domains,
    Hosts,
}

/// Conditions of rules (Exim specification, 44.22).
const CONDITIONS: [&str; 20] = [
    "acl",
    "authenticated",
    "condition",
    "decode",
    "dnslists",
    "domains",
    "encrypted",
    "hosts",
    "local_parts",
    "malware",
    "mime_regex",
    "ratelimit",
    "recipients",
    "regex",
    "seen",
    "sender_domains",
    "senders",
    "spam",
    "spf",
    "verify",
];

/// Modifiers of rules (Exim specification, 44.20).
const MODIFIERS: [&str; 19] = [
    "add_header",
    "continue",
    "control",
    "delay",
    "dkim_signers",
    "dkim_status",
    "dmarc_status",
    "endpass",
    "log_message",
    "log_reject_target",
    "logwrite",
    "message",
    "queue",
    "remove_header",
    "seen",
    "set",
    "spf_guess",
    "udpsend",
    "atrn_domains",
];

const VERBS: [&str; 7] = ["accept", "defer", "deny", "discard", "drop", "require", "warn"];

/// Whether rules have a word at the beginning of a line.
pub(super) fn is_known(word: &str) -> bool {
    let bare = word.trim_start_matches('!');
    VERBS.contains(&bare) || CONDITIONS.contains(&bare) || MODIFIERS.contains(&bare)
}

/// A rule: its verb, and its conditions with their signs.
struct Rule<'l> {
    verb: &'l str,
    /// Name, whether it is negated, and value.
    conditions: Vec<(&'l str, bool, &'l str)>,
    origin: Origin,
}

/// Clients that may send to other domains without a login.
#[derive(Default)]
pub(super) struct Relay {
    /// Addresses and names, with the lines that decide.
    pub(super) sources: Sources,
    /// Lines that permit on a condition that is not evaluated.
    pub(super) open: Vec<Origin>,
}

/// The rules of a list by its name.
fn rules<'l>(lines: &'l [Line], name: &str) -> Vec<Rule<'l>> {
    let mut found: Vec<Rule<'l>> = Vec::new();
    let (mut inside, mut of_list) = (false, false);
    for line in lines {
        let text = line.text.as_str();
        if let Some(section) = text.strip_prefix("begin ") {
            of_list = section.trim() == "acl";
            inside = false;
            continue;
        }
        if !of_list {
            continue;
        }
        if let Some(heading) = text.strip_suffix(':')
            && !heading.contains([' ', '='])
        {
            inside = heading == name;
            continue;
        }
        if !inside {
            continue;
        }
        let first = text.split_whitespace().next().unwrap_or_default();
        let rest = if VERBS.contains(&first) {
            found.push(Rule { verb: first, conditions: Vec::new(), origin: line.origin });
            text[first.len()..].trim()
        } else {
            text
        };
        let Some(rule) = found.last_mut() else { continue };
        let (word, value) =
            rest.split_once('=').map_or((rest, ""), |(word, value)| (word.trim(), value.trim()));
        let (negated, word) = word.strip_prefix('!').map_or((false, word), |word| (true, word.trim()));
        if CONDITIONS.contains(&word) {
            rule.conditions.push((word, negated, value));
        }
    }
    found
}

/// Clients that meet a condition.
enum Meets {
    /// These addresses and names.
    Clients(Vec<IpRange>, Vec<String>),
    /// No client, or every client.
    Always(bool),
    /// The sender decides.
    Chosen,
    /// Not evaluated.
    Unknown,
}

fn meets(condition: &(&str, bool, &str), lists: &Lists) -> Meets {
    let (name, negated, value) = *condition;
    match name {
        "hosts" => {
            let (ranges, names) = hosts(value, lists, 0);
            match negated {
                false => Meets::Clients(ranges, names),
                true => Meets::Clients(Sources::everybody().without(&ranges).ranges, Vec::new()),
            }
        }
        "domains" => Meets::Always(foreign(value, lists, 0) != negated),
        "authenticated" => Meets::Always(negated),
        "condition" => match value.trim_matches('"').to_ascii_lowercase().as_str() {
            "true" | "yes" | "1" => Meets::Always(!negated),
            "false" | "no" | "0" | "" => Meets::Always(negated),
            _ => Meets::Unknown,
        },
        "senders" | "sender_domains" | "local_parts" | "recipients" | "verify" | "encrypted"
        | "ratelimit" | "regex" | "spf" => Meets::Chosen,
        // Whoever is on no such list.
        "dnslists" => Meets::Always(negated),
        _ => Meets::Unknown,
    }
}

/// Clients that a list of rules permits to send to a domain that is none of the server's own.
pub(super) fn relaying(lines: &[Line], name: &str, lists: &Lists) -> Relay {
    let mut relay = Relay::default();
    let mut rest = Sources::everybody().ranges;
    for rule in rules(lines, name) {
        let (mut clients, mut names) = (rest.clone(), None::<Vec<String>>);
        let (mut never, mut chosen, mut unknown) = (false, false, false);
        for condition in &rule.conditions {
            match meets(condition, lists) {
                Meets::Clients(ranges, more) => {
                    clients = Sources::of(clients, Vec::new()).and(&Sources::of(ranges, Vec::new())).ranges;
                    names = Some(names.map_or(more.clone(), |known| {
                        known.into_iter().filter(|one| more.contains(one)).collect()
                    }));
                }
                Meets::Always(holds) => never |= !holds,
                Meets::Chosen => chosen = true,
                Meets::Unknown => unknown = true,
            }
        }
        let named = names.clone().unwrap_or_default();
        match rule.verb {
            "accept" if never || clients.is_empty() && named.is_empty() => {}
            "accept" if unknown => relay.open.push(rule.origin),
            "accept" => {
                let of_hosts =
                    rule.conditions.iter().filter(|(name, negated, _)| *name == "hosts" && !negated);
                let of_list = |item: String| lists.get(&(Kind::Hosts, item.strip_prefix('+')?.to_owned()));
                let stated = of_hosts.flat_map(|one| list(one.2)).filter_map(of_list);
                relay.sources.origins.extend(stated.flat_map(|one| one.lines.iter().copied()));
                relay.sources.origins.push(rule.origin);
                relay.sources.ranges.extend(clients.iter().copied());
                relay.sources.names.extend(named);
                rest = Sources::of(rest, Vec::new()).without(&clients).ranges;
            }
            "deny" | "drop" | "defer" | "discard" if !(never || chosen || unknown) => {
                rest = Sources::of(rest, Vec::new()).without(&clients).ranges;
            }
            "require" if never => rest.clear(),
            "require" if names.is_some() => rest = clients,
            _ => {}
        }
        if rest.is_empty() {
            break;
        }
    }
    relay
}

/// Depth to which lists name others.
const DEPTH: usize = 8;

/// Whether a list of domains has one that is none of the server's own: the first item that fits decides, and the opposite of the last one
/// where none does.
fn foreign(text: &str, lists: &Lists, depth: usize) -> bool {
    let mut last = true;
    for item in list(text).iter().filter(|item| !item.is_empty()) {
        let (negated, item) =
            item.strip_prefix('!').map_or((false, item.as_str()), |item| (true, item.trim()));
        let fits = match item.strip_prefix('+') {
            Some(name) if depth < DEPTH => lists
                .get(&(Kind::Domains, name.to_owned()))
                .is_some_and(|inner| foreign(&inner.text, lists, depth + 1)),
            Some(_) => false,
            None => matches!(item, "*" | "^.*$" | "^.*"),
        };
        if fits {
            return !negated;
        }
        last = negated;
    }
    // An empty list has none.
    last && !list(text).iter().all(String::is_empty)
}

/// Addresses and names of a list of hosts.
pub(super) fn hosts(text: &str, lists: &Lists, depth: usize) -> (Vec<IpRange>, Vec<String>) {
    let (mut found, mut names, mut gone) = (Vec::new(), Vec::new(), Vec::new());
    let mut last = false;
    for item in list(text).iter().filter(|item| !item.is_empty()) {
        let (negated, item) =
            item.strip_prefix('!').map_or((false, item.as_str()), |item| (true, item.trim()));
        last = negated;
        let (ranges, more): (Vec<IpRange>, Vec<String>) = match item {
            "*" => (Sources::everybody().ranges, Vec::new()),
            item if item.starts_with('+') && depth < DEPTH => lists
                .get(&(Kind::Hosts, item[1..].to_owned()))
                .map(|inner| hosts(&inner.text, lists, depth + 1))
                .unwrap_or_default(),
            item => match addresses::range_or_prefix(item.trim_matches(['[', ']'])) {
                Some(range) => (vec![range], Vec::new()),
                None if item.starts_with(['+', '@']) || item.contains("${") => (Vec::new(), Vec::new()),
                None => (Vec::new(), vec![item.to_owned()]),
            },
        };
        let fresh = Sources::of(ranges, Vec::new()).without(&gone).without(&found).ranges;
        match negated {
            true => gone.extend(fresh),
            false => {
                found.extend(fresh);
                names.extend(more);
            }
        }
    }
    if last {
        let rest = Sources::everybody().without(&gone).without(&found).ranges;
        found.extend(rest);
    }
    (found, names)
}
