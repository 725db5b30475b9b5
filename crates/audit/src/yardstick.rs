//! The thresholds that checks judge by, and the date they judge for.

use jiff::civil::Date;
use serde::Serialize;
use trevlin_model::secret::{Grade, LengthClass};

/// Thresholds.
#[derive(Debug, Clone, Copy)]
pub struct Yardstick {
    /// The date for which validity is judged.
    pub as_of: Date,
    /// A login password below this grade is weak.
    pub login_password_grade: Grade,
    /// A login password of a shorter class is weak whatever its grade (NIST SP 800-63B, 5.1.1.1: 8 characters).
    pub login_password_length: LengthClass,
    /// A key with fewer bits of security is weak (NIST SP 800-131A Rev. 2; NIST SP 800-77 Rev. 1, 3.2: 112).
    pub key_strength: u32,
    /// A certificate that ends within so many days is about to.
    pub days_before_expiry: i32,
    /// Keys of IKE that last longer, in seconds, are kept too long (NIST SP 800-77 Rev. 1: 24 hours).
    pub ike_lifetime: u64,
    /// Keys of what passes through a tunnel that last longer, in seconds, are kept too long (the same: 8 hours).
    pub data_lifetime: u64,
    /// A local list with more logins than this wants an AAA server.
    pub local_logins: usize,
}

/// A threshold as outputs show it.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub struct YardstickRow {
    /// Its key.
    pub key: &'static str,
    /// What it is about.
    pub about: &'static str,
    /// Its value, with the unit.
    pub value: String,
    /// Where the value comes from.
    pub source: String,
}

impl Yardstick {
    /// Every threshold.
    #[must_use]
    pub fn rows(&self) -> Vec<YardstickRow> {
        let row = |key, about, value: String, source: &str| YardstickRow {
            key,
            about,
            value,
            source: format!("default; {source}"),
        };
        let hours = |seconds: u64| format!("{} hours", seconds / 3600);
        let (grade, length) = (self.login_password_grade, self.login_password_length);
        vec![
            row(
                "login-password-grade",
                "least grade of a login password",
                grade.words().to_owned(),
                "NIST SP 800-63B, 5.1.1",
            ),
            row(
                "login-password-length",
                "least length of a login password",
                length.words().to_owned(),
                "NIST SP 800-63B, 5.1.1.1",
            ),
            row(
                "key-strength",
                "least security of a key",
                format!("{} bits", self.key_strength),
                "NIST SP 800-131A Rev. 2; NIST SP 800-77 Rev. 1, 3.2",
            ),
            row(
                "days-before-expiry",
                "a certificate is about to end",
                format!("{} days before", self.days_before_expiry),
                "our own",
            ),
            row(
                "ike-lifetime",
                "longest life of keys of IKE",
                hours(self.ike_lifetime),
                "NIST SP 800-77 Rev. 1",
            ),
            row(
                "data-lifetime",
                "longest life of keys of what passes",
                hours(self.data_lifetime),
                "NIST SP 800-77 Rev. 1",
            ),
            row("local-logins", "most logins in a local list", self.local_logins.to_string(), "our own"),
        ]
    }

    /// The thresholds that hold unless others are given, for a date.
    #[must_use]
    pub fn on(as_of: Date) -> Self {
        Self {
            as_of,
            login_password_grade: Grade::Good,
            login_password_length: LengthClass::EightToFourteen,
            key_strength: 112,
            days_before_expiry: 30,
            ike_lifetime: 24 * 60 * 60,
            data_lifetime: 8 * 60 * 60,
            local_logins: 10,
        }
    }
}
