//! `vsftpd.conf` (vsftpd.conf(5)) and `proftpd.conf`: folders that FTP shows.
//!
//! Long because two daemons that end in the same record, with the cases of both.

use super::hosts_access;
use crate::angles::{Directive, directives};
use crate::reader::{LineRecorder, ReadContext, Reader, Reading, Recognition};
use crate::serving::{self, is_known, truth};
use crate::tls;
use std::collections::BTreeMap;
use trevlin_model::served::{
    AuthRequirement, Endpoint, PartKind, Remark, Requirement, Served, ServedKind, ServiceResource,
    ServiceWeakness, Sources, TransportSecurity,
};
use trevlin_model::{DefaultValue, Export, Families, LineClass, Origin, Protocol, Setting};

/// The reader of `vsftpd.conf`.
pub(crate) const VSFTPD: Reader = Reader {
    name: "vsftpd",
    title: "FTP server (vsftpd)",
    manual: "vsftpd.conf(5)",
    recognise: |export| {
        let tells = ["anonymous_enable=", "local_enable=", "listen_ipv6=", "xferlog_enable="];
        let stated = |text: &str| tells.iter().any(|one| text.starts_with(one));
        if export.lines().any(|line| stated(line.text)) {
            Recognition::Content
        } else if export.file_name() == "vsftpd.conf" {
            Recognition::Name
        } else {
            Recognition::No
        }
    },
    read: read_vsftpd,
};

/// The reader of `proftpd.conf`.
pub(crate) const PROFTPD: Reader = Reader {
    name: "proftpd",
    title: "FTP server (ProFTPD)",
    manual: "proftpd.conf(5)",
    recognise: |export| {
        let tells = [
            "DefaultRoot",
            "RequireValidShell",
            "<Anonymous",
            "TLSEngine",
            "UseFtpUsers",
            "MasqueradeAddress",
        ];
        let stated = |text: &str| tells.iter().any(|one| text.trim_start().starts_with(one));
        if export.lines().any(|line| stated(line.text)) {
            Recognition::Content
        } else if export.path().contains("proftpd") && export.file_name().ends_with(".conf") {
            Recognition::Name
        } else {
            Recognition::No
        }
    },
    read: read_proftpd,
};

fn read_vsftpd(export: &Export, around: &ReadContext<'_>) -> Reading {
    let mut reading = Reading::of(export);
    let mut book = LineRecorder::new(export, &mut reading.ledger, &mut reading.elsewhere);
    let mut values: BTreeMap<&str, (&str, Origin)> = BTreeMap::new();
    for line in export.lines() {
        let text = line.text.trim_end();
        if text.is_empty() || text.starts_with('#') {
            continue;
        }
        let origin = export.origin_of(text);
        match text.split_once('=') {
            Some((key, value)) if is_known("vsftpd", key) => {
                book.class(
                    origin,
                    if VSFTPD_JUDGED.contains(&key) { LineClass::Understood } else { LineClass::Ignored },
                );
                values.insert(key, (value, origin));
            }
            _ => book.not_understood(
                origin,
                "expected `setting=value` without blanks, as in vsftpd.conf(5); the server refuses to start",
            ),
        }
    }
    let origin = values.values().map(|one| one.1).min().unwrap_or_else(|| export.origin(0..0));
    let mut served = vsftpd(&values, origin);
    let wrapped = values.get("tcp_wrappers").filter(|(text, _)| truth(text) == Some(true));
    if let Some((_, line)) = wrapped {
        match hosts_access::admitted(around, export, "vsftpd") {
            Some(clients) => {
                served.parts.iter_mut().for_each(|part| part.sources = part.sources.and(&clients));
            }
            None => served.open.push((
                "please provide `/etc/hosts.allow` and `/etc/hosts.deny`, which decide which clients may connect"
                    .into(),
                *line,
            )),
        }
    }
    reading.facts.served.push(served);
    reading
}

