//! `mosquitto.conf` (mosquitto.conf(5)): listeners of a broker of messages, and who may use them.
//!
//! Settings above the first `listener` apply to the one on the default port, and to all listeners unless `per_listener_settings` separates
//! them.

use crate::files::hosts_access;
use crate::reader::{LineRecorder, ReadContext, Reader, Reading, Recognition, TELLING_LINES};
use crate::serving::{self, hold, is_known, truth};
use crate::telling::MOSQUITTO as TELLING;
use crate::tls;
use std::collections::BTreeMap;
use trevlin_model::offer::{AlgorithmRole, Offered};
use trevlin_model::secret::SecretKind;
use trevlin_model::served::{
    AuthRequirement, Endpoint, PartKind, Remark, Requirement, Served, ServedKind, ServiceResource,
    TransportSecurity,
};
use trevlin_model::{DefaultValue, Export, LineClass, Origin, Protocol, Setting};

/// The reader.
pub(crate) const READER: Reader = Reader {
    name: "mosquitto",
    title: "message broker (mosquitto)",
    manual: "mosquitto.conf(5)",
    recognise,
    read,
};

fn recognise(export: &Export) -> Recognition {
    let tells = export.lines().take(TELLING_LINES * 3).any(|line| {
        let mut words = line.text.split_whitespace();
        let first = words.next().unwrap_or_default();
        let number = words.next().is_some_and(|word| word.parse::<u16>().is_ok());
        TELLING.contains(&first) && (first != "listener" || number)
    });
    if tells {
        Recognition::Content
    } else if export.path().contains("mosquitto") && export.file_name().ends_with(".conf") {
        Recognition::Name
    } else {
        Recognition::No
    }
}

const JUDGED: [&str; 20] = [
    "listener",
    "port",
    "bind_address",
    "bind_interface",
    "allow_anonymous",
    "password_file",
    "psk_file",
    "acl_file",
    "certfile",
    "keyfile",
    "cafile",
    "require_certificate",
    "use_identity_as_username",
    "tls_version",
    "ciphers",
    "per_listener_settings",
    "include_dir",
    "auth_plugin",
    "plugin",
    "protocol",
];

/// Settings of one listener, in order.
struct Scope<'a> {
    head: Option<(Vec<&'a str>, Origin)>,
    /// Its first line.
    first: Option<Origin>,
    /// The last value of each setting.
    last: Last<'a>,
}

