//! An L2TP server accepts clients without IPsec.

use crate::check::{Answer, Check, Fail, Need, Run, Verdict};
use crate::subject::Subject;
use crate::support::{StatePart, name_of, provide};
use trevlin_analysis::context::Analyses;
use trevlin_analysis::l2tp;
use trevlin_analysis::l2tp::UnprotectedAccess;
use trevlin_estate::area::{Area, Severity};
use trevlin_estate::baseline::Baseline;
use trevlin_model::policy::Demand;
use trevlin_model::{Tunnel, TunnelFamily, TunnelRole};

/// The check.
pub(crate) const CHECK: Check = Check {
    id: "tunnels/l2tp-without-ipsec",
    area: Area::Tunnels,
    title: "L2TP accepted without IPsec",
    severity: Severity::High,
    why: "L2TP has no encryption and depends on IPsec. A server that accepts L2TP without IPsec receives passwords in a form \
          that can be cracked, and all traffic in clear text. Clients fall back to it silently where IPsec fails.",
    fix: "Permit UDP port 1701 inside IPsec only (`-m policy --dir in --pol ipsec`), or bind the daemon to the loopback \
          address. Better, replace it by IKEv2.",
    judged: "Fails where UDP port 1701 is accepted without IPsec: from the Internet where its interface is known, otherwise \
             through any interface without a specific rule. Lower where an IPsec connection for it exists, and low where \
             only upstream devices block it. Passes where only IPsec traffic is accepted, and on the loopback address. \
             Undetermined where no filter was exported, a condition not analysed decides, or the Internet interface is not \
             known.",
    references: &[
        "RFC 3193, 2",
        "RFC 2661, 9",
        "NIST SP 800-77 Rev. 1, 3.2",
        "iptables-extensions(8), policy",
    ],
    needs: &[Need::Services],
    run: Run::Analyses(run),
};

fn run(estate: &Analyses, _: &Baseline) -> Vec<Answer> {
    let mut answers = Vec::new();
    for (at, device) in estate.devices.iter().enumerate() {
        let servers = |one: &&Tunnel| one.family == TunnelFamily::L2tp && one.role == TunnelRole::Server;
        for tunnel in device.facts.running().filter(servers) {
            answers.push(Answer::new(at, Subject::tunnel(tunnel), judge(estate, at, tunnel)));
        }
    }
    answers
}

/// As a sheet states it.
fn by_rule(tunnel: &Tunnel) -> Option<Verdict> {
    let (demand, origin) = tunnel.rule(|policy| &policy.inside_ipsec)?.stated()?;
    let (severity, why, detail) = match demand {
        Demand::Required => return Some(Verdict::pass(origin)),
        Demand::Optional => (
            Severity::Medium,
            "IPsec protects clients that use it, and its use is optional",
            "Clients are accepted with and without IPsec.",
        ),
        Demand::Off => (CHECK.severity, "IPsec is not used", "IPsec is switched off for it."),
    };
    Some(Verdict::Fail(Fail {
        rating: CHECK.rated_at(severity, why),
        title: format!("{} accepts clients without IPsec", name_of(tunnel)).into(),
        detail: detail.into(),
        evidence: vec![origin, tunnel.origin],
    }))
}

