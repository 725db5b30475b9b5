//! WireGuard: files of wg-quick(8), output of `wg showconf`, and peers in other formats (wg(8), AllowedIPs).
//!
//! A peer without an endpoint is a client; its own allowed addresses are its fixed addresses, and networks lie behind it. A peer with an
//! endpoint is a server; all allowed addresses are routed to it.

use super::{interface, stated, tell_mistyped};
use crate::addresses;
use crate::announced;
use crate::ini::{Section, before_comment, sections};
use crate::reader::{LineRecorder, ReadContext, Reader, Reading, Recognition, TELLING_LINES};
use std::sync::Arc;
use trevlin_model::offer::{Offer, OfferPart, Spelling};
use trevlin_model::plan::{AddressPlan, FixedAddress};
use trevlin_model::secret::SecretKind;
use trevlin_model::wireguard::WireGuardPeer;
use trevlin_model::{
    CommandMoment, Export, IpRange, LineClass, Listener, Origin, Pool, Protocol, Secret, SecretRecord,
    Setting, Tunnel, TunnelFamily, TunnelRole,
};

/// The reader.
pub(crate) const READER: Reader = Reader {
    name: "wireguard",
    title: "WireGuard configuration",
    manual: "wg(8), wg-quick(8)",
    recognise,
    read,
};

/// Keys that become facts here; the others of wg(8) and wg-quick(8) come after them.
const KNOWN: [&str; 9] = [
    "Address",
    "DNS",
    "AllowedIPs",
    "Endpoint",
    "PrivateKey",
    "PresharedKey",
    "PublicKey",
    "ListenPort",
    "PersistentKeepalive",
];
const PASSED_OVER: [&str; 8] =
    ["MTU", "Table", "PreUp", "PostUp", "PreDown", "PostDown", "SaveConfig", "FwMark"];

/// Keys with commands that run when the interface comes up.
const COMMANDS: [&str; 2] = ["PreUp", "PostUp"];

fn recognise(export: &Export) -> Recognition {
    let has = |wanted: &str| {
        export.lines().take(TELLING_LINES).any(|line| {
            line.text.split('=').next().is_some_and(|key| key.trim().eq_ignore_ascii_case(wanted))
                || line.text.trim().eq_ignore_ascii_case(wanted)
        })
    };
    if (has("[Interface]") && has("PrivateKey")) || (has("[Peer]") && has("AllowedIPs")) {
        Recognition::Content
    } else if export.path().contains("wireguard/") && export.file_name().ends_with(".conf") {
        Recognition::Name
    } else {
        Recognition::No
    }
}

/// Addresses that one peer may use, and its endpoint.
pub(crate) struct Peer<'a> {
    /// Whose it is.
    pub(crate) who: String,
    /// Whether the configuration names where it is.
    pub(crate) called: bool,
    /// `AllowedIPs`, each with its place.
    pub(crate) allowed: Vec<(&'a str, Origin)>,
    /// Its public key.
    pub(crate) public_key: Option<String>,
    /// Its endpoint.
    pub(crate) endpoint: Option<String>,
    /// The place of the key that is shared besides.
    pub(crate) shared_key: Option<Origin>,
    /// Seconds between packets that keep the way open.
    pub(crate) keepalive: Option<u32>,
    /// Whether its addresses are routed into the tunnel.
    pub(crate) routed: bool,
    /// The line to point at.
    pub(crate) origin: Origin,
}

/// Name of a peer: from the comment above it, otherwise the beginning of its public key. A comment may also be a disabled line with a key,
/// so only plain words are used.
pub(crate) fn name(comment: Option<&str>, public_key: Option<&str>) -> String {
    let words = comment.map(|text| text.trim_start_matches("Name =").trim()).filter(|text| {
        !text.is_empty()
            && text.len() <= 60
            && !text.contains('=')
            && text.split_whitespace().all(|word| word.chars().count() <= 24)
    });
    match (words, public_key) {
        (Some(words), _) => announced::masked(words),
        (_, Some(key)) => format!("the peer {}…", key.chars().take(8).collect::<String>()),
        _ => "a peer".to_owned(),
    }
}

