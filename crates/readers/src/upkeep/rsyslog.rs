//! `rsyslog.conf` and the files of `rsyslog.d` (rsyslog.conf(5), rsyslog documentation): where messages are sent, and from where
//! they are taken.
//!
//! Three notations are used together: selectors with an action (`*.* @host`), `$Directives`, and `action(type="omfwd" …)`.

use super::rsyslog_script::{Kind, pieces};
use crate::reader::{LineRecorder, ReadContext, Reader, Reading, Recognition, TELLING_LINES};
use crate::serving::{hold, host_and_port};
use std::collections::BTreeMap;
use trevlin_model::housekeeping::{LogKeeper, LogTarget};
use trevlin_model::secret::SecretKind;
use trevlin_model::served::{
    AuthRequirement, Endpoint, PartKind, Requirement, Served, ServedKind, ServiceResource, Sources,
    TransportSecurity,
};
use trevlin_model::{Export, Facts, LineClass, Origin, Protocol, Setting};

/// The reader.
pub(crate) const READER: Reader =
    Reader { name: "rsyslog", title: "logging (rsyslog)", manual: "rsyslog.conf(5)", recognise, read };

fn recognise(export: &Export) -> Recognition {
    let tells = export.lines().take(TELLING_LINES).any(|line| {
        let text = line.text.trim_start();
        text.starts_with("$ModLoad ")
            || text.starts_with("$IncludeConfig ")
            || text.starts_with("$ActionFileDefaultTemplate")
            || text.starts_with("module(load=\"im")
            || text.contains("action(type=\"om")
    });
    let path = export.path();
    if tells {
        Recognition::Content
    } else if export.file_name() == "rsyslog.conf" || (path.contains("rsyslog.d/") && path.ends_with(".conf"))
    {
        Recognition::Name
    } else {
        Recognition::No
    }
}

/// Whether it is the file that represents the daemon: the main one, otherwise the first of the folder.
fn stands_for_all(export: &Export, around: &ReadContext<'_>) -> bool {
    let all = around.of_format(&READER);
    all.map(|(one, _)| one.path())
        .min_by_key(|path| (!path.ends_with("rsyslog.conf"), *path))
        .is_none_or(|first| first == export.path())
}

#[derive(Default)]
struct State {
    targets: Vec<LogTarget>,
    inputs: Vec<Endpoint>,
    allowed: Option<Sources>,
    /// `$ActionSendStreamDriverMode 1` is about the actions behind it.
    driver: bool,
    /// A default stream driver with TLS.
    default_driver: bool,
    input_driver: bool,
    first: Option<Origin>,
}

fn read(export: &Export, around: &ReadContext<'_>) -> Reading {
    let mut reading = Reading::of(export);
    let mut book = LineRecorder::new(export, &mut reading.ledger, &mut reading.elsewhere);
    let mut state = State::default();
    load(export, &mut state, &mut book, &mut reading.facts);
    if !stands_for_all(export, around) {
        return reading;
    }
    let all = around.of_format(&READER).map(|(one, _)| one);
    let mut others: Vec<&Export> = all.filter(|one| one.path() != export.path()).collect();
    others.sort_by_key(|one| one.path());
    for other in &others {
        let mut aside = Reading::of(other);
        let mut aside_book = LineRecorder::new(other, &mut aside.ledger, &mut aside.elsewhere);
        load(other, &mut state, &mut aside_book, &mut aside.facts);
    }
    others.insert(0, export);
    let open = others.iter().flat_map(|one| missing(one, around)).collect();
    let origin = state.first.unwrap_or_else(|| export.origin(0..0));
    if !state.inputs.is_empty() {
        let line = state.inputs[0].origin;
        let mut served =
            Served::new(ServedKind::Logs, "rsyslog", "syslog server (rsyslog)", &["rsyslog"], line);
        served.endpoints = std::mem::take(&mut state.inputs);
        let mut part = ServiceResource::new(PartKind::Whole, "syslog server (rsyslog)", line);
        part.login = Setting::Stated { value: AuthRequirement::Nothing, origin: line };
        part.sources = state.allowed.take().unwrap_or_else(Sources::everybody);
        let least = served.endpoints.iter().map(|one| one.carried).min();
        let demand = if least == Some(TransportSecurity::Encrypted) {
            Requirement::Required
        } else {
            Requirement::Never
        };
        part.encryption = Some(Setting::Stated { value: demand, origin: line });
        served.parts.push(part);
        reading.facts.served.push(served);
    }
    reading.facts.log_keepers.push(LogKeeper { program: "rsyslog", targets: state.targets, open, origin });
    reading
}

