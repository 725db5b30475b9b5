//! TLS parameters in the notation of the libraries: priority strings of GnuTLS (gnutls_priority_init(3)), cipher lists and versions of
//! OpenSSL (ciphers(1)).

use crate::suites;
use std::collections::BTreeSet;
use trevlin_model::Origin;
use trevlin_model::offer::{AlgorithmRole, Offer, OfferPart, Offered, Spelling};

/// Kinds of names in a priority string, in the order of the suites of its keywords: what `-KIND-ALL` takes away.
const KINDS: [&[&str]; 5] = [&["VERS-"], &["CIPHER-"], &["MAC-"], &["KX-"], &["GROUP-", "CURVE-"]];

fn offer(spelling: Spelling, origin: Origin) -> Offer {
    Offer { part: OfferPart::Control, spelling, algorithms: Vec::new(), own_order: false, open: None, origin }
}

/// The keyword whose list another keyword's is, but for its order.
fn list_of(keyword: &str) -> Option<&'static str> {
    match keyword {
        "NORMAL" | "SECURE128" | "SECURE" | "PERFORMANCE" | "LEGACY" | "EXPORT" => Some("NORMAL"),
        "SECURE192" | "SECURE256" => Some("SECURE192"),
        "PFS" => Some("PFS"),
        "SUITEB128" => Some("SUITEB128"),
        "SUITEB192" => Some("SUITEB192"),
        _ => None,
    }
}

/// The kind of a name, as far as its own letters show; names of ciphers, digests and key exchanges are distinguished by their place in a
/// list of the program.
fn kind(name: &str) -> usize {
    if name.starts_with("VERS-") {
        return 0;
    }
    if name.starts_with("GROUP-") || name.starts_with("CURVE-") {
        return 4;
    }
    const EXCHANGES: [&str; 12] = [
        "RSA",
        "DHE-RSA",
        "DHE-DSS",
        "ECDHE-RSA",
        "ECDHE-ECDSA",
        "SRP",
        "SRP-RSA",
        "PSK",
        "RSA-PSK",
        "DHE-PSK",
        "ECDHE-PSK",
        "ANON-",
    ];
    if EXCHANGES.contains(&name) || name.starts_with("ANON-") {
        return 3;
    }
    if matches!(name, "SHA1" | "MD5" | "AEAD" | "SHA224" | "SHA256" | "SHA384" | "SHA512")
        || name.starts_with("UMAC")
    {
        return 2;
    }
    1
}

