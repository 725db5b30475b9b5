//! `postgresql.conf` and the files it reads in (PostgreSQL manual, "Setting Parameters"): where the server listens and whether
//! with TLS. The last value wins, and `postgresql.auto.conf` comes after all others.

use super::host_list;
use crate::reader::{LineRecorder, Open, ReadContext, Reader, Reading, Recognition, TELLING_LINES};
use crate::serving::{self, is_known, truth};
use crate::telling::POSTGRESQL as TELLING;
use crate::tls;
use std::collections::BTreeMap;
use std::sync::Arc;
use trevlin_model::offer::{AlgorithmRole, Offer, Offered};
use trevlin_model::served::{Endpoint, Served, ServedKind, TransportSecurity};
use trevlin_model::{Export, ExportId, LineClass, Origin, Protocol};

/// The reader.
pub(crate) const READER: Reader = Reader {
    name: "postgresql",
    title: "database settings (PostgreSQL)",
    manual: "PostgreSQL manual, Server Configuration",
    recognise,
    read,
};

fn recognise(export: &Export) -> Recognition {
    let tells = export.lines().take(TELLING_LINES * 2).any(|line| {
        let word = line.text.split(['=', ' ', '\t']).next().unwrap_or_default().to_ascii_lowercase();
        TELLING.contains(&word.as_str())
    });
    let named = matches!(export.file_name(), "postgresql.conf" | "postgresql.auto.conf");
    match (tells, named || export.path().contains("postgresql/")) {
        (true, _) if named || export.file_name().ends_with(".conf") => Recognition::Content,
        _ if named => Recognition::Name,
        (_, true) if export.path().contains("conf.d/") && export.file_name().ends_with(".conf") => {
            Recognition::Name
        }
        _ => Recognition::No,
    }
}

/// Whether an export is one of the server's files of settings.
pub(super) fn is_settings(export: &Export) -> bool {
    recognise(export) != Recognition::No
}

/// Values by name, each with its line.
pub(super) type Values = BTreeMap<String, (String, Origin)>;

/// `name = value`, `name value`, and `include 'file'`.
fn statement(text: &str) -> Option<(String, String)> {
    let text = text.trim();
    if text.is_empty() || text.starts_with('#') {
        return None;
    }
    let end = text.find(['=', ' ', '\t']).unwrap_or(text.len());
    let value = text[end..].trim_start().trim_start_matches('=').trim_start();
    let value = match value.strip_prefix('\'') {
        Some(rest) => {
            // Two quotes are one within a text.
            let mut end = 0;
            let bytes = rest.as_bytes();
            while end < bytes.len() && (bytes[end] != b'\'' || bytes.get(end + 1) == Some(&b'\'')) {
                end += if bytes[end] == b'\'' { 2 } else { 1 };
            }
            rest[..end.min(rest.len())].replace("''", "'")
        }
        None => value.split(['#', ' ', '\t']).next().unwrap_or_default().to_owned(),
    };
    Some((text[..end].to_ascii_lowercase(), value))
}

fn load<'a>(
    export: &'a Export,
    around: &ReadContext<'a>,
    values: &mut Values,
    open: &mut Vec<&'a str>,
    book: &mut LineRecorder<'_>,
) {
    for line in export.lines() {
        let Some((name, value)) = statement(line.text) else { continue };
        let origin = export.origin_of(line.text.trim());
        match name.as_str() {
            "include" | "include_if_exists" | "include_dir" => {
                book.understood(origin);
                let pattern = if name == "include_dir" { format!("{value}/*.conf") } else { value.clone() };
                let found = around.find_all(&pattern, export);
                if found.is_empty() && name == "include" {
                    book.note(origin, crate::reader::missing_note(&value));
                    // The first is the required method.
                    values.entry(name).or_insert((value, origin));
                }
                for other in found {
                    if !book.may_read_in(origin, other, Open::of(open, other), usize::MAX) {
                        continue;
                    }
                    open.push(other.path());
                    load(other, around, values, open, book);
                    open.pop();
                }
            }
            _ if JUDGED.contains(&name.as_str()) => {
                book.understood(origin);
                values.insert(name, (value, origin));
            }
            // Settings of extensions have a dot.
            _ if is_known("postgresql", &name) || name.contains('.') => {
                book.class(origin, LineClass::Ignored)
            }
            _ => book.not_understood(origin, serving::unknown("PostgreSQL; the server refuses to start")),
        }
    }
}

