//! Containers, and the engines that run them.

use crate::{ExportState, Origin, PortRange, Protocol, Setting};
use ipnet::IpNet;
use serde::{Deserialize, Serialize};
use std::net::IpAddr;

/// Which engine runs a container: they differ in how published ports get to it.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case")]
pub enum EngineKind {
    /// Docker.
    Docker,
    /// Podman as root.
    Podman,
    /// Podman of a user: its published ports are sockets of the user's process.
    RootlessPodman,
}

impl EngineKind {
    /// Its name.
    #[must_use]
    pub fn words(self) -> &'static str {
        match self {
            Self::Docker => "Docker",
            Self::Podman | Self::RootlessPodman => "Podman",
        }
    }
}

/// A container, as it is configured or as it runs.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case", deny_unknown_fields)]
pub struct Container {
    /// Its name; for a service of a project the name of the service.
    pub name: String,
    /// The project that it belongs to.
    pub project: Option<String>,
    /// The image, as written.
    pub image: Option<String>,
    /// The engine.
    pub engine: EngineKind,
    /// Stored or running.
    #[serde(with = "crate::written::stored")]
    #[cfg_attr(feature = "schema", schemars(with = "Option<ExportState>"))]
    pub state: ExportState,
    /// Ports of the host at which it is reached.
    #[serde(default)]
    pub published: Vec<PublishedPort>,
    /// Its addresses in networks of the engine, where the export shows them.
    #[serde(default)]
    pub addresses: Vec<IpAddr>,
    /// Rights on the host, each with its line.
    #[serde(default)]
    pub rights: Vec<(HostRight, Origin)>,
    /// The user of its first process; none where the image decides.
    pub user: Option<(String, Origin)>,
    /// Whether the user names of the container are others than those of the host.
    #[serde(default)]
    pub remapped: bool,
    /// Whether this adds to a container of the same name and project that another file describes.
    #[serde(default)]
    pub adds: bool,
    /// The line to point at.
    pub origin: Origin,
}

impl Container {
    /// Its name with that of its project.
    #[must_use]
    pub fn title(&self) -> String {
        match &self.project {
            Some(project) if *project != self.name => format!("{} of {project}", self.name),
            _ => self.name.clone(),
        }
    }

    /// Whether the engine publishes its ports by rules of the packet filter, and not by sockets of its own.
    #[must_use]
    pub fn is_published_by_rules(&self, engines: &[ContainerEngine]) -> bool {
        let told = engines.iter().find(|one| one.kind == self.engine);
        self.engine != EngineKind::RootlessPodman
            && told.is_none_or(|engine| engine.sets_rules.value() != Some(&false))
    }

    /// Whether it shares the network of the host.
    #[must_use]
    pub fn is_on_host_network(&self) -> bool {
        self.rights.iter().any(|(right, _)| *right == HostRight::HostNetwork)
    }
}

/// A port of the host that leads to a container.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case", deny_unknown_fields)]
pub struct PublishedPort {
    /// Transport protocol.
    pub protocol: Protocol,
    /// Address of the host; `None` for every one.
    pub address: Option<IpAddr>,
    /// Ports of the host.
    pub ports: PortRange,
    /// The first port of the container; the others follow.
    pub inner: u16,
    /// The line.
    pub origin: Origin,
}

/// A right of a container on its host.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case")]
pub enum HostRight {
    /// Every capability and every device.
    Privileged,
    /// The socket of the engine is inside.
    EngineSocket,
    /// The processes of the host are visible and can be entered.
    HostProcesses,
    /// The network of the host is its own.
    HostNetwork,
    /// A folder of the host is inside, and may be changed.
    WritableFolder(String),
    /// A folder of the host is inside, to be read.
    ReadableFolder(String),
    /// A capability is added.
    Capability(String),
    /// A confinement is switched off (seccomp, AppArmor, SELinux).
    Unconfined(String),
}

/// A pool that an engine divides into networks of one size.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case", deny_unknown_fields)]
pub struct NetworkPool {
    /// The whole.
    #[cfg_attr(feature = "schema", schemars(with = "String"))]
    pub base: IpNet,
    /// Length of the prefix of each network, in bits.
    pub size: u8,
}

/// An engine's settings.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case", deny_unknown_fields)]
pub struct ContainerEngine {
    /// Which one.
    pub kind: EngineKind,
    /// Whether it sets rules of the packet filter for published ports.
    pub sets_rules: Setting<bool>,
    /// The address of the host at which ports are published where none is named.
    pub default_address: Option<(IpAddr, Origin)>,
    /// Whether containers of a network reach each other by any port.
    pub containers_meet: Setting<bool>,
    /// Whether the users of containers are others than those of the host.
    pub remaps_users: Setting<bool>,
    /// Pools from which networks of containers are taken, as stated, in their order.
    #[serde(default)]
    pub pools: Vec<NetworkPool>,
    /// The network of containers that belong to no project, as stated.
    #[cfg_attr(feature = "schema", schemars(with = "Option<String>"))]
    pub bridge: Option<IpNet>,
    /// Registries to which it talks without checking who they are.
    #[serde(default)]
    pub plain_registries: Vec<(String, Origin)>,
    /// The line to point at.
    pub origin: Origin,
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::ExportId;

    #[test]
    fn titles() {
        let origin = Origin { export: ExportId(0), start: 0, end: 1 };
        let container = |name: &str, project: Option<&str>| Container {
            name: name.into(),
            project: project.map(str::to_owned),
            image: None,
            engine: EngineKind::Docker,
            state: ExportState::Stored,
            published: Vec::new(),
            addresses: Vec::new(),
            rights: vec![(HostRight::HostNetwork, origin)],
            user: None,
            remapped: false,
            adds: false,
            origin,
        };
        assert_eq!(container("db", Some("tickets")).title(), "db of tickets");
        assert_eq!(container("db", Some("db")).title(), "db");
        assert_eq!(container("db", None).title(), "db");
        assert!(container("db", None).is_on_host_network());
    }
}
