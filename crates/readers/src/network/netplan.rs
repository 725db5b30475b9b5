//! netplan's YAML files (netplan(5)).

use super::wireguard::{Peer, finish, name, take};
use super::{interface, route, stated, tell_mistyped};
use crate::addresses;
use crate::encapsulation::encapsulation;
use crate::reader::{LineRecorder, ReadContext, Reader, Reading, Recognition};
use crate::serving::is_known;
use crate::yaml::{Node, documents, settle};
use serde::Deserialize;
use std::collections::BTreeSet;
use std::ops::Range;
use std::sync::Arc;
use trevlin_model::plan::AddressPlan;
use trevlin_model::secret::SecretKind;
use trevlin_model::{Export, Limit, Origin, Pool, Secret, SecretRecord};

/// The reader.
pub(crate) const READER: Reader =
    Reader { name: "netplan", title: "interfaces at boot (netplan)", manual: "netplan(5)", recognise, read };

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
struct Keys {
    keys: BTreeSet<String>,
    /// Further in.
    inner: BTreeSet<String>,
}

/// Keys with a switch, and keys with a number (netplan(5), and the handlers of its parser).
const SWITCHES: [&str; 11] = [
    "critical",
    "dhcp4",
    "dhcp6",
    "emit-lldp",
    "hidden",
    "ignore-carrier",
    "ipv6-privacy",
    "on-link",
    "optional",
    "use-routes",
    "wakeonlan",
];
const NUMBERS: [&str; 5] = ["ipv6-mtu", "metric", "mtu", "route-metric", "table"];

trevlin_model::table! { static KEYS: Keys = "../../tables/netplan-keys.toml"; }

/// Kinds of devices that have addresses (netplan(5)).
const KINDS: [&str; 10] = [
    "ethernets",
    "modems",
    "wifis",
    "bridges",
    "dummy-devices",
    "bonds",
    "tunnels",
    "virtual-ethernets",
    "vlans",
    "vrfs",
];

fn recognise(export: &Export) -> Recognition {
    let starts = export.lines().any(|line| line.text.trim_end() == "network:");
    let kinds = || {
        export.lines().any(|line| KINDS.iter().any(|kind| line.text.trim().strip_suffix(':') == Some(kind)))
    };
    if starts && kinds() {
        Recognition::Content
    } else if export.path().contains("netplan/") && export.file_name().ends_with(".yaml") {
        Recognition::Name
    } else {
        Recognition::No
    }
}

struct State<'a> {
    export: &'a Export,
    reading: Reading,
}

fn read(export: &Export, _: &ReadContext<'_>) -> Reading {
    let (found, broken) = documents(export.text(), export.limits().of(Limit::Nesting));
    let mut state = State { export, reading: Reading::of(export) };
    let mut book = LineRecorder::new(export, &mut state.reading.ledger, &mut state.reading.elsewhere);
    settle(export, broken, &mut book, "netplan rejects the file");
    for (key, span, _) in found.iter().flat_map(|document| document.entries()) {
        if key != "network" {
            let origin = export.origin(span.clone());
            LineRecorder::new(export, &mut state.reading.ledger, &mut state.reading.elsewhere)
                .not_understood(
                    origin,
                    "expected `network:`; netplan accepts no other key at the top of a file",
                );
        }
    }
    for network in found.iter().filter_map(|document| document.get("network")) {
        for (kind, span, devices) in network.entries() {
            if KINDS.contains(&kind.as_str()) {
                for (device, at, node) in devices.entries() {
                    state.device(kind, device, at.clone(), node);
                }
            } else if !matches!(kind.as_str(), "version" | "renderer" | "openvswitch" | "nm-devices") {
                let origin = export.origin(span.clone());
                LineRecorder::new(export, &mut state.reading.ledger, &mut state.reading.elsewhere)
                    .not_understood(origin, "not a key of netplan(5) at this place");
            }
        }
        state.secrets(network, "");
    }
    tell_mistyped(export, state.reading)
}

