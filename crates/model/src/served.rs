//! Services of a device besides tunnels and SSH: shares, pages, databases, disks, names, time. The files of every daemon become the same
//! record, so that one check judges them all.
//!
//! Long because one record has a field for every property in the files of twenty daemons.

use crate::IpRangeSet;
use crate::certificate::CertificateFile;
use crate::offer::Offer;
use crate::written::{Word, Words};
use crate::{Families, Family, IpRange, Origin, Protocol, Setting};
use serde::{Deserialize, Serialize};
use std::net::IpAddr;

/// Program of a service that a device sheet states, where no screen shows one.
pub const APPLIANCE: &str = "appliance";

/// Kind of service.
#[derive(
    Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize, strum::IntoStaticStr,
)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case")]
#[strum(serialize_all = "kebab-case")]
pub enum ServedKind {
    /// Shares of the SMB protocol.
    Shares,
    /// Exports of the NFS protocol.
    Exports,
    /// Modules of rsync.
    Modules,
    /// Folders by FTP.
    Transfers,
    /// Disks by iSCSI.
    Disks,
    /// Values of a device by SNMP.
    Monitoring,
    /// Pages by HTTP.
    Pages,
    /// Connections that are handed on as they are.
    Relays,
    /// Databases.
    Databases,
    /// A cache or store in memory.
    Cache,
    /// A broker of messages.
    Broker,
    /// Names by DNS.
    Names,
    /// The time by NTP.
    Time,
    /// Log messages of other devices.
    Logs,
    /// A screen of another computer.
    RemoteDesktop,
    /// A command line by Telnet.
    Telnet,
    /// Commands to a container engine.
    Containers,
    /// Mail: taken on, handed on, or fetched.
    Mail,
    /// A directory of accounts (LDAP).
    Directory,
    /// Connections to other servers, made for clients (HTTP proxy, SOCKS, TURN).
    Proxies,
    /// Values of a device for a monitoring server, by a protocol of its own.
    Agents,
    /// Whatever is known by its port only.
    Other,
}

impl ServedKind {
    /// The word for it in written facts and in keys.
    #[must_use]
    pub fn code(self) -> &'static str {
        self.into()
    }

    /// The kind in words, as a service.
    #[must_use]
    pub fn words(self) -> &'static str {
        match self {
            Self::Shares => "SMB server",
            Self::Exports => "NFS server",
            Self::Modules => "rsync server",
            Self::Transfers => "FTP server",
            Self::Disks => "iSCSI target",
            Self::Monitoring => "SNMP agent",
            Self::Pages => "web server",
            Self::Relays => "relay",
            Self::Databases => "database",
            Self::Cache => "cache",
            Self::Broker => "message broker",
            Self::Names => "DNS server",
            Self::Time => "NTP server",
            Self::Logs => "syslog server",
            Self::RemoteDesktop => "remote desktop",
            Self::Telnet => "Telnet server",
            Self::Containers => "container engine",
            Self::Mail => "mail server",
            Self::Directory => "directory server",
            Self::Proxies => "proxy",
            Self::Agents => "monitoring agent",
            Self::Other => "service",
        }
    }

    /// Several services of the kind that one program offers at the same port.
    #[must_use]
    pub fn plural(self) -> &'static str {
        match self {
            Self::Shares => "SMB servers",
            Self::Exports => "NFS exports",
            Self::Modules => "rsync servers",
            Self::Transfers => "FTP servers",
            Self::Disks => "iSCSI targets",
            Self::Monitoring => "SNMP agents",
            Self::Pages => "web sites",
            Self::Relays => "relays",
            Self::Databases => "databases",
            Self::Cache => "caches",
            Self::Broker => "message brokers",
            Self::Names => "DNS zones",
            Self::Time => "NTP servers",
            Self::Logs => "syslog servers",
            Self::RemoteDesktop => "remote desktops",
            Self::Telnet => "Telnet servers",
            Self::Containers => "container engines",
            Self::Mail => "mail servers",
            Self::Directory => "directory servers",
            Self::Proxies => "proxies",
            Self::Agents => "monitoring agents",
            Self::Other => "services",
        }
    }

    /// Whether its parts are files or disks.
    #[must_use]
    pub fn holds_files(self) -> bool {
        matches!(self, Self::Shares | Self::Exports | Self::Modules | Self::Transfers | Self::Disks)
    }
}

