//! `dnsmasq.conf` and the files of `dnsmasq.d` (dnsmasq(8)): long options without their dashes, one a line.

use crate::addresses;
use crate::naming::recursion;
use crate::reader::{LineRecorder, ReadContext, Reader, Reading, Recognition, TELLING_LINES};
use ipnet::IpNet;
use serde::Deserialize;
use std::collections::BTreeSet;
use std::net::IpAddr;
use trevlin_model::dhcp::{DhcpServer, DhcpSubnet, Reservation};
use trevlin_model::served::{Endpoint, Served, ServedKind, Sources, TransportSecurity};
use trevlin_model::{Export, IpRange, LineClass, MalformedAddress, Origin, Protocol, RangeError};

/// The reader.
pub(crate) const READER: Reader =
    Reader { name: "dnsmasq", title: "dnsmasq configuration", manual: "dnsmasq(8)", recognise, read };

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
struct Options {
    judged: BTreeSet<String>,
    passed_over: BTreeSet<String>,
}

trevlin_model::table! { static OPTIONS: Options = "../../tables/dnsmasq-options.toml"; }

/// Words that may replace the end of a range (dnsmasq(8), --dhcp-range).
const MODES: [&str; 8] =
    ["static", "proxy", "ra-only", "slaac", "ra-names", "ra-stateless", "ra-advrouter", "off-link"];

fn recognise(export: &Export) -> Recognition {
    let tells =
        |text: &str| ["dhcp-range=", "dhcp-host=", "dhcp-option="].iter().any(|word| text.starts_with(word));
    if export.lines().take(TELLING_LINES * 3).any(|line| tells(line.text.trim())) {
        return Recognition::Content;
    }
    let name = export.file_name();
    let named = name == "dnsmasq.conf" || export.path().contains("dnsmasq.d/");
    if named && !name.starts_with("README") { Recognition::Name } else { Recognition::No }
}

fn read(export: &Export, around: &ReadContext<'_>) -> Reading {
    let mut reading = Reading::of(export);
    let mut book = LineRecorder::new(export, &mut reading.ledger, &mut reading.elsewhere);
    let mut server: Option<DhcpServer> = None;
    let mut interfaces: Vec<String> = Vec::new();
    for line in export.lines() {
        let text = uncommented(line.text).trim();
        if text.is_empty() {
            continue;
        }
        let origin = export.origin_of(text);
        let (name, value) = match text.split_once('=') {
            Some((name, value)) => (name.trim(), value.trim()),
            None => (text, ""),
        };
        if !OPTIONS.judged.contains(name) {
            if OPTIONS.passed_over.contains(name) {
                book.class(origin, LineClass::Ignored);
            } else {
                book.not_understood(origin, "no option of dnsmasq(8); the daemon refuses to start with it");
            }
            continue;
        }
        book.understood(origin);
        if name == "interface" {
            interfaces.extend(value.split(',').map(|name| name.trim().to_owned()));
            continue;
        }
        if NAMING.contains(&name) {
            continue;
        }
        let server = server.get_or_insert_with(|| DhcpServer::new("dnsmasq", export.file_name(), origin));
        let value = value.trim_matches('"');
        let before = server.malformed.len();
        match name {
            "dhcp-range" => range(value, origin, server),
            "dhcp-host" => host(value, origin, server),
            "dhcp-option" | "dhcp-option-force" => option(value, origin, server),
            _ => {}
        }
        for bad in &server.malformed[before..] {
            book.not_understood(bad.origin, bad.why.clone());
        }
    }
    // Every address that a `dhcp-host` names is kept for it, in a range or not (dnsmasq(8), --dhcp-host).
    reading.facts.dhcp_servers.extend(server.map(|server| DhcpServer {
        keeps_reserved: true,
        keeps_own: true,
        interfaces,
        ..server
    }));
    reading.facts.served.extend(names(export, around));
    reading
}

/// Options about listeners and clients of the DNS service.
const NAMING: [&str; 6] =
    ["port", "listen-address", "except-interface", "local-service", "bind-interfaces", "bind-dynamic"];

