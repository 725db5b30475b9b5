use super::*;
use crate::testing::run;

const SERVER: (&str, &str) = ("d/etc/pptpd.conf", "option /etc/ppp/pptpd-options\nremoteip 10.4.0.9\n");
const SYSTEM: (&str, &str) = ("d/etc/ppp/options", "asyncmap 0\n");
const LIST: (&str, &str) = ("d/etc/ppp/chap-secrets", "ann * sesame *\nbob * other *\n# cid * third *\n");

#[test]
fn dial_in() {
    for (options, wanted) in [
        ("require-mschap-v2\n", "fail high d pptpd-options:1 chap-secrets:1 chap-secrets:2"),
        ("noauth\n", "fail critical d pptpd-options:1 pptpd.conf:2"),
        ("require-mschap-v2\nnoauth\n", "fail critical d pptpd-options:2 pptpd.conf:2"),
        ("noauth\nrequire-mschap-v2\n", "fail high d pptpd-options:2 chap-secrets:1 chap-secrets:2"),
        ("refuse-pap\n", "fail critical d pptpd-options:1 pptpd.conf:2"),
        ("require-mschap-v2\nplugin radius.so\n", "ask d"),
        ("require-eap\n", "ask d"),
        ("require-pap\nlogin\n", "ask d"),
        ("require-pap\n", "ask d"),
    ] {
        run(&CHECK, &[(options, &[SERVER, SYSTEM, LIST, ("d/etc/ppp/pptpd-options", options)], &[wanted])]);
    }
    run(
        &CHECK,
        &[
            ("no options", &[SERVER, SYSTEM, LIST], &["ask d"]),
            ("no list", &[SERVER, SYSTEM, ("d/etc/ppp/pptpd-options", "auth\n")], &["ask d"]),
            ("would not start", &[("d/etc/pptpd.conf", "remoteip 10.4.0.9.9\n"), SYSTEM, LIST], &["none d"]),
            ("all in comments", &[("d/etc/pptpd.conf", "# remoteip 10.4.0.9\n"), LIST], &[]),
        ],
    );
}

#[test]
fn tls_based() {
    for (directives, wanted) in [
        ("", "fail medium d s.conf:2"),
        ("plugin /x/openvpn-plugin-auth-pam.so vpn\n", "pass d"),
        ("auth-user-pass-verify /x via-env\n", "pass d"),
        (
            "plugin /x/openvpn-plugin-auth-pam.so vpn\nauth-user-pass-optional\n",
            "fail medium d s.conf:3 s.conf:2",
        ),
        ("# plugin /x/openvpn-plugin-auth-pam.so vpn\n", "fail medium d s.conf:2"),
        ("plugin /x/openvpn-plugin-down-root.so down\n", "fail medium d s.conf:2"),
        ("verify-client-cert none\nplugin /x/radius.so\n", "ask d"),
        ("verify-client-cert optional\nmanagement-client-auth\n", "ask d"),
        ("verify-client-cert none\n", "ask d"),
        ("config gone.conf\n", "ask d"),
    ] {
        let text = format!("dev tun\nserver 10.8.0.0 255.255.255.0\n{directives}");
        run(&CHECK, &[(directives, &[("d/s.conf", &text)], &[wanted])]);
    }
    let server = "dev tun\nserver 10.8.0.0 255.255.255.0\nverify-client-cert none\nplugin /x/openvpn-plugin-auth-pam.so vpn\n";
    for (stack, wanted) in [
        ("auth required pam_unix.so\n", "fail high d s.conf:4 vpn:1 s.conf:2"),
        ("auth required pam_unix.so\nauth required pam_oath.so\n", "pass d"),
        ("auth required pam_radius_auth.so\n", "ask d"),
        ("auth required pam_permit.so\n", "fail critical d s.conf:4 s.conf:2"),
    ] {
        run(&CHECK, &[(stack, &[("d/s.conf", server), ("d/etc/pam.d/vpn", stack)], &[wanted])]);
    }
    let certificate = server.replace("verify-client-cert none\n", "");
    for (stack, wanted) in [
        ("auth required pam_unix.so\n", "pass d"),
        ("auth required pam_radius_auth.so\n", "pass d"),
        ("auth required pam_permit.so\n", "fail medium d s.conf:3 s.conf:2"),
    ] {
        run(&CHECK, &[(stack, &[("d/s.conf", &certificate), ("d/etc/pam.d/vpn", stack)], &[wanted])]);
    }
    run(&CHECK, &[("a client", &[("d/c.conf", "client\ndev tun\nremote 192.0.2.9\n")], &["none d"])]);
}

