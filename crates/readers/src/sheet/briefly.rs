//! Brief forms of entries, as a screen has them on one line: `tcp 443` for an endpoint, `IKEv2` for a protocol, `30 min` for a time.

use super::node::{Entry, Node, Value};
use trevlin_model::Origin;
use trevlin_model::policy::Seconds;

/// A value that may be written on one line.
struct Brief {
    /// Section.
    section: &'static str,
    /// Keys that lead to the value, within an entry of the section.
    path: &'static [&'static str],
    /// What becomes of a text or a number.
    to: fn(&str, Origin) -> Option<Value>,
}

/// Values that may be.
const BRIEF: [Brief; 10] = [
    Brief { section: "services", path: &["endpoints"], to: endpoint },
    Brief { section: "tunnels", path: &["listeners"], to: listener },
    Brief { section: "tunnels", path: &["addresses", "pools"], to: pool },
    Brief { section: "tunnels", path: &["addresses", "fixed"], to: fixed },
    Brief { section: "tunnels", path: &["ipsec", "rekey"], to: seconds },
    Brief { section: "dhcp-servers", path: &["subnets"], to: pool },
    Brief { section: "ppp-profiles", path: &["idle"], to: seconds },
    Brief { section: "ppp-profiles", path: &["max-connect"], to: seconds },
    Brief { section: "routes", path: &["destination"], to: destination },
    Brief { section: "log-keepers", path: &["targets"], to: log_target },
];

