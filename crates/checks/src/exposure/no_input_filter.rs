//! An interface that faces an untrusted network has no filter, or accepts by default.

use crate::check::{Answer, Check, Fail, Need, Reason, Run, Verdict};
use crate::subject::{Subject, SubjectKind};
use crate::support::{StatePart, line_of, provide};
use std::net::IpAddr;
use trevlin_analysis::context::Analyses;
use trevlin_estate::area::{Area, Severity};
use trevlin_estate::assemble::{OutsideInterface, OutsideReason};
use trevlin_estate::baseline::Baseline;
use trevlin_estate::special::is_public;
use trevlin_model::{Device, DeviceKind, ExportState, Family, Filter, Hook, Origin, Protocol, Target};
use trevlin_packets::default_traffic::{DefaultAction, DefaultTraffic, Way, action_of_default};

/// The check.
pub(crate) const CHECK: Check = Check {
    id: "exposure/no-input-filter",
    area: Area::Exposure,
    title: "Internet-facing interface without a filter",
    severity: Severity::High,
    why: "Every service of the device, and every host behind it that a route leads to, is exposed unless it is blocked \
          individually. New services are exposed as soon as they start. Filters that list forbidden traffic only fail \
          silently.",
    fix: "Set a default policy of drop for traffic from the Internet, for the device itself and for forwarded traffic, over \
          IPv4 and IPv6. Then permit replies and the few intended services by separate rules.",
    judged: "Fails where a new connection without a specific rule is accepted from an Internet interface: no filter table, \
             or an accepting policy or final rule. Undetermined where no filter was exported, where a condition not analysed \
             decides, or where the role of the interface is uncertain.",
    references: &["NIST SP 800-41 Rev. 1, 4.1", "RFC 2979", "iptables(8), --policy"],
    needs: &[Need::Addresses, Need::Filter],
    run: Run::Analyses(run),
};

fn run(estate: &Analyses, _: &Baseline) -> Vec<Answer> {
    let mut answers = Vec::new();
    for (at, device) in estate.devices.iter().enumerate() {
        // One request of a kind for a device is enough: IPv4 and IPv6, input and forward need the same export.
        let mut asked = Vec::new();
        for interface in estate.outside(at) {
            for family in families(device, interface) {
                for way in ways(device) {
                    let hook = if way == Way::ToDevice { "input" } else { "forward" };
                    let subject =
                        Subject::of(SubjectKind::Interface).with(&interface.name).with(family).with(hook);
                    let verdict = match judge(estate, at, interface, family, way) {
                        Judged::Told(verdict) => verdict,
                        Judged::Asks(missing, _) if asked.contains(&missing) => continue,
                        Judged::Asks(missing, question) => {
                            asked.push(missing);
                            question
                        }
                    };
                    answers.push(Answer::new(at, subject, verdict));
                }
            }
        }
        answers.extend(nothing_known(estate, at, device));
    }
    if estate.internet().outside.cut {
        let first = estate.shape().outside.first().map_or(0, |place| place.device);
        let question = "Packets from the Internet take more paths than are followed, so the result is incomplete. Please use \
                        `trevlin exposure --device` and `trevlin reach` for single devices and connections.";
        answers.push(Answer::new(
            first,
            Subject::of(SubjectKind::Reached),
            Verdict::ask(question, Vec::new()),
        ));
    }
    answers
}

/// A device that serves VPN clients without exported interfaces: its exposure is not known.
fn nothing_known(estate: &Analyses, at: usize, device: &Device) -> Option<Answer> {
    let tunnel = device.facts.tunnels.iter().find(|tunnel| tunnel.accepts_clients())?;
    if device.facts.has_interfaces || !estate.outside(at).is_empty() {
        return None;
    }
    let question = format!(
        "{}: it accepts VPN clients, and the exports do not show its Internet interface.",
        provide(estate, at, &[StatePart::Addresses, StatePart::Routes, StatePart::Filter])
    );
    Some(Answer::new(at, Subject::of(SubjectKind::Interfaces), Verdict::ask(question, vec![tunnel.origin])))
}

