//! Checks of the area `ciphers`.

pub(super) mod copy_unencrypted;
pub(super) mod database_unencrypted;
pub(super) mod file_transfer_unencrypted;
pub(super) mod http_not_redirected;
pub(super) mod legacy_cipher_fallback;
pub(super) mod legacy_tls;
pub(super) mod legacy_wifi_encryption;
pub(super) mod login_server_not_verified;
pub(super) mod login_source_unencrypted;
pub(super) mod long_key_lifetime;
pub(super) mod no_forward_secrecy;
pub(super) mod no_quantum_resistance;
pub(super) mod password_in_transit_unencrypted;
pub(super) mod smb1;
pub(super) mod smb_signing_optional;
pub(super) mod snmp_unencrypted;
pub(super) mod syslog_unencrypted;
pub(super) mod weak_algorithm_agreed;
pub(super) mod weak_encryption;
pub(super) mod weak_integrity;
pub(super) mod weak_key_exchange;

use crate::check::{Answer, Check, Fail, Verdict};
use crate::subject::{Subject, SubjectKind};
use std::collections::{BTreeMap, BTreeSet};
use trevlin_analysis::crypto::algorithms::{Algorithm, lookup};
use trevlin_analysis::map::EstateMap;
use trevlin_analysis::services::is_met;
use trevlin_estate::area::Severity;
use trevlin_model::Origin;
use trevlin_model::offer::{AlgorithmRole, Offer, OfferPart, Offered, Spelling};
use trevlin_model::served::{Served, ServedKind};
use trevlin_model::ssh::{SshConnection, SshServer};

/// How many weak algorithms one finding lists.
const LISTED: usize = 4;

/// An offered algorithm, and its strength.
struct Known<'a> {
    offer: &'a Offer,
    offered: &'a Offered,
    algorithm: &'static Algorithm,
    /// Whether this end takes it before all others of its role.
    first: bool,
}

/// Severity: one level lower for defaults of the program, which are mostly its last choice, and one higher for a stated cipher or group that
/// this end prefers, since current peers then agree on it as well.
fn severity(one: &Known<'_>) -> Severity {
    let severity = one.algorithm.status.severity().unwrap_or(Severity::Low);
    match (severity, one.offered.default) {
        (Severity::High, Some(_)) => Severity::Medium,
        (Severity::Medium, Some(_)) => Severity::Low,
        (Severity::Low, Some(_)) => Severity::Info,
        (Severity::Medium, None) if one.first => Severity::High,
        (severity, _) => severity,
    }
}

/// Whether an end takes an algorithm before all others of its role. Version 1.3 of TLS has suites of its own, on which current peers
/// agree whatever the list for older versions says.
fn is_first(offer: &Offer, offered: &Offered, algorithm: &Algorithm) -> bool {
    let same_role = |one: &&Offered| {
        lookup(offer.spelling, one.role, &one.name).is_none_or(|known| known.role() == algorithm.role())
    };
    offer.own_order
        && matches!(algorithm.role(), AlgorithmRole::Encryption | AlgorithmRole::KeyExchange)
        && offered.versions.is_none()
        && !offer.algorithms.iter().any(|one| one.name.ends_with("TLSv1.3") || one.name == "VERS-TLS1.3")
        && offer.algorithms.iter().find(same_role).is_some_and(|one| std::ptr::eq(one, offered))
}