/// Sections and keys whose values have brief forms.
#[cfg(feature = "schema")]
pub(super) fn places() -> impl Iterator<Item = (&'static str, &'static [&'static str])> {
    BRIEF.iter().map(|one| (one.section, one.path))
}

/// Sections and keys whose values are words with further spellings.
#[cfg(feature = "schema")]
pub(super) const SPELLED: [(&str, &[&str]); 2] = [("tunnels", &["family"]), ("services", &["kind"])];

/// A text or a number, or a list of them with full entries.
#[cfg(feature = "schema")]
pub(super) fn words() -> serde_json::Value {
    use serde_json::json;
    let one = json!({ "type": ["string", "integer"] });
    let any = json!({ "type": ["string", "integer", "object"] });
    json!({ "anyOf": [one, { "type": "array", "items": any }] })
}

/// Lists in which "none" states that there is nothing.
const NONE: [(&str, &[&str]); 10] = [
    ("tunnels", &["addresses", "sent-through"]),
    ("tunnels", &["addresses", "kept-out"]),
    ("tunnels", &["addresses", "name-servers"]),
    ("tunnels", &["addresses", "domains"]),
    ("tunnels", &["addresses", "netbios"]),
    ("tunnels", &["proof", "passwords"]),
    ("groups", &["members"]),
    ("log-keepers", &["targets"]),
    ("clock-keepers", &["sources"]),
    ("rules", &["inspection"]),
];

/// Names of protocols on screens: what they are called, the family, and the version of IKE.
const FAMILIES: [(&[&str], &str, Option<&str>); 6] = [
    (&["ikev2", "ike v2", "ipsec ikev2", "ipsec (ikev2)", "ikev2/ipsec"], "ipsec", Some("second")),
    (&["ikev1", "ike v1", "ipsec ikev1", "ipsec (ikev1)", "ikev1/ipsec", "xauth"], "ipsec", Some("first")),
    (&["ike", "ipsec vpn", "ipsec/ike"], "ipsec", None),
    (&["sstp", "ssl", "ssl vpn", "ssl-vpn", "sslvpn", "tls vpn", "https"], "tls", None),
    (&["l2tp/ipsec", "l2tp over ipsec", "l2tp with ipsec"], "l2tp", None),
    (&["pptp vpn", "dial-in by pptp"], "pptp", None),
];

/// Kinds of services by the names that screens have for them: name, further names, the kind of the facts, and the usual port (IANA).
const KINDS: [(&str, &[&str], &str, Option<&str>); 19] = [
    ("remote desktop", &["remote-desktop", "rdp"], "remote-desktop", Some("tcp 3389")),
    ("screen sharing", &["screen-sharing", "vnc"], "remote-desktop", Some("tcp 5900")),
    ("Telnet", &["telnet"], "telnet", Some("tcp 23")),
    ("telephony", &["sip", "voice"], "other", Some("udp 5060")),
    ("mail", &["smtp", "imap", "pop3"], "mail", None),
    ("other", &["unknown"], "other", None),
    ("web server without TLS", &["http"], "pages", Some("http 80")),
    ("web server", &["https"], "pages", Some("https 443")),
    ("web server", &["web", "website", "web page", "web pages", "portal"], "pages", None),
    ("shares", &["smb", "cifs", "file shares", "file share"], "shares", Some("tcp 445")),
    ("exports", &["nfs"], "exports", Some("tcp 2049")),
    ("transfers", &["ftp"], "transfers", Some("tcp 21")),
    ("disks", &["iscsi"], "disks", Some("tcp 3260")),
    ("SNMP", &["snmp"], "monitoring", Some("udp 161")),
    ("database", &["database", "sql"], "databases", None),
    ("broker", &["mqtt"], "broker", None),
    ("DNS", &["dns"], "names", Some("udp 53")),
    ("NTP", &["ntp"], "time", Some("udp 123")),
    ("syslog", &["syslog"], "logs", Some("udp 514")),
];

/// Sections whose entries list services.
const WITH_SERVICES: [&str; 3] = ["rules", "forwards", "service-names"];

/// Brings the brief forms of an entry to their full ones.
pub(super) fn expanded(section: &str, entry: &mut Node) {
    if WITH_SERVICES.contains(&section) {
        entry.at(&["services"], &mut ports_of_one_protocol);
    }
    for (_, path) in NONE.iter().filter(|(of, _)| *of == section) {
        entry.at(path, &mut |node| {
            let says_none = |one: &Node| one.text().is_some_and(|text| text.eq_ignore_ascii_case("none"));
            if matches!(node.each(), [only] if says_none(only)) {
                node.value = Value::List(Vec::new());
            }
        });
    }
    for one in BRIEF.iter().filter(|one| one.section == section) {
        entry.at(one.path, &mut |node| node.each_mut().iter_mut().for_each(|value| brief(value, one.to)));
    }
    match section {
        "tunnels" => family(entry),
        "services" => {
            kind(entry);
            carried(entry);
            proof(entry);
        }
        "outgoing-copies" => entry.fill("carried", entry.origin, Value::Text("optional".into())),
        _ => {}
    }
}

/// A kind of service by the name that screens have for it. HTTP and HTTPS state whether the content is encrypted.
fn kind(entry: &mut Node) {
    let whole = entry.origin;
    let Value::Table(fields) = &mut entry.value else { return };
    let Some(kind) = fields.iter_mut().find(|field| &*field.key == "kind") else { return };
    let Some(said) = kind.node.text().map(str::to_ascii_lowercase) else { return };
    let known = KINDS.iter().find(|(word, others, ..)| *word == said || others.contains(&said.as_str()));
    let Some((word, _, code, usual)) = known else { return };
    kind.node.value = Value::Text((*code).into());
    entry.fill("name", whole, Value::Text((*word).into()));
    if let Some(usual) = usual.and_then(|usual| endpoint(usual, whole)) {
        entry.fill("endpoints", whole, usual);
    }
    if let Some(carried) = carried_by(&said) {
        entry.at(&["endpoints"], &mut |node| {
            for one in node.each_mut() {
                one.fill("carried", one.origin, Value::Text(carried.into()));
            }
        });
    }
}

/// Whether content is encrypted, by a word for how it is carried.
fn carried_by(word: &str) -> Option<&'static str> {
    match word {
        "https" | "tls" | "ssl" | "encrypted" => Some("encrypted"),
        "http" | "plain" | "unencrypted" => Some("plain"),
        _ => None,
    }
}

/// A protocol by the name that screens have for it.
fn family(entry: &mut Node) {
    let whole = entry.origin;
    let Value::Table(fields) = &mut entry.value else { return };
    let Some(field) = fields.iter_mut().find(|field| &*field.key == "family") else { return };
    let Some(said) = field.node.text().map(str::to_ascii_lowercase) else { return };
    let Some((_, family, version)) = FAMILIES.iter().find(|(words, ..)| words.contains(&said.as_str()))
    else {
        return;
    };
    let at = field.node.origin;
    field.node.value = Value::Text((*family).into());
    let Some(version) = version else { return };
    entry.fill("ipsec", whole, Value::Table(Vec::new()));
    entry.at(&["ipsec"], &mut |ipsec| ipsec.fill("versions", at, Value::Text((*version).into())));
}