/// Files named by `$IncludeConfig` and `include()` that are not among the exports; a pattern may match none, and optional files may be
/// missing.
fn missing(export: &Export, around: &ReadContext<'_>) -> Vec<(String, Origin)> {
    let named = |text: &str| {
        let text = text.trim();
        let path = match text.strip_prefix("$IncludeConfig") {
            Some(rest) => rest.trim(),
            None if text.starts_with("include(") && !text.contains("optional") => {
                text.split_once("file=\"")?.1.split('"').next()?
            }
            None => return None,
        };
        // Every file of a folder is included, or none.
        let one = !path.is_empty() && !path.contains(['*', '?', '[']) && !path.ends_with('/');
        (one && around.find_all(path, export).is_empty()).then(|| path.to_owned())
    };
    let lines =
        export.lines().filter_map(|line| Some((named(line.text)?, export.origin_of(line.text.trim()))));
    lines.map(|(path, origin)| (crate::reader::missing_note(&path), origin)).collect()
}

/// Statements in order. What follows a selector on its line belongs to it.
fn load(export: &Export, state: &mut State, book: &mut LineRecorder<'_>, facts: &mut Facts) {
    let text = export.text();
    // Beginning of the selector, `&` or condition that the next action belongs to.
    let mut before: Option<usize> = None;
    // The rest of a line that is not understood is part of it.
    let mut lost = 0;
    for (kind, range) in pieces(text) {
        if range.start < lost {
            continue;
        }
        let own = &text[range.clone()];
        let start = before.filter(|start| !text[*start..range.start].contains('\n')).unwrap_or(range.start);
        let origin = export.origin(start..range.end);
        state.first.get_or_insert(origin);
        let class = match kind {
            Kind::Directive => directive(&own[1..], origin, state),
            Kind::Object => object(own, origin, state, export, facts),
            Kind::Action => action(own, origin, state, export, facts),
            // The name of a user needs a selector before it.
            Kind::Bare if before.is_none() => LineClass::NotUnderstood,
            Kind::Unknown => LineClass::NotUnderstood,
            Kind::Filter if !own.starts_with(':') && !names_facilities(own) => LineClass::NotUnderstood,
            Kind::Filter | Kind::Expression | Kind::Word | Kind::Bare => LineClass::Ignored,
        };
        match class {
            LineClass::NotUnderstood => {
                lost = text[range.end..].find('\n').map_or(text.len(), |end| range.end + end);
                book.not_understood(
                    origin,
                    "expected a selector with an action, a `$Directive` or a statement as `action(…)`; the daemon ignores it",
                );
            }
            LineClass::Understood => book.understood(origin),
            LineClass::Ignored => {}
        }
        before = match kind {
            Kind::Filter | Kind::Expression => Some(start),
            Kind::Word if own != "}" => Some(start),
            // Several actions of one selector.
            Kind::Object | Kind::Action | Kind::Bare => before.filter(|_| kind == Kind::Object),
            _ => None,
        };
    }
}

/// An object with its parameters.
fn object(text: &str, origin: Origin, state: &mut State, export: &Export, facts: &mut Facts) -> LineClass {
    let name = text.split(['(', ' ', '\t', '\n']).next().unwrap_or_default().to_ascii_lowercase();
    let kind = match name.as_str() {
        "module" => Call::Module,
        "input" => Call::Input,
        "global" => Call::Global,
        "action" => Call::Action,
        _ => return LineClass::Ignored,
    };
    let given = parameters(text);
    for name in ["pwd", "password"] {
        if let Some(value) = given.get(name) {
            let at = text.find(value.as_str()).map_or(text, |at| &text[at..at + value.len()]);
            hold(export, facts, at, SecretKind::OwnPassword, "rsyslog");
        }
    }
    call(kind, &given, origin, state)
}

/// An action in the old notation: `@host`, `@@host`, `:omrelp:host:port`, and databases as `:ommysql:host,name,user,password` or
/// `>host,name,user,password`.
fn action(text: &str, origin: Origin, state: &mut State, export: &Export, facts: &mut Facts) -> LineClass {
    if text.starts_with('@') || text.starts_with(":omrelp:") {
        legacy(text, origin, state);
        return LineClass::Understood;
    }
    let database = [":ommysql:", ":ompgsql:", ">"].into_iter().find_map(|head| text.strip_prefix(head));
    let Some(database) = database else { return LineClass::Ignored };
    let mut parts = database.split(';').next().unwrap_or_default().split(',');
    target(parts.next().unwrap_or_default(), true, TransportSecurity::Plain, origin, state);
    if let Some(password) = parts.nth(2) {
        hold(export, facts, password.trim(), SecretKind::OwnPassword, "rsyslog");
    }
    LineClass::Understood
}

