use super::*;
use trevlin_model::served::AuthRequirement;
use trevlin_model::{ExportId, Facts, Hook, IpRange, Match, MatchKind, Rule, Setting, Target};

fn of(text: &str) -> Reading {
    let export = Export::new(ExportId(0), "d/uci.txt", text.into());
    read(&export, &ReadContext::of(vec![&export]))
}

const NETWORK: &str = "package network\nconfig interface lan\n\toption device br-lan\n\toption proto static\n\toption ipaddr 10.40.4.1\n\
                       \toption netmask 255.255.255.0\nconfig interface wan\n\toption proto pppoe\n\toption device eth1\n\
                       \toption password Sesame-9\nconfig interface wan6\n\toption device @wan\n\toption proto dhcpv6\n";

const ZONES: &str = "package firewall\nconfig defaults\n\toption input REJECT\n\toption output ACCEPT\n\toption forward REJECT\n\
                     config zone\n\toption name lan\n\tlist network lan\n\toption input ACCEPT\n\toption output ACCEPT\n\
                     \toption forward ACCEPT\nconfig zone\n\toption name wan\n\tlist network wan\n\tlist network wan6\n\
                     \toption input DROP\n\toption output ACCEPT\n\toption forward REJECT\n\toption masq 1\n";

fn conditions(matches: &[Match]) -> String {
    let one = |one: &Match| {
        let text = match &one.kind {
            MatchKind::Entering(name) => format!("in {name}"),
            MatchKind::Leaving(name) => format!("out {name}"),
            MatchKind::Source(all) => {
                format!("from {}", all.iter().map(IpRange::short).collect::<Vec<_>>().join(","))
            }
            MatchKind::Destination(all) => {
                format!("to {}", all.iter().map(IpRange::short).collect::<Vec<_>>().join(","))
            }
            MatchKind::Protocol(protocol) => protocol.name(),
            MatchKind::DestinationPorts(all) => {
                all.iter().map(ToString::to_string).collect::<Vec<_>>().join(",")
            }
            MatchKind::States(states) if states.dnat => "dnat".into(),
            MatchKind::States(states) if states.invalid => "invalid".into(),
            MatchKind::States(_) => "known".into(),
            MatchKind::Version(family) => format!("{family}"),
            MatchKind::AnyOf(lists) => {
                let each: Vec<String> = lists.iter().map(|list| conditions(list)).collect();
                format!("({})", each.join(" | "))
            }
            MatchKind::NotAnalysed(what) => format!("?{what}"),
            other => format!("{other:?}"),
        };
        if one.negated { format!("not {text}") } else { text }
    };
    matches.iter().map(one).collect::<Vec<_>>().join(" ")
}

fn told(rule: &Rule) -> String {
    let target = match &rule.target {
        Target::Jump(name) => format!("-> {name}"),
        Target::Translate(how) => {
            let to = how.addresses.map(|range| range.short()).unwrap_or_default();
            format!("{:?} {to}{}", how.kind, how.ports.map(|ports| format!(":{ports}")).unwrap_or_default())
        }
        other => format!("{other:?}"),
    };
    format!("{} {target}", conditions(&rule.matches)).trim().to_owned()
}

fn chain(facts: &Facts, name: &str) -> Vec<String> {
    let found = facts.filters[0].chains.iter().find(|chain| chain.name == name);
    found.map(|chain| chain.rules.iter().map(told).collect()).unwrap_or_default()
}

#[test]
fn zones_become_chains() {
    let reading = of(&format!("{NETWORK}{ZONES}config forwarding\n\toption src lan\n\toption dest wan\n"));
    assert!(reading.ledger.notes.is_empty(), "{:?}", reading.ledger.notes);
    let facts = &reading.facts;
    for (name, wanted) in [
        (
            "input",
            &[
                "in lo Accept",
                "known Accept",
                "in br-lan -> input_lan",
                "in pppoe-wan -> input_wan",
                "-> handle_reject",
            ][..],
        ),
        (
            "forward",
            &["known Accept", "in br-lan -> forward_lan", "in pppoe-wan -> forward_wan", "-> handle_reject"],
        ),
        (
            "output",
            &["out lo Accept", "known Accept", "out br-lan -> output_lan", "out pppoe-wan -> output_wan"],
        ),
        ("forward_lan", &["-> accept_to_wan", "-> accept_to_lan"]),
        ("forward_wan", &["-> reject_to_wan"]),
        ("input_wan", &["-> drop_from_wan"]),
        ("drop_from_wan", &["in pppoe-wan Drop"]),
        ("reject_to_wan", &["out pppoe-wan -> handle_reject"]),
        ("accept_to_wan", &["out pppoe-wan IPv4 invalid Drop", "out pppoe-wan Accept"]),
        ("srcnat", &["out pppoe-wan -> srcnat_wan"]),
        ("srcnat_wan", &["IPv4 Masquerade"]),
    ] {
        assert_eq!(chain(facts, name), wanted, "{name}");
    }
    let policies: Vec<_> = facts.filters[0].chains.iter().filter(|chain| chain.hook.is_some()).collect();
    assert_eq!(
        policies.iter().map(|chain| chain.hook).collect::<Vec<_>>()[..2],
        [Some(Hook::Input), Some(Hook::Forward)]
    );
    assert!(policies[..2].iter().all(|chain| chain.policy == Some(Target::Drop)));
}

