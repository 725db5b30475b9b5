//! Secrets: read once, compared and graded here, and never shown.
//!
//! A [`Secret`] has no `Display` and no `Serialize`, its `Debug` shows nothing, and it is wiped when dropped. This module exposes its kind,
//! a class of length, a grade, whether two are equal, and a copy of a text with every secret masked.

mod code_seed;
mod encoded;
mod grade;
mod mask;
mod reuse;
mod scrub;

pub use grade::{DefaultSecret, Grade, KeyGrade, prepare};
pub use mask::{MASK, Masker, is_own_word};
pub use reuse::{ReuseGroup, group_letter, reuse_groups};
pub use scrub::{ScrubKey, Scrubber};

use crate::Origin;
use crate::account::{HashCost, HashScheme};
use secrecy::{ExposeSecret, SecretString};

/// Purpose of a secret.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, serde::Deserialize, strum::IntoStaticStr)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case")]
pub enum SecretKind {
    /// Lets a person in.
    LoginPassword,
    /// The device's own password at another service.
    OwnPassword,
    /// A hash of a password.
    PasswordHash,
    /// MD5 over name, realm and password, as digest authentication stores it (RFC 7616, 3.4.2).
    DigestHash,
    /// The seed from which one-time codes are made.
    CodeSeed,
    /// A private key.
    PrivateKey,
    /// A key both ends of a tunnel share, made by machine.
    SharedKey,
    /// A key that both ends of a tunnel share and that people may have chosen.
    PreSharedKey,
    /// A secret that a RADIUS server and its client share.
    RadiusSecret,
    /// Protects a private key.
    Passphrase,
    /// Lets a program act for the device at another service.
    Token,
    /// An SNMP community string: grants reading, or changing, of a device's values.
    Community,
    /// An SNMP community string that the device sends with its notifications.
    TrapCommunity,
    /// Protects a service of the device: a cache, a disk, a module.
    ServicePassword,
    /// A Wi-Fi passphrase.
    RadioPassphrase,
}

impl SecretKind {
    /// The kind in fingerprints: it never changes.
    #[must_use]
    pub fn key(self) -> &'static str {
        self.into()
    }

    /// The kind in words.
    #[must_use]
    pub fn words(self) -> &'static str {
        match self {
            Self::LoginPassword => "login password",
            Self::OwnPassword => "saved password",
            Self::PasswordHash => "password hash",
            Self::DigestHash => "password digest",
            Self::CodeSeed => "one-time code seed",
            Self::PrivateKey => "private key",
            Self::SharedKey => "shared key",
            Self::PreSharedKey => "pre-shared key",
            Self::RadiusSecret => "RADIUS secret",
            Self::Passphrase => "passphrase",
            Self::Token => "token",
            Self::Community => "SNMP community",
            Self::TrapCommunity => "SNMP trap community",
            Self::ServicePassword => "service password",
            Self::RadioPassphrase => "Wi-Fi passphrase",
        }
    }

    /// Whether people choose such secrets, so that guessing is the way to break them.
    #[must_use]
    pub fn chosen_by_people(self) -> bool {
        matches!(self, Self::LoginPassword | Self::OwnPassword)
    }

    /// Whether people may have chosen it, so that it can be a variation of another.
    #[must_use]
    pub fn may_be_chosen_by_people(self) -> bool {
        self.chosen_by_people()
            || matches!(
                self,
                Self::PreSharedKey
                    | Self::RadiusSecret
                    | Self::Passphrase
                    | Self::Community
                    | Self::TrapCommunity
                    | Self::ServicePassword
                    | Self::RadioPassphrase
            )
    }
}

/// How long a secret is, in classes wide enough not to help a guesser.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub enum LengthClass {
    /// Under 8 characters: below the minimum of NIST SP 800-63B, 5.1.1.1.
    UnderEight,
    /// 8 to 14.
    EightToFourteen,
    /// 15 or more.
    FifteenOrMore,
}

impl LengthClass {
    /// The class in words.
    #[must_use]
    pub fn words(self) -> &'static str {
        match self {
            Self::UnderEight => "under 8 characters",
            Self::EightToFourteen => "8 to 14 characters",
            Self::FifteenOrMore => "15 characters or more",
        }
    }
}

/// Represents a withheld secret. No file contains it, since texts have no such characters.
const WITHHELD: &str = "\u{fdd0}withheld\u{fdd0}";

/// A secret value. There is no way to print it.
pub struct Secret(SecretString);

impl std::fmt::Debug for Secret {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str("Secret")
    }
}

impl Secret {
    /// Takes a secret over.
    #[must_use]
    pub fn new(value: impl Into<String>) -> Self {
        Self(SecretString::from(value.into()))
    }

    /// A secret that exists and was withheld.
    #[must_use]
    pub fn withheld() -> Self {
        Self::new(WITHHELD)
    }

    /// Whether it was withheld, so that it can be neither compared nor graded.
    #[must_use]
    pub fn is_withheld(&self) -> bool {
        self.expose() == WITHHELD
    }

