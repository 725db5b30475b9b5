//! `rsyncd.conf` (rsyncd.conf(5)) and the secrets files it names: rsync modules.
//!
//! Settings above the first module are defaults for all modules.

use crate::ini::{Section, sections};
use crate::reader::{LineRecorder, ReadContext, Reader, Reading, Recognition};
use crate::serving::{self, Admitted, is_known, truth};
use trevlin_model::secret::SecretKind;
use trevlin_model::served::{
    AuthRequirement, Endpoint, PartKind, Remark, Requirement, Served, ServedKind, ServiceResource, Sources,
    TransportSecurity,
};
use trevlin_model::{Export, LineClass, Login, LoginDaemon, LoginList, Origin, Protocol, Setting};

/// The reader.
pub(crate) const READER: Reader =
    Reader { name: "rsyncd", title: "rsync server", manual: "rsyncd.conf(5)", recognise, read };

/// The reader of secrets.
pub(crate) const SECRETS: Reader = Reader {
    name: "rsyncd-secrets",
    title: "rsync accounts",
    manual: "rsyncd.conf(5), secrets file",
    // Many files contain names and passwords separated by a colon, so the file name decides.
    recognise: |export| {
        let named = matches!(export.file_name(), "rsyncd.secrets" | "rsync.secrets" | "rsyncd.passwd");
        if named { Recognition::Content } else { Recognition::No }
    },
    read: read_secrets,
};

const JUDGED: [&str; 13] = [
    "path",
    "address",
    "port",
    "read only",
    "write only",
    "auth users",
    "secrets file",
    "hosts allow",
    "hosts deny",
    "uid",
    "list",
    "use chroot",
    "comment",
];

fn recognise(export: &Export) -> Recognition {
    let mut module = false;
    let mut tells = false;
    for line in export.lines() {
        let text = line.text.trim();
        module |= text.starts_with('[');
        let key = text.split_once('=').map(|(key, _)| key.trim());
        tells |= key.is_some_and(|key| {
            ["secrets file", "use chroot", "auth users", "max verbosity"]
                .iter()
                .any(|one| key.eq_ignore_ascii_case(one))
        });
    }
    let named = export.file_name().starts_with("rsyncd") && export.file_name().ends_with(".conf");
    match (module && tells, named) {
        (true, _) => Recognition::Content,
        (false, true) => Recognition::Name,
        _ => Recognition::No,
    }
}

fn read(export: &Export, _: &ReadContext<'_>) -> Reading {
    let mut reading = Reading::of(export);
    let mut book = LineRecorder::new(export, &mut reading.ledger, &mut reading.elsewhere);
    let all = sections(export, &['#', ';']);
    let mut open = Vec::new();
    for section in &all {
        if !section.name.is_empty() {
            book.understood(section.origin);
        }
        for entry in &section.entries {
            let key = entry.key.to_ascii_lowercase();
            if key.starts_with("&include") || key.starts_with("&merge") {
                let question = "please provide the included files, which define further modules";
                book.note(entry.origin, question);
                open.push((question.to_owned(), entry.origin));
            } else if JUDGED.contains(&key.as_str()) {
                book.understood(entry.origin);
            } else if is_known("rsync", &key) {
                book.class(entry.origin, LineClass::Ignored);
            } else {
                book.not_understood(entry.origin, serving::unknown("rsyncd.conf(5)"));
            }
        }
    }
    let Some((first, rest)) = all.split_first() else { return reading };
    // `[global]` goes back to what holds for all.
    let is_global = |one: &&Section<'_>| one.name.eq_ignore_ascii_case("global");
    let globals: Vec<&Section<'_>> = std::iter::once(first).chain(rest.iter().filter(is_global)).collect();
    let origin = all.iter().flat_map(|one| &one.entries).map(|one| one.origin).next();
    let origin = origin.unwrap_or_else(|| export.origin(0..0));
    let mut served = Served::new(ServedKind::Modules, "rsync", "rsync server", &["rsync", "rsyncd"], origin);
    let of_all =
        |key: &str| globals.iter().rev().find_map(|one| one.last(key)).map(|one| (one.value, one.origin));
    let port =
        of_all("port").and_then(|(text, line)| Some((text.parse().ok()?, line))).unwrap_or((873, origin));
    let endpoint = Endpoint::everywhere(Protocol::TCP, port.0, TransportSecurity::Plain, port.1);
    served.endpoints.push(
        match of_all("address").and_then(|(text, line)| Some((text.parse().ok()?, line))) {
            Some((address, line)) => Endpoint { origin: line, ..endpoint }.at(address),
            None => endpoint,
        },
    );
    served.open = open;
    let mut known = Admitted::default();
    for module in rest.iter().filter(|one| !is_global(one)) {
        let get = |key: &str| module.last(key).map(|one| (one.value, one.origin)).or_else(|| of_all(key));
        served.parts.push(part(module, &get, &mut known));
    }
    reading.facts.served.push(served);
    reading
}

