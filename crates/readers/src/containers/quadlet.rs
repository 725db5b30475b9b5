//! Units of Quadlet: `.container` and `.pod` files from which Podman makes services.
//!
//! Format: podman-systemd.unit(5).

use super::ports::{capability, mounted, published};
use crate::ini::{Entry, Section, sections};
use crate::reader::{LineRecorder, ReadContext, Reader, Reading, Recognition};
use crate::serving::{self, words_of_statement};
use crate::upkeep::service_units;
use serde::Deserialize;
use std::collections::BTreeSet;
use trevlin_model::container::{Container, EngineKind, HostRight};
use trevlin_model::secret::SecretKind;
use trevlin_model::{Export, ExportState, Facts, LineClass};

/// The reader.
pub(crate) const READER: Reader = Reader {
    name: "quadlet",
    title: "containers of systemd (Podman)",
    manual: "podman-systemd.unit(5)",
    recognise: |export| {
        let named = export.file_name().ends_with(".container") || export.file_name().ends_with(".pod");
        let heading = || export.lines().any(|line| matches!(line.text.trim(), "[Container]" | "[Pod]"));
        if named && heading() { Recognition::Content } else { Recognition::No }
    },
    read,
};

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
struct Keys {
    container: BTreeSet<String>,
    quadlet: BTreeSet<String>,
}

trevlin_model::table! {
/// Keys that Quadlet has beside those of systemd.
static KEYS: Keys = "../../tables/quadlet-keys.toml"; }

fn is_known(section: &str, key: &str) -> bool {
    match section {
        "Container" | "Pod" => KEYS.container.contains(key),
        "Quadlet" => KEYS.quadlet.contains(key),
        section => service_units::is_key(section, key),
    }
}

fn read(export: &Export, _: &ReadContext<'_>) -> Reading {
    let mut reading = Reading::of(export);
    reading.ledger.set(1, export.line_count(), LineClass::Ignored);
    let mut book = LineRecorder::new(export, &mut reading.ledger, &mut reading.elsewhere);
    let found = sections(export, &['#', ';']);
    for section in &found {
        for entry in section.entries.iter().filter(|entry| !is_known(section.name, entry.key)) {
            book.not_understood(entry.origin, serving::unknown("podman-systemd.unit(5) or systemd.unit(5)"));
        }
    }
    let Some(section) = found.iter().find(|one| matches!(one.name, "Container" | "Pod")) else {
        return reading;
    };
    for entry in &section.entries {
        if !is_known(section.name, entry.key) {
            continue;
        }
        if entry.has_value {
            book.understood(entry.origin);
        } else {
            book.not_understood(entry.origin, "expected `Key=value`");
        }
    }
    let stem = export.file_name().rsplit_once('.').map_or(export.file_name(), |(stem, _)| stem);
    // Files of a user are started by the user, without root.
    let of_user = export.path().contains(".config/containers/") || export.path().contains("systemd/users/");
    let last = |key: &str| section.last(key).map(|entry| entry.value);
    let name = last("ContainerName").or(last("PodName")).unwrap_or(stem);
    let mut container = Container {
        name: name.to_owned(),
        project: None,
        image: last("Image").map(str::to_owned),
        engine: if of_user { EngineKind::RootlessPodman } else { EngineKind::Podman },
        state: ExportState::Stored,
        published: Vec::new(),
        addresses: Vec::new(),
        rights: Vec::new(),
        user: section.last("User").map(|entry| (entry.value.to_owned(), entry.origin)),
        remapped: section
            .last("UserNS")
            .is_some_and(|entry| !entry.value.is_empty() && entry.value != "host"),
        adds: false,
        origin: section.origin,
    };
    for entry in section.all("PublishPort") {
        match published(entry.value, entry.origin) {
            Ok(port) => container.published.extend(port),
            Err(expected) => book.not_understood(entry.origin, format!("expected {expected}")),
        }
    }
    rights(section, &mut container.rights);
    if container.is_on_host_network() {
        container.published.clear();
    }
    for entry in section.all("Environment") {
        for word in words_of_statement(entry.value) {
            secret(export, &mut reading.facts, word, &container.name);
        }
    }
    reading.facts.containers.push(container);
    reading
}

