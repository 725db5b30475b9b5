//! Checks of the area `exposure`.

pub(super) mod binds_all_interfaces;
pub(super) mod binds_too_broadly;
pub(super) mod cloud_relay;
pub(super) mod container_port;
pub(super) mod directory_listing;
pub(super) mod forward_incomplete;
pub(super) mod internet_facing_database;
pub(super) mod internet_facing_file_sharing;
pub(super) mod internet_facing_ics;
pub(super) mod internet_facing_internal_service;
pub(super) mod internet_facing_management;
pub(super) mod internet_facing_plaintext;
pub(super) mod internet_facing_portal;
pub(super) mod internet_facing_reflector;
pub(super) mod internet_facing_remote_desktop;
pub(super) mod internet_facing_shell;
pub(super) mod internet_facing_vpn_legacy;
pub(super) mod iscsi_reachable;
pub(super) mod listener_unexplained;
pub(super) mod management_page_open;
pub(super) mod no_input_filter;
pub(super) mod ntp_queries_open;
pub(super) mod open_over_ipv6;
pub(super) mod open_port_unexplained;
pub(super) mod open_proxy;
pub(super) mod open_relay;
pub(super) mod open_resolver;
pub(super) mod open_to_every_source;
pub(super) mod path_leaves_folder;
pub(super) mod ping;
pub(super) mod port_forward;
pub(super) mod port_forward_blocked;
pub(super) mod port_forward_unassigned;
pub(super) mod port_forward_unused;
pub(super) mod recordings_reached;
pub(super) mod relay_voids_source_limit;
pub(super) mod relayed_service;
pub(super) mod service_not_running;
pub(super) mod service_unused;
pub(super) mod status_page_open;
pub(super) mod unexported_host;
pub(super) mod upnp;
pub(super) mod zone_transfer_open;

use crate::check::{Answer, Fail, Verdict};
use crate::rating::Rating;
use crate::subject::{Subject, SubjectKind};
use crate::support::filter_decides;
use crate::support::line_of;
use std::collections::BTreeMap;
use trevlin_analysis::context::Analyses;
use trevlin_analysis::exposure::{ForwardResult, Reachable};
use trevlin_analysis::services::{Known, Service, What};
use trevlin_analysis::ways::{cited, some_ranges};
use trevlin_model::served::{PartKind, Sources};
use trevlin_model::{Origin, PortRange};

/// A service with every path by which untrusted networks reach it.
pub(super) struct Exposed<'a> {
    pub(super) estate: &'a Analyses,
    pub(super) device: usize,
    pub(super) service: &'a Service,
    pub(super) ways: Vec<&'a Reachable>,
}

/// So many paths of a service are proved line by line.
const MOST_WAYS: usize = 8;

/// Some words in a row, the first few of many.
fn few(words: &[String]) -> String {
    const MOST: usize = 4;
    let shown = words.iter().take(MOST).cloned().collect::<Vec<_>>().join(", ");
    if words.len() > MOST { format!("{shown} and {} more", words.len() - MOST) } else { shown }
}

