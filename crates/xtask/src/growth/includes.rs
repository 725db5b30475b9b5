//! Files that read in others.

use super::making::Ways;

/// Files that read in others over and over.
pub(super) fn add(add: &mut Ways) {
    for (name, main, line, other, inner) in [
        (
            "nginx",
            "etc/nginx/nginx.conf",
            "include x.conf;\n",
            "etc/nginx/x.conf",
            "# a line of it\nserver { listen 80; }\n",
        ),
        (
            "apache",
            "etc/apache2/apache2.conf",
            "Include x.conf\n",
            "etc/apache2/x.conf",
            "<Location /a>\nRequire all granted\n</Location>\n",
        ),
        ("sudoers", "etc/sudoers", "@include /etc/sudoers.x\n", "etc/sudoers.x", "ann ALL = (ALL) ALL\n"),
        (
            "unbound",
            "etc/unbound/unbound.conf",
            "include: x.conf\n",
            "etc/unbound/x.conf",
            "server:\n access-control: 10.0.0.0/8 allow\n",
        ),
        (
            "named",
            "etc/bind/named.conf",
            "include \"x.conf\";\n",
            "etc/bind/x.conf",
            "zone \"a.example\" { type master; file \"a\"; };\n",
        ),
        (
            "redis",
            "etc/redis/redis.conf",
            "include /etc/redis/x.conf\n",
            "etc/redis/x.conf",
            "user a on >quay7 ~* +@all\n",
        ),
        ("sshd", "etc/ssh/sshd_config", "Include /etc/ssh/x.conf\n", "etc/ssh/x.conf", "AllowUsers a b c\n"),
        (
            "chrony",
            "etc/chrony/chrony.conf",
            "include /etc/chrony/x.conf\n",
            "etc/chrony/x.conf",
            "server 10.0.0.1\nallow 10.0.0.0/8\n",
        ),
        (
            "nftables",
            "etc/nftables.conf",
            "include \"./x.nft\"\n",
            "etc/x.nft",
            "table inet f {\n chain c {\n ip saddr 10.0.0.1 accept\n }\n}\n",
        ),
        (
            "ipsec.conf",
            "etc/ipsec.conf",
            "include /etc/x.conf\n",
            "etc/x.conf",
            "conn a\n left=198.51.100.1\n",
        ),
        (
            "swanctl",
            "etc/swanctl/swanctl.conf",
            "include x.conf\n",
            "etc/swanctl/x.conf",
            "connections { a { children { b { } } } }\n",
        ),
        (
            "snmpd",
            "etc/snmp/snmpd.conf",
            "includeFile x.conf\n",
            "etc/snmp/x.conf",
            "rocommunity quay 10.0.0.0/8\n",
        ),
        ("ssh client", "home/ann/.ssh/config", "Include x\n", "home/ann/.ssh/x", "Host a\n User b\n"),
        (
            "samba",
            "etc/samba/smb.conf",
            "include = /etc/samba/x.conf\n",
            "etc/samba/x.conf",
            "[s]\npath = /s\nguest ok = yes\n",
        ),
        (
            "proftpd",
            "etc/proftpd/proftpd.conf",
            "Include /etc/proftpd/x.conf\n",
            "etc/proftpd/x.conf",
            "<Directory /a>\nAllowAll\n</Directory>\n",
        ),
        (
            "ppp",
            "etc/ppp/options.pptpd",
            "file /etc/ppp/x\n",
            "etc/ppp/x",
            "require-mschap-v2\nms-dns 10.0.0.1\n",
        ),
        (
            "postgresql",
            "etc/postgresql/15/main/postgresql.conf",
            "include 'x.conf'\n",
            "etc/postgresql/15/main/x.conf",
            "listen_addresses = '*'\nport = 5432\n",
        ),
        (
            "mariadb",
            "etc/mysql/mariadb.cnf",
            "!include /etc/mysql/x.cnf\n",
            "etc/mysql/x.cnf",
            "[mysqld]\nbind-address = 0.0.0.0\n",
        ),
        (
            "ntp",
            "etc/ntp.conf",
            "includefile /etc/ntp.x\n",
            "etc/ntp.x",
            "server 10.0.0.1\nrestrict 10.0.0.0\n",
        ),
        (
            "rsyslog",
            "etc/rsyslog.conf",
            "$IncludeConfig /etc/rsyslog.x\n",
            "etc/rsyslog.x",
            "*.* @10.0.0.1\n",
        ),
        (
            "openvpn",
            "etc/openvpn/server.conf",
            "config x.conf\n",
            "etc/openvpn/x.conf",
            "push \"route 10.0.0.0 255.0.0.0\"\n",
        ),
    ] {
        add.files(format!("{name}: one file read in over and over"), move |b| {
            vec![
                (main.to_owned(), line.repeat(1 + b / 2 / line.len())),
                (other.to_owned(), inner.repeat(1 + b / 2 / inner.len())),
            ]
        });
    }
}
