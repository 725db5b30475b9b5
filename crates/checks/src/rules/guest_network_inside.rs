//! A network for guests reaches internal networks.

use crate::check::{Answer, Check, Fail, Need, Run, Verdict};
use crate::subject::{Subject, SubjectKind};
use crate::support::each_once;
use crate::support::openings::{NETWORK, every_port_of, nearly_every, networks_of};
use ipnet::IpNet;
use std::collections::BTreeMap;
use trevlin_analysis::context::Analyses;
use trevlin_analysis::exposure::BeyondExport;
use trevlin_analysis::exposures::GuestNetwork;
use trevlin_analysis::services::endpoint;
use trevlin_analysis::ways::{cited, some_ranges};
use trevlin_estate::area::{Area, Severity};
use trevlin_estate::assemble::space::own_space;
use trevlin_estate::baseline::Baseline;
use trevlin_estate::special::is_public;
use trevlin_model::{Family, IpRange, Origin, Protocol, total_addresses, total_ports};

/// The check.
pub(crate) const CHECK: Check = Check {
    id: "rules/guest-network-inside",
    area: Area::Rules,
    title: "Guest network reaches internal networks",
    severity: Severity::Medium,
    why: "Devices in a guest network belong to other people and are not maintained. A guest network that reaches internal \
          hosts is an open door into the office for any visitor, and for malware on a visitor's device.",
    fix: "Permit guests the Internet only, and drop everything to internal networks before that rule. Provide single \
          services, such as a printer, by their address and port.",
    judged: "Fails for each interface with the name of a guest network (guest, visitor, gast) from which the packet filter \
             permits connections to hosts of other internal networks: high where every port is open, medium for networks, \
             low for a few hosts and ports. Passes where it permits none. Undetermined where a condition not analysed \
             decides. The device's own DNS and DHCP are not judged.",
    references: &["NIST SP 800-153, 2.1", "NIST SP 800-41 Rev. 1, 4.1"],
    needs: &[Need::Addresses, Need::Filter],
    run: Run::Analyses(run),
};

fn run(estate: &Analyses, _: &Baseline) -> Vec<Answer> {
    let mut answers = Vec::new();
    for guest in &estate.internal().guests {
        let subject = Subject::of(SubjectKind::Interface).with(&guest.interface);
        answers.push(Answer::new(guest.device, subject, judge(estate, guest)));
    }
    answers
}

/// The destination: the network of the device that has it, where it is more than a few hosts.
fn destination(estate: &Analyses, device: usize, one: &BeyondExport) -> String {
    let wide =
        |net: &IpNet| is_network(one) || total_addresses(&*one.addresses) >= IpRange::from(*net).size() / 2;
    let network = networks_of(estate, device, &one.addresses).find(wide);
    network.map_or_else(|| some_ranges(&one.addresses), |net| net.to_string())
}

fn is_network(one: &BeyondExport) -> bool {
    total_addresses(&*one.addresses) > NETWORK
}

/// Ports in words.
fn ports_of(one: &BeyondExport) -> String {
    match &*one.ports {
        ports if nearly_every(ports) => every_port_of(one.protocol),
        [only] => endpoint(one.protocol, *only),
        ports => format!("{} {} ports", total_ports(ports), Protocol(Some(one.protocol)).name()),
    }
}

