//! Listening sockets, as `ss -tulpn` (with or without its head) and `netstat -tulpn` print them.
//!
//! Formats: ss(8), netstat(8). A socket of `*` takes both IP versions; one of `[::]` or `0.0.0.0` one.

use crate::iptables::services;
use crate::reader::{LineRecorder, ReadContext, Reader, Reading, Recognition, TELLING_LINES};
use std::net::IpAddr;
use trevlin_model::listen::Socket;
use trevlin_model::{Export, Families, Family, LineClass, Origin, Protocol};

/// The reader.
pub(crate) const READER: Reader =
    Reader { name: "sockets", title: "listening sockets", manual: "ss(8), netstat(8)", recognise, read };

/// Type of a line.
#[derive(Debug, PartialEq, Eq)]
enum Line {
    /// The head of the table.
    Head,
    /// A socket without listener, such as a connection to a single peer.
    Other,
    /// One that waits.
    Waits(Said),
    /// None of these.
    No,
}

/// Content of a line about a socket.
#[derive(Debug, PartialEq, Eq)]
struct Said {
    protocol: Protocol,
    address: Option<IpAddr>,
    families: Families,
    interface: Option<String>,
    port: u16,
    program: Option<String>,
}

fn recognise(export: &Export) -> Recognition {
    let mut found = 0;
    let mut others = 0;
    for line in export.lines().take(TELLING_LINES).filter(|line| !line.text.trim().is_empty()) {
        match classify(line.text) {
            Line::No => others += 1,
            _ => found += 1,
        }
    }
    let named = ["ss.txt", "ss-tulpn.txt", "netstat.txt"].contains(&export.file_name());
    match (found, others) {
        (0, _) if named => Recognition::Name,
        (0, _) => Recognition::No,
        (found, others) if found > others => Recognition::Content,
        _ => Recognition::No,
    }
}

/// First words of socket lines: a kind or a state.
const FIRST: [&str; 24] = [
    "tcp",
    "tcp6",
    "udp",
    "udp6",
    "dccp",
    "sctp",
    "mptcp",
    "u_str",
    "u_dgr",
    "u_seq",
    "nl",
    "p_raw",
    "p_dgr",
    "icmp6",
    "raw",
    "v_str",
    "v_dgr",
    "LISTEN",
    "UNCONN",
    "ESTAB",
    "TIME-WAIT",
    "SYN-SENT",
    "CLOSE-WAIT",
    "Active",
];

fn classify(text: &str) -> Line {
    // Most lines of most files are none.
    let first = text.split_whitespace().next().unwrap_or_default();
    let is_head = || memchr::memchr(b'Q', text.as_bytes()).is_some() && text.contains("Recv-Q");
    if !FIRST.contains(&first) && !is_head() {
        return Line::No;
    }
    let words: Vec<&str> = text.split_whitespace().collect();
    let head = |names: &[&str]| names.iter().all(|name| text.contains(name));
    if head(&["State", "Recv-Q", "Send-Q", "Local"])
        || head(&["Proto", "Recv-Q", "Send-Q", "Local"])
        || text.starts_with("Active Internet connections")
    {
        return Line::Head;
    }
    // netstat: protocol, two queues, both ends, a state for TCP, number and name of the program.
    if let [kind @ ("tcp" | "tcp6" | "udp" | "udp6"), receive, send, local, remote, rest @ ..] =
        words.as_slice()
        && [receive, send].iter().all(|word| word.parse::<u64>().is_ok())
    {
        let waits =
            if kind.starts_with("tcp") { rest.first() == Some(&"LISTEN") } else { remote.ends_with(":*") };
        let program =
            rest.iter().find_map(|word| word.split_once('/')).map(|(_, name)| name.trim_end_matches(':'));
        let protocol = if kind.starts_with("tcp") { Protocol::TCP } else { Protocol::UDP };
        return socket(protocol, local, waits, program);
    }
    // ss: a kind where several are shown, a state, two queues, both ends, the programs.
    let (kind, rest) = match words.as_slice() {
        [kind @ ("tcp" | "udp" | "dccp" | "sctp" | "mptcp"), rest @ ..] => (Some(*kind), rest),
        [
            "u_str" | "u_dgr" | "u_seq" | "nl" | "p_raw" | "p_dgr" | "icmp6" | "raw" | "v_str" | "v_dgr",
            _,
            _,
            _,
            _,
            ..,
        ] => {
            return Line::Other;
        }
        rest => (None, rest),
    };
    let [
        state @ ("LISTEN" | "UNCONN" | "ESTAB" | "TIME-WAIT" | "SYN-SENT" | "CLOSE-WAIT"),
        receive,
        send,
        local,
        remote,
        more @ ..,
    ] = rest
    else {
        return Line::No;
    };
    if ![receive, send].iter().all(|word| word.parse::<u64>().is_ok()) || !remote.contains(':') {
        return Line::No;
    }
    let protocol = match (kind, *state) {
        (Some("tcp" | "mptcp"), _) | (None, "LISTEN") => Protocol::TCP,
        (Some("udp"), _) | (None, "UNCONN") => Protocol::UDP,
        (Some("sctp"), _) => Protocol(Some(132)),
        (Some("dccp"), _) => Protocol(Some(33)),
        _ => Protocol::TCP,
    };
    let waits = *state == "LISTEN" || (*state == "UNCONN" && remote.ends_with(":*"));
    let program = more.iter().find_map(|word| {
        let (_, rest) = word.split_once("users:((\"")?;
        rest.split_once('"').map(|(name, _)| name)
    });
    socket(protocol, local, waits, program)
}

