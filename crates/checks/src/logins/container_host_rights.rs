//! A container whose processes can become root of the host.

use crate::check::{Answer, Check, Fail, Need, Run, Verdict};
use crate::subject::{Subject, SubjectKind};
use trevlin_analysis::map::EstateMap;
use trevlin_estate::area::{Area, Severity};
use trevlin_estate::baseline::Baseline;
use trevlin_model::Origin;
use trevlin_model::container::{Container, HostRight};

/// The check.
pub(crate) const CHECK: Check = Check {
    id: "logins/container-host-rights",
    area: Area::Logins,
    title: "Container with root rights on its host",
    severity: Severity::High,
    why: "An attacker who takes over a program in such a container is root on the host: the socket of the engine starts containers \
          with any rights, and a privileged container mounts the disks. The container then separates nothing.",
    fix: "Remove `privileged`, the socket, host namespaces and folders of the host, and add the single capability or device that \
          is needed. Give monitoring and deployment tools a proxy that permits a few read requests.",
    judged: "Fails for privileged containers, for the socket of the engine (a read-only mount does not limit it), for writable \
             folders of the host that decide who is root (`/`, `/etc`, `/root` and others), and for capabilities such as \
             SYS_ADMIN; medium for the processes of the host, a switched-off confinement, and readable folders with secrets; low \
             for the network of the host alone. One level lower where users of the engine are remapped, except for the socket. \
             Passes for the other containers.",
    references: &["docker-run(1), --privileged", "capabilities(7)", "NIST SP 800-190, 4.4.3 and 4.5.5"],
    needs: &[Need::Services],
    run: Run::Map(run),
};

fn run(estate: &EstateMap, _: &Baseline) -> Vec<Answer> {
    let mut answers = Vec::new();
    for (at, device) in estate.devices.iter().enumerate() {
        for container in &device.facts.containers {
            let subject = Subject::of(SubjectKind::Container).with(container.title());
            answers.push(Answer::new(at, subject, judge(container)));
        }
    }
    answers
}

/// Severity of a right by itself.
fn severity(right: &HostRight, container: &Container) -> Severity {
    let own = match right {
        HostRight::EngineSocket => return Severity::High,
        HostRight::Privileged | HostRight::WritableFolder(_) | HostRight::Capability(_) => Severity::High,
        HostRight::HostProcesses | HostRight::ReadableFolder(_) | HostRight::Unconfined(_) => {
            Severity::Medium
        }
        HostRight::HostNetwork => Severity::Low,
    };
    match own {
        Severity::High if container.remapped => Severity::Medium,
        Severity::Medium if container.remapped => Severity::Low,
        own => own,
    }
}

/// A right in words.
fn words(right: &HostRight) -> String {
    match right {
        HostRight::Privileged => "it is privileged".into(),
        HostRight::EngineSocket => "it has the socket of the engine".into(),
        HostRight::HostProcesses => "it sees the processes of the host".into(),
        HostRight::HostNetwork => "it has the network of the host".into(),
        HostRight::WritableFolder(path) => format!("it may change {path} of the host"),
        HostRight::ReadableFolder(path) => format!("it may read {path} of the host"),
        HostRight::Capability(name) => format!("it has the capability {name}"),
        HostRight::Unconfined(name) => format!("its confinement by {name} is off"),
    }
}

fn judge(container: &Container) -> Verdict {
    let mut rights: Vec<(Severity, &HostRight, Origin)> =
        container.rights.iter().map(|(right, origin)| (severity(right, container), right, *origin)).collect();
    rights.sort_by_key(|(severity, _, origin)| (std::cmp::Reverse(*severity), *origin));
    let Some((severity, first, _)) = rights.first() else { return Verdict::pass(container.origin) };
    let remapped = container.remapped && **first != HostRight::EngineSocket;
    let why = if remapped { format!("{}, and its users are remapped", words(first)) } else { words(first) };
    let all: Vec<String> = rights.iter().map(|(_, right, _)| words(right)).collect();
    let what = match severity {
        Severity::Low => "shares the network of its host",
        Severity::Medium => "is weakly separated from its host",
        _ => "has root rights on its host",
    };
    Verdict::Fail(Fail {
        rating: CHECK.rated_at(*severity, why),
        title: format!("Container {} {what}", container.title()).into(),
        detail: detail(container, &all).into(),
        evidence: rights.iter().map(|(_, _, origin)| *origin).collect(),
    })
}

/// The rights in a sentence, with the image.
fn detail(container: &Container, all: &[String]) -> String {
    match &container.image {
        Some(image) => format!("Image {image}: {}.", all.join("; ")),
        None => format!("{}.", trevlin_estate::prose::capitalized(&all.join("; "))),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::testing::run;

    #[test]
    fn cases() {
        let compose =
            |rest: &str| format!("services:\n  agent:\n    image: agent\n    restart: always\n{rest}");
        let [socket, privileged, writable, readable, network, plain, several] = [
            compose("    volumes:\n      - /var/run/docker.sock:/s:ro\n"),
            compose("    privileged: true\n"),
            compose("    volumes: [\"/etc:/e\"]\n"),
            compose("    volumes: [\"/etc:/e:ro\"]\n"),
            compose("    network_mode: host\n"),
            compose("    volumes: [\"/srv/data:/data\"]\n    cap_add: [NET_BIND_SERVICE]\n"),
            compose("    network_mode: host\n    cap_add: [SYS_ADMIN]\n"),
        ];
        let file = "d/srv/agent/compose.yaml";
        let remap = ("d/etc/docker/daemon.json", "{\"userns-remap\": \"default\"}\n");
        run(
            &CHECK,
            &[
                ("the socket, though to be read", &[(file, &socket)], &["fail high d compose.yaml:6"]),
                ("privileged", &[(file, &privileged)], &["fail high d compose.yaml:5"]),
                (
                    "privileged with other users",
                    &[(file, &privileged), remap],
                    &["fail medium d compose.yaml:5"],
                ),
                ("the socket with other users", &[(file, &socket), remap], &["fail high d compose.yaml:6"]),
                ("a folder that decides", &[(file, &writable)], &["fail high d compose.yaml:5"]),
                ("a folder with secrets", &[(file, &readable)], &["fail medium d compose.yaml:5"]),
                ("the network alone", &[(file, &network)], &["fail low d compose.yaml:5"]),
                ("the worst first", &[(file, &several)], &["fail high d compose.yaml:6 compose.yaml:5"]),
                ("a folder of its own", &[(file, &plain)], &["pass d"]),
            ],
        );
    }
}
