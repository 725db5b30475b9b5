//! `swanctl.conf` (swanctl.conf(5)): nested sections in braces and `key = value` lines.

use super::{networks, offer, pool};
use crate::addresses;
use crate::reader::{Bookkeeper, Reader, Reading, Recognition, Surroundings, TELLING_LINES};
use std::sync::Arc;
use trevlin_model::ike::PreSharedKey;
use trevlin_model::offer::{Offer, OfferPart};
use trevlin_model::plan::{AddressPlan, PlanFamily, TunnelPlan};
use trevlin_model::secret::SecretKind;
use trevlin_model::{Export, HeldSecret, LineClass, NotModelled, Origin, Secret, Setting};

/// The reader.
pub(crate) const READER: Reader = Reader {
    name: "swanctl",
    title: "connections of strongSwan (swanctl)",
    manual: "swanctl.conf(5)",
    recognise,
    read,
};

/// Settings of a connection that checks judge.
const SETTINGS: [&str; 4] = ["version", "aggressive", "proposals", "remote_addrs"];

/// What becomes facts of a child.
const CHILD_KEYS: [&str; 4] = ["local_ts", "remote_ts", "esp_proposals", "ah_proposals"];

/// How deep sections are followed.
const DEPTH: usize = 16;

fn recognise(export: &Export) -> Recognition {
    let heading = |line: &str| {
        let bare: String = line.split_whitespace().collect();
        matches!(bare.as_str(), "connections{" | "pools{" | "secrets{" | "authorities{")
    };
    if export.lines().take(TELLING_LINES).any(|line| heading(line.text)) {
        Recognition::Content
    } else if export.file_name() == "swanctl.conf" || export.path().contains("swanctl/conf.d/") {
        Recognition::Name
    } else {
        Recognition::No
    }
}

/// A `key = value` line with the sections it stands in.
struct Value<'a> {
    within: Vec<&'a str>,
    key: &'a str,
    value: &'a str,
    origin: Origin,
}

impl Value<'_> {
    fn is_in(&self, path: &[&str]) -> bool {
        self.within.len() == path.len()
            && self.within.iter().zip(path).all(|(own, wanted)| *wanted == "*" || own == wanted)
    }
}

/// Every value of a text, and the lines of its sections. A `#` begins a comment outside of quotes.
fn values<'a>(export: &'a Export, around: &Surroundings<'_>, book: &mut Bookkeeper<'_>) -> Vec<Value<'a>> {
    let mut found = Vec::new();
    let mut within: Vec<&str> = Vec::new();
    for line in export.lines() {
        let mut rest = uncommented(line.text).trim();
        // Several sections may open and close on one line.
        while !rest.is_empty() {
            let origin = export.origin_of(rest);
            if let Some(after) = rest.strip_prefix('}') {
                book.class(export.origin_of(&rest[..1]), LineClass::Understood);
                within.pop();
                rest = after.trim_start();
            } else if let Some(end) = rest.find('{').filter(|end| !rest[..*end].contains('=')) {
                let name = rest[..end].split([':', ' ']).next().unwrap_or_default().trim();
                book.class(origin, LineClass::Understood);
                if within.len() >= DEPTH {
                    book.not_understood(origin, "sections nest too deep");
                    return found;
                }
                within.push(name);
                rest = rest[end + 1..].trim_start();
            } else if let Some((key, value)) = rest.split_once('=') {
                let value = value.trim();
                let (value, after) = match value.strip_prefix('"') {
                    Some(quoted) => {
                        let end = quoted.find('"').unwrap_or(quoted.len());
                        (&quoted[..end], quoted.get(end + 1..).unwrap_or_default().trim_start())
                    }
                    // A brace on the same line closes the section.
                    None => match value.find('}') {
                        Some(end) => (value[..end].trim_end(), &value[end..]),
                        None => (value, ""),
                    },
                };
                found.push(Value { within: within.clone(), key: key.trim(), value, origin });
                rest = after;
            } else {
                match rest.strip_prefix("include ").map(str::trim) {
                    Some(path) => {
                        book.class(origin, LineClass::PassedOver);
                        if let Some(why) = around.missing_include(path, export) {
                            book.note(origin, why);
                        }
                    }
                    None => book.not_understood(origin, "expected `key = value` or `section {`"),
                }
                break;
            }
        }
    }
    found
}

