//! `swanctl.conf` (swanctl.conf(5)): connections, pools, secrets and authorities in nested sections.

use super::proposals::{authentication_alone, offer};
use super::settings::{View, each_value, parse, read_in};
use super::{certificate_file, finish, plugins, pool, seconds, secrets, selectors, strongswan_conf, tell};
use crate::addresses;
use crate::reader::{LineRecorder, ReadContext, Reader, Reading, Recognition, TELLING_LINES};
use serde::Deserialize;
use std::collections::BTreeMap;
use trevlin_model::Revocation;
use trevlin_model::certificate::{CertificateFile, CertificateUse};
use trevlin_model::ipsec::{AuthRound, Child, ChildMode, IkeDaemon, IkeProof, IkeVersions, IpsecConnection};
use trevlin_model::offer::{Offer, OfferPart};
use trevlin_model::plan::AddressPlan;
use trevlin_model::{Export, LineClass, MalformedAddress, Origin, Pool, Setting};

/// The reader.
pub(crate) const READER: Reader = Reader {
    name: "swanctl",
    title: "connections of strongSwan (swanctl)",
    manual: "swanctl.conf(5)",
    recognise,
    read,
};

const MANUAL: &str = "swanctl.conf(5)";
const DAEMON: &str = "strongSwan";

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
struct Keys {
    understood: Vec<String>,
    passed: Vec<String>,
}

trevlin_model::table! {
/// Keys by the kind of their section.
static KEYS: BTreeMap<String, Keys> = "../../tables/swanctl-keys.toml"; }

fn recognise(export: &Export) -> Recognition {
    let heading = |line: &str| {
        let bare: String = line.split_whitespace().collect();
        matches!(bare.as_str(), "connections{" | "pools{" | "secrets{" | "authorities{")
    };
    if export.lines().take(TELLING_LINES).any(|line| heading(line.text)) {
        Recognition::Content
    } else if export.file_name() == "swanctl.conf" || export.path().contains("swanctl/conf.d/") {
        Recognition::Name
    } else {
        Recognition::No
    }
}

/// The exports that a line of `other` reads in, where that is a file of this kind.
fn included<'a>(line: &str, other: &Export, around: &ReadContext<'a>) -> Vec<&'a Export> {
    // Most lines name nothing, and what a file is costs more to tell.
    if !line.trim_start().starts_with("include ") || recognise(other) == Recognition::No {
        return Vec::new();
    }
    read_in(line, other, around)
}

/// The exports that make one configuration with this one: itself, and where `swanctl.conf` itself was not exported every
/// other file, since that reads them all in as Debian ships it.
fn together<'a>(export: &'a Export, around: &ReadContext<'a>) -> Vec<&'a Export> {
    let all = || around.of_format(&READER).map(|(one, _)| one);
    if all().any(|one| one.file_name() == "swanctl.conf") || !all().any(|one| one.path() == export.path()) {
        return vec![export];
    }
    let mut found: Vec<&Export> = all().filter(|one| !around.reads_in(one, included)).collect();
    found.sort_by_key(|one| one.path());
    found
}

/// Classification of a key in its section; `None` for one that swanctl.conf(5) does not list there.
fn class(within: &[&str], key: &str) -> Option<LineClass> {
    // A number or a name may follow a key that may stand several times (`id-1`, `cert2`).
    let bare = key.trim_end_matches(|letter: char| letter.is_ascii_digit()).trim_end_matches('-');
    let of = |kind: &str| {
        let keys = KEYS.get(kind)?;
        let has = |all: &[String]| all.iter().any(|one| one == key || one == bare);
        if has(&keys.understood) {
            Some(LineClass::Understood)
        } else {
            has(&keys.passed).then_some(LineClass::Ignored)
        }
    };
    match within {
        ["connections", _] => of("connection"),
        ["connections", _, "children", _] => of("child"),
        ["connections", _, _, ..] => of("round"),
        // Any attribute may be assigned.
        ["pools", _] => Some(LineClass::Understood),
        ["secrets", _] if key.starts_with("id") => Some(LineClass::Understood),
        ["secrets", _] => of("secret"),
        ["authorities", _] => of("authority"),
        // Sections that are there to be referred to may hold anything that the others hold.
        [first, ..] if !["connections", "pools", "secrets", "authorities"].contains(first) => {
            ["connection", "round", "child"].into_iter().find_map(of)
        }
        _ => None,
    }
}

