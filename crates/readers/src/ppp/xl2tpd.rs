//! `xl2tpd.conf` (xl2tpd.conf(5)), as far as its addresses go: how callers prove themselves is not judged yet.

use crate::addresses;
use crate::ini::{before_comment, sections};
use crate::reader::{Bookkeeper, Reader, Reading, Recognition, Surroundings};
use std::net::IpAddr;
use trevlin_model::plan::{AddressPlan, PlanFamily, TunnelPlan};
use trevlin_model::{Export, LineClass, NotModelled, Pool, Setting};

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
const GLOBAL: [&str; 2] = ["listen-addr", "port"];

fn read(export: &Export, _: &Surroundings<'_>) -> Reading {
    let mut reading = Reading::of(export);
    let all = sections(export, &[';', '#']);
    let global = all.iter().filter(|one| one.name == "global").flat_map(|one| &one.entries);
    let settings: Vec<(String, Setting<String>)> = global
        .filter(|entry| GLOBAL.contains(&entry.key))
        .map(|entry| {
            let value = before_comment(entry.value, &[';']).to_owned();
            (entry.key.to_owned(), Setting::Stated { value, origin: entry.origin })
        })
        .collect();
    for section in all {
        let mut book = Bookkeeper::new(export, &mut reading.ledger, &mut reading.elsewhere);
        if !section.name.is_empty() {
            book.class(section.origin, LineClass::Understood);
        }
        let serves = section.name.starts_with("lns");
        for entry in &section.entries {
            let known = serves && matches!(entry.key, "ip range" | "local ip" | "assign ip" | "no ip range");
            let class = if known { LineClass::Understood } else { LineClass::NotUnderstood };
            let class = match section.name {
                "global" if GLOBAL.contains(&entry.key) => LineClass::Understood,
                "global" => LineClass::PassedOver,
                _ => class,
            };
            book.class(entry.origin, class);
        }
        if !serves {
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
            // A range that is taken back is not handed out.
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
        reading.facts.tunnel_plans.push(TunnelPlan {
            name: title,
            family: PlanFamily::L2tp,
            interface: None,
            offers: Vec::new(),
            settings: settings.clone(),
            plan,
            origin: section.origin,
        });
        reading.facts.not_modelled.push(NotModelled {
            what: "an L2TP server of which only the addresses are judged yet".into(),
            filters_packets: false,
            origin: section.origin,
        });
    }
    reading
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
            let reading = read(&export, &Surroundings::default());
            let plan = &reading.facts.tunnel_plans[0].plan;
            let told: Vec<_> =
                plan.pools.iter().flat_map(|pool| &pool.ranges).map(|(range, _)| range.to_string()).collect();
            match wanted.strip_prefix('!') {
                Some(part) => assert!(plan.pools[0].malformed[0].why.contains(part), "{lines}"),
                None => assert_eq!(told.join(" "), wanted, "{lines}"),
            }
        }
    }
}
