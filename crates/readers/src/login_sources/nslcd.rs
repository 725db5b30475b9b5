//! nslcd: accounts and logins by LDAP (nslcd.conf(5)).

use super::{certificate, found_server, server_of, sssd};
use crate::keyed::by_blank;
use crate::reader::{LineRecorder, ReadContext, Reader, Reading, Recognition};
use crate::serving::{self, hold};
use trevlin_model::login_source::{Admission, LoginServer, LoginSource, LoginSourceUse};
use trevlin_model::secret::SecretKind;
use trevlin_model::served::TransportSecurity;
use trevlin_model::{Export, LineClass, Origin, Setting};

/// The reader.
pub(crate) const READER: Reader = Reader {
    name: "nslcd",
    title: "accounts of a directory (nslcd)",
    manual: "nslcd.conf(5)",
    recognise: |export| match export.file_name() {
        "nslcd.conf" => Recognition::Name,
        _ => Recognition::No,
    },
    read: |export, _: &ReadContext<'_>| read(export),
};

const JUDGED: [&str; 10] = [
    "binddn",
    "bindpw",
    "filter",
    "pam_authz_search",
    "rootpwmoddn",
    "rootpwmodpw",
    "sasl_mech",
    "ssl",
    "tls_reqcert",
    "uri",
];

fn read(export: &Export) -> Reading {
    let mut reading = Reading::of(export);
    let mut all: Vec<(String, &str, Origin)> = Vec::new();
    let mut refused = None;
    for text in serving::entries(export) {
        let mut book = LineRecorder::new(export, &mut reading.ledger, &mut reading.elsewhere);
        let origin = export.origin_of(text);
        let (name, value) = by_blank(text);
        let name = name.to_ascii_lowercase();
        if value.is_empty() {
            book.not_understood(origin, "a value is missing: nslcd does not start");
            refused.get_or_insert(("a line without a value".to_owned(), origin));
        } else if JUDGED.contains(&name.as_str()) {
            book.understood(origin);
        } else if serving::is_known("nslcd", &name) {
            book.class(origin, LineClass::Ignored);
        } else {
            book.not_understood(
                origin,
                format!("{}; nslcd does not start", serving::unknown("nslcd.conf(5)")),
            );
            refused.get_or_insert(("a setting that it does not have".to_owned(), origin));
        }
        if matches!(name.as_str(), "bindpw" | "rootpwmodpw") {
            hold(export, &mut reading.facts, value, SecretKind::ServicePassword, "nslcd at its directory");
        }
        all.push((name, value, origin));
    }
    if all.iter().any(|one| one.0 == "uri") {
        reading.facts.login_sources.push(LoginSource { refused, ..source(export, &all) });
    }
    reading
}

fn source(export: &Export, all: &[(String, &str, Origin)]) -> LoginSource {
    let every = |name: &'static str| all.iter().filter(move |one| one.0 == name).map(|one| (one.1, one.2));
    let last = |name: &'static str| every(name).next_back();
    let origin = every("uri").next().map_or_else(|| export.origin(0..0), |one| one.1);
    let mut source = LoginSource::new(
        "nslcd",
        "nslcd",
        LoginSourceUse::AccountsAndPasswords,
        admission(every("pam_authz_search"), every("filter")),
        origin,
    );
    source.name_service = Some("ldap".to_owned());
    // TLS from the first byte on stays on once a line has said so, whatever a later one says.
    let on =
        every("ssl").find(|one| matches!(one.0.to_ascii_lowercase().as_str(), "on" | "yes" | "true" | "1"));
    let ssl = on.or(last("ssl"));
    let tls = on.is_some()
        || ssl.is_some_and(|one| matches!(one.0.to_ascii_lowercase().as_str(), "start_tls" | "starttls"));
    let sealed = last("sasl_mech").is_some_and(|one| one.0.to_ascii_uppercase().starts_with("GSS"));
    for (value, at) in every("uri") {
        for word in value.split_whitespace() {
            let found = match word.to_ascii_uppercase().split(':').next() {
                Some("DNS") => Some(found_server(TransportSecurity::Plain, at)),
                Some("DNSLDAPS") => Some(found_server(TransportSecurity::Encrypted, at)),
                _ => server_of(word, at),
            };
            source.servers.extend(found.map(|server| encrypted(server, ssl.map(|one| one.1), tls, sealed)));
        }
    }
    let word = last("tls_reqcert").map(|(word, at)| {
        let word = match word.to_ascii_lowercase().as_str() {
            "no" => "never",
            "yes" => "demand",
            _ => word,
        };
        (word, at)
    });
    source.proofs.extend(certificate(word, "nslcd", "nslcd.conf(5), tls_reqcert"));
    let own = last("bindpw").filter(|_| last("binddn").is_some() && !sealed);
    source.own_password = own.or(last("rootpwmodpw")).map(|one| one.1);
    source
}

/// A server with what `ssl` and `sasl_mech` add: a mechanism seals the requests of nslcd itself, and not the passwords of users.
fn encrypted(server: LoginServer, ssl: Option<Origin>, tls: bool, sealed: bool) -> LoginServer {
    if server.accounts != Some(TransportSecurity::Plain) {
        return server;
    }
    let or_plain = |is| Some(if is { TransportSecurity::Encrypted } else { TransportSecurity::Plain });
    LoginServer {
        accounts: or_plain(tls || sealed),
        passwords: or_plain(tls),
        decided_origin: ssl.unwrap_or(server.origin),
        ..server
    }
}

/// Searches that all have to find an entry, and a filter on the accounts, whose last line counts.
fn admission<'a>(
    searches: impl Iterator<Item = (&'a str, Origin)>,
    filters: impl Iterator<Item = (&'a str, Origin)>,
) -> Setting<Admission> {
    let condition = |(text, origin): (&str, Origin)| Setting::Stated {
        value: Admission::Condition(text.to_owned()),
        origin,
    };
    if let Some(search) = searches.into_iter().find(|one| !sssd::is_any(one.0) && !is_own_name(one.0)) {
        return condition(search);
    }
    // Of lines for one list the last counts.
    let accounts = filters.filter_map(|(value, origin)| {
        let (list, filter) = value.split_once(char::is_whitespace)?;
        list.eq_ignore_ascii_case("passwd").then_some((filter.trim(), origin))
    });
    match accounts.max_by_key(|one| one.1.start) {
        Some(filter) if !sssd::is_any(filter.0) => condition(filter),
        _ => Setting::default_of(Admission::Everybody, "nslcd", "nslcd.conf(5), pam_authz_search"),
    }
}

/// Whether a search finds the entry of the account itself, whichever it is.
fn is_own_name(search: &str) -> bool {
    matches!(search.trim_matches(['(', ')']), "uid=$username" | "uid=${username}")
}
