//! Tables of connections and their results at a small gateway: the Internet on eth0, the internal network on eth1, VPN clients on wg0.

use std::net::IpAddr;
use trevlin_model::{Export, ExportId, Facts, Filter};
use trevlin_packets::way::{Answer, Flow, Host, SourceCheck, Verdict, Walker};
use trevlin_readers::{ReadContext, recognise};

const ADDRESSES: &str = r#"[{"ifname":"lo","flags":["LOOPBACK"],"addr_info":[{"local":"127.0.0.1","prefixlen":8}]},
{"ifname":"eth0","addr_info":[{"local":"192.0.2.9","prefixlen":24},{"local":"2001:db8:0:1::9","prefixlen":64}]},
{"ifname":"eth1","addr_info":[{"local":"10.4.0.1","prefixlen":24},{"local":"2001:db8:0:4::1","prefixlen":64}]},
{"ifname":"wg0","flags":["POINTOPOINT"],"addr_info":[{"local":"10.9.0.1","prefixlen":24}]}]"#;
const ROUTES: &str = r#"[{"dst":"default","gateway":"192.0.2.1","dev":"eth0","flags":[]},
{"dst":"10.5.0.0/16","gateway":"10.4.0.2","dev":"eth1","flags":[]},
{"type":"blackhole","dst":"10.6.0.0/16","flags":[]},
{"dst":"10.6.7.0/24","gateway":"10.4.0.2","dev":"eth1","flags":[]}]"#;

fn facts(rules: &str) -> Facts {
    let mut all = Facts::default();
    for (name, text) in [("ip-addr.json", ADDRESSES), ("ip-route.json", ROUTES), ("nft.txt", rules)] {
        let export = Export::new(ExportId(0), name, text.to_owned());
        let reader = recognise(&export).reader.expect("recognised");
        let reading = (reader.read)(&export, &ReadContext::default());
        assert!(reading.ledger.notes.is_empty(), "{name}: {:?}", reading.ledger.notes);
        all.absorb(*reading.facts);
    }
    all
}

/// `eth0 198.51.100.7 > 192.0.2.9 tcp 443`, with a source port behind a colon.
fn ask(host: &Host<'_>, text: &str) -> Answer {
    let words: Vec<&str> = text.split(' ').collect();
    let (source, source_port) = words[1].rsplit_once('#').unwrap_or((words[1], "40000"));
    let address = |text: &str| text.parse::<IpAddr>().expect("an address");
    Walker::new(host.clone()).ask(&Flow {
        entering: words[0],
        source: address(source),
        destination: address(words[3]),
        protocol: if words[4] == "tcp" { 6 } else { 17 },
        source_port: source_port.parse().expect("a port"),
        port: words[5].parse().expect("a port"),
    })
}

fn told(answer: &Answer) -> String {
    let word = match answer.verdict {
        Verdict::Allowed => "allowed",
        Verdict::Blocked => "blocked",
        Verdict::Depends => "depends",
    };
    match &answer.delivered {
        Some(one) => {
            format!("{word} {} {} {}", one.address, one.port, one.leaving.as_deref().unwrap_or("here"))
        }
        None => word.to_owned(),
    }
}

fn table(rules: &str, cases: &[(&str, &str)]) {
    let facts = facts(rules);
    let tables: Vec<&Filter> = facts.filters.iter().collect();
    let host = Host { tables, interfaces: &facts.interfaces, routes: &facts.routes, ..Host::default() };
    for (flow, wanted) in cases {
        let answer = ask(&host, flow);
        assert_eq!(told(&answer), *wanted, "{flow}: {:?}\n{rules}", answer.steps);
    }
}

/// Chains with these rules, what follows a connection accepted in both.
fn chains(forward: &str, input: &str, more: &str) -> String {
    format!(
        "table inet t {{\nchain fwd {{\ntype filter hook forward priority 0; policy drop;\nct state established,related accept\n\
         {forward}\n}}\nchain in {{\ntype filter hook input priority 0; policy drop;\nct state established,related accept\n\
         {input}\n}}\n{more}\n}}\n"
    )
}

