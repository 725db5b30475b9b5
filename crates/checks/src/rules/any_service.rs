//! A rule that lets every service through.

use crate::check::{Answer, Check, Fail, Need, Run, Verdict};
use crate::rules::source_port_trusted::by_source_port;
use crate::rules::{Judged, REFERENCES, destination, each_way, entering, leaving, named, source};
use trevlin_analysis::context::Analyses;
use trevlin_analysis::filter_review::{
    EVERY_SERVICE, describe, let_through, limits, within_device, within_one_network,
};
use trevlin_estate::area::{Area, Severity};
use trevlin_estate::baseline::Baseline;
use trevlin_estate::special::is_public;
use trevlin_model::{Hook, IpRange, Match, MatchKind, Origin, Rule, Target, Tunnel, TunnelFamily};
use trevlin_packets::review::RuleStatus;

/// The check.
pub(crate) const CHECK: Check = Check {
    id: "rules/any-service",
    area: Area::Rules,
    title: "Rule permits any service",
    severity: Severity::Medium,
    why: "Every port of the destination is reachable: file sharing, remote desktops, management interfaces and whatever is \
          installed later. Malware spreads along such rules. Encryption of a tunnel does not protect against its own clients.",
    fix: "Permit the required services only, each for the addresses that need it. Log and deny the rest.",
    judged: "Fails where a permit applies to new connections on every port of a protocol: high from the Internet, low for \
             outgoing traffic to the Internet, info where both sides are single hosts. A limit to users, or by an inspection, is \
             part of the title. Passes for the loopback interface, for established connections only, and for protocols without \
             ports.",
    references: REFERENCES,
    needs: &[Need::Filter],
    run: Run::Analyses(run),
};

fn run(estate: &Analyses, _: &Baseline) -> Vec<Answer> {
    each_way(estate, judge_alone)
}

fn judge_alone(estate: &Analyses, judged: &Judged<'_>) -> Verdict {
    let Some((found, hooks)) = judged.found else { return Verdict::DoesNotApply };
    if !hooks.iter().any(|hook| matches!(hook, Hook::Input | Hook::Forward))
        || within_device(estate, judged.device, judged.rule)
    {
        return Verdict::DoesNotApply;
    }
    // Within one network nothing is opened to another.
    if within_one_network(judged.rule) {
        return Verdict::pass(judged.rule.origin);
    }
    // Most rules name a few ports, and are not measured.
    let few = |one: &Match| matches!(&one.kind, MatchKind::DestinationPorts(ports) if !one.negated && trevlin_model::total_ports(ports) < 1 << 13);
    if judged.rule.target == Target::Accept && judged.rule.matches.iter().any(few) {
        return Verdict::pass(judged.rule.origin);
    }
    let Some(breadth) = let_through(judged.review.spaces, judged.rule) else {
        return Verdict::DoesNotApply;
    };
    // Forwarded traffic is limited by the forwards.
    let forwarded = |one: &Match| matches!(one.kind, MatchKind::States(states) if !one.negated && states.dnat && !states.new && !states.established);
    if judged.rule.matches.iter().any(forwarded) {
        return Verdict::pass(judged.rule.origin);
    }
    // One for what IPsec or a mark singles out is limited by that.
    let limits = limits(judged.rule);
    if breadth.services < EVERY_SERVICE
        || found.status != RuleStatus::Alive
        || !(found.exact || limits.is_some())
    {
        return Verdict::pass(judged.rule.origin);
    }
    // What its source port limits is another check's.
    if by_source_port(judged.rule).is_some() {
        return Verdict::pass(judged.rule.origin);
    }
    let words = describe(judged.rule);
    // A rule without any condition is another check's.
    if words.open.source && words.open.destination {
        return Verdict::pass(judged.rule.origin);
    }
    let limits = limits.map(|limits| format!(", {limits}")).unwrap_or_default();
    let (severity, why, place) = context(estate, judged, breadth.sources + breadth.destinations);
    Verdict::Fail(Fail {
        rating: CHECK.rated_at(severity, why.clone()),
        title: format!(
            "Any service is permitted from {} to {}{limits}",
            source(&words),
            destination(&words, hooks)
        )
        .into(),
        detail: format!(
            "The rule `{}` of chain {} does not restrict the service: {why}.",
            named(judged.rule),
            judged.chain.name
        )
        .into(),
        evidence: std::iter::once(judged.rule.origin).chain(place).collect(),
    })
}