/// A local end, such as `0.0.0.0:22`, `127.0.0.53%lo:53`, `[::]:22`, `*:80` or `:::22`.
fn socket(protocol: Protocol, local: &str, waits: bool, program: Option<&str>) -> Line {
    let Some((host, port)) = local.rsplit_once(':') else { return Line::No };
    let port = match port.parse().ok().or_else(|| services().get(port).copied()) {
        Some(port) => port,
        // A port of any number belongs to no service.
        None if port == "*" => return Line::Other,
        None => return Line::No,
    };
    let (host, interface) = match host.split_once('%') {
        Some((host, interface)) => (host, Some(interface.trim_end_matches(']').to_owned())),
        None => (host, None),
    };
    let bare = host.trim_start_matches('[').trim_end_matches(']');
    let (address, families) = match bare {
        "*" => (None, Families::Both),
        // netstat does not tell whether IPv4 is taken as well; it is, unless the program says otherwise.
        "::" if !host.starts_with('[') => (None, Families::Both),
        text => match text.parse::<IpAddr>() {
            Ok(address) if address.is_unspecified() => (None, Family::of(address).into()),
            // An IPv4 address in the clothes of IPv6 (RFC 4291, 2.5.5.2).
            Ok(IpAddr::V6(v6)) => match v6.to_ipv4_mapped() {
                Some(v4) => (Some(v4.into()), Families::V4),
                None => (Some(v6.into()), Families::V6),
            },
            Ok(address) => (Some(address), Families::V4),
            Err(_) => return Line::No,
        },
    };
    if !waits {
        return Line::Other;
    }
    Line::Waits(Said { protocol, address, families, interface, port, program: program.map(str::to_owned) })
}

fn read(export: &Export, _: &ReadContext<'_>) -> Reading {
    let mut reading = Reading::of(export);
    reading.facts.has_sockets = true;
    let mut book = LineRecorder::new(export, &mut reading.ledger, &mut reading.elsewhere);
    for line in export.lines() {
        let text = line.text.trim();
        if text.is_empty() || text.starts_with('#') {
            continue;
        }
        let origin: Origin = export.origin_of(text);
        match classify(text) {
            Line::Head | Line::Other => book.class(origin, LineClass::Ignored),
            Line::Waits(said) => {
                book.understood(origin);
                let Said { protocol, address, families, interface, port, program } = said;
                let socket = Socket { protocol, address, families, interface, port, program, origin };
                reading.facts.sockets.push(socket);
            }
            Line::No => book.not_understood(
                origin,
                "expected a socket line of `ss -tulpn`: kind, state, two queues, both ends",
            ),
        }
    }
    reading
}

#[cfg(test)]
mod tests {
    use super::*;
    use trevlin_model::ExportId;

