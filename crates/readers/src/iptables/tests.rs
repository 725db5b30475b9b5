use super::*;
use trevlin_model::{ExportId, MatchKind, TranslationKind};

fn of(path: &str, text: &str) -> Reading {
    let export = Export::new(ExportId(0), path, text.into());
    read(&export, &ReadContext::default())
}

fn rule(text: &str) -> (trevlin_model::Rule, Option<String>) {
    let reading =
        of("iptables-save.txt", &format!("*filter\n:INPUT DROP [0:0]\n:X - [0:0]\n{text}\nCOMMIT\n"));
    let chain = &reading.facts.filters[0].chains[0];
    (chain.rules[0].clone(), reading.ledger.notes.first().map(|note| note.text.clone()))
}

#[test]
fn conditions() {
    for (text, wanted) in [
        ("-s 10.4.0.0/16", "Source([10.4.0.0-10.4.255.255])"),
        ("! -s 10.4.0.1", "!Source([10.4.0.1])"),
        ("-s ! 10.4.0.1", "!Source([10.4.0.1])"),
        ("-d 10.4.0.0/255.255.255.0,10.5.0.1", "Destination([10.4.0.0-10.4.0.255, 10.5.0.1])"),
        ("-i eth0 ! -o ppp+", "Entering(\"eth0\") !Leaving(\"ppp+\")"),
        ("-p tcp -m tcp --dport 22", "tcp DestinationPorts([22])"),
        ("-p udp --sport 1024:", "udp SourcePorts([1024-65535])"),
        ("-p tcp -m multiport --dports 80,443,8000:8100", "tcp DestinationPorts([80, 443, 8000-8100])"),
        ("-p 47", "gre"),
        ("-p all", ""),
        ("! -p icmp", "!icmp"),
        ("-m conntrack --ctstate RELATED,ESTABLISHED", "states established related"),
        ("-m state --state NEW", "states new"),
        ("-p tcp -m tcp --tcp-flags FIN,SYN,RST,ACK SYN", "tcp flags 23/2"),
        ("-p tcp --syn", "tcp flags 23/2"),
        ("-m iprange --src-range 10.4.0.9-10.4.0.20", "Source([10.4.0.9-10.4.0.20])"),
        ("-p icmp -m icmp --icmp-type 8", "icmp Icmp([IcmpRange { first: 2048, last: 2303 }])"),
        ("-m limit --limit 3/min --limit-burst 5", "?limit --limit 3/min --limit-burst 5"),
        ("-m set ! --match-set admins src", "!?set --match-set admins src"),
        ("-m conntrack --ctstatus DNAT", "?conntrack --ctstatus DNAT"),
        ("-m recent --rcheck --seconds 60 -i eth0", "?recent --rcheck --seconds 60 Entering(\"eth0\")"),
        ("-m comment --comment \"a \\\"b\\\" -j\"", ""),
        ("-m mark --mark 0x1/0x1", "?mark --mark 0x1/0x1"),
    ] {
        let (rule, note) = rule(&format!("-A INPUT {text} -j ACCEPT"));
        assert_eq!(rule.matches.iter().map(show).collect::<Vec<_>>().join(" "), wanted, "{text}");
        assert_eq!((rule.target, note), (Target::Accept, None), "{text}");
    }
}

fn show(one: &trevlin_model::Match) -> String {
    let text = match &one.kind {
        MatchKind::Protocol(protocol) => protocol.name(),
        MatchKind::States(states) => {
            let all = [("new", states.new), ("established", states.established), ("related", states.related)];
            format!(
                "states {}",
                all.iter().filter(|one| one.1).map(|one| one.0).collect::<Vec<_>>().join(" ")
            )
        }
        MatchKind::TcpFlags { looked_at, set } => format!("flags {looked_at}/{set}"),
        MatchKind::NotAnalysed(text) => format!("?{text}"),
        MatchKind::DestinationPorts(ports) => format!("DestinationPorts({})", list(ports)),
        MatchKind::SourcePorts(ports) => format!("SourcePorts({})", list(ports)),
        other => format!("{other:?}"),
    };
    format!("{}{text}", if one.negated { "!" } else { "" })
}

