//! The facts that readers extract.

use crate::TunnelFamily;
use crate::account::{Account, ShadowEntry, UserGroup};
use crate::certificate::{Certificate, DhParameters, PrivateKey, UnreadableBlock};
use crate::cloud::CloudRelay;
use crate::container::{Container, ContainerEngine};
use crate::dhcp::DhcpServer;
use crate::grant::ServicePermission;
use crate::housekeeping::{ClockKeeper, LogKeeper, Radio, SwitchedOff, Unit};
use crate::ike::PreSharedKey;
use crate::kernel::KernelSetting;
use crate::listen::{DynamicName, PortMapper, Socket};
use crate::login_guard::{LockoutSettings, LoginGuard};
use crate::login_source::{LoginSource, NameService};
use crate::outgoing::OutgoingCopy;
use crate::pam::{AccessRule, PamService};
use crate::plan::{AddressPlan, Placed};
use crate::radius::{
    EapSettings, RadiusClient, RadiusEntry, RadiusSecurity, RadiusSite, RadiusTarget, RadiusUpstream,
};
use crate::relay::Relay;
use crate::secret::SecretKind;
use crate::served::Served;
use crate::ssh::SshServer;
use crate::ssh_key::SshKey;
use crate::sudo::{SudoDefault, SudoRule};
use crate::{
    Credential, Described, DeviceKind, Filter, FilterChange, Interface, Login, MalformedAddress, Origin,
    PortForward, PossibleAddress, PppProfile, Reference, Route, SecretRecord, Tunnel,
};
use serde::{Deserialize, Serialize};
use std::sync::Arc;

/// Something an export states that Trevlin cannot judge yet. Checks that depend on it answer undetermined.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case", deny_unknown_fields)]
pub struct NotAnalysed {
    /// Name, as a phrase ("an nftables ruleset").
    pub what: String,
    /// The protocol of a server that it may start, where a missing setting leaves that open.
    pub may_serve: Option<TunnelFamily>,
    /// Whether it may decide about packets.
    pub filters_packets: bool,
    /// Whether it is a separate rule list besides the analysed ones.
    pub apart: bool,
    /// Whether its only possible effect on a packet is to block it, so that blocked packets stay blocked.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub only_blocks: bool,
    /// Its place.
    pub origin: Origin,
}

impl NotAnalysed {
    /// Something that affects packets besides the analysed lists, as a phrase.
    #[must_use]
    pub fn beside(what: impl Into<String>, origin: Origin) -> Self {
        Self {
            what: what.into(),
            may_serve: None,
            filters_packets: true,
            apart: true,
            only_blocks: false,
            origin,
        }
    }
}