fn read(export: &Export, around: &ReadContext<'_>) -> Reading {
    let mut reading = Reading::of(export);
    let mut book = LineRecorder::new(export, &mut reading.ledger, &mut reading.elsewhere);
    let mut masked = Vec::new();
    let together = together(export, around);
    let part_of_another = around.reads_in(export, included)
        || together.first().is_none_or(|first| first.path() != export.path());
    let root = if part_of_another {
        parse(&[export], around, &mut book)
    } else {
        parse(&together, around, &mut book)
    };
    each_value(&root, &mut |within, value| {
        // Any value among the secrets may be one.
        if within.first() == Some(&"secrets") && !value.key.starts_with("id") && value.key != "file" {
            masked.push(value.place);
        }
        match class(within, value.key) {
            Some(class) => book.class(value.origin, class),
            // In a file that is read in within a section of another, the sections around it are not known here.
            None if part_of_another && within.len() < 2 => {
                masked.push(value.place);
                book.class(value.origin, LineClass::Understood);
            }
            None => book.not_understood(
                value.origin,
                format!(
                    "`{}` is not a key of swanctl.conf(5) in this place; the daemon ignores it",
                    value.key
                ),
            ),
        }
    });
    let whole = View::of(&root);
    for (name, origin) in whole.lost_references() {
        if !part_of_another {
            book.not_understood(
                origin,
                format!(
                    "there is no section `{name}` to refer to; the settings it would contribute are missing"
                ),
            );
        }
    }
    reading.facts.masked_places.append(&mut masked);
    // Lines that another file includes belong to that file's connections.
    if part_of_another {
        return reading;
    }
    let mut malformed = Vec::new();
    let connections = whole.section("connections");
    for name in connections.iter().flat_map(View::names) {
        if let Some(view) = connections.as_ref().and_then(|view| view.section(name)) {
            connection(name, &view, &whole, &mut reading, &mut malformed);
        }
    }
    plugins::apply(&mut reading.facts.tunnels, around);
    strongswan_conf::tell_aggressive(&mut reading.facts.tunnels, around);
    strongswan_conf::tell_inner_method(&mut reading.facts.tunnels, around);
    let mut book = LineRecorder::new(export, &mut reading.ledger, &mut reading.elsewhere);
    tell(malformed, &mut book);
    secrets::take(&whole, around, export, &mut reading);
    reading
}

fn said<'s>(view: &View<'s, '_>, key: &str) -> Option<(&'s str, Origin)> {
    view.get(key).map(|value| (value.text.as_str(), value.origin))
}

fn list<'s>(view: &View<'s, '_>, key: &str) -> Vec<(&'s str, Origin)> {
    let Some((text, origin)) = said(view, key) else { return Vec::new() };
    text.split(',').map(str::trim).filter(|piece| !piece.is_empty()).map(|piece| (piece, origin)).collect()
}

fn yes(view: &View<'_, '_>, key: &str) -> Option<Origin> {
    said(view, key)
        .filter(|(text, _)| matches!(*text, "yes" | "true" | "1" | "enabled"))
        .map(|(_, origin)| origin)
}

fn time(view: &View<'_, '_>, key: &str) -> Option<(u64, Origin)> {
    said(view, key).and_then(|(text, origin)| Some((seconds(text)?, origin)))
}

