//! Services in words.

use trevlin_model::{IcmpRange, PortRange, Protocol};

/// A service, as far as packets show it.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord)]
pub(super) struct Service {
    pub(super) protocol: Protocol,
    pub(super) ports: Vec<PortRange>,
    pub(super) icmp: Option<IcmpRange>,
}

/// A service in words: a protocol, or several joined by `+`, and ports or types of ICMP, joined by commas. A slash may replace the blank.
pub(super) fn services(text: &str) -> Option<Vec<Service>> {
    let (protocols, rest) = text.split_once([' ', '/']).unwrap_or((text, ""));
    let mut found = Vec::new();
    for protocol in protocols.split('+') {
        let protocol: Protocol = protocol.parse().ok()?;
        let of_icmp = protocol == Protocol::ICMP || protocol == Protocol::ICMPV6;
        let pieces: Vec<&str> = rest.split(',').map(str::trim).filter(|piece| !piece.is_empty()).collect();
        if pieces.is_empty() {
            found.push(Service { protocol, ports: Vec::new(), icmp: None });
        } else if of_icmp {
            for piece in pieces {
                found.push(Service { protocol, ports: Vec::new(), icmp: Some(piece.parse().ok()?) });
            }
        } else {
            let ports = pieces.into_iter().map(str::parse).collect::<Result<_, _>>().ok()?;
            found.push(Service { protocol, ports, icmp: None });
        }
    }
    Some(found)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn services_in_words() {
        let port = |first, last| PortRange { first, last };
        for (text, wanted) in [
            ("tcp 443", Some(vec![(6, vec![port(443, 443)])])),
            ("tcp/80,8000-8010", Some(vec![(6, vec![port(80, 80), port(8000, 8010)])])),
            ("tcp+udp 53", Some(vec![(6, vec![port(53, 53)]), (17, vec![port(53, 53)])])),
            ("esp", Some(vec![(50, vec![])])),
            ("icmp 8", Some(vec![(1, vec![])])),
            ("web", None),
            ("tcp 70000", None),
        ] {
            let found = services(text).map(|all| {
                all.into_iter().map(|one| (one.protocol.0.unwrap(), one.ports)).collect::<Vec<_>>()
            });
            assert_eq!(found, wanted, "{text}");
        }
    }
}