fn list(ports: &[trevlin_model::PortRange]) -> String {
    format!("[{}]", ports.iter().map(ToString::to_string).collect::<Vec<_>>().join(", "))
}

#[test]
fn targets() {
    for (text, wanted) in [
        ("-j DROP", Target::Drop),
        ("-j REJECT --reject-with icmp-port-unreachable", Target::Reject),
        ("-j X", Target::Jump("X".into())),
        ("-g X", Target::Goto("X".into())),
        ("-j LOG --log-prefix \"in: \" --log-level 4", Target::Log),
        ("-j MARK --set-xmark 0x1/0xffffffff", Target::NotAnalysed { name: "MARK".into(), ends: false }),
        ("-j NFQUEUE --queue-num 0", Target::NotAnalysed { name: "NFQUEUE".into(), ends: true }),
        ("", Target::Continue),
    ] {
        let (rule, note) = rule(&format!("[12:34] -A INPUT -i eth0 {text}"));
        assert_eq!((rule.target, note, rule.packets), (wanted, None, Some(12)), "{text}");
    }
}

#[test]
fn forwards_are_those_that_packets_reach() {
    let reading = of(
        "iptables-save.txt",
        "*nat\n:PREROUTING ACCEPT [0:0]\n:IN - [0:0]\n:DEAD - [0:0]\n\
         -A PREROUTING -i eth0 -j IN\n\
         -A IN -d 192.0.2.9/32 -p tcp -m tcp --dport 1723 -j DNAT --to-destination 10.4.0.5\n\
         -A IN -s 198.51.100.0/24 -p udp -m multiport --dports 53,1194 -j DNAT --to-destination 10.4.0.6:1194\n\
         -A IN -p tcp --dport 8080 -j REDIRECT --to-ports 80\n\
         -A DEAD -p tcp --dport 1 -j DNAT --to-destination 10.4.0.5\n\
         -A OUTPUT -p tcp --dport 2 -j DNAT --to-destination 10.4.0.5\nCOMMIT\n",
    );
    let told: Vec<_> = reading
        .facts
        .forwards
        .iter()
        .map(|one| {
            let to = one.to.addresses.map_or("self".into(), |range| range.to_string());
            let port = one.to.ports.map_or(String::new(), |ports| format!(":{ports}"));
            format!(
                "{} {:?} {} {} -> {to}{port}",
                one.protocol.name(),
                one.from,
                one.entering.as_deref().unwrap_or("-"),
                list(&one.ports)
            )
        })
        .collect();
    assert_eq!(
        told,
        [
            "tcp [] eth0 [1723] -> 10.4.0.5",
            "udp [198.51.100.0-198.51.100.255] eth0 [53, 1194] -> 10.4.0.6:1194",
            "tcp [] eth0 [8080] -> self:80",
        ]
    );
    assert_eq!(reading.facts.forwards[2].to.kind, TranslationKind::Redirect);
}

#[test]
fn commands_besides_append() {
    let reading = of(
        "rules.v4",
        "*filter\n-P INPUT DROP\n-N X\n-A INPUT -i a -j DROP\n-I INPUT -i b -j DROP\n-I INPUT 2 -i c -j DROP\n-D INPUT -i a -j DROP\n-Z\nCOMMIT\n",
    );
    let chain = reading.facts.filters[0].chain("INPUT").unwrap();
    let order: Vec<_> = chain.rules.iter().map(|rule| show(&rule.matches[0])).collect();
    assert_eq!(order, ["Entering(\"b\")", "Entering(\"c\")"]);
    assert_eq!(chain.policy, Some(Target::Drop));
    assert!(reading.facts.filters[0].complete);
}