/// Facts of one export, or of a whole device once put together.
#[derive(Debug, Clone, Default)]
pub struct Facts {
    /// Name of the device according to a device sheet.
    pub said_name: Option<String>,
    /// Kind of the device according to a device sheet.
    pub said_kind: Option<DeviceKind>,
    /// How the settings of an appliance are described, where they are. Settings that the description does not state are open.
    pub described: Option<Described>,
    /// Interfaces.
    pub interfaces: Vec<Interface>,
    /// Whether interfaces were exported at all (an empty list is not the same as none).
    pub has_interfaces: bool,
    /// Routes.
    pub routes: Vec<Route>,
    /// Interfaces according to the boot configuration. They are kept separate from the running state until the device is assembled.
    pub stored_interfaces: Vec<Interface>,
    /// Routes as such files have them.
    pub stored_routes: Vec<Route>,
    /// DNS servers that the device itself uses.
    pub name_servers: Vec<Placed>,
    /// DHCP servers.
    pub dhcp_servers: Vec<DhcpServer>,
    /// Addresses in files about interfaces that are none.
    pub malformed: Vec<MalformedAddress>,
    /// Filter and translation tables.
    pub filters: Vec<Filter>,
    /// Commands of scripts that change such tables, before the device is assembled.
    pub filter_changes: Vec<FilterChange>,
    /// Port forwards found in them.
    pub forwards: Vec<PortForward>,
    /// Settings of the kernel.
    pub kernel: Vec<KernelSetting>,
    /// Listening sockets.
    pub sockets: Vec<Socket>,
    /// Whether sockets were exported at all.
    pub has_sockets: bool,
    /// Services that open ports for hosts which ask.
    pub port_mappers: Vec<PortMapper>,
    /// Names under which the device publishes its address.
    pub dynamic_names: Vec<DynamicName>,
    /// Services: shares, pages, databases and the like.
    pub served: Vec<Served>,
    /// Servers to which services hand on connections or requests.
    pub relays: Vec<Relay>,
    /// Logging programs.
    pub log_keepers: Vec<LogKeeper>,
    /// Programs that keep the clock.
    pub clock_keepers: Vec<ClockKeeper>,
    /// Wi-Fi networks.
    pub radios: Vec<Radio>,
    /// Units of systemd.
    pub units: Vec<Unit>,
    /// Tunnels.
    pub tunnels: Vec<Tunnel>,
    /// SSH servers.
    pub ssh_servers: Vec<SshServer>,
    /// Public keys of the SSH.
    pub ssh_keys: Vec<SshKey>,
    /// Users that may run commands as another user, in the order of the rules.
    pub sudo_rules: Vec<SudoRule>,
    /// Defaults of these rules for users, in their order.
    pub sudo_defaults: Vec<SudoDefault>,
    /// Accounts.
    pub accounts: Vec<Account>,
    /// Their password hashes, where they are kept apart.
    pub shadow: Vec<ShadowEntry>,
    /// Groups of accounts.
    pub groups: Vec<UserGroup>,
    /// Stacks of authentication modules.
    pub pam_services: Vec<PamService>,
    /// Lists of who may log in from where, which modules of such stacks use.
    pub access_rules: Vec<AccessRule>,
    /// Clients of RADIUS servers.
    pub radius_clients: Vec<RadiusClient>,
    /// Servers that RADIUS requests are handed on to.
    pub radius_upstreams: Vec<RadiusUpstream>,
    /// RADIUS servers that services of the device ask.
    pub radius_targets: Vec<RadiusTarget>,
    /// Entries of a RADIUS server's user file.
    pub radius_entries: Vec<RadiusEntry>,
    /// Virtual servers of a RADIUS server, with the modules they run.
    pub radius_sites: Vec<RadiusSite>,
    /// EAP modules of a RADIUS server.
    pub eap_settings: Vec<EapSettings>,
    /// Settings of a RADIUS server as a whole.
    pub radius_security: Vec<RadiusSecurity>,
    /// pppd option files.
    pub ppp_profiles: Vec<PppProfile>,
    /// pppd secrets.
    pub credentials: Vec<Credential>,
    /// Keys for IKE.
    pub pre_shared_keys: Vec<PreSharedKey>,
    /// Logins from lists that belong to one service.
    pub logins: Vec<Login>,
    /// Relays of providers by which the device is reached.
    pub cloud_relays: Vec<CloudRelay>,
    /// Copies of its data that the device sends elsewhere.
    pub outgoing_copies: Vec<OutgoingCopy>,
    /// Containers.
    pub containers: Vec<Container>,
    /// Engines that run them.
    pub engines: Vec<ContainerEngine>,
    /// Programs that ban addresses after failed logins.
    pub login_guards: Vec<LoginGuard>,
    /// Settings of the module that locks accounts after failed logins.
    pub lockout_settings: Vec<LockoutSettings>,
    /// Systems elsewhere that accounts come from, or that prove their passwords.
    pub login_sources: Vec<LoginSource>,
    /// Systems that accounts, names and other entries come from.
    pub name_services: Vec<NameService>,
    /// Protections that are configured and switched off.
    pub switched_off: Vec<SwitchedOff>,
    /// Permissions to use services.
    pub permissions: Vec<ServicePermission>,
    /// Certificates.
    pub certificates: Vec<Certificate>,
    /// Private keys.
    pub private_keys: Vec<PrivateKey>,
    /// Every secret the export holds, for redaction and for comparing.
    pub secrets: Vec<Arc<SecretRecord>>,
    /// Secrets that lines announce without being settings that a reader takes: for masking alone, never judged.
    pub announced: Vec<Arc<SecretRecord>>,
    /// Places that may hold a piece of a secret and are masked wherever a line is shown.
    pub masked_places: Vec<Origin>,
    /// Addresses that the device may have, in statements that were not understood.
    pub possible_addresses: Vec<PossibleAddress>,
    /// Files that others read in and that are not among the exports.
    pub missing: Vec<Reference>,
    /// Blocks that should be certificates or private keys and cannot be read.
    pub unreadable_blocks: Vec<UnreadableBlock>,
    /// Parameters for key exchanges, in files of their own.
    pub dh_parameters: Vec<DhParameters>,
    /// Entries of a sheet that state their file of the device, with its path.
    pub files: Vec<(Origin, String)>,
    /// Statements that were not analysed.
    pub not_analysed: Vec<NotAnalysed>,
    /// Whether the interfaces of a whole device are those that run, and not those of its boot configuration.
    pub interfaces_run: bool,
    /// Tunnels of a whole device that nothing starts: they are not among its tunnels.
    pub idle_tunnels: Vec<IdleTunnel>,
    /// Stored packet filters of a whole device whose unit is off, with the unit: they are not among its filters.
    pub idle_filters: Vec<(Filter, Unit)>,
    /// Programs of a whole device whose unit is off: they are not in the other lists.
    pub idle_programs: Vec<IdleProgram>,
}