/// Severity of the case, its reason, and the line for it.
fn context(estate: &Analyses, judged: &Judged<'_>, addresses: f64) -> (Severity, String, Option<Origin>) {
    let outside = estate.outside(judged.device);
    let faces = |name: &str| outside.iter().find(|one| one.certain && one.name == name);
    if let Some(leaving) = through_ipsec(judged.rule) {
        let ends = estate.devices[judged.device].facts.running();
        let line = ends.filter(|one| one.family == TunnelFamily::Ipsec).map(|one| one.origin).next();
        let what = match leaving {
            true => "it permits all traffic into IPsec tunnels",
            false => "the traffic of IPsec tunnels is permitted to any service",
        };
        return (CHECK.severity, what.into(), line);
    }
    if let Some(one) = entering(judged.rule).and_then(|name| faces(&name)) {
        return (Severity::High, format!("{} faces the Internet", one.name), one.origin);
    }
    if let Some(one) = leaving(judged.rule).and_then(|name| faces(&name)) {
        return (
            Severity::Low,
            format!("it permits outgoing traffic only, through {}, which faces the Internet", one.name),
            one.origin,
        );
    }
    if let Some((name, place)) = entering(judged.rule).and_then(|name| tunnel(estate, judged.device, name)) {
        let why = format!("{name} is a tunnel, and its traffic is permitted to any service");
        return (CHECK.severity, why, Some(place));
    }
    if judged.found.is_some_and(|(_, hooks)| !hooks.contains(&Hook::Input)) && lets_out(estate, judged) {
        let why = "it permits outgoing traffic only: no network behind the device is among its destinations";
        return (Severity::Low, why.into(), None);
    }
    if addresses == 0.0 {
        return (Severity::Info, "it connects two single hosts".into(), None);
    }
    let input = judged.found.is_some_and(|(_, hooks)| !hooks.contains(&Hook::Forward));
    let what =
        if input { "it opens the device itself to that network" } else { "it opens one network to another" };
    (CHECK.severity, what.into(), None)
}

/// Whether a rule holds for traffic of IPsec tunnels alone: what goes into them, or what came out.
fn through_ipsec(rule: &Rule) -> Option<bool> {
    rule.matches.iter().filter(|one| !one.negated).find_map(|one| match one.kind {
        MatchKind::Ipsec { leaving } => Some(leaving),
        _ => None,
    })
}

/// Whether the destinations of a rule are Internet hosts, and none of the networks behind a device: those of interfaces that do not face
/// the Internet, and those that routes by them lead to.
fn lets_out(estate: &Analyses, judged: &Judged<'_>) -> bool {
    let facts = &estate.devices[judged.device].facts;
    let outside = estate.outside(judged.device);
    let faces = |name: &str| outside.iter().any(|one| one.name == name);
    if outside.is_empty() {
        return false;
    }
    let connected = facts.interfaces.iter().filter(|one| !one.loopback && !faces(&one.name));
    let connected = connected.flat_map(|one| &one.addresses).map(|one| IpRange::from(one.net.trunc()));
    let inside =
        |route: &&trevlin_model::Route| !route.is_default() && !route.interface.as_deref().is_some_and(faces);
    let routed = facts.routes.iter().filter(inside).map(|route| IpRange::from(route.destination));
    let behind: Vec<IpRange> = connected.chain(routed).collect();
    judged.rule.matches.iter().any(|one| {
        let MatchKind::Destination(ranges) = &one.kind else { return false };
        let excluded = |net: &IpRange| match one.negated {
            true => ranges.iter().any(|range| range.covers(net)),
            false => !ranges.iter().any(|range| range.intersection(net).is_some()),
        };
        let public =
            one.negated || ranges.iter().all(|range| is_public(range.first()) && is_public(range.last()));
        public
            && behind.iter().filter(|net| ranges.iter().any(|one| one.family() == net.family())).all(excluded)
    })
}

