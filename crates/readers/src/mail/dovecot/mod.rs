//! Dovecot: where mail is fetched, and how passwords get there.
//!
//! Format: the configuration file of Dovecot 2.3, doveconf(1); the defaults that `doveconf -d` prints.

use crate::reader::{LineRecorder, ReadContext, Reader, Reading, Recognition};
use crate::serving::{self, is_known, truth};
use crate::tls;
use std::collections::{BTreeMap, BTreeSet};
use std::net::IpAddr;
use trevlin_model::offer::Offer;
use trevlin_model::secret::SecretKind;
use trevlin_model::served::{
    AuthRequirement, Endpoint, PartKind, Remark, Requirement, Served, ServedKind, ServiceResource,
    TransportSecurity,
};
use trevlin_model::{DefaultValue, Export, ExportId, LineClass, Origin, Protocol, Setting};

/// The reader.
pub(crate) const READER: Reader =
    Reader { name: "dovecot", title: "mailboxes (Dovecot)", manual: "doveconf(1)", recognise, read };

fn recognise(export: &Export) -> Recognition {
    let (folder, name) = export.path().rsplit_once('/').unwrap_or(("", export.path()));
    if name == "dovecot.conf" || is_report(export) {
        return Recognition::Content;
    }
    let inside = folder.ends_with("/dovecot") || folder.ends_with("/dovecot/conf.d") || folder == "dovecot";
    let named = [".conf", ".ext", ".local"].iter().any(|end| name.ends_with(end));
    if inside && named { Recognition::Name } else { Recognition::No }
}

/// Output of `doveconf -n`.
fn is_report(export: &Export) -> bool {
    export.lines().take(2).any(|line| line.text.starts_with("# 2.") && line.text.contains("dovecot.conf"))
}

/// A protocol by which mail is fetched or handed in.
struct KnownProtocol {
    name: &'static str,
    title: &'static str,
    /// The file of settings that its package brings along.
    file: &'static str,
    /// Its ports: without TLS or with STARTTLS, and with TLS from the start.
    ports: (Option<u16>, Option<u16>),
}

const fn protocol(
    name: &'static str,
    title: &'static str,
    file: &'static str,
    plain: u16,
    wrapped: Option<u16>,
) -> KnownProtocol {
    KnownProtocol { name, title, file, ports: (Some(plain), wrapped) }
}

/// Protocols, with the defaults of Dovecot 2.3.
const PROTOCOLS: [KnownProtocol; 4] = [
    protocol("imap", "IMAP server (Dovecot)", "20-imap.conf", 143, Some(993)),
    protocol("pop3", "POP3 server (Dovecot)", "20-pop3.conf", 110, Some(995)),
    protocol("sieve", "ManageSieve server (Dovecot)", "20-managesieve.conf", 4190, None),
    protocol("submission", "submission server (Dovecot)", "20-submission.conf", 587, None),
];

/// A value and its place.
type Value = (String, Origin);

/// All settings of a device, by the names of the blocks around them: `service imap-login/inet_listener imap/port`.
#[derive(Default)]
struct Settings {
    values: BTreeMap<String, Value>,
    /// Names of the blocks that occur.
    blocks: BTreeSet<String>,
    /// Blocks without a name of their own, one after the other (`passdb`).
    passwords: Vec<BTreeMap<String, Value>>,
    /// A file that is included and is not among the exports.
    missing: bool,
    /// Files that were read.
    read: BTreeSet<ExportId>,
}

impl Settings {
    fn get(&self, name: &str) -> Option<(&str, Origin)> {
        self.values.get(name).map(|(text, origin)| (text.as_str(), *origin))
    }

    fn is_on(&self, name: &str, usual: bool) -> (bool, Option<Origin>) {
        match self.get(name) {
            Some((text, origin)) => (truth(text).unwrap_or(usual), Some(origin)),
            None => (usual, None),
        }
    }
}

/// One line of a file.
enum Line<'a> {
    Set(&'a str, &'a str),
    Open(String),
    Close,
    Include(&'a str),
    Strange,
}

/// The lines with content, comments taken away.
fn lines(export: &Export) -> impl Iterator<Item = (Line<'_>, &str)> {
    export.lines().filter_map(|line| {
        let text = before_comment(line.text.trim());
        if text.is_empty() {
            return None;
        }
        let included = text.strip_prefix("!include_try ").or_else(|| text.strip_prefix("!include "));
        let found = if let Some(pattern) = included {
            Line::Include(pattern.trim())
        } else if text == "}" {
            Line::Close
        } else if let Some(head) = text.strip_suffix('{') {
            let words: Vec<&str> = head.split_whitespace().map(|word| word.trim_matches('"')).collect();
            Line::Open(words.join(" "))
        } else {
            match text.split_once('=') {
                Some((key, value)) => Line::Set(key.trim(), value.trim().trim_matches('"')),
                None => Line::Strange,
            }
        };
        Some((found, text))
    })
}