impl Exposed<'_> {
    /// `SNMP of edge`.
    pub(super) fn name(&self) -> String {
        let best = self.best();
        let first = best.forward.map(|_| best.steps.first().map(|step| step.device));
        match first {
            // A finding is filed under the device that its first line is of.
            Some(front) if front != Some(self.device) => {
                format!("{} on {}", self.service.name, self.estate.devices[self.device].name)
            }
            _ => self.service.name.clone(),
        }
    }

    /// The decisive path: from any address before limited sources, certain before uncertain.
    pub(super) fn best(&self) -> &Reachable {
        let rank = |one: &&&Reachable| (!one.certain, !one.everybody, one.forward);
        self.ways.iter().min_by_key(rank).map_or(self.ways[0], |one| *one)
    }

    /// The paths that are as open as the decisive one, that one first: over both IP versions, and by every forward.
    fn equally_open(&self) -> Vec<&Reachable> {
        let best = self.best();
        let as_open = |one: &&Reachable| {
            (one.certain, one.everybody) == (best.certain, best.everybody) && !std::ptr::eq(*one, best)
        };
        std::iter::once(best).chain(self.ways.iter().copied().filter(as_open)).collect()
    }

    /// The requested addresses and ports of every path: `192.0.2.18 tcp 8443`.
    pub(super) fn called(&self) -> String {
        let words: Vec<String> =
            self.called_by_port().into_iter().map(|(ports, at)| format!("{} {ports}", few(&at))).collect();
        few(&words)
    }

    /// The same with one address, for titles.
    fn called_briefly(&self) -> String {
        let all = self.called_by_port();
        let count: usize = all.iter().map(|(_, at)| at.len()).sum();
        match all.first() {
            Some((ports, at)) if count > 1 && all.len() == 1 => {
                format!("{} and {} more, {ports}", at[0], count - 1)
            }
            Some((ports, at)) if count > 1 => format!("{} {ports} and {} more", at[0], count - 1),
            _ => self.called(),
        }
    }

    /// The requested addresses by protocol and ports, the decisive path first.
    fn called_by_port(&self) -> Vec<(String, Vec<String>)> {
        let mut all: Vec<(String, Vec<String>)> = Vec::new();
        for way in self.equally_open() {
            let ports = self.called_ports(way);
            let words = self.estate.internet().outside.called_words(way.traffic_source, &way.called);
            match all.iter_mut().find(|(known, _)| *known == ports) {
                Some((_, at)) => {
                    at.extend(words.into_iter().filter(|one| !at.contains(one)).collect::<Vec<_>>())
                }
                None => all.push((ports, words)),
            }
        }
        all
    }

    /// The requested protocol and ports.
    fn called_ports(&self, best: &Reachable) -> String {
        match &*best.called_ports {
            [] => self.service.endpoint(),
            [one, ..] => trevlin_analysis::services::endpoint(best.protocol, *one),
        }
    }

    /// Lines that prove it: the forwards, what accepts it on each device, what serves it.
    pub(super) fn evidence(&self) -> Vec<Origin> {
        let mut all: Vec<Origin> = Vec::new();
        for way in self.equally_open().into_iter().take(MOST_WAYS) {
            let lines = way.forward.into_iter().chain(cited(&way.steps));
            all.extend(lines.filter(|one| !all.contains(one)).collect::<Vec<_>>());
        }
        all.extend(self.service.origins());
        if let Some(limit) = self.own_limit() {
            all.extend(limit.origins.iter().filter(|one| !all.contains(one)).copied().collect::<Vec<_>>());
        }
        all
    }

    /// Clients that the service itself accepts as a whole, where its own lists limit them.
    fn own_limit(&self) -> Option<&Sources> {
        let facts = &self.estate.devices[self.device].facts;
        match self.service.what {
            What::Shell(number) => {
                let lists = facts.ssh_servers[number].lists.as_ref();
                lists.filter(|lists| lists.certain).map(|lists| &lists.sources)
            }
            What::Served(number, _) => {
                let mut whole = facts.served[number].parts.iter().filter(|part| part.kind == PartKind::Whole);
                let first = whole.next()?;
                (whole.next().is_none() && !first.sources.is_everybody()).then_some(&first.sources)
            }
            _ => None,
        }
    }

    /// How it got there, in a sentence.
    pub(super) fn how(&self) -> String {
        let best = self.best();
        let mut hops: Vec<&str> = best
            .steps
            .iter()
            .filter_map(|step| self.estate.devices.get(step.device))
            .map(|one| one.name.as_str())
            .collect();
        hops.dedup();
        let through = match hops.as_slice() {
            [] | [_] => String::new(),
            [front @ .., _] => format!(", via {}", front.join(" and ")),
        };
        let known = match self.service.known {
            Known::Configured => "its configuration defines the listener",
            Known::Observed => "its socket is in the export, without a configuration",
            Known::Both => "its configuration and its socket are in the export",
            Known::Absent => "no socket is in the export, so it did not run then",
            Known::Disabled => "its unit is disabled",
        };
        let from = if best.everybody { "any address".to_owned() } else { some_ranges(&best.sources) };
        let reachable = if self.runs() { "Reachable" } else { "Open" };
        format!("{reachable} from {from} at {}{through}; {known}.", self.called())
    }

    /// Whether it runs, as far as the exports show. The way to a service that does not is open all the same.
    fn runs(&self) -> bool {
        !matches!(self.service.known, Known::Absent | Known::Disabled)
    }

    /// Its severity: that of the check for any address, lower for limited sources.
    pub(super) fn rate(&self, base: Rating) -> Rating {
        let base = if self.runs() { base } else { base.lowered("it does not run at present") };
        let base = match self.own_limit() {
            Some(limit) => base.lowered(format!("the service itself accepts {} only", limit.words())),
            None => base,
        };
        if self.best().everybody {
            base.because("reachable from the Internet")
        } else {
            base.lowered(format!("reachable by {} only", some_ranges(&self.best().sources)))
        }
    }

    /// The verdict of most of these checks.
    pub(super) fn judge(&self, base: Rating) -> Verdict {
        let best = self.best();
        if !best.certain {
            let what = format!("whether {} is reachable from the Internet", self.name());
            if let Some(asked) = filter_decides(self.estate, &best.steps, what) {
                return asked;
            }
            let question = format!(
                "Please state whether {} is reachable from the Internet at {}: a condition not analysed decides.",
                self.name(),
                self.called()
            );
            return Verdict::ask(question, self.evidence());
        }
        Verdict::Fail(Fail {
            rating: self.rate(base),
            title: format!(
                "{} {} reachable from the Internet at {}",
                self.name(),
                if self.runs() { "is" } else { "would, once started, be" },
                self.called_briefly()
            )
            .into(),
            detail: self.how().into(),
            evidence: self.evidence(),
        })
    }
}