/// A program that is configured and not started.
#[derive(Debug, Clone)]
pub struct IdleProgram {
    /// What it would do.
    pub configured: IdleConfiguration,
    /// The unit that shows it, disabled or masked.
    pub unit: Unit,
}

/// Configuration of a program that is not started.
#[derive(Debug, Clone)]
pub enum IdleConfiguration {
    /// A SSH server.
    Ssh(SshServer),
    /// A DHCP server.
    Dhcp(DhcpServer),
    /// A RADIUS server, with the line to point at.
    Radius(Origin),
    /// A service that opens ports on request.
    PortMapper(PortMapper),
    /// A client that publishes the device's address.
    DynamicName(DynamicName),
    /// A logging program.
    Log(LogKeeper),
    /// A program that keeps the clock.
    Clock(ClockKeeper),
    /// A Wi-Fi network.
    Radio(Radio),
}

/// A tunnel that is configured and not started.
#[derive(Debug, Clone)]
pub struct IdleTunnel {
    /// The tunnel.
    pub tunnel: Tunnel,
    /// Why nothing starts it.
    pub why: IdleReason,
}

/// Why nothing starts a tunnel.
#[derive(Debug, Clone)]
pub enum IdleReason {
    /// The unit that shows it, disabled or masked, or the one that is started in its place.
    Unit(Unit),
    /// No program reads its file, because of the file's name.
    Retired,
    /// The configuration in force of its daemon does not include its file.
    NotIncluded,
    /// It is the profile of a client of the device's own tunnels, made for another machine.
    Profile,
}

/// Runs a macro over every list of facts.
macro_rules! each_list {
    ($run:ident) => {
        $run! {
            interfaces routes stored_interfaces stored_routes name_servers dhcp_servers malformed filters filter_changes
            forwards kernel sockets port_mappers dynamic_names served relays log_keepers clock_keepers radios
            units tunnels ssh_servers ssh_keys sudo_rules sudo_defaults accounts shadow groups pam_services access_rules
            radius_clients radius_upstreams radius_targets radius_entries radius_sites eap_settings
            radius_security ppp_profiles credentials pre_shared_keys logins permissions cloud_relays outgoing_copies containers engines login_guards lockout_settings login_sources name_services switched_off certificates private_keys
            secrets announced masked_places possible_addresses missing unreadable_blocks dh_parameters files not_analysed
        }
    };
}

impl Facts {
    /// Tunnels that their daemon would start with.
    pub fn running(&self) -> impl Iterator<Item = &Tunnel> {
        self.tunnels.iter().filter(|tunnel| tunnel.refused.is_none())
    }

    /// The same with the profiles that are kept for clients: what they offer and accept is what those machines use.
    pub fn with_profiles(&self) -> impl Iterator<Item = &Tunnel> {
        let profiles = self.idle_tunnels.iter().filter(|one| matches!(one.why, IdleReason::Profile));
        self.running().chain(profiles.map(|one| &one.tunnel).filter(|tunnel| tunnel.refused.is_none()))
    }

    /// Private keys of WireGuard among the secrets, each behind the public key that belongs to it. Deriving that takes long.
    pub fn wireguard_keys(&self) -> impl Iterator<Item = (String, &SecretRecord)> {
        let keys = self.secrets.iter().filter(|one| one.kind == SecretKind::PrivateKey);
        keys.filter_map(|one| Some((one.secret.wireguard_public_key()?, &**one)))
    }

