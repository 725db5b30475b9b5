//! Packages of tunnels: `openvpn` and `ipsec` (the swanctl scripts of strongSwan), and Wi-Fi networks of `wireless`.

use super::text::{Package, Said, Section};
use crate::openvpn;
use crate::radio;
use crate::reader::{ReadContext, Reading};
use crate::serving::hold;
use std::collections::BTreeMap;
use std::net::IpAddr;
use std::sync::Arc;
use trevlin_model::ike::PreSharedKey;
use trevlin_model::ipsec::{
    AuthRound, Child, ChildMode, IkeDaemon, IkeProof, IkeVersions, IpsecConnection, Selectors,
};
use trevlin_model::offer::{AlgorithmRole, Offer, OfferPart, Offered, Spelling};
use trevlin_model::secret::SecretKind;
use trevlin_model::{
    Export, IpRange, Listener, Origin, Protocol, Secret, SecretRecord, Setting, Tunnel, TunnelFamily,
    TunnelRole,
};

/// Package `openvpn`: each section is a configuration of its own, its options the daemon's directives with `_` for `-`.
pub(super) fn openvpn(package: &Package, export: &Export, around: &ReadContext<'_>, reading: &mut Reading) {
    for section in package.of("openvpn").filter(|one| one.is_on("enabled") == Some(true)) {
        if let Some(said) = section.get("config") {
            if around.find(&said.text, export).is_none() {
                reading
                    .facts
                    .missing
                    .push(trevlin_model::Reference::configuration(said.text.as_str(), said.line));
            }
            continue;
        }
        let lines = section.options.iter().filter(|(name, _)| name != "enabled").flat_map(|(name, said)| {
            let name = name.replace('_', "-");
            // Switches stand as 1 or 0; the scripts write their name alone, or nothing.
            let switch = openvpn::is_switch(&name);
            match (switch, said.text.as_str()) {
                (true, "1" | "true" | "yes" | "on") => Some((name, String::new(), said.line)),
                (true, _) => None,
                (false, text) => Some((name, text.to_owned(), said.line)),
            }
        });
        openvpn::read_lines(lines.collect(), export, around, reading);
    }
}

/// Package `ipsec`.
pub(super) fn ipsec(package: &Package, export: &Export, reading: &mut Reading) {
    let proposals: BTreeMap<&str, &Section> =
        package.of("crypto_proposal").filter_map(|one| Some((one.name.as_deref()?, one))).collect();
    for section in package.of("remote").filter(|one| one.is_on("enabled").unwrap_or(true)) {
        connection(section, package, &proposals, export, reading);
    }
}

fn stated<T>(value: T, said: Option<&Said>, section: &Section) -> Setting<T> {
    Setting::Stated { value, origin: said.map_or(section.origin, |said| said.line) }
}

