//! `/etc/network/interfaces` and the files it reads in (interfaces(5) of ifupdown). A file that is read in is read as a
//! file of its own, with the same outcome.

use super::{RouteCommand, interface, route, stated, tell_mistyped};
use crate::addresses;
use crate::reader::{LineRecorder, ReadContext, Reader, Reading, Recognition, TELLING_LINES};
use std::net::IpAddr;
use std::sync::Arc;
use trevlin_model::secret::SecretKind;
use trevlin_model::{CommandMoment, Export, Interface, LineClass, Origin, Secret, SecretRecord};

/// The reader.
pub(crate) const READER: Reader = Reader {
    name: "ifupdown",
    title: "interfaces at boot (ifupdown)",
    manual: "interfaces(5)",
    recognise,
    read,
};

fn recognise(export: &Export) -> Recognition {
    let tells = |line: &str| {
        if !line.trim_start().starts_with("iface") {
            return false;
        }
        let words: Vec<&str> = line.split_whitespace().collect();
        matches!(words.as_slice(), ["iface", _, "inet" | "inet6", _, ..])
    };
    if export.lines().take(TELLING_LINES).any(|line| tells(line.text)) {
        Recognition::Content
    } else if export.path().ends_with("network/interfaces") || export.path().contains("network/interfaces.d/")
    {
        Recognition::Name
    } else {
        Recognition::No
    }
}

/// A logical line: its words and its place. A backslash at the end joins the next.
fn logical(export: &Export) -> Vec<(String, Origin)> {
    let mut found: Vec<(String, Origin)> = Vec::new();
    let mut joined = false;
    for line in export.lines() {
        let text = line.text.trim();
        let goes_on = text.ends_with('\\');
        let bare = text.trim_end_matches('\\');
        match found.last_mut() {
            Some((whole, origin)) if joined => {
                whole.push(' ');
                whole.push_str(bare);
                origin.end = line.end().max(origin.end);
            }
            _ if text.is_empty() || text.starts_with('#') => continue,
            _ => found.push((bare.to_owned(), export.origin_of(text))),
        }
        joined = goes_on;
    }
    found
}

/// The stanza at hand, until the next one begins.
#[derive(Default)]
struct Stanza {
    interface: Option<Interface>,
    address: Option<(String, Origin)>,
    mask: Option<String>,
    gateways: Vec<(String, Origin)>,
}

fn read(export: &Export, around: &ReadContext<'_>) -> Reading {
    let mut reading = Reading::of(export);
    let mut stanza = Stanza::default();
    for (line, origin) in logical(export) {
        let mut class = LineClass::Understood;
        let (word, rest) =
            line.split_once([' ', '\t']).map_or((line.as_str(), ""), |(word, rest)| (word, rest.trim()));
        let words: Vec<&str> = rest.split_whitespace().collect();
        match (word, words.as_slice()) {
            ("iface", [name, family, method, ..]) => {
                stanza.finish(&mut reading);
                let mut one = interface(name.split(':').next().unwrap_or(name), origin);
                one.loopback |= *method == "loopback";
                one.point_to_point = matches!(*method, "tunnel" | "ppp" | "wvdial" | "v4tunnel" | "6to4");
                if matches!(*method, "dhcp" | "bootp") || (*family, *method) == ("inet6", "auto") {
                    one.asks = Some(origin);
                }
                stanza.interface = Some(one);
            }
            ("source" | "source-directory" | "mapping" | "rename", _) => {
                stanza.finish(&mut reading);
                class = LineClass::Ignored;
            }
            (word, _) if word == "auto" || word.starts_with("allow-") || word.starts_with("no-") => {
                stanza.finish(&mut reading);
                class = LineClass::Ignored;
            }
            ("address", [address, ..]) => stanza.address = Some(((*address).to_owned(), origin)),
            ("netmask", [mask, ..]) => stanza.mask = Some((*mask).to_owned()),
            ("gateway", [gateway, ..]) => stanza.gateways.push(((*gateway).to_owned(), origin)),
            ("pointopoint", _) => {
                if let Some(one) = &mut stanza.interface {
                    one.point_to_point = true;
                }
            }
            ("dns-nameserver" | "dns-nameservers", servers) => {
                for server in servers {
                    let known =
                        addresses::take(server, origin, &mut reading.facts.malformed, addresses::single);
                    reading.facts.name_servers.extend(known.map(|server| (server, origin)));
                }
            }
            ("up" | "post-up" | "pre-up", _) => {
                class = stanza.command(&words, origin, &mut reading);
                if class == LineClass::Ignored {
                    let name = stanza.interface.as_ref().map_or_else(String::new, |one| one.name.clone());
                    let values = [("IFACE", name.as_str()), ("MODE", "start")];
                    let at = (origin, CommandMoment::Interface);
                    crate::commands::of_setting(rest, at, &values, export, around, &mut reading);
                    continue;
                }
            }
            _ if is_secret(word) => {
                let value = rest.trim_matches('"');
                let name = stanza.interface.as_ref().map_or("an interface", |one| one.name.as_str());
                reading.facts.secrets.push(Arc::new(SecretRecord {
                    secret: Secret::new(value),
                    kind: SecretKind::OwnPassword,
                    owner: format!("{word} of {name}"),
                    origin: secret_place(export, origin, value),
                }));
            }
            _ if stanza.interface.is_some() => class = LineClass::Ignored,
            _ => class = LineClass::NotUnderstood,
        }
        let mut book = LineRecorder::new(export, &mut reading.ledger, &mut reading.elsewhere);
        book.class(origin, class);
        if class == LineClass::NotUnderstood {
            book.note(origin, "not a stanza of interfaces(5)");
        }
    }
    stanza.finish(&mut reading);
    tell_mistyped(export, reading)
}

