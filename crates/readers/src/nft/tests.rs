//! Small rulesets and the resulting rules.

use super::*;
use trevlin_model::{ExportId, Filter, Limit, LineClass, MatchKind, Target};

fn of(path: &str, text: &str) -> Reading {
    let export = Export::new(ExportId(0), path, text.into());
    assert_ne!(recognise(&export), Recognition::No, "{text}");
    read(&export, &ReadContext::default())
}

/// A rule of an inet table in words.
fn rule(text: &str) -> String {
    let reading = of("x.nft", &format!("table inet t {{\n chain c {{\n {text}\n }}\n}}\n"));
    let notes: Vec<_> = reading.ledger.notes.iter().map(|note| note.text.clone()).collect();
    assert!(notes.is_empty(), "{text}: {notes:?}");
    words(&reading.facts.filters[0])
}

fn words(filter: &Filter) -> String {
    let rules = filter.chains.iter().flat_map(|chain| &chain.rules).map(|rule| {
        let matches: Vec<_> = rule.matches.iter().map(show).collect();
        let log = if rule.logs { " log" } else { "" };
        format!("{}{log} -> {}", matches.join(" "), target(&rule.target))
    });
    rules.collect::<Vec<_>>().join("; ")
}

fn target(target: &Target) -> String {
    match target {
        Target::Translate(how) => {
            let range = how.addresses.map(|range| range.short()).unwrap_or_default();
            let ports = how.ports.map(|ports| format!(":{ports}")).unwrap_or_default();
            format!("{:?} {range}{ports}", how.kind)
        }
        Target::NotAnalysed { name, ends } => format!("?{name} {ends}"),
        other => format!("{other:?}"),
    }
}

fn show(one: &trevlin_model::Match) -> String {
    let text = match &one.kind {
        MatchKind::Protocol(protocol) => protocol.name(),
        MatchKind::Version(family) => family.to_string(),
        MatchKind::States(states) => {
            let all = [
                ("new", states.new),
                ("established", states.established),
                ("related", states.related),
                ("invalid", states.invalid),
                ("dnat", states.dnat),
            ];
            all.iter().filter(|one| one.1).map(|one| one.0).collect::<Vec<_>>().join("+")
        }
        MatchKind::TcpFlags { looked_at, set } => format!("flags {set}/{looked_at}"),
        MatchKind::NotAnalysed(text) => format!("?[{text}]"),
        MatchKind::AnyOf(all) => {
            let all: Vec<_> =
                all.iter().map(|list| list.iter().map(show).collect::<Vec<_>>().join("&")).collect();
            format!("({})", all.join("|"))
        }
        MatchKind::DestinationPorts(ports) | MatchKind::SourcePorts(ports) => {
            let side = if matches!(one.kind, MatchKind::SourcePorts(_)) { "sport" } else { "dport" };
            format!("{side} {}", ports.iter().map(ToString::to_string).collect::<Vec<_>>().join(","))
        }
        MatchKind::Source(all) => format!("from {all:?}"),
        MatchKind::Destination(all) => format!("to {all:?}"),
        MatchKind::Entering(name) => format!("in {name}"),
        MatchKind::Leaving(name) => format!("out {name}"),
        other => format!("{other:?}"),
    };
    format!("{}{text}", if one.negated { "!" } else { "" })
}