const JUDGED: [&str; 9] = [
    "listen_addresses",
    "port",
    "ssl",
    "ssl_min_protocol_version",
    "ssl_max_protocol_version",
    "ssl_ciphers",
    "password_encryption",
    "hba_file",
    "ssl_ca_file",
];

/// The exports that a line reads in.
fn included<'a>(line: &str, named_in: &Export, around: &ReadContext<'a>) -> Vec<&'a Export> {
    // Most lines are looked at no further, so that they come first.
    if !line.trim_start().get(..7).is_some_and(|word| word.eq_ignore_ascii_case("include")) {
        return Vec::new();
    }
    match statement(line) {
        Some((name, value)) if name.starts_with("include") && is_settings(named_in) => {
            let pattern = if name == "include_dir" { format!("{value}/*.conf") } else { value };
            around.find_all(&pattern, named_in)
        }
        _ => Vec::new(),
    }
}

/// The server of a device, from all of its files.
pub(super) struct InForce {
    /// The settings, with the notes about them left to the reader of each file.
    pub(super) values: Values,
    /// The first of the files of settings that no other reads in, in the order in which they count.
    first: Option<ExportId>,
    /// Whether the host list is among the exports.
    listed: bool,
}

pub(super) fn in_force(around: &ReadContext<'_>) -> Arc<InForce> {
    around.once(|| {
        let all = around.of_format(&READER).map(|(one, _)| one);
        let mut files: Vec<&Export> = all.filter(|one| !around.reads_in(one, included)).collect();
        files.sort_by_key(|one| (one.file_name() == "postgresql.auto.conf", one.path()));
        let mut values = Values::new();
        for file in &files {
            let mut aside = Reading::of(file);
            let mut quiet = LineRecorder::new(file, &mut aside.ledger, &mut aside.elsewhere);
            load(file, around, &mut values, &mut vec![file.path()], &mut quiet);
        }
        let listed = around.exports.iter().any(|one| host_list::is_list(one));
        InForce { values, first: files.first().map(|one| one.id()), listed }
    })
}

fn read(export: &Export, around: &ReadContext<'_>) -> Reading {
    let mut reading = Reading::of(export);
    let mut book = LineRecorder::new(export, &mut reading.ledger, &mut reading.elsewhere);
    let mut own = Values::new();
    load(export, around, &mut own, &mut vec![export.path()], &mut book);
    // With the list of who may come in, that list stands for the server.
    let in_force = in_force(around);
    if in_force.listed || in_force.first != Some(export.id()) {
        return reading;
    }
    let origin = own.values().map(|one| one.1).min().unwrap_or_else(|| export.origin(0..0));
    let mut server = served(&in_force.values, true, origin);
    server.open.push((
        "please provide `pg_hba.conf`, which decides which clients may use which database".into(),
        origin,
    ));
    reading.facts.served.push(server);
    reading
}

/// The server by its settings. Where none were exported, where it listens is a question.
pub(super) fn served(values: &Values, exported: bool, origin: Origin) -> Served {
    let mut served =
        Served::new(ServedKind::Databases, "PostgreSQL", "database (PostgreSQL)", &["postgresql"], origin);
    let get = |name: &str| values.get(name).map(|(value, line)| (value.as_str(), *line));
    let port =
        get("port").and_then(|(text, line)| Some((text.parse().ok()?, line))).unwrap_or((5432, origin));
    let tls =
        get("ssl").and_then(|(text, line)| Some((truth(text)?, line))).filter(|one| one.0).map(|one| one.1);
    let carried = if tls.is_some() { TransportSecurity::Optional } else { TransportSecurity::Plain };
    if !exported {
        served.open.push((
            "please provide `postgresql.conf`, which decides where the server listens".into(),
            origin,
        ));
        return served;
    }
    if let Some((path, line)) = get("include") {
        served.open.push((crate::reader::missing_note(path), line));
    }
    let (hosts, line) = get("listen_addresses").unwrap_or(("localhost", origin));
    for host in hosts.split(',').map(str::trim).filter(|host| !host.is_empty()) {
        let at = Endpoint::everywhere(Protocol::TCP, port.0, carried, line);
        match host {
            "*" => served.endpoints.push(at),
            // In IPv6 as well, where the device has that.
            "localhost" => served.endpoints.push(at.at([127, 0, 0, 1].into())),
            host => served.endpoints.push(match host.parse() {
                Ok(address) => at.at(address),
                Err(_) => at,
            }),
        }
    }
    if let Some(line) = tls {
        let off = |(text, _): &(String, Origin)| matches!(text.as_str(), "off" | "false" | "no" | "0");
        let own_order = !values.get("ssl_prefer_server_ciphers").is_some_and(off);
        served.offers.push(Offer { own_order, ..offer(values, line) });
    }
    served
}