/// Judges every service of a kind: a reachable one is passed to `judge`, any other passes.
pub(super) fn each_exposed(
    estate: &Analyses,
    wanted: impl Fn(usize, &Service) -> bool,
    judge: impl Fn(&Exposed<'_>) -> Verdict,
) -> Vec<Answer> {
    let internet = estate.internet();
    let mut answers = Vec::new();
    for (device, services) in internet.services.iter().enumerate() {
        // A service that answers at several ports or in both IP versions is one.
        let mut exposed: BTreeMap<&str, Exposed<'_>> = BTreeMap::new();
        let mut passes: Vec<Origin> = Vec::new();
        let mut here = false;
        for (number, service) in services.iter().enumerate().filter(|(_, service)| wanted(device, service)) {
            let ways: Vec<&Reachable> = internet
                .outside
                .reached
                .iter()
                .filter(|one| (one.device, one.service) == (device, number))
                .collect();
            if ways.is_empty() {
                passes.extend(service.origins());
                here = true;
                continue;
            }
            exposed.entry(&service.name).and_modify(|known| known.ways.extend(&ways)).or_insert(Exposed {
                estate,
                device,
                service,
                ways,
            });
        }
        if exposed.is_empty() && here {
            let verdict = Verdict::pass_by(passes, line_of(estate, device));
            answers.push(Answer::new(device, Subject::of(SubjectKind::Device), verdict));
        }
        answers.extend(exposed.into_values().map(|one| {
            let subject = Subject::service(&estate.devices[device], one.service);
            Answer::new(device, subject, judge(&one))
        }));
    }
    answers
}

/// The protocol and port that a forward publishes, in words.
fn published(protocol: Option<u8>, ports: Option<PortRange>) -> String {
    match (ports, protocol) {
        (Some(ports), Some(protocol)) => trevlin_analysis::services::endpoint(protocol, ports),
        (Some(ports), None) => format!("port {ports}"),
        (None, Some(protocol)) => trevlin_model::Protocol(Some(protocol)).name(),
        (None, None) => "all traffic".to_owned(),
    }
}

/// `port forward of tcp 8443`.
pub(super) fn title_of(protocol: Option<u8>, ports: Option<PortRange>) -> String {
    format!("port forward of {}", published(protocol, ports))
}

/// Judges every port forward that connections from untrusted networks may match; `judge` receives it and its title.
pub(super) fn each_forward(
    estate: &Analyses,
    judge: impl Fn(&ForwardResult, &str) -> Verdict,
) -> Vec<Answer> {
    let told = estate.internet().outside.forwards.iter().map(|one| {
        let forward = &estate.devices[one.device].facts.forwards[one.number];
        let ports = published(
            one.protocol.or(forward.protocol.0),
            one.called_ports.first().or(forward.ports.first()).copied(),
        );
        let name = format!("port forward of {ports}");
        Answer::new(
            one.device,
            Subject::of(SubjectKind::Forward)
                .with(&ports)
                .with(forward.to.addresses.map(|to| to.to_string()).unwrap_or_default()),
            judge(one, &name),
        )
    });
    told.collect()
}

#[cfg(test)]
pub(crate) mod testing {
    //! A gateway with the public address 192.0.2.9 and the internal address 10.4.0.1, and a server 10.4.0.20 behind it.

    use crate::check::Check;
    use crate::testing::{answers, estate, estate_with};

    const GATE: &str = r#"[{"ifname":"lo","flags":["LOOPBACK"],"addr_info":[{"local":"127.0.0.1","prefixlen":8}]},
{"ifname":"eth0","addr_info":[{"local":"192.0.2.9","prefixlen":24}]},
{"ifname":"eth1","addr_info":[{"local":"10.4.0.1","prefixlen":24}]}]"#;
    const ROUTES: &str = r#"[{"dst":"default","gateway":"192.0.2.1","dev":"eth0","flags":[]}]"#;
    const SERVER: &str = r#"[{"ifname":"eth0","addr_info":[{"local":"10.4.0.20","prefixlen":24}]}]"#;
    const BEHIND: &str = r#"[{"dst":"default","gateway":"10.4.0.1","dev":"eth0","flags":[]}]"#;

    /// Rules of the gate, sockets of the gate, sockets of the server, and more files.
    #[derive(Default, Clone, Copy)]
    pub(crate) struct Small<'a> {
        /// Lines of the table `filter`.
        pub(crate) rules: &'a str,
        /// Lines of the table `nat`.
        pub(crate) forwards: &'a str,
        /// Sockets of the gate, as `ss` has them.
        pub(crate) gate: &'a str,
        /// Sockets of the server.
        pub(crate) server: &'a str,
        /// Further files.
        pub(crate) more: &'a [(&'a str, &'a str)],
        /// The estate file.
        pub(crate) file: &'a str,
    }

    pub(crate) fn small(one: &Small<'_>) -> trevlin_analysis::context::Analyses {
        let rules = format!(
            "*nat\n:PREROUTING ACCEPT [0:0]\n{}COMMIT\n*filter\n:INPUT DROP [0:0]\n:FORWARD DROP [0:0]\n\
             -A FORWARD -m state --state ESTABLISHED -j ACCEPT\n-A INPUT -m state --state ESTABLISHED -j ACCEPT\n{}COMMIT\n",
            one.forwards, one.rules
        );
        let mut files = vec![
            ("gate/ip-addr.json", GATE),
            ("gate/ip-route.json", ROUTES),
            ("gate/iptables-save.txt", rules.as_str()),
            ("server/ip-addr.json", SERVER),
            ("server/ip-route.json", BEHIND),
        ];
        if !one.gate.is_empty() {
            files.push(("gate/ss.txt", one.gate));
        }
        if !one.server.is_empty() {
            files.push(("server/ss.txt", one.server));
        }
        files.extend(one.more);
        if one.file.is_empty() { estate(&files) } else { estate_with(&files, one.file) }
    }

    pub(crate) fn on(check: &Check, one: &Small<'_>) -> Vec<String> {
        answers(check, &small(one))
    }

    /// Answers of a check about a gate with a relay and a server behind it.
    pub(crate) fn at_gate(
        check: &Check,
        relay: (&str, &str),
        server: (&str, &str),
        rules: &str,
    ) -> Vec<String> {
        let more = [relay, server];
        on(check, &Small { rules, more: &more, ..Small::default() })
    }

    /// Tests shared by the checks of a kind of service: a socket of the kind on the gateway, as `tcp` or `udp` and a port.
    pub(crate) fn kind(check: &Check, protocol: &str, port: u16, severity: &str, lower: &str) {
        let state = if protocol == "tcp" { "LISTEN" } else { "UNCONN" };
        let socket = |address: &str| format!("{protocol} {state} 0 9 {address}:{port} 0.0.0.0:*\n");
        let open = format!("-A INPUT -p {protocol} --dport {port} -j ACCEPT\n");
        let some = format!("-A INPUT -s 198.51.100.44 -p {protocol} --dport {port} -j ACCEPT\n");
        let inside = format!("-A INPUT -i eth1 -p {protocol} --dport {port} -j ACCEPT\n");
        let unsure = format!("-A INPUT -p {protocol} --dport {port} -m limit --limit 5/second -j ACCEPT\n");
        let forward = format!(
            "-A PREROUTING -i eth0 -p {protocol} --dport 7777 -j DNAT --to-destination 10.4.0.20:{port}\n"
        );
        let through = format!("-A FORWARD -d 10.4.0.20 -p {protocol} --dport {port} -j ACCEPT\n");
        let (any, own, near) = (socket("0.0.0.0"), socket("127.0.0.1"), socket("10.4.0.1"));
        let base = Small::default();
        for (name, one, wanted) in [
            (
                "everybody",
                Small { rules: &open, gate: &any, ..base },
                format!("fail {severity} gate iptables-save.txt:9 ss.txt:1"),
            ),
            (
                "some",
                Small { rules: &some, gate: &any, ..base },
                format!("fail {lower} gate iptables-save.txt:9 ss.txt:1"),
            ),
            ("only inside", Small { rules: &inside, gate: &any, ..base }, "pass gate".to_owned()),
            ("loopback alone", Small { rules: &open, gate: &own, ..base }, "pass gate".to_owned()),
            ("the inside address alone", Small { rules: &open, gate: &near, ..base }, "pass gate".to_owned()),
            ("not modelled", Small { rules: &unsure, gate: &any, ..base }, "ask gate".to_owned()),
            (
                "forwarded",
                Small { rules: &through, forwards: &forward, server: &any, ..base },
                format!(
                    "fail {severity} server iptables-save.txt:3 iptables-save.txt:3 iptables-save.txt:10 ss.txt:1"
                ),
            ),
            (
                "forwarded and stopped",
                Small { forwards: &forward, server: &any, ..base },
                "pass server".to_owned(),
            ),
        ] {
            assert_eq!(on(check, &one), [wanted], "{name}");
        }
        // An Internet interface by name only: the addresses are private, and the estate file does not mark it.
        let private = [
            (
                "gate/ip-addr.json",
                r#"[{"ifname":"eth0","addr_info":[{"local":"192.168.1.9","prefixlen":24}]}]"#,
            ),
            ("gate/ip-route.json", r#"[{"dst":"default","gateway":"192.168.1.1","dev":"eth0","flags":[]}]"#),
            ("gate/ss.txt", any.as_str()),
        ];
        assert_eq!(answers(check, &estate(&private)), ["pass gate"]);
        // Without its packet filter a marked one is a question.
        let stated = |files: &[(&str, &str)]| {
            answers(check, &estate_with(files, "[device.gate]\noutside = [\"eth0\"]\n"))
        };
        assert_eq!(stated(&private), ["ask gate"]);
        let open = ("gate/iptables-save.txt", "*filter\n:INPUT ACCEPT [0:0]\nCOMMIT\n");
        let filtered: Vec<(&str, &str)> = private.into_iter().chain([open]).collect();
        assert_eq!(stated(&filtered), [format!("fail {severity} gate iptables-save.txt:2 ss.txt:1")]);
    }
}
