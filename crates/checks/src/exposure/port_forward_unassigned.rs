//! A port forward leads to an address outside every network.

use crate::check::{Answer, Check, Fail, Need, Run, Verdict};
use crate::exposure::title_of;
use crate::subject::{Subject, SubjectKind};
use trevlin_analysis::context::Analyses;
use trevlin_analysis::exposure::is_on_a_network;
use trevlin_estate::area::{Area, Severity};
use trevlin_estate::baseline::Baseline;
use trevlin_estate::special::is_public;
use trevlin_model::ExportState;

/// The check.
pub(crate) const CHECK: Check = Check {
    id: "exposure/port-forward-unassigned",
    area: Area::Exposure,
    title: "Port forward to an address outside every network",
    severity: Severity::Low,
    why: "No host can receive the forwarded traffic: the forward has outlived its host or contains a mistyped address. A network \
          or route that is added later exposes the host that has the address then.",
    fix: "Remove the forward and the rule that permits it, or correct the address.",
    judged: "Fails for each port forward to a private address that is in no network of a device, on no route but the default \
             one, and in no pool. Passes where a network or a route contains the address; hosts that were not exported are \
             judged by exposure/unexported-host. Not judged where the interfaces or the routes of the device were not \
             exported.",
    references: &["NIST SP 800-41 Rev. 1, 5.2"],
    needs: &[Need::Addresses, Need::Filter],
    run: Run::Analyses(run),
};

fn run(estate: &Analyses, _: &Baseline) -> Vec<Answer> {
    let mut answers = Vec::new();
    for (at, device) in estate.devices.iter().enumerate() {
        let facts = &device.facts;
        if facts.interfaces.is_empty() || facts.routes.is_empty() {
            continue;
        }
        let runs = facts.filters.iter().any(|filter| filter.state == ExportState::Running);
        for forward in facts.forwards.iter().filter(|one| !(one.state == ExportState::Stored && runs)) {
            let Some(address) = forward.to.addresses.map(|range| range.first()) else { continue };
            let title = title_of(forward.protocol.0, forward.ports.first().copied());
            let subject = Subject::of(SubjectKind::Forward).with(&title).with(address);
            let verdict = if is_stale(estate, at, address) {
                Verdict::Fail(Fail {
                    rating: CHECK.rated("no host can receive the traffic at present"),
                    title: format!("{title} leads to {address}, which is in no network").into(),
                    detail: format!(
                        "No network of a device, no route and no pool of the estate contains {address}: only the default \
                         route is left, and the Internet does not route the address."
                    )
                    .into(),
                    evidence: vec![forward.origin],
                })
            } else {
                Verdict::pass(forward.origin)
            };
            answers.push(Answer::new(at, subject, verdict));
        }
    }
    answers
}

/// Whether no host can have a target's address.
pub(super) fn is_stale(estate: &Analyses, device: usize, address: std::net::IpAddr) -> bool {
    !is_public(address) && !address.is_loopback() && !is_on_a_network(estate, device, address)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::exposure::testing::{Small, on};

    #[test]
    fn cases() {
        let forward = |to: &str| {
            format!("-A PREROUTING -i eth0 -p tcp --dport 8443 -j DNAT --to-destination {to}:443\n")
        };
        let through = "-A FORWARD -p tcp --dport 443 -j ACCEPT\n";
        let pool = ("gate/etc/pptpd.conf", "remoteip 10.9.9.10-20\n");
        let base = Small { rules: through, ..Small::default() };
        for (name, to, one, wanted) in [
            ("nowhere", "10.9.9.9", base, "fail low gate iptables-save.txt:3"),
            (
                "nowhere, and stopped besides",
                "10.9.9.9",
                Small { rules: "", ..base },
                "fail low gate iptables-save.txt:3",
            ),
            ("a host of a connected network", "10.4.0.77", base, "pass gate"),
            ("a client", "10.9.9.12", Small { more: &[pool], ..base }, "pass gate"),
            ("a public address", "198.51.100.80", base, "pass gate"),
        ] {
            assert_eq!(on(&CHECK, &Small { forwards: &forward(to), ..one }), [wanted], "{name}");
        }
    }
}
