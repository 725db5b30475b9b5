//! The Internet reaches a port of a host that was not exported.

use crate::check::{Answer, Check, Fail, Need, Run, Verdict};
use crate::logins::capital;
use crate::subject::{Subject, SubjectKind};
use crate::support::openings::{
    NETWORK, every_port_of, for_sources, nearly_every, network_lines, networks_words,
};
use crate::support::rated::severity_of_kind;
use crate::support::{filter_decides, filter_of};
use std::collections::{BTreeMap, BTreeSet};
use trevlin_analysis::containers::containers_of;
use trevlin_analysis::context::Analyses;
use trevlin_analysis::exposure::{BeyondExport, owner_of};
use trevlin_analysis::services::{KnownPort, endpoint, known_port};
use trevlin_analysis::ways::{cited, some_ranges};
use trevlin_estate::area::{Area, Severity};
use trevlin_estate::baseline::Baseline;
use trevlin_model::{Origin, total_addresses};
use trevlin_packets::way::{StepKind, has_ports};

/// The check.
pub(crate) const CHECK: Check = Check {
    id: "exposure/unexported-host",
    area: Area::Exposure,
    title: "Internet-facing port of a host without an export",
    severity: Severity::Low,
    why: "The filter permits connections from the Internet to a host of which nothing was exported. What answers there could \
          not be assessed, and its port is often one of a remote desktop, a camera, a controller or a forgotten test.",
    fix: "Establish which service answers and who needs it. Provide remote desktops, shells, controllers and administration \
          through a VPN, limit the sources of everything else, and export the host for the next audit.",
    judged: "Fails for each permitted opening from the Internet to hosts of internal networks that were not exported, by the \
             usual service of the port: high for shells, remote desktops, management, files, databases, directories, \
             controllers, outdated tunnels and for every port; medium for cameras, printers, web pages at other ports than \
             80 and 443; info for web sites, mail and tunnels. An opening to a whole network is at least medium. One level \
             lower for named networks, info for a few named hosts. Undetermined where a condition not analysed decides.",
    references: &["NIST SP 800-41 Rev. 1, 4.1 and 5.2", "CIS Controls 8, 4.8"],
    needs: &[Need::Addresses, Need::Filter],
    run: Run::Analyses(run),
};

fn run(estate: &Analyses, _: &Baseline) -> Vec<Answer> {
    // TCP and UDP of one rule are one opening.
    let mut by_lines: BTreeMap<(usize, Vec<Origin>), Vec<Vec<&BeyondExport>>> = BTreeMap::new();
    for one in
        estate.internet().outside.beyond.iter().filter(|one| is_judged(one) && !is_container(estate, one))
    {
        let here = by_lines.entry((one.device, lines(one))).or_default();
        let alike = |known: &&mut Vec<&BeyondExport>| {
            let first = known[0];
            (first.certain, &first.addresses, &first.sources) == (one.certain, &one.addresses, &one.sources)
        };
        match here.iter_mut().find(alike) {
            Some(known) => known.push(one),
            None => here.push(vec![one]),
        }
    }
    let all: Vec<Vec<&BeyondExport>> = by_lines.into_values().flatten().collect();
    let devices: BTreeSet<usize> = all.iter().map(|parts| parts[0].device).collect();
    let mut answers = Vec::new();
    for parts in all {
        let subject = format!("{} {}", services(&parts), some_ranges(&parts[0].addresses));
        let subject = Subject::of(SubjectKind::Port).with(subject);
        answers.push(Answer::new(parts[0].device, subject, judge(estate, &parts)));
    }
    let facing = |at: &usize| !estate.outside(*at).is_empty() && !devices.contains(at);
    let passing = (0..estate.devices.len()).filter(facing);
    answers.extend(
        passing.map(|at| {
            Answer::new(at, Subject::of(SubjectKind::Device), Verdict::pass(filter_of(estate, at)))
        }),
    );
    answers
}

/// Whether it leads to containers, whose published ports have a check of their own.
fn is_container(estate: &Analyses, one: &BeyondExport) -> bool {
    !containers_of(&estate.devices[one.device], &one.addresses).is_empty()
}

/// Lines that prove it.
fn lines(one: &BeyondExport) -> Vec<Origin> {
    one.forward.into_iter().chain(cited(&one.steps)).collect()
}

/// Whether an opening is judged here: not one of a protocol without ports beside them, nor one of all ports by a policy, which is a missing
/// filter.
fn is_judged(one: &BeyondExport) -> bool {
    let last = one.steps.iter().rev().find(|step| step.kind.accepts());
    let by_policy = last.is_some_and(|step| matches!(step.kind, StepKind::Policy(..)));
    has_ports(one.protocol) && !(by_policy && nearly_every(&one.ports))
}