const VSFTPD_JUDGED: [&str; 26] = [
    "anonymous_enable",
    "local_enable",
    "write_enable",
    "anon_upload_enable",
    "anon_mkdir_write_enable",
    "anon_other_write_enable",
    "no_anon_password",
    "anon_root",
    "local_root",
    "listen",
    "listen_ipv6",
    "listen_port",
    "listen_address",
    "listen_address6",
    "ssl_enable",
    "force_local_logins_ssl",
    "force_local_data_ssl",
    "allow_anon_ssl",
    "force_anon_logins_ssl",
    "implicit_ssl",
    "ssl_tlsv1",
    "ssl_sslv2",
    "ssl_sslv3",
    "ssl_ciphers",
    "tcp_wrappers",
    "require_cert",
];

fn vsftpd(values: &BTreeMap<&str, (&str, Origin)>, origin: Origin) -> Served {
    let get = |key: &str| values.get(key).copied();
    let yes = |key: &str| get(key).and_then(|(text, line)| Some((truth(text)?, line)));
    let on = |key: &str| yes(key).filter(|one| one.0).map(|one| one.1);
    let mut served = Served::new(ServedKind::Transfers, "vsftpd", "FTP server (vsftpd)", &["vsftpd"], origin);
    let encrypted = on("ssl_enable");
    let forced = yes("force_local_logins_ssl").is_none_or(|one| one.0);
    let carried = match encrypted {
        Some(_) if on("implicit_ssl").is_some() => TransportSecurity::Encrypted,
        Some(_) => TransportSecurity::Optional,
        None => TransportSecurity::Plain,
    };
    // The line that makes it listen.
    let listens = on("listen_ipv6").or_else(|| on("listen")).unwrap_or(origin);
    let port =
        get("listen_port").and_then(|(text, line)| Some((text.parse().ok()?, line))).unwrap_or((21, listens));
    let at = Endpoint::everywhere(Protocol::TCP, port.0, carried, port.1);
    let address = ["listen_address", "listen_address6"].into_iter().find_map(get);
    served.endpoints.push(match address.and_then(|(text, line)| Some((text.parse().ok()?, line))) {
        Some((address, line)) => Endpoint { origin: line, ..at }.at(address),
        // The other way to listen takes both versions.
        None if on("listen").is_some() => Endpoint { families: Families::V4, ..at },
        None => at,
    });
    if let Some(line) = encrypted {
        let versions: Vec<(&str, Origin)> = [("ssl_sslv2", "SSLv2"), ("ssl_sslv3", "SSLv3")]
            .into_iter()
            .filter_map(|(key, name)| on(key).map(|line| (name, line)))
            .collect();
        let lowest = versions.first().copied().or_else(|| match yes("ssl_tlsv1") {
            Some((false, line)) => Some(("TLSv1.1", line)),
            Some((true, line)) => Some(("TLSv1", line)),
            None => None,
        });
        served.offers.push(tls::openssl(get("ssl_ciphers"), [lowest, None], &[], line));
    }
    let writes = on("write_enable");
    let anonymous = match yes("anonymous_enable") {
        Some((value, line)) => Setting::Stated { value, origin: line },
        None => Setting::Default(
            [(true, "upstream default"), (false, "Debian default")]
                .map(|(value, versions)| DefaultValue {
                    value,
                    daemon: "vsftpd",
                    versions,
                    source: "vsftpd.conf(5), anonymous_enable",
                })
                .into(),
        ),
    };
    if anonymous.value() != Some(&false) {
        let mut part = ServiceResource::new(
            PartKind::Folder,
            "for anonymous users",
            anonymous.origin().unwrap_or(origin),
        )
        .labelled("anonymous");
        part.path = get("anon_root").map(|(path, _)| path.to_owned());
        part.login =
            anonymous.clone().map(|on| if on { AuthRequirement::Nothing } else { AuthRequirement::Refused });
        let upload = ["anon_upload_enable", "anon_mkdir_write_enable", "anon_other_write_enable"]
            .into_iter()
            .find_map(on);
        part.writes = match (writes, upload) {
            (Some(_), Some(origin)) => Setting::Stated { value: true, origin },
            _ => Setting::default_of(false, "vsftpd", "vsftpd.conf(5), anon_upload_enable"),
        };
        part.encryption =
            Some(demand(on("allow_anon_ssl").and(encrypted), on("force_anon_logins_ssl").is_some()));
        served.parts.push(part);
    }
    if let Some(line) = on("local_enable") {
        let mut part = ServiceResource::new(PartKind::Folder, "for accounts", line).labelled("accounts");
        part.path = get("local_root").map(|(path, _)| path.to_owned());
        part.login = Setting::Stated { value: AuthRequirement::Password, origin: line };
        part.writes = match writes {
            Some(origin) => Setting::Stated { value: true, origin },
            None => Setting::default_of(false, "vsftpd", "vsftpd.conf(5), write_enable"),
        };
        // The weaker of the two connections counts: names and commands, or the files.
        let data = yes("force_local_data_ssl").is_none_or(|one| one.0);
        part.encryption = Some(demand(encrypted, forced && data));
        if encrypted.is_none() || !forced {
            let line =
                yes("force_local_logins_ssl").filter(|_| encrypted.is_some()).map_or(line, |one| one.1);
            part.remarks.push((Remark::ClearPassword, line));
        }
        served.parts.push(part);
    }
    served
}

