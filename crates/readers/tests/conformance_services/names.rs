//! Name servers, asked from several addresses of this machine.

use crate::{Running, run, service, told, write};
use std::net::UdpSocket;
use std::time::Duration;
use trevlin_model::served::Remark;

/// The code of a server's answer to a query for an unassigned name (RFC 1035, 4.1.1), with recursion desired.
fn code(from: &str, port: u16) -> Option<u8> {
    let socket = UdpSocket::bind((from, 0)).unwrap();
    socket.set_read_timeout(Some(Duration::from_secs(5))).unwrap();
    let mut question = vec![0x12, 0x34, 0x01, 0x00, 0, 1, 0, 0, 0, 0, 0, 0];
    for label in ["www", "yard", "example"] {
        question.push(label.len() as u8);
        question.extend(label.bytes());
    }
    question.extend([0, 0, 1, 0, 1]);
    socket.send_to(&question, ("127.0.0.1", port)).unwrap();
    let mut buffer = [0; 512];
    let read = socket.recv(&mut buffer).ok()?;
    (read > 3).then(|| buffer[3] & 0x0f)
}

const REFUSED: u8 = 5;
const FROM: [&str; 3] = ["127.0.0.1", "127.0.0.2", "127.0.0.9"];

#[test]
#[ignore = "needs unbound; run by scripts/conformance.sh"]
fn unbound_answers_whom_it_says() {
    let mut asked = 0;
    for (number, lines) in [
        "",
        " access-control: 127.0.0.0/8 refuse\n",
        " access-control: 127.0.0.0/8 refuse\n access-control: 127.0.0.2/32 allow\n",
        " access-control: 127.0.0.2/32 refuse\n",
        " access-control: 0.0.0.0/0 allow\n access-control: 127.0.0.0/30 refuse\n",
    ]
    .into_iter()
    .enumerate()
    {
        let folder = tempfile::tempdir().unwrap();
        run("chmod", &["755", &folder.path().display().to_string()]);
        let port = 5400 + number as u16;
        let text = format!(
            "server:\n interface: 127.0.0.1\n port: {port}\n username: \"\"\n chroot: \"\"\n do-daemonize: no\n pidfile: \"\"\n use-syslog: no\n logfile: \"{}/log\"\n local-zone: \"example.\" redirect\n local-data: \"example. A 10.4.0.9\"\n{lines}",
            folder.path().display()
        );
        let file = write(&folder.path().join("unbound.conf"), &text);
        let checked = run("unbound-checkconf", &[&file]);
        assert!(checked.status.success(), "{}", told(&checked));
        let served = service(&[("d/etc/unbound/unbound.conf", &text)]);
        let who = served.parts.iter().find(|part| part.remark(Remark::Recursion).is_some());
        let _running = Running::start("unbound", &["-d", "-p", "-c", &file]).answers(port);
        for from in FROM {
            let allowed = who.is_some_and(|part| part.sources.contains(from.parse().unwrap()));
            assert_eq!(code(from, port) == Some(0), allowed, "{from} in\n{text}");
            asked += 1;
        }
    }
    println!("{asked} questions asked of Unbound");
}

#[test]
#[ignore = "needs named; run by scripts/conformance.sh"]
fn named_answers_whom_it_says() {
    let mut asked = 0;
    for (number, (lists, options)) in [
        ("", "recursion yes; allow-recursion { any; };"),
        ("", "recursion no;"),
        ("", "allow-query { 127.0.0.2; };"),
        ("acl near { ! 127.0.0.9; 127.0.0.0/8; };", "allow-recursion { near; }; allow-query { any; };"),
        ("acl near { { 127.0.0.2; }; };", "allow-recursion { near; }; allow-query { any; };"),
        ("", "allow-query-cache { 127.0.0.9; }; allow-query { any; };"),
    ]
    .into_iter()
    .enumerate()
    {
        let folder = tempfile::tempdir().unwrap();
        run("chmod", &["755", &folder.path().display().to_string()]);
        let at = folder.path().display();
        let port = 5410 + number as u16;
        // All queries are forwarded to a closed port, so permitted clients receive an error.
        let text = format!(
            "{lists}\noptions {{\n directory \"{at}\"; pid-file none; session-keyfile none; managed-keys-directory \"{at}\"; dnssec-validation no;\n listen-on port {port} {{ 127.0.0.1; }}; listen-on-v6 {{ none; }}; forward only; forwarders port 9 {{ 127.0.0.1; }};\n {options}\n}};\ncontrols {{ }};\n"
        );
        let file = write(&folder.path().join("named.conf"), &text);
        let checked = run("named-checkconf", &[&file]);
        assert!(checked.status.success(), "{text}{}", told(&checked));
        let served = service(&[("d/etc/bind/named.conf", &text)]);
        let who = served.parts.iter().find(|part| part.remark(Remark::Recursion).is_some());
        let _running = Running::start("named", &["-f", "-c", &file]).answers(port);
        for from in FROM {
            let allowed = who.is_some_and(|part| part.sources.contains(from.parse().unwrap()));
            let found = code(from, port);
            assert_eq!(found != Some(REFUSED), allowed, "{from} in\n{text}: {found:?}");
            asked += 1;
        }
    }
    println!("{asked} questions asked of BIND");
}

#[test]
#[ignore = "needs named-checkconf; run by scripts/conformance.sh"]
fn named_refuses_what_is_not_understood() {
    let folder = tempfile::tempdir().unwrap();
    for text in ["options { colour red; };\n", "options { recursion no; }\n", "options { recursion no };\n"] {
        let file = write(&folder.path().join("named.conf"), text);
        assert!(!run("named-checkconf", &[&file]).status.success(), "{text}");
        if text.contains("no; }\n") {
            // That a block ends with a semicolon is left to the program.
            continue;
        }
        let export =
            trevlin_model::Export::new(trevlin_model::ExportId(0), "d/etc/bind/named.conf", text.to_owned());
        let reader = trevlin_readers::recognise(&export).reader.unwrap();
        let reading = (reader.read)(&export, &trevlin_readers::ReadContext::of(vec![&export]));
        assert!(!reading.ledger.notes.is_empty(), "{text}");
    }
}
