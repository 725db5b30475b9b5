//! Tables of small filters and what becomes of the rest in them.

use trevlin_model::{Export, ExportId, Family, Filter, Protocol};
use trevlin_packets::default_traffic::{DefaultAction, DefaultTraffic, Way, action_of_default};
use trevlin_readers::{ReadContext, recognise};

fn tables(text: &str) -> Vec<Filter> {
    let export = Export::new(ExportId(0), "iptables-save.txt", text.into());
    (recognise(&export).reader.expect("recognised").read)(&export, &ReadContext::default()).facts.filters
}

/// The fate of TCP and UDP entering by eth0 for the device, as `accepted/blocked`.
fn outcomes(text: &str, way: Way) -> String {
    let tables = tables(text);
    let tables: Vec<&Filter> = tables.iter().collect();
    let own = ["192.0.2.9".parse().expect("address")];
    let one = |protocol| {
        action_of_default(
            &tables,
            &DefaultTraffic {
                way,
                entering: "eth0",
                family: Family::V4,
                protocol,
                port: None,
                own_addresses: &own,
            },
        )
        .outcome
    };
    let word = |outcome| match outcome {
        DefaultAction::Accepted => "accepted",
        DefaultAction::Blocked => "blocked",
        DefaultAction::Depends => "depends",
    };
    format!("{}/{}", word(one(Protocol::TCP)), word(one(Protocol::UDP)))
}

#[test]
fn what_the_rest_meets() {
    for (policy, rules, wanted) in [
        ("ACCEPT", "", "accepted/accepted"),
        ("DROP", "", "blocked/blocked"),
        ("ACCEPT", "-A INPUT -j DROP", "blocked/blocked"),
        ("ACCEPT", "-A INPUT -j REJECT --reject-with icmp-host-prohibited", "blocked/blocked"),
        ("ACCEPT", "-A INPUT -p tcp -j DROP", "blocked/accepted"),
        ("ACCEPT", "-A INPUT -p tcp --syn -j DROP", "blocked/accepted"),
        ("ACCEPT", "-A INPUT ! -p udp -j DROP", "blocked/accepted"),
        ("ACCEPT", "-A INPUT -i eth0 -j DROP", "blocked/blocked"),
        ("ACCEPT", "-A INPUT -i eth1 -j DROP", "accepted/accepted"),
        ("ACCEPT", "-A INPUT -i eth+ -j DROP", "blocked/blocked"),
        ("ACCEPT", "-A INPUT ! -i lo -j DROP", "blocked/blocked"),
        ("DROP", "-A INPUT -i lo -j ACCEPT", "blocked/blocked"),
        ("DROP", "-A INPUT -m state --state RELATED,ESTABLISHED -j ACCEPT", "blocked/blocked"),
        ("DROP", "-A INPUT -m state --state NEW -j ACCEPT", "accepted/accepted"),
        ("DROP", "-A INPUT -m state ! --state INVALID -j ACCEPT", "accepted/accepted"),
        ("DROP", "-A INPUT -s 10.0.0.0/8 -j ACCEPT", "blocked/blocked"),
        ("DROP", "-A INPUT ! -s 10.0.0.0/8 -j ACCEPT", "accepted/accepted"),
        ("DROP", "-A INPUT -s 0.0.0.0/0 -j ACCEPT", "accepted/accepted"),
        ("DROP", "-A INPUT -d 192.0.2.9 -j ACCEPT", "accepted/accepted"),
        ("DROP", "-A INPUT -d 10.4.0.1 -j ACCEPT", "blocked/blocked"),
        ("DROP", "-A INPUT -p tcp --dport 22 -j ACCEPT", "blocked/blocked"),
        ("DROP", "-A INPUT -p tcp --dport 1:65535 -j ACCEPT", "accepted/blocked"),
        ("ACCEPT", "-A INPUT -p tcp --dport 1:1023 -j DROP", "accepted/accepted"),
        ("DROP", "-A INPUT -j X\n-A X -j ACCEPT", "accepted/accepted"),
        ("ACCEPT", "-A INPUT -j X\n-A X -j RETURN\n-A X -j DROP", "accepted/accepted"),
        ("ACCEPT", "-A INPUT -g X\n-A INPUT -j DROP\n-A X -i lo -j ACCEPT", "accepted/accepted"),
        ("DROP", "-A INPUT -j X\n-A X -j Y\n-A Y -p udp -j ACCEPT", "blocked/accepted"),
        ("ACCEPT", "-A INPUT -j X\n-A X -j X", "depends/depends"),
        ("ACCEPT", "-A INPUT -j GONE", "depends/depends"),
        ("ACCEPT", "-A INPUT -m set --match-set bad src -j DROP", "accepted/accepted"),
        ("DROP", "-A INPUT -m limit --limit 9/min -j ACCEPT", "depends/depends"),
        ("DROP", "-A INPUT -m limit --limit 9/min -j DROP", "blocked/blocked"),
        ("DROP", "-A INPUT -m limit --limit 9/min -j LOG", "blocked/blocked"),
        ("DROP", "-A INPUT -m mark --mark 1 -j ACCEPT", "depends/depends"),
        ("DROP", "-A INPUT -p tcp -m mark --mark 1 -j ACCEPT", "depends/blocked"),
        ("ACCEPT", "-A INPUT -m mark --mark 1 -j RETURN\n-A INPUT -j DROP", "depends/depends"),
        ("ACCEPT", "-A INPUT -j NFQUEUE --queue-num 0", "depends/depends"),
        ("ACCEPT", "-A INPUT -j MARK --set-mark 1\n-A INPUT -j DROP", "blocked/blocked"),
    ] {
        let text = format!("*filter\n:INPUT {policy} [0:0]\n:X - [0:0]\n:Y - [0:0]\n{rules}\nCOMMIT\n");
        assert_eq!(outcomes(&text, Way::ToDevice), wanted, "policy {policy}, {rules}");
    }
}