/// Options of the wireless packages that hold a key.
fn is_secret(word: &str) -> bool {
    ["wpa-psk", "wpa-password", "wpa-passphrase", "wireless-key", "wpa-wep-key", "wpa-private-key-passwd"]
        .iter()
        .any(|kind| word.starts_with(kind))
}

/// Position of the value within its line.
fn secret_place(export: &Export, line: Origin, value: &str) -> Origin {
    let text = export.text().get(line.start as usize..line.end as usize).unwrap_or_default();
    match text.rfind(value).filter(|_| !value.is_empty()) {
        Some(at) => {
            let start = line.start + u32::try_from(at).unwrap_or(0);
            Origin { start, end: start + u32::try_from(value.len()).unwrap_or(0), ..line }
        }
        None => line,
    }
}

impl Stanza {
    fn finish(&mut self, reading: &mut Reading) {
        let stanza = std::mem::take(self);
        let Some(mut one) = stanza.interface else { return };
        if let Some((address, origin)) = stanza.address {
            let text = match &stanza.mask {
                Some(mask) if !address.contains('/') => {
                    let length = match mask.parse::<IpAddr>() {
                        Ok(IpAddr::V4(mask)) => {
                            ipnet::ipv4_mask_to_prefix(mask).ok().map(|length| length.to_string())
                        }
                        _ => Some(mask.clone()),
                    };
                    format!("{address}/{}", length.unwrap_or_else(|| mask.clone()))
                }
                _ => address,
            };
            one.addresses.extend(stated(&text, origin, &mut reading.facts.malformed));
        }
        for (gateway, origin) in &stanza.gateways {
            let found = route("default", Some(gateway), &one.name, *origin, &mut reading.facts.malformed);
            reading.facts.stored_routes.extend(found);
        }
        reading.facts.stored_interfaces.push(one);
    }

    /// `ip route add NET via GATEWAY` and `ip address add NET`; other commands are passed over.
    fn command(&mut self, words: &[&str], origin: Origin, reading: &mut Reading) -> LineClass {
        let Some(one) = &mut self.interface else { return LineClass::NotUnderstood };
        let words: Vec<&str> = words
            .iter()
            .map(|word| word.rsplit('/').next().filter(|_| word.starts_with('/')).unwrap_or(word))
            .collect();
        if let Some(command) = RouteCommand::of(&words) {
            let leaving =
                command.dev.map(|name| name.trim_start_matches("$IFACE")).filter(|name| !name.is_empty());
            let leaving = leaving.unwrap_or(&one.name);
            let found = route(&command.to, command.via, leaving, origin, &mut reading.facts.malformed);
            reading.facts.stored_routes.extend(found);
            return LineClass::Understood;
        }
        match words.as_slice() {
            ["ip", "address" | "addr" | "a", "add", address, ..] => {
                one.addresses.extend(stated(address, origin, &mut reading.facts.malformed));
                LineClass::Understood
            }
            _ => LineClass::Ignored,
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use trevlin_model::ExportId;

    #[test]
    fn stanzas() {
        let text = "# stock\nsource /etc/network/interfaces.d/*\nauto lo eth0\niface lo inet loopback\n\niface eth0 inet static\n  \
                    address 10.4.0.9\n  netmask 255.255.255.0\n  gateway 10.4.0.1\n  dns-nameservers 10.4.0.53 10.4.0.54\n  \
                    up ip route add 10.7.0.0/16 via 10.4.0.2 || true\n  post-up /sbin/ethtool -K eth0 tso off\n\
                    iface eth0 inet6 static\n  address 2001:db8:4::9/64\niface eth1 inet dhcp\n  wpa-psk \"open sesame\"\n\
                    iface eth2 inet static\n  address 10.4.0.0.9/24\n";
        let export = Export::new(ExportId(0), "d/etc/network/interfaces", text.into());
        let reading = read(&export, &ReadContext::default());
        let told: Vec<_> = reading
            .facts
            .stored_interfaces
            .iter()
            .map(|one| {
                let nets: Vec<_> = one.addresses.iter().map(|address| address.net.to_string()).collect();
                format!("{} {}{}", one.name, nets.join(" "), if one.asks.is_some() { "asks" } else { "" })
            })
            .collect();
        assert_eq!(told, ["lo ", "eth0 10.4.0.9/24", "eth0 2001:db8:4::9/64", "eth1 asks", "eth2 "]);
        let routes: Vec<_> = reading
            .facts
            .stored_routes
            .iter()
            .map(|one| format!("{} by {}", one.destination, one.gateway.unwrap()))
            .collect();
        assert_eq!(routes, ["10.7.0.0/16 by 10.4.0.2", "0.0.0.0/0 by 10.4.0.1"]);
        assert_eq!((reading.facts.name_servers.len(), reading.facts.malformed.len()), (2, 1));
        assert_eq!(reading.facts.secrets.len(), 1);
        let place = reading.facts.secrets[0].origin;
        assert_eq!(&export.text()[place.start as usize..place.end as usize], "open sesame");
    }
}