#[test]
fn routes_and_rules() {
    table(
        &chains(
            "iifname eth1 accept\niifname wg0 ip daddr 10.4.0.0/24 tcp dport 445 accept",
            "iifname eth1 tcp dport 22 accept",
            "",
        ),
        &[
            ("eth1 10.4.0.7 > 198.51.100.7 tcp 443", "allowed 198.51.100.7 443 eth0"),
            ("eth0 198.51.100.7 > 10.4.0.7 tcp 443", "blocked"),
            ("wg0 10.9.0.7 > 10.4.0.7 tcp 445", "allowed 10.4.0.7 445 eth1"),
            ("wg0 10.9.0.7 > 10.5.0.7 tcp 445", "blocked"),
            ("eth1 10.4.0.7 > 10.4.0.1 tcp 22", "allowed 10.4.0.1 22 here"),
            ("eth1 10.4.0.7 > 192.0.2.9 tcp 22", "allowed 192.0.2.9 22 here"),
            ("eth0 198.51.100.7 > 192.0.2.9 tcp 22", "blocked"),
            ("eth1 10.4.0.7 > 10.6.0.7 udp 9", "blocked"),
            ("eth1 10.4.0.7 > 10.6.7.7 udp 9", "allowed 10.6.7.7 9 eth1"),
            ("eth1 2001:db8:0:4::7 > 2001:db8:0:1::7 udp 9", "allowed 2001:db8:0:1::7 9 eth0"),
            // No route of that version was exported, so it is not known.
            ("eth1 2001:db8:0:4::7 > 2001:db8:9::7 udp 9", "depends"),
            ("eth0 10.4.0.1 > 192.0.2.9 tcp 22", "blocked"),
            ("eth0 198.51.100.7 > 127.0.0.1 tcp 22", "blocked"),
        ],
    );
}

#[test]
fn translation() {
    let nat = "map m { type inet_service : ipv4_addr; elements = { 80 : 10.4.0.80 } }\nchain pre {\ntype nat hook prerouting priority dstnat;\n\
               iifname eth0 tcp dport 8443 dnat ip to 10.4.0.20:443\niifname eth0 dnat ip to tcp dport map @m\n\
               iifname eth0 tcp dport 2222 redirect to :22\niifname eth0 udp dport 9 dnat ip to 10.4.0.30-10.4.0.31\n\
               iifname eth0 ip daddr 192.0.2.64/26 dnat ip prefix to ip daddr map { 192.0.2.64/26 : 10.5.1.64/26 }\n}\n\
               chain post {\ntype nat hook postrouting priority srcnat;\noifname eth0 masquerade\n}";
    table(
        &chains(
            "ct status dnat accept\niifname eth1 oifname eth0 accept",
            "tcp dport 22 ct original proto-dst 2222 accept",
            nat,
        ),
        &[
            ("eth0 198.51.100.7 > 192.0.2.9 tcp 8443", "allowed 10.4.0.20 443 eth1"),
            ("eth0 198.51.100.7 > 192.0.2.9 tcp 80", "allowed 10.4.0.80 80 eth1"),
            ("eth0 198.51.100.7 > 192.0.2.9 tcp 81", "blocked"),
            ("eth0 198.51.100.7 > 192.0.2.9 tcp 2222", "allowed 192.0.2.9 22 here"),
            ("eth0 198.51.100.7 > 192.0.2.9 tcp 22", "blocked"),
            ("eth0 198.51.100.7 > 192.0.2.70 tcp 25", "allowed 10.5.1.70 25 eth1"),
            // Which of the two receives it is not known.
            ("eth0 198.51.100.7 > 192.0.2.9 udp 9", "depends"),
            ("eth1 10.4.0.7 > 198.51.100.7 tcp 443", "allowed 198.51.100.7 443 eth0"),
        ],
    );
}

