//! Addresses, prefixes, masks and ranges as configuration files write them.

use ipnet::{IpNet, Ipv4Net};
use std::net::{IpAddr, Ipv4Addr, Ipv6Addr};
use trevlin_model::{Family, IpRange, MalformedAddress, Origin, RangeError};

/// A network, or an address as a network of its own.
pub(crate) fn net_of(word: &str) -> Option<IpNet> {
    word.parse().ok().or_else(|| word.parse::<IpAddr>().ok().map(IpNet::from))
}

/// An IPv4 network from address and contiguous mask in dotted notation; host bits are cut off.
pub(crate) fn v4_with_mask(address: &str, mask: &str) -> Option<Ipv4Net> {
    let mask = ipnet::ipv4_mask_to_prefix(mask.parse().ok()?).ok()?;
    Some(Ipv4Net::new(address.parse().ok()?, mask).ok()?.trunc())
}

/// `address`, `address/length` or, for IPv4, `address/mask`. `None` for names, bad numbers and masks with holes.
pub(crate) fn network(text: &str, family: Family) -> Option<IpNet> {
    let (address, suffix) = match text.split_once('/') {
        Some((address, suffix)) => (address, Some(suffix)),
        None => (text, None),
    };
    let (address, full): (IpAddr, u8) = match family {
        Family::V4 => (address.parse::<Ipv4Addr>().ok()?.into(), 32),
        Family::V6 => (address.parse::<Ipv6Addr>().ok()?.into(), 128),
    };
    let length = match suffix {
        None => full,
        Some(digits) if !digits.is_empty() && digits.bytes().all(|byte| byte.is_ascii_digit()) => {
            digits.parse().ok()?
        }
        Some(mask) => match mask.parse().ok()? {
            IpAddr::V4(mask) if family == Family::V4 => ipnet::ipv4_mask_to_prefix(mask).ok()?,
            IpAddr::V6(mask) if family == Family::V6 => ipnet::ipv6_mask_to_prefix(mask).ok()?,
            _ => return None,
        },
    };
    IpNet::new(address, length).ok().map(|net| net.trunc())
}

/// `first-last` or a single address.
pub(crate) fn range(text: &str) -> Option<IpRange> {
    match text.split_once('-') {
        Some((first, last)) => IpRange::new(first.parse().ok()?, last.parse().ok()?).ok(),
        None => Some(text.parse::<IpAddr>().ok()?.into()),
    }
}

/// The value that `parse` returns for a text. A text that is neither that nor a host name is kept as malformed.
pub(crate) fn take<T>(
    text: &str,
    origin: Origin,
    malformed: &mut Vec<MalformedAddress>,
    parse: impl FnOnce(&str) -> Option<T>,
) -> Option<T> {
    let found = parse(text);
    if found.is_none() && !is_name(text) {
        malformed.push(MalformedAddress { why: what_is_wrong(text), origin });
    }
    found
}

/// A single address.
pub(crate) fn single(text: &str) -> Option<IpRange> {
    text.parse::<IpAddr>().ok().map(IpRange::from)
}

/// A network of either version, host bits cut off; an address alone is a network of one.
pub(crate) fn prefix(text: &str) -> Option<IpNet> {
    network(text, if text.contains(':') { Family::V6 } else { Family::V4 })
}

/// `first-last` with or without blanks, a prefix, or a single address.
pub(crate) fn range_or_prefix(text: &str) -> Option<IpRange> {
    match text.split_once('-') {
        Some((first, last)) => IpRange::new(first.trim().parse().ok()?, last.trim().parse().ok()?).ok(),
        None => prefix(text).map(IpRange::from),
    }
}

/// Whether a text that is no address may be the name of a host. Letters in the place of digits make none.
pub(crate) fn is_name(text: &str) -> bool {
    let letters = |byte: u8| byte.is_ascii_alphabetic();
    text.bytes().any(letters)
        && !text.contains(':')
        && text.split('.').next_back().is_some_and(|last| last.is_empty() || last.bytes().any(letters))
        && digits_for_letters(text).parse::<IpAddr>().is_err()
}

/// The text with the digits that some letters look like.
fn digits_for_letters(text: &str) -> String {
    text.replace(['l', 'I'], "1").replace(['o', 'O'], "0")
}

/// The error in a text that should be an address, a network or a range, as a phrase, with the value probably intended.
pub(crate) fn what_is_wrong(text: &str) -> String {
    let what = fault(text);
    match probably(text) {
        Some(meant) => format!("{what}; {meant} was probably intended"),
        None => what,
    }
}

