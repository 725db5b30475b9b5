//! VPN clients reach the whole internal network with every service.

use crate::check::{Answer, Check, Fail, Need, Reason, Run, Verdict};
use crate::rules::reach::{Reached, networks_behind};
use crate::subject::Subject;
use crate::support::{StatePart, provide};
use trevlin_analysis::context::Analyses;
use trevlin_estate::area::{Area, Severity};
use trevlin_estate::baseline::Baseline;

/// The check.
pub(crate) const CHECK: Check = Check {
    id: "rules/vpn-unrestricted",
    area: Area::Rules,
    title: "VPN clients have unrestricted internal access",
    severity: Severity::High,
    why: "VPN clients are used in homes and hotels. An attacker with such a device, or with the password of its user, \
          reaches the whole internal network. Encryption of the tunnel does not restrict its clients.",
    fix: "Permit VPN clients only the hosts and services that they need, by group; drop and log the rest. Document the \
          intended access as intents in trevlin.toml.",
    judged: "Fails for each tunnel whose clients reach more than half of the addresses of every network behind the device, \
             on every TCP or UDP port. One level lower where an intent of the estate file covers it. Passes where at least \
             one network is blocked or limited. Undetermined where a condition not analysed decides.",
    references: &["NIST SP 800-46 Rev. 2, 3.3", "NIST SP 800-207, 2.1"],
    needs: &[Need::Filter, Need::Services],
    run: Run::Analyses(run),
};

fn run(estate: &Analyses, baseline: &Baseline) -> Vec<Answer> {
    let mut answers = Vec::new();
    for (clients, exposure) in estate.shape().clients.iter().zip(&estate.internal().clients) {
        let networks = networks_behind(estate, clients.device, &clients.interface);
        if networks.is_empty() {
            continue;
        }
        let reached: Vec<Reached> = networks
            .iter()
            .map(|net| Reached::of(&exposure.openings, clients.device, *net, baseline.at(clients.device)))
            .collect();
        let subject = Subject::tunnel_named(&clients.tunnel);
        if exposure.cut {
            let question = format!(
                "Please review the packet filter with `trevlin rules`: packets of clients of {} take more paths than are \
                 followed.",
                clients.tunnel
            );
            answers.push(Answer::new(clients.device, subject, Verdict::ask(question, vec![clients.origin])));
            continue;
        }
        let unknown = estate.tables_in_force(clients.device).is_empty();
        let verdict = if unknown && reached.iter().all(|one| one.certain || one.perhaps) {
            let reason = format!("which internal networks clients of {} reach", clients.tunnel);
            Verdict::provide(
                provide(estate, clients.device, &[StatePart::Filter]),
                Reason::decides(reason),
                vec![clients.origin],
            )
        } else if reached.iter().all(|one| one.certain) {
            let names: Vec<String> = networks.iter().map(ToString::to_string).collect();
            let mut evidence: Vec<_> = reached.iter().flat_map(|one| one.rules.iter().copied()).collect();
            evidence.dedup();
            evidence.push(clients.origin);
            Verdict::Fail(Fail {
                rating: CHECK.rated("every port of every network behind the device is open to them"),
                title: format!(
                    "Clients of {} reach all networks behind {}",
                    clients.tunnel, estate.devices[clients.device].name
                )
                .into(),
                detail: format!("They reach {} on every port.", names.join(", ")).into(),
                evidence,
            })
        } else if reached.iter().all(|one| one.certain || one.perhaps) {
            let question = format!(
                "Please state whether clients of {} reach all networks behind {}: a condition not analysed decides.",
                clients.tunnel, estate.devices[clients.device].name
            );
            Verdict::ask(question, vec![clients.origin])
        } else {
            let rules = reached.iter().flat_map(|one| one.rules.iter().copied());
            Verdict::pass_by(rules.chain([clients.origin]), clients.origin)
        };
        answers.push(Answer::new(clients.device, subject, verdict));
    }
    answers
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::rules::reach::testing::on_gate;

    #[test]
    fn cases() {
        for (rules, wanted) in [
            ("-A FORWARD -i wg0 -j ACCEPT\n", "fail high gate iptables-save.txt:5 wg0.conf:1"),
            ("-A FORWARD -i wg0 -d 10.4.0.0/24 -p tcp --dport 443 -j ACCEPT\n", "pass gate"),
            ("-A FORWARD -i wg0 -d 10.4.0.0/28 -j ACCEPT\n", "pass gate"),
            // A denial in front that takes most of it.
            (
                "-A FORWARD -i wg0 -d 10.4.0.128/25 -j DROP\n-A FORWARD -i wg0 -d 10.4.0.0/26 -j DROP\n-A FORWARD -i wg0 -j ACCEPT\n",
                "pass gate",
            ),
            ("-A FORWARD -i wg0 -m mark --mark 1 -j ACCEPT\n", "ask gate"),
        ] {
            assert_eq!(on_gate(&CHECK, rules, &[]), [wanted], "{rules}");
        }
    }
}
