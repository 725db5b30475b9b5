//! How facts are written down and read back: the few types whose written form is not simply that of their fields.
//!
//! A place of an export has no meaning outside of it, so an [`Origin`] is never written; when facts are read back, the place of each value
//! in the written form is inserted. A secret is never written either. Both become markers ([`ORIGIN`], [`SECRET`]) under names that no
//! field can have, for the writer to remove, and are requested under the same names when facts are read.

#[cfg(feature = "schema")]
mod schema;
mod usual;

pub use usual::day;
pub(crate) use usual::{
    both, bound, everybody, first_day, known_truth, last_day, on_unless_off, openssh, stored, word,
    zero_unless_said,
};

use crate::secret::SecretKind;
use crate::{
    ConnectionStates, DefaultValue, IcmpRange, IpRange, Match, Origin, PortRange, Protocol, Secret,
    SecretRecord, Setting,
};
use ipnet::IpNet;
use serde::de::{Error, SeqAccess, Visitor};
use serde::ser::SerializeMap;
use serde::{Deserialize, Deserializer, Serialize, Serializer};
use std::collections::BTreeSet;
use std::fmt;
use std::marker::PhantomData;
use std::net::IpAddr;
use std::str::FromStr;
use std::sync::{Mutex, PoisonError};

/// Name under which the place of a value is written and read.
pub const ORIGIN: &str = "$origin";
/// Name under which a secret is read; it is left empty when written.
pub const SECRET: &str = "$secret";
/// Name under which a setting is read: a number (0 stated, 1 default, 2 unknown) and its content.
pub const SETTING: &str = "$setting";
/// Name under which a condition is read: whether it is negated, and the condition.
pub const NOT: &str = "$not";

/// Visits a list of exactly these two.
struct Pair<A, B>(PhantomData<(A, B)>);

impl<'de, A: Deserialize<'de>, B: Deserialize<'de>> Visitor<'de> for Pair<A, B> {
    type Value = (A, B);

    fn expecting(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str("a value and its place")
    }

    fn visit_seq<S: SeqAccess<'de>>(self, mut seq: S) -> Result<(A, B), S::Error> {
        let short = |at| S::Error::invalid_length(at, &"two");
        let first = seq.next_element()?.ok_or_else(|| short(0))?;
        Ok((first, seq.next_element()?.ok_or_else(|| short(1))?))
    }

    fn visit_newtype_struct<D: Deserializer<'de>>(self, inner: D) -> Result<(A, B), D::Error> {
        inner.deserialize_tuple(2, self)
    }
}

fn pair<'de, D: Deserializer<'de>, A: Deserialize<'de>, B: Deserialize<'de>>(
    from: D,
    name: &'static str,
) -> Result<(A, B), D::Error> {
    from.deserialize_newtype_struct(name, Pair(PhantomData))
}

impl Serialize for Origin {
    fn serialize<S: Serializer>(&self, to: S) -> Result<S::Ok, S::Error> {
        let mut map = to.serialize_map(Some(1))?;
        map.serialize_entry(ORIGIN, &(self.export.0, self.start, self.end))?;
        map.end()
    }
}

impl<'de> Deserialize<'de> for Origin {
    fn deserialize<D: Deserializer<'de>>(from: D) -> Result<Self, D::Error> {
        struct Place;
        impl<'de> Visitor<'de> for Place {
            type Value = Origin;

            fn expecting(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
                f.write_str("`true`")
            }

            fn visit_seq<S: SeqAccess<'de>>(self, mut seq: S) -> Result<Origin, S::Error> {
                let mut number =
                    |at| seq.next_element()?.ok_or_else(|| S::Error::invalid_length(at, &"three"));
                let (export, start, end) = (number(0)?, number(1)?, number(2)?);
                Ok(Origin { export: crate::ExportId(export), start, end })
            }
        }
        from.deserialize_newtype_struct(ORIGIN, Place)
    }
}

impl Serialize for SecretRecord {
    fn serialize<S: Serializer>(&self, to: S) -> Result<S::Ok, S::Error> {
        let mut map = to.serialize_map(Some(1))?;
        map.serialize_entry(SECRET, &(self.kind.words(), self.secret.length_class().words()))?;
        map.end()
    }
}

