//! An unknown setting is reported, whatever the format: a setting that is ignored silently may be decisive.

mod support;

use std::collections::BTreeMap;
use support::seeds;
use trevlin_model::{Export, ExportId, LineClass};
use trevlin_readers::{READERS, ReadContext, decode, includes, recognise};

const MADE_UP: &str = "zzmadeup";

/// A line with the name of its setting replaced by one that is made up.
fn made_up(line: &str) -> Option<String> {
    let start = line.find(|one: char| one.is_alphabetic() || matches!(one, '$' | '@'))?;
    let before = &line[..start];
    if before.contains(['#', ';', '/'])
        || !before.trim().trim_start_matches(['"', '<', '-', '{', ',']).is_empty()
    {
        return None;
    }
    let rest = &line[start..];
    let end = rest.find(|one: char| !one.is_alphanumeric() && !"_-.$@:".contains(one)).unwrap_or(rest.len());
    let name = rest[..end].trim_end_matches(':');
    let after = &rest[name.len()..];
    if before.contains('<') {
        let close = format!("</{name}>");
        return Some(format!("{before}{MADE_UP}{}", after.replace(&close, &format!("</{MADE_UP}>"))));
    }
    Some(format!("{before}{MADE_UP}{after}"))
}

/// A line with one of its other words replaced, in formats where that is the name of something.
fn made_up_within(format: &str, line: &str) -> Option<String> {
    let nth = match format {
        "uci" if line.trim_start().starts_with(['o', 'l']) => 1,
        "unit-files" | "pam" => 1,
        "radius-users" if line.contains('=') && !line.starts_with([' ', '\t', '"']) => 1,
        "sudoers" if line.starts_with("Defaults") => 1,
        _ => return None,
    };
    let word = line.split_whitespace().nth(nth)?;
    let start = word.as_ptr() as usize - line.as_ptr() as usize;
    let name = word.split('=').next()?;
    Some(format!("{}{MADE_UP}{}", &line[..start], &line[start + name.len()..]))
}

/// Places where an invented word is a valid name: users and hosts, keys, content of data files.
const FREE: [&str; 22] = [
    "code-seeds",
    // The engines print more fields with each version.
    "containers",
    // Names of one's own may stand in every section.
    "fail2ban",
    "hosts-access",
    "htpasswd",
    "ipsec-secrets",
    // Names of accounts, and of name services.
    "kadmin-rights",
    "l2tp-secrets",
    "login-access",
    "nsswitch",
    "ocpasswd",
    "openvpn-key",
    "passwd",
    "pem",
    "pgpass",
    "ppp-secrets",
    "shadow",
    "sheet",
    // Any program may be run.
    "start-script",
    "tls-keys",
    "unit-link",
    // None of its lines is understood.
    "unread-filter",
];

/// Formats in whose lines no word is the name of a setting.
const OF_DATA: [&str; 2] = ["exports", "radius-servers"];

/// The same for lines of other formats.
fn is_free(format: &str, raw: &str, nth: usize) -> bool {
    let line = raw.trim_start();
    match format {
        // A name that is kept, without anything to be set.
        "ddclient" => !line.contains('='),
        "sudoers" => nth == 0,
        "unit-files" => nth == 0 || line.ends_with("listed."),
        "sockets" => line.starts_with("Netid"),
        "pam" => line.starts_with(['#', '@']),
        "radius-users" => nth == 0 && !raw.starts_with([' ', '\t']),
        // Sites call names in files of their own; and a daemon's keys may consist of lines of letters.
        "iscsi-target" => line.ends_with(": 0,") || line.ends_with(": 1"),
        "kea" => line.contains("*/"),
        "radius" => !line.contains(['=', '{']),
        // Names of services, and of variables.
        "compose" => {
            let of_service = line.ends_with(':') && raw.starts_with("  ") && !raw.starts_with("   ");
            // Names of volumes as well.
            of_service
                || line.starts_with(char::is_uppercase)
                || line.starts_with("- ") && line.contains(":/")
        }
        // A line that continues a value; values of entries.
        "slapd" => raw.starts_with([' ', '\t']),
        // Plug-ins have settings of their own.
        "dovecot" => line.starts_with("quota "),
        // Names of rules and of drivers.
        "exim" => line.ends_with(':'),
        // Names of sections, of realms and of mappings.
        "sssd" => line.starts_with('['),
        "kerberos" | "kdc" => {
            line.starts_with(['[', '.', '}']) || line.ends_with('{') || raw.starts_with("\t\t\t")
        }
        // Names of users.
        "cockpit" => !line.contains(['=', '[']),
        // Values of a list.
        "influxdb" => line.starts_with('"'),
        // Variables of sessions.
        "xrdp" => line.starts_with("PULSE_"),
        // Names of services that are no port.
        "postfix" => line.contains(" unix "),
        // Names of connections, devices and servers.
        "netplan" => line.ends_with(':') && !line.starts_with("- "),
        "swanctl" | "strongswan-conf" => {
            line.contains('{') && line.find('=').is_none_or(|at| line.find('{') < Some(at))
        }
        // A section without it is off, and nothing in it is in force.
        "uci" => line.starts_with("option enabled"),
        "openvpn" => line.contains("-----") || !line.contains([' ', '-']),
        _ => false,
    }
}

#[test]
fn what_is_made_up_is_told() {
    let mut silent: BTreeMap<&str, Vec<String>> = BTreeMap::new();
    let mut tried: BTreeMap<&str, usize> = BTreeMap::new();
    for seed in seeds() {
        let Ok(text) = decode(&seed.bytes) else { continue };
        let export = Export::new(ExportId(0), seed.path.as_str(), text.clone());
        let Some(reader) = recognise(&export).reader.filter(|reader| !FREE.contains(&reader.name)) else {
            continue;
        };
        let before = includes::read(reader, &export, &ReadContext::of(vec![&export]));
        let lines: Vec<&str> = text.lines().collect();
        for (at, line) in lines.iter().enumerate() {
            let number = at as u32 + 1;
            if before.ledger.class(number) == Some(LineClass::NotUnderstood) {
                continue;
            }
            let made = [made_up(line), made_up_within(reader.name, line)];
            for (nth, made) in made.into_iter().enumerate().filter_map(|(nth, made)| Some((nth, made?))) {
                if is_free(reader.name, line, nth) {
                    continue;
                }
                let mut all = lines.clone();
                all[at] = &made;
                let whole = Export::new(ExportId(0), seed.path.as_str(), all.join("\n") + "\n");
                let after = includes::read(reader, &whole, &ReadContext::of(vec![&whole]));
                *tried.entry(reader.name).or_default() += 1;
                let told = after.ledger.class(number) == Some(LineClass::NotUnderstood)
                    || after
                        .ledger
                        .notes
                        .iter()
                        .any(|note| before.ledger.notes.iter().all(|one| one.text != note.text))
                    || after.ledger.gaps.len() > before.ledger.gaps.len();
                if !told {
                    let place = format!("{}: {}:{number}: {}", reader.name, seed.path, made.trim());
                    silent.entry(reader.name).or_default().push(place);
                }
            }
        }
    }
    let silent: Vec<String> = silent.into_values().flatten().collect();
    assert!(silent.is_empty(), "{} pass in silence:\n{}", silent.len(), silent.join("\n"));
    // Formats whose files hold nothing but what is free are named above.
    let free: Vec<&str> = READERS
        .iter()
        .map(|one| one.name)
        .filter(|name| !tried.contains_key(name) && !FREE.contains(name))
        .collect();
    assert_eq!(free, OF_DATA, "{tried:?}");
}
