//! `kea-dhcp4.conf` and `kea-dhcp6.conf` (kea-dhcp4(8)): JSON with comments of three kinds and includes.

use crate::addresses;
use crate::json::Source;
use crate::reader::{LineRecorder, ReadContext, Reader, Reading, Recognition};
use ipnet::IpNet;
use serde_json::value::RawValue;
use std::borrow::Cow;
use std::collections::BTreeMap;
use std::sync::Arc;
use trevlin_model::dhcp::{DhcpServer, DhcpSubnet, Reservation};
use trevlin_model::plan::Placed;
use trevlin_model::secret::SecretKind;
use trevlin_model::{Export, Gap, GapKind, NotAnalysed, Origin, Secret, SecretRecord};

/// The reader.
pub(crate) const READER: Reader = Reader {
    name: "kea",
    title: "Kea DHCP server configuration",
    manual: "Kea Administrator Reference Manual, 8 and 9",
    recognise,
    read,
};

/// How deep values are followed.
const DEPTH: usize = 32;

fn recognise(export: &Export) -> Recognition {
    let text = export.text();
    let mut end = text.len().min(16_384);
    while !text.is_char_boundary(end) {
        end -= 1;
    }
    let head = &text[..end];
    if head.contains('{') && ["\"Dhcp4\"", "\"Dhcp6\""].iter().any(|name| head.contains(name)) {
        Recognition::Content
    } else if export.file_name().starts_with("kea-dhcp") && export.file_name().ends_with(".conf") {
        Recognition::Name
    } else {
        Recognition::No
    }
}

/// The text with every comment, include and comma before a closing bracket made blank, so that it is plain JSON of the
/// same length; and the places of includes.
fn plain(text: &str) -> (String, Vec<std::ops::Range<usize>>) {
    let bytes = text.as_bytes();
    let mut out = bytes.to_vec();
    let mut includes = Vec::new();
    let mut comma: Option<usize> = None;
    let mut at = 0;
    while at < bytes.len() {
        let rest = &bytes[at..];
        let until = |end: &[u8]| {
            rest.windows(end.len())
                .skip(1)
                .position(|window| window == end)
                .map_or(rest.len(), |found| found + 1 + end.len())
        };
        let blank = if rest.starts_with(b"//") || rest.starts_with(b"#") {
            rest.iter().position(|byte| *byte == b'\n').unwrap_or(rest.len())
        } else if rest.starts_with(b"/*") {
            until(b"*/")
        } else if rest.starts_with(b"<?") {
            let length = until(b"?>");
            includes.push(at..at + length);
            length
        } else {
            0
        };
        if blank > 0 {
            for byte in &mut out[at..at + blank] {
                if *byte != b'\n' {
                    *byte = b' ';
                }
            }
            at += blank;
            continue;
        }
        match rest[0] {
            b'"' => {
                let mut end = 1;
                while end < rest.len() && rest[end] != b'"' {
                    end += if rest[end] == b'\\' { 2 } else { 1 };
                }
                at += end;
                comma = None;
            }
            b',' => comma = Some(at),
            b']' | b'}' => {
                if let Some(comma) = comma.take() {
                    out[comma] = b' ';
                }
            }
            byte if byte.is_ascii_whitespace() => {}
            _ => comma = None,
        }
        at += 1;
    }
    (String::from_utf8(out).unwrap_or_default(), includes)
}

type Map<'a> = BTreeMap<Cow<'a, str>, &'a RawValue>;

struct State<'a> {
    export: &'a Export,
    source: &'a Source<'a>,
    server: DhcpServer,
    reading: Reading,
}

/// Settings of a server that databases hold in part (Kea Administrator Reference Manual, 8.2.3 and 8.2.4).
const DATABASES: &[(&str, &str)] = &[
    ("hosts-database", "reservations"),
    ("hosts-databases", "reservations"),
    ("config-control", "networks"),
];