impl<'de> Deserialize<'de> for SecretRecord {
    /// Purpose and owner are inserted by the reader.
    fn deserialize<D: Deserializer<'de>>(from: D) -> Result<Self, D::Error> {
        let (value, origin): (Option<String>, Origin) = pair(from, SECRET)?;
        let secret = value.map_or_else(Secret::withheld, Secret::new);
        Ok(Self { secret, kind: SecretKind::Token, owner: String::new(), origin })
    }
}

impl<T: Serialize> Serialize for Setting<T> {
    fn serialize<S: Serializer>(&self, to: S) -> Result<S::Ok, S::Error> {
        match self {
            Self::Stated { value, .. } => {
                let mut map = to.serialize_map(Some(1))?;
                map.serialize_entry(SETTING, value)?;
                map.end()
            }
            Self::Default(rows) => {
                let mut map = to.serialize_map(Some(1))?;
                map.serialize_entry("defaults", rows)?;
                map.end()
            }
            Self::Unknown { why } => {
                let mut map = to.serialize_map(Some(1))?;
                map.serialize_entry("unknown", why)?;
                map.end()
            }
        }
    }
}

impl<'de, T: Deserialize<'de>> Deserialize<'de> for Setting<T> {
    fn deserialize<D: Deserializer<'de>>(from: D) -> Result<Self, D::Error> {
        struct Of<T>(PhantomData<T>);
        impl<'de, T: Deserialize<'de>> Visitor<'de> for Of<T> {
            type Value = Setting<T>;

            fn expecting(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
                f.write_str("a value, `{ defaults = [...] }` or `{ unknown = \"what is missing\" }`")
            }

            fn visit_seq<S: SeqAccess<'de>>(self, mut seq: S) -> Result<Setting<T>, S::Error> {
                let short = |at| S::Error::invalid_length(at, &"the parts of a setting");
                let tag: u8 = seq.next_element()?.ok_or_else(|| short(0))?;
                match tag {
                    0 => {
                        let value = seq.next_element()?.ok_or_else(|| short(1))?;
                        let origin = seq.next_element()?.ok_or_else(|| short(2))?;
                        Ok(Setting::Stated { value, origin })
                    }
                    1 => Ok(Setting::Default(seq.next_element()?.ok_or_else(|| short(1))?)),
                    _ => Ok(Setting::Unknown { why: seq.next_element()?.ok_or_else(|| short(1))? }),
                }
            }
        }
        from.deserialize_newtype_struct(SETTING, Of(PhantomData))
    }
}

impl Serialize for Match {
    fn serialize<S: Serializer>(&self, to: S) -> Result<S::Ok, S::Error> {
        if !self.negated {
            return self.kind.serialize(to);
        }
        let mut map = to.serialize_map(Some(1))?;
        map.serialize_entry("not", &self.kind)?;
        map.end()
    }
}

impl<'de> Deserialize<'de> for Match {
    fn deserialize<D: Deserializer<'de>>(from: D) -> Result<Self, D::Error> {
        let (negated, kind) = pair(from, NOT)?;
        Ok(Self { negated, kind })
    }
}

/// The schema of a type that is written as one word or a number.
macro_rules! schema_of_word {
    ($kind:ty: $name:literal, $what:literal) => {
        #[cfg(feature = "schema")]
        impl schemars::JsonSchema for $kind {
            fn schema_name() -> std::borrow::Cow<'static, str> {
                $name.into()
            }

            fn json_schema(_: &mut schemars::SchemaGenerator) -> schemars::Schema {
                schemars::json_schema!({ "type": ["string", "integer"], "description": concat!("Written as ", $what, ".") })
            }
        }
    };
}

pub(crate) use schema_of_word;

