//! `ip -j route show`.

use super::{elements, inside_quotes, recognise, settle, whole};
use crate::json::Source;
use crate::reader::{LineRecorder, ReadContext, Reader, Reading};
use ipnet::IpNet;
use serde::Deserialize;
use serde_json::value::RawValue;
use std::net::{IpAddr, Ipv4Addr, Ipv6Addr};
use trevlin_model::{Export, Family, Origin, Route};

/// The reader.
pub(crate) const READER: Reader = Reader {
    name: "ip-route",
    title: "routes (ip -j route show)",
    manual: "ip-route(8)",
    recognise: |export| recognise(export, ["\"dst\"", "\"flags\""], ["ip-route", "ip-r."]),
    read,
};

#[derive(Deserialize)]
struct Entry<'a> {
    #[serde(borrow)]
    dst: Option<&'a RawValue>,
    gateway: Option<IpAddr>,
    via: Option<Via>,
    dev: Option<String>,
    #[serde(rename = "type")]
    kind: Option<String>,
    prefsrc: Option<IpAddr>,
    #[serde(default)]
    nexthops: Vec<Hop>,
}

#[derive(Deserialize)]
struct Hop {
    gateway: Option<IpAddr>,
    via: Option<Via>,
    dev: Option<String>,
}

/// A next hop of another IP version than the destination.
#[derive(Deserialize)]
struct Via {
    host: Option<IpAddr>,
}

/// Types of route that carry packets on (ip-route(8), TYPE).
const FORWARDING: [&str; 2] = ["unicast", "nat"];

fn read(export: &Export, _: &ReadContext<'_>) -> Reading {
    let mut reading = Reading::of(export);
    let source = Source::of(export);
    let (entries, broken) = elements(&source);
    let mut book = LineRecorder::new(export, &mut reading.ledger, &mut reading.elsewhere);
    settle(&source, &mut book, broken);
    let parsed: Vec<_> = whole(&source, entries, &mut book)
        .into_iter()
        .map(|raw| (source.origin(raw.get()), serde_json::from_str::<Entry<'_>>(raw.get())))
        .collect();
    // A default route without a gateway does not tell its IP version; the dump holds one version as a rule.
    let usual =
        parsed.iter().filter_map(|(_, entry)| family(entry.as_ref().ok()?)).next().unwrap_or(Family::V4);
    for (origin, entry) in parsed {
        let place = |entry: &Entry<'_>| entry.dst.map_or(origin, |dst| inside_quotes(&source, dst));
        match entry.ok().and_then(|entry| routes(&entry, usual, place(&entry))) {
            Some(routes) => reading.facts.routes.extend(routes),
            None => {
                book.not_understood(origin, "expected a route as `ip -j route show` prints it, with `dst`")
            }
        }
    }
    reading
}

/// The text of `dst`; addresses and the words used there need no escapes.
fn destination<'a>(entry: &Entry<'a>) -> Option<&'a str> {
    entry.dst.map(|raw| raw.get().trim_matches('"'))
}

fn family(entry: &Entry<'_>) -> Option<Family> {
    let destination = destination(entry).filter(|text| *text != "default" && *text != "all");
    let written = destination.map(|text| if text.contains(':') { Family::V6 } else { Family::V4 });
    written
        .or_else(|| entry.prefsrc.or(entry.gateway).map(Family::of))
        .or_else(|| entry.nexthops.iter().find_map(|hop| hop.gateway).map(Family::of))
}

