//! Sets of packets through devices: every cell must have the result of each of its packets, followed alone.

use proptest::prelude::*;
use std::net::IpAddr;
use trevlin_model::{Export, ExportId, Facts, Family, Filter, IpRange, PortRange};
use trevlin_packets::way::{Flow, Host, Net, Place, Sent, Shape, Start, TrafficClass};
use trevlin_readers::{ReadContext, recognise};

const EDGE: &str = r#"[{"ifname":"out0","addr_info":[{"local":"203.0.113.1","prefixlen":24}]},
{"ifname":"lan0","addr_info":[{"local":"10.4.0.1","prefixlen":24}]}]"#;
const EDGE_ROUTES: &str = r#"[{"dst":"default","gateway":"203.0.113.9","dev":"out0","flags":[]},
{"dst":"10.5.0.0/16","gateway":"10.4.0.2","dev":"lan0","flags":[]},{"type":"blackhole","dst":"10.6.0.0/16","flags":[]}]"#;
const EDGE_RULES: &str = "table ip t {
chain pre { type nat hook prerouting priority -100;
 iifname out0 ip daddr 203.0.113.1 tcp dport 8000-8009 dnat to 10.4.0.20:80
 iifname out0 ip daddr 203.0.113.1 tcp dport 9000-9003 dnat to 10.5.1.9
 iifname out0 ip saddr 198.51.100.0/24 tcp dport 22 dnat to 10.4.0.20
 iifname out0 ip daddr 203.0.113.1 tcp dport 7000 redirect to :22
}
chain post { type nat hook postrouting priority 100;
 oifname out0 masquerade
 oifname lan0 ip saddr 198.51.100.7 snat to 10.4.0.1
}
chain f { type filter hook forward priority 0; policy drop;
 ct state established accept
 ct status dnat tcp dport { 22, 80, 9001-9002 } accept
 ip daddr . tcp dport { 10.4.0.20 . 443, 10.5.1.9 . 25 } accept
 tcp sport 5000-5001 ip daddr != 10.5.0.0/16 accept
}
chain i { type filter hook input priority 0; policy drop;
 ct state established accept
 ip saddr 198.51.100.0/25 tcp dport 22 accept
 ip daddr 203.0.113.1 tcp dport 179 limit rate 1/second accept
}
}";
const FILES: &str = r#"[{"ifname":"eth0","addr_info":[{"local":"10.4.0.20","prefixlen":24}]}]"#;
const FILES_ROUTES: &str = r#"[{"dst":"default","gateway":"10.4.0.1","dev":"eth0","flags":[]}]"#;
const FILES_RULES: &str = "table ip t {
chain i { type filter hook input priority 0; policy accept;
 ip saddr 198.51.100.64/26 tcp dport 80 drop
 tcp dport 443 tcp sport < 1024 drop
}
}";

fn facts(files: [&str; 3]) -> Facts {
    let mut all = Facts::default();
    for (name, text) in ["ip-addr.json", "ip-route.json", "nft.txt"].into_iter().zip(files) {
        let export = Export::new(ExportId(0), name, text.to_owned());
        let reader = recognise(&export).reader.expect("recognised");
        let reading = (reader.read)(&export, &ReadContext::default());
        assert!(reading.ledger.notes.is_empty(), "{name}: {:?}", reading.ledger.notes);
        all.absorb(*reading.facts);
    }
    all
}

fn host(facts: &Facts) -> Host<'_> {
    let tables: Vec<&Filter> = facts.filters.iter().collect();
    Host { tables, interfaces: &facts.interfaces, routes: &facts.routes, ..Host::default() }
}

fn shape() -> Shape {
    let place = |device, interface: &str| Place { device, interface: interface.into() };
    let mut shape = Shape::default();
    shape.faces_outside(place(0, "out0"));
    shape.does_not_carry(vec![range("10.0.0.0", "10.255.255.255")]);
    for (at, segment, address) in [
        (place(0, "out0"), 0, "203.0.113.1"),
        (place(0, "lan0"), 1, "10.4.0.1"),
        (place(1, "eth0"), 1, "10.4.0.20"),
    ] {
        shape.put_on(at.clone(), segment);
        shape.holds(&at, address.parse().expect("an address"));
    }
    shape.has_prefix(1, range("10.4.0.0", "10.4.0.255"));
    shape.routes_for(1, place(0, "lan0"));
    shape
}

fn range(first: &str, last: &str) -> IpRange {
    IpRange::new(first.parse().expect("an address"), last.parse().expect("an address")).expect("in order")
}

const START: Start<'_> = Start::Entering { device: 0, interface: "out0", ipsec: false };

fn cells(net: &Net<'_>) -> Vec<TrafficClass> {
    let all = vec![PortRange { first: 0, last: 65535 }];
    let sent = Sent {
        family: Family::V4,
        protocol: 6,
        destinations: vec![IpRange::all(Family::V4)],
        sources: vec![IpRange::all(Family::V4)],
        ports: all.clone(),
        source_ports: all,
    };
    let cells = net.explore(START, &sent, 3000);
    assert!(!cells.cut, "{} cells", cells.cells.len());
    cells.cells
}