/// Judges what every tunnel, and every SSH server, offers of some roles: the weakest that may be agreed on counts.
/// `unknown_names` is whether names that no table has are asked about here.
fn judge(
    check: &Check,
    estate: &EstateMap,
    roles: &[AlgorithmRole],
    what: &str,
    unknown_names: bool,
) -> Vec<Answer> {
    let mut answers = Vec::new();
    for (at, device) in estate.devices.iter().enumerate() {
        for one in device.facts.with_profiles().filter(|one| !one.offers.is_empty()) {
            let verdict = tunnel(
                check,
                estate,
                &one.name,
                &one.offers.iter().collect::<Vec<_>>(),
                roles,
                what,
                unknown_names,
            );
            answers.push(Answer::new(at, Subject::tunnel(one), verdict));
        }
        let mut offering = Vec::new();
        // Dialects of file shares are another check's.
        let judged =
            |one: &&Served| one.refused.is_none() && one.kind != ServedKind::Shares && is_met(device, one);
        for served in device.facts.served.iter().filter(judged) {
            let offers: Vec<&Offer> = served.offers.iter().collect();
            if !offers.is_empty() {
                offering.push((served, offers));
            }
        }
        let judge =
            |name: &str, offers: &[&Offer]| tunnel(check, estate, name, offers, roles, what, unknown_names);
        answers
            .extend(by_line(offering, judge).into_iter().map(|(one, verdict)| Answer::new(at, one, verdict)));
        for settings in device.facts.eap_settings.iter().filter(|one| !one.offers.is_empty()) {
            let offers: Vec<&Offer> = settings.offers.iter().collect();
            let verdict =
                tunnel(check, estate, "EAP on the RADIUS server", &offers, roles, what, unknown_names);
            answers.push(Answer::new(at, Subject::of(SubjectKind::Eap), verdict));
        }
        for source in device.facts.login_sources.iter().filter(|one| !one.offers.is_empty()) {
            let offers: Vec<&Offer> = source.offers.iter().collect();
            let subject = Subject::of(SubjectKind::LoginSource).with(&source.name);
            answers.push(Answer::new(at, subject, judge(&source.name, &offers)));
        }
        for server in device.facts.ssh_servers.iter().filter(|server| server.refused.is_none()) {
            let offers = shell(server);
            if !offers.is_empty() {
                let verdict = tunnel(
                    check,
                    estate,
                    "SSH",
                    &offers.iter().collect::<Vec<_>>(),
                    roles,
                    what,
                    unknown_names,
                );
                answers.push(Answer::new(at, Subject::ssh(), verdict));
            }
        }
    }
    answers
}

/// One line that holds for several services, as pages that one server serves, is one finding.
fn by_line(
    all: Vec<(&Served, Vec<&Offer>)>,
    judge: impl Fn(&str, &[&Offer]) -> Verdict,
) -> Vec<(Subject, Verdict)> {
    let mut kept: Vec<(&Served, Vec<&Offer>, Verdict, usize)> = Vec::with_capacity(all.len());
    let mut failed: BTreeMap<Vec<Origin>, usize> = BTreeMap::new();
    for (served, offers) in all {
        let verdict = judge(&served.name, &offers);
        if let Verdict::Fail(fail) = &verdict {
            match failed.get(&fail.evidence) {
                Some(known) => {
                    kept[*known].3 += 1;
                    continue;
                }
                None => _ = failed.insert(fail.evidence.clone(), kept.len()),
            }
        }
        kept.push((served, offers, verdict, 0));
    }
    let told = |(served, offers, verdict, others): (&Served, Vec<&Offer>, Verdict, usize)| {
        let verdict = match others {
            0 => verdict,
            1 => judge(&format!("{} and one other", served.name), &offers),
            more => judge(&format!("{} and {more} others", served.name), &offers),
        };
        (Subject::served(served), verdict)
    };
    kept.into_iter().map(told).collect()
}

/// Algorithms configured for an SSH server. Its defaults, which apply where nothing is stated, are not judged.
fn shell(server: &SshServer) -> Vec<Offer> {
    let mut offers = Vec::new();
    for (keyword, role) in [
        ("ciphers", AlgorithmRole::Encryption),
        ("macs", AlgorithmRole::Integrity),
        ("kexalgorithms", AlgorithmRole::KeyExchange),
    ] {
        let setting = server.effective(keyword, &SshConnection::default());
        let Some((values, origin)) = setting.stated() else { continue };
        let algorithms = values.iter().map(|name| Offered {
            name: name.clone(),
            role: Some(role),
            versions: None,
            suite: 0,
            origin,
            default: None,
        });
        let algorithms: Vec<Offered> = algorithms.collect();
        offers.push(Offer {
            part: OfferPart::Data,
            spelling: Spelling::OpenSsh,
            algorithms,
            own_order: false,
            open: None,
            origin,
        });
    }
    offers
}

