//! The exposure command, and sets and intents in the reach command.

use crate::common::{demo, folder, json, run};
use std::fs;

const ADDRESSES: &str = r#"[{"ifname":"eth0","addr_info":[{"local":"192.0.2.9","prefixlen":24}]},
{"ifname":"eth1","addr_info":[{"local":"10.4.0.1","prefixlen":24}]}]"#;
const ROUTES: &str = r#"[{"dst":"default","gateway":"192.0.2.1","dev":"eth0","flags":[]}]"#;
const SERVER: &str = r#"[{"ifname":"eth0","addr_info":[{"local":"10.4.0.20","prefixlen":24}]}]"#;
const BEHIND: &str = r#"[{"dst":"default","gateway":"10.4.0.1","dev":"eth0","flags":[]}]"#;

/// A gate with these rules, and a server behind it with these sockets.
fn small(forwards: &str, rules: &str, sockets: &str, more: &[(&str, &str)]) -> tempfile::TempDir {
    let list = format!(
        "*nat\n:PREROUTING ACCEPT [0:0]\n{forwards}COMMIT\n*filter\n:INPUT DROP [0:0]\n:FORWARD DROP [0:0]\n\
         -A FORWARD -m state --state ESTABLISHED -j ACCEPT\n-A INPUT -m state --state ESTABLISHED -j ACCEPT\n{rules}COMMIT\n"
    );
    let mut files = vec![
        ("gate/ip-addr.json", ADDRESSES),
        ("gate/ip-route.json", ROUTES),
        ("gate/iptables-save.txt", list.as_str()),
        ("server/ip-addr.json", SERVER),
        ("server/ip-route.json", BEHIND),
        ("server/ss.txt", sockets),
    ];
    files.extend(more);
    folder(&files)
}

fn sheet(path: &std::path::Path, more: &[&str]) -> serde_json::Value {
    let path = path.to_str().unwrap();
    let arguments: Vec<&str> =
        ["exposure", path, "--format", "json"].into_iter().chain(more.iter().copied()).collect();
    let (out, err, status) = run(&arguments);
    assert_eq!((status, err.as_str()), (0, ""), "{out}");
    serde_json::from_str(&out).unwrap()
}

#[test]
fn the_demo_is_as_it_was() {
    let demo = demo();
    let (out, err, status) = run(&["exposure", demo.to_str().unwrap()]);
    assert_eq!((status, err.as_str()), (0, ""));
    assert!(out.lines().all(|line| line.chars().count() <= 140));
    insta::assert_snapshot!(out);
    let json = sheet(&demo, &[]);
    assert_eq!(json["schema"], "trevlin-exposure/1");
    // A forward through two devices that works, one that the second blocks, one to an unassigned address.
    let outcome = |port: &str| {
        let rows = json["forwards"].as_array().unwrap();
        let row = rows.iter().find(|row| row["called_at"][0] == port).unwrap_or_else(|| panic!("{port}"));
        row["outcome"].as_str().unwrap().to_owned()
    };
    assert_eq!(
        [outcome("tcp 8443"), outcome("tcp 8022"), outcome("tcp 3389")],
        ["works", "blocked downstream", "not exported"]
    );
    // Open by IPv6 and closed by IPv4.
    let shell = json["reached"]
        .as_array()
        .unwrap()
        .iter()
        .filter(|row| row["device"] == "harbour-edge" && row["endpoint"] == "tcp 22");
    let called: Vec<&str> = shell.map(|row| row["called"][0].as_str().unwrap()).collect();
    assert_eq!(called, ["2001:db8:20::18"]);
    // Every step that decided has its line.
    let steps = json["reached"][0]["steps"].as_array().unwrap();
    assert!(steps.iter().any(|step| step["path"] == "harbour-edge/running/iptables-save.txt"
        || step["path"] == "harbour-edge/running/ip6tables-save.txt"));
}

#[test]
fn traps_expose_nothing() {
    let port = "-A INPUT -p tcp --dport 8443 -j ACCEPT\n";
    let forward = "-A PREROUTING -i eth0 -p tcp --dport 8443 -j DNAT --to-destination 10.4.0.20:443\n";
    let through = "-A FORWARD -d 10.4.0.20 -p tcp --dport 443 -j ACCEPT\n";
    let socket = |address: &str, port: u16| format!("tcp LISTEN 0 9 {address}:{port} 0.0.0.0:*\n");
    let reached = |estate: &tempfile::TempDir| sheet(estate.path(), &[])["reached"].as_array().unwrap().len();
    let findings = |estate: &tempfile::TempDir| -> Vec<String> {
        let all = json(estate.path(), &["--area", "exposure"]);
        let names =
            all["findings"].as_array().unwrap().iter().map(|one| one["check"].as_str().unwrap().to_owned());
        names.filter(|name| name.starts_with("exposure/internet-facing-")).collect()
    };
    for (name, estate) in [
        ("loopback alone", small("", port, "", &[("gate/ss.txt", &socket("127.0.0.1", 8443))])),
        ("the inside address alone", small("", port, "", &[("gate/ss.txt", &socket("10.4.0.1", 8443))])),
        ("forwarded to a loopback listener", small(forward, through, &socket("127.0.0.1", 443), &[])),
        ("forwarded and stopped at the gate", small(forward, "", &socket("0.0.0.0", 443), &[])),
        (
            "an outside in name only",
            folder(&[
                ("gate/ip-addr.json", &ADDRESSES.replace("192.0.2.9", "192.168.1.9")),
                ("gate/ip-route.json", &ROUTES.replace("192.0.2.1", "192.168.1.1")),
                ("gate/ss.txt", &socket("0.0.0.0", 8443)),
            ]),
        ),
    ] {
        assert_eq!((reached(&estate), findings(&estate)), (0, Vec::new()), "{name}");
    }
    // And with a slip it is exposed.
    let estate = small(forward, through, &socket("0.0.0.0", 443), &[]);
    assert_eq!((reached(&estate), findings(&estate).len()), (1, 1));
    // Limited by source it is reached, and by those alone.
    let some = forward.replace("-i eth0", "-i eth0 -s 198.51.100.44");
    let json = sheet(small(&some, through, &socket("0.0.0.0", 443), &[]).path(), &[]);
    assert_eq!(
        (&json["reached"][0]["protection"], &json["reached"][0]["sources"][0]),
        (&"limited".into(), &"198.51.100.44".into())
    );
}

