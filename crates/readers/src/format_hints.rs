//! Format hints: words that every export of a format contains.
//!
//! Each reader in turn checks whether a text is of its format, line by line. For most readers one look at the whole text excludes the
//! format: some word of it must occur, whatever surrounds it. One pass searches for the words of all of them. This only skips readers whose
//! answer is no; a test compares the answers.

use crate::telling;
use aho_corasick::{AhoCorasick, AhoCorasickKind};
use std::collections::BTreeMap;
use std::sync::LazyLock;
use std::sync::atomic::{AtomicUsize, Ordering};
use trevlin_model::Export;

/// For a reader, by name: groups of words; a text of its format contains one word of each group, in any case.
const SIGNS: &[(&str, &[&[&str]])] = &[
    ("apache", &[&["<virtualhost"]]),
    ("chrony", &[&telling::CHRONY]),
    ("ddclient", &[&["protocol="], &["login=", "password="]]),
    ("dhcpd", &[&["subnet", "shared-network", "fixed-address", "range"]]),
    ("dnsmasq", &[&["dhcp-range=", "dhcp-host=", "dhcp-option="]]),
    ("exports", &[&["(rw", "(ro", "(sync", "(async", "root_squash", "no_subtree_check"]]),
    (
        "haproxy",
        &[
            &["frontend", "backend", "listen", "defaults"],
            &["bind", "default_backend", "balance", "mode", "server"],
        ],
    ),
    ("hostapd", &[&["ssid="]]),
    ("ifupdown", &[&["iface"], &["inet"]]),
    ("inadyn", &[&["provider ", "custom "], &["hostname"]]),
    ("ipsec-conf", &[&["conn", "setup"]]),
    ("ipsec-secrets", &[&telling::IPSEC_SECRETS]),
    ("ipset", &[&["create"], &["hash:", "bitmap:", "list:"]]),
    ("mariadb", &[&["[mysqld", "[mariadb"]]),
    ("mosquitto", &[&telling::MOSQUITTO]),
    (
        "named",
        &[&["zone", "view", "key", "acl", "recursion ", "allow-", "listen-on-v6", "dnssec-validation "]],
    ),
    ("netplan", &[&["network:"]]),
    ("networkd", &[&["[match]", "[netdev]"]]),
    ("nftables", &[&["table", "chain", "rule", "set", "map"]]),
    (
        "nginx",
        &[&[
            "listen",
            "server_name",
            "proxy_pass",
            "worker_connections",
            "worker_processes",
            "# configuration file /",
        ]],
    ),
    ("ntp", &[&["restrict "], &["default", "noquery", "nomodify"]]),
    (
        "ocserv",
        &[
            &["auth"],
            &[
                "max-same-clients",
                "tls-priorities",
                "ipv4-network",
                "cert-user-oid",
                "rate-limit-ms",
                "udp-port",
            ],
        ],
    ),
    (
        "openvpn",
        &[&[
            "tun",
            "tap",
            "ovpn",
            "udp",
            "tcp",
            "255.",
            "push",
            "server-",
            "ifconfig-",
            "iroute",
            "tls-",
            "remote-cert-tls",
            "verify-client-cert",
            "client-cert-",
            "-ciphers",
            "<ca>",
            "<connection>",
        ]],
    ),
    ("openvpn-radius", &[&["sharedsecret"], &["server"]]),
    ("pam", &[&["pam_"]]),
    ("pg-hba", &[&telling::PG_HBA_KINDS, &telling::PG_HBA_METHODS]),
    ("port-mapper", &[&["enable_natpmp", "enable_upnp", "enable_pcp_pmp"]]),
    ("postgresql", &[&telling::POSTGRESQL]),
    ("ppp-options", &[&["require-", "refuse-", "nobsdcomp", "lcp-echo-interval"]]),
    ("pptpd", &[&["remoteip", "localip"]]),
    (
        "proftpd",
        &[&[
            "defaultroot",
            "requirevalidshell",
            "<anonymous",
            "tlsengine",
            "useftpusers",
            "masqueradeaddress",
        ]],
    ),
    ("radius", &[&["{"], &["secret", "home_server", "default_eap_type", "reject_delay", "authorize"]]),
    ("radius-client", &[&["authserver"]]),
    ("radius-users", &[&["password", "auth-type", "totp-secret"]]),
    ("redis", &[&telling::REDIS]),
    ("rsyncd", &[&["["], &["secrets file", "use chroot", "auth users", "max verbosity"]]),
    (
        "rsyslog",
        &[&["$modload ", "$includeconfig ", "$actionfiledefaulttemplate", "module(load=", "action(type="]],
    ),
    ("sheet", &[&["\"trevlin-sheet/"]]),
    ("smb", &[&["[global]"]]),
    ("snmpd", &[&telling::SNMP]),
    // By its name alone.
    ("ssh-client", &[&[]]),
    ("sshd", &[&telling::SSHD]),
    ("strongswan-conf", &[&["{"], &["charon", "libstrongswan"]]),
    ("stunnel", &[&["["], &["accept"], &["connect", "exec"]]),
    ("sudoers", &[&["=", "env_reset", "secure_path", "authenticate"]]),
    ("swanctl", &[&["{"], &["connections", "pools", "secrets", "authorities"]]),
    ("uci", &[&["config"], &["option", "list"]]),
    (
        "ufw",
        &[&[":ufw", "status: active", "status: inactive", "default_input_policy=", "enabled=", "loglevel="]],
    ),
    ("unbound", &[&["server:", "remote-control:", "forward-zone:", "stub-zone:"]]),
    ("vsftpd", &[&["anonymous_enable=", "local_enable=", "listen_ipv6=", "xferlog_enable="]]),
    ("wireguard", &[&["[interface]", "[peer]"]]),
    ("xl2tpd", &[&["[lns ", "[lac "]]),
];