fn read(export: &Export, _: &ReadContext<'_>) -> Reading {
    let mut reading = Reading::of(export);
    let (text, includes) = plain(export.text());
    let mut book = LineRecorder::new(export, &mut reading.ledger, &mut reading.elsewhere);
    let whole = export.origin(0..export.text().len().max(1));
    let source = Source::of_text(export, Cow::Owned(text));
    let top: Map<'_> = serde_json::from_str(source.text()).unwrap_or_default();
    source.settle(&mut book, "the server refuses the file");
    if let Some(broken) = source.broken {
        let what = if top.is_empty() { "that is broken" } else { "of which a part is broken" };
        reading.facts.not_analysed.push(NotAnalysed {
            what: format!("a DHCP server's configuration {what}"),
            may_serve: None,
            filters_packets: false,
            apart: false,
            only_blocks: false,
            origin: export.origin(broken.offset..broken.offset + 1),
        });
    }
    for span in includes {
        book.not_understood(
            export.origin(span),
            "an include is not followed, so its content is missing here; export the configuration with `config-get`",
        );
    }
    let mut state =
        State { export, source: &source, server: DhcpServer::new("Kea", export.file_name(), whole), reading };
    for (name, suffix) in [("Dhcp4", "4"), ("Dhcp6", "6")] {
        let Some(dhcp) = top.get(name).and_then(|raw| object(raw)) else { continue };
        // Its first line is enough to cite; comments in the rest are not read.
        let whole = state.origin(top[name]);
        state.server.origin = Origin { end: whole.start + 1, ..whole };
        state.secrets(top[name], "", 0);
        // As shipped by packages: examples of everything, and no interface that is served.
        let broken = source.broken.is_some() && !dhcp.contains_key("interfaces-config");
        if !broken
            && dhcp
                .get("interfaces-config")
                .and_then(|raw| object(raw))
                .is_none_or(|map| list(&map, "interfaces").is_empty())
        {
            let origin = state.server.origin;
            state.reading.facts.not_analysed.push(NotAnalysed {
                what: "a DHCP server configuration without interfaces, so it serves no client".into(),
                may_serve: None,
                filters_packets: false,
                apart: false,
                only_blocks: false,
                origin: Origin { end: origin.start + 1, ..origin },
            });
            continue;
        }
        // Reserved addresses in a pool are excluded, unless reservations are disabled.
        let out_of_pool = dhcp.get("reservations-out-of-pool").is_some_and(|raw| raw.get() == "true");
        state.server.keeps_reserved = !out_of_pool;
        state.scope(&dhcp, suffix, 0);
        for (key, what) in DATABASES {
            let stated = dhcp.get(*key).filter(|raw| !matches!(raw.get(), "[]" | "{}" | "null"));
            if let Some(raw) = stated {
                let origin = state.origin(raw);
                let origin = Origin { end: origin.start + 1, ..origin };
                state.reading.ledger.gaps.push(Gap { kind: GapKind::InDatabase(what), origin });
            }
        }
        for raw in list(&dhcp, "hooks-libraries") {
            if raw.get().contains("libdhcp_ha") {
                state.server.partner = Some(state.origin(raw));
            }
        }
    }
    let mut reading = state.reading;
    let mut book = LineRecorder::new(export, &mut reading.ledger, &mut reading.elsewhere);
    for bad in &state.server.malformed {
        book.not_understood(bad.origin, bad.why.clone());
    }
    let stated = state.server.subnets.iter().any(|net| net.network.is_some() || !net.ranges.is_empty());
    if stated || !state.server.reservations.is_empty() || !state.server.malformed.is_empty() {
        reading.facts.dhcp_servers.push(state.server);
    }
    reading
}

fn object(raw: &RawValue) -> Option<Map<'_>> {
    serde_json::from_str(raw.get()).ok()
}

fn list<'a>(map: &Map<'a>, name: &str) -> Vec<&'a RawValue> {
    map.get(name).and_then(|raw| serde_json::from_str(raw.get()).ok()).unwrap_or_default()
}

fn string(raw: &RawValue) -> Option<String> {
    serde_json::from_str(raw.get()).ok()
}

impl<'a> State<'a> {
    fn origin(&self, raw: &RawValue) -> Origin {
        self.source.origin(raw.get())
    }

    fn text(&self, map: &Map<'_>, name: &str) -> Option<(String, Origin)> {
        let raw = map.get(name)?;
        Some((string(raw)?, self.origin(raw)))
    }

    /// A level that may hold subnets, reservations and options.
    fn scope(&mut self, map: &Map<'_>, suffix: &str, depth: usize) {
        if depth > DEPTH {
            return;
        }
        let at = self.origin_of_map(map);
        let mut common = DhcpSubnet::new(None, at);
        self.options(map, &mut common);
        if !common.routers.is_empty() || !common.name_servers.is_empty() {
            self.server.subnets.push(common);
        }
        self.reservations(map);
        for raw in list(map, &format!("subnet{suffix}")) {
            if let Some(subnet) = object(raw) {
                self.subnet(&subnet, raw);
            }
        }
        for raw in list(map, "shared-networks") {
            if let Some(shared) = object(raw) {
                self.scope(&shared, suffix, depth + 1);
            }
        }
    }