/// Types that are written as one word.
macro_rules! as_word {
    ($($kind:ty: $name:literal, $what:literal;)*) => {$(
        impl Serialize for $kind {
            fn serialize<S: Serializer>(&self, to: S) -> Result<S::Ok, S::Error> {
                to.serialize_str(&self.word())
            }
        }

        impl<'de> Deserialize<'de> for $kind {
            fn deserialize<D: Deserializer<'de>>(from: D) -> Result<Self, D::Error> {
                let text = String::deserialize(from)?;
                text.parse().map_err(|()| D::Error::invalid_value(serde::de::Unexpected::Str(&text), &$what))
            }
        }

        crate::written::schema_of_word!($kind: $name, $what);
    )*};
}

as_word! {
    IpRange: "range", "an address, a prefix as 10.4.0.0/24, or a range as 10.4.0.10-10.4.0.20";
    PortRange: "ports", "a port from 0 to 65535, or a range as 5000-5010";
    IcmpRange: "icmp", "a type of ICMP, with a code as 3/4, or a range of types as 3-5";
    Protocol: "protocol", "tcp, udp, icmp, icmpv6, gre, esp, ah, sctp, any, or a number up to 255";
}

impl IpRange {
    fn word(&self) -> String {
        self.short()
    }
}

impl FromStr for IpRange {
    type Err = ();

    /// An address, a prefix, or two addresses with a dash between them.
    fn from_str(text: &str) -> Result<Self, ()> {
        if let Ok(address) = text.parse::<IpAddr>() {
            return Ok(address.into());
        }
        if let Ok(net) = text.parse::<IpNet>() {
            return Ok(net.into());
        }
        let (first, last) = text.split_once('-').ok_or(())?;
        let parse = |text: &str| text.trim().parse().map_err(|_| ());
        Self::new(parse(first)?, parse(last)?).map_err(|_| ())
    }
}

impl PortRange {
    fn word(self) -> String {
        self.to_string()
    }
}

impl FromStr for PortRange {
    type Err = ();

    /// A port, or two with a dash between them.
    fn from_str(text: &str) -> Result<Self, ()> {
        let (first, last) = text.split_once('-').unwrap_or((text, text));
        let parse = |text: &str| text.trim().parse::<u16>().map_err(|_| ());
        let (first, last) = (parse(first)?, parse(last)?);
        if first <= last { Ok(Self { first, last }) } else { Err(()) }
    }
}

impl IcmpRange {
    fn word(self) -> String {
        let code = |both: u16| format!("{}/{}", both >> 8, both & 0xff);
        match (self.first, self.last) {
            (first, last) if first & 0xff == 0 && last == first | 0xff => (first >> 8).to_string(),
            (first, last) if first == last => code(first),
            (first, last) if first & 0xff == 0 && last & 0xff == 0xff => {
                format!("{}-{}", first >> 8, last >> 8)
            }
            (first, last) => format!("{}-{}", code(first), code(last)),
        }
    }
}

impl FromStr for IcmpRange {
    type Err = ();

    fn from_str(text: &str) -> Result<Self, ()> {
        let one = |text: &str| -> Result<Self, ()> {
            let number = |text: &str| text.trim().parse::<u8>().map_err(|_| ());
            match text.split_once('/') {
                Some((kind, code)) => Ok(Self::of_code(number(kind)?, number(code)?)),
                None => Ok(Self::of_type(number(text)?)),
            }
        };
        let (first, last) = text.split_once('-').unwrap_or((text, text));
        let (first, last) = (one(first)?.first, one(last)?.last);
        if first <= last { Ok(Self { first, last }) } else { Err(()) }
    }
}

impl Protocol {
    fn word(self) -> String {
        self.name()
    }
}

impl FromStr for Protocol {
    type Err = ();

    /// A name that [`Protocol::name`] gives, or a number.
    fn from_str(text: &str) -> Result<Self, ()> {
        let wanted = text.trim().to_ascii_lowercase();
        if wanted == "any" {
            return Ok(Self(None));
        }
        if let Ok(number) = wanted.parse::<u8>() {
            return Ok(Self(Some(number)));
        }
        (0..=255).map(|number| Self(Some(number))).find(|one| one.name() == wanted).ok_or(())
    }
}

const STATES: [&str; 7] = ["new", "established", "related", "invalid", "untracked", "snat", "dnat"];

