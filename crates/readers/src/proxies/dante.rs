//! `danted.conf`: who may connect to a SOCKS server, and from there to others.
//!
//! Format: danted.conf(5). Rules of either kind are tried in order, the first that fits decides, and without one a request is blocked.

use crate::addresses;
use crate::reader::{LineRecorder, Reader, Reading, Recognition};
use crate::serving;
use trevlin_model::served::{
    AuthRequirement, Endpoint, Remark, Served, ServedKind, Sources, TransportSecurity,
};
use trevlin_model::{Export, IpRange, LineClass, Origin, Protocol, Taken};

/// The reader.
pub(crate) const READER: Reader = Reader {
    name: "danted",
    title: "SOCKS proxy (Dante)",
    manual: "danted.conf(5)",
    recognise: |export| match export.file_name() {
        "danted.conf" | "sockd.conf" => Recognition::Name,
        _ => Recognition::No,
    },
    read: |export, _| read(export),
};

/// Settings that become facts.
const JUDGED: [&str; 9] =
    ["command", "from", "internal", "internal.protocol", "method", "protocol", "socksmethod", "to", "user"];

/// A setting with its values.
#[derive(Debug)]
struct Statement<'a> {
    /// Name without its colon.
    name: &'a str,
    values: Vec<&'a str>,
    origin: Origin,
}

/// A rule, or the settings before all rules.
#[derive(Debug)]
struct Block<'a> {
    /// Words before the brace.
    head: Vec<&'a str>,
    body: Vec<Statement<'a>>,
    origin: Origin,
}

/// Words, with braces as words of their own, without comments.
fn words(export: &Export) -> impl Iterator<Item = &str> {
    export.lines().flat_map(|line| {
        let text = line.text.split('#').next().unwrap_or_default();
        let mut found = Vec::new();
        let mut start = None;
        for (at, letter) in text.char_indices().chain([(text.len(), ' ')]) {
            let brace = matches!(letter, '{' | '}');
            if (brace || letter.is_whitespace())
                && let Some(from) = start.take()
            {
                found.push(&text[from..at]);
            }
            if brace {
                found.push(&text[at..=at]);
            } else if !letter.is_whitespace() && start.is_none() {
                start = Some(at);
            }
        }
        found
    })
}

/// The settings before all rules, and the rules.
fn blocks(export: &Export) -> (Vec<Statement<'_>>, Vec<Block<'_>>) {
    let (mut settings, mut rules): (Vec<Statement<'_>>, Vec<Block<'_>>) = (Vec::new(), Vec::new());
    let (mut head, mut inside): (Vec<&str>, bool) = (Vec::new(), false);
    // Values of a setting end with its line, and those in a block with the next name.
    let same_line = |one: Origin, other: Origin| export.line_of(one.start) == export.line_of(other.start);
    for word in words(export) {
        let origin = export.origin_of(word);
        match word {
            "{" if !inside => {
                let origin = head.first().map_or(origin, |word| export.origin_of(word));
                rules.push(Block { head: std::mem::take(&mut head), body: Vec::new(), origin });
                inside = true;
            }
            "}" => {
                inside = false;
                head.clear();
            }
            _ => {
                let body = match rules.last_mut() {
                    Some(rule) if inside => &mut rule.body,
                    _ => &mut settings,
                };
                if let Some(name) = word.strip_suffix(':') {
                    head.clear();
                    body.push(Statement { name, values: Vec::new(), origin });
                } else if !inside && (is_head(word) || !head.is_empty()) {
                    head.push(word);
                } else if let Some(last) =
                    body.last_mut().filter(|last| inside || same_line(last.origin, origin))
                {
                    last.values.push(word);
                    last.origin.end = origin.end;
                } else {
                    head.push(word);
                }
            }
        }
    }
    (settings, rules)
}

/// Whether a word begins a rule.
fn is_head(word: &str) -> bool {
    matches!(
        word,
        "client" | "socks" | "hostid" | "pass" | "block" | "route" | "monitor" | "alarm" | "redirect"
    )
}