#[test]
fn rules_become_conditions() {
    for (text, wanted) in [
        ("accept", " -> Accept"),
        ("ip saddr 10.0.0.0/8 drop", "IPv4 from [10.0.0.0-10.255.255.255] -> Drop"),
        ("ip saddr != 10.0.0.1 drop", "IPv4 !from [10.0.0.1] -> Drop"),
        ("ip saddr and 255.255.255.0 == 10.0.0.0 accept", "IPv4 from [10.0.0.0-10.0.0.255] -> Accept"),
        ("ip6 daddr 2001:db8::1 tcp dport 22 accept", "IPv6 to [2001:db8::1] tcp dport 22 -> Accept"),
        ("tcp dport { 22, 80-90 } accept", "tcp dport 22,80-90 -> Accept"),
        ("tcp dport ssh counter packets 3 bytes 9 accept comment \"x y\"", "tcp dport 22 -> Accept"),
        ("tcp dport >= 1024 accept", "tcp dport 1024-65535 -> Accept"),
        ("udp sport != 53 drop", "udp !sport 53 -> Drop"),
        ("meta l4proto { tcp, udp } th dport 53 accept", "(tcp|udp) dport 53 -> Accept"),
        ("ip protocol gre accept", "IPv4 gre -> Accept"),
        ("iifname \"eth0\" oifname { \"eth1\", \"wg*\" } accept", "in eth0 (out eth1|out wg+) -> Accept"),
        ("iif lo accept", "in lo -> Accept"),
        ("iifname != \"lo\" drop", "!in lo -> Drop"),
        ("ct state established,related accept", "established+related -> Accept"),
        ("ct state { established, related } accept", "established+related -> Accept"),
        ("ct state != { established, related } drop", "!established+related -> Drop"),
        // No state is both, so this holds for every packet.
        ("ct state != established,related drop", " -> Drop"),
        ("ct state & (established|related) != 0 accept", "!!established+related -> Accept"),
        ("ct state ! established,related accept", "!established+related -> Accept"),
        ("ct status dnat accept", "dnat -> Accept"),
        ("ct direction reply accept", "Reply -> Accept"),
        ("ct original ip daddr 192.0.2.1 accept", "IPv4 OriginalDestination([192.0.2.1]) -> Accept"),
        ("tcp flags syn accept", "tcp !flags 0/2 -> Accept"),
        ("tcp flags & (fin|syn|rst|ack) == syn accept", "tcp flags 2/23 -> Accept"),
        ("tcp flags syn / fin,syn,rst,ack accept", "tcp flags 2/23 -> Accept"),
        ("tcp flags != syn drop", "tcp !flags 2/63 -> Drop"),
        ("icmp type echo-request accept", "icmp Icmp([IcmpRange { first: 2048, last: 2303 }]) -> Accept"),
        ("fib daddr type local accept", "AddressIs { destination: true, kinds: [Local] } -> Accept"),
        ("fib saddr . iif oif missing drop", "?[fib saddr . iif oif missing] -> Drop"),
        ("meta skuid 33 accept", "User(33, 33) -> Accept"),
        (
            "limit rate 5/minute burst 5 packets log prefix \"x: \" level warn accept",
            "?[limit 5/minute] log -> Accept",
        ),
        ("limit rate over 10 mbytes/second drop", "?[limit over 10 mbytes/second] -> Drop"),
        ("meta mark 0x00000010 accept", "?[meta mark 16] -> Accept"),
        ("meta mark set 0x1", " -> ?meta mark set false"),
        ("log prefix \"a\"", " log -> Log"),
        ("reject with icmpx type admin-prohibited", " -> Reject"),
        ("reject with icmpv6 no-route", "IPv6 -> Reject"),
        ("tcp dport 22 reject with tcp reset", "tcp dport 22 -> Reject"),
        ("jump other", " -> Jump(\"other\")"),
        (
            "ip saddr . tcp dport { 10.0.0.1 . 22, 10.0.0.2 . 80 } accept",
            "IPv4 tcp (from [10.0.0.1]&dport 22|from [10.0.0.2]&dport 80) -> Accept",
        ),
        ("ct state vmap { established : accept, invalid : drop }", "established -> Accept; invalid -> Drop"),
        (
            "tcp dport vmap { 22 : jump a, 80-90 : accept }",
            "tcp dport 22 -> Jump(\"a\"); tcp dport 80-90 -> Accept",
        ),
        ("dnat ip to 10.0.0.2:80", "IPv4 -> Destination 10.0.0.2:80"),
        ("dnat ip6 to [2001:db8::2]:80", "IPv6 -> Destination 2001:db8::2:80"),
        (
            "dnat ip to tcp dport map { 80 : 10.0.0.1, 443 : 10.0.0.2 }",
            "tcp dport 80 IPv4 -> Destination 10.0.0.1; tcp dport 443 IPv4 -> Destination 10.0.0.2",
        ),
        (
            "dnat ip to ip saddr . tcp dport map { 10.0.0.1 . 80 : 10.9.9.9 . 81 }",
            "IPv4 tcp (from [10.0.0.1]&dport 80) -> Destination 10.9.9.9:81",
        ),
        ("redirect to :8080", " -> Redirect :8080"),
        ("masquerade random", " -> Masquerade "),
        ("snat ip to 192.0.2.1-192.0.2.9", "IPv4 -> Source 192.0.2.1-192.0.2.9"),
        (
            "dnat ip prefix to ip daddr map { 192.0.2.0/24 : 10.9.9.0/24 }",
            "IPv4 to [192.0.2.0-192.0.2.255] -> NetworkMap 10.9.9.0/24",
        ),
        ("queue num 0", " -> ?queue true"),
        ("notrack", " -> ?NOTRACK false"),
    ] {
        // A jump to a missing chain is reported; that is not tested here.
        let text = format!("{text}\n }}\n chain a {{\n }}\n chain other {{");
        assert_eq!(rule(&text), wanted.replace("!!", ""), "{text}");
    }
}

