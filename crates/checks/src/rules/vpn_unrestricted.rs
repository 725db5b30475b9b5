//! Callers of a tunnel reach the whole inside with every service.

use crate::check::{Answer, Check, Control, Fail, Run, Verdict};
use crate::rules::reach::{Reached, networks_behind};
use crate::subject::Subject;
use trevlin_analysis::context::Analyses;
use trevlin_estate::area::{Area, Severity};
use trevlin_estate::baseline::Baseline;

/// The check.
pub(crate) const CHECK: Check = Check {
    id: "rules/vpn-unrestricted",
    area: Area::Rules,
    title: "VPN clients have unrestricted internal access",
    severity: Severity::High,
    why: "A caller's machine stands in a home or a hotel, and whoever has it, or the caller's password, has the \
          whole inside with it. That the tunnel is encrypted says nothing about what comes out of it.",
    fix: "Let callers reach the few machines and services that they need, by group, and drop and log the rest. What \
          is meant can be written down as intents in trevlin.toml.",
    judged: "Fails for each tunnel whose callers come through to more than half of the addresses of every network \
             behind the device, with every TCP or UDP port. Milder where an intent of the estate file says so. \
             Passes where at least one network is closed or limited. Undetermined where a rule that is not modelled \
             decides.",
    references: &["NIST SP 800-46 Rev. 2, 3.3", "NIST SP 800-207, 2.1"],
    controls: &[Control::grundschutz("NET.3.3.A4"), Control::grundschutz("NET.3.2.A2")],
    run: Run::Analyses(run),
};

fn run(estate: &Analyses, baseline: &Baseline) -> Vec<Answer> {
    let mut answers = Vec::new();
    for (callers, exposure) in estate.shape().callers.iter().zip(&estate.inner_views().callers) {
        let networks = networks_behind(estate, callers.device, &callers.interface);
        if networks.is_empty() {
            continue;
        }
        let reached: Vec<Reached> = networks
            .iter()
            .map(|net| Reached::of(&exposure.openings, callers.device, *net, baseline.at(callers.device)))
            .collect();
        let subject = Subject::tunnel_named(&callers.tunnel);
        if exposure.cut {
            let question = format!(
                "the packets of callers of {} go more different ways than are followed, so what they reach was not computed; review the filter with `trevlin rules`",
                callers.tunnel
            );
            answers.push(Answer::new(callers.device, subject, Verdict::ask(question, vec![callers.origin])));
            continue;
        }
        let unknown = estate.tables_in_force(callers.device).is_empty();
        let verdict = if unknown && reached.iter().all(|one| one.certain || one.perhaps) {
            let question = format!(
                "no packet filter of {} was exported, so what it lets through is not known; ask for `nft list ruleset`, or `iptables-save` and `ip6tables-save`",
                estate.devices[callers.device].name
            );
            Verdict::ask(question, vec![callers.origin])
        } else if reached.iter().all(|one| one.certain) {
            let names: Vec<String> = networks.iter().map(ToString::to_string).collect();
            let mut evidence: Vec<_> = reached.iter().flat_map(|one| one.rules.iter().copied()).collect();
            evidence.dedup();
            evidence.push(callers.origin);
            Verdict::Fail(Fail {
                rating: CHECK.rated("every port of every network behind the device is open to them"),
                title: format!(
                    "callers of {} reach everything behind {}",
                    callers.tunnel, estate.devices[callers.device].name
                )
                .into(),
                detail: format!("They come through to {} with every port.", names.join(", ")).into(),
                evidence,
            })
        } else if reached.iter().all(|one| one.certain || one.perhaps) {
            let question = format!(
                "whether callers of {} reach everything behind {} hangs on a rule that is not modelled; review it by hand",
                callers.tunnel, estate.devices[callers.device].name
            );
            Verdict::ask(question, vec![callers.origin])
        } else {
            Verdict::Pass
        };
        answers.push(Answer::new(callers.device, subject, verdict));
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
