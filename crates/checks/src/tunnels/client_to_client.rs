//! VPN clients reach each other through the tunnel.

use crate::check::{Answer, Check, Fail, Run, Verdict};
use crate::tunnels::openvpn;
use trevlin_analysis::map::EstateMap;
use trevlin_estate::area::{Area, Severity};
use trevlin_estate::baseline::Baseline;
use trevlin_model::{Setting, Tunnel};

/// The check.
pub(crate) const CHECK: Check = Check {
    id: "tunnels/client-to-client",
    area: Area::Tunnels,
    title: "Client-to-client traffic permitted",
    severity: Severity::Low,
    why: "A compromised client attacks other clients through the tunnel, bypassing their local protection. The VPN server \
          forwards this traffic internally, so no packet filter applies.",
    fix: "Remove `client-to-client`. The packet filter then decides which client-to-client traffic is permitted.",
    judged: "Fails for OpenVPN servers with `client-to-client`. Without it, traffic between clients passes the packet filter \
             of the device.",
    references: &["openvpn(8), --client-to-client", "NIST SP 800-46 Rev. 2, 3.2"],
    controls: &[],
    run: Run::Map(run),
};

fn run(estate: &EstateMap, _: &Baseline) -> Vec<Answer> {
    openvpn(estate, Tunnel::accepts_clients, |estate, tunnel| {
        match tunnel.setting("client-to-client").and_then(Setting::origin) {
            None => Verdict::Pass,
            Some(origin) => Verdict::Fail(Fail {
                rating: CHECK.rated("an attacker must control a client"),
                title: format!("Clients of {} reach each other unfiltered", tunnel.name).into(),
                detail: format!("`client-to-client` is set ({}).", estate.place(origin)).into(),
                evidence: vec![origin],
            }),
        }
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
