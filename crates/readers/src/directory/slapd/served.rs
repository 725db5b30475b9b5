//! The service that the settings of slapd make.

use super::access::Rule;
use super::grants::{self, Grant, GrantedTo, Limits, Right};
use super::passwords::kind_of;
use super::statements::{Section, Settings, Statement};
use crate::directory::dn::Dn;
use crate::tls;
use std::net::IpAddr;
use std::sync::Arc;
use trevlin_model::offer::Offer;
use trevlin_model::served::{
    AuthRequirement, Endpoint, PartKind, Remark, Requirement, Served, ServedKind, ServiceResource,
    ServiceWeakness, TransportSecurity,
};
use trevlin_model::{
    Export, Facts, Login, LoginDaemon, LoginList, Origin, Protocol, Secret, SecretRecord, Setting,
};

const NAME: &str = "LDAP server (OpenLDAP)";

/// Bits of encryption that clients of current TLS have.
const TLS_BITS: u32 = 256;

/// Adds the service and the logins of its administrators.
pub(super) fn serve(
    settings: &Settings,
    export: &Export,
    named: Option<(String, Origin)>,
    facts: &mut Facts,
) {
    let Some(global) = settings.global() else { return };
    let suffix = settings.databases().find_map(|database| database.last("suffix"));
    let first = suffix.or(global.statements.first()).map_or(export.origin(0..0), |one| one.origin);
    let tls = global.last("tlscertificatefile");
    let endpoints = endpoints(named, tls.is_some(), first);
    // Where its start is known, it proves that the server listens, and how.
    let line = endpoints.first().map_or(first, |place| place.origin);
    let mut one = Served::new(ServedKind::Directory, "OpenLDAP", NAME, &["slapd"], line);
    one.endpoints = endpoints;
    if one.endpoints.is_empty() {
        return;
    }
    let strength = Strength::of(global);
    one.parts.push(login(global, tls, &strength, line));
    for database in settings.databases().filter(|database| database.kind != "config") {
        parts(global, database, settings, tls.is_some(), &mut one);
    }
    one.offers.extend(offer(global));
    for allow in global.all("allow") {
        let words: Vec<&str> = allow.arguments().collect();
        let has = |name: &str| words.iter().any(|word| word.eq_ignore_ascii_case(name));
        if has("bind_anon_dn") {
            one.weaknesses.push((ServiceWeakness::EmptyPassword, allow.origin));
        }
        if has("bind_v2") {
            one.weaknesses.push((ServiceWeakness::LdapTwo, allow.origin));
        }
    }
    for (path, origin) in &settings.missing {
        one.open
            .push((format!("please provide `{path}`, which is included: rules in it may decide"), *origin));
    }
    for database in &settings.sections {
        facts.logins.extend(administrator(database, export));
    }
    facts.served.push(one);
}

/// The login of a database's administrator, who may do everything in it (slapd.conf(5), rootpw).
fn administrator(database: &Section, export: &Export) -> Option<Login> {
    let password = database.last("rootpw")?;
    let user = database.last("rootdn").map_or("rootdn", |one| one.argument(1));
    let word = password.words.get(1)?;
    let held = SecretRecord {
        secret: Secret::new(&word.text),
        kind: kind_of(&word.text),
        owner: user.to_owned(),
        origin: word.origin,
    };
    Some(Login {
        user: user.to_owned(),
        list: LoginList::LocalFile(export.path().to_owned()),
        daemon: Some(LoginDaemon::Service),
        service: NAME.into(),
        secret: (!word.text.is_empty()).then(|| Arc::new(held)),
        certain: true,
        expires: None,
        origin: password.origin,
    })
}

/// Where it listens: the addresses of its start, and otherwise port 389 at every one (slapd(8), -h).
fn endpoints(named: Option<(String, Origin)>, tls: bool, first: Origin) -> Vec<Endpoint> {
    let clear = if tls { TransportSecurity::Optional } else { TransportSecurity::Plain };
    let Some((list, origin)) = named else {
        return vec![Endpoint::everywhere(Protocol::TCP, 389, clear, first)];
    };
    let mut found = Vec::new();
    for word in list.split_whitespace() {
        let Some((scheme, rest)) = word.split_once("://") else { continue };
        let (usual, carried) = match scheme.to_ascii_lowercase().as_str() {
            "ldap" => (389, clear),
            // Without a certificate the handshake fails.
            "ldaps" if tls => (636, TransportSecurity::Encrypted),
            _ => continue,
        };
        let place = rest.split('/').next().unwrap_or_default();
        let (host, port) = crate::serving::host_and_port(place);
        let everywhere = Endpoint::everywhere(Protocol::TCP, port.unwrap_or(usual), carried, origin);
        let address = host.and_then(|host| match host {
            "localhost" => Some(IpAddr::from([127, 0, 0, 1])),
            other => other.parse().ok(),
        });
        found.push(match address {
            Some(address) => everywhere.at(address),
            None => everywhere,
        });
    }
    found
}

