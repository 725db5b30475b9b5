//! Small configurations and the resulting rules.

use super::*;
use trevlin_model::{ExportId, Filter, Target};

fn of(files: &[(&str, &str)]) -> Vec<Reading> {
    let exports: Vec<Export> = files
        .iter()
        .enumerate()
        .map(|(at, (path, text))| Export::new(ExportId(at as u32), *path, (*text).to_owned()))
        .collect();
    let around = ReadContext::of(exports.iter().collect());
    exports
        .iter()
        .map(|export| {
            assert_ne!(recognise(export), Recognition::No, "{}", export.path());
            read(export, &around)
        })
        .collect()
}

/// The rules of a chain, as how many there are of each target, and the table.
fn chain(filter: &Filter, name: &str) -> Vec<String> {
    let chain = filter.chain(name).unwrap_or_else(|| panic!("{name} is there"));
    chain.rules.iter().map(|rule| format!("{} {:?}", rule.matches.len(), rule.target)).collect()
}

#[test]
fn files_below_etc_stand_for_shipped_ones() {
    let readings = of(&[
        (
            "d/etc/firewalld/zones/public.xml",
            "<zone target=\"DROP\">\n <interface name=\"eth0\"/>\n <port port=\"9\" protocol=\"tcp\"/>\n</zone>\n",
        ),
        ("d/usr/lib/firewalld/zones/public.xml", "<zone>\n <service name=\"ssh\"/>\n</zone>\n"),
        ("d/usr/lib/firewalld/helpers/ftp.xml", "<helper module=\"nf_conntrack_ftp\"/>\n"),
        ("d/etc/firewalld/lockdown-whitelist.xml", "<whitelist>\n <user id=\"0\"/>\n</whitelist>\n"),
    ]);
    let filters: Vec<&Filter> = readings.iter().flat_map(|one| &one.facts.filters).collect();
    assert!(filters[0].complete);
    assert_eq!(filters[0].origin.export, ExportId(0));
    let rules = chain(filters[0], "filter_IN_public");
    assert_eq!(rules.iter().filter(|rule| rule.ends_with("Accept")).count(), 1, "{rules:?}");
    assert_eq!(rules.last().map(String::as_str), Some("0 Drop"), "{rules:?}");
}

#[test]
fn zones_become_chains() {
    let readings = of(&[
        ("d/etc/firewalld/firewalld.conf", "# x\nDefaultZone=public\n"),
        (
            "d/etc/firewalld/zones/public.xml",
            "<?xml version=\"1.0\"?>\n<zone>\n <short>Public</short>\n <interface name=\"eth0\"/>\n <service name=\"ssh\"/>\n \
             <port port=\"8000-8100\" protocol=\"tcp\"/>\n <masquerade/>\n \
             <forward-port port=\"2222\" protocol=\"tcp\" to-port=\"22\" to-addr=\"10.4.0.9\"/>\n \
             <rule family=\"ipv4\"><source address=\"10.0.0.0/8\"/><service name=\"own\"/><log/><accept/></rule>\n \
             <rule family=\"ipv4\" priority=\"-5\"><source address=\"10.9.0.0/16\"/><drop/></rule>\n</zone>\n",
        ),
        (
            "d/etc/firewalld/zones/inner.xml",
            "<zone target=\"ACCEPT\">\n <source address=\"10.4.0.0/24\"/>\n</zone>\n",
        ),
        (
            "d/etc/firewalld/services/own.xml",
            "<service>\n <port port=\"5000\" protocol=\"udp\"/>\n <include service=\"http\"/>\n</service>\n",
        ),
    ]);
    let filters: Vec<&Filter> = readings.iter().flat_map(|one| &one.facts.filters).collect();
    assert_eq!(filters.len(), 1, "the tables are handed over once");
    let filter = filters[0];
    assert!(filter.complete);
    assert_eq!(
        chain(filter, "filter_IN_public"),
        [
            "0 Jump(\"filter_INPUT_POLICIES_pre\")",
            "2 Drop",
            "4 Log",
            "4 Log",
            "2 Accept",
            "2 Accept",
            "4 Accept",
            "4 Accept",
            "0 Jump(\"filter_INPUT_POLICIES_post\")",
            "1 Accept",
            "0 Reject"
        ]
    );
    assert_eq!(chain(filter, "filter_INPUT_ZONES").len(), 3, "by source, by interface, by default");
    assert_eq!(
        filter.chain("filter_INPUT_ZONES").unwrap().rules[0].target,
        Target::Goto("filter_IN_inner".into())
    );
    assert_eq!(chain(filter, "nat_PRE_public").len(), 1);
    assert_eq!(chain(filter, "nat_POSTROUTING").len(), 1);
    assert_eq!(chain(filter, "filter_IN_inner").last().unwrap(), "0 Accept");
    for reading in &readings {
        assert!(reading.ledger.notes.is_empty(), "{:?}", reading.ledger.notes);
    }
}

#[test]
fn a_default_zone_that_was_not_exported_is_the_one_that_is_shipped() {
    let readings = of(&[("d/firewalld/zones/inner.xml", "<zone><interface name=\"eth1\"/></zone>")]);
    let filter = &readings[0].facts.filters[0];
    // The SSH, addresses of link-local hosts asking for theirs, ICMP, the end.
    assert_eq!(chain(filter, "filter_IN_public").len(), 6);
}

#[test]
fn what_is_not_known_is_told() {
    for (path, text, line) in [
        ("d/zones/a.xml", "<zone>\n <service name=\"gone\"/>\n</zone>", 2),
        ("d/zones/a.xml", "<zone>\n <port port=\"x\" protocol=\"tcp\"/>\n</zone>", 2),
        ("d/zones/a.xml", "<zone>\n <thing/>\n</zone>", 2),
        ("d/zones/a.xml", "<zone>\n <interface name=\"eth0\"/><source address=\"10.0.0.999\"/>\n</zone>", 2),
        ("d/zones/a.xml", "<zone>\n <service\n</zone>", 3),
    ] {
        let text = text.replace("<zone>", "<zone><interface name=\"eth9\"/>");
        let readings = of(&[(path, &text)]);
        assert_eq!(
            readings[0].ledger.class(line),
            Some(LineClass::NotUnderstood),
            "{text}: {:?}",
            readings[0].ledger.notes
        );
    }
}
