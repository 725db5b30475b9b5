//! `clients.conf` of the FreeRADIUS server: sections `client NAME { … }` (clients.conf(5), radiusd.conf(5)).

use super::sections::{Item, Section};
use crate::addresses;
use crate::reader::{LineRecorder, Reading};
use ipnet::IpNet;
use trevlin_model::radius::{MessageAuthenticator, RadiusClient};
use trevlin_model::secret::SecretKind;
use trevlin_model::{DefaultValue, Export, Family, IpRange, LineClass, Setting};

/// Items of a client that have no bearing here.
const PASSED_OVER: [&str; 12] = [
    "shortname",
    "nas_type",
    "nastype",
    "virtual_server",
    "response_window",
    "login",
    "password",
    "coa_server",
    "lifetime",
    "max_connections",
    "idle_timeout",
    "limit_proxy_state",
];

/// Takes one client's section.
pub(super) fn take(export: &Export, section: &Section<'_>, reading: &mut Reading) {
    let (name, origin) = (section.name, section.origin);
    let mut book = LineRecorder::new(export, &mut reading.ledger, &mut reading.elsewhere);
    book.understood(origin);
    for (_, origin) in &section.words {
        book.not_understood(*origin, "expected `name = value`");
    }
    const SOURCE: &str = "clients.conf(5); release notes of 3.2.5 and 3.0.27";
    let row = |value, versions| DefaultValue { value, daemon: "radiusd", versions, source: SOURCE };
    let mut client = RadiusClient {
        name: name.to_owned(),
        // An older form: the name is the address.
        from: range(name),
        secret: None,
        tls: false,
        message_authenticator: Setting::Default(vec![
            row(MessageAuthenticator::NotRequired, "before 3.2.5 and 3.0.27"),
            row(MessageAuthenticator::Learned, "from 3.2.5 and 3.0.27"),
        ]),
        address_origin: origin,
        origin,
    };
    let mut mask = None;
    for item in &section.items {
        let mut book = LineRecorder::new(export, &mut reading.ledger, &mut reading.elsewhere);
        match item.name {
            "ipaddr" | "ipv4addr" | "ipv6addr" => {
                (client.from, client.address_origin) = (range(item.value), item.origin);
                book.understood(item.origin);
                if client.from.is_none()
                    && item.value.bytes().all(|byte| byte.is_ascii_digit() || matches!(byte, b'.' | b'/'))
                {
                    book.not_understood(item.origin, addresses::what_is_wrong(item.value));
                }
            }
            "netmask" => {
                mask = item.value.parse::<u8>().ok();
                book.understood(item.origin);
            }
            "secret" => {
                if !item.is_elsewhere() {
                    client.secret = Some(item.hold(SecretKind::RadiusSecret, name));
                    reading.facts.secrets.extend(client.secret.clone());
                }
                book.understood(item.origin);
            }
            "require_message_authenticator" => match message_authenticator(item) {
                Some(value) => client.message_authenticator = stated(value, item, &mut book),
                None => book.not_understood(item.origin, "expected yes, no or auto"),
            },
            "proto" => {
                client.tls = item.value == "tls";
                book.understood(item.origin);
            }
            known if PASSED_OVER.contains(&known) => book.class(item.origin, LineClass::Ignored),
            _ => book.not_understood(item.origin, "not an item of a client in clients.conf(5)"),
        }
    }
    if let (Some(mask), Some(range)) = (mask, client.from) {
        client.from = IpNet::new(range.first(), mask).ok().map(|net| net.trunc().into());
    }
    reading.facts.radius_clients.push(client);
}

/// Requirement of an item for Message-Authenticator.
pub(super) fn message_authenticator(item: &Item<'_>) -> Option<MessageAuthenticator> {
    match (item.truth(), item.value) {
        (Some(true), _) => Some(MessageAuthenticator::Required),
        (Some(false), _) => Some(MessageAuthenticator::NotRequired),
        (None, "auto") => Some(MessageAuthenticator::Learned),
        _ => None,
    }
}

fn stated(
    value: MessageAuthenticator,
    item: &Item<'_>,
    book: &mut LineRecorder<'_>,
) -> Setting<MessageAuthenticator> {
    book.understood(item.origin);
    Setting::Stated { value, origin: item.origin }
}

/// An address or a prefix; `*` is every IPv4 address.
fn range(text: &str) -> Option<IpRange> {
    if text == "*" {
        return Some(IpRange::all(Family::V4));
    }
    if text == "localhost" {
        return Some(IpRange::from(std::net::IpAddr::from(std::net::Ipv4Addr::LOCALHOST)));
    }
    let family = if text.contains(':') { Family::V6 } else { Family::V4 };
    addresses::network(text, family).map(IpRange::from)
}

#[cfg(test)]
mod tests {
    use super::*;
    use trevlin_model::ExportId;

    fn of(text: &str) -> Reading {
        let export = Export::new(ExportId(0), "d/etc/freeradius/clients.conf", text.into());
        (crate::radius::READER.read)(&export, &crate::reader::ReadContext::default())
    }

    #[test]
    fn clients() {
        for (text, wanted) in [
            ("client a {\n ipaddr = 10.4.0.9\n secret = x # c\n}\n", "a 10.4.0.9 secret default"),
            ("client a { ipaddr = 10.4.0.0/24 , secret = \"x # y\" }\n", "a - - default"),
            (
                "client a {\n\tipaddr = *\n\tsecret = 'x'\n\trequire_message_authenticator = yes\n}",
                "a 0.0.0.0-255.255.255.255 secret Required",
            ),
            ("client 10.9.0.1 {\n secret = x\n}\n", "10.9.0.1 10.9.0.1 secret default"),
            ("client localhost {\n secret = x\n}\n", "localhost 127.0.0.1 secret default"),
            (
                "client a {\n ipaddr = 10.9.0.0\n netmask = 24\n secret = x\n limit {\n  max_connections = 16\n }\n}\n",
                "a 10.9.0.0-10.9.0.255 secret default",
            ),
            (
                "client a {\n ipv6addr = 2001:db8::/32\n secret = x }\n",
                "a 2001:db8::-2001:db8:ffff:ffff:ffff:ffff:ffff:ffff secret default",
            ),
            ("client a {\n ipaddr = gate.example\n secret = x\n}\n", "a - secret default"),
        ] {
            let reading = of(text);
            let one = &reading.facts.radius_clients[0];
            let signed = match &one.message_authenticator {
                Setting::Stated { value, .. } => format!("{value:?}"),
                _ => "default".into(),
            };
            let from = one.from.map_or("-".into(), |range| range.to_string());
            let told =
                format!("{} {from} {} {signed}", one.name, if one.secret.is_some() { "secret" } else { "-" });
            assert_eq!(told, wanted, "{text}");
        }
    }

    #[test]
    fn what_is_wrong_is_told_and_the_rest_is_read() {
        let reading = of("}\nclient a {\n wobble = 3\n ipaddr = 10.4.0.300\n secret = x\nclient b {\n");
        assert_eq!(reading.facts.radius_clients.len(), 1);
        let lines: Vec<_> =
            (1..=6).map(|line| reading.ledger.class(line).unwrap() == LineClass::NotUnderstood).collect();
        assert_eq!(lines, [true, false, true, true, false, false]);
        assert!(!format!("{:?}", of("client a {\n secret = sesame99\n}\n")).contains("sesame99"));
    }
}
