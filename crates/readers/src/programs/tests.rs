//! Services of programs by their options.

use crate::testing::services;
use crate::upkeep::service_units;

#[test]
fn memcached() {
    let told = |text: &str| services(&super::memcached::READER, &[("etc/memcached.conf", text)]);
    for (text, wanted) in [
        ("-d\n-m 64\n", "*:11211 any address nothing writes"),
        ("-l 127.0.0.1\n-p 11212  # own port\n", "127.0.0.1:11212 any address nothing writes"),
        ("-l localhost\n", "127.0.0.1:11211 ::1:11211 any address nothing writes"),
        ("--listen=10.4.0.9:11300,notls:::1\n-Z\n", "10.4.0.9:11300! ::1:11211 any address nothing writes"),
        ("-p 0\n-U 11211\n", "udp *:11211 any address nothing writes"),
        ("-S\n", "*:11211 any address a password writes clear"),
        ("-s /run/m.sock\n", ""),
        ("-p 0\n", ""),
        // The list is a part of the one before it.
        ("-l 10.4.0.9,::1\n-l ::1\n", "10.4.0.9:11211 ::1:11211 any address nothing writes"),
        (
            "-l 0.0.0.0\n-l localhost\n",
            "IPv4:11211 127.0.0.1:11211 ::1:11211 any address nothing writes refused: two of its addresses are the same",
        ),
    ] {
        assert_eq!(told(text), wanted, "{text}");
    }
    let fedora = ("etc/sysconfig/memcached", "PORT=\"11215\"\nUSER=\"x\"\nOPTIONS=\"-l 10.4.0.9,::1\"\n");
    assert_eq!(
        services(&super::memcached::READER, &[fedora]),
        "10.4.0.9:11215 ::1:11215 any address nothing writes"
    );
    // A unit of one's own leaves the file out.
    let unit =
        ("etc/systemd/system/memcached.service", "[Service]\nExecStart=/usr/bin/memcached -l 10.4.0.9\n");
    assert_eq!(services(&super::memcached::READER, &[("etc/memcached.conf", "-m 64\n"), unit]), "");
    assert_eq!(services(&service_units::READER, &[unit]), "10.4.0.9:11211 any address nothing writes");
}

#[test]
fn etcd() {
    for (path, text, wanted) in [
        (
            "etc/default/etcd",
            "ETCD_NAME=a\n",
            "127.0.0.1:2379 any address unknown writes; 127.0.0.1:2380 any address nothing writes",
        ),
        (
            "etc/default/etcd",
            "ETCD_LISTEN_CLIENT_URLS=\"https://10.4.0.9:2379\"\nETCD_CLIENT_CERT_AUTH=true\nETCD_LISTEN_PEER_URLS=https://0.0.0.0:2380\nETCD_PEER_CLIENT_CERT_AUTH=true\n",
            "10.4.0.9:2379! any address a certificate writes; *:2380! any address a certificate writes",
        ),
        // Certificates are not asked for where a place goes without TLS.
        (
            "etc/default/etcd",
            "ETCD_LISTEN_CLIENT_URLS=https://10.4.0.9:2379,http://0.0.0.0:2381\nETCD_CLIENT_CERT_AUTH=true\nETCD_LISTEN_METRICS_URLS=http://10.4.0.9:2399\n",
            "10.4.0.9:2379! *:2381 any address unknown writes; 127.0.0.1:2380 any address nothing writes; 10.4.0.9:2399 any address nothing",
        ),
        (
            "etc/etcd/etcd.conf.yml",
            "name: a\nlisten-client-urls: https://0.0.0.0:2379\nclient-transport-security:\n  client-cert-auth: true\n",
            "*:2379! any address a certificate writes; 127.0.0.1:2380 any address nothing writes",
        ),
    ] {
        assert_eq!(services(&super::etcd::READER, &[(path, text)]), wanted, "{text}");
    }
    let unit = |options: &str| {
        format!("[Service]\nEnvironmentFile=-/etc/default/etcd\nExecStart=/usr/bin/etcd {options}\n")
    };
    let variables = ("etc/default/etcd", "ETCD_LISTEN_PEER_URLS=http://10.4.0.9:2380\n");
    for (options, wanted) in [
        (
            "--listen-client-urls http://0.0.0.0:2379",
            "*:2379 any address unknown writes; 10.4.0.9:2380 any address nothing writes",
        ),
        (
            "-listen-peer-urls=http://0.0.0.0:2380",
            "127.0.0.1:2379 any address unknown writes refused: `listen-peer-urls` is set by an option and by a variable; *:2380 any address \
             nothing writes refused: `listen-peer-urls` is set by an option and by a variable",
        ),
        ("gateway start", ""),
    ] {
        let files = [("etc/systemd/system/etcd.service", &*unit(options)), variables];
        assert_eq!(services(&service_units::READER, &files), wanted, "{options}");
    }
}