/// Whether a connection is encrypted.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case")]
pub enum TransportSecurity {
    /// It never is.
    Plain,
    /// At the client's choice.
    Optional,
    /// It always is.
    Encrypted,
}

/// Where a service listens.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case", deny_unknown_fields)]
pub struct Endpoint {
    /// Transport protocol.
    pub protocol: Protocol,
    /// Address; `None` for every one.
    pub address: Option<IpAddr>,
    /// IP versions.
    #[serde(with = "crate::written::both")]
    #[cfg_attr(feature = "schema", schemars(with = "Option<Families>"))]
    pub families: Families,
    /// Interface, where it is bound to one.
    pub interface: Option<String>,
    /// Port.
    pub port: u16,
    /// Whether what passes is encrypted.
    pub carried: TransportSecurity,
    /// Whether another service answers at the same port, distinguished by names or paths.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub shared: bool,
    /// The line; for a default the line of the service.
    pub origin: Origin,
}

impl Endpoint {
    /// A place at every address.
    #[must_use]
    pub fn everywhere(protocol: Protocol, port: u16, carried: TransportSecurity, origin: Origin) -> Self {
        Self {
            protocol,
            address: None,
            families: Families::Both,
            interface: None,
            port,
            carried,
            shared: false,
            origin,
        }
    }

    /// The same at one address; the unspecified address means all of its version.
    #[must_use]
    pub fn at(self, address: IpAddr) -> Self {
        if address.is_unspecified() {
            Self { families: Family::of(address).into(), ..self }
        } else {
            Self { address: Some(address), families: Family::of(address).into(), ..self }
        }
    }

    /// The same for connections that are handed on as they are: without TLS here, the client may use it with the server behind.
    #[must_use]
    pub fn as_relay(self) -> Self {
        let carried = match self.carried {
            TransportSecurity::Encrypted => TransportSecurity::Encrypted,
            _ => TransportSecurity::Optional,
        };
        Self { carried, ..self }
    }

    /// Whether only the device itself reaches it.
    #[must_use]
    pub fn is_local(&self) -> bool {
        self.address.is_some_and(|address| address.is_loopback()) || self.interface.as_deref() == Some("lo")
    }
}

/// From where something may be used.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case", deny_unknown_fields)]
pub struct Sources {
    /// Addresses.
    pub ranges: Vec<IpRange>,
    /// Entries that only DNS or a directory resolves to addresses: host names, patterns, netgroups.
    pub names: Vec<String>,
    /// Lines that limit it; none where nothing does.
    #[serde(rename = "limited")]
    pub origins: Vec<Origin>,
}

/// Clients that a daemon accepts by lists, such as `hosts.allow` and `hosts.deny` (hosts_access(5)).
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case", deny_unknown_fields)]
pub struct ClientLists {
    /// The clients, with the lines that limit them.
    pub sources: Sources,
    /// Whether the program is known to consult the lists: it may be built without libwrap.
    pub certain: bool,
}

impl ClientLists {
    /// The request for whether a daemon consults the lists.
    #[must_use]
    pub fn question(&self, daemon: &str) -> String {
        format!(
            "please provide `/etc/os-release` or the output of `ldd` for `{daemon}`: only where it is built with libwrap do `hosts.allow` and `hosts.deny` limit its clients"
        )
    }
}

impl Sources {
    /// Every address.
    #[must_use]
    pub fn everybody() -> Self {
        let ranges = vec![IpRange::all(Family::V4), IpRange::all(Family::V6)];
        Self { ranges, names: Vec::new(), origins: Vec::new() }
    }

    /// These addresses.
    #[must_use]
    pub fn of(ranges: Vec<IpRange>, origins: Vec<Origin>) -> Self {
        Self { ranges, names: Vec::new(), origins }
    }

    /// Whether no client is included.
    #[must_use]
    pub fn is_nobody(&self) -> bool {
        self.ranges.is_empty() && self.names.is_empty()
    }

    /// Whether half of all addresses of an IP version or more are included.
    #[must_use]
    pub fn is_everybody(&self) -> bool {
        [Family::V4, Family::V6].into_iter().any(|family| {
            let own = self.ranges.iter().filter(|range| range.family() == family);
            crate::sets::total_addresses(own) >= IpRange::all(family).size() / 2
        })
    }