/// Whether TLS is used: never, optionally, or always.
fn demand(offered: Option<Origin>, forced: bool) -> Setting<Requirement> {
    match offered {
        Some(origin) => Setting::Stated {
            value: if forced { Requirement::Required } else { Requirement::Offered },
            origin,
        },
        None => Setting::default_of(Requirement::Never, "FTP server", "RFC 959; RFC 4217"),
    }
}

/// One server of ProFTPD: directives by name, the last of each, with those of `<Global>` before its own.
fn read_proftpd(export: &Export, around: &ReadContext<'_>) -> Reading {
    let mut reading = Reading::of(export);
    let mut book = LineRecorder::new(export, &mut reading.ledger, &mut reading.elsewhere);
    let mut open = Vec::new();
    let mut all = Vec::new();
    let files = &mut vec![export.path()];
    gather(directives(export, &mut book), export, around, files, &mut all, &mut open, &mut book);
    if around.has_main(&["proftpd.conf"], export) {
        // Files that the main file does not include are not in force.
        if !around.reads_in(export, included) {
            reading.ledger = Reading::of(export).ledger;
        }
        return reading;
    }
    // Files included first mostly load modules: the server is reported with its own file.
    let own = all.iter().find(|one| one.origin.export == export.id()).or(all.first());
    let origin = own.map_or_else(|| export.origin(0..0), |one| one.origin);
    let global: Vec<&Directive<'_>> =
        all.iter().filter(|one| one.name == "global").flat_map(|one| one.children()).collect();
    let main: Vec<&Directive<'_>> =
        all.iter().filter(|one| !matches!(one.name.as_str(), "global" | "virtualhost")).collect();
    let mut facts = Vec::new();
    facts.push(proftpd("FTP server (ProFTPD)".into(), &with_global(&global, &main), 21, origin));
    for host in all.iter().filter(|one| one.name == "virtualhost") {
        let name = format!("FTP server (ProFTPD, {})", host.words.join(" "));
        let mut one = proftpd(
            name,
            &with_global(&global, &host.children().iter().collect::<Vec<_>>()),
            21,
            host.origin,
        );
        if let Some(address) = host.words.iter().find_map(|word| word.parse().ok()) {
            one.endpoints = one.endpoints.into_iter().map(|place| place.at(address)).collect();
        }
        facts.push(one);
    }
    facts.retain(|one| !one.endpoints.is_empty());
    if let Some(first) = facts.first_mut() {
        first.open.extend(open);
    }
    reading.facts.served.extend(facts);
    reading
}

