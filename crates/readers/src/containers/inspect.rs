//! Running containers: `docker inspect`, `podman inspect`, and the lists of `docker ps` and `podman ps` as JSON.
//!
//! Format: docker-inspect(1), docker-ps(1), podman-inspect(1), podman-ps(1).

use super::ports::{capability, mounted, ports, protocol, security};
use crate::json::{self, Json};
use crate::reader::{LineRecorder, ReadContext, Reader, Reading, Recognition};
use crate::serving;
use std::collections::BTreeSet;
use trevlin_model::container::{Container, EngineKind, HostRight, PublishedPort};
use trevlin_model::secret::SecretKind;
use trevlin_model::{Export, ExportState, Facts, LineClass, Origin, PortRange};

/// The reader.
pub(crate) const READER: Reader = Reader {
    name: "containers",
    title: "running containers",
    manual: "docker-inspect(1), docker-ps(1), podman-inspect(1), podman-ps(1)",
    recognise: |export| match kind(export) {
        Some(_) => Recognition::Content,
        None => Recognition::No,
    },
    read,
};

#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Kind {
    Inspect,
    List,
}

fn kind(export: &Export) -> Option<Kind> {
    let text = export.text().trim_start();
    if !text.starts_with(['[', '{']) {
        return None;
    }
    let has = |sign: &str| text.contains(sign);
    if has("\"HostConfig\"") && has("\"NetworkSettings\"") && has("\"Config\"") {
        return Some(Kind::Inspect);
    }
    let listed =
        has("\"Names\"") && has("\"Ports\"") && has("\"Image\"") && (has("\"State\"") || has("\"Status\""));
    listed.then_some(Kind::List)
}

/// Names of the containers that a device's inspections show.
struct Inspected(BTreeSet<String>);

impl Inspected {
    fn of(around: &ReadContext<'_>) -> Self {
        let inspections = around.exports.iter().filter(|export| kind(export) == Some(Kind::Inspect));
        let names = inspections.flat_map(|export| {
            let names: Vec<String> = each(&json::parse_all(export).0)
                .filter_map(|one| Some(bare(&one.text("Name")?).to_owned()))
                .collect();
            names
        });
        Self(names.collect())
    }
}

/// Docker writes names with a stroke in front (docker-inspect(1)).
fn bare(name: &str) -> &str {
    name.trim_start_matches('/')
}

/// The containers of documents that are lists of them or one each.
fn each<'d, 't>(documents: &'d [Json<'t>]) -> impl Iterator<Item = &'d Json<'t>> {
    documents.iter().flat_map(|document| match document.elements() {
        [] => std::slice::from_ref(document),
        all => all,
    })
}

fn read(export: &Export, around: &ReadContext<'_>) -> Reading {
    let mut reading = Reading::of(export);
    // What tells them apart may be in the part that is missing.
    let kind = kind(export).unwrap_or(Kind::Inspect);
    let mut book = LineRecorder::new(export, &mut reading.ledger, &mut reading.elsewhere);
    book.class(export.origin(0..export.text().len().max(1)), LineClass::Understood);
    let (documents, broken) = json::parse_all(export);
    if let Some(broken) = broken {
        book.not_understood(export.origin(broken.offset..export.text().len()), broken.words(""));
    }
    for document in &documents {
        document.tell_cuts(&mut book);
    }
    for one in each(&documents) {
        let container = match kind {
            Kind::Inspect => inspected(export, one, &mut reading.facts),
            // An inspection tells more of the same container.
            Kind::List => listed(one, &around.once(|| Inspected::of(around)).0),
        };
        reading.facts.containers.extend(container);
    }
    reading
}

/// A container with nothing known of it yet.
fn running(name: String, engine: EngineKind, origin: Origin) -> Container {
    Container {
        name,
        project: None,
        image: None,
        engine,
        state: ExportState::Running,
        published: Vec::new(),
        addresses: Vec::new(),
        rights: Vec::new(),
        user: None,
        remapped: false,
        adds: false,
        origin,
    }
}

