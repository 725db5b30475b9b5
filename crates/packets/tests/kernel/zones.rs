//! Zones and policies compared with firewalld itself: it is started in a namespace with the same files, and its rules must have the sets of
//! the reader's tables.

use crate::net::Net;
use std::path::Path;
use trevlin_model::{Export, ExportId, Family, Filter, Hook};
use trevlin_packets::Space;
use trevlin_packets::diagram::Diagrams;
use trevlin_packets::outcomes::outcomes;
use trevlin_readers::{ReadContext, Reading, recognise};

type Files = &'static [(&'static str, &'static str)];

/// Configurations, by tested feature.
const CASES: [(&str, Files); 4] = [
    (
        "services, ports, masquerading, a forward, rich rules",
        &[
            ("firewalld.conf", "DefaultZone=public\nFirewallBackend=nftables\nIPv6_rpfilter=no\n"),
            (
                "zones/public.xml",
                "<zone><interface name=\"out0\"/><service name=\"ssh\"/><port port=\"8443\" protocol=\"tcp\"/><masquerade/>\
                 <source-port port=\"5353\" protocol=\"udp\"/><protocol value=\"gre\"/>\
                 <forward-port port=\"2222\" protocol=\"tcp\" to-port=\"22\" to-addr=\"10.20.4.30\"/>\
                 <rule family=\"ipv4\"><source address=\"198.51.100.7\"/><port port=\"5000-5010\" protocol=\"tcp\"/><accept/></rule>\
                 <rule family=\"ipv4\"><source address=\"198.51.100.0/24\" invert=\"True\"/><port port=\"9\" protocol=\"udp\"/><reject/></rule>\
                 <rule family=\"ipv4\"><source address=\"198.51.100.8\"/><drop/></rule></zone>",
            ),
            (
                "zones/internal.xml",
                "<zone><interface name=\"in0\"/><source address=\"10.9.0.0/24\"/><service name=\"samba\"/><forward/></zone>",
            ),
        ],
    ),
    (
        "targets, policies, ICMP",
        &[
            ("firewalld.conf", "DefaultZone=work\nFirewallBackend=nftables\nIPv6_rpfilter=no\n"),
            ("zones/work.xml", "<zone><service name=\"https\"/><icmp-block name=\"echo-request\"/></zone>"),
            (
                "zones/dmz.xml",
                "<zone target=\"DROP\"><interface name=\"in1\"/><icmp-block name=\"timestamp-request\"/></zone>",
            ),
            ("zones/trusted.xml", "<zone target=\"ACCEPT\"><source address=\"10.20.4.0/24\"/></zone>"),
            (
                "zones/block.xml",
                "<zone target=\"%%REJECT%%\"><interface name=\"dial0\"/><icmp-block-inversion/><icmp-block name=\"echo-reply\"/></zone>",
            ),
            (
                "policies/lan.xml",
                "<policy target=\"ACCEPT\" priority=\"-5\"><ingress-zone name=\"trusted\"/><egress-zone name=\"dmz\"/>\
                 <rule><port port=\"25\" protocol=\"tcp\"/><reject/></rule></policy>",
            ),
            (
                "policies/guard.xml",
                "<policy target=\"CONTINUE\" priority=\"10\"><ingress-zone name=\"ANY\"/><egress-zone name=\"HOST\"/>\
                 <service name=\"http\"/><rule family=\"ipv6\"><source address=\"2001:db8::/32\"/><drop/></rule></policy>",
            ),
        ],
    ),
    (
        "priorities of rich rules, a service of its own",
        &[
            ("firewalld.conf", "DefaultZone=public\nFirewallBackend=nftables\nIPv6_rpfilter=no\n"),
            (
                "zones/public.xml",
                "<zone><service name=\"own\"/><service name=\"dhcpv6-client\"/>\
                 <rule priority=\"5\" family=\"ipv4\"><source address=\"10.0.0.0/8\"/><accept/></rule>\
                 <rule priority=\"-5\" family=\"ipv4\"><source address=\"10.0.0.0/9\"/><service name=\"own\"/><reject/></rule>\
                 <rule family=\"ipv4\"><source address=\"10.0.0.9\"/><drop/></rule></zone>",
            ),
            (
                "services/own.xml",
                "<service><port port=\"7000\" protocol=\"tcp\"/><port port=\"7001\" protocol=\"udp\"/><include service=\"ntp\"/></service>",
            ),
        ],
    ),
    (
        "nothing but what is shipped",
        &[
            ("firewalld.conf", "DefaultZone=public\nFirewallBackend=nftables\nIPv6_rpfilter=no\n"),
            (
                "zones/home.xml",
                "<zone><interface name=\"in0\"/><service name=\"mdns\"/><service name=\"samba-client\"/></zone>",
            ),
        ],
    ),
];

const BUS: &str = "<busconfig><type>system</type><listen>unix:path=SOCKET</listen><policy context=\"default\"><allow own=\"*\"/>\
                   <allow send_destination=\"*\" eavesdrop=\"true\"/><allow eavesdrop=\"true\"/></policy></busconfig>";

