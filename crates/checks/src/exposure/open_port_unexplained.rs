//! A rule opens a port of a device to the Internet, and no export shows a service there.

use crate::check::{Answer, Check, Fail, Need, Run, Verdict};
use crate::subject::{Subject, SubjectKind};
use crate::support::{StatePart, filter_of, provide};
use std::collections::{BTreeMap, BTreeSet};
use trevlin_analysis::context::Analyses;
use trevlin_analysis::services::{PortKind, endpoint, known_port};
use trevlin_analysis::ways::{put_in_force_by, some_ranges};
use trevlin_estate::area::{Area, Severity};
use trevlin_estate::baseline::Baseline;
use trevlin_model::{Device, IpRange, MatchKind, Origin, PortRange, Rule};

/// The check.
pub(crate) const CHECK: Check = Check {
    id: "exposure/open-port-unexplained",
    area: Area::Exposure,
    title: "Open port without a known service",
    severity: Severity::Low,
    why: "An open port serves a purpose. If no export explains it, either an unexamined service is exposed, or the service \
          is gone and the port remains open for the next program that uses it.",
    fix: "Establish its purpose from the list of open sockets (`ss -tulpn`). Remove the rule where it is not needed, \
          or limit its sources.",
    judged: "Fails for each filter rule that permits Internet access to ports of the device itself without a known service, \
             where its sockets were not exported, but for answers of DHCP servers; higher where the port is usually management, shell, remote desktop, files, \
             database or industrial, one level lower for named sources. Passes where every opening is explained. \
             Undetermined where a condition not analysed decides. Openings of all ports are reported as a missing filter.",
    references: &["NIST SP 800-41 Rev. 1, 5.2", "CIS Controls 8, 4.8"],
    needs: &[Need::Addresses, Need::Filter],
    run: Run::Analyses(run),
};

/// More ports than this in one rule are no opening for a service, but a side without a filter.
const SIDE: u32 = 60_000;

/// Traffic that one rule of a device permits.
#[derive(Default)]
struct Opened {
    ports: BTreeSet<(u8, PortRange)>,
    sources: Vec<IpRange>,
    everybody: bool,
    certain: bool,
}

fn run(estate: &Analyses, _: &Baseline) -> Vec<Answer> {
    let mut opened: BTreeMap<(usize, Origin), Opened> = BTreeMap::new();
    let openings = estate.internet().outside.openings.iter();
    for one in openings.filter(|one| one.gone.is_none() && one.forward.is_none()) {
        for (line, ports) in &one.by_line {
            let size = trevlin_model::total_ports(ports);
            let Some(line) = line.filter(|_| size > 0 && size <= SIDE) else { continue };
            if is_for_leases(&estate.devices[one.device], line) {
                continue;
            }
            let here = opened.entry((one.device, line)).or_default();
            here.ports.extend(ports.iter().map(|range| (one.protocol, *range)));
            here.sources.extend(&one.sources);
            here.everybody |= one.everybody;
            here.certain |= one.certain;
        }
    }
    let devices: BTreeSet<usize> = opened.keys().map(|(device, _)| *device).collect();
    let mut answers: Vec<Answer> = estate
        .devices
        .iter()
        .enumerate()
        .filter(|(at, device)| !device.facts.filters.is_empty() && !estate.outside(*at).is_empty())
        .filter(|(at, _)| !devices.contains(at))
        .map(|(at, _)| {
            Answer::new(at, Subject::of(SubjectKind::Device), Verdict::pass(filter_of(estate, at)))
        })
        .collect();
    answers.extend(opened.into_iter().map(|((device, line), one)| {
        let ports: Vec<String> =
            one.ports.iter().map(|(protocol, range)| endpoint(*protocol, *range)).collect();
        let ports = ports.join(", ");
        Answer::new(
            device,
            Subject::of(SubjectKind::Port).with(&ports),
            judge(estate, device, line, &ports, &one),
        )
    }));
    answers
}

/// Whether a rule is for answers of a DHCP server to the device (RFC 2131, 4.1; RFC 8415, 7.2): its client has no service there.
fn is_for_leases(device: &Device, line: Origin) -> bool {
    let rules = device.facts.filters.iter().flat_map(|filter| &filter.chains).flat_map(|chain| &chain.rules);
    let single = |ports: &[PortRange], wanted: u16| matches!(ports, [one] if (one.first, one.last) == (wanted, wanted));
    let pair = |rule: &Rule, from: u16, to: u16| {
        let has = |test: &dyn Fn(&MatchKind) -> bool| {
            rule.matches.iter().any(|one| !one.negated && test(&one.kind))
        };
        has(&|kind| matches!(kind, MatchKind::SourcePorts(ports) if single(ports, from)))
            && has(&|kind| matches!(kind, MatchKind::DestinationPorts(ports) if single(ports, to)))
    };
    rules.filter(|rule| rule.origin == line).any(|rule| pair(rule, 67, 68) || pair(rule, 547, 546))
}

