//! Types of captures and their values.

use super::date;
use super::word::Word;
use crate::sheet::node::{Node, Value};
use crate::sheet::take::nearest;
use ipnet::IpNet;
use smol_str::ToSmolStr;
use std::collections::BTreeMap;
use std::net::{IpAddr, Ipv4Addr};
use trevlin_model::{IpRange, Origin, PortRange};

/// Type of a capture.
#[derive(Debug, Clone, PartialEq)]
pub(crate) enum Kind {
    /// Any word.
    Word,
    /// All words that are left, as one text.
    Rest,
    /// An IP address.
    Address,
    /// An address with the length of its prefix.
    Prefix,
    /// An address and a mask, as two words.
    Masked,
    /// An address and a mask in which set bits do not matter, as two words.
    Wildcard,
    /// An address, a prefix, or two addresses with a dash between them.
    Range,
    /// A port.
    Port,
    /// Ports and ranges of ports, joined by commas.
    Ports,
    /// Words joined by commas.
    List,
    /// A network mask, or the length of a prefix.
    Mask,
    /// A mask in which set bits do not matter.
    InverseMask,
    /// A day.
    Date,
    /// A secret.
    Secret,
    /// Yes or no, in one of many words.
    YesNo,
    /// A whole number.
    Number,
    /// A span of time, in seconds, or with units as `1h30m`.
    Duration,
    /// One of these words.
    OneOf(Vec<String>),
    /// A word of a map, by the map's number.
    Mapped(usize),
}

/// Names of captures by number, and what each takes.
pub(super) type Captures = Vec<(String, Kind)>;

const KINDS: [(&str, Kind); 17] = [
    ("word", Kind::Word),
    ("rest", Kind::Rest),
    ("address", Kind::Address),
    ("prefix", Kind::Prefix),
    ("masked", Kind::Masked),
    ("wildcard", Kind::Wildcard),
    ("range", Kind::Range),
    ("port", Kind::Port),
    ("ports", Kind::Ports),
    ("list", Kind::List),
    ("mask", Kind::Mask),
    ("inverse-mask", Kind::InverseMask),
    ("date", Kind::Date),
    ("secret", Kind::Secret),
    ("yes-no", Kind::YesNo),
    ("number", Kind::Number),
    ("duration", Kind::Duration),
];

impl Kind {
    /// The kind for the word behind a capture's colon.
    pub(super) fn parse(text: &str, maps: &BTreeMap<String, usize>) -> Result<Self, String> {
        if let Some(number) = maps.get(text) {
            return Ok(Self::Mapped(*number));
        }
        if let Some((_, kind)) = KINDS.iter().find(|(word, _)| *word == text) {
            return Ok(kind.clone());
        }
        if text.contains(',') {
            let all: Vec<String> =
                text.split(',').map(|one| one.trim().to_owned()).filter(|one| !one.is_empty()).collect();
            return Ok(Self::OneOf(all));
        }
        let known: Vec<&str> =
            KINDS.iter().map(|(word, _)| *word).chain(maps.keys().map(String::as_str)).collect();
        Err(format!("`{text}` is not a capture type; {}", nearest(text, &known)))
    }

    /// Whether a text is the name of a type.
    pub(super) fn is_type(text: &str) -> bool {
        KINDS.iter().any(|(word, _)| *word == text)
    }

    /// Whether a word that fits may have no value.
    pub(super) fn may_fail(&self) -> bool {
        matches!(self, Self::Mapped(_))
    }

    /// Words that fit, different ones where others fit as well.
    pub(super) fn samples(&self) -> Vec<Vec<String>> {
        let of = |all: &[&str]| all.iter().map(|text| text.split(' ').map(str::to_owned).collect()).collect();
        match self {
            Self::OneOf(all) => all.iter().map(|word| vec![word.clone()]).collect(),
            Self::Word | Self::Mapped(_) | Self::Secret => of(&["some-word", "7", "192.0.2.9"]),
            Self::Rest => of(&["some-word", "two words", "7 8 9"]),
            Self::List => of(&["a,b", "some-word"]),
            Self::Address => of(&["192.0.2.9", "2001:db8::9"]),
            Self::Prefix => of(&["192.0.2.0/24", "2001:db8::/64"]),
            Self::Masked => of(&["192.0.2.0 255.255.255.0"]),
            Self::Wildcard => of(&["192.0.2.0 0.0.0.255"]),
            Self::Mask => of(&["255.255.255.0", "24"]),
            Self::InverseMask => of(&["0.0.0.255"]),
            Self::Range => of(&["192.0.2.9", "192.0.2.9-192.0.2.12", "192.0.2.0/24"]),
            Self::Port => of(&["443", "65535"]),
            Self::Ports => of(&["443", "80,443", "500-510"]),
            Self::Date => of(&["2026-11-30"]),
            Self::YesNo => of(&["yes", "off"]),
            Self::Number => of(&["7", "123456"]),
            Self::Duration => of(&["30", "1h30m"]),
        }
    }