/// `tcp 3389`, of many the first ones.
fn services(parts: &[&BeyondExport]) -> String {
    const MOST: usize = 4;
    let protocol = |one: &BeyondExport| trevlin_model::Protocol(Some(one.protocol)).name();
    if parts.iter().all(|one| nearly_every(&one.ports)) {
        let names: Vec<String> = parts.iter().map(|one| protocol(one).to_uppercase()).collect();
        return format!("nearly every {} port", names.join(" and "));
    }
    let of_part = |one: &BeyondExport| -> Vec<String> {
        if nearly_every(&one.ports) {
            return vec![every_port_of(one.protocol)];
        }
        one.ports.iter().map(|range| endpoint(one.protocol, *range)).collect()
    };
    let mut all: Vec<String> = parts.iter().flat_map(|one| of_part(one)).collect();
    if all.len() > MOST {
        let more = all.len() - MOST;
        all.truncate(MOST);
        all.push(format!("{more} more"));
    }
    all.join(", ")
}

/// A reason that names the service, with its kind where the name does not say it.
fn named_with_kind(known: &KnownPort) -> String {
    let kind = known.kind.words();
    if known.name.to_lowercase().contains(kind) {
        format!("the usual service of the port is {}", known.name)
    } else {
        format!("the usual service of the port is {} ({kind})", known.name)
    }
}

/// The usual services of the ports, the most severe first.
fn usual(one: &BeyondExport) -> Vec<(Severity, &'static KnownPort)> {
    let ports = one.ports.iter().flat_map(|range| range.first..=range.last);
    let known = ports.filter_map(|port| known_port(one.protocol, port));
    // Where another port is called, it is no public site that is meant.
    let public =
        one.called_ports.iter().all(|range| matches!((range.first, range.last), (80, 80) | (443, 443)));
    let grade = |known: &'static KnownPort| (severity_of_kind(known.kind, Some(known), public), known);
    let mut all: Vec<_> = known.map(grade).collect();
    all.sort_by_key(|(severity, known)| (std::cmp::Reverse(*severity), known.number));
    all
}