fn inspected(export: &Export, one: &Json<'_>, facts: &mut Facts) -> Option<Container> {
    let (config, host) = (one.get("Config"), one.get("HostConfig"));
    let name = one.text("Name")?;
    // Stopped ones are reached by nobody.
    if one.get("State").and_then(|state| state.get("Running")).is_some_and(Json::is_false) {
        return None;
    }
    let podman = one.get("OCIRuntime").is_some() || one.get("ConmonPidFile").is_some();
    let of_user = ["OCIConfigPath", "StaticDir", "ConmonPidFile"].iter().any(|key| {
        one.text(key).is_some_and(|path| path.starts_with("/home/") || path.starts_with("/run/user/"))
    });
    let engine = match (podman, of_user) {
        (false, _) => EngineKind::Docker,
        (true, false) => EngineKind::Podman,
        (true, true) => EngineKind::RootlessPodman,
    };
    let origin = one.get("Name").map_or(one.origin, |name| name.origin);
    let mut container = running(bare(&name).to_owned(), engine, origin);
    container.image = config.and_then(|one| one.text("Image")).or_else(|| one.text("ImageName"));
    if let Some(labels) = config.and_then(|one| one.get("Labels")) {
        container.project = labels.text("com.docker.compose.project");
        if let Some(service) = labels.text("com.docker.compose.service") {
            container.name = service;
        }
    }
    container.user = config
        .and_then(|one| one.get("User"))
        .and_then(|user| Some((user.text_of()?, user.origin)))
        .filter(|(user, _)| !user.is_empty());
    let of_host = |key: &str| host.and_then(|one| one.get(key));
    let word = |key: &str| of_host(key).and_then(|one| Some((one.text_of()?, one.origin)));
    let rights = &mut container.rights;
    rights.extend(
        of_host("Privileged").filter(|one| one.is_true()).map(|one| (HostRight::Privileged, one.origin)),
    );
    for (key, right) in [("NetworkMode", HostRight::HostNetwork), ("PidMode", HostRight::HostProcesses)] {
        rights.extend(word(key).filter(|(mode, _)| mode == "host").map(|(_, origin)| (right, origin)));
    }
    let listed = |key: &str, right: fn(&str) -> Option<HostRight>| {
        let words = host
            .map_or(&[][..], |one| one.list(key))
            .iter()
            .filter_map(|one| Some((one.text_of()?, one.origin)));
        words.filter_map(|(text, origin)| Some((right(&text)?, origin))).collect::<Vec<_>>()
    };
    rights.extend(listed("CapAdd", capability));
    rights.extend(listed("SecurityOpt", security));
    for mount in one.list("Mounts").iter().filter(|one| one.text("Type").as_deref() == Some("bind")) {
        let read_only = mount.get("RW").is_some_and(Json::is_false);
        let source = mount.get("Source").and_then(|one| Some((one.text_of()?, one.origin)));
        if let Some((source, origin)) = source {
            rights.extend(mounted(&source, read_only).map(|right| (right, origin)));
        }
    }
    let settings = one.get("NetworkSettings");
    for (key, bound) in settings.and_then(|one| one.get("Ports")).into_iter().flat_map(Json::members) {
        for one in bound.elements() {
            container.published.extend(bound_port(key, one));
        }
    }
    let networks = settings.and_then(|one| one.get("Networks")).into_iter().flat_map(Json::members);
    let top = settings.into_iter().map(|one| ("", one));
    for (_, network) in networks.chain(top) {
        for key in ["IPAddress", "GlobalIPv6Address"] {
            let address = network.text(key).and_then(|text| text.parse().ok());
            container.addresses.extend(address.filter(|one| !container.addresses.contains(one)));
        }
    }
    for variable in config.map_or(&[][..], |one| one.list("Env")) {
        let Some(text) = variable.text_of() else { continue };
        let Some((key, value)) = text.split_once('=') else { continue };
        if super::is_secret(key, value)
            && let Some(at) = variable.slice.rfind(value)
        {
            let owner = format!("{key} of {}", container.name);
            let held = &variable.slice[at..at + value.len()];
            serving::hold(export, facts, held, SecretKind::ServicePassword, &owner);
        }
    }
    Some(container)
}

