//! Conditions of packet filters that are kept as text, because their meaning is not analysed.

use serde::{Deserialize, Serialize};
use std::fmt;

/// A condition that may or may not hold.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(from = "String", into = "String")]
pub struct Residual {
    /// Kind of condition, where it is known.
    pub kind: ResidualKind,
    /// Its words, as the export has them or as the reader describes them.
    pub text: String,
}

/// Kind of condition, as far as it limits the traffic that may match.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub enum ResidualKind {
    /// It holds for packets of every sender until a rate is reached.
    RateLimit,
    /// A reverse-path lookup: the route to the source must use the incoming interface.
    ReversePath,
    /// It picks out some senders, payloads or packets.
    Selective,
    /// It selects packets with an extension header of IPv6 that the packets of ordinary connections do not have.
    ExtensionHeader,
    /// It holds for senders that have opened many connections before, or too many at a time: not for a first one.
    Excess,
    /// It limits a permitted connection to some users: those of others do not meet it.
    Users,
    /// It lets content pass that an inspection finds nothing in.
    Inspection,
    /// Nothing of the kind is known of it.
    Other,
}

#[derive(Deserialize)]
#[serde(rename_all = "kebab-case", deny_unknown_fields)]
struct Words {
    rate_limit: Vec<String>,
    reverse_path: Vec<String>,
    extension_header: Vec<String>,
    excess: Vec<String>,
    selective: Vec<String>,
    users: Vec<String>,
    inspection: Vec<String>,
}

crate::table! { static WORDS: Words = "../tables/residual-conditions.toml"; }

impl Residual {
    /// A condition in the notation of its filter; its first word names the compared field.
    #[must_use]
    pub fn as_written(text: impl Into<String>) -> Self {
        let text = text.into();
        let begins = |all: &[String]| {
            let rest = |word: &String| text.strip_prefix(word.as_str());
            all.iter().filter_map(rest).any(|rest| rest.is_empty() || rest.starts_with(char::is_whitespace))
        };
        let kind = if begins(&WORDS.excess) {
            ResidualKind::Excess
        } else if begins(&WORDS.rate_limit) {
            ResidualKind::RateLimit
        } else if begins(&WORDS.reverse_path) {
            ResidualKind::ReversePath
        } else if begins(&WORDS.extension_header) {
            ResidualKind::ExtensionHeader
        } else if begins(&WORDS.selective) {
            ResidualKind::Selective
        } else if begins(&WORDS.users) {
            ResidualKind::Users
        } else if begins(&WORDS.inspection) {
            ResidualKind::Inspection
        } else {
            ResidualKind::Other
        };
        Self { kind, text }
    }

    /// A limit to these users or groups, as a phrase.
    #[must_use]
    pub fn only_for(whom: &str) -> Self {
        Self { kind: ResidualKind::Users, text: format!("only for {whom}") }
    }

    /// A limit to content that an inspection lets pass, as a phrase.
    #[must_use]
    pub fn only_after(inspection: &str) -> Self {
        Self { kind: ResidualKind::Inspection, text: format!("only after {inspection}") }
    }

    /// A condition that a reader describes in words of its own.
    #[must_use]
    pub fn described(text: impl Into<String>) -> Self {
        Self { kind: ResidualKind::Other, text: text.into() }
    }
}

impl From<String> for Residual {
    fn from(text: String) -> Self {
        Self::as_written(text)
    }
}

impl From<Residual> for String {
    fn from(one: Residual) -> Self {
        one.text
    }
}

impl fmt::Display for Residual {
    fn fmt(&self, out: &mut fmt::Formatter<'_>) -> fmt::Result {
        out.write_str(&self.text)
    }
}

#[cfg(feature = "schema")]
impl schemars::JsonSchema for Residual {
    fn schema_name() -> std::borrow::Cow<'static, str> {
        "Residual".into()
    }

    fn inline_schema() -> bool {
        true
    }

    fn json_schema(generator: &mut schemars::SchemaGenerator) -> schemars::Schema {
        String::json_schema(generator)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_first_words_tell_the_kind() {
        for (text, kind) in [
            ("limit --limit 5/second", ResidualKind::RateLimit),
            ("limit rate 5/second", ResidualKind::RateLimit),
            ("limits of another kind", ResidualKind::Other),
            ("fib saddr . iif oif missing", ResidualKind::ReversePath),
            ("fib daddr type local", ResidualKind::Other),
            ("rpfilter", ResidualKind::ReversePath),
            ("recent --name tries", ResidualKind::Selective),
            ("rt --rt-type 0", ResidualKind::ExtensionHeader),
            ("rt nexthop", ResidualKind::Selective),
            ("hbh", ResidualKind::ExtensionHeader),
            ("recent --update --seconds 30 --hitcount 6", ResidualKind::Excess),
            ("recent --set", ResidualKind::Selective),
            ("limit rate over 5/second", ResidualKind::Excess),
            ("statistic --mode random", ResidualKind::Other),
            ("only for the group `crew`", ResidualKind::Users),
            ("only after inspection", ResidualKind::Inspection),
        ] {
            assert_eq!(Residual::as_written(text).kind, kind, "{text}");
            assert_eq!(Residual::described(text).kind, ResidualKind::Other, "{text}");
        }
    }
}