/// Algorithms that a priority string permits. Keywords expand to the program's own list.
pub(crate) fn gnutls(text: &str, origin: Origin) -> Offer {
    let mut offer = offer(Spelling::GnuTls, origin);
    let mut held: Vec<Offered> = Vec::new();
    for (number, piece) in text.split(':').map(str::trim).filter(|piece| !piece.is_empty()).enumerate() {
        let (sign, name) = match piece.split_at_checked(1) {
            Some((sign @ ("+" | "-" | "!" | "%" | "@"), rest)) => (sign, rest),
            _ => ("", piece),
        };
        match sign {
            "%" => offer.own_order |= name == "SERVER_PRECEDENCE",
            "@" => {
                offer.open = Some((
                    AlgorithmRole::Protocol,
                    format!("the system-wide list `{name}` decides which ciphers are accepted"),
                ));
            }
            "-" | "!" => {
                let all = name
                    .strip_suffix("ALL")
                    .map(|rest| rest.trim_end_matches("DTLS-").trim_end_matches("TLS-"));
                let of_kind = all.and_then(|rest| KINDS.iter().position(|kinds| kinds.contains(&rest)));
                match of_kind {
                    Some(wanted) => {
                        // One of the two families of versions alone may go.
                        let family = name.strip_prefix("VERS-").map(|rest| rest.trim_end_matches("-ALL"));
                        held.retain(|one| {
                            kind(&one.name) != wanted
                                || family.is_some_and(|family| {
                                    matches!(family, "TLS" | "DTLS")
                                        && !one.name.starts_with(&format!("VERS-{family}"))
                                })
                        });
                    }
                    None => {
                        let list =
                            list_of(name).map(|list| suites::defaults(Spelling::GnuTls, list, origin, 0));
                        match list {
                            Some(list) => held.retain(|one| !list.iter().any(|gone| gone.name == one.name)),
                            None => held.retain(|one| !one.name.eq_ignore_ascii_case(name)),
                        }
                    }
                }
            }
            _ => {
                if let Some(list) = list_of(name) {
                    for one in suites::defaults(Spelling::GnuTls, list, origin, 0) {
                        if !held.iter().any(|known| known.name == one.name) {
                            held.push(one);
                        }
                    }
                } else if name != "NONE"
                    && !name.starts_with("SIGN-")
                    && !name.starts_with("COMP-")
                    && !name.starts_with("CTYPE-")
                    && (number > 0 || sign == "+")
                    && !name.ends_with("-ALL")
                {
                    held.retain(|known| known.name != name);
                    held.push(Offered {
                        name: name.to_owned(),
                        role: None,
                        versions: None,
                        suite: 0,
                        origin,
                        default: None,
                    });
                }
            }
        }
    }
    // Version 1.3 has key exchanges by group only, and ciphers with integrity of their own only (RFC 8446, B.4).
    let older = |one: &Offered| kind(&one.name) == 0 && one.name != "VERS-TLS1.3";
    if !held.iter().any(older) {
        held.retain(|one| kind(&one.name) != 3 && !one.name.ends_with("-CBC"));
    }
    // Digests belong to ciphers without integrity of their own.
    let chained = held
        .iter()
        .any(|one| one.name.ends_with("-CBC") || one.name == "NULL" || one.name.starts_with("ARCFOUR"));
    held.retain(|one| chained || kind(&one.name) != 2);
    for one in &mut held {
        one.suite = 0;
    }
    offer.algorithms = held;
    offer
}

/// Versions of TLS from the lowest that is taken on, in OpenSSL's names.
const VERSIONS: [&str; 6] = ["SSLv2", "SSLv3", "TLSv1", "TLSv1.1", "TLSv1.2", "TLSv1.3"];

/// Algorithms that a cipher list of OpenSSL and the lowest and highest version permit; either may be unset. Excluded algorithms, and
/// versions that `options` forbid, are left out.
pub(crate) fn openssl(
    ciphers: Option<(&str, Origin)>,
    versions: [Option<(&str, Origin)>; 2],
    forbidden: &[String],
    origin: Origin,
) -> Offer {
    let mut offer = offer(Spelling::OpenSsl, origin);
    // Many servers share one list, and each has its algorithms.
    let text = ciphers.map_or("", |(text, _)| text);
    let most = || text.split([':', ',', ' ']).count() * size_of::<Offered>();
    // To look through a list for each of them is work as well.
    if !crate::growth::may_grow(text.len()) || !crate::growth::may_grow(most()) {
        let why = "its cipher list is used in more places than are followed; please review it by hand";
        offer.open = Some((AlgorithmRole::Encryption, why.into()));
        return offer;
    }
    let mut add = |name: &str, role, origin| {
        let name = name.to_owned();
        offer.algorithms.push(Offered { name, role, versions: None, suite: 0, origin, default: None });
    };
    let place = |one: Option<(&str, Origin)>| {
        one.and_then(|(name, _)| VERSIONS.iter().position(|known| *known == name))
    };
    let [lowest, highest] = versions;
    let last = place(highest).unwrap_or(VERSIONS.len() - 1);
    let allowed = |name: &str| {
        !forbidden.iter().any(|option| option.trim_start_matches("NO_") == name.replace('.', "_"))
    };
    let mut open = None;
    match lowest {
        Some((name, at)) => {
            // `all` goes down to whatever the library has.
            let first = if name == "all" { 2 } else { place(lowest).unwrap_or(last) };
            for version in VERSIONS.iter().take(last + 1).skip(first).filter(|name| allowed(name)) {
                add(version, Some(AlgorithmRole::Protocol), at);
            }
        }
        None if VERSIONS[2..4].iter().any(|name| allowed(name)) => {
            let question = "no minimum TLS version is set: with OpenSSL before 3.0, TLS 1.0 is accepted";
            open = Some((AlgorithmRole::Protocol, question.to_owned()));
        }
        None => {}
    }
    if let Some((list, at)) = ciphers {
        let pieces = || list.split([':', ',', ' ']).filter(|piece| !piece.is_empty());
        let gone: BTreeSet<&str> = pieces().filter_map(|piece| piece.strip_prefix(['!', '-'])).collect();
        for piece in pieces().filter(|piece| !piece.starts_with(['!', '-', '@'])) {
            for part in piece.trim_start_matches('+').split('+').filter(|part| !gone.contains(part)) {
                add(part, None, at);
            }
        }
    }
    offer.open = open;
    offer
}

