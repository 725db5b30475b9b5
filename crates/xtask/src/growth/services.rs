//! Services, logins, addresses, tunnels: one list, many uses.
//!

use super::making::{Files, Ways, address, addresses, lines};
use std::fmt::Write as _;

pub(super) fn add(add: &mut Ways) {
    add.file("sudoers: an alias of many, in many rules", "etc/sudoers", |b| {
        let names = lines(b / 2, |n| format!("user{n},"));
        format!(
            "User_Alias A = {}\n{}",
            names.trim_end_matches(','),
            lines(b / 2, |n| format!("A host{n} = (ALL) ALL\n"))
        )
    });
    add.file("sudoers: command aliases in each other", "etc/sudoers", |b| {
        lines(b, |n| match n {
            0 => "Cmnd_Alias C0 = /bin/a, /bin/b\n".into(),
            n => format!("Cmnd_Alias C{n} = C{p}, C{p}\n", p = n - 1),
        }) + "ann ALL = C1\n"
    });
    add.file("nginx: what all servers inherit, in many places", "etc/nginx/nginx.conf", |b| {
        let list = lines(b / 2, |n| format!("  allow {};\n", address(n)));
        let places = lines(b / 2, |n| format!("  location /p{n} {{ root /srv; }}\n"));
        format!("http {{\n{list}  deny all;\n server {{ listen 80;\n{places} }}\n}}\n")
    });
    add.file("nginx: a list of ciphers, for many servers", "etc/nginx/nginx.conf", |b| {
        let list = lines(b / 2, |n| format!("CIPHER-{n}:"));
        let servers = lines(b / 2, |n| format!("server {{ listen 443 ssl; server_name s{n}; }}\n"));
        format!("http {{\nssl_ciphers {list}AES256-SHA;\n{servers}}}\n")
    });
    add.file("nginx: all in one line", "etc/nginx/nginx.conf", |b| {
        let servers =
            lines(b, |n| format!("server {{ listen {}; server_name s{n}; autoindex on; }} ", 1 + n % 65_000));
        format!("http {{ {servers} }}\n")
    });
    add.file("apache: places and addresses", "etc/apache2/apache2.conf", |b| {
        let hosts = addresses(b / 2, " ");
        let places = lines(b / 2, |n| format!("<Location /p{n}>\n</Location>\n"));
        format!("Listen 80\n<Directory />\nRequire ip {hosts}\n</Directory>\n{places}")
    });
    add.file("apache: places for many hosts", "etc/apache2/apache2.conf", |b| {
        let places = lines(b / 2, |n| format!("<Location /p{n}>\nRequire all granted\n</Location>\n"));
        let hosts = lines(b / 2, |n| format!("<VirtualHost *:80>\nServerName h{n}\n</VirtualHost>\n"));
        format!("Listen 80\n{places}{hosts}")
    });
    add.file("samba: hosts for all shares", "etc/samba/smb.conf", |b| {
        let hosts = addresses(b / 2, " ");
        format!(
            "[global]\nhosts allow = {hosts}\n{}",
            lines(b / 2, |n| format!("[s{n}]\npath = /s{n}\nguest ok = yes\n"))
        )
    });
    add.file("samba: shares that copy others", "etc/samba/smb.conf", |b| {
        format!(
            "[s0]\npath = /s\nvalid users = {}\n{}",
            lines(b / 2, |n| format!("u{n} ")),
            lines(b / 2, |n| format!("[t{n}]\ncopy = s0\n"))
        )
    });
    add.file("rsync: addresses for all modules", "etc/rsyncd.conf", |b| {
        let hosts = addresses(b / 2, " ");
        format!("hosts allow = {hosts}\n{}", lines(b / 2, |n| format!("[m{n}]\npath = /m{n}\n")))
    });
    add.file("named: a list in many zones", "etc/bind/named.conf", |b| {
        let list = addresses(b / 2, "; ");
        let zones = lines(b / 2, |n| {
            format!("zone \"z{n}.example\" {{ type master; file \"z\"; allow-transfer {{ a; }}; }};\n")
        });
        format!("acl a {{ {list}; }};\noptions {{ recursion yes; }};\n{zones}")
    });
    add.file("named: lists in each other", "etc/bind/named.conf", |b| {
        lines(b, |n| match n {
            0 => "acl a0 { 10.0.0.0/8; };\n".into(),
            n => format!("acl a{n} {{ a{p}; a{p}; }};\n", p = n - 1),
        }) + "options { allow-recursion { a9; }; };\n"
    });
    add.file("unbound: addresses and names", "etc/unbound/unbound.conf", |b| {
        format!(
            "server:\n interface: 0.0.0.0\n{}",
            lines(b, |n| format!(" access-control: {}/32 allow\n", address(n)))
        )
    });
    add.file("snmpd: views, groups and who", "etc/snmp/snmpd.conf", |b| {
        let third = b / 3;
        let internet = lines(third, |n| format!("view all included .1.3.{n}\n"));
        let groups = lines(third, |n| format!("group g{} v2c n{n}\n", n % 50));
        let access = lines(third, |n| format!("access g{} \"\" any noauth exact all all none\n", n % 50));
        format!("{}{internet}{groups}{access}", lines(third, |n| format!("com2sec n{n} default c{n}\n")))
    });
    add.file("sshd: conditions, many of them", "etc/ssh/sshd_config", |b| {
        format!(
            "Port 22\n{}",
            lines(b, |n| format!("Match User u{n} Address {}/32\n PasswordAuthentication yes\n", address(n)))
        )
    });
    add.file("sshd: a list of users, and conditions", "etc/ssh/sshd_config", |b| {
        let names = lines(b / 2, |n| format!("u{n} "));
        format!(
            "Port 22\nAllowUsers {names}\n{}",
            lines(b / 2, |n| format!("Match User u{n}\n PermitRootLogin yes\n"))
        )
    });
    add.file("ssh client: patterns and settings", "home/ann/.ssh/config", |b| {
        lines(b, |n| format!("Host h{n} *.h{n}\n StrictHostKeyChecking no\n User u{n}\n"))
    });
    add.files("accounts: people and groups", |b| {
        vec![
            (
                "etc/passwd".into(),
                lines(b / 3, |n| format!("u{n}:x:{}:{}::/home/u{n}:/bin/sh\n", 1000 + n, 1000 + n)),
            ),
            ("etc/group".into(), lines(b / 3, |n| format!("g{n}:x:{}:u{n},u{}\n", 1000 + n, n / 2))),
            (
                "etc/shadow".into(),
                lines(b / 3, |n| format!("u{n}:$1$aa$bbbbbbbbbbbbbbbbbbbbbb:19000:0:99999:7:::\n")),
            ),
        ]
    });
    add.files("accounts: one group of all", |b| {
        vec![
            ("etc/passwd".into(), lines(b / 3, |n| format!("u{n}:x:{}:100::/home/u{n}:/bin/sh\n", 1000 + n))),
            ("etc/group".into(), format!("sudo:x:27:{}\nall:x:100:\n", lines(b / 3, |n| format!("u{n},")))),
            ("etc/sudoers".into(), lines(b / 3, |n| format!("%sudo h{n} = (ALL) NOPASSWD: ALL\n"))),
        ]
    });
    add.file("ipsec.conf: what connections take from others", "etc/ipsec.conf", |b| {
        format!(
            "conn base\n left=198.51.100.1\n rightsubnet={}\n{}",
            addresses(b / 2, ","),
            lines(b / 2, |n| format!("conn c{n}\n also=base\n right=192.0.2.{}\n auto=add\n", n % 250))
        )
    });
    add.file("ipsec.conf: each takes from the one before", "etc/ipsec.conf", |b| {
        lines(b, |n| match n {
            0 => "conn c0\n left=198.51.100.1\n right=192.0.2.1\n auto=add\n".into(),
            n => format!("conn c{n}\n also=c{}\n", n - 1),
        })
    });
    add.file("swanctl: pools and connections", "etc/swanctl/swanctl.conf", |b| {
        let pools = lines(b / 2, |n| format!(" p{n} {{ addrs = {}/32 }}\n", address(n)));
        let all = lines(b / 8, |n| format!("p{n},"));
        let connections = lines(b / 3, |n| {
            format!(
                " c{n} {{ pools = {}\n children {{ x {{ }} }} }}\n",
                if n == 0 { all.as_str() } else { "p1" }
            )
        });
        format!("connections {{\n{connections}}}\npools {{\n{pools}}}\n")
    });
    add.file("ipsec.secrets: many for many", "etc/ipsec.secrets", |b| {
        lines(b, |n| format!("@a{n} @b{} : PSK \"quayside{}\"\n", n / 2, n % 7))
    });
    add.files("firewalld: zones and policies", |b| {
            let mut files: Files = Vec::new();
            let zones = (b / 2 / 120).max(1);
            for n in 0..zones {
                files.push((
                    format!("etc/firewalld/zones/z{n}.xml"),
                    format!("<zone>\n <interface name=\"e{n}\"/>\n <service name=\"ssh\"/>\n</zone>\n"),
                ));
                files.push((format!("etc/firewalld/policies/p{n}.xml"), format!("<policy target=\"ACCEPT\">\n <ingress-zone name=\"ANY\"/>\n <egress-zone name=\"z{n}\"/>\n</policy>\n")));
            }
            files
        });
    add.file("xl2tpd: many sections", "etc/xl2tpd/xl2tpd.conf", |b| {
        format!(
            "[global]\nport = 1701\n{}",
            lines(b, |n| format!(
                "[lns l{n}]\nip range = {}-{}\nlocal ip = 10.255.0.1\n",
                address(n * 4),
                address(n * 4 + 3)
            ))
        )
    });
    add.file("pptpd: a list of ranges", "etc/pptpd.conf", |b| {
        format!("localip 10.255.0.1\nremoteip {}\n", addresses(b, ","))
    });
    add.files("many small files of one device", |b| {
            (0..(b / 128).max(1)).map(|n| (format!("etc/nginx/sites-enabled/s{n}"), format!("server {{ listen {}; server_name s{n}; location / {{ root /srv/{n}; autoindex on; }} }}\n", 1 + n % 65_000))).collect()
        });
    add.files("many small files of several formats", |b| {
        (0..(b / 96).max(1))
            .map(|n| match n % 3 {
                0 => (
                    format!("etc/wireguard/w{n}.conf"),
                    format!("[Interface]\nPrivateKey = x{n}\nAddress = {}/24\n", address(n)),
                ),
                1 => (format!("etc/ssh/sshd_config.d/{n}.conf"), format!("AllowUsers u{n}\n")),
                _ => {
                    (format!("etc/openvpn/ccd/c{n}"), format!("ifconfig-push {} 255.255.255.0\n", address(n)))
                }
            })
            .collect()
    });
    add.files("openvpn: routes and clients", |b| {
        let mut files = vec![(
            "etc/openvpn/server.conf".to_owned(),
            format!(
                "port 1194\ndev tun\nserver 10.200.0.0 255.255.0.0\nclient-config-dir ccd\nca ca.pem\n{}",
                lines(b / 2, |n| format!("push \"route {} 255.255.255.255\"\n", address(n)))
            ),
        )];
        files.extend((0..b / 2 / 48).map(|n| {
            (
                format!("etc/openvpn/ccd/c{n}"),
                format!("ifconfig-push 10.200.{}.{} 255.255.0.0\n", n >> 8 & 255, n & 255),
            )
        }));
        files
    });
    add.file("wireguard: peers and networks", "etc/wireguard/wg0.conf", |b| {
        format!(
            "[Interface]\nPrivateKey = aaaa\nAddress = 10.0.0.1/8\n{}",
            lines(b, |n| format!("# p{n}\n[Peer]\nPublicKey = k{n}\nAllowedIPs = {}/32\n", address(n)))
        )
    });
    add.file("wireguard: one peer of many networks", "etc/wireguard/wg0.conf", |b| {
        format!(
            "[Interface]\nPrivateKey = aaaa\nAddress = 10.0.0.1/8\n[Peer]\nPublicKey = k\nAllowedIPs = {}\n",
            addresses(b, "/32, ")
        )
    });
    add.file("dnsmasq: ranges and hosts", "etc/dnsmasq.conf", |b| {
        format!(
            "interface=eth1\ndhcp-range=10.0.0.2,10.255.0.1\n{}",
            lines(b, |n| format!(
                "dhcp-host=02:00:5e:{:02x}:{:02x}:{:02x},{}\n",
                n >> 16 & 255,
                n >> 8 & 255,
                n & 255,
                address(n)
            ))
        )
    });
    add.file("dhcpd: networks and pools", "etc/dhcp/dhcpd.conf", |b| {
        lines(b, |n| {
            format!(
                "subnet 10.{}.{}.0 netmask 255.255.255.0 {{ range 10.{}.{}.9 10.{}.{}.99; }}\n",
                n >> 8 & 255,
                n & 255,
                n >> 8 & 255,
                n & 255,
                n >> 8 & 255,
                n & 255
            )
        })
    });
    add.file("dhcpd: one in another", "etc/dhcp/dhcpd.conf", |b| {
        format!("{}{}\n", "group { ".repeat(b / 10), "} ".repeat(b / 10))
    });
    add.file("kea: networks in one line", "etc/kea/kea-dhcp4.conf", |b| {
        let all = lines(b, |n| {
            format!(
                "{{\"subnet\": \"10.{}.{}.0/24\", \"pools\": [{{\"pool\": \"10.{}.{}.9 - 10.{}.{}.90\"}}]}},",
                n >> 8 & 255,
                n & 255,
                n >> 8 & 255,
                n & 255,
                n >> 8 & 255,
                n & 255
            )
        });
        format!(
            "{{\"Dhcp4\": {{\"interfaces-config\": {{\"interfaces\": [\"*\"]}}, \"subnet4\": [{}]}}}}\n",
            all.trim_end_matches(',')
        )
    });
    add.file("exports: paths and clients", "etc/exports", |b| {
        lines(b, |n| format!("/s{n} {}(rw,no_root_squash) *(ro)\n", address(n)))
    });
    add.file("exports: one path for many", "etc/exports", |b| {
        format!("/s {}\n", lines(b, |n| format!("{}(rw) ", address(n))))
    });
    add.files("databases: who from where", |b| {
        vec![
            ("etc/postgresql/15/main/postgresql.conf".into(), "listen_addresses = '*'\nport = 5432\n".into()),
            (
                "etc/postgresql/15/main/pg_hba.conf".into(),
                lines(b, |n| format!("host db{n} u{n} {}/32 md5\n", address(n))),
            ),
        ]
    });
    add.file("mosquitto: listeners and bridges", "etc/mosquitto/mosquitto.conf", |b| {
        format!(
            "per_listener_settings true\n{}",
            lines(b, |n| format!("listener {}\nallow_anonymous true\n", 1 + n % 65_000))
        )
    });
    add.file("iscsi: targets and who", "etc/target/saveconfig.json", |b| { let acls = lines(b, |n| {
                format!(
                    "{{\"node_wwn\": \"iqn.2026-01.example:i{n}\", \"chap_userid\": \"u{n}\", \"chap_password\": \"secret{n}\"}},"
                )
            });
             format!(
                    "{{\"storage_objects\": [], \"targets\": [{{\"fabric\": \"iscsi\", \"wwn\": \"iqn.2026-01.example:t\", \"tpgs\": [{{\"attributes\": {{\"authentication\": 1}}, \"portals\": [{{\"ip_address\": \"0.0.0.0\", \"port\": 3260}}], \"node_acls\": [{}]}}]}}]}}\n",
                    acls.trim_end_matches(',')
                ) });
    add.files("radius: clients and people", |b| {
        vec![
            (
                "etc/freeradius/3.0/clients.conf".into(),
                lines(b / 2, |n| {
                    format!("client c{n} {{\n ipaddr = {}\n secret = quay{n}\n}}\n", address(n))
                }),
            ),
            (
                "etc/freeradius/3.0/users".into(),
                lines(b / 2, |n| {
                    format!("u{n} Cleartext-Password := \"quay{n}\"\n Framed-IP-Address = {}\n", address(n))
                }),
            ),
        ]
    });
    add.file("keys: many of one account", "home/ann/.ssh/authorized_keys", |b| {
        lines(b, |n| format!("from=\"{}\" ssh-ed25519 AAAAC3NzaC1lZDI1NTE5AAAAI{n:040} k{n}\n", address(n)))
    });
    add.file("ppp: callers and addresses", "etc/ppp/chap-secrets", |b| {
        lines(b, |n| format!("u{n} * quay{n} {}\n", address(n)))
    });
    add.file("haproxy: entrances and where they lead", "etc/haproxy/haproxy.cfg", |b| {
        lines(b, |n| {
            format!(
                "frontend f{n}\n bind :{}\n default_backend b{n}\nbackend b{n}\n server s 10.0.0.9:80\n",
                1 + n % 65_000
            )
        })
    });
    add.file("stunnel: services", "etc/stunnel/stunnel.conf", |b| {
        lines(b, |n| format!("[s{n}]\naccept = {}\nconnect = 10.0.0.9:80\n", 1 + n % 65_000))
    });
    add.files("interfaces and routes", |b| {
        let interfaces = lines(b / 2, |n| {
            format!(
                "{{\"ifname\":\"e{n}\",\"addr_info\":[{{\"local\":\"10.{}.{}.1\",\"prefixlen\":24}}]}},\n",
                n >> 8 & 255,
                n & 255
            )
        });
        let routes = lines(b / 2, |n| {
            format!("{{\"dst\":\"{}\",\"gateway\":\"10.0.0.9\",\"flags\":[]}},\n", address(n))
        });
        vec![
            ("ip-addr.json".into(), format!("[{}]\n", interfaces.trim_end_matches(",\n"))),
            ("ip-route.json".into(), format!("[{}]\n", routes.trim_end_matches(",\n"))),
        ]
    });
    add.files("sockets and units", |b| {
        vec![
            (
                "ss.txt".into(),
                format!(
                    "Netid State Recv-Q Send-Q Local Address:Port Peer Address:Port Process\n{}",
                    lines(b / 2, |n| format!(
                        "tcp LISTEN 0 128 0.0.0.0:{} 0.0.0.0:* users:((\"p{n}\",pid={n},fd=3))\n",
                        1 + n % 65_000
                    ))
                ),
            ),
            (
                "systemctl-list-unit-files.txt".into(),
                format!(
                    "UNIT FILE STATE PRESET\n{}",
                    lines(b / 2, |n| format!("u{n}.service enabled enabled\n"))
                ),
            ),
        ]
    });
    add.file("yaml: what stands for more and more", "etc/netplan/01.yaml", |b| {
        format!(
            "network:\n  version: 2\n  x: &x0 [a, a]\n{}",
            lines(b.min(4_000), |n| format!("  y{n}: &x{} [*x{n}, *x{n}]\n", n + 1))
        )
    });
    add.file("xml: one in another", "etc/firewalld/zones/a.xml", |b| {
        format!("<zone>{}{}</zone>\n", "<rule>".repeat(b / 14), "</rule>".repeat(b / 14))
    });
    add.file("json: one in another", "ip-addr.json", |b| {
        format!("{}{}\n", "[".repeat(b / 2), "]".repeat(b / 2))
    });
    add.file("a sheet: entries of each kind", "sheet.toml", |b| {
        format!(
            "sheet = \"trevlin-sheet/1\"\ndevice = \"d\"\n{}",
            lines(b, |n| format!("[[logins]]\nuser = \"u{n}\"\nservice = \"s\"\nsecret = \"quay{n}\"\n"))
        )
    });
    add.file("a sheet: rules", "sheet.toml", |b| format!(
                    "sheet = \"trevlin-sheet/1\"\ndevice = \"d\"\n[rule-list]\nthrough = \"deny\"\nto-device = \"deny\"\n{}",
                    lines(b, |n| format!(
                        "[[rules]]\nfrom = \"any\"\nto = \"any\"\nsources = [\"{}\"]\naction = \"allow\"\n",
                        address(n)
                    ))
                ));
    add.file("uci: zones that forward to each other", "uci-export.txt", |b| { let zones = (b / 2 / 120).max(1);
            let all = (0..zones).fold(String::from("package firewall\n\nconfig defaults\n\toption input 'REJECT'\n"), |mut all, n| {
            let _ = writeln!(all, "config zone\n\toption name 'z{n}'\n\tlist device 'e{n}'\n\toption input 'ACCEPT'\n\toption forward 'ACCEPT'");
            all
        });
             all + &lines(b / 2, |n| {
                    format!(
                        "config forwarding\n\toption src 'z{}'\n\toption dest 'z{}'\n",
                        n % zones,
                        (n / zones + n) % zones
                    )
                }) });
    add.file("uci: rules for any zone", "uci-export.txt", |b| format!(
                    "package firewall\n\n{}{}",
                    lines(b / 2, |n| format!("config zone\n\toption name 'z{n}'\n\tlist device 'e{n}'\n")),
                    lines(b / 2, |n| format!(
                        "config rule\n\toption src '*'\n\toption dest '*'\n\toption dest_port '{}'\n\toption target 'ACCEPT'\n",
                        1 + n % 65_000
                    ))
                ));
    add.files("pam: stacks that include each other", |b| {
        (0..(b / 96).max(2))
            .map(|n| {
                (
                    format!("etc/pam.d/s{n}"),
                    format!("auth required pam_unix.so\n@include s{}\n@include s{}\n", n + 1, n + 1),
                )
            })
            .collect()
    });
    add.files("pam: conditions, lists and accounts", |b| {
        let conditions = lines(b / 4, |n| {
            format!(
                "auth [success=1 default=ignore] pam_access.so accessfile=/etc/security/a.conf d{n}\nauth optional pam_succeed_if.so \
                 user = u{n}\n"
            )
        });
        let stack = format!("{conditions}auth required pam_oath.so\nauth required pam_unix.so\n");
        vec![
            ("etc/pam.d/sshd".into(), stack),
            ("etc/ssh/sshd_config".into(), "UsePAM yes\nKbdInteractiveAuthentication yes\n".into()),
            (
                "etc/security/a.conf".into(),
                lines(b / 4, |n| format!("+ : u{n} : {}\n- : ALL : {}\n", address(2 * n), address(2 * n + 1))),
            ),
            (
                "etc/passwd".into(),
                lines(b / 4, |n| format!("u{n}:x:{}:100::/home/u{n}:/bin/sh\n", 1000 + n)),
            ),
            ("etc/group".into(), lines(b / 4, |n| format!("g{n}:x:{}:u{n}\n", 1000 + n))),
        ]
    });
    add.file("haproxy: conditions of a login", "etc/haproxy/haproxy.cfg", |b| {
        let lists = lines(b / 2, |n| format!(" acl near src {}\n", address(n)));
        let condition = lines(b / 2, |_| " || near".into());
        format!("frontend f\n mode http\n bind :80\n{lists} http-request auth unless near{condition}\n")
    });
    add.files("web: password lists of many sites", |b| {
        let sites = lines(b / 2, |n| {
            format!("server {{ listen 80; server_name s{n}.example; auth_basic x;\nauth_basic_user_file /etc/l{n};\n}}\n")
        });
        vec![
            ("etc/nginx/nginx.conf".into(), format!("http {{\n{sites}}}\n")),
            ("etc/nginx/list.htpasswd".into(), lines(b / 2, |n| format!("u{n}:{{SHA}}quay{n}\n"))),
        ]
    });
    add.file("libwrap: daemons and clients", "etc/hosts.allow", |b| {
        lines(b, |n| format!("vsftpd: {}\n", address(n)))
    });
    add.file("secrets: the same in one long line", "data.json", |b| {
        format!(
            "{{\"ietf-system:system\": {{\"authentication\": {{\"user\": [{}]}}}}}}\n",
            lines(b, |n| format!("{{\"name\": \"u{n}\", \"password\": \"$0$quay{n}\"}},"))
                .trim_end_matches(',')
        )
    });
}
