//! `haproxy.cfg` (HAProxy Configuration Manual): places where connections are taken on, and where they are handed on to.
//!
//! Long because sections lend each other settings, so that they are read together.

use super::exemptions::Exemption;
use super::{Way, page, parts_of};
use crate::reader::{LineRecorder, ReadContext, Reader, Reading, Recognition, TELLING_LINES};
use crate::relaying;
use crate::serving::{self, hold, is_known, words};
use crate::tls;
use std::collections::BTreeMap;
use trevlin_model::offer::{AlgorithmRole, Offer, Offered};
use trevlin_model::relay::Relay;
use trevlin_model::secret::SecretKind;
use trevlin_model::served::{
    AuthRequirement, BypassKind, Endpoint, LoginBypass, Remark, Served, ServedKind, ServiceResource, Sources,
    TransportSecurity,
};
use trevlin_model::{Export, Facts, Families, LineClass, Origin, Protocol, Setting};

/// The reader.
pub(crate) const READER: Reader = Reader {
    name: "haproxy",
    title: "relay (HAProxy)",
    manual: "HAProxy Configuration Manual",
    recognise,
    read,
};

const SECTIONS: [&str; 15] = [
    "global",
    "defaults",
    "frontend",
    "backend",
    "listen",
    "userlist",
    "peers",
    "resolvers",
    "mailers",
    "program",
    "cache",
    "ring",
    "http-errors",
    "fcgi-app",
    "log-forward",
];

const UNITS: &[&str] = &["haproxy"];

/// Modes of a proxy, of a log forwarder and of an agent (HAProxy Configuration Manual, 4.2, mode).
const MODES: [&str; 6] = ["tcp", "http", "health", "log", "spop", "syslog"];

fn recognise(export: &Export) -> Recognition {
    let mut heads = 0;
    let mut tells = false;
    for line in export.lines().take(TELLING_LINES) {
        let word = line.text.split_whitespace().next().unwrap_or_default();
        // Other servers have blocks and statements of these names.
        if !word.starts_with('#') && line.text.trim_end().ends_with([';', '{']) {
            return Recognition::No;
        }
        heads += usize::from(
            !line.text.starts_with([' ', '\t'])
                && ["frontend", "backend", "listen", "defaults"].contains(&word),
        );
        tells |= line.text.starts_with([' ', '\t'])
            && ["bind", "default_backend", "balance", "mode", "server"].contains(&word);
    }
    if heads > 0 && tells {
        Recognition::Content
    } else if export.file_name() == "haproxy.cfg" {
        Recognition::Name
    } else {
        Recognition::No
    }
}

/// A line of a section.
struct Line<'a> {
    words: Vec<&'a str>,
    origin: Origin,
}

impl Line<'_> {
    fn is(&self, start: &[&str]) -> bool {
        self.words.len() >= start.len() && self.words.iter().zip(start).all(|(one, other)| one == other)
    }
}

struct Section<'a> {
    kind: &'a str,
    name: &'a str,
    lines: Vec<Line<'a>>,
    origin: Origin,
}

/// Backends by their name, each with its place among the sections.
type Backends<'a> = BTreeMap<&'a str, Vec<(usize, &'a Section<'a>)>>;

fn read(export: &Export, _: &ReadContext<'_>) -> Reading {
    let mut reading = Reading::of(export);
    let sections = sections(export, &mut reading);
    let global = sections.iter().find(|one| one.kind == "global");
    let mut backends: Backends<'_> = BTreeMap::new();
    for (at, one) in sections.iter().enumerate().filter(|(_, one)| one.kind == "backend") {
        backends.entry(one.name).or_default().push((at, one));
    }
    let mut defaults: Option<&Section<'_>> = None;
    for section in &sections {
        match section.kind {
            "defaults" => defaults = Some(section),
            "frontend" | "listen" => {
                let held = served(section, defaults, global, &backends);
                if !held.endpoints.is_empty() {
                    reading.facts.relays.extend(handed_on(section, defaults, &backends, &held));
                    reading.facts.served.push(held);
                }
            }
            _ => {}
        }
        secrets(export, section, &mut reading.facts);
    }
    reading
}