#[test]
fn what_is_broken_is_named_and_the_rest_is_read() {
    for (text, line, part, complete) in [
        ("*filter\n:INPUT DROP [0:0]\n-A INPUT -i lo -j ACC", 1, "breaks off", false),
        ("*filter\n:INPUT DROP [0:0]\n-A INPUT -s 10.4.0.300 -j DROP\nCOMMIT\n", 3, "not a value", false),
        ("*filter\n:INPUT MAYBE [0:0]\nCOMMIT\n", 2, "no policy", false),
        ("*filter\n:INPUT DROP [0:0]\n-A INPUT -j GONE\nCOMMIT\n", 3, "not in this dump", true),
        (
            "*filter\nwhat is this\nCOMMIT\n",
            2,
            "` is not a command of iptables-restore; expected `-A CHAIN …`",
            false,
        ),
        ("*filter\n-A INPUT -m comment --comment \"open -j DROP\nCOMMIT\n", 2, "not closed", false),
        ("*filter\nCOMMIT\n-A INPUT -j DROP\n", 3, "expected a `*table`", false),
        ("*filter\n:INPUT DROP [0:0]\nCOMMIT\n*filter\nCOMMIT\n", 4, "occurs twice", true),
    ] {
        let export = Export::new(ExportId(0), "iptables-save.txt", text.into());
        let reading = read(&export, &ReadContext::default());
        let note = reading.ledger.notes.first().unwrap_or_else(|| panic!("{text}"));
        assert!(note.text.contains(part), "{text}: {}", note.text);
        assert_eq!(export.line_of(note.origin.start), line, "{text}");
        assert_eq!(reading.facts.filters[0].complete, complete, "{text}");
    }
}

#[test]
fn ip_version_and_state() {
    for (path, text, family, state) in [
        ("d/iptables-save.txt", "*filter\nCOMMIT\n", Family::V4, ExportState::Running),
        ("d/etc/iptables/rules.v6", "*filter\nCOMMIT\n", Family::V6, ExportState::Stored),
        (
            "d/etc/iptables/rules.v4",
            "# Generated by iptables-save v1.8.9\n*filter\nCOMMIT\n",
            Family::V4,
            ExportState::Stored,
        ),
        (
            "d/fw.txt",
            "# Generated by ip6tables-save v1.8.9\n*filter\nCOMMIT\n",
            Family::V6,
            ExportState::Running,
        ),
        ("d/fw.txt", "*filter\n-A INPUT -p ipv6-icmp -j ACCEPT\nCOMMIT\n", Family::V6, ExportState::Running),
    ] {
        let filter = &of(path, text).facts.filters[0];
        assert_eq!((filter.families, filter.state), (family.into(), state), "{path}");
    }
}

#[test]
fn rules_of_the_older_form_are_missed() {
    let reading = of(
        "fw.txt",
        "# Warning: iptables-legacy tables present, use iptables-legacy-save to see them\n*filter\nCOMMIT\n",
    );
    assert!(reading.facts.not_analysed[0].what.contains("ruleset"));
    assert_eq!(reading.ledger.count(LineClass::NotUnderstood), 1);
}

#[test]
fn ipv6_rules() {
    let reading = of(
        "ip6tables-save.txt",
        "*nat\n-A PREROUTING -d 2001:db8::9/128 -p tcp --dport 443 -j DNAT --to-destination [2001:db8:4::5]:8443\nCOMMIT\n",
    );
    let forward = &reading.facts.forwards[0];
    assert_eq!(forward.to.addresses.unwrap().to_string(), "2001:db8:4::5");
    assert_eq!(forward.to.ports.unwrap().to_string(), "8443");
}

#[test]
fn what_is_not_legible_may_have_been_anything() {
    for text in ["-i eth\u{fffd} -j ACCEPT", "-p tcp --dport 22 -j ACC\u{fffd}PT", "-i eth0\u{fffd}~"] {
        let (rule, note) = rule(&format!("-A INPUT {text}"));
        assert!(note.is_some(), "{text}");
        let open = |one: &trevlin_model::Match| matches!(one.kind, MatchKind::NotAnalysed(_));
        assert!(rule.matches.iter().all(open) && rule.target == Target::not_understood(), "{text}: {rule:?}");
    }
    let (rule, note) = rule("-A INPUT -i eth0 -m comment --comment \"f\u{fffd}r b\u{fffd}ro\" -j ACCEPT");
    assert_eq!((rule.target, note), (Target::Accept, None), "a remark decides nothing");
}
