//! SSSD: accounts and logins of domains, by LDAP and Kerberos (sssd.conf(5), sssd-ldap(5), sssd-simple(5), sssd-krb5(5)).

use super::{certificate, found_server, server_of};
use crate::ini;
use crate::reader::{LineRecorder, ReadContext, Reader, Reading, Recognition};
use crate::serving::{self, hold};
use std::collections::{BTreeMap, BTreeSet};
use trevlin_model::login_source::{
    Admission, LoginServer, LoginSource, LoginSourceUse, ServerProof, ServerProofKind,
};
use trevlin_model::secret::SecretKind;
use trevlin_model::served::TransportSecurity;
use trevlin_model::{Export, LineClass, Origin, Setting};

/// The reader.
pub(crate) const READER: Reader = Reader {
    name: "sssd",
    title: "accounts of domains (SSSD)",
    manual: "sssd.conf(5)",
    recognise: |export| {
        let path = export.path();
        if export.file_name() == "sssd.conf" || (path.contains("sssd/conf.d/") && path.ends_with(".conf")) {
            Recognition::Name
        } else {
            Recognition::No
        }
    },
    read,
};

/// Settings that become facts.
const JUDGED: [&str; 30] = [
    "access_provider",
    "ad_access_filter",
    "ad_backup_server",
    "ad_server",
    "auth_provider",
    "domains",
    "enabled",
    "id_provider",
    "ipa_backup_server",
    "ipa_server",
    "krb5_backup_server",
    "krb5_server",
    "krb5_validate",
    "ldap_access_filter",
    "ldap_access_order",
    "ldap_auth_disable_tls_never_use_in_production",
    "ldap_backup_uri",
    "ldap_default_authtok",
    "ldap_default_authtok_type",
    "ldap_default_bind_dn",
    "ldap_id_use_start_tls",
    "ldap_sasl_mech",
    "ldap_tls_reqcert",
    "ldap_uri",
    "proxy_pam_target",
    "services",
    "simple_allow_groups",
    "simple_allow_users",
    "simple_deny_groups",
    "simple_deny_users",
];

/// Settings of a section, those of later files last.
struct Section {
    name: String,
    entries: Vec<(String, String, Origin)>,
    origin: Origin,
}

impl Section {
    /// The last value of a name. An empty one counts for nothing.
    fn get(&self, name: &str) -> Option<(&str, Origin)> {
        let found = self.entries.iter().rev().find(|one| one.0 == name && !one.1.is_empty());
        found.map(|one| (one.1.as_str(), one.2))
    }

    /// A switch, which is `true` or `false` in any case.
    fn is(&self, name: &str) -> Option<(bool, Origin)> {
        let (value, origin) = self.get(name)?;
        Some((truth(value)?, origin))
    }
}

fn truth(value: &str) -> Option<bool> {
    match value.to_ascii_lowercase().as_str() {
        "true" => Some(true),
        "false" => Some(false),
        _ => None,
    }
}

/// Settings that are switches.
const SWITCHES: [&str; 7] = [
    "cache_credentials",
    "enabled",
    "enumerate",
    "krb5_validate",
    "ldap_auth_disable_tls_never_use_in_production",
    "ldap_id_use_start_tls",
    "use_fully_qualified_names",
];

fn read(export: &Export, around: &ReadContext<'_>) -> Reading {
    let mut reading = Reading::of(export);
    let mut book = LineRecorder::new(export, &mut reading.ledger, &mut reading.elsewhere);
    let sections = ini::sections(export, &['#', ';']);
    for section in &sections {
        if is_cut(export, section) {
            book.not_understood(
                section.origin,
                "expected `]` behind the name of the section: SSSD does not read the file",
            );
        }
        for entry in &section.entries {
            let name = entry.key.to_ascii_lowercase();
            if let Some(fault) = fault_of(entry) {
                book.not_understood(entry.origin, format!("{fault}: SSSD does not read the file"));
            } else if SWITCHES.contains(&name.as_str()) && truth(entry.value).is_none() {
                book.not_understood(
                    entry.origin,
                    "expected `true` or `false`: SSSD does not start the domain",
                );
            } else if JUDGED.contains(&name.as_str()) || SWITCHES.contains(&name.as_str()) {
                book.understood(entry.origin);
            } else if serving::is_known("sssd", &name) {
                book.class(entry.origin, LineClass::Ignored);
            } else {
                book.not_understood(entry.origin, serving::unknown("sssd.conf(5)"));
            }
            if name == "ldap_default_authtok" {
                hold(
                    export,
                    &mut reading.facts,
                    entry.value,
                    SecretKind::ServicePassword,
                    "SSSD at its directory",
                );
            }
        }
    }
    let files = files(export, around);
    if files.first().is_some_and(|first| first.path() == export.path()) {
        reading.facts.login_sources = domains(&files);
    }
    reading
}

