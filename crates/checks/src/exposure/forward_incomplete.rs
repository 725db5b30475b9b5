//! A tunnel protocol is forwarded in part.

use crate::check::{Answer, Check, Fail, Need, Run, Verdict};
use crate::subject::{Subject, SubjectKind};
use std::collections::BTreeMap;
use trevlin_analysis::map::EstateMap;
use trevlin_estate::area::{Area, Severity};
use trevlin_estate::baseline::Baseline;
use trevlin_model::{IpRange, Origin, PortForward, Protocol};

/// The check.
pub(crate) const CHECK: Check = Check {
    id: "exposure/forward-incomplete",
    area: Area::Exposure,
    title: "Tunnel protocol forwarded in part",
    severity: Severity::Low,
    why: "A tunnel protocol of two parts works only where both reach the server. Users are cut off after the login, and the \
          fault is often worked around by a wider opening, such as a forward of every port to the server.",
    fix: "Forward both parts, or remove the forward. PPTP needs TCP port 1723 and GRE; IKE needs UDP ports 500 and 4500.",
    judged: "Fails for a forward of TCP port 1723 without one of GRE to the same host, and for one of UDP port 500 or 4500 \
             without the other. Routers with a helper for PPTP forward GRE by themselves; the finding states what the \
             configuration shows. Passes where both are forwarded, and where every service is.",
    references: &["RFC 2637, 1", "RFC 7296, 2.23"],
    needs: &[Need::Addresses, Need::Filter],
    run: Run::Map(run),
};

/// A part of a tunnel protocol: its transport protocol, and its port where there is one.
type Part = (Protocol, u16);

/// Protocols of two parts: the name, a part, the other one, and how that is called.
const PAIRS: [(&str, Part, Part, &str); 3] = [
    ("PPTP", (Protocol::TCP, 1723), (Protocol::GRE, 0), "GRE"),
    ("IKE", (Protocol::UDP, 500), (Protocol::UDP, 4500), "UDP port 4500"),
    ("IKE", (Protocol::UDP, 4500), (Protocol::UDP, 500), "UDP port 500"),
];

fn run(estate: &EstateMap, _: &Baseline) -> Vec<Answer> {
    let mut answers = Vec::new();
    for (at, device) in estate.devices.iter().enumerate() {
        let mut by_host: BTreeMap<IpRange, Vec<&PortForward>> = BTreeMap::new();
        for forward in &device.facts.forwards {
            if let Some(to) = forward.to.addresses {
                by_host.entry(to).or_default().push(forward);
            }
        }
        for (host, forwards) in by_host {
            for (name, part, other, missing) in PAIRS {
                let line = |wanted| forwards.iter().find(|one| takes(one, wanted)).map(|one| one.origin);
                let Some(origin) = line(part) else { continue };
                let subject = Subject::of(SubjectKind::Forward).with(name).with(part.1).with(host.short());
                answers.push(Answer::new(at, subject, judge(name, host, missing, origin, line(other))));
            }
        }
    }
    answers
}

/// Whether a forward takes packets of a protocol to a port.
fn takes(forward: &PortForward, (protocol, port): Part) -> bool {
    let of_it = forward.protocol.0.is_none() || forward.protocol == protocol;
    let at_port = forward.ports.is_empty() || port == 0 || forward.ports.iter().any(|one| one.contains(port));
    of_it && at_port
}

fn judge(name: &str, host: IpRange, missing: &str, origin: Origin, other: Option<Origin>) -> Verdict {
    if let Some(other) = other {
        return Verdict::pass_by([origin, other], origin);
    }
    Verdict::Fail(Fail {
        rating: CHECK.rated("it opens nothing by itself, and invites a wider opening"),
        title: format!("{name} is forwarded to {} without {missing}", host.short()).into(),
        detail: format!("No forward to {} takes {missing}.", host.short()).into(),
        evidence: vec![origin],
    })
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::testing::run;

    #[test]
    fn cases() {
        let nat = |rules: &str| format!("*nat\n:PREROUTING ACCEPT [0:0]\n{rules}COMMIT\n");
        let to =
            |matches: &str| format!("-A PREROUTING -i eth0 {matches} -j DNAT --to-destination 10.4.0.20\n");
        let (control, gre) = (to("-p tcp --dport 1723"), to("-p gre"));
        let (first, second) = (to("-p udp --dport 500"), to("-p udp --dport 4500"));
        for (what, rules, wanted) in [
            ("PPTP alone", control.clone(), &["fail low d rules.v4:3"][..]),
            ("with GRE", format!("{control}{gre}"), &["pass d"]),
            ("GRE in a comment", format!("{control}#{gre}"), &["fail low d rules.v4:3"]),
            ("everything", to(""), &["pass d", "pass d", "pass d"]),
            ("IKE alone", first.clone(), &["fail low d rules.v4:3"]),
            ("both ports of IKE", format!("{first}{second}"), &["pass d", "pass d"]),
            ("a range", to("-p udp --dport 500:4500"), &["pass d", "pass d"]),
            ("pages", to("-p tcp --dport 443"), &[]),
        ] {
            run(&CHECK, &[(what, &[("d/etc/iptables/rules.v4", &nat(&rules))], wanted)]);
        }
    }
}
