//! Connections between devices, assumptions, and corrections by the estate file.

use crate::reachability::{From, Question, Transport, reach};
use crate::testing::estate_with;

fn addresses(all: &[(&str, &str)]) -> String {
    let one = |(name, address): &(&str, &str)| {
        let (local, length) = address.split_once('/').unwrap();
        let link = if name.starts_with("wg") || name.starts_with("gre") {
            r#""flags":["POINTOPOINT","UP"],"#
        } else {
            ""
        };
        format!(r#"{{"ifname":"{name}",{link}"addr_info":[{{"local":"{local}","prefixlen":{length}}}]}}"#)
    };
    format!("[{}]", all.iter().map(one).collect::<Vec<_>>().join(","))
}

fn routes(all: &[(&str, &str, &str)]) -> String {
    let one = |(to, gateway, by): &(&str, &str, &str)| {
        let via = if gateway.is_empty() { String::new() } else { format!(r#""gateway":"{gateway}","#) };
        format!(r#"{{"dst":"{to}",{via}"dev":"{by}","flags":[]}}"#)
    };
    format!("[{}]", all.iter().map(one).collect::<Vec<_>>().join(","))
}

/// Which interfaces share networks with others, as `a:eth0+b:eth1`, in order.
fn joined(estate: &crate::context::Analyses) -> Vec<String> {
    let shape = estate.shape();
    let name = |place: &trevlin_packets::way::Place| {
        format!("{}:{}", estate.devices[place.device].name, place.interface)
    };
    let shared = shape.networks.iter().filter(|network| network.members.len() > 1);
    shared.map(|network| network.members.iter().map(name).collect::<Vec<_>>().join("+")).collect()
}

fn reached(estate: &crate::context::Analyses, from: &str, to: &str, port: u16) -> String {
    let from = From::parse(from).unwrap();
    let question =
        Question { from, entering: None, to: to.into(), protocol: Transport::Tcp, port, source_port: None };
    match reach(estate, &question) {
        Ok(answer) => {
            let device = answer.delivered_to.and_then(|one| one.device).unwrap_or_default();
            format!("{} {device}", crate::reachability::word(answer.verdict)).trim_end().to_owned()
        }
        Err(error) => error.to_string(),
    }
}

#[test]
fn networks_are_joined_and_kept_apart() {
    let (a, b) = (
        addresses(&[("eth0", "10.4.0.1/24")]),
        addresses(&[("eth0", "10.4.0.2/24"), ("eth1", "10.5.0.1/24")]),
    );
    let (c, d) = (addresses(&[("eth0", "10.4.0.129/25")]), addresses(&[("eth0", "10.4.0.1/24")]));
    let files: Vec<(&str, &str)> =
        vec![("a/ip-addr.json", &a), ("b/ip-addr.json", &b), ("c/ip-addr.json", &c), ("d/ip-addr.json", &d)];
    for (count, file, wanted, assumptions) in [
        (2, "", &["a:eth0+b:eth0"][..], 0),
        // A part of the network is on it as well.
        (3, "", &["a:eth0+b:eth0+c:eth0"], 0),
        // Two with one address are on two networks, unless the estate file states otherwise.
        (4, "", &["a:eth0+b:eth0+c:eth0"], 1),
        (4, "[shape]\njoined = [[\"a:eth0\", \"d:eth0\"]]\n", &["a:eth0+b:eth0+c:eth0+d:eth0"], 0),
        (2, "[shape]\napart = [[\"a:eth0\", \"b:eth0\"]]\n", &[], 0),
        (2, "[device.a]\nsite = \"north\"\n[device.b]\nsite = \"south\"\n", &[], 0),
        (2, "[device.a]\nsite = \"north\"\n[device.b]\nsite = \"north\"\n", &["a:eth0+b:eth0"], 0),
    ] {
        let estate = estate_with(&files[..count], file);
        assert_eq!(joined(&estate), wanted, "{count} {file}");
        let twins = estate.shape().assumptions.iter().filter(|one| one.text.contains("both have")).count();
        assert_eq!(twins, assumptions, "{count} {file}");
    }
}

#[test]
fn an_outside_in_name_only_is_a_guess_that_can_be_put_right() {
    let (own, way) =
        (addresses(&[("eth0", "192.168.1.2/24")]), routes(&[("default", "192.168.1.1", "eth0")]));
    let files = [("a/ip-addr.json", own.as_str()), ("a/ip-route.json", way.as_str())];
    let estate = estate_with(&files, "");
    assert!(estate.shape().outside.is_empty());
    assert_eq!(estate.shape().assumptions[0].otherwise, "[device.\"a\"] outside = [\"eth0\"]");
    let estate =
        estate_with(&files, &estate.shape().assumptions[0].otherwise.replace("] outside", "]\noutside"));
    assert_eq!((estate.shape().outside.len(), estate.shape().assumptions.len()), (1, 0));
    // A name says enough, unless the next hop is known.
    let named =
        [("a/ip-addr.json", own.replace("eth0", "wan0")), ("a/ip-route.json", way.replace("eth0", "wan0"))];
    let named: Vec<(&str, &str)> = named.iter().map(|(path, text)| (*path, text.as_str())).collect();
    assert_eq!(estate_with(&named, "").shape().outside.len(), 1);
    // Behind a router of the estate it is known to lie inside.
    let front = addresses(&[("eth0", "192.0.2.9/24"), ("eth1", "192.168.1.1/24")]);
    let estate = estate_with(&[files[0], files[1], ("b/ip-addr.json", &front)], "");
    assert_eq!((estate.shape().outside.len(), estate.shape().outside[0].device), (1, 1));
}

#[test]
fn tunnels_join_sites() {
    let sites = |link: &str, far_a: &str, far_b: &str| {
        let a = addresses(&[("eth0", "192.0.2.9/24"), ("eth1", "10.4.0.1/24"), (link, "10.255.0.1/30")]);
        let b = addresses(&[("eth0", "198.51.100.9/24"), ("eth1", "10.5.0.1/24"), (link, "10.255.0.2/30")]);
        let ra = routes(&[("default", "192.0.2.1", "eth0"), (far_a, "", link)]);
        let rb = routes(&[("default", "198.51.100.1", "eth0"), (far_b, "", link)]);
        [a, b, ra, rb]
    };
    const OPEN: &str = "*filter\n:FORWARD ACCEPT [0:0]\nCOMMIT\n";
    let server = addresses(&[("eth0", "10.5.0.20/24")]);
    let behind = routes(&[("default", "10.5.0.1", "eth0")]);
    let told = |all: &[String; 4], more: &[(&str, &str)], file: &str| {
        let mut files = vec![
            ("a/ip-addr.json", all[0].as_str()),
            ("b/ip-addr.json", &all[1]),
            ("a/ip-route.json", &all[2]),
            ("b/ip-route.json", &all[3]),
            ("s/ip-addr.json", &server),
            ("s/ip-route.json", &behind),
            ("a/iptables-save.txt", OPEN),
            ("b/iptables-save.txt", OPEN),
        ];
        files.extend(more);
        reached(&estate_with(&files, file), "10.4.0.77", "10.5.0.20", 443)
    };
    let plain = sites("wg0", "10.5.0.0/24", "10.4.0.0/24");
    const A: &str = "[Interface]\nPrivateKey = yAnz5TF+lXXJte14tji3zlMNq+hd2rYUIgJBgB3fBmk=\nListenPort = 51820\n[Peer]\n\
                     PublicKey = xTIBA5rboUvnH4htodjb6e697QjLERt1NAB4mZqp8Dg=\nEndpoint = 198.51.100.9:51820\nAllowedIPs = 10.5.0.0/24, 10.255.0.2/32\n";
    let b =
        A.replace("198.51.100.9", "192.0.2.9").replace("10.5.0.0/24, 10.255.0.2", "10.4.0.0/24, 10.255.0.1");
    assert_eq!(told(&plain, &[("a/wg0.conf", A), ("b/wg0.conf", &b)], ""), "allowed s");
    // The other end takes nothing of this source.
    let narrow = b.replace("10.4.0.0/24, ", "");
    assert_eq!(told(&plain, &[("a/wg0.conf", A), ("b/wg0.conf", &narrow)], ""), "blocked");
    // An end that is called has no endpoint for the one that calls.
    let called = b.lines().filter(|line| !line.starts_with("Endpoint")).collect::<Vec<_>>().join("\n");
    assert_eq!(told(&plain, &[("a/wg0.conf", A), ("b/wg0.conf", &called)], ""), "allowed s");

    let plain = sites("gre1", "10.5.0.0/24", "10.4.0.0/24");
    let link = |local: &str, remote: &str| {
        format!(
            r#"[{{"ifname":"gre1","flags":["POINTOPOINT","UP"],"mtu":1476,"qdisc":"noqueue","link_type":"gre","linkinfo":{{"info_kind":"gre","info_data":{{"remote":"{remote}","local":"{local}"}}}}}}]"#
        )
    };
    let (la, lb) = (link("192.0.2.9", "198.51.100.9"), link("198.51.100.9", "192.0.2.9"));
    assert_eq!(told(&plain, &[("a/ip-link.json", &la), ("b/ip-link.json", &lb)], ""), "allowed s");

    // IPsec by its selectors, over the default route.
    let plain = sites("gre9", "10.77.0.0/24", "10.78.0.0/24");
    let connection = |local: &str, remote: &str, here: &str, there: &str| {
        format!(
            "connections {{\n site {{\n  local_addrs = {local}\n  remote_addrs = {remote}\n  local {{\n   auth = psk\n  }}\n  remote {{\n   auth = psk\n  }}\n\
             \x20 children {{\n   net {{\n    local_ts = {here}\n    remote_ts = {there}\n   }}\n  }}\n }}\n}}\n"
        )
    };
    let ca = connection("192.0.2.9", "198.51.100.9", "10.4.0.0/24", "10.5.0.0/24");
    let cb = connection("198.51.100.9", "192.0.2.9", "10.5.0.0/24", "10.4.0.0/24");
    let both = [("a/etc/swanctl/swanctl.conf", ca.as_str()), ("b/etc/swanctl/swanctl.conf", cb.as_str())];
    assert_eq!(told(&plain, &both, ""), "allowed s");
    assert_eq!(told(&plain, &[], ""), "blocked", "without it the outside does not carry the address");
    // The classic slip: what is translated on leaving no longer fits the selectors.
    let nat = "*nat\n:POSTROUTING ACCEPT [0:0]\n-A POSTROUTING -o eth0 -j MASQUERADE\nCOMMIT\n";
    assert_eq!(told(&plain, &[both[0], both[1], ("a/iptables-save.txt", nat)], ""), "blocked");
    let kept = nat.replace("-A POST", "-A POSTROUTING -d 10.5.0.0/24 -j ACCEPT\n-A POST");
    assert_eq!(told(&plain, &[both[0], both[1], ("a/iptables-save.txt", &kept)], ""), "allowed s");
}

#[test]
fn callers_are_asked_for_by_tunnel_and_by_group() {
    let own = addresses(&[("eth0", "192.0.2.9/24"), ("eth1", "10.4.0.1/24")]);
    let way = routes(&[("default", "192.0.2.1", "eth0")]);
    let rules = "*filter\n:INPUT DROP [0:0]\n:FORWARD DROP [0:0]\n-A FORWARD -m state --state ESTABLISHED -j ACCEPT\n\
                 -A FORWARD -i ppp+ -s 10.4.0.120 -p tcp --dport 443 -j ACCEPT\nCOMMIT\n";
    let files = [
        ("a/ip-addr.json", own.as_str()),
        ("a/ip-route.json", way.as_str()),
        ("a/iptables-save.txt", rules),
        ("a/etc/pptpd.conf", "option /etc/ppp/pptpd-options\nlocalip 10.4.0.1\nremoteip 10.4.0.120-121\n"),
        ("a/etc/ppp/pptpd-options", "name pptp\nrequire-mschap-v2\n"),
        ("a/etc/ppp/chap-secrets", "ann pptp Sesame-open-9 10.4.0.120\nbob pptp Sesame-open-8 10.4.0.121\n"),
        ("a/etc/group", "root:x:0:\nclerks:x:1001:ann\ncrews:x:1002:bob\n"),
    ];
    let estate = estate_with(&files, "");
    let clients = &estate.shape().clients[0];
    assert_eq!((clients.interface.as_str(), clients.tunnel.as_str()), ("ppp0", "PPTP server"));
    // Some clients are permitted and some are not; the one address of a group is or is not.
    assert_eq!(reached(&estate, "PPTP server", "10.4.0.77", 443), "depends");
    assert_eq!(reached(&estate, "clerks", "10.4.0.77", 443), "allowed");
    assert_eq!(reached(&estate, "crews", "10.4.0.77", 443), "blocked");
    assert!(reached(&estate, "nobody", "10.4.0.77", 443).starts_with("nothing is named nobody"));
}
