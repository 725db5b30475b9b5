//! A PPTP server answers.

use crate::check::{Answer, Check, Fail, Need, Run, Verdict};
use crate::subject::{Subject, SubjectKind};
use crate::support::others_with_clients_pass;
use trevlin_analysis::context::Analyses;
use trevlin_analysis::reachability_from::Reachability;
use trevlin_estate::area::{Area, Severity};
use trevlin_estate::baseline::Baseline;
use trevlin_model::{Origin, Protocol, TunnelFamily, TunnelRole};

/// Where PPTP servers answer (RFC 2637, 2.1).
const PORT: u16 = 1723;

/// The check.
pub(crate) const CHECK: Check = Check {
    id: "tunnels/pptp",
    area: Area::Tunnels,
    title: "PPTP server enabled",
    severity: Severity::High,
    why: "PPTP depends on MS-CHAPv2 and MPPE. One recorded login reveals the password hash for the cost of a single DES key, \
          whatever the password; MPPE keys derive from that hash, and packets are not authenticated. An attacker on the path \
          can read the traffic and log in as the user.",
    fix: "Migrate clients to IKEv2 or a TLS-based VPN with certificates. Then disable the PPTP daemon and close TCP port \
          1723 and GRE on every upstream device. Change every password that was used over PPTP.",
    judged: "Fails where a PPTP server is configured and would start. Undetermined where its configuration sets no addresses \
             or would be rejected by the daemon. Does not apply on the loopback address. Passes for a device \
             with tunnels for clients and no PPTP server.",
    references: &["RFC 2637", "RFC 2759", "RFC 3079", "BSI TR-02102-1"],
    needs: &[Need::Services],
    run: Run::Analyses(run),
};

fn run(estate: &Analyses, _: &Baseline) -> Vec<Answer> {
    let mut answers = Vec::new();
    for (at, device) in estate.devices.iter().enumerate() {
        for tunnel in &device.facts.tunnels {
            if tunnel.family != TunnelFamily::Pptp || tunnel.role != TunnelRole::Server {
                continue;
            }
            let verdict = match &tunnel.refused {
                Some((why, origin)) => Verdict::ask(
                    format!(
                        "Please provide `ss -tlnp` and the configuration in use: the PPTP daemon rejects the exported \
                         configuration ({why})."
                    ),
                    vec![*origin],
                ),
                None if !tunnel.accepts_clients() => Verdict::DoesNotApply,
                None => fail(estate, at, tunnel.origin),
            };
            answers.push(Answer::new(at, Subject::tunnel(tunnel), verdict));
        }
        for silent in device.facts.not_analysed.iter().filter(|one| one.may_serve == Some(TunnelFamily::Pptp))
        {
            let question = "Please provide `systemctl is-enabled pptpd` and `ss -tlnp`: pptpd.conf sets no addresses, as \
                            shipped in packages.";
            answers.push(Answer::new(
                at,
                Subject::of(SubjectKind::Services),
                Verdict::ask(question, vec![silent.origin]),
            ));
        }
    }
    others_with_clients_pass(estate, &mut answers);
    answers
}

fn fail(estate: &Analyses, at: usize, origin: Origin) -> Verdict {
    let forwards = estate.forwards_of_port(at, Protocol::TCP, PORT);
    let mut evidence = vec![origin];
    let (severity, why_this_severity) = match forwards.first() {
        Some((front, forward)) => {
            // The boot configuration is reported together with the running one.
            evidence.extend(forwards.iter().map(|(_, forward)| forward.origin));
            let why =
                format!("{} forwards TCP port 1723 to it ({})", front.name, estate.place(forward.origin));
            (Severity::Critical, why)
        }
        None => (
            Severity::High,
            "no port forward to it was found; reachability from the Internet is not known".into(),
        ),
    };
    // Where the Internet interface is known, permitted traffic counts, and not the forwards.
    let reachability_from = Reachability::of(estate, at, Protocol::TCP, PORT);
    let (severity, why_this_severity) = match &reachability_from {
        Reachability::Everybody(_) => {
            (Severity::Critical, reachability_from.phrase(estate).unwrap_or(why_this_severity))
        }
        Reachability::Some(_) | Reachability::Named(..) | Reachability::Unsure(..) => {
            (Severity::High, reachability_from.phrase(estate).unwrap_or(why_this_severity))
        }
        Reachability::Inside | Reachability::Listed(_) => {
            (Severity::Medium, reachability_from.phrase(estate).unwrap_or(why_this_severity))
        }
        Reachability::Forwarded(..) | Reachability::NotKnown => (severity, why_this_severity),
    };
    if !matches!(reachability_from, Reachability::Forwarded(..)) {
        evidence.extend(reachability_from.evidence());
    }
    Verdict::Fail(Fail {
        rating: CHECK.rated_at(severity, why_this_severity),
        title: "PPTP server is enabled".into(),
        detail: "The PPTP daemon is configured and listens on TCP port 1723.".into(),
        evidence,
    })
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::testing::run;

    const ADDRESSES: &str = r#"[{"ifname":"eth0","addr_info":[{"local":"10.4.0.5","prefixlen":24}]}]"#;

    #[test]
    fn cases() {
        run(
            &CHECK,
            &[
                (
                    "fails",
                    &[("d/pptpd.conf", "option /o\nremoteip 10.4.0.9\n")],
                    &["fail high d pptpd.conf:2"],
                ),
                (
                    "another protocol",
                    &[("d/server.conf", "port 1194\nserver 10.9.0.0 255.255.255.0\ndev tun\n")],
                    &["pass d"],
                ),
                (
                    "a forward leads to it",
                    &[
                        ("d/ip-addr.json", ADDRESSES),
                        ("d/pptpd.conf", "remoteip 10.4.0.9\n"),
                        (
                            "e/rules.v4",
                            "*nat\n-A PREROUTING -p udp --dport 1723 -j DNAT --to-destination 10.4.0.5\n-A PREROUTING -p tcp --dport 1723 -j DNAT --to-destination 10.4.0.5\nCOMMIT\n",
                        ),
                    ],
                    &["fail critical d pptpd.conf:1 rules.v4:3"],
                ),
                (
                    "a forward of another port",
                    &[
                        ("d/ip-addr.json", ADDRESSES),
                        ("d/pptpd.conf", "remoteip 10.4.0.9\n"),
                        (
                            "e/rules.v4",
                            "*nat\n-A PREROUTING -p tcp --dport 443 -j DNAT --to-destination 10.4.0.5\nCOMMIT\n",
                        ),
                    ],
                    &["fail high d pptpd.conf:1"],
                ),
                ("loopback only", &[("d/pptpd.conf", "listen 127.0.0.1\nremoteip 10.4.0.9\n")], &["none d"]),
                ("as packages ship it", &[("d/pptpd.conf", "option /o\nlogwtmp\n")], &["ask d"]),
                ("all in comments", &[("d/pptpd.conf", "#option /o\n#remoteip 10.4.0.9\n")], &["ask d"]),
                ("would not start", &[("d/pptpd.conf", "remoteip 10.4.0.9.1\n")], &["ask d"]),
                (
                    "only a forward for it",
                    &[(
                        "e/rules.v4",
                        "*nat\n-A PREROUTING -p tcp --dport 1723 -j DNAT --to-destination 10.4.0.5\nCOMMIT\n",
                    )],
                    &[],
                ),
            ],
        );
    }
}
