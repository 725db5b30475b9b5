//! Tunnels that accept clients or connect sites.

use crate::certificate::{CertificateFile, CertificateUse};
use crate::described::Described;
use crate::ipsec::IpsecConnection;
use crate::offer::Offer;
use crate::plan::AddressPlan;
use crate::policy::{ClientPolicy, Demand};
use crate::wireguard::WireGuardPeer;
use crate::{Origin, Protocol, Setting};
use serde::{Deserialize, Serialize};
use std::net::IpAddr;

/// Protocol family.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case")]
pub enum TunnelFamily {
    /// Point-to-point tunnelling protocol, RFC 2637.
    Pptp,
    /// OpenVPN's TLS-based tunnel.
    #[serde(rename = "openvpn")]
    OpenVpn,
    /// A TLS-based tunnel of an appliance with a client of its own, or with a browser.
    Tls,
    /// The TLS-based tunnel of OpenConnect and its server.
    #[serde(rename = "openconnect")]
    OpenConnect,
    /// A connection of IKE and IPsec.
    Ipsec,
    /// The layer two tunnelling protocol, RFC 2661.
    L2tp,
    /// WireGuard.
    #[serde(rename = "wireguard")]
    WireGuard,
    /// Generic routing encapsulation, RFC 2784: nothing is encrypted.
    Gre,
    /// IP in IP, RFC 2003 and its kin: nothing is encrypted.
    IpInIp,
    /// Virtual extensible LAN, RFC 7348: nothing is encrypted.
    Vxlan,
    /// A TLS relay: one port handed on to another through TLS.
    TlsRelay,
    /// Ports handed on through the SSH.
    SshForward,
}

impl TunnelFamily {
    /// Whether it wraps packets without encrypting anything itself.
    #[must_use]
    pub fn encrypts_nothing(self) -> bool {
        matches!(self, Self::Gre | Self::IpInIp | Self::Vxlan)
    }

    /// The family's name as people write it.
    #[must_use]
    pub fn name(self) -> &'static str {
        match self {
            Self::Pptp => "PPTP",
            Self::OpenVpn => "OpenVPN",
            Self::Tls => "TLS VPN",
            Self::OpenConnect => "OpenConnect",
            Self::Ipsec => "IPsec",
            Self::L2tp => "L2TP",
            Self::WireGuard => "WireGuard",
            Self::Gre => "GRE",
            Self::IpInIp => "IP in IP",
            Self::Vxlan => "VXLAN",
            Self::TlsRelay => "TLS relay",
            Self::SshForward => "SSH forward",
        }
    }
}

/// Role of the device in the tunnel.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case")]
pub enum TunnelRole {
    /// Accepts clients.
    Server,
    /// Calls a server.
    Client,
    /// One of two configured ends.
    PointToPoint,
}

/// Where a service answers.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case", deny_unknown_fields)]
pub struct Listener {
    /// Transport protocol.
    pub protocol: Protocol,
    /// Address it is bound to; `None` as a value means every address.
    #[serde(with = "crate::written::bound")]
    #[cfg_attr(feature = "schema", schemars(with = "Setting<String>"))]
    pub address: Setting<Option<IpAddr>>,
    /// Port.
    pub port: Setting<u16>,
}

impl Listener {
    /// Whether only the device itself can reach it.
    #[must_use]
    pub fn loopback_only(&self) -> bool {
        matches!(self.address.value(), Some(Some(address)) if address.is_loopback())
    }
}

/// Whether a client certificate is required.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case")]
pub enum CertificateRequirement {
    /// Clients without one are rejected.
    Required,
    /// Requested, but clients without one are accepted.
    Optional,
    /// Not requested.
    NotAsked,
}

/// The service that verifies a client's password.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case")]
pub enum PasswordSource {
    /// A list of names and passwords among the exports' files.
    LocalList(String),
    /// The same, with a one-time code in addition.
    LocalListAndCode(String),
    /// The system's accounts, through this PAM service.
    Pam(String),
    /// A RADIUS server.
    Radius,
    /// A directory.
    Directory,
    /// An identity provider that the client's browser is redirected to.
    IdentityProvider,
    /// The secrets that the daemon itself keeps, as those of IKE.
    OwnSecrets,
    /// A program.
    Script,
    /// A plug-in whose decision the exports do not show, by file name.
    PlugIn(String),
    /// A management program connected to the daemon.
    Management,
}

impl PasswordSource {
    /// The list of names and passwords that it is: its path, or its name on an appliance.
    #[must_use]
    pub fn list(&self) -> Option<&str> {
        match self {
            Self::LocalList(list) | Self::LocalListAndCode(list) => Some(list),
            _ => None,
        }
    }
}

