use super::*;
use crate::testing::{estate, estate_with};
use trevlin_model::{Protocol, Setting};

const SERVER: (&str, &str) = ("d/etc/pptpd.conf", "option /etc/ppp/pptpd-options\nremoteip 10.4.0.9\n");

/// Logins as `user list certain`.
fn logins(files: &[(&str, &str)]) -> Vec<String> {
    let estate = estate(files);
    estate.devices[0]
        .logins
        .iter()
        .map(|login| format!("{} {} {}", login.user, login.service, login.certain))
        .collect()
}

#[test]
fn logins_are_the_lines_that_pppd_takes() {
    for (options, secrets, wanted) in [
        (
            "name pptp\nrequire-mschap-v2\n",
            "ann pptp a *\nbob other b *\ncid * c *\n",
            &["ann PPTP server true", "cid PPTP server true"][..],
        ),
        (
            "name pptp\nrequire-mschap-v2\n",
            "ann * a *\nann pptp b *\nann pptp c *\n",
            &["ann PPTP server true"],
        ),
        ("name pptp\nrequire-mschap-v2\n", "ann pptp a -\nbob pptp b\ncid pptp c !10.0.0.1\n", &[]),
        (
            "require-mschap-v2\n",
            "ann pptp a *\nann other b *\n",
            &["ann PPTP server false", "ann PPTP server false"],
        ),
        ("name pptp\nnoauth\n", "ann pptp a *\n", &[]),
        ("name pptp\nrequire-pap\n", "ann pptp a *\n", &[]),
        ("name pptp\nrequire-mschap-v2\nplugin radius.so\n", "ann pptp a *\n", &[]),
        (
            "name pptp\nrequire-mschap-v2\nplugin pptpd-logwtmp.so\n",
            "ann pptp a *\n",
            &["ann PPTP server true"],
        ),
    ] {
        let files = [SERVER, ("d/etc/ppp/pptpd-options", options), ("d/etc/ppp/chap-secrets", secrets)];
        assert_eq!(logins(&files), wanted, "{options}{secrets}");
    }
    assert_eq!(logins(&[("d/chap-secrets", "ann gate a *\n")]), ["ann pppd false"], "no server was exported");
}

#[test]
fn one_login_in_two_lists_is_one() {
    let both = [
        SERVER,
        ("d/etc/ppp/pptpd-options", "name pptp\nauth\n"),
        ("d/chap-secrets", "ann * a *\n"),
        ("d/pap-secrets", "ann * a *\n"),
    ];
    assert_eq!(logins(&both).len(), 1);
    let other = [
        SERVER,
        ("d/etc/ppp/pptpd-options", "name pptp\nauth\n"),
        ("d/chap-secrets", "ann * a *\n"),
        ("d/pap-secrets", "ann * b *\n"),
    ];
    assert_eq!(logins(&other).len(), 2);
}

#[test]
fn options_are_read_in_the_daemon_s_order() {
    for (system, named, auth, missing) in [
        (Some("noauth\n"), Some("require-mschap-v2\n"), Some(true), 0),
        (Some("require-pap\n"), Some("noauth\n"), Some(false), 0),
        (Some("auth\n"), Some("mtu 1400\n"), Some(true), 0),
        (None, Some("auth\n"), Some(true), 1),
        (Some("auth\n"), None, Some(true), 1),
    ] {
        let mut files = vec![SERVER];
        files.extend(system.map(|text| ("d/etc/ppp/options", text)));
        files.extend(named.map(|text| ("d/etc/ppp/pptpd-options", text)));
        let estate = estate(&files);
        let dial_in = estate.dial_in(0, 0).unwrap();
        assert_eq!(dial_in.profile.auth.map(|auth| auth.0), auth, "{system:?} {named:?}");
        assert_eq!(dial_in.missing.len(), missing, "{system:?} {named:?}");
    }
    let estate =
        estate(&[SERVER, ("d/etc/ppp/options", "x\n"), ("d/etc/ppp/pptpd-options", "name gate\nproxyarp\n")]);
    let tunnel = &estate.devices[0].facts.tunnels[0];
    assert_eq!(tunnel.local_name.as_ref().and_then(Setting::value).map(String::as_str), Some("gate"));
    assert_eq!(tunnel.addresses.pools[0].placement.value(), Some(&trevlin_model::PoolPlacement::ProxyArp));
}