#[test]
fn a_connection_needs_its_answer_and_what_follows() {
    let of = |rules: &str| {
        format!(
            "table inet t {{\nchain fwd {{\ntype filter hook forward priority 0; policy drop;\n{rules}\n}}\n}}\n"
        )
    };
    let flow = "eth1 10.4.0.7 > 198.51.100.7 tcp 443";
    let datagram = "eth1 10.4.0.7 > 198.51.100.7 udp 443";
    for (rules, tcp, udp) in [
        ("iifname eth1 accept", "blocked", "allowed 198.51.100.7 443 eth0"),
        (
            "iifname eth1 accept\nct state established accept",
            "allowed 198.51.100.7 443 eth0",
            "allowed 198.51.100.7 443 eth0",
        ),
        (
            "iifname eth1 accept\niifname eth0 tcp sport 443 accept",
            "allowed 198.51.100.7 443 eth0",
            "allowed 198.51.100.7 443 eth0",
        ),
        // The answer passes, the third packet does not.
        ("iifname eth1 tcp flags syn / syn,ack accept\niifname eth0 accept", "blocked", "blocked"),
        ("ct state new accept\nct direction reply accept", "blocked", "allowed 198.51.100.7 443 eth0"),
    ] {
        table(&of(rules), &[(flow, tcp), (datagram, udp)]);
    }
}

#[test]
fn several_chains_and_what_is_not_modelled() {
    let early = "chain early {\ntype filter hook forward priority -10; policy accept;\nip daddr 198.51.100.9 drop\naccept\n}";
    table(
        &chains(
            "iifname eth1 udp dport 53 limit rate 5/second accept\niifname eth1 tcp dport 80 meta mark 7 drop\niifname eth1 tcp dport 80 accept\n\
                 iifname eth1 tcp dport 81 meta mark 7 accept\niifname eth1 tcp dport 81 accept\nip saddr 10.4.0.9 accept",
            "",
            early,
        ),
        &[
            ("eth1 10.4.0.9 > 198.51.100.9 tcp 443", "blocked"),
            ("eth1 10.4.0.9 > 198.51.100.7 tcp 443", "allowed 198.51.100.7 443 eth0"),
            ("eth1 10.4.0.7 > 198.51.100.7 udp 53", "depends"),
            ("eth1 10.4.0.7 > 198.51.100.7 tcp 80", "depends"),
            // Whichever way, it ends the same.
            ("eth1 10.4.0.7 > 198.51.100.7 tcp 81", "allowed 198.51.100.7 81 eth0"),
        ],
    );
}

#[test]
fn settings_of_the_kernel() {
    let facts = facts(&chains("accept", "accept", ""));
    let tables: Vec<&Filter> = facts.filters.iter().collect();
    let place = facts.interfaces[0].origin;
    let check = |check| vec![("eth0".to_owned(), check, place), ("eth1".to_owned(), check, place)];
    let host = |forwards, source_checks| Host {
        tables: tables.clone(),
        interfaces: &facts.interfaces,
        routes: &facts.routes,
        implied_routes: Vec::new(),
        forwards: [forwards, None],
        source_checks,
        clients: Vec::new(),
        lacks: Vec::new(),
        every_address: false,
    };
    let flow = "eth0 10.4.0.9 > 10.5.0.9 udp 9";
    for (host, wanted) in [
        (host(None, Vec::new()), "allowed 10.5.0.9 9 eth1"),
        (host(Some((false, None)), Vec::new()), "blocked"),
        (host(None, check(SourceCheck::Strict)), "blocked"),
        (host(None, check(SourceCheck::Loose)), "allowed 10.5.0.9 9 eth1"),
    ] {
        assert_eq!(told(&ask(&host, flow)), wanted);
    }
    let unknown = Host { tables: tables.clone(), ..Host::default() };
    assert_eq!(told(&ask(&unknown, flow)), "depends", "without interfaces nothing is known of its addresses");
}