/// The same for a list as mail servers write it: one of exclusions alone (`!SSLv3`) begins with every version, and `>=TLSv1.2` or
/// `<=TLSv1.2` leaves those out that are below or above (postconf(5), smtpd_tls_protocols).
pub(crate) fn listed_by_exclusion(ciphers: Option<(&str, Origin)>, words: &[&str], at: Origin) -> Offer {
    let place = |name: &str| VERSIONS.iter().position(|known| known.eq_ignore_ascii_case(name));
    let bound = |sign: &str| words.iter().filter_map(|word| place(word.strip_prefix(sign)?)).next_back();
    let (lowest, highest) = (bound(">=").unwrap_or_default(), bound("<=").unwrap_or(VERSIONS.len() - 1));
    let every = words.iter().all(|word| word.starts_with(['!', '>', '<']));
    // Version 2 is in no library any more.
    let begin =
        VERSIONS.iter().enumerate().skip(1).filter(|(at, _)| every && (lowest..=highest).contains(at));
    let begin = begin.map(|(_, name)| (*name, at));
    let rest = words.iter().filter(|word| !word.starts_with(['>', '<'])).map(|word| (*word, at));
    listed(ciphers, &begin.chain(rest).collect::<Vec<_>>(), at)
}

/// Algorithms that a cipher list of OpenSSL and a list of versions permit, as web servers state them; `-` and `+` remove or add one, and
/// `all` means every version from 1.0 on (SSLProtocol, TLSProtocol, ssl_protocols).
pub(crate) fn listed(ciphers: Option<(&str, Origin)>, versions: &[(&str, Origin)], origin: Origin) -> Offer {
    let mut held: Vec<(&str, Origin)> = Vec::new();
    let known = |name: &str| VERSIONS.iter().copied().find(|one| one.eq_ignore_ascii_case(name));
    for (word, at) in versions {
        let (sign, name) = match word.strip_prefix(['-', '!']) {
            Some(name) => ('-', name),
            None => ('+', word.trim_start_matches('+')),
        };
        let all = name.eq_ignore_ascii_case("all");
        let named: Vec<&str> = if all { VERSIONS[2..].to_vec() } else { known(name).into_iter().collect() };
        held.retain(|(one, _)| !named.contains(one));
        if sign == '+' {
            held.extend(named.into_iter().map(|name| (name, *at)));
        }
    }
    let mut offer = openssl(ciphers, [Some(("TLSv1.3", origin)), None], &["NO_TLSv1_3".to_owned()], origin);
    held.sort_by_key(|(name, _)| VERSIONS.iter().position(|one| one == name));
    let role = Some(AlgorithmRole::Protocol);
    let versions = held.into_iter().map(|(name, origin)| Offered {
        name: name.to_owned(),
        role,
        versions: None,
        suite: 0,
        origin,
        default: None,
    });
    offer.algorithms.splice(0..0, versions);
    offer
}