    /// Whether only the device itself is included.
    #[must_use]
    pub fn is_local(&self) -> bool {
        self.names.iter().all(|name| name == "localhost")
            && !self.is_nobody()
            && self.ranges.iter().all(|range| range.first().is_loopback())
    }

    /// Whether an address is among them.
    #[must_use]
    pub fn contains(&self, address: IpAddr) -> bool {
        self.ranges.iter().any(|range| range.contains(address))
    }

    /// Each address range and name as written.
    pub fn each(&self) -> impl Iterator<Item = String> + '_ {
        self.ranges.iter().map(|range| range.short()).chain(self.names.iter().cloned())
    }

    /// Without these addresses.
    #[must_use]
    pub fn without(mut self, gone: &[IpRange]) -> Self {
        if !gone.is_empty() {
            self.ranges = crate::sets::addresses_without(&self.ranges, gone);
        }
        self
    }

    /// Clients that both permit. Names are kept where the other side permits every address; otherwise they cannot be compared and are kept
    /// as well, since they may be permitted addresses.
    #[must_use]
    pub fn and(&self, other: &Self) -> Self {
        /// More pairs than this are not looked at one by one: then ranges that touch become one.
        const MOST_PAIRS: usize = 4096;
        let ranges: Vec<IpRange> = if self.ranges.len() * other.ranges.len() > MOST_PAIRS {
            let own: IpRangeSet = self.ranges.iter().copied().collect();
            own.intersection(&other.ranges).into_ranges()
        } else {
            let meet = |one: &IpRange| {
                other.ranges.iter().filter_map(|two| one.intersection(two)).collect::<Vec<_>>()
            };
            self.ranges.iter().flat_map(meet).collect()
        };
        let mut names = self.names.clone();
        names.extend(other.names.iter().filter(|name| !self.names.contains(name)).cloned());
        let mut origins = self.origins.clone();
        origins.extend(other.origins.iter().filter(|one| !self.origins.contains(one)));
        Self { ranges, names, origins }
    }

    /// Description in words: `any`, or the first few ranges and names.
    #[must_use]
    pub fn words(&self) -> String {
        const MOST: usize = 4;
        if self.is_everybody() {
            return "any address".into();
        }
        if self.is_nobody() {
            return "no address".into();
        }
        // The device itself is implied where others are permitted.
        let others = self.ranges.iter().any(|range| !range.first().is_loopback()) || !self.names.is_empty();
        let ranges = self.ranges.iter().filter(|range| !others || !range.first().is_loopback());
        let all: Vec<String> = ranges.map(IpRange::short).chain(self.names.iter().cloned()).collect();
        match all.len().saturating_sub(MOST) {
            0 => all.join(", "),
            rest => format!("{} and {rest} more", all[..MOST].join(", ")),
        }
    }
}

/// Authentication required before a resource may be used.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case")]
pub enum AuthRequirement {
    /// Nothing.
    Nothing,
    /// A trusted source address; the client's own host asserts the user.
    Address,
    /// A word that travels as it is (SNMP community).
    Community,
    /// A password.
    Password,
    /// A password or ticket checked without showing it (CHAP, SCRAM, Kerberos).
    Proof,
    /// A certificate.
    Certificate,
    /// A password, and a one-time code or another second factor.
    PasswordAndCode,
    /// No client is accepted.
    Refused,
}

impl AuthRequirement {
    /// In words, after "requires".
    #[must_use]
    pub fn words(self) -> &'static str {
        match self {
            Self::Nothing => "nothing",
            Self::Address => "a trusted address",
            Self::Community => "an SNMP community string",
            Self::Password => "a password",
            Self::Proof => "a login",
            Self::Certificate => "a certificate",
            Self::PasswordAndCode => "a password and a second factor",
            Self::Refused => "access refused",
        }
    }
}

/// Whether a protection is used.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case")]
pub enum Requirement {
    /// Never.
    Never,
    /// At the other end's choice.
    Offered,
    /// Always, or there is no connection.
    Required,
}