fn uncommented(line: &str) -> &str {
    let mut quoted = false;
    for (at, byte) in line.bytes().enumerate() {
        match byte {
            b'"' => quoted = !quoted,
            b'#' if !quoted => return &line[..at],
            _ => {}
        }
    }
    line
}

fn read(export: &Export, around: &Surroundings<'_>) -> Reading {
    let mut reading = Reading::of(export);
    let mut book = Bookkeeper::new(export, &mut reading.ledger, &mut reading.elsewhere);
    let all = values(export, around, &mut book);
    let known = |one: &Value<'_>| {
        one.is_in(&["pools", "*"])
            || one.within.first() == Some(&"secrets")
            || (one.is_in(&["connections", "*"]) && (one.key == "pools" || SETTINGS.contains(&one.key)))
            || (one.is_in(&["connections", "*", "children", "*"]) && CHILD_KEYS.contains(&one.key))
    };
    for one in &all {
        // What the connections say beyond their addresses is not judged yet, and counts as not understood.
        book.class(one.origin, if known(one) { LineClass::Understood } else { LineClass::NotUnderstood });
    }
    let mut names: Vec<&str> = Vec::new();
    for one in all.iter().filter(|one| one.within.len() >= 2 && one.within[0] == "connections") {
        if !names.contains(&one.within[1]) {
            names.push(one.within[1]);
        }
    }
    // A pool may stand in another file of the device.
    let mut elsewhere: Vec<(&Export, Vec<Value<'_>>)> = Vec::new();
    for other in around.exports.iter().filter(|other| other.path() != export.path()) {
        if recognise(other) == Recognition::Content {
            let mut scratch = Reading::of(other);
            let mut book = Bookkeeper::new(other, &mut scratch.ledger, &mut scratch.elsewhere);
            elsewhere.push((other, values(other, around, &mut book)));
        }
    }
    let everywhere = || all.iter().chain(elsewhere.iter().flat_map(|(_, values)| values));
    let mut malformed = Vec::new();
    for name in &names {
        let own: Vec<&Value<'_>> = all
            .iter()
            .filter(|one| one.within.get(1) == Some(name) && one.within[0] == "connections")
            .collect();
        let mut plan = AddressPlan::default();
        let title = format!("IPsec connection {name}");
        let pools = own.iter().find(|one| one.within.len() == 2 && one.key == "pools");
        for wanted in pools.map(|one| one.value.split(',').map(str::trim)).into_iter().flatten() {
            for value in everywhere().filter(|one| one.is_in(&["pools", wanted])) {
                match value.key {
                    "addrs" => plan.pools.push(pool(&title, value.value, value.origin)),
                    "dns" => {
                        for text in value.value.split(',').map(str::trim) {
                            let server =
                                addresses::take(text, value.origin, &mut plan.malformed, addresses::single);
                            plan.name_servers.extend(server.map(|server| (server, value.origin)));
                        }
                    }
                    _ => {}
                }
            }
        }
        let direct = |key: &str| own.iter().rev().find(|one| one.within.len() == 2 && one.key == key);
        let mut offers: Vec<Offer> = direct("proposals")
            .map(|one| offer(OfferPart::Control, one.value, one.origin))
            .into_iter()
            .collect();
        let settings = SETTINGS.iter().filter_map(|key| {
            let one = direct(key)?;
            Some(((*key).to_owned(), Setting::Stated { value: one.value.to_owned(), origin: one.origin }))
        });
        let settings: Vec<_> = settings.collect();
        let mut children: Vec<&str> = own.iter().filter_map(|one| one.within.get(3).copied()).collect();
        children.dedup();
        for child in children {
            let said = |key: &str| {
                let stated = own
                    .iter()
                    .find(|one| one.within.get(3) == Some(&child) && one.within.len() == 4 && one.key == key);
                stated.map(|one| (one.value, one.origin))
            };
            networks(&mut plan, said("local_ts"), said("remote_ts"));
            for key in ["esp_proposals", "ah_proposals"] {
                offers.extend(said(key).map(|(value, origin)| offer(OfferPart::Data, value, origin)));
            }
        }
        for bad in plan.pools.iter().flat_map(|one| &one.malformed).chain(&plan.malformed) {
            malformed.push(bad.clone());
        }
        let origin = own.first().map_or(export.origin(0..0), |one| one.origin);
        reading.facts.tunnel_plans.push(TunnelPlan {
            name: title,
            family: PlanFamily::Ipsec,
            interface: None,
            offers,
            settings,
            plan,
            origin,
        });
        reading.facts.not_modelled.push(NotModelled {
            what: "an IPsec connection of which only the addresses are judged yet".into(),
            filters_packets: false,
            origin,
        });
    }
    let mut book = Bookkeeper::new(export, &mut reading.ledger, &mut reading.elsewhere);
    for bad in malformed {
        book.not_understood(bad.origin, bad.why);
    }
    secrets(export, &all, &mut reading);
    reading
}