/// A host that messages are sent to, unless it is the device itself.
fn target(host: &str, reliable: bool, carried: TransportSecurity, origin: Origin, state: &mut State) {
    let host = host.trim();
    let local = host.is_empty()
        || host.starts_with('/')
        || host.eq_ignore_ascii_case("localhost")
        || host.parse::<std::net::IpAddr>().is_ok_and(|address| address.is_loopback());
    if !local {
        state.targets.push(LogTarget { host: host.to_owned(), carried, reliable, origin });
    }
}

/// `@host` by UDP, `@@host` by TCP, `:omrelp:host:port`.
fn legacy(target: &str, origin: Origin, state: &mut State) {
    let relp = target.strip_prefix(":omrelp:");
    let tcp = target.starts_with("@@");
    let place = relp.unwrap_or_else(|| target.trim_start_matches('@'));
    // Options in brackets stand before the host, a template behind a semicolon.
    let place = place.split(')').next_back().unwrap_or(place).split(';').next().unwrap_or(place);
    let host = host_and_port(place).0.unwrap_or(place);
    let encrypted = tcp && state.driver;
    state.targets.push(LogTarget {
        host: host.to_owned(),
        carried: if encrypted { TransportSecurity::Encrypted } else { TransportSecurity::Plain },
        reliable: tcp || relp.is_some(),
        origin,
    });
}

fn directive(rest: &str, origin: Origin, state: &mut State) -> LineClass {
    let (name, value) =
        rest.split_once(char::is_whitespace).map_or((rest, ""), |(name, value)| (name, value.trim()));
    let port = || value.parse::<u16>().ok();
    match name.to_ascii_lowercase().as_str() {
        "udpserverrun" => {
            let at = port()
                .map(|port| Endpoint::everywhere(Protocol::UDP, port, TransportSecurity::Plain, origin));
            state.inputs.extend(at);
        }
        "inputtcpserverrun" => {
            let carried =
                if state.input_driver { TransportSecurity::Encrypted } else { TransportSecurity::Plain };
            let at = port().map(|port| Endpoint::everywhere(Protocol::TCP, port, carried, origin));
            state.inputs.extend(at);
        }
        "inputrelpserverrun" => {
            let at = port()
                .map(|port| Endpoint::everywhere(Protocol::TCP, port, TransportSecurity::Plain, origin));
            state.inputs.extend(at);
        }
        "inputtcpserverstreamdrivermode" => state.input_driver = value == "1",
        "actionsendstreamdrivermode" => state.driver = value == "1",
        "defaultnetstreamdriver" => state.default_driver = matches!(value, "gtls" | "ossl"),
        "allowedsender" => allowed(value, origin, state),
        _ => return LineClass::Ignored,
    }
    LineClass::Understood
}

/// `UDP, 127.0.0.1, 10.4.0.0/16, *.yard.example`.
fn allowed(value: &str, origin: Origin, state: &mut State) {
    let held = state.allowed.get_or_insert_default();
    held.origins.push(origin);
    for word in value.split(',').skip(1).map(str::trim).filter(|word| !word.is_empty()) {
        crate::serving::host(word.trim_matches(['[', ']']), held);
    }
}

#[derive(Clone, Copy)]
enum Call {
    Module,
    Input,
    Global,
    Action,
}

/// `name="value"` pairs of a statement in brackets, names in small letters.
fn parameters(text: &str) -> BTreeMap<String, String> {
    let mut found = BTreeMap::new();
    let mut rest = text;
    while let Some(at) = rest.find("=\"") {
        let name: String = rest[..at]
            .chars()
            .rev()
            .take_while(|one| one.is_ascii_alphanumeric() || "._-".contains(*one))
            .collect();
        let name: String = name.chars().rev().collect::<String>().to_ascii_lowercase();
        rest = &rest[at + 2..];
        let end = rest.find('"').unwrap_or(rest.len());
        found.insert(name, rest[..end].to_owned());
        rest = &rest[(end + 1).min(rest.len())..];
    }
    found
}