/// IP versions of the interface: by its addresses, or both where they are not known.
fn families(device: &Device, interface: &OutsideInterface) -> Vec<Family> {
    if interface.addresses.is_empty() {
        return vec![Family::V4];
    }
    let link_local = |address: &IpAddr| matches!(address, IpAddr::V6(v6) if v6.is_unicast_link_local());
    let default_v6 = device.facts.routes.iter().any(|route| {
        route.is_default()
            && route.family() == Family::V6
            && route.interface.as_deref() == Some(&interface.name)
    });
    let v4 = interface.addresses.iter().any(IpAddr::is_ipv4);
    let v6 =
        default_v6 || interface.addresses.iter().any(|address| address.is_ipv6() && !link_local(address));
    [(v4, Family::V4), (v6, Family::V6)]
        .into_iter()
        .filter(|(speaks, _)| *speaks)
        .map(|(_, family)| family)
        .collect()
}

/// Judged traffic: to the device itself, and forwarded traffic where it connects networks.
fn ways(device: &Device) -> Vec<Way> {
    match device.kind {
        DeviceKind::Firewall | DeviceKind::Router => vec![Way::ToDevice, Way::Through],
        _ => vec![Way::ToDevice],
    }
}

/// Missing information about an interface: the same information is requested once.
#[derive(PartialEq)]
enum Missing<'a> {
    /// A reader for what filters packets as well.
    Reader,
    /// The filter.
    Filter(Family, &'a str),
    /// A part of it.
    Part(Family),
    /// Effect of a rule that is not analysed.
    Rule(&'a str),
    /// Which way the interface faces.
    Facing(&'a str),
}

enum Judged<'a> {
    Told(Verdict),
    Asks(Missing<'a>, Verdict),
}

fn judge<'a>(
    estate: &Analyses,
    at: usize,
    interface: &'a OutsideInterface,
    family: Family,
    way: Way,
) -> Judged<'a> {
    let device = &estate.devices[at];
    let place: Vec<Origin> = interface.origin.into_iter().collect();
    let other = device.facts.not_analysed.iter().find(|one| one.filters_packets && one.apart);
    if let Some(other) = other {
        let question = format!(
            "Please review the packet filter of {} by hand: its format is not supported ({}).",
            device.name, other.what
        );
        return Judged::Asks(Missing::Reader, Verdict::ask(question, vec![other.origin]));
    }
    let tables = estate.tables(at, family);
    if tables.is_empty() && !estate.shows_filter(at, family) {
        let reason = Reason::decides(format!("the exposure of {} over {family}", interface.name));
        let verdict = Verdict::provide(provide(estate, at, &[StatePart::Filter]), reason, place);
        return Judged::Asks(Missing::Filter(family, &interface.name), verdict);
    }
    if let Some(broken) = tables.iter().find(|table| !table.complete) {
        let question = format!(
            "Please export the {family} filter of {} again: it is incomplete or contains lines that were not understood.",
            device.name
        );
        return Judged::Asks(Missing::Part(family), Verdict::ask(question, vec![broken.origin]));
    }
    let rest = |protocol| DefaultTraffic {
        way,
        entering: &interface.name,
        family,
        protocol,
        port: None,
        own_addresses: &interface.addresses,
    };
    let verdicts = [Protocol::TCP, Protocol::UDP]
        .map(|protocol| (protocol, action_of_default(&tables, &rest(protocol))));
    let open: Vec<_> =
        verdicts.iter().filter(|(_, verdict)| verdict.outcome == DefaultAction::Accepted).collect();
    let Some((_, verdict)) = open.first() else {
        return match verdicts.iter().find(|(_, verdict)| verdict.outcome == DefaultAction::Depends) {
            Some((_, verdict)) => {
                let rule = verdict.decided_by.first().copied();
                let question = format!(
                    "Please state whether {} of {} accepts connections from the Internet by default: a condition \
                     not analysed decides.",
                    interface.name, device.name
                );
                let question = Verdict::ask(question, rule.into_iter().chain(place).collect());
                Judged::Asks(Missing::Rule(&interface.name), question)
            }
            None => {
                let lines = verdicts.iter().flat_map(|(_, verdict)| verdict.decided_by.iter().copied());
                Judged::Told(Verdict::pass_by(lines.chain(place), line_of(estate, at)))
            }
        };
    };
    if !interface.certain {
        let to =
            if way == Way::ToDevice { "for the device itself" } else { "towards the networks behind it" };
        let unclear = match interface.addresses.iter().any(|one| is_public(*one)) {
            true => "no default route was exported, and it is not the only interface with a public address",
            false => "its addresses are private",
        };
        let question = format!(
            "Please state whether {} of {} faces the Internet ({unclear}): it accepts {family} {to} by default. In \
             trevlin.toml: [device.\"{}\"] outside = [\"{}\"] or []",
            interface.name, device.name, device.name, interface.name
        );
        let question = Verdict::ask(question, verdict.decided_by.iter().copied().chain(place).collect());
        return Judged::Asks(Missing::Facing(&interface.name), question);
    }
    let protocols: Vec<_> = open.iter().map(|(protocol, _)| protocol.name().to_uppercase()).collect();
    Judged::Told(fail(
        estate,
        at,
        interface,
        (family, way),
        &protocols.join(" and "),
        &verdict.decided_by,
        &tables,
    ))
}

