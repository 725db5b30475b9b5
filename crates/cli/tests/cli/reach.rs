//! The reach command.

use crate::common::{demo, folder, run};
use std::fs;

const ADDRESSES: &str = r#"[{"ifname":"lo","flags":["LOOPBACK"],"addr_info":[{"local":"127.0.0.1","prefixlen":8}]},
{"ifname":"eth0","addr_info":[{"local":"192.0.2.9","prefixlen":24}]},
{"ifname":"eth1","addr_info":[{"local":"10.4.0.1","prefixlen":24}]}]"#;
const ROUTES: &str = r#"[{"dst":"default","gateway":"192.0.2.1","dev":"eth0","flags":[]}]"#;
const RULES: &str = "table inet t {\n\
 chain pre {\n type nat hook prerouting priority dstnat;\n iifname eth0 tcp dport 8443 dnat ip to 10.4.0.20:443\n }\n\
 chain fwd {\n type filter hook forward priority filter; policy drop;\n ct state established accept\n\
 ct status dnat accept\n iifname eth1 accept\n udp dport 53 limit rate 5/second accept\n }\n\
 chain in {\n type filter hook input priority filter; policy drop;\n iifname eth1 tcp dport 22 accept\n\
 udp sport 5000-5001 accept\n }\n}\n";

fn edge() -> tempfile::TempDir {
    folder(&[("edge/ip-addr.json", ADDRESSES), ("edge/ip-route.json", ROUTES), ("edge/nft.txt", RULES)])
}

#[test]
fn the_demo_is_as_it_was() {
    let demo = demo();
    let demo = demo.to_str().unwrap();
    let question = [
        "--from",
        "outside",
        "--to",
        "192.0.2.18",
        "--proto",
        "tcp",
        "--port",
        "8443",
        "--entering",
        "harbour-edge:eth0",
    ];
    let (out, err, status) = run(&[&["reach", demo][..], &question].concat());
    assert_eq!((status, err.as_str()), (0, ""));
    insta::assert_snapshot!(out);
    let (out, _, _) = run(&[&["reach", demo][..], &question, &["--format", "json"]].concat());
    let json: serde_json::Value = serde_json::from_str(&out).unwrap();
    assert_eq!(json["verdict"], "allowed");
    assert_eq!(
        json["delivered_to"],
        serde_json::json!({ "device": "quay-storage", "address": "10.20.4.20", "port": 443 })
    );
    let lines: Vec<_> =
        json["steps"].as_array().unwrap().iter().filter_map(|step| step["line"].as_u64()).collect();
    assert_eq!(
        lines.len(),
        5,
        "a translation, a route, a jump and a rule, and a rule of the next device: {lines:?}"
    );
    assert_eq!(json["steps"].as_array().unwrap().last().unwrap()["device"], "quay-storage");
}

/// The network of a pool is the longer prefix of the two (the kernel takes the longest), so answers return by the tunnel.
#[test]
fn a_pool_that_is_part_of_a_network_is_reached_by_the_tunnel() {
    let server =
        |pool| format!("port 1194\nproto udp\ndev tun\nserver {pool}\nca a\ncert b\nkey c\ndh none\n");
    for (pool, wanted) in [("10.4.0.128 255.255.255.128", "allowed"), ("10.4.0.0 255.255.255.0", "blocked")] {
        let addresses = ADDRESSES.replace("10.4.0.1\"", "10.4.0.20\"");
        let rules = RULES.replace("iifname eth1 tcp", "tcp");
        let files = folder(&[
            ("edge/ip-addr.json", &addresses),
            ("edge/ip-route.json", ROUTES),
            ("edge/nft.txt", &rules),
            ("edge/etc/openvpn/server/office.conf", &server(pool)),
        ]);
        let estate = files.path().to_str().unwrap();
        let question =
            ["--from", "OpenVPN server (office.conf)", "--to", "10.4.0.20", "--proto", "tcp", "--port", "22"];
        let (out, err, status) = run(&[&["reach", estate][..], &question].concat());
        assert_eq!((status, err.as_str()), (0, ""), "{out}");
        assert!(out.starts_with(wanted), "{pool}: {out}");
    }
}

/// A path that is blocked in every case shows what blocks it, whatever else is missing.
#[test]
fn what_blocks_is_shown_although_a_filter_was_not_exported() {
    let server =
        "port 1194\nproto udp\ndev tun\nserver 10.4.0.0 255.255.255.0\nca a\ncert b\nkey c\ndh none\n";
    let files = folder(&[
        ("edge/ip-addr.json", ADDRESSES),
        ("edge/ip-route.json", ROUTES),
        ("edge/etc/openvpn/server/office.conf", server),
    ]);
    let estate = files.path().to_str().unwrap();
    let question =
        ["--from", "OpenVPN server (office.conf)", "--to", "192.0.2.9", "--proto", "tcp", "--port", "22"];
    let (out, _, status) = run(&[&["reach", estate][..], &question].concat());
    assert_eq!(status, 0, "{out}");
    assert!(out.starts_with("blocked") && out.contains("the reply does not return"), "{out}");
}