    fn expose(&self) -> &str {
        self.0.expose_secret()
    }

    /// Whether there is nothing in it.
    #[must_use]
    pub fn is_empty(&self) -> bool {
        self.expose().is_empty()
    }

    /// Whether it is one of the markers that lists contain in place of a usable password.
    #[must_use]
    pub fn is_placeholder(&self) -> bool {
        matches!(self.expose(), "*" | "-" | "!" | "!!" | "x")
    }

    /// How long it is, roughly.
    #[must_use]
    pub fn length_class(&self) -> LengthClass {
        match self.expose().chars().count() {
            0..8 => LengthClass::UnderEight,
            8..15 => LengthClass::EightToFourteen,
            _ => LengthClass::FifteenOrMore,
        }
    }

    /// Whether it has fewer characters than this.
    #[must_use]
    pub fn is_shorter_than(&self, characters: u64) -> bool {
        (self.expose().chars().count() as u64) < characters
    }

    /// Whether it is nothing but small letters, as the words of a sentence are.
    #[must_use]
    pub fn is_plain_word(&self) -> bool {
        self.expose().chars().all(|letter| letter.is_lowercase() || letter.is_whitespace())
    }

    /// How a password's hash was made, where this is one.
    #[must_use]
    pub fn hash_scheme(&self) -> HashScheme {
        HashScheme::of(self.expose())
    }

    /// Whether it is written as a hash of crypt(5), with its scheme between dollar signs: no clear password begins so.
    #[must_use]
    pub fn is_crypt_hash(&self) -> bool {
        self.expose().starts_with('$') && self.hash_scheme() != HashScheme::Other
    }

    /// Cost of one guess, where this is a hash that states it.
    #[must_use]
    pub fn hash_cost(&self) -> Option<HashCost> {
        HashCost::of(self.expose())
    }

    /// Whether two secrets are the same.
    #[must_use]
    pub fn same_as(&self, other: &Self) -> bool {
        self.expose() == other.expose() && !self.is_withheld()
    }
}

/// A secret with its purpose, its owner and its place.
#[derive(Debug)]
pub struct SecretRecord {
    /// The value.
    pub secret: Secret,
    /// Purpose.
    pub kind: SecretKind,
    /// Whose it is: a user name, or the tunnel it belongs to.
    pub owner: String,
    /// Place of the value, quotes included.
    pub origin: Origin,
}

impl SecretRecord {
    /// How the password's hash was made, where this is one.
    #[must_use]
    pub fn hash_scheme(&self) -> Option<HashScheme> {
        match self.kind {
            SecretKind::PasswordHash => Some(self.secret.hash_scheme()),
            SecretKind::DigestHash => Some(HashScheme::Digest),
            _ => None,
        }
    }

