//! An L2TP server answers callers without IPsec.

use crate::l2tp::{self, Way};
use crate::{Answer, Area, Check, Estate, Fail, Severity, Subject, Verdict, Yardstick};
use trevlin_model::{Tunnel, TunnelFamily, TunnelRole};

/// The check.
pub(crate) const CHECK: Check = Check {
    id: "tunnels/l2tp-in-the-open",
    area: Area::Tunnels,
    title: "An L2TP server answers callers without IPsec",
    severity: Severity::High,
    why: "L2TP itself encrypts nothing: it relies on IPsec around it. A server that takes callers without it gets their passwords in a form that can \
          be guessed, and everything they send in the open. Callers' programs fall back to that without a word where IPsec fails.",
    fix: "Let the packet filter take UDP port 1701 only from inside IPsec (`-m policy --dir in --pol ipsec`), or bind the daemon to loopback; \
          better, replace it by IKEv2 alone.",
    judged: "Fails where a rule of the packet filter takes UDP port 1701 without asking for IPsec; milder where a connection for it is set up, \
             since callers may then come either way. Passes where only packets from inside IPsec are taken and the rest is dropped, and where \
             the daemon is bound to loopback. Undetermined where neither the filter nor a connection for it was exported.",
    references: &[
        "RFC 3193, 2",
        "RFC 2661, 9",
        "NIST SP 800-77 Rev. 1, 3.2",
        "iptables-extensions(8), policy",
    ],
    run,
};

fn run(estate: &Estate, _: &Yardstick) -> Vec<Answer> {
    let mut answers = Vec::new();
    for (at, device) in estate.devices.iter().enumerate() {
        let servers = |one: &&Tunnel| one.family == TunnelFamily::L2tp && one.role == TunnelRole::Server;
        for tunnel in device.facts.running().filter(servers) {
            answers.push(Answer::new(at, Subject::tunnel(tunnel), judge(estate, at, tunnel)));
        }
    }
    answers
}

fn judge(estate: &Estate, at: usize, tunnel: &Tunnel) -> Verdict {
    let port = l2tp::port(tunnel);
    let open = match l2tp::way(estate, at, tunnel) {
        Way::Protected => return Verdict::Pass,
        Way::Open(open) => open,
        Way::Unknown => {
            let question = format!(
                "whether {} answers callers without IPsec cannot be told: no rule about UDP port {port} was exported; ask for the \
                 packet filter and for the IPsec connection that protects it",
                tunnel.name
            );
            return Verdict::ask(question, vec![tunnel.origin]);
        }
    };
    let protected = l2tp::around(estate, at, tunnel);
    let (severity, why, also) = match protected {
        Some(one) => (
            Severity::Medium,
            "a connection protects callers who use it, and nobody has to",
            format!(" {} protects callers who use it ({}).", one.name, estate.place(one.origin)),
        ),
        None => (CHECK.severity, "no IPsec connection for it is among the exports", String::new()),
    };
    let mut evidence = vec![open, tunnel.origin];
    evidence.extend(protected.map(|one| one.origin));
    Verdict::Fail(Fail {
        rating: CHECK.rated_at(severity, why),
        title: format!("{} answers callers without IPsec", tunnel.name).into(),
        detail: format!(
            "A rule takes UDP port {port} without asking for IPsec ({}).{also}",
            estate.place(open)
        )
        .into(),
        evidence,
    })
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::checks::testing::run;

    const SERVER: (&str, &str) =
        ("d/xl2tpd.conf", "[global]\nport = 1701\n[lns default]\nip range = 10.9.0.9-10.9.0.40\n");
    const AROUND: (&str, &str) =
        ("d/ipsec.conf", "conn l2tp\n\tauto=add\n\ttype=transport\n\tleftprotoport=17/1701\n");

    #[test]
    fn cases() {
        let filter = |policy: &str, rule: &str| format!("*filter\n:INPUT {policy} [0:0]\n{rule}\nCOMMIT\n");
        let open = filter("DROP", "-A INPUT -p udp -m udp --dport 1701 -j ACCEPT");
        let guarded =
            filter("DROP", "-A INPUT -p udp -m policy --dir in --pol ipsec -m udp --dport 1701 -j ACCEPT");
        let commented = filter("DROP", "#-A INPUT -p udp -m udp --dport 1701 -j ACCEPT");
        let not_from =
            filter("DROP", "-A INPUT -p udp -m policy --dir in --pol none -m udp --dport 1701 -j ACCEPT");
        let others =
            filter("ACCEPT", "-A INPUT -p udp -m policy --dir in --pol ipsec -m udp --dport 1701 -j ACCEPT");
        let at = "d/iptables-save.txt";
        run(
            &CHECK,
            &[
                ("in the open", &[SERVER, (at, &open)], &["fail high d iptables-save.txt:3 xl2tpd.conf:3"]),
                (
                    "either way",
                    &[SERVER, AROUND, (at, &open)],
                    &["fail medium d iptables-save.txt:3 xl2tpd.conf:3 ipsec.conf:1"],
                ),
                ("only from inside IPsec", &[SERVER, AROUND, (at, &guarded)], &["pass d"]),
                (
                    "packets without IPsec",
                    &[SERVER, (at, &not_from)],
                    &["fail high d iptables-save.txt:3 xl2tpd.conf:3"],
                ),
                ("everything else is taken too", &[SERVER, AROUND, (at, &others)], &["ask d"]),
                ("no rule", &[SERVER, (at, &commented)], &["ask d"]),
                ("no filter", &[SERVER, AROUND], &["ask d"]),
                (
                    "bound to loopback",
                    &[
                        (
                            "d/xl2tpd.conf",
                            "[global]\nlisten-addr = 127.0.0.1\n[lns default]\nip range = 10.9.0.9-10.9.0.40\n",
                        ),
                        (at, &open),
                    ],
                    &["pass d"],
                ),
            ],
        );
    }
}
