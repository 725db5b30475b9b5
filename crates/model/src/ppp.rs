//! What the point-to-point protocol daemon is told: option profiles and secrets files (pppd(8)).

use crate::{HeldSecret, IpRange, MalformedAddress, Origin, Setting};
use std::sync::Arc;

/// One file of pppd options.
///
/// `require_*` name what a caller must prove itself with. `refuse-*` is no part of this: it only limits how the
/// daemon proves itself to others (pppd(8)).
#[derive(Debug, Clone)]
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
    pub require: Vec<(&'static str, Origin)>,
    /// `login`: the system's password database is asked as well.
    pub login: Option<Origin>,
    /// `plugin` file names.
    pub plugins: Vec<(String, Origin)>,
    /// `proxyarp` (true) or `noproxyarp` (false).
    pub proxy_arp: Option<(bool, Origin)>,
    /// `ms-dns` name servers handed out.
    pub name_servers: Vec<(IpRange, Origin)>,
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
            login: None,
            plugins: Vec::new(),
            proxy_arp: None,
            name_servers: Vec::new(),
            remote_address: None,
            missing: Vec::new(),
            malformed: Vec::new(),
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
        self.login = later.login.or(self.login);
        self.proxy_arp = later.proxy_arp.or(self.proxy_arp);
        self.remote_address = later.remote_address.or(self.remote_address);
        self.require.extend(later.require.iter().copied());
        self.plugins.extend(later.plugins.iter().cloned());
        self.name_servers.extend(later.name_servers.iter().copied());
        self.missing.extend(later.missing.iter().cloned());
        self.malformed.extend(later.malformed.iter().cloned());
        self
    }
}

/// Which secrets file a line stands in.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub enum SecretsFile {
    /// `chap-secrets`: CHAP, MS-CHAP and EAP-MD5.
    Chap,
    /// `pap-secrets`: PAP.
    Pap,
}

/// Addresses a client may use, from the fourth column on.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum AllowedAddresses {
    /// Nothing stated, or `-`: the client may use none, so it cannot come in. Such lines serve for dialling out.
    None,
    /// `*`.
    Any,
    /// These, each with its place.
    Listed(Vec<(IpRange, Origin)>),
}

/// One line of a secrets file.
#[derive(Debug, Clone)]
pub struct Credential {
    /// Which file.
    pub file: SecretsFile,
    /// Path of the file.
    pub path: String,
    /// First column.
    pub client: String,
    /// Second column.
    pub server: String,
    /// Third column, unless empty or kept elsewhere.
    pub secret: Setting<Option<Arc<HeldSecret>>>,
    /// Fourth and later columns.
    pub addresses: AllowedAddresses,
    /// Malformed addresses.
    pub malformed: Vec<MalformedAddress>,
    /// The line.
    pub origin: Origin,
}
