//! Names of ICMP types and codes.

use serde::Deserialize;
use std::collections::BTreeMap;
use trevlin_model::{Family, IcmpRange};

/// A type, and a code where the name has one.
#[derive(Deserialize)]
#[serde(untagged)]
enum Meant {
    Code([u8; 2]),
    Type([u8; 1]),
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
struct Table {
    v4: BTreeMap<String, Meant>,
    v6: BTreeMap<String, Meant>,
}

trevlin_model::table! { static TABLE: Table = "../tables/icmp-types.toml"; }

/// The range for `8`, `3/4` or a name.
pub(crate) fn range(text: &str, family: Family) -> Option<IcmpRange> {
    if let Some((kind, code)) = text.split_once('/') {
        return Some(IcmpRange::of_code(kind.parse().ok()?, code.parse().ok()?));
    }
    if let Ok(kind) = text.parse() {
        return Some(IcmpRange::of_type(kind));
    }
    let names = if family == Family::V4 { &TABLE.v4 } else { &TABLE.v6 };
    Some(match names.get(&text.to_ascii_lowercase())? {
        Meant::Type([kind]) => IcmpRange::of_type(*kind),
        Meant::Code([kind, code]) => IcmpRange::of_code(*kind, *code),
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn names_and_numbers() {
        for (text, family, wanted) in [
            ("8", Family::V4, Some((0x0800, 0x08ff))),
            ("3/4", Family::V4, Some((0x0304, 0x0304))),
            ("fragmentation-needed", Family::V4, Some((0x0304, 0x0304))),
            ("TOS-host-redirect", Family::V4, Some((0x0503, 0x0503))),
            ("echo-request", Family::V4, Some((0x0800, 0x08ff))),
            ("echo-request", Family::V6, Some((0x8000, 0x80ff))),
            ("port-unreachable", Family::V6, Some((0x0104, 0x0104))),
            ("256", Family::V4, None),
            ("packet-too-big", Family::V4, None),
        ] {
            let found = range(text, family).map(|one| (one.first, one.last));
            assert_eq!(found, wanted, "{text} {family}");
        }
    }
}