/// Whether the content is encrypted, where the port or the kind of the service decides it: 80 and 443 of pages (RFC 9110, 4.2), DNS and syslog
/// over TLS (RFC 7858; RFC 5425), never for Telnet, iSCSI, rsync, NTP and other DNS and syslog, the choice of each client for shares, NFS, FTP
/// (RFC 4217), SNMP and services known by their ports.
fn carried(entry: &mut Node) {
    let kind = entry.get("kind").and_then(Node::text).unwrap_or_default().to_owned();
    entry.at(&["endpoints"], &mut |node| {
        for one in node.each_mut() {
            let word = match (kind.as_str(), one.get("port").map(|port| &port.value)) {
                ("pages", Some(Value::Number(443))) => "encrypted",
                ("names", Some(Value::Number(853))) | ("logs", Some(Value::Number(6514))) => "encrypted",
                ("pages", Some(Value::Number(80)))
                | ("telnet" | "disks" | "modules" | "names" | "time" | "logs", _) => "plain",
                ("shares" | "exports" | "transfers" | "monitoring" | "remote-desktop" | "other", _) => {
                    "optional"
                }
                _ => continue,
            };
            one.fill("carried", one.origin, Value::Text(word.into()));
        }
    });
}

/// The password of a share is never sent as such (MS-NLMP, 1.3).
fn proof(entry: &mut Node) {
    if entry.get("kind").and_then(Node::text) != Some("shares") {
        return;
    }
    entry.at(&["parts", "login"], &mut |node| {
        if node.text() == Some("password") {
            node.value = Value::Text("proof".into());
        }
    });
}

/// A port without a protocol, in a list of services, has that of the one before: `tcp 80`, `443`.
fn ports_of_one_protocol(node: &mut Node) {
    let Value::List(all) = &mut node.value else { return };
    let mut protocol: Option<String> = None;
    for one in all {
        let Some(text) = one.text().map(str::to_owned) else { continue };
        let is_ports = text.starts_with(|first: char| first.is_ascii_digit())
            && text.chars().all(|letter| letter.is_ascii_digit() || letter == '-');
        match (&protocol, text.split_once(' ')) {
            (Some(protocol), None) if is_ports => {
                one.value = Value::Text(format!("{protocol} {text}").into());
            }
            (_, Some((word, _))) => protocol = Some(word.to_owned()),
            _ => protocol = None,
        }
    }
}

fn brief(node: &mut Node, to: fn(&str, Origin) -> Option<Value>) {
    let text = match &node.value {
        Value::Text(text) => text.to_string(),
        Value::Number(number) => number.to_string(),
        _ => return,
    };
    if let Some(value) = to(text.trim(), node.origin) {
        node.value = value;
    }
}

/// `tcp 443`, `443/tcp` or `443`, which is TCP; `https 8443` and `tcp 8443 (TLS)` state that the content is encrypted.
fn endpoint(text: &str, origin: Origin) -> Option<Value> {
    let (mut protocol, mut port, mut carried) = (None, None, None);
    let text = text.to_ascii_lowercase();
    for word in text.split([' ', '/', '(', ')', ',']).filter(|word| !word.is_empty()) {
        match (word.parse::<u16>(), carried_by(word)) {
            (Ok(number), _) if port.is_none() => port = Some(number),
            (Err(_), Some(how)) if carried.is_none() => carried = Some(how),
            (Err(_), None) if protocol.is_none() => protocol = Some(word),
            _ => return None,
        }
    }
    let mut fields = vec![
        Entry::new("protocol", origin, Value::Text(protocol.unwrap_or("tcp").into())),
        Entry::new("port", origin, Value::Number(port?.into())),
    ];
    fields.extend(carried.map(|how| Entry::new("carried", origin, Value::Text(how.into()))));
    Some(Value::Table(fields))
}