#[cfg(test)]
mod tests {
    use super::*;
    use trevlin_model::{Export, ExportId};

    fn origin() -> Origin {
        Export::new(ExportId(0), "f", "x".into()).origin(0..1)
    }

    fn names(offer: &Offer) -> Vec<&str> {
        offer.algorithms.iter().map(|one| one.name.as_str()).collect()
    }

    #[test]
    fn priorities() {
        for (text, has, has_not) in [
            ("NORMAL", &["VERS-TLS1.0", "RSA", "SHA1", "VERS-DTLS1.0"][..], &["3DES-CBC"][..]),
            (
                "NORMAL:-VERS-TLS1.0:!VERS-TLS1.1",
                &["VERS-TLS1.2", "VERS-DTLS1.0"],
                &["VERS-TLS1.0", "VERS-TLS1.1"],
            ),
            (
                "NORMAL:-VERS-ALL:+VERS-TLS1.3",
                &["VERS-TLS1.3", "AES-256-GCM"],
                &["VERS-TLS1.2", "VERS-DTLS1.2"],
            ),
            ("NORMAL:-VERS-TLS-ALL:+VERS-TLS1.2", &["VERS-TLS1.2", "VERS-DTLS1.0"], &["VERS-TLS1.3"]),
            ("NORMAL:+3DES-CBC:-RSA", &["3DES-CBC"], &["RSA"]),
            ("NORMAL:-CIPHER-ALL:+AES-256-GCM", &["AES-256-GCM"], &["AES-128-CBC", "SHA1"]),
            (
                "NONE:+VERS-TLS1.2:+AES-128-GCM:+AEAD:+ECDHE-RSA:+SIGN-ALL:+COMP-NULL",
                &["VERS-TLS1.2", "ECDHE-RSA"],
                &["SIGN-ALL"],
            ),
            ("PFS:%SERVER_PRECEDENCE", &["DHE-RSA"], &["RSA", "%SERVER_PRECEDENCE"]),
            ("SECURE256", &["AES-256-CBC"], &["AES-128-GCM", "GROUP-X25519"]),
        ] {
            let offer = gnutls(text, origin());
            let names = names(&offer);
            for name in has {
                assert!(names.contains(name), "{text}: {name} is missing in {names:?}");
            }
            for name in has_not {
                assert!(!names.contains(name), "{text}: {name} is in {names:?}");
            }
        }
        assert!(gnutls("@SYSTEM", origin()).open.is_some());
    }

    #[test]
    fn lists_of_mail_servers() {
        for (words, wanted) in [
            (&[">=TLSv1.2"][..], &["TLSv1.2", "TLSv1.3"][..]),
            (&[">=TLSv1.1", "<=TLSv1.2"], &["TLSv1.1", "TLSv1.2"]),
            (&["!SSLv3", "!TLSv1", "!TLSv1.1"], &["TLSv1.2", "TLSv1.3"]),
            (&["!SSLv2"], &["SSLv3", "TLSv1", "TLSv1.1", "TLSv1.2", "TLSv1.3"]),
            (&["TLSv1.2"], &["TLSv1.2"]),
        ] {
            assert_eq!(names(&listed_by_exclusion(None, words, origin())), wanted, "{words:?}");
        }
    }

    #[test]
    fn cipher_lists() {
        let at = origin();
        for (ciphers, lowest, forbidden, wanted) in [
            (Some("HIGH:!aNULL:!3DES"), Some("TLSv1.2"), &[][..], &["TLSv1.2", "TLSv1.3", "HIGH"][..]),
            (Some("RC4+MD5:ALL:!RC4"), Some("TLSv1.3"), &[], &["TLSv1.3", "MD5", "ALL"]),
            (None, Some("all"), &["NO_TLSv1", "NO_TLSv1_1"], &["TLSv1.2", "TLSv1.3"]),
            (None, Some("SSLv3"), &[], &["SSLv3", "TLSv1", "TLSv1.1", "TLSv1.2", "TLSv1.3"]),
            (None, None, &[], &[]),
        ] {
            let forbidden: Vec<String> = forbidden.iter().map(|one| (*one).to_owned()).collect();
            let versions = [lowest.map(|name| (name, at)), None];
            let offer = openssl(ciphers.map(|list| (list, at)), versions, &forbidden, at);
            assert_eq!(names(&offer), wanted);
        }
    }