    /// What it is, for people.
    pub(super) fn in_words(&self) -> String {
        let of_kind = match self {
            Self::OneOf(all) => return format!("one of {}", all.join(", ")),
            Self::Word | Self::Mapped(_) | Self::Rest => "a word",
            Self::Address => "an IP address",
            Self::Prefix => "an address with its length, such as 10.20.4.0/24",
            Self::Masked => "an address and a mask, such as 10.20.4.0 255.255.255.0",
            Self::Wildcard => "an address and an inverse mask, such as 10.20.4.0 0.0.0.255",
            Self::Range => "an address, network or range",
            Self::Port => "a port up to 65535",
            Self::Ports => "ports, such as 80,443 or 500-510",
            Self::List => "values with commas between them",
            Self::Mask => "a mask, such as 255.255.255.0",
            Self::InverseMask => "an inverse mask, such as 0.0.0.255",
            Self::Date => "a date, such as 2026-11-30",
            Self::Secret => "a secret",
            Self::YesNo => "yes or no",
            Self::Number => "a whole number",
            Self::Duration => "a time, such as 30 or 8h",
        };
        of_kind.to_owned()
    }

    /// How many words it takes, where that is always the same.
    pub(super) fn words(&self) -> Option<usize> {
        match self {
            Self::Rest | Self::Date => None,
            Self::Masked | Self::Wildcard => Some(2),
            _ => Some(1),
        }
    }

    /// Number of matching words. Words of a map match whether the map has them or not: missing words are reported, and no other phrase is
    /// tried.
    pub(super) fn takes(&self, words: &[Word<'_>]) -> Option<usize> {
        let first = words.first()?.text;
        let fits = match self {
            Self::Word | Self::Secret | Self::Mapped(_) | Self::List => true,
            Self::Rest => return Some(words.len()),
            Self::Address => first.parse::<IpAddr>().is_ok(),
            Self::Prefix => prefix(first).is_some(),
            Self::Masked => return masked(first, words.get(1)?.text, false).map(|_| 2),
            Self::Wildcard => return masked(first, words.get(1)?.text, true).map(|_| 2),
            Self::Range => first.parse::<IpRange>().is_ok() || prefix(first).is_some(),
            Self::Port => first.parse::<u16>().is_ok(),
            Self::Ports => ports(first).is_some(),
            Self::Mask => mask(first, false).is_some(),
            Self::InverseMask => mask(first, true).is_some(),
            Self::Date => return date::of(words).map(|(_, number)| number),
            Self::YesNo => yes_no(first).is_some(),
            Self::Number => first.parse::<i64>().is_ok(),
            Self::Duration => seconds(first).is_some(),
            Self::OneOf(all) => all.iter().any(|one| one == first),
        };
        fits.then_some(1)
    }

    /// The value of the words that it took.
    ///
    /// # Errors
    /// When a map does not have the word.
    pub(super) fn value(
        &self,
        words: &[Word<'_>],
        text: &str,
        origin: Origin,
        maps: &[Map],
    ) -> Result<Node, String> {
        let first = words.first().map_or("", |word| word.text);
        let plain = |value| Node { origin, value };
        Ok(match self {
            Self::Rest => plain(Value::Text(text.into())),
            Self::Masked | Self::Wildcard => {
                let second = words.get(1).map_or("", |word| word.text);
                let net = masked(first, second, *self == Self::Wildcard).map(|net| net.to_smolstr());
                plain(Value::Text(net.unwrap_or_default()))
            }
            Self::Prefix | Self::Range
                if first.rsplit_once('/').is_some_and(|(_, mask)| mask.contains('.')) =>
            {
                let net = prefix(first).map(|net| net.to_smolstr());
                plain(Value::Text(net.unwrap_or_default()))
            }
            Self::Ports => {
                let all = ports(first).unwrap_or_default();
                plain(Value::List(all.iter().map(|one| plain(Value::Text(one.to_smolstr()))).collect()))
            }
            Self::List => {
                let all = first.split(',').map(str::trim).filter(|one| !one.is_empty());
                plain(Value::List(all.map(|one| plain(Value::Text(one.into()))).collect()))
            }
            Self::Mask | Self::InverseMask => {
                let length = mask(first, *self == Self::InverseMask).unwrap_or_default();
                plain(Value::Number(i64::from(length)))
            }
            Self::Date => {
                let day = date::of(words).map(|(day, _)| day.to_smolstr());
                plain(Value::Text(day.unwrap_or_default()))
            }
            Self::YesNo => plain(Value::Truth(yes_no(first) == Some(true))),
            Self::Number => plain(Value::Number(first.parse().unwrap_or_default())),
            Self::Duration => plain(Value::Number(seconds(first).unwrap_or_default())),
            Self::Mapped(number) => {
                let map = &maps[*number];
                // The wildcard entry may be used as well.
                let Some(value) = map.words.get(first).or_else(|| map.words.get("*")) else {
                    let known: Vec<&str> = map.words.keys().map(String::as_str).collect();
                    return Err(format!(
                        "`{first}` is not in the map `{}`; {}",
                        map.name,
                        nearest(first, &known)
                    ));
                };
                let mut value = value.clone();
                if value.text() == Some(ITSELF) {
                    value.value = Value::Text(first.into());
                }
                place(&mut value, origin);
                value
            }
            _ => plain(Value::Text(first.into())),
        })
    }
}

/// In a map, stands for the word itself.
pub(super) const ITSELF: &str = "{}";

/// Gives a value, and all in it, another place.
pub(super) fn place(node: &mut Node, origin: Origin) {
    node.origin = origin;
    match &mut node.value {
        Value::Table(entries) => {
            for entry in entries {
                entry.key_origin = origin;
                place(&mut entry.node, origin);
            }
        }
        Value::List(all) => all.iter_mut().for_each(|one| place(one, origin)),
        _ => {}
    }
}

/// The appliance's words and their meaning.
#[derive(Debug, Clone)]
pub(crate) struct Map {
    pub(super) name: String,
    pub(super) words: BTreeMap<String, Node>,
}

/// An address and a mask as a prefix. The address is kept whole, as that of an interface is.
fn masked(address: &str, mask: &str, inverse: bool) -> Option<IpNet> {
    let address: Ipv4Addr = address.parse().ok()?;
    let mask = u32::from(mask.parse::<Ipv4Addr>().ok()?);
    let mask = if inverse { !mask } else { mask };
    IpNet::with_netmask(address.into(), Ipv4Addr::from(mask).into()).ok()
}

/// An address with the length of its prefix, or with a mask: `10.4.0.9/255.255.255.0`.
fn prefix(text: &str) -> Option<IpNet> {
    let (address, mask) = text.split_once('/')?;
    text.parse().ok().or_else(|| masked(address, mask, false))
}

/// Addresses with their networks among the words of a statement: each in one word, or beside its mask.
pub(super) fn prefixes<'a>(words: &'a [&str]) -> impl Iterator<Item = IpNet> + use<'a> {
    words.iter().enumerate().filter_map(|(at, word)| {
        let mask = || words.get(at + 1).filter(|mask| mask.contains('.'));
        prefix(word).or_else(|| masked(word, mask()?, false))
    })
}