impl State<'_> {
    fn origin(&self, span: Range<usize>) -> Origin {
        let text = self.export.text().get(span.clone()).unwrap_or_default();
        let bare = text.trim_matches(['"', '\'']);
        // Quotes are no part of the value.
        if bare.is_empty() { self.export.origin(span) } else { self.export.origin_of(bare) }
    }

    /// Nested keys. Names are arbitrary in a few places.
    fn inner(&mut self, above: &str, node: &Node) {
        const FREE: [&str; 6] =
            ["access-points", "external-ids", "other-config", "passthrough", "addresses", "port-priority"];
        for element in node.elements() {
            self.inner(above, element);
        }
        for (key, _, inner) in node.entries().iter().filter(|_| !FREE.contains(&above)) {
            self.values(key, inner);
        }
        for (key, span, inner) in node.entries() {
            let known = KEYS.inner.contains(key) || KEYS.keys.contains(key) || is_known("netplan", key);
            if !FREE.contains(&above) && !known {
                let origin = self.origin(span.clone());
                LineRecorder::new(self.export, &mut self.reading.ledger, &mut self.reading.elsewhere)
                    .not_understood(
                        origin,
                        "not a key of netplan(5) at this place; netplan rejects the file",
                    );
            }
            if !matches!(above, "external-ids" | "other-config" | "passthrough") {
                self.inner(key, inner);
            }
        }
    }

    /// Values that netplan rejects, and with them the file: switches, numbers, and addresses without the length of their prefix.
    fn values(&mut self, key: &str, node: &Node) {
        let Some((text, span)) = node.scalar() else { return };
        let switch = || {
            ["true", "on", "yes", "y", "false", "off", "no", "n"]
                .iter()
                .any(|word| text.eq_ignore_ascii_case(word))
        };
        let why = if SWITCHES.contains(&key) && !switch() {
            "expected `true` or `false`; netplan rejects the file"
        } else if NUMBERS.contains(&key) && text.parse::<u32>().is_err() {
            "expected a number; netplan rejects the file"
        } else {
            return;
        };
        let origin = self.origin(span);
        LineRecorder::new(self.export, &mut self.reading.ledger, &mut self.reading.elsewhere)
            .not_understood(origin, why);
    }

    fn device(&mut self, kind: &str, device: &str, at: Range<usize>, node: &Node) {
        for address in node.get("addresses").map(Node::elements).unwrap_or_default() {
            // An address with a label or a lifetime is the key of its options.
            let bare = address.scalar().or_else(|| {
                let (text, span, _) = address.entries().first()?;
                Some((text.as_str(), span.clone()))
            });
            if let Some((text, span)) = bare.filter(|(text, _)| !text.contains('/')) {
                let origin = self.origin(span);
                let why = if text.parse::<std::net::IpAddr>().is_ok() {
                    "the length of the prefix is missing, as in `10.4.0.1/24`; netplan rejects the file"
                } else {
                    "expected an address with the length of its prefix; netplan rejects the file"
                };
                LineRecorder::new(self.export, &mut self.reading.ledger, &mut self.reading.elsewhere)
                    .not_understood(origin, why);
            }
        }
        let origin = self.origin(at);
        for (key, span, _) in node.entries() {
            if !KEYS.keys.contains(key) && !is_known("netplan", key) {
                let origin = self.origin(span.clone());
                LineRecorder::new(self.export, &mut self.reading.ledger, &mut self.reading.elsewhere)
                    .not_understood(origin, "not a key of netplan(5) for a device; netplan rejects the file");
            }
        }
        for (key, _, inner) in node.entries() {
            self.values(key, inner);
            self.inner(key, inner);
        }
        // With `match` the key is a name of its own, and the interface is the one that is matched.
        let matched = node.get("match").and_then(|one| one.get("name"));
        let matched = node.get("set-name").or(matched).and_then(Node::scalar).map(|(name, _)| name);
        let device = matched.filter(|name| !name.contains(['*', '?', '['])).unwrap_or(device);
        let mut one = interface(device, origin);
        let mode = node.get("mode").and_then(Node::scalar).map(|(mode, _)| mode).unwrap_or_default();
        one.point_to_point = kind == "tunnels" && !matches!(mode, "gretap" | "ip6gretap" | "vxlan");
        if node.get("dhcp4").is_some_and(Node::is_true) {
            one.asks = node.get("dhcp4").and_then(Node::scalar).map(|(_, span)| self.origin(span));
        }
        for element in node.get("addresses").map(Node::elements).unwrap_or_default() {
            // An address with options of its own is a map with one key.
            let stated_at = match element {
                Node::Scalar(text, span) => Some((text.as_str(), span.clone())),
                other => other.entries().first().map(|(text, span, _)| (text.as_str(), span.clone())),
            };
            if let Some((text, span)) = stated_at {
                let origin = self.origin(span);
                one.addresses.extend(stated(text, origin, &mut self.reading.facts.malformed));
            }
        }
        for key in ["gateway4", "gateway6"] {
            if let Some((gateway, span)) = node.get(key).and_then(Node::scalar) {
                let origin = self.origin(span);
                let found =
                    route("default", Some(gateway), device, origin, &mut self.reading.facts.malformed);
                self.reading.facts.stored_routes.extend(found);
            }
        }
        for element in node.get("routes").map(Node::elements).unwrap_or_default() {
            let value = |key: &str| element.get(key).and_then(Node::scalar);
            let Some((to, span)) = value("to") else { continue };
            let to = if matches!(to, "0.0.0.0/0" | "::/0") { "default" } else { to };
            let origin = self.origin(span);
            let via = value("via").map(|(via, _)| via);
            let found = route(to, via, device, origin, &mut self.reading.facts.malformed);
            self.reading.facts.stored_routes.extend(found);
        }
        let servers = node.get("nameservers").and_then(|node| node.get("addresses"));
        for (server, span) in servers.map(Node::elements).unwrap_or_default().iter().filter_map(Node::scalar)
        {
            let origin = self.origin(span);
            let known = addresses::take(server, origin, &mut self.reading.facts.malformed, addresses::single);
            self.reading.facts.name_servers.extend(known.map(|server| (server, origin)));
        }
        if mode == "wireguard" {
            self.peers(device, node, &one, origin);
        } else if kind == "tunnels" {
            let end = |key: &str| node.get(key).and_then(Node::scalar).map(|(text, _)| text);
            self.reading.facts.tunnels.extend(encapsulation(
                mode,
                device,
                end("local"),
                end("remote"),
                origin,
            ));
        }
        self.reading.facts.stored_interfaces.push(one);
    }

    fn peers(&mut self, device: &str, node: &Node, own: &trevlin_model::Interface, origin: Origin) {
        let mut plan = AddressPlan::default();
        let mut called = true;
        let mut known = Vec::new();
        for element in node.get("peers").map(Node::elements).unwrap_or_default() {
            let key = element.get("keys").and_then(|keys| keys.get("public")).and_then(Node::scalar);
            let allowed = element.get("allowed-ips").map(Node::elements).unwrap_or_default();
            let peer = Peer {
                who: name(None, key.as_ref().map(|(key, _)| *key)),
                called: element.get("endpoint").is_some(),
                allowed: allowed
                    .iter()
                    .filter_map(Node::scalar)
                    .map(|(text, span)| (text, self.origin(span)))
                    .collect(),
                public_key: key.as_ref().map(|(key, _)| (*key).to_owned()),
                endpoint: element.get("endpoint").and_then(Node::scalar).map(|(text, _)| text.to_owned()),
                shared_key: element
                    .get("keys")
                    .and_then(|keys| keys.get("shared"))
                    .and_then(Node::scalar)
                    .map(|(_, span)| self.origin(span)),
                keepalive: element
                    .get("keepalive")
                    .and_then(Node::scalar)
                    .and_then(|(text, _)| text.parse().ok()),
                // Its routes are stated apart.
                routed: false,
                origin: key.map_or(origin, |(_, span)| self.origin(span)),
            };
            called &= peer.called;
            take(&peer, &mut plan, &mut known);
        }
        if !called {
            plan.pools.extend(
                own.addresses.iter().map(|address| Pool::around(format!("WireGuard {device}"), address)),
            );
        }
        let port = node.get("port").and_then(Node::scalar);
        let port = port.and_then(|(text, span)| Some((text.parse().ok()?, self.origin(span))));
        finish(&mut self.reading, device, plan, known, port, origin);
    }

    /// Passwords of wireless networks and keys of tunnels, at any place.
    fn secrets(&mut self, node: &Node, within: &str) {
        for (key, _, value) in node.entries() {
            let kind = match key.as_str() {
                "password" | "client-key-password" => Some(SecretKind::OwnPassword),
                "private" | "key" => Some(SecretKind::PrivateKey),
                "shared" | "input" | "output" => Some(SecretKind::SharedKey),
                _ => None,
            };
            match (kind, value.scalar()) {
                // A path leads to a file with the key.
                (Some(kind), Some((text, span))) if !text.is_empty() && !text.starts_with('/') => {
                    let held = SecretRecord {
                        secret: Secret::new(text),
                        kind,
                        owner: format!("{key} of {within}"),
                        origin: self.origin(span),
                    };
                    self.reading.facts.secrets.push(Arc::new(held));
                }
                _ => self.secrets(value, key),
            }
        }
        for element in node.elements() {
            self.secrets(element, within);
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use trevlin_model::{ExportId, LineClass};

    #[test]
    fn values_that_netplan_rejects() {
        for (lines, wanted) in [
            ("dhcp4: maybe", 1),
            ("dhcp4: \"yes\"", 0),
            ("addresses: [10.4.0.1]", 1),
            ("addresses: [\"10.4.0.1/24\"]", 0),
            ("mtu: big", 1),
            ("mtu: 1400", 0),
            ("dhcp4-overrides:\n        use-routes: perhaps", 1),
        ] {
            let text = format!("network:\n  version: 2\n  ethernets:\n    eth0:\n      {lines}\n");
            let export = Export::new(trevlin_model::ExportId(0), "d/etc/netplan/50.yaml", text);
            let reading = read(&export, &ReadContext::of(vec![&export]));
            assert_eq!(reading.ledger.notes.len(), wanted, "{lines}: {:?}", reading.ledger.notes);
        }
    }

    #[test]
    fn devices_routes_and_tunnels() {
        let text = "network:\n  version: 2\n  ethernets:\n    eth0:\n      addresses: [10.4.0.9/24, \"2001:db8:4::9/64\"]\n      \
                    routes:\n        - to: default\n          via: 10.4.0.1\n        - {to: 10.7.0.0/16, via: 10.4.0.2}\n      \
                    nameservers: {addresses: [10.4.0.53]}\n    lan:\n      match: {name: eth1}\n      dhcp4: true\n      adresses: []\n  wifis:\n    wlan0:\n      \
                    access-points:\n        \"quay\": {password: \"open sesame\"}\n      addresses: [10.4.0.900/24]\n  tunnels:\n    wg0:\n      \
                    mode: wireguard\n      key: S0Secret=\n      addresses: [10.9.0.1/24]\n      peers:\n        - keys: {public: AAAABBBBCC=, shared: S1Secret=}\n          \
                    allowed-ips: [10.9.0.2/32, 10.5.0.0/24]\n  wobble: 3\n";
        let export = Export::new(ExportId(0), "d/etc/netplan/01.yaml", text.into());
        assert_eq!(recognise(&export), Recognition::Content);
        let reading = read(&export, &ReadContext::default());
        let told: Vec<_> = reading
            .facts
            .stored_interfaces
            .iter()
            .map(|one| {
                let line = export.line_of(one.origin.start);
                format!("{} {} {}@{line}", one.name, one.addresses.len(), one.asks.is_some())
            })
            .collect();
        assert_eq!(told, ["eth0 2 false@4", "eth1 0 true@11", "wlan0 0 false@16", "wg0 1 false@21"]);
        let routes: Vec<_> =
            reading.facts.stored_routes.iter().map(|one| one.destination.to_string()).collect();
        assert_eq!(routes, ["0.0.0.0/0", "10.7.0.0/16"]);
        let plan = &reading.facts.tunnels[0].addresses;
        assert_eq!((plan.pools.len(), plan.fixed.len(), plan.remote.len()), (1, 1, 1));
        assert_eq!((reading.facts.secrets.len(), reading.facts.malformed.len()), (3, 1));
        assert!(!format!("{reading:?}").contains("sesame"));
        let notes = reading.ledger.notes.iter().filter(|note| note.text.contains("not a key of netplan"));
        assert_eq!(notes.count(), 2);
    }

    #[test]
    fn a_broken_file_keeps_its_beginning() {
        let text = "network:\n  ethernets:\n    eth0:\n      addresses: [10.4.0.9/24]\n    eth1: [\n  }\n";
        let export = Export::new(ExportId(0), "d/etc/netplan/01.yaml", text.into());
        let reading = read(&export, &ReadContext::default());
        assert_eq!(reading.facts.stored_interfaces[0].addresses.len(), 1);
        assert!(reading.ledger.count(LineClass::NotUnderstood) > 0);
    }
}