fn judge(estate: &Analyses, guest: &GuestNetwork) -> Verdict {
    const MOST: usize = 4;
    let exposure = &guest.exposure;
    let name = &estate.devices[guest.device].name;
    let interfaces = &estate.devices[guest.device].facts.interfaces;
    let own: Vec<IpRange> = interfaces
        .iter()
        .filter(|one| one.name == guest.interface)
        .flat_map(|one| &one.addresses)
        .map(|address| IpRange::from(address.net.trunc()))
        .collect();
    let elsewhere =
        |one: &&BeyondExport| !one.addresses.iter().all(|range| own.iter().any(|net| net.covers(range)));
    // Whatever is called by a public address is reached as from anywhere on the Internet.
    let site = own_space(estate);
    let inner = |called: &[IpRange]| {
        called.iter().any(|range| {
            !is_public(range.first())
                || (range.family() == Family::V6 && site.iter().any(|net| net.covers(range)))
        })
    };
    let beyond: Vec<&BeyondExport> =
        exposure.beyond.iter().filter(elsewhere).filter(|one| inner(&one.called)).collect();
    let inside: Vec<&BeyondExport> = beyond.iter().copied().filter(|one| one.certain).collect();
    let services = &estate.internet().services;
    let served: Vec<(String, Vec<Origin>)> = exposure
        .reached
        .iter()
        .filter(|one| one.certain && one.device != guest.device && inner(&one.called))
        .map(|one| {
            let service = &services[one.device][one.service];
            let text =
                format!("{} of {} ({})", service.name, estate.devices[one.device].name, service.endpoint());
            (text, cited(&one.steps).collect())
        })
        .collect();
    if inside.is_empty() && served.is_empty() {
        let open: Vec<Origin> = beyond.iter().flat_map(|one| cited(&one.steps)).collect();
        if open.is_empty() {
            return Verdict::pass(guest.origin);
        }
        let question = format!(
            "Please state which internal hosts the guest network at {} of {name} reaches: a condition not analysed decides.",
            guest.interface
        );
        return Verdict::ask(question, each_once(open));
    }
    let rating = if inside.iter().any(|one| nearly_every(&one.ports) && is_network(one)) {
        CHECK.rated_at(Severity::High, "every port of a network is open")
    } else if inside.iter().any(|one| is_network(one) || nearly_every(&one.ports)) {
        CHECK.rating().because("the opening is to a whole network, or for every port")
    } else {
        CHECK.rated_at(Severity::Low, "only a few hosts and ports are open")
    };
    let mut by_destination: BTreeMap<String, Vec<String>> = BTreeMap::new();
    for one in &inside {
        let ports = by_destination.entry(destination(estate, guest.device, one)).or_default();
        let text = ports_of(one);
        if !ports.contains(&text) {
            ports.push(text);
        }
    }
    let mut places: Vec<String> =
        by_destination.iter().map(|(to, ports)| format!("{to} on {}", ports.join(" and "))).collect();
    places.extend(served.iter().map(|(text, _)| text.clone()));
    places.sort();
    places.dedup();
    let more = places.len().saturating_sub(MOST);
    places.truncate(MOST);
    let more = if more > 0 { format!(" and {more} more") } else { String::new() };
    let lines =
        inside.iter().flat_map(|one| cited(&one.steps)).chain(served.into_iter().flat_map(|one| one.1));
    Verdict::Fail(Fail {
        rating,
        title: format!("Guest network {} of {name} reaches internal networks", guest.interface).into(),
        detail: format!("Permitted: {}{more}.", places.join("; ")).into(),
        evidence: each_once(lines.chain([guest.origin])),
    })
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::testing::run;

    #[test]
    fn cases() {
        let addresses = (
            "gate/ip-addr.json",
            r#"[{"ifname":"eth0","addr_info":[{"local":"192.0.2.9","prefixlen":24}]},
{"ifname":"br-guest","addr_info":[{"local":"10.9.0.1","prefixlen":24}]},
{"ifname":"br-lan","addr_info":[{"local":"10.4.0.1","prefixlen":24}]}]"#,
        );
        let routes =
            ("gate/ip-route.json", r#"[{"dst":"default","gateway":"192.0.2.1","dev":"eth0","flags":[]}]"#);
        let list = |rules: &str| {
            format!(
                "*filter\n:INPUT DROP [0:0]\n:FORWARD DROP [0:0]\n-A FORWARD -m state --state ESTABLISHED -j ACCEPT\n{rules}COMMIT\n"
            )
        };
        for (name, rules, wanted) in [
            (
                "everything",
                "-A FORWARD -i br-guest -j ACCEPT\n",
                "fail high gate iptables-save.txt:5 ip-addr.json:2",
            ),
            (
                "a printer",
                "-A FORWARD -i br-guest -d 10.4.0.77 -p tcp --dport 631 -j ACCEPT\n",
                "fail low gate iptables-save.txt:5 ip-addr.json:2",
            ),
            (
                "a port of the network",
                "-A FORWARD -i br-guest -d 10.4.0.0/24 -p tcp --dport 443 -j ACCEPT\n",
                "fail medium gate iptables-save.txt:5 ip-addr.json:2",
            ),
            ("the Internet", "-A FORWARD -i br-guest -o eth0 -j ACCEPT\n", "pass gate"),
            (
                "the Internet behind a deny",
                "-A FORWARD -i br-guest -d 10.0.0.0/8 -j DROP\n-A FORWARD -i br-guest -j ACCEPT\n",
                "pass gate",
            ),
            ("another network", "-A FORWARD -i br-lan -j ACCEPT\n", "pass gate"),
            (
                "not modelled",
                "-A FORWARD -i br-guest -d 10.4.0.77 -p tcp --dport 631 -m mark --mark 1 -j ACCEPT\n",
                "ask gate",
            ),
        ] {
            let list = list(rules);
            run(&CHECK, &[(name, &[addresses, routes, ("gate/iptables-save.txt", &list)], &[wanted])]);
        }
    }
}
