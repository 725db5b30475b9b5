//! Compose files: services with the ports that they publish and the rights that they have on the host, and `.env` beside them.
//!
//! Format: the Compose specification (compose-spec, 05-services and 12-interpolation), docker-compose(1).

use super::ports::{capability, mounted, ports, protocol, published, security};
use super::variables::{Variables, assignments, replaced};
use crate::reader::{LineRecorder, ReadContext, Reader, Reading, Recognition};
use crate::serving;
use crate::yaml::{Node, documents, settle};
use serde::Deserialize;
use std::collections::BTreeSet;
use std::ops::Range;
use trevlin_model::container::{Container, EngineKind, HostRight, PublishedPort};
use trevlin_model::secret::SecretKind;
use trevlin_model::{Export, ExportState, Facts, Limit, LineClass, Origin, PortRange, Protocol};

/// The reader.
pub(crate) const READER: Reader = Reader {
    name: "compose",
    title: "services of containers (Compose)",
    manual: "the Compose specification",
    recognise,
    read,
};

/// Names of the file that is read where none is given, in their order, and of the one that is added to it.
const MAIN: [&str; 4] = ["compose.yaml", "compose.yml", "docker-compose.yaml", "docker-compose.yml"];
const OVERRIDE: [&str; 4] = [
    "compose.override.yaml",
    "compose.override.yml",
    "docker-compose.override.yaml",
    "docker-compose.override.yml",
];

/// Keys of a service that its rights and ports depend on, and others that tell a Compose file.
const TELLING: [&str; 16] = [
    "build",
    "cap_add",
    "command",
    "container_name",
    "depends_on",
    "environment",
    "env_file",
    "expose",
    "image",
    "network_mode",
    "networks",
    "ports",
    "privileged",
    "restart",
    "security_opt",
    "volumes",
];

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
struct Keys {
    top: BTreeSet<String>,
    service: BTreeSet<String>,
    port: BTreeSet<String>,
    volume: BTreeSet<String>,
}

trevlin_model::table! {
/// Keys by the place where they occur.
static KEYS: Keys = "../../tables/compose-keys.toml"; }

fn recognise(export: &Export) -> Recognition {
    let name = export.file_name();
    let yaml = name.ends_with(".yml") || name.ends_with(".yaml");
    let named = yaml && (name.starts_with("docker-compose") || name.starts_with("compose"));
    if is_env(export) {
        return Recognition::Name;
    }
    let mut services = false;
    let mut keys = 0;
    for line in export.lines().filter(|_| yaml || named) {
        let text = line.text.trim_end();
        if text == "services:" {
            services = true;
        } else if services && text.starts_with(' ') {
            let key = text.trim_start().split(':').next().unwrap_or_default();
            keys += usize::from(TELLING.contains(&key));
        } else if services && !text.is_empty() && !text.starts_with('#') {
            services = false;
        }
    }
    match (keys >= 2 || (named && keys > 0), named) {
        (true, _) => Recognition::Content,
        (false, true) => Recognition::Name,
        _ => Recognition::No,
    }
}

/// A file of values beside Compose files, by its name.
fn is_env(export: &Export) -> bool {
    export.file_name() == ".env"
}

fn read(export: &Export, around: &ReadContext<'_>) -> Reading {
    let mut reading = Reading::of(export);
    if is_env(export) {
        values(export, &mut reading);
        return reading;
    }
    let beside = |name: &&str| around.find(name, export).filter(|one| one.path() != export.path());
    let name = export.file_name();
    let is_part = OVERRIDE.contains(&name) && MAIN.iter().any(|main| beside(main).is_some());
    // Another name is read only where the command gives it.
    if !OVERRIDE.contains(&name) && !MAIN.contains(&name) && MAIN.iter().any(|main| beside(main).is_some()) {
        reading.ledger.put_aside(
            export.origin(0..0),
            "not in force by itself: the file of the usual name beside it is; only the secrets of the file were taken",
        );
    }
    let mut variables = Variables::new();
    if let Some(env) = around.find(".env", export) {
        variables.extend(assignments(env.text()).map(|(name, value, _)| (name.to_owned(), value.to_owned())));
    }
    let (found, broken) = documents(export.text(), export.limits().of(Limit::Nesting));
    let mut book = LineRecorder::new(export, &mut reading.ledger, &mut reading.elsewhere);
    settle(export, broken, &mut book, "the engine rejects the file");
    let top = found.first();
    let project = top
        .and_then(|top| top.get("name"))
        .and_then(Node::scalar)
        .and_then(|(name, _)| replaced(name, &variables))
        .or_else(|| folder(export));
    let state = State { export, variables: &variables, project, is_part, book, facts: &mut reading.facts };
    state.services(top);
    reading
}