/// Stated addresses; `%any` matches all.
fn addresses_of(view: &View<'_, '_>, key: &str) -> Vec<(String, Origin)> {
    let stated = list(view, key).into_iter().filter(|(text, _)| !text.starts_with("%any"));
    stated.map(|(text, origin)| (text.to_owned(), origin)).collect()
}

fn connection(
    name: &str,
    view: &View<'_, '_>,
    whole: &View<'_, '_>,
    reading: &mut Reading,
    malformed: &mut Vec<MalformedAddress>,
) {
    let Some(origin) = view.origin() else { return };
    let mut plan = AddressPlan::default();
    let wanted = list(view, "pools");
    for (wanted, at) in &wanted {
        match whole.section("pools").and_then(|pools| pools.section(wanted)) {
            Some(found) => handed_out(&format!("IPsec connection {name}"), wanted, &found, &mut plan),
            // A pool that is kept elsewhere (`dhcp`, `radius`, a database).
            None => plan.pools.push(trevlin_model::Pool::new(format!("IPsec connection {name}"), *at)),
        }
    }
    let versions = match said(view, "version") {
        Some(("1", origin)) => Setting::Stated { value: IkeVersions::First, origin },
        Some(("2", origin)) => Setting::Stated { value: IkeVersions::Second, origin },
        Some((_, origin)) => Setting::Stated { value: IkeVersions::Both, origin },
        None => Setting::default_of(IkeVersions::Both, DAEMON, "swanctl.conf(5), version"),
    };
    let mut offers =
        vec![offer(IkeDaemon::StrongSwan, OfferPart::Control, said(view, "proposals"), false, origin)];
    let mut children = Vec::new();
    let inner = view.section("children");
    for child_name in inner.iter().flat_map(View::names) {
        if let Some(child) = inner.as_ref().and_then(|inner| inner.section(child_name)) {
            children.push(self::child(child_name, &child, origin, &mut offers, &mut plan.malformed));
        }
    }
    // Keys are renewed by whichever comes first.
    let (rekey, reauth) = (time(view, "rekey_time"), time(view, "reauth_time"));
    let renewed = [rekey, reauth].into_iter().flatten().filter(|(seconds, _)| *seconds > 0).min();
    let rekey = match (renewed, rekey.or(reauth)) {
        (Some((value, origin)), _) | (None, Some((value, origin))) if rekey.is_some() || value > 0 => {
            Setting::Stated { value, origin }
        }
        _ => Setting::default_of(4 * 60 * 60, DAEMON, "swanctl.conf(5), rekey_time"),
    };
    let liveness = match time(view, "dpd_delay") {
        Some((value, origin)) => Setting::Stated { value, origin },
        None => Setting::default_of(0, DAEMON, "swanctl.conf(5), dpd_delay"),
    };
    let connection = IpsecConnection {
        name: name.to_owned(),
        daemon: IkeDaemon::StrongSwan,
        sides_by_address: false,
        versions,
        aggressive: yes(view, "aggressive"),
        local_addresses: addresses_of(view, "local_addrs"),
        remote_addresses: addresses_of(view, "remote_addrs"),
        local: rounds(view, "local"),
        remote: rounds(view, "remote"),
        rekey,
        liveness,
        quantum_key: said(view, "ppk_id").map(|(_, origin)| (yes(view, "ppk_required").is_some(), origin)),
        children,
    };
    let asks = said(view, "vips").is_some();
    finish(reading, malformed, connection, offers, plan, asks, origin);
    if let Some(tunnel) = reading.facts.tunnels.last_mut() {
        tunnel.proof.revocation = revocation(view, whole);
    }
}