fn judge(estate: &Analyses, parts: &[&BeyondExport]) -> Verdict {
    let one = parts[0];
    let addresses = some_ranges(&one.addresses);
    let count = total_addresses(&*one.addresses);
    let owner = owner_of(estate, &one.addresses).filter(|_| count == 1);
    let host = match &owner {
        Some((name, _)) => format!("{addresses} ({name})"),
        None if count > NETWORK => format!("hosts in {}", networks_words(estate, one.device, &one.addresses)),
        None => addresses,
    };
    let services = services(parts);
    let mut evidence = lines(one);
    evidence.extend(owner.as_ref().map(|(_, origin)| *origin));
    if evidence.is_empty() {
        // Nothing but the absence of a rule permits it.
        evidence.extend(network_lines(estate, one.device, &one.addresses));
    }
    if !one.certain {
        let what = format!("whether {services} of {host} is reachable from the Internet");
        if let Some(asked) = filter_decides(estate, &one.steps, what) {
            return asked;
        }
        let question = format!(
            "Please state whether {services} of {host} is reachable from the Internet: a condition not analysed decides, and \
             the host was not exported."
        );
        return Verdict::ask(question, evidence);
    }
    let many = parts.iter().any(|one| nearly_every(&one.ports));
    let mut found: Vec<(Severity, &KnownPort)> =
        if many { Vec::new() } else { parts.iter().flat_map(|one| usual(one)).collect() };
    found.sort_by_key(|(severity, known)| (std::cmp::Reverse(*severity), known.number));
    let mut rating = match found.first() {
        _ if many => CHECK.rated_at(Severity::High, "every port, or nearly every one, is open"),
        Some((severity, known)) => CHECK.rated_at(*severity, named_with_kind(known)),
        None => CHECK.rated("the port has no usual service"),
    };
    if count > NETWORK && rating.severity() < Severity::Medium {
        rating = rating.at(Severity::Medium, "the opening is to a whole network");
    }
    let rating = for_sources(rating, one.everybody, &one.sources);
    let mut names: Vec<&str> = Vec::new();
    for (_, known) in &found {
        if !names.contains(&known.name.as_str()) && names.len() < 3 {
            names.push(&known.name);
        }
    }
    let service = match names.as_slice() {
        [] => capital(&services),
        names => format!("{} ({services})", names.join(", ")),
    };
    let who = if one.everybody { "any address".to_owned() } else { some_ranges(&one.sources) };
    let called = estate.internet().outside.called_words(one.traffic_source, &one.called);
    let at = match (one.forward, called.as_slice()) {
        (Some(_), [first, ..]) => {
            let ports =
                one.called_ports.first().map(|ports| endpoint(one.protocol, *ports)).unwrap_or_default();
            format!(" at {first} {ports}")
        }
        _ => String::new(),
    };
    Verdict::Fail(Fail {
        rating,
        title: format!("{service} of {host} is reachable from the Internet").into(),
        detail: format!(
            "Reachable from {who}{at}. No device of the estate has the address, so the service could not be assessed."
        )
        .into(),
        evidence,
    })
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::exposure::testing::{Small, small};
    use crate::testing::answers;

    #[test]
    fn cases() {
        let forward = |port: u16, to: &str| {
            format!("-A PREROUTING -i eth0 -p tcp --dport {port} -j DNAT --to-destination {to}\n")
        };
        let through = |rest: &str| format!("-A FORWARD -i eth0 {rest} -j ACCEPT\n");
        let kept =
            ("gate/etc/dnsmasq.conf", "interface=eth1\ndhcp-host=02:00:5e:10:00:01,pump-pc,10.4.0.77\n");
        let [desktop, page, site, vendor] = [
            forward(33890, "10.4.0.77:3389"),
            forward(8080, "10.4.0.77:80"),
            forward(443, "10.4.0.77:8443"),
            forward(5020, "10.4.0.77:502"),
        ];
        for (name, forwards, rules, more, wanted) in [
            (
                "a remote desktop at another port",
                desktop.as_str(),
                through("-p tcp -d 10.4.0.77 --dport 3389"),
                &[][..],
                "fail high gate iptables-save.txt:3 iptables-save.txt:3 iptables-save.txt:10",
            ),
            (
                "of a host that DHCP knows",
                &desktop,
                through("-p tcp -d 10.4.0.77 --dport 3389"),
                &[kept],
                "fail high gate iptables-save.txt:3 iptables-save.txt:3 iptables-save.txt:10 dnsmasq.conf:2",
            ),
            (
                "a page of a device",
                &page,
                through("-p tcp -d 10.4.0.77"),
                &[],
                "fail medium gate iptables-save.txt:3 iptables-save.txt:3 iptables-save.txt:10",
            ),
            (
                "a public site",
                &site,
                through("-p tcp -d 10.4.0.77"),
                &[],
                "fail info gate iptables-save.txt:3 iptables-save.txt:3 iptables-save.txt:10",
            ),
            (
                "a controller for one host",
                &vendor,
                through("-p tcp -s 198.51.100.44 -d 10.4.0.77"),
                &[],
                "fail info gate iptables-save.txt:3 iptables-save.txt:3 iptables-save.txt:10",
            ),
            (
                "not modelled",
                &desktop,
                through("-p tcp -d 10.4.0.77 -m string --string x --algo bm"),
                &[],
                "ask gate",
            ),
            ("stopped", &desktop, String::new(), &[], "pass gate"),
        ] {
            let estate = small(&Small { forwards, rules: &rules, more, ..Small::default() });
            assert_eq!(answers(&CHECK, &estate), [wanted], "{name}");
        }
    }

    /// A network with public addresses behind the gate, open without a destination.
    #[test]
    fn whole_networks() {
        let addresses = (
            "gate/ip-addr.json",
            r#"[{"ifname":"eth0","addr_info":[{"local":"2001:db8:9::9","prefixlen":64}]},
{"ifname":"eth1","addr_info":[{"local":"2001:db8:4::1","prefixlen":64}]}]"#,
        );
        let routes = (
            "gate/ip-route.json",
            r#"[{"dst":"default","gateway":"2001:db8:9::1","dev":"eth0","flags":[]}]"#,
        );
        let list = |rule: &str| {
            format!(
                "*filter\n:INPUT DROP [0:0]\n:FORWARD DROP [0:0]\n-A FORWARD {rule} -j ACCEPT\n-A FORWARD -m state --state ESTABLISHED -j ACCEPT\nCOMMIT\n"
            )
        };
        for (rule, wanted) in [
            ("-i eth0 -p tcp --dport 443", "fail medium gate ip6tables-save.txt:4"),
            ("-i eth0 -p tcp --dport 22", "fail high gate ip6tables-save.txt:4"),
            ("-i eth1 -p tcp --dport 22", "pass gate"),
        ] {
            let list = list(rule);
            let files = [addresses, routes, ("gate/ip6tables-save.txt", list.as_str())];
            assert_eq!(answers(&CHECK, &crate::testing::estate(&files)), [wanted], "{rule}");
        }
    }
}