#[test]
fn flows_are_answered_in_order() {
    let files = edge();
    let flows = files.path().join("flows.csv");
    let rows = "from,entering,to,proto,port,expect,sport\n\
                outside,,192.0.2.9,tcp,8443,allowed,\n\
                outside,,192.0.2.9,tcp,22,blocked,\n\
                10.4.0.7,,192.0.2.9,tcp,22,allowed,\n\
                outside,,192.0.2.9,udp,9,depends,\n\
                outside,,192.0.2.9,udp,9,allowed,5000\n\
                outside,edge:eth0,10.4.0.20,udp,53,depends,\n\
                # a remark\n\
                10.4.0.7,edge:eth1,198.51.100.7,tcp,80,allowed,\n";
    fs::write(&flows, rows).unwrap();
    let estate = files.path().join("edge");
    let (estate, flows) = (estate.to_str().unwrap(), flows.to_str().unwrap());
    let (out, err, status) = run(&["reach", estate, "--flows", flows, "--format", "json"]);
    assert_eq!((status, err.as_str()), (0, ""), "{out}");
    let json: serde_json::Value = serde_json::from_str(&out).unwrap();
    let answers = json.as_array().unwrap();
    assert_eq!(answers.len(), 7);
    assert!(answers.iter().all(|one| one["as_expected"] == true), "{out}");
    assert_eq!(answers[0]["delivered_to"]["address"], "10.4.0.20");
    assert_eq!(answers[5]["steps"][0]["line"], 11, "what it hangs on comes first: {}", answers[5]);
    // An expectation that does not hold.
    let wrong = rows.replace("tcp,22,blocked", "tcp,22,allowed");
    fs::write(flows, wrong).unwrap();
    let (out, _, status) = run(&["reach", estate, "--flows", flows]);
    assert_eq!(status, 1);
    assert!(
        out.contains("blocked  expected: allowed") && out.contains("1 of 7 expectations do not hold"),
        "{out}"
    );
}

#[test]
fn what_cannot_be_answered_is_told() {
    let files = edge();
    let estate = files.path().join("edge");
    let estate = estate.to_str().unwrap();
    let to = ["--to", "192.0.2.9", "--proto", "tcp", "--port", "22"];
    for (arguments, wanted) in [
        (&["--from", "outside", "--entering", "gone:eth0"][..], "there is no device gone"),
        (
            &["--from", "outside", "--entering", "edge:eth7"],
            "edge has no interface eth7; it has: lo, eth0, eth1",
        ),
        (&["--from", "somewhere"], "nothing is named somewhere"),
        (&["--from", "10.4.0.300"], "`10.4.0.300` is neither an address nor a network"),
        (
            &["--from", "172.16.9.9"],
            "the exports do not show through which device and interface it enters; use `--entering DEVICE:INTERFACE`",
        ),
        (&["--from", "2001:db8::9", "--entering", "edge:eth0"], "different IP versions"),
    ] {
        let (_, err, status) = run(&[&["reach", estate][..], &to, arguments].concat());
        assert_eq!(status, 2, "{arguments:?}");
        assert!(err.contains(wanted), "{arguments:?}: {err}");
    }
    let flows = files.path().join("flows.csv");
    for (text, wanted) in [
        ("from,to\noutside,1.2.3.4\n", "there is no column `proto`"),
        ("from,to,proto,port,expect\noutside,1.2.3.4,tcp,1,maybe\n", "column `expect`"),
    ] {
        fs::write(&flows, text).unwrap();
        let (_, err, status) = run(&["reach", estate, "--flows", flows.to_str().unwrap()]);
        assert_eq!(status, 2, "{text}");
        assert!(err.contains(wanted), "{text}: {err}");
    }
}

/// A row that cannot be asked is answered all the same, with the reason, and hides nothing of the others.
#[test]
fn rows_that_cannot_be_placed_stop_no_other() {
    let files = edge();
    let (estate, flows) = (files.path().join("edge"), files.path().join("flows.csv"));
    let estate = estate.to_str().unwrap();
    let rows = [
        ("outside,1.2.3.4,tcp,http", "column `port`: expected a port number"),
        ("outside,1.2.3.4,icmp,1", "column `proto`: expected tcp or udp"),
        ("outside,,tcp,1", "column `to` is empty"),
        ("nobody-knows,198.51.100.1,tcp,1", "nobody-knows"),
        (
            "172.16.9.9,198.51.100.1,tcp,1",
            "the exports do not show through which device and interface it enters; use `--entering DEVICE:INTERFACE`",
        ),
    ];
    for (row, wanted) in rows {
        let placed = "outside,192.0.2.9,tcp,8443";
        fs::write(&flows, format!("from,to,proto,port\n{placed}\n{row}\n{placed}\n")).unwrap();
        let (out, err, status) =
            run(&["reach", estate, "--flows", flows.to_str().unwrap(), "--format", "json"]);
        assert_eq!(status, 0, "{row}: {err}");
        assert!(err.contains("flows.csv:3: "), "{row}: {err}");
        let answers: serde_json::Value = serde_json::from_str(&out).unwrap();
        let (first, unplaced, last) = (&answers[0], &answers[1], &answers[2]);
        assert_eq!((&first["verdict"], &first["steps"]), (&last["verdict"], &last["steps"]), "{row}");
        assert!(first["reason"].is_null(), "{row}");
        assert_eq!((&unplaced["verdict"], unplaced["line"].as_u64()), (&"depends".into(), Some(3)), "{row}");
        assert!(unplaced["reason"].as_str().unwrap().contains(wanted), "{row}: {unplaced}");
        let (text, _, _) = run(&["reach", estate, "--flows", flows.to_str().unwrap(), "-q"]);
        assert!(text.contains(wanted), "{row}: {text}");
    }
}