/// Keys and passwords. `0x` and `0s` begin a value that is encoded.
fn secrets(export: &Export, all: &[Value<'_>], reading: &mut Reading) {
    for one in all.iter().filter(|one| one.within.first() == Some(&"secrets") && one.key == "secret") {
        let Some(section) = one.within.get(1) else { continue };
        let ids: Vec<String> = all
            .iter()
            .filter(|other| other.within == one.within && other.key.starts_with("id"))
            .map(|other| other.value.to_owned())
            .collect();
        let kind = if section.starts_with("ike") || section.starts_with("ppk") {
            SecretKind::SharedKey
        } else if section.starts_with("eap") || section.starts_with("xauth") || section.starts_with("ntlm") {
            SecretKind::LoginPassword
        } else {
            SecretKind::Passphrase
        };
        if one.value.is_empty() {
            continue;
        }
        let held = Arc::new(HeldSecret {
            secret: Secret::new(one.value),
            kind,
            owner: if ids.is_empty() { (*section).to_owned() } else { ids.join(" and ") },
            origin: export.origin_of(one.value),
        });
        reading.facts.secrets.push(Arc::clone(&held));
        if section.starts_with("ike") {
            reading.facts.pre_shared_keys.push(PreSharedKey { identities: ids, held, origin: one.origin });
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use trevlin_model::ExportId;

    const TEXT: &str = "connections {\n  office { # callers\n    pools = office4, office6\n    local { auth = pubkey }\n    children {\n      net {\n        \
                        local_ts = 10.4.0.0/24, 10.5.0.0/16[tcp/443]\n      }\n    }\n  }\n  yard {\n    remote_addrs = 198.51.100.9\n    \
                        children { lan { remote_ts = 10.7.0.0/16,dynamic } }\n  }\n}\npools {\n  office4 {\n    addrs = 10.9.0.0/24\n    dns = 10.4.0.53\n  }\n  \
                        office6 { addrs = 2001:db8:9::10-2001:db8:9::90 }\n}\nsecrets {\n  ike-yard {\n    id-1 = yard.example\n    secret = \"open # sesame\"\n  }\n  eap-ann { id = ann\n secret = s3same }\n}\ninclude conf.d/*.conf\n";

    #[test]
    fn connections_pools_and_secrets() {
        let export = Export::new(ExportId(0), "d/etc/swanctl/swanctl.conf", TEXT.into());
        assert_eq!(recognise(&export), Recognition::Content);
        let reading = read(&export, &Surroundings { exports: vec![&export] });
        let plans = &reading.facts.tunnel_plans;
        let office = &plans[0].plan;
        let ranges: Vec<_> =
            office.pools.iter().flat_map(|pool| &pool.ranges).map(|(range, _)| range.to_string()).collect();
        assert_eq!(ranges, ["10.9.0.1-10.9.0.254", "2001:db8:9::10-2001:db8:9::90"]);
        assert_eq!((office.sent_through.len(), office.name_servers.len(), office.remote.len()), (2, 1, 0));
        assert_eq!(plans[1].plan.remote[0].0.short(), "10.7.0.0/16");
        assert_eq!(reading.facts.secrets.len(), 2);
        assert_eq!(reading.facts.pre_shared_keys[0].identities, ["yard.example"]);
        assert!(!format!("{reading:?}").contains("sesame"));
    }

    #[test]
    fn a_pool_of_another_file() {
        let main =
            Export::new(ExportId(0), "d/swanctl.conf", "connections {\n c { pools = p\n }\n}\n".into());
        let other = Export::new(
            ExportId(1),
            "d/conf.d/p.conf",
            "pools {\n p { addrs = 10.9.0.9-10.9.0.300 }\n}\n".into(),
        );
        let reading = read(&main, &Surroundings { exports: vec![&main, &other] });
        assert!(reading.facts.tunnel_plans[0].plan.pools[0].malformed[0].why.contains("300"));
    }
}
