//! Names that screens have for services, and what they stand for where the sheet defines no service of the name. Sources: IANA, Service
//! Name and Transport Protocol Port Number Registry; RFC 7296, 2 (IKE); RFC 792 and RFC 4443 (echo requests).

/// Names in small letters, and services as a sheet writes them.
const NAMES: [(&[&str], &[&str]); 31] = [
    (&["http", "www"], &["tcp 80"]),
    (&["https"], &["tcp 443"]),
    (&["ssh"], &["tcp 22"]),
    (&["telnet"], &["tcp 23"]),
    (&["ftp"], &["tcp 21"]),
    (&["tftp"], &["udp 69"]),
    (&["smtp"], &["tcp 25"]),
    (&["submission"], &["tcp 587"]),
    (&["submissions", "smtps"], &["tcp 465"]),
    (&["imap"], &["tcp 143"]),
    (&["imaps"], &["tcp 993"]),
    (&["pop3"], &["tcp 110"]),
    (&["pop3s"], &["tcp 995"]),
    (&["dns", "domain"], &["udp 53", "tcp 53"]),
    (&["dhcp"], &["udp 67-68"]),
    (&["ntp"], &["udp 123"]),
    (&["snmp"], &["udp 161"]),
    (&["syslog"], &["udp 514"]),
    (&["ldap"], &["tcp 389"]),
    (&["ldaps"], &["tcp 636"]),
    (&["kerberos"], &["tcp 88", "udp 88"]),
    (&["smb", "cifs"], &["tcp 445"]),
    (&["nfs"], &["tcp 2049"]),
    (&["rdp", "remote desktop"], &["tcp 3389", "udp 3389"]),
    (&["vnc"], &["tcp 5900"]),
    (&["radius"], &["udp 1812-1813"]),
    (&["pptp"], &["tcp 1723"]),
    (&["l2tp"], &["udp 1701"]),
    (&["ike", "isakmp"], &["udp 500", "udp 4500"]),
    (&["openvpn"], &["udp 1194"]),
    (&["ping", "echo request"], &["icmp 8", "icmpv6 128"]),
];

/// Services of a name: `https`, or `tcp https` for those of one protocol.
pub(super) fn services(text: &str) -> Option<Vec<&'static str>> {
    let text = text.trim().to_ascii_lowercase();
    let named = |name: &str| NAMES.iter().find(|(names, _)| names.contains(&name)).map(|(_, all)| *all);
    if let Some(all) = named(&text) {
        return Some(all.to_vec());
    }
    let (protocol, name) = text.split_once([' ', '/'])?;
    let of_it = |one: &&&str| one.split(' ').next() == Some(protocol);
    let found: Vec<&str> = named(name.trim())?.iter().filter(of_it).copied().collect();
    (!found.is_empty()).then_some(found)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn names_of_services() {
        for (text, wanted) in [
            ("HTTPS", Some(vec!["tcp 443"])),
            ("tcp https", Some(vec!["tcp 443"])),
            ("udp dns", Some(vec!["udp 53"])),
            ("IKE", Some(vec!["udp 500", "udp 4500"])),
            ("udp https", None),
            ("pages", None),
        ] {
            assert_eq!(services(text), wanted, "{text}");
        }
    }

    /// Each is a service in the words of a sheet.
    #[test]
    fn every_name_stands_for_services() {
        for (names, all) in NAMES {
            for one in all {
                assert!(super::super::service::services(one).is_some(), "{names:?}: {one}");
            }
        }
    }
}