/// Further property of a resource.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case")]
pub enum Remark {
    /// Root of a client keeps root rights (exports(5), no_root_squash), or users are mapped to root.
    RootKept,
    /// Clients may use ports that any of their users can open (exports(5), insecure).
    AnyPort,
    /// The server lists a folder's contents to any client.
    Listing,
    /// Requests with `..` behind its name leave its folder.
    LeavesFolder,
    /// It shows how the server is doing.
    Status,
    /// It is for looking after the server or the device.
    Administration,
    /// Requests are passed to another server.
    HandedOn,
    /// Everything is sent to another place with TLS.
    Redirect,
    /// Some are sent to another place with TLS, on a condition that is not followed.
    RedirectSometimes,
    /// Any machine that names itself may use the disk.
    AnyInitiator,
    /// Only the client proves who it is.
    OneSided,
    /// A password goes over the network as it is, unless the connection is encrypted.
    ClearPassword,
    /// A password is proved by MD5, whose stored form is as good as the password (RFC 1321; RFC 6151).
    Md5Password,
    /// It may change settings.
    Commands,
    /// Recursive queries are answered.
    Recursion,
    /// Connections to any port of other servers are made.
    AnyTarget,
}

/// Kind of resource.
#[derive(
    Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize, strum::IntoStaticStr,
)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case")]
#[strum(serialize_all = "kebab-case")]
pub enum PartKind {
    /// A share.
    Share,
    /// An export.
    Export,
    /// A module.
    Module,
    /// A folder that FTP shows.
    Folder,
    /// A target with its disks.
    Target,
    /// A community of SNMP.
    Community,
    /// A user of SNMP.
    User,
    /// Pages below a path.
    Page,
    /// A rule of who may open which database.
    Rule,
    /// Mail to other domains, without a login; connections to other servers.
    Relaying,
    /// Entries of a directory.
    Entries,
    /// Passwords of a directory's users, as it stores them.
    PasswordHashes,
    /// The user's own entry of a directory: attributes that decide what the account may do.
    OwnAccount,
    /// Everything that the service holds.
    Whole,
}

impl PartKind {
    /// The word for it in written facts and in keys.
    #[must_use]
    pub fn code(self) -> &'static str {
        self.into()
    }

    /// The kind in words.
    #[must_use]
    pub fn words(self) -> &'static str {
        match self {
            Self::Share => "share",
            Self::Export => "export",
            Self::Module => "module",
            Self::Folder => "folder",
            Self::Target => "target",
            Self::Community => "community",
            Self::User => "user",
            Self::Page => "page",
            Self::Rule => "rule",
            Self::Relaying => "relaying",
            Self::Entries => "entries",
            Self::PasswordHashes => "password hashes",
            Self::OwnAccount => "own account",
            Self::Whole => "service",
        }
    }
}

/// One resource of a service, with access rules of its own.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case", deny_unknown_fields)]
pub struct ServiceResource {
    /// Kind.
    pub kind: PartKind,
    /// Name; that of a community is left out, as it is a secret.
    pub name: String,
    /// Its own name in its file, where the other is one for people; none where it has none.
    pub label: Option<String>,
    /// Folder or device behind it.
    pub path: Option<String>,
    /// From where.
    #[serde(with = "crate::written::everybody")]
    #[cfg_attr(feature = "schema", schemars(with = "Option<Sources>"))]
    pub sources: Sources,
    /// Weakest authentication that is accepted.
    pub login: Setting<AuthRequirement>,
    /// Who may, where it is limited to some by name.
    pub users: Vec<String>,
    /// Whether the least privileged permitted client may write.
    pub writes: Setting<bool>,
    /// Whether messages are signed, where the protocol can; `None` where it cannot or the service as a whole decides.
    pub signing: Option<Setting<Requirement>>,
    /// Whether the content is encrypted, where the protocol can by itself.
    pub encryption: Option<Setting<Requirement>>,
    /// Further properties, with the line that states each.
    pub remarks: Vec<(Remark, Origin)>,
    /// The file that lists its accounts, by its path, with the line that names it.
    pub accounts: Option<(String, Origin)>,
    /// What lets clients in without a login that is set up.
    pub bypass: Option<LoginBypass>,
    /// The line to point at.
    pub origin: Origin,
}

/// A condition that lets clients in without the login that is set up, and that any client meets.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case", deny_unknown_fields)]
pub struct LoginBypass {
    /// Kind.
    pub kind: BypassKind,
    /// The line that demands the login.
    pub login_origin: Origin,
    /// The line that lets clients in without it.
    pub origin: Origin,
}

/// Kind of a [`LoginBypass`].
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case")]
pub enum BypassKind {
    /// A section within another takes the login away.
    Section,
    /// One of several conditions is enough, and any client meets another than the login.
    Condition,
}