fn tunnel(
    check: &Check,
    estate: &EstateMap,
    name: &str,
    offers: &[&Offer],
    roles: &[AlgorithmRole],
    what: &str,
    unknown_names: bool,
) -> Verdict {
    let mut known: Vec<Known<'_>> = Vec::new();
    let mut unknown: Vec<(&Offer, &Offered)> = Vec::new();
    for offer in offers {
        for offered in &offer.algorithms {
            match lookup(offer.spelling, offered.role, &offered.name) {
                Some(algorithm) if roles.contains(&algorithm.role()) => {
                    let first = is_first(offer, offered, algorithm);
                    known.push(Known { offer, offered, algorithm, first });
                }
                Some(_) => {}
                // An algorithm in no table raises one request, where encryption is judged.
                None if unknown_names => unknown.push((offer, offered)),
                None => {}
            }
        }
    }
    let weak: Vec<&Known<'_>> =
        known.iter().filter(|one| one.algorithm.status.severity().is_some()).collect();
    // Stated settings take precedence over defaults.
    if let Some(worst) =
        weak.iter().min_by_key(|one| (std::cmp::Reverse(severity(one)), one.offered.default.is_some()))
    {
        return fail(check, estate, name, what, worst, &weak, &known);
    }
    if let Some((offer, offered)) = unknown.first() {
        let question = format!(
            "Please state which algorithm `{}` is in the version in use: it is not a name that {} defines in the algorithm \
             table.",
            offered.name,
            offer.spelling.program()
        );
        return Verdict::ask(question, vec![offered.origin]);
    }
    let asked = offers.iter().find_map(|offer| {
        let (role, question) = offer.open.as_ref()?;
        // Either daemon may read the file of IKE; the request concerns all of it.
        let of_file = matches!(offer.spelling, Spelling::StrongSwan | Spelling::Libreswan);
        roles.contains(role).then_some((question, of_file, offer.origin))
    });
    match asked {
        Some((question, true, origin)) => Verdict::ask(format!("{question}."), vec![origin]),
        Some((question, false, origin)) => {
            let question = format!("{name}: {question}. Please provide the version in use");
            Verdict::ask(question, vec![origin])
        }
        None if known.is_empty() => Verdict::DoesNotApply,
        None => holds(&known),
    }
}