/// The tunnel that ends in an interface of a device, with its line. A pattern such as `wg*` matches all names with the prefix, and `ppp*`
/// the interfaces of PPP clients.
fn tunnel(estate: &Analyses, device: usize, name: String) -> Option<(String, Origin)> {
    let facts = &estate.devices[device].facts;
    let fits = |one: &str| match name.strip_suffix('+') {
        Some(beginning) => one.starts_with(beginning),
        None => one == name,
    };
    let dials = |one: &Tunnel| {
        name.starts_with("ppp")
            && matches!(one.family, TunnelFamily::Pptp | TunnelFamily::L2tp)
            && one.accepts_clients()
    };
    let by_tunnel = facts
        .running()
        .find(|one| one.interface.as_deref().is_some_and(fits) || dials(one))
        .map(|one| one.origin);
    let interface = facts.interfaces.iter().find(|one| fits(&one.name) && one.point_to_point);
    let place = by_tunnel.or(interface.map(|one| one.origin))?;
    Some((name.replace('+', "*"), place))
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::rules::filter_files;
    use crate::testing::{answers, estate_with};

    #[test]
    fn what_a_container_engine_sets_by_itself_is_no_rule_of_a_person() {
        let project = "services:\n  pages:\n    image: pages\n    ports: [\"8080:80\"]\n";
        let dump = "*filter\n:INPUT DROP [0:0]\n:FORWARD DROP [0:0]\n:OUTPUT ACCEPT [0:0]\nCOMMIT\n";
        let files = [("d/srv/pages/compose.yaml", project), ("d/iptables-save.txt", dump)];
        crate::testing::run(&CHECK, &[("a published port", &files, &[])]);
        let engine = "-N DOCKER\n-N DOCKER-USER\n-A FORWARD -j DOCKER-USER\n-A FORWARD -o br0 -j DOCKER\n-A FORWARD -i br0 ! -o br0 -j ACCEPT";
        for (rule, wanted) in [
            ("", &[][..]),
            // Others of the table, and those of the chain for the administrator, are a person's.
            ("-A FORWARD -i br1 ! -o br1 -j ACCEPT", &["fail medium d iptables-save.txt:10"]),
            ("-A DOCKER-USER -i eth7 -j ACCEPT", &["fail medium d iptables-save.txt:7 iptables-save.txt:10"]),
        ] {
            let list = filter_files(&format!("{engine}\n{rule}"));
            crate::testing::run(&CHECK, &[(rule, &[("d/iptables-save.txt", list.as_str())], wanted)]);
        }
    }

    #[test]
    fn cases() {
        let addresses = r#"[{"ifname":"eth0","addr_info":[{"local":"192.0.2.9","prefixlen":24}]},
{"ifname":"eth1","addr_info":[{"local":"10.4.0.1","prefixlen":24}]},
{"ifname":"wg0","flags":["POINTOPOINT"],"addr_info":[{"local":"10.9.0.1","prefixlen":24}]}]"#;
        let route = r#"[{"dst":"default","gateway":"192.0.2.1","dev":"eth0","flags":[]}]"#;
        for (what, rules, wanted) in [
            (
                "what leads there narrows it",
                "-N out\n-A FORWARD -i eth1 -j out\n-A out -o eth0 -j ACCEPT",
                &["fail low d iptables-save.txt:6 iptables-save.txt:7 ip-addr.json:1"][..],
            ),
            ("within one network", "-N out\n-A FORWARD -i eth1 -j out\n-A out -o eth1 -j ACCEPT", &[]),
            ("what was forwarded", "-A FORWARD -i eth0 -m conntrack --ctstate DNAT -j ACCEPT", &[]),
            (
                "from outside",
                "-A FORWARD -i eth0 -d 10.4.0.9 -j ACCEPT",
                &["fail high d iptables-save.txt:5 ip-addr.json:1"],
            ),
            (
                "to the outside",
                "-A FORWARD -i eth1 -o eth0 -j ACCEPT",
                &["fail low d iptables-save.txt:5 ip-addr.json:1"],
            ),
            (
                "out of a tunnel",
                "-A FORWARD -i wg0 -o eth1 -j ACCEPT",
                &["fail medium d iptables-save.txt:5 ip-addr.json:3"],
            ),
            (
                "between networks, all of TCP",
                "-A FORWARD -s 10.4.0.0/24 -d 10.5.0.0/24 -p tcp -j ACCEPT",
                &["fail medium d iptables-save.txt:5"],
            ),
            (
                "host to host",
                "-A FORWARD -s 10.4.0.9 -d 10.5.0.9 -j ACCEPT",
                &["fail info d iptables-save.txt:5"],
            ),
            ("some ports", "-A FORWARD -i eth0 -p tcp -m multiport --dports 1:1023,8000:9000 -j ACCEPT", &[]),
            ("no ports at all", "-A FORWARD -i eth0 -d 10.4.0.9 -p gre -j ACCEPT", &[]),
            ("known connections", "-A FORWARD -i eth0 -m state --state ESTABLISHED -j ACCEPT", &[]),
            ("the loopback", "-A INPUT -i lo -j ACCEPT", &[]),
            ("never met", "-A FORWARD -i eth0 -j DROP\n-A FORWARD -i eth0 -d 10.4.0.9 -j ACCEPT", &[]),
        ] {
            let list = filter_files(rules);
            let files = [
                ("d/ip-addr.json", addresses),
                ("d/ip-route.json", route),
                ("d/iptables-save.txt", list.as_str()),
            ];
            let told: Vec<_> =
                answers(&CHECK, &estate_with(&files, "")).into_iter().filter(|one| one != "pass d").collect();
            assert_eq!(told, wanted, "{what}");
        }
    }
}
