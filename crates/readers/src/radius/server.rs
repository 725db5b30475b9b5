//! `radiusd.conf`, `proxy.conf`, the EAP module and virtual servers.

use super::clients;
use super::sections::Section;
use crate::reader::{LineRecorder, Reading};
use crate::tls;
use std::collections::BTreeSet;
use trevlin_model::offer::{AlgorithmRole, Offer};
use trevlin_model::radius::{EapSettings, RadiusSecurity, RadiusSite, RadiusStep, RadiusUpstream};
use trevlin_model::secret::SecretKind;
use trevlin_model::{Export, Gap, GapKind, Origin};

/// Names of items that contain a secret, in any section, and the purpose of the secret.
const SECRETS: [(&str, SecretKind); 8] = [
    ("secret", SecretKind::RadiusSecret),
    ("private_key_password", SecretKind::Passphrase),
    ("password", SecretKind::OwnPassword),
    ("identity_password", SecretKind::OwnPassword),
    ("certificate_password", SecretKind::Passphrase),
    ("api_key", SecretKind::Token),
    ("challenge_secret", SecretKind::OwnPassword),
    ("radius_secret", SecretKind::RadiusSecret),
];

/// Takes a whole file.
pub(super) fn take(export: &Export, file: &Section<'_>, reading: &mut Reading) {
    let mut security = RadiusSecurity::default();
    for section in &file.sections {
        match section.kind {
            "client" => clients::take(export, section, reading),
            // Clients that one site alone knows, or a list of them.
            "clients" => {
                for client in section.sections_of("client") {
                    clients::take(export, client, reading);
                }
            }
            "home_server" => upstream(export, section, file, reading),
            "eap" => eap(export, section, reading),
            "server" => {
                site(export, section, reading);
                for client in section.sections_of("client") {
                    clients::take(export, client, reading);
                }
            }
            // Files that sites read in, and the main file's list of modules.
            "modules" => {
                for module in section.sections_of("eap") {
                    eap(export, module, reading);
                }
            }
            "log" => log(export, section, &mut security, reading),
            "security" => {
                let mut book = LineRecorder::new(export, &mut reading.ledger, &mut reading.elsewhere);
                security.tells_security = true;
                if let Some(item) = section.item("require_message_authenticator") {
                    security.message_authenticator =
                        clients::message_authenticator(item).map(|value| (value, item.origin));
                    book.understood(item.origin);
                }
                if let Some(item) = section.item("reject_delay") {
                    match item.value.parse() {
                        Ok(seconds) => {
                            security.reject_delay = Some((seconds, item.origin));
                            book.understood(item.origin);
                        }
                        Err(_) => book.not_understood(item.origin, "expected seconds"),
                    }
                }
            }
            "sql" => sql(export, section, reading),
            // Nothing of it is in force until another section names it.
            "templates" => {
                let before = reading.facts.secrets.len();
                secrets(export, section, reading);
                let held = reading.facts.secrets.split_off(before);
                reading.facts.masked_places.extend(held.iter().map(|one| one.origin));
            }
            _ => secrets(export, section, reading),
        }
    }
    if security.tells_log || security.tells_security {
        reading.facts.radius_security.push(security);
    }
}

/// Drivers of module `sql`, whose sections hold settings for each of them (rlm_sql).
const DRIVERS: [&str; 9] =
    ["cassandra", "db2", "firebird", "freetds", "mongo", "mysql", "oracle", "postgresql", "sqlite"];

