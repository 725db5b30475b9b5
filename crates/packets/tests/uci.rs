//! Sections of OpenWrt's firewall against the rules that it loads for them: the chains that filter have the same effect on every packet,
//! and those of translation the same rules.

#![allow(clippy::unwrap_used, reason = "a test: it panics where something is wrong")]

use trevlin_model::{Chain, Export, ExportId, Filter, Hook};
use trevlin_packets::Space;
use trevlin_packets::diagram::Diagrams;
use trevlin_packets::outcomes::outcomes;
use trevlin_readers::{ReadContext, recognise};

const NETWORK: &str = "package network\nconfig interface lan\n\toption device br-lan\n\toption proto static\n\toption ipaddr 10.40.4.1\n\
                       \toption netmask 255.255.255.0\nconfig interface wan\n\toption proto pppoe\n\toption device eth1\n";

const ZONES: &str = "package firewall\nconfig defaults\n\toption input REJECT\n\toption output ACCEPT\n\toption forward REJECT\n\
                     config zone\n\toption name lan\n\tlist network lan\n\toption input ACCEPT\n\toption output ACCEPT\n\
                     \toption forward ACCEPT\nconfig zone\n\toption name wan\n\tlist network wan\n\
                     \toption input DROP\n\toption output ACCEPT\n\toption forward REJECT\n\toption masq 1\n";

/// The ruleset that the firewall loads for these zones; a name in angles stands for the rules of a case.
const SKELETON: &str = "table inet fw4 {
 chain input { type filter hook input priority filter; policy drop;
  iif \"lo\" accept
  ct state established,related accept
<input>
  iifname \"br-lan\" jump input_lan
  iifname \"pppoe-wan\" jump input_wan
<zones>
  jump handle_reject
 }
 chain forward { type filter hook forward priority filter; policy drop;
  ct state established,related accept
<forward>
  iifname \"br-lan\" jump forward_lan
  iifname \"pppoe-wan\" jump forward_wan
<forward_zones>
  jump handle_reject
 }
 chain output { type filter hook output priority filter; policy accept;
  oif \"lo\" accept
  ct state established,related accept
<output>
  oifname \"br-lan\" jump output_lan
  oifname \"pppoe-wan\" jump output_wan
 }
 chain handle_reject {
  meta l4proto tcp reject with tcp reset
  reject with icmpx type port-unreachable
 }
 chain input_lan {
<input_lan>
  iifname \"br-lan\" accept
 }
 chain output_lan {
<output_lan>
  jump accept_to_lan
 }
 chain forward_lan {
<forward_lan>
  jump accept_to_lan
 }
 chain accept_to_lan {
  oifname \"br-lan\" accept
 }
 chain input_wan {
<input_wan>
  iifname \"pppoe-wan\" drop
 }
 chain output_wan {
<output_wan>
  jump accept_to_wan
 }
 chain forward_wan {
<forward_wan>
  oifname \"pppoe-wan\" jump handle_reject
 }
 chain accept_to_wan {
  meta nfproto ipv4 oifname \"pppoe-wan\" ct state invalid drop
  oifname \"pppoe-wan\" accept
 }
";

fn filter(path: &str, text: &str) -> Filter {
    let export = Export::new(ExportId(0), format!("d/{path}"), text.into());
    let reader = recognise(&export).reader.unwrap();
    let reading = (reader.read)(&export, &ReadContext::of(vec![&export]));
    assert!(reading.ledger.notes.is_empty(), "{:?}\n{text}", reading.ledger.notes);
    reading.facts.filters.into_iter().next().unwrap()
}

/// The loaded ruleset of a case.
fn loaded(rules: &[(&str, &str)]) -> String {
    let of = |chain: &str| -> String {
        let own = rules.iter().filter(|(name, _)| *name == chain);
        own.map(|(_, rule)| format!("  {}\n", rule.replace("accept_to lan", "oifname \"br-lan\" accept")))
            .collect()
    };
    let mut text: String = SKELETON
        .lines()
        .map(|line| match line.strip_prefix('<').and_then(|rest| rest.strip_suffix('>')) {
            Some(chain) => of(chain),
            None => format!("{line}\n"),
        })
        .collect();
    let mut more: Vec<&str> = rules
        .iter()
        .map(|(name, _)| *name)
        .filter(|name| name.contains("nat_") || name.starts_with("chain "))
        .collect();
    more.dedup();
    for name in more {
        text.push_str(&format!(" chain {} {{\n{} }}\n", name.trim_start_matches("chain "), of(name)));
    }
    text + "}\n"
}

/// Whether two base chains do the same to every packet.
fn alike(one: (&Filter, &Chain), other: (&Filter, &Chain)) -> bool {
    const NODES: usize = 2_000_000;
    one.0.families.each().all(|family| {
        let space = Space::new(family, &[one.0, other.0], &[]);
        let mut sets = Diagrams::new(&space.greatest(), NODES);
        let first = outcomes(&space, one.0, one.1, &mut sets).unwrap();
        let second = outcomes(&space, other.0, other.1, &mut sets).unwrap();
        first == second
    })
}

#[test]
fn sections_are_what_the_firewall_loads() {
    let text = include_str!("uci_cases.txt");
    let mut count = 0;
    for case in text.split("\n= ").skip(1) {
        let (name, rest) = case.split_once('\n').unwrap();
        let (sections, rules) = rest.split_once("--\n").unwrap_or((rest.trim_end_matches("--"), ""));
        let rules: Vec<(&str, &str)> = rules.lines().filter_map(|line| line.split_once(": ")).collect();
        let own = filter("uci.txt", &format!("{NETWORK}{ZONES}{sections}"));
        let wanted = filter("nft.txt", &loaded(&rules));
        for hook in [Hook::Input, Hook::Forward, Hook::Output] {
            let base =
                |filter: &Filter| filter.chains.iter().position(|chain| chain.hook == Some(hook)).unwrap();
            let (one, other) = (&own.chains[base(&own)], &wanted.chains[base(&wanted)]);
            assert!(alike((&own, one), (&wanted, other)), "{name}: {hook:?}");
        }
        let translating = |filter: &Filter| -> Vec<Chain> {
            let all =
                filter.chains.iter().filter(|chain| chain.name.contains("nat_") && !chain.rules.is_empty());
            all.cloned().collect()
        };
        let mut expected = translating(&wanted);
        // Every case masks what leaves by the zone wan.
        if !expected.iter().any(|chain| chain.name == "srcnat_wan") {
            let masks = loaded(&[("srcnat_wan", "meta nfproto ipv4 masquerade")]);
            expected.extend(translating(&filter("nft.txt", &masks)));
        }
        let found = translating(&own);
        assert_eq!(found.len(), expected.len(), "{name}");
        for chain in &expected {
            let own = found
                .iter()
                .find(|one| one.name == chain.name)
                .unwrap_or_else(|| panic!("{name}: {}", chain.name));
            let same = own.rules.len() == chain.rules.len()
                && own.rules.iter().zip(&chain.rules).all(|(one, other)| one.says_the_same(other));
            assert!(same, "{name}: {}\n{:#?}\n{:#?}", chain.name, own.rules, chain.rules);
        }
        count += 1;
    }
    assert!(count >= 40, "{count}");
}