    #[test]
    fn lists_of_versions() {
        let at = origin();
        for (words, wanted) in [
            (&["TLSv1.2", "TLSv1.3"][..], &["TLSv1.2", "TLSv1.3"][..]),
            (&["all", "-SSLv3", "-TLSv1", "-TLSv1.1"], &["TLSv1.2", "TLSv1.3"]),
            (&["all"], &["TLSv1", "TLSv1.1", "TLSv1.2", "TLSv1.3"]),
            (&["+SSLv3", "TLSv1"], &["SSLv3", "TLSv1"]),
            (&[], &[]),
        ] {
            let words: Vec<(&str, Origin)> = words.iter().map(|word| (*word, at)).collect();
            assert_eq!(names(&listed(None, &words, at)), wanted);
        }
        assert_eq!(names(&listed(Some(("HIGH:!aNULL", at)), &[("TLSv1.2", at)], at)), ["TLSv1.2", "HIGH"]);
    }

    /// The reader reports the same algorithms as the library for each priority string.
    #[test]
    #[ignore = "needs gnutls-cli; run by scripts/conformance.sh"]
    fn priorities_of_the_library() {
        for text in [
            "NORMAL",
            "SECURE128",
            "SECURE192",
            "SECURE256",
            "PERFORMANCE",
            "LEGACY",
            "PFS",
            "SUITEB128",
            "SUITEB192",
            "NORMAL:-VERS-TLS1.0:-VERS-TLS1.1",
            "NORMAL:-VERS-ALL:+VERS-TLS1.3",
            "NORMAL:-CIPHER-ALL:+AES-128-CBC:+3DES-CBC",
            "NORMAL:%SERVER_PRECEDENCE:%COMPAT:-RSA:-VERS-SSL3.0:-ARCFOUR-128",
            "NORMAL:-KX-ALL:+DHE-RSA",
            "NORMAL:-GROUP-ALL:+GROUP-X25519",
            "SECURE128:-VERS-DTLS-ALL",
        ] {
            let output = std::process::Command::new("gnutls-cli")
                .args(["--list", "--priority", text])
                .output()
                .unwrap();
            let told = String::from_utf8(output.stdout).unwrap();
            let mut theirs: Vec<String> = Vec::new();
            for line in told.lines() {
                let wanted = ["Protocols:", "Ciphers:", "MACs:", "Key Exchange Algorithms:", "Groups:"];
                if let Some(lead) = wanted.iter().find(|lead| line.starts_with(**lead)) {
                    theirs.extend(line[lead.len()..].split(',').map(|name| name.trim().to_owned()));
                }
            }
            theirs.retain(|name| !name.is_empty() && name != "none");
            assert!(theirs.len() > 4, "{text}: {told}");
            // Suites for versions before 1.3 are irrelevant where none of these versions is permitted.
            let older = theirs.iter().any(|name| kind(name) == 0 && name != "VERS-TLS1.3");
            theirs.retain(|name| older || !name.ends_with("-CBC"));
            let chained = theirs.iter().any(|name| name.ends_with("-CBC"));
            theirs.retain(|name| chained || kind(name) != 2);
            theirs.sort();
            let offer = gnutls(text, origin());
            let mut ours: Vec<String> = offer.algorithms.into_iter().map(|one| one.name).collect();
            ours.sort();
            assert_eq!(ours, theirs, "{text}");
        }
    }
}
