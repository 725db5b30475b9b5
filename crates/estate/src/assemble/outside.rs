//! Interfaces that face an untrusted network.

use crate::assemble::Estate;
pub use crate::assemble::estate::{OutsideInterface, OutsideReason};
use crate::special::is_public;
use std::collections::BTreeSet;
use trevlin_model::{
    Chain, ChainKind, Device, Hook, Interface, MatchKind, Origin, Rule, Target, TranslationKind,
};

/// Internet interfaces of every device.
pub(super) fn of(estate: &Estate) -> Vec<Vec<OutsideInterface>> {
    estate.devices.iter().enumerate().map(|(at, device)| of_device(estate, at, device)).collect()
}

fn of_device(estate: &Estate, at: usize, device: &Device) -> Vec<OutsideInterface> {
    if !device.stated_outside.is_empty() {
        return device
            .stated_outside
            .iter()
            .map(|name| build(device, name, OutsideReason::Stated, true))
            .collect();
    }
    let mut found: Vec<OutsideInterface> = Vec::new();
    for route in device.facts.routes.iter().filter(|route| route.is_default()) {
        let Some(name) = &route.interface else { continue };
        if route.gateway.is_some_and(|gateway| estate.is_of_another(at, gateway)) {
            continue;
        }
        let one = build(device, name, OutsideReason::DefaultRoute(route.origin), true);
        // An interface with only private addresses may be behind an upstream router, or on an internal network.
        let public = one.addresses.iter().any(|address| is_public(*address));
        let gateway_public = route.gateway.is_some_and(is_public);
        let dial_out = device.facts.interfaces.iter().any(|one| one.name == *name && one.point_to_point);
        if !found.iter().any(|known| known.name == one.name) {
            let certain = public || gateway_public || dial_out || is_named_so(name);
            found.push(OutsideInterface { certain, ..one });
        }
    }
    let has_default = device.facts.routes.iter().any(trevlin_model::Route::is_default);
    if !has_default {
        let public_v4 = |one: &Interface| {
            one.addresses.iter().any(|address| address.net.addr().is_ipv4() && is_public(address.net.addr()))
        };
        let any_v4 = device.facts.interfaces.iter().any(public_v4);
        for interface in device.facts.interfaces.iter().filter(|one| !one.loopback) {
            // Beside an interface with a public IPv4 address, one with private IPv4 addresses alone is a network inside, whose public
            // addresses of IPv6 are the organisation's own.
            let inside = any_v4
                && !public_v4(interface)
                && interface.addresses.iter().any(|address| address.net.addr().is_ipv4());
            if inside {
                continue;
            }
            if let Some(address) = interface.addresses.iter().find(|address| is_public(address.net.addr())) {
                let reason = OutsideReason::PublicAddress(address.origin);
                found.push(build(device, &interface.name, reason, false));
            }
        }
        if found.is_empty() {
            found = hiding(device);
        }
        // The only one with a public address, or with source translation: no other can face the Internet.
        if let [only] = found.as_mut_slice() {
            only.certain = !matches!(only.reason, OutsideReason::Hides(_)) || only.addresses.is_empty();
        }
    }
    found
}

/// Interfaces that hide whatever leaves by them behind their own address, which a router does towards its provider; a tunnel that does
/// so leads elsewhere. A rule that hides some sources or destinations alone is for those.
fn hiding(device: &Device) -> Vec<OutsideInterface> {
    let leads: BTreeSet<&str> =
        device.facts.tunnels.iter().filter_map(|tunnel| tunnel.interface.as_deref()).collect();
    let mut found: Vec<OutsideInterface> = Vec::new();
    let mut add = |name: &str, origin: Origin| {
        if !leads.contains(name) && !name.ends_with('+') && !found.iter().any(|known| known.name == name) {
            found.push(build(device, name, OutsideReason::Hides(origin), false));
        }
    };
    for filter in &device.facts.filters {
        let names = filter.by_name();
        let departs = |chain: &&Chain| chain.kind == ChainKind::Nat && chain.hook == Some(Hook::Postrouting);
        for rule in filter.chains.iter().filter(departs).flat_map(|chain| &chain.rules) {
            let Some(leaving) = leaving_alone(rule) else { continue };
            match &rule.target {
                Target::Jump(to) | Target::Goto(to) => {
                    for inner in names.get(to.as_str()).into_iter().flat_map(|chain| &chain.rules) {
                        let whole = leaving_alone(inner).filter(|_| hides(&inner.target));
                        if let Some(name) = whole.and_then(|own| own.or(leaving)) {
                            add(name, inner.origin);
                        }
                    }
                }
                target if hides(target) => {
                    if let Some(name) = leaving {
                        add(name, rule.origin);
                    }
                }
                _ => {}
            }
        }
    }
    found
}

fn hides(target: &Target) -> bool {
    let kinds = [TranslationKind::Masquerade, TranslationKind::Source];
    matches!(target, Target::Translate(translation) if kinds.contains(&translation.kind))
}

/// The outgoing interface of a rule without further conditions; `None` otherwise.
fn leaving_alone(rule: &Rule) -> Option<Option<&str>> {
    let mut leaving = None;
    for one in &rule.matches {
        match &one.kind {
            MatchKind::Leaving(name) if !one.negated => leaving = Some(name.as_str()),
            MatchKind::Version(_) => {}
            _ => return None,
        }
    }
    Some(leaving)
}

/// Whether the name of an interface indicates an untrusted network: `wan`, `outside`, `external`, `internet`, with a number or not.
fn is_named_so(name: &str) -> bool {
    let bare = name
        .trim_end_matches(|last: char| last.is_ascii_digit() || last == '-' || last == '_')
        .to_ascii_lowercase();
    matches!(bare.as_str(), "wan" | "outside" | "external" | "internet")
}

fn build(device: &Device, name: &str, reason: OutsideReason, certain: bool) -> OutsideInterface {
    let interface = device.facts.interfaces.iter().find(|one| one.name == name);
    OutsideInterface {
        name: name.to_owned(),
        reason,
        certain,
        origin: interface.map(|one| one.origin),
        addresses: interface
            .map(|one| one.addresses.iter().map(|address| address.net.addr()).collect())
            .unwrap_or_default(),
    }
}
