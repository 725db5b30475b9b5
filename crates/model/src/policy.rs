//! Rules for the clients of a remote-access service, in the neutral terms in which appliances show them on screen. Native configurations
//! state the same by directives of their own, which readers keep with the tunnel.

use crate::{Origin, Setting};
use serde::de::{Error, Visitor};
use serde::{Deserialize, Deserializer, Serialize, Serializer};
use std::fmt;

/// A length of time in whole seconds; 0 means no limit.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub struct Seconds(pub u64);

/// Units of time and their seconds.
const UNITS: [(&[&str], u64); 4] = [
    (&["s", "sec", "second", "seconds"], 1),
    (&["m", "min", "minute", "minutes"], 60),
    (&["h", "hour", "hours"], 3600),
    (&["d", "day", "days"], 86_400),
];

/// Words for the absence of a limit.
const UNLIMITED: [&str; 6] = ["never", "off", "none", "no", "unlimited", "no limit"];

impl Seconds {
    /// A length of time as people write it: `1800`, `30 min`, `8 hours`, `never`.
    #[must_use]
    pub fn of_words(text: &str) -> Option<Self> {
        let text = text.trim().to_ascii_lowercase();
        if UNLIMITED.contains(&text.as_str()) {
            return Some(Self(0));
        }
        let digits = text.trim_end_matches(|letter: char| !letter.is_ascii_digit());
        let unit = text[digits.len()..].trim();
        let number: u64 = digits.parse().ok()?;
        let each = match unit {
            "" => 1,
            unit => UNITS.iter().find(|(words, _)| words.contains(&unit))?.1,
        };
        number.checked_mul(each).map(Self)
    }

    /// The length in the largest unit that divides it: `30 minutes`.
    #[must_use]
    pub fn words(self) -> String {
        let units = [(86_400, "day"), (3600, "hour"), (60, "minute"), (1, "second")];
        let (each, name) =
            units.into_iter().find(|(each, _)| self.0.is_multiple_of(*each)).unwrap_or((1, "second"));
        let number = self.0 / each;
        format!("{number} {name}{}", if number == 1 { "" } else { "s" })
    }
}

impl Serialize for Seconds {
    fn serialize<S: Serializer>(&self, to: S) -> Result<S::Ok, S::Error> {
        to.serialize_u64(self.0)
    }
}

/// Most clients or attempts; 0 means no limit.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub struct Most(pub u32);

impl Serialize for Most {
    fn serialize<S: Serializer>(&self, to: S) -> Result<S::Ok, S::Error> {
        to.serialize_u32(self.0)
    }
}

/// Types that are a number, or a word for no limit.
macro_rules! number_or_words {
    ($($kind:ident: $name:literal, $what:literal, $read:expr;)*) => {$(
        impl<'de> Deserialize<'de> for $kind {
            fn deserialize<D: Deserializer<'de>>(from: D) -> Result<Self, D::Error> {
                struct Words;
                impl Visitor<'_> for Words {
                    type Value = $kind;

                    fn expecting(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
                        f.write_str($what)
                    }

                    fn visit_i64<E: Error>(self, number: i64) -> Result<$kind, E> {
                        self.visit_str(&number.to_string())
                    }

                    fn visit_str<E: Error>(self, text: &str) -> Result<$kind, E> {
                        let read: fn(&str) -> Option<$kind> = $read;
                        read(text).ok_or_else(|| E::invalid_value(serde::de::Unexpected::Str(text), &self))
                    }
                }
                from.deserialize_any(Words)
            }
        }

        crate::written::schema_of_word!($kind: $name, $what);
    )*};
}

number_or_words! {
    Seconds: "length of time", "a number of seconds, a time such as 30 min or 8 hours, or never", Seconds::of_words;
    Most: "limit", "a number, or unlimited", |text| {
        let text = text.trim().to_ascii_lowercase();
        if UNLIMITED.contains(&text.as_str()) { Some(Most(0)) } else { text.parse().ok().map(Most) }
    };
}

/// Whether a further protection is used.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case")]
pub enum Demand {
    /// Switched off, or not available.
    Off,
    /// Used where the client or the account has it; without it a login is accepted as well.
    Optional,
    /// A login without it is refused.
    Required,
}

/// A kind of client that a service admits, as its screen lists them: an operating system, a browser, an application.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case", deny_unknown_fields)]
pub struct ClientKind {
    /// Name on the screen.
    pub name: String,
    /// Whether it is in use, according to the administrator.
    pub used: Option<Setting<bool>>,
    /// The line.
    pub origin: Origin,
}

/// Rules for the clients of a remote-access service. A field that is `None` is not stated; one that is unknown was looked for and is on
/// no screen of the device.
#[derive(Debug, Clone, Default, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case", deny_unknown_fields)]
pub struct ClientPolicy {
    /// Time without traffic after which a session is ended.
    pub idle_timeout: Option<Setting<Seconds>>,
    /// Time after which a session is ended in any case.
    pub session_timeout: Option<Setting<Seconds>>,
    /// Most sessions of one user at a time.
    pub sessions_per_user: Option<Setting<Most>>,
    /// Failed logins after which an account or an address is locked.
    pub failed_logins: Option<Setting<Most>>,
    /// Whether the login requires a one-time code or another second factor, checked by the device or by the server that verifies the password.
    pub one_time_code: Option<Setting<Demand>>,
    /// Whether the client may store the password.
    pub saved_passwords: Option<Setting<bool>>,
    /// Whether connected clients keep access to their own local network.
    pub local_network: Option<Setting<bool>>,
    /// Whether clients reach one another.
    pub between_clients: Option<Setting<bool>>,
    /// Whether clients are given a DNS server; a sheet states it by the list of the tunnel's `name-servers`.
    pub name_servers: Option<Setting<bool>>,
    /// Whether clients are given a DNS domain; a sheet states it by the list of the tunnel's `domains`.
    pub domains: Option<Setting<bool>>,
    /// Whether traffic is compressed before it is encrypted.
    pub compression: Option<Setting<bool>>,
    /// Whether revoked client certificates are recognised.
    pub revocation: Option<Setting<bool>>,
    /// Time without a packet after which the other end counts as gone (dead-peer detection).
    pub keepalive: Option<Setting<Seconds>>,
    /// Whether a further key protects the control channel before the login (OpenVPN's tls-auth or tls-crypt, or an equivalent).
    pub control_channel_key: Option<Setting<bool>>,
    /// Whether L2TP is accepted inside IPsec only.
    pub inside_ipsec: Option<Setting<Demand>>,
    /// Name of a list of algorithms whose content no screen shows, such as `standard proposals`.
    pub standard_proposals: Option<(String, Origin)>,
    /// Kinds of clients that are admitted.
    pub client_kinds: Vec<ClientKind>,
    /// The administrator's remark.
    pub note: Option<(String, Origin)>,
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn times_in_words() {
        for (text, seconds, words) in [
            ("1800", Some(1800), "30 minutes"),
            ("30 min", Some(1800), "30 minutes"),
            ("8 Hours", Some(28_800), "8 hours"),
            ("1d", Some(86_400), "1 day"),
            ("90s", Some(90), "90 seconds"),
            ("never", Some(0), "0 days"),
            ("soon", None, ""),
            ("8 moons", None, ""),
            ("99999999999999999999", None, ""),
            ("999999999999999999 days", None, ""),
        ] {
            let found = Seconds::of_words(text);
            assert_eq!(found.map(|one| one.0), seconds, "{text}");
            assert!(found.is_none_or(|one| one.words() == words), "{text}");
        }
    }
}
