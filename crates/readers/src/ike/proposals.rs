//! Lists of proposals, and defaults where none is stated.

use crate::suites;
use std::collections::BTreeSet;
use trevlin_model::Origin;
use trevlin_model::ipsec::IkeDaemon;
use trevlin_model::offer::{AlgorithmRole, Offer, OfferPart, Offered, Spelling};

/// Words of a proposal that are no algorithms: extended sequence numbers, and that there is none of a kind.
const NO_ALGORITHMS: [&str; 4] = ["esn", "noesn", "none", "modpnone"];

/// Algorithms that a connection or a child offers, from the value that lists its proposals, where one is stated.
pub(super) fn offer(
    daemon: IkeDaemon,
    part: OfferPart,
    stated: Option<(&str, Origin)>,
    old: bool,
    at: Origin,
) -> Offer {
    match daemon {
        IkeDaemon::StrongSwan | IkeDaemon::Appliance => {
            strongswan(part, stated.map_or("default", |(text, _)| text), stated.map_or(at, |(_, at)| at))
        }
        IkeDaemon::Libreswan => libreswan(part, stated, old, at),
    }
}

fn empty(part: OfferPart, spelling: Spelling, origin: Origin) -> Offer {
    // charon prefers its own order at either end (strongswan.conf(5), charon.prefer_configured_proposals).
    let own_order = spelling == Spelling::StrongSwan;
    Offer { part, spelling, algorithms: Vec::new(), own_order, open: None, origin }
}

fn part_name(part: OfferPart) -> &'static str {
    match part {
        OfferPart::Control => "control",
        OfferPart::Data => "data",
    }
}

fn add(offer: &mut Offer, suite: usize, name: &str, role: Option<AlgorithmRole>, origin: Origin) {
    let known = |one: &Offered| one.suite == suite && one.name == name && one.role == role;
    if !offer.algorithms.iter().any(known) {
        let name = name.to_owned();
        offer.algorithms.push(Offered { name, role, versions: None, suite, origin, default: None });
    }
}

/// The same for AH, which authenticates packets and encrypts nothing (RFC 4302).
pub(super) fn authentication_alone(offer: Offer) -> Offer {
    let origin = offer.origin;
    let numbers: BTreeSet<usize> = offer.algorithms.iter().map(|one| one.suite).collect();
    let mut offer = offer;
    for number in numbers {
        add(&mut offer, number, "null", Some(AlgorithmRole::Encryption), origin);
    }
    offer
}

/// Suites separated by commas, algorithms by dashes (swanctl.conf(5), proposals). `default` expands to the daemon's own list.
fn strongswan(part: OfferPart, value: &str, origin: Origin) -> Offer {
    let mut offer = empty(part, Spelling::StrongSwan, origin);
    for suite in value.split(',').map(str::trim).filter(|suite| !suite.is_empty()) {
        let number = offer.algorithms.last().map_or(0, |one| one.suite + 1);
        if suite == "default" {
            offer.algorithms.extend(suites::defaults(Spelling::StrongSwan, part_name(part), origin, number));
            continue;
        }
        for word in suite.split('-').filter(|word| !word.is_empty()) {
            // Additional key exchanges are numbered (`ke1_mlkem768`).
            let (name, role) = match word.split_once('_') {
                Some((numbered, rest)) if numbered.starts_with("ke") && numbered.len() == 3 => {
                    (rest, Some(AlgorithmRole::KeyExchange))
                }
                _ => (word, None),
            };
            if !NO_ALGORITHMS.contains(&name) {
                add(&mut offer, number, name, role, origin);
            }
        }
    }
    offer
}

/// The proposals of an `ike` or `esp` line of ipsec.conf. Without the strict flag charon appends its own list (ipsec.conf(5), ike and esp).
pub(super) fn strongswan_line(part: OfferPart, stated: Option<(&str, Origin)>, at: Origin) -> Offer {
    let Some((value, origin)) = stated else { return strongswan(part, "default", at) };
    match value.trim().strip_suffix('!') {
        Some(strict) => strongswan(part, strict, origin),
        None => strongswan(part, &format!("{value},default"), origin),
    }
}