/// What stands before a number sign that begins a word and is not in quotes.
fn before_comment(text: &str) -> &str {
    let (mut quoted, mut blank) = (false, true);
    for (at, letter) in text.char_indices() {
        match letter {
            '"' => quoted = !quoted,
            '#' if blank && !quoted => return text[..at].trim_end(),
            _ => {}
        }
        blank = letter.is_whitespace();
    }
    text
}

fn collect(export: &Export, around: &ReadContext<'_>, settings: &mut Settings, depth: usize) {
    if depth == 0 || !settings.read.insert(export.id()) {
        return;
    }
    let mut blocks: Vec<String> = Vec::new();
    for (line, text) in lines(export) {
        match line {
            Line::Open(name) => {
                if blocks.is_empty() && (name == "passdb" || name.starts_with("passdb ")) {
                    settings.passwords.push(BTreeMap::new());
                }
                blocks.push(name);
                settings.blocks.insert(blocks.join("/"));
            }
            Line::Close => {
                blocks.pop();
            }
            Line::Set(key, value) => {
                let value = (value.to_owned(), export.origin_of(text));
                if let Some(last) = settings
                    .passwords
                    .last_mut()
                    .filter(|_| blocks.first().is_some_and(|name| name.starts_with("passdb")))
                {
                    last.insert(key.to_owned(), value);
                } else {
                    blocks.push(key.to_owned());
                    settings.values.insert(blocks.join("/"), value);
                    blocks.pop();
                }
            }
            Line::Include(pattern) => {
                let found = around.find_all(pattern, export);
                settings.missing |= found.is_empty() && pattern.starts_with('/');
                for file in found {
                    collect(file, around, settings, depth - 1);
                }
            }
            Line::Strange => {}
        }
    }
}

fn read(export: &Export, around: &ReadContext<'_>) -> Reading {
    let mut reading = Reading::of(export);
    reading.ledger.set(1, export.line_count(), LineClass::Ignored);
    let main = export.file_name() == "dovecot.conf" || is_report(export);
    let part = export.path().ends_with(".ext");
    let mut blocks: Vec<String> = Vec::new();
    let mut found = Vec::new();
    let mut book = LineRecorder::new(export, &mut reading.ledger, &mut reading.elsewhere);
    for (line, text) in lines(export) {
        let origin = export.origin_of(text);
        match line {
            Line::Open(name) => {
                let kind = name.split(' ').next().unwrap_or_default();
                let inner = blocks.iter().any(|name| name.starts_with("plugin") || name.starts_with("dict"));
                if inner || is_known("dovecot-blocks", kind) || (part && is_known("dovecot-ext", kind)) {
                    book.class(origin, LineClass::Understood);
                } else {
                    book.not_understood(origin, serving::unknown("Dovecot (`doveconf -d`)"));
                }
                blocks.push(name);
            }
            Line::Close => {
                book.class(origin, LineClass::Understood);
                if blocks.pop().is_none() {
                    book.not_understood(origin, "expected a block that this bracket closes");
                }
            }
            Line::Include(..) => book.class(origin, LineClass::Understood),
            Line::Set(key, value) => {
                found.extend(secret(key, value, &blocks));
                // Settings of plug-ins and of other parts have names of their own.
                let lower = key.to_ascii_lowercase();
                let known = is_known("dovecot", &lower) || (part && is_known("dovecot-ext", &lower));
                let free = blocks
                    .iter()
                    .any(|name| name.starts_with("plugin") || name.starts_with("dict") || name == "fields")
                    || key.starts_with("args")
                    || key.starts_with("mail_plugin");
                if free || known {
                    book.class(origin, LineClass::Understood);
                } else {
                    book.not_understood(origin, serving::unknown("Dovecot (`doveconf -d`)"));
                }
            }
            Line::Strange if part => {}
            Line::Strange => book.not_understood(origin, "expected `name = value`, `name {` or `}`"),
        }
    }
    for (value, owner) in found {
        serving::hold(export, &mut reading.facts, value, SecretKind::ServicePassword, &owner);
    }
    if main {
        let mut settings = Settings::default();
        collect(export, around, &mut settings, 8);
        reading.facts.served = served(&settings, export, around);
    }
    reading
}