/// Least strengths that `security` demands, in bits (slapd.conf(5)).
#[derive(Default)]
struct Strength {
    /// Of every connection.
    every: Option<(u32, Origin)>,
    /// Of simple binds.
    simple: Option<(u32, Origin)>,
}

impl Strength {
    fn of(section: &Section) -> Self {
        let mut found = Self::default();
        for statement in section.all("security") {
            for word in statement.arguments() {
                let Some((name, bits)) = word.split_once('=') else { continue };
                let Ok(bits) = bits.parse::<u32>() else { continue };
                let place = match name.to_ascii_lowercase().as_str() {
                    "ssf" | "tls" | "transport" => &mut found.every,
                    "simple_bind" => &mut found.simple,
                    _ => continue,
                };
                *place = Some((bits, statement.origin)).filter(|one| one.0 > 0).or(*place);
            }
        }
        found
    }

    /// The line that demands encryption of a simple bind.
    fn of_password(&self) -> Option<Origin> {
        // One bit is what integrity alone counts as.
        self.every
            .or(self.simple)
            .filter(|one| one.0 > 1)
            .or(self.simple.filter(|one| one.0 > 1))
            .map(|one| one.1)
    }
}

/// Whether a word is among the arguments of statements, with the line.
fn says(section: &Section, keyword: &str, words: &[&str]) -> Option<Origin> {
    let fits = |statement: &&Statement| {
        statement.arguments().any(|one| words.iter().any(|word| one.eq_ignore_ascii_case(word)))
    };
    section.all(keyword).find(fits).map(|statement| statement.origin)
}

/// How users log in.
fn login(global: &Section, tls: Option<&Statement>, strength: &Strength, first: Origin) -> ServiceResource {
    let mut part = ServiceResource::new(PartKind::Whole, NAME, first);
    let proof = says(global, "disallow", &["bind_simple"]).or_else(|| says(global, "require", &["sasl"]));
    part.login = match proof {
        Some(origin) => Setting::Stated { value: AuthRequirement::Proof, origin },
        None => Setting::default_of(AuthRequirement::Password, "OpenLDAP", "slapd.conf(5), disallow"),
    };
    let strong = says(global, "require", &["strong"]);
    part.encryption = Some(match (strength.of_password().or(strong), tls) {
        (Some(origin), _) => Setting::Stated { value: Requirement::Required, origin },
        (None, Some(tls)) => Setting::Stated { value: Requirement::Offered, origin: tls.origin },
        (None, None) => {
            Setting::default_of(Requirement::Never, "OpenLDAP", "slapd.conf(5), TLSCertificateFile")
        }
    });
    part.writes = Setting::Stated { value: true, origin: first };
    part
}

/// Resources, by the rights that the rules of a database grant.
fn parts(global: &Section, database: &Section, settings: &Settings, tls: bool, one: &mut Served) {
    let suffixes: Vec<Dn> = match database.kind.as_str() {
        "monitor" => vec![Dn::parse("cn=monitor").unwrap_or_default()],
        _ => database.all("suffix").filter_map(|one| Dn::parse(one.argument(1))).collect(),
    };
    if suffixes.is_empty() {
        return;
    }
    let statements = database.all("access").chain(global.all("access"));
    let parsed =
        statements.map(|one| Rule::parse(one).map_err(|_| one.origin)).collect::<Result<Vec<_>, _>>();
    let rules = match parsed {
        Ok(rules) => rules,
        Err(wrong) => {
            one.refused = Some(("a rule of access is not understood by slapd".to_owned(), wrong));
            return;
        }
    };
    let own = Strength::of(database).every.or(Strength::of(global).every);
    let require = ["authc", "strong", "sasl"];
    let demanded = says(database, "require", &require).or_else(|| says(global, "require", &require));
    let limits = Limits {
        bits: if tls { TLS_BITS } else { 0 },
        login: demanded.is_some(),
        read_only: says(database, "readonly", &["on", "true", "yes"]).is_some() || database.kind == "monitor",
        anonymous_writes: says(global, "allow", &["update_anon"]).is_some(),
        accounts: ["nis", "rfc2307bis"].iter().any(|schema| settings.schemas.contains(*schema)),
    };
    if own.is_some_and(|(bits, _)| bits > limits.bits) {
        return;
    }
    let name = suffixes.iter().map(ToString::to_string).collect::<Vec<_>>().join(", ");
    let all: Vec<&Rule> = rules.iter().collect();
    let line = rules.last().map_or(database.origin, |rule| rule.origin);
    if rules.is_empty() {
        // Without a rule everything is read (slapd.access(5)).
        let mut part = ServiceResource::new(PartKind::Entries, name.clone(), database.origin);
        let (value, origin) = match demanded {
            Some(origin) => (AuthRequirement::Password, origin),
            None => (AuthRequirement::Nothing, database.origin),
        };
        part.login = Setting::Stated { value, origin };
        mark(&mut part, database);
        let mut hashes = part.clone();
        hashes.kind = PartKind::PasswordHashes;
        one.parts.push(part);
        if database.kind != "monitor" {
            one.parts.push(hashes);
        }
        return;
    }
    let found = grants::grants(&all, &suffixes, &limits);
    let read = found.iter().any(|grant| grant.right == Right::Read);
    let parts = found.into_iter().filter(|grant| {
        // A database about the server has no passwords.
        database.kind != "monitor" || grant.right == Right::Read
    });
    one.parts.extend(parts.map(|grant| {
        let mut part = part_of(grant, database.origin);
        mark(&mut part, database);
        part
    }));
    if !read {
        let mut part = ServiceResource::new(PartKind::Entries, name, line);
        part.login = Setting::Stated { value: AuthRequirement::Password, origin: demanded.unwrap_or(line) };
        part.users = vec!["named accounts".to_owned()];
        mark(&mut part, database);
        one.parts.push(part);
    }
}

