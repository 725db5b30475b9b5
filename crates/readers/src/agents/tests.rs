//! Hosts that agents of monitoring answer, by their files.

use crate::reader::{ReadContext, Reader};
use trevlin_model::served::Remark;
use trevlin_model::{Export, ExportId};

/// Places, clients, login and commands of the services of some files, the first of which is read.
fn told(reader: &Reader, files: &[(&str, &str)]) -> String {
    let exports: Vec<Export> = files
        .iter()
        .enumerate()
        .map(|(at, (path, text))| Export::new(ExportId(at as u32), format!("d/etc/{path}"), (*text).into()))
        .collect();
    let reading = (reader.read)(&exports[0], &ReadContext::of(exports.iter().collect()));
    assert!(reading.ledger.notes.is_empty(), "{files:?}: {:?}", reading.ledger.notes);
    let service = |one: &trevlin_model::served::Served| {
        let places: Vec<String> = one
            .endpoints
            .iter()
            .map(|at| at.address.map_or(format!("*:{}", at.port), |own| format!("{own}:{}", at.port)))
            .collect();
        let part = |part: &trevlin_model::served::ServiceResource| {
            let login = part.login.value().map_or("unknown", |one| one.words());
            let commands = if part.remark(Remark::Commands).is_some() { " commands" } else { "" };
            format!("{} {login}{commands}", part.sources.words())
        };
        format!("{} {}", places.join(" "), one.parts.iter().map(part).collect::<Vec<_>>().join(", "))
    };
    reading.facts.served.iter().map(service).collect::<Vec<_>>().join("; ")
}

#[test]
fn zabbix() {
    for (text, wanted) in [
        ("Server=10.4.0.9\n", "*:10050 10.4.0.9 nothing"),
        ("Server=10.4.0.9,::/0\nListenPort=10055\n", "*:10055 any address nothing"),
        ("Server=10.4.0.9\nTLSAccept=psk\n", "*:10050 10.4.0.9 a login"),
        ("Server=10.4.0.9\nTLSAccept=unencrypted,cert\n", "*:10050 10.4.0.9 nothing"),
        ("Server=10.4.0.9\nListenIP=10.4.0.2,127.0.0.1\n", "10.4.0.2:10050 127.0.0.1:10050 10.4.0.9 nothing"),
        ("Server=10.4.0.9\nAllowKey=system.run[*]\n", "*:10050 10.4.0.9 nothing commands"),
        ("Server=10.4.0.9\nDenyKey=system.run[*]\nEnableRemoteCommands=1\n", "*:10050 10.4.0.9 nothing"),
        ("StartAgents=0\nServer=10.4.0.9\n", ""),
        ("Hostname=gate\n", ""),
    ] {
        assert_eq!(told(&super::zabbix::READER, &[("zabbix/zabbix_agentd.conf", text)]), wanted, "{text}");
    }
}

#[test]
fn nrpe() {
    const DEBIAN: (&str, &str) = ("default/nagios-nrpe-server", "NRPE_OPTS=\"-n\"\n");
    for (text, more, wanted) in [
        ("server_port=5667\n", None, "*:5667 any address nothing"),
        ("allowed_hosts=10.4.0.9\nallowed_hosts=10.4.8.0/24\n", None, "*:5666 10.4.0.9, 10.4.8.0/24 nothing"),
        ("allowed_hosts=0.0.0.0/0\n", None, "*:5666 no address nothing"),
        ("ssl_client_certs=2\n", None, "*:5666 any address a certificate"),
        ("ssl_client_certs=2\n", Some(DEBIAN), "*:5666 any address nothing"),
        ("dont_blame_nrpe=1\n", Some(DEBIAN), "*:5666 any address nothing"),
        ("dont_blame_nrpe=1\n", Some(("sysconfig/nrpe", "A=b\n")), "*:5666 any address nothing commands"),
    ] {
        let mut files = vec![("nagios/nrpe.cfg", text)];
        files.extend(more);
        assert_eq!(told(&super::nrpe::READER, &files), wanted, "{text}");
    }
}

#[test]
fn nut() {
    const USERS: (&str, &str) = ("nut/upsd.users", "[ann]\n  password = Anker-7\n  instcmds = ALL\n");
    for (text, more, wanted) in [
        ("MAXAGE 15\n", None, "127.0.0.1:3493 ::1:3493 any address nothing"),
        ("LISTEN 10.4.0.2\nLISTEN :: 3494\n", None, "10.4.0.2:3493 *:3494 any address nothing"),
        (
            "LISTEN 10.4.0.2\n",
            Some(USERS),
            "10.4.0.2:3493 any address nothing, any address a password commands",
        ),
        ("LISTEN 10.4.0.2\n", Some(("nut/nut.conf", "MODE=none\n")), ""),
    ] {
        let mut files = vec![("nut/upsd.conf", text)];
        files.extend(more);
        assert_eq!(told(&super::nut::READER, &files), wanted, "{text}");
    }
}

#[test]
fn monit() {
    for (text, wanted) in [
        (
            "set httpd port 2812 and\n  use address localhost\n  allow localhost\n",
            "127.0.0.1:2812 127.0.0.0/8, ::1 nothing commands",
        ),
        ("set httpd port 2812 allow ann:Anker-7\n", "*:2812 any address a password commands"),
        (
            "set httpd port 2812\n  allow 10.4.0.0/24\n  allow ann:Anker-7 read-only\n",
            "*:2812 10.4.0.0/24 a password",
        ),
        ("set httpd unixsocket /run/monit.sock\n  allow ann:Anker-7\n", ""),
        ("check system gate\n  if loadavg (5min) > 4 then alert\n", ""),
    ] {
        assert_eq!(told(&super::monit::READER, &[("monit/monitrc", text)]), wanted, "{text}");
    }
}