fn fail(
    estate: &Analyses,
    at: usize,
    interface: &OutsideInterface,
    (family, way): (Family, Way),
    protocols: &str,
    decided_by: &[Origin],
    tables: &[&Filter],
) -> Verdict {
    let mut evidence: Vec<Origin> = decided_by.last().into_iter().chain(decided_by).copied().collect();
    let how = match decided_by.last() {
        None if way == Way::Through => format!("no chain filters forwarded {family} traffic"),
        None => format!("no chain filters {family} traffic to the device"),
        Some(last) => format!("the deciding line is {}", estate.place(*last)),
    };
    if evidence.is_empty() {
        evidence.extend(tables.iter().map(|table| table.origin));
    }
    // The boot configuration is reported together with the running one, where they are equal.
    evidence.extend(stored_twin(estate, at, family, way, decided_by));
    evidence.extend(interface.origin);
    let why_outside = match interface.reason {
        OutsideReason::Stated => "as stated in the estate file".to_owned(),
        OutsideReason::DefaultRoute(any) => {
            let origin = default_route(&estate.devices[at], &interface.name, family).unwrap_or(any);
            evidence.push(origin);
            format!("as the default route uses it ({})", estate.place(origin))
        }
        OutsideReason::PublicAddress(origin) => {
            format!("as it has a public address ({})", estate.place(origin))
        }
        OutsideReason::Hides(origin) => {
            evidence.push(origin);
            format!("as outgoing connections are translated to its address ({})", estate.place(origin))
        }
    };
    let to = if way == Way::ToDevice { "the device itself" } else { "networks behind it" };
    let (severity, limit) = if way == Way::Through
        && only_private_behind(&estate.devices[at], interface, family)
    {
        (
            Severity::Medium,
            "; the networks behind it have private addresses, which only hosts on the same external network can address",
        )
    } else {
        (CHECK.severity, "")
    };
    Verdict::Fail(Fail {
        rating: CHECK
            .rated_at(severity, format!("{} faces the Internet, {why_outside}{limit}", interface.name)),
        title: format!("Interface {} accepts {family} from the Internet by default, to {to}", interface.name).into(),
        detail: format!(
            "New {protocols} connections over {family} without a specific rule are accepted towards {to}: {how}."
        ).into(),
        evidence,
    })
}

/// Whether no network behind the interface has addresses that the internet routes.
fn only_private_behind(device: &Device, outside: &OutsideInterface, family: Family) -> bool {
    let mut behind = device
        .facts
        .interfaces
        .iter()
        .filter(|one| one.name != outside.name && !one.loopback)
        .flat_map(|one| &one.addresses);
    behind.all(|address| Family::of(address.net.addr()) != family || !is_public(address.net.addr()))
}