/// A database that shows how the server is doing.
fn mark(part: &mut ServiceResource, database: &Section) {
    if database.kind == "monitor" {
        part.remarks.push((Remark::Status, database.origin));
    }
}

fn part_of(grant: Grant, begin: Origin) -> ServiceResource {
    let kind = match grant.right {
        Right::Read | Right::Write => PartKind::Entries,
        Right::Passwords => PartKind::PasswordHashes,
        Right::OwnNumbers => PartKind::OwnAccount,
    };
    let origin = grant.lines.first().copied().unwrap_or(begin);
    let name = match (grant.right, grant.attributes.as_slice()) {
        (Right::Read | Right::Write, []) => grant.base.clone(),
        (Right::Passwords, [one]) if one == grants::PASSWORDS[0] => grant.base.clone(),
        (_, all) => format!("{} ({})", grant.base, all.join(", ")),
    };
    let mut part = ServiceResource::new(kind, name, origin).labelled(grant.base);
    let login = match grant.client {
        GrantedTo::Anonymous => AuthRequirement::Nothing,
        GrantedTo::AnyUser => AuthRequirement::Password,
        GrantedTo::Users(text) => {
            part.users = vec![text];
            AuthRequirement::Password
        }
    };
    part.login = Setting::Stated { value: login, origin };
    let writes = matches!(grant.right, Right::Write | Right::OwnNumbers);
    part.writes = Setting::Stated { value: writes, origin };
    part.sources = grant.sources;
    // All lines that grant it are evidence; the sources carry those behind the first.
    for line in grant.lines.into_iter().skip(1) {
        if !part.sources.origins.contains(&line) {
            part.sources.origins.push(line);
        }
    }
    part
}

/// Versions and ciphers: in the words of GnuTLS, with which Debian builds it, or of OpenSSL.
fn offer(global: &Section) -> Option<Offer> {
    let place = |keyword: &str| {
        let word = global.last(keyword)?.words.get(1)?;
        Some((word.text.as_str(), word.origin))
    };
    let ciphers = place("tlsciphersuite");
    let lowest = place("tlsprotocolmin");
    let gnutls = |text: &str| {
        ["NORMAL", "SECURE", "PFS", "NONE", "LEGACY", "PERFORMANCE", "SUITEB", "SYSTEM"]
            .iter()
            .any(|word| text.trim_start_matches('@').starts_with(word))
    };
    if let Some((text, origin)) = ciphers.filter(|(text, _)| gnutls(text)) {
        return Some(tls::gnutls(text, origin));
    }
    let at = lowest.or(ciphers)?.1;
    // Two numbers: 3.0 is SSL 3.0, and 3.1 is TLS 1.0.
    let version = lowest.and_then(|(text, at)| {
        let name = match text.split_once('.')? {
            ("2", _) => "SSLv2",
            ("3", "0") => "SSLv3",
            ("3", "1") => "TLSv1",
            ("3", "2") => "TLSv1.1",
            ("3", "3") => "TLSv1.2",
            _ => "TLSv1.3",
        };
        Some((name, at))
    });
    Some(tls::openssl(ciphers, [version, None], &[], at))
}