    /// The same secret for another purpose.
    #[must_use]
    pub fn with_kind(&self, kind: SecretKind) -> Self {
        Self {
            secret: Secret::new(self.secret.expose()),
            kind,
            owner: self.owner.clone(),
            origin: self.origin,
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::ExportId;
    use std::sync::Arc;

    fn held(value: &str, start: u32) -> Arc<SecretRecord> {
        let origin = Origin { export: ExportId(0), start, end: start + value.len() as u32 };
        Arc::new(SecretRecord {
            secret: Secret::new(value),
            kind: SecretKind::LoginPassword,
            owner: "ann".into(),
            origin,
        })
    }

    #[test]
    fn words_of_sentences_stay_in_them() {
        let masker = Masker::new(&[held("password", 9), held("sesame-open", 40)], &[]);
        assert_eq!(
            masker.mask_sentence("a password is required by sesame-open"),
            "a password is required by [secret]"
        );
        assert_eq!(masker.mask("a password is required"), "a [secret] is required");
        let place = Origin { export: ExportId(0), start: 0, end: 0 };
        assert_eq!(masker.mask_at("ann pptp password", place), "ann pptp [secret]");
        let other = Origin { export: ExportId(1), ..place };
        assert_eq!(
            masker.mask_at("PasswordAuthentication, passwordless", other),
            "PasswordAuthentication, passwordless"
        );
    }

    #[test]
    fn nothing_prints_it() {
        let printed = format!("{:?} {:?}", Secret::new("hunter2"), held("hunter2", 0));
        assert!(!printed.contains("hunter2"), "{printed}");
    }

    #[test]
    fn context_words_count_against_it() {
        for (value, context, at_most) in [
            ("password", &[][..], Grade::Trivial),
            ("Skerrow2026", &["skerrow"][..], Grade::Middling),
            ("", &[][..], Grade::Trivial),
            ("Qvintharbel-Zoskamor_2026!", &["qvintharbel", "Zoskamor"][..], Grade::Trivial),
        ] {
            assert!(Secret::new(value).grade(context) <= at_most, "{value}");
        }
        assert!(Secret::new("skerrowskerrow").grade(&["skerrow"]) < Secret::new("skerrowskerrow").grade(&[]));
        assert_eq!(Secret::new("vK3!pw9-Zr7_qTx2mL").grade(&[]), Grade::Strong);
        assert_eq!(Secret::new("x".repeat(100_000)).length_class(), LengthClass::FifteenOrMore);
        assert!(
            Secret::new("ü".repeat(100_000)).grade(&[]) <= Grade::Good,
            "long input is graded without delay"
        );
    }

    #[test]
    fn equal_secrets_are_grouped_in_order() {
        let all =
            [held("one", 0), held("two", 9), held("one", 20), held("", 30), held("", 40), held("two", 50)];
        let groups = |all: &[Arc<SecretRecord>]| -> Vec<(Vec<usize>, bool)> {
            reuse_groups(all).into_iter().map(|group| (group.members, group.exact)).collect()
        };
        assert_eq!(groups(&all), [(vec![0, 2], true), (vec![1, 5], true)]);
        let near = [
            held("Sesame-open1", 0),
            held("sesame-open2", 9),
            held("ab1", 20),
            held("ab2", 30),
            held("other", 40),
        ];
        assert_eq!(groups(&near), [(vec![0, 1], false)]);
        assert_eq!([0, 25, 26, 27, 701, 702].map(group_letter).join(" "), "A Z AA AB ZZ AAA");
    }

    #[test]
    fn masks_by_place_and_by_value() {
        let masker = Masker::new(&[held("sesame-open", 4), held("ann", 90)], &[]);
        let place = Origin { export: ExportId(0), start: 0, end: 0 };
        assert_eq!(masker.mask_at("ann sesame-open * # sesame-open", place), "ann [secret] * # [secret]");
        assert_eq!(masker.mask_at("ann sesame-open     *", place), "ann [secret] *");
        assert_eq!(masker.mask("annual: xsesame-openx"), "annual: x[secret]x");
        let overlapping = Masker::new(&[held("sesame-open", 4), held("open sesame", 11)], &[]);
        assert_eq!(overlapping.mask_at("ann sesame-open sesame", place), "ann [secret]");
        let elsewhere = Origin { export: ExportId(1), start: 0, end: 0 };
        assert_eq!(masker.mask_at("ann something", elsewhere), "ann something");
    }

    #[test]
    fn published_secrets_are_known() {
        assert!(Secret::new("testing123").known_default().unwrap().source.contains("FreeRADIUS"));
        assert!(Secret::new("Testing123").known_default().is_some());
        assert!(Secret::new("testing1234").known_default().is_none());
        assert_eq!(Secret::new("v+NkxY9LLZvwj4qCC2o/gGrWDF2d21jL").grade(&[]), Grade::Trivial);
    }

    #[test]
    fn machine_keys_by_entropy() {
        for (value, holds) in [
            // Letters that by chance have as many vowels as words have.
            ("KkkPuQezfthupxRgHXwywXRPDeai", true),
            ("UBHK7etqbekGeixHArzdKEmTPWxR", true),
            // And much of them in runs of one case.
            ("Ay3hbfgPzYpBoouVwhiFNuhseE6H", true),
            ("wKUveqiy3HhaohhydcMLTinmm4Lt", true),
            ("WelcheLichterLeuchtenAmHafen", false),
            ("deux-mouettes-sur-le-quai-gris", false),
            ("zielona latarnia nad portem", false),
            ("Xk7vQ2mZ9pLr4TnWc8yBd3", true),
            ("93e0c7a15fb2648d07e9a4c2d81b36f5", true),
            ("vK3!pw9-Zr7_qTx2mL", true),
            ("vK3!pw9-Zr", false),
            ("correct horse battery staple", false),
            ("Veyholm-Ferry-Line-2026", false),
            ("aaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaa", false),
            ("12345678901234567890123456789012", false),
            ("qwertyuiopasdfghjklzxcvbnm", false),
            ("83651907264418350972", false),
            ("Nordlys-Fjord-Hav-Krabbe-Torsk", false),
            ("sommerferienbrueckenbau", false),
            ("ThisIsTheSharedKeyForOurBranchOffice", false),
            ("8365190726441835097265019283746501", true),
            ("dnqzvkwpxbtrhgmsljfcqkzw", true),
            ("Pt4kWz_q8LxvR2mHsY-7d", true),
            ("\u{8f}\u{3}\u{e1}\u{b7}\u{90}\u{1f}\u{c4}\u{22}\u{fa}\u{68}\u{d0}\u{9b}\u{5}\u{e7}", true),
        ] {
            let grade = Secret::new(value).key_grade(112, 60, &["veyholm ferry line", "veyholm"]);
            assert_eq!(grade == KeyGrade::Holds, holds, "{value}: {grade:?}");
        }
    }

    #[test]
    fn encodings_of_a_secret_are_masked() {
        let masker = Masker::new(&[held("sesame-open", 400)], &[]);
        for text in
            ["736573616d652d6f70656e", "736573616D652D6F70656E", "c2VzYW1lLW9wZW4=", "c2VzYW1lLW9wZW4"]
        {
            assert!(!masker.mask(&format!("x {text} y")).contains(&text[..6]), "{text}");
        }
    }
}
