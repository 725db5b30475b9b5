//! `xl2tpd.conf` (xl2tpd.conf(5)): servers that accept clients, and clients of other servers.

use crate::addresses;
use crate::ini::{before_comment, sections};
use crate::reader::{LineRecorder, ReadContext, Reader, Reading, Recognition};
use std::net::IpAddr;
use trevlin_model::plan::AddressPlan;
use trevlin_model::{Export, LineClass, Listener, Pool, Protocol, Setting, Tunnel, TunnelFamily, TunnelRole};

/// The reader.
pub(crate) const READER: Reader =
    Reader { name: "xl2tpd", title: "L2TP daemon configuration", manual: "xl2tpd.conf(5)", recognise, read };

fn recognise(export: &Export) -> Recognition {
    let tells = |line: &str| line.starts_with("[lns ") || line.starts_with("[lac ");
    if export.lines().any(|line| tells(line.text.trim())) {
        Recognition::Content
    } else if export.file_name() == "xl2tpd.conf" {
        Recognition::Name
    } else {
        Recognition::No
    }
}

/// Keys of the daemon as a whole that checks judge.
const GLOBAL: [&str; 5] = ["auth file", "ipsec saref", "listen-addr", "access control", "port"];
/// Other keys of it (xl2tpd.conf(5), GLOBAL SECTION).
const GLOBAL_OTHERS: [&str; 9] = [
    "debug avp",
    "debug network",
    "debug packet",
    "debug state",
    "debug tunnel",
    "force userspace",
    "max retries",
    "rand source",
    "saref refinfo",
];
/// Keys of a server or a client that become facts.
const SECTION: [&str; 19] = [
    "assign ip",
    "challenge",
    "ip range",
    "local ip",
    "local ip range",
    "lns",
    "name",
    "no ip range",
    "pppoptfile",
    "refuse authentication",
    "refuse chap",
    "refuse pap",
    "require authentication",
    "require chap",
    "require pap",
    "unix authentication",
    "lac",
    "no lac",
    "autodial",
];
/// Others without bearing.
const SECTION_OTHERS: [&str; 17] = [
    "call rws",
    "capability",
    "exclusive",
    "flow bit",
    "flow bits",
    "hidden bit",
    "hostname",
    "length bit",
    "max redials",
    "pass peer",
    "ppp debug",
    "redial",
    "redial timeout",
    "rx bps",
    "tunnel rws",
    "tx bps",
    "bps",
];

fn read(export: &Export, _: &ReadContext<'_>) -> Reading {
    let mut reading = Reading::of(export);
    let all = sections(export, &[';', '#']);
    let said = |entry: &crate::ini::Entry<'_>| {
        let value = before_comment(entry.value, &[';']).to_owned();
        (entry.key.to_owned(), Setting::Stated { value, origin: entry.origin })
    };
    let global = all.iter().filter(|one| one.name == "global").flat_map(|one| &one.entries);
    // Said again, the later one holds.
    let mut settings: Vec<(String, Setting<String>)> = Vec::new();
    for entry in global.filter(|entry| GLOBAL.contains(&entry.key)) {
        settings.retain(|(key, _)| key != entry.key);
        settings.push(said(entry));
    }
    for section in all {
        let mut book = LineRecorder::new(export, &mut reading.ledger, &mut reading.elsewhere);
        if !section.name.is_empty() {
            book.class(section.origin, LineClass::Understood);
        }
        let serves = section.name.starts_with("lns");
        for entry in &section.entries {
            let (facts, others) = match section.name {
                "global" => (&GLOBAL[..], &GLOBAL_OTHERS[..]),
                _ => (&SECTION[..], &SECTION_OTHERS[..]),
            };
            if facts.contains(&entry.key) {
                book.understood(entry.origin);
            } else if others.contains(&entry.key) {
                book.class(entry.origin, LineClass::Ignored);
            } else {
                book.not_understood(
                    entry.origin,
                    "not a key of xl2tpd.conf(5) in this section; the daemon does not start with it",
                );
            }
        }
        if !serves {
            if section.name.starts_with("lac") {
                let name = format!("L2TP client {}", section.name.trim_start_matches("lac").trim());
                let mut tunnel =
                    Tunnel::new(name.trim_end(), TunnelFamily::L2tp, TunnelRole::Client, section.origin);
                tunnel
                    .settings
                    .extend(section.entries.iter().filter(|one| SECTION.contains(&one.key)).map(said));
                reading.facts.tunnels.push(tunnel);
            }
            continue;
        }
        let title = match section.name.trim_start_matches("lns").trim() {
            "default" | "" => "L2TP server".to_owned(),
            name => format!("L2TP server {name}"),
        };
        let mut plan = AddressPlan::default();
        let assigns = section.last("assign ip").is_none_or(|entry| entry.value != "no");
        if let Some(first) = section.all("ip range").next().filter(|_| assigns) {
            let mut pool = Pool {
                placement: Setting::Unknown { why: "the ppp options decide".into() },
                ..Pool::new(title.as_str(), first.origin)
            };
            for entry in section.all("ip range") {
                let text = before_comment(entry.value, &[';']);
                let text: String = text.split_whitespace().collect();
                let range =
                    addresses::take(&text, entry.origin, &mut pool.malformed, addresses::range_or_prefix);
                pool.ranges.extend(range.map(|range| (range, entry.origin)));
            }
            // A withdrawn range is not assigned.
            for entry in section.all("no ip range") {
                let text: String = before_comment(entry.value, &[';']).split_whitespace().collect();
                let taken =
                    addresses::take(&text, entry.origin, &mut pool.malformed, addresses::range_or_prefix);
                if let Some(taken) = taken {
                    let kept = pool.ranges.iter().flat_map(|(range, origin)| {
                        taken
                            .complement()
                            .into_iter()
                            .filter_map(move |part| Some((part.intersection(range)?, *origin)))
                    });
                    pool.ranges = kept.collect();
                }
            }
            if let Some(entry) = section.last("local ip") {
                let text = before_comment(entry.value, &[';']);
                let own: Option<IpAddr> =
                    addresses::take(text, entry.origin, &mut pool.malformed, |text| text.parse().ok());
                pool.server_addresses.extend(own);
            }
            for bad in &pool.malformed {
                book.not_understood(bad.origin, bad.why.clone());
            }
            plan.pools.push(pool);
        }
        let mut tunnel = Tunnel::new(title, TunnelFamily::L2tp, TunnelRole::Server, section.origin);
        tunnel.settings.clone_from(&settings);
        tunnel.settings.extend(section.entries.iter().filter(|one| SECTION.contains(&one.key)).map(said));
        tunnel.options_file = section.last("pppoptfile").map(|entry| Setting::Stated {
            value: before_comment(entry.value, &[';']).to_owned(),
            origin: entry.origin,
        });
        tunnel.listeners.push(listener(&tunnel));
        tunnel.addresses = plan;
        reading.facts.tunnels.push(tunnel);
    }
    reading
}

