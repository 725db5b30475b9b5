//! Settings of the point-to-point protocol daemon: option profiles and secrets files (pppd(8)).

use crate::written::Word;
use crate::{IpRange, MalformedAddress, Origin, SecretRecord, Setting};
use serde::{Deserialize, Serialize};
use std::sync::Arc;

/// Requirement for encryption inside the link in an options file (pppd(8), require-mppe).
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case")]
pub enum Mppe {
    /// Links without it are ended; keys of 40 bits are taken as well as of 128.
    Required,
    /// The same, with keys of 128 bits only.
    #[serde(rename = "required-128")]
    Required128,
    /// The same, with keys of 40 bits only.
    #[serde(rename = "required-40")]
    Required40,
    /// Used where the client wants it; links without it are accepted.
    Optional,
    /// Switched off.
    Off,
}

/// One file of pppd options.
///
/// `require_*` name the methods that a client must authenticate with. `refuse-*` is not included: it only limits how the daemon
/// authenticates itself to others (pppd(8)).
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case", deny_unknown_fields)]
pub struct PppProfile {
    /// Path of the export.
    pub path: String,
    /// The export's first line, to point at where nothing better is stated.
    pub origin: Origin,
    /// `name`: the local name that secrets files are searched for.
    pub name: Option<(String, Origin)>,
    /// `auth`, or any `require-` option, or `noauth`; the last one stated wins.
    pub auth: Option<(bool, Origin)>,
    /// Methods required of the peer: `pap`, `chap`, `mschap`, `mschap-v2`, `eap`.
    #[serde(deserialize_with = "crate::written::word::placed")]
    pub require: Vec<(Word, Origin)>,
    /// Encryption inside the link, where it is stated.
    pub mppe: Option<(Mppe, Origin)>,
    /// Keys of 40 bits are forbidden (`nomppe-40`), which by itself requires nothing.
    pub no_mppe_40: bool,
    /// Seconds without traffic after which a link is ended (`idle`).
    pub idle: Option<(u32, Origin)>,
    /// Seconds after which a link is ended in any case (`maxconnect`).
    pub max_connect: Option<(u32, Origin)>,
    /// `login`: the system's password database is asked as well.
    pub login: Option<Origin>,
    /// `plugin` file names.
    pub plugins: Vec<(String, Origin)>,
    /// `proxyarp` (true) or `noproxyarp` (false).
    pub proxy_arp: Option<(bool, Origin)>,
    /// `ms-dns`: DNS servers pushed to clients.
    pub name_servers: Vec<(IpRange, Origin)>,
    /// `ms-wins`: NetBIOS name servers pushed to clients, as text.
    pub netbios: Vec<(String, Origin)>,
    /// `local:remote` addresses.
    pub remote_address: Option<(IpRange, Origin)>,
    /// `file`/`call` references that are not in the export set.
    pub missing: Vec<(String, Origin)>,
    /// Malformed addresses.
    pub malformed: Vec<MalformedAddress>,
}

impl PppProfile {
    /// A profile with nothing stated.
    #[must_use]
    pub fn new(path: &str, origin: Origin) -> Self {
        Self {
            path: path.into(),
            origin,
            name: None,
            auth: None,
            require: Vec::new(),
            mppe: None,
            no_mppe_40: false,
            idle: None,
            max_connect: None,
            login: None,
            plugins: Vec::new(),
            proxy_arp: None,
            name_servers: Vec::new(),
            netbios: Vec::new(),
            remote_address: None,
            missing: Vec::new(),
            malformed: Vec::new(),
        }
    }

    /// Required encryption of the link, whatever the order of its options.
    #[must_use]
    pub fn encryption(&self) -> Option<(Mppe, Origin)> {
        match self.mppe {
            Some((Mppe::Required, origin)) if self.no_mppe_40 => Some((Mppe::Required128, origin)),
            other => other,
        }
    }

    /// This profile with `later` read after it, as the daemon reads one file after another.
    #[must_use]
    pub fn followed_by(mut self, later: &Self) -> Self {
        self.origin = later.origin;
        self.path.clone_from(&later.path);
        if later.name.is_some() {
            self.name.clone_from(&later.name);
        }
        self.auth = later.auth.or(self.auth);
        self.mppe = later.mppe.or(self.mppe);
        self.no_mppe_40 |= later.no_mppe_40;
        self.idle = later.idle.or(self.idle);
        self.max_connect = later.max_connect.or(self.max_connect);
        self.login = later.login.or(self.login);
        self.proxy_arp = later.proxy_arp.or(self.proxy_arp);
        self.remote_address = later.remote_address.or(self.remote_address);
        self.require.extend(later.require.iter().copied());
        self.plugins.extend(later.plugins.iter().cloned());
        self.name_servers.extend(later.name_servers.iter().copied());
        self.netbios.extend(later.netbios.iter().cloned());
        self.missing.extend(later.missing.iter().cloned());
        self.malformed.extend(later.malformed.iter().cloned());
        self
    }
}

/// The secrets file that contains a line.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case")]
pub enum SecretsFile {
    /// `chap-secrets`: CHAP, MS-CHAP and EAP-MD5.
    Chap,
    /// `pap-secrets`: PAP.
    Pap,
}

/// Addresses a client may use, from the fourth column on.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case")]
pub enum AllowedAddresses {
    /// Not stated, or `-`: no address is permitted, so the client cannot log in. Such lines are for outgoing connections.
    None,
    /// `*`.
    Any,
    /// These, each with its place.
    Listed(Vec<(IpRange, Origin)>),
}

/// One line of a secrets file.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case", deny_unknown_fields)]
pub struct Credential {
    /// Which file.
    #[serde(rename = "list")]
    pub file: SecretsFile,
    /// Path of the file.
    pub path: String,
    /// First column.
    pub client: String,
    /// Second column.
    pub server: String,
    /// Third column, unless empty or kept elsewhere.
    pub secret: Setting<Option<Arc<SecretRecord>>>,
    /// Fourth and later columns.
    pub addresses: AllowedAddresses,
    /// Malformed addresses.
    pub malformed: Vec<MalformedAddress>,
    /// The line.
    pub origin: Origin,
}
