//! A port forward from the Internet leads to an unassigned address.

use crate::check::{Answer, Check, Control, Fail, Run, Verdict};
use crate::exposure::each_forward;
use trevlin_analysis::context::Analyses;
use trevlin_analysis::exposure::ForwardOutcome;
use trevlin_analysis::ways::deciding;
use trevlin_estate::area::{Area, Severity};
use trevlin_estate::baseline::Baseline;

/// The check.
pub(crate) const CHECK: Check = Check {
    id: "exposure/port-forward-unassigned",
    area: Area::Exposure,
    title: "Port forward to an unassigned address",
    severity: Severity::Medium,
    why: "The next host that receives the address, by hand or by DHCP, is exposed to the Internet without a decision. An \
          internal attacker can also take the address deliberately.",
    fix: "Remove the forward and the rule that permits it. If a host exists that was not exported, document it and reserve \
          the address.",
    judged: "Fails for each permitted port forward to an address that no device has and that no DHCP server or tunnel \
             reserves. Passes where a service answers, or the address is reserved. An address inside a DHCP range leads to \
             an information request.",
    references: &["NIST SP 800-41 Rev. 1, 5.2"],
    controls: &[Control::grundschutz("NET.3.2.A9"), Control::grundschutz("NET.1.1.A24")],
    run: Run::Analyses(run),
};

fn run(estate: &Analyses, _: &Baseline) -> Vec<Answer> {
    each_forward(estate, |one, name| {
        match (&one.outcome, one.address) {
        (ForwardOutcome::NobodyThere, Some(address)) => Verdict::Fail(Fail {
            rating: CHECK.rated("the next host with this address is exposed to the Internet"),
            title: format!("{name} leads to {address}, which is unassigned").into(),
            detail: format!(
                "Connections from the Internet are permitted to {address}; no device of the estate has the address, and no \
                 reservation exists."
            ).into(),
            evidence: [one.origin].into_iter().chain(deciding(&one.steps)).collect(),
        }),
        (ForwardOutcome::Claimed(number), Some(address)) => {
            let allocation = &estate.plan().allocations[*number];
            if allocation.range.size() == 1 {
                return Verdict::Pass;
            }
            let question = format!(
                "Please state which host {address} is, and whether the address is reserved: {name} leads to it, and {} may \
                 assign it to any host.",
                allocation.owner
            );
            Verdict::ask(question, vec![one.origin, allocation.origin])
        }
        (ForwardOutcome::BlockedLater | ForwardOutcome::Lost | ForwardOutcome::Depends | ForwardOutcome::NeverMet, _) => Verdict::DoesNotApply,
        _ => Verdict::Pass,
    }
    })
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::exposure::testing::{Small, on};

    #[test]
    fn cases() {
        let forwards = "-A PREROUTING -i eth0 -p tcp --dport 8443 -j DNAT --to-destination 10.4.0.77:443\n";
        let through = "-A FORWARD -d 10.4.0.77 -p tcp --dport 443 -j ACCEPT\n";
        let leases = |what: &str| format!("interface=eth1\ndhcp-range=10.4.0.50,10.4.0.{what}\n");
        let (ranged, kept) = (leases("99,1h"), leases("60,1h") + "dhcp-host=02:00:5e:10:00:01,10.4.0.77\n");
        let base = Small { forwards, rules: through, ..Small::default() };
        for (one, wanted) in [
            (base, "fail medium gate iptables-save.txt:3 iptables-save.txt:3 iptables-save.txt:10"),
            (Small { rules: "", ..base }, "none gate"),
            (Small { more: &[("gate/etc/dnsmasq.conf", &ranged)], ..base }, "ask gate"),
            (Small { more: &[("gate/etc/dnsmasq.conf", &kept)], ..base }, "pass gate"),
        ] {
            assert_eq!(on(&CHECK, &one), [wanted]);
        }
    }
}