/// Secrets of module `sql` for its driver; none without a database (`rlm_sql_null`).
fn sql(export: &Export, section: &Section<'_>, reading: &mut Reading) {
    let stated = |name| section.item(name).map(|item| item.value);
    let driver = stated("driver").map(|driver| driver.trim_start_matches("rlm_sql_"));
    let driver = if driver == Some("${dialect}") { stated("dialect") } else { driver };
    let used = |inner: &&Section<'_>| driver.is_none_or(|driver| inner.kind == driver);
    let (others, own): (Vec<_>, Vec<_>) =
        section.sections.iter().partition(|inner| DRIVERS.contains(&inner.kind) && !used(inner));
    let before = reading.facts.secrets.len();
    for other in others {
        secrets(export, other, reading);
    }
    if driver == Some("null") {
        secrets(export, section, reading);
    }
    let unused = reading.facts.secrets.split_off(before);
    reading.facts.masked_places.extend(unused.iter().map(|held| held.origin));
    if driver != Some("null") {
        // Clients beside those of clients.conf (mods-available/sql, read_clients).
        if let Some(item) = section.item("read_clients").filter(|item| item.value == "yes") {
            reading.ledger.gaps.push(Gap { kind: GapKind::InDatabase("clients"), origin: item.origin });
        }
        items(export, section, reading);
        for inner in own {
            secrets(export, inner, reading);
        }
    }
}

/// Secrets of sections that are not analysed, at any depth.
fn secrets(export: &Export, section: &Section<'_>, reading: &mut Reading) {
    items(export, section, reading);
    for inner in &section.sections {
        secrets(export, inner, reading);
    }
}

/// Secrets among the items of a section.
fn items(export: &Export, section: &Section<'_>, reading: &mut Reading) {
    for item in &section.items {
        if let Some((_, kind)) = SECRETS.iter().find(|(name, _)| *name == item.name)
            && !item.value.is_empty()
            && !item.is_elsewhere()
        {
            let owner = if section.name.is_empty() { section.kind } else { section.name };
            reading.facts.secrets.push(item.hold(*kind, owner));
            LineRecorder::new(export, &mut reading.ledger, &mut reading.elsewhere).understood(item.origin);
        }
    }
}

fn log(export: &Export, section: &Section<'_>, security: &mut RadiusSecurity, reading: &mut Reading) {
    let mut book = LineRecorder::new(export, &mut reading.ledger, &mut reading.elsewhere);
    security.tells_log = true;
    for name in ["auth_badpass", "auth_goodpass"] {
        if let Some(item) = section.item(name) {
            book.understood(item.origin);
            match item.truth() {
                Some(true) => security.logged_passwords.push(item.origin),
                _ => security.passwords_not_logged.push(item.origin),
            }
        }
    }
}

fn upstream(export: &Export, section: &Section<'_>, file: &Section<'_>, reading: &mut Reading) {
    let mut book = LineRecorder::new(export, &mut reading.ledger, &mut reading.elsewhere);
    book.understood(section.origin);
    let server =
        ["ipaddr", "ipv4addr", "ipv6addr", "virtual_server"].iter().find_map(|name| section.item(name));
    for name in ["ipaddr", "ipv4addr", "ipv6addr", "proto", "secret", "port", "type"] {
        if let Some(item) = section.item(name) {
            book.understood(item.origin);
        }
    }
    if section.item("type").is_some_and(|item| item.value == "acct" || item.value == "coa") {
        secrets(export, section, reading);
        return;
    }
    let secret = section
        .item("secret")
        .filter(|item| !item.is_elsewhere())
        .map(|item| item.hold(SecretKind::RadiusSecret, section.name));
    reading.facts.secrets.extend(secret.clone());
    // Pools that hold this server, and realms that use those pools.
    let pools: Vec<&str> = file
        .sections_of("home_server_pool")
        .filter(|pool| pool.items.iter().any(|item| item.name == "home_server" && item.value == section.name))
        .map(|pool| pool.name)
        .collect();
    let uses = |realm: &&Section<'_>| {
        realm
            .items
            .iter()
            .any(|item| matches!(item.name, "auth_pool" | "pool") && pools.contains(&item.value))
    };
    let realms: Vec<&Section<'_>> = file.sections_of("realm").filter(uses).collect();
    let mut book = LineRecorder::new(export, &mut reading.ledger, &mut reading.elsewhere);
    for realm in &realms {
        book.understood(realm.origin);
    }
    let server = server.map_or("", |item| item.value).to_owned();
    // A realm that is stated twice is one.
    let realms: BTreeSet<&str> = realms.iter().map(|realm| realm.name).collect();
    reading.facts.radius_upstreams.push(RadiusUpstream {
        name: section.name.to_owned(),
        address: server.parse().ok(),
        server,
        tls: section.sections_of("tls").next().is_some(),
        secret,
        realms: realms.into_iter().map(str::to_owned).collect(),
        origin: section.origin,
    });
}

