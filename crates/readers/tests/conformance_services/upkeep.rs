//! Time servers, logging and monitoring: the files that the programs accept, and the clients that an SNMP agent answers.

use crate::{Running, run, service, told, write};
use std::net::UdpSocket;
use std::time::Duration;
use trevlin_model::served::ServiceResource;
use trevlin_model::{Export, ExportId};
use trevlin_readers::{ReadContext, recognise};

/// Whether every line of a text is understood.
fn understood(path: &str, text: &str) -> bool {
    let export = Export::new(ExportId(0), path, text.to_owned());
    let reader = recognise(&export).reader.unwrap_or_else(|| panic!("nobody reads {path}"));
    (reader.read)(&export, &ReadContext::of(vec![&export])).ledger.notes.is_empty()
}

#[test]
#[ignore = "needs chronyd; run by scripts/conformance.sh"]
fn chronyd_takes_what_is_understood() {
    let program = crate::program("CHRONYD", "chronyd");
    let folder = tempfile::tempdir().unwrap();
    for (text, fits) in [
        (
            "pool time.example iburst\nallow 10.4.0.0/16\ndeny 10.4.9\nallow all 10.5\ncmdallow 10.4.0.9\nbindcmdaddress 0.0.0.0\n",
            true,
        ),
        ("! a comment\n% another\nserver a.example nts\nrefclock PPS /dev/pps0\nlocal stratum 8\n", true),
        ("colour red\n", false),
    ] {
        let file = write(&folder.path().join("chrony.conf"), text);
        let output = run(&program, &["-p", "-f", &file]);
        assert_eq!(output.status.success(), fits, "{text}{}", told(&output));
        assert_eq!(understood("d/etc/chrony/chrony.conf", text), fits, "{text}");
    }
}

#[test]
#[ignore = "needs rsyslogd; run by scripts/conformance.sh"]
fn rsyslogd_takes_what_is_understood() {
    let folder = tempfile::tempdir().unwrap();
    for text in [
        "*.* @10.4.0.9\n",
        "auth.* @@(o)10.4.0.9:6514;RSYSLOG_ForwardFormat\n& stop\n",
        "module(load=\"imudp\")\ninput(type=\"imudp\" port=\"10514\")\n*.* action(type=\"omfwd\"\n  target=\"10.4.0.9\" port=\"514\"\n  protocol=\"tcp\")\n",
        "$ModLoad imtcp\n$InputTCPServerRun 10515\n*.* /tmp/x\n",
        "if $programname == 'x' then {\n  action(type=\"omfwd\" target=\"10.4.0.9\")\n  stop\n}\n",
        "template(name=\"t\" type=\"string\" string=\"%msg%\")\n*.* action(type=\"omfile\" file=\"/tmp/x\" template=\"t\")\n",
    ] {
        let file = write(&folder.path().join("rsyslog.conf"), text);
        let output = run("rsyslogd", &["-N1", "-f", &file]);
        assert!(output.status.success(), "{text}{}", told(&output));
        assert!(understood("d/etc/rsyslog.conf", text), "{text}");
    }
}

/// Whether an agent answers a question for its name by a community (RFC 1157, 4.1.2; version 2c).
fn answers(from: &str, port: u16, community: &str) -> bool {
    let socket = UdpSocket::bind((from, 0)).unwrap();
    socket.set_read_timeout(Some(Duration::from_millis(700))).unwrap();
    let mut oid = vec![0x30, 12, 0x06, 8, 0x2b, 6, 1, 2, 1, 1, 5, 0, 0x05, 0];
    let mut bindings = vec![0x30, oid.len() as u8];
    bindings.append(&mut oid);
    let mut inner = vec![0x02, 1, 7, 0x02, 1, 0, 0x02, 1, 0];
    inner.append(&mut bindings);
    let mut request = vec![0xa0, inner.len() as u8];
    request.append(&mut inner);
    let mut body = vec![0x02, 1, 1, 0x04, community.len() as u8];
    body.extend(community.bytes());
    body.append(&mut request);
    let mut packet = vec![0x30, body.len() as u8];
    packet.append(&mut body);
    socket.send_to(&packet, ("127.0.0.1", port)).unwrap();
    let mut buffer = [0; 512];
    // An agent answers a stranger's community with silence, and one without a view with an error.
    socket.recv(&mut buffer).is_ok_and(|read| buffer[..read].windows(4).any(|window| window == b"quay"))
}

#[test]
#[ignore = "needs snmpd; run by scripts/conformance.sh"]
fn snmpd_answers_whom_it_says() {
    let mut asked = 0;
    for (number, (lines, community)) in [
        ("rocommunity gull\n", "gull"),
        ("rocommunity gull 127.0.0.2\n", "gull"),
        ("rwcommunity gull 127.0.0.0/30\n", "gull"),
        ("rouser ann\n", "gull"),
        ("com2sec near 127.0.0.2 gull\ngroup G v2c near\nview all included .1\naccess G \"\" any noauth exact all none none\n", "gull"),
        ("com2sec far default gull\n", "gull"),
    ]
    .into_iter()
    .enumerate()
    {
        let folder = tempfile::tempdir().unwrap();
        let port = 16_170 + number as u16;
        let text = format!("agentaddress udp:127.0.0.1:{port}\nsysName quay\n{lines}");
        let file = write(&folder.path().join("snmpd.conf"), &text);
        let served = service(&[("d/etc/snmp/snmpd.conf", &text)]);
        let _running = Running::start("snmpd", &["-f", "-Le", "-C", "-c", &file, "-I", "-smux"]);
        std::thread::sleep(Duration::from_millis(1200));
        for from in ["127.0.0.1", "127.0.0.2", "127.0.0.9"] {
            let said = |part: &ServiceResource| {
                part.login.value() == Some(&trevlin_model::served::AuthRequirement::Community) && part.sources.contains(from.parse().unwrap())
            };
            let allowed = served.parts.iter().any(said);
            assert_eq!(answers(from, port, community), allowed, "{from} in\n{text}");
            asked += 1;
        }
        assert_eq!(served.endpoints[0].port, port);
    }
    println!("{asked} questions asked of an agent");
}
