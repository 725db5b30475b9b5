//! `redis.conf` (redis.conf of Redis 7, its comments): read and write access to the cache.

use crate::reader::{LineRecorder, ReadContext, Reader, Reading, Recognition, TELLING_LINES};
use crate::serving::{self, hold, is_known, truth, words_of_statement as words};
use crate::telling::REDIS as TELLING;
use crate::tls;
use std::collections::BTreeMap;
use trevlin_model::offer::{AlgorithmRole, Offered};
use trevlin_model::secret::SecretKind;
use trevlin_model::served::{
    AuthRequirement, Endpoint, PartKind, Remark, Requirement, Served, ServedKind, ServiceResource, Sources,
    TransportSecurity,
};
use trevlin_model::{DefaultValue, Export, LineClass, Origin, Protocol, Setting};

/// The reader.
pub(crate) const READER: Reader =
    Reader { name: "redis", title: "cache (Redis)", manual: "redis.conf", recognise, read };

fn recognise(export: &Export) -> Recognition {
    let tells = export.lines().take(TELLING_LINES * 5).any(|line| {
        let word = line.text.split_whitespace().next().unwrap_or_default();
        TELLING.contains(&word)
    });
    if tells {
        Recognition::Content
    } else if export.file_name() == "redis.conf"
        || (export.path().contains("redis/") && export.file_name().ends_with(".conf"))
    {
        Recognition::Name
    } else {
        Recognition::No
    }
}

const JUDGED: [&str; 15] = [
    "bind",
    "port",
    "protected-mode",
    "requirepass",
    "tls-port",
    "tls-auth-clients",
    "tls-protocols",
    "tls-ciphers",
    "masterauth",
    "user",
    "aclfile",
    "include",
    "rename-command",
    "replicaof",
    "slaveof",
];

fn included<'a>(line: &str, named_in: &Export, around: &ReadContext<'a>) -> Vec<&'a Export> {
    let words = words(line);
    match words.as_slice() {
        [first, path, ..] if first.eq_ignore_ascii_case("include") => around.find_all(path, named_in),
        _ => Vec::new(),
    }
}

#[derive(Default)]
struct State<'a> {
    values: BTreeMap<String, (Vec<&'a str>, Origin)>,
    users: Vec<(Vec<&'a str>, Origin)>,
    open: Vec<(String, Origin)>,
    /// Whether the file of users was read.
    list_read: bool,
}

fn load<'a>(
    export: &'a Export,
    own: bool,
    around: &ReadContext<'a>,
    state: &mut State<'a>,
    open: &mut Vec<&'a str>,
    reading: &mut Reading,
) {
    for line in export.lines() {
        let words = words(line.text);
        let Some((name, rest)) = words.split_first() else { continue };
        let name = name.to_ascii_lowercase();
        let origin = export.origin_of(line.text.trim());
        if own {
            secrets(export, &name, rest, reading);
        }
        let mut book = LineRecorder::new(export, &mut reading.ledger, &mut reading.elsewhere);
        match name.as_str() {
            _ if !own => {}
            name if JUDGED.contains(&name) => book.understood(origin),
            name if is_known("redis", name) => book.class(origin, LineClass::Ignored),
            _ => book.not_understood(origin, serving::unknown("redis.conf; the server refuses to start")),
        }
        match name.as_str() {
            "include" => {
                let path = rest.first().copied().unwrap_or_default();
                let found = around.find_all(path, export);
                if found.is_empty() {
                    state.open.push((crate::reader::missing_note(path), origin));
                }
                for other in
                    found.into_iter().filter(|other| !open.contains(&other.path())).collect::<Vec<_>>()
                {
                    open.push(other.path());
                    load(other, false, around, state, open, reading);
                }
            }
            "user" => state.users.push((rest.to_vec(), origin)),
            _ => {
                state.values.insert(name, (rest.to_vec(), origin));
            }
        }
    }
}

