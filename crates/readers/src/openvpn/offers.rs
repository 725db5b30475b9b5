//! Algorithms that the ends may negotiate (openvpn(8), "Data channel cipher negotiation"; Changes.rst of 2.4, 2.5 and 2.6).
//!
//! Up to 2.3 both ends need the same `cipher`. 2.4 negotiates from a list, and uses `cipher` with ends that cannot; it is Blowfish unless
//! stated. 2.5 adds a stated `cipher` to the list, and accepts old ends only with `data-ciphers-fallback`. 2.6 ignores `cipher` where keys
//! are negotiated.

use super::config::Config;
use crate::suites;
use trevlin_model::offer::{AlgorithmRole, Offer, OfferPart, Offered, Spelling};
use trevlin_model::{Origin, TunnelRole};

/// Algorithms of the data channel.
pub(super) fn of(config: &Config, role: TunnelRole, origin: Origin) -> Vec<Offer> {
    let mut offer = Offer {
        part: OfferPart::Data,
        spelling: Spelling::OpenVpn,
        algorithms: Vec::new(),
        own_order: role == TunnelRole::Server,
        open: None,
        origin,
    };
    let last = |names: &[&str]| {
        let said = config.settings.iter().rev().find(|(name, _)| names.contains(&name.as_str()))?;
        let (value, origin) = said.1.stated()?;
        Some((said.0.as_str(), value.as_str(), origin))
    };
    // Versions from 2.6 on go back to the defaults of the version that is named (openvpn(8), --compat-mode).
    let compatible = last(&["compat-mode"]).and_then(|(_, value, at)| Some((version(value)?, at)));
    let (list, cipher) = (last(&["data-ciphers", "ncp-ciphers"]), last(&["cipher"]));
    // Without TLS and without a key packets go as they are (openvpn(8), "Static key mode"; the daemon says so at its start).
    if config.is_clear() {
        return Vec::new();
    }
    let negotiates = config.shared_key.is_none() && last(&["ncp-disable"]).is_none();
    let mut add = |name: &str, role, versions, origin, default| {
        offer.algorithms.push(Offered { name: name.to_owned(), role, versions, suite: 0, origin, default });
    };
    let defaults = suites::defaults(Spelling::OpenVpn, "data", origin, 0);
    let encryption = Some(AlgorithmRole::Encryption);
    match list.filter(|_| negotiates) {
        Some((_, value, at)) => {
            for name in
                value.split(':').map(|name| name.trim_start_matches('?')).filter(|name| !name.is_empty())
            {
                if name.eq_ignore_ascii_case("DEFAULT") {
                    defaults.iter().for_each(|one| add(&one.name, encryption, None, at, one.default));
                } else {
                    add(name, encryption, None, at, None);
                }
            }
        }
        None if negotiates => {
            defaults.iter().for_each(|one| add(&one.name, encryption, one.versions, origin, one.default));
        }
        None => {}
    }
    if let Some((_, value, at)) = last(&["data-ciphers-fallback"]).filter(|_| negotiates) {
        add(value, encryption, None, at, None);
    }
    // A static key without `cipher` is used with Blowfish in every version that has such keys.
    if let (Some(((), at)), None) = (config.shared_key, cipher) {
        add("BF-CBC", encryption, None, at, Some("openvpn(8), --cipher"));
    }
    if let Some((_, value, at)) = cipher {
        add(value, encryption, negotiates.then_some("up to 2.5"), at, None);
    }
    // A cipher that checks what it decrypts needs no digest.
    let aead = |name: &str| {
        name.to_ascii_uppercase().ends_with("GCM") || name.eq_ignore_ascii_case("CHACHA20-POLY1305")
    };
    let needs_digest = offer.algorithms.iter().any(|one| !aead(&one.name));
    match last(&["auth"]) {
        Some((_, value, at)) if needs_digest => offer.algorithms.push(Offered {
            name: value.to_owned(),
            role: Some(AlgorithmRole::Integrity),
            versions: None,
            suite: 0,
            origin: at,
            default: None,
        }),
        None if needs_digest => offer.algorithms.push(Offered {
            name: "SHA1".to_owned(),
            role: Some(AlgorithmRole::Integrity),
            versions: None,
            suite: 0,
            origin,
            default: Some("openvpn(8), --auth"),
        }),
        _ => {}
    }
    // `data-ciphers` is known from 2.5 on, so who states it has no such version.
    let may_be_old = cipher.is_none() && list.is_none_or(|(name, _, _)| name == "ncp-ciphers");
    if may_be_old && role == TunnelRole::Server {
        let question = if negotiates {
            "no cipher is set: up to version 2.4 the daemon accepts Blowfish from clients that cannot negotiate"
        } else {
            "no cipher is set and none is negotiated: up to version 2.5 the daemon uses Blowfish"
        };
        offer.open = Some((AlgorithmRole::Encryption, question.into()));
    }
    let mut offers = vec![offer];
    if config.shared_key.is_none() {
        offers.push(control(
            &last,
            &compatible,
            list.is_some_and(|(name, _, _)| name == "data-ciphers"),
            role,
            origin,
        ));
    }
    offers
}