/// The name of the folder, which is that of the project where none is stated.
fn folder(export: &Export) -> Option<String> {
    let (folder, _) = export.path().rsplit_once('/')?;
    let name = folder.rsplit('/').next()?;
    (!name.is_empty()).then(|| name.to_ascii_lowercase())
}

/// Takes the secrets of a file of values.
fn values(export: &Export, reading: &mut Reading) {
    reading.ledger.set(1, export.line_count(), LineClass::Ignored);
    for (name, value, line) in assignments(export.text()) {
        let origin = export.origin_of(line);
        reading.ledger.set(export.line_of(origin.start), export.line_of(origin.start), LineClass::Understood);
        if super::is_secret(name, value) {
            serving::hold(export, &mut reading.facts, value, SecretKind::ServicePassword, name);
        }
    }
}

struct State<'a, 'f> {
    export: &'a Export,
    variables: &'f Variables,
    project: Option<String>,
    /// Whether the file is added to another one.
    is_part: bool,
    book: LineRecorder<'f>,
    facts: &'f mut Facts,
}

impl State<'_, '_> {
    fn origin(&self, span: &Range<usize>) -> Origin {
        self.export.origin(span.clone())
    }

    /// A value with its names replaced, and its place.
    fn text(&mut self, node: &Node) -> Option<(String, Origin)> {
        let (text, span) = node.scalar()?;
        let origin = self.origin(&span);
        match replaced(text, self.variables) {
            Some(text) => Some((text, origin)),
            None => {
                self.book.not_understood(
                    origin,
                    "a name in this value has no value here; please provide the `.env` that sets it",
                );
                None
            }
        }
    }

    /// Reports keys that the specification does not have.
    fn known(&mut self, node: &Node, keys: &BTreeSet<String>) {
        for (key, span, value) in node.entries() {
            if key == "<<" {
                self.known(value, keys);
                value.elements().iter().for_each(|one| self.known(one, keys));
            } else if !key.starts_with("x-") && !keys.contains(key) {
                let origin = self.origin(span);
                if !self.book.is_told(origin) {
                    self.book
                        .not_understood(origin, "not a key of the Compose specification; check its spelling");
                }
            }
        }
    }

    fn services(mut self, top: Option<&Node>) {
        if let Some(top) = top {
            self.known(top, &KEYS.top);
        }
        let Some(services) = top.and_then(|top| top.get("services")) else { return };
        for (name, span, service) in services.entries() {
            if name.starts_with("x-") || name == "<<" {
                continue;
            }
            // A profile has to be asked for.
            if field(service, "profiles").is_some_and(|list| !list.elements().is_empty()) {
                continue;
            }
            let origin = self.origin(span);
            let container = self.service(name, origin, service);
            self.facts.containers.push(container);
        }
    }

    fn service(&mut self, name: &str, origin: Origin, service: &Node) -> Container {
        self.known(service, &KEYS.service);
        for (list, keys) in [("ports", &KEYS.port), ("volumes", &KEYS.volume)] {
            for one in field(service, list).map(Node::elements).unwrap_or_default() {
                self.known(one, keys);
            }
        }
        let mut container = Container {
            name: name.to_owned(),
            project: self.project.clone(),
            image: field(service, "image").and_then(|one| self.text(one)).map(|(text, _)| text),
            engine: EngineKind::Docker,
            state: ExportState::Stored,
            published: Vec::new(),
            addresses: Vec::new(),
            rights: Vec::new(),
            user: field(service, "user").and_then(|one| self.text(one)),
            remapped: false,
            adds: self.is_part,
            origin,
        };
        for port in field(service, "ports").map(Node::elements).unwrap_or_default() {
            container.published.extend(self.port(port));
        }
        self.rights(service, &mut container.rights);
        // Ports are not published where the network is the host's.
        if container.is_on_host_network() {
            container.published.clear();
        }
        self.environment(service, name);
        container
    }