/// Content of a pool: addresses, DNS servers and other attributes (swanctl.conf(5), pools).
fn handed_out(title: &str, name: &str, view: &View<'_, '_>, plan: &mut AddressPlan) {
    for value in view.values() {
        let (text, origin) = (value.text.as_str(), value.origin);
        let pieces = || text.split(',').map(str::trim).filter(|piece| !piece.is_empty());
        match value.key {
            "addrs" => plan
                .pools
                .push(Pool { leases: Some(format!("charon, pool {name}")), ..pool(title, text, origin) }),
            "dns" => {
                for piece in pieces() {
                    let server = addresses::take(piece, origin, &mut plan.malformed, addresses::single);
                    plan.name_servers.extend(server.map(|server| (server, origin)));
                }
            }
            "nbns" => {
                plan.netbios.extend(pieces().map(|piece| (format!("a NetBIOS name server, {piece}"), origin)))
            }
            "split_exclude" => {
                for piece in pieces() {
                    let net = addresses::take(piece, origin, &mut plan.malformed, addresses::range_or_prefix);
                    plan.kept_out.extend(net.map(|net| (net, origin)));
                }
            }
            // INTERNAL_DNS_DOMAIN (RFC 8598).
            "25" => plan.domains.extend(pieces().map(|piece| (piece.to_owned(), origin))),
            _ => {}
        }
    }
}

/// Rounds of one side, in order.
fn rounds(view: &View<'_, '_>, side: &str) -> Vec<AuthRound> {
    let mut found: Vec<(u32, AuthRound)> = Vec::new();
    for name in view.names().into_iter().filter(|name| name.starts_with(side)) {
        let Some(round) = view.section(name) else { continue };
        let proof = match said(&round, "auth") {
            Some((text, origin)) => Setting::Stated { value: proof(text), origin },
            None => Setting::default_of(IkeProof::PublicKey, DAEMON, "swanctl.conf(5), auth"),
        };
        let mut narrowed = ["certs", "cacerts", "ca_id", "pubkeys", "groups", "cert_policy"].iter();
        let narrowed = narrowed.find_map(|key| said(&round, key)).map(|(_, origin)| origin);
        let inner =
            round.names().into_iter().find(|name| name.starts_with("cert") || name.starts_with("cacert"));
        let narrowed = narrowed.or_else(|| round.section(inner?)?.origin());
        let identity = ["id", "eap_id", "xauth_id"].iter().find_map(|key| said(&round, key));
        let identity = identity.map(|(text, origin)| (text.to_owned(), origin));
        let number = said(&round, "round").and_then(|(text, _)| text.parse().ok()).unwrap_or(0);
        let certificates = certificates(&round);
        found.push((number, AuthRound { proof, identity, narrowed, certificates }));
    }
    found.sort_by_key(|(number, _)| *number);
    if found.is_empty() {
        // Without a section no specific identity is required, and any verifiable one is accepted.
        let proof = Setting::default_of(IkeProof::Anything, DAEMON, MANUAL);
        return vec![AuthRound { proof, identity: None, narrowed: None, certificates: Vec::new() }];
    }
    found.into_iter().map(|(_, round)| round).collect()
}

/// Files of certificates that a round names, in a list or in a section each; the daemon looks for a bare name in its own folders
/// (swanctl.conf(5), certs and cacerts).
fn certificates(round: &View<'_, '_>) -> Vec<CertificateFile> {
    let mut found = Vec::new();
    for (key, folder, purpose) in [
        ("certs", "/etc/swanctl/x509", CertificateUse::Own),
        ("cacerts", "/etc/swanctl/x509ca", CertificateUse::Authority),
    ] {
        let named = list(round, key).into_iter();
        found.extend(named.map(|(name, origin)| certificate_file(purpose, name, folder, origin)));
        let sections = round.names().into_iter().filter(|name| name.starts_with(key.trim_end_matches('s')));
        for section in sections.filter_map(|name| round.section(name)) {
            if let Some((name, origin)) = said(&section, "file") {
                found.push(certificate_file(purpose, name, folder, origin));
            }
        }
    }
    found
}

