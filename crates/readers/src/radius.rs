//! `clients.conf` of the FreeRADIUS server: sections `client NAME { … }` (clients.conf(5), radiusd.conf(5)).

use crate::addresses;
use crate::reader::{Bookkeeper, Reader, Reading, Recognition, Surroundings, TELLING_LINES};
use ipnet::IpNet;
use std::sync::Arc;
use trevlin_model::radius::{MessageAuthenticator, RadiusClient};
use trevlin_model::secret::SecretKind;
use trevlin_model::{DefaultValue, Export, Family, HeldSecret, IpRange, LineClass, Origin, Secret, Setting};

/// The reader.
pub(crate) const READER: Reader = Reader {
    name: "radius-clients",
    title: "clients of a RADIUS server",
    manual: "clients.conf(5)",
    recognise,
    read,
};

/// How deep sections may nest before the file is no configuration.
const DEPTH: usize = 32;

/// Items of a client that have no bearing here.
const PASSED_OVER: [&str; 13] = [
    "shortname",
    "nas_type",
    "nastype",
    "virtual_server",
    "response_window",
    "proto",
    "login",
    "password",
    "coa_server",
    "lifetime",
    "max_connections",
    "idle_timeout",
    "limit_proxy_state",
];

fn recognise(export: &Export) -> Recognition {
    let opens = |text: &str| {
        let mut words = text.split_whitespace();
        words.next() == Some("client") && text.trim_end().ends_with('{') && words.count() <= 2
    };
    let lines =
        || export.lines().take(TELLING_LINES * 2).map(|line| line.text.split('#').next().unwrap_or_default());
    let telling = lines().any(opens) && lines().any(|text| text.trim_start().starts_with("secret"));
    if telling {
        Recognition::Content
    } else if export.file_name() == "clients.conf" {
        Recognition::Name
    } else {
        Recognition::No
    }
}

/// One item of a section: `name = value`.
struct Item<'a> {
    name: &'a str,
    value: &'a str,
    /// The value as it stands, quotes included.
    value_origin: Origin,
    origin: Origin,
}

fn read(export: &Export, _: &Surroundings<'_>) -> Reading {
    let mut reading = Reading::of(export);
    let mut book = Bookkeeper::new(export, &mut reading.ledger, &mut reading.elsewhere);
    let mut open: Vec<&str> = Vec::new();
    let mut client: Option<(String, Origin, Vec<Item<'_>>)> = None;
    let mut clients = Vec::new();
    for line in export.lines() {
        let mut rest = line.text;
        // A line may close one section and open or fill the next.
        while let Some((piece, after)) = next_piece(rest) {
            rest = after;
            let origin = export.origin_of(piece);
            if piece == "}" {
                book.understood(origin);
                if open.pop().is_none() {
                    book.not_understood(origin, "`}` closes nothing");
                }
                if open.is_empty() {
                    clients.extend(client.take());
                }
            } else if let Some(head) = piece.strip_suffix('{') {
                let mut words = head.split_whitespace();
                let kind = words.next().unwrap_or_default();
                if open.is_empty() && kind == "client" {
                    book.understood(origin);
                    client = Some((words.next().unwrap_or_default().to_owned(), origin, Vec::new()));
                } else {
                    book.class(origin, LineClass::PassedOver);
                }
                open.push(kind);
                if open.len() > DEPTH {
                    book.not_understood(origin, "sections nest too deep; the rest was not read");
                    return finish(export, clients, reading);
                }
            } else {
                match (item(export, piece, origin), client.as_mut(), open.len()) {
                    (Some(item), Some((_, _, items)), 1) => items.push(item),
                    (None, Some(_), 1) => book.not_understood(origin, "expected `name = value`"),
                    _ => book.class(origin, LineClass::PassedOver),
                }
            }
        }
    }
    if let Some((name, origin, items)) = client {
        book.note(origin, format!("client {name} is not closed by `}}`; export the file whole"));
        clients.push((name, origin, items));
    }
    finish(export, clients, reading)
}

/// The next piece of a line: what opens a section, what closes one, or an item; comments end the line.
fn next_piece(rest: &str) -> Option<(&str, &str)> {
    let rest = rest.trim_start_matches([' ', '\t', ';', ',']);
    if rest.is_empty() || rest.starts_with('#') {
        return None;
    }
    if let Some(after) = rest.strip_prefix('}') {
        return Some((&rest[..1], after));
    }
    let (mut quote, mut escaped) = (None, false);
    for (at, letter) in rest.char_indices() {
        match (quote, letter) {
            _ if escaped => escaped = false,
            (Some(_), '\\') => escaped = true,
            (Some(open), _) if open == letter => quote = None,
            (Some(_), _) => {}
            (None, '"' | '\'') => quote = Some(letter),
            (None, '{') => return Some((&rest[..=at], &rest[at + 1..])),
            (None, '#' | '}') => return Some((rest[..at].trim_end(), &rest[at..])),
            _ => {}
        }
    }
    Some((rest.trim_end(), ""))
}

fn item<'a>(export: &Export, piece: &'a str, origin: Origin) -> Option<Item<'a>> {
    let (name, value) = piece.split_once('=')?;
    let value = value.trim_start_matches('=').trim();
    let bare = ['"', '\'']
        .iter()
        .find_map(|quote| value.strip_prefix(*quote)?.strip_suffix(*quote))
        .unwrap_or(value);
    Some(Item { name: name.trim(), value: bare, value_origin: export.origin_of(value), origin })
}