    fn said(text: &str) -> String {
        match classify(text) {
            Line::Waits(one) => format!(
                "{} {}{} {} {:?} {}",
                one.protocol.name(),
                one.address.map_or("any".into(), |address| address.to_string()),
                one.interface.map(|name| format!("%{name}")).unwrap_or_default(),
                one.port,
                one.families,
                one.program.as_deref().unwrap_or("-")
            ),
            other => format!("{other:?}"),
        }
    }

    #[test]
    fn lines() {
        for (text, wanted) in [
            (
                "tcp   LISTEN 0      128          0.0.0.0:22        0.0.0.0:*    users:((\"sshd\",pid=812,fd=3))",
                "tcp any 22 V4 sshd",
            ),
            ("tcp LISTEN 0 128 [::]:22 [::]:* users:((\"sshd\",pid=812,fd=4))", "tcp any 22 V6 sshd"),
            (
                "tcp LISTEN 0 511 *:80 *:* users:((\"httpd\",pid=1,fd=4),(\"httpd\",pid=2,fd=4))",
                "tcp any 80 Both httpd",
            ),
            ("udp UNCONN 0 0 127.0.0.53%lo:53 0.0.0.0:*", "udp 127.0.0.53%lo 53 V4 -"),
            (
                "udp UNCONN 0 0 [fe80::1]%eth0:546 [::]:* users:((\"dhclient\",pid=5,fd=20))",
                "udp fe80::1%eth0 546 V6 dhclient",
            ),
            ("LISTEN 0 128 10.20.4.20:445 0.0.0.0:*", "tcp 10.20.4.20 445 V4 -"),
            ("UNCONN 0 0 0.0.0.0:domain 0.0.0.0:*", "udp any 53 V4 -"),
            ("tcp LISTEN 0 50 [::ffff:10.20.4.20]:9000 *:*", "tcp 10.20.4.20 9000 V4 -"),
            ("tcp ESTAB 0 0 10.20.4.20:22 10.20.4.9:50112", "Other"),
            ("u_str LISTEN 0 4096 /run/dbus 1234 * 0", "Other"),
            (
                "tcp        0      0 0.0.0.0:22              0.0.0.0:*               LISTEN      812/sshd: /usr/sbin",
                "tcp any 22 V4 sshd",
            ),
            (
                "tcp6       0      0 :::80                   :::*                    LISTEN      901/httpd",
                "tcp any 80 Both httpd",
            ),
            (
                "udp        0      0 0.0.0.0:68              0.0.0.0:*                           500/dhclient",
                "udp any 68 V4 dhclient",
            ),
            ("tcp 0 0 10.20.4.20:22 10.20.4.9:50112 ESTABLISHED 9/sshd", "Other"),
            ("Netid State  Recv-Q Send-Q Local Address:Port Peer Address:PortProcess", "Head"),
            (
                "Proto Recv-Q Send-Q Local Address           Foreign Address         State       PID/Program name",
                "Head",
            ),
            ("tcp LISTEN 0 128 nowhere 0.0.0.0:*", "No"),
            ("tcp LISTEN x y 0.0.0.0:22 0.0.0.0:*", "No"),
            ("just words in a file", "No"),
        ] {
            assert_eq!(said(text), wanted, "{text}");
        }
    }

    #[test]
    fn a_file_of_them() {
        let text = "Netid State Recv-Q Send-Q Local Address:Port Peer Address:Port Process\r\n\
                    tcp LISTEN 0 128 0.0.0.0:22 0.0.0.0:* users:((\"sshd\",pid=1,fd=3))\r\ntcp LISTEN 0\r\n\
                    udp UNCONN 0 0 *:161 *:*\r\n";
        let export = Export::new(ExportId(0), "d/running/ports.txt", text.into());
        assert_eq!(recognise(&export), Recognition::Content);
        let reading = read(&export, &ReadContext::default());
        let ports: Vec<u16> = reading.facts.sockets.iter().map(|one| one.port).collect();
        assert_eq!((ports.as_slice(), reading.ledger.notes.len()), (&[22, 161][..], 1));
        let other = Export::new(ExportId(0), "d/etc/motd", "tcp is fine\nand udp too\n".into());
        assert_eq!(recognise(&other), Recognition::No);
        let empty = Export::new(ExportId(0), "d/running/ss.txt", String::new());
        assert!(
            recognise(&empty) == Recognition::Name && read(&empty, &ReadContext::default()).facts.has_sockets
        );
    }
}