fn rights(section: &Section<'_>, rights: &mut Vec<(HostRight, trevlin_model::Origin)>) {
    let each = |key: &'static str| section.all(key);
    for entry in each("Network").filter(|entry| entry.value == "host") {
        rights.push((HostRight::HostNetwork, entry.origin));
    }
    for entry in each("Volume") {
        let mut parts = entry.value.split(':');
        let source = parts.next().unwrap_or_default();
        let read_only = parts.nth(1).is_some_and(|flags| flags.split(',').any(|flag| flag == "ro"));
        rights.extend(mounted(source, read_only).map(|right| (right, entry.origin)));
    }
    for entry in each("AddCapability") {
        let found = entry.value.split_whitespace().filter_map(capability);
        rights.extend(found.map(|right| (right, entry.origin)));
    }
    for entry in each("SecurityLabelDisable").filter(|entry| serving::truth(entry.value) == Some(true)) {
        rights.push((HostRight::Unconfined("label".into()), entry.origin));
    }
    for entry in each("SeccompProfile").filter(|entry| entry.value == "unconfined") {
        rights.push((HostRight::Unconfined("seccomp".into()), entry.origin));
    }
    for entry in each("PodmanArgs") {
        rights.extend(arguments(entry).into_iter().map(|right| (right, entry.origin)));
    }
}

/// Rights that arguments for podman-run(1) give.
fn arguments(entry: &Entry<'_>) -> Vec<HostRight> {
    let words = words_of_statement(entry.value);
    let value = |at: usize, option: &str| -> Option<&str> {
        let word = words[at];
        match word.strip_prefix(option)?.strip_prefix('=') {
            Some(value) => Some(value),
            None if word == option => words.get(at + 1).copied(),
            None => None,
        }
    };
    let mut found = Vec::new();
    for (at, word) in words.iter().enumerate() {
        if matches!(*word, "--privileged" | "--privileged=true") {
            found.push(HostRight::Privileged);
        }
        if value(at, "--pid") == Some("host") {
            found.push(HostRight::HostProcesses);
        }
        if value(at, "--network") == Some("host") || value(at, "--net") == Some("host") {
            found.push(HostRight::HostNetwork);
        }
        found.extend(value(at, "--cap-add").and_then(capability));
    }
    found
}

/// Takes the secret of `NAME=value`.
fn secret(export: &Export, facts: &mut Facts, word: &str, owner: &str) {
    if let Some((name, value)) = word.split_once('=')
        && super::is_secret(name, value)
    {
        serving::hold(export, facts, value, SecretKind::ServicePassword, &format!("{name} of {owner}"));
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use trevlin_model::ExportId;

    #[test]
    fn units() {
        let text = "[Unit]\nDescription=Tickets\n[Container]\nImage=registry.example/tickets\nPublishPort=8080:80\nPublishPort=x\n\
                    Volume=/run/podman/podman.sock:/s:ro\nPodmanArgs=--privileged --pid host --cap-add=SYS_ADMIN\n\
                    Environment=\"DB_PASSWORD=harbour\" MODE=a\nUserNS=auto\n[Install]\nWantedBy=default.target\n";
        for (path, engine) in [
            ("d/etc/containers/systemd/tickets.container", EngineKind::Podman),
            ("d/home/ann/.config/containers/systemd/tickets.container", EngineKind::RootlessPodman),
        ] {
            let export = Export::new(ExportId(0), path, text.into());
            assert_eq!((READER.recognise)(&export), Recognition::Content);
            let reading = read(&export, &ReadContext::default());
            let one = &reading.facts.containers[0];
            assert_eq!(
                (one.name.as_str(), one.engine, one.published.len(), one.remapped),
                ("tickets", engine, 1, true)
            );
            let rights: Vec<&HostRight> = one.rights.iter().map(|(right, _)| right).collect();
            assert_eq!(
                rights,
                [
                    &HostRight::EngineSocket,
                    &HostRight::Privileged,
                    &HostRight::HostProcesses,
                    &HostRight::Capability("SYS_ADMIN".into())
                ]
            );
            assert_eq!((reading.facts.secrets.len(), reading.ledger.notes.len()), (1, 1));
        }
    }
}