fn secrets(export: &Export, name: &str, rest: &[&str], reading: &mut Reading) {
    match (name, rest) {
        ("requirepass", [word, ..]) => {
            hold(export, &mut reading.facts, word, SecretKind::ServicePassword, "Redis");
        }
        ("masterauth", [word, ..]) => {
            hold(export, &mut reading.facts, word, SecretKind::OwnPassword, "Redis replica");
        }
        ("user", [user, rules @ ..]) => {
            for rule in rules {
                if let Some(password) = rule.strip_prefix('>') {
                    hold(export, &mut reading.facts, password, SecretKind::ServicePassword, user);
                } else if rule.starts_with('#') {
                    reading.facts.masked_places.push(export.origin_of(rule));
                }
            }
        }
        _ => {}
    }
}

fn read(export: &Export, around: &ReadContext<'_>) -> Reading {
    let mut reading = Reading::of(export);
    let mut state = State::default();
    load(export, true, around, &mut state, &mut vec![export.path()], &mut reading);
    if around.reads_in(export, included) {
        return reading;
    }
    // The file of users, where one is named, replaces the users of the configuration (redis.conf, aclfile).
    let list = state.values.get("aclfile").and_then(|(words, line)| Some((*words.first()?, *line)));
    if let Some((path, line)) = list {
        match around.find(path, export) {
            Some(other) => {
                let lines = other.lines().map(|line| (line.text, words(line.text)));
                let users = lines.filter(|(_, words)| words.first() == Some(&"user"));
                state.users =
                    users.map(|(text, words)| (words[1..].to_vec(), other.origin_of(text.trim()))).collect();
                state.list_read = true;
            }
            None => state.open.push((crate::reader::missing_note(path), line)),
        }
    }
    let origin = state.values.values().map(|one| one.1).min().unwrap_or_else(|| export.origin(0..0));
    let served = served(&state, origin);
    if !served.endpoints.is_empty() {
        reading.facts.served.push(served);
    }
    reading
}

fn served(state: &State<'_>, origin: Origin) -> Served {
    let get = |name: &str| state.values.get(name).and_then(|(words, line)| Some((*words.first()?, *line)));
    let mut served =
        Served::new(ServedKind::Cache, "Redis", "cache (Redis)", &["redis-server", "redis"], origin);
    served.open.clone_from(&state.open);
    let number = |name: &str, default: u16| {
        get(name)
            .and_then(|(text, line)| Some((text.parse::<u16>().ok()?, line)))
            .unwrap_or((default, origin))
    };
    let (port, tls_port) = (number("port", 6379), number("tls-port", 0));
    // Without `bind` the server takes connections at every address.
    let bind = state.values.get("bind");
    for (place, carried) in [(port, TransportSecurity::Plain), (tls_port, TransportSecurity::Encrypted)] {
        if place.0 == 0 {
            continue;
        }
        let at = |line| Endpoint::everywhere(Protocol::TCP, place.0, carried, line);
        match bind {
            None => served.endpoints.push(at(place.1)),
            Some((hosts, line)) => {
                for host in hosts
                    .iter()
                    // One behind a minus need not be there; the device's own in IPv6 says nothing more.
                    .filter(|host| **host != "-::1")
                    .map(|host| host.trim_start_matches('-'))
                    .filter(|host| !host.is_empty())
                {
                    let all = Endpoint { families: trevlin_model::Families::V4, ..at(*line) };
                    served.endpoints.push(match host {
                        "*" => all,
                        "::*" => Endpoint { families: trevlin_model::Families::V6, ..at(*line) },
                        host => host.parse().map_or_else(|_| at(*line), |address| at(*line).at(address)),
                    });
                }
            }
        }
    }
    let part = whole(state, bind.map(|one| one.1), origin);
    served.parts.push(part);
    if tls_port.0 != 0 {
        let line = tls_port.1;
        let versions: Vec<(&str, Origin)> = get("tls-protocols")
            .map(|(list, at)| list.split_whitespace().map(|one| (one, at)).collect())
            .unwrap_or_default();
        let mut offer = tls::listed(get("tls-ciphers"), &versions, line);
        offer.own_order = get("tls-prefer-server-ciphers").is_some_and(|(text, _)| text == "yes");
        if versions.is_empty() {
            offer.algorithms.extend(["TLSv1.2", "TLSv1.3"].map(|name| Offered {
                name: name.into(),
                role: Some(AlgorithmRole::Protocol),
                versions: None,
                suite: 0,
                origin: line,
                default: Some("redis.conf, tls-protocols"),
            }));
        }
        served.offers.push(offer);
    }
    served
}

