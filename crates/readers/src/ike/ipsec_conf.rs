//! `ipsec.conf`: sections that begin in the first column, indented `key=value` lines. strongSwan's older front end and Libreswan both have
//! such a file, with different keywords and defaults; keywords that only one of them has identify the daemon.
//!
//! `conn %default` applies to every connection; `also` includes the lines of another section. The left side is considered the local end, as
//! both daemons do where neither address is local.

use super::conn::{AUTHORITY, ByName, Conn, SETUP, Said};
use super::{finish, plugins, strongswan_conf, tell};
use crate::reader::{LineRecorder, Open, ReadContext, Reader, Reading, Recognition, TELLING_LINES};
use serde::Deserialize;
use std::cmp::Ordering;
use std::collections::{BTreeMap, BTreeSet};
use trevlin_model::ipsec::IkeDaemon;
use trevlin_model::offer::AlgorithmRole;
use trevlin_model::{Export, IdleReason, IdleTunnel, LineClass, Origin, Tunnel};

/// The reader.
pub(crate) const READER: Reader = Reader {
    name: "ipsec-conf",
    title: "connections of strongSwan or Libreswan (ipsec.conf)",
    manual: "ipsec.conf(5)",
    recognise,
    read,
};

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
struct Keywords {
    understood: Vec<String>,
    passed: Vec<String>,
    tells: Vec<String>,
}

trevlin_model::table! { static KEYWORDS: BTreeMap<String, Keywords> = "../../tables/ipsec-keywords.toml"; }

fn keywords(daemon: IkeDaemon) -> Option<&'static Keywords> {
    KEYWORDS.get(match daemon {
        IkeDaemon::StrongSwan | IkeDaemon::Appliance => "strongswan",
        IkeDaemon::Libreswan => "libreswan",
    })
}

/// A keyword as the table has it: without its side.
fn sideless(key: &str) -> String {
    let rest = key.strip_prefix("left").or_else(|| key.strip_prefix("right"));
    rest.map_or_else(|| key.to_owned(), |rest| format!("~{rest}"))
}

/// Settings of a `ca` section, without the number that may follow (ipsec.conf(5), CA SECTIONS).
const OF_AUTHORITY: [&str; 7] = ["also", "auto", "cacert", "certuribase", "crluri", "ldaphost", "ocspuri"];

/// Settings of `config setup` (ipsec.conf(5) of strongSwan and of Libreswan).
const OF_SETUP: [&str; 89] = [
    "audit-log",
    "cachecrls",
    "charondebug",
    "charonstart",
    "crl-strict",
    "crl-timeout",
    "crlcheckinterval",
    "curl-iface",
    "curl-timeout",
    "ddos-ike-threshold",
    "ddos-ike-treshold",
    "ddos-mode",
    "dnssec-anchors",
    "dnssec-enable",
    "dnssec-rootkey-file",
    "drop-oppo-null",
    "dumpdir",
    "expire-lifetime",
    "fragicmp",
    "global-redirect",
    "global-redirect-to",
    "hidetos",
    "ike-socket-bufsize",
    "ike-socket-errqueue",
    "ike-source-port",
    "ikeport",
    "iketcp_hold_time",
    "ikev1-policy",
    "ikev1-secctx-attr-type",
    "interfaces",
    "ipsecdir",
    "keep-alive",
    "keep_alive",
    "klipsdebug",
    "listen",
    "listen-tcp",
    "listen-udp",
    "logappend",
    "logfile",
    "logip",
    "logtime",
    "max-halfopen-ike",
    "mtu",
    "myvendorid",
    "nat-ikeport",
    "nat_traversal",
    "nflog-all",
    "nhelpers",
    "nocrsend",
    "nssdir",
    "ocsp-cache-max-age",
    "ocsp-cache-min-age",
    "ocsp-cache-size",
    "ocsp-enable",
    "ocsp-method",
    "ocsp-strict",
    "ocsp-timeout",
    "ocsp-trustname",
    "ocsp-uri",
    "oe",
    "overridemtu",
    "packetdefault",
    "pkcs11initargs",
    "pkcs11keepstate",
    "pkcs11module",
    "pkcs11proxy",
    "plutodebug",
    "plutorestartoncrash",
    "plutostart",
    "plutostderrlog",
    "plutostderrlogtime",
    "postpluto",
    "prepluto",
    "protostack",
    "retransmits",
    "rundir",
    "seccomp",
    "secctx-attr-type",
    "secctx_attr_value",
    "secretsfile",
    "seedbits",
    "shuntlifetime",
    "statsbin",
    "strictcrlpolicy",
    "syslog",
    "uniqueids",
    "virtual-private",
    "virtual_private",
    "xfrmlifetime",
];