/// A password is required, and a service verifies it.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case", deny_unknown_fields)]
pub struct PasswordCheck {
    /// Who decides.
    pub source: PasswordSource,
    /// Whether clients without a password are accepted as well.
    pub optional: bool,
    /// The line.
    pub origin: Origin,
}

/// An alternative login path, sufficient on its own.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case", deny_unknown_fields)]
pub struct AlternativeLogin {
    /// Whether a client certificate is required.
    pub certificate: bool,
    /// Required passwords.
    pub passwords: Vec<PasswordCheck>,
    /// The line.
    pub origin: Origin,
}

/// Authentication of VPN clients.
#[derive(Debug, Clone, Default, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case", deny_unknown_fields)]
pub struct ClientAuthentication {
    /// Client certificate; `None` where the protocol has none.
    pub certificate: Option<Setting<CertificateRequirement>>,
    /// Required passwords.
    pub passwords: Vec<PasswordCheck>,
    /// Alternative login paths, each sufficient on its own.
    pub alternatives: Vec<AlternativeLogin>,
    /// A key that both ends share, in place of logins.
    pub shared_key: Option<Origin>,
    /// How revoked certificates of clients are recognised, where anything is set for it.
    pub revocation: Option<Revocation>,
}

/// The source from which a server learns of revoked certificates: a list (RFC 5280, 5) or a responder (RFC 6960).
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case", deny_unknown_fields)]
pub struct Revocation {
    /// Whether a certificate is refused where neither is at hand.
    pub strict: bool,
    /// The line.
    pub origin: Origin,
}

/// Something that this tunnel's configuration refers to and that no export holds.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case", deny_unknown_fields)]
pub struct Reference {
    /// As written.
    pub path: String,
    /// Whether the missing part is configuration, so that settings judged here may be others in truth.
    pub configuration: bool,
    /// Where this is not a file, but information that the description of an appliance does not contain: the form of that description.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub unsaid: Option<Described>,
    /// The line.
    pub origin: Origin,
}

impl Reference {
    /// A part of the configuration in a file that no export contains.
    #[must_use]
    pub fn configuration(path: impl Into<String>, origin: Origin) -> Self {
        Self { path: path.into(), configuration: true, unsaid: None, origin }
    }

    /// Information that the description of an appliance does not contain, besides the statement at a line.
    #[must_use]
    pub fn unsaid(described: Described, origin: Origin) -> Self {
        Self { unsaid: Some(described), ..Self::configuration(described.silent(), origin) }
    }

    /// The first of several that is not a file, but information that the description of an appliance leaves open.
    #[must_use]
    pub fn left_open(all: &[Self]) -> Option<&Self> {
        all.iter().find(|one| one.unsaid.is_some())
    }

    /// The request for information that the reference may contain; `about` continues a sentence, as "whether NAME requires it".
    #[must_use]
    pub fn question(&self, about: &str) -> String {
        if let Some(described) = self.unsaid {
            return described.request(about);
        }
        format!("Please provide `{}`: it may decide {about}, and is not among the exports.", self.path)
    }
}

/// A tunnel.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case", deny_unknown_fields)]
pub struct Tunnel {
    /// Name within the device.
    pub name: String,
    /// Protocol family.
    pub family: TunnelFamily,
    /// Role of the device.
    pub role: TunnelRole,
    /// The line to point at.
    pub origin: Origin,
    /// Why the daemon would refuse to start with this configuration, where it would.
    pub refused: Option<(String, Origin)>,
    /// Where it answers; empty for a client.
    pub listeners: Vec<Listener>,
    /// Authentication of clients.
    pub proof: ClientAuthentication,
    /// Algorithms that may be negotiated, by part.
    pub offers: Vec<Offer>,
    /// Addresses assigned to clients, and the networks behind the tunnel.
    pub addresses: AddressPlan,
    /// Options file for the link daemon, where there is one.
    pub options_file: Option<Setting<String>>,
    /// Name the secrets files are searched for.
    pub local_name: Option<Setting<String>>,
    /// The link daemon assigns addresses itself.
    pub delegates_addresses: Option<Origin>,
    /// Certificates it names or holds.
    pub certificates: Vec<CertificateFile>,
    /// References to missing files.
    pub missing: Vec<Reference>,
    /// Settings read that later checks judge: directive and value, last one wins where the daemon has it so.
    pub settings: Vec<(String, Setting<String>)>,
    /// The interface of this end, where its addresses are stated separately from the tunnel.
    pub interface: Option<String>,
    /// Settings of IKE and IPsec.
    pub ipsec: Option<Box<IpsecConnection>>,
    /// Settings of WireGuard.
    pub peers: Vec<WireGuardPeer>,
    /// Rules for its clients, as a sheet states them.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub policy: Option<Box<ClientPolicy>>,
}

