//! Addresses, prefixes, masks and ranges as configuration files write them.

use ipnet::{IpNet, Ipv4Net};
use std::net::{IpAddr, Ipv4Addr, Ipv6Addr};
use trevlin_model::{Family, IpRange};

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

/// What is wrong with a text that should be a dotted IPv4 address, as a phrase, with what it probably meant.
pub(crate) fn what_is_wrong(text: &str) -> String {
    let parts: Vec<&str> = text.split('.').collect();
    if parts.len() == 5 {
        return format!("`{text}` has five numbers, an address has four; one of them is too many");
    }
    if parts.len() < 4 && text.contains('.') && text.bytes().all(|byte| byte.is_ascii_digit() || byte == b'.')
    {
        return format!("`{text}` has {} numbers, an address has four", parts.len());
    }
    for part in &parts {
        if part.bytes().all(|byte| byte.is_ascii_digit())
            && part.parse::<u32>().is_ok_and(|number| number > 255)
        {
            return format!("`{text}` has the number {part}; none may be over 255");
        }
    }
    format!("`{text}` is not an address")
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
    fn mistakes_are_named() {
        for (text, part) in [
            ("10.1.2.3.4", "five numbers"),
            ("10.1.2.300", "300"),
            ("10.1.2", "has 3 numbers"),
            ("gateway", "is not an address"),
        ] {
            assert!(what_is_wrong(text).contains(part), "{text}: {}", what_is_wrong(text));
        }
    }
}