#[test]
fn sets_variables_and_commands() {
    let text = "define inside = { 10.0.0.0/8, 192.168.0.0/16 }\ndefine lan = eth1\n\
                flush ruleset\nadd table inet t\nadd set inet t bad { type ipv4_addr; flags interval; }\n\
                add element inet t bad { 192.0.2.0/24, 198.51.100.7 timeout 1h }\n\
                table inet t {\n set seen { type ipv4_addr; flags dynamic,timeout; timeout 1h; }\n\
                map to { type inet_service : ipv4_addr; elements = { 80 : 10.0.0.9 } }\n\
                chain in {\n type filter hook input priority filter + 5; policy drop;\n\
                # temporary\n iifname $lan ip saddr $inside accept\n ip saddr @bad drop\n ip saddr @seen drop\n\
                add @seen { ip saddr timeout 60s }\n ip saddr @gone accept\n dnat ip to tcp dport map @to # why\n }\n}\n\
                add rule inet t in tcp dport 22 accept\ninsert rule inet t in iif lo accept\n";
    let reading = of("etc/nftables.conf", text);
    let filter = &reading.facts.filters[0];
    assert_eq!(
        words(filter),
        "in lo -> Accept; in eth1 IPv4 from [10.0.0.0-10.255.255.255, 192.168.0.0-192.168.255.255] -> Accept; \
         IPv4 from [192.0.2.0-192.0.2.255, 198.51.100.7] -> Drop; IPv4 ?[ip saddr @seen] -> Drop;  -> Continue; \
         IPv4 ?[ip saddr @gone] -> Accept; tcp dport 80 IPv4 -> Destination 10.0.0.9; tcp dport 22 -> Accept"
    );
    let chain = &filter.chains[0];
    assert_eq!((chain.priority, chain.policy.clone()), (5, Some(Target::Drop)));
    let comments: Vec<_> = chain.rules.iter().map(|rule| rule.comment.as_deref()).collect();
    assert_eq!(comments[1], Some("temporary"));
    assert_eq!(comments[6], Some("why"));
    let sets: Vec<_> = filter
        .sets
        .iter()
        .map(|set| {
            format!(
                "{} {} {} {} {}",
                set.name,
                set.elements,
                set.present,
                set.filled_by_rules,
                set.used_at.len()
            )
        })
        .collect();
    assert_eq!(
        sets,
        ["bad 2 true false 1", "seen 0 true true 2", "to 1 true false 1", "gone 0 false false 1"]
    );
    assert_eq!(reading.ledger.notes.len(), 1, "{:?}", reading.ledger.notes);
    assert_eq!(reading.ledger.count(LineClass::NotUnderstood), 0);
}

#[test]
fn what_is_not_understood_is_told_at_its_line() {
    for (text, line) in [
        ("table inet t {\n chain c {\n  frobnicate 5 accept\n  accept\n }\n}\n", 3),
        ("table inet t {\n thing x {\n a\n }\n}\n", 2),
        ("table inet t {\n chain c {\n accept\n", 2),
        ("}\ntable inet t {\n}\n", 1),
        ("table inet t {\n chain c {\n ip saddr $gone accept\n }\n}\n", 3),
        ("{\"nftables\": [{\"rule\": {\"family\": \"inet\"}}]}\n", 1),
        ("{\"nftables\": [{\n", 1),
    ] {
        let reading = of("x.nft", text);
        assert_eq!(reading.ledger.class(line), Some(LineClass::NotUnderstood), "{text}");
        assert!(!reading.ledger.notes.is_empty(), "{text}");
    }
    // The rest is still read, and the table is not said to be whole.
    let reading = of("x.nft", "table inet t {\n chain c {\n  frobnicate 5\n  tcp dport 22 accept\n }\n}\n");
    assert_eq!(words(&reading.facts.filters[0]), " -> ?not understood true; tcp dport 22 -> Accept");
    assert!(!reading.facts.filters[0].complete);
}