type Last<'a> = BTreeMap<&'a str, (&'a str, Origin)>;

impl<'a> Scope<'a> {
    fn get(&self, name: &str) -> Option<(&'a str, Origin)> {
        self.last.get(name).copied()
    }
}

fn read(export: &Export, around: &ReadContext<'_>) -> Reading {
    let mut reading = Reading::of(export);
    let mut files = vec![export];
    let main = export.file_name() == "mosquitto.conf";
    let all = around.of_format(&READER).map(|(one, _)| one);
    let mut beside: Vec<&Export> = all.filter(|one| one.path() != export.path()).collect();
    beside.sort_by_key(|one| one.path());
    // Without the main file the first of the folder stands for the broker.
    let stands = main
        || (!beside.iter().any(|one| one.file_name() == "mosquitto.conf")
            && beside.first().is_none_or(|one| one.path() > export.path()));
    files.extend(beside);
    let mut scopes = vec![Scope { head: None, first: None, last: Last::new() }];
    for file in files {
        for line in file.lines() {
            let text = line.text.trim();
            if text.is_empty() || text.starts_with('#') {
                continue;
            }
            let (name, value) =
                text.split_once(char::is_whitespace).map_or((text, ""), |(name, value)| (name, value.trim()));
            let origin = file.origin_of(text);
            if file.path() == export.path() {
                account(export, name, value, origin, &mut reading);
            }
            if name == "listener" {
                scopes.push(Scope {
                    head: Some((value.split_whitespace().collect(), origin)),
                    first: None,
                    last: Last::new(),
                });
            } else if let Some(scope) = scopes.last_mut() {
                scope.first.get_or_insert(origin);
                scope.last.insert(name, (value, origin));
            }
        }
    }
    if stands {
        let mut listeners = served(&scopes, export);
        hosts_access::limit(&mut listeners, around, export, "mosquitto");
        reading.facts.served.extend(listeners);
    }
    reading
}

fn account(export: &Export, name: &str, value: &str, origin: Origin, reading: &mut Reading) {
    let mut book = LineRecorder::new(export, &mut reading.ledger, &mut reading.elsewhere);
    if matches!(name, "remote_password" | "local_password" | "bridge_psk" | "password") && !value.is_empty() {
        book.understood(origin);
        hold(export, &mut reading.facts, value, SecretKind::OwnPassword, "mosquitto bridge");
    } else if JUDGED.contains(&name) {
        book.understood(origin);
    } else if is_known("mosquitto", name)
        || name.starts_with("auth_opt_")
        || name.starts_with("plugin_opt_")
        || name.starts_with("bridge_")
    {
        book.class(origin, LineClass::Ignored);
    } else {
        book.not_understood(origin, serving::unknown("mosquitto.conf(5); the broker refuses to start"));
    }
}

fn served(scopes: &[Scope<'_>], export: &Export) -> Vec<Served> {
    let global = &scopes[0];
    let apart = global.get("per_listener_settings").is_some_and(|one| truth(one.0) == Some(true));
    let origin = |scope: &Scope<'_>| {
        scope.head.as_ref().map(|one| one.1).or(scope.first).unwrap_or_else(|| export.origin(0..0))
    };
    let stated = scopes.iter().any(|scope| scope.head.is_some()) || global.get("port").is_some();
    // The last value of a global setting applies, wherever it is.
    let mut of_all = Last::new();
    scopes.iter().for_each(|scope| of_all.extend(&scope.last));
    let mut found = Vec::new();
    for scope in scopes {
        let default = scope.head.is_none();
        // The listener on the default port is there where it is stated, or where no other is.
        if default && stated && global.get("port").is_none() {
            continue;
        }
        let get = |name: &str| scope.get(name);
        // Access is stated for all of them at once, at any place, unless settings are per listener.
        let who = |name: &str| {
            if apart { scope.get(name) } else { of_all.get(name).copied() }
        };
        let line = origin(scope);
        let mut one =
            Served::new(ServedKind::Broker, "mosquitto", "message broker (mosquitto)", &["mosquitto"], line);
        let psk = get("psk_hint").or_else(|| who("psk_file"));
        let tls = get("certfile").or(psk);
        let carried = if tls.is_some() { TransportSecurity::Encrypted } else { TransportSecurity::Plain };
        let (port, host) = match &scope.head {
            Some((words, _)) => (words.first().and_then(|word| word.parse().ok()), words.get(1).copied()),
            None => (get("port").and_then(|one| one.0.parse().ok()), None),
        };
        // Port 0 is a socket in the file system.
        if port == Some(0) {
            continue;
        }
        let at = Endpoint::everywhere(Protocol::TCP, port.unwrap_or(1883), carried, line);
        let host = host.or_else(|| get("bind_address").map(|one| one.0));
        let at = match host.and_then(|host| if host == "localhost" { "127.0.0.1" } else { host }.parse().ok())
        {
            Some(address) => at.at(address),
            // Version 2 without any listener accepts the device itself only; earlier versions accept any client.
            None if !stated => at.at([127, 0, 0, 1].into()),
            None => at,
        };
        one.endpoints.push(Endpoint { interface: get("bind_interface").map(|one| one.0.to_owned()), ..at });
        one.parts.push(part(&who, &get, tls, line));
        if let Some((_, line)) = get("certfile") {
            one.offers.push(offer(get("tls_version"), get("ciphers"), line));
        }
        found.push(one);
    }
    found
}

type Get<'s, 'a> = dyn Fn(&str) -> Option<(&'a str, Origin)> + 's;

fn part<'a>(
    who: &Get<'_, 'a>,
    get: &Get<'_, 'a>,
    tls: Option<(&str, Origin)>,
    line: Origin,
) -> ServiceResource {
    let mut part = ServiceResource::new(PartKind::Whole, "message broker (mosquitto)", line);
    let yes = |one: Option<(&str, Origin)>| one.filter(|one| truth(one.0) == Some(true)).map(|one| one.1);
    let certificate = yes(get("require_certificate"));
    let anonymous = who("allow_anonymous").and_then(|(text, line)| Some((truth(text)?, line)));
    let plugin = who("auth_plugin").or_else(|| who("plugin"));
    let list = who("password_file");
    part.login = match (certificate, anonymous) {
        (Some(origin), _) => Setting::Stated { value: AuthRequirement::Certificate, origin },
        (None, Some((true, origin))) => Setting::Stated { value: AuthRequirement::Nothing, origin },
        (None, _) if plugin.is_some() => Setting::Unknown { why: "a plug-in decides".into() },
        (None, Some((false, origin))) => Setting::Stated { value: AuthRequirement::Password, origin },
        (None, None) if list.is_some() => {
            Setting::Stated { value: AuthRequirement::Password, origin: list.map_or(line, |one| one.1) }
        }
        (None, None) => Setting::Default(
            [(AuthRequirement::Nothing, "before 2.0"), (AuthRequirement::Password, "2.0 and later")]
                .map(|(value, versions)| DefaultValue {
                    value,
                    daemon: "mosquitto",
                    versions,
                    source: "mosquitto.conf(5), allow_anonymous",
                })
                .into(),
        ),
    };
    // With a list of what is whose, the broker decides topic by topic.
    part.writes = match who("acl_file") {
        Some((_, origin)) => Setting::Stated { value: false, origin },
        None => Setting::default_of(true, "mosquitto", "mosquitto.conf(5), acl_file"),
    };
    part.encryption = Some(match tls {
        Some((_, origin)) => Setting::Stated { value: Requirement::Required, origin },
        None => Setting::default_of(Requirement::Never, "mosquitto", "mosquitto.conf(5), certfile"),
    });
    if part.login.value() == Some(&AuthRequirement::Password) && tls.is_none() {
        part.remarks.push((Remark::ClearPassword, part.login.origin().unwrap_or(line)));
    }
    part
}

fn offer(
    version: Option<(&str, Origin)>,
    ciphers: Option<(&str, Origin)>,
    line: Origin,
) -> trevlin_model::offer::Offer {
    match version {
        // The one that is named is the lowest.
        Some((name, at)) => {
            let name = name.to_ascii_lowercase().replace("tlsv1.0", "tlsv1").replace("tls", "TLS");
            tls::openssl(ciphers, [Some((name.as_str(), at)), None], &[], at)
        }
        None => {
            let mut offer = tls::listed(ciphers, &[("TLSv1.2", line), ("TLSv1.3", line)], line);
            let versions = |one: &&mut Offered| one.role == Some(AlgorithmRole::Protocol);
            offer
                .algorithms
                .iter_mut()
                .filter(versions)
                .for_each(|one| one.default = Some("mosquitto.conf(5), tls_version"));
            offer
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::testing::first;

    fn of(files: &[(&str, &str)]) -> Reading {
        first(read, files)
    }

    fn told(text: &str) -> Vec<String> {
        let reading = of(&[("d/etc/mosquitto/mosquitto.conf", text)]);
        assert!(reading.ledger.notes.is_empty(), "{text}: {:?}", reading.ledger.notes);
        let line = |one: &Served| {
            let at = &one.endpoints[0];
            format!("{:?}/{} {:?} {:?}", at.address, at.port, at.carried, one.parts[0].login.value())
        };
        reading.facts.served.iter().map(line).collect()
    }

    #[test]
    fn listeners() {
        for (text, wanted) in [
            ("persistence true\n", &["Some(127.0.0.1)/1883 Plain None"][..]),
            ("listener 1883\nallow_anonymous true\n", &["None/1883 Plain Some(Nothing)"]),
            (
                "allow_anonymous false\npassword_file /x\nlistener 1883 10.4.0.9\n",
                &["Some(10.4.0.9)/1883 Plain Some(Password)"],
            ),
            (
                "listener 8883\ncertfile /x\nkeyfile /y\nrequire_certificate true\n",
                &["None/8883 Encrypted Some(Certificate)"],
            ),
            (
                "port 1884\nbind_address 127.0.0.1\nallow_anonymous true\n",
                &["Some(127.0.0.1)/1884 Plain Some(Nothing)"],
            ),
            (
                "per_listener_settings true\nlistener 1883 localhost\nallow_anonymous true\nlistener 8883\nallow_anonymous false\n",
                &["Some(127.0.0.1)/1883 Plain Some(Nothing)", "None/8883 Plain Some(Password)"],
            ),
            (
                "listener 1883\nlistener 8883\nallow_anonymous true\n",
                &["None/1883 Plain Some(Nothing)", "None/8883 Plain Some(Nothing)"],
            ),
            ("listener 1883\nauth_plugin /x\n", &["None/1883 Plain None"]),
            ("listener 0 /run/x.sock\n", &[]),
        ] {
            assert_eq!(told(text), wanted, "{text}");
        }
    }

    #[test]
    fn files_of_the_folder_belong_to_the_broker() {
        let main = ("d/etc/mosquitto/mosquitto.conf", "include_dir /etc/mosquitto/conf.d\n");
        let more = (
            "d/etc/mosquitto/conf.d/a.conf",
            "listener 1883\nallow_anonymous true\nremote_password Sesame9\ncolour red\n",
        );
        assert_eq!(of(&[main, more]).facts.served[0].parts[0].login.value(), Some(&AuthRequirement::Nothing));
        let aside = of(&[more, main]);
        assert_eq!(
            (aside.facts.served.len(), aside.facts.secrets.len(), aside.ledger.notes.len()),
            (0, 1, 1)
        );
        assert!(!format!("{aside:?}").contains("Sesame"));
    }
}