/// A password in a setting, and of what it is: `password=` in arguments, and settings named so.
fn secret<'a>(key: &str, value: &'a str, blocks: &[String]) -> Option<(&'a str, String)> {
    let owner = || {
        let mut names = blocks.to_vec();
        names.push(key.to_owned());
        names.join(" ")
    };
    if (key.ends_with("password") || key == "dnpass") && !value.starts_with('<') && !value.contains('%') {
        return Some((value, owner()));
    }
    if matches!(key, "args" | "connect" | "default_fields") {
        let words = value.split_whitespace();
        let password =
            words.filter_map(|word| word.strip_prefix("password=")).find(|word| !word.contains('%'))?;
        return Some((password, owner()));
    }
    None
}

fn served(settings: &Settings, export: &Export, around: &ReadContext<'_>) -> Vec<Served> {
    let top = lines(export).next().map_or(export.origin(0..0), |(_, text)| export.origin_of(text));
    let stated = settings.get("protocols");
    // Packages name their protocols in a folder of their own; each has a file of settings beside the others.
    let by_file =
        |file: &str| around.exports.iter().any(|one| one.path().ends_with(&format!("dovecot/conf.d/{file}")));
    let mut found = Vec::new();
    for KnownProtocol { name: protocol, title: name, file, ports } in PROTOCOLS {
        let on = match stated {
            Some((list, _)) if !settings.missing || !list.is_empty() => {
                list.split_whitespace().any(|one| one == protocol)
            }
            _ => by_file(file),
        };
        if !on {
            continue;
        }
        let line = stated.map_or(top, |(_, origin)| origin);
        let mut one = Served::new(ServedKind::Mail, "Dovecot", name, &["dovecot"], line).labelled(protocol);
        let service = match protocol {
            "sieve" => "service managesieve-login".to_owned(),
            other => format!("service {other}-login"),
        };
        let (ssl, ssl_at) = ssl(settings);
        one.endpoints = places(settings, &service, protocol, ports, &ssl, ssl_at.unwrap_or(line));
        if one.endpoints.is_empty() {
            continue;
        }
        one.parts.extend(login(settings, name, &ssl, ssl_at, line));
        one.offers.extend(offer(settings));
        found.push(one);
    }
    found.extend(doveadm(settings));
    found
}

/// `ssl`: `no`, `yes` or `required`.
fn ssl(settings: &Settings) -> (String, Option<Origin>) {
    match settings.get("ssl") {
        Some((text, origin)) => (text.to_ascii_lowercase(), Some(origin)),
        None => ("yes".to_owned(), None),
    }
}

/// The listeners of a service: the two of the protocol, unless their port is 0, and others of its block.
fn places(
    settings: &Settings,
    service: &str,
    protocol: &str,
    usual: (Option<u16>, Option<u16>),
    ssl: &str,
    line: Origin,
) -> Vec<Endpoint> {
    let secured = format!("{protocol}s");
    let mut names: BTreeSet<String> = BTreeSet::new();
    names.extend(usual.0.map(|_| protocol.to_owned()));
    names.extend(usual.1.map(|_| secured.clone()));
    let prefix = format!("{service}/inet_listener ");
    names.extend(settings.blocks.iter().filter_map(|block| block.strip_prefix(&prefix)).map(str::to_owned));
    let mut found = Vec::new();
    for name in names {
        let key = |key: &str| settings.get(&format!("{prefix}{name}/{key}"));
        let own = match name.as_str() {
            one if one == protocol => usual.0,
            one if one == secured => usual.1,
            _ => None,
        };
        let port = match key("port") {
            Some((text, _)) => text.parse().unwrap_or_default(),
            None => own.unwrap_or_default(),
        };
        if port == 0 {
            continue;
        }
        let wrapped = key("ssl").map_or(name == secured, |(text, _)| truth(text) == Some(true));
        let carried = match (wrapped, ssl) {
            // Places for TLS are then left out.
            (true, "no") => continue,
            (_, "no") => TransportSecurity::Plain,
            (true, _) => TransportSecurity::Encrypted,
            (false, _) => TransportSecurity::Optional,
        };
        let origin = key("port").map_or(line, |(_, origin)| origin);
        let everywhere = Endpoint::everywhere(Protocol::TCP, port, carried, origin);
        let list = key("address").or_else(|| settings.get("listen"));
        let words: Vec<&str> = list
            .map_or("*, ::", |(text, _)| text)
            .split([',', ' '])
            .filter(|word| !word.is_empty())
            .collect();
        let every = words.iter().any(|word| matches!(*word, "*" | "0.0.0.0"))
            && words.iter().any(|word| matches!(*word, "::" | "[::]"));
        if every {
            found.push(everywhere);
            continue;
        }
        for word in words {
            let bare = if word == "*" { "0.0.0.0" } else { word.trim_matches(['[', ']']) };
            match bare.parse::<IpAddr>() {
                Ok(address) => found.push(everywhere.clone().at(address)),
                Err(_) if bare == "localhost" => found.push(everywhere.clone().at([127, 0, 0, 1].into())),
                Err(_) => found.push(everywhere.clone()),
            }
        }
    }
    found
}