/// Versions and ciphers that a section of TLS settings accepts; the lowest version is 1.2 unless stated (`mods-available/eap`,
/// tls_min_version; `radiusd -XC` prints the same).
fn tls_of(section: &Section<'_>, book: &mut LineRecorder<'_>) -> Offer {
    let mut get = |key: &str| {
        let item = section.item(key)?;
        book.understood(item.origin);
        Some((item.value, item.origin))
    };
    let named = |version: &str| match version {
        "1.0" => "TLSv1".to_owned(),
        other => format!("TLSv{other}"),
    };
    let least = get("tls_min_version").map(|(text, at)| (named(text), at));
    let most = get("tls_max_version").map(|(text, at)| (named(text), at));
    let forbidden: Vec<String> =
        [("disable_tlsv1", "TLSv1"), ("disable_tlsv1_1", "TLSv1_1"), ("disable_tlsv1_2", "TLSv1_2")]
            .into_iter()
            .filter(|(key, _)| get(key).is_some_and(|(text, _)| text == "yes"))
            .map(|(_, version)| version.to_owned())
            .collect();
    let own_order = get("cipher_server_preference").is_some_and(|(text, _)| text == "yes");
    let usual = least.is_none();
    let (least, at) = least.unwrap_or_else(|| ("TLSv1.2".into(), section.origin));
    let most = most.as_ref().map(|(text, at)| (text.as_str(), *at));
    let mut offer =
        tls::openssl(get("cipher_list"), [Some((least.as_str(), at)), most], &forbidden, section.origin);
    for one in offer.algorithms.iter_mut().filter(|one| usual && one.role == Some(AlgorithmRole::Protocol)) {
        one.default = Some("mods-available/eap, tls_min_version");
    }
    Offer { own_order, ..offer }
}

fn eap(export: &Export, section: &Section<'_>, reading: &mut Reading) {
    let mut book = LineRecorder::new(export, &mut reading.ledger, &mut reading.elsewhere);
    let mut settings =
        EapSettings { default_method: None, methods: Vec::new(), offers: Vec::new(), origin: section.origin };
    book.understood(section.origin);
    if let Some(item) = section.item("default_eap_type") {
        book.understood(item.origin);
        settings.default_method = Some((item.value.to_owned(), item.origin));
    }
    for inner in &section.sections {
        // Before version 3 the method `tls` itself had these settings.
        let own = || ["private_key_file", "certificate_file"].iter().any(|key| inner.item(key).is_some());
        if inner.kind == "tls-config" || (inner.kind == "tls" && own()) {
            settings.offers.push(tls_of(inner, &mut book));
        }
        if inner.kind != "tls-config" {
            book.understood(inner.origin);
            settings.methods.push((inner.kind.to_owned(), inner.origin));
        }
    }
    secrets(export, section, reading);
    reading.facts.eap_settings.push(settings);
}

fn site(export: &Export, section: &Section<'_>, reading: &mut Reading) {
    let mut steps = |kind: &str| {
        let mut found = Vec::new();
        for stage in section.sections_of(kind) {
            modules(stage, &mut found);
        }
        let mut book = LineRecorder::new(export, &mut reading.ledger, &mut reading.elsewhere);
        for step in &found {
            book.understood(step.origin);
        }
        found
    };
    let (authorize, authenticate, post_auth) =
        (steps("authorize"), steps("authenticate"), steps("post-auth"));
    if !authorize.is_empty() || !authenticate.is_empty() {
        let (name, origin) = (section.name.to_owned(), section.origin);
        reading.facts.radius_sites.push(RadiusSite { name, authorize, authenticate, post_auth, origin });
    }
    secrets(export, section, reading);
}