/// `"5432/tcp": [{"HostIp": "0.0.0.0", "HostPort": "5432"}]`
fn bound_port(key: &str, one: &Json<'_>) -> Option<PublishedPort> {
    let (inner, name) = key.split_once('/').unwrap_or((key, "tcp"));
    let port: u16 = one.text("HostPort")?.parse().ok()?;
    let address = one.text("HostIp").filter(|text| !text.is_empty()).and_then(|text| text.parse().ok());
    Some(PublishedPort {
        protocol: protocol(name)?,
        address: address.filter(|one: &std::net::IpAddr| !one.is_unspecified()),
        ports: PortRange { first: port, last: port },
        inner: inner.parse().ok()?,
        origin: one.get("HostPort").map_or(one.origin, |port| port.origin),
    })
}

/// An entry of a list. Docker writes the ports as a text, Podman as objects.
fn listed(one: &Json<'_>, inspected: &BTreeSet<String>) -> Option<Container> {
    let names = one.get("Names")?;
    let name = names.text_of().or_else(|| names.elements().first()?.text_of())?;
    let state = one.text("State").unwrap_or_default();
    if !matches!(state.as_str(), "running" | "") || inspected.contains(bare(&name)) {
        return None;
    }
    let engine = if names.elements().is_empty() { EngineKind::Docker } else { EngineKind::Podman };
    let mut container = running(name, engine, names.origin);
    container.image = one.text("Image");
    let ports_of = one.get("Ports")?;
    if let Some(text) = ports_of.text_of() {
        container.published.extend(text.split(", ").filter_map(|one| shown(one, ports_of.origin)));
    }
    for port in ports_of.elements() {
        let number = |key: &str| port.number(key).and_then(|number| u16::try_from(number).ok());
        let (Some(outer), Some(inner)) = (number("host_port"), number("container_port")) else { continue };
        let count = number("range").unwrap_or(1).max(1);
        let name = port.text("protocol").unwrap_or_else(|| "tcp".into());
        let address = port.text("host_ip").and_then(|text| text.parse().ok());
        let Some(protocol) = protocol(&name) else { continue };
        container.published.push(PublishedPort {
            protocol,
            address: address.filter(|one: &std::net::IpAddr| !one.is_unspecified()),
            ports: PortRange { first: outer, last: outer.saturating_add(count - 1) },
            inner,
            origin: port.origin,
        });
    }
    // Both versions of the same port are one.
    container.published.dedup_by(|a, b| (a.ports, a.inner, a.address) == (b.ports, b.inner, b.address));
    Some(container)
}

/// `0.0.0.0:5432->5432/tcp`, `:::8080-8090->80-90/tcp`
fn shown(text: &str, origin: Origin) -> Option<PublishedPort> {
    let (outer, inner) = text.split_once("->")?;
    let (address, outer) = outer.rsplit_once(':')?;
    let (inner, name) = inner.split_once('/').unwrap_or((inner, "tcp"));
    let address: Option<std::net::IpAddr> = address.trim_matches(['[', ']']).parse().ok();
    Some(PublishedPort {
        protocol: protocol(name)?,
        address: address.filter(|one| !one.is_unspecified()),
        ports: ports(outer)?,
        inner: ports(inner)?.first,
        origin,
    })
}

#[cfg(test)]
mod tests {
    use super::*;
    use trevlin_model::ExportId;

    fn of(text: &str) -> (Vec<String>, usize) {
        let export = Export::new(ExportId(0), "d/containers.json", text.into());
        let reading = read(&export, &ReadContext::default());
        let told = |one: &Container| {
            let ports = one.published.iter().map(|port| {
                let address = port.address.map(|one| format!("{one} ")).unwrap_or_default();
                format!(" {address}{}>{}", port.ports, port.inner)
            });
            let rights: Vec<String> = one.rights.iter().map(|(right, _)| format!(" {right:?}")).collect();
            let addresses = one.addresses.iter().map(|address| format!(" {address}"));
            format!(
                "{} {:?}{}{}{}",
                one.title(),
                one.engine,
                ports.collect::<String>(),
                addresses.collect::<String>(),
                rights.concat()
            )
        };
        (reading.facts.containers.iter().map(told).collect(), reading.facts.secrets.len())
    }