    fn port(&mut self, port: &Node) -> Option<PublishedPort> {
        if port.scalar().is_some() {
            let (text, origin) = self.text(port)?;
            return match published(&text, origin) {
                Ok(found) => found,
                Err(expected) => {
                    self.book.not_understood(origin, format!("expected {expected}"));
                    None
                }
            };
        }
        let (outer, origin) = port.get("published").and_then(|one| self.text(one))?;
        let inner = port.get("target").and_then(|one| self.text(one));
        let inner = inner.and_then(|(text, _)| text.parse().ok());
        let number = port.get("protocol").and_then(|one| self.text(one));
        let number = number.map_or(Some(Protocol::TCP), |(text, _)| protocol(&text));
        let address = match port.get("host_ip").and_then(|one| self.text(one)) {
            Some((text, _)) => Some(text.trim_matches(['[', ']']).parse().ok()?),
            None => None,
        };
        match (ports(&outer), inner, number) {
            (Some(PortRange { first: 0, .. }), ..) => None,
            (Some(ports), Some(inner), Some(protocol)) => {
                Some(PublishedPort { protocol, address, ports, inner, origin })
            }
            _ => {
                self.book.not_understood(origin, "expected `published` and `target` with numbers of ports");
                None
            }
        }
    }

    fn rights(&mut self, service: &Node, rights: &mut Vec<(HostRight, Origin)>) {
        if let Some(one) = field(service, "privileged").filter(|one| one.is_true())
            && let Some((_, span)) = one.scalar()
        {
            rights.push((HostRight::Privileged, self.origin(&span)));
        }
        for (key, right) in [("network_mode", HostRight::HostNetwork), ("pid", HostRight::HostProcesses)] {
            if let Some((_, origin)) =
                field(service, key).and_then(|one| self.text(one)).filter(|(text, _)| text == "host")
            {
                rights.push((right, origin));
            }
        }
        let listed = |key: &str, right: fn(&str) -> Option<HostRight>, state: &mut Self| {
            let elements = field(service, key).map(Node::elements).unwrap_or_default();
            let found = elements.iter().filter_map(|one| state.text(one));
            found.filter_map(|(text, origin)| Some((right(&text)?, origin))).collect::<Vec<_>>()
        };
        rights.extend(listed("cap_add", capability, self));
        rights.extend(listed("security_opt", security, self));
        for volume in field(service, "volumes").map(Node::elements).unwrap_or_default() {
            let (source, read_only, origin) = match volume.scalar() {
                Some(_) => {
                    let Some((text, origin)) = self.text(volume) else { continue };
                    let mut parts = text.split(':');
                    let source = parts.next().unwrap_or_default().to_owned();
                    let read_only =
                        parts.nth(1).is_some_and(|flags| flags.split(',').any(|flag| flag == "ro"));
                    (source, read_only, origin)
                }
                None => {
                    let Some((source, origin)) = volume.get("source").and_then(|one| self.text(one)) else {
                        continue;
                    };
                    (source, volume.get("read_only").is_some_and(Node::is_true), origin)
                }
            };
            rights.extend(mounted(&source, read_only).map(|right| (right, origin)));
        }
    }

    /// Secrets of the environment.
    fn environment(&mut self, service: &Node, name: &str) {
        let Some(environment) = field(service, "environment") else { return };
        let mut hold = |key: &str, value: &str, span: Range<usize>| {
            if !value.contains('$') && super::is_secret(key, value) {
                let whole = self.export.text().get(span.clone()).unwrap_or_default();
                let inner = whole.rfind(value).map(|at| span.start + at..span.start + at + value.len());
                let text = self.export.text_at(self.export.origin(inner.unwrap_or(span)));
                let owner = format!("{key} of {name}");
                serving::hold(self.export, self.facts, text, SecretKind::ServicePassword, &owner);
            }
        };
        for (key, _, value) in environment.entries() {
            if let Some((value, span)) = value.scalar() {
                hold(key, value, span);
            }
        }
        for (text, span) in environment.elements().iter().filter_map(Node::scalar) {
            if let Some((key, value)) = text.split_once('=') {
                hold(key, value, span);
            }
        }
    }
}