#[test]
fn rules_go_to_the_chain_of_their_zones() {
    for (options, name, wanted) in [
        ("src wan\n\toption proto tcp\n\toption dest_port 22", "input_wan", "tcp 22 Accept"),
        ("src wan\n\toption dest_port 53", "input_wan", "(tcp 53 | udp 53) Accept"),
        ("src wan\n\toption proto all", "input_wan", "Accept"),
        ("src '*'\n\toption proto esp", "input", "esp Accept"),
        (
            "src wan\n\toption dest lan\n\toption proto tcp\n\toption dest_ip 10.40.4.9",
            "forward_wan",
            "to 10.40.4.9 tcp -> accept_to_lan",
        ),
        ("src wan\n\toption dest '*'\n\toption proto udp", "forward_wan", "udp Accept"),
        ("src '*'\n\toption dest lan\n\toption proto udp", "forward", "udp -> accept_to_lan"),
        ("dest wan\n\toption proto udp", "output_wan", "udp Accept"),
        (
            "src lan\n\toption src_ip '!10.40.4.9'\n\toption proto udp",
            "input_lan",
            "not from 10.40.4.9 udp Accept",
        ),
        ("src lan\n\toption src_ip lan\n\toption proto udp", "input_lan", "from 10.40.4.0/24 udp Accept"),
        (
            "src wan\n\toption proto udp\n\toption start_time 08:00",
            "input_wan",
            "udp ?the time of day Accept",
        ),
        ("src wan\n\toption family ipv6\n\toption proto icmp", "input_wan", "IPv6 icmpv6 Accept"),
        (
            "src wan\n\toption proto udp\n\toption ipset bad",
            "input_wan",
            "udp ?the list bad, which is not in the export Accept",
        ),
    ] {
        let reading =
            of(&format!("{NETWORK}{ZONES}config rule\n\toption target ACCEPT\n\toption {options}\n"));
        let rules = chain(&reading.facts, name);
        assert!(rules.contains(&wanted.to_owned()), "{options}: {rules:?} {:?}", reading.ledger.notes);
    }
}

#[test]
fn zones_of_one_version() {
    let reading = of(&format!(
        "{NETWORK}{ZONES}config zone\n\toption name old\n\tlist device eth9\n\toption family ipv4\n"
    ));
    assert!(chain(&reading.facts, "input").contains(&"IPv4 in eth9 -> input_old".to_owned()));
}

#[test]
fn what_the_firewall_leaves_out_is_told() {
    for (section, part) in [
        ("config rule\n\toption src dmz\n\toption target ACCEPT\n", "no zone `dmz`"),
        (
            "config rule\n\toption src wan\n\toption src_ip 10.4.0.300\n\toption target ACCEPT\n",
            "not an address",
        ),
        ("config rule\n\toption src wan\n\toption dest_port 70000\n\toption target ACCEPT\n", "not a port"),
        ("config rule\n\toption src wan\n\toption target ALLOW\n", "not a target"),
        ("config forwarding\n\toption dest wan\n", "no `src`"),
        ("config zone\n\toption input ACCEPT\n", "no `name`"),
        ("config surprise\n\toption a b\n", "not a section"),
    ] {
        let reading = of(&format!("{NETWORK}{ZONES}{section}"));
        let notes: Vec<&str> = reading.ledger.notes.iter().map(|note| note.text.as_str()).collect();
        assert!(notes.len() == 1 && notes[0].contains(part), "{section}: {notes:?}");
    }
    let off = of(&format!(
        "{NETWORK}{ZONES}config rule\n\toption enabled 0\n\toption src wan\n\toption target ACCEPT\n"
    ));
    assert_eq!(chain(&off.facts, "input_wan"), ["-> drop_from_wan"]);
}

