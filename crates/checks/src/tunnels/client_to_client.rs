//! VPN clients reach each other through the tunnel.

use crate::check::{Answer, Check, Fail, Need, Run, Verdict};
use crate::subject::Subject;
use crate::support::name_of;
use crate::tunnels::openvpn;
use trevlin_analysis::map::EstateMap;
use trevlin_estate::area::{Area, Severity};
use trevlin_estate::baseline::Baseline;
use trevlin_model::{Origin, TunnelFamily};
use trevlin_model::{Setting, Tunnel};

/// The check.
pub(crate) const CHECK: Check = Check {
    id: "tunnels/client-to-client",
    area: Area::Tunnels,
    title: "Client-to-client traffic permitted",
    severity: Severity::Low,
    why: "A compromised client attacks other clients through the tunnel, bypassing their local protection. The VPN server \
          forwards this traffic internally, so no packet filter applies.",
    fix: "Disable direct traffic between clients (`client-to-client`). The packet filter then decides which of it is \
          permitted.",
    judged: "Fails for OpenVPN servers with `client-to-client`. Without it, traffic between clients passes the packet filter \
             of the device.",
    references: &["openvpn(8), --client-to-client", "NIST SP 800-46 Rev. 2, 3.2"],
    needs: &[Need::Services],
    run: Run::Map(run),
};

fn run(estate: &EstateMap, _: &Baseline) -> Vec<Answer> {
    let mut answers = openvpn(estate, Tunnel::accepts_clients, |estate, tunnel| {
        let directive = tunnel.setting("client-to-client").and_then(Setting::origin);
        let rule = tunnel.rule(|policy| &policy.between_clients).and_then(Setting::stated);
        match (directive, rule) {
            (Some(origin), _) => fail(estate, tunnel, "`client-to-client` is set", origin),
            (None, Some((true, origin))) => fail(estate, tunnel, PERMITTED, origin),
            (None, Some((false, origin))) => Verdict::pass(origin),
            (None, None) => Verdict::pass_default(tunnel.origin, "openvpn(8), client-to-client"),
        }
    });
    for (at, device) in estate.devices.iter().enumerate() {
        for tunnel in device.facts.running().filter(|one| one.family != TunnelFamily::OpenVpn) {
            let rule = tunnel.rule(|policy| &policy.between_clients).and_then(Setting::stated);
            if let Some((permitted, origin)) = rule {
                let verdict =
                    if *permitted { fail(estate, tunnel, PERMITTED, origin) } else { Verdict::pass(origin) };
                answers.push(Answer::new(at, Subject::tunnel(tunnel), verdict));
            }
        }
    }
    answers.sort_by_key(|answer| answer.device);
    answers
}

/// As a sheet states it.
const PERMITTED: &str = "Traffic between clients is permitted";

fn fail(estate: &EstateMap, tunnel: &Tunnel, set: &str, origin: Origin) -> Verdict {
    Verdict::Fail(Fail {
        rating: CHECK.rated("an attacker must control a client"),
        title: format!("Clients of {} reach each other unfiltered", name_of(tunnel)).into(),
        detail: format!("{set} ({}).", estate.place(origin)).into(),
        evidence: vec![origin],
    })
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::testing::run;

    #[test]
    fn cases() {
        for (name, lines, wanted) in [
            ("on", "client-to-client", &["fail low d t.conf:3"][..]),
            ("off", "", &["pass d"]),
            ("in a comment", ";client-to-client", &["pass d"]),
        ] {
            let text = format!("dev tun\nserver 10.8.0.0 255.255.255.0\n{lines}\n");
            run(&CHECK, &[(name, &[("d/t.conf", &text)], wanted)]);
        }
    }
}
