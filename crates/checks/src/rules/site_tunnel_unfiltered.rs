//! Sites are joined by a tunnel without a filter between.

use crate::check::{Answer, Check, Fail, Need, Reason, Run, Verdict};
use crate::rules::reach::{Reached, networks_behind};
use crate::subject::Subject;
use crate::support::{StatePart, provide};
use trevlin_analysis::context::Analyses;
use trevlin_estate::area::{Area, Severity};
use trevlin_estate::baseline::Baseline;

/// The check.
pub(crate) const CHECK: Check = Check {
    id: "rules/site-tunnel-unfiltered",
    area: Area::Rules,
    title: "Site-to-site tunnel without a filter",
    severity: Severity::Medium,
    why: "Without a filter, two sites form one network. An intrusion at the weaker site spreads to the other at once.",
    fix: "Filter traffic from the tunnel at both ends: permit the hosts and services that the other site needs, and nothing \
          else.",
    judged: "Fails for each end of a tunnel between two devices of the estate where connections from the other site reach \
             more than half of the addresses of every network behind it, on every TCP or UDP port. Passes where at least one \
             network is blocked or limited. Undetermined where a condition not analysed decides.",
    references: &["NIST SP 800-77 Rev. 1, 4.2", "NIST SP 800-41 Rev. 1, 4.1"],
    needs: &[Need::Filter, Need::Services],
    run: Run::Analyses(run),
};

fn run(estate: &Analyses, baseline: &Baseline) -> Vec<Answer> {
    let mut answers = Vec::new();
    for site in &estate.internal().sites {
        let joined = &estate.shape().joined[site.joined];
        let end = &joined.ends[site.end];
        let other = &estate.devices[joined.ends[1 - site.end].device].name;
        let networks = networks_behind(estate, end.device, &end.interface);
        if networks.is_empty() {
            continue;
        }
        let reached: Vec<Reached> = networks
            .iter()
            .map(|net| Reached::of(&site.exposure.openings, end.device, *net, baseline.at(end.device)))
            .collect();
        let here = &estate.devices[end.device].name;
        let mut evidence: Vec<_> = reached.iter().flat_map(|one| one.rules.iter().copied()).collect();
        evidence.dedup();
        evidence.extend(&joined.origins);
        let unknown = estate.tables_in_force(end.device).is_empty();
        let verdict = if unknown && reached.iter().all(|one| one.certain || one.perhaps) {
            let reason = format!("whether traffic from {other} through {} is limited", joined.name);
            Verdict::provide(
                provide(estate, end.device, &[StatePart::Filter]),
                Reason::decides(reason),
                joined.origins.clone(),
            )
        } else if reached.iter().all(|one| one.certain) {
            Verdict::Fail(Fail {
                rating: CHECK.rated("the other site reaches every port of every network here"),
                title: format!("{here} accepts all traffic from {other} through {}", joined.name).into(),
                detail: format!(
                    "Connections from the tunnel reach {} on every port.",
                    networks.iter().map(ToString::to_string).collect::<Vec<_>>().join(", ")
                )
                .into(),
                evidence,
            })
        } else if reached.iter().all(|one| one.certain || one.perhaps) {
            let question = format!(
                "Please state whether {here} filters traffic from {other} through {}: a condition not analysed \
                 decides.",
                joined.name
            );
            Verdict::ask(question, evidence)
        } else {
            Verdict::pass_lines(evidence)
        };
        answers.push(Answer::new(end.device, Subject::tunnel_named(&joined.name).with(other), verdict));
    }
    answers
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::testing::{answers, estate};

    #[test]
    fn cases() {
        let addresses = |outside: &str, inside: &str, link: &str| {
            format!(
                r#"[{{"ifname":"eth0","addr_info":[{{"local":"{outside}","prefixlen":24}}]}},{{"ifname":"eth1","addr_info":[{{"local":"{inside}","prefixlen":24}}]}},{{"ifname":"gre1","flags":["POINTOPOINT"],"addr_info":[{{"local":"{link}","prefixlen":30}}]}}]"#
            )
        };
        let link = |local: &str, remote: &str| {
            format!(
                r#"[{{"ifname":"gre1","flags":["POINTOPOINT","UP"],"mtu":1476,"qdisc":"noqueue","link_type":"gre","linkinfo":{{"info_kind":"gre","info_data":{{"remote":"{remote}","local":"{local}"}}}}}}]"#
            )
        };
        let routes = |far: &str, gateway: &str| {
            format!(
                r#"[{{"dst":"default","gateway":"{gateway}","dev":"eth0","flags":[]}},{{"dst":"{far}","dev":"gre1","flags":[]}}]"#
            )
        };
        let (a, b) = (
            addresses("192.0.2.9", "10.4.0.1", "10.255.0.1"),
            addresses("198.51.100.9", "10.5.0.1", "10.255.0.2"),
        );
        let (la, lb) = (link("192.0.2.9", "198.51.100.9"), link("198.51.100.9", "192.0.2.9"));
        let (ra, rb) = (routes("10.5.0.0/24", "192.0.2.1"), routes("10.4.0.0/24", "198.51.100.1"));
        let list = |rules: &str| {
            format!(
                "*filter\n:FORWARD DROP [0:0]\n-A FORWARD -m state --state ESTABLISHED -j ACCEPT\n{rules}COMMIT\n"
            )
        };
        let open = list("-A FORWARD -i gre1 -j ACCEPT\n-A FORWARD -o gre1 -j ACCEPT\n");
        let few = list("-A FORWARD -i gre1 -p tcp --dport 443 -j ACCEPT\n-A FORWARD -o gre1 -j ACCEPT\n");
        let told = |rules: &str| {
            let files = [
                ("a/ip-addr.json", a.as_str()),
                ("a/ip-link.json", la.as_str()),
                ("a/ip-route.json", ra.as_str()),
                ("a/iptables-save.txt", rules),
                ("b/ip-addr.json", b.as_str()),
                ("b/ip-link.json", lb.as_str()),
                ("b/ip-route.json", rb.as_str()),
                ("b/iptables-save.txt", few.as_str()),
            ];
            answers(&CHECK, &estate(&files))
        };
        assert_eq!(
            told(&open),
            ["fail medium a iptables-save.txt:4 ip-link.json:1 ip-link.json:1", "pass b"]
        );
        assert_eq!(told(&few), ["pass a", "pass b"]);
        // The other end was not exported: nothing to judge.
        let alone = [
            ("a/ip-addr.json", a.as_str()),
            ("a/ip-link.json", la.as_str()),
            ("a/iptables-save.txt", open.as_str()),
        ];
        assert!(answers(&CHECK, &estate(&alone)).is_empty());
    }
}