    /// Every secret to be masked: those that readers hold, and those that lines announce.
    pub fn to_mask(&self) -> impl Iterator<Item = &Arc<SecretRecord>> {
        self.secrets.iter().chain(&self.announced)
    }

    /// The address plan of every tunnel, with its name. Configurations that a daemon would refuse to start with are left out.
    pub fn plans(&self) -> impl Iterator<Item = (&str, &AddressPlan)> {
        self.running().map(|tunnel| (tunnel.name.as_str(), &tunnel.addresses))
    }

    /// The same including configurations that a daemon would refuse to start with, often because of a malformed address.
    pub fn every_plan(&self) -> impl Iterator<Item = (&str, &AddressPlan)> {
        self.tunnels.iter().map(|tunnel| (tunnel.name.as_str(), &tunnel.addresses))
    }

    /// The facts of several exports, in their order. No list has more room than it needs.
    #[must_use]
    pub fn joined(all: Vec<Self>) -> Self {
        let mut joined = Self::default();
        macro_rules! reserve {
            ($($list:ident)*) => {
                $(joined.$list.reserve_exact(all.iter().map(|one| one.$list.len()).sum());)*
            };
        }
        each_list!(reserve);
        all.into_iter().for_each(|one| joined.absorb(one));
        joined
    }

    /// Adds the facts of another export. Large lists are moved once, however often facts are added.
    pub fn absorb(&mut self, other: Self) {
        self.said_name = self.said_name.take().or(other.said_name);
        self.said_kind = self.said_kind.or(other.said_kind);
        self.described = match (self.described, other.described) {
            (Some(one), Some(other)) => Some(one.min(other)),
            (one, other) => one.or(other),
        };
        self.has_interfaces |= other.has_interfaces;
        self.has_sockets |= other.has_sockets;
        macro_rules! take {
            ($($list:ident)*) => {
                $(if self.$list.capacity() == 0 {
                    self.$list = other.$list;
                } else {
                    self.$list.extend(other.$list);
                })*
            };
        }
        each_list!(take);
        self.idle_tunnels.extend(other.idle_tunnels);
        self.idle_filters.extend(other.idle_filters);
        self.idle_programs.extend(other.idle_programs);
    }
}

/// Runs a macro over every list of facts that a device sheet can hold: field, and the section's name. Left out are lists that
/// follow from others.
#[macro_export]
macro_rules! each_section {
    ($run:ident) => {
        $run! {
            interfaces = "interfaces",
            routes = "routes",
            stored_interfaces = "stored-interfaces",
            stored_routes = "stored-routes",
            name_servers = "name-servers",
            dhcp_servers = "dhcp-servers",
            malformed = "malformed",
            filters = "filters",
            filter_changes = "filter-changes",
            kernel = "kernel",
            sockets = "sockets",
            port_mappers = "port-mappers",
            dynamic_names = "dynamic-names",
            served = "services",
            relays = "relays",
            log_keepers = "log-keepers",
            clock_keepers = "clock-keepers",
            radios = "radios",
            units = "units",
            tunnels = "tunnels",
            ssh_servers = "ssh-servers",
            ssh_keys = "ssh-keys",
            sudo_rules = "sudo-rules",
            sudo_defaults = "sudo-defaults",
            accounts = "accounts",
            shadow = "shadow",
            groups = "groups",
            pam_services = "pam-services",
            access_rules = "access-rules",
            radius_clients = "radius-clients",
            radius_upstreams = "radius-upstreams",
            radius_targets = "radius-targets",
            radius_entries = "radius-entries",
            radius_sites = "radius-sites",
            eap_settings = "eap-settings",
            radius_security = "radius-security",
            ppp_profiles = "ppp-profiles",
            credentials = "ppp-secrets",
            pre_shared_keys = "ike-keys",
            logins = "logins",
            permissions = "permissions",
            cloud_relays = "cloud-relays",
            outgoing_copies = "outgoing-copies",
            containers = "containers",
            engines = "container-engines",
            login_guards = "login-guards",
            lockout_settings = "lockout-settings",
            login_sources = "login-sources",
            name_services = "name-services",
            switched_off = "switched-off",
            certificates = "certificates",
            private_keys = "private-keys",
            missing = "missing",
            not_analysed = "not-analysed",
        }
    };
}