/// The DNS server of a device: one for all of its files, reported with the first of them. It answers any client that reaches it, unless
/// limited to attached networks (dnsmasq(8), --local-service).
fn names(export: &Export, around: &ReadContext<'_>) -> Option<Served> {
    let all = around.of_format(&READER).map(|(one, _)| one);
    let mut files: Vec<&Export> = all.filter(|one| !crate::copies::is_copy(one)).collect();
    files.sort_by_key(|one| (one.file_name() != "dnsmasq.conf", one.path()));
    if files.first().is_some_and(|first| first.path() != export.path()) {
        return None;
    }
    if files.is_empty() {
        files.push(export);
    }
    let mut lines: Vec<(&str, &str, Origin)> = Vec::new();
    for file in files {
        for line in file.lines() {
            let text = uncommented(line.text).trim();
            let (name, value) =
                text.split_once('=').map_or((text, ""), |(name, value)| (name.trim(), value.trim()));
            if !name.is_empty() {
                lines.push((name, value, file.origin_of(text)));
            }
        }
    }
    let last = |wanted: &str| lines.iter().rev().find(|one| one.0 == wanted);
    let origin = lines.first()?.2;
    let port = last("port").and_then(|one| one.1.parse().ok()).unwrap_or(53);
    if port == 0 {
        return None;
    }
    let mut served = Served::new(ServedKind::Names, "dnsmasq", "DNS server (dnsmasq)", &["dnsmasq"], origin);
    let mut places: Vec<(Option<IpAddr>, Option<String>, Origin)> = Vec::new();
    for (name, value, line) in &lines {
        for one in value.split(',').map(str::trim).filter(|one| !one.is_empty()) {
            match *name {
                "interface" => places.push((None, Some(one.to_owned()), *line)),
                "listen-address" => places.push((one.parse().ok(), None, *line)),
                _ => {}
            }
        }
    }
    if places.is_empty() {
        places.push((None, None, last("port").map_or(origin, |one| one.2)));
    }
    for (address, interface, line) in places {
        for protocol in [Protocol::UDP, Protocol::TCP] {
            let at = Endpoint::everywhere(protocol, port, TransportSecurity::Plain, line);
            let at = match address {
                Some(address) => at.at(address),
                None => at,
            };
            served.endpoints.push(Endpoint { interface: interface.clone(), ..at });
        }
    }
    let near =
        last("local-service").filter(|_| last("interface").is_none() && last("listen-address").is_none());
    let sources = match near {
        Some(one) => Sources {
            ranges: crate::serving::loopback().to_vec(),
            names: vec!["its connected networks".into()],
            origins: vec![one.2],
        },
        None => Sources::everybody(),
    };
    served.parts.push(recursion(sources, served.endpoints[0].origin));
    Some(served)
}

/// The line up to a `#` at its beginning or after a blank, outside of quotes.
fn uncommented(line: &str) -> &str {
    let mut quoted = false;
    let mut before = b' ';
    for (at, byte) in line.bytes().enumerate() {
        match byte {
            b'"' => quoted = !quoted,
            b'#' if !quoted && before.is_ascii_whitespace() => return &line[..at],
            _ => {}
        }
        before = byte;
    }
    line
}

fn is_tag(part: &str) -> bool {
    ["tag:", "set:", "net:"].iter().any(|kind| part.starts_with(kind))
}

