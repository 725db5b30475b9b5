//! `krb5.conf`: what programs of a host use for Kerberos (krb5.conf(5)).

use super::profile::{self, Profile};
use crate::reader::{LineRecorder, ReadContext, Reader, Reading, Recognition};
use crate::serving;
use trevlin_model::login_source::{
    Admission, LoginServer, LoginSource, LoginSourceUse, ServerProof, ServerProofKind,
};
use trevlin_model::offer::{AlgorithmRole, Offer, OfferPart, Offered, Spelling};
use trevlin_model::written::Word;
use trevlin_model::{Export, Origin, Reference, Setting};

/// The reader.
pub(crate) const READER: Reader = Reader {
    name: "kerberos",
    title: "settings of Kerberos",
    manual: "krb5.conf(5)",
    recognise: |export| {
        if export.file_name() == "krb5.conf" || export.path().contains("krb5.conf.d/") {
            Recognition::Name
        } else {
            Recognition::No
        }
    },
    read,
};

/// Relations that become facts.
const JUDGED: [&str; 12] = [
    "allow_des3",
    "allow_rc4",
    "allow_weak_crypto",
    "default_realm",
    "default_tgs_enctypes",
    "default_tkt_enctypes",
    "kdc",
    "kdc_listen",
    "master_kdc",
    "permitted_enctypes",
    "primary_kdc",
    "verify_ap_req_nofail",
];

/// Relations about the libraries as a whole.
const LIBRARY: [&str; 1] = ["libdefaults"];

fn read(export: &Export, around: &ReadContext<'_>) -> Reading {
    let mut reading = Reading::of(export);
    let mut book = LineRecorder::new(export, &mut reading.ledger, &mut reading.elsewhere);
    profile::record(export, &JUDGED, &mut book);
    if export.file_name() != "krb5.conf" {
        return reading;
    }
    let profile = profile::load(&[export], around);
    for (path, origin) in &profile.open {
        reading.facts.missing.push(Reference::configuration(path.clone(), *origin));
    }
    let refused = profile.fault.map(|(line, why)| (why.to_owned(), line));
    reading.facts.login_sources.extend(source(export, &profile).map(|one| LoginSource { refused, ..one }));
    reading
}

fn source(export: &Export, profile: &Profile) -> Option<LoginSource> {
    let realm = profile.first(&LIBRARY, "default_realm");
    let offers = offers(profile);
    let blocks = profile.blocks("realms");
    let name = realm.map(|one| one.0).or_else(|| blocks.first().copied());
    let first = |name: &str| profile.every(&["realms", name], "kdc").next().map(|one| one.origin);
    let origin = realm
        .map(|one| one.1)
        .or_else(|| name.and_then(first))
        .or_else(|| offers.first().map(|one| one.origin))
        .unwrap_or_else(|| export.origin(0..0));
    if name.is_none() && offers.is_empty() {
        return None;
    }
    let everybody = Setting::default_of(Admission::Everybody, "Kerberos", "krb5.conf(5)");
    let mut source = LoginSource::new("Kerberos", "Kerberos", LoginSourceUse::Passwords, everybody, origin);
    source.label = name.map(str::to_owned);
    if let Some(name) = name {
        for key in ["kdc", "primary_kdc", "master_kdc"] {
            for one in profile.every(&["realms", name], key) {
                let place = one.value.split(['/', ' ']).next().unwrap_or_default();
                let (host, port) = serving::host_and_port(place);
                source.servers.push(LoginServer {
                    host: host.unwrap_or_default().to_owned(),
                    port,
                    accounts: None,
                    passwords: None,
                    origin: one.origin,
                    decided_origin: one.origin,
                });
            }
        }
    }
    let demanded = match profile.is(&LIBRARY, "verify_ap_req_nofail") {
        Some((value, origin)) => Setting::Stated { value, origin },
        None => Setting::default_of(false, "Kerberos", "krb5.conf(5), verify_ap_req_nofail"),
    };
    source.proofs.push(ServerProof { kind: ServerProofKind::Ticket, demanded });
    source.offers = offers;
    Some(source)
}

/// Kinds of encryption that programs request or accept, where they are stated.
fn offers(profile: &Profile) -> Vec<Offer> {
    let weak = profile.is(&LIBRARY, "allow_weak_crypto").filter(|one| one.0);
    let mut found = Vec::new();
    for key in ["permitted_enctypes", "default_tkt_enctypes", "default_tgs_enctypes"] {
        let Some((value, origin)) = profile.first(&LIBRARY, key) else { continue };
        found.push(offer(kinds(value, weak.is_some()), origin));
    }
    for key in ["allow_weak_crypto", "allow_rc4", "allow_des3"] {
        if let Some((_, origin)) = profile.is(&LIBRARY, key).filter(|one| one.0) {
            // The switch adds kinds to those that the program has anyway.
            let usual = members("default").iter().copied().chain([key]);
            found.push(offer(usual.map(|kind| (kind.to_owned(), None)).collect(), origin));
        }
    }
    found
}