impl Serialize for ConnectionStates {
    fn serialize<S: Serializer>(&self, to: S) -> Result<S::Ok, S::Error> {
        let Self { new, established, related, invalid, untracked, snat, dnat } = *self;
        let held = [new, established, related, invalid, untracked, snat, dnat];
        to.collect_seq(STATES.iter().zip(held).filter(|(_, held)| *held).map(|(word, _)| word))
    }
}

impl<'de> Deserialize<'de> for ConnectionStates {
    fn deserialize<D: Deserializer<'de>>(from: D) -> Result<Self, D::Error> {
        let words = Vec::<String>::deserialize(from)?;
        if let Some(strange) = words.iter().find(|word| !STATES.contains(&word.as_str())) {
            return Err(D::Error::unknown_variant(strange, &STATES));
        }
        let has = |at: usize| words.iter().any(|word| word == STATES[at]);
        Ok(Self {
            new: has(0),
            established: has(1),
            related: has(2),
            invalid: has(3),
            untracked: has(4),
            snat: has(5),
            dnat: has(6),
        })
    }
}

/// A word known when the program is built, or kept since it was read (see [`kept`]).
pub type Word = &'static str;
/// Several of them.
pub type Words = &'static [&'static str];

/// How many bytes of words from files are kept for the rest of the run.
const KEPT: usize = 1 << 20;

/// A word from a file in place of a static name: the name of a daemon. Each is stored once; beyond a megabyte all others get one name.
#[must_use]
pub fn kept(text: &str) -> &'static str {
    static WORDS: Mutex<(BTreeSet<&'static str>, usize)> = Mutex::new((BTreeSet::new(), 0));
    let mut words = WORDS.lock().unwrap_or_else(PoisonError::into_inner);
    if let Some(known) = words.0.get(text) {
        return known;
    }
    words.1 += text.len();
    if words.1 > KEPT {
        return "one of many";
    }
    let word: &'static str = String::from(text).leak();
    words.0.insert(word);
    word
}

impl<T: Serialize> Serialize for DefaultValue<T> {
    fn serialize<S: Serializer>(&self, to: S) -> Result<S::Ok, S::Error> {
        let mut map = to.serialize_map(Some(4))?;
        map.serialize_entry("value", &self.value)?;
        map.serialize_entry("daemon", self.daemon)?;
        map.serialize_entry("versions", self.versions)?;
        map.serialize_entry("source", self.source)?;
        map.end()
    }
}

impl<'de, T: Deserialize<'de>> Deserialize<'de> for DefaultValue<T> {
    fn deserialize<D: Deserializer<'de>>(from: D) -> Result<Self, D::Error> {
        #[derive(Deserialize)]
        #[serde(deny_unknown_fields)]
        struct Row<T> {
            value: T,
            daemon: String,
            versions: String,
            source: String,
        }
        let row = Row::<T>::deserialize(from)?;
        let (daemon, versions, source) = (kept(&row.daemon), kept(&row.versions), kept(&row.source));
        Ok(Self { value: row.value, daemon, versions, source })
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn words_are_read_as_they_are_written() {
        for text in ["10.4.0.0/24", "10.4.0.9", "10.4.0.9-10.4.0.20", "2001:db8::/32"] {
            assert_eq!(text.parse::<IpRange>().unwrap().word(), text);
        }
        for text in ["80", "80-90"] {
            assert_eq!(text.parse::<PortRange>().unwrap().word(), text);
        }
        for text in ["3", "3/4", "3-5", "3/1-3/4"] {
            assert_eq!(text.parse::<IcmpRange>().unwrap().word(), text);
        }
        for text in ["tcp", "icmpv6", "any", "89"] {
            assert_eq!(text.parse::<Protocol>().unwrap().word(), text);
        }
        assert!("10.4.0.300".parse::<IpRange>().is_err() && "10.4.0.9-10.4.0.8".parse::<IpRange>().is_err());
        assert!("70000".parse::<PortRange>().is_err() && "9-8".parse::<PortRange>().is_err());
        assert!("tpc".parse::<Protocol>().is_err() && "256".parse::<Protocol>().is_err());
    }

    #[test]
    fn a_word_is_kept_once() {
        assert!(std::ptr::eq(kept("a daemon of a test"), kept("a daemon of a test")));
    }
}
