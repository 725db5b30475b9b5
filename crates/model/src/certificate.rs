//! Certificates and keys (X.509, RFC 5280; PEM, RFC 7468).

use crate::{Origin, SecretRecord};
use serde::{Deserialize, Serialize};
use std::sync::Arc;

/// Purpose of a public key.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case")]
pub enum KeyAlgorithm {
    /// RSA.
    Rsa,
    /// DSA.
    Dsa,
    /// Elliptic curve over a prime field.
    Ec,
    /// Edwards curve 25519.
    Ed25519,
    /// Edwards curve 448.
    Ed448,
    /// None of these.
    #[default]
    Other,
}

impl KeyAlgorithm {
    /// The algorithm's name.
    #[must_use]
    pub fn name(self) -> &'static str {
        match self {
            Self::Rsa => "RSA",
            Self::Dsa => "DSA",
            Self::Ec => "EC",
            Self::Ed25519 => "Ed25519",
            Self::Ed448 => "Ed448",
            Self::Other => "of an unknown kind",
        }
    }
}

/// A public key, as far as its strength goes.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case", deny_unknown_fields)]
pub struct PublicKey {
    /// Algorithm.
    pub algorithm: KeyAlgorithm,
    /// Size in bits; 0 where it is not known.
    pub bits: u32,
}

impl PublicKey {
    /// Strength in bits of security (NIST SP 800-57 Part 1 Rev. 5, table 2); `None` where it is not known.
    #[must_use]
    pub fn strength(self) -> Option<u32> {
        match self.algorithm {
            KeyAlgorithm::Other => None,
            KeyAlgorithm::Ed25519 => Some(128),
            KeyAlgorithm::Ed448 => Some(224),
            KeyAlgorithm::Ec => (self.bits > 0).then_some(self.bits / 2),
            KeyAlgorithm::Rsa | KeyAlgorithm::Dsa => match self.bits {
                0 => None,
                1..1024 => Some(0),
                1024..2048 => Some(80),
                2048..3072 => Some(112),
                3072..7680 => Some(128),
                7680..15360 => Some(192),
                _ => Some(256),
            },
        }
    }

    /// Kind and size for people: `RSA, 2048 bits`.
    #[must_use]
    pub fn words(self) -> String {
        match (self.algorithm, self.bits) {
            (KeyAlgorithm::Ed25519 | KeyAlgorithm::Ed448 | KeyAlgorithm::Other, _) | (_, 0) => {
                self.algorithm.name().to_owned()
            }
            (algorithm, bits) => format!("{}, {bits} bits", algorithm.name()),
        }
    }
}

/// A certificate.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case", deny_unknown_fields)]
pub struct Certificate {
    /// The subject, for output: its common name, or the whole distinguished name.
    pub subject: String,
    /// Organisation in its subject, where there is one.
    pub organisation: Option<String>,
    /// Who signed it, for people.
    #[serde(deserialize_with = "crate::written::zero_unless_said::deserialize")]
    #[cfg_attr(feature = "schema", schemars(with = "Option<String>"))]
    pub issuer: String,
    /// Host names and addresses it is valid for: the alternative names, otherwise the common name (RFC 6125, 6.4.4).
    pub names: Vec<String>,
    /// Whether it signed itself, by its names.
    pub self_signed: bool,
    /// Whether it may sign others (RFC 5280, 4.2.1.9).
    pub is_authority: bool,
    /// Good from, in seconds since 1970-01-01T00:00:00Z; a sheet may have a day. The beginning of 1970 where it is not stated.
    #[serde(with = "crate::written::first_day")]
    #[cfg_attr(feature = "schema", schemars(with = "Option<crate::policy::Seconds>"))]
    pub not_before: i64,
    /// Good until, in seconds since 1970-01-01T00:00:00Z; a sheet may have a day. The end of the year 9999, which stands for no end
    /// (RFC 5280, 4.1.2.5), where it is not stated.
    #[serde(with = "crate::written::last_day")]
    #[cfg_attr(feature = "schema", schemars(with = "Option<crate::policy::Seconds>"))]
    pub not_after: i64,
    /// Its key.
    #[serde(deserialize_with = "crate::written::zero_unless_said::deserialize")]
    #[cfg_attr(feature = "schema", schemars(with = "Option<PublicKey>"))]
    pub key: PublicKey,
    /// Name of the algorithm it was signed with.
    #[serde(deserialize_with = "crate::written::zero_unless_said::deserialize")]
    #[cfg_attr(feature = "schema", schemars(with = "Option<String>"))]
    pub signature: String,
    /// Hash function of that signature, where it has one of its own.
    pub signature_hash: Option<String>,
    /// Whether it came with the device, so that every device of the kind has it or anyone can make its like.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub factory: bool,
    /// Whether it belongs to an authority that issues certificates to the public.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub public: bool,
    /// Whether it is part of the system's store of public authorities or of a similar bundle, and is neither issued nor renewed locally.
    pub in_trust_store: bool,
    /// The block.
    pub origin: Origin,
}

/// A private key.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case", deny_unknown_fields)]
pub struct PrivateKey {
    /// Whether a passphrase protects it.
    pub encrypted: bool,
    /// The key itself.
    pub held: Arc<SecretRecord>,
    /// The block.
    pub origin: Origin,
}

/// A block that should be a certificate or a private key and cannot be read.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case", deny_unknown_fields)]
pub struct UnreadableBlock {
    /// Whether its label is a private key's.
    pub is_key: bool,
    /// The block.
    pub origin: Origin,
}

/// Parameters for the key exchange of Diffie and Hellman, in a file of their own (PKCS #3, 9).
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case", deny_unknown_fields)]
pub struct DhParameters {
    /// Size of the prime in bits.
    pub bits: u32,
    /// The block.
    pub origin: Origin,
}

/// Purpose of a certificate named in a configuration.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case")]
pub enum CertificateUse {
    /// The device shows it to others.
    Own,
    /// The CA that signs client certificates.
    Authority,
}

/// Where a configuration has a certificate from.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case", deny_unknown_fields)]
pub struct CertificateFile {
    /// Purpose.
    pub purpose: CertificateUse,
    /// The file's path as written; `None` where the certificate is embedded in the configuration.
    pub path: Option<String>,
    /// The directive, or the whole block.
    pub origin: Origin,
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn strengths() {
        for (algorithm, bits, strength) in [
            (KeyAlgorithm::Rsa, 1024, Some(80)),
            (KeyAlgorithm::Rsa, 2048, Some(112)),
            (KeyAlgorithm::Rsa, 4096, Some(128)),
            (KeyAlgorithm::Rsa, 512, Some(0)),
            (KeyAlgorithm::Rsa, 0, None),
            (KeyAlgorithm::Ec, 256, Some(128)),
            (KeyAlgorithm::Ec, 192, Some(96)),
            (KeyAlgorithm::Ed25519, 256, Some(128)),
            (KeyAlgorithm::Other, 99, None),
        ] {
            assert_eq!(PublicKey { algorithm, bits }.strength(), strength, "{algorithm:?} {bits}");
        }
    }
}
