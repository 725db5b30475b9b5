//! Common parts of the targets.

#![allow(dead_code, unreachable_pub, missing_docs, reason = "each target uses its part of this")]

use trevlin_audit::{Analyses, Estate, Input, ValidEstateFile, audit};
use trevlin_model::{Export, ExportId, LineClass};
use trevlin_readers::{READERS, ReadContext, decode};

/// Readers of packet filters.
pub const FILTERS: [&str; 6] = ["iptables-save", "ipset", "nftables", "firewalld", "uci", "port-mapper"];
/// Readers of tunnels.
pub const TUNNELS: [&str; 15] = [
    "openvpn",
    "ocserv",
    "wireguard",
    "swanctl",
    "ipsec-conf",
    "ipsec-secrets",
    "strongswan-conf",
    "stunnel",
    "pptpd",
    "xl2tpd",
    "l2tp-secrets",
    "ppp-options",
    "ppp-secrets",
    "ip-link",
    "openvpn-radius",
];
/// Readers of addresses, routes and interfaces.
pub const ADDRESSES: [&str; 13] = [
    "ip-addr", "ip-route", "dhcpd", "dnsmasq", "kea", "netplan", "networkd", "ifupdown", "sysctl", "sockets",
    "hostapd", "ddclient", "inadyn",
];
/// Readers of logins, keys and certificates.
pub const LOGINS: [&str; 15] = [
    "passwd",
    "shadow",
    "group",
    "sudoers",
    "pam",
    "sshd",
    "ssh-client",
    "ssh-keys",
    "pem",
    "radius",
    "radius-users",
    "radius-servers",
    "radius-client",
    "ocpasswd",
    "smbpasswd",
];
/// Readers of standard models and sheets.
pub const STANDARDS: [&str; 2] = ["yang", "sheet"];

/// Readers of services and of everything that is in none of the groups above: a new one is read without a word here.
pub fn others() -> Vec<&'static str> {
    let groups: [&[&str]; 5] = [&FILTERS, &TUNNELS, &ADDRESSES, &LOGINS, &STANDARDS];
    let named = |name: &&str| groups.iter().any(|group| group.contains(name));
    READERS.iter().map(|reader| reader.name).filter(|name| !named(name)).collect()
}

/// The targets that read formats, each with its group.
pub fn groups() -> [(&'static str, Vec<&'static str>); 6] {
    [
        ("read_filters", FILTERS.to_vec()),
        ("read_tunnels", TUNNELS.to_vec()),
        ("read_addresses", ADDRESSES.to_vec()),
        ("read_logins", LOGINS.to_vec()),
        ("read_services", others()),
        ("read_standards", STANDARDS.to_vec()),
    ]
}

/// Between a file and another that it may read in.
pub const BETWEEN: char = '\u{c}';

/// The first byte selects the reader of a group for the rest.
pub fn read(group: &[&str], data: &[u8]) {
    let [which, rest @ ..] = data else { return };
    let name = group[usize::from(*which) % group.len()];
    let reader = READERS.iter().find(|reader| reader.name == name).expect("a reader");
    let Ok(text) = decode(rest) else { return };
    let (text, other) = text.split_once(BETWEEN).unwrap_or((&text, ""));
    let export = Export::new(ExportId(0), "device/etc/one.conf", text.to_owned());
    let other = Export::new(ExportId(1), "device/etc/other", other.to_owned());
    let _ = (reader.recognise)(&export);
    let reading = (reader.read)(&export, &ReadContext::of(vec![&export, &other]));
    let classes = [LineClass::Understood, LineClass::Ignored, LineClass::NotUnderstood];
    let lines: u32 = classes.iter().map(|class| reading.ledger.count(*class)).sum();
    assert_eq!(lines, export.line_count());
    for note in reading.ledger.notes.iter().filter(|note| note.origin.export == export.id()) {
        let place = note.origin.start as usize..note.origin.end as usize;
        assert!(export.text().get(place).is_some(), "{note:?}");
    }
    // The checks judge whatever facts come; they take long, so that they see one input in four.
    if text.len() < 4096 && data.len().is_multiple_of(4) {
        let input =
            |export, format, facts, ledger| Input { export, folder: "device".into(), format, facts, ledger };
        let unread = trevlin_readers::Reading::of(&other);
        let inputs = vec![
            input(export, Some(reader.name), reading.facts, reading.ledger),
            input(other, None, unread.facts, unread.ledger),
        ];
        let estate = Analyses::of(Estate::assemble(inputs, &ValidEstateFile::default()));
        let _ = audit(&estate, &estate.baseline(jiff::civil::date(2026, 11, 25)));
    }
}

/// An estate of exports of one device, read as the command reads them.
pub fn estate_of(files: &[(&str, &str)]) -> Analyses {
    let exports: Vec<Export> = (0..)
        .zip(files)
        .map(|(id, (path, text))| Export::new(ExportId(id), *path, (*text).to_owned()))
        .collect();
    let around = ReadContext::of(exports.iter().collect());
    let made: Vec<_> = exports
        .iter()
        .map(|export| match trevlin_readers::recognise(export).reader {
            Some(reader) => (Some(reader.name), trevlin_readers::includes::read(reader, export, &around)),
            None => (None, trevlin_readers::Reading::of(export)),
        })
        .collect();
    drop(around);
    let inputs = exports.into_iter().zip(made).map(|(export, (format, reading))| Input {
        export,
        folder: "gate".into(),
        format,
        facts: reading.facts,
        ledger: reading.ledger,
    });
    Analyses::of(Estate::assemble(inputs.collect(), &ValidEstateFile::default()))
}