/// `[tags,]start[,end or mode][,mask or length][,...]`
fn range(value: &str, origin: Origin, server: &mut DhcpServer) {
    let parts: Vec<&str> = value.split(',').map(str::trim).filter(|part| !is_tag(part)).collect();
    // With `constructor:` the addresses are only the end of what an interface's own prefix makes of them.
    if parts.iter().any(|part| part.starts_with("constructor:")) {
        return;
    }
    let Some(start) = parts.first() else { return };
    let Some(first) =
        addresses::take(start, origin, &mut server.malformed, |text| text.parse::<IpAddr>().ok())
    else {
        return;
    };
    let second = parts.get(1).copied().filter(|part| !MODES.contains(part));
    let last = match second.filter(|part| part.contains(['.', ':'])) {
        Some(text) => {
            addresses::take(text, origin, &mut server.malformed, |text| text.parse::<IpAddr>().ok())
        }
        None => None,
    };
    let mask = parts.iter().skip(if last.is_some() { 2 } else { 1 }).find_map(|part| match first {
        IpAddr::V4(_) => ipnet::ipv4_mask_to_prefix(part.parse().ok()?).ok(),
        IpAddr::V6(_) => part.parse::<u8>().ok(),
    });
    let network = mask.and_then(|length| IpNet::new(first, length).ok()).map(|net| net.trunc());
    let mut subnet = DhcpSubnet::new(network, origin);
    if let Some(last) = last {
        match IpRange::new(first, last) {
            Ok(range) => subnet.ranges.push((range, origin)),
            Err(RangeError::Reversed | RangeError::MixedFamilies) => {
                let why = addresses::what_is_wrong(&format!("{first}-{last}"));
                server.malformed.push(MalformedAddress { why, origin });
            }
        }
    }
    server.subnets.push(subnet);
}

/// `[hardware address][,id:...][,set:...][,address][,name][,lease][,ignore]`, in any order.
fn host(value: &str, origin: Origin, server: &mut DhcpServer) {
    let parts: Vec<&str> = value.split(',').map(str::trim).collect();
    let (mut hardware, mut name, mut found) = (None, None, Vec::new());
    for part in parts {
        let bare = part.trim_start_matches('[').trim_end_matches(']');
        if is_tag(part) || part.starts_with("id:") || matches!(part, "ignore" | "infinite") {
            continue;
        }
        if let Some(address) = addresses::single(bare) {
            found.push(address);
        } else if part.split(':').count() == 6 {
            hardware = Some(part);
        } else if part.contains(['.', ':']) && !addresses::is_name(part) {
            let why = addresses::what_is_wrong(part);
            server.malformed.push(MalformedAddress { why, origin });
        } else if !part.is_empty() && !part.starts_with(|first: char| first.is_ascii_digit()) {
            name = Some(part);
        }
    }
    let who = name.or(hardware).unwrap_or("any client").to_owned();
    server.reservations.extend(found.into_iter().map(|address| Reservation {
        who: who.clone(),
        address,
        origin,
    }));
}

/// Routers (3) and DNS servers (6; 23 for IPv6) sent to clients.
fn option(value: &str, origin: Origin, server: &mut DhcpServer) {
    let mut parts = value.split(',').map(str::trim).filter(|part| !is_tag(part));
    let Some(number) = parts.next() else { return };
    let number = number.trim_start_matches("option:").trim_start_matches("option6:");
    let name_server = match number {
        "3" | "router" => false,
        "6" | "23" | "dns-server" => true,
        _ => return,
    };
    let mut subnet = DhcpSubnet::new(None, origin);
    for part in parts {
        let text = part.trim_start_matches('[').trim_end_matches(']');
        // 0.0.0.0 stands for the machine that runs dnsmasq.
        if matches!(text, "0.0.0.0" | "::") {
            continue;
        }
        let told = addresses::take(text, origin, &mut server.malformed, addresses::single);
        let list = if name_server { &mut subnet.name_servers } else { &mut subnet.routers };
        list.extend(told.map(|told| (told, origin)));
    }
    server.subnets.push(subnet);
}

#[cfg(test)]
mod tests {
    use super::*;
    use trevlin_model::ExportId;

    fn told(text: &str) -> String {
        let export = Export::new(ExportId(0), "d/etc/dnsmasq.conf", text.into());
        let reading = read(&export, &ReadContext::default());
        let Some(server) = reading.facts.dhcp_servers.first() else { return "-".into() };
        let mut told: Vec<String> = Vec::new();
        for subnet in &server.subnets {
            told.extend(subnet.network.map(|net| format!("net {net}")));
            told.extend(subnet.ranges.iter().map(|(range, _)| range.to_string()));
            told.extend(subnet.routers.iter().map(|(range, _)| format!("router {range}")));
            told.extend(subnet.name_servers.iter().map(|(range, _)| format!("dns {range}")));
        }
        told.extend(server.reservations.iter().map(|one| format!("{}={}", one.who, one.address)));
        told.extend(server.malformed.iter().map(|bad| format!("! {}", bad.why)));
        told.join(", ")
    }