#[test]
fn redirects_and_lists() {
    let reading = of(&format!(
        "{NETWORK}{ZONES}config redirect\n\toption src wan\n\toption src_dport 8443\n\toption dest lan\n\toption dest_ip 10.40.4.60\n\
         \toption dest_port 443\n\toption proto tcp\nconfig ipset\n\toption name bad\n\toption match src_net\n\tlist entry 203.0.113.0/24\n\
         config rule\n\toption src wan\n\toption ipset bad\n\toption proto all\n\toption target DROP\n"
    ));
    let facts = &reading.facts;
    assert_eq!(chain(facts, "dstnat"), ["in pppoe-wan -> dstnat_wan"]);
    assert_eq!(chain(facts, "dstnat_wan"), ["IPv4 tcp 8443 Destination 10.40.4.60:443"]);
    assert_eq!(chain(facts, "forward_wan"), ["dnat Accept", "-> reject_to_wan"]);
    assert_eq!(chain(facts, "input_wan"), ["from 203.0.113.0/24 Drop", "dnat Accept", "-> drop_from_wan"]);
    assert_eq!((facts.forwards.len(), facts.filters[0].sets[0].used_at.len()), (1, 1));
}

#[test]
fn networks_and_what_is_handed_out() {
    let reading = of(&format!(
        "{NETWORK}config route\n\toption interface lan\n\toption target 10.50.0.0\n\toption netmask 255.255.0.0\n\
         \toption gateway 10.40.4.2\npackage dhcp\nconfig dhcp lan\n\toption interface lan\n\toption start 100\n\toption limit 50\n\
         config host\n\toption name printer\n\toption ip 10.40.4.300\n"
    ));
    let facts = &reading.facts;
    let names: Vec<&str> = facts.stored_interfaces.iter().map(|one| one.name.as_str()).collect();
    assert_eq!(names, ["br-lan", "pppoe-wan"]);
    assert_eq!(facts.stored_routes[0].destination.to_string(), "10.50.0.0/16");
    assert_eq!(facts.dhcp_servers[0].subnets[0].ranges[0].0.to_string(), "10.40.4.100-10.40.4.149");
    assert!(reading.ledger.notes.iter().any(|note| note.text.contains("10.40.4.300")));
    assert!(!format!("{reading:?}").contains("Sesame"));
}

#[test]
fn secure_shell() {
    let connection = trevlin_model::ssh::SshConnection::default();
    for (options, passwords, root) in [
        ("", "yes", "yes"),
        ("\toption PasswordAuth off\n", "no", "prohibit-password"),
        ("\toption RootPasswordAuth 0\n", "yes", "prohibit-password"),
        ("\toption RootLogin 0\n", "yes", "no"),
    ] {
        let reading = of(&format!("package dropbear\nconfig dropbear\n\toption Port 22\n{options}"));
        let server = &reading.facts.ssh_servers[0];
        let said = |keyword: &str| match server.effective(keyword, &connection) {
            Setting::Stated { value, .. } => value.join(" "),
            other => format!("{other:?}"),
        };
        assert_eq!(
            (said("passwordauthentication"), said("permitrootlogin")),
            (passwords.into(), root.into()),
            "{options}"
        );
        assert!(matches!(server.effective("ciphers", &connection), Setting::Unknown { .. }));
    }
    assert!(of("package dropbear\nconfig dropbear\n\toption enable 0\n").facts.ssh_servers.is_empty());
}

#[test]
fn radios_tunnels_and_services() {
    for (encryption, wanted) in [
        ("none", "Open"),
        ("psk2", "Wpa2Passphrase"),
        ("psk+tkip", "Wpa tkip"),
        ("psk2+tkip+ccmp", "Wpa2Passphrase tkip"),
        ("sae", "Wpa3Passphrase"),
        ("sae-mixed", "Wpa2Passphrase"),
        ("wpa2", "Wpa2Login"),
        ("owe", "Encrypted"),
    ] {
        let text = format!(
            "package wireless\nconfig wifi-iface a\n\toption ssid quay\n\toption encryption {encryption}\n\toption key Sesame-9\n"
        );
        let reading = of(&text);
        let radio = &reading.facts.radios[0];
        let found = format!("{:?}{}", radio.protection, if radio.tkip.is_some() { " tkip" } else { "" });
        assert_eq!(found, wanted, "{encryption}");
    }
    let reading = of(
        "package openvpn\nconfig openvpn desks\n\toption enabled 1\n\toption dev tun\n\toption server '10.8.0.0 255.255.255.0'\n\
                      \toption ca a\n\toption cert b\n\toption key c\n\toption dh none\n\toption persist_tun 1\n\toption client_to_client 0\n\
                      package upnpd\nconfig upnpd config\n\toption enabled 1\n\toption secure_mode 0\n\
                      package samba4\nconfig sambashare\n\toption name logs\n\toption path /mnt\n\toption guest_ok yes\n\toption read_only no\n\
                      package snmpd\nconfig com2sec p\n\toption secname ro\n\toption source default\n\toption community Sesame-9\n\
                      package mystery\nconfig a\n\toption b c\n",
    );
    let facts = &reading.facts;
    assert_eq!((facts.tunnels.len(), facts.port_mappers[0].own_only), (1, false));
    let asked: Vec<_> =
        facts.served.iter().map(|one| (one.program, one.parts[0].login.value().copied())).collect();
    assert_eq!(
        asked,
        [("Samba", Some(AuthRequirement::Nothing)), ("Net-SNMP", Some(AuthRequirement::Community))]
    );
    assert_eq!(reading.ledger.notes.len(), 1, "{:?}", reading.ledger.notes);
    assert!(!format!("{reading:?}").contains("Sesame"));
}