/// The default route of this IP version by an interface.
fn default_route(device: &Device, interface: &str, family: Family) -> Option<Origin> {
    let mut routes =
        device.facts.routes.iter().filter(|route| route.is_default() && route.family() == family);
    routes.find(|route| route.interface.as_deref() == Some(interface)).map(|route| route.origin)
}

/// The stored line that equals the deciding running policy.
fn stored_twin(
    estate: &Analyses,
    at: usize,
    family: Family,
    way: Way,
    decided_by: &[Origin],
) -> Option<Origin> {
    let filters = || {
        estate.devices[at]
            .facts
            .filters
            .iter()
            .filter(|one| one.families.has(family) && one.table == "filter")
    };
    let hook = if way == Way::ToDevice { Hook::Input } else { Hook::Forward };
    let running = filters().find(|one| one.state == ExportState::Running)?.base_chain(hook)?;
    let stored = filters().find(|one| one.state == ExportState::Stored)?.base_chain(hook)?;
    let by_policy = decided_by.last() == Some(&running.origin);
    (by_policy && stored.policy == Some(Target::Accept)).then_some(stored.origin)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::testing::{answers, estate_with, run};

    const ADDRESSES: (&str, &str) =
        ("d/ip-addr.json", r#"[{"ifname":"eth0","addr_info":[{"local":"192.0.2.9","prefixlen":24}]}]"#);
    const ROUTES: (&str, &str) =
        ("d/ip-route.json", r#"[{"dst":"default","gateway":"192.0.2.1","dev":"eth0","flags":[]}]"#);
    const INSIDE: &str = "[{\"ifname\":\"eth0\",\"addr_info\":[{\"local\":\"192.0.2.9\",\"prefixlen\":24}]},\n\
                          {\"ifname\":\"eth1\",\"addr_info\":[{\"local\":\"10.4.0.1\",\"prefixlen\":24}]}]";

    #[test]
    fn cases() {
        for (rules, wanted) in [
            (
                "*filter\n:INPUT ACCEPT [0:0]\nCOMMIT\n",
                &["fail high d iptables-save.txt:2 ip-addr.json:1 ip-route.json:1"][..],
            ),
            (
                "*filter\n:INPUT DROP [0:0]\n-A INPUT -j ACCEPT\nCOMMIT\n",
                &["fail high d iptables-save.txt:3 iptables-save.txt:3 ip-addr.json:1 ip-route.json:1"],
            ),
            ("*mangle\nCOMMIT\n", &["fail high d iptables-save.txt:1 ip-addr.json:1 ip-route.json:1"]),
            ("*filter\n:INPUT DROP [0:0]\nCOMMIT\n", &["pass d"]),
            ("*filter\n:INPUT ACCEPT [0:0]\n-A INPUT -i eth0 -j DROP\nCOMMIT\n", &["pass d"]),
            (
                "*filter\n:INPUT ACCEPT [0:0]\n-A INPUT -j GATE\n:GATE - [0:0]\n-A GATE ! -i lo -j REJECT\nCOMMIT\n",
                &["pass d"],
            ),
            ("*filter\n:INPUT DROP [0:0]\n-A INPUT -m mark --mark 1 -j ACCEPT\nCOMMIT\n", &["ask d"]),
            ("*filter\n:INPUT DROP [0:0]\n", &["ask d"]),
        ] {
            // The last evidence of each failure repeats the interface's line; places are listed once in the outcome.
            let files = [ADDRESSES, ROUTES, ("d/iptables-save.txt", rules)];
            let told: Vec<_> =
                answers(&CHECK, &estate_with(&files, "")).into_iter().map(|one| squeeze(&one)).collect();
            let wanted: Vec<_> = wanted.iter().map(|one| squeeze(one)).collect();
            assert_eq!(told, wanted, "{rules}");
        }
    }

    /// Drops places named twice.
    fn squeeze(line: &str) -> String {
        let mut words: Vec<&str> = Vec::new();
        for word in line.split(' ') {
            if !words.contains(&word) {
                words.push(word);
            }
        }
        words.join(" ")
    }

    #[test]
    fn what_cannot_be_told_is_asked() {
        let open = ("d/iptables-save.txt", "*filter\n:INPUT ACCEPT [0:0]\nCOMMIT\n");
        let private =
            ("d/ip-addr.json", r#"[{"ifname":"eth0","addr_info":[{"local":"10.4.0.9","prefixlen":24}]}]"#);
        let route =
            ("d/ip-route.json", r#"[{"dst":"default","gateway":"10.4.0.1","dev":"eth0","flags":[]}]"#);
        run(
            &CHECK,
            &[
                ("no filter exported", &[ADDRESSES, ROUTES], &["ask d"]),
                (
                    "a ruleset that is not read",
                    &[
                        ADDRESSES,
                        ROUTES,
                        open,
                        (
                            "d/nft.txt",
                            "table netdev t {\nchain c {\ntype filter hook ingress device eth0 priority 0;\ndrop\n}\n}\n",
                        ),
                    ],
                    &["ask d"],
                ),
                ("perhaps inside", &[private, route, open], &["ask d"]),
                (
                    "the next hop is ours",
                    &[private, route, open, ("e/ip-addr.json", &INSIDE.replace("192.0.2.9", "10.5.0.1"))],
                    &[],
                ),
                (
                    "a server without interfaces",
                    &[("d/s.conf", "dev tun\nserver 10.8.0.0 255.255.255.0\n")],
                    &["ask d"],
                ),
            ],
        );
        let stated = estate_with(&[private, route, open], "[device.d]\noutside = [\"eth0\"]\n");
        assert_eq!(
            answers(&CHECK, &stated),
            ["fail high d iptables-save.txt:2 iptables-save.txt:2 ip-addr.json:1"]
        );
    }

    #[test]
    fn what_runs_is_judged_and_what_is_stored_is_told_beside_it() {
        let closed = "*filter\n:INPUT DROP [0:0]\n:FORWARD DROP [0:0]\nCOMMIT\n";
        let open = "*filter\n:INPUT ACCEPT [0:0]\n:FORWARD DROP [0:0]\nCOMMIT\n";
        for (running, stored, wanted) in [
            (closed, open, "pass d"),
            (open, closed, "fail high d iptables-save.txt:2 ip-addr.json:1 ip-route.json:1"),
            (open, open, "fail high d iptables-save.txt:2 rules.v4:2 ip-addr.json:1 ip-route.json:1"),
        ] {
            let files =
                [ADDRESSES, ROUTES, ("d/iptables-save.txt", running), ("d/etc/iptables/rules.v4", stored)];
            assert_eq!(squeeze(&answers(&CHECK, &estate_with(&files, ""))[0]), wanted);
        }
    }

    #[test]
    fn a_router_is_judged_for_what_it_forwards_and_for_both_versions() {
        let v6 = INSIDE.replace(
            "\"prefixlen\":24}]},",
            "\"prefixlen\":24},{\"local\":\"2001:db8::9\",\"prefixlen\":64}]},",
        );
        let rules = "*filter\n:INPUT DROP [0:0]\n:FORWARD ACCEPT [0:0]\nCOMMIT\n";
        let rules6 = "*filter\n:INPUT ACCEPT [0:0]\n:FORWARD DROP [0:0]\nCOMMIT\n";
        let files = [
            ("d/ip-addr.json", v6.as_str()),
            ROUTES,
            ("d/iptables-save.txt", rules),
            ("d/ip6tables-save.txt", rules6),
        ];
        let told: Vec<_> = answers(&CHECK, &estate_with(&files, "")).iter().map(|one| squeeze(one)).collect();
        assert_eq!(
            told,
            [
                "pass d",
                "fail medium d iptables-save.txt:3 ip-addr.json:1 ip-route.json:1",
                "fail high d ip6tables-save.txt:2 ip-addr.json:1 ip-route.json:1",
                "pass d",
            ]
        );
    }
}