fn offer(values: &Values, origin: Origin) -> Offer {
    let get = |name: &str| values.get(name).map(|(value, line)| (value.as_str(), *line));
    let ciphers = get("ssl_ciphers");
    match get("ssl_min_protocol_version").filter(|(text, _)| !text.is_empty()) {
        Some(lowest) => {
            let highest = get("ssl_max_protocol_version").filter(|(text, _)| !text.is_empty());
            tls::openssl(ciphers, [Some(lowest), highest], &[], origin)
        }
        None => {
            let mut offer = tls::listed(ciphers, &[("TLSv1.2", origin), ("TLSv1.3", origin)], origin);
            for one in offer.algorithms.iter_mut().filter(|one| one.role == Some(AlgorithmRole::Protocol)) {
                let Offered { default, .. } = one;
                *default = Some("PostgreSQL manual, ssl_min_protocol_version");
            }
            offer
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn told(files: &[(&str, &str)]) -> String {
        let exports: Vec<Export> = files
            .iter()
            .enumerate()
            .map(|(at, (path, text))| Export::new(ExportId(at as u32), *path, (*text).into()))
            .collect();
        let reading = read(&exports[0], &ReadContext::of(exports.iter().collect()));
        let Some(served) = reading.facts.served.first() else {
            return format!("none, {} notes", reading.ledger.notes.len());
        };
        let places: Vec<String> = served
            .endpoints
            .iter()
            .map(|one| format!("{:?}/{} {:?}", one.address, one.port, one.carried))
            .collect();
        let names: Vec<&str> =
            served.offers.iter().flat_map(|one| &one.algorithms).map(|one| one.name.as_str()).collect();
        format!("{} [{}] {} notes", places.join(", "), names.join(" "), reading.ledger.notes.len())
    }

    #[test]
    fn settings_of_the_server() {
        const MAIN: &str = "d/etc/postgresql/15/main/postgresql.conf";
        for (text, wanted) in [
            ("port = 5432\n", "Some(127.0.0.1)/5432 Plain [] 0 notes"),
            ("listen_addresses = '*' # all\nport 5433\n", "None/5433 Plain [] 0 notes"),
            (
                "listen_addresses='10.4.0.9, localhost'\nssl = on\nssl_min_protocol_version = 'TLSv1'\nssl_max_protocol_version = 'TLSv1.2'\n",
                "Some(10.4.0.9)/5432 Optional, Some(127.0.0.1)/5432 Optional [TLSv1 TLSv1.1 TLSv1.2] 0 notes",
            ),
            ("listen_addresses = '10.4.0.9'\nlisten_addresses = ''\nssl=off\n", " [] 0 notes"),
            ("colour = red\npg_stat.x = 1\nshared_buffers = 1\n", "Some(127.0.0.1)/5432 Plain [] 1 notes"),
        ] {
            assert_eq!(told(&[(MAIN, text)]), wanted, "{text}");
        }
        let more = ("d/etc/postgresql/15/main/conf.d/x.conf", "listen_addresses = '10.4.0.9'\n");
        assert_eq!(told(&[(MAIN, "include_dir = 'conf.d'\n"), more]), "Some(10.4.0.9)/5432 Plain [] 0 notes");
        assert_eq!(told(&[more, (MAIN, "include_dir = 'conf.d'\n")]), "none, 0 notes");
        let auto = ("d/var/lib/postgresql/15/main/postgresql.auto.conf", "listen_addresses = '*'\n");
        assert_eq!(told(&[(MAIN, "listen_addresses = '10.4.0.9'\n"), auto]), "None/5432 Plain [] 0 notes");
    }
}