#[test]
fn tables_are_asked_in_order() {
    for (text, wanted) in [
        (
            "*raw\n-A PREROUTING -i eth0 -j DROP\nCOMMIT\n*filter\n:INPUT ACCEPT [0:0]\nCOMMIT\n",
            "blocked/blocked",
        ),
        (
            "*mangle\n-A INPUT -p tcp -j DROP\nCOMMIT\n*filter\n:INPUT ACCEPT [0:0]\nCOMMIT\n",
            "blocked/accepted",
        ),
        ("*raw\n-A PREROUTING -j ACCEPT\nCOMMIT\n*filter\n:INPUT DROP [0:0]\nCOMMIT\n", "blocked/blocked"),
        ("*nat\n:PREROUTING ACCEPT [0:0]\n:INPUT ACCEPT [0:0]\nCOMMIT\n", "accepted/accepted"),
    ] {
        assert_eq!(outcomes(text, Way::ToDevice), wanted, "{text}");
    }
}

#[test]
fn passing_through_asks_the_forward_chain() {
    for (rules, wanted) in [
        ("-A FORWARD -i eth0 -o eth1 -j ACCEPT", "blocked/blocked"),
        ("-A FORWARD -i eth0 -o + -j ACCEPT", "accepted/accepted"),
        ("-A FORWARD -d 10.4.0.0/16 -j ACCEPT", "blocked/blocked"),
        ("-A FORWARD -j ACCEPT", "accepted/accepted"),
        ("-A FORWARD -m conntrack --ctstate DNAT -j ACCEPT", "blocked/blocked"),
    ] {
        let text = format!("*filter\n:INPUT ACCEPT [0:0]\n:FORWARD DROP [0:0]\n{rules}\nCOMMIT\n");
        assert_eq!(outcomes(&text, Way::Through), wanted, "{rules}");
    }
}

#[test]
fn the_lines_that_decide_are_named() {
    let text = "*filter\n:INPUT DROP [0:0]\n:X - [0:0]\n-A INPUT -j X\n-A X -j ACCEPT\nCOMMIT\n";
    let export = Export::new(ExportId(0), "iptables-save.txt", text.into());
    let tables = tables(text);
    let (way, family, protocol) = (Way::ToDevice, Family::V4, Protocol::TCP);
    let rest = DefaultTraffic { way, entering: "eth0", family, protocol, port: None, own_addresses: &[] };
    let verdict = action_of_default(&tables.iter().collect::<Vec<_>>(), &rest);
    let lines: Vec<_> = verdict.decided_by.iter().map(|origin| export.line_of(origin.start)).collect();
    assert_eq!(lines, [4, 5]);
}
