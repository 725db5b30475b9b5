//! `ipsec.conf` (ipsec.conf(5) of strongSwan): sections that begin in the first column, indented `key=value` lines.
//!
//! `conn %default` holds for every connection; `also` brings in another section's lines.

use super::{networks, offer, pool};
use crate::addresses;
use crate::reader::{Bookkeeper, Reader, Reading, Recognition, Surroundings, TELLING_LINES};
use trevlin_model::offer::{Offer, OfferPart};
use trevlin_model::plan::{AddressPlan, FixedAddress, PlanFamily, TunnelPlan};
use trevlin_model::{Export, LineClass, NotModelled, Origin, Setting};

/// The reader.
pub(crate) const READER: Reader = Reader {
    name: "ipsec-conf",
    title: "connections of strongSwan (ipsec.conf)",
    manual: "ipsec.conf(5)",
    recognise,
    read,
};

/// How far `also` is followed.
const DEPTH: usize = 8;

/// Keys that become facts here.
const KNOWN: [&str; 16] = [
    "aggressive",
    "ah",
    "also",
    "auto",
    "esp",
    "ike",
    "keyexchange",
    "leftsourceip",
    "leftsubnet",
    "right",
    "rightdns",
    "rightsourceip",
    "rightsubnet",
    "leftprotoport",
    "rightprotoport",
    "type",
];

/// Settings of a connection that checks judge.
const SETTINGS: [&str; 6] = ["keyexchange", "aggressive", "right", "leftprotoport", "rightprotoport", "type"];

fn recognise(export: &Export) -> Recognition {
    let conn = |line: &str| {
        let words: Vec<&str> = line.split_whitespace().collect();
        !line.starts_with([' ', '\t']) && matches!(words.as_slice(), ["conn", _] | ["config", "setup"])
    };
    if export.lines().take(TELLING_LINES).any(|line| conn(line.text)) {
        Recognition::Content
    } else if export.file_name() == "ipsec.conf" {
        Recognition::Name
    } else {
        Recognition::No
    }
}

struct Conn<'a> {
    name: &'a str,
    lines: Vec<(&'a str, &'a str, Origin)>,
    origin: Origin,
}

fn read(export: &Export, around: &Surroundings<'_>) -> Reading {
    let mut reading = Reading::of(export);
    let mut book = Bookkeeper::new(export, &mut reading.ledger, &mut reading.elsewhere);
    let mut all: Vec<Conn<'_>> = Vec::new();
    let mut in_conn = false;
    for line in export.lines() {
        let text = line.text.split('#').next().unwrap_or_default().trim_end();
        let origin = export.origin_of(text.trim());
        if text.trim().is_empty() {
            continue;
        }
        if !text.starts_with([' ', '\t']) {
            let words: Vec<&str> = text.split_whitespace().collect();
            in_conn = false;
            match words.as_slice() {
                ["conn", name] => {
                    in_conn = true;
                    all.push(Conn { name, lines: Vec::new(), origin });
                    book.understood(origin);
                }
                ["config", _] | ["ca", _] | ["version", _] => book.class(origin, LineClass::PassedOver),
                ["include", path] => {
                    book.class(origin, LineClass::PassedOver);
                    if let Some(why) = around.missing_include(path, export) {
                        book.note(origin, why);
                    }
                }
                _ => book.not_understood(origin, "no section of ipsec.conf(5) begins like this"),
            }
            continue;
        }
        let Some((key, value)) = text.trim().split_once('=') else {
            book.not_understood(origin, "expected `key=value`");
            continue;
        };
        let (key, value) = (key.trim(), value.trim().trim_matches('"'));
        match all.last_mut().filter(|_| in_conn) {
            Some(conn) => {
                // What a connection says beyond its addresses is not judged yet, and counts as not understood.
                let known = KNOWN.contains(&key);
                book.class(origin, if known { LineClass::Understood } else { LineClass::NotUnderstood });
                conn.lines.push((key, value, origin));
            }
            None => book.class(origin, LineClass::PassedOver),
        }
    }
    for conn in all.iter().filter(|conn| conn.name != "%default") {
        let said = |key: &str| lookup(&all, conn.name, key, 0).or_else(|| lookup(&all, "%default", key, 0));
        // Without `auto` the section only lends its lines to others.
        if said("auto").is_none_or(|(value, _)| value == "ignore") {
            continue;
        }
        let title = format!("IPsec connection {}", conn.name);
        let mut plan = AddressPlan::default();
        if let Some((value, origin)) = said("rightsourceip") {
            for text in value.split(',').map(str::trim).filter(|text| !text.starts_with('%')) {
                // One address alone is kept for the one who calls.
                match addresses::single(text) {
                    Some(range) => plan.fixed.push(FixedAddress { who: conn.name.to_owned(), range, origin }),
                    None => plan.pools.push(pool(&title, text, origin)),
                }
            }
        }
        if let Some((value, origin)) = said("rightdns") {
            for text in value.split(',').map(str::trim) {
                let server = addresses::take(text, origin, &mut plan.malformed, addresses::single);
                plan.name_servers.extend(server.map(|server| (server, origin)));
            }
        }
        networks(&mut plan, said("leftsubnet"), said("rightsubnet"));
        let mut offers: Vec<Offer> = Vec::new();
        for (key, part) in [("ike", OfferPart::Control), ("esp", OfferPart::Data), ("ah", OfferPart::Data)] {
            offers.extend(said(key).map(|(value, origin)| offer(part, value, origin)));
        }
        let settings = SETTINGS.iter().filter_map(|key| {
            let (value, origin) = said(key)?;
            Some(((*key).to_owned(), Setting::Stated { value: value.to_owned(), origin }))
        });
        let settings = settings.collect();
        for bad in plan.pools.iter().flat_map(|one| &one.malformed).chain(&plan.malformed) {
            book.not_understood(bad.origin, bad.why.clone());
        }
        reading.facts.tunnel_plans.push(TunnelPlan {
            name: title,
            family: PlanFamily::Ipsec,
            interface: None,
            offers,
            settings,
            plan,
            origin: conn.origin,
        });
        reading.facts.not_modelled.push(NotModelled {
            what: "an IPsec connection of which only the addresses are judged yet".into(),
            filters_packets: false,
            origin: conn.origin,
        });
    }
    reading
}