fn judge(estate: &Analyses, at: usize, tunnel: &Tunnel) -> Verdict {
    if let Some(verdict) = by_rule(tunnel) {
        return verdict;
    }
    let port = l2tp::port(tunnel);
    let (lines, outside) = match l2tp::access(estate, at, tunnel) {
        UnprotectedAccess::Protected => return Verdict::pass(tunnel.origin),
        UnprotectedAccess::Open(lines) => (lines, true),
        UnprotectedAccess::Inside(lines) => (lines, false),
        UnprotectedAccess::Depends(lines) => {
            let question = format!(
                "{}, and review the filter by hand: they decide whether {} accepts clients without IPsec on UDP port {port}.",
                provide(estate, at, &[StatePart::Addresses, StatePart::Routes]),
                name_of(tunnel)
            );
            return Verdict::ask(question, lines.into_iter().chain([tunnel.origin]).collect());
        }
        UnprotectedAccess::NoFilter => {
            let question = format!(
                "Please provide the packet filter and the IPsec connection for UDP port {port}: they decide whether {0} \
                 accepts clients without IPsec.",
                name_of(tunnel)
            );
            return Verdict::ask(question, vec![tunnel.origin]);
        }
    };
    let protected = l2tp::around(estate, at, tunnel);
    let (severity, why, also) = match protected {
        Some(one) => (
            Severity::Medium,
            "an IPsec connection protects clients that use it, and its use is optional",
            format!(" {} protects clients that use it ({}).", one.name, estate.place(one.origin)),
        ),
        None => (CHECK.severity, "no IPsec connection for it is among the exports", String::new()),
    };
    let mut rating = CHECK.rated_at(severity, why);
    if !outside {
        rating = rating
            .at(Severity::Low, "reachable from internal networks only, since upstream devices block it");
    }
    let by = lines.first().map(|line| format!(" ({})", estate.place(*line))).unwrap_or_default();
    Verdict::Fail(Fail {
        rating,
        title: format!("{} accepts clients without IPsec", name_of(tunnel)).into(),
        detail: format!("UDP port {port} is accepted without IPsec{by}.{also}").into(),
        evidence: lines.into_iter().chain([tunnel.origin]).chain(protected.map(|one| one.origin)).collect(),
    })
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::testing::run;

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
                (
                    "everything else is taken too",
                    &[SERVER, AROUND, (at, &others)],
                    &["fail medium d iptables-save.txt:2 xl2tpd.conf:3 ipsec.conf:1"],
                ),
                ("no rule, and the rest dropped", &[SERVER, (at, &commented)], &["pass d"]),
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

    /// Device `d` with the public address 192.0.2.9 on eth0 and the internal address 10.4.0.1 on eth1.
    const INTERFACES: (&str, &str) = (
        "d/ip-addr.json",
        r#"[{"ifname":"eth0","addr_info":[{"local":"192.0.2.9","prefixlen":24}]},{"ifname":"eth1","addr_info":[{"local":"10.4.0.1","prefixlen":24}]}]"#,
    );
    const ROUTES: (&str, &str) =
        ("d/ip-route.json", r#"[{"dst":"default","gateway":"192.0.2.1","dev":"eth0","flags":[]}]"#);

    /// The same device with a private address on eth0, and its next hop nowhere among the exports.
    const BEHIND: [(&str, &str); 2] = [
        ("d/ip-addr.json", r#"[{"ifname":"eth0","addr_info":[{"local":"10.4.0.9","prefixlen":24}]}]"#),
        ("d/ip-route.json", r#"[{"dst":"default","gateway":"10.4.0.1","dev":"eth0","flags":[]}]"#),
    ];
    /// A device with a public address.
    const EDGE: [(&str, &str); 2] = [
        ("e/ip-addr.json", r#"[{"ifname":"eth0","addr_info":[{"local":"192.0.2.30","prefixlen":24}]}]"#),
        ("e/ip-route.json", r#"[{"dst":"default","gateway":"192.0.2.1","dev":"eth0","flags":[]}]"#),
    ];

    fn filter(rules: &str) -> String {
        format!("*filter\n:INPUT DROP [0:0]\n:FORWARD DROP [0:0]\n{rules}\nCOMMIT\n")
    }

    #[test]
    fn what_is_forwarded_to_others_and_rules_without_a_port_count_as_packets_meet_them() {
        let at = "d/iptables-save.txt";
        let forwarded = filter("-A FORWARD -d 10.4.0.20 -p udp --dport 1701 -j ACCEPT");
        let by_interface = filter("-A INPUT -i eth0 -p udp -j ACCEPT");
        let inside = filter("-A INPUT -i eth1 -p udp -j ACCEPT");
        let lan = filter("-A INPUT -s 10.4.0.0/24 -p udp --dport 1701 -j ACCEPT");
        let any = filter("-A INPUT -p udp --dport 1701 -j ACCEPT");
        let limited = filter("-A INPUT -p udp --dport 1701 -m limit --limit 5/second -j ACCEPT");
        run(
            &CHECK,
            &[
                ("forwarded to another", &[SERVER, INTERFACES, ROUTES, (at, &forwarded)], &["pass d"]),
                ("forwarded, interfaces not exported", &[SERVER, (at, &forwarded)], &["pass d"]),
                (
                    "every UDP port from outside",
                    &[SERVER, INTERFACES, ROUTES, (at, &by_interface)],
                    &["fail high d iptables-save.txt:4 xl2tpd.conf:3"],
                ),
                ("one interface, which faces who knows where", &[SERVER, (at, &by_interface)], &["ask d"]),
                ("from inside alone", &[SERVER, INTERFACES, ROUTES, (at, &inside)], &["pass d"]),
                ("a network inside, interfaces not exported", &[SERVER, (at, &lan)], &["pass d"]),
                (
                    "a router that was not exported keeps callers away",
                    &[SERVER, BEHIND[0], BEHIND[1], EDGE[0], EDGE[1], (at, &any)],
                    &["fail low d iptables-save.txt:4 xl2tpd.conf:3"],
                ),
                (
                    "its own filter keeps them away as well",
                    &[SERVER, BEHIND[0], BEHIND[1], EDGE[0], EDGE[1], (at, &inside)],
                    &["pass d"],
                ),
                ("at a rate", &[SERVER, INTERFACES, ROUTES, (at, &limited)], &["ask d"]),
            ],
        );
    }

    #[test]
    fn one_who_may_come_without_ipsec_is_not_asked_for_its_certificate() {
        let around = (
            "d/ipsec.conf",
            "conn l2tp\n\tauto=add\n\ttype=transport\n\tleftprotoport=17/1701\n\tleftauth=pubkey\n\trightauth=pubkey\n",
        );
        let options = ("d/etc/ppp/options.xl2tpd", "auth\nrequire-mschap-v2\n");
        let server = (
            "d/xl2tpd.conf",
            "[global]\nport = 1701\n[lns default]\nip range = 10.9.0.9-10.9.0.40\npppoptfile = /etc/ppp/options.xl2tpd\n",
        );
        let secrets = ("d/etc/ppp/chap-secrets", "ada * Kx7vQm2pLr9T *\n");
        for (rule, wanted) in [
            ("-A INPUT -i eth0 -p udp -j ACCEPT", 1),
            ("-A INPUT -i eth0 -p udp -m policy --dir in --pol ipsec -j ACCEPT", 2),
        ] {
            let rules = filter(rule);
            let files = [
                server,
                around,
                options,
                secrets,
                INTERFACES,
                ROUTES,
                ("d/iptables-save.txt", rules.as_str()),
            ];
            let estate = crate::testing::estate(&files);
            let rows = trevlin_analysis::logins::logins(&estate);
            let row = rows.iter().find(|row| row.service == "L2TP server default").or(rows.first());
            assert_eq!(row.map(|row| row.factors.len()), Some(wanted), "{rule}: {rows:?}");
        }
    }

    /// Generated filters: the check fails, passes and requests information exactly where `reach` allows, blocks and depends.
    #[test]
    fn it_says_what_reach_says() {
        use trevlin_analysis::reachability::{From, Question, Transport, Verdict, reach};
        let mut seed: u64 = 0x1701;
        let mut pick = move |all: &[&'static str]| {
            seed = seed.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1_442_695_040_888_963_407);
            all[(seed >> 33) as usize % all.len()]
        };
        let mut seen = [0usize; 3];
        for _ in 0..200 {
            let mut rules = String::new();
            for _ in 0..6 {
                rules.push_str(&format!(
                    "-A {}{}{}{} -j {}\n",
                    pick(&["INPUT", "INPUT", "INPUT", "FORWARD", "X"]),
                    pick(&["", " -i eth0", " -i eth1", " ! -i eth1"]),
                    pick(&[
                        " -p udp -m udp --dport 1701",
                        " -p udp -m udp --dport 500:1800",
                        " -p udp",
                        " -p tcp -m tcp --dport 1701",
                        "",
                        " -p udp -m udp ! --dport 1701",
                    ]),
                    pick(&[
                        "",
                        "",
                        " -m policy --dir in --pol ipsec",
                        " -m policy --dir in --pol none",
                        " -s 198.51.100.0/24",
                        " -d 192.0.2.9",
                        " -m limit --limit 5/second",
                        " -m state --state NEW",
                    ]),
                    pick(&["ACCEPT", "ACCEPT", "DROP", "RETURN", "LOG"])
                ));
            }
            let list = format!(
                "*filter\n:INPUT {} [0:0]\n:FORWARD DROP [0:0]\n:X - [0:0]\n-A INPUT{} -j X\n{rules}COMMIT\n",
                pick(&["DROP", "DROP", "ACCEPT"]),
                pick(&["", " -p udp", " -i eth0"])
            );
            let estate =
                crate::testing::estate(&[SERVER, INTERFACES, ROUTES, ("d/iptables-save.txt", &list)]);
            // A host that no rule names, and one of a network that rules name.
            let question = |from: From| Question {
                from,
                entering: None,
                to: "192.0.2.9".into(),
                protocol: Transport::Udp,
                port: 1701,
                source_port: None,
            };
            let named = From::Address("198.51.100.7".parse().unwrap());
            let both = [From::Outside, named].map(|from| reach(&estate, &question(from)).unwrap().verdict);
            let reached = match both {
                _ if both.contains(&Verdict::Allowed) => Verdict::Allowed,
                _ if both.contains(&Verdict::Depends) => Verdict::Depends,
                _ => Verdict::Blocked,
            };
            let told = crate::testing::answers(&CHECK, &estate);
            let word = told[0].split(' ').next().unwrap();
            let (wanted, at) = match reached {
                Verdict::Allowed => ("fail", 0),
                Verdict::Blocked => ("pass", 1),
                Verdict::Depends => ("ask", 2),
            };
            seen[at] += 1;
            assert_eq!(word, wanted, "{list}{told:?}");
        }
        assert!(seen.iter().all(|count| *count > 5), "{seen:?}");
    }
}