fn sections<'a>(export: &'a Export, reading: &mut Reading) -> Vec<Section<'a>> {
    let mut found: Vec<Section<'a>> = Vec::new();
    let mut book = LineRecorder::new(export, &mut reading.ledger, &mut reading.elsewhere);
    for line in export.lines() {
        let words = words(line.text);
        let Some(first) = words.first().copied() else { continue };
        let origin = export.origin_of(line.text.trim());
        if SECTIONS.contains(&first) {
            book.understood(origin);
            found.push(Section {
                kind: first,
                name: words.get(1).copied().unwrap_or_default(),
                lines: Vec::new(),
                origin,
            });
            continue;
        }
        let Some(section) = found.last_mut() else {
            book.not_understood(origin, "expected a section, as `global`, `defaults` or `frontend NAME`; the program refuses to start");
            continue;
        };
        let keyword = if first == "no" { words.get(1).copied().unwrap_or_default() } else { first };
        let mode = words.get(1).copied().unwrap_or_default();
        if keyword == "mode" && section.kind != "mailers" && !MODES.contains(&mode) {
            book.not_understood(
                origin,
                "expected `tcp`, `http` or another mode of a proxy; the program refuses to start",
            );
        } else if JUDGED.contains(&keyword) {
            book.understood(origin);
        } else if is_known("haproxy", keyword)
            || keyword.starts_with("tune.")
            || keyword.starts_with("lua-")
            || section.kind == "resolvers"
        {
            book.class(origin, LineClass::Ignored);
        } else {
            book.not_understood(origin, serving::unknown("the HAProxy Configuration Manual"));
        }
        section.lines.push(Line { words, origin });
    }
    found
}

const JUDGED: [&str; 20] = [
    "bind",
    "mode",
    "stats",
    "acl",
    "http-request",
    "tcp-request",
    "redirect",
    "use_backend",
    "default_backend",
    "server",
    "user",
    "ssl-default-bind-options",
    "ssl-default-bind-ciphers",
    "ssl-default-bind-ciphersuites",
    "block",
    "reqdeny",
    "userlist",
    "group",
    "disabled",
    "option",
];

/// Passwords of the statistics page and of lists of users.
fn secrets(export: &Export, section: &Section<'_>, facts: &mut Facts) {
    for line in &section.lines {
        if line.is(&["stats", "auth"])
            && let Some((user, password)) = line.words.get(2).and_then(|word| word.split_once(':'))
        {
            hold(export, facts, password, SecretKind::ServicePassword, user);
        }
        if section.kind == "userlist" && line.is(&["user"]) {
            let user = line.words.get(1).copied().unwrap_or_default();
            for pair in line.words.windows(2) {
                let kind = match pair[0] {
                    "insecure-password" => SecretKind::ServicePassword,
                    "password" => SecretKind::PasswordHash,
                    _ => continue,
                };
                hold(export, facts, pair[1], kind, user);
            }
        }
    }
}