/// UDP, port 1701 of every address unless stated otherwise.
fn listener(tunnel: &Tunnel) -> Listener {
    let address = match tunnel.stated("listen-addr") {
        Some((text, origin)) => match text.parse::<IpAddr>() {
            Ok(address) if address.is_unspecified() => Setting::Stated { value: None, origin },
            Ok(address) => Setting::Stated { value: Some(address), origin },
            Err(_) => Setting::Unknown { why: "`listen-addr` is not an address".into() },
        },
        None => Setting::default_of(None, "xl2tpd", "xl2tpd.conf(5), listen-addr"),
    };
    let port = match tunnel.stated("port").and_then(|(text, origin)| Some((text.parse().ok()?, origin))) {
        Some((value, origin)) => Setting::Stated { value, origin },
        None => Setting::default_of(1701, "xl2tpd", "xl2tpd.conf(5), port; RFC 2661, 8.1"),
    };
    Listener { protocol: Protocol::UDP, address, port }
}

#[cfg(test)]
mod tests {
    use super::*;
    use trevlin_model::ExportId;

    #[test]
    fn ranges() {
        for (lines, wanted) in [
            ("ip range = 10.9.0.9-10.9.0.40\nlocal ip = 10.9.0.1", "10.9.0.9-10.9.0.40"),
            ("ip range = 10.9.0.9 - 10.9.0.40 ; callers\nip range = 10.9.1.7", "10.9.0.9-10.9.0.40 10.9.1.7"),
            (
                "ip range = 10.9.0.9-10.9.0.40\nno ip range = 10.9.0.20",
                "10.9.0.9-10.9.0.19 10.9.0.21-10.9.0.40",
            ),
            ("ip range = 10.9.0.9-10.9.0.400", "!400"),
            ("ip range = 10.9.0.9-10.9.0.40\nassign ip = no", ""),
        ] {
            let text = format!("[global]\nport = 1701\n[lns default]\n{lines}\n");
            let export = Export::new(ExportId(0), "d/etc/xl2tpd/xl2tpd.conf", text);
            let reading = read(&export, &ReadContext::default());
            let plan = &reading.facts.tunnels[0].addresses;
            let told: Vec<_> =
                plan.pools.iter().flat_map(|pool| &pool.ranges).map(|(range, _)| range.to_string()).collect();
            match wanted.strip_prefix('!') {
                Some(part) => assert!(plan.pools[0].malformed[0].why.contains(part), "{lines}"),
                None => assert_eq!(told.join(" "), wanted, "{lines}"),
            }
        }
    }
}
