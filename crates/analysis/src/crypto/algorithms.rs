//! The table of algorithms: the meaning of each name in each program's spelling, and the strength of each algorithm.

use crate::crypto::trade;
use serde::Deserialize;
use std::collections::BTreeMap;
use std::sync::LazyLock;
use trevlin_estate::area::Severity;
use trevlin_model::offer::{AlgorithmRole, Spelling};

/// Strength of an algorithm, the weakest first.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Status {
    /// Gives no protection, or next to none.
    Broken,
    /// Must not or should not be used any more.
    Deprecated,
    /// Holds, and is on its way out.
    Legacy,
    /// Holds.
    Acceptable,
    /// Required by current standards.
    Recommended,
    /// Quantum-resistant as well.
    QuantumResistant,
}

impl Status {
    /// The word for it.
    pub fn word(self) -> &'static str {
        match self {
            Self::Broken => "broken",
            Self::Deprecated => "deprecated",
            Self::Legacy => "being phased out",
            Self::Acceptable => "acceptable",
            Self::Recommended => "recommended",
            Self::QuantumResistant => "quantum-resistant",
        }
    }

    /// Severity of offering it.
    pub fn severity(self) -> Option<Severity> {
        match self {
            Self::Broken => Some(Severity::High),
            Self::Deprecated => Some(Severity::Medium),
            Self::Legacy => Some(Severity::Low),
            _ => None,
        }
    }
}

/// A row of the table.
#[derive(Debug, Deserialize)]
pub struct Algorithm {
    /// The algorithm's name.
    pub name: String,
    role: String,
    /// Strength.
    pub status: Status,
    /// Source of the rating.
    pub source: String,
    /// When.
    pub year: u16,
    /// Size of a cipher's block in bits.
    pub block: Option<u32>,
    /// Whether it stands for encryption that does not take place.
    #[serde(default)]
    nothing: bool,
    #[serde(default)]
    openvpn: Vec<String>,
    #[serde(default)]
    strongswan: Vec<String>,
    #[serde(default)]
    libreswan: Vec<String>,
    #[serde(default)]
    gnutls: Vec<String>,
    #[serde(default)]
    openssl: Vec<String>,
    #[serde(default)]
    openssh: Vec<String>,
    #[serde(default)]
    wireguard: Vec<String>,
    #[serde(default)]
    smb: Vec<String>,
    #[serde(default)]
    netsnmp: Vec<String>,
    #[serde(default)]
    kerberos: Vec<String>,
}

/// Every spelling that the table has.
const SPELLINGS: [Spelling; 11] = [
    Spelling::OpenVpn,
    Spelling::StrongSwan,
    Spelling::Libreswan,
    Spelling::GnuTls,
    Spelling::OpenSsl,
    Spelling::OpenSsh,
    Spelling::WireGuard,
    Spelling::Smb,
    Spelling::NetSnmp,
    Spelling::Kerberos,
    Spelling::Trade,
];

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
struct Table {
    algorithm: Vec<Algorithm>,
}

trevlin_model::table! { static TABLE: Table = "../../tables/algorithms.toml"; }

impl Algorithm {
    /// Whether it stands for encryption that does not take place.
    #[must_use]
    pub fn is_nothing(&self) -> bool {
        self.nothing
    }

    /// Its role.
    pub fn role(&self) -> AlgorithmRole {
        match self.role.as_str() {
            "encryption" => AlgorithmRole::Encryption,
            "integrity" => AlgorithmRole::Integrity,
            "prf" => AlgorithmRole::Prf,
            "protocol" => AlgorithmRole::Protocol,
            _ => AlgorithmRole::KeyExchange,
        }
    }

    fn spelled(&self, spelling: Spelling) -> &[String] {
        match spelling {
            Spelling::OpenVpn => &self.openvpn,
            Spelling::StrongSwan => &self.strongswan,
            Spelling::Libreswan => &self.libreswan,
            Spelling::GnuTls => &self.gnutls,
            Spelling::OpenSsl => &self.openssl,
            Spelling::OpenSsh => &self.openssh,
            Spelling::WireGuard => &self.wireguard,
            Spelling::Smb => &self.smb,
            Spelling::NetSnmp => &self.netsnmp,
            Spelling::Kerberos => &self.kerberos,
            Spelling::Trade => std::slice::from_ref(&self.name),
        }
    }
}

/// Algorithms by spelling and name in small letters.
type Names = BTreeMap<(Spelling, String), Vec<&'static Algorithm>>;

static NAMES: LazyLock<Names> = LazyLock::new(|| {
    let mut names = Names::new();
    for algorithm in &TABLE.algorithm {
        for spelling in SPELLINGS {
            for name in algorithm.spelled(spelling) {
                names.entry((spelling, name.to_ascii_lowercase())).or_default().push(algorithm);
            }
        }
    }
    names
});

/// Loads the table of algorithms.
pub fn prepare() {
    LazyLock::force(&NAMES);
}