#[test]
fn rpcbind() {
    const ALL: &str = "*:111 udp *:111 any address nothing";
    for (text, more, wanted) in [
        ("OPTIONS=\"-w\"\n", vec![], ALL),
        // systemd holds the sockets.
        ("OPTIONS=\"-w\"\nOPTIONS=\"${OPTIONS} -h 127.0.0.1\"\n", vec![], ALL),
        (
            "OPTIONS=\"\"\n",
            vec![(
                "etc/systemd/system/rpcbind.socket.d/a.conf",
                "[Socket]\nListenStream=\nListenDatagram=\nListenStream=127.0.0.1:111\n",
            )],
            "127.0.0.1:111 any address nothing",
        ),
        (
            "OPTIONS=\"-l\"\n",
            vec![
                ("etc/hosts.allow", "rpcbind: 10.4.\n"),
                ("etc/hosts.deny", "ALL: ALL\n"),
                ("etc/debian_version", "12.8\n"),
            ],
            "*:111 udp *:111 10.4.0.0/16 nothing",
        ),
    ] {
        let mut files = vec![("etc/default/rpcbind", text)];
        files.extend(more);
        assert_eq!(services(&super::rpcbind::READER, &files), wanted, "{text}");
    }
    let unit = ("etc/systemd/system/own.service", "[Service]\nExecStart=/sbin/rpcbind -f -h 10.4.0.9\n");
    assert_eq!(
        services(&service_units::READER, &[unit]),
        "*:111 udp 10.4.0.9:111 udp 127.0.0.1:111 udp ::1:111 any address nothing"
    );
}

#[test]
fn tftpd() {
    for (text, more, wanted) in [
        (
            "TFTP_ADDRESS=\":69\"\nTFTP_OPTIONS=\"--secure\"\nTFTP_DIRECTORY=/srv/tftp\n",
            vec![],
            "udp *:69 any address nothing",
        ),
        ("TFTP_ADDRESS=[::]:69\nTFTP_OPTIONS='-s -c'\n", vec![], "udp *:69 any address nothing writes"),
        ("TFTP_ADDRESS=10.4.0.9:6969\nTFTP_OPTIONS='-4'\n", vec![], "udp 10.4.0.9:6969 any address nothing"),
        (
            "TFTP_OPTIONS='--ipv4 --verbosity 3'\n",
            vec![("etc/hosts.deny", "in.tftpd: ALL\n"), ("etc/debian_version", "12.8\n")],
            "udp IPv4:69 no address nothing",
        ),
    ] {
        let mut files = vec![("etc/default/tftpd-hpa", text)];
        files.extend(more);
        assert_eq!(services(&super::tftpd::READER, &files), wanted, "{text}");
    }
}

#[test]
fn screens() {
    let told = |command: &str| {
        let unit = format!("[Service]\nExecStart={command}\n");
        services(&service_units::READER, &[("etc/systemd/system/screen.service", &unit)])
    };
    for (command, wanted) in [
        ("/usr/bin/x11vnc -display :0 -nopw", "IPv4:5900 IPv6:5900 any address nothing writes"),
        (
            "/usr/bin/x11vnc -localhost -rfbauth /etc/pw",
            "127.0.0.1:5900 ::1:5900 127.0.0.0/8, ::1 a login writes",
        ),
        // What it listens at by IPv6 is not limited by the address for IPv4.
        (
            "x11vnc -listen 10.4.0.9 -rfbport 5999 -passwd Anker7",
            "10.4.0.9:5999 IPv6:5999 IPv6:5900 any address a login writes",
        ),
        ("x11vnc -no6 -allow 10.4. -viewonly -ssl", "IPv4:5900! IPv6:5900! 10.4.0.0/16 nothing"),
        (
            "x11vnc -passwd a -rfbauth /etc/pw",
            "IPv4:5900 IPv6:5900 any address a login writes refused: `-rfbauth` and `-passwd` exclude each other",
        ),
        ("/usr/bin/Xtigervnc :3", "*:5903? any address a login writes"),
        (
            "/usr/bin/Xvnc :3 -SecurityTypes None -localhost",
            "127.0.0.1:5903 ::1:5903 any address nothing writes",
        ),
        (
            "/usr/bin/Xvnc -rfbport=5999 -SecurityTypes=TLSPlain -UseIPv6=0",
            "IPv4:5999! any address a password writes",
        ),
        (
            "/usr/bin/Xvnc :1 -interface 10.4.0.9 -SecurityTypes VncAuth,TLSNone",
            "10.4.0.9:5901? any address nothing writes",
        ),
        ("/usr/bin/Xvnc :1 -SecurityTypes Plain", "*:5901 any address a password writes clear"),
        ("/usr/bin/tigervncserver :4", "127.0.0.1:5904 ::1:5904 any address a login writes"),
        ("/usr/bin/tigervncserver :4 -localhost no", "*:5904? any address a login writes"),
        ("/usr/bin/tigervncserver :4 -SecurityTypes X509Vnc", "*:5904! any address a login writes"),
        (
            "/usr/bin/tigervncserver :4 -localhost no -SecurityTypes None",
            "*:5904 any address nothing writes refused: no login beyond the device itself is refused by its wrapper",
        ),
        ("/usr/bin/tigervncserver -kill :4", ""),
        // Elsewhere the script of this name listens at every address.
        ("/usr/bin/vncserver :4", "*:5904? any address a login writes"),
    ] {
        assert_eq!(told(command), wanted, "{command}");
    }
}

