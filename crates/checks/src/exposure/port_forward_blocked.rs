//! A port forward from the Internet is blocked downstream.

use crate::check::{Answer, Check, Fail, Need, Run, Verdict};
use crate::exposure::each_forward;
use crate::exposure::port_forward_unassigned::is_stale;
use trevlin_analysis::context::Analyses;
use trevlin_analysis::exposure::{ForwardOutcome, ForwardResult};
use trevlin_estate::area::{Area, Severity};
use trevlin_estate::baseline::Baseline;

/// The check.
pub(crate) const CHECK: Check = Check {
    id: "exposure/port-forward-blocked",
    area: Area::Exposure,
    title: "Port forward blocked downstream",
    severity: Severity::Low,
    why: "A port forward without effect shows an unfinished or withdrawn intention. A later change of another filter can \
          open it unnoticed.",
    fix: "Establish who needs it. Remove the forward, or permit the path for the intended sources only.",
    judged: "Fails for each port forward that matches connections from the Internet, none of which is delivered because a \
             later rule or device blocks them. Passes where it leads to a host.",
    references: &["NIST SP 800-41 Rev. 1, 5.2"],
    needs: &[Need::Addresses, Need::Filter],
    run: Run::Analyses(run),
};

fn run(estate: &Analyses, _: &Baseline) -> Vec<Answer> {
    each_forward(estate, |one, name| match &one.outcome {
        // That no host can have the address is another check's.
        _ if target_of(estate, one).is_some_and(|address| is_stale(estate, one.device, address)) => {
            Verdict::DoesNotApply
        }
        ForwardOutcome::BlockedLater | ForwardOutcome::Lost => {
            let last =
                one.steps.iter().rev().find(|step| step.origin.is_some_and(|origin| origin != one.origin));
            let where_to =
                last.and_then(|step| estate.devices.get(step.device)).map(|device| device.name.clone());
            let how = match (&one.outcome, &where_to) {
                (ForwardOutcome::Lost, _) => "enters a routing loop".to_owned(),
                (_, Some(device)) if *device == estate.devices[one.device].name => {
                    "is blocked by the filter of the device itself".to_owned()
                }
                (_, Some(device)) => format!("is blocked by {device}"),
                (_, None) => "is blocked on the path".to_owned(),
            };
            Verdict::Fail(Fail {
                rating: CHECK.rated("no connection passes at present"),
                title: format!("{name} {how}").into(),
                detail: format!(
                    "Connections from the Internet match the forward, and none is delivered: the traffic {how}."
                )
                .into(),
                evidence: [one.origin].into_iter().chain(last.and_then(|step| step.origin)).collect(),
            })
        }
        ForwardOutcome::NeverMet | ForwardOutcome::Depends => Verdict::DoesNotApply,
        _ => Verdict::pass(one.origin),
    })
}

fn target_of(estate: &Analyses, one: &ForwardResult) -> Option<std::net::IpAddr> {
    let forward = &estate.devices[one.device].facts.forwards[one.number];
    forward.to.addresses.map(|range| range.first())
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::exposure::testing::{Small, on};

    #[test]
    fn cases() {
        let forwards = "-A PREROUTING -i eth0 -p tcp --dport 8443 -j DNAT --to-destination 10.4.0.20:443\n";
        let through = "-A FORWARD -d 10.4.0.20 -p tcp --dport 443 -j ACCEPT\n";
        let closed = [("server/iptables-save.txt", "*filter\n:INPUT DROP [0:0]\nCOMMIT\n")];
        let base = Small { forwards, server: "tcp LISTEN 0 9 0.0.0.0:443 0.0.0.0:*\n", ..Small::default() };
        for (one, wanted) in [
            (base, "fail low gate iptables-save.txt:3 iptables-save.txt:7"),
            (
                Small { rules: through, more: &closed, ..base },
                "fail low gate iptables-save.txt:3 iptables-save.txt:2",
            ),
            (Small { rules: through, ..base }, "pass gate"),
            (
                Small { rules: "-A FORWARD -d 10.4.0.20 -m limit --limit 1/second -j ACCEPT\n", ..base },
                "pass gate",
            ),
        ] {
            assert_eq!(on(&CHECK, &one), [wanted]);
        }
    }
}