fn judge(estate: &Analyses, device: usize, line: Origin, ports: &str, one: &Opened) -> Verdict {
    let evidence: Vec<Origin> =
        [line].into_iter().chain(put_in_force_by(&estate.devices[device], line)).collect();
    if !one.certain {
        let question = format!(
            "{}: a condition not analysed decides whether the Internet reaches {ports}, and no export shows which service \
             listens there.",
            provide(estate, device, &[StatePart::Sockets])
        );
        return Verdict::ask(question, evidence);
    }
    let usual = one.ports.iter().flat_map(|(protocol, range)| {
        (range.first..=range.last).filter_map(|port| known_port(*protocol, port))
    });
    // Long ranges have no usual service.
    let usual: Vec<_> = usual.take(8).collect();
    let grave = usual.iter().find(|known| {
        matches!(
            known.kind,
            PortKind::Management
                | PortKind::Shell
                | PortKind::Desktop
                | PortKind::Files
                | PortKind::Database
                | PortKind::Industrial
        )
    });
    let rating = match grave {
        Some(known) => {
            let port = format!("the port is usually used for: {}", known.kind.words());
            CHECK.rating().raised(port)
        }
        None => CHECK.rating(),
    };
    let who = if one.everybody { "any address".to_owned() } else { some_ranges(&one.sources) };
    let lets_in = format!("permitted for {who}");
    let rating = if one.everybody { rating.because(lets_in) } else { rating.lowered(lets_in) };
    let usually = match grave.or(usual.first()) {
        Some(known) => format!(" The usual service there is {}.", known.name),
        None => String::new(),
    };
    Verdict::Fail(Fail {
        rating,
        title: format!("Open from the Internet without a known service: {ports}").into(),
        detail: format!("The rule permits {ports} from {who}.{usually}").into(),
        evidence,
    })
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::exposure::testing::{Small, on};

    #[test]
    fn cases() {
        let base = Small::default();
        let explained = [("gate/etc/ssh/sshd_config", "Port 22\n")];
        let sockets = "tcp LISTEN 0 9 127.0.0.1:25 0.0.0.0:*\n";
        for (name, one, wanted) in [
            ("nothing", base, &["pass gate"][..]),
            (
                "a shell's port",
                Small { rules: "-A INPUT -i eth0 -p tcp --dport 22 -j ACCEPT\n", ..base },
                &["fail medium gate iptables-save.txt:9"],
            ),
            (
                "a port of nothing known, in both protocols",
                Small {
                    rules: "-A INPUT -i eth0 -p tcp --dport 7777 -j ACCEPT\n-A INPUT -i eth0 -p udp --dport 7777 -j ACCEPT\n",
                    ..base
                },
                &["fail low gate iptables-save.txt:9", "fail low gate iptables-save.txt:10"],
            ),
            (
                "answers of a DHCP server",
                Small { rules: "-A INPUT -p udp --sport 67 --dport 68 -j ACCEPT\n", ..base },
                &["pass gate"],
            ),
            (
                "to some",
                Small { rules: "-A INPUT -s 198.51.100.44 -p tcp --dport 22 -j ACCEPT\n", ..base },
                &["fail low gate iptables-save.txt:9"],
            ),
            (
                "explained by a file",
                Small { rules: "-A INPUT -p tcp --dport 22 -j ACCEPT\n", more: &explained, ..base },
                &["pass gate"],
            ),
            (
                "the sockets were seen, and this is not among them",
                Small { rules: "-A INPUT -p tcp --dport 22 -j ACCEPT\n", gate: sockets, ..base },
                &["pass gate"],
            ),
            (
                "only inside",
                Small { rules: "-A INPUT -i eth1 -p tcp --dport 22 -j ACCEPT\n", ..base },
                &["pass gate"],
            ),
            ("everything", Small { rules: "-A INPUT -i eth0 -j ACCEPT\n", ..base }, &["pass gate"]),
            (
                "not modelled",
                Small { rules: "-A INPUT -p tcp --dport 22 -m limit --limit 5/second -j ACCEPT\n", ..base },
                &["ask gate"],
            ),
        ] {
            assert_eq!(on(&CHECK, &one), wanted, "{name}");
        }
    }
}
