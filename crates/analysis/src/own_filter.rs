//! Ports that a host limits by its own packet filter.

use crate::map::EstateMap;
use trevlin_estate::special::is_link_local;
use trevlin_model::{Family, Origin, Protocol};
use trevlin_packets::default_traffic::{DefaultAction, DefaultTraffic, Way, action_of_default};

/// The line by which a host's own packet filter keeps a port from every source that no rule names, in every IP version and by every
/// interface. `None` where a source without a name gets through anywhere, where a condition that is not analysed decides, and where
/// filter or interfaces were not exported.
#[must_use]
pub fn limited_to_named(estate: &EstateMap, device: usize, protocol: u8, port: u16) -> Option<Origin> {
    let mut line = None;
    let facts = &estate.devices[device].facts;
    for interface in facts.interfaces.iter().filter(|one| !one.loopback && one.up != Some(false)) {
        let own = interface.addresses.iter().map(|address| address.net.addr());
        for address in own.filter(|address| !is_link_local(*address)) {
            let family = Family::of(address);
            let tables = estate.tables(device, family);
            if tables.is_empty() || tables.iter().any(|table| !table.complete) {
                return None;
            }
            let traffic = DefaultTraffic {
                way: Way::ToDevice,
                entering: &interface.name,
                family,
                protocol: Protocol(Some(protocol)),
                port: Some(port),
                own_addresses: &[address],
            };
            let action = action_of_default(&tables, &traffic);
            if action.outcome != DefaultAction::Blocked {
                return None;
            }
            line = line.or(action.decided_by.last().copied());
        }
    }
    line
}

#[cfg(test)]
mod tests {
    use super::*;
    use trevlin_estate::testing::estate;

    #[test]
    fn sources_without_a_name() {
        let addresses = (
            "d/ip-addr.json",
            "[{\"ifname\":\"eth0\",\"addr_info\":[{\"local\":\"10.4.0.9\",\"prefixlen\":24}]},\n{\"ifname\":\"eth1\",\"addr_info\":[{\"local\":\"10.6.0.9\",\"prefixlen\":24}]}]",
        );
        for (rules, limited) in [
            ("-A INPUT -s 10.4.0.5 -p tcp --dport 443 -j ACCEPT\n", true),
            ("-A INPUT -s 10.4.0.0/24 -j ACCEPT\n", true),
            ("-A INPUT -p tcp --dport 443 -j ACCEPT\n", false),
            ("-A INPUT -p tcp -m multiport --dports 80,443 -j ACCEPT\n", false),
            ("-A INPUT -i eth1 -p tcp --dport 443 -j ACCEPT\n", false),
            ("-A INPUT -d 10.6.0.9 -p tcp --dport 443 -j ACCEPT\n", false),
            ("-A INPUT -p tcp --dport 22 -j ACCEPT\n", true),
            ("-A INPUT -m mark --mark 1 -p tcp --dport 443 -j ACCEPT\n", false),
            ("-A INPUT ! -s 10.4.0.0/24 -p tcp --dport 443 -j ACCEPT\n", false),
        ] {
            let text = format!("*filter\n:INPUT DROP [0:0]\n{rules}COMMIT\n");
            let estate = EstateMap::of(estate(&[addresses, ("d/iptables-save.txt", &text)]));
            assert_eq!(limited_to_named(&estate, 0, 6, 443).is_some(), limited, "{rules}");
        }
        let estate = EstateMap::of(estate(&[addresses]));
        assert_eq!(limited_to_named(&estate, 0, 6, 443), None, "no filter exported");
    }
}