/// Takes a peer into the address side of a tunnel, and among its peers.
pub(crate) fn take(peer: &Peer<'_>, plan: &mut AddressPlan, peers: &mut Vec<WireGuardPeer>) {
    let mut allowed = Vec::new();
    for (text, origin) in &peer.allowed {
        let Some(net) = addresses::take(text, *origin, &mut plan.malformed, addresses::prefix) else {
            continue;
        };
        let range = IpRange::from(net);
        allowed.push((range, *origin));
        // Two halves, and all of IPv6 that is in use, stand for everything as well.
        if net.prefix_len() <= if net.addr().is_ipv4() { 1 } else { 3 } {
            // Without routes into the tunnel, only what is put there otherwise goes through it (wg-quick(8), Table).
            if peer.routed {
                plan.sent_through.push((range, *origin));
            }
        } else if peer.called || range.size() > 1 {
            plan.remote.push((range, *origin));
        } else {
            plan.fixed.push(FixedAddress { who: peer.who.clone(), range, origin: *origin });
        }
    }
    peers.push(WireGuardPeer {
        who: peer.who.clone(),
        public_key: peer.public_key.clone(),
        endpoint: peer.endpoint.clone(),
        allowed,
        shared_key: peer.shared_key,
        keepalive: peer.keepalive.filter(|seconds| *seconds > 0),
        routed: peer.routed,
        origin: peer.origin,
    });
}

/// The values of a list with blanks around its commas, each with its place.
pub(crate) fn listed<'a>(export: &Export, value: &'a str) -> Vec<(&'a str, Origin)> {
    value
        .split(',')
        .map(str::trim)
        .filter(|text| !text.is_empty())
        .map(|text| (text, export.origin_of(text)))
        .collect()
}

/// Keys that are secrets, with whose they are.
pub(crate) fn secret(
    export: &Export,
    value: &str,
    kind: SecretKind,
    owner: &str,
) -> Option<Arc<SecretRecord>> {
    (!value.is_empty()).then(|| {
        Arc::new(SecretRecord {
            secret: Secret::new(value),
            kind,
            owner: owner.to_owned(),
            origin: export.origin_of(value),
        })
    })
}

/// Adds the tunnel. `port` is its listening port; without one the kernel chooses any, so that peers cannot connect to it.
pub(crate) fn finish(
    reading: &mut Reading,
    device: &str,
    plan: AddressPlan,
    peers: Vec<WireGuardPeer>,
    port: Option<(u16, Origin)>,
    origin: Origin,
) {
    reading.facts.malformed.extend(plan.malformed.iter().cloned());
    let clients = peers.iter().any(|peer| peer.endpoint.is_none());
    let role = if clients && (!plan.fixed.is_empty() || !plan.pools.is_empty()) {
        TunnelRole::Server
    } else if !clients && !plan.sent_through.is_empty() {
        TunnelRole::Client
    } else {
        TunnelRole::PointToPoint
    };
    let mut tunnel = Tunnel::new(format!("WireGuard {device}"), TunnelFamily::WireGuard, role, origin);
    tunnel.interface = Some(device.to_owned());
    tunnel.listeners.extend(port.map(|(value, origin)| Listener {
        protocol: Protocol::UDP,
        address: Setting::default_of(None, "WireGuard", "wg(8), ListenPort"),
        port: Setting::Stated { value, origin },
    }));
    tunnel.offers.push(Offer {
        part: OfferPart::Data,
        spelling: Spelling::WireGuard,
        algorithms: crate::suites::defaults(Spelling::WireGuard, "data", origin, 0),
        own_order: false,
        open: None,
        origin,
    });
    tunnel.peers = peers;
    tunnel.addresses = AddressPlan { malformed: Vec::new(), ..plan };
    reading.facts.tunnels.push(tunnel);
}