    #[test]
    fn inspections() {
        let docker = r#"[{"Name":"/tickets-db-1","State":{"Running":true},"Config":{"Image":"postgres:15","User":"","Env":["POSTGRES_PASSWORD=quayside","PATH=/usr/bin"],
            "Labels":{"com.docker.compose.project":"tickets","com.docker.compose.service":"db"}},
            "HostConfig":{"Privileged":false,"NetworkMode":"tickets_default","PidMode":"host","CapAdd":["CAP_SYS_ADMIN"],"SecurityOpt":["apparmor=unconfined"]},
            "Mounts":[{"Type":"bind","Source":"/var/run/docker.sock","Destination":"/var/run/docker.sock","RW":false}],
            "NetworkSettings":{"Ports":{"5432/tcp":[{"HostIp":"0.0.0.0","HostPort":"5432"}],"80/tcp":null},"Networks":{"tickets_default":{"IPAddress":"172.18.0.2"}}}},
            {"Name":"/old","State":{"Running":false},"Config":{},"HostConfig":{},"NetworkSettings":{}}]"#;
        assert_eq!(
            of(docker),
            (
                vec!["db of tickets Docker 5432>5432 172.18.0.2 HostProcesses Capability(\"SYS_ADMIN\") Unconfined(\"apparmor\") EngineSocket".to_owned()],
                1
            )
        );
        let podman = r#"[{"Name":"web","OCIRuntime":"crun","OCIConfigPath":"/home/ann/.local/x","Config":{"Image":"web"},"HostConfig":{"Privileged":true},
            "NetworkSettings":{"Ports":{"80/tcp":[{"HostIp":"","HostPort":"8080"}]}}}]"#;
        assert_eq!(of(podman).0, ["web RootlessPodman 8080>80 Privileged"]);
    }

    #[test]
    fn lists() {
        let docker = r#"{"ID":"1","Image":"redis:7","Names":"cache","Ports":"0.0.0.0:6379->6379/tcp, :::6379->6379/tcp, 127.0.0.1:9000-9001->90-91/udp, 80/tcp","State":"running"}
            {"ID":"2","Image":"x","Names":"gone","Ports":"","State":"exited"}"#;
        assert_eq!(of(docker).0, ["cache Docker 6379>6379 127.0.0.1 9000-9001>90"]);
        let podman = r#"[{"Names":["pages"],"Image":"web","State":"running","Status":"","Ports":[{"host_ip":"","container_port":80,"host_port":8080,"range":2,"protocol":"tcp"}]}]"#;
        assert_eq!(of(podman).0, ["pages Podman 8080-8081>80"]);
    }

    #[test]
    fn an_inspection_tells_more_than_a_list() {
        let inspection = r#"[{"Name":"/web","Config":{"Image":"web"},"HostConfig":{"Privileged":true},"NetworkSettings":{"Ports":{"80/tcp":[{"HostIp":"","HostPort":"8080"}]}}}]"#;
        let list = r#"{"Image":"web","Names":"web","Ports":"0.0.0.0:8080->80/tcp","State":"running"}
            {"Image":"x","Names":"other","Ports":"0.0.0.0:81->81/tcp","State":"running"}"#;
        let exports = [
            Export::new(ExportId(0), "d/ps.json", list.into()),
            Export::new(ExportId(1), "d/inspect.json", inspection.into()),
        ];
        let around = ReadContext::of(exports.iter().collect());
        let names = exports.iter().flat_map(|export| {
            let facts = read(export, &around).facts;
            facts.containers.iter().map(|one| one.name.clone()).collect::<Vec<_>>()
        });
        assert_eq!(names.collect::<Vec<_>>(), ["other", "web"]);
    }
}
