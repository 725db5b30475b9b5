//! Option files of MariaDB (MariaDB documentation, "Configuring MariaDB with Option Files"): listeners and authentication. The last value
//! wins; dashes and underscores are equivalent.

use crate::ini::sections;
use crate::reader::{LineRecorder, ReadContext, Reader, Reading, Recognition};
use crate::serving::{self, hold, is_known, truth};
use crate::tls;
use std::collections::BTreeMap;
use trevlin_model::offer::{AlgorithmRole, Offered};
use trevlin_model::secret::SecretKind;
use trevlin_model::served::{
    AuthRequirement, Endpoint, PartKind, Requirement, Served, ServedKind, ServiceResource, TransportSecurity,
};
use trevlin_model::{Export, ExportId, LineClass, Origin, Protocol, Setting};

/// The reader.
pub(crate) const READER: Reader = Reader {
    name: "mariadb",
    title: "database settings (MariaDB)",
    manual: "MariaDB documentation, Option Files",
    recognise,
    read,
};

/// Groups that the server reads.
fn is_servers(group: &str) -> bool {
    matches!(group, "mysqld" | "server" | "mariadb" | "mariadbd" | "galera" | "client-server")
        || group.starts_with("mysqld-")
        || group.starts_with("mariadb-")
        || group.starts_with("mariadbd-")
}

/// Groups of programs that ask the server. Those that start it (`mysqld_safe`) or come with it have groups of their own.
fn is_clients(group: &str) -> bool {
    !is_servers(group)
        && (group.starts_with("client") || group.starts_with("mysql") || group.starts_with("mariadb"))
}

/// Groups whose settings are those of the client of the command line (mariadb(1)); others have more.
fn is_client(group: &str) -> bool {
    matches!(group, "client" | "client-mariadb" | "mysql" | "mariadb-client")
}

fn recognise(export: &Export) -> Recognition {
    let head = |text: &str| {
        let name = text.trim().trim_start_matches('[').trim_end_matches(']');
        text.trim().starts_with('[')
            && matches!(name, "mysqld" | "mariadb" | "mariadbd" | "mysqld_safe" | "mysqldump")
    };
    let path = export.path();
    let named = matches!(export.file_name(), "my.cnf" | "mariadb.cnf" | ".my.cnf")
        || (path.contains("mysql/") || path.contains("my.cnf.d/") || path.contains("mariadb.conf.d/"))
            && path.ends_with(".cnf");
    if export.lines().any(|line| head(line.text)) {
        Recognition::Content
    } else if named {
        Recognition::Name
    } else {
        Recognition::No
    }
}

fn order(export: &Export) -> (usize, String) {
    let path = export.path();
    let place = if path.contains("mariadb.conf.d/") { 2 } else { usize::from(path.contains(".d/")) };
    (place, path.to_owned())
}

const JUDGED: [&str; 11] = [
    "bind-address",
    "port",
    "skip-networking",
    "skip-grant-tables",
    "ssl",
    "ssl-cert",
    "ssl-key",
    "ssl-cipher",
    "tls-version",
    "require-secure-transport",
    "skip-ssl",
];

/// The server of a device, from all of its files.
struct InForce {
    values: BTreeMap<String, (String, Origin)>,
    /// The first file with a setting of the server itself.
    first: Option<(ExportId, Origin)>,
}

fn in_force(around: &ReadContext<'_>) -> InForce {
    let mut found = InForce { values: BTreeMap::new(), first: None };
    let mut files: Vec<&Export> = around.of_format(&READER).map(|(one, _)| one).collect();
    files.sort_by_cached_key(|one| order(one));
    for file in files {
        for section in sections(file, &['#', ';']).iter().filter(|one| is_servers(one.name)) {
            // This group is for clients as well, and part of their package: it is no evidence of a server.
            if section.name != "client-server" {
                found.first.get_or_insert((file.id(), section.origin));
            }
            for entry in &section.entries {
                let name = entry.key.to_ascii_lowercase().replace('_', "-");
                let name = name.strip_prefix("loose-").unwrap_or(&name).to_owned();
                found.values.insert(name, (entry.value.trim_matches(['"', '\'']).to_owned(), entry.origin));
            }
        }
    }
    found
}

