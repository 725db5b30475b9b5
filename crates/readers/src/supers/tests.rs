//! Services of super-servers.

use crate::testing::services;
use crate::{ReadContext, Reading};
use trevlin_model::{Export, ExportId};

#[test]
fn lines_of_inetd() {
    const LISTS: [(&str, &str); 2] =
        [("etc/hosts.allow", "in.telnetd, id: 10.4.\n"), ("etc/hosts.deny", "ALL: ALL\n")];
    for (text, more, wanted) in [
        (
            "telnet stream tcp nowait root /usr/sbin/in.telnetd in.telnetd\n",
            &LISTS[..],
            "*:23 any address a password clear",
        ),
        // The wrapper looks into the lists; the super-server does so with an option alone.
        (
            "telnet stream tcp nowait root /usr/sbin/tcpd /usr/sbin/in.telnetd\n",
            &LISTS,
            "*:23 10.4.0.0/16 a password clear",
        ),
        ("127.0.0.1:echo stream tcp nowait root internal\n", &[], "127.0.0.1:7 any address nothing"),
        (
            "10.4.0.9:\nchargen dgram udp4 wait root internal\n*:\nshell stream tcp nowait root /usr/sbin/in.rshd in.rshd\n",
            &[],
            "udp 10.4.0.9:19 any address nothing; *:514 any address a trusted address writes",
        ),
        // A place of another IP version is none.
        ("10.4.0.9:time stream tcp6 nowait root internal\n", &[], ""),
        (
            "tftp dgram udp wait root /usr/sbin/in.tftpd in.tftpd -s -c /srv/tftp\n",
            &[],
            "udp *:69 any address nothing writes",
        ),
        (
            "5901 stream tcp nowait nobody /usr/bin/Xvnc Xvnc -inetd -SecurityTypes None\n",
            &[],
            "*:5901 any address nothing writes",
        ),
        ("rsync stream tcp nowait root /usr/bin/rsync rsync --daemon\n", &[("etc/rsyncd.conf", "[a]\n")], ""),
        (
            "#<off># telnet stream tcp nowait root /usr/sbin/tcpd x\nrusersd/2-3 dgram rpc/udp wait root /x x\n",
            &[],
            "",
        ),
    ] {
        let mut files = vec![("etc/inetd.conf", text)];
        files.extend(more);
        assert_eq!(services(&super::inetd::READER, &files), wanted, "{text}");
    }
    let mut files = vec![
        ("etc/inetd.conf", "4001 stream tcp nowait root /usr/bin/id id\n"),
        ("etc/default/openbsd-inetd", "OPTIONS=\"-l\"\n"),
    ];
    files.extend(LISTS);
    assert_eq!(services(&super::inetd::READER, &files), "*:4001 10.4.0.0/16 unknown");
}

/// A service of xinetd with these lines.
fn block(name: &str, lines: &str) -> String {
    format!(
        "service {name}\n{{\n socket_type = stream\n wait = no\n user = root\n server = /usr/bin/id\n{lines}}}\n"
    )
}

#[test]
fn services_of_xinetd() {
    let own =
        |lines: &str| block("own", &format!(" type = UNLISTED\n protocol = tcp\n port = 4001\n{lines}"));
    for (defaults, lines, wanted) in [
        ("", "", "*:4001 any address unknown"),
        ("", "disable = yes\n", ""),
        ("disabled = own\n", "", ""),
        ("enabled = other\n", "", ""),
        ("disabled = own\n", "id = own-4001\n", "*:4001 any address unknown"),
        ("", "bind = 10.4.0.9\n", "10.4.0.9:4001 any address unknown"),
        ("bind = 10.4.0.9\n", "flags = IPv4\n", "10.4.0.9:4001 any address unknown"),
        ("", "only_from = 10.4.0.0 192.0.2.{7,9}\n", "*:4001 192.0.2.7, 192.0.2.9, 10.4.0.0/16 unknown"),
        ("only_from = 10.4.9.9\n", "only_from = 10.4.0.9\n", "*:4001 10.4.0.9 unknown"),
        ("only_from = 10.4.9.9\n", "only_from += 10.4.0.9\n", "*:4001 10.4.9.9, 10.4.0.9 unknown"),
        (
            "only_from = 10.4.0.0/16\n",
            "only_from -= 10.4.0.0\nonly_from += 10.4.0.9\n",
            "*:4001 10.4.0.9 unknown",
        ),
        // The longer of two that match decides, and at the same length it is refused.
        ("", "only_from = 10.4.0.0/30\nno_access = 10.4.0.0/31\n", "*:4001 10.4.0.2/31 unknown"),
        ("", "only_from = 10.4.0.9\nno_access = 0.0.0.0/0\n", "*:4001 10.4.0.9 unknown"),
        ("", "only_from = 10.4.0.9\nno_access = 10.4.0.9\n", "*:4001 no address unknown"),
        ("", "only_from =\n", "*:4001 no address unknown"),
    ] {
        let text = format!("defaults\n{{\n{defaults}}}\n{}", own(lines));
        assert_eq!(
            services(&super::xinetd::READER, &[("etc/xinetd.conf", &text)]),
            wanted,
            "{defaults}{lines}"
        );
    }
}

#[test]
fn folders_of_xinetd() {
    let main = ("etc/xinetd.conf", "defaults\n{\n only_from = 10.4.0.9\n}\nincludedir /etc/xinetd.d\n");
    let telnet = "service telnet\n{\n socket_type = stream\n wait = no\n user = root\n server = /usr/sbin/in.telnetd\n}\n";
    for (path, files, wanted) in [
        ("etc/xinetd.d/telnet", vec![main], "*:23 10.4.0.9 a password clear"),
        ("etc/xinetd.d/telnet", vec![], "*:23 any address a password clear"),
        // Names with a dot are passed over, and folders that the main file does not name.
        ("etc/xinetd.d/telnet.two", vec![main], ""),
        ("etc/xinetd.d/telnet", vec![("etc/xinetd.conf", "defaults\n{\n}\n")], ""),
    ] {
        let mut all = vec![(path, telnet)];
        all.extend(files);
        assert_eq!(services(&super::xinetd::READER, &all), wanted, "{path}");
    }
}

#[test]
fn redirections_are_relays() {
    let text = block(
        "lift",
        " type = UNLISTED\n protocol = tcp\n port = 8023\n redirect = 10.4.7.9 23\n only_from = 10.4.0.9\n",
    );
    let export = Export::new(ExportId(0), "d/etc/xinetd.conf", text);
    let reading: Reading = (super::xinetd::READER.read)(&export, &ReadContext::of(vec![&export]));
    assert!(reading.facts.served.is_empty() && reading.ledger.notes.is_empty());
    let relay = &reading.facts.relays[0];
    assert_eq!(
        format!("{} {} {}", relay.endpoints[0].port, relay.target(), relay.sources.words()),
        "8023 10.4.7.9:23 10.4.0.9"
    );
}

#[test]
fn lines_of_another_form_are_told() {
    for (path, text) in [
        (
            "d/etc/inetd.conf",
            "telnet stream tcp\nzeal stream tcp nowait root /x x\nfoo bar tcp nowait root /x x\n",
        ),
        ("d/etc/xinetd.conf", "services x\nservice zeal\n{\n socket_type = stream\n colour = red\n}\n"),
    ] {
        let export = Export::new(ExportId(0), path, text.into());
        let reader = crate::recognise(&export).reader.unwrap();
        let reading = (reader.read)(&export, &ReadContext::of(vec![&export]));
        assert_eq!(reading.ledger.notes.len(), 3, "{path}: {:?}", reading.ledger.notes);
    }
}