#[test]
fn a_radius_server_of_the_estate_is_followed() {
    const GATE: (&str, &str) = (
        "gate/s.conf",
        "dev tun\nserver 10.8.0.0 255.255.255.0\nca c\ncert c\nkey k\ndh none\nverify-client-cert none\n\
         plugin /usr/lib/openvpn/radiusplugin.so /etc/openvpn/radiusplugin.cnf\n",
    );
    const ASKS: (&str, &str) = ("gate/radiusplugin.cnf", "server\n{\n\tname=10.4.0.9\n\tsharedsecret=x\n}\n");
    const ADDRESS: (&str, &str) = (
        "aaa/ip-addr.json",
        r#"[{"ifname":"eth0","flags":["UP"],"addr_info":[{"family":"inet","local":"10.4.0.9","prefixlen":24}]}]"#,
    );
    const CLIENTS: (&str, &str) = ("aaa/clients.conf", "client gate {\n ipaddr = 10.4.0.1\n secret = x\n}\n");
    let site = |modules: &str| {
        format!(
            "server default {{\n authorize {{\n  files\n  {modules}\n }}\n authenticate {{\n  pap\n }}\n}}\n"
        )
    };
    let (plain, code) = (site("preprocess"), site("step-up"));
    for (name, more, wanted) in [
        ("nobody knows which server", &[][..], "ask gate"),
        ("a server elsewhere", &[ASKS], "ask gate"),
        ("its site was not exported", &[ASKS, ADDRESS, CLIENTS], "ask gate"),
        (
            "it asks for a password",
            &[ASKS, ADDRESS, CLIENTS, ("aaa/default", &plain)],
            "fail high gate s.conf:8 radiusplugin.cnf:1 default:7 s.conf:2",
        ),
        ("it asks somebody else", &[ASKS, ADDRESS, CLIENTS, ("aaa/default", &code)], "ask gate"),
        (
            "it lets everybody in",
            &[ASKS, ADDRESS, CLIENTS, ("aaa/users", "DEFAULT Auth-Type := Accept\n")],
            "fail critical gate s.conf:8 users:1 radiusplugin.cnf:1 s.conf:2",
        ),
        (
            "it hands them on",
            &[
                ASKS,
                ADDRESS,
                CLIENTS,
                ("aaa/default", &plain),
                (
                    "aaa/proxy.conf",
                    "home_server far {\n ipaddr = 192.0.2.9\n secret = x\n}\nhome_server_pool p {\n home_server = far\n}\n\
                     realm DEFAULT {\n auth_pool = p\n}\n",
                ),
            ],
            "ask gate",
        ),
    ] {
        let files: Vec<_> = [GATE].into_iter().chain(more.iter().copied()).collect();
        let estate = crate::testing::estate(&files);
        let answers = crate::testing::answers(&CHECK, &estate);
        assert_eq!(answers, [wanted], "{name}");
    }
}