fn with_global<'a>(global: &[&Directive<'a>], own: &[&Directive<'a>]) -> Vec<Directive<'a>> {
    global.iter().chain(own).map(|one| (*one).clone()).collect()
}

fn included<'a>(line: &str, named_in: &Export, around: &ReadContext<'a>) -> Vec<&'a Export> {
    let mut words = line.split_whitespace();
    match words.next() {
        Some(word) if word.eq_ignore_ascii_case("include") => {
            words.next().map_or_else(Vec::new, |path| folder_or_files(path, named_in, around))
        }
        _ => Vec::new(),
    }
}

/// The files that a path refers to; for a folder, those in it.
fn folder_or_files<'a>(path: &str, named_in: &Export, around: &ReadContext<'a>) -> Vec<&'a Export> {
    let path = path.trim_matches('"');
    if let Some(folder) = path.strip_suffix('/') {
        return around.find_all(&format!("{folder}/*"), named_in);
    }
    around.find_all(path, named_in)
}

/// Sections whose conditions cannot be evaluated are assumed to apply, and their content counts at its place.
fn gather<'a>(
    tree: Vec<Directive<'a>>,
    export: &'a Export,
    around: &ReadContext<'a>,
    files: &mut Vec<&'a str>,
    all: &mut Vec<Directive<'a>>,
    open: &mut Vec<(String, Origin)>,
    book: &mut LineRecorder<'_>,
) {
    for mut one in tree {
        let judged = PROFTPD_JUDGED.contains(&one.name.as_str());
        if matches!(one.name.as_str(), "ifmodule" | "ifdefine" | "class") {
            book.understood(one.origin);
            let inside = one.inside.take().unwrap_or_default();
            gather(inside, export, around, files, all, open, book);
            continue;
        }
        if one.name == "include" {
            book.understood(one.origin);
            let found = folder_or_files(one.first(), export, around);
            if let Some(text) = (found.is_empty() && !one.first().ends_with('/'))
                .then(|| around.missing_include(one.first(), export))
                .flatten()
            {
                book.note(one.origin, text.clone());
                open.push((text, one.origin));
            }
            for other in found {
                if !files.contains(&other.path()) {
                    files.push(other.path());
                    gather(directives(other, book), other, around, files, all, open, book);
                }
            }
            continue;
        }
        if judged {
            book.understood(one.origin);
        } else if is_known("proftpd", &one.name) || one.name.starts_with("tls") || one.name.starts_with("sql")
        {
            book.class(one.origin, LineClass::Ignored);
        } else {
            book.not_understood(one.origin, serving::unknown("proftpd.conf"));
        }
        if let Some(inside) = one.inside.take() {
            let mut kept = Vec::new();
            gather(inside, export, around, files, &mut kept, open, book);
            one.inside = Some(kept);
        }
        all.push(one);
    }
}

const PROFTPD_JUDGED: [&str; 24] = [
    "port",
    "defaultaddress",
    "anonymous",
    "limit",
    "virtualhost",
    "global",
    "tlsengine",
    "tlsrequired",
    "rootlogin",
    "tlsprotocol",
    "tlsciphersuite",
    "denyall",
    "allowall",
    "allow",
    "deny",
    "order",
    "user",
    "useralias",
    "anonrequirepassword",
    "socketbindtight",
    "defaultroot",
    "directory",
    "allowuser",
    "denyuser",
];