/// The numbers of a version.
fn version(text: &str) -> Option<[u32; 3]> {
    let mut numbers = text.trim().split('.').map(str::parse::<u32>);
    let major = numbers.next()?.ok()?;
    Some([
        major,
        numbers.next().and_then(Result::ok).unwrap_or(0),
        numbers.next().and_then(Result::ok).unwrap_or(0),
    ])
}

/// Key exchange of the control channel: the lowest version of TLS, which is 1.2 from version 2.6 on and 1.0 before, unless stated, and the
/// cipher suites that are named (openvpn(8), --tls-version-min, --tls-cipher).
fn control<'s>(
    last: &impl Fn(&[&str]) -> Option<(&'s str, &'s str, Origin)>,
    compatible: &Option<([u32; 3], Origin)>,
    new: bool,
    role: TunnelRole,
    origin: Origin,
) -> Offer {
    let mut offer = Offer {
        part: OfferPart::Control,
        spelling: Spelling::OpenVpn,
        algorithms: Vec::new(),
        own_order: false,
        open: None,
        origin,
    };
    let mut add = |name: &str, role, origin| {
        let name = name.to_owned();
        offer.algorithms.push(Offered { name, role, versions: None, suite: 0, origin, default: None });
    };
    let protocol = Some(AlgorithmRole::Protocol);
    let highest =
        last(&["tls-version-max"]).map_or("1.3", |(_, value, _)| value.split(' ').next().unwrap_or(value));
    let from = |lowest: &str| {
        ["1.0", "1.1", "1.2", "1.3"]
            .into_iter()
            .filter(move |one| *one >= lowest && *one <= highest)
            .collect::<Vec<_>>()
    };
    match (last(&["tls-version-min"]), compatible) {
        (Some((_, value, at)), _) => {
            let lowest = value.split(' ').next().unwrap_or(value);
            from(lowest).iter().for_each(|name| add(name, protocol, at));
        }
        (None, Some((version, at))) if *version < [2, 3, 7] => {
            from("1.0").iter().for_each(|name| add(name, protocol, *at))
        }
        _ => {}
    }
    for (list, suite) in [("tls-cipher", true), ("tls-ciphersuites", true), ("tls-groups", false)] {
        let Some((_, value, at)) = last(&[list]) else { continue };
        for name in
            value.split(':').filter(|name| !name.is_empty() && suite && !name.starts_with(['!', '-', '@']))
        {
            suite_parts(name).iter().for_each(|(name, role)| add(name, Some(*role), at));
        }
    }
    // A stated `data-ciphers` implies version 2.5 or later, which leaves one version with the old default.
    if offer.algorithms.is_empty() && role == TunnelRole::Server {
        let before = if new { "version 2.5 accepts" } else { "versions before 2.6 accept" };
        let question = format!("no minimum TLS version is set: {before} TLS 1.0 from clients");
        offer.open = Some((AlgorithmRole::Protocol, question));
    }
    offer
}

/// The weak parts of a suite by its name in the registry of TLS (`TLS-RSA-WITH-3DES-EDE-CBC-SHA`), in the names of the data channel; the
/// cipher where no part is weak.
fn suite_parts(name: &str) -> Vec<(String, AlgorithmRole)> {
    let upper = name.to_ascii_uppercase().replace('_', "-");
    let has = |part: &str| upper.contains(part);
    let cipher = if has("3DES") || has("DES-CBC3") {
        "DES-EDE3-CBC"
    } else if has("DES-CBC") {
        "DES-CBC"
    } else if has("RC4") || has("RC2") || has("EXPORT") {
        "RC2-40-CBC"
    } else if has("NULL") {
        "none"
    } else if has("CHACHA20") {
        "CHACHA20-POLY1305"
    } else if has("GCM") || has("CCM") {
        if has("256") { "AES-256-GCM" } else { "AES-128-GCM" }
    } else if has("CAMELLIA") {
        if has("256") { "CAMELLIA-256-CBC" } else { "CAMELLIA-128-CBC" }
    } else if has("SEED") {
        "SEED-CBC"
    } else if has("AES") {
        if has("256") { "AES-256-CBC" } else { "AES-128-CBC" }
    } else {
        // A word for a list of suites, as `DEFAULT`.
        return Vec::new();
    };
    let mut parts = vec![(cipher.to_owned(), AlgorithmRole::Encryption)];
    if upper.ends_with("MD5") {
        parts.push(("MD5".into(), AlgorithmRole::Integrity));
    }
    parts
}