/// The reader of the file of users.
pub(crate) const USERS: Reader = Reader {
    name: "redis-users",
    title: "users of Redis",
    manual: "redis.conf, aclfile",
    recognise: |export| {
        let mut lines =
            export.lines().map(|line| words(line.text)).filter(|words| !words.is_empty()).peekable();
        let begins =
            |words: Vec<&str>| words.len() > 2 && words[0] == "user" && words[2..].iter().any(is_rule);
        if lines.peek().is_some() && lines.all(begins) {
            Recognition::Content
        } else if export.file_name() == "users.acl" {
            Recognition::Name
        } else {
            Recognition::No
        }
    },
    read: |export, _| read_users(export),
};

/// Whether a word is a rule that only such a file has.
fn is_rule(word: &&str) -> bool {
    matches!(*word, "on" | "off" | "nopass" | "resetpass" | "allkeys" | "allcommands" | "reset")
        || word.starts_with(['~', '&', '%', '>', '#'])
        || word.starts_with("+@")
        || word.starts_with("-@")
}

fn read_users(export: &Export) -> Reading {
    let mut reading = Reading::of(export);
    for line in export.lines() {
        let all = words(line.text);
        let origin = export.origin_of(line.text.trim());
        let Some((name, rest)) = all.split_first() else { continue };
        let mut book = LineRecorder::new(export, &mut reading.ledger, &mut reading.elsewhere);
        // A hash is SHA-256 in hexadecimal (redis.conf, ACL).
        let cut = |rule: &&str| *rule == ">" || rule.starts_with('#') && rule.len() != 65;
        if *name == "user" && !rest.is_empty() && !rest.iter().any(cut) {
            book.understood(origin);
            secrets(export, "user", rest, &mut reading);
        } else {
            book.not_understood(origin, "expected `user NAME rule …`; the server refuses to start");
            reading.facts.masked_places.push(origin);
        }
    }
    reading
}

/// Authentication required of the default user, which all connections begin as.
fn whole(state: &State<'_>, bound: Option<Origin>, origin: Origin) -> ServiceResource {
    let get = |name: &str| state.values.get(name).and_then(|(words, line)| Some((*words.first()?, *line)));
    let mut part = ServiceResource::new(PartKind::Whole, "cache (Redis)", origin);
    part.writes = Setting::Stated { value: true, origin };
    let user = state.users.iter().rev().find(|(words, _)| words.first() == Some(&"default"));
    let certificate = get("port")
        .filter(|one| one.0 == "0")
        .and(get("tls-port"))
        .filter(|_| get("tls-auth-clients").is_none_or(|one| truth(one.0) == Some(true)));
    let password = get("requirepass").filter(|one| !one.0.is_empty());
    let protected = get("protected-mode").and_then(|(text, line)| Some((truth(text)?, line)));
    part.login = match (user, password, certificate) {
        (Some((words, line)), ..) if words.contains(&"off") => {
            Setting::Stated { value: AuthRequirement::Password, origin: *line }
        }
        (Some((words, line)), ..) if words.iter().any(|word| word.starts_with(['>', '#'])) => {
            Setting::Stated { value: AuthRequirement::Password, origin: *line }
        }
        (None, Some((_, origin)), _) => Setting::Stated { value: AuthRequirement::Password, origin },
        (.., Some((_, origin))) => Setting::Stated { value: AuthRequirement::Certificate, origin },
        (None, None, None) if get("aclfile").is_some() && !state.list_read => {
            Setting::Unknown { why: "users are in the file that `aclfile` names".into() }
        }
        _ => match (protected, bound) {
            (Some((false, origin)), _) => Setting::Stated { value: AuthRequirement::Nothing, origin },
            // Protected, only the device itself is answered; until version 7 a stated address switched that off.
            (_, None) => Setting::default_of(AuthRequirement::Refused, "Redis", "redis.conf, protected-mode"),
            (_, Some(_)) => Setting::Default(
                [(AuthRequirement::Nothing, "before 7.0"), (AuthRequirement::Refused, "7.0 and later")]
                    .map(|(value, versions)| DefaultValue {
                        value,
                        daemon: "Redis",
                        versions,
                        source: "redis.conf, protected-mode",
                    })
                    .into(),
            ),
        },
    };
    part.encryption = Some(match (get("port"), get("tls-port")) {
        (Some(("0", _)), Some((_, origin))) => Setting::Stated { value: Requirement::Required, origin },
        (_, Some((_, origin))) => Setting::Stated { value: Requirement::Offered, origin },
        _ => Setting::default_of(Requirement::Never, "Redis", "redis.conf, tls-port"),
    });
    if part.login.value() == Some(&AuthRequirement::Password)
        && !matches!(part.encryption.as_ref().and_then(|one| one.value()), Some(Requirement::Required))
    {
        part.remarks.push((Remark::ClearPassword, part.login.origin().unwrap_or(origin)));
    }
    if part.login.value() == Some(&AuthRequirement::Refused) {
        part.sources = Sources::of(serving::loopback().to_vec(), Vec::new());
    }
    part
}