/// Number of chains compared with those of firewalld, and the differences; none where it cannot be started.
pub(crate) fn compare(net: &Net) -> Option<(usize, Vec<String>)> {
    let (mut compared, mut wrong) = (0, Vec::new());
    for (what, files) in CASES {
        let (text, json) = loaded(net, files)?;
        let theirs = crate::read("nft.txt", &text).facts.filters;
        // Both forms of what it loads are read alike.
        for (one, other) in theirs.iter().zip(crate::read("nft.json", &json).facts.filters) {
            compared += 1;
            if !one.says_the_same(&other) {
                wrong.push(format!("{what}: text and JSON of table {} differ", one.table));
            }
        }
        let theirs = theirs.into_iter().find(|one| one.table == "firewalld")?;
        let ours = reading(files);
        let [ours] = ours.as_slice() else { panic!("{what}: one table") };
        for (hook, family) in
            [Hook::Input, Hook::Forward].iter().flat_map(|hook| [(hook, Family::V4), (hook, Family::V6)])
        {
            let space = Space::new(family, &[ours, &theirs], &[]);
            let mut sets = Diagrams::new(&space.greatest(), 2_000_000);
            let mut of = |filter: &Filter| {
                let chain = filter.base_chain(*hook).expect("a base chain");
                outcomes(&space, filter, chain, &mut sets).unwrap()
            };
            compared += 1;
            let (one, two) = (of(ours), of(&theirs));
            if one != two {
                let mut differ = sets.difference(one.accepted, two.accepted).unwrap();
                if differ == trevlin_packets::diagram::EMPTY {
                    differ = sets.difference(two.accepted, one.accepted).unwrap();
                }
                wrong.push(format!("{what}: {hook:?} {family}: e.g. {:?}\n{text}", sets.witness(differ)));
            }
        }
    }
    Some((compared, wrong))
}

fn reading(files: Files) -> Vec<Filter> {
    let exports: Vec<Export> = files
        .iter()
        .enumerate()
        .map(|(at, (path, text))| {
            Export::new(ExportId(at as u32), format!("etc/firewalld/{path}"), (*text).into())
        })
        .collect();
    let around = ReadContext::of(exports.iter().collect());
    let read = |export: &Export| -> Reading {
        (recognise(export).reader.expect("recognised").read)(export, &around)
    };
    let readings: Vec<Reading> = exports.iter().map(read).collect();
    for (export, reading) in exports.iter().zip(&readings) {
        assert!(reading.ledger.notes.is_empty(), "{}: {:?}", export.path(), reading.ledger.notes);
    }
    readings.into_iter().flat_map(|reading| reading.facts.filters).collect()
}

/// Chains that firewalld loads for these files, as text and as JSON.
fn loaded(net: &Net, files: Files) -> Option<(String, String)> {
    let folder = tempfile::tempdir().unwrap();
    let at = |path: &str| folder.path().join(path);
    for (path, text) in files {
        let path = at(path);
        std::fs::create_dir_all(path.parent().unwrap()).unwrap();
        std::fs::write(
            &path,
            format!(
                "{}{text}",
                if path.extension().is_some_and(|end| end == "xml") {
                    "<?xml version=\"1.0\" encoding=\"utf-8\"?>\n"
                } else {
                    ""
                }
            ),
        )
        .unwrap();
    }
    let socket = at("bus");
    std::fs::write(at("bus.conf"), BUS.replace("SOCKET", &socket.to_string_lossy())).unwrap();
    let ready = |path: &Path| {
        (0..100).any(|_| {
            path.exists() || {
                std::thread::sleep(std::time::Duration::from_millis(50));
                false
            }
        })
    };
    net.flush();
    let mut bus = net
        .spawn("dbus-daemon", &["--nofork", "--config-file", &at("bus.conf").to_string_lossy()], &[])
        .ok()?;
    let started = ready(&socket);
    let address = format!("unix:path={}", socket.to_string_lossy());
    let config = folder.path().to_string_lossy().into_owned();
    let daemon = net.spawn(
        "firewalld",
        &["--nofork", "--nopid", "--system-config", &config],
        &[("DBUS_SYSTEM_BUS_ADDRESS", &address)],
    );
    let (mut text, mut json) = (String::new(), String::new());
    if let (true, Ok(mut daemon)) = (started, daemon) {
        // It is done once the last of its tables stands and no longer changes.
        let mut before = String::new();
        for _ in 0..100 {
            std::thread::sleep(std::time::Duration::from_millis(150));
            text = net.ruleset();
            if text.contains("table inet firewalld") && text == before {
                break;
            }
            before.clone_from(&text);
        }
        json = net.ruleset_json();
        let _ = daemon.kill();
        let _ = daemon.wait();
    }
    let _ = bus.kill();
    let _ = bus.wait();
    net.flush();
    text.contains("table inet firewalld").then_some((text, json))
}