impl ServiceResource {
    /// The same with its own name in its file.
    #[must_use]
    pub fn labelled(mut self, label: impl Into<String>) -> Self {
        self.label = Some(label.into()).filter(|label| !label.is_empty());
        self
    }

    /// Its name in its file: the label where there is one; otherwise its name, except for the whole service.
    #[must_use]
    pub fn own_name(&self) -> &str {
        let named = if self.kind == PartKind::Whole { "" } else { &self.name };
        self.label.as_deref().unwrap_or(named)
    }

    /// A resource that is open to any address, has no known login, and is read-only.
    #[must_use]
    pub fn new(kind: PartKind, name: impl Into<String>, origin: Origin) -> Self {
        Self {
            kind,
            name: name.into(),
            label: None,
            path: None,
            sources: Sources::everybody(),
            login: Setting::Unknown { why: "authentication required".into() },
            users: Vec::new(),
            writes: Setting::Stated { value: false, origin },
            signing: None,
            encryption: None,
            remarks: Vec::new(),
            accounts: None,
            bypass: None,
            origin,
        }
    }

    /// The line of a remark, where it holds.
    #[must_use]
    pub fn remark(&self, wanted: Remark) -> Option<Origin> {
        self.remarks.iter().find(|(remark, _)| *remark == wanted).map(|(_, origin)| *origin)
    }

    /// Whether the least privileged permitted client may write, as far as that is certain.
    #[must_use]
    pub fn is_written(&self) -> bool {
        self.writes.value() == Some(&true)
    }

    /// Whether it certainly requires no authentication.
    #[must_use]
    pub fn asks_nothing(&self) -> bool {
        self.login.value() == Some(&AuthRequirement::Nothing)
    }

    /// Name for use in a sentence.
    #[must_use]
    pub fn title(&self) -> String {
        match self.kind {
            PartKind::Whole => self.name.clone(),
            kind if self.name.is_empty() => kind.words().to_owned(),
            kind => format!("{} {}", kind.words(), self.name),
        }
    }

    /// Its own line with those that decide who may use it.
    #[must_use]
    pub fn lines(&self) -> Vec<Origin> {
        let mut lines = vec![self.origin];
        lines.extend(self.login.origin().into_iter().chain(self.sources.origins.iter().copied()));
        let mut seen = Vec::new();
        lines.retain(|line| {
            !seen.contains(line) && {
                seen.push(*line);
                true
            }
        });
        lines
    }
}

/// A service, as its files have it.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case", deny_unknown_fields)]
pub struct Served {
    /// Kind.
    pub kind: ServedKind,
    /// The program.
    #[serde(deserialize_with = "crate::written::word::one")]
    pub program: Word,
    /// Name for people.
    pub name: String,
    /// Its own name in its file, such as that of a site; none where it has none.
    pub label: Option<String>,
    /// Units of systemd that start it, without `.service`.
    #[serde(deserialize_with = "crate::written::word::each")]
    pub units: Words,
    /// Where it listens.
    pub endpoints: Vec<Endpoint>,
    /// Its resources.
    pub parts: Vec<ServiceResource>,
    /// Versions and algorithms that may be agreed on.
    pub offers: Vec<Offer>,
    /// Certificates that it shows.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub certificates: Vec<CertificateFile>,
    /// Names by which its clients call it, as they are configured.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub host_names: Vec<String>,
    /// Information that the exports do not contain, with the line that raises the request.
    pub open: Vec<(String, Origin)>,
    /// Settings that let clients in by outdated or unsafe means.
    #[serde(default)]
    pub weaknesses: Vec<(ServiceWeakness, Origin)>,
    /// Why the program would not start, where that is known.
    pub refused: Option<(String, Origin)>,
    /// The line to point at.
    pub origin: Origin,
}