fn fault(text: &str) -> String {
    // A range is looked at end by end, a network by its address.
    let first = text.split('/').next().unwrap_or(text);
    if let Some((low, high)) = first.split_once('-')
        && let (Ok(low), Ok(high)) = (low.trim().parse::<IpAddr>(), high.trim().parse::<IpAddr>())
    {
        return match IpRange::new(low, high) {
            Ok(_) => format!("`{text}` is a range, where one address or one network is expected"),
            Err(RangeError::Reversed) => format!("`{text}` runs backwards"),
            Err(RangeError::MixedFamilies) => {
                format!("`{text}` begins as IPv4 and ends as IPv6, or the other way round")
            }
        };
    }
    for end in first.split('-').map(str::trim) {
        let parts: Vec<&str> = end.split('.').collect();
        let digits = end.bytes().all(|byte| byte.is_ascii_digit() || byte == b'.');
        if parts.len() == 5 {
            return format!("`{text}` has five numbers, an address has four; one of them is too many");
        }
        if parts.len() < 4 && end.contains('.') && digits {
            return format!("`{text}` has {} numbers, an address has four", parts.len());
        }
        for part in &parts {
            if part.bytes().all(|byte| byte.is_ascii_digit())
                && part.parse::<u32>().is_ok_and(|number| number > 255)
            {
                return format!("`{text}` has the number {part}; none may be over 255");
            }
        }
        if parts.len() == 4 && digits && parts.iter().any(|part| part.len() > 1 && part.starts_with('0')) {
            return format!("`{text}` has a number with a leading zero, which some programs read as octal");
        }
    }
    if first != text
        && first.parse::<IpAddr>().is_ok()
        && let Some((_, suffix)) = text.split_once('/')
    {
        return match suffix.parse::<u32>() {
            Ok(length) => format!("`{text}`: a prefix of {length} bits is longer than the address"),
            Err(_) => {
                format!("`{text}`: `{suffix}` is neither the length of a prefix nor a mask without holes")
            }
        };
    }
    format!("`{text}` is not an address")
}

/// The address or range that was probably intended: the one reading that a single slip explains. It is shown to users and never used as a
/// fact.
fn probably(text: &str) -> Option<String> {
    let is_range = |text: &str| range(text).is_some();
    // A letter for a digit, a comma or two dots for one.
    let tidied = digits_for_letters(text).replace("..", ".").replace(',', ".");
    if tidied != text && is_range(&tidied) {
        return Some(tidied);
    }
    if let Some((low, high)) = text.split_once('-') {
        let (low, high) = (low.trim(), high.trim());
        if is_range(&format!("{high}-{low}")) {
            return Some(format!("{high}-{low}"));
        }
        let (head, last) = low.rsplit_once('.')?;
        // The end cut to its last digits: 200-25 for 200-225.
        if let (Ok(first), Ok(end), Ok(_)) =
            (last.parse::<u32>(), high.parse::<u32>(), low.parse::<Ipv4Addr>())
        {
            let whole = format!("{}{high}", last.get(..last.len().checked_sub(high.len())?)?);
            let reached = whole.parse::<u32>().ok()?;
            if end < first && reached > first && reached <= 255 {
                return Some(format!("{head}.{last}-{reached}"));
            }
        }
        return None;
    }
    let parts: Vec<&str> = text.split('.').collect();
    // The fourth dot of five numbers stands where a range has its dash.
    if let [a, b, c, first, last] = parts.as_slice() {
        let joined = format!("{a}.{b}.{c}.{first}-{a}.{b}.{c}.{last}");
        return is_range(&joined).then(|| format!("{a}.{b}.{c}.{first}-{last}"));
    }
    None
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn networks() {
        for (text, wanted) in [
            ("10.1.2.3", Some("10.1.2.3/32")),
            ("10.1.2.3/24", Some("10.1.2.0/24")),
            ("10.1.2.3/255.255.0.0", Some("10.1.0.0/16")),
            ("10.1.2.3/255.0.255.0", None),
            ("10.1.2.3/33", None),
            ("10.1.2.3/", None),
            ("host.example", None),
            ("2001:db8::/32", None),
        ] {
            assert_eq!(network(text, Family::V4).map(|net| net.to_string()).as_deref(), wanted, "{text}");
        }
        assert_eq!(network("2001:db8::1/32", Family::V6).unwrap().to_string(), "2001:db8::/32");
    }

    #[test]
    fn names_of_hosts() {
        for (text, name) in [
            ("gate.example", true),
            ("gate", true),
            ("10.4.0.1", false),
            ("10.4.0.1O", false),
            ("lO.4.0.1", false),
            ("fe80::x", false),
        ] {
            assert_eq!(is_name(text), name, "{text}");
        }
    }

    #[test]
    fn mistakes_are_named() {
        for (text, part) in [
            ("10.1.2.3.4", "five numbers"),
            ("10.1.2.300", "300"),
            ("10.1.2", "has 3 numbers"),
            ("gateway", "is not an address"),
            ("10.1.2.9.40", "10.1.2.9-40 was probably intended"),
            ("10.1.2.40.9", "one of them is too many"),
            ("10.1.2.40-10.1.2.9", "runs backwards; 10.1.2.9-10.1.2.40"),
            ("10.1.2.200-25", "10.1.2.200-225 was probably"),
            ("10.1..2.3", "10.1.2.3 was probably"),
            ("10.1.2.l0", "10.1.2.10 was probably"),
            ("10.1,2.3", "10.1.2.3 was probably"),
            ("10.1.2.010", "octal"),
            ("10.1.2.0/33", "longer than the address"),
            ("10.1.2.0/255.0.255.0", "without holes"),
            ("10.1.2.3-2001:db8::1", "begins as IPv4"),
        ] {
            assert!(what_is_wrong(text).contains(part), "{text}: {}", what_is_wrong(text));
        }
    }
}