/// Interfaces that face an untrusted network, an uncertain one with `?`.
fn outside(addresses: &str, routes: &str, more: &[(&str, &str)]) -> String {
    let mut files = vec![("d/ip-addr.json", addresses), ("d/ip-route.json", routes)];
    files.extend(more);
    let estate = estate(&files);
    let at = estate.devices.iter().position(|device| device.name == "d").unwrap();
    let names =
        estate.outside(at).iter().map(|one| format!("{}{}", one.name, if one.certain { "" } else { "?" }));
    names.collect::<Vec<_>>().join(" ")
}

#[test]
fn what_faces_the_outside() {
    let interfaces = |all: &[(&str, &str)]| {
        let one = |(name, address): &(&str, &str)| {
            let flags = if name.starts_with("ppp") { "\"POINTOPOINT\"" } else { "" };
            format!(
                r#"{{"ifname":"{name}","flags":[{flags}],"addr_info":[{{"local":"{address}","prefixlen":24}}]}}"#
            )
        };
        format!("[{}]", all.iter().map(one).collect::<Vec<_>>().join(","))
    };
    let default = |gateway: &str, dev: &str| {
        format!(r#"[{{"dst":"default","gateway":"{gateway}","dev":"{dev}","flags":[]}}]"#)
    };
    let other = interfaces(&[("eth0", "10.4.0.1")]);
    for (name, addresses, routes, more, wanted) in [
        (
            "public",
            interfaces(&[("wan", "192.0.2.9"), ("lan", "10.4.0.1")]),
            default("192.0.2.1", "wan"),
            &[][..],
            "wan",
        ),
        (
            "a public network that is not the way out",
            interfaces(&[("wan", "192.0.2.9"), ("dmz", "203.0.113.1")]),
            default("192.0.2.1", "wan"),
            &[],
            "wan",
        ),
        (
            "private, next hop unknown",
            interfaces(&[("eth0", "10.4.0.9")]),
            default("10.4.0.1", "eth0"),
            &[],
            "eth0?",
        ),
        (
            "private, next hop of this estate",
            interfaces(&[("eth0", "10.4.0.9")]),
            default("10.4.0.1", "eth0"),
            &[("e/ip-addr.json", other.as_str())],
            "",
        ),
        ("dial-out", interfaces(&[("ppp0", "10.99.0.9")]), default("10.99.0.1", "ppp0"), &[], "ppp0"),
        (
            "no route, one public address",
            interfaces(&[("wan", "192.0.2.9"), ("lan", "10.4.0.1")]),
            "[]".into(),
            &[],
            "wan",
        ),
        (
            "no route, two public addresses",
            interfaces(&[("a", "192.0.2.9"), ("b", "203.0.113.1")]),
            "[]".into(),
            &[],
            "a? b?",
        ),
        (
            "no route, what leaves is hidden",
            interfaces(&[("lan", "10.4.0.1")]),
            "[]".into(),
            &[("d/rules.v4", "*nat\n-A POSTROUTING -o dsl -j MASQUERADE\nCOMMIT\n")],
            "dsl",
        ),
        (
            "by a chain of its own, at an address that may lie inside",
            interfaces(&[("lan", "10.4.0.1"), ("up", "10.9.0.2")]),
            "[]".into(),
            &[(
                "d/rules.v4",
                "*nat\n:away - [0:0]\n-A POSTROUTING -o up -j away\n-A away -j SNAT --to-source 10.9.0.2\nCOMMIT\n",
            )],
            "up?",
        ),
        (
            "some are hidden from some",
            interfaces(&[("lan", "10.4.0.1")]),
            "[]".into(),
            &[(
                "d/rules.v4",
                "*nat\n-A POSTROUTING -s 10.8.0.0/24 -o lan -j MASQUERADE\n-A POSTROUTING ! -o lan -j MASQUERADE\nCOMMIT\n",
            )],
            "",
        ),
        (
            "a tunnel leads elsewhere",
            interfaces(&[("lan", "10.4.0.1")]),
            "[]".into(),
            &[
                ("d/rules.v4", "*nat\n-A POSTROUTING -o wg0 -j MASQUERADE\nCOMMIT\n"),
                ("d/etc/wireguard/wg0.conf", "[Interface]\nAddress = 10.8.0.1/24\n"),
            ],
            "",
        ),
    ] {
        assert_eq!(outside(&addresses, &routes, more), wanted, "{name}");
    }
}

#[test]
fn the_estate_file_has_the_last_word() {
    let estate = estate_with(
        &[("d/s.conf", "dev tun\nserver 10.8.0.0 255.255.255.0\n")],
        "[device.d]\nname = \"gate\"\nkind = \"storage\"\noutside = [\"eth7\"]\n",
    );
    let device = &estate.devices[0];
    assert_eq!((device.name.as_str(), device.kind), ("gate", DeviceKind::Storage));
    assert_eq!(estate.outside(0)[0].name, "eth7");
}

#[test]
fn kinds_from_facts() {
    let two = r#"[{"ifname":"a","addr_info":[{"local":"10.4.0.1","prefixlen":24}]},{"ifname":"b","addr_info":[{"local":"10.5.0.1","prefixlen":24}]}]"#;
    const VPN: &str = "dev tun9\nserver 10.8.0.0 255.255.255.0\n";
    let one = r#"[{"ifname":"a","addr_info":[{"local":"10.4.0.1","prefixlen":24}]}]"#;
    let dialled = r#"[{"ifname":"a","addr_info":[{"local":"10.4.0.1","prefixlen":24}]},{"ifname":"ppp0","flags":["POINTOPOINT"],"addr_info":[{"local":"192.0.2.9","prefixlen":32}]}]"#;
    let way = r#"[{"dst":"default","dev":"ppp0"}]"#;
    let filter = "*filter\n:FORWARD DROP [0:0]\n-A FORWARD -i a -o b -j ACCEPT\nCOMMIT\n";
    let input = "*filter\n:INPUT DROP [0:0]\nCOMMIT\n";
    let nat = "*nat\n-A POSTROUTING -o a -j MASQUERADE\nCOMMIT\n";
    for (files, kind) in [
        (&[("d/ip-addr.json", two), ("d/rules.v4", filter)][..], DeviceKind::Firewall),
        (&[("d/rules.v4", nat)], DeviceKind::Firewall),
        (&[("d/ip-addr.json", two), ("d/rules.v4", input)], DeviceKind::Router),
        (
            &[("d/ip-addr.json", two), ("d/s.conf", "dev tun\nserver 10.8.0.0 255.255.255.0\n")],
            DeviceKind::Server,
        ),
        (&[("d/rules.v4", input)], DeviceKind::Unknown),
        // A VPN server in somebody's network that translates its clients.
        (&[("d/ip-addr.json", one), ("d/rules.v4", nat), ("d/s.conf", VPN)], DeviceKind::Server),
        (
            &[("d/ip-addr.json", dialled), ("d/ip-route.json", way), ("d/rules.v4", nat), ("d/s.conf", VPN)],
            DeviceKind::Firewall,
        ),
    ] {
        assert_eq!(estate(files).devices[0].kind, kind, "{files:?}");
    }
}

#[test]
fn an_interface_from_two_dumps_is_one() {
    let v4 = r#"[{"ifname":"a","addr_info":[{"local":"10.4.0.1","prefixlen":24}]}]"#;
    let v6 = r#"[{"ifname":"a","addr_info":[{"local":"10.4.0.1","prefixlen":24},{"local":"2001:db8::1","prefixlen":64}]}]"#;
    let estate = estate(&[("d/ip-addr.json", v4), ("d/ip-addr-6.json", v6)]);
    let interfaces = &estate.devices[0].facts.interfaces;
    assert_eq!((interfaces.len(), interfaces[0].addresses.len()), (1, 2));
}

#[test]
fn forwards_lead_to_the_devices_that_have_the_address() {
    let addresses =
        |last| format!(r#"[{{"ifname":"a","addr_info":[{{"local":"10.4.0.{last}","prefixlen":24}}]}}]"#);
    let rules = "*nat\n-A PREROUTING -p tcp --dport 80 -j DNAT --to-destination 10.4.0.5-10.4.0.6\nCOMMIT\n";
    let (five, seven) = (addresses(5), addresses(7));
    let estate =
        estate(&[("edge/rules.v4", rules), ("five/ip-addr.json", &five), ("seven/ip-addr.json", &seven)]);
    let names: Vec<_> = (0..3)
        .map(|at| estate.forwards_to(at).map(|(front, _)| front.name.as_str()).collect::<Vec<_>>())
        .collect();
    assert_eq!(names, [vec![], vec!["edge"], vec![]]);
}

#[test]
fn one_file_on_both_ends() {
    let text = "conn s\n\tauto=start\n\tauthby=secret\n\tleft=192.0.2.18\n\tleftid=@a.example\n\tleftsubnet=10.4.0.0/24\n\tright=198.51.100.9\n\t\
                rightid=@b.example\n\trightsubnet=10.7.0.0/24\n";
    let address = |own: &str| {
        format!("[{{\"ifname\":\"eth0\",\"addr_info\":[{{\"local\":\"{own}\",\"prefixlen\":24}}]}}]")
    };
    let (left, right) = (address("192.0.2.18"), address("198.51.100.9"));
    let estate = estate(&[
        ("a/ipsec.conf", text),
        ("a/ip-addr.json", &left),
        ("b/ipsec.conf", text),
        ("b/ip-addr.json", &right),
    ]);
    let told: Vec<_> = estate
        .devices
        .iter()
        .map(|device| {
            let tunnel = &device.facts.tunnels[0];
            let connection = tunnel.ipsec.as_ref().unwrap();
            let id = connection.remote[0].identity.as_ref().unwrap();
            format!("{} {} {}", connection.remote_addresses[0].0, id.0, tunnel.addresses.remote[0].0.short())
        })
        .collect();
    assert_eq!(told, ["198.51.100.9 @b.example 10.7.0.0/24", "192.0.2.18 @a.example 10.4.0.0/24"]);
}

/// An address of a device, as `ip -j addr show` prints it.
fn address(name: &str, address: &str) -> String {
    let (local, prefix) = address.split_once('/').unwrap();
    format!(r#"[{{"ifname":"{name}","addr_info":[{{"local":"{local}","prefixlen":{prefix}}}]}}]"#)
}

#[test]
fn the_side_is_the_one_whose_address_the_device_has() {
    let conn = "conn isle\n left=198.51.100.7\n leftsubnet=10.5.0.0/24\n right=192.0.2.9\n rightsubnet=10.4.0.0/24\n \
                authby=secret\n auto=start\n";
    for (own, local) in [
        ("192.0.2.9/24", "192.0.2.9"),
        ("198.51.100.7/24", "198.51.100.7"),
        // Neither side is its own: left stays.
        ("203.0.113.5/24", "198.51.100.7"),
    ] {
        let addresses = address("eth0", own);
        let estate = estate(&[("d/etc/ipsec.conf", conn), ("d/ip-addr.json", &addresses)]);
        let tunnel = &estate.devices[0].facts.tunnels[0];
        let connection = tunnel.ipsec.as_ref().unwrap();
        assert_eq!(connection.local_addresses[0].0, local, "{own}");
        let far = if local == "192.0.2.9" { "10.5.0.0/24" } else { "10.4.0.0/24" };
        let remote: Vec<String> = tunnel.addresses.remote.iter().map(|(range, _)| range.short()).collect();
        assert_eq!(remote, [far], "{own}");
    }
    // Both are its own addresses: nothing is turned.
    let both = r#"[{"ifname":"eth0","addr_info":[{"local":"192.0.2.9","prefixlen":24},{"local":"198.51.100.7","prefixlen":24}]}]"#;
    let estate = estate(&[("d/etc/ipsec.conf", conn), ("d/ip-addr.json", both)]);
    let connection = estate.devices[0].facts.tunnels[0].ipsec.as_ref().unwrap();
    assert_eq!(connection.local_addresses[0].0, "198.51.100.7");
}

#[test]
fn an_interface_that_is_named_so_faces_the_outside() {
    let route =
        |name: &str| format!(r#"[{{"dst":"default","gateway":"10.0.0.1","dev":"{name}","flags":[]}}]"#);
    for (name, certain) in [
        ("wan", true),
        ("wan2", true),
        ("WAN-1", true),
        ("outside_0", true),
        ("internet", true),
        ("eth0", false),
        ("swan", false),
        ("wander", false),
    ] {
        let (addresses, routes) = (address(name, "10.0.0.9/24"), route(name));
        let estate = estate(&[("d/ip-addr.json", &addresses), ("d/ip-route.json", &routes)]);
        let found: Vec<(&str, bool)> =
            estate.outside(0).iter().map(|one| (one.name.as_str(), one.certain)).collect();
        assert_eq!(found, [(name, certain)]);
    }
}

#[test]
fn forwards_lead_to_the_port_that_they_arrive_at() {
    let rules = "*nat\n:PREROUTING ACCEPT [0:0]\n\
        -A PREROUTING -i eth0 -p tcp --dport 3390 -j DNAT --to-destination 10.4.0.30:3389\n\
        -A PREROUTING -i eth0 -p tcp --dport 25 -j DNAT --to-destination 10.4.0.30\n\
        -A PREROUTING -i eth0 -p udp --dport 53 -j DNAT --to-destination 10.4.0.30\n\
        -A PREROUTING -i eth0 -p tcp --dport 80 -j DNAT --to-destination 10.4.0.31\nCOMMIT\n";
    let (front, behind) = (address("eth1", "10.4.0.1/24"), address("eth0", "10.4.0.30/24"));
    let files =
        [("a/ip-addr.json", front.as_str()), ("a/iptables-save.txt", rules), ("b/ip-addr.json", &behind)];
    let estate = estate(&files);
    for (protocol, port, count) in [
        (Protocol::TCP, 3389, 1),
        (Protocol::TCP, 3390, 0),
        (Protocol::TCP, 25, 1),
        (Protocol::UDP, 25, 0),
        (Protocol::UDP, 53, 1),
        (Protocol::TCP, 80, 0),
    ] {
        let found = estate.forwards_of_port(1, protocol, port);
        assert_eq!(found.len(), count, "{protocol:?} {port}");
        assert!(found.iter().all(|(front, _)| front.name == "a"));
    }
    // A file that applies at boot says nothing where what runs was exported and has none of it.
    let stored = [
        ("a/ip-addr.json", front.as_str()),
        ("a/etc/iptables/rules.v4", rules),
        ("a/iptables-save.txt", "*filter\n:INPUT DROP [1:60]\nCOMMIT\n"),
        ("b/ip-addr.json", &behind),
    ];
    let estate = crate::testing::estate(&stored);
    assert!(estate.forwards_of_port(1, Protocol::TCP, 25).is_empty());
    let alone =
        [("a/ip-addr.json", front.as_str()), ("a/etc/iptables/rules.v4", rules), ("b/ip-addr.json", &behind)];
    assert_eq!(crate::testing::estate(&alone).forwards_of_port(1, Protocol::TCP, 25).len(), 1);
}

#[test]
fn what_stands_in_for_what_runs() {
    let stored = "auto eth0\niface eth0 inet static\n address 10.4.0.9/24\n gateway 10.4.0.1\n";
    let by_file = estate(&[("d/etc/network/interfaces", stored)]);
    let facts = &by_file.devices[0].facts;
    assert!(facts.has_interfaces && facts.interfaces.iter().any(|one| one.name == "eth0"));
    assert_eq!(facts.routes.len(), 1);
    // A route that names a gateway alone leaves by the interface whose network that is in.
    assert_eq!(facts.routes[0].interface.as_deref(), Some("eth0"));
    let runs = address("eth7", "192.0.2.9/24");
    let both = estate(&[("d/etc/network/interfaces", stored), ("d/ip-addr.json", &runs)]);
    let names: Vec<&str> = both.devices[0].facts.interfaces.iter().map(|one| one.name.as_str()).collect();
    assert_eq!(names, ["eth7"]);
    let loopback = estate(&[("d/etc/network/interfaces", "auto lo\niface lo inet loopback\n")]);
    assert!(!loopback.devices[0].facts.has_interfaces);
}