#[test]
fn tables_out_of_force_or_of_other_families() {
    let reading = of("x.nft", "table inet t {\n flags dormant;\n chain c {\n accept\n }\n}\n");
    assert!(reading.facts.filters.is_empty() && reading.ledger.notes.len() == 1);
    for (family, filters) in [("bridge", true), ("netdev", true), ("arp", false)] {
        let text = format!(
            "table {family} t {{\n chain c {{\n type filter hook input priority 0;\n drop\n }}\n}}\n"
        );
        let reading = of("x.nft", &text);
        assert_eq!(
            reading.facts.not_analysed.iter().map(|one| one.filters_packets).collect::<Vec<_>>(),
            [filters]
        );
    }
}

#[test]
fn what_rules_fill_is_not_known() {
    let text = "table inet t {\n map v {\n type ipv4_addr : verdict\n flags dynamic\n }\n map m {\n type inet_service : ipv4_addr\n flags dynamic\n }\n\
                chain c {\n type filter hook input priority 0;\n ip saddr vmap @v\n dnat ip to tcp dport map @m\n accept\n }\n}\n";
    let reading = of("nft.txt", text);
    // Each may hold for a packet or not, so what follows may still be met.
    assert_eq!(
        words(&reading.facts.filters[0]),
        "?[ip saddr vmap] -> ?ip saddr vmap true; ?[a translation] -> ?a translation true;  -> Accept"
    );
}

#[test]
fn forwards() {
    let text = "table ip nat {\n chain pre {\n type nat hook prerouting priority dstnat;\n iifname { eth0, eth1 } jump to\n }\n\
                chain to {\n meta l4proto { tcp, udp } th dport 53 dnat to 10.4.0.53\n\
                tcp dport { 80, 443 } dnat to 10.4.0.80\n dnat to tcp dport map { 25 : 10.4.0.25 }\n }\n}\n";
    let reading = of("nft.txt", text);
    let told: Vec<String> = reading
        .facts
        .forwards
        .iter()
        .map(|one| {
            let ports: Vec<String> = one.ports.iter().map(ToString::to_string).collect();
            let to = one.to.addresses.map(|to| to.to_string()).unwrap_or_default();
            format!(
                "{} {} {} > {to}",
                one.entering.as_deref().unwrap_or("any"),
                one.protocol.name(),
                ports.join(",")
            )
        })
        .collect();
    assert_eq!(
        told,
        [
            "eth0 tcp 53 > 10.4.0.53",
            "eth0 udp 53 > 10.4.0.53",
            "eth1 tcp 53 > 10.4.0.53",
            "eth1 udp 53 > 10.4.0.53",
            "eth0 tcp 80,443 > 10.4.0.80",
            "eth1 tcp 80,443 > 10.4.0.80",
            "eth0 tcp 25 > 10.4.0.25",
            "eth1 tcp 25 > 10.4.0.25"
        ]
    );
}

/// A name that refers twice to another name: thirty lines would expand to a thousand million values.
#[test]
fn what_names_stand_for_is_bounded() {
    for (first, twice) in [
        ("{ 10.0.0.1 }", |name: &str| format!("{{ ${name}, ${name} }}")),
        ("10.0.0.1", |name: &str| format!("${name} . ${name}")),
        ("syn", |name: &str| format!("${name}, ${name}")),
    ] as [(&str, fn(&str) -> String); 3]
    {
        let mut text = format!("define a0 = {first}\n");
        for number in 1..40 {
            text += &format!("define a{number} = {}\n", twice(&format!("a{}", number - 1)));
        }
        text += "table ip t {\n chain c {\n type filter hook input priority 0;\n ip saddr $a39 accept\n ip saddr 10.0.0.9 drop\n }\n}\n";
        let export = Export::new(ExportId(0), "d/etc/nftables.conf", text);
        let reading = crate::includes::read(&READER, &export, &ReadContext::of(vec![&export]));
        assert!(reading.ledger.cuts.iter().any(|cut| cut.limit == Limit::Expansion), "{first}");
        // Later statements are read, and those that depend on the name are not considered known.
        let rules = &reading.facts.filters[0].chains[0].rules;
        assert_eq!(rules.len(), 2, "{first}");
        assert!(rules[0].matches.iter().any(|one| matches!(one.kind, MatchKind::NotAnalysed(_))), "{first}");
    }
}