    #[test]
    fn lines() {
        for (text, wanted) in [
            ("dhcp-range=10.4.0.50,10.4.0.150,12h", "10.4.0.50-10.4.0.150"),
            (
                "dhcp-range=set:red,10.4.0.50,10.4.0.150,255.255.255.0,12h",
                "net 10.4.0.0/24, 10.4.0.50-10.4.0.150",
            ),
            ("dhcp-range=10.4.0.0,static", ""),
            (
                "dhcp-range=2001:db8::2, 2001:db8::500, 64, 12h",
                "net 2001:db8::/64, 2001:db8::2-2001:db8::500",
            ),
            ("dhcp-range=::100,::1ff,constructor:eth0", ""),
            (
                "dhcp-range=10.4.0.150,10.4.0.50",
                "! `10.4.0.150-10.4.0.50` runs backwards; 10.4.0.50-10.4.0.150 was probably intended",
            ),
            ("dhcp-host=02:00:5e:10:00:20,camera,10.4.0.60,infinite", "camera=10.4.0.60"),
            ("dhcp-host=02:00:5e:10:00:20,10.4.0.60", "02:00:5e:10:00:20=10.4.0.60"),
            ("dhcp-host=lamp,10.4.0.61 # kept", "lamp=10.4.0.61"),
            ("dhcp-host=lamp,10.4.0.461", "! `10.4.0.461` has the number 461; none may be over 255"),
            (
                "dhcp-option=option:router,10.4.0.1\ndhcp-option=6,10.4.0.53,0.0.0.0",
                "router 10.4.0.1, dns 10.4.0.53",
            ),
            ("#dhcp-range=10.4.0.50,10.4.0.150", "-"),
        ] {
            assert_eq!(told(text), wanted, "{text}");
        }
    }

    #[test]
    fn who_has_names_looked_up() {
        for (text, wanted) in [
            ("domain-needed\n", Some("None 53 any address")),
            ("interface=eth1\nport=5353\n", Some("None%eth1 5353 any address")),
            (
                "listen-address=127.0.0.1,10.4.0.9\n",
                Some("Some(127.0.0.1) 53, Some(10.4.0.9) 53 any address"),
            ),
            ("local-service\n", Some("None 53 its connected networks")),
            ("port=0\ndhcp-range=10.4.0.50,10.4.0.150\n", None),
            ("# port=0\n", None),
        ] {
            let export = Export::new(ExportId(0), "d/etc/dnsmasq.conf", text.into());
            let reading = read(&export, &ReadContext::of(vec![&export]));
            let told = reading.facts.served.first().map(|served| {
                let udp = served.endpoints.iter().filter(|one| one.protocol == Protocol::UDP);
                let places: Vec<String> = udp
                    .map(|one| {
                        let interface =
                            one.interface.as_ref().map(|name| format!("%{name}")).unwrap_or_default();
                        format!("{:?}{interface} {}", one.address, one.port)
                    })
                    .collect();
                format!("{} {}", places.join(", "), served.parts[0].sources.words())
            });
            assert_eq!(told.as_deref(), wanted, "{text}");
        }
        let main = Export::new(ExportId(0), "d/etc/dnsmasq.conf", "domain-needed\n".into());
        let more = Export::new(ExportId(1), "d/etc/dnsmasq.d/a.conf", "port=0\n".into());
        let around = ReadContext::of(vec![&main, &more]);
        assert!(read(&main, &around).facts.served.is_empty() && read(&more, &around).facts.served.is_empty());
    }

    #[test]
    fn what_the_daemon_refuses_is_told() {
        let export = Export::new(ExportId(0), "d/etc/dnsmasq.d/x", "wobble=3\ndomain-needed\n".into());
        let reading = read(&export, &ReadContext::default());
        assert_eq!(reading.ledger.class(1), Some(LineClass::NotUnderstood));
        assert_eq!(reading.ledger.class(2), Some(LineClass::Ignored));
        assert!(reading.facts.dhcp_servers.is_empty());
    }
}