#[test]
fn openconnect_servers() {
    for (auth, more, wanted) in [
        ("auth = plain[passwd=/etc/ocserv/ocpasswd]", &[][..], "fail high d ocserv.conf:2"),
        ("auth = plain[passwd=/etc/ocserv/ocpasswd,otp=/etc/ocserv/otp]", &[], "pass d"),
        ("#auth = certificate\nauth = plain[passwd=a]", &[], "fail high d ocserv.conf:3"),
        ("auth = certificate", &[], "fail medium d ocserv.conf:2"),
        ("auth = certificate\nauth = plain[passwd=a]", &[], "pass d"),
        ("auth = certificate\nauth = radius[config=/x]", &[], "pass d"),
        ("auth = radius[config=/x]", &[], "ask d"),
        (
            "auth = radius[config=/x]\nenable-auth = certificate",
            &[],
            "fail high d ocserv.conf:2 ocserv.conf:3 | ask d",
        ),
        (
            "auth = certificate\nenable-auth = radius[config=/x]",
            &[],
            "fail high d ocserv.conf:3 ocserv.conf:2 | ask d",
        ),
        ("auth = certificate\nauth = pam\nenable-auth = certificate", &[], "fail medium d ocserv.conf:4"),
        ("auth = pam", &[], "ask d"),
        (
            "auth = pam",
            &[("d/etc/pam.d/ocserv", "auth required pam_unix.so\n")],
            "fail high d ocserv.conf:2 ocserv:1",
        ),
        (
            "auth = pam",
            &[("d/etc/pam.d/ocserv", "auth required pam_unix.so\nauth required pam_oath.so\n")],
            "pass d",
        ),
        ("auth = telepathy", &[], "ask d"),
    ] {
        let text = format!("ipv4-network = 10.9.0.0/24\n{auth}\n");
        let files: Vec<_> =
            [("d/ocserv.conf", text.as_str())].into_iter().chain(more.iter().copied()).collect();
        let wanted: Vec<&str> = wanted.split(" | ").collect();
        run(&CHECK, &[(auth, &files, &wanted)]);
    }
}

