//! A port forward exposes an internal host to the Internet.

use crate::check::{Answer, Check, Fail, Need, Run, Verdict};
use crate::exposure::each_forward;
use trevlin_analysis::context::Analyses;
use trevlin_analysis::exposure::ForwardOutcome;
use trevlin_analysis::services::PortKind;
use trevlin_analysis::ways::cited;
use trevlin_estate::area::{Area, Severity};
use trevlin_estate::baseline::Baseline;
use trevlin_model::DeviceKind;

/// The check.
pub(crate) const CHECK: Check = Check {
    id: "exposure/port-forward",
    area: Area::Exposure,
    title: "Port forward to an internal host",
    severity: Severity::Low,
    why: "A port forward exposes an internal host directly. From that host the internal network is one step away, and \
          forwards often outlive their purpose.",
    fix: "Keep forwards few, each with an owner, a reason and a date in its comment. Place the target in a separate network, \
          limit the sources, or provide access through a VPN.",
    judged: "Fails for each port forward from the Internet that reaches a service of an internal device; one level higher \
             for a storage appliance. Passes for a forward to the port of a VPN. The service itself is judged by the check \
             of its kind.",
    references: &["NIST SP 800-41 Rev. 1, 4.1"],
    needs: &[Need::Addresses, Need::Filter],
    run: Run::Analyses(run),
};

fn run(estate: &Analyses, _: &Baseline) -> Vec<Answer> {
    let internet = estate.internet();
    each_forward(estate, |one, name| {
        let ForwardOutcome::Service(all) = &one.outcome else { return Verdict::DoesNotApply };
        let reached = all.iter().map(|at| &internet.outside.reached[*at]);
        let plain: Vec<_> = reached
            .filter(|one| internet.services[one.device][one.service].kind() != PortKind::Tunnel)
            .collect();
        let Some(first) = plain.first() else { return Verdict::pass(one.origin) };
        if !first.certain {
            return Verdict::DoesNotApply;
        }
        let inner = &estate.devices[first.device];
        let service = &internet.services[first.device][first.service];
        let rating = match inner.kind {
            DeviceKind::Storage => CHECK.rated_at(Severity::Medium, "the target stores files"),
            _ => CHECK.rated("the target is an internal host"),
        };
        let rating =
            if first.everybody { rating } else { rating.lowered("only named sources are permitted") };
        Verdict::Fail(Fail {
            rating,
            title: format!("{name} from the Internet reaches {}", inner.name).into(),
            detail: format!("Connections reach {} of {}.", service.name, inner.name).into(),
            evidence: [one.origin].into_iter().chain(cited(&one.steps)).collect(),
        })
    })
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::exposure::testing::{Small, on};

    #[test]
    fn cases() {
        let forwards = "-A PREROUTING -i eth0 -p tcp --dport 8443 -j DNAT --to-destination 10.4.0.20:443\n";
        let rules = "-A FORWARD -d 10.4.0.20 -p tcp --dport 443 -j ACCEPT\n";
        let tunnel = [(
            "server/etc/ocserv/ocserv.conf",
            "auth = \"plain[passwd=/etc/ocserv/p]\"\ntcp-port = 443\nipv4-network = 10.9.0.0/24\ndevice = vpns\n",
        )];
        let base =
            Small { forwards, rules, server: "tcp LISTEN 0 9 0.0.0.0:443 0.0.0.0:*\n", ..Small::default() };
        const LINES: &str = "gate iptables-save.txt:3 iptables-save.txt:3 iptables-save.txt:10";
        for (one, wanted) in [
            (base, format!("fail low {LINES}")),
            (Small { file: "[device.server]\nkind = \"storage\"\n", ..base }, format!("fail medium {LINES}")),
            (
                Small {
                    rules: "-A FORWARD -s 198.51.100.44 -d 10.4.0.20 -p tcp --dport 443 -j ACCEPT\n",
                    ..base
                },
                format!("fail info {LINES}"),
            ),
            (Small { rules: "", ..base }, "none gate".to_owned()),
            (Small { more: &tunnel, ..base }, "pass gate".to_owned()),
        ] {
            assert_eq!(on(&CHECK, &one), [wanted]);
        }
    }
}