fn recognise(export: &Export) -> Recognition {
    let conn = |line: &str| {
        if !line.starts_with("con") {
            return false;
        }
        let words: Vec<&str> = line.split_whitespace().collect();
        matches!(words.as_slice(), ["conn", _] | ["config", "setup"])
    };
    if export.lines().take(TELLING_LINES).any(|line| conn(line.text)) {
        Recognition::Content
    } else if export.file_name() == "ipsec.conf" {
        Recognition::Name
    } else {
        Recognition::No
    }
}

/// Every section of the files of one configuration: this export and those that it reads in.
fn sections<'a>(
    export: &'a Export,
    around: &ReadContext<'a>,
    all: &mut Vec<Conn<'a>>,
    book: &mut LineRecorder<'_>,
    open: &mut Vec<&'a str>,
) {
    let mut taken = false;
    for line in export.lines() {
        let text = line.text.split('#').next().unwrap_or_default().trim_end();
        let origin = export.origin_of(text.trim());
        if text.trim().is_empty() {
            continue;
        }
        if !text.starts_with([' ', '\t']) {
            let words: Vec<&str> = text.split_whitespace().collect();
            taken = false;
            match words.as_slice() {
                ["conn", name] => {
                    taken = true;
                    all.push(Conn { name, lines: Vec::new(), origin });
                    book.understood(origin);
                }
                ["config", "setup"] => {
                    taken = true;
                    all.push(Conn { name: SETUP, lines: Vec::new(), origin });
                    book.class(origin, LineClass::Ignored);
                }
                ["ca", _] => {
                    taken = true;
                    all.push(Conn { name: AUTHORITY, lines: Vec::new(), origin });
                    book.class(origin, LineClass::Ignored);
                }
                ["version", _] => book.class(origin, LineClass::Ignored),
                ["include", path] => {
                    book.class(origin, LineClass::Ignored);
                    if let Some(why) = around.missing_include(path, export) {
                        book.note(origin, why);
                    }
                    for other in around.find_all(path, export) {
                        if recognise(other) == Recognition::No {
                            continue;
                        }
                        if !book.may_read_in(origin, other, Open::of(open, other), usize::MAX) {
                            continue;
                        }
                        open.push(other.path());
                        sections(other, around, all, book, open);
                        open.pop();
                    }
                }
                _ => book.not_understood(origin, "not a section of ipsec.conf(5)"),
            }
            continue;
        }
        let Some((key, value)) = text.trim().split_once('=') else {
            book.not_understood(origin, "expected `key=value`");
            continue;
        };
        let (key, value) = (key.trim(), value.trim().trim_matches('"'));
        match all.last_mut().filter(|_| taken) {
            Some(conn) => conn.lines.push((key, value, origin)),
            None => book.class(origin, LineClass::Ignored),
        }
    }
}