/// How revoked certificates of the other end are recognised: the policy of its rounds, or addresses of lists and responders that an authority
/// states (swanctl.conf(5), revocation, crl_uris and ocsp_uris).
fn revocation(view: &View<'_, '_>, whole: &View<'_, '_>) -> Option<Revocation> {
    let rounds = view.names().into_iter().filter(|name| name.starts_with("remote"));
    let strict =
        rounds.filter_map(|name| said(&view.section(name)?, "revocation")).find_map(|(text, origin)| {
            matches!(text, "strict" | "ifuri").then_some(Revocation { strict: true, origin })
        });
    strict.or_else(|| {
        let authorities = whole.section("authorities")?;
        let mut all = authorities.names().into_iter().filter_map(|name| authorities.section(name));
        all.find_map(|one| said(&one, "crl_uris").or_else(|| said(&one, "ocsp_uris")))
            .map(|(_, origin)| Revocation { strict: false, origin })
    })
}

/// A method of authentication: `psk`, `eap-METHOD`, `xauth-BACKEND`; any other text constrains a public key.
pub(super) fn proof(text: &str) -> IkeProof {
    let (first, rest) = text.split_once('-').unwrap_or((text, ""));
    match first {
        "psk" | "secret" => IkeProof::SharedKey,
        // Constraints on certificates may follow a colon.
        "eap" => IkeProof::Eap(rest.split(':').next().unwrap_or_default().to_owned()),
        "xauth" => IkeProof::Xauth(rest.to_owned()),
        _ => IkeProof::PublicKey,
    }
}

fn child(
    name: &str,
    view: &View<'_, '_>,
    around: Origin,
    offers: &mut Vec<Offer>,
    malformed: &mut Vec<MalformedAddress>,
) -> Child {
    let origin = view.origin().unwrap_or(around);
    let first = offers.len();
    let (esp, ah) = (said(view, "esp_proposals"), said(view, "ah_proposals"));
    // Without either, the default set of ESP is offered.
    if esp.is_some() || ah.is_none() {
        offers.push(offer(IkeDaemon::StrongSwan, OfferPart::Data, esp, false, origin));
    }
    if ah.is_some() {
        let ah = offer(IkeDaemon::StrongSwan, OfferPart::Data, ah, false, origin);
        offers.push(authentication_alone(ah));
    }
    let own = first..offers.len();
    if let Some(origin) = yes(view, "sha256_96") {
        offers.push(offer(
            IkeDaemon::StrongSwan,
            OfferPart::Data,
            Some(("sha256_96", origin)),
            false,
            origin,
        ));
    }
    let mode = match said(view, "mode") {
        Some(("tunnel", origin)) => Setting::Stated { value: ChildMode::Tunnel, origin },
        Some(("pass", origin)) => Setting::Stated { value: ChildMode::Pass, origin },
        Some(("drop", origin)) => Setting::Stated { value: ChildMode::Drop, origin },
        Some((_, origin)) => Setting::Stated { value: ChildMode::Transport, origin },
        None => Setting::default_of(ChildMode::Tunnel, DAEMON, "swanctl.conf(5), mode"),
    };
    let rekey = match time(view, "rekey_time") {
        Some((value, origin)) => Setting::Stated { value, origin },
        None => Setting::default_of(60 * 60, DAEMON, "swanctl.conf(5), rekey_time"),
    };
    Child {
        name: name.to_owned(),
        local: selectors(said(view, "local_ts"), malformed),
        remote: selectors(said(view, "remote_ts"), malformed),
        mode,
        rekey,
        compression: yes(view, "ipcomp"),
        forward_secrecy: Setting::default_of(false, DAEMON, "swanctl.conf(5), esp_proposals"),
        by_interface_origin: ["if_id_out", "mark_out"]
            .iter()
            .find_map(|name| said(view, name))
            .filter(|(value, _)| *value != "0")
            .map(|(_, origin)| origin),
        offers: own.collect(),
        origin,
    }
}

#[cfg(test)]
#[path = "swanctl_tests.rs"]
mod tests;
