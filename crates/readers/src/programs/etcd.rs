//! The store etcd: options of its units, `/etc/default/etcd`, and its file of YAML (etcd(1), "Configuration options").

use super::options::{self, Variables, Word};
use crate::reader::{LineRecorder, ReadContext, Reader, Reading, Recognition, missing_note};
use crate::{serving, yaml};
use std::collections::BTreeMap;
use trevlin_model::served::{
    AuthRequirement, Endpoint, PartKind, Requirement, Served, ServedKind, ServiceResource, TransportSecurity,
};
use trevlin_model::{Export, Limit, LineClass, Origin, Protocol, Setting};

/// The reader.
pub(crate) const READER: Reader = Reader {
    name: "etcd",
    title: "database (etcd)",
    manual: "the configuration guide of etcd",
    recognise: |export| {
        let path = export.path();
        match export.file_name() {
            "etcd" if path.ends_with("default/etcd") || path.ends_with("sysconfig/etcd") => Recognition::Name,
            "etcd.conf" | "etcd.conf.yml" | "etcd.conf.yaml" | "etcd.yml" | "etcd.yaml" => Recognition::Name,
            _ => Recognition::No,
        }
    },
    read,
};

/// Settings that become facts.
const JUDGED: [&str; 14] = [
    "auto-tls",
    "cert-file",
    "client-cert-auth",
    "client-transport-security",
    "config-file",
    "key-file",
    "listen-client-urls",
    "listen-metrics-urls",
    "listen-peer-urls",
    "peer-auto-tls",
    "peer-cert-file",
    "peer-client-cert-auth",
    "peer-key-file",
    "peer-transport-security",
];

/// Options without a value, whose presence means `true`.
const FLAGS: [&str; 13] = [
    "auto-tls",
    "client-cert-auth",
    "debug",
    "enable-grpc-gateway",
    "enable-pprof",
    "enable-v2",
    "force-new-cluster",
    "initial-election-tick-advance",
    "peer-auto-tls",
    "peer-client-cert-auth",
    "pre-vote",
    "strict-reconfig-check",
    "unsafe-no-fsync",
];

/// Values by the names of options.
type Values = BTreeMap<String, (String, Origin)>;

fn is_yaml(export: &Export) -> bool {
    let of_start = |text: &str| text.starts_with("ETCD_") || text.starts_with("DAEMON_ARGS");
    export.file_name() != "etcd" && !serving::entries(export).any(of_start)
}

fn read(export: &Export, around: &ReadContext<'_>) -> Reading {
    let mut reading = Reading::of(export);
    let values = if is_yaml(export) {
        of_yaml(export, &mut reading)
    } else {
        let mut book = LineRecorder::new(export, &mut reading.ledger, &mut reading.elsewhere);
        for text in serving::entries(export) {
            let origin = export.origin_of(text);
            let name = text.split_once('=').map_or(text, |(name, _)| name);
            let option =
                name.trim().trim_start_matches("export ").trim().strip_prefix("ETCD_").map(option_of);
            match option.as_deref() {
                Some(option) if JUDGED.contains(&option) => book.understood(origin),
                Some(option) if serving::is_known("etcd", option) => book.class(origin, LineClass::Ignored),
                None if name.trim() == "DAEMON_ARGS" => book.understood(origin),
                _ => book.not_understood(origin, serving::unknown("etcd")),
            }
        }
        of_variables(export)
    };
    // A unit of the administrator that starts it with options has read this file, or another.
    let by_unit = around.exports.iter().any(|unit| {
        unit.file_name().ends_with(".service")
            && unit.lines().any(|line| {
                let command = line.text.trim().strip_prefix("ExecStart=").unwrap_or_default();
                options::file_name(command.split_whitespace().next().unwrap_or_default()) == "etcd"
            })
    });
    if !by_unit {
        reading.facts.served.extend(served(&values, export.origin(0..0)));
    }
    reading
}

/// The option of a variable without its `ETCD_`.
fn option_of(name: &str) -> String {
    name.to_ascii_lowercase().replace('_', "-")
}