/// Facilities of a selector (rsyslog.conf(5), SELECTORS).
const FACILITIES: [&str; 27] = [
    "*", "alert", "audit", "auth", "authpriv", "clock", "cron", "daemon", "ftp", "kern", "local0", "local1",
    "local2", "local3", "local4", "local5", "local6", "local7", "lpr", "mail", "mark", "news", "ntp",
    "security", "syslog", "user", "uucp",
];

/// Whether a selector names facilities that are known: `mail,cron.*;auth.info`. One by a number is known as well.
fn names_facilities(selector: &str) -> bool {
    let known = |name: &str| {
        FACILITIES.contains(&name.to_ascii_lowercase().as_str())
            || name.parse::<u8>().is_ok_and(|one| one < 24)
    };
    let parts = selector.split(';').filter(|part| !part.is_empty());
    let lists = parts.filter_map(|part| part.split_once('.'));
    lists.flat_map(|(names, _)| names.split(',')).all(|name| known(name.trim()))
}

fn call(kind: Call, given: &BTreeMap<String, String>, origin: Origin, state: &mut State) -> LineClass {
    let get = |name: &str| given.get(name).map(String::as_str);
    let is = |name: &str, wanted: &str| get(name).is_some_and(|value| value.eq_ignore_ascii_case(wanted));
    match kind {
        Call::Module => {
            if is("load", "imtcp") {
                state.input_driver |= is("streamdriver.mode", "1");
                return LineClass::Understood;
            }
            LineClass::Ignored
        }
        Call::Global => {
            state.default_driver |=
                is("defaultnetstreamdriver", "gtls") || is("defaultnetstreamdriver", "ossl");
            LineClass::Understood
        }
        Call::Input => {
            let (protocol, encrypted) = match get("type") {
                Some("imudp") => (Protocol::UDP, false),
                Some("imtcp") => (Protocol::TCP, is("streamdriver.mode", "1") || state.input_driver),
                Some("imrelp") => (Protocol::TCP, is("tls", "on")),
                _ => return LineClass::Ignored,
            };
            let port = get("port").and_then(|port| port.parse().ok()).unwrap_or(514);
            let carried = if encrypted { TransportSecurity::Encrypted } else { TransportSecurity::Plain };
            let at = Endpoint::everywhere(protocol, port, carried, origin);
            let address = get("address").and_then(|text| text.parse().ok());
            state.inputs.push(match address {
                Some(address) => at.at(address),
                None => at,
            });
            LineClass::Understood
        }
        Call::Action => {
            let kind = get("type").unwrap_or_default().to_ascii_lowercase();
            let encrypted_by = |name: &str, otherwise: bool| match get(name) {
                Some(value) => value == "1" || value.eq_ignore_ascii_case("on"),
                None => otherwise,
            };
            // Host, whether delivery is confirmed, and whether it is encrypted, by the module's documentation.
            let (host, reliable, encrypted) = match kind.as_str() {
                "omfwd" => (get("target"), is("protocol", "tcp"), encrypted_by("streamdrivermode", false)),
                "omrelp" => (get("target"), true, encrypted_by("tls", false)),
                "omudpspoof" => (get("target"), false, false),
                "omgssapi" => (get("target"), true, true),
                "omelasticsearch" => (get("server"), true, encrypted_by("usehttps", false)),
                "omhttp" => (get("server"), true, encrypted_by("usehttps", true)),
                "omkafka" => {
                    let secure = get("confparam").is_some_and(|text| text.contains("security.protocol=s"));
                    (get("broker"), true, secure)
                }
                "omrabbitmq" => (get("host"), true, encrypted_by("ssl", false)),
                "ommysql" | "ompgsql" | "omhiredis" | "omclickhouse" => (get("server"), true, false),
                _ => return LineClass::Ignored,
            };
            let carried = if encrypted { TransportSecurity::Encrypted } else { TransportSecurity::Plain };
            if matches!(kind.as_str(), "omfwd" | "omrelp") {
                state.targets.push(LogTarget {
                    host: host.unwrap_or_default().to_owned(),
                    carried,
                    reliable,
                    origin,
                });
            } else {
                target(host.unwrap_or_default(), reliable, carried, origin, state);
            }
            LineClass::Understood
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use trevlin_model::ExportId;

    fn of(text: &str) -> Reading {
        let export = Export::new(ExportId(0), "d/etc/rsyslog.conf", text.into());
        read(&export, &ReadContext::of(vec![&export]))
    }

    #[test]
    fn targets() {
        for (text, wanted) in [
            ("*.* /var/log/all\n", &[][..]),
            ("*.* @10.4.0.9\n", &["10.4.0.9 Plain false"]),
            ("*.* @@log.example:6514;RSYSLOG_Format\n", &["log.example Plain true"]),
            (
                "auth.* @@(o)log.example\n& @10.4.0.8:514\n",
                &["log.example Plain true", "10.4.0.8 Plain false"],
            ),
            ("$ActionSendStreamDriverMode 1\n*.* @@log.example\n", &["log.example Encrypted true"]),
            (
                "*.* action(type=\"omfwd\"\n  target=\"log.example\" port=\"6514\" protocol=\"tcp\"\n  StreamDriverMode=\"1\")\n",
                &["log.example Encrypted true"],
            ),
            ("action(type=\"omrelp\" target=\"log.example\")\n", &["log.example Plain true"]),
            ("# *.* @10.4.0.9\n", &[]),
            ("if $msg contains 'x' then @10.4.0.9\n", &["10.4.0.9 Plain false"]),
            (
                "if $msg contains 'x' or\n   $msg contains '@y' then {\n  @@log.example\n  @10.4.0.9\n  stop\n}\n",
                &["log.example Plain true", "10.4.0.9 Plain false"],
            ),
            (
                "*.* action(type=\"omfile\" file=\"/x\") action(type=\"omfwd\" target=\"log.example\")\n",
                &["log.example Plain false"],
            ),
            ("*.info;\\\n  mail.none @@log.example\n*.emerg :omusrmsg:*\n", &["log.example Plain true"]),
            (
                "template(name=\"t\" type=\"list\") {\n  constant(value=\"@h\")\n}\n*.* @10.4.0.9;t\n",
                &["10.4.0.9 Plain false"],
            ),
            (
                "*.* action(type=\"omelasticsearch\" server=\"store.example\" usehttps=\"on\")\n",
                &["store.example Encrypted true"],
            ),
            ("*.* >db.example,syslog,logger,Kiosk-Tern-9\n", &["db.example Plain true"]),
            ("*.* :ommysql:localhost,syslog,logger,Kiosk-Tern-9\n", &[]),
        ] {
            let reading = of(text);
            let line = |one: &LogTarget| format!("{} {:?} {}", one.host, one.carried, one.reliable);
            assert_eq!(
                reading.facts.log_keepers[0].targets.iter().map(line).collect::<Vec<_>>(),
                wanted,
                "{text}"
            );
            assert!(reading.ledger.notes.is_empty(), "{text}: {:?}", reading.ledger.notes);
        }
    }

    #[test]
    fn inputs() {
        for (text, wanted) in [
            (
                "module(load=\"imudp\")\ninput(type=\"imudp\" port=\"514\")\n",
                "udp None 514 Plain any address",
            ),
            (
                "$ModLoad imtcp\n$AllowedSender TCP, 10.4.0.0/16\n$InputTCPServerRun 10514\n",
                "tcp None 10514 Plain 10.4.0.0/16",
            ),
            (
                "module(load=\"imtcp\" StreamDriver.Mode=\"1\")\ninput(type=\"imtcp\" port=\"6514\" address=\"10.4.0.9\")\n",
                "tcp Some(10.4.0.9) 6514 Encrypted any address",
            ),
        ] {
            let reading = of(text);
            let served = &reading.facts.served[0];
            let one = &served.endpoints[0];
            let told = format!(
                "{} {:?} {} {:?} {}",
                one.protocol.name(),
                one.address,
                one.port,
                one.carried,
                served.parts[0].sources.words()
            );
            assert_eq!(told, wanted, "{text}");
        }
        assert!(!of("wobble wobble\n").ledger.notes.is_empty());
    }

    #[test]
    fn files_of_the_folder_belong_to_it() {
        let main =
            Export::new(ExportId(0), "d/etc/rsyslog.conf", "$IncludeConfig /etc/rsyslog.d/*.conf\n".into());
        let more = Export::new(ExportId(1), "d/etc/rsyslog.d/50-out.conf", "*.* @10.4.0.9\n".into());
        let around = ReadContext::of(vec![&main, &more]);
        assert_eq!(read(&main, &around).facts.log_keepers[0].targets.len(), 1);
        assert!(read(&more, &around).facts.log_keepers.is_empty());
    }
}