/// A key of a service: its own, otherwise that of what it takes over by `<<`.
fn field<'n>(service: &'n Node, key: &str) -> Option<&'n Node> {
    service.get(key).or_else(|| {
        let merged = service.get("<<")?;
        merged.get(key).or_else(|| merged.elements().iter().find_map(|one| one.get(key)))
    })
}

#[cfg(test)]
mod tests {
    use super::*;
    use trevlin_model::ExportId;

    fn facts(files: &[(&str, &str)]) -> (Facts, Vec<String>) {
        let exports: Vec<Export> = files
            .iter()
            .zip(0..)
            .map(|((path, text), id)| Export::new(ExportId(id), *path, (*text).to_owned()))
            .collect();
        let around = ReadContext::of(exports.iter().collect());
        let (mut facts, mut notes) = (Facts::default(), Vec::new());
        for export in exports.iter().filter(|one| recognise(one) != Recognition::No) {
            let reading = read(export, &around);
            notes.extend(reading.ledger.notes.iter().map(|note| note.text.clone()));
            facts.absorb(*reading.facts);
        }
        (facts, notes)
    }

    #[test]
    fn services() {
        let text = "x-all: &all\n  restart: always\n  cap_add: [SYS_PTRACE]\nservices:\n  db:\n    <<: *all\n    image: postgres:15\n    ports:\n      \
                    - \"${DB_PORT}:5432\"\n      - target: 9187\n        published: \"9187\"\n        host_ip: 127.0.0.1\n    environment:\n      \
                    POSTGRES_PASSWORD: postgres\n      POSTGRES_USER: crew\n      OTHER_PASSWORD: ${FROM_ENV}\n  agent:\n    image: agent\n    privileged: true\n    \
                    network_mode: host\n    ports: [\"1:1\"]\n    volumes:\n      - /var/run/docker.sock:/s:ro\n      - type: bind\n        source: /etc\n        target: /e\n        \
                    read_only: true\n    environment:\n      - API_TOKEN=qx7-Rt55-ppLk\n  debug:\n    image: x\n    profiles: [test]\n    ports: [\"99:99\"]\n";
        let env = ("d/srv/tickets/.env", "DB_PORT=5433\nFROM_ENV=lantern-quay\n");
        let (facts, notes) = facts(&[("d/srv/tickets/compose.yaml", text), env]);
        let told = |one: &Container| {
            let ports: Vec<String> = one
                .published
                .iter()
                .map(|port| {
                    format!(
                        "{}{}>{}",
                        port.address.map(|one| format!("{one} ")).unwrap_or_default(),
                        port.ports,
                        port.inner
                    )
                })
                .collect();
            let rights: Vec<String> = one.rights.iter().map(|(right, _)| format!("{right:?}")).collect();
            format!("{} {} {}", one.title(), ports.join(","), rights.join(","))
        };
        let told: Vec<String> = facts.containers.iter().map(told).collect();
        assert_eq!(
            told,
            [
                "db of tickets 5433>5432,127.0.0.1 9187>9187 Capability(\"SYS_PTRACE\")",
                "agent of tickets  Privileged,HostNetwork,EngineSocket,ReadableFolder(\"/etc\")"
            ]
        );
        let owners: Vec<&str> = facts.secrets.iter().map(|one| one.owner.as_str()).collect();
        assert_eq!(owners, ["POSTGRES_PASSWORD of db", "API_TOKEN of agent"]);
        assert!(notes.is_empty(), "{notes:?}");
    }

    #[test]
    fn what_is_not_known_is_stated() {
        let of = |path: &str, text: &str| facts(&[(path, text)]);
        let (found, notes) =
            of("d/compose.yml", "services:\n  a:\n    image: x\n    ports: [\"${P}:80\", \"x:y\", \"80\"]\n");
        assert_eq!((found.containers[0].published.len(), notes.len()), (0, 2));
        let (found, notes) = of("d/compose.yml", "services:\n  a:\n    image: x\n    ports: [\n  }\n");
        assert_eq!((found.containers.len(), notes.len()), (1, 1));
    }
}