/// A setting by which a service lets clients in by outdated or unsafe means.
#[derive(
    Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize, strum::IntoStaticStr,
)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case")]
#[strum(serialize_all = "kebab-case")]
pub enum ServiceWeakness {
    /// LAN Manager hashes are accepted (smb.conf(5), lanman auth).
    Lanman,
    /// NTLM version 1 is accepted (smb.conf(5), ntlm auth).
    NtlmOne,
    /// Accounts without a password are accepted (smb.conf(5), null passwords).
    NullPasswords,
    /// Passwords travel as they are (smb.conf(5), encrypt passwords).
    ClearPasswords,
    /// A domain controller accepts Netlogon without a protected channel (smb.conf(5), server schannel).
    OpenNetlogon,
    /// Links made by clients lead out of the share (smb.conf(5), allow insecure wide links).
    WideLinks,
    /// Root logs in with its password (mod_auth of ProFTPD, RootLogin).
    RootLogin,
    /// Keys that prove DNS requests use HMAC-MD5 (RFC 8945, 6).
    Md5Keys,
    /// A login with a name and an empty password succeeds as one without a name (RFC 4513, 5.1.2; slapd.conf(5), allow bind_anon_dn).
    EmptyPassword,
    /// LDAP version 2 is accepted (RFC 3494; slapd.conf(5), allow bind_v2).
    LdapTwo,
    /// New accounts of a realm need no proof of their password before a ticket that reveals it to guessing (kdc.conf(5), default_principal_flags).
    NoPreauthentication,
}

impl Served {
    /// A service with nothing known of it yet.
    #[must_use]
    pub fn new(
        kind: ServedKind,
        program: &'static str,
        name: impl Into<String>,
        units: &'static [&'static str],
        origin: Origin,
    ) -> Self {
        Self {
            kind,
            program,
            name: name.into(),
            label: None,
            units,
            endpoints: Vec::new(),
            parts: Vec::new(),
            offers: Vec::new(),
            certificates: Vec::new(),
            host_names: Vec::new(),
            open: Vec::new(),
            weaknesses: Vec::new(),
            refused: None,
            origin,
        }
    }

    /// The same with its own name in its file.
    #[must_use]
    pub fn labelled(mut self, label: impl Into<String>) -> Self {
        self.label = Some(label.into()).filter(|label| !label.is_empty());
        self
    }

    /// Whether only the device itself reaches it.
    #[must_use]
    pub fn is_local(&self) -> bool {
        !self.endpoints.is_empty() && self.endpoints.iter().all(Endpoint::is_local)
    }

    /// The widest of how its connections may be carried beyond the device; `None` where it does not listen there.
    #[must_use]
    pub fn carried(&self) -> Option<TransportSecurity> {
        self.endpoints.iter().filter(|one| !one.is_local()).map(|one| one.carried).min()
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::ExportId;

    fn ranges(texts: &[&str]) -> Vec<IpRange> {
        texts.iter().map(|text| text.parse::<ipnet::IpNet>().unwrap().into()).collect()
    }

    #[test]
    fn sources() {
        let line = Origin { export: ExportId(0), start: 0, end: 1 };
        let of = |texts: &[&str]| Sources::of(ranges(texts), vec![line]);
        assert!(Sources::everybody().is_everybody() && of(&["0.0.0.0/1"]).is_everybody());
        assert!(!of(&["10.0.0.0/8", "192.168.0.0/16"]).is_everybody());
        assert!(of(&["127.0.0.0/8", "::1/128"]).is_local() && !of(&[]).is_local());
        assert_eq!(of(&["10.4.0.0/24"]).and(&of(&["10.4.0.0/16", "10.5.0.0/16"])).words(), "10.4.0.0/24");
        assert_eq!(of(&["10.4.0.0/31"]).without(&ranges(&["10.4.0.1/32"])).words(), "10.4.0.0");
        assert_eq!(of(&[]).words(), "no address");
        let many = of(&["10.1.0.0/16", "10.3.0.0/16", "10.5.0.0/16", "10.7.0.0/16", "10.9.0.0/16"]);
        assert_eq!(many.words(), "10.1.0.0/16, 10.3.0.0/16, 10.5.0.0/16, 10.7.0.0/16 and 1 more");
    }

    #[test]
    fn the_least_protected_endpoint_beyond_the_device_counts() {
        let line = Origin { export: ExportId(0), start: 0, end: 1 };
        let at = |port, carried| Endpoint::everywhere(Protocol::TCP, port, carried, line);
        let mut served = Served::new(ServedKind::Pages, "x", "x", &[], line);
        assert_eq!(served.carried(), None);
        served.endpoints.push(at(80, TransportSecurity::Plain).at(IpAddr::from([127, 0, 0, 1])));
        assert!(served.is_local());
        served.endpoints.push(at(443, TransportSecurity::Encrypted).at(IpAddr::from([0, 0, 0, 0])));
        assert_eq!(served.carried(), Some(TransportSecurity::Encrypted));
        assert_eq!((served.endpoints[1].address, served.endpoints[1].families), (None, Families::V4));
    }
}