/// A collector of log messages: `10.20.4.70`, `udp 10.20.4.70`, `tls log.example:6514`. Lost messages are noticed over TCP.
fn log_target(text: &str, origin: Origin) -> Option<Value> {
    let (how, host) = match text.split_once(' ') {
        Some((how, host)) => (Some(how.to_ascii_lowercase()), host.trim()),
        None => (None, text),
    };
    let (carried, reliable) = match how.as_deref() {
        None => ("optional", false),
        Some("udp" | "syslog") => ("plain", false),
        Some("tcp") => ("plain", true),
        Some("tls" | "ssl") => ("encrypted", true),
        Some(_) => return None,
    };
    Some(Value::Table(vec![
        Entry::new("host", origin, Value::Text(host.into())),
        Entry::new("carried", origin, Value::Text(carried.into())),
        Entry::new("reliable", origin, Value::Truth(reliable)),
    ]))
}

fn listener(text: &str, origin: Origin) -> Option<Value> {
    let Value::Table(mut fields) = endpoint(text, origin)? else { return None };
    fields.retain(|field| &*field.key != "carried");
    fields.push(Entry::new("address", origin, Value::Text("any".into())));
    Some(Value::Table(fields))
}

/// A network, or a range within one.
fn pool(text: &str, origin: Origin) -> Option<Value> {
    let value = Value::Text(text.into());
    if text.contains('/') {
        return Some(Value::Table(vec![Entry::new("network", origin, value)]));
    }
    let list = Value::List(vec![Node { origin, value }]);
    Some(Value::Table(vec![Entry::new("ranges", origin, list)]))
}

/// `astrid 10.20.8.5`.
fn fixed(text: &str, origin: Origin) -> Option<Value> {
    let (who, range) = text.rsplit_once([' ', '='])?;
    Some(Value::Table(vec![
        Entry::new("who", origin, Value::Text(who.trim().into())),
        Entry::new("range", origin, Value::Text(range.into())),
    ]))
}

fn seconds(text: &str, _: Origin) -> Option<Value> {
    Seconds::of_words(text).and_then(|length| i64::try_from(length.0).ok()).map(Value::Number)
}

fn destination(text: &str, _: Origin) -> Option<Value> {
    match text.to_ascii_lowercase().as_str() {
        "default" | "any" | "internet" => Some(Value::Text("0.0.0.0/0".into())),
        "default ipv6" | "default6" => Some(Value::Text("::/0".into())),
        _ => None,
    }
}

#[cfg(test)]
mod tests {
    use crate::reader::ReadContext;
    use trevlin_model::ipsec::IkeVersions;
    use trevlin_model::served::ServedKind;
    use trevlin_model::{Export, ExportId, Facts, TunnelFamily};

    fn read(text: &str) -> Facts {
        let export = Export::new(ExportId(0), "d/d.toml", format!("sheet = \"trevlin-sheet/2\"\n{text}"));
        let reading = (super::super::READER.read)(&export, &ReadContext::default());
        assert!(reading.ledger.notes.is_empty(), "{text}: {:?}", reading.ledger.notes);
        *reading.facts
    }

    #[test]
    fn protocols_by_their_names_on_screens() {
        for (word, family, versions) in [
            ("IKEv2", TunnelFamily::Ipsec, Some(IkeVersions::Second)),
            ("IPsec (IKEv1)", TunnelFamily::Ipsec, Some(IkeVersions::First)),
            ("SSTP", TunnelFamily::Tls, None),
            ("SSL VPN", TunnelFamily::Tls, None),
            ("L2TP/IPsec", TunnelFamily::L2tp, None),
            ("pptp", TunnelFamily::Pptp, None),
        ] {
            let facts =
                read(&format!("[[tunnels]]\nname = \"crew\"\nfamily = \"{word}\"\nrole = \"server\"\n"));
            assert_eq!(facts.tunnels[0].family, family, "{word}");
            let found = facts.tunnels[0].ipsec.as_ref().and_then(|one| one.versions.value().copied());
            assert_eq!(found, versions, "{word}");
        }
    }