#[test]
fn ipsec() {
    let reading = of(
        "package ipsec\nconfig crypto_proposal old\n\toption encryption_algorithm 3des\n\toption hash_algorithm sha1\n\
                      \toption dh_group modp1024\nconfig remote yard\n\toption enabled 1\n\toption gateway 198.51.100.9\n\
                      \toption pre_shared_key Sesame-9\n\toption keyexchange ikev1\n\tlist crypto_proposal old\n\tlist tunnel lans\n\
                      config tunnel lans\n\toption local_subnet 10.40.4.0/24\n\toption remote_subnet 10.50.4.0/24\n",
    );
    let tunnel = &reading.facts.tunnels[0];
    let connection = tunnel.ipsec.as_ref().unwrap();
    assert_eq!(
        (connection.children.len(), tunnel.offers[0].algorithms.len(), tunnel.addresses.remote.len()),
        (1, 3, 1)
    );
    assert_eq!(reading.facts.pre_shared_keys[0].identities, ["198.51.100.9"]);
    assert!(!format!("{reading:?}").contains("Sesame"));
}

#[test]
fn a_firewall_without_its_networks_stands_by_their_names() {
    let text = "config zone\n\toption name 'wan'\n\tlist network 'uplink'\n\toption input 'REJECT'\n\nconfig redirect\n\toption src 'wan'\n\toption proto 'tcp'\n\toption src_dport '8443'\n\toption dest_ip '10.20.4.9'\n\toption dest_port '443'\n";
    let export = Export::new(ExportId(0), "gate/etc/config/firewall", text.into());
    let reading = read(&export, &ReadContext::of(vec![&export]));
    assert_eq!(reading.facts.forwards.len(), 1);
    assert_eq!(reading.facts.forwards[0].entering.as_deref(), Some("uplink"));
    assert!(reading.ledger.notes.iter().any(|note| note.text.contains("/etc/config/network")));
}

#[test]
fn rules_of_another_file_go_into_the_chain_that_is_named() {
    let include = |position: &str| {
        format!(
            "{ZONES}config include\n\toption type nftables\n\toption path /etc/x.nft\n\toption position {position}\n\toption chain input_wan\n"
        )
    };
    let more = "# ours\ntcp dport 7681 accept\nip saddr 192.0.2.1 drop\n";
    for (position, exported, wanted) in [
        ("chain-pre", true, "7681 Accept"),
        ("chain-post", true, "IPv4 192.0.2.1 Drop"),
        // Where it is not among the exports, or jumps elsewhere, its effect is not known.
        ("chain-pre", false, "open"),
        ("table-post", true, "open"),
    ] {
        let main = Export::new(ExportId(0), "d/etc/config/firewall", include(position));
        let other = Export::new(ExportId(1), "d/etc/x.nft", more.into());
        let all = if exported { vec![&main, &other] } else { vec![&main] };
        let reading = read(&main, &ReadContext::of(all));
        let facts = &reading.facts;
        let chain = facts.filters[0].chain("input_wan").unwrap();
        let rule = if position == "chain-pre" { chain.rules.first() } else { chain.rules.last() };
        let found = match facts.not_analysed.iter().any(|one| one.filters_packets && one.apart) {
            true => "open".to_owned(),
            false => rule.map_or(String::new(), |rule| {
                format!(
                    "{} {:?}",
                    conditions(&rule.matches).replace("tcp ", "").replace("from ", ""),
                    rule.target
                )
            }),
        };
        assert_eq!(found, wanted, "{position}");
    }
}
