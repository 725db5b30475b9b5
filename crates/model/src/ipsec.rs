//! Connections of IKE and IPsec: authentication of both ends, and proposals (RFC 7296; RFC 2409 for IKEv1).

use crate::certificate::CertificateFile;
use crate::plan::Placed;
use crate::{Origin, Setting};
use serde::{Deserialize, Serialize};
use std::net::IpAddr;

/// The daemon that a configuration is written for.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case")]
pub enum IkeDaemon {
    /// strongSwan's charon.
    #[serde(rename = "strongswan")]
    StrongSwan,
    /// Libreswan's pluto.
    Libreswan,
    /// One that is not known by name, of an appliance.
    Appliance,
}

impl IkeDaemon {
    /// A line of its configuration, as the end of a sentence about what to write; nothing where its language is not known.
    #[must_use]
    pub fn advice(self, strongswan: &str, libreswan: &str) -> String {
        match self {
            Self::StrongSwan => format!(" Setting: `{strongswan}`."),
            Self::Libreswan => format!(" Setting: `{libreswan}`."),
            Self::Appliance => String::new(),
        }
    }

    /// The program's name.
    #[must_use]
    pub fn name(self) -> &'static str {
        match self {
            Self::StrongSwan => "strongSwan",
            Self::Libreswan => "Libreswan",
            Self::Appliance => "the appliance",
        }
    }
}

/// Versions of IKE that a connection takes.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case")]
pub enum IkeVersions {
    /// Version 1 (RFC 2409), historic since RFC 9395.
    First,
    /// Version 2 (RFC 7296).
    Second,
    /// Either; version 2 where this end begins.
    Both,
}

/// How one side proves itself in one round.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case")]
pub enum IkeProof {
    /// A certificate or a raw public key.
    PublicKey,
    /// A key that both ends share.
    SharedKey,
    /// EAP by a method ("mschapv2", "tls", "radius"); empty where none is named.
    Eap(String),
    /// The login of version 1 on top of another proof, by a back end.
    Xauth(String),
    /// Nothing at all (RFC 7619).
    Nothing,
    /// Whatever the daemon has a way to check.
    Anything,
}

impl IkeProof {
    /// The proof in a few words.
    #[must_use]
    pub fn words(&self) -> String {
        match self {
            Self::PublicKey => "certificate".into(),
            Self::SharedKey => "shared key".into(),
            Self::Eap(method) if method.is_empty() => "EAP".into(),
            Self::Eap(method) => format!("EAP-{}", method.to_ascii_uppercase()),
            Self::Xauth(_) => "XAuth".into(),
            Self::Nothing => "nothing".into(),
            Self::Anything => "anything".into(),
        }
    }
}

/// One round of authentication of one side.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case", deny_unknown_fields)]
pub struct AuthRound {
    /// How it proves itself.
    pub proof: Setting<IkeProof>,
    /// Its identity, as written; `None` where any is accepted or the address is used.
    pub identity: Option<(String, Origin)>,
    /// Limits on accepted certificates besides the identity: a pinned certificate or key, an authority, a group.
    pub narrowed: Option<Origin>,
    /// Certificates that the connection names for this side: its own, or the authority that signs them.
    pub certificates: Vec<CertificateFile>,
}

impl AuthRound {
    /// Whether any identity is taken from this side (swanctl.conf(5), `id`: `%any` by default).
    #[must_use]
    pub fn anybody(&self) -> bool {
        // Words stand for what a certificate or an address says by itself.
        self.identity.as_ref().is_none_or(|(name, _)| name == "*" || name.starts_with('%'))
    }
}

impl AuthRound {
    /// Whether several peers can have the identity: any is accepted, or it is a pattern such as `*@example.org` or `CN=*`.
    #[must_use]
    pub fn admits_several(&self) -> bool {
        self.anybody() || self.identity.as_ref().is_some_and(|(name, _)| name.contains('*'))
    }

    /// Whether a user logs in by this round: EAP, or XAuth of version 1.
    #[must_use]
    pub fn is_login(&self) -> bool {
        self.proof.possible().any(|proof| matches!(proof, IkeProof::Eap(_) | IkeProof::Xauth(_)))
    }
}

/// Mode of a child.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case")]
pub enum ChildMode {
    /// Whole packets are wrapped.
    Tunnel,
    /// Packets are encapsulated; the other modes without an outer header count as well.
    Transport,
    /// Packets pass without IPsec.
    Pass,
    /// Packets are dropped.
    Drop,
}

impl ChildMode {
    /// How outputs, and the daemon's own listing, call it.
    #[must_use]
    pub fn word(self) -> &'static str {
        match self {
            Self::Tunnel => "TUNNEL",
            Self::Transport => "TRANSPORT",
            Self::Pass => "PASS",
            Self::Drop => "DROP",
        }
    }
}

/// Traffic selectors of one side of a child.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case", deny_unknown_fields)]
pub struct Selectors {
    /// Networks, each with its place.
    pub networks: Vec<Placed>,
    /// Selectors as written, one by one; `dynamic` where nothing is stated, for the end's own address.
    pub texts: Vec<String>,
    /// Where they are stated.
    pub origin: Option<Origin>,
}

/// Traffic selectors and proposals of a connection (a CHILD_SA of IKEv2, a phase 2 of IKEv1).
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case", deny_unknown_fields)]
pub struct Child {
    /// Name within the connection.
    pub name: String,
    /// This end.
    pub local: Selectors,
    /// The other end.
    pub remote: Selectors,
    /// Mode.
    pub mode: Setting<ChildMode>,
    /// Seconds until its keys are made anew; 0 for never.
    pub rekey: Setting<u64>,
    /// Compression before encryption (RFC 3173).
    pub compression: Option<Origin>,
    /// Whether a key exchange of its own is made for it where its proposals name none (Libreswan, `pfs`).
    pub forward_secrecy: Setting<bool>,
    /// Where a mark or the number of an interface decides which packets use it, beside its selectors: the line of it.
    #[serde(default)]
    pub by_interface_origin: Option<Origin>,
    /// Numbers of the tunnel's offers that are this child's.
    pub offers: Vec<usize>,
    /// The line to point at.
    pub origin: Origin,
}