fn holds(cell: &TrafficClass, flow: &Flow<'_>) -> bool {
    let address = |all: &[IpRange], one: IpAddr| all.iter().any(|range| range.contains(one));
    let port = |all: &[PortRange], one: u16| all.iter().any(|range| range.contains(one));
    address(&cell.sent.destinations, flow.destination)
        && address(&cell.sent.sources, flow.source)
        && port(&cell.sent.ports, flow.port)
        && port(&cell.sent.source_ports, flow.source_port)
}

#[test]
fn a_cell_says_what_each_of_its_packets_comes_to() {
    let (edge, files) = (facts([EDGE, EDGE_ROUTES, EDGE_RULES]), facts([FILES, FILES_ROUTES, FILES_RULES]));
    let shape = shape();
    let net = Net::new(vec![host(&edge), host(&files)], &shape);
    let cells = cells(&net);
    let addresses = || {
        prop_oneof![
            prop::sample::select(vec![
                "203.0.113.1",
                "10.4.0.20",
                "10.4.0.1",
                "10.4.0.77",
                "10.5.1.9",
                "10.5.1.10",
                "10.6.0.1",
                "198.51.100.7",
                "198.51.100.64",
                "198.51.100.127",
                "198.51.100.128",
                "198.51.101.0",
                "192.0.2.9",
                "203.0.113.9",
                "127.0.0.1",
            ])
            .prop_map(|text| text.parse::<IpAddr>().unwrap()),
            any::<u32>().prop_map(|bits| std::net::Ipv4Addr::from_bits(bits).into()),
        ]
    };
    let ports = || {
        prop_oneof![
            prop::sample::select(vec![
                22u16, 25, 80, 179, 443, 1023, 1024, 4999, 5000, 5001, 5002, 7000, 8000, 8009, 8010, 8999,
                9000, 9001, 9003, 9004,
            ]),
            any::<u16>(),
        ]
    };
    let mut runner = proptest::test_runner::TestRunner::new(ProptestConfig {
        cases: 4000,
        failure_persistence: None,
        ..ProptestConfig::default()
    });
    let mut seen = [0usize; 3];
    let flows = (addresses(), addresses(), ports(), ports());
    let outcome = runner.run(&flows, |(source, destination, source_port, port)| {
        let flow = Flow { entering: "out0", source, destination, protocol: 6, source_port, port };
        let alone = net.ask(START, &flow);
        let holding: Vec<&TrafficClass> = cells.iter().filter(|cell| holds(cell, &flow)).collect();
        prop_assert!(!holding.is_empty(), "{flow:?} is in no cell");
        for cell in holding {
            prop_assert_eq!(cell.answer.verdict, alone.verdict, "{:?}\n{:#?}\n{:#?}", flow, cell, alone);
            if let Some(delivered) = &alone.delivered {
                let (addresses, ports) = &cell.delivered;
                prop_assert!(addresses.iter().any(|range| range.contains(delivered.address)));
                prop_assert!(ports.iter().any(|range| range.contains(delivered.port)));
                let known = cell.answer.delivered.as_ref().expect("delivered");
                prop_assert_eq!((known.device, known.gone), (delivered.device, delivered.gone));
            }
        }
        Ok(())
    });
    outcome.unwrap_or_else(|failed| panic!("{failed}"));
    for cell in &cells {
        seen[cell.answer.verdict as usize] += 1;
    }
    assert!(seen.iter().all(|count| *count > 0), "every verdict is met: {seen:?}");
}

#[test]
fn what_is_delivered_is_told_as_a_set() {
    let (edge, files) = (facts([EDGE, EDGE_ROUTES, EDGE_RULES]), facts([FILES, FILES_ROUTES, FILES_RULES]));
    let shape = shape();
    let net = Net::new(vec![host(&edge), host(&files)], &shape);
    let web = cells(&net).into_iter().filter(|cell| {
        cell.delivery.as_ref().is_some_and(|one| one.device == 1 && one.gone.is_none())
            && cell.delivered.1 == [PortRange { first: 80, last: 80 }]
    });
    // Ten ports translated to one, and any source except a quarter of a network.
    let web: Vec<TrafficClass> =
        web.filter(|cell| cell.sent.ports == [PortRange { first: 8000, last: 8009 }]).collect();
    assert!(!web.is_empty());
    let from = |address: &str| {
        web.iter().any(|cell| cell.sent.sources.iter().any(|one| one.contains(address.parse().unwrap())))
    };
    assert!(from("192.0.2.9") && from("198.51.100.63") && from("198.51.100.128"));
    assert!(!from("198.51.100.64") && !from("198.51.100.127") && !from("10.4.0.77"));
}