/// The last line of a key in a section, then in those it takes in with `also`.
fn lookup<'a>(all: &[Conn<'a>], name: &str, key: &str, depth: usize) -> Option<(&'a str, Origin)> {
    if depth > DEPTH {
        return None;
    }
    let of = |wanted: &'static str| {
        all.iter()
            .filter(move |conn| conn.name == name)
            .flat_map(move |conn| conn.lines.iter().filter(move |line| line.0 == wanted))
    };
    let mut own =
        all.iter().filter(|conn| conn.name == name).flat_map(|conn| &conn.lines).filter(|line| line.0 == key);
    own.next_back()
        .map(|line| (line.1, line.2))
        .or_else(|| of("also").find_map(|line| lookup(all, line.1, key, depth + 1)))
}

#[cfg(test)]
mod tests {
    use super::*;
    use trevlin_model::ExportId;

    #[test]
    fn connections() {
        let text = "config setup\n\tuniqueids=no\nconn %default\n\tauto=add\nconn lend\n\tauto=ignore\n\trightdns=10.4.0.53\n\
                    conn office # callers\n\talso=lend\n\tauto=add\n\tleftsubnet=0.0.0.0/0\n\trightsourceip=10.9.0.0/24,2001:db8:9::/120\n\
                    conn yard\n\tleftsubnet=10.4.0.0/24\n\trightsubnet=10.7.0.0/16,10.8.0.0/40\n\tike=aes256-sha256-modp2048\n\
                    conn one\n\trightsourceip=10.9.1.7\n";
        let export = Export::new(ExportId(0), "d/etc/ipsec.conf", text.into());
        assert_eq!(recognise(&export), Recognition::Content);
        let reading = read(&export, &Surroundings::default());
        let told: Vec<_> = reading
            .facts
            .tunnel_plans
            .iter()
            .map(|one| {
                let plan = &one.plan;
                format!(
                    "{} {} {} {} {} {}",
                    one.name,
                    plan.pools.len(),
                    plan.fixed.len(),
                    plan.remote.len(),
                    plan.sent_through.len(),
                    plan.name_servers.len()
                )
            })
            .collect();
        assert_eq!(
            told,
            [
                "IPsec connection office 2 0 0 1 1",
                "IPsec connection yard 0 0 1 0 0",
                "IPsec connection one 0 1 0 0 0"
            ]
        );
        assert_eq!(reading.facts.tunnel_plans[1].plan.malformed.len(), 1);
        assert_eq!(reading.ledger.count(LineClass::NotUnderstood), 1);
        let names: Vec<_> =
            reading.facts.tunnel_plans[1].offers[0].algorithms.iter().map(|one| one.name.as_str()).collect();
        assert_eq!(names, ["aes256", "sha256", "modp2048"]);
    }
}
