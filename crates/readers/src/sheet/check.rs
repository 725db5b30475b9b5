//! Missing statements and contradictions of a sheet.

use super::rule_base::{NamedList, Ordered};
use super::{by_hand, document};
use std::collections::BTreeMap;
use std::net::IpAddr;
use trevlin_model::{DeviceKind, Export, Facts, Note, Origin, Protocol};

/// Messages about a sheet.
#[derive(Debug, Default)]
pub struct Report {
    /// Unreadable parts, by line.
    pub unread: Vec<Note>,
    /// Contradictions, by line.
    pub contradictions: Vec<Note>,
    /// Unanswered questions, in the order of the work.
    pub missing: Vec<String>,
    /// Values that were looked for and are on no screen, by line.
    pub not_seen: Vec<Origin>,
    /// Whether the sheet has the form of an earlier version.
    pub is_former: bool,
}

/// Looks at a sheet as one filled in by hand.
#[must_use]
pub fn check(export: &Export) -> Report {
    let (top, mut unread) = document(export).told("sheet");
    let stated: Vec<String> = top.entries().iter().map(|entry| entry.key.to_string()).collect();
    let kind = top.get("kind").and_then(|kind| DeviceKind::from_word(kind.text()?));
    let has_form = top.get("sheet").is_some();
    let is_former = top.get("sheet").and_then(super::node::Node::text) == Some(super::FORMER);
    let (found, ordered) = by_hand(export, top);
    unread.extend(found.notes);
    unread.sort_by_key(|note| note.origin);
    let mut missing = missing(&stated, kind, &ordered);
    if !has_form {
        missing.insert(0, format!("`sheet = \"{}\"`, which identifies the file as a sheet", super::FORM));
    }
    let mut contradictions = contradictions(&found.facts, &ordered);
    contradictions.sort_by_key(|note| note.origin);
    let mut not_seen = found.not_seen;
    not_seen.sort_unstable();
    Report { unread, contradictions, missing, not_seen, is_former }
}

/// Sections that a sheet of a kind answers, in the order of the work, and what each is about. An empty list is an answer.
const WANTED: [(&[&str], &[DeviceKind], &str); 9] = {
    use DeviceKind::{Firewall, Router, Server, Storage};
    const ALL: &[DeviceKind] = &[Firewall, Router, Server, Storage];
    [
        (
            &["logins", "accounts", "ppp-secrets", "radius-targets"],
            ALL,
            "who may log in, and against which directory (`logins`, or `radius-targets` for an external RADIUS server)",
        ),
        (&["tunnels"], ALL, "whether it accepts or opens tunnels (`tunnels`)"),
        (&["interfaces"], ALL, "its interfaces and addresses (`interfaces`)"),
        (&["routes"], ALL, "its routes, the default route among them (`routes`)"),
        (
            &["rules", "filters"],
            &[Firewall, Router],
            "what it permits (`rules` and `rule-list`, or `filters`)",
        ),
        (&["forwards", "filters"], &[Firewall, Router], "which ports it forwards (`forwards`)"),
        (
            &["services", "ssh-servers"],
            ALL,
            "which services it offers, and how it is administered (`services`, `ssh-servers`)",
        ),
        (&["log-keepers"], ALL, "where it sends its log (`log-keepers`)"),
        (&["clock-keepers"], ALL, "which time source it uses (`clock-keepers`)"),
    ]
};

fn missing(stated: &[String], kind: Option<DeviceKind>, ordered: &Ordered) -> Vec<String> {
    let says = |key: &str| stated.iter().any(|one| one == key);
    let mut found = Vec::new();
    if kind.is_none() {
        found.push("what it is (`kind`: firewall, router, server or storage)".to_owned());
    }
    let wanted = WANTED.iter().filter(|(keys, kinds, _)| {
        kind.is_none_or(|kind| kinds.contains(&kind)) && !keys.iter().any(|key| says(key))
    });
    found.extend(wanted.map(|(.., what)| (*what).to_owned()));
    let list = ordered.list.clone().unwrap_or_default();
    let attached = |one: &&NamedList| !(one.off || one.entering.is_empty() && one.leaving.is_empty());
    if list.lists_end.is_none() && ordered.lists.iter().filter(attached).any(|one| one.end.is_none()) {
        found.push(
            "the action at the end of a list (`lists-end` in `rule-list`, or `end` in `lists`)".to_owned(),
        );
    }
    if list.replies.is_none() && ordered.lists.iter().filter(attached).any(|one| one.replies.is_none()) {
        found.push(
            "whether replies pass the lists without a rule (`replies` in `rule-list` or in `lists`)"
                .to_owned(),
        );
    }
    if ordered.rules.iter().any(|rule| rule.list.is_none()) {
        let forwards =
            !ordered.forwards.is_empty() && ordered.forwards.iter().any(|one| one.passes.is_none());
        for (unsaid, key, what) in [
            (list.through.is_none(), "through", "the default action for forwarded traffic"),
            (list.to_device.is_none(), "to-device", "the default action for traffic to the device itself"),
            (
                list.meets_device.is_none() && ordered.rules.iter().any(|rule| rule.to.is_empty()),
                "meets-device",
                "whether rules without a destination zone apply to traffic to the device itself",
            ),
            (
                list.forwards_pass.is_none() && forwards,
                "forwards-pass",
                "whether forwarded traffic passes without a rule of its own",
            ),
        ] {
            if unsaid {
                found.push(format!("{what} (`{key}` in `rule-list`)"));
            }
        }
    }
    found
}