/// The interface's name: the file's, without what dumps put in front of it.
fn device_name(export: &Export) -> &str {
    let name = export.file_name();
    let stem = name.split_once('.').map_or(name, |(stem, _)| stem);
    ["wg-showconf-", "wg_showconf_", "showconf-"]
        .iter()
        .find_map(|lead| stem.strip_prefix(lead))
        .unwrap_or(stem)
}

fn read(export: &Export, around: &ReadContext<'_>) -> Reading {
    let mut reading = Reading::of(export);
    let mut book = LineRecorder::new(export, &mut reading.ledger, &mut reading.elsewhere);
    let all = sections(export, &['#']);
    let device = device_name(export).to_owned();
    let mut peers = Vec::new();
    let mut port = None;
    let mut plan = AddressPlan::default();
    let mut own: Option<trevlin_model::Interface> = None;
    let mut secrets = Vec::new();
    let mut called = true;
    let mut commands = Vec::new();
    let routed = main_table(&all);
    for section in &all {
        let is = |name: &str| section.name.eq_ignore_ascii_case(name);
        if !section.name.is_empty() {
            book.class(section.origin, LineClass::Understood);
        }
        for entry in &section.entries {
            let known = |keys: &[&str]| keys.iter().any(|key| entry.key.eq_ignore_ascii_case(key));
            if known(&KNOWN) {
                book.understood(entry.origin);
            } else if known(&PASSED_OVER) {
                book.class(entry.origin, LineClass::Ignored);
                if known(&COMMANDS) {
                    commands.push((before_comment(entry.value, &['#']), entry.origin));
                }
            } else {
                book.not_understood(
                    entry.origin,
                    "not a key of wg(8) or wg-quick(8); the tunnel does not start with it",
                );
            }
        }
        let value = |key: &str| section.last(key).map(|entry| before_comment(entry.value, &['#']));
        if is("Interface") {
            let mut one = interface(&device, section.origin);
            one.point_to_point = true;
            for entry in section.all("Address") {
                for (text, origin) in listed(export, before_comment(entry.value, &['#'])) {
                    one.addresses.extend(stated(text, origin, &mut plan.malformed));
                }
            }
            for entry in section.all("DNS") {
                for (text, origin) in listed(export, before_comment(entry.value, &['#'])) {
                    // Words that are no addresses are domains to search.
                    match addresses::single(text) {
                        Some(server) => plan.name_servers.push((server, origin)),
                        None => plan.domains.push((text.to_owned(), origin)),
                    }
                }
            }
            port = section.last("ListenPort").and_then(|entry| {
                let number = before_comment(entry.value, &['#']).parse().ok().filter(|port| *port > 0)?;
                Some((number, entry.origin))
            });
            let key = value("PrivateKey").unwrap_or_default();
            secrets.extend(secret(export, key, SecretKind::PrivateKey, &format!("WireGuard {device}")));
            own = Some(one);
        } else if is("Peer") {
            let peer = peer(export, section, routed);
            called &= peer.called;
            let key = value("PresharedKey").unwrap_or_default();
            secrets.extend(secret(export, key, SecretKind::SharedKey, &peer.who));
            take(&peer, &mut plan, &mut peers);
        }
    }
    let origin = own
        .as_ref()
        .map_or_else(|| all.last().map_or(export.origin(0..0), |one| one.origin), |one| one.origin);
    if let Some(own) = own {
        if !called {
            plan.pools.extend(
                own.addresses.iter().map(|address| Pool::around(format!("WireGuard {device}"), address)),
            );
        }
        reading.facts.stored_interfaces.push(own);
    }
    reading.facts.secrets.append(&mut secrets);
    for (command, origin) in commands {
        // The sign for the interface's name (wg-quick(8), PostUp).
        let command = command.replace("%i", &device);
        let at = (origin, CommandMoment::Interface);
        crate::commands::of_setting(&command, at, &[], export, around, &mut reading);
    }
    finish(&mut reading, &device, plan, peers, port, origin);
    tell_mistyped(export, reading)
}