/// Suites separated by commas: encryption, integrity and key exchange separated by dashes or a semicolon, several of a kind by plus signs
/// (ipsec.conf(5) of Libreswan, ike and esp). The daemon fills in omitted parts.
fn libreswan(part: OfferPart, stated: Option<(&str, Origin)>, old: bool, at: Origin) -> Offer {
    let spelling = Spelling::Libreswan;
    let name = match (part, old) {
        (OfferPart::Control, false) => "control",
        (OfferPart::Control, true) => "control-1",
        (OfferPart::Data, false) => "data",
        (OfferPart::Data, true) => "data-1",
    };
    let Some((value, origin)) = stated else {
        return Offer { algorithms: suites::defaults(spelling, name, at, 0), ..empty(part, spelling, at) };
    };
    let mut offer = empty(part, spelling, origin);
    let value = value.to_ascii_lowercase();
    for (number, suite) in value.split(',').map(str::trim).filter(|suite| !suite.is_empty()).enumerate() {
        let pieces: Vec<&str> =
            suite.split(['-', ';']).map(str::trim).filter(|piece| !piece.is_empty()).collect();
        let mut roles =
            [AlgorithmRole::Encryption, AlgorithmRole::Integrity, AlgorithmRole::KeyExchange].into_iter();
        let mut last: Option<(String, AlgorithmRole)> = None;
        for piece in pieces {
            // The length of a key may stand behind a dash (`aes-256`).
            if let Some((names, AlgorithmRole::Encryption)) = &last
                && piece.bytes().all(|byte| byte.is_ascii_digit())
            {
                let (with, without) = (format!("{names}{piece}"), names.clone());
                offer.algorithms.retain(|one| one.suite != number || one.name != without);
                add(&mut offer, number, &with, Some(AlgorithmRole::Encryption), origin);
                last = Some((with, AlgorithmRole::Encryption));
                continue;
            }
            let is_group =
                |name: &str| name.starts_with("modp") || name.starts_with("dh") || name.starts_with("ecp_");
            let mut role = roles.next().unwrap_or(AlgorithmRole::KeyExchange);
            if piece.split('+').all(is_group) {
                role = AlgorithmRole::KeyExchange;
            }
            for one in piece.split('+') {
                // A group may follow after a plus sign as well as after a dash.
                let role = if is_group(one) { AlgorithmRole::KeyExchange } else { role };
                let nothing = one == "null" && role != AlgorithmRole::Encryption;
                if !nothing && !NO_ALGORITHMS.contains(&one) {
                    add(&mut offer, number, one, Some(role), origin);
                }
            }
            last = Some((piece.to_owned(), role));
        }
        fill_in(&mut offer, number, name, origin);
    }
    offer
}

/// Adds the algorithms that the daemon fills in for kinds omitted in a suite: never encryption, and integrity only with a cipher that needs
/// it.
fn fill_in(offer: &mut Offer, suite: usize, name: &str, origin: Origin) {
    let has = |role| offer.algorithms.iter().any(|one| one.suite == suite && one.role == Some(role));
    let aead =
        |one: &&Offered| one.name.contains("gcm") || one.name.contains("ccm") || one.name.contains("chacha");
    let ciphers = offer
        .algorithms
        .iter()
        .filter(|one| one.suite == suite && one.role == Some(AlgorithmRole::Encryption));
    let needs_digest = !ciphers.clone().all(|one| aead(&one)) || name.starts_with("control");
    let is_group = |name: &str| name.starts_with("dh");
    let (digest, group) = (has(AlgorithmRole::Integrity), has(AlgorithmRole::KeyExchange));
    let defaults = suites::defaults(Spelling::Libreswan, name, origin, suite);
    for mut one in defaults {
        one.suite = suite;
        let filled = match one.name.as_str() {
            name if is_group(name) => !group,
            name if name.starts_with("sha") => !digest && needs_digest,
            _ => false,
        };
        if filled {
            one.role =
                Some(if is_group(&one.name) { AlgorithmRole::KeyExchange } else { AlgorithmRole::Integrity });
            if !offer.algorithms.contains(&one) {
                offer.algorithms.push(one);
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use trevlin_model::{Export, ExportId};

    fn told(offer: &Offer) -> String {
        let mut told = String::new();
        let mut suite = 0;
        for one in &offer.algorithms {
            told.push_str(if one.suite == suite { " " } else { ", " });
            suite = one.suite;
            told.push_str(&one.name);
            told.push_str(if one.default.is_some() { "*" } else { "" });
        }
        told.trim().to_owned()
    }

    #[test]
    fn suites() {
        let origin = Export::new(ExportId(0), "f", "x".into()).origin(0..1);
        for (daemon, part, value, wanted) in [
            (
                IkeDaemon::StrongSwan,
                OfferPart::Control,
                "aes256gcm16-prfsha384-ecp384,3des-sha1-modp1024",
                "aes256gcm16 prfsha384 ecp384, 3des sha1 modp1024",
            ),
            (
                IkeDaemon::StrongSwan,
                OfferPart::Data,
                "aes256-sha256-x25519-ke1_mlkem768-noesn",
                "aes256 sha256 x25519 mlkem768",
            ),
            (IkeDaemon::Libreswan, OfferPart::Control, "aes256-sha2;dh14", "aes256 sha2 dh14"),
            (
                IkeDaemon::Libreswan,
                OfferPart::Control,
                "aes-256-sha1-modp1536,3des-md5",
                "aes256 sha1 modp1536, 3des md5 dh14* dh15* dh16* dh18* dh19* dh20* dh21* dh31*",
            ),
            (IkeDaemon::Libreswan, OfferPart::Data, "aes_gcm256+aes_gcm128-null", "aes_gcm256 aes_gcm128"),
            (IkeDaemon::Libreswan, OfferPart::Data, "aes256", "aes256 sha2_512* sha2_256*"),
            (IkeDaemon::Libreswan, OfferPart::Data, "null-sha1", "null sha1"),
        ] {
            let offer = offer(daemon, part, Some((value, origin)), false, origin);
            assert_eq!(told(&offer), wanted, "{value}");
        }
        let line = |value| told(&strongswan_line(OfferPart::Data, Some((value, origin)), origin));
        assert_eq!(line("aes256gcm16-ecp384!"), "aes256gcm16 ecp384");
        assert!(line("aes256gcm16-ecp384").ends_with("sha1* aesxcbc*"));
        let old = offer(IkeDaemon::Libreswan, OfferPart::Control, None, true, origin);
        assert!(told(&old).contains("3des*"));
    }
}