#[cfg(test)]
mod tests {
    use super::*;
    use trevlin_model::ExportId;

    fn of(text: &str) -> Reading {
        let export = Export::new(ExportId(0), "d/etc/redis/redis.conf", text.into());
        read(&export, &ReadContext::of(vec![&export]))
    }

    #[test]
    fn who_comes_in() {
        for (text, wanted) in [
            ("port 6379\n", "None/6379 Some(Refused) Some(Never)"),
            ("bind 127.0.0.1 -::1\nprotected-mode yes\n", "Some(127.0.0.1)/6379 None Some(Never)"),
            ("bind 0.0.0.0\nprotected-mode no\n", "None/6379 Some(Nothing) Some(Never)"),
            ("requirepass Sesame9\n", "None/6379 Some(Password) Some(Never)"),
            ("user default on >Sesame9 ~* +@all\n", "None/6379 Some(Password) Some(Never)"),
            ("user default on nopass ~* +@all\nprotected-mode no\n", "None/6379 Some(Nothing) Some(Never)"),
            ("user default off\nprotected-mode no\n", "None/6379 Some(Password) Some(Never)"),
            ("port 0\ntls-port 6380\n", "None/6380 Some(Certificate) Some(Required)"),
            ("aclfile /etc/redis/gone.acl\n", "None/6379 None Some(Never)"),
            ("BIND 10.4.0.9\n", "Some(10.4.0.9)/6379 None Some(Never)"),
        ] {
            let reading = of(text);
            let served = &reading.facts.served[0];
            let mut told: Vec<String> =
                served.endpoints.iter().map(|one| format!("{:?}/{}", one.address, one.port)).collect();
            told.push(format!(
                "{:?} {:?}",
                served.parts[0].login.value(),
                served.parts[0].encryption.as_ref().and_then(|one| one.value())
            ));
            assert_eq!(told.join(" "), wanted, "{text}");
            assert!(reading.ledger.notes.is_empty() && !format!("{reading:?}").contains("Sesame"), "{text}");
        }
        assert!(of("port 0\n").facts.served.is_empty());
        assert_eq!(of("colour red\n").ledger.notes.len(), 1);
    }

    #[test]
    fn users_in_a_file_of_their_own() {
        const CONFIG: &str = "bind 10.4.0.9\naclfile /etc/redis/users.acl\n";
        for (users, wanted) in [
            ("user default off\nuser ann on >sesame ~* +@all\n", "Some(Password)"),
            ("user default on >sesame ~* +@all\n", "Some(Password)"),
            (
                "user default on #2bb80d537b1da3e38bd30361aa855686bde0eacd7162fef6a25fe97bf527a25b ~* +@all\n",
                "Some(Password)",
            ),
            ("user default on nopass ~* +@all\n", "None"),
        ] {
            let config = Export::new(ExportId(0), "d/etc/redis/redis.conf", CONFIG.into());
            let list = Export::new(ExportId(1), "d/etc/redis/users.acl", users.into());
            assert_eq!(crate::recognise(&list).reader.map(|one| one.name), Some("redis-users"), "{users}");
            let reading = read(&config, &ReadContext::of(vec![&config, &list]));
            let served = &reading.facts.served[0];
            assert_eq!(format!("{:?}", served.parts[0].login.value()), wanted, "{users}");
            assert!(served.open.is_empty(), "{users}");
            let held = read_users(&list);
            assert_eq!(
                held.facts.secrets.len() + held.facts.masked_places.len(),
                users.matches(['>', '#']).count()
            );
        }
    }
}