fn contradictions(facts: &Facts, ordered: &Ordered) -> Vec<Note> {
    let mut found = Vec::new();
    let mut say = |origin: Origin, text: String| found.push(Note { origin, text });
    let mut names: BTreeMap<&str, Origin> = BTreeMap::new();
    let mut addresses: BTreeMap<IpAddr, &str> = BTreeMap::new();
    for one in &facts.interfaces {
        if names.insert(&one.name, one.origin).is_some() {
            say(one.origin, format!("the interface `{}` is defined twice", one.name));
        }
        for address in &one.addresses {
            let held = addresses.insert(address.net.addr(), &one.name);
            if let Some(other) = held.filter(|other| *other != one.name) {
                let text =
                    format!("`{}` has the address {}, and so has `{other}`", one.name, address.net.addr());
                say(address.origin, text);
            }
        }
    }
    let mut zones: BTreeMap<&str, &str> = BTreeMap::new();
    for zone in &ordered.zones {
        for (interface, origin) in &zone.interfaces {
            if let Some(other) = zones.insert(interface, &zone.name).filter(|other| *other != zone.name) {
                say(
                    *origin,
                    format!("`{interface}` is in the zone `{}` and in the zone `{other}`", zone.name),
                );
            }
            let of_tunnel = || facts.tunnels.iter().any(|one| one.interface.as_deref() == Some(&**interface));
            if facts.has_interfaces && !names.contains_key(&**interface) && !of_tunnel() {
                say(
                    *origin,
                    format!(
                        "the zone `{}` names `{interface}`, which is not an interface of this device",
                        zone.name
                    ),
                );
            }
        }
    }
    for route in &facts.routes {
        let Some(gateway) = route.gateway else { continue };
        let own = facts.interfaces.iter().flat_map(|one| &one.addresses);
        let mut nets = own.filter(|address| address.net.addr().is_ipv4() == gateway.is_ipv4()).peekable();
        if nets.peek().is_some() && !nets.any(|address| address.net.contains(&gateway)) {
            say(route.origin, format!("the gateway {gateway} is not in the network of any interface"));
        }
    }
    for tunnel in &facts.tunnels {
        for pool in &tunnel.addresses.pools {
            let Some(net) = pool.network else { continue };
            let strays =
                pool.ranges.iter().filter(|(range, _)| !trevlin_model::IpRange::from(net).covers(range));
            for (range, origin) in strays {
                say(*origin, format!("{} assigns {}, outside its network {net}", tunnel.name, range.short()));
            }
        }
    }
    ports_taken_twice(facts, &mut say);
    found
}

/// Two services at one port of one address.
fn ports_taken_twice(facts: &Facts, say: &mut dyn FnMut(Origin, String)) {
    let mut taken: Vec<(Protocol, Option<IpAddr>, u16, &str, Origin)> = Vec::new();
    for tunnel in &facts.tunnels {
        for one in &tunnel.listeners {
            if let (Some(address), Some(port)) = (one.address.value(), one.port.value()) {
                taken.push((one.protocol, *address, *port, &tunnel.name, tunnel.origin));
            }
        }
    }
    for service in &facts.served {
        let places = service.endpoints.iter();
        taken.extend(
            places.map(|one| (one.protocol, one.address, one.port, service.name.as_str(), one.origin)),
        );
    }
    for (at, one) in taken.iter().enumerate() {
        let meets = |other: &&(Protocol, Option<IpAddr>, u16, &str, Origin)| {
            (other.0, other.2) == (one.0, one.2)
                && other.3 != one.3
                && (other.1.is_none() || one.1.is_none() || other.1 == one.1)
        };
        if let Some(other) = taken[..at].iter().find(meets) {
            let text =
                format!("{} listens on {} {}, where {} already listens", one.3, one.0.name(), one.2, other.3);
            say(one.4, text);
        }
    }
}
