//! Screens and pages by which people work on a machine.

use crate::testing::services;
use crate::{ReadContext, recognise};
use trevlin_model::{Export, ExportId};

#[test]
fn xrdp() {
    for (text, wanted) in [
        ("port=3389\n", "*:3389! any address a password writes"),
        ("security_layer=rdp\ncrypt_level=none\n", "*:3389 any address a password writes clear"),
        ("port=tcp://.:3389\n", "127.0.0.1:3389! any address a password writes"),
        ("port=tcp://10.4.0.9:3390, 3391\n", "10.4.0.9:3390! *:3391! any address a password writes"),
        ("port=tcp6://:3389\nsecurity_layer=tls\n", "*:3389! any address a password writes"),
    ] {
        let text = format!("[Globals]\nini_version=1\n{text}");
        assert_eq!(services(&super::xrdp::READER, &[("etc/xrdp/xrdp.ini", &text)]), wanted, "{text}");
    }
    let config =
        "[Globals]\nsecurity_layer=negotiate\n[Lift]\npassword=Anker7\nusername=ask\n[Xorg]\npassword=ask\n";
    let config = Export::new(ExportId(0), "d/etc/xrdp/xrdp.ini", config.into());
    let sessions = "[Security]\nAllowRootLogin=1\nTerminalServerUsers=screens\nAlwaysGroupCheck=true\n";
    let sessions = Export::new(ExportId(1), "d/etc/xrdp/sesman.ini", sessions.into());
    let reading = (super::xrdp::READER.read)(&config, &ReadContext::of(vec![&config, &sessions]));
    let served = &reading.facts.served[0];
    assert_eq!((served.weaknesses.len(), served.parts[0].users.join(" ")), (1, "@screens".to_owned()));
    assert_eq!(&*served.offers[0].algorithms[0].name, "rc4");
    assert_eq!(reading.facts.secrets.len(), 1);
    assert_eq!(recognise(&sessions).reader.map(|one| one.name), Some("xrdp"));
}

#[test]
fn cockpit() {
    const OTHER: (&str, &str) = (
        "etc/systemd/system/cockpit.socket.d/listen.conf",
        "[Socket]\nListenStream=\nListenStream=10.4.0.9:9443\n",
    );
    for (files, wanted) in [
        (vec![("etc/cockpit/cockpit.conf", "[WebService]\n")], "*:9090! any address a password writes"),
        (
            vec![("etc/cockpit/cockpit.conf", "[WebService]\nAllowUnencrypted=true\n"), OTHER],
            "10.4.0.9:9443? any address a password writes clear",
        ),
        (vec![("etc/cockpit/disallowed-users", "root\n")], "*:9090! any address a password writes"),
        (
            vec![("etc/cockpit/disallowed-users", "root\n"), ("etc/cockpit/cockpit.conf", "[WebService]\n")],
            "",
        ),
    ] {
        assert_eq!(services(&super::cockpit::READER, &files), wanted, "{files:?}");
    }
}

#[test]
fn cups() {
    const POLICY: &str =
        "<Policy default>\n<Limit CUPS-Add-Modify-Printer>\nAuthType Default\n</Limit>\n</Policy>\n";
    for (text, wanted) in [
        (
            "Listen localhost:631\n<Location />\nOrder allow,deny\n</Location>\n",
            "127.0.0.1:631? ::1:631? 127.0.0.0/8, ::1 nothing",
        ),
        (
            "Port 631\n<Location />\nOrder allow,deny\nAllow 10.4.*\n</Location>\n",
            "*:631? 10.4.0.0/16 nothing",
        ),
        ("Listen *:631\n<Location />\nAllow 10.4.0.9\n</Location>\n", "*:631? any address nothing"),
        (
            "Listen 10.4.0.9\n<Location />\nOrder deny,allow\nDeny all\nAllow from 10.4.0.9\n</Location>\n",
            "10.4.0.9:631? 10.4.0.9 nothing",
        ),
        (
            "SSLPort 443\n<Location />\nOrder allow,deny\nAllow @LOCAL\n</Location>\n",
            "*:443! its own networks nothing",
        ),
        (
            "Port 631\nDefaultEncryption Never\n<Location /admin>\nOrder allow,deny\nAllow all\n</Location>\n",
            "*:631? any address a password writes clear",
        ),
        ("Port 631\nWebInterface No\n<Location /admin>\nAllow all\n</Location>\n", "*:631? "),
        ("<Location />\nAllow all\n</Location>\n", ""),
    ] {
        let text = format!("{text}{POLICY}");
        assert_eq!(services(&super::cups::READER, &[("etc/cups/cupsd.conf", &text)]), wanted, "{text}");
    }
}

#[test]
fn avahi() {
    for (text, wanted) in [
        ("[server]\n", "udp *:5353 any address nothing"),
        (
            "[server]\nuse-ipv6=no\nallow-interfaces=lan, guests\n",
            "udp lan:5353 udp guests:5353 any address nothing",
        ),
        ("[server]\nuse-ipv4=no\nuse-ipv6=no\n", ""),
    ] {
        assert_eq!(
            services(&super::avahi::READER, &[("etc/avahi/avahi-daemon.conf", text)]),
            wanted,
            "{text}"
        );
    }
}

#[test]
fn measurements() {
    const BACKUPS: &str = "127.0.0.1:8088 any address nothing writes";
    for (text, wanted) in [
        ("[http]\n  auth-enabled = true\n", "*:8086 any address a password writes clear"),
        (
            "[http]\n  auth-enabled = true # on\n  https-enabled = true\n",
            "*:8086! any address a password writes",
        ),
        ("[http]\n  bind-address = \"10.4.0.9:8086\"\n", "10.4.0.9:8086 any address nothing writes"),
        ("[http]\n  enabled = false\n", ""),
        ("[[udp]]\n  enabled = true\n", "udp *:8089 any address nothing; *:8086 any address nothing writes"),
        (
            "[[graphite]]\n  enabled = false\n  tags = [\n    \"a=b\",\n  ]\n",
            "*:8086 any address nothing writes",
        ),
    ] {
        let wanted = if wanted.is_empty() { BACKUPS.to_owned() } else { format!("{BACKUPS}; {wanted}") };
        assert_eq!(
            services(&crate::data::influxdb::READER, &[("etc/influxdb/influxdb.conf", text)]),
            wanted,
            "{text}"
        );
    }
}