fn part<'a>(
    module: &Section<'a>,
    get: &dyn Fn(&str) -> Option<(&'a str, Origin)>,
    known: &mut Admitted,
) -> ServiceResource {
    let mut part = ServiceResource::new(PartKind::Module, module.name, module.origin);
    part.path = get("path").map(|(path, _)| path.to_owned());
    let list = |key| get(key).map(|(text, origin)| (hosts(text), origin));
    let texts = ["hosts allow", "hosts deny"].map(|key| get(key).map(|(text, _)| text));
    let admitted = known.by(texts, || Some(serving::admitted(list("hosts allow"), list("hosts deny"))));
    part.sources = admitted.unwrap_or_else(Sources::everybody);
    let users = get("auth users").filter(|(text, _)| !text.is_empty());
    part.login = match users {
        Some((_, origin)) => Setting::Stated { value: AuthRequirement::Proof, origin },
        None => Setting::default_of(AuthRequirement::Nothing, "rsync", "rsyncd.conf(5), auth users"),
    };
    let listed = users.map_or("", |(text, _)| text);
    part.users = listed
        .split([',', ' '])
        .map(|one| one.split(':').next().unwrap_or(one).to_owned())
        .filter(|one| !one.is_empty())
        .collect();
    let read_only = get("read only").and_then(|(text, origin)| Some((truth(text)?, origin)));
    // A user may be given more than the module as a whole: `ann:rw`.
    part.writes = match read_only {
        _ if listed.contains(":rw") => {
            Setting::Stated { value: true, origin: users.map_or(module.origin, |one| one.1) }
        }
        Some((value, origin)) => Setting::Stated { value: !value, origin },
        None => Setting::default_of(false, "rsync", "rsyncd.conf(5), read only"),
    };
    part.encryption =
        Some(Setting::default_of(Requirement::Never, "rsync", "rsyncd.conf(5), authentication strength"));
    if let Some((_, origin)) = get("uid").filter(|(uid, _)| matches!(*uid, "root" | "0")) {
        part.remarks.push((Remark::RootKept, origin));
    }
    part
}

/// The addresses of a list.
fn hosts(text: &str) -> Sources {
    let mut found = Sources::default();
    text.split([',', ' ', '\t']).filter(|one| !one.is_empty()).for_each(|one| serving::host(one, &mut found));
    found
}

fn read_secrets(export: &Export, _: &ReadContext<'_>) -> Reading {
    let mut reading = Reading::of(export);
    for line in export.lines().filter(|line| !line.text.trim().is_empty() && !line.text.starts_with('#')) {
        let origin = export.origin_of(line.text);
        let mut book = LineRecorder::new(export, &mut reading.ledger, &mut reading.elsewhere);
        let Some((user, password)) = line.text.split_once(':') else {
            book.not_understood(origin, "expected `user:password`; no user can log in with this line");
            reading.facts.masked_places.push(origin);
            continue;
        };
        book.understood(origin);
        let secret = serving::hold(export, &mut reading.facts, password, SecretKind::LoginPassword, user);
        reading.facts.logins.push(Login {
            user: user.to_owned(),
            list: LoginList::LocalFile(export.path().to_owned()),
            daemon: Some(LoginDaemon::Service),
            service: "rsync".into(),
            secret,
            certain: true,
            expires: None,
            origin,
        });
    }
    reading
}

#[cfg(test)]
mod tests {
    use super::*;
    use trevlin_model::ExportId;

    fn of(text: &str) -> Reading {
        let export = Export::new(ExportId(0), "d/etc/rsyncd.conf", text.into());
        read(&export, &ReadContext::default())
    }

    #[test]
    fn modules() {
        for (text, wanted) in [
            ("[a]\npath=/a\n", "a any address Nothing false"),
            ("read only = no\n[a]\npath=/a\n", "a any address Nothing true"),
            ("[a]\nread only=no\nauth users = ann, bob\n", "a any address Proof true"),
            ("[a]\nauth users = ann:rw\n", "a any address Proof true"),
            ("auth users = ann\n[a]\nauth users =\n", "a any address Nothing false"),
            ("hosts allow = 10.4.0.0/24\n[a]\n", "a 10.4.0.0/24 Nothing false"),
            ("[a]\nhosts deny = *\n", "a no address Nothing false"),
            ("[a]\nhosts allow = 10.4.0.9\nhosts deny = *\n", "a 10.4.0.9 Nothing false"),
            ("[x]\n[global]\nread only = no\n", "x any address Nothing true"),
        ] {
            let reading = of(text);
            let part = &reading.facts.served[0].parts[0];
            let told = format!(
                "{} {} {:?} {}",
                part.name,
                part.sources.words(),
                part.login.value().unwrap(),
                part.is_written()
            );
            assert_eq!(told, wanted, "{text}");
            assert!(reading.ledger.notes.is_empty(), "{text}");
        }
        let reading = of("address = 127.0.0.1\nport = 8730\nuid = root\n[a]\n&include /x\ncolour = red\n");
        let served = &reading.facts.served[0];
        assert!(served.is_local() && served.endpoints[0].port == 8730);
        assert!(served.parts[0].remark(Remark::RootKept).is_some());
        assert_eq!((served.open.len(), reading.ledger.notes.len()), (1, 2));
    }

    #[test]
    fn secrets_are_held() {
        let text = "# who\nann:Sesame-9:x\nbroken\n";
        let export = Export::new(ExportId(0), "d/etc/rsyncd.secrets", text.into());
        let reading = read_secrets(&export, &ReadContext::default());
        assert_eq!((reading.facts.logins.len(), reading.ledger.notes.len()), (1, 1));
        assert_eq!(reading.facts.secrets[0].origin, export.origin_of(&export.text()[10..20]));
        assert!(!format!("{reading:?}").contains("Sesame"));
    }
}