    fn origin_of_map(&self, map: &Map<'_>) -> Origin {
        map.values().next().map_or(self.server.origin, |raw| self.origin(raw))
    }

    fn subnet(&mut self, map: &Map<'_>, raw: &RawValue) {
        let stated = self.text(map, "subnet");
        let mut subnet =
            DhcpSubnet::new(None, stated.as_ref().map_or_else(|| self.origin(raw), |(_, at)| *at));
        if let Some((text, origin)) = stated {
            subnet.network =
                addresses::take(&text, origin, &mut self.server.malformed, |text| text.parse::<IpNet>().ok())
                    .map(|net| net.trunc());
        }
        for raw in list(map, "pools") {
            let Some((text, origin)) = object(raw).and_then(|pool| self.text(&pool, "pool")) else {
                continue;
            };
            let range =
                addresses::take(&text, origin, &mut self.server.malformed, addresses::range_or_prefix);
            subnet.ranges.extend(range.map(|range| (range, origin)));
        }
        // Prefixes that are delegated lie outside of the subnet by design.
        let mut delegated = DhcpSubnet::new(None, subnet.origin);
        for raw in list(map, "pd-pools") {
            let Some(pool) = object(raw) else { continue };
            let Some((prefix, origin)) = self.text(&pool, "prefix") else { continue };
            let length = pool.get("prefix-len").map_or("128", |raw| raw.get());
            let text = format!("{prefix}/{length}");
            let range =
                addresses::take(&text, origin, &mut self.server.malformed, addresses::range_or_prefix);
            delegated.ranges.extend(range.map(|range| (range, origin)));
        }
        self.options(map, &mut subnet);
        self.reservations(map);
        self.server.subnets.push(subnet);
        if !delegated.ranges.is_empty() {
            self.server.subnets.push(delegated);
        }
    }

    fn options(&mut self, map: &Map<'_>, subnet: &mut DhcpSubnet) {
        for raw in list(map, "option-data") {
            let Some(option) = object(raw) else { continue };
            let code = option.get("code").map_or("", |raw| raw.get());
            let name = self.text(&option, "name").map(|(name, _)| name).unwrap_or_default();
            let Some((data, origin)) = self.text(&option, "data") else { continue };
            let mut told: Vec<Placed> = Vec::new();
            let is_router = name == "routers" || code == "3";
            if !is_router
                && !matches!(
                    (name.as_str(), code),
                    ("domain-name-servers" | "dns-servers", _) | (_, "6" | "23")
                )
            {
                continue;
            }
            for part in data.split(',').map(str::trim) {
                let address = addresses::take(part, origin, &mut self.server.malformed, addresses::single);
                told.extend(address.map(|address| (address, origin)));
            }
            let known = if is_router { &mut subnet.routers } else { &mut subnet.name_servers };
            known.append(&mut told);
        }
    }

    fn reservations(&mut self, map: &Map<'_>) {
        for raw in list(map, "reservations") {
            let Some(one) = object(raw) else { continue };
            let who = ["hostname", "hw-address", "duid", "client-id", "circuit-id", "flex-id"]
                .iter()
                .find_map(|name| self.text(&one, name))
                .map_or_else(|| "a client".to_owned(), |(who, _)| who);
            let mut stated: Vec<(String, Origin)> = self.text(&one, "ip-address").into_iter().collect();
            for name in ["ip-addresses", "prefixes"] {
                for raw in list(&one, name) {
                    stated.extend(string(raw).map(|text| (text, self.origin(raw))));
                }
            }
            for (text, origin) in stated {
                let address =
                    addresses::take(&text, origin, &mut self.server.malformed, addresses::range_or_prefix);
                self.server.reservations.extend(address.map(|address| Reservation {
                    who: who.clone(),
                    address,
                    origin,
                }));
            }
        }
    }

