//! Callers of a tunnel are relayed to the outside with whole protocols.

use crate::check::{Answer, Check, Fail, Run, Verdict};
use crate::rules::reach::whole;
use crate::subject::Subject;
use trevlin_analysis::context::Analyses;
use trevlin_analysis::ways::{deciding, without_filter};
use trevlin_estate::area::{Area, Severity};
use trevlin_estate::baseline::Baseline;
use trevlin_model::{DeviceKind, Family, IpRange};

/// The check.
pub(crate) const CHECK: Check = Check {
    id: "rules/vpn-relay",
    area: Area::Rules,
    title: "VPN clients are relayed to the Internet",
    severity: Severity::Medium,
    why: "What callers, or what lives on their machines, do on the internet then comes from the organisation's \
          address: mail by the thousand, scans, downloads. Its address ends up on block lists, and the questions \
          come here.",
    fix: "Let callers go out with the services that are meant, by a proxy where there is one, and drop the rest; or \
          send only inside networks through the tunnel and let nothing out on the other side.",
    judged: "Fails for each tunnel whose callers come through to the outside with every TCP or UDP port. A step \
             milder where the tunnel is meant to carry everything they send. Passes where some ports are let out or \
             none. Undetermined where a rule that is not modelled decides.",
    references: &["NIST SP 800-41 Rev. 1, 4.2", "NIST SP 800-46 Rev. 2, 3.3", "RFC 5068"],
    controls: &[],
    run: Run::Analyses(run),
};

fn run(estate: &Analyses, baseline: &Baseline) -> Vec<Answer> {
    let mut answers = Vec::new();
    for (callers, exposure) in estate.shape().callers.iter().zip(&estate.inner_views().callers) {
        let device = &estate.devices[callers.device];
        if !matches!(device.kind, DeviceKind::Firewall | DeviceKind::Router) && exposure.outwards.is_empty() {
            continue;
        }
        let wide: Vec<_> =
            exposure.outwards.iter().filter(|one| whole(&one.ports, baseline.at(callers.device))).collect();
        let Some(first) = wide.iter().find(|one| one.certain).or(wide.first()) else {
            answers.push(Answer::new(callers.device, Subject::tunnel_named(&callers.tunnel), Verdict::Pass));
            continue;
        };
        let evidence: Vec<_> = deciding(&first.steps).chain([callers.origin]).collect();
        let family = first.addresses.first().map_or(Family::V4, IpRange::family);
        let verdict = if let Some(silent) = without_filter(estate, &first.steps, family) {
            let question = format!(
                "no packet filter of {} was exported, so whether callers of {} are relayed to the outside is not known; ask for it",
                estate.devices[silent].name, callers.tunnel
            );
            Verdict::ask(question, evidence)
        } else if first.certain {
            let tunnel = device.facts.tunnels.iter().find(|one| one.name == callers.tunnel);
            let everything = tunnel.is_some_and(|tunnel| {
                let sent = tunnel.addresses.sent_through.iter();
                sent.clone().any(|(range, _)| *range == IpRange::all(range.family()))
            });
            let (severity, why) = match everything {
                true => (CHECK.severity.lower(), "the tunnel is meant to carry everything they send"),
                false => (CHECK.severity, "nothing says that the tunnel is meant for it"),
            };
            Verdict::Fail(Fail {
                rating: CHECK.rated_at(severity, why),
                title: format!("callers of {} go out to the internet with every port", callers.tunnel).into(),
                detail: format!("{} relays whatever they send to the outside.", device.name).into(),
                evidence,
            })
        } else {
            let question = format!(
                "whether callers of {} are relayed to the outside hangs on a rule that is not modelled; review it by hand",
                callers.tunnel
            );
            Verdict::ask(question, evidence)
        };
        answers.push(Answer::new(callers.device, Subject::tunnel_named(&callers.tunnel), verdict));
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
            ("-A FORWARD -i wg0 -o eth0 -j ACCEPT\n", "fail medium gate iptables-save.txt:5 wg0.conf:1"),
            ("-A FORWARD -i wg0 -o eth0 -p tcp --dport 443 -j ACCEPT\n", "pass gate"),
            ("-A FORWARD -i wg0 -o eth1 -j ACCEPT\n", "pass gate"),
            ("-A FORWARD -i wg0 -o eth0 -m mark --mark 1 -j ACCEPT\n", "ask gate"),
        ] {
            assert_eq!(on_gate(&CHECK, rules, &[]), [wanted], "{rules}");
        }
    }
}