fn served(
    section: &Section<'_>,
    defaults: Option<&Section<'_>>,
    global: Option<&Section<'_>>,
    all: &Backends<'_>,
) -> Served {
    let http = |one: &Section<'_>| {
        one.lines.iter().rev().find(|line| line.is(&["mode"])).map(|line| line.words.get(1) == Some(&"http"))
    };
    let pages = http(section).or_else(|| defaults.and_then(http)).unwrap_or(false);
    let kind = if pages { ServedKind::Pages } else { ServedKind::Relays };
    let what = if pages { "web site" } else { "relay" };
    let mut served =
        Served::new(kind, "HAProxy", format!("{what} {} (HAProxy)", section.name), UNITS, section.origin)
            .labelled(section.name);
    if section.lines.iter().any(|line| line.is(&["disabled"])) {
        return served;
    }
    let mut binds: Vec<&Line<'_>> = section.lines.iter().filter(|line| line.is(&["bind"])).collect();
    binds.retain(|line| line.words.len() > 1);
    for line in &binds {
        for place in line.words[1].split(',') {
            let place = endpoint(place, line);
            // What passes a relay is the client's choice.
            served.endpoints.extend(place.map(|at| if pages { at } else { at.as_relay() }));
        }
    }
    if let Some(tls) = binds.iter().find(|line| line.words.contains(&"ssl")) {
        served.offers.push(offer(tls, global));
    }
    let allowed = sources(section);
    let mut part = page(if pages { "/" } else { "" }, section.origin);
    let handed = section
        .lines
        .iter()
        .find(|line| line.is(&["default_backend"]) || line.is(&["use_backend"]) || line.is(&["server"]));
    part.remarks.extend(handed.map(|line| (Remark::HandedOn, line.origin)));
    let redirect = section.lines.iter().find(|line| {
        (line.is(&["redirect", "scheme", "https"])
            || line.is(&["http-request", "redirect", "scheme", "https"]))
            && only_unless_tls(line)
    });
    if let Some(line) = redirect {
        part.remarks.push((Remark::Redirect, line.origin));
    }
    let some = section.lines.iter().find(|line| {
        line.is(&["redirect", "scheme", "https"]) || line.is(&["http-request", "redirect", "scheme", "https"])
    });
    if let Some(line) = some.filter(|_| redirect.is_none()) {
        part.remarks.push((Remark::RedirectSometimes, line.origin));
    }
    let asked = section.lines.iter().find(|line| line.is(&["http-request", "auth"]));
    let of = |asked: AuthRequirement, sources: Sources, origin: Origin| Way { sources, asked, origin };
    let mut ways = vec![match asked {
        Some(line) => of(AuthRequirement::Password, allowed.clone(), line.origin),
        None => of(AuthRequirement::Nothing, allowed.clone(), section.origin),
    }];
    let mut parts = Vec::new();
    for (line, exemption) in
        asked.iter().flat_map(|line| exempt(section, line).into_iter().map(move |one| (line, one)))
    {
        let mut open = |path: String, login: AuthRequirement| {
            let mut one = part.clone();
            one.name = path;
            one.bypass = (login == AuthRequirement::Nothing).then_some(LoginBypass {
                kind: BypassKind::Section,
                login_origin: line.origin,
                origin: line.origin,
            });
            parts.extend(parts_of(&one, &[of(login, allowed.clone(), line.origin)]));
        };
        match exemption {
            Exemption::From(ranges) => {
                let sources = Sources::of(ranges, vec![line.origin]).and(&allowed);
                ways.push(of(AuthRequirement::Nothing, sources, line.origin));
            }
            Exemption::Path(path) => open(path, AuthRequirement::Nothing),
            Exemption::OtherPaths(path) => {
                open(path, AuthRequirement::Password);
                ways = vec![of(AuthRequirement::Nothing, allowed.clone(), section.origin)];
            }
            Exemption::Any => ways.push(of(AuthRequirement::Nothing, allowed.clone(), line.origin)),
        }
    }
    parts.splice(0..0, parts_of(&part, &ways));
    if handed.is_some() {
        for one in parts.iter_mut().filter(|one| one.asks_nothing()) {
            one.login = Setting::Unknown { why: "the backend server decides".into() };
        }
    }
    served.parts = parts;
    let named =
        section.lines.iter().filter(|line| line.is(&["default_backend"]) || line.is(&["use_backend"]));
    let named = named.filter_map(|line| all.get(line.words.get(1)?)).flatten();
    // In the order of the file, each once.
    let behind: BTreeMap<usize, &Section<'_>> = named.map(|(at, one)| (*at, *one)).collect();
    for one in std::iter::once(section).chain(behind.into_values()).chain(defaults) {
        served.parts.extend(statistics(one, &allowed));
    }
    served
}