    /// Passwords of databases and control channels, at any place.
    fn secrets(&mut self, raw: &RawValue, within: &str, depth: usize) {
        if depth > DEPTH {
            return;
        }
        if let Some(map) = object(raw) {
            for (name, value) in &map {
                match string(value).filter(|text| !text.is_empty()) {
                    Some(text) if matches!(name.as_ref(), "password" | "secret") => {
                        let origin = self.origin(value);
                        self.reading.facts.secrets.push(Arc::new(SecretRecord {
                            secret: Secret::new(text),
                            kind: SecretKind::OwnPassword,
                            owner: format!("{within} in {}", self.export.file_name()).trim_start().to_owned(),
                            origin: Origin { start: origin.start + 1, end: origin.end - 1, ..origin },
                        }));
                    }
                    _ => self.secrets(value, name, depth + 1),
                }
            }
        } else if let Ok(list) = serde_json::from_str::<Vec<&RawValue>>(raw.get()) {
            for value in list {
                self.secrets(value, within, depth + 1);
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;
    use trevlin_model::{ExportId, LineClass};

    const TEXT: &str = r#"// harbour
{ "Dhcp4": { # the LAN
  "interfaces-config": { "interfaces": [ "eth1" ] },
  "lease-database": { "type": "mysql", "password": "se\"same" },
  "option-data": [ { "name": "domain-name-servers", "data": "10.4.0.53, 10.4.0.54" } ],
  /* two
     networks */
  "subnet4": [ { "id": 1, "subnet": "10.4.0.0/24",
      "pools": [ { "pool": "10.4.0.50 - 10.4.0.99" }, { "pool": "10.4.0.128/26" }, ],
      "reservations": [ { "hw-address": "02:00:5e:10:00:20", "ip-address": "10.4.0.60" } ] } ],
  "shared-networks": [ { "name": "x", "subnet4": [ { "id": 2, "subnet": "10.5.0.0/24", "pools": [ { "pool": "10.5.0.300-310" } ] } ] } ]
} }
"#;

    fn read_text(text: &str) -> (Reading, Export) {
        let export = Export::new(ExportId(0), "d/etc/kea/kea-dhcp4.conf", text.into());
        (read(&export, &ReadContext::default()), export)
    }

    #[test]
    fn subnets_pools_and_reservations() {
        let (reading, export) = read_text(TEXT);
        let server = &reading.facts.dhcp_servers[0];
        let told: Vec<_> = server
            .subnets
            .iter()
            .map(|net| {
                let ranges: Vec<_> = net
                    .ranges
                    .iter()
                    .map(|(range, at)| format!("{}@{}", range.short(), export.line_of(at.start)))
                    .collect();
                format!(
                    "{:?} {} {}",
                    net.network.map(|net| net.to_string()),
                    ranges.join(" "),
                    net.name_servers.len()
                )
            })
            .collect();
        assert_eq!(
            told,
            [
                "None  2",
                "Some(\"10.4.0.0/24\") 10.4.0.50-10.4.0.99@9 10.4.0.128/26@9 0",
                "Some(\"10.5.0.0/24\")  0",
            ]
        );
        assert_eq!(server.reservations[0].who, "02:00:5e:10:00:20");
        assert!(server.malformed[0].why.contains("none may be over 255"));
        assert!(server.keeps_reserved);
        assert_eq!(reading.facts.secrets.len(), 1);
        assert_eq!(reading.ledger.class(11), Some(LineClass::NotUnderstood));
    }

    #[test]
    fn what_is_broken_is_told_at_its_line() {
        let (reading, export) = read_text("{ \"Dhcp4\": {\n \"subnet4\": [ { ] } }\n");
        assert!(reading.facts.dhcp_servers.is_empty());
        assert_eq!(export.position(reading.ledger.notes[0].origin.start).line, 2);
        let idle = TEXT.replace("\"eth1\"", "/* eth1 */");
        assert!(
            read_text(&idle).0.facts.dhcp_servers.is_empty(),
            "a DHCP server configuration without interfaces, so it serves no client"
        );
        let (reading, _) = read_text("{ \"Dhcp4\": { <?include \"x\"?> } }\n");
        assert!(reading.ledger.notes[0].text.contains("an include is not followed, so its content is missing here; export the configuration with `config-get`"));
    }

    proptest! {
        #[test]
        fn blanks_keep_every_place(text in "[a-c\"\\\\#/*<?>,{}\\]\n ü]{0,60}") {
            let (plain, _) = plain(&text);
            prop_assert!(plain.is_empty() || plain.len() == text.len());
            for (at, byte) in plain.bytes().enumerate() {
                prop_assert!(byte == text.as_bytes()[at] || byte == b' ');
            }
        }
    }
}