/// How clients log in: the weakest mechanism, and whether a password comes encrypted only (`disable_plaintext_auth`).
fn login(
    settings: &Settings,
    name: &str,
    ssl: &str,
    ssl_at: Option<Origin>,
    line: Origin,
) -> Option<ServiceResource> {
    let (only, only_at) = settings.is_on("disable_plaintext_auth", true);
    let mechanisms = settings.get("auth_mechanisms");
    let listed = mechanisms.map_or("plain", |(text, _)| text).to_ascii_lowercase();
    let words: Vec<&str> = listed.split([' ', ',']).filter(|word| !word.is_empty()).collect();
    let plain = words.iter().any(|word| matches!(*word, "plain" | "login" | "xoauth2" | "oauthbearer"));
    let at = mechanisms.map_or(line, |(_, origin)| origin);
    let mut part = ServiceResource::new(PartKind::Whole, name, line);
    part.writes = Setting::Stated { value: true, origin: line };
    let open = settings.passwords.iter().find_map(|one| {
        let (driver, _) = one.get("driver")?;
        let (args, origin) = one.get("args")?;
        let none = args.split_whitespace().any(|word| word == "nopassword" || word == "nopassword=y");
        (driver == "static" && none).then_some(*origin)
    });
    let login = if let Some(origin) = open {
        (AuthRequirement::Nothing, origin)
    } else if words.contains(&"anonymous") {
        (AuthRequirement::Nothing, at)
    } else if plain {
        (AuthRequirement::Password, at)
    } else {
        (AuthRequirement::Proof, at)
    };
    // Without TLS, and with passwords over TLS alone, nobody logs in from elsewhere.
    if ssl == "no" && only && login.0 == AuthRequirement::Password {
        return None;
    }
    part.login = Setting::Stated { value: login.0, origin: login.1 };
    part.encryption = Some(match (ssl, only) {
        ("required", _) => Setting::Stated { value: Requirement::Required, origin: ssl_at.unwrap_or(line) },
        (_, true) => match only_at {
            Some(origin) => Setting::Stated { value: Requirement::Required, origin },
            None => Setting::Default(vec![DefaultValue {
                value: Requirement::Required,
                daemon: "Dovecot",
                versions: "2.0 and later",
                source: "doveconf(1), disable_plaintext_auth",
            }]),
        },
        ("no", false) => {
            Setting::Stated { value: Requirement::Never, origin: ssl_at.or(only_at).unwrap_or(line) }
        }
        _ => Setting::Stated { value: Requirement::Offered, origin: only_at.unwrap_or(line) },
    });
    Some(part)
}

/// Versions and ciphers, where lines state them.
fn offer(settings: &Settings) -> Option<Offer> {
    let ciphers = settings.get("ssl_cipher_list");
    let line = |name: &str| settings.get(name);
    if let Some((lowest, at)) = line("ssl_min_protocol") {
        let name = if lowest.eq_ignore_ascii_case("any") { "all" } else { lowest };
        return Some(tls::openssl(ciphers, [Some((name, at)), None], &[], at));
    }
    let (versions, at) = line("ssl_protocols")?;
    let words: Vec<&str> = versions.split_whitespace().collect();
    Some(tls::listed_by_exclusion(ciphers, &words, at))
}

/// The port by which other servers command this one.
fn doveadm(settings: &Settings) -> Option<Served> {
    let prefix = "service doveadm/inet_listener";
    let block = settings.blocks.iter().find(|block| block.starts_with(prefix))?;
    let (port, origin) = settings.get(&format!("{block}/port"))?;
    let port: u16 = port.parse().ok().filter(|port| *port > 0)?;
    let secured = settings.get(&format!("{block}/ssl")).is_some_and(|(text, _)| truth(text) == Some(true));
    let carried = if secured { TransportSecurity::Encrypted } else { TransportSecurity::Plain };
    let mut one = Served::new(ServedKind::Mail, "Dovecot", "doveadm (Dovecot)", &["dovecot"], origin)
        .labelled("doveadm");
    let everywhere = Endpoint::everywhere(Protocol::TCP, port, carried, origin);
    let address = settings.get(&format!("{block}/address")).and_then(|(text, _)| text.parse().ok());
    one.endpoints.push(match address {
        Some(address) => everywhere.at(address),
        None => everywhere,
    });
    let mut part = ServiceResource::new(PartKind::Whole, "doveadm (Dovecot)", origin);
    part.login = Setting::Stated { value: AuthRequirement::Password, origin };
    part.writes = Setting::Stated { value: true, origin };
    part.remarks.push((Remark::Administration, origin));
    one.parts.push(part);
    Some(one)
}

#[cfg(test)]
mod tests;
