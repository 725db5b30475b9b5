//! What the ends may agree on (openvpn(8), "Data channel cipher negotiation"; Changes.rst of 2.4, 2.5 and 2.6).
//!
//! Up to 2.3 both ends need the same `cipher`. 2.4 negotiates from a list, and takes `cipher` from ends that cannot; it is
//! Blowfish unless stated. 2.5 adds a stated `cipher` to the list, and takes nothing else from old ends unless
//! `data-ciphers-fallback` says so. 2.6 takes no notice of `cipher` where keys are negotiated.

use super::config::Config;
use crate::suites;
use trevlin_model::offer::{AlgorithmRole, Offer, OfferPart, Offered, Spelling};
use trevlin_model::{Origin, TunnelRole};

/// What the data channel may be protected with.
pub(super) fn of(config: &Config, role: TunnelRole, origin: Origin) -> Vec<Offer> {
    let mut offer = Offer {
        part: OfferPart::Data,
        spelling: Spelling::OpenVpn,
        algorithms: Vec::new(),
        open: None,
        origin,
    };
    let last = |names: &[&str]| {
        let said = config.settings.iter().rev().find(|(name, _)| names.contains(&name.as_str()))?;
        let (value, origin) = said.1.stated()?;
        Some((said.0.as_str(), value.as_str(), origin))
    };
    let (list, cipher) = (last(&["data-ciphers", "ncp-ciphers"]), last(&["cipher"]));
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
        offer.open = Some(if negotiates {
            "no cipher is stated: up to version 2.4 the daemon takes Blowfish from callers that cannot negotiate".into()
        } else {
            "no cipher is stated and none is negotiated: up to version 2.5 the daemon takes Blowfish".into()
        });
    }
    vec![offer]
}

#[cfg(test)]
mod tests {
    use super::super::read;
    use crate::reader::Surroundings;
    use trevlin_model::{Export, ExportId};

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
            let reading = read(&export, &Surroundings::of(vec![&export]));
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
