//! Clients of proxies by their files.

use crate::reader::{ReadContext, Reader};
use trevlin_model::served::Remark;
use trevlin_model::{Export, ExportId};

/// Parts of the services of a file: clients, login, and whether it connects to any port.
fn told(reader: &Reader, path: &str, text: &str) -> String {
    let export = Export::new(ExportId(0), path, text.into());
    let list = Export::new(ExportId(1), "d/etc/squid/clients", "# ours\n10.4.8.0/24\n".into());
    let reading = (reader.read)(&export, &ReadContext::of(vec![&export, &list]));
    assert!(reading.ledger.notes.is_empty(), "{text}: {:?}", reading.ledger.notes);
    let parts = reading.facts.served.iter().flat_map(|one| {
        let refused = one.refused.as_ref().map(|(why, _)| format!("refused: {why}"));
        let part = |part: &trevlin_model::served::ServiceResource| {
            let anywhere = if part.remark(Remark::AnyTarget).is_some() { " any port" } else { "" };
            let login = part.login.value().map_or("unknown", |one| one.words());
            format!("{}: {login}{anywhere}", part.sources.words())
        };
        refused.into_iter().chain(one.parts.iter().map(part)).collect::<Vec<_>>()
    });
    parts.collect::<Vec<_>>().join("; ")
}

#[test]
fn squid() {
    const PORT: &str =
        "http_port 3128\nacl lan src 10.4.0.0/20\nacl SSL_ports port 443\nacl known proxy_auth REQUIRED\n";
    const BASIC: &str = "auth_param basic program /x\n";
    for (text, wanted) in [
        ("http_access allow all\n", "any address: nothing any port"),
        ("http_access allow lan\nhttp_access deny all\n", "10.4.0.0/20: nothing any port"),
        ("http_access deny CONNECT !SSL_ports\nhttp_access allow lan\n", "10.4.0.0/20: nothing"),
        ("http_access deny !lan\n", "10.4.0.0/20: nothing any port"),
        ("http_access deny lan\nhttp_access allow lan\n", "no address: access refused"),
        ("", "no address: access refused"),
        ("acl own src \"/etc/squid/clients\"\nhttp_access allow own\n", "10.4.8.0/24: nothing any port"),
        (
            "acl site dstdomain .a.example\nhttp_access allow site\nhttp_access deny all\n",
            "no address: access refused",
        ),
        (
            "acl site dstdomain .a.example\nhttp_access deny site\nhttp_access allow lan\nhttp_access deny all\n",
            "10.4.0.0/20: nothing any port",
        ),
        (
            "acl noon time 12:00-13:00\nhttp_access allow lan noon\nhttp_access deny all\n",
            "10.4.0.0/20: nothing any port",
        ),
        (
            "http_access allow nobody\n",
            "refused: the list `nobody` is not defined; no address: access refused",
        ),
    ] {
        assert_eq!(
            told(&super::squid::READER, "d/etc/squid/squid.conf", &format!("{PORT}{text}")),
            wanted,
            "{text}"
        );
    }
    for (text, wanted) in [
        ("http_access allow known\nhttp_access deny all\n", "any address: a password any port"),
        (
            "http_access allow lan\nhttp_access deny !known\nhttp_access allow all\n",
            "10.4.0.0/20: nothing any port; any address: a password any port",
        ),
    ] {
        assert_eq!(
            told(&super::squid::READER, "d/etc/squid/squid.conf", &format!("{PORT}{BASIC}{text}")),
            wanted,
            "{text}"
        );
    }
}

#[test]
fn dante() {
    const HEAD: &str = "internal: 0.0.0.0 port = 1080\nexternal: eth0\n";
    for (text, wanted) in [
        (
            "socksmethod: none\nclient pass { from: 10.4.0.0/20 to: 0/0 }\nsocks pass { from: 0/0 to: 0/0 }\n",
            "10.4.0.0/20: nothing any port",
        ),
        (
            "socksmethod: none\nclient pass { from: 0/0 to: 0/0 }\nsocks pass { from: 0/0 to: 0/0 port = 443 }\n",
            "any address: nothing",
        ),
        (
            "socksmethod: username\nclient pass { from: 0/0 to: 0/0 }\nsocks pass { from: 0/0 to: 0/0 }\n",
            "any address: a password any port",
        ),
        (
            "socksmethod: none\nclient pass { from: 0/0 to: 0/0 }\nsocks pass { from: 0/0 to: 0/0 command: bind }\n",
            "no address: access refused",
        ),
        (
            "socksmethod: none\nclient block { from: 10.4.0.0/24 to: 0/0 }\nclient pass { from: 10.4.0.0/23 to: 0/0 }\nsocks pass { from: 0/0 to: 0/0 }\n",
            "10.4.1.0/24: nothing any port",
        ),
        (
            "client pass { from: 0/0 to: 0/0 }\n",
            "refused: `socksmethod` is not set, and every request is blocked",
        ),
    ] {
        assert_eq!(
            told(&super::dante::READER, "d/etc/danted.conf", &format!("{HEAD}{text}")),
            wanted,
            "{text}"
        );
    }
}

#[test]
fn coturn() {
    for (text, wanted) in [
        ("no-auth\n", "any address: nothing any port"),
        ("realm=yard.example\n", "any address: nothing any port"),
        ("lt-cred-mech\nuser=ann:Anker-7\n", "any address: a login any port"),
        ("use-auth-secret\nstatic-auth-secret Anker-7\n", "any address: a login any port"),
        ("no-auth\nuser=ann:Anker-7\n", "any address: nothing any port"),
        ("user=ann:Anker-7\n", "any address: a login any port"),
        ("no-auth\nlt-cred-mech\n", "any address: a login any port"),
        ("stun-only\n", ""),
        ("no-tcp\nno-udp\n", ""),
        ("no-auth\ncli-password=Anker-7\n", "any address: nothing any port; any address: a password"),
    ] {
        assert_eq!(told(&super::turnserver::READER, "d/etc/turnserver.conf", text), wanted, "{text}");
    }
}