/// Settings of the clients (mariadb(1), OPTIONS).
const CLIENT: [&str; 87] = [
    "abort-source-on-error",
    "auto-rehash",
    "auto-vertical-output",
    "batch",
    "binary-mode",
    "bind-address",
    "character-sets-dir",
    "column-names",
    "column-type-info",
    "comments",
    "compress",
    "connect-expired-password",
    "connect-timeout",
    "database",
    "debug",
    "debug-check",
    "debug-info",
    "default-auth",
    "default-character-set",
    "delimiter",
    "enable-cleartext-plugin",
    "execute",
    "force",
    "host",
    "html",
    "ignore-spaces",
    "init-command",
    "line-numbers",
    "local-infile",
    "max-allowed-packet",
    "max-join-size",
    "named-commands",
    "net-buffer-length",
    "no-auto-rehash",
    "no-beep",
    "one-database",
    "pager",
    "password",
    "pipe",
    "plugin-dir",
    "port",
    "progress-reports",
    "prompt",
    "protocol",
    "protocol-compression-algorithms",
    "quick",
    "quote-names",
    "raw",
    "reconnect",
    "safe-updates",
    "sandbox",
    "secure-auth",
    "select-limit",
    "set-charset",
    "show-warnings",
    "sigint-ignore",
    "silent",
    "skip-auto-rehash",
    "skip-column-names",
    "skip-line-numbers",
    "skip-ssl",
    "skip-ssl-verify-server-cert",
    "socket",
    "ssl",
    "ssl-ca",
    "ssl-capath",
    "ssl-cert",
    "ssl-cipher",
    "ssl-crl",
    "ssl-crlpath",
    "ssl-fp",
    "ssl-fplist",
    "ssl-key",
    "ssl-mode",
    "ssl-passphrase",
    "ssl-verify-server-cert",
    "table",
    "tee",
    "tls-fp",
    "tls-fplist",
    "tls-version",
    "unbuffered",
    "user",
    "verbose",
    "vertical",
    "wait",
    "xml",
];

fn read(export: &Export, around: &ReadContext<'_>) -> Reading {
    let mut reading = Reading::of(export);
    account(export, &mut reading);
    let in_force = around.once(|| in_force(around));
    // One file stands for the server.
    let Some((_, heading)) = in_force.first.filter(|(first, _)| *first == export.id()) else {
        return reading;
    };
    let mut origins = in_force.values.values().map(|one| one.1);
    let origin = origins.find(|one| one.export == export.id()).unwrap_or(heading);
    reading.facts.served.push(served(&in_force.values, origin));
    reading
}

fn account(export: &Export, reading: &mut Reading) {
    for section in sections(export, &['#', ';']) {
        for entry in &section.entries {
            let mut book = LineRecorder::new(export, &mut reading.ledger, &mut reading.elsewhere);
            let name = entry.key.to_ascii_lowercase().replace('_', "-");
            let name = name.strip_prefix("loose-").unwrap_or(&name);
            if name.starts_with('!') || (is_servers(section.name) && JUDGED.contains(&name)) {
                book.understood(entry.origin);
            } else if is_clients(section.name) && matches!(name, "password" | "pass") && entry.has_value {
                book.understood(entry.origin);
                hold(export, &mut reading.facts, entry.value, SecretKind::OwnPassword, "MariaDB client");
            } else if is_client(section.name) && !CLIENT.contains(&name) {
                book.not_understood(
                    entry.origin,
                    serving::unknown("MariaDB's clients; they refuse to start"),
                );
            } else if !is_servers(section.name)
                || is_known("mariadb", name)
                || name.starts_with("wsrep")
                || name.starts_with("skip-")
            {
                book.class(entry.origin, LineClass::Ignored);
            } else {
                book.not_understood(
                    entry.origin,
                    serving::unknown("MariaDB; the server refuses to start unless it begins with `loose-`"),
                );
            }
        }
    }
}