/// A page that only redirects to HTTPS needs no protection of its own; one that serves content does.
#[test]
fn a_redirect_is_not_the_worst() {
    let forward = "-A PREROUTING -i eth0 -p tcp --dport 80 -j DNAT --to-destination 10.4.0.20:80\n";
    for (site, wanted) in [
        ("return 301 https://$host$request_uri;", "protected"),
        ("location /old { return 301 https://$host$request_uri; }", "unprotected"),
        ("root /srv;", "unprotected"),
    ] {
        let text = format!("http {{\nserver {{\nlisten 80;\n{site}\n}}\n}}\n");
        let through = "-A FORWARD -d 10.4.0.20 -p tcp --dport 80 -j ACCEPT\n";
        let estate = small(forward, through, "", &[("server/etc/nginx/nginx.conf", &text)]);
        let json = sheet(estate.path(), &[]);
        assert_eq!(json["reached"][0]["protection"], wanted, "{site}");
    }
}

#[test]
fn from_anywhere_and_in_every_form() {
    let forward = "-A PREROUTING -i eth0 -p tcp --dport 8443 -j DNAT --to-destination 10.4.0.20:443\n";
    let estate = small(
        forward,
        "",
        "tcp LISTEN 0 9 0.0.0.0:443 0.0.0.0:* users:((\"=cmd\u{1b}[31m\",pid=1,fd=1))\n",
        &[],
    );
    for from in ["10.4.0.0/24", "10.4.0.9", "gate"] {
        let json = sheet(estate.path(), &["--from", from]);
        assert_eq!(json["reached"].as_array().unwrap().len(), 1, "{from}: {json}");
        assert_eq!(json["reached"][0]["device"], "server");
    }
    let path = estate.path().to_str().unwrap();
    for format in ["text", "json", "csv"] {
        let (out, _, status) = run(&["exposure", path, "--from", "10.4.0.9", "--format", format]);
        assert!(status == 0 && !out.contains('\u{1b}'), "{format}: {out:?}");
    }
    for (ending, begins) in [("svg", &b"<svg"[..]), ("png", b"\x89PNG")] {
        let beside = tempfile::tempdir().unwrap();
        let file = beside.path().join(format!("paths.{ending}"));
        let (_, err, status) =
            run(&["exposure", path, "--from", "10.4.0.9", "--picture", file.to_str().unwrap()]);
        assert_eq!((status, err.as_str()), (0, ""));
        let bytes = fs::read(&file).unwrap();
        assert!(bytes.starts_with(begins) && !bytes.contains(&0x1b) || ending == "png");
    }
    let (_, err, status) = run(&["exposure", path, "--from", "nowhere"]);
    assert!(status == 2 && err.contains("nothing is named nowhere"), "{err}");
}

#[test]
fn sets_and_intents() {
    let demo = demo();
    let demo = demo.to_str().unwrap();
    let (out, err, status) = run(&["reach", demo, "--intents"]);
    assert_eq!((status, err.as_str()), (1, ""));
    insta::assert_snapshot!(out);
    let (out, _, status) =
        run(&["reach", demo, "--from", "OpenVPN server (desks.conf)", "--to", "10.20.6.0/24"]);
    assert_eq!(status, 0);
    assert!(out.contains("Via TCP over IPv4: ") && out.contains("quay-storage"), "{out}");
    for (from, to, port, verdict) in [
        ("OpenVPN server (desks.conf)", "10.20.6.61", "554", "allowed"),
        ("OpenVPN server (desks.conf)", "10.20.6.61", "22", "blocked"),
        ("booking", "quay-storage", "445", "allowed"),
        ("quay-storage", "booking", "3306", "blocked"),
        // By a forward of another port.
        ("outside", "booking", "22", "allowed, delivered to 10.20.4.30 port 22 (booking)"),
        ("outside", "booking", "443", "blocked"),
        ("outside", "quay-storage", "445", "blocked"),
        ("booking", "outside", "443", "allowed"),
    ] {
        let (out, err, status) =
            run(&["reach", demo, "--from", from, "--to", to, "--proto", "tcp", "--port", port]);
        assert!(status == 0 && out.starts_with(verdict), "{from} {to} {port}: {out}{err}");
    }
    for (arguments, wanted) in [
        (
            &["--from", "outside", "--to", "outside"][..],
            "destinations on the Internet are in no export; name one connection with --proto and --port",
        ),
        (
            &["--from", "booking", "--to", "nobody", "--proto", "tcp", "--port", "1"],
            "nothing is named nobody",
        ),
        (
            &["--from", "WireGuard wg0", "--entering", "dial-in:wg0"],
            "--entering and --sport apply to one connection; add --to, --proto and --port",
        ),
    ] {
        let (_, err, status) = run(&[&["reach", demo][..], arguments].concat());
        assert!(status == 2 && err.contains(wanted), "{arguments:?}: {err}");
    }
}