/// An offer of kinds of encryption for tickets and sessions.
pub(super) fn offer(kinds: Vec<(String, Option<Word>)>, origin: Origin) -> Offer {
    let algorithms = kinds.into_iter().map(|(name, versions)| Offered {
        name,
        role: Some(AlgorithmRole::Encryption),
        versions,
        suite: 0,
        origin,
        default: None,
    });
    Offer {
        part: OfferPart::Data,
        spelling: Spelling::Kerberos,
        algorithms: algorithms.collect(),
        own_order: false,
        open: None,
        origin,
    }
}

/// Kinds of a list with their usual names, in order (krb5.conf(5), Encryption types). Families stand for all their members, and a minus
/// takes kinds away. Single DES is part of versions before 1.18 alone, and of those with `allow_weak_crypto`.
pub(super) fn kinds(list: &str, weak: bool) -> Vec<(String, Option<Word>)> {
    let mut found: Vec<(String, Option<Word>)> = Vec::new();
    for word in list.split([' ', '\t', ',']).filter(|word| !word.is_empty()) {
        let (taken, word) = match word.strip_prefix('-') {
            Some(rest) => (true, rest),
            None => (false, word.strip_prefix('+').unwrap_or(word)),
        };
        for kind in members(&word.to_ascii_lowercase()).iter().copied() {
            let gone = |one: &(String, Option<Word>)| one.0 == kind;
            if taken {
                found.retain(|one| !gone(one));
            } else if !found.iter().any(gone) {
                match kind {
                    "des-cbc-crc" | "des-cbc-md4" | "des-cbc-md5" if weak => {
                        found.push((kind.to_owned(), Some("before 1.18")));
                    }
                    "arcfour-hmac-exp" if weak => found.push((kind.to_owned(), None)),
                    "des-cbc-crc" | "des-cbc-md4" | "des-cbc-md5" | "arcfour-hmac-exp" => {}
                    kind => found.push((kind.to_owned(), None)),
                }
            }
        }
    }
    found
}

/// Kinds of encryption that a word means: one by any of its names, or a family.
fn members(word: &str) -> &'static [&'static str] {
    match word {
        "default" => &[
            "aes256-cts-hmac-sha1-96",
            "aes128-cts-hmac-sha1-96",
            "aes256-cts-hmac-sha384-192",
            "aes128-cts-hmac-sha256-128",
            "camellia256-cts-cmac",
            "camellia128-cts-cmac",
        ],
        "aes" => &[
            "aes256-cts-hmac-sha1-96",
            "aes128-cts-hmac-sha1-96",
            "aes256-cts-hmac-sha384-192",
            "aes128-cts-hmac-sha256-128",
        ],
        "camellia" => &["camellia256-cts-cmac", "camellia128-cts-cmac"],
        "des" => &["des-cbc-crc", "des-cbc-md5", "des-cbc-md4"],
        "aes256-cts-hmac-sha1-96" | "aes256-cts" | "aes256-sha1" => &["aes256-cts-hmac-sha1-96"],
        "aes128-cts-hmac-sha1-96" | "aes128-cts" | "aes128-sha1" => &["aes128-cts-hmac-sha1-96"],
        "aes256-cts-hmac-sha384-192" | "aes256-sha2" => &["aes256-cts-hmac-sha384-192"],
        "aes128-cts-hmac-sha256-128" | "aes128-sha2" => &["aes128-cts-hmac-sha256-128"],
        "camellia256-cts-cmac" | "camellia256-cts" => &["camellia256-cts-cmac"],
        "camellia128-cts-cmac" | "camellia128-cts" => &["camellia128-cts-cmac"],
        "des3" | "des3-cbc-sha1" | "des3-hmac-sha1" | "des3-cbc-sha1-kd" => &["des3-cbc-sha1"],
        "rc4" | "arcfour-hmac" | "rc4-hmac" | "arcfour-hmac-md5" => &["arcfour-hmac"],
        "arcfour-hmac-exp" | "rc4-hmac-exp" | "arcfour-hmac-md5-exp" => &["arcfour-hmac-exp"],
        "des-cbc-crc" => &["des-cbc-crc"],
        "des-cbc-md4" => &["des-cbc-md4"],
        "des-cbc-md5" => &["des-cbc-md5"],
        _ => &[],
    }
}