/// All algorithms of a role are sound: the lines that state them, or the document of the program's own list.
fn holds(known: &[Known<'_>]) -> Verdict {
    let stated: Vec<Origin> =
        known.iter().filter(|one| one.offered.default.is_none()).map(|one| one.offered.origin).collect();
    match (stated.is_empty(), known.first()) {
        (true, Some(first)) => {
            Verdict::pass_default(first.offered.origin, first.offered.default.unwrap_or_default())
        }
        _ => Verdict::pass_lines(stated),
    }
}

fn fail(
    check: &Check,
    estate: &EstateMap,
    name: &str,
    what: &str,
    worst: &Known<'_>,
    weak: &[&Known<'_>],
    known: &[Known<'_>],
) -> Verdict {
    let severity = severity(worst);
    // The highest severity first; where a line states a weak algorithm, defaults are not listed in addition.
    let mut listed: Vec<&Known<'_>> = vec![worst];
    let alike = |one: &&&Known<'_>| one.offered.default.is_some() == worst.offered.default.is_some();
    listed.extend(weak.iter().filter(|one| !std::ptr::eq(**one, worst)).filter(alike).copied());
    // IKE and ESP are configured apart, and so is each child: every line is cited.
    let mut evidence: Vec<Origin> = Vec::new();
    for one in &listed {
        if !evidence.contains(&one.offered.origin) {
            evidence.push(one.offered.origin);
        }
    }
    let mut names: BTreeSet<(OfferPart, &str)> = BTreeSet::new();
    listed.retain(|one| names.insert((one.offer.part, &one.offered.name)));
    let more = listed.len().saturating_sub(LISTED);
    listed.truncate(LISTED);
    let mut told: Vec<_> = listed
        .iter()
        .map(|one| {
            let versions = one.offered.versions.map(|versions| format!(", {versions}")).unwrap_or_default();
            let default =
                one.offered.default.map(|source| format!(", default: {source}")).unwrap_or_default();
            let block = match one.algorithm.block {
                Some(64) => ", with 64-bit blocks",
                _ => "",
            };
            format!(
                "`{}` is {}{block}: {} ({}, {}; {}{versions}{default})",
                one.offered.name,
                one.algorithm.name,
                one.algorithm.status.word(),
                one.algorithm.source,
                one.algorithm.year,
                estate.place(one.offered.origin)
            )
        })
        .collect();
    if more > 0 {
        told.push(format!("{more} further weak algorithms"));
    }
    let better = known.len() > weak.len();
    let why = match (better, worst.offered.default) {
        (_, Some(_)) => "it is the default where nothing is set",
        (true, None) if worst.first => {
            "it stands first in the order that decides, so peers that know stronger ones agree on it as well"
        }
        (true, None) => "stronger algorithms are offered as well, and the peer may choose",
        (false, None) => "nothing stronger is offered",
    };
    Verdict::Fail(Fail {
        rating: check.rated_at(
            severity,
            format!("{} is {}; {why}", worst.algorithm.name, worst.algorithm.status.word()),
        ),
        title: if worst.algorithm.is_nothing() {
            format!("{name} permits traffic without encryption").into()
        } else {
            format!("{name} offers {} for {what}", worst.algorithm.name).into()
        },
        detail: format!("{}. {}", told.join("; "), in_its_place(estate, worst)).into(),
        evidence,
    })
}

/// Recommended replacement.
fn in_its_place(estate: &EstateMap, worst: &Known<'_>) -> String {
    if worst.offer.spelling == Spelling::Trade {
        let what = match worst.algorithm.role() {
            AlgorithmRole::Encryption => "AES-256-GCM or ChaCha20-Poly1305",
            AlgorithmRole::Integrity | AlgorithmRole::Prf => "HMAC-SHA-256 or better",
            AlgorithmRole::KeyExchange => {
                "ECDH over a curve of 256 bits or more, or a group of 3072 bits or more"
            }
            AlgorithmRole::Protocol => "TLS 1.2 and 1.3 only",
        };
        return format!("Better: {what}.");
    }
    format!("Setting: `{}`.", instead(estate, worst))
}

/// A line that offers what standards recommend, in the program's own language.
fn instead(estate: &EstateMap, worst: &Known<'_>) -> String {
    let (offer, role) = (worst.offer, worst.algorithm.role());
    let line = match (offer.spelling, offer.part, role) {
        (Spelling::OpenVpn, OfferPart::Control, AlgorithmRole::Protocol) => "tls-version-min 1.2",
        (Spelling::OpenVpn, OfferPart::Control, _) => {
            "tls-cipher TLS-ECDHE-ECDSA-WITH-AES-256-GCM-SHA384:TLS-ECDHE-RSA-WITH-AES-256-GCM-SHA384"
        }
        (Spelling::OpenVpn, OfferPart::Data, AlgorithmRole::Integrity) => "auth SHA256",
        (Spelling::OpenVpn, OfferPart::Data, _) => "data-ciphers AES-256-GCM:AES-128-GCM:CHACHA20-POLY1305",
        (Spelling::StrongSwan, ..) => return strongswan(estate, worst),
        (Spelling::Libreswan, OfferPart::Control, _) => "ike=aes_gcm256-sha2_512;dh20",
        (Spelling::Libreswan, OfferPart::Data, _) => "esp=aes_gcm256-null;dh20",
        (Spelling::GnuTls, _, AlgorithmRole::Protocol) => {
            "tls-priorities = \"NORMAL:-VERS-TLS1.0:-VERS-TLS1.1:-VERS-DTLS1.0\""
        }
        (Spelling::GnuTls, ..) => {
            "tls-priorities = \"NORMAL:-RSA:-CIPHER-ALL:+AES-256-GCM:+AES-128-GCM:+CHACHA20-POLY1305\""
        }
        (Spelling::OpenSsl, ..) => return openssl(estate, worst),
        (Spelling::OpenSsh, _, AlgorithmRole::Encryption) => {
            "Ciphers aes256-gcm@openssh.com,aes128-gcm@openssh.com,aes256-ctr,aes128-ctr"
        }
        (Spelling::OpenSsh, _, AlgorithmRole::KeyExchange) => {
            "KexAlgorithms sntrup761x25519-sha512@openssh.com,curve25519-sha256,ecdh-sha2-nistp384"
        }
        (Spelling::OpenSsh, ..) => "MACs hmac-sha2-256-etm@openssh.com,hmac-sha2-512-etm@openssh.com",
        (Spelling::WireGuard, ..) => "the protocol has one suite",
        (Spelling::Smb, ..) => "server min protocol = SMB3_00",
        // Reported in other words.
        (Spelling::Trade, ..) => "",
        (Spelling::Kerberos, ..) => "aes256-cts-hmac-sha1-96 aes256-cts-hmac-sha384-192",
        (Spelling::NetSnmp, ..) => "createUser NAME SHA-256 PASSPHRASE AES PASSPHRASE",
    };
    line.to_owned()
}

/// The same for programs with OpenSSL's names, each of which has its own keywords: by the format that is at fault, the line for
/// versions and the line for suites.
fn openssl(estate: &EstateMap, worst: &Known<'_>) -> String {
    const LINES: [(&str, &str, &str); 11] = [
        ("nginx", "ssl_protocols TLSv1.2 TLSv1.3;", "ssl_ciphers ECDHE+AESGCM:ECDHE+CHACHA20;"),
        ("apache", "SSLProtocol -all +TLSv1.2 +TLSv1.3", "SSLCipherSuite ECDHE+AESGCM:ECDHE+CHACHA20"),
        ("proftpd", "TLSProtocol TLSv1.2 TLSv1.3", "TLSCipherSuite ECDHE+AESGCM:ECDHE+CHACHA20"),
        // No setting of its own names 1.2, but these suites have no earlier version.
        ("vsftpd", "ssl_ciphers=ECDHE+AESGCM:ECDHE+CHACHA20", "ssl_ciphers=ECDHE+AESGCM:ECDHE+CHACHA20"),
        ("postgresql", "ssl_min_protocol_version = 'TLSv1.2'", "ssl_ciphers = 'ECDHE+AESGCM:ECDHE+CHACHA20'"),
        (
            "haproxy",
            "ssl-default-bind-options ssl-min-ver TLSv1.2",
            "ssl-default-bind-ciphers ECDHE+AESGCM:ECDHE+CHACHA20",
        ),
        ("mariadb", "tls_version = TLSv1.2,TLSv1.3", "ssl-cipher = ECDHE+AESGCM:ECDHE+CHACHA20"),
        ("redis", "tls-protocols \"TLSv1.2 TLSv1.3\"", "tls-ciphers ECDHE+AESGCM:ECDHE+CHACHA20"),
        ("mosquitto", "tls_version tlsv1.2", "ciphers ECDHE+AESGCM:ECDHE+CHACHA20"),
        ("stunnel", "sslVersionMin = TLSv1.2", "ciphers = ECDHE+AESGCM:ECDHE+CHACHA20"),
        ("radius", "tls_min_version = \"1.2\"", "cipher_list = \"ECDHE+AESGCM:ECDHE+CHACHA20\""),
    ];
    let format = estate.format_of(worst.offered.origin.export);
    let (versions, suites) = LINES
        .iter()
        .find(|(name, ..)| Some(*name) == format)
        .map_or(("TLS 1.2 and 1.3 only", "ECDHE+AESGCM:ECDHE+CHACHA20"), |(_, versions, suites)| {
            (*versions, *suites)
        });
    if worst.algorithm.role() == AlgorithmRole::Protocol { versions } else { suites }.to_owned()
}

/// The same for strongSwan, whose two formats have other keys: the key of the line that is at fault, or that of the format
/// where nothing is stated.
fn strongswan(estate: &EstateMap, worst: &Known<'_>) -> String {
    let origin = worst.offered.origin;
    let text = estate
        .export(origin.export)
        .text()
        .get(origin.start as usize..origin.end as usize)
        .unwrap_or_default();
    // Read: the line of an export.
    let old_format = text.starts_with("conn ");
    let data = worst.offer.part == OfferPart::Data;
    let key = match (text.split_once('='), old_format, data) {
        (Some((key, _)), ..) => key.trim(),
        (None, true, false) => "ike",
        (None, true, true) => "esp",
        (None, false, false) => "proposals",
        (None, false, true) => "esp_proposals",
    };
    // In the older format the daemon adds its own list unless a `!` says not to.
    let (assigned, strict) = if key.contains("proposals") { (" = ", "") } else { ("=", "!") };
    let suite = match (key, data) {
        ("ah" | "ah_proposals", _) => "sha256-ecp384",
        (_, false) => "aes256gcm16-prfsha384-ecp384",
        (_, true) => "aes256gcm16-ecp384",
    };
    format!("{key}{assigned}{suite}{strict}")
}