    #[test]
    fn endpoints_with_their_encryption() {
        use trevlin_model::served::{
            ServedKind,
            TransportSecurity::{Encrypted, Optional, Plain},
        };
        for (kind, endpoint, wanted, port, carried) in [
            ("pages", "\"https 8443\"", ServedKind::Pages, 8443, Encrypted),
            ("pages", "\"tcp 8443 (TLS)\"", ServedKind::Pages, 8443, Encrypted),
            ("pages", "\"http 8080\"", ServedKind::Pages, 8080, Plain),
            ("HTTPS", "8443", ServedKind::Pages, 8443, Encrypted),
            ("SNMP", "\"udp 161\"", ServedKind::Monitoring, 161, Optional),
        ] {
            let facts =
                read(&format!("[[services]]\nname = \"s\"\nkind = \"{kind}\"\nendpoints = {endpoint}\n"));
            let one = &facts.served[0].endpoints[0];
            assert_eq!(
                (facts.served[0].kind, one.port, one.carried),
                (wanted, port, carried),
                "{kind} {endpoint}"
            );
        }
    }

    #[test]
    fn collectors_of_log_messages() {
        use trevlin_model::served::TransportSecurity::{Encrypted, Optional, Plain};
        for (text, host, carried, reliable) in [
            ("10.20.4.70", "10.20.4.70", Optional, false),
            ("UDP 10.20.4.70", "10.20.4.70", Plain, false),
            ("tcp 10.20.4.70", "10.20.4.70", Plain, true),
            ("tls log.veyholm.example", "log.veyholm.example", Encrypted, true),
        ] {
            let facts = read(&format!("[[log-keepers]]\ntargets = [\"{text}\"]\n"));
            let one = &facts.log_keepers[0].targets[0];
            assert_eq!((one.host.as_str(), one.carried, one.reliable), (host, carried, reliable), "{text}");
        }
    }

    #[test]
    fn ports_pools_and_times_on_one_line() {
        let facts = read(
            "[[tunnels]]\nname = \"crew\"\nfamily = \"SSL\"\nrole = \"server\"\nlisteners = [\"tcp 443\", \"4433/udp\"]\n\
             [tunnels.addresses]\npools = [\"10.4.8.10-10.4.8.20\", \"10.4.9.0/24\"]\nfixed = [\"astrid 10.4.8.5\"]\ndomains = [\"none\"]\n\
             [[dhcp-servers]]\nname = \"desk\"\nsubnets = [\"10.4.0.10-10.4.0.99\"]\n\
             [[routes]]\ndestination = \"default\"\ngateway = \"10.4.0.1\"\n",
        );
        let plan = &facts.tunnels[0].addresses;
        assert_eq!(facts.tunnels[0].listeners.len(), 2);
        assert_eq!((plan.pools[0].ranges.len(), plan.pools[1].network.is_some()), (1, true));
        assert_eq!((plan.fixed.len(), plan.domains.len()), (1, 0));
        assert_eq!(facts.dhcp_servers[0].subnets[0].ranges.len(), 1);
        assert!(facts.routes[0].is_default());
        let said = facts.tunnels[0].policy.as_ref().and_then(|policy| policy.domains.as_ref());
        assert!(said.is_some(), "none is a statement");
    }

    #[test]
    fn services_known_by_their_port() {
        for (said, port) in [
            ("kind = \"remote-desktop\"", 3389),
            ("kind = \"RDP\"\nendpoints = [\"tcp 3390\"]", 3390),
            ("kind = \"VNC\"", 5900),
            ("kind = \"telnet\"", 23),
            ("kind = \"other\"\nendpoints = [\"udp 5000\"]", 5000),
        ] {
            let facts = read(&format!("[[services]]\nname = \"desk\"\n{said}\n"));
            let one = &facts.served[0];
            let desktop = matches!(port, 3389 | 3390 | 5900);
            assert_eq!(
                (one.kind == ServedKind::RemoteDesktop, one.endpoints[0].port),
                (desktop, port),
                "{said}"
            );
            assert!(facts.sockets.is_empty() && !facts.has_sockets, "a list of sockets would be whole");
        }
        for (kind, port, encrypted) in
            [("pages", 443, "Encrypted"), ("pages", 80, "Plain"), ("shares", 445, "Optional")]
        {
            let facts =
                read(&format!("[[services]]\nname = \"s\"\nkind = \"{kind}\"\nendpoints = [{port}]\n"));
            let found = format!("{:?}", facts.served[0].endpoints[0].carried);
            assert_eq!(found, encrypted, "{kind} {port}");
        }
    }
}
