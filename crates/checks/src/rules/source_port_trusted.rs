//! A rule whose only limit is the source port, which the sender chooses.

use crate::check::{Answer, Check, Fail, Need, Run, Verdict};
use crate::rules::{Judged, destination, each_way, entering, named};
use trevlin_analysis::context::Analyses;
use trevlin_analysis::filter_review::{EVERY_SERVICE, describe, let_through, within_device};
use trevlin_estate::area::{Area, Severity};
use trevlin_estate::baseline::Baseline;
use trevlin_model::{Hook, MatchKind, PortRange, Rule};
use trevlin_packets::review::RuleStatus;

/// The check.
pub(crate) const CHECK: Check = Check {
    id: "rules/source-port-trusted",
    area: Area::Rules,
    title: "Rule trusts the source port",
    severity: Severity::Medium,
    why: "The sender chooses the source port. A rule that permits packets for their source port alone, often written to let \
          replies of DNS, NTP or a web server return, permits every service to a sender that uses this port.",
    fix: "Permit replies by connection state. Where the device keeps none, limit the rule to the servers in use and to \
          unprivileged destination ports.",
    judged: "Fails where a permit applies to new connections on every port of a protocol, and only the source port limits the \
             service: high from the Internet. Passes where the sources are a few hosts, or the destination ports are \
             limited.",
    references: &["NIST SP 800-41 Rev. 1, 4.2", "RFC 6335, 6"],
    needs: &[Need::Filter],
    run: Run::Analyses(run),
};

/// As a power of two: the number of sources that still counts as a few servers.
const FEW: f64 = 4.0;

/// A choice of source ports below this number limits the service as far as the sender likes.
const CHOSEN: u32 = 4096;

fn run(estate: &Analyses, _: &Baseline) -> Vec<Answer> {
    each_way(estate, judge)
}

/// The source ports of a rule that names a few of them, and no destination ports.
pub(super) fn by_source_port(rule: &Rule) -> Option<&[PortRange]> {
    let count = |all: &[PortRange]| all.iter().map(|one| u32::from(one.last - one.first) + 1).sum::<u32>();
    rule.matches.iter().filter(|one| !one.negated).find_map(|one| match &one.kind {
        MatchKind::SourcePorts(all) if count(all) < CHOSEN => Some(all.as_slice()),
        _ => None,
    })
}

fn judge(estate: &Analyses, judged: &Judged<'_>) -> Verdict {
    let Some((found, hooks)) = judged.found else { return Verdict::DoesNotApply };
    let Some(ports) = by_source_port(judged.rule) else { return Verdict::DoesNotApply };
    if !hooks.iter().any(|hook| matches!(hook, Hook::Input | Hook::Forward))
        || within_device(estate, judged.device, judged.rule)
    {
        return Verdict::DoesNotApply;
    }
    let Some(breadth) = let_through(judged.review.spaces, judged.rule) else {
        return Verdict::DoesNotApply;
    };
    if breadth.services < EVERY_SERVICE
        || breadth.sources <= FEW
        || found.status != RuleStatus::Alive
        || !found.exact
    {
        return Verdict::pass(judged.rule.origin);
    }
    let outside = estate.outside(judged.device);
    let from = entering(judged.rule);
    let facing = outside.iter().find(|one| one.certain && from.as_ref().is_none_or(|name| *name == one.name));
    let (severity, why) = match facing {
        Some(one) => (Severity::High, format!("{} faces the Internet", one.name)),
        None => (CHECK.severity, "it is not known to apply to the Internet".to_owned()),
    };
    let all: Vec<String> = ports.iter().map(ToString::to_string).collect();
    let list = all.join(", ");
    let words = describe(judged.rule);
    let to = destination(&words, hooks);
    Verdict::Fail(Fail {
        rating: CHECK.rated_at(severity, why),
        title: format!("Every port of {to} is reachable from source port {list}").into(),
        detail: format!(
            "The rule `{}` of chain {} limits the service by source port {list} only, which the sender chooses.",
            named(judged.rule),
            judged.chain.name
        )
        .into(),
        evidence: std::iter::once(judged.rule.origin).chain(facing.and_then(|one| one.origin)).collect(),
    })
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::testing::run;

    #[test]
    fn cases() {
        let addresses = r#"[{"ifname":"eth0","addr_info":[{"local":"192.0.2.9","prefixlen":24}]},
{"ifname":"eth1","addr_info":[{"local":"10.4.0.1","prefixlen":24}]}]"#;
        let route = r#"[{"dst":"default","gateway":"192.0.2.1","dev":"eth0","flags":[]}]"#;
        let cases = [
            (
                "replies of DNS by port",
                "-A INPUT -i eth0 -p udp --sport 53 -j ACCEPT",
                &["fail high d iptables-save.txt:5 ip-addr.json:1"][..],
            ),
            (
                "any interface",
                "-A FORWARD -p tcp --sport 443 -j ACCEPT",
                &["fail high d iptables-save.txt:5 ip-addr.json:1"],
            ),
            (
                "from the inside",
                "-A FORWARD -i eth1 -p tcp --sport 20 -j ACCEPT",
                &["fail medium d iptables-save.txt:5"],
            ),
            ("one server", "-A INPUT -i eth0 -s 192.0.2.53 -p udp --sport 53 -j ACCEPT", &["pass d"]),
            ("one port", "-A INPUT -i eth0 -p udp --sport 67 --dport 68 -j ACCEPT", &["pass d"]),
            ("known connections", "-A INPUT -p udp --sport 53 -m state --state ESTABLISHED -j ACCEPT", &[]),
            ("unprivileged source ports", "-A INPUT -p tcp --sport 1024:65535 -j ACCEPT", &[]),
            ("packets with ACK", "-A INPUT -p tcp --sport 443 ! --syn -j ACCEPT", &[]),
        ];
        let lists: Vec<String> =
            cases.iter().map(|(_, rules, _)| crate::rules::filter_files(rules)).collect();
        let files: Vec<[(&str, &str); 3]> = lists
            .iter()
            .map(|list| {
                [
                    ("d/ip-addr.json", addresses),
                    ("d/ip-route.json", route),
                    ("d/iptables-save.txt", list.as_str()),
                ]
            })
            .collect();
        let all: Vec<_> =
            cases.iter().zip(&files).map(|((what, _, wanted), files)| (*what, &files[..], *wanted)).collect();
        run(&CHECK, &all);
    }
}