/// Searches for all of them at once.
struct Finder {
    /// Soon made, and slow.
    small: AhoCorasick,
    /// By pattern: the entries of [`SIGNS`] that have it, each with the number of its group.
    of: Vec<Vec<(usize, u8)>>,
    /// The same for words of one byte: they occur often in most texts, and the first occurrence is soon found.
    of_byte: Vec<(u8, Vec<(usize, u8)>)>,
    /// By name of a reader: the entry.
    by_name: BTreeMap<&'static str, usize>,
}

/// The same, fast, and made where there is much to look through.
static LARGE_SEARCH: LazyLock<Option<AhoCorasick>> =
    LazyLock::new(|| automaton(AhoCorasickKind::DFA, WORDS.iter()));

/// Every word of more than a byte once, in order.
static WORDS: LazyLock<Vec<&'static str>> = LazyLock::new(|| {
    let words = SIGNS.iter().flat_map(|(_, groups)| *groups).flat_map(|words| *words).copied();
    let mut words: Vec<&str> = words.filter(|word| word.len() > 1).collect();
    words.sort_unstable();
    words.dedup();
    words
});

static FINDER: LazyLock<Option<Finder>> = LazyLock::new(|| {
    let mut of: BTreeMap<&str, Vec<(usize, u8)>> = BTreeMap::new();
    for (entry, (_, groups)) in SIGNS.iter().enumerate() {
        for (group, words) in groups.iter().enumerate() {
            for word in *words {
                of.entry(word).or_default().push((entry, group as u8));
            }
        }
    }
    let small = automaton(AhoCorasickKind::ContiguousNFA, WORDS.iter())?;
    let by_name = SIGNS.iter().enumerate().map(|(entry, (name, _))| (*name, entry)).collect();
    let (mut of_word, mut of_byte) = (Vec::new(), Vec::new());
    for (word, entries) in of {
        match word.as_bytes() {
            [byte] => of_byte.push((*byte, entries)),
            _ => of_word.push(entries),
        }
    }
    Some(Finder { small, of: of_word, of_byte, by_name })
});

fn automaton<'a>(kind: AhoCorasickKind, words: impl Iterator<Item = &'a &'a str>) -> Option<AhoCorasick> {
    AhoCorasick::builder().ascii_case_insensitive(true).kind(Some(kind)).build(words).ok()
}

/// Number of bytes, of one text or of all so far, above which building the fast search pays off.
const LARGE: usize = 32 << 10;
const MUCH: usize = 4 << 20;

/// Bytes looked through so far.
static LOOKED_THROUGH: AtomicUsize = AtomicUsize::new(0);

/// Makes what looks for the words, which takes longer than looking through a file does.
pub(crate) fn prepare() {
    LazyLock::force(&FINDER);
}

/// The readers whose words occur in a text.
#[derive(Debug)]
pub(crate) struct Found([u8; SIGNS.len()]);

impl Found {
    /// Looks through an export.
    pub(crate) fn of(export: &Export) -> Self {
        let mut found = [0; SIGNS.len()];
        match &*FINDER {
            Some(finder) => {
                let mut left = finder.of.len();
                let mut seen = vec![false; left];
                let text = export.text();
                for (byte, entries) in &finder.of_byte {
                    if memchr::memchr(*byte, text.as_bytes()).is_some() {
                        entries.iter().for_each(|(entry, group)| found[*entry] |= 1 << group);
                    }
                }
                let much = LOOKED_THROUGH.fetch_add(text.len(), Ordering::Relaxed) >= MUCH;
                let large = if much || text.len() >= LARGE { LARGE_SEARCH.as_ref() } else { None };
                for hit in large.unwrap_or(&finder.small).find_overlapping_iter(text) {
                    let pattern = hit.pattern().as_usize();
                    if !std::mem::replace(&mut seen[pattern], true) {
                        for (entry, group) in &finder.of[pattern] {
                            found[*entry] |= 1 << group;
                        }
                        left -= 1;
                        if left == 0 {
                            break;
                        }
                    }
                }
            }
            None => found.fill(u8::MAX),
        }
        Self(found)
    }

    /// Whether the reader of this name may recognise the export by its content.
    pub(crate) fn may_be(&self, reader: &str) -> bool {
        let Some(entry) = FINDER.as_ref().and_then(|finder| finder.by_name.get(reader)) else {
            return true;
        };
        let all = (1u16 << SIGNS[*entry].1.len()) - 1;
        u16::from(self.0[*entry]) & all == all
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::READERS;

    #[test]
    fn signs_are_of_readers_and_sorted() {
        let names: Vec<_> = SIGNS.iter().map(|(name, _)| *name).collect();
        assert!(names.is_sorted());
        assert!(names.iter().all(|name| READERS.iter().any(|reader| reader.name == *name)), "{names:?}");
        let words = SIGNS.iter().flat_map(|(_, groups)| *groups).flat_map(|words| *words);
        assert!(words.clone().all(|word| !word.is_empty() && *word == word.to_ascii_lowercase()));
        // A single byte is searched for directly.
        assert!(words.clone().all(|word| word.len() > 1 || !word.as_bytes()[0].is_ascii_alphabetic()));
        assert!(FINDER.is_some());
    }
}
