//! `squid.conf`: clients of a proxy, with and without a login, by its access lists in their order.
//!
//! Format: the documented configuration that ships with Squid (`squid.conf.documented`). Rules are tried in order, and the first of which
//! every list fits decides; without a match it is the opposite of the last rule, and without rules no client is permitted.

mod lists;

use crate::keyed::{self, Entries, Form, by_blank};
use crate::reader::{LineRecorder, ReadContext, Reader, Reading, Recognition};
use crate::serving::{self, hold, host_and_port};
use lists::{Fits, List, is_host, lists, network};
use std::collections::BTreeMap;
use trevlin_model::secret::SecretKind;
use trevlin_model::served::{
    AuthRequirement, Endpoint, PartKind, Remark, Served, ServedKind, ServiceResource, Sources,
    TransportSecurity,
};
use trevlin_model::{Export, IpRange, IpRangeSet, Origin, Protocol, Setting, Taken};

/// The reader.
pub(crate) const READER: Reader = Reader {
    name: "squid",
    title: "forward proxy (Squid)",
    manual: "squid.conf",
    recognise: |export| {
        let folder = export.path().contains("/squid/") && export.file_name().ends_with(".conf");
        match export.file_name() {
            "squid.conf" => Recognition::Name,
            "cachemgr.conf" | "errorpage.css" => Recognition::No,
            _ if folder => Recognition::Name,
            _ if is_list(export) => Recognition::Content,
            _ => Recognition::No,
        }
    },
    read,
};

/// Whether a file in the proxy's folder is a list of clients or servers, one in each line.
fn is_list(export: &Export) -> bool {
    let one = |text: &str| network(text).is_some() || is_host(text.trim_start_matches('.'));
    let mut lines = serving::entries(export).peekable();
    export.path().contains("/squid/")
        && !export.file_name().ends_with(".conf")
        && lines.peek().is_some()
        && lines.all(one)
}

const FORM: Form = Form {
    program: "squid",
    manual: "squid.conf",
    judged: &[
        "acl",
        "auth_param",
        "cache_peer",
        "cachemgr_passwd",
        "http_access",
        "http_port",
        "https_port",
        "include",
    ],
    split: by_blank,
    included: Some(included),
};

fn included<'a>(line: &str, named_in: &Export, around: &ReadContext<'a>) -> Vec<&'a Export> {
    let (name, rest) = by_blank(line.trim());
    match name {
        "include" => rest.split_whitespace().flat_map(|path| around.find_all(path, named_in)).collect(),
        _ => Vec::new(),
    }
}

/// A request to a server on the Internet that no list names.
#[derive(Debug, Clone, Copy)]
struct Request {
    method: &'static str,
    port: u16,
}

const REQUESTS: [Request; 2] =
    [Request { method: "GET", port: 80 }, Request { method: "CONNECT", port: 443 }];
/// One to a port that no server of pages has.
const ELSEWHERE: Request = Request { method: "CONNECT", port: 22 };

/// A rule of `http_access`.
struct Rule<'a> {
    permits: bool,
    /// Names of its lists, and whether each is negated.
    lists: Vec<(&'a str, bool)>,
    origin: Origin,
}

/// A port of the proxy.
struct Place {
    endpoint: Endpoint,
    name: String,
    /// It answers for servers of its own, as their front.
    accelerates: bool,
    /// It takes connections that a packet filter redirects to it.
    intercepts: bool,
}