fn served(values: &BTreeMap<String, (String, Origin)>, origin: Origin) -> Served {
    let get = |name: &str| values.get(name).map(|(value, line)| (value.as_str(), *line));
    // An option without a value is switched on.
    let on = |name: &str| {
        get(name).filter(|(value, _)| value.is_empty() || truth(value) == Some(true)).map(|one| one.1)
    };
    let mut served = Served::new(
        ServedKind::Databases,
        "MariaDB",
        "database (MariaDB)",
        &["mariadb", "mysql", "mysqld"],
        origin,
    );
    let certificate = get("ssl-cert");
    let carried = match (certificate, on("require-secure-transport")) {
        (Some(_), Some(_)) => TransportSecurity::Encrypted,
        (Some(_), None) => TransportSecurity::Optional,
        _ => TransportSecurity::Plain,
    };
    let open = on("skip-grant-tables");
    // Without its tables of rights the server does not listen by itself (skip-grant-tables implies skip-networking since 10.x
    // only where no address is stated).
    if on("skip-networking").is_none() {
        let port =
            get("port").and_then(|(text, line)| Some((text.parse().ok()?, line))).unwrap_or((3306, origin));
        let at = |line| Endpoint::everywhere(Protocol::TCP, port.0, carried, line);
        match get("bind-address").filter(|(text, _)| !matches!(*text, "" | "*")) {
            None => served.endpoints.push(at(get("bind-address").map_or(port.1, |one| one.1))),
            Some((hosts, line)) => {
                for host in hosts.split(',').map(str::trim) {
                    let host = if host == "localhost" { "127.0.0.1" } else { host };
                    served.endpoints.push(match host.parse() {
                        // This one takes IPv4 as well.
                        Ok(std::net::IpAddr::V6(one)) if one.is_unspecified() => at(line),
                        Ok(address) => at(line).at(address),
                        Err(_) => at(line),
                    });
                }
            }
        }
    }
    let mut part = ServiceResource::new(PartKind::Whole, "database (MariaDB)", open.unwrap_or(origin));
    part.login = match open {
        Some(origin) => Setting::Stated { value: AuthRequirement::Nothing, origin },
        None => Setting::Unknown {
            why: "accounts and their authentication methods are stored in the database".into(),
        },
    };
    part.writes = Setting::Stated { value: true, origin: open.unwrap_or(origin) };
    part.encryption = Some(match (carried, certificate) {
        (TransportSecurity::Encrypted, Some((_, origin))) => {
            Setting::Stated { value: Requirement::Required, origin }
        }
        (TransportSecurity::Optional, Some((_, origin))) => {
            Setting::Stated { value: Requirement::Offered, origin }
        }
        _ => Setting::default_of(
            Requirement::Never,
            "MariaDB",
            "MariaDB documentation, ssl_cert (a certificate by itself since 11.4)",
        ),
    });
    served.parts.push(part);
    if open.is_none() {
        served.open.push((
            "please provide the output of `SELECT user, host, plugin FROM mysql.user`, since the accounts and permitted hosts are \
             stored in the database".into(),
            origin,
        ));
    }
    if let Some((_, line)) = certificate {
        let versions: Vec<(&str, Origin)> = match get("tls-version") {
            Some((list, line)) => list.split(',').map(|one| (one.trim(), line)).collect(),
            None => Vec::new(),
        };
        let versions: Vec<(&str, Origin)> = versions
            .into_iter()
            .map(|(name, line)| (if name == "TLSv1.0" { "TLSv1" } else { name }, line))
            .collect();
        let mut offer = tls::listed(get("ssl-cipher"), &versions, line);
        if versions.is_empty() {
            offer.algorithms.extend(
                [("TLSv1.1", Some("before 10.6")), ("TLSv1.2", None), ("TLSv1.3", None)].map(
                    |(name, versions)| Offered {
                        name: name.to_owned(),
                        role: Some(AlgorithmRole::Protocol),
                        versions,
                        suite: 0,
                        origin: line,
                        default: Some("MariaDB documentation, tls_version"),
                    },
                ),
            );
        }
        served.offers.push(offer);
    }
    served
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::testing::first;

    fn of(files: &[(&str, &str)]) -> Reading {
        first(read, files)
    }

    fn told(reading: &Reading) -> String {
        let Some(served) = reading.facts.served.first() else { return "none".into() };
        let places: Vec<String> = served
            .endpoints
            .iter()
            .map(|one| format!("{:?}/{} {:?}", one.address, one.port, one.carried))
            .collect();
        format!("{} {:?}", places.join(", "), served.parts[0].login.value())
    }

    #[test]
    fn where_it_listens_and_what_it_asks() {
        const FILE: &str = "d/etc/mysql/my.cnf";
        for (text, wanted) in [
            ("[mysqld]\nport=3306\n", "None/3306 Plain None"),
            ("[mysqld]\nbind_address = 127.0.0.1\n", "Some(127.0.0.1)/3306 Plain None"),
            ("[mariadb-10.11]\nbind-address=10.4.0.9\nport=3307\n", "Some(10.4.0.9)/3307 Plain None"),
            ("[mysqld]\nskip-networking\n", " None"),
            ("[mysqld]\nskip-grant-tables\nbind-address=0.0.0.0\n", "None/3306 Plain Some(Nothing)"),
            ("[server]\nssl-cert=/x\nrequire_secure_transport=ON\n", "None/3306 Encrypted None"),
            ("[client]\nport=3306\n", "none"),
            // Files of the client package are no evidence of a server, and apply to one that other files define.
            ("[client-server]\nport=3307\n", "none"),
            ("[client-server]\nport=3307\n[mysqld]\n", "None/3307 Plain None"),
        ] {
            let reading = of(&[(FILE, text)]);
            assert_eq!(told(&reading), wanted, "{text}");
            assert!(reading.ledger.notes.is_empty(), "{text}");
        }
        assert_eq!(of(&[(FILE, "[mysqld]\ncolour=red\nloose_colour=red\n")]).ledger.notes.len(), 2);
    }

    #[test]
    fn later_files_win_and_one_stands_for_all() {
        let main = (
            "d/etc/mysql/my.cnf",
            "[mysqld]\nbind-address=127.0.0.1\n!includedir /etc/mysql/mariadb.conf.d/\n",
        );
        let more = (
            "d/etc/mysql/mariadb.conf.d/50-server.cnf",
            "[mysqld]\nbind-address=0.0.0.0\n[client]\npassword=Sesame9\n",
        );
        assert_eq!(told(&of(&[main, more])), "None/3306 Plain None");
        let aside = of(&[more, main]);
        assert_eq!((told(&aside), aside.facts.secrets.len()), ("none".into(), 1));
        assert!(!format!("{aside:?}").contains("Sesame"));
    }
}