#[test]
fn what_is_not_legible_may_have_been_anything() {
    for (rule, legible) in [
        ("iifname \"eth0\" accept", true),
        ("iifname \"eth0\" accept comment \"f\u{fffd}r b\u{fffd}ro\"", true),
        ("log prefix \"f\u{fffd}r\" accept", true),
        ("iifname \"e\u{fffd}h0\" accept", false),
        ("iifname \"eth0 accept", false),
        ("iifname \u{fffd}th0 accept", false),
        ("tcp dport 2\u{fffd} accept", false),
    ] {
        let text = format!(
            "table ip t {{\n chain c {{\n type filter hook input priority 0; policy drop;\n {rule}\n }}\n}}\n"
        );
        let export = Export::new(ExportId(0), "d/etc/nftables.conf", text);
        let reading = crate::includes::read(&READER, &export, &ReadContext::of(vec![&export]));
        let filter = &reading.facts.filters[0];
        assert_eq!((filter.complete, filter.chains[0].rules.len()), (legible, 1), "{rule}");
        assert_eq!(filter.chains[0].policy, Some(Target::Drop), "{rule}");
    }
}

/// An element of a map is a rule, and a forward, of its own: with the line of the element, and that of the rule that looks it up.
#[test]
fn elements_of_maps_have_lines_of_their_own() {
    let text = "table ip nat {\n map out {\n  type inet_service : ipv4_addr . inet_service\n  elements = { 443 : 10.4.0.9 . 443,\n\
                 3390 : 10.4.0.20 . 3389 }\n }\n chain c {\n  type nat hook prerouting priority -100;\n  dnat ip to tcp dport map @out\n }\n}\n";
    let export = Export::new(ExportId(0), "d/nft.txt", text.into());
    let reading = super::read(&export, &crate::reader::ReadContext::default());
    let line = |origin: trevlin_model::Origin| export.line_of(origin.start);
    let rules = &reading.facts.filters[0].chains[0].rules;
    let told: Vec<_> = rules.iter().map(|rule| (line(rule.origin), rule.looked_up_at.map(line))).collect();
    assert_eq!(told, [(4, Some(9)), (5, Some(9))]);
    let forwards: Vec<_> = reading
        .facts
        .forwards
        .iter()
        .map(|one| (line(one.origin), one.ports[0].first, one.to.ports.unwrap().first))
        .collect();
    assert_eq!(forwards, [(4, 443, 443), (5, 3390, 3389)]);
}

/// What iptables-nft cannot translate: the program prints the extension's name alone.
#[test]
fn extensions_of_iptables() {
    let json = |expr: &str| {
        let text = format!(
            r#"{{"nftables": [{{"table": {{"family": "ip", "name": "filter"}}}},
{{"chain": {{"family": "ip", "table": "filter", "name": "INPUT", "type": "filter", "hook": "input", "prio": 0, "policy": "drop"}}}},
{{"rule": {{"family": "ip", "table": "filter", "chain": "INPUT", "expr": [{expr}]}}}}]}}"#
        );
        let reading = of("d/nft.json", &text);
        assert!(reading.ledger.notes.is_empty(), "{expr}");
        words(&reading.facts.filters[0])
    };
    let port =
        r#"{"match": {"op": "==", "left": {"payload": {"protocol": "tcp", "field": "dport"}}, "right": 25}}"#;
    let xt = |kind: &str, name: &str| format!(r#"{{"xt": {{"type": "{kind}", "name": "{name}"}}}}"#);
    for (inner, text, wanted) in [
        (
            format!(r#"{port}, {}, {{"accept": null}}"#, xt("match", "comment")),
            "tcp dport 25 xt match comment accept",
            "tcp dport 25 -> Accept",
        ),
        (
            format!(r#"{port}, {}, {{"drop": null}}"#, xt("match", "recent")),
            "tcp dport 25 xt match \"recent\" drop",
            "tcp dport 25 ?[xt match recent (its values are in `iptables-save` alone)] -> Drop",
        ),
        (xt("target", "REJECT"), "xt target REJECT", " -> Reject"),
        (xt("target", "LOG"), "xt target LOG", " log -> Log"),
        (xt("target", "TCPMSS"), "xt target TCPMSS", " -> Continue"),
        (xt("target", "MASQUERADE"), "xt target MASQUERADE", " -> Masquerade "),
        (xt("target", "DNAT"), "xt target DNAT", "?[a translation] -> ?a translation true"),
    ] {
        assert_eq!((json(&inner), rule(text)), (wanted.to_owned(), wanted.to_owned()), "{text}");
    }
}

/// A ruleset within a script of the shell is not one that is loaded as it is.
#[test]
fn scripts_of_other_programs() {
    for (first, wanted) in [("#!/usr/sbin/nft -f", true), ("#!/bin/sh", false), ("# a comment", true)] {
        let text = format!("{first}\ntable inet t {{\n}}\n");
        let export = Export::new(ExportId(0), "d/etc/firewall", text);
        assert_eq!(recognise(&export) != Recognition::No, wanted, "{first}");
    }
}