impl Tunnel {
    /// The certificates for a purpose that it names or holds; of an IPsec connection those of the rounds of the side that has them.
    pub fn certificates_for(&self, purpose: CertificateUse) -> impl Iterator<Item = &CertificateFile> {
        let rounds = self.ipsec.as_deref().map(|ipsec| match purpose {
            CertificateUse::Own => &ipsec.local,
            CertificateUse::Authority => &ipsec.remote,
        });
        let of_rounds = rounds.into_iter().flatten().flat_map(|round| &round.certificates);
        self.certificates.iter().chain(of_rounds).filter(move |file| file.purpose == purpose)
    }

    /// Whether it encrypts nothing: by its protocol, or as OpenVPN does without TLS and without a key.
    #[must_use]
    pub fn encrypts_nothing(&self) -> bool {
        self.family.encrypts_nothing()
            || self.family == TunnelFamily::OpenVpn
                && self.role == TunnelRole::PointToPoint
                && self.offers.is_empty()
                && self.proof.shared_key.is_none()
    }

    /// The kind of tunnel, as it precedes a name: `OpenVPN server`, `IPsec connection`.
    #[must_use]
    pub fn kind_name(&self) -> String {
        let noun = match self.role {
            TunnelRole::Server => "server",
            TunnelRole::Client => "client",
            TunnelRole::PointToPoint if self.family == TunnelFamily::Ipsec => "connection",
            TunnelRole::PointToPoint => "tunnel",
        };
        format!("{} {noun}", self.family.name())
    }

    /// A tunnel of which nothing but its name, protocol and role is known yet.
    #[must_use]
    pub fn new(name: impl Into<String>, family: TunnelFamily, role: TunnelRole, origin: Origin) -> Self {
        Self {
            name: name.into(),
            family,
            role,
            origin,
            refused: None,
            listeners: Vec::new(),
            proof: ClientAuthentication::default(),
            offers: Vec::new(),
            addresses: AddressPlan::default(),
            options_file: None,
            local_name: None,
            delegates_addresses: None,
            certificates: Vec::new(),
            missing: Vec::new(),
            settings: Vec::new(),
            interface: None,
            ipsec: None,
            peers: Vec::new(),
            policy: None,
        }
    }

    /// A setting that is stated, by its directive, with its line; of several the last one.
    #[must_use]
    pub fn stated(&self, directive: &str) -> Option<(&str, Origin)> {
        self.setting(directive)?.stated().map(|(value, origin)| (value.as_str(), origin))
    }

    /// A setting that was read, by its directive; of several the last one.
    #[must_use]
    pub fn setting(&self, directive: &str) -> Option<&Setting<String>> {
        self.settings.iter().rev().find(|(name, _)| name == directive).map(|(_, setting)| setting)
    }

    /// A part of its configuration that no export holds, so that settings judged here may be others in truth.
    #[must_use]
    pub fn missing_configuration(&self) -> Option<&Reference> {
        self.missing.iter().find(|one| one.configuration)
    }

    /// The first missing file; information that only a device sheet leaves out is not included.
    #[must_use]
    pub fn missing_file(&self) -> Option<&Reference> {
        self.missing.iter().find(|one| one.configuration && one.unsaid.is_none())
    }

    /// A rule for its clients that a sheet states, or that was looked for and is on no screen.
    #[must_use]
    pub fn rule<T>(&self, of: impl Fn(&ClientPolicy) -> &Option<Setting<T>>) -> Option<&Setting<T>> {
        self.policy.as_deref().and_then(|policy| of(policy).as_ref())
    }

    /// The line that makes a one-time code, or another second factor, a condition of every login.
    #[must_use]
    pub fn code_required(&self) -> Option<Origin> {
        let stated = self.rule(|policy| &policy.one_time_code)?.stated();
        stated.filter(|(demand, _)| **demand == Demand::Required).map(|(_, origin)| origin)
    }

    /// The line that states that a login needs no second factor.
    #[must_use]
    pub fn code_not_required(&self) -> Option<Origin> {
        let stated = self.rule(|policy| &policy.one_time_code)?.stated();
        stated.filter(|(demand, _)| **demand != Demand::Required).map(|(_, origin)| origin)
    }

    /// Whether the other end must show a certificate on the main login path.
    #[must_use]
    pub fn requires_certificate(&self) -> bool {
        self.proof.certificate.as_ref().and_then(Setting::value) == Some(&CertificateRequirement::Required)
    }

    /// Whether it must on every login path, so that nothing can be tried without one.
    #[must_use]
    pub fn always_requires_certificate(&self) -> bool {
        self.requires_certificate() && self.proof.alternatives.iter().all(|way| way.certificate)
    }

    /// Whether clients other than the device itself are accepted.
    #[must_use]
    pub fn accepts_clients(&self) -> bool {
        self.role == TunnelRole::Server
            && self.refused.is_none()
            && (self.listeners.is_empty() || !self.listeners.iter().all(Listener::loopback_only))
    }
}