/// The daemon that reads the file, by the number of keywords that only one of them has, and otherwise by other files of the device. Where
/// nothing shows it, the second value is false, and the first is charon's older front end.
fn daemon(all: &[Conn<'_>], around: &ReadContext<'_>) -> (IkeDaemon, bool) {
    let has = |daemon, key: &str| {
        let key = sideless(key);
        let lists = |known: &Keywords| {
            [&known.understood, &known.passed, &known.tells].iter().any(|list| list.contains(&key))
        };
        keywords(daemon).is_some_and(lists)
    };
    // Keywords that only one of them has.
    let count = |own, other| {
        let tells = |key: &str| has(own, key) && !has(other, key);
        all.iter().flat_map(|conn| &conn.lines).filter(|line| tells(line.0)).count()
    };
    let strict = |line: &(&str, &str, Origin)| matches!(line.0, "ike" | "esp") && line.1.ends_with('!');
    let grouped = |line: &(&str, &str, Origin)| {
        matches!(line.0, "ike" | "esp" | "phase2alg") && line.1.contains([';', '+', '_'])
    };
    let lines = || all.iter().flat_map(|conn| &conn.lines);
    let of_one = |daemon| lines().filter(|line| value_of(line.0, line.1) == Some(daemon)).count();
    let strongswan = count(IkeDaemon::StrongSwan, IkeDaemon::Libreswan)
        + lines().filter(|line| strict(line)).count()
        + of_one(IkeDaemon::StrongSwan);
    let libreswan = count(IkeDaemon::Libreswan, IkeDaemon::StrongSwan)
        + lines().filter(|line| grouped(line)).count()
        + of_one(IkeDaemon::Libreswan);
    if let Some(stated) = around.ike_daemon {
        return (stated, true);
    }
    match libreswan.cmp(&strongswan) {
        Ordering::Greater => (IkeDaemon::Libreswan, true),
        Ordering::Less => (IkeDaemon::StrongSwan, true),
        Ordering::Equal => {
            let shown = around.once(|| ShownDaemon(shown_daemon(around)));
            (shown.0.unwrap_or(IkeDaemon::StrongSwan), shown.0.is_some())
        }
    }
}

/// The only daemon that takes a value of a keyword that both have (ipsec.conf(5) of either: authby, leftauth, leftsourceip, auto).
fn value_of(key: &str, value: &str) -> Option<IkeDaemon> {
    let (strongswan, libreswan) = match sideless(key).as_str() {
        "authby" => (
            matches!(value, "psk" | "pubkey" | "ecdsasig" | "xauthpsk" | "xauthrsasig"),
            value.contains(',')
                || value == "null"
                || value.starts_with("rsa-")
                || value.starts_with("ecdsa-"),
        ),
        "~auth" => (
            matches!(value, "psk" | "pubkey")
                || value.starts_with("eap") && value != "eaponly"
                || value.starts_with("xauth"),
            matches!(value, "secret" | "rsasig" | "null" | "none" | "eaponly"),
        ),
        "~sourceip" => (value.contains(['/', '%']), false),
        "auto" => (false, matches!(value, "ondemand" | "keep" | "up")),
        _ => (false, false),
    };
    match (strongswan, libreswan) {
        (true, false) => Some(IkeDaemon::StrongSwan),
        (false, true) => Some(IkeDaemon::Libreswan),
        _ => None,
    }
}

struct ShownDaemon(Option<IkeDaemon>);

/// The daemon that other files of the device name, such as its settings, its units or a list of packages; none where they name both or
/// neither.
fn shown_daemon(around: &ReadContext<'_>) -> Option<IkeDaemon> {
    let named = |word: &str| {
        around.exports.iter().any(|export| {
            export.path().contains(word)
                || (recognise(export) == Recognition::No && export.lines().any(|line| names(line.text, word)))
        })
    };
    match (named("strongswan"), named("libreswan")) {
        (true, false) => Some(IkeDaemon::StrongSwan),
        (false, true) => Some(IkeDaemon::Libreswan),
        _ => None,
    }
}

/// Whether a line outside of comments names a program, a package or a unit of this name.
fn names(line: &str, program: &str) -> bool {
    let line = line.trim_start();
    !line.starts_with(['#', ';']) && line.contains(program)
}

/// The exports that a line of `other` reads in, where that is a configuration of this kind.
fn included<'a>(line: &str, other: &Export, around: &ReadContext<'a>) -> Vec<&'a Export> {
    match line.split_whitespace().collect::<Vec<_>>().as_slice() {
        ["include", path, ..] if recognise(other) != Recognition::No => around.find_all(path, other),
        _ => Vec::new(),
    }
}

/// Leaves what the connections do not state open, since the two daemons have different defaults.
fn ask_for_daemon(export: &Export, tunnels: &mut [Tunnel]) {
    let question = format!(
        "Please state which program reads `{}`, strongSwan or Libreswan: no keyword shows it, and their default proposals \
         differ (`ike` of the device in trevlin.toml states it)",
        export.path()
    );
    for offer in tunnels.iter_mut().flat_map(|tunnel| &mut tunnel.offers) {
        if offer.algorithms.iter().any(|one| one.default.is_some()) {
            offer.algorithms.retain(|one| one.default.is_none());
            offer.open = Some((AlgorithmRole::Encryption, question.clone()));
        }
    }
}

