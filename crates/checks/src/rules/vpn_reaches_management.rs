//! VPN clients reach management interfaces.

use crate::check::{Addressee, Answer, Check, Fail, Need, Reason, Run, Verdict};
use crate::subject::Subject;
use crate::support::{StatePart, provide};
use trevlin_analysis::context::Analyses;
use trevlin_analysis::services::PortKind;
use trevlin_analysis::ways::{cited, without_filter};
use trevlin_estate::area::{Area, Severity};
use trevlin_estate::baseline::Baseline;
use trevlin_model::DeviceKind;

/// The check.
pub(crate) const CHECK: Check = Check {
    id: "rules/vpn-reaches-management",
    area: Area::Rules,
    title: "VPN clients reach management interfaces",
    severity: Severity::Medium,
    why: "Ordinary VPN users do not need access to management interfaces. A single infected client can use that access to \
          take over the network.",
    fix: "Permit management access for administrators only, from a separate tunnel or group, and block it for other clients.",
    judged: "Fails for each tunnel and device: management services of any device, and remote shells of firewalls, routers \
             and storage appliances, that VPN clients reach. Passes where they reach none, or what the estate file intends. Undetermined \
             where a condition not analysed decides.",
    references: &["NIST SP 800-46 Rev. 2, 3.3"],
    needs: &[Need::Filter, Need::Services],
    run: Run::Analyses(run),
};

fn run(estate: &Analyses, _: &Baseline) -> Vec<Answer> {
    let internet = estate.internet();
    let mut answers = Vec::new();
    for (clients, exposure) in estate.shape().clients.iter().zip(&estate.internal().clients) {
        let known = answers.len();
        for (device, reached) in exposure.reached_by_device() {
            let appliance = matches!(
                estate.devices[device].kind,
                DeviceKind::Firewall | DeviceKind::Router | DeviceKind::Storage
            );
            let found: Vec<_> = reached
                .into_iter()
                .filter(|one| {
                    let service = &internet.services[device][one.service];
                    let kind = service.kind();
                    let judged = kind == PortKind::Management || (kind == PortKind::Shell && appliance);
                    judged
                        && !trevlin_analysis::intents::is_meant(
                            estate,
                            &clients.tunnel,
                            one.address,
                            one.protocol,
                            service.port,
                        )
                })
                .collect();
            let Some(first) = found.iter().find(|one| one.certain).or(found.first()) else { continue };
            let mut names: Vec<String> = found
                .iter()
                .map(|one| {
                    let service = &internet.services[device][one.service];
                    format!("{} ({})", service.name, service.endpoint())
                })
                .collect();
            names.sort();
            names.dedup();
            let subject = Subject::tunnel_named(&clients.tunnel).with(&estate.devices[device].name);
            let rules = cited(&first.steps);
            let evidence: Vec<_> = rules
                .chain(internet.services[device][first.service].origins())
                .chain([clients.origin])
                .collect();
            let family = trevlin_model::Family::of(first.address);
            let verdict = if let Some(silent) = without_filter(estate, &first.steps, family) {
                let reason = format!(
                    "whether clients of {} reach management interfaces of {}",
                    clients.tunnel, estate.devices[device].name
                );
                Verdict::provide(
                    provide(estate, silent, &[StatePart::Filter]),
                    Reason::decides(reason),
                    evidence,
                )
                .addressed_to(Addressee::Device(silent))
            } else if first.certain {
                Verdict::Fail(Fail {
                    rating: CHECK.rated("any VPN client reaches the login of the device"),
                    title: format!(
                        "Clients of {} reach management interfaces of {}",
                        clients.tunnel, estate.devices[device].name
                    )
                    .into(),
                    detail: format!("They reach {}.", names.join(", ")).into(),
                    evidence,
                })
            } else {
                let question = format!(
                    "Please state whether clients of {} reach management interfaces of {}: a condition not analysed \
                     decides.",
                    clients.tunnel, estate.devices[device].name
                );
                Verdict::ask(question, evidence)
            };
            answers.push(Answer::new(device, subject, verdict));
        }
        if answers.len() == known {
            let subject = Subject::tunnel_named(&clients.tunnel);
            answers.push(Answer::new(clients.device, subject, Verdict::pass(clients.origin)));
        }
    }
    answers
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::rules::reach::testing::{on_gate, on_gate_with};

    #[test]
    fn cases() {
        let sockets = [(
            "gate/ss.txt",
            "tcp LISTEN 0 9 0.0.0.0:22 0.0.0.0:*\nudp UNCONN 0 0 127.0.0.1:161 0.0.0.0:*\n",
        )];
        let open = "-A INPUT -i wg0 -p tcp --dport 22 -j ACCEPT\n";
        assert_eq!(
            on_gate(&CHECK, open, &sockets),
            ["fail medium gate iptables-save.txt:5 ss.txt:1 wg0.conf:1"]
        );
        // The loopback address is not reachable, and rules for other interfaces do not apply.
        let other = "-A INPUT -p udp --dport 161 -j ACCEPT\n-A INPUT -i eth1 -p tcp --dport 22 -j ACCEPT\n";
        assert_eq!(on_gate(&CHECK, other, &sockets), ["pass gate"]);
        let limited = "-A INPUT -i wg0 -p tcp --dport 22 -m limit --limit 1/second -j ACCEPT\n";
        assert_eq!(on_gate(&CHECK, limited, &sockets), ["ask gate"]);
        let meant = "[[intent]]\nfrom = \"WireGuard wg0\"\nto = \"gate\"\nservices = \"tcp 22\"\n";
        assert_eq!(on_gate_with(&CHECK, open, &sockets, meant), ["pass gate"]);
    }
}