fn finish(export: &Export, clients: Vec<(String, Origin, Vec<Item<'_>>)>, mut reading: Reading) -> Reading {
    for (name, origin, items) in clients {
        let client = client(export, &name, origin, &items, &mut reading);
        reading.facts.radius_clients.push(client);
    }
    reading
}

fn client(
    export: &Export,
    name: &str,
    origin: Origin,
    items: &[Item<'_>],
    reading: &mut Reading,
) -> RadiusClient {
    const SOURCE: &str = "clients.conf(5); release notes of 3.2.5 and 3.0.27";
    let row = |value, versions| DefaultValue { value, daemon: "radiusd", versions, source: SOURCE };
    let mut client = RadiusClient {
        name: name.to_owned(),
        // An older form: the name is the address.
        from: range(name),
        secret: None,
        message_authenticator: Setting::Default(vec![
            row(MessageAuthenticator::NotRequired, "before 3.2.5 and 3.0.27"),
            row(MessageAuthenticator::Learned, "from 3.2.5 and 3.0.27"),
        ]),
        address_origin: origin,
        origin,
    };
    let mut mask = None;
    for item in items {
        let mut book = Bookkeeper::new(export, &mut reading.ledger, &mut reading.elsewhere);
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
                let held = Arc::new(HeldSecret {
                    secret: Secret::new(item.value.replace("\\\"", "\"")),
                    kind: SecretKind::RadiusSecret,
                    owner: name.to_owned(),
                    origin: item.value_origin,
                });
                client.secret = Some(Arc::clone(&held));
                book.understood(item.origin);
                reading.facts.secrets.push(held);
            }
            "require_message_authenticator" => match item.value {
                "yes" | "true" | "on" | "1" => {
                    client.message_authenticator = stated(MessageAuthenticator::Required, item, &mut book)
                }
                "no" | "false" | "off" | "0" => {
                    client.message_authenticator = stated(MessageAuthenticator::NotRequired, item, &mut book)
                }
                "auto" => {
                    client.message_authenticator = stated(MessageAuthenticator::Learned, item, &mut book)
                }
                _ => book.not_understood(item.origin, "expected yes, no or auto"),
            },
            known if PASSED_OVER.contains(&known) => book.class(item.origin, LineClass::PassedOver),
            _ => book.not_understood(item.origin, "no item of a client in clients.conf(5)"),
        }
    }
    if let (Some(mask), Some(range)) = (mask, client.from) {
        client.from = IpNet::new(range.first(), mask).ok().map(|net| net.trunc().into());
    }
    client
}

fn stated(
    value: MessageAuthenticator,
    item: &Item<'_>,
    book: &mut Bookkeeper<'_>,
) -> Setting<MessageAuthenticator> {
    book.understood(item.origin);
    Setting::Stated { value, origin: item.origin }
}

/// An address or a prefix; `*` is every IPv4 address.
fn range(text: &str) -> Option<IpRange> {
    if text == "*" {
        return Some(IpRange::all(Family::V4));
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
        read(&export, &Surroundings::default())
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
