//! NetBIOS passes through a tunnel.

use crate::check::{Answer, Check, Fail, Need, Run, Verdict};
use crate::subject::Subject;
use crate::support::name_of;
use crate::tunnels::{listed, with_options};
use trevlin_analysis::map::EstateMap;
use trevlin_estate::area::{Area, Severity};
use trevlin_estate::baseline::Baseline;
use trevlin_model::{Origin, PppProfile, Tunnel};

/// The check.
pub(crate) const CHECK: Check = Check {
    id: "tunnels/netbios",
    area: Area::Tunnels,
    title: "NetBIOS over the tunnel",
    severity: Severity::Low,
    why: "NetBIOS name resolution accepts the first answer without authentication. A compromised client can impersonate \
          internal servers and collect credentials.",
    fix: "Remove the NetBIOS name servers, disable NetBIOS on clients, and use DNS.",
    judged: "Fails where NetBIOS name servers are pushed to clients (`nbns`, `dhcp-option WINS`, `ms-wins`), or a node type \
             that uses them or broadcasts.",
    references: &["RFC 1002, 4", "RFC 2132, 8.5 to 8.8"],
    needs: &[Need::Services],
    run: Run::Map(run),
};

fn run(estate: &EstateMap, _: &Baseline) -> Vec<Answer> {
    let judge = |(at, tunnel, options): (usize, &Tunnel, Option<&PppProfile>)| {
        let by_options = options.into_iter().flat_map(|options| &options.netbios);
        let told: Vec<(String, Origin)> =
            tunnel.addresses.netbios.iter().chain(by_options).cloned().collect();
        if told.is_empty() {
            return Answer::new(at, Subject::tunnel(tunnel), Verdict::pass(tunnel.origin));
        }
        let (detail, evidence) = listed(&told);
        let verdict = Verdict::Fail(Fail {
            rating: CHECK.rated("an attacker must control a client"),
            title: format!("NetBIOS settings are pushed to clients of {}", name_of(tunnel)).into(),
            detail: format!("The server pushes {detail}").into(),
            evidence,
        });
        Answer::new(at, Subject::tunnel(tunnel), verdict)
    };
    with_options(estate).map(judge).collect()
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::testing::run;

    #[test]
    fn cases() {
        for (line, wanted) in [
            ("push \"dhcp-option WINS 10.4.0.9\"", "fail low d s.conf:3"),
            ("push \"dhcp-option DNS 10.4.0.9\"", "pass d"),
            (";push \"dhcp-option WINS 10.4.0.9\"", "pass d"),
            ("push \"dhcp-option DISABLE-NBT\"", "pass d"),
        ] {
            let text = format!("dev tun\nserver 10.8.0.0 255.255.255.0\n{line}\n");
            run(&CHECK, &[(line, &[("d/s.conf", &text)], &[wanted])]);
        }
        let pool = "connections {\n c { pools = p\n }\n}\npools {\n p {\n  addrs = 10.9.0.0/24\n  nbns = 10.4.0.9\n }\n}\n";
        run(
            &CHECK,
            &[
                ("a pool", &[("d/swanctl.conf", pool)], &["fail low d swanctl.conf:8"]),
                (
                    "ppp options",
                    &[
                        ("d/etc/pptpd.conf", "option /etc/ppp/pptpd-options\nremoteip 10.4.0.9\n"),
                        ("d/etc/ppp/pptpd-options", "auth\nms-wins 10.4.0.9\n"),
                    ],
                    &["fail low d pptpd-options:2"],
                ),
            ],
        );
    }
}
