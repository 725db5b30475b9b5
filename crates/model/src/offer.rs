//! Algorithms that the ends of a tunnel may negotiate, by the name that each program uses.

use crate::Origin;
use crate::written::Word;
use serde::{Deserialize, Serialize};

/// Purpose of an offer.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case")]
pub enum OfferPart {
    /// Setting up keys (IKE, TLS).
    Control,
    /// Traffic through the tunnel.
    Data,
}

impl OfferPart {
    /// How outputs call it.
    #[must_use]
    pub fn words(self) -> &'static str {
        match self {
            Self::Control => "keys",
            Self::Data => "data",
        }
    }
}

/// Role of an algorithm, where its place in the file determines it.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case")]
pub enum AlgorithmRole {
    /// Keeps the content from others.
    Encryption,
    /// Shows that the content is unchanged.
    Integrity,
    /// Derives keys.
    Prf,
    /// Agrees on a key.
    KeyExchange,
    /// A version of the protocol as a whole.
    Protocol,
}

/// Whose names an algorithm is spelled in.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case")]
pub enum Spelling {
    /// openvpn(8), `--show-ciphers` and `--show-digests`.
    #[serde(rename = "openvpn")]
    OpenVpn,
    /// Proposal keywords of strongSwan.
    #[serde(rename = "strongswan")]
    StrongSwan,
    /// Proposal keywords of Libreswan.
    Libreswan,
    /// Priority strings of GnuTLS.
    #[serde(rename = "gnutls")]
    GnuTls,
    /// Cipher lists and names of protocols of OpenSSL.
    #[serde(rename = "openssl")]
    OpenSsl,
    /// Algorithm lists of OpenSSH.
    #[serde(rename = "openssh")]
    OpenSsh,
    /// WireGuard, which has one suite.
    #[serde(rename = "wireguard")]
    WireGuard,
    /// Dialects of SMB, as smb.conf(5) names them.
    Smb,
    /// Keywords of users in snmpd.conf(5).
    #[serde(rename = "net-snmp")]
    NetSnmp,
    /// Kinds of encryption in krb5.conf(5).
    Kerberos,
    /// The trade's name, or any program's name: for names from other sources than a program.
    Trade,
}

impl Spelling {
    /// The program whose names they are.
    #[must_use]
    pub fn program(self) -> &'static str {
        match self {
            Self::OpenVpn => "OpenVPN",
            Self::StrongSwan => "strongSwan",
            Self::Libreswan => "Libreswan",
            Self::GnuTls => "GnuTLS",
            Self::OpenSsl => "OpenSSL",
            Self::OpenSsh => "OpenSSH",
            Self::WireGuard => "WireGuard",
            Self::Smb => "Samba",
            Self::NetSnmp => "Net-SNMP",
            Self::Kerberos => "Kerberos",
            Self::Trade => "the trade",
        }
    }
}

/// One algorithm that may be agreed on.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case", deny_unknown_fields)]
pub struct Offered {
    /// Name, as written.
    pub name: String,
    /// Its role; `None` where only the name determines it.
    pub role: Option<AlgorithmRole>,
    /// For which versions of the program it counts, in words; `None` for all.
    #[serde(deserialize_with = "crate::written::word::maybe")]
    pub versions: Option<Word>,
    /// The number of its suite within the offer: what has one number is agreed on together.
    #[serde(with = "crate::written::zero_unless_said")]
    #[cfg_attr(feature = "schema", schemars(with = "Option<usize>"))]
    pub suite: usize,
    /// Where it is stated; for a default the tunnel's own line.
    pub origin: Origin,
    /// Where the default is documented, for one that is not stated.
    #[serde(deserialize_with = "crate::written::word::maybe")]
    pub default: Option<Word>,
}

/// Algorithms that may be agreed on for one part of a tunnel. The weakest of them counts.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case", deny_unknown_fields)]
pub struct Offer {
    /// For what.
    pub part: OfferPart,
    /// Whose names.
    pub spelling: Spelling,
    /// The algorithms, in the order of the file.
    pub algorithms: Vec<Offered>,
    /// Whether this end's order decides, so that of all that both ends have its first is agreed on.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub own_order: bool,
    /// Information that the exports do not contain, as a request, and the role of the algorithm concerned.
    pub open: Option<(AlgorithmRole, String)>,
    /// The line to point at.
    pub origin: Origin,
}
