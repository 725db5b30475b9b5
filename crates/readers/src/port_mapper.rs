//! `miniupnpd.conf`: a service that opens ports for hosts which ask by UPnP, NAT-PMP or PCP.
//!
//! Format: miniupnpd(8) and the remarks in the file that comes with it.

use crate::addresses::range_or_prefix;
use crate::reader::{LineRecorder, ReadContext, Reader, Reading, Recognition};
use trevlin_model::listen::{Permission, PortMapper};
use trevlin_model::{Export, LineClass, Origin, PortRange};

/// The reader.
pub(crate) const READER: Reader = Reader {
    name: "port-mapper",
    title: "UPnP/NAT-PMP port mapping service (miniupnpd)",
    manual: "miniupnpd(8)",
    recognise,
    read,
};

/// Keywords that do not affect the permissions.
const PASSED_OVER: [&str; 43] = [
    "anchor",
    "bitrate_down",
    "bitrate_up",
    "clean_ruleset_interval",
    "clean_ruleset_threshold",
    "ext_allow_private_ipv4",
    "ext_ifname6",
    "ext_ip",
    "ext_perform_stun",
    "ext_stun_host",
    "ext_stun_port",
    "force_igd_desc_v1",
    "friendly_name",
    "https_port",
    "ipv6_disable",
    "ipv6_listening_ip",
    "lease_file",
    "lease_file6",
    "manufacturer_name",
    "manufacturer_url",
    "max_lifetime",
    "min_lifetime",
    "minissdpdsocket",
    "model_description",
    "model_name",
    "model_number",
    "model_url",
    "notify_interval",
    "packet_log",
    "presentation_url",
    "queue",
    "quickrules",
    "serial",
    "system_uptime",
    "tag",
    "upnp_forward_chain",
    "upnp_nat_chain",
    "upnp_nat_postrouting_chain",
    "upnp_nat_table_name",
    "upnp_table_name",
    "uuid",
    "ext_ifname",
    "listening_ip6",
];

fn recognise(export: &Export) -> Recognition {
    let says = |keys: &[&str]| {
        export
            .lines()
            .any(|line| line.text.split_once('=').is_some_and(|(key, _)| keys.contains(&key.trim())))
    };
    if says(&["enable_natpmp", "enable_upnp", "enable_pcp_pmp"])
        && says(&["ext_ifname", "listening_ip", "secure_mode"])
    {
        Recognition::Content
    } else if export.file_name().starts_with("miniupnpd") && export.file_name().ends_with(".conf") {
        Recognition::Name
    } else {
        Recognition::No
    }
}

fn read(export: &Export, _: &ReadContext<'_>) -> Reading {
    let mut reading = Reading::of(export);
    let mut book = LineRecorder::new(export, &mut reading.ledger, &mut reading.elsewhere);
    // Defaults: UPnP is enabled, the others are not, and a host may request ports for others.
    let mut mapper = PortMapper {
        upnp: true,
        nat_pmp: false,
        own_only: false,
        port: None,
        listens: Vec::new(),
        permissions: Vec::new(),
        origin: export.origin(0..0),
    };
    for line in export.lines() {
        let text = line.text.trim();
        if text.is_empty() || text.starts_with('#') {
            continue;
        }
        let origin = export.origin_of(text);
        if let Some(rule) = text.strip_prefix("allow").or_else(|| text.strip_prefix("deny"))
            && rule.starts_with([' ', '\t'])
        {
            match permission(text.starts_with("allow"), rule, origin) {
                Some(one) => {
                    book.understood(origin);
                    mapper.permissions.push(one);
                }
                None => book.not_understood(
                    origin,
                    "expected external ports, a network and internal ports, such as `allow 1024-65535 10.4.0.0/24 1024-65535`",
                ),
            }
            continue;
        }
        let Some((key, value)) = text.split_once('=').map(|(key, value)| (key.trim(), value.trim())) else {
            book.not_understood(origin, "expected `name=value`, `allow …` or `deny …`");
            continue;
        };
        let yes = matches!(value, "yes" | "true" | "1" | "on");
        match key {
            "enable_upnp" => mapper.upnp = yes,
            "enable_natpmp" | "enable_pcp_pmp" => mapper.nat_pmp = yes,
            "secure_mode" => mapper.own_only = yes,
            "port" | "http_port" => {
                mapper.port = value.parse().ok().filter(|port| *port != 0).map(|port| (port, origin))
            }
            "listening_ip" => mapper.listens.push((value.to_owned(), origin)),
            key if PASSED_OVER.contains(&key) => {
                book.class(origin, LineClass::Ignored);
                continue;
            }
            _ => {
                book.not_understood(origin, "not a keyword of miniupnpd; the service ignores it");
                continue;
            }
        }
        if mapper.origin.end == 0 || key == "enable_upnp" {
            mapper.origin = origin;
        }
        book.understood(origin);
    }
    reading.facts.port_mappers.push(mapper);
    reading
}

/// External ports, a network, internal ports.
fn permission(allows: bool, rule: &str, origin: Origin) -> Option<Permission> {
    let mut words = rule.split_whitespace();
    let (outside, hosts, inside) = (ports(words.next()?)?, words.next()?, ports(words.next()?)?);
    let hosts = range_or_prefix(hosts)?;
    Some(Permission { allows, outside, hosts, inside, origin })
}

fn ports(text: &str) -> Option<PortRange> {
    let (first, last) = text.split_once('-').unwrap_or((text, text));
    let (first, last) = (first.parse().ok()?, last.parse().ok()?);
    (first <= last).then_some(PortRange { first, last })
}

#[cfg(test)]
mod tests {
    use super::*;
    use trevlin_model::ExportId;

    fn of(text: &str) -> Reading {
        let export = Export::new(ExportId(0), "d/etc/miniupnpd/miniupnpd.conf", text.into());
        read(&export, &ReadContext::default())
    }

    #[test]
    fn what_is_on_and_who_may_ask() {
        for (text, wanted) in [
            ("ext_ifname=eth0\n", (true, false, false, 0)),
            ("enable_upnp=no\nenable_natpmp=yes\n", (false, true, false, 0)),
            ("# enable_upnp=no\nsecure_mode=yes\n", (true, false, true, 0)),
            (
                "allow 1024-65535 10.4.0.0/24 1024-65535\ndeny 0-65535 0.0.0.0/0 0-65535\n",
                (true, false, false, 2),
            ),
        ] {
            let reading = of(text);
            let one = &reading.facts.port_mappers[0];
            assert_eq!((one.upnp, one.nat_pmp, one.own_only, one.permissions.len()), wanted, "{text}");
            assert!(reading.ledger.notes.is_empty(), "{text}: {:?}", reading.ledger.notes);
        }
        assert_eq!(of("http_port=5000\n").facts.port_mappers[0].port.map(|one| one.0), Some(5000));
    }

    #[test]
    fn what_is_wrong_is_told() {
        for text in ["colour=red\n", "allow 9-1 10.4.0.0/24 1\n", "deny all\n", "nothing\n"] {
            assert_eq!(of(text).ledger.notes.len(), 1, "{text}");
        }
    }
}
