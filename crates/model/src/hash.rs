//! How passwords are hashed, and at what cost.

use serde::{Deserialize, Serialize};

/// How a password is kept (crypt(5)).
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case")]
pub enum HashScheme {
    /// Traditional DES crypt: 8 characters count, 12 bits of salt.
    Des,
    /// Extended DES crypt.
    ExtendedDes,
    /// NT hash: MD4 without salt.
    Nt,
    /// MD5 crypt.
    Md5,
    /// PBKDF1 with SHA-1.
    Sha1,
    /// SHA-256 crypt.
    Sha256,
    /// SHA-512 crypt.
    Sha512,
    /// bcrypt.
    Bcrypt,
    /// scrypt.
    Scrypt,
    /// yescrypt.
    Yescrypt,
    /// Argon2.
    Argon2,
    /// MD5 over name, realm and password (RFC 7616, 3.4.2).
    Digest,
    /// SHA-1 without salt, once (htpasswd(1), -s).
    PlainSha1,
    /// SHA-1 with a salt, once (slappasswd(8), -h).
    SaltedSha1,
    /// MD5 once, with or without a salt (slappasswd(8), -h).
    PlainMd5,
    /// SHA-256 or its longer kinds once, with or without a salt (slapd-pw-sha2(5)).
    PlainSha2,
    /// None of these.
    Other,
}

impl HashScheme {
    /// The scheme of a hash as crypt(5) writes it, or with its name in braces before it as directories store it (RFC 3112 has the form).
    #[must_use]
    pub fn of(hash: &str) -> Self {
        const PREFIXES: [(&str, HashScheme); 14] = [
            ("$1$", HashScheme::Md5),
            ("$apr1$", HashScheme::Md5),
            ("$2", HashScheme::Bcrypt),
            ("$3$", HashScheme::Nt),
            ("$5$", HashScheme::Sha256),
            ("$6$", HashScheme::Sha512),
            ("$7$", HashScheme::Scrypt),
            ("$sha1$", HashScheme::Sha1),
            ("$md5", HashScheme::Md5),
            ("$y$", HashScheme::Yescrypt),
            ("$gy$", HashScheme::Yescrypt),
            ("$argon2", HashScheme::Argon2),
            ("_", HashScheme::ExtendedDes),
            ("$", HashScheme::Other),
        ];
        if let Some((name, rest)) = hash.strip_prefix('{').and_then(|rest| rest.split_once('}')) {
            return match name.to_ascii_lowercase().as_str() {
                "crypt" => Self::of(rest),
                "sha" => Self::PlainSha1,
                "ssha" => Self::SaltedSha1,
                "md5" | "smd5" => Self::PlainMd5,
                "sha256" | "sha384" | "sha512" | "ssha256" | "ssha384" | "ssha512" => Self::PlainSha2,
                _ if rest.starts_with('$') => Self::of(rest),
                _ => Self::Other,
            };
        }
        match PREFIXES.iter().find(|(prefix, _)| hash.starts_with(prefix)) {
            Some((_, scheme)) => *scheme,
            None if hash.len() == 13 => Self::Des,
            // Digests in hexadecimal, as lists of other services keep them: of 128 bits MD4 (NT) or MD5, of 160 SHA-1.
            None if is_hex(hash, 32) => Self::Nt,
            None if is_hex(hash, 40) => Self::Sha1,
            None => Self::Other,
        }
    }

    /// The scheme's name.
    #[must_use]
    pub fn name(self) -> &'static str {
        match self {
            Self::Des => "DES crypt",
            Self::ExtendedDes => "extended DES crypt",
            Self::Nt => "NT hash",
            Self::Md5 => "MD5 crypt",
            Self::Sha1 => "SHA-1 crypt",
            Self::Sha256 => "SHA-256 crypt",
            Self::Sha512 => "SHA-512 crypt",
            Self::Bcrypt => "bcrypt",
            Self::Scrypt => "scrypt",
            Self::Yescrypt => "yescrypt",
            Self::Argon2 => "Argon2",
            Self::Digest => "MD5 digest",
            Self::PlainSha1 => "unsalted SHA-1",
            Self::SaltedSha1 => "salted SHA-1",
            Self::PlainMd5 => "MD5 without iterations",
            Self::PlainSha2 => "SHA-2 without iterations",
            Self::Other => "an unknown scheme",
        }
    }

    /// Whether crypt(5) rules it out for new passwords because guessing is cheap.
    #[must_use]
    pub fn is_weak(self) -> bool {
        matches!(
            self,
            Self::Des
                | Self::ExtendedDes
                | Self::Nt
                | Self::Md5
                | Self::Sha1
                | Self::Digest
                | Self::PlainSha1
                | Self::SaltedSha1
                | Self::PlainMd5
                | Self::PlainSha2
        )
    }
}

/// Cost of one guess, as far as the hash states it.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum HashCost {
    /// bcrypt: doublings.
    Doublings(u32),
    /// SHA crypt: rounds.
    Rounds(u32),
}

impl HashCost {
    /// The cost that a hash states, where its scheme has one that can be compared (crypt(5)).
    #[must_use]
    pub fn of(hash: &str) -> Option<Self> {
        let mut fields = hash.split('$').skip(1);
        let (scheme, parameter) = (fields.next()?, fields.next()?);
        match scheme {
            "5" | "6" => match parameter.strip_prefix("rounds=") {
                Some(rounds) => rounds.parse().ok().map(Self::Rounds),
                None => Some(Self::Rounds(5000)),
            },
            _ if scheme.starts_with('2') => parameter.parse().ok().map(Self::Doublings),
            _ => None,
        }
    }

    /// Whether it is below the default of the schemes: 5000 rounds (crypt(5)), a work factor of 10 (OWASP, password storage).
    #[must_use]
    pub fn is_low(self) -> bool {
        match self {
            Self::Doublings(number) => number < 10,
            Self::Rounds(number) => number < 5000,
        }
    }

    /// The cost in words.
    #[must_use]
    pub fn words(self) -> String {
        match self {
            Self::Doublings(number) => format!("a work factor of {number}"),
            Self::Rounds(number) => format!("{number} rounds"),
        }
    }
}

pub(crate) fn is_hex(hash: &str, length: usize) -> bool {
    let digits = hash.strip_prefix("0x").unwrap_or(hash);
    digits.len() == length && digits.bytes().all(|byte| byte.is_ascii_hexdigit())
}