/// The algorithm that a program's name refers to, in any case. The role distinguishes algorithms of the same name.
pub fn lookup(spelling: Spelling, role: Option<AlgorithmRole>, name: &str) -> Option<&'static Algorithm> {
    let name = name.to_ascii_lowercase();
    let of = |spelling| {
        let found = NAMES.get(&(spelling, name.clone()))?;
        found.iter().copied().find(|one| role.is_none_or(|role| one.role() == role))
    };
    let known = of(spelling);
    if known.is_some() || spelling != Spelling::Trade {
        return known;
    }
    // A name from another source than a program may still be a program's, or be written in another way.
    SPELLINGS.into_iter().find_map(of).or_else(|| {
        let fits = |one: &Algorithm| role.is_none_or(|role| one.role() == role);
        let meant = |name: String| TABLE.algorithm.iter().find(|one| one.name == name && fits(one));
        let pseudo = |name: String| meant(format!("PRF-{name}"));
        let mut meanings = trade::meanings(&name).into_iter();
        meanings.find_map(|name| meant(name.clone()).or_else(|| pseudo(name)))
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn every_row_is_recognised_in_a_spelling() {
        assert!(TABLE.algorithm.len() > 100);
        for algorithm in &TABLE.algorithm {
            assert!(!algorithm.source.is_empty() && algorithm.year > 2000, "{}", algorithm.name);
            let mut spelled = 0;
            for spelling in SPELLINGS {
                for name in algorithm.spelled(spelling) {
                    let found = lookup(spelling, Some(algorithm.role()), &name.to_lowercase());
                    assert_eq!(found.map(|one| one.name.as_str()), Some(algorithm.name.as_str()), "{name}");
                    spelled += 1;
                }
            }
            assert!(spelled > 0, "{}", algorithm.name);
        }
    }

    #[test]
    fn names_and_their_strength() {
        use AlgorithmRole::{Encryption, Integrity};
        for (spelling, role, name, status) in [
            (Spelling::OpenVpn, None, "bf-cbc", Some(Status::Deprecated)),
            (Spelling::OpenVpn, Some(Encryption), "none", Some(Status::Broken)),
            (Spelling::OpenVpn, Some(Integrity), "none", Some(Status::Broken)),
            (Spelling::OpenVpn, None, "AES-256-GCM", Some(Status::Recommended)),
            (Spelling::StrongSwan, None, "3des", Some(Status::Deprecated)),
            (Spelling::StrongSwan, None, "modp1024", Some(Status::Deprecated)),
            (Spelling::StrongSwan, None, "modp768", Some(Status::Broken)),
            (Spelling::StrongSwan, None, "sha1", Some(Status::Legacy)),
            (Spelling::StrongSwan, None, "mlkem768", Some(Status::QuantumResistant)),
            (Spelling::StrongSwan, None, "wobble", None),
            (Spelling::Libreswan, Some(AlgorithmRole::KeyExchange), "dh2", Some(Status::Deprecated)),
            (Spelling::GnuTls, Some(AlgorithmRole::Protocol), "VERS-TLS1.0", Some(Status::Deprecated)),
            (Spelling::OpenSsl, Some(AlgorithmRole::Protocol), "SSLv3", Some(Status::Broken)),
            (Spelling::OpenSsh, None, "diffie-hellman-group1-sha1", Some(Status::Deprecated)),
            (Spelling::WireGuard, None, "ChaCha20-Poly1305", Some(Status::Recommended)),
            (Spelling::Trade, None, "triple des", Some(Status::Deprecated)),
            (Spelling::Trade, None, "3des", Some(Status::Deprecated)),
            (Spelling::Trade, None, "modp1024", Some(Status::Deprecated)),
            (Spelling::Trade, Some(Encryption), "AES-256-GCM", Some(Status::Recommended)),
            (Spelling::Trade, None, "wobble", None),
            (Spelling::Trade, Some(AlgorithmRole::Protocol), "TLS 1.0", Some(Status::Deprecated)),
            (Spelling::Trade, None, "TLSv1.0", Some(Status::Deprecated)),
            (Spelling::Trade, None, "TLS v1.2", Some(Status::Acceptable)),
            (Spelling::Trade, None, "SSL v3", Some(Status::Broken)),
            (Spelling::Trade, None, "AES 256", Some(Status::Acceptable)),
            (Spelling::Trade, None, "AES-CBC-128", Some(Status::Acceptable)),
            (Spelling::Trade, None, "AES256-GCM16", Some(Status::Recommended)),
            (Spelling::Trade, Some(Integrity), "SHA2-256", Some(Status::Recommended)),
            (Spelling::Trade, Some(Integrity), "HMAC-SHA1-96", Some(Status::Legacy)),
            (Spelling::Trade, Some(AlgorithmRole::Prf), "SHA-256", Some(Status::Recommended)),
            (Spelling::Trade, Some(AlgorithmRole::KeyExchange), "DH group 2", Some(Status::Deprecated)),
            (Spelling::Trade, None, "Group 14 (modp2048)", Some(Status::Acceptable)),
            (Spelling::Trade, None, "3DES-CBC", Some(Status::Deprecated)),
            (Spelling::Trade, Some(AlgorithmRole::KeyExchange), "group 99", None),
        ] {
            assert_eq!(lookup(spelling, role, name).map(|one| one.status), status, "{name}");
        }
    }

    /// Every cipher and digest of the program is in the table.
    #[test]
    #[ignore = "needs openvpn; run by scripts/conformance.sh"]
    fn names_of_the_openvpn_program() {
        for (list, role) in
            [("--show-ciphers", AlgorithmRole::Encryption), ("--show-digests", AlgorithmRole::Integrity)]
        {
            let output = std::process::Command::new("openvpn").arg(list).output().unwrap();
            let text = String::from_utf8(output.stdout).unwrap();
            // `NAME  (128 bit key, ...)` and `NAME 256 bit digest size`.
            let names: Vec<&str> = text
                .lines()
                .filter(|line| line.contains(" bit key") || line.contains(" bit digest"))
                .filter_map(|line| line.split_whitespace().next())
                .collect();
            assert!(names.len() > 10, "{text}");
            for name in names {
                // Sponges that give any length, and null, are no digests for a tunnel.
                if ["SHAKE128", "SHAKE256", "KECCAK-KMAC-128", "KECCAK-KMAC-256", "NULL"].contains(&name) {
                    continue;
                }
                assert!(lookup(Spelling::OpenVpn, Some(role), name).is_some(), "{name}");
            }
        }
    }
}