/// Whether a file lies in the tree of a device beside its `ipsec.conf`, which does not include it: the starter reads that file and what it
/// includes, and nothing else (ipsec.conf(5)).
fn is_stray(export: &Export, around: &ReadContext<'_>) -> bool {
    let in_tree = |one: &Export| one.path().split('/').rev().skip(1).any(|folder| folder == "etc");
    let main =
        |one: &&Export| one.file_name() == "ipsec.conf" && in_tree(one) && recognise(one) != Recognition::No;
    export.file_name() != "ipsec.conf" && in_tree(export) && around.exports.iter().any(main)
}

fn read(export: &Export, around: &ReadContext<'_>) -> Reading {
    let mut reading = Reading::of(export);
    let mut book = LineRecorder::new(export, &mut reading.ledger, &mut reading.elsewhere);
    let mut all: Vec<Conn<'_>> = Vec::new();
    sections(export, around, &mut all, &mut book, &mut vec![export.path()]);
    let (daemon, shown) = daemon(&all, around);
    for (conn, line) in all.iter().flat_map(|conn| conn.lines.iter().map(move |line| (conn, line))) {
        let known = keywords(daemon);
        let has = |list: fn(&Keywords) -> &Vec<String>| {
            known.is_some_and(|known| list(known).contains(&sideless(line.0)))
        };
        if conn.name == SETUP && !OF_SETUP.contains(&line.0) {
            book.not_understood(line.2, "not a known setting of `config setup`; check its spelling");
        } else if conn.name == AUTHORITY && !OF_AUTHORITY.contains(&line.0.trim_end_matches(['1', '2'])) {
            book.not_understood(line.2, "not a known setting of a `ca` section; check its spelling");
        } else if matches!(line.0, "strictcrlpolicy" | "crl-strict" | "ocsp-strict") {
            book.understood(line.2);
        } else if conn.name == SETUP || conn.name == AUTHORITY {
            book.class(line.2, LineClass::Ignored);
        } else if has(|known| &known.understood) {
            book.understood(line.2);
        } else if has(|known| &known.passed) {
            book.class(line.2, LineClass::Ignored);
        } else {
            book.not_understood(
                line.2,
                format!("`{}` is not a keyword of ipsec.conf(5) of {}", line.0, daemon.name()),
            );
        }
    }
    if around.reads_in(export, included) {
        return reading;
    }
    let mut malformed = Vec::new();
    let mut by_name = ByName::new();
    all.iter().for_each(|conn| by_name.entry(conn.name).or_default().push(conn));
    let mut seen: BTreeSet<&str> = BTreeSet::new();
    for conn in all.iter().filter(|conn| !["%default", SETUP, AUTHORITY].contains(&conn.name)) {
        // Sections of one name add to each other.
        if !seen.insert(conn.name) {
            continue;
        }
        let said = Said { all: &by_name, name: conn.name, daemon };
        // Without `auto` the section only lends its lines to others.
        if said.get("auto").is_none_or(|(value, _)| value == "ignore") {
            continue;
        }
        // Lines that many sections include from one count for each of them.
        let taken =
            ["leftsubnet", "rightsubnet", "leftsubnets", "rightsubnets", "rightsourceip", "ike", "esp"];
        let size: usize =
            taken.iter().filter_map(|key| said.get(key)).map(|(value, _)| 8 * value.len()).sum();
        if !crate::growth::may_grow(size) {
            continue;
        }
        let (connection, offers, plan, asks) = said.connection(conn.origin);
        let plan = said.plan(plan);
        finish(&mut reading, &mut malformed, connection, offers, plan, asks, conn.origin);
        if let Some(tunnel) = reading.facts.tunnels.last_mut() {
            tunnel.proof.revocation = said.revocation();
        }
    }
    if !shown {
        ask_for_daemon(export, &mut reading.facts.tunnels);
    }
    if is_stray(export, around) {
        let idle = |tunnel| IdleTunnel { tunnel, why: IdleReason::NotIncluded };
        reading.facts.idle_tunnels.extend(reading.facts.tunnels.drain(..).map(idle));
    }
    if daemon == IkeDaemon::StrongSwan {
        plugins::apply(&mut reading.facts.tunnels, around);
        strongswan_conf::tell_aggressive(&mut reading.facts.tunnels, around);
        strongswan_conf::tell_inner_method(&mut reading.facts.tunnels, around);
    }
    let mut book = LineRecorder::new(export, &mut reading.ledger, &mut reading.elsewhere);
    tell(malformed, &mut book);
    reading
}

#[cfg(test)]
#[path = "ipsec_conf_tests.rs"]
mod tests;