/// The side of a tunnel that only IKE and IPsec have.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case", deny_unknown_fields)]
pub struct IpsecConnection {
    /// Name, as the configuration has it.
    pub name: String,
    /// Whose configuration.
    pub daemon: IkeDaemon,
    /// Whether the device's own addresses decide which of the two sides is local (ipsec.conf(5), left and right).
    pub sides_by_address: bool,
    /// Versions of IKE.
    pub versions: Setting<IkeVersions>,
    /// Aggressive mode of version 1, where it is on.
    pub aggressive: Option<Origin>,
    /// Addresses of this end as written; empty for any.
    pub local_addresses: Vec<(String, Origin)>,
    /// Addresses of the other end as written; empty for any.
    pub remote_addresses: Vec<(String, Origin)>,
    /// How this end proves itself.
    pub local: Vec<AuthRound>,
    /// Authentication that the other end must provide.
    pub remote: Vec<AuthRound>,
    /// Seconds until the keys of IKE are made anew, or its ends prove themselves anew.
    pub rekey: Setting<u64>,
    /// Seconds of silence after which the other end is asked whether it lives; 0 for never.
    pub liveness: Setting<u64>,
    /// A post-quantum pre-shared key is used in addition (RFC 8784), and whether it is mandatory.
    pub quantum_key: Option<(bool, Origin)>,
    /// Children.
    pub children: Vec<Child>,
}

impl Child {
    /// Whether it wraps packets, and does not only let them by or drop them.
    #[must_use]
    pub fn wraps(&self) -> bool {
        !matches!(self.mode.value(), Some(ChildMode::Pass | ChildMode::Drop))
    }
}

impl IpsecConnection {
    /// Whether it encapsulates packets, as opposed to bypass and drop policies.
    #[must_use]
    pub fn negotiates(&self) -> bool {
        self.children.is_empty() || self.children.iter().any(Child::wraps)
    }

    /// Whether one of the sides proves itself by a shared key.
    #[must_use]
    pub fn shared_key(&self) -> Option<&AuthRound> {
        let by_key = |round: &&AuthRound| round.proof.possible().any(|proof| *proof == IkeProof::SharedKey);
        self.remote.iter().find(by_key).or_else(|| self.local.iter().find(by_key))
    }

    /// Takes the other side for this end.
    pub fn turn(&mut self) {
        std::mem::swap(&mut self.local_addresses, &mut self.remote_addresses);
        std::mem::swap(&mut self.local, &mut self.remote);
        for child in &mut self.children {
            std::mem::swap(&mut child.local, &mut child.remote);
        }
    }

    /// Whether it only carries packets of one UDP port of this end, as the one around L2TP does (RFC 3193).
    #[must_use]
    pub fn carries_udp(&self, port: u16) -> bool {
        let names = |text: &String| {
            let inside = text.split_once('[').map_or("", |(_, rest)| rest.trim_end_matches(']'));
            inside.split_once('/').is_some_and(|(protocol, named)| {
                matches!(protocol, "udp" | "17")
                    && (named.parse() == Ok(port) || (port == 1701 && matches!(named, "l2tp" | "l2f")))
            })
        };
        !self.children.is_empty() && self.children.iter().all(|child| child.local.texts.iter().any(names))
    }

    /// Whether an address of the other end is known, so that it is a specific peer.
    #[must_use]
    pub fn names_the_other_end(&self) -> bool {
        let range = |text: &str| {
            let ends = text.split_once('-');
            ends.is_some_and(|(first, last)| {
                [first, last].iter().all(|end| end.trim().parse::<IpAddr>().is_ok())
            })
        };
        self.remote_addresses
            .iter()
            .any(|(text, _)| !text.starts_with('%') && !text.contains('/') && !range(text))
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::{Export, ExportId};

    #[test]
    fn a_certain_other_end_and_any() {
        let origin = Export::new(ExportId(0), "f", "x".into()).origin(0..1);
        let mut connection = IpsecConnection {
            name: "c".into(),
            daemon: IkeDaemon::StrongSwan,
            sides_by_address: false,
            versions: Setting::Default(Vec::new()),
            aggressive: None,
            local_addresses: Vec::new(),
            remote_addresses: Vec::new(),
            local: Vec::new(),
            remote: Vec::new(),
            rekey: Setting::Default(Vec::new()),
            liveness: Setting::Default(Vec::new()),
            quantum_key: None,
            children: Vec::new(),
        };
        assert!(!connection.names_the_other_end());
        for (text, certain) in [
            ("198.51.100.9", true),
            ("gate-1.example", true),
            ("2001:db8::9", true),
            ("198.51.100.0/24", false),
            ("198.51.100.1-198.51.100.9", false),
            ("%any", false),
        ] {
            connection.remote_addresses = vec![(text.into(), origin)];
            assert_eq!(connection.names_the_other_end(), certain, "{text}");
        }
        for (identity, anybody) in
            [(None, true), (Some("%any"), true), (Some("%fromcert"), true), (Some("@a.example"), false)]
        {
            let identity = identity.map(|name: &str| (name.to_owned(), origin));
            let round = AuthRound {
                proof: Setting::Default(Vec::new()),
                identity,
                narrowed: None,
                certificates: Vec::new(),
            };
            assert_eq!(round.anybody(), anybody);
        }
    }
}