fn connection(
    section: &Section,
    package: &Package,
    proposals: &BTreeMap<&str, &Section>,
    export: &Export,
    reading: &mut Reading,
) {
    let name = section.name.clone().unwrap_or_else(|| "a connection".into());
    let gateway = section.get("gateway").filter(|said| said.text != "any" && said.text != "%any");
    let role = if gateway.is_some() { TunnelRole::PointToPoint } else { TunnelRole::Server };
    let mut tunnel = Tunnel::new(format!("IPsec {name}"), TunnelFamily::Ipsec, role, section.whole());
    let bound =
        section.get("local_gateway").and_then(|said| Some((said.text.parse::<IpAddr>().ok()?, said.line)));
    for port in [500, 4500] {
        let address = match bound {
            Some((address, origin)) => Setting::Stated { value: Some(address), origin },
            None => Setting::default_of(None, "strongSwan", "swanctl.conf(5), local_addrs"),
        };
        let port = Setting::default_of(port, "strongSwan", "swanctl.conf(5), local_port");
        tunnel.listeners.push(Listener { protocol: Protocol::UDP, address, port });
    }
    let method = section.get("authentication_method");
    let shared = method.is_none_or(|said| said.text == "psk");
    let proof = if shared { IkeProof::SharedKey } else { IkeProof::PublicKey };
    let round = |identity: &str| AuthRound {
        proof: stated(proof.clone(), method, section),
        identity: section.get(identity).map(|said| (said.text.clone(), said.line)),
        narrowed: None,
        certificates: Vec::new(),
    };
    let versions = section.get("keyexchange");
    let version = match versions.map(|said| said.text.as_str()) {
        Some("ikev1") => stated(IkeVersions::First, versions, section),
        Some("ikev2") => stated(IkeVersions::Second, versions, section),
        Some(_) => stated(IkeVersions::Both, versions, section),
        None => Setting::default_of(IkeVersions::Second, "the swanctl scripts", "swanctl.init, keyexchange"),
    };
    let mut connection = IpsecConnection {
        name: name.clone(),
        daemon: IkeDaemon::StrongSwan,
        sides_by_address: false,
        versions: version,
        aggressive: section
            .get("aggressive")
            .filter(|_| section.is_on("aggressive") == Some(true))
            .map(|said| said.line),
        local_addresses: section
            .get("local_gateway")
            .map(|said| (said.text.clone(), said.line))
            .into_iter()
            .collect(),
        remote_addresses: gateway.map(|said| (said.text.clone(), said.line)).into_iter().collect(),
        local: vec![round("local_identifier")],
        remote: vec![round("remote_identifier")],
        rekey: span(section, "rekeytime", 4 * 3600),
        liveness: span(section, "dpddelay", 30),
        quantum_key: None,
        children: Vec::new(),
    };
    tunnel.offers.extend(offer(section, proposals, OfferPart::Control));
    for list in ["tunnel", "transport"] {
        for (child, _) in section.all(list) {
            let found = package.of(list).find(|one| one.name.as_deref() == Some(child));
            if let Some(found) = found {
                child_of(found, list == "transport", proposals, &mut connection, &mut tunnel);
            }
        }
    }
    if shared && let Some(said) = section.get("pre_shared_key") {
        let text = export.text_at(said.value);
        let held = Arc::new(SecretRecord {
            secret: Secret::new(crate::serving::unquoted(text)),
            kind: SecretKind::PreSharedKey,
            owner: name.clone(),
            origin: said.value,
        });
        reading.facts.secrets.push(Arc::clone(&held));
        let identities =
            ["local_identifier", "remote_identifier"].into_iter().filter_map(|one| section.text(one));
        let mut identities: Vec<String> = identities.map(str::to_owned).collect();
        if identities.is_empty() {
            identities.extend(gateway.map(|said| said.text.clone()));
        }
        reading.facts.pre_shared_keys.push(PreSharedKey { identities, held, origin: said.line });
    }
    tunnel.addresses.remote =
        connection.children.iter().flat_map(|child| child.remote.networks.clone()).collect();
    tunnel.ipsec = Some(Box::new(connection));
    reading.facts.tunnels.push(tunnel);
}

fn span(section: &Section, option: &str, usual: u64) -> Setting<u64> {
    match section.get(option) {
        Some(said) => {
            let (digits, unit) = said
                .text
                .split_at(said.text.find(|sign: char| !sign.is_ascii_digit()).unwrap_or(said.text.len()));
            let times = match unit {
                "m" => 60,
                "h" => 3600,
                "d" => 86_400,
                _ => 1,
            };
            match digits.parse::<u64>() {
                Ok(number) => Setting::Stated { value: number.saturating_mul(times), origin: said.line },
                Err(_) => Setting::Unknown { why: format!("`{}` is not a time span", said.text) },
            }
        }
        None => Setting::default_of(usual, "the swanctl scripts", "swanctl.init"),
    }
}

fn offer(section: &Section, proposals: &BTreeMap<&str, &Section>, part: OfferPart) -> Option<Offer> {
    let mut algorithms = Vec::new();
    let mut first = None;
    for (suite, (name, said)) in section.all("crypto_proposal").enumerate() {
        first.get_or_insert(said.line);
        let Some(proposal) = proposals.get(name) else { continue };
        for (option, role) in [
            ("encryption_algorithm", AlgorithmRole::Encryption),
            ("hash_algorithm", AlgorithmRole::Integrity),
            ("dh_group", AlgorithmRole::KeyExchange),
            ("prf_algorithm", AlgorithmRole::Prf),
        ] {
            for (word, said) in proposal.all(option) {
                algorithms.push(Offered {
                    name: word.to_owned(),
                    role: Some(role),
                    versions: None,
                    suite,
                    origin: said.line,
                    default: None,
                });
            }
        }
    }
    let spelling = Spelling::StrongSwan;
    Some(Offer { part, spelling, algorithms, own_order: true, open: None, origin: first? })
}