/// The servers that a section hands on to, by itself and by the backends that it names.
fn handed_on(
    section: &Section<'_>,
    defaults: Option<&Section<'_>>,
    backends: &Backends<'_>,
    served: &Served,
) -> Vec<Relay> {
    let pages = served.kind == ServedKind::Pages;
    let mut behind: Vec<(&Section<'_>, String)> = vec![(section, "/".into())];
    for line in section.lines.iter().filter(|one| one.is(&["default_backend"]) || one.is(&["use_backend"])) {
        let named = line.words.get(1).and_then(|name| backends.get(name));
        let path = below(section, line).unwrap_or_else(|| "/".into());
        behind.extend(named.into_iter().flatten().map(|(_, one)| (*one, path.clone())));
    }
    let mut found = Vec::new();
    for (one, path) in behind {
        let kept = [Some(one), defaults].into_iter().flatten().flat_map(|one| &one.lines).find(|line| {
            (line.is(&["default-server"]) && sends_source(line))
                || (line.is(&["source"]) && line.words.contains(&"usesrc"))
        });
        for line in one.lines.iter().filter(|line| line.is(&["server"]) && !line.words.contains(&"disabled"))
        {
            let Some(place) = line.words.get(2) else { continue };
            let place = without_version(place);
            // Without a port the one that was called is kept.
            let usual = served.endpoints.first().map(|at| at.port);
            let Some(server) = relaying::server(place, usual).filter(|(host, _)| !host.contains('@')) else {
                continue;
            };
            let mut relay = Relay::new("HAProxy", "", server, line.origin);
            relay.path = pages.then(|| path.clone());
            relay.source_kept_origin =
                Some(line).filter(|line| sends_source(line)).or(kept).map(|line| line.origin);
            let of_page = served.parts.iter().filter(|part| !pages || part.name == "/");
            relaying::for_each_way(&relay, of_page, &mut found);
        }
    }
    let decided = section.lines.iter().filter(|line| line.is(&["use_backend"]) || refuses(line));
    let paths: Vec<String> = decided.filter_map(|line| below(section, line)).collect();
    relaying::divide(&mut found, &paths);
    relaying::placed(found, served)
}

/// Whether a line turns requests or connections down.
fn refuses(line: &Line<'_>) -> bool {
    line.is(&["http-request", "deny"])
        || line.is(&["tcp-request", "connection", "reject"])
        || line.is(&["tcp-request", "content", "reject"])
        || line.is(&["http-request", "tarpit"])
}

/// Whether a server learns the client's address by the PROXY protocol.
fn sends_source(line: &Line<'_>) -> bool {
    line.words.iter().any(|word| word.starts_with("send-proxy"))
}

/// The path below which a line selects a backend, where its condition is one.
fn below(section: &Section<'_>, line: &Line<'_>) -> Option<String> {
    let at = line.words.iter().position(|word| *word == "if")?;
    let path = |words: &[&str]| match words {
        ["path_beg", "-i", path] | ["path_beg" | "path_dir", path] => Some((*path).to_owned()),
        _ => None,
    };
    match &line.words[at + 1..] {
        [name] => {
            let list = section.lines.iter().find(|one| one.is(&["acl", name]))?;
            path(&list.words[2..])
        }
        ["{", condition @ .., "}"] => path(condition),
        _ => None,
    }
}

/// Requests that a line which demands a login exempts.
fn exempt(section: &Section<'_>, line: &Line<'_>) -> Vec<Exemption> {
    let mut lists: BTreeMap<&str, Vec<Vec<&str>>> = BTreeMap::new();
    for one in section.lines.iter().filter(|one| one.is(&["acl"]) && one.words.len() > 2) {
        lists.entry(one.words[1]).or_default().push(one.words[2..].to_vec());
    }
    let named = |name: &str| lists.get(name).cloned().unwrap_or_default();
    // Each word of the condition may name every list.
    let most = lists.values().map(Vec::len).max().unwrap_or(0) * line.words.len();
    if crate::growth::may_grow(most) { super::exemptions::of(&line.words, &named) } else { Vec::new() }
}

/// Whether a condition, where there is one, is only that the connection has no TLS yet.
fn only_unless_tls(line: &Line<'_>) -> bool {
    let Some(at) = line.words.iter().position(|word| matches!(*word, "if" | "unless")) else { return true };
    let rest = line.words[at + 1..].join(" ");
    matches!(rest.trim_matches(['{', '}', ' ']), "ssl_fc" | "!ssl_fc" | "! ssl_fc" | "!{ ssl_fc")
        || rest == "!{ ssl_fc }"
}

/// The page of statistics, where it is switched on.
fn statistics(section: &Section<'_>, allowed: &Sources) -> Option<ServiceResource> {
    let stats = |word: &str| section.lines.iter().find(|line| line.is(&["stats", word]));
    let on = stats("enable").or_else(|| stats("uri")).or_else(|| stats("auth"))?;
    let path = stats("uri").and_then(|line| line.words.get(2).copied()).unwrap_or("/haproxy?stats");
    let mut part = page(path, on.origin);
    part.remarks.push((Remark::Status, on.origin));
    part.sources = allowed.clone();
    part.login = match stats("auth") {
        Some(line) => Setting::Stated { value: AuthRequirement::Password, origin: line.origin },
        None => Setting::Stated { value: AuthRequirement::Nothing, origin: on.origin },
    };
    if let Some(line) = stats("admin") {
        part.remarks.push((Remark::Commands, line.origin));
        part.writes = Setting::Stated { value: true, origin: line.origin };
    }
    Some(part)
}

/// Permitted sources, by rules that deny every address not on a list.
fn sources(section: &Section<'_>) -> Sources {
    let list = |name: &str| -> Option<Sources> {
        let mut found = Sources::default();
        for line in section.lines.iter().filter(|line| line.is(&["acl", name, "src"])) {
            line.words[3..]
                .iter()
                .filter(|word| !word.starts_with('-'))
                .for_each(|word| serving::host(word, &mut found));
            found.origins.push(line.origin);
        }
        (!found.is_nobody()).then_some(found)
    };
    let mut allowed = Sources::everybody();
    for line in &section.lines {
        let turns_down = refuses(line);
        let Some(at) =
            line.words.iter().position(|word| matches!(*word, "if" | "unless")).filter(|_| turns_down)
        else {
            continue;
        };
        let condition = &line.words[at + 1..];
        let unless = line.words[at] == "unless";
        let (negated, named) = match condition {
            [name] => (name.starts_with('!'), list(name.trim_start_matches('!'))),
            ["{", "src", nets @ .., "}"] | ["!{", "src", nets @ .., "}"] => {
                let mut found = Sources::default();
                nets.iter().for_each(|word| serving::host(word, &mut found));
                (condition[0].starts_with('!'), Some(found))
            }
            _ => continue,
        };
        let Some(mut named) = named else { continue };
        named.origins.push(line.origin);
        // Turned down unless on the list, or turned down because on it.
        allowed = if unless != negated { allowed.and(&named) } else { allowed.without(&named.ranges) };
    }
    allowed
}

/// An address without the version of IP that may stand before it.
fn without_version(place: &str) -> &str {
    place.strip_prefix("ipv4@").or_else(|| place.strip_prefix("ipv6@")).unwrap_or(place)
}

/// `address:port`, `*:port`, `:port`; names of sockets are passed over.
fn endpoint(place: &str, line: &Line<'_>) -> Option<Endpoint> {
    let place = without_version(place);
    if place.starts_with(['/', '@']) || place.contains('@') {
        return None;
    }
    let (host, port) = match place.rsplit_once(':') {
        Some((host, port)) => (host.trim_matches(['[', ']']), port.split('-').next()?.parse().ok()?),
        None => return None,
    };
    let carried =
        if line.words.contains(&"ssl") { TransportSecurity::Encrypted } else { TransportSecurity::Plain };
    let at = Endpoint::everywhere(Protocol::TCP, port, carried, line.origin);
    match host {
        "" | "*" => Some(Endpoint { families: Families::V4, ..at }),
        "::" if line.words.contains(&"v4v6") => Some(at),
        "localhost" => Some(at.at([127, 0, 0, 1].into())),
        host => Some(host.parse().map_or_else(|_| at.clone(), |address| at.clone().at(address))),
    }
}

fn offer(bind: &Line<'_>, global: Option<&Section<'_>>) -> Offer {
    let option = |name: &str| {
        let own = bind
            .words
            .iter()
            .position(|word| *word == name)
            .and_then(|at| Some((*bind.words.get(at + 1)?, bind.origin)));
        own.or_else(|| {
            let lines = &global?.lines;
            let line = lines.iter().rev().find(|line| line.is(&["ssl-default-bind-options"]))?;
            let at = line.words.iter().position(|word| *word == name)?;
            Some((*line.words.get(at + 1)?, line.origin))
        })
    };
    let ciphers = bind
        .words
        .iter()
        .position(|word| *word == "ciphers")
        .and_then(|at| Some((*bind.words.get(at + 1)?, bind.origin)));
    let ciphers = ciphers.or_else(|| {
        let line = global?.lines.iter().rev().find(|line| line.is(&["ssl-default-bind-ciphers"]))?;
        Some((*line.words.get(1)?, line.origin))
    });
    let named = |version: &str| version.replace("TLSv1.0", "TLSv1");
    let without: Vec<String> = ["sslv3", "tlsv10", "tlsv11", "tlsv12", "tlsv13"]
        .into_iter()
        .filter(|one| {
            let word = format!("no-{one}");
            bind.words.contains(&word.as_str())
                || global.is_some_and(|section| {
                    section.lines.iter().any(|line| {
                        line.is(&["ssl-default-bind-options"]) && line.words.contains(&word.as_str())
                    })
                })
        })
        .map(|one| match one {
            "sslv3" => "-SSLv3".to_owned(),
            "tlsv10" => "-TLSv1".to_owned(),
            other => format!("-TLSv1.{}", &other[5..]),
        })
        .collect();
    let order = ["SSLv3", "TLSv1", "TLSv1.1", "TLSv1.2", "TLSv1.3"];
    // TLS 1.2 is the lowest that is taken by itself since version 2.2.
    let lowest = option("ssl-min-ver").map(|(version, at)| (named(version), at));
    let highest = option("ssl-max-ver").map_or("TLSv1.3".to_owned(), |(version, _)| named(version));
    let place = |name: &str| order.iter().position(|one| *one == name);
    let first = lowest.as_ref().and_then(|(name, _)| place(name)).unwrap_or(3);
    let last = place(&highest).unwrap_or(4);
    let origin = lowest.as_ref().map_or(bind.origin, |one| one.1);
    let mut versions: Vec<(&str, Origin)> =
        order.iter().take(last + 1).skip(first).map(|name| (*name, origin)).collect();
    versions.extend(without.iter().map(|word| (word.as_str(), origin)));
    let mut offer = tls::listed(ciphers, &versions, bind.origin);
    // The server's order counts unless it leaves the choice to clients (Configuration Manual, prefer-client-ciphers).
    let clients = "prefer-client-ciphers";
    let usual = |line: &Line<'_>| line.is(&["ssl-default-bind-options"]) && line.words.contains(&clients);
    offer.own_order =
        !bind.words.contains(&clients) && !global.is_some_and(|section| section.lines.iter().any(usual));
    if lowest.is_none() {
        let is_version = |one: &&mut Offered| one.role == Some(AlgorithmRole::Protocol);
        for one in offer.algorithms.iter_mut().filter(is_version) {
            one.default = Some("HAProxy Configuration Manual, ssl-min-ver");
        }
    }
    offer
}

#[cfg(test)]
mod tests {
    use super::*;
    use trevlin_model::ExportId;

    fn of(text: &str) -> Reading {
        let export = Export::new(ExportId(0), "d/etc/haproxy/haproxy.cfg", text.into());
        read(&export, &ReadContext::default())
    }

    #[test]
    fn modes_that_the_program_refuses() {
        for (mode, wanted) in [("htp", 1), ("http", 0), ("tcp", 0)] {
            let text = format!("# ends in a semicolon;\nfrontend a\n  bind :80\n  mode {mode}\n");
            let export = Export::new(trevlin_model::ExportId(0), "d/kept.txt", text);
            assert_eq!(recognise(&export), Recognition::Content);
            let reading = read(&export, &ReadContext::of(vec![&export]));
            assert_eq!(reading.ledger.notes.len(), wanted, "{mode}: {:?}", reading.ledger.notes);
        }
    }

    #[test]
    fn parts() {
        for (inner, wanted) in [
            ("bind :80\n default_backend x\n", &["80 Plain / any address None HandedOn"][..]),
            ("bind 10.4.0.9:443 ssl crt /x\n", &["443 Encrypted / any address Some(Nothing)"]),
            (
                "bind :80\n redirect scheme https unless { ssl_fc }\n",
                &["80 Plain / any address Some(Nothing) Redirect"],
            ),
            (
                "bind :80\n redirect scheme https if { hdr(host) a }\n",
                &["80 Plain / any address Some(Nothing) RedirectSometimes"],
            ),
            (
                "bind :80\n acl near src 10.4.0.0/24\n http-request deny unless near\n",
                &["80 Plain / 10.4.0.0/24 Some(Nothing)"],
            ),
            ("bind :80\n http-request deny if !{ src 10.4.0.9 }\n", &["80 Plain / 10.4.0.9 Some(Nothing)"]),
            (
                "bind :80\n acl far src 10.9.0.0/16\n http-request deny if far\n",
                &["80 Plain / any address Some(Nothing)"],
            ),
            (
                "bind :80\n http-request auth unless { http_auth(u) }\n",
                &["80 Plain / any address Some(Password)"],
            ),
            (
                "bind :8404\n stats enable\n stats uri /s\n",
                &["8404 Plain / any address Some(Nothing)", "8404 Plain /s any address Some(Nothing) Status"],
            ),
            (
                "bind :8404\n stats auth ann:Sesame9\n stats admin if TRUE\n",
                &[
                    "8404 Plain / any address Some(Nothing)",
                    "8404 Plain /haproxy?stats any address Some(Password) Status Commands",
                ],
            ),
            ("bind /run/x.sock\n", &[]),
            ("disabled\n bind :80\n", &[]),
        ] {
            let reading = of(&format!("defaults\n mode http\nfrontend f\n {inner}"));
            let line = |served: &Served, part: &ServiceResource| {
                let at = &served.endpoints[0];
                let remarks: Vec<String> = part.remarks.iter().map(|(one, _)| format!(" {one:?}")).collect();
                format!(
                    "{} {:?} {} {} {:?}{}",
                    at.port,
                    at.carried,
                    part.name,
                    part.sources.words(),
                    part.login.value(),
                    remarks.concat()
                )
            };
            let told: Vec<String> = reading
                .facts
                .served
                .iter()
                .flat_map(|one| one.parts.iter().map(move |part| line(one, part)))
                .collect();
            assert_eq!(told, wanted, "{inner}");
            assert!(reading.ledger.notes.is_empty() && !format!("{reading:?}").contains("Sesame"), "{inner}");
        }
    }

    #[test]
    fn versions() {
        for (global, bind, wanted) in [
            ("", "bind :443 ssl", "TLSv1.2 TLSv1.3"),
            (
                "ssl-default-bind-options ssl-min-ver TLSv1.0 no-tls-tickets",
                "bind :443 ssl",
                "TLSv1 TLSv1.1 TLSv1.2 TLSv1.3",
            ),
            ("ssl-default-bind-options ssl-min-ver TLSv1.0", "bind :443 ssl ssl-min-ver TLSv1.3", "TLSv1.3"),
            (
                "ssl-default-bind-options ssl-min-ver SSLv3 no-sslv3 no-tlsv10",
                "bind :443 ssl ciphers HIGH",
                "TLSv1.1 TLSv1.2 TLSv1.3 HIGH",
            ),
        ] {
            let reading = of(&format!("global\n {global}\nfrontend f\n {bind}\n"));
            let names: Vec<&str> =
                reading.facts.served[0].offers[0].algorithms.iter().map(|one| one.name.as_str()).collect();
            assert_eq!(names.join(" "), wanted, "{global} / {bind}");
        }
        assert_eq!(of("colour red\nfrontend f\n colour red\n").ledger.notes.len(), 2);
    }
}
