//! A service listens on all addresses although only VPN clients need it.

use crate::check::{Answer, Check, Fail, Need, Run, Verdict};
use crate::subject::Subject;
use std::collections::BTreeSet;
use trevlin_analysis::context::Analyses;
use trevlin_analysis::services::What;
use trevlin_estate::area::{Area, Severity};
use trevlin_estate::baseline::Baseline;

/// The check.
pub(crate) const CHECK: Check = Check {
    id: "exposure/binds-all-interfaces",
    area: Area::Exposure,
    title: "Service listens on all interfaces",
    severity: Severity::Low,
    why: "A single filter rule separates the service from the Internet, and one mistake in it exposes the service. A service \
          that is not bound to that interface cannot be reached there.",
    fix: "Bind the service to the internal or tunnel address, and keep the filter rule as a second layer.",
    judged: "Fails for each management, shell, remote-desktop, file, database or industrial service that listens on every \
             address of a device with an Internet interface, and is reachable by VPN clients of that device but not from the \
             Internet. Passes where it is bound to other addresses. Internet-facing services are reported by the check of \
             their kind.",
    references: &["NIST SP 800-123, 4.2"],
    needs: &[Need::Services],
    run: Run::Analyses(run),
};

fn run(estate: &Analyses, _: &Baseline) -> Vec<Answer> {
    let internet = estate.internet();
    // For the clients of all tunnels, since those of one tunnel may reach another device.
    let inner = estate.internal().clients.iter().flat_map(|one| &one.reached);
    let by_callers: BTreeSet<(usize, usize)> = inner.map(|one| (one.device, one.service)).collect();
    let mut answers = Vec::new();
    for (at, services) in internet.services.iter().enumerate() {
        let faces = estate.outside(at).iter().any(|one| one.certain);
        let called = !estate.shape().clients_at(at).is_empty();
        if !faces || !called {
            continue;
        }
        for (number, one) in services.iter().enumerate() {
            let shell = matches!(one.what, What::Shell(_))
                || one.kind() == trevlin_analysis::services::PortKind::Shell;
            if !(shell || trevlin_analysis::exposure::never_meant(one.kind())) || one.is_local() {
                continue;
            }
            let subject = Subject::service(&estate.devices[at], one);
            if one.address.is_some() || one.interface.is_some() {
                answers.push(Answer::new(at, subject, Verdict::pass_lines(one.origins())));
                continue;
            }
            let from_outside = internet.outside.reached_of(at).any(|reached| reached.service == number);
            if from_outside || !by_callers.contains(&(at, number)) {
                continue;
            }
            let verdict = Verdict::Fail(Fail {
                rating: CHECK.rated("the packet filter currently blocks access from the Internet"),
                title: format!("{} listens on all interfaces", one.name).into(),
                detail: "VPN clients reach it and the Internet does not; only the packet filter makes the difference."
                    .into(),
                evidence: one.origins(),
            });
            answers.push(Answer::new(at, subject, verdict));
        }
    }
    answers
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::exposure::testing::{Small, on};

    #[test]
    fn cases() {
        let tunnel = [(
            "gate/etc/openvpn/server.conf",
            "port 1194\nproto udp\ndev tun0\nserver 10.9.0.0 255.255.255.0\nca ca.pem\ncert s.pem\nkey s.key\ndh none\n",
        )];
        let rules = "-A INPUT -i tun0 -p tcp --dport 22 -j ACCEPT\n";
        let base = Small { rules, more: &tunnel, ..Small::default() };
        for (gate, rules, wanted) in [
            ("tcp LISTEN 0 9 0.0.0.0:22 0.0.0.0:*\n", rules, &["fail low gate ss.txt:1"][..]),
            ("tcp LISTEN 0 9 10.4.0.1:22 0.0.0.0:*\n", rules, &["pass gate"]),
            ("tcp LISTEN 0 9 127.0.0.1:22 0.0.0.0:*\n", rules, &[]),
            // It is reachable from the Internet as well: the check for shells reports it.
            ("tcp LISTEN 0 9 0.0.0.0:22 0.0.0.0:*\n", "-A INPUT -p tcp --dport 22 -j ACCEPT\n", &[]),
            ("tcp LISTEN 0 9 0.0.0.0:22 0.0.0.0:*\n", "", &[]),
        ] {
            assert_eq!(on(&CHECK, &Small { gate, rules, ..base }), wanted, "{gate} {rules}");
        }
    }
}