/// A rule for clients, or for their requests.
struct Rule<'a> {
    permits: bool,
    from: Sources,
    block: &'a Block<'a>,
}

fn read(export: &Export) -> Reading {
    let mut reading = Reading::of(export);
    let (settings, rules) = blocks(export);
    let mut book = LineRecorder::new(export, &mut reading.ledger, &mut reading.elsewhere);
    for text in serving::entries(export).filter(|text| text.trim_matches(['{', '}', ' ', '\t']).is_empty()) {
        book.class(export.origin_of(text), LineClass::Ignored);
    }
    for rule in &rules {
        let known = rule.head.iter().all(|word| is_head(word));
        match known && !rule.head.is_empty() {
            true => book.understood(rule.origin),
            false => book.not_understood(
                rule.origin,
                "expected `client pass`, `client block`, `socks pass` or `socks block` before a brace",
            ),
        }
    }
    for one in settings.iter().chain(rules.iter().flat_map(|rule| &rule.body)) {
        let name = one.name.to_ascii_lowercase();
        if book.is_told(one.origin) {
            continue;
        }
        match name.as_str() {
            name if JUDGED.contains(&name) => book.understood(one.origin),
            name if serving::is_known("danted", name) => book.class(one.origin, LineClass::Ignored),
            _ => book.not_understood(one.origin, serving::unknown("danted.conf(5)")),
        }
    }
    reading.facts.served.extend(served(&settings, &rules));
    reading
}

fn served(settings: &[Statement<'_>], rules: &[Block<'_>]) -> Option<Served> {
    let places: Vec<&Statement<'_>> = settings.iter().filter(|one| one.name == "internal").collect();
    let origin = places.first()?.origin;
    let mut served =
        Served::new(ServedKind::Proxies, "Dante", "SOCKS proxy (Dante)", &["danted", "sockd"], origin);
    for place in &places {
        let port =
            place.values.iter().position(|word| *word == "port").and_then(|at| place.values.get(at + 1..));
        let port =
            port.and_then(|rest| rest.iter().find_map(|word| word.trim_start_matches('=').parse().ok()));
        let endpoint =
            Endpoint::everywhere(Protocol::TCP, port.unwrap_or(1080), TransportSecurity::Plain, place.origin);
        let Some(host) = place.values.first() else { continue };
        served.endpoints.push(match host.parse() {
            Ok(address) => endpoint.at(address),
            Err(_) => Endpoint { interface: Some((*host).to_owned()), ..endpoint },
        });
    }
    let global = settings.iter().rev().find(|one| matches!(one.name, "socksmethod" | "method"));
    let Some(global) = global else {
        served.refused = Some(("`socksmethod` is not set, and every request is blocked".into(), origin));
        return Some(served);
    };
    let of_kind = |wanted: &str| {
        let fits = |block: &&Block<'_>| {
            let kind = block.head.iter().find(|word| !matches!(**word, "pass" | "block"));
            kind.map_or(wanted == "socks", |kind| *kind == wanted)
        };
        let rule = |block| rule(block);
        rules.iter().filter(fits).filter_map(rule).collect::<Vec<_>>()
    };
    let (clients, requests) = (of_kind("client"), of_kind("socks"));
    let let_on = first(&clients, |_| true);
    let permitted = |port: u16, with_login: bool| {
        let asked = first(&requests, |block| fits(block, &global.values, port, with_login));
        let mut both = asked.and(&let_on);
        // Names stand for other addresses in either list.
        both.names.dedup();
        both
    };
    let open = permitted(443, false);
    let at = open.origins.first().copied().unwrap_or(origin);
    let strong = |word: &str| word == "gssapi";
    let login = match global.values.iter().all(|word| strong(word)) {
        true => AuthRequirement::Proof,
        false => AuthRequirement::Password,
    };
    let with_login = Some((permitted(443, true), login, global.origin));
    served.parts = super::parts((open, at), with_login, origin);
    for part in &mut served.parts {
        let logged_in = part.login.value() != Some(&AuthRequirement::Nothing);
        let elsewhere = permitted(22, logged_in);
        if let Some(line) = elsewhere.origins.first().filter(|_| !elsewhere.and(&part.sources).is_nobody()) {
            part.remarks.push((Remark::AnyTarget, *line));
        }
    }
    Some(served)
}