/// Whether wg-quick adds routes to the table that every packet is looked up in (wg-quick(8), Table): it does unless that is switched off, or
/// another table is named.
fn main_table(all: &[Section<'_>]) -> bool {
    let own = all.iter().filter(|one| one.name.eq_ignore_ascii_case("Interface"));
    let tables = own.filter_map(|one| one.last("Table"));
    tables
        .map(|entry| before_comment(entry.value, &['#']))
        .all(|value| matches!(value, "auto" | "main" | "254"))
}

fn peer<'a>(export: &Export, section: &Section<'a>, routed: bool) -> Peer<'a> {
    let mut allowed = Vec::new();
    for entry in section.all("AllowedIPs") {
        allowed.extend(listed(export, before_comment(entry.value, &['#'])));
    }
    let value = |key: &str| section.last(key).map(|entry| before_comment(entry.value, &['#']));
    let key = value("PublicKey");
    Peer {
        who: name(section.comment, key),
        called: section.last("Endpoint").is_some(),
        allowed,
        public_key: key.map(str::to_owned),
        endpoint: value("Endpoint").map(str::to_owned),
        shared_key: section.last("PresharedKey").map(|entry| entry.origin),
        keepalive: value("PersistentKeepalive").and_then(|text| text.parse().ok()),
        routed,
        origin: section.origin,
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use trevlin_model::ExportId;

    fn plan(text: &str) -> (AddressPlan, Reading) {
        let export = Export::new(ExportId(0), "d/etc/wireguard/wg0.conf", text.into());
        let reading = read(&export, &ReadContext::default());
        (reading.facts.tunnels[0].addresses.clone(), reading)
    }

    #[test]
    fn those_who_call_and_those_who_are_called() {
        let (hub, reading) = plan(
            "[Interface]\nAddress = 10.9.0.1/24, 2001:db8:9::1/64 # hub\nPrivateKey = S0Secret=\nListenPort = 51820\n\n\
             # ann\n[Peer]\nPublicKey = AAAABBBBCCCC=\nPresharedKey = S1Secret=\nAllowedIPs = 10.9.0.2/32\n\n\
             [Peer]\n#PresharedKey = S2Secret=\nPublicKey = DDDDEEEEFFFF=\nAllowedIPs = 10.9.0.3/32, 10.5.0.0/24\nAllowedIPs = 10.9.0.300/32\nWobble = 1\n",
        );
        assert_eq!(hub.pools[0].network.unwrap().to_string(), "10.9.0.0/24");
        let fixed: Vec<_> = hub.fixed.iter().map(|one| format!("{} {}", one.who, one.range)).collect();
        assert_eq!(fixed, ["ann 10.9.0.2", "the peer DDDDEEEE… 10.9.0.3"]);
        assert_eq!(hub.remote[0].0.short(), "10.5.0.0/24");
        assert_eq!(reading.facts.malformed.len(), 1);
        assert_eq!(reading.facts.secrets.len(), 2);
        assert_eq!(reading.ledger.count(LineClass::NotUnderstood), 2);
        assert!(!format!("{reading:?}").contains("Secret="));
        let (leaf, _) = plan(
            "[Interface]\nAddress = 10.9.0.2/32\nPrivateKey = x=\nDNS = 10.4.0.53, veyholm.example\n[Peer]\nPublicKey = y=\n\
             Endpoint = 192.0.2.9:51820\nAllowedIPs = 0.0.0.0/0, 10.9.0.1/32\n",
        );
        assert!(leaf.pools.is_empty() && leaf.fixed.is_empty());
        assert_eq!((leaf.sent_through.len(), leaf.remote.len(), leaf.name_servers.len()), (1, 1, 1));
    }
}