/// Length of a prefix, of a mask or by itself: `255.255.255.0`, `24`, `/24`.
fn mask(text: &str, inverse: bool) -> Option<u8> {
    if inverse || text.contains('.') {
        return masked("0.0.0.0", text, inverse).map(|net| net.prefix_len());
    }
    text.strip_prefix('/').unwrap_or(text).parse().ok().filter(|length| *length <= 128)
}

fn ports(text: &str) -> Option<Vec<PortRange>> {
    text.split(',').map(|one| one.trim().parse().ok()).collect()
}

fn yes_no(word: &str) -> Option<bool> {
    match word.to_ascii_lowercase().as_str() {
        "yes" | "true" | "on" | "1" | "enable" | "enabled" => Some(true),
        "no" | "false" | "off" | "0" | "disable" | "disabled" => Some(false),
        _ => None,
    }
}

/// Seconds of a span of time: a number, or numbers with the units `s`, `m`, `h`, `d`, `w`.
fn seconds(text: &str) -> Option<i64> {
    if let Ok(number) = text.parse::<u32>() {
        return Some(i64::from(number));
    }
    let (mut whole, mut number) = (0i64, None::<i64>);
    for letter in text.chars() {
        if let Some(digit) = letter.to_digit(10) {
            number = Some(number.unwrap_or(0).checked_mul(10)?.checked_add(i64::from(digit))?);
            continue;
        }
        let unit = match letter.to_ascii_lowercase() {
            's' => 1,
            'm' => 60,
            'h' => 3600,
            'd' => 86_400,
            'w' => 604_800,
            _ => return None,
        };
        whole = whole.checked_add(number.take()?.checked_mul(unit)?)?;
    }
    number.is_none().then_some(whole).filter(|_| !text.is_empty())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn spans_masks_and_ports() {
        for (text, wanted) in [
            ("30", Some(30)),
            ("1h30m", Some(5400)),
            ("2d", Some(172_800)),
            ("5x", None),
            ("h", None),
            ("", None),
        ] {
            assert_eq!(seconds(text), wanted, "{text}");
        }
        for (address, mask, inverse, wanted) in [
            ("10.4.0.9", "255.255.255.0", false, Some("10.4.0.9/24")),
            ("10.4.0.0", "0.0.0.255", true, Some("10.4.0.0/24")),
            ("10.4.0.0", "255.0.255.0", false, None),
            ("10.4.0.0", "x", false, None),
        ] {
            assert_eq!(masked(address, mask, inverse).map(|net| net.to_string()).as_deref(), wanted);
        }
        assert_eq!(ports("80,8000-8010").map(|all| all.len()), Some(2));
        assert!(ports("80,").is_none());
    }
}
