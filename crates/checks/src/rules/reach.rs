//! Common parts of the reachability checks: whether a network is open as a whole.

use ipnet::IpNet;
use trevlin_analysis::context::Analyses;
use trevlin_analysis::exposure::Opening;
use trevlin_estate::baseline::Thresholds;
use trevlin_estate::special::is_link_local;
use trevlin_model::{IpRange, Origin, PortRange};
use trevlin_packets::way::Egress;

/// Whether ports are all of them, but for a few that rules single out.
pub(super) fn whole(ports: &[PortRange], thresholds: &Thresholds) -> bool {
    let count: u64 = ports.iter().map(|one| u64::from(one.last) - u64::from(one.first) + 1).sum();
    count >= thresholds.whole_ports
}

/// Networks of a device with other hosts, except that of the source interface and those that face untrusted networks.
pub(super) fn networks_behind(estate: &Analyses, device: usize, interface: &str) -> Vec<IpNet> {
    let faces = |name: &str| estate.outside(device).iter().any(|one| one.name == name);
    let inside = estate.devices[device]
        .facts
        .interfaces
        .iter()
        .filter(|one| !one.loopback && !one.point_to_point && one.name != interface && !faces(&one.name));
    let nets =
        inside.flat_map(|one| &one.addresses).map(|one| one.net).filter(|net| !is_link_local(net.addr()));
    nets.filter(|net| net.prefix_len() < net.max_prefix_len() - 1).map(|net| net.trunc()).collect()
}

/// Whether a network is reached as a whole.
pub(super) struct Reached {
    /// It is.
    pub(super) certain: bool,
    /// Uncertain: a condition that is not analysed decides.
    pub(super) perhaps: bool,
    /// The permitting rules.
    pub(super) rules: Vec<Origin>,
}

impl Reached {
    /// How a network behind a device is reached, by TCP or UDP.
    pub(super) fn of(openings: &[Opening], device: usize, net: IpNet, thresholds: &Thresholds) -> Self {
        let range = IpRange::from(net);
        let mut found = Self { certain: false, perhaps: false, rules: Vec::new() };
        for protocol in [6, 17] {
            let wide = openings.iter().filter(|one| {
                (one.device, one.gone, one.protocol) == (device, Some(Egress::Host), protocol)
                    && whole(&one.ports, thresholds)
            });
            let size = |certain: bool| {
                let all = wide.clone().filter(|one| one.certain || !certain).flat_map(|one| &one.addresses);
                trevlin_model::total_addresses(all.filter_map(|one| one.intersection(&range)))
            };
            let half = range.size() / 2;
            if size(true) > half {
                found.certain = true;
                let accepts = wide.clone().flat_map(|one| &one.steps).filter(|step| step.kind.accepts());
                found.rules.extend(accepts.filter_map(|step| step.origin));
            }
            found.perhaps |= size(false) > half;
        }
        found.rules.sort_unstable();
        found.rules.dedup();
        found
    }
}

#[cfg(test)]
pub(crate) mod testing {
    //! A gateway with WireGuard clients 10.9.0.0/24, the Internet on eth0 and the internal network 10.4.0.0/24 on eth1.

    use crate::check::Check;
    use crate::testing::{answers, estate_with};

    const ADDRESSES: &str = r#"[{"ifname":"eth0","addr_info":[{"local":"192.0.2.9","prefixlen":24}]},
{"ifname":"eth1","addr_info":[{"local":"10.4.0.1","prefixlen":24}]},
{"ifname":"wg0","flags":["POINTOPOINT","UP"],"addr_info":[{"local":"10.9.0.1","prefixlen":24}]}]"#;
    const ROUTES: &str = r#"[{"dst":"default","gateway":"192.0.2.1","dev":"eth0","flags":[]}]"#;
    const WIREGUARD: &str = "[Interface]\nPrivateKey = yAnz5TF+lXXJte14tji3zlMNq+hd2rYUIgJBgB3fBmk=\nListenPort = 51820\n\
                             Address = 10.9.0.1/24\n[Peer]\nPublicKey = xTIBA5rboUvnH4htodjb6e697QjLERt1NAB4mZqp8Dg=\n\
                             AllowedIPs = 10.9.0.7/32\n";

    /// Answers with these rules; the first is in line 5.
    pub(crate) fn on_gate(check: &Check, rules: &str, more: &[(&str, &str)]) -> Vec<String> {
        on_gate_with(check, rules, more, "")
    }

    pub(crate) fn on_gate_with(check: &Check, rules: &str, more: &[(&str, &str)], file: &str) -> Vec<String> {
        let list = format!(
            "*filter\n:INPUT DROP [0:0]\n:FORWARD DROP [0:0]\n:OUTPUT ACCEPT [0:0]\n{rules}\
             -A FORWARD -m state --state ESTABLISHED -j ACCEPT\nCOMMIT\n"
        );
        let mut files = vec![
            ("gate/ip-addr.json", ADDRESSES),
            ("gate/ip-route.json", ROUTES),
            ("gate/wg0.conf", WIREGUARD),
            ("gate/iptables-save.txt", list.as_str()),
        ];
        files.extend(more);
        answers(check, &estate_with(&files, file))
    }
}