fn read(export: &Export, around: &ReadContext<'_>) -> Reading {
    let mut reading = Reading::of(export);
    if is_list(export) {
        let mut book = LineRecorder::new(export, &mut reading.ledger, &mut reading.elsewhere);
        serving::entries(export).for_each(|text| book.understood(export.origin_of(text)));
        return reading;
    }
    let entries = keyed::load(export, &FORM, around, &mut reading);
    secrets(export, &entries, &mut reading);
    if around.reads_in(export, included) || around.has_main(&["squid.conf"], export) {
        return reading;
    }
    let mut open = entries.open.clone();
    let lists = lists(&entries, around, &mut open);
    let rules = rules(&entries);
    let places = places(&entries);
    let origin = entries.origin(export);
    let mut refused = undefined(&rules, &lists);
    if places.is_empty() && refused.is_none() {
        refused = Some(("no `http_port` or `https_port` is configured".to_owned(), origin));
    }
    for (accelerates, intercepts) in [(false, false), (false, true), (true, false), (true, true)] {
        let of_kind: Vec<&Place> = places
            .iter()
            .filter(|place| (place.accelerates, place.intercepts) == (accelerates, intercepts))
            .collect();
        let Some(first) = of_kind.first() else { continue };
        let at = first.endpoint.origin;
        let mut served = match (accelerates, intercepts) {
            (false, false) => Served::new(ServedKind::Proxies, "Squid", "proxy (Squid)", UNITS, at),
            (false, true) => {
                Served::new(ServedKind::Proxies, "Squid", "transparent proxy (Squid)", UNITS, at)
            }
            (true, _) => Served::new(ServedKind::Pages, "Squid", "reverse proxy (Squid)", UNITS, at),
        };
        served.endpoints = of_kind.iter().map(|place| place.endpoint.clone()).collect();
        served.open.clone_from(&open);
        served.refused.clone_from(&refused);
        served.parts = if accelerates || intercepts {
            let kind = if accelerates { PartKind::Page } else { PartKind::Whole };
            let name = if accelerates { "/" } else { served.name.as_str() };
            let mut part = ServiceResource::new(kind, name, at);
            part.sources = permitted(&of_kind, &rules, &lists, &REQUESTS, false);
            part.remarks.push((Remark::HandedOn, at));
            vec![part]
        } else {
            forwarding(&of_kind, &rules, &lists, &entries, at)
        };
        reading.facts.served.push(served);
    }
    reading
}

/// Ports for which the rules are evaluated one by one.
const MOST_PLACES: usize = 32;

const UNITS: &[&str] = &["squid", "squid3"];

/// Passwords of the manager's pages and of other proxies.
fn secrets(export: &Export, entries: &Entries<'_>, reading: &mut Reading) {
    for entry in entries.all.iter().filter(|entry| entry.export.id() == export.id()) {
        let words: Vec<&str> = entry.value.split_whitespace().collect();
        match entry.name {
            "cachemgr_passwd" => {
                let word = words.first().filter(|word| !matches!(**word, "none" | "disable"));
                if let Some(word) = word {
                    hold(export, &mut reading.facts, word, SecretKind::ServicePassword, "Squid's manager");
                }
            }
            "cache_peer" => {
                let login = words.iter().find_map(|word| word.strip_prefix("login=")?.split_once(':'));
                if let Some((user, word)) = login.filter(|(user, _)| !user.starts_with('*')) {
                    hold(export, &mut reading.facts, word, SecretKind::OwnPassword, user);
                }
            }
            _ => {}
        }
    }
}

fn rules<'a>(entries: &Entries<'a>) -> Vec<Rule<'a>> {
    let rule = |entry: &keyed::Entry<'a>| {
        let mut words = entry.value.split_whitespace().take_while(|word| !word.starts_with('#'));
        let permits = match words.next()? {
            "allow" => true,
            "deny" => false,
            _ => return None,
        };
        let list = |word: &'a str| word.strip_prefix('!').map_or((word, false), |word| (word, true));
        Some(Rule { permits, lists: words.map(list).collect(), origin: entry.origin })
    };
    entries.of("http_access").filter_map(rule).collect()
}

