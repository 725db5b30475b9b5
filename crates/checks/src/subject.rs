//! Subject of an answer, as a key that stays the same in every run.

use std::fmt::Display;
use strum::IntoStaticStr;
use trevlin_analysis::services::{Service, What};
use trevlin_model::served::{PartKind, Served, ServiceResource, Sources};
use trevlin_model::{Device, Tunnel};

/// Subject of an answer: unique within check and device, and part of the fingerprint of a finding. It consists of kinds, of names as
/// written in the exports, and of values: never of a secret, a line number or a text for users, so that rewording does not change a
/// finding.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord)]
pub struct Subject {
    key: String,
    names: Vec<String>,
}

/// Kind of subject.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, IntoStaticStr)]
#[strum(serialize_all = "kebab-case")]
pub enum SubjectKind {
    /// An account of the system, by its name.
    Account,
    /// All accounts of the system.
    Accounts,
    /// An address, a range or several, with the owner of the allocation.
    Addresses,
    /// An entry for any user.
    AnyUser,
    /// Keys that open accounts.
    AuthorizedKeys,
    /// A certificate, by its subject and its file.
    Certificate,
    /// A chain of a packet filter, by its table.
    Chain,
    /// The clock.
    Clock,
    /// A relay of a provider, by its name.
    CloudRelay,
    /// A container, by its name.
    Container,
    /// The whole device.
    Device,
    /// A client of a service of dynamic names.
    DynamicName,
    /// EAP, as a RADIUS server has it.
    Eap,
    /// Requests for an echo.
    Echo,
    /// A file, by its path.
    File,
    /// A table of a packet filter.
    Filter,
    /// A port forward.
    Forward,
    /// A group of accounts, by its name.
    Group,
    /// A packet filter's hook.
    Hook,
    /// An intent of the estate file.
    Intent,
    /// An interface, by its name.
    Interface,
    /// All interfaces.
    Interfaces,
    /// A system that verifies the login to a tunnel and was not exported, by the tunnel's name.
    LoginDecider,
    /// A PAM stack, by its service.
    PamStack,
    /// The log.
    Log,
    /// A login, by its name and its service.
    Login,
    /// A system that accounts come from, or that proves their passwords, by its name.
    LoginSource,
    /// A named list of a packet filter.
    NamedSet,
    /// A permission of a service, by the service and its holder.
    Permission,
    /// A port, with its protocol.
    Port,
    /// A port mapping service.
    PortMapper,
    /// A pre-shared key, by its peers.
    PreSharedKey,
    /// All private keys.
    PrivateKeys,
    /// A client of a RADIUS server.
    RadiusClient,
    /// A RADIUS server that is asked.
    RadiusServer,
    /// A RADIUS server to which requests are handed on.
    RadiusUpstream,
    /// Entries of a RADIUS server's own list.
    RadiusUsers,
    /// A relay, by its program and the server behind it.
    Relay,
    /// Everything that is reached.
    Reached,
    /// A rule of a packet filter.
    Rule,
    /// A secret, by its kind and owner.
    Secret,
    /// Something that a device serves.
    Service,
    /// All that a device serves.
    Services,
    /// One resource of a service.
    ServicePart,
    /// A key of SSH.
    SshKey,
    /// An SSH server.
    SshServer,
    /// A protection that is switched off, by its kind and name.
    SwitchedOff,
    /// A rule of sudo.
    SudoRule,
    /// A tunnel, by its name.
    Tunnel,
    /// A Wi-Fi network, by its interface and name.
    Wifi,
}

/// Separator between the parts of a key; occurs in no name of a configuration.
const BETWEEN: char = '\u{1f}';

impl Subject {
    /// A thing of a kind.
    #[must_use]
    pub fn of(kind: SubjectKind) -> Self {
        Self { key: <&'static str>::from(kind).to_owned(), names: Vec::new() }
    }

    /// The same, distinguished by a name or a value.
    #[must_use]
    pub fn with(mut self, part: impl Display) -> Self {
        let part = part.to_string();
        self.key.push(BETWEEN);
        self.key.push_str(&part);
        self.names.push(part);
        self
    }

    /// A tunnel. Its name is the one by which estate files call it.
    #[must_use]
    pub fn tunnel(tunnel: &Tunnel) -> Self {
        Self::tunnel_named(&tunnel.name)
    }

    /// A tunnel, by its name.
    #[must_use]
    pub fn tunnel_named(name: &str) -> Self {
        Self::of(SubjectKind::Tunnel).with(name)
    }

    /// An SSH server.
    #[must_use]
    pub fn ssh() -> Self {
        Self::of(SubjectKind::SshServer)
    }

    /// Something that a device serves: by its kind, its program, and its name where it has one of its own.
    #[must_use]
    pub fn served(served: &Served) -> Self {
        Self::of(SubjectKind::Service)
            .with(served.kind.code())
            .with(served.program)
            .with(served.label.as_deref().unwrap_or_default())
    }

    /// One resource of a service.
    #[must_use]
    pub fn part(served: &Served, part: &ServiceResource) -> Self {
        let port = served.endpoints.first().map(|one| one.port.to_string()).unwrap_or_default();
        let named = Self::of(SubjectKind::ServicePart)
            .with(served.kind.code())
            .with(served.program)
            .with(served.label.as_deref().unwrap_or_default())
            .with(port)
            .with(part.kind.code())
            .with(part.own_name());
        // One zone may be had as a whole, and changed.
        match part.kind == PartKind::Whole && part.is_written() {
            true => named.with("written"),
            false => named,
        }
    }

    /// The service at a port of a device.
    #[must_use]
    pub fn service(device: &Device, service: &Service) -> Self {
        let facts = &device.facts;
        let of = Self::of(SubjectKind::Service);
        let named = match service.what {
            What::Shell(_) => Self::ssh(),
            What::Tunnel(number) => Self::tunnel(&facts.tunnels[number]),
            What::TunnelManagement(number) => Self::tunnel(&facts.tunnels[number]).with("management"),
            What::Radius => Self::of(SubjectKind::RadiusServer),
            What::Dhcp(number) => of.with("dhcp").with(&facts.dhcp_servers[number].name),
            What::PortMapper(_) => Self::of(SubjectKind::PortMapper),
            // Several sites at one place are one service.
            What::Served(number, kind) => of.with(kind.code()).with(facts.served[number].program),
            What::Relay(number) => of.with("relay").with(facts.relays[number].program),
            What::Socket => of.with("socket"),
            What::Container(_) => of.with("container").with(&service.name),
            What::Idle(_) => of.with("idle").with(&service.name),
        };
        named.with(service.endpoint())
    }

    /// The same for some sources alone.
    #[must_use]
    pub fn limited_to(self, sources: &Sources) -> Self {
        let ranges = sources.ranges.iter().map(ToString::to_string);
        self.with(ranges.chain(sources.names.iter().cloned()).collect::<Vec<_>>().join(" "))
    }

    /// The key.
    #[must_use]
    pub fn key(&self) -> &str {
        &self.key
    }

    /// Names and values that distinguish it from others of its kind, as written in the exports.
    pub fn names(&self) -> impl Iterator<Item = &str> {
        self.names.iter().map(String::as_str)
    }
}