/// Words of the language between modules (unlang(5)), which run no module by themselves.
const LANGUAGE: [&str; 16] = [
    "if",
    "elsif",
    "else",
    "switch",
    "case",
    "foreach",
    "group",
    "redundant",
    "load-balance",
    "redundant-load-balance",
    "parallel",
    "update",
    "Auth-Type",
    "Autz-Type",
    "Post-Auth-Type",
    "subrequest",
];

/// Modules of a stage in order, including those in conditions and groups. A module may have a section of its own for the effect of its
/// results.
fn modules(stage: &Section<'_>, found: &mut Vec<RadiusStep>) {
    let mut all: Vec<(&str, Origin, Option<&Section<'_>>)> = Vec::new();
    all.extend(stage.words.iter().map(|(word, origin)| (*word, *origin, None)));
    all.extend(stage.sections.iter().map(|inner| (inner.kind, inner.origin, Some(inner))));
    all.sort_by_key(|(_, origin, _)| origin.start);
    for (name, origin, inner) in all {
        let known = LANGUAGE.contains(&name);
        match inner {
            // Attributes in an update section are not modules.
            Some(inner) if known && name != "update" => modules(inner, found),
            _ if known || name.starts_with("$INCLUDE") => {}
            _ => {
                // A leading sign says that the module may be missing.
                let module =
                    name.trim_start_matches('-').split([' ', '\t']).next().unwrap_or(name).to_owned();
                found.push(RadiusStep { module, origin });
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use crate::ReadContext;
    use trevlin_model::{Export, ExportId};

    #[test]
    fn passwords_of_modules() {
        const SQL: &str = "\tdialect = \"mysql\"\n\tmongo {\n\t\ttls {\n\t\t\tcertificate_password = \"x\"\n\t\t}\n\t}\n\tpassword = \"quay-7\"\n}\n";
        for (path, text, wanted) in [
            ("mods-enabled/sql", format!("sql {{\n\tdriver = \"rlm_sql_mysql\"\n{SQL}"), &["sql"][..]),
            ("mods-enabled/sql", format!("sql {{\n\tdriver = \"rlm_sql_${{dialect}}\"\n{SQL}"), &["sql"]),
            ("mods-enabled/sql", format!("sql {{\n\tdriver = \"rlm_sql_null\"\n{SQL}"), &[]),
            ("mods-enabled/sql", format!("sql {{\n\tdriver = \"rlm_sql_mongo\"\n{SQL}"), &["sql", "tls"]),
            ("mods-available/sql", format!("sql {{\n\tdriver = \"rlm_sql_mysql\"\n{SQL}"), &[]),
            (
                "mods-enabled/ldap",
                "# crew\nldap {\n\tidentity = 'cn=quay'\n\tpassword = sesame\n}\n".into(),
                &["ldap"],
            ),
            (
                "mods-enabled/yubikey",
                "yubikey {\n\tvalidation {\n\t\tapi_key = 'abc'\n\t}\n}\n".into(),
                &["validation"],
            ),
            ("mods-enabled/ldap", "ldap {\n\t#password = sesame\n}\n".into(), &[]),
        ] {
            let export = Export::new(ExportId(0), format!("d/etc/freeradius/3.0/{path}"), text.clone());
            let reader = crate::recognise(&export).reader.expect(path);
            assert_eq!(reader.name, "radius", "{path}");
            let reading = (reader.read)(&export, &ReadContext::of(vec![&export]));
            let owners: Vec<&str> = reading.facts.secrets.iter().map(|held| held.owner.as_str()).collect();
            assert_eq!(owners, wanted, "{path} {text}");
        }
    }
}