#[cfg(test)]
mod tests {
    use super::super::read;
    use crate::reader::ReadContext;
    use trevlin_model::{Export, ExportId};

    #[test]
    fn what_keys_are_set_up_with() {
        for (lines, wanted) in [
            ("", "?"),
            ("data-ciphers AES-256-GCM", "?"),
            ("tls-version-min 1.2", "1.2 1.3"),
            ("tls-version-min 1.0", "1.0 1.1 1.2 1.3"),
            ("tls-version-min 1.0\ntls-version-max 1.1", "1.0 1.1"),
            ("compat-mode 2.3.2", "1.0 1.1 1.2 1.3"),
            ("compat-mode 2.4.0", "?"),
            (
                "tls-version-min 1.2\ntls-cipher TLS-RSA-WITH-3DES-EDE-CBC-SHA:TLS-ECDHE-RSA-WITH-AES-256-GCM-SHA384",
                "1.2 1.3 DES-EDE3-CBC AES-256-GCM",
            ),
        ] {
            let text = format!("dev tun\nserver 10.8.0.0 255.255.255.0\n{lines}\n");
            let export = Export::new(ExportId(0), "d/etc/openvpn/s.conf", text);
            let reading = read(&export, &ReadContext::of(vec![&export]));
            let offer = &reading.facts.tunnels[0].offers[1];
            let mut told: Vec<&str> = offer.algorithms.iter().map(|one| one.name.as_str()).collect();
            told.extend(offer.open.as_ref().map(|_| "?"));
            assert_eq!(told.join(" "), wanted, "{lines}");
        }
    }

    #[test]
    fn what_may_be_agreed_on() {
        for (lines, wanted) in [
            ("", "AES-256-GCM@from 2.4 AES-128-GCM@from 2.4 ?"),
            ("data-ciphers AES-256-GCM:?CHACHA20-POLY1305", "AES-256-GCM CHACHA20-POLY1305"),
            ("data-ciphers DEFAULT:AES-256-CBC", "AES-256-GCM AES-128-GCM AES-256-CBC SHA1"),
            (
                "cipher BF-CBC\nauth SHA256",
                "AES-256-GCM@from 2.4 AES-128-GCM@from 2.4 BF-CBC@up to 2.5 SHA256",
            ),
            ("data-ciphers AES-256-GCM\ndata-ciphers-fallback BF-CBC\nauth none", "AES-256-GCM BF-CBC none"),
            ("ncp-ciphers AES-256-GCM\ndata-ciphers AES-128-GCM", "AES-128-GCM"),
            ("ncp-disable\ncipher AES-256-CBC\nauth SHA512", "AES-256-CBC SHA512"),
            ("ncp-ciphers AES-256-GCM", "AES-256-GCM ?"),
            ("data-ciphers AES-256-GCM\nauth MD5", "AES-256-GCM"),
            ("#cipher BF-CBC\ndata-ciphers AES-256-GCM", "AES-256-GCM"),
        ] {
            let text = format!("dev tun\nserver 10.8.0.0 255.255.255.0\n{lines}\n");
            let export = Export::new(ExportId(0), "d/etc/openvpn/s.conf", text);
            let reading = read(&export, &ReadContext::of(vec![&export]));
            let offer = &reading.facts.tunnels[0].offers[0];
            let mut told: Vec<String> = offer
                .algorithms
                .iter()
                .map(|one| match one.versions {
                    Some(versions) => format!("{}@{versions}", one.name),
                    None => one.name.clone(),
                })
                .collect();
            told.extend(offer.open.as_ref().map(|_| "?".to_owned()));
            assert_eq!(told.join(" "), wanted, "{lines}");
        }
    }
}
