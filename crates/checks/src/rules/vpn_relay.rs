//! VPN clients are relayed to the Internet with whole protocols.

use crate::check::{Addressee, Answer, Check, Fail, Need, Reason, Run, Verdict};
use crate::rules::reach::whole;
use crate::subject::Subject;
use crate::support::{StatePart, provide};
use trevlin_analysis::context::Analyses;
use trevlin_analysis::ways::{cited, without_filter};
use trevlin_estate::area::{Area, Severity};
use trevlin_estate::baseline::Baseline;
use trevlin_model::{DeviceKind, Family, IpRange};

/// The check.
pub(crate) const CHECK: Check = Check {
    id: "rules/vpn-relay",
    area: Area::Rules,
    title: "VPN clients are relayed to the Internet",
    severity: Severity::Medium,
    why: "Internet traffic of VPN clients, and of malware on them, appears to come from the organisation: spam, scans and \
          downloads. Its address may be added to block lists, and complaints are directed to it.",
    fix: "Permit the intended services only, through a proxy where available, and drop the rest. Alternatively use a split \
          tunnel and permit no traffic to the Internet.",
    judged: "Fails for each tunnel whose clients reach the Internet on every TCP or UDP port; one level lower for an \
             intended full tunnel. Passes where some ports or none are permitted. Undetermined where a condition not \
             analysed decides.",
    references: &["NIST SP 800-41 Rev. 1, 4.2", "NIST SP 800-46 Rev. 2, 3.3", "RFC 5068"],
    needs: &[Need::Filter, Need::Services],
    run: Run::Analyses(run),
};

fn run(estate: &Analyses, baseline: &Baseline) -> Vec<Answer> {
    let mut answers = Vec::new();
    for (clients, exposure) in estate.shape().clients.iter().zip(&estate.internal().clients) {
        let device = &estate.devices[clients.device];
        if !matches!(device.kind, DeviceKind::Firewall | DeviceKind::Router) && exposure.outwards.is_empty() {
            continue;
        }
        let wide: Vec<_> =
            exposure.outwards.iter().filter(|one| whole(&one.ports, baseline.at(clients.device))).collect();
        let Some(first) = wide.iter().find(|one| one.certain).or(wide.first()) else {
            answers.push(Answer::new(
                clients.device,
                Subject::tunnel_named(&clients.tunnel),
                Verdict::pass(clients.origin),
            ));
            continue;
        };
        let evidence: Vec<_> = cited(&first.steps).chain([clients.origin]).collect();
        let family = first.addresses.first().map_or(Family::V4, IpRange::family);
        let verdict = if let Some(silent) = without_filter(estate, &first.steps, family) {
            let reason = format!("whether clients of {} are relayed to the Internet", clients.tunnel);
            Verdict::provide(provide(estate, silent, &[StatePart::Filter]), Reason::decides(reason), evidence)
                .addressed_to(Addressee::Device(silent))
        } else if first.certain {
            let tunnel = device.facts.tunnels.iter().find(|one| one.name == clients.tunnel);
            let everything = tunnel.is_some_and(|tunnel| {
                let sent = tunnel.addresses.sent_through.iter();
                sent.clone().any(|(range, _)| *range == IpRange::all(range.family()))
            });
            let (severity, why) = match everything {
                true => (CHECK.severity.lower(), "the tunnel is intended to carry all traffic"),
                false => (CHECK.severity, "no setting shows that the tunnel is intended for it"),
            };
            Verdict::Fail(Fail {
                rating: CHECK.rated_at(severity, why),
                title: format!("Clients of {} reach the Internet on every port", clients.tunnel).into(),
                detail: format!("{} relays all their traffic to the Internet.", device.name).into(),
                evidence,
            })
        } else {
            let question = format!(
                "Please state whether clients of {} are relayed to the Internet: a condition not analysed decides.",
                clients.tunnel
            );
            Verdict::ask(question, evidence)
        };
        answers.push(Answer::new(clients.device, Subject::tunnel_named(&clients.tunnel), verdict));
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