/// A list that a rule names and that no line defines: the program does not start.
fn undefined(rules: &[Rule<'_>], lists: &BTreeMap<&str, List>) -> Option<(String, Origin)> {
    rules.iter().find_map(|rule| {
        let (name, _) = rule.lists.iter().find(|(name, _)| !lists.contains_key(name))?;
        Some((format!("the list `{name}` is not defined"), rule.origin))
    })
}

fn places(entries: &Entries<'_>) -> Vec<Place> {
    let mut found = Vec::new();
    for entry in &entries.all {
        let carried = match entry.name {
            "http_port" => TransportSecurity::Plain,
            "https_port" => TransportSecurity::Encrypted,
            _ => continue,
        };
        let mut words = entry.value.split_whitespace();
        let Some(text) = words.next() else { continue };
        let (host, port) = match text.parse() {
            Ok(port) => (None, Some(port)),
            Err(_) => host_and_port(text),
        };
        let Some(port) = port else { continue };
        let options: Vec<&str> = words.collect();
        let has = |names: &[&str]| options.iter().any(|word| names.contains(word));
        let mut endpoint = Endpoint::everywhere(Protocol::TCP, port, carried, entry.origin);
        match host {
            Some("localhost") => endpoint = endpoint.at([127, 0, 0, 1].into()),
            Some(host) => {
                if let Ok(address) = host.parse() {
                    endpoint = endpoint.at(address);
                }
            }
            None => {}
        }
        let name = options.iter().find_map(|word| word.strip_prefix("name=")).unwrap_or(text);
        found.push(Place {
            endpoint,
            name: name.to_owned(),
            accelerates: has(&["accel", "vhost"])
                || options.iter().any(|word| word.starts_with("defaultsite=") || word.starts_with("vport")),
            intercepts: has(&["intercept", "transparent", "tproxy"]),
        });
    }
    found
}

/// Clients whose request passes the rules, at any of these places.
fn permitted(
    places: &[&Place],
    rules: &[Rule<'_>],
    lists: &BTreeMap<&str, List>,
    requests: &[Request],
    logged_in: bool,
) -> Sources {
    let mut found = Sources::default();
    let names_ports = rules.iter().flat_map(|rule| &rule.lists).any(|(name, _)| {
        lists.get(name).is_some_and(|list| matches!(list.fits, Fits::OwnPorts(_) | Fits::PortNames(_)))
    });
    // Where no rule names a port, they are all alike.
    let most = if names_ports { MOST_PLACES } else { 1 };
    for place in places.iter().take(most) {
        for request in requests {
            let one = at_place(place, rules, lists, *request, logged_in);
            found.ranges.extend(one.ranges);
            found
                .names
                .extend(one.names.into_iter().filter(|name| !found.names.contains(name)).collect::<Vec<_>>());
            found.origins.extend(
                one.origins.into_iter().filter(|line| !found.origins.contains(line)).collect::<Vec<_>>(),
            );
        }
    }
    found.ranges = found.ranges.into_iter().collect::<IpRangeSet>().into_ranges();
    found
}

fn at_place(
    place: &Place,
    rules: &[Rule<'_>],
    lists: &BTreeMap<&str, List>,
    request: Request,
    logged_in: bool,
) -> Sources {
    let (mut taken, mut found) = (Taken::default(), Sources::default());
    // Rules that permit any address by themselves: the others then prove nothing more.
    let mut wide: Vec<Origin> = Vec::new();
    for rule in rules {
        let mut sources = Sources::everybody();
        let mut permits = rule.permits;
        let mut fits = true;
        for (name, negated) in &rule.lists {
            let Some(list) = lists.get(name) else { return Sources::default() };
            let within = |ports: &[(u16, u16)], port: u16| {
                ports.iter().any(|(first, last)| (*first..=*last).contains(&port))
            };
            let one = match &list.fits {
                Fits::Clients(clients) if *negated => {
                    sources = sources.without(&clients.ranges);
                    continue;
                }
                Fits::Clients(clients) => {
                    sources = sources.and(clients);
                    continue;
                }
                Fits::Login if logged_in => true,
                Fits::Login => {
                    // The proxy demands a login here, and goes on with no further rule.
                    permits = false;
                    break;
                }
                Fits::Methods(methods) => methods.iter().any(|one| one == request.method),
                Fits::Ports(ports) => within(ports, request.port),
                Fits::OwnPorts(ports) => within(ports, place.endpoint.port),
                Fits::PortNames(names) => names.contains(&place.name),
                Fits::Fixed(fits) => *fits,
                // What holds at some times opens, and does not close.
                Fits::Sometimes => {
                    fits &= rule.permits;
                    continue;
                }
            };
            if one == *negated {
                fits = false;
                break;
            }
        }
        if !fits {
            continue;
        }
        let mine: Vec<IpRange> = sources.ranges.iter().flat_map(|range| taken.take(*range)).collect();
        let decides_all = sources.ranges == Sources::everybody().ranges;
        if permits && (!mine.is_empty() || !sources.names.is_empty()) {
            let own = Sources::of(mine.clone(), Vec::new());
            wide.extend(own.is_everybody().then_some(rule.origin));
            found.ranges.extend(mine);
            found.names.extend(sources.names);
            if found.origins.len() < super::MOST_LINES {
                found.origins.push(rule.origin);
                found.origins.extend(sources.origins.into_iter().filter(|line| *line != rule.origin));
            }
        }
        // No request comes to the rules behind it.
        if decides_all {
            break;
        }
    }
    if let Some(last) = rules.last().filter(|rule| !rule.permits) {
        let rest: Vec<IpRange> =
            Sources::everybody().ranges.into_iter().flat_map(|range| taken.left_of(range)).collect();
        if !rest.is_empty() {
            wide.extend(Sources::of(rest.clone(), Vec::new()).is_everybody().then_some(last.origin));
            found.ranges.extend(rest);
            found.origins.push(last.origin);
        }
    }
    if !wide.is_empty() {
        found.origins = wide;
    }
    found
}

/// Parts of the proxy: clients without a login, and with one.
fn forwarding(
    places: &[&Place],
    rules: &[Rule<'_>],
    lists: &BTreeMap<&str, List>,
    entries: &Entries<'_>,
    origin: Origin,
) -> Vec<ServiceResource> {
    let open = permitted(places, rules, lists, &REQUESTS, false);
    let at = open.origins.first().copied().unwrap_or(origin);
    let scheme = |name: &str| entries.of("auth_param").find(|entry| entry.value.starts_with(name));
    let login = scheme("basic ").map(|entry| (AuthRequirement::Password, entry.origin)).or_else(|| {
        let others = ["digest ", "negotiate ", "ntlm "];
        others.into_iter().find_map(scheme).map(|entry| (AuthRequirement::Proof, entry.origin))
    });
    let with_login =
        login.map(|(login, line)| (permitted(places, rules, lists, &REQUESTS, true), login, line));
    let mut parts = super::parts((open, at), with_login, origin);
    let encrypted = places.iter().all(|place| place.endpoint.carried == TransportSecurity::Encrypted);
    for part in &mut parts {
        let logged_in = part.login.value() != Some(&AuthRequirement::Nothing);
        let elsewhere = permitted(places, rules, lists, &[ELSEWHERE], logged_in);
        if let Some(line) = elsewhere.origins.first().filter(|_| !elsewhere.and(&part.sources).is_nobody()) {
            part.remarks.push((Remark::AnyTarget, *line));
        }
        if part.login.value() == Some(&AuthRequirement::Password) && !encrypted {
            part.remarks.push((Remark::ClearPassword, part.login.origin().unwrap_or(origin)));
        }
        let unknown = rules
            .iter()
            .flat_map(|rule| &rule.lists)
            .any(|(name, _)| lists.get(name).is_some_and(|list| list.open));
        if unknown && logged_in {
            part.login = Setting::Unknown { why: "a program that `external_acl_type` names decides".into() };
        }
    }
    parts
}