#[test]
fn a_forward_from_outside_is_told() {
    const ADDRESS: (&str, &str) =
        ("d/ip-addr.json", r#"[{"ifname":"eth0","addr_info":[{"local":"10.4.0.5","prefixlen":24}]}]"#);
    const SERVER: (&str, &str) =
        ("d/s.conf", "dev tun\nserver 10.8.0.0 255.255.255.0\nca c\ncert c\nkey k\ndh none\n");
    let front = |proto: &str| {
        format!("*nat\n-A PREROUTING -p {proto} --dport 1194 -j DNAT --to-destination 10.4.0.5\nCOMMIT\n")
    };
    for (proto, wanted) in [("udp", "fail medium d s.conf:2 rules.v4:2"), ("tcp", "fail medium d s.conf:2")] {
        run(&CHECK, &[(proto, &[ADDRESS, SERVER, ("e/rules.v4", &front(proto))], &[wanted])]);
    }
}

#[test]
fn connections_and_peers() {
    let conn =
        |lines: &str| format!("conn c\n\tauto=add\n\tright=%any\n\trightsourceip=10.9.0.0/24\n\t{lines}\n");
    for (name, lines, wanted) in [
        ("a certificate", "rightauth=pubkey", "fail medium d ipsec.conf:5"),
        ("a certificate and a password", "rightauth=pubkey\n\trightauth2=eap-mschapv2", "pass d"),
        ("a password", "rightauth=eap-mschapv2", "fail high d ipsec.conf:1 ipsec.conf:5"),
        ("a shared key", "rightauth=psk", "fail high d ipsec.conf:1 ipsec.conf:5"),
        (
            "a shared key and a password",
            "keyexchange=ikev1\n\trightauth=psk\n\trightauth2=xauth",
            "fail high d ipsec.conf:1 ipsec.conf:7",
        ),
        ("a method that is agreed on", "rightauth=eap-dynamic", "ask d"),
        ("somebody else decides", "rightauth=eap-radius", "ask d"),
        ("around L2TP", "rightauth=psk\n\tleftprotoport=17/1701", "none d"),
    ] {
        run(&CHECK, &[(name, &[("d/ipsec.conf", &conn(lines))], &[wanted])]);
    }
    run(
        &CHECK,
        &[(
            "loads nothing",
            &[("d/ipsec.conf", &conn("rightauth=psk").replace("auto=add", "auto=ignore"))],
            &[],
        )],
    );
    // Whoever may connect from any address, by a login or a pattern, is remote access, with a pool of addresses or without one.
    for (name, lines, wanted) in [
        (
            "a login from anywhere",
            "rightauth=eap-mschapv2\n\trightid=desk@gate.example",
            "fail high d ipsec.conf:1 ipsec.conf:4",
        ),
        (
            "a pattern of identities",
            "rightauth=pubkey\n\trightid=*@gate.example",
            "fail medium d ipsec.conf:4",
        ),
        (
            "a pattern of names",
            "rightauth=pubkey\n\trightid=\"O=Veyholm, CN=*\"",
            "fail medium d ipsec.conf:4",
        ),
        ("one branch without a fixed address", "rightauth=psk\n\trightid=@yard.example", "none d"),
        ("a login at a fixed address", "right=198.51.100.9\n\trightauth=eap-mschapv2", "none d"),
    ] {
        let text = format!("conn c\n\tauto=add\n\tright=%any\n\t{lines}\n");
        run(&CHECK, &[(name, &[("d/ipsec.conf", &text)], &[wanted])]);
    }
    let site = "conn c\n\tauto=add\n\tright=198.51.100.9\n\tauthby=secret\n";
    run(&CHECK, &[("a site", &[("d/ipsec.conf", site)], &["none d"])]);
    let peers = "[Interface]\nPrivateKey = k\nAddress = 10.9.0.1/24\nListenPort = 51820\n[Peer]\nPublicKey = a\nAllowedIPs = 10.9.0.2/32\n";
    run(&CHECK, &[("peers", &[("d/wg0.conf", peers)], &["fail medium d wg0.conf:1 wg0.conf:5"])]);
}

#[test]
fn a_certificate_around_l2tp() {
    let server = (
        "d/xl2tpd.conf",
        "[lns default]\nip range = 10.9.0.9-10.9.0.40\nname = l2tp\npppoptfile = /etc/ppp/options.xl2tpd\n",
    );
    let options = ("d/etc/ppp/options.xl2tpd", "require-mschap-v2\n");
    let list = ("d/etc/ppp/chap-secrets", "ann l2tp sesame *\n");
    let around = |proof: &str| {
        format!(
            "conn l2tp\n\tauto=add\n\ttype=transport\n\tleftprotoport=17/1701\n\tright=%any\n\trightauth={proof}\n"
        )
    };
    let (certificate, key) = (around("pubkey"), around("psk"));
    let filter = |policy: &str| {
        format!("*filter\n:INPUT DROP [0:0]\n-A INPUT -p udp {policy}-m udp --dport 1701 -j ACCEPT\nCOMMIT\n")
    };
    let (guarded, open) = (filter("-m policy --dir in --pol ipsec "), filter(""));
    let at = "d/iptables-save.txt";
    let fail = "fail high d options.xl2tpd:1 chap-secrets:1";
    for (name, connection, rules, wanted) in [
        ("both are asked for", &certificate, Some(&guarded), "pass d"),
        ("the filter lets in without", &certificate, Some(&open), fail),
        ("no filter", &certificate, None, "ask d"),
        ("a shared key is no factor of another kind", &key, Some(&guarded), fail),
    ] {
        let mut files = vec![server, SYSTEM, options, list, ("d/ipsec.conf", connection.as_str())];
        files.extend(rules.map(|rules| (at, rules.as_str())));
        // The connection itself answers as well, and does not apply.
        run(&CHECK, &[(name, &files, &[wanted, "none d"])]);
    }
}