/// Options of a file of variables; those of a command line among them count more.
fn of_variables(export: &Export) -> Values {
    let mut values = Values::new();
    for text in serving::entries(export) {
        let Some((name, value)) = text.split_once('=') else { continue };
        let name = name.trim().trim_start_matches("export ").trim();
        let value = serving::unquoted(value.trim());
        if let Some(option) = name.strip_prefix("ETCD_") {
            values.insert(option_of(option), (value.to_owned(), export.origin_of(text)));
        }
    }
    if let Some((value, line)) = Variables::of(export).get("DAEMON_ARGS") {
        values.extend(of_words(&options::words_of(&serving::words_of_statement(value), line)));
    }
    values
}

fn of_words(words: &[Word<'_>]) -> Values {
    let given = options::whole_words(words, |name| !FLAGS.contains(&name));
    let value = |text: &str| if text.is_empty() { "true".to_owned() } else { text.to_owned() };
    given.all.iter().map(|one| (one.name.clone(), (value(&one.value), one.origin))).collect()
}

fn of_yaml(export: &Export, reading: &mut Reading) -> Values {
    let mut values = Values::new();
    let mut book = LineRecorder::new(export, &mut reading.ledger, &mut reading.elsewhere);
    let (found, broken) = yaml::documents(export.text(), export.limits().of(Limit::Nesting));
    yaml::settle(export, broken, &mut book, "etcd does not start with it");
    for (name, place, node) in found.iter().flat_map(|document| document.entries()) {
        let origin = export.origin(place.clone());
        match name.as_str() {
            name if JUDGED.contains(&name) => book.understood(origin),
            name if serving::is_known("etcd", name) => book.class(origin, LineClass::Ignored),
            _ => book.not_understood(origin, serving::unknown("etcd")),
        }
        if let Some((text, _)) = node.scalar() {
            values.insert(name.clone(), (text.to_owned(), origin));
        }
        let before = match name.as_str() {
            "client-transport-security" => "",
            "peer-transport-security" => "peer-",
            _ => continue,
        };
        for (own, place, node) in node.entries() {
            let line = export.origin(place.clone());
            if serving::is_known("etcd", own) {
                book.understood(line);
            } else {
                book.not_understood(line, serving::unknown("etcd"));
            }
            if let Some((text, _)) = node.scalar() {
                values.insert(format!("{before}{own}"), (text.to_owned(), line));
            }
        }
    }
    values
}

/// Facts of a command. Variables of its unit count less than options, and a file takes the place of both.
pub(super) fn started<'a>(
    words: &[Word<'a>],
    origin: Origin,
    export: &'a Export,
    around: &ReadContext<'a>,
    reading: &mut Reading,
) {
    // Its other uses are no server.
    if words.get(1).is_some_and(|word| !word.text.starts_with('-')) {
        return;
    }
    let options = of_words(&words[1..]);
    if let Some((path, line)) = options.get("config-file") {
        match around.find(path, export) {
            Some(file) => {
                let values = of_yaml(file, &mut Reading::of(file));
                reading.facts.served.extend(served(&values, *line));
            }
            None => {
                let mut book = LineRecorder::new(export, &mut reading.ledger, &mut reading.elsewhere);
                book.missing(*line, path);
                let mut all = served(&Values::new(), *line);
                for one in &mut all {
                    one.endpoints.clear();
                    one.open.push((missing_note(path), *line));
                }
                reading.facts.served.extend(all);
            }
        }
        return;
    }
    let mut values = Values::new();
    for path in ["/etc/default/etcd", "/etc/sysconfig/etcd", "/etc/etcd/etcd.conf"] {
        let named = |file: &&Export| export.text().contains(path) && !is_yaml(file);
        if let Some(file) = around.find(path, export).filter(named) {
            values.extend(of_variables(file));
        }
    }
    for line in export.lines() {
        let text = line.text.trim();
        let Some(rest) = text.strip_prefix("Environment=") else { continue };
        for (name, value, line) in Variables::stated(rest, export.origin_of(text)).all() {
            if let Some(option) = name.strip_prefix("ETCD_") {
                values.insert(option_of(option), (value.to_owned(), line));
            }
        }
    }
    // A variable beside an option of its name keeps it from starting (since version 3.4).
    let twice =
        values.iter().find(|(name, _)| options.contains_key(*name)).map(|(name, one)| (name.clone(), one.1));
    values.extend(options);
    let mut all = served(&values, origin);
    if let Some((name, line)) = twice {
        for one in &mut all {
            one.refused = Some((format!("`{name}` is set by an option and by a variable"), line));
        }
    }
    reading.facts.served.extend(all);
}

/// Clients' service, and that of the other members of a cluster.
fn served(values: &Values, origin: Origin) -> Vec<Served> {
    let on =
        |name: &str| values.get(name).filter(|(text, _)| serving::truth(text) == Some(true)).map(|one| one.1);
    let mut found = Vec::new();
    for (name, urls, usual, certificates) in [
        ("database (etcd)", "listen-client-urls", "http://localhost:2379", "client-cert-auth"),
        (
            "cluster port of a database (etcd)",
            "listen-peer-urls",
            "http://localhost:2380",
            "peer-client-cert-auth",
        ),
    ] {
        let (text, line) = values.get(urls).map_or((usual, origin), |(text, line)| (text.as_str(), *line));
        let mut served = Served::new(ServedKind::Databases, "etcd", name, &["etcd", "etcd-server"], line);
        served.endpoints = text.split(',').flat_map(|url| places(url, line)).collect();
        let encrypted = !served.endpoints.is_empty()
            && served.endpoints.iter().all(|place| place.carried == TransportSecurity::Encrypted);
        let mut part = ServiceResource::new(PartKind::Whole, name, line);
        part.writes = Setting::Stated { value: true, origin: line };
        let clients = urls == "listen-client-urls";
        part.login = match on(certificates).filter(|_| encrypted) {
            Some(origin) => Setting::Stated { value: AuthRequirement::Certificate, origin },
            // Whether users must log in is stored in the database itself (etcdctl auth enable).
            None if clients => Setting::Unknown { why: "its users are stored in the database itself".into() },
            None => Setting::default_of(AuthRequirement::Nothing, "etcd", "--peer-client-cert-auth"),
        };
        if clients && part.login.value().is_none() && !served.is_local() {
            served.open.push((
                "Please state whether clients of etcd must log in (output of `etcdctl auth status`)."
                    .to_owned(),
                line,
            ));
        }
        part.encryption = Some(match encrypted {
            true => Setting::Stated { value: Requirement::Required, origin: line },
            false => Setting::Stated { value: Requirement::Never, origin: line },
        });
        served.parts.push(part);
        found.push(served);
    }
    if let Some((text, line)) = values.get("listen-metrics-urls") {
        let mut served =
            Served::new(ServedKind::Agents, "etcd", "metrics of etcd", &["etcd", "etcd-server"], *line);
        served.endpoints = text.split(',').flat_map(|url| places(url, *line)).collect();
        let mut part = ServiceResource::new(PartKind::Whole, served.name.clone(), *line);
        part.login = Setting::Stated { value: AuthRequirement::Nothing, origin: *line };
        served.parts.push(part);
        found.push(served);
    }
    found
}

/// Places of a URL. A name other than `localhost` is refused at the start, so that none is left out.
fn places(url: &str, line: Origin) -> Vec<Endpoint> {
    let Some((scheme, rest)) = url.trim().split_once("://") else { return Vec::new() };
    let carried = match scheme {
        "https" => TransportSecurity::Encrypted,
        "http" => TransportSecurity::Plain,
        _ => return Vec::new(),
    };
    let (host, port) = serving::host_and_port(rest.trim_end_matches('/'));
    let Some(port) = port else { return Vec::new() };
    // All addresses of one IP version are those of both (net.Listen of Go).
    let host = host.filter(|host| !matches!(*host, "0.0.0.0" | "::"));
    let place = Endpoint::everywhere(Protocol::TCP, port, carried, line);
    match host {
        // The first address of a name is taken.
        Some("localhost") => vec![place.at([127, 0, 0, 1].into())],
        Some(host) => host.parse().map(|address| place.at(address)).into_iter().collect(),
        None => vec![place],
    }
}