fn child_of(
    section: &Section,
    transport: bool,
    proposals: &BTreeMap<&str, &Section>,
    connection: &mut IpsecConnection,
    tunnel: &mut Tunnel,
) {
    let selectors = |option: &str| {
        let mut found = Selectors::default();
        for (word, said) in section.all(option) {
            found.texts.push(word.to_owned());
            found.origin.get_or_insert(said.line);
            found.networks.extend(word.parse::<IpRange>().ok().map(|range| (range, said.line)));
        }
        if found.texts.is_empty() {
            found.texts.push("dynamic".into());
        }
        found
    };
    let mut offers = Vec::new();
    if let Some(offer) = offer(section, proposals, OfferPart::Data) {
        tunnel.offers.push(offer);
        offers.push(tunnel.offers.len() - 1);
    }
    connection.children.push(Child {
        name: section.name.clone().unwrap_or_else(|| "a child".into()),
        local: selectors("local_subnet"),
        remote: selectors("remote_subnet"),
        mode: Setting::Stated {
            value: if transport { ChildMode::Transport } else { ChildMode::Tunnel },
            origin: section.origin,
        },
        rekey: span(section, "rekeytime", 3600),
        compression: section
            .get("ipcomp")
            .filter(|_| section.is_on("ipcomp") == Some(true))
            .map(|said| said.line),
        forward_secrecy: Setting::default_of(false, "strongSwan", "swanctl.conf(5), esp_proposals"),
        by_interface_origin: section.get("if_id").map(|said| said.line),
        offers,
        origin: section.whole(),
    });
}

/// Package `wireless`: Wi-Fi networks of the device, as passed to hostapd (OpenWrt, hostapd.sh).
pub(super) fn radios(package: &Package, export: &Export, reading: &mut Reading) {
    let off = |name: &str| {
        package
            .of("wifi-device")
            .any(|one| one.name.as_deref() == Some(name) && one.is_on("disabled") == Some(true))
    };
    for section in package.of("wifi-iface") {
        let spans = section.text("mode").is_none_or(|mode| mode == "ap");
        if !spans || section.is_on("disabled") == Some(true) || section.text("device").is_some_and(off) {
            continue;
        }
        let encryption = section.get("encryption");
        let word = encryption.map_or("none", |said| said.text.as_str());
        let line = encryption.map_or(section.origin, |said| said.line);
        let mut values: BTreeMap<&str, (&str, Origin)> = BTreeMap::new();
        if let Some(said) = section.get("ssid") {
            values.insert("ssid", (&said.text, said.line));
        }
        if let Some(said) = section.get("ifname").or_else(|| section.get("device")) {
            values.insert("interface", (&said.text, said.line));
        }
        if word.starts_with("wep") {
            values.insert("wep_key0", ("", line));
        } else if word != "none" && word != "open" {
            let (kind, cipher) = word.split_once('+').unwrap_or((word, ""));
            let bits = match kind {
                "psk" | "wpa" => "1",
                "psk-mixed" | "wpa-mixed" => "3",
                _ => "2",
            };
            let methods = match kind {
                "sae" => "SAE",
                "sae-mixed" => "WPA-PSK SAE",
                "owe" => "OWE",
                "wpa3" | "wpa3-192" => "WPA-EAP-SUITE-B-192",
                kind if kind.starts_with("wpa") => "WPA-EAP",
                _ => "WPA-PSK",
            };
            values.insert("wpa", (bits, line));
            values.insert("wpa_key_mgmt", (methods, line));
            let pairs = match (cipher.contains("tkip"), cipher.contains("ccmp") || cipher.contains("aes")) {
                (true, true) => "CCMP TKIP",
                (true, false) => "TKIP",
                _ => "CCMP",
            };
            values.insert("wpa_pairwise", (pairs, line));
            let frames = match (section.text("ieee80211w"), kind) {
                (Some(word), _) => word,
                (None, "sae" | "owe" | "wpa3" | "wpa3-192") => "2",
                (None, "sae-mixed" | "wpa3-mixed") => "1",
                _ => "0",
            };
            let at = section.get("ieee80211w").map_or(line, |said| said.line);
            values.insert("ieee80211w", (frames, at));
        }
        for option in ["wps_pushbutton", "wps_label"] {
            if let Some(said) = section.get(option).filter(|_| section.is_on(option) == Some(true)) {
                values.insert("wps_state", ("2", said.line));
            }
        }
        if let Some(said) = section.get("isolate").filter(|_| section.is_on("isolate") == Some(true)) {
            values.insert("ap_isolate", ("1", said.line));
        }
        reading.facts.radios.extend(radio::radio(&values));
        for (option, kind) in [
            ("key", SecretKind::RadioPassphrase),
            ("key1", SecretKind::SharedKey),
            ("auth_secret", SecretKind::RadiusSecret),
            ("acct_secret", SecretKind::RadiusSecret),
        ] {
            // A number chooses one of the keys of WEP, and is none.
            if let Some(said) = section.get(option).filter(|said| said.text.len() > 1) {
                hold(export, &mut reading.facts, export.text_at(said.value), kind, "the Wi-Fi network");
            }
        }
    }
}