/// A rule with the clients that it is for.
fn rule<'a>(block: &'a Block<'a>) -> Option<Rule<'a>> {
    let permits = block.head.contains(&"pass");
    let from = block.body.iter().find(|one| one.name == "from")?;
    let mut sources = Sources { origins: vec![block.origin], ..Sources::default() };
    if from.origin != block.origin {
        sources.origins.push(from.origin);
    }
    match from.values.first()? {
        &"0/0" | &"0.0.0.0/0/0" => sources.ranges = Sources::everybody().ranges,
        word => serving::host(word, &mut sources),
    }
    Some(Rule { permits, from: sources, block })
}

/// Clients that a list of rules permits; rules that do not fit are left out.
fn first(rules: &[Rule<'_>], fits: impl Fn(&Block<'_>) -> bool) -> Sources {
    let (mut taken, mut found) = (Taken::default(), Sources::default());
    for rule in rules.iter().filter(|rule| fits(rule.block)) {
        let mine: Vec<IpRange> = rule.from.ranges.iter().flat_map(|range| taken.take(*range)).collect();
        if rule.permits && (!mine.is_empty() || !rule.from.names.is_empty()) {
            found.ranges.extend(mine);
            found.names.extend(rule.from.names.iter().cloned());
            if found.origins.len() < super::MOST_LINES {
                found.origins.extend(rule.from.origins.iter().copied());
            }
        }
    }
    found
}

/// Whether a rule is for a connection to a port of a server on the Internet that no rule names.
fn fits(block: &Block<'_>, global: &[&str], port: u16, with_login: bool) -> bool {
    let value = |name: &str| block.body.iter().rev().find(|one| one.name == name);
    let permits = block.head.contains(&"pass");
    let anywhere = value("to").is_none_or(|to| {
        let everywhere = match to.values.first() {
            Some(&"0/0") => true,
            Some(word) => addresses::range_or_prefix(word).is_some_and(super::is_everywhere),
            None => false,
        };
        everywhere && at_port(&to.values, port)
    });
    let lists = |name: &str, wanted: &str| value(name).is_none_or(|one| one.values.contains(&wanted));
    let methods = value("socksmethod").or_else(|| value("method")).map_or(global, |one| &one.values);
    let login = if with_login {
        methods.iter().any(|word| *word != "none") || value("user").is_some()
    } else {
        methods.contains(&"none") && value("user").is_none()
    };
    // A rule that blocks is for whatever login it names.
    let login = login || !permits && value("socksmethod").is_none() && value("user").is_none();
    anywhere && lists("command", "connect") && lists("protocol", "tcp") && login
}

/// Whether a port is among those behind an address: `port = 80`, `port 1 - 1023`, `port gt 1023`, or every one.
fn at_port(values: &[&str], port: u16) -> bool {
    let Some(at) = values.iter().position(|word| *word == "port") else { return true };
    let number = |word: &&str| word.parse::<u16>().ok();
    match &values[at + 1..] {
        [first, "-", last, ..] => {
            number(first).zip(number(last)).is_some_and(|(first, last)| (first..=last).contains(&port))
        }
        [sign, wanted, ..] => number(wanted).is_some_and(|wanted| match *sign {
            "eq" | "=" => port == wanted,
            "neq" | "ne" | "!=" => port != wanted,
            "ge" | ">=" => port >= wanted,
            "le" | "<=" => port <= wanted,
            "gt" | ">" => port > wanted,
            "lt" | "<" => port < wanted,
            _ => false,
        }),
        _ => true,
    }
}
