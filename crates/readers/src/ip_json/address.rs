//! `ip -j addr show`.

use super::{elements, inside_quotes, recognise, settle};
use crate::json::Source;
use crate::reader::{LineRecorder, ReadContext, Reader, Reading};
use ipnet::IpNet;
use serde::Deserialize;
use serde_json::value::RawValue;
use std::net::IpAddr;
use trevlin_model::{Export, Interface, InterfaceAddress};

/// The reader.
pub(crate) const READER: Reader = Reader {
    name: "ip-addr",
    title: "addresses of interfaces (ip -j addr show)",
    manual: "ip-address(8)",
    recognise: |export| recognise(export, ["\"ifname\"", "\"addr_info\""], ["ip-addr", "ip-a."]),
    read,
};

#[derive(Deserialize)]
struct Link<'a> {
    #[serde(borrow)]
    ifname: Option<&'a RawValue>,
    #[serde(default)]
    flags: Option<Vec<String>>,
    #[serde(default)]
    link_type: Option<String>,
    #[serde(borrow, default)]
    addr_info: Vec<&'a RawValue>,
}

#[derive(Deserialize)]
struct Address<'a> {
    #[serde(borrow)]
    local: Option<&'a RawValue>,
    prefixlen: Option<u8>,
    /// The other end of a point-to-point address.
    address: Option<IpAddr>,
    /// Whether it was got by asking and will run out.
    #[serde(default)]
    dynamic: bool,
}

fn read(export: &Export, _: &ReadContext<'_>) -> Reading {
    let mut reading = Reading::of(export);
    let source = Source::of(export);
    let (links, broken) = elements(&source);
    let mut book = LineRecorder::new(export, &mut reading.ledger, &mut reading.elsewhere);
    settle(&source, &mut book, broken);
    reading.facts.has_interfaces = true;
    for raw in links {
        let origin = source.origin(raw.get());
        // With `-d` tunnel ends are included as well.
        if let Ok(link) = serde_json::from_str(raw.get()) {
            reading.facts.tunnels.extend(super::link::tunnel(&source, link));
        }
        match serde_json::from_str::<Link<'_>>(raw.get()) {
            // `ip` leaves an empty object for every interface that a filter on its command line hides.
            Ok(Link { ifname: None, addr_info, .. }) if addr_info.is_empty() => {}
            Ok(link) => match interface(&source, link, &mut book) {
                Some(interface) => reading.facts.interfaces.push(interface),
                None => book.not_understood(origin, "an interface without a name (`ifname`)"),
            },
            Err(_) => book.not_understood(origin, "expected an interface as `ip -j addr show` prints it"),
        }
    }
    reading
}

fn interface(source: &Source<'_>, link: Link<'_>, book: &mut LineRecorder<'_>) -> Option<Interface> {
    let raw_name = link.ifname?;
    let name: String = serde_json::from_str(raw_name.get()).ok()?;
    let flag = |wanted: &str| link.flags.as_ref().map(|flags| flags.iter().any(|flag| flag == wanted));
    let link_type = link.link_type.as_deref().unwrap_or_default();
    let mut addresses = Vec::new();
    for raw in link.addr_info {
        let parsed = serde_json::from_str::<Address<'_>>(raw.get()).ok();
        // Hidden by a filter.
        if parsed.as_ref().is_some_and(|one| one.local.is_none() && one.prefixlen.is_none()) {
            continue;
        }
        match parsed.and_then(|parsed| address(source, &parsed)) {
            Some(address) => addresses.push(address),
            None => book
                .not_understood(source.origin(raw.get()), "expected `local` and `prefixlen` of an address"),
        }
    }
    Some(Interface {
        loopback: link_type == "loopback" || flag("LOOPBACK") == Some(true),
        point_to_point: flag("POINTOPOINT") == Some(true) || link_type == "ppp",
        up: flag("UP"),
        addresses,
        asks: None,
        origin: inside_quotes(source, raw_name),
        name,
    })
}

fn address(source: &Source<'_>, parsed: &Address<'_>) -> Option<InterfaceAddress> {
    let raw = parsed.local?;
    let local: IpAddr = serde_json::from_str(raw.get()).ok()?;
    let net = IpNet::new(local, parsed.prefixlen?).ok()?;
    Some(InterfaceAddress {
        net,
        peer: parsed.address,
        dynamic: parsed.dynamic,
        origin: inside_quotes(source, raw),
    })
}

#[cfg(test)]
mod tests {
    use super::*;
    use trevlin_model::{ExportId, LineClass};

    const TEXT: &str = r#"[{"ifindex":1,"ifname":"lo","flags":["LOOPBACK","UP"],"link_type":"loopback",
 "addr_info":[{"family":"inet","local":"127.0.0.1","prefixlen":8}]},{},
{"ifname":"eth0","flags":["BROADCAST","UP"],"link_type":"ether",
 "addr_info":[{"family":"inet","local":"192.0.2.9","prefixlen":24},{},{"family":"inet6","local":"2001:db8::9","prefixlen":64}]},
{"ifname":"ppp0","flags":["POINTOPOINT"],"link_type":"ppp",
 "addr_info":[{"local":"10.4.0.1","address":"10.4.0.10","prefixlen":32}]},
{"ifname":"bad","addr_info":[{"local":"10.4.0","prefixlen":32}]}]
"#;

    #[test]
    fn interfaces() {
        let export = Export::new(ExportId(0), "x.json", TEXT.into());
        let reading = read(&export, &ReadContext::default());
        let told: Vec<_> = reading
            .facts
            .interfaces
            .iter()
            .map(|one| {
                let nets: Vec<_> = one.addresses.iter().map(|address| address.net.to_string()).collect();
                let line = export.line_of(one.origin.start);
                (one.name.as_str(), one.loopback, one.point_to_point, one.up, nets.join(" "), line)
            })
            .collect();
        assert_eq!(
            told,
            [
                ("lo", true, false, Some(true), "127.0.0.1/8".into(), 1),
                ("eth0", false, false, Some(true), "192.0.2.9/24 2001:db8::9/64".into(), 3),
                ("ppp0", false, true, Some(false), "10.4.0.1/32".into(), 5),
                ("bad", false, false, None, String::new(), 7),
            ]
        );
        assert_eq!(reading.facts.interfaces[2].addresses[0].peer, Some([10, 4, 0, 10].into()));
        assert_eq!(reading.ledger.count(LineClass::NotUnderstood), 1);
        assert_eq!(reading.ledger.notes.len(), 1);
    }
}