/// What keeps SSSD from reading the file of a line.
fn fault_of(entry: &ini::Entry<'_>) -> Option<&'static str> {
    if !entry.has_value {
        Some("expected `name = value`")
    } else if entry.key.is_empty() {
        Some("expected a name before the equals sign")
    } else {
        None
    }
}

/// Whether the heading of a section has no end.
fn is_cut(export: &Export, section: &ini::Section<'_>) -> bool {
    let text = export.text_at(section.origin);
    text.starts_with('[') && !text.contains(']')
}

/// The main file, then those of its folder.
fn files<'a>(export: &'a Export, around: &ReadContext<'a>) -> Vec<&'a Export> {
    let main = match export.file_name() {
        "sssd.conf" => Some(export),
        _ => around.find("/etc/sssd/sssd.conf", export),
    };
    let mut parts = around.find_all("/etc/sssd/conf.d/*.conf", export);
    parts.retain(|one| !one.file_name().starts_with('.') && Some(one.path()) != main.map(Export::path));
    main.into_iter().chain(parts).collect()
}

/// Domains that are started, in the order of `domains`, then those that their own section switches on.
fn domains(files: &[&Export]) -> Vec<LoginSource> {
    let mut all: Vec<Section> = Vec::new();
    let mut by_name: BTreeMap<String, usize> = BTreeMap::new();
    let mut refused = None;
    for (at, export) in files.iter().enumerate() {
        let sections = ini::sections(export, &['#', ';']);
        let faulty = sections.iter().flat_map(|one| {
            let heading = is_cut(export, one).then_some(one.origin);
            heading
                .into_iter()
                .chain(one.entries.iter().filter(|one| fault_of(one).is_some()).map(|one| one.origin))
        });
        if let Some(line) = faulty.min_by_key(|line| line.start) {
            // Without its main file the program does not start; another is left out.
            if at > 0 {
                continue;
            }
            refused = Some(("its main file is faulty".to_owned(), line));
        }
        for section in sections {
            let name = section.name.to_ascii_lowercase();
            let at = *by_name.entry(name).or_insert_with(|| {
                all.push(Section {
                    name: section.name.to_owned(),
                    entries: Vec::new(),
                    origin: section.origin,
                });
                all.len() - 1
            });
            let entries = section.entries.iter();
            all[at]
                .entries
                .extend(entries.map(|one| (one.key.to_ascii_lowercase(), one.value.to_owned(), one.origin)));
        }
    }
    let named = |name: &str| by_name.get(&format!("domain/{}", name.to_ascii_lowercase())).copied();
    let general = by_name.get("sssd").map(|at| &all[*at]);
    let listed = general.and_then(|one| one.get("domains")).map_or("", |one| one.0);
    let listed = listed.split(',').map(str::trim).filter(|name| !name.is_empty()).filter_map(named);
    let kept = listed.filter(|at| all[*at].is("enabled").is_none_or(|one| one.0));
    let switched_on = (0..all.len()).filter(|at| {
        let name = all[*at].name.to_ascii_lowercase();
        let domain = name.starts_with("domain/") && name.matches('/').count() == 1;
        domain && all[*at].is("enabled").is_some_and(|one| one.0)
    });
    let mut seen = BTreeSet::new();
    let order: Vec<&Section> =
        kept.chain(switched_on).filter(|at| seen.insert(*at)).map(|at| &all[at]).collect();
    let started = |section: &Section| {
        let mut source = domain(section)?;
        let broken = SWITCHES.iter().find_map(|name| {
            let (value, line) = section.get(name)?;
            truth(value).is_none().then_some(line)
        });
        let switch = broken.map(|line| ("a switch is neither `true` nor `false`".to_owned(), line));
        source.refused = refused.clone().or(switch);
        Some(source)
    };
    order.into_iter().filter_map(started).collect()
}

/// Systems by which a domain gets accounts, or proves passwords.
const PROVIDERS: [&str; 4] = ["ldap", "krb5", "ipa", "ad"];

/// One domain; nothing for those that repeat the accounts of the host itself.
fn domain(section: &Section) -> Option<LoginSource> {
    let label = section.name.split_once('/').map_or("", |one| one.1);
    let identities = section.get("id_provider")?;
    if matches!(identities.0, "files" | "local" | "none") {
        return None;
    }
    // The system of the accounts proves passwords too, where it can and no other is named.
    let passwords = section.get("auth_provider").unwrap_or(identities);
    let gives = match passwords.0 {
        "none" => LoginSourceUse::Accounts,
        _ => LoginSourceUse::AccountsAndPasswords,
    };
    let mut source = LoginSource::new(
        "SSSD",
        format!("the domain {label} of SSSD"),
        gives,
        admission(section),
        section.origin,
    );
    source.label = Some(label.to_owned());
    source.name_service = Some("sss".to_owned());
    if identities.0 == "ldap" || passwords.0 == "ldap" {
        by_ldap(section, identities.0 == "ldap", passwords.0 == "ldap", &mut source);
    }
    for provider in ["krb5", "ipa", "ad"] {
        if identities.0 == provider || passwords.0 == provider {
            by_tickets(section, provider, identities.0 == provider, &mut source);
        }
    }
    for (name, origin) in [identities, passwords] {
        if !PROVIDERS.contains(&name) && name != "none" && source.open.is_empty() {
            let what = format!("the settings of the provider `{name}` of the domain {label}");
            source.open.push((what, origin));
        }
    }
    Some(source)
}

fn by_ldap(section: &Section, accounts: bool, passwords: bool, source: &mut LoginSource) {
    let mut servers: Vec<LoginServer> = Vec::new();
    for name in ["ldap_uri", "ldap_backup_uri"] {
        let Some((value, origin)) = section.get(name) else { continue };
        for uri in value.split(',').map(str::trim).filter(|uri| !uri.is_empty()) {
            if uri.eq_ignore_ascii_case("_srv_") {
                servers.push(found_server(TransportSecurity::Plain, origin));
            } else {
                servers.extend(server_of(uri, origin));
            }
        }
    }
    if servers.is_empty() {
        servers.push(found_server(TransportSecurity::Plain, section.origin));
    }
    let start_tls = section.is("ldap_id_use_start_tls");
    let sealed = section.get("ldap_sasl_mech").filter(|one| one.0.to_ascii_uppercase().starts_with("GSS"));
    let without = section.is("ldap_auth_disable_tls_never_use_in_production").filter(|one| one.0);
    let encrypted = start_tls.filter(|one| one.0).map(|one| one.1).or(sealed.map(|one| one.1));
    for server in &mut servers {
        if server.accounts == Some(TransportSecurity::Plain) {
            server.decided_origin = encrypted.or(start_tls.map(|one| one.1)).unwrap_or(server.origin);
            if encrypted.is_some() {
                server.accounts = Some(TransportSecurity::Encrypted);
            }
            // Passwords of users need TLS, whatever is set for accounts (sssd-ldap(5)).
            server.passwords = Some(match without {
                Some((_, line)) if encrypted.is_none() => {
                    server.decided_origin = line;
                    TransportSecurity::Plain
                }
                _ => TransportSecurity::Encrypted,
            });
        }
        if !accounts {
            server.accounts = None;
        }
        if !passwords {
            server.passwords = None;
        }
    }
    source.servers.extend(servers);
    source.proofs.extend(certificate(
        section.get("ldap_tls_reqcert"),
        "SSSD",
        "sssd-ldap(5), ldap_tls_reqcert",
    ));
    let binds = section.get("ldap_default_bind_dn").is_some() && sealed.is_none();
    source.own_password = section.get("ldap_default_authtok").filter(|_| binds).map(|one| one.1);
}

/// Servers of Kerberos, and of the systems that are built on it: their accounts are sealed by tickets.
fn by_tickets(section: &Section, provider: &str, accounts: bool, source: &mut LoginSource) {
    let names = [format!("{provider}_server"), format!("{provider}_backup_server")];
    for (value, origin) in names.iter().filter_map(|name| section.get(name)) {
        for host in value.split(',').map(str::trim).filter(|host| !host.is_empty()) {
            let found = host.eq_ignore_ascii_case("_srv_");
            let (name, port) = serving::host_and_port(host);
            source.servers.push(LoginServer {
                host: if found { String::new() } else { name.unwrap_or_default().to_owned() },
                port,
                accounts: accounts.then_some(TransportSecurity::Encrypted),
                // A ticket is asked for without sending the password (RFC 4120).
                passwords: None,
                origin,
                decided_origin: origin,
            });
        }
    }
    let demanded = match section.is("krb5_validate") {
        Some((value, origin)) => Setting::Stated { value, origin },
        None => Setting::default_of(provider != "krb5", "SSSD", "sssd-krb5(5), krb5_validate"),
    };
    source.proofs.retain(|one| one.kind != ServerProofKind::Ticket);
    source.proofs.push(ServerProof { kind: ServerProofKind::Ticket, demanded });
}

/// Which accounts of a domain may log in.
fn admission(section: &Section) -> Setting<Admission> {
    let Some((provider, origin)) = section.get("access_provider") else {
        return Setting::default_of(Admission::Everybody, "SSSD", "sssd.conf(5), access_provider");
    };
    let stated = |value| Setting::Stated { value, origin };
    match provider {
        "permit" => stated(Admission::Everybody),
        "deny" => stated(Admission::Nobody),
        "simple" => {
            let names = |name: &str| {
                section.get(name).map(|(value, at)| {
                    let names = value.split(',').map(str::trim).filter(|name| !name.is_empty());
                    (names.map(str::to_owned).collect::<Vec<_>>(), at)
                })
            };
            let lists = [names("simple_allow_users"), names("simple_allow_groups")];
            let line = lists.iter().flatten().map(|one| one.1).next();
            let all: Vec<String> = lists.into_iter().flatten().flat_map(|one| one.0).collect();
            match line {
                Some(origin) if !all.is_empty() => Setting::Stated { value: Admission::Named(all), origin },
                _ => stated(Admission::Everybody),
            }
        }
        "ldap" => by_entry(section, origin),
        "ipa" => stated(Admission::ByServer),
        "ad" => match section.get("ad_access_filter") {
            Some((filter, origin)) => {
                Setting::Stated { value: Admission::Condition(filter.to_owned()), origin }
            }
            None => stated(Admission::ByServer),
        },
        // A file in the home folder of each account; without it its own principal logs in (sssd-krb5(5)).
        "krb5" => stated(Admission::Everybody),
        _ => Setting::Unknown { why: format!("the rules of the provider `{provider}`") },
    }
}

/// Conditions on the entry of an account, in the order of `ldap_access_order` (sssd-ldap(5)).
fn by_entry(section: &Section, stated_at: Origin) -> Setting<Admission> {
    let (order, order_at) = section.get("ldap_access_order").unwrap_or(("filter", stated_at));
    let words: Vec<String> = order.split(',').map(|word| word.trim().to_ascii_lowercase()).collect();
    let stated = |value, origin| Setting::Stated { value, origin };
    if words.iter().any(|word| word == "filter") {
        match section.get("ldap_access_filter") {
            None => return stated(Admission::Nobody, stated_at),
            Some((filter, origin)) if !is_any(filter) => {
                return stated(Admission::Condition(filter.to_owned()), origin);
            }
            Some(_) => {}
        }
    }
    let named = words.iter().find(|word| matches!(word.as_str(), "host" | "authorized_service" | "rhost"));
    match named {
        Some(word) => stated(Admission::Condition(format!("the attribute for `{word}`")), order_at),
        None => stated(Admission::Everybody, section.get("ldap_access_filter").map_or(order_at, |one| one.1)),
    }
}

/// Whether every account meets a filter: the presence of an attribute that accounts have.
pub(super) fn is_any(filter: &str) -> bool {
    let inner = filter.trim().trim_start_matches('(').trim_end_matches(')').to_ascii_lowercase();
    matches!(
        inner.as_str(),
        "objectclass=*"
            | "uid=*"
            | "cn=*"
            | "uidnumber=*"
            | "objectclass=posixaccount"
            | "objectclass=person"
    )
}