fn proftpd(name: String, all: &[Directive<'_>], port: u16, origin: Origin) -> Served {
    let last = |wanted: &str| all.iter().rev().find(|one| one.name == wanted);
    let mut served = Served::new(ServedKind::Transfers, "ProFTPD", name, &["proftpd"], origin);
    let engine = last("tlsengine").filter(|one| truth(one.first()) == Some(true)).map(|one| one.origin);
    let required = Required::of(last("tlsrequired").map(|one| one.first()).unwrap_or_default());
    let carried = if engine.is_some() { TransportSecurity::Optional } else { TransportSecurity::Plain };
    let (port, line) = match last("port").map(|one| (one.first().parse(), one.origin)) {
        Some((Ok(port), line)) => (port, line),
        _ => (port, origin),
    };
    // Port 0 switches the server off.
    if port != 0 {
        let at = Endpoint::everywhere(Protocol::TCP, port, carried, line);
        let tight = last("socketbindtight").is_some_and(|one| truth(one.first()) == Some(true));
        let address = last("defaultaddress").filter(|_| tight).and_then(|one| one.first().parse().ok());
        served.endpoints.push(match address {
            Some(address) => at.at(address),
            None => at,
        });
    }
    if let Some(line) = engine {
        let protocols = last("tlsprotocol");
        let versions: Vec<(&str, Origin)> =
            protocols.iter().flat_map(|one| one.words.iter().map(|word| (*word, one.origin))).collect();
        let ciphers = last("tlsciphersuite").map(|one| (one.first(), one.origin));
        served.offers.push(tls::listed(ciphers, &versions, line));
    }
    for anonymous in all.iter().filter(|one| one.name == "anonymous") {
        served.parts.push(proftpd_anonymous(anonymous, engine, required.both()));
    }
    let mut part = ServiceResource::new(PartKind::Folder, "for accounts", origin).labelled("accounts");
    part.sources = limited(all, "login").unwrap_or_else(Sources::everybody);
    part.login = Setting::default_of(AuthRequirement::Password, "ProFTPD", "proftpd.conf(5)");
    part.writes = Setting::default_of(!denied(all, "write"), "ProFTPD", "proftpd.conf(5), Limit");
    part.encryption = Some(demand(engine, required.both()));
    if !required.control || engine.is_none() {
        part.remarks.push((Remark::ClearPassword, engine.unwrap_or(origin)));
    }
    served.parts.push(part);
    let root = last("rootlogin").filter(|one| truth(one.first()) == Some(true));
    served.weaknesses.extend(root.map(|one| (ServiceWeakness::RootLogin, one.origin)));
    served
}

fn proftpd_anonymous(one: &Directive<'_>, engine: Option<Origin>, required: bool) -> ServiceResource {
    let mut part =
        ServiceResource::new(PartKind::Folder, "for anonymous users", one.origin).labelled("anonymous");
    part.path = Some(one.first().to_owned());
    part.sources = limited(one.children(), "login").unwrap_or_else(Sources::everybody);
    let asks = one.children().iter().find(|one| one.name == "anonrequirepassword");
    part.login = match asks.filter(|one| truth(one.first()) == Some(true)) {
        Some(line) => Setting::Stated { value: AuthRequirement::Password, origin: line.origin },
        None => Setting::Stated { value: AuthRequirement::Nothing, origin: one.origin },
    };
    part.writes = Setting::Stated { value: !denied(one.children(), "write"), origin: one.origin };
    // A folder in it may take what the whole does not (STOR is part of WRITE).
    let upload = one.children().iter().filter(|one| one.name == "directory").find_map(|folder| {
        let allows = |limit: &&Directive<'_>| {
            let commands = limit
                .words
                .iter()
                .any(|word| ["stor", "write", "all"].contains(&word.to_ascii_lowercase().as_str()));
            commands && limit.children().iter().any(|one| one.name == "allowall")
        };
        folder.children().iter().filter(|one| one.name == "limit").find(allows).map(|limit| limit.origin)
    });
    if let Some(origin) = upload {
        part.writes = Setting::Stated { value: true, origin };
    }
    part.encryption = Some(demand(engine, required));
    part
}

/// Which connections ProFTPD requires TLS for (mod_tls, TLSRequired).
struct Required {
    control: bool,
    data: bool,
}

impl Required {
    fn of(value: &str) -> Self {
        let value = value.to_ascii_lowercase();
        let on = truth(&value) == Some(true) || value == "both";
        let among = |name: &str| value.split('+').any(|part| part == name);
        Self { control: on || among("ctrl") || among("auth"), data: on || among("data") }
    }

    fn both(&self) -> bool {
        self.control && self.data
    }
}

