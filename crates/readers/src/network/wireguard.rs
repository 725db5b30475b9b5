//! WireGuard: files of wg-quick(8), and what its peers say wherever they are stated (wg(8), AllowedIPs).
//!
//! A peer without an endpoint calls; what it may use as its own address is its fixed address, and a network is one that
//! lies behind it. A peer with an endpoint is called; everything allowed from it is sent to it.

use super::{interface, stated, tell_mistyped};
use crate::addresses;
use crate::ini::{Section, before_comment, sections};
use crate::reader::{Bookkeeper, Reader, Reading, Recognition, Surroundings, TELLING_LINES};
use std::sync::Arc;
use trevlin_model::plan::{AddressPlan, FixedAddress, PlanFamily, TunnelPlan};
use trevlin_model::secret::SecretKind;
use trevlin_model::{Export, HeldSecret, IpRange, LineClass, NotModelled, Origin, Pool, Secret};

/// The reader.
pub(crate) const READER: Reader = Reader {
    name: "wireguard",
    title: "WireGuard configuration",
    manual: "wg(8), wg-quick(8)",
    recognise,
    read,
};

/// Keys that become facts here; the others of wg(8) and wg-quick(8) come after them.
const KNOWN: [&str; 5] = ["Address", "DNS", "AllowedIPs", "Endpoint", "PrivateKey"];
const PASSED_OVER: [&str; 11] = [
    "MTU",
    "Table",
    "PreUp",
    "PostUp",
    "PreDown",
    "PostDown",
    "SaveConfig",
    "FwMark",
    "PersistentKeepalive",
    "PublicKey",
    "ListenPort",
];

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

/// What one peer may send from, and where it is.
pub(super) struct Peer<'a> {
    /// Whose it is.
    pub(super) who: String,
    /// Whether the configuration names where it is.
    pub(super) called: bool,
    /// `AllowedIPs`, each with its place.
    pub(super) allowed: Vec<(&'a str, Origin)>,
}

/// How a peer is called: by the comment above it, else by the beginning of its public key. A comment may also be a line
/// that was switched off, with a key in it, so only plain words are a name.
pub(super) fn name(comment: Option<&str>, public_key: Option<&str>) -> String {
    let words = comment.map(|text| text.trim_start_matches("Name =").trim()).filter(|text| {
        !text.is_empty()
            && text.len() <= 60
            && !text.contains('=')
            && text.split_whitespace().all(|word| word.chars().count() <= 24)
    });
    match (words, public_key) {
        (Some(words), _) => words.to_owned(),
        (_, Some(key)) => format!("the peer {}…", key.chars().take(8).collect::<String>()),
        _ => "a peer".to_owned(),
    }
}

/// Takes a peer into the address side of a tunnel.
pub(super) fn take(peer: &Peer<'_>, plan: &mut AddressPlan) {
    for (text, origin) in &peer.allowed {
        let Some(net) = addresses::take(text, *origin, &mut plan.malformed, addresses::prefix) else {
            continue;
        };
        let range = IpRange::from(net);
        // Two halves, and all of IPv6 that is in use, stand for everything as well.
        if net.prefix_len() <= if net.addr().is_ipv4() { 1 } else { 3 } {
            plan.sent_through.push((range, *origin));
        } else if peer.called || range.size() > 1 {
            plan.remote.push((range, *origin));
        } else {
            plan.fixed.push(FixedAddress { who: peer.who.clone(), range, origin: *origin });
        }
    }
}

/// The values of a list with blanks around its commas, each with its place.
pub(super) fn listed<'a>(export: &Export, value: &'a str) -> Vec<(&'a str, Origin)> {
    value
        .split(',')
        .map(str::trim)
        .filter(|text| !text.is_empty())
        .map(|text| (text, export.origin_of(text)))
        .collect()
}

/// Keys that are secrets, with whose they are.
pub(super) fn secret(export: &Export, value: &str, kind: SecretKind, owner: &str) -> Option<Arc<HeldSecret>> {
    (!value.is_empty()).then(|| {
        Arc::new(HeldSecret {
            secret: Secret::new(value),
            kind,
            owner: owner.to_owned(),
            origin: export.origin_of(value),
        })
    })
}

/// A tunnel whose peers and addresses are known, and whose keys and port are not judged yet.
pub(super) fn finish(reading: &mut Reading, device: &str, plan: AddressPlan, origin: Origin) {
    reading.facts.malformed.extend(plan.malformed.iter().cloned());
    let plan = AddressPlan { malformed: Vec::new(), ..plan };
    reading.facts.tunnel_plans.push(TunnelPlan {
        name: format!("WireGuard {device}"),
        family: PlanFamily::WireGuard,
        interface: Some(device.to_owned()),
        offers: Vec::new(),
        settings: Vec::new(),
        plan,
        origin,
    });
    reading.facts.not_modelled.push(NotModelled {
        what: "a WireGuard tunnel of which only the addresses are judged yet".into(),
        filters_packets: false,
        origin,
    });
}

fn read(export: &Export, _: &Surroundings<'_>) -> Reading {
    let mut reading = Reading::of(export);
    let mut book = Bookkeeper::new(export, &mut reading.ledger, &mut reading.elsewhere);
    let all = sections(export, &['#']);
    let device = export.file_name().trim_end_matches(".conf").to_owned();
    let mut plan = AddressPlan::default();
    let mut own: Option<trevlin_model::Interface> = None;
    let mut secrets = Vec::new();
    let mut called = true;
    for section in &all {
        let is = |name: &str| section.name.eq_ignore_ascii_case(name);
        if !section.name.is_empty() {
            book.class(section.origin, LineClass::Understood);
        }
        for entry in &section.entries {
            let known = |keys: &[&str]| keys.iter().any(|key| entry.key.eq_ignore_ascii_case(key));
            if known(&KNOWN) || known(&["PresharedKey"]) {
                book.understood(entry.origin);
            } else if known(&PASSED_OVER) {
                book.class(entry.origin, LineClass::PassedOver);
            } else {
                book.not_understood(
                    entry.origin,
                    "no key of wg(8) or wg-quick(8); the tunnel does not start with it",
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
                    plan.name_servers.extend(addresses::single(text).map(|server| (server, origin)));
                }
            }
            let key = value("PrivateKey").unwrap_or_default();
            secrets.extend(secret(export, key, SecretKind::PrivateKey, &format!("WireGuard {device}")));
            own = Some(one);
        } else if is("Peer") {
            let peer = peer(export, section);
            called &= peer.called;
            let key = value("PresharedKey").unwrap_or_default();
            secrets.extend(secret(export, key, SecretKind::SharedKey, &peer.who));
            take(&peer, &mut plan);
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
    finish(&mut reading, &device, plan, origin);
    tell_mistyped(export, reading)
}

fn peer<'a>(export: &Export, section: &Section<'a>) -> Peer<'a> {
    let mut allowed = Vec::new();
    for entry in section.all("AllowedIPs") {
        allowed.extend(listed(export, before_comment(entry.value, &['#'])));
    }
    let key = section.last("PublicKey").map(|entry| entry.value);
    Peer { who: name(section.comment, key), called: section.last("Endpoint").is_some(), allowed }
}

#[cfg(test)]
mod tests {
    use super::*;
    use trevlin_model::ExportId;

    fn plan(text: &str) -> (AddressPlan, Reading) {
        let export = Export::new(ExportId(0), "d/etc/wireguard/wg0.conf", text.into());
        let reading = read(&export, &Surroundings::default());
        (reading.facts.tunnel_plans[0].plan.clone(), reading)
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