#[test]
fn screens_of_users() {
    const DEBIAN: (&str, &str) =
        ("etc/tigervnc/vncserver-config-defaults", "# read by tigervncserver\n$localhost = \"no\";\n1;\n");
    for (users, more, wanted) in [
        (":2=ann\n", vec![], "*:5902? any address a login writes"),
        (
            ":2=ann\n",
            vec![("etc/debian_version", "12\n")],
            "127.0.0.1:5902 ::1:5902 any address a login writes",
        ),
        (":2=ann\n", vec![DEBIAN], "*:5902? any address a login writes"),
        (
            ":2=ann\n:3=bo\n",
            vec![DEBIAN, ("home/bo/.vnc/tigervnc.conf", "$SecurityTypes = 'X509Plain';\n")],
            "*:5902? any address a login writes; *:5903! any address a password writes",
        ),
        (
            ":2=ann\n",
            vec![
                DEBIAN,
                ("home/ann/.vnc/tigervnc.conf", "$localhost = 'no';\n"),
                ("etc/tigervnc/vncserver-config-mandatory", "# tigervncserver\n$localhost = 'yes';\n"),
            ],
            "127.0.0.1:5902 ::1:5902 any address a login writes",
        ),
        (
            ":2=ann\n",
            vec![("home/ann/.config/tigervnc/config", "localhost\ngeometry=800x600\n")],
            "127.0.0.1:5902? ::1:5902? any address a login writes",
        ),
    ] {
        let mut files = vec![("etc/tigervnc/vncserver.users", users)];
        files.extend(more);
        assert_eq!(services(&super::vnc::READER, &files), wanted, "{files:?}");
    }
}

#[test]
fn passwords_in_a_command_are_held() {
    let unit = "[Service]\nExecStart=/usr/bin/x11vnc -passwd Anker7 -viewpasswd Mole9\n";
    let export =
        trevlin_model::Export::new(trevlin_model::ExportId(0), "d/etc/systemd/system/s.service", unit.into());
    let reading = (service_units::READER.read)(&export, &crate::ReadContext::of(vec![&export]));
    let places: Vec<&str> = reading.facts.secrets.iter().map(|one| export.text_at(one.origin)).collect();
    assert_eq!(places, ["Anker7", "Mole9"]);
}

#[test]
fn dropbear_by_its_options() {
    use trevlin_model::ssh::SshConnection;
    for (command, wanted) in [
        ("/usr/sbin/dropbear -F -p 2222 -s", "no prohibit-password 2222"),
        ("/usr/sbin/dropbear -EF -w -p 10.4.0.9:22", "yes no 22"),
        ("/usr/sbin/dropbear -i", ""),
    ] {
        let unit = format!("[Service]\nExecStart={command}\n");
        let export =
            trevlin_model::Export::new(trevlin_model::ExportId(0), "d/etc/systemd/system/d.service", unit);
        let reading = (service_units::READER.read)(&export, &crate::ReadContext::of(vec![&export]));
        let told = reading.facts.ssh_servers.first().map(|server| {
            let value =
                |name: &str| server.stated(name, &SshConnection::default()).map(|one| one.0.join(" "));
            ["passwordauthentication", "permitrootlogin", "port"]
                .map(|name| value(name).unwrap_or_default())
                .join(" ")
        });
        assert_eq!(told.unwrap_or_default(), wanted, "{command}");
        assert!(reading.ledger.notes.is_empty());
    }
}