/// Sections that limit a group of commands.
fn limits<'d, 'a>(all: &'d [Directive<'a>], group: &'static str) -> impl Iterator<Item = &'d Directive<'a>> {
    let fits = move |word: &&str| word.eq_ignore_ascii_case(group) || word.eq_ignore_ascii_case("all");
    all.iter().filter(move |one| one.name == "limit" && one.words.iter().any(fits))
}

/// Whether a group of commands is denied to all users.
fn denied(all: &[Directive<'_>], group: &'static str) -> bool {
    limits(all, group).any(|one| one.children().iter().any(|one| one.name == "denyall"))
}

/// Permitted sources of a group of commands, where a list limits them.
fn limited(all: &[Directive<'_>], group: &'static str) -> Option<Sources> {
    let limit = limits(all, group).next()?;
    let hosts = |name: &str| {
        let mut found = Sources::default();
        for one in limit.children().iter().filter(|one| one.name == name) {
            found.origins.push(one.origin);
            let words = one.words.iter().flat_map(|word| word.split(',')).map(str::trim);
            words.filter(|word| !word.is_empty() && !word.eq_ignore_ascii_case("from")).for_each(|word| {
                if !word.eq_ignore_ascii_case("none") {
                    serving::host(word, &mut found);
                }
            });
        }
        found
    };
    if limit.children().iter().any(|one| one.name == "denyall") {
        return Some(Sources { origins: vec![limit.origin], ..hosts("allow") });
    }
    let (allow, deny) = (hosts("allow"), hosts("deny"));
    if allow.origins.is_empty() && deny.origins.is_empty() {
        return None;
    }
    // `Order allow,deny`, the default, permits unlisted clients (mod_auth, Order); `deny,allow` does not.
    let closed = limit
        .children()
        .iter()
        .any(|one| one.name == "order" && one.words.concat().to_ascii_lowercase().starts_with("deny"));
    let denies_all = deny.is_everybody();
    Some(if closed || denies_all { allow } else { Sources::everybody().without(&deny.ranges) })
}

#[cfg(test)]
mod tests {
    use super::*;
    use trevlin_model::ExportId;

    fn told(reading: &Reading) -> Vec<String> {
        let line = |served: &Served, part: &ServiceResource| {
            format!(
                "{} {:?} {} {:?} {} {}",
                part.name,
                part.login.value(),
                if part.is_written() { "rw" } else { "ro" },
                part.encryption.as_ref().and_then(|one| one.value()).unwrap(),
                part.sources.words(),
                served.endpoints[0].port
            )
        };
        reading
            .facts
            .served
            .iter()
            .flat_map(|one| one.parts.iter().map(move |part| line(one, part)))
            .collect()
    }

    fn vsftpd(text: &str) -> Reading {
        let export = Export::new(ExportId(0), "d/etc/vsftpd.conf", text.into());
        read_vsftpd(&export, &ReadContext::default())
    }

    fn proftpd(text: &str) -> Reading {
        let export = Export::new(ExportId(0), "d/etc/proftpd/proftpd.conf", text.into());
        read_proftpd(&export, &ReadContext::of(vec![&export]))
    }

    #[test]
    fn vsftpd_files() {
        for (text, wanted) in [
            ("listen=YES\n", &["for anonymous users None ro Never any address 21"][..]),
            ("anonymous_enable=NO\n", &[]),
            (
                "anonymous_enable=YES\nlisten_port=2121\n",
                &["for anonymous users Some(Nothing) ro Never any address 2121"],
            ),
            (
                "anonymous_enable=YES\nanon_upload_enable=YES\nwrite_enable=YES\n",
                &["for anonymous users Some(Nothing) rw Never any address 21"],
            ),
            (
                "anonymous_enable=YES\nanon_upload_enable=YES\n",
                &["for anonymous users Some(Nothing) ro Never any address 21"],
            ),
            (
                "anonymous_enable=NO\nlocal_enable=YES\nwrite_enable=YES\n",
                &["for accounts Some(Password) rw Never any address 21"],
            ),
            (
                "anonymous_enable=NO\nlocal_enable=YES\nssl_enable=YES\n",
                &["for accounts Some(Password) ro Required any address 21"],
            ),
            (
                "anonymous_enable=NO\nlocal_enable=YES\nssl_enable=YES\nforce_local_logins_ssl=NO\n",
                &["for accounts Some(Password) ro Offered any address 21"],
            ),
            (
                "anonymous_enable=NO\nlocal_enable=YES\nssl_enable=YES\nforce_local_data_ssl=NO\n",
                &["for accounts Some(Password) ro Offered any address 21"],
            ),
        ] {
            assert_eq!(told(&vsftpd(text)), wanted, "{text}");
        }
        assert_eq!(vsftpd("listen = YES\ncolour=red\n").ledger.notes.len(), 2);
    }

    #[test]
    fn the_server_is_told_of_by_its_own_file() {
        let main = "ServerName \"x\"\nInclude /etc/proftpd/modules.conf\nPort 21\nDefaultRoot ~\n";
        let exports = [
            ("d/etc/proftpd/proftpd.conf", main),
            ("d/etc/proftpd/modules.conf", "ModulePath /usr/lib/proftpd\n"),
        ];
        let exports: Vec<Export> = exports
            .iter()
            .enumerate()
            .map(|(id, (path, text))| Export::new(trevlin_model::ExportId(id as u32), *path, (*text).into()))
            .collect();
        let reading = read_proftpd(&exports[0], &ReadContext::of(exports.iter().collect()));
        assert!(reading.facts.served.iter().all(|one| one.origin.export == exports[0].id()));
        assert_eq!(reading.facts.served.len(), 1);
    }

    #[test]
    fn proftpd_files() {
        for (text, wanted) in [
            ("Port 21\n", &["for accounts Some(Password) rw Never any address 21"][..]),
            (
                "<Anonymous ~ftp>\n<Limit WRITE>\nDenyAll\n</Limit>\n</Anonymous>\n",
                &[
                    "for anonymous users Some(Nothing) ro Never any address 21",
                    "for accounts Some(Password) rw Never any address 21",
                ],
            ),
            (
                "<Anonymous ~ftp>\n<Limit WRITE>\nDenyAll\n</Limit>\n<Directory in>\n<Limit STOR>\nAllowAll\n</Limit>\n</Directory>\n</Anonymous>\n",
                &[
                    "for anonymous users Some(Nothing) rw Never any address 21",
                    "for accounts Some(Password) rw Never any address 21",
                ],
            ),
            (
                "<IfModule mod_tls.c>\nTLSEngine on\nTLSRequired on\nTLSProtocol TLSv1.2\n</IfModule>\n",
                &["for accounts Some(Password) rw Required any address 21"],
            ),
            ("TLSEngine on\nTLSRequired ctrl\n", &["for accounts Some(Password) rw Offered any address 21"]),
            (
                "TLSEngine on\nTLSRequired auth+data\n",
                &["for accounts Some(Password) rw Required any address 21"],
            ),
            (
                "<Limit LOGIN>\nOrder deny,allow\nAllow from 10.4.0.0/24, 10.5.\n</Limit>\n",
                &["for accounts Some(Password) rw Never 10.4.0.0/24, 10.5.0.0/16 21"],
            ),
            (
                "<Global>\nTLSEngine on\n</Global>\nPort 0\n<VirtualHost 10.4.0.9>\nPort 2121\n</VirtualHost>\n",
                &["for accounts Some(Password) rw Offered any address 2121"],
            ),
        ] {
            let reading = proftpd(text);
            assert_eq!(told(&reading), wanted, "{text}");
            assert!(reading.ledger.notes.is_empty(), "{text}: {:?}", reading.ledger.notes);
        }
        assert_eq!(proftpd("Colour red\nInclude /etc/proftpd/tls.conf\n").ledger.notes.len(), 2);
    }
}