/// The route, once for each next hop; an empty object is none.
fn routes(entry: &Entry<'_>, usual: Family, origin: Origin) -> Option<Vec<Route>> {
    let Some(text) = destination(entry) else {
        return (entry.dev.is_none() && entry.gateway.is_none() && entry.nexthops.is_empty()).then(Vec::new);
    };
    let destination = match text {
        "default" | "all" => match family(entry).unwrap_or(usual) {
            Family::V4 => IpNet::new(Ipv4Addr::UNSPECIFIED.into(), 0).ok()?,
            Family::V6 => IpNet::new(Ipv6Addr::UNSPECIFIED.into(), 0).ok()?,
        },
        text if text.contains('/') => text.parse::<IpNet>().ok()?.trunc(),
        text => text.parse::<IpAddr>().ok()?.into(),
    };
    let forwards = entry.kind.as_deref().is_none_or(|kind| FORWARDING.contains(&kind));
    let route =
        |gateway, interface| Route { destination, gateway, interface, preference: None, forwards, origin };
    let host = |via: &Option<Via>| via.as_ref().and_then(|via| via.host);
    if entry.nexthops.is_empty() {
        return Some(vec![route(entry.gateway.or(host(&entry.via)), entry.dev.clone())]);
    }
    Some(entry.nexthops.iter().map(|hop| route(hop.gateway.or(host(&hop.via)), hop.dev.clone())).collect())
}

#[cfg(test)]
mod tests {
    use super::*;
    use trevlin_model::ExportId;

    #[test]
    fn routes_as_printed() {
        for (entry, wanted) in [
            (
                r#"{"dst":"default","gateway":"192.0.2.1","dev":"eth0","flags":[]}"#,
                "0.0.0.0/0 192.0.2.1 eth0 true",
            ),
            (r#"{"dst":"default","dev":"ppp0","flags":[]}"#, "0.0.0.0/0 - ppp0 true"),
            (r#"{"dst":"default","gateway":"fe80::1","dev":"eth0"}"#, "::/0 fe80::1 eth0 true"),
            (
                r#"{"dst":"default","via":{"family":"inet6","host":"fe80::1"},"dev":"eth0"}"#,
                "0.0.0.0/0 fe80::1 eth0 true",
            ),
            (r#"{"dst":"10.4.0.0/16","dev":"eth1","prefsrc":"10.4.0.1"}"#, "10.4.0.0/16 - eth1 true"),
            (r#"{"dst":"10.9.0.7","gateway":"10.4.0.2","dev":"eth1"}"#, "10.9.0.7/32 10.4.0.2 eth1 true"),
            (r#"{"type":"blackhole","dst":"10.0.0.0/8","flags":[]}"#, "10.0.0.0/8 - - false"),
            (
                r#"{"dst":"default","nexthops":[{"gateway":"192.0.2.1","dev":"a"},{"gateway":"192.0.2.2","dev":"b"}]}"#,
                "0.0.0.0/0 192.0.2.1 a true, 0.0.0.0/0 192.0.2.2 b true",
            ),
            ("{}", ""),
        ] {
            let export = Export::new(ExportId(0), "x.json", format!("[{entry}]"));
            let reading = read(&export, &ReadContext::default());
            let told: Vec<_> = reading.facts.routes.iter().map(show).collect();
            assert_eq!(told.join(", "), wanted, "{entry}");
            assert!(reading.ledger.notes.is_empty(), "{entry}");
        }
    }

    fn show(route: &Route) -> String {
        let gateway = route.gateway.map_or("-".into(), |gateway| gateway.to_string());
        format!(
            "{} {gateway} {} {}",
            route.destination,
            route.interface.as_deref().unwrap_or("-"),
            route.forwards
        )
    }

    #[test]
    fn a_bad_route_is_a_note_and_the_rest_is_read() {
        let text =
            "[{\"dst\":\"10.0.0.0/99\",\"flags\":[]},\n{\"dst\":\"10.4.0.0/16\",\"dev\":\"e\"},\n{\"dst\":";
        let export = Export::new(ExportId(0), "x.json", text.into());
        let reading = read(&export, &ReadContext::default());
        assert_eq!(reading.facts.routes.len(), 1);
        let lines: Vec<_> =
            reading.ledger.notes.iter().map(|note| export.line_of(note.origin.start)).collect();
        assert_eq!(lines, [3, 1]);
    }
}
